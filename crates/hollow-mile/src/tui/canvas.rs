//! The canvas that every picture of a run is drawn on: terrain above, strips below, one ruler, one cursor.

mod dots;
mod lanes;
mod legs;
mod marks;
mod strips;
mod terrain;

pub(crate) use lanes::{LaneSight, draw_lanes};
pub(crate) use terrain::{fill, miniature};

use super::theme::Theme;
use crate::tui::put::Put;
use mile_core::findings::{Break, Cause};
use mile_core::ruler::{Column, Ruler, Window, ticks};
use mile_core::scene::{Grain, Reading, Scene, Subject, ceiling};
use mile_core::trace::Trace;
use mile_core::units::Nanos;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Cells left of the picture for labels.
const MARGIN: u16 = 7;
/// Cells right of the picture, where curves are named and their last values stand, and the width from which there is room for them.
const NAMES: u16 = 13;
const WITH_NAMES: u16 = 96;
/// Height from which the legs have a row of their own.
const WITH_LEGS: u16 = 12;

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
    let mut picture = Picture { buffer, area, theme };
    terrain::lane(&mut picture, area.y, area.height, &data, high);
}

/// Draws rates along an area as terrain, as high as the highest of them.
pub(crate) fn profile(buffer: &mut Buffer, area: Rect, theme: Theme, (rates, op): (&[f32], mile_core::Op)) {
    let high = rates.iter().copied().fold(0.0_f32, f32::max);
    if rates.is_empty() || high <= 0.0 {
        return;
    }
    let column = |x: u16| {
        let rate = f64::from(rates[usize::from(x) * rates.len() / usize::from(area.width)]);
        Some(Column {
            samples: 0..1,
            op,
            rate: Some(mile_core::pyramid::Extent { min: rate, mean: rate, max: rate }),
            temp: None,
            p50: None,
            p99: None,
        })
    };
    lane(buffer, area, theme, (0..area.width).map(column).collect(), f64::from(high));
}

/// Draws two series of rates (position on a ruler, MB/s) on one stretch of it and one scale: the first grows up from the ruler, the second down.
pub(crate) fn banks(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    (ruler, window): (Ruler, Window),
    sides: [&[(f64, f64)]; 2],
) {
    if area.width < MARGIN + 8 || area.height < 3 {
        return;
    }
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN, ..area };
    let all = || sides.iter().flat_map(|s| s.iter());
    let (width, high) = (window.to - window.from, all().map(|p| p.1).fold(0.0, f64::max));
    if width <= 0.0 || high <= 0.0 {
        return;
    }
    let rows = (area.height - 1) / 2;
    let high = ceiling(high);
    let halves: Vec<[u32; 2]> = (0..plot.width)
        .map(|x| {
            let edge = |x: u16| window.from + width * f64::from(x) / f64::from(plot.width);
            sides.map(|side| {
                let within = side.iter().filter(|p| (edge(x)..edge(x + 1)).contains(&p.0)).map(|p| p.1);
                let (sum, n) = within.fold((0.0, 0), |(s, n), v| (s + v, n + 1));
                let behind = side.last().is_none_or(|p| p.0 < edge(x));
                // Between two points that are further apart than a column is wide, the last one holds.
                let last = side.iter().rev().find(|p| p.0 <= edge(x)).map(|p| p.1).filter(|_| !behind);
                let rate = if n > 0 { Some(sum / f64::from(n)) } else { last };
                rate.map_or(0, |r| (r / high * f64::from(rows) * 2.0).round() as u32)
            })
        })
        .collect();
    let mut picture = Picture { buffer, area: plot, theme };
    let label = mile_core::units::thousands(&format!("{high:.0}"));
    let faint = theme.faint();
    picture.label(plot.y, &label, faint);
    picture.label(plot.y + 1, "MB/s", faint);
    picture.label(plot.y + 2 * rows, &label, faint);
    for (x, [up, down]) in halves.into_iter().enumerate() {
        for row in 0..rows {
            let part = |level: u32| level.saturating_sub(u32::from(row) * 2).min(2);
            let (above, below) = (plot.y + rows - 1 - row, plot.y + rows + 1 + row);
            if let Some(cell) = picture.buffer.cell_mut((plot.x + x as u16, above)) {
                fill(cell, part(up), theme.write, theme);
            }
            let Some(cell) = picture.buffer.cell_mut((plot.x + x as u16, below)) else { continue };
            match part(down) {
                // Its upper half, which hangs from the ruler.
                1 => _ = cell.set_char('▀').set_style(Style::new().fg(theme.write_dip)),
                part => fill(cell, part, theme.write_dip, theme),
            }
        }
    }
    draw_ruler(&mut picture, plot.y + rows, ruler, window);
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

