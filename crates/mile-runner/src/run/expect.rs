//! What is expected before a run goes on.

use super::ends::{Guarded, LegEnd};
use super::state::Run;
use mile_core::Nanos;
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
        let seen = self.wait(index, leg, began)?;
        Ok(seen.unwrap_or_else(|| LegEnd::Guarded(Guarded::Other(self.in_vain(leg)))))
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
