//! What a plan costs, before it costs anything: time, bytes, wear, heat.
//!
//! Each leg goes by the best of what is known of it: how the same leg went in an earlier run of the drive; how another leg with
//! the same load went; what is claimed of the drive. Where a leg is longer than what is known of it, it goes on at the pace that
//! was seen last.

use crate::course::{Access, Claims, Seen};
use crate::kinds::transfer::PlannedTransfer;
use crate::plan::{Plan, PlannedLeg, Work};
use mile_core::{Celsius, Nanos, Op, Rate, Trace};
use serde::Serialize;

/// Points that are kept of how a leg of an earlier run went.
const POINTS: usize = 256;

/// Time behind a break after which it is told, seconds: the least length of the plateau behind it, and what it takes to be sure.
const SEEN_AFTER_S: f64 = 4.0;

/// How a leg of an earlier run went.
#[derive(Clone, Debug, PartialEq)]
pub struct Known {
    /// Number of the run.
    pub run: i64,
    /// The leg.
    pub leg: PlannedLeg,
    /// Seconds and bytes since its start; ascending, from 0 to its end.
    pub curve: Vec<(f64, f64)>,
    /// Highest temperature.
    pub max: Option<Celsius>,
}

/// What a leg's forecast goes by.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Basis {
    /// The course itself gives it.
    Course,
    /// The same leg of an earlier run.
    SameLeg(i64),
    /// Another leg with the same load.
    SameLoad(i64),
    /// What is claimed of the drive.
    Claims,
    /// The limit that the course sets; it may well be over before.
    Limit,
    /// Nothing is known.
    Nothing,
}

impl Basis {
    /// In words.
    pub fn words(&self) -> String {
        match self {
            Self::Course => "as the course says".into(),
            Self::SameLeg(run) => format!("as in run {run}"),
            Self::SameLoad(run) => format!("same load in run {run}"),
            Self::Claims => "as claimed".into(),
            Self::Limit => "at most".into(),
            Self::Nothing => "not known".into(),
        }
    }
}

/// What one leg will take.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct LegForecast {
    /// Its name.
    pub leg: String,
    /// What it does.
    pub words: String,
    /// Time, seconds; `None` where nothing is known.
    pub seconds: Option<f64>,
    /// Bytes written.
    pub written: u64,
    /// Bytes read.
    pub read: u64,
    /// Highest temperature to be expected, °C.
    pub max_c: Option<f64>,
    /// What this goes by.
    pub basis: Basis,
    /// Whether it moves as much as the drive takes in a time, of which nothing is known: none of that is in its bytes.
    pub open: bool,
}

/// What a plan will take.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Forecast {
    /// Leg by leg.
    pub legs: Vec<LegForecast>,
    /// Time of those legs of which it is known, seconds.
    pub seconds: f64,
    /// Legs of which it is not.
    pub unknown: usize,
    /// Bytes written.
    pub written: u64,
    /// Bytes read.
    pub read: u64,
    /// Whether the bytes are those of the plan, and not an estimate.
    pub exact_bytes: bool,
    /// Legs that write as much as the drive takes in a time, of which nothing is known: what they write is not in `written`.
    pub writes_open: usize,
    /// The same for reads.
    pub reads_open: usize,
    /// Share of the rated endurance that is written, 0 to 1.
    pub wear: Option<f64>,
    /// Highest temperature to be expected, °C.
    pub max_c: Option<f64>,
}

