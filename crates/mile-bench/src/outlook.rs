//! Before a run: what it will take, and what speaks against starting it now.

use crate::bench::Card;
use crate::session::{Ready, ReadyLane};
use mile_core::units::number;
use mile_core::{Bytes, Celsius, LegName, Nanos, Op, Rate};
use mile_course::{Access, Forecast, Known, Plan, Work, forecast};
use mile_drive::clock::unix_seconds;
use mile_drive::sysfs::{Counters, Disk};
use mile_drive::{Claims, Identity};
use mile_logbook::{Filter, Logbook, StoredRun};
use mile_runner::Status;
use serde::Serialize;
use std::collections::HashMap;

/// What [`Outlook::time_words`] says where no leg has a time that is known.
pub const NOT_KNOWN: &str = "time not known";

/// Newest earlier runs of a drive that are looked at.
const MOST_RUNS: usize = 4;
/// Most runs on drives of its model among which they are looked for.
const LOOKED_THROUGH: u32 = 200;
/// Time after a run in which a drive may not have rested, seconds.
const REST_S: f64 = 15.0 * 60.0;
/// Degrees above its idle temperature from which a drive has not rested, and between the starts of runs that are compared.
const DEGREES: f64 = 4.0;
/// Repeats from which a figure may be quoted.
const QUOTABLE: u32 = 3;
/// Share of the rated endurance that one run should not cost unnoticed.
const COSTLY: f64 = 0.02;
/// Rate of others on a drive, and share of the processors in use, that disturb a run.
const OTHERS: f64 = 1e6;
const BUSY: f64 = 0.25;

/// How much something speaks against a start.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// The run cannot be started.
    Refusal,
    /// It can, and the warning is kept with it.
    Warning,
    /// Something to know.
    Remark,
}

impl Weight {
    /// The word that JSON and text have for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Refusal => "refused",
            Self::Warning => "warning",
            Self::Remark => "remark",
        }
    }
}

/// Something that speaks against starting, with what to do about it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Item {
    /// How much it weighs.
    pub weight: Weight,
    /// What it is about, in a word or two.
    pub about: &'static str,
    /// Why it speaks against a start.
    pub why: String,
    /// What can be done about it.
    pub remedy: String,
}

/// An earlier run of the drive.
#[derive(Clone, Debug, PartialEq)]
pub struct Earlier {
    run: i64,
    course: String,
    start: Option<Celsius>,
    coolest: Option<Celsius>,
    /// When it ended, seconds since 1970.
    ended: f64,
    wrote: bool,
    cache: Option<u64>,
}

/// What the logbook knows of a drive.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Past {
    /// Rates and times that runs on this drive or its like have shown.
    pub known: Vec<Known>,
    /// Runs on this drive.
    pub runs: Vec<Earlier>,
}

/// The load of this host, and of others on the drive, over a moment.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct HostLoad {
    /// What other programs move on the drive, bytes per second.
    pub others: Option<f64>,
    /// Share of the processors that is in use, 0 to 1.
    pub busy: Option<f64>,
    /// What sets the frequency of the processors.
    pub governor: Option<String>,
}

/// What a course on a drive comes to.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Outlook {
    /// How long it takes and what it writes.
    pub forecast: Forecast,
    /// What speaks against it, and what is worth knowing.
    pub items: Vec<Item>,
    /// What was changed to fit the drive.
    pub notes: Vec<String>,
    /// Rated endurance of the drive, where it is claimed.
    pub endurance: Option<Bytes>,
}

