//! Work that takes longer than a frame, off the drawing thread.

use super::ahead::ahead;
use super::check::{Question, check};
use super::done::{Done, LastSetup};
use super::state::{Awaited, Early, HealthShown, OfFleet, Shown, StartForm, Waiting, Wanted};
use super::tasks::{self, Task};
use crate::figure;
use crate::history::{self, Ask};
use crossbeam_channel::{Receiver, Sender, unbounded};
use mile_bench::Failure;
use mile_bench::bench::{self, Card};
use mile_bench::lab::change_run;
use mile_bench::session::{self, Order, Told};
use mile_core::copies::CopyFound;
use mile_core::ruler::{Ruler, Window};
use mile_core::{Bytes, LegName, Trace, findings};
use mile_course::{Action, Kind, Leg};
use mile_drive::block::probe::{TestRequest, request_test};
use mile_drive::health::SelfTest;
use mile_drive::sysfs::Roots;
use mile_drive::{Identity, Situation};
use mile_logbook::lab::watch::News;
use mile_logbook::{DriveKey, Entry, Filter, Logbook, LogbookError, StoredRun};
use mile_runner::Speed;
use mile_runner::remote::Client;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// Time between two looks at the bench.
const EVERY: Duration = Duration::from_secs(2);

/// Starts work, and gives its results.
pub(crate) struct Jobs {
    /// The newest question of a form.
    newest: Arc<AtomicU64>,
    pub(super) done: Sender<Done>,
    pub(crate) results: Receiver<Done>,
}

impl Jobs {
    pub(crate) fn new() -> Self {
        let (done, results) = unbounded();
        Self { newest: Arc::default(), done, results }
    }

    /// Has work done in a thread of its own. Where none can be had, the work is not done, and the terminal goes on.
    fn spawn(&self, work: impl FnOnce() -> Done + Send + 'static) {
        let _ = self.try_spawn(Box::new(work));
    }

    fn try_spawn(&self, work: Box<dyn FnOnce() -> Done + Send>) -> std::io::Result<()> {
        let done = self.done.clone();
        let work = move || drop(done.send(work()));
        std::thread::Builder::new().name("job".into()).spawn(work).map(drop)
    }

    /// The same for work that the user waits for.
    fn task(&self, of: Awaited, work: impl FnOnce(&Task) -> Done + Send + 'static) -> Waiting {
        let (task, waiting) = tasks::begin(of, &self.done);
        if let Err(e) = self.try_spawn(Box::new(move || Done::Task(task.id, Box::new(work(&task))))) {
            let why = Done::Exported(Err(format!("The system gives no thread for it: {e}")));
            let _ = self.done.send(Done::Task(waiting.id, Box::new(why)));
        }
        waiting
    }

    /// Reads the list of runs.
    pub(crate) fn list(&self, path: &Path) {
        let path = path.to_owned();
        self.spawn(move || Done::Listed(listed(&path)));
    }

    /// Reads the list of an archive again and again, as other benches add to it.
    pub(crate) fn watch_list(&self, path: &Path) {
        let (path, done) = (path.to_owned(), self.done.clone());
        let watch = move || {
            let (mut last, mut news) = (None, None);
            loop {
                std::thread::sleep(LIST_AGAIN);
                news = news.or_else(|| News::begin(&path).ok());
                // A connection that is gone is made again; until then the list is asked for itself.
                match news.as_mut().map(News::is_due) {
                    Some(Ok(false)) => continue,
                    Some(Err(_)) => news = None,
                    Some(Ok(true)) | None => {}
                }
                // What went wrong was said when the list was read first; later it is as it was.
                let Ok(list) = listed(&path) else { continue };
                let is_new = last.as_ref() != Some(&list);
                if let Some(news) = &mut news {
                    news.looked(is_new && last.is_some());
                }
                if is_new {
                    last = Some(list.clone());
                    if done.send(Done::Listed(Ok(list))).is_err() {
                        return;
                    }
                }
            }
        };
        // Where no thread can be had, the list stays as it is.
        let _ = std::thread::Builder::new().name("list".into()).spawn(watch);
    }

