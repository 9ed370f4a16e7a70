//! The places of the archive: its runs, groups of them against each other, and all drives of a model.

use mile_core::compare::Comparison;
use mile_logbook::Entry;
use tui_input::Input;

/// A model of the logbook, by its place in the list, and a course; without one, the course with the most drives.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct OfFleet {
    pub(crate) model: usize,
    pub(crate) course: Option<String>,
}

/// All drives of a model.
#[derive(Default)]
pub(crate) struct FleetPlace {
    /// The models of the logbook.
    pub(crate) models: Vec<mile_logbook::Model>,
    /// What is shown, or was asked for last: an answer to anything else comes too late.
    pub(crate) of: OfFleet,
    pub(crate) shown: Option<mile_core::fleet::Fleet>,
    /// Whether it is being read, or is there.
    pub(crate) asked: bool,
    /// Whether the reading was given up.
    pub(crate) given_up: bool,
    /// The drive, in the order of the table.
    pub(crate) selected: usize,
}

/// The place of the archive.
#[derive(Default)]
pub(crate) struct LogbookPlace {
    pub(crate) entries: Vec<Entry>,
    /// Whether they were read.
    pub(crate) listed: bool,
    /// What the set-ups of all of them say alike, which tells none from another.
    pub(crate) alike: Vec<String>,
    pub(crate) selected: usize,
    pub(crate) filter: Input,
    pub(crate) filtering: bool,
    /// The runs that are marked for either side of a comparison.
    pub(crate) sides: [Vec<i64>; 2],
    /// A run underway, by its number in this terminal, that is the other side of one of the logbook.
    pub(crate) other_side: Option<(u64, i64)>,
}

impl LogbookPlace {
    /// Takes in the list of runs.
    pub(crate) fn take_in(&mut self, entries: Vec<Entry>) {
        let in_all = |part: &&str| entries[1..].iter().all(|e| e.situation.split(", ").any(|p| p == *part));
        self.alike = match entries.first().filter(|_| entries.len() > 1) {
            Some(first) => first.situation.split(", ").filter(in_all).map(str::to_owned).collect(),
            None => Vec::new(),
        };
        (self.entries, self.listed) = (entries, true);
        self.selected = self.selected.min(self.visible().len().saturating_sub(1));
    }

    /// Marks a run that has ended as side B of the one that it was started beside, and gives that one.
    pub(crate) fn put_beside(&mut self, id: u64, run: i64) -> Option<i64> {
        let (_, first) = self.other_side.take_if(|(underway, _)| *underway == id)?;
        if !self.sides[0].contains(&first) {
            self.sides = [vec![first], Vec::new()];
        }
        self.sides[1].push(run);
        Some(first)
    }
}

/// The place of comparisons.
#[derive(Default)]
pub(crate) struct ComparePlace {
    pub(crate) found: Option<Result<Box<Comparison>, String>>,
    /// The legs of its sides, on each ruler that shows something of them.
    pub(crate) walks: Vec<Vec<mile_figures::LegWalks>>,
    /// Which of these rulers it is, whether it is wanted where the figures take up all rows, and whether it was drawn.
    pub(crate) ruler: usize,
    pub(crate) wants_rates: bool,
    pub(crate) shows_rates: bool,
    /// The sides that it is of.
    pub(crate) of: [Vec<i64>; 2],
    /// The sides that are being compared.
    pub(crate) asked: Option<[Vec<i64>; 2]>,
    pub(crate) scroll: usize,
}

impl LogbookPlace {
    /// The runs that match the filter: each of its words is somewhere in the line.
    pub(crate) fn visible(&self) -> Vec<&Entry> {
        let words: Vec<String> = self.filter.value().split_whitespace().map(str::to_lowercase).collect();
        let line = |e: &Entry| {
            let breaks = e.digest.as_ref().map_or(String::new(), |d| d.breaks.join(" "));
            format!(
                "{} {} {} {} {} {} {} {} {breaks}",
                e.run,
                crate::figure::when(e.started),
                e.tags.join(" "),
                e.course,
                e.model,
                e.drive,
                e.situation,
                e.status.words()
            )
            .to_lowercase()
        };
        self.entries.iter().filter(|e| words.iter().all(|w| line(e).contains(w.as_str()))).collect()
    }
}
