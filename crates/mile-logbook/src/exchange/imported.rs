//! What a trace from elsewhere is once it was read, and what can be wrong with it.

use mile_core::{Bytes, Latency, Rate, Sample, Trace};
use std::fmt;

/// A row, or a field of one, that could not be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// Line in the file, from 1.
    pub line: u64,
    /// Column's name, where one field is to blame.
    pub column: Option<String>,
    /// What is wrong.
    pub why: String,
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}", self.line)?;
        if let Some(column) = &self.column {
            write!(f, ", column {column}")?;
        }
        write!(f, ": {}", self.why)
    }
}

/// The first bytes of a Parquet file.
pub const PARQUET_MAGIC: &[u8] = b"PAR1";

/// Whether this build reads and writes Parquet files.
pub const HAS_PARQUET: bool = cfg!(feature = "parquet");

/// Why a file gave no trace at all.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum Exchange {
    #[error("the file cannot be read: {0}")]
    Read(#[source] csv::Error),
    #[error("there is no column `elapsed_s`, which every row needs; the columns are: {columns}")]
    NoTime { columns: String },
    #[error("the column `{0}` is there twice; keep one of them")]
    Twice(String),
    #[error(
        "there is no rate: a column `write_mb_s`, `read_mb_s`, `bytes_written` or `bytes_read` is needed; the columns are: {columns}"
    )]
    NoRate { columns: String },
    #[error("`{name}` is no column of the format, which docs/formats.md lists")]
    NotOurs { name: String },
    #[error("there is no column `{name}` to map; the columns are: {columns}")]
    NotThere { name: String, columns: String },
    #[error("there is no column `mb_s`, the rate that is asked for; the columns are: {columns}")]
    NoDemand { columns: String },
    #[error("no row could be used{}", first(.problems))]
    NoRow { problems: Vec<Problem> },
    #[error("the file is no Parquet that can be read: {0}")]
    NotParquet(String),
    #[error(
        "this build was made without Parquet. Use CSV, or build the program with it: cargo build --release --features parquet"
    )]
    NoParquet,
    #[error("the file is too much to take in: {0}")]
    TooMuch(String),
    #[error("cannot write: {0}")]
    Write(#[source] std::io::Error),
}

fn first(problems: &[Problem]) -> String {
    problems.first().map_or_else(|| ": the file has no rows below its head".into(), |p| format!("; {p}"))
}

/// A column that is not one of ours, kept as it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Extra {
    /// Its name.
    pub name: String,
    /// One field for each sample.
    pub values: Vec<String>,
}

/// A lane of a trace from a file.
#[derive(Clone, Debug, Default)]
pub struct ImportedLane {
    /// What the column `lane` calls it; empty where there is none.
    pub name: String,
    /// The rows that could be used.
    pub samples: Vec<Sample>,
    /// Names of the legs.
    pub legs: Vec<String>,
    /// Columns that are not ours.
    pub extras: Vec<Extra>,
}

/// A trace from a file. What is asked of it as of a lane is of its first, which is the only one of most files.
#[derive(Clone, Debug, Default)]
pub struct Imported {
    /// Its lanes, at least one, in the order in which they come first.
    pub lanes: Vec<ImportedLane>,
    /// What could not be used.
    pub problems: Vec<Problem>,
    /// How many neighbouring rows were joined to one sample, as there were too many; 0 or 1 where none were.
    pub joined: u64,
}

impl std::ops::Deref for Imported {
    type Target = ImportedLane;

    fn deref(&self) -> &ImportedLane {
        static NOTHING: std::sync::LazyLock<ImportedLane> = std::sync::LazyLock::new(ImportedLane::default);
        self.lanes.first().unwrap_or_else(|| &NOTHING)
    }
}

impl ImportedLane {
    /// Joins neighbouring samples of one leg and operation in pairs.
    pub(super) fn join_pairs(&mut self) {
        // In place: what is read next needs the memory.
        let samples = &mut self.samples;
        let (mut from, mut to) = (0, 0);
        while from < samples.len() {
            let pair = samples
                .get(from + 1)
                .is_some_and(|next| next.leg == samples[from].leg && next.op == samples[from].op);
            let first = std::mem::take(&mut samples[from]);
            samples[to] = if pair { join(first, std::mem::take(&mut samples[from + 1])) } else { first };
            // The fields of the later one.
            for extra in &mut self.extras {
                extra.values.swap(to, from + usize::from(pair));
            }
            from += 1 + usize::from(pair);
            to += 1;
        }
        samples.truncate(to);
        self.extras.iter_mut().for_each(|extra| extra.values.truncate(to));
    }

