//! What `RUN|CSV` on the command line means: a run of the logbook, or a trace from elsewhere.

use crate::cli::BesideArgs;
use crate::figure::Shown;
use mile_bench::Failure;
use mile_bench::session::logbook_path;
use mile_core::channel::Series;
use mile_core::{Bytes, Context, Findings, Nanos, Rate, Sample, Trace, findings};
use mile_drive::Identity;
use mile_logbook::exchange::{
    Extra, ImportedLane, LaneRows, PARQUET_MAGIC, columns_of_series, read_foreign, read_parquet,
    series_of_columns,
};
use mile_logbook::{Logbook, Problem, StoredLane};
use mile_runner::{Event, EventKind, LaneHead, RunHead, Status};
use std::io::{Read, Seek};
use std::path::Path;

/// What must be known of a run to read its figures: each time that it was interrupted, and what went through the host's cache.
pub(crate) fn remarks(head: &LaneHead, events: &[Event]) -> Vec<String> {
    let mut remarks = incidents(events);
    let cached = head.legs.iter().filter(|l| l.load().is_cached());
    let legs: Vec<&str> = cached.map(|leg| leg.name.as_str()).collect();
    if let Some(first) = legs.first() {
        let more = if legs.len() > 1 { format!(" and {} more", legs.len() - 1) } else { String::new() };
        remarks.push(format!("Leg {first}{more} went through the host's cache: its figures are those of cache and drive together."));
    }
    remarks
}

/// What happened in a run that must be known to read its figures. Where its events are shown, they say the rest of [`remarks`].
pub(crate) fn incidents(events: &[Event]) -> Vec<String> {
    let note = |e: &Event| match &e.kind {
        EventKind::WentOn { name, gap, moved, .. } => Some(format!(
            "The run was interrupted after {}, in leg {name}, and went on {gap} later behind the {moved} that the leg had moved.",
            Nanos(e.at.0.saturating_sub(gap.0))
        )),
        EventKind::RowsLeftOut(_) => Some(format!("{}.", e.kind.words())),
        _ => None,
    };
    // What went wrong comes first.
    let mut remarks: Vec<String> =
        mile_runner::message::faults_of(events).iter().map(mile_core::Faults::sentence).collect();
    remarks.extend(events.iter().filter_map(note));
    remarks
}

/// What an imported trace has to tell of rows that could not be used.
fn left_out(rows: usize) -> Vec<Event> {
    let kind = EventKind::RowsLeftOut(rows as u64);
    if rows == 0 { Vec::new() } else { vec![Event { at: Nanos(0), bytes: Bytes(0), kind }] }
}

/// A lane of a run or of a trace, with what it shows.
pub(crate) struct Source {
    /// `run 4` or the file's name, with the lane where there are several.
    pub(crate) name: String,
    /// The same without the lane.
    pub(crate) of: String,
    pub(crate) head: RunHead,
    /// Which of its lanes.
    pub(crate) lane: usize,
    /// The number of the run in its logbook; `None` for a file.
    pub(crate) number: Option<i64>,
    /// The drive's health as it was afterwards.
    pub(crate) health_after: Option<mile_drive::Health>,
    pub(crate) status: Option<Status>,
    pub(crate) context: Context,
    pub(crate) samples: Vec<Sample>,
    pub(crate) events: Vec<Event>,
    pub(crate) extras: Vec<Extra>,
    /// The channels of the run, or of the file.
    pub(crate) series: Vec<Series>,
    pub(crate) problems: Vec<Problem>,
    /// Neighbouring rows that were joined to one sample.
    pub(crate) joined: u64,
    pub(crate) trace: Trace,
    pub(crate) findings: Findings,
}

/// Most rows with problems that are listed one by one.
const MOST_PROBLEMS: usize = 20;

impl Source {
    /// Loads what is named: all of its lanes, or the one that is asked for. What is given beside it goes before what the run knows.
    pub(crate) fn load_all(
        named: &str,
        logbook: Option<&Path>,
        beside: &BesideArgs,
    ) -> Result<Vec<Self>, Failure> {
        let is_run = named == "last" || named.parse::<i64>().is_ok();
        let mut all = if is_run {
            Self::from_run(named, logbook)?
        } else if Path::new(named).is_dir() {
            Self::from_folder(named)?
        } else {
            Self::from_csv(named, &beside.map)?
        };
        if let Some(lane) = &beside.lane {
            let names: Vec<String> = all.iter().map(|s| s.head.lane(s.lane).name.clone()).collect();
            all.retain(|s| s.head.lane(s.lane).name == *lane);
            if all.is_empty() {
                let there = match names.as_slice() {
                    [only] if only.is_empty() => "it has one, which has no name".to_owned(),
                    names => format!("there are {}", names.join(", ")),
                };
                return Err(Failure::usage(format!("{named} has no lane `{lane}`: {there}")));
            }
        }
        all.iter_mut().try_for_each(|s| s.complete(beside))?;
        Ok(all)
    }

