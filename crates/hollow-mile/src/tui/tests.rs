//! The places on a screen in memory: every size, no data and much, and what they say.

use super::action::Action;
use super::done::Done;
use super::draw::draw;
use super::jobs::Jobs;
use super::keys;
use super::place::{self, BENCH, FINDINGS, LOGBOOK, UNDERWAY};
use super::places;
use super::state::{Live, Overlay, State};
use super::update;
use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use mile_core::Trace;
use mile_logbook::{Digest, Entered, Entry, Errand, Logbook, Recorder};
use mile_runner::{LaneHead, Message, RunHead, Speed, Status, Terms, execute, run};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use std::path::PathBuf;

pub(super) fn fresh() -> State {
    super::state(PathBuf::from("/nonexistent/l.logbook"), Speed::Max, true)
}

pub(super) fn drawn(state: &mut State, width: u16, height: u16) -> ratatui::buffer::Buffer {
    let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
    terminal.draw(|frame| draw(frame, state)).unwrap().buffer.clone()
}

pub(super) fn screen(state: &mut State, width: u16, height: u16) -> String {
    let buffer = drawn(state, width, height);
    let rows = buffer.content.chunks(usize::from(width.max(1)));
    rows.map(|row| row.iter().map(ratatui::buffer::Cell::symbol).collect::<String>() + "\n").collect()
}

pub(super) fn press(state: &mut State, keys: &str) {
    let jobs = Jobs::new();
    for c in keys.chars() {
        let code = match c {
            '\n' => KeyCode::Enter,
            '\x1b' => KeyCode::Esc,
            '\x08' => KeyCode::Backspace,
            '→' => KeyCode::Right,
            '←' => KeyCode::Left,
            '↓' => KeyCode::Down,
            c => KeyCode::Char(c),
        };
        update::input(state, &jobs, &Event::Key(KeyEvent::new(code, KeyModifiers::NONE)));
    }
    // What a form asks for is answered off this thread.
    let asks = |state: &State| matches!(&state.overlay, Some(Overlay::Start(f)) if f.outlook.is_none() || f.starting);
    while asks(state) {
        let answer = jobs.results.recv_timeout(std::time::Duration::from_secs(30)).unwrap();
        update::done(state, &jobs, answer);
    }
}

/// The messages of a whole run of a ready-made course.
pub(super) fn messages(course: usize) -> Vec<Message> {
    let text = mile_bench::courses::READY[course].text;
    let mut drive = mile_sim::SimDrive::new("sim:merrow-k2", 1).unwrap();
    let plan = mile_course::plan(&mile_course::parse(text).unwrap(), &run::plan_facts(&drive)).unwrap();
    let head = run::head(&plan, text, &drive, 1, 1_790_000_000);
    let (_keep, commands) = crossbeam_channel::unbounded();
    let mut all = Vec::new();
    execute(&plan, head, &mut drive, Terms::PLAIN, &commands, &mut |m| all.push(m));
    all
}

pub(super) fn with_run(course: usize) -> State {
    let mut state = fresh();
    let mut live = Live::new(None);
    messages(course).into_iter().for_each(|m| live.take(0, m));
    let shown = super::state::Shown {
        lane: 0,
        run: 7,
        status: Status::Done,
        head: live.head.clone(),
        findings: mile_core::findings(live.lane().findings.trace(), &live.lane().context),
        context: live.lane().context.clone(),
        trace: live.lane().findings.trace().clone().into(),
        events: live.lane().events.clone(),
        copies: Vec::new(),
    };
    let digest = Digest::of(&shown.trace, &shown.findings);
    let entry = |run: i64, status| Entry {
        bench: None,
        silent_s: None,
        run,
        started: 1_790_000_000,
        course: shown.head.course.clone(),
        drive: shown.head.first().drive.name.clone(),
        model: shown.head.first().drive.model.clone(),
        situation: if run % 2 == 0 { "finned carrier".into() } else { "bare".into() },
        status,
        digest: Some(digest.clone()),
        tags: Vec::new(),
        problem: None,
    };
    let entries: Vec<Entry> =
        (1..=60).rev().map(|i| entry(i, if i == 3 { Status::CutShort } else { Status::Done })).collect();
    update::done(&mut state, &Jobs::new(), Done::Listed(Ok(entries)));
    state.runs.live = Some(live);
    state.findings.selected = Some(0);
    state.findings.shown = Some(shown);
    state
}

