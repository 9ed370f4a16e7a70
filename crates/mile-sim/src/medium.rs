//! The seam between a simulated drive and what it keeps its data on.
//!
//! The drive has the queue, the clock, the link, heat and health. A [`Medium`] says how long an operation of a kind, at an address and of a length,
//! takes, and keeps what that depends on: what is mapped, how full a cache is, where a head stands. Each medium is a file of its own.

use mile_core::Bytes;
use mile_drive::drive::TruthKind;

/// What the drive around it lets a medium do at the moment.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pace {
    /// Factor of the noise, about 1.
    pub(crate) noise: f64,
    /// Share of its rate that heat leaves it, above 0 and at most 1.
    pub(crate) share: f64,
    /// Highest rate of the link, bytes a second.
    pub(crate) ceiling: f64,
}

/// What holds the data of a simulated drive.
pub(crate) trait Medium: Send {
    /// Takes in that time has come to `at` (ns) after a step of `seconds`, with or without load; `unit` is drawn uniformly from 0 to 1 where there
    /// is load. Gives what has changed with it.
    fn pass(&mut self, at: u64, seconds: f64, unit: Option<f64>) -> Option<TruthKind>;

    /// Works out what holds until the next call of this, for operations of `block` bytes: called with each step and with each change that
    /// [`Medium::done`] tells.
    fn set_pace(&mut self, at: u64, block: u64, pace: Pace);

    /// Service time of the next operation, ns: at byte `offset`, of the length that [`Medium::set_pace`] was told.
    fn takes(&mut self, write: bool, offset: u64) -> f64;

    /// Takes in that this operation was served. Gives what has changed with it.
    fn done(&mut self, write: bool, offset: u64, bytes: u64) -> Option<TruthKind>;

    /// Whether an operation at byte `offset`, of `bytes`, fails. A drive that could not read a sector remembers that it is bad.
    fn fails(&mut self, _write: bool, _offset: u64, _bytes: u64) -> bool {
        false
    }

    /// The first sector from byte `from` to byte `to` that cannot be read.
    fn first_unreadable(&self, _from: u64, _to: u64) -> Option<u64> {
        None
    }

    /// Sectors that lie elsewhere, and sectors that could not be read and wait for a write.
    fn bad_sectors(&self) -> (u64, u64) {
        (0, 0)
    }

    /// Energy of moving a byte, nJ, at the moment.
    fn energy(&self, write: bool) -> f64;

    /// Gives back the space of a range.
    fn discard(&mut self, start: Bytes, length: Bytes);

    /// Share of it in use, 0 to 1.
    fn fill(&self) -> f64;

    /// Standard deviation of the noise of its rate, as a share.
    fn noise(&self) -> f64;
}
