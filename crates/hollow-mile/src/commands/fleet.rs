//! `hollow-mile fleet`: all drives of a model beside each other.

use crate::cli::{FleetArgs, Format};
use crate::text;
use mile_bench::Failure;
use mile_bench::session::logbook_path;
use mile_core::fleet::{Firmware, Fleet, Quantity, Spread, fleet};
use mile_logbook::{Logbook, LogbookError, Model};
use std::path::Path;

/// The drives of a model, over the runs of a course; of the course with the most drives where none is named.
pub(crate) fn of(logbook: &Path, model: &str, course: Option<&str>) -> Result<Fleet, Failure> {
    let none = || {
        Failure::usage(format!(
            "no run on a drive of the model `{model}` has ended{}; `hollow-mile fleet` lists the models",
            course.map_or(String::new(), |c| format!(" with the course `{c}`"))
        ))
    };
    let read = Logbook::reading(logbook, |book| Ok((book.seen_of(model)?, book.worn_of(model)?)));
    let (seen, worn) = match read {
        Err(LogbookError::Blank { .. }) => return Err(none()),
        read => read?,
    };
    fleet(model, &seen, &worn, course).ok_or_else(none)
}

/// The models of a logbook.
pub(crate) fn models(logbook: &Path) -> Result<Vec<Model>, Failure> {
    match Logbook::reading(logbook, Logbook::models) {
        Err(LogbookError::Blank { .. }) => Ok(Vec::new()),
        models => Ok(models?),
    }
}

pub(crate) fn run(args: &FleetArgs) -> Result<(), Failure> {
    let logbook = logbook_path(args.logbook.as_deref())?;
    let Some(model) = &args.model else {
        let models = models(&logbook)?;
        match args.format {
            Format::Json => text::say(&serde_json::to_string_pretty(&models)?),
            Format::Text if models.is_empty() => {
                text::say("No run on a drive with a serial number has ended yet.");
            }
            Format::Text => models.iter().for_each(|m| {
                text::say(&format!("{:<32} {:>5} drives {:>7} runs", m.name, m.drives, m.runs));
            }),
        }
        return Ok(());
    };
    let found = of(&logbook, model, args.course.as_deref())?;
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&found)?),
        Format::Text => lines(&found).iter().for_each(|line| text::say(line)),
    }
    Ok(())
}

/// A value in the decimals of its quantity.
pub(crate) fn value(quantity: Quantity, value: f64) -> String {
    match quantity.decimals() {
        n if n > 0 && value.abs() < 1000.0 => format!("{value:.n$}"),
        _ => {
            let sign = if value <= -0.5 { "-" } else { "" };
            format!("{sign}{}", mile_core::units::thousands(&format!("{:.0}", value.abs())))
        }
    }
}

/// What stands out of a figure, in one line; `None` where nobody can say.
pub(crate) fn stands_out(spread: &Spread) -> Option<String> {
    let found = spread.stands_out.as_ref()?;
    let one = |o: &mile_core::fleet::StandsOut| {
        format!(
            "{} ({}, {:.1} standard deviations, chance has {:.1})",
            o.serial,
            value(spread.quantity, o.value),
            o.deviates,
            o.critical
        )
    };
    Some(match found.is_empty() {
        true => "none".into(),
        false => found.iter().map(one).collect::<Vec<_>>().join("; "),
    })
}

/// What is said of two versions of firmware, in one line.
pub(crate) fn said(f: &Firmware) -> String {
    let (name, unit) = f.quantity.words();
    let of = |v: f64| value(f.quantity, v);
    let difference = match (f.difference.half, f.corrected) {
        (Some(half), Some(p)) => {
            let (low, high) = (f.difference.value - half, f.difference.value + half);
            let established = if f.established { "established" } else { "not established" };
            format!(
                "{}{} {unit} ({} to {}), {established} (p {})",
                if f.difference.value > 0.0 { "+" } else { "" },
                of(f.difference.value),
                of(low),
                of(high),
                crate::text::chance(p)
            )
        }
        _ => "too few drives to say".into(),
    };
    format!(
        "{name}: {} on {} drives with {}, {} on {} with {}: {difference}",
        of(f.means[0]),
        f.drives[0],
        f.from,
        of(f.means[1]),
        f.drives[1],
        f.to
    )
}

/// The fleet as lines of text.
pub(crate) fn lines(found: &Fleet) -> Vec<String> {
    let mut out = vec![format!(
        "{}: {} drives in {} runs of the course `{}`.",
        found.model,
        found.drives.len(),
        found.runs,
        found.course
    )];
    for (course, drives, runs) in found.courses.iter().filter(|c| c.0 != found.course) {
        out.push(format!("  other course: `{course}`, {drives} drives in {runs} runs (--course)"));
    }
    out.push(String::new());
    out.push(format!(
        "{:<30} {:>6} {:>10} {:>10} {:>10}  {}",
        "", "drives", "lowest", "median", "highest", "stands out"
    ));
    for s in &found.spreads {
        let (name, unit) = s.quantity.words();
        let of = |v: f64| value(s.quantity, v);
        out.push(format!(
            "{:<30} {:>6} {:>10} {:>10} {:>10}  {}",
            format!("{name}, {unit}"),
            s.drives,
            of(s.min),
            of(s.median),
            of(s.max),
            stands_out(s).unwrap_or_else(|| "–".into())
        ));
    }
    if !found.firmware.is_empty() {
        out.push(String::new());
        out.push("Firmware:".into());
        out.extend(found.firmware.iter().map(|f| format!("  {}", said(f))));
    }
    if !found.notes.is_empty() {
        out.push(String::new());
        out.extend(found.notes.iter().cloned());
    }
    out
}
