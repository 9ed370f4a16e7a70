//! Plateaus and legs in figures.

use crate::consistency::Consistency;
use crate::interference::{self, Interference};
use crate::plateaus::Stretch;
use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use serde::{Deserialize, Serialize};

/// A stretch with one steady rate or one steady slope.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Plateau {
    /// Name of the leg.
    pub leg: String,
    /// What the leg does.
    pub op: Op,
    /// Start, seconds since the start of the run.
    pub start_s: f64,
    /// End.
    pub end_s: f64,
    /// Start, bytes moved since the start of the run.
    pub start_bytes: u64,
    /// End.
    pub end_bytes: u64,
    /// Bytes over time, MB/s.
    pub mean_mb_s: f64,
    /// Standard deviation of the rates of the samples, MB/s; `None` where a single one has a rate.
    pub sd_mb_s: Option<f64>,
    /// Change along the plateau, MB/s for each GB moved.
    pub slope_mb_s_per_gb: f64,
}

/// Smallest, mean and largest of a reading.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Spread {
    /// Smallest.
    pub min: f64,
    /// Mean.
    pub mean: f64,
    /// Largest.
    pub max: f64,
}

/// One leg in figures.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LegFigures {
    /// Name of the leg.
    pub leg: String,
    /// What it does.
    pub op: Op,
    /// Start, seconds since the start of the run.
    pub start_s: f64,
    /// End.
    pub end_s: f64,
    /// Bytes moved.
    pub bytes: u64,
    /// Rate of its samples, MB/s; the mean is bytes over time.
    pub rate_mb_s: Option<Spread>,
    /// Composite temperature, °C.
    pub temp_c: Option<Spread>,
    /// How evenly it ran; `None` for a rest.
    pub consistency: Option<Consistency>,
    /// The write cache as this leg found it, bytes: only where it followed a rest and its first fall is put down to the cache.
    #[serde(default)]
    pub cache_bytes: Option<u64>,
}

pub(crate) fn plateau(
    trace: &Trace,
    leg: &TraceLeg,
    stretch: &Stretch,
    disturbed: &[Interference],
) -> Plateau {
    let clean = interference::without(trace, stretch.samples.clone(), disturbed);
    let (mean_mb_s, sd_mb_s) = clean.unwrap_or((stretch.mean.mb_s(), stretch.sd_mb_s));
    let single = stretch.samples.clone().filter(|i| trace.rate.get(*i).is_some()).nth(1).is_none();
    Plateau {
        leg: leg.name.clone(),
        op: leg.op,
        start_s: trace.start(stretch.samples.start).secs(),
        end_s: trace.end(stretch.samples.end.saturating_sub(1)).secs(),
        start_bytes: trace.moved(stretch.samples.start).0,
        end_bytes: trace.moved(stretch.samples.end).0,
        mean_mb_s,
        sd_mb_s: (!single).then_some(sd_mb_s),
        slope_mb_s_per_gb: stretch.slope_mb_s_per_gb,
    }
}

pub(crate) fn leg_figures(trace: &Trace, leg: &TraceLeg) -> LegFigures {
    let (first, end) = (leg.samples.start, leg.samples.end);
    let mean = trace.mean_rate(leg.samples.clone());
    let rate = trace.rate.extent(first, end).zip(mean).map(|(e, m)| Spread {
        min: e.min,
        mean: m.mb_s(),
        max: e.max,
    });
    let temp = trace.temp.extent(first, end).map(|e| Spread { min: e.min, mean: e.mean, max: e.max });
    LegFigures {
        leg: leg.name.clone(),
        op: leg.op,
        start_s: trace.start(first).secs(),
        end_s: trace.end(end.saturating_sub(1)).secs(),
        bytes: trace.moved(end).0 - trace.moved(first).0,
        rate_mb_s: rate,
        temp_c: temp,
        consistency: None,
        cache_bytes: None,
    }
}
