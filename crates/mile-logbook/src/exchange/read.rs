//! Reads traces from elsewhere, row by row, in as much memory as their rows need.

use super::foreign;
use super::imported::{COLUMNS, Exchange, Extra, Imported, ImportedLane, LANE, MOST_LANES, Problem};
use csv::{ReaderBuilder, StringRecord};
use mile_core::{Bytes, Celsius, Latency, Nanos, Op, Rate, Sample, Throttled};
use std::cell::Cell;
use std::collections::HashMap;
use std::io::{BufRead, BufReader, Read};
use std::rc::Rc;

/// A stream as a CSV file with the columns `elapsed_s` and `mb_s`: rate from a time on, seconds and bytes a second. Ascending; what
/// comes before the first row has its rate.
pub fn read_rates(input: impl Read) -> Result<Vec<(f64, Rate)>, Exchange> {
    let mut reader = ReaderBuilder::new().flexible(true).trim(csv::Trim::All).from_reader(input);
    let header = reader.headers().map_err(Exchange::Read)?.clone();
    let columns = || header.iter().collect::<Vec<_>>().join(", ");
    let place = |name: &str| header.iter().position(|c| c == name);
    let time = place("elapsed_s").ok_or_else(|| Exchange::NoTime { columns: columns() })?;
    let rate = place("mb_s").ok_or_else(|| Exchange::NoDemand { columns: columns() })?;
    let mut rates: Vec<(f64, Rate)> = Vec::new();
    let mut problems = Vec::new();
    for record in reader.records() {
        let record = record.map_err(Exchange::Read)?;
        let line = record.position().map_or(0, csv::Position::line);
        let number = |i: usize| {
            record.get(i).and_then(|f| f.parse::<f64>().ok()).filter(|v| v.is_finite() && *v >= 0.0)
        };
        match (number(time), number(rate)) {
            (Some(at), Some(mb_s)) if rates.last().is_none_or(|l| at > l.0) => {
                rates.push((at, Rate(mb_s * 1e6)))
            }
            (Some(_), Some(_)) => problems.push(Problem {
                line,
                column: Some("elapsed_s".into()),
                why: "time does not go on".into(),
            }),
            (at, _) => problems.push(Problem {
                line,
                column: Some(if at.is_none() { "elapsed_s" } else { "mb_s" }.into()),
                why: "a number from 0 on belongs here".into(),
            }),
        }
    }
    match (rates.first_mut(), problems.is_empty()) {
        (Some(first), true) => {
            first.0 = 0.0;
            Ok(rates)
        }
        _ => Err(Exchange::NoRow { problems }),
    }
}

/// Bytes that the rows of a trace may take in memory. Of a file that has more, neighbouring rows are joined in pairs, as often as needed.
const MOST_BYTES: usize = 224 << 20;
/// Bytes of a field of a column that is not ours, about.
const FIELD_BYTES: usize = 56;
/// Columns that are not ours, at the most.
const MOST_EXTRAS: usize = 500;
/// Bytes that their fields may come to beyond [`FIELD_BYTES`] each.
const MOST_EXTRA_BYTES: usize = 48 << 20;
/// Legs, at the most: as many as a course can have.
const MOST_LEGS: usize = 100_000;
/// Longest row, bytes.
const LONGEST_ROW: u64 = 4 << 20;
/// Longest head of a file, bytes.
const LONGEST_HEAD: u64 = 1 << 20;
/// Problems that are kept one by one; the last one says how many more there are.
const MOST_PROBLEMS: usize = 10_000;
/// Latest time that a row may have, seconds: 300 years, within what nanoseconds can count.
const LATEST_S: f64 = 9.4e9;
/// Most bytes that a run can have moved: more than any drive of these days in its life, and sums of two can still be counted.
const MOST_MOVED: u64 = 1 << 62;

/// A source whose rows are not longer than [`LONGEST_ROW`]: a field without an end would be taken into memory as a whole.
struct Bounded<R> {
    source: R,
    /// Bytes since the last row was taken.
    since: Rc<Cell<u64>>,
}

