//! The baseline of a surface, and the recording zones that it is made of.

use crate::stats;
use std::ops::Range;

/// Least depth of a hollow, as a difference of logarithms: 8 %, as for a break.
pub(super) const LEAST_DEPTH: f64 = 0.083;
/// Bins of the baseline at the most: it has some tens of steps, and none of them is narrow.
const MOST_BINS: usize = 512;
/// Recording zones differ at least by this, as a difference of logarithms.
const ZONE_STEP: f64 = 0.016;

/// The baseline of a pass, and the noise of a cell around it.
pub(super) fn baseline(rate: &[Option<f64>]) -> (Vec<f64>, f64) {
    let per_bin = rate.len().div_ceil(MOST_BINS);
    let known: Vec<f64> = rate.iter().flatten().copied().collect();
    let noise = stats::difference_sigma(&known).unwrap_or(0.0).max(1e-4);
    let mut keep = vec![true; rate.len()];
    let mut line = vec![0.0; rate.len()];
    for round in 0..4 {
        let bins: Vec<Vec<f64>> = (0..rate.len().div_ceil(per_bin))
            .map(|b| {
                let cells = b * per_bin..((b + 1) * per_bin).min(rate.len());
                cells.filter(|c| keep[*c]).filter_map(|c| rate[c]).collect()
            })
            .collect();
        let steps = isotonic(&bins);
        for (c, value) in line.iter_mut().enumerate() {
            *value = steps[c / per_bin];
        }
        if round == 3 {
            break;
        }
        // What lies far below is not what the surface can do there.
        for c in 0..rate.len() {
            keep[c] = rate[c].is_none_or(|r| r - line[c] > -(3.0 * noise).max(0.5 * LEAST_DEPTH));
        }
    }
    let mut left: Vec<f64> =
        (0..rate.len()).filter(|c| keep[*c]).filter_map(|c| Some(rate[c]? - line[c])).collect();
    let spread = stats::mad_sigma(&mut left).unwrap_or(0.0);
    (line, noise.max(spread).max(1e-3))
}

/// The sequence that never rises with the least sum of absolute residuals from the values in bins; a bin without values goes with the one before.
fn isotonic(bins: &[Vec<f64>]) -> Vec<f64> {
    struct Block {
        values: Vec<f64>,
        bins: usize,
        level: f64,
    }
    let mut blocks: Vec<Block> = Vec::new();
    for bin in bins {
        let Some(level) = stats::median(&mut bin.clone()) else {
            match blocks.last_mut() {
                Some(last) => last.bins += 1,
                None => blocks.push(Block { values: Vec::new(), bins: 1, level: f64::INFINITY }),
            }
            continue;
        };
        blocks.push(Block { values: bin.clone(), bins: 1, level });
        while let [.., before, last] = blocks.as_mut_slice() {
            if before.level >= last.level && !before.values.is_empty() {
                break;
            }
            before.values.append(&mut last.values);
            before.bins += last.bins;
            before.level = stats::median(&mut before.values).unwrap_or(f64::INFINITY);
            blocks.pop();
        }
    }
    blocks.iter().flat_map(|b| std::iter::repeat_n(b.level, b.bins)).collect()
}

/// Stretches of one baseline, MB/s: neighbours that differ by less than a step of recording zones are one.
pub(super) fn zones(baseline: &[Option<f64>], sigma: f64) -> Vec<(Range<usize>, f64)> {
    let mut all: Vec<(Range<usize>, f64)> = Vec::new();
    for (c, level) in baseline.iter().enumerate().filter_map(|(c, l)| Some((c, (*l)?))) {
        match all.last_mut().filter(|z| (z.1 / level).ln() < 1e-9) {
            Some(last) => last.0.end = c + 1,
            None => all.push((c..c + 1, level)),
        }
    }
    // Of the steps of noise the smallest go first.
    let step = |a: &(Range<usize>, f64), b: &(Range<usize>, f64)| {
        let n = 1.0 / a.0.len() as f64 + 1.0 / b.0.len() as f64;
        (a.1 / b.1).ln() / ZONE_STEP.max(3.0 * sigma * n.sqrt())
    };
    while let Some((i, _)) = (1..all.len())
        .map(|i| (i, step(&all[i - 1], &all[i])))
        .min_by(|a, b| a.1.total_cmp(&b.1))
        .filter(|(_, size)| *size < 1.0)
    {
        let (right, level) = all.remove(i);
        let left = &mut all[i - 1];
        let (a, b) = (left.0.len() as f64, right.len() as f64);
        *left = (left.0.start..right.end, (left.1 * a + level * b) / (a + b));
    }
    // A bin that a step lies in has a level between those of its neighbours.
    let bin = baseline.len().div_ceil(MOST_BINS);
    while let Some(i) = (0..all.len()).find(|i| all.len() > 1 && all[*i].0.len() <= 2 * bin) {
        let (cells, level) = all.remove(i);
        let nearer_left =
            i > 0 && all.get(i).is_none_or(|right| (all[i - 1].1 / level).ln() < (level / right.1).ln());
        if nearer_left {
            all[i - 1].0.end = cells.end;
        } else {
            all[i].0.start = cells.start;
        }
    }
    all
}
