//! A file on a mounted file system as a drive: it measures the disk under it.
//!
//! The file is made for the run under a name that is free, preallocated, opened past the host's cache (O_DIRECT), held for as long as the
//! run lasts, and taken away afterwards if what lies under its name is still that file. Its first page bears the run's identity from
//! the moment at which it appears. What would not measure a disk, or harm what is there, is refused before anything is made.

use crate::clock::Monotonic;
use crate::drive::{Drive, DriveError, Facts, Failure, FilesWork, Identity, Narrowed, Readings, Transfer};
use crate::files::{self, FileSet, Files};
use crate::host;
pub use crate::io::EngineChoice;
use crate::io::Io;
use crate::mark::mark;
pub use crate::mark::run_of;
use crate::pending::Pending;
use crate::pipe::PipeEnd;
use crate::sensors::{Sensors, Source};
use crate::sysfs::{self, Counters, Disk};
use crate::tally::Tally;
use mile_core::files::{FileFigures, FilesOp};
use mile_core::{Bytes, Nanos, RunId};
use mile_files::{FileId, Held};
use rustix::fs::{FallocateFlags, OFlags, StatVfs};
use std::fs::File;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Largest logical block of common devices; files are measured in multiples of it.
const LOGICAL_BLOCK: u64 = 4096;

/// A file as a drive.
pub struct FileDrive {
    identity: Identity,
    path: PathBuf,
    size: Bytes,
    io: Io,
    /// The files of the run, once a leg has made any, and the work on them that is underway.
    set: Option<FileSet>,
    files: Option<Files>,
    /// Bytes for files beside the one that is addressed.
    room: Bytes,
    in_use: Option<u8>,
    /// Whether the file may be there: the run goes on.
    goes_on: bool,
    /// The file, and how it is removed.
    held: Option<Held>,
    /// The same file past the host's cache.
    file: Option<File>,
    /// The same file through the host's cache, where a leg asked for that.
    cached: Option<File>,
    disk: Option<Disk>,
    temperature: Option<PathBuf>,
    sensors: Option<Sensors>,
    counters: Option<Counters>,
    /// Whether the file was made anew when it was opened.
    made: bool,
    clock: Monotonic,
    start_at: Nanos,
}

/// A file system of which nothing measures a disk, by the magic number that statfs gives (the kernel's
/// include/uapi/linux/magic.h).
fn in_memory(magic: u64) -> Option<&'static str> {
    match magic {
        0x0102_1994 => Some("tmpfs"),
        0x8584_58f6 => Some("ramfs"),
        0x9584_58f6 => Some("hugetlbfs"),
        _ => None,
    }
}

/// The name of a file system, for people.
fn name_of(magic: u64) -> &'static str {
    match magic {
        0xef53 => "ext4",
        0x5846_5342 => "xfs",
        0x9123_683e => "btrfs",
        0xf2f5_2010 => "f2fs",
        0x4d44 => "vfat",
        0x2011_bab0 => "exfat",
        0x6969 => "nfs",
        0x794c_7630 => "overlayfs",
        _ => "a file system",
    }
}

/// Free space that is never consumed: a hundredth of the file system, at least 64 MB and at most 10 GB.
pub fn reserve(total: Bytes) -> Bytes {
    Bytes((total.0 / 100).clamp(64_000_000, 10_000_000_000))
}

