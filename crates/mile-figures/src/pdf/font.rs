//! The font of a document: the letters that its pages have, and no others.

use super::stream::{deflated, failed};
use crate::FigureError;
use pdf_writer::types::{CidFontType, FontFlags, SystemInfo, UnicodeCmap};
use pdf_writer::{Filter, Finish, Name, Pdf, Rect, Ref, Str};
use std::collections::BTreeMap;
use subsetter::GlyphRemapper;
use ttf_parser::Face;

/// DejaVu Sans; its licence is beside it.
pub(crate) const FONT: &[u8] = include_bytes!("../../fonts/DejaVuSans.ttf");
/// The name of a part of it: six letters and a plus sign say that it is one (ISO 32000-1, 9.6.4).
const NAME: Name<'static> = Name(b"HOLLOW+DejaVuSans");
/// Lengths of a font in a PDF: parts of its size.
const EM: f32 = 1000.0;
/// Of letters whose numbers are those of the glyphs (ISO 32000-1, 9.7.3).
const SYSTEM: SystemInfo<'static> =
    SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };

/// The letters of a document.
pub(super) struct Letters {
    face: Face<'static>,
    used: GlyphRemapper,
    /// What each glyph stands for, by its number in the document.
    meant: BTreeMap<u16, char>,
}

impl Letters {
    pub(super) fn new() -> Result<Self, FigureError> {
        let face = Face::parse(FONT, 0).map_err(failed)?;
        Ok(Self { face, used: GlyphRemapper::new(), meant: BTreeMap::new() })
    }

    /// The glyphs of a text as a string of the PDF, and its width as a share of the size of the font. A letter that the font does not have is its
    /// empty box.
    pub(super) fn take(&mut self, text: &str) -> (Vec<u8>, f32) {
        let (mut glyphs, mut width) = (Vec::new(), 0.0);
        for letter in text.chars() {
            let glyph = self.face.glyph_index(letter).unwrap_or_default();
            width += self.width(glyph.0);
            let number = self.used.remap(glyph.0);
            if glyph.0 != 0 {
                self.meant.entry(number).or_insert(letter);
            }
            glyphs.extend(number.to_be_bytes());
        }
        (glyphs, width / EM)
    }

    /// Width of a glyph, thousandths of the size.
    fn width(&self, glyph: u16) -> f32 {
        let advance = self.face.glyph_hor_advance(ttf_parser::GlyphId(glyph)).unwrap_or_default();
        self.scaled(f32::from(advance))
    }

    fn scaled(&self, units: f32) -> f32 {
        units * EM / f32::from(self.face.units_per_em())
    }

    /// Writes the font as `id`.
    pub(super) fn write(&self, pdf: &mut Pdf, id: Ref, next: &mut Ref) -> Result<(), FigureError> {
        let (cid, descriptor, file, unicode) = (next.bump(), next.bump(), next.bump(), next.bump());
        pdf.type0_font(id)
            .base_font(NAME)
            .encoding_predefined(Name(b"Identity-H"))
            .descendant_font(cid)
            .to_unicode(unicode);
        let mut letters = pdf.cid_font(cid);
        letters.subtype(CidFontType::Type2).base_font(NAME).system_info(SYSTEM).font_descriptor(descriptor);
        letters.default_width(0.0).cid_to_gid_map_predefined(Name(b"Identity"));
        letters.widths().consecutive(0, self.used.remapped_gids().map(|glyph| self.width(glyph)));
        letters.finish();
        let bounds = self.face.global_bounding_box();
        let [left, bottom, right, top] = [bounds.x_min, bounds.y_min, bounds.x_max, bounds.y_max]
            .map(|units| self.scaled(f32::from(units)));
        let of = |units: i16| self.scaled(f32::from(units));
        pdf.font_descriptor(descriptor)
            .name(NAME)
            .flags(FontFlags::SYMBOLIC)
            .bbox(Rect::new(left, bottom, right, top))
            .italic_angle(0.0)
            .ascent(of(self.face.ascender()))
            .descent(of(self.face.descender()))
            .cap_height(of(self.face.capital_height().unwrap_or(self.face.ascender())))
            // Of the stem of an upright letter, for a viewer that has to do without the font.
            .stem_v(80.0)
            .font_file2(file);
        let mut map = UnicodeCmap::<u16>::new(Name(b"HollowMileLetters"), SYSTEM);
        self.meant.iter().for_each(|(glyph, letter)| map.pair(*glyph, *letter));
        pdf.cmap(unicode, &map.finish());
        let part = subsetter::subset(FONT, 0, &self.used).map_err(failed)?;
        let length = part.len() as i32;
        pdf.stream(file, &deflated(&part)?).filter(Filter::FlateDecode).pair(Name(b"Length1"), length);
        Ok(())
    }
}
