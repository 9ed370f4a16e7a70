//! What the runner knows of a drive.

pub use crate::failure::{Failure, Mismatch, Narrowed, Wrong};
use crate::health::Health;
pub use crate::identity::{Identity, Link};
use crate::pending::Pending;
use crate::pipe::PipeEnd;
use crate::selftest::TestKind;
use crate::tally::Tally;
use mile_core::files::{FileFigures, FilesOp};
use mile_core::{Bytes, Celsius, Nanos, Rate, RunId, Throttled, Workload};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

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
    /// The host's memory, where transfers can be led through its cache; `None` where they cannot.
    #[serde(default)]
    pub cache: Option<Bytes>,
    /// Bytes for files of the run beside the one that is addressed; `None` where it is on no file system.
    #[serde(default)]
    pub files: Option<Bytes>,
    /// How much of its file system is in use, percent; `None` where it is on none.
    #[serde(default)]
    pub in_use: Option<u8>,
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
    /// Bits of the critical warning, where the drive has one.
    pub warning: Option<u8>,
}

/// Reads or writes to do.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Transfer {
    /// How blocks are moved. Through the host's cache only where [`Facts::cache`] says that it can be.
    pub load: Workload,
    /// Whether what is read is held against what this run wrote there.
    pub verify: bool,
    /// Whether what is written is marked so finely that it can be verified to the block.
    pub sealed: bool,
    /// Time after which an operation that is not back counts as lost.
    pub patience: Nanos,
    /// First byte that may be touched.
    pub start: Bytes,
    /// Bytes from there that may be touched; a multiple of the block.
    pub length: Bytes,
    /// Bytes to move; a multiple of the block.
    pub budget: Bytes,
    /// Bytes behind `start` at which a sequential transfer begins: where it was left when it goes on after a pause. A
    /// multiple of the block, below `length`.
    pub skip: Bytes,
    /// Number of this pass over the drive, by which older data is told from newer.
    pub pass: u32,
}

/// Work on whole files to do.
#[derive(Clone, Debug, PartialEq)]
pub struct FilesWork {
    /// What.
    pub op: FilesOp,
    /// The leg that does it: its files have numbers of their own, so that they are known again after an interruption.
    pub leg: u32,
    /// Bytes that the leg had read before it was interrupted; 0 otherwise.
    pub done: Bytes,
    /// The size of each file that is written, in bytes; none for other work.
    pub sizes: Vec<u64>,
    /// Bytes of one operation, a multiple of 4 KiB where the host's cache is passed.
    pub block: Bytes,
    /// Workers, each with one file at a time.
    pub workers: u32,
    /// Whether each file is synced before it is closed.
    pub sync_each: bool,
    /// Whether the file system is synced when all of them are written.
    pub sync_at_end: bool,
    /// Whether it goes through the host's cache.
    pub cached: bool,
    /// The folder that is copied in, or read alone.
    pub source: Option<PathBuf>,
    /// Most that may be written, bytes; `None` where nothing limits it.
    pub at_most: Option<Bytes>,
    /// Time after which an operation that is not back counts as lost.
    pub patience: Nanos,
}

/// No operation may be out longer than this, where a course says nothing else.
pub const PATIENCE: Nanos = Nanos(30_000_000_000);

impl Default for Transfer {
    fn default() -> Self {
        Self {
            load: Workload::default(),
            verify: false,
            sealed: false,
            patience: PATIENCE,
            start: Bytes(0),
            length: Bytes(0),
            budget: Bytes(0),
            skip: Bytes(0),
            pass: 0,
        }
    }
}

impl Transfer {
    /// Refuses a transfer that does not keep to whole blocks, or that reaches outside the drive.
    pub fn check(&self, capacity: Bytes, logical_block: Bytes) -> Result<(), DriveError> {
        let unusable = |why: String| Err(DriveError::Unusable { why });
        let (block, logical) = (self.load.block.0, logical_block.0.max(1));
        if block == 0 || !block.is_multiple_of(logical) {
            let unit = mile_core::units::block_size(logical_block);
            let size = mile_core::units::block_size(self.load.block);
            return unusable(format!(
                "blocks of {size} cannot be moved past the host's cache; use a multiple of {unit}"
            ));
        }
        let whole = self.length.0.is_multiple_of(block)
            && self.budget.0.is_multiple_of(block)
            && self.skip.0.is_multiple_of(block);
        if !whole || !self.start.0.is_multiple_of(logical) || self.length.0 == 0 {
            return unusable(format!(
                "a transfer of {} from {} does not keep to whole blocks",
                self.length, self.start
            ));
        }
        if self.start.0.checked_add(self.length.0).is_none_or(|end| end > capacity.0) {
            return unusable(format!(
                "a transfer from {} over {} reaches behind the end at {capacity}",
                self.start, self.length
            ));
        }
        if self.load.workers == 0
            || self.load.depth == 0
            || u64::from(self.load.workers) > self.length.0 / block
        {
            return unusable(format!(
                "{} workers cannot share {} blocks",
                self.load.workers,
                self.length.0 / block
            ));
        }
        Ok(())
    }
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
    /// Space ran short behind it, so that it is folded while writes come in.
    FoldingOn,
    /// Light throttling began.
    LightOn,
    /// Light throttling ended.
    LightOff,
    /// Heavy throttling began.
    HeavyOn,
    /// Heavy throttling ended.
    HeavyOff,
}

