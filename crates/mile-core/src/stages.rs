//! Lanes of a run side by side: what each drive did, and how warm it became, in each leg.

use crate::channel::Series;
use crate::context::Context;
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
    /// Energy that the drive took, Wh, where a channel of this lane has its power.
    pub energy_wh: Option<f64>,
    /// The same for each TB that was written, Wh.
    pub wh_per_tb: Option<f64>,
    /// Mean and highest reading of each channel of this lane, and of the run.
    pub channels: Vec<ChannelFigures>,
}

/// What a channel showed in a leg.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ChannelFigures {
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// Mean of its readings.
    pub mean: f64,
    /// The highest.
    pub max: f64,
}

/// A lane: its name, its trace, and what is known beside that.
#[derive(Clone, Copy, Debug)]
pub struct LaneTrace<'a> {
    /// Its name.
    pub name: &'a str,
    /// Its samples.
    pub trace: &'a Trace,
    /// What is known beside them.
    pub context: &'a Context,
    /// The channels of the run.
    pub series: &'a [Series],
    /// Its number: the channels of other lanes are not its own.
    pub number: u32,
}

impl LaneTrace<'_> {
    pub(crate) fn series(&self) -> impl Iterator<Item = &Series> {
        self.series.iter().filter(|s| s.channel.of.is_none_or(|of| of == self.number))
    }
}

/// The legs of lanes that ran at the same time, in the order in which they began.
pub fn stages(lanes: &[LaneTrace<'_>]) -> Vec<Stage> {
    let mut all: Vec<Stage> = Vec::new();
    for trace in lanes.iter().map(|l| l.trace) {
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

fn on_lane(leg: &str, lane: &LaneTrace<'_>) -> StageLane {
    let LaneTrace { name, trace, context, .. } = *lane;
    let stretches = || trace.legs().iter().filter(|l| l.name == leg).map(|l| l.samples.clone());
    let temps = stretches().filter_map(|s| trace.temp.extent(s.start, s.end));
    let peak = temps.map(|e| e.max).reduce(f64::max);
    let bytes = stretches().map(|s| trace.moved(s.end).0 - trace.moved(s.start).0).sum();
    let loaded = stretches().filter(|s| trace.moved(s.end) > trace.moved(s.start));
    let seconds: f64 =
        loaded.map(|s| trace.end(s.end.saturating_sub(1)).secs() - trace.start(s.start).secs()).sum();
    let time = |s: &std::ops::Range<usize>| (trace.start(s.start), trace.end(s.end.saturating_sub(1)));
    let power = lane.series().find(|s| s.channel.unit == "W" && s.channel.of == Some(lane.number));
    let energies: Option<Vec<f64>> = power.map(|p| {
        let of = |s: std::ops::Range<usize>| p.integral(time(&s).0, time(&s).1);
        stretches().filter_map(of).collect()
    });
    let energy = energies.filter(|e| !e.is_empty()).map(|e| e.iter().sum::<f64>() / 3600.0);
    let written: u64 = stretches().map(|s| trace.totals(s.end).0.0 - trace.totals(s.start).0.0).sum();
    let figures = |series: &Series| {
        let values = || stretches().flat_map(|s| series.within(time(&s).0, time(&s).1)).map(|r| r.value);
        let count = values().count();
        (count > 0).then(|| ChannelFigures {
            name: series.channel.name.clone(),
            unit: series.channel.unit.clone(),
            mean: values().sum::<f64>() / count as f64,
            max: values().fold(f64::NEG_INFINITY, f64::max),
        })
    };
    StageLane {
        lane: name.to_owned(),
        mean_mb_s: (seconds > 0.0).then(|| bytes as f64 / seconds / 1e6),
        bytes,
        peak_c: peak,
        below_warn_c: context.warn.zip(peak).map(|(limit, peak)| limit.0 - peak),
        below_critical_c: context.critical.zip(peak).map(|(limit, peak)| limit.0 - peak),
        energy_wh: energy,
        wh_per_tb: energy.filter(|_| written > 0).map(|e| e / (written as f64 / 1e12)),
        channels: lane.series().filter_map(figures).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::channel::{Channel, Reading};
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
        let channel = Channel { name: "supply".into(), unit: "W".into(), of: Some(0), ..Channel::default() };
        let reading = |s: u64| Reading { at: Nanos(s * 1_000_000_000), value: if s > 5 { 7.2 } else { 1.2 } };
        let series = [Series { channel, readings: (1..=15).map(reading).collect() }];
        let lane = |name, trace, context, number| LaneTrace { name, trace, context, series: &series, number };
        let all = stages(&[lane("upper", &upper, &limits, 0), lane("lower", &lower, &none, 1)]);
        assert_eq!(all.iter().map(|s| s.leg.as_str()).collect::<Vec<_>>(), ["idle", "both"]);
        let both = &all[1];
        assert_eq!((both.start_s, both.end_s), (5.0, 15.0));
        let (up, low) = (&both.lanes[0], &both.lanes[1]);
        assert_eq!((up.mean_mb_s, up.peak_c), (Some(100.0), Some(71.0)));
        assert_eq!((up.below_warn_c, up.below_critical_c), (Some(-1.0), Some(14.0)));
        // 7.2 W for 10 s are 0.02 Wh, and a gigabyte was written; the other's power is not its own.
        assert!((up.energy_wh.unwrap() - 0.02).abs() < 1e-9 && (up.wh_per_tb.unwrap() - 20.0).abs() < 1e-6);
        assert_eq!((low.energy_wh, low.channels.len(), up.channels[0].max), (None, 0, 7.2));
        assert_eq!((low.mean_mb_s, low.bytes), (Some(150.0), 900_000_000), "while it had a load");
        assert_eq!((low.peak_c, low.below_warn_c), (None, None));
        assert_eq!((all[0].lanes[0].mean_mb_s, all[0].lanes[0].peak_c), (None, Some(30.0)));
    }
}
