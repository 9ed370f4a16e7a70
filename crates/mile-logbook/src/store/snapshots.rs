//! The health of drives over time: a table by drive, filled by runs, on request, and by imports.
//!
//! A drive is known by its model and serial number, wherever it is attached. One that tells no serial number has no history.

use super::schema::HEALTH_SINCE;
use super::{Logbook, Result};
use mile_core::health::{Moment, Origin, Snapshot};
use mile_drive::Health;
use mile_runner::{HealthShot, LaneHead, Outcome, RunHead};
use rusqlite::{OptionalExtension, params};

/// Who a drive is, wherever it is attached.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DriveKey {
    /// Its model.
    pub model: String,
    /// Its serial number.
    pub serial: String,
    /// Whether it is simulated, so that each run begins with the same drive.
    pub simulated: bool,
}

impl DriveKey {
    /// Of a drive, if it tells a serial number.
    pub fn of(identity: &mile_drive::Identity) -> Option<Self> {
        let serial = identity.serial.as_ref().map(|s| s.trim()).filter(|s| !s.is_empty())?;
        Some(Self {
            model: identity.model.trim().to_owned(),
            serial: serial.to_owned(),
            simulated: identity.simulated,
        })
    }
}

/// A drive of which snapshots were kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownDrive {
    /// Who it is.
    pub key: DriveKey,
    /// How many snapshots there are.
    pub snapshots: u64,
    /// The first, seconds since 1970-01-01 UTC.
    pub first: i64,
    /// The last.
    pub last: i64,
}

/// What a run read of a drive at one moment.
fn of_run(
    head: &RunHead,
    lane: &LaneHead,
    (run, moment): (i64, Moment),
    after_s: f64,
    health: &Health,
) -> Snapshot {
    let at = head.started.saturating_add(after_s as i64);
    health.snapshot(at, Origin::Run { run, moment }, &lane.drive, lane.situation.slot.as_deref())
}

impl Logbook {
    /// Keeps the drive's health at a moment of a run.
    pub fn keep_health(&mut self, run: i64, lane: usize, shot: &HealthShot) -> Result<()> {
        let text = serde_json::to_string(shot).map_err(|e| self.bad(run, &e))?;
        self.db
            .execute(
                "INSERT OR REPLACE INTO health (run, lane, at, shot) VALUES (?1, ?2, ?3, ?4)",
                params![run, lane as i64, shot.at.0 as i64, text],
            )
            .map_err(self.wrap())?;
        let (head, ..) = self.ends(run)?;
        self.note_health(run, &head, lane, shot.at.secs(), (Moment::During, &shot.health))
    }

    /// The drive's health during a run, in the order of time; what it was before and after is in the run's head and outcome.
    pub fn healths(&self, run: i64, lane: usize) -> Result<Vec<HealthShot>> {
        let wrap = self.wrap_of(run);
        let mut query = self
            .db
            .prepare("SELECT shot FROM health WHERE run = ?1 AND lane = ?2 ORDER BY at")
            .map_err(&wrap)?;
        let texts =
            query.query_map(params![run, lane as i64], |row| row.get::<_, String>(0)).map_err(&wrap)?;
        texts.map(|t| serde_json::from_str(&t.map_err(&wrap)?).map_err(|e| self.bad(run, &e))).collect()
    }