    /// Reads the models of a logbook, and puts the drives of one of them beside each other.
    pub(crate) fn fleet(&self, path: &Path, asked: OfFleet) -> Waiting {
        let (path, of) = (path.to_owned(), asked.clone());
        let work = move || -> Result<_, Failure> {
            let models = crate::commands::fleet::models(&path)?;
            let shown = match models.get(of.model) {
                Some(m) => Some(crate::commands::fleet::of(&path, &m.name, of.course.as_deref())?),
                None => None,
            };
            Ok(Box::new((models, shown)))
        };
        self.task(Awaited::Fleet, move |_| Done::Fleet(asked, work().map_err(|f| f.message().to_owned())))
    }

    /// Follows a run of another bench.
    pub(crate) fn watch_run(&self, path: &Path, run: i64) {
        let path = path.to_owned();
        self.spawn(move || {
            let watched = mile_bench::lab::watch(&path, run).map(Box::new);
            Done::Watched(watched.map_err(|f| f.message().to_owned()))
        });
    }

    /// Finds out what became of a run whose runner tells nothing more; `run` is its number in the logbook of its runner.
    pub(crate) fn what_became(&self, id: u64, runner: mile_runner::remote::Hello, run: Option<i64>) {
        self.spawn(move || Done::Became(id, session::what_became(&runner, run)));
    }

    /// Asks the archive which number it has given a run of this bench, until it knows.
    pub(crate) fn archived(&self, path: &Path, id: u64, run: i64) {
        let (path, done) = (path.to_owned(), self.done.clone());
        let ask = move || {
            loop {
                if let Ok(Some(number)) = mile_bench::lab::number_of(&path, run) {
                    let _ = done.send(Done::Archived(id, number));
                    return;
                }
                std::thread::sleep(LIST_AGAIN);
            }
        };
        // Where no thread can be had, it has no number.
        let _ = std::thread::Builder::new().name("number".into()).spawn(ask);
    }

    /// Looks at the bench again and again, and tells when something is different, or when the temperatures are due.
    pub(crate) fn watch_bench(&self) {
        let done = self.done.clone();
        let watch = move || {
            let mut watch = bench::Watch::default();
            while done.send(Done::Bench(watch.look())).is_ok() {
                std::thread::sleep(EVERY);
            }
        };
        // Where no thread can be had, the bench stays as it is.
        let _ = std::thread::Builder::new().name("bench".into()).spawn(watch);
    }

    /// Reads a drive's health, and what the last run on it changed.
    pub(crate) fn health(&self, logbook: &Path, drive: &str, after: Duration) {
        let (path, drive) = (logbook.to_owned(), drive.to_owned());
        self.spawn(move || {
            std::thread::sleep(after);
            let shown = bench::card(&drive).map(|card| {
                let story = DriveKey::of(&card.identity)
                    .and_then(|key| history::story(&key, Some(&card), &path, &Ask::default()).ok());
                let tested = if card.identity.simulated { last_tested(&path, &card) } else { None };
                HealthShown { last: last_change(&path, &card), story: story.map(Box::new), tested, card }
            });
            Done::Health(shown.map(Box::new).map_err(|f| f.message().to_owned()))
        });
    }

    /// Looks at what changed in the health of drives since the look before, as far as looks were kept.
    pub(crate) fn news(&self, logbook: &Path, cards: &[Card]) {
        let (path, cards) = (logbook.to_owned(), cards.to_vec());
        self.spawn(move || {
            let of = |card: &Card| {
                let key = DriveKey::of(&card.identity)?;
                let story = history::story(&key, Some(card), &path, &Ask::default()).ok()?;
                Some((card.identity.name.clone(), history::news(&story)?))
            };
            Done::News(cards.iter().filter_map(of).collect())
        });
    }

    /// Keeps what a drive told.
    pub(crate) fn keep_health(&self, logbook: &Path, card: &Card) {
        let (path, card) = (logbook.to_owned(), card.clone());
        self.spawn(move || {
            let kept = crate::commands::watch::keep(&card, &path);
            Done::Kept(kept.map_err(|f| f.message().to_owned()).and_then(|k| k))
        });
    }

