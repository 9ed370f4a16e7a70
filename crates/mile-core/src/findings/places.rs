//! Places on a drive that are slow, or that cannot be read.

use crate::faults::{FaultKind, Faults};
use crate::health::FailedTest;
use crate::surface::SlowOperations;
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

/// A stretch that could not be read.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the format's own names say it")]
pub struct Unreadable {
    pub start_byte: u64,
    pub end_byte: u64,
}

/// What is wrong with a place.
#[derive(Clone, Debug, PartialEq)]
pub enum Badness {
    /// Operations of the run failed there, or read what is wrong.
    Fault(FaultKind),
    /// The drive's own test of itself, of this kind, failed there.
    Test(String),
}

/// A stretch of the drive with which something is wrong, for the map of its surface.
#[derive(Clone, Debug, PartialEq)]
pub struct BadPlace {
    /// What is wrong there.
    pub kind: Badness,
    /// First byte.
    pub start_byte: u64,
    /// One past the last.
    pub end_byte: u64,
}

impl BadPlace {
    /// Its mark on the map: one for what failed, another for data that were read and are wrong, a third for what the drive found itself.
    pub fn mark(&self) -> &'static str {
        match self.kind {
            Badness::Fault(FaultKind::ReadFailed | FaultKind::WriteFailed) => "✕",
            Badness::Fault(FaultKind::Corrupt | FaultKind::Stale | FaultKind::Misplaced) => "≠",
            Badness::Test(_) => "◇",
        }
    }

    /// In words, without a full stop.
    pub fn words(&self) -> String {
        let what = match &self.kind {
            Badness::Fault(FaultKind::ReadFailed) => "not readable",
            Badness::Fault(FaultKind::WriteFailed) => "not writable",
            Badness::Fault(FaultKind::Corrupt) => "corrupt",
            Badness::Fault(FaultKind::Stale) => "older data",
            Badness::Fault(FaultKind::Misplaced) => "data of another address",
            Badness::Test(test) => &format!("the drive's own {test} self-test failed here"),
        };
        let (start, end) = (thousands(&self.start_byte.to_string()), thousands(&self.end_byte.to_string()));
        format!("{what}: byte {start} to byte {end}")
    }
}

/// All stretches with which something is wrong, those that failed first; of each kind, as many as are kept one by one.
pub fn bad_places(faults: &[Faults], tests: &[FailedTest]) -> Vec<BadPlace> {
    let of = |f: &Faults| {
        let kind = f.kind;
        f.stretches.clone().into_iter().map(move |(start_byte, end_byte)| BadPlace {
            kind: Badness::Fault(kind),
            start_byte,
            end_byte,
        })
    };
    let own = tests.iter().map(|t| BadPlace {
        kind: Badness::Test(t.test.clone()),
        start_byte: t.start_byte,
        end_byte: t.end_byte,
    });
    faults.iter().flat_map(of).chain(own).collect()
}

impl super::Findings {
    /// All places with which something is wrong, for the map of the surface.
    pub fn bad_places(&self) -> Vec<BadPlace> {
        bad_places(&self.faults, &self.failed_self_tests)
    }
}

/// The stretches in which reads failed.
pub fn unreadable(faults: &[Faults]) -> Vec<Unreadable> {
    let failed = faults.iter().filter(|f| f.kind == FaultKind::ReadFailed);
    failed
        .flat_map(|f| &f.stretches)
        .map(|&(start_byte, end_byte)| Unreadable { start_byte, end_byte })
        .collect()
}
