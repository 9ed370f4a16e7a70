//! A run from its course to the logbook: what the command line and the terminal share.

use crate::Failure;
use crate::bench::{self, Named};
use crossbeam_channel::{Receiver, Sender, unbounded};
use mile_core::Bytes;
use mile_course::{Course, Plan};
use mile_drive::clock::unix_seconds;
use mile_drive::{Drive, Situation, Truth};
use mile_logbook::{Logbook, LogbookError, Recorder};
use mile_runner::{Command, Event, EventKind, Message, Outcome, Speed, execute, run};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::thread::JoinHandle;

/// What a run needs to be started.
#[derive(Clone, Debug)]
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
}

/// A run that was planned and may be started.
pub(crate) struct Ready {
    pub(crate) plan: Plan,
    drive: Box<dyn Drive>,
    order: Order,
}

/// A run underway.
pub(crate) struct Underway {
    pub(crate) messages: Receiver<Message>,
    pub(crate) commands: Sender<Command>,
    /// The run's number in the logbook, once it has one.
    pub(crate) number: Receiver<i64>,
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
    let course = read_course(&order.course_text, &order.course_name)?;
    let mut drive = bench::drive(&order.named)?;
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
    drive.check_consent(plan.changes_the_drive())?;
    Ok(Ready { plan, drive, order })
}

/// Reads a course; all of its errors at once, each with its line. `name` is where the text came from.
pub(crate) fn read_course(text: &str, name: &str) -> Result<Course, Failure> {
    mile_course::parse(text).map_err(|errors| {
        let count =
            if errors.len() == 1 { "one error".to_owned() } else { format!("{} errors", errors.len()) };
        let list: Vec<String> = errors.iter().map(|e| e.render(text)).collect();
        Failure::usage(format!("{name}: {count}\n\n{}", list.join("\n").trim_end()))
    })
}

impl Ready {
    /// Rated endurance of the drive, where it is claimed.
    pub(crate) fn endurance(&self) -> Option<Bytes> {
        self.drive.claims().endurance
    }

    /// Starts the run on a thread of its own. Whoever listens to the messages may fall behind; the logbook does not.
    pub(crate) fn start(mut self, book: Logbook) -> std::io::Result<Underway> {
        if !self.drive.is_virtual() && same_disk(Path::new(&self.order.named.drive), book.path()) {
            self.plan.notes.push(format!(
                "The logbook {} is on the disk under test: what it writes there is part of others' load.",
                book.path().display()
            ));
        }
        let (told, messages) = unbounded();
        let (commands, obeyed) = unbounded();
        let (number, numbers) = unbounded();
        let recorder = Recorder::start(book, number)?;
        let thread = std::thread::Builder::new()
            .name("runner".into())
            .spawn(move || self.execute(recorder, &told, &obeyed))?;
        Ok(Underway { messages, commands, number: numbers, thread })
    }

    fn execute(mut self, recorder: Recorder, told: &Sender<Message>, commands: &Receiver<Command>) -> Ended {
        let order = &self.order;
        let mut head =
            run::head(&self.plan, &order.course_text, self.drive.as_ref(), order.named.seed, unix_seconds());
        head.situation = overlay(head.situation, &order.situation);
        let mut lost = false;
        let mut tell = |message: Message| {
            if !lost && !recorder.tell(message.clone()) {
                // The drive goes on: what it does is still shown, and the reason is given at the end.
                lost = true;
                let kind = EventKind::Failed(
                    "The logbook can no longer be written; the run goes on without it".into(),
                );
                let _ = told.send(Message::Event(Event { at: mile_core::Nanos(0), bytes: Bytes(0), kind }));
            }
            // The listener may have gone; the run goes on.
            let _ = told.send(message);
        };
        let outcome =
            execute(&self.plan, head, self.drive.as_mut(), order.speed, order.keep, commands, &mut tell);
        Ended { outcome, truth: self.drive.truth(), kept: recorder.finish() }
    }
}

impl Underway {
    /// Waits for the end.
    pub(crate) fn finish(self) -> Result<Ended, Failure> {
        self.thread
            .join()
            .map_err(|_| Failure::run("the runner ended unexpectedly; what it had logged is in the logbook"))
    }
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
    let device = |path: &Path| {
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        std::fs::metadata(folder).map(|m| m.dev()).ok()
    };
    device(a).is_some() && device(a) == device(b)
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
