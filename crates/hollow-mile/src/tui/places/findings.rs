//! A finished run: the same canvas, its breaks, the evidence under the selected one, its and a panel of figures: plateaus, heat, claims,
//! what to run next.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas;
use super::super::canvas::{Framing, Sight};
use super::super::jobs::Jobs;
use super::super::lines::{break_line, lines};
use super::super::place::{FILL, LOGBOOK};
use super::super::requests;
use super::super::state::State;
use super::super::state::{FindingsPlace, Line, Panel, Shown, Wanted};
use super::super::theme::Theme;
use super::super::view::AtHand;
use super::super::view::View;
use super::readings;
use crate::figure::title;
use crate::tui::put::Put;
use crate::wrap::wrap;
use crossterm::event::KeyCode::{Char, PageDown, PageUp};
use mile_core::copies::{CopyFound, HeldBy};
use mile_core::findings::{Break, Cause, Dip};
use mile_core::units::number;
use mile_core::{Bytes, LegName, Nanos};
use mile_runner::{EventKind, Status};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Cells of the column of plateaus and heat.
const SIDE: u16 = 58;
/// Characters of a line that is copied.
const COPIED: u16 = 120;
/// Breaks that are listed at a time.
const LISTED: usize = 5;

const KEYS: &[Binding] = &[
    bind("e", &[Char('e')], Action::Export, "export", "write an SVG and a PDF of the run as it is framed"),
    action::REPORT,
    bind("p", &[Char('p')], Action::NextPanel, "panel", "turn the panel of figures"),
    bind("pgdn", &[PageDown], Action::PageDown, "more", "go on in the lines below the terrain"),
    bind("pgup", &[PageUp], Action::PageUp, "", "go back in the lines below the terrain"),
    bind("n", &[Char('n')], Action::NoteBreak, "note", "note something on the selected break"),
    bind("g", &[Char('g')], Action::StartNext, "run next", "start the run that would settle the break"),
    bind(
        "o",
        &[Char('o')],
        Action::OtherSide,
        "other side",
        "run this course again with one thing changed, and compare",
    ),
];

pub(super) struct Findings;

impl View for Findings {
    fn way(&self) -> &'static str {
        "go to the findings"
    }

    fn about(&self) -> &'static str {
        "What a run shows. Each break, a lasting change of the rate, has a number, the rates before and after it, its most likely cause and how sure that is. Under the selected break stands the evidence: points for a cause (+) and against it (−). The panel shows plateaus, heat, claims, or the run that would settle what is not sure; p turns it."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        match (&state.findings.shown, state.findings.loading) {
            (_, Some(run)) => match &state.findings.early {
                Some(early) if early.run == run => {
                    let samples = mile_core::units::thousands(&early.trace.len().to_string());
                    (
                        format!("Run {run}: looking for breaks in {samples} samples … esc gives it up."),
                        String::new(),
                    )
                }
                _ => (format!("Reading run {run} … esc gives it up."), String::new()),
            },
            (None, None) => {
                (format!("No run is open. Open one from the logbook ({}).", LOGBOOK.key()), String::new())
            }
            (Some(shown), None) => {
                let text = format!(
                    "Run {}, {}: {}, {} moved in {}.",
                    shown.run,
                    title(&shown.head, shown.lane),
                    shown.status.words(),
                    shown.trace.moved(shown.trace.len()),
                    shown.trace.end(shown.trace.len())
                );
                match shown.head.lanes.len() {
                    _ if state.findings.following.is_some() => {
                        (text, "so far; it is looked at again every few seconds".into())
                    }
                    0 | 1 => (text, shown.head.first().situation.line()),
                    n => (text, format!("lane {} of {n}, ] shows the next", shown.lane + 1)),
                }
            }
        }
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::CANVAS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        (state.drawn.canvas_area, state.drawn.lines) =
            findings(buffer, area, state.theme, &mut state.findings);
    }

    fn select(&self, state: &mut State, line: usize) -> bool {
        state.findings.selected = Some(line);
        false
    }

    fn can_do(&self, state: &State, action: Action) -> bool {
        let several = state.findings.shown.as_ref().is_some_and(|s| s.head.lanes.len() > 1);
        action != Action::NextLane || several
    }

    fn with_framing(&self, state: &mut State, change: &mut dyn FnMut(&mut Framing, &Sight<'_>)) {
        let mut framing = state.findings.framing;
        if let Some(sight) = state.findings.sight() {
            change(&mut framing, &sight);
        }
        state.findings.framing = framing;
    }

    /// The selected break with its evidence, and the panel.
    fn copied(&self, state: &State) -> Option<String> {
        let place = &state.findings;
        let shown = place.shown.as_ref()?;
        let mut all = vec![(self.sentence(state).0, Style::new())];
        if let Some((i, b)) = place.selected.and_then(|i| Some((i, shown.findings.breaks.get(i)?))) {
            all.push((break_line(i, b, COPIED), Style::new()));
            all.push((format!("    {}", b.bounds()), Style::new()));
            all.extend(evidence(shown, b, state.theme, usize::from(COPIED)));
        }
        all.push((String::new(), Style::new()));
        let panel = panel(shown, place.panel, place.selected, state.theme, usize::from(SIDE));
        all.extend(panel.into_iter().skip(1));
        Some(crate::tui::lines::text_of(&all))
    }

    fn step_break(&self, state: &mut State, by: isize) {
        let count = state.findings.shown.as_ref().map_or(0, |s| s.findings.breaks.len());
        state.findings.selected = crate::tui::lines::step_selected(state.findings.selected, by, count);
    }

    fn next_lane(&self, state: &mut State, jobs: &Jobs) -> bool {
        let Some(shown) = state.findings.shown.as_ref().filter(|s| s.head.lanes.len() > 1) else {
            return false;
        };
        state.findings.loading = Some(shown.run);
        let reading = jobs.load(&state.setup.logbook_path, shown.run, shown.lane + 1);
        state.wait_for(reading);
        true
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        requests::show_something(state, jobs, Wanted::Any);
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        let shown = state.findings.shown.as_ref()?;
        Some(AtHand { run: shown.run, lane: shown.lane, framing: state.findings.framing })
    }

    fn note(&self, state: &mut State, jobs: &Jobs, said: String) {
        requests::note_break(state, jobs, said);
    }
}

