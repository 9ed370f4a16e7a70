//! The recorder beside a logbook that fails: what it was told is kept, or marked as lost, and whoever runs the drive is never held up.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use crossbeam_channel::{Receiver, RecvTimeoutError};
use mile_core::channel::Reading;
use mile_core::{Bytes, Nanos, Op, Sample};
use mile_drive::clock::Monotonic;
use mile_logbook::{Archive, Block, Entered, Errand, Logbook, LogbookError, Recorder, side};
use mile_runner::{Awaited, Event, EventKind, HealthShot, LaneHead, Message, Outcome, RunHead, Status};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// How the logbook fails.
#[derive(Clone, Debug)]
enum Fails {
    /// Each operation by itself, with this share of all.
    Now(f64),
    /// From one operation on, for so many.
    From(u64, u64),
    /// Each operation takes so long.
    Slow(Duration),
    /// None; but nothing is written before the other end of this is dropped.
    Held(Receiver<()>),
    /// None; but the disk keeps nothing before the other end of this is dropped.
    Unsynced(Receiver<()>),
}

/// A logbook that fails on cue. What fails is not done, or, as a torn write would leave it, not known to be done.
struct Faulty {
    book: Logbook,
    fails: Fails,
    rng: Xoshiro256PlusPlus,
    operations: Arc<AtomicU64>,
    /// Samples in each block.
    blocks: Arc<Mutex<Vec<usize>>>,
}

