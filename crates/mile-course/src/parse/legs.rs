//! A leg: its head, its clauses, and whether they make sense together.

use super::clause::{Clause, Clauses};
use super::reader::{Reader, Unread};
use crate::course::{Action, Leg};
use crate::diagnostic::{Diagnostic, Span};
use crate::kinds::transfer::Kind;
use crate::kinds::{
    ask, copy, discard, expect, files, fill, flush, health, rest, scan, self_test, transfer, verify,
};
use crate::token;
use mile_core::LegName;
use std::collections::HashMap;

/// Most legs that a course may come to: a leg of a minute each would last ten weeks.
pub(super) const MOST_LEGS: usize = 100_000;
/// Errors after which a text is not read any further: whoever mends a course reads no more of them.
pub(super) const ENOUGH_ERRORS: usize = 200;
/// Bytes that the names of all legs may come to.
pub(super) const MOST_NAME_BYTES: usize = 32 << 20;

/// A leg, or the legs that it stands for: the passes of a scan and what refines them; the source of a copy of files alone, and the copy.
fn unfold(name: String, action: Action, together: bool) -> Vec<(String, Action)> {
    match action {
        Action::Files(all) => {
            let legs = files::with_source(name, *all).into_iter();
            legs.map(|(name, files)| (name, Action::Files(Box::new(files)))).collect()
        }
        Action::Transfer(t) if let Kind::Scan(zones, order) = t.kind => {
            let legs = scan::passes(&name, &t, (zones, order), together).into_iter();
            legs.map(|(name, pass)| (name, Action::Transfer(Box::new(pass)))).collect()
        }
        other => vec![(name, other)],
    }
}

/// The text of a course, and the legs that were read of it.
#[derive(Default)]
pub(super) struct Legs {
    pub(super) reader: Reader,
    /// What the names of legs here begin and end with.
    pub(super) name: LegName,
    /// Full names of the legs so far, and where they stand.
    pub(super) names: HashMap<String, Span>,
    pub(super) all: Vec<Leg>,
    /// The stage that the next leg is in, and whether legs share it.
    pub(super) stage: usize,
    pub(super) together: bool,
    /// Bytes of the names of legs.
    name_bytes: usize,
    /// Whether the course comes to too much.
    pub(super) too_many: bool,
    /// Whether reading ended before the text did.
    pub(super) gave_up: bool,
}

impl Legs {
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

