//! The logbook file: what goes in comes out, and what is damaged is said and kept.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::made::{event, sample};
use mile_core::{Bytes, Celsius, Nanos, Sample};
use mile_logbook::store::{MINIATURE, set_aside};
use mile_logbook::{Block, Entered, Errand, Logbook, LogbookError, Recorder};
use mile_runner::{LaneHead, Message, Outcome, RunHead, Status};
use rusqlite::Connection;

fn head() -> RunHead {
    RunHead {
        started: 1_790_000_000,
        course: "first look".into(),
        lanes: vec![LaneHead::named(&["soak"])],
        ..RunHead::default()
    }
}

#[test]
fn a_recorded_run_comes_back_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep/book.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let entered = Entered::new(book.begin(&head()).unwrap(), 1);
    let (told, _log) = crossbeam_channel::unbounded();
    let errand = Errand { entered: entered.clone(), told, waits: true, aside: Vec::new() };
    let recorder = Recorder::start(book, errand).unwrap();
    let samples: Vec<Sample> = (0..10_000).map(sample).collect();
    recorder.tell(0, Message::Began(Box::new(head())));
    for (i, s) in samples.iter().enumerate() {
        recorder.tell(0, Message::Sample(s.clone()));
        if i % 100 == 0 {
            recorder.tell(0, Message::Event(event(i as u64)));
        }
    }
    recorder.tell(0, Message::LegLatency(0, vec![1, 2, 3]));
    let outcome = Outcome {
        status: Status::Done,
        at: Nanos(5),
        bytes: Bytes(9),
        why: None,
        health: None,
        digest: None,
    };
    recorder.tell(0, Message::Ended(Box::new(outcome.clone())));
    let run = recorder.finish().unwrap();
    assert_eq!(entered.run, run);

    let book = Logbook::open_existing(&path).unwrap();
    assert_eq!(book.resolve("last").unwrap(), run);
    let stored = book.run(run).unwrap();
    assert!(stored.first().samples == samples);
    assert_eq!((stored.first().events.len(), &stored.first().events[7]), (100, &event(700)));
    assert_eq!((stored.status, stored.outcome()), (Status::Done, Some(outcome)));
    assert_eq!(stored.head, head());
    assert_eq!(book.latency(run, 0, 0).unwrap(), Some(vec![1, 2, 3]));
    let entry = &book.list().unwrap()[0];
    let digest = entry.digest.as_ref().unwrap();
    assert_eq!((digest.samples, digest.miniature.len(), digest.max_c), (10_000, MINIATURE, Some(40.25)));
    assert_eq!(digest.bytes, samples.iter().map(|s| s.written.0).sum::<u64>());
    assert!(digest.miniature.iter().all(|r| (2799.0..2800.1).contains(r)), "{:?}", digest.miniature);
}

#[test]
fn a_run_whose_process_is_gone_is_found_cut_short_with_its_samples() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let (gone, mine) = (book.begin(&head()).unwrap(), book.begin(&head()).unwrap());
    book.append(
        gone,
        &[Block { lane: 0, first: 0, samples: &[sample(0), sample(1)], events: &[(0, event(0))] }],
    )
    .unwrap();
    drop(book);
    Connection::open(&path)
        .unwrap()
        .execute("UPDATE runs SET owner = '1 1 another-boot' WHERE id = ?1", [gone])
        .unwrap();
    let book = Logbook::open(&path).unwrap();
    let stored = book.run(gone).unwrap();
    assert_eq!((stored.status, stored.first().samples.len(), stored.outcome()), (Status::CutShort, 2, None));
    assert_eq!(book.list().unwrap()[1].digest.as_ref().unwrap().samples, 2);
    assert_eq!(book.run(mine).unwrap().status, Status::Underway, "its process, this one, is still there");
}

#[test]
fn nothing_is_kept_of_a_block_that_is_not_kept_whole() {
    let folder = tempfile::tempdir().unwrap();
    let mut book = Logbook::open(&folder.path().join("book.logbook")).unwrap();
    let run = book.begin(&head()).unwrap();
    book.append(run, &[Block { lane: 0, first: 0, samples: &[sample(0)], events: &[(0, event(0))] }])
        .unwrap();
    // The event's number is taken: the whole block is refused.
    assert!(
        book.append(run, &[Block { lane: 0, first: 1, samples: &[sample(1)], events: &[(0, event(1))] }])
            .is_err()
    );
    assert_eq!(book.run(run).unwrap().first().samples, [sample(0)]);
}

