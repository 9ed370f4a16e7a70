//! The health of a drive over time: what its counters were, what changed, what tests cost it, and how long it will last.
//!
//! Nothing here is a score. A [`Snapshot`] holds what a drive told at one moment, as counters with fixed meanings whatever standard they were told in; a [`History`] is the
//! snapshots of one drive in the order of time.

pub mod changes;
pub mod ledger;
pub mod projection;

use crate::units::{Bytes, thousands};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Seconds of a day.
pub const DAY: f64 = 86_400.0;
/// Times the usual distance of snapshots, and days, beyond which there is a gap.
const GAP: (f64, f64) = (4.0, 14.0);

/// What a drive counts. The names are those of the open format (docs/formats.md).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Counter {
    /// Blocks that could not be read and wait to be written.
    PendingSectors,
    /// Blocks that could not be read when the drive looked for such.
    UncorrectableSectors,
    /// Errors of the medium that could not be corrected.
    MediaErrors,
    /// Blocks that were replaced by spare ones.
    ReallocatedSectors,
    /// Self-tests that failed, in the list that the drive keeps.
    FailedSelfTests,
    /// Errors on the way between host and drive.
    LinkErrors,
    /// Commands that took too long.
    CommandTimeouts,
    /// Entries that the error log has had.
    ErrorLogEntries,
    /// Spare blocks left, percent.
    SparePct,
    /// Spare below which the drive warns, percent.
    SpareThresholdPct,
    /// Times that power was lost without warning.
    UnsafeShutdowns,
    /// Minutes at or above the critical temperature.
    MinutesAboveCritical,
    /// Minutes at or above the warning temperature.
    MinutesAboveWarning,
    /// Times heavily throttled by heat.
    HeavyThrottles,
    /// Seconds heavily throttled.
    HeavyThrottleSeconds,
    /// Times lightly throttled by heat.
    LightThrottles,
    /// Seconds lightly throttled.
    LightThrottleSeconds,
    /// Share of the rated life used, percent; may pass 100.
    UsedPct,
    /// Bytes that the host has written.
    WrittenBytes,
    /// Bytes that the host has read.
    ReadBytes,
    /// Bytes that were written to flash.
    FlashWrittenBytes,
    /// Power cycles.
    PowerCycles,
    /// Hours powered on.
    PowerOnHours,
}

impl Counter {
    /// All of them, what matters most first.
    pub const ALL: [Self; 23] = [
        Self::PendingSectors,
        Self::UncorrectableSectors,
        Self::MediaErrors,
        Self::ReallocatedSectors,
        Self::FailedSelfTests,
        Self::LinkErrors,
        Self::CommandTimeouts,
        Self::ErrorLogEntries,
        Self::SparePct,
        Self::SpareThresholdPct,
        Self::UnsafeShutdowns,
        Self::MinutesAboveCritical,
        Self::MinutesAboveWarning,
        Self::HeavyThrottles,
        Self::HeavyThrottleSeconds,
        Self::LightThrottles,
        Self::LightThrottleSeconds,
        Self::UsedPct,
        Self::WrittenBytes,
        Self::ReadBytes,
        Self::FlashWrittenBytes,
        Self::PowerCycles,
        Self::PowerOnHours,
    ];

    /// What it counts, as a name in the plural.
    pub fn words(self) -> &'static str {
        match self {
            Self::PendingSectors => "sectors waiting for reallocation",
            Self::UncorrectableSectors => "sectors uncorrectable offline",
            Self::MediaErrors => "uncorrected media errors",
            Self::ReallocatedSectors => "reallocated sectors",
            Self::FailedSelfTests => "failed self-tests",
            Self::LinkErrors => "errors on the link",
            Self::CommandTimeouts => "commands that timed out",
            Self::ErrorLogEntries => "entries in the error log",
            Self::SparePct => "spare left, percent",
            Self::SpareThresholdPct => "spare threshold, percent",
            Self::UnsafeShutdowns => "unsafe shutdowns",
            Self::MinutesAboveCritical => "minutes above the critical temperature",
            Self::MinutesAboveWarning => "minutes above the warning temperature",
            Self::HeavyThrottles => "times heavily throttled",
            Self::HeavyThrottleSeconds => "seconds heavily throttled",
            Self::LightThrottles => "times lightly throttled",
            Self::LightThrottleSeconds => "seconds lightly throttled",
            Self::UsedPct => "life used, percent",
            Self::WrittenBytes => "bytes written",
            Self::ReadBytes => "bytes read",
            Self::FlashWrittenBytes => "bytes written to flash",
            Self::PowerCycles => "power cycles",
            Self::PowerOnHours => "hours powered on",
        }
    }

    /// The counter that a name means in a course: that of the open format with blanks or underscores, or a short one.
    pub fn named(name: &str) -> Option<Self> {
        let name = name.trim().to_lowercase().replace([' ', '-'], "_");
        match name.as_str() {
            "reallocated" => return Some(Self::ReallocatedSectors),
            "pending" => return Some(Self::PendingSectors),
            "uncorrectable" => return Some(Self::UncorrectableSectors),
            "spare" => return Some(Self::SparePct),
            "life_used" => return Some(Self::UsedPct),
            _ => {}
        }
        Self::ALL.into_iter().find(|c| format_name(*c) == name)
    }

    /// Whether it is counted in bytes.
    pub fn is_bytes(self) -> bool {
        matches!(self, Self::WrittenBytes | Self::ReadBytes | Self::FlashWrittenBytes)
    }

    /// Whether it only ever grows. The others are levels, or lists that forget.
    pub fn is_sum(self) -> bool {
        !matches!(
            self,
            Self::SparePct
                | Self::SpareThresholdPct
                | Self::PendingSectors
                | Self::UncorrectableSectors
                | Self::FailedSelfTests
        )
    }
}

