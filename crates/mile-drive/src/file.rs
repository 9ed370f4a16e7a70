//! A file on a mounted file system as a drive: it measures the disk under it.
//!
//! The file is made for the run, preallocated, opened past the host's cache (O_DIRECT), and taken away afterwards. What would
//! not measure a disk, or harm what is there, is refused before anything is made.

use crate::clock::Monotonic;
use crate::drive::{Drive, DriveError, Facts, Failure, Identity, Narrowed, Readings, Transfer};
use crate::host;
pub use crate::io::EngineChoice;
use crate::io::{Io, pattern};
use crate::sensors::{Sensors, Source};
use crate::sysfs::{self, Disk};
use crate::tally::Tally;
use mile_core::{Bytes, Nanos};
use rustix::fs::{FallocateFlags, OFlags, StatVfs};
use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// Largest logical block of common devices; files are measured in multiples of it.
const LOGICAL_BLOCK: u64 = 4096;

/// A file as a drive.
pub struct FileDrive {
    identity: Identity,
    path: PathBuf,
    size: Bytes,
    io: Io,
    file: Option<File>,
    /// The same file through the host's cache, where a leg asked for that.
    cached: Option<File>,
    made: bool,
    disk: Option<Disk>,
    temperature: Option<PathBuf>,
    sensors: Option<Sensors>,
    moved_at_open: Option<Bytes>,
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
    /// made yet. `size` is what the course may address, rounded down to whole 4 KiB.
    pub fn new(path: &Path, size: Bytes, seed: u64, choice: EngineChoice) -> Result<Self, DriveError> {
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
        check_existing(path)?;
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
            io: Io::new(seed, choice),
            file: None,
            cached: None,
            made: false,
            disk,
            temperature,
            sensors: None,
            moved_at_open: None,
            clock: Monotonic::start(),
            start_at: Nanos(0),
        })
    }

    fn failed(&self, doing: &'static str) -> impl Fn(io::Error) -> DriveError {
        let path = self.path.clone();
        move |source| DriveError::Io { path: path.clone(), doing, source }
    }

    /// Makes the file with all its space, or takes over one that a run before left. What was made is taken away again if
    /// that fails.
    fn make(&mut self) -> Result<File, DriveError> {
        let exists = self.path.exists();
        let mut options = OpenOptions::new();
        options.read(true).write(true).custom_flags(OFlags::DIRECT.bits() as i32).mode(0o600);
        let file = if exists { options.open(&self.path) } else { options.create_new(true).open(&self.path) };
        let file = file.map_err(|e| match e.raw_os_error() {
            Some(code) if code == rustix::io::Errno::INVAL.raw_os_error() => DriveError::Refused {
                path: self.path.clone(),
                why: "this file system does not take O_DIRECT, so that a run would measure the host's cache"
                    .into(),
            },
            _ => self.failed("make the file")(e),
        })?;
        self.made = true;
        let placed = rustix::fs::fallocate(&file, FallocateFlags::empty(), 0, self.size.0);
        match placed {
            Ok(()) => Ok(file),
            Err(rustix::io::Errno::OPNOTSUPP) => {
                file.set_len(self.size.0).map_err(self.failed("size the file"))?;
                Ok(file)
            }
            Err(e) => {
                self.remove()?;
                Err(self.failed("reserve the file's space")(e.into()))
            }
        }
    }

    fn remove(&mut self) -> Result<(), DriveError> {
        if std::mem::take(&mut self.made) {
            std::fs::remove_file(&self.path).map_err(self.failed("take away the file"))?;
        }
        Ok(())
    }
}

fn folder_of(path: &Path) -> PathBuf {
    match path.parent() {
        Some(p) if !p.as_os_str().is_empty() => p.to_owned(),
        _ => PathBuf::from("."),
    }
}

