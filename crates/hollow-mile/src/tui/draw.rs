//! The frame: header with the places and the run underway, the sentence line, the place, the footer, and what lies on top.

mod overlay;
mod sheet;
mod start;

use super::action::Binding;
use super::keys;
use super::place::{self, Place};
use super::places::{self, can_do, view};
use super::state::State;
use super::theme::Theme;
use crate::tui::put::Put;
use crate::wrap::wrap;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget;

/// The smallest window in which everything that matters has room.
const LEAST: (u16, u16) = (60, 16);

/// Draws everything.
pub(crate) fn draw(frame: &mut Frame<'_>, state: &mut State) {
    let area = frame.area();
    let theme = state.theme;
    let buffer = frame.buffer_mut();
    buffer.set_style(area, theme.page());
    if area.width < LEAST.0 || area.height < LEAST.1 {
        too_small(buffer, area, theme);
        return;
    }
    header(buffer, Rect { height: 1, ..area }, state);
    let sentence = view(state.place).sentence(state);
    // A long sentence goes on in the row below.
    let inside = usize::from(area.width - 2);
    for (i, line) in wrap(&sentence.0, inside).iter().take(2).enumerate() {
        buffer.put(area.x + 1, area.y + 1 + i as u16, line, inside, Style::new().fg(theme.ink));
    }
    let right = sentence.1.chars().count() as u16;
    if sentence.0.chars().count() as u16 + right + 4 < area.width {
        buffer.set_string(area.right() - right - 1, area.y + 1, &sentence.1, theme.faint());
    }
    let body = Rect { x: area.x + 1, y: area.y + 3, width: area.width - 2, height: area.height - 5 };
    places::draw(buffer, body, state);
    footer(buffer, Rect { y: area.bottom() - 1, height: 1, ..area }, state);
    let on_top = overlay::draw(buffer, area, state);
    if let Some(cursor) = on_top.or(state.drawn.cursor.filter(|_| state.overlay.is_none())) {
        frame.set_cursor_position(cursor);
    }
}

fn too_small(buffer: &mut Buffer, area: Rect, theme: Theme) {
    let lines = [
        format!("This window is {} × {}.", area.width, area.height),
        format!("Hollow Mile needs {} × {} at least.", LEAST.0, LEAST.1),
        "Make it larger, or leave with q.".to_owned(),
    ];
    for (i, line) in lines.iter().enumerate() {
        let y = area.y + i as u16;
        if y < area.bottom() {
            buffer.put(area.x, y, line, usize::from(area.width), Style::new().fg(theme.ink));
        }
    }
}

/// Which names of places the header has.
#[derive(Clone, Copy)]
enum Names {
    All,
    /// All, each close behind its key.
    Close,
    /// The same, but for so many of the last places.
    Nearly(usize),
    /// That of the place that is shown.
    Own,
}

