//! Identify Controller and Identify Namespace (NVM Express Base Specification 2.0, figures 275 and, for the NVM command set,
//! NVM Command Set Specification 1.0, figure 97): 4096 bytes each, little-endian.

use super::celsius;
use mile_core::{Bytes, Celsius};
use serde::{Deserialize, Serialize};

/// Length of both structures.
pub const LENGTH: usize = 4096;

/// What a controller says of itself.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Controller {
    /// Serial number.
    pub serial: String,
    /// Model number.
    pub model: String,
    /// Firmware revision.
    pub firmware: String,
    /// Version of the specification: major, minor, tertiary.
    pub version: (u16, u8, u8),
    /// Temperature from which it warns (WCTEMP).
    pub warn: Option<Celsius>,
    /// Temperature from which it is critical (CCTEMP).
    pub critical: Option<Celsius>,
    /// Range in which the host may set the temperatures of thermal management (MNTMT to MXTMT), where it may.
    pub managed: Option<(Celsius, Celsius)>,
    /// Whether it offers self-tests.
    pub self_test: bool,
    /// Minutes that an extended self-test takes, as declared.
    pub extended_minutes: Option<u16>,
    /// Whether it has the list of log pages (log 00h; LPA, bit 5).
    pub lists_logs: bool,
    /// Entries of its error log.
    pub error_entries: u16,
    /// Total capacity, where it tells.
    pub capacity: Option<Bytes>,
    /// Whether it has a volatile write cache.
    pub volatile_cache: bool,
}

/// What a namespace says of itself.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Namespace {
    /// Logical blocks.
    pub blocks: u64,
    /// Logical blocks in use, where the namespace keeps count.
    pub used: Option<u64>,
    /// Bytes of a logical block.
    pub logical_block: u32,
}

fn ascii(bytes: &[u8]) -> String {
    let text: String =
        bytes.iter().map(|b| if (0x20..0x7f).contains(b) { char::from(*b) } else { ' ' }).collect();
    text.trim().to_owned()
}

impl Controller {
    /// Decodes the structure; `None` where it is of another length.
    pub fn decode(page: &[u8]) -> Option<Self> {
        let page: &[u8; LENGTH] = page.try_into().ok()?;
        let u16_at = |at: usize| u16::from_le_bytes([page[at], page[at + 1]]);
        let total = (0..16).rev().fold(0_u128, |sum, i| sum << 8 | u128::from(page[280 + i]));
        let range = (celsius(u16_at(324)), celsius(u16_at(326)));
        Some(Self {
            serial: ascii(&page[4..24]),
            model: ascii(&page[24..64]),
            firmware: ascii(&page[64..72]),
            version: (u16_at(82), page[81], page[80]),
            warn: celsius(u16_at(266)),
            critical: celsius(u16_at(268)),
            managed: if u16_at(322) & 1 == 1 { range.0.zip(range.1) } else { None },
            self_test: u16_at(256) & 1 << 4 != 0,
            extended_minutes: Some(u16_at(316)).filter(|m| *m > 0),
            lists_logs: page[261] & 1 << 5 != 0,
            error_entries: u16::from(page[262]) + 1,
            capacity: u64::try_from(total).ok().filter(|b| *b > 0).map(Bytes),
            volatile_cache: page[525] & 1 == 1,
        })
    }
}

impl Namespace {
    /// Decodes the structure; `None` where it is of another length or names a format that it does not list.
    pub fn decode(page: &[u8]) -> Option<Self> {
        let page: &[u8; LENGTH] = page.try_into().ok()?;
        let u64_at = |at: usize| (0..8).rev().fold(0_u64, |sum, i| sum << 8 | u64::from(page[at + i]));
        let (blocks, used) = (u64_at(0), u64_at(16));
        // Bits 3:0 and, where more than sixteen formats are listed, 6:5 above them.
        let format = usize::from(page[26] & 0x0f)
            | if page[25] > 15 { usize::from(page[26] >> 5 & 0b11) << 4 } else { 0 };
        let shift = page[128 + 4 * format + 2];
        // A full count is what namespaces report that keep none.
        let kept = used < blocks;
        (9..=20).contains(&shift).then(|| Self {
            blocks,
            used: kept.then_some(used),
            logical_block: 1 << shift,
        })
    }

    /// Share of the namespace in use, 0 to 1, where it keeps count.
    pub fn fill(&self) -> Option<f64> {
        let used = self.used?;
        (self.blocks > 0).then(|| used as f64 / self.blocks as f64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_controller_is_read_where_the_standard_puts_it() {
        let mut page = vec![0_u8; LENGTH];
        page[4..24].copy_from_slice(b"LS-0042             ");
        page[24..64].copy_from_slice(b"Merrow K2 2TB                           ");
        page[64..72].copy_from_slice(b"MK2.0107");
        (page[80], page[81], page[82]) = (0, 4, 1);
        page[256] = 0x17;
        page[262] = 62;
        (page[266], page[267]) = (0x57, 0x01); // 343 K
        (page[268], page[269]) = (0x75, 0x01); // 373 K
        page[280..288].copy_from_slice(&2_000_398_934_016_u64.to_le_bytes());
        page[316] = 45;
        page[322] = 1;
        (page[324], page[325]) = (0x11, 0x01); // 273 K
        (page[326], page[327]) = (0x57, 0x01);
        page[525] = 7;
        let c = Controller::decode(&page).unwrap();
        assert_eq!(
            (c.serial.as_str(), c.model.as_str(), c.firmware.as_str()),
            ("LS-0042", "Merrow K2 2TB", "MK2.0107")
        );
        assert_eq!(c.version, (1, 4, 0));
        assert_eq!((c.warn, c.critical), (Some(Celsius(70.0)), Some(Celsius(100.0))));
        assert_eq!(c.managed, Some((Celsius(0.0), Celsius(70.0))));
        assert_eq!((c.self_test, c.extended_minutes, c.error_entries), (true, Some(45), 63));
        assert_eq!((c.capacity, c.volatile_cache), (Some(Bytes(2_000_398_934_016)), true));
        assert!(!c.lists_logs);
        page[261] = 0x20;
        assert!(Controller::decode(&page).unwrap().lists_logs);
        page[322] = 0;
        page[256] = 0x07;
        let c = Controller::decode(&page).unwrap();
        assert_eq!((c.managed, c.self_test), (None, false));
    }

    #[test]
    fn the_namespace_tells_its_block_and_its_use() {
        let mut page = vec![0_u8; LENGTH];
        page[0..8].copy_from_slice(&1_000_u64.to_le_bytes());
        page[16..24].copy_from_slice(&250_u64.to_le_bytes());
        (page[25], page[26]) = (1, 1);
        page[128 + 2] = 9;
        page[132 + 2] = 12;
        let n = Namespace::decode(&page).unwrap();
        assert_eq!((n.blocks, n.used, n.logical_block), (1_000, Some(250), 4096));
        assert_eq!(n.fill(), Some(0.25));
        page[16..24].copy_from_slice(&1_000_u64.to_le_bytes());
        assert_eq!(Namespace::decode(&page).unwrap().fill(), None, "a full count is no count");
    }

    proptest! {
        #[test]
        fn no_bytes_are_a_panic(page in prop::collection::vec(any::<u8>(), LENGTH), cut in 0..LENGTH) {
            prop_assert!(Controller::decode(&page).is_some());
            let _ = Namespace::decode(&page);
            prop_assert!(Controller::decode(&page[..cut]).is_none() && Namespace::decode(&page[..cut]).is_none());
        }
    }
}
