//! How far a run is, in words.

use mile_core::units::number;
use mile_core::{Bytes, Nanos, Op, Rate, Sample};
use mile_runner::{Event, EventKind, RunHead};
use std::collections::{HashMap, VecDeque};

/// Time over which the rate for the estimate is taken.
const RECENT: Nanos = Nanos(8_000_000_000);

/// What legs took together.
#[derive(Clone, Copy, Debug, Default)]
struct Took {
    legs: f64,
    seconds: f64,
    bytes: f64,
}

impl Took {
    fn add(&mut self, seconds: f64, bytes: f64) {
        self.legs += 1.0;
        self.seconds += seconds;
        self.bytes += bytes;
    }
}

/// Follows the messages of a run.
#[derive(Clone, Debug, Default)]
pub(crate) struct Progress {
    legs: Vec<String>,
    words: Vec<String>,
    budgets: Vec<Bytes>,
    times: Vec<Option<Nanos>>,
    leg: usize,
    leg_began: Nanos,
    now: Nanos,
    leg_moved: u64,
    /// Bytes that all legs before this one moved or gave up.
    settled: u64,
    recent: VecDeque<(Nanos, u64)>,
    /// What legs that are over took: those with the same words, and with the same load; how many, seconds, bytes.
    same: HashMap<String, Took>,
    alike: HashMap<String, Took>,
    loads: Vec<String>,
    /// Time that the legs behind this one will take, as far as that can be told.
    behind: Option<f64>,
    pub(crate) paused: bool,
    /// What the operator is asked.
    pub(crate) asked: Option<String>,
}

impl Progress {
    pub(crate) fn new(head: &RunHead) -> Self {
        Self {
            legs: head.legs.clone(),
            words: head.leg_words.clone(),
            budgets: head.leg_budgets.clone(),
            times: head.leg_times.clone(),
            loads: head.leg_loads.clone(),
            ..Self::default()
        }
    }

    pub(crate) fn event(&mut self, event: &Event) {
        match &event.kind {
            EventKind::LegBegan { leg, .. } => {
                self.settled = self.budgets.iter().take(*leg as usize).map(|b| b.0).sum();
                self.leg = *leg as usize;
                self.leg_moved = 0;
                (self.leg_began, self.now) = (event.at, event.at);
                self.recent.clear();
                self.behind = self.look_ahead();
            }
            EventKind::WentOn { leg, moved, .. } => {
                self.leg = *leg as usize;
                self.leg_moved = moved.0;
                (self.leg_began, self.now) = (event.at, event.at);
                self.recent.clear();
            }
            EventKind::Paused => self.paused = true,
            EventKind::Asked(text) => self.asked = Some(text.clone()),
            EventKind::LegEnded { .. } => {
                let (seconds, bytes) = (event.at.since(self.leg_began).secs(), self.leg_moved as f64);
                for (map, key) in
                    [(&mut self.same, self.words.get(self.leg)), (&mut self.alike, self.loads.get(self.leg))]
                {
                    if let Some(key) = key {
                        map.entry(key.clone()).or_default().add(seconds, bytes);
                    }
                }
                (self.paused, self.asked) = (false, None);
            }
            EventKind::Resumed => (self.paused, self.asked) = (false, None),
            _ => {}
        }
    }

    pub(crate) fn sample(&mut self, sample: &Sample) {
        self.leg_moved += sample.moved().0;
        self.now = sample.end;
        if sample.op == Op::Idle {
            return;
        }
        self.recent.push_back((sample.end, self.leg_moved));
        while self.recent.front().is_some_and(|f| sample.end.since(f.0) > RECENT) && self.recent.len() > 2 {
            self.recent.pop_front();
        }
    }

    fn budget(&self) -> u64 {
        self.budgets.get(self.leg).map_or(0, |b| b.0)
    }

    /// Share of the run's bytes that are moved, 0 to 1; `None` where the course moves none.
    pub(crate) fn share(&self) -> Option<f64> {
        let all: u64 = self.budgets.iter().map(|b| b.0).sum();
        (all > 0).then(|| ((self.settled + self.leg_moved) as f64 / all as f64).min(1.0))
    }

    /// Rate over the last seconds.
    pub(crate) fn rate(&self) -> Option<Rate> {
        let (first, last) = (self.recent.front()?, self.recent.back()?);
        Rate::over(Bytes(last.1 - first.1), last.0.since(first.0))
    }

