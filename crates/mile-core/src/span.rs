//! What random access gains where it stays on a part of the drive.
//!
//! Legs of a sweep named `span`, which read at random, are put together by share: time for each operation with an interval over repeats, and the share below
//! which no further cut gains [`GAIN`]. Where it gains at all, a seek law is fitted. For two addresses drawn independently and
//! uniformly from a stretch of length `s`, the distance `d` has the density 2 (s - d) / s², so that E √d = 8/15 √s; the mean time is then
//! `fixed + root · 8/15 √s`, a straight line in √s. `fixed` holds what does not depend on the way: settling, half a rotation, the transfer.

mod rotation;

pub use rotation::Rotation;

use crate::latencies::{Bin, LegLatencies};
use crate::leg_name::LegName;
use crate::repeats::Figure;
use crate::sample::Op;
use crate::stats;
use crate::trace::Trace;
use serde::{Deserialize, Serialize};

/// Gain of a cut, as a share of the time, below which it is not worth it.
pub const GAIN: f64 = 0.05;
/// Shares, percent, up to which the time of a seek goes with the root of the way: beyond a third of the arm's way it moves at its highest speed.
const ROOT_UP_TO: f64 = 35.0;
/// Shares that a seek law needs at the least.
const LEAST_SHARES: usize = 3;

/// What was found for one share.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SpanShare {
    /// Percent of the drive that was read from.
    pub share_pct: f64,
    /// `front`, or `end`.
    pub from: String,
    /// Repeats.
    pub n: usize,
    /// Time for each operation, µs, mean over repeats: the latency where one is in flight.
    pub mean_us: f64,
    /// Lower bound of that (95 %); `None` with fewer than three repeats.
    pub low_us: Option<f64>,
    /// Upper bound.
    pub high_us: Option<f64>,
    /// 99th percentile of latency, µs: the mean of those of the samples.
    pub p99_us: Option<f64>,
    /// Operations a second.
    pub iops: f64,
}

/// How long the arm takes, from the shares.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct SeekLaw {
    /// What does not depend on the way, µs: settling, half a rotation, the transfer.
    pub fixed_us: f64,
    /// Times the root of the way as a share of the drive, µs.
    pub root_us: f64,
    /// Largest difference of a share from that, percent.
    pub worst_pct: f64,
}

/// What random access gains on a part of the drive.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SpanFound {
    /// The largest share first; those from the front before the others.
    pub shares: Vec<SpanShare>,
    /// The largest share from which no smaller one gains 5 % or more; `None` where each cut gains.
    pub enough_share_pct: Option<f64>,
    /// Whether all shares are within 5 %.
    pub is_flat: bool,
    /// Where a part gains: how long the arm takes.
    pub seek: Option<SeekLaw>,
    /// Rotations a minute, where the latencies are those of something that turns.
    pub rotation_per_min: Option<f64>,
    /// Lower bound of that (95 %).
    #[serde(default)]
    pub rotation_low_per_min: Option<f64>,
    /// Upper bound.
    #[serde(default)]
    pub rotation_high_per_min: Option<f64>,
    /// Legs that stayed at the front, and the share of each, 0 to 1.
    #[serde(skip)]
    front_legs: Vec<(String, f64)>,
}

/// What the legs of a sweep named `span` show; `None` where there are fewer than two shares. `latencies` are those of its legs, where they were kept.
pub fn span(trace: &Trace, latencies: &[LegLatencies]) -> Option<SpanFound> {
    let highest = trace.offset.extent(0, trace.len())?.max;
    /// Share, whether at the end, and the seconds for each operation and the percentiles of its repeats.
    type Group = (f64, bool, Vec<f64>, Vec<f64>);
    let mut groups: Vec<Group> = Vec::new();
    let mut front_legs = Vec::new();
    for leg in trace.legs().iter().filter(|l| l.op == Op::Read) {
        let Some(share) = LegName::read(&leg.name).value("span") else { continue };
        let seconds: f64 = leg.samples.clone().map(|i| trace.end(i).since(trace.start(i)).secs()).sum();
        let ops: u64 = leg.samples.clone().map(|i| trace.ops(i)).sum();
        if ops == 0 || seconds <= 0.0 {
            continue;
        }
        let lowest = trace.offset.extent(leg.samples.start, leg.samples.end).map_or(0.0, |e| e.min);
        let at_end = share < 0.9 && lowest > 0.5 * (1.0 - share) * highest;
        let p99 = trace.latency.p99.extent(leg.samples.start, leg.samples.end).map(|e| e.mean);
        let each = seconds / ops as f64;
        if !at_end {
            front_legs.push((leg.name.clone(), share));
        }
        match groups.iter_mut().find(|g| (g.0 - share).abs() < 1e-9 && g.1 == at_end) {
            Some(group) => {
                group.2.push(each);
                group.3.extend(p99);
            }
            None => groups.push((share, at_end, vec![each], p99.into_iter().collect())),
        }
    }
    groups.sort_by(|a, b| a.1.cmp(&b.1).then(b.0.total_cmp(&a.0)));
    let shares: Vec<SpanShare> = groups
        .iter()
        .filter_map(|(share, at_end, each, p99)| {
            let us: Vec<f64> = each.iter().map(|s| s * 1e6).collect();
            let figure = Figure::of(&us)?;
            Some(SpanShare {
                share_pct: 100.0 * share,
                from: if *at_end { "end" } else { "front" }.into(),
                n: figure.n,
                mean_us: figure.mean,
                low_us: figure.low,
                high_us: figure.high,
                p99_us: stats::mean_sd(p99).map(|m| m.0),
                iops: 1e6 / figure.mean,
            })
        })
        .collect();
    if shares.len() < 2 {
        return None;
    }
    let front: Vec<&SpanShare> = shares.iter().filter(|s| s.from == "front").collect();
    let (least, most) =
        shares.iter().fold((f64::MAX, 0.0_f64), |(l, m), s| (l.min(s.mean_us), m.max(s.mean_us)));
    let is_flat = least > (1.0 - GAIN) * most;
    // Against the best of all smaller ones: a cut that gains nothing may be followed by one that does.
    let best_below = |i: usize| front[i + 1..].iter().map(|s| s.mean_us).fold(f64::MAX, f64::min);
    let enough = (0..front.len().saturating_sub(1))
        .find(|i| best_below(*i) > (1.0 - GAIN) * front[*i].mean_us)
        .map(|i| front[i].share_pct);
    let mut found = SpanFound {
        enough_share_pct: enough,
        seek: if is_flat { None } else { seek(&front) },
        is_flat,
        shares,
        rotation_per_min: None,
        rotation_low_per_min: None,
        rotation_high_per_min: None,
        front_legs,
    };
    found.add_rotation(latencies);
    Some(found)
}

