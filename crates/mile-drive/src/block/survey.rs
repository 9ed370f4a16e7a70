//! What a device holds, before it is written over: what is recognised, and whether there is anything else.
//!
//! Nothing counts as blank that was not seen to be. Both ends and places at random are read; a page is blank if it is all zeros or
//! all ones, and ours if it lies behind a stamp of a run of this program and is, byte for byte, what that run wrote there. Anything
//! else is somebody's data, whether or not its format is known.

use super::signature::{HEAD, TAIL, recognise};
use crate::io::pattern::{self, Buffer, STAMP, STRIDE};
use mile_core::Bytes;
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::fs::File;
use std::os::unix::fs::FileExt;

/// Bytes of which each is looked at: 4 KiB.
pub const PAGE: u64 = 4096;
/// Pages at random places of the device, and as many of what will be written over, where that is only a part of it. Data on a share `s` of either is missed
/// with the probability (1 - s)^256: once in 500,000 times where a twentieth holds data, once in 13 where a hundredth does.
pub const PLACES: u32 = 256;
/// Bytes at either end that are looked at page by page.
const ENDS: u64 = 1 << 20;
/// Least length of a stretch of letters that is worth showing, and the most that is shown.
const GLIMPSE: std::ops::RangeInclusive<usize> = 8..=60;

/// What was found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Survey {
    /// What is recognised, by its name for `--destroy`.
    pub recognised: Vec<&'static str>,
    /// Pages that were looked at.
    pub pages: u32,
    /// Those of them that hold somebody's data.
    pub with_data: u32,
    /// Those of them that cannot be read.
    pub unreadable: u32,
    /// Something readable of the data, and its address.
    pub glimpse: Option<(Bytes, String)>,
}

impl Survey {
    /// What has to be named before it may be written over.
    pub fn to_name(&self) -> Vec<&'static str> {
        let mut names = self.recognised.clone();
        if self.unreadable > 0 {
            names.push("unreadable");
        }
        // What is recognised says what the data is.
        if names.is_empty() && self.with_data > 0 {
            names.push("data");
        }
        names
    }

    /// What the data looks like, in a sentence; empty where there is none.
    pub fn words(&self) -> String {
        if self.with_data == 0 {
            return String::new();
        }
        let share = f64::from(self.with_data) / f64::from(self.pages.max(1)) * 100.0;
        let glimpse = self
            .glimpse
            .as_ref()
            .map_or(String::new(), |(at, text)| format!(", for example \"{text}\" at byte {}", at.0));
        format!(
            "{} of {} pages that were looked at hold data ({share:.0} %){glimpse}",
            self.with_data, self.pages
        )
    }
}

/// Stretches of a device in order, none of them on another: those from first byte and length, as far as the device goes.
fn merged(stretches: &[(Bytes, Bytes)], end: u64) -> Vec<(u64, u64)> {
    let within =
        |(start, length): &(Bytes, Bytes)| (start.0.min(end), start.0.saturating_add(length.0).min(end));
    let mut all: Vec<(u64, u64)> = stretches.iter().map(within).filter(|(from, to)| from < to).collect();
    all.sort_unstable();
    let mut merged: Vec<(u64, u64)> = Vec::new();
    for (from, to) in all {
        match merged.last_mut().filter(|last| from <= last.1) {
            Some(last) => last.1 = last.1.max(to),
            None => merged.push((from, to)),
        }
    }
    merged
}

/// Pages at random places of stretches, as many as are looked at; all of them where they are no more.
fn places(stretches: &[(u64, u64)], rng: &mut Xoshiro256PlusPlus) -> Vec<u64> {
    let bytes: u64 = stretches.iter().map(|(from, to)| to - from).sum();
    if bytes <= u64::from(PLACES) * PAGE {
        let pages = |(from, to): &(u64, u64)| (from / PAGE..to.div_ceil(PAGE)).map(|page| page * PAGE);
        return stretches.iter().flat_map(pages).collect();
    }
    let place = |_| {
        let mut left = ((u128::from(rng.next_u64()) * u128::from(bytes)) >> 64) as u64;
        for (from, to) in stretches {
            if left < to - from {
                return Some((from + left) / PAGE * PAGE);
            }
            left -= to - from;
        }
        None
    };
    (0..PLACES).filter_map(place).collect()
}

