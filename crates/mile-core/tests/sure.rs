//! What cannot be known is not said with confidence. The truth of each trace is in the function of time that makes it; what its readings leave open
//! follows from physics.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod made;

use made::{Maker, STEP, limits, shown, with};
use mile_core::findings::{Break, Candidate, Cause};
use mile_core::ledger::Account;
use mile_core::live::News;
use mile_core::{
    Bytes, Celsius, Context, Digest, EarlierRun, LiveFindings, Nanos, Op, Rate, Sample, Throttled, Trace,
    findings,
};

fn breaks(samples: &[Sample]) -> Vec<Break> {
    shown(samples).breaks
}

/// Every second reading, as a log has them whose sensors are asked less often than the drive.
fn thinned(samples: &[Sample]) -> Vec<Sample> {
    let mut thin = samples.to_vec();
    // Neither at each other's times, nor at the break each time.
    for (i, sample) in thin.iter_mut().enumerate() {
        let lost = |k: usize| (i * 7 + k * 3) % 11 < 6;
        sample.temp = sample.temp.filter(|_| !lost(0));
        sample.throttled = sample.throttled.filter(|_| !lost(1));
        sample.fill = sample.fill.filter(|_| !lost(2));
    }
    thin
}

/// Gives sequential writes their addresses: the first from the front of the drive on, those of later legs from byte `begins`.
fn second_write_from(samples: &mut [Sample], begins: u64) {
    let (mut at, mut leg) = (0, 0);
    for sample in samples.iter_mut().filter(|s| s.op == Op::Write) {
        if std::mem::replace(&mut leg, sample.leg) != sample.leg {
            at = begins;
        }
        sample.offset = Some(Bytes(at));
        at += sample.written.0;
    }
}

/// Bug: the fill of a drive and its throttle counters were looked for in one sample each. Where that had none, all that was known of them was left out:
/// "unexplained, 95 % confidence" of a throttle that a counter showed.
#[test]
fn a_reading_that_is_missing_in_one_sample_is_taken_from_the_next() {
    let falls = |at: f64| move |t: f64| if t < at { 1000.0 } else { 700.0 };
    for at in [200.0, 213.5, 240.0, 251.0] {
        // 58 °C with a limit of 75: only the counter tells of heat.
        let made = Maker::new(500.0).samples(falls(at));
        let heat = with(made, |t, s| {
            s.temp = Some(Celsius(58.0));
            s.throttled = Some(Throttled { light_s: (t - at).max(0.0).floor(), heavy_s: 0.0 });
        });
        let made = Maker::new(500.0).samples(falls(at));
        let full = with(made, |_, s| (s.temp, s.fill) = (Some(Celsius(45.0)), Some(0.9)));
        let known = |samples: &[Sample], row: &str| {
            let found = breaks(samples);
            assert_eq!(found.len(), 1, "{at}: {found:#?}");
            (found[0].cause, found[0].evidence.iter().any(|e| e.row == row))
        };
        for samples in [heat.clone(), thinned(&heat)] {
            assert_eq!(known(&samples, "throttle.counter"), (Cause::ThermalThrottle, true), "{at}");
        }
        for samples in [full.clone(), thinned(&full)] {
            assert!(known(&samples, "fill.full").1, "{at}");
        }
    }
}

