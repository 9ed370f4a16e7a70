//! What a run leaves behind when it ends, and what it must find again to go on.

use super::attend::Attended;
use super::ends::LegEnd;
use super::go_on::STALL;
use super::reliance::relied_on;
use super::state::Run;
use super::tell::told;
use crate::message::{EventKind, Outcome, Status};
use mile_core::{Bytes, Digest};
use mile_course::{PlannedLeg, Work};
use mile_drive::DriveError;

/// Whether a leg is the target of a copy.
fn is_target(leg: &PlannedLeg) -> bool {
    matches!(leg.work, Work::Transfer(t) if t.copy.is_some_and(|c| !c.is_source))
}

impl Run<'_> {
    pub(super) fn outcome(&mut self, ended: Result<LegEnd, DriveError>) -> Outcome {
        let (status, why) = match ended {
            Ok(LegEnd::Planned(_) | LegEnd::Skipped) => (Status::Done, None),
            Ok(LegEnd::Stopped) => (Status::Stopped, Some("stopped on request".to_owned())),
            Ok(LegEnd::Guarded(guard)) => (Status::Guarded, Some(guard.why())),
            Err(e) => {
                let text = e.to_string();
                // What came back before the error belongs to the run.
                let (leg, op) = self.doing;
                self.close_sample(leg, op);
                self.event(EventKind::Failed(text.clone()));
                (Status::Failed, Some(text))
            }
        };
        if !self.faults.is_empty() {
            self.event(EventKind::Faults(self.faults.clone()));
        }
        self.settle_findings();
        // Of a drive that has left, nothing more is asked.
        let gone =
            self.left || self.drive.has_left().is_some() || status == Status::Failed && self.is_stalled();
        let health = if gone { None } else { self.last_health() };
        if let Some(health) = &health {
            self.watch_health(health);
        }
        let digest = self.settled.as_ref().map(|f| Box::new(Digest::of(self.live.trace(), f)));
        Outcome { status, at: self.drive.now(), bytes: self.moved, why, health, digest }
    }

    /// Tells what the findings of the whole run say beyond what was announced.
    fn settle_findings(&mut self) {
        let (news, settled) = self.live.close();
        news.into_iter().for_each(|item| self.event(told(item)));
        self.settled = Some(settled);
    }

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
        let needed =
            copied || self.needs_files(leg) || !relied_on(self.plan, leg, moved, readable).is_empty();
        if needed {
            self.event(EventKind::Kept);
        }
        needed
    }

    /// Refuses to go on where what the run wrote, and reads from here on, is not there any more.
    pub(super) fn check_what_is_relied_on(&mut self) -> Result<(), DriveError> {
        let Some(on) = &self.go_on else { return Ok(()) };
        self.check_files(on.leg)?;
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
