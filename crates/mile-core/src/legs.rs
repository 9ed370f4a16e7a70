//! A row of figures for each leg: what it moved, how fast, how long operations took, how warm the drive became.

use crate::channel::Series;
use crate::consistency;
use crate::figures::LegFigures;
use crate::files::{FileFigures, FileStep};
use crate::latencies::LegLatencies;
use crate::leg_name::LegName;
use crate::repeats::{Figure, Nested};
use crate::sample::Op;
use crate::stages::LaneTrace;
use crate::stats::rounding;
use crate::trace::{Trace, TraceLeg};
use crate::units::Nanos;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, StudentsT};
use std::collections::{HashMap, VecDeque};
use std::ops::Range;

/// Repeats from which a trend over them is tested for.
const ENOUGH_FOR_A_TREND: usize = 4;
/// Chance of a trend among repeats that have none, at which it is called one.
const TREND: f64 = 0.01;
/// Largest operation, bytes on the mean, of a leg whose operations per second are a figure of their own.
const SMALL: f64 = 65_536.0;

/// The figures of one leg. What could not be had is `None`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LegRow {
    /// Name of its lane; empty where there is one.
    pub lane: String,
    /// Name of the leg.
    pub leg: String,
    /// What it did.
    pub op: Op,
    /// When it began, seconds since the start of the run.
    pub start_s: f64,
    /// Time under load; of a rest, its time. Pauses and interruptions are not counted.
    pub seconds: f64,
    /// Bytes moved.
    pub bytes: u64,
    /// Bytes over time, MB/s.
    pub mean_mb_s: Option<f64>,
    /// Operations that came back.
    pub operations: u64,
    /// Operations over time, 1/s.
    pub iops: Option<f64>,
    /// Half of the operations took no longer, µs; this and the next two from the histogram of all operations of the leg.
    pub p50_us: Option<f64>,
    /// 99 of 100 operations took no longer, µs.
    pub p99_us: Option<f64>,
    /// 999 of 1,000 operations took no longer, µs.
    pub p999_us: Option<f64>,
    /// Slowest operation, µs.
    pub slowest_us: Option<f64>,
    /// Mean rate of the first tenth of its time, MB/s; this and the next two only of a leg that was not interrupted.
    pub first_tenth_mb_s: Option<f64>,
    /// Mean rate of the last tenth of its time, MB/s.
    pub last_tenth_mb_s: Option<f64>,
    /// Lowest mean rate in one second, or in one sample where that is longer, MB/s.
    pub worst_second_mb_s: Option<f64>,
    /// The write cache as this leg found it, bytes: only of a leg that followed a rest and whose first fall is put down to the cache.
    pub cache_bytes: Option<u64>,
    /// Lowest composite temperature, °C.
    pub min_c: Option<f64>,
    /// Its mean over the time of the leg, °C.
    pub mean_c: Option<f64>,
    /// Highest, °C.
    pub max_c: Option<f64>,
    /// Mean ambient temperature, °C.
    pub ambient_c: Option<f64>,
    /// By how much the highest temperature is below the limit from which the drive warns, K. Below zero where it is above.
    pub below_warn_c: Option<f64>,
    /// By how much it is below the critical limit, K.
    pub below_critical_c: Option<f64>,
    /// Share of the drive in use when it began, percent.
    pub fill_pct: Option<f64>,
    /// Energy, Wh, where a channel of the lane has its power.
    pub energy_wh: Option<f64>,
    /// Energy for each GB moved, J.
    pub j_per_gb: Option<f64>,
    /// What it did with whole files, where it did anything with them.
    pub files: Option<FileFigures>,
    /// Operations that failed.
    pub errors: u64,
    /// The channels of the lane, and those of the run.
    pub channels: Vec<ChannelRow>,
}

/// What a channel showed in a leg.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ChannelRow {
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// Lowest reading.
    pub min: f64,
    /// Mean of its readings.
    pub mean: f64,
    /// Highest reading.
    pub max: f64,
}

/// A figure of a leg by its name and unit.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct FigureName {
    /// `rate`, `p99`, `peak temperature`, …
    pub figure: String,
    /// `MB/s`, `µs`, `°C`, …
    pub unit: String,
}

