//! From text to a course, with all errors at once.
//!
//! The parser goes clause by clause: clauses are parted by commas and line ends. A clause that cannot be read is
//! reported and passed over, and reading goes on behind it. What a clause says twice, or what is
//! missing, is reported when its leg is complete.
//!
//! Repeats, sweeps and batteries are unfolded while reading: the tokens of their bodies are read once for each value, with the
//! sweep's name standing for it. An error in a body is so found with every value, and told once.

mod clauses;
mod legs;
mod quantities;
mod settings;

pub(crate) use clauses::{CLAUSES, Clause};
pub(crate) use legs::nothing;
pub(crate) use quantities::canonical_unit;

use crate::course::{Course, Lane, Leg};
use crate::diagnostic::{Diagnostic, Span, closest};
use crate::token::{Kind, Token, tokens};
use mile_core::{Demand, LegName, Nanos};
use quantities::Value;
use std::collections::HashMap;

/// Length of a sample where the course names none.
const SAMPLE_EVERY: Nanos = Nanos(250_000_000);
/// Time between two looks at the drive's health where the course names none.
const HEALTH_EVERY: Nanos = Nanos(300_000_000_000);
/// Most legs that a course may come to: a leg of a minute each would last ten weeks.
const MOST_LEGS: usize = 100_000;
/// Deepest nesting of repeats, sweeps and batteries.
const DEEPEST_NESTING: usize = 12;
/// Errors after which a text is not read any further: whoever mends a course reads no more of them.
const ENOUGH_ERRORS: usize = 200;
/// Lines that may be read in all, those of a group once for each of its values: ten for each leg that a course may come to.
const MOST_STEPS: usize = 10 * MOST_LEGS;
/// Bytes that the names of all legs may come to.
const MOST_NAME_BYTES: usize = 32 << 20;

/// Mixes the rounds of a sweep, so that a drift over time does not look like an effect of its values: another order in each repeat, the same each time
/// the course is run (Fisher and Yates, with SplitMix64).
fn mix(order: &mut [usize], repeats: &[u32]) {
    let mut state =
        repeats.iter().fold(0x9e37_79b9_u64, |s, r| s.wrapping_mul(0x100_0001).wrapping_add(u64::from(*r)));
    for i in (1..order.len()).rev() {
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = state;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        order.swap(i, ((z ^ (z >> 31)) % (i as u64 + 1)) as usize);
    }
}

/// Reads a course. On failure gives everything that is wrong with it, in the order of the text.
pub fn parse(source: &str) -> Result<Course, Vec<Diagnostic>> {
    let mut parser = Parser { tokens: tokens(source), ..Parser::default() };
    let course = parser.course();
    let mut errors = parser.errors;
    if errors.is_empty() {
        return Ok(course);
    }
    errors.sort_by_key(|e| (e.span.line, e.span.column));
    // A body that is read with several values says the same of each.
    errors.dedup_by_key(|e| e.span);
    if parser.gave_up {
        errors.truncate(ENOUGH_ERRORS);
        let last = errors.last().map_or(Span::default(), |e| e.span);
        errors.push(Diagnostic::new(last, "there is more that cannot be read; mend this first"));
    }
    Err(errors)
}

/// Reads a stream that must be held: `recorder 147.5 MB/s, buffer 4 GB, until 90 % full`.
pub fn demand(source: &str) -> Result<Demand, Vec<Diagnostic>> {
    let mut parser = Parser { tokens: tokens(source), ..Parser::default() };
    match parser.demand() {
        Ok(demand) => {
            parser.end_clause();
            if parser.errors.is_empty() { Ok(demand) } else { Err(parser.errors) }
        }
        Err(Unread) => Err(parser.errors),
    }
}

#[derive(Default)]
pub(crate) struct Parser {
    tokens: Vec<Token>,
    at: usize,
    pub(crate) errors: Vec<Diagnostic>,
    /// Values of the sweeps around here, innermost last.
    sweeps: Vec<(String, Value)>,
    /// The unit of a value that stands for its name and was read up to its number.
    unit: Option<String>,
    /// What the names of legs here begin and end with.
    name: LegName,
    batteries: Vec<Battery>,
    /// Full names of the legs so far, and where they stand.
    names: HashMap<String, Span>,
    legs: Vec<Leg>,
    /// The lanes that the course names, and whether each has a leg.
    lanes: Vec<Lane>,
    /// The stage that the next leg is in, and whether legs share it.
    stage: usize,
    together: bool,
    too_many: bool,
    depth: usize,
    /// Lines that were read, and bytes of the names of legs.
    steps: usize,
    name_bytes: usize,
    /// Whether reading ended before the text did.
    gave_up: bool,
}

