//! What fitting the legs of a course to a drive goes by, whatever their kind.

use super::facts::DriveFacts;
use crate::course::ends::{End, Seen};
use crate::course::position::{Position, Range};
use mile_core::units::{block_size, thousands};
use mile_core::{Bytes, Nanos};

pub(crate) fn shortest(times: impl Iterator<Item = Option<Nanos>>) -> Option<Nanos> {
    times.flatten().min()
}

pub(crate) fn time_of(end: &End) -> Option<Nanos> {
    if let End::After(time) = end { Some(*time) } else { None }
}

fn seen_of(ends: &[End]) -> Vec<Seen> {
    ends.iter().filter_map(|e| if let End::Seen(seen) = e { Some(seen.clone()) } else { None }).collect()
}

/// What is left of stretches when one is taken out of them.
pub(crate) fn without(stretches: &[(u64, u64)], (from, to): (u64, u64)) -> Vec<(u64, u64)> {
    let parts = stretches.iter().flat_map(|&(a, b)| [(a, b.min(from)), (a.max(to), b)]);
    parts.filter(|(a, b)| a < b).collect()
}

/// What fitting the legs to a drive has come to.
pub(crate) struct Fit<'a> {
    pub(crate) drive: &'a DriveFacts,
    pub(crate) notes: Vec<String>,
    pub(crate) errors: Vec<String>,
    /// Stretches that are written before the leg at hand: from, to.
    pub(crate) written: Vec<(u64, u64)>,
    /// Bytes from the front that fills have written and that stay.
    pub(crate) filled: u64,
    /// Failed operations that the run survives.
    pub(crate) errors_at_most: u64,
}

impl Fit<'_> {
    pub(crate) fn address(&self, p: Position) -> u64 {
        match p {
            Position::Share(share) => (self.drive.capacity.0 as f64 * share) as u64,
            Position::At(bytes) => bytes.0,
            Position::BeforeEnd(bytes) => self.drive.capacity.0.saturating_sub(bytes.0),
        }
    }

    /// Ends that a drive without a temperature cannot tell are left out, and said.
    pub(crate) fn seen(&mut self, name: &str, ends: &[End], left: &str) -> Vec<Seen> {
        let mut seen = seen_of(ends);
        if let Some(end) = seen.iter().find(|s| s.needs_temperature() && !self.drive.has_temperature) {
            self.notes.push(format!(
                "Leg {name} waits for a {}, but this drive gives no temperature: {left}.",
                end.words()
            ));
            seen.retain(|s| !s.needs_temperature());
        }
        seen
    }

    /// The range of a leg in whole units on this drive, and a little off them: first byte and length. `None`, with the
    /// reason in the errors, where not one unit fits.
    pub(crate) fn range(
        &mut self,
        name: &str,
        over: Range,
        unit: Bytes,
        shift: Bytes,
    ) -> Option<(Bytes, Bytes)> {
        let block = unit.0.max(1);
        let whole = self.drive.capacity.0 / block * block;
        // Ranges that touch in shares touch in blocks; one that begins at a byte does not begin before it.
        let start = match over.0 {
            Position::Share(_) => self.address(over.0) / block * block,
            Position::At(_) | Position::BeforeEnd(_) => self.address(over.0).div_ceil(block) * block,
        };
        let asked_end = self.address(over.1);
        let end = asked_end.min(whole) / block * block;
        let needed = if shift.0 > 0 { 2 * block } else { block };
        if end < start + needed {
            self.errors.push(format!(
                "Leg {name}: not one block of {} fits between {} and {} on a drive of {}.",
                block_size(unit),
                Bytes(self.address(over.0)),
                Bytes(asked_end),
                self.drive.capacity
            ));
            return None;
        }
        let tail = self.drive.capacity.0.saturating_sub(end);
        if asked_end >= self.drive.capacity.0 && tail > 0 {
            self.notes.push(format!(
                "Leg {name} does not touch the last {} bytes of the drive, which are less than a block of {}.",
                thousands(&tail.to_string()),
                block_size(unit)
            ));
        }
        if asked_end > self.drive.capacity.0 {
            self.notes.push(format!(
                "Leg {name} reaches to {}, behind the end of this drive: it ends at {}.",
                Bytes(asked_end),
                self.drive.capacity
            ));
        }
        if shift.0 > 0 {
            return Some((Bytes(start + shift.0), Bytes(end - start - block)));
        }
        Some((Bytes(start), Bytes(end - start)))
    }
}
