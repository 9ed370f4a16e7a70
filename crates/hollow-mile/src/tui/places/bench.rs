//! The drives at hand, a card each, and the file target.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas::miniature;
use super::super::state::State;
use super::super::state::{BenchPlace, Group, Line};
use super::super::theme::Theme;
use super::super::view::View;
use crate::tui::put::Put;
use crate::wrap::wrap;
use crossterm::event::KeyCode::{Char, Enter};
use mile_bench::bench::Card;
use mile_core::Bytes;
use mile_logbook::{Digest, Entry};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use std::collections::HashMap;

/// What leads to a first result.
const FIRST: [&str; 3] = [
    "Your first result: press s to start a run on the selected drive. A simulated drive costs nothing.",
    "While it runs, 3 shows it, and enter there shows what is found so far.",
    "Afterwards 7 has the run: enter opens its findings, e writes them as a figure, r as a report.",
];
/// Rows of a card with all of its facts.
const CARD: u16 = 10;
/// Rows of a card that is not selected where there is little room, as many as fit.
const SMALL: [u16; 7] = [7, 6, 5, 4, 3, 2, 1];

const KEYS: &[Binding] = &[
    bind("s enter", &[Char('s'), Enter], Action::Start, "start a run", "start a run on the selected drive"),
    bind(
        "b",
        &[Char('b')],
        Action::StartLanes,
        "side by side",
        "start a course for several drives, from the selected one on",
    ),
    bind("g", &[Char('g')], Action::NextGrouping, "group", "group the drives by kind, model or place"),
];

pub(super) struct Bench;

impl View for Bench {
    fn way(&self) -> &'static str {
        "go to the bench"
    }

    fn about(&self) -> &'static str {
        "The drives of this computer, and simulated ones. The selected drive shows all that is known of it: how it is set up, its temperature on a scale from 20 °C to its limits, its link, what its maker claims, and what earlier runs showed. Nothing is written to a drive before you start a run on it; a real drive is written to only after you have typed its serial number."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let count = |n: usize, what: &str| match n {
            0 => format!("No {what} drive"),
            1 => format!("One {what} drive"),
            n => format!("{n} {what} drives"),
        };
        let simulated = state.bench.cards.iter().filter(|c| c.identity.simulated).count();
        let real = state.bench.cards.len() - simulated;
        let text = match real {
            0 => format!("{}, and any file on a mounted file system.", count(simulated, "simulated")),
            _ => format!(
                "{}, {}, and any file on a mounted file system.",
                count(real, "real"),
                count(simulated, "simulated").to_lowercase()
            ),
        };
        (text, if state.setup.is_demo { "Lantern Shoal, the demo bench".into() } else { String::new() })
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        // Whoever has no run yet is led to a first result.
        let hints =
            if state.logbook.listed && state.logbook.entries.is_empty() { FIRST.len() as u16 + 1 } else { 0 };
        let cards = Rect { height: area.height.saturating_sub(hints), ..area };
        state.drawn.lines = bench(buffer, cards, state.theme, &state.bench, &state.logbook.entries);
        for (i, line) in FIRST.iter().enumerate().take(usize::from(hints)) {
            let y = cards.bottom() + 1 + i as u16;
            buffer.put(area.x, y, line, usize::from(area.width), Style::new().fg(state.theme.ink));
        }
    }

    fn select(&self, state: &mut State, line: usize) -> bool {
        state.bench.chosen = true;
        state.bench.selected = line;
        false
    }

    fn step(&self, state: &mut State, by: isize) {
        state.bench.step(by);
    }
}

