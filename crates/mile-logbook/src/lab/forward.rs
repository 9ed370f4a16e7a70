//! Brings the runs of a bench's file, the spool, to the archive of its lab.
//!
//! What always holds: what the spool has of a run comes to the archive once and in order, however often the way there is cut, and whoever is
//! killed. Nothing is remembered on the way: each step asks the archive what it has and adds what is behind that, in one transaction. Nothing
//! is sent that the spool's own disk has not kept, so that a power cut at the bench cannot leave the archive with samples that the spool lost.
//! Nothing of the archive's is ever deleted because the spool does not have it any more.

use crate::store::engine::{Answer, Row, Value, values};
use crate::store::place::Lab;
use crate::store::{Logbook, LogbookError};
use mile_core::health::{Moment, Origin};
use mile_files::FileId;
use mile_runner::{HealthShot, Outcome, RunHead};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::Duration;

type Result<T> = std::result::Result<T, LogbookError>;

/// Most rows that one transaction brings of a table.
const AT_A_TIME: u32 = 512;
/// Rows that one statement brings of a backlog, and at most of less.
const MANY: usize = 64;
const FEW: usize = 8;
/// Steps between two looks at all runs of the spool: the notes and tags of those that have ended may have changed, and the health of those that are underway.
const LOOK_AGAIN: u32 = 100;
/// Steps after which the archive is told that a run goes on.
const TELL_AGAIN: u32 = 5;

/// What a step has done.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Step {
    /// Samples brought to the archive.
    pub samples: u64,
    /// Runs that are now there in full and have ended.
    pub finished: u64,
    /// Samples that wait for the next step.
    pub waiting: u64,
    /// Whether there is anything else that waits.
    pub more: bool,
}

/// What a side has of a run that has ended. A run ends in the archive when all of it is there, and one that goes on again has further events and another
/// outcome: its samples, which may be many, need not be counted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Has {
    started: i64,
    course: String,
    status: String,
    events: i64,
    lanes: i64,
    outcomes: i64,
    removed: i64,
    tags: BTreeSet<String>,
}

/// Columns of `runs` and counts of what belongs to it, in the order of [`Has`].
const HAS: &str = "started, course, status,
    (SELECT count(*) FROM events WHERE run = id),
    (SELECT count(*) FROM lanes WHERE run = id),
    (SELECT CAST(coalesce(sum(length(coalesce(l.outcome, '')) + length(coalesce(l.digest, ''))), 0) AS BIGINT)
        FROM lanes l WHERE l.run = id),
    (SELECT count(*) FROM removed WHERE run = id)";

fn has(row: &dyn Row, from: usize) -> Answer<Has> {
    let count = |i| row.integer(from + i);
    Ok(Has {
        started: count(0)?,
        course: row.string(from + 1)?,
        status: row.string(from + 2)?,
        events: count(3)?,
        lanes: count(4)?,
        outcomes: count(5)?,
        removed: count(6)?,
        tags: BTreeSet::new(),
    })
}

/// Brings the runs of a spool to an archive.
#[derive(Debug)]
pub struct Forwarder {
    spool: PathBuf,
    lab: Lab,
    id: String,
    archive: Option<Logbook>,
    /// The spool, as long as somebody has it open to write; and which file that is.
    local: Option<(Logbook, FileId)>,
    /// Runs that may have something to bring.
    open: BTreeSet<i64>,
    /// Of those that are underway, what the archive had when this forwarder last looked. It has that much at least.
    underway: BTreeMap<i64, Underway>,
    /// The newest run that was seen.
    newest: i64,
    steps: u32,
}

/// What the archive has of a run that is underway.
#[derive(Debug)]
struct Underway {
    to: i64,
    head: String,
    lanes: usize,
    channels: usize,
    samples: BTreeMap<i64, i64>,
    events: BTreeMap<i64, i64>,
    readings: BTreeMap<i64, i64>,
    /// Steps since the archive was told that it goes on.
    silent: u32,
}

impl Forwarder {
    /// For a spool, which must exist.
    ///
    /// # Errors
    /// Where the spool cannot be opened. The archive is asked in the first step.
    pub fn new(spool: &Path, lab: Lab) -> Result<Self> {
        let id = Logbook::open_existing(spool)?.own_id()?;
        Ok(Self {
            spool: spool.to_owned(),
            lab,
            id,
            archive: None,
            local: None,
            open: BTreeSet::new(),
            underway: BTreeMap::new(),
            newest: 0,
            steps: 0,
        })
    }

