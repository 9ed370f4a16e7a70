//! Faults put into a drive at its Nth operation: it fails, tears, loses, misplaces, flips, reorders or freezes. What the run then says is held
//! against what the medium really holds, page by page. The medium is memory; all above it is as for a real drive.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use crossbeam_channel::{Sender, unbounded};
use mile_core::{Bytes, Nanos, Op, RunId};
use mile_course::{parse, plan};
use mile_drive::clock::Monotonic;
use mile_drive::drive::Wrong;
use mile_drive::io::pattern::{Buffer, Pool, read_stamp};
use mile_drive::io::pump::{Completion, Engine, Pump};
use mile_drive::{Drive, DriveError, Facts, Identity, Readings, Tally, Transfer};
use mile_runner::message::faults_of;
use mile_runner::{Command, Event, EventKind, GoOn, Message, Outcome, Status, Terms, execute, run};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex};

const PAGE: usize = 4096;
const BLOCK: usize = 4 * PAGE;
const DEPTH: usize = 4;

/// What happens to an operation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fault {
    /// It fails with EIO, and nothing is moved.
    Fail,
    /// Half of it is moved, and the drive says so.
    Short,
    /// Half of a write is kept, and the drive says that all is.
    Torn,
    /// A write is not kept, and the drive says that it is.
    Lost,
    /// A write is kept at the block behind its own.
    Misplaced,
    /// One bit of what is read is another.
    Flip,
    /// Nothing comes back from here on.
    Freeze,
}

/// What a page holds: the address that it was written for, and by which pass. `None` where that is no whole page of any.
type Page = Option<(u64, u32)>;

/// The memory that plays the drive, and what really happened to it.
struct Medium {
    bytes: Vec<u8>,
    truth: Vec<Page>,
    /// Writes since the last flush, with what lay there before them.
    volatile: Vec<(usize, Vec<u8>, Vec<Page>)>,
    faults: BTreeMap<u64, Fault>,
    /// Operations so far.
    count: u64,
    /// Operations come back in an order drawn from this.
    order: Option<Xoshiro256PlusPlus>,
    frozen: bool,
    /// Pages that a verifying read must find wrong, and how.
    expected: BTreeSet<(u64, &'static str)>,
    /// Operations that failed: whether a write, address.
    failed: Vec<(bool, u64)>,
}

fn word(wrong: Wrong) -> &'static str {
    match wrong {
        Wrong::Corrupt => "corrupt",
        Wrong::Stale => "stale",
        Wrong::Misplaced => "misplaced",
    }
}

impl Medium {
    fn new(blocks: usize, faults: impl IntoIterator<Item = (u64, Fault)>) -> Self {
        Self {
            bytes: vec![0; blocks * BLOCK],
            truth: vec![None; blocks * BLOCK / PAGE],
            volatile: Vec::new(),
            faults: faults.into_iter().collect(),
            count: 0,
            order: None,
            frozen: false,
            expected: BTreeSet::new(),
            failed: Vec::new(),
        }
    }

    fn keep(&mut self, at: usize, bytes: &[u8], intended: usize, pass: u32) {
        let at = at % self.bytes.len();
        let pages = at / PAGE..(at + bytes.len()) / PAGE;
        self.volatile.push((
            at,
            self.bytes[at..at + bytes.len()].to_vec(),
            self.truth[pages.clone()].to_vec(),
        ));
        self.bytes[at..at + bytes.len()].copy_from_slice(bytes);
        for (i, page) in pages.enumerate() {
            self.truth[page] = Some(((intended + i * PAGE) as u64, pass));
        }
    }