impl<R> Bounded<R> {
    fn new(source: R) -> (Self, Rc<Cell<u64>>) {
        let since = Rc::new(Cell::new(0));
        (Self { source, since: Rc::clone(&since) }, since)
    }
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, to: &mut [u8]) -> std::io::Result<usize> {
        if self.since.get() > LONGEST_ROW {
            return Err(std::io::Error::other(format!(
                "a row is longer than {}; is there a quotation mark too many?",
                Bytes(LONGEST_ROW)
            )));
        }
        let count = self.source.read(to)?;
        self.since.set(self.since.get() + count as u64);
        Ok(count)
    }
}

/// Reads a trace from elsewhere: as [`read_csv`], but for other column names (`map`: ours, and what it is called there), units behind the
/// names, `;` or tabs between fields, decimal commas, and time stamps as RFC 3339 has them. The file is gone through once, and held
/// in memory by no more than its rows.
///
/// # Errors
/// As [`read_csv`], and where what is mapped is not there.
pub fn read_foreign(source: impl Read, map: &[(String, String)]) -> Result<Imported, Exchange> {
    let mut source = BufReader::new(source);
    let mut head = Vec::new();
    while head.iter().all(u8::is_ascii_whitespace) {
        let read = source.by_ref().take(LONGEST_HEAD).read_until(b'\n', &mut head);
        if read.map_err(|e| Exchange::Read(e.into()))? == 0 || head.len() as u64 > LONGEST_HEAD {
            break;
        }
    }
    let delimiter = foreign::separator(&String::from_utf8_lossy(&head));
    let (source, since) = Bounded::new(head.as_slice().chain(source));
    let mut reader = ReaderBuilder::new().flexible(true).delimiter(delimiter).from_reader(source);
    let names = reader.headers().map_err(Exchange::Read)?.clone();
    let mut first = Vec::new();
    let mut record = StringRecord::new();
    // Enough to see by what kind of time the rows are told.
    while first.len() < 64 {
        match reader.read_record(&mut record) {
            Ok(false) => break,
            Ok(true) => first.push(Ok(record.clone())),
            Err(e) if matches!(e.kind(), csv::ErrorKind::Io(_)) => return Err(Exchange::Read(e)),
            Err(e) => first.push(Err(e)),
        }
        since.set(0);
    }
    let usable: Vec<StringRecord> = first.iter().flatten().cloned().collect();
    let adapter = foreign::Adapter::new(&names, map, delimiter, &usable)?;
    rows(reader, &since, adapter.names(&names), first, Some(&adapter))
}

/// Reads a trace. Rows that cannot be used are reported and left out; a file without a usable row is an error.
///
/// # Errors
/// Where the file cannot be read, has no time or no rate, a column twice, or no row that can be used.
pub fn read_csv(source: impl Read) -> Result<Imported, Exchange> {
    let (source, since) = Bounded::new(source);
    let mut reader = ReaderBuilder::new().flexible(true).from_reader(source);
    let head = reader.headers().map_err(Exchange::Read)?.clone();
    rows(reader, &since, head, Vec::new(), None)
}

