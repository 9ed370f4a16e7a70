//! `hollow-mile attach`: a run that goes on in a runner of its own; and what such a runner is.

use crate::cli::{AttachArgs, Format};
use crate::tui;
use mile_bench::lab::{file_of, recorded_as};
use mile_bench::{Failure, session};
use mile_logbook::lab::is_lab;
use mile_runner::Command;
use mile_runner::remote::{Client, Hello, runners};
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};
use std::time::Duration;

pub(crate) fn run(args: &AttachArgs) -> Result<(), Failure> {
    let (path, hello) = choose(args.run, args.logbook.as_deref())?;
    if args.stop {
        let client = Client::connect(&path)?;
        client.commands.send(Command::Stop)?;
        // It ends when its drive does; whoever asked waits for that.
        while client.frames.recv_timeout(Duration::from_secs(60)).is_ok() {}
        crate::text::say("The run was stopped.");
        return Ok(());
    }
    if args.answer {
        Client::connect(&path)?.commands.send(Command::Resume)?;
        crate::text::say("It goes on.");
        return Ok(());
    }
    if args.text || args.format == Format::Json || !std::io::stdout().is_terminal() {
        return super::run::watch(Client::connect(&path)?, args.format);
    }
    tui::open_attached(hello.logbook, &path)
}

/// The runner of a run; the only one where none is named.
fn choose(run: Option<i64>, logbook: Option<&Path>) -> Result<(PathBuf, Hello), Failure> {
    let mut all = runners();
    // A run of this bench that goes to an archive is known to its runner by the spool and the number that it has there.
    let (logbook, run) = match (logbook, run) {
        (Some(archive), Some(run)) if is_lab(archive) => {
            let (file, local) = recorded_as(archive, run)?;
            (Some(file), Some(local))
        }
        (Some(logbook), run) => (Some(file_of(logbook)?), run),
        (None, run) => (None, run),
    };
    if let Some(logbook) = &logbook {
        let logbook = std::path::absolute(logbook)?;
        all.retain(|(_, h)| h.logbook == logbook);
    }
    let list = || {
        let line = |(_, h): &(PathBuf, Hello)| {
            let number = h.run.map_or("not numbered yet".into(), |r| format!("run {r}"));
            format!("    {number}: {} on {}, logbook {}", h.course, h.drive, h.logbook.display())
        };
        all.iter().map(line).collect::<Vec<_>>().join("\n")
    };
    match run {
        Some(run) => match all.iter().position(|(_, h)| h.run == Some(run)) {
            Some(i) => Ok(all.swap_remove(i)),
            None if all.is_empty() => Err(Failure::usage(format!("run {run} is not underway; none is"))),
            None => Err(Failure::usage(format!("run {run} is not underway. Underway:\n{}", list()))),
        },
        None if all.len() == 1 => Ok(all.swap_remove(0)),
        None if all.is_empty() => Err(Failure::usage("no run is underway")),
        None => Err(Failure::usage(format!("several runs are underway; name one:\n{}", list()))),
    }
}

/// What a runner does that was started for a run: its errand comes through its standard input.
pub(crate) fn runner() -> Result<(), Failure> {
    let mut errand = String::new();
    std::io::stdin().read_to_string(&mut errand)?;
    session::serve(&errand, crate::text::say)
}
