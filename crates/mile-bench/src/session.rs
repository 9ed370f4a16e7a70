//! A run from its course to the logbook: what the command line and the terminal share.
//!
//! A run is executed on a thread of this process, or of a runner: a process of its own that goes on when whoever started it
//! leaves. Either way it can be watched through its socket.

mod prepare;
mod ready;

pub use crate::order::{Order, OrderLane};
pub use prepare::{plan, prepare, read_course};
pub use ready::{Ready, ReadyLane};

use crate::Failure;
use crate::bench::Named;
use crate::lab::{self, Forwarding};
use crate::metrics::{self, Metrics};
use crossbeam_channel::{Receiver, Sender, unbounded};
use mile_core::channel::{Channel, Source};
use mile_core::{Bytes, Findings, Nanos, Trace};
use mile_drive::clock::unix_seconds;
use mile_drive::{Drive, Truth};
use mile_instrument::poll::Polling;
use mile_logbook::{Entered, Errand as Recording, Kept, Logbook, LogbookError, Recorder};
use mile_runner::remote::{Client, Hello, PROTOCOL, Server};
use mile_runner::{
    Board, Command, Event, EventKind, GoOn, LaneHead, LaneRun, Message, Outcome, RunHead, Speed, Status,
    Terms, execute_lanes, run,
};
use ready::overlay;
use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::Duration;

/// What a runner is given.
#[derive(Debug, Serialize, Deserialize)]
struct Errand {
    order: Order,
    logbook: PathBuf,
}

/// What a runner says once it has begun, or why it has not.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Begun {
    Socket(PathBuf),
    Refused { code: u8, message: String },
}

/// What is left to do of a run that is ready.
type Work = Box<dyn FnOnce(&Receiver<Command>) -> Ended + Send>;

/// A message, and the lane that it is of.
pub type Told = (u32, Message);

/// A run that goes on: how it began, and where each lane goes on, what is kept of it, and what happened.
struct GoingOn {
    head: RunHead,
    lanes: Vec<(GoOn, Kept, Vec<Event>)>,
}

/// A run underway on a thread of this process.
pub struct Underway {
    /// What it tells.
    pub messages: Receiver<Told>,
    /// What it is asked to do.
    pub commands: Sender<Command>,
    thread: JoinHandle<Ended>,
}

/// A run that is over.
pub struct Ended {
    /// How it ended.
    pub outcome: Outcome,
    /// The samples of each lane.
    pub traces: Vec<Trace>,
    /// What each lane shows, where it came to its end.
    pub findings: Vec<Option<Findings>>,
    /// What really happened on each lane that is simulated.
    pub truths: Vec<Truth>,
    /// The run's number, or why the logbook does not have all of it.
    pub kept: Result<i64, LogbookError>,
    /// Its number in the archive of a lab, where it went there and all of it has come.
    pub archived: Option<i64>,
}

/// The order by which a run of the logbook goes on, as it was given then. `consents` are what is allowed now, by lane.
pub fn order_to_resume(
    book: &Logbook,
    run: i64,
    consents: &[(String, mile_drive::block::Consent)],
    speed: Speed,
) -> Result<Order, Failure> {
    let (head, status, _) = book.ends(run)?;
    let no = |why: &str| Failure::usage(format!("run {run} cannot go on: {why}"));
    match status {
        Status::Done => return Err(no("it is done")),
        Status::Underway => return Err(no("it is underway; `hollow-mile attach` shows it")),
        Status::Unreadable => return Err(no("what the logbook has of it cannot be read")),
        Status::Stopped | Status::Guarded | Status::Failed | Status::CutShort => {}
    }
    if head.identity.is_none() && !head.first().drive.simulated {
        return Err(no(
            "the version that began it did not mark what it wrote as its own, so that nobody can tell what is there now; start the course anew",
        ));
    }
    let lost = || no("the version that began it did not keep what is needed for that");
    let first = head.first().order.clone().ok_or_else(lost)?;
    if consents.iter().any(|(name, _)| !head.lanes.iter().any(|l| l.name == *name)) {
        return Err(no("a drive is armed for a lane that it does not have"));
    }
    let mut lanes = Vec::new();
    for lane in head.lanes {
        let order = lane.order.ok_or_else(lost)?;
        let consent = consents.iter().find(|(name, _)| *name == lane.name).map(|(_, c)| c.clone());
        let named = Named {
            // A path is meant as it was then, wherever this is called.
            drive: match order.folder.filter(|_| !lane.drive.simulated) {
                Some(folder) => folder.join(&order.drive).display().to_string(),
                None => order.drive,
            },
            size: order.size,
            seed: head.seed,
            engine: order.engine,
            consent: consent.unwrap_or_default(),
            goes_on: head.identity,
        };
        let claims = claims_text(&lane.claims, &lane.stated);
        lanes.push(OrderLane { name: lane.name, named, situation: lane.situation, claims });
    }
    Ok(Order {
        course_text: head.course_text,
        course_name: format!("the course of run {run}"),
        lanes,
        speed,
        keep: first.keep,
        discard_first: first.discard_first,
        metrics: None,
        lab: None,
        instruments: head.instruments,
        resume: Some(run),
        warnings: Vec::new(),
    })
}

