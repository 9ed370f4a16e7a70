//! Where in a zone of a scan a run is.

use super::scan::ZoneAt;
use super::state::Run;
use mile_core::{Bytes, Nanos};

/// A rest of a zone of less than this part of a sample is taken into the sample before it.
const NEARLY: u64 = 8;

impl Run<'_> {
    /// Whether the sample underway is as long as it is to be.
    pub(super) fn is_sample_due(&self) -> bool {
        self.drive.now() >= self.sample_start.plus(self.plan.sample_every) && !self.is_zone_nearly_over()
    }

    /// When to see next whether it is.
    pub(super) fn next_look(&self) -> Nanos {
        let (now, due) = (self.drive.now(), self.sample_start.plus(self.plan.sample_every));
        if now < due { due } else { now.plus(Nanos(self.plan.sample_every.0 / NEARLY)) }
    }

    /// Whether the zone underway is nearly over: what is left of it would be a sample of a moment, whose rate says nothing.
    pub(super) fn is_zone_nearly_over(&self) -> bool {
        let Some(zone) = &self.zone_at else { return false };
        let own = self.tally.written.0 + self.tally.read.0;
        let left = (zone.gone + zone.length).saturating_sub(self.moved.0 + self.failed + own);
        // Not for ever, where it stands still.
        let long = self.sample_start.plus(Nanos(2 * self.plan.sample_every.0));
        left <= own / NEARLY && self.drive.now() < long
    }

    /// Where the sample underway began, in a zone of a scan. What failed in it has been told already.
    pub(super) fn in_zone(&self) -> Option<Bytes> {
        let own = |zone: &ZoneAt| u64::from(self.tally.errors) * zone.block;
        self.zone_at.as_ref().map(|zone| {
            Bytes(zone.start + (self.moved.0 + self.failed).saturating_sub(zone.gone + own(zone)))
        })
    }
}
