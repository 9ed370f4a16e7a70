//! Why a file was not opened, written or removed.

use std::io;
use std::path::PathBuf;

/// What can be wrong with a file that is to be written. Nothing was written where one of these is given, unless it says so.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum FileError {
    #[error("{path} is a symbolic link. Links are not followed for writing; name the file that it leads to")]
    Link { path: PathBuf },
    #[error("{path} is {kind}, not a regular file. Nothing was written; name a file")]
    NotRegular { path: PathBuf, kind: &'static str },
    #[error(
        "{path} exists and is left as it is; name another file, or add --overwrite where a command has that"
    )]
    Exists { path: PathBuf },
    #[error("{path} was exchanged while it was opened. Nothing was written to it; try again")]
    Changed { path: PathBuf },
    #[error("{path} is in use by another run")]
    Locked { path: PathBuf },
    #[error("cannot {doing} {path}: {source}")]
    Io { path: PathBuf, doing: &'static str, source: io::Error },
}

impl FileError {
    pub(crate) fn io<E: Into<io::Error>>(
        path: &std::path::Path,
        doing: &'static str,
    ) -> impl Fn(E) -> Self + use<E> {
        let path = path.to_owned();
        move |source| Self::Io { path: path.clone(), doing, source: source.into() }
    }

    /// The number of the system's error, where there is one.
    pub fn errno(&self) -> Option<i32> {
        match self {
            Self::Io { source, .. } => source.raw_os_error(),
            _ => None,
        }
    }
}
