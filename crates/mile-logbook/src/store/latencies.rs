//! The latencies of all operations of the legs of a run.

use super::{Logbook, Result};
use hdrhistogram::Histogram;
use hdrhistogram::serialization::Deserializer;
use mile_core::{Bin, LegLatencies};
use mile_runner::LaneHead;
use rusqlite::{OptionalExtension, params};

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
        self.db
            .query_row(
                "SELECT histogram FROM latencies WHERE run = ?1 AND lane = ?2 AND leg = ?3",
                params![run, lane as i64, leg],
                |row| row.get(0),
            )
            .optional()
            .map_err(self.wrap_of(run))
    }

    /// The latencies of all legs of a lane for which they were kept.
    pub(super) fn latencies(&self, run: i64, lane: usize, head: &LaneHead) -> Result<Vec<LegLatencies>> {
        let wrap = self.wrap_of(run);
        let mut query = self
            .db
            .prepare("SELECT leg, histogram FROM latencies WHERE run = ?1 AND lane = ?2 ORDER BY leg")
            .map_err(&wrap)?;
        let rows = query
            .query_map(params![run, lane as i64], |row| {
                Ok((row.get::<_, u32>(0)?, row.get::<_, Vec<u8>>(1)?))
            })
            .map_err(&wrap)?;
        let all: Vec<(u32, Vec<u8>)> = rows.collect::<rusqlite::Result<_>>().map_err(&wrap)?;
        Ok(all.iter().filter_map(|(leg, bytes)| latencies(head.leg_name(*leg), bytes)).collect())
    }

    /// Keeps the latencies of a leg.
    pub fn keep_latency(&mut self, run: i64, lane: usize, leg: u32, histogram: &[u8]) -> Result<()> {
        self.db
            .execute(
                "INSERT OR REPLACE INTO latencies (run, lane, leg, histogram) VALUES (?1, ?2, ?3, ?4)",
                params![run, lane as i64, leg, histogram],
            )
            .map(|_| ())
            .map_err(self.wrap())
    }
}
