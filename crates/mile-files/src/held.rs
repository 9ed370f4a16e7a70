//! A file that is held open for as long as it is used, locked against other runs, and removed only by its identity.

use crate::identity::must_be_regular;
use crate::{FileError, FileId, parts, random_letters};
use rustix::fs::{AtFlags, FlockOperation, Mode, OFlags, RenameFlags};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::{Path, PathBuf};

/// A regular file that was created here, or recognised by the caller, and that no other run holds.
#[derive(Debug)]
pub struct Held {
    file: File,
    folder: OwnedFd,
    name: OsString,
    path: PathBuf,
    id: FileId,
}

/// The file behind a descriptor, opened once more. No path of the file is looked at, so that it is the same file.
pub(crate) fn reopen(fd: i32, flags: OFlags) -> rustix::io::Result<File> {
    let again = rustix::fs::open(format!("/proc/self/fd/{fd}"), flags | OFlags::CLOEXEC, Mode::empty())?;
    Ok(again.into())
}

/// A folder, to look up names in whatever happens to its path.
pub(crate) fn open_folder(folder: &Path, path: &Path) -> Result<OwnedFd, FileError> {
    rustix::fs::open(folder, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
        .map_err(FileError::io(path, "open the folder of"))
}

fn lock(file: &File, path: &Path) -> Result<(), FileError> {
    match rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive) {
        // Some network file systems have no locks; the file is then held by nothing but its name.
        Ok(()) | Err(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOLCK) => Ok(()),
        Err(rustix::io::Errno::WOULDBLOCK) => Err(FileError::Locked { path: path.to_owned() }),
        Err(e) => Err(FileError::io(path, "lock")(e)),
    }
}

/// Whether an error says that the file system has no files without a name.
fn has_no_nameless(e: rustix::io::Errno) -> bool {
    use rustix::io::Errno;
    matches!(e, Errno::OPNOTSUPP | Errno::ISDIR | Errno::NOENT | Errno::INVAL | Errno::ACCESS)
}

impl Held {
    /// Creates a file where there is none. `prepare` fills it first: where the file system can do that, the file appears under its
    /// name only then, so that nobody ever finds one that was not prepared. `mode` is who may do what with it.
    ///
    /// # Errors
    /// [`FileError::Exists`] and its kind where something lies at the path, whatever it is; what `prepare` gives; what the system says.
    pub fn create<E: From<FileError>>(
        path: &Path,
        mode: u32,
        prepare: impl FnOnce(&File) -> Result<(), E>,
    ) -> Result<Self, E> {
        let (folder_path, name) = parts(path)?;
        let folder = open_folder(&folder_path, path)?;
        if let Ok(stat) = rustix::fs::statat(&folder, &name, AtFlags::SYMLINK_NOFOLLOW) {
            must_be_regular(&stat, path)?;
            return Err(FileError::Exists { path: path.to_owned() }.into());
        }
        let mode = Mode::from_raw_mode(mode);
        let flags = OFlags::RDWR | OFlags::CLOEXEC;
        match rustix::fs::openat(&folder, ".", flags | OFlags::TMPFILE, mode) {
            Ok(fd) => {
                let file = File::from(fd);
                lock(&file, path)?;
                prepare(&file)?;
                let id = FileId::of(&file).map_err(FileError::io(path, "look at"))?;
                link(&file, &folder, &name, path)?;
                Ok(Self { file, folder, name, path: path.to_owned(), id })
            }
            Err(e) if has_no_nameless(e) => {
                let flags = flags | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW;
                let file: File = rustix::fs::openat(&folder, &name, flags, mode)
                    .map_err(|e| match e {
                        rustix::io::Errno::EXIST => FileError::Exists { path: path.to_owned() },
                        e => FileError::io(path, "make")(e),
                    })?
                    .into();
                let id = FileId::of(&file).map_err(FileError::io(path, "look at"))?;
                let held = Self { file, folder, name, path: path.to_owned(), id };
                match lock(&held.file, path).map_err(E::from).and_then(|()| prepare(&held.file)) {
                    Ok(()) => Ok(held),
                    Err(e) => {
                        // The first error is the one to tell.
                        let _ = held.remove();
                        Err(e)
                    }
                }
            }
            Err(e) => Err(FileError::io(path, "make")(e).into()),
        }
    }

