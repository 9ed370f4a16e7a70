//! Reports for print: headings, text, tables and figures set on pages, with a list of contents and page numbers.
//!
//! A page is an SVG in points (1/72 inch) whose text is measured with the font that is compiled in; the PDF is made from those pages.

use crate::pdf::FONT;
use crate::{FAMILY, FigureError};
use std::collections::HashMap;
use std::fmt::Write as _;
use std::sync::LazyLock;
use ttf_parser::Face;

/// White on each side, points.
const MARGIN: f64 = 48.0;
/// Room for the footer.
const FOOT: f64 = 30.0;
/// Size of running text.
const TEXT: f64 = 9.5;
/// Size of the text of tables, and the least to which it is brought where a table is wide.
const TABLE: f64 = 8.0;
const TABLE_LEAST: f64 = 5.8;
/// Space between two columns.
const GAP: f64 = 8.0;
/// Line height over the size of the text.
const LEADING: f64 = 1.38;
/// Ink of text, of what is beside the point, and of rules.
const INK: &str = "#1c2024";
const FAINT: &str = "#5b646d";
const RULE: &str = "#b9c0c7";

/// Paper to print on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Paper {
    /// 210 by 297 mm.
    #[default]
    A4,
    /// 8.5 by 11 inches.
    Letter,
}

impl Paper {
    /// Width and height, points.
    pub fn size(self) -> (f64, f64) {
        match self {
            Self::A4 => (595.28, 841.89),
            Self::Letter => (612.0, 792.0),
        }
    }
}

/// A part of a report.
#[derive(Clone, Debug, PartialEq)]
pub enum Part {
    /// A heading that is listed in the contents.
    Heading(String),
    /// A heading within a section.
    Sub(String),
    /// A paragraph.
    Text(String),
    /// A paragraph that must not be passed over.
    Strong(String),
    /// A paragraph of small print.
    Small(String),
    /// Lines whose leading white space counts.
    Lines(Vec<String>),
    /// A table: its heads, and its rows. The first column is set to the left, the others to the right.
    Table(Vec<String>, Vec<Vec<String>>),
    /// What something is, and its value, line by line.
    Pairs(Vec<(String, String)>),
    /// A figure as SVG, as wide as the page.
    Figure(String),
}

static FACE: LazyLock<Option<Face<'static>>> = LazyLock::new(|| Face::parse(FONT, 0).ok());

/// Width of a text, points.
fn width(text: &str, size: f64) -> f64 {
    let Some(face) = FACE.as_ref() else { return text.chars().count() as f64 * 0.6 * size };
    let missing = f64::from(face.units_per_em()) * 0.6;
    let advance = |c: char| {
        let glyph = face.glyph_index(c)?;
        face.glyph_hor_advance(glyph).map(f64::from)
    };
    text.chars().map(|c| advance(c).unwrap_or(missing)).sum::<f64>() / f64::from(face.units_per_em()) * size
}

/// A text in lines that are no wider than `room`. A word that is wider by itself is parted.
fn wrapped(text: &str, size: f64, room: f64) -> Vec<String> {
    let mut lines = Vec::new();
    let mut line = String::new();
    for word in text.split(' ') {
        let longer = if line.is_empty() { word.to_owned() } else { format!("{line} {word}") };
        if width(&longer, size) <= room {
            line = longer;
            continue;
        }
        if !line.is_empty() {
            lines.push(std::mem::take(&mut line));
        }
        for c in word.chars() {
            line.push(c);
            if width(&line, size) > room && line.chars().count() > 1 {
                line.pop();
                lines.push(std::mem::take(&mut line));
                line.push(c);
            }
        }
    }
    lines.push(line);
    lines
}

fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}

/// A text on a page, as it was set.
#[derive(Clone, Debug, PartialEq)]
pub struct Set {
    /// Its left end and its base line, points from the upper left corner.
    pub at: (f64, f64),
    /// Its width.
    pub width: f64,
    /// Its size.
    pub size: f64,
    /// What it says.
    pub text: String,
}

