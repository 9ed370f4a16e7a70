//! Drives, their links and their uses, found in a made-up tree of the kernel's files.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_core::{Bytes, Celsius};
use mile_drive::block::{Found, Transport, Use, discover};
use mile_drive::sysfs::Roots;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

/// Builds the tree that a fixture describes.
fn plant(name: &str) -> (tempfile::TempDir, Roots) {
    let folder = tempfile::tempdir().unwrap();
    let text = fs::read_to_string(Path::new("tests/fixtures").join(name)).unwrap();
    for line in text.lines().filter(|l| !l.starts_with('#') && !l.is_empty()) {
        let place = |path: &str| {
            let path = folder.path().join(path.trim());
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            path
        };
        if let Some((path, to)) = line.split_once(" -> ") {
            symlink(to, place(path)).unwrap();
        } else if let Some((path, content)) = line.split_once(" =") {
            let content = content.strip_prefix(' ').unwrap_or(content);
            let content = content.replace("\\n", "\n").replace("\\0\\x80\\0\\x08", "\0\u{7f}\0\u{8}");
            fs::write(place(path), format!("{content}\n")).unwrap();
        } else {
            fs::create_dir_all(place(line)).unwrap();
        }
    }
    let roots = Roots::below(folder.path());
    (folder, roots)
}

fn drives() -> (tempfile::TempDir, Roots, Vec<Found>) {
    let (folder, roots) = plant("workshop.tree");
    let found = discover(&roots);
    (folder, roots, found)
}

fn named<'a>(found: &'a [Found], name: &str) -> &'a Found {
    found.iter().find(|f| f.name == name).unwrap_or_else(|| panic!("{name} is not among {found:?}"))
}

#[test]
fn drives_are_found_and_what_is_no_drive_is_not() {
    let (_folder, _, found) = drives();
    let names: Vec<&str> = found.iter().map(|f| f.name.as_str()).collect();
    assert_eq!(names, ["sda", "sdb", "sdc", "vda", "loop0", "mmcblk0", "nvme0n1"]);
    let transports: Vec<Transport> = found.iter().map(|f| f.transport).collect();
    use Transport::*;
    assert_eq!(transports, [Sata, Usb, Sas, Virtio, Loop, Mmc, Nvme]);
}

#[test]
fn identity_geometry_and_names_are_read() {
    let (_folder, roots, found) = drives();
    let nvme = named(&found, "nvme0n1");
    assert_eq!(nvme.model.as_deref(), Some("Merrow K2 2TB"));
    assert_eq!((nvme.serial.as_deref(), nvme.firmware.as_deref()), (Some("MK2-0417-00312"), Some("2.14")));
    assert_eq!(nvme.capacity, Bytes(3_907_029_168 * 512));
    assert_eq!((nvme.logical_block, nvme.physical_block), (Bytes(512), Bytes(4096)));
    assert!(nvme.discard && !nvme.rotational);
    assert_eq!(nvme.stable_names, ["nvme-Merrow_K2_2TB_MK2-0417-00312", "nvme-eui.0011"]);
    assert_eq!(nvme.temperature, Some(Celsius(42.0)));
    assert_eq!(nvme.sensor_limits, (Some(Celsius(78.0)), Some(Celsius(85.0))));
    assert_eq!(nvme.controller(), Some(roots.dev.join("nvme0")));
    let parts: Vec<_> = nvme.partitions.iter().map(|p| (p.name.as_str(), p.start, p.size)).collect();
    assert_eq!(parts[0], ("nvme0n1p1", Bytes(2048 * 512), Bytes(1_024_000 * 512)));
    assert_eq!(parts.len(), 2);
    let disk = named(&found, "sda");
    assert_eq!((disk.model.as_deref(), disk.firmware.as_deref()), (Some("Keelson 8TB"), Some("K811")));
    assert!(disk.rotational && disk.zoned == "host-aware");
    assert_eq!(disk.serial.as_deref(), Some("KE-00771"), "from the vital product data");
    assert_eq!(named(&found, "sdb").serial.as_deref(), Some("SP512-9"), "of the USB device");
    assert_eq!(named(&found, "vda").serial.as_deref(), Some("VD-1"));
    let card = named(&found, "mmcblk0");
    assert_eq!((card.model.as_deref(), card.firmware.as_deref()), (Some("CARD32"), Some("0x10")));
    let loop0 = named(&found, "loop0");
    assert_eq!(loop0.backing.as_deref(), Some(Path::new("/home/quay/image")));
    assert_eq!(loop0.arming_word(), "loop0", "it has no serial number");
    assert_eq!(nvme.arming_word(), "MK2-0417-00312");
}

