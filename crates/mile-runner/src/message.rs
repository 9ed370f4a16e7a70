//! What goes to a runner and comes from it. All of it is serde types, so that the two may be different processes.

use mile_core::channel::{Channel, Reading};
use mile_core::claims::conditions::{LegLoad, StatedClaim};
use mile_core::files::{FileFigures, FilesOp};
use mile_core::findings::Break;
use mile_core::health::{FailedTest, SelfTestKind};
use mile_core::{Bytes, Celsius, Context, Demand, Digest, FaultKind, Faults, Nanos, RunId, Sample, faults};
use mile_course::{Access, PlannedLeg, ScanOrder, Work};
use mile_drive::drive::{Failure, Mismatch, Narrowed};
use mile_drive::io::EngineChoice;
use mile_drive::{Claims, Facts, Health, Identity, Limits, Situation};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

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
}

/// How a run was started.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Order {
    /// The drive, as it was named.
    pub drive: String,
    /// The folder in which a path without one was meant.
    #[serde(default)]
    pub folder: Option<PathBuf>,
    /// Size of the file to make.
    pub size: Option<Bytes>,
    /// How operations are put in flight.
    pub engine: EngineChoice,
    /// Whether what was made for the run stays.
    pub keep: bool,
    /// Whether what the course writes to was discarded before.
    pub discard_first: bool,
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

/// What is known of a run when it begins.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(from = "crate::former::AnyHead")]
pub struct RunHead {
    /// Seconds since 1970-01-01 UTC.
    pub started: i64,
    /// Name of the course.
    pub course: String,
    /// Its text.
    pub course_text: String,
    /// Seed of random addresses and of the simulation.
    pub seed: u64,
    /// What tells this run from all others; `None` for one that an earlier version began.
    pub identity: Option<RunId>,
    /// Length of a sample.
    pub sample_every: Nanos,
    /// Its drives, one or more.
    pub lanes: Vec<LaneHead>,
    /// Readings beside those of every sample.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub channels: Vec<Channel>,
    /// The file that names the bench instruments, or `bench` for those of the simulated bench.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instruments: Option<String>,
}

/// What is known of one drive of a run when it begins.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct LaneHead {
    /// The name that the course gives it; empty where it is for one drive.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// The drive.
    pub drive: Identity,
    /// Its geometry.
    pub facts: Option<Facts>,
    /// Its limits.
    pub limits: Limits,
    /// What is claimed of it.
    pub claims: Claims,
    /// Claims that the course states with their conditions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stated: Vec<StatedClaim>,
    /// The conditions.
    pub situation: Situation,
    /// Its legs, in order.
    pub legs: Vec<PlannedLeg>,
    /// Streams that must be held.
    #[serde(default)]
    pub demands: Vec<Demand>,
    /// How it was started, so that it can go on after an interruption.
    pub order: Option<Order>,
    /// Health as found.
    pub health: Option<Health>,
}

impl RunHead {
    /// One of its lanes; of none that it has, nothing is known.
    pub fn lane(&self, lane: usize) -> &LaneHead {
        static NOTHING: std::sync::LazyLock<LaneHead> = std::sync::LazyLock::new(LaneHead::default);
        self.lanes.get(lane).unwrap_or_else(|| &NOTHING)
    }

    /// The only one of its lanes, or the first.
    pub fn first(&self) -> &LaneHead {
        self.lane(0)
    }

    /// Of a run on one drive.
    pub fn of_lane(lane: LaneHead) -> Self {
        Self { lanes: vec![lane], ..Self::default() }
    }

    /// The models of its drives, one after the other.
    pub fn models(&self) -> String {
        self.lanes.iter().map(|l| l.drive.model.as_str()).collect::<Vec<_>>().join(" + ")
    }

    /// The names of its drives, one after the other.
    pub fn drives(&self) -> String {
        self.lanes.iter().map(|l| l.drive.name.as_str()).collect::<Vec<_>>().join(" + ")
    }
}

impl LaneHead {
    /// With legs of which only the names are known.
    pub fn named(legs: &[&str]) -> Self {
        Self { legs: legs.iter().map(|n| PlannedLeg::told(n, "")).collect(), ..Self::default() }
    }

