//! The discard: the drive is told that a range holds nothing any more.

use crate::course::position::{Range, WHOLE};
use crate::parse::clause::{Clauses, nothing_more, only_over};
use crate::parse::reader::Reader;
use crate::plan::fit::{Fit, without};
use mile_core::Bytes;

/// Tells the drive that a range holds nothing any more.
#[derive(Clone, Debug, PartialEq)]
pub struct Discard {
    /// The range.
    pub over: Range,
}

/// Puts it together.
pub(crate) fn read(reader: &mut Reader, clauses: Clauses) -> Discard {
    let (over, rest) = only_over(clauses);
    nothing_more(reader, rest, "a discard");
    Discard { over: over.unwrap_or(WHOLE) }
}

/// Fits it to a drive: first byte and length.
pub(crate) fn fit(fit: &mut Fit<'_>, name: &str, discard: &Discard) -> Option<(Bytes, Bytes)> {
    let (start, length) = fit.range(name, discard.over, fit.drive.logical_block, Bytes(0))?;
    // What is read there afterwards never reaches the medium.
    fit.written = without(&fit.written, (start.0, start.0 + length.0));
    fit.filled = fit.filled.min(start.0);
    Some((start, length))
}

/// In words.
pub(crate) fn words(start: Bytes, length: Bytes) -> String {
    format!("discarding {length} from {start} on")
}
