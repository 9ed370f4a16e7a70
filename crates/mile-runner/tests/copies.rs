//! Copies between two lanes: which side held them back agrees with what the drives were made to do.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use crossbeam_channel::{Sender, unbounded};
use mile_core::channel::{Series, WAITED};
use mile_core::copies::{By, CopyFound, CopySide, HeldBy, copy};
use mile_core::{Cause, Trace, findings};
use mile_course::{parse, plan_lanes};
use mile_drive::Drive;
use mile_drive::drive::TruthKind;
use mile_runner::{Command, GoOn, LaneRun, Message, Outcome, RunHead, Status, Terms, execute_lanes, run};
use mile_sim::SimDrive;
use mile_sim::model::Model;

const COURSE: &str =
    "course \"c\"\nlane source\nlane target\nleg copy\n copy from source to target, blocks 1 MiB, depth 16\n";

struct Copied {
    outcomes: Vec<Outcome>,
    found: CopyFound,
    traces: Vec<Trace>,
    series: Vec<Series>,
    /// When the cache of the target was full by the truth, in seconds.
    full_s: Option<f64>,
    status: Vec<Status>,
}

fn copied(models: [Model; 2], seed: u64, course: &str) -> Copied {
    go_on(models, seed, course, vec![None, None], |_, _| {})
}

fn go_on(
    models: [Model; 2],
    seed: u64,
    course: &str,
    on: Vec<Option<GoOn>>,
    mut look: impl FnMut(&Message, &Sender<Command>),
) -> Copied {
    let course = parse(course).unwrap();
    let mut drives: Vec<SimDrive> =
        models.into_iter().zip(0..).map(|(m, i)| SimDrive::of("sim:made", m, seed + i)).collect();
    let facts: Vec<_> = drives.iter().map(|d| run::plan_facts(d)).collect();
    let plans = plan_lanes(&course, &facts).unwrap();
    let mut head = RunHead::default();
    for ((lane, plan), drive) in course.lanes.iter().zip(&plans).zip(&drives) {
        head.lanes.push(run::lane_head(&lane.name, plan, drive));
    }
    head.channels = run::copy_channels(&plans.iter().collect::<Vec<_>>());
    let lanes = plans
        .iter()
        .zip(&mut drives)
        .zip(on)
        .map(|((plan, drive), go_on)| LaneRun {
            plan,
            drive: drive as &mut dyn Drive,
            terms: Terms { go_on, ..Terms::PLAIN },
        })
        .collect();
    let mut series: Vec<Series> =
        head.channels.iter().map(|c| Series { channel: c.clone(), readings: Vec::new() }).collect();
    let (send, commands) = unbounded();
    let ends = execute_lanes(lanes, head.clone(), course.apart, &commands, &mut |_, message| {
        look(&message, &send);
        if let Message::Reading(channel, reading) = message {
            series[channel as usize].readings.push(reading);
        }
    });
    let outcomes: Vec<Outcome> = ends.iter().map(|e| e.outcome.clone()).collect();
    let traces: Vec<Trace> = ends.into_iter().map(|e| e.trace).collect();
    let contexts: Vec<_> = head.lanes.iter().map(mile_runner::LaneHead::context).collect();
    let found: Vec<_> = traces.iter().zip(&contexts).map(|(t, c)| findings(t, c)).collect();
    let side = |i: usize| CopySide {
        lane: &head.lanes[i].name,
        trace: &traces[i],
        context: &contexts[i],
        breaks: &found[i].breaks,
    };
    let found = copy("copy", side(0), side(1)).unwrap();
    let truth = drives[1].truth().unwrap();
    let full_s = truth.events.iter().find(|e| e.what == TruthKind::CacheFull).map(|e| e.at_s);
    let status = outcomes.iter().map(|o| o.status).collect();
    Copied { outcomes, found, traces, series, full_s, status }
}

/// A drive that reads and writes at these rates, MB/s, on a link that carries that, with a cache that never ends.
fn drive(read: f64, write: f64, link: f64) -> Model {
    let mut model = Model::find("merrow-k2").unwrap();
    let flash = model.flash.as_mut().unwrap();
    flash.read_mb_s = read;
    flash.cache_mb_s = write;
    model.link.ceiling_mb_s = link;
    model
}

fn until(gb: u64) -> String {
    format!("{COURSE} until {gb} GB moved")
}

#[test]
fn a_slow_source_a_slow_target_and_a_narrow_link_are_told_apart_on_twenty_seeds() {
    for seed in 0..20 {
        // The rates differ from seed to seed, from a tenth apart on.
        let apart = 1.1 + f64::from(seed as u32) * 0.15;
        let slow = 600.0 + f64::from(seed as u32 * 37);
        for (name, source, target, expected, rate) in [
            (
                "source",
                drive(slow, 2000.0, 7877.0),
                drive(5000.0, slow * apart, 7877.0),
                HeldBy::Source,
                slow,
            ),
            (
                "target",
                drive(slow * apart, 2000.0, 7877.0),
                drive(5000.0, slow, 7877.0),
                HeldBy::Target,
                slow,
            ),
            (
                "link",
                drive(5000.0, 2000.0, slow),
                drive(5000.0, slow * apart, 7877.0),
                HeldBy::SourceLink,
                slow,
            ),
            (
                "link of target",
                drive(slow * apart, 9.0, 7877.0),
                drive(5000.0, 2800.0, slow),
                HeldBy::TargetLink,
                slow,
            ),
        ] {
            let copied = copied([source, target], seed, &until(20));
            assert_eq!(copied.status, [Status::Done, Status::Done]);
            let found = &copied.found;
            assert_eq!(found.bytes, 20_000_000_000_u64.div_ceil(1 << 20) << 20);
            let [phase] = found.phases.as_slice() else { panic!("{name}, seed {seed}: {found:#?}") };
            assert_eq!(phase.held_by, expected, "{name}, seed {seed}: {phase:?}");
            assert_eq!(phase.why, None);
            assert!((phase.mb_s / rate - 1.0).abs() < 0.03, "{name}, seed {seed}: {phase:?}");
            // The other side would have needed 1 / apart of the time.
            if !name.starts_with("link") {
                let waited = phase.source_waited.max(phase.target_waited);
                assert!(
                    (waited - (1.0 - 1.0 / apart)).abs() < 0.04,
                    "{name}, seed {seed}: {waited} at {apart}"
                );
            }
        }
    }
}