    /// Brings the next of what the archive lacks. Whatever fails is done again in the next step.
    ///
    /// # Errors
    /// Where a side cannot be asked, or the archive has another run under a number of this spool.
    pub fn step(&mut self) -> Result<Step> {
        let local = match self.opened() {
            Err(LogbookError::Blank { .. }) => return Ok(Step::default()),
            local => local?,
        };
        let done = self.try_step(&local);
        if done.is_err() {
            // What is asked next begins with a new connection and from what the archive has then.
            self.archive = None;
        }
        // A file that nobody has open to write is read as it lies there: only once.
        if local.is_followed() {
            self.local = FileId::at(&self.spool).ok().flatten().map(|id| (local, id));
        }
        done
    }

    /// The spool to read it; as it is open already, if it is still that file.
    fn opened(&mut self) -> Result<Logbook> {
        match self.local.take() {
            Some((local, id)) if FileId::at(&self.spool).ok().flatten() == Some(id) => Ok(local),
            _ => Logbook::read(&self.spool),
        }
    }

    fn try_step(&mut self, local: &Logbook) -> Result<Step> {
        if self.archive.is_none() {
            self.archive = Some(self.lab.open()?);
            (self.steps, self.newest) = (0, 0);
            self.open.clear();
            self.underway.clear();
        }
        let Some(archive) = &mut self.archive else { return Ok(Step::default()) };
        let looks_again = self.steps.is_multiple_of(LOOK_AGAIN);
        self.steps = self.steps.wrapping_add(1);
        if looks_again {
            bring_snapshots(local, archive)?;
            self.open = differing(local, archive, &self.id)?;
        } else {
            self.open.extend(underway(local, self.newest, &self.underway)?);
        }
        self.newest = self.open.last().copied().unwrap_or(0).max(self.newest);
        let mut step = Step::default();
        // Of a long backlog the newest comes first, and everything has its turn.
        for run in self.open.clone().into_iter().rev() {
            if let Some(known) = self.underway.get_mut(&run) {
                match bring_news(local, archive, run, known)? {
                    Some(samples) => {
                        step.samples += samples;
                        if looks_again {
                            let (head, ..) = local.ends(run)?;
                            archive.together(|archive| {
                                bring_few(local, archive, run, known.to, &head)?;
                                local.sync();
                                Ok(())
                            })?;
                        }
                        continue;
                    }
                    None => drop(self.underway.remove(&run)),
                }
            }
            let brought = match bring(local, archive, &self.id, run) {
                // Nothing of it was kept; the next step reads it as it is now.
                Err(LogbookError::Changed { .. }) => {
                    step.more = true;
                    return Ok(step);
                }
                brought => brought?,
            };
            step.samples += brought.samples;
            step.waiting += brought.waiting;
            step.more |= brought.more;
            match brought.underway {
                _ if brought.more => {}
                Some(known) => drop(self.underway.insert(run, known)),
                None => {
                    self.open.remove(&run);
                    step.finished += 1;
                }
            }
        }
        Ok(step)
    }

    /// Requests of operators for runs of this spool that nobody has answered yet: their number, the run of the spool, who asks, and what.
    ///
    /// # Errors
    /// Where the archive cannot be asked.
    pub fn requests(&mut self) -> Result<Vec<Request>> {
        let Some(archive) = &self.archive else { return Ok(Vec::new()) };
        let statement = "SELECT q.id, r.local, q.who, q.request FROM requests q JOIN runs r ON r.id = q.run
             WHERE q.done IS NULL AND r.bench = current_user AND r.spool = ?1 AND r.local IS NOT NULL ORDER BY q.id";
        archive
            .rows(statement, values![&self.id], |row| {
                Ok(Request {
                    id: row.integer(0)?,
                    run: row.integer(1)?,
                    who: row.string(2)?,
                    request: row.string(3)?,
                })
            })
            .map_err(archive.wrap())
    }

    /// Marks a request as answered.
    ///
    /// # Errors
    /// Where the archive cannot be written.
    pub fn answered(&mut self, request: i64) -> Result<()> {
        let Some(archive) = &self.archive else { return Ok(()) };
        archive.execute("UPDATE requests SET done = now() WHERE id = ?1", values![request]).map(|_| ())
    }

