//! A report with all that it was made from, in a folder that can be handed over: whoever has it can check each file, and compute the findings anew.

use crate::commands::export::{ERRORS, errors};
use crate::commands::logbook::import;
use crate::figure::{as_pdf, lanes_svg, span_svg, surface_svg, svg, sweep_svg, write_whole};
use crate::handed::{RUNS, SUMS, sum};
use crate::report::Run;
use crate::source::Source;
use crate::tables::{LEG_COLUMNS, leg_fields};
use mile_bench::Failure;
use mile_core::Findings;
use mile_core::compare::Comparison;
use mile_core::ruler::Ruler;
use mile_logbook::Logbook;
use mile_logbook::exchange::{HAS_PARQUET, write_csv_lanes, write_parquet_lanes, write_table};
use std::path::Path;

/// What the page says of Parquet, where this build has it.
const WITH_PARQUET: &str = "; the same as NAME-samples.parquet";

/// What each file is, for whoever opens the folder.
const README: &str = "\
This folder was made by Hollow Mile. It holds a report and all that it was made from.

report.pdf          the report
SHA256SUMS          a checksum of each file; `sha256sum --check SHA256SUMS` checks them
runs.logbook        the runs as they were recorded, an SQLite file; `hollow-mile findings FOLDER` reads it
comparison.json     the runs held against each other, where there are several sides
NAME-course.course  the course that was run
NAME-samples.csv    the log, a row for each interval; the same as NAME-samples.parquet
NAME-findings.json  what the run shows
NAME-legs.csv       a row of figures for each leg
NAME-errors.csv     stretches of the drive that failed
NAME-*.svg, *.pdf   the figures

Columns of the samples: elapsed_s (seconds since the start, at the end of the interval), leg, op (write, read, mixed, idle), write_mb_s and read_mb_s (10^6 bytes a second),
bytes_written and bytes_read (since the start), offset_bytes (address at which the interval began), temp_c and ambient_c (degrees Celsius), lat_p50_us to lat_max_us (latencies of
the interval, microseconds), foreign_mb_s (what others moved on the drive), cpu_steal_pct and cpu_own_pct (processor time), fill_pct (share of the drive in use), throttle_light_s and
throttle_heavy_s (seconds since the start), operations and errors of the interval. An empty field was not read. Further columns are channels, with their unit in the name.
Columns of the legs bear their unit in the name: _s seconds, _us microseconds, _mb_s MB/s, _c degrees Celsius or kelvins.
";

/// A file and its checksum.
type Listed = (String, String);
/// What makes the report, with a list of the files that lie beside it.
type Document<'a> = dyn Fn(&[Listed]) -> Result<Vec<u8>, Failure> + 'a;

/// Writes a folder that must not be there yet, and gives how many files are in it beside the report. `document` makes the report, with a list of the files.
pub(crate) fn write(
    folder: &Path,
    runs: &[Run],
    compared: Option<&Comparison>,
    logbook: Option<&Path>,
    document: &Document<'_>,
) -> Result<usize, Failure> {
    std::fs::create_dir(folder).map_err(|e| {
        Failure::usage(format!(
            "cannot make the folder {}: {e}. Name one that is not there yet",
            folder.display()
        ))
    })?;
    let mut files: Vec<Listed> = Vec::new();
    let mut put = |name: &str, bytes: &[u8]| -> Result<(), Failure> {
        write_whole(&folder.join(name), false, |out| Ok(out.write_all(bytes)?))?;
        files.push((name.to_owned(), sum(bytes)));
        Ok(())
    };
    let page = if HAS_PARQUET { README } else { &README.replace(WITH_PARQUET, "") };
    put("README.txt", page.as_bytes())?;
    for run in runs {
        for (name, bytes) in of_run(run)? {
            put(&name, &bytes)?;
        }
    }
    if let Some(found) = compared {
        put("comparison.json", serde_json::to_string_pretty(found)?.as_bytes())?;
    }
    let book = folder.join(RUNS);
    for run in runs {
        keep(run, logbook, &book)?;
    }
    // The log of the database goes into its file when it is closed.
    files.push((RUNS.to_owned(), sum(&std::fs::read(&book)?)));
    files.sort();
    let report = document(&files)?;
    write_whole(&folder.join("report.pdf"), false, |out| Ok(out.write_all(&report)?))?;
    let count = files.len();
    files.push(("report.pdf".into(), sum(&report)));
    let list: String = files.iter().map(|(name, sum)| format!("{sum}  {name}\n")).collect();
    write_whole(&folder.join(SUMS), false, |out| Ok(out.write_all(list.as_bytes())?))?;
    Ok(count)
}

