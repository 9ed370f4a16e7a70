//! The simulated drive against what its parameters say.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

use mile_core::{Access, Bytes, Nanos, Op, Workload};
use mile_drive::drive::TruthKind;
use mile_drive::{Drive, Situation, Tally, Transfer};
use mile_sim::SimDrive;
use std::io::Write;

fn write(random: bool, block: u64, depth: u32, budget: u64) -> Transfer {
    Transfer {
        load: Workload {
            op: Op::Write,
            access: if random { Access::Random } else { Access::Sequential },
            block: Bytes(block),
            depth,
            ..Workload::default()
        },
        start: Bytes(0),
        length: Bytes(1_900_000_000_000 / block * block),
        budget: Bytes(budget / block * block),
        ..Transfer::default()
    }
}

/// Runs a transfer to its end and gives seconds and the tally.
fn run(drive: &mut SimDrive, transfer: &Transfer) -> (f64, Tally) {
    let mut tally = Tally::default();
    let start = drive.now();
    drive.begin(transfer).unwrap();
    while !drive.advance(drive.now().plus(Nanos(1_000_000_000)), &mut tally).unwrap() {}
    (drive.now().since(start).secs(), tally)
}

fn variant(text: &str) -> SimDrive {
    let mut file = tempfile::Builder::new().suffix(".toml").tempfile().unwrap();
    file.write_all(format!("extends = \"merrow-k2\"\n{text}").as_bytes()).unwrap();
    SimDrive::new(&format!("sim:{}", file.path().display()), 1).unwrap()
}

/// Static part, and 16.8 % of what is free as one-bit cells: 6 GB + 0.168 × 2,000.4 GB / 3.
#[test]
fn the_cache_is_as_large_as_its_parameters_say_and_shrinks_with_fill() {
    for (fill, free) in [(0.0, 1.0), (0.5, 0.5), (0.9, 0.1)] {
        let mut drive = variant(&format!("[geometry]\nfill = {fill}"));
        run(&mut drive, &write(false, 1 << 20, 16, 150_000_000_000));
        let event = drive.truth().unwrap().events[0].clone();
        assert_eq!(event.what, TruthKind::CacheFull);
        let expected = 6e9 + 0.168 * 2_000_398_934_016.0 * free / 3.0;
        assert!(
            (event.at_bytes as f64 / expected - 1.0).abs() < 0.01,
            "{fill}: {} {expected}",
            event.at_bytes
        );
    }
}

#[test]
fn rates_before_and_behind_the_cache_are_those_of_the_model() {
    let mut drive = variant("[flash]\ndip_every_s = 0.0\n[thermal]\nlight_on_c = 200.0\nheavy_on_c = 210.0");
    let (seconds, _) = run(&mut drive, &write(false, 1 << 20, 16, 100_000_000_000));
    assert!((100_000.0 / seconds / 2875.0 - 1.0).abs() < 0.01, "{}", 100_000.0 / seconds);
    run(&mut drive, &write(false, 1 << 20, 16, 30_000_000_000));
    let (seconds, _) = run(&mut drive, &write(false, 1 << 20, 16, 100_000_000_000));
    assert!((100_000.0 / seconds / 1052.0 - 1.0).abs() < 0.01, "{}", 100_000.0 / seconds);
}

#[test]
fn at_rest_the_cache_comes_back_at_its_rate_after_its_delay() {
    let mut drive = SimDrive::new("sim:merrow-k2", 3).unwrap();
    run(&mut drive, &write(false, 1 << 20, 16, 130_000_000_000));
    let full = drive.truth().unwrap().events[0].clone();
    drive.idle(drive.now().plus(Nanos::from_secs(4.0 + 50_000.0 / 820.0)));
    run(&mut drive, &write(false, 1 << 20, 16, 130_000_000_000));
    let events: Vec<_> =
        drive.truth().unwrap().events.into_iter().filter(|e| e.what == TruthKind::CacheFull).collect();
    let regained = (events[1].at_bytes - 130_000_000_000) as f64;
    // 50 GB drained, less what the cache itself shrank by, as the data is now in its final place.
    let shrank = (130e9 - (full.at_bytes as f64 - 50e9)) * 0.168 / 3.0;
    assert!((regained / (50e9 - shrank) - 1.0).abs() < 0.12, "{regained}");
}

