//! A column of readings with summaries over ever longer stretches.
//!
//! Level 0 is the column itself; each node of level `k + 1` summarises 32 nodes of level `k`. The extent of any
//! stretch is then found in a time that grows with the logarithm of its length, which is what lets a
//! screen 160 cells wide be drawn from a week-long run.
//!
//! A missing reading is stored as NaN and never leaves this module as a number.

/// Nodes of one level that make one node of the next: what the levels above a column take is then a fifth of the column.
const FACTOR: usize = 32;
/// Entries that are kept as one where they are all the same, as those of a temperature in whole degrees mostly are.
const BLOCK: usize = 256;

/// Smallest, largest and mean reading of a stretch.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Extent {
    /// Smallest reading.
    pub min: f64,
    /// Largest reading.
    pub max: f64,
    /// Mean of the readings, each counted once.
    pub mean: f64,
}

#[derive(Clone, Copy, Debug)]
struct Node {
    min: f32,
    max: f32,
    sum: f64,
    count: u32,
}

impl Node {
    const EMPTY: Self = Self { min: f32::INFINITY, max: f32::NEG_INFINITY, sum: 0.0, count: 0 };

    fn of(value: f32) -> Self {
        if value.is_nan() {
            Self::EMPTY
        } else {
            Self { min: value, max: value, sum: f64::from(value), count: 1 }
        }
    }

    /// Joins the entries of a stretch of a column, of which NaN are missing.
    fn join_all(&mut self, values: &[f32]) {
        for value in values.iter().filter(|v| !v.is_nan()) {
            self.min = self.min.min(*value);
            self.max = self.max.max(*value);
            self.sum += f64::from(*value);
            self.count += 1;
        }
    }

    fn join(&mut self, other: Self) {
        self.min = self.min.min(other.min);
        self.max = self.max.max(other.max);
        self.sum += other.sum;
        self.count += other.count;
    }
}

/// Entries of a column, `BLOCK` of them at a time.
#[derive(Clone, Debug)]
enum Block {
    Same(f32),
    All(Box<[f32]>),
}

#[derive(Clone, Debug, Default)]
struct Values {
    blocks: Vec<Block>,
    /// The entries behind the last whole block.
    tail: Vec<f32>,
}

impl Values {
    fn len(&self) -> usize {
        self.blocks.len() * BLOCK + self.tail.len()
    }

    fn is_empty(&self) -> bool {
        self.blocks.is_empty() && self.tail.is_empty()
    }

    fn get(&self, index: usize) -> Option<f32> {
        match self.blocks.get(index / BLOCK) {
            Some(Block::Same(value)) => Some(*value),
            Some(Block::All(values)) => values.get(index % BLOCK).copied(),
            None => self.tail.get(index - self.blocks.len() * BLOCK).copied(),
        }
    }

    /// Joins the entries `from..to`, all of which are in one block or behind the last.
    fn join(&self, from: usize, to: usize, into: &mut Node) {
        match self.blocks.get(from / BLOCK) {
            Some(Block::Same(value)) if value.is_nan() => {}
            Some(Block::Same(value)) => {
                let n = (to - from) as u32;
                into.join(Node { sum: f64::from(*value) * f64::from(n), count: n, ..Node::of(*value) });
            }
            Some(Block::All(values)) => into.join_all(&values[from % BLOCK..from % BLOCK + (to - from)]),
            None => {
                let before = self.blocks.len() * BLOCK;
                into.join_all(&self.tail[from - before..to - before]);
            }
        }
    }

    fn push(&mut self, value: f32) {
        self.tail.push(value);
        if self.tail.len() == BLOCK {
            let first = self.tail[0];
            // A missing entry is no number, so that bits are compared.
            let same = self.tail.iter().all(|v| v.to_bits() == first.to_bits());
            let block = if same { Block::Same(first) } else { Block::All(self.tail.as_slice().into()) };
            self.blocks.push(block);
            self.tail.clear();
        }
    }
}

/// A column of optional readings. A column in which nothing was ever read takes no memory.
#[derive(Clone, Debug, Default)]
pub struct Pyramid {
    len: usize,
    values: Values,
    levels: Vec<Level>,
}

/// The nodes of a level that summarise as many below them as they can, and the one that is still being filled. A stretch is put together of whole nodes
/// and of entries beside them, so that nobody looks at that one.
#[derive(Clone, Debug)]
struct Level {
    whole: Vec<Node>,
    open: Node,
}

impl Pyramid {
    /// Number of entries, missing ones included.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether nothing was pushed yet.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Whether there is no reading at all (all entries are missing).
    pub fn is_blank(&self) -> bool {
        self.values.is_empty()
    }

    /// Appends an entry. Amortised constant time.
    pub fn push(&mut self, value: Option<f64>) {
        self.len += 1;
        let Some(value) = value.filter(|v| v.is_finite()) else {
            if !self.values.is_empty() {
                self.append(f32::NAN);
            }
            return;
        };
        while self.values.len() + 1 < self.len {
            self.append(f32::NAN);
        }
        self.append(value as f32);
    }

