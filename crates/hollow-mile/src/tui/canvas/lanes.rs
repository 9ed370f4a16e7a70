//! Several lanes below each other on one clock: a terrain for each, all as high as the highest, and one strip with the temperature of each.

use super::axes::{draw_cursor, draw_ruler};
use super::framing::{Framing, Sight};
use super::picture::{Cells, MARGIN, Picture};
use super::{dots, legs, marks, strips, terrain};
use crate::tui::put::Put;
use crate::tui::theme::Theme;
use mile_core::channel::Series;
use mile_core::ruler::Ruler;
use mile_core::scene::{Grain, LanesScene, Reading, Strip};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Cells right of the picture, where curves are named, at the least and at the most.
const NAMES: (u16, u16) = (12, 24);
/// Fewest rows of a lane: its head, the numbers of its breaks, and some ground.
const LEAST: u16 = 4;

/// A lane to be drawn.
pub(crate) struct LaneSight<'a> {
    pub(crate) name: &'a str,
    /// What stands over its terrain: at the left, and at the right.
    pub(crate) head: (String, String),
    pub(crate) sight: Sight<'a>,
}

/// Draws lanes, and gives how many of them there was room for.
pub(crate) fn draw_lanes(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    framing: &mut Framing,
    (lanes, at): (&[LaneSight<'_>], usize),
    series: &[Series],
) -> usize {
    let widest = area.width.saturating_sub(MARGIN);
    let names = if area.width >= 100 { names_width(lanes, series) } else { 0 };
    if widest < names + 8 || area.height < LEAST + 2 || lanes.is_empty() {
        return 0;
    }
    let plot = Rect { x: area.x + MARGIN, width: widest - names, ..area };
    framing.width = plot.width;
    framing.ruler = Ruler::Time;
    let subjects: Vec<_> = lanes.iter().map(|l| (l.name, l.sight.subject)).collect();
    let width = usize::from(plot.width);
    let grain = Grain { ground: width, curve: width * dots::ACROSS };
    let scene = LanesScene::of(&subjects, series, framing.window, grain);
    let temperatures = scene.strips.iter().find(|s| s.reading == Reading::Temperature);
    // The names of the legs stand on the ruler, under the terrains.
    let (top, rows) = (area.y, area.height - 2);
    let strip = if temperatures.is_some() && rows >= 2 * LEAST + 3 { (rows / 4).clamp(3, 9) } else { 0 };
    // What is not a temperature has a strip for each unit, as far as there is room.
    let others: Vec<&Strip> = scene.strips.iter().filter(|s| s.reading != Reading::Temperature).collect();
    let fit = usize::from(rows.saturating_sub(strip + LEAST * lanes.len() as u16) / 3);
    let others = &others[..others.len().min(fit).min(2)];
    let below = 3 * others.len() as u16;
    let rows = rows - below;
    let shown = lanes.len().min(usize::from((rows - strip) / LEAST)).max(1);
    // The lane that is selected is among those that are shown.
    let first = at.saturating_sub(shown - 1);
    let lanes_shown = &lanes[first..(first + shown).min(lanes.len())];
    let each = (rows - strip) / shown as u16;
    let cells = Cells { window: scene.window, width: plot.width };
    for (i, lane) in lanes_shown.iter().enumerate() {
        let top = top + i as u16 * each;
        // What is left over goes to the last.
        let height = if i + 1 == shown { rows - strip - each * (shown as u16 - 1) } else { each };
        let (selected, drawn) = (first + i == at, &scene.lanes[first + i]);
        head(buffer, Rect { y: top, height: 1, ..area }, theme, lane, selected);
        let mut picture = Picture { buffer, area: plot, theme };
        terrain::draw(&mut picture, top + 1, height - 1, &drawn.ground, scene.top);
        let places = drawn.marks.iter().filter_map(|m| Some((m.index, cells.of(m.at)?))).collect();
        marks::draw(&mut picture, top + 1..top + height, places, lane.sight.selected);
    }
    let y = top + rows - strip;
    let mut picture = Picture { buffer, area: plot, theme };
    legs::draw(&mut picture, y, &scene.lanes[at.min(lanes.len() - 1)].legs, cells);
    let y = y + 1;
    draw_ruler(&mut picture, y, Ruler::Time, scene.window);
    if let Some(drawn) = temperatures.filter(|_| strip > 0) {
        strips::draw_named(&mut picture, y + 1, strip, drawn, names);
    }
    for (i, drawn) in others.iter().enumerate() {
        strips::draw_named(&mut picture, y + 1 + strip + 3 * i as u16, 3, drawn, names);
    }
    if let Some(x) = framing.cursor.and_then(|c| cells.of(c)) {
        draw_cursor(&mut picture, x, top..area.bottom());
    }
    shown
}

/// Cells for the longest name with its value.
fn names_width(lanes: &[LaneSight<'_>], series: &[Series]) -> u16 {
    let of = |s: &Series| s.channel.of.filter(|_| lanes.len() > 1).and_then(|of| lanes.get(of as usize));
    let channel =
        |s: &Series| of(s).map_or(0, |l| l.name.chars().count() + 1) + s.channel.name.chars().count();
    let names = series.iter().map(channel).chain(lanes.iter().map(|l| l.name.chars().count()));
    (names.max().unwrap_or(0) as u16 + 7).clamp(NAMES.0, NAMES.1)
}

fn head(buffer: &mut Buffer, row: Rect, theme: Theme, lane: &LaneSight<'_>, selected: bool) {
    let mark = if selected { "▸ " } else { "  " };
    let strong = if selected { theme.strong() } else { Style::new().fg(theme.ink) };
    let width = usize::from(row.width);
    let (end, _) = buffer.put(row.x, row.y, format!("{mark}{}", lane.name), width, strong);
    // What it does now comes first where there is little room.
    let length = lane.head.1.chars().count() as u16;
    let right = row.right().saturating_sub(length).max(end);
    let left = usize::from(right.saturating_sub(end + 2));
    buffer.put(end, row.y, format!("  {}", lane.head.0), left, theme.faint());
    buffer.put(right, row.y, &lane.head.1, usize::from(row.right() - right), Style::new().fg(theme.ink));
}
