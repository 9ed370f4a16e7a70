//! A disk as a medium: recording zones, a head that has to get somewhere, stretches that need several tries.
//!
//! - The outer tracks hold more than the inner ones, in recording zones of one rate each; the ratio of outer to inner is about 2 on drives of 3.5 inches.
//! - A seek takes `settle + a √d` for short ways, and goes over into a straight line beyond a knee, where the arm has come to its speed (Ruemmler and
//!   Wilkes, "An introduction to disk drive modeling", *IEEE Computer* 27(3), 1994: 0.5 to 3 ms to settle, 8 to 16 ms for half of the way).
//! - After a seek the head waits for its sector: uniform over a rotation. Of several operations in flight the drive takes one that is near; with `n` of
//!   them that wait is about the least of `n` uniform ones, 1/(n + 1) of a rotation.
//! - An unreadable sector is tried for some seconds before the drive gives up (ACS-4, 9.5, leaves the time to the drive; 7 s is common where a time limit is
//!   set, and minutes where none is). It is pending from then on, until it is written: the drive puts another in its place.
//! - A weak sector is read again, one rotation for each try. A reallocated one lies elsewhere: a seek there and one back.

use crate::medium::{Medium, Pace};
use crate::model::{Disk, Model, Reallocated, Weak};
use mile_core::Bytes;
use mile_drive::drive::TruthKind;
use std::collections::BTreeSet;

/// A disk, with stretches that are weaker than the rest.
pub(crate) struct DiskMedium {
    disk: Disk,
    weak: Vec<Weak>,
    capacity: f64,
    energy: [f64; 2],
    fill: f64,
    pace: Pace,
    block: u64,
    /// Where the head is: behind the last byte that it passed.
    head: u64,
    /// Whether the next operation is already priced; what it costs may not depend on how often that is asked.
    next: Option<(bool, u64, f64)>,
    dice: u64,
    sector: u64,
    /// Sectors that cannot be read: from, to, and the time that one is tried, seconds.
    unreadable: Vec<(u64, u64, f64)>,
    /// Those of them that a read has met, and how many have been put elsewhere by writes.
    pending: BTreeSet<u64>,
    moved: u64,
}

impl DiskMedium {
    pub(crate) fn new(model: &Model, disk: &Disk, seed: u64) -> Self {
        let thermal = &model.thermal;
        Self {
            disk: disk.clone(),
            weak: model.weak.clone(),
            capacity: model.geometry.capacity_bytes as f64,
            energy: [thermal.read_nj_per_byte, thermal.direct_nj_per_byte],
            fill: model.geometry.fill,
            pace: Pace { noise: 1.0, share: 1.0, ceiling: f64::INFINITY },
            block: 1 << 20,
            head: 0,
            next: None,
            dice: seed ^ 0x9e37_79b9_7f4a_7c15,
            sector: model.geometry.logical_block.max(1),
            unreadable: disk.unreadable.iter().map(|u| (u.sector, u.sector + u.sectors, u.after_s)).collect(),
            pending: BTreeSet::new(),
            moved: 0,
        }
    }

