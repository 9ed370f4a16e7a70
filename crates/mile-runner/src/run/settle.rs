//! What a run leaves behind when it ends, and what it must find again to go on.

use super::attend::Attended;
use super::{Run, STALL, relied_on};
use crate::message::{EventKind, Status};
use mile_core::Bytes;
use mile_course::{PlannedLeg, Work};
use mile_drive::DriveError;

/// Whether a leg is the target of a copy.
fn is_target(leg: &PlannedLeg) -> bool {
    matches!(leg.work, Work::Transfer(t) if t.copy.is_some_and(|c| !c.is_source))
}

impl Run<'_> {
    /// Whether operations were out when the run ended that had not come back.
    pub(super) fn is_stalled(&self) -> bool {
        self.drive.waiting().is_some_and(|(age, ..)| age >= STALL)
    }

    /// Has the medium keep what was written, unless the drive does not answer.
    pub(super) fn settle(&mut self) -> Result<(), DriveError> {
        if self.left || self.is_stalled() || self.drive.has_left().is_some() {
            return Ok(());
        }
        let flush = self.drive.flush();
        match self.attend(&flush, None)? {
            Attended::Done(done) => done,
            Attended::Left => Ok(()),
        }
    }

    /// Whether a run that ended so may go on, and relies then on what it has written.
    pub(super) fn needs_what_it_wrote(&mut self, status: Status) -> bool {
        let readable = self.drive.facts().readable;
        let (leg, from) = self.standing;
        let moved = Bytes(self.moved.0 - from.0);
        if status == Status::Done || readable || leg >= self.plan.legs.len() {
            return false;
        }
        // A copy goes on behind what was copied.
        let copied = self.plan.legs.get(leg).is_some_and(|l| moved.0 > 0 && is_target(l));
        let needed = copied || !relied_on(self.plan, leg, moved, readable).is_empty();
        if needed {
            self.event(EventKind::Kept);
        }
        needed
    }

    /// Refuses to go on where what the run wrote, and reads from here on, is not there any more.
    pub(super) fn check_what_is_relied_on(&mut self) -> Result<(), DriveError> {
        let Some(on) = &self.go_on else { return Ok(()) };
        let readable = self.drive.facts().readable;
        let leg = self.plan.legs.get(on.leg as usize).filter(|l| on.moved.0 > 0 && is_target(l));
        if let Some(leg) = leg.filter(|_| self.drive.is_new()) {
            return Err(DriveError::Unusable {
                why: format!(
                    "the run cannot go on: leg {} had copied {} there, and that is not there any more. Start the course anew",
                    leg.name, on.moved
                ),
            });
        }
        for stretch in relied_on(self.plan, on.leg as usize, on.moved, readable) {
            for at in stretch.places() {
                if !self.drive.holds(at)? {
                    let reader = self.plan.legs.get(stretch.reader).map_or("", |l| l.name.as_str());
                    return Err(DriveError::Unusable {
                        why: format!(
                            "the run cannot go on: leg {reader} reads from byte {} on what the run wrote there before, and that is not there any more. Start the course anew",
                            at.0
                        ),
                    });
                }
            }
        }
        Ok(())
    }
}