/// Takes width from the widest columns until all fit into `room`, from none more than to its least.
fn narrow(widths: &mut [f64], least: &[f64], room: f64) {
    loop {
        let over = widths.iter().sum::<f64>() - room;
        let can: Vec<usize> = (0..widths.len()).filter(|i| widths[*i] > least[*i] + 0.01).collect();
        let Some(widest) = can.iter().map(|i| widths[*i]).reduce(f64::max).filter(|_| over > 0.01) else {
            return;
        };
        let most: Vec<usize> = can.iter().copied().filter(|i| widths[*i] >= widest - 0.01).collect();
        let next = can.iter().map(|i| widths[*i]).filter(|w| *w < widest - 0.01).fold(0.0, f64::max);
        let floor = most.iter().map(|i| least[*i]).fold(next, f64::max);
        let step = (over / most.len() as f64).min((widest - floor).max(0.02));
        for i in most {
            widths[i] = (widths[i] - step).max(least[i]);
        }
    }
}

/// Widths of the columns of a table without a break in a cell, points.
fn natural(heads: &[String], rows: &[Vec<String>], size: f64) -> Vec<f64> {
    let cell = |row: &[String], i: usize| row.get(i).map_or(0.0, |c| width(c, size));
    let widest = |i: usize| rows.iter().map(|r| cell(r, i)).fold(cell(heads, i), f64::max);
    (0..heads.len()).map(widest).collect()
}

/// Pages underway.
struct Press {
    size: (f64, f64),
    pages: Vec<String>,
    set: Vec<Vec<Set>>,
    /// Base line of what was set last.
    y: f64,
    /// The size of tables with these heads: tables of one kind are set alike.
    sizes: HashMap<Vec<String>, f64>,
}

impl Press {
    fn new(paper: Paper) -> Self {
        let mut press =
            Self { size: paper.size(), pages: Vec::new(), set: Vec::new(), y: 0.0, sizes: HashMap::new() };
        press.turn();
        press
    }

    fn room(&self) -> f64 {
        self.size.0 - 2.0 * MARGIN
    }

    fn bottom(&self) -> f64 {
        self.size.1 - MARGIN - FOOT
    }

    fn turn(&mut self) {
        self.pages.push(String::new());
        self.set.push(Vec::new());
        self.y = MARGIN;
    }

    /// Makes room for so much; on a new page where this one has none.
    fn need(&mut self, height: f64) {
        if self.y + height > self.bottom() && self.y > MARGIN {
            self.turn();
        }
    }

    fn write(&mut self, x: f64, text: &str, size: f64, ink: &str) {
        if text.trim().is_empty() {
            return;
        }
        let y = self.y;
        if let Some(page) = self.pages.last_mut() {
            let _ = write!(
                page,
                "<text x=\"{x:.2}\" y=\"{y:.2}\" font-size=\"{size:.2}\" fill=\"{ink}\" font-family=\"{FAMILY}\" xml:space=\"preserve\">{}</text>",
                escaped(text)
            );
        }
        if let Some(set) = self.set.last_mut() {
            set.push(Set { at: (x, y), width: width(text, size), size, text: text.to_owned() });
        }
    }

    fn rule(&mut self, y: f64, from: f64, to: f64) {
        if let Some(page) = self.pages.last_mut() {
            let _ = write!(
                page,
                "<line x1=\"{from:.2}\" y1=\"{y:.2}\" x2=\"{to:.2}\" y2=\"{y:.2}\" stroke=\"{RULE}\" stroke-width=\"0.6\"/>"
            );
        }
    }

    fn paragraph(&mut self, text: &str, size: f64, ink: &str, indent: f64) {
        for line in wrapped(text, size, self.room() - indent) {
            self.need(size * LEADING);
            self.y += size * LEADING;
            self.write(MARGIN + indent, &line, size, ink);
        }
    }

    fn heading(&mut self, text: &str, size: f64, with: f64) {
        // Not alone at the foot of a page.
        self.need(size * 1.8 + with);
        self.y += size * 0.7;
        self.paragraph(text, size, INK, 0.0);
        self.y += size * 0.3;
    }