/// A value in its unit.
pub fn value(counter: Counter, v: u64) -> String {
    match counter {
        Counter::WrittenBytes | Counter::ReadBytes | Counter::FlashWrittenBytes => Bytes(v).to_string(),
        Counter::UsedPct | Counter::SparePct | Counter::SpareThresholdPct => format!("{v} %"),
        _ => thousands(&v.to_string()),
    }
}

/// The name of a counter in the open format: its words in small letters, joined by underscores.
fn format_name(counter: Counter) -> String {
    let mut name = String::new();
    for c in format!("{counter:?}").chars() {
        if c.is_ascii_uppercase() && !name.is_empty() {
            name.push('_');
        }
        name.push(c.to_ascii_lowercase());
    }
    name
}

/// A test that a drive does of itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SelfTestKind {
    /// Of minutes: electronics, and a part of the medium.
    Short,
    /// All of the medium.
    Extended,
    /// For damage on the way here; ATA only.
    Conveyance,
    /// A stretch of the medium; ATA only.
    Selective,
}

impl SelfTestKind {
    /// The word in a course.
    pub fn word(self) -> &'static str {
        match self {
            Self::Short => "short",
            Self::Extended => "extended",
            Self::Conveyance => "conveyance",
            Self::Selective => "selective",
        }
    }
}

/// A test of itself that a drive did not pass, and the first block of it that failed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FailedTest {
    /// Its kind, as a word.
    pub test: String,
    /// First byte of the block.
    pub start_byte: u64,
    /// One past its last byte.
    pub end_byte: u64,
    /// How the drive says that it ended.
    pub words: String,
}

/// Where a snapshot comes from.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Origin {
    /// It was kept on request, or by a watch.
    #[default]
    Kept,
    /// It was read in a run.
    Run {
        /// The run.
        run: i64,
        /// At which moment of it.
        moment: Moment,
    },
    /// It was imported.
    Imported,
}

/// A moment of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the names say it")]
pub enum Moment {
    Before,
    During,
    After,
}

/// What a drive told of itself at one moment. What it did not tell is missing, never 0.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Snapshot {
    /// When, seconds since 1970-01-01 UTC.
    pub at: i64,
    /// Where it comes from.
    #[serde(default)]
    pub origin: Origin,
    /// Firmware revision.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firmware: Option<String>,
    /// Where the drive was attached.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<String>,
    /// Temperature, °C.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature_c: Option<f64>,
    /// Highest temperature of its life, °C.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub highest_c: Option<f64>,
    /// What the drive itself warns of, in words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// Its counters.
    #[serde(default)]
    pub counters: BTreeMap<Counter, u64>,
}

impl Snapshot {
    /// A counter, where the drive told it.
    pub fn get(&self, counter: Counter) -> Option<u64> {
        self.counters.get(&counter).copied()
    }
}

/// Something in a history that has to be known to read it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Remark {
    /// When, seconds since 1970-01-01 UTC.
    pub at: i64,
    /// What, in a sentence without its full stop.
    pub what: String,
}

/// The snapshots of one drive.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct History {
    /// In the order of time, no two of the same moment and origin.
    snapshots: Vec<Snapshot>,
}

/// A stretch of a counter without a step back, in days and in what it counts; wraps are taken out.
pub type Series = Vec<(f64, f64)>;

impl History {
    /// Of snapshots in any order.
    pub fn new(mut snapshots: Vec<Snapshot>) -> Self {
        // A run may be over within the second in which it began.
        let of_run = |s: &Snapshot| match s.origin {
            Origin::Run { run, moment } => Some((run, moment)),
            Origin::Kept | Origin::Imported => None,
        };
        snapshots.sort_by_key(|s| (s.at, of_run(s)));
        snapshots.dedup_by(|b, a| a.at == b.at && a.origin == b.origin);
        Self { snapshots }
    }