/// Bug: a drive that heat had slowed, and that was held at its limit, fell further when another program came, whose traffic was not logged: "throttled by
/// heat, 98 %", though it had got no hotter, and the end of the visit was "cooled, throttling released, 98 %".
#[test]
fn a_throttled_drive_that_falls_further_and_got_no_hotter_is_not_surely_throttled_further() {
    let rate = |t: f64| match t {
        t if t < 200.0 => 1000.0,
        t if (400.0..500.0).contains(&t) => 400.0,
        _ => 700.0,
    };
    // Held at its limit, and a little cooler while the other has the drive.
    let temp = |t: f64| match t {
        t if t < 200.0 => 45.0 + 30.0 * t / 200.0,
        t if t < 410.0 => 75.0,
        t if t < 500.0 => 73.0,
        _ => 75.0,
    };
    let visited =
        with(Maker::new(700.0).samples(rate), |t, s| s.temp = Some(Celsius(f64::round(temp(t - STEP)))));
    let found = breaks(&visited);
    assert_eq!(found.len(), 3, "{found:#?}");
    assert_eq!(found[0].cause, Cause::ThermalThrottle);
    assert!(found[0].confidence >= 0.9, "{:#?}", found[0]);
    let heat = [Cause::ThermalThrottle, Cause::ThermalRelease];
    for b in &found[1..] {
        assert!(!heat.contains(&b.cause) || b.confidence < 0.9, "{b:#?}");
    }
    // Where the traffic is logged, it is said of the other program.
    let seen = with(visited.clone(), |t, s| {
        s.foreign = Some(Rate(if (400.0..500.0).contains(&(t - STEP)) { 290e6 } else { 0.0 }));
    });
    let causes: Vec<Cause> = breaks(&seen).iter().map(|b| b.cause).collect();
    assert_eq!(causes, [Cause::ThermalThrottle, Cause::Interference, Cause::InterferenceEnd]);
    // A second step of a throttle that did not suffice comes hotter, and is one.
    let step = |t: f64| if t < 200.0 { 1000.0 } else { 700.0 } - if t < 400.0 { 0.0 } else { 300.0 };
    let climbs = |t: f64| match t {
        t if t < 200.0 => 45.0 + 30.0 * t / 200.0,
        t if t < 400.0 => 75.0 + 5.0 * (t - 200.0) / 200.0,
        _ => 80.0,
    };
    let steps = with(Maker::new(700.0).samples(step), |t, s| s.temp = Some(Celsius(f64::round(climbs(t)))));
    let found = breaks(&steps);
    let causes: Vec<Cause> = found.iter().map(|b| b.cause).collect();
    assert_eq!(causes, [Cause::ThermalThrottle, Cause::ThermalThrottle], "{found:#?}");
}

/// Bug: "unexplained, 97 %" was said of a drive that gave no answer, where the one latency that would have shown it was not read.
#[test]
fn a_standstill_of_which_nobody_knows_whether_the_drive_was_asked_may_be_a_stall() {
    for lasts in [12.0, 20.0, 35.0] {
        let still = |t: f64| if (150.0..150.0 + lasts).contains(&t) { 0.0 } else { 1000.0 };
        let made = with(Maker::new(400.0).samples(still), |_, s| s.temp = Some(Celsius(51.0)));
        let found = breaks(&made);
        assert_eq!(found.len(), 2, "{found:#?}");
        for b in found {
            assert!(b.confidence <= 0.8, "{lasts} s: {b:#?}");
        }
    }
}

/// Bug: a link that came up at half its rate was "write cache exhausted, 86 %" while the run was underway, until the rate came back without a rest. What
/// comes behind a fall is no reading of that moment. At the end of the run it is.
#[test]
fn the_first_end_of_a_cache_is_not_sure_before_it_is_known_that_the_rate_stays_down() {
    for lasts in [60.0, 150.0] {
        let halved = |t: f64| if (150.0..150.0 + lasts).contains(&t) { 500.0 } else { 1000.0 };
        let samples = with(Maker::new(500.0).samples(halved), |_, s| s.temp = Some(Celsius(50.0)));
        let mut live = LiveFindings::new(limits());
        let mut told: Vec<(f64, Break)> = Vec::new();
        for sample in &samples {
            live.push(sample, "soak");
            for news in live.news() {
                if let News::Announced(b) | News::Revised(b) = news {
                    told.push((sample.end.secs(), b));
                }
            }
        }
        let first = &told.first().unwrap().1;
        assert_eq!(first.cause, Cause::CacheExhausted, "{told:#?}");
        for (at, b) in &told {
            assert!(b.cause != Cause::CacheExhausted || !b.is_clear(), "{lasts}: at {at} s {b:#?}");
        }
        let (_, last) = live.close();
        assert!(last.breaks.iter().all(|b| b.cause != Cause::CacheExhausted), "{:#?}", last.breaks);
    }
    // A run that has ended is not waited for, and its findings are those of an archived one.
    let cache = |t: f64| if t < 100.0 { 1000.0 } else { 300.0 };
    let samples = with(Maker::new(400.0).samples(cache), |_, s| s.temp = Some(Celsius(50.0)));
    let mut live = LiveFindings::new(limits());
    for sample in &samples {
        live.push(sample, "soak");
        live.news();
    }
    let underway = live.breaks()[0].clone();
    // Whoever opens the findings of the run meanwhile reads the same.
    let so_far = Context { underway: true, ..limits() };
    let opened = findings(live.trace(), &so_far).breaks;
    // The last look may be some samples old, that of a screen that has just joined the run is not.
    let verdicts = |breaks: &[Break]| breaks.iter().map(|b| (b.cause, b.confidence)).collect::<Vec<_>>();
    assert_eq!(verdicts(&opened), verdicts(live.breaks()));
    let mut joined = LiveFindings::new(limits());
    samples.iter().for_each(|s| joined.push(s, "soak"));
    joined.settle();
    assert_eq!(opened, joined.breaks());
    let (_, last) = live.close();
    assert_eq!(last.breaks, breaks(&samples));
    assert_eq!((underway.cause, last.breaks[0].cause), (Cause::CacheExhausted, Cause::CacheExhausted));
    assert_eq!(underway.at_most, 0.75);
    assert!(last.breaks[0].at_most > underway.at_most);
}