    /// The number that a run of the spool has in the archive, if it is there.
    ///
    /// # Errors
    /// Where the archive cannot be asked.
    pub fn number(&mut self, run: i64) -> Result<Option<i64>> {
        let archive = match &self.archive {
            Some(archive) => archive,
            None => self.archive.insert(self.lab.open()?),
        };
        archived_as(archive, &self.id, run)
    }

    /// The run of the spool that has a number in the archive, if it is of this spool.
    ///
    /// # Errors
    /// Where the archive cannot be asked.
    pub fn run_of(&mut self, number: i64) -> Result<Option<i64>> {
        let archive = match &self.archive {
            Some(archive) => archive,
            None => self.archive.insert(self.lab.open()?),
        };
        let statement = "SELECT local FROM runs WHERE id = ?1 AND bench = current_user AND spool = ?2 AND local IS NOT NULL";
        archive.one(statement, values![number, &self.id], |row| row.integer(0))
    }
}

impl Drop for Forwarder {
    /// Whoever has a file open last carries its log over into it, and who only reads cannot.
    fn drop(&mut self) {
        if self.local.take().is_some() {
            let _ = Logbook::open_existing(&self.spool);
        }
    }
}

/// What an operator asks of a run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// Its number.
    pub id: i64,
    /// The run of the spool.
    pub run: i64,
    /// The role that asks.
    pub who: String,
    /// What it asks, as it was written.
    pub request: String,
}

/// The runs of the spool that are underway, or newer than one.
fn underway(local: &Logbook, newest: i64, known: &BTreeMap<i64, Underway>) -> Result<Vec<i64>> {
    let statement = "SELECT id, owner FROM runs WHERE status = 'underway' OR id > ?1";
    let read = |row: &dyn Row| Ok((row.integer(0)?, row.string(1)?));
    let runs = local.rows(statement, values![newest], read).map_err(local.wrap())?;
    // One whose process is gone has been brought as what it is.
    let goes_on =
        |(run, owner): &(i64, String)| *run > newest || known.contains_key(run) || local.is_written(owner);
    Ok(runs.into_iter().filter(goes_on).map(|r| r.0).collect())
}

/// The runs of the spool of which the archive has not what the spool has, as far as that can be counted.
fn differing(local: &Logbook, archive: &Logbook, id: &str) -> Result<BTreeSet<i64>> {
    let wrap = local.wrap();
    let read = |row: &dyn Row| Ok((row.integer(0)?, has(row, 1)?));
    let mine = local.rows(&format!("SELECT id, {HAS} FROM runs"), &[], read).map_err(&wrap)?;
    let mut mine: BTreeMap<i64, Has> = mine.into_iter().collect();
    let tags = local.rows("SELECT run, tag FROM tags", &[], |row| Ok((row.integer(0)?, row.string(1)?)));
    for (run, tag) in tags.map_err(wrap)? {
        if let Some(has) = mine.get_mut(&run) {
            has.tags.insert(tag);
        }
    }
    let theirs = if mine.is_empty() { BTreeMap::new() } else { archived(archive, id)? };
    let differs = |(run, has): &(&i64, &Has)| has.status == "underway" || theirs.get(run) != Some(has);
    Ok(mine.iter().filter(differs).map(|(run, _)| *run).collect())
}

/// What the archive has of this spool, by the runs of the spool.
fn archived(archive: &Logbook, id: &str) -> Result<BTreeMap<i64, Has>> {
    let wrap = archive.wrap();
    let of = "bench = current_user AND spool = ?1 AND local IS NOT NULL";
    let read = |row: &dyn Row| Ok((row.integer(0)?, has(row, 1)?));
    let runs = archive.rows(&format!("SELECT local, {HAS} FROM runs WHERE {of}"), values![id], read);
    let mut all: BTreeMap<i64, Has> = runs.map_err(&wrap)?.into_iter().collect();
    let tags = format!("SELECT local, tag FROM tags JOIN runs ON run = id WHERE {of}");
    let read = |row: &dyn Row| Ok((row.integer(0)?, row.string(1)?));
    for (local, tag) in archive.rows(&tags, values![id], read).map_err(wrap)? {
        if let Some(has) = all.get_mut(&local) {
            has.tags.insert(tag);
        }
    }
    Ok(all)
}

