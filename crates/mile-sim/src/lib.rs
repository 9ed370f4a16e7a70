//! Simulated drives on a virtual clock.
//!
//! [`SimDrive`] is the queue, the clock, the link, heat and health of a drive; what holds its data is a medium with a file of its own (`medium.rs`
//! is the seam, `flash.rs` a medium).
//!
//! Operations are simulated one by one: each waits until one of the `depth` before it is done, is served at the rate of
//! the moment, and comes back after a latency drawn from a table. Everything slower (heat, noise of the rate, draining of
//! the cache) moves on in steps of 10 ms. All randomness comes from one seeded generator, so that the same seed and the same
//! calls give the same run, to the byte.

mod disk;
mod flash;
mod health;
mod instruments;
mod medium;
pub mod model;
mod selftest;
mod thermal;

use disk::DiskMedium;
use flash::FlashMedium;
use instruments::Instruments;
use medium::{Medium, Pace};
use mile_core::{Bytes, Celsius, Nanos, Op, Rate, Throttled};
use mile_drive::ata;
use mile_drive::drive::{
    Claims, Drive, DriveError, Facts, Failure, Identity, Limits, Link, Narrowed, Readings, Situation,
    Transfer, Truth, TruthEvent, TruthKind,
};
use mile_drive::health::{Health, TestKind};
use mile_drive::io::narrow::{MOST_FAILING, divide};
use mile_drive::pipe::{PipeEnd, When};
use mile_drive::{Pending, Tally};
use model::{HealthKind, Model};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use thermal::{Level, Thermal};

/// Step of everything that is slower than an operation.
const STEP_NS: u64 = 10_000_000;
/// Longest step while there is no load.
const IDLE_STEP_NS: u64 = 100_000_000;
/// The error of a read that the drive gave up: that of the operating system.
const EIO: i32 = 5;
/// Entries of the table of latencies.
const TABLE: usize = 4096;

/// A simulated drive.
pub struct SimDrive {
    identity: Identity,
    model: Model,
    rng: Xoshiro256PlusPlus,
    medium: Box<dyn Medium>,
    heat: Thermal,
    now: u64,
    next_step: u64,
    joules: f64,
    /// Wander of the rate, in standard deviations.
    wander: f64,
    /// Whether its health was asked for.
    asked: bool,
    tests: selftest::Tests,
    work: Option<Work>,
    /// The copy that its transfers are a side of.
    copy: Option<PipeEnd>,
    /// Length of the operations underway, where there are any.
    load: Option<u64>,
    latency: Vec<u32>,
    written: u64,
    read: u64,
    ops: [u64; 2],
    busy_ns: u64,
    truth: Truth,
    /// The instruments that are put to it, with their seed until then.
    seed: u64,
    instruments: Option<Instruments>,
}

/// Reads or writes underway.
struct Work {
    transfer: Transfer,
    /// When each of the operations in flight is done, the first one on top: another takes its place then.
    done: BinaryHeap<Reverse<u64>>,
    served: u64,
    issued: u64,
    began: u64,
    /// Whether the next operation writes, and where, once that was drawn.
    write: bool,
    chosen: bool,
    /// Bytes behind the start of the range.
    position: u64,
    blocks: u64,
    miss: f64,
    /// Bytes of the copy that had passed when it began, and until when its waiting for the other side is counted.
    copied: u64,
    waited_until: u64,
    /// Whether the other side has ended, and whether it has not told yet what this one needs to know.
    over: bool,
    unsure: bool,
}

impl SimDrive {
    /// The drive of a model, named as on the command line, with a seed for its noise.
    pub fn new(name: &str, seed: u64) -> Result<Self, DriveError> {
        Ok(Self::of(name, Model::find(name.strip_prefix("sim:").unwrap_or(name))?, seed))
    }

    /// A drive of this model.
    pub fn of(name: &str, model: Model, seed: u64) -> Self {
        let identity = Identity {
            name: name.to_owned(),
            model: model.identity.model.clone(),
            serial: Some(model.identity.serial.clone()),
            firmware: Some(model.identity.firmware.clone()),
            kind: model.identity.kind.clone(),
            simulated: true,
            link: Some(Link {
                negotiated: model.link.negotiated.clone(),
                possible: model.link.possible.clone(),
                ceiling: Rate(model.link.ceiling_mb_s * 1e6),
                possible_ceiling: model.link.possible_ceiling_mb_s.map(|c| Rate(c * 1e6)),
                drive: None,
                port: None,
            }),
        };
        Self {
            identity,
            rng: Xoshiro256PlusPlus::seed_from_u64(seed),
            medium: medium(&model, seed),
            heat: Thermal::new(&model.thermal),
            now: 0,
            next_step: STEP_NS,
            joules: 0.0,
            wander: 0.0,
            asked: false,
            tests: selftest::Tests::default(),
            work: None,
            copy: None,
            load: None,
            latency: Vec::new(),
            written: 0,
            read: 0,
            ops: [0, 0],
            busy_ns: 0,
            truth: Truth::default(),
            seed,
            instruments: None,
            model,
        }
    }

