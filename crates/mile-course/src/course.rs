//! A course as it was written, before it is fitted to a drive: batteries, repeats and sweeps are unfolded.

use crate::copy::{Copy, CopyPart};
use crate::files::Files;
use mile_core::claims::conditions::StatedClaim;
use mile_core::health::{Counter, SelfTestKind};
use mile_core::{Bytes, Celsius, Demand, Nanos, Op, Rate};
use serde::{Deserialize, Serialize};

/// A test plan.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Course {
    /// Its name.
    pub name: String,
    /// The drives that it is for, by the names that it gives them; none where it is for one drive.
    pub lanes: Vec<Lane>,
    /// Whether the other lanes go on where one fails or is stopped by a guard.
    pub apart: bool,
    /// Length of a sample.
    pub sample_every: Nanos,
    /// Time between two looks at the drive's health.
    pub health_every: Nanos,
    /// What it minds while it runs.
    pub guards: Vec<Guard>,
    /// What is claimed of the drive.
    pub claims: Claims,
    /// Claims with their conditions.
    pub stated: Vec<StatedClaim>,
    /// The conditions of the run, by the word that names each: `slot`, `cooling`, `enclosure`, `note`.
    pub situation: Vec<(String, String)>,
    /// Ambient temperature.
    pub ambient: Option<Celsius>,
    /// Streams that must be held.
    pub demands: Vec<Demand>,
    /// Its stages, in order. At least one.
    pub legs: Vec<Leg>,
}

impl Course {
    /// The course as one of its lanes sees it: a leg for each stage, in which it does its part or is only watched.
    pub fn of_lane(&self, lane: usize) -> Self {
        let mut legs: Vec<Leg> = Vec::with_capacity(self.legs.len());
        for stage in self.legs.chunk_by(|a, b| a.stage == b.stage) {
            let own = stage.iter().find(|l| l.lanes.contains(&lane)).cloned().map(|leg| match &leg.action {
                Action::Copy(copy) => Leg { action: copy.of_lane(lane).unwrap_or(Action::Watch), ..leg },
                _ => leg,
            });
            let watched = stage.first().map(|l| Leg { action: Action::Watch, ..l.clone() });
            legs.extend(own.or(watched));
        }
        Self { lanes: Vec::new(), legs, ..self.clone() }
    }
}

/// One of several drives that a course is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lane {
    /// Its name.
    pub name: String,
    /// Whether it never gets a load, and is only watched.
    pub watched: bool,
}

/// What is claimed of a drive.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Claims {
    /// Rated sequential write rate.
    pub write: Option<Rate>,
    /// Rated sequential read rate.
    pub read: Option<Rate>,
    /// Rated endurance, bytes written over its life.
    pub endurance: Option<Bytes>,
}

/// Something that is minded while the course runs.
#[derive(Clone, Debug, PartialEq)]
pub struct Guard {
    /// When it acts.
    pub when: When,
    /// What it does.
    pub then: Then,
}

/// When a guard acts.
#[derive(Clone, Debug, PartialEq)]
pub enum When {
    /// A composite temperature above this.
    TemperatureAbove(Celsius),
    /// More failed operations than this.
    ErrorsAbove(u64),
    /// An operation that is not back after this.
    OperationAbove(Nanos),
    /// A critical warning of the drive.
    CriticalWarning,
    /// More than this written by the whole run.
    WrittenAbove(Bytes),
    /// More time than this since the start of the run.
    TimeAbove(Nanos),
    /// Others moving more than this on the same drive, for so long.
    OthersAbove(Rate, Nanos),
    /// A reading of a channel beyond this.
    Channel(Threshold),
    /// A counter of the drive's health beyond this.
    Counter(Counter, Threshold),
}

/// A reading of a channel, such as a bench instrument gives, above or below a value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Threshold {
    /// Name of the channel.
    pub channel: String,
    /// Its unit, as the course has it; empty where it has none.
    pub unit: String,
    /// Whether it is reached above the value, and not below.
    pub above: bool,
    /// The value.
    pub value: f64,
}

impl Threshold {
    /// In words: `probe below 30 °C`.
    pub fn words(&self) -> String {
        let side = if self.above { "above" } else { "below" };
        let unit = if self.unit.is_empty() { String::new() } else { format!(" {}", self.unit) };
        format!("{} {side} {}{unit}", self.channel, self.value)
    }

    /// Whether a reading is beyond it.
    pub fn is_reached(&self, value: f64) -> bool {
        if self.above { value > self.value } else { value < self.value }
    }
}

/// What a guard does.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Then {
    /// It stops the run.
    Stop,
    /// It rests until the temperature is below this, at the longest so long, and goes on.
    Rest(Celsius, Nanos),
}

/// One stage.
#[derive(Clone, Debug, PartialEq)]
pub struct Leg {
    /// Its name, unique in the course, as [`mile_core::LegName`] puts it together.
    pub name: String,
    /// Line of the text on which it stands; the same for all legs that one sweep makes of it.
    pub line: usize,
    /// The lanes that do it, by their places in [`Course::lanes`]; one lane, the first, in a course that names none.
    pub lanes: Vec<usize>,
    /// Number of its stage: legs of one stage run at the same time. Ascending.
    pub stage: usize,
    /// What it does.
    pub action: Action,
}

