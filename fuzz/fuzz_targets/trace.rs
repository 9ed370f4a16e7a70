//! Traces from elsewhere, CSV and Parquet: no bytes are a panic, and what is read gives findings, and goes out and comes back the same.

#![no_main]

use libfuzzer_sys::fuzz_target;
use mile_core::{Context, findings};
use mile_logbook::exchange::{PARQUET_MAGIC, read_csv, read_foreign, read_parquet, write_csv};

fuzz_target!(|bytes: &[u8]| {
    let all = if bytes.starts_with(PARQUET_MAGIC) {
        read_parquet(bytes.to_vec(), &[])
    } else {
        read_foreign(bytes, &[])
    };
    let Ok(all) = all else { return };
    let found = findings(&all.trace(), &Context::default());
    assert!(found.breaks.iter().all(|b| (0.0..=1.0).contains(&b.confidence)));
    let mut out = Vec::new();
    if write_csv(&mut out, &all.samples, &all.legs, &all.extras).is_ok()
        && let Ok(back) = read_csv(out.as_slice())
    {
        assert_eq!(back.samples.len(), all.samples.len());
    }
});
