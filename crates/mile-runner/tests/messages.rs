//! Messages go over a wire one day: each survives being written as JSON and read again.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_course::{parse, plan};
use mile_runner::{Command, EventKind, Message, Speed, Status, Terms, execute, run};
use mile_sim::SimDrive;

#[test]
fn every_message_of_a_run_survives_json() {
    let course = "course \"c\"\nsample every 1 s\nleg rest\n rest for 3 s\nleg soak\n write sequential, blocks 1 MiB, depth 16, until 300 GB written\nleg look\n read random, blocks 4 KiB, depth 8, until 1 GB read\n";
    let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
    let plan = plan(&parse(course).unwrap(), &run::plan_facts(&drive)).unwrap();
    let head = run::head(&plan, course, &drive, 1, 0);
    let (_keep, commands) = crossbeam_channel::unbounded();
    let mut count = 0;
    let mut kinds = Vec::new();
    execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |mut message| {
        // What its runner found stays with the runner.
        if let Message::Ended(outcome) = &mut message {
            assert!(outcome.digest.take().is_some_and(|d| d.samples > 100 && d.breaks.len() == 1));
        }
        let text = serde_json::to_string(&message).unwrap();
        assert!(!text.contains('\n'), "a message is one line");
        assert!(serde_json::from_str::<Message>(&text).unwrap() == message, "{text}");
        if let Message::Event(e) = &message {
            assert!(!e.kind.words().is_empty() && !e.kind.words().ends_with('.'));
            kinds.push(std::mem::discriminant(&e.kind));
        }
        count += 1;
    });
    assert!(count > 150);
    kinds.dedup();
    assert!(kinds.len() >= 6, "legs, and a break between them");
}

#[test]
fn commands_and_states_have_the_names_of_the_format() {
    let json = |command: &Command| serde_json::to_string(command).unwrap();
    assert_eq!(json(&Command::Pause), "\"pause\"");
    assert_eq!(json(&Command::Note("fan on".into())), "{\"note\":\"fan on\"}");
    assert_eq!(serde_json::from_str::<Command>("\"stop\"").unwrap(), Command::Stop);
    assert_eq!(serde_json::to_string(&Status::CutShort).unwrap(), "\"cut-short\"");
    assert!(serde_json::from_str::<EventKind>("{\"something_new\":1}").is_err());
}

#[test]
fn a_speed_is_max_or_a_factor_above_zero() {
    assert_eq!("max".parse(), Ok(Speed::Max));
    assert_eq!("x60".parse(), Ok(Speed::Times(60.0)));
    assert_eq!("X0.5".parse(), Ok(Speed::Times(0.5)));
    for bad in ["60", "x", "x0", "x-1", "xfast", "x1e9", ""] {
        assert!(bad.parse::<Speed>().is_err(), "{bad}");
    }
}

/// Reads of a simulated drive are slower to answer and use no cache; random ones over more than the mapping that the controller
/// holds take longer than ones within it.
#[test]
fn reads_go_at_the_rate_of_the_model_and_a_wide_span_costs_latency() {
    let latency = |span: &str| {
        let course = format!(
            "course \"c\"\nleg r\n read random, blocks 4 KiB, depth 1, over 0 % to {span}, until 400 MB read\n"
        );
        let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
        let plan = plan(&parse(&course).unwrap(), &run::plan_facts(&drive)).unwrap();
        let head = run::head(&plan, &course, &drive, 1, 0);
        let (_keep, commands) = crossbeam_channel::unbounded();
        let (mut ops, mut weighted) = (0.0, 0.0);
        execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |m| {
            if let Message::Sample(s) = m {
                assert_eq!(s.written.0, 0);
                ops += s.ops as f64;
                weighted += s.end.since(s.start).secs();
            }
        });
        weighted / ops * 1e6
    };
    let (narrow, wide) = (latency("20 %"), latency("100 %"));
    // 74.4 % of a 2 TB span lies outside of 512 GB, and each miss costs 38 µs.
    let expected = (1.0 - 512.0 / 2000.4) * 38.0;
    assert!(((wide - narrow) / expected - 1.0).abs() < 0.1, "{narrow} {wide} {expected}");
}
