//! The history of drives: kept, imported, told, and watched. What is told is held against what the files say.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::Bench;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::Stdio;

const DAY: i64 = 86_400;
const START: i64 = 1_700_000_000;

/// A drive that writes 100 GB every week, and is worn by a percent with every 300 GB, over so many weeks.
fn history(weeks: i64) -> Value {
    // In the units of 512,000 B that drives count in.
    let written = |i: i64| 1_000_000_448_000_i64 + i * 195_313 * 512_000;
    let shots: Vec<Value> = (0..=weeks)
        .map(|i| {
            json!({
                "at": START + i * 7 * DAY,
                "firmware": if i < 20 { "1.0" } else { "2.0" },
                "temperature_c": 30 + i % 7,
                "counters": {
                    "written_bytes": written(i),
                    "flash_written_bytes": written(i) * 2,
                    "used_pct": 3 + i / 3,
                    "spare_pct": 100,
                    "spare_threshold_pct": 10,
                    "pending_sectors": if i > 30 { 8 } else { 0 },
                    "power_cycles": 10 + i,
                },
            })
        })
        .collect();
    json!({
        "format": "hollow-mile/health-history",
        "version": 1,
        "drive": { "model": "Made Up One", "serial": "MU-1" },
        "snapshots": shots,
    })
}

fn health(bench: &Bench, args: &[&str]) -> std::process::Output {
    bench.run(&[&["health"], args, &["--logbook", "l.logbook"]].concat())
}

fn told(bench: &Bench, args: &[&str]) -> Value {
    let out = health(bench, &[args, &["--history", "--format", "json"]].concat());
    serde_json::from_slice(&out.stdout)
        .unwrap_or_else(|e| panic!("{e} {}", String::from_utf8_lossy(&out.stderr)))
}

fn says(out: &std::process::Output) -> String {
    String::from_utf8_lossy(&out.stdout).into_owned() + &String::from_utf8_lossy(&out.stderr)
}

#[test]
fn an_imported_history_is_told_with_its_changes_and_comes_to_the_date_that_its_law_gives() {
    let bench = Bench::new();
    bench.write("h.json", &history(52).to_string());
    assert!(says(&health(&bench, &["--import", "h.json"])).contains("53 snapshots of Made Up One"));
    assert!(
        says(&health(&bench, &["--import", "h.json"])).contains("0 snapshots"),
        "the same once more is nothing new"
    );
    let story = told(&bench, &["MU-1", "--endurance", "10 TB", "--per-day", "50 GB"]);
    assert_eq!(story["snapshots"].as_array().unwrap().len(), 53);
    let last = START + 52 * 7 * DAY;
    let of = |limit: &str| {
        story["projections"].as_array().unwrap().iter().find(|p| p["limit"] == limit).unwrap().clone()
    };
    // 6.2 TB after a year, 100 GB a week: 38 weeks are left. At 50 GB a day, 76 days.
    let endurance = of("endurance");
    assert!((endurance["at"].as_i64().unwrap() - (last + 38 * 7 * DAY)).abs() < DAY, "{endurance}");
    assert!((endurance["at_given"].as_i64().unwrap() - (last + 76 * DAY)).abs() < DAY / 24, "{endurance}");
    let said = says(&health(&bench, &["MU-1", "--history", "--endurance", "10 TB", "--per-day", "50 GB"]));
    assert!(said.contains("6.20 TB of the rated 10.0 TB are written. The rest lasts until about"), "{said}");
    assert!(said.contains("At 50.0 GB a day: until"), "{said}");
    // 20 % used, a percent in three weeks, the last step just seen: 240 weeks.
    let life = of("life");
    assert_eq!(life["now"], 20.0);
    let law = START + 51 * 7 * DAY + 240 * 7 * DAY;
    assert!((life["at"].as_i64().unwrap() - law).abs() < 7 * DAY, "{life}");
    let (low, high) = (life["earliest"].as_i64().unwrap(), life["latest"].as_i64().unwrap());
    assert!(low <= law + 7 * DAY && high >= law - 7 * DAY);
    assert_eq!(of("spare")["why_not"], "the spare has not fallen in this history");
    assert!((story["write_amplification"]["ratio"].as_f64().unwrap() - 2.0).abs() < 1e-6);
    assert_eq!(story["remarks"][0]["what"], "the firmware was replaced: 1.0 by 2.0");
    // What changed: worst first, and nothing that did not.
    let changes = |since: &Value| -> Vec<String> {
        since["changes"].as_array().unwrap().iter().map(|c| c["what"].as_str().unwrap().to_owned()).collect()
    };
    let (before, first) = (changes(&story["since"][0]), changes(&story["since"][1]));
    assert_eq!(
        before,
        [
            "bytes written: 6.20 TB, after 6.10 TB (100.0 GB more)",
            "bytes written to flash: 12.4 TB, after 12.2 TB (200.0 GB more)",
            "power cycles: 62, after 61"
        ]
    );
    assert_eq!(first[0], "sectors waiting for reallocation: 8, after 0");
    assert!(story["since"][1]["changes"][0]["source"].as_str().unwrap().contains("FAST 2007"));
    let since = told(&bench, &["MU-1", "--since", "2024-07-20"]);
    assert_eq!(since["since"][0]["from"], START + 35 * 7 * DAY, "the last snapshot of that day or before");
    assert!(!changes(&since["since"][0]).iter().any(|c| c.contains("waiting")), "{since:#}");
    // The story that is printed can be imported again.
    bench.write("again.json", &story.to_string());
    let said = says(&bench.run(&["health", "--import", "again.json", "--logbook", "other.logbook"]));
    assert!(said.contains("53 snapshots"), "{said}");
}

