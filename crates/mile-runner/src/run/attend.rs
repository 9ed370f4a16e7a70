//! Waiting for a drive without being held by it: whatever is waited for, a request to stop is heard within a fraction of a second.

use super::state::{HEALTH_PATIENCE, Run};
use crate::message::{Awaited, Command, EventKind, Message};
use crossbeam_channel::RecvTimeoutError;
use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use mile_drive::{DriveError, NotThere, Pending};
use std::time::Duration;

/// Time between two looks at the commands.
const LOOK: Duration = Duration::from_millis(50);
/// Time after which it is said what a stop waits for.
const SAID: Nanos = Nanos(200_000_000);
/// Longest wait for the log.
const LOG_PATIENCE: Nanos = Nanos(5_000_000_000);

/// What came of waiting.
pub(super) enum Attended<T> {
    Done(T),
    /// It was left to itself, on request or because it took too long.
    Left,
}

impl Run<'_> {
    /// Waits for work on the drive, at most for `patience`, and hears commands meanwhile.
    pub(super) fn attend<T: Send + 'static>(
        &mut self,
        work: &Pending<T>,
        patience: Option<Nanos>,
    ) -> Result<Attended<T>, DriveError> {
        let wall = Monotonic::start();
        loop {
            match work.within(LOOK) {
                Ok(done) => return Ok(Attended::Done(done)),
                Err(NotThere::Ever) => {
                    return Err(DriveError::Unusable {
                        why: "a thread of the run ended unexpectedly".into(),
                    });
                }
                Err(NotThere::Yet) => {}
            }
            self.heed(&wall);
            if self.left || patience.is_some_and(|p| wall.now() > p) {
                return Ok(Attended::Left);
            }
        }
    }

    /// Hears commands while the run waits for its drive. A second request to stop leaves what is waited for.
    pub(super) fn heed(&mut self, waiting: &Monotonic) {
        while let Ok(command) = self.commands.try_recv() {
            match command {
                Command::Stop if self.stopping => self.left = true,
                Command::Stop => self.stopping = true,
                // A skip of what is waited for comes too late; the others hold for what follows.
                Command::Skip => {}
                other => {
                    let _ = self.obey(other);
                }
            }
        }
        if self.stopping && !self.left && !self.told_stop && waiting.now() >= SAID {
            self.told_stop = true;
            let out = self.drive.waiting().map_or(0, |(_, _, out)| out as u64);
            self.event(EventKind::StopWaits { out });
        }
    }

    /// Starts nothing new, and waits for what is in flight.
    pub(super) fn drain(&mut self) -> Result<(), DriveError> {
        let wall = Monotonic::start();
        loop {
            let until = self.drive.now().plus(Nanos(LOOK.as_nanos() as u64));
            if self.drive.drain(until, &mut self.tally)? {
                return Ok(());
            }
            self.heed(&wall);
            if self.left {
                let out = self.drive.waiting().map_or(0, |(_, _, out)| out as u64);
                self.drive.abandon();
                self.event(EventKind::Left { out });
                return Ok(());
            }
        }
    }

    /// Waits until the log has all that was told so far, before a leg takes away what the legs before it read: if the run is killed then, the
    /// log does not say that they are still to come. A log that cannot be written, or takes longer than [`LOG_PATIENCE`], holds nothing up.
    pub(super) fn wait_for_the_log(&mut self) {
        if self.drive.is_virtual() {
            return;
        }
        let (asked, answered) = Awaited::new();
        (self.tell)(Message::Keep(asked));
        let wall = Monotonic::start();
        while !self.stopping
            && wall.now() < LOG_PATIENCE
            && answered.recv_timeout(LOOK) == Err(RecvTimeoutError::Timeout)
        {
            self.heed(&wall);
        }
    }

    /// Asks the drive for its health at the end of a run, and waits for it, not too long.
    pub(super) fn last_health(&mut self) -> Option<mile_drive::Health> {
        if self.drive.is_virtual() {
            return self.drive.health();
        }
        // One that told nothing at the start, such as a file, is not waited for.
        self.health.as_ref()?;
        let wall = Monotonic::start();
        self.drive.ask_health();
        loop {
            if let Some(health) = self.drive.health_answer() {
                return Some(health);
            }
            self.heed(&wall);
            if self.left || wall.now() > HEALTH_PATIENCE {
                return None;
            }
            wall.sleep_until(wall.now().plus(Nanos(LOOK.as_nanos() as u64 / 5)));
        }
    }
}
