//! Files that appear whole or not at all.

use crate::held::{link, open_folder, remove};
use crate::identity::must_be_regular;
use crate::{FileError, FileId, parts, random_letters};
use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{BufWriter, Write};
use std::os::fd::OwnedFd;
use std::path::Path;

/// What may be replaced.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Replace {
    /// Nothing: the name must be free.
    Nothing,
    /// A regular file.
    File,
}

/// A file with a name of its own beside the one that it will get; removed where it does not get that far.
struct Draft<'a> {
    file: File,
    folder: &'a OwnedFd,
    name: OsString,
    path: &'a Path,
    id: FileId,
}

impl Drop for Draft<'_> {
    fn drop(&mut self) {
        // Nobody is left to tell.
        let _ = remove(self.folder, &self.name, self.path, self.id);
    }
}

/// Writes a file whole or not at all, for its owner to write and all to read (0644, less the umask). What lies at the path is looked at
/// before anything is written, and again at the moment at which it is replaced.
///
/// # Errors
/// Where something lies at the path that may not be replaced, where `write` fails, and what the system says. What was there
/// is then as it was.
pub fn write_whole<E: From<FileError>>(
    path: &Path,
    replace: Replace,
    write: impl FnOnce(&mut dyn Write) -> Result<(), E>,
) -> Result<(), E> {
    let (mut write, mut failed) = (Some(write), None);
    let mut filled = |out: &mut dyn Write| {
        failed = write.take().and_then(|write| write(out).err());
        failed.is_none()
    };
    let done = whole(path, replace, &mut filled);
    match failed {
        Some(e) => Err(e),
        None => Ok(done?),
    }
}

/// What fills a file. Gives whether it could.
type Fill<'a> = &'a mut dyn FnMut(&mut dyn Write) -> bool;

/// The same for all that fill a file: nothing is published where that failed.
fn whole(path: &Path, replace: Replace, write: Fill<'_>) -> Result<(), FileError> {
    let (folder_path, name) = parts(path)?;
    let folder = open_folder(&folder_path, path)?;
    look(&folder, &name, path, replace)?;
    let beside = OsString::from(format!(".hollow-mile-{}", random_letters()));
    let mode = Mode::from_raw_mode(0o644);
    let flags = OFlags::RDWR | OFlags::CLOEXEC;
    match rustix::fs::openat(&folder, ".", flags | OFlags::TMPFILE, mode) {
        Ok(fd) => {
            // Without a name until it is complete: a process that is killed leaves nothing.
            let file = File::from(fd);
            if !fill(&file, path, write)? {
                return Ok(());
            }
            if replace == Replace::Nothing {
                return link(&file, &folder, &name, path);
            }
            link(&file, &folder, &beside, path)?;
            let id = FileId::of(&file).map_err(FileError::io(path, "look at"))?;
            let draft = Draft { file, folder: &folder, name: beside, path, id };
            publish(draft, &name, replace)
        }
        Err(_) => {
            let flags = flags | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW;
            let file: File = rustix::fs::openat(&folder, &beside, flags, mode)
                .map_err(FileError::io(path, "write"))?
                .into();
            let id = FileId::of(&file).map_err(FileError::io(path, "look at"))?;
            let draft = Draft { file, folder: &folder, name: beside, path, id };
            if fill(&draft.file, path, write)? { publish(draft, &name, replace) } else { Ok(()) }
        }
    }
}

fn fill(file: &File, path: &Path, write: Fill<'_>) -> Result<bool, FileError> {
    let mut buffer = BufWriter::new(file);
    if !write(&mut buffer) {
        return Ok(false);
    }
    buffer.flush().map_err(FileError::io(path, "write"))?;
    file.sync_all().map_err(FileError::io(path, "write"))?;
    Ok(true)
}

/// Refuses what may not be replaced.
fn look(folder: &OwnedFd, name: &OsStr, path: &Path, replace: Replace) -> Result<(), FileError> {
    match rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(stat) => {
            must_be_regular(&stat, path)?;
            if replace == Replace::Nothing {
                return Err(FileError::Exists { path: path.to_owned() });
            }
            Ok(())
        }
        Err(rustix::io::Errno::NOENT) => Ok(()),
        Err(e) => Err(FileError::io(path, "look at")(e)),
    }
}

/// Gives a draft its name.
fn publish(mut draft: Draft<'_>, name: &OsStr, replace: Replace) -> Result<(), FileError> {
    let (folder, path) = (draft.folder, draft.path);
    let io = FileError::io::<rustix::io::Errno>(path, "write");
    match rustix::fs::renameat_with(folder, &draft.name, folder, name, RenameFlags::NOREPLACE) {
        Ok(()) => return Ok(()),
        Err(rustix::io::Errno::EXIST) if replace == Replace::Nothing => {
            return Err(FileError::Exists { path: path.to_owned() });
        }
        Err(rustix::io::Errno::EXIST) => {}
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            // A file system that cannot move without replacing: what was looked at is replaced.
            look(folder, name, path, replace)?;
            return rustix::fs::renameat(folder, &draft.name, folder, name).map_err(io);
        }
        Err(e) => return Err(io(e)),
    }
    match rustix::fs::renameat_with(folder, &draft.name, folder, name, RenameFlags::EXCHANGE) {
        Ok(()) => {}
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            look(folder, name, path, replace)?;
            return rustix::fs::renameat(folder, &draft.name, folder, name).map_err(io);
        }
        Err(e) => return Err(io(e)),
    }
    // What was replaced lies under the draft's name now, and is looked at before it goes.
    let stat = rustix::fs::statat(folder, &draft.name, AtFlags::SYMLINK_NOFOLLOW).map_err(&io)?;
    if let Err(e) = must_be_regular(&stat, path) {
        rustix::fs::renameat_with(folder, &draft.name, folder, name, RenameFlags::EXCHANGE).map_err(io)?;
        return Err(e);
    }
    draft.id = FileId::of_stat(&stat);
    Ok(())
}
