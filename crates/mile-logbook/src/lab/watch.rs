//! A run that is underway elsewhere, followed in the archive of its lab: what was told of it, again and again what is new.

use crate::store::engine::{Row, values};
use crate::store::{Logbook, LogbookError, SAMPLES_VERSION};
use mile_core::channel::Reading;
use mile_core::{Nanos, Sample};
use mile_runner::{Event, Message, RunHead, Status};
use std::path::Path;

type Result<T> = std::result::Result<T, LogbookError>;

/// A run that is followed.
#[derive(Debug)]
pub struct Following {
    book: Logbook,
    run: i64,
    head: RunHead,
    lanes: Vec<Seen>,
    /// Time of the last reading of each channel.
    channels: Vec<Option<u64>>,
    over: bool,
    notice: Notice,
}

/// Whether the archive tells of what is new.
#[derive(Clone, Copy, Debug)]
struct Notice {
    /// Whether it said so.
    listens: bool,
    /// Times that nothing is told before it is looked all the same.
    patience: u32,
    /// Times that it was asked for news since the last look.
    quiet: u32,
    /// Looks in a row that found something of which nothing was told.
    missed: u32,
}

/// Times that nothing is told of a run before it is looked at all the same, and the same for the list of runs, of which it is asked less often.
const QUIET: u32 = 50;
const QUIET_LIST: u32 = 5;
/// Looks that found what nothing told of, after which nothing is relied on.
const MISSED: u32 = 2;

/// What is new of any run in an archive.
#[derive(Debug)]
pub struct News {
    book: Logbook,
    notice: Notice,
}

impl News {
    /// Begins to listen.
    ///
    /// # Errors
    /// Where the archive cannot be reached.
    pub fn begin(archive: &Path) -> Result<Self> {
        let book = Logbook::read(archive)?;
        let notice = Notice::of(&book, QUIET_LIST)?;
        Ok(Self { book, notice })
    }

    /// As [`Following::is_due`], for all runs.
    ///
    /// # Errors
    /// Where the archive cannot be reached.
    pub fn is_due(&mut self) -> Result<bool> {
        self.notice.is_due(&self.book, |_| true)
    }

    /// Says whether a look found something new.
    pub fn looked(&mut self, found: bool) {
        self.notice.looked(found);
    }
}

/// What was told of a lane.
#[derive(Clone, Copy, Debug, Default)]
struct Seen {
    samples: u64,
    events: u64,
}

/// A message, and the lane that it is of.
pub type Told = (u32, Message);

impl Notice {
    fn of(book: &Logbook, patience: u32) -> Result<Self> {
        Ok(Self { listens: book.listen()?, patience, quiet: 0, missed: 0 })
    }

    fn is_due(&mut self, book: &Logbook, counts: impl Fn(i64) -> bool) -> Result<bool> {
        if !self.listens {
            return Ok(true);
        }
        let told = book.told()?.into_iter().any(counts);
        if told {
            (self.quiet, self.missed) = (0, 0);
        }
        self.quiet += 1;
        Ok(told || self.quiet >= self.patience)
    }

    /// A look that nothing had told of, and that found something, means that what is told does not come here.
    fn looked(&mut self, found: bool) {
        if self.quiet >= self.patience && found {
            self.missed += 1;
            self.listens &= self.missed < MISSED;
        }
        self.quiet = 0;
    }
}

impl Following {
    /// Begins to follow a run.
    ///
    /// # Errors
    /// Where the archive cannot be read, or there is no such run.
    pub fn begin(archive: &Path, run: i64) -> Result<Self> {
        let book = Logbook::read(archive)?;
        let (head, ..) = book.ends(run)?;
        let (lanes, channels) = (vec![Seen::default(); head.lanes.len()], vec![None; head.channels.len()]);
        let notice = Notice::of(&book, QUIET)?;
        Ok(Self { book, run, head, lanes, channels, over: false, notice })
    }

    /// Whether the archive tells of what is new, so that it may be asked often; otherwise each look is a question to it.
    pub fn is_told(&self) -> bool {
        self.notice.listens
    }

    /// Whether it is time to look for more: the archive told of the run, or does not tell, or has told nothing for long.
    ///
    /// # Errors
    /// Where the archive cannot be reached.
    pub fn is_due(&mut self) -> Result<bool> {
        let run = self.run;
        self.notice.is_due(&self.book, |told| told == run)
    }

