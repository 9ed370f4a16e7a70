//! Patterns of dips: how often, how deep, and why.

use crate::breaks::{Break, Candidate, Cause, Evidence};
use crate::causes::{self, Seen};
use crate::context::Context;
use crate::plateaus::{Cut, Stretch, Swing};
use crate::trace::Trace;
use serde::{Deserialize, Serialize};

/// A pattern of dips.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the format's own names say it")]
pub struct Dip {
    pub period_s: f64,
    pub depth_pct: f64,
    pub duty_pct: f64,
    /// Name of its leg; empty in findings of earlier versions, as what follows is missing there.
    #[serde(default)]
    pub leg: String,
    /// From and to, seconds since the start of the run.
    #[serde(default)]
    pub start_s: f64,
    #[serde(default)]
    pub end_s: f64,
    /// What it is put down to: that of the break with which it begins, where there is one.
    #[serde(default)]
    pub cause: Option<Cause>,
    /// Probability that the cause is right, 0 to 1.
    #[serde(default)]
    pub confidence: f64,
    /// What speaks for and against.
    #[serde(default)]
    pub evidence: Vec<Evidence>,
    /// The causes that were considered, the likeliest first.
    #[serde(default)]
    pub candidates: Vec<Candidate>,
}

impl Dip {
    /// How it is slow: `24 % deep, 25 % of the time`.
    pub fn measure(&self) -> String {
        format!("{:.0} % deep, {:.0} % of the time", self.depth_pct, self.duty_pct)
    }

    /// Why, and how sure: `throttled by heat, 97 % confidence`. Nothing in findings of earlier versions.
    pub fn verdict(&self) -> Option<String> {
        let confidence = 100.0 * self.confidence;
        Some(match self.cause? {
            Cause::Unexplained => {
                format!("no cause found, {confidence:.0} % confidence that it is none of those looked at")
            }
            cause => format!("{}, {confidence:.0} % confidence", cause.words()),
        })
    }

    /// Whether it is more likely than not that heat throttled the drive in its lows.
    pub fn is_heat(&self) -> bool {
        self.cause == Some(Cause::ThermalThrottle) && self.confidence > 0.5
    }

    /// Whether a break is one of its changes, put down to the same cause, unless that of the break was not clear.
    pub(crate) fn tells(&self, one: &Break) -> bool {
        let slack = 0.5 * self.period_s;
        let ends = match self.cause {
            Some(Cause::ThermalThrottle) => Some(Cause::ThermalRelease),
            Some(Cause::Interference) => Some(Cause::InterferenceEnd),
            _ => None,
        };
        (self.start_s - slack..self.end_s + slack).contains(&one.at_s)
            && (!one.is_clear() || [self.cause, ends].contains(&Some(one.cause)))
    }
}

/// The patterns of leg `leg`, which was cut so; `seen` are its breaks.
pub(crate) fn dips(
    trace: &Trace,
    context: &Context,
    (leg, cut): (usize, &Cut),
    seen: &[(&Seen, &Break)],
) -> Vec<Dip> {
    let of = |swing: &Swing| {
        let own = seen.iter().find(|(s, _)| s.swing.as_ref() == Some(swing)).map(|(_, b)| *b);
        // Since the cache was full for the last time, with no rate that came back.
        let before = seen.iter().rev().filter(|(s, _)| !s.across && s.edge.sample < swing.samples.start);
        let full =
            before.map(|(_, b)| *b).find(|b| b.cause == Cause::CacheExhausted || b.to_mb_s > b.from_mb_s);
        let full = full.filter(|b| b.cause == Cause::CacheExhausted).map(|b| b.confidence);
        dip(trace, context, (leg, &cut.stretches), swing, (own, full))
    };
    cut.swings.iter().map(of).collect()
}

/// A pattern of leg `leg`, and what it is put down to: that of the break with which it begins, or what all of it shows; `full` is the confidence that
/// the write cache was exhausted before.
fn dip(
    trace: &Trace,
    context: &Context,
    (leg, stretches): (usize, &[Stretch]),
    swing: &Swing,
    (own, full): (Option<&Break>, Option<f64>),
) -> Dip {
    let samples = &swing.samples;
    let last = samples.end.clamp(samples.start + 1, trace.len()) - 1;
    let before = stretches.iter().map(|s| &s.samples).find(|s| s.contains(&samples.start)).unwrap_or(samples);
    let pattern = || causes::pattern(trace, context, (leg, before), swing, full);
    let (cause, confidence, evidence, candidates) = match own {
        Some(b) => (Some(b.cause), b.confidence, b.evidence.clone(), b.candidates.clone()),
        None => pattern()
            .map_or_else(Default::default, |v| (Some(v.cause), v.confidence, v.evidence, v.candidates)),
    };
    Dip {
        period_s: swing.period_s,
        depth_pct: 100.0 * swing.depth,
        duty_pct: 100.0 * swing.duty,
        leg: trace.legs()[leg].name.clone(),
        start_s: trace.start(samples.start).secs(),
        end_s: trace.end(last).secs(),
        cause,
        confidence,
        evidence,
        candidates,
    }
}
