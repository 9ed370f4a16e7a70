//! The picture of a run as plain geometry: places on a ruler along it, values on a scale across it.
//!
//! The terminal and the printed figure draw the same scene, so that what is exported is what was on the screen. A painter decides about cells, inks and
//! which label has room, and about nothing else.

use crate::channel::Series;
use crate::context::Context;
use crate::figures::Plateau;
use crate::findings::{Break, Findings};
use crate::heat::HeatFit;
use crate::pyramid::Extent;
use crate::ruler::{Column, Ruler, Wanted, Window, columns_with};
use crate::sample::Op;
use crate::thermal::HeatCurve;
use crate::trace::Trace;
use crate::units::{Nanos, latency_text, number, thousands};

/// What there is to show of one drive.
#[derive(Clone, Copy, Debug)]
pub struct Subject<'a> {
    /// Its samples.
    pub trace: &'a Trace,
    /// The breaks in its rate; their numbers are their places here, from 1.
    pub breaks: &'a [Break],
    /// The plateaus of its rate; none where they are not known yet.
    pub plateaus: &'a [Plateau],
    /// Its limits.
    pub context: &'a Context,
    /// The curve that was fitted to its temperature while it warmed up.
    pub heat: Option<&'a HeatCurve>,
    /// Where the temperature of a run underway leads.
    pub leads_to: Option<HeatFit>,
}

impl<'a> Subject<'a> {
    /// A drive of which the plateaus are not known, nor a curve of its temperature.
    pub fn with_breaks(trace: &'a Trace, breaks: &'a [Break], context: &'a Context) -> Self {
        Self { trace, breaks, plateaus: &[], context, heat: None, leads_to: None }
    }

    /// What a run showed that is over.
    pub fn of(trace: &'a Trace, findings: &'a Findings, context: &'a Context) -> Self {
        let heat = findings.thermal.as_ref().and_then(|t| t.curve.as_ref());
        Self { trace, breaks: &findings.breaks, plateaus: &findings.plateaus, context, heat, leads_to: None }
    }
}

/// How finely a painter draws: so many columns of ground and so many values of a curve along the whole picture, at least 1 each.
#[derive(Clone, Copy, Debug)]
pub struct Grain {
    /// Columns of ground.
    pub ground: usize,
    /// Values of each curve.
    pub curve: usize,
}

/// The picture of one drive.
#[derive(Clone, Debug)]
pub struct Scene {
    /// What lies along the bottom.
    pub ruler: Ruler,
    /// The part of it that is shown.
    pub window: Window,
    /// The rate in columns of equal width; `None` where there is no sample.
    pub ground: Vec<Option<Column>>,
    /// The top of the scale of rates, MB/s: a round number above the highest; 0 where nothing was moved.
    pub top: f64,
    /// The plateaus, as lines over the ground.
    pub plateaus: Vec<PlateauLine>,
    /// The legs, in their order.
    pub legs: Vec<LegSpan>,
    /// The breaks, in the order of their places.
    pub marks: Vec<Mark>,
    /// What lies below the ruler, on the same ruler.
    pub strips: Vec<Strip>,
}

/// The picture of several drives on one clock: all grounds have one scale, and the strips are of all of them.
#[derive(Clone, Debug)]
pub struct LanesScene {
    /// The part of the clock that is shown.
    pub window: Window,
    /// The top of the scale of rates of all lanes, MB/s; 0 where nothing was moved.
    pub top: f64,
    /// The lanes, without strips of their own.
    pub lanes: Vec<Scene>,
    /// Temperatures first, then one strip for each unit of the channels.
    pub strips: Vec<Strip>,
}

/// A plateau as a line from one place and rate to another.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PlateauLine {
    /// Place on the ruler and rate in MB/s at its start, as far as it is shown.
    pub from: (f64, f64),
    /// The same at its end.
    pub to: (f64, f64),
    /// Its mean rate, MB/s.
    pub mean: f64,
    /// Standard deviation of the rates of its samples, MB/s.
    pub sd: Option<f64>,
    /// Whether the next one is lower by a tenth or more, or there is none.
    pub falls_after: bool,
}