#[test]
fn drives_are_grouped_and_what_is_selected_stays_selected() {
    let mut state = fresh();
    state.place = BENCH;
    let name = |state: &State, i: usize| state.bench.cards[i].identity.name.clone();
    state.bench.cards.swap(1, 4);
    let before: Vec<usize> = state.bench.order();
    press(&mut state, "↓");
    let selected = name(&state, state.bench.selected);
    assert_eq!(selected, "sim:keelson");
    press(&mut state, "g");
    let text = screen(&mut state, 159, 60);
    assert!(text.contains("NVMe: 3 drives, up to 37 °C now") && text.contains("disk: one drive"), "{text}");
    assert!(text.contains("USB: one drive, 1 on a degraded link"), "{text}");
    // All of a group stand together, and the drive that was selected still is.
    assert_eq!(name(&state, state.bench.selected), selected);
    let kinds: Vec<String> = state.bench.groups().iter().filter_map(|g| g.name.clone()).collect();
    assert_eq!(kinds, ["NVMe", "disk", "SATA", "USB"]);
    let rows: Vec<usize> =
        ["sim:merrow-k2,", "sim:halyard", "sim:merrow-k2-finned", "sim:keelson", "sim:bittern"]
            .iter()
            .map(|n| text.lines().position(|l| l.contains(n)).unwrap())
            .collect();
    assert!(rows.is_sorted(), "{text}");
    // One line further on is the next in the order that is shown.
    press(&mut state, "↓");
    assert_eq!(name(&state, state.bench.selected), "sim:bittern-s1");
    let lanes: Vec<&str> = state.bench.for_lanes().iter().map(|c| c.identity.name.as_str()).collect();
    assert_eq!(lanes[..2], ["sim:bittern-s1", "sim:sprat"]);
    press(&mut state, "g");
    assert!(screen(&mut state, 159, 60).contains("Merrow K2 2TB: 2 drives"));
    press(&mut state, "g");
    assert!(screen(&mut state, 159, 60).contains("quay bench: "));
    press(&mut state, "g");
    assert_eq!(state.bench.order(), before);
    assert_eq!(name(&state, state.bench.selected), "sim:bittern-s1");
}

#[test]
fn every_place_is_drawn_at_every_size_with_and_without_data() {
    let mut full = with_run(0);
    for (width, height) in
        [(0, 0), (1, 1), (59, 16), (60, 16), (80, 24), (109, 30), (110, 30), (159, 46), (300, 90)]
    {
        for place in place::ALL.iter().copied() {
            for state in [&mut fresh(), &mut full] {
                state.place = place;
                let text = screen(state, width, height);
                if width >= 60 && height >= 16 {
                    assert!(
                        ["hollow mile", "1 bench 2 course", "1bench 2course"]
                            .iter()
                            .any(|h| text.contains(h))
                            && text.contains("? help"),
                        "{place:?} at {width}x{height}\n{text}"
                    );
                }
            }
        }
    }
}

#[test]
fn whoever_has_no_run_yet_is_led_to_a_first_result() {
    let mut state = fresh();
    assert!(
        !screen(&mut state, 80, 24).contains("Your first result"),
        "it is not known yet whether there is one"
    );
    update::done(&mut state, &Jobs::new(), Done::Listed(Ok(Vec::new())));
    for size in [(80, 24), (159, 46)] {
        let text = screen(&mut state, size.0, size.1);
        assert!(
            text.contains("Your first result: press s") && text.contains("Afterwards 7 has the run"),
            "{text}"
        );
        assert!(text.contains("Merrow K2 2TB"), "{text}");
    }
}

#[test]
fn what_is_missing_is_said_with_what_to_do() {
    let mut state = fresh();
    for (place, words) in [
        (UNDERWAY, "No run is underway. Start one from the bench (1)."),
        (FINDINGS, "No run is open. Open one from the logbook (7)."),
        (LOGBOOK, "The logbook has no run yet."),
    ] {
        state.place = place;
        assert!(screen(&mut state, 100, 30).contains(words));
    }
    state.place = UNDERWAY;
    press(&mut state, "X");
    assert!(screen(&mut state, 100, 30).contains("! No run is underway."));
}

