//! Courses on the command line: ready-made ones, the canonical form, forecast and preflight, and a sweep on real I/O that is killed
//! half way and goes on.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::Bench;
use serde_json::Value;
use std::process::Stdio;

const KINDS: [&str; 25] = [
    "first-look",
    "long-soak",
    "fill-sweep",
    "three-levels",
    "batches",
    "steadiness",
    "cache-recovery",
    "heat-comparison",
    "two-coolers",
    "two-slots",
    "two-ports",
    "drive-to-drive",
    "small-and-large-files",
    "ramp",
    "workers",
    "matrix",
    "stream",
    "surface-check",
    "full-read",
    "stale-data",
    "span-disk",
    "span-flash",
    "inner-outer",
    "used-drive",
    "after-a-year",
];

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|e| panic!("{e}: {text}"))
}

/// Each ready-made course has a page, with the course as it is and what its head says.
#[test]
fn each_ready_made_course_has_its_page() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let read =
        |path: String| std::fs::read_to_string(root.join(&path)).unwrap_or_else(|e| panic!("{path}: {e}"));
    let index = read("docs/ready-made/README.md".into());
    let words = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
    for kind in KINDS {
        let (text, page) =
            (read(format!("courses/{kind}.course")), read(format!("docs/ready-made/{kind}.md")));
        assert!(
            page.contains(&format!("```\n{}\n```", text.trim_end())),
            "{kind}: the course on its page is another"
        );
        assert!(index.contains(&format!("[{kind}]({kind}.md)")), "{kind} is not in the index");
        for part in ["## How it works", "## How to read the result", "## What next"] {
            let said = page.split(part).nth(1).unwrap_or_else(|| panic!("{kind}: {part}"));
            assert!(
                said.split("##").next().is_some_and(|s| s.split_whitespace().count() > 4),
                "{kind}: {part}"
            );
        }
        let question = text.lines().next().unwrap().trim_start_matches("# Question:").trim();
        assert!(words(&page).contains(&words(question)), "{kind}: {question}");
    }
}

#[test]
fn every_ready_made_course_is_in_its_form_and_fits_every_drive_of_the_bench() {
    let bench = Bench::new();
    let list = bench.ok(&["course", "new"]);
    assert_eq!(list.lines().count(), KINDS.len());
    for kind in KINDS {
        assert!(list.contains(kind), "{kind}");
        let file = common::course(kind);
        let text = std::fs::read_to_string(&file).unwrap();
        assert_eq!(bench.ok(&["course", "format", &file]).trim_end(), text.trim_end(), "{kind}");
        assert_eq!(bench.ok(&["course", "new", kind]).trim_end(), text.trim_end());
        for words in ["# Question:", "# Costs:", "# Before:"] {
            assert!(text.contains(words), "{kind} says {words}");
        }
        if kind == "drive-to-drive" {
            let on = ["--on", "source=sim:halyard-q4", "--on", "target=sim:bittern-s1"];
            let look =
                json(&bench.ok(&[&["course", "forecast", &file][..], &on, &["--format", "json"]].concat()));
            let bytes = |lane: usize, which: &str| {
                look["lanes"][lane]["outlook"]["forecast"]["legs"][2][which].as_u64().unwrap()
            };
            assert_eq!(bytes(0, "read"), bytes(1, "written"), "both sides of the copy move the same");
            assert!(bytes(0, "read") > 599_000_000_000 && bytes(0, "written") == 0);
            continue;
        }
        if kind == "small-and-large-files" {
            // For a file system, which drives of the simulated bench have none of.
            assert!(bench.fails(&["course", "forecast", &file, "--on", "sim:sprat"]).contains("file system"));
            let on = ["--on", "t.bin", "--size", "64MB", "--format", "json"];
            let look = json(&bench.ok(&[&["course", "forecast", &file][..], &on].concat()));
            assert_eq!(look["forecast"]["legs"][6]["written"], 1_000_000_000, "five files of 200 MB");
            continue;
        }
        if kind == "two-slots" {
            // For two drives, each of them any; what is claimed of one is not written into it.
            assert_eq!(bench.ok(&["course", "new", kind, "--on", "sim:sprat"]).trim_end(), text.trim_end());
            let on = ["--on", "upper=sim:halyard-q4", "--on", "lower=sim:bittern-s1"];
            let look =
                json(&bench.ok(&[&["course", "forecast", &file][..], &on, &["--format", "json"]].concat()));
            let legs =
                |lane: usize| look["lanes"][lane]["outlook"]["forecast"]["legs"].as_array().unwrap().len();
            assert_eq!((&look["lanes"][1]["lane"], legs(0), legs(1)), (&"lower".into(), 6, 6));
            continue;
        }
        for drive in ["merrow-k2", "merrow-k2-finned", "halyard-q4", "bittern-s1", "sprat"] {
            let drive = format!("sim:{drive}");
            let name = format!("{kind}.course");
            let made = bench.ok(&["course", "new", kind, "--on", &drive]);
            bench.write(&name, &made);
            assert!(made.contains("claim endurance") && made.contains("situation slot"), "{made}");
            let look = json(&bench.ok(&["course", "forecast", &name, "--on", &drive, "--format", "json"]));
            assert!(look["forecast"]["legs"].as_array().is_some_and(|l| !l.is_empty()), "{kind} on {drive}");
        }
    }
    assert!(bench.fails(&["course", "new", "fil-sweep"]).contains("did you mean fill-sweep?"));
    bench.ok(&["course", "new", "ramp", "-o", "mine.course"]);
    assert!(bench.fails(&["course", "new", "ramp", "-o", "mine.course"]).contains("left as it is"));
    // What twenty legs of random writes come to nobody knows before.
    let look = bench.ok(&["course", "forecast", "mine.course", "--on", "sim:merrow-k2"]);
    assert!(look.contains("and in 20 legs more as much as the drive takes in that time"), "{look}");
    // Sizes follow the drive: 600 GB of 2 TB are 290 GB of 960 GB.
    assert!(
        bench.ok(&["course", "new", "first-look", "--on", "sim:bittern-s1"]).contains("until 290 GB written")
    );
}

