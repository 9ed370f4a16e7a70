//! The drives at hand, and what is known of them.

use mile_bench::bench::Card;
use mile_core::Bytes;
use mile_logbook::{Digest, Entry};
use std::collections::{HashMap, VecDeque};

/// The place of the drives at hand.
#[derive(Default)]
pub(crate) struct BenchPlace {
    pub(crate) cards: Vec<Card>,
    /// The last line, behind the cards, is the file target.
    pub(crate) selected: usize,
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

    /// The drives as they are put on lanes: from the selected one on, and from the first again behind the last. Those that may not be written to and
    /// those of another kind come last, as simulated and real drives do not go together.
    pub(crate) fn for_lanes(&self) -> Vec<&Card> {
        let (before, behind) = self.cards.split_at(self.selected.min(self.cards.len()));
        let mut all: Vec<&Card> = behind.iter().chain(before).collect();
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