impl PlateauLine {
    /// What may be written beside it, the longest way first.
    pub fn labels(&self) -> [String; 3] {
        let mean = number(self.mean);
        let plain = format!("{mean} MB/s");
        let deviation = self.sd.map_or(plain.clone(), |sd| format!("{mean} ± {} MB/s", number(sd)));
        [deviation, plain, mean]
    }
}

/// A stretch of the ruler in which one leg ran.
#[derive(Clone, Debug, PartialEq)]
pub struct LegSpan {
    /// Name of the leg.
    pub name: String,
    /// What it did.
    pub op: Op,
    /// Where it began, at the left end of what is shown at the least.
    pub from: f64,
    /// Where it ended.
    pub to: f64,
}

/// Where a break is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Mark {
    /// Its place in the list of breaks, from 0; it is numbered from 1.
    pub index: usize,
    /// Its place on the ruler.
    pub at: f64,
}

/// What a strip is of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reading {
    /// Temperatures, °C.
    Temperature,
    /// Latency: values are decimal logarithms of µs.
    Latency,
    /// Channels of a unit.
    Channel(String),
}

/// Curves on one scale.
#[derive(Clone, Debug, PartialEq)]
pub struct Strip {
    /// What they are of.
    pub reading: Reading,
    /// Bottom of the scale.
    pub low: f64,
    /// Top of the scale, above its bottom.
    pub high: f64,
    /// Limits that drives declare, each once, the lower first: what it is called, and where it lies.
    pub limits: Vec<(&'static str, f64)>,
    /// The curves, in the order in which they are drawn.
    pub curves: Vec<Curve>,
    /// Two curves between which the strip is shaded, the lower first.
    pub band: Option<[usize; 2]>,
}

/// How a curve came to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CurveKind {
    /// It was measured.
    Measured,
    /// It was measured, and is the upper edge of another.
    Upper,
    /// It was measured beside the drive, by a channel.
    Beside,
    /// It was fitted.
    Fitted,
    /// It is where a curve leads.
    LeadsTo,
}

/// A curve.
#[derive(Clone, Debug, PartialEq)]
pub struct Curve {
    /// How it came to be.
    pub kind: CurveKind,
    /// What it is called; may be empty where there is but one.
    pub name: String,
    /// The number of its lane, which is that of its colour; channels of the run itself come after those of all lanes.
    pub lane: usize,
    /// Its values, evenly along the window; `None` where there is none.
    pub values: Vec<Option<f64>>,
}

impl Curve {
    /// The last value that it has.
    pub fn last(&self) -> Option<f64> {
        self.values.iter().rev().flatten().next().copied()
    }
}

impl Strip {
    /// A value with its unit.
    pub fn text(&self, value: f64) -> String {
        match &self.reading {
            Reading::Temperature => format!("{value:.0} °C"),
            Reading::Latency => latency_text(10_f64.powf(value)),
            // Ends of a scale are mostly whole.
            Reading::Channel(unit) if value.fract() == 0.0 => format!("{value:.0} {unit}"),
            Reading::Channel(unit) => format!("{} {unit}", number(value)),
        }
    }

    /// What stands at the right end of a curve; `None` for one that has no end of its own to be named.
    pub fn label(&self, curve: &Curve) -> Option<(f64, String)> {
        let last = curve.last()?;
        let text = match (curve.kind, curve.name.as_str()) {
            (CurveKind::Fitted, _) => return None,
            // Without its unit, which stands beside the curve that leads there.
            (CurveKind::LeadsTo, name) => format!("{name} {last:.0}"),
            (_, "") => self.text(last),
            (_, name) => format!("{name} {}", self.text(last)),
        };
        Some((last, text))
    }

    /// Round values within the scale and their labels, about so many.
    pub fn levels(&self, most: usize) -> Vec<(f64, String)> {
        match self.reading {
            Reading::Latency => {
                // Whole decades, where there are any; else 1, 2 and 5 of each.
                let (first, last) = (self.low.floor() as i32, self.high.ceil() as i32);
                let of = |parts: &[f64]| -> Vec<f64> {
                    let all =
                        (first..=last).flat_map(|d| parts.iter().map(move |p| f64::from(d) + p.log10()));
                    all.filter(|v| (self.low..=self.high).contains(v)).collect()
                };
                let decades = of(&[1.0]);
                let values = if decades.len() >= 2 { decades } else { of(&[1.0, 2.0, 5.0]) };
                values.into_iter().map(|v| (v, self.text(v))).collect()
            }
            _ => labelled(levels(self.low, self.high, most as f64)),
        }
    }
}

