//! What went wrong with operations of a run: failed ones, and data that a verifying read did not find as it was written.
//!
//! Counts are exact. Addresses are kept as stretches that are joined where they touch, as many as [`MOST_STRETCHES`] of a kind; of
//! more, the first and the last address are still known.

use crate::units::{Bytes, Nanos};
use serde::{Deserialize, Serialize};

/// Stretches of a kind that are kept one by one.
pub const MOST_STRETCHES: usize = 64;

/// A kind of fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FaultKind {
    /// A read failed.
    ReadFailed,
    /// A write failed.
    WriteFailed,
    /// A verifying read found what was written nowhere.
    Corrupt,
    /// A verifying read found what an earlier pass, or another run, had written.
    Stale,
    /// A verifying read found what belongs at another address.
    Misplaced,
}

impl FaultKind {
    /// As findings and tables name it.
    pub fn key(self) -> &'static str {
        match self {
            Self::ReadFailed => "read-failed",
            Self::WriteFailed => "write-failed",
            Self::Corrupt => "corrupt",
            Self::Stale => "stale",
            Self::Misplaced => "misplaced",
        }
    }

    /// What was found, for so many of them.
    fn words(self, count: u64) -> &'static str {
        match (self, count) {
            (Self::ReadFailed, 1) => "read failed",
            (Self::ReadFailed, _) => "reads failed",
            (Self::WriteFailed, 1) => "write failed",
            (Self::WriteFailed, _) => "writes failed",
            (Self::Corrupt, 1) => "stretch is corrupt",
            (Self::Corrupt, _) => "stretches are corrupt",
            (Self::Stale, 1) => "stretch holds older data",
            (Self::Stale, _) => "stretches hold older data",
            (Self::Misplaced, 1) => "stretch holds what belongs elsewhere",
            (Self::Misplaced, _) => "stretches hold what belongs elsewhere",
        }
    }
}

/// All faults of a kind.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Faults {
    /// Which.
    pub kind: FaultKind,
    /// Operations that failed, or stretches that a verifying read found wrong.
    pub count: u64,
    /// Bytes that these came to.
    pub bytes: u64,
    /// When the first was seen, seconds since the start of the run.
    pub first_s: f64,
    /// When the last was seen.
    pub last_s: f64,
    /// Lowest address.
    pub first_byte: u64,
    /// End of the highest stretch.
    pub end_byte: u64,
    /// The stretches, from and to, joined where they touch; the first [`MOST_STRETCHES`].
    pub stretches: Vec<(u64, u64)>,
}

impl Faults {
    /// In one sentence with its full stop.
    pub fn sentence(&self) -> String {
        let bytes = |n| crate::units::thousands(&format!("{n}"));
        format!(
            "{} {} ({}), from byte {} to byte {}, first seen at {}.",
            bytes(self.count),
            self.kind.words(self.count),
            Bytes(self.bytes),
            bytes(self.first_byte),
            bytes(self.end_byte),
            Nanos::from_secs(self.first_s),
        )
    }
}

/// Adds a fault to those that there are, which stay in the order of their kinds. `at` is the time of the run.
pub fn add(all: &mut Vec<Faults>, kind: FaultKind, at: Nanos, offset: Bytes, length: Bytes) {
    let (from, to) = (offset.0, offset.0.saturating_add(length.0));
    let one = Faults {
        kind,
        count: 1,
        bytes: length.0,
        first_s: at.secs(),
        last_s: at.secs(),
        first_byte: from,
        end_byte: to,
        stretches: vec![(from, to)],
    };
    merge(all, one);
}

