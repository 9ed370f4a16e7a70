//! Numbers with their units. The name of a sweep may stand for any of them.

use super::reader::{Read, Reader, Value};
use crate::course::position::{Position, Range};
use crate::diagnostic::{Diagnostic, closest};
use crate::token::Kind;
use mile_core::{Bytes, Celsius, Nanos, Rate, units::size_unit};

pub(super) const TIME_UNITS: [(&str, f64); 5] =
    [("ms", 1e-3), ("s", 1.0), ("min", 60.0), ("h", 3600.0), ("d", 86_400.0)];
const SIZE_UNITS: [&str; 9] = ["B", "kB", "MB", "GB", "TB", "KiB", "MiB", "GiB", "TiB"];
/// Longest time that may be written, seconds: ten years.
const LONGEST_S: f64 = 3650.0 * 86_400.0;
/// Most values of one sweep.
const MOST_VALUES: usize = 10_000;

/// Writes a unit as it is written everywhere else.
pub(crate) fn canonical_unit(word: &str) -> Option<&'static str> {
    let all = || SIZE_UNITS.into_iter().chain(TIME_UNITS.map(|(u, _)| u));
    let celsius = ["°C", "C"].contains(&word.to_uppercase().as_str()).then_some("°C");
    all()
        .find(|u| *u == word)
        .or_else(|| all().find(|u| u.eq_ignore_ascii_case(word)))
        .or(celsius)
        .or(("IOPS".eq_ignore_ascii_case(word)).then_some("IOPS"))
}

impl Reader {
    /// The number of a quantity. Where a sweep's name stands for it, its unit is kept for the reader of the unit.
    pub(crate) fn number(&mut self, what: &str) -> Read<f64> {
        self.unit = None;
        match self.peek() {
            Some(&Kind::Number(value)) => {
                self.at += 1;
                return Ok(value);
            }
            Some(Kind::Word(word)) => {
                if let Some((_, value)) = self.sweeps.iter().rev().find(|(name, _)| name == word) {
                    let value = value.clone();
                    self.at += 1;
                    self.unit = Some(value.unit);
                    return Ok(value.number);
                }
                let names: Vec<&str> = self.sweeps.iter().map(|(n, _)| n.as_str()).collect();
                let hint = closest(word, &names).map(|n| format!("did you mean the sweep `{n}`?"));
                return self.expected(what, hint);
            }
            _ => {}
        }
        self.expected(what, None)
    }

    /// A number without a unit.
    pub(crate) fn plain(&mut self, what: &str) -> Read<f64> {
        let span = self.here();
        let value = self.number(what)?;
        match self.unit.take().filter(|u| !u.is_empty()) {
            None => Ok(value),
            Some(unit) => self
                .fail(Diagnostic::new(span, format!("a plain number is needed here, found one in {unit}"))),
        }
    }

