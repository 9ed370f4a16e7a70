//! The program is killed at random moments of runs on a file, on a loop device and on a simulated drive. Every run stays readable with all but
//! the last second of what it had told; those that are resumed end complete and verified; what is left behind is listed.
//!
//! A few kills here; `HOLLOW_MILE_KILLS=1000` makes as many.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::{Bench, LoopDevice, LoopMount};
use mile_logbook::Logbook;
use mile_runner::message::faults_of;
use mile_runner::remote::{Client, Frame};
use mile_runner::{EventKind, Message, Status};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::path::Path;
use std::process::{Child, Stdio};
use std::time::Duration;

const MIB: u64 = 1 << 20;
/// A written pass of 40 MiB in about 0.8 s, and what verifies it.
const COURSE: &str = "course \"killed\"\nsample every 50 ms\nleg write\n write sequential, blocks 256 KiB, depth 8, over 0 B to 41943040 B, rate 50 MB/s, until one pass\nleg check\n verify, blocks 256 KiB, depth 4, over 0 B to 41943040 B, until one pass\n";
const SIMULATED: &str = "course \"killed\"\nsample every 1 s\nleg soak\n write sequential, blocks 1 MiB, depth 16, over 0 % to 50 %, for 60 s\nleg pause\n rest for 20 s\nleg again\n read random, blocks 4 KiB, depth 8, for 30 s\n";

/// How many kills each of the three targets gets.
fn kills() -> u32 {
    std::env::var("HOLLOW_MILE_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(36_u32).div_ceil(3)
}

#[derive(Default)]
struct Count {
    killed: u32,
    resumed: u32,
    /// The most that was lost, seconds.
    lost: f64,
}

/// The end of the last sample that the run told, seconds, when it was killed after a time that `rng` draws. `None` where it had ended.
fn kill(bench: &Bench, mut child: Child, longest_ms: u64, rng: &mut Xoshiro256PlusPlus) -> Option<f64> {
    let mut draw = |below: u64| Duration::from_millis(rng.next_u64() % below);
    // Some before anybody can listen: while the program starts, and makes what it needs.
    if draw(6).as_millis() == 0 {
        std::thread::sleep(draw(60));
        let ended = child.try_wait().unwrap().is_some();
        child.kill().unwrap();
        child.wait().unwrap();
        return (!ended).then_some(0.0);
    }
    let client = loop {
        if let Some(client) = bench.sockets().iter().find_map(|s| Client::connect(s).ok()) {
            break client;
        }
        if child.try_wait().unwrap().is_some() {
            return None;
        }
        std::thread::sleep(Duration::from_millis(2));
    };
    std::thread::sleep(draw(longest_ms));
    let ended = child.try_wait().unwrap().is_some();
    child.kill().unwrap();
    child.wait().unwrap();
    let told = client.frames.iter().filter_map(|f| match f {
        Frame::Message(_, Message::Sample(s)) => Some(s.end.secs()),
        _ => None,
    });
    let backlog = client.backlog.lanes.first().and_then(|l| l.samples.last()).map_or(0.0, |s| s.end.secs());
    let last = told.fold(backlog, f64::max);
    (!ended).then_some(last)
}

/// Looks at what a kill left, and gives the number of the run and what of it was lost.
fn look(bench: &Bench, last: f64, what: &str) -> Option<(i64, f64)> {
    let path = bench.path("l.logbook");
    if !path.exists() {
        assert!(last == 0.0, "{what}: a run that told samples has a logbook");
        return None;
    }
    let list = bench.ok(&["logbook", "list", "--format", "json"]);
    let list: serde_json::Value = serde_json::from_str(&list).unwrap();
    let Some(entry) = list["runs"].as_array().or(list.as_array()).unwrap().first().cloned() else {
        assert!(last == 0.0, "{what}: a run that told samples is in the list");
        return None;
    };
    let run = entry["run"].as_i64().unwrap();
    let stored = Logbook::read(&path).unwrap().run(run).unwrap();
    if stored.status == Status::Done {
        // It was killed after its end, before its process was gone.
        return None;
    }
    assert_eq!(stored.status, Status::CutShort, "{what}");
    assert!(stored.first().samples.windows(2).all(|w| w[0].end == w[1].start), "{what}: no hole");
    let kept = stored.first().samples.last().map_or(0.0, |s| s.end.secs());
    bench.ok(&["findings", &run.to_string(), "--format", "json"]);
    Some((run, last - kept))
}

/// Everything in the folder is the logbook's, ours, or listed.
fn all_is_listed(bench: &Bench, folder: &Path, what: &str) {
    let listed = bench.ok(&["leftovers"]);
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let known = name.starts_with("l.logbook")
            || name == "lost+found"
            || name.ends_with(".course")
            || listed.contains(&*entry.path().to_string_lossy());
        assert!(known, "{what}: {name} is not listed:\n{listed}");
    }
}

