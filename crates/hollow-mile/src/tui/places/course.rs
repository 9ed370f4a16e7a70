//! The plan: its text with what is wrong with it, beside a drawing of it as a road, what it will take, and what speaks against
//! starting it now.

use super::super::action::{self, Action, Binding, bind};
use super::super::editing;
use super::super::jobs::Jobs;
use super::super::lines::lines;
use super::super::state::State;
use super::super::state::{CoursePlace, Stretch};
use super::super::theme::Theme;
use super::super::view::View;
use crate::tui::put::Put;
use crate::wrap::wrap;
use crossterm::event::KeyCode::{Char, Enter};
use crossterm::event::{Event, KeyEvent};
use mile_bench::outlook::Weight;
use mile_core::{Bytes, Nanos, Op};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::{Modifier, Style};

/// Cells of the numbers of the lines.
const GUTTER: u16 = 5;
/// Steps of the ruler below the road, seconds.
const STEPS_S: [f64; 16] = [
    1.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0, 600.0, 1200.0, 1800.0, 3600.0, 7200.0, 14_400.0, 21_600.0,
    43_200.0, 86_400.0,
];
/// Words that stand out, as they give the text its shape.
const SHAPE: [&str; 7] = ["course", "leg", "for", "repeat", "battery", "use", "end"];

const KEYS: &[Binding] = &[
    bind(
        "i enter",
        &[Char('i'), Enter],
        Action::Edit,
        "edit",
        "change the text of the course; esc ends that",
    ),
    bind("s", &[Char('s')], Action::StartCourse, "start", "arm the drive and start the course"),
    bind("n", &[Char('n')], Action::NewCourse, "ready-made", "begin with a ready-made course"),
    bind("d", &[Char('d')], Action::NextDrive, "drive", "look at the course on the next drive of the bench"),
    bind("f", &[Char('f')], Action::FormatCourse, "format", "write the course in its one canonical form"),
    bind("w", &[Char('w')], Action::SaveCourse, "save", "write the course to a file"),
    bind("o", &[Char('o')], Action::OpenCourse, "open", "read a course from a file"),
];

pub(super) struct Course;

impl View for Course {
    fn way(&self) -> &'static str {
        "go to the course"
    }

    fn about(&self) -> &'static str {
        "A course says what a run does, leg by leg. It is checked while you type: errors are marked in the text. Beside it stand the legs, the time that they take and the bytes that they write, and what speaks against a start now."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let place = &state.course;
        let name = match place.checked.name.as_str() {
            "" => "The course".to_owned(),
            name => format!("The course \"{name}\""),
        };
        let file = place.file.as_ref().map_or(String::new(), |f| format!(", {}", f.display()));
        let changed = if place.changed { ", not written to a file" } else { "" };
        let doing = if place.editing {
            "What you type goes into it; esc ends that."
        } else {
            "i changes it, n begins with another, s starts it."
        };
        (format!("{name}{file}{changed}. {doing}"), String::new())
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        state.drawn.cursor = course(buffer, area, state.theme, &mut state.course);
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        editing::arrive(state, jobs);
    }

    fn is_typed_into(&self, state: &State) -> bool {
        state.course.editing
    }

    fn typed(&self, state: &mut State, _: &Event, key: KeyEvent) {
        editing::edit_key(state, key);
    }

    fn pasted(&self, state: &mut State, text: &str) -> bool {
        editing::paste(state, text);
        true
    }

    fn step(&self, state: &mut State, by: isize) {
        state.course.scroll = crate::tui::lines::step(state.course.scroll, by, 4000);
    }
}

/// Draws the place, and gives where the terminal's cursor belongs.
fn course(buffer: &mut Buffer, area: Rect, theme: Theme, place: &mut CoursePlace) -> Option<Position> {
    let wide = area.width >= 110;
    let told = told(place, theme, if wide { area.width / 2 - 3 } else { area.width });
    let (text, road) = if wide {
        let left = area.width * 9 / 20;
        (Rect { width: left, ..area }, Rect { x: area.x + left + 3, width: area.width - left - 3, ..area })
    } else {
        let above = area.height * 11 / 20;
        (Rect { height: above, ..area }, Rect { y: area.y + above, height: area.height - above, ..area })
    };
    let wrong = diagnostics(place, theme, text.width);
    let below = if wide { (wrong.len() as u16).min(text.height / 3) } else { 0 };
    let cursor = editor(buffer, Rect { height: text.height - below, ..text }, theme, place);
    if below > 0 {
        lines(buffer, Rect { y: text.bottom() - below, height: below, ..text }, theme, &wrong);
    }
    if wide {
        let (pieces, total) = (&place.checked.road, place.checked.road.iter().map(|p| p.seconds).sum());
        let head = usize::from(road.height).min(told.head.len());
        lines(buffer, Rect { height: head as u16, ..road }, theme, &told.head[..head]);
        let mut y = road.y + head as u16 + 1;
        if !pieces.is_empty() && y + 6 < road.bottom() {
            draw_road(buffer, Rect { y, height: 3, ..road }, theme, pieces, total);
            y += 4;
        }
        let rest = Rect { y, height: road.bottom().saturating_sub(y), ..road };
        scrolled(buffer, rest, theme, &told.rest, &mut place.scroll);
    } else {
        let mut all = wrong;
        all.extend(told.head);
        all.extend(told.rest);
        scrolled(
            buffer,
            Rect { y: road.y + 1, height: road.height - 1, ..road },
            theme,
            &all,
            &mut place.scroll,
        );
        (road.x..road.right()).for_each(|x| {
            buffer.set_string(x, road.y, "─", theme.faint());
        });
    }
    cursor
}