/// Multiples of a round step (1, 2 or 5 times a power of ten) from `low` to `high`, at most about `most` of them.
pub fn levels(low: f64, high: f64, most: f64) -> Vec<f64> {
    let rough = (high - low) / most.max(1.0);
    if !(rough > 0.0 && rough.is_finite()) {
        return Vec::new();
    }
    let power = 10_f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough * 0.999);
    let step = step.unwrap_or(rough);
    let (first, last) = ((low / step - 1e-9).ceil() as i64, (high / step + 1e-9).floor() as i64);
    (first..=last).map(|i| i as f64 * step).collect()
}

/// Levels with their labels: round numbers without a needless fraction.
pub fn labelled(levels: Vec<f64>) -> Vec<(f64, String)> {
    let label = |level: f64| {
        if level.fract() != 0.0 || level.abs() >= 1e9 {
            return number(level);
        }
        // Its digits are grouped without the sign: −200 was "-,200".
        let sign = if level < 0.0 { "−" } else { "" };
        format!("{sign}{}", thousands(&format!("{:.0}", level.abs())))
    };
    levels.into_iter().map(|l| (l, label(l))).collect()
}

/// A round number at or above `value`; 0 for 0.
pub fn ceiling(value: f64) -> f64 {
    if value <= 0.0 {
        return 0.0;
    }
    let power = 10_f64.powf(value.max(1e-3).log10().floor());
    [1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0]
        .into_iter()
        .map(|m| m * power)
        .find(|r| *r >= value)
        .unwrap_or(value)
}

impl Scene {
    /// The picture of a drive on a part of a ruler.
    pub fn of(subject: &Subject<'_>, ruler: Ruler, window: Window, grain: Grain) -> Self {
        let mut scene = Self::ground_of(subject, ruler, window, grain.ground);
        let fine = columns_with(subject.trace, ruler, window, grain.curve, Wanted::Strips);
        let mut curves = Vec::new();
        if let Some(fit) = &subject.leads_to {
            curves.push(Curve {
                kind: CurveKind::LeadsTo,
                name: "leads to".into(),
                lane: 0,
                values: vec![Some(fit.settles); grain.curve],
            });
        }
        let fit = fitted(subject, ruler, window, grain.curve);
        curves.extend(fit.map(|values| Curve {
            kind: CurveKind::Fitted,
            name: String::new(),
            lane: 0,
            values,
        }));
        curves.push(Curve {
            kind: CurveKind::Measured,
            name: String::new(),
            lane: 0,
            values: means(&fine, |c| c.temp),
        });
        scene.strips.extend(temperatures(curves, std::iter::once(subject.context)));
        scene.strips.extend(latencies(&fine));
        scene
    }

    /// The picture without what lies below the ruler.
    fn ground_of(subject: &Subject<'_>, ruler: Ruler, window: Window, count: usize) -> Self {
        let ground = columns_with(subject.trace, ruler, window, count, Wanted::Rate);
        let highest = ground.iter().flatten().filter_map(|c| c.rate).map(|r| r.max).fold(0.0, f64::max);
        Self {
            ruler,
            window,
            ground,
            top: ceiling(highest),
            plateaus: plateaus(subject, ruler, window),
            legs: legs(subject.trace, ruler, window),
            marks: marks(subject, ruler, window),
            strips: Vec::new(),
        }
    }
}

