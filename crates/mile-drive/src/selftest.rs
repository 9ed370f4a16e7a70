//! A drive's own tests of itself, in what all standards have in common.

use mile_core::Nanos;
use mile_core::health::SelfTestKind;
use serde::{Deserialize, Serialize};

/// Kinds of self-tests.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "the names of the standards")]
pub enum TestKind {
    Short,
    Extended,
    Conveyance,
    Selective,
    Other,
}

impl TestKind {
    /// The kind that a course asks for.
    pub fn of(kind: SelfTestKind) -> Self {
        match kind {
            SelfTestKind::Short => Self::Short,
            SelfTestKind::Extended => Self::Extended,
            SelfTestKind::Conveyance => Self::Conveyance,
            SelfTestKind::Selective => Self::Selective,
        }
    }

    /// The word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Short => "short",
            Self::Extended => "extended",
            Self::Conveyance => "conveyance",
            Self::Selective => "selective",
            Self::Other => "other",
        }
    }
}

/// The self-test underway, and the results of earlier ones, newest first.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SelfTest {
    /// Kind, and percent done, of the one underway.
    pub running: Option<(TestKind, u8)>,
    /// Minutes that it takes as the drive declares.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub takes_min: Option<u16>,
    /// Results.
    pub results: Vec<TestResult>,
}

impl SelfTest {
    /// Time until the test underway ends, by the time that the drive declares for it.
    pub fn left(&self) -> Option<Nanos> {
        let (_, done) = self.running?;
        let minutes = f64::from(self.takes_min?) * f64::from(100 - done.min(100)) / 100.0;
        Some(Nanos::from_secs(60.0 * minutes))
    }
}

/// How a self-test ended.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TestResult {
    /// Its kind.
    pub kind: TestKind,
    /// Whether it found nothing wrong.
    pub passed: bool,
    /// How it ended.
    pub words: String,
    /// The drive's age at that time, hours.
    pub power_on_hours: u64,
    /// The first block that failed, where it tells.
    pub block: Option<u64>,
}
