//! Sides held against each other: runs, groups of runs, or what is claimed, figure by figure.
//!
//! Each leg of each run of a side gives one value of each figure; repeats within a run count as repeats. What is said of a difference comes from a test of its own
//! for each figure ([`welch`]), corrected for the number of figures.

pub mod welch;

use crate::leg_name::LegName;
use crate::legs::{FigureName, LegRow, trend};
use crate::repeats::{Figure, GROUPED, Nested};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};

/// Corrected chance up to which a difference is established.
pub const LEVEL: f64 = 0.05;
/// Chance with which a difference is to be established when it is asked how many repeats that takes.
pub const POWER: f64 = 0.8;

/// A run as one member of a side.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Member {
    /// `run 4`, or the name of a file.
    pub name: String,
    /// Its legs.
    pub rows: Vec<LegRow>,
    /// When it began, seconds since 1970-01-01 UTC; `None` where that is not known.
    pub started: Option<i64>,
    /// What is known of its conditions: what it is, and its value.
    pub conditions: Vec<(&'static str, String)>,
}

/// A side of a comparison.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Side {
    /// As it was named.
    pub name: String,
    /// Its runs.
    pub members: Vec<Member>,
    /// What is claimed, where this side is no runs but the claims of others: a leg without its repeats, the figure, and its value.
    pub claimed: Vec<(String, FigureName, f64)>,
}

impl Side {
    /// Whether it is what is claimed.
    fn is_claims(&self) -> bool {
        !self.claimed.is_empty()
    }
}

/// What to hold against each other, and how.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Terms {
    /// Ambient temperature at which temperatures are given, °C.
    pub reference_ambient: f64,
    /// A difference for which it is to be said how many repeats show it, percent of a; of temperatures, K.
    pub detect: Option<f64>,
}

impl Default for Terms {
    fn default() -> Self {
        Self { reference_ambient: 25.0, detect: None }
    }
}

/// A comparison. The format is described in docs/formats.md.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Comparison {
    /// `hollow-mile/comparison`.
    pub format: String,
    /// Its version.
    pub version: u32,
    /// The sides.
    pub sides: Vec<SideSaid>,
    /// Ambient temperature at which temperatures are given, °C.
    pub reference_ambient_c: f64,
    /// What differs between the sides beside what was measured.
    pub differs: Vec<Differs>,
    /// The figures that the sides share.
    pub figures: Vec<Compared>,
    /// What has to be known to read it.
    pub notes: Vec<String>,
}

/// A side by its name.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SideSaid {
    /// As it was named.
    pub name: String,
    /// Its runs.
    pub runs: Vec<String>,
}

/// A condition that is not the same on all sides.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Differs {
    /// Which.
    pub what: String,
    /// Its values on each side, in the order of the sides.
    pub values: Vec<String>,
}

/// How values were put side by side.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Design {
    /// Each side by itself.
    Independent,
    /// In pairs, as the runs of the sides took turns.
    Paired,
    /// Against what is claimed, which has no repeats and no error.
    Claimed,
}

/// Why nothing can be said of a difference.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WhyNot {
    /// There are fewer than three values on a side.
    TooFew,
    /// The values of each side are alike to their last digit: they are no independent repeats.
    Alike,
    /// The repeats of a side go one way, so that their mean is the mean of nothing.
    Trend,
}

impl WhyNot {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::TooFew => "fewer than 3 values on a side",
            Self::Alike => {
                "the values of each side are alike to their last digit: they are no independent repeats"
            }
            Self::Trend => "the repeats of a side go one way, so that their mean is the mean of nothing",
        }
    }
}

impl Comparison {
    /// Figures whose difference was tested, by which chances are corrected; and how many of these differences are established.
    pub fn tested(&self) -> (usize, usize) {
        let rates = with_rate(&self.figures);
        let tested = || self.figures.iter().filter(|f| is_tested(f, &rates));
        (tested().count(), tested().filter(|f| f.established).count())
    }

    /// How many differences are established, as a sentence without its full stop.
    pub fn answer(&self) -> String {
        match self.tested() {
            (0, _) => "There are too few repeats to test a difference".into(),
            (said, established) => {
                format!("{established} of {said} differences that can be tested are established")
            }
        }
    }

