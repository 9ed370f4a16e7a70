//! Text on the screen: what has no room ends in dots, so that nobody takes a part for the whole.

use ratatui::buffer::Buffer;
use ratatui::style::Style;
use std::borrow::Cow;

/// A text in at most so many cells; one that is cut ends in dots.
pub(crate) fn cut(text: &str, width: usize) -> Cow<'_, str> {
    match text.chars().count() {
        n if n <= width => Cow::Borrowed(text),
        _ if width == 0 => Cow::Borrowed(""),
        _ => text.chars().take(width - 1).chain(['…']).collect::<String>().into(),
    }
}

/// Puts text on the screen.
pub(crate) trait Put {
    /// Writes a text from a cell on, in at most so many cells, and gives the cell behind it. One that has no room ends in dots.
    fn put(
        &mut self,
        x: u16,
        y: u16,
        text: impl AsRef<str>,
        width: usize,
        style: impl Into<Style>,
    ) -> (u16, u16);
}

impl Put for Buffer {
    fn put(
        &mut self,
        x: u16,
        y: u16,
        text: impl AsRef<str>,
        width: usize,
        style: impl Into<Style>,
    ) -> (u16, u16) {
        let room = usize::from(self.area.right().saturating_sub(x));
        // Blanks at the end are no loss.
        let text = text.as_ref();
        let kept = if text.trim_end().chars().count() <= width { text } else { &cut(text.trim_end(), width) };
        self.set_stringn(x, y, kept, width.min(room), style)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::layout::Rect;

    #[test]
    fn what_has_no_room_ends_in_dots() {
        assert_eq!(
            [cut("serial", 6), cut("serial", 5), cut("serial", 1), cut("serial", 0)],
            ["serial", "seri…", "…", ""]
        );
        let mut buffer = Buffer::empty(Rect::new(0, 0, 10, 1));
        buffer.put(0, 0, "°C and more", 5, Style::new());
        assert_eq!(buffer.cell((4, 0)).map(ratatui::buffer::Cell::symbol), Some("…"));
        assert_eq!(buffer.put(6, 0, "ab   ", 3, Style::new()), (9, 0));
        assert_eq!(buffer.cell((7, 0)).map(ratatui::buffer::Cell::symbol), Some("b"));
    }
}
