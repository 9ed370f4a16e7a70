//! What was found wrong in findings, each defect with its name. The truth of each trace is in the function of time that makes it.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod made;

use made::{Maker, STEP, limits, shown, watched, with};
use mile_core::findings::{Break, Cause};
use mile_core::live::{News, Whole};
use mile_core::{Bytes, Celsius, Context, LiveFindings, Nanos, Op, Rate, Sample, Trace, findings};

/// Bytes moved until a time, by the samples themselves.
fn moved(samples: &[Sample], until: f64) -> f64 {
    samples.iter().filter(|s| s.end.secs() <= until + 1e-6).map(|s| (s.written.0 + s.read.0) as f64).sum()
}

/// Warms evenly from 40 °C to `to` at `at`, and stays a degree below; whole degrees.
fn warms(at: f64, to: f64) -> impl Fn(f64, &mut Sample) {
    move |t, s| s.temp = Some(Celsius(if t < at { 40.0 + (to - 40.0) * t / at } else { to - 1.0 }.round()))
}

fn cool(_: f64, s: &mut Sample) {
    s.temp = Some(Celsius(45.0));
}

/// Half of each pattern around the break belonged to the other, so that one of them was dropped, and the break was found a period away with an
/// interval of a tenth of that.
#[test]
fn a_break_among_regular_dips_is_found_where_it_is() {
    for seed in 0..10 {
        for (period, lasts, depth) in
            [(20.0, 2.0, 0.4), (40.0, 3.0, 0.25), (12.0, 4.0, 0.3), (31.0, 2.5, 0.6)]
        {
            for (at, behind) in [(300.0, 600.0), (333.0, 700.0), (254.5, 450.0)] {
                let what = format!("seed {seed}, {lasts} of {period} s by {depth}, at {at} then {behind}");
                let level = move |t: f64| if t < at { 1000.0 } else { behind };
                let dip = move |t: f64| if t % period < lasts { 1.0 - depth } else { 1.0 };
                let maker = Maker { seed: seed + 5, noise: 0.015, ..Maker::new(600.0) };
                let samples = with(maker.samples(|t| level(t) * dip(t)), cool);
                let found = shown(&samples);
                assert_eq!(found.breaks.len(), 1, "{what}: {:#?}", found.breaks);
                let (b, truth) = (&found.breaks[0], moved(&samples, at));
                assert!((b.at_s - at).abs() <= lasts + STEP, "{what}: {}", b.at_s);
                assert!((b.at_bytes as f64 / truth - 1.0).abs() < 0.01, "{what}");
                let slack = 1e9 * STEP;
                assert!(
                    b.low_bytes as f64 <= truth + slack && truth <= b.high_bytes as f64 + slack,
                    "{what}: {} to {}, truth {truth}",
                    b.low_bytes,
                    b.high_bytes
                );
            }
        }
    }
}

/// `stays` said that the rate was down for half a minute, the rate behind the first fall was the mean of a period, its interval was a period long,
/// and the drive was throttled for twice the time.
#[test]
fn a_sawtooth_has_its_low_its_share_of_time_and_a_first_fall_that_comes_back() {
    for (tau, share) in [(90.0, 0.42), (200.0, 0.40), (300.0, 0.40)] {
        let seconds = 8.0 * tau;
        let (mut temp, mut slow) = (40.0_f64, false);
        let step = |_| {
            temp += ((if slow { 60.0 } else { 95.0 }) - temp) * (1.0 - (-STEP / tau).exp());
            slow = if slow { temp > 74.0 } else { temp >= 82.0 };
            (if slow { 700.0 } else { 1500.0 }, temp.round())
        };
        let rows: Vec<(f64, f64)> = (0..(seconds / STEP) as usize).map(step).collect();
        let slow_time = rows.iter().filter(|r| r.0 < 1000.0).count() as f64 / rows.len() as f64;
        assert!((slow_time - share).abs() < 0.03, "the trace itself: {slow_time}");
        let at = |t: f64| rows[((t / STEP) as usize).min(rows.len() - 1)];
        let maker = Maker { noise: 0.02, ..Maker::new(seconds) };
        let samples = with(maker.samples(|t| at(t).0), |t, s| s.temp = Some(Celsius(at(t - STEP / 2.0).1)));
        let context = Context { warn: Some(Celsius(82.0)), critical: Some(Celsius(90.0)), ..limits() };
        let found = findings(&Trace::of(&samples, &["soak".into()]), &context);
        let first = rows.iter().position(|r| r.0 < 1000.0).unwrap() as f64 * STEP;
        let b = &found.breaks[0];
        assert!((b.to_mb_s / 700.0 - 1.0).abs() < 0.05, "tau {tau}: {b:?}");
        assert!(b.evidence.iter().all(|e| !e.row.ends_with(".stays")), "tau {tau}: {b:#?}");
        let (low, high, truth) = (b.low_bytes as f64, b.high_bytes as f64, moved(&samples, first));
        assert!(
            (high - low) / truth < 0.02 && low <= truth && truth <= high,
            "tau {tau}: {low} {truth} {high}"
        );
        assert!((found.throttling.share_of_time - slow_time).abs() < 0.02, "{:?}", found.throttling);
        let falls = rows.windows(2).filter(|w| w[1].0 < w[0].0).count();
        assert!(found.throttling.episodes.len().abs_diff(falls) <= 1, "tau {tau}: {falls}");
        assert_eq!(found.cache, None, "tau {tau}");
    }
}

/// The return was put down to a drive that had cooled, 24 °C below its limit.
#[test]
fn the_return_after_a_standstill_is_no_release_of_throttling() {
    for op in [Op::Write, Op::Read] {
        for lasts in [4.0, 20.0, 60.0] {
            let still = |t: f64| if (150.0..150.0 + lasts).contains(&t) { 0.0 } else { 1000.0 };
            let maker = Maker { op, ..Maker::new(400.0) };
            let samples = with(maker.samples(still), |_, s| s.temp = Some(Celsius(51.0)));
            for b in shown(&samples).breaks {
                let heat = [Cause::ThermalThrottle, Cause::ThermalRelease].contains(&b.cause);
                assert!(
                    !heat && b.candidates.iter().all(|c| !c.cause.words().contains("heat") || c.share < 0.05)
                );
            }
        }
    }
}

/// One plateau of 4 to 10 s between a full cache and a throttle made one throttle of both, with 98 %.
#[test]
fn a_cache_that_fills_seconds_before_a_throttle_is_a_break_of_its_own_and_not_surely_heat() {
    for after in [4.0, 6.0, 10.0, 20.0] {
        for (full, throttled) in [(1200.0, 600.0), (800.0, 500.0)] {
            let level = |t: f64| match t {
                t if t < 200.0 => 2000.0,
                t if t < 200.0 + after => full,
                _ => throttled,
            };
            let samples = with(Maker::new(400.0).samples(level), warms(200.0 + after, 75.0));
            let found = shown(&samples);
            let times: Vec<f64> = found.breaks.iter().map(|b| b.at_s).collect();
            assert_eq!(times.len(), 2, "{after} s: {times:?}");
            assert!((times[0] - 200.0).abs() < 1.0 && (times[1] - 200.0 - after).abs() < 1.0, "{times:?}");
            let cache = &found.breaks[0];
            assert!(cache.cause == Cause::CacheExhausted || cache.confidence < 0.8, "{cache:#?}");
            assert_eq!(found.breaks[1].cause, Cause::ThermalThrottle);
        }
    }
}

