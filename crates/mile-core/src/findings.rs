//! What a run shows: the object that screens, figures and `findings --format json` are made from.
//!
//! Field names carry their units, as this is also the interchange format (docs/formats.md). Absent things are `None`
//! or empty, and are written so, never left out.

mod ledger;
mod places;

pub use ledger::Account;
pub use places::{BadPlace, Badness, Hollow, Unreadable, bad_places, unreadable};

use crate::causes;
use crate::claims::stated::{LegLoad, StatedClaim, StatedFound, stated};
use crate::claims::{self, ClaimFound};
use crate::consistency::{self, Consistency};
use crate::demand::{self, Demand, DemandFound};
use crate::engine::{Engine, Look};
use crate::faults::Faults;
use crate::files::FileFigures;
use crate::health::FailedTest;
use crate::interference;
use crate::latencies::LegLatencies;
use crate::leg_name::LegName;
use crate::legs::{self, LegRow, Repeated};
use crate::next_step;
use crate::plateaus::{Settings, Stretch, Swing};
use crate::sample::Op;
use crate::span::{self, SpanFound};
use crate::steady::{self, Steady};
use crate::surface::{self, Surface};
use crate::sweeps::{self, FillFound, Piece, RampFound, Recovery};
use crate::tables::{self, SweepTable};
use crate::thermal;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Celsius, Rate, number};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

/// What a trace cannot carry and is given beside it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Context {
    /// Capacity of the drive.
    pub capacity: Option<Bytes>,
    /// Temperature from which the drive warns.
    pub warn: Option<Celsius>,
    /// Temperature from which it is critical.
    pub critical: Option<Celsius>,
    /// Rated sequential write rate.
    pub rated_write: Option<Rate>,
    /// Rated sequential read rate.
    #[serde(default)]
    pub rated_read: Option<Rate>,
    /// Most that the link carries, as it came up.
    #[serde(default)]
    pub link: Option<Rate>,
    /// Streams that must be held.
    #[serde(default)]
    pub demands: Vec<Demand>,
    /// What went wrong with its operations.
    #[serde(default)]
    pub faults: Vec<Faults>,
    /// Tests of itself that the drive did not pass, with the block that failed.
    #[serde(default)]
    pub failed_tests: Vec<FailedTest>,
    /// Latencies of its legs, where all of them were kept.
    #[serde(default)]
    pub latencies: Vec<LegLatencies>,
    /// What legs did with whole files.
    pub files: Vec<FileFigures>,
    /// Names of legs that did not run under the conditions of a claimed sequential rate: at random, in small blocks, held back by the course, through a cache.
    #[serde(default)]
    pub not_sequential: Vec<String>,
    /// Names of legs that go from zone to zone in another order than that of addresses: known before their samples show it.
    #[serde(default)]
    pub from_zone_to_zone: Vec<String>,
    /// Claims that are stated with their conditions.
    #[serde(default)]
    pub stated: Vec<StatedClaim>,
    /// What each leg does, for these.
    #[serde(default)]
    pub loads: Vec<LegLoad>,
}

/// What a break is attributed to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The write cache is full.
    CacheExhausted,
    /// The write cache had room again, after a rest or after reads.
    CacheRecovered,
    /// The drive slows itself to stay below a temperature.
    ThermalThrottle,
    /// It has cooled and lets go.
    ThermalRelease,
    /// Others on the drive, or on the host, took their share.
    Interference,
    /// They stopped doing so.
    InterferenceEnd,
    /// The drive gave no answer for a time.
    Stall,
    /// It answers again.
    StallEnd,
    /// The other side of a copy became slower.
    OtherSide,
    /// The other side of a copy became faster.
    OtherSideEnd,
    /// So much of the drive is in use.
    FillLevel,
    /// That part of its surface is slower, or ends here.
    Surface,
    /// The course itself changed something.
    Workload,
    /// None of the others stands out.
    Unexplained,
}

