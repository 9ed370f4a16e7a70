//! The list of what went wrong on a drive, by address: what failed, how often, when, and whether a later leg read it all the same.

use crate::message::{Event, EventKind, LaneHead, fault_of};
use mile_core::{FaultKind, Op};
use mile_course::{PlannedLeg, Work};
use mile_drive::drive::{Failure, Narrowed};
use serde::{Deserialize, Serialize};

/// A stretch of a drive with which something went wrong.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BadStretch {
    /// First byte.
    pub start_byte: u64,
    /// One past the last.
    pub end_byte: u64,
    /// What went wrong there.
    pub kind: FaultKind,
    /// The error in words; empty where data were read that are wrong.
    pub error: String,
    /// Operations that failed there, or reads that found it wrong. Those that narrowed it down are not counted.
    pub attempts: u32,
    /// When it was first seen, seconds since the start of the run.
    pub first_s: f64,
    /// When it was last seen.
    pub last_s: f64,
    /// Seconds that the operations which failed there took, with those that narrowed it down. Where one operation was narrowed down to several
    /// stretches, each has an equal share. `None` for what was read and is wrong, and in logs of earlier versions, which did not keep it.
    pub time_s: Option<f64>,
    /// Whether it is known to the block; where it is not, it is the operation that failed.
    pub is_exact: bool,
    /// The legs in which it was seen, in the order of time.
    pub legs: Vec<String>,
    /// The last leg that went over it later and read all of it.
    pub read_again_in: Option<String>,
}

/// What went wrong in a run, in the order of addresses, from what was told of it. What was only counted, because it was too much, is not in it.
pub fn bad_stretches(head: &LaneHead, events: &[Event]) -> Vec<BadStretch> {
    let mut all: Vec<BadStretch> = Vec::new();
    let mut later: Vec<(&Failure, f64, u32)> = Vec::new();
    let mut leg = 0;
    for event in events {
        let at = event.at.secs();
        match &event.kind {
            EventKind::LegBegan { leg: index, .. } | EventKind::WentOn { leg: index, .. } => leg = *index,
            EventKind::PassedOver { failure, .. } => later.push((failure, at, leg)),
            EventKind::Error { failure, narrowed, .. } => add(&mut all, head, failure, narrowed, at, leg),
            EventKind::Narrowed { failure, narrowed, .. } => {
                let first = later.iter().position(|l| l.0 == failure);
                let (_, at, leg) = first.map_or((failure, at, leg), |i| later.remove(i));
                add(&mut all, head, failure, narrowed, at, leg);
            }
            EventKind::Wrong(m) => put(
                &mut all,
                BadStretch {
                    start_byte: m.offset.0,
                    end_byte: m.offset.0 + m.length.0,
                    kind: m.wrong.fault(),
                    error: String::new(),
                    attempts: 1,
                    first_s: at,
                    last_s: at,
                    time_s: None,
                    is_exact: true,
                    legs: vec![head.leg_name(leg).to_owned()],
                    read_again_in: None,
                },
            ),
            _ => {}
        }
    }
    for (failure, at, leg) in later {
        add(&mut all, head, failure, &Narrowed::unknown(failure), at, leg);
    }
    all.sort_by_key(|b| (b.start_byte, b.kind));
    for stretch in &mut all {
        stretch.read_again_in = read_again(head, events, stretch).or(stretch.read_again_in.take());
    }
    all
}

fn add(
    all: &mut Vec<BadStretch>,
    head: &LaneHead,
    failure: &Failure,
    narrowed: &Narrowed,
    at: f64,
    leg: u32,
) {
    let whole = [(failure.offset, mile_core::Bytes(failure.offset.0 + failure.length.0))];
    let known = !narrowed.bad.is_empty();
    let stretches = if known { narrowed.bad.as_slice() } else { &whole };
    let took = failure.took.secs() + narrowed.took.secs();
    let time_s = (took > 0.0).then(|| took / stretches.len() as f64);
    for (start, end) in stretches {
        let one = BadStretch {
            start_byte: start.0,
            end_byte: end.0,
            kind: fault_of(failure.op),
            error: failure.words(),
            attempts: 1,
            first_s: at,
            last_s: at,
            time_s,
            is_exact: narrowed.complete,
            legs: vec![head.leg_name(leg).to_owned()],
            // Each of its blocks was read when it was narrowed down.
            read_again_in: (!known && narrowed.complete).then(|| head.leg_name(leg).to_owned()),
        };
        put(all, one);
    }
}

/// Adds a stretch to those that there are: to the same one, seen again, or to one that it overlaps. Of two of which one is known to the block, that one stays.
fn put(all: &mut Vec<BadStretch>, mut new: BadStretch) {
    let same = |a: &BadStretch, b: &BadStretch| {
        a.kind == b.kind && a.start_byte < b.end_byte && b.start_byte < a.end_byte
    };
    while let Some(i) = all.iter().position(|old| same(old, &new)) {
        let old = all.swap_remove(i);
        let (start, end) = match (old.is_exact, new.is_exact) {
            (true, false) => (old.start_byte, old.end_byte),
            (false, true) => (new.start_byte, new.end_byte),
            _ => (old.start_byte.min(new.start_byte), old.end_byte.max(new.end_byte)),
        };
        let mut legs = old.legs;
        let more =
            std::mem::take(&mut new.legs).into_iter().filter(|l| !legs.contains(l)).collect::<Vec<_>>();
        legs.extend(more);
        new = BadStretch {
            start_byte: start,
            end_byte: end,
            attempts: old.attempts + new.attempts,
            first_s: old.first_s.min(new.first_s),
            last_s: old.last_s.max(new.last_s),
            time_s: match (old.time_s, new.time_s) {
                (Some(a), Some(b)) => Some(a + b),
                (a, b) => a.or(b),
            },
            is_exact: old.is_exact || new.is_exact,
            legs,
            ..new
        };
    }
    all.push(new);
}

/// The last leg behind those that saw a stretch fail which went over all of it in the order of its zones or addresses, and in which nothing there failed.
fn read_again(head: &LaneHead, events: &[Event], stretch: &BadStretch) -> Option<String> {
    if stretch.kind != FaultKind::ReadFailed {
        return None;
    }
    let covers = |leg: &PlannedLeg| match &leg.work {
        Work::Transfer(t) => {
            t.load.op == Op::Read
                && t.load.access == mile_course::Access::Sequential
                && t.refine.is_none()
                && t.start.0 <= stretch.start_byte
                && stretch.end_byte <= t.start.0 + t.length.0.min(t.budget.0)
        }
        _ => false,
    };
    let mut found = None;
    // Whether the leg underway put something off: then nobody knows that it went over all of it.
    let mut put_off = false;
    for event in events.iter().filter(|e| e.at.secs() > stretch.last_s) {
        match &event.kind {
            EventKind::LegBegan { .. } => put_off = false,
            EventKind::PutOff { .. } | EventKind::NotNarrowed(_) | EventKind::MoreErrors(_) => put_off = true,
            EventKind::LegEnded { leg, name, kind, .. } => {
                let planned = *kind == Some(crate::EndKind::Planned);
                let other = !stretch.legs.iter().any(|l| l == name);
                let there = head.legs.get(*leg as usize).is_some_and(covers);
                if planned && other && there && !put_off {
                    found = Some(name.clone());
                }
            }
            _ => {}
        }
    }
    found
}
