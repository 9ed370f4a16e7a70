//! Where a run goes on that was interrupted.

use super::SKIPPED;
use crate::message::{Event, EventKind, Status};
use mile_core::{Bytes, Nanos, Op, Sample};
use mile_course::{Plan, Work};

/// Where an interrupted run goes on.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct GoOn {
    /// The leg.
    pub leg: u32,
    /// Bytes that it had moved.
    pub moved: Bytes,
    /// Time that it had taken.
    pub spent: Nanos,
    /// The time of the run at which it goes on.
    pub at: Nanos,
    /// The samples of the run so far.
    pub samples: Vec<Sample>,
    /// Whether a leg that writes was skipped.
    pub write_skipped: bool,
    /// Time in which the run was interrupted, this time and before.
    pub gaps: Nanos,
    /// When a fall of the rate was announced in that leg.
    pub break_at: Option<Nanos>,
}

impl GoOn {
    /// Where a run that stands so goes on; `None` where no leg is left. `gap` is how long ago it was interrupted.
    pub fn of(
        plan: &Plan,
        status: Status,
        samples: Vec<Sample>,
        events: &[Event],
        gap: Nanos,
    ) -> Option<Self> {
        let mut on = Self { gaps: gap, ..Self::default() };
        for event in events {
            match &event.kind {
                EventKind::WentOn { gap, .. } => on.gaps = on.gaps.plus(*gap),
                EventKind::LegBegan { .. } => on.break_at = None,
                EventKind::BreakSeen(b) if b.to_mb_s < b.from_mb_s => {
                    on.break_at = on.break_at.or(Some(event.at));
                }
                _ => {}
            }
            match &event.kind {
                EventKind::LegBegan { leg, .. } | EventKind::WentOn { leg, .. } => on.leg = *leg,
                // A leg that was stopped with its run is not over.
                EventKind::LegEnded { leg, .. }
                    if !matches!(status, Status::Stopped | Status::Guarded) || !is_last(events, event) =>
                {
                    on.leg = leg + 1;
                }
                _ => {}
            }
            if let EventKind::LegEnded { leg, why, .. } = &event.kind {
                let writes = matches!(plan.legs.get(*leg as usize).map(|l| &l.work), Some(Work::Transfer(t)) if t.op != Op::Read);
                on.write_skipped |= writes && why == SKIPPED;
            }
        }
        let leg = plan.legs.get(on.leg as usize)?;
        for sample in samples.iter().filter(|s| s.leg == on.leg) {
            on.moved.0 += sample.moved().0;
            let counts = sample.op != Op::Idle || matches!(leg.work, Work::Rest);
            on.spent.0 += if counts { sample.end.since(sample.start).0 } else { 0 };
        }
        let end = samples.last().map_or(Nanos(0), |s| s.end);
        on.at = end.plus(gap);
        on.samples = samples;
        Some(on)
    }
}

/// Whether a leg's end is the last of its kind.
fn is_last(events: &[Event], event: &Event) -> bool {
    events
        .iter()
        .rev()
        .find(|e| matches!(e.kind, EventKind::LegEnded { .. }))
        .is_some_and(|e| std::ptr::eq(e, event))
}
