//! The canvas that every picture of a run is drawn on: terrain above, strips below, one ruler, one cursor.

mod lanes;
mod strips;
mod terrain;

pub(crate) use lanes::{LaneScene, draw_lanes};
pub(crate) use terrain::miniature;

use super::theme::Theme;
use mile_core::findings::{Break, Cause, Context, HeatCurve};
use mile_core::heat::HeatFit;
use mile_core::ruler::{Column, Ruler, Window, columns, ticks};
use mile_core::trace::Trace;
use mile_core::units::Nanos;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Cells left of the picture for labels.
const MARGIN: u16 = 7;

/// How the picture is framed: kept by the place that shows it.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Framing {
    pub(crate) ruler: Ruler,
    /// The part of the ruler that is shown; all of it where it is `None`.
    window: Option<Window>,
    /// Position of the cursor on the ruler.
    pub(crate) cursor: Option<f64>,
    /// Cells that the last picture was wide.
    width: u16,
}

/// Draws the terrain of a stretch without a margin, as high as `high` MB/s.
pub(crate) fn lane(buffer: &mut Buffer, area: Rect, theme: Theme, data: Vec<Option<Column>>, high: f64) {
    let mut picture = Picture { buffer, area, data, theme };
    terrain::lane(&mut picture, area.y, area.height, high);
}

/// What there is to draw.
#[derive(Clone, Copy)]
pub(crate) struct Scene<'a> {
    pub(crate) trace: &'a Trace,
    pub(crate) breaks: &'a [Break],
    pub(crate) context: &'a Context,
    /// Where the road is planned to end, in bytes: it is drawn ahead of a live run.
    pub(crate) planned: Option<f64>,
    /// The break that is selected.
    pub(crate) selected: Option<usize>,
    /// The curve that was fitted to the heat-up.
    pub(crate) heat: Option<&'a HeatCurve>,
    /// Where the temperature of a live run leads, once that is known.
    pub(crate) settles: Option<HeatFit>,
}

impl Scene<'_> {
    /// The whole of the ruler.
    fn whole(&self, ruler: Ruler) -> Window {
        let end = ruler.end(self.trace);
        let planned = if ruler == Ruler::Bytes { self.planned.unwrap_or(0.0) } else { 0.0 };
        Window { from: 0.0, to: end.max(planned).max(1.0) }
    }
}

impl Framing {
    /// All of a ruler.
    pub(crate) fn on(ruler: Ruler) -> Self {
        Self { ruler, ..Self::default() }
    }

