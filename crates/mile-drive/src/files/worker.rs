//! One worker: it takes one file after the other and times each step.

use super::feed::{Feed, Piece, fill};
use super::shared::{Jobs, LOOK, Left, Made, Part, Shared, UNIT, Wish, held, name};
use crate::drive::DriveError;
use crate::io::pattern::{Buffer, Pool};
use crate::tally;
use mile_core::files::FileStep;
use mile_core::{Nanos, Op};
use mile_files::FileId;
use rustix::fs::OFlags;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::atomic::Ordering;
use std::sync::{MutexGuard, PoisonError};

pub(super) struct Worker<'a> {
    pub(super) shared: &'a Shared,
    pub(super) index: usize,
}

impl Worker<'_> {
    pub(super) fn all(&self, pool: &Pool) {
        let ended = self.files(pool);
        let shared = self.shared;
        let is_last = {
            let mut state = held(&shared.wish);
            state.2 += 1;
            state.2 == shared.parts.len()
        };
        let mut failed = match ended {
            Err(Left::Failed(e)) => Some(e),
            _ => None,
        };
        let stopped = held(&shared.wish).0 == Wish::Stop;
        if is_last && shared.work.sync_at_end && failed.is_none() && !stopped {
            let synced = self.timed(FileStep::Sync, || shared.folder.sync_all());
            failed = synced.err().map(|source| self.io(shared.folder.path(), "sync the file system", source));
        }
        if let Some(e) = failed {
            held(&shared.failed).get_or_insert(e);
            held(&shared.wish).0 = Wish::Stop;
        }
        shared.ended_at.fetch_max(shared.clock.now().0, Ordering::AcqRel);
        shared.out.fetch_sub(1, Ordering::AcqRel);
        shared.changed.notify_all();
    }

    fn io(&self, path: &Path, doing: &'static str, source: io::Error) -> DriveError {
        DriveError::Io { path: path.to_owned(), doing, source }
    }

    fn failed<'b>(&'b self, number: u64, doing: &'static str) -> impl Fn(io::Error) -> Left + 'b {
        move |source| {
            let direct = source.raw_os_error() == Some(rustix::io::Errno::INVAL.raw_os_error());
            if direct && !self.shared.work.cached {
                let why = "this file system does not take files past the host's cache (O_DIRECT); add `through the cache` to the leg".into();
                return Left::Failed(DriveError::Refused { path: self.shared.folder.path().to_owned(), why });
            }
            Left::Failed(self.io(&self.shared.folder.path().join(name(number)), doing, source))
        }
    }

    /// Stands still for as long as that is wanted.
    fn gate(&self) -> Result<(), Left> {
        let mut state = held(&self.shared.wish);
        if state.0 == Wish::Hold {
            state.1 += 1;
            self.shared.changed.notify_all();
            while state.0 == Wish::Hold {
                state = self.shared.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
            }
            state.1 -= 1;
        }
        if state.0 == Wish::Stop { Err(Left::Stopped) } else { Ok(()) }
    }

    /// Does something, and gives how long it took.
    fn clocked<T>(&self, what: impl FnOnce() -> io::Result<T>) -> (io::Result<T>, Nanos) {
        let (clock, began) = (self.shared.clock, &self.shared.began[self.index]);
        let from = clock.now();
        began.store(from.0 + 1, Ordering::Relaxed);
        let done = what();
        began.store(0, Ordering::Relaxed);
        (done, clock.now().since(from))
    }

    fn record(&self, part: &mut Part, step: FileStep, took: Nanos) {
        let place = FileStep::ALL.iter().position(|s| *s == step).unwrap_or(0);
        part.steps[place].get_or_insert_with(|| Box::new(tally::histogram())).saturating_record(took.0);
    }

    fn part(&self) -> MutexGuard<'_, Part> {
        held(&self.shared.parts[self.index])
    }

    /// A step that is one operation.
    fn timed<T>(&self, step: FileStep, what: impl FnOnce() -> io::Result<T>) -> io::Result<T> {
        let (done, took) = self.clocked(what);
        if done.is_ok() {
            self.record(&mut self.part(), step, took);
        }
        done
    }

    fn files(&self, pool: &Pool) -> Result<(), Left> {
        let shared = self.shared;
        let block = shared.work.block.0.max(UNIT) as usize;
        let feed = match &shared.jobs {
            Jobs::Copy(..) => Some(Feed::start(block)?),
            _ => None,
        };
        let mut buffer = match &shared.jobs {
            Jobs::Write(_) => Buffer::filled(block, pool, 0),
            Jobs::Read(_) => Buffer::zeroed(block),
            _ => Buffer::zeroed(0),
        };
        loop {
            self.gate()?;
            let job = shared.next.fetch_add(1, Ordering::Relaxed);
            if job >= shared.jobs.count() {
                return Ok(());
            }
            let at = job as usize;
            match (&shared.jobs, &feed) {
                (Jobs::Write(all), _) => self.write(all[at].0, all[at].1, &mut buffer, pool)?,
                (Jobs::Read(all), _) => self.read(all[at], &mut buffer)?,
                (Jobs::Delete(all), _) => self.delete(all[at])?,
                (Jobs::Copy(all, writes), Some(feed)) => {
                    self.copy(all[at].0, &all[at].1, *writes, feed)?;
                }
                (Jobs::Copy(..), None) => return Ok(()),
            }
            self.part().files += 1;
        }
    }

    fn flags(&self) -> OFlags {
        if self.shared.work.cached { OFlags::empty() } else { OFlags::DIRECT }
    }

    /// Makes a file, and has it among those that are there from that moment on.
    fn make(&self, number: u64) -> Result<File, Left> {
        let folder = &self.shared.folder;
        let file = self
            .timed(FileStep::Create, || folder.make(&name(number), self.flags()))
            .map_err(self.failed(number, "make the file"))?;
        let id = FileId::of(&file).map_err(self.failed(number, "look at the file"))?;
        self.part().made.push(Made { number, size: 0, id });
        Ok(file)
    }

    /// Moves one block of a file, and counts it. Gives how long it took.
    fn moved(&self, op: Op, bytes: u64, what: impl FnOnce() -> io::Result<()>) -> io::Result<Nanos> {
        let (done, took) = self.clocked(what);
        done?;
        let mut part = self.part();
        part.tally.count(op, bytes, took);
        part.bytes += bytes;
        if let (Op::Write, Some(made)) = (op, part.made.last_mut()) {
            made.size += bytes;
        }
        Ok(took)
    }

    /// Whether so much may be written still, which is then taken off what may.
    fn may_write(&self, bytes: u64) -> Result<(), Left> {
        let take = |left: u64| left.checked_sub(bytes);
        match self.shared.left.fetch_update(Ordering::AcqRel, Ordering::Acquire, take) {
            Ok(_) => Ok(()),
            Err(_) => {
                self.shared.full.store(true, Ordering::Release);
                Err(Left::Stopped)
            }
        }
    }

    /// Writes one block. Past the host's cache a block is whole units; what is too much of the last one is cut off behind it.
    fn put(&self, file: &File, at: u64, block: &[u8], bytes: u64) -> io::Result<Nanos> {
        let whole = if self.shared.work.cached { bytes } else { bytes.div_ceil(UNIT) * UNIT };
        self.moved(Op::Write, bytes, || {
            file.write_all_at(&block[..whole as usize], at)?;
            if whole > bytes { file.set_len(at + bytes) } else { Ok(()) }
        })
    }

    /// What follows on the data: the file is synced, where that is asked for, and closed.
    fn finish(&self, number: u64, file: File, took: Nanos) -> Result<(), Left> {
        if took.0 > 0 {
            self.record(&mut self.part(), FileStep::Write, took);
        }
        if self.shared.work.sync_each {
            self.timed(FileStep::Sync, || file.sync_all()).map_err(self.failed(number, "sync the file"))?;
        }
        self.close(number, file)
    }

    fn close(&self, number: u64, file: File) -> Result<(), Left> {
        // The standard library does not tell what closing gave; a descriptor of its own does.
        self.timed(FileStep::Close, || {
            drop(file);
            Ok(())
        })
        .map_err(self.failed(number, "close the file"))
    }

    fn write(&self, number: u64, size: u64, buffer: &mut Buffer, pool: &Pool) -> Result<(), Left> {
        let file = self.make(number)?;
        let (mut at, mut took) = (0, Nanos(0));
        let block = buffer.bytes().len() as u64;
        while at < size {
            self.gate()?;
            // Each block is another one, so that nothing on the way can tell that it was there before.
            pool.stamp(buffer.bytes_mut(), number << 32 | (at / UNIT), 0, false);
            let bytes = block.min(size - at);
            self.may_write(bytes)?;
            let one = self.put(&file, at, buffer.bytes(), bytes);
            took = took.plus(one.map_err(self.failed(number, "write to the file"))?);
            at += bytes;
        }
        self.finish(number, file, took)
    }

    fn read(&self, made: Made, buffer: &mut Buffer) -> Result<(), Left> {
        let (folder, number) = (&self.shared.folder, made.number);
        let file = self
            .timed(FileStep::Open, || folder.read(&name(number), self.flags()))
            .map_err(self.failed(number, "open the file"))?;
        let (mut at, mut took) = (0, Nanos(0));
        while at < made.size {
            self.gate()?;
            let mut got = 0;
            let bytes = (buffer.bytes().len() as u64).min(made.size - at);
            let one = self.moved(Op::Read, bytes, || {
                got = fill(&file, at, buffer.bytes_mut(), bytes)?;
                Ok(())
            });
            took = took.plus(one.map_err(self.failed(number, "read the file"))?);
            if got < bytes {
                let short =
                    io::Error::new(io::ErrorKind::UnexpectedEof, "it is shorter than what was written to it");
                return Err(self.failed(number, "read the file")(short));
            }
            at += bytes;
        }
        if took.0 > 0 {
            self.record(&mut self.part(), FileStep::Read, took);
        }
        self.close(number, file)
    }

    fn delete(&self, made: Made) -> Result<(), Left> {
        let (folder, name) = (&self.shared.folder, name(made.number));
        let ours = folder.holds(&name, made.id).map_err(self.failed(made.number, "look at the file"))?;
        if ours {
            let (done, took) = self.clocked(|| folder.unlink(&name));
            done.map_err(self.failed(made.number, "delete the file"))?;
            let mut part = self.part();
            self.record(&mut part, FileStep::Delete, took);
            part.tally.count(Op::Idle, 0, took);
        }
        // What is another file now is not the run's any more.
        self.part().gone.push(made.number);
        Ok(())
    }

    fn copy(&self, number: u64, from: &Path, writes: bool, feed: &Feed) -> Result<(), Left> {
        let clock = self.shared.clock;
        let began = clock.now();
        feed.want(from);
        let mut file = None;
        let (mut at, mut took) = (0, Nanos(0));
        loop {
            self.gate()?;
            let from_here = clock.now();
            let piece = loop {
                match feed.pieces.recv_timeout(LOOK) {
                    Ok(piece) => break piece,
                    Err(crossbeam_channel::RecvTimeoutError::Timeout) => self.gate()?,
                    Err(crossbeam_channel::RecvTimeoutError::Disconnected) => return Err(Left::Stopped),
                }
            };
            {
                let mut part = self.part();
                part.waited = part.waited.plus(clock.now().since(from_here));
            }
            match piece {
                Piece::Failed(source) => {
                    return Err(Left::Failed(self.io(from, "read the file that is copied", source)));
                }
                Piece::End => break,
                Piece::Data(buffer, 0) => feed.give_back(buffer),
                Piece::Data(buffer, bytes) if writes => {
                    self.may_write(bytes)?;
                    if file.is_none() {
                        file = Some(self.make(number)?);
                    }
                    if let Some(file) = &file {
                        let one = self.put(file, at, buffer.bytes(), bytes);
                        took = took.plus(one.map_err(self.failed(number, "write to the file"))?);
                    }
                    at += bytes;
                    feed.give_back(buffer);
                }
                Piece::Data(buffer, bytes) => {
                    self.part().bytes += bytes;
                    feed.give_back(buffer);
                }
            }
        }
        if writes {
            let file = match file {
                Some(file) => file,
                None => self.make(number)?,
            };
            self.finish(number, file, took)?;
        }
        let mut part = self.part();
        part.worked = part.worked.plus(clock.now().since(began));
        Ok(())
    }
}