    /// The name of a leg; empty where there is none of this number.
    pub fn leg_name(&self, leg: u32) -> &str {
        self.legs.get(leg as usize).map_or("", |l| l.name.as_str())
    }

    /// The names of all legs.
    pub fn leg_names(&self) -> Vec<String> {
        self.legs.iter().map(|l| l.name.clone()).collect()
    }

    /// The names of legs whose work is of a kind.
    fn legs_that(&self, is: impl Fn(&Work) -> bool) -> Vec<String> {
        self.legs.iter().filter(|l| is(&l.work)).map(|l| l.name.clone()).collect()
    }

    /// What its legs do, as far as a claim may go by it.
    fn loads(&self) -> Vec<LegLoad> {
        let of = |leg: &PlannedLeg| match &leg.work {
            Work::Transfer(t) => Some(LegLoad {
                leg: leg.name.clone(),
                op: t.op,
                random: t.access == Access::Random,
                block: t.block.0,
                depth: t.depth,
                workers: t.workers,
                is_held_back: t.rate.is_some() || t.cached || t.copy.is_some() || t.refine.is_some(),
            }),
            _ => None,
        };
        self.legs.iter().filter_map(of).collect()
    }

    /// What findings need to know beside the trace.
    pub fn context(&self) -> Context {
        Context {
            capacity: self.facts.map(|f| f.capacity),
            warn: self.limits.warn,
            critical: self.limits.critical,
            rated_write: self.claims.write,
            rated_read: self.claims.read,
            link: self.drive.link.as_ref().map(|l| l.ceiling),
            demands: self.demands.clone(),
            faults: Vec::new(),
            failed_tests: Vec::new(),
            latencies: Vec::new(),
            files: Vec::new(),
            not_sequential: self.legs_that(|work| !is_sequential(work)),
            through_host: self.legs_that(is_through_host),
            from_zone_to_zone: self.legs_that(is_from_zone_to_zone),
            stated: self.stated.clone(),
            // Nothing goes by them where nothing is stated.
            loads: if self.stated.is_empty() { Vec::new() } else { self.loads() },
        }
    }

    /// As [`LaneHead::context`], with what happened.
    pub fn context_with(&self, events: &[Event]) -> Context {
        let files = events.iter().filter_map(|e| match &e.kind {
            EventKind::Files(figures) => Some(figures.as_ref().clone()),
            _ => None,
        });
        Context {
            faults: faults_of(events),
            failed_tests: self.failed_tests(events),
            files: files.collect(),
            ..self.context()
        }
    }

    /// Where the drive's own tests failed: those of this run, and those that it told of when it was found. A block that failed again is there once.
    fn failed_tests(&self, events: &[Event]) -> Vec<FailedTest> {
        let block = self.facts.map_or(512, |f| f.logical_block.0);
        let failed = |test: &str, at: u64, words: &str| FailedTest {
            test: test.to_owned(),
            start_byte: at.saturating_mul(block),
            end_byte: at.saturating_add(1).saturating_mul(block),
            words: words.to_owned(),
        };
        let of_run = events.iter().filter_map(|e| match &e.kind {
            EventKind::SelfTest { kind, passed: false, words, block: Some(at) } => {
                Some(failed(kind.word(), *at, words))
            }
            _ => None,
        });
        let found = self.health.iter().filter_map(|h| h.self_test.as_ref()).flat_map(|t| &t.results);
        let before =
            found.filter(|r| !r.passed).filter_map(|r| Some(failed(r.kind.word(), r.block?, &r.words)));
        let mut all: Vec<FailedTest> = Vec::new();
        for test in of_run.chain(before) {
            // Beyond the end of the drive there is no place on its map.
            let is_on_it = self.facts.is_none_or(|f| test.end_byte <= f.capacity.0);
            if is_on_it && all.iter().all(|t| t.start_byte != test.start_byte) {
                all.push(test);
            }
        }
        all
    }
}

/// Whether what a leg does is what a sequential rate is claimed for.
fn is_sequential(work: &Work) -> bool {
    match work {
        Work::Transfer(t) => {
            t.access == Access::Sequential
                && t.op != mile_core::Op::Mixed
                && t.block.0 >= 128 << 10
                && t.rate.is_none()
                && !t.cached
                && t.refine.is_none()
                && t.copy.is_none()
        }
        Work::Files(_) => false,
        _ => true,
    }
}