fn resume(bench: &Bench, run: i64, args: &[&str], bytes: u64, what: &str) {
    let number = run.to_string();
    let out = bench.run(&[&["resume", &number][..], args].concat());
    let said = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(out.status.success(), "{what}: {said}");
    let stored = Logbook::read(&bench.path("l.logbook")).unwrap().run(run).unwrap();
    assert_eq!(stored.status, Status::Done, "{what}");
    assert_eq!(faults_of(&stored.first().events), [], "{what}: nobody is accused");
    assert!(stored.first().samples.windows(2).all(|w| w[0].end == w[1].start), "{what}: no hole in time");
    for (leg, name) in stored.head.first().leg_names().iter().enumerate() {
        let moved: u64 =
            stored.first().samples.iter().filter(|s| s.leg as usize == leg).map(|s| s.moved().0).sum();
        assert!(moved >= bytes, "{what}: {name} moved {moved}");
    }
    let ends =
        stored.first().events.iter().filter(|e| matches!(e.kind, EventKind::LegEnded { over: true, .. }));
    assert!(ends.count() >= stored.head.first().legs.len(), "{what}: each leg came to its end");
}

/// Kills runs that `args` start, and resumes a quarter of them.
fn go(bench: &Bench, folder: &Path, args: &[&str], again: &[&str], longest_ms: u64, bytes: u64) -> Count {
    let mut count = Count::default();
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(u64::from(std::process::id()));
    let mut tries = 0;
    while count.killed < kills() {
        tries += 1;
        assert!(tries < 20 * kills(), "of {tries} runs {} were killed before they ended", count.killed);
        let what = format!("{} {}", args[1], count.killed);
        let child = bench.command(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let killed = kill(bench, child, longest_ms, &mut rng);
        for socket in bench.sockets() {
            // A runner that was killed leaves its socket, which the next look takes away.
            let _ = Client::connect(&socket).is_err() && std::fs::remove_file(&socket).is_ok();
        }
        if let Some(last) = killed {
            count.killed += 1;
            if let Some((run, lost)) = look(bench, last, &what) {
                count.lost = count.lost.max(lost);
                all_is_listed(bench, folder, &what);
                if count.resumed * 4 <= count.killed {
                    resume(bench, run, again, bytes, &what);
                    count.resumed += 1;
                }
            }
        }
        if bench.path("l.logbook").exists() {
            bench.ok(&["leftovers", "--remove", "all"]);
            let left = bench.ok(&["leftovers"]);
            assert!(left.contains("left nothing"), "{what}: {left}");
        }
        let mut rest = std::fs::read_dir(folder).unwrap().flatten().map(|e| e.file_name());
        assert!(!rest.any(|n| n.to_string_lossy().contains("scratch")), "{what}: the scratch file is gone");
        // A logbook of a thousand runs is another test's matter.
        for end in ["", "-wal", "-shm"] {
            let path = bench.path(&format!("l.logbook{end}"));
            let _ = std::fs::remove_file(path);
        }
    }
    count
}

fn fine(target: &str, count: &Count, sample_s: f64) {
    println!("{target}: {} kills, {} resumed, at most {:.2} s lost", count.killed, count.resumed, count.lost);
    assert!(count.lost <= 1.0 + sample_s, "{target}: {:.2} s of a run were lost", count.lost);
    assert!(count.resumed > 0, "{target}: some were resumed");
}

#[test]
fn killed_runs_on_a_file_are_readable_and_go_on() {
    let Some(mount) = LoopMount::new() else { return };
    let bench = Bench::on_disk();
    bench.write("k.course", COURSE);
    let scratch = mount.folder().join("scratch.bin");
    let scratch = scratch.to_str().unwrap();
    let args = ["run", "k.course", "--on", scratch, "--size", "64MB"];
    let count = go(&bench, &mount.folder(), &args, &[], 1300, 40 * MIB);
    fine("one file", &count, 0.05);
}

#[test]
fn killed_runs_on_a_device_are_readable_and_go_on() {
    let Some(device) = LoopDevice::new(64) else { return };
    let bench = Bench::on_disk();
    bench.write("k.course", COURSE);
    let (node, name) = (device.node(), device.name());
    let args = ["run", "k.course", "--on", &node, "--arm", &name];
    let count = go(&bench, &bench.path(""), &args, &["--arm", &name], 1300, 40 * MIB);
    fine("a loop device", &count, 0.05);
}

#[test]
fn killed_runs_on_a_simulated_drive_are_readable_and_go_on() {
    let bench = Bench::on_disk();
    bench.write("k.course", SIMULATED);
    let args = ["run", "k.course", "--on", "sim:merrow-k2", "--speed", "x60"];
    let count = go(&bench, &bench.path(""), &args, &[], 2200, 0);
    // Time runs sixty times as fast, and so does what a second holds.
    fine("a simulated drive", &count, 60.0);
}
