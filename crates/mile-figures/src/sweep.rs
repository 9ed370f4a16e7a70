//! The figures of sweeps: what was measured against fill level, rest, operations in flight, and demands, a panel for each.

use crate::ink::{Area, FAINT, GRID, INK, RIDGE, SLATE, failed, font};
use crate::labels::{Labels, width};
use crate::panel::WIDTH;
use crate::{FigureError, panel};
use mile_core::findings::Findings;
use mile_core::repeats::Figure;
use mile_core::sample::Op;
use mile_core::span::{SpanFound, SpanShare, percent};
use mile_core::sweeps::{FillFound, RampFound, Recovery};
use mile_core::tables::SweepTable;
use mile_core::units::{Bytes, Nanos, block_size, number};
use plotters::chart::ChartBuilder;
use plotters::element::{Circle, DashedPathElement, PathElement, Text};
use plotters::prelude::{IntoDrawingArea, RGBColor, SVGBackend, ShapeStyle, WHITE};
use plotters::style::text_anchor::{HPos, Pos, VPos};

const PANEL: u32 = 330;
/// Most sweeps that are drawn, and most lines of one.
const MOST_TABLES: usize = 12;
const MOST_LINES: usize = 8;
const LEFT: i32 = 90;
const RIGHT: i32 = 190;

/// Place, value, and the interval of the value where there is one.
type Point = (f64, f64, Option<(f64, f64)>);

/// A line of points that belong together.
#[derive(Clone, Debug, Default, PartialEq)]
struct Series {
    name: String,
    op: Op,
    /// Whether the line is dashed, so that it is told apart without its colour.
    dashed: bool,
    points: Vec<Point>,
}

/// A chart of some of them.
#[derive(Clone, Debug, Default, PartialEq)]
struct Panel {
    title: String,
    unit: String,
    /// Places along the bottom that are marked, with their labels.
    marks: Vec<(f64, String)>,
    series: Vec<Series>,
    /// Whether points are joined.
    joined: bool,
}

impl Panel {
    /// Lines over common marks; those without a point are left out.
    fn joined(title: &str, unit: &str, marks: &[(f64, String)], series: Vec<Series>) -> Self {
        Self {
            title: title.into(),
            unit: unit.into(),
            marks: marks.to_vec(),
            series: series.into_iter().filter(|s| !s.points.is_empty()).collect(),
            joined: true,
        }
    }
}

/// Draws what a run shows as a sweep as SVG; `None` where it is none.
pub fn draw_sweep(title: &str, lines: &[String], found: &Findings) -> Result<Option<String>, FigureError> {
    let mut panels: Vec<Panel> = Vec::new();
    panels.extend(found.fill.as_ref().map(fill).unwrap_or_default());
    panels.extend(found.recovery.as_ref().map(recovery));
    panels.extend(found.ramp.as_ref().map(ramp).unwrap_or_default());
    panels.extend(demand(found));
    // What the panels above go over is shown there.
    let mut shown: Vec<&str> = Vec::new();
    if found.fill.is_some() {
        shown.push("fill");
    }
    if found.ramp.is_some() {
        shown.extend(["blocks", "block", "depth", "workers"]);
    }
    if found.span.is_some() {
        shown.push("span");
    }
    let others = found.sweeps.iter().filter(|t| !t.over.iter().all(|name| shown.contains(&name.as_str())));
    panels.extend(others.take(MOST_TABLES).map(table));
    draw_panels(title, lines, &panels)
}

/// Draws what random access gains on a part of the drive as SVG; `None` where no legs show it.
pub fn draw_span(title: &str, lines: &[String], found: &Findings) -> Result<Option<String>, FigureError> {
    let Some(span) = &found.span else { return Ok(None) };
    let mut lines = lines.to_vec();
    lines.extend(span.sentences());
    draw_panels(title, &lines, &self::span(span))
}

