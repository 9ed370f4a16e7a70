//! What ATA drives say of themselves: IDENTIFY DEVICE, SMART data and logs, device statistics, SCT status
//! (ATA/ATAPI Command Set - 4, ACS-4), and how their answers come back through SCSI (SCSI/ATA Translation - 4, SAT-4).
//!
//! Everything is decoded from bytes of any length: what is too short is absent.

use crate::selftest::{SelfTest, TestKind, TestResult};
use mile_core::{Bytes, Celsius};
use serde::{Deserialize, Serialize};

/// Length of all of these structures.
pub const SECTOR: usize = 512;

/// IDENTIFY DEVICE.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Identify {
    /// Serial number.
    pub serial: String,
    /// Firmware revision.
    pub firmware: String,
    /// Model number.
    pub model: String,
    /// Logical sectors.
    pub sectors: u64,
    /// Bytes of a logical sector.
    pub logical_block: u32,
    /// Bytes of a physical sector.
    pub physical_block: u32,
    /// Turns a minute; 0 for solid state, `None` where the drive does not tell.
    pub rpm: Option<u16>,
    /// Fastest SATA speed that it can do, Gb/s.
    pub sata_gb_s: Option<f64>,
    /// Whether it has SMART, and whether that is switched on.
    pub smart: (bool, bool),
    /// Whether it offers self-tests.
    pub self_test: bool,
    /// Whether it offers the SMART Command Transport.
    pub sct: bool,
    /// Whether it takes TRIM.
    pub trim: bool,
    /// Whether it has general purpose logging.
    pub general_logs: bool,
}

fn u16_at(page: &[u8], at: usize) -> u16 {
    u16::from_le_bytes([page[at], page[at + 1]])
}

fn number(page: &[u8], at: usize, length: usize) -> u64 {
    (0..length).rev().fold(0, |sum, i| sum << 8 | u64::from(page[at + i]))
}

/// ATA strings have the two bytes of each word exchanged.
fn string(page: &[u8], words: std::ops::Range<usize>) -> String {
    let text: String = words
        .flat_map(|w| [page[2 * w + 1], page[2 * w]])
        .map(|b| if (0x20..0x7f).contains(&b) { char::from(b) } else { ' ' })
        .collect();
    text.trim().to_owned()
}

/// Whether the bytes of a structure add up to 0, as those with a checksum do.
pub fn checksum_holds(page: &[u8]) -> bool {
    page.iter().fold(0_u8, |sum, b| sum.wrapping_add(*b)) == 0
}

impl Identify {
    /// Decodes it; `None` where it is of another length, or has a checksum that does not hold.
    pub fn decode(page: &[u8]) -> Option<Self> {
        let page: &[u8; SECTOR] = page.try_into().ok()?;
        if page[510] == 0xa5 && !checksum_holds(page) {
            return None;
        }
        let word = |w: usize| u16_at(page, 2 * w);
        // Words 82 to 87 and 106 are valid where bits 15:14 of a word of each group are 01b.
        let valid = |w: u16| w >> 14 == 0b01;
        let wide = if word(83) & 1 << 10 != 0 && valid(word(83)) { number(page, 200, 8) } else { 0 };
        let layout = word(106);
        let logical = if valid(layout) && layout & 1 << 12 != 0 {
            (number(page, 234, 4) as u32).saturating_mul(2)
        } else {
            512
        };
        let shift = if valid(layout) && layout & 1 << 13 != 0 { u32::from(layout & 0xf) } else { 0 };
        let sata = word(76);
        let speeds = [(3, 6.0), (2, 3.0), (1, 1.5)];
        Some(Self {
            serial: string(page, 10..20),
            firmware: string(page, 23..27),
            model: string(page, 27..47),
            sectors: if wide > 0 { wide } else { number(page, 120, 4) },
            logical_block: logical,
            physical_block: logical.checked_shl(shift).unwrap_or(logical),
            rpm: match word(217) {
                1 => Some(0),
                rpm @ 0x0401..=0xfffe => Some(rpm),
                _ => None,
            },
            sata_gb_s: speeds
                .iter()
                .find(|(bit, _)| sata != 0 && sata != 0xffff && sata & 1 << bit != 0)
                .map(|(_, g)| *g),
            smart: (word(82) & 1 != 0, word(85) & 1 != 0),
            self_test: valid(word(84)) && word(84) & 0b10 != 0,
            sct: word(206) & 1 != 0 && word(206) != 0xffff,
            trim: word(169) & 1 != 0 && word(169) != 0xffff,
            general_logs: valid(word(84)) && word(84) & 1 << 5 != 0,
        })
    }

