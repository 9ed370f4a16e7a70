//! Why a break happened: facts about it, evidence for and against each cause, and a confidence.
//!
//! Each row adds to the logarithm of the odds of a cause against "unexplained"; the confidence is the share that the
//! winner takes of all of them. `rows.rs` has the facts and their words, `weights.rs` what each weighs: how much more often it is seen with the cause
//! than without it (3 is twenty times). The weights are fitted on the corpus; `docs/accuracy.md` shows how well the confidences that come of them
//! hold. Where the readings that would decide are missing, the confidence is capped, and says so.

mod facts;
mod rows;
mod swing;
mod weights;

use crate::findings::{Break, Candidate, Cause, Context, Evidence, Hollow};
use crate::plateaus::Edge;
use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Celsius};
use facts::Facts;
pub(crate) use facts::address;
use swing::Swing;
pub use weights::{Row, TABLE, weight_of};

/// Degrees below a limit within which a reading counts as at it: whole-degree steps and the lag of a sensor.
const AT_LIMIT_C: f64 = 4.0;
/// Degrees below a limit from which a reading is well clear of it.
const CLEAR_C: f64 = 6.0;
/// Drives begin to throttle between these temperatures, where nothing is known of one: flash controllers about 70 to 85 °C, sealed
/// sticks and disks from about 60 °C.
const WARM_C: f64 = 60.0;
const COOL_C: f64 = 55.0;
const HOT_C: f64 = 68.0;
/// What is critical lies up to so many degrees above where a drive begins to throttle.
const BELOW_CRITICAL_C: f64 = 16.0;
/// And mostly no further below it than this.
const NEAR_C: f64 = 10.0;
/// No drive is throttled until so many degrees below its warning limit.
const FAR_C: f64 = 18.0;
/// A throttled drive is let go after it has cooled by this much, mostly by less.
const RELEASES_C: f64 = 7.0;
/// Share of the rate before below which the drive stands still. A guess: the slowest flash behind a cache keeps several
/// percent of its rate.
const STANDSTILL: f64 = 0.01;
/// Largest share of a drive that a cache of single-bit cells can take: a third where cells hold three bits, and a little.
const LARGEST_CACHE: f64 = 0.36;
/// Share of processor time from which its theft slows a run: one processor of ten.
const STOLEN: f64 = 0.1;
/// Share of the change that others have to have moved for them to have a hand in it.
const FOREIGN: f64 = 0.2;
/// Share of the change that others have to have moved for it to be all their doing.
const ALL_OF_IT: f64 = 0.7;
/// Highest confidence of a cause that shares a change with another.
const CAP_SHARED: f64 = 0.6;
/// How near the bytes of two caches are, as a difference of logarithms: one that is written to again may not have recovered wholly.
const SAME_BYTES: f64 = 0.15;
/// Highest confidence without a temperature or a throttle counter.
const CAP_BLIND: f64 = 0.8;
/// Highest confidence of a further stage of a cache where nobody knows how full the drive is.
const CAP_NO_FILL: f64 = 0.8;
/// Highest confidence with a temperature, but without a limit to hold it against and without counters.
const CAP_NO_LIMIT: f64 = 0.97;

/// How far apart two amounts of bytes are surely not the same, as a difference of logarithms, and how many falls at one address that came after others
/// than this one make it a place.
const OTHER_BYTES: f64 = 0.2;
const AGAIN: usize = 2;
/// How near such addresses are, share of the bytes.
const HERE: f64 = 0.05;
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
}

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
    marks: Vec<Mark>,
    /// Slow stretches of the surface, where passes in several orders were held against each other.
    hollows: &'a [Hollow],
    /// Lowest and highest address of each leg, bytes.
    legs: Vec<Option<(f64, f64)>>,
    /// Falls at one temperature and returns at a lower one.
    swing: Option<Swing>,
}

