//! Copies: where the two lanes of one meet, what is logged of it, and where it goes on.

use super::go_on::GoOn;
use super::meeting::Copying;
use super::state::{LaneRun, Run};
use mile_core::channel::{BUFFERED, Channel, Reading, Source, WAITED};
use mile_core::units::common_divisor;
use mile_core::{Bytes, Nanos};
use mile_course::{Plan, PlannedLeg, PlannedTransfer, Work};
use mile_drive::pipe::{Pipe, PipeEnd, Side};
use std::sync::Arc;

/// The transfer of a leg, if that is a side of a copy.
fn side(leg: &PlannedLeg) -> Option<(PlannedTransfer, Side)> {
    let Work::Transfer(t) = leg.work else { return None };
    t.copy.map(|part| (t, if part.is_source { Side::Source } else { Side::Target }))
}

/// The channels that lanes have for their copies.
pub fn copy_channels(plans: &[&Plan]) -> Vec<Channel> {
    let mut all = Vec::new();
    for (lane, plan) in plans.iter().enumerate() {
        let sides: Vec<Side> = plan.legs.iter().filter_map(|l| side(l).map(|s| s.1)).collect();
        let mut add = |name: &str, unit: &str| {
            let (name, unit) = (name.to_owned(), unit.to_owned());
            all.push(Channel {
                name,
                unit,
                of: Some(lane as u32),
                source: Source::Runner,
                ..Channel::default()
            });
        };
        if !sides.is_empty() {
            add(WAITED, "%");
        }
        if sides.contains(&Side::Target) {
            add(BUFFERED, "MB");
        }
    }
    all
}

/// The copies that lanes do from where each goes on, which is put where both sides can go on.
pub(super) fn copies(lanes: &mut [LaneRun<'_>]) -> Vec<Copying> {
    let legs = lanes.iter().map(|l| l.plan.legs.len()).min().unwrap_or(0);
    let mut all = Vec::new();
    for leg in 0..legs {
        for lane in 0..lanes.len() {
            let of = |lane: usize| side(&lanes[lane].plan.legs[leg]).zip(Some(lane));
            let Some(((source, Side::Source), _)) = of(lane) else { continue };
            let Some(partner) = source.copy.map(|c| c.partner as usize).filter(|p| *p < lanes.len()) else {
                continue;
            };
            let Some(((target, Side::Target), _)) = of(partner) else { continue };
            let simulated = lanes[lane].drive.is_virtual();
            let blocks = (source.load.block, target.load.block);
            let [a, b] = match lanes.get_disjoint_mut([lane, partner]) {
                Ok([a, b]) => [&mut a.terms.go_on, &mut b.terms.go_on],
                Err(_) => continue,
            };
            let start = align(leg as u32, a, b, blocks);
            let buffer = source.copy.map_or(Bytes(0), |c| c.buffer);
            let pipe = Arc::new(Pipe::new(buffer, blocks, start, simulated));
            all.push(Copying { leg, lanes: [lane, partner], pipe });
        }
    }
    all
}

/// Has both sides of a copy that was interrupted go on from what the target holds, in whole blocks of both. Gives where that is.
fn align(leg: u32, source: &mut Option<GoOn>, target: &mut Option<GoOn>, (a, b): (Bytes, Bytes)) -> Bytes {
    let (Some(source), Some(target)) = (source, target) else { return Bytes(0) };
    if target.leg > leg && source.leg == leg {
        // The target had all of it, or had ended.
        (source.leg, source.moved, source.spent) = (leg + 1, Bytes(0), Nanos(0));
    }
    if target.leg != leg || source.leg < leg {
        return Bytes(0);
    }
    let unit = a.0.max(1) * b.0.max(1) / common_divisor(a.0, b.0).max(1);
    let held = if source.leg == leg { target.moved.0.min(source.moved.0) } else { target.moved.0 };
    let moved = Bytes(held / unit.max(1) * unit.max(1));
    if source.leg > leg {
        (source.leg, source.spent) = (leg, target.spent);
    }
    (source.moved, target.moved) = (moved, moved);
    moved
}

impl Run<'_> {
    /// The end of the copy that a leg of this lane is a side of.
    pub(super) fn end_of_copy(&self, leg: u32) -> Option<PipeEnd> {
        self.seat.and_then(|(meeting, lane)| meeting.copy_end(leg as usize, lane))
    }

    /// Tells the channels of a copy for the sample from `start` to `end`.
    pub(super) fn take_copy(&mut self, leg: u32, start: Nanos, end: Nanos) {
        let Some(copy) = self.end_of_copy(leg) else { return };
        let waited = copy.pipe.take_waited(copy.side).secs() / end.since(start).secs().max(1e-9);
        let waited = waited.min(1.0);
        self.tell_channel(WAITED, end, 100.0 * waited);
        if let Some(level) = Some(&copy).filter(|c| c.side == Side::Target).and_then(|c| c.level(end)) {
            self.tell_channel(BUFFERED, end, level.0 as f64 / 1e6);
        }
    }

    fn tell_channel(&mut self, name: &str, at: Nanos, value: f64) {
        let lane = self.seat.map(|(_, lane)| lane as u32);
        let is = |c: &Channel| c.name == name && c.of == lane && c.source == Source::Runner;
        if let Some(place) = self.channels.iter().position(is) {
            self.latest[place] = Some(value);
            self.tell_reading(place as u32, Reading { at, value });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn on(leg: u32, moved: u64) -> Option<GoOn> {
        Some(GoOn { leg, moved: Bytes(moved), ..GoOn::default() })
    }

    #[test]
    fn both_sides_go_on_from_what_the_target_holds() {
        let go = |source: Option<GoOn>, target: Option<GoOn>| {
            let (mut a, mut b) = (source, target);
            let start = align(3, &mut a, &mut b, (Bytes(4), Bytes(6)));
            let of = |g: Option<GoOn>| g.map_or((0, 0), |g| (g.leg, g.moved.0));
            (start.0, of(a), of(b))
        };
        assert_eq!(go(None, None), (0, (0, 0), (0, 0)));
        assert_eq!(go(on(3, 100), on(3, 50)), (48, (3, 48), (3, 48)), "in whole blocks of both");
        assert_eq!(go(on(4, 0), on(3, 50)), (48, (3, 48), (3, 48)), "the source had come to its end");
        assert_eq!(go(on(3, 100), on(4, 0)), (0, (4, 0), (4, 0)), "the target had all");
        assert_eq!(go(on(2, 7), on(2, 9)), (0, (2, 7), (2, 9)), "the copy had not begun");
        assert_eq!(go(on(5, 7), on(5, 9)), (0, (5, 7), (5, 9)), "it is over");
    }
}
