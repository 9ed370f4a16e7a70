//! What earlier runs of the drive of a case came to: most runs are not the first on their drive. What they tell follows from the truth of the case, with
//! the scatter, the other fill levels, the shorter courses and the mistakes that earlier runs have.

use crate::Case;
use mile_core::findings::Cause;
use mile_core::{Bytes, Celsius, EarlierRun, Op, Rate, Sample};
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// Share of the runs that are the first on their drive, or whose drive tells no serial number.
const FIRST: f64 = 0.25;
/// Share of the earlier runs at another fill level, at which a cache may be another, and of the cases that are at another one than all of them.
const OTHER_FILL: f64 = 0.15;
/// Share of the earlier runs that met something without a reason themselves; half of these took it for the end of the cache.
const MISTAKEN: f64 = 0.06;
/// Share of the drives that have no cache that ends, of those whose cache did not end in the case.
const WITHOUT_CACHE: f64 = 0.4;

struct Draw(Xoshiro256PlusPlus);

impl Draw {
    fn chance(&mut self, p: f64) -> bool {
        self.0.random_bool(p)
    }

    fn range(&mut self, from: f64, to: f64) -> f64 {
        self.0.random_range(from..to)
    }

    /// Evenly on a logarithmic scale.
    fn log(&mut self, from: f64, to: f64) -> f64 {
        self.range(from.ln(), to.ln()).exp()
    }

    /// Nearly normal, with this standard deviation.
    fn scatter(&mut self, sd: f64) -> f64 {
        (self.range(-1.0, 1.0) + self.range(-1.0, 1.0) + self.range(-1.0, 1.0)) * sd
    }
}

/// Bytes written since the drive was last at rest, and the rate just before, at a moment of a case.
fn written(samples: &[Sample], until: f64) -> (f64, f64) {
    let before = samples.partition_point(|s| s.end.secs() <= until + 1e-9);
    let from = samples[..before].iter().rposition(|s| s.op == Op::Idle).map_or(0, |i| i + 1);
    let own = &samples[from..before];
    let bytes: u64 = own.iter().map(|s| s.written.0).sum();
    let near = &own[own.len() - own.len().min(20.max(own.len() / 5))..];
    let seconds: f64 = near.iter().map(|s| s.end.since(s.start).secs()).sum();
    let near: u64 = near.iter().map(|s| s.written.0).sum();
    (bytes as f64, near as f64 / seconds.max(1e-9))
}

/// What the drive of a case is like: the bytes after which its cache ends, infinitely many where it has none, and the bytes and the rate that the case wrote
/// before its first fall.
struct Drive {
    cache: f64,
    reference: f64,
    rate: f64,
}

fn drive(case: &Case, d: &mut Draw) -> Option<Drive> {
    let of_cache = case.truth.breaks.iter().find(|b| b.cause == Cause::CacheExhausted);
    let first = of_cache.or_else(|| case.truth.breaks.first());
    let end = case.samples.last().map_or(0.0, |s| s.end.secs());
    let (reference, rate) = written(&case.samples, first.map_or(end, |b| b.start_s));
    if reference <= 0.0 {
        return None;
    }
    let cache = if of_cache.is_some() {
        reference
    } else if d.chance(WITHOUT_CACHE) {
        f64::INFINITY
    } else {
        reference * d.log(1.0, 30.0)
    };
    Some(Drive { cache, reference, rate })
}

/// How much larger the cache is at the fill level of another run: as large in most cases.
fn fill(d: &mut Draw) -> f64 {
    if d.chance(OTHER_FILL) { d.log(0.3, 3.0) } else { 1.0 }
}

/// What one of them wrote.
fn wrote(drive: &Drive, d: &mut Draw) -> (Option<Bytes>, Option<(Bytes, Rate)>) {
    let bytes = |b: f64| Bytes(b as u64);
    let rate = Rate(drive.rate * (1.0 + d.scatter(0.03)));
    let cache = drive.cache * fill(d) * (1.0 + d.scatter(0.02));
    let scale = if drive.cache.is_finite() { drive.cache } else { drive.reference };
    let length = scale * d.log(0.2, 6.0);
    if d.chance(MISTAKEN) {
        let fell = length.min(cache) * d.range(0.1, 0.9);
        return (d.chance(0.5).then(|| bytes(fell)), Some((bytes(fell), rate)));
    }
    if length > cache {
        (Some(bytes(cache)), Some((bytes(cache), rate)))
    } else {
        (None, Some((bytes(length), rate)))
    }
}

/// How warm one of them became, and where heat throttled it.
fn warmed(case: &Case, d: &mut Draw) -> (Option<Celsius>, Option<Celsius>) {
    let whole = |c: f64| Some(Celsius(c.round()));
    let all = case.samples.iter().filter_map(|s| Some((s.end.secs(), s.temp?.0)));
    let Some(hottest) = all.clone().map(|(_, t)| t).reduce(f64::max) else { return (None, None) };
    let throttle = case.truth.breaks.iter().find(|b| b.cause == Cause::ThermalThrottle).map(|b| b.start_s);
    let again = case.truth.cycles.filter(|c| c.cause == Cause::ThermalThrottle).map(|c| c.start_s);
    let onset = throttle.or(again).and_then(|from| all.clone().take_while(|(at, _)| *at <= from).last());
    if let Some((_, onset)) = onset {
        return if d.chance(0.75) {
            let at = onset + d.scatter(1.0);
            (whole(at), whole(at + d.range(0.0, 3.0)))
        } else {
            (None, whole(onset - d.range(1.0, 15.0)))
        };
    }
    let reached = hottest + d.scatter(6.0);
    match case.context.warn {
        Some(warn) if reached >= warn.0 - 1.0 => {
            let at = warn.0 + d.scatter(1.0);
            if d.chance(0.7) {
                (whole(at), whole(at + d.range(0.0, 3.0)))
            } else {
                (None, whole(warn.0 - 2.0))
            }
        }
        _ => (None, whole(reached)),
    }
}

/// Earlier runs of the drive of a case, the newest first. The same again for the same case.
pub fn earlier(case: &Case) -> Vec<EarlierRun> {
    let name = case.pattern.bytes().fold(0_u64, |h, b| h.wrapping_mul(131).wrapping_add(u64::from(b)));
    let mut d = Draw(Xoshiro256PlusPlus::seed_from_u64(
        case.seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ name ^ 0x6561_726c_6965_7200,
    ));
    if d.chance(FIRST) {
        return Vec::new();
    }
    let mut drive = drive(case, &mut d);
    let then = fill(&mut d);
    drive.iter_mut().for_each(|drive| drive.cache *= then);
    let count = d.0.random_range(1..5);
    let one = |i: i64, d: &mut Draw| {
        let (cache, unbroken) = drive.as_ref().map_or((None, None), |drive| wrote(drive, d));
        let (throttled_at, hottest) = warmed(case, d);
        EarlierRun { run: i, cache, unbroken, fill: None, throttled_at, hottest }
    };
    (1..=count).rev().map(|i| one(i, &mut d)).filter(EarlierRun::tells).collect()
}
