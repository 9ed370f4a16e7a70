//! How far a run is, in words.

use mile_core::units::number;
use mile_core::{Bytes, Nanos, Op, Rate, Sample};
use mile_course::{PlannedLeg, Work};
use mile_runner::message::TestProgress;
use mile_runner::{Event, EventKind, LaneHead, RunHead};
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
    legs: Vec<PlannedLeg>,
    /// For each leg, the first that does and ends the same, and the first with the same load.
    same_as: Vec<usize>,
    alike_as: Vec<usize>,
    leg: usize,
    leg_began: Nanos,
    now: Nanos,
    leg_moved: u64,
    /// Bytes that all legs before this one moved or gave up.
    settled: u64,
    recent: VecDeque<(Nanos, u64)>,
    /// What legs that are over took: those that are the same, and those with the same load; how many, seconds, bytes.
    same: HashMap<usize, Took>,
    alike: HashMap<usize, Took>,
    /// Time that the legs behind this one will take, as far as that can be told.
    behind: Option<Left>,
    pub(crate) paused: bool,
    /// What the operator is asked.
    pub(crate) asked: Option<String>,
    /// How far the drive's own test of itself is.
    test: Option<TestProgress>,
}

/// A time until something ends.
#[derive(Clone, Copy, Debug)]
struct Left {
    seconds: f64,
    /// It goes by a limit of the course, and may be far shorter.
    at_most: bool,
}

impl Left {
    /// The sooner of a time after which a leg ends and of the time that its work takes, where they are known.
    fn sooner(limit: Option<f64>, leg: Option<&PlannedLeg>, work: Option<f64>) -> Option<Self> {
        let at_most = work.is_none() && leg.is_some_and(PlannedLeg::may_end_sooner);
        let seconds = limit.into_iter().chain(work).reduce(f64::min)?;
        Some(Self { seconds, at_most: at_most && limit.is_some() })
    }
}

impl std::ops::Add for Left {
    type Output = Self;

    fn add(self, other: Self) -> Self {
        Self { seconds: self.seconds + other.seconds, at_most: self.at_most || other.at_most }
    }
}

impl Progress {
    /// One for each lane of a run.
    pub(crate) fn of_lanes(head: &RunHead) -> Vec<Self> {
        head.lanes.iter().map(|lane| Self::of_legs(legs_beside(lane, &head.lanes))).collect()
    }

    fn of_legs(legs: Vec<PlannedLeg>) -> Self {
        // What is equal is written equally.
        let key = |leg: &PlannedLeg, ends: bool| {
            let ends = ends.then(|| leg.ends());
            serde_json::to_string(&(leg.load(), ends)).unwrap_or_default()
        };
        let first_of = |ends: bool| {
            let mut first: HashMap<String, usize> = HashMap::new();
            let legs = legs.iter().enumerate();
            legs.map(|(i, leg)| *first.entry(key(leg, ends)).or_insert(i)).collect()
        };
        let (same_as, alike_as) = (first_of(true), first_of(false));
        Self { legs, same_as, alike_as, ..Self::default() }
    }

    pub(crate) fn event(&mut self, event: &Event) {
        match &event.kind {
            EventKind::LegBegan { leg, .. } => {
                self.settled = self.legs.iter().take(*leg as usize).map(|l| l.budget().0).sum();
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
                for (map, first) in [(&mut self.same, &self.same_as), (&mut self.alike, &self.alike_as)] {
                    if let Some(first) = first.get(self.leg) {
                        map.entry(*first).or_default().add(seconds, bytes);
                    }
                }
                (self.paused, self.asked, self.test) = (false, None, None);
            }
            EventKind::Resumed => (self.paused, self.asked) = (false, None),
            _ => {}
        }
    }

    /// Takes in how far the drive's own test of itself is.
    pub(crate) fn test(&mut self, test: TestProgress) {
        self.now = self.now.max(self.leg_began.plus(test.ran));
        self.test = Some(test);
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
        self.legs.get(self.leg).map_or(0, |l| l.budget().0)
    }