#[test]
fn a_course_is_written_in_one_form_and_keeps_its_comments() {
    let bench = Bench::new();
    let messy = "# top\ncourse   \"m\"\nSAMPLE every 1 s # often\nfor  Size in 4 kib,16 KIB\n leg a # the leg\n   write RANDOM, until 1 GB written\n   depth 4, # deep\n   # why\n   blocks Size, over 0 % to 10 %\nend\nleg b\nrest for 1 min\n# last\n";
    let clean = "# top\ncourse \"m\"\nsample every 1 s  # often\n\nfor Size in 4 KiB, 16 KiB\n  leg a  # the leg\n    write random\n    # why\n    blocks Size, depth 4  # deep\n    over 0 % to 10 %\n    until 1 GB written\nend\n\nleg b\n  rest for 1 min\n# last\n";
    bench.write("m.course", messy);
    assert_eq!(bench.ok(&["course", "format", "m.course"]).trim_end(), clean.trim_end());
    assert_eq!(bench.read("m.course"), messy, "printed only");
    bench.ok(&["course", "format", "m.course", "--write"]);
    assert_eq!(bench.read("m.course"), clean);
    bench.ok(&["course", "format", "m.course", "--write"]);
    assert_eq!(bench.read("m.course"), clean, "once more changes nothing");
    bench.write("bad.course", "course \"m\"\nleg a\n  wrte\n");
    assert!(bench.fails(&["course", "format", "bad.course", "--write"]).contains("line 3, column 3"));
    assert_eq!(bench.read("bad.course"), "course \"m\"\nleg a\n  wrte\n", "left as it is");
}

