//! The surface: address across, the rate as terrain with its baseline, a strip for each pass, and the hollows bracketed below and named in sentences.

use super::super::action::{self, Action, Binding, bind};
use super::super::canvas::fill;
use super::super::jobs::Jobs;
use super::super::lines::lines;
use super::super::requests;
use super::super::state::{State, SurfacePlace, Wanted};
use super::super::theme::Theme;
use super::super::view::{AtHand, View};
use crate::wrap::wrap;
use crossterm::event::KeyCode::{Char, Left, Right};
use mile_core::Bytes;
use mile_core::findings::{BadPlace, Hollow, bad_places};
use mile_core::ruler::{Ruler, Window, ticks};
use mile_core::surface::{Pass, Surface, surface};
use mile_core::units::number;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Cells at the left, for labels.
const MARGIN: u16 = 12;
/// From which share below the baseline a cell of a strip has which shade.
const SHADES: [(f64, char); 4] = [(0.5, '█'), (0.25, '▓'), (0.12, '▒'), (0.06, '░')];
/// Shown of a surface at the least, cells.
const CLOSEST: usize = 8;

const KEYS: &[Binding] = &[
    bind("←→ h l", &[Left, Char('h')], Action::CursorLeft, "", "move the cursor to lower addresses"),
    bind("←→ h l", &[Right, Char('l')], Action::CursorRight, "cursor", "move the cursor to higher addresses"),
    bind("H", &[Char('H')], Action::CursorFarLeft, "", "move the cursor ten columns down"),
    bind("L", &[Char('L')], Action::CursorFarRight, "", "move the cursor ten columns up"),
    bind("+ -", &[Char('+'), Char('=')], Action::ZoomIn, "zoom", "show less of the drive, larger"),
    bind("+ -", &[Char('-')], Action::ZoomOut, "", "show more of the drive"),
    bind("e", &[Char('e')], Action::Export, "export", "write the figures of the run as SVG and PDF"),
    action::REPORT,
    bind("a", &[Char('a')], Action::ShowAll, "all", "show all of the drive and hide the cursor"),
];

pub(super) struct OfSurface;

/// What there is to show: of the run underway, or of the run that is open.
struct Shown<'a> {
    run: String,
    surface: &'a Surface,
    hollows: &'a [Hollow],
    bad: Vec<BadPlace>,
}

fn shown(state: &State) -> Option<Shown<'_>> {
    if let Some((_, _, Some((surface, hollows)))) = &state.surface.live {
        return Some(Shown {
            run: "The run underway".into(),
            surface,
            hollows,
            bad: state.surface.bad.clone(),
        });
    }
    let open = state.findings.shown.as_ref()?;
    let surface = open.findings.surface.as_ref()?;
    Some(Shown {
        run: format!("Run {}", open.run),
        surface,
        hollows: &open.findings.hollows,
        bad: open.findings.bad_places(),
    })
}

/// Takes in what a run underway has added; anew only after a hundredth more of it.
fn follow(state: &mut State) {
    let live = state.runs.live.as_ref().filter(|l| !l.is_over());
    state.surface.bad = live.map_or_else(Vec::new, |l| {
        let lane = l.lane();
        let context = l.head.lane(l.at).context_with(&lane.events);
        bad_places(&context.faults, &context.failed_tests)
    });
    let kept = state.surface.live.take();
    state.surface.live = live.map(|live| {
        let trace = live.lane().findings.trace();
        let n = trace.len();
        match kept {
            Some(kept) if kept.0 == live.id && n < kept.1 + (n / 100).max(8) => kept,
            _ => (live.id, n, surface(trace)),
        }
    });
    if state.surface.live.as_ref().is_some_and(|l| l.2.is_none()) && state.findings.shown.is_some() {
        state.surface.live = None;
    }
}

