//! The keys: what each means in a place and everywhere. What is here drives dispatch, the footer, the help, and the command line.

use super::action::{Action, Binding, general};
use super::place::{self, Place};
use super::places::view;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use KeyCode::{BackTab, Char, Esc, Tab};

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

/// All keys of a place: its own, those that lead to places, and those for everywhere. The first that has a key counts.
pub(crate) fn of(place: Place) -> impl Iterator<Item = Binding> {
    let own = view(place).keys().iter().flat_map(|group| group.iter().copied());
    let ways = place::ALL
        .iter()
        .zip(place::KEYS)
        .map(|(to, (shown, keys))| general(shown, keys, Action::Go(*to), "", view(*to).way()));
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
        for place in &place::ALL {
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
        assert_eq!(matching(place::UNDERWAY, "skip")[0].action, Action::SkipLeg);
        assert_eq!(matching(place::LOGBOOK, "logb")[0].action, Action::Go(place::LOGBOOK));
        assert!(matching(place::BENCH, "pause the").is_empty(), "not here");
    }
}
