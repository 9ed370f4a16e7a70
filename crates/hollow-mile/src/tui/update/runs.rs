//! Runs underway: they are taken on to the screen, tell what they do, and end.

use crate::tui::canvas::Framing;
use crate::tui::jobs::Jobs;
use crate::tui::place::{COMPARE, FINDINGS, LOGBOOK, UNDERWAY};
use crate::tui::requests::show;
use crate::tui::state::{Live, Overlay, State};
use mile_bench::session;
use mile_bench::session::Became;
use mile_logbook::lab::is_lab;
use mile_runner::remote::{Client, Frame};
use mile_runner::{Message, Status};

/// Shows the run of a runner, before there is a screen.
pub(crate) fn attach(
    state: &mut State,
    jobs: &Jobs,
    socket: &std::path::Path,
) -> Result<(), mile_bench::Failure> {
    let mut client = Client::connect(socket)?;
    let before = session::told_before(&mut client)?;
    shown(state, jobs, (client, before))
}

/// Shows a run. Others that are underway go on behind it.
pub(crate) fn shown(
    state: &mut State,
    jobs: &Jobs,
    (client, before): (Client, Vec<session::Told>),
) -> Result<(), mile_bench::Failure> {
    let framing = state.runs.live.as_ref().map_or_else(Default::default, |l| Framing::on(l.framing.ruler));
    state.runs.seen += 1;
    // One of this bench has another number in the archive than in the file in which it is recorded.
    let recorded = client.hello.run.filter(|_| client.hello.pid != 0 && is_lab(&state.setup.logbook_path));
    let mut live = Live::attached(state.runs.seen, client, before, state.runs.told.0.clone())?;
    if let Some(run) = recorded {
        live.number = None;
        jobs.archived(&state.setup.logbook_path, live.id, run);
    }
    if !live.is_stacked() {
        live.framing = framing;
    }
    let before = state.runs.live.replace(live);
    state.runs.others.extend(before.filter(|l| !l.is_over()));
    state.go(UNDERWAY);
    Ok(())
}

/// Takes in what a runner says, or that it is gone.
pub(crate) fn told(state: &mut State, jobs: &Jobs, id: u64, frame: Option<Frame>) {
    match frame {
        Some(Frame::Message(lane, told)) => message(state, jobs, id, lane as usize, told),
        Some(Frame::Number(run)) => {
            numbered(state, jobs, id, run);
        }
        Some(Frame::Hello(_) | Frame::Backlog(_)) => {}
        None => ends(state, jobs, id),
    }
}

/// A runner tells nothing more of a run. Where it has not told its end, it is found out what became of it.
fn ends(state: &mut State, jobs: &Jobs, id: u64) {
    let Some(live) = state.runs.run_mut(id) else { return };
    let number = live.number;
    match live.runner.take().filter(|_| live.outcome().is_none()) {
        Some(runner) => {
            let run = runner.run.or(number);
            jobs.what_became(id, runner, run);
        }
        None => finished(state, jobs, id, None),
    }
}

/// What became of a run whose runner told nothing more is known.
pub(super) fn became(state: &mut State, jobs: &Jobs, id: u64, became: Became) {
    match became {
        Became::GoesOn(run) => {
            let is_shown = state.runs.live.as_ref().is_some_and(|l| l.id == id);
            let pace = state.runs.run_mut(id).and_then(|live| {
                live.strings = None;
                live.pace
            });
            state.runs.others.retain(|l| l.id != id);
            let place = state.place;
            let before = if is_shown { None } else { state.runs.live.take() };
            if let Err(f) = shown(state, jobs, *run) {
                state.complain(f.message());
            }
            if let Some(live) = &mut state.runs.live {
                live.pace = pace;
            }
            if let Some(before) = before {
                let again = state.runs.live.replace(before);
                state.runs.others.extend(again);
            }
            state.go(place);
        }
        Became::Over(status) => finished(state, jobs, id, Some(status)),
        Became::Silent => {
            let Some(live) = state.runs.run_mut(id) else { return };
            live.strings = None;
            let called = live.called();
            state.runs.others.retain(|l| l.id != id);
            state.complain(format!(
                "{called} goes on, and its runner tells this terminal nothing more. `hollow-mile attach` shows it when its runner answers again."
            ));
        }
        Became::Gone => finished(state, jobs, id, None),
    }
}

/// A run has its number in the file in which it is recorded.
fn numbered(state: &mut State, jobs: &Jobs, id: u64, run: i64) {
    let lab = is_lab(&state.setup.logbook_path);
    let Some(live) = state.runs.run_mut(id) else { return };
    match lab {
        true => jobs.archived(&state.setup.logbook_path, id, run),
        false => live.number = Some(run),
    }
}

/// Takes in messages of a run. After the last one its strings are let go, and its findings are loaded.
pub(crate) fn message(state: &mut State, jobs: &Jobs, id: u64, lane: usize, message: Message) {
    let Some(live) = state.runs.run_mut(id) else { return };
    let began = matches!(message, Message::Began(_));
    live.take(lane, message);
    let over = live.outcome().is_some();
    if began {
        jobs.list(&state.setup.logbook_path);
    }
    if over {
        finished(state, jobs, id, None);
    }
}

/// A run is over, or its runner is gone. `status` is how it ended, where only its logbook tells.
fn finished(state: &mut State, jobs: &Jobs, id: u64, status: Option<Status>) {
    let Some(live) = state.runs.run_mut(id) else { return };
    if live.strings.take().is_none() {
        return;
    }
    let status = live.outcome().map(|o| o.status).or(status);
    let (number, called) = (live.number, live.called());
    let is_shown = state.runs.live.as_ref().is_some_and(|l| l.id == id);
    // What was being asked about a run underway has no object any more.
    let asked = matches!(state.overlay, Some(Overlay::ConfirmStop | Overlay::ConfirmQuit | Overlay::Note(_)));
    if asked && is_shown {
        state.overlay = None;
    }
    match (status, number) {
        (Some(status), Some(run)) if !is_shown => {
            state.logbook.put_beside(id, run);
            let key = LOGBOOK.key();
            state.tell(format!("{called} is {}; the logbook ({key}) has it.", status.words()));
        }
        (Some(status), Some(run)) => {
            let words = status.words();
            let next = match state.logbook.put_beside(id, run) {
                Some(first) => format!("{} compares it with run {first}", COMPARE.key()),
                None => format!("{} shows its findings, e exports it", FINDINGS.key()),
            };
            state.tell(format!("The run is {words}; it is run {run} of the logbook. {next}."));
            show(state, jobs, run);
        }
        (Some(_), None) if is_lab(&state.setup.logbook_path) => state.complain(
            "The run is over, and the archive does not have all of it yet; `hollow-mile lab forward` brings it.",
        ),
        (Some(_), None) => state.complain("The run is over, but the logbook does not have it."),
        (None, _) => state.complain(format!(
            "The runner of {} ended unexpectedly. What it had logged is in the logbook; `hollow-mile resume` goes on with it.",
            called.to_lowercase()
        )),
    }
    state.runs.others.retain(|l| l.id != id);
    jobs.list(&state.setup.logbook_path);
}
