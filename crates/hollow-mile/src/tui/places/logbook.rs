//! Every run, newest first, with its terrain in miniature.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas::Framing;
use super::super::canvas::{miniature, profile};
use super::super::place::BENCH;
use super::super::state::State;
use super::super::state::{Line, LogbookPlace};
use super::super::theme::Theme;
use super::super::view::AtHand;
use super::super::view::View;
use crate::figure::when;
use crate::tui::put::{Put, cut};
use crossterm::event::KeyCode::{Char, Enter};
use crossterm::event::{Event, KeyCode, KeyEvent};
use mile_core::Bytes;
use mile_core::units::number;
use mile_logbook::Entry;
use mile_runner::Status;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use tui_input::backend::crossterm::EventHandler;

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
    bind(
        "D",
        &[Char('D')],
        Action::RemoveRun,
        "remove",
        "take the selected run off the list; u brings it back",
    ),
    bind("u", &[Char('u')], Action::RestoreRun, "", "bring the run back that was last taken off the list"),
];

pub(super) struct Logbook;

impl View for Logbook {
    fn way(&self) -> &'static str {
        "go to the logbook"
    }

    fn about(&self) -> &'static str {
        "Every run that was kept. Type / and words to see only some: a drive, a course, a tag, a cause, a date. Mark runs with a and b and press c to compare them. D takes a run off the list, and u brings it back; nothing is erased here."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let (all, seen) = (state.logbook.entries.len(), state.logbook.visible().len());
        let text = match (all, seen) {
            (0, _) => format!("The logbook has no run yet. Start one from the bench ({}).", BENCH.key()),
            (all, seen) if seen < all => format!("{seen} of {all} runs match."),
            (1, _) => "One run.".into(),
            (all, _) if all == crate::tui::jobs::MOST_LISTED as usize => {
                format!("The newest {all} runs of the archive; `hollow-mile logbook list` finds all.")
            }
            (all, _) => format!("{all} runs, the newest first."),
        };
        // Of a file its name; of an archive its address.
        let name =
            state.setup.logbook_path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
        let lab = mile_logbook::lab::is_lab(&state.setup.logbook_path);
        (text, if lab { state.setup.logbook_path.display().to_string() } else { name })
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        state.drawn.lines = logbook(buffer, area, state.theme, &state.logbook);
    }

    fn select(&self, state: &mut State, line: usize) -> bool {
        std::mem::replace(&mut state.logbook.selected, line) == line
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

    fn copied(&self, state: &State) -> Option<String> {
        let entry = *state.logbook.visible().get(state.logbook.selected)?;
        Some(crate::tui::lines::text_of(&told(entry, state.theme, usize::MAX)))
    }

    fn step(&self, state: &mut State, by: isize) {
        state.logbook.selected =
            crate::tui::lines::step(state.logbook.selected, by, state.logbook.visible().len());
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        let run = state.logbook.visible().get(state.logbook.selected)?.run;
        Some(AtHand { run, lane: 0, framing: Framing::default() })
    }
}

/// Rows of what is said of the selected run, with the blank one above, and the height from which there is room for them.
const DETAILS: u16 = 5;
const WITH_DETAILS: u16 = 16;
/// Rows of the selected run's terrain, where so many are free.
const LEAST_TERRAIN: u16 = 4;
const MOST_TERRAIN: u16 = 12;

