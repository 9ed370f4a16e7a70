//! Lines of text in a place: how they are drawn, and how they are gone through.

use super::canvas::glyph;
use super::put::Put;
use super::theme::Theme;
use mile_core::findings::Break;
use mile_core::units::number;
use mile_core::{Bytes, Nanos};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// A line or an item `by` further on, of `count`.
pub(crate) fn step(at: usize, by: isize, count: usize) -> usize {
    at.saturating_add_signed(by).min(count.saturating_sub(1))
}

/// The break `by` further on, of `count`; the first or the last where none is selected.
pub(crate) fn step_selected(at: Option<usize>, by: isize, count: usize) -> Option<usize> {
    match (at, count) {
        (_, 0) => None,
        (None, _) => Some(if by > 0 { 0 } else { count - 1 }),
        (Some(at), _) => Some(step(at, by, count)),
    }
}

/// A break in one line: number, where, from what to what, why, how sure.
pub(crate) fn break_line(index: usize, b: &Break, width: u16) -> String {
    let place = format!("{}, {}", Bytes(b.at_bytes), Nanos::from_secs(b.at_s));
    let rates = format!("{} → {} MB/s", number(b.from_mb_s), number(b.to_mb_s));
    if width < 100 {
        // What the figure is stands in the ledger below.
        let sure = 100.0 * b.confidence;
        format!("{:>2}  {place}  {rates}  {} {}, {sure:.0} %", index + 1, glyph(b.cause), b.cause.words())
    } else {
        let why = format!("{} {}", glyph(b.cause), b.verdict());
        format!("{:>2}  {place:<24} {rates:<22} {why}", index + 1)
    }
}

/// Lines of text without their styles.
pub(crate) fn text_of(all: &[(String, Style)]) -> String {
    all.iter().map(|(text, _)| format!("{}\n", text.trim_end())).collect()
}

/// Draws lines of text, and says at the last row how many did not fit.
pub(crate) fn lines(buffer: &mut Buffer, area: Rect, theme: Theme, all: &[(String, Style)]) {
    let fit = usize::from(area.height);
    let cut = all.len() > fit;
    for (i, (text, style)) in all.iter().take(if cut { fit.saturating_sub(1) } else { fit }).enumerate() {
        let row = Rect { y: area.y + i as u16, height: 1, ..area };
        // A selected line is seen over its whole width.
        if style.bg.is_some() || style.add_modifier.contains(Modifier::REVERSED) {
            buffer.set_style(row, *style);
        }
        buffer.put(row.x, row.y, text, usize::from(row.width), *style);
    }
    if cut && fit > 0 {
        let more = format!("… {} more", all.len() - (fit - 1));
        buffer.put(area.x, area.bottom() - 1, more, usize::from(area.width), theme.faint());
    }
}
