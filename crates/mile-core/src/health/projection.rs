//! When a drive will have reached its rated endurance, 100 percent of its rated life, or its spare threshold.
//!
//! What is written in a day is taken as a sum of parts that have nothing to do with each other, with a mean and a scatter that stay as they are. Such a sum is, over many days,
//! a Brownian motion with drift, and the moment at which it first comes to a level follows the inverse Gaussian distribution (Schrödinger, "Zur Theorie der Fall- und Steigversuche an Teilchen mit
//! Brownscher Bewegung", 1915; Folks and Chhikara, "The inverse Gaussian distribution and its statistical application", 1978). The interval holds both what is not known of the drift, and what the days to come will scatter by.

use super::{Counter, DAY, History, Series};
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, StudentsT};

/// Parts that a history is cut into to see how much it scatters.
const PARTS: f64 = 24.0;
/// Fewest parts, and fewest days, from which something is said.
const FEWEST: usize = 6;
const SHORTEST_DAYS: f64 = 14.0;
/// Steps of whole percent from which something is said.
const FEWEST_STEPS: usize = 6;

/// What is projected.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Limit {
    /// The bytes that the drive is rated for are written.
    Endurance,
    /// The drive's own estimate of the life used is at 100 %.
    Life,
    /// The spare blocks are down at their threshold.
    Spare,
}

impl Limit {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Endurance => "rated endurance written",
            Self::Life => "life used 100 %",
            Self::Spare => "spare at its threshold",
        }
    }
}

/// When a limit will be reached.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Projection {
    /// Which limit.
    pub limit: Limit,
    /// Where it lies: bytes, or percent.
    pub at_value: f64,
    /// How it stands now: bytes, or percent.
    pub now: f64,
    /// What a day adds (of the spare: takes), mean over the history.
    pub per_day: Option<f64>,
    /// What a day adds most often: the median of the slopes between moments (Theil, 1950; Sen, 1968). One large transfer does not move it.
    pub typical_per_day: Option<f64>,
    /// When it will be reached at the mean, seconds since 1970-01-01 UTC.
    pub at: Option<i64>,
    /// Not before this, with 97.5 %.
    pub earliest: Option<i64>,
    /// Not after this, with 97.5 %; `None` where that cannot be said.
    pub latest: Option<i64>,
    /// When it will be reached at the rate that was given.
    pub at_given: Option<i64>,
    /// Why the history does not say when.
    pub why_not: Option<String>,
}

/// What is given beside a history.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Given {
    /// Rated endurance, bytes.
    pub endurance: Option<u64>,
    /// Bytes written in a day from now on.
    pub per_day: Option<f64>,
}

/// Drift and scatter of what a counter did.
#[derive(Clone, Copy, Debug)]
struct Drift {
    /// Mean of a day.
    mean: f64,
    /// Variance of a day.
    variance: f64,
    /// Days that were seen.
    days: f64,
    /// Parts that the scatter is from.
    parts: usize,
}