/// A cache of which half was free again after the rest ends at another address the second time, and is no place: the first end is sure then, also while
/// the run goes on. One that ends at the same address may be one.
#[test]
fn a_cache_that_ends_at_two_addresses_is_sure_while_the_run_goes_on() {
    for (begins, is_sure) in [(0, true), (50_000_000_000, false)] {
        let rate = |t: f64| match t {
            t if t < 100.0 => 1000.0,
            t if t < 200.0 => 300.0,
            t if t < 260.0 => 0.0,
            t if t < 310.0 => 1000.0,
            _ => 300.0,
        };
        let mut samples = with(Maker::new(410.0).samples(rate), |t, s| {
            s.temp = Some(Celsius(45.0));
            s.leg = if t <= 200.0 { 0 } else { 1 + u32::from(t > 260.0) };
            s.op = if s.leg == 1 { Op::Idle } else { Op::Write };
        });
        second_write_from(&mut samples, begins);
        let mut live = LiveFindings::new(limits());
        for sample in &samples {
            live.push(sample, ["soak 1", "rest", "soak 2"][sample.leg as usize]);
            live.news();
        }
        let first = &live.breaks()[0];
        assert_eq!(first.cause, Cause::CacheExhausted);
        assert_eq!(first.at_most > 0.75, is_sure, "{first:#?}");
    }
}

/// Bug: two writes that began at different addresses fell at the same one, after 100 and 87 GB: "write cache exhausted, 98 %". A worn place does that, and a
/// cache only by chance. Where both begin at the same address, nothing tells the place from the cache, which is what is there by far more often.
#[test]
fn a_cache_is_not_sure_where_two_writes_fell_at_one_address_after_other_bytes() {
    for (begins, is_sure) in [(13.0, false), (0.0, true)] {
        let reaches = 260.0 + (100.0 - begins);
        let rate = |t: f64| match t {
            t if t < 100.0 => 1000.0,
            t if t < 200.0 => 300.0,
            t if t < 260.0 => 0.0,
            t if t < reaches => 1000.0,
            _ => 300.0,
        };
        let mut samples = with(Maker::new(450.0).samples(rate), |t, s| {
            s.temp = Some(Celsius(45.0));
            s.leg = if t <= 200.0 { 0 } else { 1 + u32::from(t > 260.0) };
            s.op = if s.leg == 1 { Op::Idle } else { Op::Write };
        });
        second_write_from(&mut samples, (begins * 1e9) as u64);
        let legs = ["write 1", "rest", "write 2"].map(String::from);
        let found = findings(&Trace::of(&samples, &legs), &limits());
        let falls: Vec<&Break> = found.breaks.iter().filter(|b| b.to_mb_s < b.from_mb_s).collect();
        assert_eq!(falls.len(), 2, "{:#?}", found.breaks);
        for b in falls {
            assert!(b.cause == Cause::CacheExhausted || b.confidence < 0.9, "{b:#?}");
            assert_eq!(b.confidence >= 0.9, is_sure, "{begins} GB: {b:#?}");
        }
        let back = found.breaks.iter().find(|b| b.to_mb_s > b.from_mb_s).unwrap();
        assert!(is_sure || back.confidence < 0.9, "{back:#?}");
    }
}

/// Bug: visits of a program to a hot drive, in a log without limits, counters or the traffic of others, were "throttled by heat, 97 %".
#[test]
fn heat_is_not_sure_where_neither_a_limit_nor_others_are_known() {
    let visited = |t: f64| if (200.0..300.0).contains(&t) { 600.0 } else { 1000.0 };
    let samples = with(Maker::new(500.0).samples(visited), |_, s| s.temp = Some(Celsius(76.0)));
    let found = findings(&Trace::of(&samples, &["soak".into()]), &Context::default());
    assert_eq!(found.breaks.len(), 2);
    for b in found.breaks {
        let heat = [Cause::ThermalThrottle, Cause::ThermalRelease].contains(&b.cause);
        assert!(!heat || b.confidence < 0.9, "{b:#?}");
    }
}

