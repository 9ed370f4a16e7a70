//! Why a break happened: facts about it, evidence for and against each cause, and a confidence.
//!
//! Each fact adds to the logarithm of the odds of a cause against "unexplained"; the confidence is the share that the
//! winner takes of all of them. Weights say how much more often a fact is seen with the cause than without it (3 is twenty
//! times), by what drives physically do; `docs/accuracy.md` shows how well the confidences that come of them hold. Where the
//! readings that would decide are missing, the confidence is capped.

mod facts;

use crate::findings::{Break, Cause, Context, Evidence};
use crate::plateaus::Edge;
use crate::sample::Op;
use crate::trace::Trace;
use crate::units::{Bytes, Celsius, number};
pub(crate) use facts::address;
use facts::{Facts, WINDOW_S};

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
/// Highest confidence without a temperature or a throttle counter.
const CAP_BLIND: f64 = 0.75;
/// What all weights are multiplied by, so that confidences are right as often as they say (docs/accuracy.md).
const SHARPNESS: f64 = 1.3;
/// Highest confidence of a further stage of a cache where nobody knows how full the drive is.
const CAP_NO_FILL: f64 = 0.8;
/// Highest confidence with a temperature, but without a limit to hold it against and without counters.
const CAP_NO_LIMIT: f64 = 0.95;

