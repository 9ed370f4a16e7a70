//! What places ask for: of the runner, the logbook and the drives.

use super::jobs::Jobs;
use super::place::LOGBOOK;
use super::state::{HealthPlace, State, Wanted};
use mile_core::{Bytes, Nanos};
use mile_runner::Command;
use std::time::Duration;

/// Reads the health of the drive that is selected on the bench.
pub(crate) fn arrive_at_health(state: &mut State, jobs: &Jobs) {
    let drive = state.bench.cards.get(state.bench.selected).map(|c| c.identity.name.clone());
    if drive != state.health.drive {
        state.health = HealthPlace { drive, ..HealthPlace::default() };
    }
    state.health.then = None;
    // A run may have changed it since; what is shown stays until the answer is there.
    read_health(state, jobs, Duration::ZERO);
}

pub(crate) fn read_health(state: &State, jobs: &Jobs, after: Duration) {
    if let Some(drive) = &state.health.drive {
        jobs.health(&state.setup.logbook_path, drive, after);
    }
}

pub(crate) fn command(state: &mut State, command: Command) {
    if let Some(strings) = state.runs.live.as_ref().and_then(|l| l.strings.as_ref()) {
        // The run may have ended just now.
        let _ = strings.commands.send(command);
    }
}

/// Compares the runs that are marked in the logbook.
pub(crate) fn compare(state: &mut State, jobs: &Jobs) {
    let sides = state.logbook.sides.clone();
    if sides.iter().all(Vec::is_empty) {
        return state.complain(format!(
            "Mark runs in the logbook ({}): a for side A, b for side B. With one side marked it is held against what is claimed.",
            LOGBOOK.key()
        ));
    }
    state.compare.asked = Some(sides.clone());
    let comparing = jobs.compare(&state.setup.logbook_path, sides);
    state.wait_for(comparing);
}

/// Where no run is open, opens the run underway, or the newest of the logbook that the place can show.
pub(crate) fn show_something(state: &mut State, jobs: &Jobs, wanted: Wanted) {
    if !state.findings.is_empty() {
        return;
    }
    match state.runs.live.as_ref().and_then(|l| l.number) {
        Some(run) => show(state, jobs, run),
        None => {
            state.findings.missing.clear();
            jobs.newest(&state.setup.logbook_path, wanted);
        }
    }
}

/// Loads a run into the place of findings.
pub(crate) fn show(state: &mut State, jobs: &Jobs, run: i64) {
    state.findings.loading = Some(run);
    let reading = jobs.load(&state.setup.logbook_path, run, 0);
    state.wait_for(reading);
}

/// Keeps a note with the run that is looked at: on the selected break, or at the cursor, or at its end.
pub(crate) fn note_break(state: &mut State, jobs: &Jobs, said: String) {
    let selected = state.findings.selected;
    let cursor = state
        .findings
        .framing
        .cursor
        .zip(state.findings.sight().map(|s| state.findings.framing.resolve(&s).0));
    let Some(shown) = &mut state.findings.shown else { return };
    let of_break = selected.and_then(|i| Some((i, shown.findings.breaks.get(i)?)));
    let (at, bytes, text) = match (of_break, cursor) {
        (Some((i, b)), _) => {
            (Nanos::from_secs(b.at_s), Bytes(b.at_bytes), format!("on break {}: {said}", i + 1))
        }
        (None, Some((at, ruler))) => {
            let sample = ruler.sample(&shown.trace, at);
            (shown.trace.end(sample), shown.trace.moved(sample + 1), said)
        }
        (None, None) => (shown.trace.end(usize::MAX), shown.trace.moved(usize::MAX), said),
    };
    let event = mile_runner::Event { at, bytes, kind: mile_runner::EventKind::Note(text) };
    shown.events.push(event.clone());
    jobs.note(&state.setup.logbook_path, shown.run, shown.lane, event);
}
