//! Figures for print: SVG drawn with plotters, and PDF from that SVG.
//!
//! Text stays text in both. The font is compiled in, so that a PDF has its text on a machine without any font.

mod run;
mod sweep;

pub use run::{RunFigure, draw};
pub use sweep::draw_sweep;

use std::sync::Arc;
use svg2pdf::usvg::{Options, Tree, fontdb};
use svg2pdf::{ConversionOptions, PageOptions, to_pdf};

/// DejaVu Sans; its licence is beside it.
const FONT: &[u8] = include_bytes!("../fonts/DejaVuSans.ttf");
/// Name of the font's family.
pub(crate) const FAMILY: &str = "DejaVu Sans";
/// Dots an inch at which the figure's lengths are meant: 1120 of them are 28 cm, a page across.
const DPI: f32 = 100.0;

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

/// Makes a PDF of a figure's SVG, of one page.
pub fn pdf(svg: &str) -> Result<Vec<u8>, FigureError> {
    let mut fonts = fontdb::Database::new();
    fonts.load_font_data(FONT.to_vec());
    fonts.set_sans_serif_family(FAMILY);
    let options = Options { fontdb: Arc::new(fonts), font_family: FAMILY.into(), ..Options::default() };
    let tree = Tree::from_str(svg, &options).map_err(|e| FigureError::Pdf(e.to_string()))?;
    to_pdf(&tree, ConversionOptions::default(), PageOptions { dpi: DPI })
        .map_err(|e| FigureError::Pdf(e.to_string()))
}
