//! Where a run goes on that was interrupted.
//!
//! A run that was stopped had everything back that was out. One that was cut off, or left what did not answer, had not: operations come back
//! in any order, so that there may be a hole anywhere in what was moved last. All of that is moved again.

use super::scan::Visits;
use crate::message::{EndKind, Event, EventKind, Status};
use mile_core::channel::Series;
use mile_core::{Bytes, Nanos, Op, Sample};
use mile_course::{Access, Plan, PlannedLeg, PlannedTransfer, Work};
use mile_drive::drive::Failure;

/// An operation that takes longer is a stall.
pub(super) const STALL: Nanos = Nanos(2_000_000_000);
/// The samples that were told last may be so much older than what was moved.
const MARGIN: Nanos = Nanos(1_000_000_000);

/// Where an interrupted run goes on.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct GoOn {
    /// The leg.
    pub leg: u32,
    /// Bytes that it had moved, without those that it moves again.
    pub moved: Bytes,
    /// Bytes of it that failed.
    pub failed: Bytes,
    /// Operations of it that failed and were not narrowed down.
    pub later: Vec<Failure>,
    /// From which bytes on zones of it were put off.
    pub cuts: Vec<Bytes>,
    /// Time that it had taken.
    pub spent: Nanos,
    /// The time of the run at which it goes on.
    pub at: Nanos,
    /// The samples of the run so far.
    pub samples: Vec<Sample>,
    /// The channels of the run with their readings so far.
    pub series: Vec<Series>,
    /// Whether a leg that writes was skipped.
    pub write_skipped: bool,
    /// Time in which the run was interrupted, this time and before.
    pub gaps: Nanos,
    /// When a fall of the rate was announced in that leg.
    pub break_at: Option<Nanos>,
}

impl GoOn {
    /// Where a run that stands so goes on: behind the last leg where only its end is missing. `gap` is how long ago it was interrupted.
    pub fn of(plan: &Plan, status: Status, samples: Vec<Sample>, events: &[Event], gap: Nanos) -> Self {
        let mut on = Self { gaps: gap, ..Self::default() };
        let mut leg_began = 0.0;
        for event in events {
            match &event.kind {
                EventKind::WentOn { gap, .. } => on.gaps = on.gaps.plus(*gap),
                EventKind::LegBegan { .. } => {
                    (on.break_at, on.failed) = (None, Bytes(0));
                    (on.later, on.cuts) = (Vec::new(), Vec::new());
                    leg_began = event.at.secs();
                }
                EventKind::Error { failure, .. } => on.failed.0 += failure.length.0,
                EventKind::PassedOver { failure, .. } => {
                    on.failed.0 += failure.length.0;
                    on.later.push(*failure);
                }
                EventKind::Narrowed { failure, .. } => on.later.retain(|f| f != failure),
                EventKind::PutOff { at, .. } => on.cuts.push(*at),
                EventKind::BreakSeen(b) if b.to_mb_s < b.from_mb_s && b.at_s > leg_began => {
                    on.break_at = on.break_at.or(Some(event.at));
                }
                _ => {}
            }
            match &event.kind {
                EventKind::LegBegan { leg, .. } | EventKind::WentOn { leg, .. } => on.leg = *leg,
                // A leg that was stopped with its run is not over.
                EventKind::LegEnded { over: false, .. } => {}
                // Of a version that did not say whether it was over.
                EventKind::LegEnded { leg, .. }
                    if !matches!(status, Status::Stopped | Status::Guarded) || !is_last(events, event) =>
                {
                    on.leg = leg + 1;
                }
                _ => {}
            }
            if let EventKind::LegEnded { leg, kind, .. } = &event.kind {
                let writes = matches!(plan.legs.get(*leg as usize).map(|l| &l.work), Some(Work::Transfer(t)) if t.load.op != Op::Read);
                on.write_skipped |= writes && *kind == Some(EndKind::Skipped);
            }
        }
        let end = samples.last().map_or(Nanos(0), |s| s.end);
        let Some(leg) = plan.legs.get(on.leg as usize) else {
            // Nothing happens any more for which the time until now would count.
            return Self { at: end, samples, gaps: Nanos(on.gaps.0 - gap.0), ..on };
        };
        for sample in samples.iter().filter(|s| s.leg == on.leg) {
            on.moved.0 += sample.moved().0;
            let counts = sample.op != Op::Idle || matches!(leg.work, Work::Rest);
            on.spent.0 += if counts { sample.end.since(sample.start).0 } else { 0 };
        }
        if let Work::Transfer(t) = &leg.work {
            let settled = matches!(status, Status::Stopped | Status::Guarded)
                && !events.iter().any(|e| matches!(e.kind, EventKind::Left { .. }));
            let again = match (t.load.workers, settled) {
                // What was in flight may not have been read; the zone underway holds all of it.
                (_, false) if t.zones > 0 && t.load.op == Op::Read => t.load.in_flight().0.min(
                    Visits::of(t, on.leg)
                        .with_cuts(&on.cuts)
                        .piece(t, Bytes(on.moved.0 + on.failed.0))
                        .skip
                        .0,
                ),
                // Nobody knows any more where each of them was.
                (2.., _) if is_read_later(plan, on.leg as usize, t) => u64::MAX,
                (2.., _) | (_, true) => 0,
                _ => unsettled(t, on.leg, &samples, events),
            };
            on.moved.0 = on.moved.0.saturating_sub(again) / t.load.block.0.max(1) * t.load.block.0;
        }
        on.at = end.plus(gap);
        on.samples = samples;
        on
    }
}