/// Draws the place, and gives the lines that can be clicked on: the cards.
fn bench(buffer: &mut Buffer, area: Rect, theme: Theme, place: &BenchPlace, runs: &[Entry]) -> Vec<Line> {
    let mut clickable = Vec::new();
    let roomy = area.height >= CARD * place.lines() as u16;
    let heat_of =
        |card: &Card| place.heat.get(&card.identity.name).map(|h| h.iter().copied().collect::<Vec<f32>>());
    let facts_of = |line: usize| match place.cards.get(line) {
        Some(card) => card_facts(card, place, runs, heat_of(card).as_deref(), area.width >= WITH_GAUGE),
        None => file_facts(),
    };
    // The selected card has room for all that is said on it.
    let selected = (wrapped(&facts_of(place.selected), area.width).len() as u16 + 2).min(area.height);
    let others = place.lines() as u16 - 1;
    let titles = titles(place);
    let for_cards = area.height.saturating_sub(titles.len() as u16);
    let small = SMALL.into_iter().find(|s| selected + s * others <= for_cards).unwrap_or(SMALL[6]);
    let rows = |line: usize| match line == place.selected {
        true => selected,
        false if roomy => CARD,
        false => small,
    } + u16::from(titles.contains_key(&line));
    // The first card that is shown is the first from which the selected one still fits.
    let order = place.order();
    let mut first = order.iter().position(|line| *line == place.selected).unwrap_or(0);
    let mut used = rows(order[first]);
    while first > 0 && used + rows(order[first - 1]) <= area.height {
        first -= 1;
        used += rows(order[first]);
    }
    let mut y = area.y;
    for &line in &order[first..] {
        let mut height = rows(line).min(area.bottom().saturating_sub(y));
        if let Some(title) = titles.get(&line).filter(|_| height > 0) {
            title_row(buffer, Rect { y, height: 1, ..area }, theme, title);
            (y, height) = (y + 1, height - 1);
        }
        if height == 0 {
            break;
        }
        let card = Rect { y, height, ..area };
        clickable.push((y..y + height, area.x..area.right(), line));
        let selected = line == place.selected;
        let mut facts = facts_of(line);
        match place.cards.get(line) {
            Some(drive) => {
                let id = &drive.identity;
                let serial = id.serial.as_ref().map_or(String::new(), |s| format!(", serial {s}"));
                let rest = format!("{}, {}, {}{serial}", id.name, id.kind, drive.facts.capacity);
                head(buffer, card, theme, selected, &id.model, &rest);
                if height < CARD && !id.simulated {
                    by_weight(drive, &mut facts);
                }
            }
            None => {
                let rest = "made for the run on the drive under test, and taken away after it";
                head(buffer, card, theme, selected, "A file", rest);
            }
        }
        let run = place.cards.get(line).and_then(|drive| last_run(drive, runs));
        table(buffer, card, theme, &facts, theme.ground(run.map_or(mile_core::Op::Write, |(_, d)| d.op())));
        y += height;
    }
    clickable
}

/// What stands above the first drive of each group: its name, how many drives it has, and what of them needs a look.
fn titles(place: &BenchPlace) -> HashMap<usize, String> {
    let title = |group: Group| {
        let cards: Vec<&Card> = group.cards.iter().filter_map(|i| place.cards.get(*i)).collect();
        let health = || cards.iter().filter_map(|c| c.health.as_ref());
        let warn = health().filter(|h| !h.warnings.is_empty()).count();
        let degraded = cards
            .iter()
            .filter(|c| c.identity.link.as_ref().is_some_and(mile_drive::Link::is_degraded))
            .count();
        let hottest = health().filter_map(|h| h.temperature).map(|t| t.0).reduce(f64::max);
        let drives =
            if cards.len() == 1 { "one drive".to_owned() } else { format!("{} drives", cards.len()) };
        let parts = [
            Some(drives),
            (warn > 0).then(|| format!("{warn} with a warning")),
            (degraded > 0).then(|| format!("{degraded} on a degraded link")),
            hottest.map(|t| format!("{}{t:.0} °C now", if cards.len() > 1 { "up to " } else { "" })),
        ];
        let said = parts.into_iter().flatten().collect::<Vec<_>>().join(", ");
        Some((*group.cards.first()?, format!("{}: {said}", group.name?)))
    };
    place.groups().into_iter().filter_map(title).collect()
}

fn title_row(buffer: &mut Buffer, row: Rect, theme: Theme, title: &str) {
    let lines = "─".repeat(usize::from(row.width));
    buffer.put(row.x, row.y, &lines, usize::from(row.width), theme.faint());
    let room = usize::from(row.width.saturating_sub(4));
    buffer.put(row.x + 1, row.y, format!(" {title} "), room, Style::new().fg(theme.ink));
}

