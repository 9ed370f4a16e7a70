//! The course language: what it means, and what it says of text that means nothing.

use mile_core::{Bytes, Celsius, Nanos, Op};
use mile_course::{Access, Action, DriveFacts, End, Guard, Position, Seen, Then, When, Work, parse, plan};
use proptest::prelude::*;

const FIRST_LOOK: &str = include_str!("../../../courses/first-look.course");

const K2: DriveFacts = DriveFacts {
    capacity: Bytes(2_000_398_934_016),
    logical_block: Bytes(512),
    has_temperature: true,
    readable: true,
    cache: None,
    files: None,
};
const FILE: DriveFacts = DriveFacts {
    capacity: Bytes(4_000_000_000),
    logical_block: Bytes(4096),
    has_temperature: false,
    readable: false,
    cache: Some(Bytes(8 << 30)),
    files: Some(Bytes(100 << 30)),
};

fn stop(when: When) -> Guard {
    Guard { when, then: Then::Stop }
}

#[test]
fn a_course_means_what_it_says() {
    let course = parse(FIRST_LOOK).unwrap();
    assert_eq!(course.name, "first look");
    assert_eq!(course.sample_every, Nanos(250_000_000));
    assert_eq!(course.guards, [stop(When::TemperatureAbove(Celsius(80.0)))]);
    assert_eq!(course.legs.len(), 2);
    let Action::Rest(rest) = &course.legs[0].action else { unreachable!() };
    assert_eq!(
        (rest.until.as_slice(), rest.at_most),
        ([End::Seen(Seen::Below(Celsius(40.0), Nanos(0)))].as_slice(), Some(Nanos::from_secs(600.0)))
    );
    let Action::Transfer(soak) = &course.legs[1].action else { unreachable!() };
    assert_eq!(
        (soak.load.op, soak.load.access, soak.load.block, soak.load.depth),
        (Op::Write, Access::Sequential, Bytes(1 << 20), 16)
    );
    assert_eq!(soak.over, (Position::Share(0.0), Position::Share(1.0)));
    assert_eq!(soak.until, [End::Moved(Bytes(600_000_000_000))]);
}

#[test]
fn a_plan_keeps_to_blocks_and_to_the_range() {
    let text = "course \"c\"\nleg w\n write random, blocks 128 KiB, depth 4, over 10 % to 300 GB, until 1 GB written or 5 min, at most 2 min\n";
    let plan = plan(&parse(text).unwrap(), &K2).unwrap();
    let Work::Transfer(t) = &plan.legs[0].work else { panic!("{plan:?}") };
    assert_eq!((t.start.0 % (128 << 10), t.length.0 % (128 << 10), t.budget.0 % (128 << 10)), (0, 0, 0));
    assert!(t.start.0 > 200_039_893_401 - (128 << 10) && t.start.0 + t.length.0 <= 300_000_000_000);
    assert!(t.budget.0 >= 1_000_000_000 && t.budget.0 < 1_000_000_000 + (128 << 10));
    assert_eq!(plan.legs[0].time, Some(Nanos::from_secs(120.0)));
}

#[test]
fn a_leg_that_only_a_time_ends_has_a_wall_but_promises_no_bytes() {
    let text = "course \"c\"\nleg w\n write sequential, blocks 1 MiB, until 24 h\nleg v\n write sequential, blocks 1 MiB, over 0 % to 1 %\n";
    let plan = plan(&parse(text).unwrap(), &K2).unwrap();
    let Work::Transfer(t) = &plan.legs[0].work else { panic!("{plan:?}") };
    assert!(t.by_time && t.budget.0 > 100 * K2.capacity.0);
    assert!(plan.legs[0].words().ends_with("1 deep, for 24 h"), "{}", plan.legs[0].words());
    assert!(plan.writes() < Bytes(20_100_000_000), "{}", plan.writes());
}

