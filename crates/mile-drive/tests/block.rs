//! Block devices on loop devices of this machine: what is refused, with nothing written, and what is moved.
//!
//! Needs the rights to set up loop devices; where those are missing, each test says so and does nothing.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    clippy::expect_used,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::{Loop, drive_at, output};
use mile_core::{Access, Bytes, Nanos, Op, Workload};
use mile_drive::block::{Consent, drive::find};
use mile_drive::sysfs::Roots;
use mile_drive::{Drive, DriveError, Failure, Narrowed, Tally, Transfer, Wrong};
use std::fs::File;
use std::os::unix::fs::{FileExt, OpenOptionsExt, symlink};
use std::path::Path;

const MIB: u64 = 1 << 20;
const SIZE: u64 = 96 * MIB;

fn whole(op: Op) -> Transfer {
    Transfer {
        load: Workload { op, depth: 4, ..Workload::default() },
        length: Bytes(SIZE),
        budget: Bytes(SIZE),
        pass: 1,
        sealed: true,
        ..Transfer::default()
    }
}

/// Opens a device exclusively. The kernel gives up the claim of a ring that was closed a moment later.
fn exclusive(device: &Path) -> File {
    let open = || File::options().read(true).custom_flags(libc::O_EXCL).open(device);
    (0..100)
        .find_map(|_| {
            let file = open();
            if file.is_err() {
                std::thread::sleep(std::time::Duration::from_millis(50));
            }
            file.ok()
        })
        .expect("the claim is given up")
}

fn finish(drive: &mut dyn Drive, tally: &mut Tally) {
    while !drive.advance(drive.now().plus(Nanos(20_000_000)), tally).unwrap() {}
}

#[test]
fn what_is_not_armed_or_carries_something_is_refused() {
    let Some(device) = Loop::new() else { return };
    assert!(device.refusal(Consent::default()).contains(&format!("--arm {}", device.name())));
    let other = Consent { arm: Some("MK2-0417-00312".into()), destroy: Vec::new(), in_form: false };
    assert!(device.refusal(other).contains("which is not its"));
    for (make, name) in [("mkfs.ext4", "ext"), ("mkswap", "swap")] {
        if output(make, &[&device.node()]).is_none() {
            common::skipped(&format!("{make} is not here"));
            continue;
        }
        let said = device.refusal(device.armed());
        assert!(said.contains(&format!("--destroy {name}")), "{said}");
        assert!(
            device.refusal(Consent { destroy: vec!["gpt".into()], ..device.armed() }).contains("it carries")
        );
        let mut named = device.drive(Consent { destroy: vec![name.into()], ..device.armed() });
        named.check_consent(true).unwrap();
        named.open().unwrap();
        named.close(false).unwrap();
        File::options().write(true).open(&device.device).unwrap().write_all_at(&[0; 70_000], 0).unwrap();
    }
}

#[test]
fn what_is_in_use_is_refused_whatever_is_said() {
    let Some(device) = Loop::new() else { return };
    let all = Consent { destroy: vec!["ext".into(), "swap".into()], ..device.armed() };
    let mount = device.folder.path().join("mount");
    std::fs::create_dir(&mount).unwrap();
    let at = mount.display().to_string();
    if output("mkfs.ext4", &["-q", &device.node()]).is_some()
        && output("mount", &["-o", "ro", &device.node(), &at]).is_some()
    {
        let said = device.refusal(all.clone());
        output("umount", &[&at]).unwrap();
        assert!(said.contains(&format!("is mounted at {at}")), "{said}");
    } else {
        common::skipped("nothing can be mounted here");
    }
    if output("mkswap", &[&device.node(), "40"]).is_some() && output("swapon", &[&device.node()]).is_some() {
        let before = device.sum();
        let said = device.drive(all.clone()).check_consent(true).unwrap_err().to_string();
        output("swapoff", &[&device.node()]).unwrap();
        assert_eq!(device.sum(), before);
        assert!(said.contains("in use as swap"), "{said}");
    } else {
        common::skipped("swap cannot be switched on here");
    }
}