    fn complete(&mut self, beside: &BesideArgs) -> Result<(), Failure> {
        let source = self;
        let mut known = std::mem::take(&mut source.context);
        let mut demands = std::mem::take(&mut known.demands);
        demands.extend(beside.demands()?);
        source.context = Context {
            capacity: beside.capacity.or(known.capacity),
            warn: beside.warn.or(known.warn),
            critical: beside.critical.or(known.critical),
            rated_write: beside.rated_write.map(|r| Rate(r * 1e6)).or(known.rated_write),
            rated_read: beside.rated_read.map(|r| Rate(r * 1e6)).or(known.rated_read),
            link: beside.link.map(|r| Rate(r * 1e6)).or(known.link),
            demands,
            ..known
        };
        source.findings = findings(&source.trace, &source.context);
        let rows = source.leg_rows();
        source.findings.add_rows(rows, &source.context);
        if source.joined > 1 {
            source.findings.notes.insert(
                0,
                format!(
                    "The file has so many rows that {} neighbouring ones were joined to one sample each.",
                    source.joined
                ),
            );
        }
        source.findings.notes.splice(0..0, remarks(source.head.lane(source.lane), &source.events));
        if let Some(status) = source.status.filter(|s| *s != Status::Done) {
            source
                .findings
                .notes
                .insert(0, format!("The run is {}: what follows is of its part so far.", status.words()));
        }
        Ok(())
    }

    /// What the lane is called where there are several: `run 4, upper`.
    fn called(name: &str, head: &RunHead, lane: usize) -> String {
        match head.lane(lane).name.as_str() {
            "" => name.to_owned(),
            of => format!("{name}, {of}"),
        }
    }

    fn from_run(named: &str, logbook: Option<&Path>) -> Result<Vec<Self>, Failure> {
        let run = Logbook::reading(&logbook_path(logbook)?, |book| book.run(book.resolve(named)?))?;
        let name = format!("run {}", run.run);
        let (number, head, status, series) = (run.run, run.head, run.status, run.series);
        let lane = |(lane, stored): (usize, StoredLane)| {
            let of = head.lane(lane);
            Self {
                name: Self::called(&name, &head, lane),
                of: name.clone(),
                findings: findings(&Trace::new(), &Context::default()),
                context: stored.context(of, status),
                status: Some(status),
                trace: Trace::of(&stored.samples, &of.leg_names()).with_series(&series, lane),
                lane,
                number: Some(number),
                health_after: stored.outcome.as_ref().and_then(|o| o.health.clone()),
                head: head.clone(),
                extras: columns_of_series(&series, lane as u32, &stored.samples),
                series: series.clone(),
                samples: stored.samples,
                events: stored.events,
                problems: Vec::new(),
                joined: 1,
            }
        };
        Ok(run.lanes.into_iter().enumerate().map(lane).collect())
    }

    /// The run of a folder that was handed over with a report.
    fn from_folder(named: &str) -> Result<Vec<Self>, Failure> {
        let (book, runs) = crate::handed::open(Path::new(named))?;
        if runs != 1 {
            return Err(Failure::usage(format!(
                "{named} holds {runs} runs, and each file is as it was written. Name one of them: RUN --logbook {}",
                book.display()
            )));
        }
        Self::from_run("last", Some(&book))
    }

    fn from_csv(named: &str, map: &[(String, String)]) -> Result<Vec<Self>, Failure> {
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
        let of = |lane: &ImportedLane| {
            let legs: Vec<&str> = lane.legs.iter().map(String::as_str).collect();
            LaneHead {
                name: lane.name.clone(),
                drive: Identity { model: "an imported trace".into(), ..Identity::default() },
                ..LaneHead::named(&legs)
            }
        };
        let head = RunHead { course: stem, lanes: all.lanes.iter().map(of).collect(), ..RunHead::default() };
        let (mut problems, joined) = (all.problems, all.joined);
        let lane = |(lane, imported): (usize, ImportedLane)| {
            let series = series_of_columns(&imported.extras, lane as u32, &imported.samples);
            Self {
                name: Self::called(named, &head, lane),
                of: named.to_owned(),
                context: Context::default(),
                findings: findings(&Trace::new(), &Context::default()),
                status: None,
                trace: Trace::of(&imported.samples, &imported.legs).with_series(&series, lane),
                lane,
                number: None,
                health_after: None,
                head: head.clone(),
                series,
                samples: imported.samples,
                // They are told once.
                events: left_out(problems.len()),
                extras: imported.extras,
                problems: std::mem::take(&mut problems),
                joined,
            }
        };
        Ok(all.lanes.into_iter().enumerate().map(lane).collect())
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

    /// What is drawn of it beside other lanes.
    pub(crate) fn shown(&self) -> Shown<'_> {
        Shown {
            trace: &self.trace,
            breaks: &self.findings.breaks,
            context: &self.context,
            lane: self.lane,
            series: &self.series,
        }
    }

    /// Its rows, for an export; `legs` are the names of its legs.
    pub(crate) fn rows<'a>(&'a self, legs: &'a [String]) -> LaneRows<'a> {
        let name = &self.head.lane(self.lane).name;
        LaneRows { name, samples: &self.samples, legs, extras: &self.extras }
    }
}