    /// Takes the bytes of gaps from the addresses: the rate in the first row behind a gap is that of its own short interval and not of the gap. Only where
    /// the leg moves through the addresses byte by byte.
    pub(super) fn fill_gaps(&mut self) {
        let length = |s: &Sample| s.end.since(s.start).0;
        let mut lengths: Vec<u64> = self.samples.iter().map(length).collect();
        if lengths.len() < 8 {
            return;
        }
        let middle = lengths.len() / 2;
        let usual = *lengths.select_nth_unstable(middle).1;
        let moved = |s: &Sample| (s.written.0 + s.read.0) as f64;
        for i in 2..self.samples.len().saturating_sub(1) {
            let [before, gap, next] = &self.samples[i - 1..=i + 1] else { continue };
            let alike = |s: &Sample| s.leg == next.leg && s.op == next.op;
            if length(gap) <= GAP * usual || !alike(before) {
                continue;
            }
            // Over some samples, as the times of single ones may be rounded.
            let near = &self.samples[i.saturating_sub(1 + NEAR)..i - 1];
            let near = &near[near.iter().rposition(|s| !alike(s)).map_or(0, |last| last + 1)..];
            let offsets = (near.first().and_then(|s| s.offset), before.offset, next.offset);
            let (Some(a), Some(b), Some(end)) = offsets else { continue };
            let step = b.0 as f64 - a.0 as f64;
            let over = end.0 as f64 - b.0 as f64 - moved(before);
            // The addresses go on as the rates say, and through the gap at a rate within a factor of three of those around it: the rate may have changed
            // in the gap.
            let in_order = (step / near.iter().map(moved).sum::<f64>().max(1.0) - 1.0).abs() < IN_ORDER;
            let before = moved(before) * length(gap) as f64 / length(before).max(1) as f64;
            let (least, most) = (moved(gap).min(before), moved(gap).max(before));
            let plausible = (least / 3.0..most * 3.0).contains(&over) && over > 0.0;
            if in_order && plausible {
                let gap = &mut self.samples[i];
                let bytes = if gap.written.0 > 0 { &mut gap.written } else { &mut gap.read };
                *bytes = Bytes(over as u64);
            }
        }
    }

    /// Its samples in columns.
    pub fn trace(&self) -> Trace {
        Trace::of(&self.samples, &self.legs)
    }
}

/// An interval that is so many times as long as the usual one is a gap.
const GAP: u64 = 5;
/// Samples before a gap, at the most, over which the addresses are held against the bytes.
const NEAR: usize = 32;
/// By how much the addresses may move more or less than the bytes, as a share, in a leg that goes through them in order.
const IN_ORDER: f64 = 0.02;

/// Two neighbouring samples as one: bytes, operations and errors are added up, readings are those of the later one where it has them,
/// and of latencies the larger is kept, as percentiles cannot be joined.
fn join(a: Sample, b: Sample) -> Sample {
    let latency = match (a.latency, b.latency) {
        (Some(x), Some(y)) => Some(Latency {
            p50: x.p50.max(y.p50),
            p99: x.p99.max(y.p99),
            p999: x.p999.max(y.p999),
            max: x.max.max(y.max),
        }),
        (x, y) => x.or(y),
    };
    let mean = |x: Option<f64>, y: Option<f64>| match (x, y) {
        (Some(x), Some(y)) => Some((x + y) / 2.0),
        (x, y) => x.or(y),
    };
    Sample {
        start: a.start,
        written: Bytes(a.written.0 + b.written.0),
        read: Bytes(a.read.0 + b.read.0),
        ops: a.ops.saturating_add(b.ops),
        offset: a.offset.or(b.offset),
        reach: a.reach.max(b.reach),
        latency,
        temp: b.temp.or(a.temp),
        ambient: b.ambient.or(a.ambient),
        throttled: b.throttled.or(a.throttled),
        foreign: mean(a.foreign.map(|r| r.0), b.foreign.map(|r| r.0)).map(Rate),
        host: mile_core::Host {
            steal: mean(a.host.steal.map(f64::from), b.host.steal.map(f64::from)).map(|s| s as f32),
            cpu: mean(a.host.cpu.map(f64::from), b.host.cpu.map(f64::from)).map(|s| s as f32),
        },
        fill: b.fill.or(a.fill),
        errors: a.errors.saturating_add(b.errors),
        ..b
    }
}

/// The column that tells the lanes of a run apart, where it has several.
pub(super) const LANE: &str = "lane";
/// Lanes, at the most.
pub(super) const MOST_LANES: usize = 64;

/// The columns of the format, in the order in which they are written.
pub(super) const COLUMNS: [&str; 22] = [
    "elapsed_s",
    "leg",
    "op",
    "write_mb_s",
    "read_mb_s",
    "bytes_written",
    "bytes_read",
    "offset_bytes",
    "temp_c",
    "ambient_c",
    "lat_p50_us",
    "lat_p99_us",
    "lat_p999_us",
    "lat_max_us",
    "foreign_mb_s",
    "cpu_steal_pct",
    "cpu_own_pct",
    "fill_pct",
    "throttle_light_s",
    "throttle_heavy_s",
    "operations",
    "errors",
];
