//! What a logbook does, it does in a file and in the archive of a lab alike: one suite, held against what went in.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::cluster::Cluster;
use common::made::{append, event, head, health, outcome, sample};
use mile_core::channel::{Channel, Reading};
use mile_core::health::{Counter, Moment, Origin, Snapshot};
use mile_core::{Bytes, Nanos};
use mile_logbook::{DriveKey, Filter, Logbook, LogbookError};
use mile_runner::{HealthShot, RunHead, Status};
use std::path::{Path, PathBuf};

fn conforms(at: &Path) {
    what_goes_in_comes_out(at);
    a_block_is_all_or_nothing(at);
    a_run_that_goes_on_has_not_ended(at);
    lists_are_filtered(at);
    runs_are_taken_off_and_erased(at);
    drives_have_a_history(at);
    a_fleet_is_its_runs(at);
    what_is_not_there_is_said(at);
}

fn begun(book: &mut Logbook, course: &str, lanes: usize) -> i64 {
    book.begin(&head(course, lanes)).unwrap()
}

fn what_goes_in_comes_out(at: &Path) {
    let mut book = Logbook::open(at).unwrap();
    let channel = |name: &str| Channel { name: name.into(), unit: "°C".into(), ..Channel::default() };
    let mut known = RunHead { channels: vec![channel("probe"), channel("ambient")], ..head("all of it", 2) };
    let run = book.begin(&known).unwrap();
    known.course_text = "leg \"soak\" ' ; -- \u{1f50c} \u{7}".into();
    book.amend(run, &known).unwrap();
    for (lane, count) in [(0, 1000), (1, 37)] {
        for from in (0..count).step_by(100) {
            append(&mut book, run, lane, from, (from + 100).min(count));
        }
    }
    let readings = |from: u64| -> Vec<Reading> {
        (from..from + 50).map(|i| Reading { at: Nanos(i * 1_000), value: i as f64 / 7.0 }).collect()
    };
    book.keep_readings(run, 1, &readings(0)).unwrap();
    book.keep_readings(run, 1, &readings(50)).unwrap();
    let shot = HealthShot { at: Nanos(9_000_000_000), bytes: Bytes(3), health: health(5) };
    book.keep_health(run, 1, &shot).unwrap();
    book.keep_latency(run, 0, 0, &[1, 2, 3]).unwrap();
    book.keep_latency(run, 0, 0, &[4, 0, 255]).unwrap();
    book.note(run, 0, &event(77)).unwrap();
    assert_eq!(book.run(run).unwrap().status, Status::Underway);
    book.finish(run, Status::Done, &[Some(outcome()), Some(outcome())]).unwrap();
    book.tag(run, "quay").unwrap();
    book.tag(run, "quay").unwrap();
    drop(book);

    let book = Logbook::read(at).unwrap();
    let stored = book.run(run).unwrap();
    assert_eq!((stored.status, &stored.head), (Status::Done, &known));
    for (lane, count) in [(0, 1000), (1, 37)] {
        let expected: Vec<_> = (0..count).map(sample).collect();
        assert!(stored.lanes[lane].samples == expected, "lane {lane}");
        assert_eq!(book.samples_of(run, lane).unwrap(), count);
        assert_eq!(stored.lanes[lane].outcome, Some(outcome()));
    }
    let mut events: Vec<_> = (0..1000).step_by(10).map(event).collect();
    events.push(event(77));
    assert_eq!(stored.lanes[0].events, events);
    assert_eq!(stored.series[0].readings, []);
    assert_eq!(stored.series[1].readings, [readings(0), readings(50)].concat());
    assert_eq!(book.healths(run, 1).unwrap(), [shot]);
    assert_eq!(book.latency(run, 0, 0).unwrap(), Some(vec![4, 0, 255]));
    assert_eq!(book.latency(run, 1, 0).unwrap(), None);
    let entry = book.list().unwrap().into_iter().find(|e| e.run == run).unwrap();
    assert_eq!((entry.course.as_str(), entry.model.as_str()), ("all of it", known.models().as_str()));
    assert_eq!(entry.situation, "bare + bare");
    assert_eq!(entry.tags, ["quay"]);
    let bytes: u64 = (0..1000).chain(0..37).map(|i| sample(i).written.0).sum();
    assert_eq!(entry.digest.unwrap().bytes, bytes);
    assert!(book.size(run).unwrap() > 1037 * 10);
}

