//! All drives of a model, as their runs found them: a question or two, however many runs there are, and no run is opened.

use super::book::Logbook;
use super::engine::{Row, values};
use super::error::Result;
use mile_core::Digest;
use mile_core::fleet::{Seen, Worn};
use mile_core::health::{Counter, Snapshot};
use std::collections::BTreeMap;

/// A model of which runs were kept.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Model {
    /// Its name.
    pub name: String,
    /// How many drives of it have runs that ended.
    pub drives: u64,
    /// How many such runs.
    pub runs: u64,
}

impl Logbook {
    /// The models whose runs were kept, those with the most drives first. A drive without a serial number is nobody in a fleet.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn models(&self) -> Result<Vec<Model>> {
        self.rows(
            "SELECT model, count(DISTINCT serial), count(*) FROM lanes
             WHERE serial IS NOT NULL AND digest IS NOT NULL AND run NOT IN (SELECT run FROM removed)
             GROUP BY model ORDER BY 2 DESC, 3 DESC, model",
            &[],
            |row| {
                Ok(Model {
                    name: row.string(0)?,
                    drives: row.integer(1)?.unsigned_abs(),
                    runs: row.integer(2)?.unsigned_abs(),
                })
            },
        )
        .map_err(self.wrap())
    }

    /// What the runs on drives of a model came to.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn seen_of(&self, model: &str) -> Result<Vec<Seen>> {
        let statement = "SELECT run, started, serial, firmware, course, situation, lanes.digest
             FROM lanes JOIN runs ON run = id
             WHERE lanes.model = ?1 AND serial IS NOT NULL AND lanes.digest IS NOT NULL
               AND run NOT IN (SELECT run FROM removed) ORDER BY run";
        let read = |row: &dyn Row| {
            // A digest that cannot be read is one that is not there.
            let Ok(digest) = serde_json::from_str::<Digest>(row.text(6)?) else { return Ok(None) };
            Ok(Some(Seen {
                run: row.integer(0)?,
                started: row.integer(1)?,
                serial: row.string(2)?,
                firmware: row.maybe_text(3)?.map(str::to_owned),
                course: row.string(4)?,
                situation: row.maybe_text(5)?.unwrap_or_default().to_owned(),
                digest,
            }))
        };
        let all = self.rows(statement, values![model], read).map_err(self.wrap())?;
        Ok(all.into_iter().flatten().collect())
    }

    /// What the drives of a model told of their life first and last.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn worn_of(&self, model: &str) -> Result<Vec<Worn>> {
        let statement = "SELECT d.serial, s.snapshot FROM drives d
             JOIN (SELECT drive, min(at) AS first, max(at) AS last FROM snapshots GROUP BY drive) m ON m.drive = d.id
             JOIN snapshots s ON s.drive = d.id AND (s.at = m.first OR s.at = m.last)
             WHERE d.model = ?1 ORDER BY d.serial, s.at";
        let read = |row: &dyn Row| {
            let snapshot: Option<Snapshot> = serde_json::from_str(row.text(1)?).ok();
            Ok(snapshot.map(|s| (row.string(0).unwrap_or_default(), s)))
        };
        let rows = self.rows(statement, values![model], read).map_err(self.wrap())?;
        let mut by_drive: BTreeMap<String, (Snapshot, Snapshot)> = BTreeMap::new();
        for (serial, snapshot) in rows.into_iter().flatten() {
            by_drive
                .entry(serial)
                .and_modify(|both| both.1 = snapshot.clone())
                .or_insert_with(|| (snapshot.clone(), snapshot));
        }
        let worn = |(serial, (first, last)): (String, (Snapshot, Snapshot))| {
            let both = |counter| [first.get(counter), last.get(counter)];
            Worn {
                serial,
                over_s: (last.at - first.at) as f64,
                used: both(Counter::UsedPct),
                written: both(Counter::WrittenBytes),
            }
        };
        Ok(by_drive.into_iter().map(worn).collect())
    }
}
