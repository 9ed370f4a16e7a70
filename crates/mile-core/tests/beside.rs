//! What is logged beside the rate and says why it fell: the power of the drive, the temperature around it, what its link carries, and how far below its
//! limit it is. The truth of each trace is in the functions of time that make it.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod made;

use made::{Maker, STEP, limits, with};
use mile_core::channel::{Channel, Reading, Series, Source, Tells, tells};
use mile_core::findings::{Break, Cause};
use mile_core::{Celsius, Context, Findings, LiveFindings, Nanos, Rate, Sample, Trace, findings};

/// When the rate falls in all of these, seconds.
const FALL: f64 = 300.0;
const HIGH: f64 = 1000.0;
const LOW: f64 = 550.0;

fn falls(t: f64) -> f64 {
    if t < FALL { HIGH } else { LOW }
}

/// A drive that warms up to 72 °C, three below its limit, and no further.
fn warm(seconds: f64) -> Vec<Sample> {
    with(Maker { noise: 0.01, ..Maker::new(seconds) }.samples(falls), |t, s| {
        s.temp = Some(Celsius((72.0 - 30.0 * (-t / 90.0).exp()).round()));
    })
}

/// Readings of the power in each second.
fn power(seconds: f64, watts: impl Fn(f64) -> f64) -> Series {
    let channel = Channel { name: "supply".into(), unit: "W".into(), of: Some(0), ..Channel::default() };
    let reading = |i: u64| Reading { at: Nanos(i * 1_000_000_000), value: watts(i as f64) };
    Series { channel, readings: (1..seconds as u64).map(reading).collect() }
}

fn found(samples: &[Sample], series: &[Series], context: &Context) -> Findings {
    findings(&Trace::of(samples, &["soak".to_owned()]).with_series(series, 0), context)
}

fn only(found: &Findings) -> Break {
    assert_eq!(found.breaks.len(), 1, "{:#?}", found.breaks);
    found.breaks[0].clone()
}

fn weight(of: &Break, row: &str) -> Option<f64> {
    of.evidence.iter().find(|e| e.row == row).map(|e| e.weight)
}

fn odds(of: &Break, cause: Cause) -> f64 {
    of.candidates.iter().find(|c| c.cause == cause).map_or(f64::NEG_INFINITY, |c| c.log_odds)
}

/// 2 W at rest and 6 W more at the full rate. A throttled drive draws 2 + 6 · 0.55 = 5.3 W, and one that takes more work for each byte draws 8 W as before.
#[test]
fn a_power_that_falls_with_the_rate_speaks_for_heat_and_one_that_stays_for_the_cache() {
    let samples = warm(600.0);
    let context = limits();
    let silent = only(&found(&samples, &[], &context));
    let with_power = |watts: fn(f64) -> f64| only(&found(&samples, &[power(600.0, watts)], &context));
    let less = with_power(|t| if t <= FALL { 8.0 } else { 2.0 + 6.0 * LOW / HIGH });
    let same = with_power(|_| 8.0);
    let more = with_power(|t| if t < FALL { 7.0 } else { 8.0 });
    let text = |b: &Break, row: &str| b.evidence.iter().find(|e| e.row == row).map(|e| e.text.clone());
    assert_eq!(
        text(&less, "throttle.power-falls").as_deref(),
        Some("its power fell with its rate, from 8.00 W to 5.30 W")
    );
    assert!(weight(&less, "cache.power-falls").unwrap() < 0.0);
    for stays in [&same, &more] {
        assert!(weight(stays, "throttle.power-stays").unwrap() < 0.0, "{stays:#?}");
        assert!(weight(stays, "cache.power-stays").unwrap() > 0.0);
        assert!(weight(stays, "throttle.power-falls").is_none());
    }
    let heat = |b: &Break| odds(b, Cause::ThermalThrottle) - odds(b, Cause::CacheExhausted);
    assert!(heat(&less) > heat(&silent) + 0.5 && heat(&silent) > heat(&same) + 0.5);
    // A fall by a twentieth of it is neither.
    let between = with_power(|t| if t < FALL { 8.0 } else { 7.1 });
    assert!(between.evidence.iter().all(|e| !e.row.contains("power")), "{between:#?}");
}

/// A meter of the whole bench, a second one of the same drive, and one of another drive do not tell of this one's power.
#[test]
fn the_power_of_a_drive_is_that_of_its_first_meter() {
    let meter = |name: &str, of: Option<u32>| Channel {
        name: name.into(),
        unit: "W".into(),
        of,
        source: Source::Instrument(name.into()),
        ..Channel::default()
    };
    let all = [meter("mains", None), meter("a", Some(1)), meter("b", Some(0)), meter("c", Some(0))];
    let told: Vec<_> = (0..5).map(|i| tells(&all, i)).collect();
    assert_eq!(told, [None, Some((1, Tells::Power)), Some((0, Tells::Power)), None, None]);
    let samples = warm(600.0);
    let series: Vec<Series> = all
        .into_iter()
        .map(|channel| Series { channel, ..power(600.0, |t| if t < FALL { 9.0 } else { 3.0 }) })
        .collect();
    let of_others = found(&samples, &series[..2], &limits());
    assert!(only(&of_others).evidence.iter().all(|e| !e.row.contains("power")));
    assert!(weight(&only(&found(&samples, &series, &limits())), "throttle.power-falls").is_some());
}