fn rows(
    mut reader: csv::Reader<impl Read>,
    since: &Cell<u64>,
    head: StringRecord,
    first: Vec<csv::Result<StringRecord>>,
    adapter: Option<&foreign::Adapter>,
) -> Result<Imported, Exchange> {
    let names: Vec<String> =
        head.iter().map(|n| n.trim_start_matches('\u{feff}').trim().to_ascii_lowercase()).collect();
    let mut at = HashMap::new();
    for (i, name) in names.iter().enumerate() {
        if at.insert(name.as_str(), i).is_some() {
            return Err(Exchange::Twice(name.clone()));
        }
    }
    let columns = || names.join(", ");
    if !at.contains_key("elapsed_s") {
        return Err(Exchange::NoTime { columns: columns() });
    }
    if !["write_mb_s", "read_mb_s", "bytes_written", "bytes_read"].iter().any(|c| at.contains_key(c)) {
        return Err(Exchange::NoRate { columns: columns() });
    }
    let is_extra = |name: &str| !COLUMNS.contains(&name) && name != LANE;
    let extra: Vec<usize> = (0..names.len()).filter(|&i| is_extra(&names[i])).collect();
    if extra.len() > MOST_EXTRAS {
        let why =
            format!("{} columns that are not of the format, at most {MOST_EXTRAS} can be kept", extra.len());
        return Err(Exchange::TooMuch(why));
    }
    let most = (MOST_BYTES / (size_of::<Sample>() + FIELD_BYTES * extra.len())).max(1024);
    let mut all = Imported::default();
    let mut states: Vec<Rows> = Vec::new();
    let lane = |name: &str| ImportedLane {
        name: name.to_owned(),
        extras: extra
            .iter()
            .map(|&i| Extra { name: head.get(i).unwrap_or("").to_owned(), values: Vec::new() })
            .collect(),
        ..ImportedLane::default()
    };
    let mut count = 0;
    let mut record = StringRecord::new();
    let mut first = first.into_iter();
    let (mut more_problems, mut long_fields) = (0_u64, 0);
    let mut problem = |all: &mut Imported, problem: Problem| {
        if all.problems.len() < MOST_PROBLEMS {
            all.problems.push(problem);
        } else {
            more_problems += 1;
            let why = format!("and {more_problems} more rows cannot be used");
            all.problems[MOST_PROBLEMS - 1] = Problem { line: problem.line, column: None, why };
        }
    };
    loop {
        let read = match first.next() {
            Some(early) => early.map(|early| {
                record = early;
                true
            }),
            None => reader.read_record(&mut record),
        };
        since.set(0);
        match read {
            Ok(false) => break,
            Ok(true) => {}
            Err(e) if matches!(e.kind(), csv::ErrorKind::Io(_)) => return Err(Exchange::Read(e)),
            Err(e) => {
                let line = e.position().map_or(0, csv::Position::line);
                let why = format!("the row cannot be read: {e}");
                problem(&mut all, Problem { line, column: None, why });
                continue;
            }
        }
        let line = record.position().map_or(0, csv::Position::line);
        if let Some(adapter) = adapter {
            adapter.adapt(&mut record);
        }
        let row = Row { record: &record, at: &at, line };
        let name = row.text(LANE).unwrap_or("");
        let place = all.lanes.iter().position(|l| l.name == name).unwrap_or_else(|| {
            all.lanes.push(lane(name));
            states.push(Rows::default());
            all.lanes.len() - 1
        });
        if all.lanes.len() > MOST_LANES {
            return Err(Exchange::TooMuch(format!("more than {MOST_LANES} lanes")));
        }
        let into = &mut all.lanes[place];
        match states[place].sample(&row, names.len(), &mut into.legs) {
            Ok(sample) => {
                if all.lanes.len() == 1 && all.lanes[0].samples.is_empty() {
                    // Most files have one lane: its room is taken at once, and does not have to grow.
                    all.lanes[0].samples.reserve_exact(most);
                    all.lanes[0].extras.iter_mut().for_each(|e| e.values.reserve_exact(most));
                }
                let into = &mut all.lanes[place];
                count += 1;
                into.samples.push(sample);
                for (column, &i) in into.extras.iter_mut().zip(&extra) {
                    let field = record.get(i).unwrap_or("");
                    long_fields += field.len().saturating_sub(FIELD_BYTES / 2);
                    column.values.push(field.to_owned());
                }
                if long_fields > MOST_EXTRA_BYTES {
                    let most = Bytes(MOST_EXTRA_BYTES as u64);
                    let why = format!("the columns that are not of the format hold more than {most} of text");
                    return Err(Exchange::TooMuch(why));
                }
                if into.legs.len() > MOST_LEGS {
                    return Err(Exchange::TooMuch(format!("more than {MOST_LEGS} legs")));
                }
                if count >= most {
                    all.joined = all.joined.max(1) * 2;
                    all.lanes.iter_mut().for_each(ImportedLane::join_pairs);
                    count = all.lanes.iter().map(|l| l.samples.len()).sum();
                    if count > most / 4 * 3 {
                        let why = format!(
                            "more than {most} rows, which change between legs too often to be joined"
                        );
                        return Err(Exchange::TooMuch(why));
                    }
                }
            }
            Err(wrong) => problem(&mut all, wrong),
        }
    }
    // The first interval has no row before it. Where it would be far longer than the next, the log began late.
    for lane in &mut all.lanes {
        let [first, second, ..] = lane.samples.as_mut_slice() else { continue };
        let step = second.end.since(second.start);
        if first.end.since(first.start).0 > step.0.saturating_mul(3) {
            let whole = first.end.since(first.start).secs();
            first.start = Nanos(first.end.0 - step.0);
            if !at.contains_key("bytes_written") && !at.contains_key("bytes_read") {
                // A mean rate is for the interval, whatever its length.
                let share = step.secs() / whole;
                first.written = Bytes((first.written.0 as f64 * share) as u64);
                first.read = Bytes((first.read.0 as f64 * share) as u64);
            }
        }
    }
    if at.contains_key("offset_bytes") && !at.contains_key("bytes_written") && !at.contains_key("bytes_read")
    {
        all.lanes.iter_mut().for_each(ImportedLane::fill_gaps);
    }
    all.lanes.retain(|l| !l.samples.is_empty());
    if all.lanes.is_empty() {
        return Err(Exchange::NoRow { problems: all.problems });
    }
    all.lanes.iter_mut().for_each(|l| l.samples.shrink_to_fit());
    Ok(all)
}

