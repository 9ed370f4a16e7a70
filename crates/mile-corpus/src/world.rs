//! A small world: a rate that follows from a cache, heat, fill level, surface and others, step by step.

use crate::noise::Noise;
use crate::{TrueBreak, TrueCycle, Truth};
use mile_core::findings::Cause;
use mile_core::{Bytes, Celsius, Latency, Nanos, Op, Rate, Sample, Throttled};
use rand::RngExt;
use rand_distr::{Distribution, StandardNormal};
use rand_xoshiro::Xoshiro256PlusPlus;

/// One leg.
#[derive(Clone, Debug)]
pub struct Leg {
    /// Its name.
    pub name: String,
    /// What it does.
    pub op: Op,
    /// How long, seconds.
    pub seconds: f64,
    /// Rate before anything gets in the way, MB/s.
    pub rate: f64,
    /// Address at which it begins, share of the capacity.
    pub from: f64,
}

/// One stage behind the cache.
#[derive(Clone, Copy, Debug)]
pub struct Stage {
    /// Bytes written since the last rest at which it begins.
    pub bytes: f64,
    /// Rate from there, share of the rate before everything.
    pub share: f64,
    /// Over how many bytes the rate goes over to it.
    pub width: f64,
}

/// Heat: two masses side by side, each coming to its share of the rise.
#[derive(Clone, Copy, Debug)]
pub struct Heat {
    /// Temperature around, °C, and how it drifts, °C/h.
    pub ambient: (f64, f64),
    /// Rise at full power, of the fast and of the slow mass, °C.
    pub rise: [f64; 2],
    /// Their time constants, seconds.
    pub tau: [f64; 2],
    /// Share of the full power that is drawn at rest.
    pub idle: f64,
    /// Power goes with the rate to this.
    pub gamma: f64,
    /// Whether it begins in balance at rest (or at ambient).
    pub rested: bool,
}

/// How a drive slows itself.
#[derive(Clone, Copy, Debug)]
pub struct Throttle {
    /// From which temperature, °C.
    pub onset: f64,
    /// Below which it lets go, °C.
    pub release: f64,
    /// To which share of the rate.
    pub share: f64,
    /// Share of the rate for each degree above the onset; 0 for a step.
    pub gain: f64,
}

/// Others on the drive or on the host.
#[derive(Clone, Copy, Debug)]
pub struct Other {
    /// From, seconds.
    pub from: f64,
    /// To, seconds.
    pub to: f64,
    /// Share of the rate that is left.
    pub share: f64,
    /// Their rate, MB/s.
    pub foreign: f64,
    /// Processor time stolen, 0 to 1.
    pub steal: f64,
}

/// Something that comes back regularly.
#[derive(Clone, Copy, Debug)]
pub struct Cycle {
    /// From when on, seconds; or from the first stage behind the cache on.
    pub from: f64,
    /// Whether it begins behind the cache.
    pub behind_cache: bool,
    /// Period, seconds.
    pub period: f64,
    /// Share of the period that is slow.
    pub duty: f64,
    /// Share of the rate that is lost in it.
    pub depth: f64,
    /// How irregular it is, share of the period.
    pub jitter: f64,
    /// Slow and fast are joined by ramps.
    pub ramps: bool,
}

/// What is written down, and how.
#[derive(Clone, Copy, Debug)]
pub struct Channels {
    /// Temperature: its step, °C, how often it is read anew, seconds, and its lag, seconds.
    pub temp: Option<(f64, f64, f64)>,
    /// Ambient temperature.
    pub ambient: bool,
    /// Throttle counters.
    pub counters: bool,
    /// Latency.
    pub latency: bool,
    /// Others' rate.
    pub foreign: bool,
    /// Stolen processor time.
    pub steal: bool,
    /// Share in use.
    pub fill: bool,
    /// Address.
    pub offset: bool,
}