/// What is claimed of a drive, as it is said beside a course.
pub fn claims_text(
    claims: &mile_drive::Claims,
    stated: &[mile_core::claims::conditions::StatedClaim],
) -> String {
    let mile_drive::Claims { write, read, endurance } = *claims;
    let claims = mile_course::Claims { write, read, endurance };
    mile_course::Claimed { claims, stated: stated.to_vec() }.text()
}

/// Refuses to go on with a run where drive or situation are not those that it began with.
fn check_same(head: &LaneHead, drive: &dyn Drive, run: i64) -> Result<(), Failure> {
    let (was, is) = (&head.drive, drive.identity());
    let facts = Some(drive.facts());
    let known = drive.situation();
    let link = |i: &mile_drive::Identity| i.link.as_ref().map(|l| l.negotiated.clone());
    let differs = [
        ("model", Some(was.model.clone()), Some(is.model.clone())),
        ("serial number", was.serial.clone(), is.serial.clone()),
        ("firmware", was.firmware.clone(), is.firmware.clone()),
        ("capacity", head.facts.map(|f| f.capacity.to_string()), facts.map(|f| f.capacity.to_string())),
        ("link", link(was), link(is)),
        ("slot", head.situation.slot.clone().filter(|_| known.slot.is_some()), known.slot),
    ];
    let words = |v: &Option<String>| v.clone().unwrap_or_else(|| "not known".into());
    let list: Vec<String> = differs
        .iter()
        .filter(|(_, was, is)| was != is)
        .map(|(name, was, is)| format!("{name} was {}, now {}", words(was), words(is)))
        .collect();
    if list.is_empty() {
        return Ok(());
    }
    Err(Failure::usage(format!(
        "run {run} cannot go on, as it is not on the same drive in the same situation: {}. Put that right, or start the course anew",
        list.join("; ")
    )))
}

impl Ready {
    /// Keeps with the run what spoke against its start.
    pub fn accept(&mut self, warnings: Vec<String>) {
        if let Some(first) = self.lanes.first_mut() {
            first.plan.notes.extend(warnings.iter().cloned());
        }
        self.order.warnings.extend(warnings);
    }

    /// Whether no real drive takes part.
    pub fn is_simulated(&self) -> bool {
        self.lanes.iter().all(|l| l.drive.is_virtual())
    }

    /// The order that was made ready.
    pub fn into_order(self) -> Order {
        self.order
    }

    /// Where the run goes on, and what the logbook has of it.
    fn going_on(&self, book: &Logbook, run: i64) -> Result<GoingOn, Failure> {
        let stored = book.run(run)?;
        // A lane that ended before the others did stands as it ended.
        let ended = |lane: &mile_logbook::StoredLane| lane.samples.last().map_or(Nanos(0), |s| s.end);
        let end = stored.lanes.iter().map(ended).max().unwrap_or_default();
        let ended_at = stored.head.started as f64 + end.secs();
        let now = Nanos::from_secs((unix_seconds() as f64 - ended_at).max(1.0)).plus(end);
        let mut lanes = Vec::new();
        for ((ready, head), lane) in self.lanes.iter().zip(&stored.head.lanes).zip(stored.lanes) {
            check_same(head, ready.drive.as_ref(), run)?;
            let kept = Kept { samples: lane.samples.len() as u64, events: lane.events.len() as u64 };
            let status = lane.outcome.as_ref().map_or(stored.status, |o| o.status);
            let gap = now.since(ended(&lane));
            let mut on = GoOn::of(&ready.plan, status, lane.samples, &lane.events, gap);
            on.series.clone_from(&stored.series);
            lanes.push((on, kept, lane.events));
        }
        Ok(GoingOn { head: stored.head, lanes })
    }

