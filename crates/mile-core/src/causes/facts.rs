//! What the readings say about one break, before any of it is weighed.

use super::draw::Draw;
use super::earlier::{self, Heat, Size};
use super::scales::{HOTTER, STANDSTILL};
use super::scene::{FirstFalls, Scene};
use super::seen::{Seen, address, extent};
use super::shift::Shift;
use super::sides;
use crate::breaks::{Break, Cause};
use crate::interference::GAP;
use crate::plateaus::Edge;
use crate::sample::Op;
use crate::trace::Trace;
use crate::units::{Bytes, Celsius, Nanos, Rate};
use std::ops::Range;

/// Seconds looked at on each side of a break: several updates of a slow sensor, and short against a heat-up.
pub(super) const WINDOW_S: f64 = 30.0;
/// The same in samples, where they are long.
const WINDOW_SAMPLES: usize = 12;
/// How near to each other two heights of the rate are the same, as a difference of logarithms.
const SAME_RATE: f64 = 0.1;
/// How near two addresses are the same place, share of the capacity.
const SAME_PLACE: f64 = 0.01;
/// Share of the bytes that led to a fall: where the rate comes back for fewer at a time, they are no more than what a cache frees while it is written.
const BRIEF: f64 = 0.2;
/// How near to the rate of before a change has to bring it back, as a share of the fall; both as logarithms.
const UNDONE: f64 = 0.35;

/// What is known about a break. `None` where no reading tells.
#[derive(Clone)]
pub(super) struct Facts {
    pub(super) op: Op,
    pub(super) falls: bool,
    /// A pattern: what is said is of all of its falls.
    pub(super) repeats: bool,
    /// Of the pattern that begins with it: whether throttle counters count its slow times, and whether it began when the drive was as warm as never before.
    pub(super) counts_slow_times: bool,
    pub(super) begins_hottest: bool,
    /// Confidence that the write cache was exhausted before a pattern.
    pub(super) full_before: Option<f64>,
    /// Between two legs and not within one.
    pub(super) across: bool,
    /// No fall since the last rest.
    pub(super) first_fall: bool,
    /// A rise since the last rest, without a fall of others' doing before it.
    pub(super) came_back: bool,
    /// The newest change of a leg that goes on, or one at an address that the run may come to again: what would tell more may be still to come.
    pub(super) open: bool,
    /// The next change of this leg brings the rate back.
    pub(super) comes_back: bool,
    /// It does, but only for a few bytes at a time: the most of them, as a share of those that led to this fall of a write.
    pub(super) comes_back_for: Option<f64>,
    /// The change before brought it where it now leaves.
    pub(super) brings_back: bool,
    /// Seconds to the next change of this leg, where that is a further fall within [`WINDOW_S`] and no cooler.
    pub(super) fall_follows: Option<f64>,
    pub(super) stands_still: bool,
    /// After a later rest or leg of reads, writing went on at the rate of before.
    pub(super) back_after_rest: bool,
    /// First falls after other rests.
    pub(super) first_falls: FirstFalls,
    /// It came as soon as the drive had warmed to its temperature.
    pub(super) climbs: bool,
    /// Other falls at the same address that came after other bytes.
    pub(super) here_after_other_bytes: usize,
    /// Seconds for which the drive gave no answer, behind a fall or before a rise, where that is what the change came to.
    pub(super) stall: Option<f64>,
    /// Next to nothing came from the drive on the slower side, and no latency shows that it was asked all the while.
    pub(super) maybe_stall: bool,
    pub(super) since_rest: Bytes,
    pub(super) capacity: Option<Bytes>,
    pub(super) fill: Option<f64>,
    pub(super) temp: Option<Celsius>,
    /// Declared warning limit.
    pub(super) limit: Option<Celsius>,
    pub(super) critical: Option<Celsius>,
    pub(super) rise_before: Option<f64>,
    pub(super) change_after: Option<f64>,
    /// Highest temperature under load and not throttled, anywhere else in the run.
    pub(super) hotter_elsewhere: Option<Celsius>,
    /// Other falls at the same temperature, with the rate back between them.
    pub(super) same_temp: usize,
    /// How often the drive fell as soon as it had warmed to the temperature of this fall, or of the fall that this return undoes.
    pub(super) hysteresis: usize,
    /// It was slowed by heat already, which the fall just before was put down to, and has got no hotter since.
    pub(super) no_hotter: bool,
    /// What earlier runs of the drive say about the bytes before a fall of a write, and about the temperature of a fall.
    pub(super) earlier_size: Option<Size>,
    pub(super) earlier_heat: Option<Heat>,
    /// Temperature at the fall that this rise undoes.
    pub(super) temp_at_fall: Option<Celsius>,
    /// How much cooler it became behind the fall while the rate stayed down.
    pub(super) cooled_behind: Option<f64>,
    /// The change took its time.
    pub(super) gradual: bool,
    pub(super) throttle_begins: Option<bool>,
    pub(super) throttle_ends: Option<bool>,
    pub(super) throttled_before: bool,
    pub(super) stays: Option<bool>,
    /// How much more others moved behind the break than before it.
    pub(super) foreign: Option<Rate>,
    /// How much more processor time was stolen, share of all of it.
    pub(super) steal: Option<f64>,
    /// By how much the rate changed.
    pub(super) change: Rate,
    /// Share of its rate that it lost or won.
    pub(super) share: f64,
    /// Address of the break, where the leg goes through the surface.
    pub(super) address: Option<Bytes>,
    /// The rate sinks through all quarters of the leg.
    pub(super) sinks: bool,
    /// Other passes over that address, and how many changed there alike.
    pub(super) passes: (usize, usize),
    /// Whether a slow place would look alike, and no other pass went over the address, or none was logged.
    pub(super) seen_once: bool,
    /// What the breaks before in this run were put down to, the last fall first.
    pub(super) undone: Option<(Cause, f64)>,
    /// The leg begins at another address than that of the fall that this rise undoes.
    pub(super) elsewhere: bool,
    /// The last rest or read leg before this one, where there was one since the last write.
    pub(super) pause: Option<Op>,
    /// Seconds between the ends of the two samples around the break, where far more than usual.
    pub(super) in_gap: bool,
    /// What became of the latencies.
    pub(super) latency: Option<Shift>,
    /// What became of the power of the drive at a fall.
    pub(super) draw: Option<Draw>,
    /// How much warmer it has become around the drive, °C: since its leg began, or since the fall that this rise undoes.
    pub(super) ambient_rose: Option<f64>,
    /// The rates before and behind the break as shares of what the link carries, as it came up.
    pub(super) of_link: Option<(f64, f64)>,
    /// Share of the time for which the lane waited for the other side of a copy, before the break and behind it.
    pub(super) waited: Option<(f64, f64)>,
}

