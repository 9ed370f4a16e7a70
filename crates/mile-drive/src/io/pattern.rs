//! What is written: incompressible data that says where, when and by which run it was written, and that can be made again.
//!
//! Every write of a pass by a worker takes its bytes from one stream of random stretches of 64 KiB, each made from the run's
//! identity, the pass, the worker and its number in the stream; a buffer always holds the same part of the stream. Before a write
//! the buffer is stamped, at its start and every 512 KiB, and every 4 KiB where the run is to verify what it wrote. A stamp holds
//! the address, the run's identity, the pass, the worker, and the place in the stream, so that a verifying read knows every byte
//! that should be there, and tells what is corrupt from what is stale or misplaced.
//!
//! Filling buffers anew, or stamping every page, would cost more processor time than the write itself: what is expensive is
//! not the stamp but finding each page's place in memory (docs/DESIGN.md).
//!
//! Layout of a stamp, little-endian: magic (8 bytes), its address (8), identity of the run (16), pass (4) and worker (4), place in
//! the stream (8), check (8).

use super::pages::expect_write;
use crate::drive::{Mismatch, Wrong};
use mile_core::{Bytes, RunId};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::collections::HashMap;

/// Bytes of a stretch of the stream.
const STRETCH: usize = 64 << 10;
/// Bytes from one stamp to the next. A block shorter than that has one stamp.
pub const STRIDE: usize = 512 << 10;
/// Bytes that a verifying read judges at once of what was not written to be verified. Earlier versions had a stamp in each of these.
const STEP: usize = 256 << 10;
/// Bytes from one stamp to the next in what is to be verified.
pub const SEALED: usize = 4 << 10;
/// Bytes of a stamp.
pub const STAMP: usize = 56;
const MAGIC: u64 = u64::from_le_bytes(*b"hollowm3");
/// Stretches that a verifying read keeps at the most, so that it need not make them again.
const KEPT: usize = 1024;

/// Alignment of buffers in memory: what O_DIRECT needs on any block device.
const ALIGN: usize = 4096;
/// Stamps that the processor is told of ahead. They lie a power of two apart, so that its first cache has room for eight of them.
const AHEAD: usize = 6;
/// Size of a huge page on x86-64, and the usual one on others.
const HUGE: usize = 2 << 20;

/// The data of one pass by one worker.
#[derive(Clone, Debug)]
pub struct Pool {
    run: RunId,
    pass: u32,
    worker: u32,
    /// Bytes of every 4 KiB that cannot be compressed; the others are zeros.
    random: usize,
}

