//! Work in the background: what comes late, what is given up, and what is known of earlier runs.

use super::done::Done;
use super::jobs::Jobs;
use super::place::{BENCH, COMPARE, FINDINGS, FLEET};
use super::state::Awaited;
use super::state::{HealthShown, Overlay, State};
use super::tasks;
use super::tests::{fresh, messages, press, screen, with_run};
use super::update;
use mile_logbook::{Entered, Errand, Logbook, Recorder};
use mile_runner::{LaneHead, RunHead};

#[test]
fn work_that_is_given_up_writes_nothing_and_what_it_found_is_dropped() {
    let (mut state, jobs) = (fresh(), Jobs::new());
    let (task, waiting) = tasks::begin(Awaited::Files("the report"), &jobs.done);
    state.wait_for(waiting);
    task.step("reading run 3, 1 of 2 of side 3,4").unwrap();
    update::done(&mut state, &jobs, jobs.results.recv().unwrap());
    let text = screen(&mut state, 159, 46);
    assert!(
        text.contains("Writing the report: reading run 3, 1 of 2 of side 3,4 … esc gives it up."),
        "{text}"
    );
    press(&mut state, "\x1b");
    assert!(screen(&mut state, 159, 46).contains("Given up: the report will not be written."));
    assert!(task.step("laying out its pages").is_err() && task.commit().is_err());
    let written = || Box::new(Done::Exported(Ok(vec!["report-3.pdf".into()])));
    update::done(&mut state, &jobs, Done::Task(task.id, written()));
    assert!(!screen(&mut state, 159, 46).contains("report-3.pdf"));
    // What is being written is not said to be given up.
    let (task, waiting) = tasks::begin(Awaited::Files("the report"), &jobs.done);
    state.wait_for(waiting);
    task.commit().unwrap();
    press(&mut state, "\x1b");
    assert!(screen(&mut state, 159, 46).contains("Its files are being written already."));
    update::done(&mut state, &jobs, Done::Task(task.id, written()));
    assert!(screen(&mut state, 159, 46).contains("Written: report-3.pdf"));
    assert!(state.tasks.is_empty());
}

#[test]
fn what_is_given_up_leaves_each_place_as_it_was() {
    let jobs = Jobs::new();
    let begun = |state: &mut State, of| {
        let (task, waiting) = tasks::begin(of, &jobs.done);
        state.wait_for(waiting);
        task
    };
    let mut state = with_run(0);
    state.place = FINDINGS;
    state.findings.loading = Some(99);
    let first = begun(&mut state, Awaited::Run);
    let second = begun(&mut state, Awaited::Run);
    assert!(first.step("").is_err(), "of two runs the one that was asked for last is read");
    assert!(screen(&mut state, 159, 46).contains("Reading run 99 … esc gives it up."));
    press(&mut state, "\x1b");
    let text = screen(&mut state, 159, 46);
    assert!(
        text.contains("Given up: the run is not opened.") && text.contains("write cache exhausted"),
        "{text}"
    );
    assert!(second.step("").is_err());
    state.place = FLEET;
    (state.fleet.asked, state.fleet.given_up) = (true, false);
    let reading = begun(&mut state, Awaited::Fleet);
    assert!(screen(&mut state, 159, 46).contains("Reading the runs … esc gives it up."));
    press(&mut state, "\x1b");
    assert!(screen(&mut state, 159, 46).contains("The runs were not read."));
    assert!(reading.step("").is_err());
    state.place = COMPARE;
    state.compare.asked = Some([vec![1], vec![2]]);
    let comparing = begun(&mut state, Awaited::Comparison);
    press(&mut state, "\x1b");
    let text = screen(&mut state, 159, 46);
    assert!(
        text.contains("Given up: the runs are not compared.") && text.contains("Nothing is compared yet.")
    );
    assert!(comparing.step("").is_err());
    // With nothing left to give up, the same key goes back.
    state.before = vec![BENCH];
    press(&mut state, "\x1b");
    assert_eq!(state.place, BENCH);
}

/// The pages and the runs of a report are told one by one, and what gives it up between two of them ends it there.
#[test]
fn a_report_ends_at_the_step_at_which_it_is_given_up() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l.logbook");
    for _ in 0..2 {
        let mut book = Logbook::open(&path).unwrap();
        let entered = Entered::new(book.begin(&RunHead::of_lane(LaneHead::default())).unwrap(), 1);
        let (told, _log) = crossbeam_channel::unbounded();
        let recorder =
            Recorder::start(book, Errand { entered, told, waits: true, aside: Vec::new() }).unwrap();
        messages(0).into_iter().for_each(|m| {
            recorder.tell(0, m);
        });
        recorder.finish().unwrap();
    }
    let named = ["1".to_owned(), "2".to_owned()];
    let told = |until: &str| {
        let steps = std::cell::RefCell::new(Vec::new());
        let ended = crate::commands::report::of(&named, &path, &|what| {
            steps.borrow_mut().push(what.to_owned());
            if what == until { Err(mile_bench::Failure::run("given up")) } else { Ok(()) }
        });
        (ended.map(|pdf| pdf.len()).ok(), steps.into_inner())
    };
    let reading = |run| format!("reading {run}, 1 of 1 of side {run}");
    let all = [reading(1), reading(2), "comparing".into(), "laying out its pages".into()];
    let (pdf, steps) = told("never");
    assert!(pdf.is_some_and(|bytes| bytes > 1000));
    assert_eq!(steps, all);
    for (i, step) in all.iter().enumerate() {
        assert_eq!(told(step), (None, all[..=i].to_vec()));
    }
}

