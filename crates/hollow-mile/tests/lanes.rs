//! Runs on several drives, from the command line: real devices armed one by one, and simulated ones side by side.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::{Bench, LoopDevice, course};
use mile_logbook::Logbook;
use mile_runner::message::faults_of;
use mile_runner::{EventKind, Status};
use serde_json::Value;
use std::process::Stdio;

const MIB: u64 = 1 << 20;
/// Each drive written and verified by itself, then both at the same time: about 4 s.
const TWO: &str = "course \"two\"\nsample every 50 ms\nlane upper\nlane lower\n\
    leg idle\n rest for 200 ms\n\
    leg first on upper\n write sequential, blocks 256 KiB, depth 8, over 0 B to 33554432 B, rate 40 MB/s, until one pass\n\
    leg second on lower\n write sequential, blocks 256 KiB, depth 8, over 0 B to 33554432 B, rate 40 MB/s, until one pass\n\
    leg both\n write sequential, blocks 256 KiB, depth 8, over 33554432 B to 50331648 B, rate 20 MB/s, until one pass\n\
    leg check\n verify, blocks 256 KiB, depth 4, over 0 B to 50331648 B, until one pass\n";

fn rows(csv: &str) -> Vec<Vec<&str>> {
    csv.lines().map(|l| l.split(',').collect()).collect()
}

/// A column of rows, by its name.
fn column<'a>(rows: &[Vec<&'a str>], name: &str) -> Vec<&'a str> {
    let at = rows[0].iter().position(|c| *c == name).unwrap_or_else(|| panic!("no column {name}"));
    rows[1..].iter().map(|r| r[at]).collect()
}