    /// The ruler that shows something, and the part of it that is shown.
    pub(crate) fn resolve(&self, scene: &Scene<'_>) -> (Ruler, Window) {
        let ruler = if scene.planned.is_some() { self.ruler } else { self.ruler.fitting(scene.trace) };
        (ruler, self.window.unwrap_or_else(|| scene.whole(ruler)))
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
    pub(crate) fn step(&mut self, scene: &Scene<'_>, cells: f64) {
        let (_, window) = self.resolve(scene);
        let cell = (window.to - window.from) / f64::from(self.width.max(1));
        let whole = scene.whole(self.ruler);
        let from = self
            .cursor
            .unwrap_or(f64::midpoint(window.from, window.to.min(self.ruler.end(scene.trace).max(1.0))));
        // On the middle of a cell, so that it does not jump between two.
        let at = ((from - window.from) / cell).floor() + 0.5 + cells;
        let to = (window.from + at * cell)
            .clamp(whole.from, self.ruler.end(scene.trace).clamp(1.0, whole.to) - cell * 0.01);
        self.cursor = Some(to);
        if let Some(window) = &mut self.window {
            let shift = (to - window.to).max(0.0) + (to - window.from).min(0.0);
            window.from += shift;
            window.to += shift;
        }
    }

    /// Puts the cursor at a cell of the last picture's row.
    pub(crate) fn point(&mut self, scene: &Scene<'_>, area: Rect, column: u16) {
        let inside = column.checked_sub(area.x + MARGIN).filter(|c| *c < self.width);
        if let Some(cell) = inside {
            let (_, window) = self.resolve(scene);
            let at =
                window.from + (window.to - window.from) * (f64::from(cell) + 0.5) / f64::from(self.width);
            self.cursor = Some(at.min(self.ruler.end(scene.trace)));
        }
    }

    /// Shows less or more of the ruler, around the cursor or the middle. Showing all of it again follows a live run.
    pub(crate) fn zoom(&mut self, scene: &Scene<'_>, factor: f64) {
        let (ruler, window) = self.resolve(scene);
        let whole = scene.whole(ruler);
        let centre = self.cursor.unwrap_or(f64::midpoint(window.from, window.to));
        let width = (window.to - window.from) * factor;
        if width >= whole.to {
            self.window = None;
            return;
        }
        let least = match ruler {
            Ruler::Bytes | Ruler::Address => 1e6,
            Ruler::Time => 1e8,
        };
        let width = width.max(least);
        let share = ((centre - window.from) / (window.to - window.from)).clamp(0.0, 1.0);
        let from = (centre - width * share).clamp(0.0, whole.to - width);
        self.window = Some(Window { from, to: from + width });
    }

    /// Puts the cursor at a break, and brings it into view.
    pub(crate) fn show_break(&mut self, scene: &Scene<'_>, b: &Break) {
        let (ruler, _) = self.resolve(scene);
        let at = ruler.place(scene.trace, b.at_bytes, b.at_s);
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

/// The number of a break as one glyph.
pub(crate) fn numeral(index: usize) -> char {
    u32::try_from(index).ok().filter(|i| *i < 10).and_then(|i| char::from_u32(0x2460 + i)).unwrap_or('◦')
}

/// The glyph of a cause.
pub(crate) fn glyph(cause: Cause) -> char {
    match cause {
        Cause::CacheExhausted => '▤',
        Cause::ThermalThrottle => '≋',
        Cause::ThermalRelease => '↗',
        Cause::Stall => '┄',
        Cause::StallEnd => '╱',
        Cause::OtherSide => '⊣',
        Cause::OtherSideEnd => '⊢',
        Cause::Interference => '⇄',
        Cause::InterferenceEnd => '→',
        Cause::CacheRecovered => '◒',
        Cause::FillLevel => '◕',
        Cause::Surface => '⌣',
        Cause::Workload => '»',
        Cause::Unexplained => '?',
    }
}

/// How the height is shared: terrain, temperature, latency. Strips fold away, latency first; the terrain never does.
fn shares(height: u16, has_temp: bool, has_latency: bool) -> (u16, u16, u16) {
    // One row is the ruler.
    let rows = height.saturating_sub(1);
    let temp = if !has_temp || rows < 9 { 0 } else { (rows / 4).clamp(3, 8) };
    let latency = if !has_latency || rows < 15 { 0 } else { (rows / 6).clamp(3, 6) };
    (rows - temp - latency, temp, latency)
}

/// The picture and where it is.
pub(crate) struct Picture<'a> {
    buffer: &'a mut Buffer,
    /// Without the margin.
    area: Rect,
    data: Vec<Option<Column>>,
    theme: Theme,
}

impl Picture<'_> {
    fn set(&mut self, x: u16, y: u16, glyph: char, style: Style) {
        if let Some(cell) = self.buffer.cell_mut((self.area.x + x, y)) {
            cell.set_char(glyph).set_style(style);
        }
    }

    /// A label in the margin, right-aligned.
    fn label(&mut self, y: u16, text: &str, style: Style) {
        let width = text.chars().count().min(usize::from(MARGIN - 1)) as u16;
        self.buffer.set_stringn(self.area.x - 1 - width, y, text, usize::from(width), style);
    }
}

/// Draws the canvas. Changes nothing but the width that the framing remembers.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, framing: &mut Framing, scene: &Scene<'_>) {
    if area.width < MARGIN + 8 || area.height < 4 {
        return;
    }
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN, ..area };
    framing.width = plot.width;
    let (ruler, window) = framing.resolve(scene);
    let data = columns(scene.trace, ruler, window, usize::from(plot.width));
    let has_temp = !scene.trace.temp.is_blank();
    let has_latency = !scene.trace.p50.is_blank();
    let (ground, temp, latency) = shares(area.height, has_temp, has_latency);
    let mut picture = Picture { buffer, area: plot, data, theme };
    let highest = terrain::highest(&picture.data);
    terrain::draw(&mut picture, plot.y, ground, highest);
    draw_ruler(&mut picture, plot.y + ground, ruler, window);
    let below = plot.y + ground + 1;
    if temp > 0 {
        // The fit at the middle of each cell, where it was fitted.
        let fit: Vec<Option<f64>> = (0..plot.width)
            .map(|x| {
                let heat = scene.heat.filter(|_| ruler != Ruler::Address)?;
                let at =
                    window.from + (window.to - window.from) * (f64::from(x) + 0.5) / f64::from(plot.width);
                let sample = ruler.sample(scene.trace, at);
                let seconds = match ruler {
                    Ruler::Time => Nanos(at as u64).secs(),
                    Ruler::Bytes | Ruler::Address => scene.trace.end(sample).secs(),
                };
                let inside = (heat.start_s..=heat.end_s).contains(&seconds) && at <= ruler.end(scene.trace);
                inside.then(|| heat.at(seconds))
            })
            .collect();
        strips::temperature(&mut picture, below, temp, scene.context, &fit);
    }
    if latency > 0 {
        strips::latency(&mut picture, below + temp, latency);
    }
    let cell = |at: f64| {
        let share = (at - window.from) / (window.to - window.from);
        (0.0..1.0).contains(&share).then(|| (share * f64::from(plot.width)) as u16)
    };
    let bottom = below + temp + latency;
    for (i, b) in scene.breaks.iter().enumerate() {
        if let Some(x) = cell(ruler.place(scene.trace, b.at_bytes, b.at_s)) {
            mark(&mut picture, x, plot.y..bottom, i, scene.selected == Some(i));
        }
    }
    if let Some(x) = framing.cursor.and_then(cell) {
        draw_cursor(&mut picture, x, plot.y..bottom);
    }
}

