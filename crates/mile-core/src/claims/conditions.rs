//! Claims with their conditions, and what a leg does, which they are held against.

use crate::sample::Op;
use crate::units::{Bytes, block_size};
use serde::{Deserialize, Serialize};

/// What a claim is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ClaimedFigure {
    /// Bytes over time, MB/s.
    Rate,
    /// Operations over time, 1/s.
    Operations,
    /// The time that half of the operations take at the most, µs.
    P50,
    /// The time that 99 of 100 operations take at the most, µs.
    P99,
    /// The highest temperature under load, °C.
    Temperature,
    /// The mean power that is drawn, W, where a channel of the lane has it.
    Power,
}

impl ClaimedFigure {
    /// Its unit.
    pub fn unit(self) -> &'static str {
        match self {
            Self::Rate => "MB/s",
            Self::Operations => "1/s",
            Self::P50 | Self::P99 => "µs",
            Self::Temperature => "°C",
            Self::Power => "W",
        }
    }

    /// Whether less is better.
    pub fn is_at_most(self) -> bool {
        matches!(self, Self::P50 | Self::P99 | Self::Temperature | Self::Power)
    }

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Rate => "rate",
            Self::Operations => "operations",
            Self::P50 => "p50",
            Self::P99 => "p99",
            Self::Temperature => "temperature",
            Self::Power => "power",
        }
    }
}

/// A claim with its conditions; those that it does not state may be any.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StatedClaim {
    /// What it is about.
    pub figure: ClaimedFigure,
    /// What is claimed, in the figure's unit.
    pub value: f64,
    /// What is done.
    pub op: Option<Op>,
    /// Whether addresses are drawn at random.
    pub random: Option<bool>,
    /// Bytes of an operation.
    pub block: Option<u64>,
    /// Operations in flight, of each worker.
    pub depth: Option<u32>,
    /// Workers.
    pub workers: Option<u32>,
}

impl StatedClaim {
    /// The conditions in words.
    pub fn words(&self) -> String {
        let access = match self.random {
            Some(true) => "random ",
            Some(false) => "sequential ",
            None => "",
        };
        let op = self.op.map_or("any load", Op::word);
        let block = self.block.map(|b| format!("{} blocks", block_size(Bytes(b))));
        let depth = self.depth.map(|d| format!("depth {d}"));
        let workers = self.workers.map(|w| format!("{w} workers"));
        let all = [Some(format!("{access}{op}")), block, depth, workers];
        format!("{}: {}", all.into_iter().flatten().collect::<Vec<_>>().join(", "), self.figure.word())
    }

    /// Whether a leg ran under its conditions.
    pub(super) fn fits(&self, load: &LegLoad) -> bool {
        let is = |asked: Option<u32>, has: u32| asked.is_none_or(|a| a == has);
        !load.is_held_back
            && self.op.is_none_or(|op| op == load.op)
            && self.random.is_none_or(|random| random == load.random)
            && self.block.is_none_or(|block| block == load.block)
            && is(self.depth, load.depth)
            && is(self.workers, load.workers)
    }

    /// A leg that runs under its conditions.
    pub(super) fn leg(&self) -> Option<String> {
        let op = self.op?;
        let random = self.random.unwrap_or(false);
        let access = if random { "random" } else { "sequential" };
        let block = self.block.unwrap_or(if random { 4096 } else { 1 << 20 });
        let depth = self.depth.unwrap_or(if random { 32 } else { 16 });
        let workers = self.workers.map_or(String::new(), |w| format!(", workers {w}"));
        Some(format!(
            "leg claimed\n  {} {access}, blocks {}, depth {depth}{workers}\n  over 0 % to 10 %\n  for 60 s",
            op.word(),
            block_size(Bytes(block))
        ))
    }
}

/// What a leg does, as far as a claim may go by it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LegLoad {
    /// Name of the leg.
    pub leg: String,
    /// What it does.
    pub op: Op,
    /// Whether addresses are drawn at random.
    pub random: bool,
    /// Bytes of an operation.
    pub block: u64,
    /// Operations in flight, of each worker.
    pub depth: u32,
    /// Workers.
    pub workers: u32,
    /// Whether the course held it back, or it went through a cache of the host: no claim is made for that.
    pub is_held_back: bool,
}
