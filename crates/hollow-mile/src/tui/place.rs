//! The places by their names, in the order of the work. What each of them is stands in `places`.

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

/// All places; the first ten have a digit, the tenth of them 0.
pub(crate) const ALL: [Place; 10] =
    [BENCH, COURSE, UNDERWAY, FINDINGS, FILL, HEALTH, LOGBOOK, SURFACE, COMPARE, FLEET];

impl Place {
    pub(crate) fn name(self) -> &'static str {
        self.0
    }

    fn at(self) -> usize {
        ALL.iter().position(|p| *p == self).unwrap_or(0)
    }

    /// The digit that leads there.
    pub(crate) fn key(self) -> usize {
        (self.at() + 1) % 10
    }

    /// The place so many further on, from the last to the first.
    pub(crate) fn after(self, by: usize) -> Self {
        ALL[(self.at() + by) % ALL.len()]
    }
}
