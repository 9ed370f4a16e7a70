//! The options of `hollow-mile lab` and `hollow-mile fleet`.

use super::common::Format;
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct LabArgs {
    #[command(subcommand)]
    pub(crate) command: LabCommand,
}

/// The archive that is meant.
#[derive(Debug, Args)]
pub(crate) struct LabAddress {
    /// Its address, postgres://ROLE@HOST/DATABASE; without one, that of lab.toml in the configuration folder.
    #[arg(long, value_name = "ADDRESS", default_value = "lab", hide_default_value = true)]
    pub(crate) lab: PathBuf,
}

#[derive(Debug, Subcommand)]
pub(crate) enum LabCommand {
    /// Print the SQL that sets an archive up in a database, or run it.
    Init {
        #[command(flatten)]
        at: LabAddress,
        /// A role that writes runs of its own. May be given several times.
        #[arg(long, value_name = "ROLE")]
        bench: Vec<String>,
        /// A role that reads all runs.
        #[arg(long, value_name = "ROLE")]
        reader: Vec<String>,
        /// A role that reads all runs, and may ask benches to pause, go on, skip or stop.
        #[arg(long, value_name = "ROLE")]
        operator: Vec<String>,
        /// Run it, as one transaction.
        #[arg(long)]
        run: bool,
    },
    /// Say how an archive stands, and what this role may do there.
    Check {
        #[command(flatten)]
        at: LabAddress,
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Print the SQL that brings an archive to the version of this program, or run it.
    Migrate {
        #[command(flatten)]
        at: LabAddress,
        /// Run it, as one transaction.
        #[arg(long)]
        run: bool,
    },
    /// Bring to the archive what it lacks of the runs of this bench.
    Forward {
        #[command(flatten)]
        at: LabAddress,
        /// Go on until it is stopped, and bring what comes.
        #[arg(long)]
        follow: bool,
        /// A logbook file to bring, in place of the spool.
        #[arg(long, value_name = "FILE")]
        spool: Option<PathBuf>,
    },
    /// Ask a run on another bench to pause, go-on, skip or stop, or add a note to it: `ask 12 note fan replaced`.
    Ask {
        /// The number of the run in the archive.
        run: String,
        /// What is asked.
        #[arg(required = true)]
        request: Vec<String>,
        #[command(flatten)]
        at: LabAddress,
    },
}

#[derive(Debug, Args)]
pub(crate) struct FleetArgs {
    /// The model; without one, the models are listed.
    pub(crate) model: Option<String>,
    /// The course whose runs are held against each other, by its name; without one, that with the most drives.
    #[arg(long, value_name = "NAME")]
    pub(crate) course: Option<String>,
    #[arg(long, value_name = "FILE")]
    pub(crate) logbook: Option<PathBuf>,
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}
