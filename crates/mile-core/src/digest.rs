//! What a run came to, in a few figures.

use crate::Op;
use crate::breaks::Cause;
use crate::earlier::EarlierRun;
use crate::findings::Findings;
use crate::trace::Trace;
use crate::units::{Bytes, Celsius, Rate};
use serde::{Deserialize, Serialize};

/// Columns of a run's terrain in miniature.
pub const MINIATURE: usize = 48;

/// What a run came to, kept so that a list need not read its samples.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Digest {
    /// Seconds from start to end.
    pub seconds: f64,
    /// Bytes moved.
    pub bytes: u64,
    /// Those of them that were read; 0 in digests of earlier versions.
    #[serde(default)]
    pub read_bytes: u64,
    /// Number of samples.
    pub samples: u64,
    /// Terrain in miniature: mean rate, MB/s, over equal shares of its bytes.
    pub miniature: Vec<f32>,
    /// Highest temperature, °C.
    pub max_c: Option<f64>,
    /// Size of the write cache, where it was found.
    pub cache_bytes: Option<u64>,
    /// The breaks in words, in order.
    pub breaks: Vec<String>,
    /// Rate of the first plateau of the leg that wrote most, MB/s; this and what follows is missing in digests of earlier versions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub burst_mb_s: Option<f64>,
    /// Rate of its last plateau, where that is another and lasted at least 10 s.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settled_mb_s: Option<f64>,
    /// The most bytes that a leg wrote from its start on before its rate changed, or ended, and the rate until then, MB/s.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unbroken: Option<(u64, f64)>,
    /// Share of the drive that was in use when that began, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unbroken_fill: Option<f64>,
    /// Temperature at which heat throttled it first, °C.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttles_at_c: Option<f64>,
    /// Confidence that it was heat, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttles_confidence: Option<f64>,
    /// When that was, seconds since the start of its leg.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttles_after_s: Option<f64>,
}

/// Confidence from which a throttle tells something to later runs. What is hardly more than a guess would make another guess sure, where both fall at one temperature.
const TELLS: f64 = 0.8;

/// Shortest plateau that is called settled, seconds.
const SETTLED_S: f64 = 10.0;

/// First and last plateau of the leg that wrote most.
fn plateaus(found: &Findings) -> (Option<f64>, Option<f64>) {
    let writes = found.legs.iter().filter(|l| l.op == Op::Write);
    let Some(leg) = writes.max_by_key(|l| l.bytes) else { return (None, None) };
    let mut own = found.plateaus.iter().filter(|p| p.start_s >= leg.start_s && p.end_s <= leg.end_s + 1e-6);
    let first = own.next();
    let last = own.next_back().filter(|p| p.end_s - p.start_s >= SETTLED_S);
    (first.map(|p| p.mean_mb_s), last.map(|p| p.mean_mb_s))
}

/// The longest write without a change: bytes, and MB/s. Legs that write whole files or through the host's cache are not told apart here: their rates are
/// others.
fn unbroken(trace: &Trace, found: &Findings) -> Option<((u64, f64), Option<f64>)> {
    let writes = trace.legs().iter().filter(|l| l.op == Op::Write && !l.samples.is_empty());
    let of_leg = |leg: &crate::trace::TraceLeg| {
        let (start, end) = (trace.moved(leg.samples.start).0, trace.moved(leg.samples.end).0);
        let begins = trace.start(leg.samples.start).secs();
        let ends = trace.end(leg.samples.end - 1).secs();
        let inside = found.breaks.iter().filter(|b| b.at_s > begins && b.at_s <= ends);
        let to = inside.map(|b| b.low_bytes.max(start)).min().unwrap_or(end).min(end);
        let until = trace.index_at_bytes(Bytes(to)).clamp(leg.samples.start + 1, leg.samples.end);
        let fill = leg.samples.clone().find_map(|i| trace.fill.get(i));
        Some(((to.saturating_sub(start), trace.mean_rate(leg.samples.start..until)?.mb_s()), fill))
    };
    writes.filter_map(of_leg).filter(|w| w.0.0 > 0).max_by_key(|w| w.0.0)
}

