//! A drive's health: what changed since the last look, its story over months, what runs cost it and how long it will last, beside what it tells
//! now and its own tests.

use super::super::action::{self, Action, Binding, bind};
use super::super::jobs::Jobs;
use super::super::lines::lines;
use super::super::place::BENCH;
use super::super::requests;
use super::super::state::State;
use super::super::state::{HealthPlace, HealthShown};
use super::super::strips::Strips;
use super::super::theme::Theme;
use super::super::view::View;
use crate::history::{Since, Story, day, news};
use crate::text::{health_rows, limits, self_test};
use crate::wrap::wrap;
use crossterm::event::KeyCode::Char;
use mile_drive::health::SelfTest;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Columns from which the present stands beside the story.
const WIDE: u16 = 120;
/// Columns of the names.
const NAMES: usize = 25;
/// Lines of what changed that are shown in any case.
const CHANGES: usize = 9;

const KEYS: &[Binding] = &[
    bind("r", &[Char('r')], Action::ReadHealth, "read again", "read the drive's health again"),
    bind("w", &[Char('w')], Action::KeepHealth, "keep", "keep what the drive tells now in its history"),
    bind(
        "a",
        &[Char('a')],
        Action::RawHealth,
        "all figures",
        "show all attributes and counters, or the story",
    ),
    bind("e", &[Char('e')], Action::Export, "export", "write the story of the drive as a figure"),
    bind("t", &[Char('t')], Action::SelfTest, "self-test", "begin or end a self-test of the drive"),
];

pub(super) struct Health;

impl View for Health {
    fn way(&self) -> &'static str {
        "go to the health of the selected drive"
    }

    fn about(&self) -> &'static str {
        "The story of a drive: what changed since the last look, worst first, then strips over months, what runs cost it, and when its rated life will be used up at this pace. w keeps what the drive tells now. a shows all its attributes and counters."
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
                let words = match shown.card.health.as_ref().map(|h| h.warnings.first()) {
                    Some(Some(warning)) => format!("It warns: {warning}."),
                    None => "It tells nothing of its health.".into(),
                    Some(None) => {
                        shown.story.as_deref().and_then(news).unwrap_or_else(|| "It warns of nothing.".into())
                    }
                };
                (format!("{}{serial}. {words}", id.model), id.name.clone())
            }
        }
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        health(buffer, area, state.theme, &mut state.health);
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        requests::arrive_at_health(state, jobs);
    }

    fn step(&self, state: &mut State, by: isize) {
        state.health.scroll = crate::tui::lines::step(state.health.scroll, by, 400);
    }
}

type Lines = Vec<(String, Style)>;