    /// The file in which the run is recorded that is to be kept in `logbook`, which may be the archive of a lab.
    ///
    /// # Errors
    /// As [`lab::recorded_in`].
    pub fn recorded_in(&mut self, logbook: &Path) -> Result<PathBuf, Failure> {
        lab::recorded_in(&mut self.order, logbook)
    }

    /// Starts the run on a thread of its own. Whoever listens to the messages may fall behind; the logbook does not.
    ///
    /// # Errors
    /// Where the run cannot be entered into the logbook, or no thread can be made.
    pub fn start(self, book: Logbook) -> Result<(Underway, Option<PathBuf>), Failure> {
        let (told, messages) = unbounded();
        let (commands, obeyed) = unbounded();
        let (work, socket) = self.work(book, Some(told), commands.clone())?;
        let thread = std::thread::Builder::new().name("runner".into()).spawn(move || work(&obeyed))?;
        Ok((Underway { messages, commands, thread }, socket))
    }

    /// Makes everything ready: gives what is left to do, and the socket through which it can be watched, where there is one.
    fn work(
        mut self,
        mut book: Logbook,
        told: Option<Sender<Told>>,
        commands: Sender<Command>,
    ) -> Result<(Work, Option<PathBuf>), Failure> {
        for lane in &mut self.lanes {
            if lane.is_on_drive(book.path()) {
                lane.plan.notes.push(format!(
                    "The logbook {} is on the disk under test: what it writes there is part of others' load.",
                    book.path().display()
                ));
            }
        }
        // Before the run is entered: where its figures cannot be served as was asked, it is not begun.
        let listener =
            self.order.metrics.as_deref().map(metrics::listen).transpose().map_err(Failure::usage)?;
        // A simulated drive keeps nothing that had to be told apart, and its runs can be made again to the byte.
        let real = self.lanes.iter().any(|l| !l.drive.is_virtual());
        let mut go_on: Vec<Option<GoOn>> = self.lanes.iter().map(|_| None).collect();
        let mut before = None;
        // In the logbook before anything is made or opened, so that nothing is ever left of a run that it does not list.
        let (head, entered) = match self.order.resume {
            Some(run) => {
                let on = self.going_on(&book, run)?;
                let kept = on.lanes.iter().map(|l| l.1).collect();
                let mut told = Vec::new();
                for (place, (on, kept, events)) in go_on.iter_mut().zip(on.lanes) {
                    *place = Some(on);
                    told.push((kept.samples, events));
                }
                before = Some(told);
                book.reopen(run)?;
                (on.head, Entered { run, lanes: kept })
            }
            None => {
                let mut head = self.head(real);
                let drives = head.lanes.iter().map(|l| l.drive.clone()).collect();
                let archived = self.order.lab.as_deref().and_then(|lab| lab::earlier(lab, drives));
                let mut archived = archived.into_iter().flatten();
                // A logbook that cannot be read, or a drive without a serial number, knows nothing.
                for lane in &mut head.lanes {
                    let own = || book.earlier(&lane.drive).unwrap_or_default();
                    lane.earlier = archived.next().unwrap_or_else(own);
                }
                let run = book.begin(&head)?;
                (head, Entered::new(run, self.lanes.len()))
            }
        };
        let metrics = match listener {
            Some(listener) => {
                let metrics = Metrics::new(entered.run, &head);
                metrics.serve(listener)?;
                Some(metrics)
            }
            None => None,
        };
        let hello = Hello {
            protocol: PROTOCOL,
            pid: std::process::id(),
            run: Some(entered.run),
            logbook: std::path::absolute(book.path()).unwrap_or_else(|_| book.path().to_owned()),
            drive: head.drives(),
            course: head.course.clone(),
        };
        let to_lab = commands.clone();
        // A run that cannot be watched from outside is still a run.
        let server = Server::start(hello, !real, commands).ok().map(Arc::new);
        if let (Some(server), Some(before)) = (&server, before) {
            server.goes_on(&head, before);
        }
        let socket = server.as_ref().map(|s| s.path().to_owned());
        let (news, of_the_log) = unbounded();
        let forwarding = match &self.order.lab {
            Some(lab) => Some(Forwarding::start(lab::Terms {
                lab: lab.clone(),
                spool: book.path().to_owned(),
                run: entered.run,
                told: news.clone(),
                commands: to_lab,
                metrics: metrics.clone(),
            })?),
            None => None,
        };
        let errand = Recording { entered, told: news, waits: !real, aside: aside_folders() };
        let recorder = Recorder::start(book, errand)?;
        let listening = {
            // At once, and not with the next sample, which may be a minute away.
            let (server, told) = (server.clone(), told.clone());
            std::thread::Builder::new().name("log news".into()).spawn(move || {
                for event in of_the_log {
                    let message = Message::Event(event);
                    if let Some(server) = &server {
                        server.tell(0, &message);
                    }
                    if let Some(told) = &told {
                        // The listener may have gone.
                        let _ = told.send((0, message));
                    }
                }
            })?
        };
        let work = move |commands: &Receiver<Command>| {
            let mut lost = false;
            let mut last = Vec::new();
            let mut tell = |lane: u32, message: Message| {
                if let Message::Keep(_) = message {
                    // For the log alone. One that has ended answers by that.
                    recorder.tell(lane, message);
                    return;
                }
                if let Some(metrics) = &metrics {
                    metrics.take(lane, &message);
                }
                let give = |lane: u32, message: Message| {
                    if let Some(server) = &server {
                        server.tell(lane, &message);
                    }
                    if let Some(told) = &told {
                        // The listener may have gone; the run goes on.
                        let _ = told.send((lane, message));
                    }
                };
                if !lost && !recorder.tell(lane, message.clone()) {
                    // The drive goes on: what it does is still shown, and the reason is given at the end.
                    lost = true;
                    give(
                        0,
                        failed("The logbook can no longer be written; the run goes on without it".into()),
                    );
                }
                // The last words are said when everything is kept.
                if matches!(message, Message::Ended(_)) {
                    last.push((lane, message));
                } else {
                    give(lane, message);
                }
            };
            // They are asked as long as the run goes on.
            let board = (!self.instruments.instruments.is_empty()).then(Arc::<Board>::default);
            let first = first_of_instruments(&self.channels);
            let polling = board.as_ref().map(|board| Polling::start(&self.instruments, first, board));
            if let Some(Err(e)) = &polling {
                tell(0, failed(format!("The instruments cannot be read: {e}")));
            }
            let (speed, keep) = (self.order.speed, self.order.keep);
            let lanes = self.lanes.iter_mut().zip(go_on).map(|(lane, go_on)| LaneRun {
                plan: &lane.plan,
                drive: lane.drive.as_mut(),
                terms: Terms { speed, keep, go_on, board: board.clone() },
            });
            let ends = execute_lanes(lanes.collect(), head, self.apart, commands, &mut tell);
            let (mut outcomes, mut traces, mut findings) = (Vec::new(), Vec::new(), Vec::new());
            for end in ends {
                outcomes.push(end.outcome);
                traces.push(end.trace);
                findings.push(end.findings);
            }
            drop(polling);
            let kept = recorder.finish();
            let archived = forwarding.and_then(Forwarding::finish);
            // Both have let go of it. What they said last comes before the end of the run, after which nobody listens.
            let _ = listening.join();
            if let Some(server) = server {
                if let Err(e) = &kept {
                    server.tell(0, &failed(e.to_string()));
                }
                last.iter().for_each(|(lane, message)| server.tell(*lane, message));
                server.finish();
            }
            if let Some(told) = told {
                last.into_iter().for_each(|last| drop(told.send(last)));
            }
            let names = self.lanes.iter().map(|l| l.name.as_str());
            let outcome = Outcome::of_lanes(&names.zip(&outcomes).collect::<Vec<_>>());
            let outcome = outcome.unwrap_or_else(|| Outcome {
                status: Status::Failed,
                at: Nanos(0),
                bytes: Bytes(0),
                why: Some("it had no drive".into()),
                health: None,
                digest: None,
            });
            Ended {
                outcome,
                traces,
                findings,
                truths: self.lanes.iter().filter_map(|l| l.drive.truth()).collect(),
                kept,
                archived,
            }
        };
        Ok((Box::new(work), socket))
    }

