//! Folders that only this user may enter, sockets in them, and files that are moved out of the way.

use crate::held::open_folder;
use crate::identity::must_be_regular;
use crate::{FileError, parts};
use rustix::fs::{AtFlags, CWD, FileType, RenameFlags};
use std::ffi::OsStr;
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};

/// Makes a folder that only this user may enter, or makes sure that one that exists is such.
///
/// # Errors
/// Where it cannot be made, is no folder, belongs to somebody else, or lets others in.
pub fn private_folder(folder: &Path) -> io::Result<()> {
    match std::fs::DirBuilder::new().mode(0o700).create(folder) {
        Ok(()) => {}
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
        Err(e) => return Err(io::Error::new(e.kind(), format!("{}: {e}", folder.display()))),
    }
    let meta = std::fs::symlink_metadata(folder)?;
    let user = rustix::process::geteuid().as_raw();
    if !meta.is_dir() || meta.uid() != user || meta.mode() & 0o077 != 0 {
        let why = format!("{} is not a folder that only you may enter; remove it", folder.display());
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, why));
    }
    Ok(())
}

/// Removes a socket in a private folder. Anything else stays.
pub fn remove_socket(path: &Path) {
    let stat = rustix::fs::statat(CWD, path, AtFlags::SYMLINK_NOFOLLOW);
    if stat.is_ok_and(|s| FileType::from_raw_mode(s.st_mode) == FileType::Socket) {
        // One that is gone already is what was wanted.
        let _ = rustix::fs::unlinkat(CWD, path, AtFlags::empty());
    }
}

/// Moves a file out of the way, with what belongs to it and bears its name and one of `beside`, by adding `suffix` to its name.
/// Nothing is replaced. Gives its new name.
///
/// # Errors
/// Where it is no regular file, where the new name is taken, or what the system says.
pub fn set_aside(path: &Path, suffix: &str, beside: &[&str]) -> Result<PathBuf, FileError> {
    let (folder_path, name) = parts(path)?;
    let folder = open_folder(&folder_path, path)?;
    let stat = rustix::fs::statat(&folder, &name, AtFlags::SYMLINK_NOFOLLOW)
        .map_err(FileError::io(path, "set aside"))?;
    must_be_regular(&stat, path)?;
    let with = |name: &OsStr, suffix: &str| {
        let mut longer = name.to_owned();
        longer.push(suffix);
        longer
    };
    let aside = with(&name, suffix);
    let mv = |from: &OsStr, to: &OsStr| match rustix::fs::renameat_with(
        &folder,
        from,
        &folder,
        to,
        RenameFlags::NOREPLACE,
    ) {
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            rustix::fs::renameat(&folder, from, &folder, to)
        }
        done => done,
    };
    mv(&name, &aside).map_err(FileError::io(path, "set aside"))?;
    for end in beside {
        match mv(&with(&name, end), &with(&aside, end)) {
            Ok(()) | Err(rustix::io::Errno::NOENT) => {}
            Err(e) => return Err(FileError::io(path, "set aside what belongs to")(e)),
        }
    }
    Ok(folder_path.join(aside))
}
