//! Traces whose truth is known, and how well the analysis finds it.
//!
//! [`case()`] makes a trace from a pattern and a seed: a small world of its own ([`world`]), in which a rate follows from a cache,
//! heat, fill level, surface and others on the drive, with laws that vary from seed to seed. Nothing here knows how the analysis
//! works, and nothing in the analysis knows this. [`score()`] holds the findings against the truth.

pub mod bench;
pub mod degrade;
pub mod fit;
pub mod live;
pub mod noise;
pub mod patterns;
pub mod report;
pub mod score;
pub mod surfaces;
pub mod tape;
pub mod world;

pub use patterns::{PATTERNS, case};
pub use score::{Score, pairs, score};

use mile_core::findings::Cause;
use mile_core::{Context, Sample, Trace};

/// A trace and what really happened.
#[derive(Clone, Debug)]
pub struct Case {
    /// Which pattern it was made from.
    pub pattern: &'static str,
    /// With which seed.
    pub seed: u64,
    /// The trace.
    pub samples: Vec<Sample>,
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
        Trace::of(&self.samples, &self.names)
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
    /// A pattern that repeats itself: from, to, and its period, seconds.
    pub cycles: Option<(f64, f64, f64)>,
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
