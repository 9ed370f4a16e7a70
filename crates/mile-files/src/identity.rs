//! Which file a descriptor or a path is.

use crate::FileError;
use rustix::fs::{AtFlags, CWD, FileType, Stat};
use std::io;
use std::os::fd::AsFd;
use std::path::Path;

/// Device and inode number of a file: what it is, whatever it is called.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId {
    /// Device number of its file system.
    pub device: u64,
    /// Inode number in that.
    pub inode: u64,
}

impl FileId {
    #[allow(clippy::useless_conversion, reason = "the kernel's types differ between architectures")]
    pub(crate) fn of_stat(stat: &Stat) -> Self {
        Self { device: stat.st_dev.into(), inode: stat.st_ino.into() }
    }

    /// Of an open file.
    ///
    /// # Errors
    /// Where the system cannot tell.
    pub fn of(file: impl AsFd) -> io::Result<Self> {
        Ok(Self::of_stat(&rustix::fs::fstat(file)?))
    }

    /// Of what lies at a path, a link itself and not what it leads to; `None` where nothing does.
    ///
    /// # Errors
    /// Where the system cannot tell.
    pub fn at(path: &Path) -> io::Result<Option<Self>> {
        match rustix::fs::statat(CWD, path, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Ok(Some(Self::of_stat(&stat))),
            Err(rustix::io::Errno::NOENT) => Ok(None),
            Err(e) => Err(e.into()),
        }
    }
}

/// Refuses what is not a regular file.
pub(crate) fn must_be_regular(stat: &Stat, path: &Path) -> Result<(), FileError> {
    let path = path.to_owned();
    let kind = match FileType::from_raw_mode(stat.st_mode) {
        FileType::RegularFile => return Ok(()),
        FileType::Symlink => return Err(FileError::Link { path }),
        FileType::Directory => "a folder",
        FileType::BlockDevice => "a block device",
        FileType::CharacterDevice => "a character device",
        FileType::Fifo => "a pipe",
        FileType::Socket => "a socket",
        _ => "of an unknown kind",
    };
    Err(FileError::NotRegular { path, kind })
}
