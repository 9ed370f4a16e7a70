//! The latencies of all operations of the legs of a run.

use super::book::Logbook;
use super::engine::values;
use super::error::Result;
use hdrhistogram::Histogram;
use hdrhistogram::serialization::Deserializer;
use mile_core::{Bin, LegLatencies};
use mile_runner::LaneHead;

/// The latencies of a leg as they are kept: an HdrHistogram of nanoseconds in version 2 encoding. None where it is not one.
pub fn latencies(leg: &str, histogram: &[u8]) -> Option<LegLatencies> {
    let read: Histogram<u64> = Deserializer::new().deserialize(&mut &*histogram).ok()?;
    let us = |nanos: u64| nanos as f64 / 1e3;
    let bins = read.iter_recorded().map(|v| {
        let value = v.value_iterated_to();
        let (from, to) = (read.lowest_equivalent(value), read.next_non_equivalent(value));
        Bin { from_us: us(from), to_us: us(to), count: v.count_at_value() }
    });
    Some(LegLatencies { leg: leg.to_owned(), bins: bins.collect() })
}

impl Logbook {
    /// The latency of all operations of a leg, as an HdrHistogram in version 2 encoding.
    pub fn latency(&self, run: i64, lane: usize, leg: u32) -> Result<Option<Vec<u8>>> {
        self.first(
            "SELECT histogram FROM latencies WHERE run = ?1 AND lane = ?2 AND leg = ?3",
            values![run, lane, leg],
            |row| row.bytes(0).map(<[u8]>::to_vec),
        )
        .map_err(self.wrap_of(run))
    }

    /// The latencies of all legs of a lane for which they were kept.
    pub(super) fn latencies(&self, run: i64, lane: usize, head: &LaneHead) -> Result<Vec<LegLatencies>> {
        let all = self
            .rows(
                "SELECT leg, histogram FROM latencies WHERE run = ?1 AND lane = ?2 ORDER BY leg",
                values![run, lane],
                |row| {
                    let leg = u32::try_from(row.integer(0)?).unwrap_or(u32::MAX);
                    Ok(latencies(head.leg_name(leg), row.bytes(1)?))
                },
            )
            .map_err(self.wrap_of(run))?;
        Ok(all.into_iter().flatten().collect())
    }

    /// Keeps the latencies of a leg.
    pub fn keep_latency(&mut self, run: i64, lane: usize, leg: u32, histogram: &[u8]) -> Result<()> {
        self.execute(
            "INSERT INTO latencies (run, lane, leg, histogram) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (run, lane, leg) DO UPDATE SET histogram = excluded.histogram",
            values![run, lane, leg, histogram],
        )
        .map(|_| ())
    }
}