fn a_block_is_all_or_nothing(at: &Path) {
    use mile_logbook::Block;
    let mut book = Logbook::open(at).unwrap();
    let run = begun(&mut book, "torn", 2);
    append(&mut book, run, 0, 0, 10);
    let (more, events) = ([sample(10)], [(0, event(0))]);
    // The second block is there already, by its event: the first must not come in without it.
    let blocks = [
        Block { lane: 1, first: 0, samples: &more, events: &[] },
        Block { lane: 0, first: 10, samples: &more, events: &events },
    ];
    assert!(book.append(run, &blocks).is_err());
    assert_eq!((book.samples_of(run, 0).unwrap(), book.samples_of(run, 1).unwrap()), (10, 0));
    // And the logbook goes on.
    append(&mut book, run, 0, 10, 20);
    assert_eq!(book.samples_of(run, 0).unwrap(), 20);
    book.finish(run, Status::Stopped, &[]).unwrap();
}

fn a_run_that_goes_on_has_not_ended(at: &Path) {
    let mut book = Logbook::open(at).unwrap();
    let run = begun(&mut book, "on and on", 1);
    append(&mut book, run, 0, 0, 20);
    book.finish(run, Status::Stopped, &[Some(outcome())]).unwrap();
    book.reopen(run).unwrap();
    let (_, status, outcomes) = book.ends(run).unwrap();
    assert_eq!((status, outcomes), (Status::Underway, vec![None]));
    append(&mut book, run, 0, 20, 30);
    book.finish(run, Status::Done, &[Some(outcome())]).unwrap();
    assert_eq!(book.run(run).unwrap().lanes[0].samples.len(), 30);
}

fn lists_are_filtered(at: &Path) {
    let mut book = Logbook::open(at).unwrap();
    let mut enter = |course: &str, started: i64, tag: Option<&str>| {
        let run = book.begin(&RunHead { started, ..head(course, 1) }).unwrap();
        book.finish(run, Status::Done, &[]).unwrap();
        tag.into_iter().for_each(|t| book.tag(run, t).unwrap());
        run
    };
    let a = enter("Filter 100%_a", 1_000, Some("red"));
    let b = enter("filter b", 2_000, Some("blue"));
    let c = enter("filter c", 3_000, Some("red"));
    let heat = book.begin(&head("by cause", 1)).unwrap();
    let digest = mile_logbook::Digest { breaks: vec!["throttled by heat".into()], ..Default::default() };
    let mut hot = outcome();
    hot.digest = Some(Box::new(digest));
    book.finish(heat, Status::Done, &[Some(hot)]).unwrap();
    let of = |filter: Filter| -> Vec<i64> { book.list_of(&filter).unwrap().iter().map(|e| e.run).collect() };
    let word = |w: &str| Filter { word: Some(w.into()), ..Filter::default() };
    assert_eq!(of(word("FILTER")), [c, b, a]);
    assert_eq!(of(word("%_A")), [a], "signs with a meaning in SQL stand for themselves");
    assert_eq!(of(word("filter c")), [c]);
    assert!(of(word("no such word")).is_empty());
    assert_eq!(of(Filter { tag: Some("red".into()), ..word("filter") }), [c, a]);
    assert_eq!(of(Filter { since: Some(2_000), ..word("filter") }), [c, b]);
    assert_eq!(of(Filter { before: Some(2_000), ..word("filter") }), [a]);
    assert_eq!(of(Filter { newest: Some(2), ..word("filter") }), [c, b]);
    assert_eq!(book.list_of(&Filter { newest: Some(1), ..word("filter") }).unwrap()[0].tags, ["red"]);
    assert!(of(word("'; DROP TABLE runs; --")).is_empty());
    // By what their breaks were put down to.
    let cause = |c: &str| Filter { cause: Some(c.into()), ..Filter::default() };
    assert_eq!(of(cause("throttled by heat")), [heat]);
    for none in ["write cache exhausted", "breaks", "throttled", "bytes", "%", "\" || \""] {
        assert!(of(cause(none)).is_empty(), "{none}");
    }
    assert!(book.untag(c, "red").unwrap() && !book.untag(c, "red").unwrap());
    assert_eq!(book.tagged("red").unwrap(), [a]);
}

