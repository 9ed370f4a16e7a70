//! The fill: a write that brings the drive to a fill level, with data that stays.

use super::transfer::{self, Fitted, Kind, Transfer, nothing};
use crate::course::order::Access;
use crate::course::position::Position;
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::clause::{Clause, Clauses};
use crate::parse::reader::Reader;
use crate::plan::fit::Fit;
use mile_core::{Bytes, Op};

/// Puts it together: it has no range and no end of its own.
pub(crate) fn read(
    reader: &mut Reader,
    span: Span,
    to: Position,
    clauses: Clauses,
    unread: bool,
) -> Transfer {
    let is_end = |clause: &Clause| {
        matches!(clause, Clause::Over(_) | Clause::Until(_) | Clause::AtMost(_) | Clause::AtMostMoved(_))
    };
    let (ends, rest): (Vec<_>, Vec<_>) = clauses.partition(|(clause, _)| is_end(clause));
    for (_, at) in ends {
        let why = Diagnostic::new(at, "a fill goes from the front to its level, however long that takes");
        reader.errors.push(why.hint("to write another range, or for a time, begin with `write sequential`"));
    }
    let fill = nothing(Op::Write, Kind::Fill(to), Access::Sequential);
    transfer::read(reader, span, fill, rest.into_iter(), unread)
}

/// Whether earlier fills have brought the drive to the level already.
pub(crate) fn is_reached(fit: &Fit<'_>, leg: &Transfer, to: Position) -> bool {
    fit.address(to) < fit.filled + leg.load.block.0
}

/// Fits it to a drive, from where earlier fills ended.
pub(crate) fn fit(fit: &mut Fit<'_>, name: &str, leg: &Transfer, to: Position) -> Option<Fitted> {
    let leg = Transfer { over: (Position::At(Bytes(fit.filled)), to), ..leg.clone() };
    let mut fitted = transfer::fit(fit, name, &leg)?;
    let end = fitted.0.start.0 + fitted.0.length.0;
    fitted.0.fill = Some(end as f64 / fit.drive.capacity.0.max(1) as f64);
    fit.filled = end;
    Some(fitted)
}

/// What it does, to a level from 0 to 1.
pub(crate) fn verb(level: f64) -> String {
    format!("filling to {:.0} %,", level * 100.0)
}
