//! Whole runs, on simulated drives against what those know, and on a file.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use crossbeam_channel::{Receiver, Sender, unbounded};
use mile_core::{Bytes, Celsius, Context, Findings, Nanos, Op, Sample, Trace, findings};
use mile_course::{parse, plan};
use mile_drive::Drive;
use mile_drive::drive::TruthKind;
use mile_drive::file::{EngineChoice, FileDrive};
use mile_runner::{Awaited, Command, EventKind, Message, Outcome, Status, Terms, execute, run};
use mile_sim::SimDrive;

const FIRST_LOOK: &str = include_str!("../../../courses/first-look.course");
const LONG_SOAK: &str = include_str!("../../../courses/long-soak.course");

struct Record {
    messages: Vec<Message>,
    outcome: Outcome,
}

impl Record {
    fn samples(&self) -> Vec<Sample> {
        self.messages
            .iter()
            .filter_map(|m| if let Message::Sample(s) = m { Some(s.clone()) } else { None })
            .collect()
    }

    fn events(&self) -> Vec<EventKind> {
        self.messages
            .iter()
            .filter_map(|m| if let Message::Event(e) = m { Some(e.kind.clone()) } else { None })
            .collect()
    }

    fn findings(&self) -> Findings {
        let Message::Began(head) = &self.messages[0] else { panic!("a run begins with `Began`") };
        findings(&Trace::of(&self.samples(), &head.first().leg_names()), &head.first().context())
    }
}

fn go(
    course: &str,
    drive: &mut dyn Drive,
    seed: u64,
    commands: &Receiver<Command>,
    mut look: impl FnMut(&Message),
) -> Record {
    let plan = plan(&parse(course).unwrap(), &run::plan_facts(drive)).unwrap();
    let head = run::head(&plan, course, drive, seed, 0);
    let mut messages = Vec::new();
    let outcome = execute(&plan, head, drive, Terms::PLAIN, commands, &mut |m| {
        look(&m);
        messages.push(m);
    });
    Record { messages, outcome }
}

fn simulate(course: &str, name: &str, seed: u64) -> (Record, SimDrive) {
    let mut drive = SimDrive::new(name, seed).unwrap();
    let (_keep, commands) = unbounded();
    let record = go(course, &mut drive, seed, &commands, |_| {});
    (record, drive)
}

#[test]
fn the_same_course_seed_and_drive_give_the_same_messages() {
    let [a, b] = [1, 1].map(|seed| simulate(FIRST_LOOK, "sim:merrow-k2", seed).0);
    assert!(a.messages == b.messages);
    assert!(a.samples() != simulate(FIRST_LOOK, "sim:merrow-k2", 2).0.samples());
    assert_eq!(a.outcome.status, Status::Done);
}

#[test]
fn the_cache_break_lies_within_a_hundredth_of_the_truth_for_twenty_seeds() {
    for seed in 1..=20 {
        let (record, drive) = simulate(FIRST_LOOK, "sim:merrow-k2", seed);
        let truth = drive.truth().unwrap().events[0].clone();
        assert_eq!(truth.what, TruthKind::CacheFull);
        let found = record.findings();
        assert_eq!(found.breaks.len(), 1, "seed {seed}: {:?}", found.breaks);
        let cache = found.cache.unwrap();
        let error = cache.bytes as f64 / truth.at_bytes as f64 - 1.0;
        assert!(error.abs() < 0.01, "seed {seed}: {error:+.4}");
        assert!(
            cache.low_bytes <= truth.at_bytes && truth.at_bytes <= cache.high_bytes,
            "seed {seed}: {cache:?} {truth:?}"
        );
        assert!(found.breaks[0].confidence > 0.8);
        assert!(
            (cache.before_mb_s / 2875.0 - 1.0).abs() < 0.02 && (cache.after_mb_s / 1052.0 - 1.0).abs() < 0.03,
            "{cache:?}"
        );
    }
}

