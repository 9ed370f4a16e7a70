//! ATA and SCSI answers, built byte by byte from the tables of the standards.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_core::{Bytes, Celsius};
use mile_drive::ata::{self, AtaCommand, Identify, Registers, SECTOR, SmartData};
use mile_drive::health::TestKind;
use mile_drive::scsi::{self, Inquiry, Logs};
use proptest::prelude::*;

fn put(page: &mut [u8], at: usize, bytes: &[u8]) {
    page[at..at + bytes.len()].copy_from_slice(bytes);
}

/// Sets the last byte so that all add up to 0.
fn seal(page: &mut [u8]) {
    let last = page.len() - 1;
    page[last] = 0;
    page[last] = page.iter().fold(0_u8, |sum, b| sum.wrapping_sub(*b));
}

fn ata_string(page: &mut [u8], word: usize, text: &str) {
    for (i, pair) in text.as_bytes().chunks(2).enumerate() {
        put(page, 2 * (word + i), &[pair[1], pair[0]]);
    }
}

fn identify() -> Vec<u8> {
    let mut page = vec![0; SECTOR];
    ata_string(&mut page, 10, "        BS1-00000042");
    ata_string(&mut page, 23, "1.07    ");
    ata_string(&mut page, 27, &format!("{:40}", "Bittern S1 960GB"));
    put(&mut page, 2 * 60, &0x0fff_ffff_u32.to_le_bytes());
    put(&mut page, 2 * 76, &0b1110_u16.to_le_bytes());
    put(&mut page, 2 * 82, &1_u16.to_le_bytes());
    put(&mut page, 2 * 83, &(1_u16 << 14 | 1 << 10).to_le_bytes());
    put(&mut page, 2 * 84, &(1_u16 << 14 | 1 << 5 | 0b10).to_le_bytes());
    put(&mut page, 2 * 85, &1_u16.to_le_bytes());
    put(&mut page, 2 * 100, &1_875_385_008_u64.to_le_bytes());
    put(&mut page, 2 * 106, &(1_u16 << 14 | 1 << 13 | 3).to_le_bytes());
    put(&mut page, 2 * 169, &1_u16.to_le_bytes());
    put(&mut page, 2 * 206, &1_u16.to_le_bytes());
    put(&mut page, 2 * 217, &1_u16.to_le_bytes());
    page[510] = 0xa5;
    seal(&mut page);
    page
}

#[test]
fn identify_device_is_read_word_by_word() {
    let page = identify();
    let id = Identify::decode(&page).unwrap();
    assert_eq!(
        (id.serial.as_str(), id.firmware.as_str(), id.model.as_str()),
        ("BS1-00000042", "1.07", "Bittern S1 960GB")
    );
    assert_eq!((id.sectors, id.logical_block, id.physical_block), (1_875_385_008, 512, 4096));
    assert_eq!(id.capacity(), Bytes(960_197_124_096));
    assert_eq!((id.rpm, id.sata_gb_s, id.smart), (Some(0), Some(6.0), (true, true)));
    assert!(id.self_test && id.sct && id.trim && id.general_logs);
    let mut broken = page.clone();
    broken[30] ^= 1;
    assert_eq!(Identify::decode(&broken), None, "its checksum does not hold");
    let mut old = vec![0; SECTOR];
    put(&mut old, 2 * 60, &1000_u32.to_le_bytes());
    let old = Identify::decode(&old).unwrap();
    assert_eq!((old.sectors, old.logical_block, old.rpm, old.sata_gb_s), (1000, 512, None, None));
    assert!(!old.self_test && !old.sct);
    // Logical sectors of 4096 bytes: 2048 words.
    let mut native = identify();
    put(&mut native, 2 * 106, &(1_u16 << 14 | 1 << 12).to_le_bytes());
    put(&mut native, 2 * 117, &2048_u32.to_le_bytes());
    seal(&mut native);
    assert_eq!(Identify::decode(&native).unwrap().logical_block, 4096);
}

