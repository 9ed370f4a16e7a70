//! What is known of a run when it begins: how it was started, its drives and their legs, and what findings need to know of them.

use crate::event::{Event, EventKind, faults_of};
use mile_core::channel::Channel;
use mile_core::claims::conditions::{LegLoad, StatedClaim};
use mile_core::files::FilesOp;
use mile_core::health::FailedTest;
use mile_core::{Bytes, Context, Demand, EarlierRun, Nanos, RunId};
use mile_course::{Access, PlannedLeg, ScanOrder, Work};
use mile_drive::io::EngineChoice;
use mile_drive::{Claims, Facts, Health, Identity, Limits, Situation};
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// How a run was started.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Order {
    /// The drive, as it was named.
    pub drive: String,
    /// The folder in which a path without one was meant.
    #[serde(default)]
    pub folder: Option<PathBuf>,
    /// Size of the file to make.
    pub size: Option<Bytes>,
    /// How operations are put in flight.
    pub engine: EngineChoice,
    /// Whether what was made for the run stays.
    pub keep: bool,
    /// Whether what the course writes to was discarded before.
    pub discard_first: bool,
}

/// What is known of a run when it begins.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(from = "AnyHead")]
pub struct RunHead {
    /// Seconds since 1970-01-01 UTC.
    pub started: i64,
    /// Name of the course.
    pub course: String,
    /// Its text.
    pub course_text: String,
    /// Seed of random addresses and of the simulation.
    pub seed: u64,
    /// What tells this run from all others; `None` for one that an earlier version began.
    pub identity: Option<RunId>,
    /// Length of a sample.
    pub sample_every: Nanos,
    /// Its drives, one or more.
    pub lanes: Vec<LaneHead>,
    /// Readings beside those of every sample.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub channels: Vec<Channel>,
    /// The file that names the bench instruments, or `bench` for those of the simulated bench.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instruments: Option<String>,
}

/// What is known of one drive of a run when it begins.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct LaneHead {
    /// The name that the course gives it; empty where it is for one drive.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// The drive.
    pub drive: Identity,
    /// Its geometry.
    pub facts: Option<Facts>,
    /// Its limits.
    pub limits: Limits,
    /// What is claimed of it.
    pub claims: Claims,
    /// Claims that the course states with their conditions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stated: Vec<StatedClaim>,
    /// The conditions.
    pub situation: Situation,
    /// Its legs, in order.
    pub legs: Vec<PlannedLeg>,
    /// What earlier runs of the drive came to when this one began, the newest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub earlier: Vec<EarlierRun>,
    /// Streams that must be held.
    #[serde(default)]
    pub demands: Vec<Demand>,
    /// How it was started, so that it can go on after an interruption.
    pub order: Option<Order>,
    /// Health as found.
    pub health: Option<Health>,
}

impl RunHead {
    /// One of its lanes; of none that it has, nothing is known.
    pub fn lane(&self, lane: usize) -> &LaneHead {
        static NOTHING: std::sync::LazyLock<LaneHead> = std::sync::LazyLock::new(LaneHead::default);
        self.lanes.get(lane).unwrap_or_else(|| &NOTHING)
    }

    /// The only one of its lanes, or the first.
    pub fn first(&self) -> &LaneHead {
        self.lane(0)
    }

    /// Of a run on one drive.
    pub fn of_lane(lane: LaneHead) -> Self {
        Self { lanes: vec![lane], ..Self::default() }
    }

    /// The models of its drives, one after the other.
    pub fn models(&self) -> String {
        self.lanes.iter().map(|l| l.drive.model.as_str()).collect::<Vec<_>>().join(" + ")
    }

    /// The names of its drives, one after the other.
    pub fn drives(&self) -> String {
        self.lanes.iter().map(|l| l.drive.name.as_str()).collect::<Vec<_>>().join(" + ")
    }
}

impl LaneHead {
    /// With legs of which only the names are known.
    pub fn named(legs: &[&str]) -> Self {
        Self { legs: legs.iter().map(|n| PlannedLeg::told(n, "")).collect(), ..Self::default() }
    }

