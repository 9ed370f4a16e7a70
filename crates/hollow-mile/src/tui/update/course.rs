//! What happens in the place of the plan.

use super::super::check::target;
use super::super::editing::{card, changed, check};
use super::super::jobs::Jobs;
use super::super::state::{Choice, Overlay, PathFor, State, Text};
use crossterm::event::{KeyCode, KeyEvent};
use mile_bench::courses::READY;
use mile_course::format as canonical;
use ratatui_textarea::CursorMove;
use std::path::{Path, PathBuf};

/// Writes the course in its canonical form, with the cursor where it was as nearly as that goes.
pub(super) fn format(state: &mut State) {
    let text = state.course.text();
    match canonical(&text) {
        Ok(formatted) if formatted == text => state.tell("The course is in its canonical form."),
        Ok(formatted) => {
            let (row, column) = (state.course.editor.cursor().0, state.course.editor.cursor().1);
            state.course.set(&formatted);
            let to = |v: usize| u16::try_from(v).unwrap_or(u16::MAX);
            state.course.editor.move_cursor(CursorMove::Jump(to(row), to(column)));
            changed(state);
        }
        Err(_) => state.complain("The course cannot be read yet; what is wrong is marked in it."),
    }
}

/// Looks at the course on the next drive of the bench.
pub(super) fn next_drive(state: &mut State, jobs: &Jobs) {
    let last = state.bench.order().last() == Some(&state.bench.selected);
    state.bench.step(if last { -(state.bench.lines() as isize) } else { 1 });
    // Which drive it is now is seen at once; what the course comes to there follows.
    state.course.checked.target = target(card(state));
    state.course.checked.outlook = None;
    check(state, jobs);
}

/// A key in the list of ready-made courses.
pub(super) fn chooser_key(state: &mut State, jobs: &Jobs, selected: usize, key: KeyEvent) {
    let last = READY.len() - 1;
    let selected = match key.code {
        KeyCode::Up | KeyCode::Char('k') => selected.saturating_sub(1),
        KeyCode::Down | KeyCode::Char('j') => (selected + 1).min(last),
        KeyCode::Home => 0,
        KeyCode::End => last,
        KeyCode::Enter => {
            let ready = READY[selected.min(last)];
            let text = card(state).map_or_else(|| ready.text.to_owned(), |c| ready.for_drive(c));
            state.course.set(&text);
            (state.course.file, state.course.changed) = (None, false);
            check(state, jobs);
            return;
        }
        _ => selected,
    };
    state.overlay = Some(Overlay::Chooser(selected));
}

/// Asks for a file. The one that is known stands there until another is typed.
pub(super) fn ask_path(state: &mut State, purpose: PathFor) {
    let known = state.course.file.as_ref().map(|p| p.display().to_string());
    let name: String =
        state.course.checked.name.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    let text = known.unwrap_or_else(|| match purpose {
        PathFor::Save => format!("./{}.course", if name.is_empty() { "new" } else { &name }),
        PathFor::Open => "./".into(),
    });
    state.overlay = Some(Overlay::Path(purpose, Text::prefilled(text)));
}

pub(super) fn path_key(state: &mut State, jobs: &Jobs, purpose: PathFor, mut path: Text, key: KeyEvent) {
    if key.code != KeyCode::Enter {
        path.key(key);
        state.overlay = Some(Overlay::Path(purpose, path));
        return;
    }
    let file = PathBuf::from(path.value().trim());
    let shown = file.display().to_string();
    match purpose {
        PathFor::Open => match std::fs::read_to_string(&file) {
            Ok(text) => {
                state.course.set(&text);
                (state.course.file, state.course.changed) = (Some(file), false);
                check(state, jobs);
                state.tell(format!("Read from {shown}."));
            }
            Err(e) => {
                state.complain(format!("The course {shown} cannot be read: {e}."));
                state.overlay = Some(Overlay::Path(purpose, path));
            }
        },
        PathFor::Save => match save(state.course.file.as_deref(), &file, &state.course.text()) {
            Ok(()) => {
                (state.course.file, state.course.changed) = (Some(file), false);
                state.tell(format!("Written: {shown}"));
            }
            Err(text) => {
                state.complain(text);
                state.overlay = Some(Overlay::Path(purpose, path));
            }
        },
    }
}

/// Writes a course. Only the file that it came from is written over.
fn save(own: Option<&Path>, file: &Path, text: &str) -> Result<(), String> {
    let write = |out: &mut dyn std::io::Write| Ok(out.write_all(text.as_bytes())?);
    crate::figure::write_whole(file, own == Some(file), write).map_err(|f| f.message().to_owned())
}

/// Asks whether the course is to be started, with what is needed for that.
pub(super) fn ask_start(state: &mut State, jobs: &Jobs) {
    if let Err(text) = super::start::room_for_one_more(state) {
        return state.complain(text);
    }
    let look = match &state.course.checked.outlook {
        Some(Ok(look)) => look,
        Some(Err(_)) => return state.complain("The course does not fit this drive."),
        None => return state.complain("The course cannot be read yet; what is wrong is marked in it."),
    };
    // For several drives, the form has others to choose from.
    if look.refused() && state.course.checked.lanes.is_empty() {
        let refusal = look.items.first().map_or(String::new(), |i| format!("{}; {}", i.why, i.remedy));
        state.complain(format!("It cannot be started: {refusal}."));
        return;
    }
    let warnings = look.warnings();
    let lanes = state.course.checked.lanes.clone();
    let name = state.course.checked.name.clone();
    let choice = Choice { name, text: state.course.text(), lanes };
    super::start::ask(state, jobs, vec![choice], 0, warnings);
}

#[cfg(test)]
mod tests {
    use super::super::super::place::COURSE;
    use super::super::super::tests::{fresh, press, screen};

    /// A path was typed behind the one of the course that was open, and was lost where the file could not be read.
    #[test]
    fn a_path_that_is_typed_takes_the_place_of_the_known_one_and_stays_where_it_is_wrong() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("other.course");
        let text = "course \"other\"\nleg a\n  write sequential, blocks 1 MiB\n  for 1 s\n";
        mile_files::write_whole(&path, mile_files::Replace::Nothing, |out: &mut dyn std::io::Write| {
            out.write_all(text.as_bytes()).unwrap();
            Ok::<(), mile_files::FileError>(())
        })
        .unwrap();
        let mut state = fresh();
        state.place = COURSE;
        state.course.file = Some(folder.path().join("known.course"));
        press(&mut state, "o");
        assert!(screen(&mut state, 200, 24).contains("known.course"));
        press(&mut state, &format!("{}x\n", path.display()));
        let shown = screen(&mut state, 200, 24);
        assert!(shown.contains("cannot be read") && shown.contains("other.coursex"), "{shown}");
        press(&mut state, "\x08\n");
        assert_eq!(state.course.file, Some(path));
        assert!(state.overlay.is_none() && state.course.text().contains("course \"other\""));
    }
}
