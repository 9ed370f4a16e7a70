//! Opening files to write them.
//!
//! Every file that the program writes is opened here, and nowhere else (the test `rooms` reads the workspace for that). What
//! always holds:
//!
//! - A file is created new, or it is a regular file that the caller recognises as its own. A device, a pipe, a socket, a folder or
//!   a symbolic link is never opened for writing, whatever lies at the path, and whatever is put there between a check and
//!   an open: each check is made on a descriptor, and that same descriptor is what is used.
//! - A file is removed only if it is the file that was opened here: device and inode number are compared.
//! - A file that replaces another appears whole or not at all.
//!
//! Block devices are not opened here: permission to write to one is given by `mile_drive::block::permit`.

pub mod database;
mod error;
mod folder;
mod held;
mod identity;
mod private;
mod whole;

pub use error::FileError;
pub use folder::HeldFolder;
pub use held::Held;
pub use identity::FileId;
pub use private::{private_folder, remove_socket, set_aside};
pub use whole::{Replace, write_whole};

/// The folder of a path, and its last part.
fn parts(path: &std::path::Path) -> Result<(std::path::PathBuf, std::ffi::OsString), FileError> {
    let Some(name) = path.file_name() else {
        return Err(FileError::NotRegular { path: path.to_owned(), kind: "no name of a file" });
    };
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty());
    Ok((folder.unwrap_or(std::path::Path::new(".")).to_owned(), name.to_owned()))
}

/// Eight random letters, for names that nobody else uses.
fn random_letters() -> String {
    let mut bytes = [0_u8; 8];
    // Where the kernel has no randomness yet, a name that is taken is an error and not a danger.
    let _ = rustix::rand::getrandom(&mut bytes, rustix::rand::GetRandomFlags::NONBLOCK);
    bytes.iter().map(|b| char::from(b'a' + b % 26)).collect()
}
