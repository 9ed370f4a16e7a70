//! Where bench instruments put their readings while a run goes on. Nobody waits here: an instrument that is lost stops nothing.

use crate::message::EventKind;
use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Readings that wait to be taken by the run; of more, the oldest are given up.
const MOST_WAITING: usize = 100_000;
/// Age from which a reading no longer tells how things are now.
const STALE: Nanos = Nanos(30_000_000_000);

/// What an instrument tells.
#[derive(Clone, Debug)]
pub enum Told {
    /// A reading of a channel, by its place in the list of the run.
    Reading(u32, f64),
    /// Something worth a line.
    Event(EventKind),
}

#[derive(Debug, Default)]
struct Inner {
    waiting: VecDeque<(Monotonic, Told)>,
    latest: Vec<Option<(Monotonic, f64)>>,
}

/// The readings of all instruments of a run.
#[derive(Debug, Default)]
pub struct Board {
    inner: Mutex<Inner>,
}

impl Board {
    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Puts what an instrument told; `taken` is a clock that was started when that was.
    pub fn put(&self, taken: Monotonic, told: Told) {
        let mut inner = self.inner();
        if let Told::Reading(channel, value) = told {
            let place = channel as usize;
            if inner.latest.len() <= place {
                inner.latest.resize(place + 1, None);
            }
            inner.latest[place] = Some((taken, value));
        }
        inner.waiting.push_back((taken, told));
        if inner.waiting.len() > MOST_WAITING {
            inner.waiting.pop_front();
        }
    }

    /// Takes what was told since and is for who asks, each with its age.
    pub fn take(&self, is_own: impl Fn(&Told) -> bool) -> Vec<(Nanos, Told)> {
        let mut inner = self.inner();
        let (own, others) =
            std::mem::take(&mut inner.waiting).into_iter().partition(|(_, told)| is_own(told));
        inner.waiting = others;
        let own: VecDeque<(Monotonic, Told)> = own;
        own.into_iter().map(|(taken, told)| (taken.now(), told)).collect()
    }

    /// The newest reading of a channel that still tells how things are.
    pub fn latest(&self, channel: usize) -> Option<f64> {
        let (taken, value) = self.inner().latest.get(channel).copied().flatten()?;
        (taken.now() < STALE).then_some(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The lane of each drive takes the readings of its own instruments, and leaves those of the others.
    #[test]
    fn what_one_lane_takes_is_its_own() {
        let board = Board::default();
        for (channel, value) in [(0, 1.0), (1, 2.0), (0, 3.0)] {
            board.put(Monotonic::start(), Told::Reading(channel, value));
        }
        let of = |lane: u32| {
            let own = board.take(|told| matches!(told, Told::Reading(channel, _) if *channel == lane));
            own.iter()
                .filter_map(|(_, t)| if let Told::Reading(_, v) = t { Some(*v) } else { None })
                .collect::<Vec<_>>()
        };
        assert_eq!(of(1), [2.0]);
        assert_eq!(of(0), [1.0, 3.0]);
        assert!(of(0).is_empty() && of(1).is_empty());
        assert_eq!(board.latest(1), Some(2.0), "what was taken is still the newest");
    }
}