#[test]
fn two_devices_run_together_are_killed_in_the_middle_and_go_on_to_complete_and_verified_results() {
    let (Some(upper), Some(lower)) = (LoopDevice::new(64), LoopDevice::new(64)) else { return };
    let bench = Bench::on_disk();
    bench.write("two.course", TWO);
    let on = [format!("upper={}", upper.node()), format!("lower={}", lower.node())];
    let arm = [format!("upper={}", upper.name()), format!("lower={}", lower.name())];
    let drives = ["--on", &on[0], "--on", &on[1]];
    // Each is armed by itself, and nothing is written before both are.
    let run = |more: &[&str]| bench.run(&[&["run", "two.course"][..], &drives, more].concat());
    for (more, words) in [
        (&[][..], "lane upper"),
        (&["--arm", &arm[0]], "lane lower"),
        (&["--arm", &lower.name()], "does not say for which lane"),
        (&["--arm", &arm[0], "--arm", &format!("lower={}", upper.name())], "lane lower"),
    ] {
        let out = run(more);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        assert!(!out.status.success() && said.contains(words), "{more:?}: {said}");
    }
    let twice = format!("lower={}", upper.node());
    let same = bench.fails(&["run", "two.course", "--on", &on[0], "--on", &twice, "--arm", &arm[0]]);
    assert!(same.contains("the same drive"), "{same}");
    assert!(upper.is_untouched() && lower.is_untouched());
    assert!(!bench.path("l.logbook").exists(), "nothing was begun");

    let armed = ["--arm", &arm[0], "--arm", &arm[1]];
    for (round, moments) in [8, 25, 40, 52].into_iter().enumerate() {
        let args = [&["run", "two.course"][..], &drives, &armed].concat();
        // So many samples of the upper lane into the run.
        bench.kill_on_the_way(&args, 0, moments);
        let run = round as i64 + 1;
        let number = run.to_string();
        let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(run).unwrap();
        assert_eq!((stored.status, stored.lanes.len()), (Status::CutShort, 2), "round {round}");
        let refused = bench.fails(&["resume", &number, "--arm", &arm[0]]);
        assert!(refused.contains("lane lower"), "{refused}");
        bench.ok(&[&["resume", &number][..], &armed].concat());
        let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(run).unwrap();
        assert_eq!(stored.status, Status::Done);
        for (i, (lane, wanted)) in
            stored.lanes.iter().zip([[0, 32, 0, 16, 48], [0, 0, 32, 16, 48]]).enumerate()
        {
            assert_eq!(faults_of(&lane.events), [], "round {round}: nobody is accused on lane {i}");
            assert!(
                lane.samples.windows(2).all(|w| w[0].end == w[1].start),
                "round {round}: no hole in time"
            );
            let ends =
                lane.events.iter().filter(|e| matches!(e.kind, EventKind::LegEnded { over: true, .. }));
            assert!(ends.count() >= 5, "round {round}: each leg came to its end");
            for (leg, mib) in wanted.into_iter().enumerate() {
                let moved = lane.samples.iter().filter(|s| s.leg as usize == leg).map(|s| s.moved().0);
                assert!(moved.sum::<u64>() >= mib * MIB, "round {round}, lane {i}, leg {leg}");
            }
        }
    }
    let csv = bench.ok(&["export", "last", "--as", "csv", "-o", "out.csv"]);
    assert!(csv.is_empty() || csv.contains("out.csv"), "{csv}");
    let text = bench.read("out.csv");
    let rows = rows(&text);
    let lanes = column(&rows, "lane");
    assert!(lanes.contains(&"upper") && lanes.contains(&"lower"));
    let times: Vec<f64> = column(&rows, "elapsed_s").iter().map(|t| t.parse().unwrap()).collect();
    assert!(times.windows(2).all(|w| w[0] <= w[1]), "in the order of time");
    // What is exported comes back, and gives the same findings for each lane.
    bench.ok(&["logbook", "import", "out.csv"]);
    let of = |run: &str| -> Value {
        serde_json::from_str(&bench.ok(&["findings", run, "--format", "json"])).unwrap()
    };
    let (was, is) = (of("4"), of("5"));
    for lane in ["upper", "lower"] {
        let plateaus = |v: &Value| {
            let of = v["lanes"].as_array().unwrap().iter().find(|l| l["lane"] == lane).unwrap();
            of["findings"]["plateaus"].as_array().unwrap().len()
        };
        assert_eq!(plateaus(&was), plateaus(&is), "{lane}");
    }
}

