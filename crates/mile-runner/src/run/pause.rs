//! Commands, rests, pauses, and the time between two parts of a run.

use super::ends::LegEnd;
use super::ends::Watch;
use super::go_on::GoOn;
use super::state::{ATTENTION, Run};
use crate::Speed;
use crate::message::{Command, EventKind, Message};
use crossbeam_channel::RecvTimeoutError;
use mile_core::{Nanos, Op, Sample};
use mile_course::PlannedLeg;
use mile_drive::DriveError;

impl Run<'_> {
    /// Fills the time between the end of an interrupted run and now with a sample in which nothing was done.
    pub(super) fn bridge(&mut self, index: u32, leg: &PlannedLeg, on: &GoOn) {
        let end = self.drive.now();
        let start = self.live.trace().end(self.live.trace().len());
        if end > start {
            let sample = Sample { start, end, leg: index, op: Op::Idle, ..Sample::default() };
            self.live.push(&sample, &leg.name);
            (self.tell)(Message::Sample(sample));
            self.sample_start = end;
        }
        let (name, gap) = (leg.name.clone(), end.since(start));
        self.event(EventKind::WentOn { leg: index, name, gap, moved: on.moved });
    }

    pub(super) fn rest(&mut self, index: u32, leg: &PlannedLeg, began: Nanos) -> Result<LegEnd, DriveError> {
        let mut paused = Nanos(0);
        let mut watch = Watch::new(&leg.seen, self.drive.now(), 0, self.errors);
        loop {
            if let Some(why) = self.seen(&mut watch) {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned(why));
            }
            let deadline = leg.time.map(|t| began.plus(t).plus(paused));
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned(format!("{} have passed", leg.time.unwrap_or_default())));
            }
            let until = self.slice_end(deadline);
            self.drive.idle(until);
            if let Some(end) = self.after_slice(index, Op::Idle)? {
                return Ok(end);
            }
            if self.paused {
                match self.pause(index)? {
                    (Some(end), _) => return Ok(end),
                    (None, time) => paused = paused.plus(time),
                }
            }
        }
    }

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
