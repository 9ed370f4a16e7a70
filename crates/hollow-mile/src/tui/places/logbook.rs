//! Every run, newest first, with its terrain in miniature.

use super::super::canvas::Framing;
use super::super::canvas::miniature;
use super::super::keys::{self, Action, Binding, bind};
use super::super::state::LogbookPlace;
use super::super::state::State;
use super::super::theme::Theme;
use super::{AtHand, BENCH};
use super::{Place, View};
use crate::figure::when;
use crossterm::event::KeyCode::{Char, Enter};
use crossterm::event::{Event, KeyCode, KeyEvent};
use mile_core::Bytes;
use mile_logbook::Entry;
use mile_runner::Status;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use tui_input::backend::crossterm::EventHandler;

pub(crate) const PLACE: Place = Place(&Logbook);

const KEYS: &[Binding] = &[
    bind("enter", &[Enter], Action::Open, "open", "open the findings of the selected run"),
    bind("g", &[Char('g')], Action::Resume, "go on", "go on with the selected run, if it was interrupted"),
    bind("/", &[Char('/')], Action::Filter, "filter", "show only the runs that match what you type"),
    bind("a b", &[Char('a')], Action::MarkA, "", "mark the run for side A of a comparison, or unmark it"),
    bind("a b", &[Char('b')], Action::MarkB, "mark", "mark the run for side B of a comparison, or unmark it"),
    bind("c", &[Char('c')], Action::Compare, "compare", "compare the runs marked A with those marked B"),
    bind(
        "r",
        &[Char('r')],
        Action::Report,
        "report",
        "write a report of the run, or of both sides, as a PDF",
    ),
    bind("e", &[Char('e')], Action::Export, "export", "write an SVG and a PDF of the run as it is framed"),
];

struct Logbook;

impl View for Logbook {
    fn name(&self) -> &'static str {
        "logbook"
    }

    fn way(&self) -> &'static str {
        "go to the logbook"
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let (all, seen) = (state.logbook.entries.len(), state.logbook.visible().len());
        let text = match (all, seen) {
            (0, _) => format!("The logbook has no run yet. Start one from the bench ({}).", BENCH.key()),
            (all, seen) if seen < all => format!("{seen} of {all} runs match."),
            (1, _) => "One run.".into(),
            (all, _) => format!("{all} runs, the newest first."),
        };
        (text, state.logbook_path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned()))
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, keys::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        logbook(buffer, area, state.theme, &state.logbook);
    }

    fn is_typed_into(&self, state: &State) -> bool {
        state.logbook.filtering
    }

    fn typed(&self, state: &mut State, event: &Event, key: KeyEvent) {
        match key.code {
            Enter => state.logbook.filtering = false,
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

    fn step(&self, state: &mut State, by: isize) {
        state.logbook.selected = super::step(state.logbook.selected, by, state.logbook.visible().len());
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        let run = state.logbook.visible().get(state.logbook.selected)?.run;
        Some(AtHand { run, lane: 0, framing: Framing::default() })
    }
}

fn logbook(buffer: &mut Buffer, area: Rect, theme: Theme, place: &LogbookPlace) {
    let wide = area.width >= 110;
    let mut top = area.y;
    if place.filtering || !place.filter.value().is_empty() {
        let text = format!("/ {}{}", place.filter.value(), if place.filtering { "▏" } else { "" });
        buffer.set_stringn(area.x, top, text, usize::from(area.width), theme.strong());
        top += 1;
    }
    buffer.set_stringn(area.x, top, heading(wide), usize::from(area.width), theme.faint());
    top += 1;
    let entries = place.visible();
    let rows = usize::from(area.bottom().saturating_sub(top));
    let first = place.selected.saturating_sub(rows.saturating_sub(1));
    for (i, entry) in entries.iter().enumerate().skip(first).take(rows) {
        let y = top + (i - first) as u16;
        let selected = i == place.selected;
        let style = if selected { theme.selection().fg(theme.ink) } else { Style::new().fg(theme.ink) };
        if selected {
            buffer.set_style(Rect { y, height: 1, ..area }, style);
        }
        row(buffer, area, y, theme, style, entry, wide);
        let mark: String = ['A', 'B']
            .into_iter()
            .zip(&place.sides)
            .filter(|(_, s)| s.contains(&entry.run))
            .map(|m| m.0)
            .collect();
        buffer.set_stringn(
            area.x,
            y,
            mark,
            2,
            theme.strong().patch(if selected { theme.selection() } else { Style::new() }),
        );
    }
}

fn heading(wide: bool) -> String {
    if wide {
        format!(
            "{:>5}  {:<16}  {:<15} {:<24} {:<24} {:>9}  {:>9} {:>7}  {}",
            "run", "started", "course", "drive", "terrain over bytes", "moved", "cache", "max", "how it went"
        )
    } else {
        format!(
            "{:>4}  {:<11} {:<16} {:<16} {:>9}  {}",
            "run", "course", "drive", "terrain", "moved", "how it went"
        )
    }
}

fn cut(text: &str, width: usize) -> String {
    if text.chars().count() <= width {
        text.to_owned()
    } else {
        text.chars().take(width - 1).chain(['…']).collect()
    }
}

fn row(buffer: &mut Buffer, area: Rect, y: u16, theme: Theme, style: Style, entry: &Entry, wide: bool) {
    let digest = entry.digest.as_ref();
    let moved = digest.map_or(String::new(), |d| Bytes(d.bytes).to_string());
    let breaks = digest.map_or(String::new(), mile_logbook::Digest::causes);
    let how = match (entry.status, breaks.is_empty()) {
        _ if entry.problem.is_some() => entry.problem.clone().unwrap_or_default(),
        (Status::Done, false) => breaks,
        (status, true) => status.words().to_owned(),
        (status, false) => format!("{}: {breaks}", status.words()),
    };
    let terrain = |width| digest.map_or(" ".repeat(width), |d| miniature(&d.miniature, width));
    let (before, terrain, after) = if wide {
        let cooling = entry
            .situation
            .split(", ")
            .find(|p| p.contains("carrier") || *p == "bare")
            .map_or(String::new(), |c| format!(", {c}"));
        let drive = format!("{}{cooling}", entry.model);
        let cache = digest.and_then(|d| d.cache_bytes).map_or("–".into(), |b| Bytes(b).to_string());
        let max = digest.and_then(|d| d.max_c).map_or("–".into(), |c| format!("{c:.0} °C"));
        (
            format!(
                "{:>5}  {:<16}  {:<15} {:<24} ",
                entry.run,
                when(entry.started),
                cut(&entry.course, 15),
                cut(&drive, 24)
            ),
            terrain(24),
            format!(" {moved:>9}  {cache:>9} {max:>7}  {how}"),
        )
    } else {
        (
            format!("{:>4}  {:<11} {:<16} ", entry.run, cut(&entry.course, 11), cut(&entry.model, 16)),
            terrain(16),
            format!(" {moved:>9}  {how}"),
        )
    };
    let mut x = area.x;
    for (text, style) in [(before, style), (terrain, style.fg(theme.write)), (after, style)] {
        let width = text.chars().count() as u16;
        buffer.set_stringn(x, y, &text, usize::from(area.right().saturating_sub(x)), style);
        x += width;
    }
}
