//! What a key or the command line asks for.

use super::{course, start};
use crate::tui::action::Action;
use crate::tui::jobs::Jobs;
use crate::tui::place::{self, COMPARE, FINDINGS, HEALTH, LOGBOOK, Place, UNDERWAY};
use crate::tui::places::view;
use crate::tui::requests::{command, compare, read_health, show};
use crate::tui::state::{Grouping, Live, OfFleet, Overlay, PathFor, State};
use crate::tui::tasks;
use crate::tui::view::AtHand;
use mile_logbook::lab::is_lab;
use mile_runner::Command;
use std::time::Duration;
use tui_input::Input;

/// Lines that a page goes on by.
const PAGE: usize = 8;

/// Keeps what the drive told, or asks for a self-test of it; where the drive has not answered yet, once it has.
pub(super) fn with_health(state: &mut State, jobs: &Jobs, action: Action) {
    let place = &mut state.health;
    match (&place.drive, &place.shown) {
        (None, _) => state.complain("There is no drive here; select one on the bench."),
        (Some(_), None) => place.then = Some(action),
        (Some(_), Some(shown)) if action == Action::KeepHealth => {
            jobs.keep_health(&state.setup.logbook_path, &shown.card);
        }
        (Some(_), Some(shown)) => match shown.card.health.as_ref().and_then(|h| h.self_test.as_ref()) {
            None => state.complain("Self-tests: not offered by this drive."),
            Some(_) => state.overlay = Some(Overlay::SelfTest),
        },
    }
}

