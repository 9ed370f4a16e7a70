//! The difference of two means, how sure it is, and how many values would show one of a given size.

use crate::stats::rounding;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, Normal, StudentsT};
use statrs::function::beta::checked_beta_reg;

/// Fewest values on each side, or pairs, from which anything is said of a difference.
pub const ENOUGH: usize = 3;
/// Most values for a side that are asked for.
const MOST: usize = 10_000;

/// A difference of means: b less a.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Difference {
    /// The difference of the means.
    pub value: f64,
    /// Half of its interval (95 %); `None` where nothing can be said.
    pub half: Option<f64>,
    /// Chance of a difference at least as large, either way, if there is none; `None` where nothing can be said.
    pub p: Option<f64>,
    /// Degrees of freedom.
    pub freedom: Option<f64>,
}

/// Chance that Student's t with so many degrees of freedom is further from 0 than `t`, either way: the regularised incomplete beta function
/// (Abramowitz and Stegun, "Handbook of Mathematical Functions", 1964, 26.7.1), which keeps its digits where the chance is small.
pub fn two_sided(t: f64, freedom: f64) -> f64 {
    if t.is_infinite() {
        return 0.0;
    }
    checked_beta_reg(freedom / 2.0, 0.5, freedom / (freedom + t * t)).unwrap_or(1.0)
}

/// The value that Student's t does not exceed with a chance, above one half. Newton's method on the distribution brings the library's value to the last digits.
pub fn quantile(chance: f64, freedom: f64) -> Option<f64> {
    let mut t = StudentsT::new(0.0, 1.0, freedom).ok()?.inverse_cdf(chance);
    let density = |t: f64| {
        use statrs::function::gamma::ln_gamma;
        let scale = ln_gamma(f64::midpoint(freedom, 1.0)) - ln_gamma(freedom / 2.0);
        (scale - f64::midpoint(freedom, 1.0) * (t * t / freedom).ln_1p()).exp()
            / (freedom * std::f64::consts::PI).sqrt()
    };
    for _ in 0..4 {
        t += (two_sided(t, freedom) / 2.0 - (1.0 - chance)) / density(t);
    }
    t.is_finite().then_some(t)
}

/// Number, mean and variance (n - 1) of some values. What is no further from the mean than `rounding` does not vary.
fn moments(values: &[f64], rounding: f64) -> Option<(f64, f64, f64)> {
    let n = values.len() as f64;
    let mean = values.iter().sum::<f64>() / n;
    let off = |v: f64| if (v - mean).abs() <= rounding { 0.0 } else { v - mean };
    let square: f64 = values.iter().map(|v| off(*v).powi(2)).sum();
    (values.len() >= 2).then(|| (n, mean, square / (n - 1.0)))
}

/// The difference of two groups that may vary differently (B. L. Welch, "The generalization of 'Student's' problem", *Biometrika* 34, 1947). `unit` is the step
/// in which the values come, 0 where they come in none: its variance of unit² / 12 is the least that they have. With fewer than three values on a side, or where
/// no side varies at all, nothing is said but the difference.
pub fn independent(a: &[f64], b: &[f64], unit: f64) -> Option<Difference> {
    let mean = |v: &[f64]| v.iter().sum::<f64>() / v.len() as f64;
    if a.is_empty() || b.is_empty() {
        return None;
    }
    let unsaid = Difference { value: mean(b) - mean(a), half: None, p: None, freedom: None };
    let off = rounding(a.iter().chain(b).copied());
    let (Some((na, _, va)), Some((nb, _, vb))) = (moments(a, off), moments(b, off)) else {
        return Some(unsaid);
    };
    let least = unit * unit / 12.0;
    let (ea, eb) = (va.max(least) / na, vb.max(least) / nb);
    if a.len().min(b.len()) < ENOUGH || ea + eb <= 0.0 {
        return Some(unsaid);
    }
    let freedom = (ea + eb).powi(2) / (ea * ea / (na - 1.0) + eb * eb / (nb - 1.0));
    Some(said(unsaid.value, (ea + eb).sqrt(), freedom))
}

/// The difference of pairs: each value of `b` belongs to the one of `a` at its place (Student, "The probable error of a mean", *Biometrika* 6, 1908).
pub fn paired(a: &[f64], b: &[f64], unit: f64) -> Option<Difference> {
    let differences: Vec<f64> = a.iter().zip(b).map(|(a, b)| b - a).collect();
    let n = differences.len();
    let value = differences.iter().sum::<f64>() / n.max(1) as f64;
    let unsaid = Difference { value, half: None, p: None, freedom: None };
    if n == 0 || a.len() != b.len() {
        return None;
    }
    let Some((n, _, variance)) = moments(&differences, rounding(a.iter().chain(b).copied())) else {
        return Some(unsaid);
    };
    let error = (variance.max(unit * unit / 6.0) / n).sqrt();
    if differences.len() < ENOUGH || error <= 0.0 {
        return Some(unsaid);
    }
    Some(said(value, error, n - 1.0))
}

/// The difference from a figure that is given, such as one that is claimed.
pub fn against(a: f64, b: &[f64], unit: f64) -> Option<Difference> {
    paired(&vec![a; b.len()], b, unit / std::f64::consts::SQRT_2)
}

fn said(value: f64, error: f64, freedom: f64) -> Difference {
    Difference {
        value,
        half: quantile(0.975, freedom).map(|t| t * error),
        p: Some(two_sided(value / error, freedom)),
        freedom: Some(freedom),
    }
}

