//! `hollow-mile logbook`: the archive of runs.

use crate::cli::{Format, LogbookArgs, LogbookCommand};
use crate::figure::when;
use crate::source::Source;
use crate::text;
use mile_bench::Failure;
use mile_bench::lab::{change, change_run};
use mile_bench::session::logbook_path;
use mile_core::channel::Series;
use mile_core::{Bytes, Nanos};
use mile_drive::clock::unix_seconds;
use mile_drive::drive::{Claims, Facts, Limits};
use mile_logbook::lab::is_lab;
use mile_logbook::{Block, Entry, Filter, Logbook, side, store};
use mile_runner::{LaneHead, Outcome, RunHead, Status};
use std::path::Path;

pub(crate) fn run(args: &LogbookArgs) -> Result<(), Failure> {
    match &args.command {
        LogbookCommand::List { word, tag, model, cause, since, before, newest, logbook, format, sizes } => {
            let path = logbook_path(logbook.as_deref())?;
            let filter = Filter {
                word: word.clone().filter(|w| !w.is_empty()),
                tag: tag.clone(),
                model: model.clone(),
                cause: cause.clone(),
                since: *since,
                before: *before,
                newest: *newest,
            };
            let list = Logbook::those(&path, &filter)?;
            if *sizes && !list.is_empty() {
                return with_sizes(&list, &path, *format);
            }
            match format {
                Format::Json => text::say(&serde_json::to_string_pretty(&list)?),
                Format::Text if list.is_empty() && filter == Filter::default() => {
                    text::say("The logbook has no run yet.");
                }
                Format::Text if list.is_empty() => text::say("The logbook has no such run."),
                Format::Text => list.iter().for_each(|entry| text::say(&line(entry))),
            }
        }
        LogbookCommand::Import { file, logbook, beside } => {
            let all = Source::load_all(file, logbook.as_deref(), beside)?;
            if all.iter().any(|s| s.status.is_some()) {
                return Err(Failure::usage(format!(
                    "{file} is a run of the logbook already; name a CSV or Parquet file"
                )));
            }
            all.iter().flat_map(Source::problem_lines).for_each(|line| text::complain(&line));
            let run = import(&all, &logbook_path(logbook.as_deref())?)?;
            text::say(&format!("Kept as run {run}."));
        }
        LogbookCommand::Tag { run, tags, remove, logbook } => {
            let path = logbook_path(logbook.as_deref())?;
            let run = Logbook::reading(&path, |book| book.resolve(run))?;
            let all = change_run(&path, run, &text::complain, |book, local| {
                for tag in tags {
                    if *remove && !book.untag(local, tag)? {
                        return Err(Failure::usage(format!("run {run} has no tag `{tag}`")));
                    }
                    if !*remove {
                        book.tag(local, tag)?;
                    }
                }
                Ok(book.tags(local)?)
            })?;
            let all = if all.is_empty() { "no tags".into() } else { all.join(", ") };
            text::say(&format!("Run {run}: {all}"));
        }
        LogbookCommand::Remove { runs, logbook } => {
            let path = logbook_path(logbook.as_deref())?;
            for run in runs {
                let run = Logbook::reading(&path, |book| book.resolve(run))?;
                change_run(&path, run, &text::complain, |book, local| {
                    Ok(book.remove(local, unix_seconds())?)
                })?;
                text::say(&format!(
                    "Run {run} is off the list; `hollow-mile logbook restore {run}` brings it back."
                ));
            }
        }
        LogbookCommand::Restore { runs, logbook } if runs.is_empty() => {
            let all = Logbook::reading(&logbook_path(logbook.as_deref())?, Logbook::removed)?;
            if all.is_empty() {
                text::say("No run is off the list.");
            }
            for (run, at) in all {
                text::say(&format!("{run:>5}  taken off {}", when(at)));
            }
        }
        LogbookCommand::Restore { runs, logbook } => {
            let path = logbook_path(logbook.as_deref())?;
            for run in runs {
                if !change_run(&path, *run, &text::complain, |book, local| Ok(book.restore(local)?))? {
                    return Err(Failure::usage(format!("run {run} is not off the list")));
                }
                text::say(&format!("Run {run} is on the list again."));
            }
        }
        LogbookCommand::Erase { runs, logbook } => {
            let path = logbook_path(logbook.as_deref())?;
            if is_lab(&path) {
                return Err(Failure::usage(
                    "runs of an archive are erased by its owner alone, in the database; `logbook remove` takes a run off the list",
                ));
            }
            // What a run has left is found through the logbook, and by nothing else.
            let left = super::leftovers::find(&path)?;
            if let Some(left) = left.iter().find(|l| runs.contains(&l.run)) {
                return Err(Failure::usage(format!(
                    "run {} has left {}, which nothing would list any more; `hollow-mile leftovers` says what it is and takes it away",
                    left.run,
                    left.path.display()
                )));
            }
            let mut book = Logbook::open_existing(&path)?;
            let mut off: Vec<i64> = book.removed()?.into_iter().map(|r| r.0).collect();
            let mut named = runs.clone();
            off.sort_unstable();
            named.sort_unstable();
            named.dedup();
            if let Some(run) = named.iter().find(|r| !off.contains(r)) {
                return Err(Failure::usage(format!(
                    "run {run} is not off the list; `hollow-mile logbook remove {run}` takes it off first"
                )));
            }
            let erased = book.erase(&named)?;
            text::say(&match erased {
                1 => "One run is erased.".to_owned(),
                n => format!("{n} runs are erased."),
            });
        }
        LogbookCommand::Recover { file } => {
            let belongs = side::recover(file)?;
            text::say(&format!(
                "{} is now in run {} of {}.",
                file.display(),
                belongs.run,
                belongs.logbook.display()
            ));
        }
        LogbookCommand::SetAside { logbook, healthy } => {
            let path = logbook_path(logbook.as_deref())?;
            if is_lab(&path) {
                return Err(Failure::usage(
                    "an archive is no file that can be set aside; name a logbook file",
                ));
            }
            let aside = store::set_aside(&path, unix_seconds(), *healthy)?;
            Logbook::open(&path)?;
            text::say(&format!(
                "The old logbook is now {}; {} is a new one.",
                aside.display(),
                path.display()
            ));
        }
    }
    Ok(())
}