fn draw_panels(title: &str, lines: &[String], panels: &[Panel]) -> Result<Option<String>, FigureError> {
    if panels.is_empty() {
        return Ok(None);
    }
    let head = 62 + 19 * lines.len() as u32;
    let mut svg = String::new();
    {
        let size = (WIDTH, head + PANEL * panels.len() as u32 + 10);
        let root = SVGBackend::with_string(&mut svg, size).into_drawing_area();
        root.fill(&WHITE).map_err(failed)?;
        let (top, mut rest) = root.split_vertically(head);
        panel::draw_title(&top, title, lines)?;
        for panel in panels {
            let (area, below) = rest.split_vertically(PANEL);
            draw_panel(&area, panel)?;
            rest = below;
        }
        root.present().map_err(failed)?;
    }
    Ok(Some(svg))
}

fn point(x: f64, figure: Figure, scale: f64) -> Point {
    (x, figure.mean / scale, figure.low.zip(figure.high).map(|(l, h)| (l / scale, h / scale)))
}

fn fill(found: &FillFound) -> Vec<Panel> {
    let marks: Vec<(f64, String)> = found
        .levels
        .iter()
        .map(|l| (l.fill_pct, format!("{} % full", (l.fill_pct * 10.0).round() / 10.0)))
        .collect();
    let cache = Series {
        name: "write cache".into(),
        points: found.levels.iter().filter_map(|l| Some(point(l.fill_pct, l.cache_bytes?, 1e9))).collect(),
        ..Series::default()
    };
    let mut rates = vec![
        Series {
            name: "into the cache".into(),
            points: found
                .levels
                .iter()
                .filter_map(|l| Some(point(l.fill_pct, l.before_mb_s?, 1.0)))
                .collect(),
            ..Series::default()
        },
        Series {
            name: "after the cache".into(),
            dashed: true,
            points: found.levels.iter().filter_map(|l| Some(point(l.fill_pct, l.after_mb_s?, 1.0))).collect(),
            ..Series::default()
        },
    ];
    for named in found.levels.first().map_or(&[][..], |l| &l.figures) {
        let of = |l: &mile_core::sweeps::FillLevel| {
            let figure = l.figures.iter().find(|f| f.leg == named.leg)?;
            Some(point(l.fill_pct, figure.mb_s, 1.0))
        };
        let points = found.levels.iter().filter_map(of).collect();
        rates.push(Series { name: named.leg.clone(), op: named.op, dashed: named.op == Op::Write, points });
    }
    let panel = |title: &str, unit: &str, series: Vec<Series>| Panel::joined(title, unit, &marks, series);
    let panels = [
        panel("Write cache against fill level", "GB", vec![cache]),
        panel("Rates against fill level", "MB/s", rates),
    ];
    panels.into_iter().filter(|p| !p.series.is_empty()).collect()
}

/// Time for each operation against the share of the drive, and what each cut gains; shares on a logarithmic ruler.
fn span(found: &SpanFound) -> Vec<Panel> {
    let at = |share: f64| share.max(0.001).log10();
    let front: Vec<&SpanShare> = found.shares.iter().filter(|s| s.from == "front").collect();
    let of = |from: &str, value: &dyn Fn(&SpanShare) -> Option<Point>| -> Vec<Point> {
        // From the smallest on: what a line is called stands at its right end.
        found.shares.iter().rev().filter(|s| s.from == from).filter_map(value).collect()
    };
    let mean = |s: &SpanShare| {
        let interval = s.low_us.zip(s.high_us).map(|(l, h)| (l / 1e3, h / 1e3));
        Some((at(s.share_pct), s.mean_us / 1e3, interval))
    };
    let line = |name: &str, dashed, points| Series { name: name.into(), op: Op::Read, dashed, points };
    let p99 = |s: &SpanShare| Some((at(s.share_pct), s.p99_us? / 1e3, None));
    let times = vec![
        line("mean, at the front", false, of("front", &mean)),
        line("99th percentile", true, of("front", &p99)),
        line("mean, at the end", true, of("end", &mean)),
    ];
    let mut marks: Vec<(f64, String)> =
        found.shares.iter().map(|s| (at(s.share_pct), percent(s.share_pct))).collect();
    marks.sort_by(|a, b| a.0.total_cmp(&b.0));
    marks.dedup_by(|a, b| a.1 == b.1);
    // Labels that would lie on each other are left out.
    let mut last = f64::NEG_INFINITY;
    let apart = (marks.last().map_or(0.0, |m| m.0) - marks.first().map_or(0.0, |m| m.0)) / 16.0;
    marks.retain(|(x, _)| {
        let is_clear = x - last >= apart;
        last = if is_clear { *x } else { last };
        is_clear
    });
    let gains: Vec<Point> = front
        .windows(2)
        .rev()
        .map(|w| (at(w[1].share_pct), (100.0 * (1.0 - w[1].mean_us / w[0].mean_us)).max(0.0), None))
        .collect();
    let panel = |title: &str, unit: &str, series: Vec<Series>| Panel::joined(title, unit, &marks, series);
    vec![
        panel("Time for each random read, against the share of the drive", "ms", times),
        panel(
            "Time saved by each cut, against the next larger share",
            "%",
            vec![line("saved", false, gains)],
        ),
    ]
    .into_iter()
    .filter(|p| !p.series.is_empty())
    .collect()
}

