//! What a run makes of failures: errors, drives that leave, warnings, interruptions.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use crossbeam_channel::unbounded;
use mile_core::{Bytes, Nanos, Op};
use mile_course::{Plan, parse, plan};
use mile_drive::drive::{Failure, Mismatch, Narrowed, Wrong};
use mile_drive::{Drive, DriveError, Facts, Health, Identity, Pending, Readings, Tally, Transfer};
use mile_runner::{Command, Event, EventKind, GoOn, Message, Outcome, RunHead, Status, Terms, execute, run};
use mile_sim::SimDrive;
use std::sync::atomic::{AtomicU32, Ordering};

/// A simulated drive to which something happens at its advances, counted from 1.
struct Faulty<F> {
    drive: SimDrive,
    advances: u32,
    happens: F,
    left: Option<String>,
    /// How many looks there are before the system says so.
    late: AtomicU32,
    warning: u8,
    /// As a drive in real time that tells no health, and how often it was asked for it.
    real: bool,
    asked: u32,
}

impl<F: FnMut(u32, &mut Tally, &mut u8, &mut Option<String>) -> Option<DriveError> + Send> Drive
    for Faulty<F>
{
    fn identity(&self) -> &Identity {
        self.drive.identity()
    }
    fn facts(&self) -> Facts {
        self.drive.facts()
    }
    fn is_virtual(&self) -> bool {
        !self.real
    }
    fn ask_health(&mut self) {
        self.asked += 1;
    }
    fn start_at(&mut self, at: Nanos) {
        self.drive.start_at(at);
    }
    fn open(&mut self) -> Result<(), DriveError> {
        self.drive.open()
    }
    fn engine(&self) -> String {
        self.drive.engine()
    }
    fn now(&self) -> Nanos {
        self.drive.now()
    }
    fn join(&mut self, end: Option<mile_drive::pipe::PipeEnd>) {
        self.drive.join(end);
    }

    fn idle(&mut self, until: Nanos) {
        self.drive.idle(until);
    }
    fn begin(&mut self, t: &Transfer) -> Result<(), DriveError> {
        self.drive.begin(t)
    }
    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.advances += 1;
        if let Some(error) = (self.happens)(self.advances, tally, &mut self.warning, &mut self.left) {
            return Err(error);
        }
        self.drive.advance(until, tally)
    }
    fn drain(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.drive.drain(until, tally)
    }
    fn narrow(&mut self, failure: &Failure, _patience: Nanos) -> Pending<Narrowed> {
        let bad = vec![(failure.offset, Bytes(failure.offset.0 + 512))];
        Pending::done(Narrowed { bad, complete: true, took: Nanos(0) })
    }
    fn has_left(&self) -> Option<String> {
        let left = self.left.clone()?;
        let late = self.late.load(Ordering::Relaxed);
        self.late.store(late.saturating_sub(1), Ordering::Relaxed);
        (late == 0).then_some(left)
    }
    fn readings(&mut self) -> Readings {
        Readings { warning: Some(self.warning), ..self.drive.readings() }
    }
    fn health(&mut self) -> Option<Health> {
        if self.real { None } else { self.drive.health() }
    }
    fn close(&mut self, keep: bool) -> Result<(), DriveError> {
        self.drive.close(keep)
    }
}

type Told = (Vec<Message>, Outcome);

fn begin(course: &str, drive: &dyn Drive) -> (Plan, RunHead) {
    let plan = plan(&parse(course).unwrap(), &run::plan_facts(drive)).unwrap();
    let head = run::head(&plan, course, drive, 1, 0);
    (plan, head)
}

fn go(
    guards: &str,
    happens: impl FnMut(u32, &mut Tally, &mut u8, &mut Option<String>) -> Option<DriveError> + Send,
) -> Told {
    let course = format!(
        "course \"c\"\n{guards}\nleg soak\n write sequential, blocks 1 MiB, depth 16, until 60 GB written\n"
    );
    let drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    let mut drive = Faulty {
        drive,
        advances: 0,
        happens,
        left: None,
        late: AtomicU32::new(0),
        warning: 0,
        real: false,
        asked: 0,
    };
    let (plan, head) = begin(&course, &drive);
    let (_keep, commands) = unbounded();
    let mut messages = Vec::new();
    let outcome = execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |m| messages.push(m));
    assert!(matches!(messages.last(), Some(Message::Ended(_))));
    (messages, outcome)
}

