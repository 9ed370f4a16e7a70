//! PDF from the SVG of a figure.

use crate::{FAMILY, FigureError};
use std::sync::Arc;
use svg2pdf::usvg::{Options, Tree, fontdb};
use svg2pdf::{ConversionOptions, PageOptions, to_pdf};

/// DejaVu Sans; its licence is beside it.
const FONT: &[u8] = include_bytes!("../fonts/DejaVuSans.ttf");
/// Dots an inch at which the figure's lengths are meant: 1120 of them are 28 cm, a page across.
const DPI: f32 = 100.0;

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
