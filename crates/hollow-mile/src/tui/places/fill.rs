//! A sweep over fill levels: a lane for each on one ruler, the end of the write cache joined from lane to lane, and the battery's
//! figures against fill level.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas;
use super::super::jobs::Jobs;
use super::super::lines::lines;
use super::super::requests;
use super::super::state::{FillPlace, FindingsPlace, Shown, State, Wanted};
use super::super::theme::Theme;
use super::super::view::{AtHand, View};
use crate::text::sweeps::{figure_words, fill_rows, open_words, percent};
use crossterm::event::KeyCode::Char;
use mile_core::ruler::{Ruler, Window, columns};
use mile_core::sweeps::{FillFound, FillLevel};
use mile_core::trace::TraceLeg;
use mile_core::{Bytes, LegName, Op};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Cells at the left of the lanes, for the level.
const MARGIN: u16 = 9;
/// Rows that a lane has at the most.
const TALLEST: u16 = 14;

const KEYS: &[Binding] = &[
    bind("e", &[Char('e')], Action::Export, "export", "write the figures of the sweep as SVG and PDF"),
    action::REPORT,
];

pub(super) struct Fill;

impl View for Fill {
    fn way(&self) -> &'static str {
        "go to the figures against fill level"
    }

    fn about(&self) -> &'static str {
        "A sweep over fill levels. Each lane is one level, and its terrain is the rate of the burst written at that level, on one ruler. Below them stand the figures at each level, so that you can see what changes as the drive fills."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        told(&state.findings)
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        fill(buffer, area, state.theme, &state.findings, &mut state.fill);
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        requests::show_something(state, jobs, Wanted::Fill);
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        super::findings::Findings.at_hand(state)
    }

    fn step(&self, state: &mut State, by: isize) {
        state.fill.scroll = crate::tui::lines::step(state.fill.scroll, by, 400);
    }
}

fn told(place: &FindingsPlace) -> (String, String) {
    let none = |text: &str| (text.to_owned(), String::new());
    let Some(shown) = &place.shown else {
        return none(match place.loading {
            Some(_) => "Reading a run …",
            None if place.missing.contains(&Wanted::Fill) => {
                "No run of the logbook goes over fill levels. The ready-made course \"fill sweep\" does: start it on the bench (1)."
            }
            None => "No run is open. Open a sweep over fill levels from the logbook (7).",
        });
    };
    let Some(found) = &shown.findings.fill else {
        let is_level = |l: &TraceLeg| LegName::read(&l.name).step("fill").is_some();
        if shown.trace.legs().iter().any(is_level) {
            return none(&format!(
                "Run {} has measured one fill level so far. What changes as the drive fills is shown from the second one on.",
                shown.run
            ));
        }
        return none(&format!(
            "Run {} goes over no fill levels. The ready-made course \"fill sweep\" does: start it on the bench (1).",
            shown.run
        ));
    };
    let first = found.worse_from.iter().min_by(|a, b| a.fill_pct.total_cmp(&b.fill_pct));
    let text = match first {
        Some(w) => format!(
            "Run {}: {} levels. First to get worse: {}, from {} full on ({:+.0} %).",
            shown.run,
            found.levels.len(),
            figure_words(&w.figure),
            percent(w.fill_pct),
            w.change_pct
        ),
        None => {
            let what = found.open().map_or_else(
                || "No figure gets worse by more than a tenth.".to_owned(),
                |open| open_words(&open),
            );
            format!("Run {}: {} levels. {what}", shown.run, found.levels.len())
        }
    };
    (text, shown.head.lane(shown.lane).drive.model.clone())
}

