//! What failed: told, narrowed down, and counted.

use super::attend::Attended;
use super::state::{LEAVING, MOST_TOLD, Run};
use crate::message::{EventKind, error_words, fault_of};
use mile_core::{Nanos, faults};
use mile_drive::clock::Monotonic;
use mile_drive::{DriveError, Failure, Narrowed};

/// Longest time for narrowing one failed operation down.
const NARROWING: Nanos = Nanos(60_000_000_000);
/// Time between two looks at whether the run is to stop, while a failure is narrowed down, and at whether a drive has left.
const GLANCE: Nanos = Nanos(100_000_000);

impl Run<'_> {
    /// Tells what failed, narrowed down, and ends the run where it is too much, or where the drive is gone.
    pub(super) fn mind_failures(&mut self) -> Result<(), DriveError> {
        let block = self.drive.facts().logical_block;
        for failure in std::mem::take(&mut self.tally.failures) {
            self.check_presence(&failure, suggests_leaving(failure.errno))?;
            self.errors += 1;
            self.failed += failure.length.0;
            let kind = fault_of(failure.op);
            let (at, whole) = (self.drive.now(), (failure.offset, failure.length));
            if self.errors > MOST_TOLD {
                faults::add_narrowed(&mut self.faults, kind, at, whole, &[], false);
                self.check_errors(String::new())?;
                continue;
            }
            if self.is_for_later() {
                self.pass_over(failure)?;
                continue;
            }
            let narrowed = self.narrow(&failure, NARROWING)?.unwrap_or_else(|| Narrowed::unknown(&failure));
            let words = error_words(&failure, &narrowed, block);
            // Some that leave fail as a bad block does. Where nothing of it could be done and the run ends by it, there is time to see which it is.
            let bad: u64 = narrowed.bad.iter().map(|(from, to)| to.0.saturating_sub(from.0)).sum();
            if self.errors > self.plan.guards.errors_at_most && bad >= failure.length.0 {
                self.check_presence(&failure, true)?;
            }
            faults::add_narrowed(&mut self.faults, kind, at, whole, &narrowed.bad, narrowed.complete);
            self.event(EventKind::Error { failure, narrowed, block });
            self.check_errors(words)?;
        }
        for mismatch in std::mem::take(&mut self.tally.mismatches) {
            self.errors += 1;
            let (kind, at) = (mismatch.wrong.fault(), self.drive.now());
            faults::add(&mut self.faults, kind, at, mismatch.offset, mismatch.length);
            let kind = EventKind::Wrong(mismatch);
            let words = kind.words();
            if self.errors <= MOST_TOLD {
                self.event(kind);
            }
            self.check_errors(words)?;
        }
        Ok(())
    }

    /// Narrows a failed operation down, at most for so long. `None` where the run was asked to stop meanwhile: nothing is waited for then, as nothing of
    /// the run is lost with it.
    pub(super) fn narrow(
        &mut self,
        failure: &Failure,
        patience: Nanos,
    ) -> Result<Option<Narrowed>, DriveError> {
        let patience = patience.min(NARROWING);
        let narrowing = self.drive.narrow(failure, patience);
        // A try that is underway when the time is over is waited for as long again.
        let (clock, most) = (Monotonic::start(), patience.plus(NARROWING));
        loop {
            match self.attend(&narrowing, Some(GLANCE))? {
                Attended::Done(narrowed) => return Ok(Some(narrowed)),
                Attended::Left if self.stopping => return Ok(None),
                Attended::Left if clock.now() > most => return Ok(Some(Narrowed::unknown(failure))),
                Attended::Left => {}
            }
        }
    }

    /// Ends the run where the drive is gone; where that is likely, the system is given time to say so.
    fn check_presence(&mut self, failure: &Failure, likely: bool) -> Result<(), DriveError> {
        let Some(why) = self.gone(likely) else { return Ok(()) };
        let name = self.drive.identity().name.clone();
        Err(DriveError::Left {
            name,
            why: format!("{} at byte {}; {why}", failure.words(), failure.offset.0),
        })
    }

    /// Why the drive is gone. A drive that leaves fails operations before the system has taken it away: where that is `likely`, it is waited for, unless
    /// the run is asked to stop.
    fn gone(&mut self, likely: bool) -> Option<String> {
        let clock = Monotonic::start();
        let tries = if likely && !self.drive.is_virtual() { LEAVING } else { 1 };
        for i in 1..=tries {
            let why = self.drive.has_left();
            if why.is_some() || i == tries {
                return why;
            }
            clock.sleep_until(Nanos(u64::from(i) * GLANCE.0));
            self.heed(&clock);
            if self.stopping {
                return self.drive.has_left();
            }
        }
        None
    }

    /// Ends the run where more failed than the course allows.
    pub(super) fn check_errors(&mut self, words: String) -> Result<(), DriveError> {
        let most = self.plan.guards.errors_at_most;
        if self.errors <= most {
            return Ok(());
        }
        if self.errors > MOST_TOLD {
            self.event(EventKind::MoreErrors(self.errors - MOST_TOLD));
        }
        let why = match most {
            0 => words,
            _ => format!("{} errors, more than the {most} that the course allows", self.errors),
        };
        Err(DriveError::Unusable { why })
    }

    /// Notes an operation of a scan that failed, for later.
    pub(super) fn pass_over(&mut self, failure: Failure) -> Result<(), DriveError> {
        let (narrowed, block) = (Narrowed::default(), self.drive.facts().logical_block);
        let words = error_words(&failure, &narrowed, block);
        self.bad.failures += 1;
        self.bad.later.push(failure);
        self.event(EventKind::PassedOver { failure, block });
        self.check_errors(words)
    }

    /// Whether a failure is one of a scan that is looked at later.
    pub(super) fn is_for_later(&self) -> bool {
        self.zone_at.is_some() && self.errors <= MOST_TOLD
    }
}

/// Whether an error is one that drives which leave give, and others do not.
fn suggests_leaving(errno: Option<i32>) -> bool {
    matches!(errno, Some(libc::ENODEV | libc::ENXIO | libc::ENOSPC | libc::ESHUTDOWN))
}