    /// Bytes that can be addressed.
    pub fn capacity(&self) -> Bytes {
        Bytes(self.sectors.saturating_mul(u64::from(self.logical_block)))
    }
}

/// One SMART attribute.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attribute {
    /// Its number.
    pub id: u8,
    /// What it usually means, where makers agree.
    pub meaning: Option<String>,
    /// Normalised value, falling from a good one towards the threshold.
    pub value: u8,
    /// Lowest that the value has been.
    pub worst: u8,
    /// Value at or below which the maker calls it failed; 0 where it never is.
    pub threshold: Option<u8>,
    /// Whether reaching the threshold foretells a failure, and not only age.
    pub prefail: bool,
    /// Raw value, 48 bits, as the maker packs it.
    pub raw: u64,
}

impl Attribute {
    /// Whether it is at or below its threshold.
    pub fn failed(&self) -> bool {
        self.threshold.is_some_and(|t| t > 0 && self.value <= t)
    }
}

/// What the attributes mean on which makers agree. Numbers whose meaning differs between makers are left out.
fn meaning(id: u8) -> Option<&'static str> {
    Some(match id {
        1 => "read error rate",
        3 => "spin-up time",
        4 => "starts and stops",
        5 => "reallocated sectors",
        7 => "seek error rate",
        9 => "power-on hours",
        10 => "spin retries",
        12 => "power cycles",
        184 => "end-to-end errors",
        187 => "uncorrectable errors reported",
        188 => "command timeouts",
        190 => "airflow temperature",
        192 => "unsafe power losses",
        193 => "head load cycles",
        194 => "temperature",
        196 => "reallocation events",
        197 => "sectors waiting for reallocation",
        198 => "sectors uncorrectable offline",
        199 => "interface checksum errors",
        240 => "head flying hours",
        _ => return None,
    })
}

/// SMART data (SMART READ DATA, D0h) with thresholds (D1h) where those could be read.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SmartData {
    /// The attributes, in the drive's order.
    pub attributes: Vec<Attribute>,
    /// Self-test execution status: state 0 to 15, tens of percent that remain.
    pub self_test_status: (u8, u8),
    /// Whether it offers self-tests.
    pub self_test: bool,
    /// Whether it offers tests for damage on the way here.
    #[serde(default)]
    pub conveyance: bool,
    /// Whether it offers tests of stretches of the medium.
    #[serde(default)]
    pub selective: bool,
    /// Minutes that a short self-test takes, as declared.
    pub short_minutes: Option<u16>,
    /// Minutes that an extended self-test takes, as declared.
    pub extended_minutes: Option<u16>,
}

impl SmartData {
    /// Decodes it; `None` where the data is of another length or its checksum does not hold. Thresholds that do not hold are
    /// left out.
    pub fn decode(data: &[u8], thresholds: Option<&[u8]>) -> Option<Self> {
        let data: &[u8; SECTOR] = data.try_into().ok()?;
        if !checksum_holds(data) {
            return None;
        }
        let thresholds = thresholds.filter(|t| t.len() == SECTOR && checksum_holds(t));
        let threshold_of = |id: u8| thresholds?[2..362].chunks_exact(12).find(|t| t[0] == id).map(|t| t[1]);
        let attributes = data[2..362].chunks_exact(12).filter(|a| a[0] != 0).map(|a| Attribute {
            id: a[0],
            meaning: meaning(a[0]).map(str::to_owned),
            value: a[3],
            worst: a[4],
            threshold: threshold_of(a[0]),
            prefail: a[1] & 1 != 0,
            raw: number(a, 5, 6),
        });
        let extended = if data[373] == 0xff { number(data, 375, 2) as u16 } else { u16::from(data[373]) };
        let some = |minutes: u16| Some(minutes).filter(|m| *m > 0);
        Some(Self {
            attributes: attributes.collect(),
            self_test_status: (data[363] >> 4, data[363] & 0x0f),
            self_test: data[367] & 1 << 4 != 0,
            conveyance: data[367] & 1 << 5 != 0,
            selective: data[367] & 1 << 6 != 0,
            short_minutes: some(u16::from(data[372])),
            extended_minutes: some(extended),
        })
    }

