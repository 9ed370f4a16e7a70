//! A second set of traces, by other laws than those of [`crate::world`], with which it shares nothing but the type of a trace.
//!
//! Here a drive is not a list of properties that a loop puts together. Each class is told in the order in which it happens, onto a
//! tape that keeps time, heat and readings: write so long at this rate; go on until the core is at 81 °C; now the link is back. The
//! core of the drive heats a case, and the sensor sits between the two; noise is log-normal and wanders in continuous time; rows are
//! lost; readings are rounded, and late.

use crate::{Case, TrueBreak, Truth};
use mile_core::findings::Cause;
use mile_core::{Bytes, Celsius, Context, Latency, Nanos, Op, Rate, Sample, Throttled};
use rand::{RngExt, SeedableRng};
use rand_distr::{Distribution, Exp1, StandardNormal};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::cell::Cell;

/// All classes.
pub const CLASSES: [&str; 29] = [
    "tape: level",
    "tape: wander",
    "tape: cache",
    "tape: two modes behind the cache",
    "tape: shrinking stages",
    "tape: hops",
    "tape: round and round",
    "tape: at random",
    "tape: hour by hour",
    "tape: rows of two lengths",
    "tape: no answer",
    "tape: below its limit",
    "tape: visits while hot",
    "tape: steps of a throttle",
    "tape: held temperature",
    "tape: fan",
    "tape: hot reads",
    "tape: cache, then heat",
    "tape: visits",
    "tape: unseen visits",
    "tape: busy host",
    "tape: narrow link",
    "tape: no reason",
    "tape: no reason for a write",
    "tape: worn place",
    "tape: worn place, written",
    "tape: tracks",
    "tape: soaks and rests",
    "tape: other blocks",
];

/// Heat of a drive: its core, and the case around it.
#[derive(Clone, Copy)]
struct Body {
    core: f64,
    case: f64,
    ambient: f64,
    /// Rise of the core over its case at full power, and of the case over the air, °C.
    rise: (f64, f64),
    /// Their time constants, seconds.
    tau: (f64, f64),
    /// Share of the full power at rest.
    rest: f64,
    /// Share of the way from case to core at which the sensor sits.
    seat: f64,
}

impl Body {
    /// Goes on for `h` seconds at a power of 0 to 1.
    fn warm(&mut self, power: f64, h: f64) {
        let case = self.ambient + self.rise.1 * power;
        self.case += (case - self.case) * -(-h / self.tau.1).exp_m1();
        let core = self.case + self.rise.0 * power;
        self.core += (core - self.core) * -(-h / self.tau.0).exp_m1();
    }

    fn sensor(&self) -> f64 {
        self.case + self.seat * (self.core - self.case)
    }

    /// Where the sensor comes to rest at a power.
    fn settles(&self, power: f64) -> f64 {
        self.ambient + (self.rise.1 + self.seat * self.rise.0) * power
    }
}

/// Which readings there are.
#[derive(Clone, Copy)]
struct Shown {
    temp: bool,
    every: f64,
    ambient: bool,
    counter: bool,
    others: bool,
    steal: bool,
    address: bool,
    latency: bool,
    /// Share of the rows that are lost.
    lost: f64,
}

struct Tape {
    rng: Xoshiro256PlusPlus,
    /// Length of a row, seconds.
    row: f64,
    now: f64,
    moved: f64,
    /// The fastest that this drive is, MB/s: its full power.
    full: f64,
    body: Body,
    /// Logarithm of the noise, in two parts: quick and slow.
    noise: [f64; 2],
    sigma: [f64; 2],
    memory: [f64; 2],
    shown: Shown,
    capacity: f64,
    address: f64,
    leg: u32,
    names: Vec<String>,
    op: Op,
    /// What others move, MB/s, and what the host takes, 0 to 1.
    others: f64,
    steal: f64,
    counted: f64,
    counting: bool,
    read_at: f64,
    reading: f64,
    samples: Vec<Sample>,
    truth: Vec<TrueBreak>,
    /// What is collected for the row underway.
    start: f64,
    bytes: f64,
    from: f64,
    /// Bytes in the rows so far.
    told: u64,
    /// Whether each row is at another address.
    random: bool,
    /// How long the operation was out that comes back next, seconds.
    waited: f64,
}

