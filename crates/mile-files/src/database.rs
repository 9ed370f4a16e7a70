//! The file of an SQLite database: looked at before SQLite opens it by its path, and again when it has.
//!
//! SQLite opens files by path and follows what lies there, a block device too. So the path is opened here first, without access and
//! without following a link; it must be a regular file, and its head must be that of a database of the caller's, or it must be
//! empty. After SQLite has opened it, this process must have one descriptor more of just that file: a file that was swapped in
//! between is found out before anything is written, as SQLite writes nothing when it opens.
//!
//! A process that closes any descriptor of a file loses all its locks on it (fcntl(2), "record locks"), those of SQLite too. So
//! a descriptor through which a head was read stays open for as long as the process lives, and is used again.

use crate::held::{open_folder, reopen};
use crate::identity::must_be_regular;
use crate::{FileError, FileId, parts};
use rustix::fs::{AtFlags, FileType, Mode, OFlags};
use std::collections::HashMap;
use std::ffi::OsString;
use std::fs::File;
use std::os::fd::AsRawFd;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, MutexGuard, PoisonError};

/// Bytes of the head of an SQLite database (its file format, section 1.3).
pub const HEAD: usize = 100;
/// What SQLite puts beside a database.
const BESIDE: [&str; 3] = ["-wal", "-shm", "-journal"];

/// Descriptors through which heads were read.
static KEPT: LazyLock<Mutex<HashMap<FileId, File>>> = LazyLock::new(Mutex::default);

/// What a database is opened for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Access {
    /// To read it. Nothing is created. A link is followed.
    Read,
    /// To write to it. It must exist.
    Write,
    /// To write to it. It is created where the name is free.
    Create,
}

/// What the head of a file says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Head {
    /// The file is empty.
    Empty,
    /// It is an SQLite database with this application id.
    Database {
        /// The number at byte 68 of its head.
        application: u32,
    },
    /// It is something else.
    Other,
}

/// A file that may be handed to SQLite. As long as this lives, no other thread of this process hands it one.
#[derive(Debug)]
pub struct Checked {
    path: PathBuf,
    id: FileId,
    head: Head,
    has_log: bool,
    open_before: Vec<(i32, FileId)>,
    _turn: MutexGuard<'static, HashMap<FileId, File>>,
}

/// Looks at the file of a database.
///
/// # Errors
/// Where what lies at the path, or where SQLite puts its log, is not a regular file; where it is a link and is to be written;
/// where it cannot be opened or created.
pub fn check(path: &Path, access: Access) -> Result<Checked, FileError> {
    let path = if access == Access::Read {
        std::fs::canonicalize(path).map_err(FileError::io(path, "open"))?
    } else {
        path.to_owned()
    };
    let (folder_path, name) = parts(&path)?;
    if access == Access::Create {
        std::fs::create_dir_all(&folder_path).map_err(FileError::io(&path, "make a folder for"))?;
    }
    let folder_path = std::fs::canonicalize(&folder_path).map_err(FileError::io(&path, "open"))?;
    let path = folder_path.join(&name);
    let folder = open_folder(&folder_path, &path)?;
    let mut turn = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    let look = || {
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        rustix::fs::openat(&folder, &name, flags, Mode::empty())
    };
    let seen = match look() {
        Err(rustix::io::Errno::NOENT) if access == Access::Create => {
            let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            match rustix::fs::openat(&folder, &name, flags, Mode::from_raw_mode(0o644)) {
                Ok(made) => {
                    let made = File::from(made);
                    let id = FileId::of(&made).map_err(FileError::io(&path, "look at"))?;
                    turn.insert(id, made);
                }
                // Another process made it just now.
                Err(rustix::io::Errno::EXIST) => {}
                Err(e) => return Err(FileError::io(&path, "make")(e)),
            }
            look().map_err(FileError::io(&path, "open"))?
        }
        other => other.map_err(FileError::io(&path, "open"))?,
    };
    let stat = rustix::fs::fstat(&seen).map_err(FileError::io(&path, "look at"))?;
    must_be_regular(&stat, &path)?;
    let mut has_log = false;
    for suffix in BESIDE {
        let mut beside: OsString = name.clone();
        beside.push(suffix);
        match rustix::fs::statat(&folder, &beside, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => {
                must_be_regular(&stat, &folder_path.join(&beside))?;
                has_log |= suffix == "-wal" && stat.st_size > 0;
            }
            Err(rustix::io::Errno::NOENT) => {}
            Err(e) => return Err(FileError::io(&path, "look beside")(e)),
        }
    }
    let id = FileId::of_stat(&stat);
    if let std::collections::hash_map::Entry::Vacant(free) = turn.entry(id) {
        let file = reopen(seen.as_raw_fd(), OFlags::RDONLY).map_err(FileError::io(&path, "open"))?;
        free.insert(file);
    }
    let head = match turn.get(&id) {
        Some(file) => read_head(file).map_err(FileError::io(&path, "read"))?,
        None => Head::Other,
    };
    let open_before = writable_descriptors();
    Ok(Checked { path, id, head, has_log, open_before, _turn: turn })
}

