//! What repeats of a figure show: mean, spread, and a 95 % interval by Student's t distribution (W. S. Gosset, "The probable error of
//! a mean", Biometrika 6, 1908). With fewer than three repeats no interval is given and no difference is called established.

use crate::stats::{mean_sd, rounding};
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, FisherSnedecor, StudentsT};
use std::collections::HashMap;

/// Least repeats from which anything is said beyond the mean.
pub const ENOUGH: usize = 3;

/// Chance at which groups of repeats are taken to differ, by the F test of a one-way analysis of variance. That they are alike is assumed only where
/// nothing speaks against it (T. A. Bancroft, "Analysis and inference for incompletely specified models", Biometrics 20, 1964: 0.25 for a test before another one).
const GROUPS_DIFFER: f64 = 0.25;

/// What is said where some values do not count for themselves.
pub const GROUPED: &str = "Repeats within one run, or within one repeat, are more alike than those of different ones. There the mean of each counts as one value.";

/// Values of one figure, each with where it is from, outermost first: its run, the repeat, the repeat within that. In the order of time.
///
/// Repeats within one run have the drive, the mounting and the ambient of that run in common. Where runs differ more than the repeats within them, these are
/// no independent values, and to count each would claim more than is known: of groups of three that differ as much as the values within them, three on either
/// side, a difference that is not there would be established in 19 of 100 cases.
#[derive(Clone, Debug, Default)]
pub struct Nested(Vec<(Vec<u32>, f64)>);

impl Nested {
    /// Adds a value.
    pub fn push(&mut self, from: Vec<u32>, value: f64) {
        self.0.push((from, value));
    }

    /// How many values there are.
    pub fn count(&self) -> usize {
        self.0.len()
    }

    /// All values.
    pub fn all(&self) -> Vec<f64> {
        self.0.iter().map(|v| v.1).collect()
    }

    /// One value for each outermost group: the mean.
    pub fn of_groups(&self) -> Vec<f64> {
        means(&self.0, 1).into_iter().map(|v| v.1).collect()
    }

    /// The values that may count as independent of each other: from the innermost groups outwards, the means of groups that differ, and all values of groups
    /// that do not.
    pub fn independent(&self) -> Vec<f64> {
        let mut values = self.0.clone();
        let deepest = values.iter().map(|v| v.0.len()).max().unwrap_or(0);
        for depth in (1..deepest).rev() {
            if f_test(&values, depth).is_some_and(|(_, p)| p <= GROUPS_DIFFER) {
                values = means(&values, depth);
            }
        }
        values.into_iter().map(|v| v.1).collect()
    }
}

/// Values that begin alike in so many places, in the order in which each group comes first.
fn groups(values: &[(Vec<u32>, f64)], depth: usize) -> Vec<(&[u32], Vec<f64>)> {
    let mut all: Vec<(&[u32], Vec<f64>)> = Vec::new();
    let mut places: HashMap<&[u32], usize> = HashMap::new();
    for (from, value) in values {
        let own = &from[..depth.min(from.len())];
        let place = *places.entry(own).or_insert(all.len());
        match all.get_mut(place) {
            Some(group) => group.1.push(*value),
            None => all.push((own, vec![*value])),
        }
    }
    all
}

fn means(values: &[(Vec<u32>, f64)], depth: usize) -> Vec<(Vec<u32>, f64)> {
    let mean = |all: &[f64]| all.iter().sum::<f64>() / all.len() as f64;
    groups(values, depth).into_iter().map(|(from, all)| (from.to_vec(), mean(&all))).collect()
}

/// How much groups differ against the values within them, and the chance of that where they are alike: the F test of a one-way analysis of variance. `None`
/// where there is one group, or one value in each.
fn f_test(values: &[(Vec<u32>, f64)], depth: usize) -> Option<(f64, f64)> {
    let groups = groups(values, depth);
    let (k, n) = (groups.len(), values.len());
    if k < 2 || n <= k {
        return None;
    }
    let of = |all: &[f64]| all.iter().sum::<f64>() / all.len() as f64;
    let mean = values.iter().map(|v| v.1).sum::<f64>() / n as f64;
    let between: f64 = groups.iter().map(|g| g.1.len() as f64 * (of(&g.1) - mean).powi(2)).sum();
    let within: f64 = groups.iter().map(|g| g.1.iter().map(|v| (v - of(&g.1)).powi(2)).sum::<f64>()).sum();
    let (over, under) = ((k - 1) as f64, (n - k) as f64);
    if within <= 0.0 {
        return Some(if between > 0.0 { (f64::INFINITY, 0.0) } else { (0.0, 1.0) });
    }
    let f = between / over / (within / under);
    Some((f, FisherSnedecor::new(over, under).ok()?.sf(f)))
}

/// A figure from its repeats.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Figure {
    /// Repeats.
    pub n: usize,
    /// Their mean.
    pub mean: f64,
    /// Standard deviation between them; `None` for one.
    pub sd: Option<f64>,
    /// Lower bound of the mean (95 %); `None` with fewer than three repeats.
    pub low: Option<f64>,
    /// Upper bound.
    pub high: Option<f64>,
}

impl Figure {
    /// From repeats; `None` where there are none.
    pub fn of(values: &[f64]) -> Option<Self> {
        let n = values.len();
        let (mean, sd) = match n {
            0 => return None,
            1 => (values[0], None),
            _ => {
                let (mean, sd) = mean_sd(values)?;
                let varies = sd > rounding(values.iter().copied());
                (mean, Some(if varies { sd } else { 0.0 }))
            }
        };
        let half = sd.filter(|_| n >= ENOUGH).and_then(|sd| {
            let t = StudentsT::new(0.0, 1.0, (n - 1) as f64).ok()?.inverse_cdf(0.975);
            Some(t * sd / (n as f64).sqrt())
        });
        Some(Self { n, mean, sd, low: half.map(|h| mean - h), high: half.map(|h| mean + h) })
    }

