//! What is read off the picture: the ruler, the cursor and its values, and the labels at its right.

use super::dots::Scale;
use super::picture::{Label, Picture};
use super::strips;
use crate::tui::put::Put;
use crate::tui::theme::Theme;
use mile_core::ruler::{Column, Ruler, Window, ticks};
use mile_core::trace::Trace;
use mile_core::units::Nanos;
use ratatui::style::{Modifier, Style};

/// The rate at the right end of the terrain.
pub(super) fn end_of_ground(ground: &[Option<Column>], scale: &Scale, theme: Theme) -> Vec<Label> {
    let last = ground.iter().flatten().next_back();
    let Some((op, rate)) = last.and_then(|c| Some((c.op, c.rate?.mean))) else { return Vec::new() };
    let colour = if op == mile_core::Op::Read { theme.read } else { theme.write };
    let text = format!("{} MB/s", mile_core::units::number(rate));
    vec![Label { y: scale.row(rate), text, style: Style::new().fg(colour), rank: strips::CURVE }]
}

/// Writes the labels of a strip right of the picture, each in its row or the nearest that is free; those of curves right behind the last cell of the
/// trace, `end`, where the road ahead is long enough. Where there is no room beside the picture, limits stand in it.
pub(super) fn place_labels(
    picture: &mut Picture<'_>,
    scale: &Scale,
    mut labels: Vec<Label>,
    names: u16,
    end: u16,
) {
    labels.sort_by_key(|l| l.rank);
    if names == 0 {
        for label in labels.iter().filter(|l| l.rank == strips::LIMIT) {
            let text = format!(" {} ", label.text);
            let at = picture.area.width.saturating_sub(text.chars().count() as u16 + 2);
            text.chars().enumerate().for_each(|(i, c)| picture.set(at + i as u16, label.y, c, label.style));
        }
        return;
    }
    let rows = scale.top..scale.top + scale.rows;
    let mut taken: Vec<u16> = Vec::new();
    for label in labels {
        // A curve whose row is a limit's lies below that, mostly.
        let sides = |d: u16| match (label.y.checked_sub(d), label.y.checked_add(d)) {
            (above, below) if label.rank == strips::CURVE => [below, above],
            (above, below) => [above, below],
        };
        let near = (0..scale.rows).flat_map(sides).flatten();
        let Some(y) = near.filter(|y| rows.contains(y)).find(|y| !taken.contains(y)) else { continue };
        taken.push(y);
        let ahead = strips::is_of_curve(label.rank) && end + names <= picture.area.width;
        let at = if ahead { picture.area.x + end + 1 } else { picture.area.right() + 1 };
        picture.buffer.put(at, y, label.text, usize::from(names - 1), label.style);
    }
}

/// What is told of a sample beside the cursor.
#[derive(Clone, Copy)]
pub(super) enum Told {
    Rate,
    Temperature,
    Latency,
}

impl Told {
    /// Writes the value of a sample beside the cursor, over its curve.
    pub(super) fn draw(self, picture: &mut Picture<'_>, scale: &Scale, x: u16, trace: &Trace, sample: usize) {
        let sample = sample.min(trace.len().saturating_sub(1));
        let us = |v: f64| Nanos((v * 1e3) as u64).to_string();
        let told = match self {
            Self::Rate => {
                trace.rate.get(sample).map(|r| (r, format!("{} MB/s", mile_core::units::number(r))))
            }
            Self::Temperature => trace.temp_at(sample, 8).map(|t| (t.0, t.to_string())),
            Self::Latency => trace.latency.p50.get(sample).map(|p50| (p50.max(0.1).log10(), us(p50))),
        };
        let Some((value, text)) = told else { return };
        let (row, text) = (scale.row(value), format!(" {text} "));
        let y = if row > scale.top { row - 1 } else { (row + 1).min(scale.top + scale.rows - 1) };
        let length = text.chars().count() as u16;
        let right = x + 1 + length <= picture.area.width;
        let from = if right { x + 1 } else { x.saturating_sub(length) };
        // On the page, whatever lies behind.
        let style = picture.theme.page().remove_modifier(Modifier::all()).bg(picture
            .theme
            .page()
            .bg
            .unwrap_or_default());
        text.chars().enumerate().for_each(|(i, c)| picture.set(from + i as u16, y, c, style));
    }
}

pub(super) fn draw_ruler(picture: &mut Picture<'_>, y: u16, ruler: Ruler, window: Window) {
    let faint = picture.theme.faint();
    let width = picture.area.width;
    (0..width).for_each(|x| picture.set(x, y, '─', faint));
    let (unit, _) = ruler.unit(window);
    let unit = if ruler == Ruler::Address { format!("at {unit}") } else { unit.to_owned() };
    picture.label(y, &unit, faint);
    let most = usize::from(width / 12).max(2);
    for (position, label) in ticks(ruler, window, most) {
        let share = (position - window.from) / (window.to - window.from);
        let at = (share * f64::from(width)) as u16;
        let length = label.chars().count() as u16;
        if at + length + 1 > width {
            continue;
        }
        picture.set(at, y, '╵', faint);
        for (i, c) in label.chars().enumerate() {
            picture.set(at + 1 + i as u16, y, c, Style::new().fg(picture.theme.ink));
        }
    }
}

pub(super) fn draw_cursor(picture: &mut Picture<'_>, x: u16, rows: std::ops::Range<u16>) {
    for y in rows {
        let at = (picture.area.x + x, y);
        let Some(cell) = picture.buffer.cell_mut(at) else { continue };
        if matches!(cell.symbol(), " " | "┊") {
            cell.set_char('│').set_style(Style::new().fg(picture.theme.ink));
        } else if cell.modifier.contains(Modifier::REVERSED) {
            cell.set_style(Style::new().remove_modifier(Modifier::REVERSED));
        } else {
            cell.set_style(Style::new().add_modifier(Modifier::REVERSED));
        }
    }
}
