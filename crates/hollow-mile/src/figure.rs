//! From a run to the file of a figure.

use mile_bench::Failure;
use mile_core::channel::Series;
use mile_core::copies::{self, CopyFound, CopySide};
use mile_core::findings::Break;
use mile_core::ruler::{Ruler, Window};
use mile_core::stages::{LaneTrace, Stage, stages};
use mile_core::{Context, Findings, LegName, Trace};
use mile_course::{PlannedTransfer, Work};
use mile_figures::{
    FigureLane, LanesFigure, RunFigure, draw, draw_lanes, draw_span, draw_surface, draw_sweep, pdf,
};
use mile_files::Replace;
use mile_runner::{LaneHead, RunHead};
use std::io::Write;
use std::path::Path;

/// Course and drive of one lane, for a title.
pub(crate) fn title(head: &RunHead, lane: usize) -> String {
    let of = head.lane(lane);
    match (of.drive.model.as_str(), of.name.as_str()) {
        ("", "") => head.course.clone(),
        ("", name) => format!("{}, {name}", head.course),
        (model, "") => format!("{} on {model}", head.course),
        (model, name) => format!("{} on {model}, {name}", head.course),
    }
}

/// Course and all drives.
pub(crate) fn title_of_all(head: &RunHead) -> String {
    if head.lanes.len() > 1 { format!("{} on {}", head.course, head.models()) } else { title(head, 0) }
}

/// A time in the user's own zone: `2026-11-23 14:05`.
pub(crate) fn when(unix: i64) -> String {
    let zone = jiff::tz::TimeZone::system();
    jiff::Timestamp::from_second(unix)
        .map_or_else(|_| String::new(), |t| t.to_zoned(zone).strftime("%Y-%m-%d %H:%M").to_string())
}

fn lines(head: &RunHead, lane: usize, name: &str) -> Vec<String> {
    let mut lines = Vec::new();
    let of = head.lane(lane);
    let situation = of.situation.line();
    if !situation.is_empty() {
        lines.push(situation);
    }
    let mut made = vec![name.to_owned()];
    if head.started > 0 {
        made.push(format!("started {}", when(head.started)));
    }
    made.extend(of.drive.serial.as_ref().map(|s| format!("serial {s}")));
    made.extend(of.drive.firmware.as_ref().map(|f| format!("firmware {f}")));
    if of.drive.simulated {
        made.push(format!("simulated, seed {}", head.seed));
    }
    lines.push(made.join(", "));
    lines
}

/// What its legs do to the drive, in a line that fits into a figure: `soak: writing 1 MiB blocks, 16 deep`.
fn loads(lane: &LaneHead) -> Option<String> {
    const WIDTH: usize = 130;
    let mut all: Vec<String> = Vec::new();
    for leg in lane.legs.iter().filter(|l| matches!(l.work, Work::Transfer(_) | Work::Files(_))) {
        let text = format!("{}: {}", LegName::read(&leg.name).base, leg.load().words());
        if !all.contains(&text) {
            all.push(text);
        }
    }
    let length = |n: usize| all[..n].iter().map(|t| t.chars().count() + 2).sum::<usize>();
    let fit = (1..=all.len()).take_while(|n| length(*n) <= WIDTH).last()?;
    let more = if fit < all.len() { format!("; and {} more", all.len() - fit) } else { String::new() };
    Some(all[..fit].join("; ") + &more)
}

/// Draws a run as SVG.
pub(crate) fn svg(
    (head, lane): (&RunHead, usize),
    name: &str,
    trace: &Trace,
    findings: &Findings,
    context: &Context,
    ruler: Ruler,
    window: Option<Window>,
) -> Result<String, Failure> {
    let mut lines = lines(head, lane, name);
    lines.extend(loads(head.lane(lane)));
    lines.extend(findings.faults.iter().map(mile_core::Faults::sentence));
    let figure =
        RunFigure { title: &title(head, lane), lines: &lines, trace, findings, context, ruler, window };
    Ok(draw(&figure)?)
}