fn fill(buffer: &mut Buffer, area: Rect, theme: Theme, findings: &FindingsPlace, place: &mut FillPlace) {
    let Some((shown, found)) = findings.shown.as_ref().and_then(|s| Some((s, s.findings.fill.as_ref()?)))
    else {
        return;
    };
    let table = table(found, theme, area.width);
    let below = (table.len() as u16).min(area.height / 2);
    let lanes = Rect { height: area.height - below - 1, ..area };
    draw_lanes(buffer, lanes, theme, shown, found);
    let foot = Rect { y: area.bottom() - below, height: below, ..area };
    place.scroll = place.scroll.min(table.len().saturating_sub(usize::from(below)));
    lines(buffer, foot, theme, &table[place.scroll..]);
}

/// A burst at a fill level, and where its write cache ended.
struct Lane<'a> {
    level: &'a FillLevel,
    leg: &'a TraceLeg,
}

/// The first repeat of the leg that used the cache up, at each level.
fn bursts<'a>(shown: &'a Shown, found: &'a FillFound) -> Vec<Lane<'a>> {
    let at_level = |leg: &TraceLeg, level: &FillLevel| {
        let name = LegName::read(&leg.name);
        leg.op == Op::Write && name.value("fill").is_some_and(|f| (100.0 * f - level.fill_pct).abs() < 1e-6)
    };
    let broken = |leg: &TraceLeg| {
        let (from, to) = (shown.trace.moved(leg.samples.start).0, shown.trace.moved(leg.samples.end).0);
        shown.findings.breaks.iter().any(|b| (from..to).contains(&b.at_bytes) && b.to_mb_s < b.from_mb_s)
    };
    let lane = |level: &'a FillLevel| {
        let legs = shown.trace.legs();
        let of = |l: &&TraceLeg| at_level(l, level) && LegName::read(&l.name).base != "prepare";
        let leg = legs.iter().filter(of).find(|l| broken(l)).or_else(|| legs.iter().find(of))?;
        Some(Lane { level, leg })
    };
    found.levels.iter().filter_map(lane).collect()
}

fn draw_lanes(buffer: &mut Buffer, area: Rect, theme: Theme, shown: &Shown, found: &FillFound) {
    let lanes = bursts(shown, found);
    if lanes.is_empty() || area.height < 3 || area.width < MARGIN + 20 {
        return;
    }
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN, height: area.height - 2, ..area };
    let rows = (plot.height / lanes.len() as u16).clamp(1, TALLEST);
    let trace = &shown.trace;
    let moved = |leg: &TraceLeg| trace.moved(leg.samples.end).0 - trace.moved(leg.samples.start).0;
    let length = lanes.iter().map(|l| moved(l.leg)).max().unwrap_or(1).max(1) as f64;
    let fastest = lanes
        .iter()
        .filter_map(|l| trace.rate.extent(l.leg.samples.start, l.leg.samples.end))
        .map(|e| e.max)
        .fold(1.0, f64::max);
    let mut ends: Vec<Option<u16>> = Vec::new();
    for (i, lane) in lanes.iter().enumerate() {
        let start = trace.moved(lane.leg.samples.start).0 as f64;
        let window = Window { from: start, to: start + length };
        let mut data = columns(trace, Ruler::Bytes, window, usize::from(plot.width));
        let own = (moved(lane.leg) as f64 / length * f64::from(plot.width)).ceil() as usize;
        data.truncate(own);
        let y = plot.y + i as u16 * rows;
        let ground = Rect { y, height: rows.saturating_sub(u16::from(rows > 2)).max(1), ..plot };
        canvas::lane(buffer, ground, theme, data, fastest);
        let label = format!("{:>7}", percent(lane.level.fill_pct));
        buffer.set_string(area.x, ground.bottom() - 1, label, Style::new().fg(theme.ink));
        let cell = |bytes: f64| ((bytes / length * f64::from(plot.width)) as u16).min(plot.width - 1);
        ends.push(lane.level.cache_bytes.map(|c| plot.x + cell(c.mean)));
    }
    // The end of the cache, down its lane and across to the next.
    for (i, end) in ends.iter().enumerate() {
        let Some(x) = *end else { continue };
        let y = plot.y + i as u16 * rows;
        for row in y..(y + rows).min(plot.bottom()) {
            join(buffer, x, row, '┃', theme);
        }
        let next = ends.get(i + 1).copied().flatten();
        let gap = y + rows - 1;
        if let Some(to) = next.filter(|to| *to != x && rows > 2) {
            let (left, right) = (x.min(to), x.max(to));
            (left + 1..right).for_each(|across| join(buffer, across, gap, '━', theme));
            join(buffer, x, gap, if to < x { '┛' } else { '┗' }, theme);
            join(buffer, to, gap, if to < x { '┏' } else { '┓' }, theme);
        }
    }
    ruler(buffer, Rect { y: plot.y + rows * lanes.len() as u16, height: 1, ..plot }, theme, length);
}

