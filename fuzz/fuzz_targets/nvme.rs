#![no_main]
//! NVMe structures: no bytes are a panic.

use libfuzzer_sys::fuzz_target;
use mile_drive::nvme::{HealthLog, errors, identify, selftest};

fuzz_target!(|bytes: &[u8]| {
    if let Ok(log) = HealthLog::decode(bytes) {
        assert_eq!(HealthLog::decode(&log.encode()).as_ref(), Ok(&log));
    }
    let mut page = bytes.to_vec();
    page.resize(identify::LENGTH, 0);
    let _ = (identify::Controller::decode(&page), identify::Namespace::decode(&page), errors::decode(bytes));
    page.truncate(selftest::LENGTH);
    let _ = selftest::decode(&page);
});