impl FileDrive {
    /// Looks at where the file would be, and refuses what would not measure a disk or would harm what is there. Nothing is
    /// made yet. `size` is what the course may address, rounded down to whole 4 KiB. Of a run that goes on, `goes_on` is its identity: its
    /// file may then be there.
    ///
    /// # Errors
    /// [`DriveError::Refused`] and what the system says.
    pub fn new(
        path: &Path,
        size: Bytes,
        seed: u64,
        choice: EngineChoice,
        goes_on: Option<RunId>,
    ) -> Result<Self, DriveError> {
        let refused = |why: String| DriveError::Refused { path: path.to_owned(), why };
        let size = Bytes(size.0 / LOGICAL_BLOCK * LOGICAL_BLOCK);
        if size.0 < 1 << 20 {
            return Err(refused(
                "a size of at least 1 MiB is needed; give it with --size, such as --size 4GB".into(),
            ));
        }
        let folder = folder_of(path);
        if !folder.is_dir() {
            return Err(refused(format!(
                "the folder {} does not exist; make it, or name another",
                folder.display()
            )));
        }
        check_existing(path, goes_on)?;
        let mut io_of_run = Io::new(seed, choice);
        if let Some(run) = goes_on {
            io_of_run.set_run(run);
        }
        let io = |doing| {
            move |e: rustix::io::Errno| DriveError::Io { path: folder_of(path), doing, source: e.into() }
        };
        let magic =
            rustix::fs::statfs(&folder).map_err(io("look at the file system"))?.f_type as u64 & 0xffff_ffff;
        if let Some(kind) = in_memory(magic) {
            return Err(refused(format!(
                "{} is a {kind}, which lives in memory: a run there would measure this machine's memory and not a drive. Name a file on the drive under test",
                folder.display()
            )));
        }
        let already = std::fs::metadata(path).map_or(0, |m| m.len());
        let space = rustix::fs::statvfs(&folder).map_err(io("look at the free space"))?;
        check_space(&space, Bytes(size.0.saturating_sub(already))).map_err(refused)?;
        let room = room(&space, Bytes(size.0.saturating_sub(already)));
        let device = std::fs::metadata(&folder)
            .map_err(|e| DriveError::Io { path: folder.clone(), doing: "look at the folder", source: e })?
            .dev();
        let disk = Disk::of(Path::new("/sys"), rustix::fs::major(device), rustix::fs::minor(device));
        let on = disk.as_ref().map_or(String::new(), |d| format!(" on {}", d.name));
        let identity = Identity {
            name: path.display().to_string(),
            model: disk.as_ref().and_then(Disk::model).unwrap_or_else(|| "file target".into()),
            serial: None,
            firmware: None,
            kind: format!("file, {}{on}", name_of(magic)),
            simulated: false,
            link: None,
        };
        let temperature =
            disk.as_ref().and_then(Disk::temperature_file).filter(|f| sysfs::temperature(f).is_some());
        Ok(Self {
            identity,
            path: path.to_owned(),
            size,
            io: io_of_run,
            set: None,
            files: None,
            room,
            in_use: in_use(&space),
            goes_on: goes_on.is_some(),
            held: None,
            file: None,
            cached: None,
            disk,
            temperature,
            sensors: None,
            counters: None,
            made: false,
            clock: Monotonic::start(),
            start_at: Nanos(0),
        })
    }

    fn failed(&self, doing: &'static str) -> impl Fn(io::Error) -> DriveError + use<> {
        let path = self.path.clone();
        move |source| DriveError::Io { path: path.clone(), doing, source }
    }

    /// Makes the file with all its space and the mark of the run, or takes up that of a run that goes on.
    fn make(&mut self) -> Result<File, DriveError> {
        let there = self.goes_on && FileId::at(&self.path).is_ok_and(|id| id.is_some());
        self.made = !there;
        let held = if there {
            let held = Held::open(&self.path)?;
            check_ours(held.file(), &self.path, self.io.run())?;
            place(held.file(), &self.path, self.size)?;
            held
        } else {
            let (path, size, run) = (&self.path, self.size, self.io.run());
            Held::create::<DriveError>(path, 0o600, |file| {
                // First, so that the file is known for what it is even where nothing else was done.
                mark(file, run).map_err(|source| DriveError::Io {
                    path: path.clone(),
                    doing: "write to the file",
                    source,
                })?;
                place(file, path, size)
            })?
        };
        let direct = held.reopen(OFlags::DIRECT).map_err(|e| match e.raw_os_error() {
            Some(code) if code == rustix::io::Errno::INVAL.raw_os_error() => DriveError::Refused {
                path: self.path.clone(),
                why: "this file system does not take O_DIRECT, so that a run would measure the host's cache"
                    .into(),
            },
            _ => self.failed("open the file")(e),
        });
        match direct {
            Ok(file) => {
                self.held = Some(held);
                Ok(file)
            }
            Err(e) => {
                // Only what was made just now; the error that is told is the first.
                if !there {
                    let _ = held.remove();
                }
                Err(e)
            }
        }
    }
}

