//! Readings of channels: blocks of times and values.

use super::book::Logbook;
use super::engine::{Fault, Row, values};
use super::error::Result;
use mile_core::Nanos;
use mile_core::channel::{Reading, Series};
use mile_runner::RunHead;

/// Version of the encoding of a block: postcard's, of a list of times (nanoseconds) and values.
const READINGS_VERSION: u8 = 1;
/// Most readings of a run that are read: a day of 64 channels at one a second, or of four at 16.
const MOST_READINGS: usize = 6_000_000;

impl Logbook {
    /// Appends readings of a channel, which were taken after those that are there.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn keep_readings(&mut self, run: i64, channel: u32, readings: &[Reading]) -> Result<()> {
        let Some(first) = readings.first() else { return Ok(()) };
        let list: Vec<(u64, f64)> = readings.iter().map(|r| (r.at.0, r.value)).collect();
        let mut data = vec![READINGS_VERSION];
        data.extend(postcard::to_stdvec(&list).map_err(|e| self.bad(run, &e))?);
        self.execute(
            "INSERT INTO readings (run, channel, first, data) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (run, channel, first) DO UPDATE SET data = excluded.data",
            values![run, channel, first.at.0, &data],
        )
        .map(|_| ())
    }

    /// The channels of a run with their readings.
    pub(super) fn series(&self, run: i64, head: &RunHead) -> Result<Vec<Series>> {
        let bad = |why: &dyn std::fmt::Display| Fault::Value(why.to_string());
        let unknown = "its readings are in an encoding that this version does not know";
        let mut all = Vec::new();
        let mut count = 0;
        for (place, channel) in head.channels.iter().enumerate() {
            let mut readings: Vec<Reading> = Vec::new();
            let mut take = |row: &dyn Row| {
                let Some((&READINGS_VERSION, rest)) = row.bytes(0)?.split_first() else {
                    return Err(bad(&unknown));
                };
                let block: Vec<(u64, f64)> = postcard::from_bytes(rest).map_err(|e| bad(&e))?;
                count += block.len();
                if count > MOST_READINGS {
                    return Err(bad(&"it has more readings than can be read"));
                }
                for (at, value) in block {
                    let after = readings.last().is_none_or(|last| last.at.0 < at);
                    if !after || !value.is_finite() {
                        return Err(bad(&"the readings of a channel are not in the order of time"));
                    }
                    readings.push(Reading { at: Nanos(at), value });
                }
                Ok(())
            };
            let statement = "SELECT data FROM readings WHERE run = ?1 AND channel = ?2 ORDER BY first";
            self.db.each(statement, values![run, place], &mut take).map_err(self.wrap_of(run))?;
            all.push(Series { channel: channel.clone(), readings });
        }
        Ok(all)
    }
}
