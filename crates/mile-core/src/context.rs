//! What is known of a run beside its samples.

use crate::claims::conditions::{LegLoad, StatedClaim};
use crate::demand::Demand;
use crate::earlier::EarlierRun;
use crate::faults::Faults;
use crate::files::FileFigures;
use crate::health::FailedTest;
use crate::latencies::LegLatencies;
use crate::units::{Bytes, Celsius, Rate};
use serde::{Deserialize, Serialize};

/// What a trace cannot carry and is given beside it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Context {
    /// The run goes on: what would tell more of its newest changes may be still to come.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub underway: bool,
    /// Capacity of the drive.
    pub capacity: Option<Bytes>,
    /// Temperature from which the drive warns.
    pub warn: Option<Celsius>,
    /// Temperature from which it is critical.
    pub critical: Option<Celsius>,
    /// Rated sequential write rate.
    pub rated_write: Option<Rate>,
    /// Rated sequential read rate.
    #[serde(default)]
    pub rated_read: Option<Rate>,
    /// Most that the link carries, as it came up.
    #[serde(default)]
    pub link: Option<Rate>,
    /// Earlier runs of the same drive, the newest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub earlier: Vec<EarlierRun>,
    /// Streams that must be held.
    #[serde(default)]
    pub demands: Vec<Demand>,
    /// What went wrong with its operations.
    #[serde(default)]
    pub faults: Vec<Faults>,
    /// Tests of itself that the drive did not pass, with the block that failed.
    #[serde(default)]
    pub failed_tests: Vec<FailedTest>,
    /// Latencies of its legs, where all of them were kept.
    #[serde(default)]
    pub latencies: Vec<LegLatencies>,
    /// What legs did with whole files.
    pub files: Vec<FileFigures>,
    /// Names of legs that did not run under the conditions of a claimed sequential rate: at random, in small blocks, held back by the course, through a cache.
    #[serde(default)]
    pub not_sequential: Vec<String>,
    /// Names of legs in which a time without an answer may be the host's and not the drive's: they go through the host's cache, or write whole files.
    #[serde(default)]
    pub through_host: Vec<String>,
    /// Names of legs that go from zone to zone in another order than that of addresses: known before their samples show it.
    #[serde(default)]
    pub from_zone_to_zone: Vec<String>,
    /// Names of legs that go through their range from its start to its end, again and again: where that is known, the addresses of their samples are not asked.
    #[serde(default)]
    pub in_one_go: Vec<String>,
    /// Claims that are stated with their conditions.
    #[serde(default)]
    pub stated: Vec<StatedClaim>,
    /// What each leg does, for these.
    #[serde(default)]
    pub loads: Vec<LegLoad>,
}
