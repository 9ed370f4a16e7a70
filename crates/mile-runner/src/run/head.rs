//! What is known of a run before it begins.

use crate::head::{LaneHead, RunHead, facts_for_planning};
use mile_core::channel::Channel;
use mile_course::Plan;
use mile_drive::{Claims, Drive, Situation};

/// What is known of a run of `plan` on one drive before it begins.
pub fn head(plan: &Plan, text: &str, drive: &dyn Drive, seed: u64, started: i64) -> RunHead {
    RunHead {
        started,
        course: plan.name.clone(),
        course_text: text.to_owned(),
        seed,
        identity: None,
        sample_every: plan.sample_every,
        lanes: vec![lane_head("", plan, drive)],
        channels: channels_of(&[drive]),
        instruments: None,
    }
}

/// The channels that drives give beside what is in every sample, each of its lane.
pub fn channels_of(drives: &[&dyn Drive]) -> Vec<Channel> {
    let of_lane = |(lane, drive): (usize, &&dyn Drive)| {
        let of = Some(lane as u32);
        let channels = drive.channels().into_iter();
        channels.map(move |(name, unit)| Channel { name, unit, of, ..Channel::default() }).collect::<Vec<_>>()
    };
    drives.iter().enumerate().flat_map(of_lane).collect()
}

/// What is known of one of its lanes.
pub fn lane_head(name: &str, plan: &Plan, drive: &dyn Drive) -> LaneHead {
    LaneHead {
        name: name.to_owned(),
        drive: drive.identity().clone(),
        facts: Some(drive.facts()),
        limits: drive.limits(),
        claims: claims_of(plan, &drive.claims()),
        stated: plan.stated.clone(),
        situation: situation_of(plan, drive.situation()),
        legs: plan.legs.clone(),
        earlier: Vec::new(),
        demands: plan.demands.clone(),
        order: None,
        health: None,
    }
}

/// What is claimed of a drive: by the course, and else by what is known of the drive.
pub fn claims_of(plan: &Plan, known: &Claims) -> Claims {
    Claims {
        write: plan.claims.write.or(known.write),
        read: plan.claims.read.or(known.read),
        endurance: plan.claims.endurance.or(known.endurance),
    }
}

/// The conditions of a run: by the course, and else by what is known of the drive.
pub fn situation_of(plan: &Plan, mut known: Situation) -> Situation {
    for (name, text) in &plan.situation {
        let place = match name.as_str() {
            "slot" => &mut known.slot,
            "cooling" => &mut known.cooling,
            "enclosure" => &mut known.enclosure,
            _ => &mut known.notes,
        };
        *place = Some(text.clone());
    }
    known.ambient = plan.ambient.or(known.ambient);
    known
}

/// The facts of a drive as planning takes them.
pub fn plan_facts(drive: &dyn Drive) -> mile_course::DriveFacts {
    facts_for_planning(&drive.facts())
}
