//! Runs on several drives, from the command line: real devices armed one by one, and simulated ones side by side.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::{Bench, LoopDevice, course};
use mile_logbook::Logbook;
use mile_runner::message::faults_of;
use mile_runner::remote::{Client, Frame};
use mile_runner::{EventKind, Message, Status};
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
    for (round, moments) in [8_u64, 25, 40, 52].into_iter().enumerate() {
        let args = [&["run", "two.course"][..], &drives, &armed].concat();
        let mut child = bench.command(&args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let client = loop {
            if let Some(client) = bench.sockets().iter().find_map(|s| Client::connect(s).ok()) {
                break client;
            }
            assert!(child.try_wait().unwrap().is_none(), "it has ended");
            std::thread::sleep(std::time::Duration::from_millis(5));
        };
        // So many samples of the upper lane into the run.
        let sample = |f: &Frame| matches!(f, Frame::Message(0, Message::Sample(_)));
        client.frames.iter().filter(sample).take(moments as usize).count();
        child.kill().unwrap();
        child.wait().unwrap();
        let run = round as i64 + 1;
        let number = run.to_string();
        let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(run).unwrap();
        assert_eq!((stored.status, stored.lanes.len()), (Status::CutShort, 2), "round {round}");
        for socket in bench.sockets() {
            let _ = Client::connect(&socket).is_err() && std::fs::remove_file(&socket).is_ok();
        }
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
