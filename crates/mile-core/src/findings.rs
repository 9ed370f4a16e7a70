//! What a run shows: the object that screens, figures and `findings --format json` are made from.
//!
//! Field names carry their units, as this is also the interchange format (docs/formats.md). Absent things are `None`
//! or empty, and are written so, never left out.

use crate::causes;
use crate::demand::{self, Demand, DemandFound};
use crate::interference;
use crate::leg_name::LegName;
use crate::plateaus::{self, Settings, Stretch};
use crate::sample::Op;
use crate::steady::{self, Steady};
use crate::sweeps::{self, FillFound, Piece, RampFound, Recovery};
use crate::thermal;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Celsius, Rate, number};
use serde::{Deserialize, Serialize};

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
    /// Streams that must be held.
    #[serde(default)]
    pub demands: Vec<Demand>,
}

/// What a break is attributed to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The write cache is full.
    CacheExhausted,
    /// The drive slows itself to stay below a temperature.
    ThermalThrottle,
    /// It has cooled and lets go.
    ThermalRelease,
    /// Others on the drive, or on the host, took their share.
    Interference,
    /// They stopped doing so.
    InterferenceEnd,
    /// None of the others stands out.
    Unexplained,
}

impl Cause {
    /// The word in files and on the command line.
    pub fn word(self) -> &'static str {
        match self {
            Self::CacheExhausted => "cache-exhausted",
            Self::ThermalThrottle => "thermal-throttle",
            Self::ThermalRelease => "thermal-release",
            Self::Interference => "interference",
            Self::InterferenceEnd => "interference-end",
            Self::Unexplained => "unexplained",
        }
    }

    /// The words in a sentence.
    pub fn words(self) -> &'static str {
        match self {
            Self::CacheExhausted => "write cache exhausted",
            Self::ThermalThrottle => "throttled by heat",
            Self::ThermalRelease => "cooled, throttling released",
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
}

impl Break {
    /// Where, from what to what, why and how sure: `118.4 GB, 41.2 s   2,873 → 402 MB/s   write cache exhausted,
    /// 0.97 sure`.
    pub fn sentence(&self) -> String {
        format!(
            "{}, {}   {} → {} MB/s   {}, {:.2} sure",
            Bytes(self.at_bytes),
            crate::Nanos::from_secs(self.at_s),
            number(self.from_mb_s),
            number(self.to_mb_s),
            self.cause.words(),
            self.confidence
        )
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
}

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
    /// Rate behind it, MB/s.
    pub behind_mb_s: f64,
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
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
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
}

/// A stretch of the surface that is slower than its surroundings.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the format's own names say it")]
pub struct Hollow {
    pub start_byte: u64,
    pub end_byte: u64,
    pub baseline_mb_s: f64,
    pub mean_mb_s: f64,
    pub depth_pct: f64,
    pub passes_seen: u32,
    pub passes: u32,
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
    pub hollows: Vec<Hollow>,
    pub dips: Vec<Dip>,
    pub interference: Vec<Interference>,
    pub fill: Option<FillFound>,
    pub ramp: Option<RampFound>,
    pub demand: Vec<DemandFound>,
    pub steady: Vec<Steady>,
    pub recovery: Option<Recovery>,
    pub next_step: Option<NextStep>,
    pub notes: Vec<String>,
}

/// Computes what `trace` shows. An empty trace gives empty findings with a note.
pub fn findings(trace: &Trace, context: &Context) -> Findings {
    findings_with(trace, context, &Settings::default())
}

/// As [`findings`], with other settings of what counts as a break.
pub fn findings_with(trace: &Trace, context: &Context, settings: &Settings) -> Findings {
    let mut all = Findings {
        format: "hollow-mile/findings".into(),
        version: 1,
        legs: trace.legs().iter().map(|leg| leg_figures(trace, leg)).collect(),
        plateaus: Vec::new(),
        breaks: Vec::new(),
        cache: None,
        throttling: Throttling::default(),
        thermal: thermal::summary(trace, context),
        hollows: Vec::new(),
        dips: Vec::new(),
        interference: interference::intervals(trace),
        fill: None,
        ramp: None,
        demand: demand::demands(trace, context),
        steady: steady::steady(trace),
        recovery: None,
        next_step: None,
        notes: Vec::new(),
    };
    let mut pieces = Vec::new();
    for leg in trace.legs().iter().filter(|leg| leg.op != Op::Idle) {
        let (stretches, edges) = plateaus::plateaus(trace, leg.samples.clone(), settings);
        all.plateaus.extend(stretches.iter().map(|s| plateau(trace, leg, s, &all.interference)));
        let before = all.breaks.len();
        for i in 0..edges.len() {
            let since = edges[..i].iter().collect::<Vec<_>>();
            let until = edges.get(i + 1).map_or(leg.samples.end, |e| e.sample);
            let found = causes::attribute(trace, context, leg, &edges[i], &since, until);
            if found.cause == Cause::CacheExhausted && all.cache.is_none() {
                all.cache = Some(cache(trace, leg, &found));
            }
            all.breaks.push(found);
        }
        let breaks = all.breaks[before..].to_vec();
        match pieces.last_mut().filter(|p: &&mut Piece<'_>| p.leg.name == leg.name && p.leg.op == leg.op) {
            Some(begun) => begun.more.push(leg),
            None => {
                let name = LegName::read(&leg.name);
                pieces.push(Piece { leg, name, breaks, stretches, more: Vec::new() });
            }
        }
    }
    all.fill = sweeps::fill(trace, &pieces);
    all.ramp = sweeps::ramps(trace, &pieces);
    all.recovery = sweeps::recovery(trace, &pieces);
    all.throttling = thermal::throttling(trace, &all.breaks, &all.plateaus);
    if let Some(thermal) = &mut all.thermal {
        thermal::settle(thermal, trace, context, &all.breaks, &all.plateaus, &all.throttling);
    }
    all.next_step = causes::next_step(trace, context, &all.breaks);
    all.notes = notes(trace, context, &all);
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
    }
}

/// The cache as a break shows it: bytes since the last rest, or since the start of the run.
pub(crate) fn cache(trace: &Trace, leg: &TraceLeg, found: &Break) -> Cache {
    let rested = causes::written_at_last_rest(trace, leg.samples.start).0;
    Cache {
        bytes: found.at_bytes.saturating_sub(rested),
        low_bytes: found.low_bytes.saturating_sub(rested),
        high_bytes: found.high_bytes.saturating_sub(rested),
        before_mb_s: found.from_mb_s,
        behind_mb_s: found.to_mb_s,
    }
}

fn notes(trace: &Trace, context: &Context, all: &Findings) -> Vec<String> {
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
    if !all.interference.is_empty() {
        let seconds: f64 = all.interference.iter().map(|i| i.end_s - i.start_s).sum();
        notes.push(format!(
            "Others on the drive or the host got in the way for {}; the figures of plateaus leave that out where as much is left.",
            crate::Nanos::from_secs(seconds)
        ));
    }
    if trace.errors() > 0 {
        notes.push(format!("{} operations failed.", trace.errors()));
    }
    if let (Some(rated), Some(first)) = (context.rated_write, all.plateaus.iter().find(|p| p.op == Op::Write))
    {
        let share = 100.0 * first.mean_mb_s / rated.mb_s();
        notes.push(format!(
            "The first plateau, {} MB/s, is {share:.0} % of the rated {} MB/s.",
            number(first.mean_mb_s),
            number(rated.mb_s())
        ));
    }
    notes.push(
        "Hollows and periodic dips are not looked for by this version; their lists are empty.".to_owned(),
    );
    notes
}