/// How the latencies of a world go with its slowness: for each reason, the power of the slowness with which the median goes, and that with which the 99th
/// percentile goes over the median.
#[derive(Clone, Copy, Debug, Default)]
pub struct Shapes {
    /// A full cache, or a full drive.
    pub media: (f64, f64),
    /// Heat.
    pub heat: (f64, f64),
    /// A weak place.
    pub weak: (f64, f64),
    /// What has no reason.
    pub riddle: (f64, f64),
    /// Others on the drive.
    pub others: (f64, f64),
    /// Others on the host.
    pub host: (f64, f64),
    /// The 99th percentile over the median where nothing is slow, and how much the logarithm of it scatters.
    pub tail: (f64, f64),
}

impl Shapes {
    /// Draws them. As many operations are underway whatever happens, so that their mean goes with the slowness. A log of a quarter of the worlds tells no
    /// more than that. Else a cache that is full mostly makes some operations wait for room; heat slows a clock, or stops the drive for moments; a weak
    /// place is slow, or read again; a processor that is taken away stops everything for moments.
    pub fn draw(rng: &mut Xoshiro256PlusPlus) -> Self {
        let plain = rng.random_bool(0.25);
        let mut one = |alike: f64, spreads: f64| {
            let (at, by, deep): (f64, f64, f64) =
                (rng.random(), rng.random_range(0.5..1.8), rng.random_range(0.0..0.25));
            if plain || at < alike {
                (1.0, 0.0)
            } else if at < alike + spreads {
                (0.9, by)
            } else {
                (deep, 0.8 + by)
            }
        };
        Self {
            media: one(0.25, 0.5),
            heat: one(0.4, 0.2),
            weak: one(0.4, 0.6),
            riddle: one(0.5, 0.3),
            others: one(0.5, 0.5),
            host: one(0.0, 0.4),
            tail: (rng.random_range(1.3..6.0), rng.random_range(0.01..0.25)),
        }
    }
}

/// The power that a world draws. For each reason of being slow, how much of the slowness it works through: 0 where it works less for it, and 1 where it works
/// as hard as before for fewer bytes.
#[derive(Clone, Copy, Debug, Default)]
pub struct Supply {
    /// A full cache, or a full drive.
    pub media: f64,
    /// A weak place.
    pub weak: f64,
    /// What has no reason.
    pub riddle: f64,
    /// Others on the drive.
    pub others: f64,
    /// Power at the full rate, W.
    pub watts: f64,
    /// Standard deviation of a reading, share of it.
    pub noise: f64,
    /// Seconds between two readings; 0 where it is not read.
    pub every: f64,
}

impl Supply {
    /// Draws it. Cells that take longer, and places that are read again, keep a drive mostly as busy as before; so do others, whom it serves as well. What
    /// has no reason may be either. A clock that is lowered, or a host that asks for less, works less, always.
    pub fn draw(rng: &mut Xoshiro256PlusPlus) -> Self {
        let mut one = |less: f64| {
            let (at, by): (f64, f64) = (rng.random(), rng.random_range(0.5..1.15));
            if at < less { 0.0 } else { by }
        };
        let [media, weak, riddle, others] = [0.2, 0.2, 0.5, 0.1].map(&mut one);
        Self {
            media,
            weak,
            riddle,
            others,
            watts: rng.random_range(2_f64.ln()..25_f64.ln()).exp(),
            noise: rng.random_range(0.003..0.05),
            every: if rng.random_bool(0.3) { [0.1, 0.5, 1.0, 1.0, 2.0][rng.random_range(0..5)] } else { 0.0 },
        }
    }
}

