//! A run that was planned, and its lanes on their drives.

use crate::bench::{self, Card};
use crate::order::Order;
use mile_core::channel::Channel;
use mile_core::{Bytes, Rate};
use mile_course::Plan;
use mile_drive::sysfs::Disk;
use mile_drive::{Drive, Situation};
use mile_instrument::Config;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;

/// A run that was planned and may be started.
pub struct Ready {
    /// As many as the order has.
    pub lanes: Vec<ReadyLane>,
    pub(super) apart: bool,
    /// Readings beside those of every sample, and the instruments that give some of them.
    pub(super) channels: Vec<Channel>,
    pub(super) instruments: Config,
    pub(super) order: Order,
}

/// One of its lanes.
pub struct ReadyLane {
    /// The lane's name; empty where the course is for one drive.
    pub name: String,
    /// Its course, fitted to its drive.
    pub plan: Plan,
    pub(super) drive: Box<dyn Drive>,
    /// The drive as it was named.
    pub(super) named: String,
}

impl ReadyLane {
    /// The drive as the bench shows it.
    pub fn card(&self) -> Card {
        // A file is on no bench.
        bench::card(&self.named)
            .ok()
            .filter(|c| c.identity.simulated || c.device.is_some())
            .unwrap_or_else(|| Card::plain(self.drive.as_ref()))
    }

    /// The disk under the drive.
    pub fn disk(&self) -> Option<Disk> {
        let path = Path::new(&self.named);
        let meta = std::fs::metadata(path).or_else(|_| std::fs::metadata(folder_of(path))).ok()?;
        let number = if meta.file_type().is_block_device() { meta.rdev() } else { meta.dev() };
        Disk::of(Path::new("/sys"), rustix::fs::major(number), rustix::fs::minor(number))
    }

    /// Whether a path is on the disk under test.
    pub fn is_on_drive(&self, path: &Path) -> bool {
        !self.drive.is_virtual() && same_disk(Path::new(&self.named), path)
    }

    /// Rate at which the drive is claimed to write, where it is.
    pub fn claimed_write(&self) -> Option<Rate> {
        self.drive.claims().write
    }

    /// Rated endurance of the drive, where it is claimed.
    pub fn endurance(&self) -> Option<Bytes> {
        self.drive.claims().endurance
    }
}

/// What a person says about the situation goes before what the drive knows.
pub(super) fn overlay(known: Situation, said: &Situation) -> Situation {
    Situation {
        slot: said.slot.clone().or(known.slot),
        cooling: said.cooling.clone().or(known.cooling),
        ambient: said.ambient.or(known.ambient),
        enclosure: said.enclosure.clone().or(known.enclosure),
        notes: said.notes.clone().or(known.notes),
    }
}

/// Whether two paths are on one device.
pub(super) fn same_disk(a: &Path, b: &Path) -> bool {
    let device = |path: &Path| std::fs::metadata(folder_of(path)).map(|m| m.dev()).ok();
    device(a).is_some() && device(a) == device(b)
}

pub(super) fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}
