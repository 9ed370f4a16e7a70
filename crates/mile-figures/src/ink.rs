//! Colours and letters of figures, and what is drawn on.

use crate::{FAMILY, FigureError};
use plotters::coord::Shift;
use plotters::prelude::{DrawingArea, RGBColor, SVGBackend, TextStyle};
use plotters::style::IntoFont;

pub(crate) const INK: RGBColor = RGBColor(34, 37, 43);
pub(crate) const FAINT: RGBColor = RGBColor(120, 124, 132);
pub(crate) const GRID: RGBColor = RGBColor(222, 222, 218);
pub(crate) const RIDGE: RGBColor = RGBColor(150, 98, 16);
pub(crate) const SLATE: RGBColor = RGBColor(58, 88, 140);
pub(crate) const ROSE: RGBColor = RGBColor(186, 50, 96);

pub(crate) type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

pub(crate) fn failed(e: impl std::fmt::Display) -> FigureError {
    FigureError::Draw(e.to_string())
}

pub(crate) fn font(size: f64, colour: RGBColor) -> TextStyle<'static> {
    (FAMILY, size).into_font().color(&colour)
}

pub(crate) const WHITE_INK: RGBColor = RGBColor(255, 255, 255);