#[test]
fn the_forecast_says_what_it_goes_by_and_preflight_what_speaks_against_it() {
    let bench = Bench::new();
    let file = common::course("first-look");
    let look =
        |drive: &str| json(&bench.ok(&["course", "forecast", &file, "--on", drive, "--format", "json"]));
    let first = look("sim:merrow-k2");
    // 600 GB at the claimed 3,000 MB/s.
    assert_eq!(first["forecast"]["legs"][1]["basis"], "claims");
    assert!((first["forecast"]["legs"][1]["seconds"].as_f64().unwrap() - 200.0).abs() < 0.01);
    assert!((first["forecast"]["wear"].as_f64().unwrap() - 0.0005).abs() < 1e-6);
    assert_eq!(
        first["forecast"]["written"], 600_000_430_080_u64,
        "exactly what the plan writes, in whole blocks"
    );
    bench.ok(&["run", &file, "--on", "sim:merrow-k2"]);
    let after = look("sim:merrow-k2");
    assert_eq!(after["forecast"]["legs"][1]["basis"]["same-leg"], 1);
    let run = json(&bench.ok(&["run", &file, "--on", "sim:merrow-k2", "--seed", "9", "--format", "json"]));
    let (cast, real) = (after["forecast"]["seconds"].as_f64().unwrap(), run["seconds"].as_f64().unwrap());
    assert!((cast / real - 1.0).abs() < 0.1, "{cast} {real}");
    assert_eq!(after["forecast"]["written"], run["bytes"]);
    // Preflight.
    let about = |look: &Value, about: &str| {
        let all = look["items"].as_array().unwrap();
        all.iter().find(|i| i["about"] == about).cloned()
    };
    assert!(about(&after, "link").is_none());
    let link = about(&look("sim:sprat"), "link").unwrap();
    assert_eq!(link["weight"], "warning");
    assert!(link["why"].as_str().unwrap().contains("USB 2.0"), "{link}");
    // 154 GB at what the link carries, 43.2 MB/s, and not at the claimed 380.
    let sprat = look("sim:sprat");
    let expected = sprat["forecast"]["written"].as_f64().unwrap() / 43.2e6;
    assert!((sprat["forecast"]["seconds"].as_f64().unwrap() / expected - 1.0).abs() < 1e-6, "{sprat}");
    bench.write("tiny.course", "course \"tiny\"\nstop if written above 30 GB\nrepeat 2\n leg w\n  write sequential, blocks 1 MiB, until 20 GB written\nend\n");
    let tiny =
        json(&bench.ok(&["course", "forecast", "tiny.course", "--on", "sim:merrow-k2", "--format", "json"]));
    assert!(about(&tiny, "span").unwrap()["why"].as_str().unwrap().contains("write cache of 118"), "{tiny}");
    assert!(about(&tiny, "repeats").unwrap()["why"].as_str().unwrap().contains("2 times"), "{tiny}");
    // The leg that lays the data for what is repeated comes once, and no figure of it is asked for.
    let matrix = json(&bench.ok(&[
        "course",
        "forecast",
        &common::course("matrix"),
        "--on",
        "sim:merrow-k2",
        "--format",
        "json",
    ]));
    assert!(about(&matrix, "repeats").is_none(), "{matrix}");
    assert!(
        about(&tiny, "wear").unwrap()["why"].as_str().unwrap().contains("guard stops it at 30.0 GB"),
        "{tiny}"
    );
    assert!(bench.fails(&["run", "tiny.course", "--on", "sim:merrow-k2", "--strict"]).contains("span: "));
    // Accepted, the warnings are part of the run.
    bench.run(&["run", "tiny.course", "--on", "sim:merrow-k2"]);
    let told = bench.ok(&["export", "last", "--as", "jsonl", "-o", "t.jsonl"]) + &bench.read("t.jsonl");
    assert!(told.contains("Started in spite of a warning (span)"), "{told}");
    let text = bench.ok(&["course", "forecast", "tiny.course", "--on", "sim:merrow-k2"]);
    assert!(text.contains("Before the start:") && text.contains("write more in one leg"), "{text}");
}