/// What is true of the instruments of a drive.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct InstrumentTruth {
    /// Time constant with which the thermocouple follows the die, seconds.
    pub probe_lag_s: f64,
    /// What it shows too much, K.
    pub probe_offset_k: f64,
    /// Standard deviation of its noise, K.
    pub probe_noise_k: f64,
    /// Energy that the drive has taken since it was opened, J.
    pub energy_j: f64,
}

/// What really happened in a simulated run.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Truth {
    /// In the order of time.
    pub events: Vec<TruthEvent>,
    /// Stretches that read slower than their surroundings, from and to.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hollows: Vec<(u64, u64)>,
    /// What is true of the instruments that were put to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instruments: Option<InstrumentTruth>,
}

/// The address of an operation behind a word; nothing for one on a file, which has none.
fn place(offset: &Option<Bytes>) -> String {
    offset.map_or(String::new(), |at| format!(" at byte {}", at.0))
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
        "no operation came back for {limit}; {in_flight} are still out, the oldest{}. The drive, or what it is attached to, has stopped answering",
        place(offset)
    )]
    Stalled { limit: Nanos, in_flight: usize, offset: Option<Bytes> },
    #[error(
        "{depth} blocks of {block} in flight take {need} of memory, more than the {limit} allowed: use a smaller depth or block"
    )]
    TooMuchMemory { depth: u32, block: Bytes, need: Bytes, limit: Bytes },
    #[error("the drive {name} has left: {why}")]
    Left { name: String, why: String },
    #[error("{what}: not offered by this drive")]
    NotOffered { what: &'static str },
    #[error("{why}")]
    Unusable { why: String },
    #[error(transparent)]
    File(#[from] mile_files::FileError),
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

    /// Says how it is set up, as far as a person said so, before it is opened. A real drive is as it is; a simulated one is set up so, and gives what of it
    /// it cannot do.
    fn set_up(&mut self, _said: &Situation) -> Option<String> {
        None
    }

    /// Whether its time is virtual, so that it may run faster than the clock on the wall.
    fn is_virtual(&self) -> bool;

    /// Says what the run will write over, first byte and length of each stretch, so that a drive that holds data is looked at there before it is opened.
    fn will_write_over(&mut self, _stretches: &[(Bytes, Bytes)]) {}

    /// Refuses where a person has not allowed what the run is about to do: `writes` is whether it writes. Writes nothing.
    fn check_consent(&mut self, _writes: bool) -> Result<(), DriveError> {
        Ok(())
    }

    /// Says which run it writes for: the identity that is in each of its stamps. A new one of its own where this is not called.
    fn set_run(&mut self, _run: RunId) {}

    /// Whether what the run wrote at an address, the start of one of its blocks, is there. A simulated drive keeps nothing, and holds all.
    ///
    /// # Errors
    /// Where the address cannot be read.
    fn holds(&mut self, _at: Bytes) -> Result<bool, DriveError> {
        Ok(true)
    }

    /// Sets the time at which it will be opened, for a run that goes on. 0 where this is not called.
    fn start_at(&mut self, at: Nanos);

    /// Has an open drive go by a clock that others go by too. A simulated one has a time of its own.
    fn set_clock(&mut self, _clock: crate::clock::Monotonic) {}

    /// Temperature of its body, °C, by which it warms what stands beside it; `None` for a real drive, which needs no telling.
    fn warmth(&self) -> Option<f64> {
        None
    }

    /// Says how warm those beside it are now, °C.
    fn stand_beside(&mut self, _others: &[Option<f64>]) {}

    /// Whether its medium was made anew when it was opened, so that nothing of a run that goes on can be on it.
    fn is_new(&self) -> bool {
        false
    }

    /// Makes it ready. Nothing is written before this.
    fn open(&mut self) -> Result<(), DriveError>;

    /// How it moves data, in words for the log: `io_uring, registered buffers and file`.
    fn engine(&self) -> String;

    /// Time since it was opened.
    fn now(&self) -> Nanos;

    /// Lets time pass without load until `until`.
    fn idle(&mut self, until: Nanos);

    /// Makes the transfers that begin from now on one side of a copy, or ends that. Such a transfer is sequential and has one worker.
    fn join(&mut self, end: Option<PipeEnd>);

    /// Begins reads or writes.
    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError>;

    /// Begins work on whole files, or goes on with it after it was drained; [`Drive::advance`] and [`Drive::drain`] are for it then.
    ///
    /// # Errors
    /// Where the drive is on no file system; what the file system says.
    fn begin_files(&mut self, _work: &FilesWork, _again: bool) -> Result<(), DriveError> {
        Err(DriveError::NotOffered { what: "work with whole files" })
    }

    /// How many files of the run are there, and their bytes; `None` where there are none and never were any.
    fn files_there(&self) -> Option<(u64, Bytes)> {
        None
    }

    /// Ends work on whole files, and gives what it came to, and whether it ended as no more may be written.
    fn end_files(&mut self) -> Option<(FileFigures, bool)> {
        None
    }

    /// Goes on with them until `until` at the latest, and adds what completed to `tally`. Gives whether the budget
    /// is used up and nothing is in flight. Comes back early where an operation failed; that is in the tally, and no error.
    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError>;

    /// Starts nothing new, and waits until `until` at the latest for what is in flight. Gives whether all of it is back.
    ///
    /// # Errors
    /// As [`Drive::advance`].
    fn drain(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError>;

    /// Leaves what is in flight to itself. Nothing more is asked of the drive but to close it.
    fn abandon(&mut self) {}

    /// Names and units of further channels that it gives, beside its readings.
    fn channels(&self) -> Vec<(String, String)> {
        Vec::new()
    }

    /// The readings of those now, in their order.
    fn channel_readings(&mut self) -> Vec<Option<f64>> {
        Vec::new()
    }

    /// Puts the instruments of the simulated bench to it; a real drive has none of that kind.
    fn put_instruments(&mut self) {}

    /// Readings now.
    fn readings(&mut self) -> Readings;

    /// Tries the parts of an operation that failed, down to single logical blocks, for as long as `patience` lasts. Nothing outside of it is touched.
    fn narrow(&mut self, _failure: &Failure, _patience: Nanos) -> Pending<Narrowed> {
        Pending::done(Narrowed::default())
    }

    /// Whether the drive is gone, and not merely the block that failed: says why.
    fn has_left(&self) -> Option<String> {
        None
    }

    /// The oldest operation that is not back: its age, its address, and how many are out.
    fn waiting(&self) -> Option<(Nanos, Option<Bytes>, usize)> {
        None
    }

    /// Makes it keep what it was given.
    fn flush(&mut self) -> Pending<Result<(), DriveError>> {
        Pending::done(Ok(()))
    }

    /// Tells it that a range holds nothing any more.
    fn discard(&mut self, _start: Bytes, _length: Bytes) -> Pending<Result<(), DriveError>> {
        Pending::done(Err(DriveError::NotOffered { what: "discard" }))
    }

    /// Has it begin a test of itself, which goes on in it while others are done. A selective one reads `over`, from and to; the others read what they
    /// read.
    ///
    /// # Errors
    /// [`DriveError::NotOffered`], or why it cannot be asked.
    fn begin_self_test(&mut self, _kind: TestKind, _over: (Bytes, Bytes)) -> Result<(), DriveError> {
        Err(DriveError::NotOffered { what: "self-tests" })
    }

    /// Ends the test of itself that is underway.
    fn end_self_test(&mut self) {}

    /// Begins to read its health, which may take a while; [`Drive::health_answer`] has it when it is there.
    fn ask_health(&mut self) {}

    /// The health that was asked for, once it is there.
    fn health_answer(&mut self) -> Option<Health> {
        None
    }

    /// Its health now, where it tells.
    fn health(&mut self) -> Option<Health> {
        None
    }

    /// Gives it back, and takes away what was made for the run, unless `keep`. Whoever wants what was written to be on the medium
    /// flushes it before.
    fn close(&mut self, keep: bool) -> Result<(), DriveError>;

    /// What really happened; `None` for a real drive.
    fn truth(&self) -> Option<Truth> {
        None
    }
}
