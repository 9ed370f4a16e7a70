//! The story of a drive as strips over months: temperature, what was written, wear, and errors.

use super::theme::Theme;
use crate::history::Story;
use crate::history::strips::{ends, months, strips};
use crate::tui::canvas::fill;
use crate::tui::put::Put;
use mile_figures::{StoryKind, StoryStrip};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Columns of the labels at the left.
const LABELS: u16 = 9;
/// Parts of a cell, from the bottom.
const PARTS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// The strips of a story at one width. A history may have a hundred thousand snapshots, so that they are made once and not with every frame.
pub(crate) struct Strips {
    width: u16,
    all: Vec<StoryStrip>,
}

impl Strips {
    /// Of a story, as wide as an area.
    pub(crate) fn of(story: &Story, width: u16) -> Self {
        let columns = usize::from(width.saturating_sub(LABELS));
        Self { width, all: if columns == 0 { Vec::new() } else { strips(story, columns) } }
    }

    /// Whether they are of this width.
    pub(crate) fn fit(&self, width: u16) -> bool {
        self.width == width
    }

    /// Rows that they take, each with so many rows, and their ruler.
    pub(crate) fn height(&self, rows: u16) -> u16 {
        if self.all.is_empty() { 0 } else { self.all.len() as u16 * (rows + 1) + 1 }
    }

    /// Draws them from the top of an area, each with so many rows, and their ruler.
    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme, story: &Story, rows: u16) {
        let mut y = area.y;
        for strip in &self.all {
            if y + rows + 1 >= area.bottom() {
                return;
            }
            buffer.put(area.x + LABELS, y, &strip.name, usize::from(area.width - LABELS), theme.faint());
            one(buffer, Rect { y: y + 1, height: rows, ..area }, theme, strip);
            y += rows + 1;
        }
        if !self.all.is_empty() {
            ruler(buffer, Rect { y, height: 1, ..area }, theme, story);
        }
    }
}

fn one(buffer: &mut Buffer, area: Rect, theme: Theme, strip: &StoryStrip) {
    let colour = match strip.kind {
        StoryKind::Temperature => theme.rose,
        StoryKind::Written => theme.write,
        StoryKind::Life => theme.latency,
        StoryKind::Errors => theme.ink,
    };
    let (lowest, highest) = strip.scale;
    let style = Style::new().fg(colour);
    let label = |buffer: &mut Buffer, y: u16, text: &str| {
        let room = usize::from(LABELS - 1);
        buffer.put(area.x, y, format!("{text:>room$}"), room, theme.faint());
    };
    // Of one row, the highest value stands beside the name above it.
    let above = if area.height == 1 { area.y - 1 } else { area.y };
    label(buffer, above, &strip.labels.1);
    label(buffer, area.bottom() - 1, &strip.labels.0);
    let parts = f64::from(area.height) * 8.0;
    let span = (highest - lowest).max(1e-9);
    for (x, column) in strip.columns.iter().enumerate() {
        let Some((low, high)) = column else { continue };
        let at = |v: f64| ((v - lowest) / span * parts).clamp(0.0, parts);
        // What is there is seen, however little it is.
        let (from, to) = (at(*low).floor(), at(*high).max(at(*low).floor() + 1.0).round());
        for row in 0..area.height {
            let bottom = f64::from(area.height - 1 - row) * 8.0;
            let cell = (to - bottom).clamp(0.0, 8.0);
            if cell <= 0.0 || from >= bottom + 8.0 {
                continue;
            }
            let position = (area.x + LABELS + x as u16, area.y + row);
            let Some(at) = buffer.cell_mut(position) else { continue };
            let gap = (from - bottom).clamp(0.0, 8.0);
            if gap >= 1.0 && cell >= 8.0 {
                // The upper part of a cell: the lower part in the colour of the page.
                at.set_char(PARTS[gap as usize])
                    .set_style(style.add_modifier(ratatui::style::Modifier::REVERSED));
            } else if gap >= 1.0 {
                // A mark within the cell, in the half that it lies in.
                at.set_char(if gap + cell >= 8.0 { '▀' } else { '▄' }).set_style(style);
            } else if cell >= 2.0 {
                fill(at, if cell >= 6.0 { 2 } else { 1 }, colour, theme);
            } else if from >= bottom {
                // What is there is seen, however little it is.
                let is_mark = strip.kind == StoryKind::Temperature;
                at.set_char(if is_mark { '▄' } else { PARTS[1] }).set_style(style);
            }
        }
    }
}

/// The months under the strips.
fn ruler(buffer: &mut Buffer, area: Rect, theme: Theme, story: &Story) {
    let Some((first, last)) = ends(&story.snapshots) else { return };
    let width = f64::from(area.width - LABELS);
    let mut free = 0.0;
    for (share, month) in months((first, last)) {
        let x = share * width;
        if x >= free && x + 8.0 <= width {
            buffer.put(area.x + LABELS + x as u16, area.y, format!("╷{month}"), 8, theme.faint());
            free = x + 10.0;
        }
    }
    if free == 0.0 {
        let text = format!("{} to {}", crate::history::day(first), crate::history::day(last));
        buffer.put(area.x + LABELS, area.y, text, usize::from(area.width - LABELS), theme.faint());
    }
}