    /// One of `units`, as written there or in another case where that is not ambiguous.
    pub(crate) fn unit<'a>(&mut self, units: &[&'a str]) -> Read<&'a str> {
        if let Some(unit) = self.unit.take() {
            if let Some(unit) = units.iter().find(|u| **u == unit) {
                return Ok(unit);
            }
            self.at -= 1;
            let span = self.here();
            self.at += 1;
            return self.fail(Diagnostic::new(
                span,
                format!(
                    "this stands for {}; a unit of {} is needed here",
                    if unit.is_empty() { "a plain number".to_owned() } else { format!("a number in {unit}") },
                    units.join(", ")
                ),
            ));
        }
        if let Some(Kind::Word(word)) = self.peek() {
            let exact = units.iter().find(|u| **u == word.as_str());
            if let Some(unit) = exact.or_else(|| units.iter().find(|u| u.eq_ignore_ascii_case(word))) {
                self.at += 1;
                return Ok(unit);
            }
            // Whoever gives bytes where a time stands means the other way to end a leg.
            let amount = units.contains(&"min") && mile_core::units::size_unit(word).is_some();
            let hint = if amount {
                Some("a leg that ends after an amount says `until 2 GB written`, or `until 2 GB read`, without `for`".to_owned())
            } else {
                closest(word, units).map(|u| format!("did you mean `{u}`?"))
            };
            return self.expected(&format!("a unit ({})", units.join(", ")), hint);
        }
        self.expected(&format!("a unit ({})", units.join(", ")), None)
    }

    fn take_percent(&mut self) -> bool {
        let standing = self.unit.take_if(|u| *u == "%").is_some();
        let written = self.unit.is_none() && !standing && matches!(self.peek(), Some(Kind::Percent));
        self.at += usize::from(written);
        standing || written
    }

    /// `70 %`, as a share from 0 to 1.
    pub(crate) fn share(&mut self, what: &str) -> Read<f64> {
        let span = self.here();
        let value = self.number(what)?;
        if !self.take_percent() {
            return self.expected("`%`", None);
        }
        if !(0.0..=100.0).contains(&value) {
            return self.fail(Diagnostic::new(span, format!("a share is at most 100 %, found {value} %")));
        }
        Ok(value / 100.0)
    }

    pub(crate) fn duration(&mut self) -> Read<Nanos> {
        let span = self.here();
        let value = self.number("a time, such as `250 ms` or `10 min`")?;
        let unit = self.unit(&TIME_UNITS.map(|(u, _)| u))?;
        let factor = TIME_UNITS.iter().find(|(u, _)| *u == unit).map_or(1.0, |(_, f)| *f);
        if value * factor > LONGEST_S {
            return self.fail(Diagnostic::new(span, "a time is at most 3650 d, which is ten years"));
        }
        Ok(Nanos::from_secs(value * factor))
    }

    pub(crate) fn size(&mut self) -> Read<Bytes> {
        let value = self.number("a size, such as `1 MiB` or `600 GB`")?;
        let unit = self.unit(&SIZE_UNITS)?;
        Ok(Bytes((value * size_unit(unit).unwrap_or(1) as f64).round() as u64))
    }

    /// Whether the quantity here is a share in percent; nothing is read.
    pub(crate) fn at_share(&self) -> bool {
        match (self.peek(), self.tokens.get(self.at + 1).map(|t| &t.kind)) {
            (Some(Kind::Number(_)), next) => matches!(next, Some(Kind::Percent)),
            (Some(Kind::Word(name)), next) => {
                let swept = self.sweeps.iter().rev().find(|(n, _)| n == name);
                swept.is_some_and(|(_, v)| v.unit == "%" || matches!(next, Some(Kind::Percent)))
            }
            _ => false,
        }
    }

    /// Whether the quantity here is a time: its unit is looked at, and nothing is read.
    pub(crate) fn is_time(&self) -> bool {
        let unit = |word: &str| TIME_UNITS.iter().any(|(u, _)| u.eq_ignore_ascii_case(word));
        match (self.peek(), self.tokens.get(self.at + 1).map(|t| &t.kind)) {
            (Some(Kind::Number(_)), Some(Kind::Word(word))) => unit(word),
            (Some(Kind::Word(name)), _) => {
                self.sweeps.iter().rev().find(|(n, _)| n == name).is_some_and(|(_, v)| unit(&v.unit))
            }
            _ => false,
        }
    }

    /// `300 MB/s`.
    pub(crate) fn rate(&mut self) -> Read<Rate> {
        let span = self.here();
        let start = self.at;
        let value = self.number("a rate, such as `300 MB/s`")?;
        let bytes = if let Some(unit) = self.unit.take_if(|u| u.ends_with("/s")) {
            value * size_unit(unit.trim_end_matches("/s")).unwrap_or(1) as f64
        } else {
            self.at = start;
            let bytes = self.size()?;
            self.per_second()?;
            bytes.0 as f64
        };
        if bytes == 0.0 {
            return self.fail(Diagnostic::new(span, "a rate of 0 never moves anything"));
        }
        Ok(Rate(bytes))
    }

    fn per_second(&mut self) -> Read<()> {
        if !matches!(self.peek(), Some(Kind::Stray('/'))) {
            return self.expected("`/s`", Some("a rate is a size in a second, such as `300 MB/s`".into()));
        }
        self.at += 1;
        self.word("s")
    }

    pub(crate) fn celsius(&mut self) -> Read<Celsius> {
        let value = self.number("a temperature, such as `80 °C`")?;
        let standing = self.unit.take_if(|u| *u == "°C").is_some();
        if !standing && !["°C", "C"].into_iter().any(|u| self.take_word(u)) {
            return self.expected(
                "`°C`",
                Some("temperatures are in °C; `C` will do where ° is hard to type".into()),
            );
        }
        Ok(Celsius(value))
    }

    /// `0 % to 50 %`, `25 % from the end`, `0 GB to 100 GB`.
    pub(crate) fn range(&mut self) -> Read<Range> {
        let span = self.here();
        let from = self.position()?;
        let (from, to) = if self.take_word("from") {
            self.word("the")?;
            match (self.one_of(&["front", "end"])?, from) {
                (0, to) => (Position::Share(0.0), to),
                (_, Position::Share(share)) => (Position::Share(1.0 - share), Position::Share(1.0)),
                (_, Position::At(bytes) | Position::BeforeEnd(bytes)) => {
                    (Position::BeforeEnd(bytes), Position::Share(1.0))
                }
            }
        } else {
            self.word("to")?;
            (from, self.position()?)
        };
        let wrong = match (from, to) {
            (Position::Share(a), Position::Share(b)) => a >= b,
            (Position::At(a), Position::At(b)) => a >= b,
            (Position::Share(a), _) => a >= 1.0,
            (Position::BeforeEnd(bytes), _) => bytes.0 == 0,
            (_, Position::Share(b)) => b <= 0.0,
            _ => false,
        };
        if wrong {
            return self.fail(
                Diagnostic::new(span, "this range is empty, or ends behind the end of the drive").hint(
                    "a range goes from the front towards the end: `over 0 % to 50 %`, `over 0 GB to 100 GB`, `over 25 % from the end`",
                ),
            );
        }
        Ok((from, to))
    }

    pub(crate) fn position(&mut self) -> Read<Position> {
        let start = self.at;
        let span = self.here();
        let value = self.number("a share or an address, such as `50 %` or `100 GB`")?;
        if self.take_percent() {
            if value > 100.0 {
                return self
                    .fail(Diagnostic::new(span, format!("a share is at most 100 %, found {value} %")));
            }
            return Ok(Position::Share(value / 100.0));
        }
        self.at = start;
        Ok(Position::At(self.size()?))
    }

    /// A number with whatever unit it has.
    fn value(&mut self) -> Read<Value> {
        let number = self.number("a value, such as `25 %`, `4 KiB` or `16`")?;
        if let Some(unit) = self.unit.take() {
            return Ok(Value { number, unit });
        }
        let unit = match self.peek() {
            Some(Kind::Percent) => {
                self.at += 1;
                "%".to_owned()
            }
            Some(Kind::Word(word)) => match canonical_unit(word) {
                Some(unit) => {
                    self.at += 1;
                    if matches!(self.peek(), Some(Kind::Stray('/'))) && SIZE_UNITS.contains(&unit) {
                        self.per_second()?;
                        format!("{unit}/s")
                    } else {
                        unit.to_owned()
                    }
                }
                None => String::new(),
            },
            _ => String::new(),
        };
        Ok(Value { number, unit })
    }

    /// The values of a sweep: `0 %, 25 %, 50 %`, `1 to 64 times 2`, `0 % to 90 % by 10 %`.
    pub(crate) fn values(&mut self) -> Read<Vec<Value>> {
        let span = self.here();
        let first = self.value()?;
        if !self.take_word("to") {
            let mut values = vec![first];
            while matches!(self.peek(), Some(Kind::Comma)) {
                self.at += 1;
                values.push(self.value()?);
            }
            if !matches!(self.peek(), None | Some(Kind::LineEnd)) && !self.is_word(0, "in") {
                return self.expected("a comma, `to`, `in random order` or the end of the line", None);
            }
            return Ok(values);
        }
        let last = self.value()?;
        let factor = self.one_of(&["by", "times"])? == 1;
        let step = if factor {
            Value { number: self.plain("a factor, such as `1 to 64 times 2`")?, unit: first.unit.clone() }
        } else {
            self.value()?
        };
        let values = unfold(&first, &last, &step, factor);
        match values {
            Ok(values) => Ok(values),
            Err(why) => {
                self.fail(Diagnostic::new(span, why).hint(
                    "write `1 to 64 times 2`, `0 % to 90 % by 10 %`, or all values with commas between",
                ))
            }
        }
    }
}

