//! What was so while something was measured that a claim is not made for.

use crate::breaks::{Break, Cause};
use crate::context::Context;
use crate::interference::Interference;
use crate::thermal::Throttling;
use crate::units::{Rate, number};

/// What was found in a run that may excuse a difference.
#[derive(Clone, Copy, Debug)]
pub struct Seen<'a> {
    /// Its breaks.
    pub breaks: &'a [Break],
    /// When it was throttled.
    pub throttling: &'a Throttling,
    /// When something else had a hand in it.
    pub interference: &'a [Interference],
}

/// Share of the drive in use from which it may excuse a lower rate.
pub(super) const FULL: f64 = 0.5;
/// A rate within this share of the link's ceiling is the link's.
const AT_CEILING: f64 = 0.9;

/// A time in which something was measured.
pub(super) struct Stretch {
    pub(super) from: f64,
    pub(super) to: f64,
    pub(super) rate: Option<Rate>,
    /// Share of the drive in use.
    pub(super) fill: Option<f64>,
    /// By when the write cache may have been exhausted to count; `None` where it does not matter.
    pub(super) cache_by: Option<f64>,
}

/// How much of a drive was in use, from one share to another.
pub(super) fn in_use(low: f64, high: f64) -> String {
    let (low, high) = (format!("{:.0}", 100.0 * low), format!("{:.0}", 100.0 * high));
    if low == high {
        format!("{high} % of the drive was in use")
    } else {
        format!("{low} to {high} % of the drive was in use")
    }
}

impl Stretch {
    pub(super) fn excuses(&self, context: &Context, seen: Seen<'_>) -> Vec<String> {
        let mut all = Vec::new();
        if let Some(link) = context.link.filter(|link| self.rate.is_some_and(|r| r.0 > AT_CEILING * link.0)) {
            all.push(format!("the link carries {} MB/s at the most", number(link.mb_s())));
        }
        if let Some(fill) = self.fill.filter(|f| *f >= FULL) {
            all.push(in_use(fill, fill));
        }
        if seen.throttling.episodes.iter().any(|e| e.start_s < self.to && self.from < e.end_s) {
            all.push("it was throttled by heat".into());
        }
        // Since it had last recovered.
        let cache = self.cache_by.and_then(|by| {
            seen.breaks
                .iter()
                .rev()
                .find(|b| b.at_s <= by && matches!(b.cause, Cause::CacheExhausted | Cause::CacheRecovered))
        });
        if cache.is_some_and(|b| b.cause == Cause::CacheExhausted) {
            all.push("the write cache was exhausted".into());
        }
        if seen.interference.iter().any(|i| i.kind != "gap" && i.start_s < self.to && self.from < i.end_s) {
            all.push("others were on the drive or the host for part of it".into());
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::in_use;

    /// "54 % of the drive was in use" and "85 % of the drive was in use" stood below each other.
    #[test]
    fn the_levels_of_a_sweep_are_one_excuse() {
        assert_eq!(in_use(0.54, 0.851), "54 to 85 % of the drive was in use");
        assert_eq!(in_use(0.849, 0.851), "85 % of the drive was in use");
    }
}