    /// Uniform from 0 to 1, by SplitMix64.
    fn roll(&mut self) -> f64 {
        self.dice = self.dice.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.dice;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) >> 11) as f64 / (1_u64 << 53) as f64
    }

    /// Rate of the tracks at an address, bytes a second.
    fn rate(&self, offset: u64) -> f64 {
        let zones = f64::from(self.disk.recording_zones.max(1));
        let zone = (offset as f64 / self.capacity * zones).floor().min(zones - 1.0);
        let inwards = if zones > 1.0 { zone / (zones - 1.0) } else { 0.0 };
        let mb_s = self.disk.outer_mb_s - (self.disk.outer_mb_s - self.disk.inner_mb_s) * inwards;
        (mb_s * 1e6 * self.pace.noise * self.pace.share).min(self.pace.ceiling)
    }

    /// One rotation, seconds.
    fn rotation(&self) -> f64 {
        60.0 / self.disk.rotation_per_min
    }

    /// Time of a seek over a share of the drive, seconds.
    fn seek(&self, share: f64) -> f64 {
        let d = &self.disk;
        let root = |x: f64| d.settle_ms + d.root_ms * x.sqrt();
        let ms = if share <= d.knee_share {
            root(share)
        } else {
            root(d.knee_share) + d.line_ms * (share - d.knee_share)
        };
        ms / 1e3
    }

    /// Service time of an operation, seconds.
    fn price(&mut self, write: bool, offset: u64) -> f64 {
        let moving = self.block as f64 / self.rate(offset);
        let mut seconds = moving;
        if offset != self.head {
            let way = offset.abs_diff(self.head) as f64 / self.capacity;
            // Writes wait in the cache of the drive, so that it has more of them to choose from.
            let near = if write { self.disk.write_cache_ops.max(1.0) } else { 1.0 };
            seconds += self.seek(way) + self.rotation() * self.roll() * 2.0 / (near + 1.0);
        }
        let at = offset as f64 / self.capacity;
        let share = self
            .weak
            .iter()
            .find(|w| (w.from..w.to).contains(&at))
            .map_or(1.0, |w| if write { w.write_share } else { w.read_share });
        if share < 1.0 {
            // Whole rotations, as many on the mean as the share says.
            let tries = moving * (1.0 / share - 1.0) / self.rotation();
            let more = f64::from(u8::from(self.roll() < tries.fract()));
            seconds += (tries.floor() + more) * self.rotation();
        }
        if let Some((_, after)) = self.first_bad(offset, self.block).filter(|_| !write) {
            seconds += after;
        }
        seconds + self.elsewhere(offset) as f64 * 2.0 * (self.seek(0.2) + 0.5 * self.rotation())
    }

    /// The first sector of these bytes that cannot be read, and how long the drive tries.
    fn first_bad(&self, offset: u64, bytes: u64) -> Option<(u64, f64)> {
        let (from, to) = (offset / self.sector, (offset + bytes).div_ceil(self.sector));
        let within = self.unreadable.iter().filter(|u| u.0 < to && from < u.1);
        within.map(|u| (u.0.max(from), u.2)).min_by_key(|u| u.0)
    }

    /// Reallocated sectors within an operation.
    fn elsewhere(&self, offset: u64) -> u64 {
        let count = |r: &Reallocated| {
            let (from, to) = (r.from * self.capacity, r.to * self.capacity);
            let apart = (to - from) / f64::from(r.sectors.max(1));
            let before = |byte: f64| ((byte.clamp(from, to) - from) / apart).ceil() as u64;
            before((offset + self.block) as f64) - before(offset as f64)
        };
        self.disk.reallocated.iter().map(count).sum()
    }
}

impl Medium for DiskMedium {
    fn pass(&mut self, _at: u64, _seconds: f64, _unit: Option<f64>) -> Option<TruthKind> {
        None
    }

    fn set_pace(&mut self, _at: u64, block: u64, pace: Pace) {
        (self.block, self.pace) = (block, pace);
    }

    fn takes(&mut self, write: bool, offset: u64) -> f64 {
        match self.next {
            Some((w, o, seconds)) if (w, o) == (write, offset) => seconds * 1e9,
            _ => {
                let seconds = self.price(write, offset);
                self.next = Some((write, offset, seconds));
                seconds * 1e9
            }
        }
    }

    fn fails(&mut self, write: bool, offset: u64, bytes: u64) -> bool {
        let bad = self.first_bad(offset, bytes).filter(|_| !write);
        if let Some((sector, _)) = bad {
            self.pending.insert(sector);
            (self.head, self.next) = (sector * self.sector, None);
        }
        bad.is_some()
    }

    fn first_unreadable(&self, from: u64, to: u64) -> Option<u64> {
        self.first_bad(from, to.saturating_sub(from)).map(|(sector, _)| sector)
    }

    fn bad_sectors(&self) -> (u64, u64) {
        let known: u64 = self.disk.reallocated.iter().map(|r| u64::from(r.sectors)).sum();
        (known + self.moved, self.pending.len() as u64)
    }

    fn done(&mut self, write: bool, offset: u64, bytes: u64) -> Option<TruthKind> {
        if write && !self.unreadable.is_empty() {
            let (from, to) = (offset / self.sector, (offset + bytes) / self.sector);
            let cut = |u: &(u64, u64, f64)| [(u.0, u.1.min(from), u.2), (u.0.max(to), u.1, u.2)];
            let count = |all: &[(u64, u64, f64)]| all.iter().map(|u| u.1 - u.0).sum::<u64>();
            let before = count(&self.unreadable);
            self.unreadable = self.unreadable.iter().flat_map(cut).filter(|u| u.0 < u.1).collect();
            self.moved += before - count(&self.unreadable);
            self.pending.retain(|s| !(from..to).contains(s));
        }
        self.head = offset + bytes;
        self.next = None;
        None
    }

    fn energy(&self, write: bool) -> f64 {
        self.energy[usize::from(write)]
    }

    fn discard(&mut self, _start: Bytes, _length: Bytes) {}

    fn fill(&self) -> f64 {
        self.fill
    }

    fn noise(&self) -> f64 {
        self.disk.noise
    }
}