#[test]
fn findings_show_both_breaks_with_evidence_figures_and_the_share_of_the_claim() {
    let mut state = with_run(1);
    state.place = FINDINGS;
    let text = screen(&mut state, 159, 46);
    for words in [
        "\n  1  ",
        "\n  2  ",
        "write cache exhausted, 8",
        "throttled by heat",
        "first fall of this leg",
        "lost to heat",
        "[plateaus] · heat · claims · what next",
        "1st tenth",
        "plateau",
    ] {
        assert!(text.contains(words), "{words}\n{text}");
    }
    press(&mut state, "j");
    assert!(screen(&mut state, 159, 46).contains("a throttle counter began to tick at the break"));
    for (panel, words) in [
        ("[heat]", &["settles at", "lost to it", "load ", "cool-down"][..]),
        ("[claims]", &["write, first plateau", "3,000", "the write cache was exhausted"]),
        ("[what next]", &["g starts this course:", "until"]),
    ] {
        press(&mut state, "p");
        for size in [(159, 46), (80, 24)] {
            let text = screen(&mut state, size.0, size.1);
            let found = words.iter().all(|w| text.contains(w)) || size.0 == 80;
            assert!(text.contains(panel) && found, "{panel} {words:?}\n{text}");
        }
    }
}

/// Bug: the last column was cut through, so that 856 MB/s in the worst second of a leg were read as 85.
#[test]
fn the_worst_second_of_a_leg_is_shown_with_all_its_digits() {
    let mut state = with_run(1);
    state.place = FINDINGS;
    let worst = |state: &State| {
        let found = &state.findings.shown.as_ref().unwrap().findings;
        let even = found.legs.iter().find_map(|l| l.consistency).unwrap();
        mile_core::units::number(even.worst_second_mb_s)
    };
    let worst = worst(&state);
    for (width, height) in [(159, 46), (240, 67), (120, 46)] {
        let text = screen(&mut state, width, height);
        let head = text.lines().position(|l| l.contains("1st tenth")).unwrap();
        let row = text.lines().nth(head + 1).unwrap();
        assert_eq!(row.split_whitespace().last(), Some(worst.as_str()), "{width}x{height}: {row}");
    }
}

