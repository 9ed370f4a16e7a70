#![no_main]
//! Courses: no text is a panic, and what parses can be planned or is refused.

use libfuzzer_sys::fuzz_target;
use mile_core::Bytes;
use mile_course::{DriveFacts, parse, plan};

fuzz_target!(|text: &str| {
    if let Ok(course) = parse(text) {
        let facts = DriveFacts {
            capacity: Bytes(4_000_000_000),
            logical_block: Bytes(4096),
            has_temperature: false,
            readable: false,
        };
        let _ = plan(&course, &facts);
    }
});
