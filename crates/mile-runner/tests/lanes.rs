//! Several drives in one run: they keep time with each other, warm each other, and end as the course says.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use crossbeam_channel::{Sender, unbounded};
use mile_core::{Bytes, Nanos, Op, Sample};
use mile_course::{Course, parse, plan_lanes};
use mile_drive::Drive;
use mile_runner::{
    Command, EndKind, Event, EventKind, GoOn, LaneRun, Message, Outcome, RunHead, Status, Terms,
    execute_lanes, run,
};
use mile_sim::SimDrive;
use mile_sim::model::{Model, ThermalModel};

const TWO_SLOTS: &str = include_str!("../../../courses/two-slots.course");
const NAMES: [&str; 2] = ["sim:merrow-k2", "sim:merrow-k2-finned"];

#[derive(Default, PartialEq)]
struct Lane {
    samples: Vec<Sample>,
    events: Vec<Event>,
}

struct Record {
    lanes: Vec<Lane>,
    outcomes: Vec<Outcome>,
}

impl Record {
    /// When a leg began and ended on a lane.
    fn leg(&self, lane: usize, name: &str) -> (Nanos, Nanos) {
        let at = |wanted: bool| {
            let is = |e: &&Event| match &e.kind {
                EventKind::LegBegan { name: n, .. } => wanted && n == name,
                EventKind::LegEnded { name: n, .. } => !wanted && n == name,
                _ => false,
            };
            self.lanes[lane].events.iter().find(is).unwrap_or_else(|| panic!("{name} on {lane}")).at
        };
        (at(true), at(false))
    }

    fn status(&self) -> Vec<Status> {
        self.outcomes.iter().map(|o| o.status).collect()
    }
}

/// Runs a course on as many simulated drives as it has lanes; `look` may send commands.
fn go_on(
    course: &Course,
    names: &[&str],
    seed: u64,
    on: Vec<Option<GoOn>>,
    mut look: impl FnMut(u32, &Message, &Sender<Command>),
) -> Record {
    let mut drives: Vec<SimDrive> = names.iter().map(|n| SimDrive::new(n, seed).unwrap()).collect();
    let facts: Vec<_> = drives.iter().map(|d| run::plan_facts(d)).collect();
    let plans = plan_lanes(course, &facts).unwrap();
    let mut head = RunHead::default();
    for ((lane, plan), drive) in course.lanes.iter().zip(&plans).zip(&drives) {
        head.lanes.push(run::lane_head(&lane.name, plan, drive));
    }
    let lanes = plans
        .iter()
        .zip(&mut drives)
        .zip(on)
        .map(|((plan, drive), go_on)| {
            let terms = Terms { go_on, ..Terms::PLAIN };
            LaneRun { plan, drive: drive as &mut dyn Drive, terms }
        })
        .collect();
    let mut told: Vec<Lane> = names.iter().map(|_| Lane::default()).collect();
    let (send, commands) = unbounded();
    let outcomes = execute_lanes(lanes, head, course.apart, &commands, &mut |lane, message| {
        look(lane, &message, &send);
        match message {
            Message::Sample(s) => told[lane as usize].samples.push(s),
            Message::Event(e) => told[lane as usize].events.push(e),
            _ => {}
        }
    });
    let outcomes = outcomes.into_iter().map(|e| e.outcome).collect();
    Record { lanes: told, outcomes }
}

fn go(text: &str, names: &[&str], seed: u64) -> Record {
    let none = names.iter().map(|_| None).collect();
    go_on(&parse(text).unwrap(), names, seed, none, |_, _, _| {})
}

/// A course for two lanes with these settings and legs.
fn course(text: &str) -> String {
    format!("course \"c\"\nlane upper\nlane lower\n{text}\n")
}

