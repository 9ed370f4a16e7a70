//! Commands, as a run obeys them.

use super::ends::LegEnd;
use super::state::{ATTENTION, Run};
use crate::message::{Command, EventKind};
use crossbeam_channel::RecvTimeoutError;

impl Run<'_> {
    /// Waits a moment for a command, and obeys it.
    pub(super) fn wait_for_command(&mut self) -> Option<LegEnd> {
        let timeout = std::time::Duration::from_nanos(ATTENTION.0);
        match self.commands.recv_timeout(timeout) {
            Ok(command) => self.obey(command),
            Err(RecvTimeoutError::Timeout) => None,
            Err(RecvTimeoutError::Disconnected) => {
                self.paused = false;
                None
            }
        }
    }

    pub(super) fn obey(&mut self, command: Command) -> Option<LegEnd> {
        match command {
            Command::Pause => self.paused = true,
            // Whoever goes on has answered what was asked, too.
            Command::Resume => (self.paused, self.answered) = (false, true),
            Command::Note(text) => self.event(EventKind::Note(text)),
            Command::Skip => {
                self.paused = false;
                return Some(LegEnd::Skipped);
            }
            Command::Stop => {
                self.stopping = true;
                return Some(LegEnd::Stopped);
            }
        }
        None
    }
}
