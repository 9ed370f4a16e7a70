//! What the rest of a run relies on: stretches that it reads or verifies, and that it wrote itself before.

use mile_core::{Bytes, Op};
use mile_course::{Access, Plan, PlannedTransfer, Work};

/// Places of a stretch that are looked at before a run goes on.
const PLACES: u64 = 64;

/// A stretch that one leg wrote in blocks, and another reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// Its first byte, the start of a block.
    pub start: Bytes,
    /// Its end.
    pub end: Bytes,
    /// Bytes of the blocks that it was written in.
    pub block: Bytes,
    /// The leg that reads it.
    pub reader: usize,
}

/// What a transfer has written once it has moved `moved` bytes: its range from the front. Random writes leave no stretch that is
/// known to be written, and several workers one only once all of it is.
fn wrote(t: &PlannedTransfer, moved: u64) -> Option<(u64, u64)> {
    let length = moved.min(t.length.0) / t.load.block.0.max(1) * t.load.block.0;
    let known = t.load.op == Op::Write
        && t.load.access == Access::Sequential
        && (t.load.workers <= 1 || length >= t.length.0 / t.load.block.0.max(1) * t.load.block.0);
    (known && length > 0).then_some((t.start.0, t.start.0 + length))
}

/// What legs from `leg` on read or verify of what was written before, where `leg` has moved `moved` bytes. `readable` is whether what the
/// run did not write may be read as well.
pub fn relied_on(plan: &Plan, leg: usize, moved: Bytes, readable: bool) -> Vec<Stretch> {
    let mut written: Vec<(u64, u64, Bytes)> = Vec::new();
    let over = |t: &PlannedTransfer, moved: u64, written: &mut Vec<(u64, u64, Bytes)>| {
        if let Some((from, to)) = wrote(t, moved) {
            cut(written, from, to);
            // What was copied bears the stamps of its source, or none, and is not known again.
            written.extend(t.copy.is_none().then_some((from, to, t.load.block)));
        }
    };
    for (i, planned) in plan.legs.iter().enumerate().take(leg + 1) {
        match &planned.work {
            Work::Transfer(t) => over(t, if i < leg { t.budget.0 } else { moved.0 }, &mut written),
            Work::Discard { start, length } => cut(&mut written, start.0, start.0 + length.0),
            _ => {}
        }
    }
    let mut relied = Vec::new();
    for (i, planned) in plan.legs.iter().enumerate().skip(leg) {
        if let Work::Discard { start, length } = planned.work {
            cut(&mut written, start.0, start.0 + length.0);
        }
        let Work::Transfer(t) = &planned.work else { continue };
        let reads = t.load.op == Op::Read || t.load.op == Op::Mixed;
        if reads && (t.verify || !readable) {
            for (from, to, block) in &written {
                let (start, end) = ((*from).max(t.start.0), (*to).min(t.start.0 + t.length.0));
                // Whole blocks, from the start of one.
                let start = from + (start - from.min(&start)).div_ceil(block.0) * block.0;
                if start < end {
                    relied.push(Stretch { start: Bytes(start), end: Bytes(end), block: *block, reader: i });
                }
            }
        }
        // What is written on the way is not relied on behind it.
        if let (Some((from, to)), true) = (wrote(t, t.budget.0), i > leg || moved.0 == 0) {
            cut(&mut written, from, to);
        }
    }
    relied
}

/// Takes a range out of stretches.
fn cut(written: &mut Vec<(u64, u64, Bytes)>, from: u64, to: u64) {
    let parts = std::mem::take(written);
    for (a, b, block) in parts {
        if a < from.min(b) {
            written.push((a, from.min(b), block));
        }
        // The rest begins in the middle of a block, maybe; its blocks are counted from the old start.
        let rest = a + to.saturating_sub(a).div_ceil(block.0.max(1)) * block.0;
        if rest.max(a) < b && to > a {
            written.push((rest.max(a), b, block));
        } else if to <= a {
            written.push((a, b, block));
        }
    }
}

