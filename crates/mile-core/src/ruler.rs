//! The ruler under every picture, and a trace cut into columns along it.

use crate::pyramid::Extent;
use crate::sample::Op;
use crate::trace::Trace;
use crate::units::{Bytes, Nanos};
use std::ops::Range;

/// What lies along the bottom of a picture.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Ruler {
    /// Bytes moved since the start of the run. Time at rest has no width on it.
    #[default]
    Bytes,
    /// Time since the start of the run.
    Time,
    /// Addresses on the drive. Legs that go over the same addresses lie on each other.
    Address,
}

/// A stretch of a ruler, in bytes, nanoseconds or bytes of address.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Window {
    /// Left end.
    pub from: f64,
    /// Right end, above `from`.
    pub to: f64,
}

/// What a trace shows within one column of a picture.
#[derive(Clone, Debug, PartialEq)]
pub struct Column {
    /// Samples in it; at least one. On the ruler of addresses, the one that was there last.
    pub samples: Range<usize>,
    /// What the leg did.
    pub op: Op,
    /// Rate, MB/s; `None` at rest.
    pub rate: Option<Extent>,
    /// Composite temperature, °C.
    pub temp: Option<Extent>,
    /// Median latency, µs.
    pub p50: Option<Extent>,
    /// 99th percentile of latency, µs.
    pub p99: Option<Extent>,
}

impl Ruler {
    /// The ruler that shows something of this trace: time where no bytes were moved, bytes where no addresses were logged.
    pub fn fitting(self, trace: &Trace) -> Self {
        match self {
            _ if trace.moved(trace.len()).0 == 0 => Self::Time,
            Self::Address if trace.offset.is_blank() => Self::Bytes,
            own => own,
        }
    }

    /// The next ruler of those that show something of this trace.
    pub fn next(self, trace: &Trace) -> Self {
        match self {
            Self::Bytes => Self::Time,
            Self::Time if !trace.offset.is_blank() => Self::Address,
            Self::Time | Self::Address => Self::Bytes,
        }
    }

    /// Position of the end of a trace.
    pub fn end(self, trace: &Trace) -> f64 {
        match self {
            Self::Bytes => trace.moved(trace.len()).0 as f64,
            Self::Address => trace.offset.extent(0, trace.len()).map_or(0.0, |e| e.max * 1e6) + usual(trace),
            Self::Time => trace.end(trace.len()).0 as f64,
        }
    }

    /// Position of the start of a sample.
    pub fn at(self, trace: &Trace, sample: usize) -> f64 {
        match self {
            Self::Bytes => trace.moved(sample).0 as f64,
            // At rest it is where it was.
            Self::Address => {
                let known = (0..=sample.min(trace.len())).rev().find_map(|i| trace.offset.get(i));
                known.map_or(0.0, |mb| mb * 1e6)
            }
            Self::Time => trace.start(sample).0 as f64,
        }
    }

    /// Position of what happened at so many bytes moved, and at so many seconds.
    pub fn place(self, trace: &Trace, bytes: u64, seconds: f64) -> f64 {
        match self {
            Self::Bytes => bytes as f64,
            Self::Time => seconds * 1e9,
            Self::Address => self.at(trace, trace.index_at_time(Nanos::from_secs(seconds))),
        }
    }

    /// The sample at a position: on the ruler of addresses the latest of those that begin nearest below it.
    pub fn sample(self, trace: &Trace, position: f64) -> usize {
        if self == Self::Address {
            let below = |i: &usize| trace.offset.get(*i).map(|mb| position - mb * 1e6).filter(|d| *d >= 0.0);
            let near = (0..trace.len()).filter_map(|i| Some((i, below(&i)?)));
            return near.min_by(|a, b| a.1.total_cmp(&b.1).then(b.0.cmp(&a.0))).map_or(0, |n| n.0);
        }
        let position = position.max(0.0) as u64;
        match self {
            Self::Bytes | Self::Address => trace.index_at_bytes(Bytes(position)),
            Self::Time => trace.index_at_time(Nanos(position)),
        }
    }

    /// The same as [`Ruler::sample`] of bytes or time where that is `from` or behind it, and likely about `stride` behind: columns that follow each other are
    /// found a few steps apart, and not by halving the whole trace for each.
    fn sample_from(self, trace: &Trace, position: f64, from: usize, stride: usize) -> usize {
        let position = position.max(0.0) as u64;
        let is_beyond = |i: usize| match self {
            Self::Time => trace.end(i).0 > position,
            Self::Bytes | Self::Address => trace.moved(i + 1).0 > position,
        };
        let (mut low, mut step) = (from, stride.max(1));
        let mut high = loop {
            let at = low + step - 1;
            if at >= trace.len() {
                break trace.len();
            }
            if is_beyond(at) {
                break at;
            }
            (low, step) = (at + 1, 2 * step);
        };
        while low < high {
            let middle = usize::midpoint(low, high);
            if is_beyond(middle) { high = middle } else { low = middle + 1 }
        }
        low
    }