fn recovery(found: &Recovery) -> Panel {
    let at = |rest: f64| rest.max(1.0).log10();
    let interval = |p: &mile_core::sweeps::Regained| (p.low_bytes as f64 / 1e9, p.high_bytes as f64 / 1e9);
    Panel {
        title: format!("What comes back of the write cache of {} in a rest", Bytes(found.cache_bytes)),
        unit: "GB".into(),
        marks: found.points.iter().map(|p| (at(p.rest_s), Nanos::from_secs(p.rest_s).to_string())).collect(),
        series: vec![Series {
            name: "regained".into(),
            points: found
                .points
                .iter()
                .map(|p| (at(p.rest_s), p.bytes as f64 / 1e9, Some(interval(p))))
                .collect(),
            ..Series::default()
        }],
        joined: true,
    }
}

fn ramp(found: &RampFound) -> Vec<Panel> {
    let flying = |p: &mile_core::sweeps::RampPoint| p.depth.unwrap_or(1) * p.workers.unwrap_or(1);
    let at = |n: u32| f64::from(n.max(1)).log2();
    let panel = |r: &mile_core::sweeps::Ramp| {
        let mut marks: Vec<u32> = r.points.iter().map(flying).collect();
        marks.sort_unstable();
        marks.dedup();
        let lines = r.points.chunk_by(|a, b| a.block_bytes == b.block_bytes);
        Panel {
            title: format!("{}: rate against operations in flight", r.leg),
            unit: "MB/s".into(),
            marks: marks.into_iter().map(|n| (at(n), n.to_string())).collect(),
            series: lines
                .enumerate()
                .map(|(i, line)| Series {
                    name: line[0].block_bytes.map_or_else(|| r.leg.clone(), |b| block_size(Bytes(b))),
                    op: r.op,
                    dashed: i % 2 == 1,
                    points: line.iter().map(|p| point(at(flying(p)), p.mb_s, 1.0)).collect(),
                })
                .collect(),
            joined: true,
        }
    };
    found.ramps.iter().map(panel).collect()
}

