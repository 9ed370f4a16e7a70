//! The strips under the terrain, on the same ruler: temperature with its limits, latency as a band. Each curve is named at its right end.

use super::dots::{self, Scale, Stroke};
use super::{Label, Picture};
use crate::tui::put::Put;
use mile_core::findings::Context;
use mile_core::pyramid::Extent;
use mile_core::ruler::Column;
use ratatui::style::Style;

/// Ranks of labels: limits stand in their own rows, the curves beside them give way, and where one leads comes last.
pub(super) const LIMIT: u8 = 0;
pub(super) const CURVE: u8 = 1;
const SECOND: u8 = 2;
const LEADS: u8 = 3;

/// Whether a label is of a curve, and so may stand right behind its end.
pub(super) fn is_of_curve(rank: u8) -> bool {
    matches!(rank, CURVE | SECOND)
}

/// Steps of 5 K around what is shown.
fn of_temperatures(lowest: f64, highest: f64, top: u16, rows: u16) -> Scale {
    Scale { low: (lowest / 5.0 - 0.2).floor() * 5.0, high: (highest / 5.0 + 0.2).ceil() * 5.0, top, rows }
}

/// A value of each column.
pub(super) fn values(data: &[Option<Column>], of: impl Fn(&Column) -> Option<Extent>) -> Vec<Option<f64>> {
    data.iter().map(|c| c.as_ref().and_then(&of).map(|e| e.mean)).collect()
}

/// The limits that drives declare, each once, the lower first: the name and the limit in °C.
fn limits<'a>(contexts: impl Iterator<Item = &'a Context>) -> Vec<(&'static str, f64)> {
    let mut all: Vec<(&str, f64)> = Vec::new();
    for context in contexts {
        for (name, limit) in [("warn", context.warn), ("critical", context.critical)] {
            if let Some(limit) = limit.filter(|l| !all.iter().any(|k| k.1 == l.0)) {
                all.push((name, limit.0));
            }
        }
    }
    all.sort_by(|a, b| a.1.total_cmp(&b.1));
    all
}

/// What there is to show of temperatures beside the drive's own.
pub(super) struct Heat<'a> {
    pub(super) context: &'a Context,
    /// The curve that was fitted, [`dots::ACROSS`] values a cell.
    pub(super) fit: &'a [Option<f64>],
    /// Where the temperature leads, °C.
    pub(super) settles: Option<f64>,
}

/// Draws the temperature with its limits and the curve that was fitted, and gives its scale.
pub(super) fn temperature(
    picture: &mut Picture<'_>,
    top: u16,
    rows: u16,
    fine: &[Option<Column>],
    heat: &Heat<'_>,
    labels: &mut Vec<Label>,
) -> Option<Scale> {
    let temps = values(fine, |c| c.temp);
    let known = || temps.iter().flatten().copied();
    let lowest = known().fold(f64::INFINITY, f64::min);
    if !lowest.is_finite() {
        return None;
    }
    let limits = limits(std::iter::once(heat.context));
    let beside = limits.iter().map(|l| l.1).chain(heat.settles);
    let highest = known().chain(beside).fold(f64::NEG_INFINITY, f64::max);
    let scale = of_temperatures(lowest, highest, top, rows);
    let rose = Style::new().fg(picture.theme.rose);
    picture.label(top, &format!("{:.0} °C", scale.high), rose);
    picture.label(top + rows - 1, &format!("{:.0}", scale.low), rose);
    let width = usize::from(picture.area.width) * dots::ACROSS;
    if let Some(settles) = heat.settles {
        let ink = picture.theme.faint();
        dots::line(picture, &scale, &vec![Some(settles); width], ink, Stroke::Dashed);
        labels.push(Label {
            y: scale.row(settles),
            text: format!("leads to {settles:.0}"),
            style: ink,
            rank: LEADS,
        });
    }
    draw_limits(picture, &scale, &limits, rose, labels);
    dots::line(picture, &scale, heat.fit, Style::new().fg(picture.theme.ink), Stroke::Dashed);
    dots::line(picture, &scale, &temps, rose, Stroke::Solid);
    if let Some(last) = known().last() {
        labels.push(Label { y: scale.row(last), text: format!("{last:.0} °C"), style: rose, rank: CURVE });
    }
    Some(scale)
}