/// Whether a leg visits its zones in a random order.
fn is_through_host(work: &Work) -> bool {
    match work {
        Work::Transfer(t) => t.cached,
        Work::Files(f) => f.cached || f.op != FilesOp::Read,
        _ => false,
    }
}

fn is_from_zone_to_zone(work: &Work) -> bool {
    matches!(work, Work::Transfer(t) if t.zones > 0 && t.order == ScanOrder::Random)
}

/// What ended a leg.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EndKind {
    /// One of its own ends.
    Planned,
    /// A request to go on with the next.
    Skipped,
    /// A request to end the run.
    Stopped,
    /// A guard.
    Guarded,
}

fn yes() -> bool {
    true
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "as serde calls it")]
fn is_yes(over: &bool) -> bool {
    *over
}

/// What went wrong with the operations of a run, from what was told. A run that ended told all of it; of one that did not, or went on, what was
/// told one by one counts.
pub fn faults_of(events: &[Event]) -> Vec<Faults> {
    let mut all = Vec::new();
    // What was told one by one since the last summing up.
    let mut since = Vec::new();
    // Failed operations of a scan, which are narrowed down when it is over.
    let mut later: Vec<(&Failure, Nanos)> = Vec::new();
    for event in events {
        match &event.kind {
            EventKind::PassedOver { failure, .. } => later.push((failure, event.at)),
            EventKind::Error { failure, narrowed, .. } | EventKind::Narrowed { failure, narrowed, .. } => {
                later.retain(|l| l.0 != failure);
                let (kind, whole) = (fault_of(failure.op), (failure.offset, failure.length));
                faults::add_narrowed(&mut since, kind, event.at, whole, &narrowed.bad, narrowed.complete);
            }
            EventKind::Wrong(m) => {
                faults::add(&mut since, m.wrong.fault(), event.at, m.offset, m.length);
            }
            EventKind::Faults(summed) => {
                since.clear();
                summed.iter().cloned().for_each(|f| faults::merge(&mut all, f));
            }
            _ => {}
        }
    }
    for (failure, at) in later {
        faults::add(&mut since, fault_of(failure.op), at, failure.offset, failure.length);
    }
    since.into_iter().for_each(|f| faults::merge(&mut all, f));
    all
}

/// The kind of a failed operation.
pub(crate) fn fault_of(op: mile_core::Op) -> FaultKind {
    if op == mile_core::Op::Write { FaultKind::WriteFailed } else { FaultKind::ReadFailed }
}

/// Something worth a line, stamped in time and bytes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Event {
    /// Since the start of the run.
    pub at: Nanos,
    /// Bytes moved by then.
    pub bytes: Bytes,
    /// What.
    pub kind: EventKind,
}

