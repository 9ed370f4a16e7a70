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

/// Ends of the segments of the cheapest segmentation of `values` (the last is `values.len()`), and its cost.
/// No segment for no values; one segment where there are fewer than twice the least length.
pub fn segment(values: &[f64], penalty: &Penalty) -> (Vec<usize>, f64) {
    let n = values.len();
    if n == 0 {
        return (Vec::new(), 0.0);
    }
    // A constant offset changes no cost and keeps the sums of squares small.
    let offset = values[0];
    let sums = Moments::prefixes(values.iter().enumerate().map(|(i, &y)| (i as f64, y - offset)));
    let least = penalty.least.max(1);
    let mut best = vec![f64::INFINITY; n + 1];
    let mut from = vec![0_usize; n + 1];
    best[0] = 0.0;
    // Candidates for the start of the last segment, and from when on each is beaten.
    let mut candidates: Vec<(usize, usize)> = vec![(0, usize::MAX)];
    let mut costs: Vec<f64> = Vec::new();
    for t in 1..=n {
        if t > least && best[t - least].is_finite() {
            candidates.push((t - least, usize::MAX));
        }
        costs.clear();
        for &(s, _) in &candidates {
            let cost = if t - s < least && t != n {
                f64::INFINITY
            } else {
                best[s] + penalty.cost(sums[t].minus(sums[s]))
            };
            costs.push(cost);
            if cost < best[t] {
                best[t] = cost;
                from[t] = s;
            }
        }
        let bound = best[t] + penalty.slope;
        let mut i = 0;
        candidates.retain_mut(|(_, beaten)| {
            let cost = costs[i];
            i += 1;
            if *beaten == usize::MAX && cost.is_finite() && cost > bound {
                *beaten = t + least;
            }
            t < *beaten
        });
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
