//! Writes a run to the logbook from a thread of its own, in blocks at most one second apart.
//!
//! What always holds, whatever the logbook's disk does: whoever runs a real drive is never held up; what cannot be written waits in
//! memory, then in a file elsewhere ([`crate::side`]), and is written as soon as that works again; what could not be kept anywhere is
//! told as a gap of its true length. Each of these is told at once, as an event of the run.

use crate::archive::{Archive, Kept};
use crate::side::SideFile;
use crate::store::{Block, LogbookError};
use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, TrySendError, bounded, unbounded};
use mile_core::channel::Reading;
use mile_core::{Bytes, Nanos, Sample};
use mile_drive::clock::Monotonic;
use mile_runner::{Awaited, Event, EventKind, HealthShot, Message, Outcome, RunHead};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

/// Longest time that a message waits for its block to be written.
const EVERY: Nanos = Nanos(400_000_000);
/// Samples that fill a block before its time.
const FULL: usize = 4096;
/// Messages that may wait: a simulated drive at full speed waits for the disk.
const QUEUE: usize = 1 << 14;
/// Time for which what cannot be written waits in memory alone.
const IN_MEMORY: Nanos = Nanos(5_000_000_000);
/// Samples that may wait in memory where they can be kept nowhere: half a day at 5 samples a second, about 60 MB.
const MOST_WAITING: usize = 200_000;
/// Longest time that the end of a run waits for its logbook.
const AT_THE_END: Nanos = Nanos(15_000_000_000);

/// Samples that did not even reach the recorder.
#[derive(Clone, Copy, Debug, Default)]
struct Missed {
    from: Nanos,
    to: Nanos,
    samples: u64,
}

impl Missed {
    fn add(&mut self, sample: &Sample) {
        if self.samples == 0 {
            self.from = sample.start;
        }
        self.to = sample.end;
        self.samples += 1;
    }
}

/// A run being recorded.
pub struct Recorder {
    queue: Option<Sender<(u32, Message)>>,
    /// Wakes the thread before its time.
    bell: Option<Sender<()>>,
    thread: Option<JoinHandle<Result<i64, LogbookError>>>,
    missed: Arc<Mutex<Vec<Missed>>>,
    waits: bool,
}

/// A run that is entered in a logbook.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entered {
    /// Its number.
    pub run: i64,
    /// What is kept of each of its lanes.
    pub lanes: Vec<Kept>,
}

impl Entered {
    /// A run that begins, with so many lanes.
    pub fn new(run: i64, lanes: usize) -> Self {
        Self { run, lanes: vec![Kept::default(); lanes] }
    }
}

/// What a recorder is given.
pub struct Errand {
    /// The run, which is in the logbook already.
    pub entered: Entered,
    /// Is told at once what becomes of the log.
    pub told: Sender<Event>,
    /// Whether who hands over messages may be held up: a simulated drive does not mind.
    pub waits: bool,
    /// Folders in which a file may be made for what the logbook does not take, the first that takes it.
    pub aside: Vec<PathBuf>,
}

impl Recorder {
    /// Starts the thread.
    ///
    /// # Errors
    /// Where the system has no thread.
    pub fn start(book: impl Archive + 'static, errand: Errand) -> std::io::Result<Self> {
        let (queue, messages) = bounded(QUEUE);
        let (bell, rung) = bounded(1);
        let missed = Arc::new(Mutex::new(vec![Missed::default(); errand.entered.lanes.len()]));
        let (waits, shared) = (errand.waits, Arc::clone(&missed));
        let thread = std::thread::Builder::new().name("logbook".into()).spawn(move || {
            let sync = Synced::start(book.keeper()).ok();
            Keeping::new(book, errand, sync, shared).record(&messages, &rung)
        })?;
        Ok(Self { queue: Some(queue), bell: Some(bell), thread: Some(thread), missed, waits })
    }

