//! Why a break happened: facts about it, evidence for and against each cause, and a confidence.
//!
//! Each fact adds to the logarithm of the odds of a cause against "unexplained"; the confidence is the share that the
//! winner takes of all of them. Weights are judgements of how much more often a fact is seen with the cause than
//! without it (3 is twenty times), not fitted values. Where the readings that would decide are missing, the
//! confidence is capped.

use crate::findings::{Break, Cause, Context, Evidence, NextStep};
use crate::plateaus::Edge;
use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Celsius, Nanos, Rate, number};

/// Seconds looked at on each side of a break: several updates of a slow sensor, and short against a heat-up.
const WINDOW_S: f64 = 30.0;
/// Degrees below a limit within which a reading counts as at it: whole-degree steps and the lag of a sensor.
const AT_LIMIT_C: f64 = 3.0;
/// Degrees below a limit from which a reading is well clear of it.
const CLEAR_C: f64 = 6.0;
/// Share of the rate before below which the drive stands still. A guess: the slowest flash behind a cache keeps several
/// percent of its rate.
const STANDSTILL: f64 = 0.01;
/// Share of processor time from which its theft slows a run: one processor of ten.
const STOLEN: f64 = 0.1;
/// Highest confidence without a temperature or a throttle counter.
const CAP_BLIND: f64 = 0.6;
/// Highest confidence with a temperature, but without a limit to hold it against and without counters.
const CAP_NO_LIMIT: f64 = 0.8;

/// Bytes moved by the end of the last rest before sample `before`, 0 where there was none.
pub fn written_at_last_rest(trace: &Trace, before: usize) -> Bytes {
    let rest = trace.legs().iter().rev().find(|leg| leg.op == Op::Idle && leg.samples.end <= before);
    rest.map_or(Bytes(0), |leg| trace.moved(leg.samples.end))
}

/// What is known about a break.
struct Facts {
    write: bool,
    falls: bool,
    first_fall: bool,
    came_back: bool,
    stands_still: bool,
    since_rest: Bytes,
    temp: Option<Celsius>,
    limit: Option<Celsius>,
    rise_before: Option<f64>,
    change_after: Option<f64>,
    throttle_begins: Option<bool>,
    throttle_ends: Option<bool>,
    throttled_before: bool,
    stays: Option<bool>,
    /// How much more others moved behind the break than before it.
    foreign: Option<Rate>,
    /// How much more processor time was stolen, share of all of it.
    steal: Option<f64>,
    /// By how much the rate changed.
    change: Rate,
}