fn runs_are_taken_off_and_erased(at: &Path) {
    let mut book = Logbook::open(at).unwrap();
    let (kept, gone) = (begun(&mut book, "kept", 1), begun(&mut book, "gone", 1));
    assert!(matches!(book.remove(gone, 5), Err(LogbookError::Underway { .. })));
    append(&mut book, gone, 0, 0, 50);
    book.finish(gone, Status::Done, &[]).unwrap();
    book.remove(gone, 5).unwrap();
    assert!(book.list().unwrap().iter().all(|e| e.run != gone));
    assert!(matches!(book.resolve(&gone.to_string()), Err(LogbookError::Removed { .. })));
    assert_eq!(book.removed().unwrap(), [(gone, 5)]);
    assert!(book.restore(gone).unwrap() && !book.restore(gone).unwrap());
    assert_eq!(book.resolve(&gone.to_string()).unwrap(), gone);
    book.remove(gone, 6).unwrap();
    assert_eq!(book.erase(&[gone, kept]).unwrap(), 1, "one that is on the list is passed over");
    assert!(matches!(book.run(gone), Err(LogbookError::NoSuchRun { .. })));
    assert_eq!(book.samples_of(gone, 0).unwrap(), 0, "what belongs to it went with it");
    assert_eq!(book.resolve("last").unwrap(), kept);
    book.finish(kept, Status::Done, &[]).unwrap();
}

fn drives_have_a_history(at: &Path) {
    let mut book = Logbook::open(at).unwrap();
    let key = DriveKey { model: "Halyard Q4".into(), serial: "HQ4-1".into(), simulated: false };
    let shot = |at: i64, written: u64| Snapshot {
        at,
        counters: [(Counter::WrittenBytes, written)].into(),
        ..Snapshot::default()
    };
    assert_eq!(book.keep_snapshots(&key, &[shot(100, 1), shot(300, 3), shot(200, 2)]).unwrap(), 3);
    assert_eq!(book.keep_snapshots(&key, &[shot(300, 4), shot(400, 5)]).unwrap(), 1);
    let all: Vec<_> =
        book.snapshots_of(&key).unwrap().iter().map(|s| (s.at, s.get(Counter::WrittenBytes))).collect();
    assert_eq!(all, [(100, Some(1)), (200, Some(2)), (300, Some(4)), (400, Some(5))]);
    assert_eq!(book.drives_named("HQ4-1").unwrap(), std::slice::from_ref(&key));
    let known = book.known_drives().unwrap().into_iter().find(|d| d.key == key).unwrap();
    assert_eq!((known.snapshots, known.first, known.last), (4, 100, 400));
    // What a run reads of its drive belongs to the drive's history, with the number that the run has here.
    let mut with = head("reads health", 1);
    with.lanes[0].drive.serial = Some("MK2-9999".into());
    with.lanes[0].health = Some(health(3));
    let run = book.begin(&with).unwrap();
    book.finish(run, Status::Done, &[Some(outcome())]).unwrap();
    let read = book.drives_named("MK2-9999").unwrap();
    let origins: Vec<_> = book.snapshots_of(&read[0]).unwrap().into_iter().map(|s| s.origin).collect();
    let of = |moment| Origin::Run { run, moment };
    assert_eq!(origins, [of(Moment::Before), of(Moment::After)]);
    assert_eq!(book.courses_of(&[run, 999_999]).unwrap(), [(run, "reads health".to_owned())].into());
}

