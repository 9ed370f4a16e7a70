//! What lies on top of a place: help, the command line, questions.

use super::super::keys;
use super::super::state::{Field, Overlay, PathFor, StartForm, State};
use super::super::theme::Theme;
use super::wrap;
use mile_bench::courses::READY;
use mile_runner::Speed;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;
use ratatui::widgets::{Clear, Widget};
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
            let sheet = sheet(buffer, area, theme, 1, title);
            Some(field(buffer, sheet, sheet.y, "", path, theme, true))
        }
        Overlay::Start(form) => start(buffer, area, state, form),
        Overlay::SelfTest => {
            let text = "A self-test runs in the drive; it may slow a run. s begins a short one, x an extended one, a ends it, esc goes back.";
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
            let text = match (state.is_demo, state.underway()) {
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

/// A cleared sheet at the foot of the page with a rule and a title above; gives its inside.
fn sheet(buffer: &mut Buffer, area: Rect, theme: Theme, rows: u16, title: &str) -> Rect {
    let height = (rows + 3).min(area.height);
    let whole = Rect { y: area.bottom() - height, height, ..area };
    Clear.render(whole, buffer);
    buffer.set_style(whole, theme.page());
    for x in whole.x..whole.right() {
        buffer.set_string(x, whole.y, "━", theme.faint());
    }
    buffer.set_stringn(
        whole.x + 2,
        whole.y,
        format!(" {title} "),
        usize::from(whole.width.saturating_sub(4)),
        theme.strong(),
    );
    Rect {
        x: whole.x + 2,
        y: whole.y + 2,
        width: whole.width.saturating_sub(4),
        height: height.saturating_sub(3),
    }
}

fn ask(buffer: &mut Buffer, area: Rect, theme: Theme, text: &str) {
    let lines = wrap(text, usize::from(area.width.saturating_sub(4)));
    let inside = sheet(buffer, area, theme, lines.len() as u16, "To be sure");
    for (i, line) in lines.iter().enumerate() {
        buffer.set_string(inside.x, inside.y + i as u16, line, Style::new().fg(theme.ink));
    }
}

fn help(buffer: &mut Buffer, area: Rect, state: &State) {
    let theme = state.theme;
    let bindings: Vec<_> = keys::of(state.place).collect();
    let columns = if area.width >= 120 { 2 } else { 1 };
    let rows = bindings.len().div_ceil(columns);
    let title = format!("Keys in {}", state.place.name());
    let inside = sheet(buffer, area, theme, rows as u16, &title);
    let fit = usize::from(inside.height).max(1);
    let columns = if rows > fit { bindings.len().div_ceil(fit) } else { columns };
    let rows = bindings.len().div_ceil(columns).min(fit);
    let width = inside.width / columns as u16;
    for (i, b) in bindings.iter().enumerate() {
        let (x, y) = (inside.x + (i / rows) as u16 * width, inside.y + (i % rows) as u16);
        buffer.set_stringn(x, y, b.shown, 10, theme.strong());
        buffer.set_stringn(
            x + 11,
            y,
            b.words,
            usize::from(width.saturating_sub(12)),
            Style::new().fg(theme.ink),
        );
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
        buffer.set_stringn(inside.x + 1, y, ready.kind, 17, style.patch(theme.strong()));
        for (k, line) in lines.iter().take(rows).enumerate() {
            buffer.set_stringn(inside.x + 18, y + k as u16, line, width, style.fg(theme.ink));
        }
        y += rows as u16;
    }
}

fn commands(buffer: &mut Buffer, area: Rect, state: &State, typed: &Input, selected: usize) -> Position {
    let theme = state.theme;
    let found = keys::matching(state.place, typed.value());
    let rows = 9.min(area.height - 6);
    let inside = sheet(buffer, area, theme, rows, "Commands");
    let cursor = field(buffer, inside, inside.y, ": ", typed, theme, true);
    if found.is_empty() {
        buffer.set_string(inside.x + 2, inside.y + 1, "nothing here is called that", theme.faint());
    }
    for (i, b) in found.iter().take(usize::from(rows) - 1).enumerate() {
        let y = inside.y + 1 + i as u16;
        let style = if i == selected { theme.selection() } else { Style::new() };
        buffer.set_style(Rect { y, height: 1, ..inside }, style);
        buffer.set_stringn(
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

/// A field that is typed into; gives where the cursor is.
fn field(
    buffer: &mut Buffer,
    area: Rect,
    y: u16,
    label: &str,
    input: &Input,
    theme: Theme,
    active: bool,
) -> Position {
    buffer.set_string(area.x, y, label, theme.faint());
    let x = area.x + label.chars().count() as u16;
    let width = area.right().saturating_sub(x).max(1);
    let scroll = input.visual_scroll(usize::from(width.saturating_sub(1)));
    let text: String = input.value().chars().skip(scroll).collect();
    let style = if active { theme.strong() } else { Style::new().fg(theme.ink) };
    buffer.set_stringn(x, y, text, usize::from(width), style);
    Position { x: x + (input.visual_cursor().saturating_sub(scroll)) as u16, y }
}

fn start(buffer: &mut Buffer, area: Rect, state: &State, form: &StartForm) -> Option<Position> {
    let theme = state.theme;
    let width = usize::from(area.width.saturating_sub(4));
    let outlook: Vec<String> = match &form.outlook {
        _ if form.starting => vec!["Starting …".into()],
        None => vec!["Looking at the drive …".into()],
        Some(Ok(lines)) => lines.iter().flat_map(|l| wrap(l, width)).collect(),
        Some(Err(text)) => wrap(&format!("! {text}"), width),
    };
    // The course, then a row for each lane or for the file, with one more for what arms it or what it is.
    let several = form.lanes.len() > 1;
    let fields = match form.lanes.as_slice() {
        [_] => 2,
        [] => 3,
        lanes => 1 + lanes.iter().map(|l| 1 + u16::from(l.arming_word.is_some())).sum::<u16>(),
    };
    let rows = fields + u16::from(form.beside.is_some()) + 1 + outlook.len() as u16 + 2;
    let title = match form.lanes.as_slice() {
        _ if let Some(first) = &form.beside => format!("The other side of run {}", first.run),
        [] => "A run on a file that is made for it".to_owned(),
        [lane] => format!("A run on {}", lane.drive),
        lanes => format!("A run on {} drives", lanes.len()),
    };
    let inside = sheet(buffer, area, theme, rows.min(area.height - 4), &title);
    let choice = form.choices.get(form.chosen).map_or("", |c| c.name.as_str());
    let arrows = if form.choices.len() > 1 {
        format!("← {choice} →   {} of {}", form.chosen + 1, form.choices.len())
    } else {
        choice.to_owned()
    };
    let style = if form.field == Field::Course { theme.strong() } else { Style::new().fg(theme.ink) };
    buffer.set_string(inside.x, inside.y, "course  ", theme.faint());
    buffer.set_string(inside.x + 8, inside.y, arrows, style);
    let speed = match state.speed {
        Speed::Max => "as fast as it goes".to_owned(),
        Speed::Times(x) => format!("{x} times as fast as real time"),
    };
    let mut cursor = None;
    let mut y = inside.y + 1;
    if form.beside.is_some() {
        let here = form.field == Field::Changed;
        let at = field(buffer, inside, y, "changed ", &form.changed, theme, here);
        cursor = here.then_some(at);
        y += 1;
    }
    let label = form.lanes.iter().map(|l| l.name.chars().count()).max().unwrap_or(0).max(6) + 2;
    for (i, lane) in form.lanes.iter().enumerate() {
        if several {
            let here = form.field == Field::Drive(i);
            let style = if here { theme.strong() } else { Style::new().fg(theme.ink) };
            let drive = if here { format!("← {} →", lane.drive) } else { lane.drive.clone() };
            buffer.set_stringn(inside.x, y, &lane.name, width, theme.faint());
            buffer.set_stringn(inside.x + label as u16, y, drive, width.saturating_sub(label), style);
            y += 1;
        }
        if lane.arming_word.is_some() {
            let here = form.field == Field::Arm(i);
            let name = if several { format!("{:label$}arm ", "") } else { "arm     ".to_owned() };
            let at = field(buffer, inside, y, &name, &lane.arm, theme, here);
            cursor = cursor.or(here.then_some(at));
            y += 1;
        } else if !several {
            buffer.set_string(inside.x, y, "speed   ", theme.faint());
            buffer.set_string(inside.x + 8, y, &speed, Style::new().fg(theme.ink));
            y += 1;
        }
    }
    if form.lanes.is_empty() {
        let (on_path, on_size) = (form.field == Field::Path, form.field == Field::Size);
        let path = field(buffer, inside, y, "file    ", &form.path, theme, on_path);
        let size = field(buffer, inside, y + 1, "size    ", &form.size, theme, on_size);
        cursor = cursor.or(on_path.then_some(path)).or(on_size.then_some(size));
        y += 2;
    }
    y += 1;
    let room = usize::from(inside.bottom().saturating_sub(y + 1));
    let fit = if outlook.len() > room { room.saturating_sub(1) } else { room };
    for line in outlook.iter().take(fit) {
        buffer.set_stringn(inside.x, y, line, width, Style::new().fg(theme.ink));
        y += 1;
    }
    if outlook.len() > fit {
        let more = format!("… {} lines more, for which this window is too low", outlook.len() - fit);
        buffer.set_stringn(inside.x, y, more, width, theme.faint());
    }
    let another = match form.field {
        Field::Course if form.choices.len() > 1 => "   ←→ another course",
        Field::Drive(_) => "   ←→ another drive",
        _ => "",
    };
    let next = if form.fields().len() > 1 { "   tab next field" } else { "" };
    let start = if matches!(form.outlook, Some(Err(_))) { "" } else { "enter starts it" };
    let keys = format!("{start}{next}{another}   esc goes back");
    let keys = keys.trim_start();
    buffer.set_stringn(inside.x, inside.bottom().saturating_sub(1), keys, width, theme.faint());
    cursor
}
