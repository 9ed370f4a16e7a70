//! What could not be read is looked at again: narrowed, told, and read last.

use super::bad::BAD_TIME;
use super::ends::LegEnd;
use super::scan::Visits;
use super::state::Run;
use crate::message::{EventKind, fault_of};
use mile_core::{Bytes, Nanos, Op, faults};
use mile_course::PlannedTransfer;
use mile_drive::drive::Failure;
use mile_drive::{DriveError, Narrowed};

impl Run<'_> {
    /// Whether the transfer of a scan underway is to be left: enough of it failed, it is far too slow, or the time for bad stretches is over.
    pub(super) fn is_bad_enough(&mut self, work: &PlannedTransfer) -> bool {
        let now = self.drive.now();
        if work.zones > 0 && work.load.op == Op::Read {
            let own = self.tally.written.0 + self.tally.read.0;
            self.bad.look_at_rate(now, self.moved.0 + self.failed + own);
        }
        work.zones > 0
            && (self.bad.is_enough(now) || self.bad.since.is_some() && self.bad.left(work, now).0 == 0)
    }

    /// Puts off what is left of the zone underway, where enough of it failed or it is far too slow; `moved` is what the leg went past.
    pub(super) fn put_off(&mut self, visits: &mut Visits, moved: Bytes) {
        if !self.bad.is_enough(self.drive.now()) {
            return;
        }
        if let Some((at, end)) = visits.put_off(moved) {
            self.bad.cuts.push(at);
            let (failures, slower) = (self.bad.failures, self.bad.slower);
            self.event(EventKind::PutOff { at, end, failures, slower });
        }
    }

    /// The end of a scan whose time for bad stretches is over before it came to all that was put off.
    pub(super) fn bad_time_is_over(
        &self,
        work: &PlannedTransfer,
        visits: &Visits,
        moved: Bytes,
    ) -> Option<LegEnd> {
        let over = work.zones > 0 && self.bad.left(work, self.drive.now()).0 == 0;
        let left = Bytes(work.budget.0.saturating_sub(moved.0));
        (over && visits.is_last(moved)).then(|| {
            let limit = work.bad_time.unwrap_or(BAD_TIME);
            LegEnd::Planned(format!(
                "{left} in bad stretches were not looked at, as {limit} for bad stretches are over"
            ))
        })
    }

    /// Narrows down what failed in the leg that is over, for as long as the course gives for it. What is not narrowed down counts as a whole. Gives
    /// whether all of it was looked at, or the run was asked to stop before.
    pub(super) fn look_at_bad(&mut self, leg: u32, work: &PlannedTransfer) -> Result<bool, DriveError> {
        if self.bad.later.is_empty() {
            return Ok(true);
        }
        self.bad.begin(self.drive.now(), self.moved.0 + self.failed, true);
        let mut not_tried = 0_u64;
        for (_, failure) in by_worth(std::mem::take(&mut self.bad.later)) {
            let left = self.bad.left(work, self.drive.now());
            let narrowed = match left.0 {
                _ if self.stopping => None,
                0 => Some(Narrowed::unknown(&failure)),
                _ => self.narrow(&failure, left)?,
            };
            match narrowed {
                Some(narrowed) => {
                    not_tried += u64::from(left.0 == 0);
                    self.tell_narrowed(failure, narrowed);
                }
                // Whoever goes on with the run looks at it.
                None => self.bad.later.push(failure),
            }
        }
        if not_tried > 0 {
            self.event(EventKind::NotNarrowed(not_tried));
        }
        self.close_sample(leg, Op::Idle);
        Ok(self.bad.later.is_empty())
    }

    /// Before a scan comes to what it put off: narrows down the failures that stand alone, in half of the time.
    pub(super) fn look_at_alone(&mut self, leg: u32, work: &PlannedTransfer) -> Result<(), DriveError> {
        if self.bad.since.is_some() || self.bad.later.is_empty() {
            return Ok(());
        }
        self.bad.begin(self.drive.now(), self.moved.0 + self.failed, true);
        let half = self.bad.left(work, self.drive.now()).0 / 2;
        for (worth, failure) in by_worth(std::mem::take(&mut self.bad.later)) {
            let left = self.bad.left(work, self.drive.now()).0.saturating_sub(half);
            let is_tried = worth == Worth::Alone && left > 0 && !self.stopping;
            match if is_tried { self.narrow(&failure, Nanos(left))? } else { None } {
                Some(narrowed) => self.tell_narrowed(failure, narrowed),
                None => self.bad.later.push(failure),
            }
        }
        self.close_sample(leg, Op::Idle);
        Ok(())
    }

    pub(super) fn tell_narrowed(&mut self, failure: Failure, narrowed: Narrowed) {
        let block = self.drive.facts().logical_block;
        let (kind, whole) = (fault_of(failure.op), (failure.offset, failure.length));
        faults::add_narrowed(
            &mut self.faults,
            kind,
            self.drive.now(),
            whole,
            &narrowed.bad,
            narrowed.complete,
        );
        self.event(EventKind::Narrowed { failure, narrowed, block });
    }
}

/// How much narrowing a failed operation down is worth: blocks among good ones say most, what lies amid other failures least.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Worth {
    Alone,
    AtAnEnd,
    Amid,
}

/// Failed operations, those first that are worth most.
fn by_worth(mut all: Vec<Failure>) -> Vec<(Worth, Failure)> {
    all.sort_by_key(|f| f.offset.0);
    let near = |a: &Failure, b: &Failure| b.offset.0 <= a.offset.0 + 2 * a.length.0;
    let worth = |i: usize| {
        let before = i > 0 && near(&all[i - 1], &all[i]);
        match (before, all.get(i + 1).is_some_and(|next| near(&all[i], next))) {
            (false, false) => Worth::Alone,
            (true, true) => Worth::Amid,
            _ => Worth::AtAnEnd,
        }
    };
    let mut sorted: Vec<(Worth, Failure)> = all.iter().enumerate().map(|(i, f)| (worth(i), *f)).collect();
    sorted.sort_by_key(|(worth, _)| *worth);
    sorted
}
