//! The places: the list of all of them.
//!
//! The header, the digits, the footer, the help, the mouse and the command line take what they show from here, so that another place is a file
//! with an implementation of [`View`], its name in `place.rs`, and a line in [`VIEWS`].

mod bench;
mod compare;
mod course;
mod events;
mod fill;
mod findings;
mod fleet;
mod health;
mod logbook;
mod readings;
mod surface;
mod underway;

use super::action::Action;
use super::place::{
    BENCH, COMPARE, COURSE, EVENTS, FILL, FINDINGS, FLEET, HEALTH, LOGBOOK, Place, SURFACE, UNDERWAY,
};
use super::state::State;
use super::view::View;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// What each place is.
const VIEWS: [(Place, &dyn View); super::place::ALL.len()] = [
    (BENCH, &bench::Bench),
    (COURSE, &course::Course),
    (UNDERWAY, &underway::Underway),
    (FINDINGS, &findings::Findings),
    (FILL, &fill::Fill),
    (HEALTH, &health::Health),
    (LOGBOOK, &logbook::Logbook),
    (SURFACE, &surface::OfSurface),
    (COMPARE, &compare::Compare),
    (FLEET, &fleet::FleetView),
    (EVENTS, &events::Events),
];

/// What a place is.
pub(crate) fn view(place: Place) -> &'static dyn View {
    VIEWS.iter().find(|v| v.0 == place).unwrap_or(&VIEWS[0]).1
}

/// Whether an action that only some runs have would do something here; all others are taken to.
pub(crate) fn can_do(state: &State, action: Action) -> bool {
    match action {
        Action::NextRun => !state.runs.others.is_empty(),
        _ => view(state.place).can_do(state, action),
    }
}

/// Draws the place.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, state: &mut State) {
    state.drawn.canvas_area = Rect::default();
    state.drawn.lines.clear();
    state.drawn.cursor = None;
    view(state.place).draw(buffer, area, state);
    // The stretch that would be zoomed to, on the row of the breaks.
    if let Some(drag) = state.drawn.drag {
        let (from, to) = (drag.from.min(drag.to), drag.from.max(drag.to));
        let row = Rect { x: from, y: state.drawn.canvas_area.y, width: to - from + 1, height: 1 };
        buffer.set_style(
            row.intersection(state.drawn.canvas_area),
            Style::new().add_modifier(Modifier::REVERSED),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_place_is_in_the_list_once_and_in_order() {
        assert!(VIEWS.iter().map(|v| v.0).eq(crate::tui::place::ALL));
    }
}
