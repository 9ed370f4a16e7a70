//! What goes to a runner and comes from it. All of it is serde types, so that the two may be different processes.

pub(crate) use crate::event::fault_of;
pub use crate::event::{EndKind, Event, EventKind, error_words, faults_of};
pub use crate::head::{LaneHead, Order, RunHead, facts_for_planning};
pub use crate::outcome::{Outcome, Status};

use crossbeam_channel::{Receiver, Sender, bounded};
use mile_core::channel::Reading;
use mile_core::health::SelfTestKind;
use mile_core::{Bytes, Nanos, Sample};
use mile_drive::Health;
use serde::{Deserialize, Serialize};

/// To the runner.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Command {
    /// Start nothing new until `Resume`.
    Pause,
    /// Go on.
    Resume,
    /// Put a line into the log.
    Note(String),
    /// End this leg and go on with the next.
    Skip,
    /// End the run.
    Stop,
}

/// From the runner.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Message {
    /// The first message of a run.
    Began(Box<RunHead>),
    /// An interval.
    Sample(Sample),
    /// Something worth a line.
    Event(Event),
    /// The drive's health at a moment of the run.
    Health(Box<HealthShot>),
    /// How far the drive's own test of itself is.
    SelfTest(TestProgress),
    /// A reading of a channel, by its place in the list of the run.
    Reading(u32, Reading),
    /// A leg is over: its number, and the latency of all its operations as an HdrHistogram, version 2 encoding.
    LegLatency(u32, Vec<u8>),
    /// The last message of a run.
    Ended(Box<Outcome>),
    /// What comes next cannot be undone: the log of what was told before is waited for. It stays in the process.
    #[serde(skip)]
    Keep(Awaited),
}

/// Answers the run that waits, when it is dropped: whoever keeps the log drops it once the disk has all that was told before, and all others
/// at once.
#[derive(Clone, Debug)]
pub struct Awaited(Sender<()>);

impl Awaited {
    /// Gives it, and what tells of its answer: an empty channel that ends.
    pub fn new() -> (Self, Receiver<()>) {
        let (asked, answered) = bounded(0);
        (Self(asked), answered)
    }
}

impl PartialEq for Awaited {
    fn eq(&self, other: &Self) -> bool {
        self.0.same_channel(&other.0)
    }
}

/// How far a drive's own test of itself is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TestProgress {
    /// Its kind.
    pub kind: SelfTestKind,
    /// Percent of it that is done, as the drive tells.
    pub percent: u8,
    /// Time for which it has run.
    pub ran: Nanos,
    /// Time for which it had run when this percentage was told first: some drives tell tens only.
    #[serde(default)]
    pub reached: Nanos,
}

impl TestProgress {
    /// Time that is left at the speed so far; `None` where too little is done to say.
    pub fn left(&self) -> Option<Nanos> {
        let done = f64::from(self.percent.min(100));
        (done >= 1.0).then(|| Nanos((self.reached.0 as f64 * 100.0 / done) as u64).since(self.ran))
    }
}

/// The drive's health at a moment of a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct HealthShot {
    /// Since the start of the run.
    pub at: Nanos,
    /// Bytes moved by then.
    pub bytes: Bytes,
    /// The health.
    #[serde(deserialize_with = "crate::former::its_health")]
    pub health: Health,
}
