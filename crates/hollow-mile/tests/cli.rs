//! The commands without a screen, as a user calls them.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::{Bench, LONG_SOAK, course};
use serde_json::Value;
use std::process::{Command, Stdio};
use std::time::Duration;

#[test]
fn a_run_is_made_found_read_and_handed_over() {
    let bench = Bench::new();
    let out = bench.ok(&["run", &course("first-look"), "--on", "sim:merrow-k2", "--truth", "truth.json"]);
    assert!(out.contains("write cache exhausted, 8") && out.contains("It is run 1 of the logbook"), "{out}");
    assert!(bench.ok(&["logbook", "list"]).contains("first look"));
    let truth: Value = serde_json::from_str(&bench.read("truth.json")).unwrap();
    let found: Value = serde_json::from_str(&bench.ok(&["findings", "last", "--format", "json"])).unwrap();
    let (real, cache) =
        (truth["events"][0]["at_bytes"].as_f64().unwrap(), found["cache"]["bytes"].as_f64().unwrap());
    assert!((cache / real - 1.0).abs() < 0.01, "{cache} {real}");
    for (kind, begins) in [
        ("svg", "<svg"),
        ("pdf", "%PDF"),
        ("csv", "elapsed_s,leg,op"),
        ("jsonl", "{\"format\":\"hollow-mile/run\""),
    ] {
        let name = format!("out.{kind}");
        bench.ok(&["export", "1", "--as", kind, "-o", &name]);
        let bytes = std::fs::read(bench.path(&name)).unwrap();
        assert!(bytes.starts_with(begins.as_bytes()), "{kind}");
    }
}

/// The object of the interchange format: every key there, absent things null or empty.
#[test]
fn findings_json_has_every_key_of_its_format_for_a_run_and_for_a_bare_csv() {
    let bench = Bench::new();
    bench.ok(&["run", LONG_SOAK, "--on", "sim:merrow-k2"]);
    bench.write("bare.csv", "elapsed_s,write_mb_s\n1,100\n2,100\n3,101\n");
    let top = [
        "breaks",
        "cache",
        "claims",
        "demand",
        "dips",
        "failed_self_tests",
        "faults",
        "fill",
        "format",
        "hollows",
        "interference",
        "leg_table",
        "legs",
        "next_step",
        "next_steps",
        "notes",
        "phases",
        "plateaus",
        "ramp",
        "recovery",
        "repeats",
        "span",
        "stated_claims",
        "steady",
        "surface",
        "sweeps",
        "thermal",
        "throttling",
        "unreadable_blocks",
        "version",
    ];
    for source in ["last", "bare.csv"] {
        let found: Value =
            serde_json::from_str(&bench.ok(&["findings", source, "--format", "json"])).unwrap();
        let mut keys: Vec<&str> = found.as_object().unwrap().keys().map(String::as_str).collect();
        keys.sort_unstable();
        assert_eq!(keys, top, "{source}");
        assert_eq!((&found["format"], &found["version"]), (&"hollow-mile/findings".into(), &2.into()));
    }
    let found: Value = serde_json::from_str(&bench.ok(&["findings", "last", "--format", "json"])).unwrap();
    let has = |value: &Value, keys: &[&str]| {
        let object = value.as_object().unwrap_or_else(|| panic!("{value}"));
        keys.iter().for_each(|k| assert!(object.contains_key(*k), "{k} in {value}"));
    };
    has(
        &found["plateaus"][0],
        &[
            "leg",
            "op",
            "start_s",
            "end_s",
            "start_bytes",
            "end_bytes",
            "mean_mb_s",
            "sd_mb_s",
            "slope_mb_s_per_gb",
        ],
    );
    has(
        &found["breaks"][1],
        &[
            "at_s",
            "at_bytes",
            "low_bytes",
            "high_bytes",
            "from_mb_s",
            "to_mb_s",
            "cause",
            "confidence",
            "evidence",
            "candidates",
            "at_most",
        ],
    );
    has(&found["breaks"][1]["evidence"][0], &["for", "cause", "text", "row", "value", "weight"]);
    has(&found["cache"], &["bytes", "low_bytes", "high_bytes", "before_mb_s", "after_mb_s"]);
    has(&found["throttling"], &["episodes", "share_of_time", "lost_bytes"]);
    has(
        &found["throttling"]["episodes"][0],
        &["start_s", "end_s", "onset_c", "release_c", "before_mb_s", "during_mb_s"],
    );
    has(
        &found["thermal"],
        &[
            "start_c",
            "min_c",
            "mean_c",
            "max_c",
            "rise_over_ambient_c",
            "time_constant_s",
            "settles_at_c",
            "settles_low_c",
            "settles_high_c",
            "margin_to_warn_c",
            "throttles_above_ambient_c",
        ],
    );
    assert_eq!(found["breaks"][1]["cause"], "thermal-throttle");
}

