//! Colours, each with one meaning, on terminals of any depth.
//!
//! Writes are ochre, reads slate blue, temperature and its limits rose. Nothing is said by colour alone: every colour comes
//! with a glyph, a place or a word of its own.

use ratatui::style::{Color, Modifier, Style};

/// How many colours the terminal has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Depth {
    None,
    Sixteen,
    Indexed,
    True,
}

/// Which colours: for a dark page, a light one, or as far apart from a black one as they go.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Kind {
    #[default]
    Dark,
    Light,
    Contrast,
}

impl Kind {
    const ALL: [Self; 3] = [Self::Dark, Self::Light, Self::Contrast];

    /// Its name where the screen is remembered.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Dark => "dark",
            Self::Light => "light",
            Self::Contrast => "high contrast",
        }
    }

    /// The kind of a name.
    pub(crate) fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|k| k.word() == word)
    }

    fn after(self) -> Self {
        let at = Self::ALL.iter().position(|k| *k == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }
}

/// The colours of everything.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Theme {
    depth: Depth,
    kind: Kind,
    braille: bool,
    /// Ground of writes.
    pub(crate) write: Color,
    /// Ground of writes where the rate fell below in part of the column.
    pub(crate) write_dip: Color,
    /// Haze above the mean up to the highest rate.
    pub(crate) write_haze: Color,
    /// The same for reads.
    pub(crate) read: Color,
    pub(crate) read_dip: Color,
    pub(crate) read_haze: Color,
    /// Temperature and its limits.
    pub(crate) rose: Color,
    /// Latency.
    pub(crate) latency: Color,
    pub(crate) latency_band: Color,
    /// Text.
    pub(crate) ink: Color,
    /// Text of less weight, axes.
    pub(crate) faint: Color,
    /// Background of what is selected.
    pub(crate) selected: Color,
}

type Rgb = (u8, u8, u8);

impl Theme {
    /// The theme for this terminal, by the conventions of `NO_COLOR`, `COLORTERM` and `TERM`.
    pub(crate) fn detect(kind: Kind) -> Self {
        let var = |name: &str| std::env::var(name).unwrap_or_default();
        let depth = if !var("NO_COLOR").is_empty() || var("TERM") == "dumb" {
            Depth::None
        } else if matches!(var("COLORTERM").as_str(), "truecolor" | "24bit") {
            Depth::True
        } else if var("TERM").contains("256color") {
            Depth::Indexed
        } else {
            Depth::Sixteen
        };
        Self::of(depth, kind)
    }

    fn of(depth: Depth, kind: Kind) -> Self {
        let pick = |dark: Rgb, light: Rgb, contrast: Rgb, sixteen: Color| match depth {
            Depth::None => Color::Reset,
            Depth::Sixteen => sixteen,
            _ => {
                let (r, g, b) = match kind {
                    Kind::Dark => dark,
                    Kind::Light => light,
                    Kind::Contrast => contrast,
                };
                if depth == Depth::True { Color::Rgb(r, g, b) } else { Color::Indexed(nearest(r, g, b)) }
            }
        };
        let ink = if kind == Kind::Light { Color::Black } else { Color::White };
        let faint = if kind == Kind::Contrast { Color::Gray } else { Color::DarkGray };
        Self {
            depth,
            kind,
            braille: !matches!(std::env::var("TERM").as_deref(), Ok("linux" | "dumb")),
            write: pick((205, 147, 58), (188, 124, 28), (255, 178, 0), Color::Yellow),
            write_dip: pick((150, 104, 38), (222, 178, 106), (176, 116, 0), Color::Yellow),
            write_haze: pick((92, 68, 34), (238, 214, 170), (96, 66, 0), Color::DarkGray),
            read: pick((104, 134, 178), (58, 84, 160), (92, 168, 255), Color::Blue),
            read_dip: pick((74, 97, 132), (134, 160, 198), (56, 112, 184), Color::Blue),
            read_haze: pick((46, 60, 82), (198, 212, 232), (28, 60, 104), Color::DarkGray),
            rose: pick((226, 104, 142), (190, 20, 90), (255, 120, 180), Color::Magenta),
            latency: pick((160, 214, 190), (44, 110, 88), (120, 255, 200), Color::Cyan),
            latency_band: pick((62, 84, 76), (186, 214, 202), (64, 140, 110), Color::DarkGray),
            ink: pick((216, 220, 228), (34, 37, 43), (255, 255, 255), ink),
            faint: pick((134, 140, 152), (108, 112, 120), (190, 196, 204), faint),
            selected: pick((44, 50, 62), (224, 226, 232), (0, 60, 120), Color::Reset),
        }
    }