fn scrolled(buffer: &mut Buffer, area: Rect, theme: Theme, all: &[(String, Style)], scroll: &mut usize) {
    *scroll = (*scroll).min(all.len().saturating_sub(usize::from(area.height)));
    lines(buffer, area, theme, &all[*scroll..]);
}

/// The text, with the numbers of its lines, and what cannot be read underlined.
fn editor(buffer: &mut Buffer, area: Rect, theme: Theme, place: &mut CoursePlace) -> Option<Position> {
    let cursor = place.editor.cursor();
    let (row, column) = (cursor.0, cursor.1);
    let height = usize::from(area.height).max(1);
    place.top = place.top.clamp((row + 1).saturating_sub(height), row);
    let width = usize::from(area.width.saturating_sub(GUTTER));
    let aside = (column + 1).saturating_sub(width);
    for (i, line) in place.editor.lines().iter().enumerate().skip(place.top).take(height) {
        let y = area.y + (i - place.top) as u16;
        let wrong: Vec<_> = place.checked.diagnostics.iter().filter(|d| d.span.line == i + 1).collect();
        let number = if wrong.is_empty() { format!("{:>3}  ", i + 1) } else { format!("{:>3} ▸", i + 1) };
        let style = if wrong.is_empty() { theme.faint() } else { theme.strong() };
        buffer.set_string(area.x, y, number, style);
        let comment = line.find('#').map_or(usize::MAX, |b| line[..b].chars().count());
        let first = line.split_whitespace().next().unwrap_or_default().to_lowercase();
        let ink = Style::new().fg(theme.ink);
        for (at, glyph) in line.chars().enumerate().skip(aside).take(width) {
            let mut style = match at {
                at if at >= comment => theme.faint(),
                _ if SHAPE.contains(&first.as_str()) => theme.strong(),
                _ => ink,
            };
            let within = |d: &&&mile_course::Diagnostic| {
                (d.span.column..d.span.column + d.span.length.max(1)).contains(&(at + 1))
            };
            if wrong.iter().any(|d| within(&d)) {
                style = style.add_modifier(Modifier::UNDERLINED);
            }
            let x = area.x + GUTTER + (at - aside) as u16;
            if let Some(cell) = buffer.cell_mut((x, y)) {
                cell.set_char(if glyph == '\t' { ' ' } else { glyph }).set_style(style);
            }
        }
    }
    let x = area.x + GUTTER + (column - aside) as u16;
    place.editing.then_some(Position { x, y: area.y + (row - place.top) as u16 })
}

fn diagnostics(place: &CoursePlace, theme: Theme, width: u16) -> Vec<(String, Style)> {
    let mut all = Vec::new();
    for d in &place.checked.diagnostics {
        let text = format!("▸ line {}, column {}: {}", d.span.line, d.span.column, d.message);
        all.extend(wrap(&text, usize::from(width)).into_iter().map(|l| (l, theme.strong())));
        if let Some(hint) = &d.hint {
            all.extend(
                wrap(&format!("  {hint}"), usize::from(width)).into_iter().map(|l| (l, theme.faint())),
            );
        }
    }
    all
}

/// What is said of the course.
struct Told {
    head: Vec<(String, Style)>,
    rest: Vec<(String, Style)>,
}

