//! From text to a course, with all errors at once.
//!
//! The parser goes clause by clause: clauses are parted by commas and line ends. A clause that cannot be read is
//! reported and passed over, and reading goes on behind it. What a clause says twice, or what is
//! missing, is reported when its leg is complete.
//!
//! Repeats, sweeps and batteries are unfolded while reading: the tokens of their bodies are read once for each value, with the
//! sweep's name standing for it. An error in a body is so found with every value, and told once.

pub(crate) mod checks;
pub(crate) mod clause;
pub(crate) mod clauses;
mod legs;
pub(crate) mod named;
mod parser;
pub(crate) mod quantities;
pub(crate) mod reader;
mod settings;

use crate::course::Course;
use crate::diagnostic::{Diagnostic, Span};
use legs::ENOUGH_ERRORS;
use mile_core::Demand;
use parser::Parser;
use reader::{Reader, Unread};

/// Reads a course. On failure gives everything that is wrong with it, in the order of the text.
pub fn parse(source: &str) -> Result<Course, Vec<Diagnostic>> {
    let mut parser = Parser::new(source);
    let course = parser.course();
    let mut errors = parser.legs.reader.errors;
    if errors.is_empty() {
        return Ok(course);
    }
    errors.sort_by_key(|e| (e.span.line, e.span.column));
    // A body that is read with several values says the same of each.
    errors.dedup_by_key(|e| e.span);
    if parser.legs.gave_up {
        errors.truncate(ENOUGH_ERRORS);
        let last = errors.last().map_or(Span::default(), |e| e.span);
        errors.push(Diagnostic::new(last, "there is more that cannot be read; mend this first"));
    }
    Err(errors)
}

/// Reads a stream that must be held: `recorder 147.5 MB/s, buffer 4 GB, until 90 % full`.
pub fn demand(source: &str) -> Result<Demand, Vec<Diagnostic>> {
    let mut parser = Reader::new(source);
    match parser.demand() {
        Ok(demand) => {
            parser.end_clause();
            if parser.errors.is_empty() { Ok(demand) } else { Err(parser.errors) }
        }
        Err(Unread) => Err(parser.errors),
    }
}
