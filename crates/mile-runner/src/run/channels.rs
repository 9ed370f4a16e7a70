//! Channels of a run: readings of the drive beside those of every sample, and of bench instruments.

use super::ends::{Guarded, LegEnd};
use super::state::Run;
use crate::board::Told;
use crate::message::{Event, Message};
use mile_core::channel::{Reading, Source, tells};
use mile_core::{Bytes, Nanos};
use mile_course::Threshold;

impl Run<'_> {
    /// Takes the readings of the drive's own channels, at the end of a sample.
    pub(super) fn take_readings(&mut self, at: Nanos) {
        if self.own_channels.is_empty() {
            return;
        }
        let values = self.drive.channel_readings();
        for (place, value) in values.into_iter().enumerate() {
            let Some(&channel) = self.own_channels.get(place) else { break };
            let Some(value) = value.filter(|v| v.is_finite()) else { continue };
            self.latest[channel as usize] = Some(value);
            self.tell_reading(channel, Reading { at, value });
        }
    }

    /// Tells a reading of a channel, by its place in the list of the run.
    pub(super) fn tell_reading(&mut self, channel: u32, reading: Reading) {
        if let Some((lane, what)) = tells(self.channels, channel as usize)
            && lane == self.number()
        {
            self.live.push_reading(what, reading);
        }
        (self.tell)(Message::Reading(channel, reading));
    }

    /// The number of this lane.
    pub(super) fn number(&self) -> usize {
        self.seat.map_or(0, |(_, lane)| lane)
    }

    /// Takes what instruments told since of this lane. The first that is there stands for the run, and for those that have left.
    pub(super) fn take_instruments(&mut self) {
        let Some(board) = self.board.clone() else { return };
        let (now, channels, seat) = (self.drive.now(), self.channels, self.seat);
        let of = |told: &Told| match told {
            Told::Reading(channel, _) => channels.get(*channel as usize).and_then(|c| c.of),
            Told::Event(_) => None,
        };
        let is_own = |told: &Told| {
            seat.is_none_or(|(meeting, lane)| meeting.stands_for(of(told).map(|l| l as usize)) == Some(lane))
        };
        for (age, told) in board.take(is_own) {
            // What was taken before the run began is of its beginning.
            let at = Nanos(now.0.saturating_sub(age.0));
            match told {
                Told::Reading(channel, value) if value.is_finite() => {
                    // Time does not run backwards, though clocks are read one after the other.
                    let Some(place) = self.last_taken.get_mut(channel as usize) else { continue };
                    let at = at.max(Nanos(place.0 + 1));
                    *place = at;
                    self.tell_reading(channel, Reading { at, value });
                }
                Told::Reading(..) => {}
                Told::Event(kind) => {
                    let bytes = Bytes(self.moved.0 + self.tally.written.0 + self.tally.read.0);
                    (self.tell)(Message::Event(Event { at, bytes, kind }));
                }
            }
        }
    }

    /// The value that a channel has now, if it has one: of this lane, or of the run.
    pub(super) fn value_of(&self, name: &str) -> Option<f64> {
        let lane = self.number() as u32;
        let is = |of: Option<u32>| self.channels.iter().position(|c| c.name == name && c.of == of);
        let place = is(Some(lane)).or_else(|| is(None))?;
        match self.channels[place].source {
            Source::Instrument(_) => self.board.as_ref()?.latest(place),
            _ => self.latest[place],
        }
    }

    /// Whether a threshold is reached now. A channel without a reading reaches nothing.
    pub(super) fn is_reached(&self, threshold: &Threshold) -> Option<f64> {
        self.value_of(&threshold.channel).filter(|v| threshold.is_reached(*v))
    }

    /// Guards on channels.
    pub(super) fn mind_channels(&self) -> Option<LegEnd> {
        let reached = |t: &Threshold| {
            let value = self.is_reached(t)?;
            let unit = if t.unit.is_empty() { String::new() } else { format!(" {}", t.unit) };
            Some(format!("{}: {} is {}{unit}", t.words(), t.channel, mile_core::units::number(value)))
        };
        let why = self.plan.guards.channels.iter().find_map(reached)?;
        Some(LegEnd::Guarded(Guarded::Other(why)))
    }
}
