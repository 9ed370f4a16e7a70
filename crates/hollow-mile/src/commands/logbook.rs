//! `hollow-mile logbook`: the archive of runs.

use crate::cli::{Format, LogbookArgs, LogbookCommand};
use crate::figure::when;
use crate::session::logbook_path;
use crate::{Failure, text};
use mile_core::{Bytes, Nanos};
use mile_drive::clock::unix_seconds;
use mile_logbook::{Entry, Logbook, store};

pub(crate) fn run(args: &LogbookArgs) -> Result<(), Failure> {
    match &args.command {
        LogbookCommand::List { logbook, format } => {
            let list = Logbook::open_existing(&logbook_path(logbook.as_deref())?)?.list()?;
            match format {
                Format::Json => text::say(&serde_json::to_string_pretty(&list)?),
                Format::Text if list.is_empty() => text::say("The logbook has no run yet."),
                Format::Text => list.iter().for_each(|entry| text::say(&line(entry))),
            }
        }
        LogbookCommand::SetAside { logbook } => {
            let path = logbook_path(logbook.as_deref())?;
            let aside = store::set_aside(&path, unix_seconds())?;
            Logbook::open(&path)?;
            text::say(&format!(
                "The old logbook is now {}; {} is a new one.",
                aside.display(),
                path.display()
            ));
        }
    }
    Ok(())
}

fn line(entry: &Entry) -> String {
    let mut out = format!(
        "{:>5}  {}  {:<18} {:<16} {}",
        entry.run,
        when(entry.started),
        entry.course,
        entry.model,
        entry.status.words()
    );
    if let Some(d) = &entry.digest {
        out.push_str(&format!(", {} in {}", Bytes(d.bytes), Nanos::from_secs(d.seconds)));
        if !d.breaks.is_empty() {
            out.push_str(&format!(": {}", d.causes()));
        }
    }
    out
}