    /// Hands over a message of a lane. Never waits for a real drive's sake; a sample for which there is no room is told as a gap. Gives false
    /// where the thread has ended, which [`Recorder::finish`] explains.
    pub fn tell(&self, lane: u32, message: Message) -> bool {
        let (Some(queue), Some(bell)) = (&self.queue, &self.bell) else { return false };
        let awaited = matches!(message, Message::Ended(_) | Message::Keep(_));
        let ring = || {
            // A ring that has not been heard yet is enough.
            let _ = bell.try_send(());
        };
        match queue.try_send((lane, message)) {
            Ok(()) => {
                // Whoever drives a run does not wake another thread with each sample.
                if awaited || queue.len() >= QUEUE / 2 {
                    ring();
                }
                true
            }
            Err(TrySendError::Disconnected(_)) => false,
            Err(TrySendError::Full((lane, Message::Sample(sample)))) if !self.waits => {
                let mut missed = self.missed.lock().unwrap_or_else(PoisonError::into_inner);
                if let Some(missed) = missed.get_mut(lane as usize) {
                    missed.add(&sample);
                }
                true
            }
            Err(TrySendError::Full(message)) => {
                ring();
                let is_sent = queue.send(message).is_ok();
                ring();
                is_sent
            }
        }
    }

    /// Waits until everything is kept, and gives the run's number.
    ///
    /// # Errors
    /// Where not everything could be kept in the logbook; the error says where the rest is.
    pub fn finish(mut self) -> Result<i64, LogbookError> {
        (self.queue, self.bell) = (None, None);
        match self.thread.take().map(JoinHandle::join) {
            Some(Ok(result)) => result,
            // The thread panicked: what it had committed is kept, and the run will be found cut short.
            _ => Err(LogbookError::Io {
                path: "of this run".into(),
                doing: "write to",
                source: std::io::Error::other("its thread ended unexpectedly"),
            }),
        }
    }
}

/// Has the disk keep what was committed, each time it is asked to, on a thread of its own: the next block need not wait for it.
/// What it cannot sync is no loss now, and the run's last commit tells of a disk that fails.
struct Synced {
    ask: Option<Sender<Option<Awaited>>>,
    thread: Option<JoinHandle<()>>,
}

impl Synced {
    fn start(mut keeper: Box<dyn FnMut() + Send>) -> std::io::Result<Self> {
        let (ask, asked) = unbounded::<Option<Awaited>>();
        let keep = move || {
            for awaited in asked {
                keeper();
                drop(awaited);
            }
        };
        let thread = std::thread::Builder::new().name("logbook sync".into()).spawn(keep)?;
        Ok(Self { ask: Some(ask), thread: Some(thread) })
    }

    /// One request that waits is enough: it covers all that was committed before it is served.
    fn ask(&self) {
        let _ = self.ask.as_ref().filter(|ask| ask.is_empty()).map(|ask| ask.send(None));
    }

    /// A request that somebody waits for: it is answered when the disk has done it. Nobody waits here.
    fn ask_for(&self, awaited: Awaited) {
        let _ = self.ask.as_ref().map(|ask| ask.send(Some(awaited)));
    }
}

impl Drop for Synced {
    fn drop(&mut self) {
        self.ask = None;
        let _ = self.thread.take().map(JoinHandle::join);
    }
}

/// What is to be written of a lane.
#[derive(Default)]
struct PendingLane {
    samples: Vec<Sample>,
    events: Vec<(u64, Event)>,
    healths: Vec<HealthShot>,
    latencies: Vec<(u32, Vec<u8>)>,
    /// Samples that are in the logbook, or in the file elsewhere.
    written: u64,
    events_seen: u64,
}

impl PendingLane {
    fn is_empty(&self) -> bool {
        self.samples.is_empty()
            && self.events.is_empty()
            && self.healths.is_empty()
            && self.latencies.is_empty()
    }

    fn event(&mut self, event: Event) {
        self.events.push((self.events_seen, event));
        self.events_seen += 1;
    }

