//! Plateaus of a leg and the edges between them.
//!
//! Works on the natural logarithm of the rate, so that a change is a share whatever the rate. The leg is cut into
//! at most [`MOST_BLOCKS`] blocks, each the bytes of its samples over their time; what repeats itself (module `cycles`) is replaced
//! by its mean over a period; elsewhere a running median over the least time that a plateau must last takes out dips
//! shorter than half of that; the rest is segmented exactly ([`crate::segment`]). Edges whose change is too small to matter
//! are then taken out again, and the others are located to the sample on the unfiltered rates.

mod locate;
mod parts;

use crate::cycles::{self, Cycle};
use crate::moments::{Line, Moments};
use crate::segment::{Penalty, segment};
use crate::stats;
use crate::trace::Trace;
use crate::units::Rate;
use locate::Locate;
pub(crate) use parts::MEDIAN_COST;
pub use parts::{Edge, Noise, Settings};
use parts::{Part, Steps};
use std::ops::Range;

/// Blocks that a leg is cut into at the most; the work of segmenting grows with its square in the worst case.
pub const MOST_BLOCKS: usize = 4096;

/// Share of a block that the unit in which bytes come may be: a quarter of the least change.
const UNIT_SHARE: f64 = 0.02;
/// First samples of a leg that are looked at by themselves, at the least.
const HEAD: usize = 1024;

/// Values beside all patterns from which the noise is known.
const LEAST_BESIDE: usize = 64;

/// A stretch of a leg with one rate or one slope.
#[derive(Clone, Debug, PartialEq)]
pub struct Stretch {
    /// Its samples.
    pub samples: Range<usize>,
    /// Bytes over time.
    pub mean: Rate,
    /// Standard deviation of the rates of its samples, MB/s.
    pub sd_mb_s: f64,
    /// Change of rate along the stretch, MB/s for each GB moved; 0 where a level describes it as well.
    pub slope_mb_s_per_gb: f64,
}

/// What a leg is made of.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Cut {
    /// Its stretches, in order.
    pub stretches: Vec<Stretch>,
    /// The edges between them, one fewer.
    pub edges: Vec<Edge>,
    /// What repeats itself in it.
    pub swings: Vec<Swing>,
}

/// A stretch of a leg in which the rate falls and comes back regularly.
#[derive(Clone, Debug, PartialEq)]
pub struct Swing {
    /// Its samples.
    pub samples: Range<usize>,
    /// Mean distance of two falls, seconds.
    pub period_s: f64,
    /// Fall from the high to the low, share of the high.
    pub depth: f64,
    /// Share of the time nearer to the low, 0 to 1.
    pub duty: f64,
    /// Rate halfway between its low and its high.
    pub middle: Rate,
}

impl Swing {
    /// Its high.
    pub fn high(&self) -> Rate {
        Rate(2.0 * self.middle.0 / (2.0 - self.depth))
    }
}

/// Penalties for a series of `n` values with noise `long_run`. A segment brings two to three free parameters and a
/// free position; 3 ln n for each keeps false breaks below one in a thousand series of pure noise, found by
/// trial on normal, skewed and autocorrelated noise.
pub(crate) fn penalty(n: usize, noise: Noise, least: usize) -> Penalty {
    let unit = MEDIAN_COST * noise.long_run.powi(2) * (n.max(16) as f64).ln();
    Penalty { level: 6.0 * unit, slope: 9.0 * unit, least }
}

/// Logarithms of the rates in MB/s of samples `range`. A rate below a thousandth of the median counts as that, so
/// that a standstill is a deep step and not minus infinity. A sample in which operations failed counts as the one before it.
fn log_rates(trace: &Trace, range: Range<usize>) -> Vec<f64> {
    let rate = |i: usize| trace.rate.get(i).filter(|_| trace.failed_in(&(i..i + 1)) == 0).unwrap_or(f64::NAN);
    let mut rates: Vec<f64> = range.map(rate).collect();
    let some = rates.iter().step_by(stats::stride(rates.len()));
    let mut known: Vec<f64> = some.copied().filter(|r| *r > 0.0).collect();
    let floor = stats::median(&mut known).unwrap_or(1.0) * 1e-3;
    let mut last = rates.iter().copied().find(|r| !r.is_nan()).unwrap_or(floor);
    for rate in &mut rates {
        if rate.is_nan() {
            *rate = last;
        }
        last = *rate;
        *rate = rate.max(floor).ln();
    }
    rates
}

