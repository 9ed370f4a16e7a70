//! Everything that shares storage with a device: what is built on it, what it is built on, and what else is built on that.
//!
//! A write to a device changes what lies below it and what lies on top of it. Below are the disk of a partition, the members of a
//! mapped device or an array, and the device or the file behind a loop device; on top are partitions, mapped devices, arrays, loop
//! devices over a device, and whatever is on those again. Whoever uses any of them would have their data written over.
//!
//! A file behind a loop device is storage of its own: the file system that it lies on is not written past its back, but another loop device
//! over the same file, or swap in it, is. Where several devices below are shared (two logical volumes on one disk), a use of either is
//! taken for a use of both: their ranges could only be known from those who made them.

use super::uses::{Tables, Use};
use crate::raw;
use crate::sysfs::{Roots, text};
use mile_files::FileId;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::path::{Path, PathBuf};

/// What is behind a loop device.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Backing {
    /// A block device, by its number.
    Device(String),
    /// A file, by its identity.
    File(FileId),
    /// A file of which only the path is known.
    Path(PathBuf),
}

/// A block device or partition, and what it is directly connected to.
#[derive(Clone, Debug)]
struct Node {
    name: String,
    folder: PathBuf,
    /// Number of the disk that it is a partition of.
    disk: Option<String>,
    below: Vec<String>,
    backing: Option<Backing>,
    /// What tells the drive behind it apart from all others, where it says.
    wwid: Option<String>,
}

/// All block devices of the system, by their numbers.
#[derive(Clone, Debug, Default)]
pub struct Stack {
    nodes: BTreeMap<String, Node>,
}

/// What shares storage with a device.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Related {
    /// Who uses any of it.
    pub uses: Vec<Use>,
    /// Numbers of the devices.
    pub devices: BTreeSet<String>,
    /// Files behind loop devices.
    pub files: BTreeSet<FileId>,
}