/// The drives of a model, none of them known.
fn of_model(model: &str) -> mile_core::fleet::Fleet {
    mile_core::fleet::Fleet {
        model: model.into(),
        course: "quay soak".into(),
        courses: vec![("quay soak".into(), 0, 0)],
        runs: 0,
        drives: Vec::new(),
        spreads: Vec::new(),
        firmware: Vec::new(),
        notes: Vec::new(),
    }
}

/// Seen where a loaded machine answered late: the drives of one model stood under the name of the other, and the run of one of them was opened.
#[test]
fn the_drives_of_one_model_are_not_shown_under_the_name_of_another() {
    let mut state = fresh();
    state.place = FLEET;
    let model = |name: &str| mile_logbook::Model { name: name.into(), drives: 1, runs: 1 };
    let models = vec![model("Merrow K2 2TB"), model("Halyard Q4 4TB")];
    let answer = |of, model| Done::Fleet(of, Ok(Box::new((models.clone(), Some(of_model(model))))));
    let first = state.fleet.of.clone();
    update::done(&mut state, &Jobs::new(), answer(first.clone(), "Merrow K2 2TB"));
    press(&mut state, "m");
    assert!(screen(&mut state, 159, 46).contains("Halyard Q4 4TB, model 2 of 2"));
    assert!(state.fleet.shown.is_none(), "what was shown is of the model before");
    let second = state.fleet.of.clone();
    press(&mut state, "m");
    update::done(&mut state, &Jobs::new(), answer(second, "Halyard Q4 4TB"));
    assert!(state.fleet.shown.is_none(), "an answer that came too late");
    update::done(&mut state, &Jobs::new(), answer(first, "Merrow K2 2TB"));
    assert!(screen(&mut state, 159, 46).contains("Merrow K2 2TB, model 1 of 2"));
    assert_eq!(state.fleet.shown.as_ref().map(|f| f.model.as_str()), Some("Merrow K2 2TB"));
}

#[test]
fn a_comparison_that_comes_late_does_not_replace_the_one_that_was_asked_for() {
    let mut state = fresh();
    state.place = COMPARE;
    let answer = |sides: &[Vec<i64>; 2]| Done::Compared(sides.clone(), Err(format!("of {sides:?}")));
    let (first, second) = ([vec![1], vec![2]], [vec![3], vec![4]]);
    for sides in [&first, &second] {
        state.logbook.sides = sides.clone();
        press(&mut state, "c");
    }
    update::done(&mut state, &Jobs::new(), answer(&second));
    update::done(&mut state, &Jobs::new(), answer(&first));
    assert_eq!(state.compare.of, second);
    assert!(screen(&mut state, 159, 46).contains("of [[3], [4]]"));
}

#[test]
fn what_is_asked_of_a_drive_before_it_has_answered_is_done_with_its_answer() {
    let (mut state, jobs) = (fresh(), Jobs::new());
    press(&mut state, "6t");
    let text = screen(&mut state, 159, 46);
    assert!(text.contains("Asking sim:") && !text.contains("There is no drive"), "{text}");
    let asked = state.health.drive.clone().unwrap();
    let answer = |drive: &str| {
        let card = mile_bench::bench::card(drive).unwrap();
        Done::Health(Ok(Box::new(HealthShown { card, last: None, story: None, tested: None })))
    };
    update::done(&mut state, &jobs, answer(&asked));
    assert!(matches!(state.overlay, Some(Overlay::SelfTest)));
    // Elsewhere, or when another drive answers, no question comes up.
    let mut state = fresh();
    press(&mut state, "6t1");
    update::done(&mut state, &jobs, answer(&asked));
    assert!(state.overlay.is_none());
    let mut state = fresh();
    press(&mut state, "6t1↓6");
    assert_ne!(state.health.drive.as_ref(), Some(&asked));
    let other = state.health.drive.clone().unwrap();
    update::done(&mut state, &jobs, answer(&asked));
    update::done(&mut state, &jobs, answer(&other));
    assert!(state.overlay.is_none());
}

/// Seen where a loaded machine answered late: why the start had been refused was gone from the form after a moment.
#[test]
fn why_a_start_is_refused_is_not_replaced_by_a_forecast_that_comes_late() {
    let mut state = fresh();
    press(&mut state, "s");
    let asked = |state: &State| match &state.overlay {
        Some(Overlay::Start(form)) => (form.asked, form.outlook.clone()),
        _ => panic!("no form"),
    };
    let (before, forecast) = asked(&state);
    let forecast = forecast.unwrap();
    assert!(forecast.is_ok());
    let refused = || Err("armed with `loop999`, which is not its name. Nothing was written".into());
    update::done(&mut state, &Jobs::new(), Done::Started(before, refused()));
    assert!(screen(&mut state, 159, 46).contains("which is not its name"));
    update::done(&mut state, &Jobs::new(), Done::Ahead(before, forecast));
    assert!(screen(&mut state, 159, 46).contains("which is not its name"));
    // The next forecast is that of another order, and is shown.
    press(&mut state, "→");
    assert!(asked(&state).1.unwrap().is_ok());
}