fn smart() -> (Vec<u8>, Vec<u8>) {
    let (mut data, mut thresholds) = (vec![0; SECTOR], vec![0; SECTOR]);
    let rows: [(u8, u16, u8, u8, u64, u8); 5] = [
        (5, 0x33, 98, 98, 24, 36),
        (9, 0x32, 70, 70, 0x00ab_0000_5dc0, 0),
        (194, 0x22, 67, 49, 0x0033_0010_0021, 0),
        (197, 0x12, 100, 100, 8, 0),
        (200, 0x0f, 10, 10, 7, 25),
    ];
    for (i, (id, flags, value, worst, raw, threshold)) in rows.into_iter().enumerate() {
        let at = 2 + 12 * i;
        put(&mut data, at, &[id, flags as u8, (flags >> 8) as u8, value, worst]);
        put(&mut data, at + 5, &raw.to_le_bytes()[..6]);
        put(&mut thresholds, at, &[id, threshold]);
    }
    data[363] = 15 << 4 | 7;
    data[367] = 1 << 4;
    (data[372], data[373]) = (2, 0xff);
    put(&mut data, 375, &1440_u16.to_le_bytes());
    seal(&mut data);
    seal(&mut thresholds);
    (data, thresholds)
}

#[test]
fn smart_attributes_keep_their_raw_values_and_common_meanings() {
    let (data, thresholds) = smart();
    let smart = SmartData::decode(&data, Some(&thresholds)).unwrap();
    assert_eq!(smart.attributes.len(), 5);
    assert_eq!(smart.sectors(), [Some(24), Some(8), None]);
    assert_eq!((smart.power_on_hours(), smart.temperature()), (Some(24_000), Some(Celsius(33.0))));
    assert_eq!((smart.short_minutes, smart.extended_minutes), (Some(2), Some(1440)));
    let unknown = &smart.attributes[4];
    assert_eq!((unknown.meaning.as_deref(), unknown.raw), (None, 7), "makers do not agree on 200");
    assert!(unknown.failed() && unknown.prefail && !smart.attributes[0].failed());
    assert_eq!(smart.self_test_status, (15, 7));
    let mut broken = data.clone();
    broken[100] ^= 4;
    assert_eq!(SmartData::decode(&broken, None), None);
    let bare = SmartData::decode(&data, Some(&broken)).unwrap();
    assert_eq!(bare.attributes[0].threshold, None, "thresholds that do not hold are left out");
}

#[test]
fn a_selective_self_test_is_asked_for_in_the_bytes_of_the_standard() {
    // Blocks 0x123456789 to 0x12345FFFF in the first of five stretches; revision 1; sum of all bytes 0.
    let mut log = vec![0; SECTOR];
    put(&mut log, 0, &[1, 0]);
    put(&mut log, 2, &[0x89, 0x67, 0x45, 0x23, 0x01, 0, 0, 0]);
    put(&mut log, 10, &[0xff, 0xff, 0x45, 0x23, 0x01, 0, 0, 0]);
    seal(&mut log);
    assert_eq!(ata::selective_log(0x1_2345_6789, 0x1_2345_ffff).as_slice(), log);
    assert_eq!(ata::selective_stretches(&log), [(0x1_2345_6789, 0x1_2345_ffff)]);
    // A second stretch, and one whose end lies before its start.
    put(&mut log, 18, &[5, 0, 0, 0, 0, 0, 0, 0, 9, 0, 0, 0, 0, 0, 0, 0]);
    put(&mut log, 34, &[9, 0, 0, 0, 0, 0, 0, 0, 5, 0, 0, 0, 0, 0, 0, 0]);
    assert_eq!(ata::selective_stretches(&log), [], "the sum does not hold");
    log[SECTOR - 1] = 0;
    seal(&mut log);
    assert_eq!(ata::selective_stretches(&log), [(0x1_2345_6789, 0x1_2345_ffff), (5, 9)]);
    // ATA PASS-THROUGH (16), SAT-4 table 165: PIO data-out (5), length in the count, blocks of 512 bytes, to the device;
    // SMART WRITE LOG (D6h) of log 09h, with its key in LBA 23:8.
    assert_eq!(
        ata::AtaCommand::write_selective_log().cdb(),
        [0x85, 5 << 1, 0x06, 0, 0xd6, 0, 1, 0, 0x09, 0, 0x4f, 0, 0xc2, 0xa0, 0xb0, 0]
    );
    // Byte 367 of the SMART data: bits 4 to 6 are self-test, conveyance, selective.
    for (byte, offers) in
        [(0x10, (true, false, false)), (0x70, (true, true, true)), (0x40, (false, false, true))]
    {
        let mut data = vec![0; SECTOR];
        data[367] = byte;
        seal(&mut data);
        let smart = SmartData::decode(&data, None).unwrap();
        assert_eq!((smart.self_test, smart.conveyance, smart.selective), offers);
    }
}

