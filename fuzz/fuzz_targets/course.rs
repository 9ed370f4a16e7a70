#![no_main]
//! Courses: no text is a panic, and what parses can be planned or is refused, and has one canonical form.

use libfuzzer_sys::fuzz_target;
use mile_core::Bytes;
use mile_course::{DriveFacts, format, parse, plan};

fuzz_target!(|text: &str| {
    if let Ok(course) = parse(text) {
        let facts = DriveFacts {
            capacity: Bytes(4_000_000_000),
            logical_block: Bytes(4096),
            has_temperature: false,
            readable: false,
            cache: None,
        };
        let _ = plan(&course, &facts);
        let once = format(text).unwrap_or_default();
        assert_eq!(format(&once).unwrap_or_default(), once, "the canonical form is its own");
    }
});