/// How the rows of a picture are shared.
struct Shares {
    ground: u16,
    legs: u16,
    temp: u16,
    latency: u16,
}

impl Shares {
    /// Strips fold away, latency first; the terrain never does.
    fn of(height: u16, has_temp: bool, has_latency: bool) -> Self {
        // One row is the ruler.
        let legs = u16::from(height >= WITH_LEGS);
        let rows = height.saturating_sub(1 + legs);
        let temp = if !has_temp || rows < 9 { 0 } else { (rows * 3 / 10).clamp(3, 16) };
        let latency = if !has_latency || rows < 15 { 0 } else { (rows / 5).clamp(3, 10) };
        Self { ground: rows - temp - latency, legs, temp, latency }
    }
}

/// What stands beside a curve, right of the picture: of two that want one row, the one of lower rank has it.
pub(crate) struct Label {
    y: u16,
    text: String,
    style: Style,
    rank: u8,
}

/// The picture and where it is.
pub(crate) struct Picture<'a> {
    buffer: &'a mut Buffer,
    /// Without the margin.
    area: Rect,
    theme: Theme,
}

/// The cells that a window is shown in.
#[derive(Clone, Copy)]
struct Cells {
    window: Window,
    width: u16,
}

impl Cells {
    /// The cell of a place on the ruler, where it is shown.
    fn of(self, at: f64) -> Option<u16> {
        let share = (at - self.window.from) / (self.window.to - self.window.from);
        (0.0..1.0).contains(&share).then(|| (share * f64::from(self.width)) as u16)
    }
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
        self.buffer.put(self.area.x - 1 - width, y, text, usize::from(width), style);
    }
}

/// Draws the canvas. Changes nothing but the width that the framing remembers.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, framing: &mut Framing, sight: &Sight<'_>) {
    if area.width < MARGIN + 8 || area.height < 4 {
        return;
    }
    let names = if area.width >= WITH_NAMES { NAMES } else { 0 };
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN - names, ..area };
    framing.width = plot.width;
    let (ruler, window) = framing.resolve(sight);
    let width = usize::from(plot.width);
    let scene =
        Scene::of(&sight.subject, ruler, window, Grain { ground: width, curve: width * dots::ACROSS });
    let of = |reading| scene.strips.iter().find(|s| s.reading == reading);
    let (temp, latency) = (of(Reading::Temperature), of(Reading::Latency));
    let share = Shares::of(area.height, temp.is_some(), latency.is_some());
    let cells = Cells { window, width: plot.width };
    let mut picture = Picture { buffer, area: plot, theme };
    let ground = terrain::draw(&mut picture, plot.y, share.ground, &scene.ground, scene.top);
    terrain::plateaus(&mut picture, &ground, &scene, cells);
    let mut y = plot.y + share.ground;
    if share.legs > 0 {
        legs::draw(&mut picture, y, &scene.legs, cells);
    }
    y += share.legs;
    draw_ruler(&mut picture, y, ruler, window);
    let below = y + 1;
    let bottom = below + share.temp + share.latency;
    let trace = sight.subject.trace;
    let at = framing.cursor.filter(|c| cells.of(*c).is_some()).map(|c| ruler.sample(trace, c));
    let mut strips = vec![(Told::Rate, ground, end_of_ground(&scene.ground, &ground, theme))];
    for (told, strip, top, rows) in [
        (Told::Temperature, temp, below, share.temp),
        (Told::Latency, latency, below + share.temp, share.latency),
    ] {
        if let Some(strip) = strip.filter(|_| rows > 0) {
            let mut labels = Vec::new();
            let scale = strips::draw(&mut picture, top, rows, strip, &mut labels);
            strips.push((told, scale, labels));
        }
    }
    let places = scene.marks.iter().filter_map(|m| Some((m.index, cells.of(m.at)?))).collect();
    marks::draw(&mut picture, plot.y..bottom, places, sight.selected);
    let x = framing.cursor.and_then(|c| cells.of(c));
    if let Some(x) = x {
        draw_cursor(&mut picture, x, plot.y..bottom);
    }
    let end = scene.ground.iter().rposition(Option::is_some).map_or(0, |x| x as u16 + 1);
    for (told, scale, labels) in strips {
        place_labels(&mut picture, &scale, labels, names, end);
        if let Some((x, i)) = x.zip(at) {
            told.draw(&mut picture, &scale, x, trace, i);
        }
    }
}

