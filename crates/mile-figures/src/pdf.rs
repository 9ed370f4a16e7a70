//! PDF from SVG: a figure on a page of its own, or pages that were set.

use crate::{FAMILY, FigureError};
use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, TextStr};
use std::collections::HashMap;
use std::sync::{Arc, LazyLock};
use svg2pdf::usvg::{Options, Tree, fontdb};
use svg2pdf::{ConversionOptions, PageOptions, to_chunk, to_pdf};

/// DejaVu Sans; its licence is beside it.
pub(crate) const FONT: &[u8] = include_bytes!("../fonts/DejaVuSans.ttf");
/// Dots an inch at which the figure's lengths are meant: 1120 of them are 28 cm, a page across.
const DPI: f32 = 100.0;

static FONTS: LazyLock<Arc<fontdb::Database>> = LazyLock::new(|| {
    let mut fonts = fontdb::Database::new();
    fonts.load_font_data(FONT.to_vec());
    fonts.set_sans_serif_family(FAMILY);
    Arc::new(fonts)
});

fn tree(svg: &str) -> Result<Tree, FigureError> {
    let options = Options { fontdb: Arc::clone(&FONTS), font_family: FAMILY.into(), ..Options::default() };
    Tree::from_str(svg, &options).map_err(|e| FigureError::Pdf(e.to_string()))
}

/// Makes a PDF of a figure's SVG, of one page.
pub fn pdf(svg: &str) -> Result<Vec<u8>, FigureError> {
    to_pdf(&tree(svg)?, ConversionOptions::default(), PageOptions { dpi: DPI })
        .map_err(|e| FigureError::Pdf(e.to_string()))
}

/// A document of pages, each an SVG of that size in points.
pub(crate) fn document(
    title: &str,
    pages: &[String],
    (width, height): (f64, f64),
) -> Result<Vec<u8>, FigureError> {
    let mut next = Ref::new(1);
    let (catalog, tree_id, info) = (next.bump(), next.bump(), next.bump());
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(tree_id);
    pdf.document_info(info).title(TextStr(title)).creator(TextStr("Hollow Mile"));
    let mut ids = Vec::new();
    for svg in pages {
        let (chunk, drawn) = to_chunk(&tree(svg)?, ConversionOptions::default())
            .map_err(|e| FigureError::Pdf(e.to_string()))?;
        // The numbers of each page's parts go on behind those of the page before.
        let mut places = HashMap::new();
        let chunk = chunk.renumber(|old| *places.entry(old).or_insert_with(|| next.bump()));
        let drawn = *places.get(&drawn).ok_or_else(|| FigureError::Pdf("a page has nothing on it".into()))?;
        let (page_id, content_id) = (next.bump(), next.bump());
        ids.push(page_id);
        let mut page = pdf.page(page_id);
        page.media_box(Rect::new(0.0, 0.0, width as f32, height as f32));
        page.parent(tree_id).contents(content_id);
        let mut resources = page.resources();
        resources.x_objects().pair(Name(b"P"), drawn);
        resources.finish();
        page.finish();
        let mut content = Content::new();
        content.transform([width as f32, 0.0, 0.0, height as f32, 0.0, 0.0]).x_object(Name(b"P"));
        pdf.stream(content_id, &content.finish());
        pdf.extend(&chunk);
    }
    pdf.pages(tree_id).kids(ids.iter().copied()).count(ids.len() as i32);
    Ok(pdf.finish())
}