impl Tape {
    fn new(seed: u64, class: &str) -> Self {
        let name = class.bytes().fold(seed, |h, b| h.wrapping_mul(0x0100_0000_01b3) ^ u64::from(b));
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(name);
        let row = [0.1, 0.2, 0.5, 1.0, 1.0, 2.0, 5.0][rng.random_range(0..7)];
        let ambient = rng.random_range(15.0..32.0);
        let full = rng.random_range(30_f64.ln()..12_000_f64.ln()).exp();
        let mut chance = |p| rng.random_bool(p);
        let shown = Shown {
            temp: chance(0.95),
            every: if chance(0.5) { 1.0 } else { 5.0 },
            ambient: chance(0.4),
            counter: chance(0.3),
            others: chance(0.6),
            steal: chance(0.4),
            address: chance(0.7),
            latency: chance(0.5),
            lost: if chance(0.3) { 0.01 } else { 0.0 },
        };
        let body = Body {
            core: ambient,
            case: ambient,
            ambient,
            rise: (rng.random_range(4.0..14.0), rng.random_range(8.0..24.0)),
            tau: (rng.random_range(6.0..40.0), rng.random_range(120.0..900.0)),
            rest: rng.random_range(0.15..0.4),
            seat: rng.random_range(0.4..1.0),
        };
        let mut tape = Self {
            row,
            now: 0.0,
            moved: 0.0,
            full,
            body,
            noise: [0.0; 2],
            sigma: [rng.random_range(0.004..0.035), rng.random_range(0.0..0.006)],
            memory: [rng.random_range(0.05..1.5), rng.random_range(20.0..90.0)],
            shown,
            capacity: full * 1e6 * 40_000.0,
            address: 0.0,
            leg: 0,
            names: vec!["long write".into()],
            op: Op::Write,
            others: 0.0,
            steal: 0.0,
            counted: 0.0,
            counting: false,
            read_at: f64::NEG_INFINITY,
            reading: 0.0,
            samples: Vec::new(),
            truth: Vec::new(),
            start: 0.0,
            bytes: 0.0,
            from: 0.0,
            told: 0,
            random: false,
            waited: 0.0,
            rng,
        };
        // It has been on for a while.
        (0..200).for_each(|_| tape.body.warm(tape.body.rest, 60.0));
        tape
    }

    fn range(&mut self, from: f64, to: f64) -> f64 {
        self.rng.random_range(from..to)
    }

    fn chance(&mut self, p: f64) -> bool {
        self.rng.random_bool(p)
    }

    /// A length of a stretch that can be told: so many rows at least.
    fn stretch(&mut self) -> f64 {
        let rows = self.range(70_f64.ln(), 600_f64.ln()).exp();
        (rows * self.row).max(self.range(25.0, 60.0))
    }

    /// What is left of a rate after a fall that stands out from the noise.
    fn share(&mut self, lowest: f64) -> f64 {
        let most = 0.88_f64.min(1.0 - 4.0 * self.sigma[0]);
        self.range(lowest.min(most - 0.01), most)
    }

    /// From here on it is for `cause` that the rate differs.
    fn mark(&mut self, cause: Cause) {
        let (at, bytes) = (self.now, self.moved.floor());
        self.truth.push(TrueBreak { start_s: at, end_s: at, start_bytes: bytes, end_bytes: bytes, cause });
    }

    /// The next leg.
    fn leg(&mut self, name: &str, op: Op) {
        self.row_ends();
        if !self.samples.is_empty() {
            self.leg += 1;
            self.names.push(String::new());
        }
        self.names[self.leg as usize] = name.into();
        self.op = op;
    }

    /// Goes on for so many seconds at a nominal rate, MB/s.
    fn hold(&mut self, seconds: f64, rate: f64) {
        self.until(seconds, |_| rate, |_| false);
    }

