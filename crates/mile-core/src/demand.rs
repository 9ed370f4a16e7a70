//! A stream that must be held, against what a drive took.
//!
//! The stream is a producer that fills a buffer, the drive its consumer, both as fluids. The trace says how fast the drive took
//! each byte when it was offered as many as it could take; the stream is replayed against that byte for byte, and not second for
//! second, as a write cache is used up by bytes: while the buffer is empty and the drive is faster, it moves at the stream's own rate.
//! Heat that a slower stream does not make, and cache that it gives time to recover, are not credited: what is said to be
//! held is held on the safe side. Time in which the drive took nothing counts as such.

use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Rate};
use serde::{Deserialize, Serialize};

/// A rate that must be held.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Demand {
    /// Its name.
    pub name: String,
    /// Rate from a time on, seconds from the start of the stream; ascending, the first at 0. One entry for a steady stream.
    pub rate: Vec<(f64, Rate)>,
    /// Bytes that can wait before some are lost.
    pub buffer: Bytes,
    /// Share of the drive, 0 to 1, up to which it must be held.
    #[serde(default)]
    pub until_fill: Option<f64>,
}

/// A time in which a stream was not held.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Shortfall {
    /// Start, seconds of the stream.
    pub start_s: f64,
    /// End.
    pub end_s: f64,
    /// Bytes that the drive had taken when it began.
    pub at_bytes: u64,
    /// Bytes lost.
    pub lost_bytes: u64,
}

/// How a demand fares against a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DemandFound {
    /// Its name.
    pub name: String,
    /// The leg that it was held against.
    pub leg: String,
    /// Mean rate that is asked for, MB/s.
    pub rate_mb_s: f64,
    /// The buffer.
    pub buffer_bytes: u64,
    /// Bytes of the run that it was held against.
    pub bytes: u64,
    /// Time that the stream took, seconds.
    pub seconds: f64,
    /// Whether nothing was lost.
    pub held: bool,
    /// Times at which something was, at most 1,000.
    pub shortfalls: Vec<Shortfall>,
    /// All that was lost.
    pub lost_bytes: u64,
    /// Longest time in which the buffer did not empty, seconds.
    pub longest_wait_s: f64,
    /// Longest time in which the drive took nothing, seconds.
    pub longest_stall_s: f64,
    /// Smallest buffer with which nothing would have been lost.
    pub smallest_buffer_bytes: u64,
    /// Highest steady rate that this buffer holds, MB/s.
    pub highest_mb_s: f64,
}

/// Bytes that the drive took, and the time it took them in, seconds.
type Piece = (f64, f64);

/// What a replay shows.
#[derive(Default)]
struct Replay {
    shortfalls: Vec<Shortfall>,
    lost: f64,
    most: f64,
    waited: f64,
    seconds: f64,
}

/// Demands against a run: against the leg that wrote most of it. Empty where nothing was written.
pub fn demands(trace: &Trace, demands: &[Demand], capacity: Option<Bytes>) -> Vec<DemandFound> {
    let writes = trace.legs().iter().filter(|l| l.op == Op::Write);
    let Some(leg) = writes.max_by_key(|l| moved(trace, l)) else { return Vec::new() };
    demands.iter().filter_map(|d| demand(trace, leg, d, capacity)).collect()
}

fn moved(trace: &Trace, leg: &TraceLeg) -> u64 {
    trace.moved(leg.samples.end).0 - trace.moved(leg.samples.start).0
}

