//! Runs of the logbook held against each other: what differs between the sides, and each figure on both.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas::banks;
use super::super::jobs::Jobs;
use super::super::lines::lines;
use super::super::place::LOGBOOK;
use super::super::requests;
use super::super::state::{ComparePlace, State};
use super::super::theme::Theme;
use super::super::view::View;
use crate::text::{letter, numbers, value, verdict, with_interval};
use crate::tui::put::Put;
use crate::wrap::wrap;
use crossterm::event::KeyCode::Char;
use mile_core::compare::{Compared, Comparison};
use mile_core::ruler::Ruler;
use mile_core::units::number;
use mile_figures::LegWalks;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Columns from which intervals of both sides and percents stand beside the difference.
const WIDE: u16 = 140;

const KEYS: &[Binding] = &[
    bind("r", &[Char('r')], Action::Report, "report", "write a report of both sides as a PDF"),
    bind(
        "x",
        &[Char('x')],
        Action::TurnRuler,
        "rates",
        "show the rates of both sides along time, bytes, addresses",
    ),
    bind("c", &[Char('c')], Action::Compare, "again", "compare again as the logbook is marked now"),
];

/// Characters of a line that is copied.
const COPIED: u16 = 157;

/// Rows of the sides on one ruler, at the least and at the most.
const LEAST_BANKS: u16 = 9;
const MOST_BANKS: u16 = 20;

pub(super) struct Compare;

impl View for Compare {
    fn way(&self) -> &'static str {
        "go to the comparison of runs"
    }

    fn about(&self) -> &'static str {
        "Two groups of runs, figure by figure, each with its 95 % interval. A difference is called established when chance alone would seldom show one as large. What else differed between the groups stands first, as that may be the reason."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let place = &state.compare;
        let text = match &place.found {
            _ if place.asked.is_some() => "Comparing … esc gives it up.".to_owned(),
            None => format!(
                "Nothing is compared yet. In the logbook ({}) a and b mark runs for either side, and c compares them. With one side marked it is held against what is claimed.",
                LOGBOOK.key()
            ),
            Some(Err(_)) => "These runs cannot be compared.".to_owned(),
            Some(Ok(found)) => {
                let differs = match found.differs.len() {
                    0 => "no known condition differs".to_owned(),
                    1 => differs(&found.differs[0].what),
                    n => format!("{n} conditions differ"),
                };
                format!("{}; {differs}.", found.answer())
            }
        };
        (text, String::new())
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        let marked = state.logbook.sides.iter().any(|s| !s.is_empty());
        if marked && state.compare.of != state.logbook.sides {
            requests::compare(state, jobs);
        }
    }

    fn copied(&self, state: &State) -> Option<String> {
        let Some(Ok(found)) = &state.compare.found else { return None };
        Some(crate::tui::lines::text_of(&table(found, COPIED, state.theme)))
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        let place = &mut state.compare;
        let found = match &place.found {
            None => return,
            Some(Ok(found)) => found,
            Some(Err(why)) => {
                let ink = Style::new().fg(state.theme.ink);
                let text = wrap(&format!("{why}."), usize::from(area.width));
                let rows: Vec<(String, Style)> = text.into_iter().map(|line| (line, ink)).collect();
                return lines(buffer, area, state.theme, &rows);
            }
        };
        let all = table(found, area.width, state.theme);
        let length = |leg: &&LegWalks| leg.window.to - leg.window.from;
        let shown = place.walks.get(place.ruler).map_or(&[][..], Vec::as_slice);
        let loaded = shown.iter().filter(|leg| leg.sides.iter().any(|s| !s.rate.is_empty()));
        let most = loaded.max_by(|a, b| length(a).total_cmp(&length(b)));
        // The rows that are free show the sides on one ruler; where that is asked for, half of them do.
        let free = area.height.saturating_sub(all.len() as u16 + 1);
        let room = if place.wants_rates { free.max(area.height / 2) } else { free };
        let height = if most.is_some() && room >= LEAST_BANKS { room.min(MOST_BANKS) } else { 0 };
        place.shows_rates = height > 0;
        let above = Rect { height: area.height - height, ..area };
        let last = all.len().saturating_sub(usize::from(above.height));
        place.scroll = place.scroll.min(last);
        lines(buffer, above, state.theme, &all[place.scroll..]);
        if let Some(leg) = most.filter(|_| height > 0) {
            let [a, b, ..] = leg.sides.as_slice() else { return };
            let page = Rect { y: above.bottom(), height, ..area };
            let from = if leg.ruler == Ruler::Address { "by address" } else { "from its start on" };
            let words = format!("{}, {from}: {}, above; {}, below", leg.leg, a.name, b.name);
            buffer.put(page.x, page.y, words, usize::from(page.width), state.theme.faint());
            let below = Rect { y: page.y + 1, height: height - 1, ..page };
            banks(buffer, below, state.theme, (leg.ruler, leg.window), [&a.rate, &b.rate]);
        }
    }

    fn turn_ruler(&self, state: &mut State) -> bool {
        let place = &mut state.compare;
        if place.walks.is_empty() {
            state.complain("No leg has rates on both sides.");
            return true;
        }
        // Behind the last ruler they go where there is no room for them.
        if place.shows_rates {
            place.ruler += 1;
        } else if std::mem::replace(&mut place.wants_rates, true) {
            state.complain("There is no room for the rates here, or no leg has them on both sides.");
            return true;
        }
        if place.ruler >= place.walks.len() {
            (place.ruler, place.wants_rates) = (0, false);
        }
        true
    }

    fn step(&self, state: &mut State, by: isize) {
        let place: &mut ComparePlace = &mut state.compare;
        place.scroll = crate::tui::lines::step(place.scroll, by, 10_000);
    }
}

