//! An open logbook, and how its database is asked.

use super::engine::{Answer, Engine, Fault, Row, Value};
use super::error::{LogbookError, Result};
use super::lies::Lies;
use mile_runner::RunHead;
use std::path::{Path, PathBuf};

/// Version of the encoding of samples.
pub(crate) const SAMPLES_VERSION: u8 = 1;
/// Tries to open a logbook while files come and go below its path.
pub(super) const TRIES: usize = 20;

/// An open logbook.
#[derive(Debug)]
pub struct Logbook {
    pub(super) path: PathBuf,
    pub(super) db: Box<dyn Engine>,
    pub(super) version: i64,
    /// What its file was when it was opened to read it as it lies there, without regard to anybody who writes.
    pub(super) as_it_was: Option<Lies>,
}

impl Logbook {
    pub(crate) fn wrap(&self) -> impl Fn(Fault) -> LogbookError + use<> {
        LogbookError::of(&self.path)
    }

    /// As [`Logbook::wrap`], for what is read of one run: a value of another kind than it should have is that run's fault only.
    pub(crate) fn wrap_of(&self, run: i64) -> impl Fn(Fault) -> LogbookError + use<> {
        let (wrap, path) = (self.wrap(), self.path.clone());
        move |source| match source {
            Fault::Value(why) => LogbookError::BadRun { path: path.clone(), run, why },
            other => wrap(other),
        }
    }

    /// Whether whoever writes a run may still be there.
    pub(crate) fn is_written(&self, owner: &str) -> bool {
        !self.db.is_gone(owner)
    }

    /// Carries out a statement, and gives how many rows it changed.
    pub(crate) fn execute(&self, statement: &str, values: &[Value<'_>]) -> Result<u64> {
        self.db.execute(statement, values).map_err(self.wrap())
    }

    /// All rows of an answer.
    pub(crate) fn rows<T>(
        &self,
        statement: &str,
        values: &[Value<'_>],
        read: impl Fn(&dyn Row) -> Answer<T>,
    ) -> Answer<Vec<T>> {
        let mut all = Vec::new();
        self.db.each(statement, values, &mut |row| {
            all.push(read(row)?);
            Ok(())
        })?;
        Ok(all)
    }

    /// Asks the archive to tell of runs that others write. Gives whether it does.
    pub(crate) fn listen(&self) -> Result<bool> {
        self.db.listen().map_err(self.wrap())
    }

    /// The runs of which the archive told since it was asked last.
    pub(crate) fn told(&self) -> Result<Vec<i64>> {
        self.db.told().map_err(self.wrap())
    }

    /// Hands over the rows of an answer one after another.
    pub(crate) fn db_each(
        &self,
        statement: &str,
        values: &[Value<'_>],
        take: &mut dyn FnMut(&dyn Row) -> Answer<()>,
    ) -> Answer<()> {
        self.db.each(statement, values, take)
    }

    /// The first row of an answer, if there is one.
    pub(crate) fn first<T>(
        &self,
        statement: &str,
        values: &[Value<'_>],
        read: impl Fn(&dyn Row) -> Answer<T>,
    ) -> Answer<Option<T>> {
        Ok(self.rows(statement, values, read)?.into_iter().next())
    }

    /// As [`Logbook::first`], of what is not one run's.
    pub(crate) fn one<T>(
        &self,
        statement: &str,
        values: &[Value<'_>],
        read: impl Fn(&dyn Row) -> Answer<T>,
    ) -> Result<Option<T>> {
        self.first(statement, values, read).map_err(self.wrap())
    }

    /// Does all of something or nothing, with one wait for the medium. Part of what is underway where it is called within.
    pub(crate) fn together<T>(&mut self, work: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        if self.db.in_transaction() {
            return work(self);
        }
        let wrap = self.wrap();
        self.db.begin().map_err(&wrap)?;
        let done = work(self);
        let ended = self.db.end(done.is_ok());
        let done = done?;
        ended.map_err(wrap)?;
        Ok(done)
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn bad(&self, run: i64, why: &dyn std::fmt::Display) -> LogbookError {
        LogbookError::BadRun { path: self.path.clone(), run, why: why.to_string() }
    }

    /// Whether each commit waits for the disk. Without, what is committed outlives this process but not a power cut, until
    /// [`Logbook::keeper`] was called; the recorder does that beside its work, so that a slow disk delays nothing.
    pub(crate) fn wait_for_disk(&self, wait: bool) -> Result<()> {
        self.db.wait_for_disk(wait).map_err(self.wrap())
    }

    /// Makes the disk keep what is committed, now.
    pub(crate) fn sync(&self) {
        self.db.sync();
    }

    /// What the file is called in the archive of a lab, wherever it lies: 128 random bits, in digits of 16. It is made when it is asked for first.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub(crate) fn own_id(&mut self) -> Result<String> {
        let made =
            "INSERT INTO own (name, value) VALUES ('id', lower(hex(randomblob(16)))) ON CONFLICT DO NOTHING";
        self.execute(made, &[])?;
        let id = self.one("SELECT value FROM own WHERE name = 'id'", &[], |row| row.string(0))?;
        id.ok_or_else(|| self.bad(0, &"the file has no name of its own"))
    }

    /// What makes the disk keep what is committed, beside the commits.
    pub(crate) fn keeper(&self) -> Box<dyn FnMut() + Send + 'static> {
        self.db.keeper()
    }
}

/// Model, serial number and firmware of the drive of a lane, where they are known.
pub(crate) fn drive_of_lane(head: &RunHead, lane: usize) -> (Option<&str>, Option<&str>, Option<&str>) {
    match head.lanes.get(lane).map(|l| &l.drive) {
        Some(drive) => {
            (Some(drive.model.trim()), drive.serial.as_deref().map(str::trim), drive.firmware.as_deref())
        }
        None => (None, None, None),
    }
}