    fn block(&self, lane: usize) -> Option<Block<'_>> {
        let Self { samples, events, written, .. } = self;
        (!samples.is_empty() || !events.is_empty()).then_some(Block {
            lane,
            first: *written,
            samples,
            events,
        })
    }

    /// Writes what is no sample or event.
    fn flush(&mut self, book: &mut impl Archive, run: i64, lane: usize) -> Result<(), LogbookError> {
        while let Some(shot) = self.healths.first() {
            book.keep_health(run, lane, shot)?;
            self.healths.remove(0);
        }
        while let Some((leg, histogram)) = self.latencies.first() {
            book.keep_latency(run, lane, *leg, histogram)?;
            self.latencies.remove(0);
        }
        Ok(())
    }

    /// As messages, in the order in which they may be read again.
    fn messages(&self) -> impl Iterator<Item = Message> + '_ {
        let samples = self.samples.iter().cloned().map(Message::Sample);
        let events = self.events.iter().map(|(_, e)| Message::Event(e.clone()));
        let healths = self.healths.iter().map(|h| Message::Health(Box::new(h.clone())));
        let latencies = self.latencies.iter().map(|(leg, h)| Message::LegLatency(*leg, h.clone()));
        samples.chain(events).chain(healths).chain(latencies)
    }

    /// Forgets the samples and events, which are kept now.
    fn clear_block(&mut self) {
        self.written += self.samples.len() as u64;
        self.samples.clear();
        self.events.clear();
    }

    /// Forgets what is kept now.
    fn clear(&mut self) {
        self.clear_block();
        self.healths.clear();
        self.latencies.clear();
    }

    /// Gives up the older half of the samples.
    fn give_up(&mut self) -> Missed {
        let mut missed = Missed::default();
        let half = self.samples.len() / 2;
        self.samples.drain(..half).for_each(|s| missed.add(&s));
        missed
    }
}

/// What is to be written.
#[derive(Default)]
struct Pending {
    head: Option<Box<RunHead>>,
    lanes: Vec<PendingLane>,
    /// Readings of channels, by their places in the list of the run.
    readings: BTreeMap<u32, Vec<Reading>>,
}

impl Pending {
    fn is_empty(&self) -> bool {
        self.head.is_none() && self.readings.is_empty() && self.lanes.iter().all(PendingLane::is_empty)
    }

    fn samples(&self) -> usize {
        let samples: usize = self.lanes.iter().map(|l| l.samples.len()).sum();
        // A reading takes about a tenth of what a sample does.
        samples + self.readings.values().map(Vec::len).sum::<usize>() / 10
    }

    fn flush(&mut self, book: &mut impl Archive, run: i64) -> Result<(), LogbookError> {
        if let Some(head) = &self.head {
            book.amend(run, head)?;
            self.head = None;
        }
        let blocks: Vec<Block<'_>> =
            self.lanes.iter().enumerate().filter_map(|(lane, l)| l.block(lane)).collect();
        if !blocks.is_empty() {
            book.append(run, &blocks)?;
            self.lanes.iter_mut().for_each(PendingLane::clear_block);
        }
        while let Some(first) = self.readings.first_entry() {
            book.keep_readings(run, *first.key(), first.get())?;
            first.remove();
        }
        self.lanes.iter_mut().enumerate().try_for_each(|(lane, l)| l.flush(book, run, lane))
    }

    fn messages(&self) -> Vec<(u32, Message)> {
        let mut all: Vec<(u32, Message)> =
            self.head.iter().cloned().map(|head| (0, Message::Began(head))).collect();
        for (lane, pending) in self.lanes.iter().enumerate() {
            all.extend(pending.messages().map(|m| (lane as u32, m)));
        }
        for (channel, readings) in &self.readings {
            all.extend(readings.iter().map(|r| (0, Message::Reading(*channel, *r))));
        }
        all
    }

    fn clear(&mut self) {
        self.head = None;
        self.readings.clear();
        self.lanes.iter_mut().for_each(PendingLane::clear);
    }
}

/// A run that is being kept.
struct Keeping<A> {
    book: A,
    errand: Errand,
    run: i64,
    pending: Pending,
    /// How each lane ended.
    ended: Vec<Option<Outcome>>,
    clock: Monotonic,
    sync: Option<Synced>,
    /// Since when the logbook does not take anything.
    failing: Option<Nanos>,
    side: Option<SideFile>,
    missed: Arc<Mutex<Vec<Missed>>>,
    /// Where the run is: for what is told of its log.
    at: Nanos,
    bytes: Bytes,
}

