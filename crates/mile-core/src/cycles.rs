//! Patterns that repeat themselves: saws, periodic dips, throttling that swings.
//!
//! A rate that falls and comes back regularly has no plateau at either height, and its many steps are no breaks. Found by the times at
//! which it falls through the middle between its local low and high, with hysteresis, on tiles of growing length: five falls and more,
//! evenly spaced, and a correlation with itself one period later. Noise of any colour falls through the middle too, but not evenly.

use crate::stats;
use std::ops::Range;

/// Fewest falls of a pattern.
const LEAST_FALLS: usize = 5;
/// Least correlation of each period with the next, by phase, and what is added over the root of the number of falls. Noise that is
/// correlated over a time falls too, but between its falls no period is like the next; a saw whose periods differ by a tenth has 0.8.
const LEAST_LIKENESS: (f64, f64) = (0.5, 0.6);
/// A pattern whose highs or lows are so many values long, or shorter, has to come evenly: the standard deviation of its spacings as a share of them.
const BRIEF: f64 = 1.6;
const EVEN: f64 = 0.15;
/// How near two periods are the same, as a difference of logarithms.
const SAME_PERIOD: f64 = 0.15;
/// Share of its depth by which both the low and the high of a period may be off those of the period before.
const SHIFTED: f64 = 0.25;
/// Most periods between two pieces of one pattern.
const APART: f64 = 2.2;
/// Least distance of low and high, in standard deviations of the noise and as a difference of logarithms.
const LEAST_SIGMAS: f64 = 6.0;
const LEAST_DEPTH: f64 = 0.077;

/// A kind of pattern that is looked for.
#[derive(Clone, Copy)]
struct Kind {
    /// Quantiles that are taken as low and high.
    quantiles: (f64, f64),
    /// Share of the spacing so far by which the next one may be shorter or longer.
    uneven: (f64, f64),
    /// Least and largest share of the time for which it is low.
    duty: (f64, f64),
    /// Fewest falls.
    least_falls: usize,
    /// Values to either side over which a median is taken, at the least.
    least_half: usize,
    /// Whether it has to come more evenly than what is far off at random times.
    even: bool,
}

/// Those that are high and low for a good part of the time each.
const SWINGS: Kind = Kind {
    quantiles: (0.06, 0.94),
    uneven: (0.55, 1.8),
    duty: (0.0, 1.0),
    least_falls: LEAST_FALLS,
    least_half: 0,
    even: false,
};
/// Those that are high for moments, such as a cache that frees a little of itself while it is written. Single values far up come at random; so that those
/// are no pattern, the moments have to last, and to come evenly.
const MOMENTS: Kind = Kind {
    quantiles: (0.06, 0.985),
    uneven: (0.7, 1.4),
    duty: (0.8, 1.0),
    least_falls: LEAST_FALLS + 1,
    least_half: 2,
    even: true,
};
/// Those that are low for moments: dips that are longer than what a median takes out, and shorter than a plateau.
const DIPS: Kind = Kind { quantiles: (0.015, 0.94), duty: (0.0, 0.2), least_half: 1, ..MOMENTS };

/// A pattern in a series.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Cycle {
    /// From its first fall to its last rise.
    pub(crate) range: Range<usize>,
    /// Mean distance of its falls.
    pub(crate) period: f64,
    /// Its low.
    pub(crate) low: f64,
    /// Its high.
    pub(crate) high: f64,
    /// Share of it that lies nearer to its low.
    pub(crate) duty: f64,
}

/// The patterns in `values`, which do not overlap, in order. `sigma` is the noise from one value to the next.
pub(crate) fn find(values: &[f64], sigma: f64) -> Vec<Cycle> {
    let mut found = find_once(values, sigma);
    // What lies beside a pattern is looked at by itself: next to it, the low and the high around a fall were those of both.
    let mut from = 0;
    let ends: Vec<Range<usize>> =
        found.iter().map(|c| c.range.clone()).chain(std::iter::once(values.len()..values.len())).collect();
    if !found.is_empty() {
        for next in ends {
            let rest = from..next.start;
            let inside = find(&values[rest.clone()], sigma).into_iter();
            found.extend(
                inside.map(|c| Cycle { range: c.range.start + rest.start..c.range.end + rest.start, ..c }),
            );
            from = next.end;
        }
    }
    found.sort_by_key(|c| c.range.start);
    let mut joined: Vec<Cycle> = Vec::new();
    for cycle in found {
        match joined.last_mut().filter(|last| last.goes_on_in(&cycle)) {
            Some(last) => last.join(&cycle),
            None => joined.push(cycle),
        }
    }
    joined
}

