//! The figure of a run on several drives: the terrain of each lane on one clock and one scale, their temperatures with all limits, and what
//! each drive came to in each leg.

use crate::FigureError;
use crate::ink::{Area, FAINT, INK, RIDGE, ROSE, SLATE, failed, font};
use crate::labels::numerals;
use crate::run::{COLUMNS, LEFT, WIDTH, axes, chart, draw_ground, draw_title, middle, stretches};
use mile_core::Nanos;
use mile_core::channel::Series;
use mile_core::findings::{Break, Context};
use mile_core::ruler::{Column, Ruler, Window, columns};
use mile_core::stages::Stage;
use mile_core::trace::Trace;
use mile_core::units::number;
use plotters::element::{DashedPathElement, PathElement, Text};
use plotters::prelude::{IntoDrawingArea, RGBColor, SVGBackend, ShapeStyle, WHITE};
use plotters::style::Color;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Height of a lane's terrain, and of the temperatures.
const LANE: u32 = 190;
const TEMPERATURES: u32 = 260;
/// Height of the power.
const POWER: u32 = 150;
/// Height of a row of the table.
const ROW: u32 = 22;
const COLOURS: [RGBColor; 5] = [ROSE, SLATE, RIDGE, RGBColor(34, 120, 84), INK];

/// A lane of the figure.
#[derive(Clone, Copy, Debug)]
pub struct FigureLane<'a> {
    /// Its name.
    pub name: &'a str,
    /// Its drive, and where that is.
    pub what: &'a str,
    /// Its samples.
    pub trace: &'a Trace,
    /// Its breaks.
    pub breaks: &'a [Break],
    /// Limits of the drive.
    pub context: &'a Context,
}

/// What a figure of several lanes shows.
#[derive(Clone, Copy, Debug)]
pub struct LanesFigure<'a> {
    /// Course and drives.
    pub title: &'a str,
    /// Conditions, and how the run was made, a line each.
    pub lines: &'a [String],
    /// The lanes.
    pub lanes: &'a [FigureLane<'a>],
    /// What each of them came to in each leg.
    pub stages: &'a [Stage],
    /// The channels of the run: those in °C are drawn with the temperatures, those in W in a panel of their own.
    pub series: &'a [Series],
}

/// Draws a run on several drives as SVG.
///
/// # Errors
/// Where there is nothing to draw.
pub fn draw_lanes(figure: &LanesFigure<'_>) -> Result<String, FigureError> {
    let end = figure.lanes.iter().map(|l| Ruler::Time.end(l.trace)).fold(0.0, f64::max);
    if end <= 0.0 {
        return Err(FigureError::Empty);
    }
    let window = Window { from: 0.0, to: end };
    let data: Vec<Vec<Option<Column>>> =
        figure.lanes.iter().map(|l| columns(l.trace, Ruler::Time, window, COLUMNS)).collect();
    let has_temp = data.iter().flatten().flatten().any(|c| c.temp.is_some());
    let head = 62 + 19 * figure.lines.len() as u32;
    let temperatures = if has_temp { TEMPERATURES } else { 0 };
    let powers: Vec<&Series> =
        figure.series.iter().filter(|s| s.channel.unit == "W" && !s.readings.is_empty()).collect();
    let power = if powers.is_empty() { 0 } else { POWER };
    let table = ROW * (figure.stages.len() as u32 + 4);
    let height = head + LANE * figure.lanes.len() as u32 + 40 + power + temperatures + table;
    let mut svg = String::new();
    {
        let root = SVGBackend::with_string(&mut svg, (WIDTH, height)).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, mut rest) = root.split_vertically(head);
        draw_title(&top, figure.title, figure.lines)?;
        let highest = data.iter().flatten().flatten().filter_map(|c| c.rate).map(|r| r.max);
        let high = highest.fold(0.0, f64::max).max(1.0) * 1.06;
        for (i, (lane, data)) in figure.lanes.iter().zip(&data).enumerate() {
            let is_last = i + 1 == figure.lanes.len() && !has_temp;
            let (area, below) = rest.split_vertically(LANE + if is_last { 30 } else { 0 });
            draw_lane(&area, lane, window, data, high, is_last)?;
            rest = below;
        }
        let (area, rest) = rest.split_vertically(power);
        if power > 0 {
            draw_power(&area, figure, window, &powers)?;
        }
        let (area, foot) = rest.split_vertically(temperatures);
        if has_temp {
            draw_temperatures(&area, figure, window, &data)?;
        }
        draw_table(&foot, figure)?;
        root.present().map_err(failed)?;
    }
    Ok(svg)
}

