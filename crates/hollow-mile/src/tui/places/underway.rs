//! The run as it goes on: terrain and strips, readings, what just happened.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas::{self, LaneSight};
use super::super::canvas::{Framing, Sight};
use super::super::jobs::Jobs;
use super::super::lines::{break_line, lines};
use super::super::place::BENCH;
use super::super::state::Live;
use super::super::state::State;
use super::super::theme::Theme;
use super::super::view::AtHand;
use super::super::view::View;
use super::readings;
use crate::figure::what;
use crate::text::event_line_of;
use crate::tui::put::Put;
use crossterm::event::KeyCode::{Char, Enter};
use mile_core::Nanos;
use mile_core::channel::Series;
use mile_core::pyramid::Extent;
use mile_runner::Speed;
use mile_runner::{Event, EventKind};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

const KEYS: &[Binding] = &[
    bind("space", &[Char(' ')], Action::Pause, "pause", "pause the run, or go on"),
    bind("n", &[Char('n')], Action::Note, "note", "note something in the log"),
    bind("S", &[Char('S')], Action::SkipLeg, "skip leg", "skip the rest of this leg and go on with the next"),
    bind("X", &[Char('X')], Action::Stop, "stop", "stop the run"),
    bind("enter", &[Enter], Action::Open, "findings", "open the findings of the run, so far or complete"),
    bind("r", &[Char('r')], Action::NextRun, "next run", "show the next of the runs underway"),
    bind("e", &[Char('e')], Action::Export, "export", "write an SVG and a PDF of the run as it is framed"),
];

pub(super) struct Underway;

impl View for Underway {
    fn way(&self) -> &'static str {
        "go to the run underway"
    }

    fn about(&self) -> &'static str {
        "The run as it goes on. The terrain is the rate: high ground is fast. Below it, on the same ruler, lie the temperature with the limits of the drive, and the latency from its median (p50) to its 99th percentile (p99). A number over the terrain marks a break, a lasting change of the rate; a line below says why it happened and how sure that is."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        match &state.runs.live {
            None => {
                (format!("No run is underway. Start one from the bench ({}).", BENCH.key()), String::new())
            }
            Some(live) => {
                let text = match &live.outcome() {
                    Some(o) => format!(
                        "The run is {} after {}, {} moved.{}",
                        o.status.words(),
                        o.at,
                        o.bytes,
                        o.why.as_ref().map_or(String::new(), |w| format!(" {w}."))
                    ),
                    None => live.sentence(),
                };
                let pace = match live.pace {
                    Some(Speed::Times(x))
                        if live.head.first().drive.simulated && !live.is_over() && (x - 1.0).abs() > 1e-9 =>
                    {
                        format!(", {x} times real time")
                    }
                    _ => String::new(),
                };
                (text, format!("{}{pace}", live.head.models()))
            }
        }
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::CANVAS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        state.drawn.canvas_area =
            underway(buffer, area, state.theme, state.runs.live.as_mut(), &state.runs.others);
    }

    fn can_do(&self, state: &State, action: Action) -> bool {
        let several = state.runs.live.as_ref().is_some_and(|l| l.lanes().len() > 1);
        action != Action::NextLane || several
    }

    fn with_framing(&self, state: &mut State, change: &mut dyn FnMut(&mut Framing, &Sight<'_>)) {
        if let Some(live) = &mut state.runs.live {
            let mut framing = live.framing;
            change(&mut framing, &live.sight());
            live.framing = framing;
        }
    }

    fn step_break(&self, state: &mut State, by: isize) {
        if let Some(live) = &mut state.runs.live {
            live.selected =
                crate::tui::lines::step_selected(live.selected, by, live.lane().findings.breaks().len());
        }
    }

    fn next_lane(&self, state: &mut State, _: &Jobs) -> bool {
        let Some(live) = state.runs.live.as_mut().filter(|l| l.lanes().len() > 1) else { return false };
        live.next_lane();
        true
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        let live = state.runs.live.as_ref()?;
        Some(AtHand { run: live.number?, lane: live.at, framing: live.framing })
    }
}

