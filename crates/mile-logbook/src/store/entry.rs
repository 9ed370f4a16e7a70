//! What the logbook gives of a run: a line for the list, or all of it.

use mile_core::channel::Series;
use mile_core::{Context, Digest, LegLatencies, Sample, Trace};
use mile_runner::{Event, LaneHead, Outcome, RunHead, Status};
use serde::Serialize;

/// What is appended to a lane of a run at a time.
#[derive(Clone, Copy, Debug)]
pub struct Block<'a> {
    /// The lane.
    pub lane: usize,
    /// Number of the first sample.
    pub first: u64,
    /// Samples, which follow on those before.
    pub samples: &'a [Sample],
    /// Events with their numbers.
    pub events: &'a [(u64, Event)],
}

/// A run in the list.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Entry {
    /// Its number.
    pub run: i64,
    /// Seconds since 1970-01-01 UTC.
    pub started: i64,
    /// Name of the course.
    pub course: String,
    /// Name of the drive on the command line.
    pub drive: String,
    /// Model of the drive.
    pub model: String,
    /// The conditions in one line.
    pub situation: String,
    /// How it stands.
    pub status: Status,
    /// What it came to; `None` while it is underway.
    pub digest: Option<Digest>,
    /// The bench that it ran on, in the archive of a lab.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bench: Option<String>,
    /// Seconds since the archive heard of it last, where it is underway and that is longer than a bench at work takes: nobody can say whether it
    /// goes on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub silent_s: Option<u64>,
    /// Its tags.
    pub tags: Vec<String>,
    /// Why it cannot be read, if it cannot.
    pub problem: Option<String>,
}

/// A run as it is kept.
#[derive(Clone, Debug)]
pub struct StoredRun {
    /// Its number.
    pub run: i64,
    /// How it stands.
    pub status: Status,
    /// What was known when it began.
    pub head: RunHead,
    /// What is kept of each of its lanes, as many as the head has.
    pub lanes: Vec<StoredLane>,
    /// Its channels, as many as the head has, with their readings.
    pub series: Vec<Series>,
}

/// A lane of a run as it is kept.
#[derive(Clone, Debug, Default)]
pub struct StoredLane {
    /// How it ended, where that is known.
    pub outcome: Option<Outcome>,
    /// What happened.
    pub events: Vec<Event>,
    /// Its samples.
    pub samples: Vec<Sample>,
    /// The latencies of all operations of its legs that have ended.
    pub latencies: Vec<LegLatencies>,
}

impl Entry {
    /// How it stands in words.
    pub fn stands(&self) -> String {
        match self.silent_s {
            Some(silent) => {
                let since = mile_core::Nanos::from_secs(silent as f64);
                format!("{}, not heard of for {since}", self.status.words())
            }
            None => self.status.words().to_owned(),
        }
    }
}

impl StoredLane {
    /// What findings need to know beside the trace, of a run that stands as `status` says.
    pub fn context(&self, head: &LaneHead, status: Status) -> Context {
        let underway = status == Status::Underway;
        Context { underway, latencies: self.latencies.clone(), ..head.context_with(&self.events) }
    }
}

impl StoredRun {
    /// The samples of a lane in columns; none where there is no such lane.
    pub fn trace(&self, lane: usize) -> Trace {
        let samples = self.lanes.get(lane).map_or(&[][..], |l| l.samples.as_slice());
        Trace::of(samples, &self.head.lane(lane).leg_names()).with_series(&self.series, lane)
    }

    /// The only one of its lanes, or the first.
    pub fn first(&self) -> &StoredLane {
        static NOTHING: std::sync::LazyLock<StoredLane> = std::sync::LazyLock::new(StoredLane::default);
        self.lanes.first().unwrap_or_else(|| &NOTHING)
    }

    /// How it ended, where that is known of all its lanes.
    pub fn outcome(&self) -> Option<Outcome> {
        let names = self.head.lanes.iter().map(|l| l.name.as_str());
        let ended: Option<Vec<_>> =
            names.zip(&self.lanes).map(|(name, lane)| Some((name, lane.outcome.as_ref()?))).collect();
        Outcome::of_lanes(&ended?)
    }
}

/// The conditions of all drives of a run in one line.
pub(super) fn situation(head: &RunHead) -> String {
    let lines = head.lanes.iter().map(|l| l.situation.line()).filter(|l| !l.is_empty());
    lines.collect::<Vec<_>>().join(" + ")
}
