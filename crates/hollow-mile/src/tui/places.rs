//! The places, one module each, and what they share: the sentence line and the lines of breaks.

mod bench;
mod course;
mod fill;
mod findings;
mod health;
mod logbook;
mod readings;
mod underway;

use super::canvas::{glyph, numeral};
use super::state::{Place, State};
use super::theme::Theme;
use crate::figure::title;
use mile_core::findings::Break;
use mile_core::units::number;
use mile_core::{Bytes, Nanos};
use mile_runner::Speed;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// The sentence line: what is going on, and at its right what it is about.
pub(crate) fn sentence(state: &State) -> (String, String) {
    match state.place {
        Place::Bench => {
            let count = |n: usize, what: &str| match n {
                0 => format!("No {what} drive"),
                1 => format!("One {what} drive"),
                n => format!("{n} {what} drives"),
            };
            let simulated = state.bench.cards.iter().filter(|c| c.identity.simulated).count();
            let real = state.bench.cards.len() - simulated;
            let text = match real {
                0 => format!("{}, and any file on a mounted file system.", count(simulated, "simulated")),
                _ => format!(
                    "{}, {}, and any file on a mounted file system.",
                    count(real, "real"),
                    count(simulated, "simulated").to_lowercase()
                ),
            };
            (text, if state.is_demo { "Lantern Shoal, the demo bench".into() } else { String::new() })
        }
        Place::Course => {
            let place = &state.course;
            let name = match place.checked.name.as_str() {
                "" => "The course".to_owned(),
                name => format!("The course \"{name}\""),
            };
            let file = place.file.as_ref().map_or(String::new(), |f| format!(", {}", f.display()));
            let changed = if place.changed { ", not written to a file" } else { "" };
            let doing = if place.editing {
                "What you type goes into it; esc ends that."
            } else {
                "i changes it, n begins with another, s starts it."
            };
            (format!("{name}{file}{changed}. {doing}"), String::new())
        }
        Place::Fill => fill::sentence(&state.findings),
        Place::Underway => match &state.live {
            None => ("No run is underway. Start one from the bench (1).".into(), String::new()),
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
                let pace = match state.speed {
                    Speed::Times(x)
                        if live.head.first().drive.simulated && !live.is_over() && (x - 1.0).abs() > 1e-9 =>
                    {
                        format!(", {x} times real time")
                    }
                    _ => String::new(),
                };
                (text, format!("{}{pace}", live.head.models()))
            }
        },
        Place::Findings => match (&state.findings.shown, state.findings.loading) {
            (_, Some(run)) => (format!("Reading run {run} …"), String::new()),
            (None, None) => ("No run is open. Open one from the logbook (7).".into(), String::new()),
            (Some(shown), None) => {
                let text = format!(
                    "Run {}, {}: {}, {} moved in {}.",
                    shown.run,
                    title(&shown.head, shown.lane),
                    shown.status.words(),
                    shown.trace.moved(shown.trace.len()),
                    shown.trace.end(shown.trace.len())
                );
                match shown.head.lanes.len() {
                    0 | 1 => (text, shown.head.first().situation.line()),
                    n => (text, format!("lane {} of {n}, ] shows the next", shown.lane + 1)),
                }
            }
        },
        Place::Health => match (&state.health.drive, &state.health.shown) {
            (None, _) => ("No drive is selected. Select one on the bench (1).".into(), String::new()),
            (Some(drive), None) => (format!("Asking {drive} …"), String::new()),
            (Some(_), Some(shown)) => {
                let id = &shown.card.identity;
                let serial = id.serial.as_ref().map_or(String::new(), |s| format!(", serial {s}"));
                let words = match shown.card.health.as_ref().map(|h| h.warnings.len()) {
                    Some(0) => "It warns of nothing.",
                    Some(_) => "It warns of itself.",
                    None => "It tells nothing of its health.",
                };
                (format!("{}{serial}. {words}", id.model), id.name.clone())
            }
        },
        Place::Logbook => {
            let (all, seen) = (state.logbook.entries.len(), state.logbook.visible().len());
            let text = match (all, seen) {
                (0, _) => "The logbook has no run yet. Start one from the bench (1).".into(),
                (all, seen) if seen < all => format!("{seen} of {all} runs match."),
                (1, _) => "One run.".into(),
                (all, _) => format!("{all} runs, the newest first."),
            };
            (text, state.logbook_path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned()))
        }
    }
}

/// Draws the place.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, state: &mut State) {
    state.canvas_area = Rect::default();
    state.cursor = None;
    match state.place {
        Place::Course => state.cursor = course::draw(buffer, area, state.theme, &mut state.course),
        Place::Fill => fill::draw(buffer, area, state.theme, &state.findings, &mut state.fill),
        Place::Bench => bench::draw(buffer, area, state.theme, &state.bench, &state.logbook.entries),
        Place::Underway => {
            state.canvas_area = underway::draw(buffer, area, state.theme, state.live.as_mut(), &state.others);
        }
        Place::Findings => state.canvas_area = findings::draw(buffer, area, state.theme, &mut state.findings),
        Place::Health => health::draw(buffer, area, state.theme, &mut state.health),
        Place::Logbook => logbook::draw(buffer, area, state.theme, &state.logbook),
    }
}

/// A break in one line: number, where, from what to what, why, how sure.
pub(crate) fn break_line(index: usize, b: &Break, width: u16) -> String {
    let place = format!("{}, {}", Bytes(b.at_bytes), Nanos::from_secs(b.at_s));
    let rates = format!("{} → {} MB/s", number(b.from_mb_s), number(b.to_mb_s));
    let why = format!("{} {}, {:.2} sure", glyph(b.cause), b.cause.words(), b.confidence);
    if width < 100 {
        format!("{} {place}  {rates}  {why}", numeral(index))
    } else {
        format!("{} {place:<24} {rates:<22} {why}", numeral(index))
    }
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
        buffer.set_stringn(row.x, row.y, text, usize::from(row.width), *style);
    }
    if cut && fit > 0 {
        let more = format!("… {} more", all.len() - (fit - 1));
        buffer.set_stringn(area.x, area.bottom() - 1, more, usize::from(area.width), theme.faint());
    }
}
