//! Courses for several drives: what each lane does in each stage, and what is said of mistakes.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_core::{Bytes, Rate};
use mile_course::{Claims, DriveFacts, Forecast, Work, forecast, format, parse, plan, plan_lanes};

fn facts(gb: u64) -> DriveFacts {
    DriveFacts {
        capacity: Bytes(gb * 1_000_000_000),
        logical_block: Bytes(512),
        has_temperature: true,
        readable: true,
        cache: None,
        files: None,
    }
}

const COURSE: &str = "course \"c\"\nlane upper\nlane \"the lower one\"\nlane spare watched\n\
    leg idle\n rest for 1 min\n\
    leg one on upper\n write sequential, blocks 1 MiB, over 0 % to 50 %\n\
    repeat 2\n\
    together\n\
    leg a on upper\n read random, blocks 4 KiB, for 10 s\n\
    leg b on \"the lower one\"\n write sequential, blocks 1 MiB, for 20 s\n\
    end\n\
    end\n\
    leg both on \"the lower one\" and upper\n read sequential, blocks 1 MiB\n";

/// What each lane does, stage by stage: the name of the leg, and a letter for what it does.
fn road(text: &str, drives: &[u64]) -> Vec<Vec<(String, char)>> {
    let drives: Vec<DriveFacts> = drives.iter().map(|gb| facts(*gb)).collect();
    let plans = plan_lanes(&parse(text).unwrap(), &drives).unwrap();
    let letter = |work: &Work| match work {
        Work::Rest => '-',
        Work::Watch => '.',
        Work::Transfer(t) => t.load.op.word().chars().next().unwrap(),
        _ => '?',
    };
    plans.iter().map(|p| p.legs.iter().map(|l| (l.name.clone(), letter(&l.work))).collect()).collect()
}

#[test]
fn each_lane_has_a_leg_for_each_stage_and_watches_where_it_has_none() {
    let lanes = road(COURSE, &[100, 200, 300]);
    let work = |lane: usize| lanes[lane].iter().map(|(_, c)| c).collect::<String>();
    assert_eq!([work(0), work(1), work(2)], ["-wrrr", "-.wwr", "....."]);
    let names = |lane: usize| lanes[lane].iter().map(|(n, _)| n.as_str()).collect::<Vec<_>>();
    assert_eq!(names(0), ["idle", "one", "a / repeat 1", "a / repeat 2", "both"]);
    assert_eq!(names(1), ["idle", "one", "b / repeat 1", "b / repeat 2", "both"]);
    assert_eq!(names(2)[2], "a / repeat 1", "a stage that it watches bears the name of its first leg");
}

#[test]
fn ranges_are_those_of_each_drive() {
    let text = "course \"c\"\nlane a\nlane b\nleg w\n write sequential, blocks 1 MiB, over 50 % to 100 %";
    let plans = plan_lanes(&parse(text).unwrap(), &[facts(100), facts(200)]).unwrap();
    let start = |lane: usize| match &plans[lane].legs[0].work {
        Work::Transfer(t) => t.start.0,
        _ => 0,
    };
    assert!((start(1) as f64 / start(0) as f64 - 2.0).abs() < 1e-4, "{} {}", start(0), start(1));
    // What does not fit one of them names its lane.
    let small =
        plan_lanes(&parse(text).unwrap(), &[facts(100), DriveFacts { capacity: Bytes(512), ..facts(1) }]);
    assert!(small.unwrap_err()[0].starts_with("On lane b: Leg w:"));
}

#[test]
fn a_course_for_one_drive_and_one_for_several_are_not_taken_for_each_other() {
    let several = plan(&parse(COURSE).unwrap(), &facts(100)).unwrap_err();
    assert!(several[0].contains("--on upper=DRIVE"), "{several:?}");
    let one = "course \"c\"\nleg r\n rest for 1 s";
    assert!(plan_lanes(&parse(one).unwrap(), &[facts(1), facts(1)]).is_err());
    assert_eq!(
        plan_lanes(&parse(one).unwrap(), &[facts(1)]).unwrap(),
        [plan(&parse(one).unwrap(), &facts(1)).unwrap()]
    );
}