#[test]
fn runs_and_what_is_kept_on_request_are_the_history_of_a_drive() {
    let bench = Bench::new();
    bench.write(
        "w.course",
        "course \"writes\"\nleg w\n write sequential, blocks 1 MiB, depth 16, until 50 GB written\n",
    );
    assert!(says(&health(&bench, &["sim:merrow-k2", "--history"])).contains("nothing is kept"));
    assert!(says(&health(&bench, &["sim:merrow-k2", "--keep"])).starts_with("Kept: Merrow K2 2TB"));
    bench.ok(&["run", "w.course", "--on", "sim:merrow-k2"]);
    bench.ok(&["run", "w.course", "--on", "sim:merrow-k2"]);
    let story = told(&bench, &["sim:merrow-k2", "--course-per-day", "writes"]);
    assert_eq!(story["drive"]["serial"], "MK2-0417-00312");
    let runs = story["ledger"]["runs"].as_array().unwrap();
    assert_eq!(runs.len(), 2);
    for run in runs {
        // The drive counts in units of 1,000 blocks of 512 B; the course writes whole blocks of 1 MiB.
        let host = run["host_bytes"].as_i64().unwrap();
        assert!((host - 50_000_000_000).abs() <= 512_000 + (1 << 20), "{host}");
        assert_eq!(run["course"], "writes");
    }
    assert_eq!(story["ledger"]["courses"].as_array().unwrap().len(), 1);
    // 50 GB a day against 1,200 TB, of which 41.3 are written.
    let days = (story["projections"][0]["at_given"].as_i64().unwrap()
        - story["snapshots"].as_array().unwrap().last().unwrap()["at"].as_i64().unwrap())
        / DAY;
    assert!((days - 23_174).abs() < 5, "{days}");
    assert!(
        says(&health(&bench, &["sim:merrow-k2", "--history", "--course-per-day", "none such"]))
            .contains("there are: writes")
    );
    let beside = says(&health(&bench, &["sim:merrow-k2", "--against", "sim:bittern-s1"]));
    let line = beside.lines().find(|l| l.starts_with("life used")).unwrap();
    assert!(line.contains("3 %") && line.contains("61 %"), "{line}");
}