    fn raw(&self, id: u8) -> Option<u64> {
        self.attributes.iter().find(|a| a.id == id).map(|a| a.raw)
    }

    /// Temperature: the low byte of attribute 194, or of 190, which makers pack with others above it.
    pub fn temperature(&self) -> Option<Celsius> {
        let low = |id| self.raw(id).map(|r| r as u8).filter(|t| (1..=125).contains(t));
        low(194).or_else(|| low(190)).map(|t| Celsius(f64::from(t)))
    }

    /// Hours powered on: the low 32 bits of attribute 9, above which some makers keep parts of an hour.
    pub fn power_on_hours(&self) -> Option<u64> {
        self.raw(9).map(|r| r & 0xffff_ffff)
    }

    /// Power cycles.
    pub fn power_cycles(&self) -> Option<u64> {
        self.raw(12)
    }

    /// Sectors reallocated, waiting for it, and uncorrectable: attributes 5, 197 and 198.
    pub fn sectors(&self) -> [Option<u64>; 3] {
        [self.raw(5), self.raw(197), self.raw(198)]
    }
}

/// A page of the Device Statistics log (log address 04h).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Statistic {
    /// What it counts.
    pub name: String,
    /// Its value.
    pub value: i64,
    /// Unit, empty for a count.
    pub unit: String,
}

/// Statistics of a page: offset, name, unit, and whether the value is a signed byte.
const STATISTICS: [(u8, usize, &str, &str, bool); 29] = [
    (1, 8, "power-on resets", "", false),
    (1, 16, "power-on hours", "h", false),
    (1, 24, "logical sectors written", "", false),
    (1, 32, "write commands", "", false),
    (1, 40, "logical sectors read", "", false),
    (1, 48, "read commands", "", false),
    (3, 8, "spindle hours", "h", false),
    (3, 16, "head flying hours", "h", false),
    (3, 24, "head loads", "", false),
    (3, 32, "reallocated sectors", "", false),
    (3, 40, "read recovery attempts", "", false),
    (3, 48, "mechanical start failures", "", false),
    (3, 56, "sectors waiting for reallocation", "", false),
    (4, 8, "uncorrectable errors reported", "", false),
    (4, 16, "resets between command and completion", "", false),
    (5, 8, "temperature", "°C", true),
    (5, 16, "average temperature, short term", "°C", true),
    (5, 24, "average temperature, long term", "°C", true),
    (5, 32, "highest temperature", "°C", true),
    (5, 40, "lowest temperature", "°C", true),
    (5, 80, "time above its limit", "min", false),
    (5, 88, "specified maximum temperature", "°C", true),
    (5, 96, "time below its limit", "min", false),
    (5, 104, "specified minimum temperature", "°C", true),
    (6, 8, "hardware resets", "", false),
    (6, 16, "signal recoveries", "", false),
    (6, 24, "interface checksum errors", "", false),
    (7, 8, "endurance used", "%", false),
    (2, 8, "free-fall events", "", false),
];