/// That something differs: `cooling differs`, `notes differ`.
fn differs(what: &str) -> String {
    format!("{what} {}", if what.ends_with('s') { "differ" } else { "differs" })
}

/// The comparison in lines, as wide as there is room.
fn table(found: &Comparison, width: u16, theme: Theme) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let mut all: Vec<(String, Style)> = Vec::new();
    for (i, side) in found.sides.iter().enumerate() {
        let runs = if side.runs.is_empty() { side.name.clone() } else { side.runs.join(", ") };
        all.push((format!("{}  {runs}", letter(i)), theme.strong()));
    }
    if !found.differs.is_empty() {
        all.push((String::new(), ink));
        for d in &found.differs {
            let each: Vec<String> =
                d.values.iter().enumerate().map(|(i, v)| format!("{} {v}", letter(i))).collect();
            all.push((format!("{}: {}", differs(&d.what), each.join("; ")), ink));
        }
    }
    let mut last = None;
    let reasons = found.reasons();
    for f in &found.figures {
        if last.replace((f.leg.as_str(), f.b_side)) != Some((f.leg.as_str(), f.b_side)) {
            all.push((String::new(), ink));
            all.push((head(&f.leg, width), theme.faint()));
        }
        let mut said = match (width >= WIDE, &f.why_not) {
            (true, _) => verdict(f),
            (false, Some(_)) => "no test".to_owned(),
            (false, None) => if f.established { "yes" } else { "no" }.to_owned(),
        };
        if let Some(place) = reasons.iter().position(|r| Some(*r) == f.why_not) {
            said.push_str(&format!(" ({})", place + 1));
        }
        all.push((row(f, &said, width), if f.established { theme.strong() } else { ink }));
    }
    all.push((String::new(), ink));
    all.extend(
        reasons.iter().enumerate().map(|(i, why)| (format!("({}) {}", i + 1, why.words()), theme.faint())),
    );
    if found.figures.iter().any(|f| f.name.unit == "°C") {
        let at = number(found.reference_ambient_c);
        all.push((
            format!("Temperatures are given at {at} °C ambient where the ambient is known."),
            theme.faint(),
        ));
    }
    let tested = found.tested().0;
    if tested > 0 {
        let text = format!(
            "Means with 95 % intervals. Established: p, corrected for {tested} figures, is at most 0.05."
        );
        all.push((text, theme.faint()));
    }
    all.extend(found.notes.iter().map(|n| (n.clone(), theme.faint())));
    all
}

fn head(leg: &str, width: u16) -> String {
    if width >= WIDE {
        let leg: String = leg.chars().take(26).collect();
        format!(
            "{leg:<26} {:>24} {:>24} {:>7} {:>26} {:>20}  established",
            "A", "B", "n", "B less A", "percent"
        )
    } else {
        let leg: String = leg.chars().take(20).collect();
        format!("{leg:<20} {:>8} {:>8} {:>24}  established", "A", "B", "B less A")
    }
}

fn row(f: &Compared, said: &str, width: u16) -> String {
    let name = format!("{}, {}", f.name.figure, f.name.unit);
    let difference = with_interval(f.difference, f.difference_low, f.difference_high);
    if width >= WIDE {
        let n = numbers(f);
        let percent = f.percent.map_or(String::new(), |p| with_interval(p, f.percent_low, f.percent_high));
        format!(
            "{name:<26} {:>24} {:>24} {n:>7} {difference:>26} {percent:>20}  {said}",
            value(&f.a),
            value(&f.b)
        )
    } else {
        format!("{name:<20} {:>8} {:>8} {difference:>24}  {said}", number(f.a.mean), number(f.b.mean))
    }
}
