//! A drive's health: as it is now, what the last run on it changed, and its own tests.

use super::super::draw::wrap;
use super::super::jobs::Jobs;
use super::super::keys::{self, Action, Binding, bind};
use super::super::state::State;
use super::super::state::{HealthPlace, HealthShown};
use super::super::theme::Theme;
use super::super::update;
use super::BENCH;
use super::lines;
use super::{Place, View};
use crate::text::{health_rows, limits, self_test};
use crossterm::event::KeyCode::Char;
use mile_drive::health::SelfTest;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Columns from which what changed stands beside what is.
const WIDE: u16 = 120;
/// Columns of the names.
const NAMES: usize = 25;

pub(crate) const PLACE: Place = Place(&Health);

const KEYS: &[Binding] = &[
    bind("r", &[Char('r')], Action::ReadHealth, "read again", "read the drive's health again"),
    bind("t", &[Char('t')], Action::SelfTest, "self-test", "begin or end a self-test of the drive"),
];

struct Health;

impl View for Health {
    fn name(&self) -> &'static str {
        "health"
    }

    fn way(&self) -> &'static str {
        "go to the health of the selected drive"
    }

    fn sentence(&self, state: &State) -> (String, String) {
        match (&state.health.drive, &state.health.shown) {
            (None, _) => {
                (format!("No drive is selected. Select one on the bench ({}).", BENCH.key()), String::new())
            }
            (Some(drive), None) => (format!("Asking {drive} …"), String::new()),
            (Some(_), Some(shown)) => {
                let id = &shown.card.identity;
                let serial = id.serial.as_ref().map_or(String::new(), |s| format!(", serial {s}"));
                let words = match shown.card.health.as_ref().map(|h| h.warnings.len()) {
                    Some(0) => "It warns of nothing.",
                    Some(_) => "It warns of itself.",
                    None => "It tells nothing of its health.",
                };
                (format!("{}{serial}. {words}", id.model), id.name.clone())
            }
        }
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, keys::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        health(buffer, area, state.theme, &mut state.health);
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        update::arrive_at_health(state, jobs);
    }

    fn step(&self, state: &mut State, by: isize) {
        state.health.scroll = super::step(state.health.scroll, by, 400);
    }
}

fn health(buffer: &mut Buffer, area: Rect, theme: Theme, place: &mut HealthPlace) {
    let Some(shown) = &place.shown else { return };
    let ink = Style::new().fg(theme.ink);
    let width = if area.width >= WIDE { area.width / 2 + 8 } else { area.width };
    let mut left = Vec::new();
    left.push(("limits".to_owned(), limits(&shown.card.limits)));
    if let Some(link) = &shown.card.identity.link {
        left.push(("link".to_owned(), link.sentence()));
    }
    left.extend(shown.card.health.iter().flat_map(health_rows));
    let mut rows: Vec<(String, Style)> = Vec::new();
    let beside = area.width >= WIDE;
    if !beside {
        rows.extend(aside(shown, theme, usize::from(area.width)));
        rows.push((String::new(), ink));
    }
    for (name, value) in left.into_iter().filter(|(n, _)| n != "self-test") {
        let room = usize::from(width).saturating_sub(NAMES + 1);
        for (i, line) in wrap(&value, room).into_iter().enumerate() {
            let name = if i == 0 { name.as_str() } else { "" };
            let style = if name == "it warns" { theme.strong() } else { ink };
            rows.push((format!("{name:<NAMES$}{line}"), style));
        }
    }
    let height = usize::from(area.height);
    place.scroll = place.scroll.min(rows.len().saturating_sub(height));
    let main = Rect { width, ..area };
    lines(buffer, main, theme, &rows[place.scroll..]);
    for y in area.top()..area.bottom() {
        let named =
            rows.get(place.scroll + usize::from(y - area.top())).is_some_and(|r| !r.0.starts_with(' '));
        if named && beside {
            buffer.set_style(Rect { x: area.x, y, width: NAMES as u16, height: 1 }, theme.faint());
        }
    }
    if beside {
        let at = Rect { x: area.x + width + 2, width: area.width - width - 2, ..area };
        lines(buffer, at, theme, &aside(shown, theme, usize::from(at.width)));
    }
}

/// What the last run changed, and the self-tests.
fn aside(shown: &HealthShown, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let mut rows = Vec::new();
    let title = match &shown.last {
        Some((run, _)) => format!("What run {run}, the last on this drive, changed"),
        None => "No run on this drive is in the logbook".into(),
    };
    rows.push((title, theme.strong()));
    if let Some((_, changes)) = &shown.last {
        let nothing = ["nothing but what every use changes".to_owned()];
        let list = if changes.is_empty() { &nothing[..] } else { &changes[..] };
        rows.extend(list.iter().flat_map(|c| wrap(&format!("  {c}"), width)).map(|l| (l, ink)));
    }
    rows.push((String::new(), ink));
    rows.push(("Self-tests".into(), theme.strong()));
    match shown.card.health.as_ref().and_then(|h| h.self_test.as_ref()) {
        None => rows.push(("  not offered by this drive".into(), ink)),
        Some(test) => {
            rows.extend(progress(test, width).into_iter().map(|line| (line, ink)));
            rows.extend(
                self_test(test).iter().flat_map(|l| wrap(&format!("  {l}"), width)).map(|l| (l, ink)),
            );
        }
    }
    rows
}

/// How far the test underway is, drawn.
fn progress(test: &SelfTest, width: usize) -> Option<String> {
    let (_, done) = test.running?;
    let cells = width.saturating_sub(8).min(40);
    let full = cells * usize::from(done.min(100)) / 100;
    Some(format!("  {}{} {done} %", "█".repeat(full), "░".repeat(cells - full)))
}
