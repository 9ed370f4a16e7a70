//! The figure of a run on several drives: the terrain of each lane on one clock and one scale, their temperatures with all limits, and what
//! each drive came to in each leg.

use crate::FigureError;
use crate::ink::{Area, FAINT, INK, ROSE, failed, font};
use crate::labels::numerals;
use crate::panel::{
    COLOURS, GRAIN, Inks, LEFT, LEGS, WIDTH, axes, chart, draw_ground, draw_legs, draw_strip, draw_title,
};
use mile_core::channel::Series;
use mile_core::findings::{Break, Context};
use mile_core::ruler::Ruler;
use mile_core::scene::{LanesScene, Mark, Reading, Scene, Strip, Subject};
use mile_core::stages::Stage;
use mile_core::trace::Trace;
use mile_core::units::number;
use plotters::element::{DashedPathElement, Text};
use plotters::prelude::{IntoDrawingArea, SVGBackend, WHITE};
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Height of a lane's terrain, and of the temperatures.
const LANE: u32 = 190;
const TEMPERATURES: u32 = 260;
/// Height of what else was measured.
const OTHERS: u32 = 150;
/// Height of a row of the table.
const ROW: u32 = 22;

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
    /// The channels of the run: those in °C are drawn with the temperatures, each other unit has a panel of its own.
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
    let lanes = figure.lanes.iter();
    let subjects: Vec<_> =
        lanes.map(|l| (l.name, Subject::with_breaks(l.trace, l.breaks, l.context))).collect();
    let scene = LanesScene::of(&subjects, figure.series, None, GRAIN);
    let along = (Ruler::Time, scene.window);
    let head = 62 + 19 * figure.lines.len() as u32;
    let strips = 34 + scene.strips.iter().map(height_of).sum::<u32>();
    let table = ROW * (figure.stages.len() as u32 + 4);
    // A leg has one name on all lanes, and does something else on each.
    let legs = scene.lanes.first().filter(|l| l.legs.len() > 1);
    let legs_height = if legs.is_some() { LEGS } else { 0 };
    let height = head + LANE * figure.lanes.len() as u32 + legs_height + strips + table;
    let mut svg = String::new();
    {
        let root = SVGBackend::with_string(&mut svg, (WIDTH, height)).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, mut rest) = root.split_vertically(head);
        draw_title(&top, figure.title, figure.lines)?;
        let high = if scene.top > 0.0 { scene.top } else { 1.0 };
        for (i, (lane, drawn)) in figure.lanes.iter().zip(&scene.lanes).enumerate() {
            let is_last = i + 1 == figure.lanes.len() && scene.strips.is_empty();
            let (area, below) = rest.split_vertically(LANE + if is_last { 34 } else { 0 });
            draw_lane(&area, lane, drawn, high, is_last)?;
            rest = below;
        }
        let (area, mut rest) = rest.split_vertically(legs_height);
        if let Some(lane) = legs {
            draw_legs(&area, lane, false)?;
        }
        for (i, strip) in scene.strips.iter().enumerate() {
            let is_last = i + 1 == scene.strips.len();
            let (area, below) = rest.split_vertically(height_of(strip) + if is_last { 34 } else { 0 });
            draw_strip(&area, strip, along, Inks::OfLanes, &[], is_last)?;
            rest = below;
        }
        draw_table(&rest, figure)?;
        root.present().map_err(failed)?;
    }
    Ok(svg)
}

fn height_of(strip: &Strip) -> u32 {
    if strip.reading == Reading::Temperature { TEMPERATURES } else { OTHERS }
}

fn draw_lane(
    area: &Area<'_>,
    lane: &FigureLane<'_>,
    scene: &Scene,
    high: f64,
    is_last: bool,
) -> Result<(), FigureError> {
    let window = scene.window;
    let mut chart = chart(area, window, 0.0, high, if is_last { 34 } else { 8 })?;
    axes(area, &chart, (Ruler::Time, window), (0.0, high), "MB/s", is_last)?;
    draw_ground(&mut chart, window, &scene.ground)?;
    let base = area.get_base_pixel();
    let mut numbered = Vec::new();
    for Mark { index, at } in &scene.marks {
        let line = DashedPathElement::new([(*at, 0.0), (*at, high)], 2, 3, INK);
        chart.draw_series([line]).map_err(failed)?;
        numbered.push((index + 1, chart.plotting_area().map_coordinate(&(*at, high)).0 - base.0));
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