    /// A position in words, with a unit.
    pub fn words(self, position: f64) -> String {
        match self {
            Self::Bytes | Self::Address => Bytes(position.max(0.0) as u64).to_string(),
            Self::Time => Nanos(position.max(0.0) as u64).to_string(),
        }
    }

    /// The unit for labels of a window, its name, and what one of it is on the ruler.
    ///
    /// It goes by the width of the window, and is larger where the window lies so far out that its numbers would be long: a minute after
    /// 30 hours is told on a clock (`h:min`, `h:m:s`, `min:s`), a megabyte after a terabyte as a part of a gigabyte.
    pub fn unit(self, window: Window) -> (&'static str, f64) {
        let width = window.to - window.from;
        // The largest unit that is at most a third of the window, bytes above a few GB staying in GB.
        let of = |units: &[(&'static str, f64)]| {
            units.iter().rposition(|u| width >= u.1 * if u.0 == "TB" { 20.0 } else { 3.0 }).unwrap_or(0)
        };
        if self == Self::Time {
            const UNITS: [(&str, f64); 4] = [("ms", 1e6), ("s", 1e9), ("min", 60e9), ("h", 3600e9)];
            const LONG: f64 = 3.0 * 3600e9;
            return match UNITS[of(&UNITS)] {
                ("min", unit) if window.to >= LONG => ("h:min", unit),
                ("s", unit) if window.to >= LONG => ("h:m:s", unit),
                ("s", unit) if window.to >= 600e9 => ("min:s", unit),
                ("ms", _) if window.to >= 100e9 => UNITS[1],
                own => own,
            };
        }
        const UNITS: [(&str, f64); 4] = [("kB", 1e3), ("MB", 1e6), ("GB", 1e9), ("TB", 1e12)];
        let short = UNITS[of(&UNITS)..].iter().find(|u| window.to < u.1 * 1e5);
        *short.unwrap_or(&UNITS[3])
    }
}

/// A whole number of seconds or minutes as on a clock, in as many parts as the unit has: 1806 min are `30:06` in `h:min`.
fn on_a_clock(value: u64, unit: &str) -> String {
    match unit {
        "h:m:s" => format!("{}:{:02}:{:02}", value / 3600, value / 60 % 60, value % 60),
        _ => format!("{}:{:02}", value / 60, value % 60),
    }
}

/// Round positions about `most` to a window, the ends included where they are round: multiples of 1, 2 or 5 times a power of ten
/// (on a clock, of parts of 60), in the unit that [`Ruler::unit`] gives. Pairs of position and label.
pub fn ticks(ruler: Ruler, window: Window, most: usize) -> Vec<(f64, String)> {
    let (name, unit) = ruler.unit(window);
    let width = (window.to - window.from) / unit;
    if !(width > 0.0 && width.is_finite()) || most == 0 {
        return Vec::new();
    }
    let rough = width / most as f64;
    let clock = name.contains(':');
    let step = if clock {
        const PARTS: [f64; 11] = [1.0, 2.0, 5.0, 10.0, 15.0, 20.0, 30.0, 60.0, 120.0, 300.0, 600.0];
        PARTS.into_iter().find(|s| *s >= rough * 0.999).unwrap_or(3600.0)
    } else {
        let power = 10_f64.powf(rough.log10().floor());
        [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough * 0.999).unwrap_or(rough)
    };
    let decimals = (-step.log10().floor()).max(0.0) as usize;
    let first = (window.from / unit / step - 1e-9).ceil() as i64;
    let last = (window.to / unit / step + 1e-9).floor() as i64;
    (first..=last)
        .map(|i| {
            let value = i as f64 * step;
            let text = format!("{value:.decimals$}");
            let label = match text.split_once('.') {
                _ if clock => on_a_clock(value.max(0.0) as u64, name),
                Some((whole, rest)) => format!("{}.{rest}", crate::units::thousands(whole)),
                None => crate::units::thousands(&text),
            };
            (value * unit, label)
        })
        .collect()
}

/// Bytes of a sample, on the mean.
fn usual(trace: &Trace) -> f64 {
    trace.moved(trace.len()).0 as f64 / trace.len().max(1) as f64
}

/// A window of addresses in columns: each sample in those that it went over, where it hangs together with one of its neighbours, or in the one where it began.
fn columns_by_address(trace: &Trace, window: Window, count: usize) -> Vec<Option<Column>> {
    let width = (window.to - window.from) / count.max(1) as f64;
    let mut all: Vec<Option<Column>> = vec![None; count];
    // Seconds in each column.
    let mut weight = vec![0.0; count];
    let span = |i: usize| {
        let start = trace.offset.get(i)? * 1e6;
        Some((start, start + (trace.moved(i + 1).0 - trace.moved(i).0) as f64))
    };
    let joined = |a: usize, b: usize| {
        span(a).zip(span(b)).is_some_and(|(a, b)| (b.0 - a.1).abs() <= 0.05 * (a.1 - a.0) + 2e6)
    };
    for leg in trace.legs().iter().filter(|l| l.op != Op::Idle) {
        for i in leg.samples.clone() {
            let Some(((start, end), rate)) = span(i).zip(trace.rate.get(i)) else { continue };
            let hangs =
                i > leg.samples.start && joined(i - 1, i) || i + 1 < leg.samples.end && joined(i, i + 1);
            let end = if hangs { end } else { start };
            if end < window.from || start >= window.to || width <= 0.0 {
                continue;
            }
            let first = ((start - window.from) / width).max(0.0) as usize;
            let last = (((end - window.from) / width).ceil() as usize).clamp(first + 1, count.max(first + 1));
            let seconds = trace.end(i).since(trace.start(i)).secs();
            for c in first..last.min(count) {
                let of = |known: Option<Extent>, value: Option<f64>| match (known, value) {
                    (Some(e), Some(v)) => Some(Extent {
                        min: e.min.min(v),
                        max: e.max.max(v),
                        mean: (e.mean * weight[c] + v * seconds) / (weight[c] + seconds),
                    }),
                    (None, Some(v)) => Some(Extent { min: v, mean: v, max: v }),
                    (known, None) => known,
                };
                let known = all[c].take();
                let part = |f: fn(&Column) -> Option<Extent>| known.as_ref().and_then(f);
                let column = Column {
                    samples: i..i + 1,
                    op: leg.op,
                    rate: of(part(|k| k.rate), Some(rate)),
                    temp: of(part(|k| k.temp), trace.temp.get(i)),
                    p50: of(part(|k| k.p50), trace.latency.p50.get(i)),
                    p99: of(part(|k| k.p99), trace.latency.p99.get(i)),
                };
                all[c] = Some(column);
                weight[c] += seconds;
            }
        }
    }
    all
}

/// What is looked up for each column: each costs time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// The rate alone.
    Rate,
    /// The temperature alone.
    Temperature,
    /// Temperature and latencies.
    Strips,
    /// All of them.
    All,
}

