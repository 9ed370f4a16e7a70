//! What a lane of a run is while it goes on, and on which terms.

use super::bad::BadStretches;
use super::ends::Cooling;
use super::go_on::GoOn;
use super::meeting::Meeting;
use super::scan::ZoneAt;
use crate::Speed;
use crate::board::Board;
use crate::message::{Command, LaneHead, Message, Outcome};
use crossbeam_channel::Receiver;
use mile_core::channel::Channel;
use mile_core::{Bytes, Faults, Findings, LiveFindings, Nanos, Op, Trace};
use mile_course::Plan;
use mile_drive::clock::Monotonic;
use mile_drive::host::Host;
use mile_drive::{Drive, Health, Readings, Tally};
use std::sync::Arc;

/// Longest time on the wall between two looks at the commands.
pub(super) const ATTENTION: Nanos = Nanos(50_000_000);

/// Longest wait for the health at the end of a run.
pub(super) const HEALTH_PATIENCE: Nanos = Nanos(15_000_000_000);
/// Errors that are told one by one; more are counted.
pub(super) const MOST_TOLD: u64 = 1000;
/// Longest wait for the system to say that a drive has left, where an error suggests it, in tenths of a second.
pub(super) const LEAVING: u32 = 20;

/// How a plan is executed.
#[derive(Clone, Debug)]
pub struct Terms {
    /// The pace of a simulated drive.
    pub speed: Speed,
    /// Whether what is made for the run stays.
    pub keep: bool,
    /// Where it goes on, if it was interrupted.
    pub go_on: Option<GoOn>,
    /// Where bench instruments put their readings, if there are any.
    pub board: Option<Arc<Board>>,
}

impl Terms {
    /// From the start, and as fast as it goes.
    pub const PLAIN: Self = Self { speed: Speed::Max, keep: false, go_on: None, board: None };
}

/// How a lane has ended.
pub struct LaneEnd {
    /// How.
    pub outcome: Outcome,
    /// All of its samples that were told, and those from before it went on.
    pub trace: Trace,
    /// What they show, without what the run said of faults.
    pub findings: Option<Findings>,
}

/// One lane of a run: its plan, its drive, and on what terms.
pub struct LaneRun<'a> {
    /// The plan. Those of all lanes have as many legs.
    pub plan: &'a Plan,
    /// The drive.
    pub drive: &'a mut dyn Drive,
    /// The terms; the speed is that of the first lane.
    pub terms: Terms,
}

/// One lane of a run as it goes on.
pub(super) struct Run<'a> {
    pub(super) plan: &'a Plan,
    pub(super) head: &'a LaneHead,
    /// Where it meets the other lanes, and its number there; `None` where it has none.
    pub(super) seat: Option<(&'a Meeting, usize)>,
    /// The channels of the run; those that this drive gives; the newest value of each, and when each was taken.
    pub(super) channels: &'a [Channel],
    pub(super) own_channels: Vec<u32>,
    pub(super) latest: Vec<Option<f64>>,
    pub(super) last_taken: Vec<Nanos>,
    pub(super) board: Option<Arc<Board>>,
    pub(super) drive: &'a mut dyn Drive,
    pub(super) commands: &'a Receiver<Command>,
    pub(super) tell: &'a mut dyn FnMut(Message),
    pub(super) live: LiveFindings,
    pub(super) host: Option<Host>,
    pub(super) speed: Speed,
    pub(super) wall: Monotonic,
    pub(super) sample_start: Nanos,
    pub(super) tally: Tally,
    pub(super) moved: Bytes,
    /// Bytes that the run had moved when the drive was opened: 0 but for one that goes on.
    pub(super) moved_at_open: Bytes,
    /// Bytes that may be in flight.
    pub(super) in_flight_at_most: u64,
    /// Bytes of others that were told.
    pub(super) foreign_told: f64,
    pub(super) leg_latency: hdrhistogram::Histogram<u64>,
    pub(super) last: Readings,
    pub(super) paused: bool,
    pub(super) sensor_lost: bool,
    /// Whether a leg that writes was skipped.
    pub(super) write_skipped: bool,
    /// Leg and operation underway.
    pub(super) doing: (u32, Op),
    /// Operations that failed, and stretches that verified wrong.
    pub(super) errors: u64,
    /// The same by kind and address.
    pub(super) faults: Vec<Faults>,
    /// Whether it was told that nothing comes back.
    pub(super) told_waiting: bool,
    /// Where the run goes on, until it does.
    pub(super) go_on: Option<GoOn>,
    /// Bytes that the run has written.
    pub(super) written: Bytes,
    /// Time in which the run was interrupted.
    pub(super) gaps: Nanos,
    /// When a fall of the rate was announced in the leg underway.
    pub(super) break_at: Option<Nanos>,
    /// Since when others move more than the course allows.
    pub(super) others_since: Option<Nanos>,
    /// The rest that a guard asked for.
    pub(super) cooling: Option<Cooling>,
    /// Whether the operator has answered.
    pub(super) answered: bool,
    /// Where in a zone of a scan the transfer underway began.
    pub(super) zone_at: Option<ZoneAt>,
    /// Bytes of the leg underway of which the operations failed.
    pub(super) failed: u64,
    /// What a scan that is underway could not read.
    pub(super) bad: BadStretches,
    /// Whether the drive has moved all that it was last asked to.
    pub(super) is_through: bool,
    /// The engine that was told last.
    pub(super) engine_said: Option<String>,
    /// Whether the run was asked to stop, and whether it was asked again and leaves what it waits for.
    pub(super) stopping: bool,
    pub(super) left: bool,
    /// Whether it was told what the stop waits for.
    pub(super) told_stop: bool,
    /// The leg underway, and what the run had moved when it began: where the run would go on.
    pub(super) standing: (usize, Bytes),
    /// What the whole run shows, once it has ended.
    pub(super) settled: Option<Findings>,
    /// When to look at the health next.
    pub(super) health_due: Nanos,
    /// The health as it was seen last.
    pub(super) health: Option<Health>,
    /// What a guard on a counter of the health saw.
    pub(super) counter_guard: Option<String>,
    /// What a folder gave that was read alone, MB/s, before it is copied in.
    pub(super) source_alone: Option<(String, f64)>,
}
