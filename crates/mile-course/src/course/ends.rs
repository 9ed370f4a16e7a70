//! What a leg may end by, and a reading of a channel that ends a leg or a run.

use mile_core::{Bytes, Celsius, Nanos};
use serde::{Deserialize, Serialize};

/// A reading of a channel, such as a bench instrument gives, above or below a value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Threshold {
    /// Name of the channel.
    pub channel: String,
    /// Its unit, as the course has it; empty where it has none.
    pub unit: String,
    /// Whether it is reached above the value, and not below.
    pub above: bool,
    /// The value.
    pub value: f64,
}

impl Threshold {
    /// In words: `probe below 30 °C`.
    pub fn words(&self) -> String {
        let side = if self.above { "above" } else { "below" };
        let unit = if self.unit.is_empty() { String::new() } else { format!(" {}", self.unit) };
        format!("{} {side} {}{unit}", self.channel, self.value)
    }

    /// Whether a reading is beyond it.
    pub fn is_reached(&self, value: f64) -> bool {
        if self.above { value > self.value } else { value < self.value }
    }
}

/// What ends a leg.
#[derive(Clone, Debug, PartialEq)]
pub enum End {
    /// This much was moved.
    Moved(Bytes),
    /// This much time has passed.
    After(Nanos),
    /// The range was covered once.
    Pass,
    /// Something that only the run can tell.
    Seen(Seen),
}

/// An end that only the run can tell.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Seen {
    /// The composite temperature was below this for so long.
    Below(Celsius, Nanos),
    /// It was above this for so long.
    Above(Celsius, Nanos),
    /// It stayed within this many K for so long.
    Stable(Celsius, Nanos),
    /// The rate is in steady state over five consecutive rounds of this length.
    Steady(Nanos),
    /// A break was seen in this leg, and so much time has passed since.
    Break(Nanos),
    /// So many operations of this leg failed.
    Errors(u64),
    /// A reading of a channel was beyond this for so long.
    Channel(Threshold, Nanos),
}

impl Seen {
    /// Whether it needs a temperature.
    pub fn needs_temperature(&self) -> bool {
        matches!(self, Self::Below(..) | Self::Above(..) | Self::Stable(..))
    }

    /// In words: `temperature below 40 °C for 10 s`.
    pub fn words(&self) -> String {
        let held = |hold: Nanos| if hold.0 > 0 { format!(" for {hold}") } else { String::new() };
        match *self {
            Self::Channel(ref threshold, hold) => threshold.words() + &held(hold),
            Self::Below(limit, hold) => format!("temperature below {limit}{}", held(hold)),
            Self::Above(limit, hold) => format!("temperature above {limit}{}", held(hold)),
            Self::Stable(within, hold) => format!("temperature stable within {within} for {hold}"),
            Self::Steady(round) => format!("steady state in rounds of {round}"),
            Self::Break(hold) => format!("a break{}", held(hold)),
            Self::Errors(1) => "1 error".into(),
            Self::Errors(count) => format!("{count} errors"),
        }
    }
}
