//! The panels of a figure: ground, strips and their axes. They draw a scene of the core, as the terminal does.

use crate::FigureError;
use crate::ink::{Area, FAINT, GRID, INK, RIDGE, ROSE, SLATE, failed, font};
use crate::labels::width;
use mile_core::ruler::{Column, Ruler, Window, ticks};
use mile_core::sample::Op;
use mile_core::scene::{Curve, CurveKind, Grain, LegSpan, Mark, Reading, Scene, Strip, labelled, levels};
use plotters::chart::{ChartBuilder, ChartContext};
use plotters::coord::types::RangedCoordf64;
use plotters::element::{DashedPathElement, PathElement, Polygon, Rectangle, Text};
use plotters::prelude::{Cartesian2d, RGBColor, SVGBackend, ShapeStyle, WHITE};
use plotters::style::Color;
use plotters::style::text_anchor::{HPos, Pos, VPos};

pub(crate) const WIDTH: u32 = 1120;
/// Ground of reads, and columns between the lines of its hatching.
const READS: RGBColor = RGBColor(176, 196, 226);
const HATCH: usize = 6;
const TERRAIN: RGBColor = RGBColor(224, 178, 92);
/// Ink of latencies.
const LATENCY: RGBColor = RGBColor(34, 120, 84);
/// Inks of lanes, and of what is measured for the run itself.
pub(crate) const COLOURS: [RGBColor; 5] = [ROSE, SLATE, RIDGE, LATENCY, INK];
/// Height of the row of legs.
pub(crate) const LEGS: u32 = 30;
/// Columns that the trace is cut into: finer than a printed line is wide.
const COLUMNS: usize = 1000;
pub(crate) const GRAIN: Grain = Grain { ground: COLUMNS, curve: COLUMNS };
pub(crate) const LEFT: u32 = 74;
pub(crate) const RIGHT: u32 = 150;

pub(crate) type Chart<'a, 'b> = ChartContext<'a, SVGBackend<'b>, Cartesian2d<RangedCoordf64, RangedCoordf64>>;

pub(crate) fn chart<'a, 'b>(
    area: &'a Area<'b>,
    window: Window,
    low: f64,
    high: f64,
    bottom: u32,
) -> Result<Chart<'a, 'b>, FigureError> {
    ChartBuilder::on(area)
        .margin_top(26)
        .margin_right(RIGHT)
        .set_left_and_bottom_label_area_size_of(LEFT, bottom)
        .build_cartesian_2d(window.from..window.to, low..high)
        .map_err(failed)
}

trait LabelAreas {
    fn set_left_and_bottom_label_area_size_of(&mut self, left: u32, bottom: u32) -> &mut Self;
}

impl LabelAreas for ChartBuilder<'_, '_, SVGBackend<'_>> {
    fn set_left_and_bottom_label_area_size_of(&mut self, left: u32, bottom: u32) -> &mut Self {
        self.set_label_area_size(plotters::chart::LabelAreaPosition::Left, left);
        self.set_label_area_size(plotters::chart::LabelAreaPosition::Bottom, bottom)
    }
}

pub(crate) fn draw_title(area: &Area<'_>, title: &str, lines: &[String]) -> Result<(), FigureError> {
    area.draw(&Text::new(title.to_owned(), (LEFT as i32, 20), font(23.0, INK))).map_err(failed)?;
    for (i, line) in lines.iter().enumerate() {
        area.draw(&Text::new(line.clone(), (LEFT as i32, 54 + 19 * i as i32), font(13.0, FAINT)))
            .map_err(failed)?;
    }
    Ok(())
}

/// Horizontal lines at round values and their labels, and the ruler where there is room for it.
pub(crate) fn axes(
    area: &Area<'_>,
    chart: &Chart<'_, '_>,
    along: (Ruler, Window),
    (low, high): (f64, f64),
    unit: &str,
    is_last: bool,
) -> Result<(), FigureError> {
    grid(area, chart, along, (low, high, labelled(levels(low, high, 5.0))), unit, is_last)
}

