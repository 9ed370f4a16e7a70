//! Files that are copied in, read ahead of the worker that writes them.

use super::shared::{AHEAD, Left, UNIT};
use crate::drive::DriveError;
use crate::io::pattern::Buffer;
use crossbeam_channel::{Receiver, Sender, bounded};
use rustix::fs::OFlags;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// Reads until a stretch is full or the file is at its end. Gives how much there was.
pub(super) fn fill(file: &File, at: u64, buffer: &mut [u8], wanted: u64) -> io::Result<u64> {
    let mut got = 0;
    while got < wanted {
        match file.read_at(&mut buffer[got as usize..], at + got) {
            Ok(0) => break,
            Ok(n) => got += n as u64,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
        // Past the host's cache the next read begins at a whole unit, and there is none behind a broken one.
        if !got.is_multiple_of(UNIT) {
            break;
        }
    }
    Ok(got.min(wanted))
}

/// What a reader gives its worker.
pub(super) enum Piece {
    Data(Buffer, u64),
    End,
    Failed(io::Error),
}

/// A reader that is ahead of its worker by some blocks.
pub(super) struct Feed {
    files: Sender<PathBuf>,
    pub(super) pieces: Receiver<Piece>,
    back: Sender<Buffer>,
}

impl Feed {
    pub(super) fn start(block: usize) -> Result<Self, Left> {
        let (files, wanted) = bounded::<PathBuf>(1);
        let (out, pieces) = bounded(AHEAD);
        let (back, free) = bounded(AHEAD + 2);
        for _ in 0..AHEAD {
            // There is room for all of them.
            let _ = back.try_send(Buffer::zeroed(block));
        }
        let reader = move || {
            while let Ok(path) = wanted.recv() {
                let end = match read_file(&path, block as u64, &free, &out) {
                    Ok(()) => Piece::End,
                    Err(e) => Piece::Failed(e),
                };
                if out.send(end).is_err() {
                    return;
                }
            }
        };
        // It ends when its worker does, and is not waited for.
        match std::thread::Builder::new().name("source".into()).spawn(reader) {
            Ok(_) => Ok(Self { files, pieces, back }),
            Err(e) => {
                Err(Left::Failed(DriveError::Unusable { why: format!("a reader cannot be started: {e}") }))
            }
        }
    }

    pub(super) fn want(&self, path: &Path) {
        // Where the reader has ended, the worker sees that at once.
        let _ = self.files.send(path.to_owned());
    }

    pub(super) fn give_back(&self, buffer: Buffer) {
        let _ = self.back.try_send(buffer);
    }
}

/// Reads a file of the source in blocks, past the host's cache where its file system allows that.
fn read_file(path: &Path, block: u64, free: &Receiver<Buffer>, out: &Sender<Piece>) -> io::Result<()> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let open = |more: OFlags| rustix::fs::open(path, flags | more, rustix::fs::Mode::empty());
    let file: File = match open(OFlags::DIRECT) {
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::OPNOTSUPP) => open(OFlags::empty())?,
        other => other?,
    }
    .into();
    let mut at = 0;
    loop {
        let Ok(mut buffer) = free.recv() else { return Ok(()) };
        let bytes = fill(&file, at, buffer.bytes_mut(), block)?;
        if bytes == 0 {
            // Taken from those that go around; a new one takes its place with the next file.
            let _ = out.send(Piece::Data(buffer, 0));
            return Ok(());
        }
        at += bytes;
        if out.send(Piece::Data(buffer, bytes)).is_err() || bytes < block {
            return Ok(());
        }
    }
}