    /// Uniform from 0 to 1.
    fn unit(&mut self) -> f64 {
        (self.rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64
    }

    fn normal(&mut self) -> f64 {
        // Box and Muller, "A note on the generation of random normal deviates", 1958.
        let unit = |bits: u64| ((bits >> 11) as f64 + 0.5) / (1_u64 << 53) as f64;
        let (u, v) = (unit(self.rng.next_u64()), unit(self.rng.next_u64()));
        (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * v).cos()
    }

    /// Latencies of single operations: half of them close below the typical value, half above with a log-normal tail.
    fn draw_latencies(&mut self, typical_us: f64) {
        let tail = self.model.controller.tail;
        self.latency = (0..TABLE)
            .map(|_| {
                let z = self.normal();
                let factor = if z < 0.0 { (0.12 * z).exp() } else { (tail * z).exp() };
                (typical_us * 1e3 * factor).min(4e8) as u32
            })
            .collect();
    }

    fn tell(&mut self, what: TruthKind, at: u64) {
        self.truth.events.push(TruthEvent {
            at_s: at as f64 / 1e9,
            at_bytes: self.written + self.read,
            what,
            temp_c: self.heat.die,
        });
    }

    /// Moves everything that is slower than an operation on to `at`.
    fn step(&mut self, at: u64, seconds: f64) {
        let level = self.heat.level;
        let joules = std::mem::take(&mut self.joules);
        self.heat.pass(seconds, joules);
        if let Some(instruments) = &mut self.instruments {
            instruments.pass(seconds, self.heat.die, joules + self.model.thermal.idle_w * seconds);
        }
        if self.heat.level != level {
            self.tell_level(level, at);
        }
        let unit = self.load.map(|_| {
            const KEEP: f64 = 0.96;
            self.wander = KEEP * self.wander + (1.0_f64 - KEEP * KEEP).sqrt() * self.normal();
            self.unit()
        });
        if let Some(what) = self.medium.pass(at, seconds, unit) {
            self.tell(what, at);
        }
        if let Some(block) = self.load {
            self.set_pace(block);
        }
    }

    fn tell_level(&mut self, before: Level, at: u64) {
        let now = self.heat.level;
        for (level, on, off) in [
            (Level::Light, TruthKind::LightOn, TruthKind::LightOff),
            (Level::Heavy, TruthKind::HeavyOn, TruthKind::HeavyOff),
        ] {
            match (before == level, now == level) {
                (false, true) => self.tell(on, at),
                (true, false) => self.tell(off, at),
                _ => {}
            }
        }
    }

    /// Tells the medium what it may do until the next step, with operations of `block` bytes.
    fn set_pace(&mut self, block: u64) {
        let noise = (1.0 + self.medium.noise() * self.wander).clamp(0.5, 1.5);
        let ceiling = self.model.link.ceiling_mb_s * 1e6;
        self.medium.set_pace(self.now, block, Pace { noise, share: self.heat.share(), ceiling });
    }

    /// Runs the operations of `work` that are served by `until`. This is the hot loop.
    fn serve(&mut self, work: &mut Work, until: u64, tally: &mut Tally) {
        let t = work.transfer;
        let block = t.load.block.0;
        let (miss_share, miss_ns) =
            ((work.miss * 4_294_967_296.0) as u64, self.model.controller.map_miss_us * 1e3);
        while work.issued < t.budget.0 {
            let arrival = work.done.peek().map_or(0, |d| d.0);
            let due = t.load.rate.map_or(0, |r| work.began + (work.issued as f64 / r.0 * 1e9) as u64);
            let mut begin = arrival.max(work.served).max(due);
            if let Some(copy) = self.copy.as_ref().filter(|_| begin < self.next_step.min(until)) {
                let free = begin.max(work.waited_until);
                match copy.when(work.copied + work.issued + block, Nanos(self.next_step.min(until))) {
                    Some(When::From(at) | When::NotBefore(at)) => begin = begin.max(at.0),
                    Some(When::Never) => {
                        work.over = true;
                        break;
                    }
                    None => {
                        work.unsure = true;
                        break;
                    }
                }
                let held = begin.min(self.next_step).min(until);
                copy.has_waited(Nanos(held.saturating_sub(free)));
                work.waited_until = held.max(work.waited_until);
            }
            if begin >= self.next_step {
                let at = self.next_step;
                if at > until {
                    break;
                }
                self.now = at;
                self.busy_ns += STEP_NS;
                self.step(at, STEP_NS as f64 / 1e9);
                self.next_step = at + STEP_NS;
                if let Some(copy) = &self.copy {
                    // What is served from here on is back later still.
                    copy.told_until(Nanos(at));
                }
                continue;
            }
            // What the next operation is stays, where it is for the next slice of time.
            if !work.chosen {
                work.chosen = true;
                if t.load.op == Op::Mixed {
                    work.write = self.unit() >= t.load.reads;
                }
                if t.load.is_random() {
                    // Multiply and shift: uniform over blocks without a division.
                    let index = ((u128::from(self.rng.next_u64()) * u128::from(work.blocks)) >> 64) as u64;
                    work.position = index * block;
                }
            }
            let write = work.write;
            let offset = t.start.0 + work.position;
            let end = begin + self.medium.takes(write, offset) as u64;
            if end > until {
                break;
            }
            let bits = self.rng.next_u64();
            if !t.load.is_random() {
                work.position += block;
                if work.position >= t.length.0 {
                    work.position = 0;
                }
            }
            let mut extra = u64::from(self.latency[bits as usize % TABLE]);
            if bits >> 32 < miss_share {
                extra += miss_ns as u64;
            }
            work.served = end;
            if let Some(mut first) = work.done.peek_mut() {
                first.0 = end + extra;
            }
            work.chosen = false;
            work.issued += block;
            let op = if write { Op::Write } else { Op::Read };
            if let Some(copy) = &self.copy {
                copy.tell(block, Nanos(end + extra));
            }
            if self.medium.fails(write, offset, block) {
                tally.errors += 1;
                let (offset, length) = (Bytes(offset), t.load.block);
                let took = Nanos(end + extra - arrival);
                tally.failures.push(Failure { op, offset, length, errno: Some(EIO), took });
                // What went wrong is looked at before anything else is asked for.
                self.now = end;
                break;
            }
            tally.add(op, Bytes(offset), block, Nanos(end + extra - arrival));
            self.joules += block as f64 * 1e-9 * self.medium.energy(write);
            *(if write { &mut self.written } else { &mut self.read }) += block;
            if let Some(what) = self.medium.done(write, offset, block) {
                self.now = end;
                self.tell(what, end);
                self.set_pace(block);
            }
            self.ops[usize::from(write)] += 1;
        }
    }
}

/// What a model keeps its data on. A model that was read has one of them.
fn medium(model: &Model, seed: u64) -> Box<dyn medium::Medium> {
    match (&model.disk, &model.flash) {
        (Some(disk), _) => Box::new(DiskMedium::new(model, disk, seed)),
        (None, flash) => Box::new(FlashMedium::new(model, &flash.clone().unwrap_or_default())),
    }
}

impl Drive for SimDrive {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn facts(&self) -> Facts {
        Facts {
            capacity: Bytes(self.model.geometry.capacity_bytes),
            logical_block: Bytes(self.model.geometry.logical_block),
            has_temperature: self.model.health.kind != HealthKind::None,
            readable: true,
            cache: None,
            files: None,
            in_use: None,
        }
    }