/// A world to be run.
#[derive(Clone, Debug)]
pub struct World {
    /// Length of a sample, seconds.
    pub interval: f64,
    /// How irregular that is, share.
    pub jitter: f64,
    /// The legs, one after another.
    pub legs: Vec<Leg>,
    /// Capacity, bytes.
    pub capacity: f64,
    /// Stages behind the cache.
    pub stages: Vec<Stage>,
    /// Bytes that the cache gets back in a second of rest.
    pub drain: f64,
    /// Share of the rate lost from one end of the surface to the other.
    pub slope: f64,
    /// Fill level from which it is slower, at the end of which range, and to what share.
    pub fill: Option<(f64, f64, f64)>,
    /// Share in use at the start.
    pub filled: f64,
    /// Weak places: from, to (shares of the surface), and the rate that is left.
    pub weak: Vec<(f64, f64, f64)>,
    /// Heat.
    pub heat: Heat,
    /// How it throttles.
    pub throttle: Option<Throttle>,
    /// Others.
    pub others: Vec<Other>,
    /// What comes back regularly.
    pub cycle: Option<Cycle>,
    /// Falls and rises that have no reason one could see: when, to which share of the full rate.
    pub riddles: Vec<(f64, f64)>,
    /// Times from and to which nothing was logged.
    pub gaps: Vec<(f64, f64)>,
    /// Noise on the rate.
    pub noise: Noise,
    /// What is written down.
    pub channels: Channels,
    /// Latency at the full rate, µs.
    pub latency: f64,
    /// How it goes with what makes it slow.
    pub shapes: Shapes,
    /// What it draws.
    pub supply: Supply,
    /// Bytes come in whole blocks of this many.
    pub block: f64,
}

/// A run of a world, and what was seen in it besides.
#[derive(Clone, Debug, Default)]
pub struct Seen {
    /// The samples.
    pub samples: Vec<Sample>,
    /// When its power was read, seconds, and what it was, W.
    pub power: Vec<(f64, f64)>,
    /// What happened.
    pub truth: Truth,
    /// When throttling began and ended, in turns.
    pub flips: Vec<f64>,
    /// Temperature of the drive, at each step of time.
    pub curve: Vec<(f64, f64)>,
    /// Mean rate before and behind each flip is not kept; what the throttle left, at each step.
    pub left: Vec<(f64, f64)>,
}

/// Sums of the logarithms of the median and of what the 99th percentile is over it, over the steps of a sample.
#[derive(Default)]
struct Spread {
    median: f64,
    tail: f64,
}

impl Spread {
    /// A step in which only a share of the rate is left.
    fn add(&mut self, (median, tail): (f64, f64), left: f64) {
        let slowness = -left.max(1e-3).ln();
        self.median += median * slowness;
        self.tail += tail * slowness;
    }

    /// Factors of the median and of the 99th percentile over it.
    fn mean(&self) -> (f64, f64) {
        ((self.median / FINE as f64).exp(), (self.tail / FINE as f64).exp())
    }
}

/// Steps of time in a sample.
const FINE: usize = 12;