/// What is looked at before a drive is armed is what the plan writes over or discards, and not what it reads.
#[test]
fn a_plan_says_what_it_writes_over() {
    let text = "course \"c\"\nleg a\n write sequential, blocks 1 MiB, over 10 % to 20 %\nleg b\n read sequential, blocks 1 MiB\nleg c\n discard over 50 % to 60 %\nleg d\n rest for 1 s\n";
    let course = parse(text).unwrap();
    let over = plan(&course, &K2).unwrap().writes_over();
    let share = |bytes: Bytes| (100.0 * bytes.0 as f64 / K2.capacity.0 as f64).round() as u64;
    let shares: Vec<(u64, u64)> =
        over.iter().map(|(start, length)| (share(*start), share(*length))).collect();
    assert_eq!(shares, [(10, 10), (50, 10)]);
}

/// A course with eighteen random writes of five seconds "writes about 200 GB", which was what its first leg writes.
#[test]
fn a_forecast_says_in_how_many_legs_it_does_not_know_the_bytes() {
    let text = "course \"c\"\nleg lay\n write sequential, blocks 1 MiB, over 0 % to 1 %\nleg w\n write random, blocks 4 KiB, for 5 s\nleg r\n read random, blocks 4 KiB, for 5 s\nleg paced\n write random, blocks 4 KiB, rate 10 MB/s, for 5 s\n";
    let plan = plan(&parse(text).unwrap(), &K2).unwrap();
    let cast = mile_course::forecast::forecast(&plan, &[], &mile_course::Claims::default());
    assert_eq!((cast.writes_open, cast.reads_open), (1, 1));
    let open: Vec<_> = cast.legs.iter().map(|l| l.open).collect();
    assert_eq!(open, [false, true, true, false]);
    assert_eq!((cast.legs[1].written, cast.legs[3].written), (0, 50_000_000));
}

#[test]
fn on_a_small_drive_without_a_temperature_a_course_is_fitted_and_says_so() {
    let plan = plan(&parse(FIRST_LOOK).unwrap(), &FILE).unwrap();
    assert_eq!(plan.legs[0].work, Work::Skip);
    let Work::Transfer(t) = &plan.legs[1].work else { panic!("{plan:?}") };
    assert_eq!(t.budget, t.length);
    assert_eq!(t.length.0, 4_000_000_000 / (1 << 20) * (1 << 20));
    let notes = plan.notes.join("\n");
    assert!(notes.contains("ends after one pass, 4.00 GB"), "{notes}");
    assert!(notes.contains("waits for a temperature below 40 °C") && notes.contains("cannot act"), "{notes}");
}

#[test]
fn blocks_that_were_never_written_are_not_read() {
    let read = "leg r\n read sequential, blocks 1 MiB, over 0 % to 50 %\n";
    let alone = plan(&parse(&format!("course \"c\"\n{read}")).unwrap(), &FILE).unwrap_err();
    assert!(alone[0].contains("nothing is written there before"), "{alone:?}");
    let behind =
        |write: &str| plan(&parse(&format!("course \"c\"\nleg w\n {write}\n{read}")).unwrap(), &FILE);
    assert!(behind("write sequential, blocks 1 MiB, over 0 % to 50 %").is_ok());
    assert!(behind("write sequential, blocks 1 MiB, over 0 % to 40 %").is_err());
    assert!(behind("write random, blocks 1 MiB, over 0 % to 50 %").is_err());
    let discarded = "write sequential, blocks 1 MiB, over 0 % to 50 %\nleg d\n discard, over 10 % to 20 %";
    assert!(behind(discarded).is_err());
    assert!(behind("write sequential, blocks 1 MiB, over 0 % to 50 %, at most 1 min").is_err());
}

