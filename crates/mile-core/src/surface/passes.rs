//! Which legs are passes over the surface, and in which order they go.

use super::map::Order;
use super::refine;
use crate::sample::Op;
use crate::stats;
use crate::trace::{Trace, TraceLeg};

/// Fewest samples of a pass: with fewer, noise and baseline cannot be told apart.
pub(crate) const LEAST_SAMPLES: usize = 32;
/// Share of the steps of a pass that go the same way, where its order is that of addresses.
const ORDERLY: f64 = 0.95;
/// Coefficient of variation of the distances of addresses, up to which a pass in a random order covers its range evenly; 1 for addresses drawn at random.
const EVEN: f64 = 0.6;
/// Share of a range that a pass in a random order has moved, and share of what it moved that it may have moved twice.
const COVERS: f64 = 0.7;
const TWICE: f64 = 0.05;
/// Steps from one sample to the next with which a leg may be called one at random.
const LEAST_STEPS: f64 = 8.0;
/// Samples that tell it.
const FEW: usize = 256;
/// Share of what a leg has gone over by which its addresses may be off from what it has moved, where it goes up in one go.
const WITH_ITS_BYTES: f64 = 0.1;
/// Samples in a row that may begin with operations that come back late.
const LATE: usize = 3;
/// Samples from which the order of a leg is judged.
const LOOKED_AT: usize = 4000;

/// A pass as it is found in a trace: its samples, in the order of addresses, each with the end of what it stands for.
pub(super) struct Found {
    pub(super) leg: usize,
    pub(super) order: Order,
    /// Stretches of addresses that were gone over one after the other.
    pub(super) visits: usize,
    /// Sample, first byte, end, MB.
    pub(super) spans: Vec<(usize, f64, f64)>,
}

/// The cells of a grid whose middle a stretch of addresses covers, or the one that it is in.
pub(super) fn cells_of(
    &(_, start, end): &(usize, f64, f64),
    from: f64,
    width: f64,
    cells: usize,
) -> std::ops::Range<usize> {
    let a = ((start - from) / width - 0.5).ceil().max(0.0) as usize;
    let b = ((end - from) / width - 0.5).ceil().max(0.0) as usize;
    let within = (((start + end) / 2.0 - from) / width) as usize;
    let own = if a < b { a..b } else { within..within + 1 };
    let last = own.end.min(cells);
    own.start.min(last)..last
}

/// Adds to each pass what its leg read after a rest, too little to be a pass: what a scan put off because reads failed there.
pub(super) fn join_what_was_put_off(trace: &Trace, found: &mut [Found]) {
    let passes: Vec<usize> = found.iter().map(|f| f.leg).collect();
    let length = |i: usize| (trace.moved(i + 1).0 - trace.moved(i).0) as f64 / 1e6;
    for pass in found {
        let (own, later) = (&trace.legs()[pass.leg], &trace.legs()[pass.leg + 1..]);
        let rest = later.iter().take_while(|l| l.name == own.name).enumerate();
        let rest = rest.filter(|(i, l)| l.op == own.op && !passes.contains(&(pass.leg + 1 + i)));
        let samples = rest.flat_map(|(_, l)| l.samples.clone()).filter(|i| length(*i) > 0.0);
        let (from, to) = (pass.spans[0].1, pass.spans.last().map_or(0.0, |s| s.2));
        let spans = samples.filter_map(|i| trace.offset.get(i).map(|at| (i, at, at + length(i))));
        pass.spans.extend(spans.filter(|s| s.1 >= from && s.2 <= to));
        pass.spans.sort_by(|a, b| a.1.total_cmp(&b.1));
    }
}

