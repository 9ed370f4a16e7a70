//! The form before a run.

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use mile_core::Celsius;
use mile_drive::Situation;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

/// A course that can be started from the bench.
#[derive(Clone, Debug)]
pub(crate) struct Choice {
    pub(crate) name: String,
    pub(crate) text: String,
    /// The names of its lanes; none where it is for one drive.
    pub(crate) lanes: Vec<String>,
}

/// A line of text. What stands in it before anything is typed gives way to the first letter; a key that moves or deletes keeps it.
#[derive(Clone, Default)]
pub(crate) struct Text {
    input: Input,
    typed: bool,
}

impl Text {
    /// A text that stands there beforehand.
    pub(crate) fn prefilled(text: impl Into<String>) -> Self {
        Self { input: Input::new(text.into()), typed: false }
    }

    pub(crate) fn value(&self) -> &str {
        self.input.value()
    }

    pub(crate) fn input(&self) -> &Input {
        &self.input
    }

    /// Whether what stands here was not typed.
    pub(crate) fn is_prefilled(&self) -> bool {
        !self.typed && !self.value().is_empty()
    }

    /// Puts a text there, unless something was typed or is known better.
    fn prefill(&mut self, text: Option<String>) {
        if let Some(text) = text.filter(|_| !self.typed && self.value().is_empty()) {
            *self = Self::prefilled(text);
        }
    }

    pub(crate) fn key(&mut self, key: KeyEvent) {
        let letter = matches!(key.code, KeyCode::Char(_))
            && !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT);
        if letter && self.is_prefilled() {
            self.input.reset();
        }
        self.typed = true;
        self.input.handle_event(&Event::Key(key));
    }
}

/// What is asked about how a drive is set up, in the order of the fields.
pub(crate) const SETUP: [&str; 6] = ["slot", "cooling", "ambient", "enclosure", "note", "claims"];

/// How a drive is set up, as it is typed: a text for each of [`SETUP`].
#[derive(Clone, Default)]
pub(crate) struct Setup {
    pub(crate) texts: [Text; 6],
    /// The run that it was taken from.
    pub(crate) from: Option<i64>,
}

impl Setup {
    /// Puts in what is known, wherever nothing was typed.
    pub(crate) fn prefill(&mut self, known: &Situation, claims: &str) {
        let ambient = known.ambient.map(|a| a.0.to_string());
        let all = [
            known.slot.clone(),
            known.cooling.clone(),
            ambient,
            known.enclosure.clone(),
            known.notes.clone(),
            Some(claims.to_owned()).filter(|c| !c.is_empty()),
        ];
        self.texts.iter_mut().zip(all).for_each(|(text, known)| text.prefill(known));
    }

    /// What is claimed of the drive, as it is typed.
    pub(crate) fn claims(&self) -> &str {
        self.texts[5].value().trim()
    }

    /// The conditions; an error where the ambient temperature is no number of degrees.
    pub(crate) fn situation(&self) -> Result<Situation, String> {
        let said = |i: usize| {
            let text = self.texts[i].value().trim();
            (!text.is_empty()).then(|| text.to_owned())
        };
        let ambient = said(2).map(|text| celsius(&text)).transpose()?;
        Ok(Situation { slot: said(0), cooling: said(1), ambient, enclosure: said(3), notes: said(4) })
    }
}

/// A temperature as it is typed, with or without its unit.
pub(crate) fn celsius(text: &str) -> Result<Celsius, String> {
    let number = text.trim().trim_end_matches("°C").trim_end_matches('C').trim();
    let value: Option<f64> = number.parse().ok().filter(|v: &f64| (-60.0..=150.0).contains(v));
    value
        .map(Celsius)
        .ok_or_else(|| format!("The ambient temperature is a number of °C, such as 24, and not {text:?}."))
}