#[test]
fn what_is_no_logbook_is_named_left_alone_and_can_be_set_aside() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.logbook");
    let garbage = b"this is not a database, it is a shopping list: pears, rope, varnish".repeat(40);
    std::fs::write(&path, &garbage).unwrap();
    let error = Logbook::open(&path).unwrap_err();
    assert!(matches!(error, LogbookError::NoLogbook { .. }), "{error}");
    assert!(error.to_string().contains("set-aside") && error.to_string().contains("book.logbook"));
    assert_eq!(std::fs::read(&path).unwrap(), garbage);
    let aside = set_aside(&path, 1_790_000_000, false).unwrap();
    assert_eq!(std::fs::read(&aside).unwrap(), garbage);
    assert!(Logbook::open(&path).is_ok());
    std::fs::remove_file(&path).unwrap();
    std::fs::write(&path, b"x").unwrap();
    assert!(set_aside(&path, 1_790_000_000, false).is_err(), "an earlier one is not overwritten");
}

#[test]
fn a_page_damaged_in_the_middle_is_an_error_and_not_a_panic() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let run = book.begin(&head()).unwrap();
    for i in 0..50 {
        book.append(
            run,
            &[Block {
                lane: 0,
                first: i * 100,
                samples: &(0..100).map(sample).collect::<Vec<_>>(),
                events: &[],
            }],
        )
        .unwrap();
    }
    drop(book);
    Connection::open(&path).unwrap().pragma_update(None, "wal_checkpoint", "TRUNCATE").unwrap();
    let sound = std::fs::read(&path).unwrap();
    for at in (0..sound.len()).step_by(4096) {
        let mut bytes = sound.clone();
        bytes[at..at + 64].fill(0xa5);
        std::fs::write(&path, &bytes).unwrap();
        // Any answer will do, as long as there is one.
        let _ = Logbook::open(&path).and_then(|book| book.run(run).map(|_| ()));
    }
}

#[test]
fn other_databases_and_newer_logbooks_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("other.db");
    Connection::open(&path).unwrap().execute_batch("CREATE TABLE songs (title TEXT)").unwrap();
    assert!(matches!(Logbook::open(&path), Err(LogbookError::Foreign { .. })));
    let path = folder.path().join("newer.logbook");
    drop(Logbook::open(&path).unwrap());
    Connection::open(&path).unwrap().pragma_update(None, "user_version", 99).unwrap();
    assert!(matches!(Logbook::open(&path), Err(LogbookError::Newer { found: 99, .. })));
    assert!(Logbook::open_existing(&folder.path().join("none.logbook")).is_err());
    let book = Logbook::open(&folder.path().join("new.logbook")).unwrap();
    assert!(matches!(book.resolve("last"), Err(LogbookError::NoSuchRun { .. })));
    assert!(matches!(book.resolve("7"), Err(LogbookError::NoSuchRun { .. })));
    assert!(matches!(book.resolve("soon"), Err(LogbookError::NoSuchRun { .. })));
}

/// The command line and a terminal may be the first to open a logbook at the same moment.
#[test]
fn a_logbook_that_several_open_at_once_for_the_first_time_is_made_once() {
    for _ in 0..40 {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("l.logbook");
        std::thread::scope(|scope| {
            for _ in 0..6 {
                scope.spawn(|| Logbook::open(&path).unwrap().list().unwrap());
            }
        });
    }
}

/// `cannot use the logbook: Invalid column type Blob` of one run's row, and samples whose sum is more than can be counted: the fault is
/// that run's, and is told as such.
#[test]
fn values_of_another_kind_and_samples_of_no_run_are_told_as_the_fault_of_their_run() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let (good, bad) = (book.begin(&head()).unwrap(), book.begin(&head()).unwrap());
    for run in [good, bad] {
        book.append(
            run,
            &[Block { lane: 0, first: 0, samples: &[sample(0), sample(1)], events: &[(0, event(1))] }],
        )
        .unwrap();
        book.finish(run, Status::Done, &[]).unwrap();
    }
    drop(book);
    let db = Connection::open(&path).unwrap();
    let told = |what: &str| {
        let book = Logbook::read(&path).unwrap();
        let error = book.run(bad).unwrap_err();
        assert!(matches!(error, LogbookError::BadRun { run, .. } if run == bad), "{what}: {error}");
        assert_eq!(book.run(good).unwrap().first().samples.len(), 2, "{what}");
        assert_eq!(book.list().unwrap().len(), 2, "{what}");
    };
    for column in ["owner", "status", "head"] {
        db.execute(&format!("UPDATE runs SET {column} = x'ff00' WHERE id = ?1"), [bad]).unwrap();
        told(column);
        db.execute(
            &format!("UPDATE runs SET {column} = (SELECT {column} FROM runs WHERE id = ?2) WHERE id = ?1"),
            [bad, good],
        )
        .unwrap();
    }
    let backwards = [sample(1), sample(0)];
    let much = [Sample { written: Bytes(u64::MAX), read: Bytes(u64::MAX), ..sample(0) }];
    let hot = [Sample { temp: Some(Celsius(f64::NAN)), ..sample(0) }];
    for samples in [&backwards[..], &much, &hot] {
        db.execute("DELETE FROM samples WHERE run = ?1", [bad]).unwrap();
        Logbook::open(&path)
            .unwrap()
            .append(bad, &[Block { lane: 0, first: 0, samples, events: &[] }])
            .unwrap();
        told(&format!("{samples:?}"));
    }
}