impl Forecast {
    /// What the lanes of one run take together; they have as many legs. A stage lasts as long as the lane that needs longest. The wear is that of the
    /// drive that is worn most. Nothing where there is no lane.
    pub fn side_by_side(lanes: &[Self]) -> Self {
        let stages = lanes.iter().map(|l| l.legs.len()).min().unwrap_or(0);
        let stage = |i: usize| {
            let legs = || lanes.iter().map(|l| &l.legs[i]);
            // A time that is not known is longer than all others.
            let time = |l: &&LegForecast| l.seconds.unwrap_or(f64::INFINITY);
            let longest = legs().max_by(|a, b| time(a).total_cmp(&time(b)))?;
            Some(LegForecast {
                written: legs().map(|l| l.written).sum(),
                read: legs().map(|l| l.read).sum(),
                max_c: legs().filter_map(|l| l.max_c).reduce(f64::max),
                ..longest.clone()
            })
        };
        let legs: Vec<LegForecast> = (0..stages).filter_map(stage).collect();
        Self {
            seconds: legs.iter().filter_map(|l| l.seconds).sum(),
            unknown: legs.iter().filter(|l| l.seconds.is_none()).count(),
            written: legs.iter().map(|l| l.written).sum(),
            read: legs.iter().map(|l| l.read).sum(),
            exact_bytes: lanes.iter().all(|l| l.exact_bytes),
            writes_open: lanes.iter().map(|l| l.writes_open).sum(),
            reads_open: lanes.iter().map(|l| l.reads_open).sum(),
            wear: lanes.iter().filter_map(|l| l.wear).reduce(f64::max),
            max_c: lanes.iter().filter_map(|l| l.max_c).reduce(f64::max),
            legs,
        }
    }
}

/// What is known from a run with these legs.
pub fn known(run: i64, trace: &Trace, legs: &[PlannedLeg]) -> Vec<Known> {
    let mut all: Vec<Known> = Vec::new();
    for stretch in trace.legs() {
        // A leg that was paused or interrupted is in several stretches, of which only those that do its work count.
        let Some(leg) = legs.iter().find(|l| l.name == stretch.name) else { continue };
        let range = stretch.samples.clone();
        let (from, at) = (trace.start(range.start).secs(), trace.moved(range.start).0);
        let step = range.len().div_ceil(POINTS).max(1);
        let mut points: Vec<usize> = range.clone().step_by(step).skip(1).collect();
        points.push(range.end);
        let curve = std::iter::once((0.0, 0.0)).chain(
            points
                .into_iter()
                .map(|p| (trace.end(p.saturating_sub(1)).secs() - from, (trace.moved(p).0 - at) as f64)),
        );
        let max = trace.temp.extent(range.start, range.end).map(|e| Celsius(e.max));
        let idle_within = stretch.op == Op::Idle && leg.work != Work::Rest;
        match all.last_mut().filter(|k| k.leg.name == stretch.name) {
            Some(_) if idle_within => {}
            Some(known) => {
                let (s, b) = known.curve.last().copied().unwrap_or_default();
                known.curve.extend(curve.skip(1).map(|(t, m)| (s + t, b + m)));
            }
            None => all.push(Known { run, leg: leg.clone(), curve: curve.collect(), max }),
        }
    }
    // A leg that took no time has no sample: what it waited for was there already.
    let reached =
        all.iter().filter_map(|k| legs.iter().position(|l| l.name == k.leg.name)).max().unwrap_or(0);
    for leg in legs.iter().take(reached) {
        if !all.iter().any(|k| k.leg.name == leg.name) {
            all.push(Known { run, leg: leg.clone(), curve: vec![(0.0, 0.0)], max: None });
        }
    }
    all
}

impl Known {
    /// Pace of its last tenth, bytes a second.
    fn last_pace(&self) -> f64 {
        let Some(&(end, bytes)) = self.curve.last() else { return 0.0 };
        let (s, b) = self.at_time(0.9 * end);
        if end > s { (bytes - b) / (end - s) } else { 0.0 }
    }

    fn at_time(&self, seconds: f64) -> (f64, f64) {
        let i = self.curve.partition_point(|p| p.0 < seconds).clamp(1, self.curve.len().max(2) - 1);
        let (Some(&(s0, b0)), Some(&(s1, b1))) = (self.curve.get(i - 1), self.curve.get(i)) else {
            return (0.0, 0.0);
        };
        let share = if s1 > s0 { ((seconds - s0) / (s1 - s0)).clamp(0.0, 1.0) } else { 0.0 };
        (s0 + share * (s1 - s0), b0 + share * (b1 - b0))
    }

    /// When its rate first fell to less than two thirds of what it began with, for good measure over two of its points.
    fn falls_at(&self) -> Option<f64> {
        let pace: Vec<f64> =
            self.curve.windows(2).map(|w| (w[1].1 - w[0].1) / (w[1].0 - w[0].0).max(1e-9)).collect();
        let first = *pace.get(1).or(pace.first())?;
        let slow = |i: usize| pace.get(i).is_some_and(|p| *p < first * 2.0 / 3.0);
        (0..pace.len()).find(|&i| slow(i) && slow(i + 1)).map(|i| self.curve[i].0)
    }