    /// Time until this leg ends: until its time is over, or until its bytes are moved at the rate of the last seconds.
    pub(crate) fn left(&self) -> Option<Nanos> {
        let by_time =
            self.times.get(self.leg).copied().flatten().map(|t| self.leg_began.plus(t).since(self.now));
        match (by_time, self.left_by_bytes()) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        }
    }

    fn left_by_bytes(&self) -> Option<Nanos> {
        let rate = self.rate().filter(|r| r.0 > 0.0)?;
        let left = self.budget().checked_sub(self.leg_moved)?;
        (self.budget() > 0).then(|| Nanos::from_secs(left as f64 / rate.0))
    }

    /// Time that the legs behind this one will take, learned from those that are over; `None` where nothing is known of one.
    fn look_ahead(&self) -> Option<f64> {
        let of = |i: usize| {
            let budget = self.budgets.get(i).map_or(0.0, |b| b.0 as f64);
            let limit = self.times.get(i).copied().flatten().map(Nanos::secs);
            // What ends both in the same way takes the same time, in proportion to its bytes.
            if let Some(t) = self.words.get(i).and_then(|w| self.same.get(w)) {
                let mean = t.seconds / t.legs;
                let scale = if budget > 0.0 && t.bytes > 0.0 && limit.is_none() {
                    budget * t.legs / t.bytes
                } else {
                    1.0
                };
                return Some(mean * scale.min(4.0));
            }
            let pace = self.loads.get(i).and_then(|l| self.alike.get(l)).filter(|t| t.bytes > 0.0);
            let by_bytes = pace.filter(|_| budget > 0.0).map(|t| budget * t.seconds / t.bytes);
            match (limit, by_bytes) {
                (Some(a), Some(b)) => Some(a.min(b)),
                (a, b) => a.or(b).or((budget == 0.0).then_some(0.0)),
            }
        };
        (self.leg + 1..self.legs.len()).map(of).sum()
    }

    /// Time until the run ends, as far as that can be told.
    fn all_left(&self) -> Option<Nanos> {
        if self.leg + 1 >= self.legs.len() {
            return None;
        }
        let known = self.words.get(self.leg).and_then(|w| self.same.get(w));
        let elapsed = self.now.since(self.leg_began).secs();
        let by_earlier = known.map(|t| (t.seconds / t.legs - elapsed).max(0.0));
        let own = by_earlier.or(self.left().map(Nanos::secs))?;
        Some(Nanos::from_secs(own + self.behind?))
    }

    /// `Leg 2 of 3, soak: writing 1 MiB blocks, 16 deep. 612 of 1,600 GB, about 16 min left.`
    pub(crate) fn sentence(&self) -> String {
        let name = self.legs.get(self.leg).map_or("", String::as_str);
        if let Some(text) = &self.asked {
            return format!(
                "Leg {} of {}, {name}, asks: {text}. It waits for an answer; enter goes on.",
                self.leg + 1,
                self.legs.len()
            );
        }
        let words = self.words.get(self.leg).map_or("", String::as_str);
        let mut text = format!("Leg {} of {}, {name}: {words}.", self.leg + 1, self.legs.len());
        let moved = match (self.budget(), self.leg_moved) {
            (0, 0) => None,
            (0, moved) => Some(format!(" {} moved", Bytes(moved))),
            (budget, moved) => Some(format!(" {} of {}", amount(moved, budget), Bytes(budget))),
        };
        if let Some(moved) = moved {
            text.push_str(&moved);
            match self.left().filter(|_| !self.paused) {
                Some(left) => text.push_str(&format!(", about {} left.", roughly(left))),
                None => text.push('.'),
            }
        }
        if let Some(all) = self.all_left().filter(|_| !self.paused) {
            let open = text.trim_end_matches('.').len();
            text.truncate(open);
            text.push_str(&format!("; all of it about {}.", roughly(all)));
        }
        if self.paused {
            text.push_str(" Paused.");
        }
        text
    }
}

/// A part in the unit of its whole, without it: `612` of `1,600 GB`.
fn amount(part: u64, whole: u64) -> String {
    let unit = Bytes(whole).to_string();
    let factor = match unit.rsplit(' ').next() {
        Some("TB") => 1e12,
        Some("GB") => 1e9,
        Some("MB") => 1e6,
        _ => 1e3,
    };
    number(part as f64 / factor)
}

/// A time left, without digits that nobody can promise.
fn roughly(time: Nanos) -> String {
    let s = time.secs();
    match s {
        s if s < 10.0 => format!("{} s", s.ceil()),
        s if s < 100.0 => format!("{} s", (s / 5.0).ceil() * 5.0),
        s if s < 7200.0 => format!("{} min", (s / 60.0).round()),
        s => Nanos::from_secs((s / 300.0).round() * 300.0).to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sentence_says_leg_work_amount_and_time_left() {
        let head = RunHead {
            legs: vec!["settle".into(), "soak".into()],
            leg_words: vec!["resting".into(), "writing 1 MiB blocks, 16 deep".into()],
            leg_budgets: vec![Bytes(0), Bytes(1_600_000_000_000)],
            ..RunHead::default()
        };
        let mut progress = Progress::new(&head);
        let event = |kind| Event { at: Nanos(0), bytes: Bytes(0), kind };
        progress.event(&event(EventKind::LegBegan { leg: 1, name: "soak".into(), words: String::new() }));
        for i in 0..612 {
            progress.sample(&Sample {
                start: Nanos(i * 1_000_000_000),
                end: Nanos((i + 1) * 1_000_000_000),
                written: Bytes(1_000_000_000),
                ..Sample::default()
            });
        }
        assert_eq!(
            progress.sentence(),
            "Leg 2 of 2, soak: writing 1 MiB blocks, 16 deep. 612 of 1,600 GB, about 16 min left."
        );
        // A leg that only its time ends says how much it has moved, and how much of its time is left.
        let mut timed = Progress::new(&RunHead {
            leg_budgets: vec![Bytes(0), Bytes(0)],
            leg_times: vec![None, Some(Nanos::from_secs(7200.0))],
            ..head.clone()
        });
        timed.event(&event(EventKind::LegBegan { leg: 1, name: "soak".into(), words: String::new() }));
        timed.sample(&Sample {
            end: Nanos::from_secs(3600.0),
            written: Bytes(90_000_000_000),
            ..Sample::default()
        });
        assert!(
            timed.sentence().ends_with("16 deep. 90.0 GB moved, about 60 min left."),
            "{}",
            timed.sentence()
        );
        assert!((progress.share().unwrap() - 0.3825).abs() < 1e-9);
        progress.event(&event(EventKind::Paused));
        assert!(progress.sentence().ends_with("612 of 1,600 GB. Paused."));
    }
}
