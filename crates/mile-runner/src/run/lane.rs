//! One lane of a run, from its first leg to its end.

use super::attend::Attended;
use super::bad::BadStretches;
use super::ends::{Guarded, LegEnd, Watch};
use super::files;
use super::meeting::Meeting;
use super::scan::Visits;
use super::state::{LaneEnd, Run, Terms};
use crate::Speed;
use crate::message::{Command, EndKind, Event, EventKind, HealthShot, Message, Outcome, RunHead, Status};
use crossbeam_channel::Receiver;
use mile_core::channel::{Channel, Source};
use mile_core::health::SelfTestKind;
use mile_core::{Bytes, LiveFindings, Nanos, Op};
use mile_course::{Plan, PlannedLeg, PlannedTransfer, Work};
use mile_drive::clock::Monotonic;
use mile_drive::drive::PATIENCE;
use mile_drive::host::Host;
use mile_drive::{Drive, DriveError, Readings, Tally, Transfer};

/// Runs `plan` on `drive` and tells all of it to `tell`: first `Began`, last `Ended`. The drive is opened and closed; what was
/// made for the run stays if the terms say so. Gives how it ended.
///
/// A real drive runs in its own time, whatever `speed` is.
pub fn execute(
    plan: &Plan,
    mut head: RunHead,
    drive: &mut dyn Drive,
    terms: Terms,
    commands: &Receiver<Command>,
    tell: &mut dyn FnMut(Message),
) -> Outcome {
    begin(&mut head, 0, drive, terms.go_on.is_some());
    tell(Message::Began(Box::new(head.clone())));
    lane(plan, &head, 0, drive, terms, None, commands, tell).outcome
}

/// Says which run a drive writes for, and looks at its health where the run begins on it.
pub(super) fn begin(head: &mut RunHead, lane: usize, drive: &mut dyn Drive, goes_on: bool) {
    if let Some(run) = head.identity {
        drive.set_run(run);
    }
    if let Some(lane) = head.lanes.get_mut(lane).filter(|_| !goes_on) {
        lane.health = drive.health();
    }
}

/// Runs one lane of a run, which has been told to begin.
#[expect(clippy::too_many_arguments, reason = "each is of another kind, and there are two callers")]
pub(super) fn lane(
    plan: &Plan,
    head: &RunHead,
    number: usize,
    drive: &mut dyn Drive,
    terms: Terms,
    meeting: Option<&Meeting>,
    commands: &Receiver<Command>,
    tell: &mut dyn FnMut(Message),
) -> LaneEnd {
    let Terms { speed, keep, mut go_on, board } = terms;
    let channels = &head.channels;
    let of_drive = |c: &Channel| c.of == Some(number as u32) && c.source == Source::Drive;
    let own: Vec<u32> = (0..).zip(channels).filter(|(_, c)| of_drive(c)).map(|(i, _)| i).collect();
    let head = head.lane(number);
    let mut live = LiveFindings::new(head.context());
    let (mut moved, mut written) = (Bytes(0), Bytes(0));
    match &mut go_on {
        None => {}
        Some(go_on) => {
            drive.start_at(go_on.at);
            live.push_series(&std::mem::take(&mut go_on.series), number);
            for sample in std::mem::take(&mut go_on.samples) {
                moved.0 += sample.moved().0;
                written.0 += sample.written.0;
                live.push(&sample, head.leg_name(sample.leg));
            }
            // What was found then was told then.
            live.settle();
        }
    }
    let host = if drive.is_virtual() { None } else { Some(Host::new()) };
    let speed = if drive.is_virtual() { speed } else { Speed::Times(1.0) };
    let mut run = Run {
        plan,
        head,
        seat: meeting.map(|m| (m, number)),
        channels,
        own_channels: own,
        latest: vec![None; channels.len()],
        last_taken: vec![Nanos(0); channels.len()],
        board,
        drive,
        commands,
        tell,
        live,
        host,
        speed,
        wall: Monotonic::start(),
        // Nothing is sampled before the run has begun: one that is refused, or goes on and is refused, has no time of its own.
        sample_start: Nanos(u64::MAX),
        tally: Tally::default(),
        moved,
        moved_at_open: moved,
        in_flight_at_most: 0,
        foreign_told: 0.0,
        leg_latency: mile_drive::tally::histogram(),
        last: Readings::default(),
        paused: false,
        sensor_lost: false,
        write_skipped: go_on.as_ref().is_some_and(|g| g.write_skipped),
        doing: (0, Op::Idle),
        errors: 0,
        faults: Vec::new(),
        told_waiting: false,
        written,
        gaps: go_on.as_ref().map_or(Nanos(0), |g| g.gaps),
        break_at: go_on.as_ref().and_then(|g| g.break_at),
        others_since: None,
        cooling: None,
        answered: false,
        is_through: false,
        engine_said: None,
        zone_at: None,
        failed: 0,
        bad: BadStretches::default(),
        stopping: false,
        left: false,
        told_stop: false,
        standing: (0, Bytes(0)),
        settled: None,
        health_due: go_on.as_ref().map_or(Nanos(0), |g| g.at).plus(plan.health_every),
        go_on,
        health: head.health.clone(),
        counter_guard: None,
        source_alone: None,
    };
    let ended = run.all();
    let mut outcome = run.outcome(ended);
    let keep = keep || run.needs_what_it_wrote(outcome.status);
    let flushed = run.settle();
    let findings = run.settled.take();
    let (stopped, left, trace) = (run.stopping, run.left, run.live.take_trace());
    if let Err(e) = flushed.and(drive.close(keep)) {
        let text = e.to_string();
        tell(Message::Event(Event {
            at: outcome.at,
            bytes: outcome.bytes,
            kind: EventKind::Failed(text.clone()),
        }));
        if outcome.status == Status::Done {
            (outcome.status, outcome.why) = (Status::Failed, Some(text));
        }
    }
    if outcome.status == Status::Stopped && stopped && left {
        outcome.why =
            Some("stopped on request, without waiting for operations that had not come back".into());
    }
    tell(Message::Ended(Box::new(outcome.clone())));
    LaneEnd { outcome, trace, findings }
}

