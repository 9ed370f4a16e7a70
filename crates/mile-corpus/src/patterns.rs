//! The patterns, and how their worlds are drawn.

use crate::noise::Noise;
use crate::world::{Channels, Cycle, Heat, Leg, Other, Seen, Shapes, Stage, Supply, Throttle, World};
use crate::{Case, TrueBreak, TrueCycle};
use mile_core::findings::Cause;
use mile_core::{Bytes, Celsius, Context, Op};
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// All patterns.
pub const PATTERNS: [&str; 27] = [
    "steady",
    "falling",
    "dips",
    "cache",
    "two-stages",
    "gradual",
    "sawtooth",
    "folding",
    "throttle",
    "throttle-slow",
    "release",
    "throttle-cycles",
    "cache-then-heat",
    "others",
    "stolen",
    "rest",
    "read-between",
    "fill",
    "surface",
    "workload",
    "gaps",
    "riddle",
    "riddle-write",
    "link",
    "unseen-others",
    "bursts",
    "zones",
];

struct Draw {
    rng: Xoshiro256PlusPlus,
    interval: f64,
    seconds: f64,
    rate: f64,
    /// Shortest stretch, seconds.
    shortest: f64,
    /// Least change of the logarithm of a rate that stands out.
    least: f64,
}

impl Draw {
    fn range(&mut self, from: f64, to: f64) -> f64 {
        if from < to { self.rng.random_range(from..to) } else { from }
    }

    fn log(&mut self, from: f64, to: f64) -> f64 {
        self.range(from.ln(), to.ln()).exp()
    }

    fn chance(&mut self, p: f64) -> bool {
        self.rng.random_bool(p)
    }

    /// Share of the rate that is left after a fall that stands out.
    fn share(&mut self, lowest: f64) -> f64 {
        let most = (-self.least).exp();
        self.range(lowest.min(most), most)
    }

    /// `n` times, each at least the shortest stretch after the last and before the end, in order.
    fn times(&mut self, n: usize) -> Vec<f64> {
        loop {
            let mut times: Vec<f64> = (0..n).map(|_| self.range(0.0, self.seconds)).collect();
            times.sort_by(f64::total_cmp);
            let mut all = times.clone();
            all.insert(0, 0.0);
            all.push(self.seconds);
            if all.windows(2).all(|w| w[1] - w[0] >= self.shortest) {
                return times;
            }
        }
    }
}

/// Makes the trace of a pattern from a seed. The same again for the same two.
///
/// A world in which what was meant does not come about (a drive that was to throttle and does not) is drawn anew.
pub fn case(pattern: &'static str, seed: u64) -> Case {
    let mut attempt = 0_u64;
    loop {
        let key = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ attempt.wrapping_mul(0xd1b5_4a32_d192_ed03);
        let name = pattern.bytes().fold(0_u64, |h, b| h.wrapping_mul(131).wrapping_add(u64::from(b)));
        let rng = Xoshiro256PlusPlus::seed_from_u64(key ^ name.rotate_left(32));
        if let Some(case) = attempted(pattern, seed, rng) {
            return case;
        }
        attempt += 1;
    }
}

