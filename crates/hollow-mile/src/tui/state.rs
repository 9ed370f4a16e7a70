//! What the terminal knows: places, the run underway, the run that is looked at, and what lies on top.

mod archive;
mod background;
mod bench;
mod form;
mod waiting;

use super::action::Action;
use super::canvas::{Framing, Sight};
use super::place::Place;
use super::strips::Strips;
use super::theme::Theme;
use crate::progress::Progress;
pub(crate) use archive::{ComparePlace, FleetPlace, LogbookPlace, OfFleet};
pub(crate) use background::Background;
pub(crate) use bench::{BenchPlace, Group, Grouping};
use crossbeam_channel::{Receiver, Sender};
pub(crate) use form::{Beside, Choice, Field, FormLane, SETUP, StartForm, Text, celsius};
use mile_bench::bench::Card;
use mile_bench::outlook::Outlook;
use mile_core::channel::{Channel, Series};
use mile_core::copies::CopyFound;
use mile_core::findings::{BadPlace, Hollow};
use mile_core::heat::HeatFit;
use mile_core::ruler::Ruler;
use mile_core::scene::Subject;
use mile_core::surface::Surface;
use mile_core::{Bytes, Celsius, Context, Findings, LiveFindings, Trace};
use mile_runner::remote::{Client, Frame};
use mile_runner::{Command, Event, LaneHead, Message, Outcome, RunHead, Speed, Status};
use ratatui::layout::Rect;
use ratatui_textarea::TextArea;
use std::path::PathBuf;
use std::sync::Arc;
use tui_input::Input;
pub(crate) use waiting::{AT_WORK, Awaited, GIVEN_UP, WRITES, Waiting};

/// The strings to a runner.
pub(crate) struct Strings {
    pub(crate) commands: Sender<Command>,
}

/// What a runner said, with the number of its run here; `None` where it is gone.
pub(crate) type Told = (u64, Option<Frame>);

/// A lane of a run as it goes on.
#[derive(Default)]
pub(crate) struct LiveLane {
    pub(crate) progress: Progress,
    pub(crate) findings: LiveFindings,
    pub(crate) events: Vec<Event>,
    pub(crate) context: Context,
    pub(crate) outcome: Option<Outcome>,
    pub(crate) temp: Option<Celsius>,
    /// Bytes that it is planned to move.
    planned: u64,
}

impl LiveLane {
    fn new(head: &LaneHead, progress: Progress) -> Self {
        let context = head.context();
        Self {
            progress,
            findings: LiveFindings::new(context.clone()),
            context,
            planned: head.legs.iter().map(|l| l.budget().0).sum(),
            ..Self::default()
        }
    }
}

/// A run as it goes on, or the last one that did.
pub(crate) struct Live {
    /// Its number in this terminal.
    pub(crate) id: u64,
    pub(crate) head: RunHead,
    /// Its lanes, at least one.
    lanes: Vec<LiveLane>,
    /// The channels of the run.
    pub(crate) series: Vec<Series>,
    /// Lowest, highest, and sum of the readings of each.
    pub(crate) ranges: Vec<(f64, f64, f64)>,
    /// The lane whose breaks and readings are shown.
    pub(crate) at: usize,
    /// How fast its simulated time runs, where this terminal has started it; nobody else is told.
    pub(crate) pace: Option<Speed>,
    /// The run's number in the logbook.
    pub(crate) number: Option<i64>,
    /// Its strings, until it is over.
    pub(crate) strings: Option<Strings>,
    pub(crate) framing: Framing,
    pub(crate) selected: Option<usize>,
}

impl Live {
    pub(crate) fn new(strings: Option<Strings>) -> Self {
        Self {
            id: 0,
            head: RunHead::default(),
            lanes: vec![LiveLane::default()],
            series: Vec::new(),
            ranges: Vec::new(),
            at: 0,
            pace: None,
            number: None,
            strings,
            framing: Framing::default(),
            selected: None,
        }
    }

