//! What the runner knows of a drive.

use crate::health::Health;
use crate::tally::Tally;
use mile_core::{Bytes, Celsius, Nanos, Op, Rate, Throttled};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// Who a drive is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Identity {
    /// How it is named on the command line: `sim:merrow-k2`, or a path.
    pub name: String,
    /// Model.
    pub model: String,
    /// Serial number, where there is one.
    pub serial: Option<String>,
    /// Firmware revision, where there is one.
    pub firmware: Option<String>,
    /// What kind it is, in words: `NVMe, three-bit flash`, `file on ext4`.
    pub kind: String,
    /// Whether it is simulated.
    pub simulated: bool,
    /// How it is attached, where that is known.
    pub link: Option<Link>,
}

/// A link as it came up, against what drive and port could do.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Link {
    /// As it came up: `PCIe 4.0 x4`.
    pub negotiated: String,
    /// What drive and port could both do.
    pub possible: String,
    /// Most that it carries, its encoding allowed for.
    pub ceiling: Rate,
    /// Most that it could carry.
    #[serde(default)]
    pub possible_ceiling: Option<Rate>,
    /// What the drive could do, where that is known.
    #[serde(default)]
    pub drive: Option<String>,
    /// What the port could do, where that is known.
    #[serde(default)]
    pub port: Option<String>,
}

impl Link {
    /// Whether it came up at less than drive and port could do.
    pub fn is_degraded(&self) -> bool {
        match self.possible_ceiling {
            Some(possible) => self.ceiling.0 < possible.0 * 0.999,
            None => self.negotiated != self.possible,
        }
    }

    /// How it came up against what could be, and what it so carries, in one sentence without its full stop.
    pub fn sentence(&self) -> String {
        let carries = format!("at most {}", self.ceiling);
        if self.is_degraded() {
            let lost = self.possible_ceiling.map_or(String::new(), |p| format!(" instead of {p}"));
            return format!(
                "{}, degraded: drive and port could do {}; it carries {carries}{lost}",
                self.negotiated, self.possible
            );
        }
        match (&self.drive, &self.port) {
            (Some(drive), Some(port)) if *drive != self.negotiated => {
                format!(
                    "{}, all that its port ({port}) can do, while the drive could do {drive}; it carries {carries}",
                    self.negotiated
                )
            }
            _ => format!("{}, as it could be; it carries {carries}", self.negotiated),
        }
    }
}

/// What planning needs to know.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Facts {
    /// Bytes that can be addressed.
    pub capacity: Bytes,
    /// Smallest unit of an operation.
    pub logical_block: Bytes,
    /// Whether a temperature can be read.
    pub has_temperature: bool,
    /// Whether what is on it may be read without being written first.
    pub readable: bool,
}

/// Limits that a drive declares.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Limits {
    /// Temperature from which it warns.
    pub warn: Option<Celsius>,
    /// Temperature from which it is critical.
    pub critical: Option<Celsius>,
}

/// What is claimed of a drive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Claims {
    /// Rated sequential write rate.
    pub write: Option<Rate>,
    /// Rated sequential read rate.
    pub read: Option<Rate>,
    /// Rated endurance, bytes written over its life.
    pub endurance: Option<Bytes>,
}

/// The conditions of a run.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Situation {
    /// Slot or port.
    pub slot: Option<String>,
    /// Cooling.
    pub cooling: Option<String>,
    /// Ambient temperature.
    pub ambient: Option<Celsius>,
    /// Enclosure.
    pub enclosure: Option<String>,
    /// Anything else.
    pub notes: Option<String>,
}

impl Situation {
    /// The conditions in one line, parted by commas; empty where none is known.
    pub fn line(&self) -> String {
        let ambient = self.ambient.map(|a| format!("{a} ambient"));
        let all = [&self.slot, &self.cooling, &ambient, &self.enclosure, &self.notes];
        all.into_iter().flatten().cloned().collect::<Vec<_>>().join(", ")
    }
}

/// Readings at one moment. A missing one is `None`, never 0.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Readings {
    /// Composite temperature.
    pub temp: Option<Celsius>,
    /// Ambient temperature.
    pub ambient: Option<Celsius>,
    /// Time throttled since the drive was opened.
    pub throttled: Option<Throttled>,
    /// Share of the drive in use, 0 to 1.
    pub fill: Option<f64>,
    /// All bytes that the disk has moved since it was opened, by anybody.
    pub disk_moved: Option<Bytes>,
}

