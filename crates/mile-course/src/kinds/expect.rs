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
    pub that: Vec<Seen>,
    /// It has so long to come true.
    pub at_most: Nanos,
}

/// For how long something has to hold; `None` for what cannot be expected.
fn held(end: &End) -> Option<(Seen, Nanos)> {
    match end {
        End::Seen(
            seen @ (Seen::Below(_, hold)
            | Seen::Above(_, hold)
            | Seen::Stable(_, hold)
            | Seen::Channel(_, hold)),
        ) => Some((seen.clone(), *hold)),
        _ => None,
    }
}

/// Puts it together.
pub(crate) fn read(reader: &mut Reader, span: Span, that: &[End], clauses: Clauses) -> Option<Expect> {
    let hint =
        "write `expect temperature below 35 °C`, or `expect ambient above 20 °C`, and one `at most TIME`";
    let Some(all) = that.iter().map(held).collect::<Option<Vec<(Seen, Nanos)>>>() else {
        reader.errors.push(
            Diagnostic::new(span, "only a temperature or a reading of a channel can be expected").hint(hint),
        );
        return None;
    };
    let longest = all.iter().map(|(_, hold)| *hold).max().unwrap_or_default();
    let mut at_most = None;
    for (clause, span) in clauses {
        match clause {
            Clause::AtMost(time) if at_most.is_none() => {
                at_most = Some(time);
                if all.iter().all(|(_, hold)| *hold > time) {
                    reader.errors.push(
                        Diagnostic::new(span, "this has to hold for longer than it has to come true").hint(
                            format!("write `at most {}` or more, or a shorter `for`", longest.plus(AT_ONCE)),
                        ),
                    );
                }
            }
            _ => reader.errors.push(
                Diagnostic::new(span, "this does not belong to what is expected, or is said twice")
                    .hint(hint),
            ),
        }
    }
    let at_most = at_most.unwrap_or(longest.plus(AT_ONCE));
    Some(Expect { that: all.into_iter().map(|(seen, _)| seen).collect(), at_most })
}

/// Fits it to a drive: the time that it has, and what has to come true. `None`, with the reason in the errors, where it never can.
pub(crate) fn fit(fit: &mut Fit<'_>, name: &str, expect: &Expect) -> Option<(Nanos, Vec<Seen>)> {
    let needs = |s: &&Seen| s.needs_temperature() && !fit.drive.has_temperature;
    if let Some(seen) = expect.that.iter().find(needs) {
        fit.errors
            .push(format!("Leg {name} expects a {}, but this drive gives no temperature.", seen.words()));
        return None;
    }
    Some((expect.at_most, expect.that.clone()))
}

/// In words: `expecting temperature below 35 °C`.
pub(crate) fn words(all: &[Seen]) -> String {
    format!("expecting {}", all.iter().map(Seen::words).collect::<Vec<_>>().join(" or "))
}
