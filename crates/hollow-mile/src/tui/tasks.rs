//! Work that the user waits for: what it does now, and that it can be given up.
//!
//! Work goes on in a thread of its own, which cannot be ended from outside. It says between its parts what it does next, and
//! learns there whether it was given up; what it found is then dropped, and nothing is written. Files are written only after
//! [`Task::commit`]: from then on it cannot be given up, so that "no file was written" is never said of a file that is there.

use super::done::Done;
use super::state::{AT_WORK, Awaited, GIVEN_UP, State, WRITES, Waiting};
use crossbeam_channel::Sender;
use mile_bench::Failure;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, AtomicU64, Ordering};

/// Work as its thread sees it.
pub(crate) struct Task {
    pub(super) id: u64,
    stage: Arc<AtomicU8>,
    done: Sender<Done>,
}

impl Task {
    /// Says what is done next.
    ///
    /// # Errors
    /// Where the work was given up.
    pub(super) fn step(&self, what: &str) -> Result<(), Failure> {
        let _ = self.done.send(Done::Step(self.id, what.to_owned()));
        if self.stage.load(Ordering::SeqCst) == GIVEN_UP { Err(given_up()) } else { Ok(()) }
    }

    /// From here on files are written.
    ///
    /// # Errors
    /// Where the work was given up.
    pub(super) fn commit(&self) -> Result<(), Failure> {
        self.leave(WRITES).then_some(()).ok_or_else(given_up)
    }

    fn leave(&self, to: u8) -> bool {
        self.stage.compare_exchange(AT_WORK, to, Ordering::SeqCst, Ordering::SeqCst).is_ok()
    }
}

/// Nobody reads it: what came of work that was given up is dropped.
fn given_up() -> Failure {
    Failure::run("given up")
}

/// Begins work: its thread's end and the screen's.
pub(super) fn begin(of: Awaited, done: &Sender<Done>) -> (Task, Waiting) {
    static LAST: AtomicU64 = AtomicU64::new(0);
    let id = LAST.fetch_add(1, Ordering::Relaxed) + 1;
    let stage = Arc::new(AtomicU8::new(AT_WORK));
    let task = Task { id, stage: stage.clone(), done: done.clone() };
    (task, Waiting { id, of, step: String::new(), stage })
}

impl State {
    /// Takes in work that was begun. Where it is to show something, what was to be shown before it is given up.
    pub(super) fn wait_for(&mut self, waiting: Waiting) {
        let shows = |of| !matches!(of, Awaited::Files(_));
        self.tasks.retain(|t| !(shows(t.of) && t.of == waiting.of && t.give_up()));
        self.tasks.push(waiting);
    }
}

/// Gives up the newest work, where there is any, and says what that leaves.
pub(super) fn give_up(state: &mut State) -> bool {
    let Some(last) = state.tasks.pop() else { return false };
    if !last.give_up() {
        state.tell("Its files are being written already.");
        state.tasks.push(last);
        return true;
    }
    match last.of {
        Awaited::Run => {
            (state.findings.loading, state.findings.early) = (None, None);
            state.tell("Given up: the run is not opened.");
        }
        Awaited::Fleet => {
            (state.fleet.asked, state.fleet.given_up) = (false, true);
        }
        Awaited::Comparison => {
            state.compare.asked = None;
            state.tell("Given up: the runs are not compared.");
        }
        Awaited::Files(what) => state.tell(format!("Given up: {what} will not be written.")),
    }
    true
}
