//! Pauses, in which a write cache gains room, and what was written since the last one.

use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};

/// How much faster a leg has to begin than the writes before it ended, if the drive had recovered in the reads between.
const RECOVERED: f64 = 1.15;
/// Samples that tell how fast a leg began, or ended.
const SOME: usize = 12;

/// The sample at which the last pause before leg `leg` ended, in which a cache has room made: a rest, or, before a leg of writes, reads after which it
/// began at a higher rate than the writes before them had ended with. 0 where there was none.
pub fn pause_before(trace: &Trace, leg: usize) -> usize {
    let legs = trace.legs();
    let rested = legs[..leg].iter().rev().find(|l| l.op == Op::Idle).map_or(0, |l| l.samples.end);
    let read = leg.checked_sub(1).map(|b| &legs[b]).filter(|l| l.op == Op::Read);
    // Reads fill no cache, so that only a rest counts for them.
    let Some(read) = read.filter(|_| legs[leg].op != Op::Read) else { return rested };
    let Some(before) = legs[..leg].iter().rev().find(|l| l.op != Op::Read).filter(|l| l.op != Op::Idle)
    else {
        return rested;
    };
    let (own, last) = (&legs[leg].samples, &before.samples);
    let began = trace.mean_rate(own.start..(own.start + SOME).min(own.end));
    let ended = trace.mean_rate(last.end.saturating_sub(SOME).max(last.start)..last.end);
    let recovered = began.zip(ended).is_some_and(|(b, e)| b.0 > RECOVERED * e.0);
    if recovered { read.samples.end } else { rested }
}

/// Bytes written from sample `from` until so many bytes were moved in all, in leg `leg`. What was read between fills no cache.
pub fn written_since(trace: &Trace, from: usize, leg: &TraceLeg, moved: u64) -> u64 {
    let (start, end) = (leg.samples.start, leg.samples.end);
    let before = trace.totals(start).0.0.saturating_sub(trace.totals(from.min(start)).0.0);
    let (written, all) =
        (trace.totals(end).0.0 - trace.totals(start).0.0, trace.moved(end).0 - trace.moved(start).0);
    let within = moved.saturating_sub(trace.moved(start).0);
    // Of a mix, the part that is written; the whole of it else.
    let share = if all == 0 { 1.0 } else { written as f64 / all as f64 };
    before + if written == all || written == 0 { within } else { (within as f64 * share) as u64 }
}
