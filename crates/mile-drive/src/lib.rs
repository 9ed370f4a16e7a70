//! Drives behind one trait.
//!
//! [`drive::Drive`] is what the runner knows of a drive. [`block::BlockDrive`] is a block device, [`file::FileDrive`] measures the disk under a file
//! that it makes itself. Simulated drives have a crate of their own, `mile-sim`.

pub mod ata;
pub mod block;
pub mod clock;
pub mod drive;
pub mod failure;
pub mod file;
pub mod files;
pub mod health;
pub mod host;
pub mod identity;
pub mod io;
mod mark;
pub mod nvme;
pub mod pending;
pub mod pipe;
pub mod raw;
pub mod scsi;
pub mod selftest;
pub mod sensors;
pub mod sysfs;
pub mod tally;

pub use drive::{
    Claims, Drive, DriveError, Facts, Failure, FilesWork, Identity, Limits, Link, Mismatch, Narrowed,
    Readings, Situation, Transfer, Truth, TruthEvent, Wrong,
};
pub use health::Health;
pub use pending::{NotThere, Pending};
pub use tally::Tally;