/// A leg as a pass over the surface, where it is one.
pub(super) fn pass(trace: &Trace, index: usize, leg: &TraceLeg) -> Option<Found> {
    if leg.op == Op::Idle || leg.op == Op::Mixed {
        return None;
    }
    let mut at: Vec<(usize, f64)> = leg
        .samples
        .clone()
        .filter(|i| trace.moved(i + 1).0 > trace.moved(*i).0)
        .filter_map(|i| Some((i, trace.offset.get(i)?)))
        .collect();
    if at.len() < LEAST_SAMPLES {
        return None;
    }
    let length = |i: usize| (trace.moved(i + 1).0 - trace.moved(i).0) as f64 / 1e6;
    let extent = trace.offset.extent(leg.samples.start, leg.samples.end)?;
    let far = 0.5 * (extent.max - extent.min);
    let steps = (at.len() - 1) as f64;
    let up = at.windows(2).filter(|w| w[1].1 > w[0].1).count() as f64 / steps;
    let down = at.windows(2).filter(|w| w[1].1 < w[0].1).count() as f64 / steps;
    let back = at.windows(2).map(|w| w[0].1 - w[1].1).fold(0.0, f64::max);
    // The begins of stretches that hang together, in the order of time.
    let joined = |w: &[(usize, f64)]| hang_together((w[0].1, length(w[0].0)), (w[1].1, length(w[1].0)));
    let mut begins = vec![at[0].1];
    begins.extend(at.windows(2).filter(|w| !joined(w)).map(|w| w[1].1));
    at.sort_by(|a, b| a.1.total_cmp(&b.1));
    let gaps: Vec<f64> = at.windows(2).map(|w| w[1].1 - w[0].1).collect();
    let usual = stats::median(&mut gaps.clone())?;
    let order = if up >= ORDERLY && back < far.min(4.0 * usual.max(1.0)) {
        Order::Forward
    } else if down >= ORDERLY {
        Order::Backward
    } else {
        // Each address once, and evenly over the range.
        let twice: f64 = at.windows(2).map(|w| (w[0].1 + length(w[0].0) - w[1].1).max(0.0)).sum();
        let moved: f64 = at.iter().map(|a| length(a.0)).sum();
        let (mean, sd) = stats::mean_sd(&gaps)?;
        let covers = moved - twice >= COVERS * (extent.max - extent.min);
        if twice > TWICE * moved || (sd > EVEN * mean && !covers && !is_in_mixed_order(trace, leg)) {
            return None;
        }
        let falls = begins.windows(2).filter(|w| w[1] < w[0]).count() as f64;
        let jumps = (begins.len() - 1).max(1) as f64;
        match falls / jumps {
            share if share >= ORDERLY => Order::Backward,
            share if share <= 1.0 - ORDERLY => Order::Forward,
            _ => Order::Other,
        }
    };
    let spans = (0..at.len())
        .map(|k| {
            let (i, from) = at[k];
            let own = from + length(i);
            // Up to the next address, where that is as near as they are: what lies between was passed over, or a little rounded.
            let to = match at.get(k + 1) {
                Some(next) if next.1 - from <= 3.0 * usual => next.1,
                Some(next) => own.max(from + usual).min(next.1),
                None => own.max(from + usual),
            };
            (i, from, to)
        })
        .filter(|s| s.2 > s.1)
        .collect();
    Some(Found { leg: index, order, visits: begins.len(), spans })
}

/// An address and how much was moved from there on, MB.
type At = (f64, f64);

/// Whether the second of two samples, each with its address and how much it moved, MB, goes on where the first ended. Of operations in flight together the
/// one that comes back first may be any of them, so that an address is known to about as much as a sample moves.
fn hang_together(a: At, b: At) -> bool {
    (b.0 - a.0 - a.1).abs() <= 1.5 * a.1.max(b.1) + 1.0
}

/// Whether the addresses of a leg are drawn at random: then the one that a sample began at says nothing of where its data were.
pub fn is_at_random(trace: &Trace, leg: &TraceLeg) -> bool {
    let at = addresses(trace, leg, FEW);
    let steps = at.windows(2).count() as f64;
    let together = at.windows(2).filter(|w| hang_together(w[0], w[1])).count() as f64;
    let up = at.windows(2).filter(|w| w[1].0 >= w[0].0).count() as f64;
    let down = at.windows(2).filter(|w| w[1].0 <= w[0].0).count() as f64;
    steps >= LEAST_STEPS
        && together < 0.5 * steps
        && up.max(down) < 0.9 * steps
        && !goes_with_its_bytes(&at)
        && !is_in_mixed_order(trace, leg)
}

