//! A course fitted to one drive: byte ranges instead of shares, ends that the drive can reach, and a budget of bytes for
//! every leg. What had to be changed to fit is said in [`Plan::notes`].

use crate::course::{Access, Action, Course, End, Guard, Position, Transfer};
use mile_core::{Bytes, Celsius, Nanos, Op, Rate, units::block_size};

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
    /// Time between two looks at the drive's health.
    pub health_every: Nanos,
    /// Temperature above which the run stops.
    pub stop_above: Option<Celsius>,
    /// Failed operations that the run survives.
    pub errors_at_most: u64,
    /// Time after which an operation that is not back ends the run, where the course names one.
    pub patience: Option<Nanos>,
    /// Whether a critical warning of the drive stops the run.
    pub stop_on_warning: bool,
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
#[derive(Clone, Debug, PartialEq)]
pub enum Work {
    /// Nothing: it waits.
    Rest,
    /// Nothing, and it is not waited for: no end of it can be reached on this drive.
    Skip,
    /// Reads or writes.
    Transfer(PlannedTransfer),
    /// Makes the drive keep what it was given.
    Flush,
    /// Tells the drive that a range holds nothing any more.
    Discard {
        /// First byte.
        start: Bytes,
        /// Bytes from there.
        length: Bytes,
    },
}

/// Reads or writes of a planned leg.
#[derive(Clone, Copy, Debug, PartialEq)]
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
}

impl Plan {
    /// Bytes that the plan writes at most, without the legs that only a time ends.
    pub fn writes(&self) -> Bytes {
        Bytes(self.legs.iter().map(PlannedLeg::writes).sum())
    }

    /// Puts a leg in front that discards what the other legs write to, from the first byte of that to the last.
    pub fn discard_first(&mut self) {
        let ranges = self.legs.iter().filter_map(|l| match &l.work {
            Work::Transfer(t) if t.op != Op::Read => Some((t.start, t.start.0 + t.length.0)),
            _ => None,
        });
        let Some((start, end)) = ranges.reduce(|a, b| (a.0.min(b.0), a.1.max(b.1))) else { return };
        let length = Bytes(end - start.0);
        let mut name = "discard first".to_owned();
        while self.legs.iter().any(|l| l.name == name) {
            name.push('\'');
        }
        self.legs.insert(0, bare(&name, Work::Discard { start, length }));
    }

    /// Whether any leg changes what is on the drive.
    pub fn changes_the_drive(&self) -> bool {
        self.legs.iter().any(|l| match &l.work {
            Work::Transfer(t) => t.op != Op::Read,
            Work::Discard { .. } => true,
            Work::Rest | Work::Skip | Work::Flush => false,
        })
    }
}

impl PlannedLeg {
    fn writes(&self) -> u64 {
        match self.work {
            Work::Transfer(t) if t.op == Op::Write && !t.by_time => t.budget.0,
            Work::Transfer(t) if t.op == Op::Mixed && !t.by_time => {
                (t.budget.0 as f64 * (1.0 - t.reads)) as u64
            }
            _ => 0,
        }
    }