/// One demand against one leg. `None` where the leg, or the part of it below the fill level, wrote nothing.
pub fn demand(
    trace: &Trace,
    leg: &TraceLeg,
    demand: &Demand,
    capacity: Option<Bytes>,
) -> Option<DemandFound> {
    let most = demand.until_fill.zip(capacity).map_or(f64::INFINITY, |(share, c)| share * c.0 as f64);
    let mut pieces: Vec<Piece> = Vec::with_capacity(leg.samples.len());
    let (mut bytes, mut stall, mut longest_stall) = (0.0, 0.0_f64, 0.0_f64);
    for i in leg.samples.clone() {
        let took = (trace.moved(i + 1).0 - trace.moved(i).0) as f64;
        let seconds = trace.end(i).secs() - trace.start(i).secs();
        if bytes + took > most {
            break;
        }
        bytes += took;
        stall = if took == 0.0 { stall + seconds } else { 0.0 };
        longest_stall = longest_stall.max(stall);
        pieces.push((took, seconds));
    }
    if bytes == 0.0 {
        return None;
    }
    let buffer = demand.buffer.0 as f64;
    let replayed = replay(&pieces, &demand.rate, buffer);
    let unbounded = replay(&pieces, &demand.rate, f64::INFINITY);
    Some(DemandFound {
        name: demand.name.clone(),
        leg: leg.name.clone(),
        rate_mb_s: mean_rate(&demand.rate, replayed.seconds) / 1e6,
        buffer_bytes: demand.buffer.0,
        bytes: bytes as u64,
        seconds: replayed.seconds,
        held: replayed.lost < 1.0,
        lost_bytes: replayed.lost.round() as u64,
        longest_wait_s: replayed.waited,
        longest_stall_s: longest_stall,
        smallest_buffer_bytes: unbounded.most.ceil() as u64,
        highest_mb_s: highest(&pieces, buffer) / 1e6,
        shortfalls: replayed.shortfalls,
    })
}

fn mean_rate(rate: &[(f64, Rate)], seconds: f64) -> f64 {
    let mut bytes = 0.0;
    for (i, (from, r)) in rate.iter().enumerate() {
        let to = rate.get(i + 1).map_or(seconds, |n| n.0.min(seconds));
        bytes += r.0 * (to - from).max(0.0);
    }
    if seconds > 0.0 { bytes / seconds } else { rate.first().map_or(0.0, |r| r.1.0) }
}

/// The highest steady rate with which the buffer never overflows, by bisection: what is lost grows with the rate.
fn highest(pieces: &[Piece], buffer: f64) -> f64 {
    let fastest = pieces.iter().filter(|p| p.0 > 0.0).map(|p| p.0 / p.1).fold(0.0, f64::max);
    let holds = |rate: f64| replay(pieces, &[(0.0, Rate(rate))], f64::INFINITY).most <= buffer;
    let (mut low, mut high) = (0.0, 2.0 * fastest);
    for _ in 0..48 {
        let middle = 0.5 * (low + high);
        if holds(middle) { low = middle } else { high = middle }
    }
    low
}

/// Plays a stream against what the drive took.
fn replay(pieces: &[Piece], rate: &[(f64, Rate)], buffer: f64) -> Replay {
    let mut out = Replay::default();
    let (mut now, mut queue, mut waiting, mut done) = (0.0_f64, 0.0_f64, 0.0_f64, 0.0_f64);
    let mut step = 0;
    let mut open: Option<Shortfall> = None;
    for &(bytes, seconds) in pieces {
        // What is left of this piece: bytes to take, or time in which nothing is taken.
        let (mut left, mut idle) = (bytes, if bytes > 0.0 { 0.0 } else { seconds });
        let drive = if seconds > 0.0 { bytes / seconds } else { f64::INFINITY };
        while left > 1e-6 || idle > 1e-12 {
            while rate.get(step + 1).is_some_and(|next| now >= next.0) {
                step += 1;
            }
            let wanted = rate.get(step).map_or(0.0, |r| r.1.0);
            let until = rate.get(step + 1).map_or(f64::INFINITY, |next| next.0 - now);
            // Where nothing is waiting and the stream is slower, the drive waits for the stream.
            let pace = if idle > 0.0 {
                0.0
            } else if queue > 1e-9 {
                drive
            } else {
                drive.min(wanted)
            };
            if pace <= 0.0 && idle <= 0.0 && until.is_infinite() {
                // A stream that has ended, and a drive that has taken all of it.
                return finish(out, open, now, waiting);
            }
            let ends = if idle > 0.0 {
                idle
            } else if pace > 0.0 {
                left / pace
            } else {
                f64::INFINITY
            };
            let empties = if queue > 1e-9 && pace > wanted { queue / (pace - wanted) } else { f64::INFINITY };
            let fills = if wanted > pace && queue < buffer {
                (buffer - queue) / (wanted - pace)
            } else {
                f64::INFINITY
            };
            let dt = ends.min(empties).min(fills.max(1e-9)).min(until.max(1e-9));
            let over = (queue + (wanted - pace) * dt - buffer).max(0.0);
            if over > 1e-6 {
                let here = open.get_or_insert(Shortfall {
                    start_s: now,
                    end_s: now,
                    at_bytes: done as u64,
                    lost_bytes: 0,
                });
                here.end_s = now + dt;
                here.lost_bytes += over.round() as u64;
                out.lost += over;
            } else if pace >= wanted
                && let Some(ended) = open.take()
            {
                out.shortfalls.push(ended);
            }
            let had = queue > 0.0;
            queue = (queue + (wanted - pace) * dt).clamp(0.0, buffer);
            if empties <= dt {
                queue = 0.0;
            }
            waiting = if had || queue > 0.0 { waiting + dt } else { 0.0 };
            out.waited = out.waited.max(waiting);
            if queue <= 0.0 {
                waiting = 0.0;
            }
            out.most = out.most.max(queue);
            now += dt;
            left -= pace * dt;
            done += pace * dt;
            idle -= dt;
        }
    }
    finish(out, open, now, waiting)
}

