//! Times that are not as the others of a leg: others' I/O on the same drive, processor time stolen from the host, gaps in the log,
//! and stalls, in which the drive itself gave no answer.

use crate::sample::Op;
use crate::stats::{mean_sd, median};
use crate::trace::{Trace, TraceLeg};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::ops::Range;

/// Share of the median rate under load from which others' I/O is interference, and the least that counts, MB/s: what a journal or a log
/// writes now and then is none, unless the drive is so slow that it is a larger share of its rate.
const FOREIGN_SHARE: f64 = 0.05;
const FOREIGN_LEAST: f64 = 2.0;
const FOREIGN_MUCH: f64 = 0.1;
/// Share of all processor time that is stolen.
const STOLEN: f64 = 0.10;
/// An interval so many times longer than the median one of its leg is a gap.
pub(crate) const GAP: f64 = 5.0;
/// Times in which others were at work that are closer than this are one, seconds: they do not rest between two samples. Each gap, and each time without
/// an answer, stands for itself, as what lies between was logged and answered.
const JOINED_S: f64 = 5.0;
/// Shorter ones are left out, seconds.
const LEAST_S: f64 = 1.0;
/// Deviation of the lengths of samples from their median, as a share of it, from which on they do not end by a clock.
const UNEVEN: f64 = 0.05;
/// Most intervals that are listed.
const MOST: usize = 1000;
/// Share of a time without an answer that the slowest operation behind it must have taken. Where the host did not ask, because it kept to
/// a pace or was held up itself, the operation behind it is as quick as any.
const WAITED: f64 = 0.5;

/// A stretch of time in which something else had a hand in it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the format's own names say it")]
pub struct Interference {
    pub start_s: f64,
    pub end_s: f64,
    pub kind: String,
}

/// The intervals, in the order of time; those of different kinds may lie on each other. The legs in `through_host` have no stalls.
pub(crate) fn intervals(trace: &Trace, through_host: &[String]) -> Vec<Interference> {
    let loaded = || trace.legs().iter().filter(|l| l.op != Op::Idle).flat_map(|l| l.samples.clone());
    let some = || loaded().step_by(crate::stats::stride(trace.len()));
    let mut rates: Vec<f64> = some().filter_map(|i| trace.rate.get(i)).collect();
    let Some(rate) = median(&mut rates) else { return Vec::new() };
    let clocks: Vec<(usize, Clock)> =
        trace.legs().iter().map(|leg| (leg.samples.end, Clock::of(trace, leg))).collect();
    let clock = |i: usize| clocks[clocks.partition_point(|c| c.0 <= i).min(clocks.len() - 1)].1;
    let through_host: HashSet<&str> = through_host.iter().map(String::as_str).collect();
    let stalls = stalls_within(trace, 0..trace.len(), |leg| through_host.contains(leg));
    let stalled = |i: usize| {
        let before = stalls.partition_point(|s| s.start <= i);
        before > 0 && stalls[before - 1].contains(&i)
    };
    let busy = (FOREIGN_SHARE * rate).max(FOREIGN_LEAST.min(FOREIGN_MUCH * rate));
    let kinds: [(&str, &dyn Fn(usize) -> bool); 4] = [
        ("foreign-io", &|i| trace.foreign.get(i).is_some_and(|f| f > busy)),
        ("processor-steal", &|i| trace.steal.get(i).is_some_and(|s| s > STOLEN)),
        ("gap", &|i| length(trace, i) > clock(i).longest && !stalled(i)),
        ("stall", &stalled),
    ];
    let mut all: Vec<Interference> = Vec::new();
    for (kind, is) in kinds {
        let mut own: Vec<(f64, f64)> = Vec::new();
        let joined = if matches!(kind, "gap" | "stall") { 0.0 } else { JOINED_S };
        for i in loaded().filter(|i| is(*i)) {
            let (from, to) = (trace.start(i).secs(), trace.end(i).secs());
            match own.last_mut().filter(|last| from - last.1 <= joined) {
                Some(last) => last.1 = to,
                None => own.push((from, to)),
            }
        }
        if kind == "gap" {
            own.extend(unlogged(trace, |i| GAP * clock(i).usual));
            own.sort_by(|a, b| a.0.total_cmp(&b.0));
        }
        let long = own.into_iter().filter(|(a, b)| b - a >= LEAST_S);
        all.extend(long.map(|(start_s, end_s)| Interference { start_s, end_s, kind: kind.to_owned() }));
    }
    all.sort_by(|a, b| a.start_s.total_cmp(&b.start_s));
    all.truncate(MOST);
    all
}

