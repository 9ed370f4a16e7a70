//! What a run shows: the object that screens, figures and `findings --format json` are made from.
//!
//! Field names carry their units, as this is also the interchange format (docs/formats.md). Absent things are `None`
//! or empty, and are written so, never left out.

pub use crate::breaks::{Break, Candidate, Cause, Evidence};
pub use crate::cache::Cache;
pub use crate::context::Context;
pub use crate::dips::Dip;
pub use crate::figures::{LegFigures, Plateau, Spread};
pub use crate::hollow::Hollow;
pub use crate::interference::Interference;
pub use crate::ledger::Account;
pub use crate::next_step::{NextStep, Outcome};
pub use crate::places::{BadPlace, Badness, Unreadable, bad_places, unreadable};
pub use crate::thermal::{Episode, HeatCurve, Phase, Thermal, Throttling};

use crate::cache::cache;
use crate::claims::excuses::Seen;
use crate::claims::stated::{StatedFound, stated};
use crate::claims::{self, ClaimFound};
use crate::consistency;
use crate::demand::{self, DemandFound};
use crate::dips;
use crate::engine::{Engine, Look};
use crate::faults::Faults;
use crate::figures::{leg_figures, plateau};
use crate::health::FailedTest;
use crate::interference;
use crate::latencies::LegLatencies;
use crate::leg_name::LegName;
use crate::legs::{self, LegRow, Repeated};
use crate::next_step;
use crate::plateaus::{Settings, Swing};
use crate::sample::Op;
use crate::span::{self, SpanFound};
use crate::steady::{self, Steady};
use crate::surface::{self, Surface};
use crate::sweeps::{self, FillFound, Piece, RampFound, Recovery};
use crate::tables::{self, SweepTable};
use crate::thermal;
use crate::trace::Trace;
use crate::units::number;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

/// Version of the findings in JSON. 2 renamed `behind_mb_s` to `after_mb_s`.
pub const VERSION: u32 = 2;

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
    /// The same for each break that is not sure, the least sure first; at most 32.
    #[serde(default)]
    pub next_steps: Vec<NextStep>,
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
    /// What would settle break `index`, where it is one of the doubtful ones, and else the least sure one.
    pub fn next_step_for(&self, index: Option<usize>) -> Option<&NextStep> {
        let of_break = index.and_then(|i| self.next_steps.iter().find(|s| s.of_break == i));
        of_break.or(self.next_step.as_ref())
    }

    /// With what went wrong, which was not known when they were computed.
    pub fn with_faults(mut self, context: &Context) -> Self {
        self.unreadable_blocks = unreadable(&context.faults);
        self.faults.clone_from(&context.faults);
        self.failed_self_tests.clone_from(&context.failed_tests);
        self
    }

    /// Adds the rows of its legs, and what they show together; `context` is what was known beside the samples.
    pub fn add_rows(&mut self, rows: Vec<LegRow>, context: &Context) {
        self.stated_claims = stated(context, &rows, self.seen());
        self.repeats = legs::repeated(&rows);
        self.sweeps = tables::sweep_tables(&rows);
        self.leg_table = rows;
    }

    /// All places with which something is wrong, for the map of the surface.
    pub fn bad_places(&self) -> Vec<BadPlace> {
        bad_places(&self.faults, &self.failed_self_tests)
    }

    /// What may excuse that less was measured than is claimed.
    fn seen(&self) -> Seen<'_> {
        Seen { breaks: &self.breaks, throttling: &self.throttling, interference: &self.interference }
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
        interference: interference::intervals(trace, &context.through_host),
        fill: None,
        ramp: None,
        span: span::span(trace, &context.latencies),
        demand: demand::demands(trace, &context.demands, context.capacity),
        steady: steady::steady(trace),
        recovery: None,
        next_step: None,
        next_steps: Vec::new(),
        claims: Vec::new(),
        leg_table: Vec::new(),
        repeats: Vec::new(),
        sweeps: Vec::new(),
        stated_claims: Vec::new(),
        notes: Vec::new(),
    };
    all.next_steps = next_step::next_steps(&look.scene(trace, context), &look.breaks);
    all.next_step = all.next_steps.first().cloned();
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
        let in_leg: Vec<_> = seen.iter().zip(&all.breaks).filter(|(s, _)| s.leg == index).collect();
        all.dips.extend(dips::dips(trace, context, (index, &cut), &in_leg));
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
    all.throttling = thermal::throttling(trace, &all.breaks, &all.plateaus, &swings, &all.dips);
    if let Some(thermal) = &mut all.thermal {
        thermal::settle(thermal, trace, context, &all.breaks, &all.plateaus, &all.throttling);
    }
    let claimed = context.rated_write.is_some() || context.rated_read.is_some();
    let fitting = if claimed { claims::fitting(trace, context) } else { HashSet::new() };
    all.claims = claims::claims(trace, context, (&all.plateaus, all.seen()), &fitting);
    all.notes = notes(trace, context, &all, &fitting);
    all
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
        None => notes.push(format!(
            "Nothing is said about slow or weak places: that takes a leg that goes over a range of addresses in {} samples or more, such as a `scan` of as many zones.",
            surface::LEAST_SAMPLES
        )),
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
