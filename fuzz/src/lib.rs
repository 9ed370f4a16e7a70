//! What must hold of everything that comes from outside, whatever its bytes are. Each function is a fuzz target (`scripts/fuzz`): it
//! must come back, in time and in memory that are in proportion to its input.

use mile_core::{Bytes, Context, Findings, Nanos, Op, RunId, Trace, Workload, findings};
use mile_course::{DriveFacts, diagnostic, format, parse, plan_lanes};
use mile_drive::ata::{self, Identify, Registers, SECTOR, SmartData};
use mile_drive::block::signature;
use mile_drive::drive::{Drive, Transfer};
use mile_drive::io::pattern::{Pool, Verifier, is_stamped, read_stamp};
use mile_drive::nvme::{HealthLog, errors, extended, identify, selftest};
use mile_drive::scsi::{self, Inquiry, Logs};
use mile_sim::SimDrive;
use mile_sim::model::Model;
use mile_drive::{Health, Tally};
use mile_figures::{RunFigure, draw};
use mile_logbook::exchange::{
    Imported, panics_are_contained, read_csv, read_foreign, read_parquet, write_csv, write_jsonl,
    write_parquet,
};
use mile_logbook::{Logbook, LogbookError};
use mile_runner::message::{Message, faults_of};
use mile_runner::remote::{Frame, Frames, heard};
use std::cell::OnceCell;
use std::path::{Path, PathBuf};
use std::sync::Once;

/// NVMe structures. A health log that is read is written as it was, but for what is reserved.
pub fn nvme(bytes: &[u8]) {
    if let Ok(log) = HealthLog::decode(bytes) {
        assert_eq!(HealthLog::decode(&log.encode()).as_ref(), Ok(&log));
        let _ = (log.warnings(), Health::of_nvme(log));
    }
    let mut page = bytes.to_vec();
    page.resize(identify::LENGTH, 0);
    let _ = (identify::Controller::decode(&page), identify::Namespace::decode(&page), errors::decode(bytes));
    page.truncate(extended::LENGTH);
    let _ = extended::Extended::decode(&page);
    let _ = extended::is_listed(bytes, extended::LOG);
    page.truncate(selftest::LENGTH);
    let _ = selftest::decode(&page);
}

/// ATA structures, with and without a checksum that holds.
pub fn ata(bytes: &[u8]) {
    let mut page = bytes.to_vec();
    page.resize(SECTOR, 0);
    let sum = page[..SECTOR - 1].iter().fold(0_u8, |sum, b| sum.wrapping_add(*b));
    page[SECTOR - 1] = 0_u8.wrapping_sub(sum);
    for page in [bytes, &page] {
        let _ = (Identify::decode(page), ata::statistics_pages(page));
        let _ = (ata::sct_temperatures(page), Registers::of_sense(page));
        if let Some(data) = SmartData::decode(page, Some(page)) {
            let _ = (data.temperature(), data.sectors(), ata::self_test(&data, Some(page)));
            let mut health = Health::default();
            health.of_ata(&data, ata::statistics(page), 512);
            let _ = health.changes(&Health::default());
        }
    }
}

/// SCSI pages.
pub fn scsi(bytes: &[u8]) {
    let _ = (Inquiry::decode(bytes), scsi::rpm(bytes), scsi::unit_name(bytes));
    if let Some((_, asc, ascq)) = scsi::sense(bytes) {
        let _ = scsi::exception_words((asc, ascq));
    }
    let _ = scsi::supported_logs(bytes);
    let mut logs = Logs::default();
    for page in 0..0x40 {
        logs.add(page, bytes);
        let _ = (scsi::parameters(page, bytes), scsi::vpd(page, bytes));
    }
}

/// What lies on a device, by its front and its end. Every name that is found can be named to be destroyed.
pub fn content(bytes: &[u8]) {
    // Most marks lie far behind the front: what follows the first two bytes is put at one of the places that a page can have.
    let [high, low, rest @ ..] = bytes else { return };
    let place = usize::from(u16::from_be_bytes([*high, *low])) << 8;
    let mut head = vec![0; (place + rest.len()).min(signature::HEAD)];
    let end = head.len();
    head[place.min(end)..].copy_from_slice(&rest[..end - place.min(end)]);
    let tail = &rest[rest.len().saturating_sub(signature::TAIL)..];
    for block in [0, 1, 512, 4096] {
        for found in signature::recognise(&head, tail, Bytes(block)) {
            assert!(signature::names().contains(&found), "{found} cannot be named");
        }
    }
}

