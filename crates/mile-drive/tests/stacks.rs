//! Stacks of devices that this kernel may not have: mapped devices, arrays, caches in front of disks, devices over a network, compressed memory
//! with a disk behind it, two paths to one drive. The trees are laid out as the kernel documents them (Documentation/ABI/testing/sysfs-block and
//! sysfs-devices-block), and who must be refused follows from who would lose data.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_drive::block::stack::Stack;
use mile_drive::block::uses::Tables;
use mile_drive::sysfs::Roots;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

/// A system whose devices are told one by one.
struct System {
    folder: tempfile::TempDir,
    mounts: String,
    swaps: String,
}

impl System {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        for part in ["sys/block", "sys/devices/virtual/block", "sys/dev/block", "proc/self", "dev/mapper"] {
            fs::create_dir_all(folder.path().join(part)).unwrap();
        }
        let swaps = "Filename Type Size Used Priority\n".to_owned();
        Self { folder, mounts: String::new(), swaps }
    }

    fn home(&self, name: &str) -> PathBuf {
        // A partition lies in the folder of its disk.
        let all = self.folder.path().join("sys/devices/virtual/block");
        match fs::read_dir(&all).unwrap().flatten().find(|d| d.path().join(name).exists()) {
            Some(disk) => disk.path().join(name),
            None => all.join(name),
        }
    }

    fn at(&self, folder: &Path, number: &str) {
        for part in ["holders", "slaves"] {
            fs::create_dir_all(folder.join(part)).unwrap();
        }
        fs::write(folder.join("dev"), format!("{number}\n")).unwrap();
        let name = folder.file_name().unwrap();
        fs::write(self.folder.path().join("dev").join(name), "").unwrap();
    }

    fn disk(&self, name: &str, number: &str) {
        let folder = self.home(name);
        self.at(&folder, number);
        symlink(&folder, self.folder.path().join("sys/block").join(name)).unwrap();
    }

    fn partition(&self, disk: &str, name: &str, number: &str) {
        let folder = self.home(disk).join(name);
        self.at(&folder, number);
        fs::write(folder.join("partition"), "1\n").unwrap();
    }

    /// `upper` is built on `lower`, as both of their folders say.
    fn built(&self, upper: &str, lower: &[&str]) {
        for lower in lower {
            symlink(self.home(lower), self.home(upper).join("slaves").join(lower)).unwrap();
            symlink(self.home(upper), self.home(lower).join("holders").join(upper)).unwrap();
        }
    }

    fn mounted(&mut self, number: &str, source: &str) {
        self.mounts += &format!("30 1 {number} / /at/{} rw - ext4 {source} rw\n", self.mounts.len());
    }

    fn swap(&mut self, name: &str) {
        self.swaps += &format!("/dev/{name} partition 1000 0 -2\n");
    }

    /// Who uses what shares storage with a device, in words.
    fn uses(&self, number: &str) -> Vec<String> {
        fs::write(self.folder.path().join("proc/self/mountinfo"), &self.mounts).unwrap();
        fs::write(self.folder.path().join("proc/swaps"), &self.swaps).unwrap();
        let roots = Roots::below(self.folder.path());
        let tables = Tables::read(&roots);
        let related = Stack::read(&roots).related(&roots, &tables, number);
        related.uses.iter().map(ToString::to_string).collect()
    }

    fn refused(&self, what: &str, number: &str, because: &str) {
        let uses = self.uses(number);
        assert!(uses.iter().any(|u| u.contains(because)), "{what}: {because} is not among {uses:?}");
    }

    fn free(&self, what: &str, number: &str) {
        assert_eq!(self.uses(number), Vec::<String>::new(), "{what}");
    }
}

/// A volume group on a partition: one volume with an encrypted file system, one that nobody uses; the other partition is free.
#[test]
fn mapped_devices_are_followed_both_ways() {
    let mut s = System::new();
    s.disk("sda", "8:0");
    s.partition("sda", "sda1", "8:1");
    s.partition("sda", "sda2", "8:2");
    for (name, number) in [("dm-0", "253:0"), ("dm-1", "253:1"), ("dm-2", "253:2")] {
        s.disk(name, number);
    }
    s.built("dm-0", &["sda1"]);
    s.built("dm-1", &["sda1"]);
    s.built("dm-2", &["dm-0"]);
    s.mounted("253:2", "/dev/mapper/home");
    for (what, number) in
        [("the disk", "8:0"), ("the member", "8:1"), ("the volume below", "253:0"), ("itself", "253:2")]
    {
        s.refused(what, number, "dm-2 is mounted");
    }
    // Their ranges on the member are known to their maker only.
    s.refused("the other volume", "253:1", "dm-2 is mounted");
    s.free("the other partition", "8:2");
}

