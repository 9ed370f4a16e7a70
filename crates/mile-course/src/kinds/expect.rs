//! What is expected before the course goes on: a temperature or a reading that a run needs to be comparable.

use crate::course::ends::{End, Seen};
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::clause::{Clause, Clauses};
use crate::parse::reader::Reader;
use crate::plan::fit::Fit;
use mile_core::Nanos;

/// Time that it has to come true where the course names none, beyond the time for which it has to hold. A drive or an instrument that is read once a second
/// has been read several times by then.
const AT_ONCE: Nanos = Nanos(5_000_000_000);

/// Something that is expected.
#[derive(Clone, Debug, PartialEq)]
pub struct Expect {
    /// One of these has to come true. Temperatures and channels only.
    pub that: Vec<End>,
    /// It has so long to come true.
    pub at_most: Option<Nanos>,
}

/// Whether something can be expected.
fn can_be(end: &End) -> bool {
    matches!(end, End::Seen(Seen::Below(..) | Seen::Above(..) | Seen::Stable(..) | Seen::Channel(..)))
}

/// Puts it together.
pub(crate) fn read(reader: &mut Reader, span: Span, that: Vec<End>, clauses: Clauses) -> Option<Expect> {
    let hint =
        "write `expect temperature below 35 °C`, or `expect ambient above 20 °C`, and one `at most TIME`";
    let mut expect = Expect { that, at_most: None };
    if !expect.that.iter().all(can_be) {
        reader.errors.push(
            Diagnostic::new(span, "only a temperature or a reading of a channel can be expected").hint(hint),
        );
        return None;
    }
    for (clause, span) in clauses {
        match clause {
            Clause::AtMost(time) if expect.at_most.is_none() => expect.at_most = Some(time),
            _ => reader.errors.push(
                Diagnostic::new(span, "this does not belong to what is expected, or is said twice")
                    .hint(hint),
            ),
        }
    }
    Some(expect)
}

/// Fits it to a drive: the time that it has, and what has to come true. `None`, with the reason in the errors, where it never can.
pub(crate) fn fit(fit: &mut Fit<'_>, name: &str, expect: &Expect) -> Option<(Nanos, Vec<Seen>)> {
    let of = |end: &End| if let End::Seen(seen) = end { Some(seen.clone()) } else { None };
    let all: Vec<Seen> = expect.that.iter().filter_map(of).collect();
    if let Some(seen) = all.iter().find(|s| s.needs_temperature()).filter(|_| !fit.drive.has_temperature) {
        fit.errors
            .push(format!("Leg {name} expects a {}, but this drive gives no temperature.", seen.words()));
        return None;
    }
    let held = |s: &Seen| match s {
        Seen::Below(_, hold) | Seen::Above(_, hold) | Seen::Stable(_, hold) | Seen::Channel(_, hold) => *hold,
        Seen::Steady(_) | Seen::Break(_) | Seen::Errors(_) => Nanos(0),
    };
    let longest = all.iter().map(held).max().unwrap_or_default();
    Some((expect.at_most.unwrap_or(longest.plus(AT_ONCE)), all))
}

/// In words: `expecting temperature below 35 °C`.
pub(crate) fn words(all: &[Seen]) -> String {
    format!("expecting {}", all.iter().map(Seen::words).collect::<Vec<_>>().join(" or "))
}
