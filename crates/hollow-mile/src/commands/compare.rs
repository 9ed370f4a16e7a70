//! `hollow-mile compare`: runs, groups of runs and files held against each other.

use crate::cli::{Along, BesideArgs, CompareArgs, Format};
use crate::figure::write_figure;
use crate::sides::{self, Loaded, Steps};
use crate::source::Source;
use crate::text::{self, letter, numbers, value, verdict, with_interval};
use mile_bench::Failure;
use mile_core::compare::{Comparison, Side, Terms, compare};
use mile_core::ruler::Ruler;
use mile_core::units::number;
use mile_figures::{LegWalks, draw_comparison};
use std::fmt::Write as _;
use std::path::Path;

/// A comparison, and its legs on each ruler that shows something of them.
pub(crate) type Held = (Comparison, Vec<Vec<LegWalks>>);

/// Runs of a logbook held against each other, as they are named.
pub(crate) fn of(named: &[String], logbook: &Path, steps: Steps<'_>) -> Result<Held, Failure> {
    let beside = BesideArgs::default();
    let all = sides::all_named(named, Some(logbook), &beside, true, steps)?;
    steps("comparing")?;
    let runs: Vec<&[Vec<Source>]> = all.iter().map(|l| l.1.as_slice()).collect();
    let rulers = [Ruler::Time, Ruler::Bytes, Ruler::Address];
    let walks = rulers.iter().map(|ruler| sides::walks(&runs, *ruler)).filter(|w| !w.is_empty()).collect();
    Ok((held(&all, &Terms::default())?, walks))
}

fn held(all: &[Loaded], terms: &Terms) -> Result<Comparison, Failure> {
    let sides: Vec<Side> = all.iter().map(|l| l.0.clone()).collect();
    compare(&sides, terms).ok_or_else(|| nothing_shared(&sides))
}

/// The figure of a comparison on a ruler; `None` where no leg is on two sides.
pub(crate) fn figure(
    named: &[String],
    runs: &[&[Vec<Source>]],
    ruler: Ruler,
) -> Result<Option<String>, Failure> {
    let each: Vec<String> = named.iter().enumerate().map(|(i, n)| format!("{} {n}", letter(i))).collect();
    let lines = [format!("{}. The first run of each side, and of repeats the first.", each.join(", "))];
    Ok(draw_comparison("Comparison", &lines, &sides::walks(runs, ruler))?)
}

pub(crate) fn run(args: &CompareArgs) -> Result<(), Failure> {
    let all = sides::all_named(&args.sides, args.logbook.as_deref(), &args.beside, true, &sides::go_on)?;
    let terms =
        Terms { reference_ambient: args.reference_ambient.map_or(25.0, |c| c.0), detect: args.detect };
    let found = held(&all, &terms)?;
    if let Some(out) = &args.figure {
        let runs: Vec<&[Vec<Source>]> = all.iter().map(|l| l.1.as_slice()).collect();
        let nothing = match args.ruler {
            Along::Time => "no leg has samples on two sides, so that there is nothing to draw",
            Along::Bytes => {
                "no leg moved data on two sides, so that there is nothing to draw along the bytes"
            }
            Along::Address => {
                "no leg has addresses in an order on two sides, so that there is nothing to draw along them"
            }
        };
        let drawn = figure(&args.sides, &runs, args.ruler.into())?.ok_or_else(|| Failure::usage(nothing))?;
        write_figure(out, args.overwrite, drawn)?;
    }
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&found)?),
        Format::Text => text::say(report(&found).trim_end()),
    }
    Ok(())
}

/// Says which legs each side has, where none is on both.
fn nothing_shared(sides: &[Side]) -> Failure {
    let legs = |side: &Side| {
        let mut names: Vec<String> =
            side.members.iter().flat_map(|m| &m.rows).map(mile_core::legs::LegRow::shared_name).collect();
        names.dedup();
        let more = names.len().saturating_sub(6);
        names.truncate(6);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        format!("{}: {}{more}", side.name, if names.is_empty() { "no legs".into() } else { names.join(", ") })
    };
    let all: Vec<String> = sides.iter().map(legs).collect();
    Failure::usage(format!(
        "the sides share no figure: no leg has the same name on two of them ({})",
        all.join("; ")
    ))
}

/// The comparison as text.
pub(crate) fn report(found: &Comparison) -> String {
    let mut out = String::new();
    for (i, side) in found.sides.iter().enumerate() {
        let runs = side.runs.join(", ");
        let runs = if runs == side.name || runs.is_empty() { String::new() } else { format!(" ({runs})") };
        let _ = writeln!(out, "{}  {}{runs}", letter(i), side.name);
    }
    let _ = writeln!(out, "\n{}.", found.answer());
    if found.differs.is_empty() {
        let _ = writeln!(out, "\nNo condition that is known differs between the sides.");
    } else {
        let _ = writeln!(out, "\nWhat differs between the sides:");
        for d in &found.differs {
            let each: Vec<String> =
                d.values.iter().enumerate().map(|(i, v)| format!("{} {v}", letter(i))).collect();
            let _ = writeln!(out, "    {}: {}", d.what, each.join("; "));
        }
    }
    let reasons = found.reasons();
    let asks = found.figures.iter().any(|f| f.repeats_needed.is_some());
    let mut last = None;
    for f in &found.figures {
        let group = (f.leg.as_str(), f.b_side);
        if last.replace(group) != Some(group) {
            let (a, b) = (letter(f.a_side), letter(f.b_side));
            let _ = writeln!(out, "\n{}, {b} against {a}", f.leg);
            let needed = if asks { "repeats for it" } else { "" };
            let _ = writeln!(
                out,
                "    {:<22} {a:>22} {b:>22} {:>7} {:>24} {:>20}  {:<22} {needed}",
                "", "n", "difference", "percent", "established"
            );
        }
        let name = format!("{}, {}", f.name.figure, f.name.unit);
        let mut said = verdict(f);
        if let Some(place) = reasons.iter().position(|r| Some(*r) == f.why_not) {
            let _ = write!(said, " ({})", place + 1);
        }
        let line = format!(
            "    {name:<22} {:>22} {:>22} {:>7} {:>24} {:>20}  {said:<22} {}",
            value(&f.a),
            value(&f.b),
            numbers(f),
            with_interval(f.difference, f.difference_low, f.difference_high),
            f.percent.map_or(String::new(), |p| with_interval(p, f.percent_low, f.percent_high)),
            f.repeats_needed.map_or(String::new(), |n| n.to_string())
        );
        let _ = writeln!(out, "{}", line.trim_end());
    }
    if !reasons.is_empty() {
        out.push('\n');
    }
    for (i, why) in reasons.iter().enumerate() {
        let _ = writeln!(out, "({}) {}", i + 1, why.words());
    }
    if found.figures.iter().any(|f| f.name.unit == "°C") {
        let _ = writeln!(
            out,
            "\nTemperatures are given at {} °C ambient where the ambient of a leg is known.",
            number(found.reference_ambient_c)
        );
    }
    let _ = writeln!(
        out,
        "\nEach value is a mean with its interval (95 %), n the repeats of each side. A difference is established where its chance p, corrected for {} figures, is at most 0.05.",
        found.tested().0
    );
    for note in &found.notes {
        let _ = writeln!(out, "{note}");
    }
    out
}
