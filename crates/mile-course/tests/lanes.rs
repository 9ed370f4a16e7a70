//! Courses for several drives: what each lane does in each stage, and what is said of mistakes.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use mile_core::Bytes;
use mile_course::{DriveFacts, Work, format, parse, plan, plan_lanes};

fn facts(gb: u64) -> DriveFacts {
    DriveFacts {
        capacity: Bytes(gb * 1_000_000_000),
        logical_block: Bytes(512),
        has_temperature: true,
        readable: true,
        cache: None,
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
        Work::Transfer(t) => t.op.word().chars().next().unwrap(),
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
