//! The places: the trait that each implements, the list of all of them, and what several share.
//!
//! The header, the digits, the footer, the help, the mouse and the command line take what they show from here, so that another place is a file
//! with an implementation of [`View`] and a line in [`ALL`].

mod bench;
mod compare;
mod course;
mod fill;
mod findings;
mod fleet;
mod health;
mod logbook;
mod readings;
mod surface;
mod underway;

use super::canvas::{Framing, Sight, glyph};
use super::jobs::Jobs;
use super::keys::{Action, Binding};
use super::state::State;
use super::theme::Theme;
use crate::tui::put::Put;
use crossterm::event::{Event, KeyEvent};
use mile_core::findings::Break;
use mile_core::units::number;
use mile_core::{Bytes, Nanos};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

pub(crate) use bench::PLACE as BENCH;
pub(crate) use compare::PLACE as COMPARE;
pub(crate) use course::PLACE as COURSE;
pub(crate) use fill::PLACE as FILL;
pub(crate) use findings::PLACE as FINDINGS;
pub(crate) use fleet::PLACE as FLEET;
pub(crate) use health::{PLACE as HEALTH, Strips, news};
pub(crate) use logbook::PLACE as LOGBOOK;
pub(crate) use surface::PLACE as SURFACE;
pub(crate) use underway::PLACE as UNDERWAY;

/// All places, in the order of the work; the first ten have a digit, the tenth of them 0.
pub(crate) const ALL: &[Place] =
    &[BENCH, COURSE, UNDERWAY, FINDINGS, FILL, HEALTH, LOGBOOK, SURFACE, COMPARE, FLEET];

/// A place, known by its name.
#[derive(Clone, Copy)]
pub(crate) struct Place(&'static dyn View);

impl PartialEq for Place {
    fn eq(&self, other: &Self) -> bool {
        self.name() == other.name()
    }
}

impl std::fmt::Debug for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name())
    }
}

impl Place {
    pub(crate) fn view(self) -> &'static dyn View {
        self.0
    }

    pub(crate) fn name(self) -> &'static str {
        self.0.name()
    }

    fn at(self) -> usize {
        ALL.iter().position(|p| *p == self).unwrap_or(0)
    }

    /// The digit that leads there.
    pub(crate) fn key(self) -> usize {
        (self.at() + 1) % 10
    }

    /// The place so many further on, from the last to the first.
    pub(crate) fn after(self, by: usize) -> Self {
        ALL[(self.at() + by) % ALL.len()]
    }
}

/// A run that a place has at hand, to be opened or exported: its number, the lane, and how it is framed.
pub(crate) struct AtHand {
    pub(crate) run: i64,
    pub(crate) lane: usize,
    pub(crate) framing: Framing,
}

/// What a place is. What it does not have is left as it stands here.
pub(crate) trait View: Sync {
    /// Its name in the header.
    fn name(&self) -> &'static str;

    /// What going there is called in the help and on the command line: `go to the bench`.
    fn way(&self) -> &'static str;

    /// What it shows and how to read it, for the help.
    fn about(&self) -> &'static str;

    /// The sentence line: what is going on, and at its right what it is about.
    fn sentence(&self, state: &State) -> (String, String);

