//! Why a leg is slow again and again.
//!
//! A pattern whose mean is hardly lower than what was before it has no break at its start. What makes it slow for moments is told from all of it: what the
//! readings show while it is slow is held against what they show while it is fast.

use super::facts::Facts;
use super::rows;
use super::scene::Scene;
use super::seen::Seen;
use super::sides::{Sides, is_low};
use super::verdict::Verdict;
use crate::breaks::Cause;
use crate::context::Context;
use crate::plateaus::{Edge, Swing};
use crate::trace::Trace;
use crate::units::Rate;
use std::ops::Range;

/// What a pattern in leg `leg` of a trace is put down to; `before` are the samples of its leg from which it may have begun to warm, and `full` is the
/// confidence that the write cache was exhausted before. `None` where nothing in it is slow.
pub(crate) fn pattern(
    trace: &Trace,
    context: &Context,
    (leg, before): (usize, &Range<usize>),
    swing: &Swing,
    full: Option<f64>,
) -> Option<Verdict> {
    let first = swing.samples.clone().find(|i| is_low(trace, swing, *i) == Some(true))?;
    let high = swing.high();
    let moved = trace.moved(first);
    let edge = Edge {
        sample: first,
        at: trace.start(first),
        bytes: moved,
        low: moved,
        high: moved,
        span: (first, first),
        from: high,
        to: Rate(high.0 * (1.0 - swing.depth)),
        repeats: true,
    };
    let from = before.start.min(swing.samples.start);
    let until = swing.samples.end;
    let seen = [Seen { leg, edge, from, until, across: false, swing: Some(swing.clone()) }];
    let nowhere = vec![true; trace.legs().len()];
    let scene = Scene::new(trace, context, &seen, &[], &nowhere);
    let mut facts = Facts::gather(&scene, 0, &[]);
    let sides = Sides::of(trace, swing);
    facts.repeats = true;
    facts.full_before = full;
    (facts.foreign, facts.steal) =
        (sides.more(|s| s.foreign).map(|r| Rate(r * 1e6)), sides.more(|s| s.steal));
    (facts.throttle_begins, facts.throttled_before) = sides.ticks(trace, &swing.samples);
    // What it does around its first fall only is of no account.
    (facts.rise_before, facts.change_after, facts.draw, facts.of_link) = (None, None, None, None);
    let mut list = Vec::new();
    rows::throttle(&facts, &mut list);
    rows::others(&facts, &mut list);
    let mut candidates = vec![Cause::Unexplained, Cause::ThermalThrottle, Cause::Interference];
    if full.is_some() {
        rows::folding(&facts, &mut list);
        candidates.push(Cause::CacheExhausted);
    }
    Some(Verdict::of(&facts, list, &candidates))
}