fn attempted(pattern: &'static str, seed: u64, mut rng: Xoshiro256PlusPlus) -> Option<Case> {
    let interval: f64 = match rng.random_range(0..8) {
        0 => 0.01,
        1 => 0.1,
        2 => 0.25,
        3 => 1.0,
        4 => 10.0,
        5 => 60.0,
        _ => (rng.random_range(0.01_f64.ln()..60_f64.ln())).exp(),
    };
    let noise = Noise::draw(&mut rng, interval);
    let samples = (rng.random_range(400_f64.ln()..8000_f64.ln())).exp();
    let samples = samples.max(60.0 / interval).max(300.0 * noise.long_run().powi(2) / 0.01);
    let seconds = samples * interval;
    let shortest = (0.02 * seconds).max(3.2).max(10.0 * interval);
    // Eight standard deviations of the difference of two means of the shortest stretches.
    let least = (8.0 * noise.long_run() * (2.0 * interval / shortest).sqrt()).max(0.083);
    if samples > 30_000.0 || least > 0.5 {
        return None;
    }
    // No disk is as fast as the fastest drives.
    let fastest: f64 = if pattern == "zones" { 600.0 } else { 15_000.0 };
    let rate = (rng.random_range(1_f64.ln()..fastest.ln())).exp();
    let mut d = Draw { rng, interval, seconds, rate, shortest, least };
    let mut world = plain(&mut d, noise);
    let mut warn_at = None;
    match pattern {
        "steady" => {}
        "falling" => {
            world.slope = d.range(0.2, 0.6);
            world.capacity = d.rate * 1e6 * d.seconds * d.range(0.7, 1.1);
        }
        "dips" => world.cycle = Some(dips(&mut d)),
        "cache" => cache(&mut d, &mut world, 1),
        "two-stages" => cache(&mut d, &mut world, 2),
        "gradual" => {
            cache(&mut d, &mut world, 1);
            let room = world.stages[0].bytes.min(d.rate * 1e6 * d.seconds - world.stages[0].bytes);
            world.stages[0].width = room * d.range(0.05, 0.35);
        }
        "sawtooth" => {
            let cycle = saw(&mut d);
            world.cycle = Some(cycle);
        }
        "folding" => {
            cache(&mut d, &mut world, 1);
            world.cycle = Some(Cycle { behind_cache: true, ..saw(&mut d) });
            // Twelve periods and more have to be left of it.
            let t = world.stages[0].bytes / (d.rate * 1e6);
            if t > 0.5 * d.seconds {
                return None;
            }
        }
        "throttle" | "throttle-slow" | "release" | "throttle-cycles" => {
            warn_at = Some(heat(&mut d, &mut world, pattern)?);
            if d.chance(0.3) {
                world.legs[0].op = Op::Read;
            }
        }
        "cache-then-heat" => {
            cache(&mut d, &mut world, 1);
            let t = world.stages[0].bytes / (d.rate * 1e6);
            if t > 0.4 * d.seconds {
                return None;
            }
            warn_at = Some(heat(&mut d, &mut world, "throttle")?);
        }
        "others" | "stolen" => others(&mut d, &mut world, pattern == "stolen"),
        "rest" | "read-between" => rest(&mut d, &mut world, pattern == "rest"),
        "fill" => fill(&mut d, &mut world),
        "surface" => surface(&mut d, &mut world),
        "workload" => workload(&mut d, &mut world),
        "gaps" => gaps(&mut d, &mut world),
        "riddle" => {
            world.legs[0].op = Op::Read;
            let count = d.rng.random_range(1..3);
            let mut share = 1.0;
            world.riddles = d
                .times(count)
                .into_iter()
                .map(|t| {
                    share *= d.share(0.3);
                    (t, share)
                })
                .collect();
        }
        "riddle-write" => riddle_write(&mut d, &mut world),
        "link" => {
            // A link that comes up narrower or slower for a time carries a half or a quarter of what it did.
            let share = if d.chance(0.7) { 0.5 } else { 0.25 };
            let times = d.times(2);
            world.riddles = vec![(times[0], share), (times[1], 1.0)];
            if d.chance(0.4) {
                world.legs[0].op = Op::Read;
                // Another pass goes over the same addresses, and shows nothing there.
                if d.chance(0.5) {
                    (world.channels.offset, world.legs[0].seconds) = (true, d.seconds / 2.0);
                    world.riddles.iter_mut().for_each(|r| r.0 /= 2.0);
                    world.legs.push(Leg { name: "once more".into(), ..world.legs[0].clone() });
                }
            }
            level(&mut d, &mut world);
        }
        "unseen-others" => {
            others(&mut d, &mut world, false);
            (world.channels.foreign, world.channels.steal) = (false, false);
        }
        "bursts" => bursts(&mut d, &mut world),
        "zones" => {
            zones(&mut d, &mut world);
            if world.weak.iter().any(|w| -w.2.ln() < d.least) {
                return None;
            }
        }
        _ => return None,
    }
    let mut rng = d.rng.clone();
    let mut shapes = d.rng.clone();
    shapes.jump();
    world.shapes = Shapes::draw(&mut shapes);
    world.supply = Supply::draw(&mut shapes);
    let mut link = crate::link(&mut shapes, d.rate, false);
    if pattern == "link" {
        // A narrower link carries every operation as much slower, and the drive works less.
        (world.shapes.riddle, world.supply.riddle) = ((1.0, 0.0), 0.0);
        link = crate::link(&mut shapes, d.rate, true);
    }
    let mut seen = world.run(&mut rng);
    settle_truth(pattern, &d, &world, &mut seen)?;
    let limit = warn_at.unwrap_or_else(|| {
        let top = seen.curve.iter().map(|c| c.1).fold(0.0, f64::max);
        (top + d.range(4.0, 25.0)).max(d.range(65.0, 85.0)).round()
    });
    let context = Context {
        capacity: Some(Bytes(world.capacity as u64)),
        warn: d.chance(0.6).then_some(Celsius(limit)),
        critical: d.chance(0.5).then_some(Celsius(limit + 8.0)),
        link,
        ..Context::default()
    };
    let names = world.legs.iter().map(|l| l.name.clone()).collect();
    let power = crate::readings(&seen.power);
    Some(Case { pattern, seed, samples: seen.samples, power, names, context, truth: seen.truth })
}