#[test]
fn a_note_on_a_break_is_kept_with_the_run() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let entered = Entered::new(book.begin(&RunHead::of_lane(LaneHead::default())).unwrap(), 1);
    let (told, _log) = crossbeam_channel::unbounded();
    let recorder = Recorder::start(book, Errand { entered, told, waits: true, aside: Vec::new() }).unwrap();
    messages(1).into_iter().for_each(|m| {
        recorder.tell(0, m);
    });
    let run = recorder.finish().unwrap();
    let mut state = with_run(1);
    state.place = FINDINGS;
    state.setup.logbook_path = path.clone();
    state.findings.shown.as_mut().unwrap().run = run;
    let before = Logbook::open_existing(&path).unwrap().run(run).unwrap().first().events.len();
    press(&mut state, "jjn");
    press(&mut state, "fan was off\n");
    assert!(screen(&mut state, 159, 46).contains("on break 2: fan was off"));
    for _ in 0..500 {
        let events = Logbook::open_existing(&path).unwrap().run(run).unwrap().first().events.clone();
        if events.len() > before {
            let at = state.findings.shown.as_ref().unwrap().findings.breaks[1].at_bytes;
            assert_eq!(events[before].bytes.0, at);
            assert!(
                matches!(&events[before].kind, mile_runner::EventKind::Note(t) if t == "on break 2: fan was off")
            );
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    panic!("the note was not kept");
}

#[test]
fn the_filter_keeps_the_runs_that_match_all_of_its_words() {
    let mut state = with_run(0);
    state.place = LOGBOOK;
    press(&mut state, "/finned");
    assert_eq!(state.logbook.visible().len(), 30);
    press(&mut state, " done 42\n");
    assert_eq!(state.logbook.visible().len(), 1);
    assert!(screen(&mut state, 159, 46).contains("1 of 60 runs match."));
    press(&mut state, "/\x1b");
    assert_eq!(state.logbook.visible().len(), 60);
    press(&mut state, "/cut");
    assert_eq!(state.logbook.visible()[0].run, 3);
}

#[test]
fn a_selected_line_behind_the_fold_is_scrolled_to() {
    let mut state = with_run(0);
    state.place = LOGBOOK;
    let jobs = Jobs::new();
    update::act(&mut state, &jobs, Action::Last);
    let text = screen(&mut state, 100, 24);
    assert!(text.lines().any(|l| l.trim_start().starts_with("1  first look")), "{text}");
    update::act(&mut state, &jobs, Action::First);
    assert!(screen(&mut state, 100, 24).lines().any(|l| l.trim_start().starts_with("60  first look")));
}

#[test]
fn the_start_form_says_what_a_run_would_write_and_refuses_what_cannot_be() {
    let mut state = fresh();
    press(&mut state, "s");
    assert!(screen(&mut state, 120, 40).contains("Writes at most 1,600 GB, 0.133 % of the rated endurance."));
    press(&mut state, "←");
    assert!(screen(&mut state, 120, 40).contains("Writes at most 600.0 GB"));
    press(&mut state, "\x1b");
    update::act(&mut state, &Jobs::new(), Action::Last);
    press(&mut state, "s");
    let Some(Overlay::Start(form)) = &state.overlay else { panic!("no form") };
    assert!(form.lanes.is_empty());
    press(&mut state, "/no/such");
    assert!(screen(&mut state, 120, 40).contains("does not exist"));
    press(&mut state, "\n");
    assert!(state.overlay.is_some() && state.runs.live.is_none(), "nothing is started");
}

/// A key that came while a start was being tried was lost: what was typed next stood behind the path that had been refused.
#[test]
fn keys_that_come_while_a_start_is_tried_are_not_lost() {
    let mut state = fresh();
    update::act(&mut state, &Jobs::new(), Action::Last);
    press(&mut state, "s");
    press(&mut state, "/no/such");
    press(&mut state, "\n/ab\n/c");
    let Some(Overlay::Start(form)) = &state.overlay else { panic!("no form") };
    assert_eq!(form.path.value(), "/no/such/ab/c");
    assert!(
        !form.starting && matches!(&form.outlook, Some(Err(t)) if t.contains("/no/such/ab/c")),
        "{:?}",
        form.outlook
    );
}

/// All courses had to be gone through one by one, and none said what it is for.
#[test]
fn a_course_is_found_by_a_part_of_its_name_and_says_its_question() {
    let mut state = fresh();
    press(&mut state, "s");
    let chosen = |state: &State| {
        let Some(Overlay::Start(form)) = &state.overlay else { panic!("no form") };
        (form.choices[form.chosen].name.clone(), form.find.clone())
    };
    press(&mut state, "COOL");
    assert_eq!(chosen(&state).0, "two coolers");
    let text = screen(&mut state, 159, 46);
    assert!(text.contains("← two coolers →   9 of 25   \"COOL\""), "{text}");
    let question = mile_bench::courses::READY.iter().find(|r| r.kind == "two-coolers").unwrap().text;
    let question = question.lines().next().unwrap().strip_prefix("# Question:").unwrap().trim();
    let question = format!("{}{}", question[..1].to_uppercase(), &question[1..]);
    assert!(text.contains(&question), "{question} {text}");
    // "… and reads and random": of a question of two lines there was the first.
    let mut two = fresh();
    press(&mut two, "sfill sweep");
    let text = screen(&mut two, 159, 46);
    assert!(
        text.contains("reads and random access, at five fill") && text.contains("three times each."),
        "{text}"
    );
    press(&mut state, "x");
    assert_eq!(chosen(&state).0, "two coolers", "what fits no name chooses none");
    assert!(screen(&mut state, 159, 46).contains("no name has \"COOLx\" in it"));
    press(&mut state, "→");
    assert_eq!(chosen(&state), ("two ports".into(), String::new()), "and the arrows begin anew");
    press(&mut state, "s");
    let text = screen(&mut state, 159, 46);
    assert!(text.contains("\"s\", also "), "{text}");
    // "No name has "two slots" in it", as it is for two drives.
    let mut state = fresh();
    press(&mut state, "stwo slots");
    assert_eq!(chosen(&state).0, "two slots");
    let Some(Overlay::Start(form)) = &state.overlay else { panic!("no form") };
    assert_eq!((form.lanes.len(), form.instruments.value()), (2, "bench"));
    press(&mut state, "→");
    let Some(Overlay::Start(form)) = &state.overlay else { panic!("no form") };
    assert_ne!(form.choices[form.chosen].name, "two slots", "the arrows go on from there");
}

/// Of a sweep whose first level was measured it was said that it goes over no levels.
#[test]
fn a_sweep_whose_second_level_is_still_to_come_is_not_said_to_have_none() {
    let mut state = with_run(0);
    let shown = state.findings.shown.as_mut().unwrap();
    let samples: Vec<mile_core::Sample> = messages(0)
        .into_iter()
        .filter_map(|m| if let Message::Sample(s) = m { Some(s) } else { None })
        .collect();
    let names: Vec<String> =
        shown.head.first().leg_names().iter().map(|n| format!("fill 3 % / {n}")).collect();
    shown.trace = Trace::of(&samples, &names).into();
    shown.findings = mile_core::findings(&shown.trace, &mile_core::Context::default());
    state.place = super::place::FILL;
    let text = screen(&mut state, 159, 46);
    assert!(text.contains("has measured one fill level so far"), "{text}");
}

/// Every course that findings suggest is a course: it is read, and fits the drive that it is for.
#[test]
fn a_suggested_course_can_be_started_as_it_is() {
    let mut state = with_run(0);
    let shown = state.findings.shown.as_mut().unwrap();
    let bare: Vec<mile_core::Sample> = messages(0)
        .into_iter()
        .filter_map(|m| {
            if let Message::Sample(s) = m {
                Some(mile_core::Sample { temp: None, throttled: None, ..s })
            } else {
                None
            }
        })
        .collect();
    shown.trace = Trace::of(&bare, &shown.head.first().leg_names()).into();
    shown.findings = mile_core::findings(&shown.trace, &mile_core::Context::default());
    let text = shown.findings.next_step.clone().unwrap().course.unwrap();
    mile_course::parse(&text).unwrap();
    state.place = FINDINGS;
    press(&mut state, "g");
    assert!(screen(&mut state, 120, 40).contains("as the findings suggest"));
    let Some(Overlay::Start(form)) = &state.overlay else { panic!("no form") };
    assert!(matches!(form.outlook, Some(Ok(_))), "{:?}", form.outlook);
}

/// A run of a day was not seen before its findings were known.
#[test]
fn a_long_run_is_drawn_before_its_findings_are_known_and_nothing_is_said_of_breaks() {
    let mut state = with_run(0);
    let shown = state.findings.shown.take().unwrap();
    let early = |run| super::state::Early { run, context: shown.context.clone(), trace: shown.trace.clone() };
    state.place = FINDINGS;
    state.findings.loading = Some(7);
    update::done(&mut state, &Jobs::new(), Done::Read(Box::new(early(8))));
    assert!(screen(&mut state, 159, 46).contains("Reading run 7 …"), "that of another run is not shown");
    update::done(&mut state, &Jobs::new(), Done::Read(Box::new(early(7))));
    let text = screen(&mut state, 159, 46);
    assert!(text.contains("Run 7: looking for breaks in ") && text.contains("MB/s"), "{text}");
    assert!(text.matches('█').count() > 200 && !text.to_lowercase().contains("no break"), "{text}");
    update::done(&mut state, &Jobs::new(), Done::Loaded(Ok(Box::new(shown))));
    assert!(state.findings.early.is_none() && state.findings.loading.is_none());
    assert!(screen(&mut state, 159, 46).contains("write cache exhausted"));
}

/// A run on a drive that is kept, with what was claimed of the drive.
fn run_on(path: &std::path::Path, drive: &mile_drive::Identity, claims: &str) {
    let claimed = mile_course::Claimed::read(claims).unwrap();
    let claims = mile_drive::Claims {
        write: claimed.claims.write,
        read: claimed.claims.read,
        endurance: claimed.claims.endurance,
    };
    let situation = mile_drive::Situation { slot: Some(drive.name.clone()), ..Default::default() };
    let lane =
        LaneHead { drive: drive.clone(), situation, claims, stated: claimed.stated, ..Default::default() };
    let mut book = Logbook::open(path).unwrap();
    let run = book.begin(&RunHead::of_lane(lane)).unwrap();
    book.finish(run, Status::Done, &[]).unwrap();
}

#[test]
fn the_last_setup_is_of_this_very_drive_and_claims_are_of_the_last_of_its_model_that_has_any() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l.logbook");
    let drive = |name: &str, serial: Option<&str>| mile_drive::Identity {
        name: name.into(),
        model: "Merrow K2 2TB".into(),
        serial: serial.map(str::to_owned),
        ..Default::default()
    };
    run_on(&path, &drive("a", Some("MK2-1")), "write 6000 MB/s");
    run_on(&path, &drive("b", Some("MK2-2")), "");
    run_on(&path, &drive("x", None), "");
    let last = |of: &mile_drive::Identity| {
        let found = Logbook::reading(&path, |book| super::jobs::last_setup(book, of)).unwrap().unwrap();
        (found.run, found.situation.slot, found.claims)
    };
    let claims = "write 6000 MB/s".to_owned();
    assert_eq!(last(&drive("c", Some("MK2-3"))), (None, None, claims.clone()), "that of another with claims");
    assert_eq!(last(&drive("moved", Some("MK2-2"))), (Some(2), Some("b".into()), String::new()));
    assert_eq!(last(&drive("x", None)), (Some(3), Some("x".into()), String::new()));
    assert_eq!(
        last(&drive("y", None)),
        (None, None, claims),
        "where none has a serial number, names tell them"
    );
}