/// Bytes moved by the end of the last rest before sample `before`, 0 where there was none.
pub fn written_at_last_rest(trace: &Trace, before: usize) -> Bytes {
    let rest = trace.legs().iter().rev().find(|leg| leg.op == Op::Idle && leg.samples.end <= before);
    rest.map_or(Bytes(0), |leg| trace.moved(leg.samples.end))
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
#[derive(Clone, Copy, Debug)]
pub struct Scene<'a> {
    /// The run.
    pub trace: &'a Trace,
    /// What is known beside it.
    pub context: &'a Context,
    /// The breaks, in the order of time.
    pub seen: &'a [Seen],
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
        let mut consider = |cause: Cause, list: &mut Vec<Weighed>, weigh: fn(&Facts, &mut Vec<Weighed>)| {
            candidates.push(cause);
            weigh(&facts, list);
        };
        if facts.across {
            match facts.pause {
                Some(Op::Idle | Op::Read) if !facts.falls => {
                    consider(Cause::CacheRecovered, &mut list, recovered);
                    consider(Cause::ThermalRelease, &mut list, release);
                }
                _ => consider(Cause::Workload, &mut list, workload),
            }
        } else {
            if facts.waited.is_some() {
                consider(
                    if facts.falls { Cause::OtherSide } else { Cause::OtherSideEnd },
                    &mut list,
                    other_side,
                );
            }
            if facts.stall.is_some() {
                consider(if facts.falls { Cause::Stall } else { Cause::StallEnd }, &mut list, stall);
            }
            if facts.falls {
                consider(Cause::ThermalThrottle, &mut list, throttle);
                consider(Cause::Interference, &mut list, others);
                if facts.op == Op::Write {
                    consider(Cause::CacheExhausted, &mut list, cache);
                    if facts.fill.is_some() || facts.capacity.is_some() {
                        consider(Cause::FillLevel, &mut list, fill);
                    }
                }
            } else {
                consider(Cause::ThermalRelease, &mut list, release);
                consider(Cause::InterferenceEnd, &mut list, others);
            }
            if facts.address.is_some() {
                consider(Cause::Surface, &mut list, surface);
            }
        }
        let odds = |cause: Cause| -> f64 {
            let sum: f64 = list.iter().filter(|w| w.evidence.cause == cause).map(|w| w.weight).sum();
            (SHARPNESS * sum).exp()
        };
        let total: f64 = candidates.iter().map(|&c| odds(c)).sum();
        let cause = candidates
            .iter()
            .copied()
            .max_by(|&a, &b| odds(a).total_cmp(&odds(b)))
            .unwrap_or(Cause::Unexplained);
        let confidence = (odds(cause) / total).min(cap(cause, &facts));
        // A prior is a weight without a word.
        list.retain(|w| !w.evidence.text.is_empty());
        list.sort_by(|a, b| b.weight.abs().total_cmp(&a.weight.abs()));
        // What speaks for or against the chosen cause comes first.
        list.sort_by_key(|w| w.evidence.cause != cause);
        let edge = &self.seen[index].edge;
        Break {
            at_s: edge.at.secs(),
            at_bytes: edge.bytes.0,
            low_bytes: edge.low.0,
            high_bytes: edge.high.0,
            from_mb_s: edge.from.mb_s(),
            to_mb_s: edge.to.mb_s(),
            cause,
            confidence: (confidence * 100.0).round() / 100.0,
            evidence: list.into_iter().map(|w| w.evidence).collect(),
        }
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
        let falls = |s: &&Seen| !s.across && s.edge.to.0 < s.edge.from.0;
        let rises = self.seen.iter().any(|s| !s.across && s.edge.to.0 > s.edge.from.0);
        let others = self.seen.iter().enumerate().filter(|(j, _)| *j != index).map(|(_, s)| s);
        let at = |s: &Seen| facts::temp_at(self.trace, &s.edge, s);
        let count =
            others.filter(falls).filter(|s| at(s).is_some_and(|t| (t.0 - temp.0).abs() <= near)).count();
        if rises { count } else { 0 }
    }

    /// Other legs that went over the address of a break, and how many of them changed there in the same direction.
    fn passes(&self, index: usize, near: f64) -> (usize, usize) {
        let seen = &self.seen[index];
        let trace = self.trace;
        let Some(at) = facts::address(trace, seen.edge.sample.min(trace.len().saturating_sub(1))) else {
            return (0, 0);
        };
        let highest = trace.offset.extent(0, trace.len()).map_or(0.0, |e| e.max * 1e6);
        let reach = near * self.context.capacity.map_or(highest, |c| c.0 as f64).max(1.0);
        let falls = seen.edge.to.0 < seen.edge.from.0;
        let (mut over, mut alike) = (0, 0);
        for (i, leg) in trace.legs().iter().enumerate() {
            if i == seen.leg || leg.op == Op::Idle {
                continue;
            }
            let range = trace.offset.extent(leg.samples.start, leg.samples.end);
            let covers =
                range.is_some_and(|e| e.min * 1e6 + reach < at.0 as f64 && at.0 as f64 + reach < e.max * 1e6);
            if !covers {
                continue;
            }
            over += 1;
            let here = |s: &&Seen| {
                s.leg == i
                    && !s.across
                    && (s.edge.to.0 < s.edge.from.0) == falls
                    && facts::address(trace, s.edge.sample)
                        .is_some_and(|a| (a.0 as f64 - at.0 as f64).abs() <= reach)
            };
            alike += usize::from(self.seen.iter().any(|s| here(&s)));
        }
        (over, alike)
    }
}

impl Facts {
    /// Whether another pass changed at the same address, and that is no cache that was full after the same bytes.
    fn same_place(&self) -> bool {
        self.passes.1 > 0 && (self.op == Op::Read || self.comes_back || self.brings_back)
    }

    fn near_critical(&self, t: Celsius) -> bool {
        self.critical.is_some_and(|c| c.0 - t.0 <= BELOW_CRITICAL_C)
    }
}

