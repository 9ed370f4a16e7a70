//! Word for word through the text of a course: what stands here, what was expected, and how reading goes on behind what cannot be read.

use crate::course::lane::Lane;
use crate::diagnostic::{Diagnostic, Span, closest};
use crate::token::{Kind, Token, tokens};
use std::fmt;

/// A number and its unit, as they stand in a sweep. The unit is empty for a plain number.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Value {
    pub(super) number: f64,
    pub(super) unit: String,
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Ranges may come to more digits than anyone wrote.
        let number = (self.number * 1e6).round() / 1e6;
        write!(f, "{number}")?;
        if self.unit.is_empty() { Ok(()) } else { write!(f, " {}", self.unit) }
    }
}

/// A clause could not be read; why is in the errors.
pub(crate) struct Unread;

pub(crate) type Read<T> = Result<T, Unread>;

/// A word of the text as a message has it.
fn short(text: &str) -> std::borrow::Cow<'_, str> {
    const MOST: usize = 60;
    match text.char_indices().nth(MOST) {
        None => text.into(),
        Some((end, _)) => format!("{}…", &text[..end]).into(),
    }
}

/// Words that begin something other than a clause of a leg.
const STRUCTURE: [&str; 6] = ["leg", "repeat", "battery", "use", "together", "end"];

/// The text of a course, and what is known of it up to where it is read.
#[derive(Default)]
pub(crate) struct Reader {
    pub(super) tokens: Vec<Token>,
    pub(super) at: usize,
    pub(crate) errors: Vec<Diagnostic>,
    /// Values of the sweeps around here, innermost last.
    pub(super) sweeps: Vec<(String, Value)>,
    /// The unit of a value that stands for its name and was read up to its number.
    pub(super) unit: Option<String>,
    /// The lanes that the course names.
    pub(super) lanes: Vec<Lane>,
}

impl Reader {
    /// At the start of a text.
    pub(super) fn new(source: &str) -> Self {
        Self { tokens: tokens(source), ..Self::default() }
    }

    pub(crate) fn peek(&self) -> Option<&Kind> {
        self.tokens.get(self.at).map(|t| &t.kind)
    }

    /// Where the next token stands, or the end of the text.
    pub(crate) fn here(&self) -> Span {
        let behind = |t: &Token| Span { column: t.span.column + t.span.length, length: 0, ..t.span };
        let end = || self.tokens.last().map_or(Span { line: 1, column: 1, length: 0 }, behind);
        self.tokens.get(self.at).map_or_else(end, |t| t.span)
    }

    pub(crate) fn fail<T>(&mut self, diagnostic: Diagnostic) -> Read<T> {
        self.errors.push(diagnostic);
        Err(Unread)
    }

    /// Reports what stands here instead of what was expected.
    pub(crate) fn expected<T>(&mut self, what: &str, hint: Option<String>) -> Read<T> {
        let found = match self.peek() {
            None => "the end of the course".to_owned(),
            Some(Kind::LineEnd | Kind::Comment(_)) => "the end of the line".to_owned(),
            Some(Kind::Word(w)) => format!("`{}`", short(w)),
            Some(Kind::Number(n)) => format!("`{n}`"),
            Some(Kind::Text(t)) => format!("`\"{}\"`", short(t)),
            Some(Kind::Percent) => "`%`".to_owned(),
            Some(Kind::Comma) => "`,`".to_owned(),
            Some(Kind::Unclosed) => "a quote that is not closed on its line".to_owned(),
            Some(Kind::Stray(c)) => format!("`{c}`"),
        };
        let diagnostic = Diagnostic::new(self.here(), format!("expected {what}, found {found}"));
        self.fail(match hint {
            Some(hint) => diagnostic.hint(hint),
            None => diagnostic,
        })
    }

    pub(crate) fn is_word(&self, ahead: usize, word: &str) -> bool {
        let token = self.tokens.get(self.at + ahead).map(|t| &t.kind);
        matches!(token, Some(Kind::Word(w)) if w.eq_ignore_ascii_case(word))
    }

