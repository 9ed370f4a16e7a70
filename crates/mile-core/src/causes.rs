//! Why a break happened: facts about it, evidence for and against each cause, and a confidence.
//!
//! Each row adds to the logarithm of the odds of a cause against "unexplained"; the confidence is the share that the
//! winner takes of all of them. `rows.rs` has the facts and their words, `weights.rs` what each weighs: how much more often it is seen with the cause
//! than without it (3 is twenty times). The weights are fitted on the corpus; `docs/accuracy.md` shows how well the confidences that come of them
//! hold. Where the readings that would decide are missing, the confidence is capped, and says so.

mod draw;
mod earlier;
mod facts;
mod foresight;
mod pattern;
mod rows;
mod scales;
mod scene;
mod seen;
mod shift;
mod sides;
mod swing;
mod verdict;
mod weights;

use crate::breaks::{Break, Cause, Evidence};
use crate::sample::Op;
use facts::Facts;
pub(crate) use foresight::Shows;
pub(crate) use pattern::pattern;
pub use scene::Scene;
pub use seen::Seen;
pub(crate) use seen::address;
use verdict::Verdict;
pub use weights::{Row, TABLE, weight_of};

impl Scene<'_> {
    /// Attributes each break to a cause.
    pub fn breaks(&self) -> Vec<Break> {
        let mut done = Vec::new();
        for i in 0..self.seen.len() {
            let found = self.attribute(i, &done);
            done.push(found);
        }
        done
    }

    /// Attributes break `index`; `done` are those before it.
    pub fn attribute(&self, index: usize, done: &[Break]) -> Break {
        let facts = Facts::gather(self, index, done);
        let verdict = weigh(&facts);
        let edge = &self.seen[index].edge;
        let (low_s, high_s) = self.when(edge);
        // Anywhere in a gap is as likely.
        let unlogged = facts.in_gap && !facts.across && self.trace.unlogged(edge.sample) > 0.0;
        Break {
            at_s: if unlogged { f64::midpoint(low_s, high_s) } else { edge.at.secs() },
            at_bytes: edge.bytes.0,
            low_bytes: edge.low.0,
            high_bytes: edge.high.0,
            from_mb_s: edge.from.mb_s(),
            to_mb_s: edge.to.mb_s(),
            cause: verdict.cause,
            confidence: verdict.confidence,
            evidence: verdict.evidence,
            candidates: verdict.candidates,
            at_most: verdict.at_most,
            also: verdict.also,
            low_s,
            high_s,
        }
    }
}

/// Puts down what speaks for and against each cause that facts leave open, and what it comes to.
fn weigh(facts: &Facts) -> Verdict {
    let mut list = Vec::new();
    let mut candidates = vec![Cause::Unexplained];
    let mut consider = |cause: Cause, list: &mut Vec<Evidence>, weigh: fn(&Facts, &mut Vec<Evidence>)| {
        candidates.push(cause);
        weigh(facts, list);
    };
    if facts.across {
        match facts.pause {
            Some(Op::Idle | Op::Read) if !facts.falls => {
                consider(Cause::CacheRecovered, &mut list, rows::recovered);
                consider(Cause::ThermalRelease, &mut list, rows::release);
                if facts.elsewhere && facts.undone.is_some_and(|(cause, _)| cause == Cause::Surface) {
                    consider(Cause::Surface, &mut list, rows::left);
                }
            }
            _ => consider(Cause::Workload, &mut list, rows::workload),
        }
    } else {
        if facts.waited.is_some() {
            consider(
                if facts.falls { Cause::OtherSide } else { Cause::OtherSideEnd },
                &mut list,
                rows::other_side,
            );
        }
        if facts.stall.is_some() {
            consider(if facts.falls { Cause::Stall } else { Cause::StallEnd }, &mut list, rows::stall);
        }
        if facts.falls {
            consider(Cause::ThermalThrottle, &mut list, rows::throttle);
            consider(Cause::Interference, &mut list, rows::others);
            if facts.op == Op::Write {
                consider(Cause::CacheExhausted, &mut list, rows::cache);
                if facts.fill.is_some() || facts.capacity.is_some() {
                    consider(Cause::FillLevel, &mut list, rows::fill);
                }
            }
        } else {
            consider(Cause::ThermalRelease, &mut list, rows::release);
            consider(Cause::InterferenceEnd, &mut list, rows::others);
        }
        if facts.address.is_some() {
            consider(Cause::Surface, &mut list, rows::surface);
        }
    }
    rows::unexplained(facts, &mut list);
    Verdict::of(facts, list, &candidates)
}