#[test]
fn a_long_soak_throttles_where_the_simulation_says_and_the_finned_carrier_does_not() {
    for seed in 1..=5 {
        let (record, drive) = simulate(LONG_SOAK, "sim:merrow-k2", seed);
        let truth = drive.truth().unwrap();
        let on = truth.events.iter().find(|e| e.what == TruthKind::LightOn).unwrap();
        let found = record.findings();
        let causes: Vec<&str> = found.breaks.iter().map(|b| b.cause.word()).collect();
        assert_eq!(causes, ["cache-exhausted", "thermal-throttle"], "seed {seed}: {:#?}", found.breaks);
        assert!((found.breaks[1].at_s - on.at_s).abs() < 1.5, "seed {seed}: {} {on:?}", found.breaks[1].at_s);
        let episode = found.throttling.episodes[0];
        assert!((episode.onset_c.unwrap() - 77.0).abs() <= 1.0);
        // Lost: (before - during) over the time from onset to the end of the leg, the rates from the model.
        let length = found.legs.iter().find(|l| l.leg == "soak").unwrap().end_s - on.at_s;
        let lost = 1052e6 * (1.0 - 0.70) * length;
        assert!(
            (found.throttling.lost_bytes as f64 / lost - 1.0).abs() < 0.1,
            "{} {lost}",
            found.throttling.lost_bytes
        );
        let announced = record.events().iter().filter(|e| matches!(e, EventKind::BreakSeen(_))).count();
        let withdrawn = record.events().iter().filter(|e| matches!(e, EventKind::BreakWithdrawn(_))).count();
        let seen: Vec<_> = record
            .events()
            .iter()
            .filter_map(|e| {
                if let EventKind::BreakSeen(b) = e {
                    Some((b.at_bytes, b.low_bytes, b.high_bytes, b.from_mb_s, b.to_mb_s))
                } else {
                    None
                }
            })
            .collect();
        assert_eq!(
            (announced, withdrawn),
            (2, 0),
            "live and final analysis agree, seed {seed}: {seen:?} {:?}",
            found.breaks
        );
    }
    let (record, _) = simulate(LONG_SOAK, "sim:merrow-k2-finned", 1);
    assert_eq!(record.findings().breaks.len(), 1);
    assert_eq!(record.findings().throttling.lost_bytes, 0);
}

#[test]
fn samples_follow_each_other_and_add_up() {
    let (record, mut drive) = simulate(FIRST_LOOK, "sim:merrow-k2", 4);
    let samples = record.samples();
    assert!(samples.windows(2).all(|w| w[0].end == w[1].start && w[1].start < w[1].end));
    assert!(samples.iter().all(|s| s.end.since(s.start) <= Nanos(250_000_000)));
    let written: u64 = samples.iter().map(|s| s.written.0).sum();
    assert_eq!(
        (Bytes(written), record.outcome.bytes),
        (Bytes(600_000_000_000_u64.div_ceil(1 << 20) << 20), Bytes(written))
    );
    let health = drive.health().unwrap().nvme.unwrap();
    assert_eq!(health.data_units_written, (41_300_000_000_000 + u128::from(written)).div_ceil(512_000));
}

type When = fn(&Message) -> bool;

/// Sends commands when the message that `when` waits for comes by.
fn with_commands(course: &str, mut script: Vec<(When, Command)>) -> Record {
    let (send, commands): (Sender<Command>, _) = unbounded();
    let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    go(course, &mut drive, 1, &commands, move |m| {
        while script.first().is_some_and(|(when, _)| when(m)) {
            send.send(script.remove(0).1).unwrap();
        }
    })
}

fn ten_seconds_in(m: &Message) -> bool {
    matches!(m, Message::Sample(s) if s.op == Op::Write && s.end > Nanos::from_secs(10.0))
}

#[test]
fn a_pause_moves_no_bytes_and_the_leg_goes_on_where_it_was() {
    let course = "course \"c\"\nleg soak\n write sequential, blocks 1 MiB, depth 16, until 60 GB written\n";
    let paused = |m: &Message| matches!(m, Message::Event(e) if e.kind == EventKind::Paused);
    let record = with_commands(
        course,
        vec![
            (ten_seconds_in, Command::Pause),
            (paused, Command::Note("fan on".into())),
            (paused, Command::Resume),
        ],
    );
    assert_eq!(record.outcome.status, Status::Done);
    assert_eq!(record.outcome.bytes, Bytes(60_000_000_000_u64.div_ceil(1 << 20) << 20));
    let events = record.events();
    assert!(events.contains(&EventKind::Note("fan on".into())) && events.contains(&EventKind::Resumed));
    let touched: Vec<_> = record.samples().iter().filter_map(|s| s.offset.zip(s.reach)).collect();
    assert!(
        touched.windows(2).all(|w| w[0].1 == w[1].0),
        "addresses go on without a gap and without a repeat"
    );
}