#[test]
fn the_newer_self_test_log_tells_of_blocks_that_the_older_has_no_room_for() {
    let entry = |kind: u8, status: u8, hours: u16, block: u64| {
        let mut e = vec![kind, status << 4];
        e.extend(hours.to_le_bytes());
        e.push(0);
        e.extend(&block.to_le_bytes()[..6]);
        e
    };
    let mut page = vec![0; SECTOR];
    (page[0], page[2]) = (1, 2);
    put(&mut page, 4, &entry(4, 7, 500, 0x12_3456_789a));
    put(&mut page, 30, &entry(1, 0, 501, 0));
    // The oldest, before the log came round.
    put(&mut page, 4 + 26 * 18, &entry(2, 1, 400, 0xffff_ffff_ffff));
    seal(&mut page);
    assert_eq!(ata::extended_tests_page(&page), Some(0));
    let results = ata::extended_tests(&page, &page);
    let told: Vec<_> = results.iter().map(|r| (r.kind, r.passed, r.power_on_hours, r.block)).collect();
    assert_eq!(
        told,
        [
            (TestKind::Short, true, 501, None),
            (TestKind::Selective, false, 500, Some(0x12_3456_789a)),
            (TestKind::Extended, false, 400, None)
        ]
    );
    // The 21st result is the second of the second page.
    let mut first = vec![0; SECTOR];
    (first[0], first[2]) = (1, 21);
    seal(&mut first);
    assert_eq!(ata::extended_tests_page(&first), Some(1));
    assert_eq!(ata::extended_tests(&first, &page).len(), 2, "what lies behind the newest is of another time");
    let mut broken = page.clone();
    broken[40] ^= 1;
    assert_eq!((ata::extended_tests_page(&broken), ata::extended_tests(&page, &broken)), (None, Vec::new()));
    assert_eq!(ata::extended_tests_page(&[0; SECTOR]), None, "an empty log");
}

#[test]
fn self_test_results_come_newest_first_around_the_end_of_the_log() {
    let (data, _) = smart();
    let smart = SmartData::decode(&data, None).unwrap();
    let mut log = vec![0; SECTOR];
    let entry = |kind: u8, status: u8, hours: u16, block: u32| {
        let mut e = vec![kind, status];
        e.extend(hours.to_le_bytes());
        e.push(0);
        e.extend(block.to_le_bytes());
        e
    };
    put(&mut log, 2, &entry(2, 15 << 4 | 7, 110, 0)); // the newest, underway: descriptor 1
    put(&mut log, 2 + 24 * 20, &entry(1, 0, 100, 0)); // the one before: descriptor 21
    put(&mut log, 2 + 24 * 19, &entry(2, 7 << 4 | 9, 90, 4711));
    log[508] = 1;
    seal(&mut log);
    let test = ata::self_test(&smart, Some(&log));
    assert_eq!(test.running, Some((TestKind::Extended, 30)), "70 % remain");
    assert_eq!(test.results.len(), 2);
    assert!(test.results[0].passed && test.results[0].power_on_hours == 100);
    assert_eq!(
        (test.results[1].block, test.results[1].words.as_str()),
        (Some(4711), "failed in the read element")
    );
}

