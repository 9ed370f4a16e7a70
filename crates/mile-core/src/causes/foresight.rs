//! What a further run would show of a break if one of the causes were right, and how sure that cause would be then: the facts of the break with those
//! that the run adds, weighed by the same table, with the same limits.

use super::facts::Facts;
use super::scene::Scene;
use super::verdict::Verdict;
use crate::breaks::{Break, Cause};
use crate::units::Bytes;

/// What a further run shows to be as it was.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Same {
    /// The rate falls after the same number of bytes since a rest, with a drive that is warmer than before.
    Bytes,
    /// It falls after the same bytes, with a drive that is as warm as before. The rest before it had brought the rate back.
    BytesAsWarm,
    /// The rate falls at the same temperature, after other bytes.
    Temperature,
    /// The rate changes at the same address in two more passes.
    Place,
}

impl Same {
    /// Puts down what it adds.
    fn add_to(self, facts: &mut Facts) {
        facts.open = false;
        let again = &mut facts.first_falls;
        match self {
            Self::Bytes => again.alike += 1,
            Self::BytesAsWarm => {
                again.alike += 1;
                again.alike_as_warm += usize::from(facts.climbs);
                facts.back_after_rest = true;
            }
            Self::Temperature => {
                again.unlike += 1;
                again.unlike_as_warm += usize::from(facts.climbs);
            }
            Self::Place => {
                facts.passes = (facts.passes.0 + 2, facts.passes.1 + 2);
                facts.seen_once = false;
            }
        }
    }
}

impl Scene<'_> {
    /// Bytes written between the last pause and break `index`.
    pub(crate) fn since_rest(&self, index: usize) -> Bytes {
        Bytes(self.marks[index].since)
    }

    /// What a further run may add to, of break `index`; `done` are the breaks before it. To gather it may take a look at all of a leg.
    pub(crate) fn foresight(&self, index: usize, done: &[Break]) -> Foresight {
        Foresight(Facts::gather(self, index, done))
    }
}

/// What is known of a break, for what a further run would make of it.
pub(crate) struct Foresight(Facts);

impl Foresight {
    /// How sure `cause` would be if a further run showed that, 0 to 1.
    pub(crate) fn confidence(&self, cause: Cause, again: Same) -> f64 {
        let mut facts = self.0.clone();
        again.add_to(&mut facts);
        let verdict = Verdict::weigh(&facts);
        if verdict.cause == cause {
            return verdict.confidence;
        }
        verdict.candidates.iter().find(|c| c.cause == cause).map_or(0.0, |c| c.share)
    }
}