    /// Reads a course and says what it comes to.
    pub(crate) fn check(&self, question: Question) {
        self.spawn(move || {
            let (checked, background) = check(&question);
            Done::Checked(Box::new(checked), background)
        });
    }

    /// Begins or ends a self-test.
    pub(crate) fn self_test(&self, drive: &str, request: TestRequest) {
        let drive = drive.to_owned();
        self.spawn(move || {
            let roots = Roots::system();
            let found = bench::find(&roots, &drive).map_err(|f| f.message().to_owned());
            let asked = |f| request_test(&f, request).map_err(|e| format!("Self-tests: {e}"));
            Done::Tested(found.and_then(asked))
        });
    }

    /// Looks at what a run would do.
    pub(crate) fn look_ahead(&self, logbook: &Path, form: &StartForm, order: Result<Order, String>) {
        let (form, logbook, newest) = (form.clone(), logbook.to_owned(), self.newest.clone());
        newest.store(form.asked, Ordering::Relaxed);
        let work = move || {
            let is_newest = || newest.load(Ordering::Relaxed) == form.asked;
            Done::Ahead(form.asked, order.and_then(|o| ahead(&form, o, &logbook, is_newest)))
        };
        self.spawn(work);
    }

    /// Looks for how a drive was set up for its last run.
    pub(crate) fn last_setup(&self, logbook: &Path, drive: &Identity) {
        let (logbook, drive) = (logbook.to_owned(), drive.clone());
        self.spawn(move || {
            let last = Logbook::reading(&logbook, |book| last_setup(book, &drive));
            Done::Setup(drive.name.clone(), last.ok().flatten())
        });
    }

    /// Starts a run in a process of its own.
    pub(crate) fn start(&self, logbook: &Path, question: u64, order: Order) {
        let logbook = logbook.to_owned();
        self.spawn(move || {
            Done::Started(question, started(order, &logbook).map_err(|f| f.message().to_owned()))
        });
    }

    /// Goes on with a run of the logbook.
    pub(crate) fn resume(&self, logbook: &Path, run: i64, speed: Speed) {
        let logbook = logbook.to_owned();
        let work = move || {
            let order = Logbook::read(&logbook)
                .map_err(mile_bench::Failure::from)
                .and_then(|book| session::order_to_resume(&book, run, &[], speed));
            // A drive is armed again by `hollow-mile resume --arm`, which the refusal says.
            let started = order.and_then(|order| started(order, &logbook));
            Done::Started(0, started.map_err(|f| f.message().to_owned()))
        };
        self.spawn(work);
    }

    /// Keeps a note with a run.
    pub(crate) fn note(&self, logbook: &Path, run: i64, lane: usize, event: mile_runner::Event) {
        let path = logbook.to_owned();
        self.spawn(move || {
            let kept = change_run(&path, run, &|_| {}, |book, local| Ok(book.note(local, lane, &event)?));
            Done::Noted(kept.map_err(|e| format!("The note was not kept: {}", e.message())))
        });
    }

    /// Reads a run and computes its findings.
    pub(crate) fn load(&self, path: &Path, run: i64, lane: usize) -> Waiting {
        let (path, done) = (path.to_owned(), self.done.clone());
        self.task(Awaited::Run, move |_| {
            let early = |early| drop(done.send(Done::Read(Box::new(early))));
            Done::Loaded(load(&path, run, lane, &early).map(Box::new))
        })
    }

    /// Looks at a run that is underway again, after a time.
    pub(crate) fn load_again(&self, path: &Path, (run, lane): (i64, usize), after: Duration) {
        let path = path.to_owned();
        self.spawn(move || {
            std::thread::sleep(after);
            Done::Loaded(load(&path, run, lane, &|_| {}).map(Box::new))
        });
    }

    /// Looks for the newest run of a kind.
    pub(crate) fn newest(&self, path: &Path, wanted: Wanted) {
        let path = path.to_owned();
        self.spawn(move || {
            Done::Newest(
                wanted,
                match Logbook::reading(&path, |book| newest(book, wanted)) {
                    Err(LogbookError::Blank { .. }) => Ok(None),
                    found => found.map_err(|e| e.to_string()),
                },
            )
        });
    }