/// How long the samples of a leg are, seconds.
#[derive(Clone, Copy)]
struct Clock {
    /// Their median.
    usual: f64,
    /// The longest that is none with a gap in it.
    longest: f64,
}

impl Clock {
    /// Samples that end with a number of bytes, as those of a scan with its zones, are as long as these take: a long one is slow, and nothing is
    /// missing in it.
    fn of(trace: &Trace, leg: &TraceLeg) -> Self {
        let some = || leg.samples.clone().step_by(crate::stats::stride(leg.samples.len()));
        let middle =
            |of: &dyn Fn(usize) -> f64| median(&mut some().map(of).collect::<Vec<f64>>()).unwrap_or(0.0);
        let usual = middle(&|i| length(trace, i));
        let bytes = |i: usize| (trace.moved(i + 1).0 - trace.moved(i).0) as f64;
        let most = middle(&bytes);
        let by_bytes = most > 0.0
            && middle(&|i| (bytes(i) - most).abs()) == 0.0
            && middle(&|i| (length(trace, i) - usual).abs()) > UNEVEN * usual;
        Self { usual, longest: if by_bytes { f64::INFINITY } else { GAP * usual } }
    }
}

/// Times within legs for which there is no sample, of more than the seconds that are too many there.
fn unlogged(trace: &Trace, least: impl Fn(usize) -> f64) -> impl Iterator<Item = (f64, f64)> {
    let within = trace.legs().iter().filter(|l| l.op != Op::Idle).flat_map(|l| l.samples.clone().skip(1));
    within
        .filter(move |i| trace.unlogged(*i) > least(*i))
        .map(|i| (trace.end(i - 1).secs(), trace.start(i).secs()))
}

/// Seconds that intervals of these kinds cover, those that lie on each other once. They are in the order of their starts.
pub(crate) fn covered(all: &[Interference], kinds: &[&str]) -> f64 {
    let (mut seconds, mut end) = (0.0, f64::NEG_INFINITY);
    for i in all.iter().filter(|i| kinds.contains(&i.kind.as_str())) {
        seconds += (i.end_s - i.start_s.max(end)).max(0.0);
        end = end.max(i.end_s);
    }
    seconds
}

/// The samples in which the drive answered nothing under load for at least a second, although it was asked: the slowest of the
/// operations that come back behind them was out all the while, or none came back at all. Those that begin in a range of samples.
/// None in legs that go through the host, of which it is not known whether the drive was asked: their host may hold back what it was given, and sync it
/// at the end.
pub(crate) fn stalls_within(
    trace: &Trace,
    range: Range<usize>,
    goes_through_host: impl Fn(&str) -> bool,
) -> Vec<Range<usize>> {
    // A drive that tries and gives up has answered.
    let silent = |i: usize| trace.moved(i + 1) == trace.moved(i) && trace.failed_in(&(i..i + 1)) == 0;
    let mut all = Vec::new();
    // Without latencies, nobody knows whether it was asked.
    if trace.latency.slowest.extent(0, trace.len()).is_none() {
        return all;
    }
    let legs = trace.legs();
    let first = legs.partition_point(|l| l.samples.end <= range.start);
    let touched = legs[first..].iter().take_while(|l| l.samples.start < range.end);
    for leg in touched.filter(|l| l.op != Op::Idle && !goes_through_host(&l.name)) {
        let mut at = leg.samples.start.max(range.start);
        while at < leg.samples.end.min(range.end) {
            let from = at;
            while at < leg.samples.end && silent(at) {
                at += 1;
            }
            if at > from {
                let seconds = trace.end(at - 1).secs() - trace.start(from).secs();
                let waited = trace.latency.slowest.get(at).is_some_and(|us| us / 1e6 >= WAITED * seconds);
                // A leg that moves nothing at all was not asked to.
                let was_asked =
                    (from > leg.samples.start || at < leg.samples.end) && (waited || at == leg.samples.end);
                if seconds >= LEAST_S && was_asked {
                    all.push(from..at);
                }
            }
            at += 1;
        }
    }
    all
}