/// Nothing gets in the way, and it does not get too warm.
fn plain(d: &mut Draw, noise: Noise) -> World {
    let ambient = d.range(4.0, 36.0);
    let top = d.range(ambient + 8.0, 62.0_f64.max(ambient + 9.0));
    let slow = d.range(0.2, 0.9);
    let rise = top - ambient;
    // It becomes warmer or cooler by the hour, or, as in a chamber, by so much over the run.
    let drift = match () {
        () if d.chance(0.3) => d.range(-1.0, 1.0),
        () if d.chance(0.15) => d.range(-15.0, 15.0) * 3600.0 / d.seconds,
        () => 0.0,
    };
    let heat = Heat {
        ambient: (ambient, drift),
        rise: [rise * (1.0 - slow), rise * slow],
        tau: [d.range(4.0, 60.0), (d.seconds * d.range(0.05, 0.6)).clamp(60.0, 3000.0)],
        idle: d.range(0.1, 0.5),
        gamma: d.range(0.5, 1.2),
        rested: d.chance(0.7),
    };
    let step = if d.chance(0.8) { 1.0 } else { [0.1, 0.5, 2.0][d.rng.random_range(0..3)] };
    let channels = Channels {
        temp: d.chance(0.85).then(|| (step, d.range(0.5, 5.0), d.range(0.0, 6.0))),
        ambient: d.chance(0.4),
        counters: d.chance(0.35),
        latency: d.chance(0.6),
        foreign: d.chance(0.5),
        steal: d.chance(0.3),
        fill: d.chance(0.5),
        offset: d.chance(0.6),
    };
    let all = d.rate * 1e6 * d.seconds;
    let per_sample = d.rate * 1e6 * d.interval;
    World {
        interval: d.interval,
        jitter: if d.chance(0.5) { 0.0 } else { d.range(0.0, 0.2) },
        legs: vec![Leg {
            name: ["soak", "sustained write", "leg 1", ""][d.rng.random_range(0..4)].into(),
            op: Op::Write,
            seconds: d.seconds,
            rate: d.rate,
            from: 0.0,
        }],
        capacity: all * d.log(1.2, 20.0),
        stages: Vec::new(),
        drain: d.rate * 1e6 * d.range(0.05, 0.6),
        slope: 0.0,
        fill: None,
        filled: d.range(0.0, 0.05),
        weak: Vec::new(),
        heat,
        throttle: None,
        others: Vec::new(),
        cycle: None,
        riddles: Vec::new(),
        gaps: Vec::new(),
        noise,
        channels,
        latency: d.log(20.0, 20_000.0),
        shapes: Shapes::default(),
        supply: Supply::default(),
        block: if d.chance(0.5) {
            1.0
        } else {
            d.range(65_536.0, 1_048_576.0).min(per_sample / 4.0).max(1.0)
        },
    }
}

fn dips(d: &mut Draw) -> Cycle {
    // Shorter than a plateau has to last.
    let longest = 3_f64.max(8.0 * d.interval) * 0.45;
    let slow = d.range(d.interval, longest.max(1.5 * d.interval));
    let period = (slow * d.log(3.5, 30.0)).min(d.seconds / 12.0).max(3.0 * slow);
    Cycle {
        from: 0.0,
        behind_cache: false,
        period,
        duty: slow / period,
        depth: d.range(0.2, 0.9),
        jitter: if d.chance(0.5) { 0.0 } else { d.range(0.0, 0.12) },
        ramps: false,
    }
}

