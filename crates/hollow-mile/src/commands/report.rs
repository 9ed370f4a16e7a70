//! `hollow-mile report`: a document to hand over, and the data that it was made from.

use crate::bundle;
use crate::cli::{BesideArgs, ReportArgs};
use crate::commands::compare::figure;
use crate::figure::write_whole;
use crate::history::{self, Ask, Story};
use crate::report::{Run, lead, parts, title};
use crate::sides::{self, Steps};
use crate::text;
use mile_bench::Failure;
use mile_bench::session::logbook_path;
use mile_core::compare::{Comparison, Side, Terms, compare};
use mile_core::ruler::Ruler;
use mile_drive::clock::unix_seconds;
use mile_figures::report::{Paper, report};
use mile_logbook::DriveKey;
use mile_runner::Status;
use std::path::Path;

/// Runs that are told once each, what their sides are against each other, the figure of that, and the histories of their drives.
type Gathered = (Vec<Run>, Option<Comparison>, Option<String>, Vec<Story>);

/// Gathers what a report is about.
fn gather(
    named: &[String],
    logbook: Option<&Path>,
    beside: &BesideArgs,
    steps: Steps<'_>,
) -> Result<Gathered, Failure> {
    let mut runs: Vec<Run> = Vec::new();
    // A run that is underway is told as far as it has come.
    let all = sides::all_named(named, logbook, beside, false, steps)?;
    steps("comparing")?;
    let (compared, loaded): (Vec<Side>, Vec<Vec<Run>>) = all.into_iter().unzip();
    let found = if compared.len() > 1 { compare(&compared, &Terms::default()) } else { None };
    let drawn = match &found {
        Some(_) => figure(named, &loaded.iter().map(Vec::as_slice).collect::<Vec<_>>(), Ruler::Time)?,
        None => None,
    };
    // A run that is on two sides is told once.
    for run in loaded.into_iter().flatten() {
        if !runs.iter().any(|known| known.first().map(|s| &s.of) == run.first().map(|s| &s.of)) {
            runs.push(run);
        }
    }
    let stories = stories(&runs, logbook);
    Ok((runs, found, drawn, stories))
}

/// The histories of the drives of runs, where they go over more than the runs themselves.
fn stories(runs: &[Run], logbook: Option<&Path>) -> Vec<Story> {
    let Ok(path) = logbook_path(logbook) else { return Vec::new() };
    let mut known: Vec<DriveKey> = Vec::new();
    let mut all = Vec::new();
    for source in runs.iter().flatten().filter(|s| s.status.is_some()) {
        let lane = source.head.lane(source.lane);
        let Some(key) = DriveKey::of(&lane.drive).filter(|k| !known.contains(k)) else { continue };
        let ask = Ask { endurance: lane.claims.endurance, ..Ask::default() };
        // A drive of which nothing is kept has no history, and that is no fault of its runs.
        let story = history::story(&key, None, &path, &ask).ok();
        all.extend(story.filter(|s| {
            let ends = s.snapshots.first().zip(s.snapshots.last());
            ends.is_some_and(|(a, b)| b.at - a.at > 86_400)
        }));
        known.push(key);
    }
    all
}

fn document(
    (runs, found, drawn, stories): &Gathered,
    files: &[(String, String)],
    paper: Paper,
) -> Result<Vec<u8>, Failure> {
    let lead = lead(runs, unix_seconds());
    Ok(report(&title(runs), &lead, &parts(runs, found.as_ref(), drawn.as_deref(), stories, files)?, paper)?)
}

/// A report of runs of a logbook, as a PDF.
pub(crate) fn of(named: &[String], logbook: &Path, steps: Steps<'_>) -> Result<Vec<u8>, Failure> {
    let all = gather(named, Some(logbook), &BesideArgs::default(), steps)?;
    steps("laying out its pages")?;
    document(&all, &[], Paper::A4)
}

pub(crate) fn run(args: &ReportArgs) -> Result<(), Failure> {
    let all = gather(&args.runs, args.logbook.as_deref(), &args.beside, &sides::go_on)?;
    let paper = if args.letter { Paper::Letter } else { Paper::A4 };
    if let Some(folder) = &args.bundle {
        let underway = all.0.iter().flatten().find(|s| s.status == Some(Status::Underway));
        if let Some(source) = underway {
            return Err(Failure::usage(format!(
                "{} is underway: it can be handed over when it has ended",
                source.of
            )));
        }
        let (runs, found, ..) = &all;
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
