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

impl Done {
    /// Its self-test execution status (ACS-4): without an error, ended by the host, or failed in the read element.
    fn status(&self) -> u8 {
        match (self.aborted, self.block) {
            (true, _) => 1,
            (false, Some(_)) => 7,
            (false, None) => 0,
        }
    }
}

/// A test underway.
#[derive(Clone, Copy)]
struct Running {
    code: u8,
    began: u64,
    /// Bytes of the medium that it reads, from and to; nothing where it only tries the electronics and a few places.
    reads: (u64, u64),
}

impl Running {
    fn takes(&self) -> u64 {
        match self.reads.1.saturating_sub(self.reads.0) {
            0 => SHORT_NS,
            bytes => (bytes as f64 / PACE * 1e9) as u64,
        }
    }

    /// When it comes to a byte of what it reads.
    fn comes_to(&self, byte: u64) -> u64 {
        self.began + (byte.saturating_sub(self.reads.0) as f64 / PACE * 1e9) as u64
    }

    fn percent(&self, now: u64) -> u8 {
        (100 * now.saturating_sub(self.began) / self.takes().max(1)).min(99) as u8
    }
}

/// The test underway, and those that are over, newest first.
#[derive(Default)]
pub(crate) struct Tests {
    running: Option<Running>,
    done: Vec<Done>,
}

impl Tests {
    /// Begins a test that reads these bytes, from and to, in the place of one underway.
    pub(crate) fn begin(&mut self, kind: TestKind, reads: (u64, u64), now: u64, hours: u64) {
        self.abort(hours);
        // The codes of both standards.
        let code = match kind {
            TestKind::Short | TestKind::Other => 1,
            TestKind::Extended => 2,
            TestKind::Conveyance => 3,
            TestKind::Selective => 4,
        };
        self.running = Some(Running { code, began: now, reads });
    }

    pub(crate) fn abort(&mut self, hours: u64) {
        if let Some(Running { code, .. }) = self.running.take() {
            self.done.insert(0, Done { code, block: None, aborted: true, hours });
        }
    }

    /// Lets time pass. `bad` gives the first block that cannot be read, of the bytes from and to; blocks have `block` bytes. Gives the block at which
    /// a test has failed now.
    pub(crate) fn step(
        &mut self,
        now: u64,
        hours: u64,
        block: u64,
        bad: impl Fn(u64, u64) -> Option<u64>,
    ) -> Option<u64> {
        let test = self.running?;
        let failed = bad(test.reads.0, test.reads.1).filter(|b| now >= test.comes_to(b * block));
        if failed.is_some() || now >= test.began + test.takes() {
            self.running = None;
            self.done.insert(0, Done { code: test.code, block: failed, aborted: false, hours });
            self.done.truncate(20);
        }
        failed
    }

    /// Percent of the test underway that is done.
    fn percent(&self, now: u64) -> u8 {
        self.running.map_or(0, |test| test.percent(now))
    }

    /// NVMe log 06h (NVM Express Base Specification 2.0, figures 213 and 214).
    pub(crate) fn nvme(&self, now: u64) -> [u8; LENGTH] {
        let mut log = [0; LENGTH];
        (log[0], log[1]) = (self.running.map_or(0, |r| r.code), self.percent(now));
        log[4..].chunks_exact_mut(28).for_each(|r| r[0] = 0x0f);
        for (entry, done) in log[4..].chunks_exact_mut(28).zip(&self.done) {
            // The codes of these three are those of ATA.
            entry[0] = done.code << 4 | done.status();
            entry[4..12].copy_from_slice(&done.hours.to_le_bytes());
            if let Some(block) = done.block {
                entry[2] = 0b10;
                entry[16..24].copy_from_slice(&block.to_le_bytes());
            }
        }
        log
    }

    /// The first page of the Extended SMART Self-test log (ACS-4, log address 07h), without its checksum: the newest results that it has room for.
    pub(crate) fn ata_extended(&self) -> [u8; 512] {
        let mut log = [0; 512];
        let all: Vec<&Done> = self.done.iter().take(19).collect();
        (log[0], log[2]) = (1, all.len() as u8);
        for (d, done) in log[4..498].chunks_exact_mut(26).zip(all.iter().rev()) {
            (d[0], d[1]) = (done.code, done.status() << 4);
            d[2..4].copy_from_slice(&(done.hours as u16).to_le_bytes());
            d[5..11].copy_from_slice(&done.block.unwrap_or(0).to_le_bytes()[..6]);
        }
        log
    }

    /// The status byte of SMART data, and the SMART self-test log (ACS-4), without its checksum.
    pub(crate) fn ata(&self, now: u64) -> (u8, [u8; 512]) {
        let mut log = [0; 512];
        log[0] = 1;
        let now_running = self.running.map(|r| Done { code: r.code, block: None, aborted: false, hours: 0 });
        // The newest descriptor is the last one that was used.
        let all: Vec<Done> = now_running.into_iter().chain(self.done.iter().copied()).take(21).collect();
        for (i, done) in all.iter().rev().enumerate() {
            let d = &mut log[2 + 24 * i..26 + 24 * i];
            let is_running = self.running.is_some() && i + 1 == all.len();
            let status = if is_running { 15 } else { done.status() };
            (d[0], d[1]) = (done.code, status << 4);
            d[2..4].copy_from_slice(&(done.hours as u16).to_le_bytes());
            // A block beyond its 32 bits is not told here.
            let block = done.block.map_or(0, |b| u32::try_from(b).unwrap_or(u32::MAX));
            d[5..9].copy_from_slice(&block.to_le_bytes());
        }
        log[508] = all.len() as u8;
        let left = 10 - self.percent(now) / 10;
        let status = if self.running.is_some() { 15 << 4 | left.min(9) } else { 0 };
        (status, log)
    }
}
