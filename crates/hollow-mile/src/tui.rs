//! The full-screen terminal.
//!
//! One loop: everything that has come in is taken in, and then at most one frame is drawn. Drawing changes nothing but what
//! it has to remember of itself (where the canvas was). Nothing that may take longer than a frame happens on this thread.

mod action;
mod ahead;
pub(crate) mod canvas;
mod check;
mod done;
mod draw;
mod editing;
mod jobs;
mod keys;
mod lines;
mod memory;
mod place;
mod places;
mod put;
mod requests;
mod state;
mod strips;
mod tasks;
mod terminal;
mod theme;
mod update;
mod view;

#[cfg(test)]
mod golden;
#[cfg(test)]
mod happened;
#[cfg(test)]
mod late;
#[cfg(test)]
mod tests;

use crate::cli::DemoArgs;
use crate::text;
use canvas::Framing;
use crossbeam_channel::{Receiver, Sender, bounded, select, unbounded};
use crossterm::event::Event;
use jobs::Jobs;
use mile_bench::Failure;
use mile_bench::bench::simulated;
use mile_bench::courses::READY;
use mile_bench::session::logbook_path;
use mile_runner::remote::Frame;
use mile_runner::{Message, Speed};
use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
use state::{
    BenchPlace, Choice, ComparePlace, CoursePlace, Drawn, EventsPlace, FillPlace, FindingsPlace, FleetPlace,
    HealthPlace, LogbookPlace, Outside, Runs, Setup, State, SurfacePlace, Told,
};
use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::time::Duration;
use theme::Theme;

/// Messages of a run that are taken in before a frame is drawn again.
const BATCH: usize = 20_000;
/// Messages of all runs that may wait.
const WAITING: usize = 16_384;
/// Shortest time between two frames while messages come in.
const FRAME: Duration = Duration::from_millis(33);

/// The logbook of demonstration runs, compressed (`scripts/make-demo`).
const DEMO: &[u8] = include_bytes!("../../../demo/demo.logbook.gz");

/// The terminal on this machine's bench and the user's logbook.
pub(crate) fn open_bench(logbook: Option<PathBuf>) -> Result<(), Failure> {
    let path = logbook_path(logbook.as_deref())?;
    // Said before the screen is taken over.
    if path.exists() || mile_logbook::lab::is_lab(&path) {
        mile_logbook::Logbook::all(&path)?;
    } else {
        mile_logbook::Logbook::open(&path)?;
    }
    let (mut state, jobs) = (state(path, Speed::Times(60.0), false), Jobs::new());
    let here = std::path::absolute(mile_bench::lab::file_of(&state.setup.logbook_path)?)?;
    for (socket, _) in
        mile_runner::remote::Runners::find().answering.into_iter().filter(|(_, h)| h.logbook == here)
    {
        // It may have ended just now, and is then in the logbook.
        let _ = update::attach(&mut state, &jobs, &socket);
    }
    run(state, jobs)
}

/// The terminal on the simulated bench, with a copy of the demonstration logbook in a temporary place.
pub(crate) fn open_demo(args: &DemoArgs) -> Result<(), Failure> {
    let folder = tempfile::Builder::new().prefix("hollow-mile-demo-").tempdir()?;
    let path = folder.path().join("demo.logbook");
    crate::figure::write_whole(&path, false, |out| {
        std::io::copy(&mut flate2::read::GzDecoder::new(DEMO), out)?;
        Ok(())
    })?;
    run(state(path, args.speed, true), Jobs::new())
}

fn choices() -> Vec<Choice> {
    READY
        .iter()
        .filter_map(|ready| {
            let course = mile_course::parse(ready.text).ok()?;
            let lanes = course.lanes.into_iter().map(|l| l.name).collect();
            Some(Choice { name: course.name, text: ready.text.to_owned(), lanes })
        })
        .collect()
}

pub(crate) fn state(logbook_path: PathBuf, speed: Speed, is_demo: bool) -> State {
    State {
        place: place::BENCH,
        before: Vec::new(),
        theme: Theme::detect(Default::default()),
        setup: Setup { speed, logbook_path, is_demo, choices: choices() },
        bench: BenchPlace { cards: simulated(), ..BenchPlace::default() },
        course: CoursePlace::default(),
        events: EventsPlace::default(),
        fill: FillPlace::default(),
        surface: SurfacePlace::default(),
        // A simulated run waits for whoever does not keep up.
        runs: Runs::new(bounded(WAITING)),
        findings: FindingsPlace { framing: Framing::default(), ..FindingsPlace::default() },
        health: HealthPlace::default(),
        logbook: LogbookPlace::default(),
        fleet: FleetPlace::default(),
        compare: ComparePlace::default(),
        overlay: None,
        notice: None,
        tasks: Vec::new(),
        drawn: Drawn::default(),
        outside: Outside::default(),
    }
}