    pub(crate) fn take_word(&mut self, word: &str) -> bool {
        let found = self.is_word(0, word);
        self.at += usize::from(found);
        found
    }

    pub(crate) fn word(&mut self, word: &str) -> Read<()> {
        if self.take_word(word) { Ok(()) } else { self.expected(&format!("`{word}`"), None) }
    }

    pub(crate) fn take_one_of(&mut self, words: &[&str]) -> Option<usize> {
        let Some(Kind::Word(found)) = self.peek() else { return None };
        let place = words.iter().position(|w| found.eq_ignore_ascii_case(w))?;
        self.at += 1;
        Some(place)
    }

    /// One of `words`; says which was probably meant.
    pub(crate) fn one_of(&mut self, words: &[&str]) -> Read<usize> {
        if let Some(i) = self.take_one_of(words) {
            return Ok(i);
        }
        let list: Vec<String> = words.iter().map(|w| format!("`{w}`")).collect();
        self.one_of_many(&list.join(" or "), words, false)
    }

    /// One of `words`, which are too many to be listed where it is said what was expected; all of them are in the hint.
    pub(crate) fn one_of_many(&mut self, what: &str, words: &[&str], list: bool) -> Read<usize> {
        if let Some(i) = self.take_one_of(words) {
            return Ok(i);
        }
        let meant = match self.peek() {
            Some(Kind::Word(w)) => closest(w, words).map(|w| format!("did you mean `{w}`?")),
            _ => None,
        };
        self.expected(what, meant.or_else(|| list.then(|| format!("there are {}", words.join(", ")))))
    }

    pub(crate) fn at_clause_end(&self) -> bool {
        matches!(self.peek(), None | Some(Kind::LineEnd | Kind::Comma))
    }

    /// Passes over the rest of a clause that could not be read.
    pub(crate) fn skip_clause(&mut self) {
        self.unit = None;
        while !self.at_clause_end() {
            self.at += 1;
        }
    }

    /// Passes over the rest of a line.
    pub(crate) fn skip_line(&mut self) {
        self.unit = None;
        while !matches!(self.peek(), None | Some(Kind::LineEnd)) {
            self.at += 1;
        }
    }

    /// Ends a clause: what is left of it is an error.
    pub(crate) fn end_clause(&mut self) {
        if !self.at_clause_end() {
            let _: Read<()> = self.expected("a comma or the end of the line", None);
            self.skip_clause();
        }
    }

    /// Whether a sweep begins here: `for NAME in`, and not the time of a leg.
    pub(crate) fn at_sweep(&self) -> bool {
        self.is_word(0, "for")
            && (self.is_word(2, "in")
                || matches!(self.tokens.get(self.at + 1).map(|t| &t.kind), Some(Kind::Word(w)) if !self.sweeps.iter().any(|(n, _)| n == w)))
    }

    /// Whether something begins here that is no clause of a leg.
    pub(crate) fn at_structure(&self) -> bool {
        let Some(Kind::Word(found)) = self.peek() else { return false };
        STRUCTURE.iter().any(|w| found.eq_ignore_ascii_case(w)) || self.at_sweep()
    }

    pub(crate) fn text(&mut self, what: &str) -> Read<String> {
        if let Some(Kind::Text(text)) = self.peek() {
            let text = text.clone();
            self.at += 1;
            return Ok(text);
        }
        self.expected(what, None)
    }

    /// A word, or text in quotes, that may be part of a leg's name.
    pub(crate) fn name(&mut self, what: &str) -> Read<String> {
        let name = match self.peek() {
            Some(Kind::Word(name)) => name.to_string(),
            Some(Kind::Text(name)) => name.clone(),
            _ => return self.expected(what, None),
        };
        if name.contains('/') || name.trim().is_empty() || name.trim() != name {
            return self.fail(
                Diagnostic::new(self.here(), "a name has no `/` in it, and no blanks around it")
                    .hint("the legs of a sweep are named `fill 50 % / burst / repeat 2`"),
            );
        }
        self.at += 1;
        Ok(name)
    }
}
