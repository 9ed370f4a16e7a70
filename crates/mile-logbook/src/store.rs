//! The logbook: what is kept of runs and drives, in a file of this machine or in the archive of a lab.
//!
//! What always holds: a run's row is written before its first sample; samples are appended in blocks, each in one transaction together
//! with the events of its time, synced to the medium before it counts as kept; a block is never changed. A file is SQLite with a
//! write-ahead log, and its `user_version` is the version of the schema. A run of a file that says it is underway while its process is gone
//! was cut short; that is found, and marked, when the file is opened. Which database it is, only the engine knows.
//!
//! A block of samples is the byte 1 (the version of this encoding) and the samples in postcard's encoding.

mod copy;
pub(crate) mod engine;
mod entry;
mod fleet;
mod latencies;
mod list;
mod owner;
pub(crate) mod place;
pub(crate) mod postgres;
mod reading;
mod readings;
mod removed;
mod schema;
mod snapshots;
mod sqlite;
mod tags;

pub use engine::Fault;
pub use entry::{Block, Entry, StoredLane, StoredRun};
pub use fleet::Model;
pub use latencies::latencies;
pub use list::Filter;
pub(crate) use list::SILENT_S;
pub use mile_core::{Digest, MINIATURE};
pub(crate) use snapshots::origin_key;
pub use snapshots::{DriveKey, KnownDrive};
pub use tags::no_tag;

use engine::{Answer, Engine, Row, Value, values};
use mile_core::health::Moment;
use mile_core::sample::Order;
use mile_core::{Sample, Trace, findings};
use mile_files::FileError;
use mile_runner::{Event, Outcome, RunHead, Status};
use reading::Lies;
use std::path::{Path, PathBuf};

/// Most lanes of a run.
const MOST_LANES: usize = 64;
/// Version of the encoding of samples.
pub(crate) const SAMPLES_VERSION: u8 = 1;

/// What can go wrong with a logbook.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum LogbookError {
    #[error(
        "the logbook {path} is damaged or no logbook ({source}). It is left as it is. To go on with a new one in its place, run: hollow-mile logbook set-aside --logbook {path}"
    )]
    Damaged { path: PathBuf, source: Fault },
    #[error(
        "the logbook {path} is damaged or no logbook (it does not begin as one does). It is left as it is. To go on with a new one in its place, run: hollow-mile logbook set-aside --logbook {path}"
    )]
    NoLogbook { path: PathBuf },
    #[error("{path} is an SQLite file, but no logbook. Name another file with --logbook")]
    Foreign { path: PathBuf },
    #[error("the logbook {path} is empty: no run was kept in it yet")]
    Blank { path: PathBuf },
    #[error("the logbook cannot be used: {0}")]
    File(FileError),
    #[error("the logbook {path} is sound, with {runs} runs. To begin a new one all the same, add --healthy")]
    Healthy { path: PathBuf, runs: usize },
    #[error(
        "the logbook {path} was written by a newer Hollow Mile (its format is {found}, this program knows {known}). Use that, or another logbook with --logbook"
    )]
    Newer { path: PathBuf, found: i64, known: i64 },
    #[error("cannot {doing} the logbook {path}: {source}")]
    Io { path: PathBuf, doing: &'static str, source: std::io::Error },
    #[error("cannot use the logbook {path}: {source}")]
    Database { path: PathBuf, source: Fault },
    #[error(
        "the logbook {path} does not take the end of the run. What it lacks is in {aside}; bring it in with: hollow-mile logbook recover {aside}"
    )]
    Aside { path: PathBuf, aside: PathBuf },
    #[error("the logbook {path} does not take what the run told last; it is lost")]
    NotKept { path: PathBuf },
    #[error("{path} cannot be brought into a logbook: {why}. It is left as it is")]
    BadAside { path: PathBuf, why: String },
    #[error("`{tag}` is no tag: {why}")]
    BadTag { tag: String, why: &'static str },
    #[error("there is no run {wanted} in the logbook {path}; `hollow-mile logbook list` shows what there is")]
    NoSuchRun { path: PathBuf, wanted: String },
    #[error(
        "run {run} was taken off the list of the logbook {path}; bring it back with: hollow-mile logbook restore {run}"
    )]
    Removed { path: PathBuf, run: i64 },
    #[error("run {run} is not underway")]
    NotUnderway { run: i64 },
    #[error("run {run} is underway; it can be taken off the list once it has ended")]
    Underway { run: i64 },
    #[error("{path} has no right to do that: {source}")]
    Denied { path: PathBuf, source: Fault },
    #[error("the archive {path} cannot be reached: {source}")]
    Lost { path: PathBuf, source: Fault },
    #[error("the logbook {path} was written to while it was read; try again")]
    Changed { path: PathBuf },
    #[error("{address}: {why}")]
    Address { address: String, why: String },
    #[error(
        "{path} is no archive of a lab yet; whoever runs the database sets it up with: hollow-mile lab init --lab {path}"
    )]
    NoLab { path: PathBuf },
    #[error("run {run} in the logbook {path} cannot be read: {why}. The other runs are not affected")]
    BadRun { path: PathBuf, run: i64, why: String },
}

