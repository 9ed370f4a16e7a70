//! Copies from one drive to another: which side held the copy back, for what share of the time, and what each could have done.
//!
//! Between the two sides is a buffer. A source that finds it full waits for room: then the target holds the copy back. A target that finds it
//! empty waits for data: then the source does. Both times are measured, and are the only thing by which the sides are told apart. A side
//! that holds the copy back at the pace that its link carries is held by its link.

use crate::findings::{Break, Cause, Context};
use crate::sample::Op;
use crate::trace::Trace;
use crate::units::{Bytes, Nanos, number};
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// A side waits if it does so for more than this share of the time: less is what the clock and the scheduler do to any two sides.
const WAITS: f64 = 0.02;
/// One side waits, and not both, if it waits so many times as long as the other.
const CLEARLY: f64 = 2.0;
/// Share of what the link carries from which a side is at its limit for sure. Headers of packets are not in that figure: PCIe with packets of 256 B
/// leaves 0.91 of it (256 of 282 B with header, digest and framing), SATA about 0.93.
const AT_LINK: f64 = 0.90;
/// From here on it may be.
const NEAR_LINK: f64 = 0.84;
/// Two changes that are less than this apart are one, in seconds.
const APART_S: f64 = 2.0;

/// One side of a copy, and what is known of its lane.
#[derive(Clone, Copy, Debug)]
pub struct CopySide<'a> {
    /// Name of the lane.
    pub lane: &'a str,
    /// Its samples, with the times for which it waited.
    pub trace: &'a Trace,
    /// What is known of its drive.
    pub context: &'a Context,
    /// The breaks of its lane.
    pub breaks: &'a [Break],
}

/// What a copy came to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CopyFound {
    /// Name of the leg.
    pub leg: String,
    /// Lane that was read.
    pub from: String,
    /// Lane that was written.
    pub to: String,
    /// Bytes that were written.
    pub bytes: u64,
    /// Time that it took.
    pub seconds: f64,
    /// Mean rate of that, MB/s.
    pub mb_s: f64,
    /// Share of the time for which the source, or its link, held it back, 0 to 1.
    pub held_by_source: f64,
    /// The same of the target.
    pub held_by_target: f64,
    /// What the source could have given, where that is known.
    pub source_could: Option<Could>,
    /// What the target could have taken.
    pub target_could: Option<Could>,
    /// Its stretches, in the order of time.
    pub phases: Vec<Phase>,
}

/// What a side could do.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Could {
    /// Rate, MB/s.
    pub mb_s: f64,
    /// How that is known.
    pub by: By,
    /// The leg in which it was measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub leg: Option<String>,
}

impl Could {
    /// How it is known, in words.
    pub fn words(&self) -> String {
        match (&self.leg, self.by) {
            (Some(leg), _) => format!("measured in leg {leg}"),
            (None, By::Claimed) => "as is claimed of it".into(),
            (None, _) => "which is what its link carries".into(),
        }
    }
}

/// How it is known what a side could do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum By {
    /// Measured in another leg of the run.
    Measured,
    /// Claimed of the drive, and not more than its link carries.
    Claimed,
    /// No more than its link carries.
    Link,
}

/// A stretch of a copy at one pace.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Phase {
    /// Its start, seconds since the start of the run.
    pub from_s: f64,
    /// Its end.
    pub to_s: f64,
    /// Rate at which the target was written, MB/s.
    pub mb_s: f64,
    /// Share of the time for which the source waited for room.
    pub source_waited: f64,
    /// Share of the time for which the target waited for data.
    pub target_waited: f64,
    /// What held it back.
    pub held_by: HeldBy,
    /// Why that side is no faster, where its lane shows it.
    pub why: Option<Cause>,
    /// How sure that is, 0 to 1.
    pub confidence: f64,
}

/// What holds a copy back.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HeldBy {
    /// The source is no faster.
    Source,
    /// The link of the source carries no more.
    SourceLink,
    /// The target is no faster.
    Target,
    /// The link of the target carries no more.
    TargetLink,
    /// Neither waits clearly longer than the other.
    Neither,
}

impl HeldBy {
    /// Whether the source or its link holds it back.
    pub fn is_source(self) -> bool {
        matches!(self, Self::Source | Self::SourceLink)
    }

    /// Whether the target or its link does.
    pub fn is_target(self) -> bool {
        matches!(self, Self::Target | Self::TargetLink)
    }

    /// In words: `held back by the source`.
    pub fn words(self) -> &'static str {
        match self {
            Self::Source => "held back by the source",
            Self::SourceLink => "held back by the link of the source",
            Self::Target => "held back by the target",
            Self::TargetLink => "held back by the link of the target",
            Self::Neither => "neither side waited clearly longer than the other",
        }
    }
}

/// Samples of a leg in which a lane had this load.
fn samples_of(trace: &Trace, leg: &str, op: Op) -> Option<Range<usize>> {
    let mut own = trace.legs().iter().filter(|l| l.name == leg && l.op == op).map(|l| l.samples.clone());
    let first = own.next()?;
    Some(first.start..own.next_back().map_or(first.end, |l| l.end))
}

