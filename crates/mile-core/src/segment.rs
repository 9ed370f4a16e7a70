//! Least-cost segmentation of a series into stretches that are level or sloped.
//!
//! The cost of a segmentation is the sum over its segments of the residual sum of squares around a level or a line,
//! whichever is cheaper, each with a penalty. The minimum is found exactly by dynamic programming over the last
//! segment's start, with candidates pruned that can never win again (Killick, Fearnhead and Eckley, "Optimal
//! detection of changepoints with a linear computational cost", 2012, §3). With a least length `m`, a candidate
//! that is beaten at `t` can still win until `t + m`, as no segment may begin at `t` before that; it is kept so long.

use crate::moments::{Line, Moments};

/// What a segment costs besides its residuals, and how short it may be.
#[derive(Clone, Copy, Debug)]
pub struct Penalty {
    /// Added for a level segment, in units of squared residuals.
    pub level: f64,
    /// Added for a sloped segment; at least that for a level one.
    pub slope: f64,
    /// Fewest points of a segment; at least 1.
    pub least: usize,
}

impl Penalty {
    /// Cost of describing points by one segment.
    pub fn cost(&self, points: Moments) -> f64 {
        (points.level_cost() + self.level).min(points.line_cost() + self.slope)
    }

    /// The cheaper description of points.
    pub fn describe(&self, points: Moments) -> Line {
        if points.level_cost() + self.level <= points.line_cost() + self.slope {
            points.level()
        } else {
            points.line()
        }
    }
}

/// Candidates for the start of the last segment, in the order of their place. Each array holds one number of all of them, so that one pass
/// without branches works out what each costs.
#[derive(Default)]
struct Candidates {
    /// First point of the segment.
    start: Vec<f64>,
    /// Cost of what lies before it.
    before: Vec<f64>,
    /// Sums of y, of x y and of y² before it.
    y: Vec<f64>,
    xy: Vec<f64>,
    yy: Vec<f64>,
    /// From where on it can no longer win.
    beaten: Vec<u32>,
    /// What a segment from there to the newest point costs.
    cost: Vec<f64>,
}

/// Like `f64::min` and `f64::max` of numbers that are none of them NaN, which a processor has an instruction for.
fn smaller(a: f64, b: f64) -> f64 {
    if a < b { a } else { b }
}

fn larger(a: f64, b: f64) -> f64 {
    if a > b { a } else { b }
}

/// The least of the values, in eight lanes; infinite for none.
fn least(values: &[f64]) -> f64 {
    let mut lanes = [f64::INFINITY; 8];
    let mut chunks = values.chunks_exact(8);
    for chunk in &mut chunks {
        for (lane, value) in lanes.iter_mut().zip(chunk) {
            *lane = smaller(*lane, *value);
        }
    }
    chunks.remainder().iter().chain(&lanes).copied().fold(f64::INFINITY, smaller)
}

/// Sums of the points before a place: of y, x y and y².
type Sums = (f64, f64, f64);

impl Candidates {
    fn push(&mut self, start: usize, before: f64, sums: Sums) {
        self.start.push(start as f64);
        self.before.push(before);
        self.y.push(sums.0);
        self.xy.push(sums.1);
        self.yy.push(sums.2);
        self.beaten.push(u32::MAX);
        self.cost.push(f64::INFINITY);
    }

    /// Works out the cost of a last segment from each candidate to before point `end`, which has the sums `sums` before it, and says the least and
    /// whose it is.
    fn weigh(&mut self, end: usize, sums: Sums, penalty: &Penalty) -> (f64, usize) {
        let (n, end) = (self.start.len(), end as f64);
        let (start, before, y) = (&self.start[..n], &self.before[..n], &self.y[..n]);
        let (xy, yy, cost) = (&self.xy[..n], &self.yy[..n], &mut self.cost[..n]);
        for i in 0..n {
            let points = end - start[i];
            let (dy, dxy, dyy) = (sums.0 - y[i], sums.1 - xy[i], sums.2 - yy[i]);
            let level = larger(dyy - dy * dy / points, 0.0);
            let sxy = dxy - 0.5 * (end + start[i] - 1.0) * dy;
            // The sum of squares of n places around their middle is n (n² - 1) / 12; one point alone has no slope, and nothing left of it.
            let sxx12 = larger(points * (points * points - 1.0), 6.0);
            let line = larger(level - 12.0 * sxy * sxy / sxx12, 0.0);
            cost[i] = before[i] + smaller(level + penalty.level, line + penalty.slope);
        }
        let least = least(cost);
        let whose = cost.iter().position(|c| *c == least).unwrap_or(0);
        (least, start.get(whose).map_or(0, |s| *s as usize))
    }

