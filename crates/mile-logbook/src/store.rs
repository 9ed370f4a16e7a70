//! The logbook file.
//!
//! SQLite with a write-ahead log. What always holds: a run's row is written before its first sample; samples are appended in
//! blocks, each in one transaction together with the events of its time, synced to the medium before it counts as kept; a block is
//! never changed. `user_version` is the version of the schema. A run that says it is underway while its process is gone was
//! cut short; that is found, and marked, when the logbook is opened.
//!
//! A block of samples is the byte 1 (the version of this encoding) and the samples in postcard's encoding.

mod copy;
mod entry;
mod keeper;
mod latencies;
mod owner;
mod reading;
mod readings;
mod removed;
mod schema;
mod snapshots;
mod tags;

pub use entry::{Block, Entry, StoredLane, StoredRun};
pub use latencies::latencies;
pub use mile_core::{Digest, MINIATURE};
pub use snapshots::{DriveKey, KnownDrive};
pub use tags::no_tag;

use mile_core::health::Moment;
use mile_core::sample::Order;
use mile_core::{Sample, Trace, findings};
use mile_files::FileError;
use mile_files::database::{self, Access, Checked, Head};
use mile_runner::{Event, Outcome, RunHead, Status};
use reading::Lies;
use rusqlite::{
    Connection, ErrorCode, OpenFlags, OptionalExtension, Row, Transaction, TransactionBehavior, params,
};
use schema::{APPLICATION_ID, VERSION};
use std::path::{Path, PathBuf};

/// Most lanes of a run.
const MOST_LANES: usize = 64;
/// Version of the encoding of samples.
const SAMPLES_VERSION: u8 = 1;

/// What can go wrong with a logbook.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum LogbookError {
    #[error(
        "the logbook {path} is damaged or no logbook ({source}). It is left as it is. To go on with a new one in its place, run: hollow-mile logbook set-aside --logbook {path}"
    )]
    Damaged { path: PathBuf, source: rusqlite::Error },
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
    Database { path: PathBuf, source: rusqlite::Error },
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
    #[error("run {run} is underway; it can be taken off the list once it has ended")]
    Underway { run: i64 },
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

/// How long another process that writes is waited for, and the time between two tries, milliseconds.
const BUSY: u64 = 5000;
const RETRY: u64 = 10;

/// Whether there is a database, and nothing in it.
fn is_blank(db: &Connection) -> rusqlite::Result<bool> {
    let known =
        "SELECT (SELECT count(*) FROM sqlite_schema) + (SELECT application_id FROM pragma_application_id)";
    db.query_row(known, [], |row| row.get::<_, i64>(0)).map(|n| n == 0)
}

/// Tries to open a logbook while files come and go below its path.
const TRIES: usize = 20;

