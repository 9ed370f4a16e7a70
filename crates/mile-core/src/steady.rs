//! Steady state by rounds, as in SNIA's Solid State Storage Performance Test Specification: over five consecutive rounds the
//! figure stays within 20 % of their average from the smallest to the largest, and the line of best fit through them changes by at
//! most 10 % of the average.

use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Nanos, Rate};
use serde::{Deserialize, Serialize};

/// Rounds that are looked at together.
pub const WINDOW: usize = 5;
/// Largest difference between rounds, share of their average.
const EXCURSION: f64 = 0.20;
/// Largest change of the line of best fit over them, share of their average.
const SLOPE: f64 = 0.10;
/// Length of a round where no course says another, seconds.
const ROUND_S: f64 = 60.0;
/// Most rounds that are kept of a leg.
const MOST: usize = 200;

/// Five consecutive rounds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rounds {
    /// Their average.
    pub mean: f64,
    /// Largest less smallest, share of the average.
    pub excursion: f64,
    /// Change of the line of best fit from the first to the last, share of the average.
    pub slope: f64,
}

impl Rounds {
    /// Of the last five of `rates`; `None` with fewer, or where nothing was moved.
    pub fn last(rates: &[f64]) -> Option<Self> {
        let last = rates.get(rates.len().checked_sub(WINDOW)?..)?;
        let mean = last.iter().sum::<f64>() / WINDOW as f64;
        if mean <= 0.0 {
            return None;
        }
        let (low, high) = last.iter().fold((f64::MAX, f64::MIN), |(l, h), r| (l.min(*r), h.max(*r)));
        // Least squares over 0 to 4: the middle is 2, and the squares around it add up to 10.
        let slope = last.iter().enumerate().map(|(i, r)| (i as f64 - 2.0) * (r - mean)).sum::<f64>() / 10.0;
        Some(Self { mean, excursion: (high - low) / mean, slope: slope * (WINDOW - 1) as f64 / mean })
    }

    /// Whether that is steady state.
    pub fn is_steady(&self) -> bool {
        self.excursion <= EXCURSION && self.slope.abs() <= SLOPE
    }
}

/// Steady state of a leg.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Steady {
    /// Name of the leg.
    pub leg: String,
    /// Length of a round, seconds.
    pub round_s: f64,
    /// Rate of each round, MB/s.
    pub rounds_mb_s: Vec<f64>,
    /// End of the first five rounds that are steady, seconds since the leg began; `None` where none are.
    pub reached_s: Option<f64>,
    /// Average of those five, or of the last five, MB/s.
    pub mean_mb_s: f64,
    /// Largest less smallest of them, percent of the average.
    pub excursion_pct: f64,
    /// Change of the line of best fit over them, percent of the average.
    pub slope_pct: f64,
}

/// Steady state of all legs that last at least five rounds.
pub fn steady(trace: &Trace) -> Vec<Steady> {
    trace.legs().iter().filter(|l| l.op != Op::Idle).filter_map(|leg| of_leg(trace, leg)).collect()
}

fn of_leg(trace: &Trace, leg: &TraceLeg) -> Option<Steady> {
    let (first, end) = (leg.samples.start, leg.samples.end);
    let start = trace.start(first).secs();
    let length = trace.end(end.checked_sub(1)?).secs() - start;
    let round_s = ROUND_S * (length / ROUND_S / MOST as f64).ceil().max(1.0);
    let count = (length / round_s + 1e-6) as usize;
    if count < WINDOW {
        return None;
    }
    let mut rates = Vec::with_capacity(count);
    let mut reached = None;
    let mut from = first;
    for i in 1..=count {
        let to = trace.index_at_time(Nanos::from_secs(start + i as f64 * round_s)).clamp(from + 1, end);
        rates.push(trace.mean_rate(from..to).map_or(0.0, Rate::mb_s));
        from = to;
        if let Some(rounds) = Rounds::last(&rates).filter(|r| reached.is_none() && r.is_steady()) {
            reached = Some((i, rounds));
        }
        if from >= end {
            break;
        }
    }
    let rounds = reached.map(|r| r.1).or_else(|| Rounds::last(&rates))?;
    Some(Steady {
        leg: leg.name.clone(),
        round_s,
        reached_s: reached.map(|r| r.0 as f64 * round_s),
        mean_mb_s: rounds.mean,
        excursion_pct: 100.0 * rounds.excursion,
        slope_pct: 100.0 * rounds.slope,
        rounds_mb_s: rates,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_limits_are_those_of_the_specification() {
        let of = |rates: [f64; 5]| Rounds::last(&rates).unwrap();
        assert!(of([100.0; 5]).is_steady());
        // Straight from 95 to 105: a slope of exactly 10 %, which still holds; a little more does not.
        assert!((of([95.0, 97.5, 100.0, 102.5, 105.0]).slope - 0.10).abs() < 1e-12);
        assert!(of([95.1, 97.5, 100.0, 102.5, 104.9]).is_steady());
        assert!(!of([94.9, 97.5, 100.0, 102.5, 105.1]).is_steady());
        // 89 to 111 without a slope: 22 %.
        assert!(!of([111.0, 89.0, 100.0, 89.0, 111.0]).is_steady());
        assert!(of([109.0, 91.0, 100.0, 91.0, 109.0]).is_steady());
        assert_eq!(Rounds::last(&[1.0; 4]), None);
        assert_eq!(Rounds::last(&[0.0; 9]), None);
    }
}