impl View for OfSurface {
    fn way(&self) -> &'static str {
        "go to the map of the surface"
    }

    fn about(&self) -> &'static str {
        "The drive from its first byte to its last, left to right. The terrain is the rate of each zone; a strip for each pass shows how far a zone lies below the baseline. A bracket with a number marks a hollow, a zone that is slower than its neighbours; ✕ cannot be read, ≠ holds other data than was written, ◇ is where the drive's own self-test failed."
    }

    fn sentence(&self, state: &State) -> (String, String) {
        let Some(shown) = shown(state) else {
            let text = match &state.findings.shown {
                Some(open) => format!(
                    "Run {} goes over no range of addresses. The ready-made course surface-check does; n in the place of the course (2) has it.",
                    open.run
                ),
                None if state.findings.loading.is_some() => "Reading a run …".to_owned(),
                None if state.findings.missing.contains(&Wanted::Surface) => {
                    "No run of the logbook goes over a range of addresses. The ready-made course surface-check does; n in the place of the course (2) has it.".to_owned()
                }
                None => "No run is open. Open a scan from the logbook (7).".to_owned(),
            };
            return (text, String::new());
        };
        let confirmed = shown.hollows.iter().filter(|h| h.passes_seen > 1 && h.orders_differ).count();
        let more = shown.hollows.len() - confirmed;
        let counted = |n: usize, one: &str, many: &str| match n {
            0 => format!("no {many}"),
            1 => format!("1 {one}"),
            n => format!("{n} {many}"),
        };
        let candidates = if more > 0 { format!(", {more} to be confirmed") } else { String::new() };
        let missing: u64 = shown.surface.not_looked_at.iter().map(|(a, b)| b - a).sum();
        let looked = match missing {
            0 => String::new(),
            bytes => format!(" {} were not looked at.", Bytes(bytes)),
        };
        let marked = |mark: &str| shown.bad.iter().filter(|b| b.mark() == mark).count();
        let bad = counted(marked("✕"), "unreadable stretch", "unreadable stretches");
        let wrong = match marked("≠") {
            0 => String::new(),
            n => format!(", {}", counted(n, "stretch with wrong data", "stretches with wrong data")),
        };
        let own = match marked("◇") {
            0 => String::new(),
            n => {
                format!(", {}", counted(n, "failed self-test of the drive", "failed self-tests of the drive"))
            }
        };
        let text = format!(
            "{}: {}{candidates}, {bad}{wrong}{own}.{looked}",
            shown.run,
            counted(confirmed, "hollow confirmed", "hollows confirmed")
        );
        let orders: Vec<&str> = shown.surface.passes.iter().map(|p| p.order.words()).collect();
        (text, orders.join(", "))
    }

    fn keys(&self) -> &'static [&'static [Binding]] {
        &[KEYS, action::ROWS]
    }

    fn draw(&self, buffer: &mut Buffer, area: Rect, state: &mut State) {
        follow(state);
        let mut place = std::mem::take(&mut state.surface);
        state.surface.live = place.live.take();
        state.surface.bad = std::mem::take(&mut place.bad);
        if let Some(shown) = shown(state) {
            draw(buffer, area, state.theme, &shown, &mut place);
        }
        place.live = state.surface.live.take();
        place.bad = std::mem::take(&mut state.surface.bad);
        state.surface = place;
    }

    fn at_hand(&self, state: &State) -> Option<AtHand> {
        super::findings::Findings.at_hand(state)
    }

    fn arrive(&self, state: &mut State, jobs: &Jobs) {
        requests::show_something(state, jobs, Wanted::Surface);
    }

    fn step(&self, state: &mut State, by: isize) {
        state.surface.scroll = crate::tui::lines::step(state.surface.scroll, by, 400);
    }

    fn canvas(&self, state: &mut State, action: Action) -> bool {
        let Some(cells) = shown(state).map(|s| s.surface.baseline_mb_s.len()) else { return false };
        let place = &mut state.surface;
        let (from, to) = place.window(cells);
        let column = ((to - from) / usize::from(place.columns.max(1))).max(1) as isize;
        let middle = place.cursor.unwrap_or(usize::midpoint(from, to));
        let move_by = |place: &mut SurfacePlace, by: isize| {
            let at = middle.saturating_add_signed(by * column).clamp(0, cells - 1);
            place.cursor = Some(at);
            if !(from..to).contains(&at) {
                let length = to - from;
                let start = at.saturating_sub(length / 2).min(cells - length);
                place.zoom = Some((start, start + length));
            }
        };
        match action {
            Action::CursorLeft => move_by(place, -1),
            Action::CursorRight => move_by(place, 1),
            Action::CursorFarLeft => move_by(place, -10),
            Action::CursorFarRight => move_by(place, 10),
            Action::ZoomIn | Action::ZoomOut => {
                let now = to - from;
                let length = if action == Action::ZoomIn { now / 2 } else { now * 2 };
                let length = length.clamp(CLOSEST.min(cells), cells);
                let start = middle.saturating_sub(length / 2).min(cells - length);
                place.zoom = (length < cells).then_some((start, start + length));
            }
            Action::ShowAll => (place.zoom, place.cursor) = (None, None),
            _ => return false,
        }
        true
    }
}

fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, shown: &Shown<'_>, place: &mut SurfacePlace) {
    let surface = shown.surface;
    let passes = surface.passes.len() as u16;
    if area.width < MARGIN + 20 || area.height < passes + 8 {
        return;
    }
    let text: Vec<(String, Style)> = words(shown, theme, place.cursor)
        .into_iter()
        .flat_map(|(text, style)| {
            wrap(&text, usize::from(area.width)).into_iter().map(move |line| (line, style))
        })
        .collect();
    let below = (text.len() as u16).min(area.height / 3).max(1);
    let plot = Rect { x: area.x + MARGIN, width: area.width - MARGIN - 1, ..area };
    place.columns = plot.width;
    let cells = surface.baseline_mb_s.len();
    let (from, to) = place.window(cells);
    // The first and the end of the cells of a column.
    let of = |x: u16| {
        let at = |x: u16| from + (to - from) * usize::from(x) / usize::from(plot.width);
        (at(x), at(x + 1).max(at(x) + 1).min(cells))
    };
    let more = strips(surface);
    // The ground needs its room first.
    let more = &more[..if area.height > below + passes + 14 { more.len() } else { 0 }];
    let strips = passes + more.len() as u16;
    let high = area.height - below - strips - 4;
    let ground = Rect { height: high, ..plot };
    terrain(buffer, ground, theme, surface, &of);
    for (i, pass) in surface.passes.iter().enumerate() {
        let y = ground.bottom() + i as u16;
        let label = format!("{:>2} {:<7}", i + 1, short(pass.order));
        buffer.set_string(
            area.x,
            y,
            label.chars().take(usize::from(MARGIN) - 1).collect::<String>(),
            theme.faint(),
        );
        for x in 0..plot.width {
            let (glyph, style) = shade(surface, i, of(x), theme);
            if let Some(cell) = buffer.cell_mut((plot.x + x, y)) {
                cell.set_char(glyph).set_style(style);
            }
        }
    }
    for (i, strip) in more.iter().enumerate() {
        let y = ground.bottom() + passes + i as u16;
        buffer.set_string(area.x, y, format!("{:>10}", strip.name), theme.faint());
        for x in 0..plot.width {
            let glyph = strip.glyph(surface, of(x));
            let style = if glyph == '·' { theme.faint() } else { Style::new().fg(theme.ink) };
            if let Some(cell) = buffer.cell_mut((plot.x + x, y)) {
                cell.set_char(glyph).set_style(style);
            }
        }
    }
    let y = ground.bottom() + strips;
    let column = |byte: u64| {
        let cell = (byte.saturating_sub(surface.start_byte)) as f64 / surface.cell_bytes;
        (cell - from as f64) / (to - from) as f64 * f64::from(plot.width)
    };
    brackets(buffer, Rect { y, height: 1, ..plot }, theme, shown, &column);
    let address = |cell: usize| surface.at(cell) as f64;
    let window = Window { from: address(from), to: address(to) };
    ruler(buffer, Rect { y: y + 1, height: 1, ..plot }, theme, window);
    if let Some(cursor) = place.cursor.filter(|c| (from..to).contains(c)) {
        let x = plot.x + ((cursor - from) * usize::from(plot.width) / (to - from)) as u16;
        for row in ground.y..y {
            if let Some(cell) = buffer.cell_mut((x, row)) {
                let style = cell.style();
                let glyph = if cell.symbol() == " " { "┊".to_owned() } else { cell.symbol().to_owned() };
                cell.set_symbol(&glyph).set_style(style.add_modifier(Modifier::REVERSED));
            }
        }
    }
    let foot = Rect { y: area.bottom() - below, height: below, ..area };
    place.scroll = place.scroll.min(text.len().saturating_sub(usize::from(below)));
    lines(buffer, foot, theme, &text[place.scroll..]);
}

fn short(order: mile_core::surface::Order) -> &'static str {
    match order {
        mile_core::surface::Order::Forward => "forward",
        mile_core::surface::Order::Backward => "backward",
        mile_core::surface::Order::Other => "mixed",
    }
}

