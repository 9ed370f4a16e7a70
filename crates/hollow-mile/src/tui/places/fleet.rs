//! All drives of a model beside each other: each figure as a small terrain over its own scale, what stands out, what firmware changes, and the drives.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas::Framing;
use super::super::jobs::Jobs;
use super::super::state::{FleetPlace, Line, State};
use super::super::theme::Theme;
use super::super::view::{AtHand, View};
use crate::commands::fleet::{said, stands_out, value};
use crate::tui::put::{Put, cut};
use crate::wrap::wrap;
use crossterm::event::KeyCode::Char;
use mile_core::fleet::{Drive, Fleet, Quantity, Spread, StandsOut};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

const KEYS: &[Binding] = &[
    bind(
        "enter",
        &[crossterm::event::KeyCode::Enter],
        Action::Open,
        "open",
        "open the last run of the selected drive",
    ),
    bind("m", &[Char('m')], Action::NextModel, "model", "show the next model"),
    bind(
        "c",
        &[Char('c')],
        Action::NextCourse,
        "course",
        "hold the runs of the next course against each other",
    ),
];

/// Columns of the names of figures, of numbers, and least and most of a figure's terrain.
const NAMES: usize = 36;
const NUMBER: usize = 8;
/// From this width on there is room for all that is said of what stands out; below it only drives are named.
const WIDE: usize = 100;
const LEAST: usize = 10;
const MOST: usize = 60;
/// Heights of a cell, from nothing to full.
const HEIGHTS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
/// Rows of the table that are shown in any case.
const ROWS: u16 = 3;

pub(super) struct FleetView;

impl View for FleetView {
    fn way(&self) -> &'static str {
        "go to the fleet: all drives of a model"
    }

    fn about(&self) -> &'static str {
        "All drives of a model whose runs were kept. Each figure has a terrain of its own: where it is high, many drives lie. A drive that stands out is named, if there are enough drives to say so. Only runs of one course are held against each other; c takes the next course, m the next model."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let place = &state.fleet;
        let text = match (&place.shown, place.asked) {
            (Some(f), _) => {
                let out: usize = f.spreads.iter().filter_map(|s| s.stands_out.as_ref()).map(Vec::len).sum();
                let out = match (out, f.drives.len()) {
                    (_, 0..7) => "Too few to say which stands out.".to_owned(),
                    (0, _) => "None stands out.".to_owned(),
                    (1, _) => "One figure of one stands out.".to_owned(),
                    (n, _) => format!("{n} figures stand out."),
                };
                format!("{} drives in {} runs of the course `{}`. {out}", f.drives.len(), f.runs, f.course)
            }
            (None, true) => "Reading the runs … esc gives it up.".into(),
            (None, false) if place.given_up => {
                "The runs were not read. m reads those of the next model.".into()
            }
            (None, false) => "No run on a drive with a serial number has ended yet.".into(),
        };
        let of = match place.models.len() {
            0 | 1 => String::new(),
            n => format!(", model {} of {n}", place.of.model + 1),
        };
        (text, place.models.get(place.of.model).map_or(String::new(), |m| format!("{}{of}", m.name)))
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        state.drawn.lines = fleet(buffer, area, state.theme, &state.fleet);
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        if !state.fleet.asked {
            (state.fleet.asked, state.fleet.given_up) = (true, false);
            state.fleet.of.course = state.fleet.shown.as_ref().map(|f| f.course.clone());
            let reading = jobs.fleet(&state.setup.logbook_path, state.fleet.of.clone());
            state.wait_for(reading);
        }
    }

    fn select(&self, state: &mut State, line: usize) -> bool {
        std::mem::replace(&mut state.fleet.selected, line) == line
    }

    fn step(&self, state: &mut State, by: isize) {
        let count = state.fleet.shown.as_ref().map_or(0, |f| f.drives.len());
        state.fleet.selected = crate::tui::lines::step(state.fleet.selected, by, count);
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        let drive = ordered(state.fleet.shown.as_ref()?).into_iter().nth(state.fleet.selected)?;
        Some(AtHand { run: drive.last_run, lane: 0, framing: Framing::default() })
    }

    fn copied(&self, state: &State) -> Option<String> {
        Some(crate::commands::fleet::lines(state.fleet.shown.as_ref()?).join("\n"))
    }
}

/// How often a drive stands out.
fn out(fleet: &Fleet, drive: &Drive) -> usize {
    let named =
        |s: &Spread| s.stands_out.as_ref().is_some_and(|all| all.iter().any(|o| o.serial == drive.serial));
    fleet.spreads.iter().filter(|s| named(s)).count()
}

