//! A logbook in an SQLite file: how it is opened, and what it answers.

use super::book::{Logbook, TRIES};
use super::engine::{Answer, Engine, Fault, Row, Value};
use super::error::{LogbookError, Result};
use super::lies::Lies;
use super::owner;
use super::schema::{self, APPLICATION_ID, VERSION};
use mile_files::database::{self, Access, Checked, Head};
use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{Connection, ErrorCode, OpenFlags, ToSql};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long another process that writes is waited for, and the time between two tries, milliseconds.
const BUSY: u64 = 5000;
const RETRY: u64 = 10;
/// Pages of the write-ahead log from which on a commit carries them over into the logbook: what SQLite does by itself.
const CHECKPOINT: u32 = 1000;
/// Calls of the keeper after which it does that instead: a minute, at three a second.
const CARRY_OVER: u32 = 200;

/// An SQLite file that is open.
#[derive(Debug)]
pub(super) struct Sqlite {
    pub(super) db: Connection,
    path: PathBuf,
}

/// What SQLite says where a file system does not let processes share memory or lock parts of a file.
const SHARING: [i32; 5] = [
    rusqlite::ffi::SQLITE_IOERR_SHMOPEN,
    rusqlite::ffi::SQLITE_IOERR_SHMSIZE,
    rusqlite::ffi::SQLITE_IOERR_SHMLOCK,
    rusqlite::ffi::SQLITE_IOERR_SHMMAP,
    rusqlite::ffi::SQLITE_IOERR_LOCK,
];

impl From<rusqlite::Error> for Fault {
    fn from(error: rusqlite::Error) -> Self {
        let text = error.to_string();
        match error {
            rusqlite::Error::InvalidColumnType(..)
            | rusqlite::Error::FromSqlConversionFailure(..)
            | rusqlite::Error::IntegralValueOutOfRange(..)
            | rusqlite::Error::Utf8Error(..) => Self::Value(text),
            other => match (other.sqlite_error_code(), other.sqlite_error()) {
                (Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt), _) => Self::Damaged(text),
                (_, Some(e)) if SHARING.contains(&e.extended_code) => Self::Other(format!(
                    "{text}. On its file system, programs cannot share memory or locks, as is so on many network file systems; keep the logbook on a disk of this computer"
                )),
                _ => Self::Other(text),
            },
        }
    }
}

impl ToSql for Value<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Self::Null => ValueRef::Null,
            Self::Integer(n) => ValueRef::Integer(*n),
            Self::Text(text) => ValueRef::Text(text.as_bytes()),
            Self::Bytes(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

impl Row for rusqlite::Row<'_> {
    fn maybe_integer(&self, column: usize) -> Answer<Option<i64>> {
        Ok(self.get(column)?)
    }
    fn maybe_text(&self, column: usize) -> Answer<Option<&str>> {
        let wrong = |e: rusqlite::types::FromSqlError| Fault::Value(format!("column {column}: {e}"));
        self.get_ref(column)?.as_str_or_null().map_err(wrong)
    }
    fn bytes(&self, column: usize) -> Answer<&[u8]> {
        let wrong = |e: rusqlite::types::FromSqlError| Fault::Value(format!("column {column}: {e}"));
        self.get_ref(column)?.as_blob().map_err(wrong)
    }
}

impl Engine for Sqlite {
    fn execute(&self, statement: &str, values: &[Value<'_>]) -> Answer<u64> {
        let mut statement = self.db.prepare_cached(statement)?;
        Ok(statement.execute(rusqlite::params_from_iter(values))? as u64)
    }

    fn each(
        &self,
        statement: &str,
        values: &[Value<'_>],
        take: &mut dyn FnMut(&dyn Row) -> Answer<()>,
    ) -> Answer<()> {
        let mut statement = self.db.prepare_cached(statement)?;
        let mut rows = statement.query(rusqlite::params_from_iter(values))?;
        while let Some(row) = rows.next()? {
            take(row)?;
        }
        Ok(())
    }

    fn batch(&self, statements: &str) -> Answer<()> {
        Ok(self.db.execute_batch(statements)?)
    }

    fn begin(&self) -> Answer<()> {
        self.execute("BEGIN IMMEDIATE", &[]).map(|_| ())
    }

    fn end(&self, keep: bool) -> Answer<()> {
        let ended = self.execute(if keep { "COMMIT" } else { "ROLLBACK" }, &[]).map(|_| ());
        // A commit that failed, on a full disk for one, leaves its transaction open.
        if keep && ended.is_err() && self.in_transaction() {
            let _ = self.batch("ROLLBACK");
        }
        ended
    }

    fn in_transaction(&self) -> bool {
        !self.db.is_autocommit()
    }

    fn owner(&self) -> String {
        owner::this()
    }

    fn is_gone(&self, owner: &str) -> bool {
        !owner::is_alive(owner)
    }

    fn of_bench(&self) -> &'static str {
        "NULL, NULL"
    }

    fn is_bad_json(&self) -> &'static str {
        "NOT json_valid(head)"
    }

