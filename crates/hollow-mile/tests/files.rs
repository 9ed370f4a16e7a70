//! Whole files as a load: what is on the disk afterwards decides, and a device that is slow on purpose says which side of a copy is the slower one.
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
use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

fn json(bench: &Bench, args: &[&str]) -> Value {
    let out = bench.run(args);
    serde_json::from_slice(&out.stdout)
        .unwrap_or_else(|e| panic!("{e}\n{}", String::from_utf8_lossy(&out.stderr)))
}

fn row<'a>(run: &'a Value, leg: &str) -> &'a Value {
    let rows = run["findings"]["leg_table"].as_array().unwrap();
    rows.iter().find(|r| r["leg"] == leg).unwrap_or_else(|| panic!("{leg}: {run:#}"))
}

/// Name and size of each regular file under a folder that is not the mark.
fn on_disk(folder: &Path) -> BTreeMap<String, u64> {
    let files = std::fs::read_dir(folder).unwrap().map(|e| e.unwrap());
    files
        .filter(|e| !e.file_name().to_string_lossy().starts_with('.'))
        // One may be deleted just now.
        .filter_map(|e| Some((e.file_name().into_string().unwrap(), e.metadata().ok()?.len())))
        .collect()
}

fn steps(row: &Value) -> BTreeMap<String, u64> {
    let steps = row["files"]["steps"].as_array().unwrap();
    steps.iter().map(|s| (s["step"].as_str().unwrap().to_owned(), s["count"].as_u64().unwrap())).collect()
}

fn counts<const N: usize>(all: [(&str, u64); N]) -> BTreeMap<String, u64> {
    all.into_iter().map(|(n, c)| (n.to_owned(), c)).collect()
}

#[test]
fn the_files_that_a_leg_counts_are_the_files_that_are_there() {
    let bench = Bench::on_disk();
    bench.write(
        "f.course",
        "course \"files\"\nleg few\n files write, sizes 1 B to 3 MiB, count 7, sync at the end\nleg gone\n files delete\nleg many\n files write, sizes 75 % of 100 B and 25 % of 70001 B, count 200, workers 3, sync each file\nleg back\n files read, workers 2, blocks 64 KiB\nleg more\n files write, sizes 5000 B, count 11, through the cache\n",
    );
    let run =
        json(&bench, &["run", "f.course", "--on", "t.bin", "--size", "4MB", "--keep", "--format", "json"]);
    assert_eq!(run["status"], "done", "{run:#}");
    let there = on_disk(&bench.path("t.bin.files"));
    // What was deleted is gone; of the others, the file system itself has the sizes.
    assert_eq!(there.len(), 211);
    let of = |size: u64| there.values().filter(|s| **s == size).count();
    assert_eq!((of(100), of(70_001), of(5000)), (150, 50, 11));
    let many = row(&run, "many");
    assert_eq!(many["bytes"], 150 * 100 + 50 * 70_001);
    assert_eq!(
        (many["files"]["files"].as_u64(), many["files"]["bytes"].as_u64()),
        (Some(200), many["bytes"].as_u64())
    );
    assert_eq!(steps(many), counts([("create", 200), ("write", 200), ("sync", 200), ("close", 200)]));
    let back = row(&run, "back");
    assert_eq!(back["bytes"], many["bytes"], "all that is there is read, and nothing else");
    assert_eq!(steps(back), counts([("open", 200), ("read", 200), ("close", 200)]));
    assert_eq!(back["operations"], 150 + 50 * 2, "blocks of 64 KiB");
    assert_eq!(steps(row(&run, "gone")), counts([("delete", 7)]));
    assert_eq!(steps(row(&run, "few")), counts([("create", 7), ("write", 7), ("sync", 1), ("close", 7)]));
    // As a file of rows, in text, and gone when they are taken away.
    bench.ok(&["export", "1", "--as", "csv", "--what", "legs", "-o", "legs.csv"]);
    let legs = bench.read("legs.csv");
    let head: Vec<&str> = legs.lines().next().unwrap().split(',').collect();
    let line = legs.lines().find(|l| l.contains(",many,")).unwrap().split(',').collect::<Vec<_>>();
    let cell = |name: &str| line[head.iter().position(|h| *h == name).unwrap()];
    assert_eq!(cell("files"), "200");
    assert!(
        cell("files_per_s").parse::<f64>().unwrap() > 0.0
            && cell("sync_p99_us").parse::<f64>().unwrap() > 0.0
    );
    assert_eq!(cell("read_p99_us"), "");
    let text = bench.ok(&["findings", "1"]);
    assert!(text.contains("Whole files") && text.contains("create"), "{text}");
    assert!(bench.ok(&["leftovers"]).contains("t.bin.files"));
    bench.ok(&["leftovers", "--remove", "1"]);
    assert!(!bench.path("t.bin.files").exists() && !bench.path("t.bin").exists());
}

