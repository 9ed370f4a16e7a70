//! The SMART / Health Information log (log identifier 02h) of the NVM Express Base Specification, revision 2.0,
//! §5.16.1.3, figure 207: 512 bytes, little-endian.

pub mod errors;
pub mod extended;
pub mod identify;
pub mod selftest;

use mile_core::{Bytes, Celsius};
use serde::{Deserialize, Serialize};

/// Length of the log page.
pub const LENGTH: usize = 512;
/// Bytes of one data unit: 1000 units of 512 bytes are counted as one.
pub const DATA_UNIT: u64 = 512_000;

/// The log, decoded.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the fields are those of the standard")]
pub struct HealthLog {
    pub critical_warning: u8,
    /// `None` where the drive reports 0 K, its way of saying that it has no reading.
    pub composite: Option<Celsius>,
    pub available_spare_pct: u8,
    pub spare_threshold_pct: u8,
    pub percentage_used: u8,
    pub data_units_read: u128,
    pub data_units_written: u128,
    pub host_reads: u128,
    pub host_writes: u128,
    pub busy_minutes: u128,
    pub power_cycles: u128,
    pub power_on_hours: u128,
    pub unsafe_shutdowns: u128,
    pub media_errors: u128,
    pub error_entries: u128,
    pub minutes_above_warning: u32,
    pub minutes_above_critical: u32,
    /// Sensors 1 to 8; those that the drive does not have are `None`.
    pub sensors: [Option<Celsius>; 8],
    pub light_transitions: u32,
    pub heavy_transitions: u32,
    pub light_seconds: u32,
    pub heavy_seconds: u32,
}

/// The log page was not of the standard's length.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a health log page has 512 bytes, this one has {0}")]
pub struct WrongLength(pub usize);

/// Kelvin of 0 °C as the standard's whole-degree field counts it (273 K).
const KELVIN: f64 = 273.0;

pub(crate) fn celsius(kelvin: u16) -> Option<Celsius> {
    (kelvin != 0).then(|| Celsius(f64::from(kelvin) - KELVIN))
}

fn kelvin(temp: Option<Celsius>) -> u16 {
    temp.map_or(0, |t| (t.0 + KELVIN).round().clamp(1.0, 65_535.0) as u16)
}

impl HealthLog {
    /// Decodes a log page.
    pub fn decode(page: &[u8]) -> Result<Self, WrongLength> {
        let page: &[u8; LENGTH] = page.try_into().map_err(|_| WrongLength(page.len()))?;
        let u16_at = |at: usize| u16::from_le_bytes([page[at], page[at + 1]]);
        let u32_at = |at: usize| u32::from(u16_at(at)) | u32::from(u16_at(at + 2)) << 16;
        let u128_at = |at: usize| (0..16).rev().fold(0_u128, |sum, i| sum << 8 | u128::from(page[at + i]));
        Ok(Self {
            critical_warning: page[0],
            composite: celsius(u16_at(1)),
            available_spare_pct: page[3],
            spare_threshold_pct: page[4],
            percentage_used: page[5],
            data_units_read: u128_at(32),
            data_units_written: u128_at(48),
            host_reads: u128_at(64),
            host_writes: u128_at(80),
            busy_minutes: u128_at(96),
            power_cycles: u128_at(112),
            power_on_hours: u128_at(128),
            unsafe_shutdowns: u128_at(144),
            media_errors: u128_at(160),
            error_entries: u128_at(176),
            minutes_above_warning: u32_at(192),
            minutes_above_critical: u32_at(196),
            sensors: std::array::from_fn(|i| celsius(u16_at(200 + 2 * i))),
            light_transitions: u32_at(216),
            heavy_transitions: u32_at(220),
            light_seconds: u32_at(224),
            heavy_seconds: u32_at(228),
        })
    }