fn archived_as(archive: &Logbook, id: &str, run: i64) -> Result<Option<i64>> {
    let statement = "SELECT id FROM runs WHERE bench = current_user AND spool = ?1 AND local = ?2";
    archive.one(statement, values![id, run], |row| row.integer(0))
}

/// A row of the spool on its way: its first columns as numbers, and what it says.
#[derive(Clone, Debug)]
struct Carried {
    keys: Vec<i64>,
    bytes: Option<Vec<u8>>,
    text: Option<String>,
}

/// How the rows of a table are carried.
struct Table {
    name: &'static str,
    keys: &'static [&'static str],
    what: &'static str,
    is_text: bool,
}

const SAMPLES: Table =
    Table { name: "samples", keys: &["lane", "first", "count"], what: "data", is_text: false };
const EVENTS: Table = Table { name: "events", keys: &["lane", "seq"], what: "event", is_text: true };
const READINGS: Table = Table { name: "readings", keys: &["channel", "first"], what: "data", is_text: false };

impl Table {
    /// Rows of a run behind those that the other side has, of which this column of keys grows within the first.
    fn behind(&self, local: &Logbook, run: i64, group: i64, after: i64) -> Result<Vec<Carried>> {
        let (keys, order) = (self.keys.join(", "), self.keys[1]);
        let statement = format!(
            "SELECT {keys}, {} FROM {} WHERE run = ?1 AND {} = ?2 AND {order} > ?3 ORDER BY {order} LIMIT ?4",
            self.what, self.name, self.keys[0]
        );
        let read = |row: &dyn Row| self.carried(row);
        local.rows(&statement, values![run, group, after, AT_A_TIME], read).map_err(local.wrap_of(run))
    }

    fn carried(&self, row: &dyn Row) -> Answer<Carried> {
        let keys = (0..self.keys.len()).map(|i| row.integer(i)).collect::<Answer<_>>()?;
        let last = self.keys.len();
        Ok(match self.is_text {
            true => Carried { keys, bytes: None, text: Some(row.string(last)?) },
            false => Carried { keys, bytes: Some(row.bytes(last)?.to_vec()), text: None },
        })
    }

    /// The last key that the other side has, within each value of the first.
    fn last(&self, archive: &Logbook, run: i64) -> Result<BTreeMap<i64, i64>> {
        let statement = format!(
            "SELECT {0}, max({1}) FROM {2} WHERE run = ?1 GROUP BY {0}",
            self.keys[0], self.keys[1], self.name
        );
        let all = archive.rows(&statement, values![run], |row| Ok((row.integer(0)?, row.integer(1)?)));
        Ok(all.map_err(archive.wrap_of(run))?.into_iter().collect())
    }

    /// Puts rows in. One that is there already is the same and stays.
    fn put(&self, archive: &Logbook, run: i64, rows: &[Carried]) -> Result<()> {
        let columns = self.keys.len() + 2;
        // Few different statements, so that the server knows them; and one for what comes in a second.
        let mut rest = rows;
        while !rest.is_empty() {
            let n = if rest.len() >= MANY { MANY } else { rest.len().min(FEW) };
            let (now, later) = rest.split_at(n);
            rest = later;
            let mut values: Vec<Value<'_>> = Vec::with_capacity(n * columns);
            for row in now {
                values.push(run.into());
                values.extend(row.keys.iter().map(|k| Value::from(*k)));
                values.push(match (&row.text, &row.bytes) {
                    (Some(text), _) => text.into(),
                    (None, Some(bytes)) => bytes.into(),
                    (None, None) => Value::Null,
                });
            }
            let one = |i: usize| {
                let places: Vec<String> = (1..=columns).map(|c| format!("?{}", i * columns + c)).collect();
                format!("({})", places.join(", "))
            };
            let places: Vec<String> = (0..n).map(one).collect();
            let statement = format!(
                "INSERT INTO {} (run, {}, {}) VALUES {} ON CONFLICT DO NOTHING",
                self.name,
                self.keys.join(", "),
                self.what,
                places.join(", ")
            );
            archive.execute(&statement, &values)?;
        }
        Ok(())
    }

