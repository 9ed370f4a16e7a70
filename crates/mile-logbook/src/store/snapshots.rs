//! The health of drives over time: a table by drive, filled by runs, on request, and by imports.
//!
//! A drive is known by its model and serial number, wherever it is attached. One that tells no serial number has no history.

use super::book::Logbook;
use super::engine::{Answer, Row, values};
use super::error::Result;
use super::schema::HEALTH_SINCE;
use mile_core::health::{Moment, Origin, Snapshot};
use mile_drive::Health;
use mile_runner::{HealthShot, LaneHead, Outcome, RunHead};

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

/// When a snapshot was taken, and where: what tells it apart from the others of its drive.
pub(crate) fn origin_key(snapshot: &Snapshot) -> String {
    format!("{} {}", snapshot.at, serde_json::to_string(&snapshot.origin).unwrap_or_default())
}

fn key_of(row: &dyn Row) -> Answer<DriveKey> {
    Ok(DriveKey { model: row.string(0)?, serial: row.string(1)?, simulated: row.integer(2)? != 0 })
}

impl Logbook {
    /// Keeps the drive's health at a moment of a run.
    pub fn keep_health(&mut self, run: i64, lane: usize, shot: &HealthShot) -> Result<()> {
        let (head, ..) = self.ends(run)?;
        self.keep_health_of(run, &head, lane, shot)
    }

    /// The same, of a run whose head is known.
    pub(crate) fn keep_health_of(
        &mut self,
        run: i64,
        head: &RunHead,
        lane: usize,
        shot: &HealthShot,
    ) -> Result<()> {
        let text = serde_json::to_string(shot).map_err(|e| self.bad(run, &e))?;
        self.execute(
            "INSERT INTO health (run, lane, at, shot) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (run, lane, at) DO UPDATE SET shot = excluded.shot",
            values![run, lane, shot.at.0, &text],
        )?;
        self.note_health(run, head, lane, shot.at.secs(), (Moment::During, &shot.health))
    }

    /// The drive's health during a run, in the order of time; what it was before and after is in the run's head and outcome.
    pub fn healths(&self, run: i64, lane: usize) -> Result<Vec<HealthShot>> {
        let statement = "SELECT shot FROM health WHERE run = ?1 AND lane = ?2 ORDER BY at";
        let texts =
            self.rows(statement, values![run, lane], |row| row.string(0)).map_err(self.wrap_of(run))?;
        texts.iter().map(|t| serde_json::from_str(t).map_err(|e| self.bad(run, &e))).collect()
    }

    /// Keeps snapshots of a drive, and gives how many of them are new. One of the same moment and origin is replaced.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn keep_snapshots(&mut self, key: &DriveKey, all: &[Snapshot]) -> Result<usize> {
        self.together(|book| {
            book.execute(
                "INSERT INTO drives (model, serial, simulated) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING",
                values![&key.model, &key.serial, key.simulated],
            )?;
            let drive = book.drive_of(key)?.unwrap_or(0);
            all.iter().map(|snapshot| book.put(drive, snapshot).map(usize::from)).sum()
        })
    }

    /// Puts a snapshot in, and gives whether it is new.
    fn put(&self, drive: i64, snapshot: &Snapshot) -> Result<bool> {
        let json = |e: serde_json::Error| self.bad(0, &e);
        let origin = serde_json::to_string(&snapshot.origin).map_err(json)?;
        let text = serde_json::to_string(snapshot).map_err(json)?;
        let known = self.one(
            "SELECT drive FROM snapshots WHERE drive = ?1 AND at = ?2 AND origin = ?3",
            values![drive, snapshot.at, &origin],
            |_| Ok(()),
        )?;
        self.execute(
            "INSERT INTO snapshots (drive, at, origin, snapshot) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (drive, at, origin) DO UPDATE SET snapshot = excluded.snapshot",
            values![drive, snapshot.at, &origin, &text],
        )?;
        Ok(known.is_none())
    }

    fn drive_of(&self, key: &DriveKey) -> Result<Option<i64>> {
        self.one(
            "SELECT id FROM drives WHERE model = ?1 AND serial = ?2 AND simulated = ?3",
            values![&key.model, &key.serial, key.simulated],
            |row| row.integer(0),
        )
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
        self.rows(
            "SELECT model, serial, simulated, count(*), min(at), max(at)
             FROM drives JOIN snapshots ON drive = id GROUP BY id, model, serial, simulated ORDER BY model, serial",
            &[],
            |row| {
                Ok(KnownDrive {
                    key: key_of(row)?,
                    snapshots: row.integer(3)?.unsigned_abs(),
                    first: row.integer(4)?,
                    last: row.integer(5)?,
                })
            },
        )
        .map_err(self.wrap())
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
        let statement = "SELECT model, serial, simulated FROM drives WHERE serial = ?1 OR model = ?1 ORDER BY model, serial";
        self.rows(statement, values![name], key_of).map_err(self.wrap())
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
        let statement = "SELECT snapshot FROM snapshots WHERE drive = ?1 ORDER BY at";
        // One bad row hides no good ones.
        let read = |row: &dyn Row| Ok(row.text(0).ok().and_then(|t| serde_json::from_str(t).ok()));
        let all = self.rows(statement, values![drive], read).map_err(self.wrap())?;
        Ok(all.into_iter().flatten().collect())
    }

    /// The moments and origins of the snapshots of a drive, as [`origin_key`] writes them.
    pub(crate) fn origins_of(&self, key: &DriveKey) -> Result<std::collections::BTreeSet<String>> {
        let Some(drive) = self.drive_of(key)? else { return Ok(Default::default()) };
        let statement = "SELECT at, origin FROM snapshots WHERE drive = ?1";
        let read = |row: &dyn Row| Ok(format!("{} {}", row.integer(0)?, row.text(1)?));
        Ok(self.rows(statement, values![drive], read).map_err(self.wrap())?.into_iter().collect())
    }

    /// The courses of runs, by their numbers.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn courses_of(&self, runs: &[i64]) -> Result<std::collections::BTreeMap<i64, String>> {
        let course = |run: &i64| {
            let found =
                self.one("SELECT course FROM runs WHERE id = ?1", values![*run], |row| row.string(0))?;
            Ok(found.map(|course| (*run, course)))
        };
        runs.iter().map(course).filter_map(Result::transpose).collect()
    }

    /// Puts what a run read before it began into the history of its drives.
    pub(super) fn note_before(&mut self, run: i64, head: &RunHead) -> Result<()> {
        for lane in &head.lanes {
            if let (Some(key), Some(health)) = (DriveKey::of(&lane.drive), &lane.health) {
                self.keep_snapshots(&key, &[of_run(head, lane, (run, Moment::Before), 0.0, health)])?;
            }
        }
        Ok(())
    }

    /// The same of what it read on its way, or at its end.
    pub(crate) fn note_health(
        &mut self,
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
        let runs =
            self.rows("SELECT id FROM runs ORDER BY id", &[], |row| row.integer(0)).map_err(self.wrap())?;
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