impl Cause {
    /// The word in files and on the command line.
    pub fn word(self) -> &'static str {
        match self {
            Self::CacheExhausted => "cache-exhausted",
            Self::CacheRecovered => "cache-recovered",
            Self::FillLevel => "fill-level",
            Self::Surface => "surface",
            Self::Workload => "workload",
            Self::ThermalThrottle => "thermal-throttle",
            Self::ThermalRelease => "thermal-release",
            Self::Stall => "stall",
            Self::StallEnd => "stall-end",
            Self::OtherSide => "other-side",
            Self::OtherSideEnd => "other-side-end",
            Self::Interference => "interference",
            Self::InterferenceEnd => "interference-end",
            Self::Unexplained => "unexplained",
        }
    }

    /// The words in a sentence.
    pub fn words(self) -> &'static str {
        match self {
            Self::CacheExhausted => "write cache exhausted",
            Self::CacheRecovered => "write cache recovered",
            Self::FillLevel => "the fill level",
            Self::Surface => "the surface there",
            Self::Workload => "the course changed",
            Self::ThermalThrottle => "throttled by heat",
            Self::ThermalRelease => "cooled, throttling released",
            Self::Stall => "the drive gave no answer",
            Self::StallEnd => "the drive answers again",
            Self::OtherSide => "other side of copy slowed",
            Self::OtherSideEnd => "other side of copy faster again",
            Self::Interference => "others got in the way",
            Self::InterferenceEnd => "others have stopped",
            Self::Unexplained => "unexplained",
        }
    }
}

/// Something that speaks for or against a cause.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    /// Whether it speaks for the cause.
    #[serde(rename = "for")]
    pub supports: bool,
    /// The cause.
    pub cause: Cause,
    /// What was seen, in words that an engineer can check.
    pub text: String,
    /// Name of its row in the table of evidence; empty in findings of earlier versions.
    #[serde(default)]
    pub row: String,
    /// How far the row holds, 0 to 1: less than 1 where it rests on something that is not sure itself.
    #[serde(default)]
    pub value: f64,
    /// What it adds to the logarithm of the odds of its cause against an unexplained break; below 0 where it speaks against it.
    #[serde(default)]
    pub weight: f64,
}

/// A cause that was considered.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Candidate {
    /// The cause.
    pub cause: Cause,
    /// Logarithm of its odds against an unexplained break: the sum of the weights of its rows.
    pub log_odds: f64,
    /// Its share of the odds of all candidates, 0 to 1.
    pub share: f64,
}

/// The point where one plateau gives way to another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Break {
    /// Seconds since the start of the run.
    pub at_s: f64,
    /// Bytes moved since the start of the run.
    pub at_bytes: u64,
    /// Lower bound of that (95 %).
    pub low_bytes: u64,
    /// Upper bound of that (95 %).
    pub high_bytes: u64,
    /// Rate before, MB/s.
    pub from_mb_s: f64,
    /// Rate behind, MB/s.
    pub to_mb_s: f64,
    /// Attributed cause.
    pub cause: Cause,
    /// Probability that the cause is right, 0 to 1.
    pub confidence: f64,
    /// What speaks for and against.
    pub evidence: Vec<Evidence>,
    /// The causes that were considered, the likeliest first.
    #[serde(default)]
    pub candidates: Vec<Candidate>,
    /// The highest confidence that the readings allow, 0 to 1.
    #[serde(default)]
    pub at_most: f64,
    /// Another cause that shows at the same change by readings of its own, so that the two share it.
    #[serde(default)]
    pub also: Option<Cause>,
    /// Earliest time of the break, seconds since the start of the run (95 %); all of a gap of the log is between this and the latest.
    #[serde(default)]
    pub low_s: f64,
    /// Latest time.
    #[serde(default)]
    pub high_s: f64,
}

impl Break {
    /// Where, from what to what, why and how sure: `118.4 GB, 41.2 s   2,873 → 402 MB/s   write cache exhausted,
    /// 97 % confidence`.
    pub fn sentence(&self) -> String {
        format!(
            "{}, {}   {} → {} MB/s   {}",
            Bytes(self.at_bytes),
            crate::Nanos::from_secs(self.at_s),
            number(self.from_mb_s),
            number(self.to_mb_s),
            self.verdict()
        )
    }

    /// Why, and how sure: `write cache exhausted, 97 % confidence`.
    pub fn verdict(&self) -> String {
        let shared = self.also.map_or(String::new(), |also| format!("; at the same time: {}", also.words()));
        format!("{}, {:.0} % confidence{shared}", self.cause.words(), 100.0 * self.confidence)
    }

