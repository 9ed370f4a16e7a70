//! A run taken over into another logbook, with all that is kept of it.

use super::book::Logbook;
use super::entry::Block;
use super::error::Result;
use mile_runner::Status;

/// Samples, and readings, that are written at a time.
const AT_A_TIME: usize = 8192;

impl Logbook {
    /// Takes over a run from another logbook, and gives the number that it has here.
    ///
    /// # Errors
    /// Where it cannot be read there, is underway, or cannot be written here.
    pub fn take_over(&mut self, from: &Self, run: i64) -> Result<i64> {
        let stored = from.run(run)?;
        if stored.status == Status::Underway {
            return Err(from.bad(run, &"it is underway"));
        }
        let new = self.begin(&stored.head)?;
        for (lane, kept) in stored.lanes.iter().enumerate() {
            let events: Vec<_> = kept.events.iter().enumerate().map(|(i, e)| (i as u64, e.clone())).collect();
            self.append(new, &[Block { lane, first: 0, samples: &[], events: &events }])?;
            for (i, samples) in kept.samples.chunks(AT_A_TIME).enumerate() {
                let first = (i * AT_A_TIME) as u64;
                self.append(new, &[Block { lane, first, samples, events: &[] }])?;
            }
            for leg in 0..stored.head.lane(lane).legs.len() as u32 {
                if let Some(histogram) = from.latency(run, lane, leg)? {
                    self.keep_latency(new, lane, leg, &histogram)?;
                }
            }
            for shot in from.healths(run, lane)? {
                self.keep_health(new, lane, &shot)?;
            }
        }
        for (channel, series) in stored.series.iter().enumerate() {
            for block in series.readings.chunks(AT_A_TIME) {
                self.keep_readings(new, channel as u32, block)?;
            }
        }
        for tag in from.tags(run)? {
            self.tag(new, &tag)?;
        }
        let outcomes: Vec<_> = stored.lanes.into_iter().map(|l| l.outcome).collect();
        self.finish(new, stored.status, &outcomes)?;
        Ok(new)
    }
}
