//! A course fitted to one drive: byte ranges instead of shares, ends that the drive can reach, and a budget of bytes for
//! every leg. What had to be changed to fit is said in [`Plan::notes`].

mod folded;
mod leg;
mod passes;

pub use leg::Load;

use crate::copy::{CopyPart, match_sides};
use crate::course::{
    Access, Action, Claims, Course, End, Guard, Kind, Position, Range, ScanOrder, Seen, Then, Threshold,
    Transfer, When,
};
use crate::files::{self, Files, PlannedFiles, There};
use folded::Folded;
use mile_core::claims::conditions::StatedClaim;
use mile_core::health::{Counter, SelfTestKind};
use mile_core::surface::refine::MOST_READ;
use mile_core::units::{IN_FLIGHT_MOST, block_size, thousands};
use mile_core::{Bytes, Celsius, Demand, Nanos, Op, Rate};
use passes::{number_passes, without};
use serde::{Deserialize, Serialize};

/// What planning needs to know of a drive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DriveFacts {
    /// Bytes that can be addressed.
    pub capacity: Bytes,
    /// Smallest unit of an operation.
    pub logical_block: Bytes,
    /// Whether it gives a temperature.
    pub has_temperature: bool,
    /// Whether what is on it may be read without being written first.
    pub readable: bool,
    /// The host's memory, where what is moved can be led through its cache; `None` where it cannot.
    pub cache: Option<Bytes>,
    /// Bytes for files of the run beside the one that is addressed; `None` where it is on no file system.
    pub files: Option<Bytes>,
}

/// A course for one drive.
#[derive(Clone, Debug, PartialEq)]
pub struct Plan {
    /// Name of the course.
    pub name: String,
    /// Length of a sample.
    pub sample_every: Nanos,
    /// Time between two looks at the drive's health.
    pub health_every: Nanos,
    /// What it minds.
    pub guards: Guards,
    /// Streams that must be held.
    pub demands: Vec<Demand>,
    /// What the course claims of the drive.
    pub claims: Claims,
    /// Claims that it states with their conditions.
    pub stated: Vec<StatedClaim>,
    /// What the course says of the conditions.
    pub situation: Vec<(String, String)>,
    /// What it says of the ambient temperature.
    pub ambient: Option<Celsius>,
    /// Its stages.
    pub legs: Vec<PlannedLeg>,
    /// What was changed to fit the drive, in sentences.
    pub notes: Vec<String>,
}

/// What a run minds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Guards {
    /// Readings of channels beyond which the run stops.
    pub channels: Vec<Threshold>,
    /// Counters of the drive's health beyond which it stops.
    pub counters: Vec<(Counter, Threshold)>,
    /// Temperature above which the run stops.
    pub stop_above: Option<Celsius>,
    /// Temperature above which it rests, below which it goes on, and how long it rests at the most.
    pub rest_above: Option<(Celsius, Celsius, Nanos)>,
    /// Failed operations that the run survives.
    pub errors_at_most: u64,
    /// Time after which an operation that is not back ends the run, where the course names one.
    pub patience: Option<Nanos>,
    /// Whether a critical warning of the drive stops the run.
    pub stop_on_warning: bool,
    /// Temperature below which a run goes on that a critical warning has rest, and how long it rests at the most.
    pub rest_on_warning: Option<(Celsius, Nanos)>,
    /// Bytes that the whole run may write.
    pub written_at_most: Option<Bytes>,
    /// Time that the whole run may take.
    pub time_at_most: Option<Nanos>,
    /// Rate of others on the same drive that stops the run, where it lasts so long.
    pub others: Option<(Rate, Nanos)>,
}

