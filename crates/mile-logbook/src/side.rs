//! A file beside the logbook's own disk for what the logbook does not take: a full disk, a lock that is held, a disk that is gone.
//!
//! The file is JSON Lines. The first line says which run of which logbook it belongs to, and the numbers of the first sample and event of
//! each lane ([`Belongs`]); each line after it is the number of a lane and a message as the runner tells it. A last line that is cut off is
//! left out. Files of version 1 are of one lane: numbers stand in the first line itself, and lines are messages.

use crate::archive::{Archive, Kept};
use crate::store::{Block, Logbook, LogbookError};
use mile_core::Sample;
use mile_core::sample::Order;
use mile_files::{FileError, Held};
use mile_runner::{Event, Message, Outcome, Status};
use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// What the first line of a file says.
const FORMAT: &str = "hollow-mile/log-aside";
/// Version of that.
const VERSION: u32 = 2;
/// Ending of its name.
pub const ENDING: &str = "log-aside";
/// Most that it may grow to: about a week at a sample a second. It is read into memory when it is brought back.
const MOST_BYTES: u64 = 256 << 20;

/// Where what is in a file belongs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Belongs {
    format: String,
    version: u32,
    /// The logbook.
    pub logbook: PathBuf,
    /// The run.
    pub run: i64,
    /// What the logbook had of each lane before what is in it.
    #[serde(default)]
    pub lanes: Vec<Kept>,
    #[serde(default, skip_serializing)]
    first_sample: u64,
    #[serde(default, skip_serializing)]
    first_event: u64,
}

/// A file that is being written.
#[derive(Debug)]
pub struct SideFile {
    held: Held,
    belongs: Belongs,
    bytes: u64,
}

/// What a file holds of a lane.
#[derive(Debug, Default)]
struct Contents {
    order: Order,
    samples: Vec<Sample>,
    events: Vec<Event>,
    others: Vec<Message>,
    ended: Option<Box<Outcome>>,
}

impl SideFile {
    /// Makes one in the first of these folders that takes it.
    pub fn make(folders: &[PathBuf], logbook: &Path, run: i64, lanes: Vec<Kept>) -> Option<Self> {
        let logbook = std::path::absolute(logbook).unwrap_or_else(|_| logbook.to_owned());
        let first_sample = lanes.first().map_or(0, |l| l.samples);
        let belongs = Belongs {
            format: FORMAT.into(),
            version: VERSION,
            logbook,
            run,
            lanes,
            first_sample: 0,
            first_event: 0,
        };
        let mut line = serde_json::to_vec(&belongs).ok()?;
        line.push(b'\n');
        folders.iter().find_map(|folder| {
            std::fs::create_dir_all(folder).ok()?;
            let name = format!("run-{run}-{}-{first_sample}.{ENDING}", std::process::id());
            let path = folder.join(name);
            let held = Held::create(&path, 0o600, |file| {
                (&mut &*file)
                    .write_all(&line)
                    .and_then(|()| file.sync_data())
                    .map_err(|source| FileError::Io { path: path.clone(), doing: "write", source })
            });
            Some(Self { held: held.ok()?, belongs: belongs.clone(), bytes: line.len() as u64 })
        })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        self.held.path()
    }

    /// Appends messages. Gives whether all of them are on the disk; where they are not, the file is as it was.
    pub fn append(&mut self, messages: &[(u32, Message)]) -> bool {
        let mut text = Vec::new();
        for message in messages {
            if serde_json::to_writer(&mut text, message).is_err() {
                return false;
            }
            text.push(b'\n');
        }
        if self.bytes + text.len() as u64 > MOST_BYTES {
            return false;
        }
        let mut file = self.held.file();
        let written = file
            .seek(SeekFrom::Start(self.bytes))
            .and_then(|_| file.write_all(&text))
            .and_then(|()| file.sync_data());
        if written.is_err() {
            // What lies behind is cut off; where not even that works, its last line is, and is left out when it is read.
            let _ = file.set_len(self.bytes);
            return false;
        }
        self.bytes += text.len() as u64;
        true
    }

    /// Writes what is in it to the logbook.
    ///
    /// # Errors
    /// Where the logbook does not take it. It is then all still here.
    pub(crate) fn bring_back(&self, book: &mut impl Archive) -> Result<(), LogbookError> {
        let (_, contents) = read(self.path())?;
        put(book, &self.belongs, &contents)
    }

    /// Takes the file away.
    pub(crate) fn remove(self) {
        // One that stays is listed, and is refused by the logbook, which has what is in it.
        let _ = self.held.remove();
    }
}

fn bad(path: &Path, why: impl Into<String>) -> LogbookError {
    LogbookError::BadAside { path: path.to_owned(), why: why.into() }
}