#[test]
fn a_target_whose_cache_is_exhausted_is_named_from_then_on_and_the_source_is_not_blamed() {
    for seed in 0..20 {
        let models = [drive(5050.0, 2000.0, 7877.0), Model::find("merrow-k2").unwrap()];
        let copied = copied(models, seed, &until(200));
        let found = &copied.found;
        let [before, behind] = found.phases.as_slice() else { panic!("seed {seed}: {found:#?}") };
        assert_eq!((before.held_by, before.why), (HeldBy::Target, None), "seed {seed}");
        assert_eq!(
            (behind.held_by, behind.why),
            (HeldBy::Target, Some(Cause::CacheExhausted)),
            "seed {seed}"
        );
        let full = copied.full_s.unwrap();
        assert!((behind.from_s - full).abs() < 1.0, "seed {seed}: {} and not {full}", behind.from_s);
        assert!((before.mb_s / 2875.0 - 1.0).abs() < 0.03 && (behind.mb_s / 1052.0 - 1.0).abs() < 0.03);
        // What the source showed is put down to the other side, and to nothing of its own.
        let source = findings(&copied.traces[0], &mile_core::Context::default());
        let own: Vec<_> = source.breaks.iter().map(|b| b.cause).collect();
        assert_eq!(own, [Cause::OtherSide], "seed {seed}");
    }
}

#[test]
fn a_source_that_is_slower_than_the_target_even_behind_its_cache_holds_it_back_throughout() {
    let models = [drive(700.0, 2000.0, 7877.0), Model::find("merrow-k2").unwrap()];
    let found = copied(models, 3, &until(150)).found;
    assert_eq!((found.held_by_source, found.held_by_target), (1.0, 0.0), "{found:#?}");
    assert_eq!(found.source_could.as_ref().unwrap().by, By::Claimed);
}

#[test]
fn the_same_seed_gives_the_same_copy_and_the_buffer_is_never_over_its_size() {
    let course = "course \"c\"\nlane source\nlane target\nleg copy\n copy from source to target, blocks 96 KiB, depth 7, target blocks 256 KiB, target depth 3, buffer 8 MiB, until 9 GB moved";
    let go = || copied([drive(2000.0, 2000.0, 7877.0), drive(2000.0, 1900.0, 7877.0)], 5, course);
    let (a, b) = (go(), go());
    assert_eq!(a.status, [Status::Done, Status::Done]);
    assert!(a.series == b.series && a.found == b.found && a.outcomes == b.outcomes, "to the byte");
    let level = a.series.iter().find(|s| s.channel.name == "buffered").unwrap();
    let most = level.readings.iter().map(|r| r.value).fold(0.0, f64::max);
    assert!(most > 4.0 && most <= 8.39, "{most} MB");
    assert!(a.series.iter().filter(|s| s.channel.name == WAITED).all(|s| s.readings.len() > 10));
    // Whole blocks of both sides.
    assert!(a.found.bytes.is_multiple_of(768 << 10) && a.found.bytes > 8_900_000_000, "{}", a.found.bytes);
}

#[test]
fn a_copy_that_is_skipped_or_stopped_ends_on_both_sides() {
    for (command, status) in [(Command::Skip, Status::Done), (Command::Stop, Status::Stopped)] {
        let mut count = 0;
        let models = [drive(5000.0, 2000.0, 7877.0), drive(5000.0, 1000.0, 7877.0)];
        let copied = go_on(models, 1, &until(100), vec![None, None], |message, send| {
            count += usize::from(matches!(message, Message::Sample(_)));
            if count == 40 {
                send.send(command.clone()).unwrap();
            }
        });
        assert_eq!(copied.status, [status, status]);
        assert!(copied.found.bytes < 60_000_000_000, "{}", copied.found.bytes);
    }
}

/// A random leg at a tenth of the pace was given as what the source can do, below what it did in the copy; and a copy was as sure as its waits, however
/// unsure the reason was.
#[test]
fn what_a_side_could_do_is_never_less_than_what_it_did_and_nobody_is_surer_of_a_copy_than_of_its_reason() {
    let random = "leg look on source\n read random, blocks 4 KiB, depth 1, until 100 MB read\nleg copy";
    let course = until(200).replace("leg copy", random);
    let models = [drive(5050.0, 2000.0, 7877.0), Model::find("merrow-k2").unwrap()];
    let copied = copied(models, 1, &course);
    let could = copied.found.source_could.unwrap();
    assert!(could.by == By::Claimed && could.mb_s >= copied.found.phases[0].mb_s, "{could:?}");
    let target = findings(&copied.traces[1], &mile_core::Context::default());
    let sure = target.breaks[0].confidence;
    assert!(copied.found.phases[1].confidence <= 0.99 * 0.98 && sure <= 0.99, "{:?}", copied.found.phases);
}
