//! What ends a leg or a run, as it is seen.

use super::ends::{Cooling, Guarded, LegEnd, Watch};
use super::state::Run;
use crate::message::EventKind;
use mile_core::steady::Rounds;
use mile_core::{Bytes, Nanos, Op, Rate};
use mile_course::{Seen, Work};
use mile_drive::DriveError;

impl Run<'_> {
    /// Whether one of the leg's ends is reached, in words.
    pub(super) fn seen(&mut self, watch: &mut Watch) -> Option<String> {
        let now = self.drive.now();
        let moved = self.moved.0 + self.tally.written.0 + self.tally.read.0;
        for ((end, since), band) in watch.ends.iter().zip(&mut watch.since).zip(&mut watch.band) {
            let (holds, hold) = match *end {
                Seen::Channel(ref threshold, hold) => (self.is_reached(threshold).is_some(), hold),
                Seen::Below(limit, hold) => (self.last.temp.is_some_and(|t| t < limit), hold),
                Seen::Above(limit, hold) => (self.last.temp.is_some_and(|t| t > limit), hold),
                Seen::Stable(within, hold) => {
                    let read = self.last.temp.map(|t| t.0);
                    let wider = |(low, high): (f64, f64), t: f64| (low.min(t), high.max(t));
                    let now = read.map(|t| band.map_or((t, t), |b| wider(b, t)));
                    let is_within = now.is_some_and(|(low, high)| high - low <= within.0);
                    // What lay further apart begins anew with what is read now.
                    if !is_within {
                        *since = None;
                    }
                    *band = if is_within { now } else { read.map(|t| (t, t)) };
                    (read.is_some(), hold)
                }
                Seen::Break(hold) => {
                    *since = since.or(self.break_at);
                    (since.is_some(), hold)
                }
                Seen::Errors(count) => {
                    if self.errors >= watch.errors + count {
                        return Some(end.words());
                    }
                    continue;
                }
                Seen::Steady(length) => {
                    let (start, bytes) = watch.round;
                    if now < start.plus(length) {
                        continue;
                    }
                    watch.rounds.push((moved - bytes) as f64 / now.since(start).secs() / 1e6);
                    watch.round = (now, moved);
                    match Rounds::last(&watch.rounds).filter(Rounds::is_steady) {
                        Some(r) => {
                            return Some(format!(
                                "steady state after {} rounds of {length}: {} MB/s",
                                watch.rounds.len(),
                                mile_core::units::number(r.mean)
                            ));
                        }
                        None => continue,
                    }
                }
            };
            if !holds {
                *since = None;
                continue;
            }
            if now.since(*since.get_or_insert(now)) >= hold {
                return Some(match (end, self.last.temp) {
                    (Seen::Below(..) | Seen::Above(..) | Seen::Stable(..), Some(t)) => {
                        format!("{t}: {}", end.words())
                    }
                    _ => end.words(),
                });
            }
        }
        None
    }

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

    /// Rests until it is cool, as a guard asked for. Gives how the leg ends where it does meanwhile, and how long it was.
    pub(super) fn cool(
        &mut self,
        index: u32,
        cooling: Cooling,
    ) -> Result<(Option<LegEnd>, Nanos), DriveError> {
        let began = self.drive.now();
        let deadline = began.plus(cooling.longest);
        while self.last.temp.is_some_and(|t| t >= cooling.below) && self.drive.now() < deadline {
            let until = self.slice_end(Some(deadline));
            self.drive.idle(until);
            if let Some(end) = self.after_slice(index, Op::Idle)? {
                self.close_sample(index, Op::Idle);
                return Ok((Some(end), Nanos(0)));
            }
        }
        self.close_sample(index, Op::Idle);
        let took = self.drive.now().since(began);
        self.event(EventKind::Cooled { took });
        Ok((None, took))
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

    /// Tells the operator something, and waits for an answer.
    pub(super) fn ask(
        &mut self,
        index: u32,
        text: &str,
        at_most: Option<Nanos>,
    ) -> Result<LegEnd, DriveError> {
        self.event(EventKind::Asked(text.to_owned()));
        self.answered = false;
        let deadline = at_most.map(|t| self.drive.now().plus(t));
        loop {
            if self.answered {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned("the operator answered".into()));
            }
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Planned(format!("nobody answered for {}", at_most.unwrap_or_default())));
            }
            // A simulated drive at full speed would let days pass while nobody touches a key.
            let end = if self.speed == crate::Speed::Max && deadline.is_none() {
                self.wait_for_command()
            } else {
                let until = self.slice_end(deadline);
                self.drive.idle(until);
                self.after_slice(index, Op::Idle)?
            };
            if let Some(end) = end {
                self.close_sample(index, Op::Idle);
                return Ok(end);
            }
            if self.paused {
                // There is nothing to pause; whoever goes on has answered.
                self.paused = false;
            }
        }
    }
}