#[test]
fn demands_are_held_against_a_run_and_a_bad_one_is_explained() {
    let bench = Bench::new();
    let file = common::course("first-look");
    bench.ok(&["run", &file, "--on", "sim:merrow-k2-finned"]);
    bench.write("rate.csv", "elapsed_s,mb_s\n0,500\n60,1500\n120,500\n");
    let found = json(&bench.ok(&[
        "findings",
        "last",
        "--format",
        "json",
        "--demand",
        "recorder 96 channels x 512 kHz x 3 B, buffer 4 GB",
        "--demand",
        "survey 1590 MB/s, buffer 4 GB, until 30 % full",
        "--demand-csv",
        "rate.csv",
        "--buffer",
        "8GB",
    ]));
    let all = found["demand"].as_array().unwrap();
    assert_eq!(all.len(), 3);
    assert!((all[0]["rate_mb_s"].as_f64().unwrap() - 147.456).abs() < 1e-6, "{}", all[0]);
    assert_eq!((&all[0]["held"], &all[1]["held"]), (&true.into(), &false.into()));
    assert_eq!((&all[2]["name"], &all[2]["buffer_bytes"]), (&"rate".into(), &8_000_000_000_u64.into()));
    assert!(bench.fails(&["findings", "last", "--demand", "fast 10 MBs"]).contains("MB"));
    bench.write("bad.csv", "elapsed_s,mb_s\n0,500\n0,700\n");
    assert!(
        bench.fails(&["findings", "last", "--demand-csv", "bad.csv"]).contains("line 3, column elapsed_s")
    );
    let text = bench.ok(&["findings", "last", "--demand", "survey 1590 MB/s, buffer 4 GB"]);
    assert!(text.contains("not held") && text.contains("smallest buffer that holds it"), "{text}");
    bench.ok(&[
        "export",
        "last",
        "--as",
        "svg",
        "--figure",
        "sweep",
        "--demand",
        "survey 1590 MB/s",
        "-o",
        "d.svg",
    ]);
    assert!(bench.read("d.svg").contains("highest held"));
    assert!(
        bench
            .fails(&["export", "last", "--as", "svg", "--figure", "sweep", "-o", "e.svg"])
            .contains("is no sweep")
    );
}

#[test]
fn a_sweep_on_real_io_that_is_killed_half_way_goes_on_to_complete_results() {
    let bench = Bench::on_disk();
    // On a disk of its own: one that others keep busy takes more than half a minute for a read, which a run takes for a stall.
    let Some(mount) = common::LoopMount::new() else { return };
    let target = mount.folder().join("target.bin").display().to_string();
    // Each repeat begins with a discard of what the legs of the one before it read. A log that was a second behind said that they were still to
    // come, and the run could not go on.
    bench.write("sweep.course", &common::quick_sweep());
    let args = ["run", "sweep.course", "--on", &target, "--size", "192MB", "--logbook", "l.logbook"];
    let mut child = bench.command(&args).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap()));
    // In the middle: at half full, in the second repeat, right behind its discard.
    lines
        .find(|l| l.as_ref().unwrap().contains("Leg fill 50 % / settle / repeat 2 begins"))
        .unwrap()
        .unwrap();
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(bench.ok(&["logbook", "list", "--logbook", "l.logbook"]).contains("cut short"));
    let partial = json(&bench.ok(&["findings", "last", "--logbook", "l.logbook", "--format", "json"]));
    assert!(partial["fill"]["levels"].as_array().unwrap().len() <= 3, "{}", partial["fill"]);
    let said = bench.ok(&["resume", "last", "--logbook", "l.logbook"]);
    assert!(said.contains("The run is done") && said.contains("The run was interrupted after"), "{said}");
    let found = json(&bench.ok(&["findings", "last", "--logbook", "l.logbook", "--format", "json"]));
    let levels = found["fill"]["levels"].as_array().unwrap();
    let at: Vec<f64> = levels.iter().map(|l| l["fill_pct"].as_f64().unwrap()).collect();
    assert_eq!(at, [0.0, 25.0, 50.0, 75.0, 90.0]);
    for level in levels {
        let figures = level["figures"].as_array().unwrap();
        for leg in ["lay", "read", "random-read", "random-write"] {
            let figure =
                figures.iter().find(|f| f["leg"] == leg).unwrap_or_else(|| panic!("{leg} in {level}"));
            assert_eq!(figure["mb_s"]["n"], 3, "{figure}");
            assert!(figure["mb_s"]["mean"].as_f64().unwrap() > 0.0 && figure["mb_s"]["low"].is_number());
        }
    }
    assert!(
        found["notes"].as_array().unwrap().iter().any(|n| n.as_str().unwrap().contains("was interrupted"))
    );
    // What it wrote is what the plan writes, but for the legs that only a time ends, and for what was in flight when it was killed.
    assert!(!std::path::Path::new(&target).exists(), "the file is taken away at the end");
}

