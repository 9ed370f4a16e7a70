//! The tables of a logbook, and how those of earlier versions become them.

use super::book::{Logbook, drive_of_lane};
use super::engine::values;
use super::entry::situation;
use super::error::{LogbookError, Result};
use mile_runner::RunHead;
use rusqlite::Connection;

/// Marks an SQLite file as a logbook.
pub(super) const APPLICATION_ID: u32 = 0x484d_4c42;
/// Version of the schema. 2 added the health during a run; 3 lanes and channels; 4 tags; 5 the health of drives over time;
/// 6 runs that were taken off the list; 7 what a list needs of a run beside its head, and what the file is called in a lab.
pub(super) const VERSION: i64 = 7;

/// The version that has the health of drives over time in a table of its own.
pub(super) const HEALTH_SINCE: i64 = 5;

/// All tables.
pub(super) const SCHEMA: &str = "
CREATE TABLE runs (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    started INTEGER NOT NULL,           -- seconds since 1970-01-01 UTC
    course  TEXT NOT NULL,
    drive   TEXT NOT NULL,              -- names on the command line
    status  TEXT NOT NULL,              -- as in Status
    owner   TEXT NOT NULL,              -- the process that writes it
    head    TEXT NOT NULL,              -- RunHead, JSON
    outcome TEXT,                       -- of version 2; now in lanes
    digest  TEXT                        -- of version 2; now in lanes
);
";

/// The tables that have a lane.
const LANES: &str = "
CREATE TABLE lanes (
    run     INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    lane    INTEGER NOT NULL,           -- its place in the head's list
    outcome TEXT,                       -- Outcome, JSON
    digest  TEXT,                       -- Digest, JSON
    PRIMARY KEY (run, lane)
);
CREATE TABLE samples_3 (
    run   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    lane  INTEGER NOT NULL DEFAULT 0,
    first INTEGER NOT NULL,             -- number of the block's first sample
    count INTEGER NOT NULL,
    data  BLOB NOT NULL,
    PRIMARY KEY (run, lane, first)
);
CREATE TABLE events_3 (
    run   INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    lane  INTEGER NOT NULL DEFAULT 0,
    seq   INTEGER NOT NULL,
    event TEXT NOT NULL,                -- Event, JSON
    PRIMARY KEY (run, lane, seq)
);
CREATE TABLE latencies_3 (
    run       INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    lane      INTEGER NOT NULL DEFAULT 0,
    leg       INTEGER NOT NULL,
    histogram BLOB NOT NULL,            -- HdrHistogram, version 2 encoding
    PRIMARY KEY (run, lane, leg)
);
CREATE TABLE health_3 (
    run  INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    lane INTEGER NOT NULL DEFAULT 0,
    at   INTEGER NOT NULL,              -- nanoseconds since the start of the run
    shot TEXT NOT NULL,                 -- HealthShot, JSON
    PRIMARY KEY (run, lane, at)
);
CREATE TABLE readings (
    run     INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    channel INTEGER NOT NULL,           -- its place in the head's list
    first   INTEGER NOT NULL,           -- number of the block's first reading
    data    BLOB NOT NULL,              -- times and values
    PRIMARY KEY (run, channel, first)
);
";

/// The table that version 4 added.
const TAGS: &str = "
CREATE TABLE tags (
    run INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    tag TEXT NOT NULL,
    PRIMARY KEY (run, tag)
);
CREATE INDEX tagged ON tags (tag);
";

/// The tables that version 5 added.
const HEALTH: &str = "
CREATE TABLE drives (
    id        INTEGER PRIMARY KEY,
    model     TEXT NOT NULL,
    serial    TEXT NOT NULL,
    simulated INTEGER NOT NULL,         -- 1 where it is simulated
    UNIQUE (model, serial, simulated)
);
CREATE TABLE snapshots (
    drive    INTEGER NOT NULL REFERENCES drives(id) ON DELETE CASCADE,
    at       INTEGER NOT NULL,          -- seconds since 1970-01-01 UTC
    origin   TEXT NOT NULL,             -- Origin, JSON
    snapshot TEXT NOT NULL,             -- Snapshot, JSON
    PRIMARY KEY (drive, at, origin)
) WITHOUT ROWID;
";

/// The table that version 6 added.
const REMOVED: &str = "
CREATE TABLE removed (
    run INTEGER PRIMARY KEY REFERENCES runs(id) ON DELETE CASCADE,
    at  INTEGER NOT NULL                -- seconds since 1970-01-01 UTC
);
";

/// What version 7 added.
const BRIEF: &str = "
ALTER TABLE runs ADD COLUMN model TEXT;     -- models of its drives
ALTER TABLE runs ADD COLUMN situation TEXT; -- how they are set up, in one line
ALTER TABLE runs ADD COLUMN lanes INTEGER;  -- how many there are; NULL where the head says these
ALTER TABLE lanes ADD COLUMN model TEXT;    -- the drive of the lane
ALTER TABLE lanes ADD COLUMN serial TEXT;
ALTER TABLE lanes ADD COLUMN firmware TEXT;
CREATE TABLE own (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
);
";

const RENAMED: &str = "
ALTER TABLE samples_3 RENAME TO samples;
ALTER TABLE events_3 RENAME TO events;
ALTER TABLE latencies_3 RENAME TO latencies;
ALTER TABLE health_3 RENAME TO health;
";

