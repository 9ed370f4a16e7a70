//! The form before a run.

use super::Choice;
use mile_drive::Situation;
use tui_input::Input;

/// A lane of a run that is to be started.
#[derive(Clone, Default)]
pub(crate) struct FormLane {
    /// Its name; empty where the course is for one drive.
    pub(crate) name: String,
    pub(crate) drive: String,
    /// What must be typed to arm the drive; `None` where nothing real is written.
    pub(crate) arming_word: Option<String>,
    pub(crate) arm: Input,
}

/// A field of the form before a run; those of lanes with their number.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Field {
    #[default]
    Course,
    Path,
    Size,
    Drive(usize),
    Arm(usize),
    Changed,
}

impl StartForm {
    /// The fields, in their order.
    pub(crate) fn fields(&self) -> Vec<Field> {
        let mut all = Vec::new();
        all.extend(self.beside.as_ref().map(|_| Field::Changed));
        if self.lanes.is_empty() {
            all.extend([Field::Path, Field::Size]);
        }
        for (i, lane) in self.lanes.iter().enumerate() {
            all.extend((self.lanes.len() > 1).then_some(Field::Drive(i)));
            all.extend(lane.arming_word.is_some().then_some(Field::Arm(i)));
        }
        // A course that is the only one need not be gone to.
        if self.choices.len() > 1 || all.is_empty() {
            all.insert(0, Field::Course);
        }
        all
    }

    /// Goes to another field, from the last to the first.
    pub(crate) fn step(&mut self, by: isize) {
        let all = self.fields();
        let at = all.iter().position(|f| *f == self.field).unwrap_or(0);
        let to = (at as isize + by).rem_euclid(all.len() as isize);
        self.field = all[to as usize];
    }
}

/// A run of the logbook that another is the other side of.
#[derive(Clone)]
pub(crate) struct Beside {
    pub(crate) run: i64,
    pub(crate) seed: u64,
    pub(crate) situation: Situation,
}

/// What is asked before a run is started.
#[derive(Clone, Default)]
pub(crate) struct StartForm {
    /// The lanes, at least one; none where the run is on a file that is named in the form.
    pub(crate) lanes: Vec<FormLane>,
    pub(crate) choices: Vec<Choice>,
    pub(crate) chosen: usize,
    pub(crate) path: Input,
    pub(crate) size: Input,
    /// The field that is typed into.
    pub(crate) field: Field,
    /// What speaks against the start, and is accepted with it.
    pub(crate) warnings: Vec<String>,
    /// What would happen, or why it cannot; `None` while that is looked at.
    pub(crate) outlook: Option<Result<Vec<String>, String>>,
    /// Which question that is the answer to.
    pub(crate) asked: u64,
    /// Whether the run is being started.
    pub(crate) starting: bool,
    /// The keys that came meanwhile.
    pub(crate) typed_ahead: Vec<crossterm::event::KeyEvent>,
    /// The run of the logbook that this one is the other side of, and what was changed since.
    pub(crate) beside: Option<Beside>,
    pub(crate) changed: Input,
}
