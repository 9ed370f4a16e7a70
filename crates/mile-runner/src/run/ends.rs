//! Ends that only the run can tell, and guards that need more than one look.

use crate::message::EventKind;
use mile_core::{Celsius, Nanos};
use mile_course::Seen;

/// Why a leg ended.
pub(super) enum LegEnd {
    Planned(String),
    Skipped,
    Stopped,
    Guarded(Guarded),
}

/// What a guard saw.
pub(super) enum Guarded {
    Temperature { limit: Celsius, found: Celsius },
    Other(String),
}

impl Guarded {
    pub(super) fn event(&self) -> EventKind {
        match self {
            Self::Temperature { limit, found } => EventKind::Guard { limit: *limit, found: *found },
            Self::Other(why) => EventKind::Guarded(why.clone()),
        }
    }

    pub(super) fn why(&self) -> String {
        match self {
            Self::Temperature { limit, found } => format!("{found} is above the limit of {limit}"),
            Self::Other(why) => why.clone(),
        }
    }
}

/// What is watched for the ends of the leg underway.
pub(super) struct Watch {
    pub(super) ends: Vec<Seen>,
    /// Since when each of them holds.
    pub(super) since: Vec<Option<Nanos>>,
    /// Lowest and highest temperature since then, of ends that wait for a stable one.
    pub(super) band: Vec<Option<(f64, f64)>>,
    /// Rates of the rounds so far, MB/s, and where the one underway began.
    pub(super) rounds: Vec<f64>,
    pub(super) round: (Nanos, u64),
    /// Errors when the leg began.
    pub(super) errors: u64,
}

impl Watch {
    pub(super) fn new(ends: &[Seen], now: Nanos, moved: u64, errors: u64) -> Self {
        Self {
            ends: ends.to_vec(),
            since: vec![None; ends.len()],
            band: vec![None; ends.len()],
            rounds: Vec::new(),
            round: (now, moved),
            errors,
        }
    }
}

/// What a resting guard waits for.
#[derive(Clone, Copy)]
pub(super) struct Cooling {
    pub(super) below: mile_core::Celsius,
    pub(super) longest: Nanos,
}