    /// Whether its cause is clear enough to be told while a run is underway: with 80 % confidence or more. That none of the known ones fits so far is
    /// no cause: what comes later, such as a second pass over the same addresses, may show one.
    pub fn is_clear(&self) -> bool {
        self.confidence >= 0.8 && self.cause != Cause::Unexplained
    }

    /// As [`Break::sentence`], for a run underway: a cause that is not clear is not told as one.
    pub fn sentence_so_far(&self) -> String {
        let all = self.sentence();
        match all.strip_suffix(&self.verdict()) {
            Some(place) if self.cause == Cause::Unexplained => {
                format!(
                    "{place}no cause found so far, {:.0} % confidence that it is none of the known ones",
                    100.0 * self.confidence
                )
            }
            Some(place) if !self.is_clear() => {
                format!("{place}cause not clear yet, likeliest: {}", self.verdict())
            }
            _ => all,
        }
    }

    /// What speaks most for its cause: the heaviest row that is more than how often the cause occurs.
    pub fn reason(&self) -> Option<&str> {
        let own = self
            .evidence
            .iter()
            .filter(|e| e.supports && e.cause == self.cause && !e.row.ends_with(".prior"));
        own.max_by(|a, b| a.weight.total_cmp(&b.weight)).map(|e| e.text.as_str())
    }
}

/// A stretch with one steady rate or one steady slope.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Plateau {
    /// Name of the leg.
    pub leg: String,
    /// What the leg does.
    pub op: Op,
    /// Start, seconds since the start of the run.
    pub start_s: f64,
    /// End.
    pub end_s: f64,
    /// Start, bytes moved since the start of the run.
    pub start_bytes: u64,
    /// End.
    pub end_bytes: u64,
    /// Bytes over time, MB/s.
    pub mean_mb_s: f64,
    /// Standard deviation of the rates of the samples, MB/s.
    pub sd_mb_s: f64,
    /// Change along the plateau, MB/s for each GB moved.
    pub slope_mb_s_per_gb: f64,
}

/// Smallest, mean and largest of a reading.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Spread {
    /// Smallest.
    pub min: f64,
    /// Mean.
    pub mean: f64,
    /// Largest.
    pub max: f64,
}

/// One leg in figures.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LegFigures {
    /// Name of the leg.
    pub leg: String,
    /// What it does.
    pub op: Op,
    /// Start, seconds since the start of the run.
    pub start_s: f64,
    /// End.
    pub end_s: f64,
    /// Bytes moved.
    pub bytes: u64,
    /// Rate of its samples, MB/s; the mean is bytes over time.
    pub rate_mb_s: Option<Spread>,
    /// Composite temperature, °C.
    pub temp_c: Option<Spread>,
    /// How evenly it ran; `None` for a rest.
    pub consistency: Option<Consistency>,
    /// The write cache as this leg found it, bytes: only where it followed a rest and its first fall is put down to the cache.
    #[serde(default)]
    pub cache_bytes: Option<u64>,
}

/// Version of the findings in JSON. 2 renamed `behind_mb_s` to `after_mb_s`.
pub const VERSION: u32 = 2;

/// The write cache as it was found.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Cache {
    /// Bytes written from the last rest (or the start) to the break.
    pub bytes: u64,
    /// Lower bound (95 %).
    pub low_bytes: u64,
    /// Upper bound (95 %).
    pub high_bytes: u64,
    /// Rate into the cache, MB/s.
    pub before_mb_s: f64,
    /// Rate after it, MB/s. It was `behind_mb_s` in version 1.
    #[serde(alias = "behind_mb_s")]
    pub after_mb_s: f64,
}

/// A stretch of time in which the drive was throttled.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Episode {
    /// Start, seconds.
    pub start_s: f64,
    /// End, seconds.
    pub end_s: f64,
    /// Temperature at its start, °C.
    pub onset_c: Option<f64>,
    /// Temperature at its end where it was released, °C.
    pub release_c: Option<f64>,
    /// Rate before, MB/s.
    pub before_mb_s: f64,
    /// Mean rate during, MB/s.
    pub during_mb_s: f64,
}