#[test]
fn mistakes_in_lanes_are_told_where_they_stand() {
    // The mistake stands between the marks.
    for (marked, words) in [
        ("lane a\nlane «a»\nleg r\n rest for 1 s", "there is a lane `a` already"),
        ("lane a\nlane b\nleg r on «c»\n rest for 1 s", "no lane `c`"),
        ("lane upper\nlane lower\nleg r on «uper»\n rest for 1 s", "no lane `uper`"),
        ("lane a\nlane b\nleg r on a and «a»\n rest for 1 s", "named twice"),
        ("lane a\nlane b watched\nleg r on «b»\n rest for 1 s", "only watched"),
        ("«together»\nleg r\n rest for 1 s\nend", "different lanes"),
        (
            "lane a\nlane b\ntogether\nleg r on a\n rest for 1 s\nleg s «on a»\n rest for 1 s\nend",
            "has a leg here already",
        ),
        (
            "lane a\nlane b\ntogether\nleg r\n rest for 1 s\nleg s«»\n rest for 1 s\nend",
            "has a leg here already",
        ),
        ("lane a\nlane b\n«together»\nleg r on a\n rest for 1 s", "not closed"),
        (
            "lane a\nlane b\ntogether\nleg r on a\n rest for 1 s\n«together»\nleg s on b\n rest for 1 s\nend\nend",
            "at the same time already",
        ),
        ("lanes end «slowly»\nleg r\n rest for 1 s", "`together` or `apart`"),
        ("lane «\"a=b\"»\nleg r\n rest for 1 s", "cannot be the name"),
        ("leg r on «a»\n rest for 1 s", "no lane `a`"),
    ] {
        let marked = format!("course \"c\"\n{marked}\n");
        let at = marked.find('«').unwrap();
        let line = marked[..at].lines().count().max(1);
        let column = marked[..at].chars().rev().take_while(|c| *c != '\n').count() + 1;
        let line = if column == 1 { line + 1 } else { line };
        let text = marked.replace(['«', '»'], "");
        let errors = parse(&text).unwrap_err();
        let first = &errors[0];
        assert!(first.message.contains(words), "{text}\n{errors:?}");
        assert_eq!((first.span.line, first.span.column), (line, column), "{text}\n{errors:?}");
    }
}

#[test]
fn lanes_have_one_canonical_form_whatever_they_are_called() {
    let messy = "COURSE \"c\"\nLane Upper\nlane From   watched\nLANE On\nlanes END Apart\n\
        Together\nLEG x ON Upper\nrest for 1 s\nleg And on On\n  rest FOR 2 s\nend\nleg both on Upper AND On\nrest for 1 s";
    let clean = "course \"c\"\nlane Upper\nlane From watched\nlane On\nlanes end apart\n\n\
        together\n  leg x on Upper\n    rest for 1 s\n\n  leg And on On\n    rest for 2 s\nend\n\nleg both on Upper and On\n  rest for 1 s\n";
    assert_eq!(format(messy).unwrap(), clean);
    assert_eq!(format(clean).unwrap(), clean);
    assert_eq!(parse(messy).unwrap().lanes, parse(clean).unwrap().lanes);
    let road = |text: &str| road(text, &[1, 1, 1]);
    assert_eq!(road(messy), road(clean));
}

/// The transfers of both sides of the copy in `text`: block, start and budget of source and target.
fn copy_of(text: &str, drives: [DriveFacts; 2]) -> Result<[(u64, u64, u64); 2], Vec<String>> {
    let text = format!(
        "course \"c\"\nlane a\nlane b\nleg w on a\n write sequential, blocks 1 MiB\nleg copy\n {text}"
    );
    let plans = plan_lanes(
        &parse(&text).map_err(|e| e.iter().map(|d| format!("{d:?}")).collect::<Vec<_>>())?,
        &drives,
    )?;
    let side = |lane: usize| match plans[lane].legs[1].work {
        Work::Transfer(t) => {
            let part = t.copy.unwrap();
            assert_eq!((part.partner as usize, part.is_source), (1 - lane, t.load.op == mile_core::Op::Read));
            (t.load.block.0, t.start.0, t.budget.0)
        }
        _ => panic!("{:?}", plans[lane].legs[1]),
    };
    Ok([side(0), side(1)])
}

#[test]
fn a_copy_reads_one_lane_and_writes_as_much_to_the_other_in_whole_blocks_of_both() {
    let (kib, mib) = (1 << 10, 1 << 20);
    let [source, target] = copy_of(
        "copy from a to b, blocks 96 KiB, depth 4, target blocks 256 KiB, until 1 GB moved",
        [facts(10), facts(20)],
    )
    .unwrap();
    assert_eq!((source.0, target.0), (96 * kib, 256 * kib));
    assert_eq!(source.2, target.2);
    assert!(source.2 % (768 * kib) == 0 && 1_000_000_000 - source.2 < 768 * kib);
    // The smaller of the two ranges is what fits.
    let [source, target] = copy_of(
        "copy from a to b, blocks 1 MiB, over 0 % to 50 %, target over 90 % to 100 %",
        [facts(10), facts(20)],
    )
    .unwrap();
    assert_eq!((source.1, target.1), (0, 18_000_000_000 / mib * mib));
    assert!(source.2 == target.2 && (1_999_000_000..2_001_000_000).contains(&source.2), "{}", source.2);
    // The front of a file says which run it is of.
    let file = DriveFacts { readable: false, ..facts(10) };
    let [source, target] = copy_of("copy from a to b, blocks 4 KiB", [file, file]).unwrap();
    assert_eq!((source.1, target.1), (0, 4096));
    assert!(source.2 == target.2 && target.1 + target.2 <= 10_000_000_000);
    // By the clock, both end by it.
    let [source, target] =
        copy_of("copy from a to b, blocks 1 MiB, for 10 s", [facts(10), facts(20)]).unwrap();
    assert!(source.2 == target.2 && source.2 > 20_000_000_000);
}

