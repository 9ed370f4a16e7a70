//! The Error Information log (log identifier 01h; NVM Express Base Specification 2.0, figure 206): entries of 64 bytes, newest
//! first.

use serde::{Deserialize, Serialize};

/// Length of an entry.
pub const ENTRY: usize = 64;

/// One entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ErrorEntry {
    /// Number of the error over the drive's life.
    pub count: u64,
    /// Status code type, 0 to 7.
    pub kind: u8,
    /// Status code.
    pub code: u8,
    /// First logical block concerned.
    pub block: u64,
    /// Namespace.
    pub namespace: u32,
}

/// The entries of a log; those never used are left out.
pub fn decode(log: &[u8]) -> Vec<ErrorEntry> {
    let entries = log.chunks_exact(ENTRY).map(|e| {
        let number = |at: usize, length: usize| {
            (0..length).rev().fold(0_u64, |sum, i| sum << 8 | u64::from(e[at + i]))
        };
        // Bit 0 is the phase; the status is above it.
        let status = number(12, 2) >> 1;
        ErrorEntry {
            count: number(0, 8),
            kind: (status >> 8 & 0b111) as u8,
            code: (status & 0xff) as u8,
            block: number(16, 8),
            namespace: number(24, 4) as u32,
        }
    });
    entries.filter(|e| e.count > 0).collect()
}

impl ErrorEntry {
    /// In words, where the code is one of the common ones of the standard.
    pub fn words(&self) -> String {
        let known = match (self.kind, self.code) {
            (0, 0x01) => "invalid command opcode",
            (0, 0x02) => "invalid field in a command",
            (0, 0x04) => "data transfer error",
            (0, 0x05) => "aborted by power loss",
            (0, 0x06) => "internal error",
            (0, 0x80) => "address out of range",
            (0, 0x81) => "capacity exceeded",
            (1, 0x09) => "invalid log page",
            (2, 0x80) => "write fault",
            (2, 0x81) => "unrecovered read error",
            (2, 0x82..=0x84) => "end-to-end check failed",
            (2, 0x85) => "compare failed",
            (2, 0x86) => "access denied",
            (2, 0x87) => "deallocated or unwritten block",
            _ => return format!("status type {}, code {:02x}h", self.kind, self.code),
        };
        known.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_entry_is_read_where_the_standard_puts_it() {
        let mut log = vec![0_u8; 2 * ENTRY];
        log[0] = 7;
        // Unrecovered read error: type 2, code 81h, more set, phase set.
        log[12..14].copy_from_slice(&((0x2 << 9 | 0x81 << 1 | 1 | 1 << 14) as u16).to_le_bytes());
        log[16..24].copy_from_slice(&123_456_u64.to_le_bytes());
        log[24] = 1;
        let entries = decode(&log);
        assert_eq!(entries, [ErrorEntry { count: 7, kind: 2, code: 0x81, block: 123_456, namespace: 1 }]);
        assert_eq!(entries[0].words(), "unrecovered read error");
    }

    proptest! {
        #[test]
        fn no_bytes_are_a_panic(log in prop::collection::vec(any::<u8>(), 0..1024)) {
            for entry in decode(&log) {
                prop_assert!(!entry.words().is_empty());
            }
        }
    }
}