/// A lane of a run that is to be started.
#[derive(Clone, Default)]
pub(crate) struct FormLane {
    /// Its name; empty where the course is for one drive.
    pub(crate) name: String,
    pub(crate) drive: String,
    /// What must be typed to arm the drive; `None` where nothing real is written.
    pub(crate) arming_word: Option<String>,
    pub(crate) arm: Text,
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
    Setup(usize),
    /// What is measured beside the drives.
    Instruments,
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
        if self.asks_setup() {
            all.extend((0..SETUP.len()).map(Field::Setup));
        }
        // The other side of a run has those of that run.
        all.extend(self.beside.is_none().then_some(Field::Instruments));
        // A course that is the only one need not be gone to.
        if self.choices.len() > 1 {
            all.insert(0, Field::Course);
        }
        all
    }

    /// The courses that have in their names what was typed: first those that begin with it, then those of which a word does.
    pub(crate) fn found(&self) -> Vec<usize> {
        let rank = |name: &str| {
            let (name, find) = (name.to_lowercase(), self.find.to_lowercase());
            let word = || name.split(' ').any(|word| word.starts_with(&find));
            if name.starts_with(&find) {
                Some(0)
            } else if word() {
                Some(1)
            } else {
                name.contains(&find).then_some(2)
            }
        };
        let ranked = self.choices.iter().enumerate().filter_map(|(i, c)| Some((rank(&c.name)?, i)));
        let mut all: Vec<(u8, usize)> = ranked.collect();
        all.sort_unstable();
        all.into_iter().map(|(_, i)| i).collect()
    }

    /// What is said behind the chosen course: which others have in their names what was typed.
    pub(crate) fn finding(&self) -> String {
        let find = &self.find;
        if find.is_empty() {
            let hint = self.field == Field::Course && self.choices.len() > 1;
            return if hint { "   type a part of its name to find one".into() } else { String::new() };
        }
        let found = self.found();
        if found.is_empty() {
            return format!("   no name has \"{find}\" in it");
        }
        let others = found.into_iter().filter(|i| *i != self.chosen).map(|i| self.choices[i].name.as_str());
        let others: Vec<&str> = others.collect();
        if others.is_empty() {
            format!("   \"{find}\"")
        } else {
            format!("   \"{find}\", also {}", others.join(", "))
        }
    }

    /// Puts in which instruments are likely, as long as none were typed: those of the simulated bench beside several simulated drives, else those of the
    /// last run.
    pub(crate) fn suggest_instruments(&mut self, of_bench: bool) {
        if !self.instruments.typed {
            let known = if of_bench { Some("bench") } else { self.known_instruments.as_deref() };
            self.instruments = Text::prefilled(known.unwrap_or_default());
        }
    }

    /// The instruments that are named: the file that says how they are asked, or `bench`.
    pub(crate) fn instruments(&self) -> Option<String> {
        match &self.beside {
            Some(beside) => beside.instruments.clone(),
            None => Some(self.instruments.value().trim().to_owned()).filter(|i| !i.is_empty()),
        }
    }

    /// Whether it asks how the drive is set up.
    pub(crate) fn asks_setup(&self) -> bool {
        self.lanes.len() < 2 && self.beside.is_none()
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
    /// What is claimed of its drive.
    pub(crate) claims: String,
    /// What was measured beside it.
    pub(crate) instruments: Option<String>,
}

/// What is asked before a run is started.
#[derive(Clone, Default)]
pub(crate) struct StartForm {
    /// The lanes, at least one; none where the run is on a file that is named in the form.
    pub(crate) lanes: Vec<FormLane>,
    pub(crate) choices: Vec<Choice>,
    pub(crate) chosen: usize,
    /// What was typed to find a course by its name.
    pub(crate) find: String,
    pub(crate) path: Text,
    pub(crate) size: Text,
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
    pub(crate) changed: Text,
    /// How the drive is set up; not asked of several drives, nor where what was changed is told.
    pub(crate) setup: Setup,
    /// What is measured beside the drives, and what that was in the last run.
    pub(crate) instruments: Text,
    pub(crate) known_instruments: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    fn typed(text: &mut Text, keys: &str) {
        keys.chars().for_each(|c| text.key(KeyCode::Char(c).into()));
    }

    /// What was typed stood behind what had been there.
    #[test]
    fn what_stands_there_gives_way_to_the_first_letter_and_stays_for_a_motion() {
        let mut path = Text::prefilled("./scratch.bin");
        typed(&mut path, "/a/b");
        assert_eq!(path.value(), "/a/b");
        let mut path = Text::prefilled("./scratch.bin");
        path.key(KeyCode::Left.into());
        typed(&mut path, "x");
        assert_eq!(path.value(), "./scratch.bixn");
        let mut path = Text::prefilled("4GB");
        path.key(KeyCode::Backspace.into());
        assert_eq!(path.value(), "4G");
    }

    #[test]
    fn what_the_drive_tells_goes_before_its_last_run_and_what_is_typed_before_both() {
        let mut setup = Setup::default();
        typed(&mut setup.texts[3], "a closed box");
        setup.prefill(&Situation { slot: Some("slot 2".into()), ..Situation::default() }, "");
        setup.prefill(
            &Situation {
                slot: Some("slot 9".into()),
                cooling: Some("finned".into()),
                ambient: Some(Celsius(23.5)),
                enclosure: Some("none".into()),
                notes: None,
            },
            "write 3000 MB/s",
        );
        assert_eq!(setup.claims(), "write 3000 MB/s");
        let said = setup.situation().unwrap();
        assert_eq!(said.line(), "slot 2, finned, 23.5 °C ambient, a closed box");
        setup.texts[2] = Text::prefilled("warm");
        assert!(setup.situation().unwrap_err().contains("number of °C"));
        for (text, value) in [("24", 24.0), (" 24 °C", 24.0), ("-3.5C", -3.5)] {
            assert_eq!(celsius(text).unwrap().0, value);
        }
        for text in ["", "NaN", "1e9", "inf", "24 F"] {
            assert!(celsius(text).is_err(), "{text}");
        }
    }
}