    /// Why nothing can be said of some figures: each reason once.
    pub fn reasons(&self) -> Vec<WhyNot> {
        let mut all: Vec<WhyNot> = self.figures.iter().filter_map(|f| f.why_not).collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}

/// The legs, each with the place of its other side, of which the rate was tested.
fn with_rate(figures: &[Compared]) -> HashSet<(String, usize)> {
    let rates = figures.iter().filter(|f| f.name.figure == "rate" && f.p.is_some());
    rates.map(|f| (f.leg.clone(), f.b_side)).collect()
}

/// Whether operations a second say the same as a rate that was tested, and count with it.
fn same_as_rate(figure: &Compared, rates: &HashSet<(String, usize)>) -> bool {
    figure.name.figure == "operations" && rates.contains(&(figure.leg.clone(), figure.b_side))
}

/// Whether its difference is one of those that chances are corrected for.
fn is_tested(figure: &Compared, rates: &HashSet<(String, usize)>) -> bool {
    figure.p.is_some() && !same_as_rate(figure, rates)
}

/// A figure of a leg on two sides.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Compared {
    /// The leg, without its repeats.
    pub leg: String,
    /// The figure.
    #[serde(flatten)]
    pub name: FigureName,
    /// Place of the side that is `a` in the list of sides.
    pub a_side: usize,
    /// Place of the side that is `b`.
    pub b_side: usize,
    /// The first side.
    pub a: Figure,
    /// The other.
    pub b: Figure,
    /// b less a.
    pub difference: f64,
    /// Lower end of its interval (95 %); `None` where nothing can be said.
    pub difference_low: Option<f64>,
    /// Upper end.
    pub difference_high: Option<f64>,
    /// The difference as a share of a, percent; `None` for temperatures.
    pub percent: Option<f64>,
    /// Lower end of its interval (95 %).
    pub percent_low: Option<f64>,
    /// Upper end.
    pub percent_high: Option<f64>,
    /// How the values were put side by side.
    pub design: Design,
    /// Chance of a difference at least as large if there is none.
    pub p: Option<f64>,
    /// The same, corrected for the number of figures.
    pub p_corrected: Option<f64>,
    /// Whether there is a difference, as far as such values can show it.
    pub established: bool,
    /// Repeats on each side that would establish a difference of the size that was asked for with a chance of 80 %.
    pub repeats_needed: Option<usize>,
    /// Why nothing is established, where it is not the values that say so.
    pub why_not: Option<WhyNot>,
}

/// Values of one figure of one leg on a side, in the order of time.
type Values = HashMap<(String, FigureName), Nested>;

/// Holds sides against the first of them. `None` where no figure is on two sides.
pub fn compare(sides: &[Side], terms: &Terms) -> Option<Comparison> {
    let (first, others) = sides.split_first()?;
    let known: Vec<(Values, Vec<(String, FigureName)>)> = sides.iter().map(|s| values(s, terms)).collect();
    let (mut figures, mut deviations, mut grouped) = (Vec::new(), Vec::new(), false);
    for (place, other) in others.iter().enumerate() {
        let design = match (first.is_claims(), other.is_claims()) {
            (true, true) => continue,
            (false, false) if !take_turns(first, other) => Design::Independent,
            (false, false) => Design::Paired,
            _ => Design::Claimed,
        };
        let (a, order) = &known[0];
        let b = &known[place + 1].0;
        for key in order {
            let Some((all_a, all_b)) = a.get(key).zip(b.get(key)) else { continue };
            // A pair is of two runs, whatever was repeated within them.
            let of =
                |all: &Nested| if design == Design::Paired { all.of_groups() } else { all.independent() };
            let (a, b) = (&of(all_a), &of(all_b));
            grouped |= a.len() < all_a.count() || b.len() < all_b.count();
            if let Some((figure, of_it)) =
                compared(key, (0, a), (place + 1, b), (design, first.is_claims()), terms)
            {
                figures.push(figure);
                deviations.push(of_it);
            }
        }
    }
    if figures.is_empty() {
        return None;
    }
    correct(&mut figures, &deviations);
    let differs = differs(sides);
    let mut notes = Vec::new();
    if differs.len() > 1 {
        notes.push(format!(
            "{} conditions differ between the sides: what the figures show may come from any of them.",
            differs.len()
        ));
    }
    if grouped {
        notes.push(GROUPED.into());
    }
    if sides.iter().any(Side::is_claims) {
        notes.push("A claim is held only against legs that ran under its conditions. It is one value: its side has no repeats and no interval.".into());
    }
    if figures.iter().all(|f| f.p.is_none()) {
        notes.push(format!("Nothing is established with fewer than {} values on a side.", welch::ENOUGH));
    }
    let warm =
        |s: &Side| s.members.iter().flat_map(|m| &m.rows).any(|r| r.max_c.is_some() && r.ambient_c.is_none());
    if sides.iter().any(warm) {
        notes.push(
            "The ambient temperature was not logged on every side: temperatures of those legs are as they were read, and not given at the reference."
                .into(),
        );
    }
    Some(Comparison {
        format: "hollow-mile/comparison".into(),
        version: 1,
        sides: sides
            .iter()
            .map(|s| SideSaid {
                name: s.name.clone(),
                runs: s.members.iter().map(|m| m.name.clone()).collect(),
            })
            .collect(),
        reference_ambient_c: terms.reference_ambient,
        differs,
        figures,
        notes,
    })
}

