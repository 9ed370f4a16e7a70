//! Logbooks of every earlier format open, and mean the same. What they say is read from their tables by SQL of the test's own.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_core::{Bytes, Nanos, Sample};
use mile_logbook::{Block, Digest, Filter, Logbook};
use mile_runner::{LaneHead, Status};
use rusqlite::Connection;
use serde_json::Value;
use std::path::{Path, PathBuf};

/// A copy of a fixture, and what its tables say.
struct Former {
    format: i64,
    _folder: tempfile::TempDir,
    path: PathBuf,
    head: Value,
    outcome: Value,
    digest: Value,
    samples: u64,
    events: Vec<String>,
    latencies: Vec<(u32, Vec<u8>)>,
    healths: u64,
}

fn former(version: i64) -> Former {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l.logbook");
    let fixture = format!("{}/tests/former/schema-{version}.logbook", env!("CARGO_MANIFEST_DIR"));
    std::fs::copy(fixture, &path).unwrap();
    let db = Connection::open(&path).unwrap();
    assert_eq!(db.query_row("PRAGMA user_version", [], |r| r.get::<_, i64>(0)).unwrap(), version);
    let text = |sql: &str| -> String { db.query_row(sql, [], |r| r.get(0)).unwrap() };
    let json = |sql: &str| serde_json::from_str(&text(sql)).unwrap();
    let number = |sql: &str| db.query_row(sql, [], |r| r.get::<_, i64>(0)).unwrap().unsigned_abs();
    let all = |sql: &str| -> Vec<Vec<u8>> {
        let mut query = db.prepare(sql).unwrap();
        let rows = query.query_map([], |r| Ok(r.get_ref(0)?.as_bytes()?.to_vec())).unwrap();
        rows.map(Result::unwrap).collect()
    };
    // What a run came to is that of a lane since format 3.
    let ended = if version < 3 { "runs" } else { "lanes" };
    let legs = all("SELECT CAST(leg AS TEXT) FROM latencies ORDER BY leg");
    let legs = legs.into_iter().map(|l| String::from_utf8(l).unwrap().parse().unwrap());
    let events = all("SELECT event FROM events WHERE run = 1 ORDER BY seq");
    Former {
        format: version,
        head: own_head(json("SELECT head FROM runs")),
        outcome: json(&format!("SELECT outcome FROM {ended}")),
        digest: json(&format!("SELECT digest FROM {ended}")),
        samples: number("SELECT sum(count) FROM samples"),
        events: events.into_iter().map(|e| String::from_utf8(e).unwrap()).collect(),
        latencies: legs.zip(all("SELECT histogram FROM latencies ORDER BY leg")).collect(),
        healths: if version < 2 { 0 } else { number("SELECT count(*) FROM health") },
        path,
        _folder: folder,
    }
}

/// What a head says of its only drive, in one object whatever the format.
fn own_head(head: Value) -> Value {
    let Some(lane) = head["lanes"].get(0).cloned() else { return head };
    let mut own = lane;
    own["course_text"] = head["course_text"].clone();
    own
}

