//! Runs are entered into a logbook, appended to, and ended.

use super::book::{Logbook, SAMPLES_VERSION, drive_of_lane};
use super::engine::values;
use super::entry::{Block, situation};
use super::error::Result;
use mile_core::health::Moment;
use mile_core::sample::packed;
use mile_runner::{Event, Outcome, RunHead, Status};

impl Logbook {
    pub(super) fn mark_cut_short(&mut self) -> Result<()> {
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
                &situation(head),
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
            values![run, text, &head.models(), &situation(head), head.lanes.len()],
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
                    data.extend(packed(samples).map_err(|e| book.bad(run, &e))?);
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
}

fn word_of(status: Status) -> String {
    serde_json::to_string(&status).map_or(String::new(), |t| t.trim_matches('"').to_owned())
}
