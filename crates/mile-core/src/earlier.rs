//! What earlier runs of the same drive came to, as far as it tells something of the changes of this one.

use crate::units::{Bytes, Celsius, Rate};
use serde::{Deserialize, Serialize};

/// An earlier run of the same drive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct EarlierRun {
    /// Its number in the logbook.
    pub run: i64,
    /// Bytes after which it found the write cache exhausted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache: Option<Bytes>,
    /// The most bytes that a leg wrote from its start on before its rate changed, or ended, and the rate until then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unbroken: Option<(Bytes, Rate)>,
    /// Share of the drive that was in use when that write began, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fill: Option<f64>,
    /// Temperature at which heat throttled it first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttled_at: Option<Celsius>,
    /// Highest temperature.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hottest: Option<Celsius>,
}

impl EarlierRun {
    /// Whether it tells anything.
    pub fn tells(&self) -> bool {
        self.cache.is_some()
            || self.unbroken.is_some()
            || self.throttled_at.is_some()
            || self.hottest.is_some()
    }
}
