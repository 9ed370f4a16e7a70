//! What earlier runs of a drive came to, for a run that begins: a question, and no run is opened.

use super::book::Logbook;
use super::engine::{Row, values};
use super::error::Result;
use super::snapshots::DriveKey;
use mile_core::{Digest, EarlierRun};
use mile_drive::Identity;

/// Earlier runs that a run goes by at the most: the newest.
const MOST: usize = 8;
/// Runs that are looked through for these: some may be of another firmware.
const LOOKED_THROUGH: i64 = 64;

impl Logbook {
    /// What the newest runs of a drive came to that have ended, the newest first. Of a drive without a serial number, or with another firmware, nothing.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn earlier(&self, drive: &Identity) -> Result<Vec<EarlierRun>> {
        let Some(key) = DriveKey::of(drive) else { return Ok(Vec::new()) };
        let statement = "SELECT run, firmware, lanes.digest FROM lanes
             WHERE model = ?1 AND serial = ?2 AND lanes.digest IS NOT NULL
               AND run NOT IN (SELECT run FROM removed) ORDER BY run DESC LIMIT ?3";
        let read = |row: &dyn Row| {
            let firmware = row.maybe_text(1)?.map(str::to_owned);
            // A digest that cannot be read tells nothing.
            let digest = serde_json::from_str::<Digest>(row.text(2)?).ok();
            Ok((firmware, digest.and_then(|d: Digest| row.integer(0).ok().and_then(|run| d.earlier(run)))))
        };
        let all = self
            .rows(statement, values![key.model.as_str(), key.serial.as_str(), LOOKED_THROUGH], read)
            .map_err(self.wrap())?;
        let same = all.into_iter().filter(|(firmware, _)| *firmware == drive.firmware);
        Ok(same.filter_map(|(_, run)| run).take(MOST).collect())
    }
}