    /// Does an operation, and gives what the drive says of it. `verify` is the earliest pass whose data is not stale.
    fn operate(&mut self, op: Op, at: u64, buffer: &mut [u8], pass: u32, verify: Option<u32>) -> i32 {
        let fault = self.faults.remove(&self.count);
        self.count += 1;
        let (start, length) = (at as usize, buffer.len());
        if fault == Some(Fault::Fail) {
            self.failed.push((op == Op::Write, at));
            return -libc::EIO;
        }
        let part = if fault == Some(Fault::Short) { length / 2 } else { length };
        if op == Op::Write {
            match fault {
                Some(Fault::Lost) => {}
                Some(Fault::Torn | Fault::Short) => self.keep(start, &buffer[..length / 2], start, pass),
                Some(Fault::Misplaced) => self.keep(start + length, buffer, start, pass),
                _ => self.keep(start, buffer, start, pass),
            }
        } else {
            buffer[..part].copy_from_slice(&self.bytes[start..start + part]);
            let flipped = (fault == Some(Fault::Flip)).then_some(length / 2 + 100);
            if let Some(flipped) = flipped {
                buffer[flipped] ^= 4;
            }
            if let (Some(earliest), false) = (verify, part < length) {
                for page in (start..start + length).step_by(PAGE) {
                    let is_flipped = flipped.is_some_and(|f| (page..page + PAGE).contains(&(start + f)));
                    let wrong = match self.truth[page / PAGE] {
                        _ if is_flipped => Some("corrupt"),
                        None => Some("corrupt"),
                        Some((belongs, _)) if belongs != page as u64 => Some("misplaced"),
                        Some((_, pass)) if pass < earliest => Some("stale"),
                        Some(_) => None,
                    };
                    self.expected.extend(wrong.map(|w| (page as u64, w)));
                }
            }
        }
        if part < length {
            self.failed.push((op == Op::Write, at));
        }
        part as i32
    }

    /// The power is cut: of what was not flushed, some is kept and some is not, in any order.
    fn cut_power(&mut self, rng: &mut Xoshiro256PlusPlus) {
        while let Some((at, bytes, pages)) = self.volatile.pop() {
            if rng.next_u64().is_multiple_of(2) {
                self.bytes[at..at + bytes.len()].copy_from_slice(&bytes);
                self.truth[at / PAGE..at / PAGE + pages.len()].copy_from_slice(&pages);
            }
        }
    }
}

struct Injected {
    medium: Arc<Mutex<Medium>>,
    buffers: Vec<Buffer>,
    out: Vec<(u32, Op, u64)>,
    transfer: Transfer,
}

impl Engine for Injected {
    fn name(&self) -> &'static str {
        "memory with faults"
    }
    fn buffer(&mut self, slot: u32) -> &mut [u8] {
        self.buffers[slot as usize].bytes_mut()
    }
    fn submit(&mut self, slot: u32, op: Op, offset: u64) -> std::io::Result<()> {
        self.out.push((slot, op, offset));
        Ok(())
    }
    fn wait(&mut self, timeout: Nanos, done: &mut Vec<Completion>) -> std::io::Result<()> {
        let mut medium = self.medium.lock().unwrap();
        let count = medium.count;
        medium.frozen |= medium.faults.get(&count) == Some(&Fault::Freeze);
        if medium.frozen || self.out.is_empty() {
            drop(medium);
            std::thread::sleep(std::time::Duration::from_nanos(timeout.0.min(2_000_000)));
            return Ok(());
        }
        let which = match &mut medium.order {
            Some(rng) => (rng.next_u64() % self.out.len() as u64) as usize,
            None => 0,
        };
        let (slot, op, offset) = self.out.remove(which);
        let t = &self.transfer;
        let verify = (t.verify && op == Op::Read).then_some(t.pass);
        let buffer = self.buffers[slot as usize].bytes_mut();
        let result = medium.operate(op, offset, buffer, t.pass, verify);
        done.push(Completion { slot, result });
        Ok(())
    }
}

/// A drive whose medium is that memory.
struct Memory {
    identity: Identity,
    medium: Arc<Mutex<Medium>>,
    run: RunId,
    clock: Monotonic,
    start: Nanos,
    pump: Option<Pump<Injected>>,
}

impl Memory {
    fn new(medium: &Arc<Mutex<Medium>>) -> Self {
        let (medium, clock) = (Arc::clone(medium), Monotonic::start());
        Self { identity: Identity::default(), medium, run: RunId(1), clock, start: Nanos(0), pump: None }
    }
}