/// A share of the drive: `100 %`, `0.1 %`.
pub fn percent(share_pct: f64) -> String {
    format!("{} %", (share_pct * 1000.0).round() / 1000.0)
}

/// The straight line in the root of the share, by least squares.
fn seek(front: &[&SpanShare]) -> Option<SeekLaw> {
    let points: Vec<(f64, f64)> = front
        .iter()
        .filter(|s| s.share_pct <= ROOT_UP_TO)
        .map(|s| (8.0 / 15.0 * (s.share_pct / 100.0).sqrt(), s.mean_us))
        .collect();
    if points.len() < LEAST_SHARES {
        return None;
    }
    let n = points.len() as f64;
    let (mx, my) = points.iter().fold((0.0, 0.0), |m, p| (m.0 + p.0 / n, m.1 + p.1 / n));
    let (xy, xx) =
        points.iter().fold((0.0, 0.0), |s, p| (s.0 + (p.0 - mx) * (p.1 - my), s.1 + (p.0 - mx).powi(2)));
    let root_us = xy / xx;
    let fixed_us = my - root_us * mx;
    let off = |p: &(f64, f64)| 100.0 * (p.1 / (fixed_us + root_us * p.0) - 1.0).abs();
    let worst_pct = points.iter().map(off).fold(0.0, f64::max);
    // An arm that matters less than a cut that is worth it is none.
    let is_arm = root_us * 8.0 / 15.0 * (ROOT_UP_TO / 100.0).sqrt() > GAIN * fixed_us;
    (is_arm && fixed_us > 0.0).then_some(SeekLaw { fixed_us, root_us, worst_pct })
}

impl SpanFound {
    /// Looks for the speed of rotation in the latencies of the legs from the front, up to 35 % of the drive.
    pub fn add_rotation(&mut self, latencies: &[LegLatencies]) {
        let Some(law) = self.seek else { return };
        let mut groups: Vec<(f64, Vec<&[Bin]>)> = Vec::new();
        for leg in latencies {
            let Some((_, share)) = self.front_legs.iter().find(|f| f.0 == leg.leg) else { continue };
            if 100.0 * share > ROOT_UP_TO {
                continue;
            }
            match groups.iter_mut().find(|g| (g.0 - share).abs() < 1e-9) {
                Some(group) => group.1.push(&leg.bins),
                None => groups.push((*share, vec![&leg.bins])),
            }
        }
        let groups: Vec<rotation::Group<'_>> =
            groups.into_iter().map(|(share, bins)| rotation::Group { share, bins }).collect();
        if let Some(found) = rotation::rotation(&groups, law.root_us) {
            self.rotation_per_min = Some(found.per_min);
            (self.rotation_low_per_min, self.rotation_high_per_min) = (Some(found.low), Some(found.high));
        }
    }

    /// What a part of the drive gains, in sentences.
    pub fn sentences(&self) -> Vec<String> {
        let mut all = Vec::new();
        if self.is_flat {
            all.push(
                "The shares differ by less than 5 %: where random access goes makes no difference."
                    .to_owned(),
            );
            return all;
        }
        let front: Vec<&SpanShare> = self.shares.iter().filter(|s| s.from == "front").collect();
        if let [first, .., last] = front.as_slice() {
            all.push(format!(
                "On {} of the drive an operation takes {:.0} % less time than on {}.",
                percent(last.share_pct),
                100.0 * (1.0 - last.mean_us / first.mean_us),
                percent(first.share_pct)
            ));
        }
        if let Some(enough) = self.enough_share_pct {
            all.push(format!("Below {} of the drive no further cut gains 5 %.", percent(enough)));
        }
        if let Some(law) = &self.seek {
            all.push(format!(
                "Access takes {:.2} ms, and {:.2} ms times the root of the way as a share of the drive (within {:.1} %, up to {ROOT_UP_TO} % of it).",
                law.fixed_us / 1e3,
                law.root_us / 1e3,
                law.worst_pct
            ));
        }
        if let (Some(turns), Some(low), Some(high)) =
            (self.rotation_per_min, self.rotation_low_per_min, self.rotation_high_per_min)
        {
            all.push(format!(
                "It turns {turns:.0} times a minute ({low:.0} to {high:.0}), as the latencies of single reads show."
            ));
        }
        all
    }
}