impl Faulty {
    fn operation(&mut self) -> Result<(), LogbookError> {
        let n = self.operations.fetch_add(1, Ordering::Relaxed);
        let fails = match self.fails {
            Fails::Now(share) => (self.rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64 <= share,
            Fails::From(first, count) => (first..first.saturating_add(count)).contains(&n),
            Fails::Slow(time) => {
                std::thread::sleep(time);
                false
            }
            Fails::Held(_) | Fails::Unsynced(_) => false,
        };
        if fails {
            return Err(LogbookError::Io {
                path: "made up".into(),
                doing: "write to",
                source: std::io::Error::from_raw_os_error(28),
            });
        }
        Ok(())
    }
}

impl Archive for Faulty {
    fn amend(&mut self, run: i64, head: &RunHead) -> Result<(), LogbookError> {
        self.operation()?;
        self.book.amend(run, head)
    }
    fn append(&mut self, run: i64, blocks: &[Block<'_>]) -> Result<(), LogbookError> {
        self.operation()?;
        self.blocks.lock().unwrap().extend(blocks.iter().map(|b| b.samples.len()));
        self.book.append(run, blocks)
    }
    fn keep_health(&mut self, run: i64, lane: usize, shot: &HealthShot) -> Result<(), LogbookError> {
        self.operation()?;
        self.book.keep_health(run, lane, shot)
    }
    fn keep_latency(
        &mut self,
        run: i64,
        lane: usize,
        leg: u32,
        histogram: &[u8],
    ) -> Result<(), LogbookError> {
        self.operation()?;
        self.book.keep_latency(run, lane, leg, histogram)
    }
    fn close(&mut self, run: i64, status: Status, lanes: &[Option<Outcome>]) -> Result<(), LogbookError> {
        self.operation()?;
        self.book.finish(run, status, lanes)
    }
    fn keep_readings(&mut self, run: i64, channel: u32, readings: &[Reading]) -> Result<(), LogbookError> {
        self.operation()?;
        self.book.keep_readings(run, channel, readings)
    }
    fn wait_for_disk(&mut self, wait: bool) -> Result<(), LogbookError> {
        if let Fails::Held(until) = &self.fails {
            let _ = until.recv();
        }
        Archive::wait_for_disk(&mut self.book, wait)
    }
    fn keeper(&self) -> Box<dyn FnMut() + Send> {
        let mut keeper = Archive::keeper(&self.book);
        let Fails::Unsynced(until) = self.fails.clone() else { return keeper };
        Box::new(move || {
            let _ = until.recv();
            keeper();
        })
    }
    fn path(&self) -> &Path {
        self.book.path()
    }
}

fn sample(i: u64) -> Sample {
    Sample {
        start: Nanos(i * 10_000_000),
        end: Nanos((i + 1) * 10_000_000),
        op: Op::Write,
        written: Bytes(i + 1),
        ..Sample::default()
    }
}

const DONE: Outcome =
    Outcome { status: Status::Done, at: Nanos(1), bytes: Bytes(1), why: None, health: None, digest: None };

/// A block that waits for the next one is lost with its process for twice as long.
#[test]
fn all_that_has_come_when_a_block_is_due_is_in_it() {
    let folder = tempfile::tempdir().unwrap();
    let mut book = Logbook::open(&folder.path().join("l.logbook")).unwrap();
    let head = RunHead::of_lane(LaneHead::named(&["soak"]));
    let entered = Entered::new(book.begin(&head).unwrap(), 1);
    let (go, held) = crossbeam_channel::bounded(0);
    let blocks = Arc::new(Mutex::new(Vec::new()));
    let faulty = Faulty {
        book,
        fails: Fails::Held(held),
        rng: Xoshiro256PlusPlus::seed_from_u64(1),
        operations: Arc::default(),
        blocks: Arc::clone(&blocks),
    };
    let (told, _news) = crossbeam_channel::unbounded();
    let recorder =
        Recorder::start(faulty, Errand { entered, told, waits: false, aside: Vec::new() }).unwrap();
    (0..20).for_each(|i| assert!(recorder.tell(0, Message::Sample(sample(i)))));
    // The first block is due by then.
    std::thread::sleep(Duration::from_millis(600));
    drop(go);
    recorder.tell(0, Message::Ended(Box::new(DONE)));
    recorder.finish().unwrap();
    assert_eq!(*blocks.lock().unwrap(), [20]);
}

/// What a run that waits for its log is answered: the samples that the logbook had then.
fn answered(fails: Fails, between: impl FnOnce(&Receiver<()>)) -> (usize, Vec<PathBuf>) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let entered = Entered::new(book.begin(&RunHead::of_lane(LaneHead::named(&["soak"]))).unwrap(), 1);
    let rng = Xoshiro256PlusPlus::seed_from_u64(1);
    let faulty = Faulty { book, fails, rng, operations: Arc::default(), blocks: Arc::default() };
    let (told, _news) = crossbeam_channel::unbounded();
    let aside = folder.path().join("aside");
    let errand = Errand { entered, told, waits: false, aside: vec![aside.clone()] };
    let recorder = Recorder::start(faulty, errand).unwrap();
    (0..20).for_each(|i| assert!(recorder.tell(0, Message::Sample(sample(i)))));
    let (asked, answer) = Awaited::new();
    recorder.tell(0, Message::Keep(asked));
    between(&answer);
    assert_eq!(answer.recv_timeout(Duration::from_secs(60)), Err(RecvTimeoutError::Disconnected));
    let samples = Logbook::open(&path).unwrap().run(1).unwrap().trace(0).len();
    let asides = std::fs::read_dir(&aside).map_or(Vec::new(), |f| f.map(|f| f.unwrap().path()).collect());
    drop(recorder);
    (samples, asides)
}

#[test]
fn a_run_that_waits_for_its_log_is_answered_when_the_disk_has_it() {
    assert_eq!(answered(Fails::Now(0.0), |_| {}), (20, Vec::new()));
    let (go, held) = crossbeam_channel::bounded(0);
    let is_open = |answer: &Receiver<()>| {
        assert_eq!(answer.recv_timeout(Duration::from_millis(300)), Err(RecvTimeoutError::Timeout));
        drop(go);
    };
    assert_eq!(answered(Fails::Unsynced(held), is_open), (20, Vec::new()), "not before it was synced");
}

/// A disk that does not answer holds up who waits for it, and not what is written meanwhile.
#[test]
fn a_disk_that_does_not_sync_does_not_keep_the_log_from_being_written() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let entered = Entered::new(book.begin(&RunHead::of_lane(LaneHead::named(&["soak"]))).unwrap(), 1);
    let (go, held) = crossbeam_channel::bounded(0);
    let rng = Xoshiro256PlusPlus::seed_from_u64(1);
    let fails = Fails::Unsynced(held);
    let faulty = Faulty { book, fails, rng, operations: Arc::default(), blocks: Arc::default() };
    let (told, _news) = crossbeam_channel::unbounded();
    let errand = Errand { entered, told, waits: false, aside: Vec::new() };
    let recorder = Recorder::start(faulty, errand).unwrap();
    let kept = || Logbook::open(&path).unwrap().run(1).unwrap().trace(0).len();
    let mut answers = Vec::new();
    for i in 0..5 {
        recorder.tell(0, Message::Sample(sample(i)));
        let (asked, answer) = Awaited::new();
        recorder.tell(0, Message::Keep(asked));
        answers.push(answer);
        let is_there = (0..600).any(|_| {
            std::thread::sleep(Duration::from_millis(50));
            kept() > i as usize
        });
        assert!(is_there, "sample {i} waits for the disk");
    }
    assert!(answers.iter().all(|a| a.try_recv() == Err(crossbeam_channel::TryRecvError::Empty)));
    drop(go);
    assert!(
        answers
            .iter()
            .all(|a| a.recv_timeout(Duration::from_secs(60)) == Err(RecvTimeoutError::Disconnected))
    );
}

