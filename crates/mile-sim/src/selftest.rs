//! The self-tests of a simulated drive, in the bytes of the standards: NVMe log 06h and the SMART self-test log of ATA.

use mile_drive::health::TestKind;
use mile_drive::nvme::selftest::LENGTH;

/// Time that a short test takes.
const SHORT_NS: u64 = 120_000_000_000;
/// Bytes a second that an extended test reads.
const PACE: f64 = 500e6;

/// A test that is over.
#[derive(Clone, Copy)]
struct Done {
    code: u8,
    /// The first block that could not be read, of a test that failed; and whether it was ended by the host.
    block: Option<u64>,
    aborted: bool,
    hours: u64,
}

/// The test underway, and those that are over, newest first.
#[derive(Default)]
pub(crate) struct Tests {
    running: Option<(u8, u64)>,
    done: Vec<Done>,
}

/// What a test reads, and where it fails.
#[derive(Clone, Copy)]
pub(crate) struct Medium {
    pub(crate) capacity: u64,
    pub(crate) block: u64,
    pub(crate) fails_at: Option<u64>,
}

impl Medium {
    fn takes(&self, code: u8) -> u64 {
        if code == 2 { (self.capacity as f64 / PACE * 1e9) as u64 } else { SHORT_NS }
    }

    /// When a test comes to the block that cannot be read. A short one does not get that far.
    fn fails_after(&self, code: u8) -> Option<(u64, u64)> {
        let block = self.fails_at.filter(|b| code == 2 && b.saturating_mul(self.block) < self.capacity)?;
        let share = (block * self.block) as f64 / self.capacity.max(1) as f64;
        Some(((self.takes(code) as f64 * share) as u64, block))
    }
}

impl Tests {
    /// Begins a test, in the place of one underway.
    pub(crate) fn begin(&mut self, kind: TestKind, now: u64, hours: u64) {
        self.abort(hours);
        self.running = Some((if kind == TestKind::Extended { 2 } else { 1 }, now));
    }

    pub(crate) fn abort(&mut self, hours: u64) {
        if let Some((code, _)) = self.running.take() {
            self.done.insert(0, Done { code, block: None, aborted: true, hours });
        }
    }

    /// Lets time pass.
    pub(crate) fn step(&mut self, now: u64, hours: u64, medium: &Medium) {
        let Some((code, began)) = self.running else { return };
        let spent = now.saturating_sub(began);
        let failed = medium.fails_after(code).filter(|(after, _)| spent >= *after);
        if failed.is_some() || spent >= medium.takes(code) {
            self.running = None;
            self.done.insert(0, Done { code, block: failed.map(|f| f.1), aborted: false, hours });
            self.done.truncate(20);
        }
    }

    /// Percent of the test underway that is done.
    fn percent(&self, now: u64, medium: &Medium) -> u8 {
        self.running.map_or(0, |(code, began)| {
            (100 * now.saturating_sub(began) / medium.takes(code).max(1)).min(99) as u8
        })
    }

    /// NVMe log 06h (NVM Express Base Specification 2.0, figures 213 and 214).
    pub(crate) fn nvme(&self, now: u64, medium: &Medium) -> [u8; LENGTH] {
        let mut log = [0; LENGTH];
        (log[0], log[1]) = (self.running.map_or(0, |r| r.0), self.percent(now, medium));
        log[4..].chunks_exact_mut(28).for_each(|r| r[0] = 0x0f);
        for (entry, done) in log[4..].chunks_exact_mut(28).zip(&self.done) {
            let result = match (done.aborted, done.block) {
                (true, _) => 1,
                (false, Some(_)) => 7,
                (false, None) => 0,
            };
            entry[0] = done.code << 4 | result;
            entry[4..12].copy_from_slice(&done.hours.to_le_bytes());
            if let Some(block) = done.block {
                entry[2] = 0b10;
                entry[16..24].copy_from_slice(&block.to_le_bytes());
            }
        }
        log
    }

    /// The status byte of SMART data, and the SMART self-test log (ACS-4), without its checksum.
    pub(crate) fn ata(&self, now: u64, medium: &Medium) -> (u8, [u8; 512]) {
        let mut log = [0; 512];
        log[0] = 1;
        let now_running = self.running.map(|(code, _)| Done { code, block: None, aborted: false, hours: 0 });
        // The newest descriptor is the last one that was used.
        let all: Vec<Done> = now_running.into_iter().chain(self.done.iter().copied()).take(21).collect();
        for (i, done) in all.iter().rev().enumerate() {
            let d = &mut log[2 + 24 * i..26 + 24 * i];
            let is_running = self.running.is_some() && i + 1 == all.len();
            let status = match (is_running, done.aborted, done.block) {
                (true, ..) => 15,
                (_, true, _) => 1,
                (.., Some(_)) => 7,
                _ => 0,
            };
            (d[0], d[1]) = (done.code, status << 4);
            d[2..4].copy_from_slice(&(done.hours as u16).to_le_bytes());
            d[5..9].copy_from_slice(&(done.block.unwrap_or(0) as u32).to_le_bytes());
        }
        log[508] = all.len() as u8;
        let left = 10 - self.percent(now, medium) / 10;
        let status = if self.running.is_some() { 15 << 4 | left.min(9) } else { 0 };
        (status, log)
    }
}
