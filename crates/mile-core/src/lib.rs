//! The computation of Hollow Mile: units, samples, traces, plateaus and breaks, causes, findings.
//!
//! Everything here is a pure function of its arguments. There is no I/O, no clock, no thread and no screen,
//! so that a finding is the same whether the run is live, archived or imported.

pub mod causes;
pub mod findings;
pub mod live;
pub mod moments;
pub mod plateaus;
pub mod pyramid;
pub mod ruler;
pub mod sample;
pub mod segment;
pub mod stats;
pub mod thermal;
pub mod trace;
pub mod units;

pub use findings::{Break, Cause, Context, Findings, Plateau, findings};
pub use live::LiveFindings;
pub use sample::{Latency, Op, Sample, Throttled};
pub use trace::Trace;
pub use units::{Bytes, Celsius, Nanos, Rate};