/// Draws the place, and gives where the canvas is, and the lines that can be clicked on: the breaks.
fn findings(buffer: &mut Buffer, area: Rect, theme: Theme, place: &mut FindingsPlace) -> (Rect, Vec<Line>) {
    let mut framing = place.framing;
    if let Some(early) = place.early.as_ref().filter(|e| place.loading == Some(e.run)) {
        let mut framing = Framing::on(framing.ruler);
        canvas::draw(buffer, area, theme, &mut framing, &early.sight());
        return Default::default();
    }
    let Some(sight) = place.sight() else {
        let hint = "7 goes to the logbook; enter there opens the selected run.";
        buffer.put(area.x, area.y + 1, hint, usize::from(area.width), theme.faint());
        return Default::default();
    };
    let Some(shown) = &place.shown else { return Default::default() };
    let newest = match shown.status {
        Status::Underway => readings::Newest::SoFar,
        _ => readings::Newest::End,
    };
    let wide = area.width >= 110;
    let left = if wide { area.width - SIDE - 3 } else { area.width };
    // What is to be read first, so that the terrain has all the rows that it leaves.
    let mut all = Vec::new();
    if !wide {
        all.push((readings::line(&framing, &sight, newest), theme.faint()));
    }
    // On a narrow screen the panel takes the place of the evidence.
    if wide || place.panel == Panel::Plateaus {
        all.extend(explained(shown, place.selected, theme, usize::from(left)));
    }
    let mut side =
        panel(shown, place.panel, place.selected, theme, usize::from(if wide { SIDE } else { left }));
    if !wide {
        all.append(&mut side);
    }
    let most = if wide { (area.height * 2 / 5).max(10) } else { (area.height / 2).clamp(6, 10) };
    let below = (all.len().max(side.len()) as u16).clamp(6, most);
    let above = area.height - below - 1;
    let beside = if wide { readings::WIDTH + 1 } else { 0 };
    let canvas_area = Rect { width: area.width - beside, height: above, ..area };
    canvas::draw(buffer, canvas_area, theme, &mut framing, &sight);
    if wide {
        let column = Rect { x: canvas_area.right() + 1, width: readings::WIDTH, ..canvas_area };
        readings::draw(buffer, column, theme, &framing, &sight, newest);
    }
    let foot = Rect { y: area.bottom() - below, height: below, ..area };
    let height = usize::from(foot.height);
    // Both go on together, each as far as it has lines.
    let from = |rows: &[(String, Style)]| place.scroll.min(rows.len().saturating_sub(height));
    let mut furthest = from(&all);
    lines(buffer, Rect { width: left, ..foot }, theme, &all[from(&all)..]);
    if wide {
        // The names of the panels stay.
        let (names, rest) = side.split_at(side.len().min(1));
        let skip = place.scroll.min((rest.len() + 1).saturating_sub(height));
        let side = [names, &rest[skip..]].concat();
        lines(buffer, Rect { x: foot.x + left + 3, width: SIDE, ..foot }, theme, &side);
        furthest = furthest.max(skip);
    }
    // The breaks stand first, below the readings of a narrow screen.
    let first = first_listed(place.selected, shown.findings.breaks.len());
    let above = usize::from(!wide);
    let clickable = (0..shown.findings.breaks.len().min(LISTED)).filter_map(|i| {
        let row = (above + i).checked_sub(place.scroll.min(all.len().saturating_sub(height)))? as u16;
        let y = foot.y + row;
        (y < foot.bottom()).then(|| (y..y + 1, foot.x..foot.x + left, first + i))
    });
    let clickable = if wide || place.panel == Panel::Plateaus { clickable.collect() } else { Vec::new() };
    place.scroll = furthest;
    place.framing = framing;
    (canvas_area, clickable)
}

