//! The drawing of a page: each element of its SVG as operators of a PDF (ISO 32000-1, 8.5 and 9.4).

use super::font::Letters;
use super::stream::failed;
use crate::FigureError;
use pdf_writer::{Content, Name, Pdf, Ref, Str};
use roxmltree::{Document, Node};
use std::collections::BTreeSet;

/// The name of the font on each page.
pub(super) const FONT_NAME: &[u8] = b"F";
/// The circle as four curves: the distance of their handles, of its radius. They are at most 0.03 % off.
const HANDLE: f32 = 0.552_284_8;
/// Limit of mitres in SVG, where nothing is said (SVG 1.1, 11.4).
const MITRE: f32 = 4.0;
/// Height of small letters, of the size of the font, as browsers take it for the unit `ex`.
const EX: f32 = 0.5;

/// What is known of an element. Anything else would be left out of the page without a word.
const KNOWN: [&str; 21] = [
    "x",
    "y",
    "x1",
    "y1",
    "x2",
    "y2",
    "cx",
    "cy",
    "r",
    "width",
    "height",
    "viewBox",
    "points",
    "opacity",
    "fill",
    "stroke",
    "stroke-width",
    "dy",
    "text-anchor",
    "font-size",
    "font-family",
];

/// A page as it was drawn: width and height in points, and its operators.
pub(super) struct Page {
    pub(super) size: (f32, f32),
    pub(super) content: Vec<u8>,
}

/// What the pages of a document share.
pub(super) struct Shared {
    letters: Letters,
    /// Opacities in thousandths.
    opacities: BTreeSet<u16>,
}

/// What is inked, and how.
#[derive(Clone, Copy)]
struct Style {
    fill: Option<[f32; 3]>,
    stroke: Option<[f32; 3]>,
    width: f32,
}

fn state(opacity: u16) -> String {
    format!("O{opacity}")
}

/// A length: a number, of pixels where a unit is said.
fn number(text: &str) -> Result<f32, FigureError> {
    let is_finite = |n: &f32| n.is_finite();
    let length = text.trim().trim_end_matches("px").parse().ok().filter(is_finite);
    length.ok_or_else(|| failed(format!("`{text}` is no length")))
}

fn length(node: Node<'_, '_>, name: &str, otherwise: f32) -> Result<f32, FigureError> {
    node.attribute(name).map_or(Ok(otherwise), number)
}

/// Red, green and blue from 0 to 1; `None` where nothing is inked.
fn colour(text: &str) -> Result<Option<[f32; 3]>, FigureError> {
    if text == "none" {
        return Ok(None);
    }
    let no_colour = || failed(format!("`{text}` is no colour that figures use"));
    let digits: Vec<u32> = text
        .strip_prefix('#')
        .and_then(|hex| hex.chars().map(|c| c.to_digit(16)).collect())
        .ok_or_else(no_colour)?;
    let levels = match digits[..] {
        [r, g, b] => [17 * r, 17 * g, 17 * b],
        [r, s, g, h, b, c] => [16 * r + s, 16 * g + h, 16 * b + c],
        _ => return Err(no_colour()),
    };
    Ok(Some(levels.map(|level| level as f32 / 255.0)))
}

/// The points of a line or a polygon.
fn points(node: Node<'_, '_>) -> Result<Vec<(f32, f32)>, FigureError> {
    let text = node.attribute("points").unwrap_or_default();
    let is_between = |c: char| c == ',' || c.is_ascii_whitespace();
    let all: Vec<f32> =
        text.split(is_between).filter(|w| !w.is_empty()).map(number).collect::<Result<_, _>>()?;
    let (pairs, rest) = all.as_chunks::<2>();
    if !rest.is_empty() {
        return Err(failed("a line has half a point"));
    }
    Ok(pairs.iter().map(|[x, y]| (*x, *y)).collect())
}

