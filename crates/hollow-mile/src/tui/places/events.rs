//! All that happened in a run, in the order in which it did: the run underway, or the one that is open.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas::Framing;
use super::super::jobs::Jobs;
use super::super::lines::step;
use super::super::place::{FINDINGS, UNDERWAY};
use super::super::requests;
use super::super::state::{EventsPlace, Line, State, Wanted, Which};
use super::super::theme::Theme;
use super::super::view::{AtHand, View};
use crate::text::event_line_of;
use crate::tui::put::Put;
use crate::wrap::wrap;
use crossterm::event::KeyCode::{Char, Enter};
use mile_core::Trace;
use mile_runner::{Event, EventKind};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

const KEYS: &[Binding] = &[
    bind(
        "enter",
        &[Enter],
        Action::Open,
        "show there",
        "put the cursor on the terrain at the selected event",
    ),
    bind(
        "f",
        &[Char('f')],
        Action::Filter,
        "filter",
        "show all events, or only legs, what went wrong, or notes",
    ),
    bind("]", &[Char(']')], Action::NextLane, "next lane", "show the next lane of a run on several drives"),
];

/// Rows below the list for the whole of the selected event.
const WHOLE: u16 = 4;

pub(super) struct Events;

/// The events of a run: each with the lane that it is of.
struct Told<'a> {
    run: String,
    /// The names of all lanes, where the events are of several.
    names: Vec<&'a str>,
    events: Vec<(usize, &'a Event)>,
}

/// Whether an event is one of these.
fn is_of(which: Which, kind: &EventKind) -> bool {
    use EventKind as K;
    match which {
        Which::All => true,
        Which::Legs => matches!(kind, K::LegBegan { .. } | K::LegEnded { .. } | K::WentOn { .. }),
        Which::Notes => matches!(kind, K::Note(_) | K::Asked(_) | K::Paused | K::Resumed),
        Which::Wrong => matches!(
            kind,
            K::Guard { .. }
                | K::Guarded(_)
                | K::Cooling { .. }
                | K::Error { .. }
                | K::PassedOver { .. }
                | K::Narrowed { .. }
                | K::PutOff { .. }
                | K::NotNarrowed(_)
                | K::RowsLeftOut(_)
                | K::MoreErrors(_)
                | K::SelfTest { passed: false, .. }
                | K::Faults(_)
                | K::Wrong(_)
                | K::Stall { .. }
                | K::Waiting { .. }
                | K::HealthChanged(_)
                | K::SensorLost
                | K::InstrumentLost { .. }
                | K::Failed(_)
                | K::Left { .. }
                | K::LogWaiting { .. }
                | K::LogAside { .. }
                | K::LogGap { .. }
        ),
    }
}

/// All events of the run that is shown here; `None` where there is none.
fn told(state: &State) -> Option<Told<'_>> {
    if state.events.is_live {
        let live = state.runs.live.as_ref()?;
        let names = live.head.lanes.iter().map(|l| l.name.as_str()).collect();
        let mut events: Vec<(usize, &Event)> = Vec::new();
        for (i, lane) in live.lanes().iter().enumerate() {
            events.extend(lane.events.iter().map(|e| (i, e)));
        }
        // Of two lanes that tell something at one time, the first comes first.
        events.sort_by_key(|(_, e)| e.at);
        return Some(Told { run: live.called(), names, events });
    }
    let shown = state.findings.shown.as_ref()?;
    let events = shown.events.iter().map(|e| (0, e)).collect();
    let lane = match shown.head.lanes.len() {
        0 | 1 => String::new(),
        _ => format!(" on {}", shown.head.lane(shown.lane).name),
    };
    Some(Told { run: format!("Run {}{lane}", shown.run), names: Vec::new(), events })
}

impl<'a> Told<'a> {
    /// Those that are shown.
    fn of(self, which: Which) -> Self {
        Self { events: self.events.into_iter().filter(|(_, e)| is_of(which, &e.kind)).collect(), ..self }
    }

    fn line(&self, (lane, event): (usize, &'a Event)) -> String {
        event_line_of(&self.names, lane, event)
    }
}

impl View for Events {
    fn way(&self) -> &'static str {
        "go to the events of the run"
    }

