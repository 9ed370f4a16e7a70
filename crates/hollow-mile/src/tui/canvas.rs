//! The canvas that every picture of a run is drawn on: terrain above, strips below, one ruler, one cursor.

mod axes;
mod dots;
mod framing;
mod lanes;
mod legs;
mod marks;
mod picture;
mod strips;
mod terrain;

pub(crate) use framing::{Framing, Sight};
pub(crate) use lanes::{LaneSight, draw_lanes};
pub(crate) use terrain::{fill, miniature};

use super::theme::Theme;
use axes::{Told, draw_cursor, draw_ruler, end_of_ground, place_labels};
use mile_core::findings::Cause;
use mile_core::ruler::{Column, Ruler, Window};
use mile_core::scene::{Grain, Reading, Scene, ceiling};
use picture::{Cells, MARGIN, Picture};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Cells right of the picture, where curves are named and their last values stand, and the width from which there is room for them.
const NAMES: u16 = 13;

const WITH_NAMES: u16 = 96;
/// Height from which the legs have a row of their own.
const WITH_LEGS: u16 = 12;

/// Draws the terrain of a stretch without a margin, as high as `high` MB/s.
pub(crate) fn lane(buffer: &mut Buffer, area: Rect, theme: Theme, data: Vec<Option<Column>>, high: f64) {
    let mut picture = Picture { buffer, area, theme };
    terrain::lane(&mut picture, area.y, area.height, &data, high);
}

/// Draws rates along an area as terrain, as high as the highest of them.
pub(crate) fn profile(buffer: &mut Buffer, area: Rect, theme: Theme, (rates, op): (&[f32], mile_core::Op)) {
    let high = rates.iter().copied().fold(0.0_f32, f32::max);
    if rates.is_empty() || high <= 0.0 {
        return;
    }
    let column = |x: u16| {
        let rate = f64::from(rates[usize::from(x) * rates.len() / usize::from(area.width)]);
        Some(Column {
            samples: 0..1,
            op,
            rate: Some(mile_core::pyramid::Extent { min: rate, mean: rate, max: rate }),
            temp: None,
            p50: None,
            p99: None,
        })
    };
    lane(buffer, area, theme, (0..area.width).map(column).collect(), f64::from(high));
}

/// Draws two series of rates (position on a ruler, MB/s) on one stretch of it and one scale: the first grows up from the ruler, the second down.
pub(crate) fn banks(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    (ruler, window): (Ruler, Window),
    sides: [&[(f64, f64)]; 2],
) {
    if area.width < MARGIN + 8 || area.height < 3 {
        return;
    }
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN, ..area };
    let all = || sides.iter().flat_map(|s| s.iter());
    let (width, high) = (window.to - window.from, all().map(|p| p.1).fold(0.0, f64::max));
    if width <= 0.0 || high <= 0.0 {
        return;
    }
    let rows = (area.height - 1) / 2;
    let high = ceiling(high);
    let halves: Vec<[u32; 2]> = (0..plot.width)
        .map(|x| {
            let edge = |x: u16| window.from + width * f64::from(x) / f64::from(plot.width);
            sides.map(|side| {
                let within = side.iter().filter(|p| (edge(x)..edge(x + 1)).contains(&p.0)).map(|p| p.1);
                let (sum, n) = within.fold((0.0, 0), |(s, n), v| (s + v, n + 1));
                let behind = side.last().is_none_or(|p| p.0 < edge(x));
                // Between two points that are further apart than a column is wide, the last one holds.
                let last = side.iter().rev().find(|p| p.0 <= edge(x)).map(|p| p.1).filter(|_| !behind);
                let rate = if n > 0 { Some(sum / f64::from(n)) } else { last };
                rate.map_or(0, |r| (r / high * f64::from(rows) * 2.0).round() as u32)
            })
        })
        .collect();
    let mut picture = Picture { buffer, area: plot, theme };
    let label = mile_core::units::thousands(&format!("{high:.0}"));
    let faint = theme.faint();
    picture.label(plot.y, &label, faint);
    picture.label(plot.y + 1, "MB/s", faint);
    picture.label(plot.y + 2 * rows, &label, faint);
    for (x, [up, down]) in halves.into_iter().enumerate() {
        for row in 0..rows {
            let part = |level: u32| level.saturating_sub(u32::from(row) * 2).min(2);
            let (above, below) = (plot.y + rows - 1 - row, plot.y + rows + 1 + row);
            if let Some(cell) = picture.buffer.cell_mut((plot.x + x as u16, above)) {
                fill(cell, part(up), theme.write, theme);
            }
            let Some(cell) = picture.buffer.cell_mut((plot.x + x as u16, below)) else { continue };
            match part(down) {
                // Its upper half, which hangs from the ruler.
                1 => _ = cell.set_char('▀').set_style(Style::new().fg(theme.write_dip)),
                part => fill(cell, part, theme.write_dip, theme),
            }
        }
    }
    draw_ruler(&mut picture, plot.y + rows, ruler, window);
}

