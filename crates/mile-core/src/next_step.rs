//! What to run next, so that a doubtful break becomes a sure one: of the courses that give the candidates different outcomes, the one from which the table of
//! evidence expects most for each byte that it writes.

use crate::breaks::{Break, Cause};
use crate::causes::{Same, Scene, address};
use crate::sample::Op;
use crate::trace::Trace;
use crate::units::{Bytes, Celsius, Nanos};
use serde::{Deserialize, Serialize};

/// Confidence from which a break needs no further run.
pub const SURE: f64 = 0.95;
/// Breaks of a run for which a next step is worked out, the least sure first.
const MOST: usize = 32;
/// The surface is read again so far to either side of a break, share of the drive.
const AROUND: f64 = 0.02;
/// Share of a cause from which a course tells what it would show of it.
const LIKELY: f64 = 0.02;
/// Share of what the best course is expected to show from which a cheaper one will do.
const WORTH: f64 = 0.5;
/// What a byte that is read costs of one that is written: time, and no wear.
const READ_COSTS: f64 = 0.1;
/// What any run costs, as bytes written.
const RUN_COSTS: f64 = 1e9;
/// A drive is warmed up by reads for so many minutes at the most.
const WARM_MIN: u32 = 10;

/// What to run next.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NextStep {
    /// Why and what, in words.
    pub text: String,
    /// A course that can be run as it is.
    pub course: Option<String>,
    /// Which of the breaks it is for.
    #[serde(default)]
    pub of_break: usize,
    /// What the course shows where one of the causes is right.
    #[serde(default)]
    pub outcomes: Vec<Outcome>,
}

/// What a course shows where one of the causes is right.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Outcome {
    /// The cause.
    pub cause: Cause,
    /// How sure it is now, 0 to 1.
    pub now: f64,
    /// How sure it would be then, 0 to 1, by the table of evidence.
    pub then: f64,
    /// What would be seen.
    pub shows: String,
}