/// Throttling over the whole run.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Throttling {
    /// The episodes.
    pub episodes: Vec<Episode>,
    /// Their share of the time under load, 0 to 1.
    pub share_of_time: f64,
    /// Bytes that were not moved for it, against the rate before each.
    pub lost_bytes: u64,
}

/// Temperature over the whole run, °C.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Thermal {
    /// First reading.
    pub start_c: f64,
    /// Lowest.
    pub min_c: f64,
    /// Mean.
    pub mean_c: f64,
    /// Highest.
    pub max_c: f64,
    /// Highest above mean ambient, where ambient was read.
    pub rise_over_ambient_c: Option<f64>,
    /// Time constant of the heat-up, seconds.
    pub time_constant_s: Option<f64>,
    /// Temperature it would settle at.
    pub settles_at_c: Option<f64>,
    /// Lower bound (95 %).
    pub settles_low_c: Option<f64>,
    /// Upper bound (95 %).
    pub settles_high_c: Option<f64>,
    /// Distance of the highest reading from the warning limit.
    pub margin_to_warn_c: Option<f64>,
    /// Ambient from which throttling is to be expected.
    pub throttles_above_ambient_c: Option<f64>,
    /// From when on the settling temperature was known to 2 °C either way, seconds since the start of the run.
    pub settles_known_from_s: Option<f64>,
    /// Highest, as it would be at an ambient of 25 °C: T - T ambient + 25.
    pub max_at_25_ambient_c: Option<f64>,
    /// Temperature it would settle at, at an ambient of 25 °C.
    pub settles_at_25_ambient_c: Option<f64>,
    /// The curve that was fitted.
    pub curve: Option<HeatCurve>,
}

/// The curve that was fitted to a heat-up: T(t) = settles + Σ amplitude · exp(-(t - start) / τ).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct HeatCurve {
    /// Start, seconds since the start of the run.
    pub start_s: f64,
    /// End of the readings that it was fitted to.
    pub end_s: f64,
    /// Temperature it leads to, °C.
    pub settles_c: f64,
    /// Time constants, seconds, and amplitudes, °C: one or two.
    pub terms: Vec<(f64, f64)>,
}

impl HeatCurve {
    /// Temperature at a time of the run, °C.
    pub fn at(&self, seconds: f64) -> f64 {
        let t = seconds - self.start_s;
        self.settles_c + self.terms.iter().map(|(tau, amplitude)| amplitude * (-t / tau).exp()).sum::<f64>()
    }
}

/// A stretch of time in which the drive heats up under load, cools down, or is at rest and cool.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Phase {
    /// `load`, `cool-down` or `idle`.
    pub kind: String,
    /// Start, seconds.
    pub start_s: f64,
    /// End, seconds.
    pub end_s: f64,
    /// First reading, °C.
    pub start_c: f64,
    /// Last reading, °C.
    pub end_c: f64,
    /// Mean, °C.
    pub mean_c: f64,
}

/// A periodic dip.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the format's own names say it")]
pub struct Dip {
    pub period_s: f64,
    pub depth_pct: f64,
    pub duty_pct: f64,
}

/// A stretch of time in which something else had a hand in it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the format's own names say it")]
pub struct Interference {
    pub start_s: f64,
    pub end_s: f64,
    pub kind: String,
}

/// What to run next.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NextStep {
    /// Why and what, in words.
    pub text: String,
    /// A course that can be run as it is.
    pub course: Option<String>,
}

