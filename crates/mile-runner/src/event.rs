//! What happens in a run: its events, what went wrong with operations, and how a leg ended.

use mile_core::files::FileFigures;
use mile_core::findings::Break;
use mile_core::health::SelfTestKind;
use mile_core::live::Whole;
use mile_core::{Bytes, Celsius, FaultKind, Faults, Nanos, faults};
use mile_drive::drive::{Failure, Mismatch, Narrowed};
use serde::{Deserialize, Serialize};

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
    /// A break that was announced at this many bytes has become part of something longer.
    BreakJoined(Bytes, Whole),
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
            Self::BreakJoined(at, Whole::Pattern) => {
                format!("The break announced at {at} belongs to a pattern that repeats itself, and is told with it")
            }
            Self::BreakJoined(at, Whole::Change) => {
                format!("The break announced at {at} is part of a longer change, and is told with it")
            }
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
            Self::RowsLeftOut(1) => "1 row of the file could not be used and was left out".to_owned(),
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