/// Reads or writes to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Transfer {
    /// Which.
    pub op: Op,
    /// Whether addresses are uniformly random; else they ascend and start again at the front.
    pub random: bool,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Operations in flight.
    pub depth: u32,
    /// First byte that may be touched.
    pub start: Bytes,
    /// Bytes from there that may be touched; a multiple of the block.
    pub length: Bytes,
    /// Bytes to move; a multiple of the block.
    pub budget: Bytes,
    /// Bytes behind `start` at which a sequential transfer begins: where it was left when it goes on after a pause. A
    /// multiple of the block, below `length`.
    pub skip: Bytes,
}

/// Something that a simulated drive knows it did.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TruthEvent {
    /// Seconds since it was opened.
    pub at_s: f64,
    /// Bytes that the host had moved by then.
    pub at_bytes: u64,
    /// What.
    pub what: TruthKind,
    /// Composite temperature before rounding, °C.
    pub temp_c: f64,
}

/// What a simulated drive did.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TruthKind {
    /// The write cache became full.
    CacheFull,
    /// It had room again.
    CacheBack,
    /// Light throttling began.
    LightOn,
    /// Light throttling ended.
    LightOff,
    /// Heavy throttling began.
    HeavyOn,
    /// Heavy throttling ended.
    HeavyOff,
}

/// What really happened in a simulated run.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Truth {
    /// In the order of time.
    pub events: Vec<TruthEvent>,
}

/// Why a drive would not, or could not.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum DriveError {
    #[error(
        "no simulated drive is called `{name}`; there are {known}, and `sim:PATH.toml` takes a model of your own"
    )]
    UnknownModel { name: String, known: String },
    #[error("the drive model {path} cannot be read: {why}")]
    BadModel { path: String, why: String },
    #[error("{path}: {why}")]
    Refused { path: PathBuf, why: String },
    #[error("{path}: cannot {doing}: {source}")]
    Io { path: PathBuf, doing: &'static str, source: std::io::Error },
    #[error("a {op} of {length} at byte {offset} failed: {source}")]
    Operation { op: &'static str, offset: Bytes, length: Bytes, source: std::io::Error },
    #[error(
        "no operation came back for {limit}; {in_flight} are still out, the oldest at byte {offset}. The drive, or what it is attached to, has stopped answering"
    )]
    Stalled { limit: Nanos, in_flight: usize, offset: Bytes },
    #[error(
        "{depth} blocks of {block} in flight take {need} of memory, more than the {limit} allowed: use a smaller depth or block"
    )]
    TooMuchMemory { depth: u32, block: Bytes, need: Bytes, limit: Bytes },
    #[error("{why}")]
    Unusable { why: String },
}

/// A drive, real or simulated.
///
/// The order of calls is `open`, then for each leg either `idle` or `begin` with `advance` until it says that the budget is
/// used up, `drain` where it is ended before that, and `close`. Time is the drive's own: virtual for a simulated one.
pub trait Drive: Send {
    /// Who it is.
    fn identity(&self) -> &Identity;

    /// What planning needs to know.
    fn facts(&self) -> Facts;

    /// Limits that it declares.
    fn limits(&self) -> Limits {
        Limits::default()
    }

    /// What is claimed of it.
    fn claims(&self) -> Claims {
        Claims::default()
    }

    /// The conditions that it knows of.
    fn situation(&self) -> Situation {
        Situation::default()
    }

    /// Whether its time is virtual, so that it may run faster than the clock on the wall.
    fn is_virtual(&self) -> bool;

    /// Makes it ready. Nothing is written before this.
    fn open(&mut self) -> Result<(), DriveError>;

    /// How it moves data, in words for the log: `io_uring, registered buffers and file`.
    fn engine(&self) -> String;

    /// Time since it was opened.
    fn now(&self) -> Nanos;

    /// Lets time pass without load until `until`.
    fn idle(&mut self, until: Nanos);

    /// Begins reads or writes.
    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError>;

    /// Goes on with them until `until` at the latest, and adds what completed to `tally`. Gives whether the budget
    /// is used up and nothing is in flight.
    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError>;

    /// Starts nothing new, and waits for what is in flight.
    fn drain(&mut self, tally: &mut Tally) -> Result<(), DriveError>;

    /// Readings now.
    fn readings(&mut self) -> Readings;

    /// Its health now, where it tells.
    fn health(&mut self) -> Option<Health> {
        None
    }

    /// Gives it back, and takes away what was made for the run, unless `keep`.
    fn close(&mut self, keep: bool) -> Result<(), DriveError>;

    /// What really happened; `None` for a real drive.
    fn truth(&self) -> Option<Truth> {
        None
    }
}