impl Facts {
    pub(super) fn gather(scene: &Scene<'_>, index: usize, done: &[Break]) -> Self {
        let trace = scene.trace;
        let seen = &scene.seen[index];
        let edge = &seen.edge;
        let leg = &trace.legs()[seen.leg];
        let falls = edge.to.0 < edge.from.0;
        let around = Around::of(trace, seen);
        let temp = scene.marks[index].temp;
        let mark = &scene.marks[index];
        let rested = Bytes(mark.rested).max(recovered_at(scene, index, done));
        let since = scene.seen[..index].iter().enumerate().filter(|(_, s)| s.edge.bytes >= rested);
        let (mut first_fall, mut came_back) = (true, false);
        let mut last_rise_owed = false;
        // The highest rate since the rest: what the write began with, however often it fell since.
        let mut best = edge.from;
        // Bytes from the rest to the first fall behind it.
        let mut filled = None;
        for (j, s) in since.filter(|(_, s)| !s.across) {
            let cause = done.get(j).map(|b| b.cause);
            let others = matches!(
                cause,
                Some(
                    Cause::Interference
                        | Cause::InterferenceEnd
                        | Cause::Stall
                        | Cause::StallEnd
                        | Cause::OtherSide
                        | Cause::OtherSideEnd
                        | Cause::Workload
                )
            );
            best = Rate(best.0.max(s.edge.from.0));
            if s.edge.to.0 < s.edge.from.0 {
                first_fall &= others;
                last_rise_owed = others;
                filled = filled.or(Some(s.edge.bytes.0.saturating_sub(rested.0)));
            } else {
                came_back |= !others && !last_rise_owed && !is_brief(scene, j, filled);
            }
        }
        let next = scene.seen.get(index + 1).filter(|s| s.leg == seen.leg && !s.across);
        let before = index
            .checked_sub(1)
            .map(|j| (j, &scene.seen[j]))
            .filter(|(_, s)| s.leg == seen.leg || seen.across);
        let undoes = |a: &Edge, b: &Edge| {
            (a.to.0 < a.from.0) != (b.to.0 < b.from.0)
                && (b.to.0.max(1.0) / a.from.0.max(1.0)).ln().abs()
                    < SAME_RATE.max(UNDONE * (a.to.0.max(1.0) / a.from.0.max(1.0)).ln().abs())
        };
        let undone =
            (!falls).then(|| (0..index).rev().find(|&j| scene.seen[j].edge.to.0 < scene.seen[j].edge.from.0));
        let undone = undone.flatten();
        let stall = stall(scene, seen, falls);
        let heat = seen.swing.as_ref().map(|swing| sides::Heat::of(trace, leg.samples.start, swing));
        let comes_back = falls && (edge.repeats || next.is_some_and(|n| undoes(edge, &n.edge)));
        let since_rest = Bytes(mark.since.min(edge.bytes.0.saturating_sub(rested.0)));
        let (passes, logged) = (scene.passes(index, SAME_PLACE), address(trace, around.at));
        Self {
            op: leg.op,
            falls,
            repeats: false,
            counts_slow_times: heat.as_ref().is_some_and(|h| h.counted),
            begins_hottest: heat.as_ref().is_some_and(|h| h.hottest),
            full_before: None,
            across: seen.across,
            first_fall,
            came_back,
            open: scene.context.underway
                && !seen.across
                && (scene.may_be_a_place(index, SAME_PLACE)
                    || (seen.leg + 1 == trace.legs().len() && index + 1 == scene.seen.len())),
            comes_back,
            comes_back_for: (comes_back && leg.op == Op::Write && !seen.across)
                .then(|| comes_back_for(trace, &leg.samples, edge, since_rest))
                .flatten(),
            fall_follows: next.filter(|_| falls).and_then(|n| fall_follows(trace, edge, &n.edge)),
            brings_back: !falls && before.is_some_and(|(_, b)| undoes(&b.edge, edge)),
            first_falls: if leg.op == Op::Write && falls {
                scene.first_falls(index)
            } else {
                FirstFalls::default()
            },
            climbs: mark.climbs,
            here_after_other_bytes: scene.here_after_other_bytes(index, SAME_PLACE),
            back_after_rest: falls && scene.is_back_after_rest(index),
            stands_still: edge.to.0 < STANDSTILL * edge.from.0,
            maybe_stall: stall.is_none() && is_silent(edge),
            stall,
            since_rest,
            capacity: scene.context.capacity,
            fill: around.fill(trace),
            temp,
            limit: scene.context.warn,
            critical: scene.context.critical,
            rise_before: around.rise_before(trace),
            change_after: around.change_after(trace, temp),
            hotter_elsewhere: scene.hottest_unthrottled(index, done),
            same_temp: scene.falls_at(index, temp, super::swing::SAME_TEMP),
            hysteresis: scene.hysteresis(index),
            earlier_size: (leg.op == Op::Write && falls && !seen.across)
                .then(|| earlier::size(&scene.context.earlier, since_rest, best, around.fill(trace)))
                .flatten()
                // Of a further fall only a write that did not fall at all says something.
                .filter(|size| first_fall || matches!(size, Size::Longer(..) | Size::Larger(..))),
            earlier_heat: temp.filter(|_| falls).and_then(|temp| earlier::heat(&scene.context.earlier, temp)),
            no_hotter: falls && no_hotter(scene, index, done),
            temp_at_fall: undone.and_then(|j| scene.marks[j].temp),
            cooled_behind: (falls && next.is_none() && !edge.repeats)
                .then(|| around.cooled(trace, temp, seen.until))
                .flatten(),
            gradual: around.done > around.begin,
            throttle_begins: around.ticks(trace).map(|(b, a)| a > b + 0.3),
            throttle_ends: around.ticks(trace).map(|(b, a)| b > a + 0.3),
            throttled_before: around.ticks(trace).is_some_and(|(b, _)| b > 0.3),
            stays: around.stays(trace, seen),
            foreign: around.more(&trace.foreign).map(|r| Rate(r * 1e6)),
            steal: around.more(&trace.steal),
            change: Rate((edge.from.0 - edge.to.0).abs()),
            share: 1.0 - (edge.to.0.min(edge.from.0) / edge.to.0.max(edge.from.0).max(1.0)),
            address: logged,
            sinks: sinks(trace, &leg.samples, scene.context.capacity),
            passes,
            seen_once: !seen.across
                && passes.0 == 0
                && (mark.address.is_some() || logged.is_none())
                && (comes_back || !falls),
            undone: undone.and_then(|j| done.get(j)).map(|b| (b.cause, b.confidence)),
            elsewhere: undone
                .and_then(|j| scene.marks[j].address.zip(mark.address))
                .is_some_and(|(then, now)| then.0.abs_diff(now.0) as f64 > scene.reach(SAME_PLACE)),
            pause: (seen.across && seen.leg > 0)
                .then(|| trace.legs()[seen.leg - 1].op)
                .filter(|op| *op != leg.op),
            in_gap: trace.unlogged(around.at).max(trace.end(around.at).since(trace.start(around.at)).secs())
                > GAP * around.usual,
            latency: around.shift(trace, edge),
            draw: falls.then(|| around.draw(trace, edge)).flatten(),
            ambient_rose: around
                .ambient_rose(trace, undone.map_or(leg.samples.start, |j| scene.seen[j].edge.sample)),
            of_link: scene.context.link.map(|l| (edge.from.0 / l.0.max(1.0), edge.to.0 / l.0.max(1.0))),
            waited: trace
                .waited(around.before..around.begin.max(around.before + 1))
                .zip(trace.waited((around.done + 1).min(around.after.saturating_sub(1))..around.after)),
        }
    }
}

