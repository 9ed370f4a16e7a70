//! `hollow-mile run`: a course on a drive, without a screen.

use super::findings::LaneFindings;
use crate::cli::{EngineArg, Format, RunArgs};
use crate::figure::{Shown, copies_of, stages_of};
use crate::progress::Progress;
use crate::text;
use crossbeam_channel::{RecvTimeoutError, Sender};
use mile_bench::Failure;
use mile_bench::bench::Named;
use mile_bench::outlook::Weight;
use mile_bench::session::{self, Became, Order, OrderLane, logbook_path};
use mile_core::channel::{Channel, Series, tells};
use mile_core::copies::CopyFound;
use mile_core::stages::Stage;
use mile_core::{Bytes, Nanos, findings};
use mile_drive::Situation;
use mile_drive::block::Consent;
use mile_drive::clock::Monotonic;
use mile_drive::file::EngineChoice;
use mile_logbook::Logbook;
use mile_runner::remote::{Client, Frame};
use mile_runner::{Command, Event, EventKind, LaneHead, Message, Outcome, RunHead, Status};
use serde::Serialize;
use std::io::IsTerminal;
use std::time::Duration;

/// Time between two redraws of the line of progress.
const REDRAW: Nanos = Nanos(100_000_000);
/// Time between two lines of progress where the output is no terminal.
const LINE: Nanos = Nanos(10_000_000_000);

/// What `--format json` prints. The format is described in docs/formats.md.
#[derive(Serialize)]
struct Printed<'a> {
    format: &'static str,
    version: u32,
    run: Option<i64>,
    status: Status,
    why: Option<&'a str>,
    seconds: f64,
    bytes: u64,
    engine: Option<&'a str>,
    notes: Vec<&'a str>,
    /// Of a run on one drive.
    #[serde(skip_serializing_if = "Option::is_none")]
    findings: Option<&'a mile_core::Findings>,
    /// Of each lane of another, and what each came to in each leg.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    lanes: Vec<LaneFindings<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    stages: Vec<Stage>,
    /// What its copies came to.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    copies: Vec<CopyFound>,
}

pub(crate) fn run(args: &RunArgs) -> Result<(), Failure> {
    let order = order(args)?;
    let mut ready = session::prepare(order)?;
    let looks = mile_bench::outlook::look(
        &ready,
        Logbook::read(&logbook_path(args.logbook.as_deref())?).ok().as_ref(),
    );
    let warnings: Vec<String> = looks.iter().flat_map(|(_, look)| look.warnings()).collect();
    if args.strict && !warnings.is_empty() {
        let list: Vec<String> = looks
            .iter()
            .flat_map(|(_, look)| &look.items)
            .filter(|i| i.weight == Weight::Warning)
            .map(|i| format!("{}: {}; {}", i.about, i.why, i.remedy))
            .collect();
        return Err(Failure::usage(format!(
            "not started, as --strict is given and there are warnings:\n{}",
            list.join("\n")
        )));
    }
    ready.accept(warnings);
    if let Some(path) = &args.truth {
        if !ready.is_simulated() {
            return Err(Failure::usage(
                "--truth is for simulated drives; nobody knows the truth of a real one",
            ));
        }
        // Found out now, not after the run.
        if mile_files::FileId::at(path)?.is_some() {
            return Err(mile_files::FileError::Exists { path: path.clone() }.into());
        }
    }
    let path = logbook_path(args.logbook.as_deref())?;
    if args.detach {
        return detach(ready.into_order(), &path);
    }
    let file = ready.recorded_in(&path)?;
    let (underway, _) = ready.start(Logbook::open(&file)?)?;
    session::stop_on_signals(underway.commands.clone())?;
    follow(underway, args.format, args.truth.as_deref(), None)
}

/// Starts a runner, and says how it is found again.
pub(crate) fn detach(order: Order, logbook: &std::path::Path) -> Result<(), Failure> {
    let socket = session::spawn_runner(order, logbook)?;
    let run = Client::connect(&socket).ok().and_then(|c| {
        let number = |f: Frame| if let Frame::Number(run) = f { Some(run) } else { None };
        c.hello.run.or_else(|| c.frames.recv_timeout(Duration::from_secs(2)).ok().and_then(number))
    });
    // In an archive it gets a number of its own a little later.
    let run = run.filter(|_| !mile_logbook::lab::is_lab(logbook));
    let run = run.map_or_else(|| "The run".into(), |r| format!("Run {r}"));
    text::say(&format!(
        "{run} goes on without this terminal. `hollow-mile attach` shows it, and `hollow-mile attach --stop` ends it."
    ));
    Ok(())
}