    fn append(&mut self, value: f32) {
        self.values.push(value);
        let (mut node, mut below) = (Node::of(value), self.values.len());
        for level in 0.. {
            if level == self.levels.len() {
                self.levels.push(Level { whole: Vec::new(), open: Node::EMPTY });
            }
            let own = &mut self.levels[level];
            own.open.join(node);
            if !below.is_multiple_of(FACTOR) {
                break;
            }
            node = std::mem::replace(&mut own.open, Node::EMPTY);
            own.whole.push(node);
            below = own.whole.len();
        }
    }

    /// The entry at `index`, or `None` where it is missing or out of range.
    pub fn get(&self, index: usize) -> Option<f64> {
        self.values.get(index).filter(|v| !v.is_nan()).map(f64::from)
    }

    /// Smallest, largest and mean reading in `from..to` (cut to the column); `None` where there is none.
    pub fn extent(&self, from: usize, to: usize) -> Option<Extent> {
        let mut all = Node::EMPTY;
        let (a, b) = (from, to.min(self.values.len()));
        // The entries beside whole nodes are fewer than `FACTOR` at each end, so that each end lies in one block.
        let first = a.next_multiple_of(FACTOR).min(b);
        if a < first {
            self.values.join(a, first, &mut all);
        }
        let last = (b - b % FACTOR).max(first);
        if last < b {
            self.values.join(last, b, &mut all);
        }
        let (mut a, mut b) = (first.div_ceil(FACTOR), last / FACTOR);
        for level in &self.levels {
            let nodes = &level.whole;
            if a >= b {
                break;
            }
            let first = a.next_multiple_of(FACTOR).min(b);
            let last = (b - b % FACTOR).max(first);
            nodes[a..first].iter().chain(&nodes[last..b]).for_each(|n| all.join(*n));
            (a, b) = (first.div_ceil(FACTOR), last / FACTOR);
        }
        (all.count > 0).then(|| Extent {
            min: f64::from(all.min),
            max: f64::from(all.max),
            mean: all.sum / f64::from(all.count),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Any stretch of any column agrees with a plain loop over it.
        #[test]
        fn extents_agree_with_a_plain_loop(
            single in prop::collection::vec(prop::option::weighted(0.8, -1000i32..1000), 0..700),
            // As a temperature in whole degrees: the same for long, and missing for long.
            runs in prop::collection::vec((prop::option::weighted(0.8, -1000i32..1000), 1usize..900), 0..6),
            ends in (0usize..6000, 0usize..6000),
        ) {
            let runs = runs.iter().flat_map(|&(value, times)| std::iter::repeat_n(value, times));
            let values: Vec<Option<i32>> = single.into_iter().chain(runs).collect();
            let mut pyramid = Pyramid::default();
            values.iter().for_each(|v| pyramid.push(v.map(f64::from)));
            prop_assert_eq!(pyramid.len(), values.len());
            for (i, v) in values.iter().enumerate() {
                prop_assert_eq!(pyramid.get(i), v.map(f64::from));
            }
            prop_assert_eq!(pyramid.get(values.len()), None);
            let (from, to) = (ends.0.min(ends.1), ends.0.max(ends.1));
            let plain: Vec<f64> = values.iter().skip(from).take(to - from).flatten().map(|&v| f64::from(v)).collect();
            match pyramid.extent(from, to) {
                None => prop_assert!(plain.is_empty()),
                Some(e) => {
                    prop_assert_eq!(e.min, plain.iter().copied().fold(f64::INFINITY, f64::min));
                    prop_assert_eq!(e.max, plain.iter().copied().fold(f64::NEG_INFINITY, f64::max));
                    prop_assert!((e.mean - plain.iter().sum::<f64>() / plain.len() as f64).abs() < 1e-6);
                }
            }
        }
    }

    /// Bytes that a column takes on the heap.
    fn bytes(pyramid: &Pyramid) -> usize {
        let block = |b: &Block| if let Block::All(values) = b { 4 * values.len() } else { 0 };
        let values = &pyramid.values;
        let blocks =
            values.blocks.len() * size_of::<Block>() + values.blocks.iter().map(block).sum::<usize>();
        let levels: usize = pyramid.levels.iter().map(|l| (l.whole.len() + 1) * size_of::<Node>()).sum();
        blocks + 4 * values.tail.len() + levels
    }

    #[test]
    fn a_day_of_equal_readings_takes_a_quarter_of_a_day_of_different_ones() {
        let column = |value: fn(u32) -> f64| {
            let mut pyramid = Pyramid::default();
            (0..864_000).for_each(|i| pyramid.push(Some(value(i))));
            pyramid
        };
        let (varied, level) = (column(f64::from), column(|i| f64::from(i / 3000)));
        assert!(bytes(&varied) < 864_000 * 5, "{}", bytes(&varied));
        assert!(4 * bytes(&level) < bytes(&varied), "{} {}", bytes(&level), bytes(&varied));
        assert_eq!((level.get(0), level.get(863_999)), (Some(0.0), Some(287.0)));
    }

    #[test]
    fn a_column_without_readings_takes_no_memory_and_gives_nothing() {
        let mut pyramid = Pyramid::default();
        (0..10_000).for_each(|_| pyramid.push(None));
        assert_eq!(pyramid.len(), 10_000);
        assert_eq!(pyramid.extent(0, 10_000), None);
        assert!(pyramid.values.blocks.capacity() + pyramid.values.tail.capacity() == 0);
    }
}
