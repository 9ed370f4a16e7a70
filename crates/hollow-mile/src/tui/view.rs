//! What a place is: the trait that each implements.

use super::action::{Action, Binding};
use super::canvas::{Framing, Sight};
use super::jobs::Jobs;
use super::requests::command;
use super::state::State;
use crossterm::event::{Event, KeyEvent};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// A run that a place has at hand, to be opened or exported: its number, the lane, and how it is framed.
pub(crate) struct AtHand {
    pub(crate) run: i64,
    pub(crate) lane: usize,
    pub(crate) framing: Framing,
}

/// What a place is. What it does not have is left as it stands here.
pub(crate) trait View: Sync {
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
        command(state, mile_runner::Command::Note(said));
    }
}