fn events(messages: &[Message]) -> Vec<Event> {
    messages.iter().filter_map(|m| if let Message::Event(e) = m { Some(e.clone()) } else { None }).collect()
}

fn samples(messages: &[Message]) -> Vec<mile_core::Sample> {
    messages.iter().filter_map(|m| if let Message::Sample(s) = m { Some(s.clone()) } else { None }).collect()
}

fn failure(at: u64, errno: i32) -> Failure {
    Failure { op: Op::Write, offset: Bytes(at), length: Bytes(1 << 20), errno: Some(errno), took: Nanos(0) }
}

#[test]
fn an_error_of_the_engine_ends_the_run_with_what_was_done_before() {
    let (messages, outcome) = go("", |n, _, _, _| {
        let source = std::io::Error::from_raw_os_error(5);
        let (offset, length) = (Bytes(77), Bytes(4096));
        (n == 3).then_some(DriveError::Operation { op: "write", offset, length, source })
    });
    assert_eq!(outcome.status, Status::Failed);
    assert!(outcome.why.unwrap().contains("at byte 77"));
    assert_eq!(samples(&messages).len(), 2);
}

#[test]
fn the_first_failed_operation_ends_a_run_that_says_nothing_of_errors() {
    let (messages, outcome) = go("", |n, tally, _, _| {
        if n == 5 {
            tally.failures.push(failure(1024 << 20, libc::EIO));
        }
        None
    });
    assert_eq!(outcome.status, Status::Failed);
    let why = outcome.why.unwrap();
    assert!(why.contains("(EIO); narrowed down to block 2097152 (of 512 B)"), "{why}");
    let told = events(&messages);
    assert_eq!(told.iter().filter(|e| matches!(e.kind, EventKind::Error { .. })).count(), 1);
}

#[test]
fn errors_are_counted_up_to_what_the_course_allows() {
    let fail_until = |last: u32| {
        go("stop if errors above 3", move |n, tally, _, _| {
            if n <= last {
                tally.failures.push(failure(u64::from(n) << 20, libc::ENODATA));
                tally.errors += 1;
            }
            None
        })
    };
    let (messages, outcome) = fail_until(3);
    assert_eq!(outcome.status, Status::Done);
    assert_eq!(samples(&messages).iter().map(|s| s.errors).sum::<u32>(), 3);
    let (messages, outcome) = fail_until(10);
    assert_eq!(outcome.status, Status::Failed);
    assert!(outcome.why.unwrap().contains("4 errors, more than the 3 that the course allows"));
    assert_eq!(events(&messages).iter().filter(|e| matches!(e.kind, EventKind::Error { .. })).count(), 4);
}

#[test]
fn a_drive_that_leaves_is_told_for_that_whatever_its_error() {
    for errno in [libc::ENOSPC, libc::ENODEV, libc::EIO] {
        let (_, outcome) = go("stop if errors above 1000", move |n, tally, _, left| {
            if n == 4 {
                tally.failures.push(failure(7 << 20, errno));
                *left = Some("its size is 0 now".into());
            }
            None
        });
        assert_eq!(outcome.status, Status::Failed);
        let why = outcome.why.unwrap();
        assert!(why.contains("has left") && why.contains("at byte 7340032; its size is 0 now"), "{why}");
        assert_eq!(outcome.health, None, "nothing more is asked of it");
    }
}