/// Others that began at the moment of a throttle were all of it, with 97 %, though they moved a third of what was lost.
#[test]
fn two_causes_of_one_change_share_it_and_both_are_said() {
    let level = |t: f64| match t {
        t if t < 200.0 => 2000.0,
        t if t < 260.0 => 800.0,
        _ => 1200.0,
    };
    for late in [0.0, 2.0] {
        let samples = with(with(Maker::new(400.0).samples(level), warms(200.0, 75.0)), |t, s| {
            s.foreign = Some(Rate(if (200.0 + late..=260.0).contains(&t) { 400e6 } else { 0.0 }));
        });
        let found = shown(&samples);
        let b: &Break = &found.breaks[0];
        let both = [Some(b.cause), b.also];
        assert!(
            both.contains(&Some(Cause::ThermalThrottle)) && both.contains(&Some(Cause::Interference)),
            "{b:#?}"
        );
        assert!(b.confidence <= 0.6, "{}", b.confidence);
        assert!(b.sentence().contains("at the same time"), "{}", b.sentence());
        // Others that moved all that was lost leave nothing for heat, though it is warm.
        let samples = with(samples, |t, s| {
            s.foreign = Some(Rate(if (200.0..=260.0).contains(&t) { 1150e6 } else { 0.0 }));
        });
        let b = shown(&samples).breaks[0].clone();
        assert_eq!((b.cause, b.also), (Cause::Interference, None), "{b:#?}");
    }
}

/// `recovery` was null where two soaks had the same name.
#[test]
fn the_cache_comes_back_between_two_legs_of_one_name() {
    let soak = |full: f64, seconds: f64, from: f64, leg: u32| -> Vec<Sample> {
        let maker = Maker { seed: u64::from(leg) + 1, ..Maker::new(seconds) };
        let samples = maker.samples(move |t| if t < full { 1000.0 } else { 300.0 });
        samples
            .into_iter()
            .map(|s| Sample {
                start: s.start.plus(Nanos::from_secs(from)),
                end: s.end.plus(Nanos::from_secs(from)),
                leg,
                temp: Some(Celsius(45.0)),
                ..s
            })
            .collect()
    };
    let rest = (0..120_u64).map(|i| Sample {
        start: Nanos::from_secs(300.0 + i as f64),
        end: Nanos::from_secs(301.0 + i as f64),
        op: Op::Idle,
        leg: 1,
        temp: Some(Celsius(42.0)),
        ..Sample::default()
    });
    let samples: Vec<Sample> =
        soak(100.0, 300.0, 0.0, 0).into_iter().chain(rest).chain(soak(50.0, 200.0, 420.0, 2)).collect();
    for again in ["soak", "soak again"] {
        let names = ["soak".to_owned(), "rest".to_owned(), again.to_owned()];
        let recovery = findings(&Trace::of(&samples, &names), &limits()).recovery.unwrap();
        assert!((recovery.cache_bytes as f64 / 100e9 - 1.0).abs() < 0.01, "{again}: {recovery:?}");
        assert_eq!(recovery.points.len(), 1, "{again}");
        assert!((recovery.points[0].share_pct - 50.0).abs() < 1.5, "{again}: {recovery:?}");
    }
}

/// A break that happened while nothing was logged was said to be at the end of the gap, with an interval of one sample.
#[test]
fn a_break_inside_a_gap_of_the_log_has_an_interval_that_covers_the_gap() {
    for gap in [10.0, 40.0, 200.0] {
        for share in [0.1, 0.5, 0.9] {
            let truth = 150.0 + share * gap;
            let maker = Maker::new(500.0 + gap);
            let all = with(maker.samples(|t| if t < truth { 1000.0 } else { 600.0 }), cool);
            let in_gap = |s: &Sample| s.start.secs() >= 150.0 && s.end.secs() <= 150.0 + gap;
            let dropped: Vec<Sample> = all.iter().filter(|s| !in_gap(s)).cloned().collect();
            // The same as one long sample, as a log with counters of bytes has it.
            let bytes = all.iter().filter(|s| in_gap(s)).map(|s| s.written.0).sum();
            let long = Sample {
                start: Nanos::from_secs(150.0),
                end: Nanos::from_secs(150.0 + gap),
                written: Bytes(bytes),
                ..all[0].clone()
            };
            let split = dropped.partition_point(|s| s.end.secs() <= 150.0);
            let counted = [&dropped[..split], &[long], &dropped[split..]].concat();
            for samples in [&dropped, &counted] {
                let found = shown(samples);
                assert_eq!(found.breaks.len(), 1, "{gap}, {share}: {:#?}", found.breaks);
                let b = &found.breaks[0];
                assert!(b.low_s <= truth && truth <= b.high_s, "{gap}, {share}: {} to {}", b.low_s, b.high_s);
                assert!(b.low_s <= b.at_s && b.at_s <= b.high_s);
                assert!((b.at_s - truth).abs() <= 0.55 * gap, "{gap}, {share}: {}", b.at_s);
                assert!(found.interference.iter().any(|i| i.kind == "gap"), "{gap}");
            }
        }
    }
}

/// Bug: on a stick of 6 MB/s, another's 1.3 MB/s were named as the cause of a break and yet not listed, as less than 2 MB/s never counted.
#[test]
fn on_a_slow_drive_little_of_others_is_much() {
    let sample = |i: u64| {
        let others = (100..200).contains(&i);
        Sample {
            start: Nanos(i * 500_000_000),
            end: Nanos((i + 1) * 500_000_000),
            op: Op::Write,
            written: Bytes(if others { 2_400_000 } else { 3_000_000 }),
            foreign: Some(Rate(if others { 1.3e6 } else { 2e4 })),
            ..Sample::default()
        }
    };
    let samples: Vec<Sample> = (0..300).map(sample).collect();
    let found = findings(&Trace::of(&samples, &["w".into()]), &Context::default());
    assert_eq!(found.interference.len(), 1, "{:?}", found.interference);
    assert_eq!((found.interference[0].start_s, found.interference[0].end_s), (50.0, 100.0));
    assert_eq!(found.interference[0].kind, "foreign-io");
}

