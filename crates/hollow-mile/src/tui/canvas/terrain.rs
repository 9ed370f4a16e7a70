//! Rate as terrain: a filled profile, high ground is fast.
//!
//! Each column is ground up to its mean rate. Where the rate fell below that within the column, the ground above the lowest
//! rate is darker; where it rose above, a haze reaches up to the highest.

use super::dots::Scale;
use super::picture::{Cells, Picture};
use crate::tui::theme::Theme;
use mile_core::Op;
use mile_core::pyramid::Extent;
use mile_core::ruler::Column;
use mile_core::scene::{Scene, levels};
use ratatui::style::{Modifier, Style};

/// Blocks that fill a cell from its bottom by eighths.
const EIGHTHS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Draws the terrain on a scale up to `high`, and gives that scale.
pub(super) fn draw(
    picture: &mut Picture<'_>,
    top: u16,
    height: u16,
    ground: &[Option<Column>],
    high: f64,
) -> Scale {
    // The row at the top is kept for the numbers of the breaks.
    let rows = height.saturating_sub(1);
    if high > 0.0 {
        labels(picture, top + 1, rows, high);
    } else {
        // Nothing has been moved: there is no scale yet.
        picture.label(top, "MB/s", picture.theme.faint());
        picture.label(top + rows, "0", picture.theme.faint());
    }
    lane(picture, top + 1, rows, ground, high);
    Scale { low: 0.0, high: high.max(1e-3), top: top + 1, rows }
}

/// The profile alone.
pub(super) fn lane(picture: &mut Picture<'_>, top: u16, rows: u16, ground: &[Option<Column>], high: f64) {
    for (x, known) in ground.iter().enumerate() {
        let Some((op, rate)) = known.as_ref().and_then(|c| Some((c.op, c.rate?))) else { continue };
        column(picture, x as u16, top, rows, high, op, rate);
    }
}

/// Writes the rate of each plateau into the ground under its line, where it is wide and high enough for that.
pub(super) fn plateaus(picture: &mut Picture<'_>, scale: &Scale, scene: &Scene, cells: Cells) {
    let theme = picture.theme;
    for line in &scene.plateaus {
        let edge = |at: f64| {
            (at - cells.window.from) / (cells.window.to - cells.window.from) * f64::from(cells.width)
        };
        let (from, to) = (edge(line.from.0).ceil() as u16, edge(line.to.0) as u16);
        let room = usize::from(to.saturating_sub(from));
        // Below the lowest of its tops, so that it stands on the ground along all of its length.
        let y = scale.row(line.from.1.min(line.to.1)) + 1;
        if y + 1 >= scale.top + scale.rows {
            continue;
        }
        let Some(text) = line.labels().into_iter().find(|t| t.chars().count() + 2 <= room) else { continue };
        let place = |i: usize| (picture.area.x + from + 1 + i as u16, y);
        let ground = |i: usize| picture.buffer.cell(place(i)).filter(|c| c.symbol() == "█").map(|c| c.fg);
        let Some(colours) = (0..text.chars().count()).map(ground).collect::<Option<Vec<_>>>() else {
            continue;
        };
        let op = scene.ground[usize::from(from)].as_ref().map_or(Op::Write, |c| c.op);
        for (i, (c, colour)) in text.chars().zip(colours).enumerate() {
            picture.set(from + 1 + i as u16, y, c, theme.on_ground(op, colour));
        }
    }
}

fn labels(picture: &mut Picture<'_>, top: u16, rows: u16, high: f64) {
    let faint = picture.theme.faint();
    picture.label(top - 1, "MB/s", faint);
    if rows == 0 {
        return;
    }
    // Round values, each at the top of the row that reaches up to it.
    let count = f64::from((rows / 3).clamp(1, 6));
    let mut values: Vec<f64> = levels(0.0, high, count).split_off(1);
    if values.is_empty() {
        values.push(high);
    }
    let step = values[0];
    for value in values {
        let filled = (value / high * f64::from(rows)).round().max(1.0) as u16;
        let text = if step >= 1.0 {
            mile_core::units::thousands(&format!("{value:.0}"))
        } else {
            format!("{value:.2}")
        };
        picture.label(top + rows - filled.min(rows), &text, faint);
    }
}

/// Fills a cell, or its lower half, down to its lower edge: by its background, as a block of many a font does not fill its cell.
pub(crate) fn fill(
    cell: &mut ratatui::buffer::Cell,
    halves: u32,
    colour: ratatui::style::Color,
    theme: Theme,
) {
    match halves {
        0 => {}
        1 => {
            cell.set_char('▀').set_style(Style::new().fg(colour).add_modifier(Modifier::REVERSED));
        }
        _ if theme.is_plain() => {
            cell.set_char('█');
        }
        _ => {
            cell.set_char('█').set_style(Style::new().fg(colour).bg(colour));
        }
    }
}

/// A column in halves of cells. Each cell is filled down to its lower edge by its background: a block of many a font does not fill its cell, and
/// would leave a line between two rows.
fn column(picture: &mut Picture<'_>, x: u16, top: u16, rows: u16, high: f64, op: Op, rate: Extent) {
    let theme = picture.theme;
    let (ground, dip, haze) = match op {
        Op::Read => (theme.read, theme.read_dip, theme.read_haze),
        _ => (theme.write, theme.write_dip, theme.write_haze),
    };
    let halves = |v: f64| ((v / high * f64::from(rows) * 2.0).round().max(0.0)) as u32;
    let (min, mean, max) = (halves(rate.min), halves(rate.mean), halves(rate.max));
    for row in 0..rows {
        let y = top + rows - 1 - row;
        let floor = u32::from(row) * 2;
        let part = |level: u32| level.saturating_sub(floor).min(2);
        let colour = if floor + 1 > min && min + 2 < mean { dip } else { ground };
        let half = |colour| Style::new().fg(colour).add_modifier(Modifier::REVERSED);
        match (part(mean), part(max)) {
            (2, _) if theme.is_plain() => picture.set(x, y, '█', Style::new()),
            (2, _) => picture.set(x, y, '█', Style::new().fg(colour).bg(colour)),
            (1, 2) if !theme.is_plain() => picture.set(x, y, '▀', Style::new().fg(haze).bg(colour)),
            (1, _) => picture.set(x, y, '▀', half(colour)),
            // Something that moves at all is seen.
            (0, 0) if row == 0 && rate.mean > 0.0 => picture.set(x, y, '▁', Style::new().fg(ground)),
            (0, 0) => {}
            (0, reach) if theme.is_plain() => {
                picture.set(x, y, if reach > 1 { '░' } else { ' ' }, Style::new());
            }
            (0, 1) => picture.set(x, y, '▀', half(haze)),
            _ => picture.set(x, y, '█', Style::new().fg(haze).bg(haze)),
        }
    }
}

/// Terrain in one row, over `width` cells: what lists and the header show.
pub(crate) fn miniature(rates: &[f32], width: usize) -> String {
    let high = rates.iter().copied().fold(0.0_f32, f32::max);
    if rates.is_empty() || high <= 0.0 {
        return " ".repeat(width);
    }
    (0..width)
        .map(|i| {
            let from = i * rates.len() / width;
            let to = ((i + 1) * rates.len() / width).clamp(from + 1, rates.len());
            let mean = rates[from.min(to - 1)..to].iter().sum::<f32>() / (to - from.min(to - 1)) as f32;
            EIGHTHS[((mean / high * 7.0).round() as usize + 1).min(8)]
        })
        .collect()
}
