//! A run from its course to the logbook: what the command line and the terminal share.
//!
//! A run is executed on a thread of this process, or of a runner: a process of its own that goes on when whoever started it
//! leaves. Either way it can be watched through its socket.

use crate::Failure;
use crate::bench::{self, Card, Named};
use crossbeam_channel::{Receiver, Sender, unbounded};
use mile_core::{Bytes, Nanos};
use mile_course::{Course, Plan};
use mile_drive::clock::unix_seconds;
use mile_drive::sysfs::Disk;
use mile_drive::{Drive, Situation, Truth};
use mile_logbook::{Entered, Errand as Recording, Logbook, LogbookError, Recorder};
use mile_runner::remote::{Client, Hello, PROTOCOL, Server};
use mile_runner::{
    Command, Event, EventKind, GoOn, Message, Outcome, RunHead, Speed, Status, Terms, execute, run,
};
use serde::{Deserialize, Serialize};
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::Duration;

/// What a run needs to be started.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Order {
    pub(crate) course_text: String,
    /// Where the text came from, for messages.
    pub(crate) course_name: String,
    pub(crate) named: Named,
    pub(crate) speed: Speed,
    pub(crate) keep: bool,
    /// Whether what the course writes to is discarded before it.
    pub(crate) discard_first: bool,
    pub(crate) situation: Situation,
    /// The run of the logbook that goes on.
    pub(crate) resume: Option<i64>,
    /// What spoke against the start, and was accepted.
    #[serde(default)]
    pub(crate) warnings: Vec<String>,
}

/// What a runner is given.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Errand {
    pub(crate) order: Order,
    pub(crate) logbook: PathBuf,
}

/// What a runner says once it has begun, or why it has not.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Begun {
    Socket(PathBuf),
    Refused { code: u8, message: String },
}

/// What is left to do of a run that is ready.
type Work = Box<dyn FnOnce(&Receiver<Command>) -> Ended + Send>;

/// A run that was planned and may be started.
pub(crate) struct Ready {
    pub(crate) plan: Plan,
    drive: Box<dyn Drive>,
    order: Order,
}

/// A run underway on a thread of this process.
pub(crate) struct Underway {
    pub(crate) messages: Receiver<Message>,
    pub(crate) commands: Sender<Command>,
    thread: JoinHandle<Ended>,
}

/// A run that is over.
pub(crate) struct Ended {
    pub(crate) outcome: Outcome,
    pub(crate) truth: Option<Truth>,
    /// The run's number, or why the logbook does not have all of it.
    pub(crate) kept: Result<i64, LogbookError>,
}

/// Reads the course, looks at the drive, and fits the one to the other. Nothing is made or written.
pub(crate) fn prepare(order: Order) -> Result<Ready, Failure> {
    let mut ready = plan(order)?;
    ready.drive.check_consent(ready.plan.changes_the_drive())?;
    Ok(ready)
}

/// As [`prepare`], without asking whether what it would do to the drive is allowed.
pub(crate) fn plan(order: Order) -> Result<Ready, Failure> {
    let course = read_course(&order.course_text, &order.course_name)?;
    let drive = bench::drive(&order.named)?;
    let mut plan = mile_course::plan(&course, &run::plan_facts(drive.as_ref())).map_err(|errors| {
        Failure::usage(format!(
            "{} does not fit {}:\n{}",
            order.course_name,
            order.named.drive,
            errors.join("\n")
        ))
    })?;
    if order.discard_first {
        plan.discard_first();
    }
    if let Some(link) = drive.identity().link.as_ref().filter(|l| l.is_degraded()) {
        plan.notes.push(format!("The link is {}.", link.sentence()));
    }
    plan.notes.extend(order.warnings.iter().cloned());
    Ok(Ready { plan, drive, order })
}

/// Reads a course; all of its errors at once, each with its line. `name` is where the text came from.
pub(crate) fn read_course(text: &str, name: &str) -> Result<Course, Failure> {
    mile_course::parse(text).map_err(|errors| {
        let count =
            if errors.len() == 1 { "one error".to_owned() } else { format!("{} errors", errors.len()) };
        let list = mile_course::diagnostic::render(&errors, text);
        Failure::usage(format!("{name}: {count}\n\n{}", list.join("\n").trim_end()))
    })
}

