//! The form before a run: what is started on what, what would happen, and what allows it.

use crate::tui::jobs::Jobs;
use crate::tui::state::{Choice, Overlay, StartForm, State};
use crossterm::event::{Event, KeyCode, KeyEvent};
use mile_bench::bench::Named;
use mile_bench::session::{self, Order, OrderLane};
use mile_core::Bytes;
use mile_drive::block::Consent;
use mile_runner::remote::Client;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

/// Legs that are listed before a start.
const MOST_LEGS: usize = 10;
/// Runs underway at a time.
const MOST_RUNS: usize = 8;
/// Seed of runs that are started from the terminal.
const SEED: u64 = 1;

/// Refuses one run more than a terminal shows.
pub(super) fn room_for_one_more(state: &State) -> Result<(), String> {
    if state.underway() < MOST_RUNS {
        return Ok(());
    }
    Err(format!("{MOST_RUNS} runs are underway, as many as are shown at a time; wait for one to end."))
}

pub(super) fn ask_start(state: &mut State, jobs: &Jobs) {
    if let Err(text) = room_for_one_more(state) {
        return state.complain(text);
    }
    let card = state.bench.cards.get(state.bench.selected);
    let drive = card.map(|c| c.identity.name.clone());
    let arming_word = card.and_then(|c| c.arming_word.clone());
    // The demo begins with the course that shows most.
    let chosen = if state.is_demo { 1.min(state.choices.len().saturating_sub(1)) } else { 0 };
    let mut form = StartForm {
        field: if drive.is_some() { 0 } else { 1 },
        drive,
        lanes: Vec::new(),
        choices: one_drive(&state.choices),
        chosen,
        path: Input::new("./scratch.bin".into()),
        size: Input::new("4GB".into()),
        arming_word,
        arm: Input::default(),
        warnings: Vec::new(),
        ..StartForm::default()
    };
    look_ahead(state, jobs, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

/// The courses for one drive.
fn one_drive(choices: &[Choice]) -> Vec<Choice> {
    choices.iter().filter(|c| c.lanes.is_empty()).cloned().collect()
}

/// Asks whether a course for several drives is to be started on the selected drive and those below it.
pub(super) fn ask_start_lanes(state: &mut State, jobs: &Jobs) {
    if let Err(text) = room_for_one_more(state) {
        return state.complain(text);
    }
    let choices: Vec<Choice> = state.choices.iter().filter(|c| !c.lanes.is_empty()).cloned().collect();
    let Some(course) = choices.first() else {
        return state.complain("There is no course for several drives.");
    };
    let cards = state.bench.cards.iter().skip(state.bench.selected).take(course.lanes.len());
    let drives: Vec<String> = cards.clone().map(|c| c.identity.name.clone()).collect();
    if drives.len() < course.lanes.len() {
        return state.complain("Select the first of the drives; the course takes those below it as well.");
    }
    if cards.clone().any(|c| c.arming_word.is_some()) {
        let on: Vec<String> =
            course.lanes.iter().zip(&drives).map(|(lane, drive)| format!("--on {lane}={drive}")).collect();
        return state.complain(format!(
            "Real drives are armed one by one on the command line: hollow-mile run COURSE {}",
            on.join(" ")
        ));
    }
    let lanes = course.lanes.iter().cloned().zip(drives.iter().cloned()).collect();
    let mut form = StartForm {
        field: 0,
        drive: Some(drives.join(" + ")),
        lanes,
        choices,
        chosen: 0,
        path: Input::default(),
        size: Input::default(),
        arming_word: None,
        arm: Input::default(),
        warnings: Vec::new(),
        ..StartForm::default()
    };
    look_ahead(state, jobs, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

/// Offers to start the course that would settle the selected break, or the one that the findings suggest, on the drive that they are of.
pub(super) fn start_next(state: &mut State, jobs: &Jobs) {
    let selected = state.findings.selected;
    let suggestion = state.findings.shown.as_ref().and_then(|s| {
        let of_break = selected
            .and_then(|i| s.findings.breaks.get(i))
            .and_then(|b| mile_core::next_step::settle(&s.trace, &s.context, b));
        let text = of_break.or_else(|| s.findings.next_step.clone())?.course?;
        let drive = &s.head.lane(s.lane).drive;
        Some((drive.name.clone(), drive.simulated, text))
    });
    let Some((drive, simulated, text)) = suggestion else {
        state.complain("These findings suggest no next run.");
        return;
    };
    let arming_word =
        state.bench.cards.iter().find(|c| c.identity.name == drive).and_then(|c| c.arming_word.clone());
    let named = simulated || arming_word.is_some();
    let mut form = StartForm {
        drive: named.then(|| drive.clone()),
        lanes: Vec::new(),
        arming_word,
        arm: Input::default(),
        choices: vec![Choice { name: "as the findings suggest".into(), text, lanes: Vec::new() }],
        chosen: 0,
        path: Input::new(drive),
        size: Input::new("4GB".into()),
        field: usize::from(!named),
        warnings: Vec::new(),
        ..StartForm::default()
    };
    look_ahead(state, jobs, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

fn order(state: &State, form: &StartForm) -> Result<Order, String> {
    let choice = form.choices.get(form.chosen).ok_or("there is no course")?;
    let size = match &form.drive {
        Some(_) => None,
        None => Some(form.size.value().parse::<Bytes>().map_err(|e| e.to_string())?),
    };
    Ok(Order {
        course_text: choice.text.clone(),
        course_name: choice.name.clone(),
        lanes: if form.lanes.is_empty() {
            let drive = form.drive.clone().unwrap_or_else(|| form.path.value().to_owned());
            let named = Named { drive, size, seed: SEED, consent: consent(form), ..Named::default() };
            vec![OrderLane { named, ..OrderLane::default() }]
        } else {
            let lane = |(name, drive): &(String, String)| OrderLane {
                name: name.clone(),
                named: Named { drive: drive.clone(), seed: SEED, ..Named::default() },
                ..OrderLane::default()
            };
            form.lanes.iter().map(lane).collect()
        },
        speed: state.speed,
        keep: false,
        discard_first: false,
        // The simulated bench has its own beside each drive that is measured with others.
        instruments: (!form.lanes.is_empty()).then(|| "bench".to_owned()),
        warnings: form.warnings.clone(),
        resume: None,
    })
}

/// What is typed to arm the drive: its serial number, and behind it what may be destroyed.
fn consent(form: &StartForm) -> Consent {
    let typed = form.arm.value().trim();
    let Some(word) = form.arming_word.as_deref().filter(|_| !typed.is_empty()) else {
        return Consent::default();
    };
    // A serial number may hold blanks itself.
    match typed.strip_prefix(word).filter(|rest| rest.is_empty() || rest.starts_with(' ')) {
        Some(rest) => Consent {
            arm: Some(word.to_owned()),
            destroy: rest.split_whitespace().map(str::to_owned).collect(),
        },
        None => Consent { arm: Some(typed.to_owned()), destroy: Vec::new() },
    }
}

/// Has it looked at what would happen: a drive is asked for that.
pub(super) fn look_ahead(state: &mut State, jobs: &Jobs, form: &mut StartForm) {
    state.questions += 1;
    (form.asked, form.outlook) = (state.questions, None);
    jobs.look_ahead(form, order(state, form));
}

/// Says what would happen.
pub(in crate::tui) fn ahead(form: &StartForm, order: Order) -> Result<Vec<String>, String> {
    let ready = session::plan(order).map_err(|f| f.message().to_owned())?;
    let mut lines: Vec<String> = Vec::new();
    for lane in &ready.lanes {
        if ready.lanes.len() > 1 {
            if !lines.is_empty() {
                lines.push(String::new());
            }
            lines.push(format!("{}, {}", lane.name, lane.card().identity.model));
        }
        legs_ahead(form, lane, ready.lanes.len(), &mut lines);
    }
    lines.extend(form.warnings.iter().map(|w| format!("! {w}")));
    let changes = ready.lanes.iter().any(|l| l.plan.changes_the_drive());
    if let Some(word) = form.arming_word.as_ref().filter(|_| changes) {
        lines.push(format!(
            "All that is on this drive will be lost. To allow it, type its serial number or name, {word}, and behind it what may be destroyed if something is found on it."
        ));
    }
    Ok(lines)
}

/// Says what would happen on a lane.
fn legs_ahead(form: &StartForm, lane: &session::ReadyLane, lanes: usize, lines: &mut Vec<String>) {
    let (legs, most) = (&lane.plan.legs, MOST_LEGS / lanes.max(1));
    let line = |l: &mile_course::PlannedLeg| format!("{:<12} {}", l.name, l.words());
    // What a drive does while it is only watched goes without saying.
    let own = || legs.iter().filter(|l| l.work != mile_course::Work::Watch);
    lines.extend(own().take(most).map(line));
    if own().count() > most {
        lines.push(format!("… and {} legs more", own().count() - most));
    }
    lines.push(String::new());
    lines.push(writes_ahead(lane));
    lines.extend(lane.plan.notes.iter().filter(|n| !form.warnings.contains(n)).cloned());
}

/// How much a lane writes, as far as that is known before.
fn writes_ahead(lane: &session::ReadyLane) -> String {
    let writes = lane.plan.writes();
    let of_endurance = |bytes: Bytes| {
        let share =
            |e: Bytes| format!(", {:.3} % of the rated endurance", 100.0 * bytes.0 as f64 / e.0 as f64);
        lane.endurance().map_or(String::new(), share)
    };
    match lane.claimed_write() {
        _ if !lane.plan.has_writes_by_time() && writes == Bytes(0) => "Writes nothing.".into(),
        _ if !lane.plan.has_writes_by_time() => format!("Writes at most {writes}{}.", of_endurance(writes)),
        Some(claim) => {
            let all = Bytes(writes.0 + lane.plan.writes_by_time(claim).0);
            format!("Writes {all} if the drive keeps up its claimed {claim}{}.", of_endurance(all))
        }
        None if writes == Bytes(0) => "Writes as much as the drive takes in the time of its legs.".into(),
        None => {
            format!("Writes at most {writes}, and in legs that only a time ends as much as the drive takes.")
        }
    }
}

pub(super) fn start_key(state: &mut State, jobs: &Jobs, mut form: StartForm, key: KeyEvent) {
    let event = Event::Key(key);
    match (key.code, form.field) {
        _ if form.starting => {
            state.overlay = Some(Overlay::Start(Box::new(form)));
            return;
        }
        (KeyCode::Enter, _) => {
            match order(state, &form) {
                Ok(order) => {
                    form.starting = true;
                    jobs.start(&state.logbook_path, form.asked, order);
                }
                Err(text) => form.outlook = Some(Err(text)),
            }
            state.overlay = Some(Overlay::Start(Box::new(form)));
            return;
        }
        (KeyCode::Tab | KeyCode::Down, _) if form.drive.is_none() => form.field = (form.field + 1) % 3,
        (KeyCode::BackTab | KeyCode::Up, _) if form.drive.is_none() => form.field = (form.field + 2) % 3,
        (KeyCode::Tab | KeyCode::BackTab, _) if form.arming_word.is_some() => form.field = 3 - form.field,
        (KeyCode::Right | KeyCode::Down | KeyCode::Char('l' | 'j'), 0) => {
            form.chosen = (form.chosen + 1) % form.choices.len().max(1)
        }
        (KeyCode::Left | KeyCode::Up | KeyCode::Char('h' | 'k'), 0) => {
            form.chosen = (form.chosen + form.choices.len().max(1) - 1) % form.choices.len().max(1);
        }
        (_, 1) => {
            form.path.handle_event(&event);
        }
        (_, 2) => {
            form.size.handle_event(&event);
        }
        (KeyCode::Up | KeyCode::Down, 3) => form.field = 0,
        (_, 3) => {
            // What would happen is the same, whoever allows it.
            form.arm.handle_event(&event);
            if matches!(form.outlook, Some(Err(_))) {
                look_ahead(state, jobs, &mut form);
            }
            state.overlay = Some(Overlay::Start(Box::new(form)));
            return;
        }
        _ => {}
    }
    look_ahead(state, jobs, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

/// A run was started, or could not be.
pub(super) fn started(
    state: &mut State,
    question: u64,
    started: Result<Box<(Client, Vec<session::Told>)>, String>,
) {
    let form = match &mut state.overlay {
        Some(Overlay::Start(form)) if form.asked == question && question > 0 => Some(form),
        _ => None,
    };
    let text = match started {
        Ok(run) => {
            // The form that asked for it may have been left meanwhile.
            if form.is_some() {
                state.overlay = None;
            }
            match super::shown(state, *run) {
                Ok(()) => return,
                Err(failure) => failure.message().to_owned(),
            }
        }
        // The words of the command line mean nothing here.
        Err(text) if question > 0 => text.replace("--arm ", "").replace("--destroy ", ""),
        Err(text) => text,
    };
    match &mut state.overlay {
        Some(Overlay::Start(form)) if form.asked == question && question > 0 => {
            (form.starting, form.outlook) = (false, Some(Err(text)));
        }
        _ => state.complain(text),
    }
}
