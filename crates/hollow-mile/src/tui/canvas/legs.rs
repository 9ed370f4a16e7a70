//! The lane of legs that stands on the ruler: the name of each, and what it does.

use super::{Picture, Scene};
use mile_core::Op;
use mile_core::leg_name::LegName;
use mile_core::ruler::Ruler;
use mile_core::trace::TraceLeg;

/// What is written for a leg, the longest way first.
fn texts(leg: &TraceLeg) -> [String; 4] {
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

/// Writes the names of the legs into a row, each where it begins; `cell` gives the cell of a position on the ruler.
pub(super) fn draw(
    picture: &mut Picture<'_>,
    y: u16,
    scene: &Scene<'_>,
    ruler: Ruler,
    cell: impl Fn(f64) -> Option<u16>,
) {
    let trace = scene.trace;
    let spans = trace.legs();
    let mut all: Vec<(u16, &TraceLeg)> = Vec::new();
    for (i, leg) in spans.iter().enumerate() {
        if i > 0 && spans[i - 1].name == leg.name {
            continue;
        }
        let place = cell(ruler.at(trace, leg.samples.start));
        // The first that is seen may have begun before what is shown.
        let next = spans[i + 1..].iter().find(|n| n.name != leg.name);
        let begins_later = |n: &TraceLeg| cell(ruler.at(trace, n.samples.start)) != Some(0);
        let Some(from) = place.or_else(|| (all.is_empty() && next.is_none_or(begins_later)).then_some(0))
        else {
            continue;
        };
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
