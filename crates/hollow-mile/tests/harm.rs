//! What an attacker, or a bad day, did to the program: each finding as a test with its name, through the program as a user calls it.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::{Bench, LoopDevice, LoopMount, course};
use serde_json::Value;
use std::os::unix::fs::{FileExt, symlink};
use std::process::{Child, Command};
use std::time::Duration;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

/// Waits until a command's output holds something.
fn until(what: &str, mut said: impl FnMut() -> String) -> String {
    for _ in 0..3000 {
        let text = said();
        if text.contains(what) {
            return text;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    panic!("`{what}` never came: {}", said());
}

/// A run in the background whose output goes to a file.
fn spawn(bench: &Bench, args: &[&str], out: &str) -> Child {
    let file = std::fs::File::create(bench.path(out)).unwrap();
    let both = file.try_clone().unwrap();
    bench.command(args).stdout(file).stderr(both).spawn().unwrap()
}

fn signal(child: &Child, name: &str) {
    assert!(Command::new("kill").args([name, &child.id().to_string()]).status().unwrap().success());
}

/// 512 KiB of somebody's data on a drive of 1 GiB, and a course that writes there: looked at in 256 places of the whole drive, they were missed seven times in
/// eight. A course that writes elsewhere says nothing of them where it does not see them.
#[test]
fn data_exactly_where_a_course_writes_is_seen_on_a_drive_that_is_blank_otherwise() {
    let Some(device) = LoopDevice::new(1024) else { return };
    let bench = Bench::new();
    let node = std::fs::File::options().write(true).open(device.node()).unwrap();
    let text = "months of recordings of hydrophone 17; ".repeat(13_500);
    node.write_all_at(text.as_bytes(), 512 << 20).unwrap();
    node.sync_all().unwrap();
    drop(node);
    let leg = |range: &str| format!("course \"c\"\nleg w\n write sequential, blocks 64 KiB, over {range}\n");
    bench.write("there.course", &leg("50 % to 50.1 %"));
    let before = std::fs::read(device.image()).unwrap();
    for _ in 0..10 {
        let said = bench.fails(&["run", "there.course", "--on", &device.node(), "--arm", &device.name()]);
        assert!(said.contains("data that is not recognised") && said.contains("hydrophone 17"), "{said}");
    }
    assert!(std::fs::read(device.image()).unwrap() == before, "something was written");
    let named = ["run", "there.course", "--on", &device.node(), "--arm", &device.name(), "--destroy", "data"];
    bench.ok(&named);
    assert!(std::fs::read(device.image()).unwrap() != before, "what was named is written over");
}

/// Finding 1: a command that only lists wrote an SQLite file over a mounted file system.
#[test]
fn a_device_named_as_the_logbook_is_not_written_to_by_any_command() {
    let Some(mount) = LoopMount::sized(16) else { return };
    let bench = Bench::new();
    std::fs::write(mount.folder().join("user.txt"), "months of recordings").unwrap();
    let before = mount.sectors_written();
    let node = mount.node();
    let first = course("first-look");
    let commands: [&[&str]; 9] = [
        &["logbook", "list"],
        &["findings", "last"],
        &["resume", "last"],
        &["export", "last", "--as", "csv", "-o", "x.csv"],
        &["logbook", "import", "t.csv"],
        &["logbook", "set-aside"],
        &["logbook", "set-aside", "--healthy"],
        &["leftovers"],
        &["run", &first, "--on", "sim:merrow-k2"],
    ];
    bench.write("t.csv", "elapsed_s,write_mb_s\n1,100\n2,100\n");
    for args in commands {
        let said = bench.fails(&[args, &["--logbook", &node]].concat());
        assert!(said.contains("block device"), "{args:?}: {said}");
    }
    // And through a link, which is followed for reading alone, to what is no logbook.
    symlink(&node, bench.path("link.logbook")).unwrap();
    assert!(
        bench.fails(&["run", &first, "--on", "sim:merrow-k2", "--logbook", "link.logbook"]).contains("link")
    );
    assert!(bench.fails(&["logbook", "list", "--logbook", "link.logbook"]).contains("block device"));
    assert_eq!(mount.sectors_written(), before, "sectors that the kernel has written to the device");
    assert_eq!(std::fs::read_to_string(mount.folder().join("user.txt")).unwrap(), "months of recordings");
}

/// Finding 1: `--truth` wrote over whatever it was given.
#[test]
fn the_truth_is_written_over_nothing() {
    let bench = Bench::new();
    bench.write("thesis.txt", "do not touch");
    let run = ["run", &course("first-look"), "--on", "sim:merrow-k2", "--truth"];
    assert!(bench.fails(&[&run[..], &["thesis.txt"]].concat()).contains("exists and is left as it is"));
    assert_eq!(bench.read("thesis.txt"), "do not touch");
    let Some(device) = LoopDevice::new(16) else { return };
    bench.fails(&[&run[..], &[&device.node()]].concat());
    assert!(device.is_untouched());
    // As long as it is refused before the run, nothing is entered in the logbook.
    assert!(!bench.path("l.logbook").exists());
}

/// Finding 1: commands that only read created the logbook that they were to read, and could not read one that cannot be written.
#[test]
fn reading_creates_nothing_and_works_where_nothing_can_be_written() {
    let bench = Bench::new();
    for args in [&["logbook", "list"][..], &["findings", "last"], &["leftovers"]] {
        bench.fails(args);
    }
    assert_eq!(std::fs::read_dir(bench.path("")).unwrap().count(), 0);
    let Some(mount) = LoopMount::sized(32) else { return };
    let book = mount.folder().join("l.logbook").display().to_string();
    bench.ok(&["run", &course("first-look"), "--on", "sim:merrow-k2", "--logbook", &book]);
    let all = |when: &str| {
        let list = bench.ok(&["logbook", "list", "--logbook", &book]);
        assert!(list.contains("first look") && list.contains("done"), "{when}: {list}");
        assert!(bench.ok(&["findings", "1", "--logbook", &book]).contains("Plateau"), "{when}");
        bench.ok(&["export", "1", "--as", "csv", "-o", &format!("{when}.csv"), "--logbook", &book]);
        let beside: Vec<_> =
            std::fs::read_dir(mount.folder()).unwrap().flatten().map(|e| e.file_name()).collect();
        assert!(beside.iter().all(|n| !n.to_string_lossy().contains("-shm")), "{when}: {beside:?}");
    };
    all("usual");
    // To the last byte.
    let filler = std::fs::File::create(mount.folder().join("filler")).unwrap();
    let mut at = 0;
    for size in [1 << 20, 4096, 1] {
        while filler.write_all_at(&vec![1; size], at).is_ok() {
            at += size as u64;
        }
    }
    all("full");
    drop(filler);
    mount.read_only();
    all("read-only");
}

const WRITE_AND_VERIFY: &str = "course \"keeps\"\nsample every 50 ms\nleg lay\n write sequential, blocks 1 MiB, depth 4, over 0 % to 100 %, until one pass\nleg look\n ask \"swap it now\", at most 5 min\nleg check\n verify, blocks 1 MiB, depth 4, over 0 % to 100 %, until one pass\n";

/// Finding 2: a stop took the file away, and resume read what was never written, from a file made anew, and called it corrupt.
#[test]
fn a_run_whose_data_is_gone_does_not_go_on() {
    let bench = Bench::on_disk();
    let Some(mount) = LoopMount::sized(256) else { return };
    let target = mount.folder().join("t.bin").display().to_string();
    bench.write("c.course", WRITE_AND_VERIFY);
    let child = spawn(&bench, &["run", "c.course", "--on", &target, "--size", "64MB", "--detach"], "begun");
    child.wait_with_output().unwrap();
    until("Waiting for the operator", || {
        let out = bench.command(&["findings", "last"]).output().unwrap();
        let _ = out;
        std::fs::read_to_string(bench.path("begun")).unwrap() + &events(&bench)
    });
    bench.ok(&["attach", "--stop"]);
    // What it needs to go on is kept, is listed, and is what it goes on with.
    let left = bench.ok(&["leftovers"]);
    assert!(left.contains("t.bin") && left.contains("hollow-mile resume 1"), "{left}");
    // Off the list it is listed here still, and is not erased before that is gone: nothing would find it any more.
    bench.ok(&["logbook", "remove", "1"]);
    assert_eq!(bench.ok(&["leftovers"]), left);
    let said = bench.fails(&["logbook", "erase", "1"]);
    assert!(said.contains("run 1 has left") && said.contains("t.bin"), "{said}");
    bench.ok(&["logbook", "restore", "1"]);
    let copy = std::fs::read(&target).unwrap();
    std::fs::remove_file(&target).unwrap();
    let said = bench.fails(&["resume", "last"]);
    assert!(said.contains("is not there any more"), "{said}");
    // Another file under its name is nobody's to write to.
    std::fs::write(&target, vec![7; 64_000_000 / 4096 * 4096]).unwrap();
    assert!(bench.fails(&["resume", "last"]).contains("was not made by Hollow Mile"));
    std::fs::write(&target, &copy).unwrap();
    // A part of it was lost.
    let lost = std::fs::File::options().write(true).open(&target).unwrap();
    lost.write_all_at(&vec![0; 8 << 20], 40 << 20).unwrap();
    drop(lost);
    assert!(bench.fails(&["resume", "last"]).contains("is not there any more"));
    std::fs::write(&target, &copy).unwrap();
    let resumed = spawn(&bench, &["resume", "last"], "resumed");
    answer_until_done(&bench, resumed, "resumed");
    let said = bench.read("resumed");
    assert!(said.contains("The run is done") && !said.contains("corrupt"), "{said}");
    assert!(!std::path::Path::new(&target).exists());
}

fn events(bench: &Bench) -> String {
    let path = bench.path("events.jsonl");
    let _ = std::fs::remove_file(&path);
    bench.run(&["export", "last", "--as", "jsonl", "-o", "events.jsonl"]);
    std::fs::read_to_string(path).unwrap_or_default().replace("\"asked\"", "Waiting for the operator")
}

/// Answers whatever is asked until a run has ended.
fn answer_until_done(bench: &Bench, mut child: Child, out: &str) {
    for _ in 0..3000 {
        if child.try_wait().unwrap().is_some() {
            return;
        }
        if bench.read(out).contains("Waiting for the operator") {
            bench.run(&["attach", "--answer"]);
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    panic!("it never ended: {}", bench.read(out));
}

/// Finding 3: a whole device that was put back to the image of another run with the same seed verified clean.
/// Finding 8: what a verifying read finds is a result, in text, JSON, figure and exit code.
#[test]
fn data_of_another_run_with_the_same_seed_is_not_taken_for_its_own() {
    let Some(device) = LoopDevice::new(48) else { return };
    let bench = Bench::new();
    bench.write(
        "c.course",
        &WRITE_AND_VERIFY.replace("sample every", "stop if errors above 100000\nsample every"),
    );
    let name = device.name();
    let run = |out: &str| {
        spawn(&bench, &["run", "c.course", "--on", &device.node(), "--arm", &name, "--seed", "1"], out)
    };
    let first = run("first");
    answer_until_done(&bench, first, "first");
    assert!(bench.read("first").contains("The run is done"), "{}", bench.read("first"));
    let image = std::fs::read(device.image()).unwrap();
    let mut second = run("second");
    until("Waiting for the operator", || bench.read("second"));
    // Over what is there: for as long as the image is shorter, whatever reads the device gets an error. And on its medium, so that the device reads
    // what was put back and not what is still underway to it.
    let put_back = std::fs::OpenOptions::new().write(true).open(device.image()).unwrap();
    put_back.write_all_at(&image, 0).unwrap();
    put_back.sync_all().unwrap();
    Command::new("blockdev").args(["--flushbufs", &device.node()]).status().unwrap();
    let status = loop {
        if let Some(status) = second.try_wait().unwrap() {
            break status;
        }
        bench.run(&["attach", "--answer"]);
        std::thread::sleep(Duration::from_millis(100));
    };
    let said = bench.read("second");
    assert_eq!(status.code(), Some(1), "{said}");
    assert!(
        said.contains("The run is done, but not all of it is well") && said.contains("older data"),
        "{said}"
    );
    let found = json(&bench.ok(&["findings", "last", "--format", "json"]));
    let fault = &found["faults"][0];
    assert_eq!((&fault["kind"], &fault["first_byte"]), (&"stale".into(), &0.into()), "{said}");
    let size = image.len() as u64;
    assert_eq!((&fault["bytes"], &fault["stretches"][0][1]), (&size.into(), &size.into()), "{fault}");
    assert!(bench.ok(&["findings", "last"]).contains("older data"));
    bench.ok(&["export", "last", "--as", "svg", "-o", "f.svg"]);
    assert!(bench.read("f.svg").contains("older data"));
}

/// Bug: where standard input had ended, as in a job at night, a question was taken for answered at once: "the operator answered", and the legs for which
/// somebody was to do something came before anybody had.
#[test]
fn a_question_is_not_answered_by_a_standard_input_that_has_ended() {
    let bench = Bench::new();
    bench.write("c.course", &WRITE_AND_VERIFY.replace("100 %", "1 %").replace(", at most 5 min", ""));
    let child = spawn(&bench, &["run", "c.course", "--on", "sim:merrow-k2"], "out");
    until("nobody can answer here", || bench.read("out"));
    let waits = bench.read("out");
    assert!(waits.contains("Waiting for the operator") && !waits.contains("Leg look ends"), "{waits}");
    // Bug: the command could end before its answer was on its way, and said "It goes on." all the same.
    assert_eq!(bench.ok(&["attach", "--answer"]), "It goes on.\n");
    child.wait_with_output().unwrap();
    let said = bench.read("out");
    assert!(
        said.contains("Leg look ends: the operator answered") && said.contains("The run is done"),
        "{said}"
    );
}

/// Finding 4: what lay under the name of the scratch file was trusted at its start and at its end.
#[test]
fn a_file_that_is_swapped_in_during_a_run_is_not_deleted_at_its_end() {
    let Some(mount) = LoopMount::sized(256) else { return };
    let bench = Bench::new();
    let target = mount.folder().join("t.bin").display().to_string();
    bench.write("c.course", WRITE_AND_VERIFY);
    let child = spawn(&bench, &["run", "c.course", "--on", &target, "--size", "32MB"], "out");
    until("Waiting for the operator", || bench.read("out"));
    // A second run on the same path is refused while the first holds it.
    assert!(bench.fails(&["run", "c.course", "--on", &target, "--size", "32MB"]).contains("another run"));
    std::fs::rename(&target, mount.folder().join("moved.bin")).unwrap();
    std::fs::write(&target, "user data").unwrap();
    answer_until_done(&bench, child, "out");
    assert_eq!(std::fs::read_to_string(&target).unwrap(), "user data", "{}", bench.read("out"));
}

/// Finding 10: one row that cannot be read hid all the others, and output to a full disk was no failure.
#[test]
fn one_bad_row_hides_no_good_ones_and_lost_output_is_a_failure() {
    let bench = Bench::new();
    let second =
        std::fs::read_to_string(course("first-look")).unwrap().replace("\"first look\"", "\"second\"");
    bench.write("second.course", &second);
    for name in [&course("first-look"), "second.course", &course("first-look")] {
        bench.ok(&["run", name, "--on", "sim:merrow-k2"]);
    }
    // The head of a run is text in the file, and in what is left of earlier pages; its first brace is what makes it JSON.
    let book = bench.path("l.logbook");
    let mut bytes = std::fs::read(&book).unwrap();
    let mark = b"{\"started\":";
    let at: Vec<usize> = (0..bytes.len() - mark.len()).filter(|i| bytes[*i..].starts_with(mark)).collect();
    let of_second = |at: usize| bytes[at..at + 80].windows(8).any(|w| w == b"\"second\"");
    let at: Vec<usize> = at.into_iter().filter(|i| of_second(*i)).collect();
    assert!(!at.is_empty());
    at.into_iter().for_each(|i| bytes[i] = b'<');
    std::fs::write(&book, bytes).unwrap();
    let list = bench.ok(&["logbook", "list"]);
    assert_eq!(list.lines().count(), 3, "{list}");
    assert_eq!(list.matches("done").count(), 2, "{list}");
    assert!(list.contains("cannot be read"), "{list}");
    let full = || std::fs::File::options().write(true).open("/dev/full").unwrap();
    for args in [&["logbook", "list", "--format", "json"][..], &["bench", "--format", "json"]] {
        let out = bench.command(args).stdout(full()).output().unwrap();
        let said = String::from_utf8_lossy(&out.stderr);
        assert!(out.status.code() == Some(1) && said.contains("No space left"), "{args:?}: {said}");
    }
}

/// Finding 11: a terminal was steered by what files and drives are called.
#[test]
fn codes_in_names_do_not_reach_the_terminal() {
    let bench = Bench::new();
    bench.write(
        "t.csv",
        "elapsed_s,leg,write_mb_s\n1,\"evil\u{1b}]0;owned\u{7}\u{1b}[2J\",100\n2,soak,100\n3,x,5\n",
    );
    bench.ok(&["logbook", "import", "t.csv"]);
    for args in [
        &["findings", "last"][..],
        &["findings", "t.csv"],
        &["logbook", "list"],
        &["findings", "no\u{1b}[31m"],
    ] {
        let out = bench.run(args);
        for (name, bytes) in [("stdout", &out.stdout), ("stderr", &out.stderr)] {
            assert!(!bytes.contains(&0x1b) && !bytes.contains(&7), "{args:?} {name}");
        }
    }
    assert!(bench.ok(&["findings", "last"]).contains("evil\\u{1b}"));
}

/// Finding 9: a signal did nothing for as long as the drive did not answer. The device here is a FUSE file that never answers once it is
/// told to; where that cannot be had, the runner's own test with a drive that is silent stands.
#[test]
fn a_second_signal_ends_a_run_whose_drive_does_not_answer() {
    let Some(device) = common::StallingDevice::new(64) else { return };
    let bench = Bench::new();
    bench.write("c.course", "course \"stalls\"\nsample every 100 ms\nleg soak\n write sequential, blocks 1 MiB, depth 8, over 0 % to 100 %, for 10 min\n");
    let mut child =
        spawn(&bench, &["run", "c.course", "--on", &device.node(), "--arm", &device.name()], "out");
    until("underway", || String::from_utf8_lossy(&bench.run(&["logbook", "list"]).stdout).into_owned());
    std::thread::sleep(Duration::from_millis(500));
    device.stall();
    std::thread::sleep(Duration::from_millis(700));
    signal(&child, "-INT");
    let said = until("A second Ctrl-C", || bench.read("out"));
    assert!(said.contains("Stopping: waiting for"), "{said}");
    signal(&child, "-INT");
    let clock = mile_drive::clock::Monotonic::start();
    let status = child.wait().unwrap();
    let took = Duration::from_nanos(clock.now().0);
    device.go_on();
    assert_eq!(status.code(), Some(1), "{}", bench.read("out"));
    // Generous for a machine that is busy; it was a minute before.
    assert!(took < Duration::from_secs(20), "{took:?}");
    let list = json(&bench.ok(&["logbook", "list", "--format", "json"]));
    assert_eq!(list[0]["status"], "stopped", "the log is closed: {list}");
}

/// Small: what a logbook that is sound, an unknown name, and too much memory are answered with.
#[test]
fn small_things_are_said_for_what_they_are() {
    let bench = Bench::new();
    bench.ok(&["run", &course("first-look"), "--on", "sim:merrow-k2"]);
    assert!(bench.fails(&["logbook", "set-aside"]).contains("sound, with 1 runs"));
    assert!(bench.path("l.logbook").exists());
    bench.ok(&["logbook", "set-aside", "--healthy"]);
    assert!(bench.ok(&["logbook", "list"]).contains("no run yet"));
    bench.write(
        "big.course",
        "course \"big\"\nleg w\n write sequential, blocks 16 MiB, depth 128, until 1 GB written\n",
    );
    let said = bench.fails(&["course", "forecast", "big.course", "--on", "sim:merrow-k2"]);
    assert!(said.contains("in flight take") && said.contains("of memory"), "{said}");
    bench.write("odd.course", "course \"odd\"\nleg w\n write sequential, blocks 1 MiB, depth 4, over 0 % to 100 %, until one pass\n");
    let told = bench.ok(&["course", "forecast", "odd.course", "--on", "f.bin", "--size", "64MB"]);
    assert!(told.contains("does not touch the last 36,864 bytes"), "{told}");
    assert!(bench.fails(&["attach", "--logbook", "l.logbook"]).contains("no run is underway"));
    let Some(device) = LoopDevice::new(16) else { return };
    let said = bench.fails(&[
        "run",
        "odd.course",
        "--on",
        &device.node(),
        "--arm",
        &device.name(),
        "--destroy",
        "ext5",
    ]);
    assert!(said.contains("`--destroy ext5` names nothing"), "{said}");
    assert!(device.is_untouched());
}