/// The most bytes that came in one go at the rate of before a fall, later in its leg, as a share of those that led to it; `None` unless they are few.
fn comes_back_for(trace: &Trace, leg: &Range<usize>, edge: &Edge, since_rest: Bytes) -> Option<f64> {
    let middle = (edge.from.0 * edge.to.0).sqrt();
    let enough = (BRIEF * since_rest.0 as f64) as u64;
    let (mut most, mut run) = (0_u64, 0_u64);
    for i in edge.span.1.max(edge.sample)..leg.end {
        let is_high = trace.rate.get(i).is_some_and(|rate| rate * 1e6 > middle);
        run = if is_high { run + (trace.moved(i + 1).0 - trace.moved(i).0) } else { 0 };
        most = most.max(run);
        if most >= enough {
            return None;
        }
    }
    (middle > 0.0 && most > 0).then_some(most as f64 / since_rest.0 as f64)
}

/// Whether a rise is undone by the next change of its leg before much was written, next to what had `filled` the cache.
fn is_brief(scene: &Scene<'_>, rise: usize, filled: Option<u64>) -> bool {
    let own = &scene.seen[rise];
    let next = scene.seen.get(rise + 1);
    let falls = |n: &&Seen| n.leg == own.leg && !n.across && n.edge.to.0 < n.edge.from.0;
    next.filter(falls).zip(filled).is_some_and(|(next, filled)| {
        (next.edge.bytes.0.saturating_sub(own.edge.bytes.0) as f64) < BRIEF * filled as f64
    })
}

