//! A leg that has the drive test itself, and waits for how that ends.

use super::ends::LegEnd;
use super::state::Run;
use crate::message::{EventKind, HealthShot, Message, TestProgress};
use mile_core::health::SelfTestKind;
use mile_core::{Bytes, Nanos, Op};
use mile_course::PlannedLeg;
use mile_drive::DriveError;
use mile_drive::health::TestKind;

/// Time between two questions how far it is.
const EVERY: Nanos = Nanos(5_000_000_000);
/// Questions without an answer about self-tests after which nothing more is expected.
const PATIENCE: u32 = 6;

impl Run<'_> {
    pub(super) fn self_test(
        &mut self,
        index: u32,
        leg: &PlannedLeg,
        kind: SelfTestKind,
        over: (Bytes, Bytes),
        began: Nanos,
    ) -> Result<LegEnd, DriveError> {
        let before = self.health.as_ref().and_then(|h| h.self_test.clone()).unwrap_or_default().results;
        match self.drive.begin_self_test(TestKind::of(kind), over) {
            Ok(()) => {}
            Err(e @ DriveError::NotOffered { .. }) => {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned(e.to_string()));
            }
            Err(e) => return Err(e),
        }
        let (mut due, mut silent) = (self.drive.now(), 0);
        let mut reached = (0, Nanos(0));
        let deadline = leg.time.map(|t| began.plus(t));
        loop {
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                self.drive.end_self_test();
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned(format!(
                    "{} have passed, and the test was ended",
                    leg.time.unwrap_or_default()
                )));
            }
            let until = self.slice_end(deadline).min(due.max(self.drive.now().plus(Nanos(1))));
            self.drive.idle(until);
            if self.drive.now() >= due {
                due = self.drive.now().plus(EVERY);
                self.drive.ask_health();
            }
            if let Some(health) = self.drive.health_answer() {
                let test = health.self_test.clone();
                self.watch_health(&health);
                let over = test.as_ref().is_some_and(|t| t.running.is_none());
                if let Some((_, percent)) = test.as_ref().and_then(|t| t.running) {
                    let ran = self.drive.now().since(began);
                    if percent != reached.0 {
                        reached = (percent, ran);
                    }
                    (self.tell)(Message::SelfTest(TestProgress { kind, percent, ran, reached: reached.1 }));
                }
                silent = if test.is_some() { 0 } else { silent + 1 };
                if over || silent > PATIENCE {
                    let shot = HealthShot { at: self.drive.now(), bytes: self.moved, health };
                    (self.tell)(Message::Health(Box::new(shot)));
                    self.close_sample(index, Op::Idle);
                    let results = test.unwrap_or_default().results;
                    let newest = results
                        .first()
                        .filter(|r| results.len() > before.len() || before.first() != Some(*r));
                    return Ok(LegEnd::Planned(match newest {
                        Some(result) => {
                            let block = result.block;
                            let at = block.map_or(String::new(), |b| format!(", first at block {b}"));
                            let (passed, words) = (result.passed, result.words.clone());
                            self.event(EventKind::SelfTest { kind, passed, words: words.clone(), block });
                            format!("{words}{at}")
                        }
                        None => "the drive does not tell how it ended".into(),
                    }));
                }
            }
            if let Some(end) = self.after_slice(index, Op::Idle)? {
                self.drive.end_self_test();
                return Ok(end);
            }
            if self.paused
                && let (Some(end), _) = self.pause(index)?
            {
                self.drive.end_self_test();
                return Ok(end);
            }
        }
    }
}
