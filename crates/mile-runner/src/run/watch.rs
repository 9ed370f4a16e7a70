//! What a run minds while it moves data: failures, stalls, health, sensors.

use super::go_on::STALL;
use super::state::Run;
use crate::message::{EventKind, HealthShot, Message};
use mile_core::health::{Origin, Snapshot};
use mile_core::{Bytes, Celsius};
use mile_drive::Health;

impl Run<'_> {
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
