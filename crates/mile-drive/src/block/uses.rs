//! What a block device is used for now: mounts, swap, and devices built on it.

use crate::sysfs::{Roots, text};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};

/// A use of a device or of one of its partitions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "use")]
pub enum Use {
    /// A file system on it is mounted.
    Mounted {
        /// Device or partition.
        device: String,
        /// Mount point.
        at: String,
        /// Kind of file system.
        kind: String,
    },
    /// It is swap.
    Swap {
        /// Device or partition.
        device: String,
    },
    /// Another device is built on it.
    Held {
        /// Device or partition.
        device: String,
        /// The device built on it.
        by: String,
    },
    /// A program has it open for writing.
    Opened {
        /// Device, partition, or file behind it.
        device: String,
        /// The program.
        program: String,
        /// Number of its process.
        process: u32,
    },
}

impl std::fmt::Display for Use {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Mounted { device, at, kind } => write!(f, "{device} is mounted at {at} ({kind})"),
            Self::Swap { device } => write!(f, "{device} is in use as swap"),
            Self::Held { device, by } => write!(f, "{device} is held by {by}, which is built on it"),
            Self::Opened { device, program, process } => {
                write!(f, "{device} is open for writing in another program, {program} (process {process})")
            }
        }
    }
}

/// Mounts and swap of the whole system, read once for all devices.
#[derive(Clone, Debug, Default)]
pub struct Tables {
    mounts: Vec<Mount>,
    swaps: Vec<PathBuf>,
}

#[derive(Clone, Debug)]
struct Mount {
    number: String,
    at: String,
    kind: String,
    source: PathBuf,
}

/// Undoes the octal escapes (`\040` for a blank) of the kernel's tables.
fn unescape(text: &str) -> String {
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let code = bytes.get(at + 1..at + 4).and_then(|d| std::str::from_utf8(d).ok());
        match code.and_then(|d| u8::from_str_radix(d, 8).ok()).filter(|_| bytes[at] == b'\\') {
            Some(code) => {
                out.push(code);
                at += 4;
            }
            None => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

impl Tables {
    /// Reads them. The layout of mountinfo is that of proc(5).
    pub fn read(roots: &Roots) -> Self {
        let own = fs::read_to_string(roots.proc.join("self/mountinfo")).unwrap_or_default();
        let mut mounts: Vec<Mount> = own.lines().filter_map(mount).collect();
        // Others may have mounted it where this process does not see it: each space of mounts is read once.
        let space = |folder: &Path| fs::read_link(folder.join("ns/mnt")).ok();
        let mut seen: HashSet<PathBuf> = space(&roots.proc.join("self")).into_iter().collect();
        for process in fs::read_dir(&roots.proc).into_iter().flatten().flatten() {
            let name = process.file_name().to_string_lossy().into_owned();
            let numbered = name.bytes().all(|b| b.is_ascii_digit());
            if !numbered || !space(&process.path()).is_some_and(|s| seen.insert(s)) {
                continue;
            }
            let theirs = fs::read_to_string(process.path().join("mountinfo")).unwrap_or_default();
            for m in theirs.lines().filter_map(mount) {
                if !mounts.iter().any(|known| known.number == m.number && known.source == m.source) {
                    mounts.push(Mount { at: format!("{} as process {name} sees it", m.at), ..m });
                }
            }
        }
        let swaps = fs::read_to_string(roots.proc.join("swaps")).unwrap_or_default();
        Self {
            mounts,
            swaps: swaps
                .lines()
                .skip(1)
                .filter_map(|l| Some(PathBuf::from(unescape(l.split_whitespace().next()?))))
                .collect(),
        }
    }

    /// Files and devices in use as swap.
    pub fn swap_files(&self) -> &[PathBuf] {
        &self.swaps
    }

    /// Uses of a device or partition: its name, its `major:minor`, and its folder.
    pub fn of(&self, roots: &Roots, name: &str, number: &str, folder: &Path) -> Vec<Use> {
        let mut uses = Vec::new();
        let mut resolved: HashMap<&Path, bool> = HashMap::new();
        let is_it = |path: &Path| {
            // The tables name nodes as this system sees them.
            let Ok(below) = path.strip_prefix("/dev") else { return false };
            let node = roots.dev.join(below);
            let leads = fs::canonicalize(&node).unwrap_or(node);
            leads.file_name().is_some_and(|f| f == name)
        };
        for m in &self.mounts {
            // Some file systems (btrfs for one) have numbers of their own, so that the source counts too.
            let same = m.number == number || *resolved.entry(&m.source).or_insert_with(|| is_it(&m.source));
            if same {
                uses.push(Use::Mounted { device: name.into(), at: m.at.clone(), kind: m.kind.clone() });
            }
        }
        if self.swaps.iter().any(|s| is_it(s)) {
            uses.push(Use::Swap { device: name.into() });
        }
        let mut holders: Vec<String> = fs::read_dir(folder.join("holders"))
            .into_iter()
            .flatten()
            .flatten()
            .map(|e| {
                let by = e.file_name().to_string_lossy().into_owned();
                match text(e.path().join("dm/name")) {
                    Some(mapped) => format!("{by} ({mapped})"),
                    None => by,
                }
            })
            .collect();
        holders.sort();
        // A file system over several devices is mounted by one of their names.
        let pools = fs::read_dir(roots.sys.join("fs/btrfs")).into_iter().flatten().flatten();
        for pool in pools.filter(|p| p.path().join("devices").join(name).exists()) {
            holders.push(format!("btrfs file system {}", pool.file_name().to_string_lossy()));
        }
        uses.extend(holders.into_iter().map(|by| Use::Held { device: name.into(), by }));
        uses
    }
}

fn mount(line: &str) -> Option<Mount> {
    let (left, right) = line.split_once(" - ")?;
    let mut left = left.split(' ');
    let number = left.nth(2)?.to_owned();
    let at = unescape(left.nth(1)?);
    let mut right = right.split(' ');
    Some(Mount { number, at, kind: right.next()?.to_owned(), source: unescape(right.next()?).into() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blanks_in_mount_points_are_read() {
        let m = mount("36 25 8:17 / /mnt/two\\040words rw,noatime shared:1 - ext4 /dev/sdb1 rw").unwrap();
        assert_eq!((m.number.as_str(), m.at.as_str(), m.kind.as_str()), ("8:17", "/mnt/two words", "ext4"));
        assert_eq!(unescape("a\\134b\\"), "a\\b\\");
    }
}
