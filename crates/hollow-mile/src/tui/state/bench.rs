//! The drives at hand, and what is known of them.

use mile_bench::bench::Card;
use mile_core::Bytes;
use mile_logbook::{Digest, Entry};
use std::collections::{HashMap, VecDeque};

/// By what the drives of the bench are put together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Grouping {
    #[default]
    None,
    /// How they are attached: NVMe, SATA, USB, disk.
    Kind,
    Model,
    /// Where they are: the first part of what is stated as their slot.
    Place,
}

impl Grouping {
    const ALL: [Self; 4] = [Self::None, Self::Kind, Self::Model, Self::Place];

    /// Its name, also where the screen is remembered.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Kind => "kind",
            Self::Model => "model",
            Self::Place => "place",
        }
    }

    /// The grouping of a name.
    pub(crate) fn of_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|g| g.word() == word)
    }

    pub(crate) fn after(self) -> Self {
        let at = Self::ALL.iter().position(|g| *g == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }

    /// The group that a drive belongs to.
    fn of(self, card: &Card) -> Option<String> {
        let first = |text: &str| text.split(',').next().unwrap_or_default().trim().to_owned();
        let place = || card.situation.enclosure.as_deref().or(card.situation.slot.as_deref()).map(first);
        match self {
            Self::None => None,
            Self::Kind => Some(first(&card.identity.kind)),
            Self::Model => Some(card.identity.model.clone()),
            Self::Place => Some(place().unwrap_or_else(|| "place not described".into())),
        }
    }
}

/// Drives that belong together: how the group is named, and where its drives are in the list.
pub(crate) struct Group {
    pub(crate) name: Option<String>,
    pub(crate) cards: Vec<usize>,
}

/// The place of the drives at hand.
#[derive(Default)]
pub(crate) struct BenchPlace {
    pub(crate) cards: Vec<Card>,
    /// The last line, behind the cards, is the file target.
    pub(crate) selected: usize,
    pub(crate) grouping: Grouping,
    /// Whether a person has chosen a line; until then the first is selected.
    pub(crate) chosen: bool,
    /// Temperatures of the last minutes, by the drive's name.
    pub(crate) heat: HashMap<String, VecDeque<f32>>,
    /// What the runs of the logbook show of each drive, by its name.
    pub(crate) known: HashMap<String, String>,
    /// What changed in the health of each since the look before, by its name.
    pub(crate) news: HashMap<String, String>,
}

/// What the runs of the logbook show of a drive: its write cache, how hot it became, and how many runs that is from.
fn known(of: &[&Digest]) -> Option<String> {
    let range = |all: &mut dyn Iterator<Item = f64>| {
        all.fold(None, |r: Option<(f64, f64)>, v| Some(r.map_or((v, v), |(a, b)| (a.min(v), b.max(v)))))
    };
    let cache = range(&mut of.iter().filter_map(|d| d.cache_bytes).map(|b| b as f64));
    let cache = cache.map(|(low, high)| {
        let (low, high) = (Bytes(low as u64).to_string(), Bytes(high as u64).to_string());
        let to = if low == high { low } else { format!("{low} to {high}") };
        format!("write cache {to}")
    });
    let heat = range(&mut of.iter().filter_map(|d| d.max_c)).map(|(_, max)| format!("up to {max:.0} °C"));
    let throttled =
        of.iter().filter(|d| d.breaks.iter().any(|b| b == mile_core::Cause::ThermalThrottle.words())).count();
    let from = if of.len() == 1 { "one run".to_owned() } else { format!("{} runs", of.len()) };
    let told: Vec<String> = [cache, heat].into_iter().flatten().collect();
    let heat = if throttled > 0 {
        format!("; throttled in {throttled} of {from}")
    } else {
        format!(", from {from}")
    };
    (!told.is_empty()).then(|| told.join("; ") + &heat)
}

/// Temperatures that are kept for a card.
const HEAT: usize = 24;

impl BenchPlace {
    /// Takes in the list of runs.
    pub(crate) fn take_in(&mut self, entries: &[Entry]) {
        let mut of: HashMap<&str, Vec<&Digest>> = HashMap::new();
        for entry in entries {
            of.entry(&entry.drive).or_default().extend(&entry.digest);
        }
        self.known =
            of.into_iter().filter_map(|(drive, all)| Some((drive.to_owned(), known(&all)?))).collect();
    }

    /// The groups, in the order in which a drive of each is first in the list.
    pub(crate) fn groups(&self) -> Vec<Group> {
        let mut all: Vec<Group> = Vec::new();
        for (i, card) in self.cards.iter().enumerate() {
            let name = self.grouping.of(card);
            match all.iter_mut().find(|g| g.name == name) {
                Some(group) => group.cards.push(i),
                None => all.push(Group { name, cards: vec![i] }),
            }
        }
        all
    }

    /// The lines as they stand below each other: the drives group by group, and the file.
    pub(crate) fn order(&self) -> Vec<usize> {
        self.groups().into_iter().flat_map(|g| g.cards).chain([self.cards.len()]).collect()
    }

    /// Selects the line that is `by` lines further on.
    pub(crate) fn step(&mut self, by: isize) {
        let order = self.order();
        let at = order.iter().position(|i| *i == self.selected).unwrap_or(0);
        self.selected = order[crate::tui::lines::step(at, by, order.len())];
        self.chosen = true;
    }

    /// The drives as they are put on lanes: from the selected one on, and from the first again behind the last. Those that may not be written to and
    /// those of another kind come last, as simulated and real drives do not go together.
    pub(crate) fn for_lanes(&self) -> Vec<&Card> {
        let order = self.order();
        let (before, behind) = order.split_at(order.iter().position(|i| *i == self.selected).unwrap_or(0));
        let mut all: Vec<&Card> = behind.iter().chain(before).filter_map(|i| self.cards.get(*i)).collect();
        let simulated = all.iter().find(|c| c.objections.is_empty()).is_some_and(|c| c.identity.simulated);
        all.sort_by_key(|c| !c.objections.is_empty() || c.identity.simulated != simulated);
        all
    }

    pub(crate) fn lines(&self) -> usize {
        self.cards.len() + 1
    }

    /// Takes in the real drives as they are now. What a person has selected stays selected.
    pub(crate) fn set_real(&mut self, real: Vec<Card>, simulated_first: bool) {
        let name = |cards: &[Card], i: usize| cards.get(i).map(|c: &Card| c.identity.name.clone());
        let (selected, was_file) = (name(&self.cards, self.selected), self.selected >= self.cards.len());
        for card in &real {
            if let Some(t) = card.health.as_ref().and_then(|h| h.temperature) {
                let heat = self.heat.entry(card.identity.name.clone()).or_default();
                heat.push_back(t.0 as f32);
                if heat.len() > HEAT {
                    heat.pop_front();
                }
            }
        }
        let simulated: Vec<Card> = self.cards.drain(..).filter(|c| c.identity.simulated).collect();
        self.cards = if simulated_first {
            simulated.into_iter().chain(real).collect()
        } else {
            real.into_iter().chain(simulated).collect()
        };
        let at = self.cards.iter().position(|c| Some(&c.identity.name) == selected.as_ref());
        self.selected = match at {
            _ if !self.chosen => 0,
            Some(at) => at,
            None if was_file => self.cards.len(),
            None => self.selected.min(self.cards.len()),
        };
    }
}
