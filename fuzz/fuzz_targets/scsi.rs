#![no_main]
//! SCSI pages: no bytes are a panic.

use libfuzzer_sys::fuzz_target;
use mile_drive::scsi::{self, Inquiry, Logs};

fuzz_target!(|bytes: &[u8]| {
    let _ = (Inquiry::decode(bytes), scsi::rpm(bytes), scsi::unit_name(bytes), scsi::sense(bytes));
    let _ = scsi::supported_logs(bytes);
    let mut logs = Logs::default();
    for page in 0..0x40 {
        logs.add(page, bytes);
        let _ = (scsi::parameters(page, bytes), scsi::vpd(page, bytes));
    }
});