fn draw_lane(
    area: &Area<'_>,
    lane: &FigureLane<'_>,
    window: Window,
    data: &[Option<Column>],
    high: f64,
    is_last: bool,
) -> Result<(), FigureError> {
    let mut chart = chart(area, window, 0.0, high, if is_last { 34 } else { 8 })?;
    axes(area, &chart, Ruler::Time, window, (0.0, high), "MB/s", is_last)?;
    draw_ground(&mut chart, window, data)?;
    let base = area.get_base_pixel();
    let mut numbered = Vec::new();
    for (i, b) in lane.breaks.iter().enumerate() {
        let at = b.at_s * 1e9;
        chart.draw_series([DashedPathElement::new([(at, 0.0), (at, high)], 2, 3, INK)]).map_err(failed)?;
        numbered.push((i + 1, chart.plotting_area().map_coordinate(&(at, high)).0 - base.0));
    }
    let top = chart.plotting_area().map_coordinate(&(window.from, high)).1 - base.1;
    numerals(area, &numbered, top - 11)?;
    // The name stands at the right end, as that of each curve does.
    let (x, y) = chart.plotting_area().map_coordinate(&(window.to, high));
    let at = (x - base.0 + 8, y - base.1 + 2);
    area.draw(&Text::new(lane.name.to_owned(), at, font(15.0, INK))).map_err(failed)?;
    for (i, part) in lane.what.split(", ").take(5).enumerate() {
        let at = (at.0, at.1 + 22 + 17 * i as i32);
        area.draw(&Text::new(part.to_owned(), at, font(12.0, FAINT))).map_err(failed)?;
    }
    Ok(())
}

fn draw_temperatures(
    area: &Area<'_>,
    figure: &LanesFigure<'_>,
    window: Window,
    data: &[Vec<Option<Column>>],
) -> Result<(), FigureError> {
    let mut limits: Vec<(&str, f64)> = Vec::new();
    for lane in figure.lanes {
        for (name, limit) in [("warns from", lane.context.warn), ("critical from", lane.context.critical)] {
            if let Some(limit) = limit.filter(|l| !limits.iter().any(|k| k.1 == l.0)) {
                limits.push((name, limit.0));
            }
        }
    }
    let temps = || data.iter().flatten().flatten().filter_map(|c| c.temp);
    let probes: Vec<&Series> = probes(figure).collect();
    let read = || probes.iter().flat_map(|s| &s.readings).map(|r| r.value);
    let lowest = temps().map(|t| t.min).chain(read()).fold(f64::MAX, f64::min);
    let highest =
        limits.iter().map(|l| l.1).chain(temps().map(|t| t.max)).chain(read()).fold(f64::MIN, f64::max);
    let (low, high) = ((lowest / 10.0 - 0.2).floor() * 10.0, (highest / 10.0 + 0.1).ceil() * 10.0);
    let mut chart = chart(area, window, low, high, 34)?;
    axes(area, &chart, Ruler::Time, window, (low, high), "°C", true)?;
    let base = area.get_base_pixel();
    // What is named at the right end, from the top: none lies on another.
    let mut names: Vec<(f64, String, RGBColor)> = Vec::new();
    for (name, limit) in limits {
        let style = ShapeStyle::from(FAINT).stroke_width(1);
        chart
            .draw_series([DashedPathElement::new([(window.from, limit), (window.to, limit)], 7, 5, style)])
            .map_err(failed)?;
        names.push((limit, format!("{name} {limit:.0} °C"), FAINT));
    }
    for (i, (lane, data)) in figure.lanes.iter().zip(data).enumerate() {
        let colour = COLOURS[i % COLOURS.len()];
        let mut last = None;
        for stretch in stretches(data, |c| c.temp.is_some()) {
            let line: Vec<(f64, f64)> =
                stretch.filter_map(|i| Some((middle(window, i), data[i].as_ref()?.temp?.mean))).collect();
            last = line.last().copied().or(last);
            chart
                .draw_series([PathElement::new(line, ShapeStyle::from(colour).stroke_width(2))])
                .map_err(failed)?;
        }
        if let Some((_, value)) = last {
            names.push((value, format!("{} {value:.0} °C", lane.name), colour));
        }
    }
    for series in probes {
        let colour = colour_of(series, 2);
        let line = points(series, window);
        let Some((_, value)) = line.last().copied() else { continue };
        chart
            .draw_series([PathElement::new(line, ShapeStyle::from(colour.mix(0.55)).stroke_width(1))])
            .map_err(failed)?;
        names.push((value, format!("{} {value:.0} °C", called(figure, series)), colour));
    }
    let at = |value: f64| {
        let (x, y) = chart.plotting_area().map_coordinate(&(window.to, value));
        (x - base.0 + 8, y - base.1)
    };
    draw_names(area, names, at)
}

/// The channels that are temperatures.
fn probes<'a>(figure: &LanesFigure<'a>) -> impl Iterator<Item = &'a Series> {
    figure.series.iter().filter(|s| s.channel.unit == "°C")
}

/// Its lane's colour, or that of the run's own from a place on.
fn colour_of(series: &Series, own: usize) -> RGBColor {
    COLOURS[series.channel.of.map_or(own, |of| of as usize) % COLOURS.len()]
}