/// Little's law: with `depth` operations in flight, rate = depth × block / mean latency.
#[test]
fn depth_latency_and_rate_obey_littles_law() {
    for depth in [1, 4, 32] {
        let mut drive = SimDrive::new("sim:merrow-k2", 5).unwrap();
        let (seconds, tally) = run(&mut drive, &write(true, 4096, depth, 2_000_000_000));
        let rate = tally.ops as f64 / seconds;
        let law = f64::from(depth) / (tally.latency.mean() / 1e9);
        assert!((rate / law - 1.0).abs() < 0.02, "depth {depth}: {rate} {law}");
    }
    let rate_at = |depth| {
        let mut drive = SimDrive::new("sim:merrow-k2", 5).unwrap();
        let (seconds, tally) = run(&mut drive, &write(true, 4096, depth, 1_000_000_000));
        tally.ops as f64 / seconds
    };
    assert!(rate_at(8) > 3.0 * rate_at(1) && rate_at(256) < 620_001.0);
}

#[test]
fn without_a_heat_spreader_a_long_write_throttles_at_the_limit_and_with_one_it_does_not() {
    let soak = |name: &str| {
        let mut drive = SimDrive::new(name, 2).unwrap();
        run(&mut drive, &write(false, 1 << 20, 16, 1_500_000_000_000));
        (drive.truth().unwrap(), drive.health().unwrap().nvme.unwrap())
    };
    let (bare, health) = soak("sim:merrow-k2");
    let on = bare.events.iter().find(|e| e.what == TruthKind::LightOn).unwrap();
    assert!((on.temp_c - 77.0).abs() < 0.6, "{on:?}");
    assert!(health.light_transitions == 1 && health.light_seconds > 60);
    assert_eq!(health.data_units_written, (41_300_000_000_000_u128 + 1_500_000_000_000).div_ceil(512_000));
    let (finned, health) = soak("sim:merrow-k2-finned");
    assert!(finned.events.iter().all(|e| e.what == TruthKind::CacheFull), "{finned:?}");
    assert_eq!(health.light_seconds, 0);
}

/// A run of the simulated bench with another cooling was as warm as before. At rest the drive is warmer than its surroundings by its idle power times the
/// thermal resistances on the way: 1.2 W over 9.0 and 1.5 K/W, or 3.6 and 1.5 in the finned carrier.
#[test]
fn a_drive_is_set_up_as_a_person_says() {
    let idle = |said: Situation| {
        let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
        let missed = drive.set_up(&said);
        (drive.readings().temp.unwrap().0, drive.situation(), missed)
    };
    let cooling = |name: &str| Situation { cooling: Some(name.into()), ..Situation::default() };
    assert_eq!(idle(Situation::default()).0, (24.0_f64 + 1.2 * 10.5).round());
    let (temp, now, missed) =
        idle(Situation { ambient: Some(mile_core::Celsius(30.0)), ..cooling("finned carrier") });
    assert_eq!((temp, missed), ((30.0_f64 + 1.2 * 5.1).round(), None));
    assert_eq!((now.cooling.as_deref(), now.ambient.map(|a| a.0)), (Some("finned carrier"), Some(30.0)));
    // What it cannot do it says, and is what it was.
    let (temp, now, missed) = idle(cooling("liquid nitrogen"));
    assert!(missed.is_some_and(|text| text.contains("liquid nitrogen")));
    assert_eq!((temp, now.cooling.as_deref()), (37.0, Some("bare")));
}

#[test]
fn the_same_seed_gives_the_same_run_and_another_gives_another() {
    let look = |seed| {
        let mut drive = SimDrive::new("sim:merrow-k2", seed).unwrap();
        let (seconds, tally) = run(&mut drive, &write(true, 4096, 16, 500_000_000));
        (seconds, tally.latency.value_at_quantile(0.999), drive.truth().unwrap())
    };
    assert_eq!(look(11), look(11));
    assert_ne!(look(11).0, look(12).0);
}

/// How a run is cut into calls changes nothing of what happens.
#[test]
fn the_length_of_an_advance_changes_nothing() {
    let total = |slice: u64| {
        let mut drive = SimDrive::new("sim:merrow-k2", 9).unwrap();
        let mut tally = Tally::default();
        drive.begin(&write(false, 1 << 20, 16, 140_000_000_000)).unwrap();
        while !drive.advance(drive.now().plus(Nanos(slice)), &mut tally).unwrap() {}
        (drive.now(), tally.ops, tally.latency.max())
    };
    assert_eq!(total(1_000_000_000), total(250_000_000));
    assert_eq!(total(1_000_000_000), total(7_000_003));
}

