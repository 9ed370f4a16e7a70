//! What stands between the two sides of a copy: a buffer of limited size, filled by the source and emptied by the target, in the order of
//! addresses.
//!
//! Both sides count bytes of the copy from 0 on. Between real drives the buffer holds the data. Between simulated drives it holds none, but
//! the virtual time at which each byte came and went, so that either side can be told when it may go on, whichever thread is ahead: each side
//! says up to which time it has told all that it has to tell, and the other goes no further than that (the method of Chandy and Misra,
//! "Distributed simulation: a case study in design and verification of distributed programs", IEEE TSE 5, 1979).

use crate::clock::Monotonic;
use mile_core::units::common_divisor;
use mile_core::{Bytes, Nanos};
use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// Longest time for which somebody waits here without looking around.
const LOOK: Duration = Duration::from_millis(20);

/// Longest wait for the other side to tell what it did until now.
const PATIENCE: Nanos = Nanos(4_000_000_000);

/// A side of a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// It is read.
    Source,
    /// It is written.
    Target,
}

impl Side {
    fn other(self) -> Self {
        match self {
            Self::Source => Self::Target,
            Self::Target => Self::Source,
        }
    }
}

/// Whether a side may go on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gate {
    /// It may.
    Open,
    /// It waits for the other side.
    Shut,
    /// The other side has ended, and nothing more will come.
    Over,
}

/// When a simulated side may go on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// From this time on.
    From(Nanos),
    /// Not before this time; when, is not known yet.
    NotBefore(Nanos),
    /// Never: the other side has ended.
    Never,
}

#[derive(Debug, Default)]
struct One {
    /// Bytes that have passed it, without a gap.
    passed: u64,
    closed: bool,
    /// Time for which it has waited for the other.
    waited: u64,
    /// Simulated: bytes passed and when, the oldest first, and the time up to which all is told.
    told: VecDeque<(u64, u64)>,
    told_until: u64,
    /// Simulated: bytes passed that are not in the list any more.
    forgotten: u64,
}

#[derive(Debug, Default)]
struct State {
    sides: [One; 2],
    /// Stretches that the source has put behind a gap: start and end.
    ahead: BTreeMap<u64, u64>,
}

impl State {
    fn side(&mut self, side: Side) -> &mut One {
        &mut self.sides[side as usize]
    }
}

/// The buffer between the two sides of a copy.
#[derive(Debug)]
pub struct Pipe {
    capacity: u64,
    /// Bytes of a cell; both sides move whole ones.
    cell: u64,
    /// The data, cell by cell; none between simulated drives.
    ring: Vec<Mutex<Box<[u8]>>>,
    state: Mutex<State>,
    news: Condvar,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Pipe {
    /// A buffer of `capacity` for blocks of these sizes, source and target, of a copy that has come to `start`. It holds a block of each side at
    /// least. Between simulated drives it holds no data.
    pub fn new(capacity: Bytes, blocks: (Bytes, Bytes), start: Bytes, simulated: bool) -> Self {
        let cell = common_divisor(blocks.0.0, blocks.1.0).max(1);
        let cells = (capacity.0.max(blocks.0.0 + blocks.1.0) / cell).max(2);
        let hold = |_| Mutex::new(vec![0; cell as usize].into_boxed_slice());
        let mut state = State::default();
        state.sides.iter_mut().for_each(|s| (s.passed, s.forgotten) = (start.0, start.0));
        Self {
            capacity: cells * cell,
            cell,
            ring: if simulated { Vec::new() } else { (0..cells).map(hold).collect() },
            state: Mutex::new(state),
            news: Condvar::new(),
        }
    }

    /// Bytes that a side has let pass, without a gap.
    pub fn passed(&self, side: Side) -> Bytes {
        Bytes(lock(&self.state).side(side).passed)
    }

    /// Bytes between the two sides.
    pub fn level(&self) -> Bytes {
        let mut state = lock(&self.state);
        let target = state.side(Side::Target).passed;
        Bytes(state.side(Side::Source).passed.saturating_sub(target))
    }

    /// Bytes that fit.
    pub fn capacity(&self) -> Bytes {
        Bytes(self.capacity)
    }

    /// Time for which a side has waited for the other since this was last asked.
    pub fn take_waited(&self, side: Side) -> Nanos {
        Nanos(std::mem::take(&mut lock(&self.state).side(side).waited))
    }

    /// Says that a side moves nothing more.
    pub fn close(&self, side: Side) {
        lock(&self.state).side(side).closed = true;
        self.news.notify_all();
    }

    fn gate(&self, side: Side, end: u64) -> Gate {
        let mut state = lock(&self.state);
        let other = state.side(side.other());
        let open = match side {
            Side::Source => end <= other.passed + self.capacity,
            Side::Target => end <= other.passed,
        };
        match (side, open, other.closed) {
            // What is in the buffer is written still.
            (Side::Target, true, _) | (_, true, false) => Gate::Open,
            (_, _, true) => Gate::Over,
            (_, false, false) => Gate::Shut,
        }
    }

    /// The cells of a stretch of the copy.
    fn cells(&self, from: u64, bytes: usize) -> impl Iterator<Item = &Mutex<Box<[u8]>>> {
        let first = from / self.cell;
        let count = bytes as u64 / self.cell;
        (first..first + count).filter_map(|i| self.ring.get((i % self.ring.len().max(1) as u64) as usize))
    }
}

/// One end of a buffer, for the side that it is of.
#[derive(Clone, Debug)]
pub struct PipeEnd {
    /// The buffer.
    pub pipe: Arc<Pipe>,
    /// The side.
    pub side: Side,
}

impl PipeEnd {
    /// Where the side stands: bytes of the copy that have passed it.
    pub fn at(&self) -> Bytes {
        self.pipe.passed(self.side)
    }