/// Draws what a run shows as a sweep; `None` where it is none.
pub(crate) fn sweep_svg(
    (head, lane): (&RunHead, usize),
    name: &str,
    findings: &Findings,
) -> Result<Option<String>, Failure> {
    Ok(draw_sweep(&title(head, lane), &lines(head, lane, name), findings)?)
}

/// Draws the surface of a run; `None` where no leg goes over a range of addresses.
pub(crate) fn surface_svg(
    (head, lane): (&RunHead, usize),
    name: &str,
    findings: &Findings,
) -> Result<Option<String>, Failure> {
    Ok(draw_surface(&title(head, lane), &lines(head, lane, name), findings)?)
}

pub(crate) fn span_svg(
    (head, lane): (&RunHead, usize),
    name: &str,
    findings: &Findings,
) -> Result<Option<String>, Failure> {
    Ok(draw_span(&title(head, lane), &lines(head, lane, name), findings)?)
}

/// A lane to be drawn beside others: what it showed.
pub(crate) struct Shown<'a> {
    pub(crate) trace: &'a Trace,
    pub(crate) breaks: &'a [Break],
    pub(crate) context: &'a Context,
    /// Its number in the run, of which these are the channels.
    pub(crate) lane: usize,
    pub(crate) series: &'a [Series],
}