/// The drives, those that stand out first.
fn ordered(fleet: &Fleet) -> Vec<&Drive> {
    let mut all: Vec<&Drive> = fleet.drives.iter().collect();
    all.sort_by_key(|drive| std::cmp::Reverse(out(fleet, drive)));
    all
}

/// How many drives lie in each of `width` equal parts of a figure's range, and whether one that stands out is among them.
fn terrain(fleet: &Fleet, spread: &Spread, width: usize) -> Vec<(usize, bool)> {
    let mut cells = vec![(0, false); width];
    let range = spread.max - spread.min;
    for drive in &fleet.drives {
        let Some(v) = drive.figures.get(&spread.quantity) else { continue };
        let share = if range > 0.0 { (v - spread.min) / range } else { 0.5 };
        let at = ((share * width as f64) as usize).min(width - 1);
        cells[at].0 += 1;
        cells[at].1 |= spread.stands_out.iter().flatten().any(|o| o.serial == drive.serial);
    }
    cells
}

/// Draws the place, and gives the lines that can be clicked on.
fn fleet(buffer: &mut Buffer, area: Rect, theme: Theme, place: &FleetPlace) -> Vec<Line> {
    let Some(fleet) = &place.shown else { return Vec::new() };
    let width = usize::from(area.width);
    let names = if width < WIDE { 25 } else { NAMES };
    // Name, lowest, terrain, highest, median, and behind that what stands out.
    let terrain_width = (width / 2).saturating_sub(names + 2 * NUMBER).clamp(LEAST, MOST);
    let mut y = area.y;
    let heading = format!(
        "{:<names$}{:>NUMBER$} {:<terrain_width$} {:<NUMBER$} {:>NUMBER$}  stands out",
        "", "lowest", "", "highest", "median"
    );
    buffer.put(area.x, y, heading, width, theme.faint());
    y += 1;
    for spread in &fleet.spreads {
        if y + ROWS + 2 > area.bottom() {
            break;
        }
        figure(buffer, Rect { y, height: 1, ..area }, theme, (fleet, spread), (names, terrain_width));
        y += 1;
    }
    let rest = firmware(fleet, theme);
    let rest: Vec<(String, Style)> = rest
        .into_iter()
        .chain(fleet.notes.iter().map(|n| (n.clone(), theme.faint())))
        .flat_map(|(text, style)| wrap(&text, width).into_iter().map(move |line| (line, style)))
        .collect();
    let free = area.bottom().saturating_sub(y + ROWS + 3);
    if free > 0 && !rest.is_empty() {
        y += 1;
        let height = free.min(rest.len() as u16);
        crate::tui::lines::lines(buffer, Rect { y, height, ..area }, theme, &rest);
        y += height;
    }
    table(
        buffer,
        Rect { y: y + 1, height: area.bottom().saturating_sub(y + 1), ..area },
        theme,
        fleet,
        place.selected,
    )
}

/// What firmware changes: what is established in a line each, and the rest by name.
fn firmware(fleet: &Fleet, theme: Theme) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let established = fleet.firmware.iter().filter(|f| f.established);
    let mut all: Vec<(String, Style)> =
        established.map(|f| (format!("firmware  {}", said(f)), ink)).collect();
    let mut rest: Vec<(&str, &str, Vec<&str>)> = Vec::new();
    for f in fleet.firmware.iter().filter(|f| !f.established) {
        match rest.last_mut().filter(|(from, to, _)| (*from, *to) == (f.from.as_str(), f.to.as_str())) {
            Some((.., names)) => names.push(f.quantity.words().0),
            None => rest.push((&f.from, &f.to, vec![f.quantity.words().0])),
        }
    }
    all.extend(rest.into_iter().map(|(from, to, names)| {
        let text = format!(
            "firmware  no difference between {from} and {to} is established in: {}",
            names.join(", ")
        );
        (text, theme.faint())
    }));
    all
}

