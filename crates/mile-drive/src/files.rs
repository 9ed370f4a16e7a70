//! Whole files as a load: workers that create, write, read, sync, close and delete files in a folder of the run, and time each step.
//!
//! Each worker has one file at a time and does what a program does that knows nothing of this one: it opens, moves the data in blocks, and closes. Files that
//! are copied in come through a reader for each worker, so that source and target work at the same time.

mod feed;
mod shared;
mod worker;

use crate::clock::Monotonic;
use crate::drive::{DriveError, FilesWork};
use crate::io::pattern::Pool;
use crate::tally::{self, Tally};
use hdrhistogram::Histogram;
use mile_core::files::{FileFigures, FileStep, FilesOp, SourceFigures, StepFigures};
use mile_core::{Bytes, Nanos, RunId};
use mile_files::{FileId, HeldFolder};
use shared::{Jobs, LOOK, Made, Part, Shared, Wish, held, name};
use std::collections::{HashSet, VecDeque};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::thread::JoinHandle;
use std::time::Duration;
use worker::Worker;

/// Most files of a folder that is copied in.
const MOST: usize = 1_000_000;
/// The files of a run, in their folder.
#[derive(Debug)]
pub struct FileSet {
    folder: Arc<HeldFolder>,
    there: Vec<Made>,
}

/// Numbers that a leg has for its files: more than [`MOST`].
const OF_A_LEG: u64 = 1 << 20;

/// The number of the first file of a leg.
fn first_of(leg: u32) -> u64 {
    u64::from(leg) * OF_A_LEG
}

/// Whether a name is one that files of a run have.
fn is_ours(name: &str) -> bool {
    name.len() >= 8 && name.bytes().all(|b| b.is_ascii_digit())
}

impl FileSet {
    /// Makes the folder of a run.
    ///
    /// # Errors
    /// What [`HeldFolder::create`] gives.
    pub fn create(path: &Path, run: RunId) -> Result<Self, DriveError> {
        let folder = HeldFolder::create(path, |mark| crate::mark::mark(mark, run))?;
        Ok(Self { folder: Arc::new(folder), there: Vec::new() })
    }

    /// Takes up the folder of a run that goes on, with the files that are in it.
    ///
    /// # Errors
    /// Where the folder is not that of the run; what the system says.
    pub fn open(path: &Path, run: RunId) -> Result<Self, DriveError> {
        let folder = open_of(path, run)?;
        let failed =
            |source| DriveError::Io { path: path.to_owned(), doing: "look through the files", source };
        let files = folder.files(is_ours).map_err(failed)?;
        let made =
            |(name, size, id): (String, u64, FileId)| Some(Made { number: name.parse().ok()?, size, id });
        let mut there: Vec<Made> = files.into_iter().filter_map(made).collect();
        there.sort_unstable_by_key(|m| m.number);
        Ok(Self { folder: Arc::new(folder), there })
    }

    /// How many files there are, and their bytes.
    pub fn there(&self) -> (u64, Bytes) {
        (self.there.len() as u64, Bytes(self.there.iter().map(|m| m.size).sum()))
    }

    /// Bytes of the files that a leg made.
    pub fn bytes_of(&self, leg: u32) -> u64 {
        let own = first_of(leg)..first_of(leg) + OF_A_LEG;
        self.there.iter().filter(|m| own.contains(&m.number)).map(|m| m.size).sum()
    }

    /// The files of a leg that are there with the size that they are to have. Those that were interrupted are deleted, to be made anew. `sizes` are by
    /// their places in the leg.
    fn take_up(&mut self, leg: u32, sizes: &[u64]) -> Result<HashSet<u64>, DriveError> {
        let own = first_of(leg)..first_of(leg) + OF_A_LEG;
        let size = |m: &Made| sizes.get((m.number - own.start) as usize).copied();
        let (mut done, mut kept) = (HashSet::new(), Vec::new());
        for made in std::mem::take(&mut self.there) {
            if !own.contains(&made.number) || size(&made) == Some(made.size) {
                done.extend(own.contains(&made.number).then_some(made.number));
                kept.push(made);
                continue;
            }
            let name = name(made.number);
            self.folder.unlink(&name).map_err(|source| DriveError::Io {
                path: self.folder.path().join(&name),
                doing: "delete the file that was interrupted",
                source,
            })?;
        }
        self.there = kept;
        Ok(done)
    }