impl Drive for Memory {
    fn identity(&self) -> &Identity {
        &self.identity
    }
    fn facts(&self) -> Facts {
        Facts {
            capacity: Bytes(self.medium.lock().unwrap().bytes.len() as u64),
            logical_block: Bytes(PAGE as u64),
            has_temperature: false,
            readable: false,
            cache: None,
            files: None,
            in_use: None,
        }
    }
    fn is_virtual(&self) -> bool {
        false
    }
    fn set_run(&mut self, run: RunId) {
        self.run = run;
    }
    fn holds(&mut self, at: Bytes) -> Result<bool, DriveError> {
        let medium = self.medium.lock().unwrap();
        let stamp = read_stamp(&medium.bytes[at.0 as usize..][..PAGE]);
        Ok(stamp.is_some_and(|s| s.run == self.run && s.address == at.0))
    }
    fn start_at(&mut self, at: Nanos) {
        self.start = at;
    }
    fn open(&mut self) -> Result<(), DriveError> {
        self.clock = Monotonic::start_at(self.start);
        Ok(())
    }
    fn engine(&self) -> String {
        "memory with faults".into()
    }
    fn now(&self) -> Nanos {
        self.clock.now()
    }
    fn join(&mut self, end: Option<mile_drive::pipe::PipeEnd>) {
        assert!(end.is_none(), "no run here has two lanes");
    }

    fn idle(&mut self, until: Nanos) {
        self.clock.sleep_until(until);
    }
    fn begin(&mut self, t: &Transfer) -> Result<(), DriveError> {
        let facts = self.facts();
        t.check(facts.capacity, facts.logical_block)?;
        let pool = Pool::new(self.run, t.pass, 0);
        let buffers = (0..t.load.depth as usize)
            .map(|slot| Buffer::filled(t.load.block.0 as usize, &pool, slot))
            .collect();
        let engine = Injected { medium: Arc::clone(&self.medium), buffers, out: Vec::new(), transfer: *t };
        self.pump = Some(Pump::new(engine, *t, pool, 1, self.clock.now()));
        Ok(())
    }
    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.pump.as_mut().unwrap().advance(&self.clock, until, tally)
    }
    fn drain(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.pump.as_mut().map_or(Ok(true), |p| p.drain(&self.clock, until, tally))
    }
    fn waiting(&self) -> Option<(Nanos, Option<Bytes>, usize)> {
        let (since, at, out) = self.pump.as_ref()?.waiting()?;
        Some((Nanos(self.clock.now().0.saturating_sub(since)), Some(at), out))
    }
    fn readings(&mut self) -> Readings {
        Readings::default()
    }
    fn close(&mut self, _keep: bool) -> Result<(), DriveError> {
        self.pump = None;
        Ok(())
    }
}

/// Two passes of writes and a pass of verifying reads over so many blocks.
fn course(blocks: usize) -> String {
    let over = format!("blocks {BLOCK} B, depth {DEPTH}, over 0 B to {} B, until one pass", blocks * BLOCK);
    format!(
        "course \"c\"\nsample every 20 ms\nstop if errors above 1000000\nleg first\n write sequential, {over}\nleg second\n write sequential, {over}\nleg check\n verify, {over}\n"
    )
}

struct Told {
    messages: Vec<Message>,
    outcome: Outcome,
}

impl Told {
    fn events(&self) -> Vec<Event> {
        let event = |m: &Message| if let Message::Event(e) = m { Some(e.clone()) } else { None };
        self.messages.iter().filter_map(event).collect()
    }

    fn samples(&self) -> Vec<mile_core::Sample> {
        let sample = |m: &Message| if let Message::Sample(s) = m { Some(s.clone()) } else { None };
        self.messages.iter().filter_map(sample).collect()
    }

    /// Pages that were told to be wrong, and how.
    fn wrong(&self) -> BTreeSet<(u64, &'static str)> {
        let mut all = BTreeSet::new();
        for event in self.events() {
            if let EventKind::Wrong(m) = event.kind {
                let pages = (m.offset.0..m.offset.0 + m.length.0).step_by(PAGE);
                all.extend(pages.map(|p| (p, word(m.wrong))));
            }
        }
        all
    }