impl Guards {
    fn of(guards: &[Guard]) -> Self {
        let mut all = Self::default();
        let mut errors: Option<u64> = None;
        let colder = |a: Option<Celsius>, b: Celsius| Some(a.filter(|a| *a < b).unwrap_or(b));
        for guard in guards {
            match (guard.when.clone(), guard.then) {
                (When::Channel(threshold), _) => all.channels.push(threshold),
                (When::Counter(counter, threshold), _) => all.counters.push((counter, threshold)),
                (When::TemperatureAbove(limit), Then::Stop) => all.stop_above = colder(all.stop_above, limit),
                (When::TemperatureAbove(limit), Then::Rest(below, longest)) => {
                    if all.rest_above.is_none_or(|r| limit < r.0) {
                        all.rest_above = Some((limit, below, longest));
                    }
                }
                (When::CriticalWarning, Then::Rest(below, longest)) => {
                    all.rest_on_warning = Some((below, longest));
                }
                (When::CriticalWarning, Then::Stop) => all.stop_on_warning = true,
                (When::ErrorsAbove(count), _) => errors = Some(errors.map_or(count, |e| e.min(count))),
                (When::OperationAbove(time), _) => {
                    all.patience = Some(all.patience.map_or(time, |p| p.min(time)))
                }
                (When::WrittenAbove(bytes), _) => {
                    all.written_at_most = Some(all.written_at_most.map_or(bytes, |b| b.min(bytes)));
                }
                (When::TimeAbove(time), _) => {
                    all.time_at_most = Some(all.time_at_most.map_or(time, |t| t.min(time)))
                }
                (When::OthersAbove(rate, hold), _) => all.others = Some((rate, hold)),
            }
        }
        all.errors_at_most = errors.unwrap_or(0);
        all
    }
}

/// One stage of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedLeg {
    /// Its name.
    pub name: String,
    /// What it does.
    pub work: Work,
    /// It ends when so much time has passed.
    pub time: Option<Nanos>,
    /// It ends when one of these is seen.
    pub seen: Vec<Seen>,
    /// Line of the course on which it stands.
    pub line: usize,
}

/// What a planned leg does.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Work {
    /// Nothing: it waits.
    Rest,
    /// Nothing, for as long as other lanes take.
    Watch,
    /// What only these words tell: a leg of a run that an earlier version kept, or of a trace from elsewhere.
    Told(String),
    /// Nothing, and it is not waited for: no end of it can be reached on this drive.
    Skip,
    /// Reads or writes.
    Transfer(PlannedTransfer),
    /// Works with whole files.
    Files(Box<PlannedFiles>),
    /// Makes the drive keep what it was given.
    Flush,
    /// Tells the drive that a range holds nothing any more.
    Discard {
        /// First byte.
        start: Bytes,
        /// Bytes from there.
        length: Bytes,
    },
    /// Has the drive test itself.
    SelfTest(SelfTestKind),
    /// Has it test a part of itself.
    SelectiveTest {
        /// First byte.
        start: Bytes,
        /// Bytes from there.
        length: Bytes,
    },
    /// Reads the drive's health and keeps it.
    Health,
    /// Tells the operator something and waits for a key.
    Ask(String),
}

/// Reads or writes of a planned leg.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedTransfer {
    /// Which.
    pub op: Op,
    /// Share of reads, 0 to 1, of a mix.
    pub reads: f64,
    /// Whether what is read is held against what was written.
    pub verify: bool,
    /// Whether a later leg verifies what this one writes.
    pub sealed: bool,
    /// Number of this pass of writes, from 1; for a verifying read, the earliest pass whose data may be there.
    pub pass: u32,
    /// In what order.
    pub access: Access,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Operations in flight, of each worker.
    pub depth: u32,
    /// Workers.
    pub workers: u32,
    /// Most that is asked for in a second.
    pub rate: Option<Rate>,
    /// First byte that may be touched; a multiple of the block size above the drive's start.
    pub start: Bytes,
    /// Bytes from there that may be touched; a multiple of the block size.
    pub length: Bytes,
    /// Bytes moved after which it ends; a multiple of the block size.
    pub budget: Bytes,
    /// Whether the course gives a time only, so that the budget is no more than a wall.
    pub by_time: bool,
    /// Share of what is written that cannot be compressed, 0 to 1.
    pub incompressible: f64,
    /// Whether it goes through the host's cache.
    pub cached: bool,
    /// Fill level that it brings the drive to, 0 to 1.
    pub fill: Option<f64>,
    /// Zones that its range is seen in; 0 where it is no scan.
    pub zones: u32,
    /// The order in which they are visited.
    #[serde(default, skip_serializing_if = "leg::is_forward")]
    pub order: ScanOrder,
    /// Bytes between which the edges of hollows are to be known: it reads where the run so far says, and no more than its budget.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refine: Option<Bytes>,
    /// Longest time that a scan spends on what it could not read, once it has read the rest; 10 min where the course gives none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bad_time: Option<Nanos>,
    /// The part that it has in a copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy: Option<CopyPart>,
}

