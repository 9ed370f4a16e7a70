//! The courses that findings suggest, run on simulated drives: what they settle, and whether it comes out as was said.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

/// What waits for nothing: `scripts/test` runs it beside what does.
mod only_computes {
    use mile_core::findings::{Break, Cause};
    use mile_core::{Context, Findings, findings};
    use mile_corpus::{PATTERNS, case};
    use mile_course::{parse, plan};
    use mile_sim::{SimDrive, model::Model};

    /// What is offered to run next has to be a course, and one that can be planned.
    #[test]
    fn every_next_step_is_a_course_that_can_be_run() {
        let drive = mile_sim::SimDrive::new("sim:merrow-k2", 1).unwrap();
        let facts = mile_runner::run::plan_facts(&drive);
        let mut seen = std::collections::BTreeSet::new();
        for case in PATTERNS.into_iter().flat_map(|p| (1..5).map(move |s| case(p, s))) {
            let trace = case.trace();
            // Without limits and readings more is doubtful.
            let context = Context { warn: None, critical: None, ..case.context.clone() };
            let found = findings(&trace, &context);
            let doubtful =
                found.breaks.iter().filter(|b| b.confidence < 0.95 || b.cause == Cause::Unexplained);
            assert_eq!(
                found.next_steps.len(),
                doubtful.count().min(32),
                "{}: {:?}",
                case.pattern,
                found.next_steps
            );
            for step in found.next_steps {
                let text = step.course.unwrap();
                let course = parse(&text).unwrap_or_else(|e| panic!("{text}\n{e:?}"));
                if let Err(e) = plan(&course, &facts) {
                    // A drive of our own may be smaller than what was written there.
                    assert!(format!("{e:?}").contains("arger"), "{text}\n{e:?}");
                }
                seen.insert(text.lines().next().unwrap().to_owned());
            }
        }
        assert_eq!(seen.len(), 4, "{seen:?}");
    }

    /// What a course shows on a drive.
    fn shown_by(mut drive: SimDrive, text: &str) -> Findings {
        let plan = plan(&parse(text).unwrap(), &mile_runner::run::plan_facts(&drive)).unwrap();
        let head = mile_runner::run::head(&plan, text, &drive, 1, 0);
        let (_keep, commands) = crossbeam_channel::unbounded();
        let mut samples = Vec::new();
        let mut take = |message| {
            if let mile_runner::Message::Sample(sample) = message {
                samples.push(sample);
            }
        };
        mile_runner::execute(
            &plan,
            head.clone(),
            &mut drive,
            mile_runner::Terms::PLAIN,
            &commands,
            &mut take,
        );
        let trace = mile_core::Trace::of(&samples, &head.first().leg_names());
        findings(&trace, &head.first().context())
    }

    fn falls(found: &Findings) -> Vec<&Break> {
        found.breaks.iter().filter(|b| b.to_mb_s < b.from_mb_s).collect()
    }

    fn write(gb: u32) -> String {
        format!(
            "course \"burst\"\nleg burst\n write sequential, blocks 1 MiB, depth 16\n until {gb} GB written\n"
        )
    }

    /// A single fall is not sure; the course that is suggested for it is run, and settles it as it said.
    #[test]
    fn the_suggested_course_settles_the_end_of_a_cache_as_it_said() {
        let drive = || SimDrive::new("sim:merrow-k2", 1).unwrap();
        let first = shown_by(drive(), &write(300));
        assert!(first.breaks[0].confidence < 0.95, "{:?}", first.breaks[0]);
        let next = first.next_step.unwrap();
        let said = next.outcomes.iter().find(|o| o.cause == Cause::CacheExhausted).unwrap();
        assert!(said.then >= 0.95, "{said:?}");
        let second = shown_by(drive(), &next.course.unwrap());
        assert_eq!(falls(&second).len(), 2, "{:?}", second.breaks);
        for b in falls(&second) {
            assert!(
                b.cause == Cause::CacheExhausted && (b.confidence - said.then).abs() < 0.03,
                "{b:?} {said:?}"
            );
        }
    }

