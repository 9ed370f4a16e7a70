//! What happens on a key, a click, a message of the run, or the result of work in the background.

pub(super) mod course;

use super::jobs::{Done, Jobs};
use super::keys::{self, Action};
use super::state::{Choice, HealthPlace, Live, Overlay, PathFor, Place, StartForm, State};
use crate::bench::Named;
use crate::session::{self, Order, OrderLane};
use crossterm::event::{
    Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use mile_core::Bytes;
use mile_core::Nanos;
use mile_drive::block::Consent;
use mile_drive::block::probe::TestRequest;
use mile_drive::health::TestKind;
use mile_logbook::Logbook;
use mile_runner::remote::{Client, Frame};
use mile_runner::{Command, Message};
use std::time::Duration;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

/// Legs that are listed before a start.
const MOST_LEGS: usize = 10;
/// Most letters that are pasted into a field of one line: as long as a path may be.
const MOST_PASTED: usize = 4096;
/// Seed of runs that are started from the terminal.
const SEED: u64 = 1;

/// Takes in what the terminal says.
pub(crate) fn input(state: &mut State, jobs: &Jobs, event: &Event) {
    match event {
        Event::Key(key) if key.kind != KeyEventKind::Release => {
            state.notice = None;
            if key.code == KeyCode::Char('z') && key.modifiers.contains(KeyModifiers::CONTROL) {
                state.suspend = true;
            } else if state.overlay.is_some() {
                overlay_key(state, jobs, *key);
            } else if state.course.editing && state.place == Place::Course {
                course::edit_key(state, *key);
            } else if state.logbook.filtering && state.place == Place::Logbook {
                filter_key(state, event, *key);
            } else if let Some(action) = keys::action(state.place, *key) {
                act(state, jobs, action);
            }
        }
        Event::Paste(text) => {
            if state.overlay.is_none() && state.course.editing && state.place == Place::Course {
                course::paste(state, text);
            } else if state.overlay.is_some() || state.logbook.filtering {
                // Into a field of one line: as if it were typed.
                let typed = text.chars().filter(|c| !c.is_control()).take(MOST_PASTED);
                typed.for_each(|c| input(state, jobs, &Event::Key(KeyCode::Char(c).into())));
            }
        }
        Event::Mouse(mouse) => click(state, *mouse),
        _ => {}
    }
}

fn click(state: &mut State, mouse: MouseEvent) {
    if !matches!(
        mouse.kind,
        MouseEventKind::Down(MouseButton::Left) | MouseEventKind::Drag(MouseButton::Left)
    ) || state.overlay.is_some()
    {
        return;
    }
    if mouse.row == 0 {
        let hit = state.place_spans.iter().find(|(_, span)| span.contains(&mouse.column)).map(|(p, _)| *p);
        if let Some(place) = hit {
            state.go(place);
        }
        return;
    }
    let area = state.canvas_area;
    if !area.contains((mouse.column, mouse.row).into()) {
        return;
    }
    with_framing(state, |framing, scene| framing.point(scene, area, mouse.column));
}

/// Does something with the framing of the place's canvas, where it has one.
fn with_framing(
    state: &mut State,
    change: impl FnOnce(&mut super::canvas::Framing, &super::canvas::Scene<'_>),
) {
    match state.place {
        Place::Underway => {
            if let Some(live) = &mut state.live {
                let mut framing = live.framing;
                change(&mut framing, &live.scene());
                live.framing = framing;
            }
        }
        Place::Findings => {
            let mut framing = state.findings.framing;
            if let Some(scene) = state.findings.scene() {
                change(&mut framing, &scene);
            }
            state.findings.framing = framing;
        }
        Place::Bench | Place::Course | Place::Fill | Place::Health | Place::Logbook => {}
    }
}

fn filter_key(state: &mut State, event: &Event, key: KeyEvent) {
    match key.code {
        KeyCode::Enter => state.logbook.filtering = false,
        KeyCode::Esc => {
            state.logbook.filtering = false;
            state.logbook.filter.reset();
        }
        _ => {
            state.logbook.filter.handle_event(event);
            state.logbook.selected = 0;
        }
    }
}

fn overlay_key(state: &mut State, jobs: &Jobs, key: KeyEvent) {
    let event = Event::Key(key);
    let Some(overlay) = state.overlay.take() else { return };
    let close = key.code == KeyCode::Esc;
    match overlay {
        Overlay::Help => {}
        _ if close => {}
        Overlay::Commands { mut typed, mut selected } => {
            let found = keys::matching(state.place, typed.value());
            match key.code {
                KeyCode::Enter => {
                    if let Some(binding) = found.get(selected) {
                        act(state, jobs, binding.action);
                    }
                    return;
                }
                KeyCode::Up => selected = selected.saturating_sub(1),
                KeyCode::Down => selected = (selected + 1).min(found.len().saturating_sub(1)),
                _ => {
                    typed.handle_event(&event);
                    selected = 0;
                }
            }
            state.overlay = Some(Overlay::Commands { typed, selected });
        }
        Overlay::Note(mut text) => {
            if key.code == KeyCode::Enter {
                let said = text.value().trim().to_owned();
                if !said.is_empty() && state.place == Place::Findings {
                    note_break(state, jobs, said);
                } else if !said.is_empty() {
                    command(state, Command::Note(said));
                }
                return;
            }
            text.handle_event(&event);
            state.overlay = Some(Overlay::Note(text));
        }
        Overlay::Chooser(selected) => course::chooser_key(state, jobs, selected, key),
        Overlay::Path(purpose, path) => course::path_key(state, jobs, purpose, path, key),
        Overlay::Start(form) => start_key(state, *form, key),
        Overlay::SelfTest => {
            let request = match key.code {
                KeyCode::Char('s') => TestRequest::Start(TestKind::Short),
                KeyCode::Char('x') => TestRequest::Start(TestKind::Extended),
                KeyCode::Char('a') => TestRequest::Abort,
                _ => return,
            };
            if let Some(drive) = &state.health.drive {
                jobs.self_test(drive, request);
            }
        }
        Overlay::ConfirmStop => {
            if matches!(key.code, KeyCode::Char('y') | KeyCode::Enter) {
                command(state, Command::Stop);
            }
        }
        Overlay::ConfirmQuit => match key.code {
            KeyCode::Char('l') | KeyCode::Enter if !state.is_demo => state.quit = true,
            KeyCode::Char('s') => {
                command(state, Command::Stop);
                (state.stopping, state.quit) = (true, true);
            }
            _ => {}
        },
    }
}

/// What a place needs when it is come to.
fn arrive(state: &mut State, jobs: &Jobs) {
    if state.place == Place::Course {
        course::arrive(state, jobs);
    }
    if state.place != Place::Health {
        return;
    }
    let drive = state.bench.cards.get(state.bench.selected).map(|c| c.identity.name.clone());
    if drive != state.health.drive {
        state.health = HealthPlace { drive, ..HealthPlace::default() };
    }
    // A run may have changed it since; what is shown stays until the answer is there.
    read_health(state, jobs, Duration::ZERO);
}

fn read_health(state: &State, jobs: &Jobs, after: Duration) {
    if let Some(drive) = &state.health.drive {
        jobs.health(&state.logbook_path, drive, after);
    }
}

fn ask_self_test(state: &mut State) {
    match state.health.shown.as_ref().map(|s| s.card.health.as_ref().and_then(|h| h.self_test.as_ref())) {
        None => state.complain("There is no drive to test; select one on the bench."),
        Some(None) => state.complain("Self-tests: not offered by this drive."),
        Some(Some(_)) => state.overlay = Some(Overlay::SelfTest),
    }
}

fn command(state: &mut State, command: Command) {
    if let Some(strings) = state.live.as_ref().and_then(|l| l.strings.as_ref()) {
        // The run may have ended just now.
        let _ = strings.commands.send(command);
    }
}

/// Does what a key or the command line asks for.
pub(crate) fn act(state: &mut State, jobs: &Jobs, action: Action) {
    match action {
        Action::Go(place) => {
            state.go(place);
            arrive(state, jobs);
        }
        Action::NextPlace => {
            step_place(state, 1);
            arrive(state, jobs);
        }
        Action::PreviousPlace => {
            step_place(state, Place::ALL.len() - 1);
            arrive(state, jobs);
        }
        Action::ReadHealth => read_health(state, jobs, Duration::ZERO),
        Action::SelfTest => ask_self_test(state),
        Action::Resume => {
            if let Err(failure) = resume(state) {
                state.complain(failure.message());
            }
        }
        Action::Back => {
            if let Some(place) = state.before.pop() {
                state.place = place;
            }
        }
        Action::Quit if state.is_underway() => state.overlay = Some(Overlay::ConfirmQuit),
        Action::Quit => state.quit = true,
        Action::Help => state.overlay = Some(Overlay::Help),
        Action::Commands => state.overlay = Some(Overlay::Commands { typed: Input::default(), selected: 0 }),
        Action::Theme => state.theme = state.theme.other(),
        Action::Up => step_line(state, -1),
        Action::Down => step_line(state, 1),
        Action::First => step_line(state, isize::MIN / 2),
        Action::Last => step_line(state, isize::MAX / 2),
        Action::CursorLeft => with_framing(state, |f, s| f.step(s, -1.0)),
        Action::CursorRight => with_framing(state, |f, s| f.step(s, 1.0)),
        Action::CursorFarLeft => with_framing(state, |f, s| f.step(s, -10.0)),
        Action::CursorFarRight => with_framing(state, |f, s| f.step(s, 10.0)),
        Action::ZoomIn => with_framing(state, |f, s| f.zoom(s, 0.5)),
        Action::ZoomOut => with_framing(state, |f, s| f.zoom(s, 2.0)),
        Action::ShowAll => with_framing(state, |f, _| f.reset()),
        Action::TurnRuler => with_framing(state, |f, s| f.turn(s.trace)),
        Action::NextBreak => step_break(state, 1),
        Action::NextLane => next_lane(state, jobs),
        Action::StartLanes => ask_start_lanes(state),
        Action::PreviousBreak => step_break(state, -1),
        Action::Pause | Action::Note | Action::SkipLeg | Action::Stop if !state.is_underway() => {
            state.complain("No run is underway.");
        }
        Action::Pause if asked(state) => command(state, Command::Resume),
        Action::Pause => {
            let paused = state.live.as_ref().is_some_and(Live::is_paused);
            command(state, if paused { Command::Resume } else { Command::Pause });
        }
        Action::Note => state.overlay = Some(Overlay::Note(Input::default())),
        Action::SkipLeg => command(state, Command::Skip),
        Action::Stop => state.overlay = Some(Overlay::ConfirmStop),
        Action::Start => ask_start(state),
        Action::Open if state.place == Place::Underway && asked(state) => command(state, Command::Resume),
        Action::Open => open(state, jobs),
        Action::Edit => state.course.editing = true,
        Action::NewCourse => state.overlay = Some(Overlay::Chooser(0)),
        Action::FormatCourse => course::format(state),
        Action::SaveCourse => course::ask_path(state, PathFor::Save),
        Action::OpenCourse => course::ask_path(state, PathFor::Open),
        Action::NextDrive => course::next_drive(state, jobs),
        Action::StartCourse => course::ask_start(state),
        Action::Export => export(state, jobs),
        Action::Filter => state.logbook.filtering = true,
        Action::StartNext => start_next(state),
        Action::NextPanel => state.findings.panel = state.findings.panel.after(),
        Action::NoteBreak if state.findings.shown.is_none() => state.complain("No run is open."),
        Action::NoteBreak => state.overlay = Some(Overlay::Note(Input::default())),
    }
}

fn step_place(state: &mut State, by: usize) {
    let at = Place::ALL.iter().position(|p| *p == state.place).unwrap_or(0);
    state.go(Place::ALL[(at + by) % Place::ALL.len()]);
}

fn step_line(state: &mut State, by: isize) {
    let step = |at: usize, count: usize| at.saturating_add_signed(by).min(count.saturating_sub(1));
    match state.place {
        Place::Bench => {
            state.bench.selected = step(state.bench.selected, state.bench.lines());
            state.bench.chosen = true;
        }
        Place::Health => state.health.scroll = step(state.health.scroll, 400),
        Place::Course => state.course.scroll = step(state.course.scroll, 4000),
        Place::Fill => state.fill.scroll = step(state.fill.scroll, 400),
        Place::Logbook => {
            state.logbook.selected = step(state.logbook.selected, state.logbook.visible().len())
        }
        Place::Underway | Place::Findings => {}
    }
}

fn step_break(state: &mut State, by: isize) {
    let step = |at: Option<usize>, count: usize| match (at, count) {
        (_, 0) => None,
        (None, _) => Some(if by > 0 { 0 } else { count - 1 }),
        (Some(at), _) => Some(at.saturating_add_signed(by).min(count - 1)),
    };
    match state.place {
        Place::Underway => {
            if let Some(live) = &mut state.live {
                live.selected = step(live.selected, live.lane().findings.breaks().len());
            }
        }
        Place::Findings => {
            let count = state.findings.shown.as_ref().map_or(0, |s| s.findings.breaks.len());
            state.findings.selected = step(state.findings.selected, count);
        }
        Place::Bench | Place::Course | Place::Fill | Place::Health | Place::Logbook => {}
    }
    with_framing(state, |framing, scene| {
        if let Some(b) = scene.selected.and_then(|i| scene.breaks.get(i)) {
            framing.show_break(scene, b);
        }
    });
}

fn next_lane(state: &mut State, jobs: &Jobs) {
    match (state.place, &mut state.live, &state.findings.shown) {
        (Place::Underway, Some(live), _) if live.lanes().len() > 1 => live.next_lane(),
        (Place::Findings, _, Some(shown)) if shown.head.lanes.len() > 1 => {
            let (run, lane) = (shown.run, shown.lane + 1);
            state.findings.loading = Some(run);
            jobs.load(&state.logbook_path, run, lane);
        }
        _ => state.complain("This run is on one drive."),
    }
}

fn open(state: &mut State, jobs: &Jobs) {
    let run = match state.place {
        Place::Logbook => state.logbook.visible().get(state.logbook.selected).map(|e| e.run),
        _ if state.is_underway() => None,
        _ => state.live.as_ref().and_then(|l| l.number),
    };
    match run {
        Some(run) => {
            show(state, jobs, run);
            state.go(Place::Findings);
        }
        None if state.is_underway() => {
            state.complain("The run goes on; its findings are complete when it has ended.")
        }
        None => state.complain("There is no run to open."),
    }
}

/// Loads a run into the place of findings.
pub(crate) fn show(state: &mut State, jobs: &Jobs, run: i64) {
    state.findings.loading = Some(run);
    jobs.load(&state.logbook_path, run, 0);
}

fn export(state: &mut State, jobs: &Jobs) {
    let framing = match state.place {
        Place::Findings => state.findings.shown.as_ref().map(|s| ((s.run, s.lane), state.findings.framing)),
        Place::Underway if state.is_underway() => None,
        Place::Underway => state.live.as_ref().and_then(|l| Some(((l.number?, l.at), l.framing))),
        _ => state
            .logbook
            .visible()
            .get(state.logbook.selected)
            .map(|e| ((e.run, 0), super::canvas::Framing::default())),
    };
    match framing {
        Some((run, framing)) => {
            state.tell(format!("Writing figures of run {} …", run.0));
            jobs.export(&state.logbook_path, run, framing.ruler, framing.window());
        }
        None if state.is_underway() => {
            state.complain("The run goes on; it can be exported when it has ended.")
        }
        None => state.complain("There is no run to export."),
    }
}

/// Whether the run waits for the operator.
fn asked(state: &State) -> bool {
    state.live.as_ref().is_some_and(Live::is_asking)
}

fn ask_start(state: &mut State) {
    if state.is_underway() {
        state.complain("A run is underway; one run at a time. Stop it first, in its place (3).");
        return;
    }
    let card = state.bench.cards.get(state.bench.selected);
    let drive = card.map(|c| c.identity.name.clone());
    let arming_word = card.and_then(|c| c.arming_word.clone());
    // The demo begins with the course that shows most.
    let chosen = if state.is_demo { 1.min(state.choices.len().saturating_sub(1)) } else { 0 };
    let mut form = StartForm {
        field: if drive.is_some() { 0 } else { 1 },
        drive,
        lanes: Vec::new(),
        choices: one_drive(&state.choices),
        chosen,
        path: Input::new("./scratch.bin".into()),
        size: Input::new("4GB".into()),
        arming_word,
        arm: Input::default(),
        warnings: Vec::new(),
        outlook: Ok(Vec::new()),
    };
    look_ahead(state, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

/// The courses for one drive.
fn one_drive(choices: &[Choice]) -> Vec<Choice> {
    choices.iter().filter(|c| c.lanes.is_empty()).cloned().collect()
}

/// Asks whether a course for several drives is to be started on the selected drive and those below it.
fn ask_start_lanes(state: &mut State) {
    if state.is_underway() {
        state.complain("A run is underway; one run at a time. Stop it first, in its place (3).");
        return;
    }
    let choices: Vec<Choice> = state.choices.iter().filter(|c| !c.lanes.is_empty()).cloned().collect();
    let Some(course) = choices.first() else {
        return state.complain("There is no course for several drives.");
    };
    let cards = state.bench.cards.iter().skip(state.bench.selected).take(course.lanes.len());
    let drives: Vec<String> = cards.clone().map(|c| c.identity.name.clone()).collect();
    if drives.len() < course.lanes.len() {
        return state.complain("Select the first of the drives; the course takes those below it as well.");
    }
    if cards.clone().any(|c| c.arming_word.is_some()) {
        let on: Vec<String> =
            course.lanes.iter().zip(&drives).map(|(lane, drive)| format!("--on {lane}={drive}")).collect();
        return state.complain(format!(
            "Real drives are armed one by one on the command line: hollow-mile run COURSE {}",
            on.join(" ")
        ));
    }
    let lanes = course.lanes.iter().cloned().zip(drives.iter().cloned()).collect();
    let mut form = StartForm {
        field: 0,
        drive: Some(drives.join(" + ")),
        lanes,
        choices,
        chosen: 0,
        path: Input::default(),
        size: Input::default(),
        arming_word: None,
        arm: Input::default(),
        warnings: Vec::new(),
        outlook: Ok(Vec::new()),
    };
    look_ahead(state, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

/// Keeps a note with the run that is looked at: on the selected break, or at the cursor, or at its end.
fn note_break(state: &mut State, jobs: &Jobs, said: String) {
    let selected = state.findings.selected;
    let cursor = state
        .findings
        .framing
        .cursor
        .zip(state.findings.scene().map(|s| state.findings.framing.resolve(&s).0));
    let Some(shown) = &mut state.findings.shown else { return };
    let of_break = selected.and_then(|i| Some((i, shown.findings.breaks.get(i)?)));
    let (at, bytes, text) = match (of_break, cursor) {
        (Some((i, b)), _) => {
            (Nanos::from_secs(b.at_s), Bytes(b.at_bytes), format!("on break {}: {said}", i + 1))
        }
        (None, Some((at, ruler))) => {
            let sample = ruler.sample(&shown.trace, at);
            (shown.trace.end(sample), shown.trace.moved(sample + 1), said)
        }
        (None, None) => (shown.trace.end(usize::MAX), shown.trace.moved(usize::MAX), said),
    };
    let event = mile_runner::Event { at, bytes, kind: mile_runner::EventKind::Note(text) };
    shown.events.push(event.clone());
    jobs.note(&state.logbook_path, shown.run, shown.lane, event);
}

/// Offers to start the course that would settle the selected break, or the one that the findings suggest, on the drive that they are of.
fn start_next(state: &mut State) {
    let selected = state.findings.selected;
    let suggestion = state.findings.shown.as_ref().and_then(|s| {
        let of_break = selected
            .and_then(|i| s.findings.breaks.get(i))
            .and_then(|b| mile_core::next_step::settle(&s.trace, &s.context, b));
        let text = of_break.or_else(|| s.findings.next_step.clone())?.course?;
        let drive = &s.head.lane(s.lane).drive;
        Some((drive.name.clone(), drive.simulated, text))
    });
    let Some((drive, simulated, text)) = suggestion else {
        state.complain("These findings suggest no next run.");
        return;
    };
    let arming_word =
        state.bench.cards.iter().find(|c| c.identity.name == drive).and_then(|c| c.arming_word.clone());
    let named = simulated || arming_word.is_some();
    let mut form = StartForm {
        drive: named.then(|| drive.clone()),
        lanes: Vec::new(),
        arming_word,
        arm: Input::default(),
        choices: vec![Choice { name: "as the findings suggest".into(), text, lanes: Vec::new() }],
        chosen: 0,
        path: Input::new(drive),
        size: Input::new("4GB".into()),
        field: usize::from(!named),
        warnings: Vec::new(),
        outlook: Ok(Vec::new()),
    };
    look_ahead(state, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

fn order(state: &State, form: &StartForm) -> Result<Order, String> {
    let choice = form.choices.get(form.chosen).ok_or("there is no course")?;
    let size = match &form.drive {
        Some(_) => None,
        None => Some(form.size.value().parse::<Bytes>().map_err(|e| e.to_string())?),
    };
    Ok(Order {
        course_text: choice.text.clone(),
        course_name: choice.name.clone(),
        lanes: if form.lanes.is_empty() {
            let drive = form.drive.clone().unwrap_or_else(|| form.path.value().to_owned());
            let named = Named { drive, size, seed: SEED, consent: consent(form), ..Named::default() };
            vec![OrderLane { named, ..OrderLane::default() }]
        } else {
            let lane = |(name, drive): &(String, String)| OrderLane {
                name: name.clone(),
                named: Named { drive: drive.clone(), seed: SEED, ..Named::default() },
                ..OrderLane::default()
            };
            form.lanes.iter().map(lane).collect()
        },
        speed: state.speed,
        keep: false,
        discard_first: false,
        warnings: form.warnings.clone(),
        resume: None,
    })
}

/// What is typed to arm the drive: its serial number, and behind it what may be destroyed.
fn consent(form: &StartForm) -> Consent {
    let typed = form.arm.value().trim();
    let Some(word) = form.arming_word.as_deref().filter(|_| !typed.is_empty()) else {
        return Consent::default();
    };
    // A serial number may hold blanks itself.
    match typed.strip_prefix(word).filter(|rest| rest.is_empty() || rest.starts_with(' ')) {
        Some(rest) => Consent {
            arm: Some(word.to_owned()),
            destroy: rest.split_whitespace().map(str::to_owned).collect(),
        },
        None => Consent { arm: Some(typed.to_owned()), destroy: Vec::new() },
    }
}

/// Says what would happen.
pub(super) fn look_ahead(state: &State, form: &mut StartForm) {
    form.outlook = order(state, form)
        .and_then(|o| session::plan(o).map_err(|f| f.message().to_owned()))
        .map(|ready| {
            let mut lines: Vec<String> = Vec::new();
            for lane in &ready.lanes {
                if ready.lanes.len() > 1 {
                    lines.push(format!("{}, {}", lane.name, lane.card().identity.model));
                }
                legs_ahead(form, lane, ready.lanes.len(), &mut lines);
            }
            lines.extend(form.warnings.iter().map(|w| format!("! {w}")));
            let changes = ready.lanes.iter().any(|l| l.plan.changes_the_drive());
            if let Some(word) = form.arming_word.as_ref().filter(|_| changes) {
                lines.push(format!(
                    "All that is on this drive will be lost. To allow it, type its serial number or name, {word}, and behind it what may be destroyed if something is found on it."
                ));
            }
            lines
        });
}

/// Says what would happen on a lane.
fn legs_ahead(form: &StartForm, lane: &session::ReadyLane, lanes: usize, lines: &mut Vec<String>) {
    let (legs, most) = (&lane.plan.legs, MOST_LEGS / lanes.max(1));
    let line = |l: &mile_course::PlannedLeg| format!("{:<12} {}", l.name, l.words());
    // What a drive does while it is only watched goes without saying.
    let own = || legs.iter().filter(|l| l.work != mile_course::Work::Watch);
    lines.extend(own().take(most).map(line));
    if own().count() > most {
        lines.push(format!("… and {} legs more", own().count() - most));
    }
    lines.push(String::new());
    let writes = lane.plan.writes();
    let share = lane.endurance().map_or(String::new(), |e| {
        format!(", {:.3} % of the rated endurance", 100.0 * writes.0 as f64 / e.0 as f64)
    });
    let timed = legs.iter().any(|l| matches!(&l.work, mile_course::Work::Transfer(t) if t.by_time));
    let more = if timed { " Legs that only a time ends write what they can besides." } else { "" };
    lines.push(format!("Writes at most {writes}{share}.{more}"));
    lines.extend(lane.plan.notes.iter().filter(|n| !form.warnings.contains(n)).cloned());
}

fn start_key(state: &mut State, mut form: StartForm, key: KeyEvent) {
    let event = Event::Key(key);
    match (key.code, form.field) {
        (KeyCode::Enter, _) => {
            if let Err(text) = start(state, &form) {
                form.outlook = Err(text);
                state.overlay = Some(Overlay::Start(Box::new(form)));
            }
            return;
        }
        (KeyCode::Tab | KeyCode::Down, _) if form.drive.is_none() => form.field = (form.field + 1) % 3,
        (KeyCode::BackTab | KeyCode::Up, _) if form.drive.is_none() => form.field = (form.field + 2) % 3,
        (KeyCode::Tab | KeyCode::BackTab, _) if form.arming_word.is_some() => form.field = 3 - form.field,
        (KeyCode::Right | KeyCode::Down | KeyCode::Char('l' | 'j'), 0) => {
            form.chosen = (form.chosen + 1) % form.choices.len().max(1)
        }
        (KeyCode::Left | KeyCode::Up | KeyCode::Char('h' | 'k'), 0) => {
            form.chosen = (form.chosen + form.choices.len().max(1) - 1) % form.choices.len().max(1);
        }
        (_, 1) => {
            form.path.handle_event(&event);
        }
        (_, 2) => {
            form.size.handle_event(&event);
        }
        (KeyCode::Up | KeyCode::Down, 3) => form.field = 0,
        (_, 3) => {
            // What would happen is the same, whoever allows it.
            form.arm.handle_event(&event);
            if form.outlook.is_err() {
                look_ahead(state, &mut form);
            }
            state.overlay = Some(Overlay::Start(Box::new(form)));
            return;
        }
        _ => {}
    }
    look_ahead(state, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

fn start(state: &mut State, form: &StartForm) -> Result<(), String> {
    let text = |f: crate::Failure| f.message().to_owned();
    let order = order(state, form)?;
    // What is wrong with it is said before a process is made for it.
    let order = session::prepare(order)
        .map_err(text)
        .map_err(|t| t.replace("--arm ", "").replace("--destroy ", ""))?
        .into_order();
    let socket = session::spawn_runner(order, &state.logbook_path).map_err(text)?;
    attach(state, &socket).map_err(text)
}

/// Goes on with the selected run of the logbook.
fn resume(state: &mut State) -> Result<(), crate::Failure> {
    if state.is_underway() {
        return Err(crate::Failure::usage(
            "A run is underway; one run at a time. Stop it first, in its place (3).",
        ));
    }
    let Some(run) = state.logbook.visible().get(state.logbook.selected).map(|e| e.run) else { return Ok(()) };
    let book = Logbook::read(&state.logbook_path)?;
    let order = session::order_to_resume(&book, run, &[], state.speed)?;
    // A drive is armed again by `hollow-mile resume --arm`, which the refusal says.
    let order = session::prepare(order)?.into_order();
    let socket = session::spawn_runner(order, &state.logbook_path)?;
    attach(state, &socket)
}

/// Shows the run of a runner.
pub(crate) fn attach(state: &mut State, socket: &std::path::Path) -> Result<(), crate::Failure> {
    let mut client = Client::connect(socket)?;
    let before = session::told_before(&mut client)?;
    let framing =
        state.live.as_ref().map_or_else(Default::default, |l| super::canvas::Framing::on(l.framing.ruler));
    let mut live = Live::attached(client, before);
    if live.lanes().len() == 1 {
        live.framing = framing;
    }
    state.live = Some(live);
    state.go(Place::Underway);
    Ok(())
}

/// Takes in what a runner says.
pub(crate) fn frame(state: &mut State, jobs: &Jobs, frame: Frame) {
    match frame {
        Frame::Message(lane, told) => message(state, jobs, lane as usize, told),
        Frame::Number(run) => {
            if let Some(live) = &mut state.live {
                live.number = Some(run);
            }
        }
        Frame::Hello(_) | Frame::Backlog(_) => {}
    }
}

/// Takes in messages of the run. After the last one its strings are let go, and its findings are loaded.
pub(crate) fn message(state: &mut State, jobs: &Jobs, lane: usize, message: Message) {
    let Some(live) = &mut state.live else { return };
    let began = matches!(message, Message::Began(_));
    live.take(lane, message);
    if began {
        jobs.list(&state.logbook_path);
    }
    if live.outcome().is_none() {
        return;
    }
    finished(state, jobs);
}

/// The run is over, or its runner is gone.
pub(crate) fn finished(state: &mut State, jobs: &Jobs) {
    let Some(live) = &mut state.live else { return };
    if live.strings.take().is_none() {
        return;
    }
    // What was being asked about a run underway has no object any more.
    if matches!(state.overlay, Some(Overlay::ConfirmStop | Overlay::ConfirmQuit | Overlay::Note(_))) {
        state.overlay = None;
    }
    match (&live.outcome(), live.number) {
        (Some(outcome), Some(run)) => {
            let words = outcome.status.words();
            state.tell(format!(
                "The run is {words}; it is run {run} of the logbook. {} shows its findings, e exports it.",
                Place::Findings.key()
            ));
            show(state, jobs, run);
        }
        (Some(_), None) => state.complain("The run is over, but the logbook does not have it."),
        (None, _) => state.complain(
            "The runner ended unexpectedly. What it had logged is in the logbook; `hollow-mile resume last` goes on with it.",
        ),
    }
    jobs.list(&state.logbook_path);
}

/// Takes in the result of work in the background.
pub(crate) fn done(state: &mut State, jobs: &Jobs, result: Done) {
    match result {
        Done::Listed(Ok(entries)) => {
            state.logbook.entries = entries;
            state.logbook.selected =
                state.logbook.selected.min(state.logbook.visible().len().saturating_sub(1));
        }
        Done::Loaded(Ok(shown)) => {
            if state.findings.loading == Some(shown.run) {
                state.findings.loading = None;
                let same =
                    state.findings.shown.as_ref().is_some_and(|s| (s.run, s.lane) == (shown.run, shown.lane));
                if !same {
                    let ruler = state.findings.framing.ruler;
                    state.findings.framing = super::canvas::Framing::on(ruler);
                }
                state.findings.selected = (!shown.findings.breaks.is_empty()).then_some(0);
                state.findings.shown = Some(*shown);
            }
        }
        Done::Bench(cards) => state.bench.set_real(cards, state.is_demo),
        Done::Checked(checked, background) => course::checked(state, *checked, background),
        Done::Health(Ok(shown)) => {
            if state.health.drive.as_deref() == Some(&shown.card.identity.name) {
                let running =
                    |h: &mile_drive::Health| h.self_test.as_ref().is_some_and(|t| t.running.is_some());
                if shown.card.health.as_ref().is_some_and(running) {
                    // Its progress is looked at as long as it goes on.
                    read_health(state, jobs, Duration::from_secs(3));
                }
                state.health.shown = Some(*shown);
            }
        }
        Done::Tested(Ok(())) => {
            state.tell("The drive has taken the request.");
            read_health(state, jobs, Duration::ZERO);
        }
        Done::Noted(Ok(())) => state.tell("The note is kept with the run."),
        Done::Noted(Err(text)) => state.complain(text),
        Done::Tested(Err(text)) | Done::Health(Err(text)) => state.complain(text),
        Done::Exported(Ok(paths)) => state.tell(format!("Written: {}", paths.join(", "))),
        Done::Loaded(Err(text)) => {
            state.findings.loading = None;
            state.complain(text);
        }
        Done::Listed(Err(text)) | Done::Exported(Err(text)) => state.complain(text),
    }
}
