//! Options that several commands have, and how values are read.

use clap::{Args, ValueEnum};
use mile_bench::Failure;
use mile_core::{Bytes, Celsius, Nanos};
use std::path::PathBuf;

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    #[default]
    Text,
    /// For programs.
    Json,
}

/// What a trace cannot carry, and is given beside it.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct BesideArgs {
    /// One lane only, of a run or a file that has several.
    #[arg(long, value_name = "NAME")]
    pub(crate) lane: Option<String>,
    /// Capacity of the drive, such as 2TB.
    #[arg(long, value_name = "SIZE")]
    pub(crate) capacity: Option<Bytes>,
    /// Temperature from which the drive warns, °C.
    #[arg(long, value_name = "C", value_parser = celsius)]
    pub(crate) warn: Option<Celsius>,
    /// Temperature from which it is critical, °C.
    #[arg(long, value_name = "C", value_parser = celsius)]
    pub(crate) critical: Option<Celsius>,
    /// Rated sequential write rate, MB/s.
    #[arg(long, value_name = "MB_S", value_parser = mb_s)]
    pub(crate) rated_write: Option<f64>,
    /// Rated sequential read rate, MB/s.
    #[arg(long, value_name = "MB_S", value_parser = mb_s)]
    pub(crate) rated_read: Option<f64>,
    /// Most that the link carries, MB/s.
    #[arg(long, value_name = "MB_S", value_parser = mb_s)]
    pub(crate) link: Option<f64>,
    /// What a column of the format is called in the CSV file, such as temp_c="Drive temp". May be given more than once.
    #[arg(long, value_name = "COLUMN=NAME", value_parser = mapping)]
    pub(crate) map: Vec<(String, String)>,
    /// A stream that must be held, such as "recorder 147.5 MB/s, buffer 4 GB" or "array 96 channels x 512 kHz x 3 B, buffer 4 GB,
    /// until 90 % full". May be given more than once.
    #[arg(long = "demand", value_name = "STREAM")]
    pub(crate) demand: Vec<String>,
    /// A stream that must be held, as a CSV file with the columns elapsed_s and mb_s.
    #[arg(long, value_name = "FILE")]
    pub(crate) demand_csv: Vec<PathBuf>,
    /// Buffer of the streams that come as files.
    #[arg(long, value_name = "SIZE", default_value = "0")]
    pub(crate) buffer: Bytes,
}

impl BesideArgs {
    /// The streams that must be held.
    pub(crate) fn demands(&self) -> Result<Vec<mile_core::Demand>, Failure> {
        let mut all = Vec::new();
        for text in &self.demand {
            all.push(mile_course::demand(text).map_err(|errors| {
                let list = mile_course::diagnostic::render(&errors, text);
                Failure::usage(format!("--demand {text:?} cannot be read:\n{}", list.join("\n").trim_end()))
            })?);
        }
        for path in &self.demand_csv {
            let bad = |why: String| Failure::usage(format!("{}: {why}", path.display()));
            let file = std::fs::File::open(path).map_err(|e| bad(e.to_string()))?;
            let rate = mile_logbook::exchange::read_rates(file).map_err(|e| bad(e.to_string()))?;
            let name = path.file_stem().map_or(String::new(), |s| s.to_string_lossy().into_owned());
            all.push(mile_core::Demand { name, rate, buffer: self.buffer, until_fill: None });
        }
        Ok(all)
    }
}

pub(super) fn mapping(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((ours, theirs)) if !ours.trim().is_empty() && !theirs.trim().is_empty() => {
            Ok((ours.trim().to_owned(), theirs.trim().trim_matches('"').to_owned()))
        }
        _ => Err(format!("`{text}` is no mapping such as temp_c=\"Drive temp\"")),
    }
}

pub(super) fn celsius(text: &str) -> Result<Celsius, String> {
    match text.parse::<f64>() {
        Ok(t) if (-100.0..=300.0).contains(&t) => Ok(Celsius(t)),
        _ => Err(format!("`{text}` is no temperature in °C")),
    }
}

pub(super) fn above_zero(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(value) if value > 0.0 && value.is_finite() => Ok(value),
        _ => Err(format!("`{text}` is no number above 0")),
    }
}

pub(super) fn mb_s(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(rate) if rate > 0.0 && rate.is_finite() => Ok(rate),
        _ => Err(format!("`{text}` is no rate in MB/s")),
    }
}

/// A time such as `10 min`, `90s`, `1.5 h`.
pub(super) fn time(text: &str) -> Result<Nanos, String> {
    let bad = || format!("`{text}` is no time; write it as `10 min` or `30 s`");
    let text = text.trim();
    let split = text.find(|c: char| c.is_ascii_alphabetic()).ok_or_else(bad)?;
    let value: f64 = text[..split].trim().parse().map_err(|_| bad())?;
    let unit = match &text[split..] {
        "s" => 1.0,
        "min" => 60.0,
        "h" => 3600.0,
        "d" => 86_400.0,
        _ => return Err(bad()),
    };
    let seconds = value * unit;
    if !(10.0..=366.0 * 86_400.0).contains(&seconds) {
        return Err(format!("{text} is not between 10 s and a year"));
    }
    Ok(Nanos::from_secs(seconds))
}

/// A day such as `2026-03-01`, as the moment at which it ends, seconds since 1970-01-01 UTC.
pub(super) fn day(text: &str) -> Result<i64, String> {
    let next = date(text)?.tomorrow().map_err(|e| format!("`{text}`: {e}"))?;
    Ok(begins(next)? - 1)
}

/// The same, as the moment at which it begins.
pub(super) fn morning(text: &str) -> Result<i64, String> {
    begins(date(text)?)
}

pub(super) fn date(text: &str) -> Result<jiff::civil::Date, String> {
    text.parse().map_err(|_| format!("`{text}` is no day; write it as 2026-03-01"))
}

pub(super) fn begins(date: jiff::civil::Date) -> Result<i64, String> {
    let start = date.to_zoned(jiff::tz::TimeZone::system()).map_err(|e| format!("`{date}`: {e}"))?;
    Ok(start.timestamp().as_second())
}