/// How sure a cause can be with what was logged.
fn cap(cause: Cause, facts: &Facts) -> f64 {
    match (facts.throttle_begins, facts.temp, facts.limit) {
        // These are seen by their own readings, whatever is known of heat.
        _ if matches!(cause, Cause::Workload | Cause::OtherSide | Cause::OtherSideEnd) => 0.98,
        _ if matches!(cause, Cause::Interference | Cause::InterferenceEnd | Cause::Surface) => 0.97,
        _ if matches!(cause, Cause::Stall | Cause::StallEnd) => 0.97,
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

/// Evidence with the log-odds it adds to its cause.
struct Weighed {
    weight: f64,
    evidence: Evidence,
}

fn weigh(list: &mut Vec<Weighed>, cause: Cause, weight: f64, text: impl Into<String>) {
    list.push(Weighed { weight, evidence: Evidence { supports: weight > 0.0, cause, text: text.into() } });
}

fn cache(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::CacheExhausted as C;
    if facts.first_fall {
        let text = format!("first fall of this leg, {} after the drive was last at rest", facts.since_rest);
        weigh(list, C, 1.7, text);
    } else if facts.undone.is_none() {
        weigh(list, C, 0.3, "a further fall without a rest between, as a cache of several stages has");
    }
    if facts.stands_still {
        weigh(list, C, -3.0, "the drive came to a standstill, which a full cache does not explain");
    }
    if facts.came_back {
        weigh(list, C, -2.0, "the rate had come back before in this leg, which a cache does at rest");
    }
    if facts.comes_back {
        weigh(list, C, -2.0, "the rate comes back in the same leg, without a rest");
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            weigh(list, C, 1.0, format!("{t} at the break, {:.0} °C below the warning limit", limit.0 - t.0));
        }
        (Some(t), Some(limit)) if limit.0 - t.0 <= AT_LIMIT_C => {
            weigh(list, C, -1.5, format!("{t} at the break, at the warning limit of {limit}"));
        }
        (Some(t), None) if facts.near_critical(t) => {
            weigh(list, C, -1.0, format!("{t} at the break, not far below what is critical"));
        }
        (Some(t), None) if t.0 < COOL_C => {
            weigh(list, C, 1.0, format!("{t} at the break, cooler than drives throttle"));
        }
        (Some(t), None) if t.0 >= HOT_C => {
            weigh(list, C, -1.2, format!("{t} at the break, as warm as drives throttle at"));
        }
        _ => {}
    }
    match facts.throttle_begins {
        Some(false) => weigh(list, C, 1.0, "no throttle counter began to tick"),
        Some(true) => weigh(list, C, -3.0, "a throttle counter began to tick"),
        None => {}
    }
    match facts.stays {
        Some(true) => weigh(list, C, 1.0, format!("the rate stayed down for at least {WINDOW_S:.0} s")),
        Some(false) => weigh(list, C, -1.0, format!("the rate changed again within {WINDOW_S:.0} s")),
        None => {}
    }
    if let Some(share) = cache_share(facts).filter(|s| *s > LARGEST_CACHE) {
        let text = format!(
            "{:.0} % of the drive were written by then, more than a cache of single-bit cells can take",
            100.0 * share
        );
        weigh(list, C, if facts.first_fall { -3.5 } else { -1.0 }, text);
    }
    if others_moved(facts) || stolen(facts) {
        let text = "others began at the break, which accounts for the fall without the cache";
        weigh(list, C, -3.0, text);
    }
    if facts.same_place() {
        weigh(list, C, -3.0, "another pass slowed at the same address");
    }
}

/// Share of the drive written since it was last at rest.
fn cache_share(facts: &Facts) -> Option<f64> {
    facts.capacity.map(|c| facts.since_rest.0 as f64 / c.0.max(1) as f64)
}

fn fill(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::FillLevel as F;
    weigh(list, F, -2.0, "");
    if let Some(fill) = facts.fill {
        if fill >= 0.5 {
            weigh(
                list,
                F,
                if fill >= 0.68 { 2.0 } else { 0.3 },
                format!("{:.0} % of the drive were in use", 100.0 * fill),
            );
        } else {
            weigh(list, F, -2.0, format!("only {:.0} % of the drive were in use", 100.0 * fill));
        }
    }
    if let Some(share) = cache_share(facts).filter(|s| *s > LARGEST_CACHE) {
        weigh(list, F, 2.0, format!("after {:.0} % of the drive, no cache is as large", 100.0 * share));
        if !facts.first_fall {
            weigh(list, F, 1.0, "the write cache had been exhausted before");
        }
    }
    if facts.comes_back {
        weigh(list, F, -2.0, "the rate comes back though the drive gets no emptier");
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            weigh(list, F, 0.8, format!("{t}, well below the warning limit"))
        }
        (Some(t), None) if t.0 < COOL_C => weigh(list, F, 0.8, format!("{t}, cooler than drives throttle")),
        _ => {}
    }
    if facts.throttle_begins == Some(false) {
        weigh(list, F, 0.8, "no throttle counter began to tick");
    }
    hot_or_ticking(facts, list, F);
}

