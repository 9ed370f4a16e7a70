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

use crate::breaks::Break;
use facts::Facts;
pub(crate) use foresight::Same;
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
        let verdict = Verdict::weigh(&facts);
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