    /// Takes a run off the list of the logbook, or brings the one back that was taken off last.
    pub(crate) fn remove(&self, path: &Path, run: Option<i64>) {
        let path = path.to_owned();
        let work = move || -> Result<(i64, String), Failure> {
            if let Some(run) = run {
                let now = mile_drive::clock::unix_seconds();
                change_run(&path, run, &|_| {}, |book, local| Ok(book.remove(local, now)?))?;
                return Ok((run, format!("Run {run} is off the list; u brings it back.")));
            }
            let removed = Logbook::reading(&path, Logbook::removed)?;
            let Some((run, ..)) = removed.first().copied() else {
                return Ok((0, "No run was taken off the list.".into()));
            };
            change_run(&path, run, &|_| {}, |book, local| Ok(book.restore(local)?))?;
            Ok((run, format!("Run {run} is on the list again.")))
        };
        self.spawn(move || Done::Removed(work().map_err(|e| e.message().to_owned())));
    }

    /// Compares runs.
    pub(crate) fn compare(&self, path: &Path, sides: [Vec<i64>; 2]) -> Waiting {
        let path = path.to_owned();
        self.task(Awaited::Comparison, move |task| {
            let mut named =
                sides.each_ref().map(|s| s.iter().map(i64::to_string).collect::<Vec<_>>().join(","));
            // A side without runs is what is claimed; it stands first, as what the other is held against.
            if sides[1].is_empty() {
                named.swap(0, 1);
            }
            if sides.iter().any(Vec::is_empty) {
                named[0] = crate::sides::CLAIMS.to_owned();
            }
            let found = crate::commands::compare::of(&named, &path, &|what| task.step(what));
            Done::Compared(sides, found.map(Box::new).map_err(|f| f.message().to_owned()))
        })
    }

    /// Writes a report of runs into the current folder.
    pub(crate) fn report(&self, path: &Path, sides: Vec<Vec<i64>>) -> Waiting {
        let path = path.to_owned();
        let work = move |task: &Task| -> Result<_, Failure> {
            let named: Vec<String> =
                sides.iter().map(|s| s.iter().map(i64::to_string).collect::<Vec<_>>().join(",")).collect();
            let stem = free_stem(&format!("report-{}", named.join("-against-").replace(',', "-")));
            let target = PathBuf::from(format!("{stem}.pdf"));
            let bytes = crate::commands::report::of(&named, &path, &|what| task.step(what))?;
            write(task, &[(target, bytes)])
        };
        self.task(Awaited::Files("the report"), move |task| exported(work(task)))
    }

    /// Writes the story of a drive as a figure into the current folder.
    pub(crate) fn export_story(&self, serial: &str, svg: String) -> Waiting {
        let stem: String = serial.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
        self.task(Awaited::Files("the figure"), move |task| {
            let files = both(&free_stem(&format!("health-{stem}")), svg);
            exported(files.and_then(|files| write(task, &files)))
        })
    }

    /// Writes figures of a run into the current folder.
    pub(crate) fn export(
        &self,
        path: &Path,
        of: (i64, usize),
        ruler: Ruler,
        window: Option<Window>,
    ) -> Waiting {
        let path = path.to_owned();
        self.task(Awaited::Files("the figures"), move |task| {
            exported(export(task, &path, of, ruler, window).and_then(|files| write(task, &files)))
        })
    }
}

/// What came of writing files.
fn exported(written: Result<Vec<String>, Failure>) -> Done {
    Done::Exported(written.map_err(|f| f.message().to_owned()))
}

/// Writes files that are whole in memory, and gives their names. It is asked first whether the work was given up; then all are written.
fn write(task: &Task, files: &[(PathBuf, Vec<u8>)]) -> Result<Vec<String>, Failure> {
    task.commit()?;
    for (target, bytes) in files {
        figure::write_whole(target, false, |out| Ok(out.write_all(bytes)?))?;
    }
    Ok(files.iter().map(|(target, _)| target.display().to_string()).collect())
}