/// What a break is compared with others by.
#[derive(Clone, Copy, Debug)]
struct Mark {
    falls: bool,
    /// Of a leg that writes, and within it.
    writes_within: bool,
    temp: Option<Celsius>,
    /// A fall as soon as the drive has warmed to that temperature.
    climbs: bool,
    /// Bytes moved at the end of the last pause before its leg, and those written since then.
    rested: u64,
    since: u64,
    address: Option<Bytes>,
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
            let (falls, temp) = (s.edge.to.0 < s.edge.from.0, facts::temp_at(trace, &s.edge, s));
            Mark {
                falls,
                writes_within: leg.op == Op::Write && !s.across,
                temp,
                climbs: falls
                    && !s.across
                    && temp.is_some_and(|t| swing::climbs(trace, s.from..facts::extent(trace, s).0, t)),
                rested: trace.moved(paused).0,
                since: written_since(trace, paused, leg, s.edge.bytes.0),
                address: facts::address(trace, s.edge.sample.min(last)).filter(|_| !at_random[s.leg]),
            }
        };
        let range = |(leg, at_random): (&crate::trace::TraceLeg, &bool)| {
            trace
                .offset
                .extent(leg.samples.start, leg.samples.end)
                .filter(|_| leg.op != Op::Idle && !at_random)
                .map(|e| (e.min * 1e6, e.max * 1e6))
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
        }
    }
}

