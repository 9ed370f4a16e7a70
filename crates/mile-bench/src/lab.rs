//! A run that is kept in the archive of a lab: it is recorded in a file of this bench first, the spool, and brought to the archive beside that.

use crate::Failure;
use crate::metrics::Metrics;
use crate::order::Order;
use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, bounded, unbounded};
use mile_core::{Bytes, EarlierRun, Nanos};
use mile_drive::Identity;
use mile_drive::clock::Monotonic;
use mile_logbook::lab::forward::{AFTER_A_FAILURE, Forwarder, PAUSE, Request, Step};
use mile_logbook::lab::watch::{Following, Told};
use mile_logbook::lab::{Lab, ask, is_lab};
use mile_logbook::{Logbook, LogbookError};
use mile_runner::remote::{Backlog, Client, Frame, Hello, PROTOCOL};
use mile_runner::{Command, Event, EventKind, Message};
use std::path::{Path, PathBuf};
use std::thread::JoinHandle;
use std::time::Duration;

/// How long the end of a run waits for what is still on its way to the archive.
const AT_THE_END: Nanos = Nanos(10_000_000_000);
/// How long a run that begins waits for what the archive has of earlier runs of its drives.
const AT_THE_START: Duration = Duration::from_secs(3);
/// What an operator may ask, as it is written.
const WORDS: [(&str, Command); 4] =
    [("pause", Command::Pause), ("go-on", Command::Resume), ("skip", Command::Skip), ("stop", Command::Stop)];

/// The file of this bench for the runs that go to an archive.
///
/// # Errors
/// Where this user has no folder for it.
pub fn spool_of(lab: &Lab) -> Result<PathBuf, Failure> {
    let folders = directories::ProjectDirs::from("", "", "hollow-mile").ok_or_else(|| {
        Failure::usage("there is no home folder to keep the runs in on their way to the archive")
    })?;
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' };
    let name: String = lab.archive().chars().map(plain).collect();
    Ok(folders.data_dir().join("spool").join(format!("{name}.logbook")))
}

/// The file in which a run is recorded that is to be kept in `logbook`: the logbook itself, or the spool where that is the archive of a lab. The order
/// says then where it goes.
///
/// # Errors
/// Where it is no address of an archive, or there is no place for a spool.
pub fn recorded_in(order: &mut Order, logbook: &Path) -> Result<PathBuf, Failure> {
    if !is_lab(logbook) {
        return Ok(logbook.to_owned());
    }
    let lab = Lab::at(logbook)?;
    let spool = spool_of(&lab)?;
    order.lab = Some(lab.name().display().to_string());
    Ok(spool)
}

/// What the archive has of earlier runs of drives, of whichever bench; `None` where it does not say so within 3 s.
pub(crate) fn earlier(lab: &str, drives: Vec<Identity>) -> Option<Vec<Vec<EarlierRun>>> {
    let (tell, told) = bounded(1);
    let lab = PathBuf::from(lab);
    // A thread of its own, which an archive that does not answer may hold.
    let ask = move || {
        let asked = Logbook::read(&lab).and_then(|book| drives.iter().map(|d| book.earlier(d)).collect());
        let _ = tell.send(asked.ok());
    };
    std::thread::Builder::new().name("earlier runs".into()).spawn(ask).ok()?;
    told.recv_timeout(AT_THE_START).ok().flatten()
}

/// The file in which a run was recorded, and its number there, by the number that it has in `logbook`.
///
/// # Errors
/// Where the archive cannot be asked, or the run is of another bench.
pub fn recorded_as(logbook: &Path, run: i64) -> Result<(PathBuf, i64), Failure> {
    if !is_lab(logbook) {
        return Ok((logbook.to_owned(), run));
    }
    let lab = Lab::at(logbook)?;
    let spool = spool_of(&lab)?;
    let none = || Failure::usage(format!("run {run} is not of this bench: a run goes on where it began"));
    if !spool.exists() {
        return Err(none());
    }
    let local = Forwarder::new(&spool, lab)?.run_of(run)?.ok_or_else(none)?;
    Ok((spool, local))
}

/// Changes a logbook, with `work`. Where it is the archive of a lab, the spool of this bench is changed, and the archive gets it from there, at once or
/// when it can be reached again; `complain` is told of the latter.
///
/// # Errors
/// What `work` gives, and where the file cannot be written.
pub fn change<T>(
    logbook: &Path,
    complain: &dyn Fn(&str),
    work: impl FnOnce(&mut Logbook) -> Result<T, Failure>,
) -> Result<(T, Option<Forwarder>), Failure> {
    change_in(logbook, Logbook::open, complain, work)
}

