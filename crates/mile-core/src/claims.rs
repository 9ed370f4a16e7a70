//! What was measured against what is claimed, and what could excuse the difference.

pub mod conditions;
pub mod excuses;
pub mod stated;

use crate::context::Context;
use crate::figures::Plateau;
use crate::legs::{FigureName, LegRow};
use crate::sample::Op;
use crate::trace::Trace;
use crate::units::Rate;
use conditions::ClaimedFigure;
use excuses::{Seen, Stretch};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};

/// Bytes of an operation on the mean, up to which a leg is none that a sequential rate is claimed for.
const SMALL: f64 = 65_536.0;

/// A measured figure beside the claimed one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ClaimFound {
    /// What: `write, first plateau`.
    pub what: String,
    /// As claimed, MB/s.
    pub claimed_mb_s: f64,
    /// As measured, MB/s.
    pub measured_mb_s: f64,
    /// Measured over claimed, percent.
    pub percent: f64,
    /// What could excuse the difference, in words; empty where nothing was seen.
    pub excuses: Vec<String>,
}

/// Each claimed rate against the first and the last plateau of the legs that it is about.
pub(crate) fn claims(
    trace: &Trace,
    context: &Context,
    (plateaus, seen): (&[Plateau], Seen<'_>),
    fitting: &HashSet<&str>,
) -> Vec<ClaimFound> {
    let mut all = Vec::new();
    for (op, claimed) in [(Op::Write, context.rated_write), (Op::Read, context.rated_read)] {
        let Some(claimed) = claimed.filter(|c| c.0 > 0.0) else { continue };
        let mut plateaus = plateaus.iter().filter(|p| p.op == op && fitting.contains(p.leg.as_str()));
        let Some(first) = plateaus.next() else { continue };
        all.push(against(
            op.word(),
            "first plateau",
            claimed,
            first.mean_mb_s,
            excuses(trace, context, seen, first.start_s, first.end_s),
        ));
        if let Some(last) = plateaus.next_back() {
            let excuses = excuses(trace, context, seen, last.start_s, last.end_s);
            all.push(against(op.word(), "last plateau", claimed, last.mean_mb_s, excuses));
        }
    }
    for claim in &mut all {
        if claim.percent >= 100.0 {
            claim.excuses.clear();
        }
    }
    all
}

/// The names of the legs that ran under the conditions that a sequential rate is claimed for. A pass over all samples, so that it is made once.
pub(crate) fn fitting<'a>(trace: &'a Trace, context: &Context) -> HashSet<&'a str> {
    let mut sums: HashMap<&str, (u64, u64)> = HashMap::new();
    for leg in trace.legs() {
        let sum = sums.entry(&leg.name).or_default();
        sum.0 += trace.moved(leg.samples.end).0 - trace.moved(leg.samples.start).0;
        sum.1 += leg.samples.clone().map(|i| trace.ops(i)).sum::<u64>();
    }
    let others: HashSet<&str> = context.not_sequential.iter().map(String::as_str).collect();
    // A file may not say how many operations there were.
    let is_large =
        |(bytes, operations): (u64, u64)| operations == 0 || bytes as f64 / operations as f64 > SMALL;
    sums.into_iter().filter(|(name, sum)| is_large(*sum) && !others.contains(name)).map(|s| s.0).collect()
}

