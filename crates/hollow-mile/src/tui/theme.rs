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

/// The colours of everything.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Theme {
    depth: Depth,
    light: bool,
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
    pub(crate) fn detect(light: bool) -> Self {
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
        Self::of(depth, light)
    }

    fn of(depth: Depth, light: bool) -> Self {
        let pick = |dark: Rgb, bright: Rgb, sixteen: Color| match depth {
            Depth::None => Color::Reset,
            Depth::Sixteen => sixteen,
            _ => {
                let (r, g, b) = if light { bright } else { dark };
                if depth == Depth::True { Color::Rgb(r, g, b) } else { Color::Indexed(nearest(r, g, b)) }
            }
        };
        let ink = if light { Color::Black } else { Color::White };
        Self {
            depth,
            light,
            braille: !matches!(std::env::var("TERM").as_deref(), Ok("linux" | "dumb")),
            write: pick((205, 147, 58), (196, 132, 36), Color::Yellow),
            write_dip: pick((150, 104, 38), (222, 178, 106), Color::Yellow),
            write_haze: pick((92, 68, 34), (238, 214, 170), Color::DarkGray),
            read: pick((104, 134, 178), (70, 104, 156), Color::Blue),
            read_dip: pick((74, 97, 132), (134, 160, 198), Color::Blue),
            read_haze: pick((46, 60, 82), (198, 212, 232), Color::DarkGray),
            rose: pick((226, 104, 142), (178, 40, 88), Color::Magenta),
            latency: pick((136, 176, 160), (44, 110, 88), Color::Cyan),
            latency_band: pick((62, 84, 76), (186, 214, 202), Color::DarkGray),
            ink: pick((216, 220, 228), (34, 37, 43), ink),
            faint: pick((134, 140, 152), (112, 116, 124), Color::DarkGray),
            selected: pick((44, 50, 62), (224, 226, 232), Color::Reset),
        }
    }

    /// The same colours for the other background.
    pub(crate) fn other(self) -> Self {
        Self::of(self.depth, !self.light)
    }

    /// Whether the font of the terminal is likely to have characters of eight dots: the console of the kernel has 512 characters in all.
    pub(crate) fn has_braille(self) -> bool {
        self.braille
    }

    /// Whether nothing can be told by colour.
    pub(crate) fn is_plain(self) -> bool {
        self.depth == Depth::None
    }

    /// The page: text on the theme's background. A dark theme keeps the terminal's own.
    pub(crate) fn page(self) -> Style {
        let style = Style::new().fg(self.ink);
        if self.light && !self.is_plain() { style.bg(Color::Rgb(250, 249, 246)) } else { style }
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
        let theme = Theme::of(Depth::None, false);
        assert_eq!([theme.write, theme.rose, theme.ink, theme.selected], [Color::Reset; 4]);
    }

    /// Luminance by ITU-R BT.709: what is left of a colour for somebody who sees none.
    #[test]
    fn neighbouring_meanings_differ_in_brightness_too() {
        for light in [false, true] {
            let theme = Theme::of(Depth::True, light);
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
}