/// The same with lines at given values.
fn grid(
    area: &Area<'_>,
    chart: &Chart<'_, '_>,
    (ruler, window): (Ruler, Window),
    (low, high, levels): (f64, f64, Vec<(f64, String)>),
    unit: &str,
    is_last: bool,
) -> Result<(), FigureError> {
    let plot = chart.plotting_area();
    for (level, label) in levels {
        let (x0, y) = plot.map_coordinate(&(window.from, level));
        let (x1, _) = plot.map_coordinate(&(window.to, level));
        let base = area.get_base_pixel();
        let at = |x: i32, y: i32| (x - base.0, y - base.1);
        area.draw(&PathElement::new([at(x0, y), at(x1, y)], GRID)).map_err(failed)?;
        let style = font(13.0, INK).pos(Pos::new(HPos::Right, VPos::Center));
        area.draw(&Text::new(label, at(x0 - 8, y), style)).map_err(failed)?;
    }
    let base = area.get_base_pixel();
    let (x, y) = plot.map_coordinate(&(window.from, high));
    area.draw(&Text::new(unit.to_owned(), (x - base.0, y - base.1 - 22), font(13.0, FAINT)))
        .map_err(failed)?;
    if is_last {
        for (position, label) in ticks(ruler, window, 9) {
            let (x, y) = plot.map_coordinate(&(position, low));
            let (x, y) = (x - base.0, y - base.1);
            area.draw(&PathElement::new([(x, y), (x, y + 5)], INK)).map_err(failed)?;
            let style = font(13.0, INK).pos(Pos::new(HPos::Center, VPos::Top));
            area.draw(&Text::new(label, (x, y + 9), style)).map_err(failed)?;
        }
        let (x, y) = plot.map_coordinate(&(window.to, low));
        let what = match ruler {
            Ruler::Bytes => format!("{} moved", ruler.unit(window).0),
            Ruler::Time => format!("{} since the start", ruler.unit(window).0),
            Ruler::Address => format!("{} of address", ruler.unit(window).0),
        };
        area.draw(&Text::new(what, (x - base.0 + 34, y - base.1 + 9), font(13.0, FAINT))).map_err(failed)?;
    }
    Ok(())
}

fn middle(window: Window, i: usize) -> f64 {
    window.from + (window.to - window.from) * (i as f64 + 0.5) / COLUMNS as f64
}

/// The rate as ground up to its mean, with a band from the lowest to the highest.
pub(crate) fn draw_ground(
    chart: &mut Chart<'_, '_>,
    window: Window,
    data: &[Option<Column>],
) -> Result<(), FigureError> {
    for stretch in grounds(data) {
        let (ground_colour, band_colour) = match data[stretch.start].as_ref().map(|c| c.op) {
            Some(Op::Read) => (READS, SLATE),
            _ => (TERRAIN, RIDGE),
        };
        let rate = |i: usize| data[i].as_ref().and_then(|c| c.rate);
        let half = (window.to - window.from) / COLUMNS as f64 / 2.0;
        let mut ground: Vec<(f64, f64)> = vec![(middle(window, stretch.start) - half, 0.0)];
        for i in stretch.clone() {
            if let Some(r) = rate(i) {
                ground.extend([(middle(window, i) - half, r.mean), (middle(window, i) + half, r.mean)]);
            }
        }
        ground.push((middle(window, stretch.end - 1) + half, 0.0));
        chart.draw_series([Polygon::new(ground, ground_colour.mix(0.85).filled())]).map_err(failed)?;
        let up = stretch.clone().filter_map(|i| rate(i).map(|r| (middle(window, i), r.max)));
        let down = stretch.clone().rev().filter_map(|i| rate(i).map(|r| (middle(window, i), r.min)));
        let band: Vec<(f64, f64)> = up.chain(down).collect();
        // Reads are hatched, so that they differ in more than their colour.
        if ground_colour == READS {
            let hatch = stretch.clone().filter(|i| i % HATCH == 0).filter_map(|i| Some((i, rate(i)?.mean)));
            let lines = hatch.map(|(i, r)| {
                PathElement::new([(middle(window, i), 0.0), (middle(window, i), r)], SLATE.mix(0.5))
            });
            chart.draw_series(lines).map_err(failed)?;
        }
        chart.draw_series([Polygon::new(band, band_colour.mix(0.32).filled())]).map_err(failed)?;
    }
    Ok(())
}