impl FigureName {
    fn new(figure: impl Into<String>, unit: &str) -> Self {
        Self { figure: figure.into(), unit: unit.to_owned() }
    }

    /// Whether it cannot be below 0: a rate, a time, or a number of something. What a channel reads may be anything.
    pub fn is_amount(&self) -> bool {
        ["MB/s", "1/s", "µs", "GB", "J/GB"].contains(&self.unit.as_str())
    }
}

impl LegRow {
    /// The name of the leg without its repeats, behind that of its lane: what repeats and other runs share.
    pub fn shared_name(&self) -> String {
        let leg = LegName::read(&self.leg).without_repeats();
        if self.lane.is_empty() { leg } else { format!("{}: {leg}", self.lane) }
    }

    /// Mean power, W, where a channel of the lane has it.
    pub fn mean_w(&self) -> Option<f64> {
        self.energy_wh.filter(|_| self.seconds > 0.0).map(|wh| 3600.0 * wh / self.seconds)
    }

    /// The figures that are worth holding against others, those that are known. Temperatures are given at this ambient, °C, where that of the leg is
    /// known, as the rise above ambient is what a drive and its cooling do.
    pub fn figures(&self, reference_ambient: Option<f64>) -> Vec<(FigureName, f64)> {
        let shift = reference_ambient.zip(self.ambient_c).map_or(0.0, |(to, from)| to - from);
        let small = self.bytes as f64 / self.operations.max(1) as f64 <= SMALL;
        let mut all: Vec<(FigureName, f64)> = [
            ("rate", "MB/s", self.mean_mb_s),
            ("operations", "1/s", self.iops.filter(|_| small)),
            ("worst second", "MB/s", self.worst_second_mb_s),
            ("p50", "µs", self.p50_us),
            ("p99", "µs", self.p99_us),
            ("p99.9", "µs", self.p999_us),
            ("slowest", "µs", self.slowest_us),
            ("cache", "GB", self.cache_bytes.map(|b| b as f64 / 1e9)),
            ("mean temperature", "°C", self.mean_c.map(|c| c + shift)),
            ("peak temperature", "°C", self.max_c.map(|c| c + shift)),
            ("energy", "J/GB", self.j_per_gb),
        ]
        .into_iter()
        .filter_map(|(name, unit, value)| Some((FigureName::new(name, unit), value?)))
        .collect();
        if let Some(files) = &self.files {
            all.extend(files.files_per_s().map(|n| (FigureName::new("files", "1/s"), n)));
            for step in &files.steps {
                let name = |share: &str| FigureName::new(format!("{} {share}", step.step.word()), "µs");
                // The data of a file is told by its rate.
                if !matches!(step.step, FileStep::Write | FileStep::Read) {
                    all.extend([(name("p50"), step.p50_us), (name("p99"), step.p99_us)]);
                }
            }
        }
        for c in &self.channels {
            let shift = if c.unit == "°C" && c.name != "ambient" { shift } else { 0.0 };
            all.push((FigureName::new(format!("{} mean", c.name), &c.unit), c.mean + shift));
            all.push((FigureName::new(format!("{} peak", c.name), &c.unit), c.max + shift));
        }
        all
    }
}

/// The legs of a lane, a row each, in the order of time. The parts of a leg that was paused or interrupted are one row.
pub fn leg_rows(lane: &LaneTrace<'_>, figures: &[LegFigures]) -> Vec<LegRow> {
    let trace = lane.trace;
    let mut groups: Vec<Vec<usize>> = Vec::new();
    for (i, leg) in trace.legs().iter().enumerate() {
        match groups.last_mut().filter(|g| trace.legs()[g[0]].name == leg.name) {
            Some(group) => group.push(i),
            None => groups.push(vec![i]),
        }
    }
    // Of several legs of one name, the histograms are in the order of the legs.
    let mut files: HashMap<&str, VecDeque<&FileFigures>> = HashMap::new();
    for one in &lane.context.files {
        files.entry(&one.leg).or_default().push_back(one);
    }
    let mut histograms: HashMap<&str, VecDeque<&LegLatencies>> = HashMap::new();
    for one in &lane.context.latencies {
        histograms.entry(&one.leg).or_default().push_back(one);
    }
    groups
        .iter()
        .map(|group| {
            let name = trace.legs()[group[0]].name.as_str();
            let histogram = histograms.get_mut(name).and_then(VecDeque::pop_front);
            let files = files.get_mut(name).and_then(one_leg);
            LegRow { files, ..row(lane, figures, group, histogram) }
        })
        .collect()
}

