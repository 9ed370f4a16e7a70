//! The numbers of the breaks over the terrain. Numbers that have no room beside each other fold into one: `7–9`.

use super::picture::Picture;
use ratatui::style::Modifier;
use std::ops::Range;

/// Numbers that stand as one text from a cell on.
#[derive(Debug, PartialEq)]
struct Group {
    /// Indices of the breaks, in the order of their cells.
    members: Vec<usize>,
    from: u16,
    text: String,
}

impl Group {
    fn new(members: Vec<usize>, first: u16, width: u16) -> Self {
        let (low, high) = (members.iter().min(), members.iter().max());
        let text = match (low, high) {
            (Some(low), Some(high)) if low == high => format!("{}", low + 1),
            // Some may lie elsewhere where the ruler is of addresses: those are told one by one.
            (Some(low), Some(high)) if high - low + 1 == members.len() => format!("{}–{}", low + 1, high + 1),
            _ => {
                let few = if members.len() > 3 { 2 } else { 3 };
                let told: Vec<String> = members.iter().take(few).map(|m| (m + 1).to_string()).collect();
                format!("{}{}", told.join(","), if members.len() > 3 { ",…" } else { "" })
            }
        };
        // At the right edge the text begins earlier, so that it is whole.
        let from = first.min(width.saturating_sub(text.chars().count() as u16));
        Self { members, from, text }
    }

    fn end(&self) -> u16 {
        self.from + self.text.chars().count() as u16
    }
}

/// Numbers by their cells, folded so that there is a blank between any two.
fn groups(mut marks: Vec<(usize, u16)>, width: u16) -> Vec<Group> {
    marks.sort_by_key(|m| (m.1, m.0));
    let mut all: Vec<(Group, u16)> = Vec::new();
    for (index, x) in marks {
        let mut group = (Group::new(vec![index], x, width), x);
        while let Some((last, first)) = all.pop_if(|(last, _)| group.0.from <= last.end()) {
            let members = [last.members, group.0.members].concat();
            group = (Group::new(members, first, width), first);
        }
        all.push(group);
    }
    all.into_iter().map(|g| g.0).collect()
}

/// Draws the marks of breaks at their cells: the number at the top, and a line down through all rows where nothing else is drawn.
pub(super) fn draw(
    picture: &mut Picture<'_>,
    rows: Range<u16>,
    marks: Vec<(usize, u16)>,
    selected: Option<usize>,
) {
    let style = picture.theme.strong();
    for (_, x) in &marks {
        for y in rows.clone().skip(1) {
            let at = (picture.area.x + x, y);
            if picture.buffer.cell(at).is_some_and(|c| c.symbol() == " ") {
                picture.set(*x, y, '┊', style);
            }
        }
    }
    for group in groups(marks, picture.area.width) {
        let chosen = selected.is_some_and(|s| group.members.contains(&s));
        let style = if chosen { style.add_modifier(Modifier::REVERSED) } else { style };
        for (i, c) in group.text.chars().enumerate() {
            picture.set(group.from + i as u16, rows.start, c, style);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(marks: &[u16], width: u16) -> Vec<(u16, String)> {
        groups(marks.iter().copied().enumerate().collect(), width)
            .into_iter()
            .map(|g| (g.from, g.text))
            .collect()
    }

    fn told(all: &[(u16, &str)]) -> Vec<(u16, String)> {
        all.iter().map(|(x, t)| (*x, (*t).to_owned())).collect()
    }

    #[test]
    fn numbers_that_have_no_room_fold_and_none_is_cut() {
        assert_eq!(texts(&[3, 5, 9], 40), told(&[(3, "1"), (5, "2"), (9, "3")]));
        assert_eq!(texts(&[3, 4, 9], 40), told(&[(3, "1–2"), (9, "3")]));
        // The fold of the first two reaches the third, which folds in too.
        assert_eq!(texts(&[3, 4, 6], 40), told(&[(3, "1–3")]));
        assert_eq!(texts(&[7, 7, 7], 40), told(&[(7, "1–3")]));
        assert_eq!(texts(&[39], 40), told(&[(39, "1")]));
        assert_eq!(texts(&[38, 39], 40), told(&[(37, "1–2")]));
        // By addresses the order is another: 1 and 3 lie beside each other, 2 elsewhere.
        assert_eq!(texts(&[10, 30, 11], 40), told(&[(10, "1,3"), (30, "2")]));
    }

    #[test]
    fn whatever_the_cells_each_number_is_told_once_and_texts_never_touch() {
        let mut seed = 7_u64;
        for round in 0..300 {
            let count = round % 60;
            let marks: Vec<u16> = (0..count)
                .map(|_| {
                    seed =
                        seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                    (seed >> 33) as u16 % 100
                })
                .collect();
            let groups = groups(marks.iter().copied().enumerate().collect(), 100);
            let mut members: Vec<usize> = groups.iter().flat_map(|g| g.members.clone()).collect();
            members.sort_unstable();
            assert_eq!(members, (0..count).collect::<Vec<_>>());
            assert!(groups.windows(2).all(|w| w[0].end() < w[1].from), "{groups:?}");
        }
    }
}