/// What a copy in a leg came to; `None` where nothing of it was logged.
pub fn copy(leg: &str, source: CopySide<'_>, target: CopySide<'_>) -> Option<CopyFound> {
    let written = samples_of(target.trace, leg, Op::Write)?;
    let read = samples_of(source.trace, leg, Op::Read)?;
    let (start, end) = (target.trace.start(written.start), target.trace.end(written.end - 1));
    // What the target does behind the end of the source empties the buffer.
    let end_of_source = source.trace.end(read.end - 1).min(end);
    let phases = phases(&source, &target, start, end_of_source.max(start));
    let bytes = target.trace.totals(written.end).0.0 - target.trace.totals(written.start).0.0;
    let seconds = end.since(start).secs();
    let fastest = phases.iter().map(|p| p.mb_s).fold(0.0, f64::max);
    let share = |by: fn(HeldBy) -> bool| {
        let whole: f64 = phases.iter().map(|p| p.to_s - p.from_s).sum();
        let own: f64 = phases.iter().filter(|p| by(p.held_by)).map(|p| p.to_s - p.from_s).sum();
        // The sum of nothing is -0.
        if whole > 0.0 { own.abs() / whole } else { 0.0 }
    };
    Some(CopyFound {
        leg: leg.to_owned(),
        from: source.lane.to_owned(),
        to: target.lane.to_owned(),
        bytes,
        seconds,
        mb_s: if seconds > 0.0 { bytes as f64 / seconds / 1e6 } else { 0.0 },
        held_by_source: share(HeldBy::is_source),
        held_by_target: share(HeldBy::is_target),
        source_could: could(&source, Op::Read, leg, fastest),
        target_could: could(&target, Op::Write, leg, fastest),
        phases,
    })
}

/// What a side could do, by the fastest other leg with the same operation, or by what is claimed, or by its link. A figure below `moved`, the pace in
/// MB/s that it had in the copy, says nothing of what it can do: the leg may have been random, or paced.
fn could(side: &CopySide<'_>, op: Op, copy: &str, moved: f64) -> Option<Could> {
    let trace = side.trace;
    let is_possible = |mb_s: f64| mb_s >= 0.98 * moved;
    let others = trace.legs().iter().filter(|l| l.op == op && l.name != copy);
    let measured = others.filter_map(|l| Some((trace.mean_rate(l.samples.clone())?.mb_s(), &l.name)));
    let measured = measured.max_by(|a, b| a.0.total_cmp(&b.0)).filter(|m| is_possible(m.0));
    if let Some((mb_s, leg)) = measured {
        return Some(Could { mb_s, by: By::Measured, leg: Some(leg.clone()) });
    }
    let link = side.context.link.map(crate::units::Rate::mb_s);
    let rated = if op == Op::Read { side.context.rated_read } else { side.context.rated_write };
    let claimed = rated.map(|r| link.map_or(r.mb_s(), |l| l.min(r.mb_s())));
    let of = |mb_s: Option<f64>, by: By| {
        mb_s.filter(|m| is_possible(*m)).map(|mb_s| Could { mb_s, by, leg: None })
    };
    of(claimed, By::Claimed).or_else(|| of(link, By::Link))
}

/// The breaks of a lane that are its own and not the other side's, between two moments.
fn own_breaks<'a>(side: &CopySide<'a>, from: f64, to: f64) -> impl Iterator<Item = &'a Break> {
    let within = move |b: &&Break| b.at_s > from && b.at_s < to;
    side.breaks.iter().filter(within)
}

/// Why a side is as slow as it is at a moment, by the last change of its own.
fn why(side: &CopySide<'_>, from: f64, at: f64) -> Option<(Cause, f64)> {
    let own = |b: &&Break| !matches!(b.cause, Cause::OtherSide | Cause::OtherSideEnd);
    let last = own_breaks(side, from, at + APART_S).filter(own).last()?;
    (last.to_mb_s < last.from_mb_s).then_some((last.cause, last.confidence))
}

fn phases(source: &CopySide<'_>, target: &CopySide<'_>, from: Nanos, to: Nanos) -> Vec<Phase> {
    let (start, end) = (from.secs(), to.secs());
    let mut edges = vec![start];
    let mut seen: Vec<f64> =
        [source, target].iter().flat_map(|s| own_breaks(s, start, end).map(|b| b.at_s)).collect();
    seen.sort_by(f64::total_cmp);
    for at in seen {
        if at - edges.last().copied().unwrap_or(start) >= APART_S && end - at >= APART_S {
            edges.push(at);
        }
    }
    edges.push(end);
    let mut all: Vec<Phase> = Vec::new();
    for pair in edges.windows(2) {
        let Some(phase) = phase(source, target, start, (pair[0], pair[1])) else { continue };
        match all.last_mut() {
            // What is held by the same for the same reason is one stretch, unless its pace changed.
            Some(last)
                if last.held_by == phase.held_by
                    && last.why == phase.why
                    && (phase.mb_s / last.mb_s.max(1e-9) - 1.0).abs() < 0.05 =>
            {
                let (a, b) = (last.to_s - last.from_s, phase.to_s - phase.from_s);
                let joined = |x: f64, y: f64| (x * a + y * b) / (a + b).max(1e-9);
                last.mb_s = joined(last.mb_s, phase.mb_s);
                last.source_waited = joined(last.source_waited, phase.source_waited);
                last.target_waited = joined(last.target_waited, phase.target_waited);
                last.confidence = last.confidence.min(phase.confidence);
                last.to_s = phase.to_s;
            }
            _ => all.push(phase),
        }
    }
    all
}