fn saw(d: &mut Draw) -> Cycle {
    Cycle {
        from: 0.0,
        behind_cache: false,
        period: d.log((5.0 * d.interval).max(0.4), (d.seconds / 16.0).max(6.0 * d.interval)),
        duty: d.range(0.3, 0.7),
        depth: d.range(0.25, 0.75),
        jitter: if d.chance(0.5) { 0.0 } else { d.range(0.0, 0.1) },
        ramps: d.chance(0.4),
    }
}

fn cache(d: &mut Draw, world: &mut World, stages: usize) {
    let mut share = 1.0;
    let mut bytes = 0.0;
    let mut last = 0.0;
    let times = d.times(stages);
    for at in times {
        bytes += (at - last) * d.rate * 1e6 * share;
        last = at;
        share *= d.share(0.08);
        world.stages.push(Stage { bytes, share, width: 0.0 });
    }
    let whole = bytes + (d.seconds - last) * d.rate * 1e6 * share;
    // Single-bit cells take a third of the drive at most.
    world.capacity = (whole * d.log(1.05, 30.0)).max(bytes / 0.32);
}

/// Gives it a cooling with which it reaches its limit within the run; gives the warning limit.
fn heat(d: &mut Draw, world: &mut World, pattern: &str) -> Option<f64> {
    let onset = d.range(62.0, 88.0);
    // Without a temperature nobody could tell; a few are left like that.
    if world.channels.temp.is_none() && d.chance(0.7) {
        world.channels.temp = Some((1.0, d.range(0.5, 5.0), d.range(0.0, 6.0)));
    }
    // Without throttling first: how warm would it be, and when?
    world.heat.rise = [0.3, 0.7];
    world.heat.tau[1] = (d.seconds * d.range(0.06, 0.5)).clamp(20.0, 4000.0);
    world.heat.tau[0] = d.range(3.0, 40.0).min(world.heat.tau[1] / 3.0);
    let mut rng = d.rng.clone();
    let free = World { throttle: None, ..world.clone() }.run(&mut rng);
    let from = world.stages.first().map_or(0.0, |s| s.bytes / (d.rate * 1e6)) / d.seconds;
    let at = d.range((from + 0.12).min(0.6), 0.75) * d.seconds;
    let ambient = world.heat.ambient.0;
    let unit = free.curve.iter().find(|c| c.0 >= at)?.1 - ambient;
    let early = free.curve.iter().find(|c| c.0 >= at - 0.5 * (at - from * d.seconds))?.1 - ambient;
    // It has to be heating up still, by two degrees and more over the half before.
    let scale = (onset - ambient) / unit;
    if !(1.0..400.0).contains(&scale) || (unit - early) * scale < 1.5 {
        return None;
    }
    let rise = [scale * world.heat.rise[0], scale * world.heat.rise[1]];
    world.heat.rise = rise;
    let share = d.share(0.25);
    let (release, gain) = match pattern {
        "throttle-slow" => (onset - 3.0, d.range(0.06, 0.3)),
        "release" | "throttle-cycles" => (onset - d.range(2.0, 12.0), 0.0),
        _ => (onset - d.range(2.0, 10.0), 0.0),
    };
    world.throttle = Some(Throttle { onset, release, share, gain });
    Some((onset + if d.chance(0.5) { 0.0 } else { d.range(-2.0, 2.0) }).round())
}

fn others(d: &mut Draw, world: &mut World, stolen: bool) {
    let count = d.rng.random_range(1..3);
    let times = d.times(2 * count);
    for pair in times.chunks(2) {
        let share = d.share(0.3);
        let lost = d.rate * (1.0 - share);
        let (foreign, steal) = if stolen {
            (0.0, ((1.0 - share) * d.range(0.6, 1.3)).min(0.95))
        } else {
            (lost * d.range(0.35, 1.3), 0.0)
        };
        let to = if d.chance(0.15) { f64::INFINITY } else { pair[1] };
        world.others.push(Other { from: pair[0], to, share, foreign, steal });
        if to.is_infinite() {
            break;
        }
    }
    if stolen {
        world.channels.steal = true;
    } else {
        world.channels.foreign = true;
    }
    if d.chance(0.4) {
        world.legs[0].op = Op::Read;
    }
}