fn change_in<T>(
    logbook: &Path,
    open: fn(&Path) -> Result<Logbook, LogbookError>,
    complain: &dyn Fn(&str),
    work: impl FnOnce(&mut Logbook) -> Result<T, Failure>,
) -> Result<(T, Option<Forwarder>), Failure> {
    if !is_lab(logbook) {
        return Ok((work(&mut open(logbook)?)?, None));
    }
    let lab = Lab::at(logbook)?;
    let spool = spool_of(&lab)?;
    let done = work(&mut open(&spool)?)?;
    let mut forwarder = Forwarder::new(&spool, lab)?;
    if let Err(e) = all_of(&mut forwarder) {
        complain(&format!(
            "{e}. It is kept in {}; `hollow-mile lab forward` brings it to the archive.",
            spool.display()
        ));
    }
    Ok((done, Some(forwarder)))
}

/// Changes a run of a logbook: `work` is given the file that has it and its number there.
///
/// # Errors
/// As [`change`], and where the run is of another bench.
pub fn change_run<T>(
    logbook: &Path,
    run: i64,
    complain: &dyn Fn(&str),
    work: impl FnOnce(&mut Logbook, i64) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let (_, local) = recorded_as(logbook, run)?;
    // There is no run in a file that is not there, and none is made for it.
    Ok(change_in(logbook, Logbook::open_existing, complain, |book| work(book, local))?.0)
}

/// The number that a run of this bench's spool has in the archive, once it is there.
///
/// # Errors
/// Where the archive cannot be asked.
pub fn number_of(archive: &Path, run: i64) -> Result<Option<i64>, Failure> {
    let lab = Lab::at(archive)?;
    let spool = spool_of(&lab)?;
    Ok(Forwarder::new(&spool, lab)?.number(run)?)
}

/// The file in which runs for a logbook are recorded: itself, or the spool where it is the archive of a lab.
///
/// # Errors
/// Where it is no address of an archive, or there is no place for a spool.
pub fn file_of(logbook: &Path) -> Result<PathBuf, Failure> {
    if is_lab(logbook) { spool_of(&Lab::at(logbook)?) } else { Ok(logbook.to_owned()) }
}

/// How often the archive is asked for what is new of a run that is followed, and how often it is looked whether it told of something.
const LOOK: Duration = Duration::from_millis(400);
const HEAR: Duration = Duration::from_millis(100);

/// Follows a run of another bench in the archive as if its runner were here: what was told before, and what it tells from now on. Commands go to its
/// bench as requests, where this role may ask for that.
///
/// # Errors
/// Where the archive cannot be read, or there is no such run.
pub fn watch(archive: &Path, run: i64) -> Result<(Client, Vec<Told>), Failure> {
    let mut following = Following::begin(archive, run)?;
    let head = following.head().clone();
    let hello = Hello {
        protocol: PROTOCOL,
        pid: 0,
        run: Some(run),
        logbook: archive.to_owned(),
        drive: head.drives(),
        course: head.course.clone(),
    };
    let mut before: Vec<Told> = vec![(0, Message::Began(Box::new(head)))];
    before.extend(following.more()?);
    let (tell, frames) = unbounded();
    let (commands, asked) = unbounded::<Command>();
    let archive = archive.to_owned();
    std::thread::Builder::new().name("watch".into()).spawn(move || {
        let say = |text: String| {
            let event = Event { at: Nanos(0), bytes: Bytes(0), kind: EventKind::Lab(text) };
            tell.send(Frame::Message(0, Message::Event(event))).is_ok()
        };
        let (mut fails, mut is_silent): (Option<String>, bool) = (None, false);
        while !following.is_over() {
            match asked.recv_timeout(if following.is_told() { HEAR } else { LOOK }) {
                Ok(command) => {
                    let sent = request_of(&command)
                        .map(|request| Logbook::read(&archive).and_then(|book| ask(&book, run, &request)));
                    if let Some(Err(e)) = sent {
                        say(format!("The bench was not asked: {e}"));
                    }
                    continue;
                }
                Err(RecvTimeoutError::Timeout) => {}
                // Nobody watches any more.
                Err(RecvTimeoutError::Disconnected) => return,
            }
            match look(&mut following) {
                Ok(None) => {}
                Ok(Some((new, silent))) => {
                    fails = None;
                    match silent.filter(|_| !is_silent && !following.is_over()) {
                        Some(s) if !say(format!(
                            "The bench has not been heard of for {}; nobody can say whether the run goes on.",
                            Nanos::from_secs(s as f64)
                        )) =>
                        {
                            return;
                        }
                        _ => is_silent = silent.is_some(),
                    }
                    for (lane, message) in new {
                        if tell.send(Frame::Message(lane, message)).is_err() {
                            return;
                        }
                    }
                }
                Err(e) => {
                    let why = e.to_string();
                    if fails.as_ref() != Some(&why) && !say(why.clone()) {
                        return;
                    }
                    fails = Some(why);
                    std::thread::sleep(AFTER_A_FAILURE);
                    // From a new connection, behind what was told.
                    let _ = following.reconnect(&archive);
                }
            }
        }
    })?;
    Ok((Client { hello, backlog: Backlog::default(), frames, commands }, before))
}