/// Two falls of a drive that was held at its limit, without a return between them, are no repeat at one temperature: they spoke for each other.
#[test]
fn falls_repeat_at_a_temperature_where_the_rate_came_back_between_them() {
    let rate = |t: f64| match t {
        t if t < 200.0 => 1000.0,
        t if t < 400.0 => 700.0,
        t if t < 500.0 => 400.0,
        _ => 700.0,
    };
    let samples = with(Maker::new(700.0).samples(rate), |_, s| s.temp = Some(Celsius(66.0)));
    for b in breaks(&samples).iter().filter(|b| b.to_mb_s < b.from_mb_s) {
        assert!(b.evidence.iter().all(|e| e.row != "throttle.same-temperature"), "{b:#?}");
    }
    let again = |t: f64| if (200.0..300.0).contains(&t) || t >= 400.0 { 600.0 } else { 1000.0 };
    let samples = with(Maker::new(500.0).samples(again), |_, s| s.temp = Some(Celsius(66.0)));
    let falls: Vec<Break> = breaks(&samples).into_iter().filter(|b| b.to_mb_s < b.from_mb_s).collect();
    assert_eq!(falls.len(), 2);
    for b in falls {
        assert!(b.evidence.iter().any(|e| e.row == "throttle.same-temperature"), "{b:#?}");
    }
}

/// Bug: the temperature of a throttle counted in later runs however unsure that verdict was, so that two guesses at one temperature would have made one that is sure.
#[test]
fn a_guess_of_heat_tells_nothing_to_later_runs() {
    let rate = |t: f64| if t < 300.0 { 1000.0 } else { 600.0 };
    let made = with(Maker::new(600.0).samples(rate), |t, s| {
        s.temp = Some(Celsius(40.0 + (t / 300.0).min(1.0) * 35.0));
        s.throttled = Some(Throttled { light_s: (t - 300.0).max(0.0).floor(), heavy_s: 0.0 });
    });
    let trace = Trace::of(&made, &["leg".to_owned()]);
    let found = findings(&trace, &limits());
    let [heat] = found.breaks.as_slice() else { panic!("{:#?}", found.breaks) };
    assert!(heat.cause == Cause::ThermalThrottle && heat.confidence > 0.9, "{heat:?}");
    let sure = Digest::of(&trace, &found);
    assert_eq!(sure.throttles_confidence, Some(heat.confidence));
    let told = |confidence| {
        Digest { throttles_confidence: confidence, ..sure.clone() }
            .earlier(1)
            .unwrap()
            .throttled_at
            .map(|t| t.0)
    };
    let at = told(sure.throttles_confidence).unwrap();
    assert!((at - 75.0).abs() < 1.0, "{at}");
    // A guess; and a digest of an earlier version, which does not say how sure it was.
    assert_eq!((told(Some(0.6)), told(None)), (None, None));
}

/// Bug: an earlier run that wrote 25 % more without a fall spoke as much against the end of the cache as one that wrote six times as much, and neither
/// said anything of a second fall: that was "write cache exhausted", after a sixth of what the drive had once taken as fast.
#[test]
fn what_an_earlier_run_wrote_without_a_fall_speaks_by_how_much_more_it_was() {
    let twice = |t: f64| match t {
        t if t < 100.0 => 2000.0,
        t if t < 200.0 => 1400.0,
        _ => 900.0,
    };
    // 45 °C with a limit of 75: it is not the heat.
    let samples = with(Maker::new(400.0).samples(twice), |_, s| s.temp = Some(Celsius(45.0)));
    let fallen: u64 = samples[..200].iter().map(|s| s.written.0).sum();
    let at = |times: f64, rate: Rate| {
        let wrote = (Bytes((times * fallen as f64) as u64), rate);
        let earlier = vec![EarlierRun { run: 4, unbroken: Some(wrote), ..EarlierRun::default() }];
        findings(&Trace::of(&samples, &["soak".into()]), &Context { earlier, ..limits() }).breaks
    };
    let of = |times: f64| at(times, Rate(1950e6));
    let odds = |b: &Break, cause| b.candidates.iter().find(|c| c.cause == cause).unwrap().log_odds;
    let of_cache: Vec<f64> = [1.3, 3.0, 7.0].map(|times| odds(&of(times)[0], Cause::CacheExhausted)).to_vec();
    assert!(of_cache.is_sorted_by(|a, b| a > b), "{of_cache:?}");
    // A cache that is a little smaller than it was may be that of a fuller drive.
    assert_eq!(of(1.3)[0].cause, Cause::CacheExhausted);
    let found = of(6.0);
    assert_eq!(found.len(), 2, "{found:#?}");
    for b in &found {
        assert_eq!(b.cause, Cause::Unexplained, "{b:#?}");
        // Nobody knows how full the drive was then.
        assert!((0.6..=0.95).contains(&b.confidence), "{b:#?}");
    }
    // As fast as the write at hand was before its second fall, but not as it began: a write whose cache was full from its start says nothing of either fall.
    assert_eq!(at(6.0, Rate(1300e6)), findings(&Trace::of(&samples, &["soak".into()]), &limits()).breaks);
}