/// Any sweep: the rate against the name with the most values, a line for each combination of the others.
fn table(table: &SweepTable) -> Panel {
    let along = (0..table.over.len()).max_by_key(|i| (table.values[*i].len(), usize::MAX - i)).unwrap_or(0);
    let numbers: Vec<f64> = (0..table.values[along].len()).map(|v| table.number(along, v)).collect();
    let scale = Scale::of(&numbers);
    let mut lines: Vec<(String, Vec<Point>)> = Vec::new();
    for cell in &table.cells {
        let others = table.over.iter().enumerate().filter(|(i, _)| *i != along);
        let name: Vec<String> =
            others.map(|(i, name)| format!("{name} {}", table.values[i][cell.at[i]])).collect();
        let name = if name.is_empty() { table.leg.clone() } else { name.join(", ") };
        let at = point(scale.place(&numbers, cell.at[along]), cell.mb_s, 1.0);
        match lines.iter_mut().find(|l| l.0 == name) {
            Some(line) => line.1.push(at),
            None => lines.push((name, vec![at])),
        }
    }
    let left_out = lines.len().saturating_sub(MOST_LINES);
    let more =
        if left_out > 0 { format!(" ({left_out} more lines are in the table)") } else { String::new() };
    let series = lines.into_iter().take(MOST_LINES).enumerate().map(|(i, (name, mut points))| {
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        Series { name, op: table.op, dashed: i % 2 == 1, points }
    });
    let marks = table.values[along].iter().enumerate();
    Panel {
        title: format!("{}: rate against {}{more}", table.leg, table.over[along]),
        unit: "MB/s".into(),
        marks: marks.map(|(v, label)| (scale.place(&numbers, v), label.clone())).collect(),
        series: series.collect(),
        joined: true,
    }
}

/// How the values of a sweep lie along the bottom of its figure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Scale {
    /// By their logarithm to base 2: steps such as 1, 2, 4, 8.
    Doubling,
    /// As they are, put to the width that this many steps have.
    Even,
    /// One after the other: they are no numbers that ascend.
    Listed,
}

impl Scale {
    fn of(numbers: &[f64]) -> Self {
        if numbers.windows(2).any(|w| w[1] <= w[0]) {
            return Self::Listed;
        }
        let ratio = |w: &[f64]| w[1] / w[0];
        let doubles = numbers[0] > 0.0 && numbers.len() > 2 && numbers.windows(2).all(|w| ratio(w) >= 1.5);
        if doubles { Self::Doubling } else { Self::Even }
    }

    fn place(self, numbers: &[f64], at: usize) -> f64 {
        let span = numbers[numbers.len() - 1] - numbers[0];
        match self {
            Self::Doubling => numbers[at].log2(),
            Self::Even if span > 0.0 => (numbers[at] - numbers[0]) / span * (numbers.len() - 1) as f64,
            _ => at as f64,
        }
    }
}

fn demand(found: &Findings) -> Option<Panel> {
    if found.demand.is_empty() {
        return None;
    }
    let series = |name: &str, op, dashed, of: fn(&mile_core::demand::DemandFound) -> f64| Series {
        name: name.into(),
        op,
        dashed,
        points: found.demand.iter().enumerate().map(|(i, d)| (i as f64, of(d), None)).collect(),
    };
    let held = |d: &mile_core::demand::DemandFound| {
        let words = if d.held { "held" } else { "not held" };
        format!("{}, buffer {}: {words}", d.name, Bytes(d.buffer_bytes))
    };
    Some(Panel {
        title: "Streams: what they ask for, and the highest rate that their buffer holds".into(),
        unit: "MB/s".into(),
        marks: found.demand.iter().enumerate().map(|(i, d)| (i as f64, held(d))).collect(),
        series: vec![
            series("asked for", Op::Read, true, |d| d.rate_mb_s),
            series("highest held", Op::Write, false, |d| d.highest_mb_s),
        ],
        joined: false,
    })
}

fn colour(op: Op) -> RGBColor {
    if op == Op::Read { SLATE } else { RIDGE }
}

