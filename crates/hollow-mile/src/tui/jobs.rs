//! Work that takes longer than a frame, off the drawing thread.

use super::state::Shown;
use crate::figure;
use crossbeam_channel::{Receiver, Sender, unbounded};
use mile_core::findings;
use mile_core::ruler::{Ruler, Window};
use mile_logbook::{Entry, Logbook};
use std::path::{Path, PathBuf};

/// What came of it.
pub(crate) enum Done {
    Listed(Result<Vec<Entry>, String>),
    Loaded(Result<Box<Shown>, String>),
    /// Paths of the files written.
    Exported(Result<Vec<String>, String>),
}

/// Starts work, and gives its results.
pub(crate) struct Jobs {
    done: Sender<Done>,
    pub(crate) results: Receiver<Done>,
}

impl Jobs {
    pub(crate) fn new() -> Self {
        let (done, results) = unbounded();
        Self { done, results }
    }

    fn spawn(&self, work: impl FnOnce() -> Done + Send + 'static) {
        let done = self.done.clone();
        // Where no thread can be had, the work is not done; the terminal goes on.
        let _ = std::thread::Builder::new().name("job".into()).spawn(move || {
            let _ = done.send(work());
        });
    }

    /// Reads the list of runs.
    pub(crate) fn list(&self, path: &Path) {
        let path = path.to_owned();
        self.spawn(move || {
            Done::Listed(Logbook::open(&path).and_then(|b| b.list()).map_err(|e| e.to_string()))
        });
    }

    /// Reads a run and computes its findings.
    pub(crate) fn load(&self, path: &Path, run: i64) {
        let path = path.to_owned();
        self.spawn(move || Done::Loaded(load(&path, run).map(Box::new)));
    }

    /// Writes the figures of a run into the current folder.
    pub(crate) fn export(&self, path: &Path, run: i64, ruler: Ruler, window: Option<Window>) {
        let path = path.to_owned();
        self.spawn(move || Done::Exported(export(&path, run, ruler, window)));
    }
}

/// Reads a run and computes its findings.
pub(crate) fn load(path: &Path, run: i64) -> Result<Shown, String> {
    let stored = Logbook::open(path).and_then(|b| b.run(run)).map_err(|e| e.to_string())?;
    let trace = stored.trace();
    let context = stored.head.context();
    Ok(Shown {
        run,
        status: stored.status,
        findings: findings(&trace, &context),
        head: stored.head,
        context,
        trace,
        events: stored.events,
    })
}

fn export(path: &Path, run: i64, ruler: Ruler, window: Option<Window>) -> Result<Vec<String>, String> {
    let shown = load(path, run)?;
    let name = format!("run {run}");
    let text = |f: crate::Failure| f.message().to_owned();
    let svg = figure::svg(&shown.head, &name, &shown.trace, &shown.findings, &shown.context, ruler, window)
        .map_err(text)?;
    let pdf = figure::as_pdf(&svg).map_err(text)?;
    let course: String =
        shown.head.course.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    let stem = free_stem(&format!("run-{run}-{course}"));
    let mut written = Vec::new();
    for (kind, bytes) in [("svg", svg.as_bytes()), ("pdf", pdf.as_slice())] {
        let target = PathBuf::from(format!("{stem}.{kind}"));
        figure::write_whole(&target, false, |out| Ok(out.write_all(bytes)?)).map_err(text)?;
        written.push(target.display().to_string());
    }
    Ok(written)
}

/// A name for the files that none of them has yet.
fn free_stem(stem: &str) -> String {
    let taken = |s: &str| ["svg", "pdf"].iter().any(|k| Path::new(&format!("{s}.{k}")).exists());
    (1..)
        .map(|i| if i == 1 { stem.to_owned() } else { format!("{stem}-{i}") })
        .find(|s| !taken(s))
        .unwrap_or_default()
}