#[test]
fn a_csv_of_a_run_gives_the_findings_of_the_run() {
    let bench = Bench::new();
    bench.ok(&["run", LONG_SOAK, "--on", "sim:merrow-k2", "--seed", "5"]);
    bench.ok(&["export", "last", "--as", "csv", "-o", "run.csv"]);
    let json = |args: &[&str]| -> Value { serde_json::from_str(&bench.ok(args)).unwrap() };
    let run = json(&["findings", "last", "--format", "json"]);
    let csv = json(&[
        "findings",
        "run.csv",
        "--format",
        "json",
        "--warn",
        "77",
        "--critical",
        "86",
        "--rated-write",
        "3000",
        "--capacity",
        "2TB",
    ]);
    for (a, b) in run["breaks"].as_array().unwrap().iter().zip(csv["breaks"].as_array().unwrap()) {
        assert_eq!(
            (&a["cause"], &a["at_bytes"], &a["confidence"]),
            (&b["cause"], &b["at_bytes"], &b["confidence"])
        );
    }
    assert_eq!(run["cache"], csv["cache"]);
}

#[test]
fn the_same_seed_gives_the_same_samples_whatever_the_speed() {
    let bench = Bench::new();
    bench.write("short.course", "course \"short\"\nsample every 100 ms\nleg w\n write random, blocks 64 KiB, depth 8, until 20 GB written\n");
    for (speed, out) in [("max", "a.csv"), ("x200", "b.csv")] {
        bench.ok(&["run", "short.course", "--on", "sim:merrow-k2", "--seed", "9", "--speed", speed]);
        bench.ok(&["export", "last", "--as", "csv", "-o", out]);
    }
    assert_eq!(bench.read("a.csv"), bench.read("b.csv"));
}

/// What is wrong, with which exit code, and words that the message must have.
#[test]
fn bad_input_is_answered_with_a_clear_message_and_loses_nothing() {
    let bench = Bench::new();
    bench
        .write("three.course", "course first\nsample every 250\nleg soak\n  write sequental, blocks 1 MiB\n");
    bench.write("mine.bin", "do not touch");
    bench.write("broken.csv", "elapsed_s,write_mb_s\n1,100\n2,x\n");
    bench.write("useless.csv", "elapsed_s,write_mb_s\n1,x\n");
    bench.write("model.toml", "extends = \"merrow-k2\"\n[flash]\ncache_mb_s = -1.0\n");
    bench.write("damaged.logbook", &"this is no logbook, it is a shopping list. ".repeat(100));
    let first = course("first-look");
    let cases: &[(&[&str], &[&str])] = &[
        (&["run", "no.course", "--on", "sim:merrow-k2"], &["no.course", "cannot be read"]),
        (
            &["run", "three.course", "--on", "sim:merrow-k2"],
            &["3 errors", "line 1, column 8", "line 2, column 17", "line 4, column 9", "`sequential`"],
        ),
        (&["course", "check", "three.course"], &["3 errors"]),
        (&["run", &first, "--on", "sim:unknown"], &["sim:unknown", "sim:merrow-k2"]),
        (&["run", &first, "--on", "sim:model.toml"], &["flash.cache_mb_s"]),
        (&["run", &first, "--on", "new.bin", "--size", "900000TB"], &["stay free in any case"]),
        (&["run", &first, "--on", "new.bin", "--size", "4"], &["no size"]),
        (&["run", &first, "--on", "new.bin"], &["--size"]),
        (&["run", &first, "--on", "mine.bin", "--size", "64MB"], &["mine.bin", "not made by Hollow Mile"]),
        (
            &["run", &first, "--on", "no/such/folder/a.bin", "--size", "64MB"],
            &["no/such/folder", "does not exist"],
        ),
        (&["run", &first, "--on", "sim:merrow-k2", "--size", "4GB"], &["--size"]),
        (&["run", &first, "--on", "sim:merrow-k2", "--speed", "60"], &["no speed"]),
        (
            &["run", &first, "--on", "sim:merrow-k2", "--logbook", "damaged.logbook"],
            &["damaged.logbook", "left as it is", "set-aside"],
        ),
        (&["findings", "7"], &["no run 7"]),
        (&["findings", "none.csv"], &["none.csv"]),
        (&["findings", "useless.csv"], &["line 2, column write_mb_s", "no number"]),
        (&["export", "broken.csv", "--as", "svg", "-o", "mine.bin"], &["mine.bin", "--overwrite"]),
        (&["export", "broken.csv", "--as", "svg", "-o", "no/such/a.svg"], &["no/such/a.svg"]),
        (&["export", "broken.csv", "--as", "gif", "-o", "a.gif"], &["svg"]),
    ];
    bench.ok(&["run", &first, "--on", "sim:merrow-k2"]);
    for (args, words) in cases {
        let out = bench.run(args);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        assert_eq!(out.status.code(), Some(2), "{args:?}\n{said}");
        words.iter().for_each(|w| assert!(said.contains(w), "{args:?} does not say `{w}`:\n{said}"));
    }
    assert_eq!(bench.read("mine.bin"), "do not touch");
    assert!(bench.read("damaged.logbook").starts_with("this is no logbook"));
    assert!(!bench.path("new.bin").exists());
    assert_eq!(bench.ok(&["logbook", "list"]).lines().count(), 1, "no refused run is in the logbook");
}

