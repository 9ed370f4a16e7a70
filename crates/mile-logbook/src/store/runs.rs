//! The runs of a logbook, as they are read.

use super::book::{Logbook, SAMPLES_VERSION};
use super::engine::{Answer, Fault, values};
use super::entry::{StoredLane, StoredRun};
use super::error::{LogbookError, Result};
use mile_core::channel::tells;
use mile_core::sample::{Order, unpacked};
use mile_core::{Digest, Sample, Trace, findings};
use mile_runner::{Event, Outcome, RunHead, Status};

/// Most lanes of a run.
const MOST_LANES: usize = 64;

/// A bench that brings a run is heard of at least every few seconds.
pub(crate) const SILENT_S: u64 = 60;

/// The samples of a row, which follow those of the row before.
fn decode(row: &[u8], order: &mut Order) -> Answer<Vec<Sample>> {
    let value = |e: &dyn std::fmt::Display| Fault::Value(e.to_string());
    let Some((&SAMPLES_VERSION, rest)) = row.split_first() else {
        return Err(Fault::Value("its samples are in an encoding that this version does not know".into()));
    };
    let block: Vec<Sample> = unpacked(rest).map_err(Fault::Value)?;
    block.iter().try_for_each(|s| order.take(s)).map_err(|why| value(&why))?;
    Ok(block)
}

impl Logbook {
    /// Seconds since the archive heard of the bench of a run, where that is longer than a bench at work takes.
    pub(crate) fn silent(&self, run: i64) -> Result<Option<u64>> {
        let statement = format!("SELECT {} FROM runs WHERE id = ?1", self.db.of_bench());
        let since = self.one(&statement, values![run], |row| row.maybe_integer(1))?.flatten();
        Ok(since.and_then(|s| u64::try_from(s).ok()).filter(|s| *s > SILENT_S))
    }

    /// What a lane of a run came to.
    pub(super) fn digest(&self, run: i64, lane: usize, head: &RunHead) -> Result<Digest> {
        // Into columns a block at a time: the samples of a day are several times as large.
        let mut trace = Trace::new();
        if (0..head.channels.len()).any(|i| tells(&head.channels, i).is_some_and(|t| t.0 == lane)) {
            trace = trace.with_series(&self.series(run, head)?, lane);
        }
        let head = head.lane(lane);
        self.each_block(run, lane, |block| {
            block.iter().for_each(|sample| trace.push(sample, head.leg_name(sample.leg)));
        })?;
        Ok(Digest::of(&trace, &findings(&trace, &head.context())))
    }

    /// How a run stands: one that says it is underway is not where its process is gone.
    pub(super) fn status(&self, run: i64, word: &str, owner: &str) -> Result<Status> {
        match status_of(word).ok_or_else(|| self.bad(run, &format!("unknown status `{word}`")))? {
            Status::Underway if self.db.is_gone(owner) => Ok(Status::CutShort),
            status => Ok(status),
        }
    }

    /// Whether a run was taken off the list.
    pub(super) fn is_removed(&self, run: i64) -> Result<bool> {
        Ok(self.one("SELECT run FROM removed WHERE run = ?1", values![run], |_| Ok(()))?.is_some())
    }

    /// The number of a run: a number, or `last`.
    pub fn resolve(&self, wanted: &str) -> Result<i64> {
        let none = || LogbookError::NoSuchRun { path: self.path.clone(), wanted: wanted.to_owned() };
        if wanted == "last" {
            let last = "SELECT max(id) FROM runs WHERE id NOT IN (SELECT run FROM removed)";
            return self.one(last, &[], |row| row.maybe_integer(0))?.flatten().ok_or_else(none);
        }
        let number: i64 = wanted.parse().map_err(|_| none())?;
        if self.is_removed(number)? {
            return Err(LogbookError::Removed { path: self.path.clone(), run: number });
        }
        let found = self.one("SELECT id FROM runs WHERE id = ?1", values![number], |row| row.integer(0))?;
        found.ok_or_else(none)
    }

    /// A run with all its samples.
    pub fn run(&self, run: i64) -> Result<StoredRun> {
        let (head, status, outcomes) = self.ends(run)?;
        let lane = |(lane, outcome)| {
            let latencies = self.latencies(run, lane, head.lane(lane))?;
            Ok(StoredLane {
                outcome,
                events: self.events(run, lane)?,
                samples: self.samples(run, lane)?,
                latencies,
            })
        };
        let lanes = outcomes.into_iter().enumerate().map(lane).collect::<Result<_>>()?;
        let series = self.series(run, &head)?;
        Ok(StoredRun { run, status, head, lanes, series })
    }

