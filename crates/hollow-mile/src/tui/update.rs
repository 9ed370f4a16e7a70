//! What happens on a key, a click, a message of the run, or the result of work in the background.

pub(super) mod course;
mod mouse;
pub(super) mod start;

use super::jobs::{Done, Jobs};
use super::keys::{self, Action};
use super::places::{self, AtHand, COMPARE, FINDINGS, HEALTH, LOGBOOK, Place, UNDERWAY};
use super::state::{ComparePlace, Grouping, HealthPlace, Live, OfFleet, Overlay, PathFor, State, Wanted};
use super::tasks;
use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use mile_bench::session;
use mile_core::Bytes;
use mile_core::Nanos;
use mile_drive::block::probe::TestRequest;
use mile_drive::health::TestKind;
use mile_logbook::lab::is_lab;
use mile_runner::remote::{Client, Frame};
use mile_runner::{Command, Message};
use std::time::Duration;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

/// Lines that a page goes on by.
const PAGE: usize = 8;

/// Most letters that are pasted into a field of one line: as long as a path may be.
const MOST_PASTED: usize = 4096;

/// Takes in what the terminal says.
pub(crate) fn input(state: &mut State, jobs: &Jobs, event: &Event) {
    match event {
        Event::Key(key) if key.kind != KeyEventKind::Release => {
            state.notice = None;
            if key.code == KeyCode::Char('z') && key.modifiers.contains(KeyModifiers::CONTROL) {
                state.suspend = true;
            } else if state.overlay.is_some() {
                overlay_key(state, jobs, *key);
            } else if state.place.view().is_typed_into(state) {
                state.place.view().typed(state, event, *key);
            } else if let Some(action) = keys::action(state.place, *key) {
                act(state, jobs, action);
            }
        }
        Event::Paste(text) => {
            let into_place = state.overlay.is_none() && state.place.view().is_typed_into(state);
            let taken = into_place && state.place.view().pasted(state, text);
            if !taken && (into_place || state.overlay.is_some()) {
                // Into a field of one line: as if it were typed.
                let typed = text.chars().filter(|c| !c.is_control()).take(MOST_PASTED);
                typed.for_each(|c| input(state, jobs, &Event::Key(KeyCode::Char(c).into())));
            }
        }
        Event::Mouse(event) => mouse::mouse(state, jobs, *event),
        _ => {}
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
                if !said.is_empty() {
                    state.place.view().note(state, jobs, said);
                }
                return;
            }
            text.handle_event(&event);
            state.overlay = Some(Overlay::Note(text));
        }
        Overlay::Chooser(selected) => course::chooser_key(state, jobs, selected, key),
        Overlay::Path(purpose, path) => course::path_key(state, jobs, purpose, path, key),
        Overlay::Start(form) => start::start_key(state, jobs, *form, key),
        Overlay::SelfTest => {
            let request = match key.code {
                KeyCode::Char('s') => TestRequest::Start(TestKind::Short),
                KeyCode::Char('x') => TestRequest::Start(TestKind::Extended),
                KeyCode::Char('c') => TestRequest::Start(TestKind::Conveyance),
                KeyCode::Char('a') => TestRequest::Abort,
                _ => return,
            };
            let simulated = state.health.shown.as_ref().is_some_and(|s| s.card.identity.simulated);
            match (request, &state.health.drive) {
                (TestRequest::Start(kind), Some(drive)) if simulated => {
                    let drive = drive.clone();
                    start::ask_self_test(state, jobs, drive, kind);
                }
                (request, Some(drive)) => jobs.self_test(drive, request),
                (_, None) => {}
            }
        }
        Overlay::ConfirmStop => {
            if matches!(key.code, KeyCode::Char('y') | KeyCode::Enter) {
                command(state, Command::Stop);
            }
        }
        Overlay::ConfirmQuit => match key.code {
            KeyCode::Char('l') | KeyCode::Enter if !state.is_demo => state.quit = true,
            // All runs are told when the terminal is left.
            KeyCode::Char('s') => (state.stopping, state.quit) = (true, true),
            _ => {}
        },
    }
}

/// Reads the health of the drive that is selected on the bench.
pub(super) fn arrive_at_health(state: &mut State, jobs: &Jobs) {
    let drive = state.bench.cards.get(state.bench.selected).map(|c| c.identity.name.clone());
    if drive != state.health.drive {
        state.health = HealthPlace { drive, ..HealthPlace::default() };
    }
    state.health.then = None;
    // A run may have changed it since; what is shown stays until the answer is there.
    read_health(state, jobs, Duration::ZERO);
}

