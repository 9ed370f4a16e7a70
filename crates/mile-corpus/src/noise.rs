//! Laws of the noise on a rate.

use rand::{Rng, RngExt};
use rand_distr::{Distribution, Exp1, StandardNormal, StudentT};

/// The shape of single values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// Normal.
    Normal,
    /// Exponential downwards: a rate that mostly is near its best.
    Skewed,
    /// Student's t with three degrees of freedom.
    Heavy,
    /// Normal, with one value in a hundred and fifty far down.
    Outliers,
}

/// A law: a relative standard deviation, a shape, and how much of itself it keeps from value to value.
#[derive(Clone, Copy, Debug)]
pub struct Noise {
    /// Standard deviation, share of the rate.
    pub sigma: f64,
    /// Shape of single values.
    pub shape: Shape,
    /// Correlation from one value to the next.
    pub keep: f64,
    now: f64,
}

impl Noise {
    /// A law drawn at random: 0.3 to 6 %, correlated over up to several samples or up to two seconds.
    pub fn draw(rng: &mut impl Rng, interval: f64) -> Self {
        let shape = [Shape::Normal, Shape::Skewed, Shape::Heavy, Shape::Outliers][rng.random_range(0..4)];
        let sigma = 0.003 * 20_f64.powf(rng.random::<f64>());
        let keep = match rng.random_range(0..4) {
            0 => 0.0,
            1 => 0.4,
            2 => 0.75,
            _ => (-interval / rng.random_range(0.1..2.0)).exp().min(0.97),
        };
        Self { sigma, shape, keep, now: 0.0 }
    }

    /// What the standard deviation of a mean of `n` values shrinks from, by the square root of `n`.
    pub fn long_run(&self) -> f64 {
        self.sigma * ((1.0 + self.keep) / (1.0 - self.keep)).sqrt()
    }

    /// The next factor on the rate.
    pub fn factor(&mut self, rng: &mut impl Rng) -> f64 {
        let normal: f64 = StandardNormal.sample(rng);
        let own = match self.shape {
            Shape::Normal | Shape::Outliers => normal,
            Shape::Skewed => {
                let e: f64 = Exp1.sample(rng);
                1.0 - e
            }
            Shape::Heavy => {
                let t: f64 = StudentT::new(3.0).map_or(normal, |d| d.sample(rng));
                t / 3_f64.sqrt()
            }
        };
        self.now = self.keep * self.now + (1.0 - self.keep * self.keep).sqrt() * own;
        let mut factor = 1.0 + self.sigma * self.now;
        if self.shape == Shape::Outliers && rng.random_bool(1.0 / 150.0) {
            factor *= rng.random_range(0.1..0.7);
        }
        factor.max(0.02)
    }
}
