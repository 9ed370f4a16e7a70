//! What the workers on files, their readers and those who wait for them share.

use crate::clock::Monotonic;
use crate::drive::{DriveError, FilesWork};
use crate::tally::Tally;
use hdrhistogram::Histogram;
use mile_core::Nanos;
use mile_core::files::FileStep;
use mile_files::{FileId, HeldFolder};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// What an operation past the host's cache is a multiple of.
pub(super) const UNIT: u64 = 4096;
/// Blocks that a reader may be ahead of its worker.
pub(super) const AHEAD: usize = 4;
/// Longest wait between two looks at the workers.
pub(super) const LOOK: Duration = Duration::from_millis(10);

/// A file that the run has made.
#[derive(Clone, Copy, Debug)]
pub(super) struct Made {
    pub(super) number: u64,
    pub(super) size: u64,
    pub(super) id: FileId,
}

/// The name of a file in the folder of its run.
pub(super) fn name(number: u64) -> String {
    format!("{number:08}")
}

/// What the workers have to do.
pub(super) enum Jobs {
    /// Numbers and sizes.
    Write(Vec<(u64, u64)>),
    Read(Vec<Made>),
    Delete(Vec<Made>),
    /// Numbers and sources; the last is whether they are written, and not only read.
    Copy(Vec<(u64, PathBuf)>, bool),
}

impl Jobs {
    pub(super) fn count(&self) -> u64 {
        match self {
            Self::Write(all) => all.len() as u64,
            Self::Read(all) | Self::Delete(all) => all.len() as u64,
            Self::Copy(all, _) => all.len() as u64,
        }
    }
}

/// What one worker has counted.
#[derive(Default)]
pub(super) struct Part {
    pub(super) tally: Tally,
    pub(super) steps: [Option<Box<Histogram<u64>>>; FileStep::ALL.len()],
    pub(super) files: u64,
    pub(super) bytes: u64,
    pub(super) made: Vec<Made>,
    /// Numbers of the files that it deleted.
    pub(super) gone: Vec<u64>,
    pub(super) waited: Nanos,
    pub(super) worked: Nanos,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Wish {
    Go,
    Hold,
    Stop,
}

pub(super) struct Shared {
    pub(super) work: FilesWork,
    pub(super) jobs: Jobs,
    pub(super) folder: Arc<HeldFolder>,
    pub(super) clock: Monotonic,
    pub(super) next: AtomicU64,
    /// What is wanted of the workers, and how many of them stand still or have ended.
    pub(super) wish: Mutex<(Wish, usize, usize)>,
    pub(super) changed: Condvar,
    pub(super) abandoned: AtomicBool,
    pub(super) out: AtomicUsize,
    /// Bytes that may still be written, and whether a worker ended as there are no more.
    pub(super) left: AtomicU64,
    pub(super) full: AtomicBool,
    pub(super) parts: Vec<Mutex<Part>>,
    /// When the operation underway of each worker began, plus one; 0 where there is none.
    pub(super) began: Vec<AtomicU64>,
    pub(super) failed: Mutex<Option<DriveError>>,
    pub(super) ended_at: AtomicU64,
}

pub(super) fn held<T>(lock: &Mutex<T>) -> MutexGuard<'_, T> {
    // A worker that panicked has left counts that are right as far as they go.
    lock.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Why a worker comes to an end before its files.
pub(super) enum Left {
    Stopped,
    Failed(DriveError),
}