/// The samples of a lane between two moments, in seconds.
fn between(trace: &Trace, (start, end): (f64, f64)) -> Range<usize> {
    let at = |s: f64| trace.index_at_time(Nanos::from_secs(s));
    let first = at(start);
    first..at(end).max(first)
}

/// What of a side holds the copy back at a moment, itself or its link, why, and how sure that is. `own` is its pace, MB/s; `long` is the share of the time
/// for which the other side waited for it, and `short` that for which it waited itself.
fn held(
    side: &CopySide<'_>,
    own: f64,
    start: f64,
    at: f64,
    (long, short): (f64, f64),
    (itself, link): (HeldBy, HeldBy),
) -> (HeldBy, Option<Cause>, f64) {
    // From one of two at the least share to nearly sure at a tenth, less where the side waits as well.
    let told =
        (0.9 + 0.08 * ((long - WAITS) / 0.08).clamp(0.0, 1.0)) * (1.0 - short / (2.0 * long).max(1e-9));
    let share = side.context.link.map_or(0.0, |l| own / l.mb_s());
    match why(side, start, at) {
        // Nobody can be surer of the whole than of the reason.
        Some((cause, sure)) => (itself, Some(cause), told * sure),
        None if share >= NEAR_LINK => {
            let sure = ((share - NEAR_LINK) / (AT_LINK - NEAR_LINK)).clamp(0.0, 1.0);
            (link, None, told * (0.6 + 0.37 * sure))
        }
        None => (itself, None, told),
    }
}

fn phase(source: &CopySide<'_>, target: &CopySide<'_>, start: f64, span: (f64, f64)) -> Option<Phase> {
    let (read, written) = (between(source.trace, span), between(target.trace, span));
    let mb_s = target.trace.mean_rate(written.clone())?.mb_s();
    let (waits_source, waits_target) = (source.trace.waited(read.clone())?, target.trace.waited(written)?);
    let clearly = |long: f64, short: f64| long >= WAITS && long >= CLEARLY * short;
    let (held_by, why, confidence) = if clearly(waits_source, waits_target) {
        held(target, mb_s, start, span.0, (waits_source, waits_target), (HeldBy::Target, HeldBy::TargetLink))
    } else if clearly(waits_target, waits_source) {
        let own = source.trace.mean_rate(read)?.mb_s();
        held(source, own, start, span.0, (waits_target, waits_source), (HeldBy::Source, HeldBy::SourceLink))
    } else {
        (HeldBy::Neither, None, 0.5)
    };
    Some(Phase {
        from_s: span.0,
        to_s: span.1,
        mb_s,
        source_waited: waits_source,
        target_waited: waits_target,
        held_by,
        why,
        confidence: (confidence * 100.0).round() / 100.0,
    })
}

impl CopyFound {
    /// In sentences, the first of them on the whole.
    pub fn lines(&self) -> Vec<String> {
        let percent = |share: f64| format!("{:.0} %", 100.0 * share);
        let mut lines = vec![format!(
            "Leg {}: {} copied from {} to {} in {}, {} MB/s. The source held it back for {} of the time, the target for {}.",
            self.leg,
            Bytes(self.bytes),
            self.from,
            self.to,
            Nanos::from_secs(self.seconds),
            number(self.mb_s),
            percent(self.held_by_source),
            percent(self.held_by_target)
        )];
        for p in &self.phases {
            let why = p.why.map_or(String::new(), |w| format!(" ({})", w.words()));
            lines.push(format!(
                "    {} to {}: {} MB/s, {}{why}, confidence {}. The source waited for room {} of the time, the target for data {}.",
                Nanos::from_secs(p.from_s),
                Nanos::from_secs(p.to_s),
                number(p.mb_s),
                p.held_by.words(),
                percent(p.confidence),
                percent(p.source_waited),
                percent(p.target_waited)
            ));
        }
        for (name, verb, could) in
            [(&self.from, "give", &self.source_could), (&self.to, "take", &self.target_could)]
        {
            let Some(could) = could else { continue };
            lines.push(format!(
                "    {name} alone can {verb} {} MB/s, {}.",
                number(could.mb_s),
                could.words()
            ));
        }
        lines
    }
}
