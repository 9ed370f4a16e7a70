//! What sysfs tells of a block device: how it is attached, what it is called, its link, and where its temperature stands.

use super::link;
use crate::Link;
use crate::sysfs::{Disk, Roots, text};
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::{Path, PathBuf};

/// How a drive is attached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "the names of the transports")]
pub enum Transport {
    Nvme,
    Sata,
    Sas,
    Usb,
    Scsi,
    Virtio,
    Mmc,
    Loop,
    /// Built on other devices by the kernel's device mapper.
    Mapped,
    /// Built on other devices by the kernel as an array (md).
    Array,
    Other,
}

impl Transport {
    /// The word for people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Nvme => "NVMe",
            Self::Sata => "SATA",
            Self::Sas => "SAS",
            Self::Usb => "USB",
            Self::Scsi => "SCSI",
            Self::Virtio => "virtio",
            Self::Mmc => "MMC",
            Self::Loop => "loop device",
            Self::Mapped => "mapped device",
            Self::Array => "array",
            Self::Other => "block device",
        }
    }
}

/// The file of the temperature of the drive with this name and folder, where the kernel has a sensor.
pub(super) fn sensor_file(name: &str, folder: &Path) -> Option<PathBuf> {
    let disk = Disk { name: name.to_owned(), folder: folder.to_owned() };
    disk.temperature_file().or_else(|| {
        let controller = controller_folder(folder)?;
        Disk { name: String::new(), folder: controller }.temperature_file()
    })
}

/// How a device is attached, its model and its serial number.
pub(super) fn transport_and_model(name: &str, folder: &Path) -> (Transport, Option<String>, Option<String>) {
    let transport = transport(name, folder);
    let (model, serial, _) = identity(transport, folder);
    (transport, model, serial)
}

/// The controller of an NVMe namespace: the folder above it, or, where the kernel joins several paths, the first path.
pub(super) fn controller_folder(folder: &Path) -> Option<PathBuf> {
    let is_controller = |name: &str| {
        name.strip_prefix("nvme").is_some_and(|n| !n.is_empty() && n.chars().all(|c| c.is_ascii_digit()))
    };
    let parent = folder.parent()?;
    if parent.file_name().and_then(|n| n.to_str()).is_some_and(is_controller) {
        return Some(parent.to_owned());
    }
    let mut paths: Vec<PathBuf> = fs::read_dir(parent)
        .ok()?
        .flatten()
        .filter(|e| e.file_name().to_str().is_some_and(is_controller))
        .filter_map(|e| fs::canonicalize(e.path()).ok())
        .collect();
    paths.sort();
    paths.into_iter().next()
}

/// The link of the drive with this folder.
pub(super) fn find_link_at(
    roots: &Roots,
    transport: Transport,
    folder: &Path,
    sata_gb_s: Option<f64>,
) -> Option<Link> {
    match transport {
        Transport::Nvme => link::pcie(&link::above(&controller_folder(folder)?, link::is_pci)?),
        Transport::Sata => link::sata_link(folder, sata_gb_s),
        Transport::Usb => link::usb_link(folder),
        Transport::Sas => link::sas_link(roots, folder),
        _ => None,
    }
}

pub(super) fn transport(name: &str, folder: &Path) -> Transport {
    let by_name = [
        ("loop", Transport::Loop),
        ("nvme", Transport::Nvme),
        ("mmcblk", Transport::Mmc),
        ("vd", Transport::Virtio),
        ("dm-", Transport::Mapped),
        ("md", Transport::Array),
    ];
    if let Some((_, transport)) = by_name.iter().find(|(prefix, _)| name.starts_with(prefix)) {
        return *transport;
    }
    let has = |prefix: &str, digits: bool| {
        folder.iter().filter_map(|p| p.to_str()).any(|p| {
            p.strip_prefix(prefix)
                .is_some_and(|rest| !digits || !rest.is_empty() && rest.chars().all(|c| c.is_ascii_digit()))
        })
    };
    match () {
        () if has("usb", true) => Transport::Usb,
        () if has("end_device-", false) => Transport::Sas,
        () if has("ata", true) => Transport::Sata,
        () if has("virtio", true) => Transport::Virtio,
        () if name.starts_with("sd") => Transport::Scsi,
        () => Transport::Other,
    }
}

/// Model, serial number and firmware as the kernel tells them.
pub(super) fn identity(
    transport: Transport,
    folder: &Path,
) -> (Option<String>, Option<String>, Option<String>) {
    let device = folder.join("device");
    match transport {
        Transport::Nvme => {
            let controller = controller_folder(folder).unwrap_or(device);
            (
                text(controller.join("model")),
                text(controller.join("serial")),
                text(controller.join("firmware_rev")),
            )
        }
        Transport::Mmc => {
            (text(device.join("name")), text(device.join("serial")), text(device.join("fwrev")))
        }
        Transport::Virtio if !folder.join("device/model").exists() => {
            (None, text(folder.join("serial")), None)
        }
        Transport::Loop | Transport::Mapped | Transport::Array => (None, None, None),
        _ => {
            let usb = link::above(folder, |f| f.join("speed").is_file() && f.join("version").is_file())
                .filter(|_| transport == Transport::Usb);
            let serial = vpd_serial(&device)
                .or_else(|| text(folder.join("serial")))
                .or_else(|| text(usb.as_ref()?.join("serial")));
            let product = text(device.join("model"));
            // The vendor field of a SATA drive behind the kernel's translation says `ATA` and nothing more.
            let vendor = text(device.join("vendor")).filter(|v| v != "ATA");
            let model = match (vendor, product) {
                // Some products say their vendor again.
                (Some(v), Some(p)) if !p.starts_with(&v) => Some(format!("{v} {p}")),
                (v, p) => p.or(v),
            };
            (model, serial, text(device.join("rev")))
        }
    }
}

/// The serial number of a SCSI device from its vital product data, page 80h: a header of four bytes, the last two the length.
fn vpd_serial(device: &Path) -> Option<String> {
    let page = fs::read(device.join("vpd_pg80")).ok()?;
    let length = usize::from(u16::from_be_bytes([*page.get(2)?, *page.get(3)?]));
    let text = String::from_utf8_lossy(page.get(4..(4 + length).min(page.len()))?).trim().to_owned();
    (!text.is_empty()).then_some(text)
}
