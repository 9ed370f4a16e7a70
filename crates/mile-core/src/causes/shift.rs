//! What became of the latencies where the rate changed.
//!
//! As many operations are underway before a change as behind it, so that their mean latency goes with the inverse of the rate (J. D. C. Little, "A proof for
//! the queuing formula L = λW", Operations Research 9, 1961), whatever the cause. Which operations are slower is another matter: all of them alike, as
//! behind a narrower link or a slower clock; all, but some far more than others, as where a drive makes room for what is written; or only a few that wait
//! long while most are as fast as before, as where the drive stops for moments.

use crate::trace::Trace;
use crate::units::Rate;
use std::ops::Range;

/// Least change of the logarithm of the rate from which latencies tell anything.
const LEAST: f64 = 0.15;
/// Readings that a side needs.
const READINGS: usize = 4;
/// Share of the change of the rate, as logarithms, from and up to which the median goes with it.
const GOES_WITH: (f64, f64) = (0.6, 1.5);
/// Below this share the median stays.
const STAYS: f64 = 0.35;
/// The 99th percentile over the median grows by less than this factor where all operations are slower alike, and by more than that where some are far slower.
const ALIKE: f64 = 1.25;
const SPREADS: f64 = 1.5;

/// Which operations are slower on the slower side of a change.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Shift {
    /// All of them by the same factor. Median on the faster and on the slower side, µs.
    Alike(f64, f64),
    /// All, and some far more. The 99th percentile as a multiple of the median, on the faster and on the slower side.
    Spreads(f64, f64),
    /// A few. The 99th percentile on the faster and on the slower side, µs.
    Few(f64, f64),
}

impl Shift {
    /// From the faster and the slower side of a change between two rates. `None` where it is neither, or too little is known.
    pub(super) fn of(
        trace: &Trace,
        faster: Range<usize>,
        slower: Range<usize>,
        rates: (Rate, Rate),
    ) -> Option<Self> {
        let change = (rates.0.0.max(1.0) / rates.1.0.max(1.0)).ln();
        let side = |r: &Range<usize>| {
            let known = r.clone().filter(|i| trace.latency.p50.get(*i).is_some()).take(READINGS).count();
            let mean = |column: &crate::pyramid::Pyramid| Some(column.extent(r.start, r.end)?.mean);
            let (p50, p99) = (mean(&trace.latency.p50)?, mean(&trace.latency.p99)?);
            (known >= READINGS && p50 > 0.0 && p99 > 0.0).then_some((p50, p99))
        };
        if change < LEAST {
            return None;
        }
        let ((fast50, fast99), (slow50, slow99)) = (side(&faster)?, side(&slower)?);
        let goes = (slow50 / fast50).ln() / change;
        let (fast, slow) = (fast99 / fast50, slow99 / slow50);
        if goes < STAYS && (slow99 / fast99).ln() > STAYS * change && slow > SPREADS * fast {
            Some(Self::Few(fast99, slow99))
        } else if goes >= STAYS && slow > SPREADS * fast {
            Some(Self::Spreads(fast, slow))
        } else if (GOES_WITH.0..GOES_WITH.1).contains(&goes) && slow < ALIKE * fast {
            Some(Self::Alike(fast50, slow50))
        } else {
            None
        }
    }
}