    /// Goes on at the rate that `rate` gives until `end` or for so many seconds. Gives whether `end` came.
    fn until(&mut self, most: f64, rate: impl Fn(&Self) -> f64, end: impl Fn(&Self) -> bool) -> bool {
        let h = (self.row / 6.0).min(0.25);
        let stop = self.now + most;
        while self.now < stop {
            if end(self) {
                return true;
            }
            let nominal = rate(self);
            self.step(nominal, h);
        }
        false
    }

    fn step(&mut self, nominal: f64, h: f64) {
        for k in 0..2 {
            let keep = (-h / self.memory[k]).exp();
            let z: f64 = StandardNormal.sample(&mut self.rng);
            self.noise[k] = keep * self.noise[k] + self.sigma[k] * (1.0 - keep * keep).sqrt() * z;
        }
        let (mean, sum) = (0.5 * self.sigma[0].powi(2), self.noise[0] + self.noise[1]);
        let rate = nominal * (sum - mean).exp();
        let power = if self.op == Op::Idle {
            self.body.rest
        } else {
            self.body.rest + (1.0 - self.body.rest) * (rate / self.full).min(1.2).powf(0.8)
        };
        self.body.warm(power, h);
        if self.counting {
            self.counted += h;
        }
        let bytes = rate * 1e6 * h;
        (self.now, self.moved, self.bytes) = (self.now + h, self.moved + bytes, self.bytes + bytes);
        self.address = (self.address + bytes / self.capacity).min(1.0);
        if self.now - self.read_at >= self.shown.every {
            (self.read_at, self.reading) = (self.now, self.body.sensor().round());
        }
        if self.now - self.start >= self.row * 0.999 {
            self.row_ends();
        }
    }

    fn row_ends(&mut self) {
        if self.now <= self.start {
            return;
        }
        let length = self.now - self.start;
        // A row that is lost: the next one tells of its bytes.
        if self.rng.random_bool(self.shown.lost) && length < 3.0 * self.row {
            return;
        }
        // Bytes are whole, and none gets lost.
        let bytes = Bytes((self.moved as u64).saturating_sub(self.told));
        self.told += bytes.0;
        let slow = self.full * 1e6 * length / self.bytes.max(1.0);
        let spread: f64 = Exp1.sample(&mut self.rng);
        let us = |k: f64| Nanos((90e3 * slow.min(1e4) * k * (1.0 + 0.05 * spread)) as u64);
        let s = self.shown;
        self.samples.push(Sample {
            start: Nanos::from_secs(self.start),
            end: Nanos::from_secs(self.now),
            leg: self.leg,
            op: self.op,
            written: if self.op == Op::Write { bytes } else { Bytes(0) },
            read: if self.op == Op::Read { bytes } else { Bytes(0) },
            latency: (s.latency && self.bytes > 0.0).then(|| Latency {
                p50: us(1.0),
                p99: us(2.5),
                p999: us(6.0),
                max: us(11.0).max(Nanos::from_secs(std::mem::take(&mut self.waited))),
            }),
            temp: s.temp.then_some(Celsius(self.reading)),
            ambient: s.ambient.then_some(Celsius((self.body.ambient * 2.0).round() / 2.0)),
            throttled: s.counter.then(|| Throttled { light_s: self.counted.floor(), heavy_s: 0.0 }),
            foreign: s.others.then_some(Rate(self.others * 1e6)),
            steal: s.steal.then_some(self.steal as f32),
            offset: s.address.then_some(Bytes((self.from * self.capacity) as u64)),
            ..Sample::default()
        });
        (self.start, self.bytes, self.from) = (self.now, 0.0, self.address);
        if self.random {
            self.from = self.rng.random();
        }
    }