impl Cycle {
    /// Whether another, behind it, is more of it: not much more than two periods lie between them, as one of them may not have been seen, and both have
    /// the same period, low and high.
    fn goes_on_in(&self, next: &Self) -> bool {
        let by = SHIFTED * (self.high - self.low);
        let gap = next.range.start.saturating_sub(self.range.end) as f64;
        gap <= APART * self.period
            && (next.period / self.period).ln().abs() <= SAME_PERIOD
            && (next.low - self.low).abs() <= by
            && (next.high - self.high).abs() <= by
    }

    /// Takes in more of the pattern.
    fn join(&mut self, next: &Self) {
        let (own, other) = (self.range.len() as f64, next.range.len() as f64);
        let mean = |a: f64, b: f64| (a * own + b * other) / (own + other);
        self.period = mean(self.period, next.period);
        self.low = mean(self.low, next.low);
        self.high = mean(self.high, next.high);
        self.duty = mean(self.duty, next.duty);
        self.range.end = next.range.end;
    }
}

/// Those that show with the whole series in view.
fn find_once(values: &[f64], sigma: f64) -> Vec<Cycle> {
    let mut all: Vec<Cycle> = Vec::new();
    let mut tile = 6;
    while tile * 2 <= values.len() {
        let sorted = sorted(values, tile);
        for kind in [SWINGS, MOMENTS, DIPS] {
            all.extend(at_scale(values, sigma, (tile, &sorted), kind));
        }
        tile = tile * 3 / 2;
    }
    all.sort_by_key(|c| std::cmp::Reverse(c.range.len()));
    let mut kept: Vec<Cycle> = Vec::new();
    for cycle in all {
        kept.extend(beside(values, cycle, &kept));
    }
    kept.sort_by_key(|c| c.range.start);
    kept
}

/// What of a pattern lies beside longer ones, which are kept: two patterns at different heights meet at a break, and each reaches a little into the other.
/// Nothing where less than a pattern is left.
fn beside(values: &[f64], mut cycle: Cycle, kept: &[Cycle]) -> Option<Cycle> {
    let mut is_cut = false;
    for k in kept.iter().map(|k| &k.range) {
        let own = &cycle.range;
        if own.end <= k.start || k.end <= own.start {
            continue;
        }
        is_cut = true;
        let (left, right) = (own.start..k.start.max(own.start), k.end.min(own.end)..own.end);
        cycle.range = if left.len() >= right.len() { left } else { right };
    }
    if !is_cut {
        return Some(cycle);
    }
    let inside = falls(&values[cycle.range.clone()], |_| Some((cycle.low, cycle.high)));
    (inside.len() >= LEAST_FALLS).then_some(cycle)
}

/// The values of each tile with its neighbours, by size.
fn sorted(values: &[f64], tile: usize) -> Vec<Vec<f64>> {
    let own = |i: usize| i.saturating_sub(1) * tile..((i + 2) * tile).min(values.len());
    let by_size = |i: usize| {
        let mut own = values[own(i)].to_vec();
        own.sort_by(f64::total_cmp);
        own
    };
    (0..values.len().div_ceil(tile)).map(by_size).collect()
}

/// The values at two shares of their number; there is at least one.
fn low_high(sorted: &[f64], quantiles: (f64, f64)) -> (f64, f64) {
    let at = |q: f64| sorted[((sorted.len() - 1) as f64 * q).round() as usize];
    (at(quantiles.0), at(quantiles.1))
}

