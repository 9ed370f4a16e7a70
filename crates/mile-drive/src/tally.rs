//! What one interval of a run adds up to, filled by an engine while it works.

use crate::failure::{Failure, Mismatch};
use hdrhistogram::Histogram;
use mile_core::{Bytes, Latency, Nanos, Op};

/// Counts and latencies since the last [`Tally::clear`].
#[derive(Clone, Debug)]
pub struct Tally {
    /// Bytes written.
    pub written: Bytes,
    /// Bytes read.
    pub read: Bytes,
    /// Operations completed.
    pub ops: u64,
    /// Operations that failed.
    pub errors: u32,
    /// Those of them that nobody has looked at yet.
    pub failures: Vec<Failure>,
    /// What a verifying read found wrong, and nobody has looked at yet.
    pub mismatches: Vec<Mismatch>,
    /// The slowest operation: how long it took, and its address where it has one.
    pub slowest: (Nanos, Option<Bytes>),
    /// Address of the first operation.
    pub first: Option<Bytes>,
    /// One past the highest byte touched.
    pub reach: Option<Bytes>,
    /// Latency in nanoseconds, 1 µs to 10 min, two significant digits.
    pub latency: Histogram<u64>,
}

/// An empty latency histogram. A value is recorded to two significant digits, so that a percentile is right to 1 %.
pub fn histogram() -> Histogram<u64> {
    // The bounds are constants and within what the library allows.
    Histogram::new_with_bounds(1_000, 600_000_000_000, 2).unwrap_or_else(|_| unreachable!("constant bounds"))
}

impl Default for Tally {
    fn default() -> Self {
        Self {
            written: Bytes(0),
            read: Bytes(0),
            ops: 0,
            errors: 0,
            failures: Vec::new(),
            mismatches: Vec::new(),
            slowest: (Nanos(0), None),
            first: None,
            reach: None,
            latency: histogram(),
        }
    }
}

impl Tally {
    /// Adds a completed operation.
    #[inline]
    pub fn add(&mut self, op: Op, offset: Bytes, length: u64, latency: Nanos) {
        let slowest = self.slowest;
        self.count(op, length, latency);
        if self.slowest != slowest {
            self.slowest.1 = Some(offset);
        }
        if self.first.is_none() {
            self.first = Some(offset);
        }
        self.reach = Some(Bytes(self.reach.map_or(0, |r| r.0).max(offset.0 + length)));
    }

    /// Adds a completed operation that has no address on the drive.
    #[inline]
    pub fn count(&mut self, op: Op, length: u64, latency: Nanos) {
        match op {
            Op::Read => self.read.0 += length,
            _ => self.written.0 += length,
        }
        self.ops += 1;
        self.latency.saturating_record(latency.0);
        if latency > self.slowest.0 {
            self.slowest = (latency, None);
        }
    }

    /// Adds what another tally has counted.
    pub fn merge(&mut self, other: &mut Self) {
        self.written.0 += other.written.0;
        self.read.0 += other.read.0;
        self.ops += other.ops;
        self.errors += other.errors;
        self.failures.append(&mut other.failures);
        self.mismatches.append(&mut other.mismatches);
        self.first = self.first.or(other.first);
        self.reach = self.reach.max(other.reach);
        self.slowest = self.slowest.max(other.slowest);
        other.add_latencies_to(&mut self.latency);
    }

    /// Adds the latencies to those of a longer time, a [`histogram`] as well.
    pub fn add_latencies_to(&self, all: &mut Histogram<u64>) {
        // Both have the same bounds, so that adding cannot fail.
        let _ = all.add(&self.latency);
    }

    /// Percentiles, where any operation completed.
    pub fn latencies(&self) -> Option<Latency> {
        (!self.latency.is_empty()).then(|| Latency {
            p50: Nanos(self.latency.value_at_quantile(0.5)),
            p99: Nanos(self.latency.value_at_quantile(0.99)),
            p999: Nanos(self.latency.value_at_quantile(0.999)),
            max: Nanos(self.latency.max()),
        })
    }

    /// Starts again from nothing. Keeps the memory of the histogram.
    pub fn clear(&mut self) {
        self.latency.reset();
        (self.written, self.read) = (Bytes(0), Bytes(0));
        (self.ops, self.errors) = (0, 0);
        (self.first, self.reach) = (None, None);
        self.slowest = (Nanos(0), None);
    }
}