/// The address of each of the first samples of a leg that moved something, and how much it moved, MB.
fn addresses(trace: &Trace, leg: &TraceLeg, most: usize) -> Vec<At> {
    let length = |i: usize| (trace.moved(i + 1).0 - trace.moved(i).0) as f64 / 1e6;
    let moving = leg.samples.clone().take(most).filter(|i| length(*i) > 0.0);
    moving.filter_map(|i| Some((trace.offset.get(i)?, length(i)))).collect()
}

/// Whether the addresses go up by as much as is moved, in whatever order the operations in flight come back: nine in ten of them are off from that by no more
/// than a small share of what was gone over.
fn goes_with_its_bytes(at: &[At]) -> bool {
    let mut moved = 0.0;
    let mut off: Vec<f64> = Vec::with_capacity(at.len());
    for (address, length) in at {
        off.push(address - moved);
        moved += length;
    }
    off.sort_by(f64::total_cmp);
    let few = off.len() / 20;
    off.len() > 2 * few && off[off.len() - 1 - few] - off[few] <= WITH_ITS_BYTES * moved
}

/// Takes out the samples whose first operation came back late: one elsewhere, while the leg goes on where it was.
fn without_late(at: &[At]) -> Vec<At> {
    let mut kept: Vec<At> = Vec::new();
    for (i, &own) in at.iter().enumerate() {
        let Some(last) = kept.last_mut() else {
            kept.push(own);
            continue;
        };
        let is_elsewhere = !hang_together(*last, own);
        let mut moved = last.1;
        let mut ahead = at[i..].windows(2).take(LATE);
        let goes_on = |w: &[At]| {
            moved += w[0].1;
            hang_together((last.0, moved), w[1])
        };
        if is_elsewhere && ahead.any(goes_on) {
            last.1 += own.1;
        } else {
            kept.push(own);
        }
    }
    kept
}

/// The samples, each with the one before, that do not go on where that one ended.
fn jumps(at: &[At]) -> Vec<(At, At)> {
    at.windows(2).filter(|w| !hang_together(w[0], w[1])).map(|w| (w[0], w[1])).collect()
}

/// Whether a leg goes from zone to zone in no order of addresses: then its rate over time is that of other places, and no change of it is one of the drive.
pub fn is_in_mixed_order(trace: &Trace, leg: &TraceLeg) -> bool {
    if leg.op == Op::Idle || leg.op == Op::Mixed {
        return false;
    }
    if refine::is_refining(leg) {
        return true;
    }
    let at = addresses(trace, leg, LOOKED_AT);
    if goes_with_its_bytes(&at) {
        return false;
    }
    let Some(first) = at.first() else { return false };
    let all = jumps(&at);
    // One that goes round its range comes back to one place.
    let lowest = at.iter().map(|a| a.0).fold(f64::INFINITY, f64::min);
    if 2 * all.len() <= at.len() {
        // It hangs together, but for the jumps from zone to zone. One that only goes on further ahead is not in mixed order: rows that are lost do that.
        let away = jumps(&without_late(&at));
        let is_home = |(from, to): &(At, At)| hang_together((lowest - from.1, from.1), *to);
        let home = away.iter().filter(|j| is_home(j)).count();
        let is_back = |(from, to): &(At, At)| from.0 - to.0 > 4.0 * first.1;
        return away.len() > home + 1 && away.iter().any(|j| is_back(j) && !is_home(j));
    }
    let home = all.iter().filter(|(_, to)| (to.0 - lowest).abs() <= first.1).count();
    if all.len() < 3 || 2 * home > all.len() || all.iter().all(|(from, to)| to.0 >= from.0) {
        return false;
    }
    // Addresses drawn at random hang together nowhere; zones of one sample each are as long as they are apart.
    // They are whole blocks, so that a zone may have one more than another: their mean says how far they are apart.
    let zone = at.iter().map(|a| a.1).sum::<f64>() / at.len() as f64;
    let even = |a: &(f64, f64)| {
        let steps = (a.0 - lowest) / zone;
        (a.1 / zone - 1.0).abs() < 0.05 && (steps - steps.round()).abs() < 0.1
    };
    at.iter().filter(|a| even(a)).count() as f64 >= 0.9 * at.len() as f64
}