#[test]
fn mixes_workers_rates_and_guards_mean_what_they_say() {
    let text = "course \"c\"\nhealth every 1 min\nstop if errors above 10\nstop if operation above 20 s\nstop if critical warning\nleg m\n mixed random, reads 70 %, blocks 4 KiB, depth 32, workers 4, rate 300 MB/s, until 10 GB moved\nleg f\n flush\nleg d\n discard, over 10 % to 20 %\n";
    let course = parse(text).unwrap();
    assert_eq!(
        course.guards,
        [When::ErrorsAbove(10), When::OperationAbove(Nanos::from_secs(20.0)), When::CriticalWarning]
            .map(stop)
    );
    let plan = plan(&course, &K2).unwrap();
    assert_eq!(
        (plan.guards.errors_at_most, plan.guards.patience, plan.guards.stop_on_warning),
        (10, Some(Nanos::from_secs(20.0)), true)
    );
    assert_eq!(plan.health_every, Nanos::from_secs(60.0));
    let Work::Transfer(t) = &plan.legs[0].work else { panic!("{plan:?}") };
    assert_eq!((t.load.op, t.load.reads, t.load.workers, t.load.rate.unwrap().0), (Op::Mixed, 0.7, 4, 300e6));
    assert_eq!(
        plan.legs[0].words(),
        "reading 70 % and writing random 4 KiB blocks, 32 deep, 4 workers, at most 300 MB/s"
    );
    assert!((plan.writes().0 as f64 - 3e9).abs() < 1e6);
    assert_eq!(plan.legs[1].work, Work::Flush);
    let Work::Discard { start, length } = plan.legs[2].work else { panic!("{plan:?}") };
    assert!(
        start.0 > 200_039_893_401 - 512
            && start.0 + length.0 <= 400_079_786_803
            && start.0.is_multiple_of(512)
    );
    assert!(plan.changes_the_drive());
    let mut first = plan.clone();
    first.discard_first();
    let Work::Discard { start, length } = first.legs[0].work else { panic!("{first:?}") };
    assert_eq!((start, length), (t.start, t.length));
}

#[test]
fn a_verifying_read_knows_what_wrote_its_range() {
    let read = |legs: &str| {
        plan(
            &parse(&format!("course \"c\"\n{legs}leg v\n verify, blocks 1 MiB, over 0 % to 50 %\n")).unwrap(),
            &K2,
        )
    };
    let write =
        |name: &str, range: &str| format!("leg {name}\n write sequential, blocks 1 MiB, over {range}\n");
    let sealed = |plan: &mile_course::Plan| -> Vec<bool> {
        plan.legs.iter().map(|l| matches!(&l.work, Work::Transfer(t) if t.sealed)).collect()
    };
    let pass = |plan: &mile_course::Plan| match &plan.legs.last().unwrap().work {
        Work::Transfer(t) => t.pass,
        _ => 0,
    };
    assert!(read("").unwrap_err()[0].contains("nothing to hold it against"));
    assert!(read(&write("a", "0 % to 40 %")).is_err());
    let once = read(&write("a", "0 % to 100 %")).unwrap();
    assert_eq!((sealed(&once), pass(&once)), (vec![true, true], 1));
    // Two legs that each write a part; and of two that write all, the later one counts.
    let parts = read(&(write("a", "0 % to 25 %") + &write("b", "25 % to 60 %"))).unwrap();
    assert_eq!((sealed(&parts), pass(&parts)), (vec![true, true, true], 1));
    let twice = read(&(write("a", "0 % to 100 %") + &write("b", "0 % to 50 %"))).unwrap();
    assert_eq!((sealed(&twice), pass(&twice)), (vec![true, true, true], 2));
    assert!(read(&(write("a", "0 % to 100 %") + "leg d\n discard, over 0 % to 1 %\n")).is_err());
}

#[test]
fn a_scan_that_verifies_holds_each_of_its_passes_against_what_was_written() {
    let write = "leg w\n write sequential, blocks 1 MiB, over 0 % to 60 %\n";
    let scan = |before: &str, more: &str| {
        let text = format!(
            "course \"c\"\n{before}leg s\n scan, zones 64, over 0 % to 50 %, refine to 1 MiB{more}\n"
        );
        plan(&parse(&text).unwrap(), &K2)
    };
    let told = |plan: mile_course::Plan| -> Vec<(bool, bool, u32)> {
        let transfers = plan.legs.iter().filter_map(|l| match &l.work {
            Work::Transfer(t) => Some((t.verify, t.sealed, t.pass)),
            _ => None,
        });
        transfers.collect()
    };
    // What only looks for edges reads again what the passes have read.
    let verified = vec![(false, true, 1), (true, true, 1), (true, true, 1), (false, false, 0)];
    assert_eq!(told(scan(write, "\n verify").unwrap()), verified);
    assert_eq!(told(scan(write, ", verify").unwrap()), verified);
    assert_eq!(told(scan(write, "").unwrap())[1], (false, false, 0));
    assert!(scan("", ", verify").unwrap_err()[0].contains("nothing to hold it against"));
    assert!(parse("course \"c\"\nleg r\n read sequential, blocks 1 MiB, verify\n").is_err());
    assert!(parse("course \"c\"\nleg r\n scan write, verify\n").is_err());
}

