//! Where the kernel tells of its devices, and the disk under a file: which it is, its counters, its temperature.
//!
//! Everything is read below roots that tests replace.

use mile_core::{Bytes, Celsius, Nanos};
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// The folders through which the kernel tells of its devices.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Roots {
    /// `/sys`.
    pub sys: PathBuf,
    /// `/proc`.
    pub proc: PathBuf,
    /// `/dev`.
    pub dev: PathBuf,
}

impl Roots {
    /// Those of this system.
    pub fn system() -> Self {
        Self { sys: "/sys".into(), proc: "/proc".into(), dev: "/dev".into() }
    }

    /// `sys`, `proc` and `dev` below one folder.
    pub fn below(folder: &Path) -> Self {
        Self { sys: folder.join("sys"), proc: folder.join("proc"), dev: folder.join("dev") }
    }
}

/// The text of an attribute, without blanks around it; `None` where there is none.
pub(crate) fn text(file: impl AsRef<Path>) -> Option<String> {
    let bytes = fs::read(file).ok()?;
    let text =
        String::from_utf8_lossy(&bytes).trim_matches(|c: char| c.is_whitespace() || c == '\0').to_owned();
    (!text.is_empty()).then_some(text)
}

/// A number that stands at the start of an attribute.
pub(crate) fn number<T: std::str::FromStr>(file: impl AsRef<Path>) -> Option<T> {
    text(file)?.split_whitespace().next()?.parse().ok()
}

/// A block device as sysfs shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Disk {
    /// Its name: `nvme0n1`.
    pub name: String,
    /// Its folder.
    pub folder: PathBuf,
}

impl Disk {
    /// The whole disk that holds device `major:minor`; `None` where it is no block device (some file systems have
    /// devices of their own).
    pub fn of(sys: &Path, major: u32, minor: u32) -> Option<Self> {
        let mut folder = fs::canonicalize(sys.join(format!("dev/block/{major}:{minor}"))).ok()?;
        if folder.join("partition").exists() {
            folder = folder.parent()?.to_owned();
        }
        Some(Self { name: folder.file_name()?.to_str()?.to_owned(), folder })
    }

    /// Model, where the disk tells.
    pub fn model(&self) -> Option<String> {
        text(self.folder.join("device/model"))
    }

    /// The file of its composite temperature, in thousandths of a degree. NVMe drives and disks with the kernel's
    /// drivetemp have an hwmon folder below their device.
    pub fn temperature_file(&self) -> Option<PathBuf> {
        let device = self.folder.join("device");
        [device.join("hwmon"), device.clone()].iter().find_map(|folder| {
            let mut found: Vec<PathBuf> = fs::read_dir(folder)
                .ok()?
                .flatten()
                .filter(|e| e.file_name().to_string_lossy().starts_with("hwmon"))
                .map(|e| e.path().join("temp1_input"))
                .filter(|p| p.exists())
                .collect();
            found.sort();
            found.into_iter().next()
        })
    }
}

/// The counters of a disk, which are opened once and read with each sample.
#[derive(Debug)]
pub struct Counters {
    stat: File,
    first: Bytes,
}

impl Counters {
    /// Opens them; `None` where the disk has none.
    pub fn of(disk: &Disk) -> Option<Self> {
        let stat = File::open(disk.folder.join("stat")).ok()?;
        let mut counters = Self { stat, first: Bytes(0) };
        counters.first = counters.since_start()?.0;
        Some(counters)
    }

    /// Bytes that the disk has read and written since they were opened; `None` where it is gone.
    pub fn moved(&self) -> Option<Bytes> {
        let (now, _) = self.since_start()?;
        Some(Bytes(now.0.saturating_sub(self.first.0)))
    }

    /// Bytes that it has read and written since the system started, and for how long it has had operations underway, which the kernel counts in
    /// ms. The sector of these counters is always 512 bytes (the kernel's Documentation/block/stat.rst).
    pub fn since_start(&self) -> Option<(Bytes, Nanos)> {
        let mut buffer = [0; 512];
        let read = self.stat.read_at(&mut buffer, 0).ok()?;
        let text = std::str::from_utf8(&buffer[..read]).ok()?;
        let field = |i: usize| text.split_ascii_whitespace().nth(i)?.parse::<u64>().ok();
        let busy = Nanos(field(9)?.saturating_mul(1_000_000));
        Some((Bytes((field(2)? + field(6)?) * 512), busy))
    }
}