/// The first of the breaks that are listed, some of many around the selected one.
fn first_listed(selected: Option<usize>, count: usize) -> usize {
    selected.unwrap_or(0).saturating_sub(LISTED / 2).min(count.saturating_sub(LISTED))
}

/// The breaks, with the evidence of the selected one, notes, and what to run next.
fn explained(shown: &Shown, selected: Option<usize>, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let mut all = Vec::new();
    if shown.findings.breaks.is_empty() {
        all.push(("No break in the rate was found.".to_owned(), ink));
    }
    // Some of many, around the selected one; the evidence of that below all of them.
    let breaks = &shown.findings.breaks;
    let first = first_listed(selected, breaks.len());
    for (i, b) in breaks.iter().enumerate().skip(first).take(LISTED) {
        let chosen = selected == Some(i);
        let style = if chosen { theme.selection().fg(theme.ink).add_modifier(Modifier::BOLD) } else { ink };
        all.push((break_line(i, b, width as u16), style));
    }
    if breaks.len() > LISTED {
        all.push((
            format!("  {} to {} of {} breaks", first + 1, first + LISTED, breaks.len()),
            theme.faint(),
        ));
    }
    if let Some((i, b)) = selected.and_then(|i| Some((i, breaks.get(i)?))) {
        // Below the list, where the line above it is mostly that of another break.
        let place = format!("  break {}, {}", i + 1, b.bounds());
        all.extend(wrap(&place, width).into_iter().map(|l| (l, theme.faint())));
        all.extend(evidence(shown, b, theme, width));
    }
    // What no break tells.
    let is_alone =
        |d: &&Dip| d.cause.is_some_and(|c| c != Cause::Unexplained && breaks.iter().all(|b| b.cause != c));
    for dip in shown.findings.dips.iter().filter(is_alone).take(4) {
        all.extend(wrap(&crate::text::dips(dip), width).into_iter().map(|l| (l, ink)));
        for reason in crate::text::reasons(dip) {
            all.extend(wrap(&format!("    {reason}"), width).into_iter().map(|l| (l, ink)));
        }
    }
    let told = shown.events.iter().filter_map(|e| match &e.kind {
        EventKind::Note(text) => Some(format!("Note at {}, {}: {text}", e.bytes, e.at)),
        EventKind::Fitted(text) => Some(text.clone()),
        EventKind::Failed(_)
        | EventKind::Guard { .. }
        | EventKind::BreakJoined(..)
        | EventKind::BreakWithdrawn(_) => Some(format!("{}.", e.kind.words())),
        _ => None,
    });
    let notes: Vec<String> = told.chain(shown.findings.notes.iter().cloned()).collect();
    if !notes.is_empty() {
        all.push((String::new(), ink));
    }
    for note in notes {
        all.extend(wrap(&note, width).into_iter().map(|l| (l, theme.faint())));
    }
    all
}