    /// Deletes its files and takes its folder away. What others put there stays, and so does the folder then. Gives whether it is gone.
    ///
    /// # Errors
    /// What the system says.
    pub fn remove(self) -> Result<bool, DriveError> {
        let path = self.folder.path().to_owned();
        for made in &self.there {
            let name = name(made.number);
            let gone = self
                .folder
                .holds(&name, made.id)
                .and_then(|ours| if ours { self.folder.unlink(&name) } else { Ok(()) });
            gone.map_err(|source| DriveError::Io {
                path: path.join(&name),
                doing: "delete the file",
                source,
            })?;
        }
        match Arc::try_unwrap(self.folder) {
            Ok(folder) => Ok(folder.remove()?),
            // A worker that was left to itself still holds it.
            Err(_) => Ok(false),
        }
    }
}

/// Which run made a folder, where one of ours did, and the bytes of its files.
pub fn run_of_folder(path: &Path) -> Option<(RunId, Bytes)> {
    let is_folder = std::fs::symlink_metadata(path).is_ok_and(|m| m.is_dir());
    let (folder, mark) = is_folder.then(|| HeldFolder::open(path).ok()).flatten()?;
    let run = crate::mark::run_of(&mark)?;
    let bytes = folder.files(is_ours).ok()?.iter().map(|f| f.1).sum();
    Some((run, Bytes(bytes)))
}

/// Opens the folder of a run.
fn open_of(path: &Path, run: RunId) -> Result<HeldFolder, DriveError> {
    let (folder, mark) = HeldFolder::open(path)?;
    if crate::mark::run_of(&mark) != Some(run) {
        let why = "this folder is another run's, and stays".into();
        return Err(DriveError::Refused { path: path.to_owned(), why });
    }
    Ok(folder)
}

/// Deletes the files that a run left in its folder, and the folder. Gives whether it is gone: what others put there stays.
///
/// # Errors
/// Where the folder is not that of the run; what the system says.
pub fn remove_folder(path: &Path, run: RunId) -> Result<bool, DriveError> {
    let folder = open_of(path, run)?;
    let failed = |source| DriveError::Io { path: path.to_owned(), doing: "delete the files in it", source };
    for (name, ..) in folder.files(is_ours).map_err(failed)? {
        folder.unlink(&name).map_err(failed)?;
    }
    Ok(folder.remove()?)
}

/// The regular files under a folder, in the order of their names, and their sizes. Links are not followed.
///
/// # Errors
/// What the system says; where there are none, or too many.
pub fn list(folder: &Path) -> Result<Vec<(PathBuf, u64)>, DriveError> {
    let io = |path: &Path| {
        let path = path.to_owned();
        move |source| DriveError::Io { path, doing: "look through the folder that is copied", source }
    };
    let refused = |why: String| DriveError::Refused { path: folder.to_owned(), why };
    let (mut all, mut open) = (Vec::new(), VecDeque::from([folder.to_owned()]));
    while let Some(path) = open.pop_front() {
        for entry in std::fs::read_dir(&path).map_err(io(&path))? {
            let entry = entry.map_err(io(&path))?;
            let kind = entry.file_type().map_err(io(&path))?;
            if kind.is_dir() {
                open.push_back(entry.path());
            } else if kind.is_file() {
                let size = entry.metadata().map_err(io(&path))?.len();
                all.push((entry.path(), size));
            }
            if all.len() > MOST {
                return Err(refused(format!("it has more than {MOST} files; name a smaller folder")));
            }
        }
    }
    if all.is_empty() {
        return Err(refused("it has no regular files that could be copied".into()));
    }
    all.sort();
    Ok(all)
}

/// Work on files underway.
pub struct Files {
    shared: Arc<Shared>,
    threads: Vec<JoinHandle<()>>,
    /// Time in which it worked so far, and since when it does.
    worked: Nanos,
    since: Option<Nanos>,
    source: Option<String>,
    /// Files that were done before the run was interrupted.
    before: u64,
}