/// Draws limits from edge to edge. Two in one row cannot be told apart: the lower one, which counts first, is drawn.
fn draw_limits(
    picture: &mut Picture<'_>,
    scale: &Scale,
    limits: &[(&'static str, f64)],
    style: Style,
    labels: &mut Vec<Label>,
) {
    let mut taken = Vec::new();
    for (name, limit) in limits {
        let y = scale.row(*limit);
        if !taken.contains(&y) {
            taken.push(y);
            (0..picture.area.width).for_each(|x| picture.set(x, y, '┄', style));
            labels.push(Label { y, text: format!("{name} {limit:.0}"), style, rank: LIMIT });
        }
    }
}

/// A series to be drawn, and its name.
pub(super) struct Curve {
    pub(super) name: String,
    /// Place in the list of colours: that of its lane.
    pub(super) colour: usize,
    /// [`dots::ACROSS`] values a cell.
    pub(super) values: Vec<Option<f64>>,
}

/// Draws the temperatures of several lanes on one scale, with the limits that any of them declares; each is named, with its last value, in
/// the `names` cells right of the picture.
pub(super) fn temperatures<'a>(
    picture: &mut Picture<'_>,
    top: u16,
    rows: u16,
    curves: &[Curve],
    contexts: impl Iterator<Item = &'a Context>,
    names: u16,
) {
    let known = || curves.iter().flat_map(|c| c.values.iter().flatten().copied());
    let lowest = known().fold(f64::INFINITY, f64::min);
    if !lowest.is_finite() {
        return;
    }
    let limits = limits(contexts);
    let highest = known().chain(limits.iter().map(|l| l.1)).fold(f64::NEG_INFINITY, f64::max);
    let scale = of_temperatures(lowest, highest, top, rows);
    let faint = picture.theme.faint();
    picture.label(top, &format!("{:.0} °C", scale.high), faint);
    picture.label(top + rows - 1, &format!("{:.0}", scale.low), faint);
    let mut labels = Vec::new();
    draw_limits(picture, &scale, &limits, faint, &mut labels);
    // At the left, as the curves are named at the right.
    for label in labels {
        format!(" {} ", label.text)
            .chars()
            .enumerate()
            .for_each(|(i, c)| picture.set(2 + i as u16, label.y, c, faint));
    }
    named(picture, &scale, curves, names);
}

/// Draws series on one scale of their own, named at the right.
pub(super) fn plain(
    picture: &mut Picture<'_>,
    top: u16,
    rows: u16,
    unit: &str,
    curves: &[Curve],
    names: u16,
) {
    let known = || curves.iter().flat_map(|c| c.values.iter().flatten().copied());
    let (low, high) = (known().fold(f64::INFINITY, f64::min), known().fold(f64::NEG_INFINITY, f64::max));
    if !low.is_finite() {
        return;
    }
    // Whole steps, and never less than a hundredth of what is shown, so that noise does not fill the strip.
    let span = (high - low).max(high.abs() / 100.0).max(1e-9);
    let step = 10_f64.powf((span / 2.0).log10().floor());
    let (low, high) = ((low / step).floor() * step, (high / step).ceil() * step);
    let scale = Scale { low, high: high.max(low + step), top, rows };
    let faint = picture.theme.faint();
    let label = |v: f64| if step >= 1.0 { format!("{v:.0}") } else { mile_core::units::number(v) };
    picture.label(top, &format!("{} {unit}", label(scale.high)), faint);
    picture.label(top + rows - 1, &label(scale.low), faint);
    named(picture, &scale, curves, names);
}

/// Draws curves, each with its name and last value at its right end.
fn named(picture: &mut Picture<'_>, scale: &Scale, curves: &[Curve], names: u16) {
    let (top, rows) = (scale.top, scale.rows);
    let theme = picture.theme;
    let colours = [theme.rose, theme.latency, theme.write, theme.read];
    let mut rows_taken: Vec<u16> = Vec::new();
    for curve in curves {
        let style = Style::new().fg(colours[curve.colour % colours.len()]);
        dots::line(picture, scale, &curve.values, style, Stroke::Solid);
        let Some(last) = curve.values.iter().rev().flatten().next().filter(|_| names > 0) else { continue };
        // Where its row is taken, a name stands in the nearest that is free.
        let y = scale.row(*last);
        let free = (0..rows).flat_map(|d| [y.checked_sub(d), y.checked_add(d)]).flatten();
        let mut free = free.filter(|y| (top..top + rows).contains(y) && !rows_taken.contains(y));
        let Some(y) = free.next() else { continue };
        rows_taken.push(y);
        let room = usize::from(names).saturating_sub(1);
        let value = if last.abs() < 20.0 { format!(" {last:.1}") } else { format!(" {last:.0}") };
        let name: String = curve.name.chars().take(room.saturating_sub(value.chars().count())).collect();
        picture.buffer.put(picture.area.right() + 1, y, name + &value, room, style);
    }
}

/// A latency in µs, short.
fn short(us: f64) -> String {
    if us < 1000.0 {
        format!("{us:.0} µs")
    } else if us < 1e4 {
        format!("{:.1} ms", us / 1e3)
    } else if us < 1e6 {
        format!("{:.0} ms", us / 1e3)
    } else {
        format!("{:.1} s", us / 1e6)
    }
}

/// Draws the latency from its median to its 99th percentile, on a ruler of decades; gives its scale, of the logarithm of µs.
pub(super) fn latency(
    picture: &mut Picture<'_>,
    top: u16,
    rows: u16,
    fine: &[Option<Column>],
    labels: &mut Vec<Label>,
) -> Option<Scale> {
    let logs = |of: fn(&Column) -> Option<Extent>| -> Vec<Option<f64>> {
        values(fine, of).into_iter().map(|v| v.map(|us| us.max(0.1).log10())).collect()
    };
    let (p50, p99) = (logs(|c| c.p50), logs(|c| c.p99));
    let low = p50.iter().flatten().copied().fold(f64::INFINITY, f64::min);
    let high = p99.iter().flatten().copied().fold(f64::NEG_INFINITY, f64::max);
    if !(low.is_finite() && high.is_finite()) {
        return None;
    }
    // A decade at least, so that a level latency does not fill the strip with its noise.
    let scale = Scale { low: low - 0.1, high: high.max(low + 1.0) + 0.1, top, rows };
    let colour = Style::new().fg(picture.theme.latency);
    let band = Style::new().fg(picture.theme.latency_band);
    picture.label(top, &short(10_f64.powf(scale.high)), colour);
    picture.label(top + rows - 1, &short(10_f64.powf(scale.low)), colour);
    dots::band(picture, &scale, &p50, &p99, band);
    dots::line(picture, &scale, &p99, band, Stroke::Solid);
    dots::line(picture, &scale, &p50, colour, Stroke::Solid);
    for (name, curve, rank) in [("p50", &p50, CURVE), ("p99", &p99, SECOND)] {
        if let Some(last) = curve.iter().flatten().last() {
            let text = format!("{name} {}", short(10_f64.powf(*last)));
            labels.push(Label { y: scale.row(*last), text, style: colour, rank });
        }
    }
    Some(scale)
}