/// Samples that make a block: enough of them for at most [`MOST_BLOCKS`]. Where bytes come in units (a slow drive looked at often: many
/// samples have the same bytes, or none), so many that a unit is a small share of a block, as long as a few blocks make a plateau, and ten at
/// least.
fn block_length(trace: &Trace, range: &Range<usize>, least: usize) -> usize {
    let n = range.len();
    let enough = n.div_ceil(MOST_BLOCKS);
    let bytes = |i: usize| trace.moved(i + 1).0 - trace.moved(i).0;
    let some = || range.clone().step_by(stats::stride(n));
    let looked_at = some().count();
    let pairs = some().filter(|i| i + 1 < range.end);
    let mut steps: Vec<f64> =
        pairs.map(|i| (bytes(i + 1) as f64 - bytes(i) as f64).abs()).filter(|d| *d > 0.0).collect();
    let mut amounts: Vec<u64> = some().map(bytes).collect();
    amounts.sort_unstable();
    amounts.dedup();
    let moved = |from: usize, to: usize| (trace.moved(to).0 - trace.moved(from).0) as f64;
    let mean = moved(range.start, range.end) / n.max(1) as f64;
    // Few steps at all are steps of the rate; many different amounts come in no units that matter.
    if 10 * steps.len() < looked_at || 20 * amounts.len() > looked_at || mean <= 0.0 {
        return enough;
    }
    let decile = steps.len() / 10;
    let (_, unit, _) = steps.select_nth_unstable_by(decile, f64::total_cmp);
    let whole = (*unit / (UNIT_SHARE * mean)).ceil() as usize;
    // Where the rate is low a block has to hold ten of them in any case.
    let chunk = |from: usize| {
        let to = (from + 50).min(range.end);
        moved(from, to) / (to - from) as f64
    };
    let mut lows: Vec<f64> = range.clone().step_by(50).map(chunk).filter(|b| *b > 0.0).collect();
    let fifth = lows.len() / 5;
    let (_, low, _) = lows.select_nth_unstable_by(fifth, f64::total_cmp);
    let sparse = ((10.0 * *unit / *low).ceil() as usize).min(n / 60);
    enough.max(whole.min(least / 5)).max(sparse).min(n)
}

/// Logarithms of the mean rates of blocks of samples.
fn blocks(trace: &Trace, range: &Range<usize>, logs: &[f64], per_block: usize) -> Vec<f64> {
    if per_block <= 1 {
        return logs.to_vec();
    }
    let least = logs.iter().copied().fold(f64::INFINITY, f64::min);
    range
        .clone()
        .step_by(per_block)
        .map(|from| {
            let to = (from + per_block).min(range.end);
            let mean = trace.mean_rate(from..to).map_or(0.0, Rate::mb_s);
            if mean > 0.0 { mean.ln().max(least) } else { least }
        })
        .collect()
}

/// A leg as one stretch, whatever its rate does.
pub(crate) fn whole(trace: &Trace, range: Range<usize>) -> Cut {
    Cut { stretches: vec![stretch(trace, range, false)], ..Cut::default() }
}