fn read_health(state: &State, jobs: &Jobs, after: Duration) {
    if let Some(drive) = &state.health.drive {
        jobs.health(&state.logbook_path, drive, after);
    }
}

/// Keeps what the drive told, or asks for a self-test of it; where the drive has not answered yet, once it has.
fn with_health(state: &mut State, jobs: &Jobs, action: Action) {
    let place = &mut state.health;
    match (&place.drive, &place.shown) {
        (None, _) => state.complain("There is no drive here; select one on the bench."),
        (Some(_), None) => place.then = Some(action),
        (Some(_), Some(shown)) if action == Action::KeepHealth => {
            jobs.keep_health(&state.logbook_path, &shown.card);
        }
        (Some(_), Some(shown)) => match shown.card.health.as_ref().and_then(|h| h.self_test.as_ref()) {
            None => state.complain("Self-tests: not offered by this drive."),
            Some(_) => state.overlay = Some(Overlay::SelfTest),
        },
    }
}

pub(super) fn command(state: &mut State, command: Command) {
    if let Some(strings) = state.live.as_ref().and_then(|l| l.strings.as_ref()) {
        // The run may have ended just now.
        let _ = strings.commands.send(command);
    }
}

/// Does what a key or the command line asks for.
pub(crate) fn act(state: &mut State, jobs: &Jobs, action: Action) {
    if state.place.view().canvas(state, action) {
        return;
    }
    match action {
        Action::Go(place) => come_to(state, jobs, place),
        Action::NextPlace => come_to(state, jobs, state.place.after(1)),
        Action::PreviousPlace => come_to(state, jobs, state.place.after(places::ALL.len() - 1)),
        Action::ReadHealth => read_health(state, jobs, Duration::ZERO),
        Action::RawHealth => {
            (state.health.raw, state.health.scroll) = (!state.health.raw, 0);
        }
        Action::KeepHealth | Action::SelfTest => with_health(state, jobs, action),
        Action::Resume => {
            if let Err(text) = resume(state, jobs) {
                state.complain(text);
            }
        }
        Action::Back if tasks::give_up(state) => {}
        Action::Back => {
            if let Some(place) = state.before.pop() {
                state.place = place;
            }
        }
        Action::Quit if state.underway() > 0 => state.overlay = Some(Overlay::ConfirmQuit),
        Action::Quit => state.quit = true,
        Action::Help => state.overlay = Some(Overlay::Help),
        Action::Commands => state.overlay = Some(Overlay::Commands { typed: Input::default(), selected: 0 }),
        Action::Copy => {
            let view = state.place.view();
            let text = view.copied(state).unwrap_or_else(|| view.sentence(state).0);
            let lines = text.lines().count();
            state.tell(format!(
                "Copied to the clipboard of the terminal, where it allows that: {}.",
                if lines == 1 { "one line".into() } else { format!("{lines} lines") }
            ));
            state.clipboard = Some(text);
        }
        Action::Theme => state.theme = state.theme.other(),
        Action::Up => state.place.view().step(state, -1),
        Action::Down => state.place.view().step(state, 1),
        Action::First => state.place.view().step(state, isize::MIN / 2),
        Action::Last => state.place.view().step(state, isize::MAX / 2),
        Action::CursorLeft => state.place.view().with_framing(state, &mut |f, s| f.step(s, -1.0)),
        Action::CursorRight => state.place.view().with_framing(state, &mut |f, s| f.step(s, 1.0)),
        Action::CursorFarLeft => state.place.view().with_framing(state, &mut |f, s| f.step(s, -10.0)),
        Action::CursorFarRight => state.place.view().with_framing(state, &mut |f, s| f.step(s, 10.0)),
        Action::ZoomIn => state.place.view().with_framing(state, &mut |f, s| f.zoom(s, 0.5)),
        Action::ZoomOut => state.place.view().with_framing(state, &mut |f, s| f.zoom(s, 2.0)),
        Action::ShowAll => state.place.view().with_framing(state, &mut |f, _| f.reset()),
        Action::TurnRuler => {
            if !state.place.view().turn_ruler(state) {
                state.place.view().with_framing(state, &mut |f, s| f.turn(s.subject.trace));
            }
        }
        Action::NextBreak => step_break(state, 1),
        Action::NextLane => {
            if !state.place.view().next_lane(state, jobs) {
                state.complain("This run is on one drive.");
            }
        }
        Action::NextRun => {
            if !state.next_run() {
                state.complain("No other run is underway.");
            }
        }
        Action::StartLanes => start::ask_start_lanes(state, jobs),
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
        Action::Start => start::ask_start(state, jobs),
        Action::Open if state.place == UNDERWAY && asked(state) => command(state, Command::Resume),
        Action::Open => open(state, jobs),
        Action::Edit => state.course.editing = true,
        Action::NewCourse => state.overlay = Some(Overlay::Chooser(0)),
        Action::FormatCourse => course::format(state),
        Action::SaveCourse => course::ask_path(state, PathFor::Save),
        Action::OpenCourse => course::ask_path(state, PathFor::Open),
        Action::NextDrive => course::next_drive(state, jobs),
        Action::NextModel | Action::NextCourse => fleet(state, jobs, action),
        Action::StartCourse => course::ask_start(state, jobs),
        Action::Export => export(state, jobs),
        Action::NextGrouping => {
            state.bench.grouping = state.bench.grouping.after();
            state.tell(match state.bench.grouping {
                Grouping::None => "The drives are not grouped.".to_owned(),
                by => format!("The drives are grouped by {}.", by.word()),
            });
        }
        Action::Filter => state.logbook.filtering = true,
        Action::MarkA => mark(state, 0),
        Action::MarkB => mark(state, 1),
        Action::Compare => {
            compare(state, jobs);
            if state.compare.asked.is_some() {
                state.go(COMPARE);
            }
        }
        Action::Report => report(state, jobs),
        Action::RemoveRun => match state.logbook.visible().get(state.logbook.selected).map(|e| e.run) {
            Some(run) => jobs.remove(&state.logbook_path, Some(run)),
            None => state.complain("There is no run to remove."),
        },
        Action::RestoreRun => jobs.remove(&state.logbook_path, None),
        Action::StartNext => start::start_next(state, jobs),
        Action::OtherSide => start::other_side(state, jobs),
        Action::NextPanel => {
            (state.findings.panel, state.findings.scroll) = (state.findings.panel.after(), 0);
        }
        Action::PageDown => state.findings.scroll += PAGE,
        Action::PageUp => state.findings.scroll = state.findings.scroll.saturating_sub(PAGE),
        Action::NoteBreak if state.findings.shown.is_none() => state.complain("No run is open."),
        Action::NoteBreak if state.findings.following.is_some() => {
            state.complain(format!("The run goes on; notes are taken in place {}.", UNDERWAY.key()));
        }
        Action::NoteBreak => state.overlay = Some(Overlay::Note(Input::default())),
    }
}