impl<A: Archive> Keeping<A> {
    fn new(book: A, errand: Errand, sync: Option<Synced>, missed: Arc<Mutex<Vec<Missed>>>) -> Self {
        let lane =
            |k: &Kept| PendingLane { written: k.samples, events_seen: k.events, ..PendingLane::default() };
        let lanes: Vec<PendingLane> = errand.entered.lanes.iter().map(lane).collect();
        Self {
            book,
            run: errand.entered.run,
            ended: vec![None; lanes.len()],
            pending: Pending { lanes, ..Pending::default() },
            errand,
            clock: Monotonic::start(),
            sync,
            failing: None,
            side: None,
            missed,
            at: Nanos(0),
            bytes: Bytes(0),
        }
    }

    /// Sleeps until a block is due, or until the bell rings, and takes all that has come meanwhile.
    fn record(
        &mut self,
        messages: &Receiver<(u32, Message)>,
        rung: &Receiver<()>,
    ) -> Result<i64, LogbookError> {
        // Without the thread that syncs, every commit waits for the disk. Where this cannot be set, each does.
        let _ = self.book.wait_for_disk(self.sync.is_none());
        let mut due = EVERY;
        loop {
            let wait = Duration::from_nanos(due.since(self.clock.now()).0);
            let is_over = rung.recv_timeout(wait) == Err(RecvTimeoutError::Disconnected);
            for (lane, message) in messages.try_iter().take(messages.len()) {
                if let Message::Keep(asked) = message {
                    self.keep_for(asked);
                    continue;
                }
                self.take(lane as usize, message);
                if self.ended.iter().all(Option::is_some) {
                    return self.end(true);
                }
                if self.failing.is_none() && self.pending.samples() >= FULL {
                    self.keep();
                }
            }
            if is_over {
                return self.end(false);
            }
            if self.clock.now() >= due {
                self.keep();
                due = self.clock.now().plus(EVERY);
            }
        }
    }

    fn take(&mut self, lane: usize, message: Message) {
        let Some(pending) = self.pending.lanes.get_mut(lane) else { return };
        match message {
            Message::Sample(sample) => {
                self.at = self.at.max(sample.end);
                self.bytes.0 += if lane == 0 { sample.moved().0 } else { 0 };
                pending.samples.push(sample);
            }
            Message::Event(event) => pending.event(event),
            Message::Health(shot) => pending.healths.push(*shot),
            Message::LegLatency(leg, histogram) => pending.latencies.push((leg, histogram)),
            Message::Ended(outcome) => self.ended[lane] = Some(*outcome),
            Message::Began(head) => self.pending.head = Some(head),
            Message::Reading(channel, reading) => {
                self.pending.readings.entry(channel).or_default().push(reading);
            }
            Message::SelfTest(_) | Message::Keep(_) => {}
        }
    }

    /// Has the disk keep all that was told by now, and answers the run that waits for that. Where the logbook takes nothing, a file
    /// elsewhere has it, or the run is answered nevertheless.
    fn keep_for(&mut self, asked: Awaited) {
        if !self.keep() {
            self.put_aside();
        } else if let Some(sync) = &self.sync {
            sync.ask_for(asked);
        }
    }

    /// Tells something of the log. It is an event of the first lane, as there is one log for all.
    fn tell(&mut self, kind: EventKind) {
        self.tell_of(0, kind);
    }

    fn tell_of(&mut self, lane: usize, kind: EventKind) {
        let event = Event { at: self.at, bytes: self.bytes, kind };
        if let Some(pending) = self.pending.lanes.get_mut(lane) {
            pending.event(event.clone());
        }
        // Nobody may be listening.
        let _ = self.errand.told.send(event);
    }

    fn tell_gap(&mut self, lane: usize, missed: Missed) {
        if missed.samples > 0 {
            let Missed { from, to, samples } = missed;
            self.tell_of(lane, EventKind::LogGap { from, to, samples });
        }
    }

