//! `hollow-mile export`: a run as a figure or as data.

use crate::cli::{ExportArgs, ExportKind, ExportWhat, FigureArg};
use crate::figure::{Shown, as_pdf, lanes_svg, span_svg, surface_svg, svg, sweep_svg, write_out};
use crate::source::Source;
use crate::tables::{LEG_COLUMNS, leg_fields};
use crate::text;
use mile_bench::Failure;
use mile_core::ruler::Ruler;
use mile_logbook::exchange::{
    Exchange, HAS_PARQUET, write_csv_lanes, write_jsonl, write_parquet_lanes, write_table,
};
use mile_runner::RunHead;
use mile_runner::errors::bad_stretches;

pub(crate) fn run(args: &ExportArgs) -> Result<(), Failure> {
    if args.kind == ExportKind::Parquet && !HAS_PARQUET {
        return Err(Failure::usage(Exchange::NoParquet.to_string()));
    }
    let Some(run) = args.run.as_deref() else { return super::dataset::run(args) };
    let all = Source::load_all(run, args.logbook.as_deref(), &args.beside)?;
    if args.what != ExportWhat::Samples && args.kind != ExportKind::Csv {
        return Err(Failure::usage("--what chooses the rows of a CSV: give --as csv with it"));
    }
    all.iter().flat_map(Source::problem_lines).for_each(|line| text::complain(&line));
    let drawn = || {
        let [source] = all.as_slice() else {
            if args.figure == FigureArg::Run {
                let shown: Vec<Shown<'_>> = all.iter().map(Source::shown).collect();
                let (head, of) = all.first().map(|s| (s.head.clone(), s.of.clone())).unwrap_or_default();
                return lanes_svg(&head, &of, &shown);
            }
            let names: Vec<&str> = all.iter().map(|s| s.head.lane(s.lane).name.as_str()).collect();
            return Err(Failure::usage(format!(
                "this figure is of one lane; choose one with --lane: {}",
                names.join(", ")
            )));
        };
        let head = (&source.head, source.lane);
        match args.figure {
            FigureArg::Run => {
                svg(head, &source.name, &source.trace, &source.findings, &source.context, Ruler::Bytes, None)
            }
            FigureArg::Sweep => sweep_svg(head, &source.name, &source.findings)?.ok_or_else(|| {
                Failure::usage(format!(
                    "{} is no sweep: its legs go over no values (such as fill levels, rests, blocks, depths or workers), and it has no demand (--demand gives one)",
                    source.name
                ))
            }),
            FigureArg::Span => span_svg(head, &source.name, &source.findings)?.ok_or_else(|| {
                Failure::usage(format!(
                    "{} reads at random from no two shares of a drive; the course `span-disk` or `span-flash` does",
                    source.name
                ))
            }),
            FigureArg::Surface => surface_svg(head, &source.name, &source.findings)?.ok_or_else(|| {
                Failure::usage(format!(
                    "{} goes over no range of addresses; a scan does, and so does an imported file with the column offset_bytes",
                    source.name
                ))
            }),
        }
    };
    let legs: Vec<Vec<String>> = all.iter().map(|s| s.head.lane(s.lane).leg_names()).collect();
    let rows: Vec<_> = all.iter().zip(&legs).map(|(s, legs)| s.rows(legs)).collect();
    let is_text = !matches!(args.kind, ExportKind::Pdf | ExportKind::Parquet);
    write_out(&args.out, args.overwrite, is_text, |out| {
        match args.kind {
            ExportKind::Svg => out.write_all(drawn()?.as_bytes())?,
            ExportKind::Pdf => out.write_all(&as_pdf(&drawn()?)?)?,
            ExportKind::Csv if args.what == ExportWhat::Legs => {
                let rows = all.iter().flat_map(|s| &s.findings.leg_table).map(leg_fields);
                write_table(out, LEG_COLUMNS, rows)?;
            }
            ExportKind::Csv if args.what == ExportWhat::Errors => write_table(out, ERRORS, errors(&all))?,
            ExportKind::Csv => write_csv_lanes(out, &rows)?,
            ExportKind::Parquet => {
                let mut bytes = Vec::new();
                write_parquet_lanes(&mut bytes, &rows)?;
                out.write_all(&bytes)?;
            }
            ExportKind::Jsonl => {
                let lanes: Vec<_> = all.iter().map(|s| (s.samples.as_slice(), s.events.as_slice())).collect();
                let head = all.first().map(|s| s.head.clone()).unwrap_or_default();
                let head =
                    RunHead { lanes: all.iter().map(|s| s.head.lane(s.lane).clone()).collect(), ..head };
                let series = all.first().map(|s| s.series.clone()).unwrap_or_default();
                write_jsonl(out, &head, &lanes, &series)?;
            }
        }
        Ok(())
    })
}

/// Columns of the list of errors.
pub(crate) const ERRORS: [&str; 13] = [
    "lane",
    "kind",
    "start_byte",
    "end_byte",
    "bytes",
    "error",
    "attempts",
    "first_s",
    "last_s",
    "time_s",
    "known_to_the_block",
    "legs",
    "read_again_in",
];

/// The rows of it.
pub(crate) fn errors(all: &[Source]) -> Vec<Vec<String>> {
    let of = |s: &Source| {
        let head = s.head.lane(s.lane);
        let rows = bad_stretches(head, &s.events).into_iter();
        rows.map(|b| {
            vec![
                head.name.clone(),
                b.kind.key().to_owned(),
                b.start_byte.to_string(),
                b.end_byte.to_string(),
                (b.end_byte - b.start_byte).to_string(),
                b.error,
                b.attempts.to_string(),
                format!("{:.3}", b.first_s),
                format!("{:.3}", b.last_s),
                b.time_s.map_or_else(String::new, |t| format!("{t:.3}")),
                b.is_exact.to_string(),
                b.legs.join("; "),
                b.read_again_in.unwrap_or_default(),
            ]
        })
        .collect::<Vec<_>>()
    };
    all.iter().flat_map(of).collect()
}
