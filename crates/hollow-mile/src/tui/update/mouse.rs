//! The mouse: places in the header, the cursor and a stretch to zoom to on a canvas, lines of lists, and the wheel.

use super::act::{act, come_to};
use crate::tui::action::Action;
use crate::tui::jobs::Jobs;
use crate::tui::places::view;
use crate::tui::state::{Drag, State};
use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};

/// Cells that a stretch must have to be zoomed to: less is a click with an unsteady hand.
const LEAST_DRAG: u16 = 3;

pub(super) fn mouse(state: &mut State, jobs: &Jobs, event: MouseEvent) {
    if state.overlay.is_some() {
        return;
    }
    let on_canvas = state.drawn.canvas_area.contains((event.column, event.row).into());
    match event.kind {
        MouseEventKind::ScrollUp if on_canvas => wheel(state, event.column, 0.8),
        MouseEventKind::ScrollDown if on_canvas => wheel(state, event.column, 1.25),
        MouseEventKind::ScrollUp => act(state, jobs, Action::Up),
        MouseEventKind::ScrollDown => act(state, jobs, Action::Down),
        MouseEventKind::Down(MouseButton::Left) => {
            state.drawn.drag = on_canvas.then_some(Drag { from: event.column, to: event.column });
            press(state, jobs, event, on_canvas);
        }
        MouseEventKind::Drag(MouseButton::Left) => {
            let area = state.drawn.canvas_area;
            if let Some(drag) = &mut state.drawn.drag {
                drag.to = event.column.clamp(area.x, area.right().saturating_sub(1));
                let to = drag.to;
                view(state.place).with_framing(state, &mut |framing, sight| framing.point(sight, area, to));
            }
        }
        MouseEventKind::Up(MouseButton::Left) => {
            let area = state.drawn.canvas_area;
            if let Some(drag) = state.drawn.drag.take().filter(|d| d.from.abs_diff(d.to) >= LEAST_DRAG) {
                let stretch = [drag.from.min(drag.to), drag.from.max(drag.to)];
                view(state.place)
                    .with_framing(state, &mut |framing, sight| framing.show(sight, area, stretch));
            }
        }
        _ => {}
    }
}

/// Shows more or less of the ruler around where the mouse is.
fn wheel(state: &mut State, column: u16, factor: f64) {
    let area = state.drawn.canvas_area;
    view(state.place).with_framing(state, &mut |framing, sight| {
        let before = framing.cursor;
        framing.point(sight, area, column);
        framing.zoom(sight, factor);
        framing.cursor = before;
    });
}

fn press(state: &mut State, jobs: &Jobs, event: MouseEvent, on_canvas: bool) {
    if event.row == 0 {
        let hit =
            state.drawn.place_spans.iter().find(|(_, span)| span.contains(&event.column)).map(|(p, _)| *p);
        if let Some(place) = hit {
            come_to(state, jobs, place);
        }
        return;
    }
    if on_canvas {
        let area = state.drawn.canvas_area;
        view(state.place).with_framing(state, &mut |framing, sight| framing.point(sight, area, event.column));
        return;
    }
    let line = state
        .drawn
        .lines
        .iter()
        .find(|(rows, columns, _)| rows.contains(&event.row) && columns.contains(&event.column));
    if let Some((.., index)) = line.cloned() {
        // A second click on a line opens it.
        if view(state.place).select(state, index) {
            act(state, jobs, Action::Open);
        }
    }
}