    /// The name of a leg; empty where there is none of this number.
    pub fn leg_name(&self, leg: u32) -> &str {
        self.legs.get(leg as usize).map_or("", |l| l.name.as_str())
    }

    /// The names of all legs.
    pub fn leg_names(&self) -> Vec<String> {
        self.legs.iter().map(|l| l.name.clone()).collect()
    }

    /// The names of legs whose work is of a kind.
    fn legs_that(&self, is: impl Fn(&Work) -> bool) -> Vec<String> {
        self.legs.iter().filter(|l| is(&l.work)).map(|l| l.name.clone()).collect()
    }

    /// What its legs do, as far as a claim may go by it.
    fn loads(&self) -> Vec<LegLoad> {
        let of = |leg: &PlannedLeg| match &leg.work {
            Work::Transfer(t) => Some(LegLoad {
                leg: leg.name.clone(),
                op: t.load.op,
                random: t.load.is_random(),
                block: t.load.block.0,
                depth: t.load.depth,
                workers: t.load.workers,
                is_held_back: t.load.rate.is_some()
                    || t.load.cached
                    || t.copy.is_some()
                    || t.refine.is_some(),
            }),
            _ => None,
        };
        self.legs.iter().filter_map(of).collect()
    }

    /// What findings need to know beside the trace.
    pub fn context(&self) -> Context {
        Context {
            underway: false,
            capacity: self.facts.map(|f| f.capacity),
            warn: self.limits.warn,
            critical: self.limits.critical,
            rated_write: self.claims.write,
            rated_read: self.claims.read,
            link: self.drive.link.as_ref().map(|l| l.ceiling),
            earlier: self.earlier.clone(),
            demands: self.demands.clone(),
            faults: Vec::new(),
            failed_tests: Vec::new(),
            latencies: Vec::new(),
            files: Vec::new(),
            not_sequential: self.legs_that(|work| !is_sequential(work)),
            through_host: self.legs_that(is_through_host),
            from_zone_to_zone: self.legs_that(is_from_zone_to_zone),
            in_one_go: self.legs_that(is_in_one_go),
            stated: self.stated.clone(),
            // Nothing goes by them where nothing is stated.
            loads: if self.stated.is_empty() { Vec::new() } else { self.loads() },
        }
    }

    /// As [`LaneHead::context`], with what happened.
    pub fn context_with(&self, events: &[Event]) -> Context {
        let files = events.iter().filter_map(|e| match &e.kind {
            EventKind::Files(figures) => Some(figures.as_ref().clone()),
            _ => None,
        });
        Context {
            faults: faults_of(events),
            failed_tests: self.failed_tests(events),
            files: files.collect(),
            ..self.context()
        }
    }

    /// Where the drive's own tests failed: those of this run, and those that it told of when it was found. A block that failed again is there once.
    fn failed_tests(&self, events: &[Event]) -> Vec<FailedTest> {
        let block = self.facts.map_or(512, |f| f.logical_block.0);
        let failed = |test: &str, at: u64, words: &str| FailedTest {
            test: test.to_owned(),
            start_byte: at.saturating_mul(block),
            end_byte: at.saturating_add(1).saturating_mul(block),
            words: words.to_owned(),
        };
        let of_run = events.iter().filter_map(|e| match &e.kind {
            EventKind::SelfTest { kind, passed: false, words, block: Some(at) } => {
                Some(failed(kind.word(), *at, words))
            }
            _ => None,
        });
        let found = self.health.iter().filter_map(|h| h.self_test.as_ref()).flat_map(|t| &t.results);
        let before =
            found.filter(|r| !r.passed).filter_map(|r| Some(failed(r.kind.word(), r.block?, &r.words)));
        let mut all: Vec<FailedTest> = Vec::new();
        for test in of_run.chain(before) {
            // Beyond the end of the drive there is no place on its map.
            let is_on_it = self.facts.is_none_or(|f| test.end_byte <= f.capacity.0);
            if is_on_it && all.iter().all(|t| t.start_byte != test.start_byte) {
                all.push(test);
            }
        }
        all
    }
}

