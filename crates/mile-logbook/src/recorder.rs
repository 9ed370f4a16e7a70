//! Writes a run to the logbook from a thread of its own, in blocks at most one second apart.

use crate::store::{Logbook, LogbookError};
use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, bounded};
use mile_core::{Nanos, Sample};
use mile_drive::clock::Monotonic;
use mile_runner::{Event, Message};
use std::path::PathBuf;
use std::thread::JoinHandle;
use std::time::Duration;

/// Longest time that a message waits for its block to be written.
const EVERY: Nanos = Nanos(500_000_000);
/// Samples that fill a block before its time.
const FULL: usize = 4096;
/// Messages that may wait: a real drive never gets near it; a simulated one at full speed waits for the disk.
const QUEUE: usize = 1 << 16;

/// A run being recorded.
pub struct Recorder {
    queue: Option<Sender<Message>>,
    thread: Option<JoinHandle<Result<i64, LogbookError>>>,
}

impl Recorder {
    /// Starts the thread. It enters the run into `book` when `Began` comes, and tells its number to `number`.
    pub fn start(book: Logbook, number: Sender<i64>, resumed: Option<Resumed>) -> std::io::Result<Self> {
        let (queue, messages) = bounded(QUEUE);
        let thread = std::thread::Builder::new()
            .name("logbook".into())
            .spawn(move || record(book, &messages, &number, resumed))?;
        Ok(Self { queue: Some(queue), thread: Some(thread) })
    }

    /// Hands over a message. Gives false where the thread has ended, which [`Recorder::finish`] explains.
    pub fn tell(&self, message: Message) -> bool {
        self.queue.as_ref().is_some_and(|q| q.send(message).is_ok())
    }

    /// Waits until everything is kept, and gives the run's number.
    pub fn finish(mut self) -> Result<i64, LogbookError> {
        self.queue = None;
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

/// A run that goes on: its number, and how many samples and events it has.
pub type Resumed = (i64, u64, u64);

#[derive(Default)]
struct Pending {
    samples: Vec<Sample>,
    events: Vec<(u64, Event)>,
    written: u64,
    events_seen: u64,
}

impl Pending {
    fn flush(&mut self, book: &mut Logbook, run: i64) -> Result<(), LogbookError> {
        if self.samples.is_empty() && self.events.is_empty() {
            return Ok(());
        }
        book.append(run, self.written, &self.samples, &self.events)?;
        self.written += self.samples.len() as u64;
        self.samples.clear();
        self.events.clear();
        Ok(())
    }
}

/// Has the disk keep what was committed, each time it is asked to, on a thread of its own: the next block need not wait for it.
/// What it cannot sync is no loss now, and the run's last commit tells of a disk that fails.
fn keep_synced(log: PathBuf) -> std::io::Result<Sender<()>> {
    let (ask, asked) = bounded::<()>(1);
    std::thread::Builder::new().name("logbook sync".into()).spawn(move || {
        for () in asked {
            let _ = std::fs::File::open(&log).and_then(|f| f.sync_data());
        }
    })?;
    Ok(ask)
}

fn record(
    mut book: Logbook,
    messages: &Receiver<Message>,
    number: &Sender<i64>,
    resumed: Option<Resumed>,
) -> Result<i64, LogbookError> {
    let clock = Monotonic::start();
    // Without the thread, every commit waits for the disk.
    let sync = keep_synced(book.log_file()).ok();
    book.wait_for_disk(sync.is_none())?;
    let mut due = EVERY;
    let (mut run, samples, events) = resumed.unwrap_or_default();
    let mut pending = Pending { written: samples, events_seen: events, ..Pending::default() };
    loop {
        let wait = Duration::from_nanos(due.since(clock.now()).0);
        match messages.recv_timeout(wait) {
            Ok(Message::Began(head)) => {
                match resumed {
                    None => run = book.begin(&head)?,
                    Some(_) => book.reopen(run)?,
                }
                // Nobody may be listening.
                let _ = number.send(run);
            }
            Ok(Message::Sample(sample)) => pending.samples.push(sample),
            Ok(Message::Event(event)) => {
                pending.events.push((pending.events_seen, event));
                pending.events_seen += 1;
            }
            Ok(Message::Health(shot)) => book.keep_health(run, &shot)?,
            Ok(Message::LegLatency(leg, histogram)) => book.keep_latency(run, leg, &histogram)?,
            Ok(Message::Ended(outcome)) => {
                pending.flush(&mut book, run)?;
                book.wait_for_disk(true)?;
                book.finish(run, outcome.status, Some(&outcome))?;
                return Ok(run);
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => {
                book.wait_for_disk(true)?;
                pending.flush(&mut book, run)?;
                return Ok(run);
            }
        }
        if pending.samples.len() >= FULL || clock.now() >= due {
            pending.flush(&mut book, run)?;
            if let Some(sync) = &sync {
                // One request that waits is enough: it covers all that was committed before it is served.
                let _ = sync.try_send(());
            }
            due = clock.now().plus(EVERY);
        }
    }
}
