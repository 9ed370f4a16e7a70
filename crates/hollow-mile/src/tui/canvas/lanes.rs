//! Several lanes below each other on one clock: a terrain for each, all as high as the highest, and one strip with the temperature of each.

use super::strips::{self, Curve};
use super::{Framing, MARGIN, Picture, Scene, dots, draw_cursor, draw_ruler, legs, marks, terrain};
use crate::tui::put::Put;
use crate::tui::theme::Theme;
use mile_core::Nanos;
use mile_core::channel::Series;
use mile_core::findings::Break;
use mile_core::ruler::{Column, Ruler, Wanted, Window, columns_with};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Cells right of the picture, where curves are named, at the least and at the most.
const NAMES: (u16, u16) = (12, 24);
/// Fewest rows of a lane: its head, the numbers of its breaks, and some ground.
const LEAST: u16 = 4;

/// A lane to be drawn.
pub(crate) struct LaneScene<'a> {
    pub(crate) name: &'a str,
    /// What stands over its terrain: at the left, and at the right.
    pub(crate) head: (String, String),
    pub(crate) scene: Scene<'a>,
}

/// Draws lanes, and gives how many of them there was room for.
pub(crate) fn draw_lanes(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    framing: &mut Framing,
    (lanes, at): (&[LaneScene<'_>], usize),
    series: &[Series],
) -> usize {
    let names = if area.width >= 100 { names_width(lanes, series) } else { 0 };
    if area.width < MARGIN + names + 8 || area.height < LEAST + 2 || lanes.is_empty() {
        return 0;
    }
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN - names, ..area };
    framing.width = plot.width;
    framing.ruler = Ruler::Time;
    let end = lanes.iter().map(|l| Ruler::Time.end(l.scene.trace)).fold(1.0, f64::max);
    let window = framing.window.unwrap_or(Window { from: 0.0, to: end });
    let has_temp = lanes.iter().any(|l| !l.scene.trace.temp.is_blank());
    // The names of the legs stand on the ruler, under the terrains.
    let (top, rows) = (area.y, area.height - 2);
    let strip = if has_temp && rows >= 2 * LEAST + 3 { (rows / 4).clamp(3, 9) } else { 0 };
    // What is not a temperature has a strip for each unit, as far as there is room.
    let others = units(series);
    let fit = usize::from(rows.saturating_sub(strip + LEAST * lanes.len() as u16) / 3);
    let others = &others[..others.len().min(fit).min(2)];
    let below = 3 * others.len() as u16;
    let rows = rows - below;
    let shown = lanes.len().min(usize::from((rows - strip) / LEAST)).max(1);
    // The lane that is selected is among those that are shown.
    let first = at.saturating_sub(shown - 1);
    let lanes_shown = &lanes[first..(first + shown).min(lanes.len())];
    let data: Vec<Vec<Option<Column>>> = lanes
        .iter()
        .map(|l| columns_with(l.scene.trace, Ruler::Time, window, usize::from(plot.width), Wanted::Rate))
        .collect();
    let highest = data.iter().map(|d| terrain::highest(d)).fold(0.0, f64::max);
    let each = (rows - strip) / shown as u16;
    let cell = |at: f64| {
        let share = (at - window.from) / (window.to - window.from);
        (0.0..1.0).contains(&share).then(|| (share * f64::from(plot.width)) as u16)
    };
    for (i, lane) in lanes_shown.iter().enumerate() {
        let top = top + i as u16 * each;
        // What is left over goes to the last.
        let height = if i + 1 == shown { rows - strip - each * (shown as u16 - 1) } else { each };
        let selected = first + i == at;
        head(buffer, Rect { y: top, height: 1, ..area }, theme, lane, selected);
        let mut picture = Picture { buffer, area: plot, data: data[first + i].clone(), theme };
        terrain::draw(&mut picture, top + 1, height - 1, highest);
        let place = |b: &Break| cell(Ruler::Time.place(lane.scene.trace, b.at_bytes, b.at_s));
        let places = lane.scene.breaks.iter().enumerate().filter_map(|(i, b)| Some((i, place(b)?)));
        marks::draw(&mut picture, top + 1..top + height, places.collect(), lane.scene.selected);
    }
    let y = top + rows - strip;
    let mut picture = Picture { buffer, area: plot, data: Vec::new(), theme };
    legs::draw(&mut picture, y, &lanes[at.min(lanes.len() - 1)].scene, Ruler::Time, cell);
    let y = y + 1;
    draw_ruler(&mut picture, y, Ruler::Time, window);
    if strip > 0 {
        let curve = |(i, lane): (usize, &LaneScene<'_>)| {
            let count = usize::from(plot.width) * dots::ACROSS;
            Curve {
                name: if lane.name.is_empty() { "drive".into() } else { lane.name.to_owned() },
                colour: i,
                values: strips::values(
                    &columns_with(lane.scene.trace, Ruler::Time, window, count, Wanted::Strips),
                    |c| c.temp,
                ),
            }
        };
        // What the drives tell themselves is drawn over what is measured beside them.
        let mut curves = curves_of(series, "°C", lanes, window, plot.width);
        curves.extend(lanes.iter().enumerate().map(curve));
        let limits = lanes.iter().map(|l| l.scene.context);
        strips::temperatures(&mut picture, y + 1, strip, &curves, limits, names);
    }
    for (i, unit) in others.iter().enumerate() {
        let top = y + 1 + strip + 3 * i as u16;
        let curves = curves_of(series, unit, lanes, window, plot.width);
        strips::plain(&mut picture, top, 3, unit, &curves, names);
    }
    if let Some(x) = framing.cursor.and_then(cell) {
        draw_cursor(&mut picture, x, top..area.bottom());
    }
    shown
}

/// What a channel is called beside those of other lanes.
fn called(one: &Series, lanes: &[LaneScene<'_>]) -> String {
    match one.channel.of.filter(|_| lanes.len() > 1).and_then(|of| lanes.get(of as usize)) {
        Some(lane) => format!("{} {}", lane.name, one.channel.name),
        None => one.channel.name.clone(),
    }
}

/// Cells for the longest name with its value.
fn names_width(lanes: &[LaneScene<'_>], series: &[Series]) -> u16 {
    let names = series.iter().map(|s| called(s, lanes)).chain(lanes.iter().map(|l| l.name.to_owned()));
    let longest = names.map(|n| n.chars().count()).max().unwrap_or(0) as u16;
    (longest + 7).clamp(NAMES.0, NAMES.1)
}

/// The units of channels that are no temperatures, each once.
fn units(series: &[Series]) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for unit in series.iter().map(|s| &s.channel.unit).filter(|u| *u != "°C") {
        if !all.contains(unit) {
            all.push(unit.clone());
        }
    }
    all
}

/// The channels of a unit as curves, a value for each column: the mean of the readings that were taken in it.
fn curves_of(
    series: &[Series],
    unit: &str,
    lanes: &[LaneScene<'_>],
    window: Window,
    width: u16,
) -> Vec<Curve> {
    let count = usize::from(width) * dots::ACROSS;
    let edge = |x: usize| Nanos((window.from + (window.to - window.from) * x as f64 / count as f64) as u64);
    let curve = |one: &Series| {
        let name = called(one, lanes);
        // Between two readings that are further apart than a column is wide, the line goes on.
        let mut last = None;
        let values = (0..count).map(|x| {
            let mean = one.summary(edge(x), edge(x + 1)).map(|s| s.0);
            let over = one.readings.last().is_none_or(|r| r.at < edge(x));
            last = mean.or(last.filter(|_| !over));
            last
        });
        // Those of the run itself have the colours behind those of the lanes.
        let colour = one.channel.of.map_or(lanes.len(), |of| of as usize);
        Curve { name, colour, values: values.collect() }
    };
    series.iter().filter(|s| s.channel.unit == unit && !s.readings.is_empty()).map(curve).collect()
}

fn head(buffer: &mut Buffer, row: Rect, theme: Theme, lane: &LaneScene<'_>, selected: bool) {
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