/// Whether a later leg reads what this one moves in the order of addresses, or whether it verifies itself.
fn is_read_later(plan: &Plan, leg: usize, t: &PlannedTransfer) -> bool {
    let reads = |other: &PlannedTransfer| {
        other.load.op != Op::Write
            && other.start.0 < t.start.0 + t.length.0
            && t.start.0 < other.start.0 + other.length.0
    };
    let later = |l: &PlannedLeg| matches!(&l.work, Work::Transfer(other) if reads(other));
    t.load.access == Access::Sequential
        && (t.verify || t.load.op != Op::Read)
        && (t.verify || plan.legs.iter().skip(leg + 1).any(later))
}

/// Bytes that a leg had moved last, in which there may be holes: all since the oldest operation that may have been out was begun. One that
/// was out for longer than [`STALL`] was told.
fn unsettled(t: &PlannedTransfer, leg: u32, samples: &[Sample], events: &[Event]) -> u64 {
    if t.load.is_random() {
        return 0;
    }
    let own = || samples.iter().filter(|s| s.leg == leg);
    let moved: u64 = own().map(|s| s.moved().0).sum();
    let end = samples.last().map_or(Nanos(0), |s| s.end);
    let since = end.since(STALL.plus(MARGIN));
    let late: u64 = own().filter(|s| s.end > since).map(|s| s.moved().0).sum();
    let mut out = late + t.load.block.0.saturating_mul(u64::from(t.load.depth));
    let last = events.iter().rev().find_map(|e| match &e.kind {
        EventKind::Waiting { offset, .. } => Some(*offset),
        EventKind::Stall { .. } | EventKind::LegBegan { .. } => Some(None),
        _ => None,
    });
    if let Some(Some(offset)) = last {
        let (position, at) = (moved % t.length.0.max(1), offset.0.saturating_sub(t.start.0));
        out = out.max((position + t.length.0 - at.min(t.length.0)) % t.length.0.max(1));
    }
    out
}

/// Whether a leg's end is the last of its kind.
fn is_last(events: &[Event], event: &Event) -> bool {
    events
        .iter()
        .rev()
        .find(|e| matches!(e.kind, EventKind::LegEnded { .. }))
        .is_some_and(|e| std::ptr::eq(e, event))
}
