//! How evenly a leg ran: its first tenth against its last, its spread, and its worst moments.

use crate::plateaus::Stretch;
use crate::trace::{Trace, TraceLeg};
use crate::units::Rate;
use serde::{Deserialize, Serialize};

/// How far from its plateau a rate still counts as on it.
const ON_PLATEAU: f64 = 0.05;

/// How evenly a leg ran. Rates are MB/s.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Consistency {
    /// Mean rate of the first tenth of its time.
    pub first_tenth_mb_s: f64,
    /// Mean rate of the last tenth of its time.
    pub last_tenth_mb_s: f64,
    /// Standard deviation of the rates of its samples over their mean, each weighted by its time, percent.
    pub variation_pct: f64,
    /// Share of its time within 5 % of the mean of its plateau, percent.
    pub on_plateau_pct: f64,
    /// Lowest mean rate in one second, or in one sample where that is longer.
    pub worst_second_mb_s: f64,
    /// Lowest mean rate in ten seconds; `None` for a leg that is shorter.
    pub worst_ten_seconds_mb_s: Option<f64>,
}

/// How a leg began and ended, and its worst second, MB/s.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ends {
    /// Mean rate of the first tenth of its time.
    pub first_tenth_mb_s: f64,
    /// Mean rate of the last tenth of its time.
    pub last_tenth_mb_s: f64,
    /// Lowest mean rate in one second, or in one sample where that is longer.
    pub worst_second_mb_s: f64,
}

/// How a leg began and ended; `None` where no time passed.
pub fn ends(trace: &Trace, leg: &TraceLeg) -> Option<Ends> {
    let (start, end) =
        (trace.start(leg.samples.start).secs(), trace.end(leg.samples.end.checked_sub(1)?).secs());
    let tenth = (end - start) / 10.0;
    let rate =
        |from: f64, to: f64| (bytes_at(trace, leg, to) - bytes_at(trace, leg, from)) / (to - from) / 1e6;
    (tenth > 0.0).then(|| Ends {
        first_tenth_mb_s: rate(start, start + tenth),
        last_tenth_mb_s: rate(end - tenth, end),
        worst_second_mb_s: worst(trace, leg, 1.0),
    })
}

/// How evenly a leg ran, with its stretches; `None` where no time passed, and where it is one sample.
pub fn consistency(trace: &Trace, leg: &TraceLeg, stretches: &[Stretch]) -> Option<Consistency> {
    let range = leg.samples.clone();
    if range.len() < 2 {
        return None;
    }
    let (start, end) = (trace.start(range.start).secs(), trace.end(range.end.checked_sub(1)?).secs());
    let whole = trace.mean_rate(range.clone())?.mb_s();
    let ends = ends(trace, leg)?;
    let (mut square, mut on, mut time) = (0.0, 0.0, 0.0);
    for s in stretches {
        for i in s.samples.clone() {
            let Some(r) = trace.rate.get(i) else { continue };
            let seconds = trace.end(i).since(trace.start(i)).secs();
            time += seconds;
            square += seconds * (r - whole).powi(2);
            on += if (r - s.mean.mb_s()).abs() <= ON_PLATEAU * s.mean.mb_s() { seconds } else { 0.0 };
        }
    }
    (time > 0.0).then(|| Consistency {
        first_tenth_mb_s: ends.first_tenth_mb_s,
        last_tenth_mb_s: ends.last_tenth_mb_s,
        variation_pct: 100.0 * (square / time).sqrt() / whole.max(1e-9),
        on_plateau_pct: 100.0 * on / time,
        worst_second_mb_s: ends.worst_second_mb_s,
        worst_ten_seconds_mb_s: (end - start >= 10.0).then(|| worst(trace, leg, 10.0)),
    })
}

/// Bytes moved by a time within a leg, even within its samples.
fn bytes_at(trace: &Trace, leg: &TraceLeg, at: f64) -> f64 {
    let time = crate::units::Nanos::from_secs(at);
    let i = trace.index_at_time(time).clamp(leg.samples.start, leg.samples.end - 1);
    let (start, end) = (trace.start(i).secs(), trace.end(i).secs());
    let (before, behind) = (trace.moved(i).0 as f64, trace.moved(i + 1).0 as f64);
    before + (behind - before) * ((at - start) / (end - start).max(1e-12)).clamp(0.0, 1.0)
}

/// Lowest mean rate of whole samples that together last at least `seconds`, MB/s.
fn worst(trace: &Trace, leg: &TraceLeg, seconds: f64) -> f64 {
    let mut from = leg.samples.start;
    let mut lowest = f64::INFINITY;
    for i in leg.samples.clone() {
        let end = trace.end(i).secs();
        // The shortest run of samples up to this one that is long enough. Half a percent less is as long: intervals vary.
        while from < i && end - trace.start(from + 1).secs() >= 0.995 * seconds {
            from += 1;
        }
        let length = end - trace.start(from).secs();
        if length >= 0.995 * seconds {
            lowest = lowest.min((trace.moved(i + 1).0 - trace.moved(from).0) as f64 / length / 1e6);
        }
    }
    if lowest.is_finite() { lowest } else { trace.mean_rate(leg.samples.clone()).map_or(0.0, Rate::mb_s) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plateaus::{Settings, plateaus};
    use crate::sample::Sample;
    use crate::units::{Bytes, Nanos};

    /// 100 s at 1,000 MB/s in quarters of a second, falling to 500 at 50 s, with one second at 100 MB/s from 20 s on.
    #[test]
    fn a_leg_made_by_hand_gives_its_figures() {
        let rate = |t: f64| match t {
            t if (20.0..21.0).contains(&t) => 100.0,
            t if t < 50.0 => 1000.0,
            _ => 500.0,
        };
        let samples: Vec<Sample> = (0..400_u64)
            .map(|i| Sample {
                start: Nanos(i * 250_000_000),
                end: Nanos((i + 1) * 250_000_000),
                written: Bytes((rate(i as f64 * 0.25) * 250_000.0) as u64),
                ..Sample::default()
            })
            .collect();
        let trace = Trace::of(&samples, &["soak".into()]);
        let leg = &trace.legs()[0];
        let cut = plateaus(&trace, leg.samples.clone(), &Settings::default());
        assert_eq!(cut.edges.len(), 1);
        let found = consistency(&trace, leg, &cut.stretches).unwrap();
        assert!(
            (found.first_tenth_mb_s - 1000.0).abs() < 1e-6 && (found.last_tenth_mb_s - 500.0).abs() < 1e-6
        );
        assert!((found.worst_second_mb_s - 100.0).abs() < 1e-6, "{found:?}");
        // One second at 100 and nine at 1,000 are 910; behind the fall ten seconds are 500.
        assert!((found.worst_ten_seconds_mb_s.unwrap() - 500.0).abs() < 1e-6);
        assert!((found.on_plateau_pct - 99.0).abs() < 0.1, "{found:?}");
        // By the two heights: mean 741, variance (49 · 259² + 641² + 50 · 241²) / 100.
        let sd = ((49.0 * 259.0_f64.powi(2) + 641.0_f64.powi(2) + 50.0 * 241.0_f64.powi(2)) / 100.0).sqrt();
        assert!((found.variation_pct - 100.0 * sd / 741.0).abs() < 0.01, "{found:?}");
    }
}