/// A course that may tell the candidates apart.
struct Trial {
    /// What it does, in words.
    does: &'static str,
    course: String,
    /// Bytes that it writes, and that it reads.
    written: f64,
    read: f64,
    /// What it shows where a cause is right.
    shows: Vec<(Cause, Same, &'static str)>,
}

/// A further run for each break that is not sure, the least sure first; those that lie in no leg have none.
pub(crate) fn next_steps(scene: &Scene<'_>, breaks: &[Break]) -> Vec<NextStep> {
    let mut doubtful: Vec<usize> = (0..breaks.len())
        .filter(|i| breaks[*i].confidence < SURE || breaks[*i].cause == Cause::Unexplained)
        .collect();
    doubtful.sort_by(|a, b| breaks[*a].confidence.total_cmp(&breaks[*b].confidence));
    doubtful.iter().take(MOST).filter_map(|i| settle(scene, breaks, *i)).collect()
}

/// What would settle the cause of one break, and the course that does. `None` where the trace does not hold it.
fn settle(scene: &Scene<'_>, breaks: &[Break], index: usize) -> Option<NextStep> {
    let doubtful = &breaks[index];
    // What ends a fall is as sure as the fall is.
    let is_fall = |i: &usize| breaks[*i].to_mb_s < breaks[*i].from_mb_s;
    let fall = (0..=index).rev().find(is_fall).unwrap_or(index);
    let trials = trials(scene, breaks, fall)?;
    let ahead = scene.foresight(fall, &breaks[..fall]);
    let outcomes = |trial: &Trial| -> Vec<Outcome> {
        let of = |(cause, shows, words): &(Cause, Same, &str)| {
            let own = breaks[fall].candidates.iter().find(|c| c.cause == *cause)?;
            let now = if breaks[fall].cause == *cause { breaks[fall].confidence } else { own.share };
            let then = ahead.confidence(*cause, *shows);
            Some(Outcome { cause: *cause, now, then, shows: (*words).to_owned() })
        };
        trial.shows.iter().filter_map(of).collect()
    };
    // What is expected to be won: of a cause that is right by chance, as much as it becomes surer.
    let gain = |all: &[Outcome]| -> f64 { all.iter().map(|o| o.now * (o.then - o.now)).sum() };
    let per_byte = |(outcomes, trial): &(Vec<Outcome>, Trial)| {
        gain(outcomes) / (trial.written + READ_COSTS * trial.read + RUN_COSTS)
    };
    let mut all: Vec<(Vec<Outcome>, Trial)> = trials.into_iter().map(|t| (outcomes(&t), t)).collect();
    let best = all.iter().map(|(o, _)| gain(o)).fold(f64::NEG_INFINITY, f64::max);
    // Where none wins anything, that which loses least.
    let enough = if best > 0.0 { WORTH * best } else { best };
    all.retain(|(o, _)| gain(o) >= enough);
    let (outcomes, trial) = all.into_iter().max_by(|a, b| per_byte(a).total_cmp(&per_byte(b)))?;
    let mut text = format!(
        "The break at {} is said to be: {}. {}",
        Bytes(doubtful.at_bytes),
        doubtful.verdict(),
        trial.does
    );
    let likeliest = outcomes.iter().map(|o| o.now).fold(0.0, f64::max);
    for outcome in outcomes.iter().filter(|o| o.now >= LIKELY.min(likeliest)) {
        text.push_str(&sentence(outcome));
    }
    text.push_str(" If the rate does not change again, the cause was something that happened once.");
    text.push_str(&missing(scene));
    Some(NextStep { text, course: Some(trial.course), of_break: index, outcomes })
}

/// What is seen where a cause is right, and how sure it is then, where that is more than it is.
fn sentence(outcome: &Outcome) -> String {
    let noun = match outcome.cause {
        Cause::CacheExhausted => "the write cache",
        Cause::ThermalThrottle => "heat",
        _ => "the surface",
    };
    let sure = if outcome.then >= 0.5 && outcome.then > outcome.now {
        format!(", and the confidence is about {:.0} % then", 100.0 * outcome.then)
    } else {
        String::new()
    };
    format!(" If the cause is {noun}, {}{sure}.", outcome.shows)
}

/// Readings that would have told more.
fn missing(scene: &Scene<'_>) -> String {
    let mut text = String::new();
    if scene.trace.temp.is_blank() {
        text.push_str(
            " Log the drive's temperature with it: without one, heat cannot be told from a full cache.",
        );
    } else if scene.context.warn.is_none() {
        text.push_str(" Give its warning temperature too (--warn).");
    }
    if scene.trace.foreign.is_blank() {
        text.push_str(
            " Log what others move on the drive: without that, they cannot be told from the drive.",
        );
    }
    text
}

/// The courses that may tell what a break comes from.
fn trials(scene: &Scene<'_>, breaks: &[Break], index: usize) -> Option<Vec<Trial>> {
    let trace = scene.trace;
    let at = trace.index_at_time(Nanos::from_secs(breaks[index].at_s)).min(trace.len().checked_sub(1)?);
    let leg = trace.leg_at(at)?;
    let moved = if leg.op == Op::Write {
        scene.since_rest(index).0
    } else {
        breaks[index].at_bytes.saturating_sub(trace.moved(leg.samples.start).0)
    };
    let moved = moved as f64;
    let heat = Warmth::of(trace, at);
    let mut all = Vec::new();
    if leg.op == Op::Write {
        let most = scene.context.capacity.map_or(f64::INFINITY, |c| PART * c.0 as f64);
        // By as much more as the end of a cache scatters, and enough to see what comes behind it.
        let bytes = (1.3 * moved).min(most).max(1e8);
        all.push(write_twice(bytes, &heat));
        all.push(write_warm(bytes, &heat, breaks[index].from_mb_s));
    }
    let place = address(trace, at).zip(scene.context.capacity);
    if let Some((at, capacity)) = place {
        all.push(read_there(at, capacity));
    }
    if leg.op != Op::Write {
        all.push(read_again(1.5 * moved, &heat));
    }
    Some(all)
}

/// How a drive is made as cool as it was, and warmer.
struct Warmth {
    cool: String,
    warm: String,
    /// Half way between.
    cooler: String,
}

impl Warmth {
    /// Of a drive at a sample.
    fn of(trace: &Trace, at: usize) -> Self {
        let coolest = trace.temp.extent(0, trace.len()).map(|e| e.min + 3.0);
        let middle = coolest
            .zip(trace.temp_at(at, 20))
            .map(|(cool, Celsius(hot))| f64::midpoint(cool, hot.max(cool + 4.0)));
        let most = format!("{WARM_MIN} min");
        match coolest.zip(middle) {
            Some((cool, middle)) => Self {
                cool: format!("rest until temperature below {cool:.0} °C, at most 30 min"),
                warm: format!("until temperature above {middle:.0} °C, at most {most}"),
                cooler: format!("rest until temperature below {middle:.0} °C, at most 30 min"),
            },
            None => Self {
                cool: "rest for 10 min".to_owned(),
                warm: format!("until {most}"),
                cooler: "rest for 2 min".to_owned(),
            },
        }
    }
}

/// Share of the drive that one leg of a suggested course writes at the most, so that two of them are less than it holds.
const PART: f64 = 0.45;

fn gigabytes(bytes: f64) -> String {
    let gb = bytes / 1e9;
    if gb < 10.0 { format!("{gb:.1}") } else { format!("{:.0}", gb.floor()) }
}

const SAME_BYTES: &str = "the rate falls after the same number of bytes both times";

/// Twice what it took, from a cool drive, with a rest between that lets a cache come back: in one run, so that both falls are held against each other. Heat
/// comes after the same bytes both times, too.
fn write_twice(bytes: f64, heat: &Warmth) -> Trial {
    let write =
        format!("  write sequential, blocks 1 MiB, depth 16\n  until {} GB written\n", gigabytes(bytes));
    let cool = &heat.cool;
    Trial {
        does: "Write as much twice, with a rest in between.",
        course: format!(
            "course \"tell the cache from what happens once\"\nsample every 250 ms\n\nleg cool\n  {cool}\n\nleg once\n{write}\nleg rest\n  rest for 30 min\n\nleg twice\n{write}"
        ),
        written: 2.0 * bytes,
        read: 0.0,
        shows: vec![
            (Cause::CacheExhausted, Same::BytesAsWarm, SAME_BYTES),
            (Cause::ThermalThrottle, Same::BytesAsWarm, "it falls at the same temperature"),
        ],
    }
}

/// The same, with a drive that reads have warmed the second time: a cache has as much room then, and heat comes sooner.
fn write_warm(bytes: f64, heat: &Warmth, mb_s: f64) -> Trial {
    let write =
        format!("  write sequential, blocks 1 MiB, depth 16\n  until {} GB written\n", gigabytes(bytes));
    let Warmth { cool, warm, .. } = heat;
    Trial {
        does: "Write as much twice, with a rest in between, and warm the drive by reads before the second time.",
        course: format!(
            "course \"tell the cache from heat\"\nsample every 250 ms\n\nleg cool\n  {cool}\n\nleg once\n{write}\nleg rest\n  rest for 30 min\n\nleg warm\n  read sequential, blocks 1 MiB, depth 16\n  {warm}\n\nleg twice\n{write}"
        ),
        written: 2.0 * bytes,
        read: mb_s * 1e6 * 60.0 * f64::from(WARM_MIN),
        shows: vec![
            (Cause::CacheExhausted, Same::Bytes, SAME_BYTES),
            (
                Cause::ThermalThrottle,
                Same::Temperature,
                "it falls after fewer bytes the second time, at the same temperature",
            ),
        ],
    }
}

fn read_there(at: Bytes, capacity: Bytes) -> Trial {
    let share = at.0 as f64 / capacity.0.max(1) as f64;
    // Whole tenths of a percent, inside the drive.
    let from = ((share - AROUND).clamp(0.0, 0.97) * 1000.0).floor() / 10.0;
    let to = ((share + AROUND).clamp(0.03, 1.0) * 1000.0).ceil() / 10.0;
    let gb = ((to - from) / 100.0 * capacity.0 as f64 / 1e9).ceil().max(1.0);
    let read = format!(
        "  read sequential, blocks 1 MiB, depth 16\n  over {from:.1} % to {to:.1} %\n  until {gb:.0} GB read\n"
    );
    Trial {
        does: "Read the stretch around it twice.",
        course: format!(
            "course \"tell the surface from others\"\nsample every 250 ms\n\nleg once\n{read}\nleg twice\n{read}"
        ),
        written: 0.0,
        read: 2e9 * gb,
        shows: vec![(Cause::Surface, Same::Place, "the rate changes at the same address both times")],
    }
}

/// From the start to well behind where it was, twice: the second time with a drive that has cooled by half.
fn read_again(bytes: f64, heat: &Warmth) -> Trial {
    let gb = (bytes / 1e9).ceil().max(1.0);
    let read = format!("  read sequential, blocks 1 MiB, depth 16\n  until {gb:.0} GB read\n");
    let Warmth { cool, cooler, .. } = heat;
    Trial {
        does: "Let the drive cool, read as much from the start, let it cool by half, and read that again.",
        course: format!(
            "course \"tell the surface from heat\"\nsample every 250 ms\n\nleg cool\n  {cool}\n\nleg once\n{read}\nleg rest\n  {cooler}\n\nleg twice\n{read}"
        ),
        written: 0.0,
        read: 2e9 * gb,
        shows: vec![
            (Cause::Surface, Same::Place, "the rate changes after the same number of bytes both times"),
            (
                Cause::ThermalThrottle,
                Same::Temperature,
                "it falls after fewer bytes the second time, at the same temperature",
            ),
        ],
    }
}