impl World {
    /// Runs it.
    pub fn run(&self, rng: &mut Xoshiro256PlusPlus) -> Seen {
        let mut seen = Seen::default();
        let mut noise = self.noise;
        let idle = if self.heat.rested { self.heat.idle } else { 0.0 };
        let mut mass = [idle, idle];
        let (mut sensor, mut shown, mut refreshed) = (f64::NAN, f64::NAN, f64::NEG_INFINITY);
        let (mut now, mut moved, mut cached, mut fill) = (0.0_f64, 0.0_f64, 0.0_f64, self.filled);
        let (mut throttled, mut counted, mut left) = (false, 0.0_f64, 1.0_f64);
        let (mut gap_bytes, mut gap_start) = (0.0, None);
        let mut owed = 0.0;
        let mut events: Vec<(f64, f64, Cause, bool)> = Vec::new();
        let mut stage_was = vec![0.0_f64; self.stages.len()];
        let mut fill_was = 0.0_f64;
        let mut weak_was = vec![false; self.weak.len()];
        let mut other_was = vec![0_u8; self.others.len()];
        let mut riddle_was = 0_usize;
        let (mut next_dip, mut dip_from) = (f64::INFINITY, f64::INFINITY);
        let mut cycle_on = false;
        let full = self.legs.iter().map(|l| l.rate).fold(0.0, f64::max);
        // Latencies take nothing from the numbers that all else is drawn from.
        let mut shapes = rng.clone();
        shapes.long_jump();
        for (index, leg) in self.legs.iter().enumerate() {
            let leg_end = now + leg.seconds;
            let (mut address, mut behind) = (leg.from, false);
            while now < leg_end - 0.5 * self.interval {
                let length = self.interval * (1.0 + self.jitter * rng.random_range(-1.0..1.0));
                let dt = length / FINE as f64;
                let start = now;
                let begin = address;
                let factor = noise.factor(rng);
                let (mut bytes, mut foreign, mut steal) = (0.0, 0.0, 0.0);
                let mut spread = Spread::default();
                for _ in 0..FINE {
                    let ambient = self.heat.ambient.0 + self.heat.ambient.1 * now / 3600.0;
                    let temp = ambient + self.heat.rise[0] * mass[0] + self.heat.rise[1] * mass[1];
                    let mut rate = if leg.op == Op::Idle { 0.0 } else { leg.rate };
                    // How much more it works than its rate tells.
                    let mut burden = 1.0;
                    if leg.op != Op::Idle {
                        rate *= 1.0 - self.slope * address;
                        spread.add((1.0, 0.0), 1.0 - self.slope * address);
                        if leg.op == Op::Write {
                            for (stage, was) in self.stages.iter().zip(&mut stage_was) {
                                let into = if stage.width > 0.0 {
                                    ((cached - stage.bytes) / stage.width + 0.5).clamp(0.0, 1.0)
                                } else {
                                    f64::from(u8::from(cached >= stage.bytes))
                                };
                                if into > 0.0 {
                                    let base = rate;
                                    let target = leg.rate * (1.0 - self.slope * address) * stage.share;
                                    rate = base + (target - base) * into;
                                    spread.add(self.shapes.media, rate / base);
                                    burden *= (base / rate).powf(self.supply.media);
                                }
                                mark(&mut events, *was, into, now, moved, Cause::CacheExhausted);
                                behind |= into >= 1.0;
                                *was = into;
                            }
                        }
                        if let Some((from, to, share)) = self.fill {
                            let into = ((fill - from) / (to - from).max(1e-9)).clamp(0.0, 1.0);
                            rate *= 1.0 - (1.0 - share) * into;
                            spread.add(self.shapes.media, 1.0 - (1.0 - share) * into);
                            burden *= (1.0 - (1.0 - share) * into).powf(-self.supply.media);
                            mark(&mut events, fill_was, into, now, moved, Cause::FillLevel);
                            fill_was = into;
                        }
                        for (&(from, to, share), was) in self.weak.iter().zip(&mut weak_was) {
                            let inside = (from..to).contains(&address);
                            if inside {
                                rate *= share;
                                spread.add(self.shapes.weak, share);
                                burden *= share.powf(-self.supply.weak);
                            }
                            if inside != *was {
                                events.push((now, moved, Cause::Surface, true));
                            }
                            *was = inside;
                        }
                        let reached = self.riddles.iter().take_while(|r| r.0 <= now).count();
                        if reached != riddle_was {
                            events.push((now, moved, Cause::Unexplained, true));
                            riddle_was = reached;
                        }
                        if let Some(r) = reached.checked_sub(1) {
                            rate *= self.riddles[r].1;
                            spread.add(self.shapes.riddle, self.riddles[r].1);
                            burden *= self.riddles[r].1.powf(-self.supply.riddle);
                        }
                        for (other, was) in self.others.iter().zip(&mut other_was) {
                            let inside = (other.from..other.to).contains(&now);
                            if inside {
                                rate *= other.share;
                                let shape =
                                    if other.steal > 0.0 { self.shapes.host } else { self.shapes.others };
                                spread.add(shape, other.share);
                                // Others on the host take nothing from the drive.
                                let k = if other.steal > 0.0 { 0.0 } else { self.supply.others };
                                burden *= other.share.powf(-k);
                                foreign += other.foreign / FINE as f64;
                                steal += other.steal / FINE as f64;
                            }
                            match (*was, inside) {
                                (0, true) => {
                                    events.push((now, moved, Cause::Interference, true));
                                    *was = 1;
                                }
                                (1, false) => {
                                    events.push((now, moved, Cause::InterferenceEnd, true));
                                    *was = 2;
                                }
                                _ => {}
                            }
                        }
                        if let Some(cycle) = self.cycle {
                            let begins = if cycle.behind_cache { behind } else { now >= cycle.from };
                            if begins && !cycle_on {
                                cycle_on = true;
                                next_dip =
                                    now + cycle.period * (1.0 - cycle.duty) * rng.random_range(0.2..1.0);
                                seen.truth.cycles = Some(TrueCycle {
                                    start_s: now,
                                    end_s: 0.0,
                                    period_s: cycle.period,
                                    cause: if cycle.behind_cache {
                                        Cause::CacheExhausted
                                    } else {
                                        Cause::Unexplained
                                    },
                                });
                            }
                            if cycle_on {
                                if now >= next_dip {
                                    dip_from = next_dip;
                                    next_dip +=
                                        cycle.period * (1.0 + cycle.jitter * rng.random_range(-1.0..1.0));
                                }
                                let phase = (now - dip_from) / (cycle.period * cycle.duty);
                                let before = rate;
                                if cycle.ramps {
                                    // Sinks slowly over the duty, comes back at once: a saw.
                                    if (0.0..1.0).contains(&phase) {
                                        rate *= 1.0 - cycle.depth * phase;
                                    }
                                } else if (0.0..1.0).contains(&phase) {
                                    rate *= 1.0 - cycle.depth;
                                }
                                spread.add(self.shapes.media, rate / before);
                                burden *= (before / rate).powf(self.supply.media);
                                if let Some(c) = &mut seen.truth.cycles {
                                    c.end_s = now;
                                }
                            }
                        }
                    }
                    if let Some(t) = self.throttle {
                        let flip = if throttled { temp <= t.release } else { temp >= t.onset };
                        if flip && leg.op != Op::Idle {
                            throttled = !throttled;
                            seen.flips.push(now);
                            if t.gain == 0.0 {
                                let cause =
                                    if throttled { Cause::ThermalThrottle } else { Cause::ThermalRelease };
                                events.push((now, moved, cause, true));
                            } else if throttled && seen.flips.len() == 1 {
                                events.push((now, moved, Cause::ThermalThrottle, false));
                            }
                        } else if flip {
                            throttled = false;
                        }
                        left = if t.gain > 0.0 {
                            let target = (1.0 - t.gain * (temp - t.onset)).clamp(t.share, 1.0);
                            left + (target - left) * (dt / (dt + 0.02 * self.heat.tau[1])).min(1.0)
                        } else if throttled {
                            t.share
                        } else {
                            1.0
                        };
                        if leg.op != Op::Idle {
                            rate *= left;
                            spread.add(self.shapes.heat, left);
                        }
                        if left < 0.98 && leg.op != Op::Idle {
                            counted += dt;
                        }
                        seen.left.push((now, left));
                    }
                    let power = self.heat.idle
                        + (1.0 - self.heat.idle) * (rate * burden / full).min(1.0).powf(self.heat.gamma);
                    let power = if leg.op == Op::Idle { self.heat.idle } else { power };
                    for (m, tau) in mass.iter_mut().zip(self.heat.tau) {
                        *m += (power - *m) * (1.0 - (-dt / tau).exp());
                    }
                    seen.curve.push((now, temp));
                    let read = seen.power.last().map_or(f64::NEG_INFINITY, |last| last.0);
                    if self.supply.every > 0.0 && now - read >= self.supply.every {
                        let scatter: f64 = StandardNormal.sample(&mut shapes);
                        seen.power
                            .push((now, self.supply.watts * power * (1.0 + self.supply.noise * scatter)));
                    }
                    if let Some((step, every, lag)) = self.channels.temp {
                        sensor =
                            if sensor.is_nan() { temp } else { sensor + (temp - sensor) * dt / (dt + lag) };
                        if now - refreshed >= every {
                            refreshed = now;
                            shown = (sensor / step).floor() * step;
                        }
                    }
                    let part = rate * 1e6 * dt * factor;
                    bytes += part;
                    moved += part;
                    now += dt;
                    if leg.op == Op::Write {
                        cached += part;
                    } else {
                        cached = (cached - self.drain * dt).max(0.0);
                    }
                    if leg.op != Op::Idle {
                        address = (address + part / self.capacity).min(1.0);
                        if leg.op == Op::Write {
                            fill = (fill + part / self.capacity).min(1.0);
                        }
                    }
                }
                owed += bytes;
                let whole = (owed / self.block).floor() * self.block;
                if self.gaps.iter().any(|g| (g.0..g.1).contains(&start)) {
                    gap_start.get_or_insert(start);
                    gap_bytes += whole;
                    owed -= whole;
                    continue;
                }
                owed -= whole;
                let whole = (whole + std::mem::take(&mut gap_bytes)) as u64;
                let start = gap_start.take().unwrap_or(start);
                let (slow, tail) = spread.mean();
                let wobble: f64 = shapes.random_range(0.9..1.1);
                let scatter: f64 = StandardNormal.sample(&mut shapes);
                let us = self.latency * full / leg.rate.max(full * 1e-3) * slow * wobble;
                let over =
                    (self.shapes.tail.0 * (self.shapes.tail.1 * scatter).exp() * tail).clamp(1.05, 400.0);
                let latency = |k: f64| Nanos((us * k * 1e3) as u64);
                let c = &self.channels;
                seen.samples.push(Sample {
                    start: Nanos::from_secs(start),
                    end: Nanos::from_secs(now),
                    leg: index as u32,
                    op: leg.op,
                    written: Bytes(if matches!(leg.op, Op::Write | Op::Mixed) { whole } else { 0 }),
                    read: Bytes(if leg.op == Op::Read { whole } else { 0 }),
                    latency: (c.latency && leg.op != Op::Idle).then(|| Latency {
                        p50: latency(1.0),
                        p99: latency(over),
                        p999: latency(over * 2.2),
                        max: latency(over * 3.8),
                    }),
                    temp: c.temp.map(|_| Celsius(shown)),
                    ambient: c.ambient.then(|| {
                        Celsius(
                            ((self.heat.ambient.0 + self.heat.ambient.1 * now / 3600.0) * 10.0).round()
                                / 10.0,
                        )
                    }),
                    throttled: c.counters.then(|| Throttled { light_s: counted.floor(), heavy_s: 0.0 }),
                    foreign: c.foreign.then(|| Rate((foreign + 0.002 * full * rng.random::<f64>()) * 1e6)),
                    host: mile_core::Host {
                        steal: c.steal.then(|| (steal + 0.01 * rng.random::<f64>()) as f32),
                        cpu: None,
                    },
                    fill: c.fill.then(|| ((fill * 1000.0).round() / 1000.0) as f32),
                    offset: c.offset.then_some(Bytes((begin * self.capacity) as u64)),
                    ..Sample::default()
                });
            }
            for was in &mut stage_was {
                // What is behind a rest counts anew.
                if cached < self.stages.first().map_or(0.0, |s| s.bytes) {
                    *was = 0.0;
                }
            }
        }
        // The optimisation of a compiler once had them differ.
        let told: u64 = seen.samples.iter().map(|s| s.moved().0).sum();
        let owed = owed + gap_bytes;
        assert!(
            (moved - told as f64 - owed).abs() <= 1e-6 * moved + seen.samples.len() as f64,
            "bytes of a world do not add up"
        );
        seen.truth.breaks = breaks(events);
        seen
    }
}

/// Notes where a gradual change begins and ends: `(time, bytes, cause, whether it ends here)`.
fn mark(events: &mut Vec<(f64, f64, Cause, bool)>, was: f64, into: f64, now: f64, moved: f64, cause: Cause) {
    if was <= 0.0 && into > 0.0 {
        events.push((now, moved, cause, into >= 1.0));
    } else if was < 1.0 && into >= 1.0 {
        events.push((now, moved, cause, true));
    }
}

/// Puts starts and ends together.
fn breaks(events: Vec<(f64, f64, Cause, bool)>) -> Vec<TrueBreak> {
    let mut all: Vec<TrueBreak> = Vec::new();
    let mut open: Option<usize> = None;
    for (at, bytes, cause, ends) in events {
        if let Some(i) = open.filter(|&i| all[i].cause == cause) {
            all[i].end_s = at;
            all[i].end_bytes = bytes;
            open = None;
            continue;
        }
        all.push(TrueBreak { start_s: at, end_s: at, start_bytes: bytes, end_bytes: bytes, cause });
        if !ends {
            open = Some(all.len() - 1);
        }
    }
    all
}
