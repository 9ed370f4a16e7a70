//! Why a drive is slow again and again, and which of its operations are slower where its rate falls. The truth of each trace is in the functions of time
//! that make it.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod made;

use made::{Maker, STEP, limits, shown, watched, with};
use mile_core::findings::{Break, Cause, Dip};
use mile_core::live::{News, Whole};
use mile_core::{Celsius, Context, Latency, Nanos, Op, Rate, Sample, Throttled, Trace, findings};

const HIGH: f64 = 1000.0;
const LOW: f64 = 600.0;

/// 4 of 40 s at six tenths of the rate, from a time on: the mean falls by 4 %.
fn dips(from: f64) -> impl Fn(f64) -> f64 {
    move |t| if is_low(from, t) { LOW } else { HIGH }
}

fn is_low(from: f64, t: f64) -> bool {
    t >= from && (t - from) % 40.0 < 4.0
}

/// Seconds below the high until `t`.
fn slow_until(from: f64, t: f64) -> f64 {
    let whole = ((t - from).max(0.0) / 40.0).floor();
    4.0 * whole + ((t - from).max(0.0) - 40.0 * whole).min(4.0)
}

/// The only pattern of a run that has no break.
fn pattern(samples: &[Sample]) -> Dip {
    let found = shown(samples);
    assert!(found.breaks.is_empty(), "{:#?}", found.breaks);
    assert_eq!(found.dips.len(), 1, "{:?}", found.dips);
    let dip = found.dips[0].clone();
    assert!((dip.period_s / 40.0 - 1.0).abs() < 0.03 && (dip.depth_pct - 40.0).abs() < 4.0, "{dip:?}");
    dip
}

/// A drive that swings between 78 and 82 °C, so that it is slowed for a tenth of the time; its mean falls by 4 %.
fn held(seconds: f64) -> Vec<Sample> {
    held_by(seconds, 1.0, 1)
}

/// The same, in lows and highs that last so many times as long.
fn held_by(seconds: f64, longer: f64, seed: u64) -> Vec<Sample> {
    let (mut temp, mut slow, mut counted) = (40.0_f64, false, 0.0);
    let rows: Vec<(f64, f64, f64)> = (0..(seconds / STEP) as usize)
        .map(|_| {
            // At its limit it warms by 0.1 °C in a second, and cools by 1.
            temp += if slow { -1.0 } else { ((90.0 - temp) / 80.0).max(0.1) } * STEP / longer;
            slow = if slow { temp > 78.0 } else { temp >= 82.0 };
            counted += if slow { STEP } else { 0.0 };
            (if slow { LOW } else { HIGH }, temp.round(), counted)
        })
        .collect();
    let at = move |t: f64| rows[((t / STEP) as usize).min(rows.len() - 1)];
    let maker = Maker { noise: 0.01, seed: seed + 1, ..Maker::new(seconds) };
    let samples = maker.samples(|t| at(t).0);
    with(samples, |t, s| {
        s.temp = Some(Celsius(at(t - STEP / 2.0).1));
        s.throttled = Some(Throttled { light_s: at(t - STEP / 2.0).2.floor(), heavy_s: 0.0 });
    })
}

/// Defect 2 of what was found wrong: a saw whose mean falls by less than 8 % had no cause at all, even where throttle counters ticked.
#[test]
fn a_saw_whose_mean_hardly_falls_has_a_cause_where_counters_tick() {
    for from in [0.0, 200.0, 333.0] {
        let samples = with(Maker { noise: 0.01, ..Maker::new(1200.0) }.samples(dips(from)), |t, s| {
            s.temp = Some(Celsius(74.0));
            s.throttled = Some(Throttled { light_s: slow_until(from, t).floor(), heavy_s: 0.0 });
        });
        let dip = pattern(&samples);
        assert!(dip.cause == Some(Cause::ThermalThrottle) && dip.confidence >= 0.9, "{from}: {dip:#?}");
        assert!(dip.evidence.iter().any(|e| e.row == "throttle.counts-slow-times"), "{dip:#?}");
        // What was lost: four tenths for a tenth of the time.
        let found = shown(&samples);
        let slow = slow_until(from, 1200.0);
        let share = found.throttling.share_of_time;
        assert!((share - slow / 1200.0).abs() < 0.01, "{share}, {slow} s");
        let lost = slow * (HIGH - LOW) * 1e6;
        assert!((found.throttling.lost_bytes as f64 / lost - 1.0).abs() < 0.1, "{:?}", found.throttling);
    }
}