/// Says the runs with the bytes that each takes.
fn with_sizes(list: &[Entry], path: &Path, format: Format) -> Result<(), Failure> {
    let sizes: Vec<u64> =
        Logbook::reading(path, |book| list.iter().map(|e| book.size(e.run)).collect::<Result<_, _>>())?;
    match format {
        Format::Json => {
            let with = |(entry, size): (&Entry, &u64)| -> Result<serde_json::Value, Failure> {
                let mut value = serde_json::to_value(entry)?;
                value["size_bytes"] = (*size).into();
                Ok(value)
            };
            let all = list.iter().zip(&sizes).map(with).collect::<Result<Vec<_>, _>>()?;
            text::say(&serde_json::to_string_pretty(&all)?);
        }
        Format::Text => {
            for (entry, size) in list.iter().zip(&sizes) {
                text::say(&format!("{:>9}  {}", Bytes(*size).to_string(), line(entry)));
            }
            let all = std::fs::metadata(path).map_or(0, |m| m.len());
            text::say(&format!("{:>9}  the logbook", Bytes(all).to_string()));
        }
    }
    Ok(())
}

/// Keeps a trace as a run that is done, with what is known beside it.
pub(crate) fn import(all: &[Source], logbook: &Path) -> Result<i64, Failure> {
    let mut head = all.first().map(|s| s.head.clone()).unwrap_or_default();
    head.started = unix_seconds();
    let lane = |source: &Source| {
        let (known, of) = (&source.context, source.head.lane(source.lane));
        LaneHead {
            limits: Limits { warn: known.warn, critical: known.critical },
            claims: Claims { write: known.rated_write, read: known.rated_read, endurance: None },
            facts: known.capacity.map(|capacity| Facts {
                capacity,
                logical_block: Bytes(512),
                has_temperature: !source.trace.temp.is_blank(),
                readable: true,
                cache: None,
                files: None,
                in_use: None,
            }),
            demands: known.demands.clone(),
            ..of.clone()
        }
    };
    head.lanes = all.iter().map(lane).collect();
    // Columns that are not of the format are channels.
    let series: Vec<&Series> = all.iter().flat_map(|s| &s.series).collect();
    head.channels = series.iter().map(|s| s.channel.clone()).collect();
    let kept = change(logbook, &text::complain, |book| keep(book, &head, all, &series))?;
    let (run, archive) = kept;
    // Of an archive, the number that it has there.
    match archive {
        Some(mut archive) => Ok(archive.number(run)?.unwrap_or(run)),
        None => Ok(run),
    }
}

fn keep(book: &mut Logbook, head: &RunHead, all: &[Source], series: &[&Series]) -> Result<i64, Failure> {
    let run = book.begin(head)?;
    for (channel, series) in series.iter().enumerate() {
        for block in series.readings.chunks(4096) {
            book.keep_readings(run, channel as u32, block)?;
        }
    }
    let lanes = all.iter().enumerate();
    let events: Vec<Vec<_>> = all
        .iter()
        .map(|s| s.events.iter().enumerate().map(|(i, e)| (i as u64, e.clone())).collect())
        .collect();
    let blocks: Vec<Block<'_>> = lanes
        .zip(&events)
        .map(|((lane, s), events)| Block { lane, first: 0, samples: &s.samples, events })
        .collect();
    book.append(run, &blocks)?;
    let outcome = |source: &Source| {
        let end = source.trace.len();
        Some(Outcome {
            status: Status::Done,
            at: source.trace.end(end),
            bytes: source.trace.moved(end),
            why: None,
            health: None,
            digest: None,
        })
    };
    book.finish(run, Status::Done, &all.iter().map(outcome).collect::<Vec<_>>())?;
    Ok(run)
}

fn line(entry: &Entry) -> String {
    let mut out = format!(
        "{:>5}  {}  {:<18} {:<16} {}",
        entry.run,
        when(entry.started),
        entry.course,
        entry.model,
        entry.stands()
    );
    if let Some(bench) = &entry.bench {
        out.push_str(&format!(" on {bench}"));
    }
    if !entry.tags.is_empty() {
        out.push_str(&format!(" [{}]", entry.tags.join(", ")));
    }
    if let Some(problem) = &entry.problem {
        out.push_str(&format!(": {problem}"));
    }
    if let Some(d) = &entry.digest {
        out.push_str(&format!(", {} in {}", Bytes(d.bytes), Nanos::from_secs(d.seconds)));
        if !d.breaks.is_empty() {
            out.push_str(&format!(": {}", d.causes()));
        }
    }
    out
}