/// Decodes a page of device statistics. A statistic that is not supported, or not valid now, is left out.
pub fn statistics(page: &[u8]) -> Vec<Statistic> {
    if page.len() != SECTOR {
        return Vec::new();
    }
    let number_of_page = page[2];
    let read = |&(of, at, name, unit, signed): &(u8, usize, &str, &str, bool)| {
        let word = number(page, at, 8);
        // Bit 63: supported; bit 62: valid.
        if of != number_of_page || word >> 62 != 0b11 {
            return None;
        }
        let value = if signed { i64::from(word as u8 as i8) } else { (word & 0xff_ffff_ffff_ffff) as i64 };
        Some(Statistic { name: name.to_owned(), value, unit: unit.to_owned() })
    };
    STATISTICS.iter().filter_map(read).collect()
}

/// Pages that the list of supported statistics (page 0) names, of those that are decoded here.
pub fn statistics_pages(list: &[u8]) -> Vec<u8> {
    let count = list.get(8).map_or(0, |n| usize::from(*n));
    let named = list.get(9..).unwrap_or_default().iter().take(count).copied();
    named.filter(|p| STATISTICS.iter().any(|s| s.0 == *p)).collect()
}

/// Temperatures of the SCT Status (log address E0h): now, and the highest over the drive's life.
pub fn sct_temperatures(status: &[u8]) -> (Option<Celsius>, Option<Celsius>) {
    // 80h says that there is no valid value.
    let at = |i: usize| {
        status
            .get(i)
            .copied()
            .filter(|t| *t != 0x80 && status.len() == SECTOR)
            .map(|t| Celsius(f64::from(t as i8)))
    };
    (at(200), at(204))
}

/// The words of a self-test execution status.
fn status_words(code: u8) -> (&'static str, bool) {
    match code {
        0 => ("completed without an error", true),
        1 => ("aborted by the host", false),
        2 => ("interrupted by a reset", false),
        3 => ("could not be completed for a fatal error", false),
        4 => ("failed in an unknown test element", false),
        5 => ("failed in the electrical element", false),
        6 => ("failed in the servo or seek element", false),
        7 => ("failed in the read element", false),
        8 => ("failed, with the drive suspected of handling damage", false),
        15 => ("in progress", false),
        _ => ("ended in a way that the standard reserves", false),
    }
}

fn test_kind(code: u8) -> TestKind {
    match code & 0x7f {
        1 => TestKind::Short,
        2 => TestKind::Extended,
        3 => TestKind::Conveyance,
        4 => TestKind::Selective,
        _ => TestKind::Other,
    }
}

/// A descriptor of a self-test log, whose block has so many bytes; `None` where it is empty, or of the test underway.
fn test_result(d: &[u8], bytes: usize) -> Option<TestResult> {
    if d.iter().all(|b| *b == 0) || d[1] >> 4 == 15 {
        return None;
    }
    let (words, passed) = status_words(d[1] >> 4);
    let block = number(d, 5, bytes);
    // All bits are set where there is none.
    let none = u64::MAX >> (64 - 8 * bytes);
    Some(TestResult {
        kind: test_kind(d[0]),
        passed,
        words: words.to_owned(),
        power_on_hours: number(d, 2, 2),
        block: (!passed && block != 0 && block != none).then_some(block),
    })
}

/// Descriptors on a page of the Extended SMART Self-test log (log address 07h; ACS-4, 9.6).
const ON_A_PAGE: usize = 19;

/// The page of that log on which its newest result stands; `None` where the log is empty, or its first page does not hold.
pub fn extended_tests_page(first: &[u8]) -> Option<u16> {
    let newest = Some(first).filter(|l| l.len() == SECTOR && checksum_holds(l)).map(|l| number(l, 2, 2))?;
    (newest > 0).then(|| ((newest - 1) / ON_A_PAGE as u64) as u16)
}

