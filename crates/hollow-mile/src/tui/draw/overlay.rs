//! What lies on top of a place: help, the command line, questions.

use super::super::keys;
use super::super::state::{Overlay, PathFor, State};
use super::super::theme::Theme;
use super::sheet::{field, sheet};
use crate::tui::places::{can_do, view};
use crate::tui::put::Put;
use crate::wrap::wrap;
use mile_bench::courses::READY;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;
use tui_input::Input;

/// Draws the overlay, and gives where the terminal's cursor belongs.
pub(super) fn draw(buffer: &mut Buffer, area: Rect, state: &State) -> Option<Position> {
    let theme = state.theme;
    match state.overlay.as_ref()? {
        Overlay::Help => {
            help(buffer, area, state);
            None
        }
        Overlay::Commands { typed, selected } => Some(commands(buffer, area, state, typed, *selected)),
        Overlay::Note(text) => {
            let sheet = sheet(buffer, area, theme, 1, "A note for the log");
            Some(field(buffer, sheet, sheet.y, "", text, theme, true))
        }
        Overlay::Chooser(selected) => {
            chooser(buffer, area, theme, *selected);
            None
        }
        Overlay::Path(purpose, path) => {
            let title = match purpose {
                PathFor::Open => "Read a course from a file",
                PathFor::Save => "Write the course to a file",
            };
            // Why the last one would not do.
            let wrong = state.notice.as_ref().filter(|n| n.is_error);
            let sheet = sheet(buffer, area, theme, 1 + u16::from(wrong.is_some()), title);
            if let Some(notice) = wrong {
                let style = Style::new().fg(theme.rose);
                buffer.put(sheet.x, sheet.y + 1, &notice.text, usize::from(sheet.width), style);
            }
            Some(field(buffer, sheet, sheet.y, "", path.input(), theme, true))
        }
        Overlay::Start(form) => super::start::draw(buffer, area, state, form),
        Overlay::SelfTest => {
            let shown = state.health.shown.as_ref();
            let text = if shown.is_some_and(|s| s.card.identity.simulated) {
                "A simulated drive tests itself in a run of its own. s begins a short test, x an extended one, c one for damage on the way here, esc goes back."
            } else {
                "A self-test runs in the drive; it may slow a run. s begins a short one, x an extended one, c one for damage on the way here (ATA), a ends it, esc goes back."
            };
            ask(buffer, area, theme, text);
            None
        }
        Overlay::ConfirmStop => {
            ask(
                buffer,
                area,
                theme,
                "Stop the run? What it has done so far is kept. y stops it, esc goes on.",
            );
            None
        }
        Overlay::ConfirmQuit => {
            let text = match (state.setup.is_demo, state.runs.underway()) {
                (true, 0 | 1) => {
                    "A run is underway and ends with the demo. s stops it and leaves, esc stays.".to_owned()
                }
                (true, n) => format!(
                    "{n} runs are underway and end with the demo. s stops them and leaves, esc stays."
                ),
                (false, 0 | 1) => {
                    "A run is underway. l leaves it running, s stops it and leaves, esc stays.".to_owned()
                }
                (false, n) => format!(
                    "{n} runs are underway. l leaves them running, s stops them and leaves, esc stays."
                ),
            };
            ask(buffer, area, theme, &text);
            None
        }
    }
}

fn ask(buffer: &mut Buffer, area: Rect, theme: Theme, text: &str) {
    let lines = wrap(text, usize::from(area.width.saturating_sub(4)));
    let inside = sheet(buffer, area, theme, lines.len() as u16, "To be sure");
    for (i, line) in lines.iter().enumerate() {
        buffer.set_string(inside.x, inside.y + i as u16, line, Style::new().fg(theme.ink));
    }
}

/// What the place shows and how to read it, and all its keys.
fn help(buffer: &mut Buffer, area: Rect, state: &State) {
    let theme = state.theme;
    let bindings: Vec<_> = keys::of(state.place).filter(|b| can_do(state, b.action)).collect();
    let about = wrap(view(state.place).about(), usize::from(area.width.saturating_sub(4)).min(110));
    let columns = if area.width >= 120 { 2 } else { 1 };
    let rows = bindings.len().div_ceil(columns);
    let title = format!("The place {}, and its keys", state.place.name());
    let whole = sheet(buffer, area, theme, (about.len() + 1 + rows) as u16, &title);
    for (i, line) in about.iter().enumerate() {
        buffer.put(whole.x, whole.y + i as u16, line, usize::from(whole.width), Style::new().fg(theme.ink));
    }
    let above = (about.len() as u16 + 1).min(whole.height.saturating_sub(1));
    let inside = Rect { y: whole.y + above, height: whole.height - above, ..whole };
    let fit = usize::from(inside.height).max(1);
    let columns = if rows > fit { bindings.len().div_ceil(fit) } else { columns };
    let rows = bindings.len().div_ceil(columns).min(fit);
    let width = inside.width / columns as u16;
    for (i, b) in bindings.iter().enumerate() {
        let (x, y) = (inside.x + (i / rows) as u16 * width, inside.y + (i % rows) as u16);
        buffer.put(x, y, b.shown, 10, theme.strong());
        let room = usize::from(width.saturating_sub(12));
        buffer.put(x + 11, y, b.words, room, theme.faint());
    }
}

/// The ready-made courses with what each answers; the header of the selected one below.
fn chooser(buffer: &mut Buffer, area: Rect, theme: Theme, selected: usize) {
    let inside = sheet(buffer, area, theme, 2 * READY.len() as u16, "Ready-made courses");
    let narrow = usize::from(inside.height) < 2 * READY.len();
    let mut y = inside.y;
    let width = usize::from(inside.width.saturating_sub(19));
    for (i, ready) in READY.iter().enumerate() {
        let lines = wrap(&ready.question(), width);
        let rows = if narrow && i != selected { 1 } else { lines.len().min(2) };
        if y + rows as u16 > inside.bottom() {
            break;
        }
        let style = if i == selected { theme.selection() } else { Style::new() };
        buffer.set_style(Rect { y, height: rows as u16, ..inside }, style);
        buffer.put(inside.x + 1, y, ready.kind, 17, style.patch(theme.strong()));
        for (k, line) in lines.iter().take(rows).enumerate() {
            buffer.put(inside.x + 18, y + k as u16, line, width, style.fg(theme.ink));
        }
        y += rows as u16;
    }
}

fn commands(buffer: &mut Buffer, area: Rect, state: &State, typed: &Input, selected: usize) -> Position {
    let theme = state.theme;
    let found = keys::matching(state.place, typed.value());
    let rows = 12.min(area.height - 6);
    let inside = sheet(buffer, area, theme, rows, "Commands");
    let cursor = field(buffer, inside, inside.y, ": ", typed, theme, true);
    if found.is_empty() {
        buffer.set_string(inside.x + 2, inside.y + 1, "nothing here is called that", theme.faint());
    }
    for (i, b) in found.iter().take(usize::from(rows) - 1).enumerate() {
        let y = inside.y + 1 + i as u16;
        let style = if i == selected { theme.selection() } else { Style::new() };
        buffer.set_style(Rect { y, height: 1, ..inside }, style);
        buffer.put(
            inside.x + 2,
            y,
            b.words,
            usize::from(inside.width.saturating_sub(14)),
            style.fg(theme.ink),
        );
        buffer.set_string(inside.right().saturating_sub(10), y, b.shown, style.patch(theme.faint()));
    }
    cursor
}
