//! What a course is made of: settings, legs, and the groups that unfold into legs.

use super::reader::{Read, Reader, Unread};
use super::settings::WORDS;
use crate::course::{Course, Leg};
use crate::diagnostic::{Diagnostic, Span, closest};
use crate::token::Kind;
use mile_core::{LegName, Nanos};
use std::collections::HashMap;

/// Length of a sample where the course names none.
const SAMPLE_EVERY: Nanos = Nanos(250_000_000);
/// Time between two looks at the drive's health where the course names none.
const HEALTH_EVERY: Nanos = Nanos(300_000_000_000);
/// Most legs that a course may come to: a leg of a minute each would last ten weeks.
pub(super) const MOST_LEGS: usize = 100_000;
/// Deepest nesting of repeats, sweeps and batteries.
const DEEPEST_NESTING: usize = 12;
/// Errors after which a text is not read any further: whoever mends a course reads no more of them.
pub(super) const ENOUGH_ERRORS: usize = 200;
/// Lines that may be read in all, those of a group once for each of its values: ten for each leg that a course may come to.
const MOST_STEPS: usize = 10 * MOST_LEGS;
/// Bytes that the names of all legs may come to.
pub(super) const MOST_NAME_BYTES: usize = 32 << 20;

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

#[derive(Default)]
pub(crate) struct Parser {
    pub(super) reader: Reader,
    /// What the names of legs here begin and end with.
    pub(super) name: LegName,
    batteries: Vec<Battery>,
    /// Full names of the legs so far, and where they stand.
    pub(super) names: HashMap<String, Span>,
    pub(super) legs: Vec<Leg>,
    /// The stage that the next leg is in, and whether legs share it.
    pub(super) stage: usize,
    pub(super) together: bool,
    pub(super) too_many: bool,
    pub(super) depth: usize,
    /// Lines that were read, and bytes of the names of legs.
    pub(super) steps: usize,
    pub(super) name_bytes: usize,
    /// Whether reading ended before the text did.
    pub(super) gave_up: bool,
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

/// How a group of legs may end.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Group {
    /// The whole text.
    Course,
    /// With `end`.
    Body,
}

impl Parser {
    /// At the start of a text.
    pub(super) fn new(source: &str) -> Self {
        Self { reader: Reader::new(source), ..Self::default() }
    }

    /// Says once that the course comes to too much, and reads no further.
    pub(super) fn too_many_legs(&mut self, at: Span) {
        if !std::mem::replace(&mut self.too_many, true) {
            self.reader.errors.push(
                Diagnostic::new(at, format!("the course comes to more than {MOST_LEGS} legs"))
                    .hint("use fewer repeats, or fewer values in its sweeps"),
            );
        }
    }

    /// Reads no further where it comes to too much, or enough is wrong.
    pub(super) fn give_up(&mut self) {
        if self.too_many || self.reader.errors.len() > ENOUGH_ERRORS {
            self.gave_up |= !self.too_many;
            self.reader.at = self.reader.tokens.len();
        }
    }

