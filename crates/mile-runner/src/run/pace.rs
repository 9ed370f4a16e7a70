//! How a lane keeps to the time of the others.

use super::ends::{Guarded, LegEnd};
use super::meeting::STEP;
use super::state::Run;
use mile_core::Nanos;

impl Run<'_> {
    /// Waits until all drives are open, and goes by one clock from there on.
    pub(super) fn share_the_clock(&mut self) {
        let Some((meeting, lane)) = self.seat else { return };
        let start = self.drive.now();
        if self.drive.is_virtual() {
            return;
        }
        let wall = mile_drive::clock::Monotonic::start();
        loop {
            if let Some(clock) = meeting.open(lane, start) {
                return self.drive.set_clock(clock);
            }
            self.heed(&wall);
            if self.stopping {
                return;
            }
            wall.sleep_until(wall.now().plus(Nanos(2_000_000)));
        }
    }

    /// Waits for the other lanes where this one is ahead, and ends with them.
    pub(super) fn keep_pace(&mut self) -> Option<LegEnd> {
        let (meeting, lane) = self.seat?;
        let now = self.drive.now();
        if meeting.boundary(now).is_some() && now.0.is_multiple_of(STEP) {
            loop {
                if let Some(others) = meeting.pace(lane, now, self.drive.warmth()) {
                    self.drive.stand_beside(&others);
                    break;
                }
                while let Ok(command) = self.commands.try_recv() {
                    let end = self.obey(command);
                    if end.is_some() {
                        return end;
                    }
                }
                if self.paused {
                    return None;
                }
            }
        }
        meeting.ended(now).map(|why| LegEnd::Guarded(Guarded::Other(why)))
    }
}
