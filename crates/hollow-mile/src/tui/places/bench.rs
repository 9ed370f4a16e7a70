//! The drives at hand, a card each, and the file target.

use super::super::canvas::miniature;
use super::super::state::BenchPlace;
use super::super::theme::Theme;
use crate::bench::Card;
use mile_core::Bytes;
use mile_logbook::Entry;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Rows of a card with all of its facts.
const CARD: u16 = 9;
/// Rows of a card that is not selected where there is little room.
const SMALL: u16 = 4;

pub(super) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, place: &BenchPlace, runs: &[Entry]) {
    let roomy = area.height >= CARD * place.lines() as u16;
    let rows = |line: usize| if roomy || line == place.selected { CARD } else { SMALL };
    // The first card that is shown is the first from which the selected one still fits.
    let mut first = place.selected;
    let mut used = rows(first);
    while first > 0 && used + rows(first - 1) <= area.height {
        first -= 1;
        used += rows(first);
    }
    let mut y = area.y;
    for line in first..place.lines() {
        let height = rows(line).min(area.bottom().saturating_sub(y));
        if height < 2 {
            break;
        }
        let card = Rect { y, height, ..area };
        let selected = line == place.selected;
        match place.cards.get(line) {
            Some(facts) => draw_card(buffer, card, theme, facts, runs, selected),
            None => draw_file(buffer, card, theme, selected),
        }
        y += height;
    }
}

fn head(buffer: &mut Buffer, area: Rect, theme: Theme, selected: bool, name: &str, rest: &str) {
    let row = Rect { height: 1, ..area };
    if selected {
        buffer.set_style(row, theme.selection());
    }
    let mark = if selected { "▸ " } else { "  " };
    let style = if selected { theme.selection() } else { Style::new() };
    buffer.set_string(area.x, area.y, mark, style.fg(theme.ink));
    buffer.set_stringn(
        area.x + 2,
        area.y,
        name,
        usize::from(area.width.saturating_sub(2)),
        style.fg(theme.ink).add_modifier(Modifier::BOLD),
    );
    let at = area.x + 2 + name.chars().count() as u16 + 3;
    buffer.set_stringn(
        at,
        area.y,
        rest,
        usize::from(area.right().saturating_sub(at)),
        style.patch(theme.faint()),
    );
}

fn draw_card(buffer: &mut Buffer, area: Rect, theme: Theme, card: &Card, runs: &[Entry], selected: bool) {
    let id = &card.identity;
    let serial = id.serial.as_ref().map_or(String::new(), |s| format!(", serial {s}"));
    head(
        buffer,
        area,
        theme,
        selected,
        &id.model,
        &format!("{}, {}, {}{serial}", id.name, id.kind, card.facts.capacity),
    );
    let mut facts: Vec<(&str, String)> = Vec::new();
    let situation = card.situation.line();
    facts.push(("situation", if situation.is_empty() { "not described".into() } else { situation }));
    if let Some(h) = &card.health {
        let now = h.temperature.map_or("no reading".into(), |t| format!("{t} now"));
        facts.push(("temperature", format!("{now}; {}", crate::text::limits(&card.limits))));
        facts.push(("health", h.warnings.first().map_or_else(|| h.line(), |w| format!("it warns: {w}"))));
    }
    if let Some(link) = &id.link {
        facts.push(("link", link.sentence()));
    }
    let claims = &card.claims;
    if let Some(write) = claims.write {
        let read = claims.read.map_or(String::new(), |r| format!(", read {r}"));
        let life = claims.endurance.map_or(String::new(), |e: Bytes| format!(", {e} over its life"));
        facts.push(("claimed", format!("write {write}{read}{life}")));
    }
    let last = runs.iter().find(|r| r.drive == id.name).and_then(|r| Some((r, r.digest.as_ref()?)));
    facts.push((
        "last run",
        last.map_or("none in this logbook".into(), |(run, d)| {
            let breaks =
                if d.breaks.is_empty() { "no break in the rate".to_owned() } else { d.breaks.join("; ") };
            format!("{}  {} of run {}: {breaks}", miniature(&d.miniature, 24), Bytes(d.bytes), run.run)
        }),
    ));
    let fill = card.fill_share.map_or(String::new(), |f| format!("; {:.0} % in use", f * 100.0));
    facts.push(("writing", format!("{}{fill}", card.writing())));
    table(buffer, area, theme, &facts);
}

fn table(buffer: &mut Buffer, area: Rect, theme: Theme, facts: &[(&str, String)]) {
    for (i, (name, value)) in facts.iter().enumerate() {
        let y = area.y + 1 + i as u16;
        if y + 1 >= area.bottom() {
            break;
        }
        buffer.set_stringn(area.x + 4, y, name, 12, theme.faint());
        let field = Rect { x: area.x + 17, y, width: area.width.saturating_sub(17), height: 1 };
        buffer.set_stringn(field.x, y, value, usize::from(field.width), Style::new().fg(theme.ink));
        // Terrain has the colour of writes wherever it is.
        let terrain = value.chars().take_while(|c| ('▁'..='█').contains(c)).count() as u16;
        buffer.set_style(Rect { width: terrain.min(field.width), ..field }, Style::new().fg(theme.write));
    }
}

fn draw_file(buffer: &mut Buffer, area: Rect, theme: Theme, selected: bool) {
    head(
        buffer,
        area,
        theme,
        selected,
        "A file",
        "made for the run on the drive under test, and taken away after it",
    );
    let facts = [
        ("measures", "the disk under it, past the host's cache (O_DIRECT)".to_owned()),
        (
            "writing",
            "to a new file that you name, of a size that you give; free space below a reserve is never used"
                .to_owned(),
        ),
        ("not here", "files that exist, file systems in memory, block devices".to_owned()),
    ];
    table(buffer, area, theme, &facts);
}
