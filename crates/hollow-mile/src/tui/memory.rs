//! What the screen looked like when it was left, so that it comes back like that: the place, the theme, the run that was open and how it was framed.
//!
//! It is kept for the user's own logbook and not for the demo. Where it cannot be kept or read, the screen begins as new.

use super::canvas::Framing;
use super::jobs::Jobs;
use super::place::{self, BENCH, UNDERWAY};
use super::places::view;
use super::state::{Grouping, State};
use super::theme::{Kind, Theme};
use mile_bench::Failure;
use mile_core::ruler::{Ruler, Window};
use mile_files::Replace;
use serde::{Deserialize, Serialize};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

const FORMAT: &str = "hollow-mile/screen";
/// Most bytes that are read of it.
const MOST: u64 = 64 << 10;

#[derive(Debug, Default, PartialEq, Serialize, Deserialize)]
struct Screen {
    format: String,
    place: String,
    theme: String,
    /// By what the drives of the bench are put together.
    #[serde(default)]
    grouping: String,
    /// The logbook that the run is in.
    logbook: PathBuf,
    run: Option<i64>,
    /// `bytes`, `time` or `address`.
    ruler: String,
    /// The part of the ruler that was shown, where it was not all.
    window: Option<(f64, f64)>,
}

/// Where it is kept.
fn path() -> Option<PathBuf> {
    let own = directories::ProjectDirs::from("", "", "hollow-mile")?;
    Some(own.state_dir().unwrap_or_else(|| own.data_dir()).join("screen.json"))
}

/// The file, where it is one and ours.
fn read(path: &Path) -> Option<Screen> {
    // Neither a pipe, which would be waited for, nor a device.
    if !std::fs::symlink_metadata(path).ok()?.is_file() {
        return None;
    }
    let mut text = String::new();
    std::fs::File::open(path).ok()?.take(MOST).read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok().filter(|s: &Screen| s.format == FORMAT)
}

fn word(ruler: Ruler) -> &'static str {
    match ruler {
        Ruler::Bytes => "bytes",
        Ruler::Time => "time",
        Ruler::Address => "address",
    }
}

fn of(state: &State) -> Screen {
    let framing = &state.findings.framing;
    Screen {
        format: FORMAT.into(),
        place: state.place.name().into(),
        theme: state.theme.kind().word().into(),
        grouping: state.bench.grouping.word().into(),
        logbook: std::path::absolute(&state.setup.logbook_path).unwrap_or_default(),
        run: state.findings.shown.as_ref().map(|s| s.run),
        ruler: word(framing.ruler).into(),
        window: framing.window().map(|w| (w.from, w.to)),
    }
}

/// Keeps what the screen looks like. What lies at the path and is not ours stays.
pub(super) fn keep(state: &State) {
    let Some(path) = path() else { return };
    if std::fs::symlink_metadata(&path).is_ok() && read(&path).is_none() {
        return;
    }
    let Some(folder) = path.parent() else { return };
    let screen = of(state);
    let write = |out: &mut dyn Write| -> Result<(), Failure> {
        Ok(out.write_all(serde_json::to_string(&screen)?.as_bytes())?)
    };
    // It is no loss where it cannot be written.
    let _ = std::fs::create_dir_all(folder).is_ok()
        && mile_files::write_whole(&path, Replace::File, write).is_ok();
}

/// Brings the screen back as it was left. A run underway is shown in any case.
pub(super) fn restore(state: &mut State, jobs: &Jobs) {
    if let Some(screen) = path().and_then(|p| read(&p)) {
        bring_back(state, jobs, &screen);
    }
}

fn bring_back(state: &mut State, jobs: &Jobs, screen: &Screen) {
    if let Some(kind) = Kind::of(&screen.theme) {
        state.theme = Theme::detect(kind);
    }
    state.bench.grouping = Grouping::of_word(&screen.grouping).unwrap_or_default();
    let same = std::path::absolute(&state.setup.logbook_path).is_ok_and(|own| own == screen.logbook);
    if let Some(run) = screen.run.filter(|_| same) {
        let ruler =
            [Ruler::Bytes, Ruler::Time, Ruler::Address].into_iter().find(|r| word(*r) == screen.ruler);
        let sound = |w: &(f64, f64)| w.0.is_finite() && w.1.is_finite() && w.0 >= 0.0 && w.1 > w.0;
        let window = screen.window.filter(sound).map(|(from, to)| Window { from, to });
        state.findings.kept = Some((run, Framing::framed(ruler.unwrap_or_default(), window)));
        super::requests::show(state, jobs, run);
    }
    let place = place::ALL.iter().copied().find(|p| p.name() == screen.place);
    if state.runs.live.is_none()
        && let Some(place) = place.filter(|p| *p != UNDERWAY && *p != BENCH)
    {
        state.go(place);
        view(place).arrive(state, jobs);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::tests::with_run;

    #[test]
    fn a_screen_is_kept_whole_and_what_is_not_one_is_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("screen.json");
        let state = with_run(0);
        let screen = of(&state);
        std::fs::write(&path, serde_json::to_string(&screen).unwrap()).unwrap();
        assert_eq!(read(&path), Some(screen));
        for wrong in ["", "{}", "[1]", "{\"format\": \"other\"}", "\u{0}"] {
            std::fs::write(&path, wrong).unwrap();
            assert_eq!(read(&path), None, "{wrong}");
        }
        assert_eq!(read(folder.path()), None);
        std::os::unix::fs::symlink("/dev/zero", folder.path().join("zero")).unwrap();
        assert_eq!(read(&folder.path().join("zero")), None);
    }

    #[test]
    fn what_no_longer_fits_is_left_out() {
        let mut state = with_run(0);
        state.runs.live = None;
        let run = state.findings.shown.as_ref().map(|s| s.run);
        let screen = Screen {
            place: "a place that is gone".into(),
            theme: "sepia".into(),
            logbook: "/another.logbook".into(),
            run: Some(99),
            window: Some((f64::NAN, -1.0)),
            ..Screen::default()
        };
        let place = state.place;
        bring_back(&mut state, &Jobs::new(), &screen);
        assert_eq!((state.place, state.findings.loading), (place, None));
        assert_eq!(state.findings.shown.as_ref().map(|s| s.run), run);
    }
}