/// What samples `range` of a trace, which belong to one leg, are made of. Nothing where no time passed.
pub fn plateaus(trace: &Trace, range: Range<usize>, settings: &Settings) -> Cut {
    let n = range.len();
    let seconds = if n == 0 { 0.0 } else { trace.end(range.end - 1).since(trace.start(range.start)).secs() };
    if seconds <= 0.0 {
        return Cut::default();
    }
    let mut logs = log_rates(trace, range.clone());
    let per_block = block_length(trace, &range, settings.least(seconds / n as f64));
    let blocks = blocks(trace, &range, &logs, per_block);
    let coarse = per_block > n.div_ceil(MOST_BLOCKS);
    if coarse {
        // Single samples say nothing here.
        logs.iter_mut().enumerate().for_each(|(i, y)| *y = blocks[i / per_block]);
    }
    // Blocks of several samples still have to be as many as a median needs to leave single ones out.
    let least = settings.least(seconds / n as f64).div_ceil(per_block).max(if per_block > 1 { 5 } else { 1 });
    let half = least.saturating_sub(1) / 2;
    let cycles = cycles::find(&blocks, cycles::sigma(&blocks));
    let mut calm = blocks.clone();
    cycles.iter().for_each(|c| cycles::take_out(&blocks, &mut calm, c));
    let mut smooth = stats::running_median(&calm, half);
    sharpen(&mut smooth, half + 1);
    cycles.iter().for_each(|c| smooth[c.range.clone()].copy_from_slice(&calm[c.range.clone()]));
    let noise = noise_beside(&blocks, &smooth, &cycles);
    let penalty = penalty(blocks.len(), noise, least);
    let (ends, _) = segment(&smooth, &penalty);
    let offset = smooth.first().copied().unwrap_or(0.0);
    let sums = Moments::prefixes(smooth.iter().enumerate().map(|(i, &y)| (i as f64, y - offset)));
    let describe = |blocks: Range<usize>| {
        let line = penalty.describe(sums[blocks.end].minus(sums[blocks.start]));
        Part { line: Line { level: line.level + offset, ..line }, blocks }
    };
    let mut parts: Vec<Part> = Vec::new();
    let mut start = 0;
    for end in ends {
        parts.push(describe(start..end));
        start = end;
    }
    join_to_cycles(&mut parts, &cycles, half, describe);
    let gradual = take_transitions(&mut parts, &blocks, settings, least);
    let steps = Steps { settings, noise, gradual: &gradual, cycles: &cycles };
    steps.join_dips(&mut parts, &smooth, lasting(least), describe);
    steps.join_small(&mut parts, describe);
    let raw = Noise::of(&logs);
    let locate = Locate { trace, range: &range, logs: &logs, noise: raw, per_block, coarse };
    let mut edges = loop {
        let edges: Vec<Edge> = parts.windows(2).map(|pair| locate.edge(pair, &steps, half)).collect();
        let enough = settings.least(seconds / n as f64);
        // A dip or a bump of half that length is a matter of where its edges were found; between two levels that differ, it is a step on the way.
        let lasts = |i: usize| {
            let beside = i.checked_sub(1).and_then(|left| parts.get(left)).zip(parts.get(i + 1));
            let is_dip = beside.is_some_and(|(left, right)| steps.size(left, right) < 1.0);
            if is_dip { lasting(enough) } else { enough / 2 }
        };
        if let Some(brief) = brief(&edges, &range, lasts) {
            steps.join_brief(&mut parts, brief, describe);
        } else {
            let chance = by_chance(trace, &edges, &range);
            if chance.is_empty() {
                break edges;
            }
            for i in chance.into_iter().rev() {
                parts[i] = describe(parts[i].blocks.start..parts[i + 1].blocks.end);
                parts.remove(i + 1);
            }
        }
        steps.join_small(&mut parts, describe);
    };
    // Where blocks are so long that five of them are more than a plateau needs, the first seconds cannot be seen in them. The start is shorter than the leg, so
    // that this comes to an end.
    let too_long = settings.least(seconds / n as f64).div_ceil(per_block) < least;
    if per_block > 1 && !coarse && too_long && cycles.first().is_none_or(|c| c.range.start > 2 * least) {
        let unseen = 2 * least * per_block;
        let until = range.start + HEAD.max(2 * unseen).min(n / 2);
        let head = plateaus(trace, range.start..until, settings);
        if only_falls(&head) {
            edges = with_head(edges, head.edges, range.start + unseen, (half + 2) * per_block);
        }
    }
    let mut cuts: Vec<usize> = edges.iter().map(|e| e.sample).collect();
    cuts.insert(0, range.start);
    cuts.push(range.end);
    heights_of_short_sides(&mut edges, &cuts, &logs, settings.least(seconds / n as f64));
    // One that is too short to be seen in blocks is level.
    let is_sloped = |from: usize, to: usize| {
        let middle = (usize::midpoint(from, to) - range.start) / per_block;
        let is_seen = per_block == 1 || to - range.start > 2 * least * per_block;
        is_seen && parts.iter().any(|p| p.blocks.contains(&middle) && p.line.slope != 0.0)
    };
    let stretches: Vec<Stretch> =
        cuts.windows(2).map(|w| stretch(trace, w[0]..w[1], is_sloped(w[0], w[1]))).collect();
    let sample = |block: usize| range.start + (block * per_block).min(n);
    let sample_seconds = seconds / n as f64;
    let mut swings: Vec<Swing> = cycles
        .iter()
        .map(|c| Swing {
            samples: sample(c.range.start)..sample(c.range.end),
            period_s: c.period * per_block as f64 * sample_seconds,
            depth: 1.0 - (c.low - c.high).exp(),
            duty: c.duty,
            middle: Rate(f64::midpoint(c.low.exp(), c.high.exp()) * 1e6),
        })
        .collect();
    // What the filter took out may have come regularly.
    for stretch in &stretches {
        let inside = stretch.samples.start - range.start..stretch.samples.end - range.start;
        let below = inside.clone().map(|i| logs[i] - smooth[i / per_block]);
        let patterned = swings
            .iter()
            .any(|s| s.samples.start < stretch.samples.end && stretch.samples.start < s.samples.end);
        if let Some(dips) = cycles::dips(below, raw.sigma).filter(|_| !patterned) {
            swings.push(Swing {
                samples: stretch.samples.start + dips.range.start..stretch.samples.start + dips.range.end,
                period_s: dips.period * sample_seconds,
                depth: 1.0 - dips.low.exp(),
                duty: dips.duty,
                middle: Rate(0.5 * (1.0 + dips.low.exp()) * stretch.mean.0),
            });
        }
    }
    swings.sort_by_key(|s| s.samples.start);
    Cut { stretches, edges, swings }
}

/// Whether a rate falls, in steps, and stays there: not where it comes back, as from a dip, nor where it goes down gradually.
fn only_falls(head: &Cut) -> bool {
    let level = head.stretches.iter().skip(1).all(|s| s.slope_mb_s_per_gb == 0.0);
    level && head.swings.is_empty() && head.edges.iter().all(|e| e.span.0 == e.span.1 && e.to.0 < e.from.0)
}