struct Row<'a> {
    record: &'a StringRecord,
    at: &'a HashMap<&'a str, usize>,
    line: u64,
}

impl Row<'_> {
    fn text(&self, column: &str) -> Option<&str> {
        self.at.get(column).and_then(|&i| self.record.get(i)).map(str::trim).filter(|t| !t.is_empty())
    }

    fn wrong<T>(&self, column: &str, why: String) -> Result<T, Problem> {
        Err(Problem { line: self.line, column: Some(column.to_owned()), why })
    }

    fn number(&self, column: &str) -> Result<Option<f64>, Problem> {
        let Some(text) = self.text(column) else { return Ok(None) };
        match text.parse::<f64>() {
            Ok(value) if value.is_finite() => Ok(Some(value)),
            _ => self.wrong(column, format!("`{text}` is no number")),
        }
    }

    fn amount(&self, column: &str) -> Result<Option<f64>, Problem> {
        match self.number(column)? {
            Some(value) if value < 0.0 => self.wrong(column, format!("{value} is below 0")),
            other => Ok(other),
        }
    }

    /// A share of something, which is written in percent, as 0 to 1 and more.
    fn percent(&self, column: &str, most: f64) -> Result<Option<f32>, Problem> {
        match self.amount(column)? {
            Some(value) if value > most => {
                self.wrong(column, format!("{value} % is more than there can be, {most:.0} %"))
            }
            other => Ok(other.map(|p| (p / 100.0) as f32)),
        }
    }
}

/// All of something, %, with what rounding adds.
const WHOLE_PCT: f64 = 101.0;
/// More processors than any host has.
const PROCESSORS_MOST: f64 = 10_000.0;

/// What one row needs to know of those before it in its lane.
#[derive(Default)]
struct Rows {
    last_end: Option<Nanos>,
    /// Bytes of the rows so far, counted by us.
    written: u64,
    read: u64,
    /// Cumulative bytes of the last row that had them.
    known_written: u64,
    known_read: u64,
}