/// Runs of a model among which the last of a drive is looked for.
const LOOKED_THROUGH: u32 = 200;

/// The newest runs on drives of a model.
fn of_model(book: &Logbook, model: &str) -> Result<Vec<Entry>, mile_logbook::LogbookError> {
    let (model, newest) = (Some(model.trim().to_owned()), Some(LOOKED_THROUGH));
    book.list_of(&Filter { model, newest, ..Default::default() })
}

pub(super) fn last_setup(book: &Logbook, drive: &Identity) -> Result<Option<LastSetup>, LogbookError> {
    let mut of_another = None;
    for entry in of_model(book, &drive.model)?.iter().filter(|e| e.problem.is_none()) {
        let (head, ..) = book.ends(entry.run)?;
        for lane in head.lanes.iter().filter(|l| l.drive.model == drive.model) {
            let claims = session::claims_text(&lane.claims, &lane.stated);
            if is_same(&lane.drive, drive) {
                let (run, situation) = (Some(entry.run), lane.situation.clone());
                return Ok(Some(LastSetup { run, situation, claims, instruments: head.instruments.clone() }));
            }
            // How another drive is set up says nothing of this one; what is claimed of it does.
            if of_another.is_none() && !claims.is_empty() {
                of_another =
                    Some(LastSetup { run: None, situation: Situation::default(), claims, instruments: None });
            }
        }
    }
    Ok(of_another)
}

/// Whether two of a model are one drive: by serial number, and where they have none, by where they are.
fn is_same(a: &Identity, b: &Identity) -> bool {
    match (&a.serial, &b.serial) {
        (None, None) => a.name == b.name,
        (a, b) => a == b,
    }
}

/// How often it is looked whether the list of an archive has changed, and most runs of one that are listed.
const LIST_AGAIN: Duration = Duration::from_secs(1);
pub(crate) const MOST_LISTED: u32 = 2000;

/// The runs of a logbook, those that are underway first. Of an archive, the newest: all of a lab's runs are more than anybody reads.
fn listed(path: &Path) -> Result<Vec<Entry>, String> {
    let newest = mile_logbook::lab::is_lab(path).then_some(MOST_LISTED);
    let filter = mile_logbook::Filter { newest, ..Default::default() };
    let mut list = Logbook::those(path, &filter).map_err(|e| e.to_string())?;
    list.sort_by_key(|entry| entry.status != mile_runner::Status::Underway);
    Ok(list)
}

/// Starts a run, and connects to its runner. What is wrong with it is said before a process is made for it.
fn started(order: Order, logbook: &Path) -> Result<Box<(Client, Vec<Told>)>, mile_bench::Failure> {
    let order = session::prepare(order)?.into_order();
    let socket = session::spawn_runner(order, logbook)?;
    let mut client = Client::connect(&socket)?;
    let before = session::told_before(&mut client)?;
    Ok(Box::new((client, before)))
}

/// Runs in which a simulated drive is asked for its last test of itself.
const TESTS_LOOKED_THROUGH: usize = 20;

/// The last run in which a simulated drive tested itself, and what it told then.
fn last_tested(path: &Path, card: &Card) -> Option<(i64, SelfTest)> {
    let book = Logbook::read(path).ok()?;
    let name = &card.identity.name;
    let runs = of_model(&book, &card.identity.model).ok()?;
    let runs = runs.iter().filter(|e| e.drive.split(" + ").any(|d| d == name)).take(TESTS_LOOKED_THROUGH);
    runs.filter_map(|entry| {
        let (head, _, outcomes) = book.ends(entry.run).ok()?;
        let mut lanes = head.lanes.into_iter().zip(outcomes);
        let (_, outcome) = lanes.find(|(l, _)| l.drive.name == *name)?;
        let test = outcome?.health?.self_test.filter(|t| !t.results.is_empty())?;
        Some((entry.run, test))
    })
    .next()
}