fn figure(
    buffer: &mut Buffer,
    row: Rect,
    theme: Theme,
    (fleet, spread): (&Fleet, &Spread),
    (names, width): (usize, usize),
) {
    let ink = Style::new().fg(theme.ink);
    let of = |v: f64| value(spread.quantity, v);
    let (name, unit) = spread.quantity.words();
    let name = cut(&format!("{name}, {unit}"), names - 1).into_owned();
    let mut x = row.x;
    let mut put = |text: String, style: Style| {
        let wide = text.chars().count() as u16;
        buffer.put(x, row.y, &text, usize::from(row.right().saturating_sub(x)), style);
        x += wide;
    };
    put(format!("{name:<names$}"), ink);
    put(format!("{:>NUMBER$} ", of(spread.min)), theme.faint());
    let cells = terrain(fleet, spread, width);
    let most = cells.iter().map(|c| c.0).max().unwrap_or(1).max(1);
    for (count, stands_out) in cells {
        // A single drive is always seen.
        let height = (count * 8).div_ceil(most);
        let style = Style::new().fg(if stands_out { theme.rose } else { theme.write });
        put(HEIGHTS[height.min(8)].to_owned(), style);
    }
    put(format!(" {:<NUMBER$} ", of(spread.max)), theme.faint());
    put(format!("{:>NUMBER$}  ", of(spread.median)), ink);
    let found = spread.stands_out.as_ref().is_some_and(|all| !all.is_empty());
    let named = |all: &Vec<StandsOut>| all.iter().map(|o| o.serial.as_str()).collect::<Vec<_>>().join(", ");
    let said = match (stands_out(spread), spread.drives) {
        (Some(_), _) if found && usize::from(row.width) < WIDE => {
            spread.stands_out.as_ref().map_or(String::new(), named)
        }
        (Some(text), _) => text,
        (None, n) if n < fleet.drives.len() => format!("known of {n} of {} drives", fleet.drives.len()),
        (None, n) if n >= mile_core::fleet::FEWEST => "too alike".to_owned(),
        (None, _) => String::new(),
    };
    put(said, if found { ink } else { theme.faint() });
}

/// The figures that have a column, with short headings.
fn columns(fleet: &Fleet) -> Vec<(Quantity, &'static str)> {
    let short = |q: Quantity| match q {
        Quantity::Burst => "first",
        Quantity::Cache => "cache",
        Quantity::Settled => "settled",
        Quantity::ThrottlesAt => "thr. at",
        Quantity::ThrottlesAfter => "thr. after",
        Quantity::Highest => "max",
        Quantity::Used => "used",
        Quantity::WrittenADay => "a day",
        Quantity::LifeLeft => "left",
    };
    fleet.spreads.iter().map(|s| (s.quantity, short(s.quantity))).collect()
}

fn table(buffer: &mut Buffer, area: Rect, theme: Theme, fleet: &Fleet, selected: usize) -> Vec<Line> {
    const COLUMN: usize = 14;
    // Behind each value is room for the sign of one that stands out.
    const SIGN: usize = 2;
    if area.height < 2 {
        return Vec::new();
    }
    let width = usize::from(area.width);
    let serial = fleet.drives.iter().map(|d| d.serial.chars().count()).max().unwrap_or(6).clamp(6, 24);
    let before = serial + 2 + 10 + 6;
    let columns: Vec<_> = columns(fleet).into_iter().take(width.saturating_sub(before) / COLUMN).collect();
    let unit = |(q, name): &(Quantity, &str)| {
        let width = COLUMN - SIGN;
        format!("{:>width$}  ", cut(&format!("{name} {}", q.words().1), width))
    };
    let heading: String = columns.iter().map(unit).collect();
    buffer.put(
        area.x,
        area.y,
        format!("{:<serial$}  {:<10}{:>6}{heading}", "serial", "firmware", "runs"),
        width,
        theme.faint(),
    );
    let drives = ordered(fleet);
    let rows = usize::from(area.height - 1);
    let first = selected.saturating_sub(rows.saturating_sub(1));
    let mut clickable = Vec::new();
    for (i, drive) in drives.iter().enumerate().skip(first).take(rows) {
        let y = area.y + 1 + (i - first) as u16;
        clickable.push((y..y + 1, area.x..area.right(), i));
        let style = if i == selected { theme.selection().fg(theme.ink) } else { Style::new().fg(theme.ink) };
        if i == selected {
            buffer.set_style(Rect { y, height: 1, ..area }, style);
        }
        let firmware = drive.firmware.as_deref().unwrap_or("–");
        let head =
            format!("{:<serial$}  {:<10}{:>6}", cut(&drive.serial, serial), cut(firmware, 9), drive.runs);
        buffer.put(area.x, y, &head, width, style);
        let mut x = area.x + head.chars().count() as u16;
        for (quantity, _) in &columns {
            let spread = fleet.spreads.iter().find(|s| s.quantity == *quantity);
            let stands_out =
                spread.is_some_and(|s| s.stands_out.iter().flatten().any(|o| o.serial == drive.serial));
            let text = drive.figures.get(quantity).map_or("–".into(), |v| value(*quantity, *v));
            // Not by colour alone.
            let text = if stands_out { format!("{text} !") } else { format!("{text}  ") };
            let style = if stands_out { style.fg(theme.rose) } else { style };
            buffer.put(x, y, format!("{text:>COLUMN$}"), COLUMN, style);
            x += COLUMN as u16;
        }
    }
    clickable
}