impl Scene<'_> {
    /// Attributes each break to a cause.
    pub fn breaks(&self) -> Vec<Break> {
        let mut done = Vec::new();
        for i in 0..self.seen.len() {
            let found = self.attribute(i, &done);
            done.push(found);
        }
        done
    }

    /// Attributes break `index`; `done` are those before it.
    pub fn attribute(&self, index: usize, done: &[Break]) -> Break {
        let facts = Facts::gather(self, index, done);
        let mut list = Vec::new();
        let mut candidates = vec![Cause::Unexplained];
        let mut consider = |cause: Cause, list: &mut Vec<Evidence>, weigh: fn(&Facts, &mut Vec<Evidence>)| {
            candidates.push(cause);
            weigh(&facts, list);
        };
        if facts.across {
            match facts.pause {
                Some(Op::Idle | Op::Read) if !facts.falls => {
                    consider(Cause::CacheRecovered, &mut list, rows::recovered);
                    consider(Cause::ThermalRelease, &mut list, rows::release);
                }
                _ => consider(Cause::Workload, &mut list, rows::workload),
            }
        } else {
            if facts.waited.is_some() {
                consider(
                    if facts.falls { Cause::OtherSide } else { Cause::OtherSideEnd },
                    &mut list,
                    rows::other_side,
                );
            }
            if facts.stall.is_some() {
                consider(if facts.falls { Cause::Stall } else { Cause::StallEnd }, &mut list, rows::stall);
            }
            if facts.falls {
                consider(Cause::ThermalThrottle, &mut list, rows::throttle);
                consider(Cause::Interference, &mut list, rows::others);
                if facts.op == Op::Write {
                    consider(Cause::CacheExhausted, &mut list, rows::cache);
                    if facts.fill.is_some() || facts.capacity.is_some() {
                        consider(Cause::FillLevel, &mut list, rows::fill);
                    }
                }
            } else {
                consider(Cause::ThermalRelease, &mut list, rows::release);
                consider(Cause::InterferenceEnd, &mut list, rows::others);
            }
            if facts.address.is_some() {
                consider(Cause::Surface, &mut list, rows::surface);
            }
        }
        rows::unexplained(&facts, &mut list);
        let sum = |cause: Cause| -> f64 { list.iter().filter(|e| e.cause == cause).map(|e| e.weight).sum() };
        let total: f64 = candidates.iter().map(|&c| sum(c).exp()).sum();
        let hundredths = |x: f64| (x * 100.0).round() / 100.0;
        let mut considered: Vec<Candidate> = candidates
            .iter()
            .map(|&cause| Candidate { cause, log_odds: sum(cause), share: sum(cause).exp() / total })
            .collect();
        considered.sort_by(|a, b| b.share.total_cmp(&a.share));
        let best = considered.first().map_or((Cause::Unexplained, 1.0), |c| (c.cause, c.share));
        let cause = best.0;
        let also = facts.also(cause);
        let at_most = cap(cause, &facts).min(if also.is_some() { CAP_SHARED } else { 1.0 });
        for candidate in &mut considered {
            (candidate.log_odds, candidate.share) =
                (hundredths(candidate.log_odds), hundredths(candidate.share));
        }
        list.sort_by(|a, b| b.weight.abs().total_cmp(&a.weight.abs()));
        // What speaks for or against the chosen cause comes first.
        list.sort_by_key(|e| e.cause != cause);
        list.iter_mut().for_each(|e| e.weight = hundredths(e.weight));
        let edge = &self.seen[index].edge;
        let (low_s, high_s) = self.when(edge);
        // Anywhere in a gap is as likely.
        let unlogged = facts.in_gap && !facts.across && self.trace.unlogged(edge.sample) > 0.0;
        Break {
            at_s: if unlogged { f64::midpoint(low_s, high_s) } else { edge.at.secs() },
            at_bytes: edge.bytes.0,
            low_bytes: edge.low.0,
            high_bytes: edge.high.0,
            from_mb_s: edge.from.mb_s(),
            to_mb_s: edge.to.mb_s(),
            cause,
            confidence: hundredths(best.1.min(at_most)),
            evidence: list,
            candidates: considered,
            at_most,
            also,
            low_s,
            high_s,
        }
    }

    /// Between which times an edge is, seconds: those of its bytes, and all of a gap in which nothing was logged.
    fn when(&self, edge: &Edge) -> (f64, f64) {
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
    fn is_back_after_rest(&self, index: usize) -> bool {
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
    /// others.
    fn same_bytes(&self, index: usize) -> (usize, usize) {
        let own = &self.marks[index];
        let (mut alike, mut unlike, mut last) = (0, 0, None);
        for mark in self.marks.iter().filter(|m| m.writes_within && m.falls) {
            // The first after each rest.
            if last.replace(mark.rested) == Some(mark.rested) || mark.rested == own.rested {
                continue;
            }
            let is_alike = (mark.since as f64 / own.since.max(1) as f64).ln().abs() < SAME_BYTES;
            *(if is_alike { &mut alike } else { &mut unlike }) += 1;
        }
        (alike, unlike)
    }

    /// Highest temperature under load at which the drive was not throttled, outside the break's own stretch behind it.
    fn hottest_unthrottled(&self, index: usize, done: &[Break]) -> Option<Celsius> {
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

    /// Other falls of this run at about the same temperature.
    fn falls_at(&self, index: usize, temp: Option<Celsius>, near: f64) -> usize {
        let Some(temp) = temp else { return 0 };
        let within = || self.seen.iter().zip(&self.marks).enumerate().filter(|(_, (s, _))| !s.across);
        let near_it = |m: &Mark| m.falls && m.temp.is_some_and(|t| (t.0 - temp.0).abs() <= near);
        let count = within().filter(|(j, (_, m))| *j != index && near_it(m)).count();
        let rises = count > 0 && within().any(|(_, (s, _))| s.edge.to.0 > s.edge.from.0);
        if rises { count } else { 0 }
    }

    /// How often the drive fell as soon as it had warmed to one temperature, where break `index` is one of those falls, or one of the returns.
    fn hysteresis(&self, index: usize) -> usize {
        let (own, Some(swing)) = (&self.marks[index], self.swing) else { return 0 };
        let at = |t: f64| own.temp.is_some_and(|own| (own.0 - t).abs() <= swing::SAME_TEMP);
        if (own.climbs && at(swing.hot)) || (!own.falls && at(swing.cool)) { swing.times } else { 0 }
    }

    /// A share of the drive, bytes; of the addresses that were visited, where its capacity is not known.
    fn reach(&self, share: f64) -> f64 {
        let highest = || self.trace.offset.extent(0, self.trace.len()).map_or(0.0, |e| e.max * 1e6);
        share * self.context.capacity.map_or_else(highest, |c| c.0 as f64).max(1.0)
    }

    /// Other falls of writes at the address of break `index`, from and to about the same rates, where not all of them came after the same bytes since
    /// their last pause: a cache that is full has no address, so that these tell a weak place from it.
    fn here_after_other_bytes(&self, index: usize, near: f64) -> usize {
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
        let here: Vec<u64> =
            self.seen.iter().zip(&self.marks).filter(is_here).map(|(_, m)| m.since).collect();
        let (least, most) = here.iter().fold((u64::MAX, 0), |(a, b), s| (a.min(*s), b.max(*s)));
        if differ(most as f64, least as f64) > OTHER_BYTES { here.len() - 1 } else { 0 }
    }

    /// Other legs that went over the address of a break, and how many of them changed there in the same direction.
    fn passes(&self, index: usize, near: f64) -> (usize, usize) {
        let seen = &self.seen[index];
        let Some(at) = self.marks[index].address else { return (0, 0) };
        let reach = self.reach(near);
        let falls = self.marks[index].falls;
        let at = at.0 as f64;
        // Down at the start of a hollow, up at its end, in the order of addresses.
        let is_edge = |h: &&Hollow| {
            let edge = if falls { h.start_byte } else { h.end_byte };
            h.passes_seen > 1 && (edge as f64 - at).abs() <= reach.min(2.0 * h.edge_bytes as f64 + 1e9)
        };
        if let Some(hollow) = self.hollows.iter().find(is_edge) {
            let others = hollow.passes as usize - 1;
            return (others, (hollow.passes_seen as usize - 1).min(others));
        }
        let covers = |leg: usize| {
            leg != seen.leg && self.legs[leg].is_some_and(|(min, max)| min + reach < at && at + reach < max)
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

impl Facts {
    /// Whether another pass changed at the same address, and that is no cache that was full after the same bytes.
    fn same_place(&self) -> bool {
        self.is_no_cache()
            || self.passes.1 > 0 && (self.op == Op::Read || self.comes_back || self.brings_back)
    }

    /// Whether writes fell at this address again and again after other bytes, as no cache does that is full.
    fn is_no_cache(&self) -> bool {
        self.here_after_other_bytes >= AGAIN
    }

    /// Whether heat shows by readings of its own: a counter that begins to tick, or a temperature that rose to the limit.
    fn shows_heat(&self) -> bool {
        let at_limit = self.temp.zip(self.limit).is_some_and(|(t, limit)| limit.0 - t.0 <= 2.0);
        self.falls
            && (self.throttle_begins == Some(true)
                || (at_limit && self.rise_before.is_some_and(|rise| rise >= 0.5)))
    }

    /// How far what others moved accounts for the change, 0 to 1. Others mostly cost more than they move, so that it is 1 where nothing else shows.
    fn others_part(&self) -> f64 {
        match self.foreign {
            Some(moved) if self.shows_heat() && !rows::stolen(self) => {
                (moved.0.abs() / (ALL_OF_IT * self.change.0).max(1.0)).min(1.0)
            }
            _ => 1.0,
        }
    }

    /// Another cause that readings of its own show at the same change, which cannot be told apart from `cause`.
    fn also(&self, cause: Cause) -> Option<Cause> {
        let others = (rows::others_moved(self) || rows::stolen(self)).then_some(Cause::Interference);
        let heat = self.shows_heat().then_some(Cause::ThermalThrottle);
        let cache = (self.same_bytes.0 > 0 && self.first_fall).then_some(Cause::CacheExhausted);
        let all = [heat, others, cache];
        // Where others moved as much as was lost, nothing is left for another cause.
        let enough = others.is_some() && self.others_part() >= 1.0;
        if !self.falls || enough || !all.contains(&Some(cause)) {
            return None;
        }
        all.into_iter().flatten().find(|c| *c != cause)
    }

    fn near_critical(&self, t: Celsius) -> bool {
        self.critical.is_some_and(|c| c.0 - t.0 <= BELOW_CRITICAL_C)
    }
}

/// How sure a cause can be with what was logged.
fn cap(cause: Cause, facts: &Facts) -> f64 {
    match (facts.throttle_begins, facts.temp, facts.limit) {
        // These are seen by their own readings, whatever is known of heat.
        _ if matches!(cause, Cause::Workload | Cause::OtherSide | Cause::OtherSideEnd) => 0.99,
        _ if matches!(cause, Cause::Interference | Cause::InterferenceEnd | Cause::Surface) => 0.99,
        _ if matches!(cause, Cause::Stall | Cause::StallEnd) => 0.99,
        (Some(_), _, _) => 0.99,
        // A further stage of the cache and a full drive look alike where neither is known.
        _ if cause == Cause::CacheExhausted
            && !facts.first_fall
            && facts.fill.is_none()
            && facts.capacity.is_none() =>
        {
            CAP_NO_FILL
        }
        (None, Some(_), Some(_)) => 0.98,
        (None, Some(_), None) => CAP_NO_LIMIT,
        (None, None, _) => CAP_BLIND,
    }
}