fn head(buffer: &mut Buffer, area: Rect, theme: Theme, selected: bool, name: &str, rest: &str) {
    let row = Rect { height: 1, ..area };
    if selected {
        buffer.set_style(row, theme.selection());
    }
    let mark = if selected { "▸ " } else { "  " };
    let style = if selected { theme.selection() } else { Style::new() };
    buffer.set_string(area.x, area.y, mark, style.fg(theme.ink));
    buffer.put(
        area.x + 2,
        area.y,
        name,
        usize::from(area.width.saturating_sub(2)),
        style.fg(theme.ink).add_modifier(Modifier::BOLD),
    );
    let at = area.x + 2 + name.chars().count() as u16 + 3;
    buffer.put(at, area.y, rest, usize::from(area.right().saturating_sub(at)), style.patch(theme.faint()));
}

/// What is said on a drive's card.
fn card_facts(
    card: &Card,
    place: &BenchPlace,
    runs: &[Entry],
    heat: Option<&[f32]>,
    with_gauge: bool,
) -> Vec<(&'static str, String)> {
    let id = &card.identity;
    let mut facts: Vec<(&str, String)> = Vec::new();
    let situation = card.situation.line();
    facts.push(("situation", if situation.is_empty() { "not described".into() } else { situation }));
    if let Some(h) = &card.health {
        let now = h.temperature.map_or("no reading".into(), |t| format!("{t} now"));
        let lately = heat.filter(|h| h.len() > 1).map_or(String::new(), |h| format!("  {}", trend(h)));
        let limits = match (h.temperature, card.limits.warn, card.limits.critical) {
            (None, None, None) => String::new(),
            _ => format!("; {}", crate::text::limits(&card.limits)),
        };
        let scale = h.temperature.filter(|_| with_gauge).map_or(String::new(), |t| gauge(t.0, &card.limits));
        facts.push(("temperature", format!("{scale}{now}{limits}{lately}")));
        facts.push(("health", h.warnings.first().map_or_else(|| h.line(), |w| format!("it warns: {w}"))));
        // On a small screen the other drives need the row.
        facts.extend(place.news.get(&id.name).filter(|_| with_gauge).map(|words| ("changed", words.clone())));
    }
    if let Some(link) = &id.link {
        facts.push(("link", link.sentence()));
    }
    let members: Vec<String> =
        card.device.iter().flat_map(|d| &d.members).map(mile_drive::block::members::Member::line).collect();
    if !members.is_empty() {
        facts.push(("built on", members.join("; ")));
    }
    let claims = &card.claims;
    if let Some(write) = claims.write {
        let read = claims.read.map_or(String::new(), |r| format!(", read {r}"));
        let life = claims.endurance.map_or(String::new(), |e: Bytes| format!(", {e} over its life"));
        facts.push(("claimed", format!("write {write}{read}{life}")));
    }
    facts.push((
        "last run",
        last_run(card, runs).map_or("none in this logbook".into(), |(run, d)| {
            let breaks = if d.breaks.is_empty() { "no break in the rate".to_owned() } else { d.causes() };
            format!("{}  {} of run {}: {breaks}", miniature(&d.miniature, 24), Bytes(d.bytes), run.run)
        }),
    ));
    facts.extend(place.known.get(&id.name).map(|words| ("known", words.clone())));
    let fill = card.fill_share.map_or(String::new(), |f| format!("; {:.0} % in use", f * 100.0));
    facts.push(("writing", format!("{}{fill}", card.writing())));
    facts
}

/// The newest run on a drive, and what it came to.
fn last_run<'a>(card: &Card, runs: &'a [Entry]) -> Option<(&'a Entry, &'a Digest)> {
    runs.iter().find(|r| r.drive == card.identity.name).and_then(|r| Some((r, r.digest.as_ref()?)))
}

/// Cells of the scale of temperatures, and its lowest value, °C: that of a cool room.
const GAUGE: usize = 24;
/// Width from which it has room.
const WITH_GAUGE: u16 = 100;
const COOL: f64 = 20.0;

/// A temperature between a cool room and the drive's limits, on a scale of text: `───●──────────╎───╎  `. Empty where the drive declares no limit.
fn gauge(now: f64, limits: &mile_drive::drive::Limits) -> String {
    let marks: Vec<f64> = [limits.warn, limits.critical].into_iter().flatten().map(|l| l.0).collect();
    let Some(high) = marks.iter().copied().reduce(f64::max).filter(|h| *h > COOL + 10.0) else {
        return String::new();
    };
    let cell =
        |t: f64| ((t - COOL) / (high - COOL) * (GAUGE - 1) as f64).round().clamp(0.0, (GAUGE - 1) as f64);
    let mut cells = vec!['─'; GAUGE];
    marks.iter().for_each(|m| cells[cell(*m) as usize] = '╎');
    cells[cell(now) as usize] = '●';
    cells.into_iter().chain([' ', ' ']).collect()
}