/// Bug: of many legs that wrote at random, some fell at what was taken for one address, and the fall of a full cache was put down to the surface there.
#[test]
fn legs_at_random_addresses_say_nothing_of_the_surface() {
    let mut samples: Vec<Sample> = Vec::new();
    let (mut at, mut dice) = (0_u64, 9_u64);
    for leg in 0..24_u32 {
        for i in 0..100_u64 {
            dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let rate = if i < 60 { 2900 } else { 1050 };
            samples.push(Sample {
                start: Nanos(at),
                end: Nanos(at + 250_000_000),
                leg,
                op: Op::Write,
                written: Bytes(rate * 250_000 + dice % 4_000_000),
                offset: Some(Bytes((dice >> 20) % 200_000 * 1_000_000)),
                ..Sample::default()
            });
            at += 250_000_000;
        }
    }
    let names: Vec<String> = (0..24).map(|i| format!("workers {i} / write")).collect();
    let found = findings(&Trace::of(&samples, &names), &limits());
    let within: Vec<&Break> =
        found.breaks.iter().filter(|b| b.from_mb_s > 2000.0 && b.to_mb_s < 1500.0).collect();
    assert!(within.len() >= 20, "{}", found.breaks.len());
    for b in within {
        assert_ne!(b.cause, Cause::Surface, "{b:?}");
        assert!(!format!("{b:?}").contains("passes changed at the same address"), "{b:?}");
    }
}

/// Bug: a second pass over a disk was announced as a change of the course with 99 % confidence, once its mean had fallen behind what the first pass had
/// at its beginning, and taken back when it ended. What lies at one address was not held against the same address.
#[test]
fn a_second_pass_over_the_falling_rates_of_a_disk_is_no_change_while_it_goes_on() {
    for (outer, inner) in [(277.0, 130.0), (207.0, 96.0), (178.0, 90.0)] {
        let maker = Maker { op: Op::Read, ..Maker::new(1400.0) };
        let mut samples = maker.samples(|t| outer - (outer - inner) * ((t % 700.0) / 700.0).powf(1.3));
        // It visits a part of each stretch: 4 TB in 700 s.
        for sample in &mut samples {
            let leg = u32::from(sample.start.secs() >= 700.0);
            let within = sample.start.secs() - 700.0 * f64::from(leg);
            (sample.leg, sample.offset) = (leg, Some(Bytes((within / 700.0 * 4e12) as u64)));
        }
        let mut live = LiveFindings::new(limits());
        let mut news = Vec::new();
        for sample in &samples {
            live.push(sample, ["first", "second"][sample.leg as usize]);
            news.extend(live.news());
        }
        assert_eq!(news, [], "{outer} to {inner} MB/s");
        assert_eq!(live.close().1.breaks, []);
        // A second pass that is slower everywhere is a change.
        for sample in samples.iter_mut().filter(|s| s.leg == 1) {
            sample.read.0 = sample.read.0 * 2 / 3;
        }
        let found = findings(&Trace::of(&samples, &["first".into(), "second".into()]), &limits());
        assert_eq!(found.breaks.iter().map(|b| b.cause).collect::<Vec<_>>(), [Cause::Workload]);
    }
}

/// A leg of a trace: what it does, its seconds, and its rate as a function of its own time.
type Leg<'a> = (Op, f64, &'a dyn Fn(f64) -> f64);

