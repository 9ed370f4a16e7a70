//! The figure of a run: rate against bytes with its plateaus and numbered breaks, temperature with its limits below on
//! the same ruler, and what the breaks are, in sentences.

use crate::FigureError;
use crate::ink::{Area, FAINT, GRID, INK, RIDGE, ROSE, SLATE, failed, font};
use crate::labels::{Labels, numerals, width};
use mile_core::findings::{Context, Findings, Plateau};
use mile_core::ruler::{Column, Ruler, Window, columns, ticks};
use mile_core::sample::Op;
use mile_core::trace::Trace;
use mile_core::units::{Bytes, Nanos, number};
use plotters::chart::{ChartBuilder, ChartContext};
use plotters::coord::types::RangedCoordf64;
use plotters::element::{DashedPathElement, PathElement, Polygon, Rectangle, Text};
use plotters::prelude::{Cartesian2d, IntoDrawingArea, RGBColor, SVGBackend, ShapeStyle, WHITE};
use plotters::style::Color;
use plotters::style::text_anchor::{HPos, Pos, VPos};

pub(crate) const WIDTH: u32 = 1120;
/// Ground of reads, and columns between the lines of its hatching.
const READS: RGBColor = RGBColor(176, 196, 226);
const HATCH: usize = 6;
/// Height of the row of legs.
const LEGS: u32 = 30;
const TERRAIN: RGBColor = RGBColor(224, 178, 92);
/// Columns that the trace is cut into: finer than a printed line is wide.
pub(crate) const COLUMNS: usize = 1000;
pub(crate) const LEFT: u32 = 74;
const RIGHT: u32 = 150;

/// What a figure of a run shows.
#[derive(Clone, Copy, Debug)]
pub struct RunFigure<'a> {
    /// Course and drive: `long soak on Merrow K2 2TB`.
    pub title: &'a str,
    /// Conditions, and how the run was made, a line each.
    pub lines: &'a [String],
    /// The samples.
    pub trace: &'a Trace,
    /// What they show.
    pub findings: &'a Findings,
    /// Limits of the drive.
    pub context: &'a Context,
    /// What lies along the bottom.
    pub ruler: Ruler,
    /// The part of it to draw; all of it where it is `None`.
    pub window: Option<Window>,
}

pub(crate) type Chart<'a, 'b> = ChartContext<'a, SVGBackend<'b>, Cartesian2d<RangedCoordf64, RangedCoordf64>>;

/// Draws a run as SVG.
pub fn draw(figure: &RunFigure<'_>) -> Result<String, FigureError> {
    if figure.trace.is_empty() {
        return Err(FigureError::Empty);
    }
    let figure = RunFigure { ruler: figure.ruler.fitting(figure.trace), ..*figure };
    let window = figure.window.unwrap_or(Window { from: 0.0, to: figure.ruler.end(figure.trace).max(1.0) });
    let data: Vec<Option<Column>> = columns(figure.trace, figure.ruler, window, COLUMNS);
    let sentences = sentences(&figure);
    let has_temp = data.iter().flatten().any(|c| c.temp.is_some());
    let head = 62 + 19 * figure.lines.len() as u32;
    let temp_height = if has_temp { 210 } else { 0 };
    let legs_height = if has_legs(&figure) { LEGS } else { 0 };
    let foot = 40 + 24 * sentences.len() as u32;
    let height = head + 400 + legs_height + temp_height + foot;
    let mut svg = String::new();
    {
        let root = SVGBackend::with_string(&mut svg, (WIDTH, height)).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, rest) = root.split_vertically(head);
        draw_title(&top, figure.title, figure.lines)?;
        let (rate, rest) = rest.split_vertically(400);
        draw_rate(&rate, &figure, window, &data, has_temp)?;
        let (legs, rest) = rest.split_vertically(legs_height);
        if legs_height > 0 {
            draw_legs(&legs, &figure, window)?;
        }
        let (temp, foot) = rest.split_vertically(temp_height);
        if has_temp {
            draw_temp(&temp, &figure, window, &data)?;
        }
        for (i, sentence) in sentences.iter().enumerate() {
            foot.draw(&Text::new(sentence.clone(), (LEFT as i32, 22 + 24 * i as i32), font(14.0, INK)))
                .map_err(failed)?;
        }
        root.present().map_err(failed)?;
    }
    Ok(svg)
}

