//! What earlier versions kept of a run, read as this one has it.

use crate::message::{LaneHead, Order, RunHead};
use mile_core::channel::Channel;
use mile_core::{Demand, Nanos, RunId};
use mile_course::PlannedLeg;
use mile_drive::nvme::HealthLog;
use mile_drive::{Claims, Facts, Health, Identity, Limits, Situation};
use serde::de::Error;
use serde::{Deserialize, Deserializer};
use serde_json::value::RawValue;

/// A head as any version wrote it: before there were lanes, what is of the drive stood in the head itself, and its legs were words.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct AnyHead {
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
    #[serde(deserialize_with = "any_health")]
    health: Option<Health>,
}

/// Health as any version wrote it: the first had the NVMe health log in its place.
pub(crate) fn any_health<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Health>, D::Error> {
    let Some(text) = Option::<Box<RawValue>>::deserialize(from)? else { return Ok(None) };
    if let Ok(log) = serde_json::from_str::<HealthLog>(text.get()) {
        return Ok(Some(Health::of_nvme(log)));
    }
    serde_json::from_str(text.get()).map(Some).map_err(D::Error::custom)
}

pub(crate) fn its_health<'de, D: Deserializer<'de>>(from: D) -> Result<Health, D::Error> {
    any_health(from).map(Option::unwrap_or_default)
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
        let mut plan = mile_course::plan(&course, &crate::run::facts_for_planning(&self.facts?)).ok()?;
        if self.order.as_ref().is_some_and(|o| o.discard_first) {
            plan.discard_first();
        }
        plan.legs.iter().map(|l| &l.name).eq(&self.legs).then_some(plan.legs)
    }
}
