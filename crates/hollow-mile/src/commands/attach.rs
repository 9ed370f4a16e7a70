//! `hollow-mile attach`: a run that goes on in a runner of its own; and what such a runner is.

use crate::cli::{AttachArgs, Format};
use crate::tui;
use crossbeam_channel::RecvTimeoutError;
use mile_bench::lab::{file_of, recorded_as};
use mile_bench::{Failure, session};
use mile_drive::clock::Monotonic;
use mile_logbook::lab::is_lab;
use mile_runner::remote::{Client, Frame, Hello, MOST_WATCHERS, Runners};
use mile_runner::{Command, EventKind, Message};
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};
use std::time::Duration;

pub(crate) fn run(args: &AttachArgs) -> Result<(), Failure> {
    let (path, hello) = choose(args.run, args.logbook.as_deref())?;
    if args.stop {
        return stop(&Client::connect(&path)?);
    }
    if args.answer {
        return answer(&Client::connect(&path)?);
    }
    if args.text || args.format == Format::Json || !std::io::stdout().is_terminal() {
        return super::run::watch(Client::connect(&path)?, args.format);
    }
    tui::open_attached(hello.logbook, &path)
}

/// Longest time in which a run does what it was told to, or tells something else.
const PATIENCE: Duration = Duration::from_secs(60);

/// Stops a run, and waits until it has ended: it does when its drive answers.
fn stop(client: &Client) -> Result<(), Failure> {
    client.commands.send(Command::Stop)?;
    // How many lanes there are is not known before the run has begun.
    let mut ended = vec![false; client.backlog.head.as_ref().map_or(1, |h| h.lanes.len().max(1))];
    for (ended, told) in ended.iter_mut().zip(&client.backlog.lanes) {
        *ended = told.ended.is_some();
    }
    loop {
        match client.frames.recv_timeout(PATIENCE) {
            Ok(Frame::Message(lane, Message::Ended(_))) => {
                let lane = lane as usize;
                ended.resize(ended.len().max(lane + 1), false);
                ended[lane] = true;
            }
            Ok(_) => {}
            Err(RecvTimeoutError::Timeout) => {
                return Err(Failure::run(
                    "the run was told to stop, and has said nothing for a minute: its drive may not answer. It ends as soon as that does",
                ));
            }
            Err(RecvTimeoutError::Disconnected) if ended.contains(&false) => {
                return Err(Failure::run(
                    "the connection to the run ended before it said how the run ended; `hollow-mile logbook list` shows what became of it",
                ));
            }
            Err(RecvTimeoutError::Disconnected) => {
                crate::text::say("The run was stopped.");
                return Ok(());
            }
        }
    }
}

/// Has a run go on that waits, and waits until it says that it does.
fn answer(client: &Client) -> Result<(), Failure> {
    let mut waiting = vec![false; client.backlog.lanes.len()];
    let told = client.backlog.lanes.iter().enumerate();
    for (lane, event) in told.flat_map(|(lane, told)| told.events.iter().map(move |e| (lane, e))) {
        waiting[lane] = waits_after(&event.kind).unwrap_or(waiting[lane]);
    }
    if !waiting.contains(&true) {
        return Err(Failure::run("the run waits for no answer; nothing was sent to it"));
    }
    client.commands.send(Command::Resume)?;
    let clock = Monotonic::start();
    while waiting.contains(&true) {
        let left = PATIENCE.saturating_sub(Duration::from_nanos(clock.now().0));
        match client.frames.recv_timeout(left) {
            // A question that comes behind it is another one.
            Ok(Frame::Message(lane, Message::Event(event))) if waits_after(&event.kind) == Some(false) => {
                waiting.iter_mut().skip(lane as usize).take(1).for_each(|lane| *lane = false);
            }
            Ok(_) => {}
            Err(RecvTimeoutError::Timeout) => {
                let sent = "the answer was sent, but the run has not gone on for a minute";
                return Err(Failure::run(format!("{sent}; `hollow-mile attach` shows what it does")));
            }
            Err(RecvTimeoutError::Disconnected) => {
                return Err(Failure::run("the run ended before it said that it goes on"));
            }
        }
    }
    crate::text::say("It goes on.");
    Ok(())
}

/// Whether a lane waits for somebody to let it go on, where an event tells.
fn waits_after(event: &EventKind) -> Option<bool> {
    match event {
        EventKind::Asked(_) | EventKind::Paused => Some(true),
        EventKind::Resumed | EventKind::LegEnded { .. } => Some(false),
        _ => None,
    }
}

/// The runner of a run; the only one where none is named.
fn choose(run: Option<i64>, logbook: Option<&Path>) -> Result<(PathBuf, Hello), Failure> {
    let Runners { answering: mut all, silent } = Runners::find();
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
        let quiet = |socket: &PathBuf| {
            let why = format!("{MOST_WATCHERS} watch it already, or its process is suspended");
            format!("    one that does not answer, at {}: {why}", socket.display())
        };
        all.iter().map(line).chain(silent.iter().map(quiet)).collect::<Vec<_>>().join("\n")
    };
    let found = run.map(|run| (run, all.iter().position(|(_, h)| h.run == Some(run))));
    match found {
        Some((_, Some(i))) => Ok(all.swap_remove(i)),
        // One that does not answer may be the run that is meant.
        Some((run, None)) if !silent.is_empty() => {
            Err(Failure::run(format!("run {run} does not answer, or is not underway. Underway:\n{}", list())))
        }
        Some((run, None)) if all.is_empty() => {
            Err(Failure::usage(format!("run {run} is not underway; none is")))
        }
        Some((run, None)) => Err(Failure::usage(format!("run {run} is not underway. Underway:\n{}", list()))),
        None if all.len() == 1 && silent.is_empty() => Ok(all.swap_remove(0)),
        None if !all.is_empty() => {
            Err(Failure::usage(format!("several runs are underway; name one:\n{}", list())))
        }
        None if silent.is_empty() => Err(Failure::usage("no run is underway")),
        None => Err(Failure::run(format!("a run is underway that does not answer:\n{}", list()))),
    }
}

/// What a runner does that was started for a run: its errand comes through its standard input.
pub(crate) fn runner() -> Result<(), Failure> {
    let mut errand = String::new();
    std::io::stdin().read_to_string(&mut errand)?;
    session::serve(&errand, crate::text::say)
}
