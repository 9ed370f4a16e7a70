//! The figure of a surface: rate against address for each pass, the baseline, and the hollows as bands with their numbers.

use crate::ink::{Area, FAINT, GRID, INK, RIDGE, SLATE, failed, font};
use crate::panel::WIDTH;
use crate::sweep::step_of;
use crate::{FigureError, panel};
use mile_core::findings::Findings;
use mile_core::sample::Op;
use mile_core::surface::Surface;
use mile_core::units::number;
use plotters::chart::ChartBuilder;
use plotters::element::{DashedPathElement, PathElement, Rectangle, Text};
use plotters::prelude::{IntoDrawingArea, RGBColor, SVGBackend, ShapeStyle, WHITE};
use plotters::style::text_anchor::{HPos, Pos, VPos};

const HIGH: u32 = 460;
const LEFT: i32 = 90;
const RIGHT: i32 = 60;
/// Band of a hollow.
const BAND: RGBColor = RGBColor(232, 222, 204);
/// Points that a line has at the most; more cannot be told apart in print.
const POINTS: usize = 1024;
/// Rows of text below the chart.
const ROW: i32 = 18;

/// Draws the surface of a run as SVG; `None` where it has none.
///
/// # Errors
/// What the drawing library says.
pub fn draw_surface(title: &str, lines: &[String], found: &Findings) -> Result<Option<String>, FigureError> {
    let Some(surface) = &found.surface else { return Ok(None) };
    let head = 62 + 19 * lines.len() as u32;
    let told = sentences(surface, found);
    let mut svg = String::new();
    {
        let size = (WIDTH, head + HIGH + told.len() as u32 * ROW as u32 + 30);
        let root = SVGBackend::with_string(&mut svg, size).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, rest) = root.split_vertically(head);
        panel::draw_title(&top, title, lines)?;
        let (chart, below) = rest.split_vertically(HIGH);
        draw_chart(&chart, surface, found)?;
        for (i, (text, color)) in told.iter().enumerate() {
            let at = (LEFT - 16, 12 + i as i32 * ROW);
            below.draw(&Text::new(text.clone(), at, font(12.0, *color))).map_err(failed)?;
        }
        root.present().map_err(failed)?;
    }
    Ok(Some(svg))
}

/// What stands below the chart: the hollows with their numbers, and how it was looked at.
fn sentences(surface: &Surface, found: &Findings) -> Vec<(String, RGBColor)> {
    let mut all: Vec<(String, RGBColor)> = found
        .hollows
        .iter()
        .enumerate()
        .map(|(i, h)| (format!("{}  {}.", i + 1, h.sentence()), INK))
        .collect();
    for b in found.bad_places().iter().take(12) {
        all.push((format!("{}  {}.", b.mark(), b.words()), INK));
    }
    all.push((format!("{}.", surface.sentence()), FAINT));
    all
}

fn colour(op: Op) -> RGBColor {
    if op == Op::Write { RIDGE } else { SLATE }
}

