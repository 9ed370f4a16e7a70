//! Robust statistics.

use statrs::function::erf::erf_inv;

/// Values that are enough to know a quantile of a long series: of so many, a median is known to 0.5 % of a standard deviation.
const ENOUGH: usize = 1 << 16;

/// Every how many values a series of `n` is looked at for a quantile, so that a run of a day takes no more memory for it than one of an hour.
pub(crate) fn stride(n: usize) -> usize {
    n.div_ceil(ENOUGH).max(1)
}

/// The median of `values` (reordered in place), the mean of the middle two for an even count; `None` for none.
pub fn median(values: &mut [f64]) -> Option<f64> {
    let n = values.len();
    if n == 0 {
        return None;
    }
    let (below, upper, _) = values.select_nth_unstable_by(n / 2, f64::total_cmp);
    let upper = *upper;
    if n % 2 == 1 {
        return Some(upper);
    }
    let lower = below.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    Some(f64::midpoint(lower, upper))
}

/// Standard deviation of a normal distribution that has the same median absolute deviation as `values`.
/// The factor is 1 / Φ⁻¹(3/4) (Rousseeuw and Croux, "Alternatives to the median absolute deviation", 1993, §1).
pub fn mad_sigma(values: &mut [f64]) -> Option<f64> {
    let centre = median(values)?;
    values.iter_mut().for_each(|v| *v = (*v - centre).abs());
    Some(1.482_602_218_505_602 * median(values)?)
}

/// Standard deviation of the noise in a series whose level may jump or drift: the MAD of first differences, over √2
/// as the difference of two independent values has twice the variance. Where values come in units so large that a quarter of the differences are
/// none, what makes that many of normal ones less than half a unit counts if it is more; and rounding alone has a standard deviation of unit/√12. Both
/// depend on how many are none, and not on how large the others are: a third of them may be dips.
pub fn difference_sigma(values: &[f64]) -> Option<f64> {
    lag_sigma(&mut lag_differences(values, 1))
}

/// Differences of values that lie `lag` apart.
pub(crate) fn lag_differences(values: &[f64], lag: usize) -> Vec<f64> {
    values.windows(lag + 1).step_by(stride(values.len())).map(|w| w[lag] - w[0]).collect()
}

/// As [`difference_sigma`], of differences that are given.
pub(crate) fn lag_sigma(differences: &mut [f64]) -> Option<f64> {
    let n = differences.len();
    let mut some: Vec<f64> = differences.iter().map(|d| d.abs()).filter(|d| *d >= 1e-12).collect();
    let none = n - some.len();
    let sigma = mad_sigma(differences)? / std::f64::consts::SQRT_2;
    // Where nine in ten are none, the others are steps of the level.
    if 4 * none <= n || 10 * some.len() < n {
        return Some(sigma);
    }
    // A unit is what most differences have at the least.
    let decile = some.len() / 10;
    let (_, unit, _) = some.select_nth_unstable_by(decile, f64::total_cmp);
    // P(|d| < unit/2) = erf(unit / (2 √2 √2 σ)) for the difference of two values of standard deviation σ.
    let within = erf_inv(none as f64 / n as f64);
    Some(sigma.max(*unit / (4.0 * within)).max(*unit / 12.0_f64.sqrt()))
}

/// Two-sided 95 % quantile of Student's t with so many degrees of freedom, at least 1.
pub fn student(freedom: f64) -> f64 {
    use statrs::distribution::{ContinuousCDF, StudentsT};
    StudentsT::new(0.0, 1.0, freedom.max(1.0)).map_or(1.96, |t| t.inverse_cdf(0.975))
}

/// What means of many values may differ by where they are the same but for the rounding of sums: as a share of the largest of them.
const ROUNDING: f64 = 1e-9;

/// The difference up to which these values, each a mean or a sum of many, are the same.
pub fn rounding(values: impl IntoIterator<Item = f64>) -> f64 {
    ROUNDING * values.into_iter().fold(0.0, |most: f64, v| most.max(v.abs()))
}