#[test]
fn the_same_seed_gives_the_same_lanes_whichever_thread_is_faster() {
    let text = course(
        "leg soak on upper\n write sequential, blocks 1 MiB, depth 16, until 300 GB written\n\
         together\nleg a on upper\n write random, blocks 4 KiB, depth 32, for 20 s\nleg b on lower\n read random, blocks 64 KiB, depth 4, for 31 s\nend\n\
         leg rest\n rest until temperature below 60 °C, at most 10 min",
    );
    let [a, b, c] = [1, 1, 2].map(|seed| go(&text, &NAMES, seed));
    assert_eq!(a.status(), [Status::Done, Status::Done]);
    assert!(a.lanes == b.lanes, "to the byte");
    assert!(a.lanes != c.lanes);
    // Time has no hole on either lane, and ends at the same moment on both.
    for lane in &a.lanes {
        assert!(lane.samples.windows(2).all(|w| w[0].end == w[1].start));
    }
    assert_eq!(a.outcomes[0].at, a.outcomes[1].at);
}

#[test]
fn legs_begin_together_when_the_last_lane_has_ended_the_leg_before() {
    let text = course(
        "leg soak on upper\n write sequential, blocks 1 MiB, depth 16, for 7 s\n\
         together\nleg short on lower\n read sequential, blocks 1 MiB, depth 4, for 3 s\nleg long on upper\n read sequential, blocks 1 MiB, depth 4, for 11 s\nend\n\
         leg both\n write sequential, blocks 1 MiB, depth 16, for 5 s",
    );
    let record = go(&text, &NAMES, 3);
    let soak = record.leg(0, "soak");
    assert_eq!((soak.1.since(soak.0), record.leg(1, "soak").0), (Nanos::from_secs(7.0), soak.0), "watched");
    let (long, short, both) = (record.leg(0, "long"), record.leg(1, "short"), record.leg(0, "both"));
    assert_eq!((long.0, both), (short.0, record.leg(1, "both")));
    assert_eq!(
        (short.1.since(short.0), long.1.since(long.0)),
        (Nanos::from_secs(3.0), Nanos::from_secs(11.0))
    );
    // At most two steps of simulated time lie between one leg and the next.
    assert!(both.0.since(long.1) <= Nanos(200_000_000) && long.0.since(soak.1) <= Nanos(200_000_000));
    // No load where there is none.
    let moved = |lane: usize, from: Nanos, to: Nanos| -> u64 {
        let within = record.lanes[lane].samples.iter().filter(|s| s.start >= from && s.end <= to);
        within.map(|s| s.moved().0).sum()
    };
    assert_eq!(moved(1, soak.0, soak.1), 0);
    assert_eq!(moved(1, short.1, long.1), 0, "it waits for the other");
    assert!(moved(0, long.0, long.1) > 0 && moved(1, both.0, both.1) > 0);
}

/// Two masses for each drive, joined through their bodies: integrated here, in small steps of a method of higher order (the midpoint rule),
/// from the powers that the samples say.
fn temperatures(models: &[ThermalModel; 2], power: impl Fn(usize, f64) -> f64, until: f64) -> Vec<[f64; 2]> {
    let slope = |t: [[f64; 2]; 2], at: f64| -> [[f64; 2]; 2] {
        [0, 1].map(|i| {
            let (m, [die, body], other) = (&models[i], t[i], t[1 - i][1]);
            let up = (die - body) / m.die_to_body_k_per_w;
            let out = (body - m.ambient_c) / m.body_to_ambient_k_per_w
                + (body - other) / m.body_to_neighbour_k_per_w.unwrap();
            [(power(i, at) - up) / m.die_j_per_k, (up - out) / m.body_j_per_k]
        })
    };
    let start = |m: &ThermalModel| {
        let body = m.ambient_c + m.idle_w * m.body_to_ambient_k_per_w;
        [body + m.idle_w * m.die_to_body_k_per_w, body]
    };
    let mut t = [start(&models[0]), start(&models[1])];
    let step = 0.05;
    let mut all = Vec::new();
    for i in 0..(until / step) as usize {
        let at = i as f64 * step;
        if i % 20 == 0 {
            all.push([t[0][0], t[1][0]]);
        }
        let half = slope(t, at);
        let mut middle = t;
        for (m, h) in middle.iter_mut().flatten().zip(half.iter().flatten()) {
            *m += h * step / 2.0;
        }
        for (t, s) in t.iter_mut().flatten().zip(slope(middle, at + step / 2.0).iter().flatten()) {
            *t += s * step;
        }
    }
    all
}