/// What heat explains needs no other cause.
fn hot_or_ticking(facts: &Facts, list: &mut Vec<Weighed>, cause: Cause) {
    if facts.throttle_begins == Some(true) {
        weigh(list, cause, -3.0, "a throttle counter began to tick");
    }
    if others_moved(facts) || stolen(facts) {
        weigh(list, cause, -2.5, "others began or ended at the break");
    }
}

fn throttle(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::ThermalThrottle as T;
    match facts.throttle_begins {
        Some(true) => weigh(list, T, 4.5, "a throttle counter began to tick at the break"),
        Some(false) if facts.throttled_before => {
            weigh(list, T, -1.0, "the throttle counters ticked as before")
        }
        Some(false) => weigh(list, T, -3.5, "no throttle counter ticked"),
        None => {}
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 <= AT_LIMIT_C => {
            weigh(list, T, 2.5, format!("{t} at the break, at the warning limit of {limit}"));
        }
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            let text = format!("{t} at the break, {:.0} °C below the warning limit", limit.0 - t.0);
            weigh(list, T, -3.5, text);
        }
        (Some(t), None) if facts.near_critical(t) => {
            let critical = facts.critical.unwrap_or_default();
            weigh(
                list,
                T,
                1.5,
                format!("{t} at the break, {:.0} °C below what is critical", critical.0 - t.0),
            );
        }
        (Some(t), None) if t.0 >= HOT_C => {
            weigh(
                list,
                T,
                2.5,
                format!("{t} at the break, as hot as drives throttle at; its limit is not known"),
            );
        }
        (Some(t), None) if t.0 >= WARM_C => {
            weigh(
                list,
                T,
                1.3,
                format!("{t} at the break, as warm as some throttle at; its limit is not known"),
            );
        }
        (Some(t), None) if t.0 < COOL_C => {
            weigh(
                list,
                T,
                -2.5,
                format!("{t} at the break, cooler than drives throttle; its limit is not known"),
            );
        }
        (None, _) => weigh(list, T, -1.0, "no temperature was read"),
        _ => {}
    }
    match facts.rise_before {
        Some(rise) if rise >= 0.5 => {
            weigh(list, T, 1.0, format!("the temperature was rising, {rise:.1} °C just before"));
        }
        Some(rise) if rise < -0.5 => weigh(list, T, -2.0, "the temperature was falling before the break"),
        _ => {}
    }
    match facts.change_after {
        // What never rose has not stopped.
        Some(change) if change <= 0.0 && facts.rise_before.is_some_and(|r| r >= 0.5) => {
            weigh(list, T, 0.7, "the temperature stopped rising at the break");
        }
        Some(change) if change >= 1.5 => {
            weigh(list, T, -1.5, format!("the temperature went on rising, {change:.1} °C soon behind"));
        }
        _ => {}
    }
    let clearly = if facts.gradual { 5.0 } else { 2.5 };
    if let (Some(t), Some(hotter)) = (facts.temp, facts.hotter_elsewhere)
        && hotter.0 >= t.0 + clearly
    {
        weigh(list, T, -2.0, format!("{hotter} in the same leg did not slow it any more"));
    }
    match facts.cooled_behind {
        Some(by) if by >= RELEASES_C => {
            let text = format!("it cooled by {by:.0} °C behind the break, and the rate did not come back");
            weigh(list, T, if by >= 2.0 * RELEASES_C { -2.5 } else { -1.5 }, text);
        }
        Some(by) if by.abs() <= 3.0 && facts.temp.is_some_and(|t| t.0 >= WARM_C) => {
            weigh(list, T, 1.0, "the temperature was held there while the rate was down");
        }
        _ => {}
    }
    if facts.same_temp > 0 {
        weigh(list, T, 1.5, "it fell at the same temperature again");
    }
    if facts.same_place() {
        weigh(list, T, -3.0, "another pass slowed at the same address");
    }
    if others_moved(facts) || stolen(facts) {
        weigh(list, T, -2.0, "others began at the break");
    }
    if facts.stands_still {
        weigh(list, T, -1.5, "the drive came to a standstill");
    }
}