#[test]
fn members_of_an_array_and_its_partitions_are_one() {
    let mut s = System::new();
    for (name, number) in [("sdb", "8:16"), ("sdc", "8:32"), ("sdd", "8:48"), ("md127", "9:127")] {
        s.disk(name, number);
    }
    s.partition("md127", "md127p1", "259:0");
    s.partition("md127", "md127p2", "259:1");
    s.built("md127", &["sdb", "sdc"]);
    s.mounted("259:1", "/dev/md127p2");
    for (what, number) in [("a member", "8:16"), ("the other member", "8:32"), ("the array", "9:127")] {
        s.refused(what, number, "md127p2 is mounted");
    }
    s.free("another disk", "8:48");
}

#[test]
fn a_cache_in_front_of_a_disk_is_followed_to_both() {
    let mut s = System::new();
    for (name, number) in [("sde", "8:64"), ("nvme1n1", "259:5"), ("bcache0", "252:0")] {
        s.disk(name, number);
    }
    s.built("bcache0", &["sde", "nvme1n1"]);
    s.swap("bcache0");
    for (what, number) in [("the disk", "8:64"), ("the cache", "259:5"), ("the device on top", "252:0")] {
        s.refused(what, number, "bcache0 is in use as swap");
    }
}

#[test]
fn compressed_memory_and_devices_over_a_network_are_devices_like_others() {
    let mut s = System::new();
    for (name, number) in [("sdf", "8:80"), ("zram0", "254:0"), ("nbd0", "43:0"), ("nbd1", "43:32")] {
        s.disk(name, number);
    }
    fs::write(s.home("zram0").join("backing_dev"), "/dev/sdf\n").unwrap();
    s.swap("zram0");
    s.mounted("43:0", "/dev/nbd0");
    s.refused("the disk behind compressed memory", "8:80", "zram0 is in use as swap");
    s.refused("a device over a network", "43:0", "nbd0 is mounted");
    s.free("another of these", "43:32");
}

/// An array over a mapped device over a loop device over a disk, and a mounted file system at the very top.
#[test]
fn a_tall_stack_is_followed_from_the_bottom_to_the_top() {
    let mut s = System::new();
    s.disk("sdg", "8:96");
    s.partition("sdg", "sdg1", "8:97");
    s.partition("sdg", "sdg2", "8:98");
    for (name, number) in [("loop7", "7:7"), ("dm-5", "253:5"), ("md1", "9:1"), ("sdh", "8:112")] {
        s.disk(name, number);
    }
    fs::create_dir_all(s.home("loop7").join("loop")).unwrap();
    fs::write(s.home("loop7").join("loop/backing_file"), "/dev/sdg1\n").unwrap();
    s.built("dm-5", &["loop7"]);
    s.built("md1", &["dm-5", "sdh"]);
    s.mounted("9:1", "/dev/md1");
    for number in ["8:96", "8:97", "7:7", "253:5", "9:1", "8:112"] {
        s.refused(number, number, "md1 is mounted");
    }
    s.free("the other partition at the bottom", "8:98");
}

#[test]
fn two_paths_to_one_drive_are_one_drive() {
    let mut s = System::new();
    for (name, number, wwid) in [
        ("sdi", "8:128", "naa.5000c500a"),
        ("sdj", "8:144", "naa.5000c500a"),
        ("sdk", "8:160", "naa.5000c500b"),
    ] {
        s.disk(name, number);
        fs::create_dir_all(s.home(name).join("device")).unwrap();
        fs::write(s.home(name).join("device/wwid"), format!("{wwid}\n")).unwrap();
    }
    s.partition("sdj", "sdj1", "8:145");
    s.mounted("8:145", "/dev/sdj1");
    s.refused("the other path", "8:128", "sdj1 is mounted");
    s.free("another drive", "8:160");
}
