//! `hollow-mile leftovers`: what runs that were interrupted left on disks, and taking it away.
//!
//! A run is in its logbook before it makes anything, and what it makes bears its identity. So whatever is left can be found from the
//! logbook, and is taken away only if it is what the run made.

use crate::cli::{Format, LeftoversArgs};
use crate::text;
use mile_bench::Failure;
use mile_bench::session::{aside_folders, logbook_path};
use mile_core::{Bytes, RunId};
use mile_files::Held;
use mile_logbook::{Logbook, LogbookError, side};
use mile_runner::{Order, Status};
use serde::Serialize;
use std::path::{Path, PathBuf};

/// Something that was left.
#[derive(Serialize)]
pub(crate) struct Leftover {
    pub(crate) path: PathBuf,
    /// The run that it is of.
    pub(crate) run: i64,
    bytes: u64,
    what: &'static str,
    /// What it is good for, in words.
    note: String,
    #[serde(skip)]
    identity: Option<RunId>,
}

const SCRATCH: &str = "scratch-file";
const FILES: &str = "files";
const ASIDE: &str = "log-aside";

pub(crate) fn run(args: &LeftoversArgs) -> Result<(), Failure> {
    // What runs that went to an archive have left on this bench is known from its spool.
    let path = mile_bench::lab::file_of(&logbook_path(args.logbook.as_deref())?)?;
    let found = find(&path)?;
    let nothing = "Runs of this logbook have left nothing.";
    let Some(wanted) = &args.remove else {
        match args.format {
            Format::Json => text::say(&serde_json::to_string_pretty(&found)?),
            Format::Text if found.is_empty() => text::say(nothing),
            Format::Text => found.iter().for_each(|l| {
                text::say(&format!(
                    "run {:>4}  {:>10}  {}: {}",
                    l.run,
                    Bytes(l.bytes),
                    l.path.display(),
                    l.note
                ));
            }),
        }
        return Ok(());
    };
    let chosen: Vec<&Leftover> = match wanted.as_str() {
        "all" => found.iter().filter(|l| l.what != ASIDE).collect(),
        number => {
            let run: i64 = number.parse().map_err(|_| {
                Failure::usage(format!("--remove takes the number of a run, or `all`, and not `{number}`"))
            })?;
            found.iter().filter(|l| l.run == run && l.what != ASIDE).collect()
        }
    };
    if chosen.is_empty() && wanted == "all" {
        text::say(if found.is_empty() { nothing } else { "Runs of this logbook have left no files." });
        return Ok(());
    }
    if chosen.is_empty() {
        return Err(Failure::usage(
            "there is no such scratch file; `hollow-mile leftovers` lists what there is",
        ));
    }
    chosen.into_iter().try_for_each(remove)
}

/// Takes away what a run left, if it is that still.
fn remove(leftover: &Leftover) -> Result<(), Failure> {
    let path = leftover.path.display();
    let other =
        || Failure::usage(format!("{path} is not what run {} left any more, and stays", leftover.run));
    let Some(run) = leftover.identity else { return Err(other()) };
    if leftover.what == FILES {
        if mile_drive::files::remove_folder(&leftover.path, run)? {
            text::say(&format!("{path} is gone."));
        } else {
            text::say(&format!(
                "The files of run {} are gone. {path} stays, as there is something else in it.",
                leftover.run
            ));
        }
        return Ok(());
    }
    let held = Held::open(&leftover.path)?;
    // Once more, on the file that is open now.
    if mile_drive::file::run_of(held.file()) != Some(run) {
        return Err(other());
    }
    held.remove()?;
    text::say(&format!("{path} is gone."));
    Ok(())
}

/// What the runs of a logbook have left, those that were taken off its list too.
pub(crate) fn find(logbook: &Path) -> Result<Vec<Leftover>, Failure> {
    let heads = Logbook::reading(logbook, |book| {
        // A run that was taken off the list has left what it has left.
        let runs = book.list()?.into_iter().map(|e| e.run).chain(book.removed()?.into_iter().map(|r| r.0));
        // A run whose row cannot be read says nothing of what it left.
        Ok(runs
            .filter_map(|run| book.ends(run).ok().map(|(head, status, _)| (run, status, head)))
            .collect::<Vec<_>>())
    });
    let heads = match heads {
        Err(LogbookError::Blank { .. }) => Vec::new(),
        heads => heads?,
    };
    let mut found = Vec::new();
    for (run, status, head) in heads {
        let Some(identity) = head.identity.filter(|_| status != Status::Underway) else { continue };
        for lane in head.lanes.iter().filter(|l| !l.drive.simulated) {
            let Some(order) = &lane.order else { continue };
            found.extend(scratch_of(run, status, order, identity));
            found.extend(files_of(run, order, identity));
        }
    }
    let logbook = std::path::absolute(logbook)?;
    for entry in aside_folders().iter().flat_map(std::fs::read_dir).flatten().flatten() {
        let path = entry.path();
        let is_aside = path.extension().is_some_and(|e| e == side::ENDING);
        let Some(belongs) = is_aside.then(|| side::belongs(&path).ok()).flatten() else { continue };
        if belongs.logbook == logbook {
            let bytes = entry.metadata().map_or(0, |m| m.len());
            let note = format!(
                "what the logbook did not take; `hollow-mile logbook recover {}` brings it in",
                path.display()
            );
            found.push(Leftover { path, run: belongs.run, bytes, what: ASIDE, note, identity: None });
        }
    }
    Ok(found)
}

/// The file that a lane of a run was made on, where it is still there.
fn scratch_of(run: i64, status: Status, order: &Order, identity: RunId) -> Option<Leftover> {
    let folder = order.folder.clone().unwrap_or_default();
    let path = folder.join(&order.drive);
    let is_file = std::fs::symlink_metadata(&path).is_ok_and(|m| m.is_file());
    let file = is_file.then(|| std::fs::File::open(&path).ok()).flatten()?;
    if mile_drive::file::run_of(&file) != Some(identity) {
        return None;
    }
    let note = match status {
        _ if order.keep => "kept, as was asked for".to_owned(),
        Status::Done => "left by the run, which is done".to_owned(),
        _ => format!(
            "left by the run, which is {}; `hollow-mile resume {run}` goes on with it",
            status.words()
        ),
    };
    let bytes = file.metadata().map_or(0, |m| m.len());
    Some(Leftover { path, run, bytes, what: SCRATCH, note, identity: Some(identity) })
}

/// The folder of whole files that a lane of a run worked with, where it is still there.
fn files_of(run: i64, order: &Order, identity: RunId) -> Option<Leftover> {
    let folder = order.folder.clone().unwrap_or_default();
    let path = mile_drive::file::folder_for_files(&folder.join(&order.drive));
    let (made_by, bytes) = mile_drive::files::run_of_folder(&path)?;
    (made_by == identity).then(|| {
        let note = if order.keep { "whole files, kept, as was asked for" } else { "whole files of the run" };
        Leftover { path, run, bytes: bytes.0, what: FILES, note: note.to_owned(), identity: Some(identity) }
    })
}