/// A group of legs that is used by its name.
struct Battery {
    name: String,
    span: Span,
    /// Index of its first token.
    body: usize,
    uses: u32,
    /// Whether it is being read.
    open: bool,
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

/// How a group of legs may end.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Group {
    /// The whole text.
    Course,
    /// With `end`.
    Body,
}

/// Words that begin something other than a clause of a leg.
const STRUCTURE: [&str; 6] = ["leg", "repeat", "battery", "use", "together", "end"];

impl Parser {
    fn peek(&self) -> Option<&Kind> {
        self.tokens.get(self.at).map(|t| &t.kind)
    }

    /// Where the next token stands, or the end of the text.
    pub(crate) fn here(&self) -> Span {
        let behind = |t: &Token| Span { column: t.span.column + t.span.length, length: 0, ..t.span };
        let end = || self.tokens.last().map_or(Span { line: 1, column: 1, length: 0 }, behind);
        self.tokens.get(self.at).map_or_else(end, |t| t.span)
    }

    /// Says once that the course comes to too much, and reads no further.
    fn too_many_legs(&mut self, at: Span) {
        if !std::mem::replace(&mut self.too_many, true) {
            self.errors.push(
                Diagnostic::new(at, format!("the course comes to more than {MOST_LEGS} legs"))
                    .hint("use fewer repeats, or fewer values in its sweeps"),
            );
        }
    }

    /// Reads no further where it comes to too much, or enough is wrong.
    fn give_up(&mut self) {
        if self.too_many || self.errors.len() > ENOUGH_ERRORS {
            self.gave_up |= !self.too_many;
            self.at = self.tokens.len();
        }
    }

    pub(crate) fn fail<T>(&mut self, diagnostic: Diagnostic) -> Read<T> {
        self.errors.push(diagnostic);
        Err(Unread)
    }