fn length(trace: &Trace, i: usize) -> f64 {
    trace.end(i).secs() - trace.start(i).secs()
}

/// Mean and standard deviation of the rate in a stretch, MB/s, without the times in which something got in the way. `None` where
/// nothing did, or where less than half of the stretch is left.
pub(crate) fn without(trace: &Trace, range: Range<usize>, disturbed: &[Interference]) -> Option<(f64, f64)> {
    let (from, to) = (trace.start(range.start).secs(), trace.end(range.end.checked_sub(1)?).secs());
    let here: Vec<&Interference> = disturbed.iter().filter(|d| d.start_s < to && from < d.end_s).collect();
    if here.is_empty() {
        return None;
    }
    let (mut bytes, mut seconds, mut rates) = (0.0, 0.0, Vec::new());
    for i in range {
        let (a, b) = (trace.start(i).secs(), trace.end(i).secs());
        if here.iter().any(|d| d.start_s < b && a < d.end_s) {
            continue;
        }
        bytes += (trace.moved(i + 1).0 - trace.moved(i).0) as f64;
        seconds += b - a;
        rates.extend(trace.rate.get(i));
    }
    let (_, sd) = mean_sd(&rates).filter(|_| seconds >= 0.5 * (to - from))?;
    Some((bytes / seconds / 1e6, sd))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::{Latency, Sample};
    use crate::units::{Bytes, Nanos, Rate};
    use proptest::prelude::*;

    /// 1,000 MB/s, with others at 300 MB/s from 100 to 110 s that cost as much, and steal from 200 to 204 s.
    fn disturbed() -> Trace {
        let samples: Vec<Sample> = (0..300_u64)
            .map(|i| {
                let others = (100..110).contains(&i);
                let wobble = [0, 2_000_000, 4_000_000][i as usize % 3];
                Sample {
                    start: Nanos(i * 1_000_000_000),
                    end: Nanos((i + 1) * 1_000_000_000),
                    written: Bytes(if others { 700_000_000 } else { 998_000_000 + wobble }),
                    foreign: Some(Rate(if others { 300e6 } else { 0.5e6 })),
                    host: crate::Host {
                        steal: Some(if (200..204).contains(&i) { 0.3 } else { 0.01 }),
                        cpu: None,
                    },
                    ..Sample::default()
                }
            })
            .collect();
        Trace::of(&samples, &["soak".into()])
    }

    #[test]
    fn what_got_in_the_way_is_marked_and_left_out_of_the_plateau() {
        let trace = disturbed();
        let found = intervals(&trace, &[]);
        let kinds: Vec<(&str, f64, f64)> =
            found.iter().map(|i| (i.kind.as_str(), i.start_s, i.end_s)).collect();
        assert_eq!(kinds, [("foreign-io", 100.0, 110.0), ("processor-steal", 200.0, 204.0)]);
        let (mean, sd) = without(&trace, 0..300, &found).unwrap();
        assert!((mean - 1000.0).abs() < 0.1 && sd < 2.0, "{mean} {sd}");
        assert_eq!(without(&trace, 0..90, &found), None, "nothing there to leave out");
        assert_eq!(without(&trace, 95..112, &found), None, "too little is left");
    }

    /// 500 MB/s at 10 samples a second for 30 s; nothing is moved from 10 s on for `silent` seconds, and the slowest operation behind
    /// that took `slowest` seconds.
    fn silent(silent: u64, slowest: f64) -> Trace {
        let samples: Vec<Sample> = (0..300_u64)
            .map(|i| {
                let still = (100..100 + 10 * silent).contains(&i);
                let max = if i == 100 + 10 * silent { slowest } else { 0.01 };
                let l = Nanos::from_secs(max);
                Sample {
                    start: Nanos(i * 100_000_000),
                    end: Nanos((i + 1) * 100_000_000),
                    written: Bytes(if still { 0 } else { 50_000_000 }),
                    latency: (!still).then_some(Latency { p50: l, p99: l, p999: l, max: l }),
                    foreign: Some(Rate(0.0)),
                    ..Sample::default()
                }
            })
            .collect();
        Trace::of(&samples, &["soak".into()])
    }

    #[test]
    fn a_drive_that_gives_no_answer_has_stalled_and_a_host_that_does_not_ask_has_not() {
        let kinds = |trace: &Trace| -> Vec<(String, f64, f64)> {
            intervals(trace, &[]).into_iter().map(|i| (i.kind, i.start_s, i.end_s)).collect()
        };
        assert_eq!(kinds(&silent(5, 5.02)), [("stall".to_owned(), 10.0, 15.0)]);
        // To the end of what was logged: nothing came back.
        assert_eq!(kinds(&silent(20, 0.0)), [("stall".to_owned(), 10.0, 30.0)]);
        assert_eq!(kinds(&silent(5, 0.01)), [], "the operation behind it was quick: it was not asked");
        assert_eq!(kinds(&silent(0, 0.01)), []);
        // Through the host's cache, or while whole files are synced, it is not known whether the drive was asked.
        let through_host = ["soak".to_owned()];
        assert_eq!(intervals(&silent(5, 5.02), &through_host), []);
        assert_eq!(intervals(&silent(20, 0.0), &through_host), []);
        // A leg without any load of its own.
        assert_eq!(stalls_within(&silent(30, 0.0), 0..300, |_| false).len(), 1);
        let idle: Vec<Sample> = (0..50_u64)
            .map(|i| Sample {
                start: Nanos(i * 100_000_000),
                end: Nanos((i + 1) * 100_000_000),
                ..Sample::default()
            })
            .collect();
        assert_eq!(stalls_within(&Trace::of(&idle, &["none".into()]), 0..50, |_| false), []);
    }

    proptest! {
        /// Whatever the samples, no interval leaves the run, and those of one kind do not overlap.
        #[test]
        fn no_interval_leaves_the_run(
            rows in prop::collection::vec((1_u64..5000, 0_u64..2, 0_u64..3, 0_u64..3, 0_u64..9000), 1..120)
        ) {
            let mut at = 0;
            let samples: Vec<Sample> = rows.into_iter().map(|(ms, moves, foreign, op, slowest)| {
                let start = Nanos(at * 1_000_000);
                at += ms;
                let l = Nanos(slowest * 1_000_000);
                Sample {
                    start,
                    end: Nanos(at * 1_000_000),
                    op: [Op::Write, Op::Read, Op::Idle][op as usize],
                    written: Bytes(moves * 1_000_000),
                    latency: Some(Latency { p50: l, p99: l, p999: l, max: l }),
                    foreign: Some(Rate(foreign as f64 * 50e6)),
                    ..Sample::default()
                }
            }).collect();
            let end = samples.last().unwrap().end.secs();
            let found = intervals(&Trace::of(&samples, &["a".into()]), &[]);
            for i in &found {
                prop_assert!(i.start_s >= 0.0 && i.start_s < i.end_s && i.end_s <= end, "{:?}", i);
            }
            // `33 s in a run of 15 s`: the sum over kinds that lie on each other.
            prop_assert!(covered(&found, &["foreign-io", "gap", "stall"]) <= end + 1e-9);
            for kind in ["foreign-io", "gap", "stall"] {
                let own: Vec<_> = found.iter().filter(|i| i.kind == kind).collect();
                prop_assert!(own.windows(2).all(|w| w[0].end_s <= w[1].start_s));
            }
        }
    }

    #[test]
    fn a_scan_has_no_gaps_where_it_is_slow_and_a_leg_behind_it_is_no_gap() {
        // 500 zones of 4 MiB, read in 2 ms with a wobble; 40 of them on end and the last 100 take ten and 30 times as long.
        let mut now = 0_u64;
        let mut samples: Vec<Sample> = (0..500_u64)
            .map(|i| {
                let slow = if (100..140).contains(&i) {
                    10
                } else if i >= 400 {
                    30
                } else {
                    1
                };
                let start = now;
                now += (2_000_000 + i * 7919 % 13 * 100_000) * slow;
                Sample {
                    start: Nanos(start),
                    end: Nanos(now),
                    op: Op::Read,
                    read: Bytes(4 << 20),
                    offset: Some(Bytes(i << 22)),
                    ..Sample::default()
                }
            })
            .collect();
        // Then 60 s of writes, sampled at four a second, with one gap of 3 s.
        samples.extend((0..240_u64).map(|i| {
            let start = now;
            now += if i == 120 { 3_000_000_000 } else { 250_000_000 };
            Sample {
                start: Nanos(start),
                end: Nanos(now),
                leg: 1,
                written: Bytes(250_000_000),
                ..Sample::default()
            }
        }));
        let trace = Trace::of(&samples, &["scan".into(), "soak".into()]);
        let found = intervals(&trace, &[]);
        let gap = trace.start(500 + 120).secs();
        assert_eq!(found.len(), 1, "{found:?}");
        assert!(found[0].kind == "gap" && (found[0].start_s - gap).abs() < 1e-9, "{found:?}");
        assert!((found[0].end_s - found[0].start_s - 3.0).abs() < 1e-9, "{found:?}");
    }

    /// "7.2 s" was said of four gaps of 2.3 s in all, and the drive "gave no answer" for the seconds between, in which it did.
    #[test]
    fn what_was_logged_and_answered_between_two_gaps_is_in_neither() {
        // Ten samples a second; three times the drive answers nothing for 1.5 s, and for 2.5 s between.
        let samples: Vec<Sample> = (0..300_u64)
            .map(|i| {
                let still = [100, 140, 180].iter().any(|from| (*from..from + 15).contains(&i));
                let l = Nanos::from_secs(if [115, 155, 195].contains(&i) { 1.52 } else { 0.01 });
                Sample {
                    start: Nanos(i * 100_000_000),
                    end: Nanos((i + 1) * 100_000_000),
                    written: Bytes(if still { 0 } else { 50_000_000 }),
                    latency: (!still).then_some(Latency { p50: l, p99: l, p999: l, max: l }),
                    ..Sample::default()
                }
            })
            .collect();
        let found = intervals(&Trace::of(&samples, &["soak".into()]), &[]);
        assert!(found.len() == 3 && found.iter().all(|i| i.kind == "stall"), "{found:?}");
        assert!((covered(&found, &["stall"]) - 4.5).abs() < 1e-6);
        // A sample a second; two of them took 6 s each, with three between.
        let mut at = 0;
        let samples: Vec<Sample> = (0..60_u64)
            .map(|i| {
                let long = if [30, 34].contains(&i) { 6 } else { 1 };
                let start = Nanos(at * 1_000_000_000);
                at += long;
                let end = Nanos(at * 1_000_000_000);
                Sample { start, end, written: Bytes(long * 500_000_000), ..Sample::default() }
            })
            .collect();
        let found = intervals(&Trace::of(&samples, &["soak".into()]), &[]);
        assert!(found.len() == 2 && found.iter().all(|i| i.kind == "gap"), "{found:?}");
        assert!((covered(&found, &["gap"]) - 12.0).abs() < 1e-6);
    }

    #[test]
    fn a_gap_in_the_log_is_marked() {
        let mut at = 0;
        let samples: Vec<Sample> = (0..100_u64)
            .map(|i| {
                let long = if i == 50 { 60 } else { 1 };
                let start = Nanos(at * 1_000_000_000);
                at += long;
                Sample {
                    start,
                    end: Nanos(at * 1_000_000_000),
                    written: Bytes(long * 500_000_000),
                    ..Sample::default()
                }
            })
            .collect();
        let found = intervals(&Trace::of(&samples, &["soak".into()]), &[]);
        assert_eq!((found.len(), found[0].kind.as_str(), found[0].start_s), (1, "gap", 50.0));
        // The same time without a sample at all.
        let rest: Vec<Sample> = [&samples[..50], &samples[51..]].concat();
        let found = intervals(&Trace::of(&rest, &["soak".into()]), &[]);
        assert_eq!((found.len(), found[0].kind.as_str()), (1, "gap"));
        assert_eq!((found[0].start_s, found[0].end_s), (50.0, 110.0));
    }
}