#[test]
fn statistics_that_are_not_valid_are_left_out() {
    let mut page = vec![0; SECTOR];
    page[2] = 5;
    let word = |value: u64, flags: u64| (flags << 56 | value).to_le_bytes();
    put(&mut page, 8, &word(41, 0xc0));
    put(&mut page, 32, &word(u64::from((-5_i8) as u8), 0xc0));
    put(&mut page, 40, &word(7, 0x80)); // supported, not valid
    put(&mut page, 88, &word(60, 0xc0));
    let read = ata::statistics(&page);
    let values: Vec<_> = read.iter().map(|s| (s.name.as_str(), s.value)).collect();
    assert_eq!(
        values,
        [("temperature", 41), ("highest temperature", -5), ("specified maximum temperature", 60)]
    );
    let mut list = vec![0; SECTOR];
    put(&mut list, 8, &[4, 0, 1, 5, 0xff]);
    assert_eq!(ata::statistics_pages(&list), [1, 5]);
    let mut sct = vec![0; SECTOR];
    (sct[200], sct[204]) = (0x24, 0x80);
    assert_eq!(ata::sct_temperatures(&sct), (Some(Celsius(36.0)), None));
}

#[test]
fn registers_are_found_in_both_kinds_of_sense_data() {
    let mut descriptor = vec![0x72, 1, 0, 0x1d, 0, 0, 0, 14 + 4, 0x00, 2, 0, 0];
    descriptor.extend([0x09, 12, 0, 0x04, 0, 0xff, 0, 0x11, 0, 0xf4, 0, 0x2c, 0, 0x50]);
    let registers = Registers::of_sense(&descriptor).unwrap();
    assert_eq!(registers, Registers { error: 4, status: 0x50, count: 0xff, lba: [0x11, 0xf4, 0x2c] });
    assert_eq!(registers.threshold_exceeded(), Some(true));
    let fixed = [0x70, 0, 1, 0, 0x50, 0, 0, 10, 0, 0, 0x4f, 0xc2, 0, 0x1d, 0, 0, 0, 0];
    assert_eq!(Registers::of_sense(&fixed).unwrap().threshold_exceeded(), Some(false));
    assert_eq!(Registers::of_sense(&[0x70, 0, 5, 0, 0, 0, 0, 10, 0, 0, 0, 0, 0x20, 0, 0, 0, 0, 0]), None);
}

/// The bytes of the examples in SAT-4, 12.2.
#[test]
fn commands_are_laid_out_as_ata_pass_through() {
    assert_eq!(AtaCommand::identify().cdb(), [0x85, 8, 0x0e, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0xa0, 0xec, 0]);
    assert_eq!(
        AtaCommand::smart(0xd5, 6, true).cdb(),
        [0x85, 8, 0x0e, 0, 0xd5, 0, 1, 0, 6, 0, 0x4f, 0, 0xc2, 0xa0, 0xb0, 0]
    );
    assert_eq!(
        AtaCommand::smart_status().cdb(),
        [0x85, 6, 0x20, 0, 0xda, 0, 0, 0, 0, 0, 0x4f, 0, 0xc2, 0xa0, 0xb0, 0]
    );
    assert_eq!(
        AtaCommand::read_log(4, 0x0107).cdb(),
        [0x85, 9, 0x0e, 0, 0, 0, 1, 0, 4, 1, 7, 0, 0, 0x40, 0x2f, 0]
    );
}

