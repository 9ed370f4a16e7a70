//! Several workers, each a thread with an engine of its own. A sequential range is cut into equal parts, one for each; random
//! workers share the whole range.

use super::single::{EngineChoice, Origin, Single};
use crate::clock::Monotonic;
use crate::drive::{DriveError, Transfer};
use crate::tally::Tally;
use mile_core::{Bytes, Nanos, Rate, Workload};
use std::fs::File;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

/// Time between two looks of a worker at what the others want of it.
const SLICE: Nanos = Nanos(10_000_000);
/// Time between two looks at whether all of them have ended.
const LOOK: Nanos = Nanos(1_000_000);

struct Shared {
    tally: Mutex<Tally>,
    stop: AtomicBool,
    abandon: AtomicBool,
    /// Where each ended, behind the start of its part, and what it had left to move.
    ended: Mutex<Vec<(Bytes, Bytes)>>,
}

/// Workers underway.
pub struct Workers {
    shared: Arc<Shared>,
    threads: Vec<JoinHandle<Result<(), DriveError>>>,
    name: &'static str,
}

/// The part of a transfer that one of its workers does.
pub fn part(transfer: &Transfer, worker: u32) -> Transfer {
    let (count, block) = (u64::from(transfer.load.workers), transfer.load.block.0);
    // Whole blocks, the remainder to the first workers.
    let share = |bytes: u64| {
        let blocks = bytes / block;
        (blocks / count + u64::from(u64::from(worker) < blocks % count)) * block
    };
    let before = |bytes: u64| {
        let blocks = bytes / block;
        (blocks / count * u64::from(worker) + u64::from(worker).min(blocks % count)) * block
    };
    let rate = transfer.load.rate.map(|r| Rate(r.0 / count as f64));
    let one = Transfer {
        load: Workload { workers: 1, rate, ..transfer.load },
        budget: Bytes(share(transfer.budget.0)),
        ..*transfer
    };
    if transfer.load.is_random() {
        return one;
    }
    let length = share(transfer.length.0);
    let skip = share(transfer.skip.0);
    Transfer {
        start: Bytes(transfer.start.0 + before(transfer.length.0)),
        length: Bytes(length),
        skip: Bytes(if skip >= length { 0 } else { skip }),
        ..one
    }
}

/// All parts of a transfer. Workers do not get on at the same pace: of one that goes on, each goes on where it was.
fn parts(transfer: &Transfer, at: Option<&[(Bytes, Bytes)]>) -> Vec<Transfer> {
    let mut parts: Vec<Transfer> = (0..transfer.load.workers).map(|w| part(transfer, w)).collect();
    if let Some(at) = at.filter(|at| at.len() == parts.len()) {
        // Where the budget is another than what they had left, they share it as they would at the start.
        let whole = at.iter().map(|a| a.1.0).sum::<u64>() == transfer.budget.0;
        for (part, (skip, left)) in parts.iter_mut().zip(at) {
            part.skip = *skip;
            if whole {
                part.budget = *left;
            }
        }
    }
    parts
}

impl Workers {
    /// Begins all of them. Those of a transfer that goes on begin where each was: `at`, as [`Workers::ended`] gave it.
    pub(crate) fn begin(
        file: &File,
        transfer: &Transfer,
        at: Option<&[(Bytes, Bytes)]>,
        origin: Origin,
        choice: EngineChoice,
        clock: Monotonic,
    ) -> std::io::Result<Self> {
        let parts = parts(transfer, at);
        let shared = Arc::new(Shared {
            tally: Mutex::new(Tally::default()),
            stop: AtomicBool::new(false),
            abandon: AtomicBool::new(false),
            ended: Mutex::new(parts.iter().map(|p| (p.skip, p.budget)).collect()),
        });
        let (named, names) = crossbeam_channel::bounded(transfer.load.workers as usize);
        let threads = (0..transfer.load.workers)
            .map(|worker| {
                let (shared, file, named) = (Arc::clone(&shared), file.try_clone()?, named.clone());
                let mine = parts[worker as usize];
                std::thread::Builder::new().name(format!("worker {worker}")).spawn(move || {
                    let io = |source| DriveError::Io {
                        path: "the drive".into(),
                        doing: "start a worker for",
                        source,
                    };
                    // Its ring is for the thread that makes it.
                    let mut one =
                        Single::begin(&file, &mine, origin, worker, choice, clock.now()).map_err(io)?;
                    let _ = named.send(one.name());
                    let worked = work(&mut one, &clock, &shared);
                    let mut ended = shared.ended.lock().unwrap_or_else(PoisonError::into_inner);
                    ended[worker as usize] = one.left();
                    worked
                })
            })
            .collect::<std::io::Result<_>>()?;
        drop(named);
        let name = names.recv().unwrap_or("nothing");
        Ok(Self { shared, threads, name })
    }