impl Past {
    /// From the newest runs of a drive. A logbook that cannot be read knows nothing.
    pub fn of(book: &Logbook, drive: &Identity) -> Self {
        let mut past = Self::default();
        // A run on several drives has the names of all of them.
        let same = |models: &str, names: &str| {
            models.split(" + ").any(|m| m == drive.model)
                && (names.split(" + ").any(|n| n == drive.name) || !drive.simulated)
        };
        // Of those that are asked for, some may be of other drives of the model.
        let filter =
            Filter { model: Some(drive.model.clone()), newest: Some(LOOKED_THROUGH), ..Filter::default() };
        let entries = book.list_of(&filter).unwrap_or_default();
        let entries = entries.iter().filter(|e| e.status != Status::Underway && same(&e.model, &e.drive));
        for entry in entries.take(MOST_RUNS) {
            let Ok(run) = book.run(entry.run) else { continue };
            for lane in 0..run.lanes.len() {
                let of = &run.head.lane(lane).drive;
                if of.model == drive.model && of.serial == drive.serial {
                    past.add(&run, lane);
                }
            }
        }
        past
    }

    fn add(&mut self, run: &StoredRun, lane: usize) {
        let trace = run.trace(lane);
        let of = run.head.lane(lane);
        let (head, end) = (&run.head, trace.end(trace.len().saturating_sub(1)).secs());
        self.known.extend(mile_course::forecast::known(run.run, &trace, &of.legs));
        let found = mile_core::findings(&trace, &of.context());
        self.runs.push(Earlier {
            run: run.run,
            course: head.course.clone(),
            start: found.thermal.as_ref().map(|t| Celsius(t.start_c)),
            coolest: found.thermal.as_ref().map(|t| Celsius(t.min_c)),
            ended: head.started as f64 + end,
            wrote: trace.totals(trace.len()).0.0 > 0,
            cache: found.cache.map(|c| c.bytes),
        });
    }
}

impl HostLoad {
    /// Looks for a fifth of a second.
    pub fn look(disk: Option<&Disk>) -> Self {
        let clock = mile_drive::clock::Monotonic::start();
        let (counters, cpu) = (disk.and_then(Counters::of), processors());
        clock.sleep_until(Nanos(200_000_000));
        let moved = counters.and_then(|c| c.moved());
        let others = moved.map(|moved| moved.0 as f64 / clock.now().secs());
        let busy = processors().zip(cpu).and_then(|(now, then)| {
            let all = now.0.saturating_sub(then.0);
            (all > 0).then(|| 1.0 - now.1.saturating_sub(then.1) as f64 / all as f64)
        });
        let governor = std::fs::read_to_string("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor").ok();
        Self { others, busy, governor: governor.map(|g| g.trim().to_owned()) }
    }
}

/// Time of all processors since the start, all of it and idle, in the kernel's units.
fn processors() -> Option<(u64, u64)> {
    let text = std::fs::read_to_string("/proc/stat").ok()?;
    let mut words = text.lines().next()?.strip_prefix("cpu ")?.split_whitespace().map(str::parse::<u64>);
    let times: Vec<u64> = words.by_ref().map_while(Result::ok).take(8).collect();
    Some((times.iter().sum(), times.get(3)? + times.get(4)?))
}

/// What a plan on a drive comes to. `host` is `None` for a drive whose time is its own.
pub fn outlook(
    plan: &Plan,
    card: &Card,
    past: &Past,
    host: Option<&HostLoad>,
    logbook_on_drive: bool,
) -> Outlook {
    let known = &card.claims;
    // What is claimed of the drive does not come through a link that carries less.
    let ceiling = card.identity.link.as_ref().map_or(f64::INFINITY, |l| l.ceiling.0);
    let carried = |rate: Option<Rate>| rate.map(|r| Rate(r.0.min(ceiling)));
    let claims = mile_course::Claims {
        write: carried(plan.claims.write.or(known.write)),
        read: carried(plan.claims.read.or(known.read)),
        endurance: plan.claims.endurance.or(known.endurance),
    };
    let cast = forecast(plan, &past.known, &claims);
    let mut look = Look { plan, card, past, items: Vec::new() };
    look.drive();
    look.rested(host.is_some());
    if let Some(host) = host {
        look.host(host, logbook_on_drive);
    }
    look.course();
    look.wear(&cast, &mile_runner::run::claims_of(plan, &Claims::default()).endurance.or(known.endurance));
    look.items.sort_by_key(|i| i.weight);
    Outlook { forecast: cast, items: look.items, notes: plan.notes.clone(), endurance: claims.endurance }
}