    /// A run of a runner, with all that it had told before. What it tells goes to `told`.
    pub(crate) fn attached(
        id: u64,
        client: Client,
        before: Vec<(u32, Message)>,
        told: Sender<Told>,
    ) -> std::io::Result<Self> {
        let number = client.hello.run;
        let strings = Strings { commands: client.commands };
        let mut live = Self { id, number, ..Self::new(Some(strings)) };
        before.into_iter().for_each(|(lane, m)| live.take(lane as usize, m));
        let frames = client.frames;
        std::thread::Builder::new().name("run".into()).spawn(move || {
            // Where the terminal has gone, nobody listens.
            for frame in frames {
                if told.send((id, Some(frame))).is_err() {
                    return;
                }
            }
            let _ = told.send((id, None));
        })?;
        Ok(live)
    }

    /// What it is called: `Run 4`.
    pub(crate) fn called(&self) -> String {
        self.number.map_or_else(|| "The run".into(), |r| format!("Run {r}"))
    }

    /// The lane that is shown.
    pub(crate) fn lane(&self) -> &LiveLane {
        static NOTHING: std::sync::LazyLock<LiveLane> = std::sync::LazyLock::new(LiveLane::default);
        self.lanes.get(self.at).unwrap_or_else(|| &NOTHING)
    }

    pub(crate) fn lanes(&self) -> &[LiveLane] {
        &self.lanes
    }

    /// Whether it is drawn as lanes below each other on one clock.
    pub(crate) fn is_stacked(&self) -> bool {
        self.lanes.len() > 1 || !self.series.is_empty()
    }

    /// Shows the next lane.
    pub(crate) fn next_lane(&mut self) {
        self.at = (self.at + 1) % self.lanes.len().max(1);
        self.selected = None;
    }

    /// Takes in a message of a lane.
    pub(crate) fn take(&mut self, lane: usize, message: Message) {
        if let Message::Began(head) = message {
            self.lanes =
                head.lanes.iter().zip(Progress::of_lanes(&head)).map(|(l, p)| LiveLane::new(l, p)).collect();
            if self.lanes.is_empty() {
                self.lanes.push(LiveLane::default());
            }
            let empty = |channel: &Channel| Series { channel: channel.clone(), readings: Vec::new() };
            self.series = head.channels.iter().map(empty).collect();
            self.ranges = vec![(f64::INFINITY, f64::NEG_INFINITY, 0.0); self.series.len()];
            if self.is_stacked() {
                // What is told of several drives has only time in common.
                self.framing = Framing::on(Ruler::Time);
            }
            self.head = *head;
            return;
        }
        if let Message::Reading(channel, reading) = message {
            if let Some(series) = self.series.get_mut(channel as usize) {
                if let Some(lane) = series.channel.waits_of().and_then(|l| self.lanes.get_mut(l)) {
                    lane.findings.push_wait(reading.at, reading.value / 100.0);
                }
                series.readings.push(reading);
                if let Some((low, high, sum)) = self.ranges.get_mut(channel as usize) {
                    (*low, *high) = (low.min(reading.value), high.max(reading.value));
                    *sum += reading.value;
                }
            }
            return;
        }
        let Some(into) = self.lanes.get_mut(lane) else { return };
        match message {
            Message::Sample(sample) => {
                into.progress.sample(&sample);
                into.temp = sample.temp.or(into.temp);
                into.findings.push(&sample, self.head.lane(lane).leg_name(sample.leg));
            }
            Message::Event(event) => {
                into.progress.event(&event);
                into.events.push(event);
            }
            Message::Ended(outcome) => {
                into.outcome = Some(*outcome);
                into.findings.settle();
            }
            Message::SelfTest(test) => into.progress.test(test),
            Message::Began(_) | Message::LegLatency(..) | Message::Health(_) | Message::Reading(..) => {}
        }
    }

    /// Looks at what has come in, where it is time. After a batch of messages and not after each: a run that is joined late tells all at once.
    pub(crate) fn look(&mut self) {
        for lane in &mut self.lanes {
            lane.findings.news();
        }
    }