#[test]
fn a_folder_that_is_copied_in_is_the_same_on_the_other_side() {
    let bench = Bench::on_disk();
    let from = bench.path("from");
    std::fs::create_dir_all(from.join("deep/er")).unwrap();
    let mut wanted: Vec<Vec<u8>> = Vec::new();
    // Around the unit of direct I/O and the block, and nothing at all.
    for (i, size) in [0, 1, 4095, 4096, 4097, 65_535, 65_536, 65_537, 300_001].into_iter().enumerate() {
        let data: Vec<u8> = (0..size as usize).map(|k| ((k * (i + 3)) >> 2) as u8).collect();
        std::fs::write(from.join(if i % 2 == 0 { format!("f{i}") } else { format!("deep/er/f{i}") }), &data)
            .unwrap();
        wanted.push(data);
    }
    std::os::unix::fs::symlink("/etc/hostname", from.join("link")).unwrap();
    for (n, how) in ["", ", through the cache", ", workers 4, sync each file"].into_iter().enumerate() {
        let text =
            format!("course \"c\"\nleg in\n files copy from \"{}\", blocks 64 KiB{how}\n", from.display());
        bench.write("c.course", &text);
        let target = format!("t{n}.bin");
        let run = json(
            &bench,
            &["run", "c.course", "--on", &target, "--size", "2MB", "--keep", "--format", "json"],
        );
        assert_eq!(run["status"], "done", "{run:#}");
        let folder = bench.path(&format!("{target}.files"));
        let mut got: Vec<Vec<u8>> =
            on_disk(&folder).keys().map(|f| std::fs::read(folder.join(f)).unwrap()).collect();
        got.sort();
        wanted.sort();
        assert!(got == wanted, "{how}: what was copied is what was there, and the link is not followed");
        let all: u64 = wanted.iter().map(|w| w.len() as u64).sum();
        assert_eq!(row(&run, "in")["bytes"], all);
        assert_eq!(row(&run, "source alone / in")["files"]["bytes"], all);
        assert!(row(&run, "in")["files"]["source"]["alone_mb_s"].as_f64().unwrap() > 0.0);
    }
}

/// A file system on a device that is slow; it is taken down when it goes out of scope.
struct Slow {
    mount: PathBuf,
    _folder: tempfile::TempDir,
    _target: BadTarget,
}

impl Slow {
    fn up(options: &[&str]) -> Option<Self> {
        let target = BadTarget::up(options)?;
        let folder = tempfile::tempdir().unwrap();
        let mount = folder.path().join("mount");
        std::fs::create_dir(&mount).unwrap();
        let done = |command: &mut Command| {
            let out = command.output().unwrap();
            assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        };
        done(Command::new("mkfs.ext4").args(["-q", "-E", "lazy_itable_init=0", &target.device]));
        done(Command::new("mount").arg(&target.device).arg(&mount));
        Some(Self { mount, _folder: folder, _target: target })
    }
}

impl Drop for Slow {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.mount).status();
    }
}