/// Seconds to a further fall within [`WINDOW_S`] behind which it is no cooler.
fn fall_follows(trace: &Trace, edge: &Edge, next: &Edge) -> Option<f64> {
    let seconds = next.at.since(edge.at).secs();
    let temp = |e: &Edge| trace.temp_at(e.sample.min(trace.len() - 1), 20);
    let no_cooler = temp(next).zip(temp(edge)).is_some_and(|(n, e)| n.0 >= e.0);
    (next.to.0 < next.from.0 && seconds <= WINDOW_S && no_cooler).then_some(seconds)
}

/// Whether the stretch just before a fall is one that heat brought about, with no higher temperature than at its beginning.
fn no_hotter(scene: &Scene<'_>, index: usize, done: &[Break]) -> bool {
    let Some(before) = index.checked_sub(1).filter(|j| scene.seen[*j].leg == scene.seen[index].leg) else {
        return false;
    };
    let (own, last) = (&scene.marks[index], &scene.marks[before]);
    let slowed = last.falls && !scene.seen[before].edge.repeats;
    let is_heat = done.get(before).is_some_and(|b| b.cause == Cause::ThermalThrottle);
    slowed && is_heat && own.temp.zip(last.temp).is_some_and(|(now, then)| now.0 < then.0 + HOTTER)
}

/// Whether next to nothing came from the drive on the slower side of a change.
fn is_silent(edge: &Edge) -> bool {
    edge.from.0.min(edge.to.0) < STANDSTILL * edge.from.0.max(edge.to.0)
}