    /// The snapshots, in the order of time.
    pub fn snapshots(&self) -> &[Snapshot] {
        &self.snapshots
    }

    /// From the first to the last snapshot, days.
    pub fn days(&self) -> f64 {
        match (self.snapshots.first(), self.snapshots.last()) {
            (Some(a), Some(b)) => (b.at - a.at) as f64 / DAY,
            _ => 0.0,
        }
    }

    /// What a counter really counted, with the snapshot and the number of its stretch: a new one begins where the counter stepped back in a way that is no wrap, and where it may have wrapped
    /// unseen.
    fn counted(&self, counter: Counter) -> Vec<(usize, usize, f64)> {
        let told: Vec<(usize, u64)> =
            self.snapshots.iter().enumerate().filter_map(|(i, s)| Some((i, s.get(counter)?))).collect();
        let steps = self.steps(counter);
        let (mut stretch, mut added) = (0, 0.0);
        told.iter()
            .enumerate()
            .map(|(n, &(i, value))| {
                match n.checked_sub(1).map(|before| steps[before]) {
                    Some(Step::Wrap(size)) => added += size,
                    Some(Step::Back | Step::Unseen) => (stretch, added) = (stretch + 1, 0.0),
                    Some(Step::Plain) | None => {}
                }
                (i, stretch, value as f64 + added)
            })
            .collect()
    }

    /// What happened to a counter between each two snapshots that have it.
    fn steps(&self, counter: Counter) -> Vec<Step> {
        let told: Vec<(f64, f64)> =
            self.snapshots.iter().filter_map(|s| Some((s.at as f64 / DAY, s.get(counter)? as f64))).collect();
        let days = |w: &[(f64, f64)]| (w[1].0 - w[0].0).max(1e-6);
        let up = || told.windows(2).filter(|w| w[1].1 >= w[0].1);
        let fastest = up().map(|w| (w[1].1 - w[0].1) / days(w)).fold(0.0, f64::max);
        let mean = up().map(|w| w[1].1 - w[0].1).sum::<f64>() / up().map(days).sum::<f64>().max(1e-6);
        let mut steps: Vec<Step> = told
            .windows(2)
            .map(|w| match wrapped(w[0].1, w[1].1, 4.0 * fastest * days(w)) {
                _ if w[1].1 >= w[0].1 || !counter.is_sum() => Step::Plain,
                Some(size) => Step::Wrap(size),
                None => Step::Back,
            })
            .collect();
        // Of a counter that is known to wrap, a long time between two looks hides how often it did.
        let size = steps.iter().find_map(|s| if let Step::Wrap(size) = s { Some(*size) } else { None });
        if let Some(size) = size {
            for (step, w) in steps.iter_mut().zip(told.windows(2)).filter(|s| *s.0 == Step::Back) {
                if size - w[0].1 + w[1].1 <= 4.0 * fastest * days(w) {
                    *step = Step::Wrap(size);
                }
            }
            for (step, w) in steps.iter_mut().zip(told.windows(2)) {
                if mean * days(w) > size / 4.0 {
                    *step = Step::Unseen;
                }
            }
        }
        steps
    }

    /// A counter over time, in stretches.
    pub fn series(&self, counter: Counter) -> Vec<Series> {
        let mut all: Vec<Series> = Vec::new();
        for (i, stretch, value) in self.counted(counter) {
            all.resize(all.len().max(stretch + 1), Vec::new());
            all[stretch].push((self.snapshots[i].at as f64 / DAY, value));
        }
        all
    }