impl Digest {
    /// What it tells of the drive to a later run; `None` where that is nothing.
    pub fn earlier(&self, run: i64) -> Option<EarlierRun> {
        let earlier = EarlierRun {
            run,
            cache: self.cache_bytes.map(Bytes),
            unbroken: self.unbroken.map(|(bytes, mb_s)| (Bytes(bytes), Rate(mb_s * 1e6))),
            fill: self.unbroken_fill,
            throttled_at: self
                .throttles_confidence
                .filter(|c| *c >= TELLS)
                .and(self.throttles_at_c)
                .map(Celsius),
            hottest: self.max_c.map(Celsius),
        };
        Some(earlier).filter(EarlierRun::tells)
    }

    /// The causes of its breaks in the order in which they come first, each with how often.
    pub fn causes(&self) -> String {
        let mut counts: Vec<(&str, usize)> = Vec::new();
        for cause in &self.breaks {
            match counts.iter_mut().find(|c| c.0 == cause) {
                Some(known) => known.1 += 1,
                None => counts.push((cause, 1)),
            }
        }
        let one = |(cause, n): &(&str, usize)| {
            if *n > 1 { format!("{cause} {n} times") } else { (*cause).to_owned() }
        };
        counts.iter().map(one).collect::<Vec<_>>().join("; ")
    }

    /// What most of its bytes were: read or written.
    pub fn op(&self) -> Op {
        if self.read_bytes > self.bytes / 2 { Op::Read } else { Op::Write }
    }

    /// What the lanes of a run came to, together; `None` of none.
    pub fn together(lanes: &[Self]) -> Option<Self> {
        let (first, rest) = lanes.split_first()?;
        let mut all = first.clone();
        for lane in rest {
            all.seconds = all.seconds.max(lane.seconds);
            all.bytes = all.bytes.saturating_add(lane.bytes);
            all.read_bytes = all.read_bytes.saturating_add(lane.read_bytes);
            all.samples = all.samples.saturating_add(lane.samples);
            all.max_c = [all.max_c, lane.max_c].into_iter().flatten().reduce(f64::max);
            all.breaks.extend(lane.breaks.iter().cloned());
        }
        if !rest.is_empty() {
            // Of one drive only.
            all.cache_bytes = None;
            (all.burst_mb_s, all.settled_mb_s, all.unbroken) = (None, None, None);
            (all.throttles_at_c, all.throttles_confidence, all.throttles_after_s) = (None, None, None);
        }
        Some(all)
    }

    /// Of a trace and its findings.
    pub fn of(trace: &Trace, found: &Findings) -> Self {
        let bytes = trace.moved(trace.len()).0;
        let edge = |i: usize| {
            trace.index_at_bytes(Bytes((u128::from(bytes) * i as u128 / MINIATURE as u128) as u64))
        };
        let miniature = (0..MINIATURE).map(|i| {
            let from = edge(i).min(trace.len().saturating_sub(1));
            let to = edge(i + 1).max(from + 1).min(trace.len());
            trace.rate.extent(from, to).map_or(0.0, |e| e.mean as f32)
        });
        let (burst_mb_s, settled_mb_s) = plateaus(found);
        let unbroken = unbroken(trace, found);
        let throttled = found.throttling.episodes.first();
        let by_heat = found.breaks.iter().find(|b| b.cause == Cause::ThermalThrottle).map(|b| b.confidence);
        let in_dips = found.dips.iter().find(|d| d.is_heat()).map(|d| d.confidence);
        let leg_of = |at: f64| found.legs.iter().rev().find(|l| l.start_s <= at).map_or(0.0, |l| l.start_s);
        Self {
            burst_mb_s,
            settled_mb_s,
            unbroken: unbroken.map(|u| u.0),
            unbroken_fill: unbroken.and_then(|u| u.1),
            throttles_at_c: throttled.and_then(|e| e.onset_c),
            throttles_confidence: throttled.and(by_heat.or(in_dips)),
            throttles_after_s: throttled.map(|e| e.start_s - leg_of(e.start_s)),
            seconds: trace.end(trace.len()).secs(),
            bytes,
            read_bytes: trace.totals(trace.len()).1.0,
            samples: trace.len() as u64,
            miniature: if bytes == 0 { Vec::new() } else { miniature.collect() },
            max_c: found.thermal.as_ref().map(|t| t.max_c),
            cache_bytes: found.cache.map(|c| c.bytes),
            breaks: found.breaks.iter().map(|b| b.cause.words().to_owned()).collect(),
        }
    }
}