/// A mix in which every bit depends on every bit (the finaliser of SplitMix64; Steele, Lea and Flood, "Fast splittable
/// pseudorandom number generators", 2014).
fn mix(value: u64) -> u64 {
    let mut z = value.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

/// A check over the words of a stamp.
fn check(words: &[u64; 5]) -> u64 {
    words.iter().fold(MAGIC, |sum, word| mix(sum ^ word))
}

impl Pool {
    /// The data of a pass.
    pub fn new(run: RunId, pass: u32, worker: u32) -> Self {
        Self { run, pass, worker, random: SEALED }
    }

    /// With zeros behind this share, 0 to 1, of every 4 KiB, which a drive that compresses takes away.
    #[must_use]
    pub fn compressible(mut self, share: f64) -> Self {
        self.random = (share.clamp(0.0, 1.0) * SEALED as f64).round() as usize;
        self
    }

    /// The run, and number of the worker.
    pub fn run_and_worker(&self) -> (RunId, u32) {
        (self.run, self.worker)
    }

    /// Fills a stretch of memory that lies at `place` in the stream.
    fn fill(&self, memory: &mut [u8], place: usize) {
        let mut at = 0;
        let [high, low] = halves(self.run);
        while at < memory.len() {
            let (number, within) = ((place + at) / STRETCH, (place + at) % STRETCH);
            let count = (STRETCH - within).min(memory.len() - at);
            let who = u64::from(self.pass) << 32 | u64::from(self.worker);
            let mut rng =
                Xoshiro256PlusPlus::seed_from_u64(mix(mix(mix(high) ^ low ^ mix(who)) ^ number as u64));
            if within == 0 {
                rng.fill_bytes(&mut memory[at..at + count]);
            } else {
                let mut whole = vec![0; within + count];
                rng.fill_bytes(&mut whole);
                memory[at..at + count].copy_from_slice(&whole[within..]);
            }
            at += count;
        }
        if self.random < SEALED {
            let ahead = (SEALED - place % SEALED) % SEALED;
            // A block smaller than a page may begin within one.
            for page in memory.get_mut(ahead.min(memory.len())..).unwrap_or_default().chunks_mut(SEALED) {
                let keep = self.random.min(page.len());
                page[keep..].fill(0);
            }
        }
    }

    /// Tells the processor that a block will be stamped soon: the first of its stamps.
    #[inline]
    pub fn expect(&self, block: &[u8], sealed: bool) {
        let stride = if sealed { SEALED } else { STRIDE };
        block.chunks(stride).take(AHEAD).for_each(expect_write);
    }

    /// Stamps a block that is written to `address` from `place` in the stream.
    #[inline]
    pub fn stamp(&self, block: &mut [u8], address: u64, place: usize, sealed: bool) {
        let stride = if sealed { SEALED } else { STRIDE };
        let [high, low] = halves(self.run);
        let stamps = block.len().div_ceil(stride);
        for i in 0..stamps {
            block.get((i + AHEAD) * stride..).into_iter().for_each(expect_write);
            let at = i * stride;
            let stretch = &mut block[at..];
            let who = u64::from(self.pass) | u64::from(self.worker) << 32;
            let words = [address + at as u64, high, low, who, (place + at) as u64];
            if let Some(head) = stretch.first_chunk_mut::<STAMP>() {
                let all = [MAGIC, words[0], words[1], words[2], words[3], words[4], check(&words)];
                for (i, word) in all.iter().enumerate() {
                    head[8 * i..8 * i + 8].copy_from_slice(&word.to_le_bytes());
                }
            }
        }
    }
}

/// What a stamp says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stamp {
    /// The address that it was written for.
    pub address: u64,
    /// The run that wrote it.
    pub run: RunId,
    /// Pass and worker.
    who: u64,
    /// Place in the stream.
    place: usize,
}

fn halves(run: RunId) -> [u64; 2] {
    [(run.0 >> 64) as u64, run.0 as u64]
}

/// The stamp at the start of a stretch, where there is one whose check holds.
pub fn read_stamp(stretch: &[u8]) -> Option<Stamp> {
    let word =
        |i: usize| stretch.get(8 * i..8 * i + 8).and_then(|b| b.try_into().ok()).map(u64::from_le_bytes);
    let words = [word(1)?, word(2)?, word(3)?, word(4)?, word(5)?];
    let [address, high, low, who, place] = words;
    // A place that no stamp of ours can have, although its check holds, is not taken for one.
    let place = usize::try_from(place).ok().filter(|p| *p < 1 << 40).unwrap_or(0);
    let stamp = Stamp { address, run: RunId(u128::from(high) << 64 | u128::from(low)), who, place };
    (word(0)? == MAGIC && word(6)? == check(&words)).then_some(stamp)
}

impl Stamp {
    /// Bytes from `within` what was written with this stamp in front to the end of the page of the stream.
    pub fn rest_of_page(&self, within: usize) -> usize {
        SEALED - (self.place + within) % SEALED
    }

    /// The first of the bytes that were written with this stamp in front.
    ///
    /// `length` is at most [`STRIDE`]. Bytes that were left out as compressible are zeros on the medium and not here.
    pub fn body(&self, length: usize) -> Vec<u8> {
        let mut body = vec![0; length.min(STRIDE)];
        Pool::new(self.run, self.who as u32, (self.who >> 32) as u32).fill(&mut body, self.place);
        body
    }
}

/// Whether a stretch begins with a stamp of any run for the address at which it was found.
pub fn is_stamped(stretch: &[u8], address: u64) -> bool {
    read_stamp(stretch).is_some_and(|s| s.address == address)
}

