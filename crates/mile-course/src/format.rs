//! The one form in which a course is written: the same clauses in the same order, one blank between words, comments kept
//! where they stood.

use crate::diagnostic::Diagnostic;
use crate::parse::clauses::{CLAUSES, WAITING};
use crate::parse::parse;
use crate::parse::quantities::canonical_unit;
use crate::token::{Kind, Token, with_comments};
use std::collections::HashSet;
use std::fmt::Write;

/// Longest line of clauses; a clause by itself may be longer.
const WIDTH: usize = 100;
/// Words other than those that begin a clause, which are written in small letters.
const WORDS: [&str; 76] = [
    "short",
    "extended",
    "conveyance",
    "delete",
    "each",
    "file",
    "course",
    "leg",
    "for",
    "in",
    "to",
    "by",
    "times",
    "repeat",
    "battery",
    "use",
    "as",
    "end",
    "sample",
    "every",
    "stop",
    "if",
    "temperature",
    "above",
    "below",
    "errors",
    "error",
    "operation",
    "critical",
    "warning",
    "written",
    "time",
    "others",
    "claim",
    "endurance",
    "situation",
    "slot",
    "cooling",
    "enclosure",
    "note",
    "ambient",
    "demand",
    "buffer",
    "until",
    "full",
    "sequential",
    "random",
    "or",
    "one",
    "pass",
    "a",
    "break",
    "steady",
    "state",
    "rounds",
    "of",
    "read",
    "moved",
    "most",
    "from",
    "the",
    "front",
    "cache",
    "host",
    "channels",
    "channel",
    "x",
    "rest",
    "s",
    "lane",
    "lanes",
    "watched",
    "together",
    "apart",
    "on",
    "and",
];

/// A clause, a line of structure or a setting, with its comments.
#[derive(Default)]
struct Entry {
    /// Comments on lines of their own before it; the flag says whether a blank line stood before.
    before: Vec<(bool, String)>,
    /// Whether a blank line stood before it.
    blank: bool,
    text: String,
    /// Its first word, in small letters.
    word: String,
    behind: Option<String>,
}

/// Writes a course in its canonical form. Fails with what is wrong with it.
pub fn format(source: &str) -> Result<String, Vec<Diagnostic>> {
    parse(source)?;
    let entries = entries(source);
    let mut out = Layout::default();
    let mut entries = entries.into_iter().peekable();
    while let Some(entry) = entries.next() {
        match entry.word.as_str() {
            "end" => {
                out.comments(&entry, false);
                out.depth = out.depth.saturating_sub(1);
                out.line(&entry.text, entry.behind.as_deref());
            }
            "leg" => {
                out.comments(&entry, true);
                out.line(&entry.text, entry.behind.as_deref());
                let mut clauses = Vec::new();
                while let Some(clause) = entries.next_if(|e| rank(&e.word).is_some() && !is_sweep(e)) {
                    clauses.push(clause);
                }
                out.depth += 1;
                out.clauses(clauses);
                out.depth -= 1;
            }
            "repeat" | "battery" | "together" => out.opening(&entry),
            _ if is_sweep(&entry) => out.opening(&entry),
            _ => {
                let forced = entry.word == "use"
                    && !out
                        .text
                        .trim_end()
                        .lines()
                        .last()
                        .is_some_and(|l| l.trim_start().starts_with("use "));
                out.comments(&entry, forced);
                // Nothing but comments may stand behind the last leg.
                if !entry.text.is_empty() {
                    out.line(&entry.text, entry.behind.as_deref());
                }
            }
        }
    }
    Ok(out.text.trim_end().to_owned() + "\n")
}

/// Place of a clause in its leg.
fn rank(word: &str) -> Option<usize> {
    CLAUSES.iter().position(|c| *c == word)
}

fn is_sweep(entry: &Entry) -> bool {
    entry.word == "for" && entry.text.split(' ').nth(2) == Some("in")
}

#[derive(Default)]
struct Layout {
    text: String,
    depth: usize,
    /// Whether a group was opened on the line before.
    opened: bool,
}

impl Layout {
    fn line(&mut self, text: &str, behind: Option<&str>) {
        let behind = behind.map_or(String::new(), |c| format!("  #{c}"));
        // Writing to a string cannot fail.
        let _ = writeln!(self.text, "{:indent$}{text}{behind}", "", indent = 2 * self.depth);
        self.opened = false;
    }

    fn gap(&mut self) {
        if !self.text.is_empty() && !self.text.ends_with("\n\n") && !self.opened {
            self.text.push('\n');
        }
    }

    /// The comments before an entry, and a blank line before them where it stood there or where one belongs.
    fn comments(&mut self, entry: &Entry, forced: bool) {
        let mut forced = forced;
        for (blank, comment) in &entry.before {
            if std::mem::take(&mut forced) || *blank {
                self.gap();
            }
            self.line(&format!("#{comment}"), None);
        }
        if forced || entry.blank {
            self.gap();
        }
    }

    fn opening(&mut self, entry: &Entry) {
        self.comments(entry, true);
        self.line(&entry.text, entry.behind.as_deref());
        self.depth += 1;
        self.opened = true;
    }

