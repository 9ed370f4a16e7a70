//! A break to be explained, and where and how warm the drive was at it.

use crate::plateaus::{Edge, Swing};
use crate::trace::Trace;
use crate::units::{Bytes, Celsius, Nanos};

/// A break to be explained.
#[derive(Clone, Debug)]
pub struct Seen {
    /// Index of its leg in the trace; of the later one between two.
    pub leg: usize,
    /// Where, from what to what.
    pub edge: Edge,
    /// First sample of the stretch before it.
    pub from: usize,
    /// End of the stretch behind it; the number of samples so far while a run is live.
    pub until: usize,
    /// Between two legs.
    pub across: bool,
    /// The pattern that begins with it.
    pub swing: Option<Swing>,
}

/// What a break is compared with others by.
#[derive(Clone, Copy, Debug)]
pub(super) struct Mark {
    pub(super) falls: bool,
    /// Of a leg that writes, and within it.
    pub(super) writes_within: bool,
    pub(super) temp: Option<Celsius>,
    /// A fall as soon as the drive has warmed to that temperature.
    pub(super) climbs: bool,
    /// Bytes moved at the end of the last pause before its leg, and those written since then.
    pub(super) rested: u64,
    pub(super) since: u64,
    pub(super) address: Option<Bytes>,
}

/// A sensor that is read every few seconds and lags behind shows what was at a break so much later.
pub(super) const LAG_S: f64 = 10.0;

/// Address at which a sample began, where addresses are logged.
pub(crate) fn address(trace: &Trace, at: usize) -> Option<Bytes> {
    trace.offset.get(at).map(|mb| Bytes((mb * 1e6) as u64))
}

/// Temperature at a break: the highest shown from a little before until the sensor has caught up.
pub(super) fn temp_at(trace: &Trace, edge: &Edge, seen: &Seen) -> Option<Celsius> {
    let at = extent(trace, seen).0;
    let time = if at == edge.sample { edge.at } else { trace.start(at) };
    let from = trace
        .index_at_time(time.since(Nanos::from_secs(5.0)))
        .min(at.saturating_sub(1))
        .max(seen.from.min(at));
    let to = trace.index_at_time(time.plus(Nanos::from_secs(LAG_S))).max(at + 1).min(seen.until.max(at + 1));
    trace.temp.extent(from, to).map(|e| Celsius(e.max))
}

/// First and last sample of a change: the same for a sharp one.
pub(super) fn extent(trace: &Trace, seen: &Seen) -> (usize, usize) {
    let last = trace.len().saturating_sub(1);
    let at = seen.edge.sample.min(last);
    let (begin, done) = seen.edge.span;
    (begin.clamp(seen.from.min(at), at), done.clamp(at, seen.until.max(at + 1) - 1).min(last))
}