/// Why a run ended whose drive, in real time, failed an operation and is gone after `late` looks, and how many looks there were. The run is asked to stop
/// while it fails, or not.
fn leaves_late(failed: Failure, late: u32, is_to_stop: bool) -> (String, u32) {
    let (stop, commands) = unbounded();
    let happens = move |n: u32, tally: &mut Tally, _: &mut u8, left: &mut Option<String>| {
        if n == 4 {
            tally.failures.push(failed);
            *left = Some("its size is 0 now".into());
            if is_to_stop {
                stop.send(Command::Stop).unwrap();
            }
        }
        None
    };
    let drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    let (to_go, real) = (AtomicU32::new(late), true);
    let mut drive =
        Faulty { drive, advances: 0, happens, left: None, late: to_go, warning: 0, real, asked: 0 };
    let course = "course \"c\"\nleg soak\n write sequential, blocks 1 MiB, depth 16, until 60 GB written\n";
    let (plan, head) = begin(course, &drive);
    let outcome = execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |_| {});
    (outcome.why.unwrap(), late - drive.late.into_inner())
}

/// Bug: some drives that are pulled out fail their last operation as a bad block does, before the system takes them away. The run ended by "an error".
#[test]
fn a_drive_that_fails_as_a_bad_block_does_and_then_leaves_is_told_as_one_that_left() {
    let ended = |length: u64| {
        leaves_late(Failure { length: Bytes(length), ..failure(7 << 20, libc::EIO) }, 4, false).0
    };
    // All of it fails, as it is one block: the run waits to see whether the drive leaves.
    let why = ended(512);
    assert!(why.contains("has left") && why.contains("at byte 7340032; its size is 0 now"), "{why}");
    // The rest of it can be written, so that the drive is there.
    let why = ended(1 << 20);
    assert!(why.contains("narrowed down to block"), "{why}");
}

/// Bug: a run that waited to see whether its drive leaves did not look at its commands: Ctrl-C was answered after up to two seconds.
#[test]
fn a_request_to_stop_ends_the_wait_for_a_drive_that_may_leave() {
    let looks = |is_to_stop: bool| {
        let (why, looks) = leaves_late(failure(7 << 20, libc::ENODEV), 1000, is_to_stop);
        assert!(why.contains("ENODEV"), "{why}");
        looks
    };
    // Ten looks in each of two seconds, and those at the end.
    assert!(looks(false) >= 20);
    assert!(looks(true) <= 5);
}

#[test]
fn a_critical_warning_stops_a_run_only_where_its_course_says_so() {
    let warn = |guards: &str| {
        go(guards, |n, _, warning, _| {
            if n == 9 {
                *warning = 0b1000;
            }
            None
        })
    };
    assert_eq!(warn("").1.status, Status::Done);
    let (messages, outcome) = warn("stop if critical warning");
    assert_eq!(outcome.status, Status::Guarded);
    assert_eq!(outcome.why.as_deref(), Some("the drive warns: the medium has become read-only"));
    assert!(events(&messages).iter().any(|e| matches!(e.kind, EventKind::Guarded(_))));
}

#[test]
fn wrong_data_is_an_error_and_a_slow_operation_a_stall() {
    let (messages, outcome) = go("stop if errors above 5", |n, tally, _, _| {
        if n == 2 {
            let (offset, length) = (Bytes(1 << 20), Bytes(4096));
            let belongs = Some(Bytes(9 << 20));
            tally.mismatches.push(Mismatch { offset, length, wrong: Wrong::Misplaced, belongs });
        }
        if n == 3 {
            tally.add(Op::Write, Bytes(5 << 20), 1 << 20, Nanos::from_secs(5.0));
        }
        None
    });
    assert_eq!(outcome.status, Status::Done);
    let words: Vec<String> = events(&messages).iter().map(|e| e.kind.words()).collect();
    assert!(
        words
            .iter()
            .any(|w| w.contains("4.10 kB at byte 1048576 are misplaced, with what belongs at byte 9437184")),
        "{words:#?}"
    );
    assert!(words.iter().any(|w| w == "Stall: an operation at byte 5242880 took 5.0 s"), "{words:#?}");
}