    fn give_back_room(&self) {
        // Where another process is at work in the file, later runs fill the room.
        let _ = self.batch("VACUUM");
    }

    fn sync(&self) {
        sync_log(&self.path);
    }

    /// It syncs the write-ahead log, where what is committed is written first, and carries a long one over into the logbook, through a
    /// connection of its own. No commit waits for either.
    fn keeper(&self) -> Box<dyn FnMut() + Send> {
        let path = self.path.clone();
        let (mut own, mut calls) = (None, 0_u32);
        Box::new(move || {
            sync_log(&path);
            calls += 1;
            if calls >= CARRY_OVER {
                calls = 0;
                own = own.take().or_else(|| Logbook::open_existing(&path).ok());
                if let Some(own) = &own {
                    let _ = own.db.each("PRAGMA wal_checkpoint(PASSIVE)", &[], &mut |_| Ok(()));
                }
            }
        })
    }

    /// Without, what is committed outlives this process but not a power cut, until [`Engine::keeper`] was called.
    fn wait_for_disk(&self, wait: bool) -> Answer<()> {
        let (sync, pages) = if wait { ("FULL", CHECKPOINT) } else { ("NORMAL", 0) };
        self.db.pragma_update(None, "synchronous", sync)?;
        Ok(self.db.pragma_update(None, "wal_autocheckpoint", pages)?)
    }
}

/// Syncs the write-ahead log of a file, where what is committed is written first. Without one everything is in the file itself, which SQLite
/// synced when it gave the log up.
fn sync_log(path: &Path) {
    let mut log = path.to_owned().into_os_string();
    log.push("-wal");
    if let Ok(file) = std::fs::File::open(&log) {
        let _ = file.sync_data();
    }
}

/// An SQLite file on its way to be a logbook.
#[derive(Debug)]
pub(super) struct File {
    pub(super) engine: Sqlite,
    pub(super) version: i64,
    pub(super) as_it_was: Option<Lies>,
}

impl File {
    pub(super) fn connect(name: &Path, path: &Path, flags: OpenFlags) -> Result<Self> {
        let open = || -> Answer<Connection> {
            let db = Connection::open_with_flags(name, flags)?;
            db.busy_timeout(Duration::from_millis(BUSY))?;
            Ok(db)
        };
        let db = open().map_err(LogbookError::of(path))?;
        let engine = Sqlite { db, path: path.to_owned() };
        Ok(Self { engine, version: VERSION, as_it_was: None })
    }

    pub(super) fn wrap(&self) -> impl Fn(rusqlite::Error) -> LogbookError + use<> {
        let of = LogbookError::of(&self.engine.path);
        move |source| of(source.into())
    }

    fn pragma(&self, name: &str) -> Result<i64> {
        self.engine.db.pragma_query_value(None, name, |row| row.get(0)).map_err(self.wrap())
    }

    /// Opens one to write to it, and brings it to the format of this version.
    fn to_write(path: &Path, access: Access) -> Result<Logbook> {
        let mut tries = TRIES;
        let mut file = loop {
            let checked = database::check(path, access)?;
            Self::recognise(&checked)?;
            let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
                | OpenFlags::SQLITE_OPEN_NOFOLLOW
                | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let file = Self::connect(checked.path(), checked.path(), flags)?;
            match checked.confirm() {
                Ok(()) => break file,
                Err(e) if tries == 0 => return Err(e.into()),
                Err(_) => tries -= 1,
            }
            drop((file, checked));
            std::thread::sleep(Duration::from_millis(RETRY));
        };
        // One that another process is about to make has nothing in it yet.
        if is_blank(&file.engine.db).map_err(file.wrap())? {
            file.create()?;
        }
        file.check()?;
        file.settings()?;
        let mut book = file.migrate()?;
        // Where it cannot be written now, on a full disk for one, what is in it can still be read: how a run stands is then
        // told by its owner each time.
        let _ = book.mark_cut_short();
        Ok(book)
    }

