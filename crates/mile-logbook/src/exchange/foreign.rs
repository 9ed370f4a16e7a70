//! Traces in other clothes: other column names, units in them, other separators, decimal commas, time stamps. Each row is made one of the
//! format of docs/formats.md as it is read; what cannot be read is handed on as it is, so that it is reported where it stands.

use super::imported::{COLUMNS, Exchange, LANE};
use csv::StringRecord;

/// A column of the file: which of ours it is, and how its values become ours.
struct Column {
    ours: Option<String>,
    factor: f64,
    offset: f64,
}

/// A unit with its factor and offset.
type Unit = (&'static str, f64, f64);

/// Units in which a column of ours may come: the end of our name, and the units.
const UNITS: [(&str, &[Unit]); 7] = [
    (
        "_mb_s",
        &[
            ("mb/s", 1.0, 0.0),
            ("gb/s", 1e3, 0.0),
            ("kb/s", 1e-3, 0.0),
            ("b/s", 1e-6, 0.0),
            ("mib/s", 1.048_576, 0.0),
            ("gib/s", 1_073.741_824, 0.0),
            ("kib/s", 1.024e-3, 0.0),
        ],
    ),
    ("_us", &[("us", 1.0, 0.0), ("µs", 1.0, 0.0), ("ms", 1e3, 0.0), ("s", 1e6, 0.0), ("ns", 1e-3, 0.0)]),
    ("_s", &[("s", 1.0, 0.0), ("ms", 1e-3, 0.0), ("min", 60.0, 0.0), ("h", 3600.0, 0.0)]),
    (
        "_c",
        &[
            ("°c", 1.0, 0.0),
            ("c", 1.0, 0.0),
            ("°f", 5.0 / 9.0, -160.0 / 9.0),
            ("f", 5.0 / 9.0, -160.0 / 9.0),
            ("k", 1.0, -273.15),
        ],
    ),
    ("_pct", &[("%", 1.0, 0.0)]),
    ("bytes_written", BYTES),
    ("bytes_read", BYTES),
];
const BYTES: &[Unit] = &[
    ("b", 1.0, 0.0),
    ("kb", 1e3, 0.0),
    ("mb", 1e6, 0.0),
    ("gb", 1e9, 0.0),
    ("tb", 1e12, 0.0),
    ("kib", 1024.0, 0.0),
    ("mib", 1_048_576.0, 0.0),
    ("gib", 1_073_741_824.0, 0.0),
];

/// A name without the unit behind it, and the unit: `Rate (MiB/s)`, `temp [°F]`.
fn unit_of(name: &str) -> (String, Option<String>) {
    let name = name.trim_start_matches('\u{feff}').trim().to_lowercase();
    for (open, close) in [('(', ')'), ('[', ']')] {
        if let Some((base, rest)) = name.split_once(open)
            && let Some(unit) = rest.trim_end().strip_suffix(close)
        {
            return (base.trim().to_owned(), Some(unit.trim().to_owned()));
        }
    }
    (name, None)
}

fn scale(ours: &str, unit: &str) -> Option<(f64, f64)> {
    let units = UNITS.iter().find(|(end, _)| ours.ends_with(end))?.1;
    units.iter().find(|u| u.0 == unit).map(|u| (u.1, u.2))
}

/// Whether a name is one of the format's.
fn is_ours(name: &str) -> bool {
    COLUMNS.contains(&name) || name == LANE || (name.starts_with("temp_") && name.ends_with("_c"))
}

/// The separator of a head: the one that is in it most often.
pub(super) fn separator(head: &str) -> u8 {
    let count = |s: u8| head.bytes().filter(|b| *b == s).count();
    [b',', b';', b'\t'].into_iter().rev().max_by_key(|s| count(*s)).unwrap_or(b',')
}

/// What makes the rows of a file those of the format.
pub(super) struct Adapter {
    columns: Vec<Column>,
    delimiter: u8,
    /// The column of the time, and the start of the run where it is told in stamps.
    time: Option<(usize, f64)>,
    /// Whether rows are so already.
    plain: bool,
}

impl Adapter {
    /// Of a file with this head. `map` names columns of ours and what they are called there; `first` are its first rows.
    pub(super) fn new(
        names: &StringRecord,
        map: &[(String, String)],
        delimiter: u8,
        first: &[StringRecord],
    ) -> Result<Self, Exchange> {
        let columns = columns(names, map)?;
        let time = columns.iter().position(|c| c.ours.as_deref() == Some("elapsed_s"));
        let time = time.and_then(|t| Some((t, origin(first, t)?)));
        let plain =
            delimiter == b',' && time.is_none() && columns.iter().all(|c| c.factor == 1.0 && c.offset == 0.0);
        Ok(Self { columns, delimiter, time, plain })
    }

    /// The head as the format has it.
    pub(super) fn names(&self, names: &StringRecord) -> StringRecord {
        self.columns.iter().zip(names).map(|(c, n)| c.ours.as_deref().unwrap_or(n)).collect()
    }

    /// Makes a row one of the format.
    pub(super) fn adapt(&self, row: &mut StringRecord) {
        if self.plain {
            return;
        }
        let fields = row.iter().enumerate().map(|(i, field)| match self.columns.get(i) {
            Some(column) => {
                let origin = self.time.filter(|(t, _)| *t == i).map(|(_, o)| o);
                value(field, column, self.delimiter, origin)
            }
            None => field.to_owned(),
        });
        *row = fields.collect();
    }
}

fn columns(names: &StringRecord, map: &[(String, String)]) -> Result<Vec<Column>, Exchange> {
    let all = || names.iter().collect::<Vec<_>>().join(", ");
    for (ours, theirs) in map {
        let there = |n: &str| {
            n.trim().eq_ignore_ascii_case(theirs.trim()) || unit_of(n).0 == theirs.trim().to_lowercase()
        };
        if !is_ours(ours) {
            return Err(Exchange::NotOurs { name: ours.clone() });
        }
        if !names.iter().any(there) {
            return Err(Exchange::NotThere { name: theirs.clone(), columns: all() });
        }
    }
    let column = |name: &str| {
        let (base, unit) = unit_of(name);
        let is = |theirs: &str| {
            name.trim().eq_ignore_ascii_case(theirs.trim()) || base == theirs.trim().to_lowercase()
        };
        let mapped = map.iter().find(|(_, theirs)| is(theirs)).map(|(ours, _)| ours.clone());
        // `write (MiB/s)` is `write_mb_s`: our name less its unit.
        let by_unit = || {
            let unit = unit.as_deref()?;
            let known = COLUMNS.iter().find(|c| {
                let short = UNITS
                    .iter()
                    .find_map(|(end, _)| c.strip_suffix(end))
                    .filter(|s| !s.is_empty())
                    .unwrap_or(c);
                **c == base || short == base
            })?;
            scale(known, unit).map(|_| (*known).to_owned())
        };
        let ours = mapped.or_else(|| is_ours(&base).then(|| base.clone())).or_else(by_unit);
        let (factor, offset) = match (&ours, &unit) {
            (Some(ours), Some(unit)) => scale(ours, unit).unwrap_or((1.0, 0.0)),
            _ => (1.0, 0.0),
        };
        Column { ours, factor, offset }
    };
    let mut all: Vec<Column> = names.iter().map(column).collect();
    // A column that bears one of our names goes before one that only looks like it, and the first goes before others: what is left is
    // kept as a column that is not ours.
    let exact = |i: usize, ours: &str| {
        names.get(i).is_some_and(|n| n.trim_start_matches('\u{feff}').trim().eq_ignore_ascii_case(ours))
    };
    for i in 0..all.len() {
        let Some(ours) = all[i].ours.clone() else { continue };
        let asked = map.iter().any(|(o, _)| *o == ours);
        let before = (0..all.len()).filter(|j| *j != i && all[*j].ours.as_ref() == Some(&ours));
        let goes_before = |j: usize| !asked && (exact(j, &ours), i > j) > (exact(i, &ours), j > i);
        if before.into_iter().any(goes_before) {
            all[i] = Column { ours: None, factor: 1.0, offset: 0.0 };
        }
    }
    Ok(all)
}

/// A field as ours: with a decimal point, in our unit, a time stamp as seconds.
fn value(field: &str, column: &Column, delimiter: u8, origin: Option<f64>) -> String {
    let text = field.trim();
    if column.ours.is_none() || matches!(column.ours.as_deref(), Some("leg" | "op" | LANE)) || text.is_empty()
    {
        return field.to_owned();
    }
    if let Some(seconds) = origin.and_then(|o| Some(stamp(text)? - o)) {
        return format!("{seconds:.6}");
    }
    let number = if delimiter == b',' { text.to_owned() } else { text.replace(',', ".") };
    match number.parse::<f64>() {
        // What needs no conversion keeps its digits.
        Ok(_) if column.factor == 1.0 && column.offset == 0.0 => number,
        Ok(value) => format!("{}", value * column.factor + column.offset),
        Err(_) => field.to_owned(),
    }
}

/// Seconds since 1970 of a time stamp as RFC 3339 has it, or of one without a zone.
fn stamp(text: &str) -> Option<f64> {
    let nanos = match text.parse::<jiff::Timestamp>() {
        Ok(at) => at.as_nanosecond(),
        Err(_) => {
            let local: jiff::civil::DateTime = text.parse().ok()?;
            local.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_nanosecond()
        }
    };
    Some(nanos as f64 / 1e9)
}

/// The start of the run, where time is told in stamps: the first interval is as long as the second.
fn origin(rows: &[StringRecord], time: usize) -> Option<f64> {
    let mut stamps = rows.iter().filter_map(|r| stamp(r.get(time)?.trim()));
    let first = stamps.next()?;
    let step = stamps.next().map_or(1.0, |second| second - first);
    Some(first - if step > 0.0 { step } else { 1.0 })
}
