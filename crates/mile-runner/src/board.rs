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

    /// Takes all that was told since, each with its age.
    pub fn take(&self) -> Vec<(Nanos, Told)> {
        self.inner().waiting.drain(..).map(|(taken, told)| (taken.now(), told)).collect()
    }

    /// The newest reading of a channel that still tells how things are.
    pub fn latest(&self, channel: usize) -> Option<f64> {
        let (taken, value) = self.inner().latest.get(channel).copied().flatten()?;
        (taken.now() < STALE).then_some(value)
    }
}
