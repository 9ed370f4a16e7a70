//! A course as it was written, before it is fitted to a drive: batteries, repeats and sweeps are unfolded.

pub(crate) mod ends;
pub(crate) mod lane;
pub(crate) mod order;
pub(crate) mod position;

pub use ends::{End, Seen, Threshold};
pub use lane::Lane;
pub use order::{Access, ScanOrder};
pub use position::{Position, Range, WHOLE};

use crate::kinds::ask::Ask;
use crate::kinds::copy::Copy;
use crate::kinds::discard::Discard;
use crate::kinds::expect::Expect;
use crate::kinds::files::Files;
use crate::kinds::rest::Rest;
use crate::kinds::scan;
use crate::kinds::self_test::SelfTest;
use crate::kinds::transfer::{Kind, Transfer};
use mile_core::claims::conditions::StatedClaim;
use mile_core::health::Counter;
use mile_core::units::block_size;
use mile_core::{Bytes, Celsius, Demand, Nanos, Rate};

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
                Action::Copy(copy) => {
                    let side = copy.of_lane(lane).map(|t| Action::Transfer(Box::new(t)));
                    Leg { action: side.unwrap_or(Action::Watch), ..leg }
                }
                _ => leg,
            });
            let watched = stage.first().map(|l| Leg { action: Action::Watch, ..l.clone() });
            legs.extend(own.or(watched));
        }
        Self { lanes: Vec::new(), legs, ..self.clone() }
    }
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

impl Action {
    /// What it does, in words that need no drive: `write sequential, blocks 1 MiB, depth 16`.
    pub fn words(&self) -> String {
        match self {
            Self::Rest(_) => "rest".into(),
            Self::Watch => "watch".into(),
            Self::Flush => "flush".into(),
            Self::Discard(_) => "discard".into(),
            Self::Health => "look at the health".into(),
            Self::SelfTest(test) => format!("self-test, {}", test.kind.word()),
            Self::Copy(copy) => copy.words(),
            Self::Files(files) => files.words(),
            Self::Expect(_) => "expect".into(),
            Self::Ask(ask) => format!("ask \"{}\"", ask.text),
            Self::Transfer(t) => {
                let verb = match t.kind {
                    _ if t.refine.is_some() => "look for the edges of hollows".to_owned(),
                    Kind::Plain => t.words(),
                    Kind::Verify => "verify".into(),
                    Kind::Fill(_) => "fill".into(),
                    Kind::Scan(zones, order) => scan::words(t.load.op, zones, order),
                };
                let verb = if t.verify { verb + " and verified" } else { verb };
                format!("{verb}, blocks {}, depth {}", block_size(t.load.block), t.load.depth)
            }
        }
    }
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
    Discard(Discard),
    /// Reads the drive's health and keeps it.
    Health,
    /// Has the drive test itself.
    SelfTest(SelfTest),
    /// Stops the run where something does not come true.
    Expect(Expect),
    /// Tells the operator something and waits for a key.
    Ask(Ask),
}
