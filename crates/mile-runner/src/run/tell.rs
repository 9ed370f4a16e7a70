//! What a run tells of itself.

use super::state::Run;
use crate::message::{Event, EventKind, Message};
use hdrhistogram::serialization::{Serializer, V2Serializer};
use mile_core::Bytes;
use mile_core::live::News;

impl Run<'_> {
    pub(super) fn event(&mut self, kind: EventKind) {
        let bytes = Bytes(self.moved.0 + self.tally.written.0 + self.tally.read.0);
        (self.tell)(Message::Event(Event { at: self.drive.now(), bytes, kind }));
    }

    /// Tells through what data moves, where that is not what was told last.
    pub(super) fn say_engine(&mut self, engine: String) {
        if self.engine_said.as_ref() != Some(&engine) {
            self.engine_said = Some(engine.clone());
            self.event(EventKind::Engine(engine));
        }
    }

    pub(super) fn tell_latency(&mut self, index: u32) {
        let mut bytes = Vec::new();
        // Serialising into memory fails for no histogram that was made here.
        if V2Serializer::new().serialize(&self.leg_latency, &mut bytes).is_ok() {
            (self.tell)(Message::LegLatency(index, bytes));
        }
    }
}

/// The event that tells it.
pub(super) fn told(item: News) -> EventKind {
    match item {
        News::Announced(b) => EventKind::BreakSeen(b),
        News::Revised(b) => EventKind::BreakRevised(b),
        News::Joined(b, whole) => EventKind::BreakJoined(Bytes(b.at_bytes), whole),
        News::Withdrawn(b) => EventKind::BreakWithdrawn(Bytes(b.at_bytes)),
    }
}