#[test]
fn broken_rows_of_a_csv_are_named_and_the_rest_is_used() {
    let bench = Bench::new();
    let rows: String = (1..200)
        .map(|i| format!("{i},{}\n", if i % 50 == 0 { "oops".into() } else { (100 + i % 3).to_string() }))
        .collect();
    bench.write("t.csv", &format!("elapsed_s,write_mb_s\n{rows}"));
    let out = bench.run(&["findings", "t.csv"]);
    let (said, printed) = (String::from_utf8_lossy(&out.stderr), String::from_utf8_lossy(&out.stdout));
    assert!(out.status.success());
    assert!(said.contains("t.csv: line 51, column write_mb_s: `oops` is no number"), "{said}");
    assert!(printed.contains("3 rows of the file could not be used"), "{printed}");
}

/// Bug: who asked for a run before there was any got the system's words, and nothing of what to do.
#[test]
fn a_logbook_that_is_not_there_yet_is_told_as_such() {
    let bench = Bench::new();
    let elsewhere = bench.path("none/runs.logbook").to_string_lossy().into_owned();
    let asks: [&[&str]; 5] = [
        &["findings", "99999"],
        &["logbook", "list"],
        &["logbook", "set-aside"],
        &["report", "3", "-o", "report.md"],
        &["logbook", "list", "--logbook", &elsewhere],
    ];
    for ask in asks {
        let out = bench.run(ask);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        assert_eq!(out.status.code(), Some(2), "{ask:?}: {said}");
        let path = if ask.contains(&"--logbook") { elsewhere.as_str() } else { "l.logbook" };
        let what = format!("{path} yet: the first run makes one");
        assert!(said.starts_with("there is no logbook ") && said.contains(&what), "{ask:?}: {said}");
        assert!(said.contains("--logbook") && !bench.path("none").exists(), "{ask:?}: {said}");
    }
}

/// Bug: a link to nowhere was "no logbook yet: the first run makes one", and the first run then refused the link.
#[test]
fn a_logbook_that_is_a_link_to_nowhere_is_told_as_such() {
    let bench = Bench::new();
    std::os::unix::fs::symlink(bench.path("none/runs.logbook"), bench.path("l.logbook")).unwrap();
    for ask in [["logbook", "list"], ["findings", "1"], ["logbook", "set-aside"]] {
        let out = bench.run(&ask);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        assert_eq!(out.status.code(), Some(2), "{ask:?}: {said}");
        assert!(said.contains("l.logbook is a symbolic link") && !said.contains(" yet"), "{ask:?}: {said}");
    }
    assert!(!bench.path("none").exists() && bench.path("l.logbook").is_symlink());
}

#[test]
fn a_damaged_logbook_is_set_aside_only_when_asked() {
    let bench = Bench::new();
    let text = "not a logbook ".repeat(200);
    bench.write("l.logbook", &text);
    assert_eq!(bench.run(&["logbook", "list"]).status.code(), Some(2));
    assert_eq!(bench.read("l.logbook"), text);
    let said = bench.ok(&["logbook", "set-aside"]);
    assert!(said.contains("set-aside-"), "{said}");
    assert!(bench.ok(&["logbook", "list"]).contains("no run yet"));
    let kept = std::fs::read_dir(bench.path("."))
        .unwrap()
        .flatten()
        .find(|e| e.file_name().to_string_lossy().contains("set-aside"))
        .unwrap();
    assert_eq!(std::fs::read_to_string(kept.path()).unwrap(), text);
}

#[test]
fn a_guard_ends_a_run_with_exit_code_one_and_its_reason() {
    let bench = Bench::new();
    bench.write("hot.course", "course \"hot\"\nstop if temperature above 45 °C\nleg w\n write sequential, blocks 1 MiB, depth 16, until 900 GB written\n");
    let out = bench.run(&["run", "hot.course", "--on", "sim:merrow-k2", "--format", "json"]);
    assert_eq!(out.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&out.stderr).contains("46 °C is above the limit of 45 °C"));
    let printed: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!((&printed["status"], &printed["run"]), (&"guarded".into(), &1.into()));
}

#[test]
fn bench_and_course_check_speak_both_to_people_and_to_programs() {
    let bench = Bench::new();
    let cards: Value = serde_json::from_str(&bench.ok(&["bench", "--format", "json"])).unwrap();
    let named = |card: &&Value| card["identity"]["name"] == "sim:merrow-k2";
    let card = cards.as_array().unwrap().iter().find(named).unwrap();
    assert_eq!(card["facts"]["capacity"], 2_000_398_934_016_u64);
    assert!(bench.ok(&["health", "sim:merrow-k2"]).contains("warns from 77 °C, critical from"));
    assert!(bench.fails(&["health", "no-such-drive"]).contains("`hollow-mile bench` lists the drives"));
    assert!(bench.ok(&["bench"]).contains("3 % of its life used"));
    assert!(bench.ok(&["course", "check", &course("long-soak")]).contains("3 legs"));
}