impl Files {
    /// Sets workers to it. Of a read or a delete it has all files of the set.
    ///
    /// # Errors
    /// What [`list`] gives, and where no thread can be started.
    pub fn begin(
        set: &mut FileSet,
        work: FilesWork,
        run: RunId,
        clock: Monotonic,
    ) -> Result<Self, DriveError> {
        let source = work.source.clone();
        let first = first_of(work.leg);
        let (jobs, before) = match (work.op, &source) {
            (FilesOp::Write, _) => {
                let done = set.take_up(work.leg, &work.sizes)?;
                let all = (first..).zip(work.sizes.iter().copied());
                (Jobs::Write(all.filter(|(n, _)| !done.contains(n)).collect()), done.len())
            }
            (FilesOp::Read, _) => {
                // Behind what was read before.
                let mut read = 0;
                let before = set.there.iter().take_while(|m| {
                    read += m.size;
                    read <= work.done.0 && work.done.0 > 0
                });
                let before = before.count();
                (Jobs::Read(set.there[before..].to_vec()), before)
            }
            (FilesOp::Delete, _) => (Jobs::Delete(set.there.clone()), 0),
            (FilesOp::Copy, Some(folder)) => {
                let all = list(folder)?;
                let sizes: Vec<u64> = all.iter().map(|f| f.1).collect();
                let done = set.take_up(work.leg, &sizes)?;
                let left = (first..).zip(all).filter(|(n, _)| !done.contains(n));
                (Jobs::Copy(left.map(|(n, f)| (n, f.0)).collect(), true), done.len())
            }
            (FilesOp::Source, Some(folder)) => {
                (Jobs::Copy((first..).zip(list(folder)?).map(|(n, f)| (n, f.0)).collect(), false), 0)
            }
            _ => return Err(DriveError::Unusable { why: "a copy of files needs a folder".into() }),
        };
        let workers = (work.workers.max(1) as usize).min(jobs.count().max(1) as usize);
        let most = work.at_most.map_or(u64::MAX, |b| b.0);
        let shared = Arc::new(Shared {
            work,
            jobs,
            folder: Arc::clone(&set.folder),
            clock,
            next: AtomicU64::new(0),
            wish: Mutex::new((Wish::Go, 0, 0)),
            changed: Condvar::new(),
            abandoned: AtomicBool::new(false),
            out: AtomicUsize::new(workers),
            left: AtomicU64::new(most),
            full: AtomicBool::new(false),
            parts: (0..workers).map(|_| Mutex::new(Part::default())).collect(),
            began: (0..workers).map(|_| AtomicU64::new(0)).collect(),
            failed: Mutex::new(None),
            ended_at: AtomicU64::new(0),
        });
        let since = Some(clock.now());
        let mut threads = Vec::with_capacity(workers);
        for index in 0..workers {
            let own = Arc::clone(&shared);
            let thread = std::thread::Builder::new().name(format!("files {index}")).spawn(move || {
                let pool = Pool::new(run, own.work.leg, index as u32);
                Worker { shared: &own, index }.all(&pool);
            });
            match thread {
                Ok(thread) => threads.push(thread),
                Err(e) => {
                    held(&shared.wish).0 = Wish::Stop;
                    return Err(DriveError::Unusable { why: format!("a worker cannot be started: {e}") });
                }
            }
        }
        let source = source.map(|f| f.display().to_string());
        Ok(Self { shared, threads, worked: Nanos(0), since, source, before: before as u64 })
    }

    fn wish(&mut self, wish: Wish) {
        let mut state = held(&self.shared.wish);
        state.0 = wish;
        drop(state);
        self.shared.changed.notify_all();
        let now = self.shared.clock.now();
        match (wish, self.since) {
            (Wish::Go, None) => self.since = Some(now),
            (Wish::Hold | Wish::Stop, Some(since)) => {
                self.worked = self.worked.plus(now.since(since));
                self.since = None;
            }
            _ => {}
        }
    }

    /// Goes on with it after it was held.
    pub fn go_on(&mut self) {
        self.wish(Wish::Go);
    }

    fn collect(&self, tally: &mut Tally) {
        for part in &self.shared.parts {
            let mut part = held(part);
            tally.merge(&mut part.tally);
            part.tally.clear();
        }
    }

    /// Whether workers ended as no more may be written.
    pub fn is_full(&self) -> bool {
        self.shared.full.load(Ordering::Acquire)
    }

    fn is_over(&self) -> bool {
        self.shared.out.load(Ordering::Acquire) == 0
    }