/// All projections that there is anything to say of.
pub fn projections(history: &History, given: &Given) -> Vec<Projection> {
    let Some(end) = history.snapshots().last().map(|s| s.at) else { return Vec::new() };
    let newest = |c: Counter| history.snapshots().iter().rev().find_map(|s| s.get(c));
    let mut all = Vec::new();
    let to_days = |at: i64| at as f64 / DAY;
    let mut written = history.series(Counter::WrittenBytes);
    if let (Some(endurance), Some(now)) = (given.endurance.filter(|e| *e > 0), newest(Counter::WrittenBytes))
    {
        let anew = written.len() > 1;
        let written = written.pop().unwrap_or_default();
        // What was counted, with every time that the counter was full.
        let now = written.last().map_or(now as f64, |l| l.1);
        let found = if anew {
            Err("how much was written in all is not known, as its counter went back or may have been full unseen".to_owned())
        } else {
            drift(&parts(&written), None).and_then(Drift::enough)
        };
        let mut one = project(Limit::Endurance, (endurance as f64, now), found, to_days(end));
        one.typical_per_day = typical(&written);
        one.at_given = reached_at(given.per_day.filter(|_| !anew), endurance as f64 - now, end);
        all.push(one);
    }
    if let Some(now) = newest(Counter::UsedPct) {
        let used = stretch(history, Counter::UsedPct);
        let steps = steps(&used);
        // At a step it is known how much it is; since then a part of a percent may have gone by.
        let (from, at) = steps.last().map_or((to_days(end), now as f64), |s| *s);
        let found = if steps.len() > FEWEST_STEPS {
            drift(&parts(&steps), Some(&used)).and_then(Drift::enough)
        } else {
            Err(format!("fewer than {} steps of a whole percent were seen", FEWEST_STEPS + 1))
        };
        let mut one = project(Limit::Life, (100.0, at), found, from);
        one.now = now as f64;
        // Of the writes of a day: what a percent has taken so far.
        let of_a_percent = per_percent(history);
        let per_day = given.per_day.zip(of_a_percent).map(|(day, percent)| day / percent);
        one.at_given = reached_at(per_day, 100.0 - now as f64, end);
        all.push(one.from(end));
    }
    if let (Some(now), Some(threshold)) = (newest(Counter::SparePct), newest(Counter::SpareThresholdPct)) {
        let left: Series = stretch(history, Counter::SparePct).iter().map(|(t, v)| (*t, 100.0 - v)).collect();
        let steps = steps(&left);
        let (from, at) = steps.last().map_or((to_days(end), 100.0 - now as f64), |s| *s);
        let found = match steps.len() {
            0 => Err("the spare has not fallen in this history".to_owned()),
            1 => Err("the spare has fallen only once in this history".to_owned()),
            n if n <= FEWEST_STEPS => Err(format!("the spare has fallen only {n} times in this history")),
            _ => drift(&parts(&steps), Some(&left)).and_then(Drift::enough),
        };
        let mut one = project(Limit::Spare, (100.0 - threshold as f64, at), found, from);
        (one.now, one.at_value) = (now as f64, threshold as f64);
        all.push(one.from(end));
    }
    all
}

impl Projection {
    /// Nothing is reached before now.
    fn from(mut self, now: i64) -> Self {
        for at in [&mut self.at, &mut self.earliest, &mut self.latest].into_iter().flatten() {
            *at = (*at).max(now);
        }
        self
    }
}

/// When a rate comes to the end of what is left. `None` where nothing is left, or it never does.
fn reached_at(per_day: Option<f64>, left: f64, now: i64) -> Option<i64> {
    let per_day = per_day.filter(|d| *d > 0.0)?;
    let days = (left / per_day).max(0.0);
    (days < 1e6).then(|| now + (days * DAY) as i64)
}

/// Bytes that a percent of life used has taken, over whole steps of it.
fn per_percent(history: &History) -> Option<f64> {
    let both: Vec<(f64, f64)> = history
        .snapshots()
        .iter()
        .filter_map(|s| Some((s.get(Counter::UsedPct)? as f64, s.get(Counter::WrittenBytes)? as f64)))
        .collect();
    // From the first step to the last.
    let steps: Vec<(f64, f64)> =
        both.windows(2).filter(|w| w[1].0 > w[0].0).map(|w| (w[1].0, (w[0].1 + w[1].1) / 2.0)).collect();
    let (first, last) = (steps.first()?, steps.last()?);
    (last.0 > first.0 && last.1 > first.1).then(|| (last.1 - first.1) / (last.0 - first.0))
}

/// The newest stretch of a counter without a step back.
fn stretch(history: &History, counter: Counter) -> Series {
    history.series(counter).pop().unwrap_or_default()
}

/// The moments at which a counter of whole numbers came to a new one: half way between the two snapshots.
fn steps(series: &Series) -> Series {
    series.windows(2).filter(|w| w[1].1 > w[0].1).map(|w| ((w[0].0 + w[1].0) / 2.0, w[1].1)).collect()
}

/// Parts of a series, of about equal length and with whole snapshots.
fn parts(series: &Series) -> Series {
    let (Some(first), Some(last)) = (series.first(), series.last()) else { return Vec::new() };
    let least = (last.0 - first.0) / PARTS;
    let mut kept: Series = vec![*first];
    for point in &series[1..] {
        if kept.last().is_some_and(|k| point.0 - k.0 >= least) {
            kept.push(*point);
        }
    }
    // What is left over belongs to the last part.
    if let Some(end) = kept.last_mut().filter(|k| k.0 < last.0) {
        *end = *last;
    }
    kept
}

