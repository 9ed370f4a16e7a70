//! The sides of a comparison as they are named: runs, tags and files.

use crate::cli::BesideArgs;
use crate::source::Source;
use mile_bench::Failure;
use mile_bench::session::logbook_path;
use mile_core::channel::Series;
use mile_core::compare::{Member, Side};
use mile_core::legs::{LegRow, leg_rows};
use mile_core::ruler::{Ruler, Window};
use mile_core::stages::LaneTrace;
use mile_core::surface::is_at_random;
use mile_core::{Context, Findings, Trace};
use mile_figures::{LegWalks, SideWalk};
use mile_logbook::{Logbook, LogbookError};
use mile_runner::{EventKind, LaneHead, Status};
use std::ops::Range;
use std::path::Path;

/// The figures of the legs of a lane.
pub(crate) fn rows_of(
    (head, number): (&LaneHead, usize),
    trace: &Trace,
    context: &Context,
    series: &[Series],
    found: &Findings,
) -> Vec<LegRow> {
    let lane = LaneTrace { name: &head.name, trace, context, series, number: number as u32 };
    let mut rows = leg_rows(&lane, &found.legs);
    // What was stated counts where nothing was logged.
    for row in &mut rows {
        row.ambient_c = row.ambient_c.or(head.situation.ambient.map(|a| a.0));
    }
    rows
}

impl Source {
    /// The figures of its legs.
    pub(crate) fn leg_rows(&self) -> Vec<LegRow> {
        let of = (self.head.lane(self.lane), self.lane);
        rows_of(of, &self.trace, &self.context, &self.series, &self.findings)
    }
}

/// A run with all its lanes as a member of a side. `all` are the lanes of one run.
pub(crate) fn member(all: &[Source]) -> Member {
    let Some(first) = all.first() else { return Member::default() };
    let of_lanes = |text: &dyn Fn(&Source) -> String| {
        let each: Vec<String> = all.iter().map(text).collect();
        if each.iter().all(String::is_empty) { String::new() } else { each.join(" + ") }
    };
    let plain = |text: &Option<String>| text.clone().unwrap_or_default();
    let conditions = if first.status.is_some() {
        let situation = |of: &dyn Fn(&mile_drive::Situation) -> Option<String>| {
            of_lanes(&|s| plain(&of(&s.head.lane(s.lane).situation)))
        };
        vec![
            ("drive", of_lanes(&|s| s.head.lane(s.lane).drive.model.clone())),
            ("serial number", of_lanes(&|s| plain(&s.head.lane(s.lane).drive.serial))),
            ("firmware", of_lanes(&|s| plain(&s.head.lane(s.lane).drive.firmware))),
            (
                "link",
                of_lanes(&|s| {
                    s.head.lane(s.lane).drive.link.as_ref().map_or(String::new(), |l| l.negotiated.clone())
                }),
            ),
            ("slot", situation(&|s| s.slot.clone())),
            ("cooling", situation(&|s| s.cooling.clone())),
            ("enclosure", situation(&|s| s.enclosure.clone())),
            ("notes", situation(&|s| s.notes.clone())),
            ("stated ambient", situation(&|s| s.ambient.map(|a| a.to_string()))),
            ("fill at the start", of_lanes(&fill)),
            ("course", first.head.course.clone()),
            ("text of the course", short(&first.head.course_text)),
            ("engine", of_lanes(&engine)),
        ]
    } else {
        Vec::new()
    };
    Member {
        name: first.of.clone(),
        rows: all.iter().flat_map(|s| s.findings.leg_table.clone()).collect(),
        started: first.status.is_some().then_some(first.head.started),
        conditions,
    }
}

/// Share of a drive, or of the file system of a file, that was in use when a run began, in steps of 5 %: less makes no difference.
pub(crate) fn fill(source: &Source) -> String {
    let first = if source.trace.is_empty() { None } else { source.trace.fill.get(0) };
    let of_files = || Some(f64::from(source.head.lane(source.lane).facts?.in_use?) / 100.0);
    first.or_else(of_files).map_or(String::new(), |f| format!("{:.0} %", (f * 20.0).round() * 5.0))
}

/// How operations were put in flight.
fn engine(source: &Source) -> String {
    let told = source.events.iter().find_map(|e| match &e.kind {
        EventKind::Engine(words) => Some(words.clone()),
        _ => None,
    });
    told.unwrap_or_default()
}

/// A text as a number that another text does not have: FNV-1a.
fn short(text: &str) -> String {
    if text.is_empty() {
        return String::new();
    }
    let hash = text
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3));
    format!("{:08x}", hash >> 32)
}

/// What a side names, one by one: runs, files, and the runs of tags.
pub(crate) fn names(side: &str, logbook: Option<&Path>) -> Result<Vec<String>, Failure> {
    let mut all = Vec::new();
    for word in side.split(',').map(str::trim) {
        if word.is_empty() {
            return Err(Failure::usage(format!("the side `{side}` names nothing between two commas")));
        }
        let is_run = word == "last" || word.parse::<i64>().is_ok();
        if is_run || Path::new(word).exists() {
            all.push(word.to_owned());
        } else {
            all.extend(tagged(word, logbook)?.iter().map(i64::to_string));
        }
    }
    Ok(all)
}