/// The last run on a drive that ended, and what it changed in its health.
fn last_change(path: &Path, card: &Card) -> Option<(i64, Vec<String>)> {
    let book = Logbook::read(path).ok()?;
    let id = &card.identity;
    // By its serial number where it has one, as a name may be another drive's by now.
    let same = |e: &&Entry| e.drive.split(" + ").any(|d| d == id.name) && e.digest.is_some();
    let run = of_model(&book, &id.model).ok()?.iter().find(same)?.run;
    let (head, _, outcomes) = book.ends(run).ok()?;
    let mut lanes = head.lanes.into_iter().zip(outcomes);
    let (lane, outcome) = lanes.find(|(l, _)| l.drive.name == id.name)?;
    let after = outcome?.health?;
    let same_drive = lane.drive.serial == id.serial && lane.drive.model == id.model;
    let before = lane.health.unwrap_or_default();
    let moved = |a: Option<Bytes>, b: Option<Bytes>| a.zip(b).map(|(a, b)| Bytes(b.0.saturating_sub(a.0)));
    let mut changes: Vec<String> = moved(before.written, after.written)
        .zip(moved(before.read, after.read))
        .map(|(written, read)| format!("{written} written, {read} read"))
        .into_iter()
        .collect();
    changes.extend(before.changes(&after));
    same_drive.then_some((run, changes))
}

/// Samples of a run whose findings take long enough for it to be shown without them first.
const LONG: usize = 100_000;
/// Runs in which one of a kind is looked for, the newest ones.
const LOOKED_AT: u32 = 200;

/// Reads a run and computes the findings of one of its lanes. Where that takes a while, what was read is shown before.
/// The newest run of a kind, by its course; where no course is of that kind, the newest that was brought from elsewhere, as it has none.
pub(super) fn newest(book: &Logbook, wanted: Wanted) -> Result<Option<i64>, LogbookError> {
    let last = Filter { newest: Some(LOOKED_AT), ..Filter::default() };
    let mut imported = None;
    for entry in book.list_of(&last)?.into_iter().filter(|e| e.digest.is_some() && e.problem.is_none()) {
        if wanted == Wanted::Any {
            return Ok(Some(entry.run));
        }
        let (head, ..) = book.ends(entry.run)?;
        match mile_course::parse(&head.course_text) {
            Ok(course) if course.legs.iter().any(|leg| is_of(leg, wanted)) => return Ok(Some(entry.run)),
            Err(_) if head.course_text.is_empty() => imported = imported.or(Some(entry.run)),
            _ => {}
        }
    }
    Ok(imported)
}

fn is_of(leg: &Leg, wanted: Wanted) -> bool {
    match wanted {
        Wanted::Any => true,
        Wanted::Fill => LegName::read(&leg.name).step("fill").is_some(),
        Wanted::Surface => matches!(&leg.action, Action::Transfer(t) if matches!(t.kind, Kind::Scan(..))),
    }
}

pub(crate) fn load(path: &Path, run: i64, lane: usize, early: &dyn Fn(Early)) -> Result<Shown, String> {
    let (mut stored, traces) = Logbook::reading(path, |b| b.traced(run)).map_err(|e| e.to_string())?;
    // A lane that is not there is the one behind the last: the first.
    let lane = if lane < stored.lanes.len() { lane } else { 0 };
    let copies = copies(&stored, &traces);
    let trace = Arc::new(traces.into_iter().nth(lane).unwrap_or_default());
    let head = stored.head.lane(lane);
    let context = stored.lanes.get(lane).map_or_else(|| head.context(), |l| l.context(head, stored.status));
    if trace.len() >= LONG {
        early(Early { run, context: context.clone(), trace: trace.clone() });
    }
    let events = stored.lanes.get_mut(lane).map(|l| std::mem::take(&mut l.events)).unwrap_or_default();
    let mut found = findings(&trace, &context);
    found.add_rows(crate::sides::rows_of((head, lane), &trace, &context, &stored.series, &found), &context);
    found.notes.splice(0..0, crate::source::incidents(&events));
    Ok(Shown {
        run,
        lane,
        status: stored.status,
        findings: found,
        head: stored.head,
        context,
        trace,
        events,
        copies,
    })
}