type Result<T> = std::result::Result<T, LogbookError>;

impl From<FileError> for LogbookError {
    fn from(error: FileError) -> Self {
        match error {
            FileError::Io { path, doing, source } => Self::Io { path, doing, source },
            other => Self::File(other),
        }
    }
}

impl LogbookError {
    /// What a fault of the database means for a logbook.
    pub(crate) fn of(path: &Path) -> impl Fn(Fault) -> Self + use<> {
        let path = path.to_owned();
        move |source| {
            let path = path.clone();
            match source {
                Fault::Damaged(_) => Self::Damaged { path, source },
                Fault::Denied(_) => Self::Denied { path, source },
                Fault::Lost(_) => Self::Lost { path, source },
                _ => Self::Database { path, source },
            }
        }
    }
}

/// Tries to open a logbook while files come and go below its path.
const TRIES: usize = 20;

/// An open logbook.
#[derive(Debug)]
pub struct Logbook {
    path: PathBuf,
    db: Box<dyn Engine>,
    version: i64,
    /// What its file was when it was opened to read it as it lies there, without regard to anybody who writes.
    as_it_was: Option<Lies>,
}

impl Logbook {
    /// Opens a logbook to write to it, or makes a new one where there is no file. Runs whose process is gone are marked as cut
    /// short.
    ///
    /// # Errors
    /// Where what lies there is no regular file, no logbook, damaged, newer, or cannot be written. It is then left as it is.
    pub fn open(path: &Path) -> Result<Self> {
        Self::to_write(path, true)
    }

    /// Opens a logbook that must exist, to write to it.
    ///
    /// # Errors
    /// As [`Logbook::open`], and where there is none.
    pub fn open_existing(path: &Path) -> Result<Self> {
        Self::to_write(path, false)
    }

    fn to_write(path: &Path, create: bool) -> Result<Self> {
        match place::lab(path)? {
            Some(lab) => lab.open(),
            None => sqlite::open(path, create),
        }
    }

    pub(crate) fn wrap(&self) -> impl Fn(Fault) -> LogbookError + use<> {
        LogbookError::of(&self.path)
    }

    /// As [`Logbook::wrap`], for what is read of one run: a value of another kind than it should have is that run's fault only.
    pub(crate) fn wrap_of(&self, run: i64) -> impl Fn(Fault) -> LogbookError + use<> {
        let (wrap, path) = (self.wrap(), self.path.clone());
        move |source| match source {
            Fault::Value(why) => LogbookError::BadRun { path: path.clone(), run, why },
            other => wrap(other),
        }
    }

    /// Whether whoever writes a run may still be there.
    pub(crate) fn is_written(&self, owner: &str) -> bool {
        !self.db.is_gone(owner)
    }

