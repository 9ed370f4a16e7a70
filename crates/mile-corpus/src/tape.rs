//! A second set of traces, by other laws than those of [`crate::world`], with which it shares nothing but the type of a trace.
//!
//! Here a drive is not a list of properties that a loop puts together. Each class is told in the order in which it happens, onto a
//! tape that keeps time, heat and readings: write so long at this rate; go on until the core is at 81 °C; now the link is back. The
//! core of the drive heats a case, and the sensor sits between the two; noise is log-normal and wanders in continuous time; rows are
//! lost; readings are rounded, and late.

pub(crate) mod classes;

use crate::{TrueBreak, TrueCycle};
use mile_core::findings::Cause;
use mile_core::{Bytes, Celsius, Latency, Nanos, Op, Rate, Sample, Throttled};
use rand::{RngExt, SeedableRng};
use rand_distr::{Distribution, Exp1, StandardNormal};
use rand_xoshiro::Xoshiro256PlusPlus;

/// All classes.
pub const CLASSES: [&str; 33] = [
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
    "tape: shallow saw",
    "tape: dips while hot",
    "tape: brief visits",
    "tape: fan",
    "tape: warm room",
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

    /// Comes to rest with nothing to do.
    fn settle(&mut self) {
        (self.case, self.core) = (self.ambient, self.ambient);
        (0..200).for_each(|_| self.warm(self.rest, 60.0));
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

/// What operations have to wait for while a drive is slow.
#[derive(Clone, Copy, PartialEq)]
enum Wait {
    /// Each of them for its share.
    Each,
    /// Each, and one in so many for much more.
    Some,
    /// One in so many for all of it.
    Few,
}

/// Latencies. An operation takes as long as it has to wait, and the mean of all goes with the slowness.
struct Delays {
    rng: Xoshiro256PlusPlus,
    /// For what is slow because of the flash, of heat, of others, of a place, and of nothing that shows.
    waits: [Wait; 5],
    now: Wait,
    /// Slowness of the last row, and when the reason changed.
    last: f64,
    base: f64,
    /// The 99th percentile over the median of a drive that is not slow.
    tail: f64,
}

impl Delays {
    fn draw(seed: u64) -> Self {
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed ^ 0x6465_6c61_7973);
        let plain = rng.random_bool(0.25);
        let mut one = |each: f64, some: f64| {
            let at: f64 = rng.random();
            match () {
                () if plain || at < each => Wait::Each,
                () if at < each + some => Wait::Some,
                () => Wait::Few,
            }
        };
        let waits = [one(0.3, 0.5), one(0.5, 0.1), one(0.6, 0.4), one(0.3, 0.7), one(0.5, 0.3)];
        let tail = rng.random_range(1.4..4.0);
        Self { rng, waits, now: Wait::Each, last: 1.0, base: 1.0, tail }
    }

    /// Whatever makes it slow makes each operation as much slower.
    fn all_alike(&mut self) {
        self.waits = [Wait::Each; 5];
    }

    /// From here on it is slow, or slow no more, for another reason.
    fn turn(&mut self, place: usize) {
        (self.now, self.base) = (self.waits[place], self.last.max(1.0));
    }

    /// The median in units of that of a drive that is not slow, and the 99th percentile over it.
    fn at(&mut self, slow: f64) -> (f64, f64) {
        self.last = slow;
        let spread: f64 = Exp1.sample(&mut self.rng);
        let noise = 1.0 + 0.08 * spread;
        // What came on top of what was slow before, or what is left of it.
        let (low, high) = (self.base.min(slow).max(1.0), self.base.max(slow).max(1.0));
        let more = high / low - 1.0;
        let (median, tail) = match self.now {
            Wait::Each => (slow, self.tail),
            // One in ten waits for half of what is lost.
            Wait::Some => (low * (1.0 + 0.55 * more), self.tail * (1.0 + 5.0 * more) / (1.0 + 0.55 * more)),
            // One in thirty waits for all of it.
            Wait::Few => (low, self.tail + 30.0 * more),
        };
        let is_back = slow < self.base && self.now != Wait::Each;
        if is_back { (slow, self.tail * noise) } else { (median, tail * noise) }
    }
}

/// What the drive draws. Where it is slow for a reason that lets it work on, its power goes with a slowness that is less than that of its rate.
struct Draws {
    /// By how much less, 0 to 1, as powers: of the flash, of heat, of others, of a place, and of nothing that shows.
    less: [f64; 5],
    now: f64,
    /// Slowness of the last step; where the reason changed, that of the rate and of the power.
    last: f64,
    base: (f64, f64),
    watts: f64,
    /// Seconds between two readings, 0 where there are none, and their standard deviation, a share.
    every: f64,
    scatter: f64,
    read: Vec<(f64, f64)>,
    rng: Xoshiro256PlusPlus,
}

impl Draws {
    fn draw(seed: u64) -> Self {
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed ^ 0x7761_7474);
        let mut busy = |often: f64| if rng.random_bool(often) { rng.random_range(0.6..1.0) } else { 0.0 };
        let less = [busy(0.85), 0.0, busy(0.9), busy(0.8), busy(0.5)];
        Self {
            less,
            now: 0.0,
            last: 1.0,
            base: (1.0, 1.0),
            watts: rng.random_range(1.5..20.0),
            every: if rng.random_bool(0.3) { rng.random_range(0.2..3.0) } else { 0.0 },
            scatter: rng.random_range(0.002..0.04),
            read: Vec::new(),
            rng,
        }
    }

    fn turn(&mut self, place: usize) {
        self.base = (self.last, self.slowness(self.last));
        self.now = self.less[place];
    }

    /// The slowness of its power at one of its rate.
    fn slowness(&self, slow: f64) -> f64 {
        let (rate, power) = self.base;
        if slow >= rate {
            power * (slow / rate).powf(1.0 - self.now)
        } else {
            // Back by the way that it came.
            (power.ln() * slow.ln() / rate.ln()).exp()
        }
    }
}

