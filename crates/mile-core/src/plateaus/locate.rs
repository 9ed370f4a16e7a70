//! Where an edge between two parts of a leg is, on the unfiltered rates, and between which places that is sure.

use super::parts::{Edge, Noise, Part, Steps};
use crate::cycles::Cycle;
use crate::interference::GAP;
use crate::moments::Line;
use crate::stats;
use crate::trace::Trace;
use crate::units::{Bytes, Nanos, Rate};
use std::ops::Range;

/// A leg whose edges are located.
pub(super) struct Locate<'a> {
    pub(super) trace: &'a Trace,
    pub(super) range: &'a Range<usize>,
    pub(super) logs: &'a [f64],
    pub(super) noise: Noise,
    pub(super) per_block: usize,
    /// Whether the logarithms are those of whole blocks.
    pub(super) coarse: bool,
}

impl Locate<'_> {
    pub(super) fn edge(&self, pair: &[Part], steps: &Steps<'_>, half: usize) -> Edge {
        let (left, right) = (&pair[0], &pair[1]);
        let at = right.blocks.start;
        let slow = steps.gradual.iter().find(|g| g.contains(&at) && g.len() > 1);
        // The filter moves what is close to the begin or the end of a pattern.
        let near = |c: &&Cycle| c.range.start.abs_diff(at).min(c.range.end.abs_diff(at)) <= half + 1;
        let within = steps.cycles.iter().find(|c| c.range.contains(&at));
        if let Some((before, behind)) = meeting(steps.cycles, at, half + 1) {
            let reach = half.max(before.period.max(behind.period).ceil() as usize);
            let sides = (Side::of(before), Side::of(behind));
            return with_means(self.sharp_between(left, right, reach, sides), left, right);
        }
        match (slow, steps.cycles.iter().find(near), within) {
            (Some(slow), _, _) => self.gradual(slow, left, right),
            (None, Some(cycle), _) => {
                let begins = cycle.range.start.abs_diff(at) <= cycle.range.end.abs_diff(at);
                let edge = at as f64 - 0.5;
                let outside = if begins { left.line.at(edge) } else { right.line.at(edge) };
                // From its own high it goes over at its first fall; from another height, where that is left.
                if (outside - cycle.high).abs()
                    < steps.settings.least_step().max(0.25 * (cycle.high - cycle.low))
                {
                    let edge = self.at_cycle(cycle, begins, left, right);
                    // Its first fall is a step like any other, and as well known.
                    let brief = (0.5 * cycle.duty * cycle.period) as usize;
                    let sides = (Side::level(outside), Side::level(cycle.low));
                    let first = begins.then(|| self.sharp_between(left, right, half.min(brief), sides));
                    match first.filter(|f| f.sample.abs_diff(edge.sample) <= self.per_block.max(2)) {
                        Some(first) => Edge { from: edge.from, repeats: true, ..first },
                        None => edge,
                    }
                } else {
                    let middle = f64::midpoint(cycle.high, cycle.low);
                    let inside = if outside > middle { cycle.high } else { cycle.low };
                    let levels = if begins { (outside, inside) } else { (inside, outside) };
                    let reach = half.max(cycle.period.ceil() as usize);
                    let sides = (Side::level(levels.0), Side::level(levels.1));
                    with_means(self.sharp_between(left, right, reach, sides), left, right)
                }
            }
            (None, None, Some(cycle)) => self.sharp(left, right, half.max(cycle.period.ceil() as usize)),
            (None, None, None) => self.sharp(left, right, half),
        }
    }

    fn sample_of(&self, block: usize) -> usize {
        (block * self.per_block).min(self.range.len())
    }

    fn gradual(&self, slow: &Range<usize>, left: &Part, right: &Part) -> Edge {
        let (start, end) = (self.sample_of(slow.start), self.sample_of(slow.end));
        let sample = self.range.start + usize::midpoint(start, end);
        Edge {
            sample,
            at: self.trace.start(sample),
            bytes: self.trace.moved(sample),
            low: self.trace.moved(self.range.start + start),
            high: self.trace.moved(self.range.start + end),
            span: (self.range.start + start, self.range.start + end),
            from: Rate(left.line.at(slow.start as f64).exp() * 1e6),
            to: Rate(right.line.at(slow.end as f64).exp() * 1e6),
            repeats: false,
        }
    }

    /// Where a pattern begins or ends, known to a period: at its first fall, or its last rise.
    fn at_cycle(&self, cycle: &Cycle, begins: bool, left: &Part, right: &Part) -> Edge {
        let block = if begins { cycle.range.start } else { cycle.range.end };
        let sample = self.range.start + self.sample_of(block);
        let period = cycle.period.ceil() as usize;
        let edge = edge_at(right);
        let mean = |line: Line| Rate(line.at(edge).exp() * 1e6);
        let low = Rate(cycle.low.exp() * 1e6);
        Edge {
            sample,
            at: self.trace.start(sample),
            bytes: self.trace.moved(sample),
            low: self.trace.moved(self.range.start + self.sample_of(block.saturating_sub(period))),
            high: self.trace.moved(self.range.start + self.sample_of(block + period)),
            span: (sample, sample),
            from: if begins { mean(left.line) } else { low },
            to: if begins { low } else { mean(right.line) },
            repeats: begins,
        }
    }

    /// The split with the least sum of absolute residuals around the two lines, on the unfiltered rates.
    fn sharp(&self, left: &Part, right: &Part, half: usize) -> Edge {
        let edge = edge_at(right);
        let level = |line: Line| Side::level(line.at(edge));
        self.sharp_between(left, right, half, (level(left.line), level(right.line)))
    }

    fn sharp_between(&self, left: &Part, right: &Part, half: usize, sides: (Side, Side)) -> Edge {
        let block = right.blocks.start;
        let reach = (2 + half) * self.per_block + 4;
        let about = self.sample_of(block);
        let low = about.saturating_sub(reach).max(self.sample_of(left.blocks.start) + 1);
        let high = (about + reach).min(self.sample_of(right.blocks.end).saturating_sub(1)).max(low);
        let edge =
            locate_sharp(self.trace, self.range, &self.logs[low..high.max(low)], low, sides, self.noise);
        if !self.coarse {
            return edge;
        }
        // The samples of a block are alike here: the break is known to a block.
        let low = self.trace.index_at_bytes(edge.low).saturating_sub(self.per_block).max(self.range.start);
        let high = (self.trace.index_at_bytes(edge.high) + self.per_block).min(self.range.end);
        Edge { low: self.trace.moved(low), high: self.trace.moved(high), ..edge }
    }
}

