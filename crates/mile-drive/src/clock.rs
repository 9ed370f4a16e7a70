//! The only place that asks the machine for the time.

use mile_core::Nanos;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// Monotonic time since the clock was made.
#[derive(Clone, Copy, Debug)]
pub struct Monotonic(Instant, u64);

impl Monotonic {
    /// Starts at zero now.
    #[expect(clippy::disallowed_methods, reason = "this is the clock that others take as an argument")]
    pub fn start() -> Self {
        Self(Instant::now(), 0)
    }

    /// Starts at `at` now.
    pub fn start_at(at: Nanos) -> Self {
        Self(Self::start().0, at.0)
    }

    /// Time since it was made, and what it started at.
    pub fn now(&self) -> Nanos {
        Nanos(u64::try_from(self.0.elapsed().as_nanos()).unwrap_or(u64::MAX).saturating_add(self.1))
    }

    /// Sleeps until `at`; returns at once where that is past.
    pub fn sleep_until(&self, at: Nanos) {
        let left = at.since(self.now());
        if left.0 > 0 {
            std::thread::sleep(Duration::from_nanos(left.0));
        }
    }
}

/// Seconds since 1970-01-01 UTC. `SOURCE_DATE_EPOCH`, where it is set, takes its place, so that files made from a seed
/// are the same whenever they are made.
#[expect(clippy::disallowed_methods, reason = "this is the clock that others take as an argument")]
pub fn unix_seconds() -> i64 {
    if let Some(fixed) = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|s| s.parse().ok()) {
        return fixed;
    }
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i64::try_from(d.as_secs()).unwrap_or(i64::MAX))
}