/// Looks at what is on a device of `size` bytes, and closer where it will be written over: at `over`, first byte and length. `seed` decides the places.
pub fn survey(file: &File, size: Bytes, logical_block: Bytes, seed: u64, over: &[(Bytes, Bytes)]) -> Survey {
    let unit = logical_block.0.max(512);
    let end = size.0 / unit * unit;
    let mut found = Survey::default();
    let part = |most: usize| (most as u64).min(end) / unit * unit;
    let head = Read::stretch(file, 0, part(HEAD), unit);
    let tail = Read::stretch(file, end - part(TAIL), part(TAIL), unit);
    found.recognised = recognise(head.buffer.bytes(), tail.buffer.bytes(), logical_block);
    let front = ENDS.min(end);
    found.add_pages(&head, 0, front);
    let back = front.max(end.saturating_sub(ENDS) / PAGE * PAGE);
    // With what lies before it, as far back as a stamp of its first page can be.
    let from = back.saturating_sub(REACH) / unit * unit;
    found.add_pages(&Read::stretch(file, from, end - from, unit), back, end);
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed);
    // Whole pages only: what is behind the last is looked at with the end.
    let whole = end / PAGE * PAGE;
    let mut all = places(&[(0, whole)], &mut rng);
    let over = merged(over, whole);
    if over != [(0, whole)] {
        all.extend(places(&over, &mut rng));
    }
    // In ascending order, which a disk reads sooner.
    all.sort_unstable();
    for at in all {
        let page = Read::stretch(file, at, PAGE, unit);
        if page.bad.is_empty() && is_blank(page.buffer.bytes()) {
            found.pages += 1;
            continue;
        }
        let from = at.saturating_sub(REACH) / unit * unit;
        found.add_pages(&Read::stretch(file, from, at + PAGE - from, unit), at, at + PAGE);
    }
    found
}

/// How far before a page the stamp of its block can lie.
const REACH: u64 = STRIDE as u64;
/// Bytes of one read: a page with all that lies in its reach comes at once.
const READ: u64 = 2 * REACH;

/// A stretch as far as it can be read.
struct Read {
    at: u64,
    /// Zeros where it could not be read.
    buffer: Buffer,
    /// What could not: from, to.
    bad: Vec<(u64, u64)>,
}

impl Read {
    fn stretch(file: &File, at: u64, length: u64, unit: u64) -> Self {
        let mut read = Self { at, buffer: Buffer::zeroed(length as usize), bad: Vec::new() };
        let mut from = 0;
        while from < length {
            let to = length.min(from + READ);
            if !read.part(file, from, to) {
                // Page by page, so that one bad sector hides nothing else.
                let mut page = from;
                while page < to {
                    let end = to.min(page + PAGE.max(unit));
                    if !read.part(file, page, end) {
                        read.bad.push((at + page, at + end));
                    }
                    page = end;
                }
            }
            from = to;
        }
        read
    }

    fn part(&mut self, file: &File, from: u64, to: u64) -> bool {
        let bytes = &mut self.buffer.bytes_mut()[from as usize..to as usize];
        let read = file.read_exact_at(bytes, self.at + from).is_ok();
        if !read {
            bytes.fill(0);
        }
        read
    }
}

impl Survey {
    /// Adds the pages of a stretch from `from` to `to`.
    fn add_pages(&mut self, read: &Read, from: u64, to: u64) {
        for at in (from..to).step_by(PAGE as usize) {
            self.pages += 1;
            if read.bad.iter().any(|(a, b)| *a < at + PAGE && at < *b) {
                self.unreadable += 1;
                continue;
            }
            let all = &read.buffer.bytes()[..(to.min(at + PAGE) - read.at) as usize];
            let begins = (at - read.at) as usize;
            // A stamp lies no further back than that.
            let first = begins.saturating_sub(REACH as usize) / 512 * 512;
            let content = &all[begins..];
            if is_blank(content) || is_ours(&all[first..], begins - first, read.at + first as u64) {
                continue;
            }
            self.with_data += 1;
            if self.glimpse.is_none() {
                self.glimpse = letters(content).map(|(place, text)| (Bytes(at + place as u64), text));
            }
        }
    }
}