fn finish(mut out: Replay, open: Option<Shortfall>, now: f64, waiting: f64) -> Replay {
    out.shortfalls.extend(open);
    out.shortfalls.truncate(1000);
    out.seconds = now;
    out.waited = out.waited.max(waiting);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    const STEADY: [(f64, Rate); 1] = [(0.0, Rate(100.0))];

    #[test]
    fn a_drive_that_breaks_below_the_demand_fills_the_buffer_linearly() {
        // 1,000 bytes at 200/s, then 500 at 50/s, against 100/s: the first part takes 10 s at the stream's rate, the second
        // 10 s in which 50/s pile up.
        let pieces: Vec<Piece> = [(20.0, 0.1); 50].into_iter().chain([(5.0, 0.1); 100]).collect();
        let all = replay(&pieces, &STEADY, f64::INFINITY);
        assert!(
            (all.seconds - 20.0).abs() < 1e-6 && (all.most - 500.0).abs() < 1e-6,
            "{} {}",
            all.seconds,
            all.most
        );
        // A buffer of 200 is full 4 s behind the break, and loses 50/s for 6 s.
        let lossy = replay(&pieces, &STEADY, 200.0);
        let first = lossy.shortfalls[0];
        assert!(
            (first.start_s - 14.0).abs() < 1e-6 && (lossy.lost - 300.0).abs() < 1e-3,
            "{first:?} {}",
            lossy.lost
        );
        assert_eq!((lossy.shortfalls.len(), first.at_bytes), (1, 1200));
        assert!((lossy.waited - 10.0).abs() < 1e-6);
        // With 200 of buffer the drive takes 500 bytes in 10 s while 200 may pile up: 70/s.
        assert!((highest(&pieces, 200.0) - 70.0).abs() < 0.01, "{}", highest(&pieces, 200.0));
    }

    #[test]
    fn a_stall_needs_a_buffer_of_its_length() {
        let pieces = [(300.0, 1.0), (0.0, 2.0), (300.0, 1.0)];
        let all = replay(&pieces, &STEADY, f64::INFINITY);
        assert!((all.most - 200.0).abs() < 1e-6, "{}", all.most);
        // Caught up at 200/s within a second: 3 s in which something waited.
        assert!((all.waited - 3.0).abs() < 1e-6, "{}", all.waited);
    }

    #[test]
    fn a_stream_with_steps_is_followed() {
        let pieces: Vec<Piece> = vec![(10.0, 0.1); 200];
        let burst = [(0.0, Rate(50.0)), (4.0, Rate(150.0)), (6.0, Rate(50.0))];
        let all = replay(&pieces, &burst, f64::INFINITY);
        assert!((all.most - 100.0).abs() < 1e-3, "{}", all.most);
    }
}
