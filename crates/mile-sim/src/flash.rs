//! Flash as a medium, and its translation: what is mapped, how full the write cache is, and at what rate the next bytes go.

use crate::medium::{Medium, Pace};
use crate::model::{Flash, Geometry, Model, Stale, Weak};
use mile_core::Bytes;
use mile_drive::drive::TruthKind;

/// Granularity at which the map of written addresses is kept.
const EXTENT: u64 = 16 << 20;

/// Flash behind a translation, with stretches that are slower than the rest.
pub(crate) struct FlashMedium {
    map: Translation,
    flash: Flash,
    weak: Vec<Weak>,
    stale: Vec<OldData>,
    capacity: f64,
    /// Shortest time of an operation, ns: of reads, of writes.
    floors: [f64; 2],
    /// Energy of reads, of writes into the cache, of writes past it, nJ a byte.
    energy: [f64; 3],
    /// Until when a dip of the rate lasts, ns.
    dip_until: u64,
    /// Service time of an operation at an address of usual strength, ns: of reads, of writes.
    service: [f64; 2],
}

impl FlashMedium {
    pub(crate) fn new(model: &Model, flash: &Flash) -> Self {
        let (controller, thermal) = (&model.controller, &model.thermal);
        Self {
            map: Translation::new(flash, &model.geometry),
            flash: flash.clone(),
            weak: model.weak.clone(),
            stale: flash
                .stale
                .iter()
                .map(|s| OldData::new(s, model.geometry.capacity_bytes as f64))
                .collect(),
            capacity: model.geometry.capacity_bytes as f64,
            floors: [1e9 / controller.read_iops, 1e9 / controller.write_iops],
            energy: [thermal.read_nj_per_byte, thermal.cache_nj_per_byte, thermal.direct_nj_per_byte],
            dip_until: 0,
            service: [f64::INFINITY; 2],
        }
    }

    /// Share of the pace that it has at an address.
    fn strength(&self, offset: u64, write: bool) -> f64 {
        let at = offset as f64 / self.capacity;
        let here = self.weak.iter().find(|w| (w.from..w.to).contains(&at));
        let weak = here.map_or(1.0, |w| if write { w.write_share } else { w.read_share });
        let old = self.stale.iter().filter(|_| !write).find_map(|s| s.share(offset));
        weak * old.unwrap_or(1.0)
    }
}

impl Medium for FlashMedium {
    fn pass(&mut self, at: u64, seconds: f64, unit: Option<f64>) -> Option<TruthKind> {
        let back = self.map.pass(seconds).then_some(TruthKind::CacheBack);
        let every = self.flash.dip_every_s;
        if self.map.mode != Mode::Cache && every > 0.0 && unit.is_some_and(|u| u < seconds / every) {
            self.dip_until = at + (self.flash.dip_s * 1e9) as u64;
        }
        back
    }

    fn set_pace(&mut self, at: u64, block: u64, pace: Pace) {
        let dip = if at < self.dip_until { 1.0 - self.flash.dip_share } else { 1.0 };
        let bases = [self.flash.read_mb_s * 1e6, self.map.write_rate() / self.map.collection() * dip];
        let rates = bases.map(|base| (base * pace.noise * pace.share).min(pace.ceiling));
        self.service = [0, 1].map(|i| (block as f64 * 1e9 / rates[i]).max(self.floors[i]));
    }

    #[inline]
    fn takes(&mut self, write: bool, offset: u64) -> f64 {
        let takes = self.service[usize::from(write)];
        if self.weak.is_empty() && self.stale.is_empty() {
            takes
        } else {
            takes / self.strength(offset, write)
        }
    }

    fn done(&mut self, write: bool, offset: u64, bytes: u64) -> Option<TruthKind> {
        if write {
            self.stale.iter_mut().for_each(|s| s.written(offset, bytes));
        }
        let mode = self.map.mode;
        let full = write && self.map.write(offset, bytes);
        let changed = mode != self.map.mode;
        changed.then_some(if full { TruthKind::CacheFull } else { TruthKind::FoldingOn })
    }

    fn energy(&self, write: bool) -> f64 {
        self.energy[if write { 1 + usize::from(self.map.mode != Mode::Cache) } else { 0 }]
    }

    fn discard(&mut self, start: Bytes, length: Bytes) {
        self.map.discard(start.0, length.0);
    }

    fn fill(&self) -> f64 {
        self.map.fill()
    }

    fn noise(&self) -> f64 {
        self.flash.noise
    }
}

/// A stretch of old data, in cells, each with the share of it that was written again.
struct OldData {
    from: f64,
    width: f64,
    read_share: f64,
    fresh: Vec<f64>,
}

impl OldData {
    /// Cells of a stretch.
    const CELLS: usize = 1024;

    fn new(of: &Stale, capacity: f64) -> Self {
        let width = (of.to - of.from) * capacity / Self::CELLS as f64;
        Self { from: of.from * capacity, width, read_share: of.read_share, fresh: vec![0.0; Self::CELLS] }
    }

    fn cell(&self, offset: u64) -> Option<usize> {
        let cell = (offset as f64 - self.from) / self.width;
        (0.0..Self::CELLS as f64).contains(&cell).then_some(cell as usize)
    }

    /// Share of its pace that a read has there.
    fn share(&self, offset: u64) -> Option<f64> {
        let fresh = self.fresh[self.cell(offset)?];
        Some(self.read_share + (1.0 - self.read_share) * fresh)
    }