#[test]
fn skip_ends_the_leg_and_stop_ends_the_run() {
    let course = "course \"c\"\nleg a\n write sequential, blocks 1 MiB, depth 16, until 600 GB written\nleg b\n rest for 5 s\n";
    let skipped = with_commands(course, vec![(ten_seconds_in, Command::Skip)]);
    assert_eq!(skipped.outcome.status, Status::Done);
    assert!(skipped.outcome.bytes < Bytes(40_000_000_000) && skipped.samples().last().unwrap().leg == 1);
    let stopped = with_commands(course, vec![(ten_seconds_in, Command::Stop)]);
    assert_eq!(stopped.outcome.status, Status::Stopped);
    assert!(stopped.samples().last().unwrap().leg == 0);
    let stopped_in_pause =
        with_commands(course, vec![(ten_seconds_in, Command::Pause), (ten_seconds_in, Command::Stop)]);
    assert_eq!(stopped_in_pause.outcome.status, Status::Stopped);
}

#[test]
fn a_guard_stops_the_run_and_says_why() {
    let course = LONG_SOAK.replace("above 90", "above 60");
    let (record, _) = simulate(&course, "sim:merrow-k2", 1);
    assert_eq!(record.outcome.status, Status::Guarded);
    assert!(
        record.events().contains(&EventKind::Guard { limit: Celsius(60.0), found: Celsius(61.0) }),
        "{:?}",
        record.outcome
    );
}

/// A run of forty legs said forty times through what its data moves.
#[test]
fn what_data_moves_through_is_said_once() {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let mut drive =
        FileDrive::new(&folder.path().join("scratch.bin"), Bytes(8_000_000), 3, EngineChoice::Auto, None)
            .unwrap();
    let (_keep, commands) = unbounded();
    let text = "course \"c\"\nrepeat 3\n leg w\n  write sequential, blocks 1 MiB\n leg r\n  read random, blocks 4 KiB\n  until 1 MB read\nend\n";
    let record = go(text, &mut drive, 3, &commands, |_| {});
    assert_eq!(record.outcome.status, Status::Done, "{:?}", record.outcome);
    let said = record.events().iter().filter(|e| matches!(e, EventKind::Engine(_))).count();
    assert_eq!(said, 1, "{:?}", record.events());
}

#[test]
fn a_file_run_writes_its_size_measures_latency_and_cleans_up() {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let path = folder.path().join("scratch.bin");
    let mut drive = FileDrive::new(&path, Bytes(64_000_000), 3, EngineChoice::Auto, None).unwrap();
    let (_keep, commands) = unbounded();
    let record = go(&FIRST_LOOK.replace("250 ms", "20 ms"), &mut drive, 3, &commands, |_| {});
    assert_eq!(record.outcome.status, Status::Done, "{:?}", record.outcome);
    assert_eq!(record.outcome.bytes, Bytes((64_000_000 >> 20) << 20));
    assert!(record.samples().iter().all(|s| s.ops == 0 || s.latency.is_some()));
    // A leg that moves data has no moment at rest of its own: that would be another leg to whoever reads the log.
    let idle = |s: &&Sample| s.leg == 1 && s.op == Op::Idle;
    assert_eq!(record.samples().iter().filter(idle).count(), 0);
    assert!(!path.exists());
    let found =
        findings(&Trace::of(&record.samples(), &["settle".into(), "soak".into()]), &Context::default());
    assert!(!found.plateaus.is_empty());
}