#[test]
fn a_run_that_was_loaded_late_does_not_replace_the_one_that_was_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let entered = Entered::new(book.begin(&RunHead::of_lane(LaneHead::default())).unwrap(), 1);
    let (told, _log) = crossbeam_channel::unbounded();
    let recorder = Recorder::start(book, Errand { entered, told, waits: true, aside: Vec::new() }).unwrap();
    messages(0).into_iter().for_each(|m| {
        recorder.tell(0, m);
    });
    let run = recorder.finish().unwrap();
    let mut state = fresh();
    state.findings.loading = Some(run + 1);
    let loaded = super::jobs::load(&path, run, 0, &|_| {}).unwrap();
    update::done(&mut state, &Jobs::new(), Done::Loaded(Ok(Box::new(loaded))));
    assert!(state.findings.shown.is_none());
    state.findings.loading = Some(run);
    update::done(
        &mut state,
        &Jobs::new(),
        Done::Loaded(super::jobs::load(&path, run, 0, &|_| {}).map(Box::new)),
    );
    assert_eq!(state.findings.shown.as_ref().map(|s| s.run), Some(run));
    update::done(&mut state, &Jobs::new(), Done::Loaded(Err("the logbook is gone".into())));
    assert!(screen(&mut state, 100, 30).contains("! the logbook is gone"));
}