/// What is new of a run, and the seconds for which its bench has been silent.
type Seen = (Vec<Told>, Option<u64>);

/// Looks at a run, if it is time to.
fn look(following: &mut Following) -> Result<Option<Seen>, LogbookError> {
    match following.is_due()? {
        true => Ok(Some((following.more()?, following.silent()?))),
        false => Ok(None),
    }
}

/// A command as it is asked of another bench.
fn request_of(command: &Command) -> Option<String> {
    match command {
        Command::Note(text) => Some(format!("note {text}")),
        other => WORDS.iter().find(|(_, command)| command == other).map(|(word, _)| (*word).to_owned()),
    }
}

/// Brings all that the archive lacks.
///
/// # Errors
/// Where a side cannot be asked.
pub fn all_of(forwarder: &mut Forwarder) -> Result<Step, LogbookError> {
    let mut all = Step::default();
    loop {
        let step = forwarder.step()?;
        all.samples += step.samples;
        all.finished += step.finished;
        if !step.more {
            return Ok(all);
        }
    }
}

/// What an operator's word means: a command, and the line that says who gave it.
fn asked(request: &Request) -> Option<Vec<Command>> {
    let by = |what: &str| Command::Note(format!("{} through the lab: {what}", request.who));
    if let Some(note) = request.request.strip_prefix("note ") {
        return Some(vec![by(note)]);
    }
    let (word, command) = WORDS.iter().find(|(word, _)| *word == request.request)?;
    Some(vec![by(&format!("asked to {}", word.replace('-', " "))), command.clone()])
}

/// Whether an operator may ask that.
pub fn is_a_word(request: &str) -> bool {
    request.strip_prefix("note ").is_some_and(|note| !note.trim().is_empty())
        || WORDS.iter().any(|(word, _)| *word == request)
}

/// A run on its way to an archive.
pub(crate) struct Forwarding {
    over: Option<Sender<()>>,
    thread: Option<JoinHandle<Option<i64>>>,
}

/// What the thread is given.
pub(crate) struct Terms {
    /// The address.
    pub(crate) lab: String,
    /// The file in which the run is recorded.
    pub(crate) spool: PathBuf,
    /// Its number there.
    pub(crate) run: i64,
    /// Is told what becomes of the way to the archive.
    pub(crate) told: Sender<Event>,
    /// Is asked what operators ask.
    pub(crate) commands: Sender<Command>,
    /// Are told how much waits.
    pub(crate) metrics: Option<Metrics>,
}

impl Forwarding {
    /// Starts a thread that brings the run, and what is left of those before it.
    pub(crate) fn start(terms: Terms) -> Result<Self, Failure> {
        let lab = Lab::parse(&terms.lab)?;
        let (over, is_over) = bounded(1);
        let thread = std::thread::Builder::new().name("lab".into()).spawn(move || {
            Bringing { terms, lab, clock: Monotonic::start(), fails: None, has_asked: false }.until(&is_over)
        })?;
        Ok(Self { over: Some(over), thread: Some(thread) })
    }

    /// Says that the run is over and recorded in full, and waits for what is on its way, for a while. Gives the number of the run in the archive, where
    /// all of it came there.
    pub(crate) fn finish(mut self) -> Option<i64> {
        self.over = None;
        self.thread.take().and_then(|thread| thread.join().ok()).flatten()
    }
}

struct Bringing {
    terms: Terms,
    lab: Lab,
    clock: Monotonic,
    /// Why it does not come through.
    fails: Option<String>,
    /// Whether it was looked what operators ask.
    has_asked: bool,
}

impl Bringing {
    fn say(&self, kind: EventKind) {
        let event = Event { at: self.clock.now(), bytes: Bytes(0), kind };
        let _ = self.terms.told.send(event);
    }

