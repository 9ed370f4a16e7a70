//! The strips under the terrain, on the same ruler: temperature with its limits, latency as a band. Each curve is named at its right end.

use super::dots::{self, Scale, Stroke};
use super::picture::{Label, Picture};
use crate::tui::put::Put;
use mile_core::scene::{Curve, CurveKind, Reading, Strip};
use ratatui::style::{Color, Style};

/// Ranks of labels: limits stand in their own rows, the curves beside them give way, and where one leads comes last.
pub(super) const LIMIT: u8 = 0;
pub(super) const CURVE: u8 = 1;
const SECOND: u8 = 2;
const LEADS: u8 = 3;

/// Whether a label is of a curve, and so may stand right behind its end.
pub(super) fn is_of_curve(rank: u8) -> bool {
    matches!(rank, CURVE | SECOND)
}

fn scale_of(strip: &Strip, top: u16, rows: u16) -> Scale {
    Scale { low: strip.low, high: strip.high, top, rows }
}

/// The ends of the scale, in the margin.
fn ends(picture: &mut Picture<'_>, scale: &Scale, strip: &Strip, style: Style) {
    let high = strip.text(scale.high);
    // The unit stands once, except for latencies, which have one each.
    let low = match &strip.reading {
        Reading::Temperature => format!("{:.0}", scale.low),
        Reading::Latency => strip.text(scale.low),
        Reading::Channel(unit) => strip.text(scale.low).trim_end_matches(unit.as_str()).trim_end().to_owned(),
    };
    picture.label(scale.top, &high, style);
    picture.label(scale.top + scale.rows - 1, &low, style);
}

/// Draws the strip of one drive, and gives its scale.
pub(super) fn draw(
    picture: &mut Picture<'_>,
    top: u16,
    rows: u16,
    strip: &Strip,
    labels: &mut Vec<Label>,
) -> Scale {
    let (scale, theme) = (scale_of(strip, top, rows), picture.theme);
    let own = if strip.reading == Reading::Latency { theme.latency } else { theme.rose };
    ends(picture, &scale, strip, Style::new().fg(own));
    draw_limits(picture, &scale, strip, Style::new().fg(own), labels);
    if let Some([lower, upper]) = strip.band {
        let (lower, upper) = (&strip.curves[lower].values, &strip.curves[upper].values);
        dots::band(picture, &scale, lower, upper, Style::new().fg(theme.latency_band));
    }
    for curve in &strip.curves {
        let (style, named, stroke, rank) = match curve.kind {
            CurveKind::LeadsTo => (theme.faint(), theme.faint(), Stroke::Dashed, LEADS),
            CurveKind::Fitted => (Style::new().fg(theme.ink), theme.faint(), Stroke::Dashed, LEADS),
            CurveKind::Upper => {
                (Style::new().fg(theme.latency_band), Style::new().fg(own), Stroke::Solid, SECOND)
            }
            CurveKind::Measured | CurveKind::Beside => {
                (Style::new().fg(own), Style::new().fg(own), Stroke::Solid, CURVE)
            }
        };
        dots::line(picture, &scale, &curve.values, style, stroke);
        if let Some((value, text)) = strip.label(curve) {
            labels.push(Label { y: scale.row(value), text, style: named, rank });
        }
    }
    scale
}

/// Draws limits from edge to edge. Two in one row cannot be told apart: the lower one, which counts first, is drawn.
fn draw_limits(
    picture: &mut Picture<'_>,
    scale: &Scale,
    strip: &Strip,
    style: Style,
    labels: &mut Vec<Label>,
) {
    let mut taken = Vec::new();
    for (name, limit) in &strip.limits {
        let y = scale.row(*limit);
        if !taken.contains(&y) {
            taken.push(y);
            (0..picture.area.width).for_each(|x| picture.set(x, y, '┄', style));
            labels.push(Label { y, text: format!("{name} {limit:.0}"), style, rank: LIMIT });
        }
    }
}

/// Draws the strip of several lanes: each curve has the colour of its lane, and is named, with its last value, in the `names` cells right of the
/// picture.
pub(super) fn draw_named(picture: &mut Picture<'_>, top: u16, rows: u16, strip: &Strip, names: u16) {
    let (scale, theme) = (scale_of(strip, top, rows), picture.theme);
    let faint = theme.faint();
    ends(picture, &scale, strip, faint);
    let mut labels = Vec::new();
    draw_limits(picture, &scale, strip, faint, &mut labels);
    // At the left, as the curves are named at the right.
    for label in labels {
        format!(" {} ", label.text)
            .chars()
            .enumerate()
            .for_each(|(i, c)| picture.set(2 + i as u16, label.y, c, faint));
    }
    let mut taken: Vec<u16> = Vec::new();
    for curve in &strip.curves {
        let style = Style::new().fg(colour(picture, curve));
        dots::line(picture, &scale, &curve.values, style, Stroke::Solid);
        let Some(last) = curve.last().filter(|_| names > 0) else { continue };
        // Where its row is taken, a name stands in the nearest that is free.
        let y = scale.row(last);
        let free = (0..rows).flat_map(|d| [y.checked_sub(d), y.checked_add(d)]).flatten();
        let mut free = free.filter(|y| (top..top + rows).contains(y) && !taken.contains(y));
        let Some(y) = free.next() else { continue };
        taken.push(y);
        let room = usize::from(names).saturating_sub(1);
        let value = if last.abs() < 20.0 { format!(" {last:.1}") } else { format!(" {last:.0}") };
        let name: String = curve.name.chars().take(room.saturating_sub(value.chars().count())).collect();
        picture.buffer.put(picture.area.right() + 1, y, name + &value, room, style);
    }
}

fn colour(picture: &Picture<'_>, curve: &Curve) -> Color {
    let theme = picture.theme;
    let colours = [theme.rose, theme.latency, theme.write, theme.read];
    colours[curve.lane % colours.len()]
}