    /// Gives the drive a cooling with which the sensor would come to `top` °C at full power.
    fn top(&mut self, top: f64) {
        let now = self.body.settles(1.0) - self.body.ambient;
        let scale = (top - self.body.ambient) / now;
        (self.body.rise.0, self.body.rise.1) = (self.body.rise.0 * scale, self.body.rise.1 * scale);
        self.body.case = self.body.ambient;
        self.body.core = self.body.ambient;
        (0..200).for_each(|_| self.body.warm(self.body.rest, 60.0));
    }
}

/// A trace of a class: the same again for the same two. One in which what was meant does not come about is drawn anew.
pub fn case(class: &'static str, seed: u64) -> Case {
    let draw = |attempt: u64| told(class, seed, seed ^ attempt.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    (0..).find_map(draw).unwrap_or_else(|| unreachable!("some draw comes about"))
}

fn told(class: &'static str, seed: u64, drawn: u64) -> Option<Case> {
    let mut t = Tape::new(drawn, class);
    let full = t.full;
    let mut warn = None;
    let calm = t.range(48.0, 60.0);
    t.top(calm);
    match class {
        "tape: level" => {
            let seconds = 4.0 * t.stretch();
            t.hold(seconds, full);
        }
        "tape: wander" => {
            // It sinks by a fifth over all of it, and nothing happens at any time.
            let seconds = 5.0 * t.stretch();
            t.until(seconds, |t| full * (1.0 - 0.2 * t.now / seconds), |_| false);
        }
        "tape: cache" => {
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.06));
            t.capacity = full * 1e6 * before * 12.0;
            t.hold(before, full);
            t.mark(Cause::CacheExhausted);
            t.hold(after, full * share);
        }
        "tape: two modes behind the cache" => {
            let (before, slow) = (t.stretch(), t.share(0.1).min(0.4));
            t.capacity = full * 1e6 * before * 8.0;
            t.hold(before, full);
            t.mark(Cause::CacheExhausted);
            // It makes room for a moment, again and again, and takes it at once.
            let (make, take) = (t.range(3.0, 9.0) * t.row.max(0.4), t.range(0.6, 1.4) * t.row.max(0.4));
            let end = t.now + 3.0 * t.stretch() + 25.0 * (make + take);
            while t.now < end {
                let (a, b) = (t.range(0.85, 1.15), t.range(0.85, 1.15));
                t.hold(make * a, full * slow);
                t.hold(take * b, full * 0.9);
            }
        }
        "tape: shrinking stages" => {
            let mut share = 1.0;
            let stages = [t.stretch(), t.stretch()];
            t.capacity = full * 1e6 * (stages[0] + stages[1]) * 7.0;
            for seconds in stages {
                t.hold(seconds, full * share);
                share *= t.share(0.2).min(0.75);
                t.mark(Cause::CacheExhausted);
            }
            let seconds = t.stretch();
            t.hold(seconds, full * share);
        }
        "tape: hops" => {
            // Places that are in use are left out: the address goes on further ahead, once or twice.
            t.shown.address = true;
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.capacity = full * 1e6 * before * 12.0;
            t.hold(before * 0.4, full);
            t.address += 0.1;
            t.hold(before * 0.6, full);
            t.mark(Cause::CacheExhausted);
            t.hold(after * 0.5, full * share);
            t.address += 0.2;
            t.hold(after * 0.5, full * share);
        }
        "tape: round and round" => {
            // The same part of the drive is written over and over.
            t.shown.address = true;
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.capacity = full * 1e6 * before * 12.0;
            let part = t.range(0.01, 0.06);
            let round = |t: &mut Tape, seconds: f64, rate: f64| {
                let end = t.now + seconds;
                while t.now < end {
                    t.until(end - t.now, |_| rate, |t| t.address >= part);
                    t.address = if t.address >= part { 0.0 } else { t.address };
                }
            };
            round(&mut t, before, full);
            t.mark(Cause::CacheExhausted);
            round(&mut t, after, full * share);
        }
        "tape: at random" => {
            t.shown.address = true;
            t.random = true;
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.capacity = full * 1e6 * before * 12.0;
            t.hold(before, full);
            t.mark(Cause::CacheExhausted);
            t.hold(after, full * share);
        }
        "tape: hour by hour" => {
            // Legs that follow each other and do the same.
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.capacity = full * 1e6 * (before + 2.0 * after) * 7.0;
            for (i, name) in ["hour 1", "hour 2", "hour 3", "hour 4"].into_iter().enumerate() {
                t.leg(name, Op::Write);
                if i == 2 {
                    t.hold(0.3 * before, full);
                    t.mark(Cause::CacheExhausted);
                }
                t.hold(after, full * if i < 2 { 1.0 } else { share });
            }
        }
        "tape: rows of two lengths" => {
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.capacity = full * 1e6 * before * 12.0;
            t.hold(before * 0.6, full);
            t.row *= if t.chance(0.5) { 5.0 } else { 0.2 };
            let least = 12.0 * t.row;
            t.hold(least.max(before * 0.4), full);
            t.mark(Cause::CacheExhausted);
            t.hold(after.max(5.0 * least), full * share);
        }
        "tape: no answer" => {
            let (before, after) = (t.stretch(), t.stretch());
            let still = t.range(10.0, 40.0).max(12.0 * t.row);
            // Without latencies nobody could say whether it was asked.
            let known = t.shown.latency;
            t.hold(before, full);
            t.row_ends();
            t.mark(if known { Cause::Stall } else { Cause::Unexplained });
            let from = t.now;
            t.hold(still, 0.0);
            t.row_ends();
            t.mark(if known { Cause::StallEnd } else { Cause::Unexplained });
            t.waited = t.now - from;
            t.hold(after, full);
        }
        "tape: below its limit" => {
            // It slows well below the limit that it declares, and says nothing of it.
            let onset = t.range(58.0, 70.0).round();
            warn = Some(onset + t.range(8.0, 20.0).round());
            (t.shown.temp, t.shown.counter) = (true, false);
            let top = onset + t.range(6.0, 14.0);
            t.top(top);
            let share = t.share(0.3).min(0.75);
            heats(&mut t, onset, full);
            for _ in 0..3 {
                t.mark(Cause::ThermalThrottle);
                let at = t.now;
                if !t.until(4000.0, |_| full * share, |t| t.body.sensor() <= onset - 5.0) {
                    return None;
                }
                t.mark(Cause::ThermalRelease);
                let back = t.now;
                t.until(4000.0, |_| full, |t| t.body.sensor() >= onset);
                if (back - at).min(t.now - back) < 25.0_f64.max(25.0 * t.row) {
                    return None;
                }
            }
        }
        "tape: visits while hot" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            t.shown.others = true;
            let top = limit + t.range(5.0, 14.0);
            t.top(top);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            // What is left holds the drive at its limit.
            let hot = (limit - t.body.ambient) / (top - t.body.ambient);
            let share = ((hot - t.body.rest) / (1.0 - t.body.rest)).max(0.05).powf(1.25);
            let seconds = t.stretch();
            t.hold(seconds, full * share);
            let less = t.share(0.4).min(0.8);
            t.others = full * share * (1.0 - less) * t.range(0.6, 1.0);
            t.mark(Cause::Interference);
            let seconds = t.stretch().min(t.body.tau.1 * 0.3).max(30.0 * t.row).max(25.0);
            t.hold(seconds, full * share * less);
            t.others = 0.0;
            t.mark(Cause::InterferenceEnd);
            t.hold(seconds, full * share);
            if share > 0.85 {
                return None;
            }
        }
        "tape: steps of a throttle" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(8.0, 20.0);
            t.top(top);
            let deeper = t.share(0.3).min(0.8);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            // A first step that does not do, and a second one that does.
            let first = t.share(0.6).max(0.72);
            let goes_on = t.until(4000.0, |_| full * first, |t| t.body.sensor() >= limit + 3.0);
            if goes_on && t.now - t.truth[0].start_s >= 25.0_f64.max(25.0 * t.row) {
                t.mark(Cause::ThermalThrottle);
                // It would let go where it is a few degrees cooler.
                let seconds = t.stretch();
                t.until(seconds, |_| full * first * deeper, |t| t.body.sensor() <= limit - 4.0);
                if t.now - t.truth[1].start_s < 25.0_f64.max(25.0 * t.row) {
                    return None;
                }
            }
        }
        "tape: held temperature" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(10.0, 30.0);
            t.top(top);
            heats(&mut t, limit, full);
            let (at, bytes) = (t.now, t.moved);
            t.counting = true;
            // A governor takes a little away every few seconds while it is too warm, and gives it back more slowly.
            let (every, less) = (t.range(1.0, 4.0), t.range(0.02, 0.05));
            let (left, due) = (Cell::new(1.0_f64), Cell::new(t.now));
            let law = |t: &Tape| {
                if t.now >= due.get() {
                    due.set(t.now + every);
                    let off = t.body.sensor() - limit;
                    let change = if off > 0.0 {
                        1.0 - less
                    } else if off < -2.0 {
                        1.0 + 0.3 * less
                    } else {
                        1.0
                    };
                    left.set((left.get() * change).clamp(0.2, 1.0));
                }
                full * left.get()
            };
            let mut passed = vec![(t.now, t.moved, 1.0)];
            let end = t.now + 3.0 * t.stretch() + 6.0 * t.body.tau.0 + 2.0 * t.body.tau.1;
            while t.now < end {
                t.until(every, law, |_| false);
                passed.push((t.now, t.moved, left.get()));
            }
            // Nine tenths of the way down. Where it swings, nobody could say when.
            let lowest = passed.iter().map(|p| p.2).fold(1.0, f64::min);
            let last = left.get();
            let done = passed.iter().find(|p| p.2 <= 1.0 - 0.9 * (1.0 - lowest)).copied()?;
            if last > 0.8 || last > lowest * 1.08 || done.0 - at > 0.3 * (end - at) {
                return None;
            }
            t.truth.push(TrueBreak {
                start_s: at,
                end_s: done.0,
                start_bytes: bytes.floor(),
                end_bytes: done.1.floor(),
                cause: Cause::ThermalThrottle,
            });
        }
        "tape: fan" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(5.0, 14.0);
            t.top(top);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            let (share, seconds) = (t.share(0.35), t.stretch() + 60.0);
            t.hold(seconds, full * share);
            // Somebody puts a fan before it.
            t.body.rise.1 *= 0.35;
            let cools = t.until(6000.0, |_| full * share, |t| t.body.sensor() <= limit - 9.0);
            if cools {
                t.mark(Cause::ThermalRelease);
                t.counting = false;
                let seconds = t.stretch();
                t.hold(seconds, full);
            }
        }
        "tape: hot reads" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(5.0, 20.0);
            t.top(top);
            t.leg("long read", Op::Read);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            let (share, seconds) = (t.share(0.3), t.stretch());
            t.hold(seconds, full * share);
        }
        "tape: cache, then heat" => {
            let limit = t.range(66.0, 80.0).round();
            warn = Some(limit);
            // What is left behind the cache is warm enough.
            let share = t.range(0.5, 0.8);
            let top = limit + t.range(20.0, 40.0);
            t.top(top);
            let far = limit - t.range(4.0, 10.0);
            heats(&mut t, far, full);
            t.capacity = t.moved * 9.0;
            t.mark(Cause::CacheExhausted);
            let least = (25.0 * t.row).max(12.0);
            t.hold(least, full * share);
            if t.until(6000.0, |_| full * share, |t| t.body.sensor() >= limit) {
                t.mark(Cause::ThermalThrottle);
                t.counting = true;
                let (deep, seconds) = (t.share(0.4).min(0.8), t.stretch());
                t.hold(seconds, full * share * deep);
            }
        }
        "tape: visits" => {
            t.shown.others = true;
            if t.chance(0.5) {
                t.leg("long read", Op::Read);
            }
            let seconds = t.stretch();
            t.hold(seconds, full);
            for _ in 0..t.rng.random_range(1..4) {
                let (share, seconds, pause) = (t.share(0.3), t.stretch(), t.stretch());
                t.others = full * (1.0 - share) * t.range(0.4, 1.0);
                t.mark(Cause::Interference);
                t.hold(seconds, full * share);
                t.others = 0.0;
                t.mark(Cause::InterferenceEnd);
                t.hold(pause, full);
            }
        }
        "tape: unseen visits" => {
            // They come and go evenly, and the drive cools a little each time: nothing that is logged tells of them.
            (t.shown.others, t.shown.steal) = (false, false);
            let (seconds, pause, share) = (t.stretch(), t.stretch(), t.share(0.3));
            let before = pause * t.range(0.5, 3.0);
            t.hold(before, full);
            for _ in 0..3 {
                t.mark(Cause::Unexplained);
                t.hold(seconds, full * share);
                t.mark(Cause::Unexplained);
                t.hold(pause, full);
            }
        }
        "tape: busy host" => {
            t.shown.steal = true;
            let (before, seconds, after) = (t.stretch(), t.stretch(), t.stretch());
            let share = t.share(0.3);
            t.hold(before, full);
            t.mark(Cause::Interference);
            t.steal = (1.0 - share) * t.range(0.7, 1.1);
            t.hold(seconds, full * share);
            t.steal = 0.01;
            t.mark(Cause::InterferenceEnd);
            t.hold(after, full);
        }
        "tape: narrow link" => {
            let op = if t.chance(0.5) { Op::Read } else { Op::Write };
            t.leg("long transfer", op);
            let (before, seconds, after) = (t.stretch(), t.stretch(), t.stretch());
            t.hold(before, full);
            // Its temperature is long what it will be.
            t.mark(Cause::Unexplained);
            t.hold(seconds, full * 0.5);
            t.mark(Cause::Unexplained);
            t.hold(after, full);
        }
        "tape: no reason for a write" => {
            let mut rate = full;
            let falls = t.rng.random_range(1..3);
            for _ in 0..falls {
                let seconds = t.stretch();
                t.hold(seconds, rate);
                rate *= t.share(0.3);
                t.mark(Cause::Unexplained);
            }
            let seconds = t.stretch();
            t.hold(seconds, rate);
            t.capacity = t.moved * t.range(1.1, 20.0);
        }
        "tape: no reason" => {
            t.leg("long read", Op::Read);
            let mut rate = full;
            let mut plan = Vec::new();
            for _ in 0..t.rng.random_range(2..5) {
                plan.push((t.stretch(), rate));
                rate *= t.share(0.3);
            }
            // Of a part of the drive, or of all of it.
            if t.chance(0.5) {
                t.capacity = plan.iter().map(|(seconds, rate)| seconds * rate * 1e6).sum::<f64>() * 1.03;
            }
            for (i, (seconds, rate)) in plan.into_iter().enumerate() {
                if i > 0 {
                    t.mark(Cause::Unexplained);
                }
                t.hold(seconds, rate);
            }
        }
        "tape: worn place" => {
            t.shown.address = true;
            let (before, seconds, after, share) = (t.stretch(), t.stretch(), t.stretch(), t.share(0.3));
            let whole = full * 1e6 * (before + seconds * share + after);
            t.capacity = whole * 1.02;
            let (from, to) =
                (full * 1e6 * before / t.capacity, full * 1e6 * (before + seconds * share) / t.capacity);
            for pass in 0..2 {
                t.leg(["first pass", "second pass"][pass], Op::Read);
                (t.address, t.from) = (0.0, 0.0);
                t.until(1e9, |_| full, |t| t.address >= from);
                t.mark(Cause::Surface);
                t.until(1e9, |_| full * share, |t| t.address >= to);
                t.mark(Cause::Surface);
                t.until(1e9, |_| full, |t| t.address >= 0.98);
            }
        }
        "tape: worn place, written" => {
            // Writes from several places on come to the same one, after other bytes each time.
            t.shown.address = true;
            let (before, inside, share) = (t.stretch(), t.stretch(), t.share(0.4));
            t.capacity = full * 1e6 * before * t.range(2.5, 8.0);
            let worn = full * 1e6 * before / t.capacity;
            let leaves = t.chance(0.5);
            for write in 0..t.rng.random_range(3..6) {
                if write > 0 {
                    t.leg(["rest 1", "rest 2", "rest 3", "rest 4"][write - 1], Op::Idle);
                    t.hold(before * 0.5, 0.0);
                }
                t.leg(["write 1", "write 2", "write 3", "write 4", "write 5"][write], Op::Write);
                t.address = worn * t.range(0.0, 0.7) * f64::from(u8::from(write > 0));
                t.from = t.address;
                if write > 0 && !leaves {
                    t.mark(Cause::Surface);
                }
                t.until(1e9, |_| full, |t| t.address >= worn);
                t.mark(Cause::Surface);
                t.hold(inside, full * share);
                if leaves {
                    t.mark(Cause::Surface);
                    t.hold(inside, full);
                }
            }
        }
        "tape: tracks" => {
            // From the outer to the inner tracks in sixteen small steps, there and there again.
            t.shown.address = true;
            let inner = t.range(0.42, 0.6);
            let seconds = 4.0 * t.stretch();
            t.capacity = full * 1e6 * seconds * (1.0 + inner) / 2.0;
            for pass in 0..2 {
                t.leg(["first pass", "second pass"][pass], Op::Read);
                (t.address, t.from) = (0.0, 0.0);
                let law = |t: &Tape| full * (1.0 - (1.0 - inner) * (t.address * 16.0).floor() / 15.0);
                t.until(1e9, law, |t| t.address >= 0.99);
            }
        }
        "tape: soaks and rests" => {
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1).min(0.75));
            t.capacity = full * 1e6 * before * 15.0;
            for soak in 1..=3 {
                t.leg(["soak 1", "soak 2", "soak 3"][soak - 1], Op::Write);
                if soak > 1 {
                    t.mark(Cause::CacheRecovered);
                }
                t.hold(before, full);
                t.mark(Cause::CacheExhausted);
                t.hold(after, full * share);
                if soak < 3 {
                    t.leg(["rest 1", "rest 2"][soak - 1], Op::Idle);
                    t.hold(3.0 * before, 0.0);
                }
            }
        }
        _ => {
            let op = if t.chance(0.5) { Op::Read } else { Op::Write };
            let mut rate = full;
            for (i, name) in ["blocks 1 MiB", "blocks 64 KiB", "blocks 4 KiB"].into_iter().enumerate() {
                t.leg(name, op);
                if i > 0 {
                    rate *= t.share(0.1).min(0.8);
                    t.mark(Cause::Workload);
                }
                let seconds = t.stretch();
                t.hold(seconds, rate);
            }
        }
    }
    t.row_ends();
    let limit = warn.unwrap_or_else(|| t.range(70.0, 85.0).round());
    let context = Context {
        capacity: Some(Bytes(t.capacity as u64)),
        warn: Some(Celsius(limit)),
        critical: t.chance(0.5).then_some(Celsius(limit + 10.0)),
        ..Context::default()
    };
    Some(Case {
        pattern: class,
        seed,
        samples: t.samples,
        names: t.names,
        context,
        truth: Truth { breaks: t.truth, cycles: None },
    })
}

/// Heats up at a rate until the sensor is at `limit`. A cooling with which it does not come so far, or is there at once, is made worse or better.
fn heats(t: &mut Tape, limit: f64, rate: f64) {
    let least = (60.0 * t.row).max(25.0);
    loop {
        // How long would it take?
        let (mut body, mut seconds) = (t.body, 0.0);
        let power = body.rest + (1.0 - body.rest) * (rate / t.full).powf(0.8);
        while body.sensor() < limit && seconds < 20_000.0 {
            body.warm(power, 0.5);
            seconds += 0.5;
        }
        if seconds >= least {
            break;
        }
        t.body.tau.1 *= 1.5;
        t.body.tau.0 *= 1.2;
    }
    t.until(20_000.0, |_| rate, |t| t.body.sensor() >= limit);
}
