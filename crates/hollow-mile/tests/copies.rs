//! Copies from one drive to another, for real: the data arrives, also where the program is killed on the way, and who held the copy back is told.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::{Bench, LoopDevice};
use mile_logbook::Logbook;
use mile_runner::Status;
use serde_json::Value;
use std::io::{Seek, Write};

const MIB: usize = 1 << 20;

/// Data that no two blocks share, without a stamp of ours.
fn data(bytes: usize) -> Vec<u8> {
    let mut state = 0x9e37_79b9_7f4a_7c15_u64;
    let word = |_| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()
    };
    (0..bytes / 8).flat_map(word).collect()
}

fn fill(device: &LoopDevice, data: &[u8]) {
    let mut file = std::fs::OpenOptions::new().write(true).open(device.image()).unwrap();
    file.rewind().unwrap();
    file.write_all(data).unwrap();
    file.sync_all().unwrap();
}

fn course(copy: &str) -> String {
    format!(
        "course \"c\"\nsample every 50 ms\nlane source\nlane target\nleg copy\n copy from source to target, {copy}\n"
    )
}

fn copies(bench: &Bench, run: &str) -> Value {
    let all: Value = serde_json::from_str(&bench.ok(&["findings", run, "--format", "json"])).unwrap();
    all["copies"][0].clone()
}

#[test]
fn a_copy_between_two_devices_arrives_whole_also_where_it_was_killed_on_the_way() {
    let (Some(source), Some(target)) = (LoopDevice::new(64), LoopDevice::new(96)) else { return };
    let data = data(64 * MIB);
    fill(&source, &data);
    let bench = Bench::on_disk();
    let text = course(
        "blocks 256 KiB, depth 8, target blocks 96 KiB, target depth 5, target over 18 MiB to 96 MiB, rate 30 MB/s, buffer 4 MiB",
    );
    // What does not fit the binary units of a range is said.
    bench.write("c.course", &text.replace("18 MiB to 96 MiB", "18874368 B to 100663296 B"));
    let on = [format!("source={}", source.node()), format!("target={}", target.node())];
    let drives = ["--on", &on[0], "--on", &on[1]];
    // The source is only read, and is not armed; nothing is written before the target is.
    let refused = bench.fails(&[&["run", "c.course"][..], &drives].concat());
    assert!(refused.contains("lane target") && target.is_untouched(), "{refused}");
    let arm = format!("target={}", target.name());
    let mut whole = 0;
    for (round, samples) in [4, 17, 33].into_iter().enumerate() {
        let args = [&["run", "c.course"][..], &drives, &["--arm", &arm]].concat();
        // Of an earlier round there is data that is not recognised as harmless.
        let more = if round == 0 { vec![] } else { vec!["--destroy", "target=data"] };
        let args = [args, more.clone()].concat();
        bench.kill_on_the_way(&args, 1, samples);
        let run = (round + 1).to_string();
        let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(round as i64 + 1).unwrap();
        assert_eq!(stored.status, Status::CutShort, "round {round}");
        // What was copied is not known again, and has to be named like any other data.
        let again = ["resume", &run, "--arm", &arm];
        let refused = bench.fails(&again[..if round == 0 { 4 } else { 2 }]);
        assert!(refused.contains("lane target"), "{refused}");
        bench.ok(&[&again[..], &["--destroy", "target=data"]].concat());
        let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(round as i64 + 1).unwrap();
        assert_eq!(stored.status, Status::Done);
        // Blocks of both sides are whole ones of 768 KiB.
        let copied = 64 * MIB / (768 << 10) * (768 << 10);
        let image = std::fs::read(target.image()).unwrap();
        assert!(image[18 * MIB..][..copied] == data[..copied], "round {round}");
        assert!(image[..18 * MIB].iter().all(|b| *b == 0), "round {round}: outside of the range");
        assert!(image[18 * MIB + copied..].iter().all(|b| *b == 0), "round {round}: behind what was copied");
        whole += 1;
        fill(&target, &vec![0; 96 * MIB]);
    }
    assert_eq!(whole, 3);
    assert!(std::fs::read(source.image()).unwrap() == data, "the source is as it was");
}

#[test]
fn which_side_holds_a_copy_back_is_told_between_files_that_stay() {
    let bench = Bench::on_disk();
    let write = "leg write on source\n write sequential, blocks 1 MiB, depth 4, until one pass\nleg copy";
    for (name, copy, held, front) in [
        // A source that gives no more than it is asked for, and a target that takes one small block at a time.
        ("paced", "blocks 1 MiB, depth 4, rate 12 MB/s", "source", MIB),
        (
            "narrow",
            "blocks 1 MiB, depth 16, target blocks 4 KiB, target depth 1, buffer 8 MiB",
            "target",
            4096,
        ),
    ] {
        bench.write("c.course", &course(copy).replace("leg copy", write));
        let (source, target) = (format!("{name}-s.bin"), format!("{name}-t.bin"));
        let on = [format!("source={source}"), format!("target={target}")];
        let out = bench.ok(&["run", "c.course", "--on", &on[0], "--on", &on[1], "--size", "40MiB", "--keep"]);
        let copied = copies(&bench, "last");
        let phases = copied["phases"].as_array().unwrap();
        assert!(phases.iter().all(|p| p["held_by"] == held), "{name}: {copied:#}");
        assert_eq!(copied[format!("held_by_{held}")], 1.0);
        assert!(out.contains(&format!("held back by the {held}")), "{out}");
        let (bytes, [s, t]) = (
            copied["bytes"].as_u64().unwrap() as usize,
            [&source, &target].map(|f| std::fs::read(bench.path(f)).unwrap()),
        );
        // The front of a file says which run it is of, and stays.
        assert!(t[front..][..bytes] == s[..bytes], "{name}: {bytes}");
        assert!(bytes >= 38 * MIB, "{name}: {bytes}");
        assert!(
            s[..bytes].chunks(4096).any(|page| page.iter().any(|b| *b != 0)),
            "there is something to copy"
        );
        // The times for which each side waited are in the CSV.
        bench.ok(&["export", "last", "--as", "csv", "--overwrite", "-o", "out.csv"]);
        let csv = bench.read("out.csv");
        assert!(csv.lines().next().unwrap().contains("waited_pct,buffered_mb"), "{csv}");
    }
    // What was copied has no stamps of this run, so that it is not verified by them.
    bench.write(
        "v.course",
        &(course("blocks 1 MiB, depth 4").replace("leg copy", write)
            + "leg v on target\n verify, blocks 1 MiB\n"),
    );
    let said =
        bench.fails(&["run", "v.course", "--on", "source=a.bin", "--on", "target=b.bin", "--size", "20MB"]);
    assert!(said.contains("only what the run writes itself bears the stamps"), "{said}");
}