    fn failed(&self) -> Vec<(bool, u64)> {
        let one = |e: Event| match e.kind {
            EventKind::Error { failure, .. } => Some((failure.op == Op::Write, failure.offset.0)),
            _ => None,
        };
        self.events().into_iter().filter_map(one).collect()
    }
}

/// Runs the course, from where it was where `go_on` says so; `hear` sees each message and may command.
fn go(
    medium: &Arc<Mutex<Medium>>,
    blocks: usize,
    go_on: Option<(GoOn, RunId)>,
    mut hear: impl FnMut(&Message, &Sender<Command>),
) -> Told {
    let mut drive = Memory::new(medium);
    let text = course(blocks);
    let plan = plan(&parse(&text).unwrap(), &run::plan_facts(&drive)).unwrap();
    let mut head = run::head(&plan, &text, &drive, 1, 0);
    let (go_on, run) = go_on.unzip();
    head.identity = Some(run.unwrap_or(RunId(0x1234)));
    let (send, commands) = unbounded();
    let mut messages = Vec::new();
    let terms = Terms { keep: true, go_on, ..Terms::PLAIN };
    let outcome = execute(&plan, head, &mut drive, terms, &commands, &mut |m| {
        hear(&m, &send);
        messages.push(m);
    });
    assert!(matches!(messages.last(), Some(Message::Ended(_))));
    Told { messages, outcome }
}

/// Holds what was said of a whole run against what happened.
fn agree(what: &str, told: &Told, medium: &Medium, blocks: usize) {
    assert_eq!(told.outcome.status, Status::Done, "{what}: {:?}", told.outcome.why);
    assert_eq!(told.wrong(), medium.expected, "{what}");
    assert_eq!(told.failed(), medium.failed, "{what}");
    let moved: u64 = told.samples().iter().map(|s| s.moved().0).sum();
    let failed = medium.failed.len() as u64 * BLOCK as u64;
    assert_eq!(moved, 3 * (blocks * BLOCK) as u64 - failed, "{what}: what failed was not moved");
    // The summary at the end says the same.
    let mut sums: BTreeMap<String, u64> = BTreeMap::new();
    for fault in faults_of(&told.events()) {
        let bytes: u64 = fault.stretches.iter().map(|(a, b)| b - a).sum();
        assert!(
            fault.stretches.iter().all(|(a, b)| *a >= fault.first_byte && *b <= fault.end_byte),
            "{what}"
        );
        *sums.entry(serde_json::to_value(fault.kind).unwrap().as_str().unwrap().to_owned()).or_default() +=
            bytes;
    }
    for kind in ["corrupt", "stale", "misplaced"] {
        let pages = medium.expected.iter().filter(|e| e.1 == kind).count() as u64;
        assert_eq!(sums.get(kind).copied().unwrap_or(0), pages * PAGE as u64, "{what}: {kind}");
    }
    let writes: BTreeSet<u64> = medium.failed.iter().filter(|f| f.0).map(|f| f.1).collect();
    assert_eq!(sums.get("write-failed").copied().unwrap_or(0), (writes.len() * BLOCK) as u64, "{what}");
}

/// Every operation of a run meets every fault once. What the run says is what the medium holds: no more, no less, of the right kind, at
/// the right address. What a later write replaced is not told.
#[test]
fn a_fault_at_any_operation_is_told_for_what_it_did() {
    const BLOCKS: usize = 9;
    let mut seen = BTreeSet::new();
    for fault in [Fault::Fail, Fault::Short, Fault::Torn, Fault::Lost, Fault::Misplaced, Fault::Flip] {
        for at in 0..3 * BLOCKS as u64 {
            for reorder in [false, true] {
                let mut medium = Medium::new(BLOCKS, [(at, fault)]);
                medium.order = reorder.then(|| Xoshiro256PlusPlus::seed_from_u64(at));
                let medium = Arc::new(Mutex::new(medium));
                let told = go(&medium, BLOCKS, None, |_, _| {});
                let medium = medium.lock().unwrap();
                agree(&format!("{fault:?} at {at}, reordered {reorder}"), &told, &medium, BLOCKS);
                seen.extend(medium.expected.iter().map(|e| e.1));
            }
        }
    }
    assert_eq!(seen.len(), 3, "each kind came up: {seen:?}");
}

