//! kill -9 at many moments: a recorded run is there with all but its last second.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a test that cannot go on has failed"
)]

use mile_core::{Bytes, Nanos, Sample};
use mile_drive::clock::Monotonic;
use mile_logbook::{Entered, Errand, Logbook, Recorder};
use mile_runner::{LaneHead, Message, RunHead, Status};
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

const BOOK: &str = "HOLLOW_MILE_TEST_BOOK";

/// Not a test by itself: run by the test below in a process of its own, it records a sample every 5 ms, and says of each
/// when it was handed over.
#[test]
fn records_until_killed() {
    let Ok(path) = std::env::var(BOOK) else { return };
    let (told, _log) = crossbeam_channel::unbounded();
    let mut book = Logbook::open(Path::new(&path)).unwrap();
    let head = RunHead::of_lane(LaneHead::named(&["soak"]));
    let entered = Entered::new(book.begin(&head).unwrap(), 1);
    let recorder = Recorder::start(book, Errand { entered, told, waits: false, aside: Vec::new() }).unwrap();
    recorder.tell(0, Message::Began(Box::new(head)));
    let clock = Monotonic::start();
    for i in 0_u64.. {
        let (start, end) = (Nanos(i * 5_000_000), Nanos((i + 1) * 5_000_000));
        clock.sleep_until(end);
        recorder.tell(0, Message::Sample(Sample { start, end, written: Bytes(i), ..Sample::default() }));
        let mut out = std::io::stdout().lock();
        writeln!(out, "told {i} {}", clock.now().0).unwrap();
        out.flush().unwrap();
    }
}

fn kill_after(alive: Duration) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.logbook");
    let mut child = Command::new(std::env::current_exe().unwrap())
        .args(["records_until_killed", "--exact", "--nocapture"])
        .env(BOOK, &path)
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    // From the first sample on, so that the time the process takes to start does not count.
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map(Result::unwrap);
    lines.find(|l| l.contains("told 0 ")).unwrap();
    std::thread::sleep(alive);
    child.kill().unwrap();
    let told: Vec<(u64, u64)> = lines
        .filter_map(|l| {
            let mut words = l.strip_prefix("told ")?.split(' ').map(str::parse::<u64>);
            Some((words.next()?.ok()?, words.next()?.ok()?))
        })
        .collect();
    child.wait().unwrap();
    let last = told.last().unwrap().1;
    let due = told.iter().rev().find(|t| t.1 + 1_000_000_000 <= last).map_or(0, |t| t.0 + 1);

    let book = Logbook::open(&path).unwrap();
    let run = book.run(book.resolve("last").unwrap()).unwrap();
    assert_eq!(run.status, Status::CutShort);
    let kept = run.first().samples.len() as u64;
    assert!(
        kept >= due,
        "after {alive:?}: {kept} samples are kept, {due} were told more than a second before the end"
    );
    assert!(
        run.first().samples.iter().enumerate().all(|(i, s)| s.written == Bytes(i as u64)),
        "whole and in order"
    );
}

#[test]
fn a_killed_process_loses_at_most_its_last_second() {
    std::thread::scope(|scope| {
        for worker in 0..4 {
            scope.spawn(move || {
                for round in 0..8 {
                    kill_after(Duration::from_millis(1100 + 97 * worker + 111 * round));
                }
            });
        }
    });
}
