//! The archive of a lab: how it is set up, and how the runs of a bench come to it.
//!
//! A run is always kept in a file of its bench first, the spool. [`forward`] brings what is there to the server, so that a run never waits for a
//! network.

pub mod forward;
pub mod setup;
pub(crate) mod standing;
pub mod watch;

pub use crate::store::place::{Lab, is_lab};

use crate::store::engine::values;
use crate::store::{Logbook, LogbookError};

/// Asks a run of a bench for something, in the words that a bench knows.
///
/// # Errors
/// Where the archive cannot be reached, this role may not ask, or the run is not underway.
pub fn ask(archive: &Logbook, run: i64, request: &str) -> Result<(), LogbookError> {
    let statement = "INSERT INTO requests (run, request)
         SELECT id, CAST(?2 AS TEXT) FROM runs WHERE id = ?1 AND status = 'underway'";
    match archive.execute(statement, values![run, request])? {
        0 => Err(LogbookError::NotUnderway { run }),
        _ => Ok(()),
    }
}