struct Look<'a> {
    plan: &'a Plan,
    card: &'a Card,
    past: &'a Past,
    items: Vec<Item>,
}

impl Look<'_> {
    fn say(&mut self, weight: Weight, about: &'static str, why: String, remedy: &str) {
        self.items.push(Item { weight, about, why, remedy: remedy.to_owned() });
    }

    fn drive(&mut self) {
        if self.plan.changes_the_drive() {
            for objection in &self.card.objections.clone() {
                self.say(
                    Weight::Refusal,
                    "drive in use",
                    objection.clone(),
                    "free the drive, or name another",
                );
            }
        }
        if let Some(link) = self.card.identity.link.as_ref().filter(|l| l.is_degraded()) {
            let why = format!("the link is {}", link.sentence());
            self.say(
                Weight::Warning,
                "link",
                why,
                "put the drive into another slot or port, or look at its cable: this run would measure the link",
            );
        }
    }

    fn rested(&mut self, real: bool) {
        let now = self.card.health.as_ref().and_then(|h| h.temperature);
        let coolest =
            self.past.runs.iter().filter_map(|r| r.coolest).reduce(|a, b| if a < b { a } else { b });
        if let (Some(now), Some(coolest)) = (now, coolest)
            && now.0 > coolest.0 + DEGREES
        {
            let why = format!("it is at {now}, and was at {coolest} when it had rested");
            self.say(Weight::Warning, "not rested", why, "let it cool, or begin the course with a rest");
        }
        // A simulated drive begins each run as new.
        let ago = |r: &Earlier| unix_seconds() as f64 - r.ended;
        let last =
            self.past.runs.iter().filter(|r| real && r.wrote && ago(r) < REST_S).map(|r| (r.run, ago(r)));
        if let Some((run, ago)) = last.min_by(|a, b| a.1.total_cmp(&b.1)) {
            let why = format!(
                "run {run} wrote to it {} ago: its write cache may still be full",
                Nanos::from_secs(ago.max(0.0))
            );
            self.say(
                Weight::Warning,
                "not rested",
                why,
                "wait, or begin the course with `rest for 15 min`; `course new cache-recovery` finds how long it needs",
            );
        }
        let before = self.past.runs.iter().find(|r| r.course == self.plan.name);
        if let (Some(now), Some((run, Some(then)))) = (now, before.map(|r| (r.run, r.start)))
            && (now.0 - then.0).abs() > DEGREES
        {
            let why = format!("it starts at {now}, and run {run} of the same course started at {then}");
            self.say(
                Weight::Warning,
                "start temperature",
                why,
                "bring it to the same temperature before the two are compared",
            );
        }
    }

    fn host(&mut self, host: &HostLoad, logbook_on_drive: bool) {
        if let Some(others) = host.others.filter(|o| *o > OTHERS) {
            let why = format!("others move {} MB/s on the same disk now", number(others / 1e6));
            self.say(Weight::Warning, "other load", why, "end what uses the disk, and look again");
        }
        if let Some(busy) = host.busy.filter(|b| *b > BUSY) {
            let why = format!("{:.0} % of this host's processor time is in use now", busy * 100.0);
            self.say(Weight::Warning, "other load", why, "end what uses the processors, and look again");
        }
        if let Some(governor) = host.governor.as_ref().filter(|g| *g == "powersave" || *g == "conservative") {
            let why = format!("the processors' frequency governor is `{governor}`");
            self.say(
                Weight::Warning,
                "governor",
                why,
                "set it to `performance` for the run, so that small operations are not measured at a sleepy processor's pace",
            );
        }
        if logbook_on_drive {
            let why = "the logbook is on the disk under test".into();
            self.say(Weight::Warning, "logbook", why, "name another with --logbook, on another disk");
        }
    }

    fn course(&mut self) {
        let mut times: HashMap<String, (u32, bool)> = HashMap::new();
        let mut longest = 0_u64;
        for leg in &self.plan.legs {
            let Work::Transfer(t) = &leg.work else { continue };
            if t.fill.is_some() || t.zones > 0 {
                continue;
            }
            let name = LegName::read(&leg.name);
            let measures = !name.repeats.is_empty() || !name.steps.is_empty();
            times.entry(name.without_repeats()).or_insert((0, measures)).0 += 1;
            if t.load.op == Op::Write && t.load.access == Access::Sequential {
                longest = longest.max(if t.by_time { u64::MAX } else { t.budget.0 });
            }
        }
        // Beside legs that are repeated or swept over, one that comes once prepares the drive for them.
        let repeated = times.values().any(|(_, measures)| *measures);
        let counted = times.values().filter(|(_, measures)| *measures || !repeated);
        let fewest = counted.map(|(times, _)| *times).min().unwrap_or(QUOTABLE);
        if fewest < QUOTABLE {
            let times = if fewest == 1 { "once".to_owned() } else { format!("{fewest} times") };
            let weight = if repeated { Weight::Warning } else { Weight::Remark };
            let why =
                format!("figures are measured {times}, so that nothing can be said about their scatter");
            self.say(
                weight,
                "repeats",
                why,
                "put `repeat 3` around the legs; ten for a figure that is quoted",
            );
        }
        let cache = self.past.runs.iter().filter_map(|r| r.cache).max();
        let least = cache.map_or(self.card.facts.capacity.0 / 100, |c| c + c / 5);
        if longest > 0 && longest < least {
            let cache = cache.map_or("a hundredth of the drive".into(), |c| {
                format!("its write cache of {} and a fifth more", Bytes(c))
            });
            let why = format!("the longest sequential write is {}, less than {cache}", Bytes(longest));
            self.say(
                Weight::Warning,
                "span",
                why,
                "write more in one leg, or the run shows the cache and not the drive",
            );
        }
        if let Some(limit) = self.plan.guards.written_at_most.filter(|l| *l < self.plan.writes()) {
            let why = format!("the course writes {}, and its guard stops it at {limit}", self.plan.writes());
            self.say(Weight::Warning, "wear", why, "raise the guard, or plan fewer writes");
        }
    }

    fn wear(&mut self, cast: &Forecast, endurance: &Option<Bytes>) {
        let Some(rated) = endurance.filter(|e| e.0 > 0) else {
            if cast.written > 0 {
                let why =
                    "the rated endurance of the drive is not known, so that its wear is not either".into();
                self.say(Weight::Remark, "wear", why, "write `claim endurance 600 TB` into the course");
            }
            return;
        };
        let life = self.card.health.as_ref().and_then(|h| h.written).unwrap_or_default();
        let total = life.0.saturating_add(cast.written);
        if total > rated.0 && cast.written > 0 {
            let why = format!("with this run {} of its rated {rated} will have been written", Bytes(total));
            self.say(Weight::Warning, "wear", why, "the drive is past what it is rated for; use another");
        } else if let Some(wear) = cast.wear.filter(|w| *w > COSTLY) {
            let why = format!(
                "the run writes {}, {} % of the rated endurance",
                Bytes(cast.written),
                number(wear * 100.0)
            );
            self.say(Weight::Warning, "wear", why, "write less, if the question can be answered with less");
        }
    }
}

