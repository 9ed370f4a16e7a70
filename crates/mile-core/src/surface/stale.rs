//! Stale data: a place that was slow to read until it was written anew, and is not slow since.

use super::passes::Found;
use super::view::{Slow, View};
use crate::sample::Op;
use crate::trace::Trace;
use std::ops::Range;

/// Share of a stretch that must have been written anew.
const MOST: f64 = 0.5;
/// Depth that is left, as a share of what it was, up to which a stretch is not slow any more.
const GONE: f64 = 0.4;

/// Writes of a trace, and the grid of its surface: where a stretch lies, MB.
pub(super) struct Writes<'a> {
    pub(super) trace: &'a Trace,
    pub(super) from: f64,
    pub(super) width: f64,
}

impl Writes<'_> {
    /// Whether most of some cells was written by samples of a range.
    fn cover(&self, cells: &Range<usize>, samples: Range<usize>) -> bool {
        let at = |cell: usize| self.from + cell as f64 * self.width;
        let (start, end) = (at(cells.start), at(cells.end));
        let legs = self.trace.legs().iter().filter(|l| l.op == Op::Write);
        let own = legs.flat_map(|l| l.samples.start.max(samples.start)..l.samples.end.min(samples.end));
        let written: f64 = own
            .filter_map(|i| {
                let at = self.trace.offset.get(i)?;
                let bytes = (self.trace.moved(i + 1).0 - self.trace.moved(i).0) as f64 / 1e6;
                Some(((at + bytes).min(end) - at.max(start)).max(0.0))
            })
            .sum();
        written >= MOST * (end - start)
    }

    /// Whether a stretch that passes show as slow was written anew after the last of them, and all passes that went there since show it as fast.
    pub(super) fn ended_it(&self, views: &[View], found: &[Found], slow: &Slow) -> bool {
        let legs = self.trace.legs();
        let (mut slow_until, mut fast_from) = (None, usize::MAX);
        for (q, view) in views.iter().enumerate().filter(|(_, v)| v.went(&slow.cells)) {
            let samples = &legs[found[q].leg].samples;
            if view.depth(slow.cells.clone()).is_some_and(|d| d < GONE * slow.depth) {
                fast_from = fast_from.min(samples.start);
            } else {
                slow_until = slow_until.max(Some(samples.end));
            }
        }
        slow_until.is_some_and(|until| {
            until <= fast_from && fast_from < usize::MAX && self.cover(&slow.cells, until..fast_from)
        })
    }
}
