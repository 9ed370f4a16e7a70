//! A pass over the surface on a grid, and the slow stretches of it.

use super::baseline::{LEAST_DEPTH, baseline};
use super::passes::{Found, cells_of};
use crate::stats;
use crate::trace::Trace;
use std::ops::Range;

/// False discovery rate.
const FALSE_DISCOVERIES: f64 = 0.01;
/// Share of the cells of a stretch that are slow.
const SOLID: f64 = 0.7;
/// Share of its depth to which the cells of a hollow are followed at its edges.
const EDGE: f64 = 0.5;
/// Cells between two hollows that are one.
pub(super) const JOIN: usize = 2;
/// Share of the shorter one that two stretches of different passes share, when they are the same.
const SAME: f64 = 0.5;
/// Cells at the baseline, as a sum of what speaks against them, behind which a stretch does not go on.
const AGAINST: f64 = 3.0;

/// A pass on the grid, in logarithms of rates.
pub(super) struct View {
    pub(super) rate: Vec<Option<f64>>,
    /// The sample that a cell was seen by.
    pub(super) sample: Vec<usize>,
    /// Whether what was read of a cell failed in part, so that it has no rate.
    pub(super) failed: Vec<bool>,
    pub(super) baseline: Vec<f64>,
    pub(super) sigma: f64,
    pub(super) slow: Vec<Slow>,
}

/// A slow stretch of a pass.
#[derive(Clone, Debug)]
pub(super) struct Slow {
    pub(super) cells: Range<usize>,
    pub(super) depth: f64,
}

impl View {
    pub(super) fn of(trace: &Trace, found: &Found, from: f64, width: f64, cells: usize) -> Self {
        let mut sums = vec![(0.0, 0.0); cells];
        let mut sample = vec![usize::MAX; cells];
        let mut failed = vec![false; cells];
        for span in &found.spans {
            let i = span.0;
            let bytes = (trace.moved(i + 1).0 - trace.moved(i).0) as f64;
            let seconds = trace.end(i).since(trace.start(i)).secs();
            let fails = trace.failed_in(&(i..i + 1)) > 0;
            for c in cells_of(span, from, width, cells) {
                failed[c] |= fails;
                if fails {
                    // It says how long the drive tried.
                    continue;
                }
                sums[c].0 += bytes;
                sums[c].1 += seconds;
                sample[c] = sample[c].min(i);
            }
        }
        let rate: Vec<Option<f64>> = sums
            .iter()
            .map(|(bytes, seconds)| (*seconds > 0.0 && *bytes > 0.0).then(|| (bytes / seconds / 1e6).ln()))
            .collect();
        Self { failed, ..Self::on(rate, sample) }
    }

    pub(super) fn on(rate: Vec<Option<f64>>, sample: Vec<usize>) -> Self {
        let (baseline, sigma) = baseline(&rate);
        let mut view =
            Self { failed: vec![false; rate.len()], rate, sample, baseline, sigma, slow: Vec::new() };
        view.slow = view.find();
        view
    }

    /// The cells that were looked at, in the order of time.
    pub(super) fn in_time(&self) -> Vec<usize> {
        let mut cells: Vec<usize> = (0..self.rate.len()).filter(|c| self.rate[*c].is_some()).collect();
        cells.sort_by_key(|c| self.sample[*c]);
        cells
    }

    /// What was seen in one go, in the order of time: cells that follow each other in time and in address.
    pub(super) fn visits(&self) -> Vec<Vec<usize>> {
        let cells = self.in_time();
        cells.chunk_by(|a, b| *b == a + 1).map(<[usize]>::to_vec).collect()
    }

    /// This pass without what `slower` gives for cells in the order of time.
    pub(super) fn without(&self, cells: &[usize], slower: &[f64]) -> Self {
        let mut rate = self.rate.clone();
        for (c, by) in cells.iter().zip(slower) {
            rate[*c] = rate[*c].map(|r| r - by);
        }
        Self { failed: self.failed.clone(), ..Self::on(rate, self.sample.clone()) }
    }

    pub(super) fn residual(&self, cell: usize) -> Option<f64> {
        Some(self.rate[cell]? - self.baseline[cell])
    }

    /// How far some cells lie below the baseline: their median.
    pub(super) fn depth(&self, cells: Range<usize>) -> Option<f64> {
        let mut all: Vec<f64> = cells.filter_map(|c| self.residual(c)).collect();
        stats::median(&mut all).map(|m| -m)
    }

    /// Whether this pass went over most of the cells.
    pub(super) fn went(&self, cells: &Range<usize>) -> bool {
        2 * cells.clone().filter(|c| self.rate[*c].is_some()).count() > cells.len()
    }

