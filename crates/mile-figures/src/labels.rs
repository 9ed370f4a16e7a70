//! Where labels go: none lies on another, and none leaves the room that it has. What finds no room is left out, as a table has it.

use crate::FigureError;
use crate::ink::{Area, INK, WHITE_INK, failed, font};
use plotters::element::{Circle, Rectangle, Text};
use plotters::style::Color;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Width of a digit as a share of the size that is asked for (of which plotters sets 0.81, and a digit of the font takes 0.64); digits are wider than its mean letter.
const LETTER: f64 = 0.53;
/// Radius of a numeral's disc, pixels.
const DISC: i32 = 10;

/// Width of a text, pixels: at least what it takes.
pub(crate) fn width(text: &str, size: f64) -> i32 {
    (text.chars().count() as f64 * LETTER * size).ceil() as i32
}

/// A rectangle: left, top, right, bottom.
type Room = (i32, i32, i32, i32);

/// What is taken.
pub(crate) struct Labels {
    within: Room,
    taken: Vec<Room>,
}

impl Labels {
    /// Labels within a rectangle.
    pub(crate) fn within(within: Room) -> Self {
        Self { within, taken: Vec::new() }
    }

    /// Keeps labels off a rectangle.
    pub(crate) fn keep_off(&mut self, room: Room) {
        self.taken.push(room);
    }

    /// The first of some places for the upper left corner of a text that is free; it is taken from then on.
    pub(crate) fn place(&mut self, text: &str, size: f64, places: &[(i32, i32)]) -> Option<(i32, i32)> {
        let (wide, high) = (width(text, size), (1.2 * size) as i32);
        let room = |&(x, y): &(i32, i32)| (x, y, x + wide, y + high);
        let fits = |r: &Room| {
            let w = self.within;
            r.0 >= w.0 && r.1 >= w.1 && r.2 <= w.2 && r.3 <= w.3
        };
        let free = |r: &Room| self.taken.iter().all(|t| r.2 <= t.0 || t.2 <= r.0 || r.3 <= t.1 || t.3 <= r.1);
        let at = places.iter().copied().find(|p| fits(&room(p)) && free(&room(p)))?;
        self.taken.push(room(&at));
        Some(at)
    }
}

/// Numerals that stand at these places, in ascending order; those that would lie on each other are one: `4–7`.
pub(crate) fn folded(at: &[(usize, i32)]) -> Vec<(String, i32)> {
    struct Group {
        first: usize,
        last: usize,
        from: i32,
        to: i32,
    }
    let name =
        |g: &Group| if g.first == g.last { g.first.to_string() } else { format!("{}–{}", g.first, g.last) };
    let half = |g: &Group| half_width(&name(g));
    let middle = |g: &Group| i32::midpoint(g.from, g.to);
    let mut all: Vec<Group> = Vec::new();
    for &(number, x) in at {
        all.push(Group { first: number, last: number, from: x, to: x });
        while let [.., before, last] = all.as_mut_slice() {
            if middle(before) + half(before) + 2 <= middle(last) - half(last) {
                break;
            }
            (before.last, before.to) = (last.last, last.to.max(before.to));
            all.pop();
        }
    }
    all.iter().map(|g| (name(g), middle(g))).collect()
}

/// Half of the width of a numeral's disc.
fn half_width(text: &str) -> i32 {
    DISC.max(width(text, 13.0) / 2 + 5)
}

/// Draws numerals on discs with their middle at a height; those that would lie on each other are one.
pub(crate) fn numerals(area: &Area<'_>, at: &[(usize, i32)], y: i32) -> Result<(), FigureError> {
    for (text, x) in folded(at) {
        let out = half_width(&text) - DISC;
        let ink = INK.filled();
        area.draw(&Circle::new((x - out, y), DISC, ink)).map_err(failed)?;
        if out > 0 {
            area.draw(&Circle::new((x + out, y), DISC, ink)).map_err(failed)?;
            area.draw(&Rectangle::new([(x - out, y - DISC), (x + out, y + DISC)], ink)).map_err(failed)?;
        }
        let style = font(13.0, WHITE_INK).pos(Pos::new(HPos::Center, VPos::Center));
        area.draw(&Text::new(text, (x, y), style)).map_err(failed)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numerals_that_would_lie_on_each_other_are_one() {
        let at = [(1, 50), (2, 200), (3, 206), (4, 240), (5, 247), (6, 250), (7, 500)];
        let folded = folded(&at);
        let names: Vec<&str> = folded.iter().map(|f| f.0.as_str()).collect();
        assert_eq!(names, ["1", "2–3", "4–6", "7"]);
        let apart = folded.windows(2).all(|w| w[0].1 + half_width(&w[0].0) < w[1].1 - half_width(&w[1].0));
        assert!(apart, "{folded:?}");
    }

    #[test]
    fn a_label_goes_to_the_first_free_place_or_is_left_out() {
        let mut labels = Labels::within((0, 0, 200, 100));
        labels.keep_off((0, 40, 200, 44));
        assert_eq!(labels.place("1,043 MB/s", 13.0, &[(10, 30), (10, 50)]), Some((10, 50)));
        assert_eq!(labels.place("730 MB/s", 13.0, &[(20, 52), (190, 10)]), None);
        assert_eq!(labels.place("730 MB/s", 13.0, &[(20, 52), (20, 10)]), Some((20, 10)));
    }
}