/// What is read where a run wrote. What it wrote itself is right, and one bit of difference is not.
pub fn stamps(bytes: &[u8]) {
    let (run, address) = (RunId(7), 1 << 20);
    let mut verifier = Verifier::new(run, 1);
    let mut found = Vec::new();
    for sealed in [false, true] {
        verifier.check(bytes, address, sealed, &mut found);
    }
    if let Some(stamp) = read_stamp(bytes) {
        let _ = (is_stamped(bytes, stamp.address), stamp.rest_of_page(bytes.len()), stamp.body(bytes.len()));
    }
    let [kind, at @ .., bit] = bytes else { return };
    let at = at.iter().fold(0_usize, |at, b| at.wrapping_mul(31).wrapping_add(usize::from(*b)));
    let blocks = [512, 4096, 12_288];
    let block = blocks[usize::from(*kind) % blocks.len()];
    let pool = Pool::new(run, 1 + u32::from(*kind), u32::from(*bit));
    let mut written = pool_block(&pool, block, at % 64, address);
    found.clear();
    verifier.check(&written, address, true, &mut found);
    assert_eq!(found, [], "what was written is right");
    written[at % block] ^= 1 << (bit % 8);
    verifier.check(&written, address, true, &mut found);
    assert_eq!(found.len(), 1, "one bit at {} is seen", at % block);
}

fn pool_block(pool: &Pool, block: usize, slot: usize, address: u64) -> Vec<u8> {
    let mut buffer = mile_drive::io::pattern::Buffer::filled(block, pool, slot);
    pool.stamp(buffer.bytes_mut(), address, slot * block, true);
    buffer.bytes().to_vec()
}

/// Courses. What is read can be planned or is refused, for as many drives as it has lanes, and has one canonical form; what is not read is told in at most 200 messages.
pub fn course(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    match parse(text) {
        Ok(course) => {
            for readable in [false, true] {
                let facts = DriveFacts {
                    capacity: Bytes(4_000_000_000),
                    logical_block: Bytes(4096),
                    has_temperature: readable,
                    readable,
                    cache: readable.then_some(Bytes(1 << 30)),
                    files: Some(Bytes(1 << 40)),
                };
                let drives = vec![facts; course.lanes.len().max(1)];
                for plan in plan_lanes(&course, &drives).into_iter().flatten() {
                    let claims = mile_course::course::Claims::default();
                    let _ = mile_course::forecast::forecast(&plan, &[], &claims);
                }
            }
            let once = format(text).unwrap_or_default();
            assert_eq!(format(&once).unwrap_or_default(), once, "the canonical form is its own");
        }
        Err(problems) => {
            assert!(problems.len() <= 201, "{} messages", problems.len());
            assert!(problems.iter().all(|d| d.render(text).len() < 1 << 16));
            let _ = diagnostic::render(&problems, text);
        }
    }
}

/// Models of drives. What is read can be simulated: it gets on, and its rates are numbers.
pub fn model(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Ok(model) = Model::read(text) else { return };
    let mut drive = SimDrive::of("sim:fuzz.toml", model, 1);
    let block = Bytes(drive.facts().logical_block.0.max(4096));
    let length = Bytes(block.0 * 64);
    let load = Workload { op: Op::Write, depth: 4, block, ..Workload::default() };
    let transfer = Transfer { load, length, budget: length, ..Transfer::default() };
    if drive.open().is_err() || drive.begin(&transfer).is_err() {
        return;
    }
    let mut tally = Tally::default();
    for step in 1..=20 {
        let done = drive.advance(Nanos(step * 50_000_000), &mut tally);
        if !matches!(done, Ok(false)) {
            break;
        }
    }
    let readings = drive.readings();
    assert!(readings.temp.is_none_or(|t| t.0.is_finite()), "{readings:?}");
    drive.idle(Nanos(drive.now().0 + 1_000_000_000));
}

