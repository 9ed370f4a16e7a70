//! From text to a course, with all errors at once.
//!
//! The parser goes clause by clause: clauses are parted by commas and line ends. A clause that cannot be read is
//! reported and passed over, and reading goes on behind it. What a clause says twice, or what is
//! missing, is reported when its leg is complete.

mod clauses;

use crate::course::{Action, Course, Guard, Leg, Position, Rest, Transfer};
use crate::diagnostic::{Diagnostic, Span, closest};
use crate::token::{Kind, Token, tokens};
use clauses::Clause;
use mile_core::{Bytes, Nanos, Op, units::block_size};

/// Length of a sample where the course names none.
const SAMPLE_EVERY: Nanos = Nanos(250_000_000);
/// Largest operation: larger ones are split by the kernel anyway.
const LARGEST_BLOCK: u64 = 16 << 20;
/// Smallest logical block of any drive.
const SMALLEST_BLOCK: u64 = 512;
/// Most operations in flight, what a single ring is sized for.
const DEEPEST: u32 = 1024;
/// Most workers: more than there are processors to serve them on any bench.
const MOST_WORKERS: u32 = 256;
/// Time between two looks at the drive's health where the course names none.
const HEALTH_EVERY: Nanos = Nanos(300_000_000_000);

/// Reads a course. On failure gives everything that is wrong with it, in the order of the text.
pub fn parse(source: &str) -> Result<Course, Vec<Diagnostic>> {
    let mut parser = Parser { tokens: tokens(source), at: 0, errors: Vec::new() };
    let course = parser.course();
    let mut errors = parser.errors;
    if errors.is_empty() {
        return Ok(course);
    }
    errors.sort_by_key(|e| (e.span.line, e.span.column));
    errors.dedup();
    Err(errors)
}

/// A transfer of which nothing is said yet.
const NOTHING: Transfer = Transfer {
    op: Op::Write,
    reads: 0.0,
    verify: false,
    access: crate::course::Access::Sequential,
    block: Bytes(0),
    depth: 1,
    workers: 1,
    rate: None,
    over: (Position::Share(0.0), Position::Share(1.0)),
    until: Vec::new(),
    at_most: None,
};

pub(crate) struct Parser {
    tokens: Vec<Token>,
    at: usize,
    errors: Vec<Diagnostic>,
}

/// A clause could not be read; why is in the errors.
pub(crate) struct Unread;
type Read<T> = Result<T, Unread>;

impl Parser {
    fn peek(&self) -> Option<&Kind> {
        self.tokens.get(self.at).map(|t| &t.kind)
    }

    /// Where the next token stands, or the end of the text.
    fn here(&self) -> Span {
        let behind = |t: &Token| Span { column: t.span.column + t.span.length, length: 0, ..t.span };
        let end = || self.tokens.last().map_or(Span { line: 1, column: 1, length: 0 }, behind);
        self.tokens.get(self.at).map_or_else(end, |t| t.span)
    }

    fn fail<T>(&mut self, diagnostic: Diagnostic) -> Read<T> {
        self.errors.push(diagnostic);
        Err(Unread)
    }

