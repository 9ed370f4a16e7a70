//! What the benchmarks need of the screens.

use crate::tui;
use mile_core::{Sample, Trace};
use mile_runner::RunHead;
use std::path::PathBuf;

/// A terminal of a given size that shows a run.
pub struct Screen {
    screen: tui::Screen,
}

impl Screen {
    /// Opens the findings of `samples` at `width` by `height` cells.
    pub fn findings(samples: &[Sample], head: RunHead, width: u16, height: u16) -> Self {
        let trace = Trace::of(samples, &head.first().leg_names());
        Self { screen: tui::Screen::findings(trace, head, PathBuf::new(), width, height) }
    }

    /// Opens a run that was read, and whose findings are still being looked for.
    pub fn read(trace: Trace, head: RunHead, width: u16, height: u16) -> Self {
        Self { screen: tui::Screen::read(trace, head, PathBuf::new(), width, height) }
    }

    /// Shows a run underway with the samples of each lane of `head`, the lanes below each other on one clock.
    pub fn underway(head: RunHead, lanes: &[&[Sample]], width: u16, height: u16) -> Self {
        Self { screen: tui::Screen::underway(head, lanes, width, height) }
    }

    /// Gives it another size.
    pub fn resize(&mut self, width: u16, height: u16) {
        self.screen.resize(width, height);
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
