//! Work that the user waits for: what it does now, and that it can be given up.
//!
//! Work goes on in a thread of its own, which cannot be ended from outside. It says between its parts what it does next, and
//! learns there whether it was given up; what it found is then dropped, and nothing is written. Files are written only after
//! [`Task::commit`]: from then on it cannot be given up, so that "no file was written" is never said of a file that is there.

use super::jobs::Done;
use super::state::State;
use crossbeam_channel::Sender;
use mile_bench::Failure;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, AtomicU64, Ordering};

/// Where work stands: it can be given up only while it is at work.
const AT_WORK: u8 = 0;
const GIVEN_UP: u8 = 1;
const WRITES: u8 = 2;

/// What the user waits for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Awaited {
    /// A run, to be shown.
    Run,
    /// The drives of a model.
    Fleet,
    /// A comparison, to be shown.
    Comparison,
    /// Files, and what they hold.
    Files(&'static str),
}

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

/// The same work as the screen sees it.
pub(crate) struct Waiting {
    pub(super) id: u64,
    pub(super) of: Awaited,
    /// What it does now.
    pub(super) step: String,
    stage: Arc<AtomicU8>,
}

impl Waiting {
    /// Gives it up, unless its files are being written.
    pub(super) fn give_up(&self) -> bool {
        self.stage.compare_exchange(AT_WORK, GIVEN_UP, Ordering::SeqCst, Ordering::SeqCst).is_ok()
    }

    /// What is said of it below the screen; of what is to be shown, its place says that it is underway.
    pub(super) fn line(&self) -> Option<String> {
        let Awaited::Files(what) = self.of else { return None };
        let step = if self.step.is_empty() { String::new() } else { format!(": {}", self.step) };
        Some(format!("Writing {what}{step} … esc gives it up."))
    }
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