    /// What is known of the run when it begins.
    fn head(&self, real: bool) -> RunHead {
        let mut head = RunHead {
            started: unix_seconds(),
            course_text: self.order.course_text.clone(),
            identity: real.then(mile_drive::io::new_run),
            ..RunHead::default()
        };
        for (lane, order) in self.lanes.iter().zip(&self.order.lanes) {
            head.course.clone_from(&lane.plan.name);
            head.sample_every = lane.plan.sample_every;
            head.seed = order.named.seed;
            let mut of_lane = run::lane_head(&lane.name, &lane.plan, lane.drive.as_ref());
            of_lane.situation = overlay(of_lane.situation, &order.situation);
            of_lane.order = Some(mile_runner::Order {
                drive: order.named.drive.clone(),
                folder: std::env::current_dir().ok().filter(|_| real),
                size: order.named.size,
                engine: order.named.engine,
                keep: self.order.keep,
                discard_first: self.order.discard_first,
            });
            head.lanes.push(of_lane);
        }
        head.channels.clone_from(&self.channels);
        // A run that goes on from elsewhere finds the file again.
        head.instruments = self.order.instruments.clone().map(|named| match named.as_str() {
            "bench" => named,
            path => std::path::absolute(path).map_or_else(|_| path.to_owned(), |p| p.display().to_string()),
        });
        head
    }
}

