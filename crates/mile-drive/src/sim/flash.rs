//! Flash translation: what is mapped, how full the write cache is, and at what rate the next bytes go.

use super::model::{Flash, Geometry};

/// Granularity at which the map of written addresses is kept.
const EXTENT: u64 = 16 << 20;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Mode {
    /// Writes go into the cache.
    Cache,
    /// Writes go past it.
    Direct,
    /// Free space is short: the cache is folded while writes come in.
    Folding,
}

#[derive(Clone, Debug)]
pub(super) struct Translation {
    flash: Flash,
    capacity: f64,
    mapped: Vec<bool>,
    mapped_bytes: f64,
    last_extent: usize,
    last_was_mapped: bool,
    /// Bytes in the cache.
    pub(super) cached: f64,
    pub(super) mode: Mode,
    /// Bytes that may go past the cache before it has to be folded.
    direct_left: f64,
    idle_s: f64,
}

impl Translation {
    pub(super) fn new(flash: &Flash, geometry: &Geometry) -> Self {
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
    pub(super) fn fill(&self) -> f64 {
        (self.mapped_bytes / self.capacity).min(1.0)
    }

    /// Size of the cache: the static part, and a share of what is free, in cells that hold one bit instead of several.
    /// Cached data counts as free space, as it is there only until it is folded.
    pub(super) fn cache_size(&self) -> f64 {
        let settled = (self.mapped_bytes - self.cached).max(0.0);
        let free = (self.capacity - settled).max(0.0);
        self.flash.cache_static_gb * 1e9 + free * self.flash.cache_dynamic_share / self.flash.bits_per_cell
    }

    /// Rate of writes to unused space in the present mode, bytes a second.
    pub(super) fn write_rate(&self) -> f64 {
        1e6 * match self.mode {
            Mode::Cache => self.flash.cache_mb_s,
            Mode::Direct => self.flash.direct_mb_s,
            Mode::Folding => self.flash.folding_mb_s,
        }
    }

    /// How many times longer a write to an address takes for what has to be collected first: 1 for unused addresses and
    /// on a drive with room.
    pub(super) fn collection(&self) -> f64 {
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
    pub(super) fn write(&mut self, offset: u64, bytes: u64) -> bool {
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
    pub(super) fn discard(&mut self, start: u64, length: u64) {
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
    pub(super) fn pass(&mut self, seconds: f64) -> bool {
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