    /// Time in which it moves so many bytes.
    fn seconds_for(&self, bytes: f64) -> Option<f64> {
        let &(end, total) = self.curve.last()?;
        if bytes > total {
            let pace = self.last_pace();
            return (pace > 0.0).then(|| end + (bytes - total) / pace);
        }
        let i = self.curve.partition_point(|p| p.1 < bytes).max(1);
        let (&(s0, b0), &(s1, b1)) = (self.curve.get(i - 1)?, self.curve.get(i)?);
        Some(if b1 > b0 { s0 + (s1 - s0) * (bytes - b0) / (b1 - b0) } else { s0 })
    }

    /// Bytes that it moves in a time.
    fn bytes_in(&self, seconds: f64) -> f64 {
        let Some(&(end, total)) = self.curve.last() else { return 0.0 };
        if seconds > end { total + (seconds - end) * self.last_pace() } else { self.at_time(seconds).1 }
    }
}

/// What a plan will take. `known` has the newest runs first.
pub fn forecast(plan: &Plan, known: &[Known], claims: &Claims) -> Forecast {
    let legs: Vec<LegForecast> = plan.legs.iter().map(|leg| leg_forecast(leg, known, claims)).collect();
    let open = |leg: &PlannedLeg| matches!(&leg.work, Work::Transfer(t) if t.by_time || !leg.seen.is_empty() || leg.time.is_some());
    let written = legs.iter().map(|l| l.written).sum();
    let open_legs = |is: fn(Op) -> bool| {
        let of = |(leg, cast): &(&PlannedLeg, &LegForecast)| {
            cast.open && matches!(&leg.work, Work::Transfer(t) if is(t.load.op))
        };
        plan.legs.iter().zip(&legs).filter(of).count()
    };
    Forecast {
        writes_open: open_legs(|op| matches!(op, Op::Write | Op::Mixed)),
        reads_open: open_legs(|op| matches!(op, Op::Read | Op::Mixed)),
        seconds: legs.iter().filter_map(|l| l.seconds).sum(),
        unknown: legs.iter().filter(|l| l.seconds.is_none()).count(),
        written,
        read: legs.iter().map(|l| l.read).sum(),
        exact_bytes: !plan.legs.iter().any(open),
        wear: claims.endurance.filter(|e| e.0 > 0).map(|e| written as f64 / e.0 as f64),
        max_c: legs.iter().filter_map(|l| l.max_c).reduce(f64::max),
        legs,
    }
}

fn leg_forecast(leg: &PlannedLeg, known: &[Known], claims: &Claims) -> LegForecast {
    let words = leg.words();
    let same = known.iter().find(|k| k.leg.name == leg.name && k.leg.is_like(leg));
    let mut out = LegForecast {
        leg: leg.name.clone(),
        words,
        seconds: Some(0.0),
        written: 0,
        read: 0,
        max_c: same.and_then(|k| k.max).map(|c| c.0),
        basis: Basis::Course,
        open: false,
    };
    let end_of = |k: &Known| k.curve.last().map_or(0.0, |p| p.0);
    match &leg.work {
        Work::Skip | Work::Watch | Work::Told(_) | Work::Health | Work::Flush | Work::Discard { .. } => {
            out.seconds = Some(same.map_or(0.0, end_of));
        }
        Work::Ask(_) => {
            out.seconds = same.map(end_of).or(Some(0.0));
        }
        Work::SelfTest(_) | Work::SelectiveTest { .. } => {
            (out.seconds, out.basis) = match same {
                Some(k) => (Some(end_of(k)), Basis::SameLeg(k.run)),
                None if leg.time.is_some() => (leg.time.map(Nanos::secs), Basis::Limit),
                None => (None, Basis::Nothing),
            };
        }
        // Times of files go by how they went before; nothing else is known of a file system.
        Work::Files(f) => {
            (out.seconds, out.basis) = match same {
                Some(k) => (Some(end_of(k)), Basis::SameLeg(k.run)),
                None if leg.time.is_some() => (leg.time.map(Nanos::secs), Basis::Limit),
                None => (None, Basis::Nothing),
            };
            (out.written, out.read) = (f.writes(), if f.writes() == 0 { f.moves().0 } else { 0 });
        }
        Work::Rest if leg.seen.is_empty() => out.seconds = leg.time.map(Nanos::secs),
        Work::Rest | Work::Expect => match same {
            Some(k) => (out.seconds, out.basis) = (Some(end_of(k)), Basis::SameLeg(k.run)),
            None => (out.seconds, out.basis) = (leg.time.map(Nanos::secs), Basis::Limit),
        },
        Work::Transfer(t) => transfer(leg, t, known, claims, same, &mut out),
    }
    out
}

