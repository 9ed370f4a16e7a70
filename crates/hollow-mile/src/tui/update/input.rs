//! What the terminal says: keys, pasted text, and the mouse.

use super::act::act;
use super::{course, mouse, start};
use crate::tui::jobs::Jobs;
use crate::tui::keys;
use crate::tui::places::view;
use crate::tui::requests::command;
use crate::tui::state::{Overlay, State};
use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use mile_drive::block::probe::TestRequest;
use mile_drive::health::TestKind;
use mile_runner::Command;
use tui_input::backend::crossterm::EventHandler;

/// Most letters that are pasted into a field of one line: as long as a path may be.
const MOST_PASTED: usize = 4096;

/// Takes in what the terminal says.
pub(crate) fn input(state: &mut State, jobs: &Jobs, event: &Event) {
    match event {
        Event::Key(key) if key.kind != KeyEventKind::Release => {
            state.notice = None;
            if key.code == KeyCode::Char('z') && key.modifiers.contains(KeyModifiers::CONTROL) {
                state.outside.suspend = true;
            } else if state.overlay.is_some() {
                overlay_key(state, jobs, *key);
            } else if view(state.place).is_typed_into(state) {
                view(state.place).typed(state, event, *key);
            } else if let Some(action) = keys::action(state.place, *key) {
                act(state, jobs, action);
            }
        }
        Event::Paste(text) => {
            let into_place = state.overlay.is_none() && view(state.place).is_typed_into(state);
            let taken = into_place && view(state.place).pasted(state, text);
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
                    view(state.place).note(state, jobs, said);
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
            KeyCode::Char('l') | KeyCode::Enter if !state.setup.is_demo => state.outside.quit = true,
            // All runs are told when the terminal is left.
            KeyCode::Char('s') => (state.runs.stopping, state.outside.quit) = (true, true),
            _ => {}
        },
    }
}
