//! What a run is asked to be, before anything of it is looked at.

use crate::bench::Named;
use mile_drive::Situation;
use mile_runner::Speed;
use serde::{Deserialize, Serialize};

/// What a run needs to be started.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Order {
    /// The text of the course.
    pub course_text: String,
    /// Where the text came from, for messages.
    pub course_name: String,
    /// Its drives, one for each lane of the course.
    pub lanes: Vec<OrderLane>,
    /// How fast the time of simulated drives passes.
    pub speed: Speed,
    /// Whether a file that the run makes stays.
    pub keep: bool,
    /// Whether what the course writes to is discarded before it.
    pub discard_first: bool,
    /// The file that names the bench instruments, or `bench` for those of the simulated bench.
    #[serde(default)]
    pub instruments: Option<String>,
    /// Where the figures of the run are served for a monitoring system: a port of this host, or a host and a port.
    #[serde(default)]
    pub metrics: Option<String>,
    /// The archive of a lab that the run goes to, beside the file in which it is recorded.
    #[serde(default)]
    pub lab: Option<String>,
    /// The run of the logbook that goes on.
    pub resume: Option<i64>,
    /// What spoke against the start, and was accepted.
    #[serde(default)]
    pub warnings: Vec<String>,
}

/// The drive of one lane.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct OrderLane {
    /// The lane's name in the course; empty where the course is for one drive.
    pub name: String,
    /// The drive.
    pub named: Named,
    /// How it is set up, as the operator says.
    pub situation: Situation,
    /// What is claimed of it, as the operator says ([`mile_course::Claimed`]).
    #[serde(default)]
    pub claims: String,
}