    /// Writes what waits, if that works now. Gives whether it did.
    fn keep(&mut self) -> bool {
        let missed: Vec<Missed> = {
            let mut missed = self.missed.lock().unwrap_or_else(PoisonError::into_inner);
            missed.iter_mut().map(std::mem::take).collect()
        };
        missed.into_iter().enumerate().for_each(|(lane, m)| self.tell_gap(lane, m));
        if self.pending.is_empty() && self.failing.is_none() {
            return true;
        }
        match self.write() {
            Ok(()) => {
                if let Some(sync) = &self.sync {
                    sync.ask();
                }
                if let Some(since) = self.failing.take() {
                    self.tell(EventKind::LogBack { after: self.clock.now().since(since) });
                }
                true
            }
            Err(e) => {
                let now = self.clock.now();
                let since = match self.failing {
                    Some(since) => since,
                    None => {
                        self.failing = Some(now);
                        self.tell(EventKind::LogWaiting { why: e.to_string() });
                        now
                    }
                };
                if now.since(since) >= IN_MEMORY || self.pending.samples() >= MOST_WAITING {
                    self.put_aside();
                }
                false
            }
        }
    }

    fn write(&mut self) -> Result<(), LogbookError> {
        if let Some(side) = &self.side {
            side.bring_back(&mut self.book)?;
        }
        if let Some(side) = self.side.take() {
            side.remove();
        }
        self.pending.flush(&mut self.book, self.run)
    }

    /// Puts what waits into a file elsewhere. Where that cannot be either, the oldest is given up once too much waits. Gives whether
    /// nothing waits now.
    fn put_aside(&mut self) -> bool {
        if self.side.is_none() {
            let kept = |l: &PendingLane| Kept {
                samples: l.written,
                events: l.events.first().map_or(l.events_seen, |e| e.0),
            };
            let kept = self.pending.lanes.iter().map(kept).collect();
            self.side = SideFile::make(&self.errand.aside, self.book.path(), self.run, kept);
            if let Some(path) = self.side.as_ref().map(|s| s.path().to_owned()) {
                self.tell(EventKind::LogAside { path: path.display().to_string() });
            }
        }
        if self.side.as_mut().is_some_and(|side| side.append(&self.pending.messages())) {
            self.pending.clear();
            return true;
        }
        if self.pending.samples() >= MOST_WAITING {
            self.pending.readings.clear();
            let missed: Vec<Missed> = self.pending.lanes.iter_mut().map(PendingLane::give_up).collect();
            missed.into_iter().enumerate().for_each(|(lane, m)| self.tell_gap(lane, m));
        }
        false
    }

    /// Ends the run, or what there is of one whose end nobody told.
    fn end(&mut self, over: bool) -> Result<i64, LogbookError> {
        let from = self.clock.now();
        let outcomes = std::mem::take(&mut self.ended);
        let known: Vec<(&str, &Outcome)> = outcomes.iter().flatten().map(|o| ("", o)).collect();
        let status = Outcome::of_lanes(&known).filter(|_| over).map(|o| o.status);
        loop {
            let closed = if self.keep() {
                // What the last block told of the log itself.
                self.pending.flush(&mut self.book, self.run).and_then(|()| {
                    self.sync = None;
                    let _ = self.book.wait_for_disk(true);
                    status.map_or(Ok(()), |s| self.book.close(self.run, s, &outcomes))
                })
            } else {
                Err(LogbookError::NotKept { path: self.book.path().to_owned() })
            };
            match closed {
                Ok(()) => return Ok(self.run),
                Err(_) if self.clock.now().since(from) < AT_THE_END => {
                    self.clock.sleep_until(self.clock.now().plus(Nanos(EVERY.0 / 2)));
                }
                Err(e) => {
                    let kept = self.put_aside();
                    let ended = |(lane, o): (usize, &Option<Outcome>)| {
                        Some((lane as u32, Message::Ended(Box::new(o.clone()?))))
                    };
                    let ended: Vec<(u32, Message)> = outcomes.iter().enumerate().filter_map(ended).collect();
                    let Some(side) = self.side.as_mut().filter(|_| kept) else { return Err(e) };
                    if !side.append(&ended) {
                        return Err(e);
                    }
                    return Err(LogbookError::Aside {
                        path: self.book.path().to_owned(),
                        aside: side.path().to_owned(),
                    });
                }
            }
        }
    }
}