/// Stretches of columns that have a rate, each of reads or of writes.
fn grounds(data: &[Option<Column>]) -> Vec<std::ops::Range<usize>> {
    let is_read = |i: usize| data[i].as_ref().is_some_and(|c| c.op == Op::Read);
    let mut all = Vec::new();
    for stretch in runs(data.len(), |i| data[i].as_ref().is_some_and(|c| c.rate.is_some())) {
        let mut from = stretch.start;
        for i in stretch.clone().skip(1).filter(|i| is_read(*i) != is_read(*i - 1)) {
            all.push(from..i);
            from = i;
        }
        all.push(from..stretch.end);
    }
    all
}

/// Whether there is more than one leg to tell apart.
pub(crate) fn has_legs(scene: &Scene) -> bool {
    scene.legs.iter().filter(|l| l.op != Op::Idle).count() > 1
}

/// The legs below the rate: where each begins and ends, its name where there is room for it, and what it does, where that is asked for.
pub(crate) fn draw_legs(area: &Area<'_>, scene: &Scene, with_ops: bool) -> Result<(), FigureError> {
    let right = (WIDTH - RIGHT) as f64;
    let window = scene.window;
    let across = |place: f64| {
        let share = ((place - window.from) / (window.to - window.from)).clamp(0.0, 1.0);
        (f64::from(LEFT) + share * (right - f64::from(LEFT))).round() as i32
    };
    let (top, bottom) = (6, LEGS as i32 - 4);
    let mut ops: Vec<Op> = Vec::new();
    let shown = scene.legs.iter().map(|leg: &LegSpan| (leg, across(leg.from), across(leg.to)));
    for (leg, from, to) in shown.filter(|(_, from, to)| to > from) {
        if leg.op != Op::Idle && with_ops {
            if !ops.contains(&leg.op) {
                ops.push(leg.op);
            }
            swatch(area, leg.op, (from, top, to, bottom))?;
        }
        area.draw(&PathElement::new([(from, top - 3), (from, bottom + 3)], INK)).map_err(failed)?;
        if width(&leg.name, 12.0) + 8 < to - from {
            // On ground of its own, so that hatching does not cross it.
            let ground = Rectangle::new(
                [(from + 3, top + 2), (from + 7 + width(&leg.name, 12.0), bottom - 2)],
                WHITE.filled(),
            );
            area.draw(&ground).map_err(failed)?;
            let colour = if leg.op == Op::Idle && with_ops { FAINT } else { INK };
            let style = font(12.0, colour).pos(Pos::new(HPos::Left, VPos::Center));
            let at = (from + 5, i32::midpoint(top, bottom));
            area.draw(&Text::new(leg.name.clone(), at, style)).map_err(failed)?;
        }
    }
    if ops.len() > 1 {
        for (i, op) in ops.iter().take(3).enumerate() {
            let x = right as i32 + 8 + 46 * i as i32;
            swatch(area, *op, (x, top + 4, x + 10, bottom - 4))?;
            let name = match op {
                Op::Read => "read",
                Op::Mixed => "mix",
                _ => "write",
            };
            let style = font(11.0, FAINT).pos(Pos::new(HPos::Left, VPos::Center));
            let at = (x + 13, i32::midpoint(top, bottom));
            area.draw(&Text::new(name, at, style)).map_err(failed)?;
        }
    }
    Ok(())
}

/// The ground of an operation as a rectangle: left, top, right, bottom.
fn swatch(
    area: &Area<'_>,
    op: Op,
    (left, top, right, bottom): (i32, i32, i32, i32),
) -> Result<(), FigureError> {
    let colour = if op == Op::Read { READS } else { TERRAIN };
    area.draw(&Rectangle::new([(left, top), (right, bottom)], colour.mix(0.85).filled())).map_err(failed)?;
    if op == Op::Read {
        for x in (left..right).step_by(HATCH) {
            area.draw(&PathElement::new([(x, top), (x, bottom)], SLATE.mix(0.5))).map_err(failed)?;
        }
    }
    Ok(())
}

/// How the curves of a strip are told apart.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Inks {
    /// By what they show: it is of one drive.
    OfReading,
    /// By their lanes.
    OfLanes,
}

