//! Parts of a leg, the steps between them, and which of those are large enough.

use crate::cycles::Cycle;
use crate::moments::Line;
use crate::stats;
use crate::units::{Bytes, Nanos, Rate};
use std::ops::Range;

/// What counts as a break.
#[derive(Clone, Copy, Debug)]
pub struct Settings {
    /// Least change, as a share of the rate before.
    pub least_change: f64,
    /// Least time that each side lasts, seconds.
    pub least_seconds: f64,
    /// Fewest samples on each side.
    pub least_samples: usize,
}

impl Default for Settings {
    /// 8 %, 3 s and 8 samples.
    fn default() -> Self {
        Self { least_change: 0.08, least_seconds: 3.0, least_samples: 8 }
    }
}

impl Settings {
    /// Least change as a difference of logarithms.
    pub fn least_step(&self) -> f64 {
        self.least_change.ln_1p()
    }

    /// Fewest samples on each side where one sample lasts `sample_seconds`.
    pub fn least(&self, sample_seconds: f64) -> usize {
        let by_time = (self.least_seconds / sample_seconds.max(1e-6)).ceil() as usize;
        by_time.max(self.least_samples)
    }
}

/// Where one stretch gives way to the next, and between which bounds that is sure.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Edge {
    /// First sample of the stretch behind.
    pub sample: usize,
    /// When.
    pub at: Nanos,
    /// Bytes moved by then.
    pub bytes: Bytes,
    /// Lower bound (95 %), or the start of a gradual transition.
    pub low: Bytes,
    /// Upper bound (95 %), or the end of a gradual transition.
    pub high: Bytes,
    /// Samples for which a gradual change takes: its first sample and the one behind it; the sample of the edge twice where it is sharp. How
    /// well the place of an edge is known is another matter.
    pub span: (usize, usize),
    /// Rate just before.
    pub from: Rate,
    /// Rate just behind: the low of a pattern that begins here with a fall from its own high.
    pub to: Rate,
    /// Whether a pattern begins here with its first fall: the rate comes back and falls again.
    pub repeats: bool,
}

/// Noise of a series of logarithms of rates.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Noise {
    /// Standard deviation from one value to the next.
    pub sigma: f64,
    /// Standard deviation of a single value as it counts in a mean of many, autocorrelation included: the variance of
    /// the mean of `n` values is `long_run² / n`.
    pub long_run: f64,
}

/// No rate is steadier than this share: a floor under the noise, so that a series without any is not cut at
/// rounding errors. A guess, an order of magnitude below the least change.
const NOISE_FLOOR: f64 = 0.004;

impl Noise {
    /// Estimates the noise of a series that may jump, from the MAD of its differences at lag 1 and at a lag at which an
    /// autocorrelation of the first order has died away. For such a series the variance of a mean grows by
    /// (1 + ρ) / (1 - ρ) (Priestley, "Spectral Analysis and Time Series", 1981, §5.3.2).
    pub fn of(values: &[f64]) -> Self {
        // Each step of the series spoils as many differences as the lag: a short series allows only a short one.
        let lag = (values.len() / 40).clamp(2, 12);
        let near = stats::difference_sigma(values).unwrap_or(0.0);
        let far = stats::lag_sigma(&mut stats::lag_differences(values, lag)).map_or(near, |s| s.max(near));
        // Nine in ten values are those before them: what is left are steps, each of which is in as many of the far differences as the lag.
        let far = if near > 0.0 { far } else { near };
        let rho = if far > 0.0 { (1.0 - (near / far).powi(2)).clamp(0.0, 0.9) } else { 0.0 };
        let sigma = near.max(NOISE_FLOOR);
        Self { sigma, long_run: far.max(NOISE_FLOOR) * ((1.0 + rho) / (1.0 - rho)).sqrt() }
    }
}

/// Variance of a running median of normal noise over that of a running mean, in the limit of long windows (π/2).
pub(crate) const MEDIAN_COST: f64 = std::f64::consts::FRAC_PI_2;

/// Blocks that one line describes.
#[derive(Clone, Debug)]
pub(super) struct Part {
    pub(super) blocks: Range<usize>,
    pub(super) line: Line,
}

/// What makes a step large enough.
pub(super) struct Steps<'a> {
    pub(super) settings: &'a Settings,
    pub(super) noise: Noise,
    pub(super) gradual: &'a [Range<usize>],
    pub(super) cycles: &'a [Cycle],
}