/// What was noted on a break, and what speaks for and against its cause.
fn evidence(shown: &Shown, b: &Break, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let mut all = Vec::new();
    let on_it = shown.events.iter().filter(|e| e.bytes.0 == b.at_bytes).filter_map(|e| match &e.kind {
        EventKind::Note(text) => Some(format!("    noted {text}")),
        _ => None,
    });
    all.extend(on_it.flat_map(|text| wrap(&text, width)).map(|l| (l, ink)));
    for account in b.ledger() {
        let style = if account.candidate.cause == b.cause { ink } else { theme.faint() };
        all.extend(wrap(&format!("  {}", account.head()), width).into_iter().map(|l| (l, style)));
        for line in account.lines() {
            all.extend(wrap(&format!("    {line}"), width).into_iter().map(|l| (l, style)));
        }
    }
    all.extend(b.capped().map(|words| (format!("  {words}"), theme.faint())));
    all
}

/// The panel beside the breaks, under the names of all of them.
fn panel(
    shown: &Shown,
    which: Panel,
    selected: Option<usize>,
    theme: Theme,
    width: usize,
) -> Vec<(String, Style)> {
    let names: Vec<String> = Panel::ALL
        .iter()
        .map(|p| if *p == which { format!("[{}]", p.word()) } else { p.word().to_owned() })
        .collect();
    let mut all = vec![(format!("{}   p", names.join(" · ")), theme.faint())];
    all.extend(match which {
        Panel::Plateaus => plateaus(shown, theme),
        Panel::Heat => heat(shown, theme, width),
        Panel::Claims => claims(shown, theme, width),
        Panel::Next => next(shown, selected, theme, width),
    });
    all
}

/// What would settle the selected break, or the least sure one: why, and the course.
fn next(shown: &Shown, selected: Option<usize>, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let Some(step) = shown.findings.next_step_for(selected) else {
        return vec![("Every break is sure enough: nothing is left to be settled.".to_owned(), ink)];
    };
    let mut all: Vec<(String, Style)> = wrap(&step.text, width).into_iter().map(|l| (l, ink)).collect();
    if let Some(course) = &step.course {
        all.push(("g starts this course:".into(), theme.faint()));
        all.extend(course.lines().filter(|l| !l.is_empty()).map(|l| (format!("  {l}"), ink)));
    }
    all
}

/// Each claim beside what was measured, and what could excuse the difference.
fn claims(shown: &Shown, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let stated = stated(shown, theme, width);
    if shown.findings.claims.is_empty() {
        if !stated.is_empty() {
            return stated;
        }
        return wrap("Nothing is claimed of this drive's rates, or no leg measured them.", width)
            .into_iter()
            .map(|l| (l, ink))
            .collect();
    }
    let head = format!("{:<22} {:>10} {:>10} {:>6}", "MB/s", "measured", "claimed", "%");
    let mut all = vec![(head, theme.faint())];
    for c in &shown.findings.claims {
        let (measured, claimed) = (number(c.measured_mb_s), number(c.claimed_mb_s));
        all.push((format!("{:<22} {measured:>10} {claimed:>10} {:>6.0}", c.what, c.percent), ink));
        let excuses = c.excuses.iter().flat_map(|e| wrap(&format!("  {e}"), width));
        all.extend(excuses.map(|l| (l, theme.faint())));
    }
    all.extend(stated);
    all
}

/// Claims with their conditions, and what was measured under these.
fn stated(shown: &Shown, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let mut all = Vec::new();
    for c in &shown.findings.stated_claims {
        let percent = c.percent.map_or(String::new(), |p| format!(", {p:.0} %"));
        let text = format!(
            "{}: {} {}, claimed {}{percent}: {}",
            c.what,
            c.measured_words(),
            c.unit,
            c.claimed_words(),
            c.verdict()
        );
        all.extend(wrap(&text, width).into_iter().map(|l| (l, ink)));
        let none = c.offer.as_ref().map(|_| "no leg ran under these conditions".to_owned());
        let below = c.excuses.iter().cloned().chain(none);
        all.extend(below.flat_map(|e| wrap(&format!("  {e}"), width)).map(|l| (l, theme.faint())));
    }
    all
}