    /// The clauses of a leg: what it does and how, where, until when, and its limits, each on a line.
    fn clauses(&mut self, mut clauses: Vec<Entry>) {
        if let Some(rest) = clauses.get_mut(1..) {
            rest.sort_by_key(|c| rank(&c.word));
        }
        if let [first, second] = clauses.as_slice()
            && (first.text.as_str(), second.word.as_str()) == ("discard", "over")
            && first.behind.is_none()
            && second.before.is_empty()
        {
            let over = clauses.remove(1);
            clauses[0].text = format!("discard {}", over.text);
            clauses[0].behind = over.behind;
        }
        let waits = clauses.first().is_some_and(|c| WAITING.contains(&c.word.as_str()));
        let lines: &[&str] = if waits { &[] } else { &["over", "until", "for", "at"] };
        let group = |word: &str| lines.iter().position(|w| *w == word).map_or(0, |g| g + 1);
        let mut line = String::new();
        let mut last = 0;
        for (i, clause) in clauses.iter().enumerate() {
            let own = if i == 0 { 0 } else { group(&clause.word) };
            let full = line.chars().count() + clause.text.chars().count() + 2 * self.depth + 2 > WIDTH;
            if !line.is_empty() && (own != last || full || !clause.before.is_empty()) {
                self.line(&std::mem::take(&mut line), None);
            }
            for (_, comment) in &clause.before {
                self.line(&format!("#{comment}"), None);
            }
            if !line.is_empty() {
                line.push_str(", ");
            }
            line.push_str(&clause.text);
            last = own;
            if clause.behind.is_some() {
                self.line(&std::mem::take(&mut line), clause.behind.as_deref());
            }
        }
        if !line.is_empty() {
            self.line(&line, None);
        }
    }
}

/// Cuts the text into entries. The text is known to be a course.
fn entries(source: &str) -> Vec<Entry> {
    let tokens = with_comments(source);
    let mut sweeps = HashSet::new();
    for three in tokens.windows(3) {
        if let (Kind::Word(a), Kind::Word(name), Kind::Word(b)) =
            (&three[0].kind, &three[1].kind, &three[2].kind)
            && a.eq_ignore_ascii_case("for")
            && b.eq_ignore_ascii_case("in")
        {
            sweeps.insert(name.to_string());
        }
    }
    let mut out: Vec<Entry> = Vec::new();
    let mut next = Entry::default();
    let mut last_line = 0;
    for line in tokens.chunk_by(|a, b| a.span.line == b.span.line) {
        let blank = line[0].span.line > last_line + 1 && last_line > 0;
        last_line = line[0].span.line;
        let comment = line
            .iter()
            .find_map(|t| if let Kind::Comment(text) = &t.kind { Some(text.trim_end()) } else { None });
        let words: Vec<&Token> =
            line.iter().filter(|t| !matches!(t.kind, Kind::Comment(_) | Kind::LineEnd)).collect();
        if words.is_empty() {
            next.before.extend(comment.map(|c| (blank, c.to_owned())));
            continue;
        }
        let first = word_of(words[0]);
        let whole = matches!(first.as_str(), "demand" | "claim")
            || (first == "for" && words.get(2).is_some_and(|t| word_of(t) == "in"));
        next.blank = blank;
        for clause in words.split(|t| t.kind == Kind::Comma && !whole).filter(|c| !c.is_empty()) {
            next.text = render(clause, &sweeps);
            next.word = word_of(clause[0]);
            out.push(std::mem::take(&mut next));
        }
        if let Some(last) = out.last_mut() {
            last.behind = comment.map(str::to_owned);
        }
    }
    if !next.before.is_empty() {
        // What stands behind the last leg.
        out.push(next);
    }
    out
}

fn word_of(token: &Token) -> String {
    if let Kind::Word(word) = &token.kind { word.as_str().to_lowercase() } else { String::new() }
}

fn render(clause: &[&Token], sweeps: &HashSet<String>) -> String {
    let mut out = String::new();
    let named = ["leg", "battery", "use", "demand", "for", "lane"].contains(&word_of(clause[0]).as_str());
    for (i, token) in clause.iter().enumerate() {
        let before = i.checked_sub(1).map(|i| &clause[i].kind);
        let text = match &token.kind {
            Kind::Word(word) => {
                let small = word.as_str().to_lowercase();
                let is_name = sweeps.contains(word.as_str())
                    || (word_of(clause[0]) == "copy" && (i == 2 || i == 4))
                    || (named && i == 1 && !clause[0].kind.eq(&token.kind))
                    || matches!(before, Some(Kind::Word(w)) if w.eq_ignore_ascii_case("as"))
                    || (word_of(clause[0]) == "leg"
                        && i > 2
                        && matches!(before, Some(Kind::Word(w)) if w.eq_ignore_ascii_case("on") || w.eq_ignore_ascii_case("and")));
                match before {
                    _ if is_name => word.to_string(),
                    Some(Kind::Number(_)) if canonical_unit(word).is_some() => {
                        canonical_unit(word).unwrap_or_default().to_owned()
                    }
                    Some(Kind::Number(_)) if small.ends_with("hz") => {
                        format!("{}Hz", small.trim_end_matches("hz").replace('m', "M"))
                    }
                    _ if WORDS.contains(&small.as_str()) || rank(&small).is_some() => small,
                    _ => word.to_string(),
                }
            }
            Kind::Number(number) => number.to_string(),
            Kind::Text(text) => format!("\"{text}\""),
            Kind::Percent => "%".into(),
            Kind::Comma => ",".into(),
            Kind::Stray(c) => c.to_string(),
            Kind::LineEnd | Kind::Unclosed | Kind::Comment(_) => continue,
        };
        let tight =
            matches!(token.kind, Kind::Comma | Kind::Stray('/')) || matches!(before, Some(Kind::Stray('/')));
        if i > 0 && !tight {
            out.push(' ');
        }
        out.push_str(&text);
    }
    out
}