/// What SQL of the test's own finds of a run in all tables.
fn rows_of(path: &std::path::Path, run: i64) -> i64 {
    let db = Connection::open(path).unwrap();
    ["samples", "events", "latencies", "lanes", "tags", "removed"]
        .iter()
        .map(|t| {
            db.query_row(&format!("SELECT count(*) FROM {t} WHERE run = ?1"), [run], |r| r.get::<_, i64>(0))
                .unwrap()
        })
        .sum()
}

#[test]
fn a_run_that_is_taken_off_the_list_comes_back_whole_and_one_that_is_erased_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let samples: Vec<Sample> = (0..5000).map(sample).collect();
    let runs: Vec<i64> = (0..3)
        .map(|_| {
            let run = book.begin(&head()).unwrap();
            let events = [(0, event(1))];
            book.append(run, &[Block { lane: 0, first: 0, samples: &samples, events: &events }]).unwrap();
            book.tag(run, "kept").unwrap();
            book.finish(run, Status::Done, &[]).unwrap();
            run
        })
        .collect();
    let underway = book.begin(&head()).unwrap();
    let before = book.run(runs[1]).unwrap();
    let listed = |book: &Logbook| -> Vec<i64> { book.list().unwrap().iter().map(|e| e.run).collect() };
    assert!(matches!(book.remove(underway, 1), Err(LogbookError::Underway { .. })));
    assert!(matches!(book.remove(99, 1), Err(LogbookError::NoSuchRun { .. })));
    assert!(!book.restore(runs[1]).unwrap(), "it was on the list");

    book.remove(runs[1], 7).unwrap();
    assert_eq!(listed(&book), [underway, runs[2], runs[0]]);
    assert_eq!(book.tagged("kept").unwrap(), [runs[0], runs[2]]);
    assert!(matches!(book.resolve(&runs[1].to_string()), Err(LogbookError::Removed { .. })));
    assert_eq!(book.removed().unwrap().iter().map(|r| (r.0, r.1)).collect::<Vec<_>>(), [(runs[1], 7)]);
    assert!(book.restore(runs[1]).unwrap());
    let after = book.run(runs[1]).unwrap();
    assert!(after.head == before.head && after.first().samples == before.first().samples);
    assert_eq!(
        (listed(&book), book.tags(runs[1]).unwrap()),
        (vec![underway, runs[2], runs[1], runs[0]], vec!["kept".to_owned()])
    );

    // The last on the list is `last`, and only what is off the list can be erased.
    book.finish(underway, Status::Done, &[]).unwrap();
    book.remove(underway, 8).unwrap();
    assert_eq!(book.resolve("last").unwrap(), runs[2]);
    book.remove(runs[2], 9).unwrap();
    let size = book.size(runs[2]).unwrap();
    // Closed, so that all of it is in the file.
    drop(book);
    let file = std::fs::metadata(&path).unwrap().len();
    let mut book = Logbook::open(&path).unwrap();
    assert!(rows_of(&path, runs[2]) >= 4 && size > 10_000, "{size}");
    assert_eq!(book.erase(&[runs[0], runs[2]]).unwrap(), 1, "the first is on the list");
    assert_eq!((rows_of(&path, runs[2]), listed(&book)), (0, vec![runs[1], runs[0]]));
    assert!(book.restore(underway).unwrap() && !book.restore(runs[2]).unwrap());
    drop(book);
    assert!(std::fs::metadata(&path).unwrap().len() + size / 2 < file, "the room is given back");
    assert!(Logbook::open(&path).unwrap().run(runs[0]).unwrap().first().samples == samples);
}
