//! The slow and the fast times of a pattern, held against each other.

use super::scales::HOTTER;
use super::seen::LAG_S;
use crate::plateaus::Swing;
use crate::trace::Trace;
use crate::units::Nanos;
use std::ops::Range;

/// Seconds for which a leg has to be slow in all before counters of whole seconds tell anything of it.
const COUNTED_S: f64 = 3.0;
/// A drive that counts for more of the time than this does not count what comes and goes.
const ALL_THE_TIME: f64 = 0.9;
/// How many periods before its first fall a drive has to have been cooler for that to come with its warming.
const PERIODS_BEFORE: f64 = 2.0;
/// It counts the slow times where it counted for this share of them.
const COUNTS: f64 = 0.3;

/// Whether a sample of a pattern is one of its low ones; `None` without a rate.
pub(super) fn is_low(trace: &Trace, swing: &Swing, i: usize) -> Option<bool> {
    trace.rate.get(i).map(|r| r * 1e6 < swing.middle.0)
}

/// What a pattern shows of heat.
pub(super) struct Heat {
    /// The throttle counters count its slow times.
    pub(super) counted: bool,
    /// It began when the drive was as warm as never before in its leg.
    pub(super) hottest: bool,
}

impl Heat {
    /// Of a pattern in a leg that begins at a sample.
    pub(super) fn of(trace: &Trace, leg: usize, swing: &Swing) -> Self {
        let first = swing.samples.clone().find(|i| is_low(trace, swing, *i) == Some(true));
        Self {
            counted: Sides::of(trace, swing).ticks(trace, &swing.samples).0 == Some(true),
            hottest: first.is_some_and(|first| begins_hottest(trace, leg, first, swing.period_s)),
        }
    }
}

/// Whether at the first fall of a pattern the drive was warmer than before in its leg, by a step of a sensor of whole degrees than some periods ago.
fn begins_hottest(trace: &Trace, leg: usize, first: usize, period_s: f64) -> bool {
    let then = |periods: f64| {
        trace.index_at_time(trace.start(first).since(Nanos::from_secs(periods * period_s))).max(leg)
    };
    let hottest = |from: usize, to: usize| trace.temp.extent(from, to).map(|e| e.max);
    // The sensor lags.
    let at = hottest(
        then(0.5),
        trace.index_at_time(trace.start(first).plus(Nanos::from_secs(LAG_S))).max(first + 1),
    );
    at.zip(hottest(leg, then(PERIODS_BEFORE))).is_some_and(|(now, then)| now >= then + HOTTER)
}

/// What was read on one side of a pattern.
#[derive(Default)]
pub(super) struct Side {
    seconds: f64,
    /// Sums of readings, and how many there are.
    pub(super) foreign: (f64, usize),
    pub(super) steal: (f64, usize),
}

/// The slow and the fast times of a pattern.
#[derive(Default)]
pub(super) struct Sides {
    slow: Side,
    fast: Side,
}

impl Sides {
    pub(super) fn of(trace: &Trace, swing: &Swing) -> Self {
        let mut sides = Self::default();
        for i in swing.samples.clone() {
            let Some(low) = is_low(trace, swing, i) else { continue };
            let side = if low { &mut sides.slow } else { &mut sides.fast };
            side.seconds += trace.end(i).since(trace.start(i)).secs();
            for (sum, column) in [(&mut side.foreign, &trace.foreign), (&mut side.steal, &trace.steal)] {
                if let Some(value) = column.get(i) {
                    *sum = (sum.0 + value, sum.1 + 1);
                }
            }
        }
        sides
    }

    /// How much more a mean is while it is slow than while it is fast.
    pub(super) fn more(&self, of: impl Fn(&Side) -> (f64, usize)) -> Option<f64> {
        let mean = |side: &Side| {
            let (sum, n) = of(side);
            (n > 0).then(|| sum / n as f64)
        };
        Some(mean(&self.slow)? - mean(&self.fast)?)
    }

    /// Whether the throttle counters count the slow times, and whether they count all the time.
    pub(super) fn ticks(&self, trace: &Trace, samples: &Range<usize>) -> (Option<bool>, bool) {
        let read = |i: usize| Some((i, trace.throttled(i)?));
        let ends = samples.clone().find_map(read).zip(samples.clone().rev().find_map(read));
        let Some(((first, a), (last, b))) = ends.filter(|_| self.slow.seconds >= COUNTED_S) else {
            return (None, false);
        };
        let length = trace.end(last).since(trace.end(first)).secs();
        let ticked = (b.light_s - a.light_s) + (b.heavy_s - a.heavy_s);
        if length <= 0.0 {
            return (None, false);
        }
        let slow = self.slow.seconds / (self.slow.seconds + self.fast.seconds);
        if ticked > ALL_THE_TIME * length && slow < ALL_THE_TIME {
            return (Some(false), true);
        }
        (Some(ticked > COUNTS * slow * length), false)
    }
}