/// What the first of some legs of one name did with files: its parts, where it was interrupted, are one.
fn one_leg(parts: &mut VecDeque<&FileFigures>) -> Option<FileFigures> {
    let mut whole = parts.pop_front()?.clone();
    while parts.front().is_some_and(|next| next.before > 0) {
        let Some(next) = parts.pop_front() else { break };
        whole = whole.and_after(next.clone());
    }
    Some(whole)
}

fn row(
    lane: &LaneTrace<'_>,
    figures: &[LegFigures],
    group: &[usize],
    histogram: Option<&LegLatencies>,
) -> LegRow {
    let LaneTrace { trace, context, .. } = *lane;
    let legs: Vec<&TraceLeg> = group.iter().map(|i| &trace.legs()[*i]).collect();
    let loaded: Vec<&TraceLeg> = legs.iter().copied().filter(|l| l.op != Op::Idle).collect();
    let own = if loaded.is_empty() { &legs } else { &loaded };
    let first = own[0];
    let time = |r: &Range<usize>| (trace.start(r.start), trace.end(r.end.saturating_sub(1)));
    let sum = |of: &dyn Fn(&Range<usize>) -> f64| own.iter().map(|l| of(&l.samples)).sum::<f64>();
    let seconds = sum(&|r| time(r).1.since(time(r).0).secs());
    let bytes: u64 = own.iter().map(|l| trace.moved(l.samples.end).0 - trace.moved(l.samples.start).0).sum();
    let operations: u64 = own.iter().flat_map(|l| l.samples.clone()).map(|i| trace.ops(i)).sum();
    let per_second = |n: f64| (seconds > 0.0 && bytes > 0).then(|| n / seconds);
    let extents = || own.iter().filter_map(|l| trace.temp.extent(l.samples.start, l.samples.end));
    let max_c = extents().map(|e| e.max).reduce(f64::max);
    let slowest = own.iter().filter_map(|l| trace.latency.slowest.extent(l.samples.start, l.samples.end));
    let even = if loaded.len() == 1 { consistency::ends(trace, first) } else { None };
    let energy_j = power(lane).and_then(|p| {
        let all: Vec<f64> =
            own.iter().filter_map(|l| p.integral(time(&l.samples).0, time(&l.samples).1)).collect();
        (all.len() == own.len()).then(|| all.iter().sum::<f64>())
    });
    LegRow {
        lane: lane.name.to_owned(),
        leg: first.name.clone(),
        op: first.op,
        start_s: trace.start(first.samples.start).secs(),
        seconds,
        bytes,
        mean_mb_s: per_second(bytes as f64 / 1e6),
        operations,
        iops: per_second(operations as f64).filter(|n| *n > 0.0),
        p50_us: histogram.and_then(|h| percentile(h, 0.5)),
        p99_us: histogram.and_then(|h| percentile(h, 0.99)),
        p999_us: histogram.and_then(|h| percentile(h, 0.999)),
        slowest_us: slowest.map(|e| e.max).reduce(f64::max),
        first_tenth_mb_s: even.map(|e| e.first_tenth_mb_s),
        last_tenth_mb_s: even.map(|e| e.last_tenth_mb_s),
        worst_second_mb_s: even.map(|e| e.worst_second_mb_s),
        cache_bytes: group.iter().find_map(|i| figures.get(*i)?.cache_bytes),
        min_c: extents().map(|e| e.min).reduce(f64::min),
        mean_c: mean(trace, own, |i| trace.temp.get(i)),
        max_c,
        ambient_c: mean(trace, own, |i| trace.ambient.get(i)),
        below_warn_c: context.warn.zip(max_c).map(|(limit, max)| limit.0 - max),
        below_critical_c: context.critical.zip(max_c).map(|(limit, max)| limit.0 - max),
        fill_pct: trace.fill.get(first.samples.start).map(|f| 100.0 * f),
        energy_wh: energy_j.map(|j| j / 3600.0),
        j_per_gb: energy_j.filter(|_| bytes > 0).map(|j| j / (bytes as f64 / 1e9)),
        files: None,
        errors: legs.iter().map(|l| trace.errors_in(&l.samples)).sum(),
        channels: lane.series().filter_map(|s| channel(s, own.iter().map(|l| time(&l.samples)))).collect(),
    }
}

