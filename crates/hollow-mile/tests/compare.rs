//! Sides held against each other, tags, tables of legs, reports and the folders that go with them, as whoever uses the command line sees them.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::Bench;
use serde_json::Value;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

const COOLERS: &str = "course \"coolers\"\nsample every 1 s\nrepeat 3\n  leg idle\n    rest for 10 min\n  leg load\n    write sequential, blocks 1 MiB, depth 8\n    for 3 min\nend\n";

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|e| panic!("{e}: {text}"))
}

fn put(bench: &Bench, name: &str, text: &str) -> String {
    let path = bench.path(name);
    std::fs::write(&path, text).unwrap();
    path.display().to_string()
}

/// Two drives of one kind, bare and finned, a run each of three repeats: runs 1 and 2, tagged.
fn coolers() -> Bench {
    let bench = Bench::new();
    let course = put(&bench, "c.course", COOLERS);
    for (drive, seed, tag) in [("sim:merrow-k2", "1", "bare"), ("sim:merrow-k2-finned", "2", "fins")] {
        bench.ok(&["run", &course, "--on", drive, "--seed", seed]);
        bench.ok(&["logbook", "tag", "last", tag]);
    }
    bench
}

fn figure<'a>(found: &'a Value, leg: &str, name: &str) -> &'a Value {
    let all = found["figures"].as_array().unwrap();
    all.iter()
        .find(|f| f["leg"] == leg && f["figure"] == name)
        .unwrap_or_else(|| panic!("{leg}, {name}: {found:#}"))
}

