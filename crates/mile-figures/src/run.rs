//! The figure of a run: rate with its plateaus and numbered breaks, legs, temperature with its limits and latency below on the same ruler, and what
//! the breaks are, in sentences.

use crate::FigureError;
use crate::ink::{Area, INK, failed, font};
use crate::labels::{Labels, numerals, width};
use crate::panel::{
    GRAIN, Inks, LEFT, LEGS, RIGHT, WIDTH, axes, chart, draw_ground, draw_legs, draw_strip, draw_title,
    has_legs,
};
use mile_core::findings::{Context, Findings};
use mile_core::ruler::{Ruler, Window};
use mile_core::scene::{PlateauLine, Reading, Scene, Strip, Subject};
use mile_core::trace::Trace;
use mile_core::units::{Bytes, Nanos, number};
use plotters::element::{DashedPathElement, PathElement, Text};
use plotters::prelude::{IntoDrawingArea, SVGBackend, ShapeStyle, WHITE};

/// Height of the rate.
const RATE: u32 = 400;

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

/// Height of a strip.
fn height_of(strip: &Strip) -> u32 {
    match strip.reading {
        Reading::Latency => 150,
        Reading::Temperature | Reading::Channel(_) => 180,
    }
}

/// Draws a run as SVG.
pub fn draw(figure: &RunFigure<'_>) -> Result<String, FigureError> {
    if figure.trace.is_empty() {
        return Err(FigureError::Empty);
    }
    let ruler = figure.ruler.fitting(figure.trace);
    let window = figure.window.unwrap_or(Window { from: 0.0, to: ruler.end(figure.trace).max(1.0) });
    let subject = Subject::of(figure.trace, figure.findings, figure.context);
    let scene = Scene::of(&subject, ruler, window, GRAIN);
    let sentences = sentences(figure);
    let head = 62 + 19 * figure.lines.len() as u32;
    let legs_height = if has_legs(&scene) { LEGS } else { 0 };
    let strips = 34 + scene.strips.iter().map(height_of).sum::<u32>();
    let foot = 40 + 24 * sentences.len() as u32;
    let mut svg = String::new();
    {
        let size = (WIDTH, head + RATE + legs_height + strips + foot);
        let root = SVGBackend::with_string(&mut svg, size).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, rest) = root.split_vertically(head);
        draw_title(&top, figure.title, figure.lines)?;
        // The ruler stands under what is lowest.
        let is_last = scene.strips.is_empty();
        let (rate, rest) = rest.split_vertically(RATE + if is_last { 34 } else { 0 });
        draw_rate(&rate, &scene, is_last)?;
        let (legs, mut rest) = rest.split_vertically(legs_height);
        if legs_height > 0 {
            draw_legs(&legs, &scene, true)?;
        }
        for (i, strip) in scene.strips.iter().enumerate() {
            let is_last = i + 1 == scene.strips.len();
            let (area, below) = rest.split_vertically(height_of(strip) + if is_last { 34 } else { 0 });
            draw_strip(&area, strip, (ruler, window), Inks::OfReading, &scene.marks, is_last)?;
            rest = below;
        }
        for (i, sentence) in sentences.iter().enumerate() {
            rest.draw(&Text::new(sentence.clone(), (LEFT as i32, 22 + 24 * i as i32), font(14.0, INK)))
                .map_err(failed)?;
        }
        root.present().map_err(failed)?;
    }
    Ok(svg)
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

fn draw_rate(area: &Area<'_>, scene: &Scene, is_last: bool) -> Result<(), FigureError> {
    let window = scene.window;
    let high = if scene.top > 0.0 { scene.top } else { 1.0 };
    let mut chart = chart(area, window, 0.0, high, if is_last { 34 } else { 8 })?;
    axes(area, &chart, (scene.ruler, window), (0.0, high), "MB/s", is_last)?;
    draw_ground(&mut chart, window, &scene.ground)?;
    let base = area.get_base_pixel();
    let plot = chart.plotting_area();
    let at = |place: (f64, f64)| {
        let (x, y) = plot.map_coordinate(&place);
        (x - base.0, y - base.1)
    };
    let ((left, top), (right, bottom)) = (at((window.from, high)), at((window.to, 0.0)));
    let mut labels = Labels::within((left, top, right + RIGHT as i32, bottom));
    let numbered: Vec<(usize, i32)> = scene.marks.iter().map(|m| (m.index + 1, at((m.at, high)).0)).collect();
    for (_, x) in &numbered {
        labels.keep_off((x - 2, top, x + 2, bottom));
    }
    for line in &scene.plateaus {
        let (a, b) = (at(line.from), at(line.to));
        labels.keep_off((a.0, a.1.min(b.1) - 2, b.0, a.1.max(b.1) + 2));
    }
    // The widest first: where there is no room for all, they say most.
    let mut by_width: Vec<&PlateauLine> = scene.plateaus.iter().collect();
    by_width.sort_by(|a, b| (b.to.0 - b.from.0).total_cmp(&(a.to.0 - a.from.0)));
    for line in by_width {
        let ((x0, y0), (x1, y1)) = (at(line.from), at(line.to));
        // Where there is no room for all of it, less of it is better than nothing.
        for label in line.labels() {
            // Under the line, on the terrain; above it; behind it, where what follows is lower.
            let mut places = Vec::new();
            if x1 - x0 > width(&label, 13.0) + 8 {
                places.extend([(x0 + 8, y0.max(y1) + 6), (x0 + 8, y0.min(y1) - 22)]);
            }
            if line.falls_after {
                places.push((x1 + 8, y1 - 7));
            }
            if let Some(place) = labels.place(&label, 13.0, &places) {
                area.draw(&Text::new(label, place, font(13.0, INK))).map_err(failed)?;
                break;
            }
        }
    }
    for line in &scene.plateaus {
        let path = PathElement::new([line.from, line.to], ShapeStyle::from(INK).stroke_width(2));
        chart.draw_series([path]).map_err(failed)?;
    }
    for mark in &scene.marks {
        let line = DashedPathElement::new([(mark.at, 0.0), (mark.at, high)], 2, 3, INK);
        chart.draw_series([line]).map_err(failed)?;
    }
    numerals(area, &numbered, top - 11)
}