/// What a run shows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "each field's type says what it holds")]
pub struct Findings {
    /// `hollow-mile/findings`.
    pub format: String,
    pub version: u32,
    pub legs: Vec<LegFigures>,
    pub plateaus: Vec<Plateau>,
    pub breaks: Vec<Break>,
    pub cache: Option<Cache>,
    pub throttling: Throttling,
    pub thermal: Option<Thermal>,
    /// Load, cool-down and idle, in the order of time.
    pub phases: Vec<Phase>,
    /// Stretches of the surface that are slower than their surroundings, in the order of addresses.
    pub hollows: Vec<Hollow>,
    /// The rate by address, where a leg goes over a range of addresses.
    #[serde(default)]
    pub surface: Option<Surface>,
    /// Stretches that could not be read, from and to, with what was tried.
    #[serde(default)]
    pub unreadable_blocks: Vec<Unreadable>,
    /// Operations that failed, and data that was not found as it was written.
    #[serde(default)]
    pub faults: Vec<Faults>,
    /// Where the drive's own tests of itself failed.
    #[serde(default)]
    pub failed_self_tests: Vec<FailedTest>,
    pub dips: Vec<Dip>,
    pub interference: Vec<Interference>,
    pub fill: Option<FillFound>,
    pub ramp: Option<RampFound>,
    /// What random access gains on a part of the drive.
    #[serde(default)]
    pub span: Option<SpanFound>,
    pub demand: Vec<DemandFound>,
    pub steady: Vec<Steady>,
    pub recovery: Option<Recovery>,
    pub next_step: Option<NextStep>,
    /// Measured against claimed.
    pub claims: Vec<ClaimFound>,
    /// A row of figures for each leg, where what they need was at hand.
    #[serde(default)]
    pub leg_table: Vec<LegRow>,
    /// The figures of legs that were repeated.
    #[serde(default)]
    pub repeats: Vec<Repeated>,
    /// Sweeps over any names, as tables.
    #[serde(default)]
    pub sweeps: Vec<SweepTable>,
    /// Claims that the course states with their conditions.
    #[serde(default)]
    pub stated_claims: Vec<StatedFound>,
    pub notes: Vec<String>,
}

impl Findings {
    /// With what went wrong, which was not known when they were computed.
    pub fn with_faults(mut self, context: &Context) -> Self {
        self.unreadable_blocks = unreadable(&context.faults);
        self.faults.clone_from(&context.faults);
        self.failed_self_tests.clone_from(&context.failed_tests);
        self
    }

    /// Adds the rows of its legs, and what they show together; `context` is what was known beside the samples.
    pub fn add_rows(&mut self, rows: Vec<LegRow>, context: &Context) {
        self.stated_claims = stated(context, &rows, self);
        self.repeats = legs::repeated(&rows);
        self.sweeps = tables::sweep_tables(&rows);
        self.leg_table = rows;
    }

    /// With the latencies of its legs, which were not known when they were computed.
    pub fn with_latencies(mut self, latencies: &[LegLatencies]) -> Self {
        if let Some(span) = &mut self.span {
            span.add_rotation(latencies);
        }
        self
    }
}

/// Computes what `trace` shows. An empty trace gives empty findings with a note.
pub fn findings(trace: &Trace, context: &Context) -> Findings {
    findings_with(trace, context, &Settings::default())
}

/// As [`findings`], with other settings of what counts as a break.
pub fn findings_with(trace: &Trace, context: &Context, settings: &Settings) -> Findings {
    findings_of(trace, context, Engine::new(*settings).look(trace, context))
}

