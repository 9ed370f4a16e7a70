//! The picture on the canvas, and what is put into it.

use crate::tui::put::Put;
use crate::tui::theme::Theme;
use mile_core::ruler::Window;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Cells left of the picture for labels.
pub(super) const MARGIN: u16 = 7;

/// What stands beside a curve, right of the picture: of two that want one row, the one of lower rank has it.
pub(crate) struct Label {
    pub(super) y: u16,
    pub(super) text: String,
    pub(super) style: Style,
    pub(super) rank: u8,
}

/// The picture and where it is.
pub(crate) struct Picture<'a> {
    pub(super) buffer: &'a mut Buffer,
    /// Without the margin.
    pub(super) area: Rect,
    pub(super) theme: Theme,
}

/// The cells that a window is shown in.
#[derive(Clone, Copy)]
pub(super) struct Cells {
    pub(super) window: Window,
    pub(super) width: u16,
}

impl Cells {
    /// The cell of a place on the ruler, where it is shown.
    pub(super) fn of(self, at: f64) -> Option<u16> {
        let share = (at - self.window.from) / (self.window.to - self.window.from);
        (0.0..1.0).contains(&share).then(|| (share * f64::from(self.width)) as u16)
    }
}

impl Picture<'_> {
    pub(super) fn set(&mut self, x: u16, y: u16, glyph: char, style: Style) {
        if let Some(cell) = self.buffer.cell_mut((self.area.x + x, y)) {
            cell.set_char(glyph).set_style(style);
        }
    }

    /// A label in the margin, right-aligned.
    pub(super) fn label(&mut self, y: u16, text: &str, style: Style) {
        let width = text.chars().count().min(usize::from(MARGIN - 1)) as u16;
        self.buffer.put(self.area.x - 1 - width, y, text, usize::from(width), style);
    }
}
