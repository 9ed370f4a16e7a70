//! Dangerous targets, each in two ways: dangerous when it is checked, and harmless then and dangerous when it is opened. Nothing of any
//! of them may change, by a checksum of the whole device.
//!
//! Needs the rights to set up loop devices. The marks are from the published formats, written down here by hand and not taken from the
//! program.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    clippy::expect_used,
    reason = "a test that cannot go on has failed"
)]

mod common;

use common::{Loop, drive_at, output};
use mile_drive::Drive;
use mile_drive::block::Consent;
use std::fs::File;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// Bytes of a device: enough for all places that are looked at.
const SIZE: u64 = 16 << 20;

/// Undoes something when it is dropped.
struct Undo(Vec<(&'static str, Vec<String>)>, Option<Child>);

impl Drop for Undo {
    fn drop(&mut self) {
        if let Some(child) = &mut self.1 {
            let _ = child.kill();
            let _ = child.wait();
        }
        for (program, args) in self.0.drain(..).rev() {
            let args: Vec<&str> = args.iter().map(String::as_str).collect();
            let mut tries = 0..100;
            while output(program, &args).is_none() && tries.next().is_some() {
                std::thread::sleep(std::time::Duration::from_millis(20));
            }
        }
    }
}

fn must(program: &str, args: &[&str]) -> String {
    output(program, args).unwrap_or_else(|| panic!("{program} {args:?}"))
}

fn write(device: &Path, at: u64, bytes: &[u8]) {
    // As another program would, through the host's cache.
    let file = File::options().write(true).open(device).unwrap();
    file.write_all_at(bytes, at).unwrap();
    file.sync_all().unwrap();
}

fn loop_over(path: &Path) -> (PathBuf, Undo) {
    let device = must("losetup", &["--find", "--show", &path.display().to_string()]);
    let undo = Undo(vec![("losetup", vec!["--detach".into(), device.clone()])], None);
    (device.into(), undo)
}

fn mounted(device: &Path, folder: &Path, options: &str) -> Undo {
    let at = folder.join(format!("mnt-{options}"));
    std::fs::create_dir_all(&at).unwrap();
    must("mount", &["-o", options, &device.display().to_string(), &at.display().to_string()]);
    Undo(vec![("umount", vec![at.display().to_string()])], None)
}

fn file_system(device: &Path) {
    must("mkfs.ext4", &["-q", "-F", &device.display().to_string()]);
}

fn holding(script: &str) -> Child {
    let mut child =
        Command::new("sh").args(["-c", script]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    // It says when it is there.
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.take().unwrap()), &mut line)
        .unwrap();
    assert_eq!(line.trim(), "there", "{script}");
    child
}

/// Makes a device dangerous by its use; gives how to undo it.
type Use = fn(&Loop) -> Vec<Undo>;

/// Uses of a device, or of what shares storage with it.
fn uses() -> Vec<(&'static str, Use)> {
    vec![
        ("mounted", |l| {
            file_system(&l.device);
            vec![mounted(&l.device, l.folder.path(), "rw")]
        }),
        ("mounted read-only", |l| {
            file_system(&l.device);
            vec![mounted(&l.device, l.folder.path(), "ro")]
        }),
        ("mounted in another space of mounts", |l| {
            file_system(&l.device);
            let at = l.folder.path().join("hidden");
            std::fs::create_dir_all(&at).unwrap();
            let script = format!(
                "exec unshare -m sh -c 'mount {} {} && echo there && read wait'",
                l.device.display(),
                at.display()
            );
            vec![Undo(vec![], Some(holding(&script)))]
        }),
        ("swap", |l| {
            must("mkswap", &[&l.node(), "40"]);
            if output("swapon", &[&l.node()]).is_none() {
                // A kernel without swap cannot be given any.
                return Vec::new();
            }
            vec![Undo(vec![("swapoff", vec![l.node()])], None)]
        }),
        ("held exclusively", |l| {
            let file = File::options().read(true).custom_flags(libc::O_EXCL).open(&l.device).unwrap();
            std::mem::forget(file.try_clone().unwrap());
            vec![]
        }),
        ("open for writing in another program", |l| {
            vec![Undo(
                vec![],
                Some(holding(&format!("exec 9<>{} && echo there && read wait", l.device.display()))),
            )]
        }),
        ("its file open for writing in another program", |l| {
            let image = l.folder.path().join("image");
            vec![Undo(
                vec![],
                Some(holding(&format!("exec 9<>{} && echo there && read wait", image.display()))),
            )]
        }),
        ("carries a mounted loop device", |l| {
            file_system(&l.device);
            let (upper, undo) = loop_over(&l.device);
            vec![undo, mounted(&upper, l.folder.path(), "rw")]
        }),
        ("carries a loop device", |l| vec![loop_over(&l.device).1]),
        ("a second loop device over its file is mounted", |l| {
            file_system(&l.device);
            let (other, undo) = loop_over(&l.folder.path().join("image"));
            vec![undo, mounted(&other, l.folder.path(), "rw")]
        }),
        ("a loop device over a second one over its file is mounted", |l| {
            file_system(&l.device);
            let (second, a) = loop_over(&l.folder.path().join("image"));
            let (third, b) = loop_over(&second);
            vec![a, b, mounted(&third, l.folder.path(), "rw")]
        }),
        ("a second loop device over its file is open for writing", |l| {
            let (other, undo) = loop_over(&l.folder.path().join("image"));
            vec![
                undo,
                Undo(
                    vec![],
                    Some(holding(&format!("exec 9<>{} && echo there && read wait", other.display()))),
                ),
            ]
        }),
        ("read-only", |l| {
            must("blockdev", &["--setro", &l.node()]);
            // The kernel keeps it with the number of the device, for whoever has that next.
            vec![Undo(vec![("blockdev", vec!["--setrw".into(), l.node()])], None)]
        }),
    ]
}

/// Marks of formats: name for `--destroy`, place (from the end where negative), bytes.
fn marks() -> Vec<(&'static str, i64, Vec<u8>)> {
    let mut mbr = vec![0; 512];
    (mbr[510], mbr[511], mbr[450], mbr[458]) = (0x55, 0xaa, 0x83, 1);
    let b = |bytes: &[u8]| bytes.to_vec();
    vec![
        ("ext", 0x438, b(&[0x53, 0xef])),
        ("xfs", 0, b(b"XFSB")),
        ("btrfs", 0x10040, b(b"_BHRfS_M")),
        ("f2fs", 0x400, b(&[0x10, 0x20, 0xf5, 0xf2])),
        ("ntfs", 3, b(b"NTFS    ")),
        ("exfat", 3, b(b"EXFAT   ")),
        ("fat", 82, b(b"FAT32   ")),
        ("luks", 0, b(b"LUKS\xba\xbe")),
        ("luks", 0x4000, b(b"SKUL\xba\xbe")),
        ("luks", 0x40_0000, b(b"SKUL\xba\xbe")),
        ("swap", 4086, b(b"SWAPSPACE2")),
        ("mdraid", 4096, b(&[0xfc, 0x4e, 0x2b, 0xa9])),
        ("lvm", 512, [&b"LABELONE"[..], &[0; 16], b"LVM2 001"].concat()),
        ("zfs", 128 << 10, b(&[0x0c, 0xb1, 0xba, 0, 0, 0, 0, 0])),
        ("bcache", 4120, b(&[0xc6, 0x85, 0x73, 0xf6, 0x4e, 0x1a, 0x45, 0xca])),
        ("bcachefs", 4120, b(&[0xc6, 0x85, 0x73, 0xf6, 0x66, 0xce, 0x90, 0xa9])),
        ("gpt", 512, b(b"EFI PART")),
        ("gpt", -512, b(b"EFI PART")),
        ("mbr", 0, mbr),
        ("iso9660", 0x8001, b(b"CD001")),
        ("squashfs", 0, b(b"hsqs")),
        ("hfs", 1024, b(b"H+")),
        ("apfs", 32, b(b"NXSB")),
        ("reiserfs", 0x10034, b(b"ReIsEr")),
        ("jfs", 0x8000, b(b"JFS1")),
        ("bitlocker", 3, b(b"-FVE-FS-")),
        ("refs", 3, b(b"ReFS\0\0\0\0")),
        ("bluestore", 0, b(b"bluestore block device\n")),
        ("asm", 32, b(b"ORCLDISK")),
        ("ddf", -512, b(&[0xde, 0x11, 0xde, 0x11])),
        ("imsm", -1024, b(b"Intel Raid ISM Cfg Sig. ")),
        ("drbd", -4096 + 60, b(&[0x83, 0x74, 0x02, 0x6d])),
        ("vmfs", 0x10_0000, b(&[0x0d, 0xd0, 0x01, 0xc0])),
        ("nilfs", 0x406, b(&[0x34, 0x34])),
        ("ufs", 65_536 + 1372, b(&[0x19, 0x01, 0x54, 0x19])),
        ("ufs", 8192 + 1372, b(&[0x54, 0x19, 0x01, 0x00])),
        ("data", 300_000, b(b"Lantern Shoal, node 4: depth 212 m")),
        ("data", -5000, b(&[0x5a; 64])),
    ]
}

/// Neither way in changes a byte: dangerous from the start, and dangerous between check and open.
fn stays_as_it_is(name: &str, consent: &dyn Fn(&Loop) -> Consent, make: &dyn Fn(&Loop) -> Vec<Undo>) {
    for swapped in [false, true] {
        let device = Loop::sized(SIZE).expect("loop devices were there just now");
        let mut drive = drive_at(&device.device, consent(&device));
        if swapped {
            drive.check_consent(true).unwrap_or_else(|e| panic!("{name}: harmless at first: {e}"));
        }
        let undo = make(&device);
        must("sync", &[]);
        let before = device.sum();
        if !swapped {
            drive = drive_at(&device.device, consent(&device));
            let said = drive.check_consent(true).expect_err(name).to_string();
            assert!(said.contains("Nothing was written") || said.contains("exclusively"), "{name}: {said}");
        }
        let said = drive.open().expect_err(name).to_string();
        assert!(!said.is_empty(), "{name}");
        drop(drive);
        drop(undo);
        // Unmounting writes; so what counts is what was there while it was in use, through the cache and past it.
        if !name.contains("mounted") {
            assert_eq!(device.sum(), before, "{name}, swapped {swapped}: {said}");
        } else {
            must("e2fsck", &["-fn", &device.node()]);
        }
    }
}

#[test]
fn devices_in_use_whatever_the_way_are_not_written_to() {
    if Loop::sized(SIZE).is_none() {
        return;
    }
    // Everything is armed and named: a use counts whatever is allowed.
    let all = |l: &Loop| Consent { destroy: vec!["ext".into(), "swap".into(), "data".into()], ..l.armed() };
    for (name, make) in uses() {
        if name == "held exclusively" {
            // Only the open finds that out; the holder is this process, and ends with the test.
            let device = Loop::sized(SIZE).unwrap();
            let _undo = make(&device);
            let before = device.sum();
            let mut drive = drive_at(&device.device, all(&device));
            drive.check_consent(true).unwrap();
            assert!(drive.open().unwrap_err().to_string().contains("exclusively"));
            assert_eq!(device.sum(), before);
            continue;
        }
        stays_as_it_is(name, &all, &make);
    }
}

#[test]
fn devices_that_carry_anything_that_was_not_named_are_not_written_to() {
    if Loop::sized(SIZE).is_none() {
        return;
    }
    for (name, place, bytes) in marks() {
        let make = |l: &Loop| {
            let at = if place < 0 { SIZE as i64 + place } else { place };
            write(&l.device, at as u64, &bytes);
            Vec::new()
        };
        stays_as_it_is(name, &Loop::armed, &make);
        // Named, it may be written over.
        let device = Loop::sized(SIZE).unwrap();
        make(&device);
        let consent = Consent { destroy: vec![name.into()], ..device.armed() };
        let mut drive = drive_at(&device.device, consent);
        drive.check_consent(true).unwrap_or_else(|e| panic!("{name} at {place}: {e}"));
        drive.open().unwrap_or_else(|e| panic!("{name} at {place}: {e}"));
        drive.close(false).unwrap();
    }
}

/// Finding 5 of the attack: a loop device over a mounted partition, and a drive whose partition carries a mounted loop device.
#[test]
fn storage_is_found_in_use_through_partitions_and_loop_devices() {
    let Some(disk) = Loop::sized(SIZE) else { return };
    let table = "label: dos\nstart=2048, type=83\n";
    let mut sfdisk = Command::new("sfdisk")
        .args(["-q", &disk.node()])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("sfdisk comes with util-linux");
    std::io::Write::write_all(&mut sfdisk.stdin.take().unwrap(), table.as_bytes()).unwrap();
    assert!(sfdisk.wait().unwrap().success());
    if output("partx", &["--add", &disk.node()]).is_none()
        && output("partx", &["--update", &disk.node()]).is_none()
    {
        panic!("partitions of a loop device cannot be set up");
    }
    let part = PathBuf::from(format!("{}p1", disk.node()));
    let undo = Undo(vec![("partx", vec!["--delete".into(), disk.node()])], None);
    assert!(part.exists(), "{part:?}");
    file_system(&part);
    let all = Consent {
        destroy: vec!["ext".into(), "mbr".into(), "partitions".into(), "data".into()],
        ..disk.armed()
    };
    {
        // A loop device over the partition, mounted: the disk below must not be written to.
        let (upper, _a) = loop_over(&part);
        let _b = mounted(&upper, disk.folder.path(), "rw");
        let said = drive_at(&disk.device, all.clone()).check_consent(true).unwrap_err().to_string();
        assert!(said.contains("mounted"), "{said}");
    }
    {
        // The partition is mounted: a loop device over it must not be written to.
        let _b = mounted(&part, disk.folder.path(), "rw");
        let (upper, _a) = loop_over(&part);
        let name = upper.file_name().unwrap().to_string_lossy().into_owned();
        let consent = Consent { arm: Some(name), ..all.clone() };
        let said = drive_at(&upper, consent).check_consent(true).unwrap_err().to_string();
        assert!(said.contains("mounted"), "{said}");
    }
    drop(undo);
}
