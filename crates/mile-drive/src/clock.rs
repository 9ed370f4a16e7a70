//! The only place that asks the machine for the time.

use mile_core::Nanos;
use rustix::time::{ClockId, clock_gettime};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// Monotonic time since the clock was made.
#[derive(Clone, Copy, Debug)]
pub struct Monotonic {
    /// The system's monotonic time when it was made, in nanoseconds.
    made: u64,
    /// What it started at.
    from: u64,
}

/// What a clock of the system says, in nanoseconds: the monotonic one says the time since the system was started, which 64 bits hold for 584 years. Every
/// operation is timed by that, so that it is asked for without a detour, and counted in one number.
#[inline]
pub(crate) fn nanoseconds(clock: ClockId) -> u64 {
    let time = clock_gettime(clock);
    time.tv_sec as u64 * 1_000_000_000 + time.tv_nsec as u64
}

impl Monotonic {
    /// Starts at zero now.
    pub fn start() -> Self {
        Self::start_at(Nanos(0))
    }

    /// Starts at `at` now.
    pub fn start_at(at: Nanos) -> Self {
        Self { made: nanoseconds(ClockId::Monotonic), from: at.0 }
    }

    /// Time since it was made, and what it started at.
    #[inline]
    pub fn now(&self) -> Nanos {
        Nanos(nanoseconds(ClockId::Monotonic).saturating_sub(self.made).saturating_add(self.from))
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