fn rest(d: &mut Draw, world: &mut World, idle: bool) {
    let at = d.range(0.12, 0.3) * d.seconds;
    let share = d.share(0.1).min(0.7);
    let bytes = at * d.rate * 1e6;
    world.stages.push(Stage { bytes, share, width: 0.0 });
    let first = at + d.range(0.12, 0.3) * d.seconds;
    let pause = d.range(0.1, 0.2) * d.seconds;
    // All of it comes back, or half and more.
    let cached = bytes + (first - at) * d.rate * 1e6 * share;
    world.drain = (cached - bytes * d.range(0.0, 0.5)) / pause;
    let name = &world.legs[0].name;
    let write = |name: String, seconds: f64| Leg { name, op: Op::Write, seconds, rate: d.rate, from: 0.0 };
    let (a, b) = if name.is_empty() {
        ("a".to_owned(), "b".to_owned())
    } else {
        (name.clone(), format!("{name} again"))
    };
    world.legs = vec![
        write(a, first),
        Leg {
            name: if idle { "rest" } else { "read back" }.into(),
            op: if idle { Op::Idle } else { Op::Read },
            seconds: pause,
            rate: d.rate * 0.9,
            from: 0.0,
        },
        write(b, d.seconds - first - pause),
    ];
}

fn fill(d: &mut Draw, world: &mut World) {
    world.channels.fill = true;
    let at = d.range(0.7, 0.93);
    let share = d.share(0.3);
    let width = if d.chance(0.5) { 0.0 } else { d.range(0.01, 0.05) };
    world.fill = Some((at, at + width, share));
    world.filled = if d.chance(0.5) { 0.0 } else { d.range(0.1, 0.5) };
    // The whole of the free space is written, in a drive that has no cache left or in one that has.
    let cached = d.chance(0.5);
    let behind = if cached { d.share(0.2) } else { 1.0 };
    let free = 1.0 - world.filled;
    let time = d.rate * 1e6 * d.seconds;
    let early = if cached { d.range(0.06, 0.12) } else { 0.0 };
    world.capacity = time * (early + (1.0 - early) * behind) / (free * d.range(1.0, 1.06));
    if cached {
        world.stages.push(Stage { bytes: early * time, share: behind, width: 0.0 });
    }
}

/// A drive whose temperature hardly moves, as on a bench with a fan.
fn level(d: &mut Draw, world: &mut World) {
    if d.chance(0.6) {
        let rise = d.range(0.0, 3.0);
        world.heat.ambient.0 = d.range(28.0, 50.0);
        world.heat.rise = [0.3 * rise, 0.7 * rise];
    }
}

/// Falls of writes without a reason that one could see: firmware at work within, a worn die, a changed clock, a controller that gives way.
fn riddle_write(d: &mut Draw, world: &mut World) {
    level(d, world);
    let count = if d.chance(0.75) { 1 } else { 2 };
    let mut share = 1.0;
    world.riddles = d
        .times(count)
        .into_iter()
        .map(|t| {
            share *= d.share(0.2);
            (t, share)
        })
        .collect();
    // Some come back.
    if count == 2 && d.chance(0.5) {
        world.riddles[1].1 = 1.0;
    }
}

/// The cache is written full two or three times, with rests between in which all of it comes back.
fn bursts(d: &mut Draw, world: &mut World) {
    let count = d.rng.random_range(2..4);
    let part = d.seconds / f64::from(count);
    let at = part * d.range(0.2, 0.4);
    let share = d.share(0.1).min(0.7);
    let bytes = at * d.rate * 1e6;
    world.stages.push(Stage { bytes, share, width: 0.0 });
    let (burst, pause) = (at + part * d.range(0.2, 0.3), part * d.range(0.15, 0.25));
    world.drain = (bytes + (burst - at) * d.rate * 1e6 * share) / (pause * d.range(0.5, 0.95));
    world.legs.clear();
    for i in 0..count {
        let (name, op) = (format!("burst {}", i + 1), Op::Write);
        world.legs.push(Leg { name, op, seconds: burst, rate: d.rate, from: 0.0 });
        if i + 1 < count {
            let (name, op) = (format!("rest {}", i + 1), Op::Idle);
            world.legs.push(Leg { name, op, seconds: pause, rate: d.rate, from: 0.0 });
        }
    }
    let whole = f64::from(count) * (bytes + (burst - at) * d.rate * 1e6 * share);
    world.capacity = (whole * d.log(1.05, 10.0)).max(bytes / 0.32);
}