/// Has the file system set the file's space aside.
fn place(file: &File, path: &Path, size: Bytes) -> Result<(), DriveError> {
    let failed = |doing| move |source: io::Error| DriveError::Io { path: path.to_owned(), doing, source };
    match rustix::fs::fallocate(file, FallocateFlags::empty(), 0, size.0) {
        Ok(()) => Ok(()),
        Err(rustix::io::Errno::OPNOTSUPP) => file.set_len(size.0).map_err(failed("size the file")),
        Err(e) => Err(failed("reserve the file's space")(e.into())),
    }
}

fn check_ours(file: &File, path: &Path, run: RunId) -> Result<(), DriveError> {
    let why = match run_of(file) {
        Some(made_by) if made_by == run => return Ok(()),
        Some(_) => "this file is another run's",
        None => "this file exists and was not made by Hollow Mile",
    };
    Err(DriveError::Refused {
        path: path.to_owned(),
        why: format!("{why}: it is left as it is. Name a file that does not exist"),
    })
}

fn folder_of(path: &Path) -> PathBuf {
    match path.parent() {
        Some(p) if !p.as_os_str().is_empty() => p.to_owned(),
        _ => PathBuf::from("."),
    }
}

/// Refuses a path at which there is something, unless it is the file of the run that goes on.
fn check_existing(path: &Path, goes_on: Option<RunId>) -> Result<(), DriveError> {
    let refused = |why: &str| DriveError::Refused { path: path.to_owned(), why: why.to_owned() };
    let kind = match std::fs::symlink_metadata(path) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(source) => return Err(DriveError::Io { path: path.to_owned(), doing: "look at it", source }),
        Ok(meta) => meta.file_type(),
    };
    if kind.is_dir() {
        return Err(refused("this is a folder; name a file in it that does not exist yet"));
    }
    if kind.is_symlink() {
        return Err(refused(
            "this is a symbolic link, which is not followed; name a file that does not exist yet",
        ));
    }
    if !kind.is_file() {
        return Err(refused("this is no regular file; name a file that does not exist yet"));
    }
    let file = File::open(path).map_err(|source| DriveError::Io {
        path: path.to_owned(),
        doing: "look at it",
        source,
    })?;
    match goes_on {
        Some(run) => check_ours(&file, path, run),
        None if run_of(&file).is_some() => Err(refused(
            "this file was left or kept by another run, and is left as it is. Name another, or take it away with `hollow-mile leftovers`",
        )),
        None => Err(refused(
            "this file exists and was not made by Hollow Mile: it is left as it is. Name a file that does not exist",
        )),
    }
}

/// What is free for other files, beside what is kept free in any case.
fn room(space: &StatVfs, need: Bytes) -> Bytes {
    let free = space.f_bavail * space.f_frsize;
    Bytes(free.saturating_sub(reserve(Bytes(space.f_blocks * space.f_frsize)).0).saturating_sub(need.0))
}

/// How much of a file system is in use, percent, of what all but root can use.
fn in_use(space: &StatVfs) -> Option<u8> {
    let used = space.f_blocks.saturating_sub(space.f_bfree) as f64;
    let all = used + space.f_bavail as f64;
    (all > 0.0).then(|| (100.0 * used / all).round() as u8)
}

/// The folder for whole files that belongs to a file of a run.
pub fn folder_for_files(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".files");
    PathBuf::from(name)
}