    /// Share of the run's bytes that are moved, 0 to 1. Where only times end its legs, the share of its time; `None` where neither is known.
    pub(crate) fn share(&self) -> Option<f64> {
        let all: u64 = self.legs.iter().map(|l| l.budget().0).sum();
        if all > 0 {
            return Some(((self.settled + self.leg_moved) as f64 / all as f64).min(1.0));
        }
        let times: Vec<f64> =
            self.legs.iter().map(|l| l.longest().map(Nanos::secs)).collect::<Option<_>>()?;
        let all: f64 = times.iter().sum();
        let here = times.get(self.leg).map_or(0.0, |t| self.now.since(self.leg_began).secs().min(*t));
        (all > 0.0).then(|| (times.iter().take(self.leg).sum::<f64>() + here) / all)
    }

    /// Whether its leg puts a load on the drive.
    pub(crate) fn is_busy(&self) -> bool {
        self.legs.get(self.leg).is_some_and(|l| matches!(l.work, Work::Transfer(_) | Work::Files(_)))
    }

    fn is_watched(&self, leg: usize) -> bool {
        self.legs.get(leg).is_some_and(|l| l.work == Work::Watch)
    }

    /// Rate over the last seconds.
    pub(crate) fn rate(&self) -> Option<Rate> {
        let (first, last) = (self.recent.front()?, self.recent.back()?);
        Rate::over(Bytes(last.1 - first.1), last.0.since(first.0))
    }

    /// Time until this leg ends: until its time is over, or until its bytes are moved at the rate of the last seconds.
    fn left(&self) -> Option<Left> {
        let leg = self.legs.get(self.leg);
        let by_time = leg.and_then(PlannedLeg::longest).map(|t| self.leg_began.plus(t).since(self.now));
        let by_work = self.test.as_ref().and_then(TestProgress::left).or_else(|| self.left_by_bytes());
        Left::sooner(by_time.map(Nanos::secs), leg, by_work.map(Nanos::secs))
    }

    fn left_by_bytes(&self) -> Option<Nanos> {
        let rate = self.rate().filter(|r| r.0 > 0.0)?;
        let left = self.budget().checked_sub(self.leg_moved)?;
        (self.budget() > 0).then(|| Nanos::from_secs(left as f64 / rate.0))
    }

    /// Time that the legs behind this one will take, learned from those that are over; `None` where nothing is known of one.
    fn look_ahead(&self) -> Option<Left> {
        let of = |i: usize| {
            let budget = self.legs.get(i).map_or(0.0, |l| l.budget().0 as f64);
            let limit = self.legs.get(i).and_then(PlannedLeg::longest).map(Nanos::secs);
            // What ends both in the same way takes the same time, in proportion to its bytes.
            if let Some(t) = self.same_as.get(i).and_then(|w| self.same.get(w)) {
                let mean = t.seconds / t.legs;
                let scale = if budget > 0.0 && t.bytes > 0.0 && limit.is_none() {
                    budget * t.legs / t.bytes
                } else {
                    1.0
                };
                return Some(Left { seconds: mean * scale.min(4.0), at_most: false });
            }
            let pace = self.alike_as.get(i).and_then(|l| self.alike.get(l)).filter(|t| t.bytes > 0.0);
            let by_bytes = pace.filter(|_| budget > 0.0).map(|t| budget * t.seconds / t.bytes);
            // A flush is over at once; how long a lane is watched is up to the others.
            let at_once = budget == 0.0 && !self.is_watched(i);
            Left::sooner(limit, self.legs.get(i), by_bytes)
                .or(at_once.then_some(Left { seconds: 0.0, at_most: false }))
        };
        let none = Left { seconds: 0.0, at_most: false };
        (self.leg + 1..self.legs.len()).try_fold(none, |all, i| Some(all + of(i)?))
    }

    /// Time until the run ends, as far as that can be told.
    fn all_left(&self) -> Option<Left> {
        if self.leg + 1 >= self.legs.len() {
            return None;
        }
        let known = self.same_as.get(self.leg).and_then(|w| self.same.get(w));
        let elapsed = self.now.since(self.leg_began).secs();
        let by_earlier =
            known.map(|t| Left { seconds: (t.seconds / t.legs - elapsed).max(0.0), at_most: false });
        Some(by_earlier.or(self.left())? + self.behind?)
    }