    fn limits(&self) -> Limits {
        let thermal = &self.model.thermal;
        match self.model.health.kind {
            HealthKind::Nvme => {
                Limits { warn: Some(Celsius(thermal.warn_c)), critical: Some(Celsius(thermal.critical_c)) }
            }
            HealthKind::Ata => Limits { warn: Some(Celsius(thermal.warn_c)), critical: None },
            HealthKind::None => Limits::default(),
        }
    }

    fn claims(&self) -> Claims {
        let claims = &self.model.claims;
        Claims {
            write: Some(Rate(claims.write_mb_s * 1e6)),
            read: Some(Rate(claims.read_mb_s * 1e6)),
            endurance: Some(Bytes((claims.endurance_tb * 1e12) as u64)),
        }
    }

    fn situation(&self) -> Situation {
        Situation {
            slot: self.model.identity.slot.clone(),
            cooling: self.model.identity.cooling.clone(),
            ambient: Some(Celsius(self.model.thermal.ambient_c)),
            enclosure: None,
            notes: self.model.identity.notes.clone(),
        }
    }

    fn set_up(&mut self, said: &Situation) -> Option<String> {
        let mut missed = None;
        if let Some(ambient) = said.ambient {
            let level = ambient.0 - self.model.thermal.ambient_c;
            self.model.thermal.ambient_c = ambient.0;
            self.model.thermal.ambient_schedule.iter_mut().for_each(|(_, c)| *c += level);
        }
        let other = said.cooling.as_ref().filter(|c| self.model.identity.cooling.as_ref() != Some(c));
        if let Some(cooling) = other {
            match Model::with_cooling(&self.identity.model, cooling) {
                Some(model) => {
                    let (own, other) = (&mut self.model.thermal, model.thermal);
                    own.body_j_per_k = other.body_j_per_k;
                    own.die_to_body_k_per_w = other.die_to_body_k_per_w;
                    own.body_to_ambient_k_per_w = other.body_to_ambient_k_per_w;
                    self.model.identity.cooling = Some(cooling.clone());
                }
                None => {
                    missed = Some(format!(
                        "The simulation knows no cooling \"{cooling}\" of {}, and keeps that of its model.",
                        self.identity.model
                    ));
                }
            }
        }
        self.heat = Thermal::new(&self.model.thermal);
        if self.instruments.is_some() {
            self.put_instruments();
        }
        missed
    }