#[test]
fn scsi_pages_are_read() {
    let mut inquiry = vec![0; 36];
    put(&mut inquiry, 8, b"BOLLARD ");
    put(&mut inquiry, 16, b"B4T             0007");
    let inquiry = Inquiry::decode(&inquiry).unwrap();
    assert_eq!(
        (inquiry.vendor.as_str(), inquiry.product.as_str(), inquiry.revision.as_str()),
        ("BOLLARD", "B4T", "0007")
    );
    assert_eq!(scsi::vpd(0x80, &[0, 0x80, 0, 4, b'B', b'4', b'2', b'7', 9]), Some(&b"B427"[..]));
    assert_eq!(scsi::rpm(&[0, 0xb1, 0, 4, 0x1c, 0x20, 0, 3]), Some(7200));
    let name = [
        0, 0x83, 0, 24, 2, 1, 0, 4, b'V', b'e', b'n', b'd', 1, 3, 0, 8, 0x50, 0, 0xc5, 0, 1, 2, 3, 4, 0, 0,
        0, 0,
    ];
    assert_eq!(scsi::unit_name(&name).as_deref(), Some("5000c50001020304"));
    let mut logs = Logs::default();
    logs.add(0x0d, &[0x0d, 0, 0, 12, 0, 0, 3, 2, 0, 38, 0, 1, 3, 2, 0, 60]);
    logs.add(0x2f, &[0x2f, 0, 0, 8, 0, 0, 3, 4, 0x5d, 0x10, 39, 0]);
    logs.add(0x0e, &[0x0e, 0, 0, 16, 0, 4, 3, 4, 0, 0, 0, 77, 0, 6, 3, 4, 0, 0, 1, 0]);
    logs.add(0x03, &[3, 0, 0, 12, 0, 6, 3, 8, 0, 0, 0, 0, 0, 0, 0, 5]);
    logs.add(0x11, &[0x11, 0, 0, 8, 0, 1, 3, 4, 0, 0, 0, 61]);
    logs.add(0x15, &[0x15, 0, 0, 8, 0, 0, 3, 4, 0, 0, 0x0e, 0x10]);
    assert_eq!((logs.temperature, logs.reference), (Some(Celsius(38.0)), Some(Celsius(60.0))));
    assert_eq!((logs.starts, logs.loads, logs.used_pct), (Some(77), Some(256), Some(61)));
    assert_eq!((logs.uncorrected, logs.power_on_minutes), ((None, Some(5)), Some(3600)));
    assert!(scsi::exception_words(logs.exception.unwrap()).contains("foretells"));
    assert_eq!(scsi::supported_logs(&[0, 0, 0, 3, 0, 0x0d, 0x2f]), [0, 0x0d, 0x2f]);
    let mut cannot = Logs::default();
    cannot.add(0x0d, &[0x0d, 0, 0, 6, 0, 0, 3, 2, 0, 0xff]);
    assert_eq!(cannot.temperature, None, "FFh is no temperature");
}

proptest! {
    #[test]
    fn no_bytes_are_a_panic(page in prop::collection::vec(any::<u8>(), 0..600), pad in any::<bool>()) {
        let mut page = page;
        if pad {
            page.resize(SECTOR, 0);
            seal(&mut page);
        }
        let _ = Identify::decode(&page);
        if let Some(data) = SmartData::decode(&page, Some(&page)) {
            let _ = (data.temperature(), data.sectors(), ata::self_test(&data, Some(&page)));
        }
        let _ = (ata::statistics(&page), ata::statistics_pages(&page), ata::sct_temperatures(&page));
        let _ = (Registers::of_sense(&page), scsi::sense(&page), Inquiry::decode(&page), scsi::rpm(&page));
        let _ = (scsi::unit_name(&page), scsi::supported_logs(&page));
        let mut logs = Logs::default();
        for code in [0x02, 0x03, 0x0d, 0x0e, 0x11, 0x15, 0x2f] {
            if let Some(first) = page.first_mut() {
                *first = code;
            }
            logs.add(code, &page);
        }
    }
}