impl Plan {
    /// Bytes that the plan writes at most, without the legs that only a time ends.
    pub fn writes(&self) -> Bytes {
        Bytes(self.legs.iter().map(PlannedLeg::writes).sum())
    }

    /// Bytes that the legs write that only a time ends, on a drive that writes at `rate` or as fast as the leg asks for, whichever is less.
    pub fn writes_by_time(&self, rate: Rate) -> Bytes {
        let of = |leg: &PlannedLeg| match (&leg.work, leg.time) {
            (Work::Transfer(t), Some(time)) if t.by_time && t.op != Op::Read => {
                let share = if t.op == Op::Mixed { 1.0 - t.reads } else { 1.0 };
                // The rate of a mix is that of both.
                t.rate.map_or(rate.0, |most| most.0.min(rate.0)) * share * time.secs()
            }
            _ => 0.0,
        };
        Bytes(self.legs.iter().map(of).sum::<f64>() as u64)
    }

    /// Whether a leg writes as much as its time lets it.
    pub fn has_writes_by_time(&self) -> bool {
        self.writes_by_time(Rate(1e9)).0 > 0
    }

    /// Puts a leg in front that discards what the other legs write to, from the first byte of that to the last. Gives whether there is
    /// anything to discard.
    pub fn discard_first(&mut self) -> bool {
        let ranges = self.legs.iter().filter_map(|l| match &l.work {
            Work::Transfer(t) if t.op != Op::Read => Some((t.start, t.start.0 + t.length.0)),
            _ => None,
        });
        let range = ranges.reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)));
        if let Some((start, end)) = range {
            self.put_first(Work::Discard { start, length: Bytes(end - start.0) });
        }
        range.is_some()
    }

    fn put_first(&mut self, work: Work) {
        let mut name = "discard first".to_owned();
        while self.legs.iter().any(|l| l.name == name) {
            name.push('\'');
        }
        self.legs.insert(0, PlannedLeg { name, line: 0, work, time: None, seen: Vec::new() });
    }

    /// The readings of channels that its guards and the ends of its legs go by.
    pub fn thresholds(&self) -> impl Iterator<Item = &Threshold> {
        let ends = self.legs.iter().flat_map(|l| &l.seen);
        let of_ends =
            ends.filter_map(|s| if let Seen::Channel(threshold, _) = s { Some(threshold) } else { None });
        self.guards.channels.iter().chain(of_ends)
    }

    /// Whether any leg changes what is on the drive.
    pub fn changes_the_drive(&self) -> bool {
        self.legs.iter().any(|l| match &l.work {
            Work::Transfer(t) => t.op != Op::Read,
            Work::Discard { .. } => true,
            Work::Files(f) => f.changes(),
            Work::Rest
            | Work::Watch
            | Work::Told(_)
            | Work::Skip
            | Work::Flush
            | Work::Health
            | Work::SelfTest(_)
            | Work::SelectiveTest { .. }
            | Work::Ask(_) => false,
        })
    }
}

/// No leg that ends by time alone moves more than this in a second: four times what a PCIe 5.0 x4 link can carry. It turns a
/// time into the byte budget that every leg has.
const FASTEST_BYTES_S: f64 = 64e9;