fn legs(legs: &[Leg<'_>]) -> Vec<Sample> {
    let mut all: Vec<Sample> = Vec::new();
    for (i, (op, seconds, rate)) in legs.iter().enumerate() {
        let begin = all.last().map_or(0.0, |s| s.end.secs());
        let made = Maker { op: *op, seed: 7 + i as u64, ..Maker::new(*seconds) }.samples(rate);
        all.extend(made.into_iter().map(|s| Sample {
            start: Nanos::from_secs(begin + s.start.secs()),
            end: Nanos::from_secs(begin + s.end.secs()),
            leg: i as u32,
            temp: Some(Celsius(50.0)),
            ..s
        }));
    }
    all
}

/// Bug: what was read before a leg of writes was taken for written, so that a cache of 116 GB was 2.1 TB, "more than a cache can take", and the fall
/// unexplained with 90 % confidence.
#[test]
fn what_is_read_before_fills_no_cache() {
    let full = |t: f64| if t < 40.0 { 2900.0 } else { 1050.0 };
    let samples = legs(&[(Op::Read, 600.0, &|_| 3300.0), (Op::Write, 300.0, &full)]);
    let names = ["read".into(), "write".into()];
    let found = findings(&Trace::of(&samples, &names), &limits());
    let falls: Vec<&Break> = found.breaks.iter().filter(|b| b.to_mb_s < 1500.0).collect();
    assert_eq!(falls.iter().map(|b| b.cause).collect::<Vec<_>>(), [Cause::CacheExhausted], "{falls:#?}");
    assert!(falls[0].confidence < 0.9, "seen once, it may be something else: {}", falls[0].confidence);
    let cache = found.cache.unwrap();
    assert!((cache.bytes as f64 / 116e9 - 1.0).abs() < 0.01, "{cache:?}");
    assert!(cache.low_bytes <= 116_200_000_000 && cache.high_bytes >= 115_800_000_000, "{cache:?}");
}

/// Bug: between legs of reads, in which the cache had room made, each fall of a sweep counted as a further one after all that had been moved, and was
/// unexplained.
#[test]
fn a_cache_that_recovers_while_others_legs_read_is_found_in_each_leg() {
    let laid = |t: f64| if t < 40.0 { 2900.0 } else { 1050.0 };
    let part = |t: f64| if t < 4.0 { 2900.0 } else { 1050.0 };
    let read = |_: f64| 5000.0;
    let mut all: Vec<Leg<'_>> = vec![(Op::Write, 300.0, &laid)];
    let mut names = vec!["lay".to_owned()];
    for depth in [1, 2, 4, 8, 16, 32, 64, 128] {
        all.extend([(Op::Read, 10.0, &read as &dyn Fn(f64) -> f64), (Op::Write, 12.0, &part)]);
        names.extend([format!("depth {depth} / read"), format!("depth {depth} / write")]);
    }
    let samples = legs(&all);
    let found = findings(&Trace::of(&samples, &names), &limits());
    let falls: Vec<&Break> =
        found.breaks.iter().filter(|b| b.from_mb_s > 2500.0 && b.to_mb_s < 1500.0).collect();
    assert_eq!(falls.len(), 9, "{:#?}", found.breaks);
    for b in falls {
        assert_eq!(b.cause, Cause::CacheExhausted, "{b:#?}");
    }
    // Where the writes go on as slow as they ended, nothing recovered: a fall there is no first one.
    let slower = |t: f64| if t < 60.0 { 1050.0 } else { 600.0 };
    let samples = legs(&[(Op::Write, 300.0, &laid), (Op::Read, 10.0, &read), (Op::Write, 200.0, &slower)]);
    let found = findings(&Trace::of(&samples, &["lay".into(), "read".into(), "on".into()]), &limits());
    let last = found.breaks.last().unwrap();
    assert!(last.evidence.iter().all(|e| e.row != "cache.first-fall"), "{last:#?}");
}

/// Bug: a read that was slower than claimed was excused with the write cache, which an earlier leg had filled.
#[test]
fn a_slow_read_is_not_excused_with_a_full_write_cache() {
    let full = |t: f64| if t < 40.0 { 2900.0 } else { 1050.0 };
    let samples = legs(&[(Op::Write, 300.0, &full), (Op::Read, 100.0, &|_| 900.0)]);
    let claimed = Some(Rate(3e9));
    let context = Context { rated_write: claimed, rated_read: claimed, ..limits() };
    let found = findings(&Trace::of(&samples, &["write".into(), "read".into()]), &context);
    let excuse = |what: &str| {
        let claim = found
            .claims
            .iter()
            .find(|c| c.what == what)
            .unwrap_or_else(|| panic!("{what}: {:#?}", found.claims));
        claim.excuses.iter().any(|e| e == "the write cache was exhausted")
    };
    assert!(excuse("write, last plateau"));
    assert!(!excuse("read, first plateau"), "{:#?}", found.claims);
}

/// Bug: a clear step was not found where the rate comes in units of 1 % and falls to half for two samples now and then: the dips, in more than a tenth of
/// the differences, were taken for the noise, which then was as large as the step.
#[test]
fn a_step_among_brief_dips_of_a_rate_in_units_is_found() {
    let mut others = 0;
    for seed in 0..20 {
        let mut dice = 88_172_645_463_325_252_u64 ^ (seed << 17);
        let mut unit = || {
            dice ^= dice << 13;
            dice ^= dice >> 7;
            dice ^= dice << 17;
            (dice >> 11) as f64 / (1_u64 << 53) as f64
        };
        let mut left = 0;
        let rates: Vec<f64> = (0..373)
            .map(|i| {
                let level = if i < 113 { 415.0 } else { 268.0 };
                if i >= 113 && left == 0 && unit() < 0.035 {
                    left = 2;
                }
                let dip = if left > 0 { 0.7 } else { 1.0 };
                left = usize::saturating_sub(left, 1);
                (level * dip * (1.0 + 0.01 * (unit() + unit() - 1.0)) / 4.2).round() * 4.2
            })
            .collect();
        let sample = |(i, rate): (usize, &f64)| Sample {
            start: Nanos(i as u64 * 250_000_000),
            end: Nanos((i as u64 + 1) * 250_000_000),
            written: Bytes((rate * 0.25e6) as u64),
            ..Sample::default()
        };
        let samples: Vec<Sample> = rates.iter().enumerate().map(sample).collect();
        let found = shown(&samples);
        let is_step = |b: &&Break| (b.at_s - 28.25).abs() <= 0.5 && b.to_mb_s < 0.75 * b.from_mb_s;
        assert_eq!(found.breaks.iter().filter(is_step).count(), 1, "seed {seed}: {:#?}", found.breaks);
        // Where many dips lie together, their end may look like a change.
        others += found.breaks.len() - 1;
    }
    assert!(others <= 2, "{others} other breaks in 20 traces");
}

/// Bug: legs that wrote until the rate had been down for two minutes met a weak place of a disk at the same address, some after the same bytes: a full
/// write cache with 98 % confidence. That others came there after other bytes, as no cache does, was not looked at.
#[test]
fn a_weak_place_that_writes_meet_after_other_bytes_is_no_cache() {
    writes_meet_a_weak_place(&[0.0, 0.0, 30e9, 30e9, 55e9, 70e9]);
}

/// Of three falls at one address, two came after about the same bytes: both were a full cache with 98 %, though the third came after others.
#[test]
fn a_weak_place_that_two_writes_meet_after_the_same_bytes_is_no_cache_either() {
    writes_meet_a_weak_place(&[0.0, 60e9, 8e9]);
}

/// Bug: bytes that differed by 6 and 12 % were "the same bytes", though the addresses agreed to a hundredth of that: a full cache, 98 %. And the rate was
/// "unexplained", or "write cache recovered", where a leg began at an address in front of the weak place.
#[test]
fn a_weak_place_that_writes_meet_after_nearly_the_same_bytes_is_no_cache() {
    writes_meet_a_weak_place(&[0.0, 6e9, 12e9, 9e9]);
}

/// Writes from some addresses on, each after a rest, that become slower at one and the same.
fn writes_meet_a_weak_place(starts: &[f64]) {
    let place = 100e9;
    let rates: Vec<_> = starts
        .iter()
        .map(|start| move |t: f64| if start + t * 167e6 < place { 167.0 } else { 134.0 })
        .collect();
    let rest = |_: f64| 0.0;
    let mut all: Vec<Leg<'_>> = Vec::new();
    let mut names = Vec::new();
    for (start, rate) in starts.iter().zip(&rates) {
        all.extend([
            (Op::Idle, 60.0, &rest as &dyn Fn(f64) -> f64),
            (Op::Write, ((place - start) / 167e6).round() + 120.0, rate),
        ]);
        names.extend([format!("rest {}", names.len()), format!("write {}", names.len())]);
    }
    let mut samples = legs(&all);
    let mut at = 0;
    for i in 0..samples.len() {
        if i == 0 || samples[i].leg != samples[i - 1].leg {
            at = starts[samples[i].leg as usize / 2] as u64;
        }
        if samples[i].op == Op::Write {
            samples[i].offset = Some(Bytes(at));
            at += samples[i].written.0;
        }
    }
    let found = findings(&Trace::of(&samples, &names), &limits());
    let falls: Vec<&Break> = found.breaks.iter().filter(|b| b.to_mb_s < b.from_mb_s).collect();
    assert_eq!(falls.len(), starts.len(), "{:#?}", found.breaks);
    // Each leg but the first begins where the drive is fast, behind a rest and a leg that ended where it is slow.
    assert_eq!(found.breaks.len(), 2 * starts.len() - 1, "{:#?}", found.breaks);
    for b in &found.breaks {
        assert_eq!(b.cause, Cause::Surface, "{b:#?}");
    }
}

/// Bug: which pause a fall came after was asked of each fall by itself, so that the second stage of a cache, after reads in which it had recovered,
/// counted from the rest before them and as the first fall after it.
#[test]
fn both_stages_of_a_cache_come_after_the_same_pause() {
    let laid = |t: f64| if t < 40.0 { 2900.0 } else { 1050.0 };
    let staged = |t: f64| match t {
        t if t < 30.0 => 2900.0,
        t if t < 120.0 => 1050.0,
        _ => 500.0,
    };
    let samples =
        legs(&[(Op::Write, 700.0, &laid), (Op::Read, 60.0, &|_| 5000.0), (Op::Write, 300.0, &staged)]);
    let found = findings(
        &Trace::of(&samples, &["lay".into(), "depth 4 / read".into(), "depth 4 / on".into()]),
        &limits(),
    );
    let last = found.breaks.last().unwrap();
    assert!(last.to_mb_s < 600.0, "{last:#?}");
    let has = |b: &Break, row: &str| b.evidence.iter().any(|e| e.row == row);
    assert!(!has(last, "cache.first-fall") && has(last, "cache.further-fall"), "{last:#?}");
    // 90 s at 1,050 MB/s and 30 s at 2,900 since the reads: 9 % of the drive, and not what was laid before.
    assert!(!has(last, "cache.too-large-in-all"), "{last:#?}");
}

/// Bug: falls of a small cache after 2 and after 4 GB lay within a hundredth of a drive of 2 TB, and were one weak place.
#[test]
fn fills_of_a_small_cache_are_not_one_place() {
    let rest = |_: f64| 0.0;
    let sizes = [8.0, 4.0, 6.0, 2.5, 5.0];
    let rates: Vec<_> =
        sizes.iter().map(|gb| move |t: f64| if t * 0.4 < *gb { 400.0 } else { 30.0 }).collect();
    let mut all: Vec<Leg<'_>> = Vec::new();
    let mut names = Vec::new();
    for rate in &rates {
        all.extend([(Op::Idle, 60.0, &rest as &dyn Fn(f64) -> f64), (Op::Write, 120.0, rate)]);
        names.extend([format!("rest {}", names.len()), format!("write {}", names.len())]);
    }
    let mut samples = legs(&all);
    let (mut at, mut leg) = (0, u32::MAX);
    for sample in samples.iter_mut().filter(|s| s.op == Op::Write) {
        if std::mem::replace(&mut leg, sample.leg) != sample.leg {
            at = 0;
        }
        sample.offset = Some(Bytes(at));
        at += sample.written.0;
    }
    let found = findings(&Trace::of(&samples, &names), &limits());
    let falls: Vec<&Break> = found.breaks.iter().filter(|b| b.to_mb_s < 100.0).collect();
    assert_eq!(falls.len(), sizes.len(), "{:#?}", found.breaks);
    for b in falls {
        assert_eq!(b.cause, Cause::CacheExhausted, "{b:#?}");
    }
}

/// Bug: a cache that frees a little of itself while it is written lets the rate come back for seconds. The fall was "unexplained, 93 %", since the rate
/// came back without a rest, and each of the bursts was two breaks more.
#[test]
fn a_cache_that_frees_a_little_of_itself_is_one_and_its_bursts_are_a_pattern() {
    for seed in 0..6 {
        for (at, every, lasts) in [(60.0, 45.0, 2.0), (120.0, 25.0, 1.5), (40.0, 60.0, 3.0)] {
            let what = format!("seed {seed}, {lasts} of {every} s behind {at}");
            let rate = move |t: f64| {
                if t < at || (t - at) % every > every - lasts { 2900.0 } else { 800.0 }
            };
            let maker = Maker { seed: seed + 31, noise: 0.02, ..Maker::new(at + 9.0 * every) };
            let samples = with(maker.samples(rate), cool);
            let found = shown(&samples);
            assert_eq!(found.breaks.len(), 1, "{what}: {:#?}", found.breaks);
            let b = &found.breaks[0];
            assert!((b.at_s - at).abs() <= 1.0 && (b.to_mb_s / 800.0 - 1.0).abs() < 0.1, "{what}: {b:#?}");
            assert_eq!(b.cause, Cause::CacheExhausted, "{what}: {b:#?}");
            assert!(b.evidence.iter().any(|e| e.row == "cache.comes-back-briefly"), "{what}: {b:#?}");
        }
        // The same for a pattern of much more than is freed so: it is not surely a cache.
        let rate = |t: f64| if t < 60.0 || (t - 60.0) % 60.0 > 30.0 { 2900.0 } else { 800.0 };
        let maker = Maker { seed: seed + 31, noise: 0.02, ..Maker::new(600.0) };
        let found = shown(&with(maker.samples(rate), cool));
        let b = &found.breaks[0];
        assert!(b.cause != Cause::CacheExhausted || b.confidence < 0.5, "{b:#?}");
    }
}

/// Bug: behind the second stage of a cache the rate rose a little. That was taken for its coming back, and the fall was "unexplained, 94 %".
#[test]
fn a_rate_that_rises_a_little_behind_the_last_stage_of_a_cache_has_not_come_back() {
    for (second, third, last) in [(1400.0, 530.0, 880.0), (770.0, 290.0, 480.0), (1200.0, 450.0, 750.0)] {
        let rate = |t: f64| match t {
            t if t < 64.0 => 3500.0,
            t if t < 193.0 => second,
            t if t < 368.0 => third,
            _ => last,
        };
        let found = shown(&with(Maker { noise: 0.02, ..Maker::new(560.0) }.samples(rate), cool));
        assert_eq!(found.breaks.len(), 3, "{:#?}", found.breaks);
        for b in &found.breaks[..2] {
            assert_eq!(b.cause, Cause::CacheExhausted, "{b:#?}");
        }
    }
}

/// Bug: single samples that were low at random times were "dips every 9.8 s" once patterns that are high for moments were looked for.
#[test]
fn single_samples_that_are_low_at_random_times_are_no_pattern() {
    let mut patterned = 0;
    for seed in 0..100_u64 {
        let maker = Maker { seed: seed + 71, noise: 0.01, ..Maker::new(900.0) };
        let mut samples = with(maker.samples(|_| 740.0), cool);
        // A generator that the maker does not have (D. H. Lehmer's, 1951, by its upper digits): one of 17 samples is low.
        let mut state = seed * 2 + 1;
        for s in &mut samples {
            state = state * 48_271 % 2_147_483_647;
            if state / 65_536 % 17 == 0 {
                s.written = Bytes((s.written.0 as f64 * 0.85) as u64);
            }
        }
        let found = shown(&samples);
        assert!(found.breaks.is_empty(), "seed {seed}: {:?}", found.breaks);
        patterned += found.dips.len();
    }
    // Chance alone puts five of them at even distances now and then.
    assert!(patterned <= 10, "{patterned} patterns in 100 traces");
}

/// Bug: dips that were a little longer than what the median takes out were left in some places and taken out in others, and between those stood two
/// breaks that nobody could explain.
#[test]
fn regular_dips_of_a_second_or_two_are_no_breaks() {
    for seed in 0..12 {
        for (every, lasts, of) in [(26.92, 1.4, 1490.0), (26.92, 1.2, 1490.0), (33.1, 1.3, 1900.0)] {
            let rate = move |t: f64| if t % every < lasts { 75.0 } else { 330.0 };
            let maker = Maker { seed: seed + 3, noise: 0.015, ..Maker::new(of) };
            let found = shown(&with(maker.samples(rate), cool));
            let what = format!("seed {seed}, {lasts} of {every} s");
            assert!(found.breaks.is_empty(), "{what}: {:#?}", found.breaks);
            assert!(
                found.dips.iter().any(|d| (d.period_s / every - 1.0).abs() < 0.05),
                "{what}: {:?}",
                found.dips
            );
        }
    }
}

/// Bug: a dip of 5 or 6 samples of half a second between stretches of the same rate was two breaks, "unexplained, 48 to 72 % confidence", though a plateau
/// has to last 8 samples: half of that was enough once its edges were known.
#[test]
fn a_dip_that_lasts_no_plateau_between_two_equal_rates_is_no_break_and_one_that_does_is_two() {
    let found = |seed: u64, lasts: f64, depth: f64| {
        let at = [61.5, 118.0, 251.0];
        let maker = Maker { seed: seed + 41, noise: 0.012, ..Maker::new(330.0) };
        let is_low = move |t: f64| at.iter().any(|from| (*from..from + lasts).contains(&t));
        let rate = move |t: f64| if is_low(t) { 62.0 * (1.0 - depth) } else { 62.0 };
        shown(&with(maker.samples(rate), cool)).breaks
    };
    for seed in 0..12 {
        for (lasts, depth) in [(2.5, 0.45), (3.0, 0.45), (2.5, 0.15), (3.0, 0.7)] {
            let breaks = found(seed, lasts, depth);
            assert!(breaks.is_empty(), "seed {seed}, {lasts} s by {depth}: {breaks:#?}");
        }
        // Three that are level for longer than a plateau has to be.
        let breaks = found(seed, 6.0, 0.45);
        assert_eq!(breaks.len(), 6, "seed {seed}: {breaks:#?}");
    }
}

/// Bug: dips of less than a second that come regularly, and others at any time among them, were a pattern for a few minutes and taken out elsewhere, and the
/// mean of the one was no mean of the other: up to three breaks between stretches of the same rate.
#[test]
fn regular_dips_among_others_at_any_time_are_no_breaks() {
    for seed in 0..40_u64 {
        let every = 21.37 + 0.01 * seed as f64;
        let maker = Maker { seed: seed + 13, noise: 0.015, ..Maker::new(1337.0) };
        let fine = with(maker.samples(|t| if t % every < 0.8 { 460.0 } else { 2000.0 }), cool);
        // Lehmer's generator, as above: one of 60 samples of half a second is low by a tenth to seven tenths.
        let mut state = seed * 2 + 1;
        let half_second = |pair: &[Sample]| {
            state = state * 48_271 % 2_147_483_647;
            let keeps =
                if state / 65_536 % 60 == 0 { 0.3 + 0.6 * (state % 65_536) as f64 / 65_536.0 } else { 1.0 };
            let written = Bytes(((pair[0].written.0 + pair[1].written.0) as f64 * keeps) as u64);
            Sample { start: pair[0].start, written, ..pair[1].clone() }
        };
        let samples: Vec<Sample> = fine.chunks_exact(2).map(half_second).collect();
        let found = shown(&samples);
        assert!(found.breaks.is_empty(), "seed {seed}: {:#?}", found.breaks);
    }
}

/// Bug: a fall that took longer than the level before it had lasted was no change from one level to the other. It was not found at all, or, where the line
/// through it began above the level, it was a rise, "unexplained, 93 % confidence", and a fall by the last tenth.
#[test]
fn a_fall_that_takes_longer_than_the_level_before_it_is_one_break_from_level_to_level() {
    for (before, takes, bend) in
        [(60.0, 100.0, 1.0), (60.0, 110.0, 0.85), (90.0, 160.0, 1.0), (120.0, 180.0, 0.8)]
    {
        for seed in 0..6 {
            let way = |t: f64| ((t - before) / takes).clamp(0.0, 1.0).powf(bend);
            let rate = |t: f64| 7142.0 * (2460.0_f64 / 7142.0).powf(way(t));
            let maker = Maker { seed: seed + 3, noise: 0.02, ..Maker::new(before + 4.0 * takes) };
            let samples = with(maker.samples(rate), warms(before, 70.0));
            let found = findings(&Trace::of(&samples, &["soak".into()]), &limits());
            let what = format!("{before} s, then {takes} s, seed {seed}: {:#?}", found.breaks);
            assert_eq!(found.breaks.len(), 1, "{what}");
            let b = &found.breaks[0];
            assert!((b.from_mb_s / 7142.0 - 1.0).abs() < 0.04, "{what}");
            assert!((b.to_mb_s / 2460.0 - 1.0).abs() < 0.04, "{what}");
            assert!(b.low_s < before + 0.1 * takes && b.high_s > before + 0.9 * takes, "{what}");
        }
    }
}

/// A leg whose address went on further ahead once was taken for one that goes from zone to zone, where no breaks are looked for: rows that are lost
/// from a log, or a region that is left out, hid every break of it.
#[test]
fn an_address_that_goes_on_further_ahead_hides_no_break() {
    for (op, hop) in [(Op::Write, 100.0), (Op::Write, 450.0), (Op::Read, 200.0)] {
        for size in [20e9, 300e9] {
            let maker = Maker { op, noise: 0.02, ..Maker::new(600.0) };
            let mut samples = maker.samples(|t| if t < 250.0 { 1000.0 } else { 400.0 });
            let mut address = 0.0;
            for s in &mut samples {
                s.temp = Some(Celsius(45.0));
                s.offset = Some(Bytes(address as u64));
                address += s.moved().0 as f64;
                if (s.end.secs() - hop).abs() < STEP / 2.0 {
                    address += size;
                }
            }
            let found = shown(&samples);
            assert_eq!(found.breaks.len(), 1, "{op:?}, at {hop} s by {size}: {:#?}", found.breaks);
            assert!((found.breaks[0].at_s - 250.0).abs() < 1.0, "{:?}", found.breaks[0]);
        }
    }
}

/// Two or three falls of a read at rates that no disk has, or deeper than the radius of any disk allows so near its outer edge, were "the outer to
/// the inner tracks of a disk", 95 %.
#[test]
fn a_read_that_falls_more_than_the_radius_of_a_disk_does_is_no_disk() {
    let steps = |at: [f64; 2], shares: [f64; 3]| move |t: f64| shares[at.iter().filter(|a| t >= **a).count()];
    // A solid-state drive of 2 TB; a drive as slow as a disk that falls in its first hundredth.
    for (rate, capacity) in [(7000.0, 3.5e12), (200.0, 20e12)] {
        let law = steps([150.0, 330.0], [rate, 0.8 * rate, 0.62 * rate]);
        let maker = Maker { op: Op::Read, noise: 0.01, ..Maker::new(500.0) };
        let mut samples = with(maker.samples(law), |_, s| s.temp = Some(Celsius(41.0)));
        let mut address = 0;
        for s in &mut samples {
            s.offset = Some(Bytes(address));
            address += s.moved().0;
        }
        let context = Context { capacity: Some(Bytes(capacity as u64)), ..limits() };
        let found = findings(&Trace::of(&samples, &["read".into()]), &context);
        assert_eq!(found.breaks.len(), 2, "{rate}: {:#?}", found.breaks);
        for b in &found.breaks {
            assert!(b.cause != Cause::Surface || b.confidence < 0.8, "{rate}: {b:#?}");
        }
    }
    // A disk: as fast as the outermost track of each of four zones allows, with an inner radius of 0.45 (the rate goes with the radius, the bytes with
    // the area), read whole.
    let (inner, whole) = (0.45_f64, 60e9);
    let rate = |zone: f64| 200e6 * (1.0 - zone / 4.0 * (1.0 - inner * inner)).sqrt();
    let ends: Vec<f64> = (0..4)
        .scan(0.0, |t, k| {
            *t += whole / 4.0 / rate(f64::from(k));
            Some(*t)
        })
        .collect();
    let law = |t: f64| rate(ends.iter().filter(|e| t >= **e).count().min(3) as f64) / 1e6;
    let maker = Maker { op: Op::Read, noise: 0.01, ..Maker::new(ends[3]) };
    let mut samples = maker.samples(law);
    let mut address = 0;
    for s in &mut samples {
        (s.offset, s.temp) = (Some(Bytes(address)), Some(Celsius(38.0)));
        address += s.moved().0;
    }
    let context = Context { capacity: Some(Bytes(whole as u64)), ..limits() };
    let found = findings(&Trace::of(&samples, &["read".into()]), &context);
    assert_eq!(found.breaks.len(), 3, "{:#?}", found.breaks);
    assert!(found.breaks.iter().all(|b| b.cause == Cause::Surface), "{:#?}", found.breaks);
}

/// A drive that slows at 62 °C and comes back at 57 °C, again and again, 14 °C below the limit that it declares, was "unexplained" with up to 97 %.
#[test]
fn a_drive_that_slows_at_one_temperature_and_comes_back_at_another_is_throttled_below_its_limit_too() {
    for (tau, hot, cool) in [(150.0, 62.0, 57.0), (300.0, 64.0, 58.0), (400.0, 60.0, 55.0)] {
        // Newton's law: towards 72 °C at full load and 48 °C at the rate of the slow drive.
        let (mut temp, mut slow) = (40.0_f64, false);
        let step = |_| {
            temp += ((if slow { 48.0 } else { 72.0 }) - temp) * (1.0 - (-STEP / tau).exp());
            slow = if slow { temp > cool } else { temp >= hot };
            (if slow { 500.0 } else { 1500.0 }, temp.round())
        };
        let rows: Vec<(f64, f64)> = (0..(6.0 * tau / STEP) as usize).map(step).collect();
        let at = |t: f64| rows[((t / STEP) as usize).min(rows.len() - 1)];
        let maker = Maker { noise: 0.02, ..Maker::new(6.0 * tau) };
        let samples = with(maker.samples(|t| at(t).0), |t, s| s.temp = Some(Celsius(at(t - STEP / 2.0).1)));
        let context = Context { warn: Some(Celsius(hot + 14.0)), critical: Some(Celsius(85.0)), ..limits() };
        let found = findings(&Trace::of(&samples, &["soak".into()]), &context);
        // Of a pattern, the first fall.
        assert!(!found.breaks.is_empty(), "tau {tau}");
        for b in &found.breaks {
            let right = if b.to_mb_s < b.from_mb_s { Cause::ThermalThrottle } else { Cause::ThermalRelease };
            assert_eq!(b.cause, right, "tau {tau}: {b:#?}");
        }
    }
}

/// Behind a cache that frees a little of itself while it is written, the rate jumps up for about a second at uneven times. A stretch with a few jumps more
/// or fewer was a break, and "unexplained" with up to 99 %.
#[test]
fn bursts_at_uneven_times_make_no_break_and_hide_none() {
    for seed in 0..8_u64 {
        // Distances between the bursts by a generator of its own (Lehmer, 1951): 3 to 9 s.
        let (mut state, mut at, mut bursts) = (2 * seed + 77_777, 120.0, Vec::new());
        while at < 900.0 {
            state = state * 48_271 % 2_147_483_647;
            at += 3.0 + 6.0 * state as f64 / 2_147_483_647.0;
            bursts.push(at);
        }
        let is_burst = |t: f64| bursts.iter().any(|b| (*b..b + 1.1).contains(&t));
        for falls_further in [false, true] {
            let level = |t: f64| match t {
                t if t < 120.0 => 2000.0,
                t if is_burst(t) => 1800.0,
                t if t > 500.0 && falls_further => 250.0,
                _ => 600.0,
            };
            let maker = Maker { seed: seed + 1, noise: 0.02, ..Maker::new(900.0) };
            let found = shown(&with(maker.samples(level), cool));
            let times: Vec<f64> = found.breaks.iter().map(|b| b.at_s).collect();
            let right: &[f64] = if falls_further { &[120.0, 500.0] } else { &[120.0] };
            let fits = times.iter().zip(right).all(|(t, r)| (t - r).abs() < 12.0);
            assert!(times.len() == right.len() && fits, "seed {seed}, {falls_further}: {:#?}", found.breaks);
        }
    }
}

/// Seen on a small cache that was full after 2.5 s: the plateau before the break had 2,001 MB/s, and the break went "993 to 806 MB/s". The line through the first
/// segment, which has to be 3 s long, was drawn over the edge; the confidence went by a fall of 19 %, and not of 60 %.
#[test]
fn a_break_after_a_stretch_shorter_than_a_plateau_has_the_rate_of_that_stretch() {
    let (mut found, mut all) = (0, 0);
    for seed in 0..20 {
        for (at, seconds) in [(2.0, 15.0), (2.5, 15.0), (2.75, 16.0), (2.5, 60.0), (2.75, 300.0)] {
            for (high, low) in [(2000.0, 800.0), (1500.0, 300.0)] {
                let maker = Maker { seed: seed * 7 + 1, noise: 0.01, ..Maker::new(seconds) };
                let samples = with(maker.samples(|t| if t < at { high } else { low }), cool);
                let breaks = shown(&samples).breaks;
                all += 1;
                found += usize::from(breaks.len() == 1);
                for b in breaks {
                    let what = format!("seed {seed}, {high} to {low} at {at} of {seconds} s: {b:#?}");
                    assert!((b.at_s - at).abs() <= STEP, "{what}");
                    assert!((b.from_mb_s / high - 1.0).abs() < 0.03, "{what}");
                    assert!((b.to_mb_s / low - 1.0).abs() < 0.03, "{what}");
                }
            }
        }
    }
    // Shorter than a plateau has to be, not all of them are seen.
    assert!(3 * found >= all, "{found} of {all}");
}

/// Bug: a leg of a single sample had a deviation of 0, and varied by 0.0 %: nothing is known of how a rate varies that was measured once.
#[test]
fn a_leg_of_one_sample_has_no_deviation_and_no_evenness() {
    let legs = |lengths: [u64; 2]| {
        let starts = [0, lengths[0]];
        let samples: Vec<Sample> = (0..2_u32)
            .flat_map(|leg| (0..lengths[leg as usize]).map(move |i| (leg, starts[leg as usize] + i)))
            .map(|(leg, i)| Sample {
                start: Nanos(i * 250_000_000),
                end: Nanos((i + 1) * 250_000_000),
                leg,
                written: Bytes(100_000_000),
                ..Sample::default()
            })
            .collect();
        findings(&Trace::of(&samples, &["a".into(), "b".into()]), &Context::default())
    };
    let found = legs([1, 2]);
    let deviations: Vec<Option<f64>> = found.plateaus.iter().map(|p| p.sd_mb_s).collect();
    assert_eq!(deviations, [None, Some(0.0)]);
    let even: Vec<bool> = found.legs.iter().map(|l| l.consistency.is_some()).collect();
    assert_eq!(even, [false, true]);
}

/// Bug: the rate of a drive went down over minutes. A fall was announced, taken back while the rate went on down, as the engine takes a change for a slope until it
/// has seen where it ends, and announced again.
#[test]
fn a_gradual_fall_that_was_announced_is_not_taken_back_while_the_rate_goes_on_down() {
    let mut announced = 0;
    for (takes, to, noise) in
        [(40.0, 0.7, 0.01), (60.0, 0.75, 0.02), (90.0, 0.8, 0.02), (150.0, 0.5, 0.03), (200.0, 0.8, 0.03)]
    {
        for seed in 1..=2 {
            let falls = |t: f64| 1000.0 * (1.0 - (1.0 - to) * ((t - 400.0) / takes).clamp(0.0, 1.0));
            let maker = Maker { noise, seed, ..Maker::new(400.0 + 5.0 * takes) };
            let samples = with(maker.samples(falls), |_, s| s.temp = Some(Celsius(45.0)));
            let mut live = LiveFindings::new(limits());
            for sample in &samples {
                live.push(sample, "soak");
                for news in live.news() {
                    announced += usize::from(matches!(news, News::Announced(_)));
                    assert!(!matches!(news, News::Withdrawn(_)), "{takes} s to {to}, seed {seed}: {news:#?}");
                }
            }
            let (_, last) = live.close();
            assert_eq!(last.breaks.len(), 1, "{takes} s to {to}, seed {seed}: {:#?}", last.breaks);
        }
    }
    assert!(announced >= 8, "{announced}");
}

/// What was taken for a fall while it lasted, and came back, is taken back all the same.
#[test]
fn a_short_dip_that_was_announced_is_taken_back_when_the_rate_is_back() {
    let dips = |t: f64| if (t + 20.0) % 40.0 < 6.0 { 500.0 } else { 1000.0 };
    let samples = with(Maker::new(1200.0).samples(dips), |_, s| s.temp = Some(Celsius(45.0)));
    let mut live = LiveFindings::new(limits());
    for sample in &samples {
        live.push(sample, "soak");
        live.news();
    }
    assert_eq!(live.breaks(), [], "of a pattern nothing is left");
}

/// Bug: a cache that folds for two hours out of three and a half: each of the ten changes was announced after an hour, before it was known that they repeat, and all were
/// taken back when it was.
#[test]
fn changes_that_repeat_are_not_announced_one_by_one_before_it_is_known_that_they_repeat() {
    // Samples of a minute.
    let period = 210.0;
    let folds = |m: f64| if m >= 280.0 && (m - 280.0) % period < 90.0 { 600.0 } else { 1000.0 };
    let mut live = LiveFindings::new(limits());
    let mut moved = Vec::new();
    for m in 0..3000_u32 {
        let noise = 1.0 + 0.01 * (f64::from(m) * 0.7).sin();
        let bytes = (folds(f64::from(m)) * noise * 60e6) as u64;
        let (start, end) = (Nanos::from_secs(60.0 * f64::from(m)), Nanos::from_secs(60.0 * f64::from(m + 1)));
        let temp = Some(Celsius(45.0));
        live.push(
            &Sample { start, end, op: Op::Write, written: Bytes(bytes), temp, ..Sample::default() },
            "soak",
        );
        moved.extend(live.news());
    }
    let told = |of: fn(&News) -> bool| moved.iter().filter(|n| of(n)).count();
    let (announced, withdrawn) =
        (told(|n| matches!(n, News::Announced(_))), told(|n| matches!(n, News::Withdrawn(_))));
    assert!((1..=3).contains(&announced) && withdrawn <= 2, "{announced} {withdrawn} {moved:#?}");
}

/// Bug: a rate that slides down in a curve, as exp(-t/120 s) does, was told as a change that began minutes later: its first part, once taken out, counted as level. What was
/// announced of it while it was underway is not withdrawn.
#[test]
fn a_slide_in_a_curve_is_one_change_from_its_start_to_its_end() {
    for seed in 0..4 {
        let slides =
            |t: f64| if t < 1200.0 { 2500.0 } else { 1500.0 + 750.0 * (-(t - 1200.0) / 120.0).exp() };
        let samples = with(Maker { seed, noise: 0.02, ..Maker::new(4000.0) }.samples(slides), cool);
        let (news, found) = watched(&samples, limits());
        let told = |of: fn(&News) -> bool| news.iter().filter(|n| of(n)).count();
        assert_eq!(told(|n| matches!(n, News::Withdrawn(_))), 0, "seed {seed}: {news:#?}");
        let [one] = &found.breaks[..] else { panic!("seed {seed}: {:#?}", found.breaks) };
        // Behind two time constants an eighth of the way is left, 7 % of the rate.
        assert!(one.low_s <= 1210.0 && one.high_s >= 1440.0, "seed {seed}: {one:#?}");
        let parts = told(|n| matches!(n, News::Joined(_, Whole::Change)));
        assert_eq!(told(|n| matches!(n, News::Announced(_))), 1 + parts, "seed {seed}: {news:#?}");
    }
}

/// What is announced and taken back while a run of such rates is underway, and the breaks at its end.
fn told(seconds: f64, rate: impl Fn(f64) -> f64, seed: u64) -> (usize, usize, usize) {
    let maker = Maker { seed, noise: 0.02, ..Maker::new(seconds) };
    let samples = with(maker.samples(rate), cool);
    let mut live = LiveFindings::new(limits());
    let (mut announced, mut withdrawn) = (0, 0);
    for sample in &samples {
        live.push(sample, "soak");
        for news in live.news() {
            announced += usize::from(matches!(news, News::Announced(_)));
            withdrawn += usize::from(matches!(news, News::Withdrawn(_)));
        }
    }
    (announced, withdrawn, live.close().1.breaks.len())
}

/// Bug: the first fall of a pattern that begins with its leg was announced as the end of a write cache, and taken back minutes later, when the pattern was known.
#[test]
fn the_first_fall_of_a_pattern_that_begins_with_its_leg_is_not_announced() {
    for (period, low, first) in [(75.0, 35.0, 9.6), (40.0, 22.0, 5.0), (60.0, 20.0, 11.0)] {
        for seed in 1..=2 {
            let saw = move |t: f64| if t >= first && (t - first) % period < low { 700.0 } else { 1500.0 };
            let what = format!("{low} of {period} s from {first} s on, seed {seed}");
            assert_eq!(told(8.0 * period, saw, seed), (0, 0, 0), "{what}");
        }
    }
}

/// Bug: a drive whose rate swings as soon as its write cache is full: the first fall and rise of the swings were announced, and taken back when the pattern was known.
#[test]
fn of_swings_that_begin_with_the_end_of_a_cache_only_that_end_is_announced() {
    for (period, low, after) in [(20.0, 6.0, 7.0), (30.0, 12.0, 9.0), (16.0, 6.0, 5.0)] {
        for seed in 1..=2 {
            let swing = move |t: f64| {
                let behind = t - 320.0;
                let is_low = behind >= after && (behind - after) % period < low;
                if behind < 0.0 {
                    127.0
                } else if is_low {
                    42.0
                } else {
                    60.0
                }
            };
            let what = format!("{low} of {period} s, {after} s after the cache, seed {seed}");
            assert_eq!(told(320.0 + 10.0 * period, swing, seed), (1, 0, 1), "{what}");
        }
    }
}

/// An end of a cache that comes soon after the start, and stays, is told within two minutes all the same.
#[test]
fn an_early_end_of_a_cache_is_announced() {
    for at in [4.0, 8.0, 11.0] {
        assert_eq!(told(at + 130.0, |t| if t < at { 1500.0 } else { 500.0 }, 1), (1, 0, 1), "{at} s");
    }
}