    /// Whether the side may move a block that ends at this byte of the copy.
    pub fn gate(&self, end: u64) -> Gate {
        self.pipe.gate(self.side, end)
    }

    /// Puts in what was read of the copy from `from` on. Blocks come in any order, each inside of what the gate allows.
    pub fn put(&self, from: u64, data: &[u8]) {
        let size = self.pipe.cell as usize;
        for (cell, part) in self.pipe.cells(from, data.len()).zip(data.chunks_exact(size)) {
            lock(cell).copy_from_slice(part);
        }
        self.fill(from, data.len() as u64);
    }

    /// Puts in zeros for what could not be read.
    pub fn put_zeros(&self, from: u64, length: u64) {
        self.pipe.cells(from, length as usize).for_each(|cell| lock(cell).fill(0));
        self.fill(from, length);
    }

    fn fill(&self, from: u64, length: u64) {
        let mut state = lock(&self.pipe.state);
        state.ahead.insert(from, from + length);
        let mut passed = state.sides[Side::Source as usize].passed;
        while let Some(end) = state.ahead.remove(&passed) {
            passed = end;
        }
        state.side(Side::Source).passed = passed;
        drop(state);
        self.pipe.news.notify_all();
    }

    /// Takes out the next bytes of the copy. The gate must have been open for them.
    pub fn take(&self, into: &mut [u8]) {
        let from = self.at().0;
        let size = self.pipe.cell as usize;
        for (cell, part) in self.pipe.cells(from, into.len()).zip(into.chunks_exact_mut(size)) {
            part.copy_from_slice(&lock(cell));
        }
        lock(&self.pipe.state).side(Side::Target).passed += into.len() as u64;
        self.pipe.news.notify_all();
    }

    /// Waits until the other side does something, at the longest so long.
    pub fn wait(&self, longest: Nanos) {
        let state = lock(&self.pipe.state);
        let longest = Duration::from_nanos(longest.0).min(LOOK);
        drop(self.pipe.news.wait_timeout(state, longest).unwrap_or_else(PoisonError::into_inner));
    }

    /// Says for how long the side has waited for the other.
    pub fn has_waited(&self, time: Nanos) {
        lock(&self.pipe.state).side(self.side).waited += time.0;
    }

    /// Simulated: says that the side moves the next `bytes` until `at`.
    pub fn tell(&self, bytes: u64, at: Nanos) {
        let mut state = lock(&self.pipe.state);
        let one = state.side(self.side);
        one.passed += bytes;
        // Data passes in order: it is there when all before it is.
        let at = one.told.back().map_or(at.0, |last| last.1.max(at.0));
        one.told.push_back((one.passed, at));
        drop(state);
        self.pipe.news.notify_all();
    }

    /// Simulated: says that all was told that the side does until `at`.
    pub fn told_until(&self, at: Nanos) {
        let mut state = lock(&self.pipe.state);
        let one = state.side(self.side);
        if one.told_until < at.0 {
            one.told_until = at.0;
            drop(state);
            self.pipe.news.notify_all();
        }
    }

    /// What is in the buffer when this side, the target, has come to `at`. Between simulated drives, waits until the source has told what it
    /// does until then; `None` where it does not, as in a pause.
    pub fn level(&self, at: Nanos) -> Option<Bytes> {
        if !self.pipe.ring.is_empty() {
            return Some(self.pipe.level());
        }
        let mut state = lock(&self.pipe.state);
        let clock = Monotonic::start();
        while clock.now() < PATIENCE {
            let written = state.side(Side::Target).passed;
            let source = state.side(Side::Source);
            if source.closed || source.told_until >= at.0 {
                let last = source.told.partition_point(|t| t.1 <= at.0).checked_sub(1);
                let read = last.and_then(|i| source.told.get(i)).map_or(source.forgotten, |t| t.0);
                return Some(Bytes(read.saturating_sub(written)));
            }
            state = self.pipe.news.wait_timeout(state, LOOK).unwrap_or_else(PoisonError::into_inner).0;
        }
        None
    }