    /// What has to be known to read it: gaps, a firmware that was replaced, counters that went back or began anew from 0.
    pub fn remarks(&self) -> Vec<Remark> {
        let mut all = Vec::new();
        let mut apart: Vec<f64> =
            self.snapshots.windows(2).map(|w| (w[1].at - w[0].at) as f64 / DAY).collect();
        apart.sort_by(f64::total_cmp);
        let usual = apart.get(apart.len() / 2).copied().unwrap_or(0.0);
        for pair in self.snapshots.windows(2) {
            let (a, b) = (&pair[0], &pair[1]);
            let days = (b.at - a.at) as f64 / DAY;
            if days > GAP.1 && days > GAP.0 * usual {
                all.push(Remark { at: a.at, what: format!("nothing was read for {days:.0} days") });
            }
            if let (Some(old), Some(new)) = (&a.firmware, &b.firmware)
                && old != new
            {
                all.push(Remark { at: b.at, what: format!("the firmware was replaced: {old} by {new}") });
            }
            if let (Some(old), Some(new)) = (&a.port, &b.port)
                && old != new
            {
                all.push(Remark { at: b.at, what: format!("the drive moved from {old} to {new}") });
            }
        }
        for counter in Counter::ALL.into_iter().filter(|c| c.is_sum()) {
            let told: Vec<(i64, u64)> =
                self.snapshots.iter().filter_map(|s| Some((s.at, s.get(counter)?))).collect();
            let name = counter.words();
            for (step, pair) in self.steps(counter).iter().zip(told.windows(2)) {
                let (before, after) = (pair[0].1, pair[1].1);
                let what = match step {
                    Step::Plain => continue,
                    Step::Wrap(_) => format!("the counter of {name} was full and began again at 0"),
                    Step::Unseen => format!(
                        "the counter of {name} may have been full meanwhile: it is counted anew from here"
                    ),
                    Step::Back => {
                        let [before, after] = [before, after].map(|v| value(counter, v));
                        format!("{name} went back, from {before} to {after}: they are counted anew from here")
                    }
                };
                all.push(Remark { at: pair[1].0, what });
            }
        }
        all.sort_by_key(|r| r.at);
        all
    }
}

/// What happened to a counter between two snapshots.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Step {
    /// It grew, or is no sum.
    Plain,
    /// It was full and began again at 0; its size.
    Wrap(f64),
    /// It stepped back.
    Back,
    /// It may have been full once or several times.
    Unseen,
}

/// The size of a counter that was full between two values, where that is what happened: it was in the last quarter of a counter of 16, 32 or 48 bits, in a unit in which
/// drives count, and what it then grew by is at most `most`.
fn wrapped(before: f64, after: f64, most: f64) -> Option<f64> {
    /// Units in which bytes are counted: none, blocks, pages, 64 KiB, MiB, 32 MiB, and the 1,000 blocks of NVMe.
    const UNITS: [u64; 7] = [1, 512, 4096, 65_536, 1 << 20, 32 << 20, 512_000];
    let sizes = [16, 32, 48].into_iter().flat_map(|bits| UNITS.map(|u| 2_f64.powi(bits) * u as f64));
    let fits = |size: &f64| {
        before < *size && before >= 0.75 * size && after <= 0.25 * size && size - before + after <= most
    };
    sizes.filter(fits).min_by(f64::total_cmp)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(day: i64, counters: &[(Counter, u64)]) -> Snapshot {
        Snapshot { at: day * 86_400, counters: counters.iter().copied().collect(), ..Snapshot::default() }
    }

    #[test]
    fn a_counter_that_was_full_goes_on_and_one_that_was_reset_begins_anew() {
        let c = Counter::WrittenBytes;
        let full = 512_u64 << 32;
        let history = History::new(
            [(0, full - 300), (10, full - 200), (20, full - 100), (30, 5), (40, 100)]
                .map(|(day, v)| at(day, &[(c, v)]))
                .to_vec(),
        );
        let series = history.series(c);
        assert_eq!(series.len(), 1);
        assert_eq!(series[0].last().unwrap().1 - series[0][0].1, 400.0);
        assert!(history.remarks()[0].what.contains("was full"), "{:?}", history.remarks());
        // The same step back where nothing is near the end of any counter.
        let reset = History::new(
            [(0, 3000), (10, 4000), (20, 10), (30, 900)].map(|(d, v)| at(d, &[(c, v)])).to_vec(),
        );
        assert_eq!(reset.series(c).iter().map(Vec::len).collect::<Vec<_>>(), [2, 2]);
        assert!(reset.remarks()[0].what.contains("went back"));
    }

    #[test]
    fn counters_are_known_by_their_names_in_the_format_and_by_short_ones() {
        for counter in Counter::ALL {
            let name = format_name(counter);
            assert_eq!(serde_json::to_value(counter).unwrap(), name);
            assert_eq!(Counter::named(&name.replace('_', " ")), Some(counter));
        }
        assert_eq!(Counter::named("Reallocated"), Some(Counter::ReallocatedSectors));
        assert_eq!(Counter::named("probe"), None);
    }

    #[test]
    fn gaps_firmware_and_a_move_are_told() {
        let mut all: Vec<Snapshot> = (0..10).map(|i| at(i * 7, &[(Counter::PowerCycles, 5)])).collect();
        all.push(at(160, &[(Counter::PowerCycles, 6)]));
        all.iter_mut().for_each(|s| s.firmware = Some(if s.at < 30 * 86_400 { "A1" } else { "A2" }.into()));
        let said: Vec<String> = History::new(all).remarks().into_iter().map(|r| r.what).collect();
        assert_eq!(said, ["the firmware was replaced: A1 by A2", "nothing was read for 97 days"]);
    }
}
