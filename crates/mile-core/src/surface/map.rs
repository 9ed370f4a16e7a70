//! The surface by address, as a run shows it.

use crate::sample::Op;
use crate::units::{Bytes, number};
use serde::{Deserialize, Serialize};

/// The order in which a pass went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// From low addresses to high ones.
    Forward,
    /// From high ones to low ones.
    Backward,
    /// In another.
    Other,
}

impl Order {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Forward => "forward",
            Self::Backward => "backward",
            Self::Other => "in mixed order",
        }
    }
}

/// A pass over the surface.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Pass {
    /// Name of its leg.
    pub leg: String,
    /// What it did.
    pub op: Op,
    /// In which order.
    pub order: Order,
    /// When it began, seconds since the start of the run.
    pub start_s: f64,
    /// When it ended.
    pub end_s: f64,
    /// Rate of each cell, MB/s; `None` where it did not go.
    pub mb_s: Vec<Option<f64>>,
    /// Half of the operations in a cell took no longer, µs; empty where latencies were not read.
    #[serde(default)]
    pub p50_us: Vec<Option<f64>>,
    /// 99 of 100 took no longer, µs: the largest of its samples.
    #[serde(default)]
    pub p99_us: Vec<Option<f64>>,
    /// Slowest operation, µs.
    #[serde(default)]
    pub slowest_us: Vec<Option<f64>>,
    /// Temperature at which a cell was read, °C; empty where it was not read.
    #[serde(default)]
    pub temp_c: Vec<Option<f64>>,
}

/// A stretch of addresses with one baseline.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct RecordingZone {
    /// First byte.
    pub start_byte: u64,
    /// One past the last.
    pub end_byte: u64,
    /// Rate of what is not weak in it, MB/s.
    pub mb_s: f64,
}

/// What makes a slow stretch of one pass no hollow.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Instead {
    /// The drive was throttled.
    Heat,
    /// Others moved data.
    Others,
    /// Another pass, which went there too, did not show it.
    OnePassOnly,
    /// Another pass shows it, and both show so many elsewhere that chance brings some together.
    Chance,
    /// It was slow until it was written anew: the data were old, and the place is not weak.
    StaleData,
}

impl Instead {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Heat => "the drive was throttled there by heat",
            Self::Others => "other I/O on the drive",
            Self::OnePassOnly => "another pass went there and does not show it",
            Self::Chance => "both passes are slow in so many other places that this may be chance",
            Self::StaleData => "it held old data, and is as fast as the rest since it was written again",
        }
    }
}

/// A slow stretch that is no hollow.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Passing {
    /// First byte.
    pub start_byte: u64,
    /// One past the last.
    pub end_byte: u64,
    /// The leg that showed it.
    pub leg: String,
    /// How far below the baseline, percent.
    pub depth_pct: f64,
    /// What it is instead.
    pub instead: Instead,
}

/// The surface as a run shows it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Surface {
    /// First byte of the first cell.
    pub start_byte: u64,
    /// Bytes of a cell.
    pub cell_bytes: f64,
    /// The passes, in the order of time.
    pub passes: Vec<Pass>,
    /// Baseline of each cell over all passes, MB/s; `None` where no pass went.
    pub baseline_mb_s: Vec<Option<f64>>,
    /// Stretches with one baseline each: one on flash, those of a disk from the outer tracks to the inner ones.
    pub recording_zones: Vec<RecordingZone>,
    /// Addresses that no pass looked at, from and to.
    pub not_looked_at: Vec<(u64, u64)>,
    /// Slow stretches that are no hollows.
    pub passing: Vec<Passing>,
    /// Noise of a cell as a share of its rate: standard deviation.
    pub noise: f64,
}

impl Surface {
    /// Address of the start of a cell.
    pub fn at(&self, cell: usize) -> u64 {
        self.start_byte + (cell as f64 * self.cell_bytes) as u64
    }

    /// How it was looked at and what its baseline is, in one sentence without its full stop.
    pub fn sentence(&self) -> String {
        let orders: Vec<&str> = self.passes.iter().map(|p| p.order.words()).collect();
        let passes = if orders.len() == 1 { "pass".to_owned() } else { "passes".to_owned() };
        let base = match self.recording_zones.as_slice() {
            [] => "no baseline".to_owned(),
            [one] => format!("the baseline is flat at {} MB/s", number(one.mb_s)),
            [first, .., last] => format!(
                "the baseline goes down from {} to {} MB/s in {} recording zones",
                number(first.mb_s),
                number(last.mb_s),
                self.recording_zones.len()
            ),
        };
        format!(
            "{} {passes} ({}) over {} to {}; {base}; a cell of {} scatters by {:.1} %",
            orders.len(),
            orders.join(", "),
            Bytes(self.start_byte),
            Bytes(self.at(self.baseline_mb_s.len())),
            Bytes(self.cell_bytes as u64),
            100.0 * self.noise
        )
    }

    /// Whether passes went in different orders, so that what goes with the time does not go with the address.
    pub fn has_several_orders(&self) -> bool {
        self.passes.iter().any(|p| p.order != self.passes[0].order)
            || self.passes.iter().filter(|p| p.order == Order::Other).count() > 1
    }
}