#[test]
fn the_story_is_drawn_as_a_figure() {
    let bench = Bench::new();
    bench.write("h.json", &history(52).to_string());
    bench.ok(&["health", "--import", "h.json"]);
    let (model, serial) = ("Made Up One", "MU-1");
    let known = bench.ok(&["health", serial, "--history", "--figure", "story.svg"]);
    assert!(known.contains(model), "{known}");
    let svg = bench.read("story.svg");
    for words in [model, serial, "written in a day, between two looks", "life used", "2024-06", "20.0 GB"] {
        assert!(svg.contains(words), "{words}");
    }
    // One bar at least in each of most columns, and none beyond the edges.
    let bars: Vec<f64> =
        svg.split("<rect ").filter_map(|r| r.split("x=\"").nth(1)?.split('"').next()?.parse().ok()).collect();
    assert!(bars.len() > 400 && bars.iter().all(|x| (0.0..=1120.0).contains(x)), "{}", bars.len());
    bench.ok(&["health", serial, "--history", "--figure", "story.pdf"]);
    assert!(std::fs::read(bench.path("story.pdf")).unwrap().starts_with(b"%PDF"));
    let told = bench.fails(&["health", serial, "--history", "--figure", "story.svg"]);
    assert!(told.contains("story.svg") && bench.read("story.svg") == svg, "{told}");
    bench.ok(&["health", serial, "--history", "--figure", "story.svg", "--overwrite"]);
}

#[test]
fn files_that_are_no_history_are_refused_and_import_nothing() {
    let bench = Bench::new();
    let refused = |name: &str, text: &str, why: &str| {
        bench.write(name, text);
        let out = health(&bench, &["--import", name]);
        let said = says(&out);
        assert!(
            !out.status.success() && said.contains(why) && said.contains("Nothing was imported"),
            "{name}: {said}"
        );
        assert!(!bench.path("l.logbook").exists(), "{name}");
    };
    let with = |change: &dyn Fn(&mut Value)| {
        let mut all = history(3);
        change(&mut all);
        all.to_string()
    };
    refused("a.json", "[]", "no health history");
    refused("b.json", &with(&|h| h["format"] = json!("something")), "its format is");
    refused("c.json", &with(&|h| h["version"] = json!(2)), "its version is 2");
    refused("d.json", &with(&|h| h["drive"]["serial"] = json!(" ")), "a model and a serial number");
    refused("e.json", &with(&|h| h["drive"]["model"] = json!("a\u{1b}[2J")), "a model and a serial number");
    refused("f.json", &with(&|h| h["snapshots"][1]["at"] = json!("yesterday")), "snapshot 2: `yesterday`");
    refused("g.json", &with(&|h| h["snapshots"][1]["at"] = json!(-5)), "between 1970 and 2200");
    refused(
        "h.json",
        &with(&|h| h["snapshots"][2]["temperature_c"] = json!(1e9)),
        "snapshot 3: its temperature",
    );
    refused("i.json", &with(&|h| h["snapshots"][0]["counters"]["shoe_size"] = json!(4)), "shoe_size");
    refused("j.json", &with(&|h| h["snapshots"] = json!([])), "0 snapshots");
    refused(
        "k.json",
        &with(&|h| h["snapshots"][0]["counters"]["power_cycles"] = json!(-1)),
        "no health history",
    );
    assert!(says(&health(&bench, &["--import", "missing.json"])).contains("missing.json"));
    // A time as text is one as well.
    bench.write("t.json", &with(&|h| h["snapshots"][1]["at"] = json!("2024-02-01T10:00:00+01:00")));
    assert!(health(&bench, &["--import", "t.json"]).status.success());
}