impl Outlook {
    /// What a run on several drives comes to, from what it comes to on each of its lanes, with the lane named in what is said of one.
    pub fn side_by_side(lanes: Vec<(String, Self)>) -> Self {
        let casts: Vec<Forecast> = lanes.iter().map(|(_, look)| look.forecast.clone()).collect();
        let (mut items, mut notes): (Vec<Item>, Vec<String>) = (Vec::new(), Vec::new());
        // What holds on all lanes is said once.
        let everywhere = |item: &Item| lanes.iter().all(|(_, look)| look.items.contains(item));
        for (lane, look) in &lanes {
            for item in &look.items {
                let why =
                    if everywhere(item) { item.why.clone() } else { format!("lane {lane}: {}", item.why) };
                let item = Item { why, ..item.clone() };
                if !items.contains(&item) {
                    items.push(item);
                }
            }
            notes.extend(look.notes.iter().map(|n| format!("Lane {lane}: {n}")));
        }
        items.sort_by_key(|i| i.weight);
        Self { forecast: Forecast::side_by_side(&casts), items, notes, endurance: None }
    }

    /// Whether something forbids the start.
    pub fn refused(&self) -> bool {
        self.items.iter().any(|i| i.weight == Weight::Refusal)
    }

    /// The warnings, as they are kept with the run.
    pub fn warnings(&self) -> Vec<String> {
        let warnings = self.items.iter().filter(|i| i.weight == Weight::Warning);
        warnings.map(|i| format!("Started in spite of a warning ({}): {}.", i.about, i.why)).collect()
    }

