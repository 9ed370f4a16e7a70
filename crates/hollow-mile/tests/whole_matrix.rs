//! Every ready-made course on every simulated drive, with the findings held against what really happened (`--truth`).
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::{Bench, course};
use serde_json::Value;

/// Courses for one drive that has no file system.
const COURSES: [&str; 20] = [
    "after-a-year",
    "batches",
    "cache-recovery",
    "fill-sweep",
    "first-look",
    "full-read",
    "heat-comparison",
    "inner-outer",
    "long-soak",
    "matrix",
    "ramp",
    "span-disk",
    "span-flash",
    "stale-data",
    "steadiness",
    "stream",
    "surface-check",
    "three-levels",
    "used-drive",
    "workers",
];

/// What of the truth a cause goes with.
fn truths(cause: &str) -> &'static [&'static str] {
    match cause {
        "cache-exhausted" => &["cache-full", "folding-on"],
        "thermal-throttle" => &["light-on", "heavy-on"],
        "thermal-release" => &["light-off", "heavy-off"],
        "cache-recovered" => &["cache-back"],
        _ => &[],
    }
}

struct Event<'a> {
    what: &'a str,
    at_s: f64,
    at_bytes: f64,
}

/// Runs all courses on a drive whose cache takes writes at the first rate, MB/s, through its link, and whose flash at the second; `None` where it has none.
fn check(drive: &str, rates: Option<(f64, f64)>, without: &[&str]) {
    let bench = Bench::new();
    let (mut full, mut found_full, mut sizes, mut with_cache) = (0, 0, 0, 0);
    for name in COURSES.into_iter().filter(|c| !without.contains(c)) {
        let of = format!("{name} on {drive}");
        let truth = format!("{name}.truth.json");
        let on = format!("sim:{drive}");
        let path = course(name);
        let out =
            bench.run(&["run", &path, "--on", &on, "--seed", "7", "--format", "json", "--truth", &truth]);
        let run: Value = serde_json::from_slice(&out.stdout)
            .unwrap_or_else(|e| panic!("{of}: {e} {}", String::from_utf8_lossy(&out.stderr)));
        let truth: Value =
            serde_json::from_str(&std::fs::read_to_string(bench.path(&truth)).unwrap()).unwrap();
        let events: Vec<Event<'_>> = truth["events"]
            .as_array()
            .unwrap()
            .iter()
            .map(|e| Event {
                what: e["what"].as_str().unwrap(),
                at_s: e["at_s"].as_f64().unwrap(),
                at_bytes: e["at_bytes"].as_f64().unwrap(),
            })
            .collect();
        let found = &run["findings"];
        let breaks = found["breaks"].as_array().unwrap();
        let number = |b: &Value, key: &str| b[key].as_f64().unwrap();
        let is_near = |b: &Value, e: &Event<'_>| {
            let slack = 3.0_f64.max(0.02 * e.at_s).max(number(b, "high_s") - number(b, "low_s"));
            (number(b, "at_s") - e.at_s).abs() <= slack
        };
        for b in breaks {
            let (cause, sure) = (b["cause"].as_str().unwrap(), number(b, "confidence"));
            let kinds = truths(cause);
            // What is undone may have been undone in the rest before.
            let rises = number(b, "to_mb_s") > number(b, "from_mb_s");
            let is_true = |e: &Event<'_>| {
                kinds.contains(&e.what) && (is_near(b, e) || rises && e.at_s <= number(b, "at_s") + 3.0)
            };
            let is_named = kinds.is_empty() || events.iter().any(is_true);
            assert!(is_named || sure < 0.9, "{of}: {cause}, {sure} at {} s: {b:#}", number(b, "at_s"));
        }
        with_cache += u32::from(events.iter().any(|e| e.what == "cache-full"));
        for e in events.iter().filter(|e| e.what == "cache-full") {
            full += 1;
            let own =
                breaks.iter().filter(|b| is_near(b, e) && number(b, "to_mb_s") < number(b, "from_mb_s"));
            let Some(b) = own.min_by(|a, b| {
                (number(a, "at_s") - e.at_s).abs().total_cmp(&(number(b, "at_s") - e.at_s).abs())
            }) else {
                continue;
            };
            found_full += usize::from(b["cause"] == "cache-exhausted");
        }
        // The cache that is said first: its size to 3 %, and the rates on both sides to 3 %.
        let first = breaks.iter().find(|b| b["cause"] == "cache-exhausted");
        if let (Some(b), Some((fast, slow)), false) = (first, rates, found["cache"].is_null()) {
            let cache = &found["cache"];
            let full = events.iter().filter(|e| truths("cache-exhausted").contains(&e.what));
            let off = |e: &Event<'_>| (number(b, "at_bytes") - e.at_bytes).abs();
            let off = full.map(off).min_by(f64::total_cmp).unwrap_or(f64::INFINITY);
            assert!(off <= 0.03 * number(cache, "bytes"), "{of}: {off} bytes off, {cache:#}");
            sizes += 1;
            let is_plain = ["long-soak", "first-look", "steadiness"].contains(&name);
            for (key, rate) in [("before_mb_s", fast), ("after_mb_s", slow)].into_iter().filter(|_| is_plain)
            {
                assert!((number(cache, key) / rate - 1.0).abs() < 0.03, "{of}: {key} is {cache:#}, {rate}");
            }
        }
    }
    // Those that are left are in legs of small blocks that no cache speeds up, or at the end of a leg.
    assert!(
        found_full as f64 >= 0.85 * f64::from(full),
        "{drive}: {found_full} of {full} full caches are named"
    );
    // All but the courses whose writes are in small blocks.
    assert!(
        rates.is_none() || sizes > 0 && 3 * sizes >= 2 * with_cache,
        "{drive}: {sizes} of {with_cache} caches were measured"
    );
}

/// What waits for nothing: `scripts/test` runs it beside what does.
mod only_computes {
    use super::check;

    #[test]
    fn every_course_on_the_fast_drive() {
        check("merrow-k2", Some((2875.0, 1052.0)), &[]);
    }

    #[test]
    fn every_course_on_the_fast_drive_with_a_heatsink() {
        // It is the same flash: what differs is heat.
        let same =
            ["batches", "fill-sweep", "three-levels", "stream", "matrix", "workers", "ramp", "stale-data"];
        check("merrow-k2-finned", Some((2875.0, 1052.0)), &same);
    }

    #[test]
    fn every_course_on_the_large_drive() {
        check("halyard-q4", Some((4650.0, 640.0)), &[]);
    }

    #[test]
    fn every_course_on_the_drive_for_servers() {
        check("bittern-s1", Some((492.0, 318.0)), &[]);
    }

    #[test]
    fn every_course_on_the_stick() {
        // It takes hours of simulated time to fill, and so minutes of the test, in these.
        let hours =
            ["batches", "three-levels", "stream", "stale-data", "steadiness", "fill-sweep", "first-look"];
        check("sprat", Some((43.2, 28.0)), &hours);
    }

    #[test]
    fn every_course_on_the_disk() {
        // What is asked of a write cache, which it has not, takes days of its time.
        let days =
            ["cache-recovery", "batches", "three-levels", "stream", "steadiness", "fill-sweep", "stale-data"];
        check("keelson", None, &days);
    }
}