#[test]
fn a_watch_keeps_rounds_says_what_it_cannot_read_and_ends_on_a_signal() {
    let bench = Bench::new();
    let watch = |args: &[&str]| bench.command(&[&["watch"], args, &["--logbook", "l.logbook"]].concat());
    let out = watch(&["sim:merrow-k2", "sim:sprat", "--rounds", "1"]).output().unwrap();
    let said = says(&out);
    assert!(out.status.success() && said.contains("MK2-0417-00312: 3 % of its life used"), "{said}");
    assert!(said.contains("sim:sprat tells nothing of its health"), "{said}");
    let out = watch(&["sim:sprat", "--rounds", "1"]).output().unwrap();
    assert!(!out.status.success() && says(&out).contains("nothing was kept of any"), "{}", says(&out));
    assert!(says(&watch(&["sim:none"]).output().unwrap()).contains("no simulated drive is called"));
    assert!(
        says(&watch(&["sim:merrow-k2", "--every", "1 s"]).output().unwrap())
            .contains("not between 10 s and a year")
    );
    let mut child = watch(&["sim:merrow-k2", "--every", "1 h"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    assert!(line.contains("MK2-0417-00312"), "{line}");
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
    assert!(child.wait().unwrap().success(), "it ends by itself");
}

#[test]
fn a_guard_on_a_counter_stops_the_run_where_it_is_reached_and_says_where_it_cannot_act() {
    let bench = Bench::new();
    let run = |guard: &str| -> Value {
        bench.write("g.course", &format!("course \"g\"\nhealth every 10 s\n{guard}\nleg w\n write sequential, blocks 1 MiB, depth 16, until 400 GB written\n"));
        let out = bench.run(&["run", "g.course", "--on", "sim:merrow-k2", "--format", "json"]);
        serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{e} {}", says(&out)))
    };
    // It has 41.3 TB written when it begins. The health is read every 10 s, at up to 2.9 GB/s.
    let stopped = run("stop if \"written bytes\" above 41.4 TB");
    assert_eq!(stopped["status"], "guarded", "{stopped:#}");
    let moved = stopped["bytes"].as_f64().unwrap() / 1e9;
    assert!((100.0 - 1.0..100.0 + 31.0).contains(&moved), "{moved}");
    // 3 unsafe shutdowns are there already: nothing is written.
    let at_once = run("stop if \"unsafe shutdowns\" above 2");
    assert_eq!((at_once["status"].as_str(), at_once["bytes"].as_u64()), (Some("guarded"), Some(0)));
    assert_eq!(run("stop if \"unsafe shutdowns\" above 3")["status"], "done");
    let out = bench.run(&["run", "g.course", "--on", "sim:merrow-k2"]);
    assert!(!says(&out).contains("cannot act"));
    bench.write("p.course", "course \"p\"\nstop if pending above 0\nleg r\n rest for 1 s\n");
    let said = says(&bench.run(&["run", "p.course", "--on", "sim:merrow-k2"]));
    assert!(said.contains("cannot act: this drive does not tell sectors waiting for reallocation"), "{said}");
}

#[test]
fn a_drive_tests_itself_in_a_leg_and_a_failing_block_is_told_and_counted() {
    let bench = Bench::new();
    let block = 400_000_000;
    bench.write("t.course", "course \"t\"\nleg short\n self-test short\nleg long\n self-test extended\nleg odd\n self-test conveyance\nleg cut\n self-test extended, at most 1 min\n");
    for (kind, of) in [("nvme", "merrow-k2"), ("ata", "bittern-s1")] {
        bench.write(
            &format!("{kind}.toml"),
            &format!("extends = \"{of}\"\n[health]\nself_test_fails_at = {block}\n"),
        );
        let drive = format!("sim:{kind}.toml");
        let out = bench.run(&["run", "t.course", "--on", &drive]);
        let said = says(&out);
        assert!(out.status.success(), "{said}");
        assert!(said.contains("Self-test (short): completed without an error"), "{said}");
        assert!(said.contains(&format!("first at block {block}")), "{said}");
        assert!(said.contains("and the test was ended"), "{said}");
        // Conveyance is a test of ATA drives.
        assert_eq!(
            said.contains("self-tests of this kind: not offered by this drive"),
            kind == "nvme",
            "{said}"
        );
    }
    // The failure is in the history of the drive: before and after differ.
    let serial = "MK2-0417-00312";
    let story = told(&bench, &[serial]);
    let shots = story["snapshots"].as_array().unwrap();
    let failed = |s: &Value| s["counters"]["failed_self_tests"].as_u64();
    assert_eq!((failed(&shots[0]), failed(shots.last().unwrap())), (Some(0), Some(1)), "{story:#}");
}

/// A disk of 2 GB whose sector 400,000 cannot be read. The drive's own tests read its medium: what they find lies where the scan finds it.
#[test]
fn where_a_self_test_fails_stands_on_the_map_of_the_surface() {
    let bench = Bench::new();
    bench.write(
        "bad.toml",
        "extends = \"keelson\"\n[geometry]\ncapacity_bytes = 2147483648\nlogical_block = 4096\n[[disk.unreadable]]\nsector = 400000\nsectors = 1\nafter_s = 0.1\n",
    );
    bench.write(
        "t.course",
        "course \"t\"\nstop if errors above 20\nleg before\n self-test selective, over 0 % to 50 %\nleg around\n self-test selective, over 70 % to 80 %\nleg scan\n scan forward, blocks 1 MiB, zones 64\nleg long\n self-test extended\n",
    );
    let first = bench.run(&["run", "t.course", "--on", "sim:bad.toml", "--format", "json"]);
    let run: Value = serde_json::from_slice(&first.stdout).unwrap_or_else(|e| panic!("{e} {}", says(&first)));
    let found = &run["findings"];
    let at = 400_000_u64 * 4096;
    assert_eq!(found["unreadable_blocks"][0]["start_byte"], at, "{found:#}");
    let tests = found["failed_self_tests"].as_array().unwrap();
    // The selective and the extended test fail at the same block, which is one place.
    assert_eq!(tests.len(), 1, "{tests:#?}");
    assert_eq!((tests[0]["start_byte"].as_u64(), tests[0]["end_byte"].as_u64()), (Some(at), Some(at + 4096)));
    assert_eq!(tests[0]["test"], "selective");
    // From the logbook, as text, and on the figure.
    let said = says(&bench.run(&["findings", "1"]));
    assert!(said.contains("the drive's own selective self-test failed here: byte 1,638,400,000"), "{said}");
    let out = bench.run(&["export", "1", "--as", "svg", "--figure", "surface", "-o", "map.svg"]);
    assert!(out.status.success(), "{}", says(&out));
    let svg = std::fs::read_to_string(bench.path("map.svg")).unwrap();
    assert!(svg.contains('◇'), "the map has its mark");
    let told = says(&first);
    assert!(told.contains("Self-test (selective): completed without an error"), "{told}");
    assert!(told.contains("failed in the read element, first at block 400000"), "{told}");
    // Drives of NVMe have no such test, and without a range it is no test.
    let out = bench.run(&["run", "t.course", "--on", "sim:merrow-k2"]);
    assert!(says(&out).contains("self-tests of this kind: not offered by this drive"), "{}", says(&out));
    bench.write(
        "n.course",
        "course \"n\"\nleg a\n self-test selective\nleg b\n self-test short, over 0 % to 5 %\n",
    );
    let said = says(&bench.run(&["course", "check", "n.course"]));
    assert!(said.contains("a selective self-test reads a part of the drive, which is not said"), "{said}");
    assert!(said.contains("this does not belong to a self-test"), "{said}");
}

#[test]
fn a_self_test_tells_of_a_block_behind_the_first_two_terabytes() {
    let bench = Bench::new();
    let block = 7_000_000_000_u64;
    bench.write(
        "far.toml",
        &format!("extends = \"keelson\"\n[geometry]\ncapacity_bytes = 8001563222016\nlogical_block = 512\n[health]\nself_test_fails_at = {block}\n"),
    );
    bench.write("t.course", "course \"t\"\nleg far\n self-test selective, over 40 % to 50 %\n");
    let said = says(&bench.run(&["run", "t.course", "--on", "sim:far.toml"]));
    assert!(said.contains(&format!("first at block {block}")), "{said}");
}