#[test]
fn what_another_program_has_opened_exclusively_is_refused() {
    let Some(device) = Loop::new() else { return };
    let mut drive = device.drive(device.armed());
    drive.check_consent(true).unwrap();
    let held = File::options().read(true).custom_flags(libc::O_EXCL).open(&device.device).unwrap();
    let before = device.sum();
    let said = drive.open().unwrap_err().to_string();
    assert!(said.contains("opened exclusively by another program"), "{said}");
    assert_eq!(device.sum(), before);
    drop(held);
    drive.open().unwrap();
    // And what we have opened, nobody else can have.
    assert!(File::options().read(true).custom_flags(libc::O_EXCL).open(&device.device).is_err());
}

#[test]
fn a_device_that_is_let_go_a_moment_later_is_waited_for() {
    let Some(device) = Loop::new() else { return };
    let mut drive = device.drive(device.armed());
    drive.check_consent(true).unwrap();
    let held = File::options().read(true).custom_flags(libc::O_EXCL).open(&device.device).unwrap();
    let let_go = std::thread::spawn(move || {
        std::thread::sleep(std::time::Duration::from_millis(700));
        drop(held);
    });
    drive.open().unwrap();
    assert!(let_go.is_finished());
}

#[test]
fn a_partition_of_it_that_is_mounted_or_a_device_built_on_it_is_in_the_way() {
    let Some(device) = Loop::new() else { return };
    let table = format!(
        "printf 'start=2048, type=83\\n' | sfdisk -q {0} && losetup -P {0} {1} 2>/dev/null || partx -u {0}",
        device.node(),
        ""
    );
    let made = output("sh", &["-c", &table]).is_some() || output("partprobe", &[&device.node()]).is_some();
    let part = format!("{}p1", device.node());
    for _ in 0..20 {
        if Path::new(&part).exists() {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    if !made || !Path::new(&part).exists() {
        common::skipped("loop devices have no partitions here");
        return;
    }
    let said = device.refusal(device.armed());
    assert!(said.contains("--destroy mbr"), "{said}");
    let error = find(&Roots::system(), Path::new(&part)).unwrap_err().to_string();
    assert!(error.contains("name the whole drive"), "{error}");
    let mount = device.folder.path().join("mount");
    std::fs::create_dir(&mount).unwrap();
    let at = mount.display().to_string();
    if output("mkfs.ext4", &["-q", &part]).is_some() && output("mount", &["-o", "ro", &part, &at]).is_some() {
        let said = device.refusal(Consent { destroy: vec!["mbr".into()], ..device.armed() });
        output("umount", &[&at]).unwrap();
        assert!(said.contains("p1 is mounted at"), "{said}");
    }
}

#[test]
fn a_link_or_node_that_is_swapped_after_the_check_leads_to_nobody_elses_data() {
    let (Some(mine), Some(theirs)) = (Loop::new(), Loop::new()) else { return };
    let before = theirs.sum();
    let link = mine.folder.path().join("disk");
    symlink(&mine.device, &link).unwrap();
    let mut drive = drive_at(&link, mine.armed());
    drive.check_consent(true).unwrap();
    std::fs::remove_file(&link).unwrap();
    symlink(&theirs.device, &link).unwrap();
    drive.open().unwrap();
    drive.begin(&whole(Op::Write)).unwrap();
    finish(&mut drive, &mut Tally::default());
    drive.close(false).unwrap();
    assert_eq!(theirs.sum(), before, "the link led elsewhere when it was opened");
    // A node that is another device when it is opened.
    let number = |device: &Path| {
        use std::os::unix::fs::MetadataExt;
        let n = std::fs::metadata(device).unwrap().rdev();
        (libc::major(n).to_string(), libc::minor(n).to_string())
    };
    let node = mine.folder.path().join("node");
    let make = |(major, minor): (String, String)| {
        output("mknod", &[&node.display().to_string(), "b", &major, &minor]).unwrap()
    };
    make(number(&mine.device));
    let mut drive = drive_at(&node, mine.armed());
    drive.check_consent(true).unwrap();
    std::fs::remove_file(&node).unwrap();
    make(number(&theirs.device));
    let said = drive.open().unwrap_err().to_string();
    assert!(said.contains("changed since it was looked at"), "{said}");
    assert_eq!(theirs.sum(), before);
}

#[test]
fn a_device_is_written_verified_and_read_without_arming() {
    let Some(device) = Loop::new() else { return };
    let mut drive = device.drive(device.armed());
    assert_eq!(drive.facts().capacity, Bytes(SIZE));
    drive.check_consent(true).unwrap();
    drive.open().unwrap();
    let mut tally = Tally::default();
    drive.begin(&whole(Op::Write)).unwrap();
    finish(&mut drive, &mut tally);
    assert_eq!((tally.written, tally.errors), (Bytes(SIZE), 0));
    drive.flush().wait().unwrap().unwrap();
    let behind = Transfer { start: Bytes(SIZE), length: Bytes(MIB), budget: Bytes(MIB), ..whole(Op::Write) };
    assert!(matches!(drive.begin(&behind), Err(DriveError::Unusable { .. })), "behind its end");
    drive.close(false).unwrap();
    drop(drive);

    // What something else does to it behind our back: a bit, an old block, a block from elsewhere.
    let raw = File::options().read(true).write(true).open(&device.device).unwrap();
    let mut page = vec![0; 4096];
    raw.write_all_at(&[0x5a], 10 * MIB + 9000).unwrap();
    raw.read_exact_at(&mut page, 33 * MIB).unwrap();
    raw.write_all_at(&page, 20 * MIB + 4096).unwrap();
    raw.sync_all().unwrap();
    drop(raw);

    // Reading needs no leave, and no exclusive opening.
    let _held = exclusive(&device.device);
    let mut drive = device.drive(Consent::default());
    drive.check_consent(false).unwrap();
    drive.open().unwrap();
    assert!(drive.begin(&whole(Op::Write)).is_err(), "it is open for reading only");
    assert!(drive.discard(Bytes(0), Bytes(MIB)).wait().unwrap().is_err());
    let mut tally = Tally::default();
    drive.begin(&Transfer { verify: true, ..whole(Op::Read) }).unwrap();
    finish(&mut drive, &mut tally);
    assert_eq!((tally.read, tally.errors), (Bytes(SIZE), 0));
    tally.mismatches.sort_by_key(|m| m.offset);
    let found: Vec<_> =
        tally.mismatches.iter().map(|m| (m.offset.0, m.length.0, m.wrong, m.belongs)).collect();
    assert_eq!(
        found,
        [
            (10 * MIB + 8192, 4096, Wrong::Corrupt, None),
            (20 * MIB + 4096, 4096, Wrong::Misplaced, Some(Bytes(33 * MIB))),
        ]
    );
}

#[test]
fn workers_and_mixes_move_their_budget_and_a_later_pass_is_told_from_an_earlier() {
    let Some(device) = Loop::new() else { return };
    let mut drive = device.drive(device.armed());
    drive.check_consent(true).unwrap();
    drive.open().unwrap();
    let mut tally = Tally::default();
    drive
        .begin(&Transfer { load: Workload { workers: 3, ..whole(Op::Write).load }, ..whole(Op::Write) })
        .unwrap();
    finish(&mut drive, &mut tally);
    assert_eq!((tally.written, tally.ops), (Bytes(SIZE), SIZE / MIB));
    assert!(drive.engine().starts_with("3 workers"), "{}", drive.engine());
    // Half of it again, as the second pass; a verifying read that wants the second finds the rest stale.
    let half = Transfer { length: Bytes(SIZE / 2), budget: Bytes(SIZE / 2), pass: 2, ..whole(Op::Write) };
    drive.begin(&half).unwrap();
    finish(&mut drive, &mut Tally::default());
    for (pass, stale) in [(1, 0), (2, SIZE / 2)] {
        let mut tally = Tally::default();
        drive.begin(&Transfer { verify: true, pass, ..whole(Op::Read) }).unwrap();
        finish(&mut drive, &mut tally);
        let wrong: u64 = tally.mismatches.iter().map(|m| m.length.0).sum();
        assert_eq!(wrong, stale, "pass {pass}");
        assert!(tally.mismatches.iter().all(|m| m.wrong == Wrong::Stale && m.offset.0 >= SIZE / 2));
    }
    let mut tally = Tally::default();
    let mix = Transfer {
        load: Workload {
            op: Op::Mixed,
            reads: 0.5,
            access: Access::Random,
            block: Bytes(4096),
            workers: 2,
            depth: 8,
            ..whole(Op::Write).load
        },
        start: Bytes(8 * MIB),
        length: Bytes(16 * MIB),
        budget: Bytes(12 * MIB),
        pass: 3,
        ..whole(Op::Write)
    };
    drive.begin(&mix).unwrap();
    finish(&mut drive, &mut tally);
    assert_eq!(tally.read.0 + tally.written.0, 12 * MIB);
    assert!(tally.read.0 > 5 * MIB && tally.written.0 > 5 * MIB, "{tally:?}");
    assert!(tally.first.unwrap() >= Bytes(8 * MIB) && tally.reach.unwrap() <= Bytes(24 * MIB));
    drive.close(false).unwrap();
}

#[test]
fn a_discard_stays_in_its_range() {
    let Some(device) = Loop::new() else { return };
    let mut drive = device.drive(device.armed());
    drive.check_consent(true).unwrap();
    drive.open().unwrap();
    drive.begin(&whole(Op::Write)).unwrap();
    finish(&mut drive, &mut Tally::default());
    match drive.discard(Bytes(16 * MIB), Bytes(32 * MIB)).wait().unwrap() {
        Ok(()) => {}
        Err(DriveError::NotOffered { .. }) => {
            common::skipped("this loop device takes no discards");
            return;
        }
        Err(e) => panic!("{e}"),
    }
    assert!(drive.discard(Bytes(SIZE - MIB), Bytes(2 * MIB)).wait().unwrap().is_err());
    let mut tally = Tally::default();
    drive.begin(&Transfer { verify: true, ..whole(Op::Read) }).unwrap();
    finish(&mut drive, &mut tally);
    let wrong: u64 = tally.mismatches.iter().map(|m| m.length.0).sum();
    assert_eq!(wrong, 32 * MIB);
    assert!(tally.mismatches.iter().all(|m| m.offset.0 >= 16 * MIB && m.offset.0 + m.length.0 <= 48 * MIB));
}

/// Bug: blocks of a failed operation that worked by themselves were given an older pass, and then verified as stale.
#[test]
fn blocks_that_narrowing_wrote_again_verify_like_the_rest_of_their_pass() {
    let Some(device) = Loop::new() else { return };
    let mut drive = device.drive(device.armed());
    drive.check_consent(true).unwrap();
    drive.open().unwrap();
    drive.begin(&whole(Op::Write)).unwrap();
    finish(&mut drive, &mut Tally::default());
    let (offset, length) = (Bytes(7 * MIB), Bytes(MIB));
    let failure = Failure { op: Op::Write, offset, length, errno: Some(libc::EIO), took: Nanos(0) };
    let narrowed = drive.narrow(&failure, Nanos::from_secs(60.0)).wait().unwrap();
    assert!(narrowed.took > Nanos(0));
    assert_eq!(narrowed, Narrowed { complete: true, took: narrowed.took, ..Narrowed::default() });
    let mut tally = Tally::default();
    drive.begin(&Transfer { verify: true, ..whole(Op::Read) }).unwrap();
    finish(&mut drive, &mut tally);
    assert_eq!((tally.read, tally.mismatches), (Bytes(SIZE), Vec::new()));
}