/// Bug: an earlier run whose cache ended after twice the bytes spoke as much against the end of a cache as one that wrote twice the bytes without any fall.
/// It shows that the drive has a cache that ends, and that this was larger then.
#[test]
fn an_earlier_run_whose_cache_was_larger_says_less_against_a_cache_than_one_that_did_not_fall() {
    let once = |t: f64| if t < 100.0 { 2000.0 } else { 1400.0 };
    let samples = with(Maker::new(400.0).samples(once), |_, s| s.temp = Some(Celsius(45.0)));
    let fallen: u64 = samples[..200].iter().map(|s| s.written.0).sum();
    let at = |times: f64, ended: bool| {
        let bytes = Bytes((times * fallen as f64) as u64);
        let unbroken = Some((bytes, Rate(1950e6)));
        let earlier =
            vec![EarlierRun { run: 4, unbroken, cache: ended.then_some(bytes), ..EarlierRun::default() }];
        let found = findings(&Trace::of(&samples, &["soak".into()]), &Context { earlier, ..limits() });
        assert_eq!(found.breaks.len(), 1, "{found:#?}");
        found.breaks[0].clone()
    };
    let odds = |b: &Break| b.candidates.iter().find(|c| c.cause == Cause::CacheExhausted).unwrap().log_odds;
    for times in [1.5, 2.0, 3.0] {
        assert!(odds(&at(times, true)) > odds(&at(times, false)), "{times}");
    }
    assert_eq!(at(2.0, true).cause, Cause::CacheExhausted);
    assert_eq!(at(2.0, false).cause, Cause::Unexplained);
    // A cache is not eight times larger at one time than at another.
    assert_eq!(at(8.0, true).cause, Cause::Unexplained);
    let said = &at(2.0, true).evidence;
    assert!(
        said.iter().any(|e| e
            .text
            .starts_with("run 4 of this drive found its cache exhausted after 2.0 times as much")),
        "{said:#?}"
    );
}

/// Bug: where nobody logged what others did, a visit of theirs was "unexplained, 97 % confidence", and where no addresses were logged, a slow place was; so was
/// one over which a single pass went. What would show a known cause was not looked at, so that nobody can be sure that there is none.
#[test]
fn that_nothing_explains_a_change_is_not_sure_where_what_would_explain_it_was_not_logged() {
    // At a level temperature far below its limit, for two minutes, and for good.
    let visit = |t: f64| if (300.0..420.0).contains(&t) { 600.0 } else { 1000.0 };
    let falls = |t: f64| if t < 300.0 { 1000.0 } else { 600.0 };
    // In one pass, or with a second one over the same addresses.
    let read = |others: Option<f64>, address: bool, passes: u32, rate: fn(f64) -> f64| {
        let maker = Maker { op: Op::Read, ..Maker::new(800.0) };
        let passes = (0..passes).flat_map(|pass| {
            let (mut at, mut samples) = (0, maker.samples(if pass == 0 { rate } else { |_| 1000.0 }));
            for s in &mut samples {
                s.leg = pass;
                s.start = s.start.plus(Nanos::from_secs(800.0 * f64::from(pass)));
                s.end = s.end.plus(Nanos::from_secs(800.0 * f64::from(pass)));
                s.temp = Some(Celsius(40.0));
                s.foreign = others.map(|mb| Rate(1e6 * mb));
                s.offset = address.then_some(Bytes(at));
                at += s.read.0;
            }
            samples
        });
        let trace = Trace::of(&passes.collect::<Vec<_>>(), &["first".into(), "second".into()]);
        let mut found = findings(&trace, &limits());
        found.breaks.retain(|b| b.at_s < 700.0);
        assert!(!found.breaks.is_empty(), "{others:?} {address}");
        for b in &found.breaks {
            assert_eq!(b.cause, Cause::Unexplained, "{b:#?}");
        }
        found.breaks
    };
    let most = |breaks: &[Break]| breaks.iter().map(|b| b.confidence).fold(0.0, f64::max);
    // All that could tell was looked at.
    assert!(most(&read(Some(0.0), true, 2, visit)) >= 0.9);
    assert!(most(&read(Some(0.0), true, 1, falls)) >= 0.9);
    let unseen = read(None, true, 2, visit);
    assert!(most(&unseen) <= 0.5, "{unseen:#?}");
    let why = unseen[0].capped().unwrap();
    assert_eq!(
        why,
        "what was logged allows 45 % confidence at the most: it was not logged what others did, and it may have been them"
    );
    let unseen = read(None, true, 1, falls);
    assert!(most(&unseen) <= 0.75, "{unseen:#?}");
    for (address, passes) in [(false, 1), (false, 2), (true, 1)] {
        let once = read(Some(0.0), address, passes, visit);
        assert!(most(&once) <= 0.8, "{once:#?}");
        let why = once[0].capped().unwrap();
        assert!(why.starts_with("what was logged allows 80 % confidence at the most"), "{why}");
        let once = ": no other pass over the address was logged, and it may be a slow place";
        assert_eq!(why.ends_with(once), address, "{why}");
    }
    // A fall that stays is no slow place that was passed.
    assert!(most(&read(Some(0.0), false, 1, falls)) >= 0.9);
}

