//! What is wrong with a course's text, and where.

use std::fmt::{self, Write};

/// A stretch of text on one line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Span {
    /// Line, from 1.
    pub line: usize,
    /// Column of the first character, from 1, counted in characters.
    pub column: usize,
    /// Length in characters; 0 at the end of a line.
    pub length: usize,
}

/// One thing that is wrong: where, what was expected and found, and what to do about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// Where.
    pub span: Span,
    /// What is wrong, in a sentence without its full stop.
    pub message: String,
    /// What to do, where that can be said.
    pub hint: Option<String>,
}

impl Diagnostic {
    /// Without a hint.
    pub fn new(span: Span, message: impl Into<String>) -> Self {
        Self { span, message: message.into(), hint: None }
    }

    /// With a hint.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// `line 8, column 12: expected …`, the line itself with the place marked, and the hint.
    pub fn render(&self, source: &str) -> String {
        let mut out = format!("line {}, column {}: {}\n", self.span.line, self.span.column, self.message);
        if let Some(line) = source.lines().nth(self.span.line.saturating_sub(1)) {
            let shown: String = line.chars().map(|c| if c == '\t' { ' ' } else { c }).collect();
            let mark = "^".repeat(self.span.length.max(1));
            // Writing to a string cannot fail.
            let _ = writeln!(
                out,
                "    {shown}\n    {:>pad$}{mark}",
                "",
                pad = self.span.column.saturating_sub(1)
            );
        }
        if let Some(hint) = &self.hint {
            let _ = writeln!(out, "    {hint}");
        }
        out
    }
}

impl fmt::Display for Diagnostic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}, column {}: {}", self.span.line, self.span.column, self.message)?;
        match &self.hint {
            Some(hint) => write!(f, " ({hint})"),
            None => Ok(()),
        }
    }
}

/// The one of `words` that `word` was probably meant to be.
pub fn closest<'a>(word: &str, words: &[&'a str]) -> Option<&'a str> {
    let word = word.to_lowercase();
    words
        .iter()
        .map(|w| (strsim::damerau_levenshtein(&word, w), *w))
        .filter(|(distance, w)| *distance <= 1 + w.len() / 4)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, w)| w)
}