/// An open logbook.
#[derive(Debug)]
pub struct Logbook {
    path: PathBuf,
    db: Connection,
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
        Self::to_write(path, Access::Create)
    }

    /// Opens a logbook that must exist, to write to it.
    ///
    /// # Errors
    /// As [`Logbook::open`], and where there is none.
    pub fn open_existing(path: &Path) -> Result<Self> {
        Self::to_write(path, Access::Write)
    }

    fn to_write(path: &Path, access: Access) -> Result<Self> {
        let mut tries = TRIES;
        let mut book = loop {
            let checked = database::check(path, access)?;
            Self::recognise(&checked)?;
            let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
                | OpenFlags::SQLITE_OPEN_NOFOLLOW
                | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let book = Self::connect(checked.path(), checked.path(), flags)?;
            match checked.confirm() {
                Ok(()) => break book,
                Err(e) if tries == 0 => return Err(e.into()),
                Err(_) => tries -= 1,
            }
            drop((book, checked));
            std::thread::sleep(std::time::Duration::from_millis(RETRY));
        };
        // One that another process is about to make has nothing in it yet.
        if is_blank(&book.db).map_err(book.wrap())? {
            book.create()?;
        }
        book.check()?;
        book.settings()?;
        book.migrate()?;
        // Where it cannot be written now, on a full disk for one, what is in it can still be read: how a run stands is then
        // told by its owner each time.
        let _ = book.mark_cut_short();
        Ok(book)
    }

    /// All runs of the logbook at a path, newest first; none where nothing was kept in it yet.
    ///
    /// # Errors
    /// As [`Logbook::read`].
    pub fn all(path: &Path) -> Result<Vec<Entry>> {
        match Self::reading(path, Self::list) {
            Err(LogbookError::Blank { .. }) => Ok(Vec::new()),
            list => list,
        }
    }

    /// Refuses a file whose head is not that of a logbook.
    fn recognise(checked: &Checked) -> Result<()> {
        let path = || checked.path().to_owned();
        match checked.head() {
            Head::Empty | Head::Database { application: APPLICATION_ID } => Ok(()),
            // The mark of a new one may still be in its log; what SQLite reads decides, before anything is written.
            Head::Database { application: 0 } if checked.has_log() => {
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                let book = Self::connect(checked.path(), checked.path(), flags)?;
                match book.pragma("application_id")? {
                    id if id == i64::from(APPLICATION_ID) => Ok(()),
                    _ => Err(LogbookError::Foreign { path: path() }),
                }
            }
            Head::Database { .. } => Err(LogbookError::Foreign { path: path() }),
            Head::Other => Err(LogbookError::NoLogbook { path: path() }),
        }
    }

    fn connect(name: &Path, path: &Path, flags: OpenFlags) -> Result<Self> {
        let wrap = |source| LogbookError::Database { path: path.to_owned(), source };
        let db = Connection::open_with_flags(name, flags).map_err(wrap)?;
        db.busy_timeout(std::time::Duration::from_millis(BUSY)).map_err(wrap)?;
        Ok(Self { path: path.to_owned(), db, version: VERSION, as_it_was: None })
    }

    fn pragma(&self, name: &str) -> Result<i64> {
        self.db.pragma_query_value(None, name, |row| row.get(0)).map_err(self.wrap())
    }

    fn wrap(&self) -> impl Fn(rusqlite::Error) -> LogbookError + use<> {
        let path = self.path.clone();
        move |source| match source.sqlite_error_code() {
            Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
                LogbookError::Damaged { path: path.clone(), source }
            }
            _ => LogbookError::Database { path: path.clone(), source },
        }
    }

    /// As [`Logbook::wrap`], for what is read of one run: a value of another kind than it should have is that run's fault only.
    fn wrap_of(&self, run: i64) -> impl Fn(rusqlite::Error) -> LogbookError + use<> {
        let (wrap, path) = (self.wrap(), self.path.clone());
        move |source| match source {
            rusqlite::Error::InvalidColumnType(..)
            | rusqlite::Error::FromSqlConversionFailure(..)
            | rusqlite::Error::IntegralValueOutOfRange(..)
            | rusqlite::Error::Utf8Error(..) => {
                LogbookError::BadRun { path: path.clone(), run, why: source.to_string() }
            }
            other => wrap(other),
        }
    }

    /// Makes the tables, unless another process has made them meanwhile.
    fn create(&mut self) -> Result<()> {
        let wrap = self.wrap();
        // Holds back everybody else who is about to do the same.
        let change = Transaction::new(&mut self.db, TransactionBehavior::Immediate).map_err(&wrap)?;
        if !is_blank(&change).map_err(&wrap)? {
            return Ok(());
        }
        schema::create(&change).map_err(&wrap)?;
        // Before there is a write-ahead log, so that the file's own head bears it from the first moment.
        change.pragma_update(None, "application_id", APPLICATION_ID).map_err(&wrap)?;
        change.pragma_update(None, "user_version", VERSION).map_err(&wrap)?;
        change.commit().map_err(wrap)
    }

    fn settings(&self) -> Result<()> {
        let wrap = self.wrap();
        // Nobody is waited for when the journal is chosen, as there is no journal yet: whoever is second tries again.
        let mut tries = BUSY / RETRY;
        loop {
            match self.db.pragma_update(None, "journal_mode", "WAL") {
                Err(e) if tries > 0 && e.sqlite_error_code() == Some(ErrorCode::DatabaseBusy) => {
                    tries -= 1;
                    std::thread::sleep(std::time::Duration::from_millis(RETRY));
                }
                done => break done.map_err(&wrap)?,
            }
        }
        // FULL: a block that counts as kept survives a power cut too.
        self.db.pragma_update(None, "synchronous", "FULL").map_err(&wrap)?;
        self.db.pragma_update(None, "foreign_keys", true).map_err(wrap)
    }

    /// Refuses what is no logbook, or of a format that is not known.
    fn check(&mut self) -> Result<()> {
        let (id, version) = (self.pragma("application_id")?, self.pragma("user_version")?);
        if id != i64::from(APPLICATION_ID) {
            return Err(LogbookError::Foreign { path: self.path.clone() });
        }
        if version > VERSION {
            return Err(LogbookError::Newer { path: self.path.clone(), found: version, known: VERSION });
        }
        self.version = version;
        // A damaged table shows when it is read.
        self.db
            .query_row("SELECT count(*) FROM runs", [], |row| row.get::<_, i64>(0))
            .map_err(self.wrap())?;
        Ok(())
    }

    /// Brings the tables to the format of this version.
    fn migrate(&mut self) -> Result<()> {
        let wrap = self.wrap();
        if self.version >= VERSION {
            return Ok(());
        }
        self.db.execute_batch("BEGIN IMMEDIATE").map_err(&wrap)?;
        let done = self.migrate_now();
        let end = if done.is_ok() { "COMMIT" } else { "ROLLBACK" };
        self.db.execute_batch(end).map_err(&wrap)?;
        done?;
        self.version = VERSION;
        Ok(())
    }

    /// Brings the tables to this version, in a transaction of the caller's.
    fn migrate_now(&self) -> Result<()> {
        let wrap = self.wrap();
        // Another process may have done it meanwhile.
        let version = self.pragma("user_version")?;
        if version >= VERSION {
            return Ok(());
        }
        schema::migrate(&self.db, version).map_err(&wrap)?;
        if version < schema::HEALTH_SINCE {
            for (key, snapshot) in self.read_of_runs()? {
                self.keep_snapshots(&key, &[snapshot])?;
            }
        }
        self.db.pragma_update(None, "user_version", VERSION).map_err(wrap)
    }

    fn mark_cut_short(&mut self) -> Result<()> {
        let wrap = self.wrap();
        let underway: Vec<(i64, String)> = {
            let mut query =
                self.db.prepare("SELECT id, owner FROM runs WHERE status = 'underway'").map_err(&wrap)?;
            let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).map_err(&wrap)?;
            rows.collect::<rusqlite::Result<_>>().map_err(&wrap)?
        };
        for (run, owner) in underway {
            if !owner::is_alive(&owner) {
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

    /// All runs, newest first. A run whose row cannot be read is in the list, with what is wrong with it.
    ///
    /// # Errors
    /// Where the list itself cannot be read.
    pub fn list(&self) -> Result<Vec<Entry>> {
        let wrap = self.wrap();
        let mut query = self
            .db
            .prepare(
                "SELECT id, started, course, drive, status, head, owner FROM runs
                 WHERE id NOT IN (SELECT run FROM removed) ORDER BY id DESC",
            )
            .map_err(&wrap)?;
        let mut rows = query.query([]).map_err(&wrap)?;
        let mut list = Vec::new();
        while let Some(row) = rows.next().map_err(&wrap)? {
            let run: i64 = row.get(0).map_err(&wrap)?;
            list.push(self.entry(run, row).unwrap_or_else(|e| Entry {
                run,
                started: row.get(1).unwrap_or_default(),
                course: row.get(2).unwrap_or_default(),
                drive: row.get(3).unwrap_or_default(),
                situation: String::new(),
                model: String::new(),
                status: Status::Unreadable,
                digest: None,
                tags: Vec::new(),
                problem: Some(e.to_string()),
            }));
        }
        Ok(list)
    }

    fn entry(&self, run: i64, row: &Row<'_>) -> Result<Entry> {
        let text = |i: usize| row.get::<_, String>(i).map_err(|e| self.bad(run, &e));
        let head: RunHead = serde_json::from_str(&text(5)?).map_err(|e| self.bad(run, &e))?;
        let status = self.status(run, &text(4)?, &text(6)?)?;
        let mut digests = Vec::new();
        for lane in 0..head.lanes.len() {
            match self.kept_digest(run, lane)? {
                Some(digest) => digests.push(digest),
                None if status == Status::CutShort => digests.push(self.digest(run, lane, &head)?),
                None => {}
            }
        }
        let digest = Digest::together(&digests);
        Ok(Entry {
            run,
            started: row.get(1).map_err(|e| self.bad(run, &e))?,
            course: text(2)?,
            drive: text(3)?,
            situation: head
                .lanes
                .iter()
                .map(|l| l.situation.line())
                .filter(|l| !l.is_empty())
                .collect::<Vec<_>>()
                .join(" + "),
            model: head.models(),
            status,
            digest,
            tags: self.tags(run)?,
            problem: None,
        })
    }

    fn kept_digest(&self, run: i64, lane: usize) -> Result<Option<Digest>> {
        let kept = self
            .db
            .query_row(
                "SELECT digest FROM lanes WHERE run = ?1 AND lane = ?2",
                params![run, lane as i64],
                |row| row.get::<_, Option<String>>(0),
            )
            .optional()
            .map_err(self.wrap_of(run))?;
        Ok(kept.flatten().and_then(|d| serde_json::from_str(&d).ok()))
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

    fn bad(&self, run: i64, why: &dyn std::fmt::Display) -> LogbookError {
        LogbookError::BadRun { path: self.path.clone(), run, why: why.to_string() }
    }

    /// How a run stands: one that says it is underway is not where its process is gone.
    fn status(&self, run: i64, word: &str, owner: &str) -> Result<Status> {
        match status_of(word).ok_or_else(|| self.bad(run, &format!("unknown status `{word}`")))? {
            Status::Underway if !owner::is_alive(owner) => Ok(Status::CutShort),
            status => Ok(status),
        }
    }

    /// The number of a run: a number, or `last`.
    pub fn resolve(&self, wanted: &str) -> Result<i64> {
        let none = || LogbookError::NoSuchRun { path: self.path.clone(), wanted: wanted.to_owned() };
        let found = match wanted {
            "last" => self.db.query_row(
                "SELECT max(id) FROM runs WHERE id NOT IN (SELECT run FROM removed)",
                [],
                |row| row.get::<_, Option<i64>>(0),
            ),
            number => {
                let number: i64 = number.parse().map_err(|_| none())?;
                if self.is_removed(number)? {
                    return Err(LogbookError::Removed { path: self.path.clone(), run: number });
                }
                self.db
                    .query_row("SELECT id FROM runs WHERE id = ?1", [number], |row| row.get(0))
                    .optional()
                    .map(Option::flatten)
            }
        };
        found.map_err(self.wrap())?.ok_or_else(none)
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

    /// What was known of a run when it began, how it stands, and how each of its lanes ended; without its samples.
    pub fn ends(&self, run: i64) -> Result<(RunHead, Status, Vec<Option<Outcome>>)> {
        let row = self
            .db
            .query_row("SELECT head, status, owner FROM runs WHERE id = ?1", [run], |row| {
                Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?))
            })
            .optional()
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
                .db
                .query_row(
                    "SELECT outcome FROM lanes WHERE run = ?1 AND lane = ?2",
                    params![run, lane as i64],
                    |row| row.get::<_, Option<String>>(0),
                )
                .optional()
                .map_err(self.wrap_of(run))?;
            let read = |o: String| serde_json::from_str(&o).map_err(|e| self.bad(run, &e));
            outcomes.push(text.flatten().map(read).transpose()?);
        }
        Ok((head, self.status(run, &status, &owner)?, outcomes))
    }

    fn events(&self, run: i64, lane: usize) -> Result<Vec<Event>> {
        let wrap = self.wrap_of(run);
        let mut query = self
            .db
            .prepare("SELECT event FROM events WHERE run = ?1 AND lane = ?2 ORDER BY seq")
            .map_err(&wrap)?;
        let texts =
            query.query_map(params![run, lane as i64], |row| row.get::<_, String>(0)).map_err(&wrap)?;
        texts.map(|t| serde_json::from_str(&t.map_err(&wrap)?).map_err(|e| self.bad(run, &e))).collect()
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
        let count: i64 = self
            .db
            .query_row(
                "SELECT coalesce(sum(count), 0) FROM samples WHERE run = ?1 AND lane = ?2",
                params![run, lane as i64],
                |row| row.get(0),
            )
            .map_err(self.wrap_of(run))?;
        Ok(count.unsigned_abs())
    }

    /// Hands over the samples of a lane of a run, a block at a time.
    fn each_block(&self, run: i64, lane: usize, mut take: impl FnMut(Vec<Sample>)) -> Result<()> {
        let wrap = self.wrap_of(run);
        let unknown = "its samples are in an encoding that this version does not know";
        let mut query = self
            .db
            .prepare("SELECT data FROM samples WHERE run = ?1 AND lane = ?2 ORDER BY first")
            .map_err(&wrap)?;
        let mut rows = query.query(params![run, lane as i64]).map_err(&wrap)?;
        let mut order = Order::default();
        while let Some(row) = rows.next().map_err(&wrap)? {
            let data = row.get_ref(0).map_err(&wrap)?.as_blob().map_err(|e| self.bad(run, &e))?;
            let Some((&SAMPLES_VERSION, rest)) = data.split_first() else {
                return Err(self.bad(run, &unknown));
            };
            let block: Vec<Sample> = postcard::from_bytes(rest).map_err(|e| self.bad(run, &e))?;
            block.iter().try_for_each(|s| order.take(s)).map_err(|why| self.bad(run, &why))?;
            take(block);
        }
        Ok(())
    }

    /// Enters a run that begins now, and gives its number.
    pub fn begin(&mut self, head: &RunHead) -> Result<i64> {
        let text = serde_json::to_string(head).map_err(|e| self.bad(0, &e))?;
        self.db
            .execute(
                "INSERT INTO runs (started, course, drive, status, owner, head) VALUES (?1, ?2, ?3, 'underway', ?4, ?5)",
                params![head.started, head.course, head.drives(), owner::this(), text],
            )
            .map_err(self.wrap())?;
        let run = self.db.last_insert_rowid();
        self.note_before(run, head)?;
        Ok(run)
    }

    /// Writes what is known of a run when it begins once more: its health may be known only then.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn amend(&mut self, run: i64, head: &RunHead) -> Result<()> {
        let text = serde_json::to_string(head).map_err(|e| self.bad(run, &e))?;
        self.db
            .execute("UPDATE runs SET head = ?2 WHERE id = ?1", params![run, text])
            .map_err(self.wrap())?;
        self.note_before(run, head)
    }

    /// Takes up a run again that had ended before its course did.
    pub fn reopen(&mut self, run: i64) -> Result<()> {
        let wrap = self.wrap();
        let change = self.db.transaction().map_err(&wrap)?;
        change.execute("DELETE FROM lanes WHERE run = ?1", [run]).map_err(&wrap)?;
        change
            .execute(
                "UPDATE runs SET status = 'underway', owner = ?2 WHERE id = ?1",
                params![run, owner::this()],
            )
            .map_err(&wrap)?;
        change.commit().map_err(wrap)
    }

    /// Appends blocks of several lanes, all or none.
    pub fn append(&mut self, run: i64, blocks: &[Block<'_>]) -> Result<()> {
        let wrap = self.wrap();
        let bad = |e: &dyn std::fmt::Display| LogbookError::BadRun {
            path: self.path.clone(),
            run,
            why: e.to_string(),
        };
        let change = self.db.transaction().map_err(&wrap)?;
        for Block { lane, first, samples, events } in blocks {
            let lane = *lane as i64;
            if !samples.is_empty() {
                let mut data = vec![SAMPLES_VERSION];
                data.extend(postcard::to_stdvec(samples).map_err(|e| bad(&e))?);
                change
                    .prepare_cached(
                        "INSERT INTO samples (run, lane, first, count, data) VALUES (?1, ?2, ?3, ?4, ?5)",
                    )
                    .and_then(|mut s| {
                        s.execute(params![run, lane, *first as i64, samples.len() as i64, data])
                    })
                    .map_err(&wrap)?;
            }
            for (seq, event) in *events {
                let text = serde_json::to_string(event).map_err(|e| bad(&e))?;
                change
                    .prepare_cached("INSERT INTO events (run, lane, seq, event) VALUES (?1, ?2, ?3, ?4)")
                    .and_then(|mut s| s.execute(params![run, lane, *seq as i64, text]))
                    .map_err(&wrap)?;
            }
        }
        change.commit().map_err(wrap)
    }

    /// Adds a note to a run that has ended, behind its other events.
    ///
    /// # Errors
    /// Where the run is not there, or the logbook cannot be written.
    pub fn note(&mut self, run: i64, lane: usize, event: &Event) -> Result<()> {
        let text = serde_json::to_string(event).map_err(|e| self.bad(run, &e))?;
        let changed = self
            .db
            .execute(
                "INSERT INTO events (run, lane, seq, event) \
                 SELECT ?1, ?2, COALESCE((SELECT MAX(seq) FROM events WHERE run = ?1 AND lane = ?2), -1) + 1, ?3 \
                 FROM runs WHERE id = ?1",
                params![run, lane as i64, text],
            )
            .map_err(self.wrap())?;
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
            rows.push((lane as i64, outcome, digest));
        }
        let wrap = self.wrap();
        let change = self.db.transaction().map_err(&wrap)?;
        for row in rows {
            change
                .execute(
                    "INSERT OR REPLACE INTO lanes (run, lane, outcome, digest) VALUES (?1, ?2, ?3, ?4)",
                    params![run, row.0, row.1, row.2],
                )
                .map_err(&wrap)?;
        }
        change
            .execute("UPDATE runs SET status = ?2, owner = '' WHERE id = ?1", params![run, word_of(status)])
            .map_err(&wrap)?;
        change.commit().map_err(wrap)?;
        for (lane, outcome) in outcomes.iter().enumerate() {
            if let Some((o, health)) = outcome.as_ref().and_then(|o| Some((o, o.health.as_ref()?))) {
                self.note_health(run, &head, lane, o.at.secs(), (Moment::After, health))?;
            }
        }
        Ok(())
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