/// Refuses a path at which there is something that no run of ours made.
fn check_existing(path: &Path) -> Result<(), DriveError> {
    let refused = |why: &str| DriveError::Refused { path: path.to_owned(), why: why.to_owned() };
    let kind = match std::fs::symlink_metadata(path) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(source) => return Err(DriveError::Io { path: path.to_owned(), doing: "look at it", source }),
        Ok(meta) => meta.file_type(),
    };
    if kind.is_dir() {
        return Err(refused("this is a folder; name a file in it that does not exist yet"));
    }
    if !kind.is_file() {
        return Err(refused(
            "this is neither a file nor a free name; block devices and links are not written to by this version",
        ));
    }
    let file = File::open(path).map_err(|source| DriveError::Io {
        path: path.to_owned(),
        doing: "look at it",
        source,
    })?;
    let mut head = [0; pattern::STAMP];
    let read = file.read_at(&mut head, 0).unwrap_or(0);
    if read == pattern::STAMP && pattern::is_stamped(&head, 0) {
        return Ok(());
    }
    Err(refused(
        "this file exists and was not made by Hollow Mile: it is left as it is. Name a file that does not exist",
    ))
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
        }
    }

    fn is_virtual(&self) -> bool {
        false
    }

    fn start_at(&mut self, at: Nanos) {
        self.start_at = at;
    }

    fn open(&mut self) -> Result<(), DriveError> {
        let file = self.make()?;
        self.file = Some(file);
        self.sensors = self.temperature.clone().map(|t| Sensors::start(Source::Kernel(t), None));
        self.clock = Monotonic::start_at(self.start_at);
        self.moved_at_open = self.disk.as_ref().and_then(Disk::moved);
        Ok(())
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

    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError> {
        let Some(file) = &self.file else {
            return Err(DriveError::Unusable { why: "the file is not open".into() });
        };
        if !transfer.cached {
            return self.io.begin(file, transfer, self.size, Bytes(LOGICAL_BLOCK), self.clock);
        }
        if self.cached.is_none() {
            let through = OpenOptions::new().read(true).write(true).open(&self.path);
            self.cached = Some(through.map_err(self.failed("open the file through the host's cache"))?);
        }
        let through = self.cached.as_ref().unwrap_or(file);
        self.io.begin(through, transfer, self.size, Bytes(LOGICAL_BLOCK), self.clock)
    }

    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.io.advance(&self.clock, until, tally)
    }

    fn drain(&mut self, tally: &mut Tally) -> Result<(), DriveError> {
        self.io.drain(&self.clock, tally)
    }

    fn narrow(&mut self, failure: &Failure) -> Narrowed {
        let file = self.file.as_ref();
        file.map_or_else(Narrowed::default, |f| self.io.narrow(f, failure, Bytes(LOGICAL_BLOCK)))
    }

    fn waiting(&self) -> Option<(Nanos, Bytes, usize)> {
        self.io.waiting(&self.clock)
    }

    fn flush(&mut self) -> Result<(), DriveError> {
        self.file.as_ref().map_or(Ok(()), File::sync_data).map_err(self.failed("flush the file"))
    }

    fn discard(&mut self, start: Bytes, length: Bytes) -> Result<(), DriveError> {
        let Some(file) = &self.file else { return Ok(()) };
        if start.0.checked_add(length.0).is_none_or(|end| end > self.size.0) {
            return Err(DriveError::Unusable { why: "a discard reaches behind the end of the file".into() });
        }
        let hole = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        match rustix::fs::fallocate(file, hole, start.0, length.0) {
            Ok(()) => Ok(()),
            Err(rustix::io::Errno::OPNOTSUPP) => Err(DriveError::NotOffered { what: "discard" }),
            Err(e) => Err(self.failed("discard a part of the file")(e.into())),
        }
    }

    fn readings(&mut self) -> Readings {
        let moved = self.disk.as_ref().and_then(Disk::moved).zip(self.moved_at_open);
        Readings {
            temp: self.sensors.as_ref().and_then(|s| s.reading().temp),
            disk_moved: moved.map(|(now, then)| Bytes(now.0.saturating_sub(then.0))),
            ..Readings::default()
        }
    }

    fn close(&mut self, keep: bool) -> Result<(), DriveError> {
        self.io.stop();
        self.cached = None;
        if let Some(file) = self.file.take().filter(|_| !self.io.is_stalled()) {
            // What the file system still holds back belongs to the run.
            file.sync_all().map_err(self.failed("write back the file"))?;
        }
        if keep {
            self.made = false;
            return Ok(());
        }
        self.remove()
    }
}

impl Drop for FileDrive {
    fn drop(&mut self) {
        self.io.stop();
        self.file = None;
        // Nobody is left to tell; the file stays where it cannot be taken away.
        let _ = self.remove();
    }
}
