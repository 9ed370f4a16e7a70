//! A finished run: the same canvas, its breaks, the evidence under the selected one, its plateaus, what to run next.

use super::super::canvas;
use super::super::draw::wrap;
use super::super::state::{FindingsPlace, Place, Shown};
use super::super::theme::Theme;
use super::{break_line, lines, readings};
use mile_core::units::number;
use mile_core::{Bytes, Nanos};
use mile_runner::EventKind;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Cells of the column of plateaus and heat.
const SIDE: u16 = 58;

/// Draws the place, and gives where the canvas is.
pub(super) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, place: &mut FindingsPlace) -> Rect {
    let mut framing = place.framing;
    let Some(scene) = place.scene() else {
        let hint = "7 goes to the logbook; enter there opens the selected run.";
        buffer.set_stringn(area.x, area.y + 1, hint, usize::from(area.width), theme.faint());
        return Rect::default();
    };
    let wide = area.width >= 110;
    let below = if wide { (area.height * 2 / 5).max(10) } else { (area.height / 2).clamp(6, 10) };
    let above = area.height - below - 1;
    let side = if wide { readings::WIDTH + 1 } else { 0 };
    let canvas_area = Rect { width: area.width - side, height: above, ..area };
    canvas::draw(buffer, canvas_area, theme, &mut framing, &scene);
    if wide {
        let column = Rect { x: canvas_area.right() + 1, width: readings::WIDTH, ..canvas_area };
        readings::draw(buffer, column, theme, &framing, &scene, false);
    }
    let foot = Rect { y: area.bottom() - below, height: below, ..area };
    if let Some(shown) = &place.shown {
        let left = if wide { foot.width - SIDE - 3 } else { foot.width };
        let mut all = Vec::new();
        if !wide {
            all.push((readings::line(&framing, &scene, false), theme.faint()));
        }
        all.extend(explained(shown, place.selected, theme, usize::from(left)));
        if !wide {
            all.extend(figures(shown, theme));
        }
        lines(buffer, Rect { width: left, ..foot }, theme, &all);
        if wide {
            lines(buffer, Rect { x: foot.x + left + 3, width: SIDE, ..foot }, theme, &figures(shown, theme));
        }
    }
    place.framing = framing;
    canvas_area
}

/// The breaks, with the evidence of the selected one, notes, and what to run next.
fn explained(shown: &Shown, selected: Option<usize>, theme: Theme, width: usize) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let mut all = Vec::new();
    if shown.findings.breaks.is_empty() {
        all.push(("No break in the rate was found.".to_owned(), ink));
    }
    for (i, b) in shown.findings.breaks.iter().enumerate() {
        let chosen = selected == Some(i);
        let style = if chosen { theme.selection().fg(theme.ink).add_modifier(Modifier::BOLD) } else { ink };
        all.push((break_line(i, b, width as u16), style));
        if !chosen {
            continue;
        }
        all.push((format!("    between {} and {}", Bytes(b.low_bytes), Bytes(b.high_bytes)), theme.faint()));
        for e in &b.evidence {
            // For and against the cause that was chosen; for another where it is one.
            let sign = if e.supports { "+" } else { "−" };
            let cause = if e.cause == b.cause { String::new() } else { format!("{}: ", e.cause.words()) };
            let text = format!("  {sign} {cause}{}", e.text);
            all.extend(
                wrap(&text, width)
                    .into_iter()
                    .map(|l| (l, if e.cause == b.cause { ink } else { theme.faint() })),
            );
        }
    }
    if let Some(next) = &shown.findings.next_step {
        all.push((String::new(), ink));
        all.extend(wrap(&format!("Next: {}", next.text), width).into_iter().map(|l| (l, ink)));
        if next.course.is_some() {
            all.push(("g starts that course.".into(), theme.faint()));
        }
    }
    let told = shown.events.iter().filter_map(|e| match &e.kind {
        EventKind::Note(text) => Some(format!("Note at {}, {}: {text}", e.bytes, e.at)),
        EventKind::Fitted(text) => Some(text.clone()),
        EventKind::Failed(_) | EventKind::Guard { .. } | EventKind::BreakWithdrawn(_) => {
            Some(format!("{}.", e.kind.words()))
        }
        _ => None,
    });
    let notes: Vec<String> = told.chain(shown.findings.notes.iter().cloned()).collect();
    if !notes.is_empty() {
        all.push((String::new(), ink));
    }
    for note in notes {
        all.extend(wrap(&note, width).into_iter().map(|l| (l, theme.faint())));
    }
    all
}