    /// A run with its samples in columns, a trace for each lane, and none by itself: a day of ten samples a second takes a third of the memory so.
    ///
    /// # Errors
    /// Where there is no such run, or it cannot be read.
    pub fn traced(&self, run: i64) -> Result<(StoredRun, Vec<Trace>)> {
        let (head, status, outcomes) = self.ends(run)?;
        let series = self.series(run, &head)?;
        let (mut lanes, mut traces) = (Vec::new(), Vec::new());
        for (lane, outcome) in outcomes.into_iter().enumerate() {
            let (of, events) = (head.lane(lane), self.events(run, lane)?);
            let names = of.leg_names();
            let (rows, read) = crossbeam_channel::bounded::<Vec<u8>>(4);
            let (blocks, taken) = crossbeam_channel::bounded::<Vec<Sample>>(4);
            // One row is decoded and another put into columns while the next one is read.
            let (read, decoded, trace) = std::thread::scope(|scope| {
                let columns = scope.spawn(move || {
                    let mut trace = Trace::new();
                    for sample in taken.iter().flatten() {
                        trace.push(&sample, names.get(sample.leg as usize).map_or("", String::as_str));
                    }
                    trace
                });
                let decoding = scope.spawn(move || {
                    let mut order = Order::default();
                    // Where nobody takes them any more, the other thread has panicked.
                    read.iter().try_for_each(|row| {
                        let _ = blocks.send(decode(&row, &mut order)?);
                        Ok(())
                    })
                });
                let read = self.each_row(run, lane, |row| {
                    // Where it cannot be decoded, the rest need not be read.
                    rows.send(row.to_vec()).map_err(|_| Fault::Value("its samples cannot be read".into()))
                });
                drop(rows);
                let decoded = decoding.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
                (read, decoded, columns.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            });
            decoded.and(read).map_err(self.wrap_of(run))?;
            traces.push(trace.with_series(&series, lane));
            let latencies = self.latencies(run, lane, of)?;
            lanes.push(StoredLane { outcome, events, samples: Vec::new(), latencies });
        }
        Ok((StoredRun { run, status, head, lanes, series }, traces))
    }

    /// What was known of a run when it began, how it stands, and how each of its lanes ended; without its samples.
    pub fn ends(&self, run: i64) -> Result<(RunHead, Status, Vec<Option<Outcome>>)> {
        let row = self
            .first("SELECT head, status, owner FROM runs WHERE id = ?1", values![run], |row| {
                Ok((row.string(0)?, row.string(1)?, row.string(2)?))
            })
            .map_err(self.wrap_of(run))?;
        let (head, status, owner) =
            row.ok_or_else(|| LogbookError::NoSuchRun { path: self.path.clone(), wanted: run.to_string() })?;
        let head: RunHead = serde_json::from_str(&head).map_err(|e| self.bad(run, &e))?;
        if head.lanes.len() > MOST_LANES {
            return Err(self.bad(run, &"it has more lanes than a run can have"));
        }
        let mut outcomes = Vec::new();
        for lane in 0..head.lanes.len() {
            let text = self
                .first("SELECT outcome FROM lanes WHERE run = ?1 AND lane = ?2", values![run, lane], |row| {
                    Ok(row.maybe_text(0)?.map(str::to_owned))
                })
                .map_err(self.wrap_of(run))?;
            let read = |o: String| serde_json::from_str(&o).map_err(|e| self.bad(run, &e));
            outcomes.push(text.flatten().map(read).transpose()?);
        }
        Ok((head, self.status(run, &status, &owner)?, outcomes))
    }

    fn events(&self, run: i64, lane: usize) -> Result<Vec<Event>> {
        let texts = self
            .rows(
                "SELECT event FROM events WHERE run = ?1 AND lane = ?2 ORDER BY seq",
                values![run, lane],
                |row| row.string(0),
            )
            .map_err(self.wrap_of(run))?;
        texts.iter().map(|t| serde_json::from_str(t).map_err(|e| self.bad(run, &e))).collect()
    }

    fn samples(&self, run: i64, lane: usize) -> Result<Vec<Sample>> {
        let count = self.samples_of(run, lane)?;
        // What a row says of itself may be wrong.
        let mut samples = Vec::with_capacity(usize::try_from(count).unwrap_or(0).min(1 << 20));
        self.each_block(run, lane, |block| samples.extend(block))?;
        Ok(samples)
    }

    /// Number of samples that are kept of a lane of a run.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn samples_of(&self, run: i64, lane: usize) -> Result<u64> {
        let count = self
            .first(
                "SELECT CAST(coalesce(sum(count), 0) AS BIGINT) FROM samples WHERE run = ?1 AND lane = ?2",
                values![run, lane],
                |row| row.integer(0),
            )
            .map_err(self.wrap_of(run))?;
        Ok(count.unwrap_or(0).unsigned_abs())
    }

    /// Hands over the samples of a lane of a run, a block at a time.
    fn each_block(&self, run: i64, lane: usize, mut take: impl FnMut(Vec<Sample>)) -> Result<()> {
        let mut order = Order::default();
        self.each_row(run, lane, |row| decode(row, &mut order).map(&mut take)).map_err(self.wrap_of(run))
    }

    /// Hands over the samples of a lane of a run as they are kept.
    fn each_row(&self, run: i64, lane: usize, mut take: impl FnMut(&[u8]) -> Answer<()>) -> Answer<()> {
        self.db.each(
            "SELECT data FROM samples WHERE run = ?1 AND lane = ?2 ORDER BY first",
            values![run, lane],
            &mut |row| take(row.bytes(0)?),
        )
    }
}

fn status_of(word: &str) -> Option<Status> {
    serde_json::from_str(&format!("\"{word}\"")).ok()
}