/// Marks the selected run of the logbook for a side, or takes the mark away. A run is on one side: there is nothing in it to hold against itself.
fn mark(state: &mut State, side: usize) {
    let Some(entry) = state.logbook.visible().get(state.logbook.selected).map(|e| (e.run, e.status)) else {
        return state.complain("There is no run to mark.");
    };
    if entry.1 == mile_runner::Status::Underway {
        return state.complain("The run goes on; it can be compared when it has ended.");
    }
    state.logbook.sides[1 - side].retain(|r| *r != entry.0);
    let marks = &mut state.logbook.sides[side];
    match marks.iter().position(|r| *r == entry.0) {
        Some(place) => {
            marks.remove(place);
        }
        None => {
            marks.push(entry.0);
            marks.sort_unstable();
        }
    }
    let said = |runs: &[i64]| match runs {
        [] => "none".to_owned(),
        runs => runs.iter().map(i64::to_string).collect::<Vec<_>>().join(", "),
    };
    let [a, b] = &state.logbook.sides;
    state.tell(format!("Side A: {}. Side B: {}. c compares them.", said(a), said(b)));
}

/// Compares the runs that are marked in the logbook.
pub(super) fn compare(state: &mut State, jobs: &Jobs) {
    let sides = state.logbook.sides.clone();
    if sides.iter().all(Vec::is_empty) {
        return state.complain(format!(
            "Mark runs in the logbook ({}): a for side A, b for side B. With one side marked it is held against what is claimed.",
            LOGBOOK.key()
        ));
    }
    state.compare.asked = Some(sides.clone());
    let comparing = jobs.compare(&state.logbook_path, sides);
    state.wait_for(comparing);
}

