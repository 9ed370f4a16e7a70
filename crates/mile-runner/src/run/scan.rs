//! The zones of a scan, one transfer each: a sample never spans two of them, so that what a zone did is known whatever the order.

use mile_core::surface::refine::{self, Refine};
use mile_core::{Bytes, Trace, surface};
use mile_course::PlannedTransfer;

/// The zones in the order in which they are visited; none where a leg is no scan.
pub(super) struct Visits {
    zones: Vec<(Bytes, Bytes)>,
    /// Bytes moved when each is over.
    ends: Vec<u64>,
    /// How many of them are visited in their order; those behind them were put off.
    in_order: usize,
    block: u64,
    /// Where a leg refines: the edges that it looks for, and the first sample that it has not taken in.
    edges: Option<(Refine, usize)>,
}

/// Where in a zone a transfer began, what the run had gone past by then, and the length of its operations.
pub(super) struct ZoneAt {
    pub(super) start: u64,
    pub(super) gone: u64,
    pub(super) block: u64,
    /// Bytes from there to the end of the zone.
    pub(super) length: u64,
}

/// Bytes moved when each of these is over.
fn ends(zones: &[(Bytes, Bytes)]) -> Vec<u64> {
    let mut end = 0;
    let sum = |zone: &(Bytes, Bytes)| {
        end += zone.1.0;
        end
    };
    zones.iter().map(sum).collect()
}

/// What the next transfer goes over.
pub(super) struct Piece {
    pub(super) start: Bytes,
    pub(super) length: Bytes,
    /// Bytes from its start where it begins.
    pub(super) skip: Bytes,
    /// Bytes that are left of it.
    pub(super) left: Bytes,
}

impl Visits {
    pub(super) fn of(work: &PlannedTransfer, leg: u32) -> Self {
        let zones = work.visits(leg);
        Self {
            ends: ends(&zones),
            in_order: zones.len(),
            block: work.load.block.0.max(1),
            zones,
            edges: None,
        }
    }

    /// As [`Visits::of`], of which zones were put off from these bytes on.
    pub(super) fn with_cuts(mut self, cuts: &[Bytes]) -> Self {
        for cut in cuts {
            let zone =
                self.zones.iter().position(|(start, length)| *start <= *cut && cut.0 < start.0 + length.0);
            if let Some(zone) = zone {
                self.cut(zone, *cut);
            }
        }
        self
    }

    /// Puts off what is left of the zone in which a leg is that has gone past so much. Gives what that is, from and to.
    pub(super) fn put_off(&mut self, moved: Bytes) -> Option<(Bytes, Bytes)> {
        // A leg that looks for edges has no zones of its own; it gives up what cannot be read.
        if self.edges.is_some() {
            return None;
        }
        let zone = self.ends.partition_point(|end| *end <= moved.0);
        let &(start, length) = self.zones.get(zone)?;
        let at = Bytes(start.0 + length.0 - (self.ends[zone] - moved.0));
        self.cut(zone, at);
        Some((at, Bytes(start.0 + length.0)))
    }

    /// Ends a zone at a byte, and visits what is behind it last: its second half first, as that is more likely to be good.
    fn cut(&mut self, zone: usize, at: Bytes) {
        let (start, length) = self.zones[zone];
        let end = start.0 + length.0;
        let half = (end - at.0) / 2 / self.block * self.block;
        let middle = if half == 0 { at.0 } else { end - half };
        self.zones[zone].1 = Bytes(at.0 - start.0);
        self.zones.push((Bytes(middle), Bytes(end - middle)));
        if middle > at.0 {
            self.zones.push((at, Bytes(middle - at.0)));
        }
        self.ends = ends(&self.zones);
    }

    /// Whether a leg that has gone past so much is at what was put off.
    pub(super) fn is_last(&self, moved: Bytes) -> bool {
        self.edges.is_none() && self.ends.partition_point(|end| *end <= moved.0) >= self.in_order
    }