/// Patterns of a kind that tiles of a length show, which come with their values by size.
fn at_scale(values: &[f64], sigma: f64, (tile, sorted): (usize, &[Vec<f64>]), kind: Kind) -> Vec<Cycle> {
    let quantiles = kind.quantiles;
    let levels: Vec<(f64, f64)> = sorted.iter().map(|own| low_high(own, quantiles)).collect();
    let least = LEAST_DEPTH.max(LEAST_SIGMAS * sigma);
    // A single value far up or down is neither a rise nor a fall; what is high for moments only has to be left.
    let half = (quantiles.0.min(1.0 - quantiles.1) * 0.7 * tile as f64) as usize;
    let calm = stats::running_median(values, half.max(kind.least_half));
    let falls = falls(&calm, |i| Some(levels[i / tile]).filter(|(low, high)| high - low >= least));
    let mut found = Vec::new();
    let mut start = 0;
    while start + LEAST_FALLS <= falls.len() {
        let mut mean = (falls[start + 1] - falls[start]) as f64;
        let mut end = start + 1;
        while let Some(next) = falls.get(end + 1) {
            let step = (next - falls[end]) as f64;
            if step < kind.uneven.0 * mean || step > kind.uneven.1 * mean {
                break;
            }
            // All of the next period is higher or lower: another pattern begins behind a break.
            let (own, then) = (
                heights(&calm[falls[end - 1]..falls[end]], quantiles),
                heights(&calm[falls[end]..*next], quantiles),
            );
            let by = SHIFTED * (own.1 - own.0).max(least);
            let (low, high) = (then.0 - own.0, then.1 - own.1);
            if low.abs() > by && high.abs() > by && (low > 0.0) == (high > 0.0) {
                break;
            }
            mean += (step - mean) / (end + 1 - start) as f64;
            end += 1;
        }
        let long = end - start + 1 >= kind.least_falls;
        // The tiles have to see several periods, and not so many that they blur a change of height.
        if long && mean <= 1.2 * tile as f64 && mean >= tile as f64 / 6.0 {
            found.extend(
                grown(&calm, &falls[start..=end], mean, least, quantiles)
                    .filter(|c| (kind.duty.0..=kind.duty.1).contains(&c.duty))
                    .filter(|c| {
                        let lasts = c.period * c.duty.min(1.0 - c.duty) >= BRIEF;
                        (lasts && !kind.even) || is_even(&falls[start..=end])
                    }),
            );
        }
        start = end.max(start + 1);
    }
    found
}

/// Whether falls come more evenly than single values that are far off at random times.
fn is_even(falls: &[usize]) -> bool {
    let steps: Vec<f64> = falls.windows(2).map(|w| (w[1] - w[0]) as f64).collect();
    steps.len() >= LEAST_FALLS && stats::mean_sd(&steps).is_some_and(|(mean, sd)| sd <= EVEN * mean)
}

/// Low and high of one period.
fn heights(values: &[f64], quantiles: (f64, f64)) -> (f64, f64) {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    low_high(&sorted, quantiles)
}

/// Where the series falls through the middle between the low and the high that hold there.
fn falls(values: &[f64], level: impl Fn(usize) -> Option<(f64, f64)>) -> Vec<usize> {
    let mut above = false;
    let mut falls = Vec::new();
    for (i, &y) in values.iter().enumerate() {
        let Some((low, high)) = level(i) else {
            above = false;
            continue;
        };
        let (middle, slack) = (f64::midpoint(low, high), 0.15 * (high - low));
        if above && y < middle - slack {
            falls.push(i);
        }
        above = if y > middle + slack { true } else { above && y >= middle - slack };
    }
    falls
}

