//! Real kernel drives in a throw-away virtual machine (`scripts/bed`): what they tell, and what they do when they fail.
//!
//! Where the machine cannot be built (it needs Debian's packages of QEMU and of a kernel), each test says so loudly and does
//! nothing; with `HOLLOW_MILE_BED=must` that is a failure.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

mod common;

use serde_json::Value;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

/// The script that builds and boots the machine.
const BED: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/bed");

fn cache() -> PathBuf {
    std::env::var_os("BED_CACHE")
        .map_or_else(|| Path::new(env!("CARGO_TARGET_TMPDIR")).join("bed"), PathBuf::from)
}

/// Whether the machine can be built here; built once for all tests.
fn is_there() -> bool {
    static THERE: OnceLock<bool> = OnceLock::new();
    *THERE.get_or_init(|| {
        let built = Command::new("python3")
            .args([BED, "--build-only"])
            .env("BED_CACHE", cache())
            .stdin(Stdio::null())
            .output();
        let why = match built {
            Ok(out) if out.status.success() => return true,
            Ok(out) => String::from_utf8_lossy(&out.stderr).into_owned(),
            Err(e) => e.to_string(),
        };
        let must = std::env::var_os("HOLLOW_MILE_BED").is_some_and(|v| v == "must");
        assert!(!must, "the virtual machine cannot be built:\n{why}");
        eprintln!(
            "\n*** SKIPPED: the virtual machine with real kernel drives cannot be built here ***\n{why}"
        );
        false
    })
}

/// Runs a script in the machine, and gives the folder that it wrote to. `None` where there is no machine.
fn boot(options: &[&str], courses: &[(&str, &str)], script: &str) -> Option<tempfile::TempDir> {
    if !is_there() {
        return None;
    }
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("out");
    std::fs::create_dir(&out).unwrap();
    let mut command = Command::new("python3");
    // A machine that is busy is slow, and no failure.
    command
        .arg(BED)
        .args(options)
        .args(["--timeout", "1200", "--put-bin", env!("CARGO_BIN_EXE_hollow-mile"), "--out"])
        .arg(&out);
    for (name, text) in courses.iter().chain([&("script.sh", script)]) {
        let path = folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        command.arg("--put").arg(path);
    }
    let ran = command
        .args(["--", "sh script.sh > /out/log 2>&1"])
        .env("BED_CACHE", cache())
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let log = std::fs::read_to_string(out.join("log")).unwrap_or_default();
    let code = ran.status.code();
    assert!(matches!(code, Some(0 | 126)), "{code:?}\n{log}\n{}", String::from_utf8_lossy(&ran.stderr));
    Some(folder)
}

/// Share of the time for which the host may keep the machine from running, if all that its drives do is to be seen in it.
const HELD_UP: f64 = 0.15;

/// Runs a script as [`boot`] does, up to three times, until the host lets the machine run for most of the time. A clock of the machine that has nothing to do
/// with the program says so: it looks at the time twenty times a second. Also says whether it did at last; where it did not, what the drives do cannot be
/// told from what the host did, and only what is said wrongly is a failure.
fn boot_undisturbed(
    options: &[&str],
    courses: &[(&str, &str)],
    script: &str,
) -> Option<(tempfile::TempDir, bool)> {
    let script = format!(
        "(while read up idle < /proc/uptime; do echo $up; usleep 50000; done > /tmp/ticks) & CLOCK=$!\n{script}\nkill $CLOCK; cp /tmp/ticks /out/ticks"
    );
    let mut last = None;
    for _ in 0..3 {
        let bed = boot(options, courses, &script)?;
        let ticks: Vec<f64> = text(&bed, "ticks").lines().filter_map(|t| t.parse().ok()).collect();
        let all = ticks.last().unwrap() - ticks[0];
        let late: f64 = ticks.windows(2).map(|t| (t[1] - t[0] - 0.15).max(0.0)).sum();
        let is_calm = late <= HELD_UP * all;
        last = Some((bed, is_calm));
        if is_calm {
            break;
        }
        // Past the capture of the harness, so that it is read in the log of a test that passes.
        let held = format!("the host kept the virtual machine from running for {late:.1} of {all:.1} s\n");
        std::io::stderr().write_all(held.as_bytes()).unwrap();
    }
    last
}

fn text(folder: &tempfile::TempDir, name: &str) -> String {
    std::fs::read_to_string(folder.path().join("out").join(name)).unwrap_or_default()
}

fn json(folder: &tempfile::TempDir, name: &str) -> Value {
    serde_json::from_str(&text(folder, name))
        .unwrap_or_else(|e| panic!("{name}: {e}\n{}", text(folder, "log")))
}

