//! A run with all of its breaks, and what they say of each other.

use super::seen::{self, Mark, Seen};
use super::swing::{self, Swing};
use crate::breaks::{Break, Cause};
use crate::context::Context;
use crate::hollow::Hollow;
use crate::pauses::{pause_before, written_since};
use crate::plateaus::Edge;
use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Celsius};

/// How near the bytes of two caches are, as a difference of logarithms: one that is written to again may not have recovered wholly.
const SAME_BYTES: f64 = 0.15;
/// How far apart two amounts of bytes are surely not the same, as a difference of logarithms.
const OTHER_BYTES: f64 = 0.2;
/// How near two addresses are one place, share of the bytes.
const HERE: f64 = 0.05;
/// How many times as far apart as the addresses of falls the bytes before them lie, where the falls belong to the address. A cache that recovers to another
/// size each time meets one address by chance only.
const TIED: f64 = 10.0;

/// A run with all of its breaks.
#[derive(Clone, Debug)]
pub struct Scene<'a> {
    /// The run.
    pub trace: &'a Trace,
    /// What is known beside it.
    pub context: &'a Context,
    /// The breaks, in the order of time.
    pub seen: &'a [Seen],
    /// What each break is compared with the others by.
    pub(super) marks: Vec<Mark>,
    /// Slow stretches of the surface, where passes in several orders were held against each other.
    pub(super) hollows: &'a [Hollow],
    /// Lowest and highest address of each leg, bytes.
    pub(super) legs: Vec<Option<(f64, f64)>>,
    /// Stretches of addresses that a leg went over while nothing was logged: its place, and their first and last byte.
    pub(super) unlogged: Vec<(usize, f64, f64)>,
    /// Falls at one temperature and returns at a lower one.
    pub(super) swing: Option<Swing>,
}

/// First falls of other stretches between two rests: after the same bytes or others, and how many of each as soon as the drive was as warm.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct FirstFalls {
    pub(super) alike: usize,
    pub(super) alike_as_warm: usize,
    pub(super) unlike: usize,
    pub(super) unlike_as_warm: usize,
}

impl<'a> Scene<'a> {
    /// A run with all of its breaks. `at_random` says of each leg whether its addresses are drawn at random: those are no places of anything.
    pub fn new(
        trace: &'a Trace,
        context: &'a Context,
        seen: &'a [Seen],
        hollows: &'a [Hollow],
        at_random: &[bool],
    ) -> Self {
        let last = trace.len().saturating_sub(1);
        let mark = |s: &Seen| {
            let leg = &trace.legs()[s.leg];
            let paused = pause_before(trace, s.leg);
            let (falls, temp) = (s.edge.to.0 < s.edge.from.0, seen::temp_at(trace, &s.edge, s));
            Mark {
                falls,
                writes_within: leg.op == Op::Write && !s.across,
                temp,
                climbs: falls
                    && !s.across
                    && temp.is_some_and(|t| swing::climbs(trace, s.from..seen::extent(trace, s).0, t)),
                rested: trace.moved(paused).0,
                since: written_since(trace, paused, leg, s.edge.bytes.0),
                address: seen::address(trace, s.edge.sample.min(last)).filter(|_| !at_random[s.leg]),
            }
        };
        let range = |(leg, at_random): (&TraceLeg, &bool)| {
            trace
                .offset
                .extent(leg.samples.start, leg.samples.end)
                .filter(|_| leg.op != Op::Idle && !at_random)
                .map(|e| (e.min * 1e6, e.max * 1e6))
        };
        // Lengths are rounded, so that hardly anything may seem to be missing.
        let is_gap = |i: &usize| {
            trace.unlogged(*i) > 0.5 * trace.end(*i - 1).since(trace.start(*i - 1)).secs().max(1e-6)
        };
        let gaps = |(place, leg): (usize, &TraceLeg)| {
            let around = |i: usize| Some((trace.offset.get(i - 1)?, trace.offset.get(i)?));
            let pairs = (leg.samples.start + 1..leg.samples.end).filter(is_gap).filter_map(around);
            pairs.map(move |(a, b)| (place, 1e6 * a.min(b), 1e6 * a.max(b))).collect::<Vec<_>>()
        };
        let marks: Vec<Mark> = seen.iter().map(mark).collect();
        Self {
            trace,
            context,
            seen,
            hollows,
            swing: Swing::of(trace, seen, &marks),
            marks,
            legs: trace.legs().iter().zip(at_random).map(range).collect(),
            unlogged: trace.legs().iter().enumerate().flat_map(gaps).collect(),
        }
    }
}

