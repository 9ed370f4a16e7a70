//! What came of work in the background.

use super::act::with_health;
use super::input::input;
use super::runs::{became, shown};
use super::start;
use crate::tui::canvas::Framing;
use crate::tui::done::Done;
use crate::tui::editing;
use crate::tui::jobs::Jobs;
use crate::tui::place::HEALTH;
use crate::tui::requests::{read_health, show};
use crate::tui::state::{ComparePlace, Overlay, State};
use crossterm::event::Event;
use std::time::Duration;

/// Has the run that is underway looked at again, the less often the longer it is. One look at a time is asked for, however often the run is opened.
fn follow(state: &mut State, jobs: &Jobs, samples: usize) {
    let findings = &mut state.findings;
    if let Some((run, lane)) = findings.following.filter(|_| !findings.refreshing) {
        findings.refreshing = true;
        let pause = Duration::from_millis(5000 + samples as u64 / 10);
        jobs.load_again(&state.setup.logbook_path, (run, lane), pause);
    }
}

/// Takes in the result of work in the background.
pub(crate) fn done(state: &mut State, jobs: &Jobs, result: Done) {
    match result {
        Done::Task(id, result) => {
            // What came of work that was given up is not taken in.
            if let Some(at) = state.tasks.iter().position(|t| t.id == id) {
                state.tasks.remove(at);
                done(state, jobs, *result);
            }
        }
        Done::Step(id, step) => {
            state.tasks.iter_mut().filter(|t| t.id == id).for_each(|t| t.step.clone_from(&step))
        }
        Done::Listed(Ok(entries)) => {
            state.bench.take_in(&entries);
            state.logbook.take_in(entries);
            jobs.news(&state.setup.logbook_path, &state.bench.cards);
            // It is read anew when it is come to next.
            state.fleet.asked = false;
        }
        Done::Read(early) => {
            state.findings.early = Some(*early).filter(|e| state.findings.loading == Some(e.run));
        }
        Done::Loaded(Ok(shown)) => {
            state.findings.early = None;
            let asked = state.findings.loading == Some(shown.run);
            if asked {
                state.findings.loading = None;
            } else {
                state.findings.refreshing = false;
            }
            let of = (shown.run, shown.lane);
            if asked || state.findings.loading.is_none() && state.findings.following == Some(of) {
                state.findings.following = (shown.status == mile_runner::Status::Underway).then_some(of);
                follow(state, jobs, shown.trace.len());
                let same =
                    state.findings.shown.as_ref().is_some_and(|s| (s.run, s.lane) == (shown.run, shown.lane));
                if !same {
                    state.findings.scroll = 0;
                    let ruler = state.findings.framing.ruler;
                    let kept = state.findings.kept.take().filter(|k| k.0 == shown.run);
                    state.findings.framing = kept.map_or(Framing::on(ruler), |k| k.1);
                }
                // What is looked at again keeps what is selected, as far as it is still there.
                let last = shown.findings.breaks.len().checked_sub(1);
                let kept = state.findings.selected.filter(|_| same && !asked).unwrap_or(0);
                state.findings.selected = last.map(|last| kept.min(last));
                state.findings.shown = Some(*shown);
            } else {
                // It was of another run: the look at this one is still to be asked for.
                follow(state, jobs, 0);
            }
        }
        Done::Ahead(question, outlook) => {
            if let Some(Overlay::Start(form)) = &mut state.overlay
                && form.asked == question
            {
                form.outlook = Some(outlook);
            }
        }
        Done::Setup(drive, Some(last)) => start::last_setup(state, &drive, &last),
        Done::Setup(_, None) => {}
        Done::Started(question, run) => {
            for key in start::started(state, jobs, question, run) {
                input(state, jobs, &Event::Key(key));
            }
        }
        Done::Fleet(of, _) if of != state.fleet.of => {}
        Done::Fleet(_, Ok(found)) => {
            let (models, shown) = *found;
            (state.fleet.models, state.fleet.shown, state.fleet.selected) = (models, shown, 0);
            state.fleet.asked = state.fleet.shown.is_some();
        }
        Done::Fleet(_, Err(text)) => {
            state.fleet.asked = false;
            state.complain(text);
        }
        Done::Watched(Ok(run)) => {
            if let Err(f) = shown(state, jobs, *run) {
                state.complain(f.message());
            }
        }
        Done::Watched(Err(text)) => state.complain(text),
        Done::Became(id, what) => became(state, jobs, id, what),
        Done::Archived(id, run) => {
            if let Some(live) = state.runs.run_mut(id) {
                live.number = Some(run);
            }
        }
        Done::Bench(cards) => {
            let before = state.bench.cards.len();
            state.bench.set_real(cards, state.setup.is_demo);
            if state.bench.cards.len() != before {
                jobs.news(&state.setup.logbook_path, &state.bench.cards);
            }
        }
        Done::News(news) => state.bench.news = news,
        Done::Checked(checked, background) => editing::checked(state, *checked, background),
        Done::Health(Ok(shown)) => {
            if state.health.drive.as_deref() == Some(&shown.card.identity.name) {
                let running =
                    |h: &mile_drive::Health| h.self_test.as_ref().is_some_and(|t| t.running.is_some());
                if shown.card.health.as_ref().is_some_and(running) {
                    // Its progress is looked at as long as it goes on.
                    read_health(state, jobs, Duration::from_secs(3));
                }
                (state.health.shown, state.health.strips) = (Some(*shown), None);
                let then = state.health.then.take();
                if let Some(action) = then.filter(|_| state.place == HEALTH && state.overlay.is_none()) {
                    with_health(state, jobs, action);
                }
            }
        }
        Done::Kept(Ok(line)) => {
            state.tell(format!("Kept: {line}"));
            read_health(state, jobs, Duration::ZERO);
        }
        Done::Tested(Ok(())) => {
            state.tell("The drive has taken the request.");
            read_health(state, jobs, Duration::ZERO);
        }
        Done::Removed(Ok((run, text))) => {
            state.logbook.sides.iter_mut().for_each(|side| side.retain(|r| *r != run));
            state.tell(text);
            jobs.list(&state.setup.logbook_path);
        }
        Done::Removed(Err(text)) => state.complain(text),
        Done::Noted(Ok(())) => state.tell("The note is kept with the run."),
        Done::Noted(Err(text)) => state.complain(text),
        Done::Tested(Err(text)) | Done::Health(Err(text)) | Done::Kept(Err(text)) => state.complain(text),
        Done::Exported(Ok(paths)) => state.tell(format!("Written: {}", paths.join(", "))),
        Done::Newest(wanted, Ok(None)) => state.findings.missing.push(wanted),
        Done::Newest(_, Ok(Some(run))) => {
            if state.findings.is_empty() {
                show(state, jobs, run);
            }
        }
        Done::Newest(_, Err(text)) => state.complain(text),
        Done::Loaded(Err(text)) => {
            (state.findings.loading, state.findings.early) = (None, None);
            (state.findings.following, state.findings.refreshing) = (None, false);
            state.complain(text);
        }
        // Other sides were asked for since.
        Done::Compared(sides, _) if state.compare.asked.as_ref() != Some(&sides) => {}
        Done::Compared(sides, found) => {
            let (found, walks) = match found {
                Ok(both) => (Ok(Box::new(both.0)), both.1),
                Err(text) => (Err(text), Vec::new()),
            };
            state.compare = ComparePlace { found: Some(found), walks, of: sides, ..ComparePlace::default() };
        }
        Done::Listed(Err(text)) | Done::Exported(Err(text)) => state.complain(text),
    }
}