/// Follows the pattern beyond the falls by which it was found, and takes its measure.
fn grown(values: &[f64], falls: &[usize], period: f64, least: f64, quantiles: (f64, f64)) -> Option<Cycle> {
    let (first, last) = (*falls.first()?, *falls.last()?);
    let mut inside: Vec<f64> = values[first..=last].to_vec();
    inside.sort_by(f64::total_cmp);
    let (low, high) = low_high(&inside, quantiles);
    let cycles: Vec<f64> = falls.windows(3).map(|w| alike(values, w)).collect();
    let likeness = cycles.iter().sum::<f64>() / cycles.len().max(1) as f64;
    if high - low < least || likeness < LEAST_LIKENESS.0 + LEAST_LIKENESS.1 / (falls.len() as f64).sqrt() {
        return None;
    }
    let slack = 0.35 * (high - low);
    let band = low - slack..high + slack;
    // As far as the values stay in its band there may be more of it, which the tiles had not seen.
    let reach = |mut i: usize, back: bool| {
        let mut outside = 0;
        loop {
            let next = if back { i.checked_sub(1) } else { Some(i + 1).filter(|n| *n < values.len()) };
            let Some(next) = next else { return i };
            outside = if band.contains(&values[next]) { 0 } else { outside + 1 };
            if outside > 2 {
                return if back { i + 2 } else { i.saturating_sub(2) };
            }
            i = next;
        }
    };
    let (from, to) = (reach(first, true), reach(last, false));
    let all: Vec<usize> =
        self::falls(&values[from..=to], |_| Some((low, high))).iter().map(|f| f + from).collect();
    let anchor = all.partition_point(|f| *f < first);
    let mut begin = falls[..2].to_vec();
    for &f in all[..anchor].iter().rev() {
        if !goes_on(values, [f, begin[0], begin[1]]) {
            break;
        }
        begin = vec![f, begin[0]];
    }
    let begin = begin[0];
    let mut tail = falls[falls.len() - 2..].to_vec();
    for &f in all.iter().filter(|f| **f > last) {
        if !goes_on(values, [tail[0], tail[1], f]) {
            break;
        }
        tail = vec![tail[1], f];
    }
    let fall = tail[1];
    // Up to the rise behind the last fall.
    let middle = f64::midpoint(low, high);
    let rise = values[fall..=to].iter().position(|y| *y > middle).map_or(to + 1, |i| fall + i);
    let end = rise.min(fall + (1.5 * period) as usize + 1).min(values.len());
    let below = values[first..last].iter().filter(|y| **y < middle).count();
    let duty = below as f64 / (last - first).max(1) as f64;
    // What stays at its heights before and behind it, between a step or the end of the series and it, is part of it: less than a period, and high for no
    // longer than within it.
    let is_part = |length: usize, high: Option<usize>| {
        let high = high.unwrap_or(length) as f64;
        length as f64 <= 1.3 * period && high <= (1.3 * period * (1.0 - duty)).max(2.0)
    };
    let is_low = |i: usize| values[i] <= middle;
    let (before, behind) = (from.min(begin)..begin, end..(to + 1).max(end));
    let begin =
        if is_part(before.len(), before.clone().rev().position(is_low)) { before.start } else { begin };
    let end = if is_part(behind.len(), behind.clone().position(is_low)) { behind.end } else { end };
    Some(Cycle { range: begin..end, period, low, high, duty })
}

/// Whether three falls belong to one pattern: evenly spaced, and one period like the other.
fn goes_on(values: &[f64], falls: [usize; 3]) -> bool {
    let (a, b) = ((falls[1] - falls[0]) as f64, (falls[2] - falls[1]) as f64);
    (1.0 / SWINGS.uneven.1..=SWINGS.uneven.1).contains(&(a / b.max(1.0)))
        && alike(values, &falls) >= LEAST_LIKENESS.0
}

/// Correlation of the period between the first two falls with the one between the last two, phase by phase.
fn alike(values: &[f64], falls: &[usize]) -> f64 {
    let (a, b) = (&values[falls[0]..falls[1]], &values[falls[1]..falls[2]]);
    let n = a.len().max(b.len());
    let pick = |s: &[f64], i: usize| s[(i * s.len() / n).min(s.len() - 1)];
    let pairs = || (0..n).map(|i| (pick(a, i), pick(b, i)));
    let count = n as f64;
    let (ma, mb) = pairs().fold((0.0, 0.0), |m, p| (m.0 + p.0 / count, m.1 + p.1 / count));
    let (mut ab, mut aa, mut bb) = (0.0, 0.0, 0.0);
    for (x, y) in pairs() {
        ab += (x - ma) * (y - mb);
        aa += (x - ma).powi(2);
        bb += (y - mb).powi(2);
    }
    ab / (aa * bb).sqrt().max(1e-12)
}

/// Dips that come regularly in a series around 0, each of them brief: five and more, and the time between most of them the same, or a
/// multiple of it where one is too shallow to be seen.
pub(crate) fn dips(values: impl IntoIterator<Item = f64>, sigma: f64) -> Option<Cycle> {
    let deep = -LEAST_DEPTH.max(5.0 * sigma);
    let mut starts: Vec<usize> = Vec::new();
    let (mut low, mut depths) = (0, Vec::new());
    let mut before = f64::INFINITY;
    for (i, y) in values.into_iter().enumerate() {
        let last = std::mem::replace(&mut before, y);
        if y >= deep {
            continue;
        }
        low += 1;
        if last >= deep {
            starts.push(i);
            depths.push(y);
        } else if let Some(last) = depths.last_mut() {
            *last = last.min(y);
        }
    }
    if starts.len() < LEAST_FALLS {
        return None;
    }
    let spacings: Vec<f64> = starts.windows(2).map(|w| (w[1] - w[0]) as f64).collect();
    let period = stats::median(&mut spacings.clone())?;
    let even = spacings.iter().filter(|s| {
        let whole = (*s / period).round();
        whole >= 1.0 && (*s / period - whole).abs() <= 0.25
    });
    let span = starts[starts.len() - 1] - starts[0];
    // Dips at any time would be near a multiple half of the time.
    (even.count() as f64 >= 0.8 * spacings.len() as f64).then_some(Cycle {
        range: starts[0]..starts[starts.len() - 1] + 1,
        period,
        low: stats::median(&mut depths)?,
        high: 0.0,
        duty: low as f64 / (span as f64 + period),
    })
}

