//! Narrows a failed operation down to the blocks that fail by themselves.

use super::pattern::{Buffer, Pool as Pattern};
use crate::clock::Monotonic;
use crate::drive::{Failure, Narrowed};
use crate::pending::Pending;
use mile_core::{Bytes, Nanos, Op};
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

/// Failing tries at the most: on a disk, each may take seconds.
pub const MOST_FAILING: u32 = 600;
/// Pieces that a stretch that fails is cut into. A failing try may take seconds on a disk and a good one takes little, so that
/// many pieces are better than two.
const PIECES: u64 = 32;
/// Tries pieces of pieces of a stretch, and gives the single blocks that fail, joined where they touch. `works` tries a
/// stretch, and gives nothing where there is no time for that any more. Stops then, or after `most` failing tries: what is then left is given as it stands.
/// The time that it took is the caller's to say.
pub fn divide(
    offset: u64,
    length: u64,
    block: u64,
    most: u32,
    mut works: impl FnMut(u64, u64) -> Option<bool>,
) -> Narrowed {
    let mut bad: Vec<(u64, u64)> = Vec::new();
    let mut failing = 0;
    let mut complete = true;
    let mut todo = vec![(offset, offset + length)];
    while let Some((from, to)) = todo.pop() {
        let tried = if failing < most { works(from, to - from) } else { None };
        if tried == Some(true) {
            continue;
        } else if tried.is_none() {
            (complete, failing) = (false, most);
        } else {
            failing += 1;
            if to - from > block {
                let piece = ((to - from) / block).div_ceil(PIECES) * block;
                let starts: Vec<u64> = (from..to).step_by(piece as usize).collect();
                todo.extend(starts.into_iter().rev().map(|first| (first, to.min(first + piece))));
                continue;
            }
        }
        match bad.last_mut() {
            Some(last) if last.1 == from => last.1 = to,
            _ => bad.push((from, to)),
        }
    }
    let bad = bad.into_iter().map(|(a, b)| (Bytes(a), Bytes(b))).collect();
    Narrowed { bad, complete, took: Nanos(0) }
}

/// Narrows a failed operation on a file or device, within its own range. Writes give the blocks what they were to hold.
///
/// It is done on a thread of its own: a try that never comes back must not hold the run.
pub fn narrow(
    file: &File,
    failure: &Failure,
    block: Bytes,
    pattern: &Pattern,
    patience: Nanos,
) -> Pending<Narrowed> {
    let (offset, length, block) = (failure.offset.0, failure.length.0, block.0);
    let Ok(file) = file.try_clone() else { return Pending::done(Narrowed::unknown(failure)) };
    let (op, pattern) = (failure.op, pattern.clone());
    Pending::on_thread("narrow", move || {
        let mut buffer = Buffer::filled(length as usize, &pattern, 0);
        let clock = Monotonic::start();
        let works = |at: u64, count: u64| {
            if clock.now() > patience {
                return None;
            }
            let moved = if op == Op::Read {
                file.read_at(&mut buffer.bytes_mut()[..count as usize], at)
            } else {
                pattern.stamp(&mut buffer.bytes_mut()[..count as usize], at, 0, true);
                file.write_at(&buffer.bytes()[..count as usize], at)
            };
            let whole = matches!(moved, Ok(n) if n as u64 == count);
            Some(whole || matches!(&moved, Err(e) if e.kind() == io::ErrorKind::Interrupted))
        };
        let narrowed = divide(offset, length, block, MOST_FAILING, works);
        Narrowed { took: clock.now(), ..narrowed }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        /// Whatever blocks fail, exactly those are found, and nothing outside the operation is touched.
        #[test]
        fn exactly_the_failing_blocks_are_found(
            bad in prop::collection::btree_set(0_u64..256, 1..40), first in 0_u64..100
        ) {
            let at = first * 512;
            let found = divide(at, 256 * 512, 512, 10_000, |from, length| {
                assert!(from >= at && from + length <= at + 256 * 512);
                Some(!bad.iter().any(|b| (from..from + length).contains(&(at + b * 512))))
            });
            prop_assert!(found.complete);
            let blocks: BTreeSet<u64> =
                found.bad.iter().flat_map(|(a, b)| ((a.0 - at) / 512)..((b.0 - at) / 512)).collect();
            prop_assert_eq!(blocks, bad);
        }
    }

    #[test]
    fn a_stretch_that_fails_everywhere_is_given_up_as_a_whole() {
        let found = divide(0, 1 << 20, 512, 20, |_, _| Some(false));
        assert_eq!(found, Narrowed { bad: vec![(Bytes(0), Bytes(1 << 20))], ..Narrowed::default() });
    }

    #[test]
    fn what_is_known_when_the_time_is_over_is_kept() {
        // Two blocks that fail; the time is over behind the first of them.
        let mut tries = 0;
        let found = divide(0, 64 * 512, 512, 1000, |from, length| {
            tries += 1;
            (tries <= 20).then(|| ![3 * 512, 40 * 512].iter().any(|b| (from..from + length).contains(b)))
        });
        assert!(!found.complete);
        assert_eq!(found.bad[0], (Bytes(3 * 512), Bytes(4 * 512)), "{found:?}");
        assert!(
            found.bad[1].0 <= Bytes(40 * 512) && found.bad.last().unwrap().1 == Bytes(64 * 512),
            "{found:?}"
        );
    }
}