const BURST: &str = "course \"burst\"\nsample every 100 ms\nleg soak\n write sequential, blocks 1 MiB, depth 4, until 340 MB written\n";
const ERRORS: &str = "course \"errors\"\nsample every 100 ms\nstop if errors above 20\nleg soak\n write sequential, blocks 256 KiB, depth 1, over 8 MB to 12 MB\n";
const SCAN: &str = "course \"scan\"\nsample every 100 ms\nstop if errors above 20\nleg scan\n scan forward, blocks 256 KiB, depth 2, zones 4, over 8388608 B to 12582912 B\n";
const LONG: &str = "course \"long\"\nsample every 100 ms\nstop if critical warning\nleg soak\n write sequential, blocks 512 KiB, depth 2, for 120 s\n";

#[test]
fn the_drives_of_the_machine_are_known_with_the_values_they_have() {
    let script = "
H=./hollow-mile
$H bench --format json > /out/bench.json
$H health $VMB_NVME --format json > /out/nvme.json
$H health VMBATA00001 --format json > /out/ata.json
$H selftest $VMB_NVME short > /out/nvme-test 2>&1; echo $? >> /out/nvme-test
$H selftest $VMB_ATA short > /out/ata-test 2>&1; echo $? >> /out/ata-test
modprobe scsi_debug; sleep 1
for b in /sys/block/sd*; do grep -q scsi_debug $b/device/model && $H health ${b##*/} --format json > /out/scsi.json; done
true";
    let Some(bed) = boot(&["--usb"], &[], script) else { return };
    let bench = json(&bed, "bench.json");
    let card = |serial: &str| {
        let all = bench.as_array().unwrap();
        all.iter()
            .find(|c| c["identity"]["serial"] == serial)
            .unwrap_or_else(|| panic!("{serial}: {bench:#}"))
            .clone()
    };
    for (serial, transport) in
        [("VMBNVME0001", "nvme"), ("VMBATA00001", "sata"), ("VMBVIRTIO01", "virtio"), ("VMBUSB00001", "usb")]
    {
        assert_eq!(card(serial)["device"]["transport"], transport);
        assert_eq!(card(serial)["arming_word"], serial);
    }
    let nvme = card("VMBNVME0001");
    assert_eq!(nvme["identity"]["model"], "QEMU NVMe Ctrl");
    assert_eq!(
        (&nvme["facts"]["capacity"], &nvme["facts"]["logical_block"]),
        (&(1_u64 << 30).into(), &512.into())
    );
    assert_eq!((&nvme["limits"]["warn"], &nvme["limits"]["critical"]), (&70.0.into(), &100.0.into()));
    assert_eq!(nvme["identity"]["link"]["negotiated"], "PCIe 1.0 x1");
    let health = json(&bed, "nvme.json")["health"].clone();
    assert_eq!((&health["temperature"], &health["nvme"]["composite"]), (&50.0.into(), &50.0.into()));
    assert_eq!((&health["self_test"], &health["warnings"]), (&Value::Null, &Value::Array(Vec::new())));
    assert!(health["missing"].to_string().contains("Self-tests: not offered by this drive"));
    assert!(text(&bed, "nvme-test").contains("not offered by this drive\n1"), "{}", text(&bed, "nvme-test"));
    // The kernel's own SCSI target for trials: 38 °C, 65 °C at the most.
    let scsi = json(&bed, "scsi.json");
    assert_eq!(
        (&scsi["health"]["source"], &scsi["health"]["temperature"]),
        (&"SCSI log pages".into(), &38.0.into())
    );
    assert_eq!((&scsi["limits"]["warn"], &scsi["device"]["transport"]), (&65.0.into(), &"scsi".into()));
    let ata = json(&bed, "ata.json");
    assert_eq!(ata["identity"]["kind"], "SATA, hard disk at 7,200 turns a minute");
    let health = &ata["health"];
    assert_eq!((&health["source"], &health["temperature"]), (&"ATA SMART".into(), &31.0.into()));
    let attributes = health["attributes"].as_array().unwrap();
    let ids: Vec<u64> = attributes.iter().map(|a| a["id"].as_u64().unwrap()).collect();
    assert_eq!(ids, [1, 3, 4, 5, 9, 12, 190]);
    assert_eq!((&attributes[3]["threshold"], &attributes[3]["raw"]), (&36.into(), &0.into()));
    assert!(
        text(&bed, "ata-test").contains("short at 4660 h: completed without an error"),
        "{}",
        text(&bed, "ata-test")
    );
}

/// Fast until 250 MiB are written, then slow: what the machine's own limiter is set to.
#[test]
fn the_end_of_a_burst_budget_is_found_where_it_was_planned() {
    let script =
        "./hollow-mile run burst.course --on $VMB_NVME --arm VMBNVME0001 --format json > /out/run.json";
    let options = ["--burst", "48M:8M:250M"];
    let Some((bed, is_calm)) = boot_undisturbed(&options, &[("burst.course", BURST)], script) else { return };
    let run = json(&bed, "run.json");
    assert_eq!((&run["status"], run["bytes"].as_u64().unwrap() / 1_000_000), (&"done".into(), 340));
    let breaks = run["findings"]["breaks"].as_array().unwrap();
    if !is_calm {
        let surely = |b: &&Value| b["confidence"].as_f64() >= Some(0.9);
        assert!(breaks.iter().filter(surely).all(|b| b["cause"] == "cache-exhausted"), "{breaks:#?}");
        return;
    }
    assert!(!breaks.is_empty(), "{:#}", run["findings"]);
    // Behind it, an emulated machine on a busy host may become slower still, which is a break of its own.
    let at = breaks.first().map_or(0.0, |b| b["at_bytes"].as_f64().unwrap());
    // The limiter is a bucket that drains at 8 MiB/s and is full when this much was written at 48 MiB/s. A machine that is busy writes more
    // slowly, and so drains more meanwhile: what is written when it is full follows from the time that it took.
    let mib = f64::from(1 << 20);
    let bucket = (250.0 * (1.0 - 8.0 / 48.0) + 0.8) * mib;
    let planned = bucket + 8.0 * mib * breaks[0]["at_s"].as_f64().unwrap();
    // Within two percent, and what is written in the one sample that the break is located to.
    let sample = 48.0 * mib * 0.1;
    assert!(
        (at - planned).abs() <= 0.02 * planned + sample,
        "found at {at}, planned at {planned}\n{breaks:#?}"
    );
    // On a host that is so busy that the machine's processor is taken from it, the cause may not be sure; it is never surely another one.
    let unsure = breaks[0]["confidence"].as_f64() < Some(0.8);
    // It may even keep the drive from moving anything for seconds, which a full cache does not explain, and nothing else that is known.
    let stood_still = breaks[0]["cause"] == "unexplained" && breaks[0]["to_mb_s"].as_f64() < Some(0.5);
    assert!(breaks[0]["cause"] == "cache-exhausted" || unsure || stood_still, "{breaks:#?}");
}

/// Three more writers on the same drive, for some of the time: the fall and the rise are put down to them, and their time is marked.
#[test]
fn another_writer_on_the_drive_is_named_for_what_it_took() {
    // The drive is held to a rate that an emulated machine reaches on a busy host too, so that it is the drive that the two share.
    let course = "course \"others\"\nsample every 500 ms\nleg soak\n write sequential, blocks 128 KiB, depth 4, over 0 % to 40 %, for 40 s\n";
    // The others begin twelve seconds after the run has, however long that takes.
    let script = "(until ./hollow-mile logbook list 2>/dev/null | grep -q underway; do sleep 0.2; done
        sleep 12
        for at in 4800 5800 6800; do timeout 12 dd if=/dev/zero of=$VMB_NVME bs=128k seek=$at count=1000 oflag=direct 2>/dev/null & done; wait) &
        ./hollow-mile run others.course --on $VMB_NVME --arm VMBNVME0001 --format json > /out/run.json";
    let files = [("others.course", course)];
    let Some((bed, is_calm)) = boot_undisturbed(&["--burst", "6M"], &files, script) else { return };
    let run = json(&bed, "run.json");
    let breaks = run["findings"]["breaks"].as_array().unwrap();
    let causes: Vec<&str> = breaks.iter().map(|b| b["cause"].as_str().unwrap()).collect();
    // An emulated machine may be stopped for a moment, or share its processor with others, which is a break of its own: of that nothing is sure.
    let named = |cause: &str| causes.contains(&cause);
    let sure_of_cache = |b: &&Value| b["cause"] == "cache-exhausted" && b["confidence"].as_f64() >= Some(0.8);
    assert!(!breaks.iter().any(|b| sure_of_cache(&b)), "{breaks:#?}");
    assert!(
        !is_calm || (named("interference") && named("interference-end")),
        "{breaks:#?}\n{:#}",
        run["findings"]["interference"]
    );
    // Who else wrote is counted by the kernel, and is known however the machine was held up.
    let others = run["findings"]["interference"].as_array().unwrap();
    assert!(others.iter().any(|i| i["kind"] == "foreign-io"), "{others:#?}");
}

