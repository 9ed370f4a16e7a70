//! What a key or the command line can do, and the keys that several places share.

use super::place::Place;
use crossterm::event::KeyCode;
use crossterm::event::KeyCode::{Char, Down, End, Home, Left, Right, Up};

/// Everything that a key or the command line can do.
#[derive(Clone, Copy, Debug, PartialEq)]
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
    OtherSide,
    NextPanel,
    PageDown,
    PageUp,
    NoteBreak,
    ReadHealth,
    KeepHealth,
    RawHealth,
    SelfTest,
    Resume,
    Edit,
    NewCourse,
    FormatCourse,
    SaveCourse,
    OpenCourse,
    NextDrive,
    NextModel,
    NextCourse,
    StartCourse,
    StartLanes,
    NextGrouping,
    MarkA,
    MarkB,
    Compare,
    Report,
    RemoveRun,
    RestoreRun,
    Copy,
}

/// A key, or several that mean the same.
#[derive(Clone, Copy)]
pub(crate) struct Binding {
    /// As it is shown.
    pub(crate) shown: &'static str,
    pub(crate) keys: &'static [KeyCode],
    pub(crate) action: Action,
    /// One or two words for the footer; empty where it is not shown there.
    pub(crate) short: &'static str,
    /// What it does, for the help and the command line.
    pub(crate) words: &'static str,
    /// Whether it means this in every place.
    pub(crate) is_general: bool,
}

/// A key of some places.
pub(crate) const fn bind(
    shown: &'static str,
    keys: &'static [KeyCode],
    action: Action,
    short: &'static str,
    words: &'static str,
) -> Binding {
    Binding { shown, keys, action, short, words, is_general: false }
}

pub(crate) const fn general(
    shown: &'static str,
    keys: &'static [KeyCode],
    action: Action,
    short: &'static str,
    words: &'static str,
) -> Binding {
    Binding { is_general: true, ..bind(shown, keys, action, short, words) }
}

/// The keys of places with a canvas.
pub(crate) const CANVAS: &[Binding] = &[
    bind("]", &[Char(']')], Action::NextLane, "next lane", "show the next lane of a run on several drives"),
    bind("↑↓ k j", &[Up, Char('k')], Action::PreviousBreak, "", "select the break before"),
    bind("↑↓ k j", &[Down, Char('j')], Action::NextBreak, "breaks", "select the next break"),
    bind("x", &[Char('x')], Action::TurnRuler, "ruler", "turn the ruler: bytes, time, address"),
    bind("←→ h l", &[Left, Char('h')], Action::CursorLeft, "", "move the cursor left"),
    bind("←→ h l", &[Right, Char('l')], Action::CursorRight, "cursor", "move the cursor right"),
    bind("H", &[Char('H')], Action::CursorFarLeft, "", "move the cursor ten cells left"),
    bind("L", &[Char('L')], Action::CursorFarRight, "", "move the cursor ten cells right"),
    bind("+ -", &[Char('+'), Char('=')], Action::ZoomIn, "zoom", "show less of the ruler, larger"),
    bind("+ -", &[Char('-')], Action::ZoomOut, "", "show more of the ruler"),
    bind("a", &[Char('a')], Action::ShowAll, "all", "show all of the ruler and hide the cursor"),
];

/// In each place that shows a run.
pub(crate) const REPORT: Binding =
    bind("r", &[Char('r')], Action::Report, "report", "write a report of this run as a PDF");

/// The keys of places with lines that are gone through.
pub(crate) const ROWS: &[Binding] = &[
    bind("↑ k", &[Up, Char('k')], Action::Up, "", "select the line above"),
    bind("↓ j", &[Down, Char('j')], Action::Down, "", "select the line below"),
    bind("home", &[Home], Action::First, "", "select the first line"),
    bind("end", &[End], Action::Last, "", "select the last line"),
];
