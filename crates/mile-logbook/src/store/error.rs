//! What can go wrong with a logbook.

use super::engine::Fault;
use mile_files::FileError;
use std::path::{Path, PathBuf};

/// What can go wrong with a logbook.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum LogbookError {
    #[error(
        "the logbook {path} is damaged or no logbook ({source}). It is left as it is. To go on with a new one in its place, run: hollow-mile logbook set-aside --logbook {path}"
    )]
    Damaged { path: PathBuf, source: Fault },
    #[error(
        "the logbook {path} is damaged or no logbook (it does not begin as one does). It is left as it is. To go on with a new one in its place, run: hollow-mile logbook set-aside --logbook {path}"
    )]
    NoLogbook { path: PathBuf },
    #[error(
        "there is no logbook {path} yet: the first run makes one. To read another logbook, name it with --logbook"
    )]
    Absent { path: PathBuf },
    #[error(
        "the logbook {path} is a symbolic link to {target}, which is not there. Links are not followed for writing; name the file itself with --logbook"
    )]
    LeadsNowhere { path: PathBuf, target: PathBuf },
    #[error("{path} is an SQLite file, but no logbook. Name another file with --logbook")]
    Foreign { path: PathBuf },
    #[error("the logbook {path} is empty: no run was kept in it yet")]
    Blank { path: PathBuf },
    #[error("the logbook cannot be used: {0}")]
    File(FileError),
    #[error("the logbook {path} is sound, with {runs} runs. To begin a new one all the same, add --healthy")]
    Healthy { path: PathBuf, runs: usize },
    #[error(
        "the logbook {path} was written by a newer Hollow Mile (its format is {found}, this program knows {known}). Use that, or another logbook with --logbook"
    )]
    Newer { path: PathBuf, found: i64, known: i64 },
    #[error("cannot {doing} the logbook {path}: {source}")]
    Io { path: PathBuf, doing: &'static str, source: std::io::Error },
    #[error("cannot use the logbook {path}: {source}")]
    Database { path: PathBuf, source: Fault },
    #[error(
        "the logbook {path} does not take the end of the run. What it lacks is in {aside}; bring it in with: hollow-mile logbook recover {aside}"
    )]
    Aside { path: PathBuf, aside: PathBuf },
    #[error("the logbook {path} does not take what the run told last; it is lost")]
    NotKept { path: PathBuf },
    #[error("{path} cannot be brought into a logbook: {why}. It is left as it is")]
    BadAside { path: PathBuf, why: String },
    #[error("`{tag}` is no tag: {why}")]
    BadTag { tag: String, why: &'static str },
    #[error("there is no run {wanted} in the logbook {path}; `hollow-mile logbook list` shows what there is")]
    NoSuchRun { path: PathBuf, wanted: String },
    #[error(
        "run {run} was taken off the list of the logbook {path}; bring it back with: hollow-mile logbook restore {run}"
    )]
    Removed { path: PathBuf, run: i64 },
    #[error("run {run} is not underway")]
    NotUnderway { run: i64 },
    #[error("run {run} is underway; it can be taken off the list once it has ended")]
    Underway { run: i64 },
    #[error("{path} has no right to do that: {source}")]
    Denied { path: PathBuf, source: Fault },
    #[error("the archive {path} cannot be reached: {source}")]
    Lost { path: PathBuf, source: Fault },
    #[error("the logbook {path} was written to while it was read; try again")]
    Changed { path: PathBuf },
    #[error("{address}: {why}")]
    Address { address: String, why: String },
    #[error(
        "{path} is no archive of a lab yet; whoever runs the database sets it up with: hollow-mile lab init --lab {path}"
    )]
    NoLab { path: PathBuf },
    #[error("run {run} in the logbook {path} cannot be read: {why}. The other runs are not affected")]
    BadRun { path: PathBuf, run: i64, why: String },
}

pub(super) type Result<T> = std::result::Result<T, LogbookError>;

impl From<FileError> for LogbookError {
    fn from(error: FileError) -> Self {
        match error {
            FileError::Io { path, doing: "open", source }
                if source.kind() == std::io::ErrorKind::NotFound =>
            {
                match std::fs::read_link(&path) {
                    Ok(target) => Self::LeadsNowhere { path, target },
                    Err(_) => Self::Absent { path },
                }
            }
            FileError::Io { path, doing, source } => Self::Io { path, doing, source },
            other => Self::File(other),
        }
    }
}

impl LogbookError {
    /// What a fault of the database means for a logbook.
    pub(crate) fn of(path: &Path) -> impl Fn(Fault) -> Self + use<> {
        let path = path.to_owned();
        move |source| {
            let path = path.clone();
            match source {
                Fault::Damaged(_) => Self::Damaged { path, source },
                Fault::Denied(_) => Self::Denied { path, source },
                Fault::Lost(_) => Self::Lost { path, source },
                _ => Self::Database { path, source },
            }
        }
    }
}