/// Whether nothing was ever written there, or it was erased.
fn is_blank(page: &[u8]) -> bool {
    page.iter().all(|b| *b == 0) || page.iter().all(|b| *b == 0xff)
}

/// Whether the page that begins at `begins` in a stretch from address `from` is what a run of ours wrote there.
fn is_ours(all: &[u8], begins: usize, from: u64) -> bool {
    // A stamp lies on a logical block, be it the smallest that there is; the last one before each byte is that of its block.
    let mut at = begins;
    let stamp_of = |place: usize| {
        let stretch = all.get(place..)?;
        pattern::read_stamp(stretch).filter(|s| s.address == from + place as u64)
    };
    while at < all.len() {
        let before = (0..=at / 512).rev().map(|i| i * 512).find_map(|p| stamp_of(p).map(|s| (p, s)));
        let owner = before.filter(|(place, _)| at < place + STRIDE);
        // As far as the next stamp, which is that of another block.
        let next = (at / 512 + 1..=all.len() / 512).map(|i| i * 512).find(|p| stamp_of(*p).is_some());
        let end = next.unwrap_or(all.len()).min(all.len());
        let Some((place, stamp)) = owner else {
            // What lies before the first block of a run, or behind its last, may be blank.
            if !is_blank(&all[at..end]) {
                return false;
            }
            at = end;
            continue;
        };
        let end = end.min(place + STRIDE);
        let body = stamp.body(end - place);
        let wrote = |i: usize| all[i] == body[i - place];
        let mut i = at.max(place + STAMP);
        while i < end {
            // What a course asked to be compressible ends in zeros, page by page of the stream.
            let rest = stamp.rest_of_page(i - place).min(end - i);
            if all[i..i + rest].iter().all(|b| *b == 0) {
                i += rest;
            } else if wrote(i) {
                i += 1;
            } else {
                return false;
            }
        }
        at = end;
    }
    true
}