pub(crate) fn draw_title(area: &Area<'_>, title: &str, lines: &[String]) -> Result<(), FigureError> {
    area.draw(&Text::new(title.to_owned(), (LEFT as i32, 20), font(23.0, INK))).map_err(failed)?;
    for (i, line) in lines.iter().enumerate() {
        area.draw(&Text::new(line.clone(), (LEFT as i32, 54 + 19 * i as i32), font(13.0, FAINT)))
            .map_err(failed)?;
    }
    Ok(())
}

fn sentences(figure: &RunFigure<'_>) -> Vec<String> {
    let mut all: Vec<String> = figure
        .findings
        .breaks
        .iter()
        .enumerate()
        .map(|(i, b)| {
            let why = b.reason().map_or(String::new(), |text| format!(" ({text})"));
            format!(
                "{}:  {} after {}, {} → {} MB/s, {}{why}",
                i + 1,
                Bytes(b.at_bytes),
                Nanos::from_secs(b.at_s),
                number(b.from_mb_s),
                number(b.to_mb_s),
                b.verdict()
            )
        })
        .collect();
    if all.is_empty() {
        all.push("No break in the rate was found.".into());
    }
    if let Some(cache) = &figure.findings.cache {
        all.push(format!(
            "Write cache {} ({} to {}); {} MB/s into it, {} MB/s after it.",
            Bytes(cache.bytes),
            Bytes(cache.low_bytes),
            Bytes(cache.high_bytes),
            number(cache.before_mb_s),
            number(cache.after_mb_s)
        ));
    }
    all
}

/// Multiples of a round step from `low` to `high`, about `most` of them.
fn levels(low: f64, high: f64, most: f64) -> Vec<f64> {
    let rough = (high - low) / most;
    let power = 10_f64.powf(rough.max(1e-9).log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough).unwrap_or(rough);
    let first = (low / step).ceil() as i64;
    (first..).map(|i| i as f64 * step).take_while(|l| *l <= high).collect()
}

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

/// A round number without a needless fraction.
fn level_label(level: f64) -> String {
    if level.fract() == 0.0 && level.abs() < 1e9 {
        // Its digits are grouped without the sign: −200 was "-,200".
        let sign = if level < 0.0 { "−" } else { "" };
        format!("{sign}{}", mile_core::units::thousands(&format!("{:.0}", level.abs())))
    } else {
        number(level)
    }
}

