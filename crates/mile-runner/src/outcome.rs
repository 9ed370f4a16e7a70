//! How a run ended.

use mile_core::{Bytes, Digest, Nanos};
use mile_drive::Health;
use serde::{Deserialize, Serialize};

/// How a run stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Status {
    /// It goes on.
    Underway,
    /// All legs ended as planned.
    Done,
    /// Ended on request.
    Stopped,
    /// Ended by a guard.
    Guarded,
    /// Ended by an error.
    Failed,
    /// Its process ended before it did.
    CutShort,
    /// What the logbook has of it cannot be read.
    Unreadable,
}

impl Status {
    /// The words for people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Underway => "underway",
            Self::Done => "done",
            Self::Stopped => "stopped",
            Self::Guarded => "stopped by a guard",
            Self::Failed => "ended by an error",
            Self::CutShort => "cut short",
            Self::Unreadable => "cannot be read",
        }
    }
}

/// How a run ended.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Outcome {
    /// How.
    pub status: Status,
    /// When, since its start.
    pub at: Nanos,
    /// Bytes moved.
    pub bytes: Bytes,
    /// Why, where it did not end as planned.
    pub why: Option<String>,
    /// Health at the end.
    #[serde(default, deserialize_with = "crate::former::any_health")]
    pub health: Option<Health>,
    /// What its samples show, where whoever ran it has computed that; not sent and not kept with it.
    #[serde(skip)]
    pub digest: Option<Box<Digest>>,
}

impl Outcome {
    /// How a run ended whose lanes ended so: as the worst of them, when the last of them did, with the reasons of all.
    pub fn of_lanes(lanes: &[(&str, &Self)]) -> Option<Self> {
        let [(_, first), rest @ ..] = lanes else { return None };
        if rest.is_empty() {
            return Some((*first).clone());
        }
        const WORST: [Status; 5] =
            [Status::Failed, Status::CutShort, Status::Guarded, Status::Stopped, Status::Done];
        let rank = |o: &Self| WORST.iter().position(|s| *s == o.status).unwrap_or(0);
        let status = lanes.iter().min_by_key(|(_, o)| rank(o)).map_or(first.status, |(_, o)| o.status);
        let whys: Vec<String> =
            lanes.iter().filter_map(|(name, o)| Some(format!("lane {name}: {}", o.why.as_ref()?))).collect();
        Some(Self {
            status,
            at: lanes.iter().map(|(_, o)| o.at).max().unwrap_or_default(),
            bytes: Bytes(lanes.iter().map(|(_, o)| o.bytes.0).sum()),
            why: (!whys.is_empty()).then(|| whys.join("; ")),
            health: None,
            digest: None,
        })
    }
}