#[test]
fn bad_sectors_are_located_to_the_block_on_each_transport() {
    let script = "
./hollow-mile run errors.course --on $VMB_BADNVME --arm VMBNVMEBAD1 --destroy unreadable > /out/nvme 2>&1
./hollow-mile run errors.course --on $VMB_VIRTIO --arm VMBVIRTIO01 --destroy unreadable > /out/virtio 2>&1
./hollow-mile run errors.course --on $VMB_BADATA --arm VMBATABAD01 --destroy unreadable > /out/ata 2>&1
for drive in $VMB_BADNVME $VMB_VIRTIO $VMB_BADATA $VMB_USB; do
    ./hollow-mile run scan.course --on $drive --format json > /out/scan-${drive##*/}.json 2> /out/scan-${drive##*/}
done
true";
    let files = [("errors.course", ERRORS), ("scan.course", SCAN)];
    let Some(bed) = boot(&["--bad", "20000:3", "--usb", "--bad-usb"], &files, script) else { return };
    // A scan goes past them, finds them, and reads all the rest.
    let scans: Vec<_> = std::fs::read_dir(bed.path().join("out"))
        .unwrap()
        .map(|f| f.unwrap().file_name().into_string().unwrap())
        .filter(|n| n.starts_with("scan-") && n.ends_with(".json"))
        .collect();
    assert_eq!(scans.len(), 4, "{scans:?}");
    for name in &scans {
        let run = json(&bed, name);
        let bad = &run["findings"]["unreadable_blocks"];
        assert_eq!(bad.as_array().unwrap().len(), 1, "{name}: {run:#}");
        assert_eq!(
            (bad[0]["start_byte"].as_u64(), bad[0]["end_byte"].as_u64()),
            (Some(20_000 * 512), Some(20_003 * 512))
        );
        // The kernel may join two neighbouring reads, and fail both; what is lost by that is read when it is narrowed down.
        let lost = (4 << 20) - run["bytes"].as_u64().unwrap();
        assert!([256 << 10, 512 << 10].contains(&lost), "{name}: {run:#}");
    }
    for (name, error) in [("nvme", "(ENODATA)"), ("virtio", "(EIO)"), ("ata", "(EIO)")] {
        let said = text(&bed, name);
        let line =
            said.lines().find(|l| l.contains("narrowed down")).unwrap_or_else(|| panic!("{name}\n{said}"));
        assert!(line.contains(error) && line.contains("blocks 20000 to 20002 (of 512 B)"), "{name}: {line}");
        assert!(said.contains("The run is done"), "{name}\n{said}");
    }
}

#[test]
fn a_stall_a_warning_and_drives_that_leave_are_each_told_for_what_they_are() {
    let script = "
H=./hollow-mile
vmctl throttle nvme0 20M
# Waits until a run has moved something: how long that takes is the host's affair.
moving() { for i in $(seq 200); do $H logbook list --logbook $1 2>/dev/null | grep -q underway && break; sleep 0.2; done; sleep 3; }
$H run long.course --on $VMB_NVME --arm VMBNVME0001 --logbook l1 > /out/stall 2>&1 &
moving l1; vmctl stall nvme0 5; sleep 12; vmctl warn nvme0 4; wait
vmctl warn nvme0 0
$H run long.course --on $VMB_NVME --arm VMBNVME0001 --logbook l2 > /out/unplug 2>&1 &
moving l2; vmctl unplug nvme0; wait
$H run long.course --on $VMB_USB --arm VMBUSB00001 --logbook l3 > /out/usb 2>&1 &
moving l3; vmctl unplug usb0; wait
$H bench > /out/left
true";
    let Some(bed) = boot(&["--usb"], &[("long.course", LONG)], script) else { return };
    let stall = text(&bed, "stall");
    let took = stall.lines().filter(|l| l.contains("Stall: an operation at byte")).find_map(|l| {
        let seconds: f64 = l.rsplit(" took ").next()?.trim_end_matches(" s").parse().ok()?;
        (4.5..30.0).contains(&seconds).then_some(seconds)
    });
    assert!(took.is_some() && stall.contains("Nothing has come back for"), "{stall}");
    assert!(stall.contains("Stopped by the guard: the drive warns: reliability is degraded"), "{stall}");
    assert!(stall.contains("Health: The drive warns: reliability is degraded"), "{stall}");
    for name in ["unplug", "usb"] {
        let said = text(&bed, name);
        assert!(
            said.contains("has left: ") && said.contains("The run is ended by an error"),
            "{name}\n{said}"
        );
    }
    assert!(!text(&bed, "left").contains("VMBNVME0001") && !text(&bed, "left").contains("VMBUSB00001"));
}

#[test]
fn a_run_goes_on_after_the_power_was_cut() {
    let disks = tempfile::tempdir().unwrap();
    let at = disks.path().display().to_string();
    let course = "course \"cut\"\nsample every 100 ms\nleg soak\n write sequential, blocks 256 KiB, depth 2, rate 2 MB/s, over 0 MB to 60 MB\nleg check\n verify, blocks 256 KiB, depth 2, over 0 MB to 60 MB\n";
    let mount = "modprobe ext4; mkdir -p /book; mount -t ext4 $VMB_ATA /book\n";
    let first = format!(
        "mkfs.ext4 -q $VMB_ATA 2>/dev/null || mke2fs -q $VMB_ATA\n{mount}./hollow-mile run cut.course --on $VMB_NVME --arm VMBNVME0001 --logbook /book/l.logbook --detach\nsleep 8\n./hollow-mile logbook list --logbook /book/l.logbook\nvmctl powercut\nsleep 60\n"
    );
    let Some(cut) = boot(&["--disks", &at], &[("cut.course", course)], &first) else { return };
    assert!(text(&cut, "log").contains("underway"), "{}", text(&cut, "log"));
    let second = format!(
        "{mount}./hollow-mile logbook list --logbook /book/l.logbook\n./hollow-mile resume last --arm VMBNVME0001 --logbook /book/l.logbook --format json > /out/run.json\n"
    );
    let bed = boot(&["--disks", &at], &[], &second).unwrap();
    assert!(text(&bed, "log").contains("cut short"), "{}", text(&bed, "log"));
    let run = json(&bed, "run.json");
    assert_eq!((&run["status"], &run["run"]), (&"done".into(), &1.into()));
    // What was moved before the cut counts, and what was written then is there.
    assert!(run["bytes"].as_u64().unwrap() >= 119_000_000, "{run:#}");
    assert!(!text(&bed, "log").contains("Verifying"), "{}", text(&bed, "log"));
}

/// The full screen on the console of the machine: its drives, their health, a run that is armed by typing.
#[test]
fn the_terminal_works_on_the_console_of_the_machine() {
    if !is_there() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let socket = folder.path().join("tmux.sock").display().to_string();
    let tmux = |args: &[&str]| {
        let out =
            Command::new("tmux").args(["-S", &socket]).args(args).stdin(Stdio::null()).output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    let line = format!(
        "BED_CACHE={} python3 {BED} --tty --drives ata --own --own-test 12 --put-bin {} -- './hollow-mile --logbook l.logbook; echo left'",
        cache().display(),
        env!("CARGO_BIN_EXE_hollow-mile")
    );
    tmux(&[
        "-f",
        "/dev/null",
        "new-session",
        "-d",
        "-s",
        "t",
        "-x",
        "159",
        "-y",
        "46",
        "sh",
        "-c",
        &format!("{line}; sleep 60"),
    ]);
    let until = |texts: &[&str]| {
        for _ in 0..1200 {
            let screen = tmux(&["capture-pane", "-p", "-t", "t"]);
            if texts.iter().all(|t| screen.contains(t)) {
                return screen;
            }
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        let screen = tmux(&["capture-pane", "-p", "-t", "t"]);
        tmux(&["kill-server"]);
        panic!("the console never showed {texts:?}:\n{screen}");
    };
    let keys = |keys: &[&str]| tmux(&[&["send-keys", "-t", "t"], keys].concat());
    until(&["VMBATA00001", "VMBNVME0001", "VMBOWN00001", "3 real drives"]);
    keys(&["6"]);
    until(&["ATA SMART", "reallocated sectors", "Self-tests"]);
    keys(&["1"]);
    until(&["3 real drives"]);
    keys(&["s"]);
    until(&["A run on /dev/sda", "All that is on this drive will be lost."]);
    keys(&["Tab"]);
    keys(&["-l", "VMBATA00001"]);
    keys(&["Enter"]);
    until(&["The run is done"]);
    keys(&["6"]);
    until(&["What run 1, the last on this drive, changed"]);
    // A test that the drive makes of itself, from its beginning to its end.
    keys(&["1"]);
    until(&["3 real drives"]);
    keys(&["Down", "Down"]);
    keys(&["6"]);
    // The sentence of the place names the drive once it has answered; rows below may still be of the screen before.
    until(&[", serial VMBOWN00001. "]);
    keys(&["t"]);
    until(&["A self-test"]);
    keys(&["s"]);
    until(&["a test (short) is underway", "%"]);
    until(&["short at 1000 h: completed without an error"]);
    keys(&["q"]);
    until(&["left"]);
    tmux(&["kill-server"]);
}

/// An array of the kernel over an NVMe and a SATA drive is on the bench with its members, is run on like any other device, and its members'
/// temperatures and traffic are in the log. Nobody writes to a member past it.
#[test]
fn an_array_is_run_on_with_the_temperatures_and_the_traffic_of_its_members() {
    // The last leg goes over the array again and again: of what is written once, a fast machine has a handful of samples.
    let course = "course \"array\"\nsample every 200 ms\nleg w\n write sequential, blocks 256 KiB, depth 4\nleg v\n verify, blocks 256 KiB, depth 4\nleg r\n read sequential, blocks 256 KiB, depth 4, until 5 s\n";
    let script = "
H=./hollow-mile
modprobe md-mod; modprobe raid0
N=${VMB_NVME##*/}; A=${VMB_ATA##*/}
echo md100 > /sys/module/md_mod/parameters/new_array
M=/sys/block/md100/md
echo none > $M/metadata_version; echo raid0 > $M/level; echo 2 > $M/raid_disks; echo 65536 > $M/chunk_size
i=0
for d in $N $A; do
  cat /sys/block/$d/dev > $M/new_dev; echo 32768 > $M/dev-$d/size; echo $i > $M/dev-$d/slot; i=$((i+1))
done
echo active > $M/array_state; sleep 1
$H bench --format json > /out/bench.json
echo $N > /out/nvme; echo $A > /out/ata
for d in $N $A; do $H run array.course --on /dev/$d --arm VMBNVME0001 >> /out/refused 2>&1; done
$H run array.course --on /dev/md100 > /out/unarmed 2>&1
$H run array.course --on /dev/md100 --arm md100 --logbook l.logbook --format json > /out/run.json 2> /out/run.err; echo $? > /out/code
$H export last --logbook l.logbook --as csv -o /out/run.csv
$H run array.course --on sim:sprat --logbook /out/on9p.logbook > /out/on9p 2>&1
true";
    let Some(bed) = boot(&[], &[("array.course", course)], script) else { return };
    let (nvme, ata) = (text(&bed, "nvme").trim().to_owned(), text(&bed, "ata").trim().to_owned());
    // The folder of the host is no place for a logbook.
    let on9p = text(&bed, "on9p");
    assert!(on9p.contains("keep the logbook on a disk of this computer"), "{on9p}");
    let bench = json(&bed, "bench.json");
    let named = |name: &str| {
        let all = bench.as_array().unwrap();
        all.iter()
            .find(|c| c["device"]["name"] == name)
            .unwrap_or_else(|| panic!("{name}: {bench:#}"))
            .clone()
    };
    let array = named("md100");
    assert_eq!(array["identity"]["model"], format!("raid0 over {nvme} and {ata}"), "{array:#}");
    assert_eq!(array["device"]["members"][1]["serial"], "VMBATA00001");
    assert_eq!(array["objections"], Value::Array(Vec::new()));
    let refused = text(&bed, "refused");
    assert_eq!(refused.matches("is held by md100").count(), 2, "{refused}");
    assert!(text(&bed, "unarmed").contains("--arm md100"), "{}", text(&bed, "unarmed"));
    assert_eq!(text(&bed, "code").trim(), "0", "{}", text(&bed, "run.err"));
    let run = json(&bed, "run.json");
    assert_eq!(run["findings"]["faults"], Value::Array(Vec::new()));
    let csv = text(&bed, "run.csv");
    let rows: Vec<Vec<&str>> = csv.lines().map(|l| l.split(',').collect()).collect();
    let column = |name: &str| {
        let at = rows[0].iter().position(|c| *c == name).unwrap_or_else(|| panic!("{name}: {:?}", rows[0]));
        rows[1..].iter().filter_map(|r| r[at].parse::<f64>().ok()).collect::<Vec<f64>>()
    };
    // The emulated drives are at 50 and 31 °C, and the array is as warm as the warmer one.
    assert!(column(&format!("{nvme}_c")).iter().all(|t| (49.0..51.0).contains(t)), "{csv}");
    assert!(column(&format!("{ata}_c")).iter().all(|t| (30.0..32.0).contains(t)), "{csv}");
    assert!(column("temp_c").iter().all(|t| (49.0..51.0).contains(t)), "{csv}");
    // Each member moves half of it. The members are read a moment apart from the array, so that a row in which the machine stood still does not tell.
    let (written, read) = (column("write_mb_s"), column("read_mb_s"));
    let whole: Vec<f64> = written.iter().zip(&read).map(|(w, r)| w + r).collect();
    for member in [&nvme, &ata] {
        let rates = column(&format!("{member}-io_mb_s"));
        let loaded = rates.iter().zip(&whole[whole.len() - rates.len()..]).filter(|(_, all)| **all > 0.0);
        let mut shares: Vec<f64> = loaded.map(|(own, all)| own / all).collect();
        assert!(shares.len() >= 8, "{csv}");
        shares.sort_by(f64::total_cmp);
        let middle = shares[shares.len() / 2];
        assert!((0.4..0.6).contains(&middle), "{member}: {middle} of it\n{csv}");
        // It had something to do while the array was written to.
        let busy = column(&format!("{member}-busy_pct"));
        assert!(busy.iter().all(|b| (0.0..=100.0).contains(b)), "{csv}");
        let mut loaded: Vec<f64> = busy
            .iter()
            .zip(&whole[whole.len() - busy.len()..])
            .filter(|(_, all)| **all > 0.0)
            .map(|(b, _)| *b)
            .collect();
        loaded.sort_by(f64::total_cmp);
        assert!(loaded[loaded.len() / 2] > 1.0, "{member}: {loaded:?}");
    }
}

/// Two boots of a machine, the logbook on a disk of it: the same drives, and what happened to them between.
#[test]
fn the_history_of_kernel_drives_goes_on_over_two_boots() {
    let disks = tempfile::tempdir().unwrap();
    let at = disks.path().display().to_string();
    let course = "course \"writes\"\nleg w\n write sequential, blocks 1 MiB, depth 2, over 0 MB to 64 MiB\n";
    let mount = "modprobe ext4; mkdir -p /book; mount -t ext4 $VMB_ATA /book\nH=\"./hollow-mile\"; L=\"--logbook /book/l.logbook\"\n";
    let first = format!(
        "mkfs.ext4 -q $VMB_ATA 2>/dev/null || mke2fs -q $VMB_ATA\n{mount}$H health $VMB_NVME --keep $L\n$H run writes.course --on $VMB_NVME --arm VMBNVME0001 $L --format json > /out/run.json\n$H watch $VMB_NVME $VMB_BADATA --rounds 1 $L > /out/watch\n$H selftest $VMB_BADATA short\numount /book\n"
    );
    let Some(one) = boot(&["--disks", &at], &[("writes.course", course)], &first) else { return };
    assert_eq!(json(&one, "run.json")["status"], "done", "{}", text(&one, "log"));
    let watched = text(&one, "watch");
    assert!(
        watched.contains("VMBNVME0001") && watched.contains("VMBATABAD01"),
        "{watched}\n{}",
        text(&one, "log")
    );
    // The machine is set to warn before the drive is looked at again.
    let second = format!(
        "{mount}vmctl warn nvme0 4\n$H health $VMB_NVME --keep $L\n$H health $VMB_BADATA --keep $L\n$H health VMBNVME0001 --history --endurance 1TB $L --format json > /out/nvme.json\n$H health $VMB_BADATA --history $L --format json > /out/ata.json\n$H selftest $VMB_BADATA status > /out/tests\numount /book\n"
    );
    let two = boot(&["--disks", &at], &[], &second).unwrap();
    let story = json(&two, "nvme.json");
    let snapshots = story["snapshots"].as_array().unwrap();
    // Kept, before and after the run, watched, and kept again.
    assert!(snapshots.len() >= 5, "{story:#}");
    let run = &story["ledger"]["runs"][0];
    assert_eq!((&run["run"], &run["course"]), (&1.into(), &"writes".into()));
    // 64 MiB, in units of 512,000 B.
    let host = run["host_bytes"].as_i64().unwrap();
    assert!((host - (64 << 20)).abs() <= 2 * 512_000, "{host}");
    // The emulated controller counts anew when the machine is started: that is told, and not taken for bytes.
    let remarks = story["remarks"].to_string();
    assert!(remarks.contains("bytes written went back"), "{remarks}");
    let changes = story["since"].to_string();
    assert!(changes.contains("the drive now warns: reliability is degraded"), "{changes}");
    let ata = json(&two, "ata.json");
    assert!(ata["snapshots"].as_array().unwrap().len() >= 2, "{ata:#}");
}

/// Two boots, with a power cut between them, of drives that keep their counters: an NVMe controller of our own that the kernel's driver
/// attaches over TCP, and a SATA disk whose attributes are set. What was planted is told, from the logbook, and nothing else is.
#[test]
fn what_happened_to_kernel_drives_over_two_boots_is_told() {
    let disks = tempfile::tempdir().unwrap();
    let at = disks.path().display().to_string();
    let writes =
        "course \"writes\"\nleg w\n write sequential, blocks 256 KiB, depth 2, over 0 MB to 32 MiB\n";
    let scan = "course \"scan\"\nstop if errors above 20\nleg scan\n scan forward, blocks 256 KiB, depth 2, zones 4, over 33554432 B to 50331648 B\n";
    let begin = "modprobe ext4; mkdir -p /book; mount -t ext4 $VMB_ATA /book; H=./hollow-mile; L='--logbook /book/l.logbook'\n";
    // Of the random places that are looked at before a write, one in fifty times one is that of the two blocks that cannot be read.
    let first = format!(
        "mkfs.ext4 -q $VMB_ATA 2>/dev/null || mke2fs -q $VMB_ATA\n{begin}
vmctl smart 12=41 5=0
$H bench --format json > /out/bench.json
for d in $VMB_OWN $VMB_BADATA; do $H health $d --keep $L; done
$H run writes.course --on $VMB_OWN --arm VMBOWN00001 --destroy unreadable $L --format json > /out/run.json
$H selftest $VMB_OWN short --wait > /out/test 2> /out/progress; echo $? >> /out/test
$H health $VMB_OWN --keep $L
umount /book; vmctl powercut; sleep 60"
    );
    let options = ["--own", "--own-bad", "80000:2", "--own-test", "12", "--disks", &at];
    let Some(one) = boot(&options, &[("writes.course", writes)], &first) else { return };
    let bench = json(&one, "bench.json");
    let own = bench.as_array().unwrap().iter().find(|c| c["identity"]["serial"] == "VMBOWN00001");
    let own = own.unwrap_or_else(|| panic!("{bench:#}"));
    assert_eq!(own["identity"]["kind"], "NVMe over TCP, solid state");
    assert_eq!((&own["limits"]["warn"], &own["limits"]["critical"]), (&75.0.into(), &85.0.into()));
    assert_eq!(json(&one, "run.json")["status"], "done", "{}", text(&one, "log"));
    assert_eq!(text(&one, "test"), "short at 1000 h: completed without an error\n0\n");
    // It takes twelve seconds, and is looked at every two: how far it is rises.
    let done: Vec<u32> = text(&one, "progress")
        .lines()
        .map(|l| {
            let l = l.strip_prefix("a test (short) is underway, ").unwrap_or_else(|| panic!("{l}"));
            l.split_once(" %").unwrap().0.parse().unwrap()
        })
        .collect();
    assert!(done.len() >= 2 && done.windows(2).all(|d| d[0] < d[1]) && done[0] < 100, "{done:?}");

    let second = format!(
        "{begin}
vmctl smart 12=42 5=8
$H run scan.course --on $VMB_OWN $L --format json > /out/scan.json
$H selftest $VMB_OWN extended > /out/extended
$H selftest $VMB_OWN short > /out/second 2>&1; echo $? >> /out/second
$H selftest $VMB_OWN abort > /out/abort
$H selftest $VMB_OWN short --wait --format json > /out/test.json; echo $? > /out/code
$H selftest $VMB_BADATA short > /out/ata-first
vmctl tested 0xf9 0
$H selftest $VMB_BADATA extended > /out/ata-second 2>&1; echo $? >> /out/ata-second
$H selftest $VMB_BADATA status --wait > /out/ata 2> /out/ata-progress &
seen() {{ for i in $(seq 300); do grep -q \"$1\" /out/ata-progress && break; sleep 0.2; done; }}
seen '10 % done'; vmctl tested 0xf4 0; seen '60 % done'; vmctl tested 0x74 777; wait $!; echo $? >> /out/ata
for d in $VMB_OWN $VMB_BADATA; do $H health $d --keep $L; done
$H health $VMB_OWN --history $L --format json > /out/own.json
$H health $VMB_BADATA --history $L --format json > /out/ata.json
umount /book"
    );
    let options = [&options[..], &["--own-fails", "80000"]].concat();
    let two = boot(&options, &[("scan.course", scan)], &second).unwrap();
    let unreadable = &json(&two, "scan.json")["findings"]["unreadable_blocks"];
    assert_eq!(unreadable.as_array().unwrap().len(), 1, "{unreadable:#}");
    let (low, high) = (unreadable[0]["start_byte"].as_u64(), unreadable[0]["end_byte"].as_u64());
    assert_eq!((low, high), (Some(80_000 * 512), Some(80_002 * 512)));
    // A test does not end another that is underway, on either kind of drive.
    assert!(text(&two, "extended").contains("a test (extended) is underway"), "{}", text(&two, "extended"));
    for (name, kind) in [("second", "extended"), ("ata-second", "short")] {
        let said = text(&two, name);
        assert!(said.contains(&format!("a self-test ({kind}) is underway in the drive")), "{name}: {said}");
        assert!(said.ends_with("\n1\n"), "{name}: {said}");
    }
    assert!(
        text(&two, "abort").contains("extended at 1000 h: aborted by a command"),
        "{}",
        text(&two, "abort")
    );
    let newest = &json(&two, "test.json")["results"][0];
    assert_eq!((&newest["passed"], &newest["block"]), (&false.into(), &80_000.into()), "{newest:#}");
    assert_eq!(text(&two, "code").trim(), "1");
    let progress = text(&two, "ata-progress");
    assert!(progress.contains("10 % done") && progress.contains("60 % done"), "{progress}");
    assert_eq!(text(&two, "ata"), "short at 4660 h: failed in the read element, first at block 777\n1\n");

    let own = json(&two, "own.json");
    let ledger = &own["ledger"]["runs"][0];
    let host = ledger["host_bytes"].as_i64().unwrap();
    assert!((host - (32 << 20)).abs() <= 2 * 512_000, "{ledger:#}");
    // Nothing went backwards, and nothing was replaced.
    assert_eq!(own["remarks"], Value::Array(Vec::new()), "{own:#}");
    let ata = json(&two, "ata.json");
    let told = |story: &Value| -> Vec<String> {
        let changes = story["since"][0]["changes"].as_array().unwrap().iter();
        changes.map(|c| c["what"].as_str().unwrap().to_owned()).collect()
    };
    // Worst first. How often a block is read until it is known that it alone is bad is not fixed; each time counts as an error.
    let of_own = told(&own);
    let names: Vec<&str> = of_own.iter().map(|w| w.split_once(": ").unwrap().0).collect();
    let planted = [
        "uncorrected media errors",
        "failed self-tests",
        "entries in the error log",
        "unsafe shutdowns",
        "bytes written",
        "bytes read",
        "power cycles",
    ];
    assert_eq!(names, planted, "{of_own:#?}");
    for whole in ["failed self-tests: 1, after 0", "unsafe shutdowns: 1, after 0", "power cycles: 2, after 1"]
    {
        assert!(of_own.iter().any(|w| w == whole), "{of_own:#?}");
    }
    assert_eq!(
        told(&ata),
        ["failed self-tests: 1, after 0", "reallocated sectors: 8, after 0", "power cycles: 42, after 41"]
    );
}
