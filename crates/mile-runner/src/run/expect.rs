//! What is expected before a run goes on.

use super::ends::{Guarded, LegEnd, Watch};
use super::state::Run;
use mile_core::{Nanos, Op};
use mile_course::{PlannedLeg, Seen};
use mile_drive::DriveError;

impl Run<'_> {
    /// Waits, without load, until something that is expected has come true; stops the run as a guard does where nothing of it has in its time.
    pub(super) fn expect(
        &mut self,
        index: u32,
        leg: &PlannedLeg,
        began: Nanos,
    ) -> Result<LegEnd, DriveError> {
        let mut paused = Nanos(0);
        let mut watch = Watch::new(&leg.seen, self.drive.now(), 0, self.errors);
        let end = loop {
            if let Some(why) = self.seen(&mut watch) {
                break LegEnd::Planned(why);
            }
            let deadline = leg.time.map(|t| began.plus(t).plus(paused));
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                break LegEnd::Guarded(Guarded::Other(self.in_vain(leg)));
            }
            let until = self.slice_end(deadline);
            self.drive.idle(until);
            if let Some(end) = self.after_slice(index, Op::Idle)? {
                return Ok(end);
            }
            if self.paused {
                match self.pause(index)? {
                    (Some(end), _) => return Ok(end),
                    (None, time) => paused = paused.plus(time),
                }
            }
        };
        self.close_sample(index, Op::Idle);
        Ok(end)
    }

    /// What did not come true, and what was read instead.
    fn in_vain(&self, leg: &PlannedLeg) -> String {
        let one = |seen: &Seen| {
            let found = match seen {
                Seen::Channel(threshold, _) => self.value_of(&threshold.channel).map(|v| {
                    let unit = if threshold.unit.is_empty() { "" } else { " " };
                    format!("{}{unit}{}", mile_core::units::number(v), threshold.unit)
                }),
                _ => self.last.temp.map(|t| t.to_string()),
            };
            format!("{} ({})", seen.words(), found.unwrap_or_else(|| "there was no reading".into()))
        };
        let all: Vec<String> = leg.seen.iter().map(one).collect();
        format!(
            "leg {} expected {}, which did not come true in {}",
            leg.name,
            all.join(" or "),
            leg.time.unwrap_or_default()
        )
    }
}
