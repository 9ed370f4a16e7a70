//! Runs that were taken off the list. They stay in the file, and can be brought back, until they are erased.

use super::{Logbook, LogbookError, Result};
use mile_runner::Status;
use rusqlite::{OptionalExtension, Transaction, TransactionBehavior, params};

impl Logbook {
    /// Whether a run was taken off the list.
    pub(super) fn is_removed(&self, run: i64) -> Result<bool> {
        let found = self.db.query_row("SELECT 1 FROM removed WHERE run = ?1", [run], |_| Ok(())).optional();
        found.map(|f| f.is_some()).map_err(self.wrap())
    }

    /// Takes a run off the list, at `now` in seconds since 1970. Nothing of it is lost.
    ///
    /// # Errors
    /// Where there is no such run on the list, or it is underway.
    pub fn remove(&mut self, run: i64, now: i64) -> Result<()> {
        self.resolve(&run.to_string())?;
        // A run whose row is damaged can be taken off too.
        if self.ends(run).is_ok_and(|(_, status, _)| status == Status::Underway) {
            return Err(LogbookError::Underway { run });
        }
        let done =
            self.db.execute("INSERT OR IGNORE INTO removed (run, at) VALUES (?1, ?2)", params![run, now]);
        done.map(|_| ()).map_err(self.wrap())
    }

    /// Brings a run back that was taken off the list. Gives whether it was.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn restore(&mut self, run: i64) -> Result<bool> {
        self.db.execute("DELETE FROM removed WHERE run = ?1", [run]).map(|n| n > 0).map_err(self.wrap())
    }

    /// The runs that were taken off the list, the one that was last first, with when that was in seconds since 1970.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn removed(&self) -> Result<Vec<(i64, i64)>> {
        let wrap = self.wrap();
        let mut query =
            self.db.prepare("SELECT run, at FROM removed ORDER BY at DESC, run DESC").map_err(&wrap)?;
        let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).map_err(&wrap)?;
        rows.collect::<rusqlite::Result<_>>().map_err(wrap)
    }

    /// The bytes that what is kept of a run takes, without the space between.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn size(&self, run: i64) -> Result<u64> {
        let sum = "SELECT
            (SELECT length(head) FROM runs WHERE id = ?1)
            + (SELECT coalesce(sum(length(data)), 0) FROM samples WHERE run = ?1)
            + (SELECT coalesce(sum(length(event)), 0) FROM events WHERE run = ?1)
            + (SELECT coalesce(sum(length(histogram)), 0) FROM latencies WHERE run = ?1)
            + (SELECT coalesce(sum(length(shot)), 0) FROM health WHERE run = ?1)
            + (SELECT coalesce(sum(length(data)), 0) FROM readings WHERE run = ?1)";
        let mut query = self.db.prepare_cached(sum).map_err(self.wrap_of(run))?;
        let size: Option<i64> = query.query_row([run], |row| row.get(0)).map_err(self.wrap_of(run))?;
        Ok(size.unwrap_or(0).unsigned_abs())
    }

    /// Erases runs that were taken off the list, and gives the room that they took back to the file system, where no other process is at work in the
    /// file. What their snapshots of the health say of the drives stays. Runs that are on the list are passed over. Gives how many were erased.
    ///
    /// # Errors
    /// Where the logbook cannot be written; then either all are erased or none.
    pub fn erase(&mut self, runs: &[i64]) -> Result<usize> {
        let wrap = self.wrap();
        let change = Transaction::new(&mut self.db, TransactionBehavior::Immediate).map_err(&wrap)?;
        let mut erased = 0;
        for run in runs {
            // What belongs to it goes with it: each table that refers to a run says so.
            erased += change
                .execute("DELETE FROM runs WHERE id = ?1 AND id IN (SELECT run FROM removed)", [run])
                .map_err(&wrap)?;
        }
        change.commit().map_err(wrap)?;
        if erased > 0 {
            // Where another process is at work in the file, later runs fill the room.
            let _ = self.db.execute_batch("VACUUM");
        }
        Ok(erased)
    }
}
