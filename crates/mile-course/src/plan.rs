//! A course fitted to one drive: byte ranges instead of shares, ends that the drive can reach, and a budget of bytes for
//! every leg. What had to be changed to fit is said in [`Plan::notes`].

pub(crate) mod facts;
pub(crate) mod fit;
mod folded;
mod guards;
pub(crate) mod leg;

pub use facts::DriveFacts;
pub use guards::Guards;
pub use leg::{Load, PlannedLeg, Work};

use crate::course::{Action, Claims, Course, Seen, Threshold};
use crate::kinds::files::There;
use crate::kinds::transfer::Kind;
use crate::kinds::verify::number_passes;
use crate::kinds::{copy, discard, expect, files, fill, rest, scan, transfer};
use fit::Fit;
use folded::Folded;
use mile_core::claims::conditions::StatedClaim;
use mile_core::health::SelfTestKind;
use mile_core::{Bytes, Celsius, Demand, Nanos, Op, Rate};

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

impl Plan {
    /// Bytes that the plan writes at most, without the legs that only a time ends.
    pub fn writes(&self) -> Bytes {
        Bytes(self.legs.iter().map(PlannedLeg::writes).sum())
    }

    /// Bytes that the legs write that only a time ends, on a drive that writes at `rate` or as fast as the leg asks for, whichever is less.
    pub fn writes_by_time(&self, rate: Rate) -> Bytes {
        let of = |leg: &PlannedLeg| match (&leg.work, leg.time) {
            (Work::Transfer(t), Some(time)) if t.by_time && t.load.op != Op::Read => {
                let share = if t.load.op == Op::Mixed { 1.0 - t.load.reads } else { 1.0 };
                // The rate of a mix is that of both.
                t.load.rate.map_or(rate.0, |most| most.0.min(rate.0)) * share * time.secs()
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
            Work::Transfer(t) if t.load.op != Op::Read => Some((t.start, t.start.0 + t.length.0)),
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

    /// What the legs write over on the drive, or have it discard: first byte and length of each.
    pub fn writes_over(&self) -> Vec<(Bytes, Bytes)> {
        let of = |leg: &PlannedLeg| match &leg.work {
            Work::Transfer(t) if t.load.op != Op::Read => Some((t.start, t.length)),
            Work::Discard { start, length } => Some((*start, *length)),
            _ => None,
        };
        self.legs.iter().filter_map(of).collect()
    }

    /// Whether any leg changes what is on the drive.
    pub fn changes_the_drive(&self) -> bool {
        self.legs.iter().any(|l| match &l.work {
            Work::Transfer(t) => t.load.op != Op::Read,
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
            | Work::Expect
            | Work::Ask(_) => false,
        })
    }
}

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
    match_copies(&mut plans)?;
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
        errors_at_most: guards.errors_at_most,
    };
    let mut there = There::default();
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
        legs.extend(fit_leg(&mut fit, &mut there, empty, &leg.action));
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

/// Fits one leg to its drive. `None`, with the reason in the errors, where it does not fit.
fn fit_leg(fit: &mut Fit<'_>, there: &mut There, empty: PlannedLeg, action: &Action) -> Option<PlannedLeg> {
    let name = &empty.name.clone();
    let moves = |(transfer, time, seen), empty: PlannedLeg| PlannedLeg {
        work: Work::Transfer(transfer),
        time,
        seen,
        ..empty
    };
    Some(match action {
        Action::Rest(rest) => match rest::fit(fit, name, rest) {
            Some((time, seen)) => PlannedLeg { work: Work::Rest, time, seen, ..empty },
            None => empty,
        },
        Action::Transfer(t) => match t.kind {
            Kind::Fill(to) if fill::is_reached(fit, t, to) => empty,
            Kind::Fill(to) => moves(fill::fit(fit, name, t, to)?, empty),
            Kind::Scan(zones, order) => moves(scan::fit(fit, name, t, (zones, order))?, empty),
            Kind::Plain | Kind::Verify => moves(transfer::fit(fit, name, t)?, empty),
        },
        Action::Files(f) => match files::fit(name, f, fit.drive, there) {
            Ok(planned) => {
                fit.notes.extend(files::cache_note(name, f));
                PlannedLeg { work: Work::Files(Box::new(planned)), time: f.at_most, ..empty }
            }
            Err(why) => {
                fit.errors.push(why);
                return None;
            }
        },
        // A plan is for one lane, for which a copy is a read or a write.
        Action::Copy(_) | Action::Watch => PlannedLeg { work: Work::Watch, ..empty },
        Action::Flush => PlannedLeg { work: Work::Flush, ..empty },
        Action::SelfTest(test) => {
            let work = if test.kind == SelfTestKind::Selective {
                let (start, length) = fit.range(name, test.over, fit.drive.logical_block, Bytes(0))?;
                Work::SelectiveTest { start, length }
            } else {
                Work::SelfTest(test.kind)
            };
            PlannedLeg { work, time: test.at_most, ..empty }
        }
        Action::Health => PlannedLeg { work: Work::Health, ..empty },
        Action::Expect(expect) => {
            let (time, seen) = expect::fit(fit, name, expect)?;
            PlannedLeg { work: Work::Expect, time: Some(time), seen, ..empty }
        }
        Action::Ask(ask) => PlannedLeg { work: Work::Ask(ask.text.clone()), time: ask.at_most, ..empty },
        Action::Discard(range) => {
            let (start, length) = discard::fit(fit, name, range)?;
            PlannedLeg { work: Work::Discard { start, length }, ..empty }
        }
    })
}

/// Has both sides of each copy move the same bytes.
///
/// # Errors
/// Copies of which nothing fits, in sentences.
fn match_copies(plans: &mut [Plan]) -> Result<(), Vec<String>> {
    let mut errors = Vec::new();
    let legs = plans.iter().map(|p| p.legs.len()).min().unwrap_or(0);
    let side = |plan: &Plan, leg: usize| match plan.legs[leg].work {
        Work::Transfer(t) => t.copy.map(|part| (t, part)),
        _ => None,
    };
    let lanes = plans.len();
    for (leg, lane) in (0..legs).flat_map(|leg| (0..lanes).map(move |lane| (leg, lane))) {
        let Some((mut source, part)) = side(&plans[lane], leg).filter(|(_, part)| part.is_source) else {
            continue;
        };
        let partner = part.partner as usize;
        let Some((mut target, _)) = plans.get(partner).and_then(|plan| side(plan, leg)) else { continue };
        match copy::match_sides(&plans[lane].legs[leg].name, &mut source, &mut target) {
            Ok(note) => plans[lane].notes.extend(note),
            Err(why) => errors.push(why),
        }
        plans[lane].legs[leg].work = Work::Transfer(source);
        plans[partner].legs[leg].work = Work::Transfer(target);
    }
    if errors.is_empty() { Ok(()) } else { Err(errors) }
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