/// Results on a page of that log, newest first; `first` is its first page, which has the index of the newest. It tells of blocks that the older log,
/// with its 32 bits, cannot.
pub fn extended_tests(first: &[u8], page: &[u8]) -> Vec<TestResult> {
    if extended_tests_page(first).is_none() || page.len() != SECTOR || !checksum_holds(page) {
        return Vec::new();
    }
    let newest = (number(first, 2, 2) as usize - 1) % ON_A_PAGE;
    // On the first page the results behind the newest are the oldest of those that have come round; on others they belong to what lies before.
    let wraps = first == page;
    let order = (0..ON_A_PAGE).map(|back| (newest + ON_A_PAGE - back) % ON_A_PAGE);
    let order = order.take(if wraps { ON_A_PAGE } else { newest + 1 });
    order.filter_map(|i| test_result(&page[4 + 26 * i..30 + 26 * i], 6)).collect()
}

/// The self-test now, from the SMART data, and the results in the SMART Self-test log (log address 06h), newest first.
pub fn self_test(data: &SmartData, log: Option<&[u8]>) -> SelfTest {
    let mut results = Vec::new();
    if let Some(log) = log.filter(|l| l.len() == SECTOR && checksum_holds(l)) {
        // Byte 508 is the number, from 1, of the newest of 21 descriptors, that are used in turn.
        let newest = usize::from(log[508]);
        let order = (1..=21).filter(|_| (1..=21).contains(&newest)).map(|back| (newest + 21 - back) % 21);
        for i in order {
            results.extend(test_result(&log[2 + 24 * i..26 + 24 * i], 4));
        }
    }
    let (state, tens) = data.self_test_status;
    // Which kind of test is underway is only in the log's newest descriptor.
    let underway = log
        .filter(|l| l.len() == SECTOR && (1..=21).contains(&l[508]))
        .map(|l| test_kind(l[2 + 24 * (usize::from(l[508]) - 1)]));
    let running = (state == 15).then(|| (underway.unwrap_or(TestKind::Other), 100 - (tens * 10).min(100)));
    let takes_min = running.and_then(|(kind, _)| match kind {
        TestKind::Short => data.short_minutes,
        TestKind::Extended => data.extended_minutes,
        _ => None,
    });
    SelfTest { running, takes_min, results }
}

/// The SMART selective self-test log (log address 09h; ACS-3, table A.16) that has a drive test one stretch: its first and its last block.
pub fn selective_log(first: u64, last: u64) -> [u8; SECTOR] {
    let mut log = [0; SECTOR];
    log[..2].copy_from_slice(&1_u16.to_le_bytes());
    log[2..10].copy_from_slice(&first.to_le_bytes());
    log[10..18].copy_from_slice(&last.to_le_bytes());
    let sum = log.iter().fold(0_u8, |sum, b| sum.wrapping_add(*b));
    log[SECTOR - 1] = sum.wrapping_neg();
    log
}

/// The stretches that a selective self-test log asks for, first and last block of each, in their order; empty where it is of another length or its
/// checksum does not hold.
pub fn selective_stretches(log: &[u8]) -> Vec<(u64, u64)> {
    if log.len() != SECTOR || !checksum_holds(log) {
        return Vec::new();
    }
    let all = log[2..82].chunks_exact(16).map(|s| (number(s, 0, 8), number(s, 8, 8)));
    // A stretch that is not used is zero in both.
    all.filter(|s| *s != (0, 0) && s.0 <= s.1).collect()
}

/// The registers of an ATA drive as they come back in the sense data of a translated command.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Registers {
    /// Error.
    pub error: u8,
    /// Status.
    pub status: u8,
    /// Sector count, low byte.
    pub count: u8,
    /// LBA bits 7:0, 15:8, 23:16.
    pub lba: [u8; 3],
}

impl Registers {
    /// Finds them in sense data: descriptor format (SAT-4 table 149), or fixed format (table 150).
    pub fn of_sense(sense: &[u8]) -> Option<Self> {
        match sense.first()? & 0x7f {
            0x72 | 0x73 => {
                let end = (8 + usize::from(*sense.get(7)?)).min(sense.len());
                let mut at = 8;
                while at + 2 <= end {
                    let length = 2 + usize::from(sense[at + 1]);
                    if sense[at] == 0x09 {
                        let d = sense.get(at..at + 14)?;
                        return Some(Self {
                            error: d[3],
                            count: d[5],
                            lba: [d[7], d[9], d[11]],
                            status: d[13],
                        });
                    }
                    at += length;
                }
                None
            }
            0x70 | 0x71 => {
                let s = sense.get(..14)?;
                // ATA pass-through information available: ASC 00h, ASCQ 1Dh.
                (s[12] == 0 && s[13] == 0x1d).then_some(Self {
                    error: s[3],
                    status: s[4],
                    count: s[6],
                    lba: [s[9], s[10], s[11]],
                })
            }
            _ => None,
        }
    }