    fn is_virtual(&self) -> bool {
        true
    }

    fn start_at(&mut self, at: Nanos) {
        self.now = at.0;
        self.next_step = at.0 + STEP_NS;
        self.heat.elapsed = at.secs();
    }

    fn open(&mut self) -> Result<(), DriveError> {
        Ok(())
    }

    fn channels(&self) -> Vec<(String, String)> {
        let names = [("probe", "°C"), ("supply", "W")];
        let put = names.into_iter().filter(|_| self.instruments.is_some());
        put.map(|(name, unit)| (name.to_owned(), unit.to_owned())).collect()
    }

    fn channel_readings(&mut self) -> Vec<Option<f64>> {
        self.instruments.as_mut().map(|i| i.read().to_vec()).unwrap_or_default()
    }

    fn put_instruments(&mut self) {
        self.instruments = Some(Instruments::new(self.seed, self.heat.die));
    }

    fn warmth(&self) -> Option<f64> {
        Some(self.heat.body)
    }

    fn stand_beside(&mut self, others: &[Option<f64>]) {
        self.heat.neighbours.clear();
        self.heat.neighbours.extend(others.iter().flatten());
    }

    fn engine(&self) -> String {
        "simulated, on a virtual clock".into()
    }

    fn now(&self) -> Nanos {
        Nanos(self.now)
    }

    fn idle(&mut self, until: Nanos) {
        (self.work, self.load) = (None, None);
        while self.now < until.0 {
            let to = until.0.min(self.now + IDLE_STEP_NS);
            self.step(to, (to - self.now) as f64 / 1e9);
            self.now = to;
            if let Some(copy) = &self.copy {
                copy.told_until(Nanos(to));
            }
        }
        self.next_step = self.now + STEP_NS;
    }

    fn join(&mut self, end: Option<PipeEnd>) {
        self.copy = end;
    }

    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError> {
        let typical = match transfer.load.op {
            Op::Read => self.model.controller.read_us,
            _ => self.model.controller.write_us,
        };
        transfer.check(self.facts().capacity, self.facts().logical_block)?;
        self.draw_latencies(typical);
        let span = transfer.length.0 as f64 / 1e9;
        let miss = if transfer.load.is_random() {
            (1.0 - self.model.controller.map_span_gb / span).max(0.0)
        } else {
            0.0
        };
        self.next_step = self.now + STEP_NS;
        self.work = Some(Work {
            transfer: *transfer,
            done: vec![Reverse(self.now); (transfer.load.depth * transfer.load.workers).max(1) as usize]
                .into(),
            served: self.now,
            issued: 0,
            began: self.now,
            write: transfer.load.op != Op::Read,
            chosen: false,
            position: transfer.skip.0,
            blocks: transfer.length.0 / transfer.load.block.0,
            miss,
            copied: self.copy.as_ref().map_or(0, |c| c.at().0),
            waited_until: self.now,
            over: false,
            unsure: false,
        });
        self.load = Some(transfer.load.block.0);
        self.set_pace(transfer.load.block.0);
        Ok(())
    }

    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        let Some(mut work) = self.work.take() else { return Ok(true) };
        work.unsure = false;
        self.serve(&mut work, until.0, tally);
        let finished = work.over || work.issued >= work.transfer.budget.0;
        let failed = !tally.failures.is_empty();
        self.now = match work.unsure || failed {
            _ if finished => work.served.max(self.now),
            // The other side has first to tell more, or what failed is looked at first.
            true => self.now,
            false => until.0.max(self.now),
        };
        if let Some(copy) = self.copy.as_ref().filter(|_| !work.unsure && !failed && !finished) {
            copy.told_until(until);
        }
        self.load = self.load.filter(|_| !finished);
        self.work = (!finished).then_some(work);
        Ok(finished)
    }