/// Seconds of the stalls in the stretch to which the rate fell, or from which it rose, where they are most of it.
fn stall(scene: &Scene<'_>, seen: &Seen, falls: bool) -> Option<f64> {
    let trace = scene.trace;
    if !is_silent(&seen.edge) {
        return None;
    }
    let at = seen.edge.sample.min(trace.len());
    let side = if falls { at..seen.until.min(trace.len()).max(at) } else { seen.from.min(at)..at };
    let length =
        |a: usize, b: usize| if a < b { trace.end(b - 1).secs() - trace.start(a).secs() } else { 0.0 };
    let through_host = |leg: &str| scene.context.through_host.iter().any(|name| name == leg);
    let still: f64 = crate::interference::stalls_within(trace, side.clone(), through_host)
        .iter()
        .map(|s| length(s.start.max(side.start), s.end.min(side.end)))
        .sum();
    (still > 0.5 * length(side.start, side.end)).then_some(still)
}

/// Bytes moved when the cache had last recovered before break `index`, 0 where it had not.
fn recovered_at(scene: &Scene<'_>, index: usize, done: &[Break]) -> Bytes {
    let last = done[..index.min(done.len())].iter().rposition(|b| b.cause == Cause::CacheRecovered);
    last.map_or(Bytes(0), |j| scene.seen[j].edge.bytes)
}

/// More than any disk reads from its outermost tracks.
const DISK_MOST: Rate = Rate(800e6);
/// Radius of the innermost track as a share of the outermost, at least.
const INNERMOST: f64 = 0.35;
/// A recording zone is as fast as its innermost track allows.
const ZONED: f64 = 0.85;

/// Whether a leg sinks as a disk does from its outer to its inner tracks: each quarter is slower than the one before, by more than 2 %, at rates that a
/// disk has, and by no more than the radius shrinks. With as many bits on each millimetre of a track, the rate goes with its radius r, and the bytes
/// from the outer edge R to there go with R² − r²; so the rate at a share x of all bytes is √(1 − x (1 − k²)) of that at the edge, with the innermost
/// track at k R.
fn sinks(trace: &Trace, samples: &Range<usize>, capacity: Option<Bytes>) -> bool {
    let at = |k: usize| samples.start + samples.len() * k / 4;
    let means: Vec<f64> = (0..4).filter_map(|k| trace.mean_rate(at(k)..at(k + 1))).map(|r| r.0).collect();
    let (Some(first), 4) = (means.first().copied(), means.len()) else { return false };
    // Where the capacity is not known, the addresses that were met are all of it.
    let met = trace.offset.extent(samples.start, samples.end).map_or(0.0, |e| e.max * 1e6);
    let whole = capacity.map_or(met, |c| c.0 as f64);
    let radius = |k: usize| {
        let end = trace.offset.extent(at(k), at(k + 1)).map_or(whole, |e| e.max * 1e6);
        (1.0 - (end / whole.max(1.0)).min(1.0) * (1.0 - INNERMOST * INNERMOST)).sqrt()
    };
    first < DISK_MOST.0
        && means.windows(2).all(|w| w[1] < 0.98 * w[0])
        && (0..4).all(|k| means[k] >= ZONED * radius(k) * first)
}

/// The samples on both sides of a break.
struct Around {
    before: usize,
    begin: usize,
    at: usize,
    done: usize,
    after: usize,
    usual: f64,
}

impl Around {
    fn of(trace: &Trace, seen: &Seen) -> Self {
        let last = trace.len().saturating_sub(1);
        let at = seen.edge.sample.min(last);
        let seconds = trace.end(at).since(trace.start(seen.from.min(at))).secs();
        let usual = seconds / (at + 1 - seen.from.min(at)) as f64;
        // A gradual change is looked at from before it began until after it was done.
        let (begin, done) = extent(trace, seen);
        let window = Nanos::from_secs(WINDOW_S);
        let first =
            trace.index_at_time(trace.start(begin).since(window)).min(begin.saturating_sub(WINDOW_SAMPLES));
        let behind = trace.index_at_time(trace.start(done).plus(window)).max(done + WINDOW_SAMPLES);
        // Both sides end where another stretch begins.
        Self {
            before: first.max(seen.from.min(begin)),
            begin,
            at,
            done,
            after: behind.min(seen.until.max(done + 1)).min(trace.len()),
            usual,
        }
    }

    fn mean(trace: &Trace, from: usize, to: usize) -> Option<f64> {
        trace.temp.extent(from, to.max(from + 1)).map(|e| e.mean)
    }

