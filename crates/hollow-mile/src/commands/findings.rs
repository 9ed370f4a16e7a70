//! `hollow-mile findings`: what a run shows.

use crate::cli::{FindingsArgs, Format};
use crate::figure::{Shown, copies_of, stages_of};
use crate::source::Source;
use crate::text;
use mile_bench::Failure;
use mile_core::Findings;
use mile_core::copies::CopyFound;
use mile_core::stages::Stage;
use serde::Serialize;

/// The findings of a run with several lanes. The format is described in docs/formats.md.
#[derive(Serialize)]
struct Lanes<'a> {
    format: &'static str,
    version: u32,
    /// What each lane came to in each leg.
    stages: Vec<Stage>,
    /// What its copies came to.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    copies: Vec<CopyFound>,
    lanes: Vec<LaneFindings<'a>>,
}

#[derive(Serialize)]
pub(crate) struct LaneFindings<'a> {
    pub(crate) lane: &'a str,
    pub(crate) findings: &'a Findings,
}

pub(crate) fn run(args: &FindingsArgs) -> Result<(), Failure> {
    let all = Source::load_all(&args.run, args.logbook.as_deref(), &args.beside)?;
    all.iter().flat_map(Source::problem_lines).for_each(|line| text::complain(&line));
    match (args.format, all.as_slice()) {
        (Format::Text, all) => {
            let mut reports: Vec<String> = all.iter().map(text::report).collect();
            if all.len() > 1 || all.iter().any(|s| !s.series.is_empty()) {
                reports.insert(0, text::stages(&stages(all)));
                let copies = copies(all);
                if !copies.is_empty() {
                    reports.insert(1, text::copies(&copies));
                }
            }
            text::say(&reports.join("\n\n"));
        }
        (Format::Json, [one]) => text::say(&serde_json::to_string_pretty(&one.findings)?),
        (Format::Json, all) => {
            let lane = |s: &'_ Source| -> String { s.head.lane(s.lane).name.clone() };
            let names: Vec<String> = all.iter().map(lane).collect();
            let lanes = all.iter().zip(&names).map(|(s, lane)| LaneFindings { lane, findings: &s.findings });
            let lanes = Lanes {
                format: "hollow-mile/findings-of-lanes",
                version: 1,
                stages: stages(all),
                copies: copies(all),
                lanes: lanes.collect(),
            };
            text::say(&serde_json::to_string_pretty(&lanes)?);
        }
    }
    Ok(())
}

/// What its copies came to.
fn copies(all: &[Source]) -> Vec<CopyFound> {
    let shown: Vec<Shown<'_>> = all.iter().map(Source::shown).collect();
    all.first().map(|s| copies_of(&s.head, &shown)).unwrap_or_default()
}

/// What the lanes of a run came to in each leg.
fn stages(all: &[Source]) -> Vec<Stage> {
    let shown: Vec<Shown<'_>> = all.iter().map(Source::shown).collect();
    all.first().map(|s| stages_of(&s.head, &shown)).unwrap_or_default()
}
