//! What came of work in the background.

use super::state::{Background, Checked, Early, HealthShown, OfFleet, Shown, Wanted};
use mile_bench::bench::Card;
use mile_bench::session::{Became, Told};
use mile_drive::Situation;
use mile_logbook::Entry;
use mile_runner::remote::Client;
use std::sync::Arc;

/// What came of it.
pub(crate) enum Done {
    /// Of work that can be given up.
    Task(u64, Box<Self>),
    /// What such work does now.
    Step(u64, String),
    Listed(Result<Vec<Entry>, String>),
    /// The models of a logbook, and the drives of one: which was asked for, and what came of it.
    Fleet(OfFleet, Result<Box<Fleets>, String>),
    /// What changed in the health of drives, by their names.
    News(std::collections::HashMap<String, String>),
    /// A run of another bench is followed.
    Watched(Result<Box<(Client, Vec<Told>)>, String>),
    /// The runner of the run of this number in the terminal told nothing more: what became of it.
    Became(u64, Became),
    /// The newest run of a kind, where there is one.
    Newest(Wanted, Result<Option<i64>, String>),
    /// The run of this number in the terminal has this number in the archive.
    Archived(u64, i64),
    Loaded(Result<Box<Shown>, String>),
    /// A long run was read; its findings follow.
    Read(Box<Early>),
    /// Paths of the files written.
    Exported(Result<Vec<String>, String>),
    /// The real drives as they are now.
    Bench(Vec<Card>),
    Health(Result<Box<HealthShown>, String>),
    /// What a drive told was kept.
    Kept(Result<String, String>),
    /// The course in the editor, and what was found out of its drive meanwhile.
    Checked(Box<Checked>, Vec<Arc<Background>>),
    /// Runs were compared: those of either side, and what came of it.
    Compared([Vec<i64>; 2], Result<Box<crate::commands::compare::Held>, String>),
    /// A run was taken off the list or brought back: which, and what is said of it.
    Removed(Result<(i64, String), String>),
    /// A note was kept with a run.
    Noted(Result<(), String>),
    /// A self-test was begun or ended.
    Tested(Result<(), String>),
    /// How a drive was set up for its last run, and which that was.
    Setup(String, Option<LastSetup>),
    /// What a run would do, and which question that answers.
    Ahead(u64, Result<Vec<String>, String>),
    /// A run was started, for the question of a form, or of none where one goes on: its runner, and what that had told.
    Started(u64, Result<Box<(Client, Vec<Told>)>, String>),
}

/// The models of a logbook, and the drives of the one that is shown.
pub(crate) type Fleets = (Vec<mile_logbook::Model>, Option<mile_core::fleet::Fleet>);

/// How a drive was set up for its last run, and what was claimed of it, or else of the last drive of its model.
pub(crate) struct LastSetup {
    /// The last run on this very drive.
    pub(crate) run: Option<i64>,
    pub(crate) situation: Situation,
    pub(crate) claims: String,
    /// What was measured beside it in that run.
    pub(crate) instruments: Option<String>,
}