/// What findings must be, of whatever trace.
fn sound(found: &Findings, trace: &Trace) {
    for at in &found.breaks {
        assert!((0.0..=1.0).contains(&at.confidence), "{at:?}");
    }
    assert!(found.breaks.len() <= trace.len() + 1);
}

/// Whether one in so many inputs is due for what takes long. A hash of it decides (FNV-1a), so that the same input does the same each time.
fn is_due(bytes: &[u8], one_in: u64) -> bool {
    let mix = |h: u64, b: &u8| (h ^ u64::from(*b)).wrapping_mul(0x0100_0000_01b3);
    (bytes.iter().fold(0xcbf2_9ce4_8422_2325, mix) >> 32).is_multiple_of(one_in)
}

fn imported(all: &Imported, bytes: &[u8]) {
    let trace = all.trace();
    if is_due(bytes, 64) {
        sound(&findings(&trace, &Context::default()), &trace);
    }
    let mut out = Vec::new();
    if write_csv(&mut out, &all.samples, &all.legs, &all.extras).is_ok()
        && let Ok(back) = read_csv(out.as_slice())
    {
        assert_eq!(back.samples.len(), all.samples.len());
    }
}

/// Traces from elsewhere as text. What is read gives findings, and goes out and comes back the same.
pub fn csv(bytes: &[u8]) {
    if let Ok(all) = read_foreign(bytes, &[]) {
        imported(&all, bytes);
    }
}

/// Traces as Parquet: bytes as they are, and files of rows of every kind of value.
pub fn parquet(bytes: &[u8]) {
    static HOOK: Once = Once::new();
    HOOK.call_once(|| {
        let hook = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            if !panics_are_contained() {
                hook(info);
            }
        }));
    });
    let Some((kind, rest)) = bytes.split_first() else { return };
    if kind % 2 == 0 {
        if let Ok(all) = read_parquet(bytes::Bytes::copy_from_slice(rest), &[]) {
            imported(&all, rest);
        }
        return;
    }
    let Ok(all) = read_foreign(rest, &[]) else { return };
    let mut out = Vec::new();
    write_parquet(&mut out, &all.samples, &all.legs, &all.extras).expect("what was read can be written");
    let back = read_parquet(bytes::Bytes::from(out.clone()), &[]).expect("what was written can be read");
    assert_eq!(back.samples.len(), all.samples.len());
    // A file that was ours, damaged in one place.
    let at = rest.iter().fold(0_usize, |at, b| at.wrapping_mul(31).wrapping_add(usize::from(*b))) % out.len();
    out[at] ^= 1 << (kind % 8);
    if let Ok(all) = read_parquet(bytes::Bytes::from(out), &[]) {
        imported(&all, rest);
    }
}

/// What comes over the socket, at either end. What is read means the same when it is told again.
pub fn socket(bytes: &[u8]) {
    for command in heard(bytes) {
        let text = json(&command);
        assert_eq!(heard(text.as_slice()).next(), Some(command));
    }
    let mut told = Frames::new(bytes);
    let (mut trace, mut events) = (Trace::new(), Vec::new());
    while let Ok(frame) = told.take() {
        let text = json(&frame);
        match Frames::new(text.as_slice()).take() {
            Ok(again) => assert_eq!(again, frame),
            Err(e) => panic!("{e}: {}", String::from_utf8_lossy(&text)),
        }
        match frame {
            Frame::Message(0, Message::Sample(sample)) => trace.push(&sample, "leg"),
            Frame::Message(_, Message::Event(event)) => events.push(event),
            Frame::Backlog(backlog) => {
                let Some(lane) = backlog.lanes.into_iter().next() else { continue };
                lane.samples.iter().for_each(|s| trace.push(s, "leg"));
                events.extend(lane.events);
            }
            _ => {}
        }
    }
    let context = Context { faults: faults_of(&events), ..Context::default() };
    sound(&findings(&trace, &context), &trace);
}

fn json(value: &impl serde::Serialize) -> Vec<u8> {
    let mut text = serde_json::to_vec(value).expect("what was read can be written");
    text.push(b'\n');
    text
}

