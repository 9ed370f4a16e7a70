//! The course that is edited: its text, and when it is looked at.

use super::check::Question;
use super::jobs::Jobs;
use super::state::{Background, Checked, State};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use mile_bench::bench::Card;
use mile_bench::courses::READY;
use ratatui_textarea::Input as Typed;
use std::sync::Arc;

/// The drive that the course is looked at on: the one selected on the bench.
pub(crate) fn card(state: &State) -> Option<&Card> {
    state.bench.cards.get(state.bench.selected)
}

/// What the place needs when it is come to: a course to begin with, and a look at it on the drive selected on the bench.
pub(crate) fn arrive(state: &mut State, jobs: &Jobs) {
    if state.course.text().trim().is_empty() {
        let first = READY[0];
        let text = card(state).map_or_else(|| first.text.to_owned(), |c| first.for_drive(c));
        state.course.set(&text);
        check(state, jobs);
        return;
    }
    let drive = card(state).map(|c| c.identity.name.clone());
    if drive != state.course.drive || state.course.checked.generation == 0 {
        check(state, jobs);
    }
}

/// Most that may be pasted, bytes: more than any course that a person writes.
const MOST_PASTED: usize = 1 << 20;

/// Text that is pasted into the course.
pub(crate) fn paste(state: &mut State, text: &str) {
    if text.len() > MOST_PASTED {
        return state.complain("This is more than 1 MiB of text, which is no course; nothing was pasted.");
    }
    // Codes that steer a terminal are no part of a course, and line ends come in three kinds.
    let text: String = text
        .replace("\r\n", "\n")
        .chars()
        .map(|c| if c == '\r' { '\n' } else { c })
        .filter(|c| !c.is_control() || matches!(c, '\n' | '\t'))
        .collect();
    state.course.editor.insert_str(text);
    changed(state);
}

/// Has the course looked at, if it was changed since that was asked last and nothing is being looked at now: a text that changes with
/// every key is looked at as often as that can be done, and not once for each key.
pub(crate) fn look_when_due(state: &mut State, jobs: &Jobs) {
    if state.course.due && !state.course.looking {
        check(state, jobs);
    }
}

/// Has the course looked at anew.
pub(crate) fn check(state: &mut State, jobs: &Jobs) {
    (state.course.due, state.course.looking) = (false, true);
    // For one drive it is the selected one, or a file.
    let cards: Vec<Card> = card(state).cloned().into_iter().collect();
    let several: Vec<Card> = state.bench.for_lanes().into_iter().cloned().collect();
    state.course.drive = cards.first().map(|c| c.identity.name.clone());
    state.course.generation += 1;
    jobs.check(Question {
        text: state.course.text(),
        generation: state.course.generation,
        cards,
        several,
        logbook: state.setup.logbook_path.clone(),
        background: state.course.background.clone(),
    });
}

/// Takes in what was found of the course, unless it was changed since.
pub(crate) fn checked(state: &mut State, checked: Checked, background: Vec<Arc<Background>>) {
    state.course.looking = false;
    if checked.generation == state.course.generation {
        state.course.checked = checked;
        state.course.background = background;
    }
}

/// A key while the text is changed.
pub(crate) fn edit_key(state: &mut State, key: KeyEvent) {
    match key.code {
        KeyCode::Esc => state.course.editing = false,
        KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => state.course.editing = false,
        KeyCode::Tab => {
            state.course.editor.insert_str("  ");
            changed(state);
        }
        _ => {
            if state.course.editor.input(Typed::from(key)) {
                changed(state);
            }
        }
    }
}

pub(crate) fn changed(state: &mut State) {
    state.course.changed = true;
    state.course.generation += 1;
    state.course.due = true;
}