/// Is told what long work does next; it fails where the work was given up meanwhile.
pub(crate) type Steps<'a> = &'a dyn Fn(&str) -> Result<(), Failure>;

/// Nobody looks on, and nobody gives it up.
pub(crate) fn go_on(_: &str) -> Result<(), Failure> {
    Ok(())
}

/// The word for what is claimed, as a side.
pub(crate) const CLAIMS: &str = "claims";

/// All sides, in their order. The side `claims` is what is claimed of the drives of the first other side, for the legs that ran under the conditions of the
/// claims. `only_ended` is whether a run that is underway is refused.
pub(crate) fn all_named(
    sides: &[String],
    logbook: Option<&Path>,
    beside: &BesideArgs,
    only_ended: bool,
    steps: Steps<'_>,
) -> Result<Vec<Loaded>, Failure> {
    let is_claims = |side: &str| side == CLAIMS && !Path::new(side).exists();
    if sides.iter().filter(|s| is_claims(s)).count() > 1 {
        return Err(Failure::usage("`claims` is one side; the others are runs, tags or files"));
    }
    let mut all: Vec<Loaded> =
        sides
            .iter()
            .map(|s| {
                if is_claims(s) {
                    Ok(Loaded::default())
                } else {
                    named(s, logbook, beside, only_ended, steps)
                }
            })
            .collect::<Result<_, _>>()?;
    let Some(place) = sides.iter().position(|s| is_claims(s)) else { return Ok(all) };
    let others = all.iter().find(|l| !l.1.is_empty());
    let sources = others.iter().flat_map(|l| &l.1).flatten();
    let mut claimed: Vec<_> = Vec::new();
    for source in sources {
        let rows = &source.findings.leg_table;
        for one in mile_core::claims::claimed_figures(&source.trace, &source.context, rows) {
            if !claimed.iter().any(|c: &(String, _, f64)| (&c.0, &c.1) == (&one.0, &one.1)) {
                claimed.push(one);
            }
        }
    }
    if claimed.is_empty() {
        return Err(Failure::usage(
            "nothing is claimed of these runs that a leg of theirs measured: state it in the course, such as `claim random read 900000 IOPS, blocks 4 KiB, depth 32`, or with --rated-write and --rated-read",
        ));
    }
    all[place].0 = Side { name: CLAIMS.to_owned(), members: Vec::new(), claimed };
    Ok(all)
}

/// A side with its runs.
pub(crate) type Loaded = (Side, Vec<Vec<Source>>);

/// The runs, tags and files that a side names, parted by commas.
fn named(
    side: &str,
    logbook: Option<&Path>,
    beside: &BesideArgs,
    only_ended: bool,
    steps: Steps<'_>,
) -> Result<Loaded, Failure> {
    let (mut members, mut runs) = (Vec::new(), Vec::new());
    let names = names(side, logbook)?;
    for (i, name) in names.iter().enumerate() {
        steps(&format!("reading {name}, {} of {} of side {side}", i + 1, names.len()))?;
        let all = Source::load_all(name, logbook, beside)?;
        if only_ended && all.iter().any(|s| s.status == Some(Status::Underway)) {
            return Err(Failure::usage(format!(
                "run {name} is underway: its figures are not final. Compare it when it has ended"
            )));
        }
        all.iter().flat_map(Source::problem_lines).for_each(|line| crate::text::complain(&line));
        members.push(member(&all));
        runs.push(all);
    }
    Ok((Side { name: side.to_owned(), members, claimed: Vec::new() }, runs))
}

/// Points of a line along a leg.
const POINTS: usize = 240;