/// Stages of 10 s and 5 s on the one lane, 4 s and 20 s on the other: 10 s and 20 s together, and the bytes of both.
#[test]
fn a_forecast_of_lanes_takes_the_longest_of_each_stage_and_the_bytes_of_all() {
    let stage = |a: u32, b: u32| {
        let leg = |name: &str, s: u32| {
            format!(
                " leg {name}{s} on {name}\n  write sequential, blocks 1 MiB, rate 100 MB/s\n  for {s} s\n"
            )
        };
        format!("together\n{}{}end\n", leg("a", a), leg("b", b))
    };
    let text = format!("course \"c\"\nlane a\nlane b\n{}{}", stage(10, 4), stage(5, 20));
    let plans = plan_lanes(&parse(&text).unwrap(), &[facts(10), facts(10)]).unwrap();
    let claims = Claims { write: Some(Rate(1e9)), ..Claims::default() };
    let casts: Vec<_> = plans.iter().map(|p| forecast(p, &[], &claims)).collect();
    let all = Forecast::side_by_side(&casts);
    assert_eq!(all.legs.iter().map(|l| l.seconds).collect::<Vec<_>>(), [Some(10.0), Some(20.0)]);
    assert_eq!((all.seconds, all.unknown), (30.0, 0));
    // 39 s of writing at 100 MB/s.
    assert!((all.written as f64 - 3.9e9).abs() < 4e6, "{}", all.written);
    assert_eq!(Forecast::side_by_side(&[]).legs.len(), 0);
}

#[test]
fn mistakes_in_a_copy_are_told() {
    for (text, words) in [
        ("copy from a to a, blocks 1 MiB", "from one lane to another"),
        ("copy from a to c, blocks 1 MiB", "there is no lane `c`"),
        ("copy from a, blocks 1 MiB", "`to`"),
        ("copy from a to b, depth 4", "how large its blocks are"),
        ("copy from a to b, blocks 1 MiB, workers 4", "one sequential stream"),
        ("copy from a to b, blocks 1 MiB, incompressible 50 %", "one sequential stream"),
        ("copy from a to b, blocks 1 MiB, buffer 1 MiB", "a block of each side at least, 2 MiB"),
        ("copy from a to b, blocks 1 MiB, buffer 8 MiB, buffer 9 MiB", "said twice"),
        ("copy from a to b, blocks 1 MiB, target depth 4000", "from 1 to 1024"),
        ("write sequential, blocks 1 MiB, target depth 4", "only a copy has a target"),
        ("copy from a to b, blocks 1 MiB, over 0 B to 512 KiB", "not one block"),
        ("copy from a to b, blocks 1 MiB, until a break", "may never end"),
        (
            "copy from a to b, blocks 1 MiB\nleg v on b\n verify, blocks 1 MiB",
            "only what the run writes itself",
        ),
    ] {
        let said = copy_of(text, [facts(10), facts(10)]).unwrap_err().join("\n");
        assert!(said.contains(words), "{text}: {said}");
    }
    let on = "course \"c\"\nlane a\nlane b\nleg copy on a\n copy from a to b, blocks 1 MiB";
    assert!(format!("{:?}", parse(on).unwrap_err()).contains("on the lanes that it is from and to"));
    let one = "course \"c\"\nleg copy\n copy from a to b, blocks 1 MiB";
    assert!(format!("{:?}", parse(one).unwrap_err()).contains("no lane `a`"));
    let both = "course \"c\"\nlane a\nlane b\ntogether\nleg copy\n copy from a to b, blocks 1 MiB\nleg x on b\n read sequential, blocks 1 MiB\nend";
    assert!(format!("{:?}", parse(both).unwrap_err()).contains("has a leg here already"));
    // Written in one form, in which the names of lanes are left as they are.
    let messy = "course \"c\"\nlane Read\nlane To\nleg x\n  COPY from Read to To, TARGET depth 3, buffer 64 mib, blocks 1 mib";
    let neat = format(messy).unwrap();
    assert!(neat.contains("  copy from Read to To, blocks 1 MiB, target depth 3, buffer 64 MiB"), "{neat}");
    let action = |text: &str| parse(text).unwrap().legs[0].action.clone();
    assert_eq!(action(&neat), action(messy));
}