#[test]
fn a_slow_source_is_measured_alone_and_named_and_a_slow_target_is_not_called_fast() {
    let Some(slow) = Slow::up(&["--size", "256M", "--read-rate", "20M"]) else { return };
    let data: Vec<u8> = (0..4 << 20).map(|k: u32| (k.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let from = slow.mount.join("from");
    std::fs::create_dir(&from).unwrap();
    (0..8).for_each(|i| std::fs::write(from.join(format!("f{i}")), &data).unwrap());
    assert!(Command::new("sync").status().unwrap().success());
    let bench = Bench::on_disk();
    bench.write("c.course", &format!("course \"c\"\nleg in\n files copy from \"{}\"\n", from.display()));
    let run = json(&bench, &["run", "c.course", "--on", "t.bin", "--size", "2MB", "--format", "json"]);
    let source = &row(&run, "in")["files"]["source"];
    // The device gives 20 MiB/s, whatever else the machine does; it may be slower, never faster.
    let alone = source["alone_mb_s"].as_f64().unwrap();
    assert!((8.0..=23.0).contains(&alone), "{run:#}");
    assert!(source["waited"].as_f64().unwrap() > 0.8, "{source}");
    let text = bench.ok(&["findings", "1"]);
    assert!(text.contains("The source was the slower side"), "{text}");
}

#[test]
fn a_slow_target_is_the_slower_side_of_a_copy() {
    let slow = Slow::up(&["--size", "256M", "--fast-bytes", "0", "--fast-rate", "8M", "--slow-rate", "8M"]);
    let Some(slow) = slow else { return };
    let bench = Bench::on_disk();
    let from = bench.path("from");
    std::fs::create_dir(&from).unwrap();
    (0..6).for_each(|i| std::fs::write(from.join(format!("f{i}")), vec![i; 4 << 20]).unwrap());
    bench.write(
        "c.course",
        &format!("course \"c\"\nleg in\n files copy from \"{}\", sync each file\n", from.display()),
    );
    let target = slow.mount.join("t.bin");
    let run = json(
        &bench,
        &["run", "c.course", "--on", target.to_str().unwrap(), "--size", "2MB", "--format", "json"],
    );
    assert_eq!(run["status"], "done", "{run:#}");
    let text = bench.ok(&["findings", "1"]);
    assert!(text.contains("The drive under test was the slower side"), "{text}");
    let rate = row(&run, "in")["mean_mb_s"].as_f64().unwrap();
    assert!(rate < 9.0, "no faster than the device: {rate}");
}

/// How much of the file system of a folder is in use, as `df` says it, in steps of 5 %.
fn in_use(folder: &Path) -> String {
    let out = Command::new("df").arg("--output=pcent").arg(folder).output().unwrap();
    let text = String::from_utf8(out.stdout).unwrap();
    let percent: f64 = text.lines().last().unwrap().trim().trim_end_matches('%').parse().unwrap();
    format!("{:.0} %", (percent / 5.0).round() * 5.0)
}

#[test]
fn the_time_in_which_files_are_synced_is_no_silence_of_the_drive_and_a_full_file_system_is_told() {
    let slow = Slow::up(&["--size", "256M", "--fast-bytes", "0", "--fast-rate", "8M", "--slow-rate", "8M"]);
    let Some(slow) = slow else { return };
    let bench = Bench::on_disk();
    // The host takes the files at once, and the device 3 s for them.
    bench.write(
        "f.course",
        "course \"f\"\nsample every 100 ms\nleg w\n files write, sizes 6 MB, count 4, through the cache, sync at the end\n",
    );
    let target = slow.mount.join("t.bin");
    let args = ["run", "f.course", "--on", target.to_str().unwrap(), "--size", "2MB", "--format", "json"];
    let before = in_use(&slow.mount);
    let run = json(&bench, &args);
    assert_eq!(run["status"], "done", "{run:#}");
    let seconds = row(&run, "w")["seconds"].as_f64().unwrap();
    assert!(seconds > 2.0, "the device takes 3 s: {seconds}");
    let disturbed = run["findings"]["interference"].as_array().unwrap();
    assert!(disturbed.iter().all(|i| i["kind"] != "stall"), "{disturbed:?}");
    // It takes no time to allocate what is not written.
    let filler = slow.mount.join("filler");
    let filled = Command::new("fallocate").args(["-l", "100M"]).arg(&filler).status().unwrap();
    assert!(filled.success());
    let after = in_use(&slow.mount);
    assert_ne!(before, after);
    json(&bench, &args);
    let text = bench.ok(&["compare", "1", "2"]);
    assert!(text.contains(&format!("fill at the start: A {before}; B {after}")), "{text}");
}

#[test]
fn what_is_there_already_and_what_comes_into_the_folder_is_left_alone() {
    let bench = Bench::on_disk();
    bench.write("f.course", "course \"f\"\nleg w\n files write, sizes 4 KiB, count 50\n");
    std::fs::create_dir(bench.path("t.bin.files")).unwrap();
    std::fs::write(bench.path("t.bin.files/00000000"), "precious").unwrap();
    let said = bench.fails(&["run", "f.course", "--on", "t.bin", "--size", "2MB"]);
    assert!(said.contains("t.bin.files exists and is left as it is"), "{said}");
    assert_eq!(bench.read("t.bin.files/00000000"), "precious");
    assert_eq!(on_disk(&bench.path("t.bin.files")).len(), 1);
    assert!(!bench.path("t.bin").exists(), "the file of the refused run is taken away");
    // A link to a folder of somebody else is not followed.
    std::fs::create_dir(bench.path("other")).unwrap();
    std::os::unix::fs::symlink(bench.path("other"), bench.path("u.bin.files")).unwrap();
    bench.fails(&["run", "f.course", "--on", "u.bin", "--size", "2MB"]);
    assert_eq!(std::fs::read_dir(bench.path("other")).unwrap().count(), 0);
    // What another program puts among the files of a run stays, also under a name of the run's.
    bench.write("ask.course", "course \"f\"\nleg w\n files write, sizes 4 KiB, count 50\nleg wait\n rest for 4 s\nleg d\n files delete\n");
    let mut child = bench.command(&["run", "ask.course", "--on", "v.bin", "--size", "2MB"]).spawn().unwrap();
    let folder = bench.path("v.bin.files");
    while !folder.join("00000049").exists() {
        assert!(child.try_wait().unwrap().is_none(), "it has ended");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    std::fs::write(bench.path("swap"), "mine").unwrap();
    std::fs::rename(bench.path("swap"), folder.join("00000007")).unwrap();
    std::fs::write(folder.join("notes"), "mine too").unwrap();
    child.wait().unwrap();
    let left = on_disk(&folder);
    assert_eq!(left.keys().collect::<Vec<_>>(), ["00000007", "notes"]);
    assert_eq!(std::fs::read_to_string(folder.join("00000007")).unwrap(), "mine");
}

#[test]
fn a_kill_among_files_leaves_what_is_listed_and_taken_away() {
    let bench = Bench::on_disk();
    // Many files, so that it is on the way when it is killed; small ones, because all must fit what the disk has free (3.7 GB).
    bench.write(
        "f.course",
        "course \"f\"\nsample every 20 ms\nleg w\n files write, sizes 4 KiB, count 900000, workers 2\n",
    );
    bench.kill_on_the_way(&["run", "f.course", "--on", "t.bin", "--size", "2MB"], 0, 120);
    let there = on_disk(&bench.path("t.bin.files")).len();
    assert!(there > 0 && there < 900_000);
    let listed = bench.ok(&["leftovers"]);
    assert!(listed.contains("t.bin.files: whole files of the run"), "{listed}");
    bench.ok(&["leftovers", "--remove", "all"]);
    assert!(!bench.path("t.bin.files").exists(), "{}", bench.ok(&["leftovers"]));
}

#[test]
fn the_guard_on_what_is_written_holds_for_files_too() {
    let bench = Bench::on_disk();
    bench.write(
        "f.course",
        "course \"f\"\nstop if written above 10 MB\nleg w\n files write, sizes 1 MiB, count 100, workers 4\n",
    );
    let run = json(&bench, &["run", "f.course", "--on", "t.bin", "--size", "2MB", "--format", "json"]);
    assert_eq!(run["status"], "guarded", "{run:#}");
    assert_eq!(row(&run, "w")["bytes"], 9 << 20, "whole blocks below 10 MB");
}

#[test]
fn files_that_do_not_fit_or_are_not_there_are_told_before_anything_is_made() {
    let bench = Bench::on_disk();
    let refused = |legs: &str, on: &str| {
        bench.write("f.course", &format!("course \"f\"\n{legs}"));
        let size: &[&str] = if on.starts_with("sim:") { &[] } else { &["--size", "2MB"] };
        let said = bench.fails(&[&["run", "f.course", "--on", on], size].concat());
        assert!(!bench.path("t.bin").exists() && !bench.path("t.bin.files").exists());
        said
    };
    let said = refused("leg w\n files write, sizes 16 TiB, count 1000\n", "t.bin");
    assert!(said.contains("the file system has"), "{said}");
    let said = refused("leg r\n files read\n", "t.bin");
    assert!(said.contains("there are no files here"), "{said}");
    let said = refused(
        "leg w\n files write, sizes 4 KiB, count 3\nleg d\n files delete\nleg r\n files read\n",
        "t.bin",
    );
    assert!(said.contains("there are no files here"), "{said}");
    let said = refused("leg w\n files write, sizes 4 KiB, count 3\n", "sim:merrow-k2");
    assert!(said.contains("a mounted file system is needed"), "{said}");
    let said = refused("leg c\n files copy from \"/nowhere/at/all\"\n", "t.bin");
    assert!(said.contains("Leg source alone / c") || said.contains("Leg c copies"), "{said}");
    assert!(
        said.contains("/nowhere/at/all") && !bench.path("l.logbook").exists(),
        "no run was begun: {said}"
    );
}

/// Waits for something while a program runs.
fn until(child: &mut Child, is: impl Fn() -> bool) {
    for _ in 0..60_000 {
        if is() {
            return;
        }
        assert!(child.try_wait().unwrap().is_none(), "it has ended");
        std::thread::sleep(std::time::Duration::from_millis(2));
    }
    panic!("it never came to that");
}

/// Starts a run, and sends it a signal once so many of its files are there.
fn interrupted(bench: &Bench, args: &[&str], folder: &Path, files: usize, signal: &str) {
    let mut child = bench.command(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    until(&mut child, || folder.exists() && on_disk(folder).len() >= files);
    assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
    child.wait().unwrap();
}

/// Such a run had to be started anew: all that it had written was deleted.
#[test]
fn a_leg_of_files_goes_on_with_those_that_are_there() {
    let text = "course \"files\"\nsample every 50 ms\nleg many\n files write, sizes 75 % of 9000 B and 25 % of 70001 B, count 3000, workers 3, sync each file\nleg back\n files read, workers 2\nleg gone\n files delete\nleg few\n files write, sizes 5000 B, count 7\n";
    for signal in ["-INT", "-KILL"] {
        let bench = Bench::on_disk();
        bench.write("f.course", text);
        let folder = bench.path("t.bin.files");
        let args = ["run", "f.course", "--on", "t.bin", "--size", "4MB", "--keep"];
        interrupted(&bench, &args, &folder, 400, signal);
        let before = on_disk(&folder);
        assert!((400..3000).contains(&before.len()), "{}", before.len());
        let whole: Vec<&String> =
            before.iter().filter(|(_, s)| [9000, 70_001].contains(*s)).map(|(n, _)| n).collect();
        let kept: BTreeMap<&String, u64> =
            whole.iter().map(|n| (*n, std::fs::metadata(folder.join(n)).unwrap().ino())).collect();
        let run = json(&bench, &["resume", "last", "--format", "json"]);
        assert_eq!(run["status"], "done", "{signal}: {run:#}");
        // Each file was written once: what was whole was left alone, which its inode shows, until all were deleted.
        assert_eq!(on_disk(&folder).len(), 7);
        let many = &row(&run, "many")["files"];
        let (files, earlier) = (many["files"].as_u64().unwrap(), many["before"].as_u64().unwrap_or(0));
        assert_eq!(files + earlier, 3000, "{signal}: {many:#}");
        // What a killed run had counted nobody knows; one that was stopped has told it.
        assert_eq!(earlier > 0, signal == "-KILL", "{many:#}");
        assert!(earlier == 0 || (kept.len() as u64..=kept.len() as u64 + 3).contains(&earlier), "{earlier}");
        let back = row(&run, "back");
        assert_eq!(back["files"]["files"], 3000);
        assert_eq!(back["bytes"], 2250 * 9000 + 750 * 70_001_u64);
        assert_eq!(row(&run, "gone")["files"]["files"], 3000);
    }
}

/// A file that was there before the interruption is the same afterwards, and one that was begun is whole.
#[test]
fn files_that_are_gone_are_not_read_and_those_that_are_there_are_left_alone() {
    let bench = Bench::on_disk();
    bench.write(
        "f.course",
        "course \"files\"\nleg many\n files write, sizes 9000 B, count 3000, sync each file\nleg wait\n rest for 1 s\nleg back\n files read\n",
    );
    let folder = bench.path("t.bin.files");
    let args = ["run", "f.course", "--on", "t.bin", "--size", "4MB"];
    interrupted(&bench, &args, &folder, 300, "-INT");
    // The run keeps what it needs, and says where it is.
    assert!(bench.ok(&["leftovers"]).contains("t.bin.files"));
    let whole = |folder: &Path| -> BTreeMap<String, u64> {
        let all = on_disk(folder).into_iter().filter(|f| f.1 == 9000);
        all.map(|(n, _)| (n.clone(), std::fs::metadata(folder.join(n)).unwrap().ino())).collect()
    };
    let before = whole(&folder);
    assert!(before.len() >= 299 && before.len() < 3000);
    // It is interrupted once more, when it has written some hundreds further.
    interrupted(&bench, &["resume", "last"], &folder, before.len() + 300, "-KILL");
    let after = whole(&folder);
    assert!(before.iter().all(|f| after.get(f.0) == Some(f.1)), "a file that was whole was made anew");
    // Someone deletes one of them: it is written once more, as the leg is not over.
    std::fs::remove_file(folder.join(before.keys().next().unwrap())).unwrap();
    let run = json(&bench, &["resume", "last", "--format", "json"]);
    assert_eq!(run["status"], "done", "{run:#}");
    assert_eq!(row(&run, "back")["bytes"], 3000 * 9000);
    assert!(!folder.exists() && !bench.path("t.bin").exists(), "all is taken away in the end");
    // Where the leg was over, they are missed.
    bench.write(
        "g.course",
        "course \"files\"\nleg many\n files write, sizes 9000 B, count 50\nleg wait\n rest for 10 min\nleg back\n files read\n",
    );
    let folder = bench.path("u.bin.files");
    let args = ["run", "g.course", "--on", "u.bin", "--size", "4MB"];
    let out = std::fs::File::create(bench.path("out")).unwrap();
    let mut child = bench.command(&args).stdout(out.try_clone().unwrap()).stderr(out).spawn().unwrap();
    until(&mut child, || bench.read("out").contains("Leg 2 of 3"));
    assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    child.wait().unwrap();
    std::fs::remove_file(folder.join(on_disk(&folder).keys().next().unwrap())).unwrap();
    let said = bench.fails(&["resume", "last"]);
    assert!(said.contains("leg back reads the files of leg many, of which 49 are left"), "{said}");
}