/// Writes a report of the runs that are marked, or of the selected one.
fn report(state: &mut State, jobs: &Jobs) {
    let mut sides: Vec<Vec<i64>> = state.logbook.sides.iter().filter(|s| !s.is_empty()).cloned().collect();
    // Elsewhere it is of the run that is shown, whatever is marked.
    let of_sides = state.place == COMPARE || state.place == LOGBOOK && sides.len() == 2;
    if sides.is_empty() || !of_sides {
        let Some(at_hand) = state.place.view().at_hand(state) else {
            return state.complain("There is no run to report on.");
        };
        sides = vec![vec![at_hand.run]];
    }
    let writing = jobs.report(&state.logbook_path, sides);
    state.wait_for(writing);
}

fn come_to(state: &mut State, jobs: &Jobs, place: Place) {
    state.go(place);
    place.view().arrive(state, jobs);
}

fn step_break(state: &mut State, by: isize) {
    state.place.view().step_break(state, by);
    state.place.view().with_framing(state, &mut |framing, sight| {
        if let Some(b) = sight.selected.and_then(|i| sight.subject.breaks.get(i)) {
            framing.show_break(sight, b);
        }
    });
}

fn open(state: &mut State, jobs: &Jobs) {
    if watch(state, jobs) {
        return;
    }
    match state.place.view().at_hand(state) {
        Some(at_hand) => {
            show(state, jobs, at_hand.run);
            state.go(FINDINGS);
        }
        None if state.is_underway() => {
            state.complain("The run has no number in the logbook yet; its findings come with it.");
        }
        None if !state.tasks.is_empty() => state.tell("What is shown here is still being read."),
        None => state.complain("There is no run to open."),
    }
}

/// Follows the selected run of an archive, where it is underway. Gives whether it is.
fn watch(state: &mut State, jobs: &Jobs) -> bool {
    let selected = if state.place == LOGBOOK && is_lab(&state.logbook_path) {
        state.logbook.visible().get(state.logbook.selected).map(|e| (e.run, e.status))
    } else {
        None
    };
    let Some((run, mile_runner::Status::Underway)) = selected else { return false };
    if state.live.as_ref().is_some_and(|live| live.number == Some(run)) {
        state.go(UNDERWAY);
    } else if let Err(text) = start::room_for_one_more(state) {
        state.complain(text);
    } else {
        jobs.watch_run(&state.logbook_path, run);
    }
    true
}

/// Where no run is open, opens the run underway, or the newest of the logbook that the place can show.
pub(crate) fn show_something(state: &mut State, jobs: &Jobs, wanted: Wanted) {
    if !state.findings.is_empty() {
        return;
    }
    match state.live.as_ref().and_then(|l| l.number) {
        Some(run) => show(state, jobs, run),
        None => {
            state.findings.missing.clear();
            jobs.newest(&state.logbook_path, wanted);
        }
    }
}

/// Loads a run into the place of findings.
pub(crate) fn show(state: &mut State, jobs: &Jobs, run: i64) {
    state.findings.loading = Some(run);
    let reading = jobs.load(&state.logbook_path, run, 0);
    state.wait_for(reading);
}

/// Has the run that is underway looked at again, the less often the longer it is. One look at a time is asked for, however often the run is opened.
fn follow(state: &mut State, jobs: &Jobs, samples: usize) {
    let findings = &mut state.findings;
    if let Some((run, lane)) = findings.following.filter(|_| !findings.refreshing) {
        findings.refreshing = true;
        let pause = Duration::from_millis(5000 + samples as u64 / 10);
        jobs.load_again(&state.logbook_path, (run, lane), pause);
    }
}

fn export(state: &mut State, jobs: &Jobs) {
    if state.place == HEALTH {
        let story = state.health.shown.as_ref().and_then(|shown| Some((shown.story.as_ref()?, &shown.card)));
        match story.map(|(story, card)| (crate::history::strips::figure(story), card)) {
            Some((Ok(Some(svg)), card)) => {
                let of = card.identity.serial.as_deref().unwrap_or(&card.identity.name);
                let writing = jobs.export_story(of, svg);
                state.wait_for(writing);
            }
            Some((Err(f), _)) => state.complain(f.message()),
            _ => state.complain(
                "The drive was looked at once at most, so that there is nothing to draw over time; w keeps what it tells now.",
            ),
        }
        return;
    }
    match state.place.view().at_hand(state) {
        Some(AtHand { run, lane, framing }) => {
            let writing = jobs.export(&state.logbook_path, (run, lane), framing.ruler, framing.window());
            state.wait_for(writing);
        }
        None if state.is_underway() => {
            state.complain("The run has no number in the logbook yet; it can be exported once it has.");
        }
        None => state.complain("There is no run to export."),
    }
}