    /// Keeps snapshots of a drive, and gives how many of them are new. One of the same moment and origin is replaced.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn keep_snapshots(&self, key: &DriveKey, all: &[Snapshot]) -> Result<usize> {
        let wrap = self.wrap();
        self.db
            .execute(
                "INSERT OR IGNORE INTO drives (model, serial, simulated) VALUES (?1, ?2, ?3)",
                params![key.model, key.serial, key.simulated],
            )
            .map_err(&wrap)?;
        let drive = self.drive_of(key)?.unwrap_or(0);
        // All or none, and one wait for the medium.
        let together = self.db.is_autocommit() && all.len() > 1;
        if together {
            self.db.execute_batch("BEGIN IMMEDIATE").map_err(&wrap)?;
        }
        let kept =
            all.iter().map(|snapshot| self.put(drive, snapshot).map(usize::from)).sum::<Result<usize>>();
        if together {
            let end = if kept.is_ok() { "COMMIT" } else { "ROLLBACK" };
            self.db.execute_batch(end).map_err(&wrap)?;
        }
        kept
    }

    /// Puts a snapshot in, and gives whether it is new.
    fn put(&self, drive: i64, snapshot: &Snapshot) -> Result<bool> {
        let json = |e: serde_json::Error| self.bad(0, &e);
        let origin = serde_json::to_string(&snapshot.origin).map_err(json)?;
        let text = serde_json::to_string(snapshot).map_err(json)?;
        let wrap = self.wrap();
        let known: bool = self
            .db
            .prepare_cached(
                "SELECT EXISTS (SELECT 1 FROM snapshots WHERE drive = ?1 AND at = ?2 AND origin = ?3)",
            )
            .and_then(|mut look| look.query_row(params![drive, snapshot.at, origin], |row| row.get(0)))
            .map_err(&wrap)?;
        self.db
            .prepare_cached(
                "INSERT OR REPLACE INTO snapshots (drive, at, origin, snapshot) VALUES (?1, ?2, ?3, ?4)",
            )
            .and_then(|mut put| put.execute(params![drive, snapshot.at, origin, text]))
            .map(|_| !known)
            .map_err(wrap)
    }

    fn drive_of(&self, key: &DriveKey) -> Result<Option<i64>> {
        self.db
            .query_row(
                "SELECT id FROM drives WHERE model = ?1 AND serial = ?2 AND simulated = ?3",
                params![key.model, key.serial, key.simulated],
                |row| row.get(0),
            )
            .optional()
            .map_err(self.wrap())
    }

    /// The drives of which snapshots were kept, by model and serial number.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn known_drives(&self) -> Result<Vec<KnownDrive>> {
        if self.version < HEALTH_SINCE {
            let mut all: Vec<KnownDrive> = Vec::new();
            for (key, snapshot) in self.read_of_runs()? {
                match all.iter_mut().find(|d| d.key == key) {
                    Some(known) => {
                        known.snapshots += 1;
                        (known.first, known.last) =
                            (known.first.min(snapshot.at), known.last.max(snapshot.at));
                    }
                    None => all.push(KnownDrive { key, snapshots: 1, first: snapshot.at, last: snapshot.at }),
                }
            }
            all.sort_by(|a, b| a.key.cmp(&b.key));
            return Ok(all);
        }
        let wrap = self.wrap();
        let mut query = self
            .db
            .prepare(
                "SELECT model, serial, simulated, count(*), min(at), max(at)
                 FROM drives JOIN snapshots ON drive = id GROUP BY id ORDER BY model, serial",
            )
            .map_err(&wrap)?;
        let rows = query
            .query_map([], |row| {
                let key = DriveKey { model: row.get(0)?, serial: row.get(1)?, simulated: row.get(2)? };
                Ok(KnownDrive {
                    key,
                    snapshots: row.get::<_, i64>(3)? as u64,
                    first: row.get(4)?,
                    last: row.get(5)?,
                })
            })
            .map_err(&wrap)?;
        rows.collect::<rusqlite::Result<_>>().map_err(wrap)
    }

    /// The drives of which snapshots were kept that have a serial number or a model.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn drives_named(&self, name: &str) -> Result<Vec<DriveKey>> {
        if self.version < HEALTH_SINCE {
            let all = self.known_drives()?.into_iter().map(|d| d.key);
            return Ok(all.filter(|k| k.serial == name || k.model == name).collect());
        }
        let wrap = self.wrap();
        let mut query = self
            .db
            .prepare("SELECT model, serial, simulated FROM drives WHERE serial = ?1 OR model = ?1 ORDER BY model, serial")
            .map_err(&wrap)?;
        let rows = query
            .query_map([name], |row| {
                Ok(DriveKey { model: row.get(0)?, serial: row.get(1)?, simulated: row.get(2)? })
            })
            .map_err(&wrap)?;
        rows.collect::<rusqlite::Result<_>>().map_err(wrap)
    }

    /// All snapshots of a drive, in the order of time; none where it is not known. A row that cannot be read is left out.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn snapshots_of(&self, key: &DriveKey) -> Result<Vec<Snapshot>> {
        if self.version < HEALTH_SINCE {
            let own = self.read_of_runs()?.into_iter().filter(|(k, _)| k == key);
            let mut all: Vec<Snapshot> = own.map(|s| s.1).collect();
            all.sort_by_key(|s| s.at);
            return Ok(all);
        }
        let Some(drive) = self.drive_of(key)? else { return Ok(Vec::new()) };
        let wrap = self.wrap();
        let mut query =
            self.db.prepare("SELECT snapshot FROM snapshots WHERE drive = ?1 ORDER BY at").map_err(&wrap)?;
        let texts = query.query_map([drive], |row| row.get::<_, String>(0)).map_err(&wrap)?;
        // One bad row hides no good ones.
        Ok(texts.filter_map(|t| serde_json::from_str(&t.ok()?).ok()).collect())
    }

    /// The courses of runs, by their numbers.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn courses_of(&self, runs: &[i64]) -> Result<std::collections::BTreeMap<i64, String>> {
        let wrap = self.wrap();
        let mut query = self.db.prepare("SELECT course FROM runs WHERE id = ?1").map_err(&wrap)?;
        let course = |run: &i64| {
            let found = query.query_row([run], |row| row.get::<_, String>(0)).optional().map_err(&wrap)?;
            Ok(found.map(|course| (*run, course)))
        };
        runs.iter().map(course).filter_map(Result::transpose).collect()
    }

    /// Puts what a run read before it began into the history of its drives.
    pub(super) fn note_before(&self, run: i64, head: &RunHead) -> Result<()> {
        for lane in &head.lanes {
            if let (Some(key), Some(health)) = (DriveKey::of(&lane.drive), &lane.health) {
                self.keep_snapshots(&key, &[of_run(head, lane, (run, Moment::Before), 0.0, health)])?;
            }
        }
        Ok(())
    }

    /// The same of what it read on its way, or at its end.
    pub(super) fn note_health(
        &self,
        run: i64,
        head: &RunHead,
        lane: usize,
        at: f64,
        (moment, health): (Moment, &Health),
    ) -> Result<()> {
        let Some(lane) = head.lanes.get(lane) else { return Ok(()) };
        let Some(key) = DriveKey::of(&lane.drive) else { return Ok(()) };
        self.keep_snapshots(&key, &[of_run(head, lane, (run, moment), at, health)]).map(|_| ())
    }

    /// What all runs have read of their drives. A run that cannot be read has read nothing.
    pub(super) fn read_of_runs(&self) -> Result<Vec<(DriveKey, Snapshot)>> {
        let wrap = self.wrap();
        let runs: Vec<i64> = {
            let mut query = self.db.prepare("SELECT id FROM runs ORDER BY id").map_err(&wrap)?;
            let rows = query.query_map([], |row| row.get(0)).map_err(&wrap)?;
            rows.collect::<rusqlite::Result<_>>().map_err(&wrap)?
        };
        let mut all = Vec::new();
        for run in runs {
            let Ok((head, _, outcomes)) = self.ends(run) else { continue };
            for (place, lane) in head.lanes.iter().enumerate() {
                let Some(key) = DriveKey::of(&lane.drive) else { continue };
                let mut add = |moment, at: f64, health: &Health| {
                    all.push((key.clone(), of_run(&head, lane, (run, moment), at, health)));
                };
                lane.health.iter().for_each(|h| add(Moment::Before, 0.0, h));
                for shot in self.healths(run, place).unwrap_or_default() {
                    add(Moment::During, shot.at.secs(), &shot.health);
                }
                let outcome: Option<&Outcome> = outcomes.get(place).and_then(Option::as_ref);
                if let Some((o, health)) = outcome.and_then(|o| Some((o, o.health.as_ref()?))) {
                    add(Moment::After, o.at.secs(), health);
                }
            }
        }
        Ok(all)
    }
}