    /// Opens a regular file that exists. Whether it is the caller's own is for the caller to see, on this descriptor, before it
    /// writes.
    ///
    /// # Errors
    /// Where it is no regular file, is held by another run, or cannot be opened.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let (folder_path, name) = parts(path)?;
        let folder = open_folder(&folder_path, path)?;
        // Without access to it, so that no device notices.
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let seen =
            rustix::fs::openat(&folder, &name, flags, Mode::empty()).map_err(FileError::io(path, "open"))?;
        let stat = rustix::fs::fstat(&seen).map_err(FileError::io(path, "look at"))?;
        must_be_regular(&stat, path)?;
        let file = reopen(seen.as_raw_fd(), OFlags::RDWR).map_err(FileError::io(path, "open"))?;
        lock(&file, path)?;
        Ok(Self { file, folder, name, path: path.to_owned(), id: FileId::of_stat(&stat) })
    }

    /// The open file, through the host's cache.
    pub fn file(&self) -> &File {
        &self.file
    }

    /// The same file once more, opened with other flags such as O_DIRECT.
    ///
    /// # Errors
    /// What the system says; EINVAL where its file system does not take O_DIRECT.
    pub fn reopen(&self, flags: OFlags) -> io::Result<File> {
        Ok(reopen(self.file.as_raw_fd(), OFlags::RDWR | flags)?)
    }

    /// Which file it is.
    pub fn id(&self) -> FileId {
        self.id
    }

    /// Where it was opened.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Removes it from its folder, if what lies there is this file. Gives whether it was.
    ///
    /// # Errors
    /// What the system says.
    pub fn remove(self) -> Result<bool, FileError> {
        remove(&self.folder, &self.name, &self.path, self.id)
    }
}

/// Gives a file without a name its name, if that is free.
pub(crate) fn link(file: &File, folder: &OwnedFd, name: &OsStr, path: &Path) -> Result<(), FileError> {
    let from = format!("/proc/self/fd/{}", file.as_raw_fd());
    rustix::fs::linkat(rustix::fs::CWD, from, folder, name, AtFlags::SYMLINK_FOLLOW).map_err(|e| match e {
        rustix::io::Errno::EXIST => FileError::Exists { path: path.to_owned() },
        e => FileError::io(path, "give the file its name,")(e),
    })
}

/// Removes a name from a folder if it is that of a certain file. Between the look and the removal another file could come under the
/// name; so it is moved to a name that only this call knows, looked at there, and moved back where it is another.
pub(crate) fn remove(folder: &OwnedFd, name: &OsStr, path: &Path, id: FileId) -> Result<bool, FileError> {
    let io = |doing| FileError::io::<rustix::io::Errno>(path, doing);
    let is_it = |name: &OsStr| match rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(stat) => Ok(FileId::of_stat(&stat) == id),
        Err(rustix::io::Errno::NOENT) => Ok(false),
        Err(e) => Err(e),
    };
    if !is_it(name).map_err(io("look at"))? {
        return Ok(false);
    }
    let aside = OsString::from(format!(".hollow-mile-{}", random_letters()));
    match rustix::fs::renameat_with(folder, name, folder, &aside, RenameFlags::NOREPLACE) {
        Ok(()) => {}
        Err(rustix::io::Errno::NOENT) => return Ok(false),
        // A file system that cannot move without replacing: what was just seen is removed.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            return rustix::fs::unlinkat(folder, name, AtFlags::empty())
                .map(|()| true)
                .map_err(io("take away"));
        }
        Err(e) => return Err(io("take away")(e)),
    }
    if is_it(&aside).map_err(io("look at"))? {
        return rustix::fs::unlinkat(folder, &aside, AtFlags::empty())
            .map(|()| true)
            .map_err(io("take away"));
    }
    // Another file had come under the name meanwhile, and gets it back.
    rustix::fs::renameat_with(folder, &aside, folder, name, RenameFlags::NOREPLACE)
        .map_err(io("give back its name to what is now at"))?;
    Ok(false)
}