#[test]
fn a_leg_through_the_hosts_cache_is_marked_as_such() {
    let bench = Bench::on_disk();
    let leg = |name: &str, how: &str| {
        format!("leg {name}\n write sequential, blocks 1 MiB, depth 4{how}, over 0 % to 100 %\n")
    };
    bench.write(
        "c.course",
        &format!(
            "course \"c\"\nsample every 50 ms\n{}{}",
            leg("past", ""),
            leg("through", ", through the cache, incompressible 25 %")
        ),
    );
    let text = bench.ok(&["run", "c.course", "--on", "c.bin", "--size", "64MB"]);
    assert!(text.contains("25 % incompressible, through the host's cache"), "{text}");
    assert!(
        text.contains(
            "its figures are those of cache and drive together, and all of the data fits in this host's"
        ),
        "{text}"
    );
    assert!(bench.ok(&["findings", "last"]).contains("Leg through went through the host's cache"));
    assert!(bench.fails(&["run", "c.course", "--on", "sim:merrow-k2"]).contains("which only files do"));
}

/// The disk of the bench turns 7,200 times a minute, which only its model says: the run sees latencies.
#[test]
fn a_span_on_a_disk_tells_its_speed_of_rotation_and_is_drawn() {
    let bench = Bench::new();
    bench.ok(&["course", "new", "span-disk", "-o", "span.course"]);
    for seed in ["1", "2"] {
        let told =
            bench.ok(&["run", "span.course", "--on", "sim:keelson", "--seed", seed, "--format", "json"]);
        // What is told at the end of the run is what the logbook says later.
        for found in
            [json(&told)["findings"].clone(), json(&bench.ok(&["findings", "last", "--format", "json"]))]
        {
            let span = &found["span"];
            let of = |name: &str| span[name].as_f64().unwrap();
            assert!((of("rotation_per_min") / 7200.0 - 1.0).abs() < 0.005, "{span}");
            assert!(of("rotation_low_per_min") <= 7200.0 && 7200.0 <= of("rotation_high_per_min"), "{span}");
        }
    }
    assert!(bench.ok(&["findings", "last"]).contains("times a minute"));
    bench.ok(&["export", "last", "--as", "svg", "--figure", "span", "-o", "span.svg"]);
    let svg = bench.read("span.svg");
    for word in ["against the share of the drive", "saved by each cut", "0.1 %", "100 %", "99th percentile"] {
        assert!(svg.contains(word), "{word}");
    }
    // A flash drive does not turn.
    bench.ok(&["course", "new", "span-flash", "-o", "flash.course"]);
    bench.run(&["run", "flash.course", "--on", "sim:merrow-k2"]);
    let found = json(&bench.ok(&["findings", "last", "--format", "json"]));
    assert!(found["span"]["rotation_per_min"].is_null(), "{}", found["span"]);
}