    /// Its terrain in one row, of the lane that is shown.
    pub(crate) fn miniature(&self, width: usize) -> String {
        let trace = self.lane().findings.trace();
        let share = trace.moved(trace.len()).0 as f64 / width as f64;
        let at = |i: usize| trace.index_at_bytes(Bytes((share * i as f64) as u64));
        let rate = |i: usize| {
            let from = at(i).min(trace.len().saturating_sub(1));
            trace.rate.extent(from, at(i + 1).max(from + 1)).map_or(0.0, |e| e.mean as f32)
        };
        super::canvas::miniature(&(0..width).map(rate).collect::<Vec<_>>(), width)
    }

    /// What most of what it moved on the lane that is shown is: reads or writes.
    pub(crate) fn op(&self) -> mile_core::Op {
        let trace = self.lane().findings.trace();
        let (written, read) = trace.totals(trace.len());
        if read > written { mile_core::Op::Read } else { mile_core::Op::Write }
    }

    /// How the run ended, once all of its lanes have.
    pub(crate) fn outcome(&self) -> Option<Outcome> {
        let names = self.head.lanes.iter().map(|l| l.name.as_str()).chain(std::iter::repeat(""));
        let ended: Option<Vec<_>> =
            names.zip(&self.lanes).map(|(name, lane)| Some((name, lane.outcome.as_ref()?))).collect();
        Outcome::of_lanes(&ended?)
    }

    pub(crate) fn is_over(&self) -> bool {
        self.strings.is_none() || self.lanes.iter().all(|l| l.outcome.is_some())
    }

    /// Whether it is paused.
    pub(crate) fn is_paused(&self) -> bool {
        self.lanes.iter().any(|l| l.progress.paused)
    }

    /// Whether it waits for the operator.
    pub(crate) fn is_asking(&self) -> bool {
        self.lanes.iter().any(|l| l.progress.asked.is_some())
    }

    /// How much of all lanes is done, 0 to 1; `None` where it is not known of any.
    pub(crate) fn share(&self) -> Option<f64> {
        let shares: Vec<f64> = self.lanes.iter().filter_map(|l| l.progress.share()).collect();
        (!shares.is_empty()).then(|| shares.iter().sum::<f64>() / shares.len() as f64)
    }

    /// What is going on: on the lane that has a load, or on the first.
    pub(crate) fn sentence(&self) -> String {
        if self.lanes.len() < 2 {
            return self.lane().progress.sentence();
        }
        let busy: Vec<usize> = (0..self.lanes.len()).filter(|i| self.lanes[*i].progress.is_busy()).collect();
        let name = |i: &usize| self.head.lane(*i).name.as_str();
        let on: Vec<&str> = busy.iter().map(name).collect();
        let lane = &self.lanes[busy.first().copied().unwrap_or(0)];
        if on.is_empty() {
            return lane.progress.sentence();
        }
        format!("On {}: {}", on.join(" and "), lane.progress.sentence())
    }

    /// What there is to draw of a lane.
    pub(crate) fn sight_of(&self, lane: usize) -> Sight<'_> {
        let of = &self.lanes[lane.min(self.lanes.len() - 1)];
        let planned = !self.is_over() && of.planned > 0 && self.lanes.len() == 1;
        Sight {
            subject: Subject {
                leads_to: of.findings.settling().filter(HeatFit::is_known),
                ..Subject::with_breaks(of.findings.trace(), of.findings.breaks(), &of.context)
            },
            planned: planned.then_some(of.planned as f64),
            selected: self.selected.filter(|_| lane == self.at),
        }
    }

    pub(crate) fn sight(&self) -> Sight<'_> {
        self.sight_of(self.at)
    }
}

/// A run that is looked at.
pub(crate) struct Shown {
    pub(crate) run: i64,
    /// Which of its lanes.
    pub(crate) lane: usize,
    pub(crate) status: Status,
    pub(crate) head: RunHead,
    pub(crate) context: Context,
    pub(crate) trace: Arc<Trace>,
    pub(crate) findings: Findings,
    pub(crate) events: Vec<Event>,
    /// What the copies of the run came to.
    pub(crate) copies: Vec<CopyFound>,
}

