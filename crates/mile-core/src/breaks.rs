//! Breaks, what they are attributed to, and what speaks for and against that.

use crate::units::{Bytes, Nanos, number};
use serde::{Deserialize, Serialize};

/// What a break is attributed to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The write cache is full.
    CacheExhausted,
    /// The write cache had room again, after a rest or after reads.
    CacheRecovered,
    /// The drive slows itself to stay below a temperature.
    ThermalThrottle,
    /// It has cooled and lets go.
    ThermalRelease,
    /// Others on the drive, or on the host, took their share.
    Interference,
    /// They stopped doing so.
    InterferenceEnd,
    /// The drive gave no answer for a time.
    Stall,
    /// It answers again.
    StallEnd,
    /// The other side of a copy became slower.
    OtherSide,
    /// The other side of a copy became faster.
    OtherSideEnd,
    /// So much of the drive is in use.
    FillLevel,
    /// That part of its surface is slower, or ends here.
    Surface,
    /// The course itself changed something.
    Workload,
    /// None of the others stands out.
    Unexplained,
}

impl Cause {
    /// The word in files and on the command line.
    pub fn word(self) -> &'static str {
        match self {
            Self::CacheExhausted => "cache-exhausted",
            Self::CacheRecovered => "cache-recovered",
            Self::FillLevel => "fill-level",
            Self::Surface => "surface",
            Self::Workload => "workload",
            Self::ThermalThrottle => "thermal-throttle",
            Self::ThermalRelease => "thermal-release",
            Self::Stall => "stall",
            Self::StallEnd => "stall-end",
            Self::OtherSide => "other-side",
            Self::OtherSideEnd => "other-side-end",
            Self::Interference => "interference",
            Self::InterferenceEnd => "interference-end",
            Self::Unexplained => "unexplained",
        }
    }

    /// The words in a sentence.
    pub fn words(self) -> &'static str {
        match self {
            Self::CacheExhausted => "write cache exhausted",
            Self::CacheRecovered => "write cache recovered",
            Self::FillLevel => "the fill level",
            Self::Surface => "the surface there",
            Self::Workload => "the course changed",
            Self::ThermalThrottle => "throttled by heat",
            Self::ThermalRelease => "cooled, throttling released",
            Self::Stall => "the drive gave no answer",
            Self::StallEnd => "the drive answers again",
            Self::OtherSide => "other side of copy slowed",
            Self::OtherSideEnd => "other side of copy faster again",
            Self::Interference => "others got in the way",
            Self::InterferenceEnd => "others have stopped",
            Self::Unexplained => "unexplained",
        }
    }
}

/// Something that speaks for or against a cause.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    /// Whether it speaks for the cause.
    #[serde(rename = "for")]
    pub supports: bool,
    /// The cause.
    pub cause: Cause,
    /// What was seen, in words that an engineer can check.
    pub text: String,
    /// Name of its row in the table of evidence; empty in findings of earlier versions.
    #[serde(default)]
    pub row: String,
    /// How far the row holds, 0 to 1: less than 1 where it rests on something that is not sure itself.
    #[serde(default)]
    pub value: f64,
    /// What it adds to the logarithm of the odds of its cause against an unexplained break; below 0 where it speaks against it.
    #[serde(default)]
    pub weight: f64,
}

/// A cause that was considered.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Candidate {
    /// The cause.
    pub cause: Cause,
    /// Logarithm of its odds against an unexplained break: the sum of the weights of its rows.
    pub log_odds: f64,
    /// Its share of the odds of all candidates, 0 to 1.
    pub share: f64,
}

/// The point where one plateau gives way to another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Break {
    /// Seconds since the start of the run.
    pub at_s: f64,
    /// Bytes moved since the start of the run.
    pub at_bytes: u64,
    /// Lower bound of that (95 %).
    pub low_bytes: u64,
    /// Upper bound of that (95 %).
    pub high_bytes: u64,
    /// Rate before, MB/s.
    pub from_mb_s: f64,
    /// Rate behind, MB/s.
    pub to_mb_s: f64,
    /// Attributed cause.
    pub cause: Cause,
    /// Probability that the cause is right, 0 to 1.
    pub confidence: f64,
    /// What speaks for and against.
    pub evidence: Vec<Evidence>,
    /// The causes that were considered, the likeliest first.
    #[serde(default)]
    pub candidates: Vec<Candidate>,
    /// The highest confidence that the readings allow, 0 to 1.
    #[serde(default)]
    pub at_most: f64,
    /// Another cause that shows at the same change by readings of its own, so that the two share it.
    #[serde(default)]
    pub also: Option<Cause>,
    /// Earliest time of the break, seconds since the start of the run (95 %); all of a gap of the log is between this and the latest.
    #[serde(default)]
    pub low_s: f64,
    /// Latest time.
    #[serde(default)]
    pub high_s: f64,
}

impl Break {
    /// Where, from what to what, why and how sure: `118.4 GB, 41.2 s   2,873 → 402 MB/s   write cache exhausted,
    /// 97 % confidence`.
    pub fn sentence(&self) -> String {
        format!(
            "{}, {}   {} → {} MB/s   {}",
            Bytes(self.at_bytes),
            Nanos::from_secs(self.at_s),
            number(self.from_mb_s),
            number(self.to_mb_s),
            self.verdict()
        )
    }