/// Noise from one value to the next in a series that may go in ramps: from second differences, which a ramp does not change. The
/// variance of `a - 2 b + c` is six times that of one.
pub(crate) fn sigma(values: &[f64]) -> f64 {
    let mut second: Vec<f64> = values.windows(3).map(|w| w[0] - 2.0 * w[1] + w[2]).collect();
    let curved = stats::mad_sigma(&mut second).unwrap_or(0.0) / 6_f64.sqrt();
    stats::difference_sigma(values).unwrap_or(0.0).min(curved).max(0.002)
}

/// Takes a pattern out of `smooth`: each value of `values` in it becomes the mean of the periods around it, twice over.
pub(crate) fn take_out(values: &[f64], smooth: &mut [f64], cycle: &Cycle) {
    let range = cycle.range.clone();
    let width = (cycle.period.round() as usize).clamp(1, range.len());
    let once = running_mean(&values[range.clone()], width);
    smooth[range].copy_from_slice(&running_mean(&once, width));
}

fn running_mean(values: &[f64], width: usize) -> Vec<f64> {
    let mut sums = vec![0.0];
    for y in values {
        sums.push(sums[sums.len() - 1] + y);
    }
    (0..values.len())
        .map(|i| {
            let from = i.saturating_sub(width / 2).min(values.len() - width);
            (sums[from + width] - sums[from]) / width as f64
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Square waves of a height of 1 and noise, by a small linear congruential generator.
    fn square(n: usize, from: usize, period: usize, slow: usize, noise: f64) -> Vec<f64> {
        let mut bits = 12345_u64;
        (0..n)
            .map(|i| {
                bits = bits.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                let wobble = (bits >> 40) as f64 / f64::from(1_u32 << 24) - 0.5;
                let low = i >= from && (i - from) % period < slow;
                f64::from(u8::from(!low)) + noise * wobble
            })
            .collect()
    }

    #[test]
    fn squares_of_any_period_are_found_with_their_measure() {
        for (period, slow) in [(200, 63), (10, 4), (6, 3), (33, 22), (600, 150)] {
            let values = square(3900, 1074, period, slow, 0.02);
            let found = find(&values, sigma(&values));
            assert_eq!(found.len(), 1, "{period}: {found:?}");
            let c = &found[0];
            assert!((c.period / period as f64 - 1.0).abs() < 0.05, "{c:?}");
            assert!((c.duty - slow as f64 / period as f64).abs() < 0.06, "{c:?}");
            assert!(c.range.start.abs_diff(1074) <= 1 && c.range.end > 3900 - period, "{c:?}");
        }
    }

    #[test]
    fn brief_dips_are_found_where_they_come_regularly_and_not_where_they_do_not() {
        let values: Vec<f64> = square(5000, 0, 120, 5, 0.02).iter().map(|y| y - 1.0).collect();
        let found = dips(values, 0.006).unwrap();
        assert!((found.period - 120.0).abs() < 1.5 && (found.duty - 5.0 / 120.0).abs() < 0.01, "{found:?}");
        assert!((found.low + 1.0).abs() < 0.05, "{found:?}");
        let mut odd = square(5000, 6000, 1, 0, 0.02);
        odd.iter_mut().for_each(|y| *y -= 1.0);
        let mut at = 3;
        for i in 0..40 {
            odd[at] = -1.0;
            at += 7 + (i * i * 37) % 211;
        }
        assert_eq!(dips(odd, 0.006), None);
    }

    #[test]
    fn noise_of_any_colour_and_single_steps_are_no_pattern() {
        for keep in [0.0, 0.5, 0.9, 0.97] {
            let white = square(4000, 5000, 1, 0, 2.0);
            let mut now = 0.0;
            let values: Vec<f64> = white
                .iter()
                .map(|y| {
                    now = keep * now + (y - 1.0) * 0.1;
                    now
                })
                .collect();
            assert_eq!(find(&values, sigma(&values)), [], "{keep}");
        }
        let values: Vec<f64> = (0..1000).map(|i| f64::from(i / 250)).collect();
        assert_eq!(find(&values, sigma(&values)), []);
    }
}