impl Scene<'_> {
    /// Between which times an edge is, seconds: those of its bytes, and all of a gap in which nothing was logged.
    pub(super) fn when(&self, edge: &Edge) -> (f64, f64) {
        let trace = self.trace;
        let time = |bytes: Bytes| {
            let i = trace.index_at_bytes(bytes).min(trace.len().saturating_sub(1));
            let (from, to) = (trace.moved(i).0, trace.moved(i + 1).0);
            let share = if to > from {
                (bytes.0.saturating_sub(from) as f64 / (to - from) as f64).min(1.0)
            } else {
                0.0
            };
            trace.start(i).secs() + share * trace.end(i).since(trace.start(i)).secs()
        };
        let (mut low, mut high) = (time(edge.low).min(edge.at.secs()), time(edge.high).max(edge.at.secs()));
        let near = edge.sample.saturating_sub(1)..=edge.sample.min(trace.len().saturating_sub(1));
        for i in near.filter(|i| *i > 0 && trace.unlogged(*i) > 0.0) {
            low = low.min(trace.end(i - 1).secs());
            high = high.max(trace.start(i).secs());
        }
        (low, high)
    }

    /// Whether writing went on at the rate of before break `index` after the next rest or leg of reads.
    pub(super) fn is_back_after_rest(&self, index: usize) -> bool {
        let from = self.seen[index].edge.from.0;
        let legs = self.trace.legs();
        // Only what lies between tells: another load that is faster is no recovery.
        let paused = |s: &Seen| s.leg > 0 && matches!(legs[s.leg - 1].op, Op::Idle | Op::Read);
        let next = self.seen[index + 1..].iter().find(|s| s.across && legs[s.leg].op == Op::Write);
        next.filter(|s| paused(s)).is_some_and(|s| {
            s.edge.to.0 > s.edge.from.0 && (s.edge.to.0 / from.max(1.0)).ln().abs() < SAME_BYTES
        })
    }

    /// First falls of other stretches between two rests, of those that write: how many came after the same bytes as break `index`, and how many after
    /// others. With each, how many of them came as soon as the drive had warmed to the same temperature, as heat brings them about.
    pub(super) fn first_falls(&self, index: usize) -> FirstFalls {
        let own = &self.marks[index];
        let (mut all, mut last) = (FirstFalls::default(), None);
        for mark in self.marks.iter().filter(|m| m.writes_within && m.falls) {
            // The first after each rest.
            if last.replace(mark.rested) == Some(mark.rested) || mark.rested == own.rested {
                continue;
            }
            let apart = mark.temp.zip(own.temp).map(|(a, b)| (a.0 - b.0).abs());
            let is_warm = |most: f64| mark.climbs && own.climbs && apart.is_some_and(|apart| apart <= most);
            if (mark.since as f64 / own.since.max(1) as f64).ln().abs() < SAME_BYTES {
                all.alike += 1;
                // Only what falls clearly warmer, or cooler, shows that it is not the temperature.
                all.alike_as_warm += usize::from(is_warm(2.0 * swing::SAME_TEMP));
            } else {
                all.unlike += 1;
                all.unlike_as_warm += usize::from(is_warm(swing::SAME_TEMP));
            }
        }
        all
    }

    /// Highest temperature under load at which the drive was not throttled, outside the break's own stretch behind it.
    pub(super) fn hottest_unthrottled(&self, index: usize, done: &[Break]) -> Option<Celsius> {
        let seen = &self.seen[index];
        let leg = &self.trace.legs()[seen.leg];
        let throttled = done.iter().any(|b| b.cause == Cause::ThermalThrottle);
        let before =
            if throttled { None } else { self.trace.temp.extent(leg.samples.start, seen.edge.sample) };
        // Behind it, while the slower rate lasted: a governor does not let that get warmer.
        let settled = seen.edge.span.1.max(seen.edge.sample);
        let behind = self.trace.temp.extent(settled, seen.until.max(settled));
        [before, behind].into_iter().flatten().map(|e| Celsius(e.max)).max_by(|a, b| a.0.total_cmp(&b.0))
    }

    /// Other falls of this run at about the same temperature, with a rise between them and break `index`.
    pub(super) fn falls_at(&self, index: usize, temp: Option<Celsius>, near: f64) -> usize {
        let Some(temp) = temp else { return 0 };
        let is_within = |j: &usize| !self.seen[*j].across;
        let near_it = |j: usize| {
            let mark = &self.marks[j];
            mark.falls && mark.temp.is_some_and(|t| (t.0 - temp.0).abs() <= near)
        };
        let rises = |j: &usize| is_within(j) && !self.marks[*j].falls;
        let before = (0..index).rev().skip_while(|j| !rises(j));
        let behind = (index + 1..self.seen.len()).skip_while(|j| !rises(j));
        before.chain(behind).filter(is_within).filter(|j| near_it(*j)).count()
    }

    /// How often the drive fell as soon as it had warmed to one temperature, where break `index` is one of those falls, or one of the returns.
    pub(super) fn hysteresis(&self, index: usize) -> usize {
        let (own, Some(swing)) = (&self.marks[index], self.swing) else { return 0 };
        let at = |t: f64| own.temp.is_some_and(|own| (own.0 - t).abs() <= swing::SAME_TEMP);
        if (own.climbs && at(swing.hot)) || (!own.falls && at(swing.cool)) { swing.times } else { 0 }
    }

    /// A share of the drive, bytes; of the addresses that were visited, where its capacity is not known.
    pub(super) fn reach(&self, share: f64) -> f64 {
        let highest = || self.trace.offset.extent(0, self.trace.len()).map_or(0.0, |e| e.max * 1e6);
        share * self.context.capacity.map_or_else(highest, |c| c.0 as f64).max(1.0)
    }

    /// Other falls of writes at the address of break `index`, from and to about the same rates, where not all of them came after the same bytes since
    /// their last pause: a cache that is full has no address, so that these tell a weak place from it.
    pub(super) fn here_after_other_bytes(&self, index: usize, near: f64) -> usize {
        let (seen, own) = (&self.seen[index], &self.marks[index]);
        let Some(at) = own.address.filter(|_| own.writes_within && own.falls) else { return 0 };
        // Nearer than the bytes are apart: two fills of a small cache lie close to each other.
        let reach = self.reach(near).min(HERE * own.since as f64);
        let differ = |a: f64, b: f64| (a.max(1.0) / b.max(1.0)).ln().abs();
        let is_here = |(s, m): &(&Seen, &Mark)| {
            m.writes_within
                && m.falls
                && m.address.is_some_and(|a| a.0.abs_diff(at.0) as f64 <= reach)
                && differ(s.edge.from.0, seen.edge.from.0) < SAME_BYTES
                && differ(s.edge.to.0, seen.edge.to.0) < SAME_BYTES
        };
        let spread = |of: &dyn Fn(&Mark) -> u64| {
            let here = || self.seen.iter().zip(&self.marks).filter(is_here).map(|(_, m)| of(m));
            (here().min().unwrap_or(0), here().max().unwrap_or(0), here().count())
        };
        let (least, most, here) = spread(&|m| m.since);
        let (nearest, furthest, _) = spread(&|m| m.address.map_or(at.0, |a| a.0));
        // An address is known to what a sample moves.
        let sample = seen.edge.sample.min(self.trace.len().saturating_sub(1));
        let moved = self.trace.moved(sample + 1).0 - self.trace.moved(sample).0;
        let is_tied = (most - least) as f64 > TIED * (furthest - nearest + moved) as f64;
        if is_tied || differ(most as f64, least as f64) > OTHER_BYTES { here - 1 } else { 0 }
    }

    /// Whether break `index` has an address, and no write fell at another one: where they do, it is no single place.
    pub(super) fn may_be_a_place(&self, index: usize, near: f64) -> bool {
        let Some(at) = self.marks[index].address else { return false };
        let reach = self.reach(near);
        let falls = self.marks.iter().filter(|m| m.falls && m.writes_within);
        falls.filter_map(|m| m.address).all(|a| a.0.abs_diff(at.0) as f64 <= reach)
    }

    /// Other legs that went over the address of a break while they were logged, and how many of them changed there in the same direction.
    pub(super) fn passes(&self, index: usize, near: f64) -> (usize, usize) {
        let seen = &self.seen[index];
        let Some(at) = self.marks[index].address else { return (0, 0) };
        let reach = self.reach(near);
        let falls = self.marks[index].falls;
        let at = at.0 as f64;
        // The address of a break is that of its sample, which may be any that it moved.
        let sample = seen.edge.sample.min(self.trace.len().saturating_sub(1));
        let apart = (self.trace.moved(sample + 1).0 - self.trace.moved(sample).0) as f64;
        // Down at the start of a hollow, up at its end, in the order of addresses.
        let is_edge = |h: &&Hollow| {
            let edge = if falls { h.start_byte } else { h.end_byte };
            h.passes_seen > 1
                && (edge as f64 - at).abs() <= reach.min(2.0 * h.edge_bytes as f64 + 1e9 + apart)
        };
        if let Some(hollow) = self.hollows.iter().find(is_edge) {
            let others = hollow.passes as usize - 1;
            return (others, (hollow.passes_seen as usize - 1).min(others));
        }
        let hidden = |leg: usize| self.unlogged.iter().any(|g| g.0 == leg && g.1 <= at && at <= g.2);
        let covers = |leg: usize| {
            leg != seen.leg
                && self.legs[leg].is_some_and(|(min, max)| min + reach < at && at + reach < max)
                && !hidden(leg)
        };
        let over = (0..self.legs.len()).filter(|leg| covers(*leg)).count();
        if over == 0 {
            return (0, 0);
        }
        let here = |(s, m): &(&Seen, &Mark)| {
            !s.across
                && m.falls == falls
                && m.address.is_some_and(|a| (a.0 as f64 - at).abs() <= reach)
                && covers(s.leg)
        };
        let mut legs: Vec<usize> =
            self.seen.iter().zip(&self.marks).filter(here).map(|(s, _)| s.leg).collect();
        legs.dedup();
        let alike = legs.len();
        (over, alike)
    }
}