/// The mean over time of what samples read, those without a reading left out.
fn mean(trace: &Trace, legs: &[&TraceLeg], of: impl Fn(usize) -> Option<f64>) -> Option<f64> {
    let (mut sum, mut time) = (0.0, 0.0);
    for i in legs.iter().flat_map(|l| l.samples.clone()) {
        if let Some(value) = of(i) {
            let seconds = trace.end(i).since(trace.start(i)).secs();
            (sum, time) = (sum + value * seconds, time + seconds);
        }
    }
    (time > 0.0).then(|| sum / time)
}

/// The channel that has the power of the lane.
fn power<'a>(lane: &LaneTrace<'a>) -> Option<&'a Series> {
    lane.series.iter().find(|s| s.channel.unit == "W" && s.channel.of == Some(lane.number))
}

fn channel(series: &Series, times: impl Iterator<Item = (Nanos, Nanos)>) -> Option<ChannelRow> {
    // A text is no number, and what the program itself notes is no reading.
    if !series.channel.labels.is_empty() || series.channel.source == crate::channel::Source::Runner {
        return None;
    }
    let values: Vec<f64> = times.flat_map(|(a, b)| series.within(a, b)).map(|r| r.value).collect();
    let min = values.iter().copied().reduce(f64::min)?;
    let max = values.iter().copied().reduce(f64::max)?;
    Some(ChannelRow {
        name: series.channel.name.clone(),
        unit: series.channel.unit.clone(),
        min,
        mean: values.iter().sum::<f64>() / values.len() as f64,
        max,
    })
}

/// The latency that a share of all operations does not exceed, µs: the upper end of the bin in which it lies. `None` where there are no operations.
pub fn percentile(of: &LegLatencies, share: f64) -> Option<f64> {
    let all: u64 = of.bins.iter().map(|b| b.count).sum();
    let rank = (share * all as f64).ceil().max(1.0) as u64;
    let mut below = 0;
    of.bins.iter().find_map(|b| {
        below += b.count;
        (below >= rank).then_some(b.to_us)
    })
}

/// One figure over the repeats of a leg.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Repeated {
    /// Name of the leg without its repeats.
    pub leg: String,
    /// The figure.
    #[serde(flatten)]
    pub name: FigureName,
    /// Number, mean, standard deviation, interval of the mean.
    #[serde(flatten)]
    pub figure: Figure,
    /// Largest less smallest, over the mean, percent; `None` for temperatures.
    pub spread_pct: Option<f64>,
    /// Change from one repeat to the next where they go one way, by a test: then their mean is the mean of nothing.
    pub trend: Option<f64>,
    /// Values that were measured. There are more than `n` where repeats within repeats count as one, by [`Nested`].
    #[serde(default)]
    pub values: usize,
}

impl Repeated {
    /// Whether not each value counts for itself.
    pub fn is_grouped(&self) -> bool {
        self.values > self.figure.n
    }
}