/// Whether what a leg does is what a sequential rate is claimed for.
fn is_sequential(work: &Work) -> bool {
    match work {
        Work::Transfer(t) => {
            t.load.access == Access::Sequential
                && t.load.op != mile_core::Op::Mixed
                && t.load.block.0 >= 128 << 10
                && t.load.rate.is_none()
                && !t.load.cached
                && t.refine.is_none()
                && t.copy.is_none()
        }
        Work::Files(_) => false,
        _ => true,
    }
}

/// Whether what a leg was given, or took, may wait in the host's cache.
fn is_through_host(work: &Work) -> bool {
    match work {
        Work::Transfer(t) => t.load.cached,
        Work::Files(f) => f.cached || f.op != FilesOp::Read,
        _ => false,
    }
}

/// Whether a leg visits its zones in a random order.
fn is_from_zone_to_zone(work: &Work) -> bool {
    matches!(work, Work::Transfer(t) if t.zones > 0 && t.order == ScanOrder::Random)
}

/// Whether a leg goes through its range in the order of addresses, without zones.
fn is_in_one_go(work: &Work) -> bool {
    matches!(work, Work::Transfer(t) if t.load.access == Access::Sequential && t.zones == 0 && t.refine.is_none())
}

/// A head as any version wrote it: before there were lanes, what is of the drive stood in the head itself, and its legs were words.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct AnyHead {
    started: i64,
    course: String,
    course_text: String,
    seed: u64,
    identity: Option<RunId>,
    sample_every: Nanos,
    lanes: Option<Vec<LaneHead>>,
    channels: Vec<Channel>,
    instruments: Option<String>,
    drive: Option<Identity>,
    facts: Option<Facts>,
    limits: Limits,
    claims: Claims,
    situation: Situation,
    legs: Vec<String>,
    leg_words: Vec<String>,
    demands: Vec<Demand>,
    order: Option<Order>,
    #[serde(deserialize_with = "crate::former::any_health")]
    health: Option<Health>,
}

impl From<AnyHead> for RunHead {
    fn from(any: AnyHead) -> Self {
        let lanes = match any.lanes {
            Some(lanes) => lanes,
            None => {
                let legs = any.planned().unwrap_or_else(|| {
                    let words = any.leg_words.iter().map(String::as_str).chain(std::iter::repeat(""));
                    any.legs.iter().zip(words).map(|(name, words)| PlannedLeg::told(name, words)).collect()
                });
                vec![LaneHead {
                    name: String::new(),
                    drive: any.drive.unwrap_or_default(),
                    facts: any.facts,
                    limits: any.limits,
                    claims: any.claims,
                    stated: Vec::new(),
                    situation: any.situation,
                    legs,
                    earlier: Vec::new(),
                    demands: any.demands,
                    order: any.order,
                    health: any.health,
                }]
            }
        };
        Self {
            started: any.started,
            course: any.course,
            course_text: any.course_text,
            seed: any.seed,
            identity: any.identity,
            sample_every: any.sample_every,
            lanes,
            channels: any.channels,
            instruments: any.instruments,
        }
    }
}

impl AnyHead {
    /// The legs as its course plans them, where that comes to the legs that were kept.
    fn planned(&self) -> Option<Vec<PlannedLeg>> {
        let course = mile_course::parse(&self.course_text).ok()?;
        let mut plan = mile_course::plan(&course, &facts_for_planning(&self.facts?)).ok()?;
        if self.order.as_ref().is_some_and(|o| o.discard_first) {
            plan.discard_first();
        }
        plan.legs.iter().map(|l| &l.name).eq(&self.legs).then_some(plan.legs)
    }
}

/// Facts that were kept, as planning takes them.
pub fn facts_for_planning(facts: &Facts) -> mile_course::DriveFacts {
    mile_course::DriveFacts {
        capacity: facts.capacity,
        logical_block: facts.logical_block,
        has_temperature: facts.has_temperature,
        readable: facts.readable,
        cache: facts.cache,
        files: facts.files,
    }
}
