//! A stretch of the surface that is slower than its surroundings.

use crate::units::{Bytes, number, thousands};
use serde::{Deserialize, Serialize};

/// A stretch of the surface that is slower than its surroundings.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the format's own names say it")]
pub struct Hollow {
    pub start_byte: u64,
    pub end_byte: u64,
    pub baseline_mb_s: f64,
    pub mean_mb_s: f64,
    pub depth_pct: f64,
    pub passes_seen: u32,
    pub passes: u32,
    /// Lower and upper bound of the depth (95 %).
    #[serde(default)]
    pub depth_low_pct: f64,
    #[serde(default)]
    pub depth_high_pct: f64,
    /// Bytes to which its edges are known.
    #[serde(default)]
    pub edge_bytes: u64,
    /// Whether passes of different orders show it: then it goes with the address and not with the time.
    #[serde(default)]
    pub orders_differ: bool,
    /// Whether most operations take longer there, or few of them far longer; `None` where latencies were not read.
    #[serde(default)]
    pub slow_operations: Option<SlowOperations>,
}

impl Hollow {
    /// Where, how deep and how sure, in one sentence without its full stop.
    pub fn sentence(&self) -> String {
        let seen = match (self.passes_seen, self.passes, self.orders_differ) {
            (_, 1, _) => "seen on the only pass: a second one in another order confirms it".to_owned(),
            (seen, all, true) => format!("confirmed: seen on {seen} of {all} passes in different orders"),
            (seen, all, false) => format!("seen on {seen} of {all} passes in the same order"),
        };
        let how = self.slow_operations.map_or(String::new(), |s| format!("; {}", s.words()));
        // Where its edges are known well, its bytes say more.
        let edges = if 100 * self.edge_bytes < self.end_byte - self.start_byte {
            let (start, end) =
                (thousands(&self.start_byte.to_string()), thousands(&self.end_byte.to_string()));
            format!("; byte {start} to byte {end}, each to {}", Bytes(self.edge_bytes))
        } else {
            String::new()
        };
        format!(
            "{} to {}: {} instead of {} MB/s, {:.1} % below the baseline ({:.1} to {:.1} %), {seen}{how}{edges}",
            Bytes(self.start_byte),
            Bytes(self.end_byte),
            number(self.mean_mb_s),
            number(self.baseline_mb_s),
            self.depth_pct,
            self.depth_low_pct,
            self.depth_high_pct
        )
    }
}

/// What is slow in a hollow.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SlowOperations {
    /// Half of them and more: the place is read at a slower pace.
    Most,
    /// Few of them, but these are far slower, as where a block is read several times.
    Few,
}

impl SlowOperations {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Most => "most operations take longer there",
            Self::Few => "few operations take far longer there, the others as long as elsewhere",
        }
    }
}