/// Temperature over the run, where it leads, and what throttling cost.
fn heat(shown: &Shown, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let found = &shown.findings;
    let Some(t) = &found.thermal else {
        return wrap("No temperature was read: nothing is known of heat, and causes are less sure.", width)
            .into_iter()
            .map(|l| (l, ink))
            .collect();
    };
    let mut all: Vec<(String, Style)> = Vec::new();
    let mut fact = |name: &str, value: String| all.push((format!("{name:<17} {value}"), ink));
    fact("lowest to highest", format!("{:.0} to {:.0} °C, {:.1} on average", t.min_c, t.max_c, t.mean_c));
    if let Some(rise) = t.rise_over_ambient_c {
        fact("over ambient", format!("{rise:.0} °C at the most"));
    }
    if let Some(margin) = t.margin_to_warn_c {
        let word = if margin >= 0.0 { "below" } else { "above" };
        fact("margin", format!("{:.0} °C {word} the warning limit", margin.abs()));
    }
    match (t.settles_at_c, t.settles_low_c, t.settles_high_c, t.time_constant_s) {
        (Some(at), Some(low), Some(high), Some(tau)) => {
            fact("settles at", format!("{at:.1} °C ({low:.1} to {high:.1})"));
            fact("time constant", Nanos::from_secs(tau).to_string());
            if let Some(from) = t.settles_known_from_s {
                fact("known to 2 °C", format!("from {} on", Nanos::from_secs(from)));
            }
        }
        _ => fact("settles at", "not told: too short, too level, or too slow".into()),
    }
    if let Some(at) = t.settles_at_25_ambient_c.or(t.max_at_25_ambient_c) {
        let which = if t.settles_at_25_ambient_c.is_some() { "settles at" } else { "at most" };
        fact("at 25 °C ambient", format!("{which} {at:.1} °C"));
    }
    if let Some(ambient) = t.throttles_above_ambient_c {
        fact("throttles", format!("from an ambient of {ambient:.0} °C on"));
    }
    for e in found.throttling.episodes.iter().take(6) {
        let (from, length) = (Nanos::from_secs(e.start_s), Nanos::from_secs(e.end_s - e.start_s));
        let onset = e.onset_c.map_or(String::new(), |t| format!(" at {t:.0} °C"));
        fact("throttled", format!("{length} from {from}{onset}"));
        fact("  rate", format!("{} instead of {} MB/s", number(e.during_mb_s), number(e.before_mb_s)));
    }
    if let Some(more) = found.throttling.episodes.len().checked_sub(6).filter(|more| *more > 0) {
        fact("throttled", format!("{more} times more"));
    }
    if found.throttling.lost_bytes > 0 {
        fact("  lost to it", Bytes(found.throttling.lost_bytes).to_string());
    }
    if !found.phases.is_empty() {
        all.push((
            format!("{:<10} {:>12} {:>12} {:>16}", "phase", "from", "to", "°C from, to"),
            theme.faint(),
        ));
    }
    for p in found.phases.iter().take(12) {
        let (from, to) = (Nanos::from_secs(p.start_s).to_string(), Nanos::from_secs(p.end_s).to_string());
        all.push((format!("{:<10} {from:>12} {to:>12} {:>9.0} → {:>3.0}", p.kind, p.start_c, p.end_c), ink));
    }
    all
}

/// A copy: its stretches, what held each back, and what each side could have done.
fn copied(copy: &CopyFound, theme: Theme) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let head = format!(
        "{}: {} from {} to {}, {} MB/s",
        copy.leg,
        Bytes(copy.bytes),
        copy.from,
        copy.to,
        number(copy.mb_s)
    );
    let columns =
        format!("{:>10} {:>11} {:>6} {:<14} {:>11}", "from", "to", "MB/s", "held back by", "other waits");
    let mut all = vec![(head, ink), (columns, theme.faint())];
    for p in &copy.phases {
        let (by, waits) = match p.held_by {
            HeldBy::Source => ("source", p.target_waited),
            HeldBy::SourceLink => ("source's link", p.target_waited),
            HeldBy::Target => ("target", p.source_waited),
            HeldBy::TargetLink => ("target's link", p.source_waited),
            HeldBy::Neither => ("neither", p.source_waited.max(p.target_waited)),
        };
        let [from, to] = [p.from_s, p.to_s].map(|s| Nanos::from_secs(s).to_string());
        all.push((
            format!("{from:>10} {to:>11} {:>6} {by:<14} {:>9.0} %", number(p.mb_s), 100.0 * waits),
            ink,
        ));
        all.extend(p.why.map(|w| (format!("{:>29} {}", "", w.words()), ink)));
    }
    for (name, could) in [(&copy.from, &copy.source_could), (&copy.to, &copy.target_could)] {
        all.extend(
            could
                .as_ref()
                .map(|c| (format!("{name} alone: {} MB/s, {}", number(c.mb_s), c.words()), theme.faint())),
        );
    }
    all.push((String::new(), ink));
    all
}