/// The legs that the first run of each side has, along a ruler: from the start of each, but for addresses; of repeats, the first. A leg that has nothing
/// to show on that ruler on two sides is left out.
pub(crate) fn walks(sides: &[&[Vec<Source>]], ruler: Ruler) -> Vec<LegWalks> {
    let firsts: Vec<&Vec<Source>> = sides.iter().filter_map(|s| s.first()).collect();
    let Some(own) = firsts.first() else { return Vec::new() };
    let mut names: Vec<String> = Vec::new();
    for row in own.iter().flat_map(|s| &s.findings.leg_table) {
        let name = row.shared_name();
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let of = |leg: String| {
        let found: Vec<(usize, &Source, Stretch)> = firsts
            .iter()
            .enumerate()
            .filter_map(|(i, run)| {
                let rows = run.iter().flat_map(|s| s.findings.leg_table.iter().map(move |r| (s, r)));
                let (s, r) = rows.into_iter().find(|(_, r)| r.shared_name() == leg)?;
                Some((i, s, Stretch::of(&s.trace, &r.leg, ruler)?))
            })
            .collect();
        let all = || found.iter().map(|f| f.2.window);
        let window = Window {
            from: all().map(|w| w.from).fold(f64::INFINITY, f64::min),
            to: all().map(|w| w.to).fold(f64::NEG_INFINITY, f64::max),
        };
        let walk = |(i, source, stretch): &(usize, &Source, Stretch)| SideWalk {
            name: format!("{}, {}", crate::text::letter(*i), source.of),
            ..stretch.walk(source, window)
        };
        LegWalks { sides: found.iter().map(walk).collect(), leg, ruler, window }
    };
    names.into_iter().map(of).filter(LegWalks::is_shared).collect()
}

/// A leg on a ruler.
struct Stretch {
    ruler: Ruler,
    /// Samples of the legs of its name that follow on each other.
    samples: Range<usize>,
    /// Position of its start on the ruler of the run; 0 for addresses, which are the same in every run.
    start: f64,
    /// What it takes up, from there.
    window: Window,
}

impl Stretch {
    /// `None` where it takes up nothing of the ruler.
    fn of(trace: &Trace, leg: &str, ruler: Ruler) -> Option<Self> {
        let legs = trace.legs();
        let first = legs.iter().position(|l| l.name == leg)?;
        let last = legs[first..].iter().take_while(|l| l.name == leg).last()?;
        let samples = legs[first].samples.start..last.samples.end;
        // An address drawn at random says where a sample began, and nothing of where its data were.
        if ruler == Ruler::Address && is_at_random(trace, &legs[first]) {
            return None;
        }
        let mut out = Self { ruler, samples, start: 0.0, window: Window::default() };
        let ends = out.samples.clone().filter_map(|i| out.position(trace, i));
        let (from, to) = ends.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), p| (a.min(p.0), b.max(p.1)));
        if to <= from {
            return None;
        }
        out.start = if ruler == Ruler::Address { 0.0 } else { from };
        out.window = Window { from: from - out.start, to: to - out.start };
        Some(out)
    }

    /// Where a sample begins and ends, from the start of the leg.
    fn position(&self, trace: &Trace, i: usize) -> Option<(f64, f64)> {
        let (from, to) = match self.ruler {
            Ruler::Time => (trace.start(i).0 as f64, trace.end(i).0 as f64),
            Ruler::Bytes => (trace.moved(i).0 as f64, trace.moved(i + 1).0 as f64),
            Ruler::Address => {
                let at = trace.offset.get(i)? * 1e6;
                (at, at + (trace.moved(i + 1).0 - trace.moved(i).0) as f64)
            }
        };
        Some((from - self.start, to - self.start))
    }

    /// The mean rate and temperature in steps along the ruler, and its breaks.
    fn walk(&self, source: &Source, window: Window) -> SideWalk {
        let trace = &source.trace;
        let step = (window.to - window.from) / POINTS as f64;
        let bin = |position: f64| (((position - window.from) / step).max(0.0) as usize).min(POINTS - 1);
        // Bytes, seconds under load, and temperatures, with how many there are.
        let mut bins = vec![(0.0, 0.0, 0.0, 0_u32); POINTS];
        for i in self.samples.clone() {
            let Some((from, to)) = self.position(trace, i) else { continue };
            let seconds = trace.end(i).since(trace.start(i)).secs();
            let moved = (trace.moved(i + 1).0 - trace.moved(i).0) as f64;
            let last = bin((to - step * 1e-6).max(from));
            for sum in &mut bins[bin(from)..=last] {
                if let Some(rate) = trace.rate.get(i) {
                    sum.0 += if moved > 0.0 { rate * 1e6 * seconds } else { 0.0 };
                    sum.1 += seconds;
                }
                if let Some(temp) = trace.temp.get(i) {
                    (sum.2, sum.3) = (sum.2 + temp, sum.3 + 1);
                }
            }
        }
        let mut out = SideWalk::default();
        for (k, (bytes, seconds, temps, n)) in bins.into_iter().enumerate() {
            let middle = window.from + step * (k as f64 + 0.5);
            if seconds > 0.0 {
                out.rate.push((middle, bytes / seconds / 1e6));
            }
            if n > 0 {
                out.temp.push((middle, temps / f64::from(n)));
            }
        }
        let (first, last) = (self.samples.start, self.samples.end.saturating_sub(1));
        let (from, to) = (trace.start(first).secs(), trace.end(last).secs());
        let own = source.findings.breaks.iter().enumerate().filter(|(_, b)| (from..to).contains(&b.at_s));
        out.breaks =
            own.map(|(i, b)| (self.ruler.place(trace, b.at_bytes, b.at_s) - self.start, i + 1)).collect();
        out
    }
}

/// The runs that have a tag.
fn tagged(word: &str, logbook: Option<&Path>) -> Result<Vec<i64>, Failure> {
    let none = || {
        Failure::usage(format!(
            "`{word}` is no run, no file, and no tag of the logbook. `hollow-mile logbook list` shows runs and tags, `hollow-mile logbook tag RUN NAME` gives one"
        ))
    };
    let runs = match Logbook::reading(&logbook_path(logbook)?, |book| book.tagged(word)) {
        Err(LogbookError::Blank { .. }) => return Err(none()),
        runs => runs?,
    };
    if runs.is_empty() { Err(none()) } else { Ok(runs) }
}