/// Holds what was read against what a run wrote.
#[derive(Debug, Default)]
pub struct Verifier {
    run: RunId,
    /// The earliest pass whose data is not stale.
    pass: u32,
    kept: HashMap<(u64, usize), Vec<u8>>,
}

impl Verifier {
    /// For data of this run, written in `pass` or later.
    pub fn new(run: RunId, pass: u32) -> Self {
        Self { run, pass, kept: HashMap::new() }
    }

    /// What is wrong in a block that was read from `address`; stretches that are wrong in the same way are joined where they
    /// touch. A stretch without a stamp of its own may follow on one with a stamp, as data that was not written to be verified has few.
    pub fn check(&mut self, block: &[u8], address: u64, sealed: bool, found: &mut Vec<Mismatch>) {
        let stride = if sealed { SEALED } else { STEP };
        // The last stamp, and its place in the block.
        let mut last: Option<(Stamp, usize)> = None;
        for (i, stretch) in block.chunks(stride).enumerate() {
            let at = address + (i * stride) as u64;
            let stamp = read_stamp(stretch);
            last = stamp.map(|s| (s, i * stride)).or(last).filter(|(_, from)| i * stride - from < STRIDE);
            let wrong = match (stamp, last) {
                (Some(stamp), _) => self
                    .judge(stamp.address, stamp, at)
                    .or_else(|| (!self.is_body(stretch, stamp)).then_some((Wrong::Corrupt, None))),
                (None, None) => Some((Wrong::Corrupt, None)),
                (None, Some((stamp, from))) => {
                    self.follows(stretch, stamp, (i * stride - from) as u64, at, sealed)
                }
            };
            let Some((wrong, belongs)) = wrong else { continue };
            let (offset, length) = (Bytes(at), Bytes(stretch.len() as u64));
            match found.last_mut() {
                Some(last)
                    if wrong != Wrong::Misplaced
                        && last.wrong == wrong
                        && last.offset.0 + last.length.0 == at =>
                {
                    last.length.0 += length.0;
                }
                _ => found.push(Mismatch { offset, length, wrong, belongs: belongs.map(Bytes) }),
            }
        }
    }

    /// What is wrong with data that belongs to an address and was written with a stamp, whatever it is.
    fn judge(&self, belongs: u64, stamp: Stamp, at: u64) -> Option<(Wrong, Option<u64>)> {
        if belongs != at {
            return Some((Wrong::Misplaced, Some(belongs)));
        }
        (stamp.run != self.run || (stamp.who as u32) < self.pass).then_some((Wrong::Stale, None))
    }

    /// What is wrong with a stretch without a stamp, `behind` bytes behind one.
    fn follows(
        &self,
        stretch: &[u8],
        stamp: Stamp,
        behind: u64,
        at: u64,
        sealed: bool,
    ) -> Option<(Wrong, Option<u64>)> {
        let mut body = vec![0; stretch.len()];
        let (pass, worker) = (stamp.who as u32, (stamp.who >> 32) as u32);
        Pool::new(stamp.run, pass, worker).fill(&mut body, stamp.place + behind as usize);
        let judged = (body == stretch).then(|| self.judge(stamp.address.wrapping_add(behind), stamp, at));
        match judged {
            // What this pass wrote to be verified has a stamp in each stretch.
            Some(None) if sealed => Some((Wrong::Corrupt, None)),
            Some(judged) => judged,
            None => Some((Wrong::Corrupt, None)),
        }
    }

    /// Whether a stretch is what was written with the stamp at its front.
    fn is_body(&mut self, stretch: &[u8], Stamp { run, who, place, .. }: Stamp) -> bool {
        let pool = Pool::new(run, who as u32, (who >> 32) as u32);
        let (number, within) = (place / STRETCH, place % STRETCH);
        if self.kept.len() >= KEPT {
            self.kept.clear();
        }
        let body = self.kept.entry((who, number)).or_insert_with(|| {
            let mut body = vec![0; STRETCH];
            pool.fill(&mut body, number * STRETCH);
            body
        });
        match body.get(within..within + stretch.len()) {
            Some(body) => body[STAMP..] == stretch[STAMP..],
            // It lies across the end of a stretch of the stream.
            None => {
                let mut across = vec![0; stretch.len()];
                pool.fill(&mut across, place);
                across[STAMP..] == stretch[STAMP..]
            }
        }
    }
}