    /// Drops those that can no longer win at `place`.
    fn drop_beaten(&mut self, place: usize) {
        let mut kept = 0;
        for i in 0..self.start.len() {
            if place < self.beaten[i] as usize {
                self.beaten[kept] = self.beaten[i];
                for column in [&mut self.start, &mut self.before, &mut self.y, &mut self.xy, &mut self.yy] {
                    column[kept] = column[i];
                }
                kept += 1;
            }
        }
        self.beaten.truncate(kept);
        for column in
            [&mut self.start, &mut self.before, &mut self.y, &mut self.xy, &mut self.yy, &mut self.cost]
        {
            column.truncate(kept);
        }
    }
}

/// Ends of the segments of the cheapest segmentation of `values` (the last is `values.len()`), and its cost.
/// No segment for no values; one segment where there are fewer than twice the least length. At most 2³² - 1 values.
pub fn segment(values: &[f64], penalty: &Penalty) -> (Vec<usize>, f64) {
    let n = values.len();
    if n == 0 {
        return (Vec::new(), 0.0);
    }
    // A constant offset changes no cost and keeps the sums of squares small.
    let offset = values[0];
    let mut sums: Vec<Sums> = vec![(0.0, 0.0, 0.0)];
    for (i, value) in values.iter().enumerate() {
        let (y, (a, b, c)) = (value - offset, sums[i]);
        sums.push((a + y, b + i as f64 * y, c + y * y));
    }
    let least = penalty.least.max(1);
    let mut best = vec![f64::INFINITY; n + 1];
    let mut from = vec![0_usize; n + 1];
    best[0] = 0.0;
    let mut candidates = Candidates::default();
    candidates.push(0, 0.0, sums[0]);
    for t in 1..=n {
        if t > least && best[t - least].is_finite() {
            candidates.push(t - least, best[t - least], sums[t - least]);
        }
        if t < least && t != n {
            continue;
        }
        (best[t], from[t]) = candidates.weigh(t, sums[t], penalty);
        let bound = best[t] + penalty.slope;
        let now = (t + least) as u32;
        let mut soonest = u32::MAX;
        for (&cost, beaten) in candidates.cost.iter().zip(&mut candidates.beaten) {
            *beaten = if cost > bound && *beaten > now { now } else { *beaten };
            soonest = soonest.min(*beaten);
        }
        if soonest as usize <= t {
            candidates.drop_beaten(t);
        }
    }
    let mut ends = Vec::new();
    let mut t = n;
    while t > 0 {
        ends.push(t);
        t = from[t];
    }
    ends.reverse();
    (ends, best[n])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The same minimum without pruning, by the plain recurrence over sums formed anew for each stretch.
    fn exhaustive(values: &[f64], penalty: &Penalty) -> f64 {
        let n = values.len();
        let mut best = vec![f64::INFINITY; n + 1];
        best[0] = 0.0;
        for t in 1..=n {
            for s in 0..t {
                if t - s < penalty.least && !(s == 0 && t == n) {
                    continue;
                }
                let mut sums = Moments::default();
                values[s..t].iter().enumerate().for_each(|(i, &y)| sums.add(i as f64, y));
                best[t] = best[t].min(best[s] + penalty.cost(sums));
            }
        }
        best[n]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1000))]
        #[test]
        fn pruning_loses_nothing(
            steps in prop::collection::vec((1usize..12, -20i32..20, -3i32..3), 1..7),
            noise in prop::collection::vec(-5i32..5, 80),
            level in 1.0f64..40.0, extra in 0.0f64..20.0, least in 1usize..6,
        ) {
            let mut values = Vec::new();
            for (length, height, slope) in steps {
                for i in 0..length {
                    values.push(f64::from(height) + f64::from(slope) * i as f64 + f64::from(noise[values.len()]) * 0.3);
                }
            }
            let penalty = Penalty { level, slope: level + extra, least };
            let (ends, cost) = segment(&values, &penalty);
            prop_assert!((cost - exhaustive(&values, &penalty)).abs() < 1e-6 * (1.0 + cost.abs()));
            prop_assert_eq!(*ends.last().unwrap(), values.len());
            let mut start = 0;
            for &end in &ends {
                prop_assert!(end - start >= least || ends.len() == 1);
                start = end;
            }
        }
    }

    #[test]
    fn a_clean_step_is_cut_where_it_is() {
        let mut values = vec![10.0; 40];
        values.extend(vec![5.0; 60]);
        let (ends, _) = segment(&values, &Penalty { level: 1.0, slope: 2.0, least: 3 });
        assert_eq!(ends, [40, 100]);
        assert_eq!(segment(&[], &Penalty { level: 1.0, slope: 2.0, least: 3 }).0, Vec::<usize>::new());
    }
}