    /// Simulated: when the side may move a block that ends at this byte of the copy, if that is before `until`. Waits a moment for the other side
    /// to tell; `None` where it does not.
    pub fn when(&self, end: u64, until: Nanos) -> Option<When> {
        let needed = match self.side {
            Side::Source => end.saturating_sub(self.pipe.capacity),
            Side::Target => end,
        };
        let mut state = lock(&self.pipe.state);
        for waited in [false, true] {
            let other = state.side(self.side.other());
            if needed == 0 {
                return Some(When::From(Nanos(0)));
            }
            // What was passed before the copy went on has no time.
            if other.passed >= needed {
                while let Some(first) = other.told.front().filter(|t| t.0 < needed) {
                    other.forgotten = first.0;
                    other.told.pop_front();
                }
                return Some(When::From(Nanos(other.told.front().map_or(0, |t| t.1))));
            }
            if other.closed {
                return Some(When::Never);
            }
            if other.told_until >= until.0 {
                return Some(When::NotBefore(Nanos(other.told_until)));
            }
            if !waited {
                state = self.pipe.news.wait_timeout(state, LOOK).unwrap_or_else(PoisonError::into_inner).0;
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn ends(capacity: u64, blocks: (u64, u64), simulated: bool) -> (PipeEnd, PipeEnd) {
        let pipe =
            Arc::new(Pipe::new(Bytes(capacity), (Bytes(blocks.0), Bytes(blocks.1)), Bytes(0), simulated));
        let end = |side| PipeEnd { pipe: Arc::clone(&pipe), side };
        (end(Side::Source), end(Side::Target))
    }

    proptest! {
        /// Whatever the sizes, and in whatever order reads come back, the target gets the bytes of the source.
        #[test]
        fn data_comes_out_as_it_went_in(
            source_cells in 1_u64..7, target_cells in 1_u64..7, room in 0_u64..40, order in any::<u64>()
        ) {
            let cell = 512;
            let (bs, bt) = (source_cells * cell, target_cells * cell);
            let total = bs * bt / cell * 3;
            let data: Vec<u8> = (0..total).map(|i| (i.wrapping_mul(2_654_435_761) >> 7) as u8).collect();
            let (source, target) = ends(room * cell, (bs, bt), false);
            let (mut issued, mut out, mut got) = (0, Vec::new(), Vec::new());
            let mut dice = order | 1;
            while (got.len() as u64) < total {
                let before = (issued, out.len(), got.len());
                if issued < total && source.gate(issued + bs) == Gate::Open {
                    out.push(issued);
                    issued += bs;
                }
                dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                if !out.is_empty() && (dice >> 60 > 3 || source.gate(issued + bs) != Gate::Open || issued == total) {
                    let at = out.swap_remove((dice >> 33) as usize % out.len());
                    source.put(at, &data[at as usize..(at + bs) as usize]);
                }
                if target.gate(got.len() as u64 + bt) == Gate::Open {
                    let mut block = vec![0; bt as usize];
                    target.take(&mut block);
                    got.extend(block);
                }
                prop_assert!(target.pipe.level() <= target.pipe.capacity());
                // Neither waits for the other for ever.
                prop_assert!(before != (issued, out.len(), got.len()) || !out.is_empty());
            }
            prop_assert_eq!(got, data);
        }
    }

    #[test]
    fn the_target_still_gets_what_the_source_had_read_when_it_ended() {
        let (source, target) = ends(64, (16, 16), false);
        source.put(0, &[7; 16]);
        assert_eq!(target.gate(32), Gate::Shut);
        source.pipe.close(Side::Source);
        assert_eq!((target.gate(16), target.gate(32)), (Gate::Open, Gate::Over));
        target.pipe.close(Side::Target);
        assert_eq!(source.gate(32), Gate::Over, "nobody writes any more, even where there is room");
    }

    #[test]
    fn a_simulated_side_goes_no_further_than_the_other_has_told() {
        let (source, target) = ends(64, (16, 16), true);
        assert_eq!(target.when(16, Nanos(100)), None, "the source has told nothing");
        source.told_until(Nanos(50));
        assert_eq!(target.when(16, Nanos(50)), Some(When::NotBefore(Nanos(50))));
        source.tell(16, Nanos(70));
        source.tell(16, Nanos(60));
        assert_eq!(target.when(16, Nanos(100)), Some(When::From(Nanos(70))));
        assert_eq!(target.when(32, Nanos(100)), Some(When::From(Nanos(70))), "it comes in order");
        // Room for a fifth block is there once the first is written.
        assert_eq!(source.when(64, Nanos(100)), Some(When::From(Nanos(0))));
        target.tell(16, Nanos(90));
        assert_eq!(source.when(80, Nanos(100)), Some(When::From(Nanos(90))));
        source.pipe.close(Side::Source);
        assert_eq!(target.when(48, Nanos(100)), Some(When::Never));
    }
}