    /// Refuses a file whose head is not that of a logbook.
    pub(super) fn recognise(checked: &Checked) -> Result<()> {
        let path = || checked.path().to_owned();
        match checked.head() {
            Head::Empty | Head::Database { application: APPLICATION_ID } => Ok(()),
            // The mark of a new one may still be in its log; what SQLite reads decides, before anything is written.
            Head::Database { application: 0 } if checked.has_log() => {
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                let file = Self::connect(checked.path(), checked.path(), flags)?;
                match file.pragma("application_id")? {
                    id if id == i64::from(APPLICATION_ID) => Ok(()),
                    _ => Err(LogbookError::Foreign { path: path() }),
                }
            }
            Head::Database { .. } => Err(LogbookError::Foreign { path: path() }),
            Head::Other => Err(LogbookError::NoLogbook { path: path() }),
        }
    }

    /// Makes the tables, unless another process has made them meanwhile.
    fn create(&self) -> Result<()> {
        let make = || -> Answer<()> {
            let db = &self.engine.db;
            if !is_blank(db)? {
                return Ok(());
            }
            schema::create(db)?;
            // Before there is a write-ahead log, so that the file's own head bears it from the first moment.
            db.pragma_update(None, "application_id", APPLICATION_ID)?;
            Ok(db.pragma_update(None, "user_version", VERSION)?)
        };
        let of = LogbookError::of(&self.engine.path);
        // Holds back everybody else who is about to do the same.
        self.engine.begin().map_err(&of)?;
        let made = make();
        self.engine.end(made.is_ok()).map_err(&of)?;
        made.map_err(of)
    }

    fn settings(&self) -> Result<()> {
        let (wrap, db) = (self.wrap(), &self.engine.db);
        // Nobody is waited for when the journal is chosen, as there is no journal yet: whoever is second tries again.
        let mut tries = BUSY / RETRY;
        loop {
            match db.pragma_update(None, "journal_mode", "WAL") {
                Err(e) if tries > 0 && e.sqlite_error_code() == Some(ErrorCode::DatabaseBusy) => {
                    tries -= 1;
                    std::thread::sleep(Duration::from_millis(RETRY));
                }
                done => break done.map_err(&wrap)?,
            }
        }
        // FULL: a block that counts as kept survives a power cut too.
        db.pragma_update(None, "synchronous", "FULL").map_err(&wrap)?;
        db.pragma_update(None, "foreign_keys", true).map_err(wrap)
    }

    /// Refuses what is no logbook, or of a format that is not known.
    pub(super) fn check(&mut self) -> Result<()> {
        let path = || self.engine.path.clone();
        let (id, version) = (self.pragma("application_id")?, self.pragma("user_version")?);
        if id != i64::from(APPLICATION_ID) {
            return Err(LogbookError::Foreign { path: path() });
        }
        if version > VERSION {
            return Err(LogbookError::Newer { path: path(), found: version, known: VERSION });
        }
        // A damaged table shows when it is read.
        let looked = self.engine.db.query_row("SELECT count(*) FROM runs", [], |row| row.get::<_, i64>(0));
        looked.map_err(self.wrap())?;
        self.version = version;
        Ok(())
    }

    /// Brings the tables to the format of this version.
    fn migrate(self) -> Result<Logbook> {
        let old = self.version < VERSION;
        let mut book = self.into_logbook();
        if !old {
            return Ok(book);
        }
        book.together(|book| {
            // Another process may have done it meanwhile.
            let version = book.one("SELECT user_version FROM pragma_user_version", &[], |r| r.integer(0))?;
            let version = version.unwrap_or(VERSION);
            if version >= VERSION {
                return Ok(());
            }
            schema::migrate(book, version)?;
            if version < schema::HEALTH_SINCE {
                for (key, snapshot) in book.read_of_runs()? {
                    book.keep_snapshots(&key, &[snapshot])?;
                }
            }
            book.db.batch(&format!("PRAGMA user_version = {VERSION}")).map_err(book.wrap())
        })?;
        book.version = VERSION;
        Ok(book)
    }

    pub(super) fn into_logbook(self) -> Logbook {
        let Self { engine, version, as_it_was } = self;
        Logbook { path: engine.path.clone(), db: Box::new(engine), version, as_it_was }
    }
}

/// Opens a logbook file to write to it.
pub(super) fn open(path: &Path, create: bool) -> Result<Logbook> {
    File::to_write(path, if create { Access::Create } else { Access::Write })
}

/// Whether there is a database, and nothing in it.
fn is_blank(db: &Connection) -> rusqlite::Result<bool> {
    let known =
        "SELECT (SELECT count(*) FROM sqlite_schema) + (SELECT application_id FROM pragma_application_id)";
    db.query_row(known, [], |row| row.get::<_, i64>(0)).map(|n| n == 0)
}
