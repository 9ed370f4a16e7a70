//! Opening a logbook: to write to it, or to read it, where nothing is written, wherever it lies.

use super::book::{Logbook, TRIES};
use super::error::{LogbookError, Result};
use super::lies::Lies;
use super::sqlite::{self, File};
use super::{place, schema};
use mile_files::database::{self, Access, Head};
use rusqlite::{ErrorCode, OpenFlags};
use std::path::{Path, PathBuf};

impl Logbook {
    /// Opens a logbook to write to it, or makes a new one where there is no file. Runs whose process is gone are marked as cut
    /// short.
    ///
    /// # Errors
    /// Where what lies there is no regular file, no logbook, damaged, newer, or cannot be written. It is then left as it is.
    pub fn open(path: &Path) -> Result<Self> {
        Self::to_write(path, true)
    }

    /// Opens a logbook that must exist, to write to it.
    ///
    /// # Errors
    /// As [`Logbook::open`], and where there is none.
    pub fn open_existing(path: &Path) -> Result<Self> {
        Self::to_write(path, false)
    }

    fn to_write(path: &Path, create: bool) -> Result<Self> {
        match place::lab(path)? {
            Some(lab) => lab.open(),
            None => sqlite::open(path, create),
        }
    }

    /// Opens a logbook that must exist, to read it. Nothing is created or written, and it may lie on a file system that is full or
    /// cannot be written.
    ///
    /// # Errors
    /// Where there is none, or it cannot be read.
    pub fn read(path: &Path) -> Result<Self> {
        if let Some(lab) = place::lab(path)? {
            return lab.open();
        }
        let checked = database::check(path, Access::Read)?;
        if checked.head() == Head::Empty {
            return Err(LogbookError::Blank { path: path.to_owned() });
        }
        File::recognise(&checked)?;
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let mut file = if checked.has_log() {
            connect_to_log(checked.path(), flags)?
        } else {
            // Nobody writes to it: it is read as it lies there. SQLite would else put its shared index beside it.
            let as_it_was = Lies::at(checked.path());
            let uri = format!("file:{}?immutable=1", escaped(checked.path()));
            let mut file =
                File::connect(Path::new(&uri), checked.path(), flags | OpenFlags::SQLITE_OPEN_URI)?;
            file.as_it_was = as_it_was;
            file
        };
        file.check()?;
        schema::read_as_now(&file.engine.db, file.version, file.wrap())?;
        Ok(file.into_logbook())
    }

    /// Whether it may be kept open: what others write to it is seen.
    pub(crate) fn is_followed(&self) -> bool {
        self.as_it_was.is_none()
    }

    /// Whether what was read so far holds: nobody has changed a file meanwhile that is read without regard to who writes to it.
    pub(crate) fn is_as_it_was(&self) -> bool {
        self.as_it_was.is_none() || self.as_it_was == Lies::at(&self.path)
    }

    /// Reads from a logbook with `with`, again where somebody wrote to it meanwhile.
    ///
    /// # Errors
    /// As [`Logbook::read`], and what `with` gives.
    pub fn reading<T>(path: &Path, with: impl Fn(&Self) -> Result<T>) -> Result<T> {
        let mut tries = TRIES;
        loop {
            let book = Self::read(path)?;
            let read = with(&book);
            if book.is_as_it_was() || tries == 0 {
                return read;
            }
            tries -= 1;
        }
    }
}

/// Opens a logbook that has a log to read it. SQLite puts the index of the log beside it; where there is no room for that, the index is
/// kept in memory. Nobody can write there then, so that nobody has to be locked out.
fn connect_to_log(path: &Path, flags: OpenFlags) -> Result<File> {
    let file = File::connect(path, path, flags)?;
    let no_room = |e: &rusqlite::Error| e.sqlite_error_code() == Some(ErrorCode::SystemIoFailure);
    let looked =
        file.engine.db.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get::<_, i64>(0));
    if !looked.is_err_and(|e| no_room(&e)) {
        return Ok(file);
    }
    let as_it_was = Lies::at(path);
    let uri = format!("file:{}?vfs=unix-none", escaped(path));
    let mut file = File::connect(Path::new(&uri), path, flags | OpenFlags::SQLITE_OPEN_URI)?;
    file.engine.db.pragma_update(None, "locking_mode", "EXCLUSIVE").map_err(file.wrap())?;
    file.as_it_was = as_it_was;
    Ok(file)
}

/// The path of a file as a URI takes it (RFC 3986, section 2.1).
fn escaped(path: &Path) -> String {
    use std::os::unix::ffi::OsStrExt;
    let one = |b: &u8| match b {
        b'/' | b'.' | b'-' | b'_' | b'0'..=b'9' | b'a'..=b'z' | b'A'..=b'Z' => char::from(*b).to_string(),
        b => format!("%{b:02X}"),
    };
    path.as_os_str().as_bytes().iter().map(one).collect()
}

/// Moves a damaged logbook out of the way, with what belongs to it, and gives its new name. Nothing is deleted. One that is sound
/// is moved only if `healthy` says so.
///
/// # Errors
/// Where what lies there is no regular file or is sound, or where it cannot be moved.
pub fn set_aside(path: &Path, stamp: i64, healthy: bool) -> Result<PathBuf> {
    let sound = Logbook::reading(path, Logbook::list);
    match sound {
        Ok(runs) if !healthy => {
            return Err(LogbookError::Healthy { path: path.to_owned(), runs: runs.len() });
        }
        Err(
            e @ (LogbookError::File(_)
            | LogbookError::Io { .. }
            | LogbookError::Absent { .. }
            | LogbookError::Newer { .. }),
        ) => {
            return Err(e);
        }
        _ => {}
    }
    let suffix = format!(".set-aside-{stamp}");
    Ok(mile_files::set_aside(path, &suffix, &["-wal", "-shm", "-journal"])?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use mile_runner::{RunHead, Status};

    /// What was read of a file that nobody had open may be torn where somebody wrote to it since.
    #[test]
    fn a_file_that_was_changed_while_it_was_read_is_known_to_be() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.logbook");
        let enter = || {
            let mut book = Logbook::open(&path).unwrap();
            let run = book.begin(&RunHead::default()).unwrap();
            book.finish(run, Status::Done, &[]).unwrap();
        };
        enter();
        let book = Logbook::read(&path).unwrap();
        assert!(book.as_it_was.is_some() && book.is_as_it_was());
        enter();
        assert!(!book.is_as_it_was());
        assert!(Logbook::read(&path).unwrap().is_as_it_was());
    }
}
