//! The computation of Hollow Mile: units, samples, traces, plateaus and breaks, causes, findings.
//!
//! Everything here is a pure function of its arguments. There is no I/O, no clock, no thread and no screen,
//! so that a finding is the same whether the run is live, archived or imported.

pub mod breaks;
pub mod cache;
pub mod causes;
pub mod channel;
pub mod claims;
pub mod compare;
pub mod consistency;
pub mod context;
pub mod copies;
mod cycles;
pub mod demand;
mod digest;
pub mod engine;
pub mod faults;
pub mod figures;
pub mod files;
pub mod findings;
pub mod fleet;
pub mod health;
pub mod heat;
pub mod hollow;
mod interference;
pub mod latencies;
pub mod ledger;
pub mod leg_name;
pub mod legs;
pub mod live;
pub mod moments;
pub mod next_step;
pub mod pauses;
pub mod places;
pub mod plateaus;
pub mod pyramid;
pub mod repeats;
pub mod ruler;
pub mod run_id;
pub mod sample;
pub mod scene;
pub mod segment;
pub mod span;
pub mod stages;
pub mod stats;
pub mod steady;
pub mod surface;
pub mod sweeps;
pub mod tables;
pub mod thermal;
pub mod trace;
pub mod units;
pub mod workload;

pub use demand::Demand;
pub use digest::{Digest, MINIATURE};
pub use faults::{FaultKind, Faults};
pub use findings::{Break, Cause, Context, Findings, Plateau, findings};
pub use latencies::{Bin, LegLatencies};
pub use leg_name::LegName;
pub use live::LiveFindings;
pub use run_id::RunId;
pub use sample::{Host, Latency, Op, Sample, Throttled};
pub use trace::Trace;
pub use units::{Bytes, Celsius, Nanos, Rate};
pub use workload::{Access, Workload};
