//! Bench instruments: how each is asked, and which channels it gives.
//!
//! [`config`] reads the file that names them; [`scpi`], [`hwmon`], [`value`] and [`text`] each ask one kind; [`poll`] asks all of them, each on a thread of
//! its own, and puts what they tell on the [`mile_runner::Board`] of a run. An instrument that is lost is told once, is tried again, and
//! stops nothing. [`simulate`] is a stand-in that speaks SCPI and measures the simulated bench.

pub mod config;
pub mod hwmon;
pub mod poll;
pub mod scpi;
pub mod simulate;
pub mod text;
pub mod value;

pub use config::{Config, InstrumentConfig};

/// Why an instrument could not be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[expect(missing_docs, reason = "the messages say it")]
pub enum InstrumentError {
    #[error("{0}")]
    Config(String),
    #[error("{what}: {source}")]
    Io { what: String, source: std::io::Error },
    #[error("it answered `{answer}` to {query}, which is no number")]
    NoNumber { query: String, answer: String },
    #[error("no answer to {query} within {limit}")]
    Silent { query: String, limit: mile_core::Nanos },
    #[error("{0}")]
    Gone(String),
}
