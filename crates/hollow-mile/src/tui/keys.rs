//! The one table of keys: it drives dispatch, the footer, the help, and the command line.

use super::state::Place;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// Everything that a key or the command line can do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Action {
    Go(Place),
    NextPlace,
    PreviousPlace,
    Back,
    Quit,
    Help,
    Commands,
    Theme,
    Up,
    Down,
    First,
    Last,
    CursorLeft,
    CursorRight,
    CursorFarLeft,
    CursorFarRight,
    ZoomIn,
    ZoomOut,
    ShowAll,
    TurnRuler,
    Pause,
    Note,
    SkipLeg,
    Stop,
    Start,
    Open,
    Export,
    Filter,
    NextBreak,
    NextLane,
    NextRun,
    PreviousBreak,
    StartNext,
    NextPanel,
    NoteBreak,
    ReadHealth,
    SelfTest,
    Resume,
    Edit,
    NewCourse,
    FormatCourse,
    SaveCourse,
    OpenCourse,
    NextDrive,
    StartCourse,
    StartLanes,
}

/// A key, or several that mean the same.
pub(crate) struct Binding {
    /// As it is shown.
    pub(crate) shown: &'static str,
    keys: &'static [KeyCode],
    pub(crate) action: Action,
    /// Places where it means this; empty is everywhere.
    places: &'static [Place],
    /// One or two words for the footer; empty where it is not shown there.
    pub(crate) short: &'static str,
    /// What it does, for the help and the command line.
    pub(crate) words: &'static str,
}

use KeyCode::{BackTab, Char, Down, End, Enter, Esc, Home, Left, Right, Tab, Up};
use Place::{Bench, Course, Fill, Findings, Health, Logbook, Underway};

const CANVAS: &[Place] = &[Underway, Findings];
const ROWS: &[Place] = &[Bench, Course, Fill, Health, Logbook];

macro_rules! bind {
    ($shown:literal, [$($key:expr),*], $action:expr, $places:expr, $short:literal, $words:literal) => {
        Binding { shown: $shown, keys: &[$($key),*], action: $action, places: $places, short: $short, words: $words }
    };
}

