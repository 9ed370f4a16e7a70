//! The rest: a leg without load, until a time, a temperature, or a channel.

use crate::course::ends::{End, Seen};
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::clause::{Clause, Clauses};
use crate::parse::reader::Reader;
use crate::plan::fit::{Fit, shortest, time_of};
use mile_core::Nanos;

/// A rest.
#[derive(Clone, Debug, PartialEq)]
pub struct Rest {
    /// The first of these to be reached ends it. Never bytes or a pass.
    pub until: Vec<End>,
    /// It ends after this at the latest.
    pub at_most: Option<Nanos>,
}

/// Puts a rest together.
pub(crate) fn read(reader: &mut Reader, span: Span, mut until: Vec<End>, clauses: Clauses) -> Option<Rest> {
    let waits = |end: &End| {
        matches!(
            end,
            End::After(_)
                | End::Seen(Seen::Below(..) | Seen::Above(..) | Seen::Stable(..) | Seen::Channel(..))
        )
    };
    let hint = "a rest takes `for TIME`, `until temperature below T °C` and one `at most TIME`";
    let mut at_most = None;
    if !until.iter().all(waits) {
        reader
            .errors
            .push(Diagnostic::new(span, "nothing is moved in a rest that could end it so").hint(hint));
    }
    for (clause, span) in clauses {
        match clause {
            Clause::Until(ends) if ends.iter().all(waits) => until.extend(ends),
            Clause::AtMost(time) if at_most.is_none() => at_most = Some(time),
            _ => reader
                .errors
                .push(Diagnostic::new(span, "this does not belong to a rest, or is said twice").hint(hint)),
        }
    }
    if until.is_empty() {
        reader.errors.push(
            Diagnostic::new(span, "this rest never ends")
                .hint("write `rest for 10 min`, or `rest until temperature below 35 °C, at most 10 min`"),
        );
        return None;
    }
    if at_most.is_none() && !until.iter().any(|e| matches!(e, End::After(_))) {
        reader.errors.push(
            Diagnostic::new(span, "this rest may never end, as a temperature may never be reached")
                .hint("add a limit: `, at most 30 min`"),
        );
    }
    Some(Rest { until, at_most })
}

/// Fits it to a drive: the time after which it ends, and what else ends it. `None` where it cannot be told when it ends.
pub(crate) fn fit(fit: &mut Fit<'_>, name: &str, rest: &Rest) -> Option<(Option<Nanos>, Vec<Seen>)> {
    let timed = shortest(rest.until.iter().map(time_of));
    let left = if timed.is_some() { "only its time counts" } else { "the leg is passed over" };
    let seen = fit.seen(name, &rest.until, left);
    if seen.is_empty() && timed.is_none() {
        return None;
    }
    Some((shortest([timed, rest.at_most].into_iter()), seen))
}