/// The rate at the right end of the terrain.
fn end_of_ground(ground: &[Option<Column>], scale: &dots::Scale, theme: Theme) -> Vec<Label> {
    let last = ground.iter().flatten().next_back();
    let Some((op, rate)) = last.and_then(|c| Some((c.op, c.rate?.mean))) else { return Vec::new() };
    let colour = if op == mile_core::Op::Read { theme.read } else { theme.write };
    let text = format!("{} MB/s", mile_core::units::number(rate));
    vec![Label { y: scale.row(rate), text, style: Style::new().fg(colour), rank: strips::CURVE }]
}

/// Writes the labels of a strip right of the picture, each in its row or the nearest that is free; those of curves right behind the last cell of the
/// trace, `end`, where the road ahead is long enough. Where there is no room beside the picture, limits stand in it.
fn place_labels(
    picture: &mut Picture<'_>,
    scale: &dots::Scale,
    mut labels: Vec<Label>,
    names: u16,
    end: u16,
) {
    labels.sort_by_key(|l| l.rank);
    if names == 0 {
        for label in labels.iter().filter(|l| l.rank == strips::LIMIT) {
            let text = format!(" {} ", label.text);
            let at = picture.area.width.saturating_sub(text.chars().count() as u16 + 2);
            text.chars().enumerate().for_each(|(i, c)| picture.set(at + i as u16, label.y, c, label.style));
        }
        return;
    }
    let rows = scale.top..scale.top + scale.rows;
    let mut taken: Vec<u16> = Vec::new();
    for label in labels {
        // A curve whose row is a limit's lies below that, mostly.
        let sides = |d: u16| match (label.y.checked_sub(d), label.y.checked_add(d)) {
            (above, below) if label.rank == strips::CURVE => [below, above],
            (above, below) => [above, below],
        };
        let near = (0..scale.rows).flat_map(sides).flatten();
        let Some(y) = near.filter(|y| rows.contains(y)).find(|y| !taken.contains(y)) else { continue };
        taken.push(y);
        let ahead = strips::is_of_curve(label.rank) && end + names <= picture.area.width;
        let at = if ahead { picture.area.x + end + 1 } else { picture.area.right() + 1 };
        picture.buffer.put(at, y, label.text, usize::from(names - 1), label.style);
    }
}

/// What is told of a sample beside the cursor.
#[derive(Clone, Copy)]
enum Told {
    Rate,
    Temperature,
    Latency,
}

impl Told {
    /// Writes the value of a sample beside the cursor, over its curve.
    fn draw(self, picture: &mut Picture<'_>, scale: &dots::Scale, x: u16, trace: &Trace, sample: usize) {
        let sample = sample.min(trace.len().saturating_sub(1));
        let us = |v: f64| Nanos((v * 1e3) as u64).to_string();
        let told = match self {
            Self::Rate => {
                trace.rate.get(sample).map(|r| (r, format!("{} MB/s", mile_core::units::number(r))))
            }
            Self::Temperature => trace.temp_at(sample, 8).map(|t| (t.0, t.to_string())),
            Self::Latency => trace.p50.get(sample).map(|p50| (p50.max(0.1).log10(), us(p50))),
        };
        let Some((value, text)) = told else { return };
        let (row, text) = (scale.row(value), format!(" {text} "));
        let y = if row > scale.top { row - 1 } else { (row + 1).min(scale.top + scale.rows - 1) };
        let length = text.chars().count() as u16;
        let right = x + 1 + length <= picture.area.width;
        let from = if right { x + 1 } else { x.saturating_sub(length) };
        // On the page, whatever lies behind.
        let style = picture.theme.page().remove_modifier(Modifier::all()).bg(picture
            .theme
            .page()
            .bg
            .unwrap_or_default());
        text.chars().enumerate().for_each(|(i, c)| picture.set(from + i as u16, y, c, style));
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

fn draw_cursor(picture: &mut Picture<'_>, x: u16, rows: std::ops::Range<u16>) {
    for y in rows {
        let at = (picture.area.x + x, y);
        let Some(cell) = picture.buffer.cell_mut(at) else { continue };
        if matches!(cell.symbol(), " " | "┊") {
            cell.set_char('│').set_style(Style::new().fg(picture.theme.ink));
        } else if cell.modifier.contains(Modifier::REVERSED) {
            cell.set_style(Style::new().remove_modifier(Modifier::REVERSED));
        } else {
            cell.set_style(Style::new().add_modifier(Modifier::REVERSED));
        }
    }
}

#[cfg(test)]
mod tests;