    /// Reports what stands here instead of what was expected.
    fn expected<T>(&mut self, what: &str, hint: Option<String>) -> Read<T> {
        let found = match self.peek() {
            None => "the end of the course".to_owned(),
            Some(Kind::LineEnd) => "the end of the line".to_owned(),
            Some(Kind::Word(w)) => format!("`{w}`"),
            Some(Kind::Number(n)) => format!("`{n}`"),
            Some(Kind::Text(t)) => format!("`\"{t}\"`"),
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

    fn take_word(&mut self, word: &str) -> bool {
        let found = matches!(self.peek(), Some(Kind::Word(w)) if w.eq_ignore_ascii_case(word));
        self.at += usize::from(found);
        found
    }

    fn word(&mut self, word: &str) -> Read<()> {
        if self.take_word(word) { Ok(()) } else { self.expected(&format!("`{word}`"), None) }
    }

    /// One of `words`; says which was probably meant.
    fn one_of(&mut self, words: &[&str]) -> Read<usize> {
        if let Some(i) = words.iter().position(|w| self.take_word(w)) {
            return Ok(i);
        }
        let hint = match self.peek() {
            Some(Kind::Word(w)) => closest(w, words).map(|w| format!("did you mean `{w}`?")),
            _ => None,
        };
        let list: Vec<String> = words.iter().map(|w| format!("`{w}`")).collect();
        self.expected(&list.join(" or "), hint)
    }

    fn at_clause_end(&self) -> bool {
        matches!(self.peek(), None | Some(Kind::LineEnd | Kind::Comma))
    }

    /// Passes over the rest of a clause that could not be read.
    fn skip_clause(&mut self) {
        while !self.at_clause_end() {
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

    fn course(&mut self) -> Course {
        let mut course = Course {
            name: String::new(),
            sample_every: SAMPLE_EVERY,
            health_every: HEALTH_EVERY,
            guards: Vec::new(),
            legs: Vec::new(),
        };
        let start = self.here();
        if self.take_word("course") {
            match self.text("the course's name in double quotes, such as course \"first look\"") {
                Ok(name) => course.name = name,
                Err(Unread) => self.skip_clause(),
            }
            self.end_clause();
        } else if !self.tokens.is_empty() {
            let _: Read<()> = self.expected("`course` and a name, such as course \"first look\"", None);
            if !matches!(self.peek(), Some(Kind::Word(w)) if ["leg", "sample", "stop", "health"].contains(&w.as_str()))
            {
                self.skip_clause();
            }
        }
        let mut names: Vec<(String, Span)> = Vec::new();
        loop {
            match self.peek() {
                None => break,
                Some(Kind::LineEnd | Kind::Comma) => self.at += 1,
                Some(Kind::Word(w)) if w.eq_ignore_ascii_case("leg") => {
                    if let Some(leg) = self.leg(&mut names) {
                        course.legs.push(leg);
                    }
                }
                _ => {
                    if self.setting(&mut course).is_err() {
                        self.skip_clause();
                    }
                    self.end_clause();
                }
            }
        }
        if names.is_empty() {
            self.errors.push(
                Diagnostic::new(
                    if self.tokens.is_empty() { start } else { self.here() },
                    "the course has no leg",
                )
                .hint("add one: `leg soak`, and below it `write sequential, blocks 1 MiB, depth 16`"),
            );
        }
        course
    }

    fn setting(&mut self, course: &mut Course) -> Read<()> {
        match self.one_of(&["sample", "stop", "leg", "health"])? {
            0 => {
                self.word("every")?;
                let span = self.here();
                course.sample_every = self.duration()?;
                if !(10_000_000..=60_000_000_000).contains(&course.sample_every.0) {
                    return self.fail(Diagnostic::new(
                        span,
                        format!("a sample lasts 10 ms to 60 s, found {}", course.sample_every),
                    ));
                }
            }
            3 => {
                self.word("every")?;
                let span = self.here();
                course.health_every = self.duration()?;
                if course.health_every.0 < 10_000_000_000 {
                    return self.fail(
                        Diagnostic::new(
                            span,
                            format!(
                                "health is read every 10 s at the most often, found {}",
                                course.health_every
                            ),
                        )
                        .hint("reading it may hold up a drive for a moment"),
                    );
                }
            }
            _ => {
                self.word("if")?;
                course.guards.push(self.guard()?);
            }
        }
        Ok(())
    }

    fn guard(&mut self) -> Read<Guard> {
        Ok(match self.one_of(&["temperature", "errors", "operation", "critical"])? {
            0 => {
                self.word("above")?;
                Guard::TemperatureAbove(self.celsius()?)
            }
            1 => {
                self.word("above")?;
                let span = self.here();
                let count = self.number("how many errors are too many, such as `stop if errors above 10`")?;
                if count.fract() != 0.0 || !(0.0..=1e9).contains(&count) {
                    return self.fail(Diagnostic::new(
                        span,
                        format!("errors are counted in whole numbers, found {count}"),
                    ));
                }
                Guard::ErrorsAbove(count as u64)
            }
            2 => {
                self.word("above")?;
                let span = self.here();
                let time = self.duration()?;
                if !(100_000_000..=3_600_000_000_000).contains(&time.0) {
                    return self
                        .fail(Diagnostic::new(span, format!("the limit is 100 ms to 1 h, found {time}")));
                }
                Guard::OperationAbove(time)
            }
            _ => {
                self.word("warning")?;
                Guard::CriticalWarning
            }
        })
    }

    fn text(&mut self, what: &str) -> Read<String> {
        if let Some(Kind::Text(text)) = self.peek() {
            let text = text.clone();
            self.at += 1;
            return Ok(text);
        }
        self.expected(what, None)
    }

    /// A leg: its head, and all clauses up to the next leg.
    fn leg(&mut self, names: &mut Vec<(String, Span)>) -> Option<Leg> {
        self.at += 1;
        let head = self.here();
        let mut name = match self.peek() {
            Some(Kind::Word(name) | Kind::Text(name)) => Some(name.clone()),
            _ => None,
        };
        match &name {
            Some(name) => {
                if let Some((_, first)) = names.iter().find(|(n, _)| n == name) {
                    let first = first.line;
                    self.errors.push(
                        Diagnostic::new(head, format!("a leg named `{name}` is already on line {first}"))
                            .hint("every leg has a name of its own, so that its results can be found"),
                    );
                }
                self.at += 1;
            }
            None => {
                let _: Read<()> = self.expected("a name for the leg", None);
                self.skip_clause();
                name = None;
            }
        }
        names.push((name.clone().unwrap_or_default(), head));
        self.end_clause();
        let mut clauses = Vec::new();
        loop {
            match self.peek() {
                None => break,
                Some(Kind::LineEnd | Kind::Comma) => self.at += 1,
                Some(Kind::Word(w)) if w.eq_ignore_ascii_case("leg") => break,
                _ => {
                    let span = self.here();
                    let errors = self.errors.len();
                    match self.clause() {
                        Ok(clause) => clauses.push((clause, span)),
                        Err(Unread) => {
                            self.skip_clause();
                            clauses.push((Clause::Unread, span));
                        }
                    }
                    if self.errors.len() == errors {
                        self.end_clause();
                    }
                }
            }
        }
        let action = self.action(head, clauses)?;
        Some(Leg { name: name?, action })
    }

    /// Puts the clauses of a leg together.
    fn action(&mut self, head: Span, clauses: Vec<(Clause, Span)>) -> Option<Action> {
        let unread = clauses.iter().any(|(c, _)| matches!(c, Clause::Unread));
        let mut clauses = clauses.into_iter().filter(|(c, _)| !matches!(c, Clause::Unread));
        let errors = self.errors.len();
        let action = match clauses.next() {
            Some((Clause::Rest(until), span)) => self.rest(span, until, clauses),
            Some((Clause::Transfer(op, access), span)) => {
                self.transfer(span, Transfer { op, access, ..NOTHING }, clauses, unread)
            }
            Some((Clause::Verify, span)) => {
                self.transfer(span, Transfer { op: Op::Read, verify: true, ..NOTHING }, clauses, unread)
            }
            Some((Clause::Flush, _)) => {
                self.nothing_more(clauses, "a flush");
                Some(Action::Flush)
            }
            Some((Clause::Discard, _)) => {
                let mut over = NOTHING.over;
                let rest: Vec<_> = clauses
                    .filter_map(|(clause, span)| match clause {
                        Clause::Over(from, to) => {
                            over = self.checked_range(span, from, to);
                            None
                        }
                        other => Some((other, span)),
                    })
                    .collect();
                self.nothing_more(rest.into_iter(), "a discard");
                Some(Action::Discard(over))
            }
            Some((_, span)) => {
                if !unread {
                    self.errors.push(
                        Diagnostic::new(span, "a leg begins with what it does")
                            .hint("begin with `write`, `read` or `mixed` and `sequential` or `random`, or with `verify`, `flush`, `discard` or `rest`"),
                    );
                }
                None
            }
            None => {
                if !unread {
                    self.errors.push(
                        Diagnostic::new(head, "this leg does nothing")
                            .hint("say below it what it does, such as `rest for 1 min` or `write sequential, blocks 1 MiB`"),
                    );
                }
                None
            }
        };
        action.filter(|_| self.errors.len() == errors && !unread)
    }

    /// Reports clauses behind an action that takes none of them.
    fn nothing_more(&mut self, clauses: impl Iterator<Item = (Clause, Span)>, what: &str) {
        for (_, span) in clauses {
            self.errors
                .push(Diagnostic::new(span, format!("this does not belong to {what}, or is said twice")));
        }
    }

    fn rest(
        &mut self,
        span: Span,
        mut until: Vec<crate::End>,
        clauses: impl Iterator<Item = (Clause, Span)>,
    ) -> Option<Action> {
        let mut at_most = None;
        for (clause, span) in clauses {
            match clause {
                Clause::Until(ends)
                    if ends
                        .iter()
                        .all(|e| matches!(e, crate::End::After(_) | crate::End::TemperatureBelow(_))) =>
                {
                    until.extend(ends);
                }
                Clause::AtMost(time) if at_most.is_none() => at_most = Some(time),
                _ => self.errors.push(
                    Diagnostic::new(span, "this does not belong to a rest, or is said twice").hint(
                        "a rest takes `for TIME`, `until temperature below T °C` and one `at most TIME`",
                    ),
                ),
            }
        }
        if until.is_empty() {
            self.errors
                .push(Diagnostic::new(span, "this rest never ends").hint(
                    "write `rest for 10 min`, or `rest until temperature below 35 °C, at most 10 min`",
                ));
            return None;
        }
        if at_most.is_none() && until.iter().all(|e| matches!(e, crate::End::TemperatureBelow(_))) {
            self.errors.push(
                Diagnostic::new(span, "this rest may never end, as a temperature may never be reached")
                    .hint("add a limit: `, at most 30 min`"),
            );
        }
        Some(Action::Rest(Rest { until, at_most }))
    }

    fn transfer(
        &mut self,
        span: Span,
        mut leg: Transfer,
        clauses: impl Iterator<Item = (Clause, Span)>,
        unread: bool,
    ) -> Option<Action> {
        let mut said: Vec<std::mem::Discriminant<Clause>> = Vec::new();
        let mut reads = None;
        for (clause, span) in clauses {
            let kind = std::mem::discriminant(&clause);
            if said.contains(&kind) {
                self.errors
                    .push(Diagnostic::new(span, "this is said twice in the leg").hint("keep one of them"));
                continue;
            }
            said.push(kind);
            match clause {
                Clause::Blocks(block) => leg.block = self.checked_block(span, block),
                Clause::Depth(depth) => {
                    leg.depth = self.checked_count(span, "operations in flight", depth, DEEPEST)
                }
                Clause::Over(from, to) => leg.over = self.checked_range(span, from, to),
                Clause::Until(until) => leg.until = until,
                Clause::AtMost(time) => leg.at_most = Some(time),
                Clause::Workers(count) => {
                    leg.workers = self.checked_count(span, "workers", count, MOST_WORKERS)
                }
                Clause::Rate(rate) => leg.rate = Some(rate),
                Clause::Reads(share) if leg.op == Op::Mixed => reads = Some(share),
                Clause::Reads(_) => self.errors.push(
                    Diagnostic::new(span, "only a mix has a share of reads")
                        .hint("begin with `mixed random` or `mixed sequential`"),
                ),
                Clause::Rest(_) | Clause::Transfer(..) | Clause::Verify | Clause::Flush | Clause::Discard => {
                    self.errors.push(
                        Diagnostic::new(span, "a leg does one thing only")
                            .hint("begin another leg for this with `leg NAME`"),
                    )
                }
                Clause::Unread => {}
            }
        }
        if leg.op == Op::Mixed && reads.is_none() && !unread {
            self.errors.push(
                Diagnostic::new(span, "the mix does not say how much of it is reads")
                    .hint("add `reads 70 %`"),
            );
        }
        leg.reads = reads.unwrap_or(0.0);
        if leg.block.0 == 0 && !unread && self.errors.iter().all(|e| e.span.line < span.line) {
            self.errors.push(
                Diagnostic::new(span, "the leg does not say how large its blocks are")
                    .hint("add `blocks 1 MiB`"),
            );
        }
        Some(Action::Transfer(leg))
    }

    fn checked_block(&mut self, span: Span, block: Bytes) -> Bytes {
        let wrong = if block.0 == 0 || !block.0.is_multiple_of(SMALLEST_BLOCK) {
            Some("a block is a multiple of 512 B, the smallest logical block")
        } else if block.0 > LARGEST_BLOCK {
            Some("a block is at most 16 MiB")
        } else {
            None
        };
        if let Some(wrong) = wrong {
            let hint = match block.0 {
                b if b.is_multiple_of(1000) && b > 0 => {
                    format!("block sizes are binary: did you mean {}?", block_size(Bytes(b / 1000 * 1024)))
                }
                _ => "write `blocks 4 KiB` or `blocks 1 MiB`".to_owned(),
            };
            self.errors
                .push(Diagnostic::new(span, format!("{wrong}, found {}", block_size(block))).hint(hint));
        }
        block
    }

    fn checked_count(&mut self, span: Span, what: &str, count: f64, most: u32) -> u32 {
        if count.fract() != 0.0 || !(1.0..=f64::from(most)).contains(&count) {
            self.errors.push(Diagnostic::new(
                span,
                format!("the number of {what} is a whole number from 1 to {most}, found {count}"),
            ));
            return 1;
        }
        count as u32
    }

    fn checked_range(&mut self, span: Span, from: Position, to: Position) -> (Position, Position) {
        let wrong = match (from, to) {
            (Position::Share(a), Position::Share(b)) => a >= b || b > 1.0,
            (Position::At(a), Position::At(b)) => a >= b,
            (Position::Share(a), _) => a >= 1.0,
            (_, Position::Share(b)) => b <= 0.0 || b > 1.0,
        };
        if wrong {
            self.errors.push(
                Diagnostic::new(span, "this range is empty, or ends behind the end of the drive").hint(
                    "a range goes from the front towards the end: `over 0 % to 50 %`, `over 0 GB to 100 GB`",
                ),
            );
        }
        (from, to)
    }
}

/// The operation that a word means.
pub(crate) fn op_of(word: &str) -> Op {
    match word {
        "write" => Op::Write,
        "mixed" => Op::Mixed,
        _ => Op::Read,
    }
}