/// How many of a size's or time's unit the base unit holds.
fn scale(unit: &str) -> f64 {
    let time = TIME_UNITS.iter().find(|(u, _)| *u == unit).map(|(_, f)| *f);
    time.or_else(|| size_unit(unit.trim_end_matches("/s")).map(|s| s as f64)).unwrap_or(1.0)
}

fn unfold(first: &Value, last: &Value, step: &Value, factor: bool) -> Result<Vec<Value>, &'static str> {
    let kind = |v: &Value| {
        let time = TIME_UNITS.iter().any(|(u, _)| *u == v.unit);
        (
            time,
            v.unit.ends_with("/s"),
            size_unit(v.unit.trim_end_matches("/s")).is_some(),
            v.unit == "%",
            v.unit == "°C",
        )
    };
    if kind(first) != kind(last) || kind(first) != kind(step) {
        return Err("the values of a range are of one kind");
    }
    let (from, to) = (first.number * scale(&first.unit), last.number * scale(&last.unit));
    let by = if factor { step.number } else { step.number * scale(&step.unit) };
    if (factor && (by <= 1.0 || from <= 0.0)) || (!factor && by <= 0.0) || from > to {
        return Err("this range goes nowhere: it ascends, by more than nothing");
    }
    let mut values = Vec::new();
    let mut now = from;
    while now <= to * (1.0 + 1e-9) {
        if values.len() == MOST_VALUES {
            return Err("these are more than 10,000 values");
        }
        values.push(in_largest_unit(now, &first.unit));
        now = if factor { now * by } else { from + by * values.len() as f64 };
    }
    Ok(values)
}

/// A value in the largest unit of its family in which it is a whole number, or in its own.
fn in_largest_unit(base: f64, unit: &str) -> Value {
    let families: [&[&str]; 3] =
        [&["KiB", "MiB", "GiB", "TiB"], &["kB", "MB", "GB", "TB"], &["s", "min", "h", "d"]];
    let family = families.iter().find(|f| f.contains(&unit));
    let fits = |u: &&&str| (base / scale(u)).fract().abs() < 1e-9 && base >= scale(u);
    let unit = family.and_then(|f| f.iter().rev().find(fits)).copied().unwrap_or(unit);
    Value { number: base / scale(unit), unit: unit.to_owned() }
}
