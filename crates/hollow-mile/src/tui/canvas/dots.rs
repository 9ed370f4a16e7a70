//! Curves finer than a cell: dots, two across and four down in each cell.
//!
//! Where the terminal's font has no such characters, as on the console of the kernel, a cell has two halves.

use super::picture::Picture;
use ratatui::style::Style;

/// Dots across and down in a cell.
pub(super) const ACROSS: usize = 2;
pub(super) const DOWN: u32 = 4;

/// The bits of a braille character by column and row of the dot (Unicode, block U+2800: dots 1 to 8).
const BITS: [[u8; 4]; 2] = [[0x01, 0x02, 0x04, 0x40], [0x08, 0x10, 0x20, 0x80]];

/// Where values lie in a strip of some rows.
#[derive(Clone, Copy)]
pub(super) struct Scale {
    pub(super) low: f64,
    pub(super) high: f64,
    pub(super) top: u16,
    pub(super) rows: u16,
}

impl Scale {
    /// The dot of a value, from the top of the strip; values beyond its ends lie on them.
    fn dot(&self, value: f64) -> u32 {
        let dots = u32::from(self.rows) * DOWN;
        let share = ((value - self.low) / (self.high - self.low)).clamp(0.0, 1.0);
        dots - 1 - ((share * f64::from(dots)) as u32).min(dots - 1)
    }

    /// The row of a value on the screen.
    pub(super) fn row(&self, value: f64) -> u16 {
        self.top + (self.dot(value) / DOWN) as u16
    }
}

/// How a line is drawn.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Stroke {
    /// What was measured.
    Solid,
    /// What was estimated, and limits: dots with gaps.
    Dashed,
}

/// Draws a line through values, [`ACROSS`] of them for each cell, with uprights where it jumps. Where lines meet in a cell, the dots of both are kept and
/// the later colour counts.
pub(super) fn line(
    picture: &mut Picture<'_>,
    scale: &Scale,
    values: &[Option<f64>],
    style: Style,
    stroke: Stroke,
) {
    let mut before: Option<u32> = None;
    for (x, value) in values.iter().enumerate() {
        let Some(dot) = value.map(|v| scale.dot(v)) else {
            before = None;
            continue;
        };
        // An upright joins the dots of both from one to the other, without that of the last.
        let (from, to) = match before {
            Some(last) if last + 1 < dot => (last + 1, dot),
            Some(last) if dot + 1 < last => (dot, last - 1),
            _ => (dot, dot),
        };
        before = Some(dot);
        if stroke == Stroke::Dashed && x % 6 >= 3 {
            continue;
        }
        (from..=to).for_each(|y| set(picture, scale, x, y, style));
    }
}

/// Fills what lies between two lines with every other dot.
pub(super) fn band(
    picture: &mut Picture<'_>,
    scale: &Scale,
    lower: &[Option<f64>],
    upper: &[Option<f64>],
    style: Style,
) {
    for (x, (a, b)) in lower.iter().zip(upper).enumerate() {
        let (Some(a), Some(b)) = (a, b) else { continue };
        let (bottom, top) = (scale.dot(*a), scale.dot(*b));
        (top..=bottom)
            .filter(|y| (*y as usize + x).is_multiple_of(2))
            .for_each(|y| set(picture, scale, x, y, style));
    }
}

/// Adds a dot to what its cell shows.
fn set(picture: &mut Picture<'_>, scale: &Scale, x: usize, dot: u32, style: Style) {
    let (column, row) = ((x / ACROSS) as u16, scale.top + (dot / DOWN) as u16);
    let braille = picture.theme.has_braille();
    let position = (picture.area.x + column, row);
    if column >= picture.area.width {
        return;
    }
    let Some(cell) = picture.buffer.cell_mut(position) else { return };
    let shown = cell.symbol().chars().next().unwrap_or(' ');
    let glyph = if braille {
        let known = (shown as u32).checked_sub(0x2800).filter(|k| *k < 0x100).unwrap_or(0);
        let bit = BITS[x % ACROSS][(dot % DOWN) as usize];
        char::from_u32(0x2800 + (known | u32::from(bit))).unwrap_or(' ')
    } else {
        match (shown, dot % DOWN < DOWN / 2) {
            ('█', _) | ('▄', true) | ('▀', false) => '█',
            (_, true) => '▀',
            (_, false) => '▄',
        }
    };
    cell.set_char(glyph).set_style(style);
}
