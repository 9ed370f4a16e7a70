//! The sheet on which what lies on top of a place is drawn, and the fields on it.

use crate::tui::put::Put;
use crate::tui::theme::Theme;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;
use ratatui::widgets::{Clear, Widget};
use tui_input::Input;

/// A cleared sheet at the foot of the page with a rule and a title above; gives its inside.
pub(super) fn sheet(buffer: &mut Buffer, area: Rect, theme: Theme, rows: u16, title: &str) -> Rect {
    let height = (rows + 3).min(area.height);
    let whole = Rect { y: area.bottom() - height, height, ..area };
    Clear.render(whole, buffer);
    buffer.set_style(whole, theme.page());
    for x in whole.x..whole.right() {
        buffer.set_string(x, whole.y, "━", theme.faint());
    }
    buffer.put(
        whole.x + 2,
        whole.y,
        format!(" {title} "),
        usize::from(whole.width.saturating_sub(4)),
        theme.strong(),
    );
    Rect {
        x: whole.x + 2,
        y: whole.y + 2,
        width: whole.width.saturating_sub(4),
        height: height.saturating_sub(3),
    }
}

/// A field that is typed into, seen by its ground where it is the one; gives where the cursor is.
pub(super) fn field(
    buffer: &mut Buffer,
    area: Rect,
    y: u16,
    label: &str,
    input: &Input,
    theme: Theme,
    active: bool,
) -> Position {
    buffer.set_string(area.x, y, label, if active { theme.strong() } else { theme.faint() });
    let x = area.x + label.chars().count() as u16;
    let width = area.right().saturating_sub(x).max(1);
    if active {
        buffer.set_style(Rect { x, y, width, height: 1 }, theme.selection());
    }
    let scroll = input.visual_scroll(usize::from(width.saturating_sub(1)));
    let text: String = input.value().chars().skip(scroll).collect();
    let style = if active { theme.strong() } else { Style::new().fg(theme.ink) };
    buffer.put(x, y, text, usize::from(width), style);
    Position { x: x + (input.visual_cursor().saturating_sub(scroll)) as u16, y }
}