/// The same without counters: it falls when it has warmed to one temperature, and comes back at a lower one.
#[test]
fn a_saw_whose_mean_hardly_falls_has_a_cause_where_it_swings_between_two_temperatures() {
    let mut samples = held(1500.0);
    let context = Context { warn: Some(Celsius(82.0)), critical: Some(Celsius(90.0)), ..limits() };
    let shown = |samples: &[Sample]| findings(&Trace::of(samples, &["soak".into()]), &context);
    let counted = shown(&samples);
    samples.iter_mut().for_each(|s| s.throttled = None);
    let found = shown(&samples);
    for found in [counted, found] {
        let dip = found.dips.first().unwrap();
        assert!(dip.cause == Some(Cause::ThermalThrottle) && dip.confidence >= 0.9, "{dip:#?}");
        let share = found.throttling.share_of_time;
        assert!((0.05..0.12).contains(&share), "{share}");
    }
}

/// A fall that was announced before the pattern was known is not taken back, where the pattern is put down to the same; findings and screen agree.
#[test]
fn an_announced_fall_that_becomes_part_of_a_pattern_for_the_same_reason_is_not_withdrawn() {
    let (mut announced, mut joined) = (0, 0);
    for seed in 0..2 {
        let samples = held_by(1000.0, 2.5, seed);
        let context = Context { warn: Some(Celsius(82.0)), critical: Some(Celsius(90.0)), ..limits() };
        let (news, found) = watched(&samples, context);
        let withdrawn: Vec<_> = news.iter().filter(|n| matches!(n, News::Withdrawn(_))).collect();
        assert!(withdrawn.is_empty(), "{withdrawn:#?}");
        assert!(found.breaks.is_empty(), "{:#?}", found.breaks);
        assert_eq!(found.dips[0].cause, Some(Cause::ThermalThrottle), "{:#?}", found.dips);
        announced += news.iter().filter(|n| matches!(n, News::Announced(_))).count();
        joined += news.iter().filter(|n| matches!(n, News::Joined(_, Whole::Pattern))).count();
    }
    // Or it shows nothing.
    assert!(announced > 0, "no fall was announced before the pattern was known");
    assert_eq!(joined, announced, "whoever was told of a fall is told that it belongs to a pattern");
}

/// Counters that do not tick, or tick all the time, and a cool drive are no throttle; nobody is accused of dips that the drive makes by itself.
#[test]
fn dips_of_a_cool_drive_are_put_down_to_nothing() {
    for counts in [false, true] {
        let samples = with(Maker { noise: 0.01, ..Maker::new(1200.0) }.samples(dips(100.0)), |t, s| {
            s.temp = Some(Celsius(45.0));
            s.foreign = Some(Rate(0.0));
            s.throttled = Some(Throttled { light_s: if counts { t.floor() } else { 0.0 }, heavy_s: 0.0 });
        });
        let dip = pattern(&samples);
        assert_eq!(dip.cause, Some(Cause::Unexplained), "{dip:#?}");
        assert_eq!(shown(&samples).throttling.episodes, [], "{dip:#?}");
    }
}

/// A hot drive whose dips nothing ties to its temperature is not surely throttled.
#[test]
fn dips_of_a_hot_drive_are_not_surely_heat() {
    let samples = with(Maker { noise: 0.01, ..Maker::new(1200.0) }.samples(dips(100.0)), |_, s| {
        s.temp = Some(Celsius(74.0));
    });
    let dip = pattern(&samples);
    assert!(dip.cause != Some(Cause::ThermalThrottle) || dip.confidence < 0.9, "{dip:#?}");
}

/// What others moved while it was slow is held against what they moved while it was fast, however the first of the dips began.
#[test]
fn dips_in_which_others_move_are_theirs() {
    for from in [0.0, 200.0] {
        let samples = with(Maker { noise: 0.01, ..Maker::new(1200.0) }.samples(dips(from)), |t, s| {
            s.temp = Some(Celsius(45.0));
            s.foreign = Some(Rate(if is_low(from, t - STEP / 2.0) { 380e6 } else { 5e6 }));
        });
        let dip = pattern(&samples);
        assert!(dip.cause == Some(Cause::Interference) && dip.confidence >= 0.9, "{dip:#?}");
    }
}

