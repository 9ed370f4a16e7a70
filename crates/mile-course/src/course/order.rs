//! The orders in which addresses are touched.

pub use mile_core::Access;
use serde::{Deserialize, Serialize};

/// The order in which a scan visits its zones. Within a zone it goes up.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ScanOrder {
    /// From the first to the last.
    #[default]
    Forward,
    /// From the last to the first.
    Backward,
    /// Each once, in an order that is the same whenever the course is run.
    Random,
}

impl ScanOrder {
    /// The word in a course.
    pub fn word(self) -> &'static str {
        match self {
            Self::Forward => "forward",
            Self::Backward => "backward",
            Self::Random => "random",
        }
    }
}
