//! The disk of the logbook is full for six seconds, or somebody holds its lock for nine, in the middle of a run on a file. Finding 7: the rest
//! of the run was not kept.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::{Bench, LoopMount};
use mile_logbook::Logbook;
use mile_logbook::store::StoredRun;
use mile_runner::{EventKind, Status};
use std::io::Write;
use std::path::Path;
use std::process::{Child, Stdio};
use std::time::Duration;

/// A run of 14 s at a pace.
fn start(bench: &Bench, mount: &LoopMount, logbook: &str) -> Child {
    bench.write(
        "p.course",
        "course \"paced\"\nsample every 100 ms\nleg write\n write sequential, blocks 64 KiB, depth 4, over 0 B to 16777216 B, rate 8 MB/s, for 14 s\n",
    );
    let scratch = mount.folder().join("scratch.bin");
    let args = ["run", "p.course", "--on", scratch.to_str().unwrap(), "--size", "32MB", "--logbook", logbook];
    bench.command(&args).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

/// Waits until so many samples are kept.
fn until_kept(logbook: &Path, samples: usize) {
    for _ in 0..3000 {
        if Logbook::read(logbook).and_then(|b| b.run(1)).is_ok_and(|r| r.first().samples.len() >= samples) {
            return;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    panic!("{samples} samples were never kept");
}

/// The run as it is kept, whole: nothing is lost, and nothing was held up.
fn whole(child: Child, logbook: &Path) -> (StoredRun, String) {
    let out = child.wait_with_output().unwrap();
    let said = String::from_utf8([out.stdout, out.stderr].concat()).unwrap();
    assert!(out.status.success(), "{said}");
    let run = Logbook::read(logbook).unwrap().run(1).unwrap();
    assert_eq!(run.status, Status::Done);
    assert!(run.first().samples.windows(2).all(|w| w[0].end == w[1].start), "no hole");
    assert!(
        !run.first().events.iter().any(|e| matches!(e.kind, EventKind::LogGap { .. })),
        "nothing was lost"
    );
    assert!(run.first().samples.first().unwrap().start.secs() < 0.1);
    assert!(run.first().samples.last().unwrap().end.secs() >= 14.0);
    // A run that waits for its log makes fewer, longer samples; a busy machine makes some.
    let longest = run.first().samples.iter().map(|s| s.end.secs() - s.start.secs()).fold(0.0, f64::max);
    println!("{} samples, the longest {longest:.2} s", run.first().samples.len());
    assert!(longest < 3.0, "a sample of {longest} s");
    let (waiting, back) = run.first().events.iter().fold((0, 0), |(w, b), e| match e.kind {
        EventKind::LogWaiting { .. } => (w + 1, b),
        EventKind::LogBack { .. } => (w, b + 1),
        _ => (w, b),
    });
    assert!(waiting >= 1 && back >= 1, "{waiting} times it waited, {back} times it was back");
    (run, said)
}

#[test]
fn a_logbook_whose_disk_is_full_for_six_seconds_loses_nothing() {
    let (Some(drive), Some(disk)) = (LoopMount::new(), LoopMount::sized(24)) else { return };
    let bench = Bench::on_disk();
    let logbook = disk.folder().join("l.logbook");
    let child = start(&bench, &drive, logbook.to_str().unwrap());
    until_kept(&logbook, 5);
    let ballast = disk.folder().join("ballast");
    let mut file = std::fs::File::create(&ballast).unwrap();
    for size in [1 << 20, 4096, 512] {
        while file.write_all(&vec![1; size]).is_ok() {}
    }
    drop(file);
    std::thread::sleep(Duration::from_secs(6));
    std::fs::remove_file(&ballast).unwrap();
    let (_, said) = whole(child, &logbook);
    assert!(said.contains("is full"), "it is said at once: {said}");
}

#[test]
fn a_lock_on_the_logbook_that_is_held_for_nine_seconds_loses_nothing() {
    let Some(drive) = LoopMount::new() else { return };
    let bench = Bench::on_disk();
    let logbook = bench.path("l.logbook");
    let child = start(&bench, &drive, logbook.to_str().unwrap());
    until_kept(&logbook, 5);
    let other = rusqlite::Connection::open(&logbook).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    std::thread::sleep(Duration::from_secs(9));
    other.execute_batch("ROLLBACK").unwrap();
    drop(other);
    let (_, said) = whole(child, &logbook);
    assert!(said.contains("locked"), "it is said at once: {said}");
}
