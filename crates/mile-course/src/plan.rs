//! A course fitted to one drive: byte ranges instead of shares, ends that the drive can reach, and a budget of bytes for
//! every leg. What had to be changed to fit is said in [`Plan::notes`].

use crate::course::{Access, Action, Course, End, Guard, Position, Transfer};
use mile_core::{Bytes, Celsius, Nanos, Op, units::block_size};

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
}

/// A course for one drive.
#[derive(Clone, Debug, PartialEq)]
pub struct Plan {
    /// Name of the course.
    pub name: String,
    /// Length of a sample.
    pub sample_every: Nanos,
    /// Temperature above which the run stops.
    pub stop_above: Option<Celsius>,
    /// Its stages.
    pub legs: Vec<PlannedLeg>,
    /// What was changed to fit the drive, in sentences.
    pub notes: Vec<String>,
}

/// One stage of a plan.
#[derive(Clone, Debug, PartialEq)]
pub struct PlannedLeg {
    /// Its name.
    pub name: String,
    /// What it does.
    pub work: Work,
    /// It ends when so much time has passed.
    pub time: Option<Nanos>,
    /// It ends when the temperature is below this.
    pub below: Option<Celsius>,
}

/// What a planned leg does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Work {
    /// Nothing: it waits.
    Rest,
    /// Nothing, and it is not waited for: no end of it can be reached on this drive.
    Skip,
    /// Reads or writes.
    Transfer(PlannedTransfer),
}

/// Reads or writes of a planned leg.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PlannedTransfer {
    /// Which.
    pub op: Op,
    /// In what order.
    pub access: Access,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Operations in flight.
    pub depth: u32,
    /// First byte that may be touched; a multiple of the block size above the drive's start.
    pub start: Bytes,
    /// Bytes from there that may be touched; a multiple of the block size.
    pub length: Bytes,
    /// Bytes moved after which it ends; a multiple of the block size.
    pub budget: Bytes,
    /// Whether the course gives a time only, so that the budget is no more than a wall.
    pub by_time: bool,
}

impl Plan {
    /// Bytes that the plan writes at most, without the legs that only a time ends.
    pub fn writes(&self) -> Bytes {
        Bytes(self.legs.iter().map(PlannedLeg::writes).sum())
    }
}

impl PlannedLeg {
    fn writes(&self) -> u64 {
        match self.work {
            Work::Transfer(t) if t.op == Op::Write && !t.by_time => t.budget.0,
            _ => 0,
        }
    }

    /// What it does, in words: `writing 1 MiB blocks, 16 deep`.
    pub fn words(&self) -> String {
        match &self.work {
            Work::Skip => "nothing to wait for".into(),
            Work::Rest => match (self.below, self.time) {
                (Some(below), Some(time)) => format!("resting until below {below}, at most {time}"),
                (Some(below), None) => format!("resting until below {below}"),
                (None, Some(time)) => format!("resting for {time}"),
                (None, None) => "resting".into(),
            },
            Work::Transfer(t) => {
                let verb = if t.op == Op::Write { "writing" } else { "reading" };
                let order = if t.access == Access::Random { "random " } else { "" };
                let time =
                    self.time.filter(|_| t.by_time).map_or(String::new(), |time| format!(", for {time}"));
                format!("{verb} {order}{} blocks, {} deep{time}", block_size(t.block), t.depth)
            }
        }
    }
}

/// No leg that ends by time alone moves more than this in a second: four times what a PCIe 5.0 x4 link can carry. It turns a
/// time into the byte budget that every leg has.
const FASTEST_BYTES_S: f64 = 64e9;

