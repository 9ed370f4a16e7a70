//! The extended health log (log identifier C0h) of the OCP Datacenter NVMe SSD Specification, version 2.0, §4.8.6, and the list of log pages (log
//! identifier 00h, NVM Express Base Specification 2.0, §5.16.1.1) that says whether a drive has it.
//!
//! The identifiers from C0h on belong to each maker. What is there is this log only if it bears its GUID. A drive is asked for it only where its list names it: many
//! drives count a question for a page that they do not have as an error.

use mile_core::Bytes;

/// Length of the log.
pub const LENGTH: usize = 512;
/// Its identifier.
pub const LOG: u8 = 0xc0;
/// Length of the list of log pages.
pub const LIST: usize = 1024;
/// The GUID in its last 16 bytes, AFD514C9-7C6F-4FA4-A4F2-BFEA2810AFC5h, least significant byte first.
const GUID: u128 = 0xafd5_14c9_7c6f_4fa4_a4f2_bfea_2810_afc5;

/// What of the log is used.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Extended {
    /// Bytes written to the medium, for the host and for the drive itself.
    pub media_written: Bytes,
    /// Bytes read from it.
    pub media_read: Bytes,
    /// Reads that could not be corrected.
    pub uncorrectable: u64,
    /// Blocks of flash for the user's data that are no longer used, as they are worn out or never worked.
    pub retired_blocks: u64,
}

impl Extended {
    /// Decodes the log; `None` where it is of another length, or another log.
    pub fn decode(page: &[u8]) -> Option<Self> {
        let page: &[u8; LENGTH] = page.try_into().ok()?;
        let number = |at: usize, bytes: usize| {
            page[at..at + bytes].iter().rev().fold(0_u128, |sum, b| sum << 8 | u128::from(*b))
        };
        if number(496, 16) != GUID {
            return None;
        }
        let bytes = |at| Bytes(u64::try_from(number(at, 16)).unwrap_or(u64::MAX));
        Some(Self {
            media_written: bytes(0),
            media_read: bytes(16),
            uncorrectable: number(56, 8) as u64,
            retired_blocks: number(32, 6) as u64,
        })
    }
}

/// Whether the list of log pages names a log as one that the drive has; `None` where the list is of another length.
pub fn is_listed(list: &[u8], log: u8) -> Option<bool> {
    // Four bytes for each identifier; the first bit of the first byte says that it is supported (LSUPP).
    (list.len() == LIST).then(|| list[4 * usize::from(log)] & 1 == 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Byte by byte by the table of the specification, with each field of another value.
    #[test]
    fn the_log_is_read_as_the_table_says_and_another_log_is_not_taken_for_it() {
        let mut page = vec![0_u8; LENGTH];
        page[..6].copy_from_slice(&[0x00, 0x10, 0xa5, 0xd4, 0xe8, 0x01]);
        page[16] = 7;
        page[32..38].copy_from_slice(&[0x39, 0x30, 0, 0, 0, 0]);
        // The normalized value behind the raw count, and the field behind that.
        (page[38], page[40]) = (100, 9);
        page[56] = 3;
        page[496..].copy_from_slice(&[
            0xc5, 0xaf, 0x10, 0x28, 0xea, 0xbf, 0xf2, 0xa4, 0xa4, 0x4f, 0x6f, 0x7c, 0xc9, 0x14, 0xd5, 0xaf,
        ]);
        let told = Extended::decode(&page).unwrap();
        assert_eq!(told.media_written, Bytes(2_099_511_627_776));
        assert_eq!((told.media_read, told.retired_blocks, told.uncorrectable), (Bytes(7), 12_345, 3));
        page[0] = 0xff;
        page[15] = 0x01;
        assert_eq!(Extended::decode(&page).unwrap().media_written, Bytes(u64::MAX), "more than 64 bits");
        page[511] ^= 1;
        assert_eq!(Extended::decode(&page), None);
        assert_eq!(Extended::decode(&page[..511]), None);
        assert_eq!(Extended::decode(&[]), None);
    }

    #[test]
    fn a_log_is_listed_where_its_bit_is_set() {
        let mut list = vec![0_u8; LIST];
        list[4 * 0xc0] = 0x03;
        list[4 * 2 + 1] = 0xff;
        assert_eq!([LOG, 2, 0xff].map(|log| is_listed(&list, log)), [Some(true), Some(false), Some(false)]);
        assert_eq!(is_listed(&list[1..], LOG), None);
    }
}
