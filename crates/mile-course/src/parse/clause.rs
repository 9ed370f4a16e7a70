//! What one clause of a leg says.

use super::reader::Reader;
use crate::course::ends::End;
use crate::course::order::{Access, ScanOrder};
use crate::course::position::{Position, Range};
use crate::diagnostic::{Diagnostic, Span};
use mile_core::files::{FileSizes, FileSync, FilesOp};
use mile_core::health::SelfTestKind;
use mile_core::{Bytes, Nanos, Op, Rate};

/// One clause of a leg.
pub(crate) enum Clause {
    Rest(Vec<End>),
    Transfer(Op, Access),
    Verify,
    Fill(Position),
    Scan(Op, Option<ScanOrder>),
    /// What is done with files, and the folder that they are copied from.
    Files(FilesOp, Option<String>),
    Sizes(FileSizes),
    Count(f64),
    Sync(FileSync),
    /// From one lane to another, by their places.
    Copy(usize, usize),
    /// What holds for the target of a copy alone.
    Target(Box<Clause>),
    Buffer(Bytes),
    Flush,
    Discard,
    Health,
    SelfTest(SelfTestKind),
    Ask(String),
    Expect(Vec<End>),
    Reads(f64),
    Workers(f64),
    Rate(Rate),
    Blocks(Bytes),
    Depth(f64),
    Zones(f64),
    Refine(Bytes),
    BadTime(Nanos),
    Shifted(Bytes),
    Incompressible(f64),
    Cached,
    Over(Range),
    Until(Vec<End>),
    AtMost(Nanos),
    AtMostMoved(Bytes),
    /// Reported already.
    Unread,
}

/// Clauses of a leg, and where each stands.
pub(crate) type Clauses = std::vec::IntoIter<(Clause, Span)>;

/// The clauses that are not taken.
pub(crate) fn left_of(clauses: Clauses, mut take: impl FnMut(&Clause) -> bool) -> Clauses {
    clauses.filter(|(clause, _)| !take(clause)).collect::<Vec<_>>().into_iter()
}

/// The range that is said behind an action that takes one, and what else is said.
pub(crate) fn only_over(clauses: Clauses) -> (Option<Range>, Clauses) {
    let mut over = None;
    let rest = left_of(clauses, |clause| match clause {
        Clause::Over(range) if over.is_none() => {
            over = Some(*range);
            true
        }
        _ => false,
    });
    (over, rest)
}

/// The longest time of an action that takes no other clause.
pub(crate) fn only_a_limit(reader: &mut Reader, clauses: Clauses, what: &str) -> Option<Nanos> {
    let mut at_most = None;
    let rest = left_of(clauses, |clause| match clause {
        Clause::AtMost(time) if at_most.is_none() => {
            at_most = Some(*time);
            true
        }
        _ => false,
    });
    nothing_more(reader, rest, what);
    at_most
}

/// Reports clauses behind an action that takes none of them.
pub(crate) fn nothing_more(reader: &mut Reader, clauses: Clauses, what: &str) {
    for (_, span) in clauses {
        reader
            .errors
            .push(Diagnostic::new(span, format!("this does not belong to {what}, or is said twice")));
    }
}