/// What lanes came to in each leg.
pub(crate) fn stages_of(head: &RunHead, lanes: &[Shown<'_>]) -> Vec<Stage> {
    let named: Vec<_> = lanes
        .iter()
        .map(|l| LaneTrace {
            name: &head.lane(l.lane).name,
            trace: l.trace,
            context: l.context,
            series: l.series,
            number: l.lane as u32,
        })
        .collect();
    stages(&named)
}

/// What the copies of a run came to, as far as both of their lanes are among these.
pub(crate) fn copies_of(head: &RunHead, lanes: &[Shown<'_>]) -> Vec<CopyFound> {
    let side = |number: usize| {
        let shown = lanes.iter().find(|l| l.lane == number)?;
        let lane = head.lane(number).name.as_str();
        Some(CopySide { lane, trace: shown.trace, context: shown.context, breaks: shown.breaks })
    };
    let mut all = Vec::new();
    for (number, lane) in head.lanes.iter().enumerate() {
        for leg in &lane.legs {
            let Work::Transfer(PlannedTransfer { copy: Some(part), .. }) = leg.work else { continue };
            if !part.is_source {
                continue;
            }
            let sides = side(number).zip(side(part.partner as usize));
            all.extend(sides.and_then(|(source, target)| copies::copy(&leg.name, source, target)));
        }
    }
    all
}

/// Draws the lanes of a run below each other as SVG. `lanes` are those of the head, in their order.
pub(crate) fn lanes_svg(head: &RunHead, name: &str, lanes: &[Shown<'_>]) -> Result<String, Failure> {
    let what: Vec<String> = head.lanes.iter().map(what).collect();
    let drawn: Vec<FigureLane<'_>> = lanes
        .iter()
        .zip(&head.lanes)
        .zip(&what)
        .map(|((shown, lane), what)| FigureLane {
            name: &lane.name,
            what,
            trace: shown.trace,
            breaks: shown.breaks,
            context: shown.context,
        })
        .collect();
    let mut made = vec![name.to_owned()];
    if head.started > 0 {
        made.push(format!("started {}", when(head.started)));
    }
    if head.lanes.iter().all(|l| l.drive.simulated) {
        made.push(format!("simulated, seed {}", head.seed));
    }
    let mut lines = vec![made.join(", ")];
    lines.extend(copies_of(head, lanes).iter().filter_map(|c| c.lines().into_iter().next()));
    let figure = LanesFigure {
        title: &title_of_all(head),
        lines: &lines,
        lanes: &drawn,
        stages: &stages_of(head, lanes),
        series: lanes.first().map_or(&[], |l| l.series),
    };
    Ok(draw_lanes(&figure)?)
}

/// What a lane is: its drive, and where that is.
pub(crate) fn what(lane: &LaneHead) -> String {
    let situation = lane.situation.line();
    if situation.is_empty() { lane.drive.model.clone() } else { format!("{}, {situation}", lane.drive.model) }
}

/// Writes a figure into a file: as a PDF where its name ends so, else as SVG.
pub(crate) fn write_figure(out: &Path, overwrite: bool, svg: String) -> Result<(), Failure> {
    let is_pdf = out.extension().is_some_and(|e| e.eq_ignore_ascii_case("pdf"));
    let bytes = if is_pdf { as_pdf(&svg)? } else { svg.into_bytes() };
    write_whole(out, overwrite, |target| Ok(target.write_all(&bytes)?))
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

/// The same, or to standard output, where the path is `-`. What is no text is not written to a terminal.
pub(crate) fn write_out(
    path: &Path,
    overwrite: bool,
    is_text: bool,
    write: impl FnOnce(&mut dyn Write) -> Result<(), Failure>,
) -> Result<(), Failure> {
    use std::io::IsTerminal;
    if path.as_os_str() != "-" {
        return write_whole(path, overwrite, write);
    }
    let out = std::io::stdout();
    if !is_text && out.is_terminal() {
        return Err(Failure::usage("this is no text for a terminal; name a file with -o, or send it on"));
    }
    let mut out = std::io::BufWriter::new(out.lock());
    write(&mut out)?;
    Ok(out.flush()?)
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

    /// Block size and depth stood nowhere in a figure.
    #[test]
    fn the_loads_of_a_run_stand_in_its_figure_as_far_as_there_is_room() {
        let lane = |text: &str| {
            let facts = mile_course::DriveFacts {
                capacity: mile_core::Bytes(1 << 40),
                logical_block: mile_core::Bytes(512),
                has_temperature: true,
                readable: true,
                cache: None,
                files: None,
            };
            let plan = mile_course::plan(&mile_course::parse(text).unwrap(), &facts).unwrap();
            LaneHead { legs: plan.legs, ..LaneHead::default() }
        };
        let soak = "course \"c\"\nrepeat 2\n leg idle\n  rest for 1 s\n leg soak\n  write sequential, blocks 1 MiB, depth 16\nend\n";
        assert_eq!(loads(&lane(soak)).as_deref(), Some("soak: writing 1 MiB blocks, 16 deep"));
        let ramp = "course \"c\"\nfor blocks in 4 KiB to 1 MiB times 2\n leg w\n  write random, blocks blocks, depth 4, for 1 s\nend\n";
        let text = loads(&lane(ramp)).unwrap();
        assert!(
            text.starts_with("w: writing random 4 KiB blocks, 4 deep; ") && text.ends_with("; and 6 more"),
            "{text}"
        );
        assert_eq!(loads(&lane("course \"c\"\nleg a\n rest for 1 s\n")), None);
    }

    #[test]
    fn title_and_lines_say_what_was_run_on_what() {
        let mut lane = LaneHead::default();
        let head = |lane: &LaneHead| RunHead { course: "long soak".into(), ..RunHead::of_lane(lane.clone()) };
        assert_eq!(title(&head(&lane), 0), "long soak");
        lane.drive.model = "Merrow K2 2TB".into();
        lane.drive.simulated = true;
        lane.situation.cooling = Some("bare".into());
        assert_eq!(title(&head(&lane), 0), "long soak on Merrow K2 2TB");
        assert_eq!(lines(&head(&lane), 0, "run 3"), ["bare", "run 3, simulated, seed 0"]);
        lane.name = "upper".into();
        assert_eq!(title(&head(&lane), 0), "long soak on Merrow K2 2TB, upper");
    }
}