/// A run that was read, and whose breaks are being looked for.
pub(crate) struct Early {
    pub(crate) run: i64,
    pub(crate) context: Context,
    pub(crate) trace: Arc<Trace>,
}

impl Early {
    /// What there is to draw of it: no breaks yet.
    pub(crate) fn sight(&self) -> Sight<'_> {
        Sight {
            subject: Subject::with_breaks(&self.trace, &[], &self.context),
            planned: None,
            selected: None,
        }
    }
}

/// The place of findings.
#[derive(Default)]
pub(crate) struct FindingsPlace {
    pub(crate) shown: Option<Shown>,
    /// A run that is being loaded.
    pub(crate) loading: Option<i64>,
    /// The same, once it was read.
    pub(crate) early: Option<Early>,
    /// Kinds of runs that were looked for in the logbook, as none was open, and are not there.
    pub(crate) missing: Vec<Wanted>,
    /// How a run is framed that was open when the screen was left.
    pub(crate) kept: Option<(i64, Framing)>,
    /// The run underway that is looked at again and again, and its lane.
    pub(crate) following: Option<(i64, usize)>,
    /// Whether a look at it is on its way.
    pub(crate) refreshing: bool,
    pub(crate) framing: Framing,
    pub(crate) selected: Option<usize>,
    pub(crate) panel: Panel,
    /// Lines below the terrain that are passed over.
    pub(crate) scroll: usize,
}

impl FindingsPlace {
    /// Whether no run is open or being opened.
    pub(crate) fn is_empty(&self) -> bool {
        self.shown.is_none() && self.loading.is_none()
    }
}

/// A run that a place can show, where none is open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// Any.
    Any,
    /// One that goes over fill levels.
    Fill,
    /// One that scans a drive.
    Surface,
}

/// What stands beside the breaks, or in their stead on a narrow screen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Panel {
    #[default]
    Plateaus,
    Heat,
    Claims,
    Next,
}

impl Panel {
    pub(crate) const ALL: [Self; 4] = [Self::Plateaus, Self::Heat, Self::Claims, Self::Next];

    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Plateaus => "plateaus",
            Self::Heat => "heat",
            Self::Claims => "claims",
            Self::Next => "what next",
        }
    }

    pub(crate) fn after(self) -> Self {
        let at = Self::ALL.iter().position(|p| *p == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }
}

impl FindingsPlace {
    pub(crate) fn sight(&self) -> Option<Sight<'_>> {
        let shown = self.shown.as_ref()?;
        let subject = Subject::of(&shown.trace, &shown.findings, &shown.context);
        Some(Sight { subject, planned: None, selected: self.selected })
    }
}

/// The place of a drive's health.
#[derive(Default)]
pub(crate) struct HealthPlace {
    /// The drive that it is of, once it was asked for.
    pub(crate) drive: Option<String>,
    pub(crate) shown: Option<HealthShown>,
    /// What was asked for before the drive had answered; it is done with the answer.
    pub(crate) then: Option<Action>,
    /// The strips of its story at the width that was drawn last.
    pub(crate) strips: Option<Strips>,
    pub(crate) scroll: usize,
    /// Whether all attributes and counters are shown, and not the story.
    pub(crate) raw: bool,
}

/// A drive's health as it was read.
pub(crate) struct HealthShown {
    pub(crate) card: Card,
    /// The last run on this drive, and what it changed; `None` where there was none.
    pub(crate) last: Option<(i64, Vec<String>)>,
    /// What is kept of it over time.
    pub(crate) story: Option<Box<crate::history::Story>>,
    /// The run in which a simulated drive tested itself last, and what it told then: it lives in runs only.
    pub(crate) tested: Option<(i64, mile_drive::health::SelfTest)>,
}