#[test]
fn health_is_looked_at_during_a_run_and_what_changes_is_told() {
    let course = "course \"c\"\nhealth every 2 min\nleg soak\n write sequential, blocks 1 MiB, depth 16, until 1600 GB written\n";
    let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    let (plan, head) = begin(course, &drive);
    let (_keep, commands) = unbounded();
    let mut messages = Vec::new();
    let outcome = execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |m| messages.push(m));
    let shots: Vec<_> =
        messages.iter().filter_map(|m| if let Message::Health(s) = m { Some(s) } else { None }).collect();
    let due = (outcome.at.secs() / 120.0) as usize;
    assert_eq!(shots.len(), due);
    assert!(shots.windows(2).all(|p| p[0].health.written < p[1].health.written));
    assert!(shots.iter().all(|s| !s.health.pages.is_empty()), "raw bytes are kept");
    let told = events(&messages);
    let throttled = told.iter().find(
        |e| matches!(&e.kind, EventKind::HealthChanged(t) if t.contains("Times lightly throttled: 0, now 1")),
    );
    let truth = drive.truth().unwrap().events;
    let on = truth.iter().find(|t| t.what == mile_drive::drive::TruthKind::LightOn).unwrap().at_s;
    let at = throttled.unwrap().at.secs();
    assert!(at >= on && at <= on + 121.0, "told at {at}, throttled at {on}");
}

/// A run that is stopped at any of many moments, and goes on: each leg moves what it would have moved, and time has no hole.
#[test]
fn a_run_goes_on_where_it_was_whenever_it_was_interrupted() {
    let course = "course \"c\"\nsample every 1 s\nleg rest\n rest for 20 s\nleg soak\n write sequential, blocks 1 MiB, depth 16, until 60 GB written\nleg timed\n read sequential, blocks 1 MiB, depth 4, for 15 s\nleg mix\n mixed random, reads 70 %, blocks 4 KiB, depth 8, until 1 GB moved\n";
    let drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    let (plan, head) = begin(course, &drive);
    for after in [0, 1, 7, 19, 21, 30, 41, 44, 55, 57] {
        let (send, commands) = unbounded();
        let mut first = Vec::new();
        let mut seen = 0;
        let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
        execute(&plan, head.clone(), &mut drive, Terms::PLAIN, &commands, &mut |m| {
            seen += u32::from(matches!(m, Message::Sample(_)));
            if seen > after {
                let _ = send.send(Command::Stop);
            }
            first.push(m);
        });
        let (had, happened) = (samples(&first), events(&first));
        let on = GoOn::of(&plan, Status::Stopped, had.clone(), &happened, Nanos::from_secs(100.0));
        let terms = Terms { go_on: Some(on), ..Terms::PLAIN };
        let (_keep, commands) = unbounded();
        let mut second = Vec::new();
        let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
        let outcome = execute(&plan, head.clone(), &mut drive, terms, &commands, &mut |m| second.push(m));
        assert_eq!(outcome.status, Status::Done, "{after}");
        let all: Vec<_> = had.into_iter().chain(samples(&second)).collect();
        assert!(all.windows(2).all(|p| p[0].end == p[1].start), "{after}: time has a hole");
        let of = |leg: u32| all.iter().filter(move |s| s.leg == leg);
        let moved = |leg| of(leg).map(|s| s.moved().0).sum::<u64>();
        assert_eq!(moved(1), 60_000_000_000_u64.div_ceil(1 << 20) << 20, "{after}");
        assert_eq!(moved(3), 1_000_000_000_u64.div_ceil(4096) * 4096, "{after}");
        let time = |leg, op| of(leg).filter(|s| s.op == op).map(|s| s.end.since(s.start).secs()).sum::<f64>();
        assert!((time(2, Op::Read) - 15.0).abs() < 0.01, "{after}: {}", time(2, Op::Read));
        // The gap of 100 s is a stretch without load.
        let rested = (0..4).map(|leg| time(leg, Op::Idle)).sum::<f64>();
        assert!((119.9..=121.1).contains(&rested), "{after}: {rested}");
        assert_eq!(events(&second).iter().filter(|e| matches!(e.kind, EventKind::WentOn { .. })).count(), 1);
    }
}

