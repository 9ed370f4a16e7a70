//! The run as it goes on: terrain and strips, readings, what just happened.

use super::super::canvas;
use super::super::state::Live;
use super::super::theme::Theme;
use super::{break_line, lines, readings};
use crate::text::event_line;
use mile_runner::EventKind;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Draws the place, and gives where the canvas is.
pub(super) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, live: Option<&mut Live>) -> Rect {
    let Some(live) = live else {
        let hint = "1 goes to the bench; s there starts a run on the selected drive.";
        buffer.set_stringn(area.x, area.y + 1, hint, usize::from(area.width), theme.faint());
        return Rect::default();
    };
    let below = (area.height / 4).clamp(3, 11);
    let above = area.height - below - 1;
    let wide = area.width >= 110;
    let side = if wide { readings::WIDTH + 1 } else { 0 };
    let canvas_area = Rect { width: area.width - side, height: above, ..area };
    let mut framing = live.framing;
    let scene = live.scene();
    canvas::draw(buffer, canvas_area, theme, &mut framing, &scene);
    let going = !live.is_over();
    if wide {
        let column = Rect { x: canvas_area.right() + 1, width: readings::WIDTH, ..canvas_area };
        readings::draw(buffer, column, theme, &framing, &scene, going);
    }
    let mut all: Vec<(String, Style)> = Vec::new();
    if !wide {
        all.push((readings::line(&framing, &scene, going), theme.faint()));
    }
    for (i, b) in scene.breaks.iter().enumerate() {
        let style = if live.selected == Some(i) { theme.selection() } else { Style::new().fg(theme.ink) };
        let evidence = b
            .evidence
            .iter()
            .find(|e| e.supports && e.cause == b.cause)
            .map_or(String::new(), |e| format!("   {}", e.text));
        all.push((format!("{}{evidence}", break_line(i, b, area.width)), style));
    }
    if scene.breaks.is_empty() && going {
        all.push(("No break in the rate so far.".into(), theme.faint()));
    }
    // The newest of what happened fills what is left; breaks are above already.
    let room = usize::from(below).saturating_sub(all.len());
    let happened: Vec<_> = live
        .events
        .iter()
        .filter(|e| !matches!(e.kind, EventKind::BreakSeen(_) | EventKind::BreakRevised(_)))
        .collect();
    for e in happened.iter().skip(happened.len().saturating_sub(room)) {
        all.push((event_line(e), theme.faint()));
    }
    lines(buffer, Rect { y: area.bottom() - below, height: below, ..area }, theme, &all);
    live.framing = framing;
    canvas_area
}
