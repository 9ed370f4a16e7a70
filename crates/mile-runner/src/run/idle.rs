//! Time without load: rests, pauses, questions to the operator, the wait for other lanes, and the time between two parts of a run.

use super::ends::{Cooling, LegEnd, Watch};
use super::go_on::GoOn;
use super::state::Run;
use crate::Speed;
use crate::message::{EventKind, Message};
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
        let seen = self.wait(index, leg, began)?;
        Ok(seen.unwrap_or_else(|| LegEnd::Planned(format!("{} have passed", leg.time.unwrap_or_default()))))
    }

    /// Waits without load until something is seen that the leg waits for; `None` where its time has passed before.
    pub(super) fn wait(
        &mut self,
        index: u32,
        leg: &PlannedLeg,
        began: Nanos,
    ) -> Result<Option<LegEnd>, DriveError> {
        let mut paused = Nanos(0);
        let mut watch = Watch::new(&leg.seen, self.drive.now(), 0, self.errors);
        loop {
            if let Some(why) = self.seen(&mut watch) {
                self.close_sample(index, Op::Idle);
                return Ok(Some(LegEnd::Planned(why)));
            }
            let deadline = leg.time.map(|t| began.plus(t).plus(paused));
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                self.close_sample(index, Op::Idle);
                return Ok(None);
            }
            let until = self.slice_end(deadline);
            self.drive.idle(until);
            if let Some(end) = self.after_slice(index, Op::Idle)? {
                return Ok(Some(end));
            }
            if self.paused {
                match self.pause(index)? {
                    (Some(end), _) => return Ok(Some(end)),
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

    /// Rests until it is cool, as a guard asked for. Gives how the leg ends where it does meanwhile, and how long it was.
    pub(super) fn cool(
        &mut self,
        index: u32,
        cooling: Cooling,
    ) -> Result<(Option<LegEnd>, Nanos), DriveError> {
        let began = self.drive.now();
        let deadline = began.plus(cooling.longest);
        while self.last.temp.is_some_and(|t| t >= cooling.below) && self.drive.now() < deadline {
            let until = self.slice_end(Some(deadline));
            self.drive.idle(until);
            if let Some(end) = self.after_slice(index, Op::Idle)? {
                self.close_sample(index, Op::Idle);
                return Ok((Some(end), Nanos(0)));
            }
        }
        self.close_sample(index, Op::Idle);
        let took = self.drive.now().since(began);
        self.event(EventKind::Cooled { took });
        Ok((None, took))
    }

    /// Tells the operator something, and waits for an answer.
    pub(super) fn ask(
        &mut self,
        index: u32,
        text: &str,
        at_most: Option<Nanos>,
    ) -> Result<LegEnd, DriveError> {
        self.event(EventKind::Asked(text.to_owned()));
        self.answered = false;
        let deadline = at_most.map(|t| self.drive.now().plus(t));
        loop {
            if self.answered {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned("the operator answered".into()));
            }
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned(format!("nobody answered for {}", at_most.unwrap_or_default())));
            }
            // A simulated drive at full speed would let days pass while nobody touches a key.
            let end = if self.speed == crate::Speed::Max && deadline.is_none() {
                self.wait_for_command()
            } else {
                let until = self.slice_end(deadline);
                self.drive.idle(until);
                self.after_slice(index, Op::Idle)?
            };
            if let Some(end) = end {
                self.close_sample(index, Op::Idle);
                return Ok(end);
            }
            if self.paused {
                // There is nothing to pause; whoever goes on has answered.
                self.paused = false;
            }
        }
    }

    /// Waits, without load, until all lanes have come to a stage.
    pub(super) fn meet(&mut self, stage: usize) -> Result<Option<LegEnd>, DriveError> {
        let Some((meeting, _)) = self.seat else { return Ok(None) };
        // The time is that of the leg before.
        let index = stage.saturating_sub(1).min(self.plan.legs.len().saturating_sub(1)) as u32;
        while !meeting.is_open(stage, self.drive.now()) {
            if self.stopping {
                return Ok(Some(LegEnd::Stopped));
            }
            let until = self.slice_end(None);
            self.drive.idle(until);
            let end = self.after_slice(index, Op::Idle)?;
            // Nothing is left to be skipped here.
            if let Some(end) = end.filter(|e| !matches!(e, LegEnd::Skipped)) {
                self.close_sample(index, Op::Idle);
                return Ok(Some(end));
            }
            if self.paused
                && let (Some(end), _) = self.pause(index)?
            {
                return Ok(Some(end));
            }
        }
        self.close_sample(index, Op::Idle);
        Ok(None)
    }
}