/// Two patterns that meet at a block, to so many blocks: a break from one into the other.
fn meeting(cycles: &[Cycle], at: usize, near: usize) -> Option<(&Cycle, &Cycle)> {
    let pair = cycles
        .windows(2)
        .find(|w| w[0].range.end.abs_diff(at) <= near && w[1].range.start.abs_diff(at) <= near)?;
    Some((&pair[0], &pair[1]))
}

/// An edge between the mean rates of two parts.
fn with_means(edge: Edge, left: &Part, right: &Part) -> Edge {
    let at = edge_at(right);
    let rate = |part: &Part| Rate(part.line.at(at).exp() * 1e6);
    Edge { from: rate(left), to: rate(right), ..edge }
}

/// Between the last block of one part and the first of the next.
fn edge_at(right: &Part) -> f64 {
    right.blocks.start as f64 - 0.5
}

/// What the values on one side of an edge are near to: a height, or the low and the high of a pattern.
#[derive(Clone, Copy, Debug)]
struct Side {
    /// Height, or high of a pattern.
    height: f64,
    /// Low of a pattern.
    low: Option<f64>,
}

impl Side {
    fn level(height: f64) -> Self {
        Self { height, low: None }
    }

    fn of(cycle: &Cycle) -> Self {
        Self { height: cycle.high, low: Some(cycle.low) }
    }

    /// Distance of a value from it.
    fn far(&self, y: f64) -> f64 {
        let from_low = self.low.map_or(f64::INFINITY, |low| (y - low).abs());
        (y - self.height).abs().min(from_low)
    }
}

/// Finds the split of `logs` (which begin at sample `first` of the leg `range`) between two sides.
fn locate_sharp(
    trace: &Trace,
    range: &Range<usize>,
    logs: &[f64],
    first: usize,
    (left, right): (Side, Side),
    noise: Noise,
) -> Edge {
    let (a, b) = (left.height, right.height);
    let mut costs = Vec::with_capacity(logs.len() + 1);
    let mut cost: f64 = logs.iter().map(|y| right.far(*y)).sum();
    costs.push(cost);
    for &y in logs {
        cost += left.far(y) - right.far(y);
        costs.push(cost);
    }
    let (best, least) =
        costs.iter().copied().enumerate().min_by(|x, y| x.1.total_cmp(&y.1)).unwrap_or((0, 0.0));
    let scale = noise.sigma / std::f64::consts::SQRT_2 * (noise.long_run / noise.sigma).max(1.0);
    let place = Place { trace, first: range.start + first, logs, sides: (left, right), costs: &costs, scale };
    let sample = range.start + first + best;
    let (at, bytes, sample) = within_sample(trace, range, sample, (a, b), noise);
    let (low, high) = place.interval(least);
    Edge {
        sample,
        at,
        bytes,
        low: low.min(bytes),
        high: high.max(bytes),
        span: (sample, sample),
        from: Rate(a.exp() * 1e6),
        to: Rate(b.exp() * 1e6),
        repeats: false,
    }
}

/// What is known of the place of an edge.
struct Place<'a> {
    trace: &'a Trace,
    /// Sample of the first value.
    first: usize,
    logs: &'a [f64],
    sides: (Side, Side),
    /// Sum of absolute residuals with the edge before each value, and behind the last.
    costs: &'a [f64],
    /// Scale of the noise.
    scale: f64,
}