/// Computes what `trace` shows from a look at all of it.
pub(crate) fn findings_of(trace: &Trace, context: &Context, look: Look) -> Findings {
    let mut all = Findings {
        format: "hollow-mile/findings".into(),
        version: VERSION,
        legs: trace.legs().iter().map(|leg| leg_figures(trace, leg)).collect(),
        plateaus: Vec::new(),
        breaks: Vec::new(),
        cache: None,
        throttling: Throttling::default(),
        thermal: thermal::summary(trace, context),
        phases: thermal::phases(trace),
        hollows: Vec::new(),
        surface: None,
        unreadable_blocks: unreadable(&context.faults),
        faults: context.faults.clone(),
        failed_self_tests: context.failed_tests.clone(),
        dips: Vec::new(),
        interference: interference::intervals(trace),
        fill: None,
        ramp: None,
        span: span::span(trace, &context.latencies),
        demand: demand::demands(trace, context),
        steady: steady::steady(trace),
        recovery: None,
        next_step: None,
        claims: Vec::new(),
        leg_table: Vec::new(),
        repeats: Vec::new(),
        sweeps: Vec::new(),
        stated_claims: Vec::new(),
        notes: Vec::new(),
    };
    let Look { cuts, seen, breaks, surface, .. } = look;
    if let Some((surface, hollows)) = surface.or_else(|| surface::surface(trace)) {
        (all.surface, all.hollows) = (Some(surface), hollows);
    }
    all.breaks = breaks;
    let mut pieces = Vec::new();
    let swings: Vec<Swing> = cuts.iter().flat_map(|cut| cut.swings.clone()).collect();
    for (index, (leg, cut)) in
        trace.legs().iter().zip(cuts).enumerate().filter(|(_, (leg, _))| leg.op != Op::Idle)
    {
        all.dips.extend(cut.swings.iter().map(|s| Dip {
            period_s: s.period_s,
            depth_pct: 100.0 * s.depth,
            duty_pct: 100.0 * s.duty,
        }));
        all.plateaus.extend(cut.stretches.iter().map(|s| plateau(trace, leg, s, &all.interference)));
        all.legs[index].consistency = consistency::consistency(trace, leg, &cut.stretches);
        let own = seen.iter().zip(&all.breaks).filter(|(s, _)| s.leg == index && !s.across);
        let breaks: Vec<Break> = own.map(|(_, b)| b.clone()).collect();
        if all.cache.is_none() {
            let first = breaks.iter().find(|b| b.cause == Cause::CacheExhausted);
            all.cache = first.map(|b| cache(trace, leg, b));
        }
        // Nothing of another name lies between the parts of one leg; a rest between them makes two legs of one name.
        let is_part = |p: &&mut Piece<'_>| {
            let last = p.more.last().map_or(p.leg, |l| *l).samples.end;
            let mut between = trace.legs()[..index].iter().rev().take_while(|l| l.samples.start >= last);
            p.leg.name == leg.name && p.leg.op == leg.op && between.all(|l| l.name == leg.name)
        };
        match pieces.last_mut().filter(is_part) {
            Some(begun) => begun.more.push(leg),
            None => {
                let name = LegName::read(&leg.name);
                pieces.push(Piece { leg, name, breaks, stretches: cut.stretches, more: Vec::new() });
            }
        }
    }
    for piece in &pieces {
        let index = trace.legs().partition_point(|l| l.samples.start < piece.leg.samples.start);
        all.legs[index].cache_bytes = piece.cache(trace).map(|c| c.bytes);
    }
    all.fill = sweeps::fill(trace, &pieces);
    all.ramp = sweeps::ramps(trace, &pieces);
    all.recovery = sweeps::recovery(trace, &pieces);
    all.throttling = thermal::throttling(trace, &all.breaks, &all.plateaus, &swings);
    if let Some(thermal) = &mut all.thermal {
        thermal::settle(thermal, trace, context, &all.breaks, &all.plateaus, &all.throttling);
    }
    let claimed = context.rated_write.is_some() || context.rated_read.is_some();
    let fitting = if claimed { claims::fitting(trace, context) } else { HashSet::new() };
    all.claims = claims::claims(trace, context, &all, &fitting);
    all.next_step = next_step::next_step(trace, context, &all.breaks);
    all.notes = notes(trace, context, &all, &fitting);
    all
}

fn plateau(trace: &Trace, leg: &TraceLeg, stretch: &Stretch, disturbed: &[Interference]) -> Plateau {
    let clean = interference::without(trace, stretch.samples.clone(), disturbed);
    let (mean_mb_s, sd_mb_s) = clean.unwrap_or((stretch.mean.mb_s(), stretch.sd_mb_s));
    Plateau {
        leg: leg.name.clone(),
        op: leg.op,
        start_s: trace.start(stretch.samples.start).secs(),
        end_s: trace.end(stretch.samples.end.saturating_sub(1)).secs(),
        start_bytes: trace.moved(stretch.samples.start).0,
        end_bytes: trace.moved(stretch.samples.end).0,
        mean_mb_s,
        sd_mb_s,
        slope_mb_s_per_gb: stretch.slope_mb_s_per_gb,
    }
}