fn a_fleet_is_its_runs(at: &Path) {
    let mut book = Logbook::open(at).unwrap();
    let mut enter = |drive: usize, firmware: &str, written: u64| {
        let mut with = head("fleet soak", 2);
        for (i, lane) in with.lanes.iter_mut().enumerate() {
            lane.drive.model = "Bittern S1".into();
            lane.drive.serial = Some(format!("BS1-{}", drive * 2 + i));
            lane.drive.firmware = Some(firmware.into());
            lane.health = Some(health(written));
        }
        // The second tells no serial number: nobody can say which drive that was.
        with.lanes[1].drive.serial = with.lanes[1].drive.serial.take().filter(|_| drive == 0);
        with.started += written as i64;
        let run = book.begin(&with).unwrap();
        append(&mut book, run, 0, 0, 30);
        book.finish(run, Status::Done, &[]).unwrap();
        run
    };
    let runs = [enter(0, "1.0", 0), enter(0, "1.1", 86_400), enter(1, "1.1", 5)];
    let models = book.models().unwrap();
    let of = |name: &str| models.iter().find(|m| m.name == name).map(|m| (m.drives, m.runs));
    assert_eq!(of("Bittern S1"), Some((3, 5)));
    assert_eq!(of("Halyard Q4"), None, "a drive without a run that ended");
    let seen = book.seen_of("Bittern S1").unwrap();
    let told: Vec<_> =
        seen.iter().map(|s| (s.run, s.serial.as_str(), s.firmware.as_deref().unwrap())).collect();
    let [a, b, c] = runs;
    assert_eq!(
        told.iter().collect::<std::collections::BTreeSet<_>>(),
        [
            (a, "BS1-0", "1.0"),
            (a, "BS1-1", "1.0"),
            (b, "BS1-0", "1.1"),
            (b, "BS1-1", "1.1"),
            (c, "BS1-2", "1.1")
        ]
        .iter()
        .collect()
    );
    let bytes: u64 = (0..30).map(|i| sample(i).written.0).sum();
    assert_eq!(seen.iter().map(|s| s.digest.bytes).max(), Some(bytes));
    assert_eq!((seen[0].course.as_str(), seen[0].situation.as_str()), ("fleet soak", "bare + bare"));
    let worn = book.worn_of("Bittern S1").unwrap();
    let worn: Vec<_> = worn.iter().map(|w| (w.serial.as_str(), w.over_s, w.written)).collect();
    let both = |from, to| [Some(from), Some(to)];
    assert_eq!(
        worn,
        [
            ("BS1-0", 86_400.0, both(0, 86_400)),
            ("BS1-1", 86_400.0, both(0, 86_400)),
            ("BS1-2", 0.0, both(5, 5))
        ]
    );
    // What the runs of one drive tell a later one: those that ended, with the same firmware.
    let drive = |serial: Option<&str>, firmware: &str| mile_drive::Identity {
        model: "Bittern S1".into(),
        serial: serial.map(str::to_owned),
        firmware: Some(firmware.into()),
        ..Default::default()
    };
    let open = begun(&mut book, "underway", 1);
    let earlier = |book: &Logbook, serial, firmware| book.earlier(&drive(serial, firmware)).unwrap();
    let told = earlier(&book, Some("BS1-0"), "1.1");
    assert_eq!(told.iter().map(|e| e.run).collect::<Vec<_>>(), [b]);
    let (written, rate) = told[0].unbroken.unwrap();
    let seconds = sample(29).end.since(sample(0).start).secs();
    assert_eq!(written.0, bytes);
    assert!((rate.0 / (bytes as f64 / seconds) - 1.0).abs() < 1e-3, "{rate} over {seconds} s");
    assert_eq!(earlier(&book, Some("BS1-0"), "1.0").iter().map(|e| e.run).collect::<Vec<_>>(), [a]);
    assert!(earlier(&book, None, "1.1").is_empty() && earlier(&book, Some("BS1-9"), "1.1").is_empty());
    assert_eq!(earlier(&book, Some("BS1-2"), "1.1").len(), 1);
    book.finish(open, Status::Done, &[]).unwrap();
    book.remove(c, 1).unwrap();
    assert!(earlier(&book, Some("BS1-2"), "1.1").is_empty());
    assert_eq!(book.seen_of("Bittern S1").unwrap().len(), 4, "one off the list counts for nothing");
    assert!(book.seen_of("'; DROP TABLE runs; --").unwrap().is_empty());
}