/// With a logbook that takes nothing, what was told is in a file elsewhere by then.
#[test]
fn a_run_that_waits_for_a_log_that_fails_is_answered_all_the_same() {
    let (samples, asides) = answered(Fails::From(0, u64::MAX), |_| {});
    assert_eq!((samples, asides.len()), (0, 1));
}

struct Told {
    folder: tempfile::TempDir,
    result: Result<i64, LogbookError>,
    events: Vec<Event>,
    operations: u64,
    longest: Nanos,
}

/// Records samples one by one with a pause between them, so that the recorder writes in between.
fn record(fails: Fails, seed: u64, samples: u64, pause: Duration) -> Told {
    let folder = tempfile::tempdir().unwrap();
    let mut book = Logbook::open(&folder.path().join("l.logbook")).unwrap();
    let head = RunHead::of_lane(LaneHead::named(&["soak"]));
    let entered = Entered::new(book.begin(&head).unwrap(), 1);
    let operations = Arc::new(AtomicU64::new(0));
    let rng = Xoshiro256PlusPlus::seed_from_u64(seed);
    let faulty = Faulty { book, fails, rng, operations: Arc::clone(&operations), blocks: Arc::default() };
    let (told, news) = crossbeam_channel::unbounded();
    let aside = vec![folder.path().join("aside")];
    let recorder = Recorder::start(faulty, Errand { entered, told, waits: false, aside }).unwrap();
    let clock = Monotonic::start();
    let mut longest = Nanos(0);
    let mut tell = |message| {
        let before = clock.now();
        recorder.tell(0, message);
        longest = longest.max(clock.now().since(before));
    };
    tell(Message::Began(Box::new(head)));
    for i in 0..samples {
        tell(Message::Sample(sample(i)));
        if i % 50 == 0 {
            let kind = EventKind::Note(format!("note {i}"));
            tell(Message::Event(Event { at: Nanos(i), bytes: Bytes(i), kind }));
        }
        std::thread::sleep(pause);
    }
    tell(Message::LegLatency(0, vec![7; 9]));
    tell(Message::Ended(Box::new(DONE)));
    let result = recorder.finish();
    let operations = operations.load(Ordering::Relaxed);
    Told { folder, result, events: news.try_iter().collect(), operations, longest }
}

impl Told {
    fn book(&self) -> PathBuf {
        self.folder.path().join("l.logbook")
    }

    /// As if the process that recorded were not this one.
    fn process_is_gone(&self) {
        let db = rusqlite::Connection::open(self.book()).unwrap();
        db.execute("UPDATE runs SET owner = '1 1 another-boot' WHERE status = 'underway'", []).unwrap();
    }

    fn asides(&self) -> Vec<PathBuf> {
        let entries = std::fs::read_dir(self.folder.path().join("aside")).into_iter().flatten().flatten();
        entries.map(|e| e.path()).collect()
    }

    /// Everything that was told is in the logbook, in order, once.
    fn is_whole(&self, samples: u64, what: &str) {
        let run = Logbook::reading(&self.book(), |b| b.run(1)).unwrap();
        assert_eq!(run.first().samples.len() as u64, samples, "{what}");
        assert!(run.first().samples.iter().enumerate().all(|(i, s)| *s == sample(i as u64)), "{what}");
        let notes: Vec<String> = run
            .first()
            .events
            .iter()
            .filter_map(|e| match &e.kind {
                EventKind::Note(text) => Some(text.clone()),
                _ => None,
            })
            .collect();
        let expected: Vec<String> = (0..samples).step_by(50).map(|i| format!("note {i}")).collect();
        assert_eq!(notes, expected, "{what}");
        assert_eq!(run.status, Status::Done, "{what}");
        let latency = Logbook::reading(&self.book(), |b| b.latency(1, 0, 0)).unwrap();
        assert_eq!(latency, Some(vec![7; 9]), "{what}");
    }
}