/// Horizontal lines and their labels, and the ruler where there is room for it.
pub(crate) fn axes(
    area: &Area<'_>,
    chart: &Chart<'_, '_>,
    ruler: Ruler,
    window: Window,
    (low, high): (f64, f64),
    unit: &str,
    is_last: bool,
) -> Result<(), FigureError> {
    let plot = chart.plotting_area();
    for level in levels(low, high, 5.0) {
        let (x0, y) = plot.map_coordinate(&(window.from, level));
        let (x1, _) = plot.map_coordinate(&(window.to, level));
        let base = area.get_base_pixel();
        let at = |x: i32, y: i32| (x - base.0, y - base.1);
        area.draw(&PathElement::new([at(x0, y), at(x1, y)], GRID)).map_err(failed)?;
        let style = font(13.0, INK).pos(Pos::new(HPos::Right, VPos::Center));
        area.draw(&Text::new(level_label(level), at(x0 - 8, y), style)).map_err(failed)?;
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

pub(crate) fn middle(window: Window, i: usize) -> f64 {
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

fn draw_rate(
    area: &Area<'_>,
    figure: &RunFigure<'_>,
    window: Window,
    data: &[Option<Column>],
    temp_below: bool,
) -> Result<(), FigureError> {
    let high = data.iter().flatten().filter_map(|c| c.rate).map(|r| r.max).fold(0.0, f64::max);
    let high = if high > 0.0 { high * 1.06 } else { 1.0 };
    let bottom = if temp_below { 8 } else { 34 };
    let mut chart = chart(area, window, 0.0, high, bottom)?;
    axes(area, &chart, figure.ruler, window, (0.0, high), "MB/s", !temp_below)?;
    draw_ground(&mut chart, window, data)?;
    let base = area.get_base_pixel();
    let plot = chart.plotting_area();
    let at = |place: (f64, f64)| {
        let (x, y) = plot.map_coordinate(&place);
        (x - base.0, y - base.1)
    };
    let ((left, top), (right, bottom)) = (at((window.from, high)), at((window.to, 0.0)));
    let mut labels = Labels::within((left, top, right + RIGHT as i32, bottom));
    let breaks: Vec<(usize, f64)> = breaks_within(figure, window);
    let numbered: Vec<(usize, i32)> = breaks.iter().map(|(i, place)| (*i, at((*place, high)).0)).collect();
    for (_, x) in &numbered {
        labels.keep_off((x - 2, top, x + 2, bottom));
    }
    let lines: Vec<(usize, [(f64, f64); 2])> = plateau_lines(figure, window);
    for (_, ends) in &lines {
        let (a, b) = (at(ends[0]), at(ends[1]));
        labels.keep_off((a.0, a.1.min(b.1) - 2, b.0, a.1.max(b.1) + 2));
    }
    // The widest first: where there is no room for all, they say most.
    let mut by_width: Vec<&(usize, [(f64, f64); 2])> = lines.iter().collect();
    by_width.sort_by(|a, b| (b.1[1].0 - b.1[0].0).total_cmp(&(a.1[1].0 - a.1[0].0)));
    for &&(i, ends) in &by_width {
        let p = &figure.findings.plateaus[i];
        let ((x0, y0), (x1, y1)) = (at(ends[0]), at(ends[1]));
        let next_is_lower =
            figure.findings.plateaus.get(i + 1).is_none_or(|next| next.mean_mb_s < 0.9 * p.mean_mb_s);
        let mean = number(p.mean_mb_s);
        // Where there is no room for all of it, less of it is better than nothing.
        for label in [format!("{mean} ± {} MB/s", number(p.sd_mb_s)), format!("{mean} MB/s"), mean] {
            // Under the line, on the terrain; above it; behind it, where what follows is lower.
            let mut places = Vec::new();
            if x1 - x0 > width(&label, 13.0) + 8 {
                places.extend([(x0 + 8, y0.max(y1) + 6), (x0 + 8, y0.min(y1) - 22)]);
            }
            if next_is_lower {
                places.push((x1 + 8, y1 - 7));
            }
            if let Some(place) = labels.place(&label, 13.0, &places) {
                area.draw(&Text::new(label, place, font(13.0, INK))).map_err(failed)?;
                break;
            }
        }
    }
    for (_, ends) in lines {
        let line = PathElement::new(ends, ShapeStyle::from(INK).stroke_width(2));
        chart.draw_series([line]).map_err(failed)?;
    }
    for (_, place) in breaks {
        let line = DashedPathElement::new([(place, 0.0), (place, high)], 2, 3, INK);
        chart.draw_series([line]).map_err(failed)?;
    }
    numerals(area, &numbered, top - 11)
}

/// The breaks that are in the window, each with its number from 1 and its place on the ruler.
fn breaks_within(figure: &RunFigure<'_>, window: Window) -> Vec<(usize, f64)> {
    let breaks = figure.findings.breaks.iter().enumerate();
    let mut all: Vec<(usize, f64)> = breaks
        .map(|(i, b)| (i + 1, figure.ruler.place(figure.trace, b.at_bytes, b.at_s)))
        .filter(|(_, at)| (window.from..=window.to).contains(at))
        .collect();
    all.sort_by(|a, b| a.1.total_cmp(&b.1));
    all
}

/// The lines of the plateaus, each with its index.
fn plateau_lines(figure: &RunFigure<'_>, window: Window) -> Vec<(usize, [(f64, f64); 2])> {
    // A plateau is a stretch of time; at one address there are as many as there are passes.
    if figure.ruler == Ruler::Address {
        return Vec::new();
    }
    let line = |(i, p): (usize, &Plateau)| {
        let (from, to) = if figure.ruler == Ruler::Time {
            (p.start_s * 1e9, p.end_s * 1e9)
        } else {
            (p.start_bytes as f64, p.end_bytes as f64)
        };
        let tilt = p.slope_mb_s_per_gb * (p.end_bytes - p.start_bytes) as f64 / 2e9;
        let ends = [(from.max(window.from), p.mean_mb_s - tilt), (to.min(window.to), p.mean_mb_s + tilt)];
        (ends[1].0 > ends[0].0).then_some((i, ends))
    };
    figure.findings.plateaus.iter().enumerate().filter_map(line).collect()
}

/// Stretches of columns that have a rate, each of reads or of writes.
fn grounds(data: &[Option<Column>]) -> Vec<std::ops::Range<usize>> {
    let is_read = |i: usize| data[i].as_ref().is_some_and(|c| c.op == Op::Read);
    let mut all = Vec::new();
    for stretch in stretches(data, |c| c.rate.is_some()) {
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
fn has_legs(figure: &RunFigure<'_>) -> bool {
    figure.ruler != Ruler::Address && figure.trace.legs().iter().filter(|l| l.op != Op::Idle).count() > 1
}

/// The legs below the rate: where each begins and ends, what it does, and its name where there is room for it.
fn draw_legs(area: &Area<'_>, figure: &RunFigure<'_>, window: Window) -> Result<(), FigureError> {
    let right = (WIDTH - RIGHT) as f64;
    let across = |place: f64| {
        let share = ((place - window.from) / (window.to - window.from)).clamp(0.0, 1.0);
        (f64::from(LEFT) + share * (right - f64::from(LEFT))).round() as i32
    };
    let trace = figure.trace;
    let place = |sample: usize, at: Nanos| figure.ruler.place(trace, trace.moved(sample).0, at.secs());
    let (top, bottom) = (6, LEGS as i32 - 4);
    let mut ops: Vec<Op> = Vec::new();
    for leg in trace.legs() {
        let from = across(place(leg.samples.start, trace.start(leg.samples.start)));
        let to = across(place(leg.samples.end, trace.end(leg.samples.end - 1)));
        if to <= from || leg.op == Op::Idle {
            continue;
        }
        if !ops.contains(&leg.op) {
            ops.push(leg.op);
        }
        swatch(area, leg.op, (from, top, to, bottom))?;
        area.draw(&PathElement::new([(from, top - 3), (from, bottom + 3)], INK)).map_err(failed)?;
        if width(&leg.name, 12.0) + 8 < to - from {
            // On ground of its own, so that hatching does not cross it.
            let ground = Rectangle::new(
                [(from + 3, top + 2), (from + 7 + width(&leg.name, 12.0), bottom - 2)],
                WHITE.filled(),
            );
            area.draw(&ground).map_err(failed)?;
            let style = font(12.0, INK).pos(Pos::new(HPos::Left, VPos::Center));
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

fn draw_temp(
    area: &Area<'_>,
    figure: &RunFigure<'_>,
    window: Window,
    data: &[Option<Column>],
) -> Result<(), FigureError> {
    let temps = || data.iter().flatten().filter_map(|c| c.temp);
    let limits: Vec<(&str, f64)> =
        [("warns from", figure.context.warn), ("critical from", figure.context.critical)]
            .into_iter()
            .filter_map(|(name, limit)| limit.map(|l| (name, l.0)))
            .collect();
    let lowest = temps().map(|t| t.min).fold(f64::MAX, f64::min);
    let highest = limits.iter().map(|l| l.1).chain(temps().map(|t| t.max)).fold(f64::MIN, f64::max);
    let (low, high) = ((lowest / 10.0 - 0.2).floor() * 10.0, (highest / 10.0 + 0.1).ceil() * 10.0);
    let mut chart = chart(area, window, low, high, 34)?;
    axes(area, &chart, figure.ruler, window, (low, high), "°C", true)?;
    for (name, limit) in limits {
        let style = ShapeStyle::from(ROSE).stroke_width(1);
        chart
            .draw_series([DashedPathElement::new([(window.from, limit), (window.to, limit)], 7, 5, style)])
            .map_err(failed)?;
        let (x, y) = chart.plotting_area().map_coordinate(&(window.to, limit));
        let base = area.get_base_pixel();
        let style = font(13.0, ROSE).pos(Pos::new(HPos::Left, VPos::Center));
        area.draw(&Text::new(format!("{name} {limit:.0} °C"), (x - base.0 + 8, y - base.1), style))
            .map_err(failed)?;
    }
    for stretch in stretches(data, |c| c.temp.is_some()) {
        let line: Vec<(f64, f64)> =
            stretch.filter_map(|i| Some((middle(window, i), data[i].as_ref()?.temp?.mean))).collect();
        chart
            .draw_series([PathElement::new(line, ShapeStyle::from(ROSE).stroke_width(2))])
            .map_err(failed)?;
    }
    for b in &figure.findings.breaks {
        let at = figure.ruler.place(figure.trace, b.at_bytes, b.at_s);
        if (window.from..=window.to).contains(&at) {
            chart
                .draw_series([DashedPathElement::new([(at, low), (at, high)], 2, 3, INK)])
                .map_err(failed)?;
        }
    }
    Ok(())
}

/// Stretches of neighbouring columns that have a reading.
pub(crate) fn stretches(
    data: &[Option<Column>],
    has: impl Fn(&Column) -> bool,
) -> Vec<std::ops::Range<usize>> {
    let mut all: Vec<std::ops::Range<usize>> = Vec::new();
    for (i, column) in data.iter().enumerate() {
        if !column.as_ref().is_some_and(&has) {
            continue;
        }
        match all.last_mut() {
            Some(last) if last.end == i => last.end = i + 1,
            _ => all.push(i..i + 1),
        }
    }
    all
}