/// A read of blocks that were never written does not reach the medium: where the leg that was to write them is skipped, the
/// leg that reads them is passed over.
#[test]
fn after_a_skipped_write_its_blocks_are_not_read() {
    let course = "course \"c\"\nsample every 10 ms\nleg w\n write sequential, blocks 64 KiB, depth 1\nleg r\n read sequential, blocks 1 MiB\n";
    let read_after = |skip: bool| {
        let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
        let size = if skip { 1 << 30 } else { 32 << 20 };
        let mut drive =
            FileDrive::new(&folder.path().join("a.bin"), Bytes(size), 3, EngineChoice::Auto, None).unwrap();
        let (send, commands) = unbounded();
        if skip {
            send.send(Command::Skip).unwrap();
        }
        let record = go(course, &mut drive, 3, &commands, |_| {});
        assert_eq!(record.outcome.status, Status::Done);
        record.samples().iter().map(|s| s.read.0).sum::<u64>()
    };
    assert_eq!(read_after(true), 0);
    assert_eq!(read_after(false), 32 << 20);
}

#[test]
fn a_rest_until_the_temperature_is_stable_ends_when_it_has_stayed_within_that_for_so_long() {
    let course = "course \"s\"\nsample every 1 s\nleg load\n write sequential, blocks 1 MiB, depth 16, for 3 min\nleg idle\n rest until temperature stable within 1 °C for 5 min, at most 2 h\n";
    let (record, _) = simulate(course, "sim:merrow-k2", 4);
    let samples = record.samples();
    let idle: Vec<&Sample> = samples.iter().filter(|s| s.leg == 1).collect();
    let temp = |s: &Sample| s.temp.unwrap().0;
    let end = idle.last().unwrap().end.secs();
    // In the last five minutes it stayed within a degree, and in no five minutes before that.
    let spread = |to: f64| {
        let own: Vec<f64> = idle
            .iter()
            .filter(|s| s.end.secs() <= to && s.end.secs() > to - 300.0)
            .map(|s| temp(s))
            .collect();
        own.iter().copied().fold(f64::MIN, f64::max) - own.iter().copied().fold(f64::MAX, f64::min)
    };
    assert!(spread(end) <= 1.0, "{}", spread(end));
    let began = idle[0].start.secs();
    assert!(end - began > 320.0, "it was warm at first: {}", end - began);
    assert!(spread(end - 60.0) > 1.0 || spread(end - 30.0) > 1.0 || spread(end - 10.0) > 1.0);
}

/// A course that expects something and then writes.
fn expecting(what: &str) -> String {
    format!(
        "course \"e\"\nsample every 250 ms\nleg before\n expect {what}\nleg load\n write sequential, blocks 1 MiB, depth 16, for 10 s\n"
    )
}

#[test]
fn a_run_goes_on_at_once_where_what_it_expects_is_so_and_writes_nothing_where_it_is_not() {
    let lasted = |record: &Record, leg: u32| {
        let own: Vec<Sample> = record.samples().into_iter().filter(|s| s.leg == leg).collect();
        own.last().map_or(0.0, |s| s.end.secs()) - own.first().map_or(0.0, |s| s.start.secs())
    };
    let (met, _) = simulate(&expecting("temperature below 60 °C"), "sim:merrow-k2", 1);
    assert_eq!((met.outcome.status, lasted(&met, 0)), (Status::Done, 0.0));
    assert!((lasted(&met, 1) - 10.0).abs() < 0.01);
    // What has to hold for so long takes so long, and has more than that.
    let (held, _) = simulate(&expecting("temperature below 60 °C for 20 s"), "sim:merrow-k2", 1);
    assert_eq!(held.outcome.status, Status::Done);
    assert!((lasted(&held, 0) - 20.0).abs() < 0.3, "{}", lasted(&held, 0));
    for (what, seconds, said) in [
        ("temperature below 10 °C", 5.0, "leg before expected temperature below 10 °C ("),
        ("temperature below 10 °C, at most 2 min", 120.0, "did not come true in 2 min"),
        ("temperature above 90 °C for 7 s or temperature below 10 °C", 12.0, " or temperature below 10 °C ("),
    ] {
        let (missed, _) = simulate(&expecting(what), "sim:merrow-k2", 1);
        let why = missed.outcome.why.clone().unwrap();
        assert_eq!((missed.outcome.status, missed.outcome.bytes), (Status::Guarded, Bytes(0)), "{why}");
        assert!((lasted(&missed, 0) - seconds).abs() < 0.3, "{what}: {}", lasted(&missed, 0));
        // The reading that was there instead is that of the last sample.
        let temp = missed.samples().last().unwrap().temp.unwrap();
        assert!(why.contains(said) && why.contains(&format!("({temp})")), "{why}");
    }
}