/// Plateaus, cache, throttling, heat.
fn figures(shown: &Shown, theme: Theme) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let found = &shown.findings;
    let mut all: Vec<(String, Style)> = Vec::new();
    if found.fill.is_some() {
        let key = Place::Fill.key();
        all.push((format!("Its figures against fill level are in place {key}."), ink));
        all.push((String::new(), ink));
    }
    let sweeps = crate::text::sweeps::sweeps(found, usize::from(SIDE));
    if !sweeps.is_empty() {
        all.extend(sweeps.into_iter().map(|l| (l, ink)));
        all.push((String::new(), ink));
    }
    all.extend(vec![(
        format!("{:<16} {:>11} {:>11} {:>16}", "plateau", "from", "to", "MB/s"),
        theme.faint(),
    )]);
    for p in &found.plateaus {
        let rate = format!("{:>7} ±{:>6}", number(p.mean_mb_s), number(p.sd_mb_s));
        let name: String = format!("{}, {}", p.leg, p.op.word()).chars().take(16).collect();
        all.push((
            format!(
                "{name:<16} {:>11} {:>11} {rate:>16}",
                Bytes(p.start_bytes).to_string(),
                Bytes(p.end_bytes).to_string()
            ),
            ink,
        ));
    }
    all.push((String::new(), ink));
    let mut fact = |name: &str, value: String| all.push((format!("{name:<16} {value}"), ink));
    if let Some(c) = &found.cache {
        fact(
            "write cache",
            format!("{} ({} to {})", Bytes(c.bytes), Bytes(c.low_bytes), Bytes(c.high_bytes)),
        );
    }
    for e in &found.throttling.episodes {
        let onset = e.onset_c.map_or(String::new(), |t| format!(" at {t:.0} °C"));
        fact(
            "throttled",
            format!("{} from {}{onset}", Nanos::from_secs(e.end_s - e.start_s), Nanos::from_secs(e.start_s)),
        );
    }
    if found.throttling.lost_bytes > 0 {
        fact("  lost to it", Bytes(found.throttling.lost_bytes).to_string());
    }
    if let Some(t) = &found.thermal {
        let margin = t.margin_to_warn_c.map_or(String::new(), |m| match m {
            m if m >= 0.5 => format!(", {m:.0} below the limit"),
            m if m <= -0.5 => format!(", {:.0} above the limit", -m),
            _ => ", at the limit".to_owned(),
        });
        fact("temperature", format!("{:.0} to {:.0} °C{margin}", t.min_c, t.max_c));
        if let Some(rise) = t.rise_over_ambient_c {
            fact("  over ambient", format!("{rise:.0} °C at the most"));
        }
        if let (Some(settles), Some(low), Some(high)) = (t.settles_at_c, t.settles_low_c, t.settles_high_c) {
            fact("  settles at", format!("{settles:.1} °C ({low:.1} to {high:.1})"));
        }
        if let Some(ambient) = t.throttles_above_ambient_c {
            fact("  throttles", format!("from an ambient of {ambient:.0} °C on"));
        }
    }
    for l in found.legs.iter().filter(|l| l.temp_c.is_some()) {
        if let Some(t) = l.temp_c {
            fact(
                &format!("  {}", l.leg),
                format!("{:.0} {:.1} {:.0} °C (min, mean, max)", t.min, t.mean, t.max),
            );
        }
    }
    all
}