/// A claim with conditions is held against the legs that ran under them, and against no others; where none did, the leg that would is offered.
#[test]
fn claims_are_held_against_legs_under_their_own_conditions() {
    let bench = Bench::new();
    let course = "course \"claims\"\nsample every 100 ms\nclaim random read 400000 IOPS, blocks 4 KiB, depth 32\nclaim random read p99 1000 ms, blocks 4 KiB\nclaim sequential write 2500 MB/s, blocks 1 MiB\nclaim random write 5000 iops, blocks 4 KiB, depth 1, workers 2\nclaim temperature 20 °C\n\nleg w\n  write sequential, blocks 1 MiB, depth 16\n  over 0 % to 12 %\n\nrepeat 3\n  leg r\n    read random, blocks 4 KiB, depth 32\n    over 0 % to 2 %\n    for 5 s\nend\n\nleg shallow\n  read random, blocks 4 KiB, depth 1\n  over 0 % to 2 %\n  for 5 s\n\nleg paced\n  read random, blocks 4 KiB, depth 32, rate 10 MB/s\n  over 0 % to 2 %\n  for 5 s\n";
    bench.write("claims.course", course);
    assert!(
        bench
            .ok(&["course", "format", "claims.course"])
            .contains("claim random write 5000 IOPS, blocks 4 KiB")
    );
    let run = json(&bench.ok(&["run", "claims.course", "--on", "sim:merrow-k2", "--format", "json"]));
    let found = &run["findings"];
    let claims = found["stated_claims"].as_array().unwrap();
    assert_eq!(claims.len(), 5, "{found:#}");
    let of_legs = |is: &dyn Fn(&str) -> bool, figure: &str| -> Vec<f64> {
        let rows = found["leg_table"].as_array().unwrap().iter();
        let own = rows.filter(|r| is(r["leg"].as_str().unwrap()));
        own.map(|r| r[figure].as_f64().unwrap()).collect()
    };
    let mean = |v: &[f64]| v.iter().sum::<f64>() / v.len() as f64;
    // Three repeats, and neither the shallow leg nor the one that the course held back.
    let iops = of_legs(&|l| l.starts_with("r / repeat"), "iops");
    assert_eq!((iops.len(), claims[0]["legs"].as_array().unwrap().len()), (3, 3), "{}", claims[0]);
    let measured = claims[0]["measured"]["mean"].as_f64().unwrap();
    assert!((measured / mean(&iops) - 1.0).abs() < 1e-9);
    assert!((claims[0]["percent"].as_f64().unwrap() - measured / 4000.0).abs() < 1e-9);
    assert_eq!(claims[0]["is_met"].as_bool(), Some(measured >= 400_000.0));
    // No depth is stated: the shallow leg counts, too.
    assert_eq!((&claims[1]["is_met"], claims[1]["legs"].as_array().unwrap().len()), (&true.into(), 4));
    assert_eq!((&claims[1]["unit"], &claims[1]["at_most"]), (&"µs".into(), &true.into()));
    assert_eq!(claims[2]["legs"], serde_json::json!(["w"]));
    // 240 GB go past the cache of 118 GB.
    assert_eq!(
        (&claims[2]["is_met"], &claims[2]["excuses"]),
        (&false.into(), &serde_json::json!(["the write cache was exhausted"]))
    );
    // None ran so; the leg that would is a leg.
    assert_eq!((&claims[3]["measured"], &claims[3]["is_met"]), (&Value::Null, &Value::Null));
    let offer = claims[3]["offer"].as_str().unwrap();
    bench.write("offer.course", &format!("course \"offer\"\n\n{offer}\n"));
    assert!(
        bench.ok(&["course", "check", "offer.course"]).contains("write random, blocks 4 KiB, depth 1"),
        "{offer}"
    );
    assert_eq!(claims[4]["percent"], Value::Null, "degrees have no share");
    assert_eq!(claims[4]["is_met"], false, "no drive is below the ambient temperature: {}", claims[4]);
    // The same from the logbook, in words, and in a report.
    let said = bench.ok(&["findings", "last"]);
    assert!(said.contains("random write, 4 KiB blocks, depth 1, 2 workers: operations: – 1/s, claimed at least 5,000: not measured"), "{said}");
    assert!(said.contains("temperature: ") && said.contains("claimed at most 20"), "{said}");
    for (line, error) in [
        ("claim random read 900000, blocks 4 KiB", "unit"),
        ("claim random erase 9 IOPS", "read"),
        ("claim random read 9 IOPS, depth 4, depth 8", "once"),
        ("claim sequential write 0 IOPS", "0"),
        ("claim random read 9 IOPS, depth 0", "whole number"),
        ("claim power 8", "`W`"),
        ("claim power 8 GB", "`W`"),
        ("claim sequential write power 0 W", "0"),
    ] {
        bench
            .write("bad.course", &format!("course \"b\"\n{line}\nleg w\n  write sequential, blocks 1 MiB\n"));
        let said = bench.fails(&["course", "check", "bad.course"]);
        assert!(said.contains("line 2") && said.contains(error), "{line}: {said}");
    }
}