/// What was found of the course in the editor.
#[derive(Default)]
pub(crate) struct Checked {
    /// Which state of the text this is of.
    pub(crate) generation: u64,
    /// Name of the course.
    pub(crate) name: String,
    /// The names of its lanes; none where it is for one drive.
    pub(crate) lanes: Vec<String>,
    pub(crate) diagnostics: Vec<mile_course::Diagnostic>,
    /// What it was fitted to, in words.
    pub(crate) target: String,
    /// What it comes to there, or why it does not fit; `None` where it cannot be read.
    pub(crate) outlook: Option<Result<Outlook, String>>,
    /// The legs, one after the other.
    pub(crate) road: Vec<Stretch>,
    /// The legs as they stand in the text, and their groups.
    pub(crate) outline: Vec<OutlineLine>,
}

/// A stretch of the road that a course is drawn as.
pub(crate) struct Stretch {
    pub(crate) seconds: f64,
    pub(crate) op: mile_core::Op,
}

/// A leg of the text with all its repeats, or the head of a group, which has none.
#[derive(Default)]
pub(crate) struct OutlineLine {
    pub(crate) depth: usize,
    pub(crate) text: String,
    pub(crate) legs: usize,
    pub(crate) seconds: f64,
    pub(crate) bytes: u64,
}

/// The place of the plan.
#[derive(Default)]
pub(crate) struct CoursePlace {
    pub(crate) editor: TextArea<'static>,
    /// Whether keys go into the text.
    pub(crate) editing: bool,
    /// First line that is shown.
    pub(crate) top: usize,
    /// Counts the changes of the text and of what it is for.
    pub(crate) generation: u64,
    /// Whether it was changed since it was looked at last, and whether it is being looked at.
    pub(crate) due: bool,
    pub(crate) looking: bool,
    pub(crate) checked: Checked,
    pub(crate) background: Vec<Arc<Background>>,
    /// Line of the selected drive on the bench when this was looked at last.
    pub(crate) drive: Option<String>,
    pub(crate) scroll: usize,
    /// The file that it was read from or written to.
    pub(crate) file: Option<PathBuf>,
    /// Whether it was changed since.
    pub(crate) changed: bool,
}

impl CoursePlace {
    /// Puts another text into the editor.
    pub(crate) fn set(&mut self, text: &str) {
        self.editor = TextArea::from(text.lines());
        (self.top, self.scroll) = (0, 0);
        self.generation += 1;
    }

    pub(crate) fn text(&self) -> String {
        self.editor.lines().join("\n") + "\n"
    }
}

/// The place of fill levels.
#[derive(Default)]
pub(crate) struct FillPlace {
    pub(crate) scroll: usize,
}

/// The run underway by its number here, how many samples it had, and what they show of the surface.
pub(crate) type LiveSurface = (u64, usize, Option<(Surface, Vec<Hollow>)>);

/// What is shown of a surface.
#[derive(Default)]
pub(crate) struct SurfacePlace {
    pub(crate) scroll: usize,
    /// The cell that the cursor is on.
    pub(crate) cursor: Option<usize>,
    /// First cell that is shown, and the end; all where there is none.
    pub(crate) zoom: Option<(usize, usize)>,
    /// Columns that it was drawn in.
    pub(crate) columns: u16,
    /// What could not be read in the run underway.
    pub(crate) bad: Vec<BadPlace>,
    /// The surface of the run underway.
    pub(crate) live: Option<LiveSurface>,
}

impl SurfacePlace {
    /// First cell that is shown of so many, and the end.
    pub(crate) fn window(&self, cells: usize) -> (usize, usize) {
        let (from, to) = self.zoom.unwrap_or((0, cells));
        let to = to.min(cells);
        if from < to { (from, to) } else { (0, cells.max(1)) }
    }
}

/// What a path is typed for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum PathFor {
    Open,
    Save,
}

/// What lies on top of the place.
pub(crate) enum Overlay {
    Help,
    Commands {
        typed: Input,
        selected: usize,
    },
    Note(Input),
    /// The ready-made courses; the selected one.
    Chooser(usize),
    Path(PathFor, Text),
    Start(Box<StartForm>),
    SelfTest,
    ConfirmStop,
    ConfirmQuit,
}

