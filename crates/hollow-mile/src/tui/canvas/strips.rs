//! The strips under the terrain, on the same ruler: temperature with its limits, latency as a band.
//!
//! A strip is a thin line at five heights within each row of cells.

use super::Picture;
use mile_core::findings::Context;
use ratatui::style::Style;

/// Lines from the bottom of a cell to its top.
const LINES: [char; 5] = ['⎽', '⎼', '─', '⎻', '⎺'];

/// Where values lie in a strip.
struct Scale {
    low: f64,
    high: f64,
    top: u16,
    rows: u16,
}

impl Scale {
    /// Steps of 5 K around what is shown.
    fn of_temperatures(lowest: f64, highest: f64, top: u16, rows: u16) -> Self {
        Self { low: (lowest / 5.0 - 0.2).floor() * 5.0, high: (highest / 5.0 + 0.2).ceil() * 5.0, top, rows }
    }

    /// Row and glyph of a value.
    fn at(&self, value: f64) -> (u16, char) {
        let steps = f64::from(self.rows) * LINES.len() as f64;
        let share = ((value - self.low) / (self.high - self.low)).clamp(0.0, 1.0);
        let step = (share * steps).min(steps - 1.0) as u16;
        let row = step / LINES.len() as u16;
        (self.top + self.rows - 1 - row, LINES[usize::from(step) % LINES.len()])
    }
}

/// Draws a line through the values, with uprights where it jumps over rows.
fn line(picture: &mut Picture<'_>, scale: &Scale, values: &[Option<f64>], style: Style) {
    let mut before: Option<u16> = None;
    for (x, value) in values.iter().enumerate() {
        let Some(value) = value else {
            before = None;
            continue;
        };
        let (y, glyph) = scale.at(*value);
        if let Some(from) = before {
            let (a, b) = (from.min(y), from.max(y));
            (a + 1..b).for_each(|between| picture.set(x as u16, between, '│', style));
        }
        picture.set(x as u16, y, glyph, style);
        before = Some(y);
    }
}

/// Draws the temperature with its limits, and over it the curve that was fitted, dotted.
pub(super) fn temperature(
    picture: &mut Picture<'_>,
    top: u16,
    rows: u16,
    context: &Context,
    fit: &[Option<f64>],
) {
    let temps: Vec<Option<f64>> =
        picture.data.iter().map(|c| c.as_ref().and_then(|c| c.temp).map(|t| t.mean)).collect();
    let known = || temps.iter().flatten().copied();
    let lowest = known().fold(f64::INFINITY, f64::min);
    if !lowest.is_finite() {
        return;
    }
    let limits: Vec<(&str, f64)> = [("warn", context.warn), ("critical", context.critical)]
        .into_iter()
        .filter_map(|(name, limit)| limit.map(|l| (name, l.0)))
        .collect();
    let highest = known().chain(limits.iter().map(|l| l.1)).fold(f64::NEG_INFINITY, f64::max);
    let scale = Scale::of_temperatures(lowest, highest, top, rows);
    let rose = Style::new().fg(picture.theme.rose);
    picture.label(top, &format!("{:.0} °C", scale.high), rose);
    picture.label(top + rows - 1, &format!("{:.0}", scale.low), rose);
    let (mut taken, mut labels) = (None, Vec::new());
    for (name, limit) in limits {
        let (y, _) = scale.at(limit);
        // Two limits in one row cannot be told apart: the lower one, which counts first, is drawn.
        if taken == Some(y) {
            continue;
        }
        taken = Some(y);
        (0..picture.area.width).for_each(|x| picture.set(x, y, '┄', rose));
        labels.push((y, format!(" {name} {limit:.0} ")));
    }
    line(picture, &scale, &temps, rose);
    let ink = Style::new().fg(picture.theme.ink);
    for (x, value) in fit.iter().enumerate().step_by(2) {
        if let Some(value) = value {
            picture.set(x as u16, scale.at(*value).0, '·', ink);
        }
    }
    // Last, so that a temperature at its limit does not hide which limit that is.
    for (y, label) in labels {
        let at = picture.area.width.saturating_sub(label.chars().count() as u16 + 2);
        for (i, c) in label.chars().enumerate() {
            picture.set(at + i as u16, y, c, rose);
        }
    }
}