impl Stack {
    /// Reads it.
    pub fn read(roots: &Roots) -> Self {
        let below = |folder: &Path| fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path());
        let disks = below(&roots.sys.join("block")).filter_map(|p| fs::canonicalize(p).ok());
        let with_partitions = |disk: PathBuf| {
            let mut all: Vec<PathBuf> = below(&disk).filter(|p| p.join("partition").exists()).collect();
            all.push(disk);
            all
        };
        let folders: Vec<PathBuf> = disks.flat_map(with_partitions).collect();
        let numbers: BTreeMap<String, String> =
            folders.iter().filter_map(|f| Some((name_of(f)?, text(f.join("dev"))?))).collect();
        let node = |folder: &PathBuf| {
            let name = name_of(folder)?;
            let disk = folder
                .join("partition")
                .exists()
                .then(|| folder.parent().and_then(|p| text(p.join("dev"))))
                .flatten();
            let slaves = fs::read_dir(folder.join("slaves")).into_iter().flatten().flatten();
            let mut below: Vec<String> =
                slaves.filter_map(|s| numbers.get(s.file_name().to_str()?).cloned()).collect();
            // A compressed device in memory may have a disk behind it.
            let behind = text(folder.join("backing_dev")).filter(|b| b != "none");
            below.extend(behind.and_then(|b| numbers.get(Path::new(&b).file_name()?.to_str()?).cloned()));
            let backing = name.starts_with("loop").then(|| backing(roots, &name, folder, &numbers)).flatten();
            let wwid = ["wwid", "device/wwid"].iter().find_map(|f| text(folder.join(f)));
            Some((
                text(folder.join("dev"))?,
                Node { folder: folder.clone(), name, disk, below, backing, wwid },
            ))
        };
        Self { nodes: folders.iter().filter_map(node).collect() }
    }

    /// Everything that shares storage with the device of this number, itself included.
    pub fn related(&self, roots: &Roots, tables: &Tables, number: &str) -> Related {
        let mut shared = self.with_what_is_below(number);
        self.add_what_is_on_top(&mut shared);
        // What was found on top may share a file or a drive with others again.
        loop {
            let before = shared.len();
            self.add_other_names(&mut shared);
            self.add_what_is_on_top(&mut shared);
            if shared.len() == before {
                break;
            }
        }
        let mut related = Related::default();
        let whole: BTreeSet<&str> = self.disks_of(number);
        let chain = self.with_what_is_below(number);
        for (key, node) in self.nodes.iter().filter(|(key, _)| shared.contains(*key)) {
            let own = whole.contains(key.as_str());
            for one in tables.of(roots, &node.name, key, &node.folder) {
                // That the device, or what it is built on, is built on another is no use of that other by somebody else. Whoever else is
                // built on what is between is found as its holder.
                let by_itself = matches!(&one, Use::Held { by, .. } if self.is_among(by, &chain));
                if !by_itself {
                    related.uses.push(one);
                }
            }
            if let Some(Backing::File(id)) = node.backing {
                related.files.insert(id);
                let swap = tables.swap_files().iter().any(|f| FileId::at(f).ok().flatten() == Some(id));
                if swap {
                    related.uses.push(Use::Swap { device: format!("the file behind {}", node.name) });
                }
            }
            // A loop device over this one appears in no list of holders.
            for (other, loops) in &self.nodes {
                if loops.backing == Some(Backing::Device(key.clone())) && other != number && own {
                    let by = format!("{} (a loop device)", loops.name);
                    related.uses.push(Use::Held { device: node.name.clone(), by });
                }
            }
        }
        related.uses.dedup();
        related.devices = shared;
        related
    }

    /// The device, and its partitions.
    fn disks_of(&self, number: &str) -> BTreeSet<&str> {
        self.nodes
            .iter()
            .filter(|(key, node)| *key == number || node.disk.as_deref() == Some(number))
            .map(|(key, _)| key.as_str())
            .collect()
    }

    /// Whether a device, by the name that a list of holders has for it, is one of these numbers.
    fn is_among(&self, holder: &str, numbers: &BTreeSet<String>) -> bool {
        let name = holder.split(' ').next().unwrap_or(holder);
        numbers.iter().any(|n| self.nodes.get(n).is_some_and(|n| n.name == name))
    }

    fn with_what_is_below(&self, number: &str) -> BTreeSet<String> {
        let mut shared = BTreeSet::new();
        let mut todo = vec![number.to_owned()];
        while let Some(key) = todo.pop() {
            if !shared.insert(key.clone()) {
                continue;
            }
            let Some(node) = self.nodes.get(&key) else { continue };
            todo.extend(node.below.iter().cloned());
            // The disk of a partition, whose other partitions are not touched.
            todo.extend(node.disk.clone());
            if let Some(Backing::Device(device)) = &node.backing {
                todo.push(device.clone());
            }
        }
        // Its own partitions are the device itself.
        shared.extend(self.disks_of(number).into_iter().map(str::to_owned));
        shared
    }

    /// Adds what is built on any of them. A disk that is there only because one of its partitions is does not bring its others in.
    fn add_what_is_on_top(&self, shared: &mut BTreeSet<String>) {
        loop {
            let more: Vec<String> = self
                .nodes
                .iter()
                .filter(|(key, _)| !shared.contains(*key))
                .filter(|(_, node)| {
                    let on_device =
                        matches!(&node.backing, Some(Backing::Device(device)) if shared.contains(device));
                    let on_member = node.below.iter().any(|b| shared.contains(b));
                    // Partitions of what is on top, a loop device for one: the disk is all of it.
                    let part = node
                        .disk
                        .as_ref()
                        .is_some_and(|d| shared.contains(d) && !self.has_partition_in(d, shared));
                    on_device || on_member || part
                })
                .map(|(key, _)| key.clone())
                .collect();
            if more.is_empty() {
                return;
            }
            // Partitions of one disk come in together.
            shared.extend(more);
        }
    }

    fn has_partition_in(&self, disk: &str, shared: &BTreeSet<String>) -> bool {
        self.nodes.iter().any(|(key, n)| n.disk.as_deref() == Some(disk) && shared.contains(key))
    }

    /// Adds other devices over the same file, and other paths to the same drive.
    fn add_other_names(&self, shared: &mut BTreeSet<String>) {
        let known: Vec<&Node> =
            self.nodes.iter().filter(|(k, _)| shared.contains(*k)).map(|(_, n)| n).collect();
        let same = |node: &Node| {
            known.iter().any(|k| {
                let file = matches!(node.backing, Some(Backing::File(_) | Backing::Path(_)))
                    && node.backing == k.backing;
                file || node.wwid.is_some() && node.wwid == k.wwid && node.disk.is_none() && k.disk.is_none()
            })
        };
        let more: Vec<String> = self
            .nodes
            .iter()
            .filter(|(k, n)| !shared.contains(*k) && same(n))
            .map(|(k, _)| k.clone())
            .collect();
        shared.extend(more);
    }
}

