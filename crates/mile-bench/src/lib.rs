//! The application without a screen: drives by their names, orders for runs, what speaks against starting one, and runs in this process or one of
//! their own. The command line and the terminal show what this crate does.

pub mod bench;
pub mod courses;
mod failure;
pub mod lab;
pub mod metrics;
mod order;
pub mod outlook;
pub mod session;

pub use failure::Failure;