/// However often a run that is underway is opened, one look at it is on its way at a time.
#[test]
fn a_run_underway_is_looked_at_again_once_however_often_it_is_opened() {
    let shown = |run: i64| {
        let mut state = with_run(0);
        let mut shown = state.findings.shown.take().unwrap();
        (shown.run, shown.status) = (run, mile_runner::Status::Underway);
        Box::new(shown)
    };
    let (mut state, jobs) = (fresh(), Jobs::new());
    for _ in 0..3 {
        state.findings.loading = Some(7);
        update::done(&mut state, &jobs, Done::Loaded(Ok(shown(7))));
        assert!(state.findings.refreshing && state.findings.following == Some((7, 0)));
    }
    // What is read of it is no end.
    state.place = FINDINGS;
    assert_eq!(
        ["so far", "at the end"].map(|words| screen(&mut state, 159, 46).contains(words)),
        [true, false]
    );
    // The look that comes back asks for the next one; one of a run that is no longer open does so for the one that is.
    update::done(&mut state, &jobs, Done::Loaded(Ok(shown(7))));
    assert!(state.findings.refreshing);
    state.findings.loading = Some(8);
    update::done(&mut state, &jobs, Done::Loaded(Ok(shown(8))));
    update::done(&mut state, &jobs, Done::Loaded(Ok(shown(7))));
    assert_eq!((state.findings.following, state.findings.refreshing), (Some((8, 0)), true));
    assert_eq!(state.findings.shown.as_ref().map(|s| s.run), Some(8), "what is no longer open is not shown");
    update::done(&mut state, &jobs, Done::Loaded(Err("gone".into())));
    assert_eq!((state.findings.following, state.findings.refreshing), (None, false));
}