fn run(mut state: State, jobs: Jobs) -> Result<(), Failure> {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Failure::usage(
            "the full screen needs a terminal; `hollow-mile --help` lists the commands that do without",
        ));
    }
    let (send, events) = unbounded();
    let (ask, asked) = bounded(1);
    let mut taken = terminal::Taken::take()?;
    std::thread::Builder::new().name("keys".into()).spawn(move || read_events(&send))?;
    watch_signals(ask)?;
    jobs.list(&state.setup.logbook_path);
    if mile_logbook::lab::is_lab(&state.setup.logbook_path) {
        jobs.watch_list(&state.setup.logbook_path);
    }
    jobs.watch_bench();
    if !state.setup.is_demo {
        memory::restore(&mut state, &jobs);
    }
    let mut dirty = true;
    while !state.outside.quit {
        if std::mem::take(&mut state.outside.suspend) {
            taken.suspend()?;
            dirty = true;
        }
        // A terminal that cannot be drawn to has hung up: the run is left as when it is asked to.
        if dirty && taken.terminal.draw(|frame| draw::draw(frame, &mut state)).is_err() {
            break;
        }
        if let Some(text) = state.outside.clipboard.take() {
            taken.copy(&text)?;
        }
        dirty = wait(&mut state, &jobs, &events, &asked);
    }
    drop(taken);
    if !state.setup.is_demo {
        memory::keep(&state);
    }
    leave(state);
    Ok(())
}

/// Waits until something has come in, and takes in all of it. Gives whether a frame is due.
fn wait(state: &mut State, jobs: &Jobs, events: &Receiver<Event>, asked: &Receiver<()>) -> bool {
    let messages = state.runs.told.1.clone();
    let mut from_run = false;
    select! {
        recv(events) -> event => match event {
            Ok(event) => take_event(state, jobs, &event),
            // The terminal is gone.
            Err(_) => state.outside.quit = true,
        },
        recv(asked) -> _ => state.outside.quit = true,
        recv(messages) -> message => {
            from_run = true;
            // The terminal itself holds the other end, so that there is always one.
            if let Ok((id, frame)) = message {
                update::told(state, jobs, id, frame);
            }
        },
        recv(jobs.results) -> result => if let Ok(result) = result { update::done(state, jobs, result) },
        default(Duration::from_secs(3600)) => return false,
    }
    if from_run {
        // A run may tell more than can be drawn: the frame waits for what comes within its time.
        std::thread::sleep(FRAME.min(Duration::from_millis(15)));
    }
    take_rest(state, jobs, events, &messages);
    true
}

fn take_event(state: &mut State, jobs: &Jobs, event: &Event) {
    #[cfg(debug_assertions)]
    panic_if_asked(event);
    update::input(state, jobs, event);
}

/// For the test that a panic leaves the terminal usable; not in the program that is shipped.
#[cfg(debug_assertions)]
#[expect(clippy::panic, reason = "it is asked for")]
fn panic_if_asked(event: &Event) {
    let pressed = matches!(event, Event::Key(key) if key.code == crossterm::event::KeyCode::F(12));
    if pressed && std::env::var_os("HOLLOW_MILE_PANIC_ON").is_some_and(|k| k == "F12") {
        panic!("asked for with F12");
    }
}

fn take_rest(state: &mut State, jobs: &Jobs, events: &Receiver<Event>, messages: &Receiver<Told>) {
    for (id, frame) in messages.try_iter().take(BATCH) {
        update::told(state, jobs, id, frame);
    }
    state.runs.live.iter_mut().chain(&mut state.runs.others).for_each(state::Live::look);
    for event in events.try_iter() {
        take_event(state, jobs, &event);
    }
    for result in jobs.results.try_iter() {
        update::done(state, jobs, result);
    }
    editing::look_when_due(state, jobs);
}

fn read_events(send: &Sender<Event>) {
    while let Ok(event) = crossterm::event::read() {
        if send.send(event).is_err() {
            return;
        }
    }
}

fn watch_signals(ask: Sender<()>) -> Result<(), Failure> {
    let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP, SIGQUIT])?;
    std::thread::Builder::new().name("signals".into()).spawn(move || {
        for _ in &mut signals {
            let _ = ask.try_send(());
        }
    })?;
    Ok(())
}

