//! From a run to the file of a figure.

use crate::Failure;
use mile_core::ruler::{Ruler, Window};
use mile_core::{Context, Findings, Trace};
use mile_figures::{RunFigure, draw, draw_sweep, pdf};
use mile_files::Replace;
use mile_runner::RunHead;
use std::io::Write;
use std::path::Path;

/// Course and drive, for a title.
pub(crate) fn title(head: &RunHead) -> String {
    if head.drive.model.is_empty() {
        head.course.clone()
    } else {
        format!("{} on {}", head.course, head.drive.model)
    }
}

/// A time in the user's own zone: `2026-11-23 14:05`.
pub(crate) fn when(unix: i64) -> String {
    let zone = jiff::tz::TimeZone::system();
    jiff::Timestamp::from_second(unix)
        .map_or_else(|_| String::new(), |t| t.to_zoned(zone).strftime("%Y-%m-%d %H:%M").to_string())
}

fn lines(head: &RunHead, name: &str) -> Vec<String> {
    let mut lines = Vec::new();
    let situation = head.situation.line();
    if !situation.is_empty() {
        lines.push(situation);
    }
    let mut made = vec![name.to_owned()];
    if head.started > 0 {
        made.push(format!("started {}", when(head.started)));
    }
    made.extend(head.drive.serial.as_ref().map(|s| format!("serial {s}")));
    made.extend(head.drive.firmware.as_ref().map(|f| format!("firmware {f}")));
    if head.drive.simulated {
        made.push(format!("simulated, seed {}", head.seed));
    }
    lines.push(made.join(", "));
    lines
}

/// Draws a run as SVG.
pub(crate) fn svg(
    head: &RunHead,
    name: &str,
    trace: &Trace,
    findings: &Findings,
    context: &Context,
    ruler: Ruler,
    window: Option<Window>,
) -> Result<String, Failure> {
    let mut lines = lines(head, name);
    lines.extend(findings.faults.iter().map(mile_core::Faults::sentence));
    let figure = RunFigure { title: &title(head), lines: &lines, trace, findings, context, ruler, window };
    Ok(draw(&figure)?)
}

/// Draws what a run shows as a sweep; `None` where it is none.
pub(crate) fn sweep_svg(head: &RunHead, name: &str, findings: &Findings) -> Result<Option<String>, Failure> {
    Ok(draw_sweep(&title(head), &lines(head, name), findings)?)
}

/// The PDF of an SVG.
pub(crate) fn as_pdf(svg: &str) -> Result<Vec<u8>, Failure> {
    Ok(pdf(svg)?)
}

/// Writes a file whole or not at all: to a new file beside it, which then takes its name.
pub(crate) fn write_whole(
    path: &Path,
    overwrite: bool,
    write: impl FnOnce(&mut dyn Write) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let replace = if overwrite { Replace::File } else { Replace::Nothing };
    mile_files::write_whole(path, replace, write)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn write(path: &Path, overwrite: bool, text: &str) -> Result<(), Failure> {
        write_whole(path, overwrite, |out| Ok(out.write_all(text.as_bytes())?))
    }

    #[test]
    fn a_file_is_written_whole_and_never_over_another_unasked() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.svg");
        write(&path, false, "first").unwrap();
        let refused = write(&path, false, "second").unwrap_err();
        assert!(refused.message().contains("--overwrite"), "{}", refused.message());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "first");
        write(&path, true, "second").unwrap();
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "second");
        let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&path).unwrap().permissions());
        assert_eq!(mode & 0o777, 0o644);
    }

    #[test]
    fn a_failure_half_way_leaves_what_was_there_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.svg");
        write(&path, false, "first").unwrap();
        let failed = write_whole(&path, true, |out| {
            out.write_all(b"half")?;
            Err(Failure::run("the figure could not be drawn"))
        });
        assert!(failed.is_err());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "first");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "no half-written file is left");
        assert!(write(&folder.path().join("no/such/a.svg"), false, "x").is_err());
    }

    #[test]
    fn title_and_lines_say_what_was_run_on_what() {
        let mut head = RunHead { course: "long soak".into(), ..RunHead::default() };
        assert_eq!(title(&head), "long soak");
        head.drive.model = "Merrow K2 2TB".into();
        head.drive.simulated = true;
        head.situation.cooling = Some("bare".into());
        assert_eq!(title(&head), "long soak on Merrow K2 2TB");
        assert_eq!(lines(&head, "run 3"), ["bare", "run 3, simulated, seed 0"]);
    }
}