fn means_the_same(was: &Former, book: &Logbook, what: &str) {
    let run = book.run(1).unwrap();
    assert_eq!((run.status, run.lanes.len()), (Status::Done, 1), "{what}");
    let (lane, stored) = (run.head.first(), run.first());
    assert_eq!(lane.name, "", "{what}");
    assert_eq!(lane.drive.model, was.head["drive"]["model"], "{what}");
    assert_eq!(run.head.course_text, was.head["course_text"], "{what}");
    assert_eq!(lane.facts.unwrap().capacity.0, was.head["facts"]["capacity"], "{what}");
    // The legs are known as they are, and no longer by their words. Those of format 1 say the same in other words by now.
    let legs: Vec<(&str, String, Bytes)> =
        lane.legs.iter().map(|l| (l.name.as_str(), l.words(), l.budget())).collect();
    let kept = |key: &str| was.head[key].as_array().unwrap().clone();
    assert_eq!(legs.len(), kept("legs").len(), "{what}");
    for (i, (name, words, budget)) in legs.iter().enumerate() {
        if was.format >= 3 {
            assert_eq!(serde_json::to_value(&lane.legs[i]).unwrap(), kept("legs")[i], "{what}");
            continue;
        }
        assert_eq!(kept("legs")[i], *name, "{what}");
        assert!(kept("leg_words")[i] == words.as_str() || was.format == 1, "{what}: {words}");
        assert_eq!(budget.0, kept("leg_budgets")[i], "{what}: {name}");
    }
    assert_eq!(stored.samples.len() as u64, was.samples, "{what}");
    let moved: u64 = stored.samples.iter().map(|s: &Sample| s.moved().0).sum();
    assert_eq!(moved, was.outcome["bytes"], "{what}");
    // The terminal reads the samples in columns.
    let (columns, traces) = book.traced(1).unwrap();
    let (whole, read) = (run.trace(0), &traces[0]);
    assert_eq!((traces.len(), read.len(), read.legs()), (1, whole.len(), whole.legs()), "{what}");
    for i in 0..whole.len() {
        let of = |t: &mile_core::Trace| {
            (t.start(i), t.end(i), t.moved(i + 1), t.rate.get(i), t.temp.get(i), t.offset.get(i))
        };
        assert_eq!(of(read), of(&whole), "{what}, sample {i}");
    }
    assert_eq!(columns.lanes[0].events, stored.events, "{what}");
    assert_eq!((columns.status, columns.lanes[0].samples.len()), (run.status, 0), "{what}");
    assert_eq!(stored.outcome.as_ref().unwrap().at.0, was.outcome["at"], "{what}");
    assert_eq!(stored.events.len(), was.events.len(), "{what}");
    for (event, text) in stored.events.iter().zip(&was.events) {
        let was: Value = serde_json::from_str(text).unwrap();
        assert_eq!(
            (event.at.0, event.bytes.0),
            (was["at"].as_u64().unwrap(), was["bytes"].as_u64().unwrap())
        );
    }
    for (leg, histogram) in &was.latencies {
        assert_eq!(book.latency(1, 0, *leg).unwrap().as_ref(), Some(histogram), "{what}");
    }
    assert_eq!(book.healths(1, 0).unwrap().len() as u64, was.healths, "{what}");
    let list = book.list().unwrap();
    let expected: Digest = serde_json::from_value(was.digest.clone()).unwrap();
    assert_eq!((list.len(), list[0].digest.as_ref()), (1, Some(&expected)), "{what}");
    assert_eq!(list[0].problem, None);
    // The drive is one of its model's, also where an earlier format has no column for that and nothing is written.
    let models = book.models().unwrap();
    assert_eq!((models.len(), models[0].drives, models[0].runs), (1, 1, 1), "{what}");
    assert_eq!(models[0].name, was.head["drive"]["model"], "{what}");
    let seen = book.seen_of(&models[0].name).unwrap();
    assert_eq!(seen[0].serial, was.head["drive"]["serial"], "{what}");
    assert_eq!(seen[0].firmware.as_deref(), was.head["drive"]["firmware"].as_str(), "{what}");
    assert_eq!(seen[0].digest, expected, "{what}");
    let of_model = Filter { model: Some(models[0].name.clone()), ..Filter::default() };
    assert_eq!(book.list_of(&of_model).unwrap().len(), 1, "{what}");
    // What the run read of its drive is the drive's history: before, on the way as often as it was kept, and after.
    let drives = book.known_drives().unwrap();
    let before = was.head["health"].is_object();
    let after = was.outcome["health"].is_object();
    let shots = was.healths + u64::from(before) + u64::from(after);
    assert_eq!(drives.iter().map(|d| d.snapshots).sum::<u64>(), shots, "{what}");
    if let Some(drive) = drives.first() {
        assert_eq!(drive.key.serial, was.head["drive"]["serial"], "{what}");
        let all = book.snapshots_of(&drive.key).unwrap();
        let written = |v: &Value| v["health"]["written"].as_u64();
        let of = |s: &mile_core::health::Snapshot| s.get(mile_core::health::Counter::WrittenBytes);
        // Format 1 kept it in another form.
        for (kept, snapshot) in [(&was.outcome, all.last().unwrap()), (&was.head, &all[0])] {
            assert!(was.format == 1 || written(kept).is_some(), "{what}");
            assert!(written(kept).is_none_or(|w| of(snapshot) == Some(w)), "{what}: {snapshot:?}");
        }
    }
}

fn version(path: &Path) -> i64 {
    Connection::open(path).unwrap().query_row("PRAGMA user_version", [], |r| r.get(0)).unwrap()
}

#[test]
fn logbooks_of_every_earlier_format_open_and_mean_the_same() {
    for format in [1, 2, 3, 4, 5, 6] {
        let was = former(format);
        let bytes = std::fs::read(&was.path).unwrap();
        means_the_same(&was, &Logbook::read(&was.path).unwrap(), &format!("format {format}, read"));
        assert_eq!(std::fs::read(&was.path).unwrap(), bytes, "reading changes nothing");
        means_the_same(&was, &Logbook::open(&was.path).unwrap(), &format!("format {format}, opened"));
        assert_eq!(version(&was.path), 7);
        means_the_same(&was, &Logbook::read(&was.path).unwrap(), &format!("format {format}, read again"));
    }
}

#[test]
fn a_run_of_two_lanes_goes_into_a_logbook_of_an_earlier_format() {
    for format in [1, 2, 3, 4, 5, 6] {
        let was = former(format);
        let mut book = Logbook::open(&was.path).unwrap();
        let mut head = book.run(1).unwrap().head;
        head.lanes = vec![LaneHead::named(&["soak"]), LaneHead::named(&["soak"])];
        let run = book.begin(&head).unwrap();
        let of_lane = |lane: u64| [Sample { end: Nanos(5), written: Bytes(lane + 1), ..Sample::default() }];
        let (upper, lower) = (of_lane(0), of_lane(1));
        let block = |lane, samples| Block { lane, first: 0, samples, events: &[] };
        book.append(run, &[block(0, &upper), block(1, &lower)]).unwrap();
        book.finish(run, Status::Done, &[]).unwrap();
        let kept = book.run(run).unwrap();
        assert_eq!((&kept.lanes[0].samples[..], &kept.lanes[1].samples[..]), (&upper[..], &lower[..]));
        let list = book.list().unwrap();
        assert_eq!(list[0].digest.as_ref().unwrap().bytes, 3, "what its lanes moved together");
        assert_eq!((list.len(), list[1].run), (2, 1));
    }
}
