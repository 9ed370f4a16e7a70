//! The clauses of a leg.

use super::clause::Clause;
use super::reader::{Read, Reader};
use crate::course::ends::{End, Seen};
use crate::course::order::Access;
use crate::diagnostic::Diagnostic;
use crate::kinds::{copy, files, scan, self_test};
use mile_core::{Nanos, Op};

/// The words that begin a clause. The canonical form of a leg has them in this order.
pub(crate) const CLAUSES: [&str; 35] = [
    "write",
    "read",
    "mixed",
    "verify",
    "fill",
    "scan",
    "files",
    "copy",
    "rest",
    "flush",
    "discard",
    "health",
    "self-test",
    "ask",
    "expect",
    "reads",
    "sizes",
    "count",
    "blocks",
    "depth",
    "target",
    "buffer",
    "workers",
    "rate",
    "zones",
    "refine",
    "bad",
    "shifted",
    "incompressible",
    "sync",
    "through",
    "over",
    "until",
    "for",
    "at",
];

/// What waits: it says all of itself on one line.
pub(crate) const WAITING: [&str; 4] = ["rest", "ask", "expect", "self-test"];

/// Round of a steady state where the course names none.
const ROUND: Nanos = Nanos(60_000_000_000);

impl Reader {
    pub(super) fn clause(&mut self) -> Read<Clause> {
        Ok(match CLAUSES[self.one_of_many("what the leg does, or how", &CLAUSES, true)?] {
            "write" => Clause::Transfer(Op::Write, self.access()?),
            "read" => Clause::Transfer(Op::Read, self.access()?),
            "mixed" => Clause::Transfer(Op::Mixed, self.access()?),
            "verify" => Clause::Verify,
            "fill" => {
                self.word("to")?;
                Clause::Fill(self.position()?)
            }
            "scan" => scan::head(self),
            "copy" => copy::head(self)?,
            "files" => files::head(self)?,
            "sizes" => Clause::Sizes(files::sizes(self)?),
            "count" => Clause::Count(self.plain("how many files, such as `count 10000`")?),
            "sync" => files::sync(self)?,
            "target" => copy::of_target(self)?,
            "buffer" => Clause::Buffer(self.size()?),
            "rest" if self.take_word("for") => Clause::Rest(vec![End::After(self.duration()?)]),
            "rest" if self.take_word("until") => Clause::Rest(self.ends()?),
            "rest" => Clause::Rest(Vec::new()),
            "flush" => Clause::Flush,
            "discard" => Clause::Discard,
            "health" => Clause::Health,
            "self-test" => self_test::head(self)?,
            "ask" => Clause::Ask(self.text("what the operator is told, in double quotes")?),
            "expect" => Clause::Expect(self.ends()?),
            "reads" => Clause::Reads(self.share("a share, such as `reads 70 %`")?),
            "blocks" => Clause::Blocks(self.size()?),
            "depth" => Clause::Depth(self.plain("how many operations are in flight, such as `depth 16`")?),
            "workers" => Clause::Workers(self.plain("how many workers, such as `workers 4`")?),
            "rate" => Clause::Rate(self.rate()?),
            "refine" => {
                self.word("to")?;
                Clause::Refine(self.size()?)
            }
            "bad" => {
                self.word("stretches")?;
                Clause::BadTime(self.duration()?)
            }
            "zones" => Clause::Zones(self.plain("how many zones, such as `zones 512`")?),
            "shifted" => {
                self.word("by")?;
                Clause::Shifted(self.size()?)
            }
            "incompressible" => Clause::Incompressible(self.share("a share, such as `incompressible 50 %`")?),
            "through" => {
                let _ = self.take_word("the");
                let _ = self.take_word("host");
                self.word("cache")?;
                Clause::Cached
            }
            "over" => Clause::Over(self.range()?),
            "until" => Clause::Until(self.ends()?),
            "at" => {
                self.word("most")?;
                if self.is_time() {
                    return Ok(Clause::AtMost(self.duration()?));
                }
                let start = self.at;
                self.number("a limit, such as `at most 10 min` or `at most 50 GB written`")?;
                self.at = start;
                let bytes = self.size()?;
                self.one_of(&["written", "read", "moved"])?;
                Clause::AtMostMoved(bytes)
            }
            _ => Clause::Until(vec![End::After(self.duration()?)]),
        })
    }

    fn access(&mut self) -> Read<Access> {
        Ok(match self.one_of(&["sequential", "random"])? {
            0 => Access::Sequential,
            _ => Access::Random,
        })
    }

    fn ends(&mut self) -> Read<Vec<End>> {
        let mut ends = vec![self.end()?];
        while self.take_word("or") {
            ends.push(self.end()?);
        }
        Ok(ends)
    }

    /// `600 GB written`, `10 min`, `one pass`, `temperature below 35 °C for 1 min`, `steady state in rounds of 1 min`, `a break for
    /// 30 s`, `3 errors`.
    fn end(&mut self) -> Read<End> {
        if self.at_channel() {
            let threshold = self.threshold()?;
            let hold = if self.take_word("for") { self.duration()? } else { Nanos(0) };
            return Ok(End::Seen(Seen::Channel(threshold, hold)));
        }
        if self.take_word("temperature") {
            if self.take_word("stable") {
                self.word("within")?;
                let within = self.celsius()?;
                self.word("for")?;
                return Ok(End::Seen(Seen::Stable(within, self.duration()?)));
            }
            let above = self.one_of(&["below", "above"])? == 1;
            let limit = self.celsius()?;
            let hold = self.held()?;
            return Ok(End::Seen(if above { Seen::Above(limit, hold) } else { Seen::Below(limit, hold) }));
        }
        if self.take_word("one") {
            self.word("pass")?;
            return Ok(End::Pass);
        }
        if self.take_word("steady") {
            self.word("state")?;
            if !self.take_word("in") {
                return Ok(End::Seen(Seen::Steady(ROUND)));
            }
            self.word("rounds")?;
            self.word("of")?;
            let span = self.here();
            let round = self.duration()?;
            if round.0 < 1_000_000_000 {
                return self
                    .fail(Diagnostic::new(span, format!("a round lasts at least 1 s, found {round}")));
            }
            return Ok(End::Seen(Seen::Steady(round)));
        }
        if self.take_word("a") || self.is_word(0, "break") {
            self.word("break")?;
            return Ok(End::Seen(Seen::Break(self.held()?)));
        }
        if self.is_time() {
            return Ok(End::After(self.duration()?));
        }
        let (start, span) = (self.at, self.here());
        let what = "what ends the leg: `600 GB written`, `10 min`, `one pass`, `a break`, `steady state`, `3 errors` or `temperature below 35 °C`";
        let count = self.number(what)?;
        if self.take_word("errors") || self.take_word("error") {
            let count = self.whole(span, count)?;
            return Ok(End::Seen(Seen::Errors(count.max(1))));
        }
        if self.unit.is_none() {
            self.unit(&[
                "B", "kB", "MB", "GB", "TB", "KiB", "MiB", "GiB", "TiB", "ms", "s", "min", "h", "d", "errors",
            ])?;
        }
        self.at = start;
        let bytes = self.size()?;
        self.one_of(&["written", "read", "moved"])?;
        Ok(End::Moved(bytes))
    }

    /// `for 30 s`, or nothing.
    fn held(&mut self) -> Read<Nanos> {
        if self.take_word("for") { self.duration() } else { Ok(Nanos(0)) }
    }
}