/// The values of a side, and their keys in the order in which they come first.
fn values(side: &Side, terms: &Terms) -> (Values, Vec<(String, FigureName)>) {
    let mut members: Vec<&Member> = side.members.iter().collect();
    members.sort_by_key(|m| m.started);
    let (mut all, mut order) = (Values::new(), Vec::new());
    for (leg, name, value) in &side.claimed {
        let key = (leg.clone(), name.clone());
        order.push(key.clone());
        all.entry(key).or_default().push(Vec::new(), *value);
    }
    for (run, row) in members.iter().enumerate().flat_map(|(i, m)| m.rows.iter().map(move |r| (i, r))) {
        let leg = row.shared_name();
        let from = [vec![run as u32], LegName::read(&row.leg).repeats].concat();
        for (name, value) in row.figures(Some(terms.reference_ambient)) {
            let key = (leg.clone(), name);
            all.entry(key.clone())
                .or_insert_with(|| {
                    order.push(key);
                    Nested::default()
                })
                .push(from.clone(), value);
        }
    }
    (all, order)
}

/// Whether the runs of two sides took turns: as many on each, one of each in every pair, whichever of the two came first.
fn take_turns(a: &Side, b: &Side) -> bool {
    let times = |side: &Side, which: bool| -> Option<Vec<(i64, bool)>> {
        side.members.iter().map(|m| Some((m.started?, which))).collect()
    };
    let (Some(mut all), Some(more)) = (times(a, false), times(b, true)) else { return false };
    if all.len() != more.len() || all.len() < welch::ENOUGH {
        return false;
    }
    all.extend(more);
    all.sort_unstable();
    let apart = all.windows(2).all(|w| w[0].0 < w[1].0);
    apart && all.chunks(2).all(|pair| pair[0].1 != pair[1].1)
}

/// The step in which values of a figure come, 0 where they come in none: temperatures are read in whole degrees.
fn unit(name: &FigureName, values: impl Iterator<Item = f64>) -> f64 {
    let mut values = values.peekable();
    let some = values.peek().copied().unwrap_or(0.0);
    let is_peak = name.unit == "°C" && name.figure == "peak temperature";
    // Given at a reference, they are still whole degrees apart.
    if is_peak && values.all(|v| ((v - some) - (v - some).round()).abs() < 1e-6) { 1.0 } else { 0.0 }
}

/// The figure on two sides, not yet corrected for the number of figures; and the size of difference that is asked for, in standard deviations.
fn compared(
    (leg, name): &(String, FigureName),
    (a_side, a): (usize, &[f64]),
    (b_side, b): (usize, &[f64]),
    (design, a_is_claimed): (Design, bool),
    terms: &Terms,
) -> Option<(Compared, Option<f64>)> {
    let of = |values| Figure::of(values).map(|f| if name.is_amount() { f.of_amount() } else { f });
    let (mut fa, mut fb) = (of(a)?, of(b)?);
    let step = unit(name, a.iter().chain(b).copied());
    let design = if design == Design::Paired && a.len() != b.len() { Design::Independent } else { design };
    let is_paired = design != Design::Independent;
    // A claim is one value, and no repeat.
    let claimed = |f: Figure| Figure { n: 0, sd: None, ..f };
    let (found, repeats) = match (design, a_is_claimed) {
        (Design::Paired, _) => (welch::paired(a, b, step)?, a.len()),
        (Design::Independent, _) => (welch::independent(a, b, step)?, a.len().min(b.len())),
        (Design::Claimed, true) => {
            fa = claimed(fa);
            (welch::against(fa.mean, b, step)?, b.len())
        }
        (Design::Claimed, false) => {
            fb = claimed(fb);
            let other_way = welch::against(fb.mean, a, step)?;
            (welch::Difference { value: -other_way.value, ..other_way }, a.len())
        }
    };
    let of_a = (name.unit != "°C" && fa.mean != 0.0).then_some(100.0 / fa.mean.abs());
    // Of the share: the error of a counts as well (the delta method).
    let half_pct = of_a.zip(found.half).map(|(scale, half)| {
        let error = |f: &Figure| f.sd.unwrap_or(0.0) / (f.n.max(1) as f64).sqrt();
        let (ea, eb) = (error(&fa), error(&fb));
        let plain = ea.hypot(eb);
        let shared = if is_paired || plain <= 0.0 { 1.0 } else { eb.hypot(ea * fb.mean / fa.mean) / plain };
        half * scale * shared
    });
    let percent = of_a.map(|scale| found.value * scale);
    let enough = repeats >= welch::ENOUGH;
    let drifts = design != Design::Paired && [a, b].into_iter().any(|v| trend(v).is_some());
    let why_not = match found.p {
        _ if !enough => Some(WhyNot::TooFew),
        None => Some(WhyNot::Alike),
        Some(_) => drifts.then_some(WhyNot::Trend),
    };
    let asked = terms.detect.map(|d| if name.unit == "°C" { d } else { fa.mean.abs() * d / 100.0 });
    // The deviation of both sides together.
    let together = fa.sd.zip(fb.sd).filter(|_| enough).map(|(a, b)| ((a * a + b * b) / 2.0).sqrt());
    let deviations = asked.zip(together).filter(|(_, sd)| *sd > 0.0).map(|(asked, sd)| asked / sd);
    let figure = Compared {
        leg: leg.clone(),
        name: name.clone(),
        a_side,
        b_side,
        a: fa,
        b: fb,
        difference: found.value,
        difference_low: found.half.map(|h| found.value - h),
        difference_high: found.half.map(|h| found.value + h),
        percent,
        percent_low: percent.zip(half_pct).map(|(p, h)| p - h),
        percent_high: percent.zip(half_pct).map(|(p, h)| p + h),
        design,
        p: found.p,
        p_corrected: None,
        established: false,
        repeats_needed: None,
        why_not,
    };
    Some((figure, deviations))
}