    /// A leg: its head, and all clauses up to what is no clause of it.
    pub(super) fn leg(&mut self) {
        let line = self.reader.here().line;
        self.reader.at += 1;
        let head = self.reader.here();
        let name = self.reader.name("a name for the leg");
        let name = match name {
            Ok(base) => {
                let name = LegName { base, ..self.name.clone() }.to_string();
                if let Some(first) = self.names.get(&name) {
                    let first = first.line;
                    let hint = if first == line {
                        "a sweep has each value once, and a battery that is used again needs another name: `use quick as after`"
                    } else {
                        "every leg has a name of its own, so that its results can be found"
                    };
                    self.reader.errors.push(
                        Diagnostic::new(head, format!("a leg named `{name}` is already on line {first}"))
                            .hint(hint),
                    );
                }
                self.names.insert(name.clone(), head);
                Some(name)
            }
            Err(Unread) => {
                self.reader.skip_clause();
                self.names.insert(String::new(), head);
                None
            }
        };
        let on_at = self.reader.here();
        let says_on = self.reader.is_word(0, "on");
        let on = self.reader.lanes_of_leg().unwrap_or_else(|Unread| {
            self.reader.skip_clause();
            Vec::new()
        });
        self.reader.end_clause();
        let mut clauses = Vec::new();
        loop {
            self.give_up();
            match self.reader.peek() {
                None => break,
                Some(token::Kind::LineEnd | token::Kind::Comma) => self.reader.at += 1,
                Some(_) if self.reader.at_structure() => break,
                _ => {
                    let span = self.reader.here();
                    let errors = self.reader.errors.len();
                    self.reader.unit = None;
                    match self.reader.clause() {
                        Ok(clause) => clauses.push((clause, span)),
                        Err(Unread) => {
                            self.reader.skip_clause();
                            clauses.push((Clause::Unread, span));
                        }
                    }
                    // `discard over 0 % to 50 %` may be said in one breath.
                    let goes_on = self.reader.is_word(0, "over")
                        && matches!(clauses.last(), Some((Clause::Discard, _)));
                    if self.reader.errors.len() == errors && !goes_on {
                        self.reader.end_clause();
                    }
                }
            }
        }
        let action = self.action(head, clauses);
        let on = match &action {
            Some(Action::Copy(_)) if says_on => {
                self.reader.errors.push(
                    Diagnostic::new(on_at, "a copy is on the lanes that it is from and to")
                        .hint("take out `on` and what is behind it"),
                );
                on
            }
            Some(Action::Copy(copy)) => vec![copy.from, copy.to],
            _ => on,
        };
        // What runs at the same time has lanes of its own.
        let others = self.all.iter().rev().take_while(|l| self.together && l.stage == self.stage);
        if let Some(i) = others.flat_map(|l| &l.lanes).find(|i| on.contains(i)) {
            let lane = self.reader.lanes.get(*i).map_or("", |l| l.name.as_str());
            self.reader.errors.push(
                Diagnostic::new(on_at, format!("the lane `{lane}` has a leg here already"))
                    .hint("say which lanes this leg is on: `leg NAME on LANE`"),
            );
        }
        self.name_bytes += name.as_ref().map_or(0, String::len);
        if self.all.len() >= MOST_LEGS || self.name_bytes > MOST_NAME_BYTES {
            return self.too_many_legs(head);
        }
        if let (Some(name), Some(action)) = (name, action) {
            for (name, action) in unfold(name, action, self.together) {
                self.all.push(Leg { name, line, lanes: on.clone(), stage: self.stage, action });
                self.stage += usize::from(!self.together);
            }
        }
    }
    /// Puts the clauses of a leg together.
    fn action(&mut self, head: Span, clauses: Vec<(Clause, Span)>) -> Option<Action> {
        let unread = clauses.iter().any(|(c, _)| matches!(c, Clause::Unread));
        let clauses: Vec<_> = clauses.into_iter().filter(|(c, _)| !matches!(c, Clause::Unread)).collect();
        let mut clauses = clauses.into_iter();
        let errors = self.reader.errors.len();
        let action = match clauses.next() {
            Some((clause, span)) => self.of_kind(clause, span, clauses, unread),
            None => {
                if !unread {
                    self.reader.errors.push(
                        Diagnostic::new(head, "this leg does nothing")
                            .hint("say below it what it does, such as `rest for 1 min` or `write sequential, blocks 1 MiB`"),
                    );
                }
                None
            }
        };
        action.filter(|_| self.reader.errors.len() == errors && !unread)
    }

    /// A leg by what it begins with.
    fn of_kind(&mut self, head: Clause, span: Span, clauses: Clauses, unread: bool) -> Option<Action> {
        let reader = &mut self.reader;
        let moves = |transfer| Some(Action::Transfer(Box::new(transfer)));
        match head {
            Clause::Rest(until) => rest::read(reader, span, until, clauses).map(Action::Rest),
            Clause::Transfer(op, access) => {
                let plain = transfer::nothing(op, Kind::Plain, access);
                moves(transfer::read(reader, span, plain, clauses, unread))
            }
            Clause::Verify => moves(verify::read(reader, span, clauses, unread)),
            Clause::Fill(to) => moves(fill::read(reader, span, to, clauses, unread)),
            Clause::Scan(op, order) => moves(scan::read(reader, span, (op, order), clauses, unread)),
            Clause::Files(op, from) => {
                Some(Action::Files(Box::new(files::read(reader, span, (op, from), clauses, unread))))
            }
            Clause::Copy(from, to) => {
                Some(Action::Copy(Box::new(copy::read(reader, span, (from, to), clauses, unread))))
            }
            Clause::Flush => {
                flush::read(reader, clauses);
                Some(Action::Flush)
            }
            Clause::Health => {
                health::read(reader, clauses);
                Some(Action::Health)
            }
            Clause::SelfTest(kind) => Some(Action::SelfTest(self_test::read(reader, span, kind, clauses))),
            Clause::Ask(text) => Some(Action::Ask(ask::read(reader, text, clauses))),
            Clause::Expect(that) => expect::read(reader, span, &that, clauses).map(Action::Expect),
            Clause::Discard => Some(Action::Discard(discard::read(reader, clauses))),
            _ => {
                if !unread {
                    reader.errors.push(
                        Diagnostic::new(span, "a leg begins with what it does")
                            .hint("begin with `write`, `read` or `mixed` and `sequential` or `random`, or with `verify`, `fill`, `scan`, `files`, `copy`, `flush`, `discard`, `health`, `self-test`, `ask`, `expect` or `rest`"),
                    );
                }
                None
            }
        }
    }
}
