//! The form before a run: what is started on what, what would happen, and what allows it.

use super::runs::shown;
use crate::tui::done::LastSetup;
use crate::tui::jobs::Jobs;
use crate::tui::state::{Beside, Choice, Field, FormLane, Overlay, SETUP, StartForm, State, Text, celsius};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use mile_bench::bench::{Card, Named};
use mile_bench::session::{self, Order, OrderLane};
use mile_core::Bytes;
use mile_drive::Situation;
use mile_drive::block::Consent;
use mile_drive::health::TestKind;
use mile_runner::remote::Client;

/// Runs underway at a time.
const MOST_RUNS: usize = 8;
/// Seed of runs that are started from the terminal.
const SEED: u64 = 1;

/// Refuses one run more than a terminal shows.
pub(super) fn room_for_one_more(state: &State) -> Result<(), String> {
    if state.runs.underway() < MOST_RUNS {
        return Ok(());
    }
    Err(format!("{MOST_RUNS} runs are underway, as many as are shown at a time; wait for one to end."))
}

pub(super) fn ask_start(state: &mut State, jobs: &Jobs) {
    if let Err(text) = room_for_one_more(state) {
        return state.complain(text);
    }
    // The demo begins with the course that shows most.
    let chosen = if state.setup.is_demo { 1.min(state.setup.choices.len().saturating_sub(1)) } else { 0 };
    // Those for several drives come last, so that they are found by their names too.
    let mut choices = state.setup.choices.clone();
    choices.sort_by_key(|c| !c.lanes.is_empty());
    ask(state, jobs, choices, chosen, Vec::new());
}

/// Asks whether a course for several drives is to be started on the selected drive and those below it.
pub(super) fn ask_start_lanes(state: &mut State, jobs: &Jobs) {
    if let Err(text) = room_for_one_more(state) {
        return state.complain(text);
    }
    let choices: Vec<Choice> = state.setup.choices.iter().filter(|c| !c.lanes.is_empty()).cloned().collect();
    if choices.is_empty() {
        return state.complain("There is no course for several drives.");
    }
    ask(state, jobs, choices, 0, Vec::new());
}

/// Asks whether one of these courses is to be started: on the selected drive, and those below it where it has several lanes.
pub(super) fn ask(
    state: &mut State,
    jobs: &Jobs,
    choices: Vec<Choice>,
    chosen: usize,
    warnings: Vec<String>,
) {
    let form = StartForm {
        choices,
        chosen,
        path: Text::prefilled("./scratch.bin"),
        size: Text::prefilled("4GB"),
        warnings,
        ..StartForm::default()
    };
    open_form(state, jobs, form);
}

/// Opens the form, with a drive of the bench for each lane, where it has none yet.
fn open_form(state: &mut State, jobs: &Jobs, mut form: StartForm) {
    if let Err(text) = set_lanes(state, &mut form) {
        return state.complain(text);
    }
    // Of several courses one is chosen first; a file has first to be named.
    let fields = form.fields();
    let first = fields.iter().find(|f| !form.lanes.is_empty() || **f != Field::Course);
    form.field = first.copied().unwrap_or_default();
    show(state, jobs, form);
}