/// As [`add`], where it is known which parts of the operation, from and to, fail by themselves. Where none is known, it was all of it; but where all
/// were tried and none fails (`complete`), the operation is counted and no place is bad.
pub fn add_narrowed(
    all: &mut Vec<Faults>,
    kind: FaultKind,
    at: Nanos,
    (offset, length): (Bytes, Bytes),
    bad: &[(Bytes, Bytes)],
    complete: bool,
) {
    let (Some(first), Some(last)) = (bad.first(), bad.last()) else {
        if !complete {
            return add(all, kind, at, offset, length);
        }
        let end_byte = offset.0.saturating_add(length.0);
        let (first_byte, seconds) = (offset.0, at.secs());
        let one = Faults {
            kind,
            count: 1,
            bytes: 0,
            first_s: seconds,
            last_s: seconds,
            first_byte,
            end_byte,
            stretches: Vec::new(),
        };
        return merge(all, one);
    };
    let one = Faults {
        kind,
        count: 1,
        bytes: bad.iter().map(|(from, to)| to.0.saturating_sub(from.0)).sum(),
        first_s: at.secs(),
        last_s: at.secs(),
        first_byte: first.0.0,
        end_byte: last.1.0,
        stretches: bad.iter().map(|(from, to)| (from.0, to.0)).take(MOST_STRETCHES).collect(),
    };
    merge(all, one);
}

/// Adds faults of a kind to those that there are.
pub fn merge(all: &mut Vec<Faults>, more: Faults) {
    match all.binary_search_by_key(&more.kind, |f| f.kind) {
        Err(place) => all.insert(place, more),
        Ok(place) => {
            let known = &mut all[place];
            known.count += more.count;
            known.bytes = known.bytes.saturating_add(more.bytes);
            known.first_s = known.first_s.min(more.first_s);
            known.last_s = known.last_s.max(more.last_s);
            known.first_byte = known.first_byte.min(more.first_byte);
            known.end_byte = known.end_byte.max(more.end_byte);
            more.stretches.into_iter().for_each(|s| join(&mut known.stretches, s));
        }
    }
}

/// Adds a stretch to others that are in order and do not touch.
fn join(all: &mut Vec<(u64, u64)>, (from, to): (u64, u64)) {
    let begin = all.partition_point(|s| s.1 < from);
    let end = all.partition_point(|s| s.0 <= to);
    if begin == end {
        if all.len() < MOST_STRETCHES {
            all.insert(begin, (from, to));
        }
        return;
    }
    let joined = (from.min(all[begin].0), to.max(all[end - 1].1));
    all.splice(begin..end, [joined]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        /// Against a set of blocks: counts are exact, and the stretches are exactly the blocks as long as they are few.
        #[test]
        fn stretches_are_the_blocks_and_counts_are_exact(blocks in prop::collection::vec(0_u64..60, 1..80)) {
            let mut all = Vec::new();
            for (i, b) in blocks.iter().enumerate() {
                add(&mut all, FaultKind::Corrupt, Nanos(i as u64), Bytes(b * 512), Bytes(512));
            }
            prop_assert_eq!(all.len(), 1);
            let f = &all[0];
            prop_assert_eq!((f.count, f.bytes), (blocks.len() as u64, blocks.len() as u64 * 512));
            let set: BTreeSet<u64> = blocks.iter().copied().collect();
            let found: BTreeSet<u64> = f.stretches.iter().flat_map(|(a, b)| a / 512..b / 512).collect();
            prop_assert_eq!(&found, &set);
            prop_assert!(f.stretches.windows(2).all(|w| w[0].1 < w[1].0), "in order, and none touch");
            prop_assert_eq!((f.first_byte, f.end_byte), (set.first().unwrap() * 512, (set.last().unwrap() + 1) * 512));
        }
    }

    #[test]
    fn too_many_to_be_kept_are_still_counted() {
        let mut all = Vec::new();
        for i in 0..10_000 {
            add(&mut all, FaultKind::ReadFailed, Nanos(i), Bytes(i * 8192), Bytes(4096));
            add(&mut all, FaultKind::Stale, Nanos(i), Bytes(i * 4096), Bytes(4096));
        }
        assert_eq!(all.iter().map(|f| f.kind).collect::<Vec<_>>(), [FaultKind::ReadFailed, FaultKind::Stale]);
        assert_eq!(
            (all[0].count, all[0].stretches.len(), all[0].end_byte),
            (10_000, MOST_STRETCHES, 9999 * 8192 + 4096)
        );
        assert_eq!(all[1].stretches, [(0, 10_000 * 4096)]);
        assert!(
            all[0].sentence().starts_with("10,000 reads failed (41.0 MB), from byte 0"),
            "{}",
            all[0].sentence()
        );
    }
}