    fn drain(&mut self, _until: Nanos, _tally: &mut Tally) -> Result<bool, DriveError> {
        (self.work, self.load) = (None, None);
        Ok(true)
    }

    fn narrow(&mut self, failure: &Failure, patience: Nanos) -> Pending<Narrowed> {
        let block = self.model.geometry.logical_block.max(1);
        let write = failure.op != Op::Read;
        let mut took = 0.0;
        let narrowed = divide(failure.offset.0, failure.length.0, block, MOST_FAILING, |offset, bytes| {
            if took > patience.0 as f64 {
                return None;
            }
            self.set_pace(bytes);
            took += self.medium.takes(write, offset);
            let fails = self.medium.fails(write, offset, bytes);
            self.medium.done(write, offset, bytes);
            Some(!fails)
        });
        self.now += took as u64;
        self.next_step = self.now + STEP_NS;
        if let Some(work) = &mut self.work {
            work.served = work.served.max(self.now);
            let block = work.transfer.load.block.0;
            self.set_pace(block);
        }
        Pending::done(Narrowed { took: Nanos(took as u64), ..narrowed })
    }

    fn discard(&mut self, start: Bytes, length: Bytes) -> Pending<Result<(), DriveError>> {
        self.medium.discard(start, length);
        Pending::done(Ok(()))
    }

    fn begin_self_test(&mut self, kind: TestKind, over: (Bytes, Bytes)) -> Result<(), DriveError> {
        let offers = match self.model.health.kind {
            HealthKind::None => false,
            HealthKind::Nvme => !matches!(kind, TestKind::Conveyance | TestKind::Selective),
            HealthKind::Ata => true,
        };
        if !offers {
            return Err(DriveError::NotOffered { what: "self-tests of this kind" });
        }
        let (block, capacity) = (self.model.geometry.logical_block, self.model.geometry.capacity_bytes);
        let reads = match kind {
            TestKind::Extended => (0, capacity),
            // As a drive is told of it, and reads it.
            TestKind::Selective => {
                let log = ata::selective_log(over.0.0 / block, (over.1.0 / block).max(1) - 1);
                let stretches = ata::selective_stretches(&log);
                let of = |s: &(u64, u64)| (s.0 * block, ((s.1 + 1) * block).min(capacity));
                stretches.first().map_or((0, 0), of)
            }
            _ => (0, 0),
        };
        self.tests.begin(kind, reads, self.now, self.hours());
        Ok(())
    }

    fn end_self_test(&mut self) {
        self.tests.abort(self.hours());
    }

    fn ask_health(&mut self) {
        self.asked = true;
    }

    fn health_answer(&mut self) -> Option<Health> {
        if std::mem::take(&mut self.asked) { self.health_now() } else { None }
    }

    fn readings(&mut self) -> Readings {
        // Read back from the page, as with a real drive.
        let log = self.health_log();
        let kind = self.model.health.kind;
        Readings {
            temp: log.composite.filter(|_| kind != HealthKind::None),
            ambient: Some(Celsius(self.heat.ambient())),
            throttled: (kind == HealthKind::Nvme).then(|| Throttled {
                light_s: f64::from(log.light_seconds),
                heavy_s: f64::from(log.heavy_seconds),
            }),
            fill: Some(self.medium.fill()),
            disk_moved: None,
            warning: (kind == HealthKind::Nvme).then_some(log.critical_warning),
        }
    }

    fn health(&mut self) -> Option<Health> {
        self.health_now()
    }

    fn close(&mut self, _keep: bool) -> Result<(), DriveError> {
        (self.work, self.load) = (None, None);
        Ok(())
    }

    fn truth(&self) -> Option<Truth> {
        let instruments = self.instruments.as_ref().map(Instruments::truth);
        let byte = |share: f64| (share * self.model.geometry.capacity_bytes as f64) as u64;
        let weak = self.model.weak.iter().filter(|w| w.read_share < 1.0);
        let hollows = weak.map(|w| (byte(w.from), byte(w.to))).collect();
        Some(Truth { instruments, hollows, ..self.truth.clone() })
    }
}