/// Places within a sample that are weighed, and the share of all that is left out at either end.
const PLACES: usize = 32;
const TAIL: f64 = 0.025;

impl Place<'_> {
    /// The central 95 % of the places, as bytes moved by then: each moment is as likely beforehand, and the noise is Laplace's, for which the sum of
    /// absolute residuals over the scale is the logarithm of the likelihood. The sample in which the edge lies has the mean of both rates by their times.
    fn interval(&self, least: f64) -> (Bytes, Bytes) {
        let mut weights = Vec::new();
        let mut total = 0.0;
        for (i, &y) in self.logs.iter().enumerate() {
            let sample = self.first + i;
            let seconds = self.seconds(sample);
            let others = self.costs[i] - self.sides.1.far(y);
            // What is less likely than that by e^30 adds nothing.
            if others - least > 30.0 * self.scale {
                continue;
            }
            for k in 0..PLACES {
                let share = (k as f64 + 0.5) / PLACES as f64;
                let cost = others + self.off(y, share);
                let weight = seconds * (-(cost - least) / self.scale).exp();
                total += weight;
                weights.push((weight, sample, share));
            }
        }
        // A change takes a moment itself: a place counts for its width to either side, a sample that is far longer than the others for all of it.
        let usual = self.usual();
        let at = |q: f64, side: f64| {
            let mut sum = 0.0;
            let found = weights.iter().find(|w| {
                sum += w.0;
                sum >= q * total
            });
            let Some(&(_, sample, share)) = found.or(weights.last()) else { return Bytes(0) };
            if self.seconds(sample) > GAP * usual {
                return self.trace.moved(if side < 0.0 { sample } else { sample + 1 });
            }
            self.moved(sample, share + side / PLACES as f64)
        };
        (at(TAIL, -1.0), at(1.0 - TAIL, 1.0))
    }

    fn seconds(&self, sample: usize) -> f64 {
        self.trace.end(sample).since(self.trace.start(sample)).secs()
    }

    /// Usual length of the samples around, seconds.
    fn usual(&self) -> f64 {
        let mut lengths: Vec<f64> =
            (self.first..self.first + self.logs.len()).map(|i| self.seconds(i)).collect();
        stats::median(&mut lengths).unwrap_or(0.0)
    }

    /// Distance of a value from the mean of both sides, the first with a share of the time.
    fn off(&self, y: f64, share: f64) -> f64 {
        let heights = |side: Side| std::iter::once(side.height).chain(side.low);
        let (left, right) = self.sides;
        let mixed = heights(left)
            .flat_map(|a| heights(right).map(move |b| (share * a.exp() + (1.0 - share) * b.exp()).ln()));
        mixed.map(|m| (y - m).abs()).fold(f64::INFINITY, f64::min)
    }

    /// Bytes moved when a share of a sample had passed at the first rate; a share below 0 or above 1 is in the sample beside it.
    fn moved(&self, sample: usize, share: f64) -> Bytes {
        let (begin, end) = (self.trace.moved(sample).0 as f64, self.trace.moved(sample + 1).0 as f64);
        let rates = (self.sides.0.height.exp(), self.sides.1.height.exp());
        let bytes = |rate: f64, share: f64| rate * 1e6 * share * self.seconds(sample);
        Bytes(if share > 1.0 {
            end + bytes(rates.1, share - 1.0).ceil()
        } else {
            (begin + bytes(rates.0, share)).clamp(0.0, end)
        } as u64)
    }
}

/// Where the break falls within a sample whose rate lies clearly between the two levels: the share of its time at
/// the first level follows from its mean rate. Gives the time, the bytes moved by then and the first sample behind.
fn within_sample(
    trace: &Trace,
    range: &Range<usize>,
    sample: usize,
    (a, b): (f64, f64),
    noise: Noise,
) -> (Nanos, Bytes, usize) {
    let between = |i: &usize| {
        let Some(y) = trace.rate.get(*i).filter(|r| *r > 0.0).map(f64::ln) else { return false };
        range.contains(i) && (y - a) * (y - b) < 0.0 && (y - a).abs().min((y - b).abs()) > 3.0 * noise.sigma
    };
    let candidates = [sample.saturating_sub(1), sample];
    let Some(i) = candidates.into_iter().find(between) else {
        return (trace.start(sample), trace.moved(sample), sample);
    };
    let (from, to) = (a.exp(), b.exp());
    let share = ((trace.rate.get(i).unwrap_or(to) - to) / (from - to)).clamp(0.0, 1.0);
    let start = trace.start(i);
    let length = trace.end(i).since(start).secs() * share;
    let bytes = Bytes(trace.moved(i).0 + (from * 1e6 * length) as u64);
    (start.plus(Nanos::from_secs(length)), bytes.min(trace.moved(i + 1)), i + 1)
}