impl Steps<'_> {
    /// Joins neighbours, the least different first, until every step left is large enough and stands out of the noise.
    pub(super) fn join_small(&self, parts: &mut Vec<Part>, describe: impl Fn(Range<usize>) -> Part) {
        loop {
            let smallest = parts
                .windows(2)
                .enumerate()
                .map(|(i, pair)| (i, self.size(&pair[0], &pair[1])))
                .min_by(|a, b| a.1.total_cmp(&b.1));
            match smallest {
                Some((i, size)) if size < 1.0 => {
                    let joined = describe(parts[i].blocks.start..parts[i + 1].blocks.end);
                    parts[i] = joined;
                    parts.remove(i + 1);
                }
                _ => return,
            }
        }
    }

    /// Joins what lies beside a short dip, or bump, in which fewer than `least` of the `values` are nearer to its end than to the levels beside it, where those are
    /// alike: the segmentation had to make it as long as a plateau, and so took some of the level behind it for a slope.
    pub(super) fn join_dips(
        &self,
        parts: &mut Vec<Part>,
        values: &[f64],
        least: usize,
        describe: impl Fn(Range<usize>) -> Part,
    ) {
        let mut i = 1;
        while i + 1 < parts.len() {
            let (left, own, right) = (&parts[i - 1], &parts[i], &parts[i + 1]);
            let off = |block: usize| {
                let at = block as f64;
                let beside = f64::midpoint(left.line.at(at), right.line.at(at));
                (values[block] - beside).abs()
            };
            let most = own.blocks.clone().map(off).fold(0.0, f64::max);
            let lasted = own.blocks.clone().filter(|b| off(*b) > 0.5 * most).count();
            if own.blocks.len() <= 2 * least && lasted < least && self.size(left, right) < 1.0 {
                parts[i - 1] = describe(left.blocks.start..right.blocks.end);
                parts.drain(i..=i + 1);
            } else {
                i += 1;
            }
        }
    }

    /// Gives a part that did not last to the neighbour that is more like it, and joins its neighbours where they are alike without it.
    pub(super) fn join_brief(
        &self,
        parts: &mut Vec<Part>,
        brief: usize,
        describe: impl Fn(Range<usize>) -> Part,
    ) {
        let own = parts.remove(brief);
        let left = brief.checked_sub(1);
        let right = Some(brief).filter(|r| *r < parts.len());
        let far = |i: usize, at: f64| (parts[i].line.at(at) - own.line.level).abs();
        let to_left = match (left, right) {
            (Some(l), Some(r)) => {
                if self.size(&parts[l], &parts[r]) < 1.0 {
                    parts[l] = describe(parts[l].blocks.start..parts[r].blocks.end);
                    parts.remove(r);
                    return;
                }
                far(l, own.blocks.start as f64) <= far(r, own.blocks.end as f64)
            }
            (l, _) => l.is_some(),
        };
        // The line of the longer one stays: what did not last is no part of its height.
        if to_left {
            parts[brief - 1].blocks.end = own.blocks.end;
        } else {
            parts[brief].blocks.start = own.blocks.start;
        }
    }

    /// Size of the step between two neighbours in units of the least that counts.
    pub(super) fn size(&self, left: &Part, right: &Part) -> f64 {
        let block = right.blocks.start;
        let edge = block as f64 - 0.5;
        let jump = match self.gradual.iter().find(|g| g.contains(&block)) {
            Some(slow) => right.line.at(slow.end as f64) - left.line.at(slow.start as f64),
            None => right.line.at(edge) - left.line.at(edge),
        };
        let spread =
            self.noise.long_run * (1.0 / left.blocks.len() as f64 + 1.0 / right.blocks.len() as f64).sqrt();
        // The mean of a pattern goes with the share of its time that is slow, which may drift.
        let deep = |c: &&Cycle| {
            c.range.start as f64 + c.period < block as f64 && block as f64 + c.period < c.range.end as f64
        };
        let within = self.cycles.iter().find(deep);
        let drift = within.map_or(0.0, |c| 1.2 * (c.high - c.low) * c.duty * (1.0 - c.duty));
        jump.abs() / self.settings.least_step().max(drift).max(3.0 * MEDIAN_COST.sqrt() * spread)
    }
}