    fn written(&mut self, offset: u64, bytes: u64) {
        if let Some(cell) = self.cell(offset) {
            self.fresh[cell] = (self.fresh[cell] + bytes as f64 / self.width).min(1.0);
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Mode {
    /// Writes go into the cache.
    Cache,
    /// Writes go past it.
    Direct,
    /// Free space is short: the cache is folded while writes come in.
    Folding,
}

#[derive(Clone, Debug)]
struct Translation {
    flash: Flash,
    capacity: f64,
    mapped: Vec<bool>,
    mapped_bytes: f64,
    last_extent: usize,
    last_was_mapped: bool,
    /// Bytes in the cache.
    cached: f64,
    mode: Mode,
    /// Bytes that may go past the cache before it has to be folded.
    direct_left: f64,
    idle_s: f64,
}

impl Translation {
    fn new(flash: &Flash, geometry: &Geometry) -> Self {
        let extents = geometry.capacity_bytes.div_ceil(EXTENT) as usize;
        let filled = (extents as f64 * geometry.fill) as usize;
        Self {
            flash: flash.clone(),
            capacity: geometry.capacity_bytes as f64,
            // What is on the drive at the start lies at its end, so that writes from the front are new.
            mapped: (0..extents).map(|i| i >= extents - filled).collect(),
            mapped_bytes: filled as f64 * EXTENT as f64,
            last_extent: usize::MAX,
            last_was_mapped: false,
            cached: 0.0,
            mode: Mode::Cache,
            direct_left: f64::INFINITY,
            idle_s: 0.0,
        }
    }

    /// Share of the drive in use, 0 to 1.
    fn fill(&self) -> f64 {
        (self.mapped_bytes / self.capacity).min(1.0)
    }

    /// Size of the cache: the static part, and a share of what is free, in cells that hold one bit instead of several.
    /// Cached data counts as free space, as it is there only until it is folded.
    fn cache_size(&self) -> f64 {
        let settled = (self.mapped_bytes - self.cached).max(0.0);
        let free = (self.capacity - settled).max(0.0);
        self.flash.cache_static_gb * 1e9 + free * self.flash.cache_dynamic_share / self.flash.bits_per_cell
    }

    /// Rate of writes to unused space in the present mode, bytes a second.
    fn write_rate(&self) -> f64 {
        1e6 * match self.mode {
            Mode::Cache => self.flash.cache_mb_s,
            Mode::Direct => self.flash.direct_mb_s,
            Mode::Folding => self.flash.folding_mb_s,
        }
    }

    /// How many times longer a write to an address takes for what has to be collected first: 1 for unused addresses and
    /// on a drive with room.
    fn collection(&self) -> f64 {
        let knee = self.flash.collect_from_fill;
        let over = ((self.fill() - knee) / (1.0 - knee).max(1e-6)).clamp(0.0, 1.0);
        if self.last_was_mapped {
            1.0 + self.flash.collect_cost * over
        } else if self.mode == Mode::Cache {
            1.0
        } else {
            1.0 + self.flash.fill_cost * over
        }
    }

    /// Takes in a write. Gives whether the cache became full with it.
    #[inline]
    fn write(&mut self, offset: u64, bytes: u64) -> bool {
        let extent = (offset / EXTENT) as usize;
        if extent != self.last_extent {
            self.last_extent = extent;
            self.last_was_mapped = std::mem::replace(&mut self.mapped[extent], true);
            if !self.last_was_mapped {
                self.mapped_bytes += EXTENT as f64;
            }
        }
        self.idle_s = 0.0;
        if self.mode == Mode::Cache {
            self.cached += bytes as f64;
            if self.cached >= self.cache_size() {
                self.mode = Mode::Direct;
                let free = 1.0 - self.fill();
                self.direct_left = self.flash.second_stage_gb.map_or(f64::INFINITY, |gb| gb * 1e9 * free);
                return true;
            }
        } else if self.mode == Mode::Direct {
            self.direct_left -= bytes as f64;
            // One-bit cells hold `bits` times their data's worth of space, which is needed now.
            if self.direct_left <= 0.0 || self.capacity - self.mapped_bytes < 2.0 * self.cached {
                self.mode = Mode::Folding;
            }
        }
        false
    }

    /// Gives back the space of the extents that lie wholly in a range.
    fn discard(&mut self, start: u64, length: u64) {
        let (first, behind) = (start.div_ceil(EXTENT) as usize, ((start + length) / EXTENT) as usize);
        for extent in first..behind.min(self.mapped.len()) {
            if std::mem::replace(&mut self.mapped[extent], false) {
                self.mapped_bytes -= EXTENT as f64;
            }
        }
        // The next write looks its extent up again.
        self.last_extent = usize::MAX;
        self.cached = self.cached.min(self.mapped_bytes);
        if self.mode != Mode::Cache && self.cached < 0.95 * self.cache_size() {
            self.mode = Mode::Cache;
        }
    }

    /// Lets time pass; at rest the cache is folded. Gives whether there is room in it again.
    fn pass(&mut self, seconds: f64) -> bool {
        if self.idle_s >= self.flash.drain_after_s && self.cached > 0.0 {
            self.cached = (self.cached - seconds * self.flash.drain_mb_s * 1e6).max(0.0);
            // Writes go into the cache again once a twentieth of it is free, so that it does not flutter.
            if self.mode != Mode::Cache && self.cached < 0.95 * self.cache_size() {
                self.mode = Mode::Cache;
                return true;
            }
        }
        self.idle_s += seconds;
        false
    }
}
