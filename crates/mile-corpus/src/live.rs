//! How a run underway is told: what is announced, what of that is taken back, and how late it comes.

use crate::{Case, score};
use mile_core::channel::Tells;
use mile_core::findings::Break;
use mile_core::live::{LiveFindings, News, Whole};
use mile_core::{Findings, findings};

/// What was told while runs were underway.
#[derive(Clone, Debug, Default)]
pub struct Live {
    /// Breaks that were announced.
    pub announced: usize,
    /// Of those, the ones that were taken back.
    pub withdrawn: usize,
    /// The ones that became part of a pattern or of a longer change, which says the same of them.
    pub joined: usize,
    /// And the ones that were put down to a cause, and clearly so, and have another one in the findings of the whole run.
    pub changed: usize,
    /// For each break that the world knows of and that was announced: seconds, and samples, from its end to when it was told.
    pub delays: Vec<(f64, f64)>,
    /// Samples of the runs.
    pub samples: usize,
    /// Runs at whose end whoever watched saw something else than their findings say.
    pub differ: usize,
    /// What was told, and when, for whoever looks for a reason.
    pub story: Vec<String>,
}

impl Live {
    /// Adds what another told.
    pub fn add(&mut self, other: Self) {
        self.announced += other.announced;
        self.withdrawn += other.withdrawn;
        self.joined += other.joined;
        self.changed += other.changed;
        self.samples += other.samples;
        self.differ += other.differ;
        self.delays.extend(other.delays);
    }

    /// Share of what was announced that was taken back or became another cause.
    pub fn taken_back(&self) -> f64 {
        (self.withdrawn + self.changed) as f64 / self.announced.max(1) as f64
    }

    /// Delay that a share `q` of the breaks stays under, in seconds and in samples.
    pub fn delay(&self, q: f64) -> (f64, f64) {
        let at = |of: fn(&(f64, f64)) -> f64| {
            let mut all: Vec<f64> = self.delays.iter().map(of).collect();
            all.sort_by(f64::total_cmp);
            all.get(((all.len().max(1) - 1) as f64 * q).round() as usize).copied().unwrap_or(0.0)
        };
        (at(|d| d.0), at(|d| d.1))
    }

    /// Share of the breaks that are told within 8 s or 32 samples.
    pub fn in_time(&self) -> f64 {
        let soon = self.delays.iter().filter(|d| d.0 <= 8.0 || d.1 <= 32.0).count();
        soon as f64 / self.delays.len().max(1) as f64
    }
}

/// What was announced, and when.
struct Told {
    found: Break,
    now: f64,
}

/// Plays a case as if it were underway. What is announced only at its end was not announced underway, and does not count.
pub fn live(case: &Case) -> Live {
    let mut live = LiveFindings::new(case.context.clone());
    let mut told: Vec<Told> = Vec::new();
    let mut out = Live { samples: case.samples.len(), ..Live::default() };
    let interval = case.hours() * 3600.0 / case.samples.len().max(1) as f64;
    let mut power = case.power.iter().peekable();
    for s in &case.samples {
        while let Some(reading) = power.next_if(|r| r.at <= s.end) {
            live.push_reading(Tells::Power, *reading);
        }
        live.push(s, &case.names[s.leg as usize]);
        for news in live.news() {
            let now = s.end.secs();
            let (what, b) = match &news {
                News::Announced(b) => ("announced", b),
                News::Revised(b) => ("revised", b),
                News::Joined(b, Whole::Pattern) => ("told with a pattern:", b),
                News::Joined(b, Whole::Change) => ("told with a longer change:", b),
                News::Withdrawn(b) => ("withdrawn", b),
            };
            out.story.push(format!("{now:.0} s: {what} {}", b.sentence()));
            match news {
                News::Announced(b) => told.push(Told { found: b, now }),
                News::Joined(..) => out.joined += 1,
                News::Withdrawn(_) => out.withdrawn += 1,
                News::Revised(_) => {}
            }
        }
    }
    out.announced = told.len();
    let (news, last) = live.close();
    out.withdrawn += news.iter().filter(|n| matches!(n, News::Withdrawn(_))).count();
    out.joined += news.iter().filter(|n| matches!(n, News::Joined(..))).count();
    out.changed = changed(&told, &last, interval);
    out.story.extend(last.breaks.iter().map(|b| format!("at the end: {}", b.sentence())));
    let is_alike = last == findings(&case.trace(), &case.context) && live.breaks() == last.breaks;
    out.differ = usize::from(!is_alike);
    for (_, t, _) in score::pairs(case, &last) {
        let truth = &case.truth.breaks[t];
        let near = (3.0 * interval).max(0.02 * truth.start_s).max(3.0);
        let first = told
            .iter()
            .filter(|a| a.found.at_s >= truth.start_s - near && a.found.at_s <= truth.end_s + near)
            .map(|a| a.now)
            .min_by(f64::total_cmp);
        if let Some(when) = first {
            let late = (when - truth.end_s).max(0.0);
            out.delays.push((late, late / interval));
        }
    }
    out
}

/// How many that were announced have another cause in the end.
fn changed(told: &[Told], last: &Findings, interval: f64) -> usize {
    let near = (8.0 * interval).max(3.0);
    told.iter()
        .map(|t| &t.found)
        .filter(|t| {
            let own = last.breaks.iter().filter(|b| {
                (b.at_s - t.at_s).abs() <= near || (b.low_bytes <= t.at_bytes && t.at_bytes <= b.high_bytes)
            });
            let nearest = own.min_by(|a, b| (a.at_s - t.at_s).abs().total_cmp(&(b.at_s - t.at_s).abs()));
            t.is_clear() && nearest.is_some_and(|b| b.cause != t.cause)
        })
        .count()
}