impl LanesScene {
    /// The picture of named drives; the whole of their clock where no window is given.
    pub fn of(
        lanes: &[(&str, Subject<'_>)],
        series: &[Series],
        window: Option<Window>,
        grain: Grain,
    ) -> Self {
        let end = lanes.iter().map(|l| Ruler::Time.end(l.1.trace)).fold(1.0, f64::max);
        let window = window.unwrap_or(Window { from: 0.0, to: end });
        let scenes: Vec<Scene> =
            lanes.iter().map(|l| Scene::ground_of(&l.1, Ruler::Time, window, grain.ground)).collect();
        let top = scenes.iter().map(|s| s.top).fold(0.0, f64::max);
        let called = |one: &Series| match one.channel.of.and_then(|of| lanes.get(of as usize)) {
            Some((lane, _)) if lanes.len() > 1 => format!("{lane} {}", one.channel.name),
            _ => one.channel.name.clone(),
        };
        let of_unit = |unit: &str| -> Vec<Curve> {
            let all = series.iter().filter(|s| s.channel.unit == unit && !s.readings.is_empty());
            all.map(|one| Curve {
                kind: CurveKind::Beside,
                name: called(one),
                lane: one.channel.of.map_or(lanes.len(), |of| of as usize),
                values: readings(one, window, grain.curve),
            })
            .collect()
        };
        // What the drives tell themselves is drawn over what is measured beside them.
        let mut curves = of_unit("°C");
        curves.extend(lanes.iter().enumerate().map(|(i, (name, subject))| Curve {
            kind: CurveKind::Measured,
            name: if name.is_empty() { "drive".into() } else { (*name).to_owned() },
            lane: i,
            values: means(
                &columns_with(subject.trace, Ruler::Time, window, grain.curve, Wanted::Temperature),
                |c| c.temp,
            ),
        }));
        let mut strips: Vec<Strip> =
            temperatures(curves, lanes.iter().map(|l| l.1.context)).into_iter().collect();
        let mut units: Vec<&str> = Vec::new();
        for unit in series.iter().map(|s| s.channel.unit.as_str()).filter(|u| *u != "°C") {
            if !units.contains(&unit) {
                units.push(unit);
            }
        }
        strips.extend(units.into_iter().filter_map(|unit| channels(unit, of_unit(unit))));
        Self { window, top, lanes: scenes, strips }
    }
}

/// The mean of each column.
fn means(data: &[Option<Column>], of: impl Fn(&Column) -> Option<Extent>) -> Vec<Option<f64>> {
    data.iter().map(|c| c.as_ref().and_then(&of).map(|e| e.mean)).collect()
}

/// The middle of each of so many equal parts of a window.
fn middles(window: Window, count: usize) -> impl Iterator<Item = f64> {
    let width = (window.to - window.from) / count.max(1) as f64;
    (0..count).map(move |i| window.from + width * (i as f64 + 0.5))
}

/// The curve that was fitted, within the time that it was fitted to.
fn fitted(subject: &Subject<'_>, ruler: Ruler, window: Window, count: usize) -> Option<Vec<Option<f64>>> {
    let heat = subject.heat.filter(|_| ruler != Ruler::Address)?;
    let trace = subject.trace;
    let value = |at: f64| {
        let seconds = match ruler {
            Ruler::Time => Nanos(at as u64).secs(),
            Ruler::Bytes | Ruler::Address => trace.end(ruler.sample(trace, at)).secs(),
        };
        let inside = (heat.start_s..=heat.end_s).contains(&seconds) && at <= ruler.end(trace);
        inside.then(|| heat.at(seconds))
    };
    Some(middles(window, count).map(value).collect())
}

/// The readings of a channel as a curve: the mean of those that were taken within each part. Between two that are further apart the curve stays level.
fn readings(series: &Series, window: Window, count: usize) -> Vec<Option<f64>> {
    let edge = |x: usize| Nanos((window.from + (window.to - window.from) * x as f64 / count as f64) as u64);
    let end = series.readings.last().map_or(Nanos(0), |r| r.at);
    let mut last = None;
    (0..count)
        .map(|x| {
            let mean = series.summary(edge(x), edge(x + 1)).map(|s| s.0);
            last = mean.or(last.filter(|_| end >= edge(x)));
            last
        })
        .collect()
}

/// The lowest and the highest value of curves.
fn bounds(curves: &[Curve]) -> Option<(f64, f64)> {
    let known = || curves.iter().flat_map(|c| c.values.iter().flatten().copied());
    let low = known().reduce(f64::min)?;
    Some((low, known().fold(low, f64::max)))
}

/// Temperatures on a scale in steps of 5 K that has the limits on it; `None` where there is no reading.
fn temperatures<'a>(curves: Vec<Curve>, contexts: impl Iterator<Item = &'a Context>) -> Option<Strip> {
    let measured = curves.iter().any(|c| {
        matches!(c.kind, CurveKind::Measured | CurveKind::Beside) && c.values.iter().any(Option::is_some)
    });
    let (low, high) = bounds(&curves).filter(|_| measured)?;
    let mut limits: Vec<(&str, f64)> = Vec::new();
    for context in contexts {
        for (name, limit) in [("warn", context.warn), ("critical", context.critical)] {
            if let Some(limit) = limit.filter(|l| !limits.iter().any(|k| k.1 == l.0)) {
                limits.push((name, limit.0));
            }
        }
    }
    limits.sort_by(|a, b| a.1.total_cmp(&b.1));
    let high = limits.iter().map(|l| l.1).fold(high, f64::max);
    let (low, high) = ((low / 5.0 - 0.2).floor() * 5.0, (high / 5.0 + 0.2).ceil() * 5.0);
    Some(Strip { reading: Reading::Temperature, low, high, limits, curves, band: None })
}

/// The latency from its median to its 99th percentile, on a scale of decades.
fn latencies(fine: &[Option<Column>]) -> Option<Strip> {
    let curve = |kind, name: &str, of: fn(&Column) -> Option<Extent>| {
        let values = means(fine, of).into_iter().map(|v| v.map(|us| us.max(0.1).log10())).collect();
        Curve { kind, name: name.into(), lane: 0, values }
    };
    let curves =
        vec![curve(CurveKind::Upper, "p99", |c| c.p99), curve(CurveKind::Measured, "p50", |c| c.p50)];
    let low = curves[1].values.iter().flatten().copied().reduce(f64::min)?;
    let high = curves[0].values.iter().flatten().copied().reduce(f64::max)?;
    // A decade at least, so that a level latency does not fill the strip with its noise.
    let (low, high) = (low - 0.1, high.max(low + 1.0) + 0.1);
    Some(Strip { reading: Reading::Latency, low, high, limits: Vec::new(), curves, band: Some([1, 0]) })
}

/// Channels of a unit on a scale of whole steps, which is never less than a hundredth of what is shown, so that noise does not fill it.
fn channels(unit: &str, curves: Vec<Curve>) -> Option<Strip> {
    let (low, high) = bounds(&curves)?;
    let span = (high - low).max(high.abs() / 100.0).max(1e-9);
    let step = 10_f64.powf((span / 2.0).log10().floor());
    let (low, high) = ((low / step).floor() * step, (high / step).ceil() * step);
    let high = high.max(low + step);
    Some(Strip {
        reading: Reading::Channel(unit.to_owned()),
        low,
        high,
        limits: Vec::new(),
        curves,
        band: None,
    })
}

fn plateaus(subject: &Subject<'_>, ruler: Ruler, window: Window) -> Vec<PlateauLine> {
    // A plateau is a stretch of time; at one address there are as many as there are passes.
    if ruler == Ruler::Address {
        return Vec::new();
    }
    let line = |(i, p): (usize, &Plateau)| {
        let (from, to) = match ruler {
            Ruler::Time => (p.start_s * 1e9, p.end_s * 1e9),
            Ruler::Bytes | Ruler::Address => (p.start_bytes as f64, p.end_bytes as f64),
        };
        let tilt = p.slope_mb_s_per_gb * (p.end_bytes - p.start_bytes) as f64 / 2e9;
        let (from, to) =
            ((from.max(window.from), p.mean_mb_s - tilt), (to.min(window.to), p.mean_mb_s + tilt));
        let next = subject.plateaus.get(i + 1);
        let falls_after = next.is_none_or(|next| next.mean_mb_s < 0.9 * p.mean_mb_s);
        let shown = PlateauLine { from, to, mean: p.mean_mb_s, sd: p.sd_mb_s, falls_after };
        (to.0 > from.0).then_some(shown)
    };
    subject.plateaus.iter().enumerate().filter_map(line).collect()
}

fn legs(trace: &Trace, ruler: Ruler, window: Window) -> Vec<LegSpan> {
    // Legs that go over the same addresses lie on each other.
    if ruler == Ruler::Address {
        return Vec::new();
    }
    let mut all: Vec<LegSpan> = Vec::new();
    for leg in trace.legs() {
        let from = ruler.at(trace, leg.samples.start);
        let to = match ruler {
            Ruler::Time => trace.end(leg.samples.end.max(1) - 1).0 as f64,
            Ruler::Bytes | Ruler::Address => trace.moved(leg.samples.end).0 as f64,
        };
        match all.last_mut() {
            // It was interrupted, and went on.
            Some(last) if last.name == leg.name => last.to = to,
            _ => all.push(LegSpan { name: leg.name.clone(), op: leg.op, from, to }),
        }
    }
    all.retain_mut(|leg| {
        let shown = leg.from < window.to && leg.to > window.from;
        (leg.from, leg.to) = (leg.from.max(window.from), leg.to.min(window.to));
        shown
    });
    all
}

fn marks(subject: &Subject<'_>, ruler: Ruler, window: Window) -> Vec<Mark> {
    let place =
        |(index, b): (usize, &Break)| Mark { index, at: ruler.place(subject.trace, b.at_bytes, b.at_s) };
    let mut all: Vec<Mark> = subject.breaks.iter().enumerate().map(place).collect();
    all.retain(|m| (window.from..=window.to).contains(&m.at));
    all.sort_by(|a, b| a.at.total_cmp(&b.at));
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::channel::{Channel, Reading as Read};
    use crate::sample::{Latency, Sample};
    use crate::units::{Bytes, Celsius};

    const GRAIN: Grain = Grain { ground: 100, curve: 200 };

    /// 200 s: 50 s of writes at 2,000 MB/s, 50 s at rest, 100 s at 500 MB/s; 40 °C and half a kelvin more every second.
    fn trace() -> Trace {
        let samples: Vec<Sample> = (0..200_u64)
            .map(|i| {
                let (leg, rate) = match i {
                    0..50 => (0, 2000),
                    50..100 => (1, 0),
                    _ => (2, 500),
                };
                let (p50, p99) = (Nanos(100_000), Nanos(10_000_000));
                Sample {
                    start: Nanos(i * 1_000_000_000),
                    end: Nanos((i + 1) * 1_000_000_000),
                    leg,
                    op: if leg == 1 { Op::Idle } else { Op::Write },
                    written: Bytes(rate * 1_000_000),
                    temp: Some(Celsius(40.0 + i as f64 / 2.0)),
                    latency: (leg != 1).then_some(Latency { p50, p99, p999: p99, max: p99 }),
                    ..Sample::default()
                }
            })
            .collect();
        Trace::of(&samples, &["burst".into(), "rest".into(), "soak".into()])
    }

    fn limits() -> Context {
        Context { warn: Some(Celsius(75.0)), critical: Some(Celsius(90.0)), ..Context::default() }
    }

    fn whole(ruler: Ruler, trace: &Trace) -> Window {
        Window { from: 0.0, to: ruler.end(trace) }
    }

    #[test]
    fn every_part_lies_where_it_happened_on_either_ruler() {
        let (trace, context) = (trace(), limits());
        let found = crate::findings(&trace, &context);
        let subject = Subject::of(&trace, &found, &context);
        let scene = Scene::of(&subject, Ruler::Time, whole(Ruler::Time, &trace), GRAIN);
        let spans: Vec<_> = scene.legs.iter().map(|l| (l.name.as_str(), l.from / 1e9, l.to / 1e9)).collect();
        assert_eq!(spans, [("burst", 0.0, 50.0), ("rest", 50.0, 100.0), ("soak", 100.0, 200.0)]);
        assert_eq!(scene.top, 2000.0);
        let rate = |c: usize| scene.ground[c].as_ref().and_then(|c| c.rate).map(|r| r.mean.round());
        assert_eq!((rate(10), rate(40), rate(80)), (Some(2000.0), None, Some(500.0)));
        let lines: Vec<_> =
            scene.plateaus.iter().map(|p| (p.from.0 / 1e9, p.to.0 / 1e9, p.mean.round())).collect();
        assert_eq!(lines, [(0.0, 50.0, 2000.0), (100.0, 200.0, 500.0)]);
        // 100 GB of the burst, then 50 GB of the soak; the rest has no width.
        let scene = Scene::of(&subject, Ruler::Bytes, whole(Ruler::Bytes, &trace), GRAIN);
        let spans: Vec<_> = scene.legs.iter().map(|l| (l.from / 1e9, l.to / 1e9)).collect();
        assert_eq!(spans, [(0.0, 100.0), (100.0, 100.0), (100.0, 150.0)]);
        // A part of it: what reaches over its edges is cut there.
        let part = Scene::of(&subject, Ruler::Bytes, Window { from: 20e9, to: 60e9 }, GRAIN);
        assert_eq!((part.legs.len(), part.legs[0].from, part.legs[0].to), (1, 20e9, 60e9));
        assert_eq!((part.plateaus[0].from.0, part.plateaus[0].to.0), (20e9, 60e9));
    }

    #[test]
    fn breaks_are_marked_at_their_places_and_only_where_they_are_shown() {
        let samples: Vec<Sample> = (0..200_u64)
            .map(|i| Sample {
                start: Nanos(i * 1_000_000_000),
                end: Nanos((i + 1) * 1_000_000_000),
                written: Bytes(if i < 80 { 2_000_000_000 } else { 500_000_000 }),
                ..Sample::default()
            })
            .collect();
        let (trace, context) = (Trace::of(&samples, &["soak".into()]), Context::default());
        let found = crate::findings(&trace, &context);
        let subject = Subject::of(&trace, &found, &context);
        let at = |ruler, window| {
            let scene = Scene::of(&subject, ruler, window, GRAIN);
            scene.marks.iter().map(|m| (m.index, m.at.round())).collect::<Vec<_>>()
        };
        assert_eq!(at(Ruler::Time, whole(Ruler::Time, &trace)), [(0, 80e9)]);
        assert_eq!(at(Ruler::Bytes, whole(Ruler::Bytes, &trace)), [(0, 160e9)]);
        assert_eq!(at(Ruler::Time, Window { from: 0.0, to: 79e9 }), []);
        // Nothing was logged of temperature and latency.
        assert_eq!(Scene::of(&subject, Ruler::Time, whole(Ruler::Time, &trace), GRAIN).strips, []);
    }

    #[test]
    fn strips_hold_all_that_is_drawn_in_them_and_their_limits() {
        let (trace, context) = (trace(), limits());
        let subject = Subject::with_breaks(&trace, &[], &context);
        let scene = Scene::of(&subject, Ruler::Time, whole(Ruler::Time, &trace), GRAIN);
        let [heat, latency] = scene.strips.as_slice() else { panic!("{:?}", scene.strips) };
        assert_eq!(heat.limits, [("warn", 75.0), ("critical", 90.0)]);
        let curve = &heat.curves[0];
        assert_eq!((curve.values.len(), curve.values[0], curve.last()), (200, Some(40.0), Some(139.5)));
        assert_eq!((heat.low, heat.high), (35.0, 145.0));
        assert_eq!(heat.label(curve), Some((139.5, "140 °C".into())));
        // 100 µs and 10 ms: two decades, and nothing at rest.
        let ends = latency.curves.iter().map(|c| c.last().map(f64::round)).collect::<Vec<_>>();
        assert_eq!(ends, [Some(4.0), Some(2.0)]);
        assert_eq!(latency.curves[1].values[75], None);
        let labels: Vec<String> = latency.levels(5).into_iter().map(|l| l.1).collect();
        assert_eq!(labels, ["100 µs", "1.0 ms", "10 ms"]);
        for strip in [heat, latency] {
            let within = |v: &f64| (strip.low..=strip.high).contains(v);
            assert!(strip.curves.iter().flat_map(|c| c.values.iter().flatten()).all(within));
            assert!(strip.levels(5).iter().all(|l| within(&l.0)));
        }
    }

    #[test]
    fn a_curve_is_drawn_only_over_what_it_was_fitted_to() {
        let (trace, context) = (trace(), Context::default());
        let heat = HeatCurve { start_s: 20.0, end_s: 60.0, settles_c: 80.0, terms: vec![(40.0, -40.0)] };
        let subject = Subject { heat: Some(&heat), ..Subject::with_breaks(&trace, &[], &context) };
        let scene = Scene::of(&subject, Ruler::Time, whole(Ruler::Time, &trace), GRAIN);
        let fitted = scene.strips[0].curves.iter().find(|c| c.kind == CurveKind::Fitted).unwrap();
        let known: Vec<usize> = (0..200).filter(|i| fitted.values[*i].is_some()).collect();
        assert_eq!((known.first(), known.last()), (Some(&20), Some(&59)));
        // The middle of the part that begins 40 s behind its start.
        let expected = 80.0 - 40.0 * (-(59.5_f64 - 20.0) / 40.0).exp();
        assert!((fitted.values[59].unwrap() - expected).abs() < 1e-9);
        assert_eq!(scene.strips[0].label(fitted), None);
    }

    #[test]
    fn lanes_share_their_scales_and_channels_are_drawn_by_unit() {
        let (upper, context) = (trace(), limits());
        let slow: Vec<Sample> = (0..100_u64)
            .map(|i| Sample {
                start: Nanos(i * 1_000_000_000),
                end: Nanos((i + 1) * 1_000_000_000),
                written: Bytes(90_000_000),
                temp: Some(Celsius(30.0)),
                ..Sample::default()
            })
            .collect();
        let lower = Trace::of(&slow, &["soak".into()]);
        let lanes = [
            ("upper", Subject::with_breaks(&upper, &[], &context)),
            ("lower", Subject::with_breaks(&lower, &[], &context)),
        ];
        let channel = |name: &str, unit: &str, of| Series {
            channel: Channel { name: name.into(), unit: unit.into(), of, ..Channel::default() },
            readings: vec![
                Read { at: Nanos(10_000_000_000), value: 5.0 },
                Read { at: Nanos(90_000_000_000), value: 7.0 },
            ],
        };
        let series =
            [channel("probe", "°C", Some(1)), channel("supply", "W", Some(0)), channel("room", "%", None)];
        let scene = LanesScene::of(&lanes, &series, None, GRAIN);
        assert_eq!((scene.top, scene.window.to), (2000.0, 200e9));
        let readings: Vec<_> = scene.strips.iter().map(|s| s.reading.clone()).collect();
        let unit = |u: &str| Reading::Channel(u.into());
        assert_eq!(readings, [Reading::Temperature, unit("W"), unit("%")]);
        let names: Vec<_> = scene.strips[0].curves.iter().map(|c| (c.name.as_str(), c.lane)).collect();
        assert_eq!(names, [("lower probe", 1), ("upper", 0), ("lower", 1)]);
        let supply = &scene.strips[1].curves[0];
        assert_eq!((scene.strips[1].text(7.0), scene.strips[1].text(6.04)), ("7 W".into(), "6.04 W".into()));
        // Level between two readings, and nothing before the first or after the last.
        assert_eq!(
            [5, 9, 50, 89, 95].map(|s| supply.values[s]),
            [None, Some(5.0), Some(5.0), Some(7.0), None]
        );
        assert_eq!(scene.strips[2].curves[0].lane, 2, "a channel of the run itself comes after the lanes");
    }

    #[test]
    fn levels_and_ceilings_are_round_and_labels_have_one_sign() {
        assert_eq!(levels(0.0, 3000.0, 5.0), [0.0, 1000.0, 2000.0, 3000.0]);
        assert_eq!(levels(35.0, 95.0, 5.0), [40.0, 60.0, 80.0]);
        assert_eq!(levels(5.0, 5.0, 5.0), [] as [f64; 0]);
        let labels: Vec<String> = labelled(levels(-2000.0, 2000.0, 4.0)).into_iter().map(|l| l.1).collect();
        assert_eq!(labels, ["−2,000", "−1,000", "0", "1,000", "2,000"]);
        for (value, round) in
            [(0.0, 0.0), (1.0, 1.0), (1.01, 1.2), (2873.0, 3000.0), (8001.0, 10000.0), (0.4, 0.4)]
        {
            assert!((ceiling(value) - round).abs() < 1e-9, "{value}: {}", ceiling(value));
        }
    }
}