    /// What was known of the run when it began.
    pub fn head(&self) -> &RunHead {
        &self.head
    }

    /// Whether it has ended, and all of it was told.
    pub fn is_over(&self) -> bool {
        self.over
    }

    /// Goes on through a new connection, behind what was told.
    ///
    /// # Errors
    /// Where the archive cannot be reached.
    pub fn reconnect(&mut self, archive: &Path) -> Result<()> {
        self.book = Logbook::read(archive)?;
        self.notice = Notice::of(&self.book, QUIET)?;
        Ok(())
    }

    /// Seconds since the archive heard of the bench, where nobody can say any more whether the run goes on.
    ///
    /// # Errors
    /// Where the archive cannot be read.
    pub fn silent(&self) -> Result<Option<u64>> {
        self.book.silent(self.run)
    }

    /// What is new since it was asked for last.
    ///
    /// # Errors
    /// Where the archive cannot be read.
    pub fn more(&mut self) -> Result<Vec<Told>> {
        let mut all = Vec::new();
        // How it stands is read first: what is read behind that is then all there is of a run that has ended.
        let (_, status, outcomes) = self.book.ends(self.run)?;
        for channel in 0..self.channels.len() {
            let new = self.readings(channel)?;
            all.extend(new.into_iter().map(|r| (0, Message::Reading(channel as u32, r))));
        }
        for lane in 0..self.lanes.len() {
            let (samples, events) = (self.samples(lane)?, self.events(lane)?);
            let told = mile_runner::remote::in_order(samples, events);
            all.extend(told.map(|message| (lane as u32, message)));
        }
        if status != Status::Underway && !self.over {
            self.over = true;
            for (lane, outcome) in outcomes.into_iter().enumerate() {
                all.extend(outcome.map(|o| (lane as u32, Message::Ended(Box::new(o)))));
            }
        }
        self.notice.looked(!all.is_empty());
        Ok(all)
    }

    fn samples(&mut self, lane: usize) -> Result<Vec<Sample>> {
        let Some(seen) = self.lanes.get_mut(lane) else { return Ok(Vec::new()) };
        let mut new: Vec<Sample> = Vec::new();
        let statement =
            "SELECT data FROM samples WHERE run = ?1 AND lane = ?2 AND first >= ?3 ORDER BY first";
        let mut take = |row: &dyn Row| {
            if let Some((&SAMPLES_VERSION, rest)) = row.bytes(0)?.split_first()
                && let Ok(block) = mile_core::sample::unpacked(rest)
            {
                new.extend(block);
            }
            Ok(())
        };
        let asked = self.book.db_each(statement, values![self.run, lane, seen.samples], &mut take);
        asked.map_err(self.book.wrap_of(self.run))?;
        seen.samples += new.len() as u64;
        Ok(new)
    }

    fn events(&mut self, lane: usize) -> Result<Vec<Event>> {
        let Some(seen) = self.lanes.get_mut(lane) else { return Ok(Vec::new()) };
        let statement = "SELECT event FROM events WHERE run = ?1 AND lane = ?2 AND seq >= ?3 ORDER BY seq";
        let texts = self.book.rows(statement, values![self.run, lane, seen.events], |row| row.string(0));
        let texts = texts.map_err(self.book.wrap_of(self.run))?;
        seen.events += texts.len() as u64;
        Ok(texts.iter().filter_map(|text| serde_json::from_str(text).ok()).collect())
    }

    fn readings(&mut self, channel: usize) -> Result<Vec<Reading>> {
        let Some(last) = self.channels.get_mut(channel) else { return Ok(Vec::new()) };
        let after = last.map_or(-1, u64::cast_signed);
        let statement =
            "SELECT data FROM readings WHERE run = ?1 AND channel = ?2 AND first > ?3 ORDER BY first";
        let blocks = self.book.rows(statement, values![self.run, channel, after], |row| {
            let rest = row.bytes(0)?.get(1..).unwrap_or_default();
            Ok(postcard::from_bytes::<Vec<(u64, f64)>>(rest).unwrap_or_default())
        });
        let blocks = blocks.map_err(self.book.wrap_of(self.run))?;
        // A block is known by the time of its first reading.
        if let Some((first, _)) = blocks.last().and_then(|block| block.first()) {
            *last = Some(*first);
        }
        Ok(blocks.into_iter().flatten().map(|(at, value)| Reading { at: Nanos(at), value }).collect())
    }
}