/// A file on the disk that the build is on: the main job on real input.
#[test]
fn a_run_on_a_file_moves_what_the_kernel_counts_and_takes_its_file_away() {
    let bench = Bench::on_disk();
    let out = bench.ok(&[
        "run",
        &course("first-look"),
        "--on",
        "./scratch.bin",
        "--size",
        "256MB",
        "--format",
        "json",
    ]);
    let printed: Value = serde_json::from_str(&out).unwrap();
    assert_eq!(
        (&printed["status"], &printed["bytes"]),
        (&"done".into(), &((256_000_000_u64 >> 20) << 20).into())
    );
    assert!(
        printed["engine"].as_str().unwrap().contains("io_uring")
            || printed["engine"].as_str().unwrap().contains("threads")
    );
    let notes = printed["notes"].to_string();
    assert!(notes.contains("ends after one pass") && notes.contains("gives no temperature"), "{notes}");
    assert!(!bench.path("scratch.bin").exists());
    bench.ok(&["run", &course("first-look"), "--on", "./kept.bin", "--size", "8MB", "--keep"]);
    assert_eq!(std::fs::metadata(bench.path("kept.bin")).unwrap().len(), 8_000_000 / 4096 * 4096);
    // It is kept for whoever asked for that, and not for the next run.
    let kept = std::fs::read(bench.path("kept.bin")).unwrap();
    let again = ["run", &course("first-look"), "--on", "./kept.bin", "--size", "8MB", "--engine", "threads"];
    assert!(bench.fails(&again).contains("left or kept by another run"));
    assert!(std::fs::read(bench.path("kept.bin")).unwrap() == kept);
    assert!(bench.ok(&["leftovers"]).contains("kept.bin: kept, as was asked for"));
    bench.ok(&["leftovers", "--remove", "all"]);
    assert!(!bench.path("kept.bin").exists());
    bench.ok(&again);
}

/// A file system of its own on a loop device, so that nobody else's writes are counted.
#[test]
fn the_kernels_own_counters_agree_with_what_a_run_says_it_wrote() {
    let Some(mount) = common::LoopMount::new() else { return };
    let bench = Bench::on_disk();
    let target = mount.folder().join("scratch.bin").display().to_string();
    let before = mount.sectors_written();
    let out =
        bench.ok(&["run", &course("first-look"), "--on", &target, "--size", "384MB", "--format", "json"]);
    let counted = ((mount.sectors_written() - before) * 512) as f64;
    let said = serde_json::from_str::<Value>(&out).unwrap()["bytes"].as_f64().unwrap();
    assert!((counted / said - 1.0).abs() < 0.02, "the kernel counts {counted}, the run says {said}");
}

#[test]
fn a_read_only_folder_is_refused_before_anything_is_made() {
    let Some(mount) = common::LoopMount::new() else { return };
    mount.read_only();
    let bench = Bench::new();
    let target = mount.folder().join("a.bin").display().to_string();
    let out = bench.run(&["run", &course("first-look"), "--on", &target, "--size", "8MB"]);
    let said = String::from_utf8_lossy(&out.stderr);
    assert!(matches!(out.status.code(), Some(1 | 2)) && said.contains("Read-only"), "{said}");
    let book = mount.folder().join("l.logbook").display().to_string();
    let out = bench.run(&["run", &course("first-look"), "--on", "sim:merrow-k2", "--logbook", &book]);
    assert!(out.status.code() == Some(2) && String::from_utf8_lossy(&out.stderr).contains("l.logbook"));
}

/// The run goes on, what was logged before stays, and it is said.
#[test]
fn a_full_disk_under_the_logbook_is_said_and_loses_nothing_that_was_kept() {
    let Some(mount) = common::LoopMount::sized(8) else { return };
    let bench = Bench::new();
    let book = mount.folder().join("l.logbook").display().to_string();
    bench.write(
        "long.course",
        "course \"long\"\nsample every 10 ms\nleg w\n write sequential, blocks 1 MiB, depth 16, until 1500 GB written\n",
    );
    let out = bench.run(&["run", "long.course", "--on", "sim:merrow-k2", "--logbook", &book]);
    let (said, printed) = (String::from_utf8_lossy(&out.stderr), String::from_utf8_lossy(&out.stdout));
    assert_eq!(out.status.code(), Some(1), "{said}");
    assert!(said.contains("l.logbook") && said.contains("logbook recover"), "{said}");
    assert!(printed.contains("The logbook cannot be written now") && printed.contains("full"), "{printed}");
    assert!(printed.contains("write cache exhausted"), "what was found is still told:\n{printed}");
    let list = bench.ok(&["logbook", "list", "--logbook", &book]);
    assert!(list.contains("cut short"), "{list}");
    let found = bench.ok(&["findings", "last", "--logbook", &book]);
    assert!(found.contains("The run is cut short") && found.contains("Plateau"), "{found}");
    // What it lacks is elsewhere, listed, and is brought in once there is room.
    let left: Value =
        serde_json::from_str(&bench.ok(&["leftovers", "--logbook", &book, "--format", "json"])).unwrap();
    let aside = left[0]["path"].as_str().unwrap().to_owned();
    assert_eq!(left[0]["what"], "log-aside");
    assert!(bench.fails(&["logbook", "recover", &aside]).contains("full"), "there is still no room");
    assert!(std::path::Path::new(&aside).exists(), "what could not be brought in stays");
}

