#![no_main]
//! ATA structures: no bytes are a panic, with and without a checksum that holds.

use libfuzzer_sys::fuzz_target;
use mile_drive::ata::{self, Identify, Registers, SECTOR, SmartData};

fuzz_target!(|bytes: &[u8]| {
    let mut page = bytes.to_vec();
    page.resize(SECTOR, 0);
    let sum = page[..SECTOR - 1].iter().fold(0_u8, |sum, b| sum.wrapping_add(*b));
    page[SECTOR - 1] = 0_u8.wrapping_sub(sum);
    for page in [bytes, &page] {
        let _ = (Identify::decode(page), ata::statistics(page), ata::statistics_pages(page));
        let _ = (ata::sct_temperatures(page), Registers::of_sense(page));
        if let Some(data) = SmartData::decode(page, Some(page)) {
            let _ = (data.temperature(), data.sectors(), ata::self_test(&data, Some(page)));
        }
    }
});