/// What is claimed of the legs of a run: the leg without its repeats, the figure, and its value, in the units of [`LegRow::figures`]. Each claim is given only for
/// legs that ran under its conditions. Temperatures are left out, as no ambient is claimed with them.
pub fn claimed_figures(trace: &Trace, context: &Context, rows: &[LegRow]) -> Vec<(String, FigureName, f64)> {
    let sequential = fitting(trace, context);
    let mut all: Vec<(String, FigureName, f64)> = Vec::new();
    let mut add = |row: &LegRow, figure: &str, unit: &str, value: f64| {
        let entry =
            (row.shared_name(), FigureName { figure: figure.to_owned(), unit: unit.to_owned() }, value);
        // Of several claims for one figure, the first holds: it is stated with its conditions.
        if !all.iter().any(|(leg, name, _)| (leg, name) == (&entry.0, &entry.1)) {
            all.push(entry);
        }
    };
    for row in rows {
        let load = context.loads.iter().find(|l| l.leg == row.leg);
        for claim in context.stated.iter().filter(|c| load.is_some_and(|l| c.fits(l))) {
            match claim.figure {
                ClaimedFigure::Rate => add(row, "rate", "MB/s", claim.value),
                ClaimedFigure::Operations => add(row, "operations", "1/s", claim.value),
                ClaimedFigure::P50 => add(row, "p50", "µs", claim.value),
                ClaimedFigure::P99 => add(row, "p99", "µs", claim.value),
                ClaimedFigure::Temperature => {}
                ClaimedFigure::Power => {
                    if let Some(channel) = row.channels.iter().find(|c| c.unit == "W") {
                        add(row, &format!("{} mean", channel.name), "W", claim.value);
                    }
                }
            }
        }
        let rated = match row.op {
            Op::Write => context.rated_write,
            Op::Read => context.rated_read,
            Op::Mixed | Op::Idle => None,
        };
        if let Some(rate) = rated.filter(|r| r.0 > 0.0 && sequential.contains(row.leg.as_str())) {
            add(row, "rate", "MB/s", rate.mb_s());
        }
    }
    all
}

fn against(op: &str, which: &str, claimed: Rate, measured: f64, excuses: Vec<String>) -> ClaimFound {
    let what = format!("{op}, {which}");
    ClaimFound {
        what,
        claimed_mb_s: claimed.mb_s(),
        measured_mb_s: measured,
        percent: 100.0 * measured / claimed.mb_s(),
        excuses,
    }
}

/// What was so between two times that a claim is not made for.
fn excuses(trace: &Trace, context: &Context, seen: Seen<'_>, from: f64, to: f64) -> Vec<String> {
    let index = |s: f64| trace.index_at_time(crate::units::Nanos::from_secs(s));
    let (first, end) = (index(from), index(to).max(index(from) + 1).min(trace.len()));
    // A read goes past the write cache.
    let reads = trace.legs().iter().any(|l| l.op == Op::Read && l.samples.contains(&first));
    let stretch = Stretch {
        from,
        to,
        rate: trace.mean_rate(first..end),
        fill: trace.fill.extent(first, end).map(|e| e.mean),
        cache_by: (!reads).then_some(from + 1.0),
    };
    stretch.excuses(context, seen)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::findings;
    use crate::sample::Sample;
    use crate::units::{Bytes, Nanos};

    /// A claim of a sequential rate was held against whatever read: a random read of 4 KiB was 3 % of it, a leg that the course held back 1 %.
    #[test]
    fn a_sequential_claim_is_held_only_against_legs_under_its_conditions() {
        let run = |legs: &[(&str, f64, u64)], not_sequential: &[&str]| {
            let mut trace = Trace::new();
            for (i, (name, mb_s, block)) in legs.iter().enumerate() {
                for k in 0..40 {
                    let at = (i * 40 + k) as u64 * 1_000_000_000;
                    let bytes = (mb_s * 1e6) as u64;
                    let sample = Sample {
                        start: Nanos(at),
                        end: Nanos(at + 1_000_000_000),
                        op: Op::Read,
                        read: Bytes(bytes),
                        ops: bytes / block,
                        ..Sample::default()
                    };
                    trace.push(&sample, name);
                }
            }
            let context = Context {
                rated_read: Some(Rate(5e9)),
                not_sequential: not_sequential.iter().map(|s| (*s).to_owned()).collect(),
                ..Context::default()
            };
            findings(&trace, &context)
        };
        let all = [("random", 150.0, 4096), ("paced", 50.0, 1 << 20), ("plain", 4500.0, 1 << 20)];
        let found = run(&all, &["paced"]);
        assert_eq!(found.claims.iter().map(|c| c.percent.round()).collect::<Vec<_>>(), [90.0]);
        // Where none fits, nothing is held against it, and that is said.
        let found = run(&all[..2], &["paced"]);
        assert!(found.claims.is_empty());
        let said = found
            .notes
            .iter()
            .filter(|n| n.contains("under the conditions of the claimed sequential read rate"));
        assert_eq!(said.count(), 1, "{:?}", found.notes);
    }
}
