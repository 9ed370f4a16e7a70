//! What a load on a drive is, in a course, in a plan and to the drive alike.

use crate::sample::Op;
use crate::units::{Bytes, Rate};
use serde::{Deserialize, Serialize};

/// The order in which addresses are touched.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// Ascending, starting again at the front of the range.
    Sequential,
    /// Uniformly random blocks of the range.
    Random,
}

/// How blocks are moved.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Workload {
    /// Whether they are read or written.
    pub op: Op,
    /// Share of the operations that are reads, 0 to 1, of a mix.
    pub reads: f64,
    /// In what order.
    pub access: Access,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Operations in flight, of each worker.
    pub depth: u32,
    /// Workers, each with operations of its own in flight; sequential ones share the range in equal parts.
    pub workers: u32,
    /// Most that is asked for in a second, by all workers together; `None` for as much as the drive takes.
    pub rate: Option<Rate>,
    /// Share of what is written that cannot be compressed, 0 to 1.
    pub incompressible: f64,
    /// Whether it goes through the host's cache.
    pub cached: bool,
}

impl Default for Workload {
    /// One write of 1 MiB at a time.
    fn default() -> Self {
        Self {
            op: Op::Write,
            reads: 0.0,
            access: Access::Sequential,
            block: Bytes(1 << 20),
            depth: 1,
            workers: 1,
            rate: None,
            incompressible: 1.0,
            cached: false,
        }
    }
}

impl Workload {
    /// Whether addresses are uniformly random.
    pub fn is_random(&self) -> bool {
        self.access == Access::Random
    }

    /// Bytes that may be in flight.
    pub fn in_flight(&self) -> Bytes {
        Bytes(self.block.0.saturating_mul(u64::from(self.depth)).saturating_mul(u64::from(self.workers)))
    }
}