#[test]
fn two_coolers_are_told_apart_by_heat_and_not_by_rate() {
    let bench = coolers();
    let found = json(&bench.ok(&["compare", "bare", "fins", "--format", "json"]));
    assert_eq!((&found["format"], &found["version"]), (&"hollow-mile/comparison".into(), &1.into()));
    let peak = figure(&found, "load", "peak temperature");
    assert!(peak["established"] == true && peak["unit"] == "°C" && peak["percent"].is_null(), "{peak:#}");
    assert!((peak["a"]["n"].as_u64(), peak["b"]["n"].as_u64()) == (Some(3), Some(3)));
    let number = |v: &Value| v.as_f64().unwrap();
    let difference = number(&peak["b"]["mean"]) - number(&peak["a"]["mean"]);
    assert!(
        (number(&peak["difference"]) - difference).abs() < 1e-9 && difference < -8.0,
        "b less a: {peak:#}"
    );
    assert!(number(&peak["difference_low"]) < difference && difference < number(&peak["difference_high"]));
    let rate = figure(&found, "load", "rate");
    assert!(rate["established"] == false && rate["unit"] == "MB/s" && number(&rate["p"]) > 0.05, "{rate:#}");
    let differs: Vec<&str> =
        found["differs"].as_array().unwrap().iter().map(|d| d["what"].as_str().unwrap()).collect();
    assert!(
        differs.contains(&"cooling") && !differs.contains(&"drive") && !differs.contains(&"course"),
        "{differs:?}"
    );
    // Ten degrees warmer around it, ten degrees warmer itself.
    let warmer = json(&bench.ok(&["compare", "1", "2", "--reference-ambient", "35", "--format", "json"]));
    let shifted = figure(&warmer, "load", "peak temperature");
    assert!((number(&shifted["a"]["mean"]) - number(&peak["a"]["mean"]) - 10.0).abs() < 1e-6);
    let text = bench.ok(&["compare", "bare", "fins", "--detect", "2"]);
    for part in [
        "What differs between the sides:",
        "cooling: A bare; B finned carrier",
        "yes, p ",
        "repeats for it",
        "given at 25.0 °C ambient",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    // Both on one clock, from the start of each leg, and their difference; as SVG and, by its name, as PDF.
    bench.ok(&["compare", "bare", "fins", "--figure", "f.svg"]);
    let svg = bench.read("f.svg");
    for part in
        ["load, from the start of the leg", "A, run 1", "B, run 2", "difference, mean", "min since the start"]
    {
        assert!(svg.contains(part), "{part}");
    }
    bench.ok(&["compare", "bare", "fins", "--figure", "f.pdf"]);
    assert!(std::fs::read(bench.path("f.pdf")).unwrap().starts_with(b"%PDF-"));
    assert!(bench.fails(&["compare", "bare", "fins", "--figure", "f.svg"]).contains("--overwrite"));
    // A tag is taken away again, and names nothing then.
    bench.ok(&["logbook", "tag", "2", "fins", "--remove"]);
    let said = bench.fails(&["compare", "bare", "fins"]);
    assert!(said.contains("`fins` is no run, no file, and no tag"), "{said}");
}

/// A log of a leg that falls to half of its rate after 30 GB, as CSV; with addresses if asked for.
fn falls_after_30_gb(rate: f64, addresses: bool) -> String {
    let (mut text, mut moved) = ("elapsed_s,leg,op,write_mb_s,temp_c".to_owned(), 0.0);
    text.push_str(if addresses { ",offset_bytes\n" } else { "\n" });
    for i in 1.. {
        let noise = if i % 2 == 0 { 1.01 } else { 0.99 };
        let now = noise * if moved < 30e9 { rate } else { rate / 2.0 };
        let _ = write!(text, "{},soak,write,{now:.3},41", f64::from(i) * 0.25);
        text.push_str(&if addresses { format!(",{moved:.0}\n") } else { "\n".to_owned() });
        moved += now * 1e6 * 0.25;
        if moved > 45e9 {
            return text;
        }
    }
    text
}

/// Where the text stands from the left of a figure, pixels.
fn left_of(svg: &str, text: &str) -> f64 {
    let lines: Vec<&str> = svg.lines().collect();
    let at = lines.iter().position(|l| l.trim() == text).unwrap_or_else(|| panic!("{text} in {svg}"));
    let (_, rest) = lines[at - 1].split_once(" x=\"").unwrap();
    rest.split('"').next().unwrap().parse().unwrap()
}

/// The same bytes at two paces: on the ruler of bytes and of addresses the breaks stand below each other, in time the slower one comes later by as much.
#[test]
fn two_sides_are_drawn_along_time_bytes_or_addresses_with_their_breaks() {
    let bench = Bench::new();
    put(&bench, "a.csv", &falls_after_30_gb(1000.0, true));
    put(&bench, "b.csv", &falls_after_30_gb(800.0, true));
    let drawn = |ruler: &str| {
        bench.ok(&["compare", "a.csv", "b.csv", "--figure", "f.svg", "--overwrite", "--ruler", ruler]);
        let svg = bench.read("f.svg");
        (left_of(&svg, "A1"), left_of(&svg, "B1"), svg)
    };
    let (a, b, svg) = drawn("bytes");
    assert!(
        (a - b).abs() <= 2.0 && svg.contains("GB moved") && svg.contains("from the start of the leg"),
        "{a} {b}"
    );
    let (a, b, svg) = drawn("address");
    assert!(
        (a - b).abs() <= 2.0 && svg.contains("GB of address") && svg.contains("soak, by address"),
        "{a} {b}"
    );
    // 30 s and 37.5 s from where the picture begins; both labels stand 3 pixels beside their lines.
    let (a, b, svg) = drawn("time");
    let ((left, right), starts) = ((a - 3.0, b - 3.0), 74.0);
    assert!(((left - starts) / (right - starts) - 0.8).abs() < 0.01, "{left} {right} {starts}");
    assert!(svg.contains("since the start"));
    // The strip of the difference goes below 0 here: by 200 MB/s, and then by 100.
    assert!(svg.lines().any(|l| l.trim() == "−200") && !svg.contains("-,"), "{svg}");
    // Without addresses there is nothing to draw along them.
    put(&bench, "c.csv", &falls_after_30_gb(900.0, false));
    let said = bench.fails(&["compare", "a.csv", "c.csv", "--figure", "g.svg", "--ruler", "address"]);
    assert!(
        said.contains("no leg has addresses in an order on two sides") && !bench.path("g.svg").exists(),
        "{said}"
    );
    // Nor where each sample began at an address drawn at random (Lehmer, 1951): its data were not there.
    for name in ["d.csv", "e.csv"] {
        let mut state = 77_777_u64;
        let mut at_random = String::new();
        for line in falls_after_30_gb(900.0, true).lines() {
            state = state * 48_271 % 2_147_483_647;
            let (row, address) = line.rsplit_once(',').unwrap();
            let address =
                if address.starts_with('o') { address.to_owned() } else { (state * 20).to_string() };
            let _ = writeln!(at_random, "{row},{address}");
        }
        put(&bench, name, &at_random);
    }
    let said = bench.fails(&["compare", "d.csv", "e.csv", "--figure", "g.svg", "--ruler", "address"]);
    assert!(said.contains("no leg has addresses in an order") && !bench.path("g.svg").exists(), "{said}");
    bench.ok(&["compare", "d.csv", "e.csv", "--figure", "g.svg", "--ruler", "bytes"]);
    assert!(bench.fails(&["compare", "a.csv", "b.csv", "--ruler", "bytes"]).contains("--figure"));
}

#[test]
fn what_cannot_be_compared_is_refused_and_one_of_a_kind_establishes_nothing() {
    let bench = Bench::new();
    let course = |name: &str, leg: &str| {
        put(
            &bench,
            name,
            &format!(
                "course \"{leg}\"\nsample every 500 ms\nleg {leg}\n write sequential, blocks 1 MiB, depth 4, for 20 s\n"
            ),
        )
    };
    let (one, other) = (course("a.course", "burst"), course("b.course", "soak"));
    bench.ok(&["run", &one, "--on", "sim:sprat", "--seed", "1"]);
    bench.ok(&["run", &one, "--on", "sim:sprat", "--seed", "2"]);
    bench.ok(&["run", &other, "--on", "sim:sprat"]);
    let refused = |args: &[&str], part: &str| {
        let said = bench.fails(args);
        assert!(said.contains(part), "{args:?}: {said}");
    };
    refused(
        &["compare", "1", "3"],
        "share no figure: no leg has the same name on two of them (1: burst; 3: soak)",
    );
    refused(&["compare", "1", "99"], "no run 99");
    refused(&["compare", "1", "1,,2"], "names nothing between two commas");
    refused(&["compare", "1", "nothing.csv"], "is no run, no file, and no tag");
    refused(&["logbook", "tag", "1", "two words"], "is no tag: white space");
    refused(&["logbook", "tag", "1", "7"], "is the number of a run");
    refused(&["logbook", "tag", "9", "late"], "no run 9");
    let found = json(&bench.ok(&["compare", "1", "2", "--format", "json"]));
    for f in found["figures"].as_array().unwrap() {
        assert!(f["established"] == false && f["p"].is_null() && f["difference_low"].is_null(), "{f:#}");
        assert!(f["a"]["low"].is_null() && f["why_not"] == "too-few");
    }
    assert!(bench.ok(&["compare", "1", "2"]).contains("cannot be said (1)"));
}

#[test]
fn files_from_elsewhere_are_sides_like_runs_and_a_difference_that_was_planted_is_found() {
    let bench = Bench::new();
    // A log of 60 s: the rates are given, and alternate by 1 % around their mean, so that the mean is known.
    let log = |name: &str, mb_s: f64, temp: f64| {
        let mut text = String::from("elapsed_s,leg,op,write_mb_s,temp_c,ambient_c\n");
        for i in 1..=60 {
            let rate = mb_s * if i % 2 == 0 { 1.01 } else { 0.99 };
            text.push_str(&format!("{i},load,write,{rate},{temp},23\n"));
        }
        put(&bench, name, &text)
    };
    let side = |at: &str, mb_s: [f64; 4], temp: f64| -> String {
        let each = mb_s.iter().enumerate().map(|(i, r)| log(&format!("{at}{i}.csv"), *r, temp));
        each.collect::<Vec<_>>().join(",")
    };
    let a = side("a", [500.0, 501.0, 499.0, 500.5], 60.0);
    let b = side("b", [540.0, 541.5, 539.0, 540.5], 56.0);
    let found = json(&bench.ok(&["compare", &a, &b, "--format", "json"]));
    let rate = figure(&found, "load", "rate");
    let number = |key: &str| rate[key].as_f64().unwrap();
    assert!(rate["established"] == true && (number("difference") - 40.125).abs() < 0.01, "{rate:#}");
    // By hand: variances 0.7292 and 1.0833, error 0.6731, 5.76 degrees of freedom, t 2.471.
    assert!((number("difference_high") - number("difference") - 1.663).abs() < 0.02, "{rate:#}");
    assert!((number("percent") - 100.0 * 40.125 / 500.125).abs() < 0.01);
    // Read at 23 °C around it, given at 25.
    assert_eq!(figure(&found, "load", "peak temperature")["a"]["mean"].as_f64(), Some(62.0));
}

#[test]
fn the_table_of_legs_is_the_same_as_file_and_in_the_findings() {
    let bench = coolers();
    let out = bench.path("legs.csv").display().to_string();
    bench.ok(&["export", "1", "--as", "csv", "--what", "legs", "-o", &out]);
    let text = std::fs::read_to_string(&out).unwrap();
    let mut lines = text.lines();
    let heads: Vec<&str> = lines.next().unwrap().split(',').collect();
    let rows: Vec<Vec<&str>> = lines.map(|l| l.split(',').collect()).collect();
    let found = json(&bench.ok(&["findings", "1", "--format", "json"]));
    let table = found["leg_table"].as_array().unwrap();
    assert_eq!((rows.len(), table.len()), (6, 6));
    for (row, leg) in rows.iter().zip(table) {
        assert_eq!(row.len(), heads.len());
        for (head, field) in heads.iter().zip(row).filter(|(h, _)| !["lane", "channels"].contains(*h)) {
            match &leg[*head] {
                Value::Null => assert_eq!(*field, "", "{head}"),
                Value::String(text) => assert_eq!(field, text, "{head}"),
                value => assert!(
                    (field.parse::<f64>().unwrap() - value.as_f64().unwrap()).abs() < 0.051,
                    "{head}: {field} {value}"
                ),
            }
        }
    }
    // The samples say the same: bytes over time.
    let samples = bench.path("s.csv").display().to_string();
    bench.ok(&["export", "1", "--as", "csv", "-o", &samples]);
    let all = std::fs::read_to_string(samples).unwrap();
    let columns: Vec<&str> = all.lines().next().unwrap().split(',').collect();
    let at = |name: &str| columns.iter().position(|c| *c == name).unwrap();
    let fields: Vec<Vec<&str>> = all.lines().skip(1).map(|l| l.split(',').collect()).collect();
    let own: Vec<usize> = (0..fields.len()).filter(|i| fields[*i][at("leg")] == "load / repeat 2").collect();
    let number = |row: usize, name: &str| fields[row][at(name)].parse::<f64>().unwrap();
    let (before, last) = (own[0] - 1, *own.last().unwrap());
    let bytes = number(last, "bytes_written") - number(before, "bytes_written");
    let seconds = number(last, "elapsed_s") - number(before, "elapsed_s");
    let leg = table.iter().find(|l| l["leg"] == "load / repeat 2").unwrap();
    assert!((leg["mean_mb_s"].as_f64().unwrap() / (bytes / seconds / 1e6) - 1.0).abs() < 1e-6);
    let repeats = found["repeats"].as_array().unwrap();
    assert!(repeats.iter().any(|r| r["leg"] == "load" && r["figure"] == "rate" && r["n"] == 3));
    let said = bench.fails(&["export", "1", "--as", "svg", "--what", "legs", "-o", &out, "--overwrite"]);
    assert!(said.contains("--as csv"), "{said}");
}

fn pdf_text(path: &Path) -> String {
    let out = std::process::Command::new("pdftotext").arg("-layout").arg(path).arg("-").output().unwrap();
    String::from_utf8_lossy(&out.stdout).into_owned()
}

#[test]
fn a_report_says_what_was_asked_and_found_and_a_folder_is_checked_before_it_is_believed() {
    let bench = coolers();
    let pdf: PathBuf = bench.path("r.pdf");
    bench.ok(&["report", "bare", "fins", "-o", &pdf.display().to_string()]);
    let text = pdf_text(&pdf);
    for part in [
        "Report on 2 runs",
        "Contents",
        "Comparison",
        "conditions differ between the sides",
        "load, B against A",
        "run 1: Health before and after",
        "Method",
        "page 1 of",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    // What is established stands before the tables of the legs, each difference once.
    let found = json(&bench.ok(&["compare", "bare", "fins", "--format", "json"]));
    let all = found["figures"].as_array().unwrap().iter();
    let established: Vec<_> = all.filter(|f| f["established"] == true).collect();
    assert!(!established.is_empty(), "{found:#}");
    assert!(
        text.contains(&format!("{} of ", established.len())) && text.contains("are established."),
        "{text}"
    );
    let section = text.split("What is established").nth(1).unwrap();
    let section = section.split("B against A").next().unwrap();
    assert_eq!(section.matches("yes, p").count(), established.len().min(20), "{section}");
    let said = bench.fails(&["report", "1", "-o", &pdf.display().to_string()]);
    assert!(said.contains("--overwrite"), "{said}");
    let folder = bench.path("handed");
    let name = folder.display().to_string();
    bench.ok(&["report", "1", "--bundle", &name]);
    let said = bench.fails(&["report", "1", "--bundle", &name]);
    assert!(said.contains("cannot make the folder"), "{said}");
    // Another's tool finds the checksums right; and the findings are those of the run, to the last figure.
    let sums = std::process::Command::new("sha256sum")
        .args(["--check", "--quiet", "SHA256SUMS"])
        .current_dir(&folder)
        .status()
        .unwrap();
    assert!(sums.success());
    let (there, here) = (
        bench.ok(&["findings", &name, "--format", "json"]),
        bench.ok(&["findings", "1", "--format", "json"]),
    );
    assert_eq!(json(&there), json(&here));
    assert_eq!(json(&std::fs::read_to_string(folder.join("run-1-findings.json")).unwrap()), json(&here));
    assert!(pdf_text(&folder.join("report.pdf")).contains("Files and checksums"));
    // A trace from elsewhere is handed over with what was given beside it, and with what could not be used of it.
    bench.write("a.csv", "elapsed_s,write_mb_s,temp_c\n1,100,40\n2,101,40\n3,x,40\n4,102,41\n5,100,41\n");
    let beside = ["--warn", "75", "--rated-write", "3000", "--capacity", "2TB"];
    bench.ok(&[&["report", "a.csv", "--bundle", "elsewhere"][..], &beside].concat());
    let here = bench.ok(&[&["findings", "a.csv", "--format", "json"][..], &beside].concat());
    let there = bench.ok(&["findings", "elsewhere", "--format", "json"]);
    assert_eq!(json(&there), json(&here));
    assert_eq!(json(&here)["notes"][0], "1 row of the file could not be used and was left out.");
    // A file that was changed is named, whichever it is.
    let changed = folder.join("run-1-samples.csv");
    let mut samples = std::fs::read_to_string(&changed).unwrap();
    samples = samples.replacen("load", "lode", 1);
    std::fs::write(&changed, samples).unwrap();
    let said = bench.fails(&["findings", &name]);
    assert!(said.contains("run-1-samples.csv is not as it was written"), "{said}");
    let said = bench.fails(&["findings", &bench.path("").display().to_string()]);
    assert!(said.contains("none that `hollow-mile report --bundle` made"), "{said}");
}

#[test]
fn claims_are_a_side_for_the_legs_that_ran_under_their_conditions() {
    let bench = Bench::new();
    bench.write(
        "c.course",
        "course \"claims\"\nclaim write 3000 MB/s\nclaim random read 400000 IOPS, blocks 4 KiB, depth 32\nleg lay\n write sequential, blocks 1 MiB, depth 16, over 0 % to 2 %\nrepeat 3\n leg rnd\n  read random, blocks 4 KiB, depth 32, over 0 % to 2 %, for 5 s\n leg other\n  read random, blocks 4 KiB, depth 1, over 0 % to 2 %, for 5 s\nend\n",
    );
    bench.ok(&["run", "c.course", "--on", "sim:merrow-k2"]);
    let found: Value =
        serde_json::from_str(&bench.ok(&["compare", "claims", "1", "--format", "json"])).unwrap();
    let figures: Vec<(&str, &str, f64)> = found["figures"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| {
            (f["leg"].as_str().unwrap(), f["figure"].as_str().unwrap(), f["a"]["mean"].as_f64().unwrap())
        })
        .collect();
    assert_eq!(figures, [("lay", "rate", 3000.0), ("rnd", "operations", 400_000.0)]);
    assert!(bench.fails(&["compare", "claims", "claims"]).contains("`claims` is one side"));
    bench.write("p.course", "course \"p\"\nleg r\n read random, blocks 4 KiB, depth 1, for 5 s\n");
    bench.ok(&["run", "p.course", "--on", "sim:merrow-k2"]);
    assert!(bench.fails(&["compare", "claims", "2"]).contains("nothing is claimed"));
}

/// The first break of a run, as JSON.
fn first_break(bench: &Bench, run: &str) -> Value {
    json(&bench.ok(&["findings", run, "--format", "json"]))["breaks"][0].clone()
}

#[test]
fn an_end_of_the_cache_that_an_earlier_run_of_the_drive_met_too_is_surer_and_another_drive_tells_nothing() {
    let bench = Bench::new();
    let text = "course \"burst\"\nsample every 250 ms\nleg burst\n write sequential, blocks 1 MiB, depth 16, until 200 GB written\n";
    let course = put(&bench, "c.course", text);
    let run = |drive: &str| bench.ok(&["run", &course, "--on", drive, "--seed", "3"]);
    run("sim:merrow-k2");
    // Another model, with a cache of its own.
    run("sim:halyard-q4");
    run("sim:merrow-k2");
    let (alone, again) = (first_break(&bench, "1"), first_break(&bench, "3"));
    let sure = |b: &Value| b["confidence"].as_f64().unwrap();
    assert_eq!((&alone["cause"], &again["cause"]), (&"cache-exhausted".into(), &"cache-exhausted".into()));
    // Nobody can be sure of a fall that nothing shows again.
    assert!(sure(&alone) < 0.9 && sure(&again) > 0.95, "{alone:#} {again:#}");
    let of_earlier = |b: &Value| -> Vec<String> {
        let rows = b["evidence"].as_array().unwrap().iter();
        let rows = rows.filter(|e| e["row"].as_str().is_some_and(|r| r.contains("earlier")));
        rows.map(|e| e["text"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(of_earlier(&alone), Vec::<String>::new());
    assert_eq!(of_earlier(&again), ["run 1 of this drive found its cache exhausted after the same bytes"]);
    // What was known when a run began stays, whatever becomes of the earlier one.
    bench.ok(&["logbook", "remove", "1"]);
    assert_eq!(first_break(&bench, "3"), again);
    run("sim:merrow-k2");
    assert_eq!(
        of_earlier(&first_break(&bench, "4")),
        ["run 3 of this drive found its cache exhausted after the same bytes"]
    );
}
