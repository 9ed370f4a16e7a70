//! A look at the drive's health, which the run keeps.

use crate::parse::clause::{Clauses, nothing_more};
use crate::parse::reader::Reader;

/// In words.
pub(crate) const WORDS: &str = "reading the drive's health";

/// Reads what is said of it, which is nothing.
pub(crate) fn read(reader: &mut Reader, clauses: Clauses) {
    nothing_more(reader, clauses, "a look at the health");
}