/// The text of an element as it is set: without line breaks, and with one space between words where spaces are not kept.
fn set(node: Node<'_, '_>) -> String {
    let text: String =
        node.text().unwrap_or_default().chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let is_kept = node.attribute(("http://www.w3.org/XML/1998/namespace", "space")) == Some("preserve");
    if is_kept { text } else { text.split(' ').filter(|w| !w.is_empty()).collect::<Vec<_>>().join(" ") }
}

/// Refuses an element of which something is said that is not drawn.
fn is_known(node: Node<'_, '_>) -> Result<(), FigureError> {
    let is_other = |name: &&str| !KNOWN.contains(name) && *name != "space";
    match node.attributes().map(|a| a.name()).find(is_other) {
        None => Ok(()),
        Some(other) => Err(failed(format!("it has a `{other}`, which figures do not use"))),
    }
}

impl Style {
    fn of(node: Node<'_, '_>) -> Result<Self, FigureError> {
        Ok(Self {
            fill: colour(node.attribute("fill").unwrap_or("#000000"))?,
            stroke: colour(node.attribute("stroke").unwrap_or("none"))?,
            width: length(node, "stroke-width", 1.0)?,
        })
    }

    fn set(&self, content: &mut Content) {
        if let Some([r, g, b]) = self.fill {
            content.set_fill_rgb(r, g, b);
        }
        if let Some([r, g, b]) = self.stroke {
            content.set_stroke_rgb(r, g, b).set_line_width(self.width);
        }
    }

    fn paint(&self, content: &mut Content) {
        match (self.fill, self.stroke) {
            (Some(_), Some(_)) => content.fill_nonzero_and_stroke(),
            (Some(_), None) => content.fill_nonzero(),
            (None, Some(_)) => content.stroke(),
            (None, None) => content.end_path(),
        };
    }
}

impl Shared {
    pub(super) fn new() -> Result<Self, FigureError> {
        Ok(Self { letters: Letters::new()?, opacities: BTreeSet::new() })
    }

    /// The opacities that were used, with their names.
    pub(super) fn opacities(&self) -> impl Iterator<Item = (String, f32)> {
        self.opacities.iter().map(|o| (state(*o), f32::from(*o) / 1000.0))
    }

    /// Writes the font of all pages as `id`.
    pub(super) fn write_font(&self, pdf: &mut Pdf, id: Ref, next: &mut Ref) -> Result<(), FigureError> {
        self.letters.write(pdf, id, next)
    }

    /// Draws a page; a length of its SVG is `scale` points.
    pub(super) fn draw(&mut self, svg: &str, scale: f32) -> Result<Page, FigureError> {
        let document = Document::parse(svg).map_err(failed)?;
        let root = document.root_element();
        is_known(root)?;
        let (width, height) = (length(root, "width", 0.0)?, length(root, "height", 0.0)?);
        if !(width > 0.0 && height > 0.0) {
            return Err(failed("the drawing has no extent"));
        }
        let mut content = Content::new();
        // A PDF counts from the foot of its page.
        content.transform([scale, 0.0, 0.0, -scale, 0.0, height * scale]).set_miter_limit(MITRE);
        self.all(root, &mut content)?;
        Ok(Page { size: (width * scale, height * scale), content: content.finish() })
    }

    fn all(&mut self, parent: Node<'_, '_>, content: &mut Content) -> Result<(), FigureError> {
        parent.children().filter(Node::is_element).try_for_each(|node| {
            content.save_state();
            let drawn = self.one(node, content).and_then(|()| is_known(node));
            content.restore_state();
            drawn
        })
    }