/// The end of each run on a file waited 15 s for a health that files do not have.
#[test]
fn the_health_of_what_tells_none_is_not_waited_for() {
    let drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    let mut drive = Faulty {
        drive,
        advances: 0,
        happens: |_: u32, _: &mut Tally, _: &mut u8, _: &mut Option<String>| None,
        left: None,
        late: AtomicU32::new(0),
        warning: 0,
        real: true,
        asked: 0,
    };
    let course = "course \"c\"\nleg w\n write sequential, blocks 1 MiB, depth 16, until 1 GB written\n";
    let (plan, head) = begin(course, &drive);
    let (_keep, commands) = unbounded();
    let outcome = execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |_| {});
    assert_eq!((outcome.status, outcome.health, drive.asked), (mile_runner::Status::Done, None, 0));
}

/// What is moved again when a run goes on: of one that was stopped, nothing, but where several workers wrote what is read later; of one
/// that was cut off, what was moved in its last seconds, and all since an operation that was said to be out.
#[test]
fn a_run_goes_on_before_any_hole_that_it_may_have_left() {
    let facts = run::plan_facts(&SimDrive::new("sim:merrow-k2", 1).unwrap());
    let plan_of = |workers: u32, later: &str| {
        let text = format!(
            "course \"c\"\nleg soak\n write sequential, blocks 1 MiB, depth 4, workers {workers}, over 0 % to 50 %, until one pass\n{later}"
        );
        plan(&parse(&text).unwrap(), &facts).unwrap()
    };
    const MIB: u64 = 1 << 20;
    // 100 MiB a second for a minute.
    let samples: Vec<mile_core::Sample> = (0..60_u64)
        .map(|i| mile_core::Sample {
            start: Nanos(i * 1_000_000_000),
            end: Nanos((i + 1) * 1_000_000_000),
            written: Bytes(100 * MIB),
            ..mile_core::Sample::default()
        })
        .collect();
    let event = |kind| Event { at: Nanos(0), bytes: Bytes(0), kind };
    let began = event(EventKind::LegBegan { leg: 0, name: "soak".into(), words: String::new() });
    let moved = |plan: &Plan, status, events: &[Event]| {
        let all = [std::slice::from_ref(&began), events].concat();
        GoOn::of(plan, status, samples.clone(), &all, Nanos(0)).moved.0 / MIB
    };
    let (one, several) = (plan_of(1, ""), plan_of(4, ""));
    let read =
        plan_of(4, "leg back\n read sequential, blocks 1 MiB, depth 4, over 0 % to 10 %, until one pass\n");
    assert_eq!(moved(&one, Status::Stopped, &[]), 6000);
    assert_eq!(moved(&several, Status::Stopped, &[]), 6000, "nobody reads it");
    assert_eq!(moved(&read, Status::Stopped, &[]), 0, "it is not known where each worker was");
    // The last three seconds, and four operations.
    assert_eq!(moved(&one, Status::CutShort, &[]), 5696);
    assert_eq!(moved(&one, Status::Stopped, &[event(EventKind::Left { out: 4 })]), 5696);
    let waiting = event(EventKind::Waiting { age: Nanos(0), offset: Some(Bytes(77 * MIB)), out: 1 });
    assert_eq!(moved(&one, Status::CutShort, std::slice::from_ref(&waiting)), 77);
    let back = event(EventKind::Stall { took: Nanos(0), offset: Some(Bytes(77 * MIB)) });
    assert_eq!(moved(&one, Status::CutShort, &[waiting, back]), 5696);
    // It was being stopped with its run when it was killed.
    let ending = |over| {
        let why = "the run was stopped".into();
        event(EventKind::LegEnded { leg: 0, name: "soak".into(), why, over, kind: None })
    };
    assert_eq!(moved(&one, Status::CutShort, &[ending(false)]), 5696);
    let on = GoOn::of(&one, Status::CutShort, samples.clone(), &[began.clone(), ending(true)], Nanos(5));
    let end = Nanos(60_000_000_000);
    assert_eq!((on.leg, on.moved, on.at, on.gaps), (1, Bytes(0), end, Nanos(0)), "only its end is missing");
}
