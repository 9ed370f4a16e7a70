//! What happens on a key, a click, a message of the run, or the result of work in the background.

mod act;
mod course;
mod input;
mod mouse;
mod results;
mod runs;
mod start;

#[cfg(test)]
pub(crate) use act::act;
pub(crate) use input::input;
pub(crate) use results::done;
pub(crate) use runs::{attach, told};
