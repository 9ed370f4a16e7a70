//! Claims that are stated with their conditions, each held against the legs that ran under these and against no others.

use super::Stretch;
use crate::findings::{Context, Findings};
use crate::legs::LegRow;
use crate::repeats::Figure;
use crate::sample::Op;
use crate::units::{Bytes, Rate, block_size, number};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

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
}

impl ClaimedFigure {
    /// Its unit.
    pub fn unit(self) -> &'static str {
        match self {
            Self::Rate => "MB/s",
            Self::Operations => "1/s",
            Self::P50 | Self::P99 => "µs",
            Self::Temperature => "°C",
        }
    }

    /// Whether less is better.
    pub fn is_at_most(self) -> bool {
        matches!(self, Self::P50 | Self::P99 | Self::Temperature)
    }

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Rate => "rate",
            Self::Operations => "operations",
            Self::P50 => "p50",
            Self::P99 => "p99",
            Self::Temperature => "temperature",
        }
    }

    fn of(self, row: &LegRow) -> Option<f64> {
        match self {
            Self::Rate => row.mean_mb_s,
            Self::Operations => row.iops,
            Self::P50 => row.p50_us,
            Self::P99 => row.p99_us,
            Self::Temperature => row.max_c,
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

/// A stated claim beside what was measured under its conditions.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StatedFound {
    /// The claim in words: `random read, 4 KiB blocks, depth 32: operations`.
    pub what: String,
    /// Its unit.
    pub unit: String,
    /// What is claimed.
    pub claimed: f64,
    /// Whether it is claimed at the most, and not at least.
    pub at_most: bool,
    /// What was measured over the legs that fit; `None` where none does.
    pub measured: Option<Figure>,
    /// Measured over claimed, percent; `None` for a temperature.
    pub percent: Option<f64>,
    /// Whether it is met: by the mean, where its interval is on one side of the claim, or is not known. `None` where the interval has the claim in it, or
    /// nothing was measured.
    pub is_met: Option<bool>,
    /// The legs that ran under its conditions.
    pub legs: Vec<String>,
    /// What was so in them that a claim is seldom made for.
    pub excuses: Vec<String>,
    /// The leg that would measure it, as a course has it, where none did.
    pub offer: Option<String>,
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
    fn leg(&self) -> Option<String> {
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

    fn found(
        &self,
        rows: &[LegRow],
        loads: &HashMap<&str, &LegLoad>,
        (context, found): (&Context, &Findings),
    ) -> StatedFound {
        let fitting: Vec<(&LegRow, f64)> = rows
            .iter()
            .filter(|row| loads.get(row.leg.as_str()).is_some_and(|load| self.fits(load)))
            .filter_map(|row| Some((row, self.figure.of(row)?)))
            .collect();
        let at_most = self.figure.is_at_most();
        let measured = Figure::of(&fitting.iter().map(|f| f.1).collect::<Vec<_>>());
        let meets = |v: f64| if at_most { v <= self.value } else { v >= self.value };
        let is_met = measured.and_then(|m| match (m.low, m.high) {
            (Some(low), Some(high)) if meets(low) != meets(high) => None,
            _ => Some(meets(m.mean)),
        });
        let mut excuses: Vec<String> = Vec::new();
        if is_met != Some(true) {
            for excuse in fitting.iter().flat_map(|(row, _)| excuses_of(row, context, found)) {
                if !excuses.contains(&excuse) {
                    excuses.push(excuse);
                }
            }
        }
        StatedFound {
            what: self.words(),
            unit: self.figure.unit().to_owned(),
            claimed: self.value,
            at_most,
            measured,
            // A share of degrees above the freezing point of water says nothing.
            percent: measured
                .filter(|_| self.figure != ClaimedFigure::Temperature)
                .map(|m| 100.0 * m.mean / self.value),
            is_met,
            legs: fitting.iter().map(|(row, _)| row.leg.clone()).collect(),
            excuses,
            offer: if fitting.is_empty() { self.leg() } else { None },
        }
    }
}

impl StatedFound {
    /// Its verdict in a word or two.
    pub fn verdict(&self) -> &'static str {
        match (self.measured, self.is_met) {
            (None, _) => "not measured",
            (_, None) => "cannot be told",
            (_, Some(true)) => "met",
            (_, Some(false)) => "not met",
        }
    }

    /// What was measured, with its interval where there is one.
    pub fn measured_words(&self) -> String {
        let Some(m) = self.measured else { return "–".to_owned() };
        match m.low.zip(m.high) {
            Some((low, high)) => format!("{} ({} to {})", number(m.mean), number(low), number(high)),
            None => number(m.mean),
        }
    }

    /// What is claimed: `at least 900,000`.
    pub fn claimed_words(&self) -> String {
        format!("at {} {}", if self.at_most { "most" } else { "least" }, number(self.claimed))
    }
}

/// All stated claims, in the order in which they are stated.
pub(crate) fn stated(context: &Context, rows: &[LegRow], found: &Findings) -> Vec<StatedFound> {
    let loads: HashMap<&str, &LegLoad> = context.loads.iter().map(|l| (l.leg.as_str(), l)).collect();
    context.stated.iter().map(|claim| claim.found(rows, &loads, (context, found))).collect()
}

/// What was so in a leg that a claim is seldom made for.
fn excuses_of(row: &LegRow, context: &Context, found: &Findings) -> Vec<String> {
    let to = row.start_s + row.seconds;
    let stretch = Stretch {
        from: row.start_s,
        to,
        rate: row.mean_mb_s.map(|r| Rate(r * 1e6)),
        fill: row.fill_pct.map(|f| f / 100.0),
        // The figures are those of the whole leg.
        cache_by: (row.op == Op::Write).then_some(to),
    };
    stretch.excuses(context, found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn load(leg: &str, random: bool, block: u64, depth: u32) -> LegLoad {
        LegLoad { leg: leg.into(), op: Op::Read, random, block, depth, workers: 1, is_held_back: false }
    }

    #[test]
    fn a_claim_fits_legs_under_all_of_its_conditions_and_no_others() {
        let claim = StatedClaim {
            figure: ClaimedFigure::Operations,
            value: 900_000.0,
            op: Some(Op::Read),
            random: Some(true),
            block: Some(4096),
            depth: Some(32),
            workers: None,
        };
        assert!(claim.fits(&load("a", true, 4096, 32)));
        for other in [load("a", false, 4096, 32), load("a", true, 8192, 32), load("a", true, 4096, 1)] {
            assert!(!claim.fits(&other), "{other:?}");
        }
        assert!(!claim.fits(&LegLoad { op: Op::Write, ..load("a", true, 4096, 32) }));
        assert!(!claim.fits(&LegLoad { is_held_back: true, ..load("a", true, 4096, 32) }));
        assert!(claim.fits(&LegLoad { workers: 8, ..load("a", true, 4096, 32) }), "not stated");
        assert_eq!(claim.words(), "random read, 4 KiB blocks, depth 32: operations");
    }
}