fn join(buffer: &mut Buffer, x: u16, y: u16, glyph: char, theme: Theme) {
    if let Some(cell) = buffer.cell_mut((x, y)) {
        cell.set_char(glyph).set_style(theme.strong());
    }
}

fn ruler(buffer: &mut Buffer, area: Rect, theme: Theme, length: f64) {
    let window = Window { from: 0.0, to: length };
    let (unit, _) = Ruler::Bytes.unit(window);
    (area.x..area.right()).for_each(|x| {
        buffer.set_string(x, area.y, "─", theme.faint());
    });
    let label = unit.to_string();
    buffer.set_string(area.x.saturating_sub(label.chars().count() as u16 + 1), area.y, label, theme.faint());
    for (position, label) in
        mile_core::ruler::ticks(Ruler::Bytes, window, usize::from(area.width / 14).max(2))
    {
        let at = (position / length * f64::from(area.width)) as u16;
        if at + (label.chars().count() as u16) + 1 < area.width {
            buffer.set_string(area.x + at, area.y, format!("╵{label}"), Style::new().fg(theme.ink));
        }
    }
}

/// The figures against fill level, a column for each level.
fn table(found: &FillFound, theme: Theme, width: u16) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let room = usize::from(width.saturating_sub(24)) / found.levels.len().max(1);
    let cell = room.clamp(7, 20);
    let heads: String = found.levels.iter().map(|l| format!("{:>cell$}", percent(l.fill_pct))).collect();
    let mut all = vec![(format!("{:<24}{heads}", "figure, at a fill level of"), theme.faint())];
    for row in fill_rows(found, cell > 14) {
        let mark = |worse: bool| if worse { "↓" } else { " " };
        let values: String = row
            .cells
            .iter()
            .map(|(text, worse)| format!("{text:>width$}{}", mark(*worse), width = cell - 1))
            .collect();
        let worse = row.cells.iter().any(|c| c.1);
        let style = if worse { ink.add_modifier(Modifier::BOLD) } else { ink };
        all.push((format!("{:<24}{values}", row.name), style));
    }
    let repeats = found.levels.iter().flat_map(|l| &l.figures).map(|f| f.mb_s.n).min().unwrap_or(0);
    let text = match repeats {
        0..3 => format!(
            "{repeats} repeats: too few for an interval. ↓ worse than on the emptiest level by more than a tenth."
        ),
        n => format!(
            "Means of {n} repeats, ± half of a 95 % interval. ↓ worse than on the emptiest level by more than a tenth."
        ),
    };
    all.push((text, theme.faint()));
    for w in &found.worse_from {
        all.push((
            format!(
                "{} is worse from {} on: {:+.0} %",
                figure_words(&w.figure),
                percent(w.fill_pct),
                w.change_pct
            ),
            ink,
        ));
    }
    all.extend(found.open().filter(|_| !found.worse_from.is_empty()).map(|open| (open_words(&open), ink)));
    let cache = found.levels.iter().filter_map(|l| l.cache_bytes);
    if cache.clone().count() > 1 {
        let (most, least) = cache.fold((0.0_f64, f64::MAX), |(m, l), c| (m.max(c.mean), l.min(c.mean)));
        all.push((format!("The cache goes from {} to {}.", Bytes(most as u64), Bytes(least as u64)), ink));
    }
    all
}