/// Runs that are still underway go on without the terminal; says how they are found again.
fn leave(mut state: State) {
    let ends = state.runs.stopping || state.setup.is_demo;
    let mut runs: Vec<state::Live> =
        state.runs.live.take().into_iter().chain(state.runs.others.drain(..)).collect();
    runs.retain(|l| !l.is_over());
    if ends {
        // Asked by a signal too; the logbook of the demo goes with it.
        for strings in runs.iter().filter_map(|l| l.strings.as_ref()) {
            let _ = strings.commands.send(mile_runner::Command::Stop);
        }
        // Their last words are waited for, not too long.
        let clock = mile_drive::clock::Monotonic::start();
        while !runs.is_empty() && clock.now().secs() < 20.0 {
            let Ok((id, frame)) = state.runs.told.1.recv_timeout(Duration::from_millis(200)) else {
                continue;
            };
            let Some(at) = runs.iter().position(|l| l.id == id) else { continue };
            match frame {
                Some(Frame::Message(lane, message @ Message::Ended(_))) => {
                    runs[at].take(lane as usize, message);
                    if let Some(outcome) = runs[at].outcome() {
                        text::say(&format!("{} is {}.", runs[at].called(), outcome.status.words()));
                        runs.remove(at);
                    }
                }
                Some(_) => {}
                None => drop(runs.remove(at)),
            }
        }
    }
    for live in runs {
        text::say(&format!(
            "{} goes on without the terminal. `hollow-mile attach` shows it again, and `hollow-mile attach --stop` ends it.",
            live.called()
        ));
    }
}

/// The terminal on a run that is underway.
pub(crate) fn open_attached(logbook: PathBuf, socket: &Path) -> Result<(), Failure> {
    let mut state = state(logbook, Speed::Max, false);
    let jobs = Jobs::new();
    update::attach(&mut state, &jobs, socket)?;
    run(state, jobs)
}

/// A screen in memory, for measuring.
pub(crate) struct Screen {
    terminal: ratatui::Terminal<ratatui::backend::TestBackend>,
    state: State,
}

impl Screen {
    pub(crate) fn findings(
        trace: mile_core::Trace,
        head: mile_runner::RunHead,
        path: PathBuf,
        width: u16,
        height: u16,
    ) -> Self {
        let context = head.first().context();
        let shown = state::Shown {
            run: 1,
            lane: 0,
            status: mile_runner::Status::Done,
            findings: mile_core::findings(&trace, &context),
            head,
            context,
            trace: trace.into(),
            events: Vec::new(),
            copies: Vec::new(),
        };
        Self::of(path, (width, height), |state| {
            state.place = place::FINDINGS;
            state.findings.shown = Some(shown);
        })
    }

    /// A run that was read, and whose findings are still being looked for.
    pub(crate) fn read(
        trace: mile_core::Trace,
        head: mile_runner::RunHead,
        path: PathBuf,
        width: u16,
        height: u16,
    ) -> Self {
        let early = state::Early { run: 1, context: head.first().context(), trace: trace.into() };
        Self::of(path, (width, height), |state| {
            state.place = place::FINDINGS;
            (state.findings.loading, state.findings.early) = (Some(1), Some(early));
        })
    }

    /// A run underway, with the samples of each of its lanes so far.
    pub(crate) fn underway(
        head: mile_runner::RunHead,
        lanes: &[&[mile_core::Sample]],
        width: u16,
        height: u16,
    ) -> Self {
        let mut live = state::Live::new(None);
        live.take(0, mile_runner::Message::Began(Box::new(head)));
        for (lane, samples) in lanes.iter().enumerate() {
            samples.iter().for_each(|s| live.take(lane, mile_runner::Message::Sample(s.clone())));
        }
        live.look();
        Self::of(PathBuf::new(), (width, height), |state| {
            state.place = place::UNDERWAY;
            state.runs.live = Some(live);
        })
    }

    fn of(path: PathBuf, (width, height): (u16, u16), show: impl FnOnce(&mut State)) -> Self {
        let mut state = state(path, Speed::Max, true);
        show(&mut state);
        let backend = ratatui::backend::TestBackend::new(width, height);
        let terminal = match ratatui::Terminal::new(backend) {
            Ok(terminal) => terminal,
            Err(never) => match never {},
        };
        Self { terminal, state }
    }

    pub(crate) fn resize(&mut self, width: u16, height: u16) {
        self.terminal.backend_mut().resize(width, height);
    }

    pub(crate) fn show_surface(&mut self) {
        self.state.place = place::SURFACE;
    }

    pub(crate) fn draw(&mut self) -> usize {
        let state = &mut self.state;
        // Whole, as after a resize: nothing is known of the frame before.
        let _ = self.terminal.clear();
        let drawn = self.terminal.draw(|frame| draw::draw(frame, state));
        drawn.map_or(0, |frame| frame.buffer.content.iter().filter(|c| c.symbol() != " ").count())
    }
}
