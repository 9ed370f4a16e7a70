//! What a scan does where it cannot read: it goes past what fails, puts the rest of a zone off where much of it fails or hardly anything comes, and
//! comes back to both last, for as long as the course gives for it. A drive that is dying is read first for what it still gives.

use mile_core::{Bytes, Nanos};
use mile_course::PlannedTransfer;
use mile_drive::drive::Failure;

/// Time for bad stretches where the course gives none.
pub(super) const BAD_TIME: Nanos = Nanos(600_000_000_000);
/// Failed operations in a zone after which the rest of it is put off.
const FAILURES: u32 = 8;
/// The same where what was put off is read.
const FAILURES_LAST: u32 = 2;
/// Time in a zone after which one failed operation is enough.
const LONG: Nanos = Nanos(20_000_000_000);
/// A zone that for so long was read this many times more slowly than the others is put off too. Heat or another program seldom slow reads down so
/// much; a drive that tries each sector again and again does.
const SLOWER: f64 = 20.0;
/// Zones after which it is known how fast the others are.
const ZONES_KNOWN: usize = 8;

/// The bad stretches of the leg underway.
#[derive(Default)]
pub(super) struct BadStretches {
    /// Operations that failed and are not narrowed down yet.
    pub(super) later: Vec<Failure>,
    /// From which bytes on zones were put off.
    pub(super) cuts: Vec<Bytes>,
    /// Operations that failed in the transfer underway, and when that began.
    pub(super) failures: u32,
    pub(super) began: Nanos,
    /// Since when, and behind how many bytes, the rate of the zone underway is looked at.
    pub(super) window: (Nanos, u64),
    /// How many times more slowly than the others the zone underway was read, where that is too slow.
    pub(super) slower: Option<u32>,
    /// Seconds for each byte in the zones that were read to their end, in ascending order.
    pub(super) paces: Vec<f64>,
    /// Since when the scan looks at what it went past.
    pub(super) since: Option<Nanos>,
}

impl BadStretches {
    /// Of a leg that goes on: what failed in it, and where zones were put off.
    pub(super) fn of(later: Vec<Failure>, cuts: Vec<Bytes>) -> Self {
        Self { later, cuts, ..Self::default() }
    }

    /// From which bytes on zones were put off.
    pub(super) fn cuts(&self) -> &[Bytes] {
        &self.cuts
    }

    /// Takes in that a transfer begins, when the run has gone past so many bytes; `last` says whether it goes over what was put off.
    pub(super) fn begin(&mut self, now: Nanos, gone: u64, last: bool) {
        (self.failures, self.began, self.window, self.slower) = (0, now, (now, gone), None);
        if last {
            self.since.get_or_insert(now);
        }
    }

    /// Takes in that a zone of so many bytes was read to its end.
    pub(super) fn over(&mut self, now: Nanos, bytes: Bytes) {
        let pace = now.since(self.began).secs() / bytes.0.max(1) as f64;
        self.paces.insert(self.paces.partition_point(|p| *p < pace), pace);
    }

    /// Looks at the rate of the zone underway, once in a while.
    pub(super) fn look_at_rate(&mut self, now: Nanos, gone: u64) {
        let (since, behind) = self.window;
        if now.since(since) < LONG || self.paces.len() < ZONES_KNOWN {
            return;
        }
        let usual = self.paces[self.paces.len() / 2];
        // Without end where nothing came, which the cast below makes the largest number.
        let slower = now.since(since).secs() / (gone.saturating_sub(behind) as f64 * usual);
        self.window = (now, gone);
        self.slower = self.slower.or((slower >= SLOWER).then_some(slower as u32));
    }

    /// Whether enough failed in the transfer underway, or it is slow enough, to go on elsewhere.
    pub(super) fn is_enough(&self, now: Nanos) -> bool {
        // What was put off is tried here and there.
        let most = if self.since.is_some() { FAILURES_LAST } else { FAILURES };
        self.slower.is_some() || self.failures >= most || self.failures > 0 && now.since(self.began) >= LONG
    }

    /// What is left of the time for bad stretches.
    pub(super) fn left(&self, work: &PlannedTransfer, now: Nanos) -> Nanos {
        let limit = work.bad_time.unwrap_or(BAD_TIME);
        Nanos(limit.0.saturating_sub(self.since.map_or(0, |since| now.since(since).0)))
    }
}
