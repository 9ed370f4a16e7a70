//! How the picture is framed, and what there is to draw.

use super::picture::MARGIN;
use mile_core::findings::Break;
use mile_core::ruler::{Ruler, Window};
use mile_core::scene::Subject;
use mile_core::trace::Trace;
use ratatui::layout::Rect;

/// How the picture is framed: kept by the place that shows it.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Framing {
    pub(crate) ruler: Ruler,
    /// The part of the ruler that is shown; all of it where it is `None`.
    pub(super) window: Option<Window>,
    /// Position of the cursor on the ruler.
    pub(crate) cursor: Option<f64>,
    /// Cells that the last picture was wide.
    pub(super) width: u16,
}

/// What there is to draw.
#[derive(Clone, Copy)]
pub(crate) struct Sight<'a> {
    pub(crate) subject: Subject<'a>,
    /// Where the road is planned to end, in bytes: it is drawn ahead of a live run.
    pub(crate) planned: Option<f64>,
    /// The break that is selected.
    pub(crate) selected: Option<usize>,
}

impl Sight<'_> {
    /// The whole of the ruler.
    fn whole(&self, ruler: Ruler) -> Window {
        let end = ruler.end(self.subject.trace);
        let planned = if ruler == Ruler::Bytes { self.planned.unwrap_or(0.0) } else { 0.0 };
        Window { from: 0.0, to: end.max(planned).max(1.0) }
    }
}

impl Framing {
    /// All of a ruler.
    pub(crate) fn on(ruler: Ruler) -> Self {
        Self { ruler, ..Self::default() }
    }

    /// A part of a ruler, or all of it.
    pub(crate) fn framed(ruler: Ruler, window: Option<Window>) -> Self {
        Self { ruler, window, ..Self::default() }
    }

    /// The ruler that shows something, and the part of it that is shown.
    pub(crate) fn resolve(&self, sight: &Sight<'_>) -> (Ruler, Window) {
        let ruler =
            if sight.planned.is_some() { self.ruler } else { self.ruler.fitting(sight.subject.trace) };
        (ruler, self.window.unwrap_or_else(|| sight.whole(ruler)))
    }

    /// The part that is shown, where it is not all.
    pub(crate) fn window(&self) -> Option<Window> {
        self.window
    }

    /// Turns the ruler; the picture shows all of the other, the cursor stays at its sample.
    pub(crate) fn turn(&mut self, trace: &Trace) {
        let sample = self.cursor.map(|c| self.ruler.sample(trace, c));
        self.ruler = self.ruler.next(trace);
        self.window = None;
        self.cursor = sample.map(|s| self.ruler.at(trace, s));
    }

    /// Moves the cursor by cells; it appears at the middle. The picture follows it beyond its edges.
    pub(crate) fn step(&mut self, sight: &Sight<'_>, cells: f64) {
        let (_, window) = self.resolve(sight);
        let cell = (window.to - window.from) / f64::from(self.width.max(1));
        let whole = sight.whole(self.ruler);
        let from = self.cursor.unwrap_or(f64::midpoint(
            window.from,
            window.to.min(self.ruler.end(sight.subject.trace).max(1.0)),
        ));
        // On the middle of a cell, so that it does not jump between two.
        let at = ((from - window.from) / cell).floor() + 0.5 + cells;
        let to = (window.from + at * cell)
            .clamp(whole.from, self.ruler.end(sight.subject.trace).clamp(1.0, whole.to) - cell * 0.01);
        self.cursor = Some(to);
        if let Some(window) = &mut self.window {
            let shift = (to - window.to).max(0.0) + (to - window.from).min(0.0);
            window.from += shift;
            window.to += shift;
        }
    }

    /// Puts the cursor at a cell of the last picture's row.
    pub(crate) fn point(&mut self, sight: &Sight<'_>, area: Rect, column: u16) {
        let inside = column.checked_sub(area.x + MARGIN).filter(|c| *c < self.width);
        if let Some(cell) = inside {
            let (_, window) = self.resolve(sight);
            let at =
                window.from + (window.to - window.from) * (f64::from(cell) + 0.5) / f64::from(self.width);
            self.cursor = Some(at.min(self.ruler.end(sight.subject.trace)));
        }
    }

    /// Shows the stretch between two columns of the screen, of a picture in an area.
    pub(crate) fn show(&mut self, sight: &Sight<'_>, area: Rect, columns: [u16; 2]) {
        let (ruler, window) = self.resolve(sight);
        let at = |column: u16| {
            let cell = f64::from(column.saturating_sub(area.x + MARGIN).min(self.width));
            window.from + (window.to - window.from) * cell / f64::from(self.width.max(1))
        };
        let whole = sight.whole(ruler);
        let (from, to) = (at(columns[0]), at(columns[1] + 1));
        let width = (to - from).max(least(ruler)).min(whole.to - whole.from);
        let from = from.clamp(whole.from, whole.to - width);
        self.window = Some(Window { from, to: from + width });
        self.cursor = None;
    }

    /// Shows less or more of the ruler, around the cursor or the middle. Showing all of it again follows a live run.
    pub(crate) fn zoom(&mut self, sight: &Sight<'_>, factor: f64) {
        let (ruler, window) = self.resolve(sight);
        let whole = sight.whole(ruler);
        let centre = self.cursor.unwrap_or(f64::midpoint(window.from, window.to));
        let width = (window.to - window.from) * factor;
        if width >= whole.to {
            self.window = None;
            return;
        }
        let width = width.max(least(ruler));
        let share = ((centre - window.from) / (window.to - window.from)).clamp(0.0, 1.0);
        let from = (centre - width * share).clamp(0.0, whole.to - width);
        self.window = Some(Window { from, to: from + width });
    }

    /// Puts the cursor at a break, and brings it into view.
    pub(crate) fn show_break(&mut self, sight: &Sight<'_>, b: &Break) {
        let (ruler, _) = self.resolve(sight);
        let at = ruler.place(sight.subject.trace, b.at_bytes, b.at_s);
        self.cursor = Some(at);
        if let Some(window) = &mut self.window
            && !(window.from..window.to).contains(&at)
        {
            let half = (window.to - window.from) / 2.0;
            *window = Window { from: (at - half).max(0.0), to: (at - half).max(0.0) + 2.0 * half };
        }
    }

    /// All of the ruler, and no cursor.
    pub(crate) fn reset(&mut self) {
        (self.window, self.cursor) = (None, None);
    }
}

/// The least of a ruler that is shown: 1 MB, or 0.1 s.
fn least(ruler: Ruler) -> f64 {
    match ruler {
        Ruler::Bytes | Ruler::Address => 1e6,
        Ruler::Time => 1e8,
    }
}