    /// All that look different, with their names: the kinds in full colours, sixteen colours, and none.
    #[cfg(test)]
    pub(crate) fn each() -> [(&'static str, Self); 5] {
        [
            ("dark", Self::of(Depth::True, Kind::Dark)),
            ("light", Self::of(Depth::True, Kind::Light)),
            ("high contrast", Self::of(Depth::True, Kind::Contrast)),
            ("16 colours", Self::of(Depth::Sixteen, Kind::Dark)),
            ("no colours", Self::of(Depth::None, Kind::Dark)),
        ]
    }

    /// The next of the themes.
    pub(crate) fn other(self) -> Self {
        Self::of(self.depth, self.kind.after())
    }

    pub(crate) fn kind(self) -> Kind {
        self.kind
    }

    /// Whether the font of the terminal is likely to have characters of eight dots: the console of the kernel has 512 characters in all.
    pub(crate) fn has_braille(self) -> bool {
        self.braille
    }

    /// Whether nothing can be told by colour.
    pub(crate) fn is_plain(self) -> bool {
        self.depth == Depth::None
    }

    /// The page: text on the theme's background. The dark theme keeps the terminal's own.
    pub(crate) fn page(self) -> Style {
        let style = Style::new().fg(self.ink);
        match (self.kind, self.depth) {
            (_, Depth::None) | (Kind::Dark, _) => style,
            (Kind::Light, Depth::Sixteen) => style.bg(Color::White),
            (Kind::Contrast, Depth::Sixteen) => style.bg(Color::Black),
            (Kind::Light, Depth::Indexed) => style.bg(Color::Indexed(nearest(250, 249, 246))),
            (Kind::Contrast, Depth::Indexed) => style.bg(Color::Indexed(16)),
            (Kind::Light, Depth::True) => style.bg(Color::Rgb(250, 249, 246)),
            (Kind::Contrast, Depth::True) => style.bg(Color::Rgb(0, 0, 0)),
        }
    }

    /// The ground of terrain.
    pub(crate) fn ground(self, op: mile_core::Op) -> Color {
        if op == mile_core::Op::Read { self.read } else { self.write }
    }

    /// Text on the ground of terrain, which has this colour there: dark on what is bright.
    pub(crate) fn on_ground(self, op: mile_core::Op, colour: Color) -> Style {
        if self.is_plain() {
            return Style::new().add_modifier(Modifier::REVERSED);
        }
        let is_dark = op == mile_core::Op::Read && (self.kind == Kind::Light || self.depth == Depth::Sixteen);
        Style::new().fg(if is_dark { Color::White } else { Color::Black }).bg(colour)
    }

    pub(crate) fn faint(self) -> Style {
        let style = Style::new().fg(self.faint);
        if self.is_plain() { style.add_modifier(Modifier::DIM) } else { style }
    }

    pub(crate) fn strong(self) -> Style {
        Style::new().fg(self.ink).add_modifier(Modifier::BOLD)
    }

    /// A line that is selected.
    pub(crate) fn selection(self) -> Style {
        match self.depth {
            Depth::None | Depth::Sixteen => Style::new().add_modifier(Modifier::REVERSED),
            _ => Style::new().bg(self.selected),
        }
    }
}

/// The colour of the 6x6x6 cube of a 256-colour terminal that is nearest.
fn nearest(r: u8, g: u8, b: u8) -> u8 {
    let level = |v: u8| match v {
        0..48 => 0,
        48..115 => 1,
        v => (v - 35) / 40,
    };
    16 + 36 * level(r) + 6 * level(g) + level(b)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_cube_of_256_colours_is_met() {
        assert_eq!([nearest(0, 0, 0), nearest(255, 255, 255), nearest(95, 135, 175)], [16, 231, 67]);
    }

    #[test]
    fn without_colours_nothing_has_one() {
        let theme = Theme::of(Depth::None, Kind::Dark);
        assert_eq!([theme.write, theme.rose, theme.ink, theme.selected], [Color::Reset; 4]);
    }

    /// Luminance by ITU-R BT.709: what is left of a colour for somebody who sees none.
    #[test]
    fn neighbouring_meanings_differ_in_brightness_too() {
        for kind in Kind::ALL {
            let theme = Theme::of(Depth::True, kind);
            let bright = |c: Color| match c {
                Color::Rgb(r, g, b) => 0.2126 * f64::from(r) + 0.7152 * f64::from(g) + 0.0722 * f64::from(b),
                other => panic!("{other:?}"),
            };
            for (a, b) in [
                (theme.write, theme.write_dip),
                (theme.write_dip, theme.write_haze),
                (theme.ink, theme.faint),
                (theme.read, theme.read_haze),
            ] {
                assert!((bright(a) - bright(b)).abs() > 25.0, "{a:?} {b:?}");
            }
        }
    }

    type Linear = [f64; 3];

    fn linear(colour: Color) -> Linear {
        let Color::Rgb(r, g, b) = colour else { panic!("{colour:?}") };
        // The transfer function of sRGB, IEC 61966-2-1.
        [r, g, b].map(|c| {
            let c = f64::from(c) / 255.0;
            if c <= 0.04045 { c / 12.92 } else { ((c + 0.055) / 1.055).powf(2.4) }
        })
    }

    fn dot(a: Linear, b: Linear) -> f64 {
        a.iter().zip(b).map(|(a, b)| a * b).sum()
    }

    /// CIE L*a*b* under D65.
    fn lab(c: Linear) -> Linear {
        let xyz = [
            dot([0.412_456_4, 0.357_576_1, 0.180_437_5], c) / 0.950_47,
            dot([0.212_672_9, 0.715_152_2, 0.072_175_0], c),
            dot([0.019_333_9, 0.119_192_0, 0.950_304_1], c) / 1.088_83,
        ];
        let [x, y, z] =
            xyz.map(|t| if t > 216.0 / 24389.0 { t.cbrt() } else { (24389.0 / 27.0 * t + 16.0) / 116.0 });
        [116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)]
    }