/// The place of a cause among those that differ in what operations wait for, and in what the drive draws.
fn place(cause: Cause) -> usize {
    match cause {
        Cause::CacheExhausted | Cause::CacheRecovered | Cause::FillLevel => 0,
        Cause::ThermalThrottle | Cause::ThermalRelease => 1,
        Cause::Interference | Cause::InterferenceEnd => 2,
        Cause::Surface => 3,
        _ => 4,
    }
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
    cycles: Option<TrueCycle>,
    /// Whether its slow places are gone over once.
    seen_once: bool,
    /// What is collected for the row underway.
    start: f64,
    bytes: f64,
    from: f64,
    /// Bytes in the rows so far.
    told: u64,
    /// Whether each row is at another address.
    random: bool,
    /// The latencies that go with it.
    delays: Delays,
    draws: Draws,
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
            cycles: None,
            seen_once: false,
            start: 0.0,
            bytes: 0.0,
            from: 0.0,
            told: 0,
            random: false,
            waited: 0.0,
            delays: Delays::draw(name),
            draws: Draws::draw(name),
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

    /// The cache takes what comes in so many seconds at the full rate. The drive holds 3.3 to 60 times as much, and what else comes in any case, in
    /// seconds at the full rate too.
    fn with_cache(&mut self, seconds: f64, more: f64) {
        let times = self.range(3.3_f64.ln(), 60_f64.ln()).exp();
        self.capacity = self.full * 1e6 * (seconds * times).max(1.1 * (seconds + more));
    }

    /// From here on it is for `cause` that the rate differs.
    fn mark(&mut self, cause: Cause) {
        let (at, bytes) = (self.now, self.moved.floor());
        self.delays.turn(place(cause));
        self.draws.turn(place(cause));
        self.truth.push(TrueBreak { start_s: at, end_s: at, start_bytes: bytes, end_bytes: bytes, cause });
    }

    /// Since `from` it has been slow so often, for `cause`.
    fn repeats(&mut self, from: f64, turns: usize, cause: Cause) {
        let period_s = (self.now - from) / turns as f64;
        self.cycles = Some(TrueCycle { start_s: from, end_s: self.now, period_s, cause });
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
            self.draws.last = (self.full / nominal.max(1e-6)).max(1.0);
            let noise = rate / nominal.max(1e-6);
            let works = noise / self.draws.slowness(self.draws.last);
            self.body.rest + (1.0 - self.body.rest) * works.min(1.2).powf(0.8)
        };
        self.body.warm(power, h);
        let draws = &mut self.draws;
        if draws.every > 0.0 && draws.read.last().is_none_or(|last| self.now - last.0 >= draws.every) {
            let z: f64 = StandardNormal.sample(&mut draws.rng);
            draws.read.push((self.now, draws.watts * power * (1.0 + draws.scatter * z)));
        }
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
        let slow = (self.full * 1e6 * length / self.bytes.max(1.0)).min(1e4);
        let (median, tail) = self.delays.at(slow);
        let us = |k: f64| Nanos((90e3 * median * k) as u64);
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
                p99: us(tail),
                p999: us(1.0 + 1.6 * (tail - 1.0)),
                max: us(1.0 + 3.0 * (tail - 1.0)).max(Nanos::from_secs(std::mem::take(&mut self.waited))),
            }),
            temp: s.temp.then_some(Celsius(self.reading)),
            ambient: s.ambient.then_some(Celsius((self.body.ambient * 2.0).round() / 2.0)),
            throttled: s.counter.then(|| Throttled { light_s: self.counted.floor(), heavy_s: 0.0 }),
            foreign: s.others.then_some(Rate(self.others * 1e6)),
            host: mile_core::Host { steal: s.steal.then_some(self.steal as f32), cpu: None },
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
        self.body.settle();
    }
}