/// What a new logbook is made of.
pub(super) fn create(db: &Connection) -> rusqlite::Result<()> {
    db.execute_batch(SCHEMA)?;
    db.execute_batch(LANES)?;
    db.execute_batch(RENAMED)?;
    db.execute_batch(TAGS)?;
    db.execute_batch(HEALTH)?;
    db.execute_batch(REMOVED)?;
    db.execute_batch(BRIEF)
}

/// Brings the tables of an earlier version to this one: all that there is is of lane 0. In a transaction of the caller's.
pub(super) fn migrate(book: &Logbook, version: i64) -> Result<()> {
    let batch = |statements: &str| book.db.batch(statements).map_err(book.wrap());
    if version < 3 {
        batch(LANES)?;
        batch(
            "INSERT INTO samples_3 (run, first, count, data) SELECT run, first, count, data FROM samples;
             INSERT INTO events_3 (run, seq, event) SELECT run, seq, event FROM events;
             INSERT INTO latencies_3 (run, leg, histogram) SELECT run, leg, histogram FROM latencies;
             INSERT INTO lanes (run, lane, outcome, digest)
                 SELECT id, 0, outcome, digest FROM runs WHERE outcome IS NOT NULL OR digest IS NOT NULL;
             DROP TABLE samples; DROP TABLE events; DROP TABLE latencies;",
        )?;
        if version == 2 {
            batch(
                "INSERT INTO health_3 (run, at, shot) SELECT run, at, shot FROM health; DROP TABLE health;",
            )?;
        }
        batch(RENAMED)?;
    }
    if version < 4 {
        batch(TAGS)?;
    }
    if version < HEALTH_SINCE {
        // What runs have read of drives is put into them behind this.
        batch(HEALTH)?;
    }
    if version < 6 {
        batch(REMOVED)?;
    }
    if version < 7 {
        batch(BRIEF)?;
        let heads = book
            .rows("SELECT id, head FROM runs", &[], |row| Ok((row.integer(0)?, row.string(1)?)))
            .map_err(book.wrap())?;
        for (run, text) in heads {
            // A head that cannot be read is told when the run is listed.
            let Ok(head) = serde_json::from_str::<RunHead>(&text) else { continue };
            book.execute(
                "UPDATE runs SET model = ?2, situation = ?3, lanes = ?4 WHERE id = ?1",
                values![run, &head.models(), &situation(&head), head.lanes.len()],
            )?;
            for lane in 0..head.lanes.len() {
                let (model, serial, firmware) = drive_of_lane(&head, lane);
                book.execute(
                    "UPDATE lanes SET model = ?3, serial = ?4, firmware = ?5 WHERE run = ?1 AND lane = ?2",
                    values![run, lane, model, serial, firmware],
                )?;
            }
        }
    }
    Ok(())
}

/// Has the tables of an earlier version be read as those of this one. Nothing is written: what is made is of this connection only, and hides
/// the tables of the same names.
pub(super) fn read_as_now(
    db: &Connection,
    version: i64,
    wrap: impl Fn(rusqlite::Error) -> LogbookError,
) -> Result<()> {
    if version < 7 {
        db.execute_batch(
            // The head of formats 1 and 2 is that of its only drive.
            "CREATE TEMP VIEW runs AS
                 SELECT *, coalesce(json_extract(head, '$.lanes[0].drive.model'), json_extract(head, '$.drive.model')) AS model,
                     NULL AS situation, NULL AS lanes FROM main.runs;
             CREATE TEMP VIEW own AS SELECT '' AS name, '' AS value WHERE 0;",
        )
        .map_err(&wrap)?;
    }
    if version < 6 {
        db.execute_batch("CREATE TEMP VIEW removed AS SELECT 0 AS run, 0 AS at WHERE 0;").map_err(&wrap)?;
    }
    if version < 4 {
        db.execute_batch("CREATE TEMP VIEW tags AS SELECT 0 AS run, '' AS tag WHERE 0;").map_err(&wrap)?;
    }
    let of_drive = |what: &str| {
        format!(
            "coalesce(json_extract(head, '$.lanes[' || lane || '].drive.{what}'), json_extract(head, '$.drive.{what}')) AS {what}"
        )
    };
    let drive = format!("{}, {}, {}", of_drive("model"), of_drive("serial"), of_drive("firmware"));
    if (3..7).contains(&version) {
        db.execute_batch(&format!(
            "CREATE TEMP VIEW lanes AS SELECT run, lane, l.outcome, l.digest, {drive}
                 FROM main.lanes l JOIN main.runs ON run = id;"
        ))
        .map_err(&wrap)?;
    }
    if version >= 3 {
        return Ok(());
    }
    let health = if version == 2 {
        "SELECT run, 0 AS lane, at, shot FROM main.health"
    } else {
        "SELECT 0 AS run, 0 AS lane, 0 AS at, '' AS shot WHERE 0"
    };
    db.execute_batch(&format!(
        "CREATE TEMP VIEW samples AS SELECT run, 0 AS lane, first, count, data FROM main.samples;
         CREATE TEMP VIEW events AS SELECT run, 0 AS lane, seq, event FROM main.events;
         CREATE TEMP VIEW latencies AS SELECT run, 0 AS lane, leg, histogram FROM main.latencies;
         CREATE TEMP VIEW lanes AS SELECT run, lane, outcome, digest, {drive}
             FROM (SELECT id AS run, 0 AS lane, outcome, digest, head FROM main.runs);
         CREATE TEMP VIEW readings AS SELECT 0 AS run, 0 AS channel, 0 AS first, '' AS data WHERE 0;
         CREATE TEMP VIEW health AS {health};"
    ))
    .map_err(wrap)
}