#[test]
fn many_faults_at_random_operations_of_a_longer_run_are_told_for_what_they_did() {
    const BLOCKS: usize = 200;
    for seed in 0..25 {
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed);
        let kinds = [Fault::Fail, Fault::Short, Fault::Torn, Fault::Lost, Fault::Misplaced, Fault::Flip];
        let faults: Vec<(u64, Fault)> = (0..rng.next_u64() % 40)
            .map(|_| (rng.next_u64() % (3 * BLOCKS as u64), kinds[(rng.next_u64() % 6) as usize]))
            .collect();
        let mut medium = Medium::new(BLOCKS, faults);
        medium.order = Some(Xoshiro256PlusPlus::seed_from_u64(seed));
        let medium = Arc::new(Mutex::new(medium));
        let told = go(&medium, BLOCKS, None, |_, _| {});
        agree(&format!("seed {seed}"), &told, &medium.lock().unwrap(), BLOCKS);
    }
}

/// A drive that answers nothing from any operation on: a stop is answered, a second one leaves what is out, and nothing is told that did
/// not come back.
#[test]
fn a_drive_that_freezes_at_any_operation_is_left_when_a_second_stop_says_so() {
    const BLOCKS: usize = 8;
    for at in 0..3 * BLOCKS as u64 {
        let medium = Arc::new(Mutex::new(Medium::new(BLOCKS, [(at, Fault::Freeze)])));
        let watched = Arc::clone(&medium);
        let mut asked = 0;
        let told = go(&medium, BLOCKS, None, |m, send| {
            let frozen = watched.lock().unwrap().frozen;
            if asked == 0 && frozen && matches!(m, Message::Sample(_)) {
                asked = 1;
                send.send(Command::Stop).unwrap();
            }
            if let Message::Event(Event { kind: EventKind::StopWaits { .. }, .. }) = m {
                asked = 2;
                send.send(Command::Stop).unwrap();
            }
        });
        assert_eq!(asked, 2, "{at}: it was said what the stop waits for");
        assert_eq!(told.outcome.status, Status::Stopped, "{at}");
        assert!(
            told.outcome.why.as_ref().unwrap().contains("without waiting"),
            "{at}: {:?}",
            told.outcome.why
        );
        let medium = medium.lock().unwrap();
        assert_eq!(medium.count, at);
        let moved: u64 = told.samples().iter().map(|s| s.moved().0).sum();
        assert_eq!(moved, at * BLOCK as u64, "{at}: what came back counts, and nothing else");
        assert_eq!((told.wrong().len(), told.failed().len()), (0, 0), "{at}: nobody is accused");
    }
}