impl Rows {
    fn sample(&mut self, row: &Row<'_>, columns: usize, legs: &mut Vec<String>) -> Result<Sample, Problem> {
        if row.record.len() < columns {
            let why = format!("the row has {} fields, its head {columns}", row.record.len());
            return Err(Problem { line: row.line, column: None, why });
        }
        let Some(elapsed) = row.amount("elapsed_s")? else {
            return row.wrong("elapsed_s", "there is no time".into());
        };
        if elapsed > LATEST_S {
            return row.wrong("elapsed_s", format!("{elapsed} s is later than any run has lasted"));
        }
        let end = Nanos::from_secs(elapsed);
        if let Some(last) = self.last_end.filter(|last| end <= *last) {
            return row
                .wrong("elapsed_s", format!("time runs backwards: {elapsed} s follows {} s", last.secs()));
        }
        let start = self.last_end.unwrap_or(Nanos(0));
        let seconds = end.since(start).secs();
        let op = match row.text("op") {
            None => Op::Write,
            Some(text) => match text.parse() {
                Ok(op) => op,
                Err(()) => return row.wrong("op", format!("`{text}` is none of write, read, mixed, idle")),
            },
        };
        let written = moved(row, "write_mb_s", "bytes_written", seconds, self.known_written)?;
        let read = moved(row, "read_mb_s", "bytes_read", seconds, self.known_read)?;
        let needed = match op {
            Op::Write => written.bytes.is_some(),
            Op::Read => read.bytes.is_some(),
            Op::Mixed => written.bytes.is_some() || read.bytes.is_some(),
            Op::Idle => true,
        };
        let light = row.amount("throttle_light_s")?;
        let heavy = row.amount("throttle_heavy_s")?;
        let sample = Sample {
            start,
            end,
            op,
            written: Bytes(written.bytes.unwrap_or(0)),
            read: Bytes(read.bytes.unwrap_or(0)),
            ops: row.amount("operations")?.unwrap_or(0.0) as u64,
            offset: row.amount("offset_bytes")?.map(|b| Bytes(b as u64)),
            reach: None,
            latency: latency(row)?,
            temp: row.number("temp_c")?.map(Celsius),
            ambient: row.number("ambient_c")?.map(Celsius),
            throttled: (light.is_some() || heavy.is_some())
                .then(|| Throttled { light_s: light.unwrap_or(0.0), heavy_s: heavy.unwrap_or(0.0) }),
            foreign: row.amount("foreign_mb_s")?.map(|r| Rate(r * 1e6)),
            host: mile_core::Host {
                steal: row.percent("cpu_steal_pct", WHOLE_PCT)?,
                cpu: row.percent("cpu_own_pct", WHOLE_PCT * PROCESSORS_MOST)?,
            },
            fill: row.percent("fill_pct", WHOLE_PCT)?,
            errors: row.amount("errors")?.unwrap_or(0.0) as u32,
            leg: 0,
        };
        // From here on the row's time counts, even if the row itself is of no use.
        self.last_end = Some(end);
        self.known_written = written.total.unwrap_or(self.known_written);
        self.known_read = read.total.unwrap_or(self.known_read);
        if !needed {
            let column = if op == Op::Read { "read_mb_s" } else { "write_mb_s" };
            return row.wrong(column, format!("there is no rate for a {} row", op.word()));
        }
        self.written += sample.written.0;
        self.read += sample.read.0;
        let name = row.text("leg").unwrap_or("run");
        if legs.last().is_none_or(|last| last != name) {
            legs.push(name.to_owned());
        }
        Ok(Sample { leg: (legs.len() - 1) as u32, ..sample })
    }
}

struct Moved {
    bytes: Option<u64>,
    total: Option<u64>,
}

/// Bytes of an interval: the difference of cumulative bytes where they are given, else the mean rate times the time.
fn moved(row: &Row<'_>, rate: &str, cumulative: &str, seconds: f64, before: u64) -> Result<Moved, Problem> {
    let total = row.amount(cumulative)?.map(|b| b as u64);
    let by_rate = row.amount(rate)?.map(|r| (r * 1e6 * seconds).round() as u64);
    match total {
        Some(total) if total < before => {
            row.wrong(cumulative, format!("the count runs backwards: {total} follows {before}"))
        }
        Some(total) if total > MOST_MOVED => {
            row.wrong(cumulative, format!("{total} bytes are more than any drive has moved"))
        }
        Some(total) => Ok(Moved { bytes: Some(total - before), total: Some(total) }),
        None => match by_rate.map(|b| before.saturating_add(b)) {
            Some(total) if total > MOST_MOVED => {
                row.wrong(rate, "at this rate, more bytes were moved by now than any drive has".into())
            }
            total => Ok(Moved { bytes: by_rate, total }),
        },
    }
}

fn latency(row: &Row<'_>) -> Result<Option<Latency>, Problem> {
    let nanos = |v: Option<f64>| v.map(|us| Nanos((us * 1e3).round() as u64));
    let p50 = nanos(row.amount("lat_p50_us")?);
    let p99 = nanos(row.amount("lat_p99_us")?);
    let p999 = nanos(row.amount("lat_p999_us")?);
    let max = nanos(row.amount("lat_max_us")?);
    let Some(any) = p50.or(p99).or(max).or(p999) else { return Ok(None) };
    let p50 = p50.unwrap_or(any);
    let p99 = p99.unwrap_or(p50);
    let p999 = p999.unwrap_or(p99);
    Ok(Some(Latency { p50, p99, p999, max: max.unwrap_or(p999) }))
}