    /// A table; one with too many columns for the page as several, each with the first column.
    fn table(&mut self, heads: &[String], rows: &[Vec<String>]) {
        let words = |i: usize| {
            let all = std::iter::once(heads).chain(rows.iter().map(Vec::as_slice)).filter_map(|r| r.get(i));
            all.flat_map(|c| c.split(' ')).map(|w| width(w, TABLE_LEAST)).fold(0.0, f64::max)
        };
        let first = words(0).min(self.room() / 3.0);
        let (mut parts, mut used): (Vec<Vec<usize>>, f64) = (vec![Vec::new()], first);
        for i in 1..heads.len() {
            let own = GAP + words(i);
            if used + own > self.room() && parts.last().is_some_and(|p| !p.is_empty()) {
                parts.push(Vec::new());
                used = first;
            }
            used += own;
            if let Some(part) = parts.last_mut() {
                part.push(i);
            }
        }
        for part in parts {
            let pick = |row: &[String]| -> Vec<String> {
                std::iter::once(0)
                    .chain(part.iter().copied())
                    .map(|i| row.get(i).cloned().unwrap_or_default())
                    .collect()
            };
            let rows: Vec<Vec<String>> = rows.iter().map(|r| pick(r)).collect();
            self.columns(&pick(heads), &rows);
        }
    }

    /// The size at which the columns of a table fit on the page, from the least to the usual one.
    fn size_of(&self, heads: &[String], rows: &[Vec<String>]) -> f64 {
        let room = self.room() - GAP * heads.len().saturating_sub(1) as f64;
        let whole: f64 = natural(heads, rows, TABLE).iter().sum();
        (TABLE * (room / whole.max(1.0)).min(1.0)).max(TABLE_LEAST)
    }

    /// Has tables with the same heads set in the same size, which is that of the widest.
    fn set_alike(&mut self, parts: &[Part]) {
        for part in parts {
            if let Part::Table(heads, rows) = part {
                let size = self.size_of(heads, rows);
                self.sizes.entry(heads.clone()).and_modify(|s| *s = s.min(size)).or_insert(size);
            }
        }
    }

    /// A table whose columns fit on the page, each as wide as its longest word at least.
    fn columns(&mut self, heads: &[String], rows: &[Vec<String>]) {
        let columns = heads.len();
        let cell = |row: &[String], i: usize| row.get(i).cloned().unwrap_or_default();
        let all: Vec<Vec<String>> = std::iter::once(heads.to_vec()).chain(rows.iter().cloned()).collect();
        let room = self.room() - GAP * columns.saturating_sub(1) as f64;
        let size = self.sizes.get(heads).copied().unwrap_or_else(|| self.size_of(heads, rows));
        let mut widths = natural(heads, rows, size);
        // What is still too wide gives up width where it has most: first between words, and within words only where that is not enough.
        let longest = |i: usize| {
            let words = all.iter().flat_map(|r| r.get(i)).flat_map(|c| c.split(' '));
            words.map(|w| width(w, size)).fold(0.0, f64::max)
        };
        let words: Vec<f64> = (0..columns).map(longest).collect();
        for least in [words, vec![size; columns]] {
            narrow(&mut widths, &least, room);
        }
        let leading = size * LEADING;
        let line = |press: &mut Self, row: &[String], ink: &str| {
            let cells: Vec<Vec<String>> =
                (0..columns).map(|i| wrapped(&cell(row, i), size, widths[i] + 0.05)).collect();
            let height = cells.iter().map(Vec::len).max().unwrap_or(1);
            let top = press.y;
            for (i, lines) in cells.iter().enumerate() {
                let left = MARGIN + widths[..i].iter().sum::<f64>() + GAP * i as f64;
                for (k, text) in lines.iter().enumerate() {
                    press.y = top + leading * (k + 1) as f64;
                    let x = if i == 0 { left } else { left + widths[i] - width(text, size) };
                    press.write(x, text, size, ink);
                }
            }
            press.y = top + leading * height as f64;
        };
        let rows_high = |row: &[String]| {
            leading
                * (0..columns)
                    .map(|i| wrapped(&cell(row, i), size, widths[i] + 0.05).len())
                    .max()
                    .unwrap_or(1) as f64
        };
        let head = |press: &mut Self| {
            line(press, heads, FAINT);
            press.y += size * 0.35;
            let (y, to) =
                (press.y, MARGIN + widths.iter().sum::<f64>() + GAP * columns.saturating_sub(1) as f64);
            press.rule(y, MARGIN, to);
        };
        self.need(rows_high(heads) + rows.first().map_or(0.0, |r| rows_high(r)) + leading);
        head(self);
        for row in rows {
            if self.y + rows_high(row) > self.bottom() {
                self.turn();
                head(self);
            }
            line(self, row, INK);
        }
        self.y += TEXT;
    }