#[test]
fn a_run_waits_for_what_it_expects_as_long_as_that_has_to_come_true() {
    let course = "course \"e\"\nsample every 1 s\nleg load\n write sequential, blocks 1 MiB, depth 16, for 3 min\nleg cool\n expect temperature below 50 °C, at most 2 h\nleg again\n write sequential, blocks 1 MiB, depth 16, for 10 s\n";
    let (record, _) = simulate(course, "sim:merrow-k2", 4);
    assert_eq!(record.outcome.status, Status::Done);
    let samples = record.samples();
    let cooling: Vec<&Sample> = samples.iter().filter(|s| s.leg == 1).collect();
    let (last, before) = cooling.split_last().unwrap();
    assert!(last.temp.unwrap() < Celsius(50.0));
    // No reading before the last one was below it, but for that of the sample in which it came true.
    let early = before.iter().rev().skip(1).filter(|s| s.temp.unwrap() < Celsius(50.0)).count();
    assert!(before.len() > 10 && early == 0, "{early} of {}", before.len());
}

#[test]
fn a_reading_of_a_channel_is_expected_as_a_temperature_is() {
    for (what, status) in [
        ("probe below 60 °C, at most 10 s", Status::Done),
        ("probe above 60 °C, at most 10 s", Status::Guarded),
        // A channel that nobody gives has no reading; a run is not started on it from the command line.
        ("humidity below 60 %, at most 10 s", Status::Guarded),
    ] {
        let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
        drive.put_instruments();
        let (_keep, commands) = unbounded();
        let record = go(&expecting(what), &mut drive, 1, &commands, |_| {});
        assert_eq!(record.outcome.status, status, "{what}: {:?}", record.outcome.why);
        let none = record.outcome.why.is_some_and(|w| w.contains("there was no reading"));
        assert_eq!(none, what.starts_with("humidity"));
    }
}

#[test]
fn a_drive_without_a_temperature_is_not_started_on_where_one_is_expected() {
    let folder = tempfile::tempdir().unwrap();
    let drive = FileDrive::new(&folder.path().join("v.bin"), Bytes(64 << 20), 1, EngineChoice::Auto, None);
    let drive = drive.unwrap();
    let all = plan(&parse(&expecting("temperature below 60 °C")).unwrap(), &run::plan_facts(&drive));
    let said = all.unwrap_err().join("\n");
    assert!(
        said.contains("Leg before expects a temperature below 60 °C, but this drive gives no temp"),
        "{said}"
    );
}

/// It was forecast to take no time, however long it may wait.
#[test]
fn what_is_expected_is_forecast_to_take_at_most_the_time_that_it_has() {
    let drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    let cast = |what: &str| {
        let plan = plan(&parse(&expecting(what)).unwrap(), &run::plan_facts(&drive)).unwrap();
        let cast = mile_course::forecast(&plan, &[], &mile_course::Claims::default());
        (cast.legs[0].seconds, cast.legs[0].basis.clone())
    };
    assert_eq!(cast("temperature below 30 °C, at most 2 h"), (Some(7200.0), mile_course::Basis::Limit));
    assert_eq!(cast("temperature below 60 °C for 20 s"), (Some(25.0), mile_course::Basis::Limit));
}

const TAKES_AWAY: &str = "course \"c\"
leg lay
  write sequential, blocks 1 MiB, depth 4, over 0 % to 100 %, until one pass
leg look
  read sequential, blocks 1 MiB, depth 4, over 0 % to 100 %, until one pass
leg clear
  discard over 0 % to 100 %
";
const TAKES_FILES_AWAY: &str = "course \"c\"
leg lay
  files write, sizes 64 KiB, count 40
leg look
  files read
leg clear
  files delete
";