/// Follows a run of this process to its end. Of one that went on, the logbook `went_on` has the part before.
pub(crate) fn follow(
    underway: session::Underway,
    format: Format,
    truth: Option<&std::path::Path>,
    went_on: Option<&std::path::Path>,
) -> Result<(), Failure> {
    // Its trace is taken over at its end: two of a long run would take twice the memory.
    let mut follower = Follower { has_trace: false, ..Follower::new(format) };
    loop {
        match underway.messages.recv_timeout(Duration::from_millis(100)) {
            Ok((lane, message)) => {
                let asked = matches!(&message, Message::Event(Event { kind: EventKind::Asked(_), .. }));
                if asked {
                    answer_with_a_line(underway.commands.clone())?;
                }
                if follower.take(lane, message) {
                    break;
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            // The runner ended without `Ended`: it panicked, which `finish` reports.
            Err(RecvTimeoutError::Disconnected) => break,
        }
        follower.show();
    }
    let mut ended = underway.finish()?;
    follower.clear_line();
    for (lane, trace) in follower.lanes.iter_mut().zip(std::mem::take(&mut ended.traces)) {
        lane.trace = trace;
    }
    if went_on.is_none() {
        for (lane, found) in follower.lanes.iter_mut().zip(std::mem::take(&mut ended.findings)) {
            lane.found = found;
        }
    }
    if let Some(path) = truth {
        let json = match ended.truths.as_slice() {
            [one] => serde_json::to_string_pretty(one)?,
            all => {
                let lanes = follower.head.lanes.iter().map(|l| l.name.as_str()).zip(all);
                let lanes: Vec<_> =
                    lanes.map(|(lane, truth)| serde_json::json!({"lane": lane, "truth": truth})).collect();
                serde_json::to_string_pretty(&serde_json::json!({"lanes": lanes}))?
            }
        };
        crate::figure::write_whole(path, false, |out| Ok(out.write_all(json.as_bytes())?))?;
    }
    let run = ended.kept.as_ref().ok().copied();
    if let (Some(path), Some(run)) = (went_on, run) {
        follower.take_whole(&Logbook::reading(path, |book| book.run(run))?);
    }
    if ended.archived.is_some() {
        follower.book = "archive";
    }
    follower.report(ended.archived.or(run), &ended.outcome)?;
    if let Err(e) = ended.kept {
        return Err(Failure::run(e.to_string()));
    }
    verdict(&ended.outcome, &follower.faults())
}

/// Has the run go on once a line comes from standard input. One that has ended is no answer: nobody has seen the question.
fn answer_with_a_line(commands: Sender<Command>) -> Result<(), Failure> {
    text::complain("Press Enter to go on.");
    std::thread::Builder::new().name("answer".into()).spawn(move || {
        if std::io::stdin().read_line(&mut String::new()).is_ok_and(|bytes| bytes > 0) {
            // The run may be over by then.
            let _ = commands.send(Command::Resume);
        } else {
            text::complain(
                "Standard input has ended, so that nobody can answer here. Answer from elsewhere: hollow-mile attach --answer",
            );
        }
    })?;
    Ok(())
}

/// Whether a run that ended so, with these faults, is a success.
fn verdict(outcome: &Outcome, faults: &[mile_core::Faults]) -> Result<(), Failure> {
    match outcome.status {
        Status::Done if faults.is_empty() => Ok(()),
        Status::Done => {
            let list: Vec<String> = faults.iter().map(mile_core::Faults::sentence).collect();
            Err(Failure::run(format!("The run is done, but not all of it is well. {}", list.join(" "))))
        }
        status => Err(Failure::run(format!(
            "The run is {}: {}.",
            status.words(),
            outcome.why.clone().unwrap_or_default()
        ))),
    }
}

/// Follows a run of another process to its end, or until it is left.
pub(crate) fn watch(mut client: Client, format: Format) -> Result<(), Failure> {
    let mut follower = Follower::new(format);
    let mut number = client.hello.run;
    for (lane, message) in session::told_before(&mut client)? {
        if follower.take(lane, message) {
            return follower.end(number);
        }
    }
    loop {
        match client.frames.recv_timeout(Duration::from_millis(100)) {
            Ok(Frame::Number(run)) => number = Some(run),
            Ok(Frame::Message(lane, message)) => {
                if follower.take(lane, message) {
                    follower.clear_line();
                    return follower.end(number);
                }
            }
            Ok(_) | Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => {
                follower.clear_line();
                return Err(Failure::run(match session::what_became(&client.hello, number) {
                    Became::GoesOn(_) | Became::Silent => {
                        "this watcher was too far behind, and is told nothing more; the run goes on, and `hollow-mile attach` shows it".to_owned()
                    }
                    Became::Over(status) => {
                        format!("the run is {}; this watcher was too far behind to be told how it ended, and the logbook has it", status.words())
                    }
                    Became::Gone => "the runner ended unexpectedly; what it had logged is in the logbook, and `hollow-mile resume` goes on with it".to_owned(),
                }));
            }
        }
        follower.show();
    }
}

/// A value that may be of one lane: the lane, where the part before `=` is one, and the value.
fn of_lane<'a>(lanes: &[String], text: &'a str) -> (Option<&'a str>, &'a str) {
    match text.split_once('=') {
        Some((lane, value)) if lanes.iter().any(|l| l == lane) => (Some(lane), value),
        _ => (None, text),
    }
}

/// The drives as `--on` names them, by lane. What stands before `=` is a lane, but for what can only be part of a path.
pub(crate) fn drives(on: &[String]) -> Vec<(String, String)> {
    let split = |text: &String| match text.split_once('=') {
        Some((lane, drive)) if !lane.is_empty() && !lane.contains(['/', ':']) => {
            (lane.to_owned(), drive.to_owned())
        }
        _ => (String::new(), text.clone()),
    };
    on.iter().map(split).collect()
}

/// What `--arm` and `--destroy` allow, by lane.
pub(crate) fn consents(
    lanes: &[String],
    arm: &[String],
    destroy: &[String],
) -> Result<Vec<(String, Consent)>, Failure> {
    let mut all: Vec<(String, Consent)> = Vec::new();
    let only = |lane: Option<&str>, what: &str| match (lane, lanes) {
        (Some(lane), _) => Ok(lane.to_owned()),
        (None, [one]) => Ok(one.clone()),
        (None, lanes) => Err(Failure::usage(format!(
            "{what} does not say for which lane; write it as LANE={what}, with one of {}",
            lanes.join(", ")
        ))),
    };
    for text in arm {
        let (lane, serial) = of_lane(lanes, text);
        let lane = only(lane, serial)?;
        if all.iter().any(|(l, _)| *l == lane) {
            return Err(Failure::usage("--arm is given twice for the same drive"));
        }
        all.push((lane, Consent { arm: Some(serial.to_owned()), destroy: Vec::new(), in_form: false }));
    }
    for text in destroy {
        let (lane, what) = of_lane(lanes, text);
        let lane = only(lane, what)?;
        match all.iter_mut().find(|(l, _)| *l == lane) {
            Some((_, consent)) => consent.destroy.push(what.to_owned()),
            None => {
                return Err(Failure::usage(format!(
                    "--destroy {what} is for the lane {lane}, which is not armed with --arm"
                )));
            }
        }
    }
    Ok(all)
}

/// The sizes of files to make, by lane.
pub(crate) fn size_of(lanes: &[String], sizes: &[String], lane: &str) -> Result<Option<Bytes>, Failure> {
    let mut found = None;
    for text in sizes {
        let (of, value) = of_lane(lanes, text);
        let size = value.parse::<Bytes>().map_err(|e| Failure::usage(format!("--size {value}: {e}")))?;
        match of {
            Some(of) if of == lane => return Ok(Some(size)),
            None => found = Some(size),
            Some(_) => {}
        }
    }
    Ok(found)
}

fn order(args: &RunArgs) -> Result<Order, Failure> {
    let name = args.course.display().to_string();
    let course_text = std::fs::read_to_string(&args.course).map_err(|e| {
        Failure::usage(format!(
            "the course {name} cannot be read: {e}. Ready-made courses are in the folder courses/"
        ))
    })?;
    let s = &args.situation;
    let situation = Situation {
        slot: s.slot.clone(),
        cooling: s.cooling.clone(),
        ambient: s.ambient,
        enclosure: s.enclosure.clone(),
        notes: s.note.clone(),
    };
    let drives = drives(&args.on);
    let names: Vec<String> = drives.iter().map(|(lane, _)| lane.clone()).collect();
    let consents = consents(&names, &args.arm, &args.destroy)?;
    let mut lanes = Vec::new();
    for (lane, drive) in drives {
        let consent = consents.iter().find(|(l, _)| *l == lane).map(|(_, c)| c.clone());
        let named = Named {
            drive,
            size: size_of(&names, &args.size, &lane)?,
            seed: args.seed,
            engine: if args.engine == EngineArg::Threads {
                EngineChoice::Threads
            } else {
                EngineChoice::Auto
            },
            consent: consent.unwrap_or_default(),
            goes_on: None,
        };
        lanes.push(OrderLane { name: lane, named, situation: situation.clone(), claims: s.claim.join("; ") });
    }
    Ok(Order {
        course_text,
        course_name: name,
        lanes,
        speed: args.speed,
        discard_first: args.discard_first,
        keep: args.keep,
        instruments: args.instruments.clone(),
        metrics: args.metrics.clone(),
        lab: None,
        resume: None,
        warnings: Vec::new(),
    })
}

/// What was seen of one lane of a run.
#[derive(Default)]
struct Followed {
    progress: Progress,
    trace: mile_core::Trace,
    /// What it shows, where its runner has computed that already.
    found: Option<mile_core::Findings>,
    temp: Option<mile_core::Celsius>,
    events: Vec<Event>,
    outcome: Option<Outcome>,
    /// The latencies of its legs that have ended.
    latencies: Vec<mile_core::LegLatencies>,
}

/// Follows a run's messages and shows how far it is.
struct Follower {
    clock: Monotonic,
    on_terminal: bool,
    quiet: bool,
    shown: Nanos,
    head: RunHead,
    lanes: Vec<Followed>,
    /// Whether it makes the trace of each lane itself.
    has_trace: bool,
    series: Vec<Series>,
    /// What its number is of.
    book: &'static str,
}

impl Follower {
    fn new(format: Format) -> Self {
        Self {
            clock: Monotonic::start(),
            on_terminal: std::io::stderr().is_terminal(),
            quiet: format == Format::Json,
            shown: Nanos(0),
            head: RunHead::default(),
            lanes: vec![Followed::default()],
            has_trace: true,
            series: Vec::new(),
            book: "logbook",
        }
    }

    /// Takes in a message of a lane; gives whether it was the last of all.
    fn take(&mut self, number: u32, message: Message) -> bool {
        if let Message::Began(head) = message {
            let title = crate::figure::title_of_all(&head);
            self.line(&format!("{title}, on {}", head.drives()));
            self.lanes = Progress::of_lanes(&head)
                .into_iter()
                .map(|progress| Followed { progress, ..Followed::default() })
                .collect();
            let empty = |channel: &Channel| Series { channel: channel.clone(), readings: Vec::new() };
            self.series = head.channels.iter().map(empty).collect();
            self.head = *head;
            return false;
        }
        if let Message::Event(event) = &message {
            let names: Vec<&str> = self.head.lanes.iter().map(|l| l.name.as_str()).collect();
            self.line(&text::event_line_of(&names, number as usize, event));
        }
        if let Message::Reading(channel, reading) = message {
            if let Some((lane, what)) = tells(&self.series, channel as usize)
                && let Some(lane) = self.lanes.get_mut(lane)
            {
                lane.trace.push_reading(what, reading);
            }
            if let Some(series) = self.series.get_mut(channel as usize) {
                series.readings.push(reading);
            }
            return false;
        }
        let Some(lane) = self.lanes.get_mut(number as usize) else { return false };
        match message {
            Message::Sample(sample) => {
                lane.progress.sample(&sample);
                lane.temp = sample.temp;
                if self.has_trace {
                    lane.trace.push(&sample, self.head.lane(number as usize).leg_name(sample.leg));
                }
            }
            Message::Event(event) => {
                lane.progress.event(&event);
                lane.events.push(event);
            }
            Message::Ended(outcome) => lane.outcome = Some(*outcome),
            Message::LegLatency(leg, histogram) => {
                let name = self.head.lane(number as usize).leg_name(leg);
                lane.latencies.extend(mile_logbook::latencies(name, &histogram));
            }
            Message::SelfTest(test) => lane.progress.test(test),
            Message::Began(_) | Message::Health(_) | Message::Reading(..) | Message::Keep(_) => {}
        }
        self.lanes.iter().all(|l| l.outcome.is_some())
    }

    /// Takes in what happened in all of a run that went on, in the place of what was seen of it.
    fn take_whole(&mut self, run: &mile_logbook::StoredRun) {
        for (lane, stored) in self.lanes.iter_mut().zip(&run.lanes) {
            lane.events.clone_from(&stored.events);
            lane.latencies.clone_from(&stored.latencies);
        }
        self.series.clone_from(&run.series);
    }

    /// What went wrong with its operations.
    fn faults(&self) -> Vec<mile_core::Faults> {
        self.lanes.iter().flat_map(|l| mile_runner::message::faults_of(&l.events)).collect()
    }

    /// Tells how a run has ended of which all lanes have.
    fn end(&self, number: Option<i64>) -> Result<(), Failure> {
        let names = self.head.lanes.iter().map(|l| l.name.as_str());
        let ended: Vec<(&str, &Outcome)> =
            names.zip(self.lanes.iter().filter_map(|l| l.outcome.as_ref())).collect();
        let outcome = Outcome::of_lanes(&ended).ok_or_else(|| Failure::run("the run has no lane"))?;
        self.report(number, &outcome)?;
        verdict(&outcome, &self.faults())
    }

    /// A line for the log of what happened.
    fn line(&self, line: &str) {
        self.clear_line();
        if self.quiet { text::complain(line) } else { text::say(line) }
    }

    fn clear_line(&self) {
        if self.on_terminal {
            text::progress_line("", 1);
        }
    }

    fn show(&mut self) {
        let now = self.clock.now();
        let every = if self.on_terminal { REDRAW } else { LINE };
        if now.since(self.shown) < every {
            return;
        }
        self.shown = now;
        let figures = |l: &Followed| {
            let rate = l.progress.rate().map_or(String::new(), |r| format!("{r}  "));
            let temp = l.temp.map_or(String::new(), |t| format!("{t}  "));
            rate + &temp
        };
        let line = match self.lanes.as_slice() {
            [one] => format!("{}{}", figures(one), one.progress.sentence()),
            all => {
                let lane = |(i, l): (usize, &Followed)| {
                    format!("{} {}", self.head.lane(i).name, figures(l).trim_end())
                };
                let lanes: Vec<String> = all.iter().enumerate().map(lane).collect();
                let busy = all.iter().find(|l| l.progress.is_busy()).or(all.first());
                format!("{}  {}", lanes.join("  "), busy.map_or(String::new(), |l| l.progress.sentence()))
            }
        };
        if self.on_terminal {
            let width = crossterm::terminal::size().map_or(80, |(w, _)| usize::from(w));
            text::progress_line(&line, width);
        } else if self.quiet {
            text::complain(&line);
        } else {
            text::say(&line);
        }
    }

    fn report(&self, run: Option<i64>, outcome: &Outcome) -> Result<(), Failure> {
        let found = |(i, lane): (usize, &Followed)| {
            let head = self.head.lane(i);
            let context = head.context_with(&lane.events);
            // To compute it twice takes the memory twice.
            let found = lane.found.clone().unwrap_or_else(|| findings(&lane.trace, &context));
            let mut found = found.with_faults(&context).with_latencies(&lane.latencies);
            let context = mile_core::Context { latencies: lane.latencies.clone(), ..context };
            found.add_rows(
                crate::sides::rows_of((head, i), &lane.trace, &context, &self.series, &found),
                &context,
            );
            found.notes.splice(0..0, crate::source::remarks(head, &lane.events));
            found
        };
        let contexts: Vec<mile_core::Context> = self.head.lanes.iter().map(LaneHead::context).collect();
        let all: Vec<mile_core::Findings> = self.lanes.iter().enumerate().map(found).collect();
        let shown: Vec<Shown<'_>> = self
            .lanes
            .iter()
            .zip(&all)
            .zip(&contexts)
            .enumerate()
            .map(|(lane, ((l, found), context))| Shown {
                trace: &l.trace,
                breaks: &found.breaks,
                context,
                lane,
                series: &self.series,
            })
            .collect();
        let stages =
            if all.len() > 1 || !self.series.is_empty() { stages_of(&self.head, &shown) } else { Vec::new() };
        let copies = copies_of(&self.head, &shown);
        if !self.quiet {
            let kept = run.map_or(String::new(), |r| format!(" It is run {r} of the {}.", self.book));
            text::say(&format!(
                "\nThe run is {} after {}, {} moved.{kept}\n",
                outcome.status.words(),
                outcome.at,
                outcome.bytes
            ));
            if !stages.is_empty() {
                text::say(&text::stages(&stages));
            }
            if !copies.is_empty() {
                text::say(&text::copies(&copies));
            }
            for (i, found) in all.iter().enumerate() {
                if all.len() > 1 {
                    text::say(&format!(
                        "Lane {}, {}\n",
                        self.head.lane(i).name,
                        self.head.lane(i).drive.model
                    ));
                }
                text::say(&text::findings(found));
            }
            return Ok(());
        }
        let kinds = || self.lanes.iter().flat_map(|l| &l.events).map(|e| &e.kind);
        let of_lanes = all
            .iter()
            .enumerate()
            .map(|(i, findings)| LaneFindings { lane: &self.head.lane(i).name, findings })
            .collect();
        let one = all.len() == 1;
        let printed = Printed {
            format: "hollow-mile/run-result",
            version: 1,
            run,
            status: outcome.status,
            why: outcome.why.as_deref(),
            seconds: outcome.at.secs(),
            bytes: outcome.bytes.0,
            engine: kinds().find_map(|k| if let EventKind::Engine(e) = k { Some(e.as_str()) } else { None }),
            notes: kinds()
                .filter_map(|k| if let EventKind::Fitted(n) = k { Some(n.as_str()) } else { None })
                .collect(),
            findings: all.first().filter(|_| one),
            lanes: if one { Vec::new() } else { of_lanes },
            stages,
            copies,
        };
        text::say(&serde_json::to_string_pretty(&printed)?);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(all: &[&str]) -> Vec<String> {
        all.iter().map(|t| (*t).to_owned()).collect()
    }

    #[test]
    fn what_stands_before_an_equals_sign_is_a_lane_where_it_can_be_one() {
        let on =
            texts(&["upper=/dev/nvme0n1", "lower=sim:merrow-k2", "./a=b.bin", "sim:x=y.toml", "/tmp/c=d"]);
        let pair = |a: &str, b: &str| (a.to_owned(), b.to_owned());
        assert_eq!(
            drives(&on),
            [
                pair("upper", "/dev/nvme0n1"),
                pair("lower", "sim:merrow-k2"),
                pair("", "./a=b.bin"),
                pair("", "sim:x=y.toml"),
                pair("", "/tmp/c=d")
            ]
        );
    }

    #[test]
    fn each_lane_is_armed_by_itself() {
        let lanes = texts(&["upper", "lower"]);
        let all = consents(&lanes, &texts(&["lower=S=2", "upper=S1"]), &texts(&["lower=gpt", "lower=ext"]))
            .unwrap();
        assert_eq!(all[0].0, "lower");
        assert_eq!((all[0].1.arm.as_deref(), all[0].1.destroy.len()), (Some("S=2"), 2));
        assert_eq!((all[1].1.arm.as_deref(), all[1].1.destroy.len()), (Some("S1"), 0));
        // One serial number never arms two drives.
        assert!(consents(&lanes, &texts(&["S1"]), &[]).is_err());
        assert!(consents(&lanes, &texts(&["upper=S1"]), &texts(&["lower=gpt"])).is_err());
        assert!(consents(&lanes, &texts(&["upper=S1", "upper=S2"]), &[]).is_err());
        // Of one drive, it is all part of the value.
        let one = consents(&texts(&[""]), &texts(&["a=b"]), &texts(&["gpt"])).unwrap();
        assert_eq!((one[0].1.arm.as_deref(), one[0].1.destroy.len()), (Some("a=b"), 1));
    }
}
