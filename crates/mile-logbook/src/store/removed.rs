//! Runs that were taken off the list. They stay in the file, and can be brought back, until they are erased.

use super::book::Logbook;
use super::engine::values;
use super::error::{LogbookError, Result};
use mile_runner::Status;

impl Logbook {
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
        let statement = "INSERT INTO removed (run, at) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        self.execute(statement, values![run, now]).map(|_| ())
    }

    /// Brings a run back that was taken off the list. Gives whether it was.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn restore(&mut self, run: i64) -> Result<bool> {
        self.execute("DELETE FROM removed WHERE run = ?1", values![run]).map(|n| n > 0)
    }

    /// The runs that were taken off the list, the one that was last first, with when that was in seconds since 1970.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn removed(&self) -> Result<Vec<(i64, i64)>> {
        let statement = "SELECT run, at FROM removed ORDER BY at DESC, run DESC";
        self.rows(statement, &[], |row| Ok((row.integer(0)?, row.integer(1)?))).map_err(self.wrap())
    }

    /// The bytes that what is kept of a run takes, without the space between.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn size(&self, run: i64) -> Result<u64> {
        let sum = "SELECT CAST(
            (SELECT length(head) FROM runs WHERE id = ?1)
            + (SELECT coalesce(sum(length(data)), 0) FROM samples WHERE run = ?1)
            + (SELECT coalesce(sum(length(event)), 0) FROM events WHERE run = ?1)
            + (SELECT coalesce(sum(length(histogram)), 0) FROM latencies WHERE run = ?1)
            + (SELECT coalesce(sum(length(shot)), 0) FROM health WHERE run = ?1)
            + (SELECT coalesce(sum(length(data)), 0) FROM readings WHERE run = ?1) AS BIGINT)";
        let size = self.first(sum, values![run], |row| row.maybe_integer(0)).map_err(self.wrap_of(run))?;
        Ok(size.flatten().unwrap_or(0).unsigned_abs())
    }

    /// Erases runs that were taken off the list, and gives the room that they took back to the file system, where no other process is at work in the
    /// file. What their snapshots of the health say of the drives stays. Runs that are on the list are passed over. Gives how many were erased.
    ///
    /// # Errors
    /// Where the logbook cannot be written; then either all are erased or none.
    pub fn erase(&mut self, runs: &[i64]) -> Result<usize> {
        let erased = self.together(|book| {
            // What belongs to it goes with it: each table that refers to a run says so.
            let statement = "DELETE FROM runs WHERE id = ?1 AND id IN (SELECT run FROM removed)";
            runs.iter().map(|run| book.execute(statement, values![*run])).sum::<Result<u64>>()
        })?;
        if erased > 0 {
            self.db.give_back_room();
        }
        Ok(erased as usize)
    }
}