/// Whether the data of a course is there: files beside the file, or 16 MiB in it.
fn is_there(course: &str, path: &std::path::Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    if course == TAKES_FILES_AWAY {
        return std::fs::read_dir(path.with_extension("bin.files")).map_or(0, Iterator::count) >= 40;
    }
    std::fs::metadata(path).unwrap().blocks() * 512 > 15 << 20
}

/// Runs a course on a file, and gives `asked` what waits for the log, whether all that was told by then has told of the end of the leg before, and
/// what looks whether the data is there.
fn take_away(
    course: &str,
    asked: impl Fn(Awaited, bool, Box<dyn Fn() -> bool + Send>, &Sender<Command>),
) -> (Record, bool) {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let path = folder.path().join("scratch.bin");
    let mut drive = FileDrive::new(&path, Bytes(16 << 20), 3, EngineChoice::Auto, None).unwrap();
    let plan = plan(&parse(course).unwrap(), &run::plan_facts(&drive)).unwrap();
    let head = run::head(&plan, course, &drive, 1, 0);
    let (keep, commands) = unbounded();
    let (mut messages, mut looked) = (Vec::new(), false);
    let terms = Terms { keep: true, ..Terms::PLAIN };
    let there = {
        let (course, path) = (course.to_owned(), path.clone());
        move || is_there(&course, &path)
    };
    let outcome = execute(&plan, head, &mut drive, terms, &commands, &mut |m| match m {
        Message::Keep(awaited) => asked(awaited, looked, Box::new(there.clone()), &keep),
        m => {
            looked |= matches!(&m, Message::Event(e) if matches!(&e.kind, EventKind::LegEnded { name, .. } if name == "look"));
            messages.push(m);
        }
    });
    (Record { messages, outcome }, there())
}

/// A run that was killed behind a discard refused to go on where its log said that the leg before, which reads what is gone, was still to come.
#[test]
fn a_leg_that_takes_away_what_others_read_waits_until_the_log_has_them() {
    for course in [TAKES_AWAY, TAKES_FILES_AWAY] {
        let (said, heard) = unbounded();
        let (record, there) = take_away(course, |awaited, looked, there, _| {
            let said = said.clone();
            std::thread::spawn(move || {
                std::thread::sleep(std::time::Duration::from_millis(300));
                said.send((looked, there())).unwrap();
                drop(awaited);
            });
        });
        assert_eq!(heard.try_iter().collect::<Vec<_>>(), [(true, true)], "{course}");
        assert_eq!((record.outcome.status, there), (Status::Done, false), "{course}");
        // Nobody who keeps a log: it is not waited for.
        let (record, there) = take_away(course, |awaited, _, _, _| drop(awaited));
        assert_eq!((record.outcome.status, there), (Status::Done, false), "{course}");
    }
}

#[test]
fn a_stop_while_the_log_is_waited_for_takes_nothing_away() {
    let held = std::cell::RefCell::new(Vec::new());
    for course in [TAKES_AWAY, TAKES_FILES_AWAY] {
        let (record, there) = take_away(course, |awaited, _, _, commands| {
            held.borrow_mut().push(awaited);
            commands.send(Command::Stop).unwrap();
        });
        assert_eq!((record.outcome.status, there), (Status::Stopped, true), "{course}");
    }
}

#[test]
fn a_log_that_cannot_be_written_does_not_hold_up_a_discard_for_good() {
    let held = std::cell::RefCell::new(Vec::new());
    let (record, there) = take_away(TAKES_AWAY, |awaited, _, _, _| held.borrow_mut().push(awaited));
    assert_eq!((record.outcome.status, there), (Status::Done, false));
    // What it took is no time of the discard.
    let ends = record.events().into_iter().find_map(|e| match e {
        EventKind::LegEnded { name, why, .. } if name == "clear" => Some(why),
        _ => None,
    });
    let seconds = ends.as_deref().and_then(|e| e.strip_prefix("it took ")).map(|took| {
        // Less than a second is told in another unit.
        took.strip_suffix(" s").map_or(0.0, |s| s.parse::<f64>().unwrap())
    });
    assert!(seconds.is_some_and(|s| s < 4.5), "{ends:?}");
}