#[test]
fn every_action_has_words_and_every_place_its_keys() {
    for place in place::ALL.iter().copied() {
        let found = keys::matching(place, "");
        assert!(found.len() > 10, "{place:?}");
        assert!(found.iter().all(|b| !b.words.is_empty() && !b.shown.is_empty()));
        let mut state = with_run(0);
        state.place = place;
        state.overlay = Some(Overlay::Help);
        let text = screen(&mut state, 159, 46);
        let can = found.iter().filter(|b| places::can_do(&state, b.action));
        let shown = text.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(can.into_iter().all(|b| text.contains(b.words)), "{place:?}\n{text}");
        let about: Vec<&str> = places::view(place).about().split_whitespace().collect();
        assert!(shown.contains(&about.join(" ")), "{place:?} is explained\n{text}");
    }
}

fn mouse(state: &mut State, column: u16, row: u16) {
    mouse_does(state, MouseEventKind::Down(MouseButton::Left), column, row);
}

fn mouse_does(state: &mut State, kind: MouseEventKind, column: u16, row: u16) {
    let event = Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE });
    update::input(state, &Jobs::new(), &event);
}

#[test]
fn the_mouse_picks_places_and_puts_the_cursor() {
    let mut state = with_run(1);
    let text = screen(&mut state, 159, 46);
    let at = text.lines().next().unwrap().find("4 findings").unwrap();
    // Every glyph before it in the header is one byte but the dots, which are two.
    let dots = text[..at].matches('·').count();
    mouse(&mut state, (at - dots) as u16 + 2, 0);
    assert_eq!(state.place, FINDINGS);
    screen(&mut state, 159, 46);
    let area = state.drawn.canvas_area;
    mouse(&mut state, area.x + area.width / 2, area.y + 3);
    let text = screen(&mut state, 159, 46);
    assert!(text.contains("at the cursor") && text.contains('│'), "{text}");
    let cursor = state.findings.framing.cursor;
    mouse(&mut state, area.x + 2, area.y + 3);
    assert_eq!(state.findings.framing.cursor, cursor, "the margin is not the picture");
    press(&mut state, "a");
    assert!(screen(&mut state, 159, 46).contains("at the end"));
}

#[test]
fn a_stretch_is_dragged_over_and_shown_the_wheel_zooms_where_it_is_and_lines_are_clicked_on() {
    let mut state = with_run(1);
    state.place = FINDINGS;
    screen(&mut state, 159, 46);
    let area = state.drawn.canvas_area;
    let window = |state: &State| state.findings.framing.resolve(&state.findings.sight().unwrap()).1;
    let (whole, plot) = (window(&state), area.x + 7);
    // From the tenth cell of the picture to the twentieth, which are a tenth of some 98.
    mouse(&mut state, plot + 10, area.y + 4);
    mouse_does(&mut state, MouseEventKind::Drag(MouseButton::Left), plot + 19, area.y + 5);
    screen(&mut state, 159, 46);
    mouse_does(&mut state, MouseEventKind::Up(MouseButton::Left), plot + 19, area.y + 5);
    let shown = window(&state);
    let cell = whole.to / f64::from(area.width - 7 - 13);
    assert!(
        (shown.from - 10.0 * cell).abs() < cell / 100.0 && (shown.to - 20.0 * cell).abs() < cell / 100.0,
        "{shown:?} {cell}"
    );
    // What is under the wheel stays there.
    screen(&mut state, 159, 46);
    mouse_does(&mut state, MouseEventKind::ScrollUp, plot + 30, area.y + 4);
    let near = window(&state);
    let share =
        |w: mile_core::ruler::Window| w.from + (w.to - w.from) * 30.5 / (f64::from(area.width) - 20.0);
    assert!(
        (share(near) - share(shown)).abs() < cell / 10.0 && near.to - near.from < shown.to - shown.from,
        "{near:?}"
    );
    // A click is no drag.
    mouse(&mut state, plot + 5, area.y + 4);
    mouse_does(&mut state, MouseEventKind::Up(MouseButton::Left), plot + 6, area.y + 4);
    assert_eq!(window(&state), near);

    // The second break, in its line.
    let text = screen(&mut state, 159, 46);
    let row = text.lines().position(|l| l.starts_with("  2  ")).unwrap();
    mouse(&mut state, 10, row as u16);
    assert_eq!(state.findings.selected, Some(1));
    state.place = BENCH;
    let text = screen(&mut state, 159, 46);
    let row = text.lines().position(|l| l.contains("Keelson")).unwrap();
    mouse(&mut state, 10, row as u16 + 1);
    assert!(state.bench.cards[state.bench.selected].identity.name.contains("keelson"));
    mouse_does(&mut state, MouseEventKind::ScrollUp, 10, 20);
    assert!(state.bench.cards[state.bench.selected].identity.name.contains("bittern"));
    state.place = LOGBOOK;
    let text = screen(&mut state, 159, 46);
    let row = text.lines().position(|l| l.trim_start().starts_with("57 ")).unwrap();
    mouse(&mut state, 30, row as u16);
    assert_eq!(state.logbook.visible()[state.logbook.selected].run, 57);
}

