//! Guards that are looked at with every sample, but for those on channels and counters.

use super::ends::{Cooling, Guarded, LegEnd};
use super::state::Run;
use crate::message::EventKind;
use mile_core::{Bytes, Op, Rate};
use mile_course::Work;

impl Run<'_> {
    /// Guards that are looked at with every sample, but for those of temperature and warnings.
    pub(super) fn mind_totals(&mut self, foreign: Option<Rate>) -> Option<LegEnd> {
        let guards = &self.plan.guards;
        let other = |why: String| Some(LegEnd::Guarded(Guarded::Other(why)));
        if let Some(limit) = guards.written_at_most.filter(|l| self.written.0 > l.0) {
            return other(format!(
                "{} were written, more than the {limit} that the course allows",
                self.written
            ));
        }
        let spent = self.drive.now().since(self.gaps);
        if let Some(limit) = guards.time_at_most.filter(|l| spent > *l) {
            return other(format!("{spent} have passed, more than the {limit} that the course allows"));
        }
        let (limit, hold) = guards.others?;
        let now = self.drive.now();
        if foreign.is_none_or(|f| f.0 <= limit.0) {
            self.others_since = None;
            return None;
        }
        if now.since(*self.others_since.get_or_insert(now)) < hold {
            return None;
        }
        other(format!("others have moved more than {limit} on the same drive for {hold}"))
    }

    /// Has the run rest where a guard says so. `op` is what the leg does; a rest needs no rest.
    pub(super) fn mind_heat(&mut self, op: Op) {
        if op == Op::Idle || self.cooling.is_some() {
            return;
        }
        let guards = &self.plan.guards;
        let Some(found) = self.last.temp else { return };
        if let Some((limit, below, longest)) = guards.rest_above.filter(|r| found > r.0) {
            self.cooling = Some(Cooling { below, longest });
            self.event(EventKind::Cooling { found, limit: Some(limit), below });
        } else if let Some((below, longest)) = guards.rest_on_warning.filter(|r| found >= r.0)
            && self.last.warning.is_some_and(|bits| bits != 0)
        {
            self.cooling = Some(Cooling { below, longest });
            self.event(EventKind::Cooling { found, limit: None, below });
        }
    }

    /// Bytes that a transfer may still move before the guard on all that is written stands in its way; `None` where none does.
    pub(super) fn room(&self, work: &Work) -> Option<Bytes> {
        let Work::Transfer(t) = work else { return None };
        let limit = self.plan.guards.written_at_most?;
        let left = limit.0.saturating_sub(self.written.0);
        let share = match t.load.op {
            Op::Write => 1.0,
            Op::Mixed => 1.0 - t.load.reads,
            _ => return None,
        };
        // A mix writes its share only on average; it is minded with every sample too.
        let bytes = if share < 1.0 { (left as f64 / share.max(1e-9)) as u64 } else { left };
        Some(Bytes(bytes / t.load.block.0 * t.load.block.0))
    }
}