/// All keys. The first that fits the place counts.
pub(crate) const TABLE: &[Binding] = &[
    bind!(
        "s enter",
        [Char('s'), Enter],
        Action::Start,
        &[Bench],
        "start a run",
        "start a run on the selected drive"
    ),
    bind!(
        "b",
        [Char('b')],
        Action::StartLanes,
        &[Bench],
        "side by side",
        "start a course for several drives, from the selected one on"
    ),
    bind!(
        "i enter",
        [Char('i'), Enter],
        Action::Edit,
        &[Course],
        "edit",
        "change the text of the course; esc ends that"
    ),
    bind!("s", [Char('s')], Action::StartCourse, &[Course], "start", "arm the drive and start the course"),
    bind!("n", [Char('n')], Action::NewCourse, &[Course], "ready-made", "begin with a ready-made course"),
    bind!(
        "d",
        [Char('d')],
        Action::NextDrive,
        &[Course],
        "drive",
        "look at the course on the next drive of the bench"
    ),
    bind!(
        "f",
        [Char('f')],
        Action::FormatCourse,
        &[Course],
        "format",
        "write the course in its one canonical form"
    ),
    bind!("w", [Char('w')], Action::SaveCourse, &[Course], "save", "write the course to a file"),
    bind!("o", [Char('o')], Action::OpenCourse, &[Course], "open", "read a course from a file"),
    bind!("space", [Char(' ')], Action::Pause, &[Underway], "pause", "pause the run, or go on"),
    bind!("n", [Char('n')], Action::Note, &[Underway], "note", "note something in the log"),
    bind!(
        "S",
        [Char('S')],
        Action::SkipLeg,
        &[Underway],
        "skip leg",
        "skip the rest of this leg and go on with the next"
    ),
    bind!("X", [Char('X')], Action::Stop, &[Underway], "stop", "stop the run"),
    bind!("enter", [Enter], Action::Open, &[Underway], "", "open the findings of the run that ended"),
    bind!("enter", [Enter], Action::Open, &[Logbook], "open", "open the findings of the selected run"),
    bind!(
        "g",
        [Char('g')],
        Action::Resume,
        &[Logbook],
        "go on",
        "go on with the selected run, if it was interrupted"
    ),
    bind!(
        "/",
        [Char('/')],
        Action::Filter,
        &[Logbook],
        "filter",
        "show only the runs that match what you type"
    ),
    bind!("r", [Char('r')], Action::NextRun, &[Underway], "next run", "show the next of the runs underway"),
    bind!(
        "]",
        [Char(']')],
        Action::NextLane,
        CANVAS,
        "next lane",
        "show the next lane of a run on several drives"
    ),
    bind!("↑↓ k j", [Up, Char('k')], Action::PreviousBreak, CANVAS, "", "select the break before"),
    bind!("↑↓ k j", [Down, Char('j')], Action::NextBreak, CANVAS, "breaks", "select the next break"),
    bind!(
        "e",
        [Char('e')],
        Action::Export,
        &[Underway, Findings, Logbook],
        "export",
        "write an SVG and a PDF of the run as it is framed"
    ),
    bind!("p", [Char('p')], Action::NextPanel, &[Findings], "panel", "turn the panel of figures"),
    bind!("n", [Char('n')], Action::NoteBreak, &[Findings], "note", "note something on the selected break"),
    bind!(
        "g",
        [Char('g')],
        Action::StartNext,
        &[Findings],
        "run next",
        "start the run that would settle the break"
    ),
    bind!("x", [Char('x')], Action::TurnRuler, CANVAS, "ruler", "turn the ruler: bytes or time"),
    bind!("←→ h l", [Left, Char('h')], Action::CursorLeft, CANVAS, "", "move the cursor left"),
    bind!("←→ h l", [Right, Char('l')], Action::CursorRight, CANVAS, "cursor", "move the cursor right"),
    bind!("H", [Char('H')], Action::CursorFarLeft, CANVAS, "", "move the cursor ten cells left"),
    bind!("L", [Char('L')], Action::CursorFarRight, CANVAS, "", "move the cursor ten cells right"),
    bind!("+ -", [Char('+'), Char('=')], Action::ZoomIn, CANVAS, "zoom", "show less of the ruler, larger"),
    bind!("+ -", [Char('-')], Action::ZoomOut, CANVAS, "", "show more of the ruler"),
    bind!("0", [Char('0')], Action::ShowAll, CANVAS, "all", "show all of the ruler and hide the cursor"),
    bind!("↑ k", [Up, Char('k')], Action::Up, ROWS, "", "select the line above"),
    bind!("↓ j", [Down, Char('j')], Action::Down, ROWS, "", "select the line below"),
    bind!("home", [Home], Action::First, ROWS, "", "select the first line"),
    bind!("end", [End], Action::Last, ROWS, "", "select the last line"),
    bind!("1", [Char('1')], Action::Go(Bench), &[], "", "go to the bench"),
    bind!("2", [Char('2')], Action::Go(Course), &[], "", "go to the course"),
    bind!("3", [Char('3')], Action::Go(Underway), &[], "", "go to the run underway"),
    bind!("4", [Char('4')], Action::Go(Findings), &[], "", "go to the findings"),
    bind!("5", [Char('5')], Action::Go(Fill), &[], "", "go to the figures against fill level"),
    bind!("6", [Char('6')], Action::Go(Health), &[], "", "go to the health of the selected drive"),
    bind!("7", [Char('7')], Action::Go(Logbook), &[], "", "go to the logbook"),
    bind!("r", [Char('r')], Action::ReadHealth, &[Health], "read again", "read the drive's health again"),
    bind!(
        "t",
        [Char('t')],
        Action::SelfTest,
        &[Health],
        "self-test",
        "begin or end a self-test of the drive"
    ),
    bind!("tab", [Tab], Action::NextPlace, &[], "", "go to the next place"),
    bind!("shift-tab", [BackTab], Action::PreviousPlace, &[], "", "go to the place before"),
    bind!("esc", [Esc], Action::Back, &[], "", "go back"),
    bind!("T", [Char('T')], Action::Theme, &[], "", "change between the dark and the light theme"),
    bind!(":", [Char(':')], Action::Commands, &[], "commands", "find a command by typing part of its name"),
    bind!("?", [Char('?')], Action::Help, &[], "help", "list the keys of this place"),
    bind!("q", [Char('q')], Action::Quit, &[], "quit", "leave Hollow Mile"),
];

impl Binding {
    /// Whether it is for every place.
    pub(crate) fn is_general(&self) -> bool {
        self.places.is_empty()
    }

    pub(crate) fn is_for(&self, place: Place) -> bool {
        self.places.is_empty() || self.places.contains(&place)
    }
}

/// What a key means in a place.
pub(crate) fn action(place: Place, key: KeyEvent) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == Char('c')).then_some(Action::Quit);
    }
    TABLE.iter().find(|b| b.is_for(place) && b.keys.contains(&key.code)).map(|b| b.action)
}

/// The actions whose words match what was typed, best first.
pub(crate) fn matching(place: Place, typed: &str) -> Vec<&'static Binding> {
    use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
    let pattern = Pattern::parse(typed, CaseMatching::Ignore, Normalization::Smart);
    let mut matcher = nucleo_matcher::Matcher::new(nucleo_matcher::Config::DEFAULT);
    let mut found: Vec<(u32, &Binding)> = TABLE
        .iter()
        .filter(|b| b.is_for(place) && !matches!(b.action, Action::Commands))
        .filter_map(|b| {
            let mut buffer = Vec::new();
            let words = nucleo_matcher::Utf32Str::new(b.words, &mut buffer);
            pattern.score(words, &mut matcher).map(|score| (score, b))
        })
        .collect();
    found.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
    found.into_iter().map(|(_, b)| b).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_in_one_place() {
        for place in Place::ALL {
            let mut seen = Vec::new();
            for binding in TABLE.iter().filter(|b| b.is_for(place)) {
                for key in binding.keys {
                    assert!(!seen.contains(key), "{key:?} in {place:?}");
                    seen.push(*key);
                }
            }
        }
    }

    #[test]
    fn part_of_a_name_finds_its_command() {
        assert_eq!(matching(Underway, "skip")[0].action, Action::SkipLeg);
        assert_eq!(matching(Logbook, "logb")[0].action, Action::Go(Logbook));
        assert!(matching(Bench, "pause the").is_empty(), "not here");
    }
}