/// Bug: a pass of which nothing was logged at the address of a slow place spoke against the place: "another pass over the same address did not change there".
#[test]
fn a_pass_of_which_nothing_was_logged_at_an_address_tells_nothing_of_it() {
    // 100 GB, read twice from the front; slow from 40 to 45 GB.
    let (length, sample) = (100_000_000_000_u64, 500_000_000_u64);
    let slow = 40_000_000_000..45_000_000_000_u64;
    let samples = |second_is_slow: bool| -> Vec<Sample> {
        let mut clock = 0.0;
        let all = (0..2).flat_map(|pass| (0..length / sample).map(move |k| (pass, k * sample)));
        let one = |(pass, at): (u32, u64)| {
            let is_slow = slow.contains(&at) && (pass == 0 || second_is_slow);
            let start = clock;
            // Some noise, as a drive has it.
            let noise = 1.0 + 0.01 * ((at / sample * 7 + u64::from(pass) * 3) % 11) as f64 / 11.0;
            clock += noise * if is_slow { 1.0 } else { 0.5 };
            Sample {
                leg: pass,
                start: Nanos::from_secs(start),
                end: Nanos::from_secs(clock),
                op: Op::Read,
                read: Bytes(sample),
                offset: Some(Bytes(at)),
                temp: Some(Celsius(40.0)),
                foreign: Some(Rate(0.0)),
                ..Sample::default()
            }
        };
        all.map(one).collect()
    };
    let unlike = |samples: &[Sample]| {
        let found = findings(&Trace::of(samples, &["there".into(), "again".into()]), &limits());
        let first = found.breaks.first().unwrap();
        assert!(first.at_bytes.abs_diff(slow.start) <= 2 * sample, "{first:#?}");
        first.evidence.iter().any(|e| e.row == "surface.pass-unlike")
    };
    let unlogged = |from: u64, to: u64, second_is_slow: bool| {
        let mut kept = samples(second_is_slow);
        kept.retain(|s| s.leg == 0 || !(from..to).contains(&s.offset.unwrap().0));
        kept
    };
    assert!(unlike(&samples(false)), "the second pass shows that it is no place");
    assert!(!unlike(&samples(true)));
    for second_is_slow in [false, true] {
        assert!(!unlike(&unlogged(37_000_000_000, 48_000_000_000, second_is_slow)));
    }
    // A gap elsewhere takes nothing away.
    assert!(unlike(&unlogged(60_000_000_000, 75_000_000_000, false)));
}

/// Bug: the ledger gave a cause "100 %" of the odds where it had more than 99.5 %.
#[test]
fn the_ledger_calls_nothing_certain() {
    let head = |share: f64| {
        let candidate = Candidate { cause: Cause::Surface, log_odds: 7.0, share };
        Account { candidate, rows: Vec::new() }.head()
    };
    assert_eq!(head(1.0), "the surface there: >99 %, sum +7.00");
    assert_eq!(head(0.99), "the surface there: 99 %, sum +7.00");
}