/// The first longer stretch of printable letters.
fn letters(page: &[u8]) -> Option<(usize, String)> {
    let mut from = 0;
    while from < page.len() {
        let length = page[from..].iter().take_while(|b| (0x20..0x7f).contains(*b)).count();
        if length >= *GLIMPSE.start() {
            let shown = &page[from..from + length.min(*GLIMPSE.end())];
            return Some((from, String::from_utf8_lossy(shown).into_owned()));
        }
        from += length + 1;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::io::pattern::Pool;
    use mile_core::RunId;
    use proptest::prelude::*;

    const SIZE: u64 = 16 << 20;

    fn over(content: &[u8]) -> Survey {
        let file = tempfile::tempfile().unwrap();
        file.write_all_at(content, 0).unwrap();
        survey(&file, Bytes(content.len() as u64), Bytes(512), 1, &[])
    }

    /// What a run leaves that writes blocks of `block` bytes from `start` on.
    fn written(content: &mut [u8], start: usize, block: usize, share: f64, sealed: bool) {
        let pool = Pool::new(RunId(77), 3, 2).compressible(share);
        let mut slot = Buffer::filled(block, &pool, 1);
        for (i, place) in content[start..].chunks_exact_mut(block).enumerate() {
            pool.stamp(slot.bytes_mut(), (start + i * block) as u64, block, sealed);
            place.copy_from_slice(slot.bytes());
        }
    }

    #[test]
    fn blank_devices_are_blank_and_ours_are_ours() {
        for byte in [0, 0xff] {
            let found = over(&vec![byte; SIZE as usize]);
            assert_eq!((found.to_name(), found.with_data, found.pages), (vec![], 0, 768));
        }
        for (block, start) in
            [(1 << 20, 0), (1 << 20, 512), (4096, 0), (512, 1536), (96 << 10, 4096), (1536, 0)]
        {
            for (share, sealed) in [(1.0, false), (1.0, true), (0.4, false), (0.0, true)] {
                let mut content = vec![0; SIZE as usize];
                written(&mut content, start, block, share, sealed);
                let found = over(&content);
                assert_eq!(found.with_data, 0, "{block} from {start}, {share}, {sealed}: {}", found.words());
            }
        }
    }

    /// Earlier versions stamped every 64 KiB.
    #[test]
    fn what_an_earlier_version_wrote_is_ours() {
        let (block, stretch) = (1 << 20, 64 << 10);
        let pool = Pool::new(RunId(77), 3, 2);
        let mut slot = Buffer::filled(block, &pool, 1);
        let mut content = vec![0; SIZE as usize];
        for (i, place) in content[512..].chunks_exact_mut(block).enumerate() {
            for (j, part) in slot.bytes_mut().chunks_mut(stretch).enumerate() {
                pool.stamp(part, (512 + i * block + j * stretch) as u64, block + j * stretch, false);
            }
            place.copy_from_slice(slot.bytes());
        }
        let found = over(&content);
        assert_eq!(found.with_data, 0, "{}", found.words());
        // The stamps are what makes them so.
        content.chunks_mut(stretch).for_each(|c| c[512] ^= 1);
        assert_eq!(over(&content).to_name(), ["data"]);
    }

    #[test]
    fn one_byte_that_a_run_of_ours_did_not_write_is_data() {
        let mut content = vec![0; SIZE as usize];
        written(&mut content, 0, 1 << 20, 1.0, false);
        content[40_000] ^= 1;
        let found = over(&content);
        assert_eq!((found.with_data, found.to_name()), (1, vec!["data"]));
        // Ours, but from elsewhere: a copy is not what was written there.
        let mut moved = vec![0; SIZE as usize];
        written(&mut moved, 0, 1 << 20, 1.0, false);
        moved.copy_within(0..65_536, 1 << 19);
        assert!(over(&moved).with_data > 0);
    }

    #[test]
    fn data_of_an_unknown_format_is_found_counted_and_shown() {
        let mut content = vec![0; SIZE as usize];
        let half = SIZE as usize / 2;
        let text = b"hydrophone 17, node 4, Lantern Shoal, sample 000000 ";
        content[..half].iter_mut().zip(text.iter().cycle()).for_each(|(c, t)| *c = *t);
        let found = over(&content);
        assert_eq!(found.to_name(), ["data"]);
        let share = f64::from(found.with_data) / f64::from(found.pages);
        // A third of the pages are of each end, and of those at random half are expected, give or take four deviations.
        assert!((share - 0.5).abs() < 0.05, "{share}");
        assert!(found.words().contains("hydrophone 17"), "{}", found.words());
    }

    proptest! {
        /// A twentieth of a device that holds data, anywhere, is not taken for nothing.
        #[test]
        fn data_on_a_twentieth_is_found(from in 0_u64..95, seed in any::<u64>()) {
            let file = tempfile::tempfile().unwrap();
            let size: u64 = 256 << 20;
            file.set_len(size).unwrap();
            file.write_all_at(&vec![0x5a; (size / 20) as usize], size / 100 * from / 4096 * 4096).unwrap();
            prop_assert!(survey(&file, Bytes(size), Bytes(512), seed, &[]).with_data > 0);
        }
    }

    /// A course that writes over a hundredth of a drive destroys what is there, however little that is of the drive: 4 MiB of 4 GiB are missed with a probability of 0.78.
    #[test]
    fn what_will_be_written_over_is_looked_at_by_itself() {
        let file = tempfile::tempfile().unwrap();
        let (size, mib) = (4_u64 << 30, 1_u64 << 20);
        file.set_len(size).unwrap();
        let at = (2 << 30) + 7 * mib;
        file.write_all_at(&vec![0x5a; 4 * mib as usize], at).unwrap();
        let found =
            |seed, over: &[(Bytes, Bytes)]| survey(&file, Bytes(size), Bytes(512), seed, over).with_data > 0;
        let range = (Bytes(2 << 30), Bytes(40 * mib));
        assert!((0..20).filter(|seed| found(*seed, &[])).count() < 20, "of the whole drive it is too little");
        assert!((0..20).all(|seed| found(seed, &[range])));
        // In parts, in any order, over each other, and beyond the end of the drive.
        let parts = [
            (Bytes(at + 2 * mib), Bytes(20 * mib)),
            (Bytes(at), Bytes(3 * mib)),
            (Bytes(size - mib), Bytes(u64::MAX)),
            (Bytes(0), Bytes(0)),
        ];
        assert!((0..20).all(|seed| found(seed, &parts)));
        // A place that ends within a page, and one smaller than a page.
        assert!((0..20).all(|seed| found(seed, &[(Bytes(at + 512), Bytes(512))])));
    }
}
