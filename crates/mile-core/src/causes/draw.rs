//! What the supply of the drive shows where the rate changed.
//!
//! A drive that is slowed to keep it cool is slowed to draw less: P = P idle + E · rate, with the energy E per byte at most what it was, so that the power
//! falls with the rate. One whose cells take longer works as hard as before for fewer bytes, and so does one that reads a place again and again: its power
//! stays.

use crate::trace::Trace;
use crate::units::Rate;
use std::ops::Range;

/// Least change of the logarithm of the rate from which the power tells anything.
const LEAST: f64 = 0.15;
/// Readings that a side needs.
const READINGS: usize = 4;
/// Share of the change of the rate, as logarithms, from which the power goes with it. Up to four tenths of the power are drawn at rest, so that it changes
/// less than the rate.
const GOES_WITH: f64 = 0.3;
/// Below this share the power stays.
const STAYS: f64 = 0.12;

/// The power on both sides of a fall, W.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Draw {
    /// It fell with the rate.
    Falls(f64, f64),
    /// It stayed, or rose.
    Stays(f64, f64),
}

impl Draw {
    /// From the two sides of a fall between two rates. `None` where it is neither, or too little is known.
    pub(super) fn of(
        trace: &Trace,
        before: Range<usize>,
        behind: Range<usize>,
        (from, to): (Rate, Rate),
    ) -> Option<Self> {
        let change = (from.0.max(1.0) / to.0.max(1.0)).ln();
        let side = |range| trace.power(range).filter(|(mean, n)| *n >= READINGS && *mean > 0.0);
        let ((was, _), (is, _)) = (side(before)?, side(behind)?);
        let part = (was / is).ln() / change;
        match () {
            () if change < LEAST => None,
            () if part >= GOES_WITH => Some(Self::Falls(was, is)),
            () if part <= STAYS => Some(Self::Stays(was, is)),
            () => None,
        }
    }
}
