//! A run in columns, ready to be analysed and drawn.

use crate::channel::{Reading, Series, Tells, tells};
use crate::pyramid::Pyramid;
use crate::sample::{Op, Sample, Throttled};
use crate::units::{Bytes, Celsius, Nanos, Rate};
use std::ops::Range;

/// A run in columns. Grows by [`Trace::push`]; samples are in the order of time.
#[derive(Clone, Debug, Default)]
pub struct Trace {
    legs: Vec<TraceLeg>,
    end: Vec<u64>,
    length: Vec<u32>,
    written: Vec<u64>,
    read: Vec<u64>,
    /// Mean rate of each interval, MB/s.
    pub rate: Pyramid,
    /// Composite temperature, °C.
    pub temp: Pyramid,
    /// Ambient temperature, °C.
    pub ambient: Pyramid,
    /// Latency of the operations, µs.
    pub latency: Latencies,
    /// Rate of others on the same drive, MB/s.
    pub foreign: Pyramid,
    /// Share of processor time stolen, 0 to 1.
    pub steal: Pyramid,
    /// Share of the drive in use, 0 to 1.
    pub fill: Pyramid,
    /// Address at which each interval began, MB.
    pub offset: Pyramid,
    /// Counters of light and of heavy throttling, s.
    throttled: [Pyramid; 2],
    failures: Failures,
    ops: Vec<u32>,
    /// Ends of intervals, and the share of each for which the lane waited for the other side of a copy.
    waits: Vec<(u64, f32)>,
    /// When the power of the drive was read, and what it was, W.
    power: Vec<(u64, f32)>,
}

/// Latency in columns, µs.
#[derive(Clone, Debug, Default)]
pub struct Latencies {
    /// Median.
    pub p50: Pyramid,
    /// 99th percentile.
    pub p99: Pyramid,
    /// Slowest operation.
    pub slowest: Pyramid,
}

/// Operations that failed.
#[derive(Clone, Debug, Default)]
struct Failures {
    /// How many.
    count: u64,
    /// The samples in which any did, and how many.
    samples: Vec<(u32, u32)>,
}

/// One leg as the trace saw it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TraceLeg {
    /// Name of the leg.
    pub name: String,
    /// What it did.
    pub op: Op,
    /// Its samples.
    pub samples: Range<usize>,
}

/// Length of intervals is kept in steps of 100 ns, up to 7 minutes; longer ones are kept as 7 minutes.
const LENGTH_STEP: u64 = 100;

impl Trace {
    /// An empty trace.
    pub fn new() -> Self {
        Self::default()
    }