fn failed(text: String) -> Message {
    Message::Event(Event { at: Nanos(0), bytes: Bytes(0), kind: EventKind::Failed(text) })
}

impl Underway {
    /// Waits for the end.
    ///
    /// # Errors
    /// Where the thread of the run ended before the run.
    pub fn finish(self) -> Result<Ended, Failure> {
        self.thread
            .join()
            .map_err(|_| Failure::run("the runner ended unexpectedly; what it had logged is in the logbook"))
    }
}

/// Starts a runner of its own, and gives its socket once it has begun, or why it did not.
///
/// # Errors
/// Where no process can be made, or the run is refused.
pub fn spawn_runner(mut order: Order, logbook: &Path) -> Result<PathBuf, Failure> {
    let logbook = std::path::absolute(lab::recorded_in(&mut order, logbook)?)?;
    let errand = serde_json::to_vec(&Errand { order, logbook })?;
    let mut child = std::process::Command::new(std::env::current_exe()?)
        .arg("runner")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()?;
    if let Some(mut stdin) = child.stdin.take() {
        stdin.write_all(&errand)?;
    }
    let mut line = String::new();
    if let Some(stdout) = child.stdout.take() {
        BufReader::new(stdout).read_line(&mut line)?;
    }
    // It is nobody's child for long; collected where it ends first, so that it does not stay behind as a zombie.
    std::thread::Builder::new().name("collect".into()).spawn(move || child.wait())?;
    match serde_json::from_str(&line) {
        Ok(Begun::Socket(path)) => Ok(path),
        Ok(Begun::Refused { code: 2, message }) => Err(Failure::usage(message)),
        Ok(Begun::Refused { message, .. }) => Err(Failure::run(message)),
        Err(_) => Err(Failure::run("the runner ended before it had begun")),
    }
}