/// Behind its cache the Halyard Q4 takes what goes past it at 640 MB/s, and then folds at 165: two breaks, not one.
#[test]
fn the_halyard_has_two_stages_behind_its_cache() {
    let mut drive = SimDrive::new("sim:halyard-q4", 3).unwrap();
    let transfer = Transfer {
        length: Bytes(3_900_000_000_000 / (1 << 20) * (1 << 20)),
        ..write(false, 1 << 20, 16, 600_000_000_000)
    };
    run(&mut drive, &transfer);
    let events = drive.truth().unwrap().events;
    let kinds: Vec<TruthKind> = events.iter().map(|e| e.what).collect();
    assert_eq!(kinds, [TruthKind::CacheFull, TruthKind::FoldingOn]);
    let (full, folding) = (&events[0], &events[1]);
    // 90 GB of an empty drive, less what the cache has taken of it by then (412 of 4,001 GB).
    let past = (folding.at_bytes - full.at_bytes) as f64;
    assert!((past / (90e9 * (1.0 - 412e9 / 4.0008e12)) - 1.0).abs() < 0.01, "{past}");
    let pace = past / (folding.at_s - full.at_s) / 1e6;
    assert!((pace / 640.0 - 1.0).abs() < 0.02, "{pace}");
}

/// Data that has lain for long reads at its share of the pace, and nothing else does.
#[test]
fn the_bittern_reads_old_data_slowly_and_tells_its_health_as_sata_drives_do() {
    let mut drive = SimDrive::new("sim:bittern-s1", 3).unwrap();
    let capacity = drive.facts().capacity.0 as f64;
    let mut pace = |from: f64, to: f64| {
        let whole = |share: f64| (capacity * share) as u64 / (1 << 20) * (1 << 20);
        let length = Bytes(whole(to) - whole(from));
        let transfer = Transfer {
            load: Workload { op: Op::Read, ..write(false, 1 << 20, 8, 0).load },
            start: Bytes(whole(from)),
            length,
            budget: length,
            ..write(false, 1 << 20, 8, 0)
        };
        let (seconds, tally) = run(&mut drive, &transfer);
        tally.read.0 as f64 / seconds / 1e6
    };
    let sound = pace(0.10, 0.12);
    for (from, to, share) in [(0.53, 0.55, 0.31), (0.715, 0.735, 0.44), (0.60, 0.62, 1.0)] {
        let found = pace(from, to) / sound;
        assert!((found / share - 1.0).abs() < 0.03, "{from}: {found} of the pace, {share} in the model");
    }
    let health = drive.health().unwrap();
    assert_eq!((health.source.as_str(), health.used_pct), ("ATA SMART", Some(61)));
    assert_eq!((health.power_on_hours, health.power_cycles), (Some(31_240), Some(412)));
    assert!(
        (health.written.unwrap().0 as f64 / 366e12 - 1.0).abs() < 1e-6
            && health.read.unwrap().0 > 902_000_000_000_000
    );
    assert!(health.temperature.is_some() && health.nvme.is_none() && health.attributes.len() == 7);
}

/// The link is the limit, and nothing is told of heat or health: missing, and not 0.
#[test]
fn the_sprat_is_as_fast_as_its_port_and_tells_nothing() {
    let mut drive = SimDrive::new("sim:sprat", 3).unwrap();
    let transfer = Transfer {
        length: Bytes(500_000_000_000 / (1 << 20) * (1 << 20)),
        ..write(false, 1 << 20, 4, 4_000_000_000)
    };
    let (seconds, tally) = run(&mut drive, &transfer);
    let pace = tally.written.0 as f64 / seconds / 1e6;
    assert!((pace / 43.2 - 1.0).abs() < 0.01, "{pace}");
    let link = drive.identity().link.clone().unwrap();
    assert!(link.is_degraded() && link.sentence().contains("450 MB/s"), "{}", link.sentence());
    let readings = drive.readings();
    assert_eq!((readings.temp, readings.throttled, readings.warning), (None, None, None));
    assert!(drive.health().is_none() && !drive.facts().has_temperature && drive.limits().warn.is_none());
}