/// The edges of a leg with those that its first samples show by themselves before `until`, where a block of samples is too long for them. One that was seen
/// in blocks within `near` of one of these is the same.
fn with_head(edges: Vec<Edge>, head: Vec<Edge>, until: usize, near: usize) -> Vec<Edge> {
    let mut all: Vec<Edge> = head.into_iter().filter(|e| e.sample < until).collect();
    let is_new = |e: &Edge| all.iter().all(|h| h.sample.abs_diff(e.sample) > near);
    let mut rest: Vec<Edge> = edges.into_iter().filter(is_new).collect();
    all.append(&mut rest);
    all.sort_by_key(|e| e.sample);
    all
}

/// Gives the sharp edges of a stretch that is shorter than a plateau has to be its median height: a line through it was drawn over what lies behind the edge too,
/// as the segments from which the edge was located have a least length. `cuts` are the first samples of the stretches, and the end.
fn heights_of_short_sides(edges: &mut [Edge], cuts: &[usize], logs: &[f64], least: usize) {
    let first = cuts[0];
    let height = |from: usize, to: usize| {
        let is_short = to - from < least;
        let mut own = if is_short { logs[from - first..to - first].to_vec() } else { Vec::new() };
        stats::median(&mut own).map(|y| Rate(y.exp() * 1e6))
    };
    for (i, edge) in edges.iter_mut().enumerate().filter(|(_, e)| e.span.0 == e.span.1 && !e.repeats) {
        edge.from = height(cuts[i], cuts[i + 1]).unwrap_or(edge.from);
        edge.to = height(cuts[i + 1], cuts[i + 2]).unwrap_or(edge.to);
    }
}

/// The noise is that of what does not repeat itself; where hardly anything does not, what is left of it when the patterns are out,
/// and not less than from one value to the next.
fn noise_beside(blocks: &[f64], smooth: &[f64], cycles: &[Cycle]) -> Noise {
    let mut beside: Vec<f64> = Vec::new();
    let mut from = 0;
    for cycle in cycles {
        beside.extend(&blocks[from..cycle.range.start]);
        from = cycle.range.end;
    }
    beside.extend(&blocks[from..]);
    if beside.len() >= LEAST_BESIDE.min(blocks.len()) {
        return Noise::of(&beside);
    }
    let (left, near) = (Noise::of(smooth), cycles::sigma(blocks));
    Noise { sigma: left.sigma.max(near), long_run: left.long_run.max(near) }
}

/// A part that is shorter than the period of a pattern beside it is a part of that: a height that does not last until the next fall is
/// no plateau.
fn join_to_cycles(
    parts: &mut Vec<Part>,
    cycles: &[Cycle],
    half: usize,
    describe: impl Fn(Range<usize>) -> Part,
) {
    for cycle in cycles {
        let near = (1.3 * cycle.period).ceil() as usize;
        let short = |p: &Part| p.blocks.len() <= near;
        while let Some(i) = (1..parts.len()).find(|&i| {
            let (a, b) = (&parts[i - 1], &parts[i]);
            let start = cycle.range.start.abs_diff(b.blocks.start) <= half + 1 && i > 1 && short(a);
            let end = cycle.range.end.abs_diff(b.blocks.start) <= half + 1 && i + 1 < parts.len() && short(b);
            start
                || end
                || (cycle.range.contains(&b.blocks.start)
                    && (short(a) || short(b))
                    && cycle.range.start + near < b.blocks.start
                    && b.blocks.start + near < cycle.range.end)
        }) {
            let joined = describe(parts[i - 1].blocks.start..parts[i].blocks.end);
            parts[i - 1] = joined;
            parts.remove(i);
        }
    }
}

/// Moves a value that lies alone between two levels to the nearer of them: a sample within which a step happened has a
/// mean of both, and its residual around either would pay for a segment of its own. `reach` is how far from it
/// the levels are looked up; a ramp that takes as long is left as it is.
pub(crate) fn sharpen(values: &mut [f64], reach: usize) {
    let reach = reach.max(3);
    for i in reach..values.len().saturating_sub(reach) {
        let (left, right) = (values[i - reach], values[i + reach]);
        let (y, step) = (values[i], (right - left).abs());
        let alone = |by: usize| {
            (values[i - by] - left).abs() < 0.2 * step && (values[i + by] - right).abs() < 0.2 * step
        };
        if (y - left) * (y - right) < 0.0 && (alone(1) || alone(2)) {
            values[i] = if (y - left).abs() < (y - right).abs() { left } else { right };
        }
    }
}

/// Change along a part, as a share of the one across it, from which it is a way and no place: the middle of an even way down on which three parts are
/// told apart changes by a third of the whole, a plateau by nothing but its noise.
const ON_THE_WAY: f64 = 0.15;

/// Share of a change that happens along what lies between two levels, from which it is a way from the one to the other
/// even if it takes three times as long as they do.
const LEADS_OVER: f64 = 0.7;

/// Change along values without their first and last, which a filter mixes with their neighbours: the slope of least squares times their number.
fn drift(values: &[f64]) -> f64 {
    let inner = if values.len() > 4 { &values[1..values.len() - 1] } else { values };
    let mut sums = Moments::default();
    inner.iter().enumerate().for_each(|(i, &y)| sums.add(i as f64, y));
    sums.line().slope * inner.len() as f64
}

