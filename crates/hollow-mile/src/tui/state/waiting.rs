//! Work that the user waits for, as the screen sees it.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

/// Where work stands: it can be given up only while it is at work.
pub(crate) const AT_WORK: u8 = 0;
pub(crate) const GIVEN_UP: u8 = 1;
pub(crate) const WRITES: u8 = 2;

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

/// The same work as the screen sees it.
pub(crate) struct Waiting {
    pub(crate) id: u64,
    pub(crate) of: Awaited,
    /// What it does now.
    pub(crate) step: String,
    pub(crate) stage: Arc<AtomicU8>,
}

impl Waiting {
    /// Gives it up, unless its files are being written.
    pub(crate) fn give_up(&self) -> bool {
        self.stage.compare_exchange(AT_WORK, GIVEN_UP, Ordering::SeqCst, Ordering::SeqCst).is_ok()
    }

    /// What is said of it below the screen; of what is to be shown, its place says that it is underway.
    pub(crate) fn line(&self) -> Option<String> {
        let Awaited::Files(what) = self.of else { return None };
        let step = if self.step.is_empty() { String::new() } else { format!(": {}", self.step) };
        Some(format!("Writing {what}{step} … esc gives it up."))
    }
}