fn export(
    task: &Task,
    path: &Path,
    (run, lane): (i64, usize),
    ruler: Ruler,
    window: Option<Window>,
) -> Result<Vec<(PathBuf, Vec<u8>)>, Failure> {
    task.step(&format!("reading run {run}"))?;
    let shown = load(path, run, lane, &|_| {}).map_err(Failure::run)?;
    let of = match shown.head.lane(shown.lane).name.as_str() {
        "" => String::new(),
        lane => format!("-{lane}"),
    };
    let name = format!("run {run}");
    let head = (&shown.head, shown.lane);
    task.step("drawing")?;
    let svg = figure::svg(head, &name, &shown.trace, &shown.findings, &shown.context, ruler, window)?;
    let sweep = figure::sweep_svg(head, &name, &shown.findings)?;
    let surface = figure::surface_svg(head, &name, &shown.findings)?;
    let course: String = (shown.head.course.clone() + &of)
        .chars()
        .map(|c| if c.is_alphanumeric() { c } else { '-' })
        .collect();
    let stem = free_stem(&format!("run-{run}-{course}"));
    let mut files = Vec::new();
    // Beside the figure of the lane that is shown stands that of all.
    let lanes = if shown.head.lanes.len() > 1 { Some(all_lanes(path, run)?) } else { None };
    for (stem, svg) in [
        (stem.clone(), Some(svg)),
        (format!("{stem}-sweep"), sweep),
        (format!("{stem}-surface"), surface),
        (format!("{stem}-lanes"), lanes),
    ] {
        let Some(svg) = svg else { continue };
        task.step(&format!("{stem}.pdf"))?;
        files.extend(both(&stem, svg)?);
    }
    Ok(files)
}

/// A figure as SVG and as PDF, with the names of the files.
fn both(stem: &str, svg: String) -> Result<Vec<(PathBuf, Vec<u8>)>, Failure> {
    let pdf = figure::as_pdf(&svg)?;
    let named = |kind: &str| PathBuf::from(format!("{stem}.{kind}"));
    Ok(vec![(named("svg"), svg.into_bytes()), (named("pdf"), pdf)])
}

/// The figure of all lanes of a run.
fn all_lanes(path: &Path, run: i64) -> Result<String, mile_bench::Failure> {
    let (stored, traces) = Logbook::reading(path, |b| b.traced(run))?;
    beside(&stored, &traces, |shown| figure::lanes_svg(&stored.head, &format!("run {run}"), shown))
}

/// What the copies of a run came to.
fn copies(stored: &StoredRun, traces: &[Trace]) -> Vec<CopyFound> {
    let copies = stored.head.channels.iter().any(|c| c.name == mile_core::channel::WAITED);
    if copies { beside(stored, traces, |shown| figure::copies_of(&stored.head, shown)) } else { Vec::new() }
}

/// Looks at all lanes of a run beside each other.
fn beside<T>(stored: &StoredRun, traces: &[Trace], look: impl FnOnce(&[figure::Shown<'_>]) -> T) -> T {
    let contexts: Vec<_> = stored.head.lanes.iter().map(mile_runner::LaneHead::context).collect();
    let found: Vec<_> =
        traces.iter().zip(&contexts).map(|(trace, context)| findings(trace, context)).collect();
    let shown: Vec<figure::Shown<'_>> = traces
        .iter()
        .zip(&contexts)
        .zip(&found)
        .enumerate()
        .map(|(lane, ((trace, context), found))| figure::Shown {
            trace,
            context,
            breaks: &found.breaks,
            lane,
            series: &stored.series,
        })
        .collect();
    look(&shown)
}

/// A name for the files that none of them has yet.
fn free_stem(stem: &str) -> String {
    let taken = |s: &str| {
        ["", "-sweep", "-surface", "-lanes"]
            .iter()
            .flat_map(|part| [format!("{part}.svg"), format!("{part}.pdf")])
            .any(|k| Path::new(&format!("{s}{k}")).exists())
    };
    (1..)
        .map(|i| if i == 1 { stem.to_owned() } else { format!("{stem}-{i}") })
        .find(|s| !taken(s))
        .unwrap_or_default()
}