    pub(super) fn course(&mut self) -> Course {
        let mut course =
            Course { sample_every: SAMPLE_EVERY, health_every: HEALTH_EVERY, ..Course::default() };
        let start = self.reader.here();
        if self.reader.take_word("course") {
            match self.reader.text("the course's name in double quotes, such as course \"first look\"") {
                Ok(name) => course.name = name,
                Err(Unread) => self.reader.skip_clause(),
            }
            self.reader.end_clause();
        } else if !self.reader.tokens.is_empty() {
            let _: Read<()> =
                self.reader.expected("`course` and a name, such as course \"first look\"", None);
            if !WORDS.iter().any(|w| self.reader.is_word(0, w)) && !self.reader.at_structure() {
                self.reader.skip_clause();
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
            self.reader.errors.push(
                Diagnostic::new(
                    if self.reader.tokens.is_empty() { start } else { self.reader.here() },
                    "the course has no leg",
                )
                .hint("add one: `leg soak`, and below it `write sequential, blocks 1 MiB, depth 16`"),
            );
        }
        self.reader.errors.extend(unused);
        course.legs = std::mem::take(&mut self.legs);
        course.lanes = std::mem::take(&mut self.reader.lanes);
        course
    }

    /// A group of legs, up to its `end`, which is left where it stands.
    fn group(&mut self, kind: Group, course: &mut Course) {
        loop {
            self.steps += 1;
            if self.steps > MOST_STEPS {
                self.too_many_legs(self.reader.here());
            }
            self.give_up();
            match self.reader.peek() {
                None => return,
                Some(Kind::LineEnd | Kind::Comma) => self.reader.at += 1,
                Some(_) if self.reader.is_word(0, "end") => {
                    if kind == Group::Body {
                        return;
                    }
                    self.reader.errors.push(
                        Diagnostic::new(self.reader.here(), "there is nothing here to end")
                            .hint("`end` closes a `repeat`, a `for` or a `battery`"),
                    );
                    self.reader.at += 1;
                    self.reader.end_clause();
                }
                Some(_) if self.reader.is_word(0, "leg") => self.leg(),
                Some(_) if self.reader.is_word(0, "repeat") => self.repeat(course),
                Some(_) if self.reader.at_sweep() => self.sweep(course),
                Some(_) if self.reader.is_word(0, "battery") => self.battery(),
                Some(_) if self.reader.is_word(0, "together") => self.together(course),
                Some(_) if self.reader.is_word(0, "use") => self.use_battery(course),
                Some(_) => {
                    let here = self.reader.here();
                    if self.reader.setting(course, !self.names.is_empty()).is_err() {
                        self.reader.skip_clause();
                    } else if kind == Group::Body {
                        self.reader.errors.push(
                            Diagnostic::new(here, "this belongs to the whole course")
                                .hint("put it before the first leg"),
                        );
                    }
                    self.reader.end_clause();
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
        let body = self.reader.at;
        let outer = (self.name.clone(), self.reader.sweeps.len());
        self.depth += 1;
        if self.depth > DEEPEST_NESTING {
            self.reader
                .errors
                .push(Diagnostic::new(head, format!("this is nested deeper than {DEEPEST_NESTING} groups")));
            self.skip_body();
        } else {
            for round in 0..rounds {
                self.reader.at = body;
                enter(self, round);
                self.group(Group::Body, course);
                self.name.clone_from(&outer.0);
                self.reader.sweeps.truncate(outer.1);
                if self.reader.errors.len() > ENOUGH_ERRORS || self.too_many {
                    break;
                }
            }
            if rounds == 0 {
                self.skip_body();
            }
        }
        self.depth -= 1;
        if self.reader.take_word("end") {
            self.reader.end_clause();
        } else if !self.too_many && !self.gave_up {
            self.reader.errors.push(
                Diagnostic::new(head, format!("this `{word}` is not closed"))
                    .hint("write `end` on a line of its own behind its last leg"),
            );
        }
    }

    /// Passes over a body, to its `end`.
    fn skip_body(&mut self) {
        let mut open = 0;
        let mut begins = true;
        while self.reader.peek().is_some() {
            if begins {
                if self.reader.is_word(0, "end") {
                    if open == 0 {
                        return;
                    }
                    open -= 1;
                }
                let opens = ["repeat", "battery", "together"].iter().any(|w| self.reader.is_word(0, w));
                open += usize::from(opens || self.reader.at_sweep());
            }
            begins = matches!(self.reader.peek(), Some(Kind::LineEnd | Kind::Comma));
            self.reader.at += 1;
        }
    }

    /// `repeat 3`
    fn repeat(&mut self, course: &mut Course) {
        let head = self.reader.here();
        self.reader.at += 1;
        let span = self.reader.here();
        let count = self.reader.plain("how often, such as `repeat 3`").and_then(|count| {
            if count.fract() == 0.0 && (1.0..=MOST_LEGS as f64).contains(&count) {
                Ok(count as usize)
            } else {
                self.reader.fail(Diagnostic::new(
                    span,
                    format!("repeats are a whole number from 1 to {MOST_LEGS}, found {count}"),
                ))
            }
        });
        if count.is_err() {
            self.reader.skip_line();
        } else {
            self.reader.end_clause();
        }
        self.bodies(head, "repeat", course, count.unwrap_or(1), |parser, round| {
            parser.name.repeats.push(round as u32 + 1);
        });
    }

    /// `together`: its legs, each on lanes of its own, run at the same time.
    fn together(&mut self, course: &mut Course) {
        let head = self.reader.here();
        self.reader.at += 1;
        self.reader.end_clause();
        if self.reader.lanes.is_empty() {
            self.reader.errors.push(
                Diagnostic::new(head, "only legs on different lanes can run at the same time")
                    .hint("name the drives before the first leg, such as `lane upper` and `lane lower`"),
            );
        }
        if self.together {
            self.reader.errors.push(Diagnostic::new(head, "these legs run at the same time already"));
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
        let head = self.reader.here();
        self.reader.at += 1;
        let name = match self.reader.peek() {
            Some(Kind::Word(name)) => name.to_string(),
            _ => String::new(),
        };
        self.reader.at += 1;
        let values = self.reader.word("in").and_then(|()| self.reader.values());
        let values = values.unwrap_or_else(|Unread| {
            self.reader.skip_line();
            Vec::new()
        });
        let mut order: Vec<usize> = (0..values.len()).collect();
        let span = self.reader.here();
        if self.reader.take_word("in") {
            let mixed = self.reader.word("random").and_then(|()| self.reader.word("order"));
            if mixed.is_err() {
                self.reader.skip_line();
            } else if name == "fill" {
                self.reader.errors.push(
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
            parser.reader.sweeps.push((name.clone(), value));
        });
    }

    /// `battery quick`
    fn battery(&mut self) {
        let span = self.reader.here();
        self.reader.at += 1;
        let name = self.reader.name("a name for the battery");
        match &name {
            Ok(name) if self.batteries.iter().any(|b| b.name == *name) => {
                self.reader
                    .errors
                    .push(Diagnostic::new(span, format!("there is a battery `{name}` already")));
            }
            Ok(name) => {
                let (name, body) = (name.clone(), self.reader.at);
                self.batteries.push(Battery { name, span, body, uses: 0, open: false });
            }
            Err(Unread) => self.reader.skip_line(),
        }
        self.reader.end_clause();
        self.skip_body();
        if self.reader.take_word("end") {
            self.reader.end_clause();
        } else {
            self.reader.errors.push(
                Diagnostic::new(span, "this `battery` is not closed")
                    .hint("write `end` on a line of its own behind its last leg"),
            );
        }
    }

    /// `use quick`, `use quick as before`
    fn use_battery(&mut self, course: &mut Course) {
        self.reader.at += 1;
        let span = self.reader.here();
        let Ok(name) = self.reader.name("the name of a battery") else { return self.reader.skip_clause() };
        let alias = if self.reader.take_word("as") {
            match self.reader.name("a name for this use, such as `use quick as before`") {
                Ok(alias) => alias,
                Err(Unread) => return self.reader.skip_clause(),
            }
        } else {
            name.clone()
        };
        self.reader.end_clause();
        let Some(i) = self.batteries.iter().position(|b| b.name == name) else {
            let known: Vec<&str> = self.batteries.iter().map(|b| b.name.as_str()).collect();
            let diagnostic = Diagnostic::new(span, format!("there is no battery `{name}` before this"));
            self.reader.errors.push(match closest(&name, &known) {
                Some(meant) => diagnostic.hint(format!("did you mean `{meant}`?")),
                None => diagnostic.hint("write `battery NAME`, its legs and `end` above"),
            });
            return;
        };
        self.batteries[i].uses += 1;
        if std::mem::replace(&mut self.batteries[i].open, true) {
            self.reader.errors.push(Diagnostic::new(span, "a battery cannot use itself"));
            return;
        }
        let back = self.reader.at;
        let outer = self.name.clone();
        self.reader.at = self.batteries[i].body;
        self.depth += 1;
        self.name.steps.push(alias);
        if self.depth <= DEEPEST_NESTING {
            self.group(Group::Body, course);
        }
        self.depth -= 1;
        self.name = outer;
        self.batteries[i].open = false;
        self.reader.at = back;
    }
}