fn draw_chart(area: &Area<'_>, surface: &Surface, found: &Findings) -> Result<(), FigureError> {
    let cells = surface.baseline_mb_s.len();
    let (unit, scale) = if surface.at(cells) >= 2_000_000_000_000 { ("TB", 1e12) } else { ("GB", 1e9) };
    let place = |cell: f64| (surface.start_byte as f64 + cell * surface.cell_bytes) / scale;
    let (from, to) = (place(0.0), place(cells as f64));
    let rates = surface.passes.iter().flat_map(|p| p.mb_s.iter().flatten());
    let most = rates.chain(surface.baseline_mb_s.iter().flatten()).copied().fold(1.0, f64::max) * 1.1;
    let mut chart = ChartBuilder::on(area)
        .margin_top(48)
        .margin_bottom(46)
        .margin_left(LEFT)
        .margin_right(RIGHT)
        .build_cartesian_2d(from..to, 0.0..most)
        .map_err(failed)?;
    let base = area.get_base_pixel();
    for (i, h) in found.hollows.iter().enumerate() {
        let (a, b) = (h.start_byte as f64 / scale, h.end_byte as f64 / scale);
        let band = Rectangle::new([(a, 0.0), (b, most)], ShapeStyle::from(&BAND).filled());
        chart.draw_series([band]).map_err(failed)?;
        let at = chart.backend_coord(&(f64::midpoint(a, b), most));
        let style = font(13.0, INK).pos(Pos::new(HPos::Center, VPos::Bottom));
        area.draw(&Text::new((i + 1).to_string(), (at.0 - base.0, at.1 - base.1 - 2), style))
            .map_err(failed)?;
    }
    let step = step_of(most / 5.0);
    let mut value = 0.0;
    while value <= most {
        let line =
            PathElement::new(vec![(from, value), (to, value)], ShapeStyle::from(&GRID).stroke_width(1));
        chart.draw_series([line]).map_err(failed)?;
        let at = chart.backend_coord(&(from, value));
        let style = font(12.0, FAINT).pos(Pos::new(HPos::Right, VPos::Center));
        area.draw(&Text::new(number(value), (at.0 - base.0 - 8, at.1 - base.1), style)).map_err(failed)?;
        value += step;
    }
    let style = font(12.0, FAINT).pos(Pos::new(HPos::Right, VPos::Center));
    area.draw(&Text::new("MB/s", (LEFT - 8, 30), style)).map_err(failed)?;
    let step = step_of((to - from) / 8.0);
    let mut value = (from / step).ceil() * step;
    while value <= to {
        let at = chart.backend_coord(&(value, 0.0));
        let style = font(12.0, FAINT).pos(Pos::new(HPos::Center, VPos::Top));
        let text = if value + step > to { format!("{} {unit}", number(value)) } else { number(value) };
        area.draw(&Text::new(text, (at.0 - base.0, at.1 - base.1 + 8), style)).map_err(failed)?;
        value += step;
    }
    let per_point = cells.div_ceil(POINTS).max(1);
    for (i, pass) in surface.passes.iter().enumerate() {
        let line = path(&pass.mb_s, per_point, &place);
        let stroke = ShapeStyle::from(&colour(pass.op)).stroke_width(1);
        // The first pass is solid, the others are dashed: they lie on each other where nothing is wrong.
        for part in line {
            if i == 0 {
                chart.draw_series([PathElement::new(part, stroke)]).map_err(failed)?;
            } else {
                chart.draw_series([DashedPathElement::new(part, 5, 4, stroke)]).map_err(failed)?;
            }
        }
        let name = format!("{} {}: {}", if i == 0 { "——" } else { "- - -" }, pass.leg, pass.order.words());
        let at = (LEFT + 8 + 330 * i as i32, 8);
        area.draw(&Text::new(name, at, font(12.0, colour(pass.op)))).map_err(failed)?;
    }
    for part in path(&surface.baseline_mb_s, 1.max(per_point / 2), &place) {
        chart
            .draw_series([PathElement::new(part, ShapeStyle::from(&INK).stroke_width(1))])
            .map_err(failed)?;
    }
    for b in found.bad_places() {
        let at = chart.backend_coord(&(b.start_byte as f64 / scale, 0.0));
        let style = font(13.0, INK).pos(Pos::new(HPos::Center, VPos::Bottom));
        area.draw(&Text::new(b.mark(), (at.0 - base.0, at.1 - base.1), style)).map_err(failed)?;
    }
    Ok(())
}

/// Lines through what is known, the lowest of the cells of each point, so that a narrow hollow is not lost; in parts where something is missing.
fn path(values: &[Option<f64>], per_point: usize, place: &impl Fn(f64) -> f64) -> Vec<Vec<(f64, f64)>> {
    let mut parts: Vec<Vec<(f64, f64)>> = vec![Vec::new()];
    for (k, cells) in values.chunks(per_point).enumerate() {
        let low = cells.iter().flatten().copied().min_by(f64::total_cmp);
        let x = place((k * per_point) as f64 + cells.len() as f64 / 2.0);
        match (low, parts.last_mut()) {
            (Some(y), Some(last)) => last.push((x, y)),
            (None, Some(last)) if !last.is_empty() => parts.push(Vec::new()),
            _ => {}
        }
    }
    parts.retain(|p| p.len() > 1);
    parts
}