/// Fits a course to its drives, one for each of its lanes, in their order. All plans have as many legs: those of the same number run at
/// the same time.
///
/// # Errors
/// Everything that does not fit, in sentences.
pub fn plan_lanes(course: &Course, drives: &[DriveFacts]) -> Result<Vec<Plan>, Vec<String>> {
    if course.lanes.is_empty() {
        let [drive] = drives else {
            return Err(vec![format!("The course is for one drive, and {} are named.", drives.len())]);
        };
        return plan(course, drive).map(|p| vec![p]);
    }
    let (mut plans, mut errors) = (Vec::new(), Vec::new());
    for (i, (lane, drive)) in course.lanes.iter().zip(drives).enumerate() {
        match plan(&course.of_lane(i), drive) {
            Ok(plan) => plans.push(plan),
            Err(all) => errors.extend(all.into_iter().map(|e| format!("On lane {}: {e}", lane.name))),
        }
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    match_sides(&mut plans)?;
    // Samples of all lanes are as long.
    let every = plans.iter().map(|p| p.sample_every).max().unwrap_or(course.sample_every);
    plans.iter_mut().for_each(|p| p.sample_every = every);
    Ok(plans)
}

/// Has each lane first discard what it will write to. All plans have as many legs still.
pub fn discard_first(plans: &mut [Plan]) {
    let done: Vec<bool> = plans.iter_mut().map(Plan::discard_first).collect();
    if done.contains(&true) {
        for (plan, _) in plans.iter_mut().zip(&done).filter(|(_, done)| !**done) {
            plan.put_first(Work::Watch);
        }
    }
}

/// Fits a course for one drive to it. Fails with everything that does not fit, in sentences.
pub fn plan(course: &Course, drive: &DriveFacts) -> Result<Plan, Vec<String>> {
    if let [first, rest @ ..] = course.lanes.as_slice() {
        let rest: Vec<&str> = rest.iter().map(|l| l.name.as_str()).collect();
        return Err(vec![format!(
            "The course is for {} drives: name the lane of each, such as `--on {}=DRIVE{}`.",
            course.lanes.len(),
            first.name,
            rest.first().map_or(String::new(), |r| format!(" --on {r}=DRIVE"))
        )]);
    }
    let guards = Guards::of(&course.guards);
    let mut fit = Fit {
        drive,
        notes: Vec::new(),
        errors: Vec::new(),
        written: Vec::new(),
        filled: 0,
        there: There::default(),
    };
    for limit in [guards.stop_above, guards.rest_above.map(|r| r.0)].into_iter().flatten() {
        if !drive.has_temperature {
            fit.notes.push(format!(
                "The guard \"temperature above {limit}\" cannot act: this drive gives no temperature."
            ));
        }
    }
    let mut legs = Vec::with_capacity(course.legs.len());
    let (mut notes, mut errors) = (Folded::default(), Folded::default());
    for leg in &course.legs {
        let had = (fit.notes.len(), fit.errors.len());
        let empty = PlannedLeg {
            name: leg.name.clone(),
            line: leg.line,
            work: Work::Skip,
            time: None,
            seen: Vec::new(),
        };
        let planned = match &leg.action {
            Action::Rest(rest) => Some(fit.rest(empty, &rest.until, rest.at_most)),
            Action::Transfer(transfer) => fit.transfer(empty, transfer, &guards),
            Action::Files(files) => fit.files(empty, files),
            // A plan is for one lane, for which a copy is a read or a write.
            Action::Copy(_) | Action::Watch => Some(PlannedLeg { work: Work::Watch, ..empty }),
            Action::Flush => Some(PlannedLeg { work: Work::Flush, ..empty }),
            Action::SelfTest(SelfTestKind::Selective, over, at_most) => {
                fit.range(&leg.name, *over, fit.drive.logical_block, Bytes(0)).map(|(start, length)| {
                    PlannedLeg { work: Work::SelectiveTest { start, length }, time: *at_most, ..empty }
                })
            }
            Action::SelfTest(kind, _, at_most) => {
                Some(PlannedLeg { work: Work::SelfTest(*kind), time: *at_most, ..empty })
            }
            Action::Health => Some(PlannedLeg { work: Work::Health, ..empty }),
            Action::Ask(text, at_most) => {
                Some(PlannedLeg { work: Work::Ask(text.clone()), time: *at_most, ..empty })
            }
            Action::Discard(over) => fit.discard(empty, *over),
        };
        legs.extend(planned);
        // What is said of a leg is said of all its repeats.
        notes.fold(&mut fit.notes, had.0, leg.line);
        errors.fold(&mut fit.errors, had.1, leg.line);
    }
    notes.count(&mut fit.notes);
    errors.count(&mut fit.errors);
    if fit.errors.is_empty() {
        number_passes(&mut legs, &mut fit.errors);
    }
    if !fit.errors.is_empty() {
        return Err(fit.errors);
    }
    let sample_every = sample_every(course.sample_every, &legs, &mut fit.notes);
    Ok(Plan {
        name: course.name.clone(),
        sample_every,
        health_every: course.health_every,
        guards,
        demands: course.demands.clone(),
        claims: course.claims,
        stated: course.stated.clone(),
        situation: course.situation.clone(),
        ambient: course.ambient,
        legs,
        notes: fit.notes,
    })
}

/// Samples that a run may come to by the times of its legs: they are held in memory while it is underway, about 280 bytes each.
const MOST_SAMPLES: u64 = 1_100_000;

/// The length of a sample: what the course says, or longer, where its legs take so long that there would be too many.
fn sample_every(asked: Nanos, legs: &[PlannedLeg], notes: &mut Vec<String>) -> Nanos {
    let total = legs.iter().filter_map(|l| l.time).fold(0_u64, |sum, t| sum.saturating_add(t.0));
    let needed = Nanos(total / MOST_SAMPLES);
    if needed <= asked {
        return asked;
    }
    // A whole number of seconds, or of tenths where that is shorter.
    let step = if needed.0 > 1_000_000_000 { 1_000_000_000 } else { 100_000_000 };
    let every = Nanos(needed.0.div_ceil(step) * step);
    notes.push(format!(
        "A sample is taken every {every} and not every {asked}: the legs of this course may take {} in all, and a run keeps {MOST_SAMPLES} samples at the most.",
        Nanos(total)
    ));
    every
}

fn shortest(times: impl Iterator<Item = Option<Nanos>>) -> Option<Nanos> {
    times.flatten().min()
}

fn time_of(end: &End) -> Option<Nanos> {
    if let End::After(time) = end { Some(*time) } else { None }
}

fn seen_of(ends: &[End]) -> Vec<Seen> {
    ends.iter().filter_map(|e| if let End::Seen(seen) = e { Some(seen.clone()) } else { None }).collect()
}

/// Bytes at the front of a file that say which run it is of.
const MARK: u64 = 4096;

/// Bytes at the edges of a range that a read leaves out where nothing was written there: writes and reads in blocks of different
/// sizes do not end at the same place.
const EDGE: u64 = 16 << 20;

/// What fitting the legs to a drive has come to.
struct Fit<'a> {
    drive: &'a DriveFacts,
    notes: Vec<String>,
    errors: Vec<String>,
    /// Stretches that are written before the leg at hand: from, to.
    written: Vec<(u64, u64)>,
    /// Bytes from the front that fills have written and that stay.
    filled: u64,
    /// Files that are there.
    there: There,
}