    /// `Leg 2 of 3, soak: writing 1 MiB blocks, 16 deep. 612 of 1,600 GB, about 16 min left.`
    pub(crate) fn sentence(&self) -> String {
        let name = self.legs.get(self.leg).map_or("", |l| l.name.as_str());
        if let Some(text) = &self.asked {
            return format!(
                "Leg {} of {}, {name}, asks: {text}. It waits for an answer; enter goes on.",
                self.leg + 1,
                self.legs.len()
            );
        }
        let words = self.legs.get(self.leg).map_or(String::new(), PlannedLeg::words);
        let mut text = format!("Leg {} of {}, {name}: {words}.", self.leg + 1, self.legs.len());
        let moved = match (self.budget(), self.leg_moved) {
            (0, 0) => self.test.map(|t| format!(" {} % done", t.percent)),
            (0, moved) => Some(format!(" {} moved", Bytes(moved))),
            (budget, moved) => Some(format!(" {} of {}", amount(moved, budget), Bytes(budget))),
        };
        let left = self.left().filter(|_| !self.paused).map(|left| {
            let how = match (moved.is_some(), left.at_most) {
                (true, false) => ", about",
                (true, true) => ", at most",
                // Of a rest there is nothing else to say.
                (false, false) => " About",
                (false, true) => " At most",
            };
            format!("{how} {} left", roughly(left.seconds))
        });
        if moved.is_some() || left.is_some() {
            text.push_str(&(moved.unwrap_or_default() + &left.unwrap_or_default() + "."));
        }
        if let Some(all) = self.all_left().filter(|_| !self.paused) {
            let open = text.trim_end_matches('.').len();
            text.truncate(open);
            let how = if all.at_most { "within" } else { "in" };
            text.push_str(&format!("; the run ends {how} about {}.", roughly(all.seconds)));
        }
        if self.paused {
            text.push_str(" Paused.");
        }
        text
    }
}