#[test]
fn drives_in_neighbouring_slots_warm_each_other_as_two_joined_pairs_of_masses_do() {
    let record = go(TWO_SLOTS, &NAMES, 5);
    assert_eq!(record.status(), [Status::Done, Status::Done], "{:?}", record.outcomes);
    let models = ["merrow-k2", "merrow-k2-finned"].map(|n| Model::find(n).unwrap().thermal);
    let power = |lane: usize, at: f64| {
        let (samples, m) = (&record.lanes[lane].samples, &models[lane]);
        let i = samples.partition_point(|s| s.end.secs() <= at).min(samples.len() - 1);
        let rate = samples[i].written.0 as f64 / samples[i].end.since(samples[i].start).secs();
        // Into the cache it is more than twice as fast as behind it.
        let nj = if rate > 2e9 { m.cache_nj_per_byte } else { m.direct_nj_per_byte };
        m.idle_w + rate * nj * 1e-9
    };
    let until = record.outcomes[0].at.secs();
    let expected = temperatures(&models, power, until);
    let peak = |lane: usize, (from, to): (Nanos, Nanos)| {
        let samples = &record.lanes[lane].samples;
        let within = samples.iter().filter(|s| s.start >= from && s.end <= to);
        let measured = within.filter_map(|s| s.temp).map(|t| t.0).fold(f64::MIN, f64::max);
        let (a, b) = (from.secs() as usize, (to.secs() as usize).min(expected.len()));
        (measured, expected[a..b].iter().map(|t| t[lane]).fold(f64::MIN, f64::max))
    };
    let legs = ["idle", "upper-alone", "rest", "lower-alone", "rest-again", "both"];
    let mut peaks = Vec::new();
    for name in legs {
        for lane in [0, 1] {
            let (measured, expected) = peak(lane, record.leg(lane, name));
            assert!((measured - expected).abs() <= 1.0, "{name} on {lane}: {measured} and {expected:.2}");
            peaks.push(expected);
        }
    }
    // It is a difference that can be seen: beside a drive at work each is warmer than at rest, and than alone.
    assert!(peaks[3] > peaks[1] + 2.0 && peaks[11] > peaks[7] + 1.0, "{peaks:?}");
}

#[test]
fn a_lane_that_a_guard_stops_ends_the_others_or_lets_them_go_on_as_the_course_says() {
    let legs = "stop if written above 20 GB\nlegs";
    let legs = legs.replace(
        "legs",
        "leg soak on upper\n write sequential, blocks 1 MiB, depth 16, until 40 GB written\nleg after on lower\n read sequential, blocks 1 MiB, depth 4, for 5 s",
    );
    let together = go(&course(&legs), &NAMES, 1);
    assert_eq!(together.status(), [Status::Guarded, Status::Guarded]);
    let why = together.outcomes[1].why.as_deref().unwrap();
    assert!(why.contains("lane upper has ended"), "{why}");
    assert!(together.outcomes[1].at.since(together.outcomes[0].at) <= Nanos(200_000_000));
    let apart = go(&course(&format!("lanes end apart\n{legs}")), &NAMES, 1);
    assert_eq!(apart.status(), [Status::Guarded, Status::Done]);
    let (from, to) = apart.leg(1, "after");
    assert_eq!(to.since(from), Nanos::from_secs(5.0));
}

