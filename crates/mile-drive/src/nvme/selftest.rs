//! The Device Self-test log (log identifier 06h; NVM Express Base Specification 2.0, figures 213 and 214): 564 bytes, the test
//! underway and the results of the last twenty, newest first.

use crate::selftest::{SelfTest, TestKind, TestResult};

/// Length of the log.
pub const LENGTH: usize = 564;

fn kind(code: u8) -> TestKind {
    match code {
        1 => TestKind::Short,
        2 => TestKind::Extended,
        _ => TestKind::Other,
    }
}

/// Decodes the log; `None` where it is of another length.
pub fn decode(log: &[u8]) -> Option<SelfTest> {
    let log: &[u8; LENGTH] = log.try_into().ok()?;
    let running = (log[0] & 0x0f != 0).then(|| (kind(log[0] & 0x0f), log[1] & 0x7f));
    let results = log[4..].chunks_exact(28).filter(|r| r[0] & 0x0f != 0x0f && r[0] >> 4 != 0).map(|r| {
        let words = match r[0] & 0x0f {
            0 => "completed without an error",
            1 => "aborted by a command",
            2 => "aborted by a controller reset",
            3 => "aborted as a namespace was removed",
            4 => "aborted by a format",
            5 => "did not complete, for a fatal or unknown error",
            6 => "completed with a failed segment",
            7 => "completed with failed segments",
            8 => "aborted for an unknown reason",
            9 => "aborted by a sanitize",
            _ => "ended in a way that the standard reserves",
        };
        let number = |at: usize, length: usize| {
            (0..length).rev().fold(0_u64, |sum, i| sum << 8 | u64::from(r[at + i]))
        };
        TestResult {
            kind: kind(r[0] >> 4),
            passed: r[0] & 0x0f == 0,
            words: words.to_owned(),
            power_on_hours: number(4, 8),
            block: (r[2] & 0b10 != 0).then(|| number(16, 8)),
        }
    });
    Some(SelfTest { running, takes_min: None, results: results.collect() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_test_underway_and_results_are_read() {
        let mut log = vec![0_u8; LENGTH];
        (log[0], log[1]) = (2, 37);
        log[4..].chunks_exact_mut(28).for_each(|r| r[0] = 0x0f);
        log[4] = 0x10;
        log[8..12].copy_from_slice(&1_234_u32.to_le_bytes());
        log[32] = 0x27;
        log[34] = 0b10;
        log[48..52].copy_from_slice(&99_u32.to_le_bytes());
        let test = decode(&log).unwrap();
        assert_eq!(test.running, Some((TestKind::Extended, 37)));
        assert_eq!(test.results.len(), 2);
        assert!(test.results[0].passed && test.results[0].kind == TestKind::Short);
        assert_eq!((test.results[0].power_on_hours, test.results[0].block), (1_234, None));
        assert!(!test.results[1].passed && test.results[1].kind == TestKind::Extended);
        assert_eq!(test.results[1].block, Some(99));
    }

    proptest! {
        #[test]
        fn no_bytes_are_a_panic(log in prop::collection::vec(any::<u8>(), LENGTH)) {
            prop_assert!(decode(&log).unwrap().results.len() <= 20);
            prop_assert!(decode(&log[1..]).is_none());
        }
    }
}
