//! The figure of a drive's story: strips over months, each with its own scale, on one ruler of time.

use crate::FigureError;
use crate::ink::{FAINT, GRID, INK, RIDGE, ROSE, SLATE, failed, font};
use crate::panel::{LEFT, WIDTH, draw_title};
use plotters::element::{PathElement, Rectangle, Text};
use plotters::prelude::{IntoDrawingArea, RGBColor, SVGBackend, ShapeStyle, WHITE};
use plotters::style::Color;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Height of a strip and of its name, and of the ruler.
const STRIP: i32 = 96;
const NAME: i32 = 26;
const RULER: i32 = 40;
/// Right edge of the strips.
const RIGHT: i32 = 40;

/// What a strip is of: it decides the colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StoryKind {
    /// A range of temperatures.
    Temperature,
    /// Bytes.
    Written,
    /// A share of its life.
    Life,
    /// A number of errors.
    Errors,
}

/// A strip: for each column of time the range that it shows.
#[derive(Clone, Debug, PartialEq)]
pub struct StoryStrip {
    /// What it is of.
    pub kind: StoryKind,
    /// Its name, with what a column is.
    pub name: String,
    /// Lowest and highest value of its scale.
    pub scale: (f64, f64),
    /// The words for these.
    pub labels: (String, String),
    /// Lowest and highest of each column, evenly spaced in time; `None` where nothing is known.
    pub columns: Vec<Option<(f64, f64)>>,
}

/// Draws the strips as SVG, with marks on the ruler at shares of the time from 0 to 1; `None` where there is no strip.
///
/// # Errors
/// What the drawing library says.
pub fn draw_story(
    title: &str,
    lines: &[String],
    strips: &[StoryStrip],
    ruler: &[(f64, String)],
) -> Result<Option<String>, FigureError> {
    if strips.is_empty() {
        return Ok(None);
    }
    let head = 62 + 19 * lines.len() as u32;
    let body = strips.len() as i32 * (STRIP + NAME) + RULER;
    let mut svg = String::new();
    {
        let root = SVGBackend::with_string(&mut svg, (WIDTH, head + body as u32)).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, area) = root.split_vertically(head);
        draw_title(&top, title, lines)?;
        let (left, width) = (LEFT as i32, WIDTH as i32 - LEFT as i32 - RIGHT);
        let right = |size: f64| font(size, FAINT).pos(Pos::new(HPos::Right, VPos::Center));
        let foot = strips.len() as i32 * (STRIP + NAME) + 6;
        let mark = |share: f64| left + (share.clamp(0.0, 1.0) * f64::from(width)).round() as i32;
        for (share, _) in ruler {
            let x = mark(*share);
            area.draw(&PathElement::new([(x, NAME), (x, foot)], ShapeStyle::from(&GRID))).map_err(failed)?;
        }
        for (i, strip) in strips.iter().enumerate() {
            let top = i as i32 * (STRIP + NAME) + NAME;
            let (low, high) = strip.scale;
            let y = |value: f64| {
                let share = ((value - low) / (high - low).max(1e-9)).clamp(0.0, 1.0);
                top + STRIP - (share * f64::from(STRIP)).round() as i32
            };
            area.draw(&Text::new(strip.name.clone(), (left, top - 18), font(13.0, INK))).map_err(failed)?;
            let colour: RGBColor = match strip.kind {
                StoryKind::Temperature => ROSE,
                StoryKind::Written => RIDGE,
                StoryKind::Life => SLATE,
                StoryKind::Errors => INK,
            };
            for (edge, text) in [(high, &strip.labels.1), (low, &strip.labels.0)] {
                let line =
                    PathElement::new([(left, y(edge)), (left + width, y(edge))], ShapeStyle::from(&GRID));
                area.draw(&line).map_err(failed)?;
                area.draw(&Text::new(text.clone(), (left - 8, y(edge)), right(12.0))).map_err(failed)?;
            }
            let count = strip.columns.len().max(1) as f64;
            for (x, column) in strip.columns.iter().enumerate() {
                let Some((from, to)) = column else { continue };
                let at = |k: usize| left + (f64::from(width) * k as f64 / count).round() as i32;
                // What is there is seen, however little it is.
                let thick = if strip.kind == StoryKind::Temperature { 3 } else { 1 };
                let (upper, lower) = (y(*to).min(y(*from) - thick), y(*from));
                let bar = Rectangle::new([(at(x), upper), (at(x + 1), lower)], colour.filled());
                area.draw(&bar).map_err(failed)?;
            }
        }
        for (share, text) in ruler {
            let x = mark(*share);
            let style = font(12.0, FAINT).pos(Pos::new(HPos::Center, VPos::Top));
            area.draw(&Text::new(text.clone(), (x, foot + 4), style)).map_err(failed)?;
        }
        root.present().map_err(failed)?;
    }
    Ok(Some(svg))
}