/// A disk is read from its outer to its inner tracks: each recording zone is slower than the one before.
fn zones(d: &mut Draw, world: &mut World) {
    world.channels.offset = true;
    // Many small steps are a slope, and no breaks.
    let count = d.rng.random_range(3..5);
    let inner = d.range(0.42, 0.6);
    // As fast as the outermost track of each zone: the rate goes with the radius, and the bytes with the area.
    let rate = |k: i32| (1.0 - f64::from(k) / f64::from(count) * (1.0 - inner * inner)).sqrt();
    // An address beyond the last is never reached.
    world.weak = (1..count).map(|k| (f64::from(k) / f64::from(count), 2.0, rate(k) / rate(k - 1))).collect();
    let passes = if d.chance(0.5) { 2 } else { 1 };
    let length = d.seconds / f64::from(passes);
    // All of it is read: the times of the zones add up to the time of a pass.
    let times: f64 = (0..count).map(|k| 1.0 / rate(k)).sum();
    world.capacity = length * d.rate * 1e6 * f64::from(count) / times * 1.01;
    let leg = |i| Leg { name: format!("pass {i}"), op: Op::Read, seconds: length, rate: d.rate, from: 0.0 };
    world.legs = (1..=passes).map(leg).collect();
}

fn surface(d: &mut Draw, world: &mut World) {
    world.channels.offset = true;
    let op = if d.chance(0.6) { Op::Read } else { Op::Write };
    let passes = if d.chance(0.7) { 2 } else { 1 };
    world.slope = if d.chance(0.5) { d.range(0.1, 0.5) } else { 0.0 };
    let each = d.seconds / f64::from(passes);
    let mean = 1.0 - world.slope / 2.0;
    world.capacity = d.rate * 1e6 * each * mean * d.range(0.95, 1.3);
    let weak = d.rng.random_range(1..3);
    let kept = (d.seconds, d.shortest);
    d.seconds = 1.0;
    d.shortest = (1.25 * kept.1 / each).min(0.2);
    let places = d.times(2 * weak);
    (d.seconds, d.shortest) = kept;
    world.weak = places
        .chunks(2)
        .map(|p| {
            let share = d.share(0.25);
            (p[0] * 0.7, p[1] * 0.7, share)
        })
        .collect();
    world.legs = (0..passes)
        .map(|i| Leg {
            name: format!("pass {}", i + 1),
            op: if i == 1 && op == Op::Write && d.chance(0.5) { Op::Read } else { op },
            seconds: each,
            rate: d.rate,
            from: 0.0,
        })
        .collect();
}

fn workload(d: &mut Draw, world: &mut World) {
    let op = if d.chance(0.5) { Op::Read } else { Op::Write };
    let count = d.rng.random_range(1..3);
    let mut times = d.times(count);
    times.push(d.seconds);
    let mut last = 0.0;
    let mut rate = d.rate;
    world.legs.clear();
    for (i, at) in times.into_iter().enumerate() {
        world.legs.push(Leg {
            name: ["sequential", "random 4 KiB", "sequential 64 KiB"][i].into(),
            op,
            seconds: at - last,
            rate,
            from: 0.0,
        });
        let share = d.share(0.1);
        rate = if rate < 0.9 * d.rate && d.chance(0.5) { rate / share } else { rate * share };
        last = at;
    }
}

fn gaps(d: &mut Draw, world: &mut World) {
    if d.chance(0.6) {
        cache(d, world, 1);
    }
    let count = d.rng.random_range(1..4);
    let at = world.stages.first().map(|s| s.bytes / (d.rate * 1e6));
    for _ in 0..count {
        let from = d.range(0.05, 0.9) * d.seconds;
        let to = from + d.range(8.0, 60.0) * d.interval;
        // Where a break falls into a gap, nobody can say where it was.
        if at.is_none_or(|t| t < from - d.shortest || t > to + d.shortest) {
            world.gaps.push((from, to));
        }
    }
}