/// What a leg does.
#[derive(Clone, Debug, PartialEq)]
pub enum Action {
    /// Waits.
    Rest(Rest),
    /// Does nothing for as long as other lanes take.
    Watch,
    /// Reads or writes.
    Transfer(Box<Transfer>),
    /// Works with whole files.
    Files(Box<Files>),
    /// Reads one lane and writes what was read to another.
    Copy(Box<Copy>),
    /// Makes the drive keep what it was given.
    Flush,
    /// Tells the drive that a range holds nothing any more.
    Discard(Range),
    /// Reads the drive's health and keeps it.
    Health,
    /// Has the drive test itself, at the longest so long; a selective test reads a part of it.
    SelfTest(SelfTestKind, Range, Option<Nanos>),
    /// Tells the operator something and waits for a key, at the longest so long.
    Ask(String, Option<Nanos>),
}

/// A rest.
#[derive(Clone, Debug, PartialEq)]
pub struct Rest {
    /// The first of these to be reached ends it. Never bytes or a pass.
    pub until: Vec<End>,
    /// It ends after this at the latest.
    pub at_most: Option<Nanos>,
}

/// Reads or writes.
#[derive(Clone, Debug, PartialEq)]
pub struct Transfer {
    /// Which.
    pub op: Op,
    /// Share of reads, 0 to 1, of a mix.
    pub reads: f64,
    /// What it is for.
    pub kind: Kind,
    /// In what order.
    pub access: Access,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Operations in flight, of each worker.
    pub depth: u32,
    /// Workers.
    pub workers: u32,
    /// Most that is asked for in a second.
    pub rate: Option<Rate>,
    /// Address range.
    pub over: Range,
    /// Bytes by which addresses are off from whole blocks.
    pub shift: Bytes,
    /// Share of what is written that cannot be compressed, 0 to 1.
    pub incompressible: f64,
    /// Whether it goes through the host's cache.
    pub cached: bool,
    /// The first of these to be reached ends it; none means one pass.
    pub until: Vec<End>,
    /// It ends after this at the latest.
    pub at_most: Option<Nanos>,
    /// It ends after so many bytes at the latest.
    pub at_most_moved: Option<Bytes>,
    /// Bytes between which the edges of hollows are to be known: a scan that goes on to look for them, or the leg that does.
    pub refine: Option<Bytes>,
    /// Whether a scan holds what it reads against what the run wrote there.
    pub verify: bool,
    /// Longest time that a scan spends on what it could not read, once it has read the rest.
    pub bad_time: Option<Nanos>,
    /// The part that it has in a copy.
    pub copy: Option<CopyPart>,
}

/// What reads or writes are for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Kind {
    /// Their pace.
    Plain,
    /// To hold what is read against what was written.
    Verify,
    /// To bring the drive to a fill level, with data that stays.
    Fill(Position),
    /// To see the range zone by zone: number of zones, and the order in which they are visited; where none is given, one pass forward and one in a
    /// random order.
    Scan(u32, Option<ScanOrder>),
}

/// The order in which a scan visits its zones. Within a zone it goes up.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ScanOrder {
    /// From the first to the last.
    #[default]
    Forward,
    /// From the last to the first.
    Backward,
    /// Each once, in an order that is the same whenever the course is run.
    Random,
}

impl ScanOrder {
    /// The word in a course.
    pub fn word(self) -> &'static str {
        match self {
            Self::Forward => "forward",
            Self::Backward => "backward",
            Self::Random => "random",
        }
    }
}

/// The order in which addresses are touched.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// Ascending, starting again at the front of the range.
    Sequential,
    /// Uniformly random blocks of the range.
    Random,
}

/// An address range: from, to.
pub type Range = (Position, Position);

/// A place on the drive.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Position {
    /// A share of the capacity, 0 to 1.
    Share(f64),
    /// A byte address.
    At(Bytes),
    /// So many bytes before the end.
    BeforeEnd(Bytes),
}

/// All of a drive.
pub const WHOLE: Range = (Position::Share(0.0), Position::Share(1.0));

/// What ends a leg.
#[derive(Clone, Debug, PartialEq)]
pub enum End {
    /// This much was moved.
    Moved(Bytes),
    /// This much time has passed.
    After(Nanos),
    /// The range was covered once.
    Pass,
    /// Something that only the run can tell.
    Seen(Seen),
}

/// An end that only the run can tell.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Seen {
    /// The composite temperature was below this for so long.
    Below(Celsius, Nanos),
    /// It was above this for so long.
    Above(Celsius, Nanos),
    /// It stayed within this many K for so long.
    Stable(Celsius, Nanos),
    /// The rate is in steady state over five consecutive rounds of this length.
    Steady(Nanos),
    /// A break was seen in this leg, and so much time has passed since.
    Break(Nanos),
    /// So many operations of this leg failed.
    Errors(u64),
    /// A reading of a channel was beyond this for so long.
    Channel(Threshold, Nanos),
}

impl Seen {
    /// Whether it needs a temperature.
    pub fn needs_temperature(&self) -> bool {
        matches!(self, Self::Below(..) | Self::Above(..) | Self::Stable(..))
    }

    /// In words: `temperature below 40 °C for 10 s`.
    pub fn words(&self) -> String {
        let held = |hold: Nanos| if hold.0 > 0 { format!(" for {hold}") } else { String::new() };
        match *self {
            Self::Channel(ref threshold, hold) => threshold.words() + &held(hold),
            Self::Below(limit, hold) => format!("temperature below {limit}{}", held(hold)),
            Self::Above(limit, hold) => format!("temperature above {limit}{}", held(hold)),
            Self::Stable(within, hold) => format!("temperature stable within {within} for {hold}"),
            Self::Steady(round) => format!("steady state in rounds of {round}"),
            Self::Break(hold) => format!("a break{}", held(hold)),
            Self::Errors(1) => "1 error".into(),
            Self::Errors(count) => format!("{count} errors"),
        }
    }
}
