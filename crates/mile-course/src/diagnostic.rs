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

    /// `line 8, column 12: expected …`, the line itself with the place marked, and the hint. Of a long line, what is around the place.
    pub fn render(&self, source: &str) -> String {
        render(std::slice::from_ref(self), source).remove(0)
    }
}

/// Columns of a line that are shown, and how many of them before the place.
const SHOWN: usize = 160;
const BEFORE: usize = 80;

/// As [`Diagnostic::render`], each of several; the text is gone through once.
pub fn render(all: &[Diagnostic], source: &str) -> Vec<String> {
    let wanted: std::collections::BTreeSet<usize> = all.iter().map(|d| d.span.line).collect();
    let lines: std::collections::HashMap<usize, &str> =
        source.lines().enumerate().map(|(i, l)| (i + 1, l)).filter(|(i, _)| wanted.contains(i)).collect();
    all.iter()
        .map(|d| {
            let mut out = format!("line {}, column {}: {}\n", d.span.line, d.span.column, d.message);
            if let Some(line) = lines.get(&d.span.line) {
                let place = d.span.column.saturating_sub(1);
                let from = place.saturating_sub(BEFORE);
                let visible = |c: char| if c.is_control() { ' ' } else { c };
                let shown: String = line.chars().skip(from).take(SHOWN).map(visible).collect();
                let mark = "^".repeat(d.span.length.clamp(1, SHOWN));
                let cut = if from > 0 { "… " } else { "" };
                // Writing to a string cannot fail.
                let pad = " ".repeat(cut.chars().count() + place - from);
                let _ = writeln!(out, "    {cut}{shown}\n    {pad}{mark}");
            }
            if let Some(hint) = &d.hint {
                let _ = writeln!(out, "    {hint}");
            }
            out
        })
        .collect()
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
    // What is much longer than any word of the language was meant to be none of them.
    if word.len() > 64 {
        return None;
    }
    let word = word.to_lowercase();
    let length = word.chars().count();
    let most = |w: &str| 1 + w.len() / 4;
    words
        .iter()
        // Each letter more or less is one change.
        .filter(|w| length.abs_diff(w.chars().count()) <= most(w))
        .map(|w| (strsim::damerau_levenshtein(&word, w), *w))
        .filter(|(distance, w)| *distance <= most(w))
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, w)| w)
}
