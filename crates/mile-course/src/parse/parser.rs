//! What a course is made of: settings, legs, and the groups that unfold into legs.

use super::legs::{ENOUGH_ERRORS, Legs, MOST_LEGS};
use super::reader::{Read, Unread};
use super::settings::WORDS;
use crate::course::Course;
use crate::diagnostic::{Diagnostic, Span, closest};
use crate::token::Kind;
use mile_core::Nanos;

/// Length of a sample where the course names none.
const SAMPLE_EVERY: Nanos = Nanos(250_000_000);
/// Time between two looks at the drive's health where the course names none.
const HEALTH_EVERY: Nanos = Nanos(300_000_000_000);
/// Deepest nesting of repeats, sweeps and batteries.
const DEEPEST_NESTING: usize = 12;
/// Lines that may be read in all, those of a group once for each of its values: ten for each leg that a course may come to.
const MOST_STEPS: usize = 10 * MOST_LEGS;

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
pub(super) struct Parser {
    /// The text, and the legs that were read of it.
    pub(super) legs: Legs,
    batteries: Vec<Battery>,
    depth: usize,
    /// Lines that were read.
    steps: usize,
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
        Self { legs: Legs::new(source), ..Self::default() }
    }

    pub(super) fn course(&mut self) -> Course {
        let mut course =
            Course { sample_every: SAMPLE_EVERY, health_every: HEALTH_EVERY, ..Course::default() };
        let start = self.legs.reader.here();
        if self.legs.reader.take_word("course") {
            match self.legs.reader.text("the course's name in double quotes, such as course \"first look\"") {
                Ok(name) => course.name = name,
                Err(Unread) => self.legs.reader.skip_clause(),
            }
            self.legs.reader.end_clause();
        } else if !self.legs.reader.tokens.is_empty() {
            let _: Read<()> =
                self.legs.reader.expected("`course` and a name, such as course \"first look\"", None);
            if !WORDS.iter().any(|w| self.legs.reader.is_word(0, w)) && !self.legs.reader.at_structure() {
                self.legs.reader.skip_clause();
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
        if self.legs.names.is_empty() && unused.is_empty() {
            self.legs.reader.errors.push(
                Diagnostic::new(
                    if self.legs.reader.tokens.is_empty() { start } else { self.legs.reader.here() },
                    "the course has no leg",
                )
                .hint("add one: `leg soak`, and below it `write sequential, blocks 1 MiB, depth 16`"),
            );
        }
        self.legs.reader.errors.extend(unused);
        course.legs = std::mem::take(&mut self.legs.all);
        course.lanes = std::mem::take(&mut self.legs.reader.lanes);
        course
    }

    /// A group of legs, up to its `end`, which is left where it stands.
    fn group(&mut self, kind: Group, course: &mut Course) {
        loop {
            self.steps += 1;
            if self.steps > MOST_STEPS {
                self.legs.too_many_legs(self.legs.reader.here());
            }
            self.legs.give_up();
            match self.legs.reader.peek() {
                None => return,
                Some(Kind::LineEnd | Kind::Comma) => self.legs.reader.at += 1,
                Some(_) if self.legs.reader.is_word(0, "end") => {
                    if kind == Group::Body {
                        return;
                    }
                    self.legs.reader.errors.push(
                        Diagnostic::new(self.legs.reader.here(), "there is nothing here to end")
                            .hint("`end` closes a `repeat`, a `for` or a `battery`"),
                    );
                    self.legs.reader.at += 1;
                    self.legs.reader.end_clause();
                }
                Some(_) if self.legs.reader.is_word(0, "leg") => self.legs.leg(),
                Some(_) if self.legs.reader.is_word(0, "repeat") => self.repeat(course),
                Some(_) if self.legs.reader.at_sweep() => self.sweep(course),
                Some(_) if self.legs.reader.is_word(0, "battery") => self.battery(),
                Some(_) if self.legs.reader.is_word(0, "together") => self.together(course),
                Some(_) if self.legs.reader.is_word(0, "use") => self.use_battery(course),
                Some(_) => {
                    let here = self.legs.reader.here();
                    if self.legs.reader.setting(course, !self.legs.names.is_empty()).is_err() {
                        self.legs.reader.skip_clause();
                    } else if kind == Group::Body {
                        self.legs.reader.errors.push(
                            Diagnostic::new(here, "this belongs to the whole course")
                                .hint("put it before the first leg"),
                        );
                    }
                    self.legs.reader.end_clause();
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
        let body = self.legs.reader.at;
        let outer = (self.legs.name.clone(), self.legs.reader.sweeps.len());
        self.depth += 1;
        if self.depth > DEEPEST_NESTING {
            self.legs
                .reader
                .errors
                .push(Diagnostic::new(head, format!("this is nested deeper than {DEEPEST_NESTING} groups")));
            self.skip_body();
        } else {
            for round in 0..rounds {
                self.legs.reader.at = body;
                enter(self, round);
                self.group(Group::Body, course);
                self.legs.name.clone_from(&outer.0);
                self.legs.reader.sweeps.truncate(outer.1);
                if self.legs.reader.errors.len() > ENOUGH_ERRORS || self.legs.too_many {
                    break;
                }
            }
            if rounds == 0 {
                self.skip_body();
            }
        }
        self.depth -= 1;
        if self.legs.reader.take_word("end") {
            self.legs.reader.end_clause();
        } else if !self.legs.too_many && !self.legs.gave_up {
            self.legs.reader.errors.push(
                Diagnostic::new(head, format!("this `{word}` is not closed"))
                    .hint("write `end` on a line of its own behind its last leg"),
            );
        }
    }

    /// Passes over a body, to its `end`.
    fn skip_body(&mut self) {
        let mut open = 0;
        let mut begins = true;
        while self.legs.reader.peek().is_some() {
            if begins {
                if self.legs.reader.is_word(0, "end") {
                    if open == 0 {
                        return;
                    }
                    open -= 1;
                }
                let opens = ["repeat", "battery", "together"].iter().any(|w| self.legs.reader.is_word(0, w));
                open += usize::from(opens || self.legs.reader.at_sweep());
            }
            begins = matches!(self.legs.reader.peek(), Some(Kind::LineEnd | Kind::Comma));
            self.legs.reader.at += 1;
        }
    }

    /// `repeat 3`
    fn repeat(&mut self, course: &mut Course) {
        let head = self.legs.reader.here();
        self.legs.reader.at += 1;
        let span = self.legs.reader.here();
        let count = self.legs.reader.plain("how often, such as `repeat 3`").and_then(|count| {
            if count.fract() == 0.0 && (1.0..=MOST_LEGS as f64).contains(&count) {
                Ok(count as usize)
            } else {
                self.legs.reader.fail(Diagnostic::new(
                    span,
                    format!("repeats are a whole number from 1 to {MOST_LEGS}, found {count}"),
                ))
            }
        });
        if count.is_err() {
            self.legs.reader.skip_line();
        } else {
            self.legs.reader.end_clause();
        }
        self.bodies(head, "repeat", course, count.unwrap_or(1), |parser, round| {
            parser.legs.name.repeats.push(round as u32 + 1);
        });
    }

    /// `together`: its legs, each on lanes of its own, run at the same time.
    fn together(&mut self, course: &mut Course) {
        let head = self.legs.reader.here();
        self.legs.reader.at += 1;
        self.legs.reader.end_clause();
        if self.legs.reader.lanes.is_empty() {
            self.legs.reader.errors.push(
                Diagnostic::new(head, "only legs on different lanes can run at the same time")
                    .hint("name the drives before the first leg, such as `lane upper` and `lane lower`"),
            );
        }
        if self.legs.together {
            self.legs.reader.errors.push(Diagnostic::new(head, "these legs run at the same time already"));
        }
        let (outer, first) = (std::mem::replace(&mut self.legs.together, true), self.legs.all.len());
        self.bodies(head, "together", course, 1, |_, _| {});
        self.legs.together = outer;
        if !self.legs.together && self.legs.all.len() > first {
            self.legs.stage += 1;
        }
    }

    /// `for fill in 0 %, 25 %, 50 %`, `for span in 100 %, 50 %, 10 % in random order`
    fn sweep(&mut self, course: &mut Course) {
        let head = self.legs.reader.here();
        self.legs.reader.at += 1;
        let name = match self.legs.reader.peek() {
            Some(Kind::Word(name)) => name.to_string(),
            _ => String::new(),
        };
        self.legs.reader.at += 1;
        let values = self.legs.reader.word("in").and_then(|()| self.legs.reader.values());
        let values = values.unwrap_or_else(|Unread| {
            self.legs.reader.skip_line();
            Vec::new()
        });
        let mut order: Vec<usize> = (0..values.len()).collect();
        let span = self.legs.reader.here();
        if self.legs.reader.take_word("in") {
            let mixed = self.legs.reader.word("random").and_then(|()| self.legs.reader.word("order"));
            if mixed.is_err() {
                self.legs.reader.skip_line();
            } else if name == "fill" {
                self.legs.reader.errors.push(
                    Diagnostic::new(
                        span,
                        "fill levels cannot go in a random order: a drive is filled from one to the next",
                    )
                    .hint("leave `in random order` away"),
                );
            } else {
                mix(&mut order, &self.legs.name.repeats);
            }
        }
        self.bodies(head, "for", course, values.len(), |parser, round| {
            let value = values[order[round]].clone();
            parser.legs.name.steps.push(format!("{name} {value}"));
            parser.legs.reader.sweeps.push((name.clone(), value));
        });
    }

    /// `battery quick`
    fn battery(&mut self) {
        let span = self.legs.reader.here();
        self.legs.reader.at += 1;
        let name = self.legs.reader.name("a name for the battery");
        match &name {
            Ok(name) if self.batteries.iter().any(|b| b.name == *name) => {
                self.legs
                    .reader
                    .errors
                    .push(Diagnostic::new(span, format!("there is a battery `{name}` already")));
            }
            Ok(name) => {
                let (name, body) = (name.clone(), self.legs.reader.at);
                self.batteries.push(Battery { name, span, body, uses: 0, open: false });
            }
            Err(Unread) => self.legs.reader.skip_line(),
        }
        self.legs.reader.end_clause();
        self.skip_body();
        if self.legs.reader.take_word("end") {
            self.legs.reader.end_clause();
        } else {
            self.legs.reader.errors.push(
                Diagnostic::new(span, "this `battery` is not closed")
                    .hint("write `end` on a line of its own behind its last leg"),
            );
        }
    }

    /// `use quick`, `use quick as before`
    fn use_battery(&mut self, course: &mut Course) {
        self.legs.reader.at += 1;
        let span = self.legs.reader.here();
        let Ok(name) = self.legs.reader.name("the name of a battery") else {
            return self.legs.reader.skip_clause();
        };
        let alias = if self.legs.reader.take_word("as") {
            match self.legs.reader.name("a name for this use, such as `use quick as before`") {
                Ok(alias) => alias,
                Err(Unread) => return self.legs.reader.skip_clause(),
            }
        } else {
            name.clone()
        };
        self.legs.reader.end_clause();
        let Some(i) = self.batteries.iter().position(|b| b.name == name) else {
            let known: Vec<&str> = self.batteries.iter().map(|b| b.name.as_str()).collect();
            let diagnostic = Diagnostic::new(span, format!("there is no battery `{name}` before this"));
            self.legs.reader.errors.push(match closest(&name, &known) {
                Some(meant) => diagnostic.hint(format!("did you mean `{meant}`?")),
                None => diagnostic.hint("write `battery NAME`, its legs and `end` above"),
            });
            return;
        };
        self.batteries[i].uses += 1;
        if std::mem::replace(&mut self.batteries[i].open, true) {
            self.legs.reader.errors.push(Diagnostic::new(span, "a battery cannot use itself"));
            return;
        }
        let back = self.legs.reader.at;
        let outer = self.legs.name.clone();
        self.legs.reader.at = self.batteries[i].body;
        self.depth += 1;
        self.legs.name.steps.push(alias);
        if self.depth <= DEEPEST_NESTING {
            self.group(Group::Body, course);
        }
        self.depth -= 1;
        self.legs.name = outer;
        self.batteries[i].open = false;
        self.legs.reader.at = back;
    }
}