impl Stretch {
    /// Places to look at: starts of blocks, the first, the last and others evenly between.
    pub fn places(&self) -> impl Iterator<Item = Bytes> + use<> {
        let (start, block) = (self.start.0, self.block.0.max(1));
        let blocks = (self.end.0 - start).div_ceil(block).max(1);
        let count = blocks.min(PLACES);
        (0..count).map(move |i| Bytes(start + (i * (blocks - 1) / (count - 1).max(1)) * block))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FACTS: mile_course::DriveFacts = mile_course::DriveFacts {
        capacity: Bytes(1 << 30),
        logical_block: Bytes(4096),
        has_temperature: false,
        readable: false,
        cache: None,
        files: None,
    };

    fn plan(legs: &str) -> Plan {
        let course = mile_course::parse(&format!("course \"c\"\n{legs}")).unwrap();
        mile_course::plan(&course, &FACTS).unwrap()
    }

    fn stretches(plan: &Plan, leg: usize, moved: u64, readable: bool) -> Vec<(u64, u64, usize)> {
        relied_on(plan, leg, Bytes(moved), readable).iter().map(|s| (s.start.0, s.end.0, s.reader)).collect()
    }

    const MIB: u64 = 1 << 20;

    #[test]
    fn a_leg_that_reads_relies_on_what_earlier_legs_wrote_there() {
        let p = plan(
            "leg w\n write sequential, blocks 1 MiB, depth 4, over 0 B to 67108864 B, until one pass\nleg r\n read sequential, blocks 1 MiB, depth 4, over 0 B to 33554432 B, until one pass\n",
        );
        assert_eq!(stretches(&p, 1, 0, false), [(0, 32 * MIB, 1)]);
        assert_eq!(stretches(&p, 0, 5 * MIB + 7, false), [(0, 5 * MIB, 1)], "what it has written by now");
        assert_eq!(stretches(&p, 0, 0, false), [], "nothing was written yet");
        assert_eq!(stretches(&p, 1, 0, true), [], "anything may be read there");
    }

    #[test]
    fn what_several_workers_wrote_is_relied_on_once_all_of_it_is_written() {
        let p = plan(
            "leg w\n write sequential, blocks 1 MiB, depth 4, workers 3, over 0 B to 67108864 B, until one pass\nleg v\n verify, blocks 1 MiB, depth 4, over 0 B to 67108864 B, until one pass\n",
        );
        assert_eq!(stretches(&p, 1, 0, true), [(0, 64 * MIB, 1)]);
        assert_eq!(stretches(&p, 0, 40 * MIB, true), []);
    }

    #[test]
    fn what_is_written_again_on_the_way_is_not_relied_on() {
        let p = plan(
            "leg a\n write sequential, blocks 1 MiB, depth 4, over 0 B to 67108864 B, until one pass\nleg b\n write sequential, blocks 1 MiB, depth 4, over 0 B to 33554432 B, until one pass\nleg v\n verify, blocks 1 MiB, depth 4, over 0 B to 67108864 B, until one pass\n",
        );
        assert_eq!(stretches(&p, 1, 0, true), [(32 * MIB, 64 * MIB, 2)]);
        assert_eq!(stretches(&p, 2, 0, true).iter().map(|s| s.1 - s.0).sum::<u64>(), 64 * MIB);
    }

    #[test]
    fn what_is_copied_over_is_not_relied_on() {
        let mut p = plan(
            "leg a\n write sequential, blocks 1 MiB, depth 4, over 0 B to 67108864 B, until one pass\nleg c\n write sequential, blocks 1 MiB, depth 4, over 0 B to 33554432 B, until one pass\nleg v\n read sequential, blocks 1 MiB, depth 4, over 0 B to 67108864 B, until one pass\n",
        );
        let Work::Transfer(t) = &mut p.legs[1].work else { panic!("it writes") };
        t.copy = Some(mile_course::CopyPart { partner: 1, is_source: false, buffer: Bytes(MIB) });
        assert_eq!(stretches(&p, 1, 0, false), [(32 * MIB, 64 * MIB, 2)]);
        assert_eq!(stretches(&p, 1, 8 * MIB, false), [(8 * MIB, 64 * MIB, 2)]);
        assert_eq!(stretches(&p, 2, 0, false), [(32 * MIB, 64 * MIB, 2)]);
    }

    #[test]
    fn what_is_discarded_on_the_way_is_not_relied_on() {
        let p = plan(
            "leg w\n write sequential, blocks 1 MiB, depth 4, over 0 B to 67108864 B, until one pass\nleg d\n discard over 0 B to 33554432 B\nleg v\n verify, blocks 1 MiB, depth 4, over 33554432 B to 67108864 B, until one pass\nleg again\n write sequential, blocks 1 MiB, depth 4, workers 2, over 0 B to 33554432 B, until one pass\nleg r\n read sequential, blocks 1 MiB, depth 4, over 0 B to 33554432 B, until one pass\n",
        );
        let behind = [(32 * MIB, 64 * MIB, 2)];
        assert_eq!(stretches(&p, 0, 64 * MIB, false), behind);
        assert_eq!(stretches(&p, 1, 0, false), behind);
        assert_eq!(stretches(&p, 3, MIB, false), [], "nor once the leg that writes it again has begun");
    }

    #[test]
    fn both_ends_of_a_stretch_are_looked_at() {
        let s = Stretch { start: Bytes(4096), end: Bytes(4096 + 1000 * MIB), block: Bytes(MIB), reader: 0 };
        let places: Vec<u64> = s.places().map(|b| b.0).collect();
        assert_eq!((places.len(), places[0], places[63]), (64, 4096, 4096 + 999 * MIB));
        let one = Stretch { end: Bytes(4096 + MIB), ..s };
        assert_eq!(one.places().collect::<Vec<_>>(), [Bytes(4096)]);
    }
}