    /// Stretches below the baseline, by the false discovery rate over all cells.
    pub(super) fn find(&self) -> Vec<Slow> {
        let mut chances: Vec<(f64, usize)> =
            (0..self.rate.len()).filter_map(|c| Some((below(self.residual(c)? / self.sigma), c))).collect();
        chances.sort_by(|a, b| a.0.total_cmp(&b.0));
        let all = chances.len() as f64;
        let last =
            (0..chances.len()).rev().find(|&k| chances[k].0 <= FALSE_DISCOVERIES * (k + 1) as f64 / all);
        let mut is_slow = vec![false; self.rate.len()];
        for (_, c) in &chances[..last.map_or(0, |k| k + 1)] {
            is_slow[*c] = self.residual(*c).is_some_and(|r| r <= -LEAST_DEPTH);
        }
        let mut joined: Vec<Range<usize>> = Vec::new();
        for run in runs(is_slow.into_iter()) {
            match joined.last_mut().filter(|l| run.start - l.end <= JOIN) {
                Some(last) => last.end = run.end,
                None => joined.push(run),
            }
        }
        // Pieces of one stretch grow into each other.
        let mut grown: Vec<Range<usize>> = Vec::new();
        for cells in joined.into_iter().map(|run| self.followed(run)) {
            match grown.last_mut().filter(|l| cells.start <= l.end + JOIN) {
                Some(last) => *last = last.start.min(cells.start)..last.end.max(cells.end),
                None => grown.push(cells),
            }
        }
        let slow = grown.into_iter().filter_map(|cells| {
            let depth = self.depth(cells.clone())?;
            let low = cells.clone().filter(|c| self.residual(*c).is_some_and(|r| r < -EDGE * depth)).count();
            let stands_out = depth > 4.0 * self.sigma / (low as f64).sqrt();
            (stands_out && depth >= LEAST_DEPTH && low as f64 >= SOLID * cells.len() as f64)
                .then_some(Slow { cells, depth })
        });
        slow.collect()
    }

    /// A stretch as far as its cells are nearer to its depth than to the baseline. A cell counts for it or against it by how much nearer it is to the one
    /// than to the other, and the edges are where the sum of that is largest: one cell that noise has lifted ends nothing.
    pub(super) fn followed(&self, run: Range<usize>) -> Range<usize> {
        let mut inside: Vec<f64> = run.clone().filter_map(|c| self.residual(c)).collect();
        let level = stats::median(&mut inside).unwrap_or(0.0).min(-1e-9);
        let gain = |c: usize| self.residual(c).map_or(0.0, |r| (r.abs() - (r - level).abs()) / -level);
        let grow = |cells: &mut dyn Iterator<Item = usize>| {
            let (mut sum, mut best, mut count) = (0.0, 0.0, 0);
            for (k, c) in cells.enumerate() {
                sum += gain(c);
                if sum > best {
                    (best, count) = (sum, k + 1);
                } else if sum < best - AGAINST {
                    break;
                }
            }
            count
        };
        let mut a = run.start - grow(&mut (0..run.start).rev());
        let mut b = run.end + grow(&mut (run.end..self.rate.len()));
        let low = |c: usize| gain(c) > 0.0;
        while a + 1 < b && !low(a) {
            a += 1;
        }
        while b > a + 1 && !low(b - 1) {
            b -= 1;
        }
        a..b
    }
}

/// Whether stretches of two passes are the same.
pub(super) fn is_same(a: &Range<usize>, b: &Range<usize>) -> bool {
    let common = a.end.min(b.end).saturating_sub(a.start.max(b.start));
    common as f64 >= SAME * a.len().min(b.len()) as f64 && common > 0
}

/// Chance of a normal value at or below `z`, for z below 0; Abramowitz and Stegun, "Handbook of Mathematical Functions", 1964, 26.2.17 and, far out,
/// 26.2.12. 1 for values above 0.
fn below(z: f64) -> f64 {
    if z >= 0.0 {
        return 1.0;
    }
    let x = -z;
    let density = (-0.5 * x * x).exp() / std::f64::consts::TAU.sqrt();
    if x > 6.0 {
        return density / x * (1.0 - 1.0 / (x * x));
    }
    let t = 1.0 / (1.0 + 0.231_641_9 * x);
    let poly = t
        * (0.319_381_53
            + t * (-0.356_563_782 + t * (1.781_477_937 + t * (-1.821_255_978 + t * 1.330_274_429))));
    density * poly
}

/// Runs of cells for which something holds.
pub(super) fn runs(cells: impl Iterator<Item = bool>) -> Vec<Range<usize>> {
    let mut all: Vec<Range<usize>> = Vec::new();
    for (c, holds) in cells.enumerate() {
        match all.last_mut().filter(|r| r.end == c) {
            Some(last) if holds => last.end = c + 1,
            _ if holds => all.push(c..c + 1),
            _ => {}
        }
    }
    all
}
