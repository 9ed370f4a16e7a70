//! What the benchmarks need of the screens.

use crate::tui;
use mile_core::{Sample, Trace};
use mile_runner::RunHead;
use std::path::PathBuf;

/// A terminal of a given size that shows the findings of a run.
pub struct FindingsScreen {
    screen: tui::Screen,
}

impl FindingsScreen {
    /// Opens the findings of `samples` at `width` by `height` cells.
    pub fn new(samples: &[Sample], head: RunHead, width: u16, height: u16) -> Self {
        let trace = Trace::of(samples, &head.first().leg_names());
        Self { screen: tui::Screen::findings(trace, head, PathBuf::new(), width, height) }
    }

    /// Goes to the map of the run's surface.
    pub fn show_surface(&mut self) {
        self.screen.show_surface();
    }

    /// Draws one frame whole, and gives the number of cells that are not blank.
    pub fn draw(&mut self) -> usize {
        self.screen.draw()
    }
}