/// Corrects for the number of figures.
fn correct(figures: &mut [Compared], deviations: &[Option<f64>]) {
    let rates = with_rate(figures);
    let tested: Vec<usize> = (0..figures.len()).filter(|i| is_tested(&figures[*i], &rates)).collect();
    let chances: Vec<f64> = tested.iter().filter_map(|i| figures[*i].p).collect();
    let corrected = welch::holm(&chances);
    let mut of_rate = HashMap::new();
    for (i, p) in tested.iter().zip(&corrected) {
        let figure = &mut figures[*i];
        figure.p_corrected = Some(*p);
        if figure.name.figure == "rate" {
            of_rate.insert((figure.leg.clone(), figure.b_side), *p);
        }
    }
    for figure in figures.iter_mut().filter(|f| same_as_rate(f, &rates)) {
        figure.p_corrected =
            figure.p.and_then(|_| of_rate.get(&(figure.leg.clone(), figure.b_side)).copied());
    }
    // The first of so many is established at this level, and it is not known which will be first.
    let level = LEVEL / tested.len().max(1) as f64;
    for (figure, deviations) in figures.iter_mut().zip(deviations) {
        figure.repeats_needed = deviations.and_then(|d| welch::needed(d, level, POWER));
        figure.established = figure.why_not.is_none() && figure.p_corrected.is_some_and(|p| p <= LEVEL);
    }
}

/// The conditions that are not the same on all sides.
fn differs(sides: &[Side]) -> Vec<Differs> {
    let mut names: Vec<&'static str> = Vec::new();
    for (name, _) in sides.iter().flat_map(|s| &s.members).flat_map(|m| &m.conditions) {
        if !names.contains(name) {
            names.push(name);
        }
    }
    let on = |side: &Side, name: &str| {
        let mut all: Vec<&str> = Vec::new();
        for member in &side.members {
            let known = member.conditions.iter().find(|c| c.0 == name).map_or("", |c| c.1.as_str());
            if !all.contains(&known) {
                all.push(known);
            }
        }
        // Nobody has to write notes.
        let none = if name == "notes" { "none" } else { "not known" };
        let said = |v: &str| if v.is_empty() { none.to_owned() } else { v.to_owned() };
        all.sort_unstable();
        all.into_iter().map(said).collect::<Vec<_>>().join(", ")
    };
    let all = names.into_iter().map(|name| {
        let values: Vec<String> =
            sides.iter().map(|s| if s.is_claims() { "–".into() } else { on(s, name) }).collect();
        Differs { what: name.to_owned(), values }
    });
    let known = |d: &Differs| {
        let mut known = d.values.iter().zip(sides).filter(|(_, s)| !s.is_claims()).map(|v| v.0);
        let first = known.next();
        known.any(|v| Some(v) != first)
    };
    all.filter(known).collect()
}