#[test]
fn a_request_to_stop_ends_all_lanes_and_one_to_skip_goes_on_with_the_next_leg() {
    let text =
        course("leg soak\n write sequential, blocks 1 MiB, depth 16, for 10 h\nleg rest\n rest for 10 h");
    let mut asked = 0;
    let record = go_on(&parse(&text).unwrap(), &NAMES, 1, vec![None, None], |lane, m, send| {
        if let (0, Message::Sample(s)) = (lane, m) {
            let due = [
                (30.0, Command::Skip),
                (60.0, Command::Pause),
                (61.0, Command::Resume),
                (90.0, Command::Stop),
            ];
            if let Some((at, command)) = due.get(asked)
                && s.end.secs() >= *at
            {
                asked += 1;
                send.send(command.clone()).unwrap();
                if *command == Command::Pause {
                    asked += 1;
                    send.send(Command::Resume).unwrap();
                }
            }
        }
    });
    assert_eq!(record.status(), [Status::Stopped, Status::Stopped]);
    for lane in &record.lanes {
        let skipped =
            |e: &Event| matches!(e.kind, EventKind::LegEnded { leg: 0, kind: Some(EndKind::Skipped), .. });
        assert!(lane.events.iter().any(skipped));
        assert!(lane.samples.iter().any(|s| s.leg == 1 && s.op == Op::Idle));
    }
}

#[test]
fn a_run_that_was_cut_off_goes_on_on_all_its_lanes_and_comes_to_the_same_ends() {
    let text = course(
        "leg soak on upper\n write sequential, blocks 1 MiB, depth 16, until 60 GB written\n\
         leg both\n write sequential, blocks 1 MiB, depth 16, until 80 GB written\n\
         leg last on lower\n read sequential, blocks 1 MiB, depth 16, until 50 GB moved",
    );
    let parsed = parse(&text).unwrap();
    let facts: Vec<_> = NAMES.iter().map(|n| run::plan_facts(&SimDrive::new(n, 1).unwrap())).collect();
    let plans = plan_lanes(&parsed, &facts).unwrap();
    let whole = go(&text, &NAMES, 1);
    for cut in (1..whole.lanes[0].samples.len()).step_by(37) {
        // What each lane had told by then is not the same: one log may be behind the other by a second.
        let at = whole.lanes[0].samples[cut].end;
        let part = |lane: usize, behind: u64| {
            let told = &whole.lanes[lane];
            let until = Nanos(at.0.saturating_sub(behind * 700_000_000));
            let samples: Vec<Sample> = told.samples.iter().filter(|s| s.end <= until).cloned().collect();
            let events: Vec<Event> = told.events.iter().filter(|e| e.at < until).cloned().collect();
            (samples, events)
        };
        let parts = [part(0, 0), part(1, 1)];
        let on = |lane: usize| {
            let (samples, events) = parts[lane].clone();
            Some(GoOn::of(&plans[lane], Status::CutShort, samples, &events, Nanos::from_secs(100.0)))
        };
        let second = go_on(&parsed, &NAMES, 1, vec![on(0), on(1)], |_, _, _| {});
        assert_eq!(second.status(), [Status::Done, Status::Done], "cut at {at}");
        for (lane, wanted) in [(0, [60, 80, 0]), (1, [0, 80, 50])] {
            let all: Vec<&Sample> = parts[lane].0.iter().chain(&second.lanes[lane].samples).collect();
            assert!(
                all.windows(2).all(|w| w[0].end == w[1].start),
                "cut at {at}: time has no hole on {lane}"
            );
            for (leg, gb) in wanted.into_iter().enumerate() {
                let moved: u64 = all.iter().filter(|s| s.leg as usize == leg).map(|s| s.moved().0).sum();
                assert!(moved >= gb * 1_000_000_000, "cut at {at}, lane {lane}, leg {leg}: {}", Bytes(moved));
            }
        }
        // Nobody begins the leg after before both have ended the one before.
        let ends: Vec<Nanos> = (0..2)
            .filter_map(|l| {
                let is = |e: &&Event| matches!(&e.kind, EventKind::LegEnded { name, .. } if name == "both");
                second.lanes[l].events.iter().find(is).map(|e| e.at)
            })
            .collect();
        let began = second.lanes[1]
            .events
            .iter()
            .find(|e| matches!(&e.kind, EventKind::LegBegan { name, .. } if name == "last"));
        if let (Some(last), Some(began)) = (ends.iter().max(), began) {
            assert!(began.at >= *last, "cut at {at}");
        }
    }
}
