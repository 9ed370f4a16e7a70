//! Runs that tests make up.

use mile_core::{Bytes, Celsius, Latency, Nanos, Op, Sample};
use mile_logbook::{Block, Logbook};
use mile_runner::{Event, EventKind, LaneHead, Outcome, RunHead, Status};

/// The head of a run of so many lanes, each with a drive of its own.
pub(crate) fn head(course: &str, lanes: usize) -> RunHead {
    let lane = |i: usize| {
        let mut lane = LaneHead::named(&["soak"]);
        lane.name = if lanes > 1 { format!("lane{i}") } else { String::new() };
        lane.drive.name = format!("sim:merrow-k2 {i}");
        lane.drive.model = "Merrow K2 2TB".into();
        lane.drive.serial = Some(format!("MK2-{i:04}"));
        lane.drive.firmware = Some("K2F1.06".into());
        lane.situation.cooling = Some("bare".into());
        lane
    };
    RunHead {
        started: 1_790_000_000,
        course: course.into(),
        lanes: (0..lanes).map(lane).collect(),
        ..RunHead::default()
    }
}

/// A sample of a run.
pub(crate) fn sample(i: u64) -> Sample {
    let l = Nanos(1_000_000 + i);
    Sample {
        start: Nanos(i * 250_000_000),
        end: Nanos((i + 1) * 250_000_000),
        op: Op::Write,
        written: Bytes(700_000_000 - i),
        ops: 700,
        offset: Some(Bytes(i)),
        latency: Some(Latency { p50: l, p99: l, p999: l, max: l }),
        temp: (!i.is_multiple_of(3)).then_some(Celsius(40.25)),
        host: mile_core::Host { steal: Some(0.1), cpu: None },
        ..Sample::default()
    }
}

/// A note of a run.
pub(crate) fn event(i: u64) -> Event {
    Event { at: Nanos(i), bytes: Bytes(i), kind: EventKind::Note(format!("note {i}")) }
}

/// An outcome of a lane.
pub(crate) fn outcome() -> Outcome {
    Outcome {
        status: Status::Done,
        at: Nanos(5_000_000_000),
        bytes: Bytes(9),
        why: None,
        health: Some(health(7)),
        digest: None,
    }
}

/// Appends samples and events of a lane.
pub(crate) fn append(book: &mut Logbook, run: i64, lane: usize, from: u64, to: u64) {
    let samples: Vec<Sample> = (from..to).map(sample).collect();
    let events: Vec<(u64, Event)> = (from..to).filter(|i| i % 10 == 0).map(|i| (i / 10, event(i))).collect();
    book.append(run, &[Block { lane, first: from, samples: &samples, events: &events }]).unwrap();
}

/// A health with so many bytes written.
pub(crate) fn health(written: u64) -> mile_drive::Health {
    mile_drive::Health { written: Some(Bytes(written)), ..mile_drive::Health::default() }
}
