//! Commands, and pauses.

use super::{ATTENTION, LegEnd, Run};
use crate::Speed;
use crate::message::{Command, EventKind};
use crossbeam_channel::RecvTimeoutError;
use mile_core::{Nanos, Op};
use mile_drive::DriveError;

impl Run<'_> {
    /// Takes samples without load until the pause ends, or the leg does. Gives how long it was.
    pub(super) fn pause(&mut self, index: u32) -> Result<(Option<LegEnd>, Nanos), DriveError> {
        let began = self.drive.now();
        self.event(EventKind::Paused);
        while self.paused {
            // A simulated drive at full speed would let days pass while nobody touches a key.
            let end = if self.speed == Speed::Max {
                self.wait_for_command()
            } else {
                let until = self.slice_end(None);
                self.drive.idle(until);
                self.after_slice(index, Op::Idle)?
            };
            if let Some(end) = end {
                self.close_sample(index, Op::Idle);
                return Ok((Some(end), Nanos(0)));
            }
        }
        self.close_sample(index, Op::Idle);
        self.event(EventKind::Resumed);
        Ok((None, self.drive.now().since(began)))
    }

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
