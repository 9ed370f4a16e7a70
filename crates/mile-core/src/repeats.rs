//! What repeats of a figure show: mean, spread, and a 95 % interval by Student's t distribution (W. S. Gosset, "The probable error of
//! a mean", Biometrika 6, 1908). With fewer than three repeats no interval is given and no difference is called established.

use crate::stats::mean_sd;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, StudentsT};

/// Least repeats from which anything is said beyond the mean.
pub const ENOUGH: usize = 3;

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
                (mean, Some(sd))
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
}