/// `seen` is the series that steps were seen in: half way between two of its moments, a step is known to a part of the time between them only.
fn drift(points: &Series, seen: Option<&Series>) -> Result<Drift, String> {
    let n = points.len().saturating_sub(1);
    let (Some(first), Some(last)) = (points.first(), points.last()) else {
        return Err("the drive does not tell it".into());
    };
    let days = last.0 - first.0;
    if n < 2 || days <= 0.0 {
        return Err("there are too few snapshots".into());
    }
    let mean = (last.1 - first.1) / days;
    let off = |w: &[(f64, f64)]| {
        let time = (w[1].0 - w[0].0).max(1e-6);
        (w[1].1 - w[0].1 - mean * time).powi(2) / time
    };
    let width = |at: f64| {
        let behind = seen.map_or(0, |s| s.partition_point(|p| p.0 < at));
        seen.and_then(|s| Some(s.get(behind)?.0 - s.get(behind.checked_sub(1)?)?.0)).unwrap_or(0.0)
    };
    // The variance of a moment anywhere in a stretch of time is a twelfth of its square.
    let timing = |w: &[(f64, f64)]| {
        mean * mean * (width(w[0].0).powi(2) + width(w[1].0).powi(2)) / 12.0 / (w[1].0 - w[0].0).max(1e-6)
    };
    let variance = (points.windows(2).map(off).sum::<f64>() / (n - 1) as f64
        - points.windows(2).map(timing).sum::<f64>() / n as f64)
        .max(0.0);
    Ok(Drift { mean, variance, days, parts: n })
}

impl Drift {
    fn enough(self) -> Result<Self, String> {
        if self.days < SHORTEST_DAYS || self.parts < FEWEST {
            return Err(format!(
                "{:.0} days with {} parts are too short a history; {SHORTEST_DAYS:.0} days with {FEWEST} are needed",
                self.days, self.parts
            ));
        }
        Ok(self)
    }
}

/// When a level is reached that is `left` away: at the mean, and the ends of the interval, in days. All T for which the level is no further from the drift than t times the standard
/// deviation of what is not known: (left - mean T)² = t² variance (T + T² / days).
fn reached(left: f64, d: &Drift) -> Option<(f64, f64, Option<f64>)> {
    if d.mean <= 0.0 {
        return None;
    }
    let t = StudentsT::new(0.0, 1.0, (d.parts - 1) as f64).ok()?.inverse_cdf(0.975);
    let k = t * t * d.variance;
    let (a, b, c) = (d.mean * d.mean - k / d.days, -(2.0 * left * d.mean + k), left * left);
    let root = (b * b - 4.0 * a * c).max(0.0).sqrt();
    // The smaller root, without the loss of digits of a difference.
    let low = 2.0 * c / (-b + root);
    let high = (a > 0.0).then(|| (-b + root) / (2.0 * a));
    Some((left / d.mean, low, high))
}

fn project(limit: Limit, (at_value, now): (f64, f64), found: Result<Drift, String>, from: f64) -> Projection {
    let mut one = Projection {
        limit,
        at_value,
        now,
        per_day: None,
        typical_per_day: None,
        at: None,
        earliest: None,
        latest: None,
        at_given: None,
        why_not: None,
    };
    let left = at_value - now;
    if left <= 0.0 {
        one.why_not = Some("it is reached already".into());
        return one;
    }
    let drift = match found {
        Ok(drift) => drift,
        Err(why) => {
            one.why_not = Some(why);
            return one;
        }
    };
    one.per_day = Some(drift.mean);
    let Some((at, low, high)) = reached(left, &drift) else {
        one.why_not = Some("nothing was added in this history".into());
        return one;
    };
    // Beyond a thousand years a date says nothing.
    let date = |days: f64| (days < 365_250.0).then_some(((from + days) * DAY) as i64);
    (one.at, one.earliest, one.latest) = (date(at), date(low), high.and_then(date));
    one
}

/// The median of the slopes between the parts of a series, of a day.
fn typical(series: &Series) -> Option<f64> {
    let points = parts(series);
    let mut slopes: Vec<f64> = Vec::new();
    for (i, a) in points.iter().enumerate() {
        slopes.extend(points[i + 1..].iter().filter(|b| b.0 > a.0).map(|b| (b.1 - a.1) / (b.0 - a.0)));
    }
    slopes.sort_by(f64::total_cmp);
    slopes.get(slopes.len() / 2).copied()
}
