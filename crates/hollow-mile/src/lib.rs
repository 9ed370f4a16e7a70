//! Hollow Mile: the program, as a library so that its benchmarks and tests can reach its screens.
//!
//! Reads the command line, does what it says, and turns errors into an exit code: 0 done, 1 a run was stopped by a guard or
//! an error, 2 the arguments cannot be used.

mod bundle;
mod cli;
mod commands;
mod figure;
mod handed;
mod history;
pub mod measure;
mod progress;
mod report;
mod sides;
mod source;
mod tables;
mod text;
mod tui;
mod wrap;

use clap::FromArgMatches;
use cli::{Cli, Command};
use std::process::ExitCode;

/// Has the panic hook say nothing of panics that are taken for errors. Called anew whenever another hook is put before it.
pub(crate) fn pass_over_contained_panics() {
    let hook = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        if !mile_logbook::exchange::panics_are_contained() {
            hook(info);
        }
    }));
}

/// Does what the command line says.
pub fn run() -> ExitCode {
    let cli = match Cli::from_arg_matches(&cli::command().get_matches()) {
        Ok(cli) => cli,
        Err(e) => e.exit(),
    };
    pass_over_contained_panics();
    let result = match cli.command {
        None => tui::open_bench(cli.logbook),
        Some(Command::Demo(args)) => tui::open_demo(&args),
        Some(Command::Run(args)) => commands::run::run(&args),
        Some(Command::Attach(args)) => commands::attach::run(&args),
        Some(Command::Resume(args)) => commands::resume::run(&args),
        Some(Command::Runner) => commands::attach::runner(),
        Some(Command::Findings(args)) => commands::findings::run(&args),
        Some(Command::Compare(args)) => commands::compare::run(&args),
        Some(Command::Fleet(args)) => commands::fleet::run(&args),
        Some(Command::Report(args)) => commands::report::run(&args),
        Some(Command::Export(args)) => commands::export::run(&args),
        Some(Command::Bench(args)) => commands::bench::run(&args),
        Some(Command::Health(args)) => commands::health::run(&args),
        Some(Command::Watch(args)) => commands::watch::run(&args),
        Some(Command::Selftest(args)) => commands::selftest::run(&args),
        Some(Command::Lab(args)) => commands::lab::run(&args),
        Some(Command::Logbook(args)) => commands::logbook::run(&args),
        Some(Command::Instrument(args)) => commands::instrument::run(&args),
        Some(Command::Man(args)) => commands::shell::man(&args),
        Some(Command::Completions(args)) => commands::shell::completions(&args),
        Some(Command::Leftovers(args)) => commands::leftovers::run(&args),
        Some(Command::Course(args)) => commands::course::run(&args),
    };
    // What was said and could not be written is no success.
    let result = result.and_then(|()| text::all_was_said());
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            text::complain(failure.message());
            ExitCode::from(failure.code())
        }
    }
}
