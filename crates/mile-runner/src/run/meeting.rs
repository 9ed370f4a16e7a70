//! Where lanes of one run meet: a stage begins when all of them have come to it, and simulated drives keep within one step of each other.
//!
//! Nothing here depends on which thread is faster. A simulated lane goes from one boundary of [`STEP`] to the next, and no further before the
//! others have come to that boundary too; what they told by then is all that it goes by.

use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use mile_drive::pipe::{Pipe, PipeEnd, Side};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// Boundaries that simulated drives come to together, nanoseconds apart.
pub(super) const STEP: u64 = 100_000_000;
/// Longest time for which somebody waits here without looking at the commands.
const LOOK: Duration = Duration::from_millis(20);

/// A copy of a run.
#[derive(Debug)]
pub(super) struct Copying {
    pub(super) leg: usize,
    pub(super) lanes: [usize; 2],
    pub(super) pipe: Arc<Pipe>,
}

/// What one lane has told.
#[derive(Clone, Debug, Default)]
struct Seat {
    /// Stages that are over, and when the last of them was.
    stage: usize,
    at: Nanos,
    /// The boundary that it has come to, and the temperature of its body there and at the one before.
    boundary: Option<u64>,
    warmth: [Option<f64>; 2],
    opened: bool,
    left: bool,
}

#[derive(Debug, Default)]
struct Told {
    seats: Vec<Seat>,
    /// When each stage could begin.
    opens: Vec<Option<Nanos>>,
    clock: Option<Monotonic>,
    /// When the run ends for all, and why.
    end: Option<(Nanos, String)>,
}

/// Where the lanes of a run meet.
#[derive(Debug)]
pub(super) struct Meeting {
    told: Mutex<Told>,
    news: Condvar,
    /// Whether time is virtual.
    paced: bool,
    copies: Vec<Copying>,
}

impl Meeting {
    /// Of lanes that begin at these stages.
    pub(super) fn new(stages: &[usize], paced: bool, copies: Vec<Copying>) -> Self {
        let seats = stages.iter().map(|&stage| Seat { stage, ..Seat::default() }).collect();
        Self { told: Mutex::new(Told { seats, ..Told::default() }), news: Condvar::new(), paced, copies }
    }

    /// The end of the copy that a lane does in a leg.
    pub(super) fn copy_end(&self, leg: usize, lane: usize) -> Option<PipeEnd> {
        let copy = self.copies.iter().find(|c| c.leg == leg && c.lanes.contains(&lane))?;
        let side = if copy.lanes[0] == lane { Side::Source } else { Side::Target };
        Some(PipeEnd { pipe: Arc::clone(&copy.pipe), side })
    }

    /// The lane that takes what is of a lane, or of the run: the lane itself, or the first that has not left.
    pub(super) fn stands_for(&self, lane: Option<usize>) -> Option<usize> {
        let told = self.told();
        let is_there = |lane: &usize| told.seats.get(*lane).is_some_and(|s| !s.left);
        lane.filter(is_there).or_else(|| told.seats.iter().position(|s| !s.left))
    }

    /// A lane moves nothing more in a leg, or in all of them.
    pub(super) fn close_copies(&self, leg: Option<usize>, lane: usize) {
        for copy in self.copies.iter().filter(|c| leg.is_none_or(|l| l == c.leg)) {
            if let Some(side) = copy.lanes.iter().position(|l| *l == lane) {
                copy.pipe.close(if side == 0 { Side::Source } else { Side::Target });
            }
        }
    }

    fn told(&self) -> MutexGuard<'_, Told> {
        self.told.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The delay behind what another lane told, from which on every lane goes by it.
    fn delay(&self) -> u64 {
        if self.paced { STEP } else { 0 }
    }

    /// A lane's drive is open. Gives the clock of all, once all are; `start` is what it begins with.
    pub(super) fn open(&self, lane: usize, start: Nanos) -> Option<Monotonic> {
        let mut told = self.told();
        told.seats[lane].opened = true;
        told.seats[lane].at = start;
        if told.seats.iter().all(|s| s.opened || s.left) && told.clock.is_none() {
            let start = told.seats.iter().map(|s| s.at).max().unwrap_or_default();
            told.clock = Some(Monotonic::start_at(start));
        }
        told.clock
    }

    /// A lane has ended a stage.
    pub(super) fn reach(&self, lane: usize, stage: usize, at: Nanos) {
        let mut told = self.told();
        (told.seats[lane].stage, told.seats[lane].at) = (stage, at);
        self.news.notify_all();
    }

    /// Whether a stage may begin on a lane whose time is `now`.
    pub(super) fn is_open(&self, stage: usize, now: Nanos) -> bool {
        let mut told = self.told();
        let known = told.opens.get(stage).copied().flatten();
        let opens = known.or_else(|| {
            let present = || told.seats.iter().filter(|s| !s.left);
            present().all(|s| s.stage >= stage).then(|| present().map(|s| s.at).max().unwrap_or_default())
        });
        if told.opens.len() <= stage {
            told.opens.resize(stage + 1, None);
        }
        told.opens[stage] = opens;
        opens.is_some_and(|at| now.0 >= at.0.saturating_add(self.delay()))
    }