/// Kinds of events.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the names and `EventKind::words` say what each is")]
pub enum EventKind {
    /// The course had to be changed to fit the drive.
    Fitted(String),
    Engine(String),
    LegBegan {
        leg: u32,
        name: String,
        words: String,
    },
    LegEnded {
        leg: u32,
        name: String,
        why: String,
        /// Whether it is over, and was not stopped with its run.
        #[serde(default = "yes", skip_serializing_if = "is_yes")]
        over: bool,
        /// What ended it; `None` where an earlier version told.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        kind: Option<EndKind>,
    },
    BreakSeen(Break),
    BreakRevised(Break),
    /// The final analysis does not confirm a break that was announced at this many bytes.
    BreakWithdrawn(Bytes),
    Guard {
        limit: Celsius,
        found: Celsius,
    },
    /// A guard other than that of temperature.
    Guarded(String),
    Note(String),
    /// What becomes of the way to the archive of a lab.
    Lab(String),
    Paused,
    Resumed,
    /// The operator is told something, and the run waits.
    Asked(String),
    /// A guard has the run rest until it is below a temperature; without a limit it was a warning of the drive.
    Cooling {
        found: Celsius,
        limit: Option<Celsius>,
        below: Celsius,
    },
    /// It goes on.
    Cooled {
        took: Nanos,
    },
    /// The run was interrupted, and goes on in this leg so much later.
    WentOn {
        leg: u32,
        name: String,
        gap: Nanos,
        moved: Bytes,
    },
    /// An operation failed; where it could be narrowed down, to which blocks.
    Error {
        failure: Failure,
        narrowed: Narrowed,
        block: Bytes,
    },
    /// An operation of a scan failed, and is narrowed down when the scan is over.
    PassedOver {
        failure: Failure,
        block: Bytes,
    },
    /// What a scan passed over, narrowed down.
    Narrowed {
        failure: Failure,
        narrowed: Narrowed,
        block: Bytes,
    },
    /// So much failed in a zone of a scan, or it was read so many times more slowly than the others, that what is left of it, from and to, is read
    /// last.
    PutOff {
        at: Bytes,
        end: Bytes,
        failures: u32,
        /// `u32::MAX` where nothing came at all.
        #[serde(default)]
        slower: Option<u32>,
    },
    /// So many failed operations of a scan were not narrowed down in the time for bad stretches.
    NotNarrowed(u64),
    /// Rows of an imported file could not be used.
    RowsLeftOut(u64),
    /// More operations failed than are told one by one.
    MoreErrors(u64),
    /// A self-test of the drive is over.
    SelfTest {
        kind: SelfTestKind,
        passed: bool,
        words: String,
        /// The first block that failed, where the drive tells.
        block: Option<u64>,
    },
    /// What a leg did with whole files.
    Files(Box<FileFigures>),
    /// All that went wrong since the run began, or went on.
    Faults(Vec<Faults>),
    /// A verifying read did not find what was written.
    Wrong(Mismatch),
    /// An operation took this long.
    Stall {
        took: Nanos,
        /// `None` for an operation on a file.
        #[serde(default)]
        offset: Option<Bytes>,
    },
    /// Operations are out and none has come back for this long.
    Waiting {
        age: Nanos,
        #[serde(default)]
        offset: Option<Bytes>,
        out: u64,
    },
    /// The drive's health changed.
    HealthChanged(String),
    SensorLost,
    SensorBack,
    /// A bench instrument no longer answers; the run goes on without it.
    InstrumentLost {
        name: String,
        why: String,
    },
    /// It answers again.
    InstrumentBack {
        name: String,
        after: Nanos,
    },
    Stopped,
    Failed(String),
    /// A stop waits for operations, or for the drive to do something.
    StopWaits {
        out: u64,
    },
    /// What had not come back was left to itself.
    Left {
        out: u64,
    },
    /// The file stays, as the run needs what it wrote to go on.
    Kept,
    /// The logbook takes nothing now; what is told waits.
    LogWaiting {
        why: String,
    },
    /// What waits is put into a file elsewhere.
    LogAside {
        path: String,
    },
    /// The logbook has taken all that waited.
    LogBack {
        after: Nanos,
    },
    /// Samples could be kept nowhere.
    LogGap {
        from: Nanos,
        to: Nanos,
        samples: u64,
    },
}

/// The address of an operation behind a word; nothing where it has none.
fn at_byte(offset: Option<Bytes>) -> String {
    offset.map_or(String::new(), |at| format!(" at byte {}", at.0))
}