#[test]
fn the_power_counts_while_the_run_is_underway_as_it_does_at_its_end() {
    let (samples, series) = (warm(600.0), power(600.0, |_| 8.0));
    let mut live = LiveFindings::new(limits());
    let mut readings = series.readings.iter().peekable();
    for s in &samples {
        while let Some(reading) = readings.next_if(|r| r.at <= s.end) {
            live.push_reading(Tells::Power, *reading);
        }
        live.push(s, "soak");
    }
    let (_, last) = live.close();
    assert!(weight(&only(&last), "throttle.power-stays").is_some());
    assert!(last == found(&samples, &[series], &limits()));
}

/// A drive that would stay at 72 °C becomes warmer with the air around it: by 10 °C from the 300th to the 600th second. At 80 °C it is throttled, and goes on
/// so until it is 74 °C, with the air.
#[test]
fn air_that_becomes_warmer_speaks_for_heat_and_air_that_becomes_cooler_for_its_end() {
    let air = |t: f64| {
        25.0 + 10.0 * ((t - 300.0) / 300.0).clamp(0.0, 1.0) - 12.0 * ((t - 900.0) / 300.0).clamp(0.0, 1.0)
    };
    // It is at 80 °C 540 s after it began, and at 74 °C after 1,110 s.
    let temp = |t: f64| air(t) + 47.0 - 30.0 * (-t / 60.0).exp();
    let slow = |t: f64| if (540.0..1100.0).contains(&t) { LOW } else { HIGH };
    let rows = |logged: bool| {
        let samples = with(Maker { noise: 0.01, ..Maker::new(1500.0) }.samples(slow), |t, s| {
            s.temp = Some(Celsius(temp(t).round()));
            s.ambient = logged.then(|| Celsius((air(t) * 10.0).round() / 10.0));
        });
        let found = found(&samples, &[], &Context { warn: Some(Celsius(80.0)), ..Context::default() });
        assert_eq!(found.breaks.len(), 2, "{:#?}", found.breaks);
        found.breaks
    };
    let [blind, seen] = [false, true].map(rows);
    let causes: Vec<Cause> = seen.iter().map(|b| b.cause).collect();
    assert_eq!(causes, [Cause::ThermalThrottle, Cause::ThermalRelease]);
    let text =
        |b: &Break, row: &str| b.evidence.iter().find(|e| e.row == row).map(|e| e.text.clone()).unwrap();
    // By 540 s it is 10 · 240/300 = 8 °C warmer, less what half of the seconds looked at are earlier.
    let said = text(&seen[0], "throttle.ambient-rose");
    assert!(said.contains("risen by 7.5 °C") || said.contains("risen by 7.4 °C"), "{said}");
    assert!(text(&seen[1], "release.ambient-fell").contains("ambient temperature has fallen by"));
    for (with, without) in seen.iter().zip(&blind) {
        assert!(odds(with, with.cause) > odds(without, with.cause) + 0.3);
        assert!(without.evidence.iter().all(|e| !e.row.contains("ambient")));
    }
}

/// A link that carried 1,063 MB/s held the drive at 1000, 94 % of it, and comes to half: 500 MB/s. One that carries four times as much says nothing, nor
/// does a fall to seven tenths.
#[test]
fn a_rate_at_what_half_of_the_link_carries_is_told() {
    let at = |link: f64, to: f64| {
        let samples =
            Maker { noise: 0.01, ..Maker::new(600.0) }.samples(|t| if t < FALL { HIGH } else { to });
        let context = Context { link: Some(Rate(link * 1e6)), ..limits() };
        let of = only(&found(&samples, &[], &context));
        of.evidence.iter().find(|e| e.row == "unexplained.link-part").map(|e| e.text.clone())
    };
    let text = |part: &str| {
        Some(format!(
            "the rate before is what the link carries, and the rate after is what {part} of it carries"
        ))
    };
    assert_eq!(at(1063.0, 500.0), text("half"));
    assert_eq!(at(1063.0, 250.0), text("a quarter"));
    assert_eq!(at(4000.0, 500.0), None, "it was not the link that held it");
    assert_eq!(at(1063.0, 700.0), None);
}

/// Visits that nobody logs, at regular times, warm and cool a drive as a throttle would. 28 °C below its limit that is none.
#[test]
fn a_swing_far_below_the_limit_is_not_surely_heat() {
    let slow = |t: f64| t >= 400.0 && (t - 400.0) % 350.0 < 100.0;
    let swing = |limit: f64, seed: u64| {
        let mut temp = 40.0_f64;
        let rows: Vec<f64> = (0..(1500.0 / STEP) as usize)
            .map(|i| {
                let settles = if slow(i as f64 * STEP) { 44.0 } else { 60.0 };
                temp += (settles - temp) * (1.0 - (-STEP / 150.0_f64).exp());
                temp.round()
            })
            .collect();
        let maker = Maker { noise: 0.01, seed, ..Maker::new(1500.0) };
        let samples = with(maker.samples(|t| if slow(t) { 400.0 } else { HIGH }), |t, s| {
            s.temp = Some(Celsius(rows[((t - STEP / 2.0) / STEP) as usize]));
        });
        found(&samples, &[], &Context { warn: Some(Celsius(limit)), ..Context::default() }).breaks
    };
    for seed in 1..=5 {
        let far = swing(85.0, seed);
        assert!(far.len() >= 6, "{far:#?}");
        for b in &far {
            let heat = matches!(b.cause, Cause::ThermalThrottle | Cause::ThermalRelease);
            assert!(!heat || b.confidence < 0.9, "seed {seed}: {b:#?}");
        }
        // A release is no surer than the fall that it undoes.
        for pair in far.windows(2).filter(|p| p[1].cause == Cause::ThermalRelease) {
            assert!(pair[0].cause != Cause::ThermalThrottle || pair[1].confidence <= pair[0].confidence);
        }
    }
}