/// A logbook of the program's own with one run, of so many samples.
const ONE_RUN: &[u8] = include_bytes!("../one-run.logbook");
const SAMPLES: u64 = 30;

/// A folder in memory, where there is one.
fn in_memory() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).expect("a folder")
}

/// The logbook in today's format, in a file. It lies there in an earlier one.
fn of_today(path: &Path) {
    std::fs::write(path, ONE_RUN).expect("the good logbook");
    drop(Logbook::open(path).expect("the good logbook, in today's format"));
}

/// A logbook with one good run, whose rows are replaced.
struct Book {
    path: PathBuf,
    db: rusqlite::Connection,
    /// The same for who only reads.
    read: Logbook,
    good: Vec<(&'static str, rusqlite::types::Value)>,
    _folder: tempfile::TempDir,
}

/// What can be replaced: its statement, and how the good value is read.
const ROWS: [(&str, &str); 10] = [
    ("UPDATE runs SET head = ?1", "SELECT head FROM runs"),
    ("UPDATE lanes SET outcome = ?1", "SELECT outcome FROM lanes"),
    ("UPDATE lanes SET digest = ?1", "SELECT digest FROM lanes"),
    ("UPDATE runs SET status = ?1", "SELECT status FROM runs"),
    ("UPDATE runs SET owner = ?1", "SELECT owner FROM runs"),
    ("UPDATE runs SET started = ?1", "SELECT started FROM runs"),
    ("UPDATE samples SET data = ?1", "SELECT data FROM samples"),
    ("UPDATE samples SET count = ?1", "SELECT count FROM samples"),
    ("UPDATE events SET event = ?1 WHERE seq = 0", "SELECT event FROM events WHERE seq = 0"),
    ("UPDATE health SET shot = ?1", "SELECT shot FROM health"),
];

impl Book {
    fn make() -> Self {
        let folder = in_memory();
        let path = folder.path().join("a.logbook");
        of_today(&path);
        let db = rusqlite::Connection::open(&path).expect("the good logbook");
        db.pragma_update(None, "journal_mode", "MEMORY").expect("no log beside it");
        db.pragma_update(None, "synchronous", "OFF").expect("nothing waits");
        let value = |(change, query): &(&'static str, &str)| {
            (*change, db.query_row(query, [], |row| row.get(0)).expect("a good row"))
        };
        let good = ROWS.iter().map(value).collect();
        let read = Logbook::read(&path).expect("a logbook whose tables are good");
        Self { path, db, read, good, _folder: folder }
    }
}

thread_local! {
    static BOOK: OnceCell<Book> = const { OnceCell::new() };
}

/// Rows of a logbook. A bad one is told and hides no other; what is read gives findings, a figure and exports.
pub fn rows(bytes: &[u8]) {
    use rusqlite::types::Value;
    let [which, kind, rest @ ..] = bytes else { return };
    BOOK.with(|book| {
        let book = book.get_or_init(Book::make);
        let (change, good) = &book.good[usize::from(*which) % ROWS.len()];
        // Spliced into the good value, or as it is; a text, bytes, or a number.
        let mut value = match (kind & 0x40 != 0, good) {
            (true, Value::Text(good)) => good.clone().into_bytes(),
            (true, Value::Blob(good)) => good.clone(),
            _ => Vec::new(),
        };
        if value.is_empty() {
            value = rest.to_vec();
        } else if let [high, low, cut, over @ ..] = rest {
            let from = (usize::from(*high) << 8 | usize::from(*low)) % value.len();
            let to = (from + usize::from(*cut)).min(value.len());
            value.splice(from..to, over.iter().copied());
        }
        let value = match (kind % 8, good) {
            (0, _) => Value::Null,
            (1, _) => Value::Integer(value.iter().fold(0, |n, b| n << 8 | i64::from(*b))),
            (2, _) => Value::Real(value.iter().fold(0.0, |n, b| n * 256.0 + f64::from(*b))),
            (3, _) => Value::Blob(value),
            (_, Value::Blob(_)) => Value::Blob(value),
            (_, Value::Integer(_)) => Value::Integer(value.iter().fold(0, |n, b| n << 8 | i64::from(*b))),
            _ => Value::Text(String::from_utf8_lossy(&value).into_owned()),
        };
        // A column that must not be empty stays as it was.
        if book.db.execute(change, [&value]).is_ok() {
            // Opened anew for some of them, which takes as long as all the rest.
            let computes = is_due(bytes, 32);
            let anew = computes.then(|| Logbook::read(&book.path).expect("a logbook whose tables are good"));
            look(anew.as_ref().unwrap_or(&book.read), computes);
            book.db.execute(change, [good]).expect("the good row");
        }
    });
}

/// What reads the rows. Findings and a figure, which take most of the time, are made of some of them.
fn look(read: &Logbook, computes: bool) {
    let list = read.list().expect("one bad row hides nothing");
    assert_eq!(list.len(), 1);
    let told = |e: LogbookError| assert!(e.to_string().contains("run 1"), "{e}");
    let _ = (read.ends(1).map_err(told), read.healths(1, 0).map_err(told), read.latency(1, 0, 0));
    match read.run(1) {
        Err(e) => told(e),
        Ok(run) => {
            let trace = run.trace(0);
            let (lane, head) = (run.first(), run.head.first());
            let context = Context { faults: faults_of(&lane.events), ..head.context() };
            write_csv(std::io::sink(), &lane.samples, &head.leg_names(), &[]).expect("a sink takes all");
            let lanes: Vec<_> = run.lanes.iter().map(|l| (l.samples.as_slice(), l.events.as_slice())).collect();
            write_jsonl(std::io::sink(), &run.head, &lanes, &run.series).expect("a sink takes all");
            if computes {
                let found = findings(&trace, &context);
                sound(&found, &trace);
                let figure = RunFigure {
                    title: "run",
                    lines: &[],
                    trace: &trace,
                    findings: &found,
                    context: &context,
                    ruler: mile_core::ruler::Ruler::Bytes,
                    window: None,
                };
                let _ = draw(&figure);
            }
        }
    }
}

/// A file that holds what a logbook did not take. It is brought in, or refused and left as it is. Three in four name a logbook that is
/// not there: all of the file is read then, without what takes most of the time.
pub fn aside(bytes: &[u8]) {
    thread_local! {
        static GOOD: OnceCell<(tempfile::TempDir, Vec<u8>)> = const { OnceCell::new() };
    }
    let [kind, rest @ ..] = bytes else { return };
    GOOD.with(|good| {
        let (folder, good) = good.get_or_init(|| {
            let folder = in_memory();
            let path = folder.path().join("a.logbook");
            of_today(&path);
            let good = std::fs::read(&path).expect("the good logbook");
            (folder, good)
        });
        let folder = folder.path();
        let [book, absent, path] = ["a.logbook", "b.logbook", "a.log-aside"].map(|name| folder.join(name));
        let is_there = is_due(bytes, 4);
        if is_there {
            std::fs::write(&book, good).expect("room");
        }
        let mut text = Vec::new();
        if kind & 1 != 0 {
            // Of either version.
            let first = serde_json::json!({
                "format": "hollow-mile/log-aside", "version": 1 + (kind >> 1 & 1), "logbook": if is_there { &book } else { &absent }, "run": 1,
                "lanes": [{"samples": SAMPLES, "events": 1000}],
                "first_sample": SAMPLES, "first_event": 1000
            });
            text = json(&first);
        }
        text.extend(rest);
        std::fs::write(&path, &text).expect("room");
        match mile_logbook::side::recover(&path) {
            Ok(_) => {
                assert!(!path.exists());
                let run =
                    Logbook::read(&book).and_then(|b| b.run(1)).expect("what was brought in can be read");
                let trace = run.trace(0);
                if is_due(bytes, 32) {
                    sound(&findings(&trace, &run.head.first().context()), &trace);
                }
            }
            Err(_) => assert!(std::fs::read(&path).expect("it is left") == text, "it is left as it is"),
        }
        for end in ["a.logbook-wal", "a.logbook-shm"] {
            let _ = std::fs::remove_file(folder.join(end));
        }
    });
}