fn draw_panel(area: &Area<'_>, panel: &Panel) -> Result<(), FigureError> {
    let points = || panel.series.iter().flat_map(|s| &s.points);
    let most = points().map(|p| p.2.map_or(p.1, |i| i.1.max(p.1))).fold(0.0, f64::max).max(1e-9) * 1.08;
    let (from, to) = points().fold((f64::MAX, f64::MIN), |(a, b), p| (a.min(p.0), b.max(p.0)));
    let pad = ((to - from) * 0.04).max(0.3);
    area.draw(&Text::new(panel.title.clone(), (LEFT - 16, 14), font(16.0, INK))).map_err(failed)?;
    let mut chart = ChartBuilder::on(area)
        .margin_top(42)
        .margin_bottom(46)
        .margin_left(LEFT)
        .margin_right(RIGHT)
        .build_cartesian_2d(from - pad..to + pad, 0.0..most)
        .map_err(failed)?;
    let step = step_of(most / 5.0);
    let mut value = 0.0;
    while value <= most {
        let line = PathElement::new(
            vec![(from - pad, value), (to + pad, value)],
            ShapeStyle::from(&GRID).stroke_width(1),
        );
        chart.draw_series([line]).map_err(failed)?;
        let at = chart.backend_coord(&(from - pad, value));
        let at = (at.0 - area.get_base_pixel().0 - 8, at.1 - area.get_base_pixel().1);
        let style = font(12.0, FAINT).pos(Pos::new(HPos::Right, VPos::Center));
        area.draw(&Text::new(number(value), at, style)).map_err(failed)?;
        value += step;
    }
    area.draw(&Text::new(
        panel.unit.clone(),
        (LEFT - 16, 32),
        font(12.0, FAINT).pos(Pos::new(HPos::Right, VPos::Center)),
    ))
    .map_err(failed)?;
    let base = area.get_base_pixel();
    let mut marked = Labels::within((0, 0, WIDTH as i32, i32::MAX));
    for (x, label) in &panel.marks {
        let at = chart.backend_coord(&(*x, 0.0));
        let left = at.0 - base.0 - width(label, 12.0) / 2;
        if marked.place(label, 12.0, &[(left, at.1 - base.1 + 8)]).is_none() {
            continue;
        }
        let style = font(12.0, FAINT).pos(Pos::new(HPos::Center, VPos::Top));
        area.draw(&Text::new(label.clone(), (at.0 - base.0, at.1 - base.1 + 8), style)).map_err(failed)?;
    }
    for series in &panel.series {
        let stroke = ShapeStyle::from(&colour(series.op)).stroke_width(2);
        let path: Vec<(f64, f64)> = series.points.iter().map(|p| (p.0, p.1)).collect();
        if panel.joined && series.dashed {
            chart.draw_series([DashedPathElement::new(path.clone(), 6, 4, stroke)]).map_err(failed)?;
        } else if panel.joined {
            chart.draw_series([PathElement::new(path.clone(), stroke)]).map_err(failed)?;
        }
        let bars = series.points.iter().filter_map(|p| Some((p.0, p.2?)));
        for (x, (low, high)) in bars {
            let bar =
                PathElement::new(vec![(x, low.max(0.0)), (x, high)], ShapeStyle::from(&INK).stroke_width(1));
            chart.draw_series([bar]).map_err(failed)?;
        }
        let dot = |p: &(f64, f64)| {
            let style = ShapeStyle::from(&colour(series.op));
            Circle::new(*p, 4, if series.dashed { style.stroke_width(2) } else { style.filled() })
        };
        chart.draw_series(path.iter().map(dot)).map_err(failed)?;
    }
    // Names at the right end, moved apart where they would lie on each other.
    let end = |s: &Series| s.points.last().map_or(0.0, |p| p.1);
    let mut order: Vec<&Series> = panel.series.iter().collect();
    order.sort_by(|a, b| end(b).total_cmp(&end(a)));
    let mut lowest = i32::MIN;
    for series in order {
        let at = chart.backend_coord(&(to + pad, end(series)));
        let y = (at.1 - base.1).max(lowest.saturating_add(15));
        lowest = y;
        let style = font(12.0, colour(series.op)).pos(Pos::new(HPos::Left, VPos::Center));
        let name = format!("{} {}", if series.dashed { "○" } else { "●" }, series.name);
        area.draw(&Text::new(name, (at.0 - base.0 + 8, y), style)).map_err(failed)?;
    }
    Ok(())
}

/// A round step at or above `least`.
pub(crate) fn step_of(least: f64) -> f64 {
    let power = 10_f64.powf(least.log10().floor());
    [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= least).unwrap_or(least)
}