/// A power is the mean over a leg, which the simulation knows: the energy that the drive took, over the time. What is idle is no part of it.
#[test]
fn a_claimed_power_is_held_against_what_the_drive_drew() {
    let bench = Bench::new();
    bench.write("p.course", "course \"p\"\nsample every 500 ms\nclaim power 0.5 W\nclaim sequential write power 50 W, blocks 1 MiB\nclaim random read power 5 W\nleg w\n write sequential, blocks 1 MiB, depth 16, for 5 min\n");
    let run = |more: &[&str]| {
        let args = [&["run", "p.course", "--on", "sim:merrow-k2", "--format", "json"], more].concat();
        json(&bench.ok(&args))
    };
    let with = run(&["--instruments", "bench", "--truth", "t.json"]);
    let claims = &with["findings"]["stated_claims"];
    let truth = json(&bench.read("t.json"));
    let drawn = truth["instruments"]["energy_j"].as_f64().unwrap() / with["seconds"].as_f64().unwrap();
    let measured = claims[0]["measured"]["mean"].as_f64().unwrap();
    assert!((measured / drawn - 1.0).abs() < 0.02, "{measured} and {drawn} W");
    assert_eq!(
        (&claims[0]["unit"], &claims[0]["is_met"], &claims[0]["at_most"]),
        (&"W".into(), &false.into(), &true.into())
    );
    assert_eq!((&claims[1]["is_met"], &claims[1]["legs"]), (&true.into(), &serde_json::json!(["w"])));
    assert_eq!((&claims[2]["measured"], &claims[2]["is_met"]), (&Value::Null, &Value::Null));
    // Nothing measures it: nothing is said.
    let without = run(&[]);
    for claim in without["findings"]["stated_claims"].as_array().unwrap() {
        assert_eq!((&claim["measured"], &claim["is_met"]), (&Value::Null, &Value::Null), "{claim:#}");
    }
    // As another side, it is a figure of the leg; of two claims for it, the first.
    let beside = json(&bench.ok(&["compare", "claims", "1", "--format", "json"]));
    let power = beside["figures"].as_array().unwrap().iter().find(|f| f["unit"] == "W").unwrap().clone();
    assert_eq!(power["a"]["mean"], 0.5, "{power:#}");
    assert!((power["b"]["mean"].as_f64().unwrap() / drawn - 1.0).abs() < 0.02, "{power:#}");
}

/// Claims that are said beside the course count as if they stood in it, and are kept with the run; what the course says goes before them.
#[test]
fn claims_that_are_said_beside_a_course_are_held_and_kept() {
    let bench = Bench::new();
    bench.write(
        "c.course",
        "course \"c\"\nsample every 100 ms\nclaim write 2500 MB/s\nleg w\n write sequential, blocks 1 MiB, depth 16, over 0 % to 2 %\n",
    );
    let args = ["run", "c.course", "--on", "sim:merrow-k2", "--format", "json"];
    let claimed =
        ["--claim", "write 100 MB/s; temperature 20 °C", "--claim", "sequential write 50 MB/s, blocks 1 MiB"];
    let run = json(&bench.ok(&[&args[..], &claimed].concat()));
    let found = &run["findings"];
    assert_eq!(found["claims"][0]["claimed_mb_s"], 2500.0, "{:#}", found["claims"]);
    let stated: Vec<_> =
        found["stated_claims"].as_array().unwrap().iter().map(|c| (&c["claimed"], &c["is_met"])).collect();
    assert_eq!(stated, [(&20.0.into(), &false.into()), (&50.0.into(), &true.into())], "{found:#}");
    let again = json(&bench.ok(&["findings", "1", "--format", "json"]));
    assert_eq!(again["stated_claims"], found["stated_claims"]);
    let said = bench.fails(&[&args[..], &["--claim", "write fast"]].concat());
    assert!(said.contains("the claim `write fast`: ") && said.contains("a rate"), "{said}");
    assert!(bench.ok(&["logbook", "list"]).matches("sim:merrow-k2").count() <= 1, "nothing was begun");
}

/// Seen where a disk was logged every 20 s: the end of a hollow that two passes had confirmed was the surface with 52 % only, once its edges were known to
/// less than a sample moves, and while the run was underway it had been 99 %.
#[test]
fn both_ends_of_a_confirmed_hollow_are_the_surface_however_far_apart_the_samples_are() {
    let bench = Bench::new();
    for every in ["5 s", "20 s", "60 s"] {
        let course = format!(
            "course \"scan\"\nsample every {every}\nleg scan\n  scan, blocks 1 MiB, depth 8, zones 128, refine to 1 MiB\n  over 55 % to 70 %\n"
        );
        bench.write("scan.course", &course);
        bench.ok(&["run", "scan.course", "--on", "sim:keelson", "--seed", "5"]);
        let found = json(&bench.ok(&["findings", "last", "--format", "json"]));
        let hollow = &found["hollows"][0];
        assert!(hollow["edge_bytes"].as_u64().unwrap() <= 1 << 20, "{every}: {hollow}");
        let breaks = found["breaks"].as_array().unwrap();
        assert_eq!(breaks.len(), 2, "{every}: {breaks:?}");
        for b in breaks {
            let sure = b["confidence"].as_f64().unwrap();
            assert!(b["cause"] == "surface" && sure >= 0.95, "{every}: {b}");
        }
    }
}