/// One at a time, most of the time of an operation of a flash drive is the same everywhere, and hides an edge.
#[test]
fn edges_are_looked_for_with_as_many_operations_underway_as_in_the_passes() {
    let loads = |how: &str| -> Vec<(u64, u32)> {
        let course = parse(&format!("course \"c\"\nleg s\n scan, refine to 1 MiB{how}\n")).unwrap();
        let plan = plan(&course, &K2).unwrap();
        let transfers = plan.legs.iter().filter_map(|l| match &l.work {
            Work::Transfer(t) => Some((t.load.block.0 >> 10, t.load.depth)),
            _ => None,
        });
        transfers.collect()
    };
    assert_eq!(loads(", blocks 1 MiB, depth 4"), [(1024, 4), (1024, 4), (256, 4)]);
    assert_eq!(loads(", blocks 64 KiB, depth 1"), [(64, 1), (64, 1), (64, 1)]);
    // The shortest stretch has sixteen such operations.
    assert_eq!(loads(", blocks 1 MiB, depth 32"), [(1024, 32), (1024, 32), (256, 8)]);
}

/// Each text, and where and what its errors are: `line:column what`.
#[test]
fn every_error_is_reported_at_its_place_with_what_was_expected() {
    let cases: &[(&str, &[&str])] = &[
        ("", &["1:1 no leg"]),
        ("course\nleg a\n rest for 1 s\n", &["1:7 name in double quotes"]),
        ("cuorse \"x\"\nleg a\n rest for 1 s", &["1:1 expected `course`"]),
        ("course \"x\nleg a\n rest for 1 s", &["1:8 not closed"]),
        ("course \"x\"\nsample every 250\nleg a\n rest for 1 s", &["2:17 expected a unit"]),
        ("course \"x\"\nsample every 5 ms\nleg a\n rest for 1 s", &["2:14 10 ms to 60 s"]),
        ("course \"x\"\nsmaple every 1 s\nleg a\n rest for 1 s", &["2:1 expected a setting or a leg"]),
        ("course \"x\"\nstop if temperature above 80\nleg a\n rest for 1 s", &["2:29 expected `°C`"]),
        ("course \"x\"\nleg\n rest for 1 s", &["2:4 name for the leg"]),
        ("course \"x\"\nleg a\nleg b\n rest for 1 s", &["2:5 does nothing"]),
        ("course \"x\"\nleg a\n rest for 1 s\nleg a\n rest for 1 s", &["4:5 already on line 2"]),
        ("course \"x\"\nleg a\n rest", &["3:2 never ends"]),
        ("course \"x\"\nleg a\n rest until temperature below 30 °C", &["3:2 may never end"]),
        ("course \"x\"\nleg a\n write sequential", &["3:2 how large its blocks"]),
        ("course \"x\"\nleg a\n write sideways, blocks 1 MiB", &["3:8 `sequential` or `random`"]),
        ("course \"x\"\nleg a\n write sequential, blocks 1 MB", &["3:20 multiple of 512 B"]),
        ("course \"x\"\nleg a\n write sequential, blocks 128 MiB", &["3:20 at most 64 MiB"]),
        ("course \"x\"\nleg a\n write sequential, blocks 1 MiB, depth 0", &["3:34 whole number"]),
        ("course \"x\"\nleg a\n write sequential, blocks 1 MiB, over 50 % to 20 %", &["3:39 range is empty"]),
        ("course \"x\"\nleg a\n write sequential, blocks 1 MiB, over 0 % to 120 %", &["3:46 at most 100 %"]),
        ("course \"x\"\nleg a\n write sequential, blocks 1 MiB, blocks 2 MiB", &["3:34 said twice"]),
        (
            "course \"x\"\nleg a\n write sequential, blocks 1 MiB, until 600 parsecs",
            &["3:44 expected a unit"],
        ),
        ("course \"x\"\nleg a\n write sequential, blocks 1 MiB, until 6 GB", &["3:44 `written`"]),
        ("course \"x\"\nleg a\n blocks 1 MiB", &["3:2 begins with what it does"]),
        ("course \"x\"\nleg a\n write sequential, blocks 1 MiB, rest for 3 s", &["3:34 one thing only"]),
        ("course \"x\"\nleg a\n mixed random, blocks 4 KiB", &["3:2 how much of it is reads"]),
        ("course \"x\"\nleg a\n write random, reads 5 %, blocks 4 KiB", &["3:16 only a mix"]),
        ("course \"x\"\nleg a\n mixed random, reads 120 %, blocks 4 KiB", &["3:22 at most 100 %"]),
        ("course \"x\"\nleg a\n write random, blocks 4 KiB, workers 0", &["3:30 workers is a whole number"]),
        ("course \"x\"\nleg a\n write random, blocks 4 KiB, rate 5 MB", &["3:39 expected `/s`"]),
        ("course \"x\"\nleg a\n flush, depth 3", &["3:9 does not belong to a flush"]),
        ("course \"x\"\nstop if errors above 1.5\nleg a\n rest for 1 s", &["2:22 whole numbers"]),
        ("course \"x\"\nstop if boredom\nleg a\n rest for 1 s", &["2:9 expected `temperature`"]),
        ("course \"x\"\nhealth every 1 s\nleg a\n rest for 1 s", &["2:14 every 10 s at the most often"]),
        ("course \"x\"\nleg a\n rest for 1 s extra", &["3:15 comma or the end"]),
        ("course \"x\"\nleg a\n rest for 1 s @", &["3:15 found `@`"]),
        (
            "course first\nsample evry 250 ms\n\nleg soak\n  write sequental, blocks 1 MB, dept 16\n  untill 600 GB written\n",
            &[
                "1:8 double quotes",
                "2:8 expected `every`",
                "5:9 expected `sequential`",
                "5:33 expected what the leg does",
                "6:3 expected what the leg does",
            ],
        ),
    ];
    for (text, wanted) in cases {
        let errors = parse(text).unwrap_err();
        let found: Vec<String> =
            errors.iter().map(|e| format!("{}:{} {}", e.span.line, e.span.column, e.message)).collect();
        for want in *wanted {
            let (place, what) = want.split_once(' ').unwrap();
            assert!(
                found.iter().any(|f| f.starts_with(&format!("{place} ")) && f.contains(what)),
                "{text}\nwanted {want}\nfound {found:#?}"
            );
        }
        let least = wanted.len();
        assert!((least..=least + 1).contains(&errors.len()), "no error is made up: {text}\n{found:#?}");
    }
}