/// Draws a strip with its limits, its curves and their names, and the places of breaks through it; the ruler below it where it is the last.
pub(crate) fn draw_strip(
    area: &Area<'_>,
    strip: &Strip,
    (ruler, window): (Ruler, Window),
    inks: Inks,
    marks: &[Mark],
    is_last: bool,
) -> Result<(), FigureError> {
    let (low, high) = (strip.low, strip.high);
    let mut chart = chart(area, window, low, high, if is_last { 34 } else { 8 })?;
    let unit = match &strip.reading {
        Reading::Temperature => "°C",
        Reading::Latency => "latency",
        Reading::Channel(unit) => unit,
    };
    grid(area, &chart, (ruler, window), (low, high, strip.levels(5)), unit, is_last)?;
    // What is named at the right end, from the top: none lies on another.
    let mut names: Vec<(f64, String, RGBColor)> = Vec::new();
    let own = match (&strip.reading, inks) {
        (_, Inks::OfLanes) => FAINT,
        (Reading::Latency, _) => LATENCY,
        _ => ROSE,
    };
    let path = |points: Vec<(f64, f64)>, ink: ShapeStyle| PathElement::new(points, ink);
    for (name, limit) in &strip.limits {
        let ends = [(window.from, *limit), (window.to, *limit)];
        let line = DashedPathElement::new(ends, 7, 5, ShapeStyle::from(own).stroke_width(1));
        chart.draw_series([line]).map_err(failed)?;
        names.push((*limit, format!("{name} {}", strip.text(*limit)), own));
    }
    if let Some([lower, upper]) = strip.band {
        let (lower, upper) = (&strip.curves[lower].values, &strip.curves[upper].values);
        let known = |i: usize| lower[i].is_some() && upper[i].is_some();
        for stretch in runs(lower.len().min(upper.len()), known) {
            let up = stretch.clone().filter_map(|i| Some((middle(window, i), upper[i]?)));
            let down = stretch.rev().filter_map(|i| Some((middle(window, i), lower[i]?)));
            let edge: Vec<(f64, f64)> = up.chain(down).collect();
            chart.draw_series([Polygon::new(edge, own.mix(0.2).filled())]).map_err(failed)?;
        }
    }
    for curve in &strip.curves {
        let lane = COLOURS[curve.lane % COLOURS.len()];
        let (ink, width) = match (curve.kind, inks) {
            (CurveKind::Fitted, _) => (INK.mix(0.8), 1),
            (CurveKind::LeadsTo, _) => (FAINT.mix(1.0), 1),
            (CurveKind::Upper, _) => (own.mix(0.5), 1),
            (CurveKind::Beside, _) => (lane.mix(0.55), 1),
            (CurveKind::Measured, Inks::OfLanes) => (lane.mix(1.0), 2),
            (CurveKind::Measured, Inks::OfReading) => (own.mix(1.0), 2),
        };
        let style = ShapeStyle::from(ink).stroke_width(width);
        let is_dashed = matches!(curve.kind, CurveKind::Fitted | CurveKind::LeadsTo);
        for points in lines(curve, window) {
            if is_dashed {
                chart.draw_series([DashedPathElement::new(points, 5, 4, style)]).map_err(failed)?;
            } else {
                chart.draw_series([path(points, style)]).map_err(failed)?;
            }
        }
        if let Some((value, text)) = strip.label(curve) {
            let colour = if inks == Inks::OfLanes { lane } else { own };
            names.push((value, text, colour));
        }
    }
    for mark in marks {
        let line = DashedPathElement::new([(mark.at, low), (mark.at, high)], 2, 3, INK);
        chart.draw_series([line]).map_err(failed)?;
    }
    let base = area.get_base_pixel();
    let at = |value: f64| {
        let (x, y) = chart.plotting_area().map_coordinate(&(window.to, value));
        (x - base.0 + 8, y - base.1)
    };
    draw_names(area, names, at)
}

/// The stretches of a curve without gaps, as points.
fn lines(curve: &Curve, window: Window) -> Vec<Vec<(f64, f64)>> {
    let point = |i: usize| Some((middle(window, i), curve.values[i]?));
    let all = runs(curve.values.len(), |i| curve.values[i].is_some());
    all.into_iter().map(|stretch| stretch.filter_map(point).collect()).collect()
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

/// Stretches of neighbouring columns that have something.
fn runs(count: usize, has: impl Fn(usize) -> bool) -> Vec<std::ops::Range<usize>> {
    let mut all: Vec<std::ops::Range<usize>> = Vec::new();
    for i in (0..count).filter(|i| has(*i)) {
        match all.last_mut() {
            Some(last) if last.end == i => last.end = i + 1,
            _ => all.push(i..i + 1),
        }
    }
    all
}
