//! `hollow-mile export`: a run as a figure or as data.

use crate::cli::{ExportArgs, ExportKind, FigureArg};
use crate::figure::{as_pdf, svg, sweep_svg, write_whole};
use crate::source::Source;
use crate::{Failure, text};
use mile_core::ruler::Ruler;
use mile_logbook::exchange::{write_csv, write_jsonl, write_parquet};

pub(crate) fn run(args: &ExportArgs) -> Result<(), Failure> {
    let source = Source::load(&args.run, args.logbook.as_deref(), &args.beside)?;
    source.problem_lines().iter().for_each(|line| text::complain(line));
    let drawn = || {
        match args.figure {
        FigureArg::Run => {
            svg(&source.head, &source.name, &source.trace, &source.findings, &source.context, Ruler::Bytes, None)
        }
        FigureArg::Sweep => sweep_svg(&source.head, &source.name, &source.findings)?.ok_or_else(|| {
            Failure::usage(format!(
                "{} is no sweep: its legs go over no fill levels, rests, blocks, depths or workers, and it has no demand (--demand gives one)",
                source.name
            ))
        }),
    }
    };
    write_whole(&args.out, args.overwrite, |out| {
        match args.kind {
            ExportKind::Svg => out.write_all(drawn()?.as_bytes())?,
            ExportKind::Pdf => out.write_all(&as_pdf(&drawn()?)?)?,
            ExportKind::Csv => write_csv(out, &source.samples, &source.head.legs, &source.extras)?,
            ExportKind::Parquet => {
                let mut bytes = Vec::new();
                write_parquet(&mut bytes, &source.samples, &source.head.legs, &source.extras)?;
                out.write_all(&bytes)?;
            }
            ExportKind::Jsonl => write_jsonl(out, &source.head, &source.samples, &source.events)?,
        }
        Ok(())
    })
}