/// A buffer whose start is aligned for O_DIRECT.
#[derive(Debug)]
pub struct Buffer {
    memory: Vec<u8>,
    start: usize,
    length: usize,
}

impl Buffer {
    /// One of several of equal length, with its part of the stream.
    pub fn filled(length: usize, pool: &Pool, slot: usize) -> Self {
        let mut buffer = Self::aligned(length, ALIGN);
        pool.fill(buffer.bytes_mut(), slot * length);
        buffer
    }

    /// Filled with zeros, for reading into.
    pub fn zeroed(length: usize) -> Self {
        Self::aligned(length, ALIGN)
    }

    fn aligned(length: usize, align: usize) -> Self {
        let mut memory = vec![0; length + align];
        let start = memory.as_ptr().align_offset(align);
        if align == HUGE {
            super::pages::advise_huge(&mut memory[start..start + length]);
        }
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
    /// `count` buffers of `block` bytes, filled with the stream from its start.
    pub fn filled(count: usize, block: usize, pool: &Pool) -> Self {
        let mut whole = Buffer::aligned(count * block, HUGE);
        pool.fill(whole.bytes_mut(), 0);
        Self { whole, block }
    }

    /// No buffers.
    pub fn empty() -> Self {
        Self { whole: Buffer::aligned(0, ALIGN), block: 1 }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_aligned_incompressible_and_all_different() {
        let pool = Pool::new(RunId(99), 0, 0);
        let mut arena = Arena::filled(2, 1 << 20, &pool);
        assert_eq!(arena.block(1).as_ptr() as usize % ALIGN, 0);
        let mut seen = std::collections::HashSet::new();
        for number in 0..8_usize {
            let block = arena.block(number % 2);
            pool.stamp(block, (number << 20) as u64, (number % 2) << 20, false);
            for (i, stretch) in block.chunks(STRIDE).enumerate() {
                let at = ((number << 20) + i * STRIDE) as u64;
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

    #[test]
    fn the_share_that_cannot_be_compressed_is_what_was_asked_for() {
        for share in [0.0, 0.25, 0.5, 1.0] {
            let arena = Arena::filled(1, 1 << 20, &Pool::new(RunId(7), 1, 0).compressible(share));
            let zeros = arena.whole.bytes().iter().filter(|b| **b == 0).count() as f64 / (1 << 20) as f64;
            // One random byte in 256 is a zero too.
            assert!((zeros - (1.0 - share) - share / 256.0).abs() < 0.002, "{share}: {zeros}");
        }
    }

    fn written(pass: u32, block: usize, slot: usize, address: u64) -> Vec<u8> {
        let pool = Pool::new(RunId(5), pass, 3);
        let mut buffer = Buffer::filled(block, &pool, slot);
        pool.stamp(buffer.bytes_mut(), address, slot * block, true);
        buffer.bytes().to_vec()
    }

    fn found(verifier: &mut Verifier, block: &[u8], address: u64) -> Vec<Mismatch> {
        let mut found = Vec::new();
        verifier.check(block, address, true, &mut found);
        found
    }

    #[test]
    fn what_was_written_is_known_again_and_what_was_not_is_told_apart() {
        let mut verifier = Verifier::new(RunId(5), 2);
        for (block, slot) in [(1 << 20, 1), (4096, 7), (512, 9), (96 << 10, 3)] {
            let good = written(2, block, slot, 1 << 30);
            assert_eq!(found(&mut verifier, &good, 1 << 30), [], "{block}");
        }
        let wrong = |wrong, offset, length, belongs| Mismatch {
            offset: Bytes(offset),
            length: Bytes(length),
            wrong,
            belongs,
        };
        let good = written(2, 64 << 10, 1, 1 << 20);
        // One bit, far from any stamp.
        let mut flipped = good.clone();
        flipped[9000] ^= 0x10;
        assert_eq!(
            found(&mut verifier, &flipped, 1 << 20),
            [wrong(Wrong::Corrupt, (1 << 20) + 8192, 4096, None)]
        );
        // Two pages that were never written.
        let mut lost = good.clone();
        lost[4096..12_288].fill(0);
        assert_eq!(
            found(&mut verifier, &lost, 1 << 20),
            [wrong(Wrong::Corrupt, (1 << 20) + 4096, 8192, None)]
        );
        // A page of the pass before.
        let mut old = good.clone();
        old[8192..12_288].copy_from_slice(&written(1, 64 << 10, 1, 1 << 20)[8192..12_288]);
        assert_eq!(found(&mut verifier, &old, 1 << 20), [wrong(Wrong::Stale, (1 << 20) + 8192, 4096, None)]);
        // A page that belongs elsewhere.
        let mut moved = good.clone();
        moved[0..4096].copy_from_slice(&written(2, 64 << 10, 1, 4 << 20)[0..4096]);
        assert_eq!(
            found(&mut verifier, &moved, 1 << 20),
            [wrong(Wrong::Misplaced, 1 << 20, 4096, Some(Bytes(4 << 20)))]
        );
        // Two pages that an earlier pass wrote, which was not to be verified and has one stamp at its front; one bit of the next is wrong.
        let pool = Pool::new(RunId(5), 1, 3);
        let mut plain = Buffer::filled(64 << 10, &pool, 1);
        pool.stamp(plain.bytes_mut(), 1 << 20, 64 << 10, false);
        let mut lost = good.clone();
        lost[..16_384].copy_from_slice(&plain.bytes()[..16_384]);
        lost[12_300] ^= 1;
        assert_eq!(
            found(&mut verifier, &lost, 1 << 20),
            [
                wrong(Wrong::Stale, 1 << 20, 12_288, None),
                wrong(Wrong::Corrupt, (1 << 20) + 12_288, 4096, None)
            ]
        );
        // Another run's, be it different in one bit of 128.
        for bit in [0, 63, 64, 127] {
            let mut other = Verifier::new(RunId(5 ^ 1 << bit), 0);
            assert_eq!(found(&mut other, &good, 1 << 20)[0].wrong, Wrong::Stale);
        }
    }

    /// A block that was not written to be verified has a stamp every 512 KiB; earlier versions wrote one every 256 KiB, and a run of theirs can be resumed.
    #[test]
    fn what_was_not_written_to_be_verified_is_known_with_few_stamps_and_with_more() {
        let (address, length) = (3 << 20, 1 << 20);
        let pool = Pool::new(RunId(5), 0, 3);
        for apart in [STRIDE, STEP] {
            let mut block = Buffer::filled(length, &pool, 2);
            for at in (0..length).step_by(apart) {
                let stretch = &mut block.bytes_mut()[at..at + apart];
                pool.stamp(stretch, address + at as u64, 2 * length + at, false);
            }
            assert_eq!(block.bytes().chunks(512).filter(|c| read_stamp(c).is_some()).count(), length / apart);
            let check = |run: u128, bytes: &[u8]| {
                let mut found = Vec::new();
                Verifier::new(RunId(run), 0).check(bytes, address, false, &mut found);
                found.iter().map(|m| (m.wrong, m.offset.0 - address, m.length.0)).collect::<Vec<_>>()
            };
            assert_eq!(check(5, block.bytes()), [], "every {apart}");
            assert_eq!(check(6, block.bytes()), [(Wrong::Stale, 0, length as u64)]);
            // One bit behind a stamp, and one far from any.
            for at in [STAMP + 1, STRIDE - 9] {
                let mut flipped = block.bytes().to_vec();
                flipped[at] ^= 4;
                let from = (at / STEP * STEP) as u64;
                assert_eq!(check(5, &flipped), [(Wrong::Corrupt, from, STEP as u64)], "{at}, every {apart}");
            }
        }
    }
}