fn draw_ruler(picture: &mut Picture<'_>, y: u16, ruler: Ruler, window: Window) {
    let faint = picture.theme.faint();
    let width = picture.area.width;
    (0..width).for_each(|x| picture.set(x, y, '─', faint));
    let (unit, _) = ruler.unit(window);
    let unit = if ruler == Ruler::Address { format!("at {unit}") } else { unit.to_owned() };
    picture.label(y, &unit, faint);
    let most = usize::from(width / 12).max(2);
    for (position, label) in ticks(ruler, window, most) {
        let share = (position - window.from) / (window.to - window.from);
        let at = (share * f64::from(width)) as u16;
        let length = label.chars().count() as u16;
        if at + length + 1 > width {
            continue;
        }
        picture.set(at, y, '╵', faint);
        for (i, c) in label.chars().enumerate() {
            picture.set(at + 1 + i as u16, y, c, Style::new().fg(picture.theme.ink));
        }
    }
}

/// A numbered marker on the terrain, and a line down through all strips where nothing else is drawn.
fn mark(picture: &mut Picture<'_>, x: u16, rows: std::ops::Range<u16>, index: usize, selected: bool) {
    let style = picture.theme.strong();
    for y in rows.clone().skip(1) {
        let at = (picture.area.x + x, y);
        if picture.buffer.cell(at).is_some_and(|c| c.symbol() == " ") {
            picture.set(x, y, '┊', style);
        }
    }
    let style = if selected { style.add_modifier(Modifier::REVERSED) } else { style };
    picture.set(x, rows.start, numeral(index), style);
}

fn draw_cursor(picture: &mut Picture<'_>, x: u16, rows: std::ops::Range<u16>) {
    for y in rows {
        let at = (picture.area.x + x, y);
        let Some(cell) = picture.buffer.cell_mut(at) else { continue };
        if matches!(cell.symbol(), " " | "┊") {
            cell.set_char('│').set_style(Style::new().fg(picture.theme.ink));
        } else {
            cell.set_style(Style::new().add_modifier(Modifier::REVERSED));
        }
    }
}

#[cfg(test)]
mod tests;