/// A pattern that begins with a break has the cause of that break.
#[test]
fn a_pattern_that_begins_with_a_break_has_its_cause() {
    let rate = |t: f64| if t < 60.0 || (t - 60.0) % 45.0 > 43.0 { 2900.0 } else { 800.0 };
    let maker = Maker { noise: 0.02, ..Maker::new(465.0) };
    let found = shown(&with(maker.samples(rate), |_, s| s.temp = Some(Celsius(45.0))));
    let (b, dip) = (&found.breaks[0], &found.dips[0]);
    assert_eq!((dip.cause, dip.confidence), (Some(b.cause), b.confidence));
    assert_eq!(b.cause, Cause::CacheExhausted);
}

/// The first break of a write that falls from 1,000 to 500 MB/s at 200 s, with these latencies in µs on either side: median and 99th percentile.
fn falls(before: (f64, f64), behind: (f64, f64)) -> Break {
    let maker = Maker { noise: 0.01, ..Maker::new(500.0) };
    let samples = with(maker.samples(|t| if t < 200.0 { 1000.0 } else { 500.0 }), |t, s| {
        s.temp = Some(Celsius(45.0));
        let (p50, p99) = if t <= 200.0 { before } else { behind };
        let us = |us: f64| Nanos((us * 1e3) as u64);
        s.latency = Some(Latency { p50: us(p50), p99: us(p99), p999: us(2.0 * p99), max: us(3.0 * p99) });
    });
    let found = shown(&samples);
    assert_eq!(found.breaks.len(), 1, "{:#?}", found.breaks);
    found.breaks[0].clone()
}

/// Which operations became slower is a row of the evidence. With as many operations underway, their mean latency doubles where the rate halves; the rest
/// is which of them wait.
#[test]
fn which_operations_are_slower_is_seen() {
    let row = |before, behind| {
        let b = falls(before, behind);
        let own = b
            .evidence
            .into_iter()
            .filter(|e| e.row.contains(".latency-") && e.cause == Cause::CacheExhausted);
        own.map(|e| (e.row, e.text)).collect::<Vec<_>>()
    };
    let name = |before, behind| row(before, behind).into_iter().map(|r| r.0).collect::<Vec<_>>();
    assert_eq!(name((2000.0, 3000.0), (4000.0, 6000.0)), ["cache.latency-alike"]);
    assert_eq!(name((2000.0, 3000.0), (3600.0, 16_000.0)), ["cache.latency-spreads"]);
    assert_eq!(name((2000.0, 3000.0), (2050.0, 60_000.0)), ["cache.latency-few"]);
    // Neither: the median follows half of the way.
    assert_eq!(name((2000.0, 3000.0), (2900.0, 4350.0)), [""; 0]);
    let words = row((2000.0, 3000.0), (4000.0, 6000.0));
    assert!(words[0].1.ends_with("4.0 ms instead of 2.0 ms"), "{words:?}");
    // A median that stays says more for a full cache than one that goes with the rate of every operation, as behind a narrower link.
    let confidence = |behind| {
        let b = falls((2000.0, 3000.0), behind);
        b.candidates.iter().find(|c| c.cause == Cause::CacheExhausted).unwrap().log_odds
    };
    assert!(confidence((2050.0, 60_000.0)) > confidence((4000.0, 6000.0)));
}

/// A log without latencies, or with too few of them, says nothing of them.
#[test]
fn too_few_latencies_say_nothing() {
    let maker = Maker { noise: 0.01, ..Maker::new(500.0) };
    let mut samples = maker.samples(|t| if t < 200.0 { 1000.0 } else { 500.0 });
    let one = Latency {
        p50: Nanos(2_000_000),
        p99: Nanos(3_000_000),
        p999: Nanos(4_000_000),
        max: Nanos(5_000_000),
    };
    for at in [380, 390, 405, 410] {
        samples[at].latency = Some(one);
    }
    let found = shown(&samples);
    assert!(found.breaks[0].evidence.iter().all(|e| !e.row.contains(".latency-")), "{:#?}", found.breaks);
    assert_eq!(samples[0].op, Op::Write);
}