/// The glyph of a cause.
pub(crate) fn glyph(cause: Cause) -> char {
    match cause {
        Cause::CacheExhausted => '▤',
        Cause::ThermalThrottle => '≋',
        Cause::ThermalRelease => '↗',
        Cause::Stall => '┄',
        Cause::StallEnd => '╱',
        Cause::OtherSide => '⊣',
        Cause::OtherSideEnd => '⊢',
        Cause::Interference => '⇄',
        Cause::InterferenceEnd => '→',
        Cause::CacheRecovered => '◒',
        Cause::FillLevel => '◕',
        Cause::Surface => '⌣',
        Cause::Workload => '»',
        Cause::Unexplained => '?',
    }
}

/// How the rows of a picture are shared.
struct Shares {
    ground: u16,
    legs: u16,
    temp: u16,
    latency: u16,
}

impl Shares {
    /// Strips fold away, latency first; the terrain never does.
    fn of(height: u16, has_temp: bool, has_latency: bool) -> Self {
        // One row is the ruler.
        let legs = u16::from(height >= WITH_LEGS);
        let rows = height.saturating_sub(1 + legs);
        let temp = if !has_temp || rows < 9 { 0 } else { (rows * 3 / 10).clamp(3, 16) };
        let latency = if !has_latency || rows < 15 { 0 } else { (rows / 5).clamp(3, 10) };
        Self { ground: rows - temp - latency, legs, temp, latency }
    }
}

/// Draws the canvas. Changes nothing but the width that the framing remembers.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, framing: &mut Framing, sight: &Sight<'_>) {
    if area.width < MARGIN + 8 || area.height < 4 {
        return;
    }
    let names = if area.width >= WITH_NAMES { NAMES } else { 0 };
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN - names, ..area };
    framing.width = plot.width;
    let (ruler, window) = framing.resolve(sight);
    let width = usize::from(plot.width);
    let scene =
        Scene::of(&sight.subject, ruler, window, Grain { ground: width, curve: width * dots::ACROSS });
    let of = |reading| scene.strips.iter().find(|s| s.reading == reading);
    let (temp, latency) = (of(Reading::Temperature), of(Reading::Latency));
    let share = Shares::of(area.height, temp.is_some(), latency.is_some());
    let cells = Cells { window, width: plot.width };
    let mut picture = Picture { buffer, area: plot, theme };
    let ground = terrain::draw(&mut picture, plot.y, share.ground, &scene.ground, scene.top);
    terrain::plateaus(&mut picture, &ground, &scene, cells);
    let mut y = plot.y + share.ground;
    if share.legs > 0 {
        legs::draw(&mut picture, y, &scene.legs, cells);
    }
    y += share.legs;
    draw_ruler(&mut picture, y, ruler, window);
    let below = y + 1;
    let bottom = below + share.temp + share.latency;
    let trace = sight.subject.trace;
    let at = framing.cursor.filter(|c| cells.of(*c).is_some()).map(|c| ruler.sample(trace, c));
    let mut strips = vec![(Told::Rate, ground, end_of_ground(&scene.ground, &ground, theme))];
    for (told, strip, top, rows) in [
        (Told::Temperature, temp, below, share.temp),
        (Told::Latency, latency, below + share.temp, share.latency),
    ] {
        if let Some(strip) = strip.filter(|_| rows > 0) {
            let mut labels = Vec::new();
            let scale = strips::draw(&mut picture, top, rows, strip, &mut labels);
            strips.push((told, scale, labels));
        }
    }
    let places = scene.marks.iter().filter_map(|m| Some((m.index, cells.of(m.at)?))).collect();
    marks::draw(&mut picture, plot.y..bottom, places, sight.selected);
    let x = framing.cursor.and_then(|c| cells.of(c));
    if let Some(x) = x {
        draw_cursor(&mut picture, x, plot.y..bottom);
    }
    let end = scene.ground.iter().rposition(Option::is_some).map_or(0, |x| x as u16 + 1);
    for (told, scale, labels) in strips {
        place_labels(&mut picture, &scale, labels, names, end);
        if let Some((x, i)) = x.zip(at) {
            told.draw(&mut picture, &scale, x, trace, i);
        }
    }
}

#[cfg(test)]
mod tests;
