//! Rate as terrain: a filled profile, high ground is fast.
//!
//! Each column is ground up to its mean rate. Where the rate fell below that within the column, the ground above the lowest
//! rate is darker; where it rose above, a haze reaches up to the highest.

use super::Picture;
use super::dots::Scale;
use crate::tui::theme::Theme;
use mile_core::Op;
use mile_core::pyramid::Extent;
use mile_core::ruler::Column;
use ratatui::style::{Modifier, Style};

/// Blocks that fill a cell from its bottom by eighths.
const EIGHTHS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// A round number at or above `value`.
pub(super) fn ceiling(value: f64) -> f64 {
    let power = 10_f64.powf(value.max(1e-3).log10().floor());
    [1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0]
        .into_iter()
        .map(|m| m * power)
        .find(|r| *r >= value)
        .unwrap_or(value)
}

/// The highest rate of columns, MB/s.
pub(super) fn highest(data: &[Option<Column>]) -> f64 {
    data.iter().flatten().filter_map(|c| c.rate).map(|r| r.max).fold(0.0, f64::max)
}

/// Draws the terrain, as high as a round number above `highest`, and gives its scale.
pub(super) fn draw(picture: &mut Picture<'_>, top: u16, height: u16, highest: f64) -> Scale {
    // The row at the top is kept for the numbers of the breaks.
    let rows = height.saturating_sub(1);
    let high = ceiling(highest);
    if highest > 0.0 {
        labels(picture, top + 1, rows, high);
    } else {
        // Nothing has been moved: there is no scale yet.
        picture.label(top, "MB/s", picture.theme.faint());
        picture.label(top + rows, "0", picture.theme.faint());
    }
    lane(picture, top + 1, rows, high);
    Scale { low: 0.0, high, top: top + 1, rows }
}

/// The profile alone.
pub(super) fn lane(picture: &mut Picture<'_>, top: u16, rows: u16, high: f64) {
    for x in 0..picture.data.len() {
        let Some((op, rate)) = picture.data[x].as_ref().and_then(|c| Some((c.op, c.rate?))) else { continue };
        column(picture, x as u16, top, rows, high, op, rate);
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
    let power = 10_f64.powf((high / count).log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0]
        .into_iter()
        .map(|m| m * power)
        .find(|s| *s >= high / count * 0.999)
        .unwrap_or(high);
    let mut values: Vec<f64> = (1..=(high / step + 1e-9) as u32).map(|i| step * f64::from(i)).collect();
    if values.is_empty() {
        values.push(high);
    }
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