/// A run that was killed leaves the log of the database behind, whose index the database puts beside it: there is no room for that here.
#[test]
fn a_logbook_with_a_log_can_be_read_where_there_is_no_room_for_its_index() {
    let Some(mount) = common::LoopMount::sized(8) else { return };
    let bench = Bench::new();
    let book = mount.folder().join("l.logbook").display().to_string();
    bench.kill_on_the_way(
        &["run", LONG_SOAK, "--on", "sim:merrow-k2", "--speed", "x60", "--logbook", &book],
        0,
        60,
    );
    let beside = |end: &str| std::path::PathBuf::from(format!("{book}{end}"));
    assert!(beside("-wal").exists(), "the log is there");
    let _ = std::fs::remove_file(beside("-shm"));
    // To the last block, with smaller and smaller pieces.
    let mut file = std::fs::File::create(mount.folder().join("filler")).unwrap();
    for piece in [1 << 16, 4096, 1024, 1] {
        while std::io::Write::write_all(&mut file, &vec![7; piece]).is_ok() {}
    }
    let list = bench.ok(&["logbook", "list", "--logbook", &book]);
    assert!(list.contains("cut short"), "{list}");
    assert!(bench.ok(&["findings", "last", "--logbook", &book]).contains("The run is cut short"));
    bench.ok(&["leftovers", "--logbook", &book]);
}

