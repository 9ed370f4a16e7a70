//! The drives that a mapped device or an array is built on: what each is, how it is attached, how warm it is, and what it moves.

use super::attributes::{Transport, find_link_at, sensor_file, transport_and_model};
use crate::Link;
use crate::sysfs::{Roots, temperature, text};
use mile_core::Celsius;
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::{Path, PathBuf};

/// Deepest stack that is followed: an array of encrypted volumes on logical volumes has three.
const DEEPEST: usize = 8;

/// A drive below a stacked device.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Member {
    /// Its name: `nvme0n1`.
    pub name: String,
    /// How it is attached.
    pub transport: Transport,
    /// Model, where the drive tells.
    pub model: Option<String>,
    /// Serial number, where the drive tells.
    pub serial: Option<String>,
    /// How it is attached, against what could be.
    pub link: Option<Link>,
    /// Temperature from the kernel's sensors, where there is one.
    pub temperature: Option<Celsius>,
    /// Its folder in sysfs.
    #[serde(skip)]
    pub folder: PathBuf,
}

impl Member {
    /// Whether it may have a temperature to tell.
    pub(super) fn tells(&self) -> bool {
        self.transport == Transport::Sata || sensor_file(&self.name, &self.folder).is_some()
    }

    /// In one line: `nvme0n1, Merrow K2 2TB, 41 °C, PCIe 4.0 x4, as it could be`.
    pub fn line(&self) -> String {
        let model = self.model.as_ref().map_or(String::new(), |m| format!(", {m}"));
        let temp = self.temperature.map_or(String::new(), |t| format!(", {t}"));
        let link = self.link.as_ref().map_or(String::new(), |l| format!(", {}", l.sentence()));
        format!("{}{model}{temp}{link}", self.name)
    }
}

/// The whole drives at the bottom of a stacked device, each once, in the order of their names; none for a device that is built on no other.
pub fn members(roots: &Roots, folder: &Path) -> Vec<Member> {
    let mut bottom = Vec::new();
    descend(folder, DEEPEST, &mut bottom);
    bottom.sort();
    bottom.dedup();
    let member = |folder: PathBuf| {
        let name = folder.file_name()?.to_str()?.to_owned();
        let (transport, model, serial) = transport_and_model(&name, &folder);
        let temperature = sensor_file(&name, &folder).and_then(|f| temperature(&f));
        let link = find_link_at(roots, transport, &folder, None);
        Some(Member { name, transport, model, serial, link, temperature, folder })
    };
    bottom.into_iter().filter_map(member).collect()
}

/// Follows the list of what a device is built on down to whole drives.
fn descend(folder: &Path, deepest: usize, bottom: &mut Vec<PathBuf>) {
    let below = fs::read_dir(folder.join("slaves")).into_iter().flatten().flatten();
    for below in below.filter_map(|e| fs::canonicalize(e.path()).ok()) {
        // A partition is on the drive above it.
        let whole = match below.join("partition").exists() {
            true => below.parent().map(Path::to_owned),
            false => Some(below),
        };
        let Some(whole) = whole else { continue };
        let stacked = fs::read_dir(whole.join("slaves")).is_ok_and(|mut s| s.next().is_some());
        if stacked && deepest > 0 {
            descend(&whole, deepest - 1, bottom);
        } else {
            bottom.push(whole);
        }
    }
}

/// What a stacked device is, in words: `raid0 over nvme0n1 and nvme1n1`; `None` for a device that is built on no other.
pub fn words(folder: &Path, members: &[Member]) -> Option<String> {
    let names: Vec<&str> = members.iter().map(|m| m.name.as_str()).collect();
    let over = match names.as_slice() {
        [] => return None,
        [one] => (*one).to_owned(),
        [all @ .., last] => format!("{} and {last}", all.join(", ")),
    };
    let mapped = || {
        let name = text(folder.join("dm/name"))?;
        // Who made it stands before the first dash of its identity (LVM, CRYPT, mpath).
        let by = text(folder.join("dm/uuid")).unwrap_or_default();
        let kind = match by.split('-').next().unwrap_or_default() {
            "LVM" => "logical volume",
            "CRYPT" => "encrypted volume",
            "mpath" => "multipath device",
            _ => "mapped device",
        };
        Some(format!("{kind} {name}"))
    };
    let what = text(folder.join("md/level")).or_else(mapped).unwrap_or_else(|| "device".into());
    Some(format!("{what} over {over}"))
}
