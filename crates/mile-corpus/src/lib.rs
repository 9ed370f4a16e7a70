//! Traces whose truth is known, and how well the analysis finds it.
//!
//! [`case()`] makes a trace from a pattern and a seed: a small world of its own ([`world`]), in which a rate follows from a cache,
//! heat, fill level, surface and others on the drive, with laws that vary from seed to seed; or from a class of a second set, by other
//! laws ([`tape`]). Nothing here knows how the analysis works, and nothing in the analysis knows this. [`score()`] holds the findings against the truth.

pub mod bench;
pub mod degrade;
pub mod earlier;
pub mod fit;
pub mod live;
pub mod noise;
pub mod patterns;
pub mod planted;
pub mod report;
pub mod score;
pub mod surfaces;
pub mod tape;
pub mod world;

pub use patterns::PATTERNS;
pub use score::{Score, pairs, score};

use mile_core::channel::{Reading, Tells};
use mile_core::findings::Cause;
use mile_core::{Context, Nanos, Rate, Sample, Trace};
use rand::{Rng, RngExt};

/// Falls of writes without a cause that a log shows. Of those that nothing repeats, about a quarter is argued to have none, so that there are twice as
/// many traces of these.
pub const RIDDLES: [&str; 2] = ["riddle-write", "tape: no reason for a write"];

/// All patterns of both sets.
pub fn names() -> impl Iterator<Item = &'static str> {
    PATTERNS.into_iter().chain(tape::CLASSES)
}

/// Makes the trace of a pattern of either set from a seed. The same again for the same two.
pub fn case(pattern: &'static str, seed: u64) -> Case {
    let mut case = if tape::CLASSES.contains(&pattern) {
        tape::classes::case(pattern, seed)
    } else {
        patterns::case(pattern, seed)
    };
    case.context.earlier = earlier::earlier(&case);
    case
}

/// What the link of a drive carries, where that is known: a little more than the drive moves where the link holds it back, and else up to four times as much.
/// `rate` is the most that the drive moves, MB/s.
fn link(rng: &mut impl Rng, rate: f64, holds: bool) -> Option<Rate> {
    let is_known = holds || rng.random_bool(0.5);
    let by = if holds || rng.random_bool(0.3) {
        1.0 / rng.random_range(0.86..0.96)
    } else {
        rng.random_range(1.1_f64.ln()..4_f64.ln()).exp()
    };
    is_known.then_some(Rate(rate * 1e6 * by))
}

/// Times, in seconds, and values as readings.
fn readings(of: &[(f64, f64)]) -> Vec<Reading> {
    of.iter().map(|(at, value)| Reading { at: Nanos::from_secs(*at), value: *value }).collect()
}

/// A trace and what really happened.
#[derive(Clone, Debug)]
pub struct Case {
    /// Which pattern it was made from.
    pub pattern: &'static str,
    /// With which seed.
    pub seed: u64,
    /// The trace.
    pub samples: Vec<Sample>,
    /// The power of the drive, W, where it was read.
    pub power: Vec<Reading>,
    /// Names of its legs.
    pub names: Vec<String>,
    /// What is given beside the trace.
    pub context: Context,
    /// What happened.
    pub truth: Truth,
}

impl Case {
    /// The samples in columns.
    pub fn trace(&self) -> Trace {
        let mut trace = Trace::of(&self.samples, &self.names);
        self.power.iter().for_each(|r| trace.push_reading(Tells::Power, *r));
        trace
    }

    /// The best answer for a change that had this cause. Where nothing of others was logged, nobody can name them; and a slow place over which one pass went
    /// cannot be told from a moment.
    pub fn answer(&self, cause: Cause) -> Cause {
        let is_others = matches!(cause, Cause::Interference | Cause::InterferenceEnd);
        let cannot_be_told =
            is_others && !self.sees_others() || cause == Cause::Surface && self.truth.seen_once;
        if cannot_be_told { Cause::Unexplained } else { cause }
    }

    /// Whether anything of others was logged, on the drive or on the host.
    pub fn sees_others(&self) -> bool {
        self.samples.iter().any(|s| s.foreign.is_some() || s.host.steal.is_some())
    }

    /// Length in hours.
    pub fn hours(&self) -> f64 {
        self.samples.last().map_or(0.0, |s| s.end.secs() / 3600.0)
    }
}

/// What really happened.
#[derive(Clone, Debug, Default)]
pub struct Truth {
    /// The breaks, in the order of time.
    pub breaks: Vec<TrueBreak>,
    /// A pattern that repeats itself.
    pub cycles: Option<TrueCycle>,
    /// Whether its slow places were gone over once.
    pub seen_once: bool,
}

/// A pattern as it really was.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TrueCycle {
    /// Where it began, seconds.
    pub start_s: f64,
    /// Where it ended.
    pub end_s: f64,
    /// Its period, seconds.
    pub period_s: f64,
    /// Why it is slow again and again.
    pub cause: Cause,
}

/// A break as it really was.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TrueBreak {
    /// Where it began, seconds.
    pub start_s: f64,
    /// Where it ended; the same for a sharp one.
    pub end_s: f64,
    /// Bytes moved where it began.
    pub start_bytes: f64,
    /// Bytes moved where it ended.
    pub end_bytes: f64,
    /// Why.
    pub cause: Cause,
}
