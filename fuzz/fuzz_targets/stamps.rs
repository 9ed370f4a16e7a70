#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| hollow_mile_fuzz::stamps(bytes));
