//! The column of readings beside a canvas: at the cursor, or of the newest sample.

use super::super::canvas::{Framing, Sight};
use super::super::theme::Theme;
use crate::tui::put::Put;
use mile_core::live::recent_spread;
use mile_core::pyramid::Extent;
use mile_core::ruler::Ruler;
use mile_core::units::number;
use mile_core::{Bytes, Nanos};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Cells that the column is wide.
pub(crate) const WIDTH: u16 = 38;

/// The range of a temperature and its mean: `37 to 77 °C, mean 65.2`.
pub(super) fn spread(e: Extent) -> String {
    format!("{:.0} to {:.0} °C, mean {:.1}", e.min, e.max, e.mean)
}

/// What the newest sample of a trace is.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Newest {
    /// That of this moment: more come in.
    Now,
    /// The last one that was read from the logbook of a run that goes on.
    SoFar,
    /// The last one of the run.
    End,
}

/// Name and value, one a line.
fn readings(
    framing: &Framing,
    sight: &Sight<'_>,
    newest: Newest,
) -> Option<(String, Vec<(&'static str, String)>)> {
    let trace = sight.subject.trace;
    let last = trace.len().checked_sub(1)?;
    let (ruler, _) = framing.resolve(sight);
    let at = framing.cursor.map(|c| ruler.sample(trace, c).min(last));
    let i = at.unwrap_or(last);
    let title = match (at, newest) {
        (Some(_), _) => "at the cursor",
        (None, Newest::Now) => "now",
        (None, Newest::SoFar) => "so far",
        (None, Newest::End) => "at the end",
    };
    let mut all = vec![("moved", trace.moved(i + 1).to_string()), ("after", trace.end(i).to_string())];
    if let Some(leg) = trace.leg_at(i) {
        all.push(("leg", leg.name.clone()));
    }
    let rate = trace.rate.get(i).map_or("at rest".to_owned(), |r| format!("{} MB/s", number(r)));
    all.push(("rate", rate));
    if at.is_none() && newest == Newest::Now && trace.rate.get(i).is_some() {
        // Since the last break, and in this leg: what another leg did is no part of it.
        let last_break = sight.subject.breaks.last();
        let broke = last_break.map_or(0, |b| trace.index_at_time(Nanos::from_secs(b.at_s)) + 1);
        let leg = trace.leg_at(i).map_or(0, |leg| leg.samples.start);
        if let Some((mean, sd)) = recent_spread(trace, broke.max(leg).min(last)) {
            let at = last_break.map(|b| Bytes(b.at_bytes)).filter(|_| broke > leg);
            all.push(("plateau", format!("{} ± {} MB/s", number(mean.mb_s()), number(sd))));
            all.push(("  since", at.unwrap_or_else(|| trace.moved(leg)).to_string()));
        }
    }
    all.push(("temperature", trace.temp_at(i, 8).map_or("no reading".to_owned(), |t| t.to_string())));
    if let Some(all_of_it) = trace.temp.extent(0, trace.len()).filter(|_| at.is_none()) {
        all.push(("  range", spread(all_of_it)));
    }
    if let Some(fit) = sight.subject.leads_to.filter(|_| at.is_none()) {
        all.push(("  settles at", format!("{:.1} °C ({:.1} to {:.1})", fit.settles, fit.low, fit.high)));
    }
    let us = |v: f64| Nanos((v * 1e3) as u64).to_string();
    if let (Some(p50), Some(p99)) = (trace.latency.p50.get(i), trace.latency.p99.get(i)) {
        all.push(("latency p50", us(p50)));
        all.push(("        p99", us(p99)));
    }
    if let Some(slowest) = trace.latency.slowest.get(i) {
        all.push(("    slowest", us(slowest)));
    }
    if let Some(t) = trace.throttled(i) {
        all.push(("throttled", format!("{:.0} s light, {:.0} s heavy", t.light_s, t.heavy_s)));
    }
    if let Some(others) = trace.foreign.get(i) {
        all.push(("others", format!("{} MB/s", number(others))));
    }
    if let Some(steal) = trace.steal.get(i).filter(|s| *s >= 0.005) {
        all.push(("stolen", format!("{:.0} % of the processor", steal * 100.0)));
    }
    if let Some(fill) = trace.fill.get(i) {
        all.push(("in use", format!("{:.1} % of the drive", fill * 100.0)));
    }
    if ruler == Ruler::Bytes && trace.errors() > 0 {
        all.push(("errors", trace.errors().to_string()));
    }
    Some((title.to_owned(), all))
}

/// Draws the column.
pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    framing: &Framing,
    sight: &Sight<'_>,
    newest: Newest,
) {
    let Some((title, all)) = readings(framing, sight, newest) else { return };
    (area.y..area.bottom()).for_each(|y| {
        buffer.set_string(area.x, y, "╎", theme.faint());
    });
    let x = area.x + 2;
    buffer.put(x, area.y, title, usize::from(area.width - 2), theme.strong());
    for (i, (name, value)) in all.iter().enumerate() {
        let y = area.y + 1 + i as u16;
        if y >= area.bottom() {
            break;
        }
        buffer.put(x, y, name, 12, theme.faint());
        buffer.put(x + 13, y, value, usize::from(area.width.saturating_sub(15)), Style::new().fg(theme.ink));
    }
}

/// The most important readings in one line, where there is no room for the column.
pub(crate) fn line(framing: &Framing, sight: &Sight<'_>, newest: Newest) -> String {
    let Some((title, all)) = readings(framing, sight, newest) else { return String::new() };
    let wanted = ["moved", "after", "rate", "temperature", "latency p50"];
    let parts: Vec<String> = all
        .iter()
        .filter(|(n, _)| wanted.contains(n))
        .map(|(n, v)| if *n == "latency p50" { format!("p50 {v}") } else { v.clone() })
        .collect();
    format!("{title}: {}", parts.join(", "))
}