#[test]
fn two_simulated_drives_side_by_side_give_each_lane_its_findings_temperatures_and_figures() {
    let bench = Bench::new();
    let two = course("two-slots");
    let on = ["--on", "upper=sim:merrow-k2", "--on", "lower=sim:merrow-k2-finned"];
    let out = bench.ok(&[&["run", &two][..], &on, &["--format", "json", "--truth", "truth.json"]].concat());
    let result: Value = serde_json::from_str(&out).unwrap();
    assert_eq!((&result["status"], result["lanes"].as_array().unwrap().len()), (&"done".into(), 2));
    assert!(result.get("findings").is_none());
    let truth: Value = serde_json::from_str(&bench.read("truth.json")).unwrap();
    for (lane, name) in ["upper", "lower"].iter().enumerate() {
        let (lane, truth) = (&result["lanes"][lane], &truth["lanes"][lane]);
        assert_eq!((&lane["lane"], &truth["lane"]), (&(*name).into(), &(*name).into()));
        let full = |e: &&Value| e["what"] == "cache-full";
        let at = truth["truth"]["events"].as_array().unwrap().iter().find(full).unwrap()["at_bytes"].as_f64();
        let found = lane["findings"]["cache"]["bytes"].as_f64().unwrap();
        assert!((found / at.unwrap() - 1.0).abs() < 0.02, "{name}: {found} and {at:?}");
    }
    bench.ok(&["export", "last", "--as", "csv", "-o", "all.csv"]);
    let text = bench.read("all.csv");
    let rows = rows(&text);
    assert_eq!(column(&rows, "lane").len(), column(&rows, "temp_c").len());
    // One lane of it is a trace like any other; a figure is of one lane.
    bench.ok(&["export", "last", "--lane", "lower", "--as", "csv", "-o", "lower.csv"]);
    let text = bench.read("lower.csv");
    let of_lower: Vec<_> = self::rows(&text);
    assert!(column(&of_lower, "lane").iter().all(|l| *l == "lower"));
    bench.ok(&["export", "last", "--lane", "lower", "--as", "svg", "-o", "lower.svg"]);
    assert!(bench.read("lower.svg").contains("two slots on Merrow K2 2TB, lower"));
    for (args, words) in [
        (&["export", "last", "--lane", "middle", "--as", "csv", "-o", "x.csv"][..], "there are upper, lower"),
        (&["findings", "last", "--lane", "middle"], "has no lane `middle`"),
        (&["run", &two, "--on", "sim:merrow-k2"], "upper=DRIVE --on lower=DRIVE"),
        (&["run", &two, "--on", "upper=sim:merrow-k2"], "`lower` is given no drive"),
        (
            &[
                "run",
                &two,
                "--on",
                "upper=sim:merrow-k2",
                "--on",
                "lower=sim:bittern-s1",
                "--on",
                "x=sim:sprat",
            ],
            "no lane `x`",
        ),
        (
            &["run", &two, "--on", "upper=sim:merrow-k2", "--on", "lower=f.bin", "--size", "lower=1GB"],
            "simulated and real",
        ),
        (&["run", &course("first-look"), "--on", "upper=sim:merrow-k2"], "names no lane `upper`"),
    ] {
        let said = bench.fails(args);
        assert!(said.contains(words), "{args:?}: {said}");
    }
}

/// Bug: two simulated drives of one model, side by side in one run, had one seed: they were alike to the last digit, so that a comparison of the two
/// established differences out of nothing.
#[test]
fn two_simulated_drives_of_one_model_scatter_each_by_itself() {
    let bench = Bench::new();
    bench.write(
        "both.course",
        "course \"both\"\nsample every 500 ms\nlane upper\nlane lower\n\
         leg both\n write sequential, blocks 1 MiB, depth 8, for 20 s\n",
    );
    let on = ["--on", "upper=sim:merrow-k2", "--on", "lower=sim:merrow-k2"];
    bench.ok(&[&["run", "both.course"][..], &on].concat());
    let written = |lane: &str| -> Vec<f64> {
        bench.ok(&["export", "last", "--lane", lane, "--as", "csv", "-o", lane]);
        let text = bench.read(lane);
        let rows = rows(&text);
        let rate = column(&rows, "write_mb_s").into_iter().map(|v| v.parse::<f64>().unwrap());
        rate.filter(|r| *r > 0.0).collect()
    };
    let (upper, lower) = (written("upper"), written("lower"));
    assert_eq!(upper.len(), lower.len());
    let mean = |v: &[f64]| v.iter().sum::<f64>() / v.len() as f64;
    let (mu, ml) = (mean(&upper), mean(&lower));
    assert!((mu / ml - 1.0).abs() < 0.02, "the same drive: {mu} and {ml} MB/s");
    let sum =
        |f: &dyn Fn(f64, f64) -> f64| upper.iter().zip(&lower).map(|(a, b)| f(a - mu, b - ml)).sum::<f64>();
    let correlation = sum(&|a, b| a * b) / (sum(&|a, _| a * a) * sum(&|_, b| b * b)).sqrt();
    // Forty independent pairs: 0.5 is three standard deviations (1/sqrt(n)).
    assert!(correlation.abs() < 0.5, "{correlation}");
}

