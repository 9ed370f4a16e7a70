//! The write cache as a run shows it.

use crate::breaks::Break;
use crate::pauses;
use crate::trace::{Trace, TraceLeg};
use serde::{Deserialize, Serialize};

/// The write cache as it was found.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Cache {
    /// Bytes written from the last rest (or the start) to the break.
    pub bytes: u64,
    /// Lower bound (95 %).
    pub low_bytes: u64,
    /// Upper bound (95 %).
    pub high_bytes: u64,
    /// Rate into the cache, MB/s.
    pub before_mb_s: f64,
    /// Rate after it, MB/s. It was `behind_mb_s` in version 1.
    #[serde(alias = "behind_mb_s")]
    pub after_mb_s: f64,
}

/// The cache as a break in a leg shows it: bytes written since the last pause, or since the start of the run.
pub(crate) fn cache(trace: &Trace, leg: &TraceLeg, found: &Break) -> Cache {
    let index = trace.legs().partition_point(|l| l.samples.start < leg.samples.start);
    let paused = pauses::pause_before(trace, index);
    let written = |moved: u64| pauses::written_since(trace, paused, leg, moved);
    Cache {
        bytes: written(found.at_bytes),
        low_bytes: written(found.low_bytes),
        high_bytes: written(found.high_bytes),
        before_mb_s: found.from_mb_s,
        after_mb_s: found.to_mb_s,
    }
}
