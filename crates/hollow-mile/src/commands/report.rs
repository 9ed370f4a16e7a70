//! `hollow-mile report`: a document to hand over, and the data that it was made from.

use crate::bundle;
use crate::cli::{BesideArgs, ReportArgs};
use crate::commands::compare::figure;
use crate::figure::write_whole;
use crate::report::{Run, lead, parts, title};
use crate::sides;
use crate::source::Source;
use crate::text;
use mile_bench::Failure;
use mile_core::compare::{Comparison, Side, Terms, compare};
use mile_drive::clock::unix_seconds;
use mile_figures::report::{Paper, report};
use mile_runner::Status;
use std::path::Path;

/// Runs that are told once each, what their sides are against each other, and the figure of that.
type Gathered = (Vec<Run>, Option<Comparison>, Option<String>);

/// Gathers what a report is about.
fn gather(named: &[String], logbook: Option<&Path>, beside: &BesideArgs) -> Result<Gathered, Failure> {
    let mut runs: Vec<Run> = Vec::new();
    let mut compared: Vec<Side> = Vec::new();
    let mut loaded: Vec<Vec<Run>> = Vec::new();
    for side in named {
        let mut members = Vec::new();
        let mut own = Vec::new();
        for name in sides::names(side, logbook)? {
            let run = Source::load_all(&name, logbook, beside)?;
            run.iter().flat_map(Source::problem_lines).for_each(|line| text::complain(&line));
            members.push(sides::member(&run));
            own.push(run);
        }
        loaded.push(own);
        compared.push(Side { name: side.clone(), members });
    }
    let found = if compared.len() > 1 { compare(&compared, &Terms::default()) } else { None };
    let drawn = match &found {
        Some(_) => figure(named, &loaded.iter().map(Vec::as_slice).collect::<Vec<_>>())?,
        None => None,
    };
    // A run that is on two sides is told once.
    for run in loaded.into_iter().flatten() {
        if !runs.iter().any(|known| known.first().map(|s| &s.of) == run.first().map(|s| &s.of)) {
            runs.push(run);
        }
    }
    Ok((runs, found, drawn))
}

fn document(
    (runs, found, drawn): &Gathered,
    files: &[(String, String)],
    paper: Paper,
) -> Result<Vec<u8>, Failure> {
    let lead = lead(runs, unix_seconds());
    Ok(report(&title(runs), &lead, &parts(runs, found.as_ref(), drawn.as_deref(), files)?, paper)?)
}

/// Writes a report of runs of a logbook to a new file.
pub(crate) fn write(named: &[String], logbook: &Path, out: &Path) -> Result<(), Failure> {
    let all = gather(named, Some(logbook), &BesideArgs::default())?;
    let bytes = document(&all, &[], Paper::A4)?;
    write_whole(out, false, |target| Ok(target.write_all(&bytes)?))
}

pub(crate) fn run(args: &ReportArgs) -> Result<(), Failure> {
    let all = gather(&args.runs, args.logbook.as_deref(), &args.beside)?;
    let paper = if args.letter { Paper::Letter } else { Paper::A4 };
    if let Some(folder) = &args.bundle {
        let underway = all.0.iter().flatten().find(|s| s.status == Some(Status::Underway));
        if let Some(source) = underway {
            return Err(Failure::usage(format!(
                "{} is underway: it can be handed over when it has ended",
                source.of
            )));
        }
        let (runs, found, _) = &all;
        let make = |files: &[(String, String)]| document(&all, files, paper);
        let files = bundle::write(folder, runs, found.as_ref(), args.logbook.as_deref(), &make)?;
        text::say(&format!("{} holds the report and {files} files that it was made from.", folder.display()));
    }
    if let Some(out) = &args.out {
        let bytes = document(&all, &[], paper)?;
        write_whole(out, args.overwrite, |target| Ok(target.write_all(&bytes)?))?;
    }
    Ok(())
}