    /// Contrast by WCAG 2.2: (L1 + 0.05) / (L2 + 0.05).
    fn contrast(a: Color, b: Color) -> f64 {
        let light = |c| dot([0.2126, 0.7152, 0.0722], linear(c)) + 0.05;
        light(a).max(light(b)) / light(a).min(light(b))
    }

    /// The least contrast of text and curves with the page, and the least distance of two colours with a meaning, in L*a*b*, for people who see all colours, and for
    /// the three kinds who lack one kind of cones altogether (matrices of Machado, Oliveira and Fernandes, 2009).
    #[test]
    fn text_is_read_and_colours_are_told_apart_whatever_colours_somebody_sees() {
        const CONES: [[Linear; 3]; 4] = [
            [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
            [
                [0.152_286, 1.052_583, -0.204_868],
                [0.114_503, 0.786_281, 0.099_216],
                [-0.003_882, -0.048_116, 1.051_998],
            ],
            [
                [0.367_322, 0.860_646, -0.227_968],
                [0.280_085, 0.672_501, 0.047_413],
                [-0.011_820, 0.042_940, 0.968_881],
            ],
            [
                [1.255_528, -0.076_749, -0.178_779],
                [-0.078_411, 0.930_809, 0.147_602],
                [0.004_733, 0.691_367, 0.303_900],
            ],
        ];
        for (kind, text, faint, apart) in [
            (Kind::Dark, 12.0, 5.0, 15.0),
            (Kind::Light, 12.0, 4.5, 11.0),
            (Kind::Contrast, 15.0, 10.0, 20.0),
        ] {
            let theme = Theme::of(Depth::True, kind);
            let page = theme.page().bg.unwrap_or(Color::Rgb(17, 18, 22));
            assert!(contrast(theme.ink, page) >= text && contrast(theme.faint, page) >= faint, "{kind:?}");
            let meanings = [theme.write, theme.read, theme.rose, theme.latency];
            // Of what is no text, 3 to 1 is asked.
            assert!(meanings.iter().all(|m| contrast(*m, page) >= 3.0), "{kind:?}");
            for cones in CONES {
                let seen = meanings.map(|m| lab(cones.map(|row| dot(row, linear(m)).clamp(0.0, 1.0))));
                for (i, a) in seen.iter().enumerate() {
                    for b in &seen[i + 1..] {
                        let d = a.iter().zip(b).map(|(a, b)| (a - b).powi(2)).sum::<f64>().sqrt();
                        assert!(d >= apart, "{kind:?} {cones:?} {a:?} {b:?} {d}");
                    }
                }
            }
        }
    }
}