/// The order by which a run of the logbook goes on, as it was given then. `armed` is what is allowed now.
pub(crate) fn order_to_resume(
    book: &Logbook,
    run: i64,
    consent: mile_drive::block::Consent,
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
    if head.identity.is_none() && !head.drive.simulated {
        return Err(no(
            "the version that began it did not mark what it wrote as its own, so that nobody can tell what is there now; start the course anew",
        ));
    }
    let order =
        head.order.ok_or_else(|| no("the version that began it did not keep what is needed for that"))?;
    Ok(Order {
        course_text: head.course_text,
        course_name: format!("the course of run {run}"),
        named: Named {
            // A path is meant as it was then, wherever this is called.
            drive: match order.folder.filter(|_| !head.drive.simulated) {
                Some(folder) => folder.join(&order.drive).display().to_string(),
                None => order.drive,
            },
            size: order.size,
            seed: head.seed,
            engine: order.engine,
            consent,
            goes_on: head.identity,
        },
        speed,
        keep: order.keep,
        discard_first: order.discard_first,
        situation: head.situation,
        resume: Some(run),
        warnings: Vec::new(),
    })
}

/// Refuses to go on with a run where drive or situation are not those that it began with.
fn check_same(head: &RunHead, drive: &dyn Drive, run: i64) -> Result<(), Failure> {
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
    pub(crate) fn accept(&mut self, warnings: Vec<String>) {
        self.plan.notes.extend(warnings.iter().cloned());
        self.order.warnings.extend(warnings);
    }

    /// The drive as the bench shows it.
    pub(crate) fn card(&self) -> Card {
        let name = &self.order.named.drive;
        // A file is on no bench.
        bench::card(name)
            .ok()
            .filter(|c| c.identity.simulated || c.device.is_some())
            .unwrap_or_else(|| Card::plain(self.drive.as_ref()))
    }

    /// The disk under the drive.
    pub(crate) fn disk(&self) -> Option<Disk> {
        let path = Path::new(&self.order.named.drive);
        let meta = std::fs::metadata(path).or_else(|_| std::fs::metadata(folder_of(path))).ok()?;
        let number = if meta.file_type().is_block_device() { meta.rdev() } else { meta.dev() };
        Disk::of(Path::new("/sys"), rustix::fs::major(number), rustix::fs::minor(number))
    }

    /// Whether a path is on the disk under test.
    pub(crate) fn is_on_drive(&self, path: &Path) -> bool {
        !self.drive.is_virtual() && same_disk(Path::new(&self.order.named.drive), path)
    }

    /// Rated endurance of the drive, where it is claimed.
    pub(crate) fn endurance(&self) -> Option<Bytes> {
        self.drive.claims().endurance
    }

    /// The order that was made ready.
    pub(crate) fn into_order(self) -> Order {
        self.order
    }

    /// Where the run goes on, and what the logbook has of it.
    fn going_on(&self, book: &Logbook, run: i64) -> Result<(RunHead, GoOn, Entered, Vec<Event>), Failure> {
        let stored = book.run(run)?;
        check_same(&stored.head, self.drive.as_ref(), run)?;
        let resumed =
            Entered { run, samples: stored.samples.len() as u64, events: stored.events.len() as u64 };
        let end = stored.samples.last().map_or(Nanos(0), |s| s.end);
        let ended_at = stored.head.started as f64 + end.secs();
        let gap = Nanos::from_secs((unix_seconds() as f64 - ended_at).max(1.0));
        let on = GoOn::of(&self.plan, stored.status, stored.samples, &stored.events, gap);
        Ok((stored.head, on, resumed, stored.events))
    }

    /// Starts the run on a thread of its own. Whoever listens to the messages may fall behind; the logbook does not.
    pub(crate) fn start(self, book: Logbook) -> Result<(Underway, Option<PathBuf>), Failure> {
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
        told: Option<Sender<Message>>,
        commands: Sender<Command>,
    ) -> Result<(Work, Option<PathBuf>), Failure> {
        let named = &self.order.named;
        if !self.drive.is_virtual() && same_disk(Path::new(&named.drive), book.path()) {
            self.plan.notes.push(format!(
                "The logbook {} is on the disk under test: what it writes there is part of others' load.",
                book.path().display()
            ));
        }
        let mut head =
            run::head(&self.plan, &self.order.course_text, self.drive.as_ref(), named.seed, unix_seconds());
        // A simulated drive keeps nothing that had to be told apart, and its runs can be made again to the byte.
        let real = !self.drive.is_virtual();
        head.identity = real.then(mile_drive::io::new_run);
        head.situation = overlay(head.situation, &self.order.situation);
        head.order = Some(mile_runner::Order {
            drive: named.drive.clone(),
            folder: std::env::current_dir().ok().filter(|_| real),
            size: named.size,
            engine: named.engine,
            keep: self.order.keep,
            discard_first: self.order.discard_first,
        });
        let mut go_on = None;
        let mut before = Vec::new();
        // In the logbook before anything is made or opened, so that nothing is ever left of a run that it does not list.
        let entered = match self.order.resume {
            Some(run) => {
                let (stored, on, has, events) = self.going_on(&book, run)?;
                (head, go_on, before) = (stored, Some(on), events);
                book.reopen(run)?;
                has
            }
            None => Entered::new(book.begin(&head)?),
        };
        let hello = Hello {
            protocol: PROTOCOL,
            pid: std::process::id(),
            run: Some(entered.run),
            logbook: std::path::absolute(book.path()).unwrap_or_else(|_| book.path().to_owned()),
            drive: self.drive.identity().name.clone(),
            course: self.plan.name.clone(),
        };
        // A run that cannot be watched from outside is still a run.
        let server = Server::start(hello, self.drive.is_virtual(), commands).ok().map(Arc::new);
        if let (Some(server), Some(_)) = (&server, &go_on) {
            server.goes_on(&head, entered.samples, before);
        }
        let socket = server.as_ref().map(|s| s.path().to_owned());
        let (news, of_the_log) = unbounded();
        let waits = self.drive.is_virtual();
        let errand = Recording { entered, told: news, waits, aside: aside_folders() };
        let recorder = Recorder::start(book, errand)?;
        {
            // At once, and not with the next sample, which may be a minute away.
            let (server, told) = (server.clone(), told.clone());
            std::thread::Builder::new().name("log news".into()).spawn(move || {
                for event in of_the_log {
                    let message = Message::Event(event);
                    if let Some(server) = &server {
                        server.tell(&message);
                    }
                    if let Some(told) = &told {
                        // The listener may have gone.
                        let _ = told.send(message);
                    }
                }
            })?;
        }
        let work = move |commands: &Receiver<Command>| {
            let mut lost = false;
            let mut last = None;
            let mut tell = |message: Message| {
                let give = |message: Message| {
                    if let Some(server) = &server {
                        server.tell(&message);
                    }
                    if let Some(told) = &told {
                        // The listener may have gone; the run goes on.
                        let _ = told.send(message);
                    }
                };
                if !lost && !recorder.tell(message.clone()) {
                    // The drive goes on: what it does is still shown, and the reason is given at the end.
                    lost = true;
                    give(failed("The logbook can no longer be written; the run goes on without it".into()));
                }
                // The last word is said when everything is kept.
                if matches!(message, Message::Ended(_)) { last = Some(message) } else { give(message) }
            };
            let terms = Terms { speed: self.order.speed, keep: self.order.keep, go_on };
            let outcome = execute(&self.plan, head, self.drive.as_mut(), terms, commands, &mut tell);
            let kept = recorder.finish();
            if let Some(server) = server {
                if let Err(e) = &kept {
                    server.tell(&failed(e.to_string()));
                }
                if let Some(last) = &last {
                    server.tell(last);
                }
                server.finish();
            }
            if let (Some(told), Some(last)) = (told, last) {
                let _ = told.send(last);
            }
            Ended { outcome, truth: self.drive.truth(), kept }
        };
        Ok((Box::new(work), socket))
    }
}