    fn one(&mut self, node: Node<'_, '_>, content: &mut Content) -> Result<(), FigureError> {
        let opacity = (length(node, "opacity", 1.0)?.clamp(0.0, 1.0) * 1000.0).round() as u16;
        if opacity < 1000 {
            self.opacities.insert(opacity);
            content.set_parameters(Name(state(opacity).as_bytes()));
        }
        let of = |name| length(node, name, 0.0);
        match node.tag_name().name() {
            "svg" => return self.within(node, content),
            "text" => return self.text(node, content),
            _ => {}
        }
        let mut style = Style::of(node)?;
        style.set(content);
        match node.tag_name().name() {
            "rect" => {
                content.rect(of("x")?, of("y")?, of("width")?, of("height")?);
            }
            "line" => {
                style.fill = None;
                content.move_to(of("x1")?, of("y1")?).line_to(of("x2")?, of("y2")?);
            }
            name @ ("polyline" | "polygon") => {
                let all = points(node)?;
                let Some(((x, y), rest)) = all.split_first() else { return Ok(()) };
                content.move_to(*x, *y);
                for (x, y) in rest {
                    content.line_to(*x, *y);
                }
                if name == "polygon" {
                    content.close_path();
                }
            }
            "circle" => circle(content, (of("cx")?, of("cy")?), of("r")?),
            other => return Err(failed(format!("it has a <{other}>, which figures do not draw"))),
        }
        style.paint(content);
        Ok(())
    }

    /// A drawing within a drawing: at its place, in its scale, and cut off at its edges.
    fn within(&mut self, node: Node<'_, '_>, content: &mut Content) -> Result<(), FigureError> {
        let of = |name| length(node, name, 0.0);
        let (x, y, width, height) = (of("x")?, of("y")?, of("width")?, of("height")?);
        let view = node.attribute("viewBox").unwrap_or_default().split_ascii_whitespace().map(number);
        let view: Vec<f32> = view.collect::<Result<_, _>>()?;
        let [left, top, wide, high] = view[..] else {
            return Err(failed("a drawing in it does not say what it shows"));
        };
        if !(wide > 0.0 && high > 0.0) {
            return Err(failed("a drawing in it shows nothing"));
        }
        content.rect(x, y, width, height).clip_nonzero().end_path();
        // As large as fits, in the middle (SVG 1.1, 7.8).
        let scale = (width / wide).min(height / high);
        let across = x + (width - wide * scale) / 2.0 - left * scale;
        let down = y + (height - high * scale) / 2.0 - top * scale;
        content.transform([scale, 0.0, 0.0, scale, across, down]);
        self.all(node, content)
    }

    fn text(&mut self, node: Node<'_, '_>, content: &mut Content) -> Result<(), FigureError> {
        if let Some(part) = node.children().find(Node::is_element) {
            return Err(failed(format!("a text has a <{}> in it", part.tag_name().name())));
        }
        let size = length(node, "font-size", 16.0)?;
        let text = set(node);
        let Some([r, g, b]) = Style::of(node)?.fill.filter(|_| !text.is_empty()) else { return Ok(()) };
        let (glyphs, width) = self.letters.take(&text);
        let before = match node.attribute("text-anchor") {
            None | Some("start") => 0.0,
            Some("middle") => width * size / 2.0,
            Some("end") => width * size,
            Some(other) => return Err(failed(format!("a text is anchored at its `{other}`"))),
        };
        let down = match node.attribute("dy") {
            None => 0.0,
            Some(dy) => match (dy.strip_suffix("em"), dy.strip_suffix("ex")) {
                (Some(of), _) => number(of)? * size,
                (_, Some(of)) => number(of)? * EX * size,
                _ => number(dy)?,
            },
        };
        let (x, y) = (length(node, "x", 0.0)? - before, length(node, "y", 0.0)? + down);
        content.set_fill_rgb(r, g, b).begin_text().set_font(Name(FONT_NAME), size);
        // Upright, on a page that counts downwards.
        content.set_text_matrix([1.0, 0.0, 0.0, -1.0, x, y]).show(Str(&glyphs)).end_text();
        Ok(())
    }
}

fn circle(content: &mut Content, (x, y): (f32, f32), r: f32) {
    let k = HANDLE * r;
    content.move_to(x + r, y);
    content.cubic_to(x + r, y + k, x + k, y + r, x, y + r);
    content.cubic_to(x - k, y + r, x - r, y + k, x - r, y);
    content.cubic_to(x - r, y - k, x - k, y - r, x, y - r);
    content.cubic_to(x + k, y - r, x + r, y - k, x + r, y);
    content.close_path();
}