fn told(place: &CoursePlace, theme: Theme, width: u16) -> Told {
    let width = usize::from(width);
    let ink = Style::new().fg(theme.ink);
    let mut told = Told {
        head: wrap(&place.checked.target, width).into_iter().map(|l| (l, theme.strong())).collect(),
        rest: Vec::new(),
    };
    let look = match &place.checked.outlook {
        Some(Ok(look)) => look,
        Some(Err(text)) => {
            told.head.extend(wrap(text, width).into_iter().map(|l| (l, ink)));
            return told;
        }
        None => {
            let count = place.checked.diagnostics.len();
            let text = match count {
                0 => "Reading the course …".to_owned(),
                1 => "One thing in the course cannot be read yet.".to_owned(),
                n => format!("{n} things in the course cannot be read yet."),
            };
            told.head.push((text, ink));
            return told;
        }
    };
    let mut sentence = look.sentence();
    if let Some(first) = sentence.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    told.head.extend(wrap(&format!("{sentence}."), width).into_iter().map(|l| (l, ink)));
    let rest = &mut told.rest;
    let total: f64 = place.checked.road.iter().map(|p| p.seconds).sum();
    for line in &place.checked.outline {
        let indent = "  ".repeat(line.depth);
        if line.legs == 0 {
            rest.push((format!("{indent}{}", line.text), theme.strong()));
            continue;
        }
        let time =
            if line.seconds > 0.0 { Nanos::from_secs(line.seconds).to_string() } else { String::new() };
        let moved = if line.bytes > 0 { Bytes(line.bytes).to_string() } else { String::new() };
        let share = if total > 0.0 { (line.seconds / total * 8.0).round() as usize } else { 0 };
        let times = if line.legs > 1 { format!(" × {}", line.legs) } else { String::new() };
        let name = format!("{indent}{}{times}", line.text);
        let bar = "▪".repeat(share);
        rest.push((format!("{name:<30} {time:>13} {moved:>10} {bar}"), ink));
    }
    for note in &look.notes {
        rest.extend(wrap(note, width).into_iter().map(|l| (l, theme.faint())));
    }
    rest.push((String::new(), ink));
    let text =
        if look.items.is_empty() { "Nothing speaks against starting it now." } else { "Before the start" };
    rest.push((text.to_owned(), theme.strong()));
    for item in &look.items {
        let (sign, style) = match item.weight {
            Weight::Refusal => ('✕', theme.strong()),
            Weight::Warning => ('!', theme.strong()),
            Weight::Remark => ('·', ink),
        };
        let text = format!("{sign} {}, {}: {}", item.weight.word(), item.about, item.why);
        let folded = wrap(&text, width - 2).into_iter().enumerate();
        rest.extend(folded.map(|(i, l)| (if i > 0 { format!("  {l}") } else { l }, style)));
        rest.extend(wrap(&format!("  {}", item.remedy), width).into_iter().map(|l| (l, theme.faint())));
    }
    told
}

/// The course as a road, in proportion to time: two rows, and a ruler below.
fn draw_road(buffer: &mut Buffer, area: Rect, theme: Theme, pieces: &[Stretch], total: f64) {
    let width = usize::from(area.width);
    let mut cells: Vec<Option<Op>> = vec![None; width];
    let mut best = vec![0.0_f64; width];
    let mut at = 0.0;
    for piece in pieces {
        let (from, to) = (at / total * width as f64, (at + piece.seconds) / total * width as f64);
        at += piece.seconds;
        for cell in from as usize..(to.ceil() as usize).min(width) {
            // What takes most of the cell is seen; work goes before rest where they share it.
            let covers = (to.min(cell as f64 + 1.0) - from.max(cell as f64)).max(0.0)
                * if piece.op == Op::Idle { 0.5 } else { 1.0 };
            if covers > best[cell] {
                (best[cell], cells[cell]) = (covers, Some(piece.op));
            }
        }
    }
    let solid = |c| if theme.is_plain() { Style::new() } else { Style::new().fg(c).bg(c) };
    for (i, cell) in cells.iter().enumerate() {
        let (high, low, style) = match cell {
            // Before and behind: the block of many a font does not fill its cell.
            Some(Op::Write) => ('█', '█', solid(theme.write)),
            Some(Op::Read) => ('▒', '▒', Style::new().fg(theme.read)),
            Some(Op::Mixed) => ('▓', '▓', Style::new().fg(theme.write_dip)),
            Some(Op::Idle) => (' ', '·', theme.faint()),
            None => (' ', ' ', theme.faint()),
        };
        for (row, glyph) in [high, low].into_iter().enumerate() {
            if let Some(cell) = buffer.cell_mut((area.x + i as u16, area.y + row as u16)) {
                cell.set_char(glyph).set_style(style);
            }
        }
    }
    let y = area.y + 2;
    let step = STEPS_S.into_iter().find(|s| total / s <= 6.0).unwrap_or(total / 4.0);
    let mut mark = 0.0;
    while mark < total {
        let x = (mark / total * width as f64) as u16;
        let label = format!("╵{}", Nanos::from_secs(mark));
        buffer.put(area.x + x, y, label, width.saturating_sub(usize::from(x)), theme.faint());
        mark += step;
    }
    let keys = "█ write  ▒ read  ▓ mixed  · rest";
    let x = area.right().saturating_sub(keys.chars().count() as u16);
    if width > 120 {
        buffer.set_string(x, y, keys, theme.faint());
    }
}
