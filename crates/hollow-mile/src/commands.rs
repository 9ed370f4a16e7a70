//! The commands without a screen.

pub(crate) mod attach;
pub(crate) mod bench;
pub(crate) mod compare;
pub(crate) mod course;
mod dataset;
pub(crate) mod export;
pub(crate) mod findings;
pub(crate) mod fleet;
pub(crate) mod health;
pub(crate) mod instrument;
pub(crate) mod lab;
pub(crate) mod leftovers;
pub(crate) mod logbook;
pub(crate) mod report;
pub(crate) mod resume;
pub(crate) mod run;
pub(crate) mod selftest;
pub(crate) mod shell;
pub(crate) mod watch;