/// The rate over all passes as ground, and the baseline drawn through.
fn terrain(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    surface: &Surface,
    of: &impl Fn(u16) -> (usize, usize),
) {
    let fastest = surface.fastest().max(1.0) * 1.08;
    let writes = surface.passes.iter().any(|p| p.op == mile_core::Op::Write);
    let colour = if writes { theme.write } else { theme.read };
    let rows = f64::from(area.height);
    for x in 0..area.width {
        let cells = of(x);
        let cells = cells.0..cells.1;
        let rate = surface.rate_over(cells.clone());
        let height = rate.unwrap_or(0.0) / fastest * rows;
        for row in 0..area.height {
            let part = (height - f64::from(row)).clamp(0.0, 1.0);
            if let Some(cell) = buffer.cell_mut((area.x + x, area.bottom() - 1 - row)) {
                fill(cell, (part * 2.0).round() as u32, colour, theme);
            }
        }
        let base = surface.baseline_over(cells).map(|b| b / fastest * rows);
        if let Some(base) = base.filter(|b| *b > height + 0.5) {
            let row = (base as u16).min(area.height - 1);
            if let Some(cell) = buffer.cell_mut((area.x + x, area.bottom() - 1 - row)) {
                cell.set_char('╌').set_style(Style::new().fg(theme.ink));
            }
        }
    }
    let label = |buffer: &mut Buffer, y: u16, text: String| {
        buffer.set_string(area.x - MARGIN, y, format!("{text:>8}"), theme.faint());
    };
    label(buffer, area.y, "MB/s".into());
    if area.height > 3 {
        label(buffer, area.y + 1, number(fastest * (rows - 1.5) / rows));
    }
    if area.height > 7 {
        label(buffer, area.y + area.height / 2, number(fastest * (rows / 2.0 - 0.5) / rows));
    }
    label(buffer, area.bottom() - 1, "0".into());
}

/// How far a pass lies below the baseline in some cells: the deepest of them, so that a narrow hollow is not lost in a wide column.
fn shade(surface: &Surface, pass: usize, cells: (usize, usize), theme: Theme) -> (char, Style) {
    match surface.deepest(pass, cells.0..cells.1) {
        None => (' ', theme.faint()),
        Some(depth) => match SHADES.iter().find(|s| depth >= s.0) {
            Some((_, glyph)) => (*glyph, Style::new().fg(theme.ink)),
            None => ('·', theme.faint()),
        },
    }
}

/// A further reading by address, the largest over all passes, in five steps.
struct Strip {
    name: &'static str,
    of: fn(&Pass) -> &[Option<f64>],
    /// From which value on a cell has which shade, the highest first.
    shades: [(f64, char); 4],
    /// What the shades mean.
    legend: String,
}

impl Strip {
    fn glyph(&self, surface: &Surface, cells: (usize, usize)) -> char {
        match surface.largest(self.of, cells.0..cells.1) {
            None => ' ',
            Some(value) => self.shades.iter().find(|s| value >= s.0).map_or('·', |s| s.1),
        }
    }
}

/// A range of temperatures that is shown in all shades at the least, °C.
const LEAST_HEAT: f64 = 10.0;

/// Latency, against the median over the surface, and heat, above the lowest; those of them that were read.
fn strips(surface: &Surface) -> Vec<Strip> {
    let mut all = Vec::new();
    let latency: fn(&Pass) -> &[Option<f64>] = |p| &p.p99_us;
    let known = surface.some_of(latency);
    if let Some(median) = known.get(known.len() / 2).copied() {
        all.push(Strip {
            name: "latency",
            of: latency,
            shades: [(10.0, '█'), (5.0, '▓'), (2.5, '▒'), (1.5, '░')].map(|(times, c)| (times * median, c)),
            legend: format!(
                "Latency: p99, · about {} ms, ░ 1.5 times, ▒ 2.5 times, ▓ 5 times, █ 10 times and more.",
                number(median / 1e3)
            ),
        });
    }
    let heat: fn(&Pass) -> &[Option<f64>] = |p| &p.temp_c;
    let known = surface.some_of(heat);
    if let (Some(low), Some(high)) = (known.first().copied(), known.last().copied()) {
        let at = |part: f64| low + part * (high - low).max(LEAST_HEAT);
        all.push(Strip {
            name: "heat",
            of: heat,
            shades: [(at(0.8), '█'), (at(0.6), '▓'), (at(0.4), '▒'), (at(0.2), '░')],
            legend: format!(
                "Heat: {low:.0} to {high:.0} °C, ░ from {:.0} °C, █ from {:.0} °C on.",
                at(0.2),
                at(0.8)
            ),
        });
    }
    all
}

