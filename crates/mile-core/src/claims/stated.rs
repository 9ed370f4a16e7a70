//! Claims that are stated with their conditions, each held against the legs that ran under these and against no others.

use super::conditions::{ClaimedFigure, LegLoad, StatedClaim};
use super::excuses::{FULL, Seen, Stretch, in_use};
use crate::context::Context;
use crate::legs::LegRow;
use crate::repeats::Figure;
use crate::sample::Op;
use crate::units::{Rate, number};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

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

/// A claim beside the rows that ran under its conditions.
fn found(
    claim: &StatedClaim,
    rows: &[LegRow],
    loads: &HashMap<&str, &LegLoad>,
    (context, seen): (&Context, Seen<'_>),
) -> StatedFound {
    let fitting: Vec<(&LegRow, f64)> = rows
        .iter()
        .filter(|row| loads.get(row.leg.as_str()).is_some_and(|load| claim.fits(load)))
        .filter_map(|row| Some((row, of(claim.figure, row)?)))
        .collect();
    let at_most = claim.figure.is_at_most();
    let measured = Figure::of(&fitting.iter().map(|f| f.1).collect::<Vec<_>>());
    let meets = |v: f64| if at_most { v <= claim.value } else { v >= claim.value };
    let is_met = measured.and_then(|m| match (m.low, m.high) {
        (Some(low), Some(high)) if meets(low) != meets(high) => None,
        _ => Some(meets(m.mean)),
    });
    let mut excuses: Vec<String> = Vec::new();
    if is_met != Some(true) {
        // The levels of a sweep together, and not each by itself.
        let full =
            || fitting.iter().filter_map(|(row, _)| row.fill_pct).map(|f| f / 100.0).filter(|f| *f >= FULL);
        excuses.extend(
            full().reduce(f64::min).zip(full().reduce(f64::max)).map(|(low, high)| in_use(low, high)),
        );
        for excuse in fitting.iter().flat_map(|(row, _)| excuses_of(row, context, seen)) {
            if !excuses.contains(&excuse) {
                excuses.push(excuse);
            }
        }
    }
    StatedFound {
        what: claim.words(),
        unit: claim.figure.unit().to_owned(),
        claimed: claim.value,
        at_most,
        measured,
        // A share of degrees above the freezing point of water says nothing.
        percent: measured
            .filter(|_| claim.figure != ClaimedFigure::Temperature)
            .map(|m| 100.0 * m.mean / claim.value),
        is_met,
        legs: fitting.iter().map(|(row, _)| row.leg.clone()).collect(),
        excuses,
        offer: if fitting.is_empty() { claim.leg() } else { None },
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
pub(crate) fn stated(context: &Context, rows: &[LegRow], seen: Seen<'_>) -> Vec<StatedFound> {
    let loads: HashMap<&str, &LegLoad> = context.loads.iter().map(|l| (l.leg.as_str(), l)).collect();
    context.stated.iter().map(|claim| found(claim, rows, &loads, (context, seen))).collect()
}

/// The figure of a row that a claim is about.
fn of(figure: ClaimedFigure, row: &LegRow) -> Option<f64> {
    match figure {
        ClaimedFigure::Rate => row.mean_mb_s,
        ClaimedFigure::Operations => row.iops,
        ClaimedFigure::P50 => row.p50_us,
        ClaimedFigure::P99 => row.p99_us,
        ClaimedFigure::Temperature => row.max_c,
        ClaimedFigure::Power => row.mean_w(),
    }
}

/// What was so in a leg that a claim is seldom made for.
fn excuses_of(row: &LegRow, context: &Context, seen: Seen<'_>) -> Vec<String> {
    let to = row.start_s + row.seconds;
    let stretch = Stretch {
        from: row.start_s,
        to,
        rate: row.mean_mb_s.map(|r| Rate(r * 1e6)),
        fill: None,
        // The figures are those of the whole leg.
        cache_by: (row.op == Op::Write).then_some(to),
    };
    stretch.excuses(context, seen)
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