    /// Its keys, in groups; the first that fits counts.
    fn keys(&self) -> &'static [&'static [Binding]];

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State);

    /// Whether an action that only some of its contents have would do something now.
    fn can_do(&self, _state: &State, _action: Action) -> bool {
        true
    }

    /// What it needs when it is come to.
    fn arrive(&self, _state: &mut State, _jobs: &Jobs) {}

    /// Whether what is typed goes into it, and is no command.
    fn is_typed_into(&self, _state: &State) -> bool {
        false
    }

    /// A key that is typed into it.
    fn typed(&self, _state: &mut State, _event: &Event, _key: KeyEvent) {}

    /// A text that is pasted into it. Gives whether it took it as a whole; else its letters are typed.
    fn pasted(&self, _state: &mut State, _text: &str) -> bool {
        false
    }

    /// Selects a line that was clicked on. Gives whether it was selected already.
    fn select(&self, _state: &mut State, _line: usize) -> bool {
        false
    }

    /// What is selected in it, as text for the clipboard; else the sentence is taken.
    fn copied(&self, _state: &State) -> Option<String> {
        None
    }

    /// Goes so many lines down, or up.
    fn step(&self, _state: &mut State, _by: isize) {}

    /// Does something with a canvas of its own that has no framing. Gives whether it did.
    fn canvas(&self, _state: &mut State, _action: Action) -> bool {
        false
    }

    /// Does something with the framing of its canvas.
    fn with_framing(&self, _state: &mut State, _change: &mut dyn FnMut(&mut Framing, &Sight<'_>)) {}

    /// Turns a ruler that is not that of a canvas; gives whether it has one.
    fn turn_ruler(&self, _state: &mut State) -> bool {
        false
    }

    /// Selects another break: the next or the one before.
    fn step_break(&self, _state: &mut State, _by: isize) {}

    /// Shows the next lane of its run; gives whether there is one.
    fn next_lane(&self, _state: &mut State, _jobs: &Jobs) -> bool {
        false
    }

    /// The run that can be opened or exported from it.
    fn at_hand(&self, _state: &State) -> Option<AtHand> {
        None
    }

    /// Takes in a note that was typed.
    fn note(&self, state: &mut State, _jobs: &Jobs, said: String) {
        super::update::command(state, mile_runner::Command::Note(said));
    }
}

/// A line or an item `by` further on, of `count`.
pub(super) fn step(at: usize, by: isize, count: usize) -> usize {
    at.saturating_add_signed(by).min(count.saturating_sub(1))
}

/// The break `by` further on, of `count`; the first or the last where none is selected.
fn step_selected(at: Option<usize>, by: isize, count: usize) -> Option<usize> {
    match (at, count) {
        (_, 0) => None,
        (None, _) => Some(if by > 0 { 0 } else { count - 1 }),
        (Some(at), _) => Some(step(at, by, count)),
    }
}

/// Draws the place.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, state: &mut State) {
    state.canvas_area = Rect::default();
    state.lines.clear();
    state.cursor = None;
    state.place.view().draw(buffer, area, state);
    // The stretch that would be zoomed to, on the row of the breaks.
    if let Some(drag) = state.drag {
        let (from, to) = (drag.from.min(drag.to), drag.from.max(drag.to));
        let row = Rect { x: from, y: state.canvas_area.y, width: to - from + 1, height: 1 };
        buffer.set_style(row.intersection(state.canvas_area), Style::new().add_modifier(Modifier::REVERSED));
    }
}

/// A break in one line: number, where, from what to what, why, how sure.
pub(crate) fn break_line(index: usize, b: &Break, width: u16) -> String {
    let place = format!("{}, {}", Bytes(b.at_bytes), Nanos::from_secs(b.at_s));
    let rates = format!("{} → {} MB/s", number(b.from_mb_s), number(b.to_mb_s));
    if width < 100 {
        // What the figure is stands in the ledger below.
        let sure = 100.0 * b.confidence;
        format!("{:>2}  {place}  {rates}  {} {}, {sure:.0} %", index + 1, glyph(b.cause), b.cause.words())
    } else {
        let why = format!("{} {}", glyph(b.cause), b.verdict());
        format!("{:>2}  {place:<24} {rates:<22} {why}", index + 1)
    }
}

/// Lines of text without their styles.
fn text_of(all: &[(String, Style)]) -> String {
    all.iter().map(|(text, _)| format!("{}\n", text.trim_end())).collect()
}

/// Draws lines of text, and says at the last row how many did not fit.
pub(crate) fn lines(buffer: &mut Buffer, area: Rect, theme: Theme, all: &[(String, Style)]) {
    let fit = usize::from(area.height);
    let cut = all.len() > fit;
    for (i, (text, style)) in all.iter().take(if cut { fit.saturating_sub(1) } else { fit }).enumerate() {
        let row = Rect { y: area.y + i as u16, height: 1, ..area };
        // A selected line is seen over its whole width.
        if style.bg.is_some() || style.add_modifier.contains(Modifier::REVERSED) {
            buffer.set_style(row, *style);
        }
        buffer.put(row.x, row.y, text, usize::from(row.width), *style);
    }
    if cut && fit > 0 {
        let more = format!("… {} more", all.len() - (fit - 1));
        buffer.put(area.x, area.bottom() - 1, more, usize::from(area.width), theme.faint());
    }
}