/// What a runner does: reads its errand, says whether it has begun, and goes through with it.
///
/// `say` writes a line to whoever gave the errand.
///
/// # Errors
/// Where the run cannot be begun, or ends with an error.
pub fn serve(errand: &str, say: impl Fn(&str)) -> Result<(), Failure> {
    let begun = |begun: &Begun| say(&serde_json::to_string(begun).unwrap_or_default());
    let (commands, obeyed) = unbounded();
    let ready = || -> Result<_, Failure> {
        let errand: Errand = serde_json::from_str(errand)?;
        let ready = prepare(errand.order)?;
        let book = Logbook::open(&errand.logbook)?;
        let (work, socket) = ready.work(book, None, commands.clone())?;
        let socket = socket.ok_or_else(|| match mile_runner::remote::folder() {
            Err(e) => Failure::run(format!("no socket can be made to watch the run through: {e}")),
            Ok(folder) => Failure::run(format!("no socket can be made in {}", folder.display())),
        })?;
        Ok((work, socket))
    };
    let (work, socket) = match ready() {
        Ok(made) => made,
        Err(failure) => {
            let (code, message) = (failure.code(), failure.message().to_owned());
            begun(&Begun::Refused { code, message });
            return Ok(());
        }
    };
    // Whoever started it may leave: it has a session of its own, and their terminal's signals do not reach it.
    let _ = rustix::process::setsid();
    stop_on_signals(commands)?;
    begun(&Begun::Socket(socket));
    let ended = work(&obeyed);
    ended.kept.map(|_| ()).map_err(Failure::from)
}

/// Time that a run is given to end after it was asked twice.
const LAST_PATIENCE: Duration = Duration::from_secs(5);

/// SIGINT, SIGTERM, SIGHUP and SIGQUIT end the run cleanly; a second one ends it without waiting for the drive, and the process where even
/// that takes too long, because the system holds it in a call. The logbook has then all but the last half second.
///
/// # Errors
/// Where the system does not let signals be waited for.
pub fn stop_on_signals(commands: Sender<Command>) -> Result<(), Failure> {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
    let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP, SIGQUIT])?;
    std::thread::Builder::new().name("signals".into()).spawn(move || {
        for (count, signal) in signals.forever().enumerate() {
            // The run may be over by then.
            let _ = commands.send(Command::Stop);
            if count == 1 {
                // Where no thread can be had, a third signal finds the run stopping as well.
                let _ = std::thread::Builder::new().name("last patience".into()).spawn(move || {
                    std::thread::sleep(LAST_PATIENCE);
                    let _ = signal_hook::low_level::emulate_default_handler(signal);
                });
            }
        }
    })?;
    Ok(())
}

/// Is told when a signal asks this process to end.
///
/// # Errors
/// Where the system does not let signals be waited for.
pub fn stopped() -> Result<Receiver<()>, Failure> {
    let (commands, told) = unbounded();
    stop_on_signals(commands)?;
    let (say, stopped) = crossbeam_channel::bounded(1);
    std::thread::Builder::new().name("stop".into()).spawn(move || {
        for _ in told {
            let _ = say.try_send(());
        }
    })?;
    Ok(stopped)
}

/// All that a runner had told before: from its logbook, and from what it keeps itself.
///
/// # Errors
/// Where the runner is gone, or says what cannot be read.
pub fn told_before(client: &mut Client) -> Result<Vec<Told>, Failure> {
    let backlog = std::mem::take(&mut client.backlog);
    let (mut kept, mut series) = (Vec::new(), Vec::new());
    // Of readings, a runner keeps none.
    let reads = backlog.head.as_ref().is_some_and(|h| !h.channels.is_empty());
    if let (true, Some(run)) = (reads || backlog.lanes.iter().any(|l| l.first > 0), client.hello.run) {
        // What the runner no longer keeps is in the logbook within a second.
        let clock = mile_drive::clock::Monotonic::start();
        loop {
            let stored = Logbook::reading(&client.hello.logbook, |book| book.run(run))?;
            (kept, series) = (stored.lanes, stored.series);
            let all =
                backlog.lanes.iter().zip(&kept).all(|(told, kept)| kept.samples.len() as u64 >= told.first);
            if all || clock.now().secs() > 10.0 {
                break;
            }
            clock.sleep_until(clock.now().plus(Nanos(100_000_000)));
        }
    }
    let mut kept = kept.into_iter();
    let mut all: Vec<Told> = backlog.head.map(|head| (0, Message::Began(head))).into_iter().collect();
    for (channel, one) in series.into_iter().enumerate() {
        all.extend(one.readings.into_iter().map(|r| (0, Message::Reading(channel as u32, r))));
    }
    let mut ended = Vec::new();
    for (lane, told) in backlog.lanes.into_iter().enumerate() {
        let lane = lane as u32;
        let mut samples = kept.next().map(|k| k.samples).unwrap_or_default();
        samples.truncate(usize::try_from(told.first).unwrap_or(usize::MAX));
        samples.extend(told.samples);
        all.extend(mile_runner::remote::in_order(samples, told.events).map(|m| (lane, m)));
        ended.extend(told.ended.map(|o| (lane, Message::Ended(o))));
    }
    all.extend(ended);
    Ok(all)
}

