//! Finds the block devices of this machine, and says what sysfs tells of each.

use super::attributes::{Transport, controller_folder, find_link_at, identity, sensor_file, transport};
use super::link;
use super::members::{self, Member};
use super::stack::{Related, Stack};
use super::uses::{Tables, Use};
use crate::Link;
use crate::sysfs::{Roots, number, temperature, text};
use mile_core::{Bytes, Celsius};
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::PathBuf;

/// A partition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Partition {
    /// Its name: `nvme0n1p2`.
    pub name: String,
    /// Its first byte on the drive.
    pub start: Bytes,
    /// Its size.
    pub size: Bytes,
}

/// A block device as it was found.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Found {
    /// Its name: `nvme0n1`.
    pub name: String,
    /// Its node: `/dev/nvme0n1`.
    pub node: PathBuf,
    /// Its number, `major:minor`.
    pub number: String,
    /// Its folder in sysfs.
    #[serde(skip)]
    pub folder: PathBuf,
    /// How it is attached.
    pub transport: Transport,
    /// The network that an NVMe drive is attached over, as the kernel names it (`tcp`, `rdma`, `fc`); `None` over PCI Express.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fabric: Option<String>,
    /// Model, where the drive tells.
    pub model: Option<String>,
    /// Serial number, where the drive tells.
    pub serial: Option<String>,
    /// Firmware revision, where the drive tells.
    pub firmware: Option<String>,
    /// Bytes that can be addressed.
    pub capacity: Bytes,
    /// Smallest unit of an operation.
    pub logical_block: Bytes,
    /// Unit that the medium is written in.
    pub physical_block: Bytes,
    /// Whether it turns.
    pub rotational: bool,
    /// `none`, `host-aware` or `host-managed`.
    pub zoned: String,
    /// Whether it takes discards.
    pub discard: bool,
    /// Whether it refuses writes.
    pub read_only: bool,
    /// Whether its medium can be taken out.
    pub removable: bool,
    /// Its partitions.
    pub partitions: Vec<Partition>,
    /// What it is used for now, and what else would be written over with it.
    pub uses: Vec<Use>,
    /// What shares storage with it.
    #[serde(skip)]
    pub related: Related,
    /// Names that stay when its letter or number changes.
    pub stable_names: Vec<String>,
    /// How it is attached, against what could be.
    pub link: Option<Link>,
    /// What it is plugged in.
    pub slot: Option<String>,
    /// The file behind a loop device.
    pub backing: Option<PathBuf>,
    /// The drives that it is built on; none where it is a drive itself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<Member>,
    /// Temperature from the kernel's sensors, where there is one.
    pub temperature: Option<Celsius>,
    /// Limits from the kernel's sensors: warning, critical.
    pub sensor_limits: (Option<Celsius>, Option<Celsius>),
}

impl Found {
    /// What a person types to allow writing: the serial number, or the name of a drive that has none.
    pub fn arming_word(&self) -> &str {
        self.serial.as_deref().unwrap_or(&self.name)
    }

    /// What kind it is, in words: `NVMe, solid state`.
    pub fn kind(&self) -> String {
        let medium = match (self.transport, self.rotational) {
            (
                Transport::Loop | Transport::Mapped | Transport::Array | Transport::Virtio | Transport::Other,
                _,
            ) => "",
            (_, true) => ", hard disk",
            (_, false) => ", solid state",
        };
        let zoned = if self.zoned == "none" { String::new() } else { format!(", zoned ({})", self.zoned) };
        let fabric = match self.fabric.as_deref() {
            None => String::new(),
            Some("fc") => " over Fibre Channel".into(),
            Some(name) => format!(" over {}", name.to_uppercase()),
        };
        format!("{}{fabric}{medium}{zoned}", self.transport.words())
    }

    /// Why it may not be written to as it stands; empty where it may, once it is armed.
    pub fn objections(&self) -> Vec<String> {
        let mut why: Vec<String> = self.uses.iter().map(ToString::to_string).collect();
        if self.read_only {
            why.push(format!("{} refuses writes (it is set read-only)", self.name));
        }
        if self.zoned == "host-managed" {
            why.push(format!(
                "{} is a host-managed zoned drive, which takes no writes at any place",
                self.name
            ));
        }
        if self.capacity.0 == 0 {
            why.push(format!("{} has no medium in it", self.name));
        }
        why
    }

    /// The controller's node of an NVMe drive: `/dev/nvme0`.
    pub fn controller(&self) -> Option<PathBuf> {
        (self.transport == Transport::Nvme).then_some(())?;
        let folder = controller_folder(&self.folder)?;
        Some(self.node.with_file_name(folder.file_name()?))
    }

    /// The file of its temperature, where the kernel has a sensor.
    pub fn temperature_file(&self) -> Option<PathBuf> {
        sensor_file(&self.name, &self.folder)
    }
}