fn health(buffer: &mut Buffer, area: Rect, theme: Theme, place: &mut HealthPlace) {
    let HealthPlace { shown: Some(shown), strips: made, scroll, raw, .. } = place else { return };
    let right = if area.width < WIDE { 0 } else { area.width * 2 / 5 + 2 };
    let left = Rect { width: area.width - right, ..area };
    if made.as_ref().is_none_or(|m| !m.fit(left.width)) {
        *made = shown.story.as_ref().map(|s| Strips::of(s, left.width));
    }
    // Drawn where there is a story.
    let drawn = shown.story.as_deref().zip(made.as_ref());
    if *raw {
        let rows = figures(shown, theme, usize::from(area.width), true);
        return scrolled(buffer, area, theme, rows, scroll);
    }
    if area.width < WIDE {
        // One below the other: what changed, the story where there is room, and the rest.
        let mut rows = changed(shown, theme, usize::from(area.width));
        rows.extend(ahead(shown, theme, usize::from(area.width)));
        rows.extend(tests(shown, theme, usize::from(area.width)));
        rows.extend(figures(shown, theme, usize::from(area.width), false));
        let drawn = drawn.filter(|_| area.height >= 18 && *scroll == 0);
        let strips = drawn.map_or(0, |(_, s)| s.height(1)).min(area.height / 2);
        if let Some((story, made)) = drawn {
            made.draw(buffer, Rect { height: strips + 1, ..area }, theme, story, 1);
        }
        let rest = Rect { y: area.y + strips, height: area.height - strips, ..area };
        return scrolled(buffer, rest, theme, rows, scroll);
    }
    let right = right - 2;
    let width = usize::from(left.width);
    let mut top = changed(shown, theme, width);
    let ahead = ahead(shown, theme, width);
    let below = ahead.len();
    let strips = drawn.map_or(0, |(_, s)| usize::from(s.height(2)));
    let most = usize::from(area.height).saturating_sub(below + strips + 2).max(CHANGES);
    if top.len() > most {
        let more = top.len() - (most - 1);
        top.truncate(most - 1);
        top.push((format!("  … {more} more lines; `hollow-mile health --history` has all"), theme.faint()));
    }
    lines(buffer, left, theme, &top);
    let mut y = left.y + top.len() as u16 + 1;
    if let Some((story, made)) = drawn {
        let room = left.bottom().saturating_sub(y + below as u16 + 1);
        // As many rows for each strip as there is room, and one at least.
        let rows = (1..=6).rev().find(|r| made.height(*r) <= room).unwrap_or(1);
        let height = made.height(rows);
        let room = left.bottom().saturating_sub(y);
        made.draw(buffer, Rect { y, height: (height + 1).min(room), ..left }, theme, story, rows);
        y += height + u16::from(height > 0);
    }
    if y < left.bottom() {
        let rest = Rect { y, height: left.bottom() - y, ..left };
        lines(buffer, rest, theme, &ahead);
    }
    let at = Rect { x: area.x + left.width + 2, width: right, ..area };
    let own = tests(shown, theme, usize::from(right));
    let all = figures(shown, theme, usize::from(right), true);
    let fits = all.len() + own.len() < usize::from(area.height);
    let mut rows = if fits { all } else { figures(shown, theme, usize::from(right), false) };
    rows.push((String::new(), theme.faint()));
    rows.extend(own);
    scrolled(buffer, at, theme, rows, scroll);
}

/// Lines that are gone through; the names at their front are faint.
fn scrolled(buffer: &mut Buffer, area: Rect, theme: Theme, rows: Lines, scroll: &mut usize) {
    *scroll = (*scroll).min(rows.len().saturating_sub(usize::from(area.height)));
    lines(buffer, area, theme, &rows[*scroll..]);
}

/// What changed since the look before; of a drive with one look only, or none, what the last run changed.
fn changed(shown: &HealthShown, theme: Theme, width: usize) -> Lines {
    let ink = Style::new().fg(theme.ink);
    let mut rows: Lines = Vec::new();
    let since = |rows: &mut Lines, since: &Since| {
        let what = if since.what == "first" { "Since the first look" } else { "Since the look before" };
        rows.push((format!("{what}, {}", day(since.from)), theme.strong()));
        if since.changes.is_empty() {
            rows.push(("  nothing".into(), ink));
        }
        for change in &since.changes {
            let style = if change.rank == 0 {
                theme.strong()
            } else if change.rank == 3 {
                theme.faint()
            } else {
                ink
            };
            rows.extend(wrap(&format!("  {}", change.what), width).into_iter().map(|l| (l, style)));
            if let Some(means) = change.means.as_ref().filter(|_| change.rank < 2) {
                rows.extend(wrap(&format!("    {means}."), width).into_iter().map(|l| (l, theme.faint())));
            }
        }
    };
    if let Some(story) = &shown.story {
        // All that there is to say of the last look, and what counts since the first.
        for one in &story.since {
            if one.what == "first" {
                let changes: Vec<_> = one.changes.iter().filter(|c| c.rank < 2).cloned().collect();
                if !changes.is_empty() && story.since.len() > 1 {
                    since(&mut rows, &Since { what: "first", from: one.from, to: one.to, changes });
                    continue;
                }
            }
            if story.since.len() == 1 || one.what != "first" {
                since(&mut rows, one);
            }
        }
        for remark in story.remarks.iter().rev().take(2) {
            let text = format!("{}: {}", day(remark.at), remark.what);
            rows.extend(wrap(&text, width).into_iter().map(|l| (l, theme.faint())));
        }
    }
    if let Some((run, changes)) = &shown.last {
        rows.push((format!("What run {run}, the last on this drive, changed"), theme.strong()));
        let nothing = ["nothing but what every use changes".to_owned()];
        let list = if changes.is_empty() { &nothing[..] } else { &changes[..] };
        rows.extend(list.iter().flat_map(|c| wrap(&format!("  {c}"), width)).map(|l| (l, ink)));
    } else if shown.story.is_none() {
        let text = "No run on this drive is in the logbook, and nothing is kept of it. w keeps what it tells now; every run keeps it too.";
        rows.extend(wrap(text, width).into_iter().map(|l| (l, ink)));
    }
    rows
}