    /// What the other side lacks of the first `groups` groups, behind the last key that it has of each, and whether there is more. The last keys are moved
    /// on to what was read.
    fn lacking(
        &self,
        local: &Logbook,
        run: i64,
        groups: usize,
        last: &mut BTreeMap<i64, i64>,
    ) -> Result<(Vec<Carried>, bool)> {
        let (mut all, mut more) = (Vec::new(), false);
        for group in 0..groups as i64 {
            let rows = self.behind(local, run, group, last.get(&group).copied().unwrap_or(-1))?;
            if let Some(newest) = rows.last().and_then(|row| row.keys.get(1)) {
                last.insert(group, *newest);
            }
            more |= rows.len() == AT_A_TIME as usize;
            all.extend(rows);
        }
        Ok((all, more))
    }
}

/// What was brought of a run.
#[derive(Default)]
struct Brought {
    samples: u64,
    waiting: u64,
    more: bool,
    /// Of a run that is underway, what the archive has now.
    underway: Option<Underway>,
}

/// Brings what is new of a run that is underway and that the archive knows: what comes many times a minute. Gives how many samples; `None` where the
/// run has ended, or something else of it may have changed.
fn bring_news(local: &Logbook, archive: &mut Logbook, run: i64, known: &mut Underway) -> Result<Option<u64>> {
    let row = local.first("SELECT head, status, owner FROM runs WHERE id = ?1", values![run], |row| {
        Ok((row.text(0)? == known.head && row.text(1)? == "underway", row.string(2)?))
    });
    let Some((true, owner)) = row.map_err(local.wrap_of(run))? else { return Ok(None) };
    let (samples, more_samples) = SAMPLES.lacking(local, run, known.lanes, &mut known.samples)?;
    let (events, more_events) = EVENTS.lacking(local, run, known.lanes, &mut known.events)?;
    let (readings, more_readings) = READINGS.lacking(local, run, known.channels, &mut known.readings)?;
    if more_samples || more_events || more_readings || !local.is_as_it_was() {
        return Ok(None);
    }
    known.silent += 1;
    let tables = [(&SAMPLES, &samples), (&EVENTS, &events), (&READINGS, &readings)];
    let tables: Vec<_> = tables.into_iter().filter(|(_, rows)| !rows.is_empty()).collect();
    // Whoever has just written is there; whether somebody who has not is, the system is asked.
    if tables.is_empty() && !local.is_written(&owner) {
        return Ok(None);
    }
    let heard = known.silent >= TELL_AGAIN;
    if !tables.is_empty() {
        local.sync();
    }
    let put = |archive: &mut Logbook| {
        tables.iter().try_for_each(|(table, rows)| table.put(archive, known.to, rows))?;
        if heard {
            archive.execute("UPDATE runs SET heard = now() WHERE id = ?1", values![known.to])?;
        }
        Ok(())
    };
    // One statement is a transaction of its own.
    match (tables.as_slice(), heard) {
        ([(_, rows)], false) if rows.len() <= FEW => put(archive)?,
        _ => archive.together(put)?,
    }
    if heard {
        known.silent = 0;
    }
    Ok(Some(samples.iter().map(count).sum()))
}

/// Samples of a block.
fn count(block: &Carried) -> u64 {
    block.keys.get(2).copied().unwrap_or(0).unsigned_abs()
}

