//! A real block device that is slow, fails and lies where it is told to (`scripts/bad-target`): what a scan and a verifying read find on it, and
//! what the map and the figure show.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::Bench;
use common::bad_target::BadTarget;
use serde_json::Value;

const MIB: u64 = 1 << 20;

/// Reads that are held to 60 MB/s, so that what is slow stands out on a busy machine too.
#[test]
fn slow_failing_and_corrupt_ranges_are_found_where_they_are_and_shown_on_the_map() {
    let slow = (128 * MIB, 152 * MIB);
    let failing = (300 * MIB + 512, 300 * MIB + 2048);
    let corrupt = (400 * MIB, 400 * MIB + 12 * 1024);
    let range = |name: &str, (from, to): (u64, u64), more: &str| {
        vec![format!("--{name}"), format!("{from}+{}{more}", to - from)]
    };
    let options: Vec<String> = [
        vec!["--size".into(), "512M".into(), "--read-rate".into(), "60M".into()],
        range("slow", slow, ":60"),
        range("eio", failing, ":r"),
        range("corrupt", corrupt, ""),
    ]
    .concat();
    let options: Vec<&str> = options.iter().map(String::as_str).collect();
    let Some(target) = BadTarget::up(&options) else { return };
    let bench = Bench::new();
    bench.write(
        "bad.course",
        "course \"bad\"\nsample every 100 ms\nstop if errors above 50\nleg prepare\n write sequential, blocks 1 MiB, depth 4\nleg scan\n scan, blocks 64 KiB, depth 4, zones 64\nleg check\n verify, blocks 64 KiB, depth 4, over 402653184 B to 436207616 B\n",
    );
    let word = target.device.trim_start_matches("/dev/");
    let out = bench.run(&["run", "bad.course", "--on", &target.device, "--arm", word, "--format", "json"]);
    let run: Value = serde_json::from_slice(&out.stdout)
        .unwrap_or_else(|e| panic!("{e}\n{}", String::from_utf8_lossy(&out.stderr)));
    assert_eq!(run["status"], "done", "{run:#}");
    let found = &run["findings"];
    let ends = |v: &Value| (v["start_byte"].as_u64().unwrap(), v["end_byte"].as_u64().unwrap());
    // Zones of 8 MiB, and the slow range is three of them.
    let hollows: Vec<_> = found["hollows"].as_array().unwrap().iter().map(ends).collect();
    assert!(hollows.len() == 1, "{found:#}");
    // To 64 KiB, or to what is said where other work on this machine kept the edges from being found so well: two zones at most.
    let said = found["hollows"][0]["edge_bytes"].as_u64().unwrap();
    assert!(said <= 16 << 20, "{said}");
    let near = |a: u64, b: u64| a.abs_diff(b) < said.max(64 << 10);
    assert!(near(hollows[0].0, slow.0) && near(hollows[0].1, slow.1), "{hollows:?}");
    assert_eq!(found["hollows"][0]["passes_seen"], 2);
    let unreadable: Vec<_> = found["unreadable_blocks"].as_array().unwrap().iter().map(ends).collect();
    assert_eq!(unreadable, [failing]);
    let faults = found["faults"].as_array().unwrap();
    let wrong = faults.iter().find(|f| f["kind"] == "corrupt").unwrap_or_else(|| panic!("{faults:#?}"));
    // A bit in each 4 KiB is wrong, which is how closely the stamps tell it.
    assert_eq!(wrong["stretches"], serde_json::json!([[corrupt.0, corrupt.1]]), "{wrong:#}");
    // The figure marks both, and the list of errors has them with the time that they took.
    bench.ok(&["export", "last", "--as", "svg", "--figure", "surface", "-o", "surface.svg"]);
    let figure = bench.read("surface.svg");
    assert!(figure.contains('✕') && figure.contains('≠'), "{figure}");
    bench.ok(&["export", "last", "--as", "csv", "--what", "errors", "-o", "errors.csv"]);
    let list = bench.read("errors.csv");
    let has = |kind: &str, what: &str| list.lines().any(|l| l.contains(kind) && l.contains(what));
    // The kernel may join operations that follow on each other: what failed with the range, and was read again, is in the list too.
    assert!(has("read-failed", &format!("{},{}", failing.0, failing.1)), "{list}");
    assert!(has("corrupt", &corrupt.0.to_string()), "{list}");
}

/// A scan that verifies: what is corrupt is found in both of its passes, and counted once.
#[test]
fn a_scan_that_verifies_marks_what_is_corrupt_on_the_map() {
    let corrupt = (40 * MIB + 4096, 40 * MIB + 12 * 1024);
    let range = format!("{}+{}", corrupt.0, corrupt.1 - corrupt.0);
    let Some(target) = BadTarget::up(&["--size", "96M", "--corrupt", &range]) else { return };
    let bench = Bench::new();
    let scan = |more: &str| {
        format!(
            "course \"lies\"\nstop if errors above 50\nleg prepare\n write sequential, blocks 1 MiB, depth 4\nleg scan\n scan, blocks 64 KiB, depth 4, zones 48{more}\n"
        )
    };
    let word = target.device.trim_start_matches("/dev/");
    for (more, wrong) in [("", vec![]), (", verify", vec![[corrupt.0, corrupt.1]])] {
        bench.write("lies.course", &scan(more));
        // The first run has left its data.
        let order = ["run", "lies.course", "--on", &target.device, "--arm", word, "--destroy", "data"];
        let out = bench.run(&[&order[..], &["--format", "json"]].concat());
        let run: Value = serde_json::from_slice(&out.stdout)
            .unwrap_or_else(|e| panic!("{e}\n{}", String::from_utf8_lossy(&out.stderr)));
        assert_eq!(run["status"], "done", "{run:#}");
        let told: Vec<Value> = run["findings"]["faults"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|f| f["kind"] == "corrupt")
            .flat_map(|f| f["stretches"].as_array().unwrap().clone())
            .collect();
        assert_eq!(Value::from(told), serde_json::json!(wrong), "{more}: {run:#}");
    }
    bench.ok(&["export", "last", "--as", "svg", "--figure", "surface", "-o", "surface.svg"]);
    assert!(bench.read("surface.svg").contains('≠'));
}
