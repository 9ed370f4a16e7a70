//! The clauses of a leg, and the quantities in them.

use super::{Parser, Read, op_of};
use crate::course::{Access, End, Position};
use crate::diagnostic::{Diagnostic, closest};
use crate::token::Kind;
use mile_core::{Bytes, Celsius, Nanos, Op, Rate, units::size_unit};

/// One clause of a leg.
pub(crate) enum Clause {
    Rest(Vec<End>),
    Transfer(Op, Access),
    Verify,
    Flush,
    Discard,
    Reads(f64),
    Workers(f64),
    Rate(Rate),
    Blocks(Bytes),
    Depth(f64),
    Over(Position, Position),
    Until(Vec<End>),
    AtMost(Nanos),
    /// Reported already.
    Unread,
}

const TIME_UNITS: [(&str, f64); 5] =
    [("ms", 1e-3), ("s", 1.0), ("min", 60.0), ("h", 3600.0), ("d", 86_400.0)];
const SIZE_UNITS: [&str; 9] = ["B", "kB", "MB", "GB", "TB", "KiB", "MiB", "GiB", "TiB"];

impl Parser {
    pub(crate) fn clause(&mut self) -> Read<Clause> {
        let words = [
            "write", "read", "rest", "blocks", "depth", "over", "until", "at", "for", "mixed", "verify",
            "flush", "discard", "reads", "workers", "rate",
        ];
        let index = self.one_of(&words)?;
        Ok(match index {
            0 | 1 | 9 => {
                let access = match self.one_of(&["sequential", "random"])? {
                    0 => Access::Sequential,
                    _ => Access::Random,
                };
                Clause::Transfer(op_of(words[index]), access)
            }
            10 => Clause::Verify,
            11 => Clause::Flush,
            12 => Clause::Discard,
            13 => {
                let span = self.here();
                let share = self.number("a share, such as `reads 70 %`")?;
                if !matches!(self.peek(), Some(Kind::Percent)) {
                    return self.expected("`%`", None);
                }
                self.at += 1;
                if !(0.0..=100.0).contains(&share) {
                    return self
                        .fail(Diagnostic::new(span, format!("a share is at most 100 %, found {share} %")));
                }
                Clause::Reads(share / 100.0)
            }
            14 => Clause::Workers(self.number("how many workers, such as `workers 4`")?),
            15 => Clause::Rate(self.rate()?),
            2 if self.take_word("for") => Clause::Rest(vec![End::After(self.duration()?)]),
            2 if self.take_word("until") => Clause::Rest(self.ends()?),
            2 => Clause::Rest(Vec::new()),
            3 => Clause::Blocks(self.size()?),
            4 => Clause::Depth(self.number("how many operations are in flight, such as `depth 16`")?),
            5 => {
                let from = self.position()?;
                self.word("to")?;
                Clause::Over(from, self.position()?)
            }
            6 => Clause::Until(self.ends()?),
            7 => {
                self.word("most")?;
                Clause::AtMost(self.duration()?)
            }
            _ => Clause::Until(vec![End::After(self.duration()?)]),
        })
    }

    fn ends(&mut self) -> Read<Vec<End>> {
        let mut ends = vec![self.end()?];
        while self.take_word("or") {
            ends.push(self.end()?);
        }
        Ok(ends)
    }

    /// `600 GB written`, `10 min`, `one pass`, `temperature below 35 °C`.
    fn end(&mut self) -> Read<End> {
        if self.take_word("temperature") {
            self.word("below")?;
            return Ok(End::TemperatureBelow(self.celsius()?));
        }
        if self.take_word("one") {
            self.word("pass")?;
            return Ok(End::Pass);
        }
        let start = self.at;
        let what = "what ends the leg: `600 GB written`, `10 min`, `one pass` or `temperature below 35 °C`";
        self.number(what)?;
        let unit = self
            .unit(&["B", "kB", "MB", "GB", "TB", "KiB", "MiB", "GiB", "TiB", "ms", "s", "min", "h", "d"])?;
        if TIME_UNITS.iter().any(|(u, _)| *u == unit) {
            self.at = start;
            return Ok(End::After(self.duration()?));
        }
        self.at = start;
        let bytes = self.size()?;
        self.one_of(&["written", "read", "moved"])?;
        Ok(End::Moved(bytes))
    }

    fn position(&mut self) -> Read<Position> {
        let start = self.at;
        let span = self.here();
        let value = self.number("a share or an address, such as `50 %` or `100 GB`")?;
        if matches!(self.peek(), Some(Kind::Percent)) {
            self.at += 1;
            if value > 100.0 {
                return self
                    .fail(Diagnostic::new(span, format!("a share is at most 100 %, found {value} %")));
            }
            return Ok(Position::Share(value / 100.0));
        }
        self.at = start;
        Ok(Position::At(self.size()?))
    }

    pub(crate) fn number(&mut self, what: &str) -> Read<f64> {
        if let Some(&Kind::Number(value)) = self.peek() {
            self.at += 1;
            return Ok(value);
        }
        self.expected(what, None)
    }

    /// One of `units`, as written there or in another case where that is not ambiguous.
    fn unit<'a>(&mut self, units: &[&'a str]) -> Read<&'a str> {
        if let Some(Kind::Word(word)) = self.peek() {
            let exact = units.iter().find(|u| **u == word.as_str());
            if let Some(unit) = exact.or_else(|| units.iter().find(|u| u.eq_ignore_ascii_case(word))) {
                self.at += 1;
                return Ok(unit);
            }
            let hint = closest(word, units).map(|u| format!("did you mean `{u}`?"));
            return self.expected(&format!("a unit ({})", units.join(", ")), hint);
        }
        self.expected(&format!("a unit ({})", units.join(", ")), None)
    }

    pub(crate) fn duration(&mut self) -> Read<Nanos> {
        let value = self.number("a time, such as `250 ms` or `10 min`")?;
        let unit = self.unit(&TIME_UNITS.map(|(u, _)| u))?;
        let factor = TIME_UNITS.iter().find(|(u, _)| *u == unit).map_or(1.0, |(_, f)| *f);
        Ok(Nanos::from_secs(value * factor))
    }

    fn size(&mut self) -> Read<Bytes> {
        let value = self.number("a size, such as `1 MiB` or `600 GB`")?;
        let unit = self.unit(&SIZE_UNITS)?;
        Ok(Bytes((value * size_unit(unit).unwrap_or(1) as f64).round() as u64))
    }

    /// `300 MB/s`.
    fn rate(&mut self) -> Read<Rate> {
        let span = self.here();
        let bytes = self.size()?;
        if !matches!(self.peek(), Some(Kind::Stray('/'))) {
            return self.expected("`/s`", Some("a rate is a size in a second, such as `300 MB/s`".into()));
        }
        self.at += 1;
        self.word("s")?;
        if bytes.0 == 0 {
            return self.fail(Diagnostic::new(span, "a rate of 0 never moves anything"));
        }
        Ok(Rate(bytes.0 as f64))
    }

    pub(crate) fn celsius(&mut self) -> Read<Celsius> {
        let value = self.number("a temperature, such as `80 °C`")?;
        let unit = ["°C", "C"].into_iter().any(|u| self.take_word(u));
        if !unit {
            return self.expected(
                "`°C`",
                Some("temperatures are in °C; `C` will do where ° is hard to type".into()),
            );
        }
        Ok(Celsius(value))
    }
}
