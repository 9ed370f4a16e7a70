//! Cases as they are logged by less than the best: with fewer readings, coarser, later.

use crate::Case;
use mile_core::{Bytes, Celsius, Context, Nanos, Sample};
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// What is taken away.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loss {
    /// Every second reading is missing, at random.
    Half,
    /// No temperature.
    Temperature,
    /// Nothing of others on the drive or on the host.
    Others,
    /// No limits of the drive, and not its capacity.
    Limits,
    /// Three samples in one.
    Coarser,
    /// Rates in whole 10 MB/s.
    Units,
    /// A temperature that follows with a time constant of 10 s.
    Lag,
    /// No earlier runs of the drive.
    Earlier,
}

impl Loss {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Half,
        Self::Temperature,
        Self::Others,
        Self::Limits,
        Self::Coarser,
        Self::Units,
        Self::Lag,
        Self::Earlier,
    ];

    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Half => "half of the readings missing",
            Self::Temperature => "no temperature",
            Self::Others => "nothing of others",
            Self::Limits => "no limits and no capacity",
            Self::Coarser => "three times coarser",
            Self::Units => "rates in whole 10 MB/s",
            Self::Lag => "temperature lags by 10 s",
            Self::Earlier => "no earlier runs of the drive",
        }
    }
}

/// Time constant of the slow sensor, seconds.
const LAG_S: f64 = 10.0;
/// The unit of a coarse log, bytes per second.
const UNIT: f64 = 10e6;

/// A case with less. The same again for the same seed.
pub fn degrade(case: &Case, losses: &[Loss]) -> Case {
    let mut out = case.clone();
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(case.seed ^ 0x6c6f_7373);
    for loss in losses {
        match loss {
            Loss::Half => {
                out.samples.iter_mut().for_each(|s| thin(s, &mut rng));
                out.power.retain(|_| rng.random_bool(0.5));
            }
            Loss::Temperature => {
                out.samples.iter_mut().for_each(|s| (s.temp, s.throttled) = (None, None));
            }
            Loss::Others => out.samples.iter_mut().for_each(|s| (s.foreign, s.host.steal) = (None, None)),
            Loss::Limits => {
                out.context = Context { warn: None, critical: None, capacity: None, ..out.context.clone() };
            }
            Loss::Coarser => out.samples = coarser(&out.samples),
            Loss::Units if is_fast(&out.samples) => out.samples.iter_mut().for_each(in_units),
            // Nobody logs a slow drive so: most of it would be zeros.
            Loss::Units => {}
            Loss::Lag => lag(&mut out.samples),
            Loss::Earlier => out.context.earlier.clear(),
        }
    }
    out
}

fn thin(sample: &mut Sample, rng: &mut Xoshiro256PlusPlus) {
    let mut lost = || rng.random_bool(0.5);
    sample.temp = sample.temp.filter(|_| !lost());
    sample.throttled = sample.throttled.filter(|_| !lost());
    sample.foreign = sample.foreign.filter(|_| !lost());
    sample.host.steal = sample.host.steal.filter(|_| !lost());
    sample.fill = sample.fill.filter(|_| !lost());
    sample.latency = sample.latency.filter(|_| !lost());
}

/// Three samples of one leg become one, with the last of their readings.
fn coarser(samples: &[Sample]) -> Vec<Sample> {
    let mut out = Vec::new();
    for leg in samples.chunk_by(|a, b| a.leg == b.leg) {
        for three in leg.chunks(3) {
            let (Some(first), Some(last)) = (three.first(), three.last()) else { continue };
            out.push(Sample {
                start: first.start,
                written: Bytes(three.iter().map(|s| s.written.0).sum()),
                read: Bytes(three.iter().map(|s| s.read.0).sum()),
                offset: first.offset,
                ..last.clone()
            });
        }
    }
    out
}

/// Whether the rate under load is far more than the unit.
fn is_fast(samples: &[Sample]) -> bool {
    let moved: u64 = samples.iter().map(|s| s.moved().0).sum();
    let loaded = samples.iter().filter(|s| s.op != mile_core::Op::Idle);
    moved as f64 > 30.0 * UNIT * loaded.map(|s| s.end.since(s.start).secs()).sum::<f64>()
}

fn in_units(sample: &mut Sample) {
    let seconds = sample.end.since(sample.start).secs();
    let whole = |b: Bytes| Bytes(((b.0 as f64 / seconds / UNIT).round() * UNIT * seconds) as u64);
    (sample.written, sample.read) = (whole(sample.written), whole(sample.read));
}

fn lag(samples: &mut [Sample]) {
    let (mut shown, mut last): (Option<f64>, Nanos) = (None, Nanos(0));
    for sample in samples {
        let dt = sample.end.since(last).secs();
        last = sample.end;
        let Some(real) = sample.temp else { continue };
        let before = shown.unwrap_or(real.0);
        let now = before + (real.0 - before) * (1.0 - (-dt / LAG_S).exp());
        shown = Some(now);
        sample.temp = Some(Celsius(now.round()));
    }
}
