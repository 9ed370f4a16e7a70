//! A leg goes on in slices: how far one goes, what is looked at behind it, and the samples that they make up.

use super::ends::{Guarded, LegEnd};
use super::go_on::STALL;
use super::state::{ATTENTION, Run};
use super::tell::told;
use crate::Speed;
use crate::message::{Event, EventKind, Message};
use mile_core::{Bytes, Nanos, Op, Rate, Sample};
use mile_course::Work;
use mile_drive::DriveError;
use mile_drive::host::Host;
use mile_drive::nvme::HealthLog;

impl Run<'_> {
    /// How far to go before looking around again.
    pub(super) fn slice_end(&self, deadline: Option<Nanos>) -> Nanos {
        let now = self.drive.now();
        let sample = self.next_look();
        let attention = match self.speed {
            Speed::Max => Nanos(u64::MAX),
            Speed::Times(factor) => {
                now.plus(Nanos::from_secs(ATTENTION.secs() * factor).max(Nanos(1_000_000)))
            }
        };
        let boundary = self.seat.and_then(|(m, _)| m.boundary(now)).unwrap_or(Nanos(u64::MAX));
        sample.min(attention).min(boundary).min(deadline.unwrap_or(Nanos(u64::MAX))).max(now.plus(Nanos(1)))
    }

    /// Takes the sample if it is due, minds the guards, keeps pace, and obeys commands.
    pub(super) fn after_slice(&mut self, index: u32, op: Op) -> Result<Option<LegEnd>, DriveError> {
        if self.is_sample_due() {
            let foreign = self.close_sample(index, op);
            if let Some(end) = self.mind_totals(foreign).or_else(|| self.mind_channels()) {
                return Ok(Some(end));
            }
            if let (Some(limit), Some(found)) = (self.plan.guards.stop_above, self.last.temp)
                && found > limit
            {
                return Ok(Some(LegEnd::Guarded(Guarded::Temperature { limit, found })));
            }
            if let Some(bits) =
                self.last.warning.filter(|bits| *bits != 0 && self.plan.guards.stop_on_warning)
            {
                let said = HealthLog { critical_warning: bits, ..HealthLog::default() }.warnings().join("; ");
                return Ok(Some(LegEnd::Guarded(Guarded::Other(format!("the drive warns: {said}")))));
            }
            self.mind_heat(op);
        }
        if let (Speed::Times(factor), true) = (self.speed, self.drive.is_virtual()) {
            self.wall.sleep_until(Nanos::from_secs(self.drive.now().secs() / factor));
        }
        self.look_at_health();
        if let Some(why) = self.counter_guard.take() {
            return Ok(Some(LegEnd::Guarded(Guarded::Other(why))));
        }
        self.take_instruments();
        self.watch_waiting();
        while let Ok(command) = self.commands.try_recv() {
            let end = self.obey(command);
            if end.is_some() {
                return Ok(end);
            }
        }
        if self.stopping {
            return Ok(Some(LegEnd::Stopped));
        }
        Ok(self.keep_pace())
    }

    /// Ends the interval underway, tells it as a sample, and begins the next. An interval without time or operations is
    /// not told. Gives the rate of others.
    pub(super) fn close_sample(&mut self, leg: u32, op: Op) -> Option<Rate> {
        let (start, end) = (self.sample_start, self.drive.now());
        if end <= start {
            return None;
        }
        let readings = self.drive.readings();
        let host = self.host.as_mut().map(Host::read).unwrap_or_default();
        let seconds = end.since(start).secs();
        let own = Bytes(self.tally.written.0 + self.tally.read.0);
        let foreign = readings.disk_moved.map(|disk| {
            // What is in flight may be counted by the disk already, in parts, and not by us.
            let own = (self.moved.0 - self.moved_at_open.0 + own.0 + self.in_flight_at_most) as f64;
            let others = disk.0 as f64 - own;
            let new = (others - self.foreign_told).max(0.0);
            self.foreign_told = self.foreign_told.max(others);
            Rate(new / seconds)
        });
        // What a file system writes for its own books is the run's doing, and cannot be told from what others do.
        let of_files = matches!(self.plan.legs.get(leg as usize).map(|l| &l.work), Some(Work::Files(_)));
        let foreign = foreign.filter(|_| !of_files);
        let sample = Sample {
            start,
            end,
            leg,
            op,
            written: self.tally.written,
            read: self.tally.read,
            ops: self.tally.ops,
            offset: self.tally.first.map(|first| self.in_zone().unwrap_or(first)),
            reach: self.tally.reach,
            latency: self.tally.latencies(),
            temp: readings.temp,
            ambient: readings.ambient,
            throttled: readings.throttled,
            foreign,
            host: mile_core::Host { steal: host.steal.map(|s| s as f32), cpu: host.cpu.map(|c| c as f32) },
            fill: readings.fill.map(|f| f as f32),
            errors: self.tally.errors,
        };
        self.moved = Bytes(self.moved.0 + own.0);
        self.written = Bytes(self.written.0 + sample.written.0);
        let (took, offset) = self.tally.slowest;
        if took >= STALL {
            self.event(EventKind::Stall { took, offset });
        }
        self.tally.add_latencies_to(&mut self.leg_latency);
        self.tally.clear();
        self.sample_start = end;
        self.watch_sensor(readings.temp);
        self.last = readings;
        self.take_copy(leg, start, end);
        self.live.push(&sample, self.head.leg_name(leg));
        (self.tell)(Message::Sample(sample));
        self.take_readings(end);
        for item in self.live.news() {
            (self.tell)(Message::Event(Event { at: end, bytes: self.moved, kind: told(item) }));
        }
        if self.break_at.is_none() && self.live.has_fallen() {
            self.break_at = Some(end);
        }
        foreign
    }
}
