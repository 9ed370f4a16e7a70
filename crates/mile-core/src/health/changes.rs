//! What is different between two moments of a drive, worst first, and what that means by whose account.

use super::{Counter, Snapshot, value};
use crate::units::Bytes;
use serde::{Deserialize, Serialize};

/// Something that changed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Change {
    /// How much it matters: 0 is data lost or about to be, 1 a part that wears or a link that fails, 2 something to know, 3 what every use changes.
    pub rank: u8,
    /// What, in a sentence without its full stop.
    pub what: String,
    /// What it means; `None` for what every use changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub means: Option<String>,
    /// Where that is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
}

const NVME: &str = "NVM Express Base Specification 2.0, SMART / Health Information log";
const BOTH: &str = "NVM Express Base Specification 2.0, SMART / Health Information log; ATA Command Set 4 (ACS-4), Device Statistics log";
const ATA: &str = "ATA Command Set 4 (ACS-4), Device Statistics log";
const DISKS: &str =
    "Pinheiro, Weber and Barroso, \"Failure Trends in a Large Disk Drive Population\", FAST 2007";
const FLASH: &str = "Schroeder, Lagisetty and Merchant, \"Flash Reliability in Production\", FAST 2016";

/// How much a counter matters when it grows (or, for the spare, falls); what that means, and the source of it.
fn meaning(counter: Counter) -> (u8, Option<(&'static str, &'static str)>) {
    match counter {
        Counter::PendingSectors => (
            0,
            Some((
                "Blocks could not be read. They are replaced when they are next written; what was on them may be lost. Disks with such blocks failed many times as often in the following two months",
                DISKS,
            )),
        ),
        Counter::UncorrectableSectors => (
            0,
            Some((
                "The drive itself found blocks that it cannot read. Disks with scan errors failed many times as often in the following two months",
                DISKS,
            )),
        ),
        Counter::MediaErrors => (
            0,
            Some((
                "Data was lost or given wrongly, and the drive knows it: it could not correct what it read",
                BOTH,
            )),
        ),
        Counter::ReallocatedSectors => (
            1,
            Some((
                "Blocks were replaced by spare ones. A first one is a warning on a disk; on flash, drives on which blocks failed are likelier to have more of them fail",
                DISKS,
            )),
        ),
        Counter::FailedSelfTests => (0, Some(("The drive's own test of itself did not pass", ATA))),
        Counter::LinkErrors => (
            1,
            Some((
                "Data came over the link damaged and was sent again: most often the cable, the connector or the port, and not the drive",
                ATA,
            )),
        ),
        Counter::CommandTimeouts => {
            (1, Some(("Commands were not answered in time: often power or cable", ATA)))
        }
        Counter::ErrorLogEntries => (
            2,
            Some((
                "Commands ended with an error. Many are harmless, such as a command that the drive does not know",
                NVME,
            )),
        ),
        Counter::SparePct => (
            1,
            Some((
                "Spare blocks were used up. Below its threshold the drive warns, and may become read-only",
                NVME,
            )),
        ),
        Counter::UnsafeShutdowns => (2, Some(("Power went away before the drive was told", BOTH))),
        Counter::MinutesAboveCritical => (1, Some(("The drive was hotter than it may be", NVME))),
        Counter::MinutesAboveWarning | Counter::HeavyThrottles | Counter::LightThrottles => {
            (2, Some(("Heat slowed the drive, or came near to that", NVME)))
        }
        Counter::UsedPct => (
            2,
            Some((
                "The maker's estimate of the life used. At 100 it has done what it was rated for, which is no failure",
                BOTH,
            )),
        ),
        Counter::HeavyThrottleSeconds
        | Counter::LightThrottleSeconds
        | Counter::SpareThresholdPct
        | Counter::WrittenBytes
        | Counter::ReadBytes
        | Counter::FlashWrittenBytes
        | Counter::PowerCycles
        | Counter::PowerOnHours => (3, None),
    }
}

fn sentence(counter: Counter, from: u64, to: u64) -> String {
    let (a, b) = (value(counter, from), value(counter, to));
    let name = counter.words().trim_end_matches(", percent");
    // Of sums so large that the difference is lost in their digits.
    let is_bytes = matches!(counter, Counter::WrittenBytes | Counter::ReadBytes | Counter::FlashWrittenBytes);
    let more = if is_bytes && to > from { format!(" ({} more)", Bytes(to - from)) } else { String::new() };
    format!("{name}: {b}, after {a}{more}")
}