impl Run<'_> {
    pub(super) fn all(&mut self) -> Result<LegEnd, DriveError> {
        if self.go_on.is_none() {
            for note in &self.plan.notes {
                self.event(EventKind::Fitted(note.clone()));
            }
        }
        self.drive.open()?;
        self.check_what_is_relied_on()?;
        self.share_the_clock();
        self.sample_start = self.drive.now();
        self.last = self.drive.readings();
        let first = self.go_on.as_ref().map_or(0, |g| g.leg as usize);
        self.standing = (first, self.moved);
        if let (Some(on), Some(leg)) = (self.go_on.clone(), self.plan.legs.get(first)) {
            self.bridge(first as u32, leg, &on);
        }
        self.begin_to_mind_counters();
        for (i, leg) in self.plan.legs.iter().enumerate().skip(first) {
            if let Some(why) = self.counter_guard.take() {
                let guard = Guarded::Other(why);
                self.event(guard.event());
                return Ok(LegEnd::Guarded(guard));
            }
            if let Some(end) = self.meet(i)? {
                self.event(if let LegEnd::Guarded(guard) = &end {
                    guard.event()
                } else {
                    EventKind::Stopped
                });
                return Ok(end);
            }
            let before = self.go_on.as_ref().map_or(0, |g| g.moved.0);
            self.standing = (i, Bytes(self.moved.0 - before));
            let end = self.leg(i as u32, leg)?;
            if let Some((meeting, lane)) = self.seat {
                meeting.close_copies(Some(i), lane);
            }
            let (kind, why) = match &end {
                LegEnd::Planned(why) => (EndKind::Planned, why.clone()),
                LegEnd::Skipped => (EndKind::Skipped, "skipped on request".into()),
                LegEnd::Stopped => (EndKind::Stopped, "the run was stopped".into()),
                LegEnd::Guarded(..) => (EndKind::Guarded, "a guard stopped the run".into()),
            };
            let over = matches!(end, LegEnd::Planned(_) | LegEnd::Skipped);
            if let Some((meeting, lane)) = self.seat.filter(|_| over) {
                meeting.reach(lane, i + 1, self.drive.now());
            }
            // A lane that watches does so until the others have come to their ends.
            let left = if leg.work == Work::Watch { self.meet(i + 1)? } else { None };
            let over = over && left.is_none();
            let name = leg.name.clone();
            self.event(EventKind::LegEnded { leg: i as u32, name, why, over, kind: Some(kind) });
            let end = left.unwrap_or(end);
            match end {
                LegEnd::Planned(_) | LegEnd::Skipped => self.standing = (i + 1, self.moved),
                LegEnd::Stopped => {
                    self.event(EventKind::Stopped);
                    return Ok(LegEnd::Stopped);
                }
                LegEnd::Guarded(ref guard) => {
                    self.event(guard.event());
                    return Ok(end);
                }
            }
        }
        if let Some(end) = self.meet(self.plan.legs.len())? {
            self.event(if let LegEnd::Guarded(guard) = &end { guard.event() } else { EventKind::Stopped });
            return Ok(end);
        }
        Ok(LegEnd::Planned(String::new()))
    }

    pub(super) fn leg(&mut self, index: u32, leg: &PlannedLeg) -> Result<LegEnd, DriveError> {
        self.leg_latency.reset();
        (self.zone_at, self.failed, self.bad) = (None, 0, BadStretches::default());
        self.doing = (
            index,
            match &leg.work {
                Work::Transfer(t) => t.load.op,
                Work::Files(f) => files::op_of(f.op),
                _ => Op::Idle,
            },
        );
        let mut began = self.drive.now();
        let mut moved = Bytes(0);
        match self.go_on.take() {
            // A leg that had not begun begins as it would have.
            Some(on) if on.leg == index && (on.moved.0 > 0 || on.spent.0 > 0) => {
                (moved, self.failed) = (on.moved, on.failed.0);
                self.bad = BadStretches::of(on.later, on.cuts);
                began = Nanos(began.0.saturating_sub(on.spent.0));
            }
            _ => {
                self.break_at = None;
                self.event(EventKind::LegBegan { leg: index, name: leg.name.clone(), words: leg.words() });
            }
        }
        if leg.work.takes_away() {
            let before = self.drive.now();
            self.wait_for_the_log();
            if self.stopping {
                self.close_sample(index, Op::Idle);
                return Ok(LegEnd::Stopped);
            }
            began = began.plus(self.drive.now().since(before));
        }
        let end = match &leg.work {
            // How long that takes is for the other lanes to say.
            Work::Watch => return Ok(LegEnd::Planned("the other lanes have ended it".into())),
            Work::Skip | Work::Told(_) => return Ok(LegEnd::Planned("there was nothing to wait for".into())),
            Work::Rest => self.rest(index, leg, began)?,
            Work::Expect => self.expect(index, leg, began)?,
            Work::Ask(text) => self.ask(index, text, leg.time)?,
            Work::Health => {
                if let Some(health) = self.drive.health() {
                    self.watch_health(&health);
                    let shot = HealthShot { at: self.drive.now(), bytes: self.moved, health };
                    (self.tell)(Message::Health(Box::new(shot)));
                }
                self.close_sample(index, Op::Idle);
                LegEnd::Planned("kept with the run".into())
            }
            Work::SelfTest(kind) => self.self_test(index, leg, *kind, (Bytes(0), Bytes(0)), began)?,
            Work::SelectiveTest { start, length } => {
                let over = (*start, Bytes(start.0 + length.0));
                self.self_test(index, leg, SelfTestKind::Selective, over, began)?
            }
            Work::Flush => {
                let flush = self.drive.flush();
                let done = self.attend(&flush, None)?;
                self.close_sample(index, Op::Idle);
                match done {
                    Attended::Done(done) if !self.stopping => {
                        done?;
                        LegEnd::Planned(format!("it took {}", self.drive.now().since(began)))
                    }
                    _ => LegEnd::Stopped,
                }
            }
            Work::Discard { start, length } => {
                let discard = self.drive.discard(*start, *length);
                let Attended::Done(done) = self.attend(&discard, None)? else {
                    self.close_sample(index, Op::Idle);
                    return Ok(LegEnd::Stopped);
                };
                if self.stopping {
                    self.close_sample(index, Op::Idle);
                    return Ok(LegEnd::Stopped);
                }
                let end = match done {
                    Ok(()) => format!("it took {}", self.drive.now().since(began)),
                    Err(e @ DriveError::NotOffered { .. }) => e.to_string(),
                    Err(e) => return Err(e),
                };
                self.close_sample(index, Op::Idle);
                LegEnd::Planned(end)
            }
            // Planning made sure that what is read was written before; a skip undoes that.
            Work::Transfer(t)
                if t.load.op != Op::Write
                    && self.write_skipped
                    && (t.verify || !self.drive.facts().readable) =>
            {
                let why = "passed over, as a leg that writes was skipped and its blocks may never have been written";
                return Ok(LegEnd::Planned(why.into()));
            }
            Work::Transfer(transfer) => {
                let end = self.transfer(index, leg, transfer, began, moved)?;
                let over = matches!(end, LegEnd::Planned(_) | LegEnd::Skipped);
                let end = if over && !self.look_at_bad(index, transfer)? { LegEnd::Stopped } else { end };
                self.write_skipped |= transfer.load.op != Op::Read && matches!(end, LegEnd::Skipped);
                self.tell_latency(index);
                end
            }
            Work::Files(work) => {
                let end = self.files(index, leg, work, began, moved)?;
                self.tell_latency(index);
                end
            }
        };
        Ok(end)
    }

    pub(super) fn transfer(
        &mut self,
        index: u32,
        leg: &PlannedLeg,
        work: &PlannedTransfer,
        began: Nanos,
        moved: Bytes,
    ) -> Result<LegEnd, DriveError> {
        let mut paused = Nanos(0);
        let before = self.moved.0 - moved.0;
        let mut first = true;
        let copy = self.end_of_copy(index);
        self.drive.join(copy.clone());
        let mut watch = Watch::new(&leg.seen, self.drive.now(), self.moved.0, self.errors);
        let mut visits = Visits::behind(work, index, self.live.trace()).with_cuts(self.bad.cuts());
        loop {
            if let Some(why) = visits.over() {
                return Ok(LegEnd::Planned(why));
            }
            // Begins, and begins again after a pause where it was left.
            let moved = copy.as_ref().map_or(self.moved.0 - before, |c| c.at().0);
            // What a scan cannot read it goes past.
            let moved = if visits.is_empty() { moved } else { moved + self.failed };
            let left = Bytes(work.budget.0.saturating_sub(moved));
            let room = self.room(&leg.work).filter(|room| *room < left);
            if room == Some(Bytes(0)) {
                let limit = self.plan.guards.written_at_most.unwrap_or_default();
                let why = format!(
                    "nothing more may be written: {} of the {limit} that the course allows are",
                    self.written
                );
                return Ok(LegEnd::Guarded(Guarded::Other(why)));
            }
            if let Some(end) = self.bad_time_is_over(work, &visits, Bytes(moved)) {
                return Ok(end);
            }
            if visits.is_last(Bytes(moved)) {
                self.look_at_alone(index, work)?;
            }
            // A stop that was heard while something was waited for.
            if self.stopping {
                return Ok(LegEnd::Stopped);
            }
            let piece = visits.piece(work, Bytes(moved));
            let gone = self.moved.0 + self.failed;
            self.bad.begin(self.drive.now(), gone, visits.is_last(Bytes(moved)));
            let budget = room.unwrap_or(left).min(piece.left);
            // Operations come back in any order: where a sample of a scan begins is known from what the zone has moved.
            self.zone_at = visits.at(&piece, gone, work);
            self.drive.begin(&Transfer {
                load: work.load,
                verify: work.verify,
                sealed: work.sealed,
                patience: self.plan.guards.patience.unwrap_or(PATIENCE),
                start: piece.start,
                length: piece.length,
                budget,
                skip: piece.skip,
                pass: work.pass,
            })?;
            self.in_flight_at_most = work.load.in_flight().0;
            if std::mem::take(&mut first) && !self.drive.is_virtual() {
                self.say_engine(self.drive.engine());
            }
            let end = self.go_on(index, leg, work, began.plus(paused), (before, &mut watch))?;
            let is_through = std::mem::take(&mut self.is_through);
            self.drain()?;
            self.in_flight_at_most = 0;
            self.mind_failures()?;
            self.close_sample(index, work.load.op);
            visits.follow(self.live.trace());
            if is_through {
                self.bad.over(self.drive.now(), budget);
            } else {
                self.put_off(&mut visits, Bytes(self.moved.0 + self.failed - before));
            }
            // What the guard on all that is written cut off is for the next round to say.
            let cut = room.is_some() && self.moved.0 - before < work.budget.0;
            // A zone of a scan is over, and the next is visited.
            if is_through && self.moved.0 + self.failed - before < work.budget.0 && !visits.is_empty() && !cut
            {
                continue;
            }
            if let Some(end) = end.filter(|e| !(cut && matches!(e, LegEnd::Planned(_)))) {
                return Ok(end);
            }
            let (end, time) = match self.cooling.take() {
                Some(cooling) => self.cool(index, cooling)?,
                None if self.paused => self.pause(index)?,
                // Cut off by the guard on all that is written, which the next round says.
                None => (None, Nanos(0)),
            };
            if let Some(end) = end {
                return Ok(end);
            }
            paused = paused.plus(time);
        }
    }

    /// Goes on with a transfer until it ends, or until a pause is asked for (`None`).
    pub(super) fn go_on(
        &mut self,
        index: u32,
        leg: &PlannedLeg,
        work: &PlannedTransfer,
        began: Nanos,
        (before, watch): (u64, &mut Watch),
    ) -> Result<Option<LegEnd>, DriveError> {
        let deadline = leg.time.map(|t| began.plus(t));
        loop {
            let until = self.slice_end(deadline);
            let finished = self.drive.advance(until, &mut self.tally)?;
            self.mind_failures()?;
            if finished {
                let now = self.moved.0 + self.tally.written.0 + self.tally.read.0;
                self.is_through = true;
                return Ok(Some(LegEnd::Planned(format!("{} moved", Bytes(now - before)))));
            }
            if let Some(end) = self.after_slice(index, work.load.op)? {
                return Ok(Some(end));
            }
            if self.paused || self.cooling.is_some() || self.is_bad_enough(work) {
                return Ok(None);
            }
            if let Some(why) = self.seen(watch) {
                return Ok(Some(LegEnd::Planned(why)));
            }
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                return Ok(Some(LegEnd::Planned(format!("{} have passed", leg.time.unwrap_or_default()))));
            }
        }
    }
}