fn failed(text: String) -> Message {
    Message::Event(Event { at: Nanos(0), bytes: Bytes(0), kind: EventKind::Failed(text) })
}

impl Underway {
    /// Waits for the end.
    pub(crate) fn finish(self) -> Result<Ended, Failure> {
        self.thread
            .join()
            .map_err(|_| Failure::run("the runner ended unexpectedly; what it had logged is in the logbook"))
    }
}

/// Starts a runner of its own, and gives its socket once it has begun, or why it did not.
pub(crate) fn spawn_runner(order: Order, logbook: &Path) -> Result<PathBuf, Failure> {
    let logbook = std::path::absolute(logbook)?;
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
pub(crate) fn serve(errand: &str) -> Result<(), Failure> {
    let begun = |begun: &Begun| crate::text::say(&serde_json::to_string(begun).unwrap_or_default());
    let (commands, obeyed) = unbounded();
    let ready = || {
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
            let Failure { code, message } = failure;
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
pub(crate) fn stop_on_signals(commands: Sender<Command>) -> Result<(), Failure> {
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

/// All that a runner had told before: from its logbook, and from what it keeps itself.
pub(crate) fn told_before(client: &mut Client) -> Result<Vec<Message>, Failure> {
    let backlog = std::mem::take(&mut client.backlog);
    let mut samples = Vec::new();
    if let (true, Some(run)) = (backlog.first > 0, client.hello.run) {
        // What the runner no longer keeps is in the logbook within a second.
        let clock = mile_drive::clock::Monotonic::start();
        loop {
            samples = Logbook::reading(&client.hello.logbook, |book| book.run(run))?.samples;
            if samples.len() as u64 >= backlog.first || clock.now().secs() > 10.0 {
                break;
            }
            clock.sleep_until(clock.now().plus(Nanos(100_000_000)));
        }
        samples.truncate(usize::try_from(backlog.first).unwrap_or(usize::MAX));
    }
    samples.extend(backlog.samples);
    let mut all: Vec<Message> = backlog.head.map(Message::Began).into_iter().collect();
    all.extend(mile_runner::remote::in_order(samples, backlog.events));
    all.extend(backlog.ended.map(Message::Ended));
    Ok(all)
}

/// What a person says about the situation goes before what the drive knows.
fn overlay(known: Situation, said: &Situation) -> Situation {
    Situation {
        slot: said.slot.clone().or(known.slot),
        cooling: said.cooling.clone().or(known.cooling),
        ambient: said.ambient.or(known.ambient),
        enclosure: said.enclosure.clone().or(known.enclosure),
        notes: said.notes.clone().or(known.notes),
    }
}

/// Whether two paths are on one device.
fn same_disk(a: &Path, b: &Path) -> bool {
    let device = |path: &Path| std::fs::metadata(folder_of(path)).map(|m| m.dev()).ok();
    device(a).is_some() && device(a) == device(b)
}

fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Folders for what the logbook does not take, the best first: where this user's programs keep their state, and the system's temporary folder.
pub(crate) fn aside_folders() -> Vec<PathBuf> {
    let own = directories::ProjectDirs::from("", "", "hollow-mile");
    let state = own.as_ref().map(|f| f.state_dir().unwrap_or_else(|| f.data_dir()).to_owned());
    let user = rustix::process::geteuid().as_raw();
    let temporary = std::env::temp_dir().join(format!("hollow-mile-aside-{user}"));
    // Only in a folder that nobody else may enter.
    let temporary = mile_files::private_folder(&temporary).is_ok().then_some(temporary);
    state.into_iter().chain(temporary).collect()
}

/// Where the user's logbook is, unless they name another.
pub(crate) fn logbook_path(named: Option<&Path>) -> Result<PathBuf, Failure> {
    if let Some(path) = named {
        return Ok(path.to_owned());
    }
    let folders = directories::ProjectDirs::from("", "", "hollow-mile").ok_or_else(|| {
        Failure::usage("there is no home folder to keep a logbook in; name one with --logbook FILE")
    })?;
    Ok(folders.data_dir().join("runs.logbook"))
}