    /// How sure the figures are, in a word.
    fn about(&self) -> &'static str {
        let open = self.forecast.legs.iter().any(|l| l.basis == mile_course::Basis::Limit);
        if open { "at most" } else { "about" }
    }

    /// `about 7 h 20 min`
    pub fn time_words(&self) -> String {
        let (cast, about) = (&self.forecast, self.about());
        match (cast.seconds, cast.unknown) {
            (s, n) if n > 0 && s < 1.0 => NOT_KNOWN.to_owned(),
            (s, 0) => format!("{about} {}", Nanos::from_secs(rounded(s))),
            (s, 1) => format!("{} and one leg of which the time is not known", Nanos::from_secs(rounded(s))),
            (s, n) => format!("{} and {n} legs of which the time is not known", Nanos::from_secs(rounded(s))),
        }
    }

    /// `about 7 h 20 min, writes 5.21 TB (0.65 % of the rated endurance), reads 1.20 TB, up to 61 °C`
    pub fn sentence(&self) -> String {
        let cast = &self.forecast;
        let mut text = self.time_words();
        let about = if cast.exact_bytes { String::new() } else { format!("{} ", self.about()) };
        if cast.written > 0 {
            text.push_str(&format!(", writes {about}{}", Bytes(cast.written)));
            if let Some(wear) = cast.wear {
                text.push_str(&format!(" ({} % of the rated endurance)", number(wear * 100.0)));
            }
        }
        if cast.writes_open > 0 {
            let (and, more) = if cast.written > 0 { (" and", " more") } else { (", writes", "") };
            let legs = if cast.writes_open == 1 { "leg" } else { "legs" };
            text.push_str(&format!(
                "{and} in {} {legs}{more} as much as the drive takes in that time",
                cast.writes_open
            ));
        }
        if cast.read > 0 {
            let about = if cast.reads_open > 0 { "at least " } else { &about };
            text.push_str(&format!(", reads {about}{}", Bytes(cast.read)));
        }
        if let Some(max) = cast.max_c {
            text.push_str(&format!(", up to {}", Celsius(max)));
        }
        text
    }
}

/// A time without digits that nobody can promise.
fn rounded(seconds: f64) -> f64 {
    let step = if seconds < 120.0 {
        1.0
    } else if seconds < 7200.0 {
        10.0
    } else {
        300.0
    };
    (seconds / step).round() * step
}

/// What each lane of a run that is ready comes to.
pub fn look(ready: &Ready, book: Option<&Logbook>) -> Vec<(String, Outlook)> {
    let of_lane = |lane: &ReadyLane| {
        let card = lane.card();
        let past = book.map(|b| Past::of(b, &card.identity)).unwrap_or_default();
        let host = (!card.identity.simulated).then(|| HostLoad::look(lane.disk().as_ref()));
        let on_drive = book.is_some_and(|b| lane.is_on_drive(b.path()));
        (lane.name.clone(), outlook(&lane.plan, &card, &past, host.as_ref(), on_drive))
    };
    ready.lanes.iter().map(of_lane).collect()
}