    /// What SMART RETURN STATUS answers: whether a threshold is exceeded; `None` for another pattern.
    pub fn threshold_exceeded(&self) -> Option<bool> {
        match (self.lba[1], self.lba[2]) {
            (0x4f, 0xc2) => Some(false),
            (0xf4, 0x2c) => Some(true),
            _ => None,
        }
    }
}

/// A command for an ATA drive.
#[derive(Clone, Copy, Debug, Default)]
pub struct AtaCommand {
    /// Command register.
    pub command: u8,
    /// Feature register.
    pub feature: u8,
    /// Sectors of 512 bytes that it answers with, or is given; 0 for none.
    pub sectors: u16,
    /// Whether it is given them.
    pub gives: bool,
    /// LBA.
    pub lba: u64,
    /// Whether it has 48-bit registers.
    pub extended: bool,
    /// Whether its registers are asked for.
    pub registers: bool,
}

impl AtaCommand {
    /// As ATA PASS-THROUGH (16): SAT-4, 12.2.3.
    pub fn cdb(&self) -> [u8; 16] {
        let protocol = match (self.sectors, self.gives) {
            (0, _) => 3,
            (_, false) => 4,
            (_, true) => 5,
        };
        let lba = self.lba.to_le_bytes();
        let [count, count_high] = self.sectors.to_le_bytes();
        // Length in the count field, in blocks of 512 bytes, from the drive or to it.
        let length = match (self.sectors, self.gives) {
            (0, _) => 0,
            (_, false) => 0x0e,
            (_, true) => 0x06,
        };
        let flags = length | if self.registers { 0x20 } else { 0 };
        let high = |b: u8| if self.extended { b } else { 0 };
        [
            0x85,
            protocol << 1 | u8::from(self.extended),
            flags,
            0,
            self.feature,
            high(count_high),
            count,
            high(lba[3]),
            lba[0],
            high(lba[4]),
            lba[1],
            high(lba[5]),
            lba[2],
            if self.extended { 0x40 } else { 0xa0 },
            self.command,
            0,
        ]
    }

    /// IDENTIFY DEVICE.
    pub fn identify() -> Self {
        Self { command: 0xec, sectors: 1, ..Self::default() }
    }

    /// A SMART command: its feature, the low byte of its LBA, and whether it answers with a sector.
    pub fn smart(feature: u8, low: u8, answers: bool) -> Self {
        Self {
            command: 0xb0,
            feature,
            sectors: answers.into(),
            lba: 0x00c2_4f00 | u64::from(low),
            ..Self::default()
        }
    }

    /// SMART RETURN STATUS.
    pub fn smart_status() -> Self {
        Self { registers: true, ..Self::smart(0xda, 0, false) }
    }

    /// SMART WRITE LOG of the log that says what a selective self-test reads. It changes no data of the medium.
    pub fn write_selective_log() -> Self {
        Self { gives: true, ..Self::smart(0xd6, 0x09, true) }
    }

    /// READ LOG EXT: a page of a log.
    pub fn read_log(log: u8, page: u16) -> Self {
        let [low, high] = page.to_le_bytes();
        let lba = u64::from(log) | u64::from(low) << 8 | u64::from(high) << 32;
        Self { command: 0x2f, sectors: 1, lba, extended: true, ..Self::default() }
    }

    /// CHECK POWER MODE: its count register tells, and it does not wake a drive.
    pub fn power_mode() -> Self {
        Self { command: 0xe5, registers: true, ..Self::default() }
    }
}