#[test]
fn a_place_that_is_clicked_on_is_come_to_as_by_its_digit() {
    let mut state = with_run(1);
    let text = screen(&mut state, 159, 46);
    let header = text.lines().next().unwrap();
    for place in place::ALL {
        let name = format!("{} {}", place.key(), place.name());
        let before = header.split(name.as_str()).next().unwrap();
        mouse(&mut state, before.chars().count() as u16 + 2, 0);
        assert_eq!(state.place, place);
    }
    // These ask for what they show when they are come to.
    assert!(state.health.drive.is_some(), "the drive was not asked for its health");
    assert!(!state.course.text().trim().is_empty(), "there is no course to begin with");
}

#[test]
fn zoomed_in_the_picture_shows_the_break_to_the_sample() {
    let mut state = with_run(0);
    state.place = FINDINGS;
    screen(&mut state, 159, 46);
    press(&mut state, "k");
    for _ in 0..9 {
        press(&mut state, "+");
        screen(&mut state, 159, 46);
    }
    let text = screen(&mut state, 159, 46);
    assert_eq!(
        text.lines().nth(3).map(|l| l[7..].trim().split(' ').next()),
        Some(Some("1")),
        "the break stays in view\n{text}"
    );
    // 600 GB over 2^9, a good GB: the ruler reads in tenths around 118 GB.
    assert!(text.contains("118.0") || text.contains("117.9"), "{text}");
}

/// "Written: a, b," and nothing behind it, where six files had been written and two lines hold four.
#[test]
fn what_is_said_and_does_not_fit_ends_in_dots() {
    let mut state = fresh();
    let files: Vec<String> = (1..=6).map(|i| format!("run-7-quay-surface-check-figure-{i}.svg")).collect();
    let text = format!("Written: {}", files.join(", "));
    let last_two = |state: &mut State, width: u16| {
        let shown = screen(state, width, 24);
        let rows: Vec<String> = shown.lines().map(|l| l.trim().to_owned()).collect();
        rows[rows.len() - 2..].join(" ")
    };
    for (is_error, before) in [(false, ""), (true, "! ")] {
        state.notice = Some(super::state::Notice { text: text.clone(), is_error });
        let said = last_two(&mut state, 80);
        assert!(said.starts_with(&format!("{before}Written: run-7")) && said.ends_with('…'), "{said}");
        // Where there is room for all of it, nothing is cut.
        assert!(last_two(&mut state, 200).ends_with("figure-6.svg"));
    }
}

#[test]
fn the_other_theme_changes_colours_and_no_character() {
    let mut state = with_run(0);
    state.place = FINDINGS;
    let dark = screen(&mut state, 120, 40);
    for _ in 0..3 {
        press(&mut state, "T");
        assert_eq!(screen(&mut state, 120, 40), dark);
    }
}

#[test]
fn esc_goes_back_the_way_that_was_come() {
    let mut state = with_run(0);
    press(&mut state, "5413");
    assert_eq!(state.place, UNDERWAY);
    press(&mut state, "\x1b");
    assert_eq!(state.place, BENCH);
    press(&mut state, "\x1b\x1b\x1b\x1b\x1b");
    assert_eq!(state.place, BENCH, "where it began");
}

#[test]
fn the_header_carries_the_run_in_every_place() {
    let mut state = with_run(0);
    for place in place::ALL.iter().copied() {
        state.place = place;
        let header = screen(&mut state, 120, 40).lines().next().unwrap().to_owned();
        assert!(header.contains("done") && header.contains('█'), "{header}");
    }
}