    fn rise_before(&self, trace: &Trace) -> Option<f64> {
        let early = Self::mean(trace, self.before, self.before + (self.begin - self.before) / 4)?;
        Some(Self::mean(trace, self.begin.saturating_sub(2).max(self.before), self.begin + 1)? - early)
    }

    fn change_after(&self, trace: &Trace, temp: Option<Celsius>) -> Option<f64> {
        let late = self.after - (self.after - self.done) / 4;
        (self.after > self.done + 4).then_some(())?;
        let shown = trace.temp.extent(self.done, self.done + 1).map_or(0.0, |e| e.mean).max(temp?.0);
        Some(Self::mean(trace, late.min(self.after - 1), self.after)? - shown)
    }

    /// From the break to the mean of the last quarter of the stretch behind it.
    fn cooled(&self, trace: &Trace, temp: Option<Celsius>, until: usize) -> Option<f64> {
        let late = until.saturating_sub((until.saturating_sub(self.done)) / 4).max(self.done);
        Some(temp?.0 - Self::mean(trace, late.min(until.saturating_sub(1)), until)?)
    }

    /// Share of the drive in use, as it was read nearest to the break.
    fn fill(&self, trace: &Trace) -> Option<f64> {
        // Most logs have none, and a window may be thousands of samples.
        trace.fill.extent(self.before, self.after)?;
        let before = (self.before..=self.at).rev().find_map(|i| trace.fill.get(i));
        before.or_else(|| (self.at..self.after).find_map(|i| trace.fill.get(i)))
    }

    /// Seconds that the throttle counters ticked in each second before the break and behind it. They are whole seconds and read about once
    /// a second. Between the first and the last reading of each side.
    fn ticks(&self, trace: &Trace) -> Option<(f64, f64)> {
        trace.has_throttled(self.before, self.after).then_some(())?;
        let rate = |from: usize, to: usize| -> Option<f64> {
            let read = |i: usize| Some((i, trace.throttled(i)?));
            let ((from, a), (to, b)) = ((from..=to).find_map(read)?, (from..=to).rev().find_map(read)?);
            let seconds = trace.end(to).since(trace.end(from)).secs();
            (seconds >= 2.0).then(|| ((b.light_s - a.light_s) + (b.heavy_s - a.heavy_s)) / seconds)
        };
        let second = trace.index_at_time(trace.end(self.begin).since(Nanos::from_secs(2.0))).min(self.begin);
        Some((rate(self.before, second.max(self.before))?, rate(self.done, self.after.checked_sub(1)?)?))
    }

    fn more(&self, column: &crate::pyramid::Pyramid) -> Option<f64> {
        let behind = column.extent((self.done + 1).min(self.after.saturating_sub(1)), self.after)?.mean;
        Some(behind - column.extent(self.before, self.begin).map_or(0.0, |b| b.mean))
    }

    /// Which operations are slower on the slower side.
    fn shift(&self, trace: &Trace, edge: &Edge) -> Option<Shift> {
        let (before, behind) = (self.before..self.begin, (self.done + 1).min(self.after)..self.after);
        if edge.to.0 < edge.from.0 {
            Shift::of(trace, before, behind, (edge.from, edge.to))
        } else {
            Shift::of(trace, behind, before, (edge.to, edge.from))
        }
    }

    /// What became of the power at a fall.
    fn draw(&self, trace: &Trace, edge: &Edge) -> Option<Draw> {
        let behind = (self.done + 1).min(self.after)..self.after;
        Draw::of(trace, self.before..self.begin, behind, (edge.from, edge.to))
    }

    /// By how much it is warmer around the drive just before the break than it was from sample `since` on.
    fn ambient_rose(&self, trace: &Trace, since: usize) -> Option<f64> {
        let begin = self.begin.max(self.before + 1);
        let then = trace.ambient.extent(since, (since + (begin - self.before)).min(begin).max(since + 1))?;
        Some(trace.ambient.extent(self.before, begin)?.mean - then.mean)
    }

    fn stays(&self, trace: &Trace, seen: &Seen) -> Option<bool> {
        let behind = trace.end(trace.len().saturating_sub(1)).since(seen.edge.at);
        (behind >= Nanos::from_secs(WINDOW_S)).then(|| {
            let leg_end = trace.legs()[seen.leg].samples.end;
            if seen.edge.repeats {
                return false;
            }
            seen.until >= leg_end
                || trace.start(seen.until.min(trace.len() - 1)).since(seen.edge.at)
                    >= Nanos::from_secs(WINDOW_S)
        })
    }
}