/// Takes out of the truth what no reading could show, and gives up where what was meant did not happen.
fn settle_truth(pattern: &str, d: &Draw, world: &World, seen: &mut Seen) -> Option<()> {
    let end = seen.samples.last()?.end.secs();
    // No drive heats up by more than a degree and a half in a second at its limit.
    if let Some(at) = seen.flips.first() {
        let i = seen.curve.partition_point(|c| c.0 < *at).max(1);
        let (a, b) = (seen.curve[i - 1], *seen.curve.get(i)?);
        if (b.1 - a.1) / (b.0 - a.0) > 1.5 {
            return None;
        }
    }
    // A governor holds the temperature.
    let above = |t: crate::world::Throttle| t.onset + if t.gain > 0.0 { 6.0 } else { 2.0 };
    if let (Some(at), Some(t)) = (seen.flips.first(), world.throttle)
        && seen.curve.iter().any(|c| c.0 > *at && c.1 > above(t))
    {
        return None;
    }
    match pattern {
        "throttle-slow" => {
            let first = *seen.flips.first()?;
            let last = seen.left.last()?.1;
            let lowest = seen.left.iter().map(|l| l.1).fold(1.0, f64::min);
            // Nine tenths of the way are done soon, and it does not swing.
            let done = seen.left.iter().find(|l| l.0 > first && 1.0 - l.1 >= 0.9 * (1.0 - last))?.0;
            if last > 0.97 * lowest.max(1e-9) * 1.06
                || last.ln() > -d.least
                || done - first > 0.3 * (end - done).min(first)
                || end - done < d.shortest
                || seen.flips.len() > 1
                || seen.curve.last()?.1 > world.throttle?.onset + 7.0
            {
                return None;
            }
            let bytes = |t: f64| bytes_at(seen, t);
            let found = TrueBreak {
                start_s: first,
                end_s: done,
                start_bytes: bytes(first),
                end_bytes: bytes(done),
                cause: Cause::ThermalThrottle,
            };
            seen.truth.breaks = vec![found];
        }
        "throttle" | "cache-then-heat" => {
            if seen.flips.len() != 1 {
                return None;
            }
        }
        "release" => {
            if !(2..=4).contains(&seen.flips.len()) {
                return None;
            }
        }
        "throttle-cycles" => {
            let lengths: Vec<f64> = seen.flips.windows(2).map(|w| w[1] - w[0]).collect();
            let uneven = |own: Vec<f64>| {
                let (low, high) =
                    own.iter().fold((f64::INFINITY, 0.0_f64), |(a, b), l| (a.min(*l), b.max(*l)));
                high > 1.6 * low
            };
            if [0, 1].iter().any(|k| uneven(lengths.iter().skip(*k).step_by(2).copied().collect())) {
                return None;
            }
            if seen.flips.len() < 12 || lengths.iter().any(|l| *l < 2.5 * d.interval) {
                return None;
            }
            let first = *seen.flips.first()?;
            seen.truth.cycles = Some(TrueCycle {
                start_s: first,
                end_s: end,
                period_s: 2.0 * lengths.iter().sum::<f64>() / lengths.len() as f64,
                cause: Cause::ThermalThrottle,
            });
            keep_start(d, world, seen, first, Cause::ThermalThrottle)?;
        }
        "sawtooth" => {
            let from = seen.truth.cycles?.start_s;
            seen.truth.breaks.clear();
            if from > 0.0 {
                keep_start(d, world, seen, from, Cause::Unexplained)?;
            }
        }
        // An address that one pass saw once cannot be told from a moment.
        "surface" => seen.truth.seen_once = world.legs.len() == 1,
        "fill" | "gradual" | "two-stages" | "rest" | "read-between" | "others" | "stolen" | "riddle"
        | "cache" | "folding" | "gaps" | "workload" | "riddle-write" | "link" | "zones" | "unseen-others" => {
        }
        "bursts" => {
            // After each rest the cache takes data again.
            for leg in (2..world.legs.len()).step_by(2) {
                let at = seen.samples.iter().find(|s| s.leg as usize == leg)?.start.secs();
                let bytes = bytes_at(seen, at);
                seen.truth.breaks.push(TrueBreak {
                    start_s: at,
                    end_s: at,
                    start_bytes: bytes,
                    end_bytes: bytes,
                    cause: Cause::CacheRecovered,
                });
            }
            seen.truth.breaks.sort_by(|a, b| a.start_s.total_cmp(&b.start_s));
        }
        _ => return seen.truth.breaks.is_empty().then_some(()),
    }
    if matches!(pattern, "rest" | "read-between") {
        let last = world.legs.len() - 1;
        let at = seen.samples.iter().find(|s| s.leg as usize == last)?.start.secs();
        let bytes = bytes_at(seen, at);
        let i = seen.truth.breaks.iter().take_while(|b| b.start_s < at).count();
        let found = TrueBreak {
            start_s: at,
            end_s: at,
            start_bytes: bytes,
            end_bytes: bytes,
            cause: Cause::CacheRecovered,
        };
        seen.truth.breaks.insert(i, found);
        if seen.truth.breaks.len() < 2 {
            return None;
        }
    }
    if pattern == "workload" {
        for leg in 1..world.legs.len() {
            let at = seen.samples.iter().find(|s| s.leg as usize == leg)?.start.secs();
            let bytes = bytes_at(seen, at);
            let found = TrueBreak {
                start_s: at,
                end_s: at,
                start_bytes: bytes,
                end_bytes: bytes,
                cause: Cause::Workload,
            };
            seen.truth.breaks.push(found);
        }
    }
    // A weak place that goes beyond the end of a pass is not left there.
    for leg in 1..world.legs.len() {
        let at = seen.samples.iter().find(|s| s.leg as usize == leg)?.start.secs();
        seen.truth.breaks.retain(|b| b.cause != Cause::Surface || (b.start_s - at).abs() > 2.0 * d.interval);
    }
    // Every stretch has to last, and every leg's edges have to keep away from its ends.
    let mut times = vec![0.0, end];
    times.extend(seen.truth.breaks.iter().flat_map(|b| [b.start_s, b.end_s]));
    for leg in 0..world.legs.len() {
        times.extend(seen.samples.iter().find(|s| s.leg as usize == leg).map(|s| s.start.secs()));
    }
    times.sort_by(f64::total_cmp);
    let gradual = |a: f64, b: f64| seen.truth.breaks.iter().any(|k| k.start_s == a && k.end_s == b);
    let least = 3.3_f64.max(10.0 * d.interval);
    let fine = times.windows(2).all(|w| w[1] - w[0] < 1e-6 || w[1] - w[0] >= least || gradual(w[0], w[1]));
    let meant = matches!(pattern, "sawtooth" | "gaps" | "dips" | "steady" | "falling");
    (fine && (meant || !seen.truth.breaks.is_empty())).then_some(())
}