    /// Why, and how sure: `write cache exhausted, 97 % confidence`.
    pub fn verdict(&self) -> String {
        let shared = self.also.map_or(String::new(), |also| format!("; at the same time: {}", also.words()));
        format!("{}, {:.0} % confidence{shared}", self.cause.words(), 100.0 * self.confidence)
    }

    /// Whether `part`, which may be one of an earlier look, lies in this one: both go the same way, their intervals overlap, and both have the same
    /// cause, unless that of the part was not clear.
    pub(crate) fn covers(&self, part: &Self) -> bool {
        (self.to_mb_s < self.from_mb_s) == (part.to_mb_s < part.from_mb_s)
            && self.low_s <= part.high_s
            && part.low_s <= self.high_s
            && (self.cause == part.cause || !part.is_clear())
    }

    /// Whether its cause is clear enough to be told while a run is underway: with 80 % confidence or more. That none of the known ones fits so far is
    /// no cause: what comes later, such as a second pass over the same addresses, may show one.
    pub fn is_clear(&self) -> bool {
        self.confidence >= 0.8 && self.cause != Cause::Unexplained
    }

    /// As [`Break::sentence`], for a run underway: a cause that is not clear is not told as one.
    pub fn sentence_so_far(&self) -> String {
        let all = self.sentence();
        match all.strip_suffix(&self.verdict()) {
            Some(place) if self.cause == Cause::Unexplained => {
                format!(
                    "{place}no cause found so far, {:.0} % confidence that it is none of the known ones",
                    100.0 * self.confidence
                )
            }
            Some(place) if !self.is_clear() => {
                format!("{place}cause not clear yet, likeliest: {}", self.verdict())
            }
            _ => all,
        }
    }

    /// Where it lies, in words: between two places, or how well it is known where both would read the same.
    pub fn bounds(&self) -> String {
        let (low, high) = (Bytes(self.low_bytes).to_string(), Bytes(self.high_bytes).to_string());
        if low == high {
            return format!("known to within {}", Bytes(self.high_bytes.saturating_sub(self.low_bytes)));
        }
        format!("between {low} and {high}")
    }

    /// What speaks most for its cause: the heaviest row that is more than how often the cause occurs.
    pub fn reason(&self) -> Option<&str> {
        let own = self
            .evidence
            .iter()
            .filter(|e| e.supports && e.cause == self.cause && !e.row.ends_with(".prior"));
        own.max_by(|a, b| a.weight.total_cmp(&b.weight)).map(|e| e.text.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Context, Sample, Trace, findings};

    /// It was "between 5.02 TB and 5.02 TB".
    #[test]
    fn bounds_that_read_the_same_are_told_by_how_far_they_lie_apart() {
        let sample = |i: u64| Sample {
            start: Nanos(i * 1_000_000_000),
            end: Nanos((i + 1) * 1_000_000_000),
            written: Bytes(if i < 60 { 2_000_000_000 } else { 500_000_000 }),
            ..Sample::default()
        };
        let samples: Vec<Sample> = (0..200).map(sample).collect();
        let found = findings(&Trace::of(&samples, &["soak".into()]), &Context::default());
        let mut one = found.breaks[0].clone();
        (one.low_bytes, one.high_bytes) = (118_000_000_000, 120_000_000_000);
        assert_eq!(one.bounds(), "between 118.0 GB and 120.0 GB");
        (one.low_bytes, one.high_bytes) = (5_021_000_000_000, 5_021_012_000_000);
        assert_eq!(one.bounds(), "known to within 12.0 MB");
    }

    /// Two parts of one slide were announced; when its end was seen, one of them was withdrawn.
    #[test]
    fn a_break_covers_those_that_say_the_same_of_a_part_of_it() {
        let one = |low_s: f64, high_s: f64, to_mb_s: f64, cause: Cause, confidence: f64| Break {
            at_s: f64::midpoint(low_s, high_s),
            at_bytes: 0,
            low_bytes: 0,
            high_bytes: 0,
            from_mb_s: 1000.0,
            to_mb_s,
            cause,
            confidence,
            evidence: Vec::new(),
            candidates: Vec::new(),
            at_most: 0.98,
            also: None,
            low_s,
            high_s,
        };
        let whole = one(100.0, 300.0, 500.0, Cause::ThermalThrottle, 0.9);
        assert!(whole.covers(&one(101.0, 102.0, 900.0, Cause::ThermalThrottle, 0.9)));
        assert!(whole.covers(&one(298.0, 302.0, 900.0, Cause::ThermalThrottle, 0.9)));
        // No cause was clear.
        assert!(whole.covers(&one(200.0, 202.0, 900.0, Cause::CacheExhausted, 0.7)));
        assert!(whole.covers(&one(200.0, 202.0, 900.0, Cause::Unexplained, 0.9)));
        // It was put down to something else, goes the other way, or lies elsewhere.
        assert!(!whole.covers(&one(200.0, 202.0, 900.0, Cause::CacheExhausted, 0.9)));
        assert!(!whole.covers(&one(200.0, 202.0, 1100.0, Cause::ThermalThrottle, 0.9)));
        assert!(!whole.covers(&one(301.0, 302.0, 900.0, Cause::ThermalThrottle, 0.9)));
        assert!(!whole.covers(&one(90.0, 99.0, 900.0, Cause::ThermalThrottle, 0.9)));
    }
}