/// What a channel is called beside others.
fn called(figure: &LanesFigure<'_>, series: &Series) -> String {
    let lane = series.channel.of.and_then(|of| figure.lanes.get(of as usize));
    match lane.map(|l| l.name).filter(|n| !n.is_empty() && figure.lanes.len() > 1) {
        Some(lane) => format!("{} {}", series.channel.name, lane),
        None => series.channel.name.clone(),
    }
}

/// The readings of a channel at most as finely as a line is drawn.
fn points(series: &Series, window: Window) -> Vec<(f64, f64)> {
    let edge = |i: usize| Nanos((window.from + (window.to - window.from) * i as f64 / COLUMNS as f64) as u64);
    let mean = |i: usize| Some((middle(window, i), series.summary(edge(i), edge(i + 1))?.0));
    (0..COLUMNS).filter_map(mean).collect()
}

/// Names at the right end of what they name, from the top: none lies on another.
fn draw_names(
    area: &Area<'_>,
    mut names: Vec<(f64, String, RGBColor)>,
    at: impl Fn(f64) -> (i32, i32),
) -> Result<(), FigureError> {
    names.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut free = i32::MIN;
    for (value, text, colour) in names {
        let (x, y) = at(value);
        let y = y.max(free);
        free = y + 16;
        let style = font(13.0, colour).pos(Pos::new(HPos::Left, VPos::Center));
        area.draw(&Text::new(text, (x, y), style)).map_err(failed)?;
    }
    Ok(())
}

fn draw_power(
    area: &Area<'_>,
    figure: &LanesFigure<'_>,
    window: Window,
    powers: &[&Series],
) -> Result<(), FigureError> {
    let lines: Vec<Vec<(f64, f64)>> = powers.iter().map(|s| points(s, window)).collect();
    let high = lines.iter().flatten().map(|p| p.1).fold(0.0, f64::max).max(1e-3) * 1.1;
    let mut chart = chart(area, window, 0.0, high, 8)?;
    axes(area, &chart, Ruler::Time, window, (0.0, high), "W", false)?;
    let mut names = Vec::new();
    for (series, line) in powers.iter().zip(lines) {
        let colour = colour_of(series, 3);
        if let Some((_, value)) = line.last() {
            names.push((*value, format!("{} {value:.1} W", called(figure, series)), colour));
        }
        chart
            .draw_series([PathElement::new(line, ShapeStyle::from(colour).stroke_width(1))])
            .map_err(failed)?;
    }
    let base = area.get_base_pixel();
    let at = |value: f64| {
        let (x, y) = chart.plotting_area().map_coordinate(&(window.to, value));
        (x - base.0 + 8, y - base.1)
    };
    draw_names(area, names, at)
}

fn draw_table(area: &Area<'_>, figure: &LanesFigure<'_>) -> Result<(), FigureError> {
    let right = |size: f64, colour| font(size, colour).pos(Pos::new(HPos::Right, VPos::Top));
    let columns = ["MB/s", "°C at most", "below warning", "below critical", "Wh/TB"];
    let lanes = figure.lanes.len().max(1) as i32;
    let (first, width) = (LEFT as i32 + 150, (WIDTH as i32 - LEFT as i32 - 150 - 30) / lanes);
    let step = width / columns.len() as i32;
    let size = if step < 95 { 11.0 } else { 13.0 };
    let x = |lane: usize, column: usize| first + width * lane as i32 + step * (column as i32 + 1) - 8;
    let mut y = 14;
    for (i, lane) in figure.lanes.iter().enumerate() {
        let colour = COLOURS[i % COLOURS.len()];
        area.draw(&Text::new(lane.name.to_owned(), (x(i, 4), y), right(14.0, colour))).map_err(failed)?;
    }
    y += ROW as i32;
    for i in 0..figure.lanes.len() {
        for (c, name) in columns.iter().enumerate() {
            area.draw(&Text::new((*name).to_owned(), (x(i, c), y), right(size, FAINT))).map_err(failed)?;
        }
    }
    for stage in figure.stages {
        y += ROW as i32;
        area.draw(&Text::new(stage.leg.clone(), (LEFT as i32, y), font(13.0, INK))).map_err(failed)?;
        for (i, lane) in stage.lanes.iter().enumerate() {
            let degrees = |v: Option<f64>| v.map_or("–".to_owned(), |v| format!("{v:.0}"));
            let cells = [
                lane.mean_mb_s.map_or("–".to_owned(), number),
                degrees(lane.peak_c),
                degrees(lane.below_warn_c),
                degrees(lane.below_critical_c),
                lane.wh_per_tb.map_or("–".to_owned(), number),
            ];
            for (c, text) in cells.into_iter().enumerate() {
                let over = (c == 2 && lane.below_warn_c.is_some_and(|m| m < 0.0))
                    || (c == 3 && lane.below_critical_c.is_some_and(|m| m < 0.0));
                let colour = if over { ROSE } else { INK };
                area.draw(&Text::new(text, (x(i, c), y), right(13.0, colour))).map_err(failed)?;
            }
        }
    }
    Ok(())
}