/// How long it will last, and what runs cost it.
fn ahead(shown: &HealthShown, theme: Theme, width: usize) -> Lines {
    let ink = Style::new().fg(theme.ink);
    let Some(story) = shown.story.as_deref() else { return Vec::new() };
    let mut rows: Lines = Vec::new();
    if !story.projections.is_empty() {
        rows.push(("When limits are reached".into(), theme.strong()));
        rows.extend(story.when().iter().flat_map(|l| wrap(&format!("  {l}"), width)).map(|l| (l, ink)));
    }
    if let Some(a) = &story.write_amplification {
        rows.push((format!("  write amplification {:.2} ({:.2} to {:.2})", a.ratio, a.low, a.high), ink));
    }
    rows.extend(costs(story, theme));
    rows
}

fn costs(story: &Story, theme: Theme) -> Lines {
    let (heads, cells) = story.costs();
    // The newest, and all together.
    let last = cells.len().saturating_sub(4);
    let text = crate::tables::lines(&heads, &cells[last..]);
    let ink = Style::new().fg(theme.ink);
    if cells.is_empty() {
        return Vec::new();
    }
    let head = |i: usize| if i == 0 { theme.strong() } else { ink };
    let rows = text.lines().enumerate().map(|(i, l)| (l.to_owned(), head(i)));
    std::iter::once((String::new(), ink)).chain(rows).collect()
}

/// What it tells now; with `all` also attributes, statistics and what is missing.
fn figures(shown: &HealthShown, theme: Theme, width: usize, all: bool) -> Lines {
    let ink = Style::new().fg(theme.ink);
    let mut left = vec![("limits".to_owned(), limits(&shown.card.limits))];
    if let Some(link) = &shown.card.identity.link {
        left.push(("link".to_owned(), link.sentence()));
    }
    left.extend(shown.card.health.iter().flat_map(health_rows));
    let mut rows: Lines = Vec::new();
    let raw = |name: &str| name.starts_with("attribute") || name == "error" || name == "health from";
    for (name, value) in left.into_iter().filter(|(n, _)| n != "self-test" && (all || !raw(n))) {
        let room = width.saturating_sub(NAMES + 1);
        for (i, line) in wrap(&value, room).into_iter().enumerate() {
            let name = if i == 0 { name.as_str() } else { "" };
            let style = if name == "it warns" { theme.strong() } else { ink };
            rows.push((format!("{name:<NAMES$}{line}"), style));
        }
    }
    rows
}

fn tests(shown: &HealthShown, theme: Theme, width: usize) -> Lines {
    let ink = Style::new().fg(theme.ink);
    let mut rows: Lines = vec![("Self-tests".into(), theme.strong())];
    if let Some((run, test)) = &shown.tested {
        let told = self_test(test).into_iter().map(|l| format!("  {l}, in run {run}"));
        rows.extend(told.flat_map(|l| wrap(&l, width)).map(|l| (l, ink)));
        return rows;
    }
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