/// Whether the run waits for the operator.
fn asked(state: &State) -> bool {
    state.live.as_ref().is_some_and(Live::is_asking)
}

/// Keeps a note with the run that is looked at: on the selected break, or at the cursor, or at its end.
pub(super) fn note_break(state: &mut State, jobs: &Jobs, said: String) {
    let selected = state.findings.selected;
    let cursor = state
        .findings
        .framing
        .cursor
        .zip(state.findings.sight().map(|s| state.findings.framing.resolve(&s).0));
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

/// Shows the next model of the fleet, or the next course of the model.
fn fleet(state: &mut State, jobs: &Jobs, action: Action) {
    let place = &mut state.fleet;
    if action == Action::NextModel {
        place.of = OfFleet { model: (place.of.model + 1) % place.models.len().max(1), course: None };
        // The drives of one model are not shown under the name of another.
        (place.shown, place.selected) = (None, 0);
    } else if let Some(shown) = &place.shown {
        let at = shown.courses.iter().position(|c| c.0 == shown.course).unwrap_or(0);
        place.of.course = shown.courses.get((at + 1) % shown.courses.len().max(1)).map(|c| c.0.clone());
    }
    (place.asked, place.given_up) = (true, false);
    let reading = jobs.fleet(&state.logbook_path, place.of.clone());
    state.wait_for(reading);
}

/// Goes on with the selected run of the logbook.
fn resume(state: &mut State, jobs: &Jobs) -> Result<(), String> {
    start::room_for_one_more(state)?;
    if let Some(run) = state.logbook.visible().get(state.logbook.selected).map(|e| e.run) {
        state.tell(format!("Run {run} goes on as soon as its drive has been looked at …"));
        jobs.resume(&state.logbook_path, run, state.speed);
    }
    Ok(())
}

/// Shows the run of a runner, before there is a screen.
pub(crate) fn attach(
    state: &mut State,
    jobs: &Jobs,
    socket: &std::path::Path,
) -> Result<(), mile_bench::Failure> {
    let mut client = Client::connect(socket)?;
    let before = session::told_before(&mut client)?;
    shown(state, jobs, (client, before))
}

/// Shows a run. Others that are underway go on behind it.
pub(crate) fn shown(
    state: &mut State,
    jobs: &Jobs,
    (client, before): (Client, Vec<session::Told>),
) -> Result<(), mile_bench::Failure> {
    let framing =
        state.live.as_ref().map_or_else(Default::default, |l| super::canvas::Framing::on(l.framing.ruler));
    state.runs_seen += 1;
    // One of this bench has another number in the archive than in the file in which it is recorded.
    let recorded = client.hello.run.filter(|_| client.hello.pid != 0 && is_lab(&state.logbook_path));
    let mut live = Live::attached(state.runs_seen, client, before, state.told.0.clone())?;
    if let Some(run) = recorded {
        live.number = None;
        jobs.archived(&state.logbook_path, live.id, run);
    }
    if !live.is_stacked() {
        live.framing = framing;
    }
    let before = state.live.replace(live);
    state.others.extend(before.filter(|l| !l.is_over()));
    state.go(UNDERWAY);
    Ok(())
}

/// Takes in what a runner says, or that it is gone.
pub(crate) fn told(state: &mut State, jobs: &Jobs, id: u64, frame: Option<Frame>) {
    match frame {
        Some(Frame::Message(lane, told)) => message(state, jobs, id, lane as usize, told),
        Some(Frame::Number(run)) => {
            numbered(state, jobs, id, run);
        }
        Some(Frame::Hello(_) | Frame::Backlog(_)) => {}
        None => finished(state, jobs, id),
    }
}

/// A run has its number in the file in which it is recorded.
fn numbered(state: &mut State, jobs: &Jobs, id: u64, run: i64) {
    let lab = is_lab(&state.logbook_path);
    let Some(live) = state.run_mut(id) else { return };
    match lab {
        true => jobs.archived(&state.logbook_path, id, run),
        false => live.number = Some(run),
    }
}

/// Takes in messages of a run. After the last one its strings are let go, and its findings are loaded.
pub(crate) fn message(state: &mut State, jobs: &Jobs, id: u64, lane: usize, message: Message) {
    let Some(live) = state.run_mut(id) else { return };
    let began = matches!(message, Message::Began(_));
    live.take(lane, message);
    let over = live.outcome().is_some();
    if began {
        jobs.list(&state.logbook_path);
    }
    if over {
        finished(state, jobs, id);
    }
}

/// A run is over, or its runner is gone.
pub(crate) fn finished(state: &mut State, jobs: &Jobs, id: u64) {
    let Some(live) = state.run_mut(id) else { return };
    if live.strings.take().is_none() {
        return;
    }
    let (outcome, number, called) = (live.outcome(), live.number, live.called());
    let is_shown = state.live.as_ref().is_some_and(|l| l.id == id);
    // What was being asked about a run underway has no object any more.
    let asked = matches!(state.overlay, Some(Overlay::ConfirmStop | Overlay::ConfirmQuit | Overlay::Note(_)));
    if asked && is_shown {
        state.overlay = None;
    }
    match (outcome, number) {
        (Some(outcome), Some(run)) if !is_shown => {
            state.logbook.put_beside(id, run);
            let key = LOGBOOK.key();
            state.tell(format!("{called} is {}; the logbook ({key}) has it.", outcome.status.words()));
        }
        (Some(outcome), Some(run)) => {
            let words = outcome.status.words();
            let next = match state.logbook.put_beside(id, run) {
                Some(first) => format!("{} compares it with run {first}", COMPARE.key()),
                None => format!("{} shows its findings, e exports it", FINDINGS.key()),
            };
            state.tell(format!("The run is {words}; it is run {run} of the logbook. {next}."));
            show(state, jobs, run);
        }
        (Some(_), None) if is_lab(&state.logbook_path) => state.complain(
            "The run is over, and the archive does not have all of it yet; `hollow-mile lab forward` brings it.",
        ),
        (Some(_), None) => state.complain("The run is over, but the logbook does not have it."),
        (None, _) => state.complain(format!(
            "The runner of {} ended unexpectedly. What it had logged is in the logbook; `hollow-mile resume` goes on with it.",
            called.to_lowercase()
        )),
    }
    state.others.retain(|l| l.id != id);
    jobs.list(&state.logbook_path);
}

/// Takes in the result of work in the background.
pub(crate) fn done(state: &mut State, jobs: &Jobs, result: Done) {
    match result {
        Done::Task(id, result) => {
            // What came of work that was given up is not taken in.
            if let Some(at) = state.tasks.iter().position(|t| t.id == id) {
                state.tasks.remove(at);
                done(state, jobs, *result);
            }
        }
        Done::Step(id, step) => {
            state.tasks.iter_mut().filter(|t| t.id == id).for_each(|t| t.step.clone_from(&step))
        }
        Done::Listed(Ok(entries)) => {
            state.bench.take_in(&entries);
            state.logbook.take_in(entries);
            jobs.news(&state.logbook_path, &state.bench.cards);
            // It is read anew when it is come to next.
            state.fleet.asked = false;
        }
        Done::Read(early) => {
            state.findings.early = Some(early).filter(|e| state.findings.loading == Some(e.run));
        }
        Done::Loaded(Ok(shown)) => {
            state.findings.early = None;
            let asked = state.findings.loading == Some(shown.run);
            if asked {
                state.findings.loading = None;
            } else {
                state.findings.refreshing = false;
            }
            let of = (shown.run, shown.lane);
            if asked || state.findings.loading.is_none() && state.findings.following == Some(of) {
                state.findings.following = (shown.status == mile_runner::Status::Underway).then_some(of);
                follow(state, jobs, shown.trace.len());
                let same =
                    state.findings.shown.as_ref().is_some_and(|s| (s.run, s.lane) == (shown.run, shown.lane));
                if !same {
                    state.findings.scroll = 0;
                    let ruler = state.findings.framing.ruler;
                    let kept = state.findings.kept.take().filter(|k| k.0 == shown.run);
                    state.findings.framing = kept.map_or(super::canvas::Framing::on(ruler), |k| k.1);
                }
                // What is looked at again keeps what is selected, as far as it is still there.
                let last = shown.findings.breaks.len().checked_sub(1);
                let kept = state.findings.selected.filter(|_| same && !asked).unwrap_or(0);
                state.findings.selected = last.map(|last| kept.min(last));
                state.findings.shown = Some(*shown);
            } else {
                // It was of another run: the look at this one is still to be asked for.
                follow(state, jobs, 0);
            }
        }
        Done::Ahead(question, outlook) => {
            if let Some(Overlay::Start(form)) = &mut state.overlay
                && form.asked == question
            {
                form.outlook = Some(outlook);
            }
        }
        Done::Setup(drive, Some(last)) => start::last_setup(state, &drive, &last),
        Done::Setup(_, None) => {}
        Done::Started(question, run) => start::started(state, jobs, question, run),
        Done::Fleet(of, _) if of != state.fleet.of => {}
        Done::Fleet(_, Ok(found)) => {
            let (models, shown) = *found;
            (state.fleet.models, state.fleet.shown, state.fleet.selected) = (models, shown, 0);
            state.fleet.asked = state.fleet.shown.is_some();
        }
        Done::Fleet(_, Err(text)) => {
            state.fleet.asked = false;
            state.complain(text);
        }
        Done::Watched(Ok(run)) => {
            if let Err(f) = shown(state, jobs, *run) {
                state.complain(f.message());
            }
        }
        Done::Watched(Err(text)) => state.complain(text),
        Done::Archived(id, run) => {
            if let Some(live) = state.run_mut(id) {
                live.number = Some(run);
            }
        }
        Done::Bench(cards) => {
            let before = state.bench.cards.len();
            state.bench.set_real(cards, state.is_demo);
            if state.bench.cards.len() != before {
                jobs.news(&state.logbook_path, &state.bench.cards);
            }
        }
        Done::News(news) => state.bench.news = news,
        Done::Checked(checked, background) => course::checked(state, *checked, background),
        Done::Health(Ok(shown)) => {
            if state.health.drive.as_deref() == Some(&shown.card.identity.name) {
                let running =
                    |h: &mile_drive::Health| h.self_test.as_ref().is_some_and(|t| t.running.is_some());
                if shown.card.health.as_ref().is_some_and(running) {
                    // Its progress is looked at as long as it goes on.
                    read_health(state, jobs, Duration::from_secs(3));
                }
                (state.health.shown, state.health.strips) = (Some(*shown), None);
                let then = state.health.then.take();
                if let Some(action) = then.filter(|_| state.place == HEALTH && state.overlay.is_none()) {
                    with_health(state, jobs, action);
                }
            }
        }
        Done::Kept(Ok(line)) => {
            state.tell(format!("Kept: {line}"));
            read_health(state, jobs, Duration::ZERO);
        }
        Done::Tested(Ok(())) => {
            state.tell("The drive has taken the request.");
            read_health(state, jobs, Duration::ZERO);
        }
        Done::Removed(Ok((run, text))) => {
            state.logbook.sides.iter_mut().for_each(|side| side.retain(|r| *r != run));
            state.tell(text);
            jobs.list(&state.logbook_path);
        }
        Done::Removed(Err(text)) => state.complain(text),
        Done::Noted(Ok(())) => state.tell("The note is kept with the run."),
        Done::Noted(Err(text)) => state.complain(text),
        Done::Tested(Err(text)) | Done::Health(Err(text)) | Done::Kept(Err(text)) => state.complain(text),
        Done::Exported(Ok(paths)) => state.tell(format!("Written: {}", paths.join(", "))),
        Done::Newest(wanted, Ok(None)) => state.findings.missing.push(wanted),
        Done::Newest(_, Ok(Some(run))) => {
            if state.findings.is_empty() {
                show(state, jobs, run);
            }
        }
        Done::Newest(_, Err(text)) => state.complain(text),
        Done::Loaded(Err(text)) => {
            (state.findings.loading, state.findings.early) = (None, None);
            (state.findings.following, state.findings.refreshing) = (None, false);
            state.complain(text);
        }
        // Other sides were asked for since.
        Done::Compared(sides, _) if state.compare.asked.as_ref() != Some(&sides) => {}
        Done::Compared(sides, found) => {
            let (found, walks) = match found {
                Ok(both) => (Ok(Box::new(both.0)), both.1),
                Err(text) => (Err(text), Vec::new()),
            };
            state.compare = ComparePlace { found: Some(found), walks, of: sides, ..ComparePlace::default() };
        }
        Done::Listed(Err(text)) | Done::Exported(Err(text)) => state.complain(text),
    }
}
