//! The figure of a comparison: a leg on each of its sides, on one ruler (time or bytes from the start of the leg, or addresses) and one scale, with the
//! difference as a strip of its own and the breaks of all sides.

use crate::FigureError;
use crate::ink::{Area, FAINT, INK, RIDGE, SLATE, failed, font};
use crate::panel::{LEFT, WIDTH, axes, chart, draw_title};
use mile_core::ruler::{Ruler, Window};
use mile_core::units::number;
use plotters::element::{DashedPathElement, PathElement, Text};
use plotters::prelude::{Color, IntoDrawingArea, RGBColor, SVGBackend, ShapeStyle, WHITE};
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Heights of the rates of a leg, of their difference, and of temperatures.
const RATES: u32 = 220;
const DIFFERENCE: u32 = 110;
const TEMPERATURES: u32 = 150;
/// Ink of each side; its line has a pattern of its own as well.
const COLOURS: [RGBColor; 4] = [RIDGE, SLATE, INK, RGBColor(34, 120, 84)];

/// A leg on one side.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SideWalk {
    /// The side, and which of its runs it is: `A, run 4`.
    pub name: String,
    /// Mean rates: position on the ruler, MB/s.
    pub rate: Vec<(f64, f64)>,
    /// Mean temperatures: position on the ruler, °C.
    pub temp: Vec<(f64, f64)>,
    /// Its breaks: position on the ruler, and number in the findings of its run.
    pub breaks: Vec<(f64, usize)>,
}

/// A leg on several sides.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LegWalks {
    /// Its name.
    pub leg: String,
    /// What lies along the bottom.
    pub ruler: Ruler,
    /// The stretch of the ruler that the sides take up together: from 0, the start of the leg, but for addresses.
    pub window: Window,
    /// The sides; the first is what the others are held against.
    pub sides: Vec<SideWalk>,
}

impl LegWalks {
    /// Whether there is something to draw on two sides.
    pub fn is_shared(&self) -> bool {
        self.sides.iter().filter(|s| !s.rate.is_empty() || !s.temp.is_empty()).count() > 1
            && self.window.to > self.window.from
    }
}

/// Draws legs on their sides as SVG; `None` where there is none.
///
/// # Errors
/// Where it cannot be drawn.
pub fn draw_comparison(
    title: &str,
    lines: &[String],
    legs: &[LegWalks],
) -> Result<Option<String>, FigureError> {
    let shown: Vec<&LegWalks> = legs.iter().filter(|l| l.is_shared()).collect();
    if shown.is_empty() {
        return Ok(None);
    }
    let head = 62 + 19 * lines.len() as u32;
    let height = |leg: &LegWalks| {
        let rates = if has_rate(leg) { RATES + DIFFERENCE } else { 0 };
        30 + rates + if has_temp(leg) { TEMPERATURES } else { 0 } + 34
    };
    let mut svg = String::new();
    {
        let size = (WIDTH, head + shown.iter().map(|l| height(l)).sum::<u32>());
        let root = SVGBackend::with_string(&mut svg, size).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, mut rest) = root.split_vertically(head);
        draw_title(&top, title, lines)?;
        for leg in shown {
            let (area, below) = rest.split_vertically(height(leg));
            draw_leg(&area, leg)?;
            rest = below;
        }
        root.present().map_err(failed)?;
    }
    Ok(Some(svg))
}

fn has_rate(leg: &LegWalks) -> bool {
    leg.sides.iter().any(|s| !s.rate.is_empty())
}

fn has_temp(leg: &LegWalks) -> bool {
    leg.sides.iter().any(|s| !s.temp.is_empty())
}

fn draw_leg(area: &Area<'_>, leg: &LegWalks) -> Result<(), FigureError> {
    let window = leg.window;
    let (name, mut rest) = area.split_vertically(30);
    let at = (LEFT as i32, 8);
    let from = if leg.ruler == Ruler::Address { "by address" } else { "from the start of the leg" };
    name.draw(&Text::new(format!("{}, {from}", leg.leg), at, font(15.0, INK))).map_err(failed)?;
    let warm = has_temp(leg);
    if has_rate(leg) {
        let (panel, below) = rest.split_vertically(RATES);
        let most = leg.sides.iter().flat_map(|s| &s.rate).map(|p| p.1).fold(0.0, f64::max).max(1e-9) * 1.06;
        lines_of(&panel, leg, |s| &s.rate, window, (0.0, most), "MB/s", false)?;
        let (panel, below) = below.split_vertically(DIFFERENCE + if warm { 0 } else { 34 });
        draw_difference(&panel, leg, window, !warm)?;
        rest = below;
    }
    if warm {
        let all = || leg.sides.iter().flat_map(|s| &s.temp).map(|p| p.1);
        let (low, high) = (all().fold(f64::MAX, f64::min), all().fold(f64::MIN, f64::max));
        let (low, high) = ((low / 5.0 - 0.2).floor() * 5.0, (high / 5.0 + 0.2).ceil() * 5.0);
        lines_of(&rest, leg, |s| &s.temp, window, (low, high), "°C", true)?;
    }
    Ok(())
}

