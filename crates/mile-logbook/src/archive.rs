//! What keeps a run: the logbook, and in tests what fails on cue.

use crate::store::{Block, Logbook, LogbookError};
use mile_core::channel::Reading;
use mile_runner::{HealthShot, Outcome, RunHead, Status};
use serde::{Deserialize, Serialize};
use std::path::Path;

/// What keeps a run: the logbook, and in tests what fails on cue.
pub trait Archive: Send {
    /// Writes what is known of a run when it begins.
    ///
    /// # Errors
    /// Where it cannot be written; so for all of these.
    fn amend(&mut self, run: i64, head: &RunHead) -> Result<(), LogbookError>;
    /// Appends blocks of several lanes, all or none.
    #[expect(clippy::missing_errors_doc, reason = "as `begin`")]
    fn append(&mut self, run: i64, blocks: &[Block<'_>]) -> Result<(), LogbookError>;
    /// Keeps the health at a moment.
    #[expect(clippy::missing_errors_doc, reason = "as `begin`")]
    fn keep_health(&mut self, run: i64, lane: usize, shot: &HealthShot) -> Result<(), LogbookError>;
    /// Keeps the latency of a leg.
    #[expect(clippy::missing_errors_doc, reason = "as `begin`")]
    fn keep_latency(&mut self, run: i64, lane: usize, leg: u32, histogram: &[u8])
    -> Result<(), LogbookError>;
    /// Keeps readings of a channel.
    #[expect(clippy::missing_errors_doc, reason = "as `begin`")]
    fn keep_readings(&mut self, run: i64, channel: u32, readings: &[Reading]) -> Result<(), LogbookError>;
    /// Closes the entry. Each lane has ended so.
    #[expect(clippy::missing_errors_doc, reason = "as `begin`")]
    fn close(&mut self, run: i64, status: Status, lanes: &[Option<Outcome>]) -> Result<(), LogbookError>;
    /// Whether each commit waits for the disk.
    #[expect(clippy::missing_errors_doc, reason = "as `begin`")]
    fn wait_for_disk(&mut self, wait: bool) -> Result<(), LogbookError>;
    /// What makes the disk keep what is committed, where no commit waits for it. It is called again and again, on another thread.
    fn keeper(&self) -> Box<dyn FnMut() + Send>;
    /// Where it is.
    fn path(&self) -> &Path;
}

impl Archive for Logbook {
    fn amend(&mut self, run: i64, head: &RunHead) -> Result<(), LogbookError> {
        Self::amend(self, run, head)
    }
    fn append(&mut self, run: i64, blocks: &[Block<'_>]) -> Result<(), LogbookError> {
        Self::append(self, run, blocks)
    }
    fn keep_health(&mut self, run: i64, lane: usize, shot: &HealthShot) -> Result<(), LogbookError> {
        Self::keep_health(self, run, lane, shot)
    }
    fn keep_latency(
        &mut self,
        run: i64,
        lane: usize,
        leg: u32,
        histogram: &[u8],
    ) -> Result<(), LogbookError> {
        Self::keep_latency(self, run, lane, leg, histogram)
    }
    fn keep_readings(&mut self, run: i64, channel: u32, readings: &[Reading]) -> Result<(), LogbookError> {
        Self::keep_readings(self, run, channel, readings)
    }
    fn close(&mut self, run: i64, status: Status, lanes: &[Option<Outcome>]) -> Result<(), LogbookError> {
        self.finish(run, status, lanes)
    }
    fn wait_for_disk(&mut self, wait: bool) -> Result<(), LogbookError> {
        Self::wait_for_disk(self, wait)
    }
    fn keeper(&self) -> Box<dyn FnMut() + Send> {
        Self::keeper(self)
    }
    fn path(&self) -> &Path {
        Self::path(self)
    }
}

/// What is kept of a lane: nothing but of one that goes on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Kept {
    /// Number of samples.
    pub samples: u64,
    /// Number of events.
    pub events: u64,
}