/// Fits a course to a drive. Fails with everything that does not fit, in sentences.
pub fn plan(course: &Course, drive: &DriveFacts) -> Result<Plan, Vec<String>> {
    let mut errors = Vec::new();
    let mut notes = Vec::new();
    let mut legs = Vec::new();
    let mut written: Vec<(u64, u64)> = Vec::new();
    let stop_above = course
        .guards
        .iter()
        .map(|Guard::TemperatureAbove(limit)| *limit)
        .reduce(|a, b| if a < b { a } else { b });
    if let Some(limit) = stop_above.filter(|_| !drive.has_temperature) {
        notes.push(format!(
            "The guard \"temperature above {limit}\" cannot act: this drive gives no temperature."
        ));
    }
    for leg in &course.legs {
        let planned = match &leg.action {
            Action::Rest(rest) => fit_rest(&leg.name, &rest.until, rest.at_most, drive, &mut notes),
            Action::Transfer(transfer) => {
                let Some(fitted) = fit_transfer(&leg.name, transfer, drive, &mut notes, &mut errors) else {
                    continue;
                };
                if let Work::Transfer(t) = &fitted.work {
                    check_reads(&fitted, t, drive, &mut written, &mut errors);
                }
                fitted
            }
        };
        legs.push(planned);
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    Ok(Plan { name: course.name.clone(), sample_every: course.sample_every, stop_above, legs, notes })
}

fn shortest(times: impl Iterator<Item = Option<Nanos>>) -> Option<Nanos> {
    times.flatten().min()
}

fn time_of(end: &End) -> Option<Nanos> {
    if let End::After(time) = end { Some(*time) } else { None }
}

fn below_of(ends: &[End]) -> Option<Celsius> {
    ends.iter()
        .filter_map(|e| if let End::TemperatureBelow(c) = e { Some(*c) } else { None })
        .reduce(|a, b| if a > b { a } else { b })
}

fn fit_rest(
    name: &str,
    until: &[End],
    at_most: Option<Nanos>,
    drive: &DriveFacts,
    notes: &mut Vec<String>,
) -> PlannedLeg {
    let timed = shortest(until.iter().map(time_of));
    let below = below_of(until);
    let leg = |work, time, below| PlannedLeg { name: name.to_owned(), work, time, below };
    match below {
        Some(limit) if !drive.has_temperature => {
            let what = if timed.is_some() { "only its time counts" } else { "the leg is passed over" };
            notes.push(format!(
                "Leg {name} waits for a temperature below {limit}, but this drive gives no temperature: {what}."
            ));
            match timed {
                Some(time) => leg(Work::Rest, Some(at_most.map_or(time, |m| m.min(time))), None),
                None => leg(Work::Skip, None, None),
            }
        }
        below => leg(Work::Rest, shortest([timed, at_most].into_iter()), below),
    }
}

fn fit_transfer(
    name: &str,
    leg: &Transfer,
    drive: &DriveFacts,
    notes: &mut Vec<String>,
    errors: &mut Vec<String>,
) -> Option<PlannedLeg> {
    let block = leg.block.0;
    if !block.is_multiple_of(drive.logical_block.0.max(1)) {
        errors.push(format!(
            "Leg {name}: blocks of {} are no multiple of this drive's logical block of {}.",
            block_size(leg.block),
            block_size(drive.logical_block)
        ));
        return None;
    }
    let address = |p: Position| match p {
        Position::Share(share) => (drive.capacity.0 as f64 * share) as u64,
        Position::At(bytes) => bytes.0,
    };
    let whole = drive.capacity.0 / block * block;
    let start = address(leg.over.0).div_ceil(block) * block;
    let asked_end = address(leg.over.1);
    let end = asked_end.min(whole) / block * block;
    if end < start + block {
        errors.push(format!(
            "Leg {name}: not one block of {} fits between {} and {} on a drive of {}.",
            block_size(leg.block),
            Bytes(address(leg.over.0)),
            Bytes(asked_end),
            drive.capacity
        ));
        return None;
    }
    if asked_end > drive.capacity.0 {
        notes.push(format!(
            "Leg {name} reaches to {}, behind the end of this drive: it ends at {}.",
            Bytes(asked_end),
            drive.capacity
        ));
    }
    let length = end - start;
    let moved = leg.until.iter().filter_map(|e| if let End::Moved(b) = e { Some(b.0) } else { None }).min();
    let time = shortest(leg.until.iter().map(time_of).chain([leg.at_most]));
    let one_pass = leg.until.is_empty() || leg.until.contains(&End::Pass);
    let mut below = below_of(&leg.until);
    if let Some(limit) = below.filter(|_| !drive.has_temperature) {
        notes.push(format!("Leg {name} would end at a temperature below {limit}, but this drive gives none: its other ends count."));
        below = None;
    }
    let by_time = moved.is_none() && time.is_some() && !one_pass;
    let mut budget = match (moved, time) {
        (Some(bytes), _) => bytes.div_ceil(block) * block,
        (None, Some(time)) if !one_pass => ((time.secs() * FASTEST_BYTES_S) as u64 / block).max(1) * block,
        _ => length,
    };
    if moved.is_some_and(|bytes| bytes > length) {
        notes.push(format!(
            "Leg {name} asks for {} over a range of {} on this drive: it ends after one pass, {}.",
            Bytes(moved.unwrap_or(0)),
            Bytes(length),
            Bytes(length)
        ));
        budget = length;
    }
    if one_pass {
        budget = budget.min(length);
    }
    let transfer = PlannedTransfer {
        op: leg.op,
        access: leg.access,
        block: leg.block,
        depth: leg.depth,
        start: Bytes(start),
        length: Bytes(length),
        budget: Bytes(budget),
        by_time,
    };
    Some(PlannedLeg { name: name.to_owned(), work: Work::Transfer(transfer), time, below })
}

/// Refuses to read what was never written: the drive or the file system answers such reads without touching the medium.
/// Only whole sequential passes by bytes count as written beforehand, as nothing else is sure to have covered its range.
fn check_reads(
    leg: &PlannedLeg,
    t: &PlannedTransfer,
    drive: &DriveFacts,
    written: &mut Vec<(u64, u64)>,
    errors: &mut Vec<String>,
) {
    let (start, end) = (t.start.0, t.start.0 + t.length.0);
    if t.op == Op::Write {
        if t.access == Access::Sequential && leg.time.is_none() && leg.below.is_none() {
            written.push((start, start + t.budget.0.min(t.length.0)));
            written.sort_unstable();
        }
        return;
    }
    if drive.readable {
        return;
    }
    let mut covered = start;
    for &(a, b) in written.iter() {
        if a <= covered {
            covered = covered.max(b);
        }
    }
    if covered < end {
        errors.push(format!(
            "Leg {} reads {} to {}, but nothing is written there before: such reads never reach the medium. Put a leg that writes the range sequentially before it.",
            leg.name,
            Bytes(start),
            Bytes(end)
        ));
    }
}