impl EventKind {
    /// One sentence, without its full stop.
    pub fn words(&self) -> String {
        match self {
            Self::Fitted(text) | Self::Failed(text) => text.trim_end_matches('.').to_owned(),
            Self::Engine(text) => format!("Data moves through {text}"),
            Self::LegBegan { name, words, .. } => format!("Leg {name} begins: {words}"),
            Self::LegEnded { name, why, .. } => format!("Leg {name} ends: {why}"),
            Self::BreakSeen(b) => format!("Break at {}", b.sentence_so_far()),
            Self::BreakRevised(b) => format!("Break, seen again: {}", b.sentence_so_far()),
            Self::BreakWithdrawn(at) => {
                format!("The break announced at {at} is withdrawn: it is no longer among the findings of the run")
            }
            Self::Guard { limit, found } => format!("Stopped by the guard: {found} is above {limit}"),
            Self::WentOn { name, gap, moved, .. } => format!(
                "The run was interrupted here, and goes on {gap} later, in leg {name} behind the {moved} that it had moved"
            ),
            Self::Guarded(why) => format!("Stopped by the guard: {why}"),
            Self::Error { failure, narrowed, block } | Self::Narrowed { failure, narrowed, block } => {
                error_words(failure, narrowed, *block)
            }
            Self::PassedOver { failure, block } => error_words(failure, &Narrowed::default(), *block),
            Self::PutOff { at, end, failures, slower } => {
                let reads = if *failures == 1 { "read" } else { "reads" };
                let why = match slower {
                    Some(u32::MAX) if *failures == 0 => "Nothing came of a zone for 20 s".to_owned(),
                    Some(times) if *failures == 0 => {
                        format!("A zone was read {times} times more slowly than the others")
                    }
                    _ => format!("{failures} {reads} failed in a zone"),
                };
                format!("{why}: byte {} to byte {} is read last", at.0, end.0)
            }
            Self::RowsLeftOut(rows) => {
                format!("{rows} rows of the file could not be used and were left out")
            }
            Self::NotNarrowed(count) => {
                format!("{count} failed reads were not narrowed down in the time for bad stretches")
            }
            Self::Faults(all) => {
                all.iter().map(Faults::sentence).collect::<Vec<_>>().join(" ").trim_end_matches('.').to_owned()
            }
            Self::SelfTest { kind, words, block, .. } => {
                let at = block.map_or(String::new(), |b| format!(", first at block {b}"));
                format!("Self-test ({}): {words}{at}", kind.word())
            }
            Self::Files(f) => {
                let side = f.slower_side().map_or(String::new(), |s| format!(". {}", s.trim_end_matches('.')));
                format!("Leg {}: {}{side}", f.leg, f.sentence())
            }
            Self::MoreErrors(count) => format!("{count} more operations failed, which are only counted"),
            Self::Wrong(m) => {
                let from =
                    m.belongs.map_or(String::new(), |b| format!(", with what belongs at byte {}", b.0));
                format!("Verifying: {} at byte {} are {}{from}", m.length, m.offset.0, m.wrong.word())
            }
            Self::Stall { took, offset } => {
                format!("Stall: an operation{} took {took}", at_byte(*offset))
            }
            Self::Waiting { age, offset, out } => {
                format!(
                    "Nothing has come back for {age}: {out} operations are out, the oldest{}",
                    at_byte(*offset)
                )
            }
            Self::HealthChanged(text) => format!("Health: {text}"),
            Self::Note(text) => format!("Note: {text}"),
            Self::Lab(text) => text.clone(),
            Self::Asked(text) => format!("Waiting for the operator: {text}"),
            Self::Cooling { found, limit: Some(limit), below } => {
                format!("Resting until below {below}: {found} is above {limit}")
            }
            Self::Cooling { found, limit: None, below } => {
                format!("Resting until below {below}: the drive warns, at {found}")
            }
            Self::Cooled { took } => format!("Going on after a rest of {took}"),
            Self::Paused => "Paused".into(),
            Self::Resumed => "Resumed".into(),
            Self::SensorLost => "The temperature can no longer be read; the run goes on without it".into(),
            Self::SensorBack => "The temperature can be read again".into(),
            Self::InstrumentLost { name, why } => {
                format!("The instrument {name} cannot be read; the run goes on without it ({why})")
            }
            Self::InstrumentBack { name, after } => {
                format!("The instrument {name} can be read again after {after}")
            }
            Self::Stopped => "Stopped on request".into(),
            Self::StopWaits { out: 0 } => {
                "Stopping: waiting for the drive to finish what it was asked. A second Ctrl-C, or a second stop, does not wait".into()
            }
            Self::StopWaits { out } => format!(
                "Stopping: waiting for {out} operations. A second Ctrl-C, or a second stop, leaves them"
            ),
            Self::Left { out } => format!("{out} operations that had not come back were left to themselves"),
            Self::Kept => {
                "The file stays, as the run needs what it wrote to go on; `hollow-mile leftovers` takes it away".into()
            }
            Self::LogWaiting { why } => {
                format!("The logbook cannot be written now; what is measured waits in memory ({why})")
            }
            Self::LogAside { path } => {
                format!("The logbook still cannot be written; what is measured is kept in {path} until then")
            }
            Self::LogBack { after } => {
                format!("The logbook can be written again after {after}; nothing that waited was lost")
            }
            Self::LogGap { from, to, samples } => format!(
                "The log has a gap from {from} to {to}: {samples} samples could not be kept anywhere"
            ),
        }
    }
}