/// Draws the place, and gives the lines that can be clicked on.
fn logbook(buffer: &mut Buffer, area: Rect, theme: Theme, place: &LogbookPlace) -> Vec<Line> {
    let mut clickable = Vec::new();
    let mut top = area.y;
    if place.filtering || !place.filter.value().is_empty() {
        let text = format!("/ {}{}", place.filter.value(), if place.filtering { "▏" } else { "" });
        buffer.put(area.x, top, text, usize::from(area.width), theme.strong());
        top += 1;
    }
    let columns = Columns::of(area.width);
    buffer.put(area.x, top, columns.heading(), usize::from(area.width), theme.faint());
    top += 1;
    let entries = place.visible();
    let details = if area.height >= WITH_DETAILS && !entries.is_empty() { DETAILS } else { 0 };
    let rows = usize::from(area.bottom().saturating_sub(top + details));
    let first = place.selected.saturating_sub(rows.saturating_sub(1));
    if entries.len() > rows {
        let text = format!(" {} to {} of {}", first + 1, (first + rows).min(entries.len()), entries.len());
        let x = area.right().saturating_sub(text.chars().count() as u16);
        buffer.set_string(x, top - 1, text, theme.faint());
    }
    for (i, entry) in entries.iter().enumerate().skip(first).take(rows) {
        let y = top + (i - first) as u16;
        clickable.push((y..y + 1, area.x..area.right(), i));
        let selected = i == place.selected;
        let style = if selected { theme.selection().fg(theme.ink) } else { Style::new().fg(theme.ink) };
        if selected {
            buffer.set_style(Rect { y, height: 1, ..area }, style);
        }
        columns.row(buffer, area, y, theme, style, (entry, &place.alike));
        let mark: String = ['A', 'B']
            .into_iter()
            .zip(&place.sides)
            .filter(|(_, s)| s.contains(&entry.run))
            .map(|m| m.0)
            .collect();
        let style = theme.strong().patch(if selected { theme.selection() } else { Style::new() });
        buffer.put(area.x, y, mark, 2, style);
    }
    if let Some(entry) = entries.get(place.selected).filter(|_| details > 0) {
        let foot = Rect { y: area.bottom() + 1 - details, height: details - 1, ..area };
        // The rows that are free show the selected run's terrain.
        let end = top + entries.len().min(rows) as u16 + 1;
        let free = foot.y.saturating_sub(end + 1);
        if let Some(digest) = entry.digest.as_ref().filter(|_| free >= LEAST_TERRAIN) {
            let height = (free - 1).min(MOST_TERRAIN);
            let most = digest.miniature.iter().copied().fold(0.0_f32, f32::max);
            let words =
                format!("its rate over the bytes that it moved, up to {} MB/s", number(f64::from(most)));
            buffer.put(area.x, foot.y - 2 - height, words, usize::from(area.width), theme.faint());
            profile(
                buffer,
                Rect { y: foot.y - 1 - height, height, ..area },
                theme,
                (&digest.miniature, digest.op()),
            );
        }
        crate::tui::lines::lines(buffer, foot, theme, &told(entry, theme, usize::from(area.width)));
    }
    clickable
}

/// What is said of the selected run below the list: whatever its row has no room for.
fn told(entry: &Entry, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let digest = entry.digest.as_ref();
    let moved = digest.map_or(String::new(), |d| {
        format!(", {} moved in {}", Bytes(d.bytes), mile_core::Nanos::from_secs(d.seconds))
    });
    let words = entry.stands();
    let mut all = vec![(
        format!(
            "{} on {} ({}), run {}{}: {words}{moved}.",
            entry.course,
            entry.model,
            entry.drive,
            entry.run,
            entry.bench.as_ref().map_or(String::new(), |bench| format!(" of {bench}"))
        ),
        theme.strong(),
    )];
    let known = |text: &str, none: &str| if text.is_empty() { none.to_owned() } else { text.to_owned() };
    all.push((format!("set up   {}", known(&entry.situation, "not said")), ink));
    let breaks = digest.map_or(String::new(), mile_logbook::Digest::causes);
    let breaks = match &entry.problem {
        Some(problem) => format!("problem  {problem}"),
        None => format!("breaks   {}", known(&breaks, "none in the rate")),
    };
    let tags =
        format!("tags     {}", known(&entry.tags.join(", "), "none; `hollow-mile logbook tag` gives some"));
    all.extend([(breaks, ink), (tags, ink)]);
    // One row each: a long one ends in dots.
    all.into_iter().map(|(text, style)| (cut(&text, width).into_owned(), style)).collect()
}

