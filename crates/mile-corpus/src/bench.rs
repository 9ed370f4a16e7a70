//! Cases from the simulated bench: courses run on its drives, against what those know.

use crate::{Case, TrueBreak, Truth};
use crossbeam_channel::unbounded;
use mile_core::channel::{Reading, Tells, tells};
use mile_core::findings::Cause;
use mile_core::{Op, Sample, Trace};
use mile_course::{parse, plan};
use mile_drive::Drive;
use mile_drive::drive::TruthKind;
use mile_runner::{Message, RunHead, Terms, execute, run};
use mile_sim::SimDrive;

/// A drive, and a course that shows something on it.
const RUNS: [(&str, &str); 6] = [
    (
        "sim:merrow-k2",
        "course \"soak\"\nsample every 500 ms\n\nleg soak\n  write sequential, blocks 1 MiB, depth 16\n  until 1500 GB written\n",
    ),
    (
        "sim:merrow-k2-finned",
        "course \"soak\"\nsample every 1 s\n\nleg soak\n  write sequential, blocks 1 MiB, depth 16\n  until 700 GB written\n",
    ),
    (
        "sim:merrow-k2",
        "course \"rest\"\nsample every 250 ms\n\nleg first\n  write sequential, blocks 1 MiB, depth 16\n  until 300 GB written\n\nleg rest\n  rest for 20 min\n\nleg again\n  write sequential, blocks 1 MiB, depth 16\n  until 300 GB written\n",
    ),
    (
        "sim:halyard-q4",
        "course \"two stages\"\nsample every 1 s\n\nleg soak\n  write sequential, blocks 1 MiB, depth 16\n  until 2000 GB written\n",
    ),
    (
        "sim:bittern-s1",
        "course \"reads\"\nsample every 500 ms\n\nleg reads\n  read sequential, blocks 1 MiB, depth 16\n  for 5 min\n",
    ),
    (
        "sim:sprat",
        "course \"stick\"\nsample every 500 ms\n\nleg soak\n  write sequential, blocks 1 MiB, depth 4\n  until 60 GB written\n",
    ),
];

/// The case of a seed, 1 and up: one of the courses after another. `None` where the bench has no such drive.
pub fn bench_case(seed: u64) -> Option<Case> {
    let (name, course) = RUNS[(seed % RUNS.len() as u64) as usize];
    let mut drive = SimDrive::new(name, seed).ok()?;
    let Ran { samples, power, head } = ran(&mut drive, course, seed).ok()?;
    let truth = truth(&Trace::of(&samples, &head.first().leg_names()), &drive)?;
    Some(Case {
        pattern: "simulated bench",
        seed,
        samples,
        power,
        names: head.first().leg_names(),
        context: head.first().context(),
        truth,
    })
}

/// What was sampled in a run.
pub(crate) struct Ran {
    pub(crate) samples: Vec<Sample>,
    /// The power of the drive, W.
    pub(crate) power: Vec<Reading>,
    pub(crate) head: RunHead,
}

/// Runs a course on a drive, and gives what was sampled.
///
/// # Errors
/// Where the course cannot be read, or not be planned for the drive.
pub(crate) fn ran(drive: &mut dyn Drive, course: &str, seed: u64) -> Result<Ran, &'static str> {
    let parsed = parse(course).map_err(|_| "the course cannot be read")?;
    let plan = plan(&parsed, &run::plan_facts(drive)).map_err(|_| "the course cannot be planned")?;
    let head = run::head(&plan, course, drive, seed, 0);
    let (_keep, commands) = unbounded();
    let (mut samples, mut power): (Vec<Sample>, Vec<Reading>) = Default::default();
    execute(&plan, head.clone(), drive, Terms::PLAIN, &commands, &mut |message| match message {
        Message::Sample(sample) => samples.push(sample),
        Message::Reading(place, reading)
            if tells(&head.channels, place as usize).is_some_and(|t| t.1 == Tells::Power) =>
        {
            power.push(reading);
        }
        _ => {}
    });
    Ok(Ran { samples, power, head })
}

/// The breaks that the drive's own account means: what happens at rest is seen when the next leg begins.
fn truth(trace: &Trace, drive: &SimDrive) -> Option<Truth> {
    let mut breaks = Vec::new();
    let mut full = false;
    for event in &drive.truth()?.events {
        let leg = trace.legs().iter().find(|l| trace.end(l.samples.end - 1).secs() > event.at_s)?;
        let loaded = leg.op != Op::Idle;
        let cause = match event.what {
            TruthKind::CacheFull | TruthKind::FoldingOn if loaded => {
                full = true;
                Some(Cause::CacheExhausted)
            }
            TruthKind::LightOn | TruthKind::HeavyOn if loaded => Some(Cause::ThermalThrottle),
            TruthKind::LightOff | TruthKind::HeavyOff if loaded => Some(Cause::ThermalRelease),
            TruthKind::CacheBack if full && !loaded => {
                full = false;
                let next =
                    trace.legs().iter().find(|l| l.op == Op::Write && l.samples.start >= leg.samples.end);
                if let Some(next) = next {
                    let (at, bytes) =
                        (trace.start(next.samples.start).secs(), trace.moved(next.samples.start).0 as f64);
                    breaks.push(sharp(at, bytes, Cause::CacheRecovered));
                }
                None
            }
            _ => None,
        };
        breaks.extend(cause.map(|c| sharp(event.at_s, event.at_bytes as f64, c)));
    }
    Some(Truth { breaks, ..Truth::default() })
}

fn sharp(at: f64, bytes: f64, cause: Cause) -> TrueBreak {
    TrueBreak { start_s: at, end_s: at, start_bytes: bytes, end_bytes: bytes, cause }
}