    /// The same of a figure that cannot be below 0, such as a rate or a time: its interval ends there.
    pub fn of_amount(self) -> Self {
        Self { low: self.low.map(|low| low.max(0.0)), ..self }
    }

    /// Whether this is worse than another by more than a share, and by more than their intervals: smaller, as all figures
    /// here are better the larger they are.
    pub fn is_worse(&self, than: &Self, share: f64) -> bool {
        let apart = match (self.high, than.low) {
            (Some(high), Some(low)) => high < low,
            _ => true,
        };
        self.mean < than.mean * (1.0 - share) && apart
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_interval_is_that_of_the_published_table() {
        // t(0.975) of 2 degrees of freedom is 4.303, of 9 it is 2.262.
        let three = Figure::of(&[9.0, 10.0, 11.0]).unwrap();
        assert_eq!((three.n, three.mean, three.sd), (3, 10.0, Some(1.0)));
        assert!((three.high.unwrap() - 10.0 - 4.303 / 3.0_f64.sqrt()).abs() < 1e-3);
        let ten: Vec<f64> = (0..10).map(f64::from).collect();
        let ten = Figure::of(&ten).unwrap();
        assert!((ten.mean - ten.low.unwrap() - 2.262 * ten.sd.unwrap() / 10.0_f64.sqrt()).abs() < 2e-3);
        assert_eq!(Figure::of(&[5.0]).unwrap(), Figure { n: 1, mean: 5.0, sd: None, low: None, high: None });
        assert_eq!(Figure::of(&[5.0, 6.0]).unwrap().low, None);
        assert_eq!(Figure::of(&[]), None);
        // 4.302653 is the table's 97.5 % point of two degrees of freedom.
        let rates = Figure::of(&[184.0, 2454.0, 2895.0]).unwrap();
        let half = 4.302653 * rates.sd.unwrap() / 3.0_f64.sqrt();
        assert!((rates.high.unwrap() - rates.mean - half).abs() < 0.01 && rates.low.unwrap() < 0.0);
        assert_eq!(rates.of_amount().low, Some(0.0), "no rate is below 0");
        assert_eq!(rates.of_amount().high, rates.high);
    }

    fn nested(groups: &[&[f64]]) -> Nested {
        let mut all = Nested::default();
        for (i, group) in groups.iter().enumerate() {
            group.iter().enumerate().for_each(|(j, v)| all.push(vec![i as u32, j as u32], *v));
        }
        all
    }

    /// The worked example of the e-Handbook of Statistical Methods of NIST and SEMATECH, section 7.4.3.4: sums of squares 27.897 and 17.452 with 2 and 12
    /// degrees of freedom, F = 9.59.
    #[test]
    fn the_analysis_of_variance_is_that_of_the_handbook() {
        let example =
            nested(&[&[6.9, 5.4, 5.8, 4.6, 4.0], &[8.3, 6.8, 7.8, 9.2, 6.5], &[8.0, 10.5, 8.1, 6.9, 9.3]]);
        let (f, p) = f_test(&example.0, 1).unwrap();
        assert!((f - 9.59).abs() < 0.005 && (0.003..0.004).contains(&p), "{f} {p}");
        let means = example.independent();
        assert!(means.iter().zip([5.34, 7.72, 8.56]).all(|(m, v)| (m - v).abs() < 1e-9), "{means:?}");
        assert_eq!(example.all().len(), 15);
    }

    #[test]
    fn repeats_within_groups_that_are_alike_count_each() {
        // The groups have the same mean.
        assert_eq!(nested(&[&[1.0, 3.0], &[2.0, 2.0], &[3.0, 1.0]]).independent().len(), 6);
        // One run, and single runs, have no groups.
        assert_eq!(nested(&[&[1.0, 5.0, 9.0]]).independent(), [1.0, 5.0, 9.0]);
        assert_eq!(nested(&[&[1.0], &[5.0], &[9.0]]).independent(), [1.0, 5.0, 9.0]);
        // Repeats that are alike to their last digit are no repeats.
        assert_eq!(nested(&[&[1.0, 1.0], &[2.0, 2.0]]).independent(), [1.0, 2.0]);
        assert_eq!(nested(&[&[4.0, 4.0], &[4.0, 4.0]]).independent(), [4.0; 4]);
        assert_eq!(Nested::default().independent(), [0.0; 0]);
    }

    #[test]
    fn of_three_levels_only_those_count_as_one_that_differ() {
        // Runs that differ by tens, repeats in them by ones, and repeats in those by hundredths.
        let mut all = Nested::default();
        for run in 0..3_u32 {
            for (outer, off) in [-1.0, 0.2, 0.9].into_iter().enumerate() {
                for (inner, more) in [-0.01, 0.0, 0.012].into_iter().enumerate() {
                    let value = 10.0 * f64::from(run) + off + more;
                    all.push(vec![run, outer as u32, inner as u32], value);
                }
            }
        }
        assert_eq!((all.independent().len(), all.of_groups().len()), (3, 3));
        // Without the difference between runs, the outer repeats are what counts.
        let runs_alike =
            Nested(all.0.iter().map(|(from, v)| (from.clone(), v - 10.0 * f64::from(from[0]))).collect());
        assert_eq!(runs_alike.independent().len(), 9);
    }
}