/// Shows a form, with what is known of how its drive is set up: as the drive tells, and as it was said for its last run.
fn show(state: &mut State, jobs: &Jobs, mut form: StartForm) {
    let card = form.lanes.first().filter(|_| form.asks_setup());
    let card = card.and_then(|lane| state.bench.cards.iter().find(|c| c.identity.name == lane.drive));
    if let Some(card) = card {
        form.setup.prefill(&card.situation, &session::claims_text(&card.claims, &[]));
        // A simulated drive is set up as its model says, whatever another model of the same drive was.
        if !card.identity.simulated {
            jobs.last_setup(&state.setup.logbook_path, &card.identity);
        }
    }
    look_ahead(state, jobs, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

/// Takes in how a drive was set up for its last run.
pub(super) fn last_setup(state: &mut State, drive: &str, last: &LastSetup) {
    let Some(Overlay::Start(form)) = &mut state.overlay else { return };
    if !form.asks_setup() || form.lanes.first().is_none_or(|l| l.drive != drive) {
        return;
    }
    form.setup.prefill(&last.situation, &last.claims);
    form.setup.from = last.run;
    form.known_instruments.clone_from(&last.instruments);
    form.suggest_instruments(false);
}

/// Whether a lane is on a drive of the simulated bench.
fn is_simulated(state: &State, lane: &FormLane) -> bool {
    let card = state.bench.cards.iter().find(|c| c.identity.name == lane.drive);
    card.is_some_and(|c| c.identity.simulated)
}

/// Gives each lane of the chosen course a drive, and suggests instruments for them.
fn set_lanes(state: &State, form: &mut StartForm) -> Result<(), String> {
    find_lanes(state, form)?;
    form.suggest_instruments(form.lanes.len() > 1 && form.lanes.iter().all(|l| is_simulated(state, l)));
    Ok(())
}

/// Gives each lane of the chosen course a drive: those that it had, as far as there are as many, or those of the bench from the selected one on.
fn find_lanes(state: &State, form: &mut StartForm) -> Result<(), String> {
    let names = form.choices.get(form.chosen).map(|c| c.lanes.clone()).unwrap_or_default();
    if form.lanes.len() == names.len() && !names.is_empty() {
        for (lane, name) in form.lanes.iter_mut().zip(names) {
            lane.name = name;
        }
        return Ok(());
    }
    if names.is_empty() {
        let card = state.bench.cards.get(state.bench.selected);
        form.lanes = card.map(|c| lane_on(String::new(), c)).into_iter().collect();
        return Ok(());
    }
    let cards = state.bench.for_lanes();
    if names.len() > cards.len() {
        return Err(format!(
            "The course is for {} drives, and the bench has {}; files can be named on the command line.",
            names.len(),
            cards.len()
        ));
    }
    form.lanes = names.into_iter().zip(cards).map(|(name, card)| lane_on(name, card)).collect();
    Ok(())
}

fn lane_on(name: String, card: &Card) -> FormLane {
    let drive = card.identity.name.clone();
    FormLane { name, drive, arming_word: card.arming_word.clone(), arm: Text::default() }
}

/// Puts a lane on the drive that is so many further on the bench. That no two lanes are on one drive is seen to when the run is planned.
fn next_drive(state: &State, form: &mut StartForm, lane: usize, by: usize) {
    let cards = &state.bench.cards;
    let lane = &mut form.lanes[lane];
    let Some(at) = cards.iter().position(|c| c.identity.name == lane.drive) else { return };
    *lane = lane_on(std::mem::take(&mut lane.name), &cards[(at + by) % cards.len()]);
    // They were said of another drive.
    form.warnings.clear();
}

/// Offers to start the course that would settle the selected break, or the one that the findings suggest, on the drive that they are of.
pub(super) fn start_next(state: &mut State, jobs: &Jobs) {
    let selected = state.findings.selected;
    let suggestion = state.findings.shown.as_ref().and_then(|s| {
        let text = s.findings.next_step_for(selected)?.course.clone()?;
        let drive = &s.head.lane(s.lane).drive;
        Some((drive.name.clone(), drive.simulated, text))
    });
    let Some((drive, simulated, text)) = suggestion else {
        state.complain("These findings suggest no next run.");
        return;
    };
    let card = state.bench.cards.iter().find(|c| c.identity.name == drive);
    let lanes = match card {
        Some(card) => vec![lane_on(String::new(), card)],
        None if simulated => vec![FormLane { drive: drive.clone(), ..FormLane::default() }],
        None => Vec::new(),
    };
    let is_file = lanes.is_empty();
    let form = StartForm {
        lanes,
        choices: vec![Choice { name: "as the findings suggest".into(), text, lanes: Vec::new() }],
        path: Text::prefilled(drive),
        size: Text::prefilled("4GB"),
        field: if is_file { Field::Path } else { Field::Setup(0) },
        ..StartForm::default()
    };
    show(state, jobs, form);
}

/// Offers to start a run in which a simulated drive tests itself.
pub(super) fn ask_self_test(state: &mut State, jobs: &Jobs, drive: String, kind: TestKind) {
    if let Err(text) = room_for_one_more(state) {
        return state.complain(text);
    }
    let kind = kind.word();
    let text = format!("course \"self-test\"\nleg {kind}\n  self-test {kind}\n");
    let card = state.bench.cards.iter().find(|c| c.identity.name == drive);
    let lane = card.map_or_else(|| FormLane { drive, ..FormLane::default() }, |c| lane_on(String::new(), c));
    let form = StartForm {
        lanes: vec![lane],
        choices: vec![Choice { name: format!("{kind} self-test"), text, lanes: Vec::new() }],
        field: Field::Setup(0),
        ..StartForm::default()
    };
    show(state, jobs, form);
}

/// Offers to run the course of the open run again on its drive, with one thing changed, as the other side of a comparison.
pub(super) fn other_side(state: &mut State, jobs: &Jobs) {
    let Some(shown) = &state.findings.shown else { return state.complain("No run is open.") };
    if shown.head.lanes.len() > 1 {
        return state
            .complain("The run is on several drives; start it again from the place of the course (2).");
    }
    let (head, lane) = (&shown.head, shown.head.first());
    if head.course_text.is_empty() {
        return state.complain("The run has no course that could be run again; it was imported.");
    }
    let drive = lane.drive.name.clone();
    let card = state.bench.cards.iter().find(|c| c.identity.name == drive);
    let lanes = match card {
        Some(card) => vec![lane_on(String::new(), card)],
        None if lane.drive.simulated => vec![FormLane { drive: drive.clone(), ..FormLane::default() }],
        None => Vec::new(),
    };
    let size = lane.facts.as_ref().map_or_else(|| "4GB".to_owned(), |f| format!("{}B", f.capacity.0));
    let course = Choice { name: head.course.clone(), text: head.course_text.clone(), lanes: Vec::new() };
    let mut form = StartForm {
        lanes,
        choices: vec![course],
        path: Text::prefilled(drive),
        size: Text::prefilled(size),
        field: Field::Changed,
        beside: Some(Beside {
            run: shown.run,
            seed: head.seed,
            situation: lane.situation.clone(),
            claims: session::claims_text(&lane.claims, &lane.stated),
            instruments: head.instruments.clone(),
        }),
        ..StartForm::default()
    };
    look_ahead(state, jobs, &mut form);
    state.overlay = Some(Overlay::Start(Box::new(form)));
}

/// The conditions as they are now, from those of the other side and what was changed since, as it is typed: a condition and its value, `nothing` for a repeat, or anything else as a note.
fn changed(before: &Situation, typed: &str) -> Result<Situation, String> {
    let typed = typed.trim();
    let (word, value) = typed.split_once(' ').unwrap_or((typed, ""));
    let value = value.trim().trim_start_matches(['=', ':']).trim();
    let mut said = before.clone();
    let some = || {
        let missing = format!("Say what the {word} is now, such as `{word} ...`.");
        if value.is_empty() { Err(missing) } else { Ok(Some(value.to_owned())) }
    };
    match word {
        "" => {
            return Err(
                "Say what was changed: `cooling`, `slot`, `enclosure` or `ambient` and its value, anything else in a few words, or `nothing` for a repeat."
                    .into(),
            );
        }
        "nothing" => {}
        "cooling" => said.cooling = some()?,
        "slot" => said.slot = some()?,
        "enclosure" => said.enclosure = some()?,
        "ambient" => {
            said.ambient = Some(celsius(value)?);
        }
        _ => said.notes = Some(typed.to_owned()),
    }
    Ok(said)
}

/// The seed of the next run of a simulated drive: each run of a logbook has another, so that two of them scatter as two runs of a real drive do. What is
/// written to a real drive, and where, is the same each time.
fn seed_of_next(state: &State) -> u64 {
    let newest = state.logbook.entries.iter().map(|e| e.run).max().unwrap_or(0);
    SEED + newest.unsigned_abs()
}

fn order(state: &State, form: &StartForm) -> Result<Order, String> {
    let choice = form.choices.get(form.chosen).ok_or("there is no course")?;
    let lanes = if form.lanes.is_empty() {
        let size = Some(form.size.value().parse::<Bytes>().map_err(|e| e.to_string())?);
        let named = Named { drive: form.path.value().to_owned(), size, seed: SEED, ..Named::default() };
        vec![OrderLane { named, ..OrderLane::default() }]
    } else {
        let lane = |lane: &FormLane| {
            let drive = lane.drive.clone();
            let seed = if is_simulated(state, lane) { seed_of_next(state) } else { SEED };
            let named = Named { drive, seed, consent: consent(lane), ..Named::default() };
            OrderLane { name: lane.name.clone(), named, ..OrderLane::default() }
        };
        form.lanes.iter().map(lane).collect()
    };
    let mut lanes: Vec<OrderLane> = lanes;
    if form.asks_setup() {
        let said = form.setup.situation()?;
        mile_course::Claimed::read(form.setup.claims())?;
        for lane in &mut lanes {
            lane.situation = said.clone();
            form.setup.claims().clone_into(&mut lane.claims);
        }
    }
    if let Some(first) = &form.beside {
        for lane in &mut lanes {
            lane.situation = changed(&first.situation, form.changed.value())?;
            lane.claims.clone_from(&first.claims);
            // A simulation with the same seed would be the same run once more.
            lane.named.seed = first.seed + 1 + state.logbook.sides[1].len() as u64;
        }
    }
    Ok(Order {
        course_text: choice.text.clone(),
        course_name: choice.name.clone(),
        lanes,
        speed: state.setup.speed,
        keep: false,
        discard_first: false,
        metrics: None,
        instruments: form.instruments(),
        warnings: form.warnings.clone(),
        lab: None,
        resume: None,
    })
}

/// What is typed to arm the drive: its serial number, and behind it what may be destroyed.
fn consent(lane: &FormLane) -> Consent {
    let typed = lane.arm.value().trim();
    let Some(word) = lane.arming_word.as_deref().filter(|_| !typed.is_empty()) else {
        return Consent { in_form: true, ..Consent::default() };
    };
    // A serial number may hold blanks itself.
    match typed.strip_prefix(word).filter(|rest| rest.is_empty() || rest.starts_with(' ')) {
        Some(rest) => Consent {
            arm: Some(word.to_owned()),
            destroy: rest.split_whitespace().map(str::to_owned).collect(),
            in_form: true,
        },
        None => Consent { arm: Some(typed.to_owned()), destroy: Vec::new(), in_form: true },
    }
}

/// Has it looked at what would happen: a drive is asked for that.
pub(super) fn look_ahead(state: &mut State, jobs: &Jobs, form: &mut StartForm) {
    state.runs.questions += 1;
    (form.asked, form.outlook) = (state.runs.questions, None);
    jobs.look_ahead(&state.setup.logbook_path, form, order(state, form));
}

/// Chooses a course, unless there is not a drive for each of its lanes.
fn choose(state: &mut State, form: &mut StartForm, course: usize) {
    let before = std::mem::replace(&mut form.chosen, course);
    if let Err(text) = set_lanes(state, form) {
        form.chosen = before;
        state.complain(text);
    }
}

pub(super) fn start_key(state: &mut State, jobs: &Jobs, mut form: StartForm, key: KeyEvent) {
    match (key.code, form.field) {
        _ if form.starting => {
            // It counts where the start is refused. A second Enter does not: who pressed it had not seen the refusal.
            if key.code != KeyCode::Enter {
                form.typed_ahead.push(key);
            }
            state.overlay = Some(Overlay::Start(Box::new(form)));
            return;
        }
        (KeyCode::Enter, _) => {
            match order(state, &form) {
                Ok(order) => {
                    form.starting = true;
                    jobs.start(&state.setup.logbook_path, form.asked, order);
                }
                Err(text) => form.outlook = Some(Err(text)),
            }
            state.overlay = Some(Overlay::Start(Box::new(form)));
            return;
        }
        (KeyCode::Tab | KeyCode::Down | KeyCode::BackTab | KeyCode::Up, _) => {
            form.step(if matches!(key.code, KeyCode::Tab | KeyCode::Down) { 1 } else { -1 });
            state.overlay = Some(Overlay::Start(Box::new(form)));
            return;
        }
        (KeyCode::Right | KeyCode::Left, Field::Course) => {
            form.find.clear();
            let count = form.choices.len().max(1);
            let by = if key.code == KeyCode::Right { 1 } else { count - 1 };
            let next = (form.chosen + by) % count;
            choose(state, &mut form, next);
        }
        (KeyCode::Char(_) | KeyCode::Backspace, Field::Course)
            if !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT) =>
        {
            match key.code {
                KeyCode::Char(letter) => form.find.push(letter),
                _ => drop(form.find.pop()),
            }
            let first = form.found().first().copied().filter(|_| !form.find.is_empty());
            match first {
                Some(first) if first != form.chosen => choose(state, &mut form, first),
                // It is the same course.
                _ => {
                    state.overlay = Some(Overlay::Start(Box::new(form)));
                    return;
                }
            }
        }
        (KeyCode::Right | KeyCode::Char('l'), Field::Drive(lane)) => next_drive(state, &mut form, lane, 1),
        (KeyCode::Left | KeyCode::Char('h'), Field::Drive(lane)) => {
            next_drive(state, &mut form, lane, state.bench.cards.len() - 1);
        }
        (_, Field::Changed) => form.changed.key(key),
        (_, Field::Path) => form.path.key(key),
        (_, Field::Size) => form.size.key(key),
        (_, Field::Instruments) => form.instruments.key(key),
        (_, field @ (Field::Setup(_) | Field::Arm(_))) => {
            match field {
                Field::Setup(i) => form.setup.texts[i].key(key),
                Field::Arm(lane) => form.lanes[lane].arm.key(key),
                _ => {}
            }
            // What would happen is the same, however the drive is set up and whoever allows it; but there may be something wrong with it, or no more, and
            // the forecast goes by what is claimed.
            let of_claims = field == Field::Setup(SETUP.len() - 1);
            if of_claims || order(state, &form).is_err() || matches!(form.outlook, Some(Err(_))) {
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
    jobs: &Jobs,
    question: u64,
    started: Result<Box<(Client, Vec<session::Told>)>, String>,
) -> Vec<KeyEvent> {
    let form = match &mut state.overlay {
        Some(Overlay::Start(form)) if form.asked == question && question > 0 => Some(form),
        _ => None,
    };
    let text = match started {
        Ok(run) => {
            // The form that asked for it may have been left meanwhile.
            let mut beside = None;
            if let Some(form) = form {
                beside = form.beside.as_ref().map(|b| b.run);
                state.overlay = None;
            }
            match shown(state, jobs, *run) {
                Ok(()) => {
                    if let Some(live) = &mut state.runs.live {
                        live.pace = Some(state.setup.speed);
                    }
                    state.logbook.other_side = beside.map(|run| (state.runs.seen, run));
                    return Vec::new();
                }
                Err(failure) => failure.message().to_owned(),
            }
        }
        Err(text) => text,
    };
    match &mut state.overlay {
        Some(Overlay::Start(form)) if form.asked == question && question > 0 => {
            (form.starting, form.outlook) = (false, Some(Err(text)));
            // A forecast that was asked for before the start, and comes after it, does not take the refusal away.
            state.runs.questions += 1;
            form.asked = state.runs.questions;
            std::mem::take(&mut form.typed_ahead)
        }
        _ => {
            state.complain(text);
            Vec::new()
        }
    }
}
