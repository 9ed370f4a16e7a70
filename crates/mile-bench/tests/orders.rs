//! Orders that do not fit are refused before anything is made, and a run in this process hands over what it told.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_bench::bench::Named;
use mile_bench::session::{Became, Order, OrderLane, prepare, what_became};
use mile_core::Bytes;
use mile_logbook::Logbook;
use mile_runner::remote::{Frame, Hello, PROTOCOL, Server};
use mile_runner::{LaneHead, Message, RunHead, Speed, Status};

const ONE: &str = "course \"one\"\nleg fill\n write sequential, blocks 1 MiB, depth 16, until 4 GB written\n";
const TWO: &str = "course \"two\"\nlane upper\nlane lower\n\
    leg first on upper\n write sequential, blocks 1 MiB, depth 16, until 4 GB written\n\
    leg both on upper and lower\n write sequential, blocks 1 MiB, depth 16, for 5 s\n";

/// A course, its drives with their lanes, and words of the refusal.
type Case<'a> = (&'a str, &'a [(&'a str, &'a str)], &'a str);

/// An order for a course on drives, each with the name of its lane.
fn order(course: &str, lanes: &[(&str, &str)]) -> Order {
    let lane = |(name, drive): &(&str, &str)| OrderLane {
        name: (*name).to_owned(),
        named: Named {
            drive: (*drive).to_owned(),
            size: (!drive.starts_with("sim:") && !drive.starts_with("/dev/")).then_some(Bytes(64 << 20)),
            seed: 7,
            ..Named::default()
        },
        ..OrderLane::default()
    };
    Order {
        course_text: course.into(),
        course_name: "a course".into(),
        lanes: lanes.iter().map(lane).collect(),
        speed: Speed::Max,
        keep: false,
        discard_first: false,
        metrics: None,
        instruments: None,
        lab: None,
        resume: None,
        warnings: Vec::new(),
    }
}

#[test]
fn each_order_that_does_not_fit_is_refused_and_makes_nothing() {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let at = |name: &str| folder.path().join(name).display().to_string();
    std::os::unix::fs::symlink(folder.path(), folder.path().join("link")).unwrap();
    std::fs::create_dir(folder.path().join("sub")).unwrap();
    let (file, same, dotted) = (at("a.bin"), at("link/a.bin"), at("sub/../a.bin"));
    let twice = "are given the same drive";
    let cases: [Case<'_>; 12] = [
        (ONE, &[], "is for one drive, and 0 are named"),
        (ONE, &[("", "sim:merrow-k2"), ("", "sim:merrow-k2")], "is for one drive, and 2 are named"),
        (ONE, &[("upper", "sim:merrow-k2")], "names no lane `upper`"),
        (ONE, &[("", "sim:nobody")], "nobody"),
        (ONE, &[("", "/dev/nobody")], "there is no such device"),
        (ONE, &[("", "/dev/null")], "this is no block device"),
        (TWO, &[("upper", "sim:merrow-k2")], "`lower` is given no drive"),
        (
            TWO,
            &[("upper", "sim:merrow-k2"), ("upper", "sim:merrow-k2")],
            "`upper` is given more than one drive",
        ),
        (
            TWO,
            &[("upper", "sim:merrow-k2"), ("lower", "sim:merrow-k2"), ("third", "sim:merrow-k2")],
            "has no lane `third`",
        ),
        (TWO, &[("upper", &file), ("lower", &file)], twice),
        (TWO, &[("upper", &file), ("lower", &same)], twice),
        (TWO, &[("upper", &file), ("lower", &dotted)], twice),
    ];
    for (course, lanes, words) in cases {
        let Err(failure) = prepare(order(course, lanes)) else { panic!("{lanes:?} was taken") };
        assert!(failure.message().contains(words), "{lanes:?}: {}", failure.message());
        assert_eq!(failure.code(), 2, "{lanes:?}");
    }
    let mut left: Vec<_> =
        std::fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    left.sort();
    assert_eq!(left, ["link", "sub"]);
}

#[test]
fn a_run_hands_over_the_traces_of_what_it_told_and_kept() {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let path = folder.path().join("l.logbook");
    let ready =
        prepare(order(TWO, &[("lower", "sim:merrow-k2-finned"), ("upper", "sim:merrow-k2")])).unwrap();
    let (underway, _socket) = ready.start(Logbook::open(&path).unwrap()).unwrap();
    let (mut samples, mut moved) = ([0; 2], [0; 2]);
    for (lane, message) in &underway.messages {
        if let Message::Sample(sample) = message {
            samples[lane as usize] += 1;
            moved[lane as usize] += sample.moved().0;
        }
    }
    let ended = underway.finish().unwrap();
    assert_eq!(ended.outcome.status, Status::Done);
    // The order of the lanes is that of the course, however they were named.
    assert!(moved[0] > 4_000_000_000 && moved[1] > 0 && moved[1] + 3_000_000_000 < moved[0], "{moved:?}");
    let kept = Logbook::read(&path).unwrap().run(ended.kept.unwrap()).unwrap();
    for (lane, trace) in ended.traces.iter().enumerate() {
        assert_eq!((trace.len(), trace.moved(trace.len()).0), (samples[lane], moved[lane]));
        let stored = kept.trace(lane);
        assert_eq!(stored.len(), trace.len());
        assert!(
            (0..trace.len())
                .all(|i| stored.moved(i) == trace.moved(i) && stored.rate.get(i) == trace.rate.get(i))
        );
        assert_eq!(stored.legs(), trace.legs());
    }
    assert_eq!(moved.iter().sum::<u64>(), ended.outcome.bytes.0);
}

/// Whoever watched a run and was told nothing more, as it was too far behind, said that the runner had ended unexpectedly.
#[test]
fn what_became_of_a_run_is_found_out_where_its_runner_tells_nothing_more() {
    let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let logbook = folder.path().join("l.logbook");
    let ready = prepare(order(ONE, &[("", "sim:merrow-k2")])).unwrap();
    let (underway, _socket) = ready.start(Logbook::open(&logbook).unwrap()).unwrap();
    underway.messages.iter().for_each(drop);
    let run = underway.finish().unwrap().kept.unwrap();
    // No process has this number.
    let hello = Hello { protocol: PROTOCOL, pid: u32::MAX, logbook: logbook.clone(), ..Hello::default() };
    assert!(matches!(what_became(&hello, Some(run)), Became::Over(Status::Done)));
    assert!(matches!(what_became(&hello, Some(run + 1)), Became::Gone));
    assert!(matches!(what_became(&hello, None), Became::Gone));
    // A run of this process that nobody ended.
    let head = RunHead::of_lane(LaneHead::default());
    let begun = Logbook::open(&logbook).unwrap().begin(&head).unwrap();
    assert!(matches!(what_became(&hello, Some(begun)), Became::Silent));
    let hello = Hello { pid: std::process::id(), run: Some(begun), ..hello };
    let server = Server::start(hello.clone(), true, crossbeam_channel::unbounded().0).unwrap();
    let Became::GoesOn(again) = what_became(&hello, Some(begun)) else { panic!("it answers") };
    server.tell(0, &Message::LegLatency(0, Vec::new()));
    assert!(matches!(again.0.frames.recv(), Ok(Frame::Message(0, Message::LegLatency(..)))));
    // Another run of a process with the same number is not taken for it.
    let other = Hello { course: "another".into(), ..hello };
    assert!(!matches!(what_became(&other, Some(run)), Became::GoesOn(_)));
}
