//! The story of a drive as strips over months: temperature, what was written, wear, and errors.

use super::super::super::theme::Theme;
use crate::history::Story;
use crate::tui::put::Put;
use mile_core::Bytes;
use mile_core::health::{Counter, DAY, History, Snapshot};
use mile_core::units::number;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Columns of the labels at the left.
const LABELS: u16 = 9;
/// Counters that are errors of one kind or another.
const ERRORS: [Counter; 7] = [
    Counter::PendingSectors,
    Counter::UncorrectableSectors,
    Counter::MediaErrors,
    Counter::ReallocatedSectors,
    Counter::FailedSelfTests,
    Counter::LinkErrors,
    Counter::CommandTimeouts,
];
/// Parts of a cell, from the bottom.
const PARTS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// A strip: its name with its unit, and for each column a range of values from its bottom.
struct Strip {
    name: String,
    colour: fn(Theme) -> ratatui::style::Color,
    low: f64,
    high: f64,
    /// Lowest and highest of each column; bars begin at the bottom of the strip.
    columns: Vec<Option<(f64, f64)>>,
    label: fn(f64) -> String,
}

/// The strips of a story at one width. A history may have a hundred thousand snapshots, so that they are made once and not with every frame.
pub(crate) struct Strips {
    width: u16,
    all: Vec<Strip>,
}

impl Strips {
    /// Of a story, as wide as an area.
    pub(super) fn of(story: &Story, width: u16) -> Self {
        let columns = usize::from(width.saturating_sub(LABELS));
        Self { width, all: if columns == 0 { Vec::new() } else { strips(story, columns) } }
    }

    /// Whether they are of this width.
    pub(super) fn fit(&self, width: u16) -> bool {
        self.width == width
    }

    /// Rows that they take, each with so many rows, and their ruler.
    pub(super) fn height(&self, rows: u16) -> u16 {
        if self.all.is_empty() { 0 } else { self.all.len() as u16 * (rows + 1) + 1 }
    }

    /// Draws them from the top of an area, each with so many rows, and their ruler.
    pub(super) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme, story: &Story, rows: u16) {
        let mut y = area.y;
        for strip in &self.all {
            if y + rows + 1 >= area.bottom() {
                return;
            }
            buffer.put(area.x + LABELS, y, &strip.name, usize::from(area.width - LABELS), theme.faint());
            one(buffer, Rect { y: y + 1, height: rows, ..area }, theme, strip);
            y += rows + 1;
        }
        if !self.all.is_empty() {
            ruler(buffer, Rect { y, height: 1, ..area }, theme, story);
        }
    }
}

fn one(buffer: &mut Buffer, area: Rect, theme: Theme, strip: &Strip) {
    let colour = (strip.colour)(theme);
    let style = Style::new().fg(colour);
    let label = |buffer: &mut Buffer, y: u16, value: f64| {
        let text = (strip.label)(value);
        let room = usize::from(LABELS - 1);
        buffer.put(area.x, y, format!("{text:>room$}"), room, theme.faint());
    };
    // Of one row, the highest value stands beside the name above it.
    let above = if area.height == 1 { area.y - 1 } else { area.y };
    label(buffer, above, strip.high);
    label(buffer, area.bottom() - 1, strip.low);
    let parts = f64::from(area.height) * 8.0;
    let span = (strip.high - strip.low).max(1e-9);
    for (x, column) in strip.columns.iter().enumerate() {
        let Some((low, high)) = column else { continue };
        let at = |v: f64| ((v - strip.low) / span * parts).clamp(0.0, parts);
        // What is there is seen, however little it is.
        let (from, to) = (at(*low).floor(), at(*high).max(at(*low).floor() + 1.0).round());
        for row in 0..area.height {
            let bottom = f64::from(area.height - 1 - row) * 8.0;
            let cell = (to - bottom).clamp(0.0, 8.0);
            if cell <= 0.0 || from >= bottom + 8.0 {
                continue;
            }
            let position = (area.x + LABELS + x as u16, area.y + row);
            let Some(at) = buffer.cell_mut(position) else { continue };
            let gap = (from - bottom).clamp(0.0, 8.0);
            if gap >= 1.0 && cell >= 8.0 {
                // The upper part of a cell: the lower part in the colour of the page.
                at.set_char(PARTS[gap as usize])
                    .set_style(style.add_modifier(ratatui::style::Modifier::REVERSED));
            } else if cell >= 8.0 && !theme.is_plain() {
                // A ground without seams between rows.
                at.set_char(' ').set_style(Style::new().bg(colour));
            } else {
                at.set_char(PARTS[cell as usize]).set_style(style);
            }
        }
    }
}

/// The months under the strips.
fn ruler(buffer: &mut Buffer, area: Rect, theme: Theme, story: &Story) {
    let Some((first, last)) = ends(&story.snapshots) else { return };
    let width = f64::from(area.width - LABELS);
    let zone = jiff::tz::TimeZone::system();
    let Ok(start) = jiff::Timestamp::from_second(first) else { return };
    let date = start.to_zoned(zone.clone()).date();
    let mut month = date.first_of_month();
    let mut free = 0.0;
    // Two hundred years of months, at the most.
    for _ in 0..2400 {
        let Ok(next) = month.checked_add(jiff::Span::new().months(1)) else { return };
        month = next;
        let Ok(at) = month.to_zoned(zone.clone()) else { return };
        let at = at.timestamp().as_second();
        if at > last {
            break;
        }
        let x = (at - first) as f64 / ((last - first) as f64).max(1.0) * width;
        if x >= free && x + 8.0 <= width {
            let text = format!("╷{}", month.strftime("%Y-%m"));
            buffer.put(area.x + LABELS + x as u16, area.y, text, 8, theme.faint());
            free = x + 10.0;
        }
    }
    if free == 0.0 {
        let text = format!("{} to {}", crate::history::day(first), crate::history::day(last));
        buffer.put(area.x + LABELS, area.y, text, usize::from(area.width - LABELS), theme.faint());
    }
}