/// Does what a key or the command line asks for.
pub(crate) fn act(state: &mut State, jobs: &Jobs, action: Action) {
    if view(state.place).canvas(state, action) {
        return;
    }
    match action {
        Action::Go(place) => come_to(state, jobs, place),
        Action::NextPlace => come_to(state, jobs, state.place.after(1)),
        Action::PreviousPlace => come_to(state, jobs, state.place.after(place::ALL.len() - 1)),
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
        Action::Quit if state.runs.underway() > 0 => state.overlay = Some(Overlay::ConfirmQuit),
        Action::Quit => state.outside.quit = true,
        Action::Help => state.overlay = Some(Overlay::Help),
        Action::Commands => state.overlay = Some(Overlay::Commands { typed: Input::default(), selected: 0 }),
        Action::Copy => {
            let here = view(state.place);
            let text = here.copied(state).unwrap_or_else(|| here.sentence(state).0);
            let lines = text.lines().count();
            state.tell(format!(
                "Copied to the clipboard of the terminal, where it allows that: {}.",
                if lines == 1 { "one line".into() } else { format!("{lines} lines") }
            ));
            state.outside.clipboard = Some(text);
        }
        Action::Theme => state.theme = state.theme.other(),
        Action::Up => view(state.place).step(state, -1),
        Action::Down => view(state.place).step(state, 1),
        Action::First => view(state.place).step(state, isize::MIN / 2),
        Action::Last => view(state.place).step(state, isize::MAX / 2),
        Action::CursorLeft => view(state.place).with_framing(state, &mut |f, s| f.step(s, -1.0)),
        Action::CursorRight => view(state.place).with_framing(state, &mut |f, s| f.step(s, 1.0)),
        Action::CursorFarLeft => view(state.place).with_framing(state, &mut |f, s| f.step(s, -10.0)),
        Action::CursorFarRight => view(state.place).with_framing(state, &mut |f, s| f.step(s, 10.0)),
        Action::ZoomIn => view(state.place).with_framing(state, &mut |f, s| f.zoom(s, 0.5)),
        Action::ZoomOut => view(state.place).with_framing(state, &mut |f, s| f.zoom(s, 2.0)),
        Action::ShowAll => view(state.place).with_framing(state, &mut |f, _| f.reset()),
        Action::TurnRuler => {
            if !view(state.place).turn_ruler(state) {
                view(state.place).with_framing(state, &mut |f, s| f.turn(s.subject.trace));
            }
        }
        Action::NextBreak => step_break(state, 1),
        Action::NextLane => {
            if !view(state.place).next_lane(state, jobs) {
                state.complain("This run is on one drive.");
            }
        }
        Action::NextRun => {
            if !state.runs.next_run() {
                state.complain("No other run is underway.");
            }
        }
        Action::StartLanes => start::ask_start_lanes(state, jobs),
        Action::PreviousBreak => step_break(state, -1),
        Action::Pause | Action::Note | Action::SkipLeg | Action::Stop if !state.runs.is_underway() => {
            state.complain("No run is underway.");
        }
        Action::Pause if asked(state) => command(state, Command::Resume),
        Action::Pause => {
            let paused = state.runs.live.as_ref().is_some_and(Live::is_paused);
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
            Some(run) => jobs.remove(&state.setup.logbook_path, Some(run)),
            None => state.complain("There is no run to remove."),
        },
        Action::RestoreRun => jobs.remove(&state.setup.logbook_path, None),
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

/// Writes a report of the runs that are marked, or of the selected one.
fn report(state: &mut State, jobs: &Jobs) {
    let mut sides: Vec<Vec<i64>> = state.logbook.sides.iter().filter(|s| !s.is_empty()).cloned().collect();
    // Elsewhere it is of the run that is shown, whatever is marked.
    let of_sides = state.place == COMPARE || state.place == LOGBOOK && sides.len() == 2;
    if sides.is_empty() || !of_sides {
        let Some(at_hand) = view(state.place).at_hand(state) else {
            return state.complain("There is no run to report on.");
        };
        sides = vec![vec![at_hand.run]];
    }
    let writing = jobs.report(&state.setup.logbook_path, sides);
    state.wait_for(writing);
}

pub(super) fn come_to(state: &mut State, jobs: &Jobs, place: Place) {
    state.go(place);
    view(place).arrive(state, jobs);
}

fn step_break(state: &mut State, by: isize) {
    view(state.place).step_break(state, by);
    view(state.place).with_framing(state, &mut |framing, sight| {
        if let Some(b) = sight.selected.and_then(|i| sight.subject.breaks.get(i)) {
            framing.show_break(sight, b);
        }
    });
}

fn open(state: &mut State, jobs: &Jobs) {
    if watch(state, jobs) {
        return;
    }
    match view(state.place).at_hand(state) {
        Some(at_hand) => {
            show(state, jobs, at_hand.run);
            state.go(FINDINGS);
        }
        None if state.runs.is_underway() => {
            state.complain("The run has no number in the logbook yet; its findings come with it.");
        }
        None if !state.tasks.is_empty() => state.tell("What is shown here is still being read."),
        None => state.complain("There is no run to open."),
    }
}

/// Follows the selected run of an archive, where it is underway. Gives whether it is.
fn watch(state: &mut State, jobs: &Jobs) -> bool {
    let selected = if state.place == LOGBOOK && is_lab(&state.setup.logbook_path) {
        state.logbook.visible().get(state.logbook.selected).map(|e| (e.run, e.status))
    } else {
        None
    };
    let Some((run, mile_runner::Status::Underway)) = selected else { return false };
    if state.runs.live.as_ref().is_some_and(|live| live.number == Some(run)) {
        state.go(UNDERWAY);
    } else if let Err(text) = start::room_for_one_more(state) {
        state.complain(text);
    } else {
        jobs.watch_run(&state.setup.logbook_path, run);
    }
    true
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
    match view(state.place).at_hand(state) {
        Some(AtHand { run, lane, framing }) => {
            let writing =
                jobs.export(&state.setup.logbook_path, (run, lane), framing.ruler, framing.window());
            state.wait_for(writing);
        }
        None if state.runs.is_underway() => {
            state.complain("The run has no number in the logbook yet; it can be exported once it has.");
        }
        None => state.complain("There is no run to export."),
    }
}

/// Whether the run waits for the operator.
fn asked(state: &State) -> bool {
    state.runs.live.as_ref().is_some_and(Live::is_asking)
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
    let reading = jobs.fleet(&state.setup.logbook_path, place.of.clone());
    state.wait_for(reading);
}

/// Goes on with the selected run of the logbook.
fn resume(state: &mut State, jobs: &Jobs) -> Result<(), String> {
    start::room_for_one_more(state)?;
    if let Some(run) = state.logbook.visible().get(state.logbook.selected).map(|e| e.run) {
        state.tell(format!("Run {run} goes on as soon as its drive has been looked at …"));
        jobs.resume(&state.setup.logbook_path, run, state.setup.speed);
    }
    Ok(())
}
