//! `hollow-mile course`: test plans as text.

use super::run::{drives, size_of};
use crate::cli::{CourseArgs, CourseCommand, ForecastArgs, Format};
use crate::text;
use mile_bench::Failure;
use mile_bench::bench::{self, Named};
use mile_bench::courses::{READY, Ready};
use mile_bench::outlook::{Outlook, look};
use mile_bench::session::{self, Order, OrderLane, logbook_path, read_course};
use mile_core::{LegName, Nanos};
use mile_course::{Course, Leg};
use mile_logbook::Logbook;
use mile_runner::Speed;
use std::path::Path;

/// Legs of a forecast that are listed; the others are summed up.
const MOST_LISTED: usize = 60;

pub(crate) fn run(args: &CourseArgs) -> Result<(), Failure> {
    match &args.command {
        CourseCommand::Check { file } => check(file),
        CourseCommand::Format { file, write } => format(file, *write),
        CourseCommand::Forecast(args) => forecast(args),
        CourseCommand::New { kind, on, out } => new(kind.as_deref(), on.as_deref(), out.as_deref()),
    }
}

fn read(file: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(file)
        .map_err(|e| Failure::usage(format!("the course {} cannot be read: {e}", file.display())))
}

fn check(file: &Path) -> Result<(), Failure> {
    let name = file.display();
    let course = read_course(&read(file)?, &name.to_string())?;
    text::say(&format!(
        "{name}: \"{}\", {}, a sample every {}",
        course.name,
        if course.legs.len() == 1 { "1 leg".to_owned() } else { format!("{} legs", course.legs.len()) },
        course.sample_every
    ));
    for (leg, times) in folded(&course) {
        let base = LegName::read(&leg.name).base;
        let times = if times > 1 { format!("  ({times} times)") } else { String::new() };
        text::say(&format!("    {base:<14} {}{times}", leg.action.words()));
    }
    Ok(())
}

/// The legs as they stand in the text, and how often each comes.
pub(crate) fn folded(course: &Course) -> Vec<(&Leg, usize)> {
    let mut out: Vec<(&Leg, usize)> = Vec::new();
    let mut places = std::collections::HashMap::new();
    for leg in &course.legs {
        let place = *places.entry(leg.line).or_insert_with(|| {
            out.push((leg, 0));
            out.len() - 1
        });
        out[place].1 += 1;
    }
    out
}

fn format(file: &Path, write: bool) -> Result<(), Failure> {
    let source = read(file)?;
    // Says what is wrong in the way that all commands do.
    read_course(&source, &file.display().to_string())?;
    let formatted = mile_course::format(&source).unwrap_or_else(|_| source.clone());
    if !write {
        text::say(formatted.trim_end());
        return Ok(());
    }
    if formatted != source {
        replace(file, &formatted)?;
    }
    Ok(())
}

/// Puts a text in the place of a file, whole or not at all.
pub(crate) fn replace(file: &Path, text: &str) -> Result<(), Failure> {
    crate::figure::write_whole(file, true, |out| Ok(out.write_all(text.as_bytes())?))
}

fn new(kind: Option<&str>, on: Option<&str>, out: Option<&Path>) -> Result<(), Failure> {
    let Some(kind) = kind else {
        for ready in READY {
            text::say(&format!("{:<16} {}", ready.kind, ready.question()));
        }
        return Ok(());
    };
    let ready = Ready::find(kind).ok_or_else(|| {
        let kinds: Vec<&str> = READY.iter().map(|r| r.kind).collect();
        let meant = mile_course::diagnostic::closest(kind, &kinds);
        let hint = meant.map_or(String::new(), |m| format!("; did you mean {m}?"));
        Failure::usage(format!(
            "there is no ready-made course `{kind}`{hint} There are: {}",
            kinds.join(", ")
        ))
    })?;
    let course = match on {
        Some(drive) => ready.for_drive(&bench::card(drive)?),
        None => ready.text.to_owned(),
    };
    let Some(out) = out else {
        text::say(course.trim_end());
        return Ok(());
    };
    crate::figure::write_whole(out, false, |file| Ok(file.write_all(course.as_bytes())?))
}

fn forecast(args: &ForecastArgs) -> Result<(), Failure> {
    let drives = drives(&args.on);
    let names: Vec<String> = drives.iter().map(|(lane, _)| lane.clone()).collect();
    let mut lanes = Vec::new();
    for (lane, drive) in drives {
        let size = size_of(&names, &args.size, &lane)?;
        let named = Named { drive, size, seed: 1, ..Named::default() };
        lanes.push(OrderLane { name: lane, named, ..OrderLane::default() });
    }
    let order = Order {
        course_text: read(&args.file)?,
        course_name: args.file.display().to_string(),
        lanes,
        speed: Speed::Max,
        keep: false,
        discard_first: false,
        metrics: None,
        instruments: None,
        lab: None,
        resume: None,
        warnings: Vec::new(),
    };
    let path = logbook_path(args.logbook.as_deref())?;
    // One that is not there yet has no earlier runs.
    let book = if path.exists() { Some(Logbook::read(&path)?) } else { None };
    let ready = session::plan(order)?;
    let looks = look(&ready, book.as_ref());
    match (args.format, looks.as_slice()) {
        (Format::Json, [(_, one)]) => text::say(&serde_json::to_string_pretty(one)?),
        (Format::Json, all) => {
            let lanes: Vec<_> =
                all.iter().map(|(lane, look)| serde_json::json!({"lane": lane, "outlook": look})).collect();
            text::say(&serde_json::to_string_pretty(&serde_json::json!({"lanes": lanes}))?);
        }
        (Format::Text, [(_, one)]) => text::say(&text(one)),
        (Format::Text, all) => {
            for (lane, look) in all {
                text::say(&format!("Lane {lane}\n{}", text(look)));
            }
        }
    }
    Ok(())
}

/// A forecast and what speaks against a start, as text.
fn text(look: &Outlook) -> String {
    let cast = &look.forecast;
    let mut out = format!("{}\n\n", capital(&look.sentence()));
    let width = cast.legs.iter().take(MOST_LISTED).map(|l| l.leg.chars().count()).max().unwrap_or(8).min(48);
    for leg in cast.legs.iter().take(MOST_LISTED) {
        let time = leg.seconds.map_or("not known".into(), |s| Nanos::from_secs(s).to_string());
        let moved = match leg.written + leg.read {
            0 => String::new(),
            bytes => mile_core::Bytes(bytes).to_string(),
        };
        let peak = leg.max_c.map_or(String::new(), |c| format!("{c:.0} °C"));
        out.push_str(&format!(
            "{:<width$} {time:>14} {moved:>10} {peak:>6}  {}\n",
            leg.leg,
            leg.basis.words()
        ));
    }
    if cast.legs.len() > MOST_LISTED {
        out.push_str(&format!("and {} legs more\n", cast.legs.len() - MOST_LISTED));
    }
    for note in &look.notes {
        out.push_str(&format!("\n{note}"));
    }
    if !look.items.is_empty() {
        out.push_str("\nBefore the start:\n");
    }
    for item in &look.items {
        out.push_str(&format!(
            "{:<8} {}: {}\n         {}\n",
            item.weight.word(),
            item.about,
            item.why,
            item.remedy
        ));
    }
    out.trim_end().to_owned()
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |c| c.to_uppercase().chain(chars).collect())
}
