//! What runs cost a drive: bytes of the host, bytes written to flash, share of the rated endurance, and steps of the life used.

use super::{Counter, History, Moment, Origin, Snapshot};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What one run cost, or several together.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Cost {
    /// Bytes that the host wrote, as the drive counted them.
    pub host_bytes: Option<u64>,
    /// Bytes that were written to flash, where the drive counts them.
    pub flash_bytes: Option<u64>,
    /// Share of the rated endurance, percent; where that is known.
    pub endurance_pct: Option<f64>,
    /// Steps of whole percent by which the life used grew.
    pub used_steps: Option<u64>,
    /// Hours powered on.
    pub hours: Option<u64>,
}

/// A line of the ledger.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// The run.
    pub run: i64,
    /// When it began, seconds since 1970-01-01 UTC.
    pub at: i64,
    /// Its course.
    pub course: String,
    /// What it cost.
    #[serde(flatten)]
    pub cost: Cost,
}

/// What runs cost, and what that comes to.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Ledger {
    /// By run, the oldest first.
    pub runs: Vec<Entry>,
    /// By course, in the order of the alphabet.
    pub courses: Vec<(String, Cost)>,
    /// All together.
    pub total: Cost,
}

/// Bytes written to flash over bytes that the host wrote.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Amplification {
    /// The ratio.
    pub ratio: f64,
    /// Its bounds, as both counters count in units.
    pub low: f64,
    /// Its bounds, as both counters count in units.
    pub high: f64,
}

fn sum(a: Option<u64>, b: Option<u64>) -> Option<u64> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.saturating_add(b)),
        (one, other) => one.or(other),
    }
}

impl Cost {
    fn between(before: &Snapshot, after: &Snapshot, endurance: Option<u64>) -> Self {
        let grew = |c: Counter| after.get(c)?.checked_sub(before.get(c)?);
        let host_bytes = grew(Counter::WrittenBytes);
        Self {
            host_bytes,
            flash_bytes: grew(Counter::FlashWrittenBytes),
            endurance_pct: host_bytes
                .zip(endurance.filter(|e| *e > 0))
                .map(|(b, e)| 100.0 * b as f64 / e as f64),
            used_steps: grew(Counter::UsedPct),
            hours: grew(Counter::PowerOnHours),
        }
    }

    fn add(&mut self, other: &Self) {
        self.host_bytes = sum(self.host_bytes, other.host_bytes);
        self.flash_bytes = sum(self.flash_bytes, other.flash_bytes);
        self.used_steps = sum(self.used_steps, other.used_steps);
        self.hours = sum(self.hours, other.hours);
        self.endurance_pct = match (self.endurance_pct, other.endurance_pct) {
            (Some(a), Some(b)) => Some(a + b),
            (one, other) => one.or(other),
        };
    }
}

/// What the runs of a history cost. `courses` has the course of each run. A run without a snapshot at its end costs what was seen of it last.
pub fn ledger(history: &History, courses: &BTreeMap<i64, String>, endurance: Option<u64>) -> Ledger {
    let mut runs: BTreeMap<i64, (&Snapshot, Option<&Snapshot>)> = BTreeMap::new();
    for snapshot in history.snapshots() {
        let Origin::Run { run, moment } = snapshot.origin else { continue };
        if moment == Moment::Before {
            runs.entry(run).or_insert((snapshot, None)).0 = snapshot;
        } else if let Some(known) = runs.get_mut(&run) {
            known.1 = Some(snapshot);
        }
    }
    let mut out = Ledger::default();
    let mut by_course: BTreeMap<String, Cost> = BTreeMap::new();
    for (run, (before, after)) in runs {
        let Some(after) = after else { continue };
        let cost = Cost::between(before, after, endurance);
        let course = courses.get(&run).cloned().unwrap_or_default();
        by_course.entry(course.clone()).or_default().add(&cost);
        out.total.add(&cost);
        out.runs.push(Entry { run, at: before.at, course, cost });
    }
    out.runs.sort_by_key(|e| e.at);
    out.courses = by_course.into_iter().collect();
    out
}

/// Write amplification over the longest stretch in which both counters grew; `None` where the drive does not count both, or the stretch is less than a hundred of the units
/// in which it counts.
pub fn amplification(history: &History) -> Option<Amplification> {
    let host: BTreeMap<usize, (usize, f64)> =
        history.counted(Counter::WrittenBytes).into_iter().map(|(i, stretch, v)| (i, (stretch, v))).collect();
    // Both at the same snapshots, with the stretches that they are in.
    let both: Vec<((usize, usize), f64, f64)> = history
        .counted(Counter::FlashWrittenBytes)
        .into_iter()
        .filter_map(|(i, stretch, v)| host.get(&i).map(|h| ((h.0, stretch), h.1, v)))
        .collect();
    let grew =
        |s: &[((usize, usize), f64, f64)]| s.last().map_or(0.0, |l| l.1) - s.first().map_or(0.0, |f| f.1);
    let longest = both.chunk_by(|a, b| a.0 == b.0).max_by(|a, b| grew(a).total_cmp(&grew(b)))?;
    let (first, last) = (longest.first()?, longest.last()?);
    let (host, flash) = (last.1 - first.1, last.2 - first.2);
    let unit = |counter: Counter| {
        history.snapshots().iter().filter_map(|s| s.get(counter)).fold(0, crate::units::common_divisor).max(1)
            as f64
    };
    let units = (unit(Counter::WrittenBytes), unit(Counter::FlashWrittenBytes));
    if host < 100.0 * units.0 || flash < 100.0 * units.1 {
        return None;
    }
    Some(Amplification {
        ratio: flash / host,
        low: (flash - units.1) / (host + units.0),
        high: (flash + units.1) / (host - units.0),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_cost_what_their_snapshots_differ_by_and_add_up() {
        let shot = |at: i64, run: i64, moment: Moment, written: u64, used: u64| Snapshot {
            at,
            origin: Origin::Run { run, moment },
            counters: [(Counter::WrittenBytes, written), (Counter::UsedPct, used)].into(),
            ..Snapshot::default()
        };
        let history = History::new(vec![
            shot(0, 1, Moment::Before, 100, 3),
            shot(10, 1, Moment::During, 150, 3),
            shot(20, 1, Moment::After, 400, 4),
            // Somebody else wrote between the runs.
            shot(90, 2, Moment::Before, 1000, 4),
            shot(99, 2, Moment::During, 1100, 4),
        ]);
        let names = [(1, "a".to_owned()), (2, "b".to_owned())].into();
        let found = ledger(&history, &names, Some(10_000));
        assert_eq!(found.runs.iter().map(|e| e.cost.host_bytes).collect::<Vec<_>>(), [Some(300), Some(100)]);
        assert_eq!(found.total.host_bytes, Some(400));
        assert_eq!(found.total.used_steps, Some(1));
        assert!((found.total.endurance_pct.unwrap() - 4.0).abs() < 1e-9);
        assert_eq!(found.courses[0], ("a".to_owned(), found.runs[0].cost.clone()));
        assert_eq!(found.total.flash_bytes, None, "never 0 where it is not known");
    }
}