/// One failure at each operation of a run in turn, and then at several in a row: nothing is lost.
#[test]
fn a_log_that_fails_at_any_one_operation_loses_nothing() {
    let sound = record(Fails::From(u64::MAX, 0), 0, 300, Duration::from_millis(5));
    sound.result.as_ref().unwrap();
    sound.is_whole(300, "no failure");
    std::thread::scope(|scope| {
        for first in 0..sound.operations {
            for count in [1, 3] {
                scope.spawn(move || {
                    let told = record(Fails::From(first, count), 0, 300, Duration::from_millis(5));
                    let what = format!("operations from {first}, {count}");
                    assert!(told.result.is_ok(), "{what}: {:?}", told.result);
                    told.is_whole(300, &what);
                    assert!(told.asides().is_empty(), "{what}");
                });
            }
        }
    });
}

/// Five hundred failures and more, at random: nothing is lost, and it is said at once that the log waits, and that it goes on.
#[test]
fn five_hundred_failures_of_the_log_lose_nothing() {
    let failed = AtomicU64::new(0);
    std::thread::scope(|scope| {
        for seed in 0..32 {
            let failed = &failed;
            scope.spawn(move || {
                let share = 0.3 + 0.02 * seed as f64;
                let told = record(Fails::Now(share), seed, 1000, Duration::from_millis(20));
                assert!(told.result.is_ok() || share > 0.8, "{seed}: {:?}", told.result);
                let waits =
                    told.events.iter().filter(|e| matches!(e.kind, EventKind::LogWaiting { .. })).count();
                assert!(waits > 0, "{seed}: {:?}", told.events);
                failed.fetch_add((told.operations as f64 * share) as u64, Ordering::Relaxed);
                if let Err(e) = &told.result {
                    let LogbookError::Aside { aside, .. } = e else { panic!("{seed}: {e}") };
                    told.process_is_gone();
                    side::recover(aside).unwrap();
                }
                told.is_whole(1000, &format!("seed {seed}"));
                assert!(told.asides().is_empty(), "{seed}");
                assert!(
                    told.longest < Nanos(1_000_000_000),
                    "{seed}: who runs the drive waited {}",
                    told.longest
                );
            });
        }
    });
    let failed = failed.load(Ordering::Relaxed);
    assert!(failed >= 500, "{failed} operations failed");
}

/// A disk that is full for good: what was measured is elsewhere, is named, and comes back whole.
#[test]
fn what_a_full_disk_does_not_take_is_kept_elsewhere_and_brought_back() {
    let told = record(Fails::From(20, u64::MAX), 0, 1500, Duration::from_millis(10));
    let LogbookError::Aside { aside, .. } = told.result.as_ref().unwrap_err() else {
        panic!("{:?}", told.result)
    };
    assert_eq!(told.asides(), std::slice::from_ref(aside));
    assert!(told.events.iter().any(|e| matches!(e.kind, EventKind::LogAside { .. })), "{:?}", told.events);
    assert_eq!(side::belongs(aside).unwrap().run, 1);
    assert!(
        side::recover(aside).unwrap_err().to_string().contains("underway"),
        "its process, this one, is there"
    );
    told.process_is_gone();
    let again = std::fs::read(aside).unwrap();
    side::recover(aside).unwrap();
    told.is_whole(1500, "recovered");
    // A second copy is not taken in twice.
    std::fs::write(aside, again).unwrap();
    assert!(side::recover(aside).unwrap_err().to_string().contains("has it already"));
    told.is_whole(1500, "recovered once");
}

/// A disk that answers after a long time does not hold up who runs the drive.
#[test]
fn a_slow_disk_holds_up_nobody() {
    let told = record(Fails::Slow(Duration::from_millis(700)), 0, 400, Duration::from_millis(5));
    told.result.as_ref().unwrap();
    told.is_whole(400, "slow");
    assert!(told.longest < Nanos(500_000_000), "{}", told.longest);
}