/// The drives of this machine, and the devices that the kernel builds on them, in the order of their names. Memory is left out.
pub fn discover(roots: &Roots) -> Vec<Found> {
    let tables = Tables::read(roots);
    let stack = Stack::read(roots);
    let mut names: Vec<String> = fs::read_dir(roots.sys.join("block"))
        .into_iter()
        .flatten()
        .flatten()
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .filter(|n| !["ram", "zram", "sr", "fd", "nbd"].iter().any(|p| n.starts_with(p)))
        // The second path to a namespace that the kernel has joined with others.
        .filter(|n| !(n.starts_with("nvme") && n.contains('c')))
        .collect();
    names.sort_by_key(|n| (n.len(), n.clone()));
    let found = names.iter().filter_map(|n| {
        let folder = fs::canonicalize(roots.sys.join("block").join(n)).ok()?;
        read(roots, &tables, &stack, n, folder)
    });
    let is_empty = |f: &Found| {
        matches!(f.transport, Transport::Loop | Transport::Mapped | Transport::Array) && f.capacity.0 == 0
    };
    found.filter(|f| !is_empty(f)).collect()
}

/// The whole drive with a device number; where that is a partition, its name beside the drive that it is on.
pub fn look(roots: &Roots, device: u64) -> Option<(Found, Option<String>)> {
    let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
    let mut folder = fs::canonicalize(roots.sys.join(format!("dev/block/{major}:{minor}"))).ok()?;
    let mut partition = None;
    if folder.join("partition").exists() {
        partition = folder.file_name().and_then(|n| n.to_str()).map(str::to_owned);
        folder = folder.parent()?.to_owned();
    }
    let name = folder.file_name()?.to_str()?.to_owned();
    Some((read(roots, &Tables::read(roots), &Stack::read(roots), &name, folder)?, partition))
}

fn read(roots: &Roots, tables: &Tables, stack: &Stack, name: &str, folder: PathBuf) -> Option<Found> {
    let at = |file: &str| folder.join(file);
    let device_number = text(at("dev"))?;
    let transport = transport(name, &folder);
    let (model, serial, firmware) = identity(transport, &folder);
    let members = members::members(roots, &folder);
    let model = members::words(&folder, &members).or(model);
    let related = stack.related(roots, tables, &device_number);
    let mut partitions = Vec::new();
    for entry in fs::read_dir(&folder).ok()?.flatten().filter(|e| e.path().join("partition").exists()) {
        let part = entry.path();
        let part_name = entry.file_name().to_string_lossy().into_owned();
        // Counted in 512 bytes whatever the logical block (the kernel's Documentation/ABI/stable/sysfs-block).
        let sectors = |file| Bytes(number::<u64>(part.join(file)).unwrap_or(0).saturating_mul(512));
        partitions.push(Partition { name: part_name, start: sectors("start"), size: sectors("size") });
    }
    partitions.sort_by_key(|p| p.start);
    let queue = |file: &str| folder.join("queue").join(file);
    let logical = number(queue("logical_block_size")).unwrap_or(512);
    let mut found = Found {
        name: name.to_owned(),
        node: roots.dev.join(name),
        number: device_number,
        transport,
        fabric: controller_folder(&folder)
            .filter(|_| transport == Transport::Nvme)
            .and_then(|c| text(c.join("transport")))
            .filter(|t| t != "pcie"),
        model,
        serial,
        firmware,
        capacity: Bytes(number::<u64>(at("size")).unwrap_or(0).saturating_mul(512)),
        logical_block: Bytes(logical),
        physical_block: Bytes(number(queue("physical_block_size")).unwrap_or(logical)),
        rotational: number::<u32>(queue("rotational")) == Some(1),
        zoned: text(queue("zoned")).unwrap_or_else(|| "none".into()),
        discard: number::<u64>(queue("discard_max_bytes")).is_some_and(|b| b > 0),
        read_only: number::<u32>(at("ro")) == Some(1),
        removable: number::<u32>(at("removable")) == Some(1),
        partitions,
        uses: related.uses.clone(),
        related,
        stable_names: stable_names(roots, name),
        link: None,
        slot: link::slot(&folder),
        backing: text(at("loop/backing_file")).map(PathBuf::from),
        members,
        temperature: None,
        sensor_limits: (None, None),
        folder,
    };
    found.link = find_link(roots, &found, None);
    // A device that is built on others is as warm as the warmest of them.
    let warmest = found.members.iter().filter_map(|m| m.temperature);
    found.temperature = warmest.max_by(|a, b| a.0.total_cmp(&b.0));
    if let Some(file) = found.temperature_file() {
        found.temperature = temperature(&file);
        let limit = |suffix: &str| {
            let name = file.file_name()?.to_str()?.replace("_input", suffix);
            temperature(&file.with_file_name(name)).filter(|c| c.0 > 0.0 && c.0 < 200.0)
        };
        found.sensor_limits = (limit("_max"), limit("_crit"));
    }
    Some(found)
}

/// The link of a drive. `sata_gb_s` is the best that a SATA drive says of itself.
pub fn find_link(roots: &Roots, found: &Found, sata_gb_s: Option<f64>) -> Option<Link> {
    find_link_at(roots, found.transport, &found.folder, sata_gb_s)
}

fn stable_names(roots: &Roots, name: &str) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(roots.dev.join("disk/by-id"))
        .into_iter()
        .flatten()
        .flatten()
        .filter(|e| fs::read_link(e.path()).is_ok_and(|to| to.file_name().is_some_and(|f| f == name)))
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}