    /// A drive without a cache to speak of, that heat slows from a temperature on to a share of its rate.
    const MODEL: &str = "extends = \"merrow-k2\"\n[flash]\ndirect_mb_s = 2875\nfolding_mb_s = 2875\ndip_every_s = 1e9\n[thermal]\nambient_c = 35.0\ncache_nj_per_byte = 3.0\ndirect_nj_per_byte = 3.0\nlight_on_c = FROM.0\nlight_off_c = 58.0\nlight_share = SHARE\n";

    /// The same, and nothing tells of it but its temperature.
    fn hot(from: u32, share: f64) -> SimDrive {
        let text = MODEL.replace("FROM", &from.to_string()).replace("SHARE", &share.to_string());
        let text = format!("{text}[health]\nkind = \"ata\"\n");
        SimDrive::of("sim:hot", Model::read(&text).unwrap(), 1)
    }

    /// What is suggested where nothing has to be told from heat: both writes begin with a cool drive.
    const TWICE: &str = "course \"twice\"\nleg cool\n rest until temperature below 51 °C, at most 30 min\nleg once\n write sequential, blocks 1 MiB, depth 16\n until 500 GB written\nleg rest\n rest for 30 min\nleg twice\n write sequential, blocks 1 MiB, depth 16\n until 500 GB written\n";

    /// A drive that begins as cool each time is as warm after the same bytes, and falls there. That was the cache, 98 % sure.
    #[test]
    fn heat_that_comes_after_the_same_bytes_each_time_is_never_surely_a_cache() {
        for (from, share) in [(66, 0.7), (72, 0.7), (66, 0.3), (72, 0.3)] {
            let found = shown_by(hot(from, share), TWICE);
            assert!(falls(&found).len() > 1, "{:?}", found.breaks);
            for b in falls(&found) {
                assert!(b.cause != Cause::CacheExhausted || b.confidence < 0.9, "{from}: {b:#?}");
            }
        }
    }

    /// A drive that heat slows, and of which no counter tells, is led to a course that warms it, and that shows no cache.
    #[test]
    fn the_suggested_course_tells_heat_from_a_full_cache() {
        for (from, share) in [(66, 0.7), (72, 0.7), (66, 0.3), (72, 0.3)] {
            let first = shown_by(hot(from, share), &write(850));
            let now = |found: &Findings| {
                falls(found)[0]
                    .candidates
                    .iter()
                    .find(|c| c.cause == Cause::ThermalThrottle)
                    .map_or(0.0, |c| c.share)
            };
            let course = first.next_step.clone().unwrap().course.unwrap();
            assert!(course.contains("leg warm"), "{course}");
            let second = shown_by(hot(from, share), &course);
            for b in falls(&second) {
                assert!(b.cause != Cause::CacheExhausted || b.confidence < 0.9, "{from}: {b:#?}");
            }
            // Of its falls, one shows that the other came at the same temperature.
            let shares: Vec<f64> = falls(&second)
                .iter()
                .flat_map(|b| &b.candidates)
                .filter(|c| c.cause == Cause::ThermalThrottle)
                .map(|c| c.share)
                .collect();
            assert!(
                shares.iter().any(|s| *s > now(&first) && *s > 0.75),
                "{from} {share}: {shares:?}, {}",
                now(&first)
            );
        }
    }

    /// Where a counter of the drive shows heat, no second cause is told, as it came after the same bytes before: "throttled by heat, 60 %".
    #[test]
    fn heat_that_a_counter_shows_is_as_sure_after_the_same_bytes() {
        let text = MODEL.replace("FROM", "77").replace("SHARE", "0.7");
        let found =
            shown_by(SimDrive::of("sim:hot", Model::read(&text).unwrap(), 1), &TWICE.replace("500", "850"));
        assert_eq!(falls(&found).len(), 2, "{:?}", found.breaks);
        for b in falls(&found) {
            assert!(b.cause == Cause::ThermalThrottle && b.confidence >= 0.9 && b.also.is_none(), "{b:#?}");
        }
    }
}
