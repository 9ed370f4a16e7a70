//! A word to the operator: the run waits for a key.

use crate::parse::clause::{Clauses, only_a_limit};
use crate::parse::reader::Reader;
use mile_core::Nanos;

/// Tells the operator something and waits for a key.
#[derive(Clone, Debug, PartialEq)]
pub struct Ask {
    /// What the operator is told.
    pub text: String,
    /// It waits for so long at the longest.
    pub at_most: Option<Nanos>,
}

/// Puts it together.
pub(crate) fn read(reader: &mut Reader, text: String, clauses: Clauses) -> Ask {
    Ask { text, at_most: only_a_limit(reader, clauses, "a word to the operator") }
}

/// In words.
pub(crate) fn words(text: &str) -> String {
    format!("waiting for the operator: {text}")
}