    /// Encodes a log page, as the simulated drives answer.
    pub fn encode(&self) -> [u8; LENGTH] {
        let mut page = [0; LENGTH];
        page[0] = self.critical_warning;
        page[1..3].copy_from_slice(&kelvin(self.composite).to_le_bytes());
        page[3] = self.available_spare_pct;
        page[4] = self.spare_threshold_pct;
        page[5] = self.percentage_used;
        let wide = [
            self.data_units_read,
            self.data_units_written,
            self.host_reads,
            self.host_writes,
            self.busy_minutes,
            self.power_cycles,
            self.power_on_hours,
            self.unsafe_shutdowns,
            self.media_errors,
            self.error_entries,
        ];
        for (i, value) in wide.iter().enumerate() {
            page[32 + 16 * i..48 + 16 * i].copy_from_slice(&value.to_le_bytes());
        }
        page[192..196].copy_from_slice(&self.minutes_above_warning.to_le_bytes());
        page[196..200].copy_from_slice(&self.minutes_above_critical.to_le_bytes());
        for (i, sensor) in self.sensors.iter().enumerate() {
            page[200 + 2 * i..202 + 2 * i].copy_from_slice(&kelvin(*sensor).to_le_bytes());
        }
        let narrow = [self.light_transitions, self.heavy_transitions, self.light_seconds, self.heavy_seconds];
        for (i, value) in narrow.iter().enumerate() {
            page[216 + 4 * i..220 + 4 * i].copy_from_slice(&value.to_le_bytes());
        }
        page
    }

    /// What the drive warns of, in words; bits 0 to 5 of the critical warning.
    pub fn warnings(&self) -> Vec<String> {
        const WORDS: [&str; 6] = [
            "the spare blocks are below their threshold",
            "a temperature is beyond a threshold",
            "reliability is degraded by media or internal errors",
            "the medium has become read-only",
            "the backup of volatile memory has failed",
            "the persistent memory region has become read-only or unreliable",
        ];
        let said = |bit: usize| self.critical_warning & 1 << bit != 0;
        let known = WORDS.iter().enumerate().filter(|(bit, _)| said(*bit)).map(|(_, w)| (*w).to_owned());
        let other = (6..8).filter(|bit| said(*bit)).map(|bit| format!("critical warning bit {bit}"));
        known.chain(other).collect()
    }

    /// Bytes read over the drive's life, to the nearest data unit.
    pub fn read(&self) -> Bytes {
        Bytes(u64::try_from(self.data_units_read).unwrap_or(u64::MAX).saturating_mul(DATA_UNIT))
    }

    /// Bytes written over the drive's life, to the nearest data unit.
    pub fn written(&self) -> Bytes {
        Bytes(u64::try_from(self.data_units_written).unwrap_or(u64::MAX).saturating_mul(DATA_UNIT))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Bytes placed by hand at the offsets of the standard's figure.
    #[test]
    fn fields_stand_where_the_standard_puts_them() {
        let mut page = [0_u8; LENGTH];
        page[0] = 0b10;
        (page[1], page[2]) = (0x4b, 0x01); // 331 K
        (page[3], page[4], page[5]) = (97, 10, 4);
        page[48] = 0x10;
        page[63] = 0x01; // the highest byte of a 128-bit counter
        page[128] = 200;
        (page[192], page[193]) = (0x2c, 0x01);
        (page[200], page[201]) = (0x50, 0x01); // 336 K
        page[224] = 7;
        page[231] = 1;
        let log = HealthLog::decode(&page).unwrap();
        assert_eq!(log.critical_warning, 2);
        assert_eq!(log.composite, Some(Celsius(58.0)));
        assert_eq!((log.available_spare_pct, log.spare_threshold_pct, log.percentage_used), (97, 10, 4));
        assert_eq!(log.data_units_written, (1_u128 << 120) + 16);
        assert_eq!((log.power_on_hours, log.minutes_above_warning), (200, 300));
        assert_eq!((log.sensors[0], log.sensors[1]), (Some(Celsius(63.0)), None));
        assert_eq!((log.light_seconds, log.heavy_seconds), (7, 1 << 24));
    }

    proptest! {
        #[test]
        fn any_page_decodes_and_what_is_decoded_encodes_to_the_same(page in prop::collection::vec(any::<u8>(), LENGTH)) {
            let log = HealthLog::decode(&page).unwrap();
            prop_assert_eq!(HealthLog::decode(&log.encode()).unwrap(), log);
        }

        #[test]
        fn a_page_of_another_length_is_refused(page in prop::collection::vec(any::<u8>(), 0..1024)) {
            prop_assume!(page.len() != LENGTH);
            prop_assert_eq!(HealthLog::decode(&page), Err(WrongLength(page.len())));
        }
    }
}
