//! Every run, newest first, with its terrain in miniature.

use super::super::canvas::miniature;
use super::super::state::LogbookPlace;
use super::super::theme::Theme;
use crate::figure::when;
use mile_core::Bytes;
use mile_logbook::Entry;
use mile_runner::Status;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

pub(super) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, place: &LogbookPlace) {
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