    /// Waits until `until` for the workers, and adds what they did to `tally`. Gives whether all of it is done.
    ///
    /// # Errors
    /// What a worker met; that nothing came back for longer than the patience of the work.
    pub fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        let clock = self.shared.clock;
        loop {
            self.collect(tally);
            if let Some(e) = held(&self.shared.failed).take() {
                return Err(e);
            }
            if self.is_over() {
                self.collect(tally);
                if let Some(since) = self.since.take() {
                    let end = Nanos(self.shared.ended_at.load(Ordering::Acquire));
                    self.worked = self.worked.plus(end.since(since));
                }
                return Ok(true);
            }
            self.check_patience()?;
            if clock.now() >= until {
                return Ok(false);
            }
            self.wait(until);
        }
    }

    /// Has the workers stand still, and waits until `until` for that. Gives whether they do.
    ///
    /// # Errors
    /// As [`Files::advance`].
    pub fn hold(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.wish(Wish::Hold);
        loop {
            self.collect(tally);
            if let Some(e) = held(&self.shared.failed).take() {
                return Err(e);
            }
            let state = *held(&self.shared.wish);
            if state.1 + state.2 >= self.shared.parts.len() {
                self.collect(tally);
                return Ok(true);
            }
            self.check_patience()?;
            if self.shared.clock.now() >= until {
                return Ok(false);
            }
            self.wait(until);
        }
    }

    fn wait(&self, until: Nanos) {
        let left = Duration::from_nanos(until.since(self.shared.clock.now()).0).min(LOOK);
        let state = held(&self.shared.wish);
        drop(self.shared.changed.wait_timeout(state, left));
    }

    fn check_patience(&self) -> Result<(), DriveError> {
        let limit = self.shared.work.patience;
        match self.waiting() {
            Some((age, offset, in_flight)) if age > limit => {
                Err(DriveError::Stalled { limit, in_flight, offset })
            }
            _ => Ok(()),
        }
    }

    /// The oldest operation that is not back: its age, no address, and how many are out.
    pub fn waiting(&self) -> Option<(Nanos, Option<Bytes>, usize)> {
        let out: Vec<u64> =
            self.shared.began.iter().map(|b| b.load(Ordering::Relaxed)).filter(|b| *b > 0).collect();
        let oldest = *out.iter().min()?;
        Some((self.shared.clock.now().since(Nanos(oldest - 1)), None, out.len()))
    }

    /// Leaves what the workers wait for to itself.
    pub fn abandon(&mut self) {
        self.shared.abandoned.store(true, Ordering::Release);
        self.wish(Wish::Stop);
    }

    /// Ends it, and gives what it came to. The set has the files that are there now.
    pub fn end(mut self, set: &mut FileSet) -> FileFigures {
        self.wish(Wish::Stop);
        if !self.shared.abandoned.load(Ordering::Acquire) {
            for thread in self.threads.drain(..) {
                // A worker that panicked has said so on its own.
                drop(thread.join());
            }
        }
        let mut steps: [Option<Histogram<u64>>; FileStep::ALL.len()] = std::array::from_fn(|_| None);
        let mut figures = FileFigures {
            leg: String::new(),
            op: self.shared.work.op,
            files: 0,
            before: self.before,
            bytes: 0,
            seconds: self.worked.secs(),
            steps: Vec::new(),
            source: None,
        };
        let (mut waited, mut worked) = (0.0, 0.0);
        let mut gone = HashSet::new();
        for part in &self.shared.parts {
            let mut part = held(part);
            figures.files += part.files;
            figures.bytes += part.bytes;
            waited += part.waited.secs();
            worked += part.worked.secs();
            set.there.append(&mut part.made);
            gone.extend(part.gone.drain(..));
            for (all, own) in steps.iter_mut().zip(&part.steps) {
                if let Some(own) = own {
                    // All have the same bounds, so that adding cannot fail.
                    let _ = all.get_or_insert_with(tally::histogram).add(&**own);
                }
            }
        }
        set.there.retain(|m| !gone.contains(&m.number));
        set.there.sort_unstable_by_key(|m| m.number);
        let us = |ns: u64| ns as f64 / 1e3;
        figures.steps = FileStep::ALL
            .into_iter()
            .zip(&steps)
            .filter_map(|(step, h)| {
                let h = h.as_ref()?;
                Some(StepFigures {
                    step,
                    count: h.len(),
                    p50_us: us(h.value_at_quantile(0.5)),
                    p99_us: us(h.value_at_quantile(0.99)),
                    slowest_us: us(h.max()),
                })
            })
            .collect();
        let copies = self.shared.work.op == FilesOp::Copy;
        figures.source = self.source.take().map(|folder| SourceFigures {
            folder,
            alone_mb_s: None,
            waited: (copies && worked > 0.0).then(|| (waited / worked).min(1.0)),
        });
        figures
    }
}

impl Drop for Files {
    fn drop(&mut self) {
        self.wish(Wish::Stop);
        if !self.shared.abandoned.load(Ordering::Acquire) {
            for thread in self.threads.drain(..) {
                drop(thread.join());
            }
        }
    }
}
