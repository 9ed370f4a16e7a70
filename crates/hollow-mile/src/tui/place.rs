//! The places by their names, in the order of the work. What each of them is stands in `places`.

use crossterm::event::KeyCode::{self, Char};

/// A place, known by its name in the header.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Place(&'static str);

pub(crate) const BENCH: Place = Place("bench");
pub(crate) const COURSE: Place = Place("course");
pub(crate) const UNDERWAY: Place = Place("underway");
pub(crate) const FINDINGS: Place = Place("findings");
pub(crate) const FILL: Place = Place("fill");
pub(crate) const HEALTH: Place = Place("health");
pub(crate) const LOGBOOK: Place = Place("logbook");
pub(crate) const SURFACE: Place = Place("surface");
pub(crate) const COMPARE: Place = Place("compare");
pub(crate) const FLEET: Place = Place("fleet");
pub(crate) const EVENTS: Place = Place("events");

/// All places; each has a key in [`KEYS`].
pub(crate) const ALL: [Place; 11] =
    [BENCH, COURSE, UNDERWAY, FINDINGS, FILL, HEALTH, LOGBOOK, SURFACE, COMPARE, FLEET, EVENTS];

/// The keys that lead to places, in their order: the digits, and capital letters behind them.
pub(crate) const KEYS: [(&str, &[KeyCode]); ALL.len()] = [
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
    ("E", &[Char('E')]),
];

impl Place {
    pub(crate) fn name(self) -> &'static str {
        self.0
    }

    fn at(self) -> usize {
        ALL.iter().position(|p| *p == self).unwrap_or(0)
    }

    /// The key that leads there.
    pub(crate) fn key(self) -> &'static str {
        KEYS[self.at()].0
    }

    /// The place so many further on, from the last to the first.
    pub(crate) fn after(self, by: usize) -> Self {
        ALL[(self.at() + by) % ALL.len()]
    }
}
