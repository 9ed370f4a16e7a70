//! From an order to a run that may be started: the course, its drives, its instruments, and what does not fit together.

use super::ready::{Ready, ReadyLane, overlay};
use crate::bench::Named;
use crate::order::{Order, OrderLane};
use crate::{Failure, bench};
use mile_core::Bytes;
use mile_core::channel::Channel;
use mile_core::files::FilesOp;
use mile_course::{Course, Plan, Work};
use mile_drive::{Drive, DriveError, Situation};
use mile_instrument::Config;
use mile_runner::run;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

/// Refuses a course that copies a folder which cannot be read, or that is larger than what is free, before anything is made.
fn check_sources(plan: &Plan, room: Option<Bytes>) -> Result<(), Failure> {
    for leg in &plan.legs {
        let Work::Files(work) = &leg.work else { continue };
        let Some(folder) = work.from.as_ref().filter(|_| work.op == FilesOp::Copy) else { continue };
        let all = mile_drive::files::list(Path::new(folder))
            .map_err(|e| Failure::usage(format!("Leg {} copies the files of {folder}: {e}", leg.name)))?;
        let bytes = Bytes(all.iter().fold(0, |sum, f| sum.saturating_add(f.1)));
        if room.is_some_and(|room| bytes > room) {
            return Err(Failure::usage(format!(
                "Leg {} copies {bytes} of files, but the file system has {} for them beside the file of the run",
                leg.name,
                room.unwrap_or_default()
            )));
        }
    }
    Ok(())
}

/// Reads the course, looks at its drives, and fits the one to the others. Nothing is made or written.
///
/// # Errors
/// Where the course cannot be read or does not fit, or a drive is refused.
pub fn prepare(order: Order) -> Result<Ready, Failure> {
    let mut ready = plan(order)?;
    for lane in &mut ready.lanes {
        let of_lane = |e: DriveError| match (lane.name.as_str(), Failure::from(e)) {
            ("", failure) => failure,
            (name, Failure { code, message }) => Failure { code, message: format!("lane {name}: {message}") },
        };
        lane.drive.will_write_over(&lane.plan.writes_over());
        lane.drive.check_consent(lane.plan.changes_the_drive()).map_err(of_lane)?;
    }
    Ok(ready)
}

/// The seed of the drive of a lane. Two simulated drives of one run scatter as two drives do, each by itself; the first has the seed of the run. On real
/// drives a seed says what is written, which is the same on all of them.
fn seed_of(named: &Named, place: usize) -> u64 {
    if named.drive.starts_with("sim:") { named.seed ^ ((place as u64) << 32) } else { named.seed }
}