/// A temperature from an hwmon file.
///
/// An NVMe drive tells whole kelvins, of which 273 are 0 °C, as in its health log. The kernel takes off 273.15 K: what it says is 0.15 °C less.
pub fn temperature(file: &Path) -> Option<Celsius> {
    let thousandths: i64 = fs::read_to_string(file).ok()?.trim().parse().ok()?;
    let is_nvme = || fs::read_to_string(file.with_file_name("name")).is_ok_and(|n| n.trim() == "nvme");
    let whole = if thousandths.rem_euclid(1000) == 850 && is_nvme() { 150 } else { 0 };
    Some(Celsius((thousandths + whole) as f64 / 1000.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    fn tree() -> tempfile::TempDir {
        let sys = tempfile::tempdir().unwrap();
        let disk = sys.path().join("devices/pci/nvme/nvme0/nvme0n1");
        fs::create_dir_all(disk.join("nvme0n1p2")).unwrap();
        fs::create_dir_all(sys.path().join("devices/pci/nvme/nvme0/hwmon3")).unwrap();
        fs::create_dir_all(sys.path().join("dev/block")).unwrap();
        fs::write(disk.join("nvme0n1p2/partition"), "2\n").unwrap();
        fs::write(disk.join("stat"), "  10 1 800 5  20 2 1600 9 0 1 1 0 0 0 0 0 0\n").unwrap();
        fs::write(sys.path().join("devices/pci/nvme/nvme0/hwmon3/temp1_input"), "41850\n").unwrap();
        fs::write(sys.path().join("devices/pci/nvme/nvme0/model"), "Merrow K2 2TB   \n").unwrap();
        symlink("..", disk.join("device")).unwrap();
        symlink("../../devices/pci/nvme/nvme0/nvme0n1", sys.path().join("dev/block/259:0")).unwrap();
        symlink("../../devices/pci/nvme/nvme0/nvme0n1/nvme0n1p2", sys.path().join("dev/block/259:2"))
            .unwrap();
        sys
    }

    #[test]
    fn a_partition_leads_to_its_disk_its_counters_and_its_temperature() {
        let sys = tree();
        let disk = Disk::of(sys.path(), 259, 2).unwrap();
        assert_eq!(disk, Disk::of(sys.path(), 259, 0).unwrap());
        assert_eq!(disk.name, "nvme0n1");
        let counters = Counters::of(&disk).unwrap();
        assert_eq!(counters.since_start(), Some((Bytes(2400 * 512), Nanos(1_000_000))));
        fs::write(disk.folder.join("stat"), "  11 1 801 5  20 2 1602 9 0 1 1 0 0 0 0 0 0\n").unwrap();
        assert_eq!(counters.moved(), Some(Bytes(3 * 512)), "since they were opened");
        assert_eq!(disk.model().as_deref(), Some("Merrow K2 2TB"));
        let file = disk.temperature_file().unwrap();
        assert_eq!(temperature(&file), Some(Celsius(41.85)), "of another driver, this is what it measured");
        // 315 K: the health log of such a drive says 42 °C.
        fs::write(file.with_file_name("name"), "nvme\n").unwrap();
        assert_eq!(temperature(&file), Some(Celsius(42.0)));
        fs::write(&file, "-4150\n").unwrap();
        assert_eq!(temperature(&file), Some(Celsius(-4.0)), "269 K");
        fs::write(&file, "42000\n").unwrap();
        assert_eq!(temperature(&file), Some(Celsius(42.0)));
    }

    #[test]
    fn what_is_not_there_is_no_reading() {
        let sys = tree();
        assert_eq!(Disk::of(sys.path(), 0, 42), None);
        fs::remove_file(sys.path().join("devices/pci/nvme/nvme0/hwmon3/temp1_input")).unwrap();
        assert_eq!(Disk::of(sys.path(), 259, 0).unwrap().temperature_file(), None);
        assert_eq!(temperature(Path::new("/nonexistent")), None);
    }
}