fn read_head(file: &File) -> std::io::Result<Head> {
    let mut head = [0; HEAD];
    let mut read = 0;
    while read < HEAD {
        match file.read_at(&mut head[read..], read as u64)? {
            0 => break,
            n => read += n,
        }
    }
    if read == 0 {
        return Ok(Head::Empty);
    }
    if read < HEAD || !head.starts_with(b"SQLite format 3\0") {
        return Ok(Head::Other);
    }
    let application = head[68..72].iter().fold(0, |all, b| all << 8 | u32::from(*b));
    Ok(Head::Database { application })
}

/// Descriptors of this process through which something can be written: each with the file that it is of.
fn writable_descriptors() -> Vec<(i32, FileId)> {
    let entries = std::fs::read_dir("/proc/self/fd").into_iter().flatten().flatten();
    let one = |e: std::fs::DirEntry| {
        let number: i32 = e.file_name().to_str()?.parse().ok()?;
        let info = std::fs::read_to_string(format!("/proc/self/fdinfo/{number}")).ok()?;
        let flags = info.lines().find_map(|l| l.strip_prefix("flags:"))?;
        // Octal, as in open(2); the lowest two bits are the access.
        let writes = u32::from_str_radix(flags.trim(), 8).ok()? & 3 != 0;
        let stat = rustix::fs::stat(format!("/proc/self/fd/{number}")).ok()?;
        let kind = FileType::from_raw_mode(stat.st_mode);
        let may_hold_data = matches!(kind, FileType::RegularFile | FileType::BlockDevice);
        (writes && may_hold_data).then(|| (number, FileId::of_stat(&stat)))
    };
    entries.filter_map(one).collect()
}

impl Checked {
    /// The path to hand to SQLite: of a folder without links, and the name in it.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// What its head says.
    pub fn head(&self) -> Head {
        self.head
    }

    /// Whether there is a write-ahead log beside it that is not empty: it is in use, or was when its process ended.
    pub fn has_log(&self) -> bool {
        self.has_log
    }

    /// To be called when SQLite has opened it for writing, and before anything is written.
    ///
    /// # Errors
    /// [`FileError::Changed`] where SQLite has opened another file, or where another thread opened one in the same moment: the caller
    /// lets go of the connection and tries again.
    pub fn confirm(&self) -> Result<(), FileError> {
        let now = writable_descriptors();
        let count = |all: &[(i32, FileId)]| all.iter().filter(|(_, id)| *id == self.id).count();
        // SQLite may use a descriptor again that it had kept open for its locks; then there is no new one at all.
        let nothing_new = now.iter().all(|d| self.open_before.contains(d));
        if count(&now) > count(&self.open_before) || nothing_new && count(&now) > 0 {
            return Ok(());
        }
        Err(FileError::Changed { path: self.path.clone() })
    }
}
