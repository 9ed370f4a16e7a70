//! The keys: what each means in a place and everywhere. What is here drives dispatch, the footer, the help, and the command line.

use super::places::{self, Place};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

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
    keys: &'static [KeyCode],
    pub(crate) action: Action,
    /// One or two words for the footer; empty where it is not shown there.
    pub(crate) short: &'static str,
    /// What it does, for the help and the command line.
    pub(crate) words: &'static str,
    /// Whether it means this in every place.
    pub(crate) is_general: bool,
}

use KeyCode::{BackTab, Char, Down, End, Esc, Home, Left, Right, Tab, Up};

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

const fn general(
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

/// The keys that mean the same everywhere.
const GENERAL: &[Binding] = &[
    general("tab", &[Tab], Action::NextPlace, "", "go to the next place"),
    general("shift-tab", &[BackTab], Action::PreviousPlace, "", "go to the place before"),
    general("esc", &[Esc], Action::Back, "", "go back"),
    general("y", &[Char('y')], Action::Copy, "", "copy what is selected to the clipboard"),
    general("T", &[Char('T')], Action::Theme, "", "change the theme: dark, light, high contrast"),
    general(":", &[Char(':')], Action::Commands, "commands", "find a command by typing part of its name"),
    general("?", &[Char('?')], Action::Help, "help", "list the keys of this place"),
    general("q", &[Char('q')], Action::Quit, "quit", "leave Hollow Mile"),
];

/// The digits that lead to places.
const DIGITS: [(&str, &[KeyCode]); 10] = [
    ("1", &[Char('1')]),
    ("2", &[Char('2')]),
    ("3", &[Char('3')]),
    ("4", &[Char('4')]),
    ("5", &[Char('5')]),
    ("6", &[Char('6')]),
    ("7", &[Char('7')]),
    ("8", &[Char('8')]),
    ("9", &[Char('9')]),
    ("0", &[Char('0')]),
];

/// All keys of a place: its own, the digits, and those for everywhere. The first that has a key counts.
pub(crate) fn of(place: Place) -> impl Iterator<Item = Binding> {
    let own = place.view().keys().iter().flat_map(|group| group.iter().copied());
    let ways = places::ALL
        .iter()
        .zip(DIGITS)
        .map(|(to, (shown, keys))| general(shown, keys, Action::Go(*to), "", to.view().way()));
    own.chain(ways).chain(GENERAL.iter().copied())
}

/// What a key means in a place.
pub(crate) fn action(place: Place, key: KeyEvent) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == Char('c')).then_some(Action::Quit);
    }
    of(place).find(|b| b.keys.contains(&key.code)).map(|b| b.action)
}

/// The actions whose words match what was typed, best first.
pub(crate) fn matching(place: Place, typed: &str) -> Vec<Binding> {
    use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
    let pattern = Pattern::parse(typed, CaseMatching::Ignore, Normalization::Smart);
    let mut matcher = nucleo_matcher::Matcher::new(nucleo_matcher::Config::DEFAULT);
    let mut found: Vec<(u32, Binding)> = of(place)
        .filter(|b| !matches!(b.action, Action::Commands))
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
        for place in places::ALL {
            let mut seen = Vec::new();
            for binding in of(*place) {
                for key in binding.keys {
                    assert!(!seen.contains(key), "{key:?} in {place:?}");
                    seen.push(*key);
                }
            }
        }
    }

    #[test]
    fn part_of_a_name_finds_its_command() {
        assert_eq!(matching(places::UNDERWAY, "skip")[0].action, Action::SkipLeg);
        assert_eq!(matching(places::LOGBOOK, "logb")[0].action, Action::Go(places::LOGBOOK));
        assert!(matching(places::BENCH, "pause the").is_empty(), "not here");
    }
}
