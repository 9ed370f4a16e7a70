//! What belongs to the whole course: sampling, guards, claims, situation, demands.

use super::named::GUARDED;
use super::reader::{Read, Reader};
use crate::course::lane::Lane;
use crate::course::{Course, Guard, Then, When};
use crate::diagnostic::Diagnostic;
use crate::token::Kind;
use mile_core::claims::conditions::{ClaimedFigure, StatedClaim};
use mile_core::health::Counter;
use mile_core::units::size_unit;
use mile_core::{Bytes, Demand, Nanos, Op, Rate};

/// The words that begin a setting.
pub(super) const WORDS: [&str; 9] =
    ["sample", "stop", "health", "rest", "claim", "situation", "demand", "lane", "lanes"];

/// What may be claimed; the last two begin a claim with conditions.
const CLAIMED: [&str; 7] = ["write", "read", "endurance", "temperature", "power", "sequential", "random"];
/// A claim of a temperature or a power under any load.
const ANY: StatedClaim = StatedClaim {
    figure: ClaimedFigure::Temperature,
    value: 0.0,
    op: None,
    random: None,
    block: None,
    depth: None,
    workers: None,
};

/// Most lanes of a course.
const MOST_LANES: usize = 16;

impl Reader {
    pub(super) fn setting(&mut self, course: &mut Course, has_legs: bool) -> Read<()> {
        let mut words = vec!["leg"];
        words.extend(WORDS);
        match words[self.one_of_many("a setting or a leg", &words, true)?] {
            "sample" => {
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
            "health" => {
                self.word("every")?;
                let span = self.here();
                course.health_every = self.duration()?;
                if course.health_every.0 < 10_000_000_000 {
                    let found =
                        format!("health is read every 10 s at the most often, found {}", course.health_every);
                    return self.fail(
                        Diagnostic::new(span, found).hint("reading it may hold up a drive for a moment"),
                    );
                }
            }
            "stop" => {
                self.word("if")?;
                let when = self.when()?;
                course.guards.push(Guard { when, then: Then::Stop });
            }
            "rest" => self.resting_guard(course)?,
            "claim" => match self.one_of(&CLAIMED)? {
                0 => course.claims.write = Some(self.rate()?),
                1 => course.claims.read = Some(self.rate()?),
                2 => course.claims.endurance = Some(self.size()?),
                3 => {
                    let value = self.celsius()?.0;
                    let claim = StatedClaim { value, ..ANY };
                    course.stated.push(claim);
                }
                4 => {
                    let value = self.watts()?;
                    course.stated.push(StatedClaim { figure: ClaimedFigure::Power, value, ..ANY });
                }
                access => {
                    let claim = self.stated(access == 6)?;
                    course.stated.push(claim);
                }
            },
            "situation" => {
                let names = ["slot", "cooling", "enclosure", "note", "ambient"];
                let name = names[self.one_of(&names)?];
                if name == "ambient" {
                    course.ambient = Some(self.celsius()?);
                } else {
                    let text = self.text("what it is, in double quotes, such as `cooling \"finned\"`")?;
                    course.situation.push((name.to_owned(), text));
                }
            }
            "demand" => {
                let demand = self.demand()?;
                course.demands.push(demand);
            }
            "lane" => self.lane(has_legs)?,
            "lanes" => {
                self.word("end")?;
                course.apart = self.one_of(&["together", "apart"])? == 1;
            }
            _ => {}
        }
        Ok(())
    }

    /// What follows `claim random`: `read 900000 IOPS, blocks 4 KiB, depth 32`.
    fn stated(&mut self, random: bool) -> Read<StatedClaim> {
        let op = if self.one_of(&["read", "write"])? == 0 { Op::Read } else { Op::Write };
        let mut claim = StatedClaim { op: Some(op), random: Some(random), ..ANY };
        if self.take_word("p50") {
            (claim.figure, claim.value) = (ClaimedFigure::P50, self.duration()?.0 as f64 / 1e3);
        } else if self.take_word("p99") {
            (claim.figure, claim.value) = (ClaimedFigure::P99, self.duration()?.0 as f64 / 1e3);
        } else if self.take_word("power") {
            (claim.figure, claim.value) = (ClaimedFigure::Power, self.watts()?);
        } else {
            let start = self.at;
            let value =
                self.number("what is claimed: `900000 IOPS`, `5000 MB/s`, `p99 0.2 ms` or `power 8 W`")?;
            if self.unit.is_none() && self.take_word("IOPS") {
                (claim.figure, claim.value) = (ClaimedFigure::Operations, value);
            } else {
                self.at = start;
                self.unit = None;
                (claim.figure, claim.value) = (ClaimedFigure::Rate, self.rate()?.mb_s());
            }
        }
        if claim.value <= 0.0 {
            return self.fail(Diagnostic::new(self.here(), "a claim of 0 says nothing"));
        }
        while matches!(self.peek(), Some(Kind::Comma)) {
            self.at += 1;
            let span = self.here();
            let wrong = |what: &str| Diagnostic::new(span, format!("a claim states its {what} once"));
            match self.one_of(&["blocks", "depth", "workers"])? {
                0 if claim.block.is_none() => claim.block = Some(self.size()?.0),
                1 if claim.depth.is_none() => claim.depth = Some(self.counted("depth")?),
                2 if claim.workers.is_none() => claim.workers = Some(self.counted("workers")?),
                0 => return self.fail(wrong("blocks")),
                1 => return self.fail(wrong("depth")),
                _ => return self.fail(wrong("workers")),
            }
        }
        Ok(claim)
    }

    /// A power, `8.5 W`.
    fn watts(&mut self) -> Read<f64> {
        let span = self.here();
        let value = self.number("a power, such as `8.5 W`")?;
        if !self.take_word("W") {
            return self.expected("its unit, `W`", None);
        }
        if value <= 0.0 {
            return self.fail(Diagnostic::new(span, "a claim of 0 says nothing"));
        }
        Ok(value)
    }

    /// A whole number from 1 to 65,536.
    fn counted(&mut self, what: &str) -> Read<u32> {
        let span = self.here();
        let value = self.plain(&format!("how many, such as `{what} 4`"))?;
        if value.fract() != 0.0 || !(1.0..=65_536.0).contains(&value) {
            return self.fail(Diagnostic::new(span, format!("{what} is a whole number from 1 to 65536")));
        }
        Ok(value as u32)
    }

    /// `lane upper`, `lane spare watched`
    fn lane(&mut self, has_legs: bool) -> Read<()> {
        let span = self.here();
        let name = self.name("a name for the lane, such as `lane upper`")?;
        let watched = self.take_word("watched");
        let wrong = if self.lanes.iter().any(|l| l.name == name) {
            Some(format!("there is a lane `{name}` already"))
        } else if self.lanes.len() >= MOST_LANES {
            Some(format!("a course has at most {MOST_LANES} lanes"))
        } else if has_legs {
            Some("a lane is named before the first leg".to_owned())
        } else if name.contains('=') || name.eq_ignore_ascii_case("and") {
            Some("this cannot be the name of a lane".to_owned())
        } else {
            None
        };
        if let Some(wrong) = wrong {
            return self.fail(Diagnostic::new(span, wrong));
        }
        self.lanes.push(Lane { name, watched });
        Ok(())
    }

    /// `rest if temperature above 80 °C until below 60 °C at most 30 min`
    fn resting_guard(&mut self, course: &mut Course) -> Read<()> {
        self.word("if")?;
        let span = self.here();
        let when = self.when()?;
        if !matches!(when, When::TemperatureAbove(_) | When::CriticalWarning) {
            return self.fail(
                Diagnostic::new(span, "a rest helps against heat and warnings only")
                    .hint("for this, write `stop if`"),
            );
        }
        self.word("until")?;
        // `until temperature below 60 °C` says the same.
        let _ = self.take_word("temperature");
        self.word("below")?;
        let below_at = self.here();
        let below = self.celsius()?;
        if let When::TemperatureAbove(limit) = when
            && below >= limit
        {
            return self.fail(Diagnostic::new(
                below_at,
                format!("the rest ends at {below}, which is not below the {limit} at which it begins"),
            ));
        }
        let mut longest = Nanos(3_600_000_000_000);
        if self.take_word("at") {
            self.word("most")?;
            longest = self.duration()?;
        }
        course.guards.push(Guard { when, then: Then::Rest(below, longest) });
        Ok(())
    }

    fn when(&mut self) -> Read<When> {
        if self.at_channel() {
            let span = self.here();
            let threshold = self.threshold()?;
            let Some(counter) = Counter::named(&threshold.channel) else {
                return Ok(When::Channel(threshold));
            };
            let fits = match threshold.unit.as_str() {
                "" => !counter.is_bytes(),
                "%" => matches!(counter, Counter::UsedPct | Counter::SparePct | Counter::SpareThresholdPct),
                unit => counter.is_bytes() && size_unit(unit).is_some(),
            };
            if !fits {
                let hint = if counter.is_bytes() {
                    "give it a size, such as `10 TB`"
                } else {
                    "give it a plain number"
                };
                let diagnostic =
                    Diagnostic::new(span, format!("{} are not counted in this unit", counter.words()));
                return self.fail(diagnostic.hint(hint));
            }
            return Ok(When::Counter(counter, threshold));
        }
        let what =
            "`temperature` or another thing that a run watches, or a channel, `above` or `below` a value";
        let index = self.one_of_many(what, &GUARDED, true)?;
        if index == 3 {
            self.word("warning")?;
            return Ok(When::CriticalWarning);
        }
        self.word("above")?;
        let span = self.here();
        Ok(match index {
            0 => When::TemperatureAbove(self.celsius()?),
            1 => {
                let count = self.plain("how many errors are too many, such as `stop if errors above 10`")?;
                When::ErrorsAbove(self.whole(span, count)?)
            }
            2 => {
                let time = self.duration()?;
                if !(100_000_000..=3_600_000_000_000).contains(&time.0) {
                    return self
                        .fail(Diagnostic::new(span, format!("the limit is 100 ms to 1 h, found {time}")));
                }
                When::OperationAbove(time)
            }
            4 => When::WrittenAbove(self.size()?),
            5 => When::TimeAbove(self.duration()?),
            _ => {
                let rate = self.rate()?;
                let hold = if self.take_word("for") { self.duration()? } else { Nanos(10_000_000_000) };
                When::OthersAbove(rate, hold)
            }
        })
    }

    /// `demand recorder 147.5 MB/s, buffer 4 GB`, `demand recorder 96 channels x 512 kHz x 3 B, buffer 4 GB, until 90 % full`
    pub(super) fn demand(&mut self) -> Read<Demand> {
        let name = self.name("a name for the demand, such as `demand recorder 150 MB/s`")?;
        let rate = self.stream()?;
        let mut demand = Demand { name, rate: vec![(0.0, rate)], buffer: Bytes(0), until_fill: None };
        while matches!(self.peek(), Some(Kind::Comma)) {
            self.at += 1;
            match self.one_of(&["buffer", "until"])? {
                0 => demand.buffer = self.size()?,
                _ => {
                    demand.until_fill = Some(self.share("a fill level, such as `until 90 % full`")?);
                    self.word("full")?;
                }
            }
        }
        Ok(demand)
    }

    /// `147.5 MB/s`, or `96 channels x 512 kHz x 3 B`.
    fn stream(&mut self) -> Read<Rate> {
        let channels = matches!(self.tokens.get(self.at + 1).map(|t| &t.kind), Some(Kind::Word(w)) if w.to_ascii_lowercase().starts_with("channel"));
        if !channels {
            return self.rate();
        }
        let span = self.here();
        let channels = self.number("how many channels")?;
        self.at += 1;
        self.word("x")?;
        let samples = self.number("samples a second, such as `512 kHz`")?;
        let factor = [1.0, 1e3, 1e6][self.one_of(&["Hz", "kHz", "MHz"])?];
        self.word("x")?;
        let bytes = self.size()?;
        let rate = channels * samples * factor * bytes.0 as f64;
        if rate <= 0.0 {
            return self.fail(Diagnostic::new(span, "a rate of 0 never moves anything"));
        }
        Ok(Rate(rate))
    }
}