fn check_space(space: &StatVfs, need: Bytes) -> Result<(), String> {
    let free = Bytes(space.f_bavail * space.f_frsize);
    let kept = reserve(Bytes(space.f_blocks * space.f_frsize));
    if need.0.saturating_add(kept.0) <= free.0 {
        return Ok(());
    }
    let most = Bytes(free.0.saturating_sub(kept.0));
    let most =
        if most.0 >= 1 << 20 { format!("at most {most} can be used") } else { "nothing can be used".into() };
    Err(format!(
        "{need} are asked for, but {free} are free there, of which {kept} stay free in any case: {most}"
    ))
}

impl Drive for FileDrive {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn facts(&self) -> Facts {
        Facts {
            capacity: self.size,
            logical_block: Bytes(LOGICAL_BLOCK),
            has_temperature: self.temperature.is_some(),
            readable: false,
            cache: Some(host::memory()),
            files: Some(self.room),
            in_use: self.in_use,
        }
    }

    fn is_virtual(&self) -> bool {
        false
    }

    fn set_run(&mut self, run: RunId) {
        self.io.set_run(run);
    }

    fn holds(&mut self, at: Bytes) -> Result<bool, DriveError> {
        let Some(file) = &self.file else {
            return Err(DriveError::Unusable { why: "the file is not open".into() });
        };
        self.io.holds(file, at, Bytes(LOGICAL_BLOCK)).map_err(self.failed("read back from the file"))
    }

    fn start_at(&mut self, at: Nanos) {
        self.start_at = at;
    }

    fn set_clock(&mut self, clock: Monotonic) {
        self.clock = clock;
    }

    fn open(&mut self) -> Result<(), DriveError> {
        let file = self.make()?;
        self.file = Some(file);
        // What an interrupted run had of whole files is taken up again.
        let folder = folder_for_files(&self.path);
        if self.goes_on && files::run_of_folder(&folder).is_some_and(|f| f.0 == self.io.run()) {
            self.set = Some(FileSet::open(&folder, self.io.run())?);
        }
        self.sensors = self.temperature.clone().map(|t| Sensors::start(Source::Kernel(t), None));
        self.clock = Monotonic::start_at(self.start_at);
        self.counters = self.disk.as_ref().and_then(Counters::of);
        Ok(())
    }

    fn is_new(&self) -> bool {
        self.made
    }

    fn engine(&self) -> String {
        self.io.words().to_owned()
    }

    fn now(&self) -> Nanos {
        if self.file.is_some() { self.clock.now() } else { Nanos(0) }
    }

    fn idle(&mut self, until: Nanos) {
        self.io.stop();
        self.clock.sleep_until(until);
    }

    fn join(&mut self, end: Option<PipeEnd>) {
        self.io.join(end);
    }

    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError> {
        let Some(file) = &self.file else {
            return Err(DriveError::Unusable { why: "the file is not open".into() });
        };
        if !transfer.load.cached {
            return self.io.begin(file, transfer, self.size, Bytes(LOGICAL_BLOCK), self.clock);
        }
        if self.cached.is_none() {
            let through = self.held.as_ref().map(|h| h.reopen(OFlags::empty())).transpose();
            self.cached = through.map_err(self.failed("open the file through the host's cache"))?;
        }
        let through = self.cached.as_ref().unwrap_or(file);
        self.io.begin(through, transfer, self.size, Bytes(LOGICAL_BLOCK), self.clock)
    }

    fn begin_files(&mut self, work: &FilesWork, again: bool) -> Result<(), DriveError> {
        if let Some(files) = self.files.as_mut().filter(|_| again) {
            files.go_on();
            return Ok(());
        }
        self.files = None;
        let all: u64 = match (work.op, &work.source) {
            (FilesOp::Write, _) => work.sizes.iter().sum(),
            (FilesOp::Copy, Some(folder)) => files::list(folder)?.iter().map(|f| f.1).sum(),
            _ => 0,
        };
        let needs = all.saturating_sub(self.set.as_ref().map_or(0, |set| set.bytes_of(work.leg)));
        let space = rustix::fs::statvfs(folder_of(&self.path))
            .map_err(|e| self.failed("look at the free space")(e.into()))?;
        check_space(&space, Bytes(needs))
            .map_err(|why| DriveError::Refused { path: folder_for_files(&self.path), why })?;
        let set = match &mut self.set {
            Some(set) => set,
            none => none.insert(FileSet::create(&folder_for_files(&self.path), self.io.run())?),
        };
        self.files = Some(Files::begin(set, work.clone(), self.io.run(), self.clock)?);
        Ok(())
    }