/// A series to be drawn, and its name.
pub(super) struct Curve {
    pub(super) name: String,
    /// Place in the list of colours: that of its lane.
    pub(super) colour: usize,
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
    let mut limits: Vec<(&str, f64)> = Vec::new();
    for context in contexts {
        for (name, limit) in [("warn", context.warn), ("critical", context.critical)] {
            if let Some(limit) = limit.filter(|l| !limits.iter().any(|k| k.1 == l.0)) {
                limits.push((name, limit.0));
            }
        }
    }
    let highest = known().chain(limits.iter().map(|l| l.1)).fold(f64::NEG_INFINITY, f64::max);
    let scale = Scale::of_temperatures(lowest, highest, top, rows);
    let faint = picture.theme.faint();
    picture.label(top, &format!("{:.0} °C", scale.high), faint);
    picture.label(top + rows - 1, &format!("{:.0}", scale.low), faint);
    limits.sort_by(|a, b| a.1.total_cmp(&b.1));
    let mut taken = Vec::new();
    for (name, limit) in limits {
        let (y, _) = scale.at(limit);
        if taken.contains(&y) {
            continue;
        }
        taken.push(y);
        (0..picture.area.width).for_each(|x| picture.set(x, y, '┄', faint));
        let label = format!(" {name} {limit:.0} ");
        let at = 2.min(picture.area.width);
        label.chars().enumerate().for_each(|(i, c)| picture.set(at + i as u16, y, c, faint));
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
        line(picture, scale, &curve.values, style);
        let Some(last) = curve.values.iter().rev().flatten().next().filter(|_| names > 0) else { continue };
        // Where its row is taken, a name stands in the nearest that is free.
        let (y, _) = scale.at(*last);
        let free = (0..rows).flat_map(|d| [y.checked_sub(d), y.checked_add(d)]).flatten();
        let mut free = free.filter(|y| (top..top + rows).contains(y) && !rows_taken.contains(y));
        let Some(y) = free.next() else { continue };
        rows_taken.push(y);
        let room = usize::from(names).saturating_sub(1);
        let value = if last.abs() < 20.0 { format!(" {last:.1}") } else { format!(" {last:.0}") };
        let name: String = curve.name.chars().take(room.saturating_sub(value.chars().count())).collect();
        picture.buffer.set_stringn(picture.area.right() + 1, y, name + &value, room, style);
    }
}

pub(super) fn latency(picture: &mut Picture<'_>, top: u16, rows: u16) {
    let logs = |f: fn(&mile_core::ruler::Column) -> Option<mile_core::pyramid::Extent>| -> Vec<Option<f64>> {
        picture.data.iter().map(|c| c.as_ref().and_then(f).map(|e| e.mean.max(0.1).log10())).collect()
    };
    let (p50, p99) = (logs(|c| c.p50), logs(|c| c.p99));
    let low = p50.iter().flatten().copied().fold(f64::INFINITY, f64::min);
    let high = p99.iter().flatten().copied().fold(f64::NEG_INFINITY, f64::max);
    if !(low.is_finite() && high.is_finite()) {
        return;
    }
    // A decade at least, so that a level latency does not fill the strip with its noise.
    let scale = Scale { low: low - 0.1, high: high.max(low + 1.0) + 0.1, top, rows };
    let colour = picture.theme.latency;
    let band = Style::new().fg(picture.theme.latency_band);
    let label = |log: f64| {
        let us = 10_f64.powf(log);
        if us < 1000.0 {
            format!("{us:.0} µs")
        } else if us < 1e4 {
            format!("{:.1} ms", us / 1e3)
        } else {
            format!("{:.0} ms", us / 1e3)
        }
    };
    picture.label(top, &label(scale.high), Style::new().fg(colour));
    picture.label(top + rows - 1, &label(scale.low), Style::new().fg(colour));
    for x in 0..p50.len() {
        let (Some(a), Some(b)) = (p50[x], p99[x]) else { continue };
        let (bottom, _) = scale.at(a);
        let (up, _) = scale.at(b);
        (up..=bottom).for_each(|y| picture.set(x as u16, y, '░', band));
    }
    line(picture, &scale, &p50, Style::new().fg(colour));
}