impl Facts {
    fn gather(
        trace: &Trace,
        context: &Context,
        leg: &TraceLeg,
        edge: &Edge,
        earlier: &[&Edge],
        until: usize,
    ) -> Self {
        let window = Nanos::from_secs(WINDOW_S);
        let before = trace.index_at_time(edge.at.since(window)).max(leg.samples.start);
        let after =
            trace.index_at_time(edge.at.plus(window)).min(until.max(edge.sample + 1)).min(trace.len());
        let mean = |from: usize, to: usize| trace.temp.extent(from, to).map(|e| e.mean);
        let at = edge.sample.min(trace.len().saturating_sub(1));
        let five = Nanos::from_secs(5.0);
        let near =
            trace.index_at_time(edge.at.since(five))..trace.index_at_time(edge.at.plus(five)).max(at + 1);
        let temp = trace.temp.extent(near.start, near.end).map(|e| e.max);
        let early = mean(before, (before + (at - before.min(at)) / 4).max(before + 1));
        let late_from = after - (after - at.min(after)) / 4;
        let late = mean(late_from.min(after.saturating_sub(1)), after);
        let falls = edge.to.0 < edge.from.0;
        // Counters are whole seconds and read about once a second.
        let ticks = |from: usize, to: usize| -> Option<f64> {
            let (a, b) = (trace.throttled(from)?, trace.throttled(to)?);
            let seconds = trace.end(to).since(trace.end(from)).secs();
            (seconds >= 2.0).then(|| ((b.light_s - a.light_s) + (b.heavy_s - a.heavy_s)) / seconds)
        };
        let second = Nanos::from_secs(2.0);
        let settled = trace.index_at_time(edge.at.since(second)).max(before);
        let ticks_before = ticks(before, settled);
        let ticks_after = ticks(at, after.saturating_sub(1));
        let rest = written_at_last_rest(trace, leg.samples.start);
        let enough_behind = trace.end(trace.len().saturating_sub(1)).since(edge.at) >= window;
        Self {
            write: leg.op == Op::Write,
            falls,
            stands_still: edge.to.0 < STANDSTILL * edge.from.0,
            came_back: earlier.iter().any(|e| e.to.0 > e.from.0),
            first_fall: !earlier.iter().any(|e| e.to.0 < e.from.0),
            since_rest: Bytes(edge.bytes.0.saturating_sub(rest.0)),
            temp: temp.map(Celsius),
            limit: context.warn.or(context.critical),
            rise_before: early.zip(mean(at.saturating_sub(2), at + 1)).map(|(a, b)| b - a),
            change_after: late.filter(|_| after > at + 4).zip(temp).map(|(l, t)| l - t),
            throttle_begins: ticks_before.zip(ticks_after).map(|(b, a)| a > b + 0.3),
            throttle_ends: ticks_before.zip(ticks_after).map(|(b, a)| b > a + 0.3),
            throttled_before: ticks_before.is_some_and(|b| b > 0.3),
            stays: enough_behind.then_some(until >= leg.samples.end || after < until),
            foreign: trace.foreign.extent(at, after).map(|e| {
                let already = trace.foreign.extent(before, at).map_or(0.0, |b| b.mean);
                Rate((e.mean - already) * 1e6)
            }),
            steal: trace.steal.extent(at, after).map(|e| {
                let already = trace.steal.extent(before, at).map_or(0.0, |b| b.mean);
                e.mean - already
            }),
            change: Rate((edge.from.0 - edge.to.0).abs()),
        }
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

/// Attributes one edge of a leg to a cause. `earlier` are the edges before it in the leg; `until` is the sample at
/// which the stretch behind it ends, or the number of samples so far while a run is live.
pub fn attribute(
    trace: &Trace,
    context: &Context,
    leg: &TraceLeg,
    edge: &Edge,
    earlier: &[&Edge],
    until: usize,
) -> Break {
    let facts = Facts::gather(trace, context, leg, edge, earlier, until);
    let mut list = Vec::new();
    let mut candidates = vec![Cause::Unexplained];
    if facts.falls {
        candidates.extend([Cause::ThermalThrottle, Cause::Interference]);
        throttle(&facts, &mut list);
        if facts.write {
            candidates.push(Cause::CacheExhausted);
            cache(&facts, &mut list);
        }
    } else {
        candidates.extend([Cause::ThermalRelease, Cause::InterferenceEnd]);
        release(&facts, &mut list);
    }
    others(&facts, &mut list);
    let odds = |cause: Cause| {
        let sum: f64 = list.iter().filter(|w| w.evidence.cause == cause).map(|w| w.weight).sum();
        (sum + unseen(cause, &facts)).exp()
    };
    let total: f64 = candidates.iter().map(|&c| odds(c)).sum();
    let cause =
        candidates.iter().copied().max_by(|&a, &b| odds(a).total_cmp(&odds(b))).unwrap_or(Cause::Unexplained);
    let cap = match (facts.throttle_begins, facts.temp, facts.limit) {
        // Others are seen by their own readings, whatever is known of heat.
        _ if matches!(cause, Cause::Interference | Cause::InterferenceEnd) => 0.95,
        (Some(_), _, _) => 0.99,
        (None, Some(_), Some(_)) => 0.95,
        (None, Some(_), None) => CAP_NO_LIMIT,
        (None, None, _) => CAP_BLIND,
    };
    let confidence = (odds(cause) / total).min(cap);
    list.sort_by(|a, b| b.weight.abs().total_cmp(&a.weight.abs()));
    // What speaks for or against the chosen cause comes first.
    list.sort_by_key(|w| w.evidence.cause != cause);
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

fn cache(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::CacheExhausted as C;
    if facts.first_fall {
        weigh(
            list,
            C,
            1.5,
            format!("first fall of this leg, {} after the drive was last at rest", facts.since_rest),
        );
    } else {
        weigh(list, C, -0.5, "the rate had fallen before in this leg without a rest between");
    }
    if facts.stands_still {
        weigh(list, C, -3.0, "the drive came to a standstill, which a full cache does not explain");
    }
    if facts.came_back {
        weigh(list, C, -2.0, "the rate had come back before in this leg, which a cache does at rest");
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            weigh(list, C, 2.0, format!("{t} at the break, {:.0} °C below the warning limit", limit.0 - t.0));
        }
        (Some(t), Some(limit)) if limit.0 - t.0 <= AT_LIMIT_C => {
            weigh(list, C, -1.5, format!("{t} at the break, at the warning limit of {limit}"));
        }
        _ => {}
    }
    match facts.throttle_begins {
        Some(false) => weigh(list, C, 1.5, "no throttle counter began to tick"),
        Some(true) => weigh(list, C, -3.0, "a throttle counter began to tick"),
        None => {}
    }
    match facts.stays {
        Some(true) => weigh(list, C, 1.0, format!("the rate stayed down for at least {WINDOW_S:.0} s")),
        Some(false) => weigh(list, C, -1.0, format!("the rate changed again within {WINDOW_S:.0} s")),
        None => {}
    }
}

fn throttle(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::ThermalThrottle as T;
    match facts.throttle_begins {
        Some(true) => weigh(list, T, 4.0, "a throttle counter began to tick at the break"),
        Some(false) if facts.throttled_before => {
            weigh(list, T, -1.0, "the throttle counters ticked as before")
        }
        Some(false) => weigh(list, T, -3.0, "no throttle counter ticked"),
        None => {}
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 <= AT_LIMIT_C => {
            weigh(list, T, 2.0, format!("{t} at the break, at the warning limit of {limit}"));
        }
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            weigh(
                list,
                T,
                -3.0,
                format!("{t} at the break, {:.0} °C below the warning limit", limit.0 - t.0),
            );
        }
        (None, _) => weigh(list, T, -1.5, "no temperature was read"),
        _ => {}
    }
    match facts.rise_before {
        Some(rise) if rise >= 0.5 => {
            weigh(
                list,
                T,
                0.7,
                format!("the temperature was rising, {rise:.1} °C in the {WINDOW_S:.0} s before"),
            );
        }
        Some(rise) if rise < -0.5 => weigh(list, T, -1.5, "the temperature was falling before the break"),
        _ => {}
    }
    match facts.change_after {
        Some(change) if change <= 0.0 => weigh(list, T, 1.0, "the temperature stopped rising at the break"),
        Some(change) if change >= 1.5 => {
            weigh(
                list,
                T,
                -1.5,
                format!("the temperature went on rising, {change:.1} °C in the {WINDOW_S:.0} s behind"),
            );
        }
        _ => {}
    }
}

fn release(facts: &Facts, list: &mut Vec<Weighed>) {
    use Cause::ThermalRelease as R;
    match facts.throttle_ends {
        Some(true) => weigh(list, R, 4.0, "the throttle counters stopped ticking at the break"),
        Some(false) => weigh(list, R, -3.0, "no throttle counter stopped ticking"),
        None => {}
    }
    match facts.rise_before {
        Some(rise) if rise <= -0.5 => {
            weigh(
                list,
                R,
                1.5,
                format!("the temperature was falling, {:.1} °C in the {WINDOW_S:.0} s before", -rise),
            );
        }
        Some(_) => weigh(list, R, -1.0, "the temperature was not falling"),
        None => weigh(list, R, -1.5, "no temperature was read"),
    }
}

/// What others on the drive and on the host did at the break.
fn others(facts: &Facts, list: &mut Vec<Weighed>) {
    let (cause, sign, more) =
        if facts.falls { (Cause::Interference, 1.0, "more") } else { (Cause::InterferenceEnd, -1.0, "less") };
    let foreign = facts.foreign.map(|r| sign * r.0);
    let steal = facts.steal.map(|s| sign * s);
    let by_foreign = foreign.filter(|rate| *rate > 0.3 * facts.change.0);
    let by_steal = steal.filter(|share| *share > STOLEN);
    if let Some(rate) = by_foreign {
        let weight = if rate > 0.7 * facts.change.0 { 4.5 } else { 3.0 };
        let rate = number(rate / 1e6);
        let text = format!("others moved {rate} MB/s {more} on the drive behind the break than before");
        weigh(list, cause, weight, text);
    }
    if let Some(share) = by_steal {
        let share = 100.0 * share;
        weigh(list, cause, 4.0, format!("{share:.0} % {more} processor time was stolen from the host"));
    }
    if by_foreign.is_some() || by_steal.is_some() {
        if facts.falls && facts.write {
            let text = "others began at the break, which accounts for the fall without the cache";
            weigh(list, Cause::CacheExhausted, -2.5, text);
        }
        return;
    }
    if foreign.is_some() {
        weigh(list, cause, -3.0, format!("others on the drive moved hardly {more} than before"));
    }
    if steal.is_some() {
        weigh(list, cause, -1.0, format!("hardly {more} processor time was stolen than before"));
    }
}

/// Log-odds of a cause before anything is known of it: that others began just then is rare where nobody saw them.
fn unseen(cause: Cause, facts: &Facts) -> f64 {
    match cause {
        Cause::Interference | Cause::InterferenceEnd if facts.foreign.is_none() && facts.steal.is_none() => {
            -2.0
        }
        _ => 0.0,
    }
}

/// The cheapest run that would make the least sure break surer; `None` where every break is at least 0.8 sure.
pub fn next_step(trace: &Trace, context: &Context, breaks: &[Break]) -> Option<NextStep> {
    let doubtful = breaks
        .iter()
        .filter(|b| b.confidence < 0.8 || b.cause == Cause::Unexplained)
        .min_by(|a, b| a.confidence.total_cmp(&b.confidence))?;
    let leg = trace.leg_at(trace.index_at_time(Nanos::from_secs(doubtful.at_s)))?;
    let begin = trace.moved(leg.samples.start).0;
    let again = ((doubtful.at_bytes.saturating_sub(begin)) as f64 * 1.5 / 1e9).ceil().max(1.0);
    let start = trace.temp.extent(0, trace.len()).map(|e| e.min);
    let mut text = format!(
        "The break at {} is {} with {:.2}. Let the drive rest and write as much again: a break at the same number of bytes is the cache, one at the same temperature is heat.",
        Bytes(doubtful.at_bytes),
        doubtful.cause.words(),
        doubtful.confidence
    );
    if start.is_none() {
        text.push_str(
            " Log the drive's temperature with it: without one, heat cannot be told from a full cache.",
        );
    } else if context.warn.is_none() {
        text.push_str(" Give its warning temperature too (--warn).");
    }
    let rest = match start {
        Some(c) => format!("rest until temperature below {:.0} °C, at most 30 min", c + 3.0),
        None => "rest for 10 min".to_owned(),
    };
    let course = format!(
        "course \"tell heat from cache\"\nsample every 250 ms\n\nleg rest\n  {rest}\n\nleg again\n  write sequential, blocks 1 MiB, depth 16\n  over 0 % to 100 %\n  until {again:.0} GB written\n"
    );
    Some(NextStep { text, course: Some(course) })
}