/// Chances corrected for how many there are (S. Holm, "A simple sequentially rejective multiple test procedure", *Scandinavian Journal of Statistics* 6, 1979): one
/// that is at most 0.05 then is wrong in one of 20 families at the most, whatever the figures have to do with each other.
pub fn holm(chances: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..chances.len()).collect();
    order.sort_by(|a, b| chances[*a].total_cmp(&chances[*b]));
    let mut corrected = vec![1.0; chances.len()];
    let mut highest: f64 = 0.0;
    for (k, &i) in order.iter().enumerate() {
        highest = highest.max(((chances.len() - k) as f64 * chances[i]).min(1.0));
        corrected[i] = highest;
    }
    corrected
}

/// Chance that a difference of so many standard deviations is established with `n` values on each side, at a level: the noncentral t distribution in its
/// approximation by the normal one (Abramowitz and Stegun 26.7.10).
pub fn power(n: usize, deviations: f64, level: f64) -> f64 {
    let freedom = 2.0 * (n as f64 - 1.0);
    let Some(t) = quantile(1.0 - level / 2.0, freedom) else { return 0.0 };
    let shift = deviations.abs() * (n as f64 / 2.0).sqrt();
    let z = (t * (1.0 - 1.0 / (4.0 * freedom)) - shift) / (1.0 + t * t / (2.0 * freedom)).sqrt();
    Normal::new(0.0, 1.0).map_or(0.0, |normal| 1.0 - normal.cdf(z))
}

/// Values on each side from which on a difference of so many standard deviations is established with a chance of `chance`, at a level; `None` where more than
/// 10,000 would be needed.
pub fn needed(deviations: f64, level: f64, chance: f64) -> Option<usize> {
    if !deviations.is_finite() || deviations == 0.0 || power(MOST, deviations, level) < chance {
        return None;
    }
    let (mut low, mut high) = (ENOUGH - 1, MOST);
    while high - low > 1 {
        let middle = usize::midpoint(low, high);
        if power(middle, deviations, level) >= chance { high = middle } else { low = middle }
    }
    Some(high)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantiles_and_chances_are_those_of_the_published_tables() {
        // t(0.975), Biometrika Tables for Statisticians, and for two degrees of freedom the closed form.
        for (freedom, t) in [
            (1.0, 12.706_204_736),
            (2.0, 4.302_652_730),
            (4.0, 2.776_445_105),
            (9.0, 2.262_157_163),
            (30.0, 2.042_272_456),
        ] {
            assert!(
                (quantile(0.975, freedom).unwrap() / t - 1.0).abs() < 1e-8,
                "{freedom}: {:?}",
                quantile(0.975, freedom)
            );
            assert!((two_sided(t, freedom) - 0.05).abs() < 1e-9);
        }
        // With one degree of freedom it is Cauchy's: P(|t| > x) = 1 - 2 atan(x) / π; far out as well.
        for x in [0.3, 1.0, 1e6] {
            let exact = 2.0 / std::f64::consts::PI * (1.0_f64 / x).atan();
            assert!((two_sided(x, 1.0) / exact - 1.0).abs() < 1e-9);
        }
    }

    #[test]
    fn two_groups_give_the_figures_of_a_worked_example() {
        // By hand: means 5 and 8, variances 2.5 and 10 (n = 5 each), so that the error is √2.5 and the freedom 6.25 / 1.0625.
        let a = [3.0, 4.0, 5.0, 6.0, 7.0];
        let b = [4.0, 6.0, 8.0, 10.0, 12.0];
        let d = independent(&a, &b, 0.0).unwrap();
        assert!((d.value - 3.0).abs() < 1e-12 && (d.freedom.unwrap() - 6.25 / 1.0625).abs() < 1e-12);
        let t = quantile(0.975, 6.25 / 1.0625).unwrap();
        assert!((d.half.unwrap() - t * 2.5_f64.sqrt()).abs() < 1e-12);
        // Pairs: differences 1 to 5, mean 3, variance 2.5.
        let d = paired(&a, &b, 0.0).unwrap();
        assert!(
            (d.value, d.freedom) == (3.0, Some(4.0))
                && (d.half.unwrap() - 2.776_445_105 * 0.5_f64.sqrt()).abs() < 1e-8
        );
        assert_eq!(independent(&a[..2], &b, 0.0).unwrap().p, None, "two are too few");
        assert_eq!(
            independent(&[5.0; 3], &[6.0; 3], 0.0).unwrap().p,
            None,
            "what does not vary is no repeat"
        );
        assert!(
            independent(&[50.0; 3], &[51.0; 3], 1.0).unwrap().p.is_some(),
            "whole degrees vary within themselves"
        );
    }

    #[test]
    fn holm_corrects_as_in_a_worked_example() {
        // Four chances: 4 × 0.005, 3 × 0.01, 2 × 0.03, and not less than before: 0.06.
        let corrected = holm(&[0.01, 0.04, 0.03, 0.005]);
        for (got, want) in corrected.iter().zip([0.03, 0.06, 0.06, 0.02]) {
            assert!((got - want).abs() < 1e-12, "{corrected:?}");
        }
    }

    #[test]
    fn the_number_that_is_needed_is_that_of_the_published_tables() {
        // J. Cohen, "Statistical Power Analysis for the Behavioral Sciences", 1988, table 2.4.1: two-sided at 0.05, power 0.80.
        for (deviations, n) in [(0.5, 64), (0.8, 26), (1.0, 17), (1.4, 9)] {
            let found = needed(deviations, 0.05, 0.8).unwrap();
            assert!(found.abs_diff(n) <= 1, "{deviations}: {found} instead of {n}");
        }
        assert_eq!(needed(0.0, 0.05, 0.8), None);
        assert_eq!(needed(1e-4, 0.05, 0.8), None);
    }
}