/// The figures of legs that were repeated, in the order in which the legs come first.
pub fn repeated(rows: &[LegRow]) -> Vec<Repeated> {
    let mut groups: Vec<(String, Vec<&LegRow>)> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    for row in rows {
        let name = row.shared_name();
        let place = *places.entry(name.clone()).or_insert(groups.len());
        match groups.get_mut(place) {
            Some(group) => group.1.push(row),
            None => groups.push((name, vec![row])),
        }
    }
    let mut all = Vec::new();
    for (leg, rows) in groups.into_iter().filter(|g| g.1.len() > 1) {
        let each: Vec<Vec<(FigureName, f64)>> = rows.iter().map(|r| r.figures(None)).collect();
        let mut names: Vec<&FigureName> = Vec::new();
        for (name, _) in each.iter().flatten() {
            if !names.contains(&name) {
                names.push(name);
            }
        }
        for name in names {
            let mut nested = Nested::default();
            for (row, figures) in rows.iter().zip(&each) {
                if let Some((_, value)) = figures.iter().find(|f| f.0 == *name) {
                    nested.push(LegName::read(&row.leg).repeats, *value);
                }
            }
            let (values, independent) = (nested.all(), nested.independent());
            let Some(figure) = Figure::of(&independent) else { continue };
            let figure = if name.is_amount() { figure.of_amount() } else { figure };
            let range = values.iter().copied().fold(f64::NEG_INFINITY, f64::max)
                - values.iter().copied().fold(f64::INFINITY, f64::min);
            let spread = (name.unit != "°C" && figure.mean != 0.0).then(|| 100.0 * range / figure.mean.abs());
            all.push(Repeated {
                leg: leg.clone(),
                name: name.clone(),
                figure,
                spread_pct: spread,
                trend: trend(&values),
                values: values.len(),
            });
        }
    }
    all
}