fn name_of(folder: &Path) -> Option<String> {
    folder.file_name()?.to_str().map(str::to_owned)
}

/// What is behind a loop device: by what the device itself says where it may be asked, and else by the path that the system tells.
fn backing(roots: &Roots, name: &str, folder: &Path, numbers: &BTreeMap<String, String>) -> Option<Backing> {
    let path = PathBuf::from(text(folder.join("loop/backing_file"))?);
    if *roots == Roots::system()
        && let Some(status) = File::open(roots.dev.join(name)).ok().and_then(|f| raw::loop_status(&f).ok())
    {
        return Some(match status.device {
            0 => Backing::File(FileId { device: status.on, inode: status.inode }),
            device => Backing::Device(numbered(device)),
        });
    }
    if let Ok(below) = path.strip_prefix("/dev") {
        let node = roots.dev.join(below);
        let leads = fs::canonicalize(&node).unwrap_or(node);
        let number = name_of(&leads).and_then(|n| numbers.get(&n).cloned());
        return Some(number.map_or(Backing::Path(path), Backing::Device));
    }
    match FileId::at(&path) {
        Ok(Some(id)) => Some(Backing::File(id)),
        _ => Some(Backing::Path(path)),
    }
}

fn numbered(device: u64) -> String {
    format!("{}:{}", rustix::fs::major(device), rustix::fs::minor(device))
}

/// Programs that have any of these open for writing, this one left out, as far as the rights of this user go.
pub fn openers(roots: &Roots, related: &Related) -> Vec<Use> {
    let own = std::process::id();
    let mut found = Vec::new();
    for process in fs::read_dir(&roots.proc).into_iter().flatten().flatten() {
        let Some(pid) = process.file_name().to_str().and_then(|n| n.parse::<u32>().ok()) else { continue };
        if pid == own {
            continue;
        }
        for entry in fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten() {
            let Ok(stat) = rustix::fs::stat(entry.path()) else { continue };
            let is_device =
                rustix::fs::FileType::from_raw_mode(stat.st_mode) == rustix::fs::FileType::BlockDevice;
            #[allow(clippy::useless_conversion, reason = "the kernel's types differ between architectures")]
            let id = FileId { device: stat.st_dev.into(), inode: stat.st_ino.into() };
            let device = numbered(stat.st_rdev);
            if !(is_device && related.devices.contains(&device) || related.files.contains(&id)) {
                continue;
            }
            let info = process.path().join("fdinfo").join(entry.file_name());
            let flags = text(info).and_then(|t| {
                let line = t.lines().find_map(|l| l.strip_prefix("flags:").map(str::to_owned))?;
                u32::from_str_radix(line.trim(), 8).ok()
            });
            // What cannot be known may be writing.
            if flags.is_none_or(|f| f & 3 != 0) {
                let what = if is_device { node_name(roots, &device) } else { "the file behind it".into() };
                let program = text(process.path().join("comm")).unwrap_or_default();
                found.push(Use::Opened { device: what, program, process: pid });
            }
        }
    }
    found.dedup();
    found
}

fn node_name(roots: &Roots, device: &str) -> String {
    fs::canonicalize(roots.sys.join("dev/block").join(device))
        .ok()
        .and_then(|f| name_of(&f))
        .unwrap_or_else(|| device.to_owned())
}

/// Whether operations of an earlier process are still on their way to a device: reads and writes in flight.
pub fn in_flight(folder: &Path) -> u64 {
    let all = text(folder.join("inflight")).unwrap_or_default();
    all.split_whitespace().filter_map(|n| n.parse::<u64>().ok()).sum()
}