/// The hollows with their numbers, and what cannot be read.
fn brackets(buffer: &mut Buffer, area: Rect, theme: Theme, shown: &Shown<'_>, column: &impl Fn(u64) -> f64) {
    let inside = |x: f64| (x >= 0.0 && x < f64::from(area.width)).then(|| area.x + x as u16);
    for (i, h) in shown.hollows.iter().enumerate() {
        let (a, b) = (column(h.start_byte), column(h.end_byte));
        if b < 0.0 || a >= f64::from(area.width) {
            continue;
        }
        let left = area.x + a.max(0.0) as u16;
        let right = (area.x + b.max(0.0) as u16).min(area.right() - 1).max(left);
        for x in left..=right {
            let glyph = match (x == left, x == right) {
                (true, true) => "╵",
                (true, _) => "└",
                (_, true) => "┘",
                _ => "─",
            };
            buffer.set_string(x, area.y, glyph, theme.strong());
        }
        let number = (i + 1).to_string();
        let wide = number.len() as u16;
        let middle = u16::midpoint(left, right + 1 - wide.min(right + 1));
        if right > left + wide {
            buffer.set_string(middle, area.y, number, theme.strong());
        } else if right + wide < area.right() {
            buffer.set_string(right + 1, area.y, number, theme.strong());
        }
    }
    for b in &shown.bad {
        if let Some(x) = inside(column(b.start_byte)) {
            buffer.set_string(x, area.y, b.mark(), theme.strong());
        }
    }
}

fn ruler(buffer: &mut Buffer, area: Rect, theme: Theme, window: Window) {
    for x in area.x..area.right() {
        buffer.set_string(x, area.y, "─", theme.faint());
    }
    let unit = Ruler::Bytes.unit(window).0.to_string();
    buffer.set_string(area.x.saturating_sub(unit.chars().count() as u16 + 1), area.y, unit, theme.faint());
    for (position, label) in ticks(Ruler::Bytes, window, usize::from(area.width / 14).max(2)) {
        let at = ((position - window.from) / (window.to - window.from) * f64::from(area.width)) as u16;
        if at + (label.chars().count() as u16) + 1 < area.width {
            buffer.set_string(area.x + at, area.y, format!("╵{label}"), Style::new().fg(theme.ink));
        }
    }
}

/// What is under the cursor, the hollows, what is none, and the baseline.
fn words(shown: &Shown<'_>, theme: Theme, cursor: Option<usize>) -> Vec<(String, Style)> {
    let ink = Style::new().fg(theme.ink);
    let surface = shown.surface;
    let mut all = Vec::new();
    if let Some(c) = cursor.filter(|c| *c < surface.baseline_mb_s.len()) {
        let passes = surface.passes.iter().enumerate().map(|(i, p)| {
            let ms = |of: &[Option<f64>]| of.get(c).copied().flatten().map(|us| number(us / 1e3));
            let latency = ms(&p.p99_us).zip(ms(&p.slowest_us));
            let latency = latency
                .map_or(String::new(), |(p99, slowest)| format!(", p99 {p99} ms, slowest {slowest} ms"));
            let heat = p.temp_c.get(c).copied().flatten().map_or(String::new(), |t| format!(", {t:.0} °C"));
            p.mb_s[c].map_or(format!("pass {} not there", i + 1), |r| {
                format!("pass {} {} MB/s{latency}{heat}", i + 1, number(r))
            })
        });
        let base =
            surface.baseline_mb_s[c].map_or(String::new(), |b| format!(", baseline {} MB/s", number(b)));
        all.push((
            format!(
                "Here, {} to {}: {}{base}",
                Bytes(surface.at(c)),
                Bytes(surface.at(c + 1)),
                passes.collect::<Vec<_>>().join("; ")
            ),
            theme.strong(),
        ));
    }
    for (i, h) in shown.hollows.iter().enumerate() {
        all.push((format!("{:>2} {}", i + 1, h.sentence()), ink));
    }
    for b in &shown.bad {
        all.push((format!("{} {}", b.mark(), b.words()), ink));
    }
    for p in &surface.passing {
        let text = format!(
            "No hollow: {} to {} was {:.0} % slow in {}: {}",
            Bytes(p.start_byte),
            Bytes(p.end_byte),
            p.depth_pct,
            p.leg,
            p.instead.words()
        );
        all.push((text, theme.faint()));
    }
    all.push((format!("{}.", surface.sentence()), theme.faint()));
    all.push((
        "Strips: · at the baseline, ░ 6 %, ▒ 12 %, ▓ 25 %, █ 50 % and more below it, blank not looked at."
            .into(),
        theme.faint(),
    ));
    all.extend(strips(surface).into_iter().map(|s| (s.legend, theme.faint())));
    all
}