    fn until(&mut self, over: &Receiver<()>) -> Option<i64> {
        let mut forwarder = None;
        let mut ends = None;
        loop {
            let step = self.step(&mut forwarder);
            let pause = match &step {
                Ok(step) if step.more => Duration::ZERO,
                Ok(_) => PAUSE,
                Err(_) => AFTER_A_FAILURE,
            };
            self.tell(&step);
            let done = step.as_ref().is_ok_and(|step| !step.more);
            if let Some(ends) = ends {
                if done || self.clock.now() >= ends {
                    self.last_word(done);
                    return done.then(|| forwarder.as_mut()?.number(self.terms.run).ok().flatten()).flatten();
                }
                std::thread::sleep(pause.min(PAUSE));
                continue;
            }
            match over.recv_timeout(pause) {
                Err(RecvTimeoutError::Timeout) => {}
                // What was recorded last is still to be brought.
                _ => ends = Some(Nanos(self.clock.now().0.saturating_add(AT_THE_END.0))),
            }
        }
    }

    fn step(&mut self, forwarder: &mut Option<Forwarder>) -> Result<Step, LogbookError> {
        let forwarder = match forwarder {
            Some(forwarder) => forwarder,
            None => forwarder.insert(Forwarder::new(&self.terms.spool, self.lab.clone())?),
        };
        let step = forwarder.step()?;
        for request in forwarder.requests()? {
            if request.run == self.terms.run {
                // What was asked before this process took the run up was asked of one that is over.
                let commands = asked(&request).filter(|_| self.has_asked).unwrap_or_default();
                commands.into_iter().for_each(|command| drop(self.terms.commands.send(command)));
                forwarder.answered(request.id)?;
            }
        }
        self.has_asked = true;
        Ok(step)
    }

    /// Tells when the way to the archive is cut, and when it is open again.
    fn tell(&mut self, step: &Result<Step, LogbookError>) {
        match step {
            Ok(step) => {
                if let Some(metrics) = &self.terms.metrics {
                    metrics.waits(step.waiting);
                }
                if self.fails.take().is_some() {
                    self.say(EventKind::Lab(
                        "The archive of the lab is there again; what it lacks is brought.".into(),
                    ));
                }
            }
            Err(e) => {
                let why = e.to_string();
                if self.fails.as_ref() != Some(&why) {
                    self.say(EventKind::Lab(format!(
                        "{why}. The run goes on and is kept in {}; what the archive lacks is brought when it is there again.",
                        self.terms.spool.display()
                    )));
                }
                if let (Some(metrics), Some(waits)) = (&self.terms.metrics, self.kept()) {
                    // Nobody can say how much of it the archive has: all of this run may be missing.
                    metrics.waits(waits);
                }
                self.fails = Some(why);
            }
        }
    }

    /// Samples that the spool has of this run.
    fn kept(&self) -> Option<u64> {
        let book = Logbook::read(&self.terms.spool).ok()?;
        let (head, ..) = book.ends(self.terms.run).ok()?;
        (0..head.lanes.len()).map(|lane| book.samples_of(self.terms.run, lane).ok()).sum()
    }

    fn last_word(&self, done: bool) {
        if !done {
            self.say(EventKind::Lab(format!(
                "The archive of the lab does not have all of this run yet. It is kept in {}; `hollow-mile lab forward` brings it.",
                self.terms.spool.display()
            )));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_spool_has_a_name_of_its_own_for_each_archive_and_role() {
        let name = |text: &str| {
            let spool = spool_of(&Lab::parse(text).unwrap()).unwrap();
            spool.file_name().unwrap().to_str().unwrap().to_owned()
        };
        assert_eq!(name("postgres://bench7@lab.example:5433/hm"), "bench7-lab.example-5433-hm.logbook");
        assert_ne!(name("postgres://bench7@lab/hm"), name("postgres://bench8@lab/hm"));
        // What waits there is brought too where a second server joins the first.
        let one = name("postgres://bench7@lab:5432/hm");
        assert_eq!(one, name("postgres://bench7@lab:5432,other:5433/hm?sslmode=require"));
        let hostile = name("postgres://b@%2F..%2F..%2Fetc/hm");
        assert!(!hostile.contains('/') && hostile.starts_with('b'), "{hostile}");
    }

    #[test]
    fn what_an_operator_asks_is_written_down_with_who_asks_before_it_is_done() {
        let of =
            |request: &str| asked(&Request { id: 1, run: 1, who: "anna".into(), request: request.into() });
        let note = |text: &str| Command::Note(format!("anna through the lab: {text}"));
        assert_eq!(of("stop"), Some(vec![note("asked to stop"), Command::Stop]));
        assert_eq!(of("go-on"), Some(vec![note("asked to go on"), Command::Resume]));
        assert_eq!(of("note fan replaced"), Some(vec![note("fan replaced")]));
        assert_eq!(of("format"), None);
        assert!(is_a_word("skip") && !is_a_word("note  ") && !is_a_word("format"));
    }
}
