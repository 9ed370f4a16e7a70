//! What a run minds while it moves data: failures, stalls, health, sensors.

use super::attend::Attended;
use super::go_on::STALL;
use super::state::{LEAVING, MOST_TOLD, Run};
use crate::message::{EventKind, HealthShot, Message, error_words, fault_of};
use mile_core::health::{Origin, Snapshot};
use mile_core::{Bytes, Celsius, Nanos, faults};
use mile_drive::clock::Monotonic;
use mile_drive::{DriveError, Failure, Health, Narrowed};

/// Longest time for narrowing one failed operation down.
const NARROWING: Nanos = Nanos(60_000_000_000);
/// Time between two looks at whether the run is to stop, while it is narrowed down.
const GLANCE: Nanos = Nanos(100_000_000);

impl Run<'_> {
    /// Tells what failed, narrowed down, and ends the run where it is too much, or where the drive is gone.
    pub(super) fn mind_failures(&mut self) -> Result<(), DriveError> {
        let block = self.drive.facts().logical_block;
        for failure in std::mem::take(&mut self.tally.failures) {
            if let Some(why) = self.gone(failure.errno) {
                let name = self.drive.identity().name.clone();
                return Err(DriveError::Left {
                    name,
                    why: format!("{} at byte {}; {why}", failure.words(), failure.offset.0),
                });
            }
            self.errors += 1;
            self.failed += failure.length.0;
            let kind = fault_of(failure.op);
            let (at, whole) = (self.drive.now(), (failure.offset, failure.length));
            if self.errors > MOST_TOLD {
                faults::add_narrowed(&mut self.faults, kind, at, whole, &[], false);
                self.check_errors(String::new())?;
                continue;
            }
            if self.is_for_later() {
                self.pass_over(failure)?;
                continue;
            }
            let narrowed = self.narrow(&failure, NARROWING)?.unwrap_or_else(|| Narrowed::unknown(&failure));
            let words = error_words(&failure, &narrowed, block);
            faults::add_narrowed(&mut self.faults, kind, at, whole, &narrowed.bad, narrowed.complete);
            self.event(EventKind::Error { failure, narrowed, block });
            self.check_errors(words)?;
        }
        for mismatch in std::mem::take(&mut self.tally.mismatches) {
            self.errors += 1;
            let (kind, at) = (mismatch.wrong.fault(), self.drive.now());
            faults::add(&mut self.faults, kind, at, mismatch.offset, mismatch.length);
            let kind = EventKind::Wrong(mismatch);
            let words = kind.words();
            if self.errors <= MOST_TOLD {
                self.event(kind);
            }
            self.check_errors(words)?;
        }
        Ok(())
    }

    /// Narrows a failed operation down, at most for so long. `None` where the run was asked to stop meanwhile: nothing is waited for then, as nothing of
    /// the run is lost with it.
    pub(super) fn narrow(
        &mut self,
        failure: &Failure,
        patience: Nanos,
    ) -> Result<Option<Narrowed>, DriveError> {
        let patience = patience.min(NARROWING);
        let narrowing = self.drive.narrow(failure, patience);
        // A try that is underway when the time is over is waited for as long again.
        let (clock, most) = (Monotonic::start(), patience.plus(NARROWING));
        loop {
            match self.attend(&narrowing, Some(GLANCE))? {
                Attended::Done(narrowed) => return Ok(Some(narrowed)),
                Attended::Left if self.stopping => return Ok(None),
                Attended::Left if clock.now() > most => return Ok(Some(Narrowed::unknown(failure))),
                Attended::Left => {}
            }
        }
    }

    /// Why the drive is gone, where an error suggests that it may be.
    pub(super) fn gone(&self, errno: Option<i32>) -> Option<String> {
        // A drive that leaves fails operations before the system has taken it away.
        let suggests = matches!(errno, Some(libc::ENODEV | libc::ENXIO | libc::ENOSPC | libc::ESHUTDOWN));
        let clock = Monotonic::start();
        let tries = if suggests && !self.drive.is_virtual() { LEAVING } else { 1 };
        (0..tries).find_map(|i| {
            clock.sleep_until(Nanos(u64::from(i) * 100_000_000));
            self.drive.has_left()
        })
    }

    /// Ends the run where more failed than the course allows.
    pub(super) fn check_errors(&mut self, words: String) -> Result<(), DriveError> {
        let most = self.plan.guards.errors_at_most;
        if self.errors <= most {
            return Ok(());
        }
        if self.errors > MOST_TOLD {
            self.event(EventKind::MoreErrors(self.errors - MOST_TOLD));
        }
        let why = match most {
            0 => words,
            _ => format!("{} errors, more than the {most} that the course allows", self.errors),
        };
        Err(DriveError::Unusable { why })
    }

    /// Tells once when nothing comes back.
    pub(super) fn watch_waiting(&mut self) {
        match self.drive.waiting() {
            Some((age, offset, out)) if age >= STALL => {
                if !std::mem::replace(&mut self.told_waiting, true) {
                    self.event(EventKind::Waiting { age, offset, out: out as u64 });
                }
            }
            _ => self.told_waiting = false,
        }
    }

    /// Asks for the health when it is due, and takes in the answer when it is there.
    pub(super) fn look_at_health(&mut self) {
        if self.drive.now() >= self.health_due {
            self.health_due = self.drive.now().plus(self.plan.health_every);
            self.drive.ask_health();
        }
        if let Some(health) = self.drive.health_answer() {
            self.watch_health(&health);
            let bytes = Bytes(self.moved.0 + self.tally.written.0 + self.tally.read.0);
            (self.tell)(Message::Health(Box::new(HealthShot { at: self.drive.now(), bytes, health })));
        }
    }

    pub(super) fn watch_health(&mut self, now: &Health) {
        let before = self.health.replace(now.clone());
        for change in before.map(|b| b.changes(now)).unwrap_or_default() {
            self.event(EventKind::HealthChanged(change));
        }
        self.mind_counters(now);
    }

    /// Says which guards on counters cannot act on this drive, and looks whether one is reached already.
    pub(super) fn begin_to_mind_counters(&mut self) {
        let plan = self.plan;
        if plan.guards.counters.is_empty() {
            return;
        }
        let health = self.health.clone().unwrap_or_default();
        let told = self.told_by(&health);
        for (counter, threshold) in &plan.guards.counters {
            if told.get(*counter).is_none() {
                let text = format!(
                    "The guard \"{}\" cannot act: this drive does not tell {}.",
                    threshold.words(),
                    counter.words()
                );
                self.event(EventKind::Fitted(text));
            }
        }
        self.mind_counters(&health);
    }

    fn told_by(&self, health: &Health) -> Snapshot {
        health.snapshot(0, Origin::Kept, &self.head.drive, None)
    }

    /// Looks whether a guard on a counter is reached.
    fn mind_counters(&mut self, health: &Health) {
        let plan = self.plan;
        if plan.guards.counters.is_empty() {
            return;
        }
        let told = self.told_by(health);
        let reached = plan.guards.counters.iter().find_map(|(counter, threshold)| {
            let value = told.get(*counter)?;
            // In the unit of the course.
            let unit = mile_core::units::size_unit(&threshold.unit).unwrap_or(1);
            let beyond = threshold.is_reached(value as f64 / unit as f64);
            beyond.then(|| {
                format!("{}: it is {}", threshold.words(), mile_core::health::value(*counter, value))
            })
        });
        self.counter_guard = self.counter_guard.take().or(reached);
    }

    pub(super) fn watch_sensor(&mut self, temp: Option<Celsius>) {
        let lost = temp.is_none() && self.drive.facts().has_temperature;
        if lost != self.sensor_lost {
            self.sensor_lost = lost;
            self.event(if lost { EventKind::SensorLost } else { EventKind::SensorBack });
        }
    }
}