/// Takes out short sloped parts, one or several in a row, that lead from one long part to another, splitting them
/// between the two, and gives their extents. The change along them happens, but no plateau does. A level one among them, or alone, that
/// hardly lasts as long as a plateau must is a step of the same way down, unless `values` are level in it: then it is a plateau, however brief.
fn take_transitions(
    parts: &mut Vec<Part>,
    values: &[f64],
    settings: &Settings,
    least: usize,
) -> Vec<Range<usize>> {
    let along = |p: &Part| p.line.at(p.blocks.end as f64) - p.line.at(p.blocks.start as f64);
    let mut taken: Vec<(Range<usize>, bool)> = Vec::new();
    let mut i = 1;
    while i + 1 < parts.len() {
        let falling = parts[i].line.level < parts[i - 1].line.level;
        let leads = |p: &Part| {
            p.line.slope != 0.0 && (along(p) < 0.0) == falling && along(p).abs() >= settings.least_step()
        };
        let on_the_way = |j: usize| {
            let (before, p, behind) = (&parts[j - 1], &parts[j], &parts[j + 1]);
            let down = |a: &Part, b: &Part| (b.line.level < a.line.level) == falling;
            let across = (behind.line.level - before.line.level).abs();
            leads(p)
                || (2 * p.blocks.len() <= 3 * least
                    && down(before, p)
                    && down(p, behind)
                    && drift(&values[p.blocks.clone()]).abs() > ON_THE_WAY * across)
        };
        let run = (i..parts.len() - 1).take_while(|&j| on_the_way(j)).count();
        let (Some(left), Some(right)) = (parts.get(i - 1), parts.get(i + run)) else { break };
        // What follows a change that was taken out already, and goes on the same way, is the rest of it.
        let goes_on = taken.last().filter(|(was, fell)| was.contains(&left.blocks.end) && *fell == falling);
        let slow = goes_on.map_or(left.blocks.end, |(was, _)| was.start)..right.blocks.start;
        let across = right.line.at(slow.end as f64) - left.line.at(slow.start as f64);
        // How long the last plateau lasts is not known: the leg ended in it, or is still underway.
        let behind = if i + run + 1 == parts.len() { 4 } else { 1 } * right.blocks.len();
        // Between two levels it may take longer, where the change happens along it and not at its ends.
        let is_level = |p: &Part| along(p).abs() < ON_THE_WAY * across.abs();
        let leads_over = run > 0
            && is_level(left)
            && is_level(right)
            && parts[i..i + run].iter().map(along).sum::<f64>() / across > LEADS_OVER;
        let (before, after) = (left.blocks.len(), right.blocks.len());
        let is_short = 2 * slow.len() <= before.min(behind);
        if run > 0
            && (is_short || (leads_over && slow.len() <= 3 * before.min(after)))
            && (across < 0.0) == falling
            && across.abs() >= settings.least_step()
        {
            let middle = usize::midpoint(slow.start, slow.end);
            parts[i - 1].blocks.end = middle;
            parts[i + run].blocks.start = middle;
            parts.drain(i..i + run);
            taken.truncate(taken.len() - usize::from(goes_on.is_some()));
            taken.push((slow, falling));
        } else {
            i += 1;
        }
    }
    taken.into_iter().map(|(slow, _)| slow).collect()
}

/// Samples that a dip between two levels that are alike has to have to be a plateau, where one needs `least`: its edges are found to a sample or so.
fn lasting(least: usize) -> usize {
    least - least / 5
}

/// The first stretch between edges that, located to the sample, has fewer samples than it has to have: what was cut off there did not last, and
/// the filter had made it longer than it is.
fn brief(edges: &[Edge], range: &Range<usize>, least: impl Fn(usize) -> usize) -> Option<usize> {
    let start = |i: usize| if i == 0 { range.start } else { edges[i - 1].sample };
    let end = |i: usize| edges.get(i).map_or(range.end, |e| e.sample);
    (0..=edges.len()).find(|&i| !edges.is_empty() && end(i).saturating_sub(start(i)) < least(i))
}

/// A sample that is off the mean of its stretch by this share is a burst or a dip; with so large a share of them, and so many, the noise from one value to
/// the next says nothing of how far means are apart.
const BURST: f64 = 0.3;
const BURSTS: (f64, f64) = (0.02, 3.0);
/// Standard errors that the means of two stretches with bursts have to be apart.
const CHANCE: f64 = 4.0;
/// Fewer samples than this give no standard error to go by.
const LEAST_MEAN: f64 = 12.0;

/// Sums over the rates of a stretch, MB/s.
#[derive(Clone, Copy, Default)]
struct Sums {
    n: f64,
    sum: f64,
    squares: f64,
    bursts: f64,
}