fn what_is_not_there_is_said(at: &Path) {
    let mut book = Logbook::open(at).unwrap();
    for wanted in ["0", "999999", "nonsense", ""] {
        assert!(matches!(book.resolve(wanted), Err(LogbookError::NoSuchRun { .. })), "{wanted}");
    }
    assert!(matches!(book.run(999_999), Err(LogbookError::NoSuchRun { .. })));
    assert!(book.note(999_999, 0, &event(1)).is_err());
    assert!(book.tag(999_999, "x").is_err());
    assert!(matches!(book.tag(1, "a,b"), Err(LogbookError::BadTag { .. })));
}

#[test]
fn a_file_conforms() {
    let folder = tempfile::tempdir().unwrap();
    conforms(&folder.path().join("a.logbook"));
}

#[test]
fn the_archive_of_a_lab_conforms() {
    let Some(cluster) = Cluster::start() else {
        return common::skipped("there is no PostgreSQL here (package postgresql)");
    };
    let address = PathBuf::from(cluster.address("owner"));
    assert!(matches!(Logbook::open(&address), Err(LogbookError::NoLab { .. })));
    let lab = mile_logbook::lab::Lab::parse(&cluster.address("owner")).unwrap();
    lab.carry_out(&mile_logbook::lab::setup::statements(&["owner".into()], &[], &[])).unwrap();
    conforms(&address);
}

/// The clock of a bench is what it says a run began at. The order of the archive and what it has heard do not depend on it.
#[test]
fn a_bench_with_a_wrong_clock_loses_nothing() {
    use mile_logbook::lab::forward::Forwarder;
    use mile_logbook::lab::{Lab, setup};
    let Some(cluster) = Cluster::start() else {
        return common::skipped("there is no PostgreSQL here (package postgresql)");
    };
    let lab = Lab::parse(&cluster.address("owner")).unwrap();
    lab.carry_out(&setup::statements(&["owner".into()], &[], &[])).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let spool = folder.path().join("s.logbook");
    let mut book = Logbook::open(&spool).unwrap();
    // 1970, the year 2100, and before 1970; the last goes on while the clock jumps.
    let runs: Vec<i64> = [1, 4_102_444_800, -86_400]
        .map(|started| {
            let run = book.begin(&RunHead { started, ..head("clock", 1) }).unwrap();
            append(&mut book, run, 0, 0, 20);
            run
        })
        .into();
    for run in &runs[..2] {
        book.finish(*run, Status::Done, &[Some(outcome())]).unwrap();
    }
    let mut forwarder = Forwarder::new(&spool, lab).unwrap();
    while forwarder.step().unwrap().more {}
    append(&mut book, runs[2], 0, 20, 40);
    forwarder.step().unwrap();
    let archive = Logbook::read(Path::new(&cluster.address("owner"))).unwrap();
    let list = archive.list().unwrap();
    let mut started: Vec<i64> = list.iter().map(|e| e.started).collect();
    started.sort_unstable();
    assert_eq!(started, [-86_400, 1, 4_102_444_800]);
    assert!(list.iter().all(|e| e.silent_s.is_none() && e.bench.as_deref() == Some("owner")));
    let last = list.iter().find(|e| e.started == -86_400).unwrap();
    assert_eq!(last.status, Status::Underway);
    assert_eq!(archive.run(last.run).unwrap().first().samples, (0..40).map(sample).collect::<Vec<_>>());
}