#[test]
fn a_degraded_link_is_said_with_what_it_costs() {
    let (_folder, _, found) = drives();
    let link = |name: &str| named(&found, name).link.clone().unwrap();
    let nvme = link("nvme0n1");
    assert_eq!((nvme.negotiated.as_str(), nvme.possible.as_str()), ("PCIe 3.0 x2", "PCIe 4.0 x4"));
    assert!(nvme.is_degraded());
    assert_eq!(
        nvme.sentence(),
        "PCIe 3.0 x2, degraded: drive and port could do PCIe 4.0 x4; it carries at most 1,969 MB/s instead of 7,877 MB/s"
    );
    let sata = link("sda");
    assert_eq!((sata.negotiated.as_str(), sata.possible.as_str()), ("SATA 3 Gb/s", "SATA 6 Gb/s"));
    assert!(sata.is_degraded() && (sata.ceiling.0 - 300e6).abs() < 1.0);
    let usb = link("sdb");
    assert_eq!((usb.negotiated.as_str(), usb.possible.as_str()), ("USB 480 Mb/s", "USB 5 Gb/s"));
    assert!(usb.is_degraded(), "{usb:?}");
    let sas = link("sdc");
    assert_eq!((sas.negotiated.as_str(), sas.possible.as_str()), ("SAS 6 Gb/s", "SAS 12 Gb/s"));
    assert_eq!(named(&found, "loop0").link, None);
}

#[test]
fn a_slow_port_is_no_degraded_link_but_is_said() {
    let (folder, roots) = plant("workshop.tree");
    let port = folder.path().join("sys/devices/pci0000:00/0000:00:01.0");
    for (file, text) in [("max_link_speed", "8.0 GT/s PCIe"), ("max_link_width", "2")] {
        fs::write(port.join(file), text).unwrap();
    }
    let found = discover(&roots);
    let link = named(&found, "nvme0n1").link.clone().unwrap();
    assert!(!link.is_degraded());
    assert!(link.sentence().contains("all that its port (PCIe 3.0 x2) can do"), "{}", link.sentence());
    fs::write(port.join("0000:01:00.0/current_link_width"), "0").unwrap();
    assert_eq!(named(&discover(&roots), "nvme0n1").link, None, "a width of 0 is no width");
}

#[test]
fn what_is_in_use_is_said() {
    let (_folder, _, found) = drives();
    let uses = |name: &str| named(&found, name).uses.clone();
    assert_eq!(
        uses("nvme0n1"),
        [
            Use::Mounted { device: "nvme0n1p1".into(), at: "/boot".into(), kind: "vfat".into() },
            Use::Held { device: "nvme0n1p2".into(), by: "dm-0 (archive)".into() },
        ]
    );
    assert_eq!(
        uses("sda"),
        [Use::Mounted { device: "sda".into(), at: "/data old".into(), kind: "btrfs".into() }],
        "known by its source, as its number is one of the file system's own"
    );
    assert_eq!(uses("vda"), [Use::Swap { device: "vda".into() }]);
    assert!(uses("sdb").is_empty());
    assert!(named(&found, "sdb").objections()[0].contains("refuses writes"));
    assert!(named(&found, "sdc").objections().is_empty());
}