/// Keeps a run in the logbook of the folder: taken over from its own logbook, or imported as the file that it is.
fn keep(run: &Run, logbook: Option<&Path>, into: &Path) -> Result<(), Failure> {
    let Some(first) = run.first() else { return Ok(()) };
    match first.number {
        Some(number) => {
            let from = Logbook::read(&mile_bench::session::logbook_path(logbook)?)?;
            Logbook::open(into)?.take_over(&from, number)?;
        }
        None => {
            import(run, into)?;
        }
    }
    Ok(())
}

/// The files of a run.
fn of_run(run: &Run) -> Result<Vec<(String, Vec<u8>)>, Failure> {
    let Some(first) = run.first() else { return Ok(Vec::new()) };
    let name = match first.number {
        Some(number) => format!("run-{number}"),
        None => plain(&first.head.course),
    };
    let mut files: Vec<(String, Vec<u8>)> = Vec::new();
    let legs: Vec<Vec<String>> = run.iter().map(|s| s.head.lane(s.lane).leg_names()).collect();
    let rows: Vec<_> = run.iter().zip(&legs).map(|(s, legs)| s.rows(legs)).collect();
    let mut csv = Vec::new();
    write_csv_lanes(&mut csv, &rows)?;
    let mut table = Vec::new();
    write_table(&mut table, LEG_COLUMNS, run.iter().flat_map(|s| &s.findings.leg_table).map(leg_fields))?;
    let mut failed = Vec::new();
    write_table(&mut failed, ERRORS, errors(run))?;
    let all: Vec<&Findings> = run.iter().map(|s| &s.findings).collect();
    let found = match all.as_slice() {
        [one] => serde_json::to_string_pretty(one)?,
        many => serde_json::to_string_pretty(many)?,
    };
    files.push((format!("{name}-samples.csv"), csv));
    if HAS_PARQUET {
        let mut parquet = Vec::new();
        write_parquet_lanes(&mut parquet, &rows)?;
        files.push((format!("{name}-samples.parquet"), parquet));
    }
    files.push((format!("{name}-legs.csv"), table));
    files.push((format!("{name}-errors.csv"), failed));
    files.push((format!("{name}-findings.json"), found.into_bytes()));
    if !first.head.course_text.is_empty() {
        files.push((format!("{name}-course.course"), first.head.course_text.clone().into_bytes()));
    }
    for (what, drawn) in figures(run)? {
        files.push((format!("{name}-{what}.pdf"), as_pdf(&drawn)?));
        files.push((format!("{name}-{what}.svg"), drawn.into_bytes()));
    }
    Ok(files)
}

/// The figures of a run, each with its name.
fn figures(run: &Run) -> Result<Vec<(String, String)>, Failure> {
    let mut all = Vec::new();
    if let ([first, _, ..], shown) = (run.as_slice(), run.iter().map(Source::shown).collect::<Vec<_>>()) {
        all.push(("lanes".to_owned(), lanes_svg(&first.head, &first.of, &shown)?));
    }
    for source in run.iter().filter(|s| !s.trace.is_empty()) {
        let lane = &source.head.lane(source.lane).name;
        let of =
            |what: &str| if lane.is_empty() { what.to_owned() } else { format!("{}-{what}", plain(lane)) };
        let at = (&source.head, source.lane);
        let ruler = Ruler::default().fitting(&source.trace);
        all.push((
            of("figure"),
            svg(at, &source.name, &source.trace, &source.findings, &source.context, ruler, None)?,
        ));
        let more = [
            ("surface", surface_svg(at, &source.name, &source.findings)?),
            ("sweep", sweep_svg(at, &source.name, &source.findings)?),
            ("span", span_svg(at, &source.name, &source.findings)?),
        ];
        all.extend(more.into_iter().filter_map(|(what, drawn)| Some((of(what), drawn?))));
    }
    Ok(all)
}

/// A name as part of the name of a file.
fn plain(name: &str) -> String {
    let one = |c: char| if c.is_alphanumeric() || c == '-' || c == '_' { c } else { '-' };
    let text: String = name.chars().map(one).take(60).collect();
    if text.is_empty() { "trace".into() } else { text }
}
