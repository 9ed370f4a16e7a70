//! What `RUN|CSV` on the command line means: a run of the logbook, or a trace from elsewhere.

use crate::Failure;
use crate::cli::BesideArgs;
use crate::session::logbook_path;
use mile_core::{Context, Findings, Nanos, Rate, Sample, Trace, findings};
use mile_drive::Identity;
use mile_logbook::exchange::{Extra, PARQUET_MAGIC, read_foreign, read_parquet};
use mile_logbook::{Logbook, Problem};
use mile_runner::{Event, EventKind, RunHead, Status};
use std::io::{Read, Seek};
use std::path::Path;

/// What must be known of a run to read its figures: each time that it was interrupted, and what went through the host's cache.
pub(crate) fn remarks(head: &RunHead, events: &[Event]) -> Vec<String> {
    let note = |e: &Event| match &e.kind {
        EventKind::WentOn { name, gap, moved, .. } => Some(format!(
            "The run was interrupted after {}, in leg {name}, and went on {gap} later behind the {moved} that the leg had moved.",
            Nanos(e.at.0.saturating_sub(gap.0))
        )),
        _ => None,
    };
    // What went wrong comes first.
    let mut remarks: Vec<String> =
        mile_runner::message::faults_of(events).iter().map(mile_core::Faults::sentence).collect();
    remarks.extend(events.iter().filter_map(note));
    let cached =
        head.legs.iter().zip(&head.leg_loads).filter(|(_, load)| load.ends_with("through the host's cache"));
    let legs: Vec<&str> = cached.map(|(leg, _)| leg.as_str()).collect();
    if let Some(first) = legs.first() {
        let more = if legs.len() > 1 { format!(" and {} more", legs.len() - 1) } else { String::new() };
        remarks.push(format!("Leg {first}{more} went through the host's cache: its figures are those of cache and drive together."));
    }
    remarks
}

/// A run or a trace, with what it shows.
pub(crate) struct Source {
    /// `run 4` or the file's name.
    pub(crate) name: String,
    pub(crate) head: RunHead,
    pub(crate) status: Option<Status>,
    pub(crate) context: Context,
    pub(crate) samples: Vec<Sample>,
    pub(crate) events: Vec<Event>,
    pub(crate) extras: Vec<Extra>,
    pub(crate) problems: Vec<Problem>,
    /// Neighbouring rows that were joined to one sample.
    pub(crate) joined: u64,
    pub(crate) trace: Trace,
    pub(crate) findings: Findings,
}

/// Most rows with problems that are listed one by one.
const MOST_PROBLEMS: usize = 20;

impl Source {
    /// Loads what is named. What is given beside it goes before what the run knows.
    pub(crate) fn load(named: &str, logbook: Option<&Path>, beside: &BesideArgs) -> Result<Self, Failure> {
        let is_run = named == "last" || named.parse::<i64>().is_ok();
        let mut source =
            if is_run { Self::from_run(named, logbook)? } else { Self::from_csv(named, &beside.map)? };
        let known = std::mem::take(&mut source.context);
        let mut demands = known.demands;
        demands.extend(beside.demands()?);
        source.context = Context {
            capacity: beside.capacity.or(known.capacity),
            warn: beside.warn.or(known.warn),
            critical: beside.critical.or(known.critical),
            rated_write: beside.rated_write.map(|r| Rate(r * 1e6)).or(known.rated_write),
            rated_read: beside.rated_read.map(|r| Rate(r * 1e6)).or(known.rated_read),
            link: beside.link.map(|r| Rate(r * 1e6)).or(known.link),
            demands,
            faults: known.faults,
        };
        source.findings = findings(&source.trace, &source.context);
        if !source.problems.is_empty() {
            let left_out =
                format!("{} rows of the file could not be used and were left out.", source.problems.len());
            source.findings.notes.insert(0, left_out);
        }
        if source.joined > 1 {
            source.findings.notes.insert(
                0,
                format!(
                    "The file has so many rows that {} neighbouring ones were joined to one sample each.",
                    source.joined
                ),
            );
        }
        source.findings.notes.splice(0..0, remarks(&source.head, &source.events));
        if let Some(status) = source.status.filter(|s| *s != Status::Done) {
            source
                .findings
                .notes
                .insert(0, format!("The run is {}: what follows is of its part so far.", status.words()));
        }
        Ok(source)
    }

    fn from_run(named: &str, logbook: Option<&Path>) -> Result<Self, Failure> {
        let run = Logbook::reading(&logbook_path(logbook)?, |book| book.run(book.resolve(named)?))?;
        let trace = run.trace();
        let context = run.head.context_with(&run.events);
        Ok(Self {
            name: format!("run {}", run.run),
            findings: findings(&Trace::new(), &context),
            context,
            status: Some(run.status),
            head: run.head,
            samples: run.samples,
            events: run.events,
            extras: Vec::new(),
            problems: Vec::new(),
            joined: 1,
            trace,
        })
    }

    fn from_csv(named: &str, map: &[(String, String)]) -> Result<Self, Failure> {
        let missing = |e: std::io::Error| {
            Failure::usage(format!(
                "{named}: {e}. Name a run by its number, `last`, or a CSV or Parquet file"
            ))
        };
        let mut file = std::fs::File::open(named).map_err(missing)?;
        let mut first = [0; PARQUET_MAGIC.len()];
        let is_parquet = file.read(&mut first).map_err(missing)? == first.len() && first == PARQUET_MAGIC;
        file.rewind().map_err(missing)?;
        let all = if is_parquet { read_parquet(file, map) } else { read_foreign(file, map) };
        let all = all.map_err(|e| Failure::usage(format!("{named}: {e}")))?;
        let stem =
            Path::new(named).file_stem().map_or(named.to_owned(), |s| s.to_string_lossy().into_owned());
        let head = RunHead {
            course: stem,
            legs: all.legs.clone(),
            drive: Identity { model: "an imported trace".into(), ..Identity::default() },
            ..RunHead::default()
        };
        Ok(Self {
            name: named.to_owned(),
            context: Context::default(),
            findings: findings(&Trace::new(), &Context::default()),
            status: None,
            trace: all.trace(),
            head,
            samples: all.samples,
            events: Vec::new(),
            extras: all.extras,
            problems: all.problems,
            joined: all.joined,
        })
    }

    /// The rows that were left out, a line each.
    pub(crate) fn problem_lines(&self) -> Vec<String> {
        let mut lines: Vec<String> =
            self.problems.iter().take(MOST_PROBLEMS).map(|p| format!("{}: {p}", self.name)).collect();
        if self.problems.len() > MOST_PROBLEMS {
            lines.push(format!("{}: and {} more rows", self.name, self.problems.len() - MOST_PROBLEMS));
        }
        lines
    }
}
