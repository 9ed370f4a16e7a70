//! Where things were drawn last, for the mouse.

use crate::tui::place::Place;
use ratatui::layout::{Position, Rect};
use std::ops::Range;

/// A line that can be clicked on: its rows, its columns, and its index.
pub(crate) type Line = (Range<u16>, Range<u16>, usize);

/// A stretch of columns over which the mouse is being dragged, from where it was pressed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Drag {
    pub(crate) from: u16,
    pub(crate) to: u16,
}

/// What the last frame had where.
#[derive(Default)]
pub(crate) struct Drawn {
    pub(crate) canvas_area: Rect,
    /// Where the terminal's cursor belongs in the place, if it is shown.
    pub(crate) cursor: Option<Position>,
    /// The lines of the place that can be clicked on: rows, columns, and which line it is.
    pub(crate) lines: Vec<Line>,
    /// The stretch of the canvas over which the mouse is being dragged.
    pub(crate) drag: Option<Drag>,
    /// Where the names of the places stand in the header.
    pub(crate) place_spans: Vec<(Place, Range<u16>)>,
}