/// The process is killed, or the power is cut, after any operation; operations come back in any order. The run then goes on and its
/// verifying read is right of every page, or it is refused because something that it wrote is not there.
#[test]
fn a_run_that_is_cut_off_at_any_operation_goes_on_without_a_false_accusation() {
    const BLOCKS: usize = 16;
    let (mut went_on, mut refused) = (0, 0);
    for at in 1..3 * BLOCKS as u64 {
        for (seed, power) in [(1, false), (2, false), (3, true), (4, true)] {
            let what = format!("cut at {at}, seed {seed}, power {power}");
            let mut medium = Medium::new(BLOCKS, [(at, Fault::Freeze)]);
            medium.order = Some(Xoshiro256PlusPlus::seed_from_u64(seed));
            let medium = Arc::new(Mutex::new(medium));
            let watched = Arc::clone(&medium);
            // What is told once it is frozen, the killed process did not tell.
            let mut known = 0;
            let first = go(&medium, BLOCKS, None, |m, send| {
                if !watched.lock().unwrap().frozen {
                    known += 1;
                } else if matches!(m, Message::Sample(_)) {
                    for _ in 0..2 {
                        send.send(Command::Stop).unwrap();
                    }
                }
            });
            let killed = Told { messages: first.messages[..known].to_vec(), outcome: first.outcome };
            let facts = run::plan_facts(&Memory::new(&medium));
            let planned = plan(&parse(&course(BLOCKS)).unwrap(), &facts).unwrap();
            let on =
                GoOn::of(&planned, Status::CutShort, killed.samples(), &killed.events(), Nanos(1_000_000));
            {
                let mut medium = medium.lock().unwrap();
                medium.faults.clear();
                medium.frozen = false;
                if power {
                    medium.cut_power(&mut Xoshiro256PlusPlus::seed_from_u64(at * 10 + seed));
                }
                medium.expected.clear();
            }
            let second = go(&medium, BLOCKS, Some((on, RunId(0x1234))), |_, _| {});
            let medium = medium.lock().unwrap();
            if second.outcome.status == Status::Done {
                went_on += 1;
                assert_eq!(second.wrong(), medium.expected, "{what}");
                if !power {
                    assert_eq!(
                        medium.expected,
                        BTreeSet::new(),
                        "{what}: all was written again that was out"
                    );
                    let pages = (0..BLOCKS * BLOCK).step_by(PAGE);
                    for page in pages {
                        assert!(
                            medium.truth[page / PAGE].is_some_and(|(a, _)| a == page as u64),
                            "{what}: page {page} is whole"
                        );
                    }
                }
            } else {
                refused += 1;
                assert!(power, "{what}: {:?}", second.outcome.why);
                assert_eq!(second.samples(), [], "{what}: a run that is refused takes no time");
                let why = second.outcome.why.unwrap();
                assert!(why.contains("not there any more"), "{what}: {why}");
            }
        }
    }
    assert!(went_on > 100 && refused > 0, "{went_on} went on, {refused} were refused");
}

/// Workers do not get on at the same pace. A pause in the middle of what they write to be verified leaves nothing out.
#[test]
fn a_pause_of_several_workers_leaves_no_hole_in_what_they_wrote() {
    use mile_drive::file::{EngineChoice, FileDrive};
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    // An odd number of blocks, so that their parts differ, and a pace at which a pause falls into the middle.
    let over = "blocks 64 KiB, depth 2, over 0 B to 32702464 B";
    let text = format!(
        "course \"c\"\nsample every 20 ms\nleg write\n write sequential, {over}, workers 3, rate 60 MB/s, until one pass\nleg check\n verify, {over}, until one pass\n"
    );
    let path = folder.path().join("scratch.bin");
    let mut drive = FileDrive::new(&path, Bytes(32 << 20), 1, EngineChoice::Auto, None).unwrap();
    let plan = plan(&parse(&text).unwrap(), &run::plan_facts(&drive)).unwrap();
    let mut head = run::head(&plan, &text, &drive, 1, 0);
    head.identity = Some(RunId(0x77));
    let (send, commands) = unbounded();
    let (mut messages, mut samples) = (Vec::new(), 0);
    let outcome = execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |m| {
        samples += u32::from(matches!(&m, Message::Sample(s) if s.leg == 0));
        match &m {
            Message::Sample(s) if s.leg == 0 && samples % 5 == 0 => send.send(Command::Pause).unwrap(),
            Message::Event(Event { kind: EventKind::Paused, .. }) => send.send(Command::Resume).unwrap(),
            _ => {}
        }
        messages.push(m);
    });
    let told = Told { messages, outcome };
    assert_eq!(told.outcome.status, Status::Done, "{:?}", told.outcome.why);
    assert!(told.events().iter().filter(|e| e.kind == EventKind::Paused).count() > 2);
    assert_eq!(told.wrong(), BTreeSet::new());
    let written: u64 = told.samples().iter().map(|s| s.written.0).sum();
    assert_eq!(written, 32_702_464);
}
