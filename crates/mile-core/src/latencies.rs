//! The latencies of all operations of a leg.

use serde::{Deserialize, Serialize};

/// Operations whose latency lies in one range.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Bin {
    /// From this latency on, µs.
    pub from_us: f64,
    /// Up to this one, µs, not included.
    pub to_us: f64,
    /// How many.
    pub count: u64,
}

/// Latencies of a leg, in bins that do not overlap, the shortest first.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct LegLatencies {
    /// Name of the leg.
    pub leg: String,
    /// The bins that hold operations.
    pub bins: Vec<Bin>,
}
