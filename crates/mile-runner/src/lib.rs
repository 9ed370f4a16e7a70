//! Executes a course on a drive.
//!
//! [`run::execute`] goes through the legs of a plan, takes samples, minds the guards, obeys [`message::Command`]s and tells
//! everything in [`message::Message`]s. It knows neither a screen nor a file.

pub mod board;
pub mod errors;
mod event;
mod former;
mod head;
pub mod message;
mod outcome;
pub mod remote;
pub mod run;
mod speed;

pub use board::Board;
pub use message::{
    Awaited, Command, EndKind, Event, EventKind, HealthShot, LaneHead, Message, Order, Outcome, RunHead,
    Status,
};
pub use run::{GoOn, LaneEnd, LaneRun, Terms, execute, execute_lanes};
pub use speed::Speed;
