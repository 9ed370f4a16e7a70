//! The archive of runs, and traces from and for elsewhere.
//!
//! [`store::Logbook`] is one SQLite file; all of its SQL is in this crate. [`recorder::Recorder`] writes a run to it from a
//! thread of its own, and [`side`] has what the logbook does not take. [`exchange`] reads and writes CSV, and writes JSON Lines.

pub mod archive;
pub mod exchange;
pub mod lab;
pub mod recorder;
pub mod side;
pub mod store;

pub use archive::{Archive, Kept};
pub use exchange::{Exchange, Imported, Problem};
pub use recorder::{Entered, Errand, Recorder};
pub use store::{
    Block, Digest, DriveKey, Entry, Fault, Filter, KnownDrive, Logbook, LogbookError, Model, StoredLane,
    StoredRun, latencies,
};
