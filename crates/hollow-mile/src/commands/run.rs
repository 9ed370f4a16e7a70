//! `hollow-mile run`: a course on a drive, without a screen.

use crate::bench::Named;
use crate::cli::{EngineArg, Format, RunArgs};
use crate::outlook::Weight;
use crate::progress::Progress;
use crate::session::{self, Order, logbook_path};
use crate::{Failure, text};
use crossbeam_channel::{RecvTimeoutError, Sender};
use mile_core::{Nanos, findings};
use mile_drive::Situation;
use mile_drive::block::Consent;
use mile_drive::clock::Monotonic;
use mile_drive::file::EngineChoice;
use mile_logbook::Logbook;
use mile_runner::remote::{Client, Frame};
use mile_runner::{Command, Event, EventKind, Message, Outcome, RunHead, Status};
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
    findings: &'a mile_core::Findings,
}

pub(crate) fn run(args: &RunArgs) -> Result<(), Failure> {
    let order = order(args)?;
    let mut ready = session::prepare(order)?;
    let look =
        super::course::look(&ready, Logbook::read(&logbook_path(args.logbook.as_deref())?).ok().as_ref());
    let warnings = look.warnings();
    if args.strict && !warnings.is_empty() {
        let list: Vec<String> = look
            .items
            .iter()
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
        if !args.on.starts_with("sim:") {
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
    let (underway, _) = ready.start(Logbook::open(&path)?)?;
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
    let mut follower = Follower::new(format);
    loop {
        match underway.messages.recv_timeout(Duration::from_millis(100)) {
            Ok(message) => {
                let asked = matches!(&message, Message::Event(Event { kind: EventKind::Asked(_), .. }));
                if asked {
                    answer_with_a_line(underway.commands.clone())?;
                }
                if follower.take(message) {
                    break;
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            // The runner ended without `Ended`: it panicked, which `finish` reports.
            Err(RecvTimeoutError::Disconnected) => break,
        }
        follower.show();
    }
    let ended = underway.finish()?;
    follower.clear_line();
    if let (Some(path), Some(truth)) = (truth, &ended.truth) {
        let json = serde_json::to_string_pretty(truth)?;
        crate::figure::write_whole(path, false, |out| Ok(out.write_all(json.as_bytes())?))?;
    }
    let run = ended.kept.as_ref().ok().copied();
    if let (Some(path), Some(run)) = (went_on, run) {
        follower.take_whole(&Logbook::reading(path, |book| book.run(run))?);
    }
    follower.report(run, &ended.outcome)?;
    if let Err(e) = ended.kept {
        return Err(Failure::run(e.to_string()));
    }
    verdict(&ended.outcome, &follower.faults())
}

/// Has the run go on once a line comes from standard input, or where none can come any more.
fn answer_with_a_line(commands: Sender<Command>) -> Result<(), Failure> {
    text::complain("Press Enter to go on.");
    std::thread::Builder::new().name("answer".into()).spawn(move || {
        let _ = std::io::stdin().read_line(&mut String::new());
        // The run may be over by then.
        let _ = commands.send(Command::Resume);
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
    for message in session::told_before(&mut client)? {
        if let Message::Ended(outcome) = &message {
            follower.report(number, outcome)?;
            return verdict(outcome, &follower.faults());
        }
        follower.take(message);
    }
    loop {
        match client.frames.recv_timeout(Duration::from_millis(100)) {
            Ok(Frame::Number(run)) => number = Some(run),
            Ok(Frame::Message(Message::Ended(outcome))) => {
                follower.clear_line();
                follower.report(number, &outcome)?;
                return verdict(&outcome, &follower.faults());
            }
            Ok(Frame::Message(message)) => {
                follower.take(message);
            }
            Ok(_) | Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => {
                follower.clear_line();
                return Err(Failure::run(
                    "the runner ended unexpectedly; what it had logged is in the logbook, and `hollow-mile resume` goes on with it",
                ));
            }
        }
        follower.show();
    }
}

fn order(args: &RunArgs) -> Result<Order, Failure> {
    let name = args.course.display().to_string();
    let course_text = std::fs::read_to_string(&args.course).map_err(|e| {
        Failure::usage(format!(
            "the course {name} cannot be read: {e}. Ready-made courses are in the folder courses/"
        ))
    })?;
    let s = &args.situation;
    Ok(Order {
        course_text,
        course_name: name,
        named: Named {
            drive: args.on.clone(),
            size: args.size,
            seed: args.seed,
            engine: if args.engine == EngineArg::Threads {
                EngineChoice::Threads
            } else {
                EngineChoice::Auto
            },
            consent: Consent { arm: args.arm.clone(), destroy: args.destroy.clone() },
            goes_on: None,
        },
        speed: args.speed,
        discard_first: args.discard_first,
        keep: args.keep,
        resume: None,
        warnings: Vec::new(),
        situation: Situation {
            slot: s.slot.clone(),
            cooling: s.cooling.clone(),
            ambient: s.ambient,
            enclosure: s.enclosure.clone(),
            notes: s.note.clone(),
        },
    })
}

/// Follows a run's messages and shows how far it is.
struct Follower {
    clock: Monotonic,
    on_terminal: bool,
    quiet: bool,
    shown: Nanos,
    head: RunHead,
    progress: Progress,
    trace: mile_core::Trace,
    temp: Option<mile_core::Celsius>,
    events: Vec<Event>,
}

impl Follower {
    fn new(format: Format) -> Self {
        Self {
            clock: Monotonic::start(),
            on_terminal: std::io::stderr().is_terminal(),
            quiet: format == Format::Json,
            shown: Nanos(0),
            head: RunHead::default(),
            progress: Progress::default(),
            trace: mile_core::Trace::new(),
            temp: None,
            events: Vec::new(),
        }
    }

    /// Takes in a message; gives whether it was the last.
    fn take(&mut self, message: Message) -> bool {
        match message {
            Message::Began(head) => {
                self.progress = Progress::new(&head);
                self.line(&format!("{}, on {}", crate::figure::title(&head), head.drive.name));
                self.head = *head;
            }
            Message::Sample(sample) => {
                self.progress.sample(&sample);
                self.temp = sample.temp;
                let name = self.head.legs.get(sample.leg as usize).map_or("", String::as_str);
                self.trace.push(&sample, name);
            }
            Message::Event(event) => {
                self.progress.event(&event);
                self.line(&text::event_line(&event));
                self.events.push(event);
            }
            Message::LegLatency(..) | Message::Health(_) => {}
            Message::Ended(_) => return true,
        }
        false
    }

    /// Takes in all of a run, in the place of what was seen of it.
    fn take_whole(&mut self, run: &mile_logbook::StoredRun) {
        self.trace = run.trace();
        self.events.clone_from(&run.events);
    }

    /// What went wrong with its operations.
    fn faults(&self) -> Vec<mile_core::Faults> {
        mile_runner::message::faults_of(&self.events)
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
        let rate = self.progress.rate().map_or(String::new(), |r| format!("{r}  "));
        let temp = self.temp.map_or(String::new(), |t| format!("{t}  "));
        let line = format!("{rate}{temp}{}", self.progress.sentence());
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
        let mut found = findings(&self.trace, &self.head.context_with(&self.events));
        found.notes.splice(0..0, crate::source::remarks(&self.head, &self.events));
        if !self.quiet {
            let kept = run.map_or(String::new(), |r| format!(" It is run {r} of the logbook."));
            text::say(&format!(
                "\nThe run is {} after {}, {} moved.{kept}\n",
                outcome.status.words(),
                outcome.at,
                outcome.bytes
            ));
            text::say(&text::findings(&found));
            return Ok(());
        }
        let kinds = || self.events.iter().map(|e| &e.kind);
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
            findings: &found,
        };
        text::say(&serde_json::to_string_pretty(&printed)?);
        Ok(())
    }
}