/// The legs of a lane. One that it is only watched in takes as long as the longest on the other lanes, where that is known.
fn legs_beside(lane: &LaneHead, lanes: &[LaneHead]) -> Vec<PlannedLeg> {
    let mut legs = lane.legs.clone();
    for (i, leg) in legs.iter_mut().enumerate().filter(|(_, l)| l.work == Work::Watch) {
        let others = lanes.iter().filter_map(|l| l.legs.get(i)).filter(|l| l.work != Work::Watch);
        let longest: Option<Vec<Nanos>> = others.map(PlannedLeg::longest).collect();
        leg.time = longest.and_then(|t| t.into_iter().max());
    }
    legs
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
fn roughly(seconds: f64) -> String {
    match seconds {
        s if s < 10.0 => format!("{} s", s.ceil()),
        s if s < 100.0 => format!("{} s", (s / 5.0).ceil() * 5.0),
        s if s < 7200.0 => format!("{} min", (s / 60.0).round()),
        s => Nanos::from_secs((s / 300.0).round() * 300.0).to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FACTS: mile_course::DriveFacts = mile_course::DriveFacts {
        capacity: Bytes(2_000_000_000_000),
        logical_block: Bytes(512),
        has_temperature: true,
        readable: true,
        cache: None,
        files: None,
    };

    #[test]
    fn the_sentence_says_leg_work_amount_and_time_left() {
        let soak =
            "course \"c\"\nleg settle\n rest for 1 min\nleg soak\n write sequential, blocks 1 MiB, depth 16";
        let head = |end: &str| {
            let course = mile_course::parse(&format!("{soak}{end}\n")).unwrap();
            LaneHead { legs: mile_course::plan(&course, &FACTS).unwrap().legs, ..LaneHead::default() }
        };
        let timed = head(", for 2 h");
        let head = head(", until 1600 GB written");
        let mut progress = Progress::of_legs(head.legs);
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
        let mut timed = Progress::of_legs(timed.legs);
        timed.event(&event(EventKind::LegBegan { leg: 1, name: "soak".into(), words: String::new() }));
        timed.sample(&Sample {
            end: Nanos::from_secs(3600.0),
            written: Bytes(90_000_000_000),
            ..Sample::default()
        });
        assert!(
            timed.sentence().ends_with("16 deep, for 2 h. 90.0 GB moved, about 60 min left."),
            "{}",
            timed.sentence()
        );
        // A rest has moved nothing, and says how much of it is left.
        let mut rest = Progress::of_legs(progress.legs.clone());
        rest.event(&event(EventKind::LegBegan { leg: 0, name: "settle".into(), words: String::new() }));
        rest.sample(&Sample { end: Nanos::from_secs(15.0), op: Op::Idle, ..Sample::default() });
        assert_eq!(rest.sentence(), "Leg 1 of 2, settle: resting for 60.0 s. About 45 s left.");
        // Whole files with a limit that is no forecast.
        let files = "course \"f\"\nleg w\n files write, sizes 1 MB, count 10\n at most 10 min\nleg d\n files delete\n at most 5 min";
        let facts = mile_course::DriveFacts { files: Some(Bytes(1_000_000_000)), ..FACTS };
        let legs = mile_course::plan(&mile_course::parse(files).unwrap(), &facts).unwrap().legs;
        let mut files = Progress::of_legs(legs);
        files.event(&event(EventKind::LegBegan { leg: 0, name: "w".into(), words: String::new() }));
        assert!(
            files
                .sentence()
                .ends_with(" 0 of 10.0 MB, at most 10 min left; the run ends within about 15 min."),
            "{}",
            files.sentence()
        );
        assert!((progress.share().unwrap() - 0.3825).abs() < 1e-6);
        progress.event(&event(EventKind::Paused));
        assert!(progress.sentence().ends_with("612 of 1,600 GB. Paused."));
    }

    #[test]
    fn a_self_test_says_how_far_it_is_and_what_is_left() {
        let course =
            mile_course::parse("course \"c\"\nleg test\n self-test extended, at most 9 h\n").unwrap();
        let mut progress = Progress::of_legs(mile_course::plan(&course, &FACTS).unwrap().legs);
        let event = |kind| Event { at: Nanos(0), bytes: Bytes(0), kind };
        progress.event(&event(EventKind::LegBegan { leg: 0, name: "test".into(), words: String::new() }));
        let test = |percent, hours: f64, reached: f64| TestProgress {
            kind: mile_core::health::SelfTestKind::Extended,
            percent,
            ran: Nanos::from_secs(3600.0 * hours),
            reached: Nanos::from_secs(3600.0 * reached),
        };
        // A quarter took an hour: three are left; the limit of 9 hours would leave 8.
        progress.test(test(25, 1.0, 1.0));
        assert!(progress.sentence().contains(" 25 % done, about 3 h left."), "{}", progress.sentence());
        // Of a drive that tells quarters only, half of the next has gone by.
        progress.test(test(25, 1.5, 1.0));
        assert!(
            progress.sentence().contains(" 25 % done, about 2 h 30 min left."),
            "{}",
            progress.sentence()
        );
        // At the limit, that counts.
        progress.test(test(50, 8.0, 8.0));
        assert!(progress.sentence().ends_with("50 % done, about 60 min left."), "{}", progress.sentence());
    }

    /// Two slots by the clock: 5, 20, 10, 20, 10 and 20 minutes, of which each lane loads its drive in two.
    #[test]
    fn a_lane_that_is_only_watched_takes_as_long_as_the_others() {
        let text = mile_bench::courses::Ready::find("two-slots").unwrap().text;
        let course = mile_course::parse(text).unwrap();
        let plans = mile_course::plan_lanes(&course, &[FACTS, FACTS]).unwrap();
        let lanes = plans.into_iter().map(|p| LaneHead { legs: p.legs, ..LaneHead::default() }).collect();
        let head = RunHead { lanes, ..RunHead::default() };
        for mut lane in Progress::of_lanes(&head) {
            let at = |min: f64| Nanos::from_secs(60.0 * min);
            let began = |leg, min| Event {
                at: at(min),
                bytes: Bytes(0),
                kind: EventKind::LegBegan { leg, name: String::new(), words: String::new() },
            };
            lane.event(&began(0, 0.0));
            lane.event(&began(1, 5.0));
            lane.event(&began(2, 25.0));
            lane.sample(&Sample { start: at(29.0), end: at(30.0), op: Op::Idle, ..Sample::default() });
            assert!(lane.sentence().ends_with("the run ends in about 55 min."), "{}", lane.sentence());
            assert!((lane.share().unwrap() - 30.0 / 85.0).abs() < 1e-9);
        }
    }
}
