//! The options of `hollow-mile logbook`.

use super::common::{BesideArgs, Format, morning};
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct LogbookArgs {
    #[command(subcommand)]
    pub(crate) command: LogbookCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum LogbookCommand {
    /// List the runs, newest first.
    List {
        /// Only runs whose course, drive, model, conditions or status contain this.
        #[arg(value_name = "WORD")]
        word: Option<String>,
        /// Only runs with this tag.
        #[arg(long)]
        tag: Option<String>,
        /// Only runs on a drive of this model.
        #[arg(long)]
        model: Option<String>,
        /// Only runs with a break that was put down to this, in the words of the list: "throttled by heat".
        #[arg(long, value_name = "WORDS")]
        cause: Option<String>,
        /// Only runs that began on this day or later, YYYY-MM-DD.
        #[arg(long, value_name = "DAY", value_parser = morning)]
        since: Option<i64>,
        /// Only runs that began before this day, YYYY-MM-DD.
        #[arg(long, value_name = "DAY", value_parser = morning)]
        before: Option<i64>,
        /// Only so many, the newest.
        #[arg(long, value_name = "COUNT")]
        newest: Option<u32>,
        /// Say how many bytes each takes in the logbook.
        #[arg(long)]
        sizes: bool,
        /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
        #[arg(long, value_name = "FILE")]
        logbook: Option<PathBuf>,
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Keep a trace from elsewhere (CSV or Parquet) as a run, so that the terminal opens it like any other.
    Import {
        /// The trace.
        file: String,
        /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
        #[arg(long, value_name = "FILE")]
        logbook: Option<PathBuf>,
        #[command(flatten)]
        beside: Box<BesideArgs>,
    },
    /// Give a run a tag, so that it can be compared as one of a group; without a tag, show those that it has.
    Tag {
        /// The run's number, or `last`.
        run: String,
        /// Words without white space.
        tags: Vec<String>,
        /// Take them away instead.
        #[arg(long)]
        remove: bool,
        /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
        #[arg(long, value_name = "FILE")]
        logbook: Option<PathBuf>,
    },
    /// Take runs off the list. They stay in the file, and `restore` brings them back.
    Remove {
        /// The runs' numbers.
        #[arg(required = true)]
        runs: Vec<String>,
        /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
        #[arg(long, value_name = "FILE")]
        logbook: Option<PathBuf>,
    },
    /// Bring runs back that were taken off the list; without a number, list these.
    Restore {
        /// The runs' numbers.
        runs: Vec<i64>,
        /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
        #[arg(long, value_name = "FILE")]
        logbook: Option<PathBuf>,
    },
    /// Erase the runs that were taken off the list. They cannot be brought back.
    Erase {
        /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
        #[arg(long, value_name = "FILE")]
        logbook: Option<PathBuf>,
        /// The runs' numbers; each of them must be off the list.
        #[arg(required = true)]
        runs: Vec<i64>,
    },
    /// Move a damaged logbook out of the way and begin a new one. Nothing is deleted.
    SetAside {
        /// Logbook: a file, or the archive of a lab (postgres://ROLE@HOST/DATABASE, or `lab`).
        #[arg(long, value_name = "FILE")]
        logbook: Option<PathBuf>,
        /// Move it although it is sound.
        #[arg(long)]
        healthy: bool,
    },
    /// Bring in what a logbook did not take while a run was underway, from the file that it was put into.
    Recover {
        /// The file, as `hollow-mile leftovers` lists it.
        file: PathBuf,
    },
}