impl Fit<'_> {
    fn address(&self, p: Position) -> u64 {
        match p {
            Position::Share(share) => (self.drive.capacity.0 as f64 * share) as u64,
            Position::At(bytes) => bytes.0,
            Position::BeforeEnd(bytes) => self.drive.capacity.0.saturating_sub(bytes.0),
        }
    }

    /// Ends that a drive without a temperature cannot tell are left out, and said.
    fn seen(&mut self, name: &str, ends: &[End], left: &str) -> Vec<Seen> {
        let mut seen = seen_of(ends);
        if let Some(end) = seen.iter().find(|s| s.needs_temperature() && !self.drive.has_temperature) {
            self.notes.push(format!(
                "Leg {name} waits for a {}, but this drive gives no temperature: {left}.",
                end.words()
            ));
            seen.retain(|s| !s.needs_temperature());
        }
        seen
    }

    fn rest(&mut self, leg: PlannedLeg, until: &[End], at_most: Option<Nanos>) -> PlannedLeg {
        let timed = shortest(until.iter().map(time_of));
        let left = if timed.is_some() { "only its time counts" } else { "the leg is passed over" };
        let seen = self.seen(&leg.name, until, left);
        if seen.is_empty() && timed.is_none() {
            return PlannedLeg { work: Work::Skip, ..leg };
        }
        PlannedLeg { work: Work::Rest, time: shortest([timed, at_most].into_iter()), seen, ..leg }
    }

    fn discard(&mut self, leg: PlannedLeg, over: Range) -> Option<PlannedLeg> {
        let (start, length) = self.range(&leg.name, over, self.drive.logical_block, Bytes(0))?;
        // What is read there afterwards never reaches the medium.
        self.written = without(&self.written, (start.0, start.0 + length.0));
        self.filled = self.filled.min(start.0);
        Some(PlannedLeg { work: Work::Discard { start, length }, ..leg })
    }

    /// The range of a leg in whole units on this drive, and a little off them: first byte and length. `None`, with the
    /// reason in the errors, where not one unit fits.
    fn range(&mut self, name: &str, over: Range, unit: Bytes, shift: Bytes) -> Option<(Bytes, Bytes)> {
        let block = unit.0.max(1);
        let whole = self.drive.capacity.0 / block * block;
        // Ranges that touch in shares touch in blocks; one that begins at a byte does not begin before it.
        let start = match over.0 {
            Position::Share(_) => self.address(over.0) / block * block,
            Position::At(_) | Position::BeforeEnd(_) => self.address(over.0).div_ceil(block) * block,
        };
        let asked_end = self.address(over.1);
        let end = asked_end.min(whole) / block * block;
        let needed = if shift.0 > 0 { 2 * block } else { block };
        if end < start + needed {
            self.errors.push(format!(
                "Leg {name}: not one block of {} fits between {} and {} on a drive of {}.",
                block_size(unit),
                Bytes(self.address(over.0)),
                Bytes(asked_end),
                self.drive.capacity
            ));
            return None;
        }
        let tail = self.drive.capacity.0.saturating_sub(end);
        if asked_end >= self.drive.capacity.0 && tail > 0 {
            self.notes.push(format!(
                "Leg {name} does not touch the last {} bytes of the drive, which are less than a block of {}.",
                thousands(&tail.to_string()),
                block_size(unit)
            ));
        }
        if asked_end > self.drive.capacity.0 {
            self.notes.push(format!(
                "Leg {name} reaches to {}, behind the end of this drive: it ends at {}.",
                Bytes(asked_end),
                self.drive.capacity
            ));
        }
        if shift.0 > 0 {
            return Some((Bytes(start + shift.0), Bytes(end - start - block)));
        }
        Some((Bytes(start), Bytes(end - start)))
    }

    fn files(&mut self, empty: PlannedLeg, files: &Files) -> Option<PlannedLeg> {
        match files::fit(&empty.name, files, self.drive, &mut self.there) {
            Ok(planned) => {
                if files.cached {
                    self.notes.push(format!(
                        "Leg {} goes through the host's cache: its figures are those of cache and drive together.",
                        empty.name
                    ));
                }
                Some(PlannedLeg { work: Work::Files(Box::new(planned)), time: files.at_most, ..empty })
            }
            Err(why) => {
                self.errors.push(why);
                None
            }
        }
    }

    fn transfer(&mut self, empty: PlannedLeg, leg: &Transfer, guards: &Guards) -> Option<PlannedLeg> {
        let name = &empty.name.clone();
        let block = leg.block.0;
        let logical = self.drive.logical_block;
        if !block.is_multiple_of(logical.0.max(1)) || !leg.shift.0.is_multiple_of(logical.0.max(1)) {
            self.errors.push(format!(
                "Leg {name}: blocks of {} are no multiple of this drive's logical block of {}.",
                block_size(if block.is_multiple_of(logical.0.max(1)) { leg.shift } else { leg.block }),
                block_size(logical)
            ));
            return None;
        }
        let in_flight = block.saturating_mul(u64::from(leg.depth)).saturating_mul(u64::from(leg.workers));
        if in_flight > IN_FLIGHT_MOST.0 {
            self.errors.push(format!(
                "Leg {name}: {} blocks of {} in flight take {} of memory, more than the {IN_FLIGHT_MOST} allowed. Use a smaller depth or block, or fewer workers.",
                u64::from(leg.depth).saturating_mul(u64::from(leg.workers)),
                block_size(leg.block),
                Bytes(in_flight)
            ));
            return None;
        }
        let mut over = leg.over;
        if let Kind::Fill(to) = leg.kind {
            over = (Position::At(Bytes(self.filled)), to);
            if self.address(to) < self.filled + block {
                return Some(empty);
            }
        }
        let (start, length) = self.range(name, over, leg.block, leg.shift)?;
        if u64::from(leg.workers) > length.0 / block {
            self.errors.push(format!(
                "Leg {name}: {} workers cannot share {} blocks.",
                leg.workers,
                length.0 / block
            ));
            return None;
        }
        self.minds(name, leg, guards);
        let (mut start, mut length) = (start.0, length.0);
        let is_target = leg.copy.is_some_and(|c| !c.is_source);
        if is_target && !self.drive.readable && start < MARK {
            // The file is known again by what is written there.
            let kept = (MARK - start).div_ceil(block) * block;
            if kept + block > length {
                self.errors.push(format!("Leg {name}: the file of the target is too small for a copy."));
                return None;
            }
            (start, length) = (start + kept, length - kept);
            self.notes.push(format!(
                "Leg {name} leaves the first {} of the target as they are: the file is known again by them.",
                block_size(Bytes(kept))
            ));
        }
        let moved = leg.until.iter().filter_map(|e| if let End::Moved(b) = e { Some(b.0) } else { None });
        let moved = moved.chain(leg.at_most_moved.map(|b| b.0)).min();
        let time = shortest(leg.until.iter().map(time_of).chain([leg.at_most]));
        let one_pass = leg.until.is_empty() || leg.until.contains(&End::Pass);
        let seen = self.seen(name, &leg.until, "its other ends count");
        let by_time = moved.is_none() && time.is_some() && !one_pass;
        let mut budget = match (moved, time) {
            (Some(bytes), _) => bytes.div_ceil(block) * block,
            (None, Some(time)) if !one_pass => {
                ((time.secs() * FASTEST_BYTES_S) as u64 / block).max(1) * block
            }
            _ => length,
        };
        if let Some(bytes) = moved.filter(|bytes| *bytes > length) {
            self.notes.push(format!(
                "Leg {name} asks for {} over a range of {} on this drive: it ends after one pass, {}.",
                Bytes(bytes),
                Bytes(length),
                Bytes(length)
            ));
            budget = length;
        }
        if one_pass {
            budget = budget.min(length);
        }
        if leg.refine.is_some() {
            budget = length.min(MOST_READ.div_ceil(block) * block);
        }
        let kind = leg.kind;
        let transfer = PlannedTransfer {
            op: leg.op,
            reads: leg.reads,
            verify: kind == Kind::Verify || leg.verify,
            sealed: kind == Kind::Verify || leg.verify,
            pass: 0,
            access: leg.access,
            block: leg.block,
            depth: leg.depth,
            workers: leg.workers,
            rate: leg.rate,
            start: Bytes(start),
            length: Bytes(length),
            budget: Bytes(budget),
            by_time,
            incompressible: leg.incompressible,
            cached: leg.cached,
            fill: matches!(kind, Kind::Fill(_))
                .then(|| (start + length) as f64 / self.drive.capacity.0.max(1) as f64),
            zones: match kind {
                // A zone is at least 1 MiB, and holds at least one block.
                Kind::Scan(..) if leg.refine.is_some() => 0,
                Kind::Scan(zones, _) => u64::from(zones).min(length / block.max(1 << 20)).max(1) as u32,
                _ => 0,
            },
            order: match kind {
                Kind::Scan(_, order) => order.unwrap_or_default(),
                _ => ScanOrder::Forward,
            },
            refine: leg.refine,
            bad_time: leg.bad_time,
            copy: leg.copy,
        };
        if matches!(kind, Kind::Fill(_)) {
            self.filled = start + length;
        }
        let mut planned = PlannedLeg { work: Work::Transfer(transfer), time, seen, ..empty };
        self.check_reads(&mut planned);
        Some(planned)
    }

    /// Says what a leg asks for that its guards or this drive stand in the way of.
    fn minds(&mut self, name: &str, leg: &Transfer, guards: &Guards) {
        for end in &leg.until {
            if let End::Seen(Seen::Errors(count)) = end
                && *count > guards.errors_at_most
            {
                self.notes.push(format!(
                    "Leg {name} waits for {count} errors, but the course ends with error {}: give it `stop if errors above {count}`.",
                    guards.errors_at_most + 1
                ));
            }
        }
        if leg.cached {
            match self.drive.cache {
                None => self.errors.push(format!(
                    "Leg {name} goes through the host's cache, which only files do: take out `through the cache`, or name a file."
                )),
                Some(memory) => self.notes.push(format!(
                    "Leg {name} goes through the host's cache: its figures are those of cache and drive together{}.",
                    if self.drive.capacity < memory {
                        format!(", and all of the data fits in this host's {memory} of memory")
                    } else {
                        String::new()
                    }
                )),
            }
        }
    }

    /// Refuses to read what was never written: the drive or the file system answers such reads without touching the medium.
    /// Only whole sequential passes by bytes count as written beforehand, as nothing else is sure to have covered its range.
    fn check_reads(&mut self, leg: &mut PlannedLeg) {
        let Work::Transfer(t) = &mut leg.work else { return };
        let (start, end) = (t.start.0, t.start.0 + t.length.0);
        if t.op == Op::Write {
            if t.access == Access::Sequential && leg.time.is_none() && leg.seen.is_empty() {
                self.written = without(&self.written, (start, start + t.budget.0.min(t.length.0)));
                self.written.push((start, start + t.budget.0.min(t.length.0)));
                self.written.sort_unstable();
            }
            return;
        }
        if self.drive.readable {
            return;
        }
        // The first byte there that was written, if it is near, in whole blocks from the range's own start.
        let block = t.block.0;
        let first = self.written.iter().filter(|w| w.1 > start).map(|w| w.0.max(start)).min().unwrap_or(end);
        let skipped = (first - start).div_ceil(block) * block;
        let start = if skipped <= EDGE { start + skipped } else { start };
        let mut covered = start;
        for &(a, b) in &self.written {
            if a <= covered {
                covered = covered.max(b);
            }
        }
        let length = covered.min(end).saturating_sub(start) / block * block;
        let left_out = (start - t.start.0) + (end - covered.min(end));
        if left_out > 0 && end - covered.min(end) <= EDGE && 2 * length > t.length.0 {
            let shorter = t.length.0 - length;
            (t.start, t.length) = (Bytes(start), Bytes(length));
            if !t.by_time {
                t.budget = Bytes(t.budget.0.saturating_sub(shorter).max(block).min(length));
            }
        } else if covered < end {
            self.errors.push(format!(
                "Leg {} reads {} to {}, but nothing is written there before: such reads never reach the medium. Put a leg that writes the range sequentially before it.",
                leg.name,
                Bytes(start),
                Bytes(end)
            ));
        }
    }
}