#[test]
fn a_misspelt_word_is_hinted_and_the_place_is_marked() {
    let text = "course \"x\"\nleg a\n  write sequental, blocks 1 MiB\n";
    let errors = parse(text).unwrap_err();
    let shown = errors[0].render(text);
    assert!(shown.contains("did you mean `sequential`?"), "{shown}");
    assert!(shown.contains("\n            ^^^^^^^^^\n"), "{shown}");
}

/// A leg in one of many spellings, with its clauses in any order, parted by commas or line ends, with comments between.
fn any_leg() -> impl Strategy<Value = String> {
    let action = prop::sample::select(vec![
        "write sequential",
        "READ random",
        "mixed   random, reads 70 %",
        "scan",
        "scan,  VERIFY",
        "verify",
        "fill to 50 %",
    ]);
    let clauses = prop::sample::subsequence(
        vec![
            "blocks 4 kib",
            "depth 8",
            "WORKERS 2",
            "rate 1_00 MB/s",
            "over 0 % to 50.0 %",
            "over 10 % from the end",
            "until 1.50 GB written or 5 min",
            "until temperature below 40 C for 1 min or one pass",
            "until steady state in rounds of 10 s",
            "at most 10 min",
            "at most 5 GB written",
            "through the host cache",
            "shifted by 512 B",
        ],
        0..9,
    )
    .prop_shuffle();
    let between =
        prop::sample::select(vec![", ", "\n  ", ",\n\n", "  # why\n ", "\n# on a line of its own\n"]);
    (action, clauses, prop::collection::vec(between, 16)).prop_map(|(action, clauses, between)| {
        let mut text = format!("{action}, blocks 1 MiB");
        if clauses.iter().any(|c| c.starts_with("blocks")) {
            text = action.to_owned();
        }
        for (clause, between) in clauses.iter().zip(between) {
            text.push_str(between);
            text.push_str(clause);
        }
        text
    })
}