/// kill -9 at twelve moments of a run: it is there on the next start, marked, and can be read. (That at most a second is lost
/// is tested where samples are recorded.)
#[test]
fn a_run_killed_at_any_moment_is_there_and_is_marked() {
    let bench = Bench::new();
    for i in 0..12_u64 {
        let mut child = bench
            .command(&["run", LONG_SOAK, "--on", "sim:merrow-k2", "--speed", "x60"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        // It is in the logbook before it does anything; how long that takes is the machine's affair.
        let is_there = || bench.run(&["logbook", "list"]).stdout.windows(8).any(|w| w == b"underway");
        while !is_there() {
            std::thread::sleep(Duration::from_millis(20));
        }
        // Spread over the phases between two writes of the logbook, which are half a second apart.
        std::thread::sleep(Duration::from_millis(300 + 137 * i));
        child.kill().unwrap();
        child.wait().unwrap();
        let list: Value = serde_json::from_str(&bench.ok(&["logbook", "list", "--format", "json"])).unwrap();
        let newest = &list[0];
        assert_eq!((&newest["status"], &newest["run"]), (&"cut-short".into(), &(i + 1).into()));
        let kept = newest["digest"]["seconds"].as_f64().unwrap();
        let found = bench.run(&["findings", "last"]);
        if kept > 0.0 {
            assert!(found.status.success(), "{}", String::from_utf8_lossy(&found.stderr));
            assert!(String::from_utf8_lossy(&found.stdout).contains("The run is cut short"));
        }
    }
    let list: Value = serde_json::from_str(&bench.ok(&["logbook", "list", "--format", "json"])).unwrap();
    let with_samples =
        list.as_array().unwrap().iter().filter(|r| r["digest"]["samples"].as_u64() > Some(0)).count();
    assert!(with_samples >= 6, "runs that had lived for more than a block have samples: {with_samples}");
}

#[test]
fn a_termination_signal_ends_a_run_cleanly() {
    let bench = Bench::new();
    let child = bench
        .command(&["run", LONG_SOAK, "--on", "sim:merrow-k2", "--speed", "x60", "--format", "json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    assert!(Command::new("kill").args(["-TERM", &child.id().to_string()]).status().unwrap().success());
    let out = child.wait_with_output().unwrap();
    assert_eq!(out.status.code(), Some(1));
    let printed: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(printed["status"], "stopped");
    assert!(bench.ok(&["logbook", "list"]).contains("stopped"));
}

#[test]
fn a_run_serves_its_figures_and_is_not_begun_where_it_cannot() {
    use std::io::{Read, Write};
    let bench = Bench::new();
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = taken.local_addr().unwrap().to_string();
    let run = ["run", &course("long-soak"), "--on", "sim:merrow-k2", "--speed", "x1", "--metrics", &address];
    let told = bench.fails(&run);
    assert!(told.contains("metrics cannot be served at 127.0.0.1:"), "{told}");
    assert!(
        bench
            .fails(&["run", &course("long-soak"), "--on", "sim:merrow-k2", "--metrics", "nowhere"])
            .contains("is no address")
    );
    assert_eq!(bench.ok(&["logbook", "list"]).trim(), "The logbook has no run yet.");
    drop(taken);
    let mut child = bench.command(&run).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let ask = || -> Option<String> {
        let mut stream = std::net::TcpStream::connect(&address).ok()?;
        stream.write_all(b"GET /metrics HTTP/1.1\r\nHost: bench\r\n\r\n").ok()?;
        let mut answer = String::new();
        stream.read_to_string(&mut answer).ok()?;
        Some(answer)
    };
    let written = |text: &str| -> Option<f64> {
        let line = text.lines().find(|l| l.starts_with("hollow_mile_written_bytes_total{"))?;
        line.rsplit(' ').next()?.parse().ok()
    };
    let until = |child: &mut std::process::Child, more: f64| loop {
        assert!(child.try_wait().unwrap().is_none(), "the run has ended");
        if let Some(text) = ask().filter(|t| written(t).is_some_and(|w| w > more)) {
            return text;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    };
    let first = until(&mut child, 0.0);
    for words in [
        "200 OK",
        "model=\"Merrow K2 2TB\"",
        "hollow_mile_leg_info{",
        "leg=\"soak\"",
        "# EOF",
        "hollow_mile_underway{",
    ] {
        assert!(first.contains(words), "{words}\n{first}");
    }
    until(&mut child, written(&first).unwrap());
    assert!(Command::new("kill").arg(child.id().to_string()).status().unwrap().success());
    child.wait().unwrap();
    assert!(ask().is_none(), "it ends with its run");
}

#[test]
fn all_runs_are_exported_into_a_folder_that_is_made_for_them() {
    let bench = Bench::new();
    bench.write("c.course", "course \"c\"\n\nleg soak\n  write sequential, blocks 1 MiB\n  for 20 s\n");
    for (seed, on) in [("1", "sim:merrow-k2"), ("2", "sim:halyard-q4")] {
        bench.ok(&["run", "c.course", "--on", on, "--seed", seed, "--note", "it said \"yes\", twice"]);
    }
    bench.ok(&[
        "run",
        &course("two-slots"),
        "--on",
        "upper=sim:merrow-k2",
        "--on",
        "lower=sim:merrow-k2-finned",
    ]);
    bench.ok(&["logbook", "remove", "2"]);
    assert!(bench.ok(&["export", "--all", "--as", "csv", "-o", "all"]).contains("2 runs are in all"));
    let mut table = csv::Reader::from_path(bench.path("all/runs.csv")).unwrap();
    let head = table.headers().unwrap().clone();
    let rows: Vec<csv::StringRecord> = table.records().map(Result::unwrap).collect();
    let of = |row: usize, name: &str| rows[row][head.iter().position(|h| h == name).unwrap()].to_owned();
    assert_eq!(
        (rows.len(), of(0, "run"), of(1, "run"), of(1, "lanes")),
        (2, "1".into(), "3".into(), "upper + lower".into())
    );
    assert_eq!(of(0, "note"), "it said \"yes\", twice");
    let files: Vec<std::path::PathBuf> =
        [(0, "model=Merrow%20K2%202TB"), (1, "model=Merrow%20K2%202TB%20%2B%20Merrow%20K2%202TB")]
            .map(|(row, model)| {
                let month = jiff::Timestamp::from_second(of(row, "started_unix_s").parse().unwrap()).unwrap();
                let month = month.to_zoned(jiff::tz::TimeZone::UTC).strftime("%Y-%m").to_string();
                bench.path(&format!("all/{model}/month={month}/run={}/samples", of(row, "run")))
            })
            .to_vec();
    // What the samples say moved is what the table says.
    let mut samples = csv::Reader::from_path(files[0].with_extension("csv")).unwrap();
    let at = samples.headers().unwrap().iter().position(|h| h == "bytes_written").unwrap();
    let last = samples.records().last().unwrap().unwrap();
    assert_eq!(last[at], of(0, "bytes"));
    assert!(
        csv::Reader::from_path(files[1].with_extension("csv"))
            .unwrap()
            .headers()
            .unwrap()
            .iter()
            .any(|h| h == "lane")
    );

    if cfg!(feature = "parquet") {
        bench.ok(&["export", "--all", "--as", "parquet", "-o", "columns"]);
        let parquet = bench
            .path("columns")
            .join(files[0].strip_prefix(bench.path("all")).unwrap())
            .with_extension("parquet");
        let found = bench.ok(&["findings", parquet.to_str().unwrap(), "--format", "json"]);
        let run = bench.ok(&["findings", "1", "--format", "json"]);
        let plateaus =
            |text: &str| serde_json::from_str::<serde_json::Value>(text).unwrap()["plateaus"].clone();
        assert_eq!(plateaus(&found), plateaus(&run));
        assert!(bench.read("columns/README.md").contains("hive_partitioning"));
    }
    assert!(
        bench
            .fails(&["export", "--all", "--as", "csv", "-o", "all"])
            .contains("Name one that is not there yet")
    );
    assert!(
        bench.fails(&["export", "--all", "--as", "svg", "-o", "other"]).contains("--as parquet or --as csv")
    );
    assert!(
        bench
            .fails(&["export", "--all", "--as", "csv", "-o", "other", "--lane", "upper"])
            .contains("cannot be used with")
    );
    assert!(!bench.path("other").exists());
}

#[test]
fn runs_are_taken_off_the_list_brought_back_and_erased() {
    let bench = Bench::new();
    for seed in ["1", "2", "3"] {
        bench.write("c.course", "course \"c\"\n\nleg soak\n  write sequential, blocks 1 MiB\n  for 20 s\n");
        bench.ok(&["run", "c.course", "--on", "sim:merrow-k2", "--seed", seed]);
    }
    let listed = || bench.ok(&["logbook", "list"]).lines().count();
    assert!(bench.ok(&["logbook", "remove", "1", "last"]).contains("restore 3"));
    assert_eq!(listed(), 1);
    let refused = |args: &[&str], says: &str| {
        let told = bench.fails(args);
        assert!(told.contains(says), "{args:?}: {told}");
    };
    refused(&["findings", "3"], "bring it back with: hollow-mile logbook restore 3");
    refused(&["logbook", "erase", "2"], "run 2 is not off the list");
    refused(&["logbook", "erase", "1", "2"], "run 2 is not off the list");
    refused(&["logbook", "restore", "2"], "run 2 is not off the list");
    assert_eq!(bench.ok(&["logbook", "restore"]).lines().count(), 2);
    bench.ok(&["logbook", "restore", "3"]);
    assert!(bench.ok(&["logbook", "erase", "1"]).contains("One run is erased."));
    assert_eq!(listed(), 2);
    refused(&["findings", "1"], "there is no run 1");
    let sizes = bench.ok(&["logbook", "list", "--sizes"]);
    assert!(sizes.lines().count() == 3 && sizes.contains("the logbook") && sizes.contains("kB"), "{sizes}");
    let json: serde_json::Value =
        serde_json::from_str(&bench.ok(&["logbook", "list", "--sizes", "--format", "json"])).unwrap();
    assert!(json[0]["size_bytes"].as_u64().unwrap() > 1000, "{json}");
}

/// The demonstration logbook is what its courses and seeds make.
#[test]
fn the_demo_logbook_is_what_the_script_makes() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let bench = Bench::new();
    let made = bench.path("made.logbook");
    let status = Command::new(root.join("scripts/make-demo"))
        .arg(&made)
        .env("HOLLOW_MILE", env!("CARGO_BIN_EXE_hollow-mile"))
        .stdout(Stdio::null())
        .status()
        .unwrap();
    assert!(status.success());
    let kept = std::fs::File::open(root.join("demo/demo.logbook.gz")).unwrap();
    let mut plain = std::fs::File::create(bench.path("kept.logbook")).unwrap();
    std::io::copy(&mut flate2::read::GzDecoder::new(kept), &mut plain).unwrap();
    let export = |book: &str, run: &str, out: &str| {
        bench.ok(&["export", run, "--as", "jsonl", "-o", out, "--logbook", book]);
        bench.read(out)
    };
    let list = bench.ok(&["logbook", "list", "--logbook", "made.logbook"]);
    assert_eq!(list.lines().count(), 7, "{list}");
    for run in ["1", "2", "3", "4", "5", "6", "7"] {
        let [a, b] =
            ["made.logbook", "kept.logbook"].map(|book| export(book, run, &format!("{book}-{run}.jsonl")));
        assert!(a == b, "run {run} differs: make demo/demo.logbook.gz anew with scripts/make-demo");
    }
    for (run, cause) in [
        ("2", "throttled by heat"),
        ("3", "throttled by heat"),
        ("4", "write cache exhausted"),
        ("7", "confirmed"),
    ] {
        assert!(bench.ok(&["findings", run, "--logbook", "made.logbook"]).contains(cause));
    }
}

/// A trace from elsewhere is kept as a run with what was said beside it, whatever the format that it comes in.
/// A log of a drive that its throttle holds at 82 °C, with a low of 4.5 s in every 50 s: it has no break, and says what is the matter all the same, without
/// filling the page with each of its lows.
#[test]
fn a_log_of_dips_is_told_with_their_cause_and_not_low_by_low() {
    let bench = Bench::new();
    let mut csv = String::from("elapsed_s,leg,op,write_mb_s,temp_c\n");
    let (mut temp, mut slow, mut lows) = (40.0_f64, false, 0);
    for i in 1..=2400 {
        temp += 0.5 * if slow { -1.0 } else { ((90.0 - temp) / 110.0).max(0.09) };
        let was = slow;
        slow = if slow { temp > 78.0 } else { temp >= 82.0 };
        lows += usize::from(slow && !was);
        let wobble = 1.0 + 0.01 * (f64::from(i) * 12.9898).sin();
        let rate = if slow { 2050.0 } else { 3300.0 } * wobble;
        csv += &format!("{},soak,write,{rate:.1},{temp:.0}\n", f64::from(i) / 2.0);
    }
    bench.write("saw.csv", &csv);
    let out = bench.ok(&["findings", "saw.csv", "--warn", "82"]);
    assert!(out.contains("No break in the rate was found."), "{out}");
    assert!(out.contains("% of the time: throttled by heat, 9") && out.contains("\n    +"), "{out}");
    assert_eq!(out.matches("\nThrottled at").count(), 8, "{out}");
    assert!(
        out.contains(&format!("Throttled {} times more, the last until", lows - 8)),
        "{lows} lows: {out}"
    );
}

#[test]
fn a_trace_from_elsewhere_is_kept_as_a_run() {
    let bench = Bench::new();
    let mut text = String::from("elapsed_s,write_mb_s,temp_c\n");
    for i in 1..=600 {
        let wobble = f64::from(i * 37 % 11);
        text += &format!("{i},{},{}\n", if i <= 200 { 2000.0 + wobble } else { 500.0 + wobble }, 35 + i / 60);
    }
    bench.write("t.csv", &text);
    let beside = ["--capacity", "2TB", "--warn", "75", "--rated-write", "3000"];
    let mut files = vec!["t.csv"];
    if cfg!(feature = "parquet") {
        bench.ok(&["export", "t.csv", "--as", "parquet", "-o", "t.parquet"]);
        files.push("t.parquet");
    }
    for file in files {
        let mut args = vec!["logbook", "import", file];
        args.extend(beside);
        assert!(bench.ok(&args).starts_with("Kept as run "));
        let found: Value =
            serde_json::from_str(&bench.ok(&["findings", "last", "--format", "json"])).unwrap();
        let mut direct = vec!["findings", file, "--format", "json"];
        direct.extend(beside);
        let straight: Value = serde_json::from_str(&bench.ok(&direct)).unwrap();
        assert_eq!(found["breaks"], straight["breaks"]);
        assert_eq!(found["breaks"][0]["cause"], "cache-exhausted");
        assert_eq!(found["claims"][0]["claimed_mb_s"], 3000.0);
    }
    let again = bench.fails(&["logbook", "import", "last"]);
    assert!(again.contains("name a CSV or Parquet file"), "{again}");
}

/// A build without Parquet says so, and how one with it is made, before it makes a file or a folder.
#[cfg(not(feature = "parquet"))]
#[test]
fn a_build_without_parquet_says_how_to_make_one_with_it() {
    let bench = Bench::new();
    bench.write("t.csv", "elapsed_s,write_mb_s\n1,2000\n2,1990\n");
    bench.write("t.parquet", "PAR1 and so on PAR1");
    for args in [
        &["export", "t.csv", "--as", "parquet", "-o", "out"][..],
        &["export", "--all", "--as", "parquet", "-o", "out"],
        &["findings", "t.parquet"],
        &["logbook", "import", "t.parquet"],
    ] {
        let said = bench.fails(args);
        assert!(said.contains("without Parquet") && said.contains("--features parquet"), "{args:?}: {said}");
    }
    assert!(!bench.path("out").exists());
}

/// What shells and `man` are told has every command that the help has, and bash reads it.
#[test]
fn manual_pages_and_completions_have_every_command() {
    let bench = Bench::new();
    let help = bench.ok(&["--help"]);
    let commands: Vec<&str> = help
        .lines()
        .skip_while(|l| !l.starts_with("Run a course:"))
        .take_while(|l| !l.starts_with("Options:"))
        .filter(|l| l.starts_with("  ") && !l.starts_with("   "))
        .filter_map(|l| l.split_whitespace().next())
        .filter(|c| *c != "help")
        .collect();
    assert!(commands.len() > 15 && commands.contains(&"watch"), "{commands:?}");
    for shell in ["bash", "zsh", "fish"] {
        let text = bench.ok(&["completions", shell]);
        assert!(commands.iter().all(|c| text.contains(c)), "{shell}");
    }
    bench.write("c.bash", &bench.ok(&["completions", "bash"]));
    let read = std::process::Command::new("bash").arg("-n").arg(bench.path("c.bash")).output().unwrap();
    assert!(read.status.success(), "{read:?}");
    let page = bench.ok(&["man"]);
    assert!(page.contains(".TH hollow-mile 1"), "{page}");
    assert!(
        commands.iter().all(|c| page.contains(&format!("hollow\\-mile\\-{}", c.replace('-', "\\-")))),
        "{page}"
    );
    assert!(bench.ok(&["man", "watch"]).contains("\\-\\-every"));
    assert!(bench.fails(&["man", "whatever"]).contains("there is no such command"));
    std::fs::create_dir(bench.path("man")).unwrap();
    bench.ok(&["man", "--folder", "man"]);
    assert_eq!(std::fs::read_dir(bench.path("man")).unwrap().count(), commands.len() + 1);
    assert!(bench.fails(&["man", "--folder", "man"]).contains("exists"), "nothing is written over unasked");
}
