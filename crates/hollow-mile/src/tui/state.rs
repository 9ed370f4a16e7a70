//! What the terminal knows: places, the run underway, the run that is looked at, and what lies on top.

mod archive;
mod background;
mod bench;
mod drawn;
mod form;
mod live;
mod waiting;

use super::action::Action;
use super::canvas::{Framing, Sight};
use super::place::Place;
use super::strips::Strips;
use super::theme::Theme;
pub(crate) use archive::{ComparePlace, FleetPlace, LogbookPlace, OfFleet};
pub(crate) use background::Background;
pub(crate) use bench::{BenchPlace, Group, Grouping};
pub(crate) use drawn::{Drag, Drawn, Line};
pub(crate) use form::{Beside, Choice, Field, FormLane, SETUP, StartForm, Text, celsius};
pub(crate) use live::{Live, Runs, Told};
use mile_bench::bench::Card;
use mile_bench::outlook::Outlook;
use mile_core::copies::CopyFound;
use mile_core::findings::{BadPlace, Hollow};
use mile_core::scene::Subject;
use mile_core::surface::Surface;
use mile_core::{Context, Findings, Trace};
use mile_runner::{Event, RunHead, Speed, Status};
use ratatui_textarea::TextArea;
use std::path::PathBuf;
use std::sync::Arc;
use tui_input::Input;
pub(crate) use waiting::{AT_WORK, Awaited, GIVEN_UP, WRITES, Waiting};

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

/// Which of the events of a run are shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Which {
    #[default]
    All,
    Legs,
    /// What went wrong, or stopped or held up the run.
    Wrong,
    Notes,
}

impl Which {
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::All => "all events",
            Self::Legs => "legs",
            Self::Wrong => "what went wrong",
            Self::Notes => "notes and pauses",
        }
    }

    pub(crate) fn after(self) -> Self {
        match self {
            Self::All => Self::Legs,
            Self::Legs => Self::Wrong,
            Self::Wrong => Self::Notes,
            Self::Notes => Self::All,
        }
    }
}

/// The place of events.
#[derive(Default)]
pub(crate) struct EventsPlace {
    /// Whether they are those of the run underway, or the last one that was; else of the run that is open.
    pub(crate) is_live: bool,
    pub(crate) which: Which,
    /// Of those that are shown; the newest where there are fewer.
    pub(crate) selected: usize,
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

/// What the terminal was opened with.
pub(crate) struct Setup {
    pub(crate) speed: Speed,
    pub(crate) logbook_path: PathBuf,
    pub(crate) is_demo: bool,
    /// The courses that can be started from the bench.
    pub(crate) choices: Vec<Choice>,
}

/// What is asked of whoever holds the terminal, once the frame is drawn.
#[derive(Default)]
pub(crate) struct Outside {
    pub(crate) quit: bool,
    /// Whether the shell is to take over for a while.
    pub(crate) suspend: bool,
    /// What is to be put on the clipboard of the terminal.
    pub(crate) clipboard: Option<String>,
}

/// Everything.
pub(crate) struct State {
    pub(crate) place: Place,
    pub(crate) before: Vec<Place>,
    pub(crate) theme: Theme,
    pub(crate) setup: Setup,
    pub(crate) bench: BenchPlace,
    pub(crate) course: CoursePlace,
    pub(crate) fill: FillPlace,
    pub(crate) events: EventsPlace,
    pub(crate) surface: SurfacePlace,
    pub(crate) runs: Runs,
    pub(crate) findings: FindingsPlace,
    pub(crate) health: HealthPlace,
    pub(crate) logbook: LogbookPlace,
    pub(crate) fleet: FleetPlace,
    pub(crate) compare: ComparePlace,
    pub(crate) overlay: Option<Overlay>,
    pub(crate) notice: Option<Notice>,
    /// Work that the user waits for, the newest last.
    pub(crate) tasks: Vec<Waiting>,
    pub(crate) drawn: Drawn,
    pub(crate) outside: Outside,
}

impl State {
    pub(crate) fn tell(&mut self, text: impl Into<String>) {
        self.notice = Some(Notice { text: text.into(), is_error: false });
    }

    pub(crate) fn complain(&mut self, text: impl Into<String>) {
        self.notice = Some(Notice { text: text.into(), is_error: true });
    }

    pub(crate) fn go(&mut self, place: Place) {
        if self.place != place {
            self.before.push(self.place);
            self.place = place;
        }
    }
}