/// Plateaus, cache, dips, and how evenly each leg ran.
fn plateaus(shown: &Shown, theme: Theme) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let found = &shown.findings;
    let mut all: Vec<(String, Style)> = Vec::new();
    if found.fill.is_some() {
        let key = FILL.key();
        all.push((format!("Its figures against fill level are in place {key}."), ink));
        all.push((String::new(), ink));
    }
    for copy in &shown.copies {
        all.extend(copied(copy, theme));
    }
    let files = crate::tables::files_narrow(&found.leg_table, usize::from(SIDE));
    if !files.is_empty() {
        let style = |l: &str| if l.starts_with(' ') { ink } else { theme.faint() };
        all.extend(files.into_iter().map(|l| (l.clone(), style(&l))));
        let sides = crate::tables::slower_sides(&found.leg_table);
        all.extend(sides.iter().flat_map(|l| wrap(l, usize::from(SIDE))).map(|l| (l, ink)));
        all.push((String::new(), ink));
    }
    let sweeps = crate::text::sweeps::sweeps(found, usize::from(SIDE));
    if !sweeps.is_empty() {
        // Tables are as wide as the panel, sentences may be longer.
        all.extend(sweeps.iter().flat_map(|l| wrap(l, usize::from(SIDE))).map(|l| (l, ink)));
        all.push((String::new(), ink));
    }
    all.extend(vec![(format!("{:<20} {:>9} {:>9} {:>16}", "plateau", "from", "to", "MB/s"), theme.faint())]);
    for p in &found.plateaus {
        let deviation = p.sd_mb_s.map_or("   –".into(), |sd| format!("±{:>6}", number(sd)));
        let rate = format!("{:>7} {deviation:<7}", number(p.mean_mb_s));
        let whole = format!("{}, {}", p.leg, p.op.word());
        let name = if whole.chars().count() > 20 { LegName::read(&p.leg).within(20) } else { whole };
        all.push((
            format!(
                "{name:<20} {:>9} {:>9} {rate:>16}",
                Bytes(p.start_bytes).to_string(),
                Bytes(p.end_bytes).to_string()
            ),
            ink,
        ));
    }
    all.push((String::new(), ink));
    let mut fact = |name: &str, value: String| all.push((format!("{name:<16} {value}"), ink));
    if let Some(c) = &found.cache {
        fact(
            "write cache",
            format!("{} ({} to {})", Bytes(c.bytes), Bytes(c.low_bytes), Bytes(c.high_bytes)),
        );
    }
    if found.throttling.lost_bytes > 0 {
        fact("lost to heat", format!("{} (panel heat)", Bytes(found.throttling.lost_bytes)));
    }
    for d in found.dips.iter().take(4) {
        let period = Nanos::from_secs(d.period_s);
        fact("dips", format!("every {period}, {}", d.measure()));
        d.verdict().into_iter().for_each(|v| fact("", v));
    }
    for i in found.interference.iter().take(4) {
        let (from, to) = (Nanos::from_secs(i.start_s), Nanos::from_secs(i.end_s));
        fact("left out", format!("{from} to {to}: {}", crate::text::disturbance(&i.kind)));
    }
    let even: Vec<_> = found.legs.iter().filter_map(|l| Some((l, l.consistency?))).take(8).collect();
    if !even.is_empty() {
        all.push((String::new(), ink));
        let head = format!(
            "{:<14} {:>9} {:>7} {:>7} {:>6} {:>9}",
            "MB/s", "1st tenth", "last", "varies", "level", "worst 1 s"
        );
        all.push((head, theme.faint()));
    }
    for (leg, c) in even {
        let name = LegName::read(&leg.leg).within(14);
        let (first, last) = (number(c.first_tenth_mb_s), number(c.last_tenth_mb_s));
        let line = format!(
            "{name:<14} {first:>9} {last:>7} {:>5.1} % {:>4.0} % {:>9}",
            c.variation_pct,
            c.on_plateau_pct,
            number(c.worst_second_mb_s)
        );
        all.push((line, ink));
    }
    all
}