    fn about(&self) -> &'static str {
        "All that happened in a run, the oldest first: when, after how many bytes, and what. It is the run underway if you come from there, and else the run that is open. f shows the legs only, or what went wrong, or the notes. enter puts the cursor on the terrain where the selected event happened."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let Some(all) = told(state) else {
            return super::findings::Findings.sentence(state);
        };
        let count = |which| all.events.iter().filter(|(_, e)| is_of(which, &e.kind)).count();
        let events = match count(Which::All) {
            0 => "nothing has happened yet".to_owned(),
            1 => "1 event".to_owned(),
            n => format!("{n} events"),
        };
        let wrong = match count(Which::Wrong) {
            0 if state.events.is_live && state.runs.is_underway() => {
                "Nothing has gone wrong so far.".to_owned()
            }
            0 => "Nothing went wrong.".to_owned(),
            1 => "1 is about something that went wrong.".to_owned(),
            n => format!("{n} are about something that went wrong."),
        };
        let which = match state.events.which {
            Which::All => String::new(),
            which => format!("{} only, f shows more", which.word()),
        };
        (format!("{}: {events}. {wrong}", all.run), which)
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        state.drawn.lines = match told(state).map(|all| all.of(state.events.which)) {
            Some(all) => events(buffer, area, state.theme, &all, &state.events),
            None => Vec::new(),
        };
    }

    fn can_do(&self, state: &State, action: Action) -> bool {
        let several = state.findings.shown.as_ref().is_some_and(|s| s.head.lanes.len() > 1);
        // Of the run underway all lanes are shown.
        action != Action::NextLane || (several && !state.events.is_live)
    }

    /// The run underway if that is where one comes from, or where none is open; the newest of its events, and the first of a run that is over.
    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        let from = state.before.last() == Some(&UNDERWAY);
        state.events.is_live = state.runs.live.is_some() && (from || state.findings.is_empty());
        if !state.events.is_live {
            requests::show_something(state, jobs, Wanted::Any);
        }
        state.events.selected = if state.events.is_live { usize::MAX } else { 0 };
    }

    fn select(&self, state: &mut State, line: usize) -> bool {
        std::mem::replace(&mut state.events.selected, line) == line
    }

    fn step(&self, state: &mut State, by: isize) {
        let count = told(state).map_or(0, |all| all.of(state.events.which).events.len());
        let at = state.events.selected.min(count.saturating_sub(1));
        let to = step(at, by, count);
        // Whoever is at the newest event of a run underway stays at the newest.
        state.events.selected = if state.events.is_live && to + 1 >= count { usize::MAX } else { to };
    }

    fn next_lane(&self, state: &mut State, jobs: &Jobs) -> bool {
        !state.events.is_live && super::findings::Findings.next_lane(state, jobs)
    }

    fn canvas(&self, state: &mut State, action: Action) -> bool {
        match action {
            Action::Filter => {
                state.events.which = state.events.which.after();
                state.events.selected = if state.events.is_live { usize::MAX } else { 0 };
                true
            }
            Action::Open => show_there(state),
            _ => false,
        }
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        if state.events.is_live {
            super::underway::Underway.at_hand(state)
        } else {
            super::findings::Findings.at_hand(state)
        }
    }

    fn copied(&self, state: &State) -> Option<String> {
        let all = told(state)?.of(state.events.which);
        Some(all.events.iter().map(|e| all.line(*e)).collect::<Vec<_>>().join("\n"))
    }
}

/// Puts the cursor on the terrain at the selected event. Gives whether there is one.
fn show_there(state: &mut State) -> bool {
    let Some(all) = told(state).map(|all| all.of(state.events.which)) else { return false };
    let at = state.events.selected.min(all.events.len().saturating_sub(1));
    let Some((_, event)) = all.events.get(at) else { return false };
    let (bytes, seconds) = (event.bytes.0, event.at.secs());
    let put = |framing: &mut Framing, trace: &Trace| {
        framing.reset();
        framing.cursor = Some(framing.ruler.fitting(trace).place(trace, bytes, seconds));
    };
    if state.events.is_live {
        let Some(live) = &mut state.runs.live else { return false };
        let mut framing = live.framing;
        put(&mut framing, live.lane().findings.trace());
        live.framing = framing;
        state.go(UNDERWAY);
        return true;
    }
    let place = &mut state.findings;
    let Some(shown) = &place.shown else { return false };
    put(&mut place.framing, &shown.trace);
    state.go(FINDINGS);
    true
}

/// Draws the events so that the selected one is in view, and the whole of it below them; gives the lines that can be clicked on.
fn events(buffer: &mut Buffer, area: Rect, theme: Theme, all: &Told<'_>, place: &EventsPlace) -> Vec<Line> {
    let width = usize::from(area.width);
    if all.events.is_empty() {
        let none = match place.which {
            Which::All => "Nothing has happened yet.",
            Which::Legs => "No leg has begun. f shows other events.",
            Which::Wrong => "Nothing went wrong. f shows other events.",
            Which::Notes => "There is no note. n makes one in Underway; f shows other events.",
        };
        buffer.put(area.x, area.y, none, width, theme.faint());
        return Vec::new();
    }
    let selected = place.selected.min(all.events.len() - 1);
    let whole = wrap(&all.events[selected].1.kind.words(), width);
    let rows = usize::from(area.height.saturating_sub(WHOLE + 1).max(1));
    // The selected one in the middle, but for the ends of the list.
    let first = selected.saturating_sub(rows / 2).min(all.events.len().saturating_sub(rows));
    let mut lines = Vec::new();
    for (i, event) in all.events.iter().enumerate().skip(first).take(rows) {
        let y = area.y + (i - first) as u16;
        let style = match &event.1.kind {
            _ if i == selected => theme.selection(),
            kind if is_of(Which::Wrong, kind) => theme.strong(),
            EventKind::Fitted(_) | EventKind::Engine(_) => theme.faint(),
            _ => Style::new().fg(theme.ink),
        };
        let row = Rect { y, height: 1, ..area };
        if i == selected {
            buffer.set_style(row, style);
        }
        buffer.put(area.x, y, all.line(*event), width, style);
        lines.push((y..y + 1, area.x..area.right(), i));
    }
    // What the line of the selected event has no room for.
    if whole.len() > 1 || all.line(all.events[selected]).chars().count() > width {
        let y = area.bottom().saturating_sub(WHOLE);
        for (i, line) in whole.iter().take(usize::from(WHOLE)).enumerate() {
            buffer.put(area.x, y + i as u16, line, width, Style::new().fg(theme.ink));
        }
    }
    lines
}