fn leg_figures(trace: &Trace, leg: &TraceLeg) -> LegFigures {
    let (first, end) = (leg.samples.start, leg.samples.end);
    let mean = trace.mean_rate(leg.samples.clone());
    let rate = trace.rate.extent(first, end).zip(mean).map(|(e, m)| Spread {
        min: e.min,
        mean: m.mb_s(),
        max: e.max,
    });
    let temp = trace.temp.extent(first, end).map(|e| Spread { min: e.min, mean: e.mean, max: e.max });
    LegFigures {
        leg: leg.name.clone(),
        op: leg.op,
        start_s: trace.start(first).secs(),
        end_s: trace.end(end.saturating_sub(1)).secs(),
        bytes: trace.moved(end).0 - trace.moved(first).0,
        rate_mb_s: rate,
        temp_c: temp,
        consistency: None,
        cache_bytes: None,
    }
}

/// The cache as a break in a leg shows it: bytes written since the last pause, or since the start of the run.
pub(crate) fn cache(trace: &Trace, leg: &TraceLeg, found: &Break) -> Cache {
    let index = trace.legs().partition_point(|l| l.samples.start < leg.samples.start);
    let paused = causes::pause_before(trace, index);
    let written = |moved: u64| causes::written_since(trace, paused, leg, moved);
    Cache {
        bytes: written(found.at_bytes),
        low_bytes: written(found.low_bytes),
        high_bytes: written(found.high_bytes),
        before_mb_s: found.from_mb_s,
        after_mb_s: found.to_mb_s,
    }
}

fn notes(trace: &Trace, context: &Context, all: &Findings, fitting: &HashSet<&str>) -> Vec<String> {
    let mut notes = Vec::new();
    if trace.is_empty() {
        notes.push("The trace has no samples.".to_owned());
        return notes;
    }
    if all.thermal.is_none() {
        notes.push(
            "No temperature was read, so that nothing is said about heat, and causes are less sure."
                .to_owned(),
        );
    } else if context.warn.is_none() {
        notes.push(
            "The drive's warning temperature is not known; give it with --warn to be surer of causes."
                .to_owned(),
        );
    }
    if all.breaks.iter().any(|b| b.confidence < 0.8) && trace.foreign.is_blank() && trace.steal.is_blank() {
        notes.push(
            "What others moved on the drive and stolen processor time were not logged, so that others are not ruled out."
                .to_owned(),
        );
    }
    for (kinds, words) in [
        (&["foreign-io", "processor-steal"][..], "Others on the drive or the host got in the way for"),
        (&["stall"], "The drive gave no answer for"),
        (&["gap"], "The log has gaps of"),
    ] {
        let seconds = interference::covered(&all.interference, kinds);
        if seconds > 0.0 {
            notes.push(format!(
                "{words} {}; the figures of plateaus leave that out where as much is left.",
                crate::Nanos::from_secs(seconds)
            ));
        }
    }
    if trace.errors() > 0 {
        notes.push(format!("{} operations failed.", trace.errors()));
    }
    let rated = all.plateaus.iter().find(|p| p.op == Op::Write && fitting.contains(p.leg.as_str()));
    if let (Some(rated), Some(first)) = (context.rated_write, rated) {
        let share = 100.0 * first.mean_mb_s / rated.mb_s();
        notes.push(format!(
            "The first plateau, {} MB/s, is {share:.0} % of the rated {} MB/s.",
            number(first.mean_mb_s),
            number(rated.mb_s())
        ));
    }
    for (op, claim) in [(Op::Write, context.rated_write), (Op::Read, context.rated_read)] {
        let of = |p: &&Plateau| p.op == op;
        if claim.is_some()
            && all.plateaus.iter().any(|p| of(&p))
            && !all.plateaus.iter().filter(of).any(|p| fitting.contains(p.leg.as_str()))
        {
            notes.push(format!(
                "No leg was measured under the conditions of the claimed sequential {} rate: in order, blocks of 128 KiB or more, as fast as the drive goes.",
                op.word()
            ));
        }
    }
    match &all.surface {
        None => notes.push(
            "No leg goes over a range of addresses, so that nothing is said about slow or weak places; `scan` does.".to_owned(),
        ),
        Some(s) if s.passes.len() == 1 => notes.push(
            "The surface was looked at in one pass: a slow stretch may also come from heat or other I/O at that moment.".to_owned(),
        ),
        Some(s) if !s.has_several_orders() => notes.push(
            "All passes over the surface went in the same order: what comes at the same time in each of them looks like a slow place."
                .to_owned(),
        ),
        Some(_) => {}
    }
    notes
}