/// Where there is little room, what matters for a decision comes first.
fn by_weight(card: &Card, facts: &mut [(&'static str, String)]) {
    let degraded = card.identity.link.as_ref().is_some_and(mile_drive::Link::is_degraded);
    let warns = card.health.as_ref().is_some_and(|h| !h.warnings.is_empty());
    facts.sort_by_key(|(name, _)| match *name {
        "link" if degraded => 0,
        "health" if warns => 1,
        "writing" => 2,
        "temperature" => 3,
        _ => 4,
    });
}

/// How the temperature went lately, in words.
fn trend(heat: &[f32]) -> String {
    let (low, high) = heat.iter().fold((f32::MAX, f32::MIN), |(l, h), t| (l.min(*t), h.max(*t)));
    match (heat.first(), heat.last()) {
        _ if high - low < 1.0 => "level".into(),
        (Some(a), Some(b)) if b - a >= 1.0 => format!("rising, {low:.0} to {high:.0} °C"),
        (Some(a), Some(b)) if a - b >= 1.0 => format!("falling, {high:.0} to {low:.0} °C"),
        _ => format!("between {low:.0} and {high:.0} °C"),
    }
}

/// The lines of facts in a card of this width: a name where one begins, and its text.
fn wrapped(facts: &[(&'static str, String)], width: u16) -> Vec<(&'static str, String)> {
    let room = usize::from(width.saturating_sub(17)).max(1);
    let lines = |(name, value): &(&'static str, String)| {
        let name = *name;
        wrap(value, room)
            .into_iter()
            .enumerate()
            .map(move |(i, line)| (if i == 0 { name } else { "" }, line))
            .collect::<Vec<_>>()
    };
    facts.iter().flat_map(lines).collect()
}

fn table(buffer: &mut Buffer, area: Rect, theme: Theme, facts: &[(&'static str, String)], ground: Color) {
    let whole = wrapped(facts, area.width);
    // Where not all lines fit, each fact has one.
    let lines = if whole.len() + 2 <= usize::from(area.height) { &whole[..] } else { facts };
    for (i, (name, value)) in lines.iter().enumerate() {
        let y = area.y + 1 + i as u16;
        if y + 1 >= area.bottom() {
            break;
        }
        buffer.put(area.x + 4, y, name, 12, theme.faint());
        let field = Rect { x: area.x + 17, y, width: area.width.saturating_sub(17), height: 1 };
        buffer.put(field.x, y, value, usize::from(field.width), Style::new().fg(theme.ink));
        // Terrain has the colour of what was done, wherever it is.
        let terrain = value.chars().take_while(|c| ('▁'..='█').contains(c)).count() as u16;
        buffer.set_style(Rect { width: terrain.min(field.width), ..field }, Style::new().fg(ground));
    }
}

/// What is said of the file target.
fn file_facts() -> Vec<(&'static str, String)> {
    let facts = [
        ("measures", "the disk under it, past the host's cache (O_DIRECT)"),
        (
            "writing",
            "to a new file that you name, of a size that you give; free space below a reserve is never used",
        ),
        ("not here", "files that exist and that no run made, file systems in memory"),
    ];
    facts.map(|(name, value)| (name, value.to_owned())).to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;
    use mile_core::Celsius;
    use mile_drive::drive::Limits;

    #[test]
    fn the_scale_has_the_limits_and_the_temperature_where_they_are() {
        let limits = |warn, critical| Limits { warn: Some(Celsius(warn)), critical: Some(Celsius(critical)) };
        // From 20 °C to 66 °C in 24 cells: 2 °C a cell.
        assert_eq!(gauge(30.0, &limits(60.0, 66.0)), "─────●──────────────╎──╎  ");
        assert_eq!(gauge(-5.0, &limits(60.0, 66.0)).chars().position(|c| c == '●'), Some(0));
        assert_eq!(gauge(99.0, &limits(60.0, 66.0)).chars().position(|c| c == '●'), Some(23));
        assert_eq!(gauge(30.0, &Limits::default()), "");
    }
}