    fn pairs(&mut self, pairs: &[(String, String)]) {
        let left = pairs.iter().map(|p| width(&p.0, TEXT)).fold(0.0, f64::max).min(self.room() / 3.0);
        for (name, value) in pairs {
            let names = wrapped(name, TEXT, left + 0.05);
            let values = wrapped(value, TEXT, self.room() - left - 2.0 * GAP);
            let lines = names.len().max(values.len());
            self.need(TEXT * LEADING * lines as f64);
            for i in 0..lines {
                self.need(TEXT * LEADING);
                self.y += TEXT * LEADING;
                self.write(MARGIN, names.get(i).map_or("", String::as_str), TEXT, FAINT);
                self.write(MARGIN + left + 2.0 * GAP, values.get(i).map_or("", String::as_str), TEXT, INK);
            }
        }
        self.y += TEXT * 0.6;
    }

    /// A figure as wide as the page, and no higher than what is left of one.
    fn figure(&mut self, svg: &str) {
        let Some((wide, high)) = extent(svg) else { return };
        let most = self.bottom() - MARGIN - 2.0 * TEXT;
        let scale = (self.room() / wide).min(most / high);
        let (w, h) = (wide * scale, high * scale);
        self.need(h + TEXT);
        let (x, y) = (MARGIN, self.y + TEXT * 0.5);
        if let Some(page) = self.pages.last_mut() {
            let start = svg.find("<svg").and_then(|at| svg[at..].find('>').map(|end| at + end + 1));
            let inner = start.and_then(|at| Some(&svg[at..svg.rfind("</svg>")?])).unwrap_or_default();
            let _ = write!(
                page,
                "<svg x=\"{x:.2}\" y=\"{y:.2}\" width=\"{w:.2}\" height=\"{h:.2}\" viewBox=\"0 0 {wide} {high}\" font-family=\"{FAMILY}\">{inner}</svg>"
            );
        }
        self.y = y + h + TEXT * 0.5;
    }
}

/// Width and height of a figure: its first `width` and `height`.
fn extent(svg: &str) -> Option<(f64, f64)> {
    let of = |name: &str| {
        let at = svg.find(&format!("{name}=\""))? + name.len() + 2;
        svg[at..].split('"').next()?.trim_end_matches("px").parse::<f64>().ok()
    };
    Some((of("width")?, of("height")?)).filter(|(w, h)| *w > 0.0 && *h > 0.0)
}

/// The pages of a report, each an SVG, and what was set on each.
pub fn pages(title: &str, lead: &[String], parts: &[Part], paper: Paper) -> (Vec<String>, Vec<Vec<Set>>) {
    // The pages of headings are known when all is set; that does not change how much room the contents take.
    let (_, _, found) = set(title, lead, parts, paper, &[]);
    let (bodies, set, _) = set(title, lead, parts, paper, &found);
    let (width, height) = paper.size();
    let pages = bodies
        .iter()
        .map(|body| {
            format!(
                "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" viewBox=\"0 0 {width} {height}\"><rect width=\"{width}\" height=\"{height}\" fill=\"#ffffff\"/>{body}</svg>"
            )
        })
        .collect();
    (pages, set)
}