fn ends(shots: &[Snapshot]) -> Option<(i64, i64)> {
    let (first, last) = (shots.first()?.at, shots.last()?.at);
    (last > first).then_some((first, last))
}

/// A round number at or above a value: 1, 2 or 5 with zeros.
fn round_up(value: f64) -> f64 {
    if value <= 0.0 {
        return 1.0;
    }
    let unit = 10_f64.powf(value.log10().floor());
    [1.0, 2.0, 5.0, 10.0].into_iter().map(|f| f * unit).find(|v| *v >= value * 0.999_999).unwrap_or(value)
}

fn strips(story: &Story, width: usize) -> Vec<Strip> {
    let Some((first, last)) = ends(&story.snapshots) else { return Vec::new() };
    let (from, days) = (first as f64 / DAY, (last - first) as f64 / DAY);
    let column = |day: f64| (((day - from) / days * width as f64) as usize).min(width - 1);
    let history = History::new(story.snapshots.clone());
    let mut all = Vec::new();
    let mut temperatures: Vec<Option<(f64, f64)>> = vec![None; width];
    for s in &story.snapshots {
        if let Some(t) = s.temperature_c {
            let range = &mut temperatures[column(s.at as f64 / DAY)];
            *range = Some(range.map_or((t, t), |(a, b)| (a.min(t), b.max(t))));
        }
    }
    let known = || temperatures.iter().flatten();
    if known().next().is_some() {
        let low = known().map(|r| r.0).fold(f64::INFINITY, f64::min);
        let high = known().map(|r| r.1).fold(f64::NEG_INFINITY, f64::max);
        let (low, high) = ((low / 5.0 - 0.01).floor() * 5.0, (high / 5.0 + 0.01).ceil() * 5.0);
        all.push(Strip {
            name: "temperature when it was read, lowest to highest".into(),
            colour: |theme| theme.rose,
            low,
            high,
            columns: temperatures,
            label: |v| format!("{v:.0} °C"),
        });
    }
    // What a day wrote, from one snapshot to the next.
    let mut written: Vec<Option<(f64, f64)>> = vec![None; width];
    for pair in history.series(Counter::WrittenBytes).iter().flat_map(|s| s.windows(2)) {
        let rate = (pair[1].1 - pair[0].1) / (pair[1].0 - pair[0].0).max(1e-6);
        // Of snapshots within an hour, what a day would write is not known.
        if pair[1].0 - pair[0].0 < 1.0 / 24.0 {
            continue;
        }
        for bar in &mut written[column(pair[0].0)..=column(pair[1].0)] {
            *bar = Some((0.0, bar.map_or(rate, |b: (f64, f64)| b.1.max(rate))));
        }
    }
    if let Some(most) = written.iter().flatten().map(|b| b.1).reduce(f64::max) {
        all.push(Strip {
            name: "written in a day, between two looks".into(),
            colour: |theme| theme.write,
            low: 0.0,
            high: round_up(most),
            columns: written,
            label: |v| if v == 0.0 { "0".into() } else { Bytes(v as u64).to_string() },
        });
    }
    if let Some(used) = levels(&history, width, &column, |s| s.get(Counter::UsedPct).map(|v| v as f64)) {
        let most = used.iter().flatten().map(|b| b.1).fold(0.0, f64::max);
        all.push(Strip {
            name: "life used".into(),
            colour: |theme| theme.latency,
            low: 0.0,
            high: round_up(most.max(1.0)),
            columns: used,
            label: |v| format!("{} %", number(v)),
        });
    }
    let errors = |s: &Snapshot| {
        let told: Vec<u64> = ERRORS.iter().filter_map(|c| s.get(*c)).collect();
        (!told.is_empty()).then(|| told.iter().sum::<u64>() as f64)
    };
    if let Some(errors) = levels(&history, width, &column, errors) {
        let most = errors.iter().flatten().map(|b| b.1).fold(0.0, f64::max);
        if most > 0.0 {
            all.push(Strip {
                name: "errors of medium and link, failed self-tests, together".into(),
                colour: |theme| theme.ink,
                low: 0.0,
                high: round_up(most),
                columns: errors.into_iter().map(|c| c.filter(|c| c.1 > 0.0)).collect(),
                label: |v| format!("{v:.0}"),
            });
        }
    }
    all
}

/// A level over time, that of the last snapshot in each column; it stays until the next.
fn levels(
    history: &History,
    width: usize,
    column: &dyn Fn(f64) -> usize,
    of: impl Fn(&Snapshot) -> Option<f64>,
) -> Option<Vec<Option<(f64, f64)>>> {
    let mut all: Vec<Option<(f64, f64)>> = vec![None; width];
    let told: Vec<(usize, f64)> =
        history.snapshots().iter().filter_map(|s| Some((column(s.at as f64 / DAY), of(s)?))).collect();
    for (i, (at, value)) in told.iter().enumerate() {
        let end = told.get(i + 1).map_or(width, |n| n.0.max(at + 1));
        all[*at..end].fill(Some((0.0, *value)));
    }
    (!told.is_empty()).then_some(all)
}