impl Sums {
    fn of(trace: &Trace, samples: Range<usize>) -> Self {
        let rates = || samples.clone().filter_map(|i| trace.rate.get(i));
        let add = |s: Self, r: f64| Self { n: s.n + 1.0, sum: s.sum + r, squares: s.squares + r * r, ..s };
        let all = rates().fold(Self::default(), add);
        let mean = all.mean();
        Self { bursts: rates().filter(|r| (r - mean).abs() > BURST * mean).count() as f64, ..all }
    }

    fn and(self, other: Self) -> Self {
        Self {
            n: self.n + other.n,
            sum: self.sum + other.sum,
            squares: self.squares + other.squares,
            bursts: self.bursts + other.bursts,
        }
    }

    fn mean(self) -> f64 {
        self.sum / self.n.max(1.0)
    }

    /// Variance of the rates about their own mean, times their number.
    fn scatter(self) -> f64 {
        (self.squares - self.n * self.mean() * self.mean()).max(0.0)
    }

    /// Square of the standard error of the mean.
    fn error2(self) -> f64 {
        self.scatter() / (self.n * (self.n - 1.0)).max(1.0)
    }

    /// Standard errors by which two means are apart; `None` where the longer of both has no bursts. A short stretch may have none by chance, and has the
    /// scatter of both. Where a pattern begins, each has `own`: what lies before it may be steady.
    fn apart(self, other: Self, own: bool) -> Option<f64> {
        let longer = if self.n >= other.n { self } else { other };
        let has_bursts = longer.bursts >= BURSTS.1.max(BURSTS.0 * longer.n);
        if !has_bursts || self.n.min(other.n) < LEAST_MEAN {
            return None;
        }
        let pooled = (self.scatter() + other.scatter()) / (self.n + other.n - 2.0);
        let error2 =
            if own { self.error2() + other.error2() } else { pooled * (1.0 / self.n + 1.0 / other.n) };
        Some((self.mean() - other.mean()).abs() / error2.sqrt().max(1e-12))
    }
}

/// The edges between stretches with bursts whose means are no further apart than chance puts them, the least of them first: where the rate goes to and fro
/// at uneven times, a stretch has a few bursts more or fewer.
fn by_chance(trace: &Trace, edges: &[Edge], range: &Range<usize>) -> Vec<usize> {
    let start = |i: usize| if i == 0 { range.start } else { edges[i - 1].sample };
    let end = |i: usize| edges.get(i).map_or(range.end, |e| e.sample);
    if edges.is_empty() {
        return Vec::new();
    }
    let mut sums: Vec<Sums> = (0..=edges.len()).map(|i| Sums::of(trace, start(i)..end(i))).collect();
    let mut left: Vec<usize> = (0..edges.len()).collect();
    loop {
        let apart = |k: usize| sums[k].apart(sums[k + 1], edges[left[k]].repeats);
        let least = (0..left.len()).filter_map(|k| Some((apart(k)?, k))).min_by(|a, b| a.0.total_cmp(&b.0));
        let Some((_, k)) = least.filter(|l| l.0 < CHANCE) else { break };
        sums[k] = sums[k].and(sums[k + 1]);
        sums.remove(k + 1);
        left.remove(k);
    }
    (0..edges.len()).filter(|i| !left.contains(i)).collect()
}