    /// Carries out a statement, and gives how many rows it changed.
    pub(crate) fn execute(&self, statement: &str, values: &[Value<'_>]) -> Result<u64> {
        self.db.execute(statement, values).map_err(self.wrap())
    }

    /// All rows of an answer.
    pub(crate) fn rows<T>(
        &self,
        statement: &str,
        values: &[Value<'_>],
        read: impl Fn(&dyn Row) -> Answer<T>,
    ) -> Answer<Vec<T>> {
        let mut all = Vec::new();
        self.db.each(statement, values, &mut |row| {
            all.push(read(row)?);
            Ok(())
        })?;
        Ok(all)
    }

    /// Seconds since the archive heard of the bench of a run, where that is longer than a bench at work takes.
    pub(crate) fn silent(&self, run: i64) -> Result<Option<u64>> {
        let statement = format!("SELECT {} FROM runs WHERE id = ?1", self.db.of_bench());
        let since = self.one(&statement, values![run], |row| row.maybe_integer(1))?.flatten();
        Ok(since.and_then(|s| u64::try_from(s).ok()).filter(|s| *s > SILENT_S))
    }

    /// Asks the archive to tell of runs that others write. Gives whether it does.
    pub(crate) fn listen(&self) -> Result<bool> {
        self.db.listen().map_err(self.wrap())
    }

    /// The runs of which the archive told since it was asked last.
    pub(crate) fn told(&self) -> Result<Vec<i64>> {
        self.db.told().map_err(self.wrap())
    }

    /// Hands over the rows of an answer one after another.
    pub(crate) fn db_each(
        &self,
        statement: &str,
        values: &[Value<'_>],
        take: &mut dyn FnMut(&dyn Row) -> Answer<()>,
    ) -> Answer<()> {
        self.db.each(statement, values, take)
    }

    /// The first row of an answer, if there is one.
    pub(crate) fn first<T>(
        &self,
        statement: &str,
        values: &[Value<'_>],
        read: impl Fn(&dyn Row) -> Answer<T>,
    ) -> Answer<Option<T>> {
        Ok(self.rows(statement, values, read)?.into_iter().next())
    }

    /// As [`Logbook::first`], of what is not one run's.
    pub(crate) fn one<T>(
        &self,
        statement: &str,
        values: &[Value<'_>],
        read: impl Fn(&dyn Row) -> Answer<T>,
    ) -> Result<Option<T>> {
        self.first(statement, values, read).map_err(self.wrap())
    }

    /// Does all of something or nothing, with one wait for the medium. Part of what is underway where it is called within.
    pub(crate) fn together<T>(&mut self, work: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        if self.db.in_transaction() {
            return work(self);
        }
        let wrap = self.wrap();
        self.db.begin().map_err(&wrap)?;
        let done = work(self);
        let ended = self.db.end(done.is_ok());
        let done = done?;
        ended.map_err(wrap)?;
        Ok(done)
    }

    fn mark_cut_short(&mut self) -> Result<()> {
        let underway = self
            .rows("SELECT id, owner FROM runs WHERE status = 'underway'", &[], |row| {
                Ok((row.integer(0)?, row.string(1)?))
            })
            .map_err(self.wrap())?;
        for (run, owner) in underway {
            if self.db.is_gone(&owner) {
                // A row that cannot be read stands in nobody's way.
                let _ = self.finish(run, Status::CutShort, &[]);
            }
        }
        Ok(())
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// What a lane of a run came to.
    fn digest(&self, run: i64, lane: usize, head: &RunHead) -> Result<Digest> {
        // Into columns a block at a time: the samples of a day are several times as large.
        let mut trace = Trace::new();
        if head.channels.iter().any(|c| c.waits_of() == Some(lane)) {
            trace = trace.with_waits(&self.series(run, head)?, lane);
        }
        let head = head.lane(lane);
        self.each_block(run, lane, |block| {
            block.iter().for_each(|sample| trace.push(sample, head.leg_name(sample.leg)));
        })?;
        Ok(Digest::of(&trace, &findings(&trace, &head.context())))
    }

    pub(crate) fn bad(&self, run: i64, why: &dyn std::fmt::Display) -> LogbookError {
        LogbookError::BadRun { path: self.path.clone(), run, why: why.to_string() }
    }

    /// How a run stands: one that says it is underway is not where its process is gone.
    fn status(&self, run: i64, word: &str, owner: &str) -> Result<Status> {
        match status_of(word).ok_or_else(|| self.bad(run, &format!("unknown status `{word}`")))? {
            Status::Underway if self.db.is_gone(owner) => Ok(Status::CutShort),
            status => Ok(status),
        }
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
            let (blocks, taken) = crossbeam_channel::bounded::<Vec<Sample>>(4);
            let names = of.leg_names();
            // One block is put into columns while the next one is read.
            let trace = std::thread::scope(|scope| {
                let columns = scope.spawn(move || {
                    let mut trace = Trace::new();
                    for sample in taken.iter().flatten() {
                        trace.push(&sample, names.get(sample.leg as usize).map_or("", String::as_str));
                    }
                    trace
                });
                let read = self.each_block(run, lane, |block| drop(blocks.send(block)));
                drop(blocks);
                let trace = columns.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
                read.map(|()| trace)
            })?;
            traces.push(trace.with_waits(&series, lane));
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
        let unknown =
            || Fault::Value("its samples are in an encoding that this version does not know".into());
        let value = |e: &dyn std::fmt::Display| Fault::Value(e.to_string());
        let mut order = Order::default();
        self.db
            .each(
                "SELECT data FROM samples WHERE run = ?1 AND lane = ?2 ORDER BY first",
                values![run, lane],
                &mut |row| {
                    let Some((&SAMPLES_VERSION, rest)) = row.bytes(0)?.split_first() else {
                        return Err(unknown());
                    };
                    let block: Vec<Sample> = postcard::from_bytes(rest).map_err(|e| value(&e))?;
                    block.iter().try_for_each(|s| order.take(s)).map_err(|why| value(&why))?;
                    take(block);
                    Ok(())
                },
            )
            .map_err(self.wrap_of(run))
    }

    /// Enters a run that begins now, and gives its number.
    pub fn begin(&mut self, head: &RunHead) -> Result<i64> {
        let text = serde_json::to_string(head).map_err(|e| self.bad(0, &e))?;
        let owner = self.db.owner();
        let run = self.one(
            "INSERT INTO runs (started, course, drive, status, owner, head, model, situation, lanes)
             VALUES (?1, ?2, ?3, 'underway', ?4, ?5, ?6, ?7, ?8) RETURNING id",
            values![
                head.started,
                &head.course,
                &head.drives(),
                &owner,
                &text,
                &head.models(),
                &list::situation(head),
                head.lanes.len()
            ],
            |row| row.integer(0),
        )?;
        let run = run.ok_or_else(|| self.bad(0, &"it was given no number"))?;
        self.note_before(run, head)?;
        Ok(run)
    }

    /// Writes what is known of a run when it begins once more: its health may be known only then.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn amend(&mut self, run: i64, head: &RunHead) -> Result<()> {
        let text = serde_json::to_string(head).map_err(|e| self.bad(run, &e))?;
        self.amend_as(run, head, &text)
    }

    /// The same, with the head as it is written elsewhere.
    pub(crate) fn amend_as(&mut self, run: i64, head: &RunHead, text: &str) -> Result<()> {
        self.execute(
            "UPDATE runs SET head = ?2, model = ?3, situation = ?4, lanes = ?5 WHERE id = ?1",
            values![run, text, &head.models(), &list::situation(head), head.lanes.len()],
        )?;
        self.note_before(run, head)
    }

    /// Takes up a run again that had ended before its course did.
    pub fn reopen(&mut self, run: i64) -> Result<()> {
        self.together(|book| {
            book.execute("DELETE FROM lanes WHERE run = ?1", values![run])?;
            let owner = book.db.owner();
            book.execute(
                "UPDATE runs SET status = 'underway', owner = ?2 WHERE id = ?1",
                values![run, &owner],
            )?;
            Ok(())
        })
    }

    /// Appends blocks of several lanes, all or none.
    pub fn append(&mut self, run: i64, blocks: &[Block<'_>]) -> Result<()> {
        self.together(|book| {
            for Block { lane, first, samples, events } in blocks {
                if !samples.is_empty() {
                    let mut data = vec![SAMPLES_VERSION];
                    data.extend(postcard::to_stdvec(samples).map_err(|e| book.bad(run, &e))?);
                    book.execute(
                        "INSERT INTO samples (run, lane, first, count, data) VALUES (?1, ?2, ?3, ?4, ?5)",
                        values![run, *lane, *first, samples.len(), &data],
                    )?;
                }
                for (seq, event) in *events {
                    let text = serde_json::to_string(event).map_err(|e| book.bad(run, &e))?;
                    book.execute(
                        "INSERT INTO events (run, lane, seq, event) VALUES (?1, ?2, ?3, ?4)",
                        values![run, *lane, *seq, &text],
                    )?;
                }
            }
            Ok(())
        })
    }

    /// Adds a note to a run that has ended, behind its other events.
    ///
    /// # Errors
    /// Where the run is not there, or the logbook cannot be written.
    pub fn note(&mut self, run: i64, lane: usize, event: &Event) -> Result<()> {
        let text = serde_json::to_string(event).map_err(|e| self.bad(run, &e))?;
        let changed = self.execute(
            "INSERT INTO events (run, lane, seq, event) \
             SELECT id, CAST(?2 AS BIGINT), \
                 COALESCE((SELECT MAX(seq) FROM events WHERE run = ?1 AND lane = ?2), -1) + 1, CAST(?3 AS TEXT) \
             FROM runs WHERE id = ?1",
            values![run, lane, &text],
        )?;
        if changed == 0 {
            return Err(self.bad(run, &"there is no such run"));
        }
        Ok(())
    }

    /// Closes a run's entry, with what each of its lanes came to, and how it ended where that is known.
    pub fn finish(&mut self, run: i64, status: Status, outcomes: &[Option<Outcome>]) -> Result<()> {
        let (head, ..) = self.ends(run)?;
        let mut rows = Vec::new();
        for lane in 0..head.lanes.len() {
            let outcome = outcomes.get(lane).and_then(Option::as_ref);
            // What its runner found holds where all that it saw is kept.
            let known = outcome.and_then(|o| o.digest.as_deref()).cloned();
            let digest = match known {
                Some(known) if known.samples == self.samples_of(run, lane)? => known,
                _ => self.digest(run, lane, &head)?,
            };
            let digest = serde_json::to_string(&digest).map_err(|e| self.bad(run, &e))?;
            let outcome = outcome.map(serde_json::to_string).transpose().map_err(|e| self.bad(run, &e))?;
            rows.push((lane, outcome, digest));
        }
        self.together(|book| {
            for (lane, outcome, digest) in &rows {
                let (model, serial, firmware) = drive_of_lane(&head, *lane);
                book.execute(
                    "INSERT INTO lanes (run, lane, outcome, digest, model, serial, firmware)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
                     ON CONFLICT (run, lane) DO UPDATE SET outcome = excluded.outcome, digest = excluded.digest,
                         model = excluded.model, serial = excluded.serial, firmware = excluded.firmware",
                    values![run, *lane, outcome.as_ref(), digest, model, serial, firmware],
                )?;
            }
            let word = word_of(status);
            book.execute("UPDATE runs SET status = ?2, owner = '' WHERE id = ?1", values![run, &word])?;
            Ok(())
        })?;
        for (lane, outcome) in outcomes.iter().enumerate() {
            if let Some((o, health)) = outcome.as_ref().and_then(|o| Some((o, o.health.as_ref()?))) {
                self.note_health(run, &head, lane, o.at.secs(), (Moment::After, health))?;
            }
        }
        Ok(())
    }

    /// Whether each commit waits for the disk. Without, what is committed outlives this process but not a power cut, until
    /// [`Logbook::keeper`] was called; the recorder does that beside its work, so that a slow disk delays nothing.
    pub(crate) fn wait_for_disk(&self, wait: bool) -> Result<()> {
        self.db.wait_for_disk(wait).map_err(self.wrap())
    }

    /// Makes the disk keep what is committed, now.
    pub(crate) fn sync(&self) {
        self.db.sync();
    }

    /// What the file is called in the archive of a lab, wherever it lies: 128 random bits, in digits of 16. It is made when it is asked for first.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub(crate) fn own_id(&mut self) -> Result<String> {
        let made =
            "INSERT INTO own (name, value) VALUES ('id', lower(hex(randomblob(16)))) ON CONFLICT DO NOTHING";
        self.execute(made, &[])?;
        let id = self.one("SELECT value FROM own WHERE name = 'id'", &[], |row| row.string(0))?;
        id.ok_or_else(|| self.bad(0, &"the file has no name of its own"))
    }

    /// What makes the disk keep what is committed, beside the commits.
    pub(crate) fn keeper(&self) -> Box<dyn FnMut() + Send + 'static> {
        self.db.keeper()
    }
}

/// Model, serial number and firmware of the drive of a lane, where they are known.
pub(crate) fn drive_of_lane(head: &RunHead, lane: usize) -> (Option<&str>, Option<&str>, Option<&str>) {
    match head.lanes.get(lane).map(|l| &l.drive) {
        Some(drive) => {
            (Some(drive.model.trim()), drive.serial.as_deref().map(str::trim), drive.firmware.as_deref())
        }
        None => (None, None, None),
    }
}

fn word_of(status: Status) -> String {
    serde_json::to_string(&status).map_or(String::new(), |t| t.trim_matches('"').to_owned())
}

fn status_of(word: &str) -> Option<Status> {
    serde_json::from_str(&format!("\"{word}\"")).ok()
}

/// Moves a damaged logbook out of the way, with what belongs to it, and gives its new name. Nothing is deleted. One that is sound
/// is moved only if `healthy` says so.
///
/// # Errors
/// Where what lies there is no regular file or is sound, or where it cannot be moved.
pub fn set_aside(path: &Path, stamp: i64, healthy: bool) -> Result<PathBuf> {
    let sound = Logbook::reading(path, Logbook::list);
    match sound {
        Ok(runs) if !healthy => {
            return Err(LogbookError::Healthy { path: path.to_owned(), runs: runs.len() });
        }
        Err(e @ (LogbookError::File(_) | LogbookError::Io { .. } | LogbookError::Newer { .. })) => {
            return Err(e);
        }
        _ => {}
    }
    let suffix = format!(".set-aside-{stamp}");
    Ok(mile_files::set_aside(path, &suffix, &["-wal", "-shm", "-journal"])?)
}