fn release(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::ThermalRelease as R;
    match facts.throttle_ends {
        Some(true) => weigh(list, R, 4.0, "the throttle counters stopped ticking at the break"),
        Some(false) if !facts.across => weigh(list, R, -3.5, "no throttle counter stopped ticking"),
        _ => {}
    }
    match facts.undone {
        Some((Cause::ThermalThrottle, sure)) => {
            weigh(list, R, 3.0 * sure, "the fall that it undoes was put down to heat");
        }
        Some((Cause::Unexplained, _)) | None => {}
        Some(_) => weigh(list, R, -1.5, "the fall that it undoes had another cause"),
    }
    match (facts.temp, facts.temp_at_fall) {
        (Some(now), Some(then)) if now.0 <= then.0 - 1.5 => {
            weigh(list, R, 1.3, format!("{now}, {:.0} °C cooler than when it fell", then.0 - now.0));
        }
        (Some(now), Some(then)) if now.0 >= then.0 => {
            weigh(list, R, -2.0, format!("{now}, no cooler than when it fell"));
        }
        _ => {}
    }
    match facts.rise_before {
        Some(rise) if rise <= -0.5 => {
            weigh(list, R, 1.0, format!("the temperature was falling, {:.1} °C just before", -rise));
        }
        Some(rise) if rise >= 0.5 => weigh(list, R, -1.5, "the temperature was rising"),
        Some(_) => {}
        None => weigh(list, R, -1.5, "no temperature was read"),
    }
    if facts.same_place() {
        weigh(list, R, -3.0, "another pass changed at the same address");
    }
    if others_moved(facts) || stolen(facts) {
        weigh(list, R, -2.0, "others ended at the break");
    }
}

fn recovered(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::CacheRecovered as C;
    let pause = if facts.pause == Some(Op::Idle) { "a rest" } else { "a leg of reads" };
    match facts.undone {
        Some((Cause::CacheExhausted, _)) => {
            weigh(list, C, 3.5, format!("the write cache had been exhausted, and {pause} came between"));
        }
        Some((Cause::ThermalThrottle, sure)) => {
            weigh(list, C, -2.5 * sure, "it had been slowed by heat before");
        }
        _ => weigh(list, C, 1.0, format!("the rate is higher after {pause}")),
    }
}

fn workload(facts: &Facts, list: &mut Vec<Weighed>) {
    weigh(list, Cause::Workload, 3.5, "the next leg of the course began here");
    if facts.in_gap {
        weigh(list, Cause::Workload, -1.0, "the log has a gap there");
    }
}

/// The tie to the address.
fn surface(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::Surface as S;
    weigh(list, S, -1.5, "");
    match facts.passes {
        (over, 0) if over > 0 => {
            weigh(list, S, -2.5, "another pass over the same address did not change there");
        }
        (over, alike) if alike > 0 => {
            let at = facts.address.unwrap_or_default();
            // A cache is exhausted after the same bytes, and so at the same address, each time; a weak place is left again.
            let left_again = facts.op == Op::Read || facts.comes_back || facts.brings_back;
            let text = format!("{alike} of {over} other passes changed at the same address, {at}");
            weigh(list, S, if left_again { 5.0 } else { 1.0 }, text);
        }
        _ => {}
    }
    if facts.falls && facts.comes_back {
        weigh(list, S, 2.0, "the rate comes back further on, in the same leg");
    }
    if !facts.falls && facts.brings_back {
        weigh(list, S, 2.0, "the rate is back where it was before the fall");
    }
    if facts.op == Op::Read && facts.falls && facts.sinks && facts.share < 0.25 {
        weigh(
            list,
            S,
            2.5,
            "the rate sinks with the address all along, as from the outer to the inner tracks of a disk",
        );
    }
    if facts.op == Op::Read {
        weigh(list, S, 0.5, "");
    }
    match facts.undone {
        Some((Cause::Surface, sure)) => {
            weigh(list, S, 2.0 * sure, "the fall that it undoes was put down to the surface")
        }
        Some((Cause::ThermalThrottle | Cause::Interference, sure)) => {
            weigh(list, S, -2.0 * sure, "the fall that it undoes had another cause");
        }
        _ => {}
    }
    hot_or_ticking(facts, list, S);
    if facts.throttle_ends == Some(true) {
        weigh(list, S, -3.0, "the throttle counters stopped ticking");
    }
}

