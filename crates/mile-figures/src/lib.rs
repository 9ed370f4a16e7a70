//! Figures for print: SVG drawn with plotters, and PDF from that SVG.
//!
//! Text stays text in both. The font is compiled in, so that a PDF has its text on a machine without any font.

mod compare;
mod ink;
mod labels;
mod lanes;
mod panel;
#[cfg(feature = "pdf")]
mod pdf;
#[cfg(feature = "pdf")]
pub mod report;
mod run;
mod story;
mod surface;
mod sweep;

pub use compare::{LegWalks, SideWalk, draw_comparison};
pub use lanes::{FigureLane, LanesFigure, draw_lanes};
#[cfg(feature = "pdf")]
pub use pdf::pdf;
pub use run::{RunFigure, draw};
pub use story::{StoryKind, StoryStrip, draw_story};
pub use surface::draw_surface;
pub use sweep::{draw_span, draw_sweep};

/// Name of the font's family.
pub(crate) const FAMILY: &str = "DejaVu Sans";
/// Why a figure could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum FigureError {
    #[error("the run has no samples, so that there is nothing to draw")]
    Empty,
    #[error("the figure could not be drawn: {0}")]
    Draw(String),
    #[error("the figure could not be made a PDF: {0}")]
    Pdf(String),
}