fn header(buffer: &mut Buffer, area: Rect, state: &mut State) {
    let theme = state.theme;
    let mut x = area.x + 1;
    state.drawn.place_spans.clear();
    let here = state.place;
    let named = |place: Place, names: Names| match names {
        // The last give way first.
        Names::Nearly(last) if place != here && place::ALL.iter().rev().take(last).any(|p| *p == place) => {
            place.key().to_owned()
        }
        // A letter would be read as the first of the name.
        Names::Close | Names::Nearly(_) if place.key().starts_with(|c: char| c.is_ascii_digit()) => {
            format!("{}{}", place.key(), place.name())
        }
        Names::Own if place != here => place.key().to_owned(),
        Names::All | Names::Own | Names::Close | Names::Nearly(_) => {
            format!("{} {}", place.key(), place.name())
        }
    };
    // With all names and dots between, without the dots, without the program's own name, with the keys close to the names, without the last names, or with the name of this
    // place only: whatever has room.
    let progress = if state.runs.live.is_some() { 18 } else { 1 };
    let width = |between: &str, all: Names| -> usize {
        place::ALL.iter().map(|p| named(*p, all).chars().count() + between.chars().count()).sum::<usize>()
            - between.chars().count()
    };
    let own = "hollow mile  ";
    let first =
        [(own, " · ", Names::All), (own, " ", Names::All), ("", " ", Names::All), ("", " ", Names::Close)];
    let nearly = (1..=4).map(|last| ("", " ", Names::Nearly(last)));
    let least = (own, " ", Names::Own);
    let fits = |(own, between, all): &(&str, &str, Names)| {
        own.len() + width(between, *all) <= usize::from(area.width.saturating_sub(x + progress))
    };
    let (own, between, all) = first.into_iter().chain(nearly).find(fits).unwrap_or(least);
    buffer.set_string(x, area.y, own, theme.strong());
    x += own.len() as u16;
    for (i, place) in place::ALL.iter().copied().enumerate() {
        if i > 0 {
            buffer.set_string(x, area.y, between, theme.faint());
            x += between.chars().count() as u16;
        }
        let text = named(place, all);
        let style = if place == here {
            theme.strong().add_modifier(ratatui::style::Modifier::UNDERLINED)
        } else {
            theme.faint()
        };
        let room = usize::from(area.right().saturating_sub(x));
        buffer.put(x, area.y, &text, room, style);
        let width = text.chars().count() as u16;
        state.drawn.place_spans.push((place, x..x + width));
        x += width;
    }
    let Some(live) = &state.runs.live else { return };
    let text = match &live.outcome() {
        Some(outcome) => format!(" {}", outcome.status.words()),
        None => live.share().map_or(String::new(), |share| format!(" {:.0} %", (share * 100.0).floor())),
    };
    let width = 10;
    let at = area.right().saturating_sub(text.chars().count() as u16 + width as u16 + 1);
    if at > x {
        buffer.set_string(at, area.y, live.miniature(width), Style::new().fg(theme.ground(live.op())));
        buffer.set_string(at + width as u16, area.y, &text, Style::new().fg(theme.ink));
    }
}

fn footer(buffer: &mut Buffer, area: Rect, state: &State) {
    let theme = state.theme;
    let plain = Style::new().fg(theme.ink);
    let underway = || state.tasks.iter().rev().find_map(|t| Some((t.line()?, plain)));
    let said = state.notice.as_ref().map(|notice| match notice.is_error {
        true => (format!("! {}", notice.text), theme.strong()),
        false => (notice.text.clone(), plain),
    });
    if let Some((text, style)) = said.or_else(underway) {
        // The row above is free too, for what does not fit into one; what does not fit into two ends with an ellipsis.
        let mut lines = wrap(&text.replace('\n', "  "), usize::from(area.width - 2));
        if lines.len() > 2 {
            let rest = lines.split_off(1).join(" ");
            lines.push(rest);
        }
        for (i, line) in lines.iter().enumerate() {
            let y = area.y + 1 - lines.len() as u16 + i as u16;
            buffer.put(area.x + 1, y, line, usize::from(area.width - 2), style);
        }
        return;
    }
    let wide = |b: &Binding| (b.shown.chars().count() + b.short.chars().count() + 4) as u16;
    let shown: Vec<Binding> =
        keys::of(state.place).filter(|b| !b.short.is_empty() && can_do(state, b.action)).collect();
    // What is for every place stands in every footer; the rest as far as there is room.
    let mut room =
        area.width.saturating_sub(1 + shown.iter().filter(|b| b.is_general).map(wide).sum::<u16>());
    let mut x = area.x + 1;
    for binding in shown {
        let width = wide(&binding);
        if !binding.is_general {
            if width > room {
                continue;
            }
            room -= width;
        }
        let line = Line::from(vec![
            Span::styled(binding.shown, theme.strong()),
            Span::raw(" "),
            Span::styled(binding.short, theme.faint()),
        ]);
        line.render(Rect { x, width, ..area }, buffer);
        x += width;
    }
}
