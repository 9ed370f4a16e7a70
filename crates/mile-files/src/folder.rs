//! A folder that a run made for its files, held open for as long as it is used.

use crate::held::open_folder;
use crate::identity::must_be_regular;
use crate::{FileError, FileId, parts};
use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

/// The file in it by which it is known again.
const MARK: &str = ".hollow-mile-run";

/// A folder that was made here, or recognised by its mark. Names in it are looked up on its descriptor, so that they stay in it whatever
/// happens to its path.
#[derive(Debug)]
pub struct HeldFolder {
    folder: OwnedFd,
    parent: OwnedFd,
    name: OsString,
    path: PathBuf,
    id: FileId,
}

impl HeldFolder {
    /// Makes a folder where there is nothing, which nobody but its user may enter, with a mark that `prepare` fills.
    ///
    /// # Errors
    /// [`FileError::Exists`] where something lies at the path, whatever it is; what `prepare` gives; what the system says.
    pub fn create(path: &Path, prepare: impl FnOnce(&File) -> io::Result<()>) -> Result<Self, FileError> {
        let (parent_path, name) = parts(path)?;
        let parent = open_folder(&parent_path, path)?;
        rustix::fs::mkdirat(&parent, &name, Mode::RWXU).map_err(|e| match e {
            rustix::io::Errno::EXIST => FileError::Exists { path: path.to_owned() },
            e => FileError::io(path, "make")(e),
        })?;
        let held = Self::at(parent, name, path)?;
        let filled = held.make(MARK, OFlags::empty()).and_then(|mark| prepare(&mark));
        match filled {
            Ok(()) => Ok(held),
            Err(e) => {
                // The first error is the one to tell.
                let _ = held.remove();
                Err(FileError::io(path, "write into")(e))
            }
        }
    }

    /// Opens a folder that exists, and its mark, by which the caller sees whose it is.
    ///
    /// # Errors
    /// Where it is no folder, has no mark that is a regular file, or cannot be opened.
    pub fn open(path: &Path) -> Result<(Self, File), FileError> {
        let (parent_path, name) = parts(path)?;
        let held = Self::at(open_folder(&parent_path, path)?, name, path)?;
        let mark = held.read(MARK, OFlags::empty()).map_err(FileError::io(path, "look into"))?;
        let stat = rustix::fs::fstat(&mark).map_err(FileError::io(path, "look into"))?;
        must_be_regular(&stat, path)?;
        Ok((held, mark))
    }

    fn at(parent: OwnedFd, name: OsString, path: &Path) -> Result<Self, FileError> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let folder = rustix::fs::openat(&parent, &name, flags, Mode::empty())
            .map_err(FileError::io(path, "open the folder"))?;
        let id = FileId::of(&folder).map_err(FileError::io(path, "look at"))?;
        Ok(Self { folder, parent, name, path: path.to_owned(), id })
    }

    /// Where it was opened.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Makes an empty file in it, for reading and writing.
    ///
    /// # Errors
    /// What the system says: EEXIST where the name is taken, by whatever.
    pub fn make(&self, name: &str, flags: OFlags) -> io::Result<File> {
        let flags = flags | OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(&self.folder, name, flags, Mode::RUSR | Mode::WUSR)?.into())
    }

    /// Opens a file in it for reading.
    ///
    /// # Errors
    /// What the system says.
    pub fn read(&self, name: &str, flags: OFlags) -> io::Result<File> {
        let flags = flags | OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        Ok(rustix::fs::openat(&self.folder, name, flags, Mode::empty())?.into())
    }

    /// Whether the file under a name in it is this one.
    ///
    /// # Errors
    /// What the system says.
    pub fn holds(&self, name: &str, id: FileId) -> io::Result<bool> {
        match rustix::fs::statat(&self.folder, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Ok(FileId::of_stat(&stat) == id),
            Err(rustix::io::Errno::NOENT) => Ok(false),
            Err(e) => Err(e.into()),
        }
    }

    /// Removes a name from it. Whether the file under it is one of the caller's is for the caller to know, as it made it, or by
    /// [`HeldFolder::holds`].
    ///
    /// # Errors
    /// What the system says.
    pub fn unlink(&self, name: &str) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&self.folder, name, AtFlags::empty())?)
    }

    /// Has the file system that it is on keep what it was given.
    ///
    /// # Errors
    /// What the system says.
    pub fn sync_all(&self) -> io::Result<()> {
        Ok(rustix::fs::syncfs(&self.folder)?)
    }

    /// The names of the regular files in it that are wanted, the bytes that they hold, and which files they are. The mark is not among them.
    ///
    /// # Errors
    /// What the system says.
    pub fn files(&self, mut wanted: impl FnMut(&str) -> bool) -> io::Result<Vec<(String, u64, FileId)>> {
        let mut all = Vec::new();
        for entry in Dir::read_from(&self.folder)? {
            let entry = entry?;
            let Ok(name) = entry.file_name().to_str() else { continue };
            if name == MARK || !wanted(name) {
                continue;
            }
            let stat = rustix::fs::statat(&self.folder, name, AtFlags::SYMLINK_NOFOLLOW)?;
            if FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile {
                all.push((name.to_owned(), u64::try_from(stat.st_size).unwrap_or(0), FileId::of_stat(&stat)));
            }
        }
        Ok(all)
    }

    /// Takes the folder away, if it is empty but for its mark. Gives whether it is gone.
    ///
    /// # Errors
    /// What the system says.
    pub fn remove(self) -> Result<bool, FileError> {
        let io = |doing| FileError::io::<rustix::io::Errno>(&self.path, doing);
        let mut others = false;
        for entry in Dir::read_from(&self.folder).map_err(io("look into"))? {
            let entry = entry.map_err(io("look into"))?;
            let name = OsStr::new(entry.file_name().to_str().unwrap_or("?"));
            others |= ![OsStr::new("."), OsStr::new(".."), OsStr::new(MARK)].contains(&name);
        }
        if others {
            return Ok(false);
        }
        match rustix::fs::statat(&self.parent, &self.name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) if FileId::of_stat(&stat) == self.id => {}
            Ok(_) | Err(rustix::io::Errno::NOENT) => return Ok(false),
            Err(e) => return Err(io("look at")(e)),
        }
        match rustix::fs::unlinkat(&self.folder, MARK, AtFlags::empty()) {
            Ok(()) | Err(rustix::io::Errno::NOENT) => {}
            Err(e) => return Err(io("take away")(e)),
        }
        match rustix::fs::unlinkat(&self.parent, &self.name, AtFlags::REMOVEDIR) {
            Ok(()) => Ok(true),
            // Something came into it just now.
            Err(rustix::io::Errno::NOTEMPTY | rustix::io::Errno::EXIST) => Ok(false),
            Err(e) => Err(io("take away")(e)),
        }
    }
}