    /// As [`Visits::of`], for a leg that begins behind what `trace` has; what it did before an interruption is in there too.
    pub(super) fn behind(work: &PlannedTransfer, leg: u32, trace: &Trace) -> Self {
        let Some(limit) = work.refine else { return Self::of(work, leg) };
        let found = surface::by_zones(trace).unwrap_or_default();
        let mut edges = Refine::new(&found.0, &found.1, limit.0);
        let before = trace.legs().iter().filter(|l| refine::is_refining(l)).flat_map(|l| l.samples.clone());
        before.for_each(|i| edges.follow(trace, i));
        Self { edges: Some((edges, trace.len())), ..Self::of(work, leg) }
    }

    /// Takes in the samples that are new, where what they show says what is visited next.
    pub(super) fn follow(&mut self, trace: &Trace) {
        if let Some((edges, next)) = &mut self.edges {
            (*next..trace.len()).for_each(|i| edges.follow(trace, i));
            *next = trace.len();
        }
    }

    /// Why there is nothing more to visit, where that is so.
    pub(super) fn over(&self) -> Option<String> {
        let (edges, _) = self.edges.as_ref()?;
        edges.next().is_none().then(|| edges.outcome())
    }

    pub(super) fn is_empty(&self) -> bool {
        self.zones.is_empty() && self.edges.is_none()
    }

    /// Where a piece begins, when the run had gone past so much; `None` where a leg is no scan.
    pub(super) fn at(&self, piece: &Piece, gone: u64, work: &PlannedTransfer) -> Option<ZoneAt> {
        let start = piece.start.0 + piece.skip.0;
        let length = piece.left.0;
        (!self.is_empty()).then_some(ZoneAt { start, gone, block: work.load.block.0, length })
    }

    /// Where a leg goes on that has gone past so much: in a zone of the scan, or in its whole range.
    pub(super) fn piece(&self, work: &PlannedTransfer, moved: Bytes) -> Piece {
        if let Some((start, length)) = self.edges.as_ref().and_then(|e| e.0.next()) {
            let length = Bytes(length.div_ceil(work.load.block.0.max(1)) * work.load.block.0);
            let last = (work.start.0 + work.length.0).saturating_sub(length.0);
            return Piece {
                start: Bytes(start.clamp(work.start.0, last)),
                length,
                skip: Bytes(0),
                left: length,
            };
        }
        let round = Bytes(moved.0 % work.length.0.max(1));
        let at = self.ends.partition_point(|end| *end <= round.0);
        let Some(&(start, length)) = self.zones.get(at) else {
            return Piece { start: work.start, length: work.length, skip: round, left: Bytes(u64::MAX) };
        };
        let skip = round.0 + length.0 - self.ends[at];
        Piece { start, length, skip: Bytes(skip), left: Bytes(length.0 - skip) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mile_course::{Plan, Work, parse, plan};

    fn scan(order: &str) -> Plan {
        let text = format!("course \"s\"\nleg s\n scan {order}, blocks 1 MiB, depth 8, zones 37\n");
        let drive = mile_course::DriveFacts {
            capacity: Bytes(1_000_000_000),
            logical_block: Bytes(512),
            has_temperature: true,
            readable: true,
            cache: None,
            files: None,
        };
        plan(&parse(&text).unwrap(), &drive).unwrap()
    }

    #[test]
    fn every_order_visits_every_byte_once_and_goes_on_where_it_was() {
        for order in ["forward", "backward", "random"] {
            let plan = scan(order);
            let Work::Transfer(work) = &plan.legs[0].work else { panic!() };
            let visits = Visits::of(work, 0);
            assert_eq!(visits.zones.len(), 37);
            let mut bytes = vec![false; (work.length.0 >> 20) as usize];
            let mut moved = 0;
            while moved < work.budget.0 {
                let piece = visits.piece(work, Bytes(moved));
                assert!(piece.left.0 > 0 && piece.skip.0 + piece.left.0 == piece.length.0);
                let block = ((piece.start.0 + piece.skip.0 - work.start.0) >> 20) as usize;
                assert!(!std::mem::replace(&mut bytes[block], true), "{order}: block {block} twice");
                moved += 1 << 20;
            }
            assert!(bytes.iter().all(|b| *b), "{order}");
        }
        // The same course has the same order; another leg has another.
        let plan = scan("random");
        let Work::Transfer(work) = &plan.legs[0].work else { panic!() };
        assert_eq!(work.visits(3), work.visits(3));
        assert_ne!(work.visits(3), work.visits(4));
    }
}