/// Waiting longer for the other side that much, as a share of the time, is more than chance.
const WAITS_MORE: f64 = 0.03;

/// A side of a copy that slows down and waits longer is slowed by the other; one that slows down and waits no longer is not.
fn other_side(facts: &Facts, list: &mut Vec<Weighed>) {
    let cause = if facts.falls { Cause::OtherSide } else { Cause::OtherSideEnd };
    let Some((before, behind)) = facts.waited else { return };
    let more = if facts.falls { behind - before } else { before - behind };
    let text = format!(
        "the drive waited {:.0} % of the time for the other side of the copy before, and {:.0} % behind it",
        100.0 * before,
        100.0 * behind
    );
    // A drive that waits is idle, so that a slower pace of its own shows first in its waiting less.
    weigh(list, cause, if more >= WAITS_MORE { 8.0 } else { -6.0 }, text);
}

/// That the drive gave no answer is seen as such, whatever the reason within the drive.
fn stall(facts: &Facts, list: &mut Vec<Weighed>) {
    let cause = if facts.falls { Cause::Stall } else { Cause::StallEnd };
    let Some(seconds) = facts.stall else { return };
    let text = format!("no operation came back for {seconds:.1} s, although the drive was asked");
    weigh(list, cause, 6.0, text);
    if others_moved(facts) || stolen(facts) {
        weigh(list, cause, -4.0, "others had the drive or the processors at that time");
    }
}

fn others_moved(facts: &Facts) -> bool {
    let sign = if facts.falls { 1.0 } else { -1.0 };
    facts.foreign.is_some_and(|r| sign * r.0 > FOREIGN * facts.change.0)
}

fn stolen(facts: &Facts) -> bool {
    let sign = if facts.falls { 1.0 } else { -1.0 };
    facts.steal.is_some_and(|s| sign * s > STOLEN.min(0.5 * facts.share))
}

/// What others on the drive and on the host did at the break.
fn others(facts: &Facts, list: &mut Vec<Weighed>) {
    let (cause, sign, more) =
        if facts.falls { (Cause::Interference, 1.0, "more") } else { (Cause::InterferenceEnd, -1.0, "less") };
    if others_moved(facts) {
        let rate = sign * facts.foreign.unwrap_or_default().0;
        let weight = if rate > 0.5 * facts.change.0 { 5.0 } else { 4.0 };
        let rate = number(rate / 1e6);
        weigh(
            list,
            cause,
            weight,
            format!("others moved {rate} MB/s {more} on the drive behind the break than before"),
        );
    } else if facts.foreign.is_some() {
        weigh(list, cause, -3.0, format!("others on the drive moved hardly {more} than before"));
    }
    if stolen(facts) {
        let share = 100.0 * sign * facts.steal.unwrap_or_default();
        weigh(list, cause, 4.5, format!("{share:.0} % {more} processor time was stolen from the host"));
    } else if facts.steal.is_some() && !others_moved(facts) {
        weigh(list, cause, -1.0, format!("hardly {more} processor time was stolen than before"));
    }
    if facts.foreign.is_none() && facts.steal.is_none() {
        // That others began just then is rare where nobody saw them.
        weigh(list, cause, -2.0, "");
    }
    if let (false, Some((Cause::Interference, sure))) = (facts.falls, facts.undone) {
        weigh(list, cause, sure, "the fall that it undoes was put down to others");
    }
}