/// Sets all of it. `known` are the pages of the headings, from 1; gives them as they came to be.
fn set(
    title: &str,
    lead: &[String],
    parts: &[Part],
    paper: Paper,
    known: &[usize],
) -> (Vec<String>, Vec<Vec<Set>>, Vec<usize>) {
    let mut press = Press::new(paper);
    press.set_alike(parts);
    press.heading(title, 18.0, 0.0);
    for line in lead {
        press.paragraph(line, TEXT, FAINT, 0.0);
    }
    let headings: Vec<&String> =
        parts.iter().filter_map(|p| if let Part::Heading(text) = p { Some(text) } else { None }).collect();
    if headings.len() > 1 {
        press.heading("Contents", 12.0, 3.0 * TEXT);
        for (i, text) in headings.iter().enumerate() {
            press.need(TEXT * LEADING);
            press.y += TEXT * LEADING;
            let number = known.get(i).map_or("0".to_owned(), usize::to_string);
            let room = press.room() - 40.0;
            let first = wrapped(text, TEXT, room).into_iter().next().unwrap_or_default();
            press.write(MARGIN, &first, TEXT, INK);
            let x = press.size.0 - MARGIN - width(&number, TEXT);
            press.write(x, &number, TEXT, INK);
        }
        press.y += TEXT;
    }
    let mut found = Vec::new();
    for (i, part) in parts.iter().enumerate() {
        match part {
            Part::Heading(text) => {
                // A figure stays with its heading where a page can hold both.
                let with = match parts.get(i + 1) {
                    Some(Part::Figure(svg)) => {
                        extent(svg).map_or(0.0, |(w, h)| (h * press.room() / w).min(press.size.1 / 2.0))
                    }
                    _ => 4.0 * TEXT,
                };
                press.heading(text, 13.0, with);
                found.push(press.pages.len());
            }
            Part::Sub(text) => press.heading(text, 10.5, 3.0 * TEXT),
            Part::Text(text) => {
                press.paragraph(text, TEXT, INK, 0.0);
                press.y += TEXT * 0.5;
            }
            Part::Strong(text) => {
                // The font has one weight: a rule beside it has the eye stop.
                let (page, from) = (press.pages.len(), press.y);
                press.paragraph(text, TEXT, INK, 10.0);
                let top = if press.pages.len() == page { from } else { MARGIN };
                let (x, y) = (MARGIN + 2.0, press.y + TEXT * 0.3);
                if let Some(page) = press.pages.last_mut() {
                    let _ = write!(
                        page,
                        "<line x1=\"{x}\" y1=\"{:.2}\" x2=\"{x}\" y2=\"{y:.2}\" stroke=\"{INK}\" stroke-width=\"2\"/>",
                        top + TEXT * 0.4
                    );
                }
                press.y += TEXT * 0.5;
            }
            Part::Small(text) => {
                press.paragraph(text, TABLE, FAINT, 0.0);
                press.y += TABLE * 0.4;
            }
            Part::Lines(lines) => {
                for line in lines {
                    let text = line.trim_start();
                    let indent = (line.chars().count() - text.chars().count()) as f64 * TABLE * 0.5;
                    if text.is_empty() {
                        press.need(TABLE * LEADING);
                        press.y += TABLE * LEADING * 0.6;
                    } else {
                        press.paragraph(text, TABLE, INK, indent.min(press.room() / 2.0));
                    }
                }
                press.y += TEXT * 0.5;
            }
            Part::Table(heads, rows) => press.table(heads, rows),
            Part::Pairs(pairs) => press.pairs(pairs),
            Part::Figure(svg) => press.figure(svg),
        }
    }
    let all = press.pages.len();
    for page in 0..all {
        let text = format!("{title}, page {} of {all}", page + 1);
        let text = wrapped(&text, TABLE, press.room()).pop().unwrap_or_default();
        let (x, y) = (press.size.0 - MARGIN - width(&text, TABLE), press.size.1 - MARGIN * 0.7);
        let _ = write!(
            press.pages[page],
            "<text x=\"{x:.2}\" y=\"{y:.2}\" font-size=\"{TABLE}\" fill=\"{FAINT}\" font-family=\"{FAMILY}\">{}</text>",
            escaped(&text)
        );
        press.set[page].push(Set { at: (x, y), width: width(&text, TABLE), size: TABLE, text });
    }
    (press.pages, press.set, found)
}

/// A report as PDF.
///
/// # Errors
/// Where a page cannot be made.
pub fn report(title: &str, lead: &[String], parts: &[Part], paper: Paper) -> Result<Vec<u8>, FigureError> {
    crate::pdf::document(title, &pages(title, lead, parts, paper).0)
}