    /// A trace of all `samples`, with the names of their legs.
    pub fn of<'a>(samples: impl IntoIterator<Item = &'a Sample>, names: &[String]) -> Self {
        let mut trace = Self::new();
        for sample in samples {
            let name = names.get(sample.leg as usize).map_or("", String::as_str);
            trace.push(sample, name);
        }
        trace
    }

    /// Appends a sample. Its leg's name is used where it begins a leg: where its leg index differs from that of the
    /// sample before.
    pub fn push(&mut self, sample: &Sample, leg_name: &str) {
        let index = self.len();
        match self.legs.last_mut() {
            Some(leg) if leg.name == leg_name && leg.op == sample.op => leg.samples.end = index + 1,
            _ => self.legs.push(TraceLeg {
                name: leg_name.to_owned(),
                op: sample.op,
                samples: index..index + 1,
            }),
        }
        let (written, read) = self.totals(index);
        self.end.push(sample.end.0);
        let length = sample.end.since(sample.start).0 / LENGTH_STEP;
        self.length.push(u32::try_from(length).unwrap_or(u32::MAX));
        self.written.push(written.0 + sample.written.0);
        self.read.push(read.0 + sample.read.0);
        self.rate.push(if sample.op == Op::Idle { None } else { sample.rate().map(Rate::mb_s) });
        let us = |n: Nanos| n.0 as f64 / 1e3;
        self.temp.push(sample.temp.map(|t| t.0));
        self.ambient.push(sample.ambient.map(|t| t.0));
        self.latency.p50.push(sample.latency.map(|l| us(l.p50)));
        self.latency.p99.push(sample.latency.map(|l| us(l.p99)));
        self.latency.slowest.push(sample.latency.map(|l| us(l.max)));
        self.foreign.push(sample.foreign.map(Rate::mb_s));
        self.steal.push(sample.host.steal.map(f64::from));
        self.fill.push(sample.fill.map(f64::from));
        self.offset.push(sample.offset.map(|b| b.0 as f64 / 1e6));
        self.throttled[0].push(sample.throttled.map(|t| t.light_s));
        self.throttled[1].push(sample.throttled.map(|t| t.heavy_s));
        self.failures.count += u64::from(sample.errors);
        if sample.errors > 0 {
            self.push_failed(index, sample.errors);
        }
        self.ops.push(u32::try_from(sample.ops).unwrap_or(u32::MAX));
    }

    /// How many of these samples have operations that failed, or that the drive still tried: what they moved says how long the drive tried, and not how fast it is.
    pub fn failed_in(&self, range: &Range<usize>) -> usize {
        self.failing(range).len()
    }

    /// How many operations failed in these samples.
    pub fn errors_in(&self, range: &Range<usize>) -> u64 {
        self.failing(range).iter().map(|f| u64::from(f.1)).sum()
    }

    fn failing(&self, range: &Range<usize>) -> &[(u32, u32)] {
        let before = |end: usize| self.failures.samples.partition_point(|f| (f.0 as usize) < end);
        &self.failures.samples[before(range.start)..before(range.end).max(before(range.start))]
    }

    /// Notes that operations failed in a sample. Those before it in which nothing came back were spent on them, and so was a part of the one before those.
    fn push_failed(&mut self, index: usize, errors: u32) {
        let first = self.legs.last().map_or(index, |l| l.samples.start);
        let first = self.failures.samples.last().map_or(first, |&f| first.max(f.0 as usize + 1));
        let silent = (first..index).rev().take_while(|&i| self.ops[i] == 0).count();
        let begun = usize::from(silent > 0 && index - silent > first);
        let count = |i: usize| Some((u32::try_from(i).ok()?, if i == index { errors } else { 0 }));
        self.failures.samples.extend((index - silent - begun..=index).filter_map(count));
    }

    /// Takes a reading of a channel that [`tells`] of this drive, in the order of time.
    pub fn push_reading(&mut self, tells: Tells, reading: Reading) {
        let (column, value) = match tells {
            Tells::Waits => (&mut self.waits, reading.value / 100.0),
            Tells::Power => (&mut self.power, reading.value),
        };
        if value.is_finite() && column.last().is_none_or(|last| last.0 < reading.at.0) {
            column.push((reading.at.0, value as f32));
        }
    }

    /// Takes what the channels of a run tell of the drive of `lane`.
    pub fn push_series(&mut self, series: &[Series], lane: usize) {
        for (place, one) in series.iter().enumerate() {
            if let Some((_, what)) = tells(series, place).filter(|t| t.0 == lane) {
                one.readings.iter().for_each(|r| self.push_reading(what, *r));
            }
        }
    }

    /// The trace with what the channels of its run tell of the drive of `lane`.
    pub fn with_series(mut self, series: &[Series], lane: usize) -> Self {
        self.push_series(series, lane);
        self
    }

    /// Mean power of the drive in these samples, W, and how often it was read in them; `None` where it was not.
    pub fn power(&self, range: Range<usize>) -> Option<(f64, usize)> {
        self.mean_of(&self.power, range)
    }

    /// Share of the time of these samples, 0 to 1, for which the lane waited for the other side of a copy; `None` where it is in none.
    pub fn waited(&self, range: Range<usize>) -> Option<f64> {
        Some(self.mean_of(&self.waits, range)?.0)
    }

    /// Mean and number of readings that were taken in these samples.
    fn mean_of(&self, column: &[(u64, f32)], range: Range<usize>) -> Option<(f64, usize)> {
        let range = range.start..range.end.min(self.len());
        if range.is_empty() || column.is_empty() {
            return None;
        }
        let place = |at: Nanos| column.partition_point(|w| w.0 <= at.0);
        let own = &column[place(self.start(range.start))..place(self.end(range.end - 1))];
        let sum: f64 = own.iter().map(|w| f64::from(w.1)).sum();
        (!own.is_empty()).then(|| (sum / own.len() as f64, own.len()))
    }

    /// Number of samples.
    pub fn len(&self) -> usize {
        self.end.len()
    }

    /// Whether there is no sample.
    pub fn is_empty(&self) -> bool {
        self.end.is_empty()
    }

    /// The legs, in the order in which they ran.
    pub fn legs(&self) -> &[TraceLeg] {
        &self.legs
    }

    /// The leg that holds a sample.
    pub fn leg_at(&self, index: usize) -> Option<&TraceLeg> {
        let at = self.legs.partition_point(|leg| leg.samples.end <= index);
        self.legs.get(at)
    }

    /// Start of a sample's interval.
    pub fn start(&self, index: usize) -> Nanos {
        let length = self.length.get(index).map_or(0, |&l| u64::from(l) * LENGTH_STEP);
        Nanos(self.end(index).0.saturating_sub(length))
    }

    /// End of a sample's interval; of the last one for an index behind the end, zero for an empty trace.
    pub fn end(&self, index: usize) -> Nanos {
        Nanos(self.end.get(index).or(self.end.last()).copied().unwrap_or(0))
    }

    /// Seconds between the end of the sample before and the start of this one, in which nothing was logged.
    pub fn unlogged(&self, index: usize) -> f64 {
        index.checked_sub(1).map_or(0.0, |before| self.start(index).since(self.end(before)).secs())
    }

    /// Operations that were completed in a sample.
    pub fn ops(&self, index: usize) -> u64 {
        self.ops.get(index).map_or(0, |n| u64::from(*n))
    }

    /// Bytes written and read by all samples before `index`.
    pub fn totals(&self, index: usize) -> (Bytes, Bytes) {
        let before = |column: &[u64]| match index.min(column.len()) {
            0 => Bytes(0),
            n => Bytes(column[n - 1]),
        };
        (before(&self.written), before(&self.read))
    }

    /// Bytes moved, in either direction, by all samples before `index`. This is the ruler of bytes.
    pub fn moved(&self, index: usize) -> Bytes {
        let (written, read) = self.totals(index);
        Bytes(written.0 + read.0)
    }

    /// Mean rate over samples `from..to`: bytes moved over the time in those intervals.
    pub fn mean_rate(&self, range: Range<usize>) -> Option<Rate> {
        if range.is_empty() || range.end > self.len() {
            return None;
        }
        let bytes = self.moved(range.end).0 - self.moved(range.start).0;
        Rate::over(Bytes(bytes), self.end(range.end - 1).since(self.start(range.start)))
    }

    /// First sample that ends after `time`.
    pub fn index_at_time(&self, time: Nanos) -> usize {
        self.end.partition_point(|&end| end <= time.0)
    }

    /// First sample by whose end more than `bytes` have been moved.
    pub fn index_at_bytes(&self, bytes: Bytes) -> usize {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let mid = usize::midpoint(low, high);
            if self.moved(mid + 1) <= bytes { low = mid + 1 } else { high = mid }
        }
        low
    }

    /// Throttle counters at the end of a sample.
    pub fn throttled(&self, index: usize) -> Option<Throttled> {
        Some(Throttled { light_s: self.throttled[0].get(index)?, heavy_s: self.throttled[1].get(index)? })
    }

    /// Whether throttle counters were read in any of the samples `from..to`.
    pub fn has_throttled(&self, from: usize, to: usize) -> bool {
        self.throttled[0].extent(from, to).is_some()
    }

    /// Temperature reading at or before `index`, within the last `back` samples.
    pub fn temp_at(&self, index: usize, back: usize) -> Option<Celsius> {
        (index.saturating_sub(back)..=index).rev().find_map(|i| self.temp.get(i)).map(Celsius)
    }

    /// Failed operations in the whole run.
    pub fn errors(&self) -> u64 {
        self.failures.count
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(start_ms: u64, end_ms: u64, leg: u32, written: u64) -> Sample {
        Sample {
            start: Nanos(start_ms * 1_000_000),
            end: Nanos(end_ms * 1_000_000),
            leg,
            written: Bytes(written),
            ..Sample::default()
        }
    }

    #[test]
    fn rulers_agree_at_every_sample() {
        let samples: Vec<_> =
            (0..100).map(|i| sample(i * 250, (i + 1) * 250, u32::from(i >= 40), 1000 + i)).collect();
        let trace = Trace::of(&samples, &["first".into(), "second".into()]);
        assert_eq!(trace.legs().len(), 2);
        assert_eq!(trace.leg_at(39).unwrap().name, "first");
        assert_eq!(trace.leg_at(40).unwrap().samples, 40..100);
        for i in 0..100 {
            assert_eq!(trace.index_at_time(trace.start(i)), i);
            assert_eq!(trace.index_at_bytes(trace.moved(i)), i);
        }
        assert_eq!(trace.index_at_time(Nanos(u64::MAX)), 100);
        let rate = trace.mean_rate(0..100).unwrap().0;
        assert!((rate - (100_000.0 + 4950.0) / 25.0).abs() < 1e-6, "{rate}");
    }

    #[test]
    fn an_empty_trace_answers() {
        let trace = Trace::new();
        assert_eq!(trace.end(0), Nanos(0));
        assert_eq!(trace.mean_rate(0..0), None);
        assert_eq!(trace.index_at_bytes(Bytes(5)), 0);
        assert!(trace.leg_at(0).is_none());
    }
}