/// A course of such legs in groups.
fn any_course() -> impl Strategy<Value = String> {
    let leg = (any_leg(), 0..4_u32).prop_map(|(leg, group)| (leg, group));
    prop::collection::vec(leg, 1..5).prop_map(|legs| {
        let mut text =
            "# head\n\ncourse \"any\"\nSample every 100 ms # often\nstop if errors above 5\n".to_owned();
        for (i, (leg, group)) in legs.iter().enumerate() {
            let (open, close) = match group {
                0 => (String::new(), ""),
                1 => ("REPEAT 2\n".to_owned(), "end\n"),
                2 => ("for Size in 4 KiB to 1 mib times 4 # sizes\n".to_owned(), "end\n# behind\n"),
                _ => (format!("battery b{i}\n"), "end\n"),
            };
            text.push_str(&format!("{open}leg l{i}\n{leg}\n{close}"));
            if *group == 3 {
                text.push_str(&format!("use b{i} as again-{i}\n"));
            }
        }
        text
    })
}

/// The comments of a text, in order.
fn comments(text: &str) -> Vec<String> {
    let mut all: Vec<String> =
        text.lines().filter_map(|l| Some(l.split_once('#')?.1.trim().to_owned())).collect();
    all.sort();
    all
}

proptest! {
    /// The canonical form means the same, keeps every comment, and is its own canonical form.
    #[test]
    fn the_canonical_form_means_the_same_and_is_its_own(text in any_course()) {
        let Ok(course) = parse(&text) else { return Ok(()) };
        let once = mile_course::format(&text).unwrap();
        let without_lines = |mut course: mile_course::Course| {
            course.legs.iter_mut().for_each(|l| l.line = 0);
            course
        };
        prop_assert_eq!(without_lines(parse(&once).unwrap()), without_lines(course), "{}", once);
        prop_assert_eq!(&mile_course::format(&once).unwrap(), &once);
        prop_assert_eq!(comments(&once), comments(&text));
    }

    /// Whatever is typed, the parser answers; and it never blames a place that is not there.
    #[test]
    fn no_text_makes_it_panic(text in "(course|leg|write|rest|over|until|at most|blocks|for|in|repeat|end|battery|use|fill to|scan|demand|stop if|a break|to|by|times|[a-z\"%,.°#0-9/ \n-]){0,60}") {
        if let Ok(formatted) = mile_course::format(&text) {
            prop_assert!(parse(&formatted).is_ok());
        }
        let _ = mile_course::demand(&text);
        if let Err(errors) = parse(&text) {
            prop_assert!(!errors.is_empty());
            for e in errors {
                prop_assert!(e.span.line >= 1 && e.span.line <= text.lines().count().max(1));
                let _ = e.render(&text);
            }
        }
    }
}

/// A drift over time looked like an effect of the values, as each repeat went through them in the same order.
#[test]
fn a_sweep_in_a_random_order_has_each_value_once_in_each_repeat_and_another_order() {
    let text = "course \"c\"\nrepeat 3\n  for span in 100 %, 50 %, 25 %, 10 %, 5 %, 1 % in random order\n    leg reach\n      read random, blocks 4 KiB\n      over 0 % to span\n      for 1 s\n  end\nend\n";
    let names = || -> Vec<String> { parse(text).unwrap().legs.iter().map(|l| l.name.clone()).collect() };
    let all = names();
    assert_eq!(all, names(), "the same each time");
    let values = |i: usize| -> Vec<&str> {
        all[6 * i..6 * i + 6].iter().map(|n| n.split(" / ").next().unwrap()).collect()
    };
    let given = ["span 100 %", "span 50 %", "span 25 %", "span 10 %", "span 5 %", "span 1 %"];
    for i in 0..3 {
        let mut sorted = values(i);
        assert_ne!(sorted, given);
        sorted.sort_by_key(|v| given.iter().position(|g| g == v));
        assert_eq!(sorted, given);
    }
    assert!(values(0) != values(1) && values(1) != values(2), "{all:?}");
    for (wrong, why) in [
        (text.replace("random order", "any order"), "random"),
        (text.replace("span", "fill"), "from one to the next"),
    ] {
        let said = parse(&wrong).unwrap_err();
        assert!(said[0].message.contains(why), "{said:?}");
    }
}

