//! PDF from SVG: a figure on a page of its own, or pages that were set.
//!
//! The SVG is what this crate draws: rectangles, lines, polygons, circles, and text in one font, which all pages of a document share. What is beyond
//! that is refused by name, so that nothing is left out of a page without a word.

mod drawing;
mod font;
mod stream;

use crate::FigureError;
use drawing::{Page, Shared};
use pdf_writer::{Filter, Finish, Name, Pdf, Rect, Ref, TextStr};
use stream::deflated;

pub(crate) use font::FONT;

/// Dots an inch at which a figure's lengths are meant: 1120 of them are 28 cm, a page across.
const DPI: f32 = 100.0;
/// Points of a PDF in an inch.
const POINTS: f32 = 72.0;

/// Makes a PDF of a figure's SVG, of one page.
///
/// # Errors
/// Where the SVG cannot be read, or has something in it that this crate does not draw.
pub fn pdf(svg: &str) -> Result<Vec<u8>, FigureError> {
    made(None, &[svg], POINTS / DPI)
}

/// A document of pages, each an SVG whose lengths are points.
pub(crate) fn document(title: &str, pages: &[String]) -> Result<Vec<u8>, FigureError> {
    let pages: Vec<&str> = pages.iter().map(String::as_str).collect();
    made(Some(title), &pages, 1.0)
}

/// A document of pages of which one length is `scale` points.
fn made(title: Option<&str>, pages: &[&str], scale: f32) -> Result<Vec<u8>, FigureError> {
    let mut shared = Shared::new()?;
    let drawn: Vec<Page> = pages.iter().map(|svg| shared.draw(svg, scale)).collect::<Result<_, _>>()?;
    let mut next = Ref::new(1);
    let (catalog, tree, info, font) = (next.bump(), next.bump(), next.bump(), next.bump());
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(tree);
    let mut about = pdf.document_info(info);
    if let Some(title) = title {
        about.title(TextStr(title));
    }
    about.creator(TextStr("Hollow Mile"));
    about.finish();
    let opacities: Vec<(String, Ref)> = shared
        .opacities()
        .map(|(name, opacity)| {
            let id = next.bump();
            pdf.ext_graphics(id).stroking_alpha(opacity).non_stroking_alpha(opacity);
            (name, id)
        })
        .collect();
    let mut ids = Vec::new();
    for Page { size: (width, height), content } in &drawn {
        let (page_id, content_id) = (next.bump(), next.bump());
        ids.push(page_id);
        let mut page = pdf.page(page_id);
        page.media_box(Rect::new(0.0, 0.0, *width, *height)).parent(tree).contents(content_id);
        let mut resources = page.resources();
        resources.fonts().pair(Name(drawing::FONT_NAME), font);
        let mut states = resources.ext_g_states();
        for (name, id) in &opacities {
            states.pair(Name(name.as_bytes()), *id);
        }
        states.finish();
        resources.finish();
        page.finish();
        pdf.stream(content_id, &deflated(content)?).filter(Filter::FlateDecode);
    }
    shared.write_font(&mut pdf, font, &mut next)?;
    pdf.pages(tree).kids(ids.iter().copied()).count(ids.len() as i32);
    Ok(pdf.finish())
}
