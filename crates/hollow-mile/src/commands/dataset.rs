//! `hollow-mile export --all`: every run of a logbook as a folder of files that other programs read together.

use crate::cli::{ExportArgs, ExportKind};
use crate::figure::write_whole;
use crate::text;
use mile_bench::Failure;
use mile_bench::session::logbook_path;
use mile_core::Nanos;
use mile_logbook::exchange::{
    LaneRows, columns_of_series, write_csv_lanes, write_parquet_lanes, write_table,
};
use mile_logbook::{Entry, Logbook, StoredRun};
use mile_runner::Status;
use std::fmt::Write as _;
use std::path::Path;

/// Columns of the table of runs.
const RUNS: [&str; 20] = [
    "run",
    "started_unix_s",
    "course",
    "status",
    "lanes",
    "drive",
    "model",
    "serial",
    "firmware",
    "slot",
    "cooling",
    "ambient_c",
    "enclosure",
    "note",
    "tags",
    "bytes",
    "seconds",
    "cache_bytes",
    "max_c",
    "breaks",
];

/// What lies in the folder, for whoever is handed it.
const PAGE: &str = include_str!("dataset.md");

pub(crate) fn run(args: &ExportArgs) -> Result<(), Failure> {
    if !matches!(args.kind, ExportKind::Parquet | ExportKind::Csv) {
        return Err(Failure::usage("all runs are exported as data: give --as parquet or --as csv"));
    }
    let path = logbook_path(args.logbook.as_deref())?;
    let list = Logbook::all(&path)?;
    let folder = &args.out;
    std::fs::create_dir(folder).map_err(|e| {
        Failure::usage(format!(
            "cannot make the folder {}: {e}. Name one that is not there yet",
            folder.display()
        ))
    })?;
    let (mut rows, mut damaged) = (Vec::new(), 0);
    // One run at a time, so that no more is in memory than the largest of them.
    for entry in list.iter().rev() {
        match one(&path, entry, folder, args.kind) {
            Ok(row) => rows.push(row),
            Err(Left::Underway) => text::complain(&format!("left out: run {} is underway", entry.run)),
            Err(Left::Damaged(why)) => {
                damaged += 1;
                text::complain(&format!("left out: run {}: {why}", entry.run));
            }
            Err(Left::Failed(failure)) => return Err(failure),
        }
    }
    write_whole(&folder.join("runs.csv"), false, |out| Ok(write_table(out, RUNS, rows.iter().cloned())?))?;
    write_whole(&folder.join("README.md"), false, |out| Ok(out.write_all(PAGE.as_bytes())?))?;
    let count = if rows.len() == 1 { "One run is".to_owned() } else { format!("{} runs are", rows.len()) };
    text::say(&format!("{count} in {}; its README.md says what lies where.", folder.display()));
    if damaged > 0 {
        return Err(Failure::run(format!(
            "{damaged} of the runs could not be read, and are not in {}",
            folder.display()
        )));
    }
    Ok(())
}

/// Why a run is not in the folder.
enum Left {
    /// It has not ended.
    Underway,
    /// It cannot be read; the others can.
    Damaged(String),
    /// The folder cannot be written.
    Failed(Failure),
}

impl From<Failure> for Left {
    fn from(failure: Failure) -> Self {
        Self::Failed(failure)
    }
}

/// Writes the samples of a run, and gives its row.
fn one(path: &Path, entry: &Entry, folder: &Path, kind: ExportKind) -> Result<Vec<String>, Left> {
    if let Some(problem) = &entry.problem {
        return Err(Left::Damaged(problem.clone()));
    }
    if entry.status == Status::Underway {
        return Err(Left::Underway);
    }
    let stored =
        Logbook::reading(path, |book| book.run(entry.run)).map_err(|e| Left::Damaged(e.to_string()))?;
    let month = jiff::Timestamp::from_second(entry.started).map_or_else(
        |_| "unknown".into(),
        |t| t.to_zoned(jiff::tz::TimeZone::UTC).strftime("%Y-%m").to_string(),
    );
    let part = |key: &str, value: &str| format!("{key}={}", encoded(value));
    let own = folder
        .join(part("model", &entry.model))
        .join(part("month", &month))
        .join(part("run", &entry.run.to_string()));
    let made = |e: std::io::Error| Failure::run(format!("cannot make the folder {}: {e}", own.display()));
    std::fs::create_dir_all(&own).map_err(made)?;
    let lanes = lanes_of(&stored);
    let rows: Vec<LaneRows<'_>> = stored
        .lanes
        .iter()
        .zip(&lanes)
        .zip(&stored.head.lanes)
        .map(|((lane, (legs, extras)), head)| LaneRows {
            name: &head.name,
            samples: &lane.samples,
            legs,
            extras,
        })
        .collect();
    match kind {
        ExportKind::Csv => {
            write_whole(&own.join("samples.csv"), false, |out| Ok(write_csv_lanes(out, &rows)?))?;
        }
        _ => write_whole(&own.join("samples.parquet"), false, |out| {
            let mut bytes = Vec::new();
            write_parquet_lanes(&mut bytes, &rows)?;
            Ok(out.write_all(&bytes)?)
        })?,
    }
    Ok(row(entry, &stored))
}