    /// The engine of each in words.
    pub fn name(&self) -> &'static str {
        self.name
    }

    /// Where each ended, behind the start of its part, and what it had left to move; once all are drained.
    pub(crate) fn ended(&self) -> Vec<(Bytes, Bytes)> {
        self.shared.ended.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn take(&self, tally: &mut Tally) {
        let mut shared = self.shared.tally.lock().unwrap_or_else(PoisonError::into_inner);
        tally.merge(&mut shared);
        shared.clear();
    }

    /// Lets them go on until `until`; gives whether all of them are done.
    pub fn advance(
        &mut self,
        clock: &Monotonic,
        until: Nanos,
        tally: &mut Tally,
    ) -> Result<bool, DriveError> {
        loop {
            let over = self.threads.iter().all(JoinHandle::is_finished);
            if over {
                return self.drain(clock, Nanos(u64::MAX), tally);
            }
            let failed = {
                let shared = self.shared.tally.lock().unwrap_or_else(PoisonError::into_inner);
                !shared.failures.is_empty() || !shared.mismatches.is_empty()
            };
            let one_gone = self.threads.iter().any(JoinHandle::is_finished) && self.collect_finished()?;
            if clock.now() >= until || failed || one_gone {
                self.take(tally);
                return Ok(false);
            }
            clock.sleep_until(until.min(clock.now().plus(SLICE)));
        }
    }

    /// Takes workers that are done off the list; an error of one ends all.
    fn collect_finished(&mut self) -> Result<bool, DriveError> {
        let mut at = 0;
        while at < self.threads.len() {
            if self.threads[at].is_finished() && self.threads.len() > 1 {
                if let Ok(Err(e)) = self.threads.swap_remove(at).join() {
                    self.shared.stop.store(true, Ordering::Relaxed);
                    return Err(e);
                }
            } else {
                at += 1;
            }
        }
        Ok(false)
    }

    /// Ends them, and waits until `until` at the latest for what they have in flight. Gives whether all of it is back.
    pub fn drain(&mut self, clock: &Monotonic, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.shared.stop.store(true, Ordering::Relaxed);
        // Each ends within its patience, whatever the drive does.
        while !self.threads.iter().all(JoinHandle::is_finished) {
            if clock.now() >= until {
                return Ok(false);
            }
            clock.sleep_until(until.min(clock.now().plus(LOOK)));
        }
        let mut first = Ok(true);
        for thread in self.threads.drain(..) {
            let ended = thread
                .join()
                .unwrap_or_else(|_| Err(DriveError::Unusable { why: "a worker ended unexpectedly".into() }));
            if first.is_ok() {
                first = ended.map(|()| true);
            }
        }
        self.take(tally);
        first
    }

    /// Leaves what they have in flight to itself.
    pub fn abandon(&mut self) {
        self.shared.abandon.store(true, Ordering::Relaxed);
        self.shared.stop.store(true, Ordering::Relaxed);
    }
}

impl Drop for Workers {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
    }
}

fn work(one: &mut Single, clock: &Monotonic, shared: &Shared) -> Result<(), DriveError> {
    let mut own = Tally::default();
    let give = |own: &mut Tally| {
        shared.tally.lock().unwrap_or_else(PoisonError::into_inner).merge(own);
        own.clear();
    };
    loop {
        if !shared.stop.load(Ordering::Relaxed) {
            let went = one.advance(clock, clock.now().plus(SLICE), &mut own);
            give(&mut own);
            if went? {
                return Ok(());
            }
        }
        if shared.stop.load(Ordering::Relaxed) {
            let drained = one.drain(clock, clock.now().plus(SLICE), &mut own);
            give(&mut own);
            if drained? {
                return Ok(());
            }
            if shared.abandon.load(Ordering::Relaxed) {
                one.abandon();
                return Ok(());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A pause in which one worker was ahead of another: what the slower one had not written was never written.
    #[test]
    fn workers_that_go_on_leave_no_hole() {
        let whole = Transfer {
            load: Workload { workers: 2, block: Bytes(4096), ..Workload::default() },
            length: Bytes(20 * 4096),
            budget: Bytes(20 * 4096),
            ..Transfer::default()
        };
        // The first had moved seven of its ten blocks, the second two.
        let at = [(Bytes(7 * 4096), Bytes(3 * 4096)), (Bytes(2 * 4096), Bytes(8 * 4096))];
        let again = Transfer { skip: Bytes(9 * 4096), budget: Bytes(11 * 4096), ..whole };
        let on = parts(&again, Some(&at));
        let what: Vec<(u64, u64, u64)> =
            on.iter().map(|p| (p.start.0 / 4096, p.skip.0 / 4096, p.budget.0 / 4096)).collect();
        assert_eq!(what, [(0, 7, 3), (10, 2, 8)]);
        let less = parts(&Transfer { budget: Bytes(4 * 4096), ..again }, Some(&at));
        assert!(
            less.iter().map(|p| (p.skip, p.budget.0 / 4096)).eq([(Bytes(7 * 4096), 2), (Bytes(2 * 4096), 2)])
        );
    }

    proptest! {
        #[test]
        fn parts_cover_the_whole_and_overlap_nowhere(
            workers in 1_u32..9, blocks in 9_u64..500, budget in 0_u64..900, start in 0_u64..50
        ) {
            let whole = Transfer { load: Workload { workers, block: Bytes(4096), ..Workload::default() }, start: Bytes(start * 4096), length: Bytes(blocks * 4096), budget: Bytes(budget * 4096), ..Transfer::default() };
            let parts: Vec<Transfer> = (0..workers).map(|w| part(&whole, w)).collect();
            prop_assert_eq!(parts.iter().map(|p| p.budget.0).sum::<u64>(), whole.budget.0);
            let mut at = whole.start.0;
            for p in &parts {
                prop_assert_eq!(p.start.0, at);
                at += p.length.0;
            }
            prop_assert_eq!(at, whole.start.0 + whole.length.0);
        }
    }
}