    /// Reports what stands here instead of what was expected.
    fn expected<T>(&mut self, what: &str, hint: Option<String>) -> Read<T> {
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

    fn is_word(&self, ahead: usize, word: &str) -> bool {
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

    fn take_one_of(&mut self, words: &[&str]) -> Option<usize> {
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
    fn one_of_many(&mut self, what: &str, words: &[&str], list: bool) -> Read<usize> {
        if let Some(i) = self.take_one_of(words) {
            return Ok(i);
        }
        let meant = match self.peek() {
            Some(Kind::Word(w)) => closest(w, words).map(|w| format!("did you mean `{w}`?")),
            _ => None,
        };
        self.expected(what, meant.or_else(|| list.then(|| format!("there are {}", words.join(", ")))))
    }

    fn at_clause_end(&self) -> bool {
        matches!(self.peek(), None | Some(Kind::LineEnd | Kind::Comma))
    }

    /// Passes over the rest of a clause that could not be read.
    fn skip_clause(&mut self) {
        self.unit = None;
        while !self.at_clause_end() {
            self.at += 1;
        }
    }

    /// Passes over the rest of a line.
    fn skip_line(&mut self) {
        self.unit = None;
        while !matches!(self.peek(), None | Some(Kind::LineEnd)) {
            self.at += 1;
        }
    }

    /// Ends a clause: what is left of it is an error.
    fn end_clause(&mut self) {
        if !self.at_clause_end() {
            let _: Read<()> = self.expected("a comma or the end of the line", None);
            self.skip_clause();
        }
    }

    /// Whether a sweep begins here: `for NAME in`, and not the time of a leg.
    fn at_sweep(&self) -> bool {
        self.is_word(0, "for")
            && (self.is_word(2, "in")
                || matches!(self.tokens.get(self.at + 1).map(|t| &t.kind), Some(Kind::Word(w)) if !self.sweeps.iter().any(|(n, _)| n == w)))
    }

    /// Whether something begins here that is no clause of a leg.
    fn at_structure(&self) -> bool {
        let Some(Kind::Word(found)) = self.peek() else { return false };
        STRUCTURE.iter().any(|w| found.eq_ignore_ascii_case(w)) || self.at_sweep()
    }

    fn course(&mut self) -> Course {
        let mut course =
            Course { sample_every: SAMPLE_EVERY, health_every: HEALTH_EVERY, ..Course::default() };
        let start = self.here();
        if self.take_word("course") {
            match self.text("the course's name in double quotes, such as course \"first look\"") {
                Ok(name) => course.name = name,
                Err(Unread) => self.skip_clause(),
            }
            self.end_clause();
        } else if !self.tokens.is_empty() {
            let _: Read<()> = self.expected("`course` and a name, such as course \"first look\"", None);
            if !settings::WORDS.iter().any(|w| self.is_word(0, w)) && !self.at_structure() {
                self.skip_clause();
            }
        }
        self.group(Group::Course, &mut course);
        let unused = self.batteries.iter().filter(|b| b.uses == 0);
        let unused: Vec<Diagnostic> = unused
            .map(|b| {
                Diagnostic::new(b.span, format!("the battery `{}` is never used", b.name))
                    .hint(format!("write `use {}` where its legs belong, or take it out", b.name))
            })
            .collect();
        if self.names.is_empty() && unused.is_empty() {
            self.errors.push(
                Diagnostic::new(
                    if self.tokens.is_empty() { start } else { self.here() },
                    "the course has no leg",
                )
                .hint("add one: `leg soak`, and below it `write sequential, blocks 1 MiB, depth 16`"),
            );
        }
        self.errors.extend(unused);
        course.legs = std::mem::take(&mut self.legs);
        course.lanes = std::mem::take(&mut self.lanes);
        course
    }

    /// A group of legs, up to its `end`, which is left where it stands.
    fn group(&mut self, kind: Group, course: &mut Course) {
        loop {
            self.steps += 1;
            if self.steps > MOST_STEPS {
                self.too_many_legs(self.here());
            }
            self.give_up();
            match self.peek() {
                None => return,
                Some(Kind::LineEnd | Kind::Comma) => self.at += 1,
                Some(_) if self.is_word(0, "end") => {
                    if kind == Group::Body {
                        return;
                    }
                    self.errors.push(
                        Diagnostic::new(self.here(), "there is nothing here to end")
                            .hint("`end` closes a `repeat`, a `for` or a `battery`"),
                    );
                    self.at += 1;
                    self.end_clause();
                }
                Some(_) if self.is_word(0, "leg") => self.leg(),
                Some(_) if self.is_word(0, "repeat") => self.repeat(course),
                Some(_) if self.at_sweep() => self.sweep(course),
                Some(_) if self.is_word(0, "battery") => self.battery(),
                Some(_) if self.is_word(0, "together") => self.together(course),
                Some(_) if self.is_word(0, "use") => self.use_battery(course),
                Some(_) => {
                    let here = self.here();
                    if self.setting(course).is_err() {
                        self.skip_clause();
                    } else if kind == Group::Body {
                        self.errors.push(
                            Diagnostic::new(here, "this belongs to the whole course")
                                .hint("put it before the first leg"),
                        );
                    }
                    self.end_clause();
                }
            }
        }
    }

    /// Reads a body once for each of `names`, which set what the names of its legs get; then its `end`.
    fn bodies(
        &mut self,
        head: Span,
        word: &str,
        course: &mut Course,
        rounds: usize,
        mut enter: impl FnMut(&mut Self, usize),
    ) {
        let body = self.at;
        let outer = (self.name.clone(), self.sweeps.len());
        self.depth += 1;
        if self.depth > DEEPEST_NESTING {
            self.errors
                .push(Diagnostic::new(head, format!("this is nested deeper than {DEEPEST_NESTING} groups")));
            self.skip_body();
        } else {
            for round in 0..rounds {
                self.at = body;
                enter(self, round);
                self.group(Group::Body, course);
                self.name.clone_from(&outer.0);
                self.sweeps.truncate(outer.1);
                if self.errors.len() > ENOUGH_ERRORS || self.too_many {
                    break;
                }
            }
            if rounds == 0 {
                self.skip_body();
            }
        }
        self.depth -= 1;
        if self.take_word("end") {
            self.end_clause();
        } else if !self.too_many && !self.gave_up {
            self.errors.push(
                Diagnostic::new(head, format!("this `{word}` is not closed"))
                    .hint("write `end` on a line of its own behind its last leg"),
            );
        }
    }

    /// Passes over a body, to its `end`.
    fn skip_body(&mut self) {
        let mut open = 0;
        let mut begins = true;
        while self.peek().is_some() {
            if begins {
                if self.is_word(0, "end") {
                    if open == 0 {
                        return;
                    }
                    open -= 1;
                }
                let opens = ["repeat", "battery", "together"].iter().any(|w| self.is_word(0, w));
                open += usize::from(opens || self.at_sweep());
            }
            begins = matches!(self.peek(), Some(Kind::LineEnd | Kind::Comma));
            self.at += 1;
        }
    }

    /// `repeat 3`
    fn repeat(&mut self, course: &mut Course) {
        let head = self.here();
        self.at += 1;
        let span = self.here();
        let count = self.plain("how often, such as `repeat 3`").and_then(|count| {
            if count.fract() == 0.0 && (1.0..=MOST_LEGS as f64).contains(&count) {
                Ok(count as usize)
            } else {
                self.fail(Diagnostic::new(
                    span,
                    format!("repeats are a whole number from 1 to {MOST_LEGS}, found {count}"),
                ))
            }
        });
        if count.is_err() {
            self.skip_line();
        } else {
            self.end_clause();
        }
        self.bodies(head, "repeat", course, count.unwrap_or(1), |parser, round| {
            parser.name.repeats.push(round as u32 + 1);
        });
    }

    /// `together`: its legs, each on lanes of its own, run at the same time.
    fn together(&mut self, course: &mut Course) {
        let head = self.here();
        self.at += 1;
        self.end_clause();
        if self.lanes.is_empty() {
            self.errors.push(
                Diagnostic::new(head, "only legs on different lanes can run at the same time")
                    .hint("name the drives before the first leg, such as `lane upper` and `lane lower`"),
            );
        }
        if self.together {
            self.errors.push(Diagnostic::new(head, "these legs run at the same time already"));
        }
        let (outer, first) = (std::mem::replace(&mut self.together, true), self.legs.len());
        self.bodies(head, "together", course, 1, |_, _| {});
        self.together = outer;
        if !self.together && self.legs.len() > first {
            self.stage += 1;
        }
    }

    /// `for fill in 0 %, 25 %, 50 %`, `for span in 100 %, 50 %, 10 % in random order`
    fn sweep(&mut self, course: &mut Course) {
        let head = self.here();
        self.at += 1;
        let name = match self.peek() {
            Some(Kind::Word(name)) => name.to_string(),
            _ => String::new(),
        };
        self.at += 1;
        let values = self.word("in").and_then(|()| self.values());
        let values = values.unwrap_or_else(|Unread| {
            self.skip_line();
            Vec::new()
        });
        let mut order: Vec<usize> = (0..values.len()).collect();
        let span = self.here();
        if self.take_word("in") {
            let mixed = self.word("random").and_then(|()| self.word("order"));
            if mixed.is_err() {
                self.skip_line();
            } else if name == "fill" {
                self.errors.push(
                    Diagnostic::new(
                        span,
                        "fill levels cannot go in a random order: a drive is filled from one to the next",
                    )
                    .hint("leave `in random order` away"),
                );
            } else {
                mix(&mut order, &self.name.repeats);
            }
        }
        self.bodies(head, "for", course, values.len(), |parser, round| {
            let value = values[order[round]].clone();
            parser.name.steps.push(format!("{name} {value}"));
            parser.sweeps.push((name.clone(), value));
        });
    }

    /// `battery quick`
    fn battery(&mut self) {
        let span = self.here();
        self.at += 1;
        let name = self.name("a name for the battery");
        match &name {
            Ok(name) if self.batteries.iter().any(|b| b.name == *name) => {
                self.errors.push(Diagnostic::new(span, format!("there is a battery `{name}` already")));
            }
            Ok(name) => {
                let (name, body) = (name.clone(), self.at);
                self.batteries.push(Battery { name, span, body, uses: 0, open: false });
            }
            Err(Unread) => self.skip_line(),
        }
        self.end_clause();
        self.skip_body();
        if self.take_word("end") {
            self.end_clause();
        } else {
            self.errors.push(
                Diagnostic::new(span, "this `battery` is not closed")
                    .hint("write `end` on a line of its own behind its last leg"),
            );
        }
    }

    /// `use quick`, `use quick as before`
    fn use_battery(&mut self, course: &mut Course) {
        self.at += 1;
        let span = self.here();
        let Ok(name) = self.name("the name of a battery") else { return self.skip_clause() };
        let alias = if self.take_word("as") {
            match self.name("a name for this use, such as `use quick as before`") {
                Ok(alias) => alias,
                Err(Unread) => return self.skip_clause(),
            }
        } else {
            name.clone()
        };
        self.end_clause();
        let Some(i) = self.batteries.iter().position(|b| b.name == name) else {
            let known: Vec<&str> = self.batteries.iter().map(|b| b.name.as_str()).collect();
            let diagnostic = Diagnostic::new(span, format!("there is no battery `{name}` before this"));
            self.errors.push(match closest(&name, &known) {
                Some(meant) => diagnostic.hint(format!("did you mean `{meant}`?")),
                None => diagnostic.hint("write `battery NAME`, its legs and `end` above"),
            });
            return;
        };
        self.batteries[i].uses += 1;
        if std::mem::replace(&mut self.batteries[i].open, true) {
            self.errors.push(Diagnostic::new(span, "a battery cannot use itself"));
            return;
        }
        let back = self.at;
        let outer = self.name.clone();
        self.at = self.batteries[i].body;
        self.depth += 1;
        self.name.steps.push(alias);
        if self.depth <= DEEPEST_NESTING {
            self.group(Group::Body, course);
        }
        self.depth -= 1;
        self.name = outer;
        self.batteries[i].open = false;
        self.at = back;
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
    fn name(&mut self, what: &str) -> Read<String> {
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