fn transfer(
    leg: &PlannedLeg,
    t: &PlannedTransfer,
    known: &[Known],
    claims: &Claims,
    same: Option<&Known>,
    out: &mut LegForecast,
) {
    let load = leg.load();
    let like = same
        .or_else(|| known.iter().find(|k| k.leg.load() == load && k.curve.last().is_some_and(|p| p.1 > 0.0)));
    let limit = leg.time.map(Nanos::secs);
    let budget = t.budget.0 as f64;
    let claimed = match t.load.op {
        Op::Write if t.load.access == Access::Sequential => claims.write,
        Op::Read if t.load.access == Access::Sequential => claims.read,
        _ => None,
    };
    let (seconds, bytes) = match like {
        Some(k) => {
            out.basis = if same.is_some() { Basis::SameLeg(k.run) } else { Basis::SameLoad(k.run) };
            out.max_c = out.max_c.or(k.max.map(|c| c.0));
            let until_break = leg
                .seen
                .iter()
                .find_map(|s| if let Seen::Break(hold) = s { Some(hold.secs()) } else { None });
            match (
                same.filter(|_| !leg.seen.is_empty()).and_then(|k| k.curve.last()),
                until_break.zip(k.falls_at()),
            ) {
                // When it ends only the run can tell: as it did then.
                (Some(&(s, b)), _) => (Some(s), b),
                // Where the rate fell in another leg with this load, it will fall here; a break is told a while behind it.
                (None, Some((hold, at))) => {
                    let end = (at + hold + SEEN_AFTER_S).min(limit.unwrap_or(f64::INFINITY));
                    match k.seconds_for(budget) {
                        Some(all) if all <= end => (Some(all), budget),
                        _ => (Some(end), k.bytes_in(end)),
                    }
                }
                _ => within(k.seconds_for(budget), limit, budget, |s| k.bytes_in(s)),
            }
        }
        None => {
            let pace = [claimed, t.load.rate].into_iter().flatten().map(|r: Rate| r.0).reduce(f64::min);
            out.basis = if claimed.is_some() { Basis::Claims } else { Basis::Course };
            match pace {
                Some(pace) => within(Some(budget / pace), limit, budget, |s| s * pace),
                None if t.by_time => {
                    out.open = true;
                    (limit, 0.0)
                }
                None => {
                    out.basis = if limit.is_some() { Basis::Limit } else { Basis::Nothing };
                    (limit, budget)
                }
            }
        }
    };
    if !leg.seen.is_empty() && (like.is_none() || (same.is_none() && seconds == limit)) {
        out.basis = Basis::Limit;
    }
    out.seconds = seconds;
    let bytes = if leg.time.is_none() && leg.seen.is_empty() { budget } else { bytes };
    let (read, written) = match t.load.op {
        Op::Write => (0.0, bytes),
        Op::Mixed => (bytes * t.load.reads, bytes * (1.0 - t.load.reads)),
        _ => (bytes, 0.0),
    };
    (out.read, out.written) = (read as u64, written as u64);
}

/// The end that comes first: all bytes moved, or the time over.
fn within(
    seconds: Option<f64>,
    limit: Option<f64>,
    budget: f64,
    bytes_in: impl Fn(f64) -> f64,
) -> (Option<f64>, f64) {
    match (seconds, limit) {
        (Some(seconds), Some(limit)) if limit < seconds => (Some(limit), bytes_in(limit).min(budget)),
        (Some(seconds), _) => (Some(seconds), budget),
        (None, limit) => (limit, limit.map_or(budget, |l| bytes_in(l).min(budget))),
    }
}