/// What became of a run whose runner tells nothing more.
pub enum Became {
    /// It goes on: whoever watched it was too far behind, and was left out. Watched anew.
    GoesOn(Box<(Client, Vec<Told>)>),
    /// It is over, and its last words were not heard.
    Over(Status),
    /// It goes on by its logbook, and its runner lets nobody in.
    Silent,
    /// Its runner is gone, and the run is not over; or what became of it cannot be found out.
    Gone,
}

/// Longest wait for a run that is over to be so in its logbook.
const CLOSES_S: f64 = 10.0;

/// Finds out what became of a run, `run` of its logbook, whose runner said `hello` once and tells nothing more.
pub fn what_became(hello: &Hello, run: Option<i64>) -> Became {
    let clock = mile_drive::clock::Monotonic::start();
    loop {
        if let Ok(mut client) = Client::again(hello)
            && let Ok(before) = told_before(&mut client)
        {
            return Became::GoesOn(Box::new((client, before)));
        }
        let ends = |run| Logbook::reading(&hello.logbook, |book| book.ends(run)).ok();
        match run.and_then(ends).map(|(_, status, _)| status) {
            // It is closing its logbook.
            Some(Status::Underway) if clock.now().secs() < CLOSES_S => {
                clock.sleep_until(clock.now().plus(Nanos(100_000_000)));
            }
            Some(Status::Underway) => return Became::Silent,
            None | Some(Status::CutShort | Status::Unreadable) => return Became::Gone,
            Some(status) => return Became::Over(status),
        }
    }
}

/// Folders for what the logbook does not take, the best first: where this user's programs keep their state, and the system's temporary folder.
pub fn aside_folders() -> Vec<PathBuf> {
    let own = directories::ProjectDirs::from("", "", "hollow-mile");
    let state = own.as_ref().map(|f| f.state_dir().unwrap_or_else(|| f.data_dir()).to_owned());
    let user = rustix::process::geteuid().as_raw();
    let temporary = std::env::temp_dir().join(format!("hollow-mile-aside-{user}"));
    // Only in a folder that nobody else may enter.
    let temporary = mile_files::private_folder(&temporary).is_ok().then_some(temporary);
    state.into_iter().chain(temporary).collect()
}

/// Where the user's logbook is, unless they name another.
///
/// # Errors
/// Where none is named and this user has no folder for it.
pub fn logbook_path(named: Option<&Path>) -> Result<PathBuf, Failure> {
    if let Some(path) = named {
        return Ok(path.to_owned());
    }
    let folders = directories::ProjectDirs::from("", "", "hollow-mile").ok_or_else(|| {
        Failure::usage("there is no home folder to keep a logbook in; name one with --logbook FILE")
    })?;
    Ok(folders.data_dir().join("runs.logbook"))
}

/// The number of the first channel that a bench instrument gives: they stand behind those of drives and of the program itself.
fn first_of_instruments(channels: &[Channel]) -> u32 {
    channels.iter().take_while(|c| !matches!(c.source, Source::Instrument(_))).count() as u32
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instruments_stand_behind_the_channels_of_drives_and_of_copies() {
        let of = |source: Source| Channel { source, ..Channel::default() };
        let instrument = || of(Source::Instrument("logger".into()));
        assert_eq!(first_of_instruments(&[]), 0);
        assert_eq!(first_of_instruments(&[instrument()]), 0);
        let all = [of(Source::Drive), of(Source::Runner), of(Source::Runner), instrument(), instrument()];
        assert_eq!(first_of_instruments(&all), 3);
    }
}