/// Who follows a run is told of what is new and need not ask. Where nothing is told on the way, as with tables of version 1, or a program between
/// the two that lets no notification through, it asks as before.
#[test]
fn whoever_follows_a_run_is_told_or_asks() {
    use mile_logbook::lab::watch::{Following, News};
    use mile_runner::Message;
    let Some(cluster) = Cluster::start() else {
        return common::skipped("there is no PostgreSQL here (package postgresql)");
    };
    let at = PathBuf::from(cluster.address("owner"));
    let first = include_str!("../src/lab/setup.sql").to_owned() + "GRANT hollow_mile_bench TO owner;";
    let lab = mile_logbook::lab::Lab::parse(&cluster.address("owner")).unwrap();
    lab.carry_out(&first).unwrap();
    let mut book = Logbook::open(&at).unwrap();
    let run = begun(&mut book, "followed", 1);
    let samples = |following: &mut Following| {
        let more = following.more().unwrap();
        more.iter().filter(|(_, m)| matches!(m, Message::Sample(_))).count()
    };
    // Version 1 tells nothing: each time is a look.
    let mut old = Following::begin(&at, run).unwrap();
    assert!(!old.is_told() && old.is_due().unwrap() && old.is_due().unwrap());
    // The steps to this version, while somebody writes and somebody follows.
    append(&mut book, run, 0, 0, 10);
    lab.steps().unwrap().iter().for_each(|step| lab.carry_out(step).unwrap());
    assert!(lab.steps().unwrap().is_empty());
    append(&mut book, run, 0, 10, 20);
    assert_eq!(samples(&mut old), 20);
    let mut following = Following::begin(&at, run).unwrap();
    assert!(following.is_told());
    assert_eq!(samples(&mut following), 20);
    // Nothing is new, then something, then nothing.
    assert!((0..20).all(|_| !following.is_due().unwrap()));
    // A list is looked at for any run, and now and then in any case.
    let mut news = News::begin(&at).unwrap();
    assert!((0..4).all(|_| !news.is_due().unwrap()) && news.is_due().unwrap());
    news.looked(false);
    let other = begun(&mut book, "not followed", 1);
    append(&mut book, other, 0, 0, 10);
    cluster.sql("lab", "SELECT 1");
    assert!(!following.is_due().unwrap(), "it is told of another run");
    // What is told may take its time on a busy machine.
    let told = (0..4).any(|i| {
        std::thread::sleep(std::time::Duration::from_secs(i));
        news.is_due().unwrap()
    });
    assert!(told, "the list has another run");
    append(&mut book, run, 0, 20, 30);
    let mut looks = 0;
    while !following.is_due().unwrap() {
        looks += 1;
        assert!(looks < 25, "nothing was told");
        std::thread::sleep(std::time::Duration::from_millis(200));
    }
    assert_eq!(samples(&mut following), 10);
    // Nothing comes through any more: after some looks that find what was not told, every time is a look again.
    for table in ["samples", "events"] {
        cluster.sql("lab", &format!("ALTER TABLE hollow_mile.{table} DISABLE TRIGGER told"));
    }
    let mut times = 0;
    for from in (30..100).step_by(10) {
        append(&mut book, run, 0, from, from + 10);
        while !following.is_due().unwrap() {
            times += 1;
        }
        assert_eq!(samples(&mut following), 10);
        if !following.is_told() {
            break;
        }
    }
    assert!(!following.is_told() && times > 50 && times < 200, "{times}");
    assert!(following.is_due().unwrap() && following.is_due().unwrap());
}