fn stretch(trace: &Trace, samples: Range<usize>, sloped: bool) -> Stretch {
    let rates = || samples.clone().filter_map(|i| trace.rate.get(i));
    let mean = trace.mean_rate(samples.clone()).unwrap_or_default();
    let (_, sd) = stats::mean_sd_of(rates).unwrap_or_default();
    let mut slope = 0.0;
    if sloped {
        let origin = trace.moved(samples.start).0;
        let mut sums = Moments::default();
        for i in samples.clone() {
            if let Some(rate) = trace.rate.get(i) {
                sums.add((trace.moved(i).0 - origin) as f64 / 1e9, rate);
            }
        }
        slope = sums.line().slope;
    }
    Stretch { samples, mean, sd_mb_s: sd, slope_mb_s_per_gb: slope }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::Sample;
    use crate::units::{Bytes, Nanos};
    use rand_core::{Rng, SeedableRng};
    use rand_xoshiro::Xoshiro256PlusPlus;

    /// A write leg of 250 ms samples whose mean rate (MB/s) at a time is `rate(seconds)`, integrated in 25 steps a
    /// sample, times noise of standard deviation `noise` that keeps `keep` of itself from sample to sample.
    fn leg(seconds: f64, noise: f64, keep: f64, seed: u64, rate: impl Fn(f64) -> f64) -> Trace {
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed);
        let mut normal = move || -> f64 {
            (0..12).map(|_| (rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64).sum::<f64>() - 6.0
        };
        let mut trace = Trace::new();
        let mut wander = 0.0;
        for i in 0..(seconds * 4.0) as u64 {
            wander = keep * wander + (1.0 - keep * keep).sqrt() * normal();
            let start = i as f64 * 0.25;
            let mean = (0..25).map(|k| rate(start + f64::from(k) * 0.01)).sum::<f64>() / 25.0;
            let bytes = mean * 1e6 * 0.25 * (1.0 + noise * wander);
            let sample = Sample {
                start: Nanos::from_secs(start),
                end: Nanos::from_secs(start + 0.25),
                written: Bytes(bytes.max(0.0) as u64),
                ..Sample::default()
            };
            trace.push(&sample, "soak");
        }
        trace
    }

    fn edges(trace: &Trace) -> Vec<Edge> {
        plateaus(trace, 0..trace.len(), &Settings::default()).edges
    }

    #[test]
    fn a_step_is_found_and_its_interval_holds_it_in_about_95_of_100() {
        let mut inside = 0;
        for seed in 0..200 {
            let at = 41.1 + seed as f64 * 0.013;
            let trace = leg(300.0, 0.015, 0.0, seed, |t| if t < at { 2873.0 } else { 402.0 });
            let found = edges(&trace);
            assert_eq!(found.len(), 1, "seed {seed}: {found:?}");
            // What was really moved by then: whole samples, noise included, and the share of the one it falls in.
            let whole = (at * 4.0).floor();
            let truth = trace.moved(whole as usize).0 as f64 + (at - whole / 4.0) * 2873e6;
            assert!(
                (found[0].bytes.0 as f64 / truth - 1.0).abs() < 0.005,
                "seed {seed}: {} of {truth}",
                found[0].bytes.0
            );
            inside += u32::from(found[0].low.0 as f64 <= truth && truth <= found[0].high.0 as f64);
            let wide = (found[0].high.0 - found[0].low.0) as f64;
            assert!(wide < 0.6 * 0.25 * 2873e6, "seed {seed}: {wide} bytes, of a sample of 718 MB");
            assert!(
                (found[0].from.mb_s() / 2873.0 - 1.0).abs() < 0.02
                    && (found[0].to.mb_s() / 402.0 - 1.0).abs() < 0.02
            );
        }
        // Binomial: 180 to 199 of 200 are what 95 % come to.
        assert!((180..=199).contains(&inside), "{inside} of 200");
    }

    /// A leg of three hours that begins with 6.5 s into the cache: the break was put 4.8 s too early, and said to be known to 16 ms.
    #[test]
    fn a_break_soon_after_the_start_of_a_long_leg_lies_where_it_is() {
        for hours in [0.2, 0.5, 1.0, 2.0, 3.0, 5.0] {
            for seed in 0..4 {
                let fast = 3.0 + 1.7 * seed as f64;
                let rate = |t: f64| {
                    if t < fast {
                        4700.0
                    } else if t < 140.0 {
                        640.0
                    } else {
                        166.0
                    }
                };
                let trace = leg(hours * 3600.0, 0.01, 0.6, seed, rate);
                let edges = edges(&trace);
                assert_eq!(edges.len(), 2, "{hours} h, {fast} s");
                assert!(
                    (edges[0].at.secs() - fast).abs() < 0.02,
                    "{hours} h, {fast} s: {}",
                    edges[0].at.secs()
                );
                assert!((edges[0].from.mb_s() / 4700.0 - 1.0).abs() < 0.02, "{}", edges[0].from.mb_s());
                assert!((edges[1].at.secs() - 140.0).abs() < 0.3);
            }
        }
        // Looking at the start by itself makes no breaks where there are none: of a dip in it, or a gradual fall.
        for hours in [1.0, 3.0] {
            let seconds = hours * 3600.0;
            for seed in 0..10 {
                let dips = |t: f64| if (t + 3.0 * seed as f64) % 40.0 < 8.0 { 400.0 } else { 800.0 };
                let gradual =
                    |t: f64| if t < 4.0 { 2000.0 } else { 2000.0 - 1000.0 * ((t - 4.0) / 600.0).min(1.0) };
                let early = |rate: &dyn Fn(f64) -> f64| {
                    let trace = leg(seconds, 0.02, 0.6, seed, rate);
                    edges(&trace)
                        .iter()
                        .filter(|e| e.at.secs() < 30.0 && e.span.0 == e.span.1 && !e.repeats)
                        .count()
                };
                assert_eq!((early(&dips), early(&gradual)), (0, 0), "{hours} {seed}");
            }
        }
        for seed in 0..40 {
            let trace = leg(2.0 * 3600.0, 0.05, 0.6, seed, |_| 800.0);
            assert_eq!(edges(&trace).len(), 0, "{seed}");
        }
    }

    /// Five seconds in steps of a millisecond were looked at by themselves over and over, without an end.
    #[test]
    fn the_start_of_a_leg_is_shorter_than_the_leg() {
        for step in [100_000_u64, 1_000_000, 10_000_000, 100_000_000] {
            let mut trace = Trace::new();
            for i in 0..9000 {
                let (start, end) = (Nanos(i * step), Nanos((i + 1) * step));
                let rate = if i < 1500 { 2000 } else { 500 };
                trace.push(
                    &Sample { start, end, written: Bytes(rate * step / 1000), ..Sample::default() },
                    "soak",
                );
            }
            let edges = edges(&trace);
            assert!(edges.len() <= 1, "{step}: {edges:?}");
        }
    }

    #[test]
    fn noise_alone_gives_no_break() {
        for seed in 0..60 {
            let keep = [0.0, 0.5, 0.8][seed as usize % 3];
            let noise = [0.01, 0.03, 0.1][seed as usize / 3 % 3];
            let trace = leg(600.0, noise, keep, seed, |_| 900.0);
            assert_eq!(edges(&trace), [], "seed {seed}, noise {noise}, autocorrelation {keep}");
        }
    }

    /// A steady drive that is logged in whole MB/s has no noise at all from one value to the next, and none of its steps was found.
    #[test]
    fn steps_of_a_steady_drive_in_whole_units_are_found() {
        for (levels, each) in [
            (&[100.0, 90.0, 80.0, 70.0, 60.0, 50.0][..], 60.0),
            (&[812.0, 640.0, 505.0, 300.0, 200.0], 20.0),
            (&[100.0, 90.0, 80.0, 70.0, 60.0, 50.0, 40.0, 30.0], 30.0),
            (&[450.0, 300.0, 450.0, 300.0, 120.0], 45.0),
        ] {
            let level = |t: f64| -> f64 { levels[((t / each) as usize).min(levels.len() - 1)] };
            let trace = leg(each * levels.len() as f64, 0.0, 0.0, 1, |t| level(t).round());
            let found: Vec<f64> = edges(&trace).iter().map(|e| e.at.secs()).collect();
            let expected: Vec<f64> = (1..levels.len()).map(|i| each * i as f64).collect();
            assert_eq!(found, expected, "{levels:?}");
        }
    }

    #[test]
    fn short_periodic_dips_are_no_breaks() {
        let trace = leg(400.0, 0.01, 0.0, 3, |t| if t % 12.0 < 0.8 { 500.0 } else { 1000.0 });
        assert_eq!(edges(&trace), []);
    }

    /// A start that is fast for less than a plateau must last once gave a break after the first sample, between two rates that
    /// the run never had.
    #[test]
    fn a_start_too_brief_for_a_plateau_gives_no_break() {
        for brief in [0.25, 0.9, 1.4] {
            let trace = leg(60.0, 0.08, 0.0, 8, |t| if t < brief { 300.0 } else { 62.0 });
            let found = edges(&trace);
            assert!(found.iter().all(|e| e.sample >= 5), "{brief}: {found:?}");
        }
    }

    #[test]
    fn a_falling_slope_is_one_plateau_and_says_how_steep_it_is() {
        let trace = leg(1000.0, 0.01, 0.0, 4, |t| 250.0 - 0.1 * t);
        let Cut { stretches, edges, .. } = plateaus(&trace, 0..trace.len(), &Settings::default());
        assert_eq!(edges, []);
        // 100 MB/s lost over the 200 GB that a mean of 200 MB/s moves in 1000 s, to first order.
        assert!((stretches[0].slope_mb_s_per_gb + 0.5).abs() < 0.05, "{stretches:?}");
    }

    #[test]
    fn two_stages_and_a_gradual_end_are_three_breaks() {
        let rate = |t: f64| match t {
            t if t < 60.0 => 3000.0,
            t if t < 200.0 => 1200.0,
            t if t < 220.0 => 1200.0 - 40.0 * (t - 200.0),
            t if t < 400.0 => 400.0,
            _ => 700.0,
        };
        let trace = leg(600.0, 0.02, 0.3, 5, rate);
        let found = edges(&trace);
        let times: Vec<f64> = found.iter().map(|e| e.at.secs()).collect();
        assert_eq!(times.len(), 3, "{times:?}");
        assert!(
            (times[0] - 60.0).abs() < 0.3
                && (200.0..222.0).contains(&times[1])
                && (times[2] - 400.0).abs() < 0.5,
            "{times:?}"
        );
        assert!(found[1].high.0 - found[1].low.0 > 5_000_000_000, "a gradual transition has an extent");
    }

    #[test]
    fn scaling_all_rates_moves_no_break() {
        let shape = |t: f64| if t < 90.0 { 10.0 } else { 4.0 };
        let (slow, fast) = (leg(300.0, 0.02, 0.0, 6, shape), leg(300.0, 0.02, 0.0, 6, |t| 1500.0 * shape(t)));
        assert_eq!(edges(&slow)[0].sample, edges(&fast)[0].sample);
    }

    #[test]
    fn few_samples_and_standstill_are_taken_as_they_are() {
        let trace = leg(0.25, 0.0, 0.0, 0, |_| 100.0);
        assert_eq!(plateaus(&trace, 0..1, &Settings::default()).stretches.len(), 1);
        let still = leg(60.0, 0.0, 0.0, 0, |_| 0.0);
        let Cut { stretches, edges, .. } = plateaus(&still, 0..still.len(), &Settings::default());
        assert_eq!((stretches.len(), edges.len()), (1, 0));
        assert_eq!(stretches[0].mean, Rate(0.0));
        assert_eq!(plateaus(&trace, 1..1, &Settings::default()).stretches, []);
    }
}