/// The names of the legs of each lane, and its channels as columns.
fn lanes_of(stored: &StoredRun) -> Vec<(Vec<String>, Vec<mile_logbook::exchange::Extra>)> {
    let lane = |(i, lane): (usize, &mile_logbook::StoredLane)| {
        (stored.head.lane(i).leg_names(), columns_of_series(&stored.series, i as u32, &lane.samples))
    };
    stored.lanes.iter().enumerate().map(lane).collect()
}

fn row(entry: &Entry, stored: &StoredRun) -> Vec<String> {
    // Of several lanes, what each has, in their order.
    let each = |of: &dyn Fn(&mile_runner::LaneHead) -> Option<String>| {
        let all: Vec<String> = stored.head.lanes.iter().map(|l| of(l).unwrap_or_default()).collect();
        if all.iter().all(String::is_empty) { String::new() } else { all.join(" + ") }
    };
    let digest = entry.digest.as_ref();
    let end = |lane: &mile_logbook::StoredLane| lane.samples.last().map_or(Nanos(0), |s| s.end);
    let seconds = stored.lanes.iter().map(end).max().unwrap_or_default().secs();
    let lanes: Vec<&str> = stored.head.lanes.iter().map(|l| l.name.as_str()).collect();
    vec![
        entry.run.to_string(),
        entry.started.to_string(),
        entry.course.clone(),
        entry.status.words().to_owned(),
        lanes.join(" + "),
        each(&|l| Some(l.drive.name.clone())),
        each(&|l| Some(l.drive.model.clone())),
        each(&|l| l.drive.serial.clone()),
        each(&|l| l.drive.firmware.clone()),
        each(&|l| l.situation.slot.clone()),
        each(&|l| l.situation.cooling.clone()),
        each(&|l| l.situation.ambient.map(|a| a.0.to_string())),
        each(&|l| l.situation.enclosure.clone()),
        each(&|l| l.situation.notes.clone()),
        entry.tags.join(" "),
        digest.map_or(String::new(), |d| d.bytes.to_string()),
        format!("{seconds:.3}"),
        digest.and_then(|d| d.cache_bytes).map_or(String::new(), |b| b.to_string()),
        digest.and_then(|d| d.max_c).map_or(String::new(), |c| c.to_string()),
        digest.map_or(String::new(), |d| d.breaks.join("; ")),
    ]
}

/// A value as part of a path: whatever is no letter, digit, point, dash or underscore is a percent sign and two digits, as in an address of the web.
fn encoded(value: &str) -> String {
    let mut out = String::new();
    for byte in value.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'.' | b'-' | b'_' => out.push(char::from(byte)),
            other => {
                let _ = write!(out, "%{other:02X}");
            }
        }
    }
    // Neither nothing nor the folder itself or the one above.
    if out.is_empty() || out.bytes().all(|b| b == b'.') { format!("_{out}") } else { out }
}

#[cfg(test)]
mod tests {
    use super::encoded;

    #[test]
    fn a_value_is_one_part_of_a_path_whatever_it_is() {
        assert_eq!(encoded("Merrow K2 2TB"), "Merrow%20K2%202TB");
        assert_eq!([encoded("../../etc"), encoded(".."), encoded("")], ["..%2F..%2Fetc", "_..", "_"]);
        assert_eq!(encoded("a=b%c\0é"), "a%3Db%25c%00%C3%A9");
    }
}