/// Brings what the archive lacks of a run, as much as one transaction takes.
fn bring(local: &Logbook, archive: &mut Logbook, id: &str, run: i64) -> Result<Brought> {
    let (head, status, outcomes) = local.ends(run)?;
    let row = local
        .first("SELECT head, status FROM runs WHERE id = ?1", values![run], |row| {
            Ok((row.string(0)?, row.string(1)?))
        })
        .map_err(local.wrap_of(run))?;
    let Some((text, mut word)) = row else { return Ok(Brought::default()) };
    if word == "underway" && status == mile_runner::Status::CutShort {
        // Its process is gone; nobody has opened the spool to write since.
        word = "cut_short".into();
    }
    archive.together(|archive| {
        let to = match archived_as(archive, id, run)? {
            Some(to) => to,
            None => enter(archive, id, run, &head, &text)?,
        };
        // Whoever else forwards this spool waits here.
        let known = archive.first(
            "SELECT head, status, started, course FROM runs WHERE id = ?1 FOR UPDATE",
            values![to],
            |row| Ok((row.string(0)?, row.string(1)?, row.integer(2)?, row.string(3)?)),
        );
        let known = known.map_err(archive.wrap_of(to))?;
        let Some((known_head, known_word, started, course)) = known else {
            return Err(archive.bad(to, &"it was erased from the archive"));
        };
        if (started, course.as_str()) != (head.started, head.course.as_str()) {
            return Err(archive.bad(
                to,
                &format!(
                    "it came as run {run} of the spool {}, which has another run of that number now; was the spool copied? Begin a new one",
                    local.path().display()
                ),
            ));
        }
        let (lanes, channels) = (head.lanes.len(), head.channels.len());
        let mut known = Underway {
            to,
            head: text.clone(),
            lanes,
            channels,
            samples: SAMPLES.last(archive, to)?,
            events: EVENTS.last(archive, to)?,
            readings: READINGS.last(archive, to)?,
            silent: 0,
        };
        let (samples, more_samples) = SAMPLES.lacking(local, run, lanes, &mut known.samples)?;
        let (events, more_events) = EVENTS.lacking(local, run, lanes, &mut known.events)?;
        let (readings, more_readings) = READINGS.lacking(local, run, channels, &mut known.readings)?;
        let more = more_samples || more_events || more_readings;
        SAMPLES.put(archive, to, &samples)?;
        EVENTS.put(archive, to, &events)?;
        READINGS.put(archive, to, &readings)?;
        if known_head != text {
            archive.amend_as(to, &head, &text)?;
        }
        bring_few(local, archive, run, to, &head)?;
        // It ends there when all of it is there.
        if !more {
            bring_ends(local, archive, run, to, &head, &outcomes)?;
            if known_word != word {
                archive.execute("UPDATE runs SET status = ?2 WHERE id = ?1", values![to, &word])?;
            }
        }
        archive.execute("UPDATE runs SET heard = now() WHERE id = ?1", values![to])?;
        // All of this was read from commits of the spool: before this is one, its disk has them.
        local.sync();
        // What was read of a file that somebody wrote to meanwhile may be torn.
        if !local.is_as_it_was() {
            return Err(LogbookError::Changed { path: local.path().to_owned() });
        }
        let brought: u64 = samples.iter().map(count).sum();
        let waiting = if more_samples { waiting(local, archive, run, to, lanes)? } else { 0 };
        let underway = (word == "underway").then_some(known);
        Ok(Brought { samples: brought, waiting, more, underway })
    })
}

fn waiting(local: &Logbook, archive: &Logbook, run: i64, to: i64, lanes: usize) -> Result<u64> {
    let mut waiting = 0;
    for lane in 0..lanes {
        waiting += local.samples_of(run, lane)?.saturating_sub(archive.samples_of(to, lane)?);
    }
    Ok(waiting)
}

/// Enters a run of a spool in the archive, unless it is there, and gives its number.
fn enter(archive: &mut Logbook, id: &str, run: i64, head: &RunHead, text: &str) -> Result<i64> {
    let entered = archive.one(
        "INSERT INTO runs (spool, local, started, course, drive, status, owner, head)
         VALUES (?1, ?2, ?3, ?4, ?5, 'underway', '', ?6)
         ON CONFLICT (bench, spool, local) DO NOTHING RETURNING id",
        values![id, run, head.started, &head.course, &head.drives(), text],
        |row| row.integer(0),
    )?;
    let to = match entered {
        Some(to) => to,
        None => archived_as(archive, id, run)?.ok_or_else(|| archive.bad(run, &"it was given no number"))?,
    };
    archive.amend_as(to, head, text)?;
    Ok(to)
}