/// A bench instrument beside a real drive: its readings are in the logbook and the CSV, a leg ends by them, and a guard stops by them.
#[test]
fn a_run_goes_by_the_readings_of_a_bench_instrument_and_goes_on_without_one_that_is_lost() {
    let bench = Bench::new();
    let mut stand_in =
        bench.command(&["instrument", "simulate", "--port", "0"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(stand_in.stdout.take().unwrap()), &mut line)
        .unwrap();
    let port = line
        .split("127.0.0.1:")
        .nth(1)
        .and_then(|p| p.split('.').next())
        .unwrap_or_else(|| panic!("{line}"))
        .to_owned();
    let channel = |name: &str, unit: &str, query: &str| {
        format!("[[instrument.channel]]\nname = \"{name}\"\nunit = \"{unit}\"\nquery = \"{query}\"\n")
    };
    let instruments = format!(
        "[[instrument]]\nname = \"logger\"\nkind = \"scpi\"\nhost = \"127.0.0.1\"\nport = {port}\ninterval = \"50 ms\"\ntimeout = \"300 ms\"\n{}{}",
        channel("ambient", "°C", "MEAS:TEMP? (@102)"),
        channel("uptime", "s", "DIAG:CLOC?"),
    );
    bench.write("bench.toml", &instruments);
    assert!(bench.ok(&["instrument", "list", "bench.toml"]).contains("Bench stand-in"));
    let read = bench.ok(&["instrument", "read", "bench.toml", "--for", "1"]);
    assert!(read.lines().filter(|l| l.contains(",ambient,24,°C")).count() > 1, "{read}");
    // The leg ends when the instrument says so: at a moment of its own clock that lies ahead.
    let uptime: f64 =
        read.lines().rev().find_map(|l| l.split(",uptime,").nth(1)?.split(',').next()?.parse().ok()).unwrap();
    let until = uptime + 4.0;
    let course = |guard: &str| {
        format!(
            "course \"c\"\nsample every 50 ms\n{guard}leg wait\n rest until uptime above {until:.3} s, at most 60 s\nleg write\n write sequential, blocks 256 KiB, depth 4, until 4 MiB written\n"
        )
    };
    bench.write("c.course", &course(""));
    let on = ["--on", "x.bin", "--size", "16MB", "--instruments", "bench.toml"];
    bench.ok(&[&["run", "c.course"][..], &on].concat());
    let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(1).unwrap();
    let [ambient, uptimes] = stored.series.as_slice() else { panic!("{:?}", stored.head.channels) };
    assert!(ambient.readings.len() > 10 && ambient.readings.iter().all(|r| r.value == 24.0));
    // The clock of the instrument and that of the run go alike.
    let (first, last) = (uptimes.readings.first().unwrap(), uptimes.readings.last().unwrap());
    let (ours, theirs) = (last.at.since(first.at).secs(), last.value - first.value);
    assert!((ours - theirs).abs() < 0.3, "{ours} {theirs}");
    let wait = stored.first().samples.iter().filter(|s| s.leg == 0).map(|s| s.end.secs()).fold(0.0, f64::max);
    let at_end = uptimes.readings.iter().rfind(|r| r.at.secs() <= wait).unwrap().value;
    assert!(at_end > until - 0.2, "{at_end} {until}");
    bench.ok(&["export", "1", "--as", "csv", "-o", "r.csv"]);
    let text = bench.read("r.csv");
    let rows = rows(&text);
    assert!(column(&rows, "uptime_s").iter().any(|v| !v.is_empty()));
    // The drive's own ambient has that name already.
    assert!(column(&rows, "ambient_2_c").contains(&"24"));
    // What is exported comes back as channels.
    bench.ok(&["logbook", "import", "r.csv"]);
    let back = Logbook::read(&bench.path("l.logbook")).unwrap().run(2).unwrap();
    assert_eq!(
        back.head.channels.iter().map(mile_core::channel::Channel::column).collect::<Vec<_>>(),
        ["ambient_2_c", "uptime_s"]
    );
    // A course that is not over before the first reading.
    bench.write("g.course", "course \"g\"\nstop if ambient above 23.5 °C\nleg wait\n rest for 5 min\n");
    let said = bench.fails(&[&["run", "g.course"][..], &on].concat());
    assert!(said.contains("ambient above 23.5 °C: ambient is 24"), "{said}");
    for (guard, words) in [
        ("stop if probe above 90 °C\n", "no channel is called `probe`: there are ambient, °C; uptime, s"),
        ("stop if ambient above 90 W\n", "but the channel is in °C"),
    ] {
        bench.write("b.course", &course(guard));
        let said = bench.fails(&[&["run", "b.course"][..], &on].concat());
        assert!(said.contains(words), "{said}");
    }
    // An instrument that is lost is told, and the run goes on without it.
    stand_in.kill().unwrap();
    stand_in.wait().unwrap();
    bench.write("w.course", "course \"w\"\nsample every 50 ms\nleg rest\n rest for 2 s\n");
    let out = bench.ok(&[&["run", "w.course"][..], &on].concat());
    assert!(out.contains("The instrument logger cannot be read; the run goes on without it"), "{out}");
    assert!(
        bench
            .fails(&["instrument", "list", "bench.toml"])
            .contains("not all instruments can be read: logger")
    );
    let sim = bench.fails(&["run", "w.course", "--on", "sim:sprat", "--instruments", "bench.toml"]);
    assert!(sim.contains("--instruments bench"), "{sim}");
}

/// The instruments of the simulated bench, against what the simulation knows: the probe follows the die by the law in the truth, and the
/// energy of the legs adds up to that which the drive took.
#[test]
fn the_instruments_of_the_simulated_bench_obey_their_law() {
    let bench = Bench::new();
    let soak = "course \"s\"\nsample every 500 ms\nleg soak\n write sequential, blocks 1 MiB, depth 16, for 20 min\nleg cool\n rest until probe below 45 °C, at most 2 h\n";
    bench.write("s.course", soak);
    let run = [
        "run",
        "s.course",
        "--on",
        "sim:merrow-k2",
        "--instruments",
        "bench",
        "--format",
        "json",
        "--truth",
        "t.json",
    ];
    let result: Value = serde_json::from_str(&bench.ok(&run)).unwrap();
    let truth: Value = serde_json::from_str(&bench.read("t.json")).unwrap();
    let law = &truth["instruments"];
    let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(1).unwrap();
    let probe = stored.series.iter().find(|s| s.channel.name == "probe").unwrap();
    // The drive's own sensor shows the die in whole degrees, a second late at the most: led through the law, it is what the probe shows.
    let (lag, offset) = (law["probe_lag_s"].as_f64().unwrap(), law["probe_offset_k"].as_f64().unwrap());
    let mut expected = stored.first().samples[0].temp.unwrap().0;
    let mut worst: f64 = 0.0;
    for (sample, reading) in stored.first().samples.iter().zip(&probe.readings) {
        let (die, seconds) = (sample.temp.unwrap().0, sample.end.since(sample.start).secs());
        expected += (die - expected) * (1.0 - (-seconds / lag).exp());
        worst = worst.max((reading.value - expected - offset).abs());
    }
    assert!(worst < 2.0, "{worst}");
    let energy: f64 =
        result["stages"].as_array().unwrap().iter().filter_map(|s| s["lanes"][0]["energy_wh"].as_f64()).sum();
    let joules = law["energy_j"].as_f64().unwrap();
    assert!((energy * 3600.0 / joules - 1.0).abs() < 0.01, "{} and {joules}", energy * 3600.0);
    let cooled = probe.readings.last().unwrap().value;
    assert!((44.0..45.0).contains(&cooled), "the leg ended by the probe: {cooled}");
    // Without instruments the drive does the same.
    let without = bench.run(&["run", "s.course", "--on", "sim:merrow-k2"]);
    assert!(String::from_utf8_lossy(&without.stderr).contains("--instruments gives channels"));
}