/// The change from each value to the next where values go one way: the slope of the least-squares line, where Student's test says that it is none by chance
/// in less than 1 of 100 cases (Draper and Smith, "Applied Regression Analysis", 3rd ed., 1998, 1.4). `None` where there are fewer than four.
pub fn trend(values: &[f64]) -> Option<f64> {
    let n = values.len();
    if n < ENOUGH_FOR_A_TREND {
        return None;
    }
    let middle = (n - 1) as f64 / 2.0;
    let mean = values.iter().sum::<f64>() / n as f64;
    let square: f64 = (0..n).map(|i| (i as f64 - middle).powi(2)).sum();
    let slope =
        values.iter().enumerate().map(|(i, v)| (i as f64 - middle) * (v - mean)).sum::<f64>() / square;
    let left: f64 =
        values.iter().enumerate().map(|(i, v)| (v - mean - slope * (i as f64 - middle)).powi(2)).sum();
    let error = (left / (n - 2) as f64 / square).sqrt();
    let most = StudentsT::new(0.0, 1.0, (n - 2) as f64).ok()?.inverse_cdf(1.0 - TREND / 2.0);
    // Values that are alike to their last digit have no trend.
    (slope.abs() > most * error && slope.abs() > rounding(values.iter().copied())).then_some(slope)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::channel::{Channel, Reading, Source};
    use crate::findings::{Context, findings};
    use crate::latencies::Bin;
    use crate::sample::Sample;
    use crate::units::{Bytes, Celsius};

    fn lane(repeats: &[(&str, f64, f64)]) -> (Trace, Context, Vec<Series>) {
        let (mut trace, mut at) = (Trace::new(), 0_u64);
        for (name, mb_s, temp) in repeats {
            for i in 0..20_u64 {
                let idle = *mb_s == 0.0;
                let rate = if i == 7 { 0.5 * mb_s } else { *mb_s };
                let sample = Sample {
                    start: Nanos(at * 1_000_000_000),
                    end: Nanos((at + 1) * 1_000_000_000),
                    op: if idle { Op::Idle } else { Op::Write },
                    written: Bytes((rate * 1e6) as u64),
                    ops: (rate * 1e6 / 4096.0) as u64,
                    temp: Some(Celsius(temp + if i == 19 { 2.0 } else { 0.0 })),
                    ambient: Some(Celsius(22.0)),
                    errors: u32::from(i == 3 && *mb_s > 350.0),
                    ..Sample::default()
                };
                trace.push(&sample, name);
                at += 1;
            }
        }
        let context = Context {
            warn: Some(Celsius(70.0)),
            latencies: vec![LegLatencies {
                leg: "w / repeat 1".into(),
                bins: vec![
                    Bin { from_us: 10.0, to_us: 11.0, count: 500 },
                    Bin { from_us: 20.0, to_us: 21.0, count: 489 },
                    Bin { from_us: 90.0, to_us: 91.0, count: 10 },
                    Bin { from_us: 800.0, to_us: 801.0, count: 1 },
                ],
            }],
            ..Context::default()
        };
        let channel = Channel {
            name: "supply".into(),
            unit: "W".into(),
            of: Some(0),
            source: Source::Instrument("meter".into()),
            ..Channel::default()
        };
        let readings = (1..=at).map(|s| Reading { at: Nanos(s * 1_000_000_000), value: 5.0 }).collect();
        (trace, context, vec![Series { channel, readings }])
    }

    #[test]
    fn each_leg_has_its_figures_and_what_is_not_known_is_not_said() {
        let (trace, context, series) =
            lane(&[("w / repeat 1", 400.0, 50.0), ("pause", 0.0, 40.0), ("w / repeat 2", 300.0, 48.0)]);
        let found = findings(&trace, &context);
        let of = LaneTrace { name: "", trace: &trace, context: &context, series: &series, number: 0 };
        let rows = leg_rows(&of, &found.legs);
        assert_eq!(rows.len(), 3);
        let (a, pause) = (&rows[0], &rows[1]);
        // 19 s at 400 MB/s and one at 200.
        assert_eq!((a.bytes, a.seconds, a.mean_mb_s), (7_800_000_000, 20.0, Some(390.0)));
        assert_eq!(
            (a.first_tenth_mb_s, a.last_tenth_mb_s, a.worst_second_mb_s),
            (Some(400.0), Some(400.0), Some(200.0))
        );
        // 500 of 1,000 are in the first bin, 989 in the first two: the 990th is in the third, and so is the 999th.
        assert_eq!((a.p50_us, a.p99_us, a.p999_us), (Some(11.0), Some(91.0), Some(91.0)));
        assert_eq!(
            (a.min_c, a.max_c, a.mean_c, a.below_warn_c),
            (Some(50.0), Some(52.0), Some(50.1), Some(18.0))
        );
        assert_eq!((a.errors, a.ambient_c, a.below_critical_c), (1, Some(22.0), None));
        // 5 W for 20 s are 100 J, over 7.8 GB.
        assert!(
            (a.energy_wh.unwrap() * 3600.0 - 100.0).abs() < 1e-6
                && (a.j_per_gb.unwrap() - 100.0 / 7.8).abs() < 1e-6
        );
        assert_eq!(
            (pause.op, pause.mean_mb_s, pause.iops, pause.bytes, pause.seconds),
            (Op::Idle, None, None, 0, 20.0)
        );
        assert_eq!((rows[2].p50_us, rows[2].slowest_us), (None, None));
        // At 25 °C ambient instead of 22.
        let peak = a.figures(Some(25.0)).into_iter().find(|f| f.0.figure == "peak temperature").unwrap();
        assert_eq!(peak.1, 55.0);
        let rate = repeated(&rows).into_iter().find(|r| r.name.figure == "rate").unwrap();
        assert_eq!((rate.leg.as_str(), rate.figure.n, rate.figure.low), ("w", 2, None));
        assert!(
            (rate.figure.mean - 341.25).abs() < 1e-9
                && (rate.spread_pct.unwrap() - 100.0 * 97.5 / 341.25).abs() < 1e-9
        );
    }

    #[test]
    fn a_trend_is_told_where_repeats_go_one_way_and_seldom_where_they_do_not() {
        assert!((trend(&[100.0, 98.1, 95.9, 94.0]).unwrap() + 2.02).abs() < 0.01);
        assert_eq!(trend(&[100.0, 98.0, 96.0]), None, "three are too few");
        assert_eq!(trend(&[100.0, 99.0, 101.0, 100.0, 99.5]), None);
        assert_eq!(trend(&[5.0; 6]), None);
        // Of 4,000 series of five without a trend, 1 % are called one; three standard deviations of that are 0.5 %.
        let mut state = 1_u64;
        let mut normal = || {
            let mut unit = || {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                ((state >> 11) as f64 + 0.5) / (1_u64 << 53) as f64
            };
            (-2.0 * unit().ln()).sqrt() * (std::f64::consts::TAU * unit()).cos()
        };
        let called =
            (0..4000).filter(|_| trend(&std::array::from_fn::<f64, 5, _>(|_| normal())).is_some()).count();
        assert!((20..=60).contains(&called), "{called}");
    }
}