/// As [`prepare`], without asking whether what it would do to the drives is allowed.
///
/// # Errors
/// Where the course cannot be read or does not fit, or a drive is not found.
pub fn plan(mut order: Order) -> Result<Ready, Failure> {
    let course = read_course(&order.course_text, &order.course_name)?;
    order.lanes = in_order(&course, std::mem::take(&mut order.lanes), &order.course_name)?;
    let mut drives = Vec::new();
    for (place, lane) in order.lanes.iter().enumerate() {
        drives.push(bench::drive(&Named { seed: seed_of(&lane.named, place), ..lane.named.clone() })?);
    }
    if drives.iter().any(|d| d.is_virtual()) && !drives.iter().all(|d| d.is_virtual()) {
        return Err(Failure::usage(
            "simulated and real drives cannot be in one run, as the time of simulated ones is their own",
        ));
    }
    check_apart(&order.lanes, &drives)?;
    let instruments = instruments_of(&order, &mut drives)?;
    let facts: Vec<_> = drives.iter().map(|d| run::plan_facts(d.as_ref())).collect();
    let mut plans = mile_course::plan_lanes(&course, &facts).map_err(|errors| {
        let names: Vec<&str> = order.lanes.iter().map(|l| l.named.drive.as_str()).collect();
        Failure::usage(format!(
            "{} does not fit {}:\n{}",
            order.course_name,
            names.join(" and "),
            errors.join("\n")
        ))
    })?;
    for (plan, facts) in plans.iter().zip(&facts) {
        check_sources(plan, facts.files)?;
    }
    if order.discard_first {
        mile_course::discard_first(&mut plans);
    }
    let mut lanes = Vec::new();
    for ((mut plan, mut drive), lane) in plans.into_iter().zip(drives).zip(&order.lanes) {
        if let Some(link) = drive.identity().link.as_ref().filter(|l| l.is_degraded()) {
            plan.notes.push(format!("The link is {}.", link.sentence()));
        }
        let situation = run::situation_of(&plan, Situation::default());
        plan.notes.extend(drive.set_up(&overlay(situation, &lane.situation)));
        let said = mile_course::Claimed::read(&lane.claims).map_err(Failure::usage)?;
        said.add_to(&mut plan.claims, &mut plan.stated);
        let (name, named) = (lane.name.clone(), lane.named.drive.clone());
        lanes.push(ReadyLane { name, plan, drive, named });
    }
    if let Some(first) = lanes.first_mut() {
        first.plan.notes.extend(order.warnings.iter().cloned());
    }
    let drives: Vec<&dyn Drive> = lanes.iter().map(|l| l.drive.as_ref()).collect();
    let mut channels = run::channels_of(&drives);
    let plans: Vec<&Plan> = lanes.iter().map(|l| &l.plan).collect();
    channels.extend(run::copy_channels(&plans));
    let names: Vec<&str> = lanes.iter().map(|l| l.name.as_str()).collect();
    channels.extend(instruments.channels(&names).map_err(|e| Failure::usage(e.to_string()))?);
    check_thresholds(&lanes, &channels)?;
    Ok(Ready { lanes, apart: course.apart, channels, instruments, order })
}

/// The bench instruments of a run. Those of the simulated bench are put to its drives.
fn instruments_of(order: &Order, drives: &mut [Box<dyn Drive>]) -> Result<Config, Failure> {
    let simulated = drives.iter().any(|d| d.is_virtual());
    match order.instruments.as_deref() {
        None => Ok(Config::default()),
        Some("bench") if simulated => {
            drives.iter_mut().for_each(|d| d.put_instruments());
            Ok(Config::default())
        }
        Some("bench") => Err(Failure::usage(
            "--instruments bench puts the instruments of the simulated bench to simulated drives; for real drives, name the file that says how yours are asked",
        )),
        Some(_) if simulated => Err(Failure::usage(
            "the time of simulated drives is their own, so that real instruments cannot be read beside them; --instruments bench gives those of the simulated bench",
        )),
        Some(path) => Config::read(Path::new(path)).map_err(|e| Failure::usage(e.to_string())),
    }
}

/// Refuses a course that goes by a channel that nobody gives, or in another unit.
fn check_thresholds(lanes: &[ReadyLane], channels: &[Channel]) -> Result<(), Failure> {
    for (number, lane) in lanes.iter().enumerate() {
        for threshold in lane.plan.thresholds() {
            let of_lane = |c: &&Channel| c.of.is_none_or(|of| of == number as u32);
            let own: Vec<&Channel> = channels.iter().filter(of_lane).collect();
            let list = || match own.as_slice() {
                [] => "there is none; --instruments gives channels".to_owned(),
                all => format!("there are {}", all.iter().map(|c| c.words()).collect::<Vec<_>>().join("; ")),
            };
            let on = if lane.name.is_empty() { String::new() } else { format!(" on lane {}", lane.name) };
            match own.iter().find(|c| c.name == threshold.channel) {
                None => {
                    return Err(Failure::usage(format!(
                        "the course goes by \"{}\", but no channel{on} is called `{}`: {}",
                        threshold.words(),
                        threshold.channel,
                        list()
                    )));
                }
                Some(channel) if channel.unit != threshold.unit => {
                    return Err(Failure::usage(format!(
                        "the course goes by \"{}\", but the channel is in {}",
                        threshold.words(),
                        if channel.unit.is_empty() { "no unit" } else { &channel.unit }
                    )));
                }
                Some(_) => {}
            }
        }
    }
    Ok(())
}