/// How wide the columns are; none where there is no room for one.
struct Columns {
    run: usize,
    started: usize,
    course: usize,
    drive: usize,
    set_up: usize,
    terrain: usize,
    /// Whether cache and highest temperature have room.
    figures: bool,
}

impl Columns {
    fn of(width: u16) -> Self {
        let wide = Self { run: 5, started: 16, course: 15, drive: 16, set_up: 0, terrain: 16, figures: true };
        match width {
            0..110 => Self { run: 4, started: 0, course: 11, set_up: 0, figures: false, ..wide },
            110..150 => wide,
            150..200 => Self { set_up: 20, terrain: 14, ..wide },
            _ => Self { course: 22, drive: 24, set_up: 44, terrain: 32, ..wide },
        }
    }

    /// Puts the texts of all columns before the terrain, and of those behind it, into a line each.
    fn lines(&self, before: [&str; 5], after: [&str; 4]) -> (String, String) {
        let [run, started, course, drive, set_up] = before;
        let mut left = format!("{run:>w$}  ", w = self.run);
        for (text, width) in
            [(started, self.started), (course, self.course), (drive, self.drive), (set_up, self.set_up)]
        {
            if width > 0 {
                left.push_str(&format!("{:<width$} ", cut(text, width)));
            }
        }
        let [moved, cache, max, how] = after;
        let mut right = format!(" {moved:>9}  ");
        if self.figures {
            right.push_str(&format!("{cache:>9} {max:>7}  "));
        }
        (left, right + how)
    }

    fn heading(&self) -> String {
        let (before, after) = self
            .lines(["run", "started", "course", "drive", "set up"], ["moved", "cache", "max", "how it went"]);
        format!("{before}{:<w$}{after}", cut("terrain", self.terrain), w = self.terrain)
    }

    fn row(
        &self,
        buffer: &mut Buffer,
        area: Rect,
        y: u16,
        theme: Theme,
        style: Style,
        of: (&Entry, &[String]),
    ) {
        let (entry, alike) = of;
        let set_up: Vec<&str> =
            entry.situation.split(", ").filter(|p| !alike.iter().any(|a| a == p)).collect();
        let set_up = set_up.join(", ");
        let digest = entry.digest.as_ref();
        let moved = digest.map_or(String::new(), |d| Bytes(d.bytes).to_string());
        let breaks = digest.map_or(String::new(), mile_logbook::Digest::causes);
        let how = match (entry.status, breaks.is_empty()) {
            _ if entry.problem.is_some() => entry.problem.clone().unwrap_or_default(),
            (Status::Done, false) => breaks,
            (_, true) => entry.stands(),
            (_, false) => format!("{}: {breaks}", entry.stands()),
        };
        let how = if entry.tags.is_empty() { how } else { format!("[{}] {how}", entry.tags.join(", ")) };
        let terrain = digest.map_or(" ".repeat(self.terrain), |d| miniature(&d.miniature, self.terrain));
        let cache = digest.and_then(|d| d.cache_bytes).map_or("–".into(), |b| Bytes(b).to_string());
        let max = digest.and_then(|d| d.max_c).map_or("–".into(), |c| format!("{c:.0} °C"));
        let (run, started) = (entry.run.to_string(), when(entry.started));
        let (before, after) =
            self.lines([&run, &started, &entry.course, &entry.model, &set_up], [&moved, &cache, &max, &how]);
        let mut x = area.x;
        let ground = style.fg(theme.ground(digest.map_or(mile_core::Op::Write, mile_logbook::Digest::op)));
        for (text, style) in [(before, style), (terrain, ground), (after, style)] {
            let left = usize::from(area.right().saturating_sub(x));
            let width = text.chars().count() as u16;
            buffer.put(x, y, &text, left, style);
            x += width;
        }
    }
}