/// Cuts a window into `count` columns. A column without a sample of its own shows the one that reaches into it; behind the
/// end of the trace it is `None`.
pub fn columns(trace: &Trace, ruler: Ruler, window: Window, count: usize) -> Vec<Option<Column>> {
    columns_with(trace, ruler, window, count, Wanted::All)
}

/// The same as [`columns`], with only some of what a column can show; the rest is `None`. By addresses all of it is there.
pub fn columns_with(
    trace: &Trace,
    ruler: Ruler,
    window: Window,
    count: usize,
    wanted: Wanted,
) -> Vec<Option<Column>> {
    let rate = matches!(wanted, Wanted::Rate | Wanted::All);
    let (temp, latency) = (wanted != Wanted::Rate, matches!(wanted, Wanted::Strips | Wanted::All));
    if ruler == Ruler::Address {
        return columns_by_address(trace, window, count);
    }
    let end = ruler.end(trace);
    let width = (window.to - window.from) / count.max(1) as f64;
    let mut from = ruler.sample(trace, window.from);
    let mut stride = 1;
    (0..count)
        .map(|i| {
            let right = window.from + width * (i + 1) as f64;
            // What follows the last byte has no width on the ruler of bytes, and does not belong into its last column.
            let to = if right >= end {
                ruler.sample(trace, (end - 1.0).max(0.0)) + 1
            } else {
                ruler.sample_from(trace, right, from, stride)
            };
            let first = from;
            stride = to.saturating_sub(from);
            from = to;
            if right - width >= end || first >= trace.len() {
                return None;
            }
            let samples = first..to.max(first + 1).min(trace.len());
            let (a, b) = (samples.start, samples.end);
            Some(Column {
                op: trace.leg_at(a).map_or(Op::Idle, |leg| leg.op),
                rate: if rate { trace.rate.extent(a, b) } else { None },
                temp: if temp { trace.temp.extent(a, b) } else { None },
                p50: if latency { trace.latency.p50.extent(a, b) } else { None },
                p99: if latency { trace.latency.p99.extent(a, b) } else { None },
                samples,
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::Sample;

    fn trace() -> Trace {
        let samples: Vec<Sample> = (0..1000)
            .map(|i| Sample {
                start: Nanos(i * 1_000_000_000),
                end: Nanos((i + 1) * 1_000_000_000),
                op: if i < 900 { Op::Write } else { Op::Idle },
                written: Bytes(if i < 900 { 1_000_000_000 } else { 0 }),
                ..Sample::default()
            })
            .collect();
        Trace::of(&samples, &["a".into()])
    }

    /// Column by column, the samples are those that are found for each by itself, whatever the lengths of samples, and where nothing was moved for a while.
    #[test]
    fn columns_are_found_from_each_other_as_by_themselves() {
        let mut at = 0;
        let samples: Vec<Sample> = (0..3000_u64)
            .map(|i| {
                let start = Nanos(at);
                // Long and short ones, and stretches without a byte.
                at += 1 + (i * i * 7919) % 997 * if i % 700 < 30 { 1000 } else { 1 };
                let written = Bytes(if i % 500 < 60 { 0 } else { (i * 31) % 4096 });
                Sample { start, end: Nanos(at), written, ..Sample::default() }
            })
            .collect();
        let trace = Trace::of(&samples, &["a".into()]);
        for ruler in [Ruler::Bytes, Ruler::Time] {
            let end = ruler.end(&trace);
            for (from, to, count) in [(0.0, 1.0, 240), (0.3, 0.31, 97), (0.9, 1.2, 1000), (0.0, 1.0, 7)] {
                let window = Window { from: from * end, to: to * end };
                let width = (window.to - window.from) / count as f64;
                for (i, column) in columns(&trace, ruler, window, count).iter().enumerate() {
                    let Some(column) = column else { continue };
                    let left = ruler.sample(&trace, window.from + width * i as f64);
                    let right = window.from + width * (i + 1) as f64;
                    let right = if right >= end {
                        ruler.sample(&trace, end - 1.0) + 1
                    } else {
                        ruler.sample(&trace, right)
                    };
                    assert_eq!(column.samples, left..right.max(left + 1).min(trace.len()), "{ruler:?} {i}");
                }
            }
        }
    }

    #[test]
    fn columns_share_the_samples_among_them_without_gap_or_overlap() {
        let trace = trace();
        for (ruler, count) in [(Ruler::Time, 160), (Ruler::Time, 7), (Ruler::Bytes, 90)] {
            let window = Window { from: 0.0, to: ruler.end(&trace) };
            let all: Vec<Column> = columns(&trace, ruler, window, count).into_iter().flatten().collect();
            assert_eq!(all.len(), count);
            assert!(all.windows(2).all(|w| w[0].samples.end == w[1].samples.start), "{ruler:?}");
        }
        let zoomed = columns(&trace, Ruler::Time, Window { from: 10e9, to: 12e9 }, 100);
        assert!(
            zoomed.iter().all(|c| c.as_ref().is_some_and(|c| c.rate.is_some())),
            "finer than the samples"
        );
        let behind = columns(&trace, Ruler::Time, Window { from: 990e9, to: 1010e9 }, 20);
        assert_eq!(behind.iter().flatten().count(), 10);
        assert!(behind[0].as_ref().is_some_and(|c| c.rate.is_none()), "at rest there is no rate");
        assert_eq!(
            columns(&Trace::new(), Ruler::Bytes, Window { from: 0.0, to: 1.0 }, 3),
            [None, None, None]
        );
    }

    #[test]
    fn by_address_a_column_shows_what_was_there_whenever_that_was() {
        // Forward over 100 places of 1 GB at 100 MB/s, and back at 50; place 40 at a tenth each time.
        let place = |i: u64| if i < 100 { i } else { 199 - i };
        let mut now = 0;
        let samples: Vec<Sample> = (0..200)
            .map(|i| {
                let mb_s = if i < 100 { 100.0 } else { 50.0 } * if place(i) == 40 { 0.1 } else { 1.0 };
                let start = now;
                now += (1000.0 / mb_s * 1e9) as u64;
                Sample {
                    start: Nanos(start),
                    end: Nanos(now),
                    leg: (i / 100) as u32,
                    op: Op::Read,
                    read: Bytes(1_000_000_000),
                    offset: Some(Bytes(place(i) * 1_000_000_000)),
                    ..Sample::default()
                }
            })
            .collect();
        let trace = Trace::of(&samples, &["there".into(), "back".into()]);
        let whole = Window { from: 0.0, to: Ruler::Address.end(&trace) };
        assert!((whole.to - 100e9).abs() < 1e3, "{whole:?}");
        let all: Vec<Column> = columns(&trace, Ruler::Address, whole, 100).into_iter().flatten().collect();
        assert_eq!(all.len(), 100);
        let mean = |c: usize| all[c].rate.unwrap().mean;
        // Bytes over time of both: 2 GB in 30 s.
        assert!(
            (mean(20) - 2000.0 / 30.0).abs() < 0.1 && (mean(40) - 200.0 / 30.0).abs() < 0.1,
            "{}",
            mean(40)
        );
        assert_eq!((all[20].rate.unwrap().min.round(), all[20].rate.unwrap().max.round()), (50.0, 100.0));
        assert_eq!(all[20].samples, 179..180, "the one that was there last");
        assert_eq!(Ruler::Address.sample(&trace, 20.5e9), 179);
        assert_eq!(Ruler::Address.at(&trace, 179), 20e9);
        let few = columns(&trace, Ruler::Address, Window { from: 90e9, to: 110e9 }, 20);
        assert_eq!(few.iter().flatten().count(), 10, "there is nothing behind the end");
        assert_eq!(
            (Ruler::Time.next(&trace), Ruler::Time.next(&Trace::new())),
            (Ruler::Address, Ruler::Bytes)
        );
    }

    #[test]
    fn ticks_are_round_and_within_the_window() {
        let labels = |ruler, from: f64, to: f64, most| -> Vec<String> {
            ticks(ruler, Window { from, to }, most).into_iter().map(|t| t.1).collect()
        };
        assert_eq!(labels(Ruler::Bytes, 0.0, 600e9, 6), ["0", "100", "200", "300", "400", "500", "600"]);
        assert_eq!(labels(Ruler::Bytes, 0.0, 1600e9, 4), ["0", "500", "1,000", "1,500"]);
        assert_eq!(labels(Ruler::Time, 0.0, 250e9, 5), ["0", "1", "2", "3", "4"]);
        assert_eq!(
            labels(Ruler::Bytes, 117.0e9, 120.0e9, 6),
            ["117.0", "117.5", "118.0", "118.5", "119.0", "119.5", "120.0"]
        );
        assert_eq!(labels(Ruler::Time, 0.0, 0.0, 5), Vec::<String>::new());
    }

    /// It was "1806 m", cut by the margin.
    #[test]
    fn far_out_the_numbers_of_the_ruler_stay_short() {
        let (hour, minute) = (3600e9, 60e9);
        let of = |ruler: Ruler, from: f64, to: f64| {
            let window = Window { from, to };
            let labels: Vec<String> = ticks(ruler, window, 4).into_iter().map(|t| t.1).collect();
            (ruler.unit(window).0, labels.join(" "))
        };
        let thirty = 30.0 * hour;
        assert_eq!(of(Ruler::Time, thirty, thirty + hour), ("h:min", "30:00 30:15 30:30 30:45 31:00".into()));
        assert_eq!(
            of(Ruler::Time, thirty + 6.0 * minute, thirty + 7.0 * minute).1,
            "30:06:00 30:06:15 30:06:30 30:06:45 30:07:00"
        );
        assert_eq!(
            of(Ruler::Time, 20.0 * minute, 21.0 * minute),
            ("min:s", "20:00 20:15 20:30 20:45 21:00".into())
        );
        assert_eq!(of(Ruler::Time, 1e12, 1.002e12), ("s", "1,000.0 1,000.5 1,001.0 1,001.5 1,002.0".into()));
        assert_eq!(of(Ruler::Bytes, 1.5e12, 1.500_002e12).0, "GB");
        // Whatever the window, no label is longer than the space between two.
        for exponent in 0..13 {
            for shift in 0..13 {
                let (from, width) = (10_f64.powi(shift), 3.3 * 10_f64.powi(exponent));
                for ruler in [Ruler::Bytes, Ruler::Time] {
                    let window = Window { from, to: from + width };
                    let long = ticks(ruler, window, 6).into_iter().map(|t| t.1.len()).max().unwrap_or(0);
                    let far_and_near = width < from * 1e-6;
                    assert!(long <= if far_and_near { 20 } else { 12 }, "{ruler:?} {window:?} {long}");
                }
            }
        }
    }
}