/// What is different in `after`, worst first; within a rank in the order of [`Counter::ALL`]. Flash wear counted in percent and steps back of sums, which are no news of
/// the drive, are said as well.
pub fn changes(before: &Snapshot, after: &Snapshot) -> Vec<Change> {
    let mut all: Vec<Change> = Vec::new();
    let plain = |rank, what: String| Change { rank, what, means: None, source: None };
    for warning in after.warnings.iter().filter(|w| !before.warnings.contains(w)) {
        all.push(Change {
            source: Some(NVME.into()),
            means: Some("The drive itself asks for attention".into()),
            ..plain(0, format!("the drive now warns: {warning}"))
        });
    }
    for warning in before.warnings.iter().filter(|w| !after.warnings.contains(w)) {
        all.push(plain(2, format!("the drive no longer warns: {warning}")));
    }
    for counter in Counter::ALL {
        let (Some(a), Some(b)) = (before.get(counter), after.get(counter)) else { continue };
        if a == b {
            continue;
        }
        let worse = if counter == Counter::SparePct { b < a } else { b > a };
        let (rank, means) = meaning(counter);
        let what = sentence(counter, a, b);
        let mut change = plain(if worse { rank } else { rank.max(2) }, what);
        if let Some((means, source)) = means.filter(|_| worse) {
            change.means = Some(means.to_owned());
            let flash = matches!(counter, Counter::ReallocatedSectors);
            change.source = Some(if flash { format!("{source}; {FLASH}") } else { source.to_owned() });
        }
        all.push(change);
    }
    if let (Some(a), Some(b)) = (before.highest_c, after.highest_c)
        && b > a
    {
        all.push(plain(2, format!("a new highest temperature: {b:.0} °C, after {a:.0} °C")));
    }
    if let (Some(a), Some(b)) = (&before.firmware, &after.firmware)
        && a != b
    {
        all.push(plain(2, format!("the firmware was replaced: {a} by {b}")));
    }
    if let (Some(a), Some(b)) = (&before.port, &after.port)
        && a != b
    {
        all.push(plain(3, format!("the drive moved from {a} to {b}")));
    }
    all.sort_by_key(|c| c.rank);
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_matters_most_is_said_first_and_every_use_last() {
        let of = |all: &[(Counter, u64)]| Snapshot {
            counters: all.iter().copied().collect(),
            ..Snapshot::default()
        };
        let before = of(&[
            (Counter::PowerCycles, 10),
            (Counter::LinkErrors, 0),
            (Counter::PendingSectors, 0),
            (Counter::SparePct, 100),
            (Counter::WrittenBytes, 0),
            (Counter::UsedPct, 3),
        ]);
        let mut after = of(&[
            (Counter::PowerCycles, 12),
            (Counter::LinkErrors, 7),
            (Counter::PendingSectors, 8),
            (Counter::SparePct, 98),
            (Counter::WrittenBytes, 2_000_000_000_000),
            (Counter::UsedPct, 4),
        ]);
        after.warnings.push("a temperature is beyond a threshold".into());
        let said: Vec<(u8, String)> =
            changes(&before, &after).into_iter().map(|c| (c.rank, c.what)).collect();
        let wanted = [
            (0, "the drive now warns: a temperature is beyond a threshold"),
            (0, "sectors waiting for reallocation: 8, after 0"),
            (1, "errors on the link: 7, after 0"),
            (1, "spare left: 98 %, after 100 %"),
            (2, "life used: 4 %, after 3 %"),
            (3, "bytes written: 2.00 TB, after 0 B (2.00 TB more)"),
            (3, "power cycles: 12, after 10"),
        ];
        assert_eq!(said, wanted.map(|(r, w)| (r, w.to_owned())));
        // The other way round nothing is bad.
        assert!(changes(&after, &before).iter().all(|c| c.rank >= 2), "{:?}", changes(&after, &before));
        assert!(changes(&before, &before).is_empty());
        assert!(
            changes(&before, &after)
                .iter()
                .filter(|c| c.rank < 3)
                .all(|c| c.source.is_some() == c.means.is_some())
        );
    }
}
