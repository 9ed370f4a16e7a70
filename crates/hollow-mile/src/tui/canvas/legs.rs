//! The lane of legs that stands on the ruler: the name of each, and what it does.

use super::picture::{Cells, Picture};
use mile_core::Op;
use mile_core::leg_name::LegName;
use mile_core::scene::LegSpan;

/// What is written for a leg, the longest way first.
fn texts(leg: &LegSpan) -> [String; 4] {
    let name = LegName::read(&leg.name);
    let short = match name.repeats.last() {
        Some(n) => format!("{} {n}", name.base),
        None => name.base.clone(),
    };
    let does = match leg.op {
        Op::Idle => String::new(),
        op => format!(", {}", op.word()),
    };
    [format!("{}{does}", leg.name), format!("{short}{does}"), short, name.base]
}

/// Writes the names of the legs into a row, each where it begins.
pub(super) fn draw(picture: &mut Picture<'_>, y: u16, legs: &[LegSpan], cells: Cells) {
    let mut all: Vec<(u16, &LegSpan)> = Vec::new();
    for leg in legs {
        let Some(from) = cells.of(leg.from) else { continue };
        // A leg that takes less than a cell gives way to the next.
        match all.last_mut() {
            Some(last) if last.0 == from => *last = (from, leg),
            _ => all.push((from, leg)),
        }
    }
    let (faint, width) = (picture.theme.faint(), picture.area.width);
    for (i, (from, leg)) in all.iter().enumerate() {
        let end = all.get(i + 1).map_or(width, |next| next.0);
        let room = usize::from(end.saturating_sub(from + 1));
        picture.set(*from, y, '┆', faint);
        let texts = texts(leg);
        let last = &texts[3];
        let text = texts.iter().find(|t| t.chars().count() < room.max(1)).unwrap_or(last);
        // A name that is cut ends in dots, and one of a letter or two says nothing.
        let cut = text.chars().count() >= room.max(1);
        let text: String = match room {
            0..=5 if cut => String::new(),
            _ if cut => text.chars().take(room - 2).chain(['…']).collect(),
            _ => text.clone(),
        };
        text.chars().enumerate().for_each(|(k, c)| picture.set(from + 1 + k as u16, y, c, faint));
    }
}
