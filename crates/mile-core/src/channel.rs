//! Channels: named series of readings with time stamps of their own, beside what the I/O of a drive did.

use crate::units::Nanos;
use serde::{Deserialize, Serialize};

/// A named series of readings.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Channel {
    /// Its name: `probe`.
    pub name: String,
    /// Its unit: `°C`; empty where it has none.
    pub unit: String,
    /// The lane that it is of; `None` where it is of the whole run.
    #[serde(default)]
    pub of: Option<u32>,
    /// Where its readings come from.
    pub source: Source,
    /// The texts that its readings stand for, by their places; empty where its readings are numbers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
}

/// Where readings come from.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Source {
    /// The drive, or the simulated bench that it stands on.
    #[default]
    Drive,
    /// A bench instrument, by its name.
    Instrument(String),
    /// A column of a file.
    File,
    /// The program itself, which knows what it does.
    Runner,
}

/// One reading. A missing one is no reading.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Reading {
    /// When it was taken, since the start of the run.
    pub at: Nanos,
    /// Its value, in the channel's unit.
    pub value: f64,
}

/// Name of the channel of each side of a copy: share of the time, in percent, for which it waited for the other.
pub const WAITED: &str = "waited";
/// Name of the channel of the target of a copy: what is in the buffer between the two sides, in MB.
pub const BUFFERED: &str = "buffered";

/// What a channel tells of the drive of a lane beside its samples.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tells {
    /// For what share of the time, in percent, the lane waited for the other side of a copy.
    Waits,
    /// The power that the drive draws, W.
    Power,
}

/// What channel `place` of a list, if it is there, tells of the drive of which lane. Where several have a power, it is the first of them.
pub fn tells<C: AsRef<Channel>>(all: &[C], place: usize) -> Option<(usize, Tells)> {
    let own = all.get(place)?.as_ref();
    let lane = own.of?;
    if own.name == WAITED && own.unit == "%" {
        return Some((lane as usize, Tells::Waits));
    }
    let is_power = |c: &Channel| c.unit == "W" && c.of == Some(lane);
    (all.iter().position(|c| is_power(c.as_ref())) == Some(place)).then_some((lane as usize, Tells::Power))
}

/// Units, and what the name of a column has for each.
const UNITS: [(&str, &str); 10] = [
    ("°C", "c"),
    ("W", "w"),
    ("V", "v"),
    ("A", "a"),
    ("%", "pct"),
    ("1/min", "per_min"),
    ("Pa", "pa"),
    ("MB/s", "mb_s"),
    ("MB", "mb"),
    ("s", "s"),
];

impl AsRef<Self> for Channel {
    fn as_ref(&self) -> &Self {
        self
    }
}

impl AsRef<Channel> for Series {
    fn as_ref(&self) -> &Channel {
        &self.channel
    }
}

impl Channel {
    /// The name of its column in a file: `probe_c`. What a column cannot say by its name, it does not: a channel without a unit, or with one that is
    /// not in the table, has its own name.
    pub fn column(&self) -> String {
        match UNITS.iter().find(|u| u.0 == self.unit) {
            Some((_, end)) => format!("{}_{end}", self.name),
            None => self.name.clone(),
        }
    }

    /// The channel of a column with this name.
    pub fn of_column(name: &str) -> Self {
        let known = UNITS.iter().filter_map(|(unit, end)| {
            let base = name.strip_suffix(end)?.strip_suffix('_')?;
            (!base.is_empty()).then(|| (base.to_owned(), (*unit).to_owned()))
        });
        // The longest ending counts.
        let (base, unit) =
            known.min_by_key(|(base, _)| base.len()).unwrap_or((name.to_owned(), String::new()));
        Self { name: base, unit, source: Source::File, ..Self::default() }
    }

    /// `probe, °C`
    pub fn words(&self) -> String {
        if self.unit.is_empty() { self.name.clone() } else { format!("{}, {}", self.name, self.unit) }
    }
}

/// A channel with its readings, in the order of time.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Series {
    /// What they are of.
    pub channel: Channel,
    /// The readings.
    pub readings: Vec<Reading>,
}

impl Series {
    /// Readings that were taken after `from` and until `to`.
    pub fn within(&self, from: Nanos, to: Nanos) -> &[Reading] {
        let place = |at: Nanos| self.readings.partition_point(|r| r.at <= at);
        &self.readings[place(from)..place(to).max(place(from))]
    }

    /// Mean and highest of the readings that were taken after `from` and until `to`; `None` where there is none.
    pub fn summary(&self, from: Nanos, to: Nanos) -> Option<(f64, f64)> {
        let within = self.within(from, to);
        let sum: f64 = within.iter().map(|r| r.value).sum();
        let high = within.iter().map(|r| r.value).reduce(f64::max)?;
        Some((sum / within.len() as f64, high))
    }

    /// The integral over time between two moments, in the channel's unit times seconds, by the trapezoidal rule between neighbouring readings;
    /// what lies between a moment and the nearest reading within counts with that reading. `None` where fewer than two readings lie there.
    pub fn integral(&self, from: Nanos, to: Nanos) -> Option<f64> {
        let within = self.within(from, to);
        let (first, last) = (within.first()?, within.last()?);
        let middle: f64 =
            within.windows(2).map(|w| (w[0].value + w[1].value) / 2.0 * w[1].at.since(w[0].at).secs()).sum();
        let ends = first.value * first.at.since(from).secs() + last.value * to.since(last.at).secs();
        (within.len() > 1).then_some(middle + ends)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_column_bears_the_unit_and_gives_the_channel_back() {
        for (name, unit, column) in [
            ("probe", "°C", "probe_c"),
            ("supply", "W", "supply_w"),
            ("humidity", "%", "humidity_pct"),
            ("fan", "1/min", "fan_per_min"),
            ("count", "", "count"),
        ] {
            let channel =
                Channel { name: name.into(), unit: unit.into(), source: Source::File, ..Channel::default() };
            assert_eq!(channel.column(), column);
            assert_eq!(Channel::of_column(column), channel);
        }
        assert_eq!(Channel::of_column("c").name, "c", "a unit alone is a name");
        assert_eq!(Channel::of_column("Drive temp (F)").name, "Drive temp (F)");
    }

    #[test]
    fn power_becomes_energy_by_its_closed_form() {
        // 5 W rising to 15 W over 100 s: 1000 J.
        let reading = |s: u64| Reading { at: Nanos(s * 1_000_000_000), value: 5.0 + s as f64 / 10.0 };
        let series = Series { channel: Channel::default(), readings: (0..=100).map(reading).collect() };
        let whole = series.integral(Nanos(0), Nanos::from_secs(100.0)).unwrap();
        assert!((whole - 1000.0).abs() < 6.0, "{whole}");
        let half = series.integral(Nanos::from_secs(50.0), Nanos::from_secs(100.0)).unwrap();
        assert!((half - 625.0).abs() < 8.0, "{half}");
        assert_eq!(series.integral(Nanos::from_secs(200.0), Nanos::from_secs(300.0)), None);
        let (mean, high) = series.summary(Nanos::from_secs(89.5), Nanos::from_secs(100.0)).unwrap();
        assert!((mean - 14.5).abs() < 1e-9 && (high - 15.0).abs() < 1e-9);
    }
}