/// A line for each side, named at its end.
fn lines_of(
    area: &Area<'_>,
    leg: &LegWalks,
    of: fn(&SideWalk) -> &Vec<(f64, f64)>,
    window: Window,
    (low, high): (f64, f64),
    unit: &str,
    is_last: bool,
) -> Result<(), FigureError> {
    let mut chart = chart(area, window, low, high, if is_last { 34 } else { 8 })?;
    axes(area, &chart, (leg.ruler, window), (low, high), unit, is_last)?;
    let base = area.get_base_pixel();
    draw_breaks(area, &mut chart, leg, (low, high), unit == "MB/s")?;
    let mut names: Vec<(f64, String, RGBColor)> = Vec::new();
    for (i, side) in leg.sides.iter().enumerate() {
        let line = of(side).clone();
        let Some(last) = line.last().copied() else { continue };
        draw_line(&mut chart, line, i)?;
        names.push((last.1, side.name.clone(), COLOURS[i % COLOURS.len()]));
    }
    // From the top: none lies on another.
    names.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut lowest = i32::MIN;
    for (value, name, colour) in names {
        let (x, y) = chart.plotting_area().map_coordinate(&(window.to, value));
        let y = (y - base.1).max(lowest.saturating_add(16));
        lowest = y;
        let style = font(12.0, colour).pos(Pos::new(HPos::Left, VPos::Center));
        area.draw(&Text::new(name, (x - base.0 + 8, y), style)).map_err(failed)?;
    }
    Ok(())
}

fn draw_line(
    chart: &mut crate::panel::Chart<'_, '_>,
    line: Vec<(f64, f64)>,
    side: usize,
) -> Result<(), FigureError> {
    let style = ShapeStyle::from(&COLOURS[side % COLOURS.len()]).stroke_width(2);
    match side {
        0 => chart.draw_series([PathElement::new(line, style)]).map_err(failed)?,
        1 => chart.draw_series([DashedPathElement::new(line, 8, 4, style)]).map_err(failed)?,
        _ => chart.draw_series([DashedPathElement::new(line, 2, 4, style)]).map_err(failed)?,
    };
    Ok(())
}

/// The breaks of each side as lines in its colour, with its letter and their numbers where there is room.
fn draw_breaks(
    area: &Area<'_>,
    chart: &mut crate::panel::Chart<'_, '_>,
    leg: &LegWalks,
    (low, high): (f64, f64),
    named: bool,
) -> Result<(), FigureError> {
    let base = area.get_base_pixel();
    for (i, side) in leg.sides.iter().enumerate() {
        let colour = COLOURS[i % COLOURS.len()];
        let letter = side.name.chars().next().unwrap_or(' ');
        let mut free = i32::MIN;
        for (place, number) in side.breaks.iter().filter(|b| (leg.window.from..=leg.window.to).contains(&b.0))
        {
            let style = ShapeStyle::from(&colour.mix(0.6)).stroke_width(1);
            chart.draw_series([PathElement::new([(*place, low), (*place, high)], style)]).map_err(failed)?;
            let (x, y) = chart.plotting_area().map_coordinate(&(*place, high));
            let (x, y) = (x - base.0 + 3, y - base.1 + 1 + 13 * i as i32);
            // One that would lie on the last is left out; its line stands.
            if named && x >= free {
                let text = format!("{letter}{number}");
                free = x + 8 * text.chars().count() as i32 + 4;
                area.draw(&Text::new(text, (x, y), font(11.0, colour))).map_err(failed)?;
            }
        }
    }
    Ok(())
}

/// What each further side moved more or less than the first at the same place of the ruler.
fn draw_difference(
    area: &Area<'_>,
    leg: &LegWalks,
    window: Window,
    is_last: bool,
) -> Result<(), FigureError> {
    let Some((first, others)) = leg.sides.split_first() else { return Ok(()) };
    let apart: Vec<Vec<(f64, f64)>> = others
        .iter()
        .map(|other| {
            let mut own = first.rate.iter().peekable();
            let same = |b: &(f64, f64)| {
                while own.next_if(|a| a.0 < b.0).is_some() {}
                own.peek().filter(|a| a.0 == b.0).map(|a| (b.0, b.1 - a.1))
            };
            other.rate.iter().filter_map(same).collect()
        })
        .collect();
    let most = apart.iter().flatten().map(|p| p.1.abs()).fold(0.0, f64::max);
    // Not larger than it is: a hundredth of the rate is the least that fills the strip.
    let scale = first.rate.iter().map(|p| p.1).fold(0.0, f64::max) * 0.01;
    let most = most.max(scale).max(1e-9) * 1.1;
    let mut chart = chart(area, window, -most, most, if is_last { 34 } else { 8 })?;
    axes(area, &chart, (leg.ruler, window), (-most, most), "MB/s", is_last)?;
    let zero =
        PathElement::new([(window.from, 0.0), (window.to, 0.0)], ShapeStyle::from(&FAINT).stroke_width(1));
    chart.draw_series([zero]).map_err(failed)?;
    let base = area.get_base_pixel();
    for (i, line) in apart.into_iter().enumerate() {
        let mean = line.iter().map(|p| p.1).sum::<f64>() / line.len().max(1) as f64;
        draw_line(&mut chart, line, i + 1)?;
        let (x, y) = chart.plotting_area().map_coordinate(&(window.to, most));
        let text = format!("difference, mean {}{}", if mean < 0.0 { "−" } else { "" }, number(mean.abs()));
        let at = (x - base.0 + 8, y - base.1 + 2 + 16 * i as i32);
        area.draw(&Text::new(text, at, font(12.0, COLOURS[(i + 1) % COLOURS.len()]))).map_err(failed)?;
    }
    Ok(())
}