    /// What it does, in words: `writing 1 MiB blocks, 16 deep`.
    pub fn words(&self) -> String {
        match &self.work {
            Work::Skip => "nothing to wait for".into(),
            Work::Flush => "flushing".into(),
            Work::Discard { start, length } => format!("discarding {length} from {start} on"),
            Work::Rest => match (self.below, self.time) {
                (Some(below), Some(time)) => format!("resting until below {below}, at most {time}"),
                (Some(below), None) => format!("resting until below {below}"),
                (None, Some(time)) => format!("resting for {time}"),
                (None, None) => "resting".into(),
            },
            Work::Transfer(t) => {
                let verb = match t.op {
                    Op::Write => "writing".to_owned(),
                    Op::Mixed => format!("reading {:.0} % and writing", t.reads * 100.0),
                    _ if t.verify => "verifying".to_owned(),
                    _ => "reading".to_owned(),
                };
                let order = if t.access == Access::Random { "random " } else { "" };
                let workers = if t.workers > 1 { format!(", {} workers", t.workers) } else { String::new() };
                let rate = t.rate.map_or(String::new(), |r| format!(", at most {r}"));
                let time =
                    self.time.filter(|_| t.by_time).map_or(String::new(), |time| format!(", for {time}"));
                format!("{verb} {order}{} blocks, {} deep{workers}{rate}{time}", block_size(t.block), t.depth)
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
    let mut stop_above: Option<Celsius> = None;
    let (mut errors_at_most, mut patience, mut stop_on_warning) = (None, None, false);
    for guard in &course.guards {
        match guard {
            Guard::TemperatureAbove(limit) => {
                stop_above = Some(stop_above.map_or(*limit, |s| if *limit < s { *limit } else { s }));
            }
            Guard::ErrorsAbove(count) => {
                errors_at_most = Some(errors_at_most.map_or(*count, |e: u64| e.min(*count)))
            }
            Guard::OperationAbove(time) => patience = Some(patience.map_or(*time, |p: Nanos| p.min(*time))),
            Guard::CriticalWarning => stop_on_warning = true,
        }
    }
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
            Action::Flush => bare(&leg.name, Work::Flush),
            Action::Discard(over) => {
                let Some((start, length)) =
                    fit_range(&leg.name, *over, drive.logical_block, drive, &mut notes, &mut errors)
                else {
                    continue;
                };
                // What is read there afterwards never reaches the medium.
                written = without(&written, (start.0, start.0 + length.0));
                bare(&leg.name, Work::Discard { start, length })
            }
        };
        legs.push(planned);
    }
    if !errors.is_empty() {
        return Err(errors);
    }
    number_passes(&mut legs, &mut errors);
    if !errors.is_empty() {
        return Err(errors);
    }
    Ok(Plan {
        name: course.name.clone(),
        sample_every: course.sample_every,
        health_every: course.health_every,
        stop_above,
        errors_at_most: errors_at_most.unwrap_or(0),
        patience,
        stop_on_warning,
        legs,
        notes,
    })
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

fn bare(name: &str, work: Work) -> PlannedLeg {
    PlannedLeg { name: name.to_owned(), work, time: None, below: None }
}

/// Numbers the legs that write, in order, so that older data is told from newer; finds for each leg that verifies what wrote
/// its range, and has those legs seal what they write.
fn number_passes(legs: &mut [PlannedLeg], errors: &mut Vec<String>) {
    let mut pass = 0;
    for i in 0..legs.len() {
        let (before, rest) = legs.split_at_mut(i);
        let leg = &mut rest[0];
        let Work::Transfer(t) = &mut leg.work else { continue };
        if t.op != Op::Read {
            pass += 1;
            t.pass = pass;
            continue;
        }
        if !t.verify {
            continue;
        }
        let (from, to) = (t.start.0, t.start.0 + t.length.0);
        // What lies open yet, and the earliest pass of those that cover the rest.
        let mut open = vec![(from, to)];
        let mut first = None;
        for earlier in before.iter_mut().rev() {
            if open.is_empty() {
                break;
            }
            match &mut earlier.work {
                Work::Transfer(w) if w.op != Op::Read && w.start.0 < to && from < w.start.0 + w.length.0 => {
                    w.sealed = true;
                    let whole = w.op == Op::Write
                        && w.access == Access::Sequential
                        && (w.workers == 1 || w.budget.0 >= w.length.0)
                        && earlier.time.is_none()
                        && earlier.below.is_none();
                    if whole {
                        first = Some(w.pass);
                        open = without(&open, (w.start.0, w.start.0 + w.budget.0.min(w.length.0)));
                    }
                }
                Work::Discard { start, length } if start.0 < to && from < start.0 + length.0 => break,
                _ => {}
            }
        }
        match first.filter(|_| open.is_empty()) {
            Some(first) => t.pass = first,
            None => errors.push(format!(
                "Leg {} verifies {} to {}, but the legs before it do not write the whole of that sequentially: there is nothing to hold it against.",
                leg.name,
                Bytes(from),
                Bytes(to)
            )),
        }
    }
}

/// What is left of stretches when one is taken out of them.
fn without(stretches: &[(u64, u64)], (from, to): (u64, u64)) -> Vec<(u64, u64)> {
    let parts = stretches.iter().flat_map(|&(a, b)| [(a, b.min(from)), (a.max(to), b)]);
    parts.filter(|(a, b)| a < b).collect()
}

/// The range of a leg in whole units on this drive: first byte and length. `None`, with the reason in `errors`, where not
/// one unit fits.
fn fit_range(
    name: &str,
    over: (Position, Position),
    unit: Bytes,
    drive: &DriveFacts,
    notes: &mut Vec<String>,
    errors: &mut Vec<String>,
) -> Option<(Bytes, Bytes)> {
    let block = unit.0.max(1);
    let address = |p: Position| match p {
        Position::Share(share) => (drive.capacity.0 as f64 * share) as u64,
        Position::At(bytes) => bytes.0,
    };
    let whole = drive.capacity.0 / block * block;
    // Ranges that touch in shares touch in blocks; one that begins at a byte does not begin before it.
    let start = match over.0 {
        Position::Share(_) => address(over.0) / block * block,
        Position::At(at) => at.0.div_ceil(block) * block,
    };
    let asked_end = address(over.1);
    let end = asked_end.min(whole) / block * block;
    if end < start + block {
        errors.push(format!(
            "Leg {name}: not one block of {} fits between {} and {} on a drive of {}.",
            block_size(unit),
            Bytes(address(over.0)),
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
    Some((Bytes(start), Bytes(end - start)))
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
    let (start, length) = fit_range(name, leg.over, leg.block, drive, notes, errors)?;
    if u64::from(leg.workers) > length.0 / block {
        errors.push(format!("Leg {name}: {} workers cannot share {} blocks.", leg.workers, length.0 / block));
        return None;
    }
    let (start, length) = (start.0, length.0);
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
        reads: leg.reads,
        verify: leg.verify,
        sealed: leg.verify,
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