/// `A write of 1 MiB at byte 104857600 failed: Input/output error (EIO); block 204810`.
pub fn error_words(failure: &Failure, narrowed: &Narrowed, block: Bytes) -> String {
    let op = if failure.op == mile_core::Op::Write { "write" } else { "read" };
    let size = mile_core::units::block_size(failure.length);
    let mut text = format!("A {op} of {size} at byte {} failed: {}", failure.offset.0, failure.words());
    let (whole, count) = (block.0.max(1), narrowed.bad.len());
    for (i, (from, to)) in narrowed.bad.iter().take(4).enumerate() {
        let (first, last) = (from.0 / whole, (to.0 / whole).saturating_sub(1));
        text.push_str(if i == 0 { "; narrowed down to " } else { ", " });
        if first == last {
            text.push_str(&format!("block {first}"));
        } else {
            text.push_str(&format!("blocks {first} to {last}"));
        }
    }
    if count > 4 {
        text.push_str(&format!(" and {} stretches more", count - 4));
    }
    match (count, narrowed.complete) {
        (0, true) => text.push_str("; each of its blocks works by itself now"),
        (0, false) => {}
        (_, false) => text.push_str(", at the most"),
        (_, true) => text.push_str(&format!(" (of {})", mile_core::units::block_size(block))),
    }
    text
}

/// How a run stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Status {
    /// It goes on.
    Underway,
    /// All legs ended as planned.
    Done,
    /// Ended on request.
    Stopped,
    /// Ended by a guard.
    Guarded,
    /// Ended by an error.
    Failed,
    /// Its process ended before it did.
    CutShort,
    /// What the logbook has of it cannot be read.
    Unreadable,
}

impl Status {
    /// The words for people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Underway => "underway",
            Self::Done => "done",
            Self::Stopped => "stopped",
            Self::Guarded => "stopped by a guard",
            Self::Failed => "ended by an error",
            Self::CutShort => "cut short",
            Self::Unreadable => "cannot be read",
        }
    }
}

/// How a run ended.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Outcome {
    /// How.
    pub status: Status,
    /// When, since its start.
    pub at: Nanos,
    /// Bytes moved.
    pub bytes: Bytes,
    /// Why, where it did not end as planned.
    pub why: Option<String>,
    /// Health at the end.
    #[serde(default, deserialize_with = "crate::former::any_health")]
    pub health: Option<Health>,
    /// What its samples show, where whoever ran it has computed that; not sent and not kept with it.
    #[serde(skip)]
    pub digest: Option<Box<Digest>>,
}

impl Outcome {
    /// How a run ended whose lanes ended so: as the worst of them, when the last of them did, with the reasons of all.
    pub fn of_lanes(lanes: &[(&str, &Self)]) -> Option<Self> {
        let [(_, first), rest @ ..] = lanes else { return None };
        if rest.is_empty() {
            return Some((*first).clone());
        }
        const WORST: [Status; 5] =
            [Status::Failed, Status::CutShort, Status::Guarded, Status::Stopped, Status::Done];
        let rank = |o: &Self| WORST.iter().position(|s| *s == o.status).unwrap_or(0);
        let status = lanes.iter().min_by_key(|(_, o)| rank(o)).map_or(first.status, |(_, o)| o.status);
        let whys: Vec<String> =
            lanes.iter().filter_map(|(name, o)| Some(format!("lane {name}: {}", o.why.as_ref()?))).collect();
        Some(Self {
            status,
            at: lanes.iter().map(|(_, o)| o.at).max().unwrap_or_default(),
            bytes: Bytes(lanes.iter().map(|(_, o)| o.bytes.0).sum()),
            why: (!whys.is_empty()).then(|| whys.join("; ")),
            health: None,
            digest: None,
        })
    }
}