/// Something to be told in the footer.
pub(crate) struct Notice {
    pub(crate) text: String,
    pub(crate) is_error: bool,
}

/// A line that can be clicked on: its rows, its columns, and its index.
pub(crate) type Line = (std::ops::Range<u16>, std::ops::Range<u16>, usize);

/// A stretch of columns over which the mouse is being dragged, from where it was pressed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Drag {
    pub(crate) from: u16,
    pub(crate) to: u16,
}

/// Everything.
pub(crate) struct State {
    pub(crate) place: Place,
    pub(crate) before: Vec<Place>,
    pub(crate) theme: Theme,
    pub(crate) speed: Speed,
    pub(crate) logbook_path: PathBuf,
    pub(crate) is_demo: bool,
    pub(crate) bench: BenchPlace,
    pub(crate) course: CoursePlace,
    pub(crate) fill: FillPlace,
    pub(crate) surface: SurfacePlace,
    /// The run underway that is shown, or the last one that was.
    pub(crate) live: Option<Live>,
    /// Other runs underway.
    pub(crate) others: Vec<Live>,
    /// What all of them tell.
    pub(crate) told: (Sender<Told>, Receiver<Told>),
    /// Runs that this terminal has shown.
    pub(crate) runs_seen: u64,
    /// Questions that were asked about runs to be started.
    pub(crate) questions: u64,
    pub(crate) findings: FindingsPlace,
    pub(crate) health: HealthPlace,
    pub(crate) logbook: LogbookPlace,
    pub(crate) fleet: FleetPlace,
    pub(crate) compare: ComparePlace,
    pub(crate) overlay: Option<Overlay>,
    pub(crate) notice: Option<Notice>,
    /// Work that the user waits for, the newest last.
    pub(crate) tasks: Vec<Waiting>,
    pub(crate) choices: Vec<Choice>,
    /// Where the canvas was drawn last, for the mouse.
    pub(crate) canvas_area: Rect,
    /// Where the terminal's cursor belongs in the place, if it is shown.
    pub(crate) cursor: Option<ratatui::layout::Position>,
    /// The lines of the place that can be clicked on: rows, columns, and which line it is.
    pub(crate) lines: Vec<Line>,
    /// The stretch of the canvas over which the mouse is being dragged.
    pub(crate) drag: Option<Drag>,
    /// What is to be put on the clipboard of the terminal.
    pub(crate) clipboard: Option<String>,
    /// Where the names of the places stand in the header, for the mouse.
    pub(crate) place_spans: Vec<(Place, std::ops::Range<u16>)>,
    pub(crate) quit: bool,
    /// Whether the shell is to take over for a while.
    pub(crate) suspend: bool,
    /// Whether the run underway was told to end when the terminal is left.
    pub(crate) stopping: bool,
}

impl State {
    pub(crate) fn tell(&mut self, text: impl Into<String>) {
        self.notice = Some(Notice { text: text.into(), is_error: false });
    }

    pub(crate) fn complain(&mut self, text: impl Into<String>) {
        self.notice = Some(Notice { text: text.into(), is_error: true });
    }

    /// Whether the run that is shown is underway.
    pub(crate) fn is_underway(&self) -> bool {
        self.live.as_ref().is_some_and(|l| !l.is_over())
    }

    /// Runs underway that leaving would leave.
    pub(crate) fn underway(&self) -> usize {
        self.live.iter().chain(&self.others).filter(|l| !l.is_over()).count()
    }

    /// The run of a number in this terminal.
    pub(crate) fn run_mut(&mut self, id: u64) -> Option<&mut Live> {
        self.live.iter_mut().chain(&mut self.others).find(|l| l.id == id)
    }

    /// Shows the next of the runs underway.
    pub(crate) fn next_run(&mut self) -> bool {
        if self.others.is_empty() {
            return false;
        }
        let shown = self.live.replace(self.others.remove(0));
        self.others.extend(shown.filter(|l| !l.is_over()));
        true
    }

    pub(crate) fn go(&mut self, place: Place) {
        if self.place != place {
            self.before.push(self.place);
            self.place = place;
        }
    }
}
