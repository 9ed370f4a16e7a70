//! The flush: the drive keeps what it was given.

use crate::parse::clause::{Clauses, nothing_more};
use crate::parse::reader::Reader;

/// In words.
pub(crate) const WORDS: &str = "flushing";

/// Reads what is said of it, which is nothing.
pub(crate) fn read(reader: &mut Reader, clauses: Clauses) {
    nothing_more(reader, clauses, "a flush");
}