/// Only the first of a pattern that repeats itself is a break, and only where the mean rate changes enough.
fn keep_start(d: &Draw, world: &World, seen: &mut Seen, from: f64, cause: Cause) -> Option<()> {
    let end = seen.samples.last()?.end.secs();
    let (before, all) = (bytes_at(seen, from), bytes_at(seen, end));
    let step = ((before / from) / ((all - before) / (end - from))).ln();
    let slow = world.noise.long_run() * (d.interval / from.min(end - from)).sqrt();
    if step < 0.15_f64.max(10.0 * slow) || from < d.shortest {
        return None;
    }
    let found = TrueBreak { start_s: from, end_s: from, start_bytes: before, end_bytes: before, cause };
    // The first fall may come up to a period later than the pattern begins.
    let period = seen.truth.cycles.map_or(0.0, |c| c.period_s);
    let reach = bytes_at(seen, from + period);
    seen.truth.breaks = vec![TrueBreak { end_s: from + period, end_bytes: reach, ..found }];
    Some(())
}

fn bytes_at(seen: &Seen, t: f64) -> f64 {
    let mut sum = 0.0;
    for s in &seen.samples {
        let (a, b) = (s.start.secs(), s.end.secs());
        let moved = s.moved().0 as f64;
        if b <= t {
            sum += moved;
        } else {
            sum += moved * ((t - a) / (b - a)).clamp(0.0, 1.0);
            break;
        }
    }
    sum
}
