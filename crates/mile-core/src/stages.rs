//! Lanes of a run side by side: what each drive did, and how warm it became, in each leg.

use crate::findings::Context;
use crate::trace::Trace;
use serde::{Deserialize, Serialize};

/// A leg of a run, on all of its lanes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Stage {
    /// Its name.
    pub leg: String,
    /// When it began on the first lane to begin it, seconds since the start of the run.
    pub start_s: f64,
    /// When it ended on the last lane, seconds.
    pub end_s: f64,
    /// What each lane did in it, in the order of the lanes.
    pub lanes: Vec<StageLane>,
}

/// What a lane did in a leg.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StageLane {
    /// Its name.
    pub lane: String,
    /// Mean rate while it had a load, MB/s; `None` where it had none.
    pub mean_mb_s: Option<f64>,
    /// Bytes that it moved.
    pub bytes: u64,
    /// Highest composite temperature, °C; `None` where none could be read, so for what follows.
    pub peak_c: Option<f64>,
    /// By how much that is below the limit from which the drive warns, K. Below zero where it is above.
    pub below_warn_c: Option<f64>,
    /// By how much that is below the critical limit, K.
    pub below_critical_c: Option<f64>,
}

/// A lane: its name, its trace, and what is known beside that.
pub type LaneTrace<'a> = (&'a str, &'a Trace, &'a Context);

/// The legs of lanes that ran at the same time, in the order in which they began.
pub fn stages(lanes: &[LaneTrace<'_>]) -> Vec<Stage> {
    let mut all: Vec<Stage> = Vec::new();
    for (_, trace, _) in lanes {
        for leg in trace.legs() {
            let (start, end) =
                (trace.start(leg.samples.start).secs(), trace.end(leg.samples.end.saturating_sub(1)).secs());
            match all.iter_mut().find(|s| s.leg == leg.name) {
                Some(stage) => {
                    (stage.start_s, stage.end_s) = (stage.start_s.min(start), stage.end_s.max(end))
                }
                None => {
                    all.push(Stage { leg: leg.name.clone(), start_s: start, end_s: end, lanes: Vec::new() })
                }
            }
        }
    }
    all.sort_by(|a, b| a.start_s.total_cmp(&b.start_s));
    for stage in &mut all {
        stage.lanes = lanes.iter().map(|lane| on_lane(&stage.leg, lane)).collect();
    }
    all
}

fn on_lane(leg: &str, (name, trace, context): &LaneTrace<'_>) -> StageLane {
    let stretches = || trace.legs().iter().filter(|l| l.name == leg).map(|l| l.samples.clone());
    let temps = stretches().filter_map(|s| trace.temp.extent(s.start, s.end));
    let peak = temps.map(|e| e.max).reduce(f64::max);
    let bytes = stretches().map(|s| trace.moved(s.end).0 - trace.moved(s.start).0).sum();
    let loaded = stretches().filter(|s| trace.moved(s.end) > trace.moved(s.start));
    let seconds: f64 =
        loaded.map(|s| trace.end(s.end.saturating_sub(1)).secs() - trace.start(s.start).secs()).sum();
    StageLane {
        lane: (*name).to_owned(),
        mean_mb_s: (seconds > 0.0).then(|| bytes as f64 / seconds / 1e6),
        bytes,
        peak_c: peak,
        below_warn_c: context.warn.zip(peak).map(|(limit, peak)| limit.0 - peak),
        below_critical_c: context.critical.zip(peak).map(|(limit, peak)| limit.0 - peak),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::{Op, Sample};
    use crate::units::{Bytes, Celsius, Nanos};

    fn trace(legs: &[(&str, u64, u64, f64)]) -> Trace {
        let mut trace = Trace::new();
        let mut at = 0;
        for (name, seconds, mb_s, temp) in legs {
            for _ in 0..*seconds {
                let sample = Sample {
                    start: Nanos(at * 1_000_000_000),
                    end: Nanos((at + 1) * 1_000_000_000),
                    op: if *mb_s > 0 { Op::Write } else { Op::Idle },
                    written: Bytes(mb_s * 1_000_000),
                    temp: (*temp > 0.0).then_some(Celsius(*temp)),
                    ..Sample::default()
                };
                trace.push(&sample, name);
                at += 1;
            }
        }
        trace
    }

    #[test]
    fn each_leg_has_its_rate_and_its_peak_on_each_lane_and_what_is_not_known_is_not_said() {
        // The lower lane waits in the middle of its load, and ends two seconds before the other.
        let upper = trace(&[("idle", 5, 0, 30.0), ("both", 10, 100, 71.0)]);
        let lower =
            trace(&[("idle", 5, 0, 0.0), ("both", 4, 200, 0.0), ("both", 2, 0, 0.0), ("both", 2, 50, 0.0)]);
        let (limits, none) = (
            Context { warn: Some(Celsius(70.0)), critical: Some(Celsius(85.0)), ..Context::default() },
            Context::default(),
        );
        let all = stages(&[("upper", &upper, &limits), ("lower", &lower, &none)]);
        assert_eq!(all.iter().map(|s| s.leg.as_str()).collect::<Vec<_>>(), ["idle", "both"]);
        let both = &all[1];
        assert_eq!((both.start_s, both.end_s), (5.0, 15.0));
        let (up, low) = (&both.lanes[0], &both.lanes[1]);
        assert_eq!((up.mean_mb_s, up.peak_c), (Some(100.0), Some(71.0)));
        assert_eq!((up.below_warn_c, up.below_critical_c), (Some(-1.0), Some(14.0)));
        assert_eq!((low.mean_mb_s, low.bytes), (Some(150.0), 900_000_000), "while it had a load");
        assert_eq!((low.peak_c, low.below_warn_c), (None, None));
        assert_eq!((all[0].lanes[0].mean_mb_s, all[0].lanes[0].peak_c), (None, Some(30.0)));
    }
}
