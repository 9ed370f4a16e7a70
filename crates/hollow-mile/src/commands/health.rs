//! `hollow-mile health`: what a drive tells of itself, now and over time.

use super::watch;
use crate::cli::{Format, HealthArgs};
use crate::figure::write_figure;
use crate::history::{self, Ask};
use crate::{tables, text};
use mile_bench::Failure;
use mile_bench::bench;
use mile_bench::lab::change;
use mile_bench::session::logbook_path;
use mile_core::health::{Origin, Snapshot};
use mile_drive::clock::unix_seconds;
use serde::Serialize;
use std::path::Path;

pub(crate) fn run(args: &HealthArgs) -> Result<(), Failure> {
    if let Some(file) = &args.import {
        return import(file, args);
    }
    let name = args.drive.as_deref().unwrap_or_default();
    if args.history {
        return history(name, args);
    }
    if let Some(other) = &args.against {
        return against(name, other, args);
    }
    let card = bench::card(name)?;
    if args.keep {
        let logbook = logbook_path(args.logbook.as_deref())?;
        let kept = watch::keep(&card, &logbook)?.map_err(Failure::run)?;
        match args.format {
            Format::Json => text::say(&serde_json::to_string_pretty(&card)?),
            Format::Text => text::say(&format!("Kept: {kept}")),
        }
        return Ok(());
    }
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&card)?),
        Format::Text => text::say(&text::health(&card)),
    }
    Ok(())
}

fn import(file: &Path, args: &HealthArgs) -> Result<(), Failure> {
    let (key, all) = history::read_file(file)?;
    let path = logbook_path(args.logbook.as_deref())?;
    let (new, _) = change(&path, &text::complain, |book| Ok(book.keep_snapshots(&key, &all)?))?;
    let known = all.len() - new.min(all.len());
    let known = if known > 0 { format!("; {known} were there already") } else { String::new() };
    text::say(&format!("{new} snapshots of {}, serial {}, were imported{known}.", key.model, key.serial));
    Ok(())
}

fn history(name: &str, args: &HealthArgs) -> Result<(), Failure> {
    let logbook = logbook_path(args.logbook.as_deref())?;
    let (key, card) = history::drive(name, &logbook)?;
    let card = card.map(|card| {
        if args.keep {
            watch::keep(&card, &logbook)?.map_err(Failure::run)?;
        }
        Ok::<_, Failure>(card)
    });
    let card = card.transpose()?;
    let ask = Ask {
        since: args.since,
        endurance: args.endurance,
        per_day: args.per_day,
        course_per_day: args.course_per_day.clone(),
    };
    let story = history::story(&key, card.as_ref(), &logbook, &ask)?;
    if let Some(out) = &args.figure {
        let svg = history::strips::figure(&story)?.ok_or_else(|| {
            Failure::usage("there is one look at this drive only, so that there is nothing to draw over time")
        })?;
        write_figure(out, args.overwrite, svg)?;
    }
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&story)?),
        Format::Text => text::say(story.text().trim_end()),
    }
    Ok(())
}

/// What a drive tells now; of one that is not attached, what was kept of it last.
fn now(name: &str, args: &HealthArgs) -> Result<(String, Snapshot), Failure> {
    if let Ok(card) = bench::card(name)
        && let Some(health) = &card.health
    {
        let slot = card.situation.slot.as_deref();
        let id = &card.identity;
        let serial = id.serial.as_ref().map_or(String::new(), |s| format!(", {s}"));
        let shot = health.snapshot(unix_seconds(), Origin::Kept, id, slot);
        return Ok((format!("{}{serial}, now", id.model), shot));
    }
    let logbook = logbook_path(args.logbook.as_deref())?;
    let (key, card) = history::drive(name, &logbook)?;
    let story = history::story(&key, card.as_ref(), &logbook, &Ask::default())?;
    let last = story.snapshots.last().cloned().unwrap_or_default();
    Ok((format!("{}, {}, {}", key.model, key.serial, history::day(last.at)), last))
}

fn against(name: &str, other: &str, args: &HealthArgs) -> Result<(), Failure> {
    let ((a, first), (b, second)) = (now(name, args)?, now(other, args)?);
    let rows = history::beside(&first, &second);
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&Beside {
            format: "hollow-mile/health-comparison",
            version: 1,
            drives: [&a, &b],
            snapshots: [&first, &second],
        })?),
        Format::Text => {
            let heads = ["", a.as_str(), b.as_str()];
            let cells: Vec<Vec<String>> = rows.into_iter().map(|(n, a, b)| vec![n, a, b]).collect();
            text::say(&tables::lines(&heads, &cells));
        }
    }
    Ok(())
}

/// Two drives side by side, as JSON has it.
#[derive(Serialize)]
struct Beside<'a> {
    format: &'static str,
    version: u32,
    drives: [&'a str; 2],
    snapshots: [&'a Snapshot; 2],
}