/// Draws the place, and gives where the canvas is.
fn underway(buffer: &mut Buffer, area: Rect, theme: Theme, live: Option<&mut Live>, others: &[Live]) -> Rect {
    let Some(live) = live else {
        let hint = "1 goes to the bench; s there starts a run on the selected drive.";
        buffer.put(area.x, area.y + 1, hint, usize::from(area.width), theme.faint());
        return Rect::default();
    };
    let area = list(buffer, area, theme, live, others);
    let most = (area.height / 4).clamp(3, 11);
    let several = live.lanes().len() > 1;
    let stacked = live.is_stacked();
    let wide = area.width >= 110 && !stacked;
    let side = if wide { readings::WIDTH + 1 } else { 0 };
    let mut framing = live.framing;
    let newest = if live.is_over() { readings::Newest::End } else { readings::Newest::Now };
    let sight = live.sight();
    let mut all: Vec<(String, Style)> = Vec::new();
    if !wide {
        all.push((readings::line(&framing, &sight, newest), theme.faint()));
    }
    for (i, b) in sight.subject.breaks.iter().enumerate() {
        let style = if live.selected == Some(i) { theme.selection() } else { Style::new().fg(theme.ink) };
        let evidence = b.reason().map_or(String::new(), |text| format!("   {text}"));
        all.push((format!("{}{evidence}", break_line(i, b, area.width)), style));
    }
    if sight.subject.breaks.is_empty() && newest == readings::Newest::Now {
        let on = if several { format!(" on {}", live.head.lane(live.at).name) } else { String::new() };
        all.push((format!("No break in the rate{on} so far."), theme.faint()));
    }
    all.extend(beside(live).map(|text| (text, Style::new().fg(theme.ink))));
    // The newest of what happened fills what is left; breaks are above already.
    let room = usize::from(most).saturating_sub(all.len());
    let names: Vec<&str> = live.head.lanes.iter().map(|l| l.name.as_str()).collect();
    let mut happened: Vec<(Nanos, String)> = Vec::new();
    for (i, lane) in live.lanes().iter().enumerate() {
        let told = |e: &&Event| !matches!(e.kind, EventKind::BreakSeen(_) | EventKind::BreakRevised(_));
        // The newest, in the order in which they happened.
        let events: Vec<&Event> = lane.events.iter().rev().filter(told).take(usize::from(most)).collect();
        happened.extend(events.into_iter().rev().map(|e| (e.at, event_line_of(&names, i, e))));
    }
    happened.sort_by_key(|h| h.0);
    // The newest first.
    for (_, words) in happened.iter().rev().take(room) {
        all.push((words.clone(), theme.faint()));
    }
    // The terrain has all the rows that the lines leave.
    let below = (all.len() as u16).clamp(3, most);
    let above = area.height - below - 1;
    let canvas_area = Rect { width: area.width - side, height: above, ..area };
    if stacked {
        let of_lane = |i: usize| LaneSight {
            name: &live.head.lane(i).name,
            head: (what(live.head.lane(i)), now(live, i)),
            sight: live.sight_of(i),
        };
        let lanes: Vec<LaneSight<'_>> = (0..live.lanes().len()).map(of_lane).collect();
        canvas::draw_lanes(buffer, canvas_area, theme, &mut framing, (&lanes, live.at), &live.series);
    }
    if !stacked {
        canvas::draw(buffer, canvas_area, theme, &mut framing, &sight);
    }
    if wide {
        let column = Rect { x: canvas_area.right() + 1, width: readings::WIDTH, ..canvas_area };
        readings::draw(buffer, column, theme, &framing, &sight, newest);
    }
    lines(buffer, Rect { y: area.bottom() - below, height: below, ..area }, theme, &all);
    live.framing = framing;
    canvas_area
}

/// What a lane does now.
fn now(live: &Live, lane: usize) -> String {
    let of = &live.lanes()[lane];
    if let Some(outcome) = &of.outcome {
        return format!("{} after {}, {} moved", outcome.status.words(), outcome.at, outcome.bytes);
    }
    let rate = match of.progress.rate().filter(|_| of.progress.is_busy()) {
        Some(rate) => format!("now {rate}"),
        None => "no load".into(),
    };
    let trace = of.findings.trace();
    match of.temp.zip(trace.temp.extent(0, trace.len())) {
        Some((t, so_far)) => format!("{rate}, {t} ({})", readings::spread(so_far)),
        None => rate,
    }
}

/// What the instruments that measure temperatures beside the drives tell: the newest reading of each, its range and mean.
fn beside(live: &Live) -> Option<String> {
    let told = |(s, (min, max, sum)): (&Series, &(f64, f64, f64))| {
        let last = s.readings.last().filter(|_| s.channel.unit == "°C")?;
        let mean = sum / s.readings.len() as f64;
        let range = readings::spread(Extent { min: *min, mean, max: *max });
        let of = s.channel.of.map_or(String::new(), |of| format!("{} ", live.head.lane(of as usize).name));
        Some(format!("{of}{} {:.1} °C ({range})", s.channel.name, last.value))
    };
    let all: Vec<String> = live.series.iter().zip(&live.ranges).filter_map(told).collect();
    (!all.is_empty()).then(|| all.join("; "))
}

/// All runs underway, a line each, where there are several; gives what is left of the page.
fn list(buffer: &mut Buffer, area: Rect, theme: Theme, live: &Live, others: &[Live]) -> Rect {
    if others.is_empty() {
        return area;
    }
    let rows = (others.len() as u16 + 1).min(area.height / 4).max(1);
    for (i, run) in std::iter::once(live).chain(others).take(usize::from(rows)).enumerate() {
        let (mark, style) = if i == 0 { ("▸", theme.strong()) } else { (" ", Style::new().fg(theme.ink)) };
        let y = area.y + i as u16;
        let name = format!("{mark} {:<8} {:<20} {:<32} ", run.called(), run.head.course, run.head.models());
        let (x, _) = buffer.put(area.x, y, name, usize::from(area.width), style);
        let left = usize::from(area.right().saturating_sub(x));
        let (x, _) = buffer.put(x, y, run.miniature(12), left, Style::new().fg(theme.ground(run.op())));
        let left = usize::from(area.right().saturating_sub(x));
        let how = match run.outcome() {
            Some(outcome) => outcome.status.words().to_owned(),
            None => run.sentence(),
        };
        buffer.put(x, y, format!("  {how}"), left, theme.faint());
    }
    Rect { y: area.y + rows + 1, height: area.height.saturating_sub(rows + 1), ..area }
}
