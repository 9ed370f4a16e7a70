//! The logbook: what is kept of runs and drives, in a file of this machine or in the archive of a lab.
//!
//! What always holds: a run's row is written before its first sample; samples are appended in blocks, each in one transaction together
//! with the events of its time, synced to the medium before it counts as kept; a block is never changed. A file is SQLite with a
//! write-ahead log, and its `user_version` is the version of the schema. A run of a file that says it is underway while its process is gone
//! was cut short; that is found, and marked, when the file is opened. Which database it is, only the engine knows.
//!
//! A block of samples is the byte 1 (the version of this encoding) and the samples in postcard's encoding.
mod book;
mod copy;
mod earlier;
pub(crate) mod engine;
mod entering;
mod entry;
mod error;
mod fleet;
mod latencies;
mod lies;
mod list;
mod owner;
pub(crate) mod place;
pub(crate) mod postgres;
mod reading;
mod readings;
mod removed;
mod runs;
mod schema;
mod snapshots;
mod sqlite;
mod tags;

pub use book::Logbook;
pub(crate) use book::{SAMPLES_VERSION, drive_of_lane};
pub use engine::Fault;
pub use entry::{Block, Entry, StoredLane, StoredRun};
pub use error::LogbookError;
pub use fleet::Model;
pub use latencies::latencies;
pub use list::Filter;
pub use mile_core::{Digest, MINIATURE};
pub use reading::set_aside;
pub(crate) use snapshots::origin_key;
pub use snapshots::{DriveKey, KnownDrive};
pub use tags::no_tag;
