//! Places on a drive with which something is wrong.

use crate::faults::{FaultKind, Faults};
use crate::health::FailedTest;
use crate::units::thousands;
use serde::{Deserialize, Serialize};

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

/// The stretches in which reads failed.
pub fn unreadable(faults: &[Faults]) -> Vec<Unreadable> {
    let failed = faults.iter().filter(|f| f.kind == FaultKind::ReadFailed);
    failed
        .flat_map(|f| &f.stretches)
        .map(|&(start_byte, end_byte)| Unreadable { start_byte, end_byte })
        .collect()
}