    fn files_there(&self) -> Option<(u64, Bytes)> {
        self.set.as_ref().map(FileSet::there)
    }

    fn end_files(&mut self) -> Option<(FileFigures, bool)> {
        let (files, set) = (self.files.take()?, self.set.as_mut()?);
        let is_full = files.is_full();
        Some((files.end(set), is_full))
    }

    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        if let Some(files) = &mut self.files {
            return files.advance(until, tally);
        }
        self.io.advance(&self.clock, until, tally)
    }

    fn drain(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        if let Some(files) = &mut self.files {
            return files.hold(until, tally);
        }
        self.io.drain(&self.clock, until, tally)
    }

    fn abandon(&mut self) {
        if let Some(files) = &mut self.files {
            files.abandon();
        }
        self.io.abandon();
    }

    fn narrow(&mut self, failure: &Failure, patience: Nanos) -> Pending<Narrowed> {
        let Some(file) = &self.file else { return Pending::done(Narrowed::default()) };
        self.io.narrow(file, failure, Bytes(LOGICAL_BLOCK), patience)
    }

    fn waiting(&self) -> Option<(Nanos, Option<Bytes>, usize)> {
        self.files.as_ref().map_or_else(|| self.io.waiting(&self.clock), Files::waiting)
    }

    fn flush(&mut self) -> Pending<Result<(), DriveError>> {
        self.io.flush(self.file.as_ref(), self.failed("flush the file"))
    }

    fn discard(&mut self, start: Bytes, length: Bytes) -> Pending<Result<(), DriveError>> {
        Pending::done(self.punch(start, length))
    }

    fn readings(&mut self) -> Readings {
        Readings {
            temp: self.sensors.as_ref().and_then(|s| s.reading().temp),
            disk_moved: self.counters.as_ref().and_then(Counters::moved),
            ..Readings::default()
        }
    }

    fn close(&mut self, keep: bool) -> Result<(), DriveError> {
        self.io.stop();
        self.end_files();
        let mut left = None;
        if let Some(set) = self.set.take().filter(|_| !keep) {
            left = set.remove().err();
        }
        self.cached = None;
        self.file = None;
        if let Some(e) = left {
            return Err(e);
        }
        match self.held.take().filter(|_| !keep) {
            Some(held) => Ok(held.remove().map(|_| ())?),
            None => Ok(()),
        }
    }
}

impl FileDrive {
    /// Takes a part out of the file.
    fn punch(&self, start: Bytes, length: Bytes) -> Result<(), DriveError> {
        let Some(file) = &self.file else { return Ok(()) };
        if start.0.checked_add(length.0).is_none_or(|end| end > self.size.0) {
            return Err(DriveError::Unusable { why: "a discard reaches behind the end of the file".into() });
        }
        let hole = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        match rustix::fs::fallocate(file, hole, start.0, length.0) {
            // The mark goes with the first page, and is made anew.
            Ok(()) if start.0 == 0 => {
                let held = self.held.as_ref().map_or(Ok(()), |h| mark(h.file(), self.io.run()));
                held.map_err(self.failed("write to the file"))
            }
            Ok(()) => Ok(()),
            Err(rustix::io::Errno::OPNOTSUPP) => Err(DriveError::NotOffered { what: "discard" }),
            Err(e) => Err(self.failed("discard a part of the file")(e.into())),
        }
    }
}

impl Drop for FileDrive {
    fn drop(&mut self) {
        self.io.stop();
        self.files = None;
        self.file = None;
        // A run that did not get to its end may go on: the file stays, and is listed among what is left.
        self.held = None;
    }
}
