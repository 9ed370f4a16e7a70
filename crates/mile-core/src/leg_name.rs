//! How the legs of a sweep are named, so that each can be addressed and a sweep be told from its names alone:
//! `fill 50 % / burst / repeat 2`.
//!
//! Names are all that a trace from elsewhere carries, so that what a sweep shows is read from them and not from the course.

use crate::units::size_unit;
use std::fmt;

/// The name of a leg, taken apart.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct LegName {
    /// What stands before the leg's own name, outermost first: the value of a sweep (`fill 50 %`) or the name of a battery.
    pub steps: Vec<String>,
    /// The leg's own name.
    pub base: String,
    /// The number of each repeat, outermost first, from 1.
    pub repeats: Vec<u32>,
}

/// What parts the steps of a name.
pub const BETWEEN: &str = " / ";

impl LegName {
    /// Takes a name apart. A name without steps is its own base.
    pub fn read(name: &str) -> Self {
        let mut steps: Vec<String> = name.split(BETWEEN).map(str::to_owned).collect();
        let mut repeats = Vec::new();
        while steps.len() > 1 {
            let number = steps.last().and_then(|s| s.strip_prefix("repeat ")).and_then(|n| n.parse().ok());
            let Some(number) = number else { break };
            repeats.insert(0, number);
            steps.pop();
        }
        let base = steps.pop().unwrap_or_default();
        Self { steps, base, repeats }
    }

    /// The value of a sweep as it stands in the name: `50 %` for `fill`.
    pub fn step(&self, sweep: &str) -> Option<&str> {
        self.steps.iter().find_map(|s| s.strip_prefix(sweep)?.strip_prefix(' '))
    }

    /// The value of a sweep as a number: a share from 0 to 1 for `50 %`, bytes for `4 KiB`, the number itself where there is no unit.
    pub fn value(&self, sweep: &str) -> Option<f64> {
        let mut words = self.step(sweep)?.split(' ');
        let number: f64 = words.next()?.parse().ok()?;
        match words.next() {
            None => Some(number),
            Some("%") => Some(number / 100.0),
            Some(unit) => size_unit(unit).map(|u| number * u as f64),
        }
    }

    /// The name in so many characters: whole where it fits; else without what says over what a sweep goes, then without the steps around it. What
    /// still does not fit ends with `…`.
    pub fn within(&self, width: usize) -> String {
        let repeats: String = self.repeats.iter().map(|n| format!(" {n}")).collect();
        let value = |s: &String| s.split_once(' ').map_or(s.clone(), |(_, value)| value.to_owned());
        let values: String = self.steps.iter().map(|s| value(s) + " ").collect();
        let (base, fits) = (&self.base, |t: &String| t.chars().count() <= width);
        let forms = [self.to_string(), format!("{values}{base}{repeats}"), format!("{base}{repeats}")];
        let shortest = forms[2].clone();
        forms.into_iter().find(fits).unwrap_or_else(|| {
            shortest.chars().take(width.saturating_sub(1)).chain((width > 0).then_some('…')).collect()
        })
    }

    /// The name without its repeats, which all repeats of a leg share.
    pub fn without_repeats(&self) -> String {
        Self { repeats: Vec::new(), ..self.clone() }.to_string()
    }
}

impl fmt::Display for LegName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for step in &self.steps {
            write!(f, "{step}{BETWEEN}")?;
        }
        f.write_str(&self.base)?;
        self.repeats.iter().try_for_each(|n| write!(f, "{BETWEEN}repeat {n}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_taken_apart_and_put_together() {
        let name = LegName::read("fill 50 % / blocks 4 KiB / burst / repeat 2");
        assert_eq!((name.base.as_str(), name.repeats.as_slice()), ("burst", [2].as_slice()));
        assert_eq!((name.value("fill"), name.value("blocks")), (Some(0.5), Some(4096.0)));
        assert_eq!(name.value("depth"), None);
        assert_eq!(name.to_string(), "fill 50 % / blocks 4 KiB / burst / repeat 2");
        assert_eq!(name.without_repeats(), "fill 50 % / blocks 4 KiB / burst");
        let within = |width| name.within(width);
        assert_eq!(within(44), name.to_string());
        assert_eq!(within(20), "50 % 4 KiB burst 2");
        assert_eq!(within(12), "burst 2");
        assert_eq!(within(5), "burs…");
        assert_eq!(within(0), "");
        assert_eq!(LegName::read("repeat 3").base, "repeat 3");
        assert_eq!(LegName::read("soak").to_string(), "soak");
    }
}