#[test]
fn legs_with_whole_files_are_counted_and_fitted() {
    let text = "course \"f\"\nfor n in 1, 4\n leg w\n  files write, sizes 50 % of 1 KiB and 50 % of 3 KiB, count 1000, workers n\n leg r\n  files read, workers n\nend\nleg d\n files delete\nleg in\n files copy from \"/a b\", sync at the end\nleg all\n files read\n";
    let planned = plan(&parse(text).unwrap(), &FILE).unwrap();
    let files: Vec<_> = planned
        .legs
        .iter()
        .map(|l| match &l.work {
            Work::Files(f) => (l.name.as_str(), f.op.word(), f.count, f.bytes.map(|b| b.0), f.workers),
            other => panic!("{other:?}"),
        })
        .collect();
    let two = 2 * 1024 * 1000;
    assert_eq!(
        files,
        [
            ("n 1 / w", "write", Some(1000), Some(two), 1),
            ("n 1 / r", "read", Some(1000), Some(two), 1),
            ("n 4 / w", "write", Some(1000), Some(two), 4),
            ("n 4 / r", "read", Some(2000), Some(2 * two), 4),
            ("d", "delete", Some(2000), Some(2 * two), 1),
            ("source alone / in", "source", None, None, 1),
            ("in", "copy", None, None, 1),
            ("all", "read", None, None, 1),
        ]
    );
    assert_eq!(planned.writes(), Bytes(2 * two));
    assert!(planned.changes_the_drive());
    // A file takes whole units of 4 KiB: 2,000 of them take 8 MB where their data is 4 MB.
    let small = DriveFacts { files: Some(Bytes(6_000_000)), ..FILE };
    let errors = plan(&parse(text).unwrap(), &small).unwrap_err();
    assert!(errors[0].contains("n 4 / w") && errors[0].contains("8.19 MB"), "{errors:?}");
    let written = mile_course::format(text).unwrap();
    assert_eq!(mile_course::format(&written).unwrap(), written);
    assert_eq!(parse(&written).unwrap().legs.len(), 8);
}

#[test]
fn counters_of_the_health_are_guards_and_other_names_are_channels() {
    use mile_core::health::Counter;
    let text = "course \"g\"\nstop if reallocated above 0\nstop if \"media errors\" above 2\nstop if spare below 20 %\nstop if \"written bytes\" above 90 TB\nstop if probe above 50 °C\nleg r\n rest for 1 s\n";
    let guards = plan(&parse(text).unwrap(), &K2).unwrap().guards;
    let counters: Vec<_> =
        guards.counters.iter().map(|(c, t)| (*c, t.above, t.value, t.unit.as_str())).collect();
    assert_eq!(
        counters,
        [
            (Counter::ReallocatedSectors, true, 0.0, ""),
            (Counter::MediaErrors, true, 2.0, ""),
            (Counter::SparePct, false, 20.0, "%"),
            (Counter::WrittenBytes, true, 90.0, "TB"),
        ]
    );
    assert_eq!(guards.channels.len(), 1);
    for (wrong, hint) in [
        ("reallocated above 3 °C", "plain number"),
        ("\"written bytes\" above 3", "a size"),
        ("pending above 5 %", "plain number"),
    ] {
        let errors = parse(&format!("course \"g\"\nstop if {wrong}\nleg r\n rest for 1 s\n")).unwrap_err();
        assert!(errors[0].hint.as_ref().unwrap().contains(hint), "{errors:?}");
    }
    let written = mile_course::format(text).unwrap();
    assert_eq!(parse(&written).unwrap().guards.len(), 5);
}

#[test]
fn bytes_where_a_time_stands_are_answered_with_the_other_way_to_end_a_leg() {
    let text = "course \"c\"\n\nleg soak\n  write sequential, blocks 1 MiB\n  for 2 GB\n";
    let told = mile_course::parse(text).unwrap_err();
    let hint = told.iter().find_map(|d| d.hint.clone()).unwrap();
    assert!(hint.contains("`until 2 GB written`"), "{hint}");
    assert!(mile_course::parse(&text.replace("for 2 GB", "until 2 GB written")).is_ok());
}