/// Brings what there is little of: the health on the way, latencies of legs, tags, and whether it is off the list.
fn bring_few(local: &Logbook, archive: &mut Logbook, run: i64, to: i64, head: &RunHead) -> Result<()> {
    for lane in 0..head.lanes.len() {
        let known = archive.one(
            "SELECT max(at) FROM health WHERE run = ?1 AND lane = ?2",
            values![to, lane],
            |row| row.maybe_integer(0),
        )?;
        let known = known.flatten().map(i64::unsigned_abs);
        let shots: Vec<HealthShot> = local.healths(run, lane)?;
        for shot in shots.iter().filter(|s| known.is_none_or(|known| s.at.0 > known)) {
            archive.keep_health_of(to, head, lane, shot)?;
        }
        let statement = "SELECT leg, histogram FROM latencies WHERE run = ?1 AND lane = ?2";
        let both = |book: &Logbook, run: i64| {
            book.rows(statement, values![run, lane], |row| Ok((row.integer(0)?, row.bytes(1)?.to_vec())))
                .map_err(book.wrap_of(run))
                .map(|rows| rows.into_iter().collect::<BTreeMap<_, _>>())
        };
        let there = both(archive, to)?;
        for (leg, histogram) in both(local, run)? {
            if there.get(&leg) != Some(&histogram) {
                archive.keep_latency(to, lane, u32::try_from(leg).unwrap_or(u32::MAX), &histogram)?;
            }
        }
    }
    let (mine, theirs): (BTreeSet<_>, BTreeSet<_>) =
        (local.tags(run)?.into_iter().collect(), archive.tags(to)?.into_iter().collect());
    for tag in mine.difference(&theirs) {
        let statement = "INSERT INTO tags (run, tag) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        archive.execute(statement, values![to, tag])?;
    }
    for tag in theirs.difference(&mine) {
        archive.untag(to, tag)?;
    }
    let at = local.one("SELECT at FROM removed WHERE run = ?1", values![run], |row| row.integer(0))?;
    match at {
        Some(at) => archive.execute(
            "INSERT INTO removed (run, at) VALUES (?1, ?2) ON CONFLICT DO NOTHING",
            values![to, at],
        )?,
        None => archive.execute("DELETE FROM removed WHERE run = ?1", values![to])?,
    };
    Ok(())
}

/// Brings what the lanes of a run came to, where that differs; of one that goes on again there is nothing.
fn bring_ends(
    local: &Logbook,
    archive: &mut Logbook,
    run: i64,
    to: i64,
    head: &RunHead,
    outcomes: &[Option<Outcome>],
) -> Result<()> {
    let both = |book: &Logbook, run: i64| {
        let statement = "SELECT lane, outcome, digest FROM lanes WHERE run = ?1 ORDER BY lane";
        book.rows(statement, values![run], |row| {
            let text = |i| -> Answer<_> { Ok(row.maybe_text(i)?.map(str::to_owned)) };
            Ok((row.integer(0)?, text(1)?, text(2)?))
        })
        .map_err(book.wrap_of(run))
    };
    let rows = both(local, run)?;
    if rows == both(archive, to)? {
        return Ok(());
    }
    archive.execute("DELETE FROM lanes WHERE run = ?1", values![to])?;
    for (lane, outcome, digest) in &rows {
        let (model, serial, firmware) = crate::store::drive_of_lane(head, *lane as usize);
        archive.execute(
            "INSERT INTO lanes (run, lane, outcome, digest, model, serial, firmware)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            values![to, *lane, outcome.as_ref(), digest.as_ref(), model, serial, firmware],
        )?;
    }
    for (lane, outcome) in outcomes.iter().enumerate() {
        if let Some((o, health)) = outcome.as_ref().and_then(|o| Some((o, o.health.as_ref()?))) {
            archive.note_health(to, head, lane, o.at.secs(), (Moment::After, health))?;
        }
    }
    Ok(())
}

/// Brings the snapshots of drives that no run took.
fn bring_snapshots(local: &Logbook, archive: &mut Logbook) -> Result<()> {
    for drive in local.known_drives()? {
        let own: Vec<_> = local
            .snapshots_of(&drive.key)?
            .into_iter()
            .filter(|s| !matches!(s.origin, Origin::Run { .. }))
            .collect();
        if own.is_empty() {
            continue;
        }
        let there: BTreeSet<String> = archive.origins_of(&drive.key)?;
        let lacking: Vec<_> =
            own.into_iter().filter(|s| !there.contains(&crate::store::origin_key(s))).collect();
        if !lacking.is_empty() {
            local.sync();
            archive.keep_snapshots(&drive.key, &lacking)?;
        }
    }
    Ok(())
}

/// How long a forwarder waits between two steps that had nothing to bring, and after one that failed.
pub const PAUSE: Duration = Duration::from_millis(750);
/// See [`PAUSE`].
pub const AFTER_A_FAILURE: Duration = Duration::from_secs(5);