#[test]
fn drives_that_leave_disappear() {
    let (_folder, roots, found) = drives();
    fs::remove_file(roots.sys.join("block/sdb")).unwrap();
    let left = discover(&roots);
    assert_eq!(left.len(), found.len() - 1);
    assert!(left.iter().all(|f| f.name != "sdb"));
    assert!(discover(&Roots::below(Path::new("/nonexistent"))).is_empty());
}

/// An array over a partition and a disk, and an encrypted volume over that, in the tree of [`drives`].
fn stack(folder: &Path) -> Vec<Found> {
    let block = |name: &str| folder.join("sys/devices/virtual/block").join(name);
    for (name, dev, level, below) in [
        ("md0", "9:0", ("md/level", "raid0"), &["nvme0n1p1", "sdc"][..]),
        ("dm-7", "253:7", ("dm/name", "vault"), &["md0"]),
    ] {
        for (file, content) in [("dev", dev), ("size", "4096"), ("queue/logical_block_size", "512"), level] {
            let path = block(name).join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, format!("{content}\n")).unwrap();
        }
        fs::create_dir_all(block(name).join("slaves")).unwrap();
        for one in below {
            let disk = fs::canonicalize(folder.join("sys/block").join(one.trim_end_matches("p1"))).unwrap();
            let at = if one.ends_with("p1") { disk.join(one) } else { disk };
            symlink(&at, block(name).join("slaves").join(one)).unwrap();
            fs::create_dir_all(at.join("holders")).unwrap();
            symlink(block(name), at.join("holders").join(name)).unwrap();
        }
        symlink(block(name), folder.join("sys/block").join(name)).unwrap();
    }
    fs::write(block("dm-7").join("dm/uuid"), "CRYPT-LUKS2-0815-vault\n").unwrap();
    discover(&Roots::below(folder))
}

#[test]
fn a_stacked_device_is_found_with_the_drives_below_it_their_links_and_temperatures() {
    let (folder, roots, _) = drives();
    let found = stack(folder.path());
    let (array, vault) = (named(&found, "md0"), named(&found, "dm-7"));
    assert_eq!((array.transport, array.capacity), (Transport::Array, Bytes(4096 * 512)));
    assert_eq!((array.kind(), vault.kind()), ("array".to_owned(), "mapped device".to_owned()));
    assert_eq!(array.model.as_deref(), Some("raid0 over nvme0n1 and sdc"));
    assert_eq!(vault.model.as_deref(), Some("encrypted volume vault over nvme0n1 and sdc"));
    for device in [array, vault] {
        let names: Vec<&str> = device.members.iter().map(|m| m.name.as_str()).collect();
        assert_eq!(names, ["nvme0n1", "sdc"], "the drive of a partition, each once");
        assert_eq!(device.members[0].link, named(&found, "nvme0n1").link);
        assert_eq!(device.members[0].temperature, Some(Celsius(42.0)));
        assert_eq!(device.members[1].temperature, None);
        assert_eq!(device.temperature, Some(Celsius(42.0)), "the warmest of them");
    }
    let line = array.members[0].line();
    assert!(line.starts_with("nvme0n1, Merrow K2 2TB, 42 °C, PCIe 3.0 x2, degraded"), "{line}");
    // Nobody may write to the array past the volume on it, nor to what is below either.
    let objections = |f: &Found| f.objections().join("; ");
    assert!(objections(array).contains("dm-7"), "{}", objections(array));
    assert!(!objections(named(&found, "sdc")).is_empty());
    assert!(
        !objections(vault).contains("held by"),
        "what it is built on is no use by somebody else: {}",
        objections(vault)
    );
    // A drive is built on nothing, and the made-up tree has one mapped device without a size.
    assert!(named(&found, "sda").members.is_empty());
    assert!(found.iter().all(|f| f.name != "dm-0"));
    let stacked = mile_drive::block::drive::identity(array, &mile_drive::block::probe::Probe::default());
    assert_eq!(stacked.model, "raid0 over nvme0n1 and sdc");
    drop(roots);
}