    /// A lane takes no part any more. With a reason, the run ends for all.
    pub(super) fn leave(&self, lane: usize, at: Nanos, why: Option<String>) {
        self.close_copies(None, lane);
        let mut told = self.told();
        told.seats[lane].left = true;
        if let Some(why) = why.filter(|_| told.end.as_ref().is_none_or(|e| at < e.0)) {
            told.end = Some((at, why));
        }
        self.news.notify_all();
    }

    /// Why the run ends for all, on a lane whose time is `now`.
    pub(super) fn ended(&self, now: Nanos) -> Option<String> {
        let told = self.told();
        let (at, why) = told.end.as_ref()?;
        (now.0 >= at.0.saturating_add(self.delay())).then(|| why.clone())
    }

    /// Where a simulated lane must look around next.
    pub(super) fn boundary(&self, now: Nanos) -> Option<Nanos> {
        self.paced.then(|| Nanos((now.0 / STEP + 1) * STEP))
    }

    /// A simulated lane has come to `now`, with a body as warm as this. Where that is a boundary, waits a moment for the others, and gives the
    /// warmth of each of them there once all have come; `None` where one has not yet.
    pub(super) fn pace(&self, lane: usize, now: Nanos, warmth: Option<f64>) -> Option<Vec<Option<f64>>> {
        let boundary = now.0 / STEP;
        let mut told = self.told();
        let seat = &mut told.seats[lane];
        if seat.boundary != Some(boundary) {
            seat.warmth = [warmth, seat.warmth[0]];
            seat.boundary = Some(boundary);
            self.news.notify_all();
        }
        let behind =
            |told: &Told| told.seats.iter().any(|s| !s.left && s.boundary.is_none_or(|b| b < boundary));
        if behind(&told) {
            told = self.news.wait_timeout(told, LOOK).unwrap_or_else(PoisonError::into_inner).0;
            if behind(&told) {
                return None;
            }
        }
        let others = told.seats.iter().enumerate().filter(|(i, _)| *i != lane);
        // Whoever is a boundary ahead told of this one before.
        Some(others.map(|(_, s)| s.warmth[usize::from(s.boundary > Some(boundary))]).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stage_opens_when_the_last_lane_has_come_and_all_have_had_time_to_hear_of_it() {
        let meeting = Meeting::new(&[0, 0], true, Vec::new());
        assert!(meeting.is_open(0, Nanos(STEP)));
        meeting.reach(0, 1, Nanos(250));
        assert!(!meeting.is_open(1, Nanos(u64::MAX)), "the other is still at it");
        meeting.reach(1, 1, Nanos(900));
        assert!(!meeting.is_open(1, Nanos(899 + STEP)));
        assert!(meeting.is_open(1, Nanos(900 + STEP)));
        meeting.reach(0, 2, Nanos(5000));
        assert!(meeting.is_open(1, Nanos(900 + STEP)), "it stays as it was");
        meeting.leave(1, Nanos(6000), None);
        assert!(meeting.is_open(2, Nanos(5000 + STEP)), "who has left is not waited for");
        assert_eq!(meeting.ended(Nanos(u64::MAX)), None);
        meeting.leave(0, Nanos(7000), Some("it failed".into()));
        assert_eq!(meeting.ended(Nanos(6999 + STEP)), None);
        assert_eq!(meeting.ended(Nanos(7000 + STEP)).as_deref(), Some("it failed"));
    }

    /// The instruments of a drive whose lane has ended are still read.
    #[test]
    fn the_first_lane_that_is_there_stands_for_the_run_and_for_those_that_have_left() {
        let meeting = Meeting::new(&[0, 0, 0], false, Vec::new());
        let of = |meeting: &Meeting| [None, Some(0), Some(1), Some(2)].map(|lane| meeting.stands_for(lane));
        assert_eq!(of(&meeting), [Some(0), Some(0), Some(1), Some(2)]);
        meeting.leave(2, Nanos(1), None);
        assert_eq!(of(&meeting), [Some(0), Some(0), Some(1), Some(0)]);
        meeting.leave(0, Nanos(2), None);
        assert_eq!(of(&meeting), [Some(1); 4]);
        meeting.leave(1, Nanos(3), None);
        assert_eq!(of(&meeting), [None; 4]);
    }

    #[test]
    fn nobody_goes_beyond_a_boundary_before_the_others_have_come_to_it() {
        let meeting = Meeting::new(&[0, 0], true, Vec::new());
        assert_eq!(meeting.pace(0, Nanos(0), Some(30.0)), None);
        assert_eq!(meeting.pace(1, Nanos(0), Some(40.0)), Some(vec![Some(30.0)]));
        assert_eq!(meeting.pace(0, Nanos(0), Some(30.0)), Some(vec![Some(40.0)]));
        assert_eq!(meeting.pace(0, Nanos(STEP), Some(31.0)), None);
        assert_eq!(
            meeting.pace(1, Nanos(0), Some(40.0)),
            Some(vec![Some(30.0)]),
            "not what is told of later"
        );
        assert_eq!(meeting.pace(1, Nanos(STEP), Some(41.0)), Some(vec![Some(31.0)]));
    }
}