/// Mean and standard deviation (n - 1) of `values`; the deviation of a single value is 0. `None` for none.
pub fn mean_sd(values: &[f64]) -> Option<(f64, f64)> {
    mean_sd_of(|| values.iter().copied())
}

/// As [`mean_sd`], of values that are gone through twice.
pub(crate) fn mean_sd_of<I: Iterator<Item = f64>>(values: impl Fn() -> I) -> Option<(f64, f64)> {
    let (count, sum) = values().fold((0_usize, 0.0), |(n, sum), v| (n + 1, sum + v));
    if count == 0 {
        return None;
    }
    let mean = sum / count as f64;
    let squares: f64 = values().map(|v| (v - mean).powi(2)).sum();
    Some((mean, if count > 1 { (squares / (count as f64 - 1.0)).sqrt() } else { 0.0 }))
}

/// Running median of odd width `2 * half + 1`; towards the ends the window keeps its width and stops being centred, so
/// that a spike there is taken out too. A step between two levels stays where it is.
pub fn running_median(values: &[f64], half: usize) -> Vec<f64> {
    let n = values.len();
    let width = (2 * half + 1).min(n);
    let mut window = Vec::with_capacity(width);
    (0..n)
        .map(|i| {
            let start = i.saturating_sub(half).min(n - width);
            window.clear();
            window.extend_from_slice(&values[start..start + width]);
            median(&mut window).unwrap_or(values[i])
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn medians_of_odd_even_and_empty() {
        assert_eq!(median(&mut []), None);
        assert_eq!(median(&mut [3.0, 1.0, 2.0]), Some(2.0));
        assert_eq!(median(&mut [4.0, 1.0, 3.0, 2.0]), Some(2.5));
    }

    /// Consecutive integers 1..=9 have a MAD of 2 exactly.
    #[test]
    fn mad_of_a_known_series() {
        let mut values: Vec<f64> = (1..=9).map(f64::from).collect();
        assert!((mad_sigma(&mut values).unwrap() - 2.0 * 1.482_602_218_505_602).abs() < 1e-12);
    }

    #[test]
    fn running_median_keeps_a_step_and_drops_a_spike() {
        let mut values = vec![1.0; 20];
        values.extend(vec![5.0; 20]);
        let stepped = running_median(&values, 3);
        assert_eq!(stepped, values);
        values[10] = 100.0;
        assert_eq!(running_median(&values, 3), stepped);
    }

    /// Normal noise in units of a tenth to three times its standard deviation, a third of the values far below: the estimate stays near the standard
    /// deviation that rounding and noise have together.
    #[test]
    fn the_noise_of_values_in_units_is_that_of_most_of_them() {
        let mut bits = 88_172_645_463_325_252_u64;
        let mut unit = move || {
            bits ^= bits << 13;
            bits ^= bits >> 7;
            bits ^= bits << 17;
            (bits >> 11) as f64 / (1_u64 << 53) as f64
        };
        for units in [0.1, 0.5, 1.0, 2.0, 3.0] {
            for dips in [0, 24, 12] {
                let values: Vec<f64> = (0..4000)
                    .map(|i| {
                        let normal = (0..12).map(|_| unit()).sum::<f64>() - 6.0;
                        // Two of each so many.
                        let dip = if dips > 0 && i % dips < 2 { -40.0 } else { 0.0 };
                        ((normal + dip) / units).round() * units
                    })
                    .collect();
                let truth = (1.0 + units * units / 12.0_f64).sqrt();
                for lag in [1, 9] {
                    let found = lag_sigma(&mut lag_differences(&values, lag)).unwrap();
                    let most = if dips == 12 { 2.3 } else { 2.0 };
                    assert!(
                        (0.6..most).contains(&(found / truth)),
                        "unit {units}, dips {dips}, lag {lag}: {found}"
                    );
                }
            }
        }
        // A level without noise, and a step.
        let steps: Vec<f64> = (0..400).map(|i| if i < 200 { 5.0 } else { 4.0 }).collect();
        assert_eq!(difference_sigma(&steps), Some(0.0));
    }
}
