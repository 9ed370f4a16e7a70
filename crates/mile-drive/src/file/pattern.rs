//! What is written: incompressible data in which every stretch of 64 KiB says where it belongs.
//!
//! Buffers are filled with random bytes once. Before each write a buffer is stamped, at its start and every 64 KiB, with its
//! address, the run's seed and a check over both, so that no two blocks of a run are the same and a later read can tell a
//! stretch that is stale or misplaced. The random bytes between two stamps come again when their buffer is used again.
//!
//! Filling buffers anew, or stamping every page, would cost more processor time than the write itself: what is expensive is
//! not the stamp but finding each page's place in memory (docs/DESIGN.md).
//!
//! Layout of a stamp, little-endian: magic (8 bytes), its address (8), seed of the run (8), check (8).

use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// Bytes from one stamp to the next. A block shorter than that has one.
pub const STRIDE: usize = 64 << 10;
/// Bytes of a stamp.
pub const STAMP: usize = 32;
const MAGIC: u64 = u64::from_le_bytes(*b"hollowml");

/// Alignment of buffers in memory: what O_DIRECT needs on any block device.
const ALIGN: usize = 4096;
/// Size of a huge page on x86-64, and the usual one on others.
const HUGE: usize = 2 << 20;

/// A buffer whose start is aligned for O_DIRECT.
#[derive(Debug)]
pub struct Buffer {
    memory: Vec<u8>,
    start: usize,
    length: usize,
}

impl Buffer {
    /// Filled with random bytes.
    pub fn random(length: usize, seed: u64) -> Self {
        Self::aligned(length, ALIGN, seed)
    }

    fn aligned(length: usize, align: usize, seed: u64) -> Self {
        let mut memory = vec![0; length + align];
        let start = memory.as_ptr().align_offset(align);
        if align == HUGE {
            super::uring::advise_huge(&mut memory[start..start + length]);
        }
        Xoshiro256PlusPlus::seed_from_u64(seed).fill_bytes(&mut memory[start..start + length]);
        Self { memory, start, length }
    }

    /// The bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.memory[self.start..self.start + self.length]
    }

    /// The bytes.
    pub fn bytes_mut(&mut self) -> &mut [u8] {
        &mut self.memory[self.start..self.start + self.length]
    }
}

/// Buffers of equal size in one stretch of memory that may lie in huge pages, which the kernel and the processor find
/// their way in more cheaply.
#[derive(Debug)]
pub struct Arena {
    whole: Buffer,
    block: usize,
}

impl Arena {
    /// `count` buffers of `block` bytes, filled with random bytes.
    pub fn random(count: usize, block: usize, seed: u64) -> Self {
        Self { whole: Buffer::aligned(count * block, HUGE, seed), block }
    }

    /// One of the buffers.
    #[inline]
    pub fn block(&mut self, index: usize) -> &mut [u8] {
        let at = index * self.block;
        &mut self.whole.bytes_mut()[at..at + self.block]
    }

    /// Number of buffers.
    pub fn count(&self) -> usize {
        self.whole.length / self.block
    }
}

/// Stamps a block that begins at `address`.
#[inline]
pub fn stamp(block: &mut [u8], address: u64, seed: u64) {
    for (i, stretch) in block.chunks_mut(STRIDE).enumerate() {
        let at = address + (i * STRIDE) as u64;
        let words = [MAGIC, at, seed, check(at, seed)];
        if let Some(head) = stretch.first_chunk_mut::<STAMP>() {
            for (i, word) in words.iter().enumerate() {
                head[8 * i..8 * i + 8].copy_from_slice(&word.to_le_bytes());
            }
        }
    }
}

/// Whether a stretch begins with a stamp of any run for the address at which it was found.
pub fn is_stamped(stretch: &[u8], address: u64) -> bool {
    let word =
        |i: usize| stretch.get(8 * i..8 * i + 8).and_then(|b| b.try_into().ok()).map(u64::from_le_bytes);
    let (Some(MAGIC), Some(at), Some(seed), Some(sum)) = (word(0), word(1), word(2), word(3)) else {
        return false;
    };
    at == address && sum == check(at, seed)
}

/// A mix of both in which every bit depends on every bit (the finaliser of SplitMix64; Steele, Lea and Flood,
/// "Fast splittable pseudorandom number generators", 2014).
fn check(address: u64, seed: u64) -> u64 {
    let mut z = address ^ seed.rotate_left(32) ^ 0x9e37_79b9_7f4a_7c15;
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_aligned_incompressible_and_all_different() {
        let mut arena = Arena::random(2, 1 << 20, 7);
        assert_eq!(arena.block(1).as_ptr() as usize % ALIGN, 0);
        let mut seen = std::collections::HashSet::new();
        for number in 0..8_u64 {
            let block = arena.block(number as usize % 2);
            stamp(block, number << 20, 99);
            for (i, stretch) in block.chunks(STRIDE).enumerate() {
                let at = (number << 20) + (i * STRIDE) as u64;
                assert!(seen.insert(stretch.to_vec()), "stretch {i} of block {number} was there before");
                assert!(is_stamped(stretch, at));
                assert!(!is_stamped(stretch, at + STRIDE as u64), "misplaced");
            }
        }
        // Entropy of the bytes within 0.1 % of 8 bits.
        let block = arena.block(0);
        let mut counts = [0_u32; 256];
        block.iter().for_each(|b| counts[usize::from(*b)] += 1);
        let n = block.len() as f64;
        let entropy: f64 =
            counts.iter().filter(|c| **c > 0).map(|&c| -f64::from(c) / n * (f64::from(c) / n).log2()).sum();
        assert!(entropy > 7.992, "{entropy}");
        assert!(!is_stamped(&[0; STRIDE], 0) && !is_stamped(&[], 0));
    }
}