/// The drives in the order of the lanes of the course, which were named in any.
fn in_order(course: &Course, named: Vec<OrderLane>, course_name: &str) -> Result<Vec<OrderLane>, Failure> {
    if course.lanes.is_empty() {
        return match named.as_slice() {
            [one] if one.name.is_empty() => Ok(named),
            [one] => Err(Failure::usage(format!(
                "{course_name} names no lane `{}`: it is for one drive, which is named without a lane",
                one.name
            ))),
            _ => {
                Err(Failure::usage(format!("{course_name} is for one drive, and {} are named", named.len())))
            }
        };
    }
    let lanes: Vec<&str> = course.lanes.iter().map(|l| l.name.as_str()).collect();
    let example: Vec<String> = lanes.iter().map(|l| format!("--on {l}=DRIVE")).collect();
    let mut sorted = Vec::new();
    for lane in &lanes {
        let mut of_lane = named.iter().filter(|n| n.name == *lane);
        match (of_lane.next(), of_lane.next()) {
            (Some(one), None) => sorted.push(one.clone()),
            (Some(_), Some(_)) => {
                return Err(Failure::usage(format!("the lane `{lane}` is given more than one drive")));
            }
            (None, _) => {
                return Err(Failure::usage(format!(
                    "{course_name} has the lanes {}, and `{lane}` is given no drive; name them as {}",
                    lanes.join(" and "),
                    example.join(" ")
                )));
            }
        }
    }
    match named.iter().find(|n| !lanes.contains(&n.name.as_str())) {
        Some(other) => Err(Failure::usage(format!(
            "{course_name} has no lane `{}`; its lanes are {}",
            other.name,
            lanes.join(" and ")
        ))),
        None => Ok(sorted),
    }
}

/// Where a file is or will be: its folder without links and detours, and its name.
fn place(path: &Path) -> Option<PathBuf> {
    let folder = path.parent().filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Some(folder.canonicalize().ok()?.join(path.file_name()?))
}

/// Refuses lanes that are one and the same drive.
fn check_apart(lanes: &[OrderLane], drives: &[Box<dyn Drive>]) -> Result<(), Failure> {
    let number = |lane: &OrderLane| {
        let path = Path::new(&lane.named.drive);
        let meta = std::fs::metadata(path).ok();
        let device = meta.as_ref().filter(|m| m.file_type().is_block_device()).map(MetadataExt::rdev);
        let file = meta.filter(std::fs::Metadata::is_file).map(|m| (m.dev(), m.ino()));
        (device, file, place(path))
    };
    for (i, a) in lanes.iter().enumerate() {
        for (b, drive) in lanes.iter().zip(drives).skip(i + 1) {
            let (one, other) = (number(a), number(b));
            let same = one.0.is_some() && one.0 == other.0
                || one.1.is_some() && one.1 == other.1
                || one.2.is_some() && one.2 == other.2;
            if same && !drive.is_virtual() {
                return Err(Failure::usage(format!(
                    "the lanes `{}` and `{}` are given the same drive, {}",
                    a.name, b.name, b.named.drive
                )));
            }
        }
    }
    Ok(())
}

/// Reads a course; all of its errors at once, each with its line. `name` is where the text came from.
///
/// # Errors
/// Where it cannot be read; all of its errors with their lines.
pub fn read_course(text: &str, name: &str) -> Result<Course, Failure> {
    mile_course::parse(text).map_err(|errors| {
        let count =
            if errors.len() == 1 { "one error".to_owned() } else { format!("{} errors", errors.len()) };
        let list = mile_course::diagnostic::render(&errors, text);
        Failure::usage(format!("{name}: {count}\n\n{}", list.join("\n").trim_end()))
    })
}