/// Where the contents of a file belong.
///
/// # Errors
/// Where it is no such file.
pub fn belongs(path: &Path) -> Result<Belongs, LogbookError> {
    let io = |source| LogbookError::Io { path: path.to_owned(), doing: "read", source };
    let mut line = String::new();
    let file = std::fs::File::open(path).map_err(io)?;
    std::io::Read::take(BufReader::new(file), 1 << 16).read_line(&mut line).map_err(io)?;
    let mut belongs: Belongs =
        serde_json::from_str(&line).map_err(|_| bad(path, "it does not begin as such a file does"))?;
    if belongs.format != FORMAT || !(1..=VERSION).contains(&belongs.version) {
        return Err(bad(path, "it is of a format that this version does not know"));
    }
    if belongs.version == 1 {
        belongs.lanes = vec![Kept { samples: belongs.first_sample, events: belongs.first_event }];
    }
    Ok(belongs)
}

fn read(path: &Path) -> Result<(Belongs, Vec<Contents>), LogbookError> {
    let io = |source| LogbookError::Io { path: path.to_owned(), doing: "read", source };
    let belongs = belongs(path)?;
    let mut lanes: Vec<Contents> = belongs.lanes.iter().map(|_| Contents::default()).collect();
    let file = std::fs::File::open(path).map_err(io)?;
    if file.metadata().map_err(io)?.len() > MOST_BYTES {
        return Err(bad(path, "it is longer than such a file can be"));
    }
    for line in BufReader::new(file).split(b'\n').skip(1) {
        let line = line.map_err(io)?;
        let Ok(line) = std::str::from_utf8(&line) else { break };
        let told = if belongs.version == 1 {
            serde_json::from_str(line).map(|message| (0, message))
        } else {
            serde_json::from_str::<(usize, Message)>(line)
        };
        // Cut off by the end of its process.
        let Ok((lane, message)) = told else { break };
        let contents = lanes.get_mut(lane).ok_or_else(|| bad(path, "it has a lane that its run has not"))?;
        match message {
            Message::Sample(sample) => {
                contents.order.take(&sample).map_err(|why| bad(path, why))?;
                contents.samples.push(sample);
            }
            Message::Event(event) => contents.events.push(event),
            Message::Ended(outcome) => contents.ended = Some(outcome),
            other => contents.others.push(other),
        }
    }
    Ok((belongs, lanes))
}

fn put(book: &mut impl Archive, belongs: &Belongs, lanes: &[Contents]) -> Result<(), LogbookError> {
    let run = belongs.run;
    for (lane, contents) in lanes.iter().enumerate() {
        for other in &contents.others {
            match other {
                Message::Began(head) => book.amend(run, head)?,
                Message::Health(shot) => book.keep_health(run, lane, shot)?,
                Message::LegLatency(leg, histogram) => book.keep_latency(run, lane, *leg, histogram)?,
                Message::Reading(channel, reading) => {
                    book.keep_readings(run, *channel, std::slice::from_ref(reading))?;
                }
                _ => {}
            }
        }
    }
    // Last, and in one transaction: a second try may do again what is above, and finds all of this or nothing.
    let number = |(contents, kept): (&Contents, &Kept)| -> Vec<(u64, Event)> {
        (kept.events..).zip(contents.events.iter().cloned()).collect()
    };
    let events: Vec<Vec<(u64, Event)>> = lanes.iter().zip(&belongs.lanes).map(number).collect();
    let blocks: Vec<Block<'_>> = lanes
        .iter()
        .zip(&belongs.lanes)
        .zip(&events)
        .enumerate()
        .map(|(lane, ((contents, kept), events))| Block {
            lane,
            first: kept.samples,
            samples: &contents.samples,
            events,
        })
        .filter(|b| !b.samples.is_empty() || !b.events.is_empty())
        .collect();
    if blocks.is_empty() { Ok(()) } else { book.append(run, &blocks) }
}

/// Brings what is in a file into the logbook that it belongs to, and takes the file away. Gives where that was.
///
/// # Errors
/// Where the file cannot be read, where its run is still underway or has these samples already, or where the logbook does not
/// take it.
pub fn recover(path: &Path) -> Result<Belongs, LogbookError> {
    let held = Held::open(path)?;
    let (belongs, contents) = read(path)?;
    let mut book = Logbook::open_existing(&belongs.logbook)?;
    let (_, status, _) = book.ends(belongs.run)?;
    if status == Status::Underway {
        return Err(bad(path, format!("run {} is underway, and will take it in by itself", belongs.run)));
    }
    for (lane, kept) in belongs.lanes.iter().enumerate() {
        let has = book.samples_of(belongs.run, lane)?;
        if has != kept.samples {
            return Err(bad(
                path,
                format!(
                    "run {} has {has} samples, and what is in it follows on {}: the logbook has it already, or is another",
                    belongs.run, kept.samples
                ),
            ));
        }
    }
    put(&mut book, &belongs, &contents)?;
    let ended: Vec<Option<Outcome>> = contents.into_iter().map(|c| c.ended.map(|o| *o)).collect();
    let known: Vec<(&str, &Outcome)> = ended.iter().flatten().map(|o| ("", o)).collect();
    let all = (known.len() == ended.len()).then(|| Outcome::of_lanes(&known)).flatten();
    book.finish(belongs.run, all.map_or(Status::CutShort, |o| o.status), &ended)?;
    held.remove()?;
    Ok(belongs)
}
