//! What a run would do, in the lines of the form before it.

use super::state::StartForm;
use mile_bench::outlook::{Outlook, Weight};
use mile_bench::session::{self, Order};
use mile_core::{Bytes, LegName};
use std::path::Path;

/// Legs that are listed before a start.
const MOST_LEGS: usize = 10;

/// Most characters of the name of one.
const WIDEST_NAME: usize = 36;

/// Says what would happen: what would be lost, how long it takes by what the logbook knows of the drive, the legs, and what speaks against a start.
///
/// What the logbook knows takes time to read; it is left out where `is_newest` says that the answer is no longer asked for.
pub(crate) fn ahead(
    form: &StartForm,
    order: Order,
    logbook: &Path,
    is_newest: impl Fn() -> bool,
) -> Result<Vec<String>, String> {
    let ready = session::plan(order).map_err(|f| f.message().to_owned())?;
    if !is_newest() {
        return Ok(Vec::new());
    }
    let mut lines: Vec<String> = Vec::new();
    // What would be lost comes first, and is seen in the smallest window.
    let changed = form.lanes.iter().zip(&ready.lanes).filter(|(_, r)| r.plan.changes_the_drive());
    for (lane, _) in changed {
        let Some(word) = &lane.arming_word else { continue };
        lines.push(format!(
            "All that is on {} will be lost. To allow it, type its serial number or name, {word}, and behind it what may be destroyed if something is found on it.",
            if form.lanes.len() > 1 { lane.drive.as_str() } else { "this drive" }
        ));
    }
    let book = mile_logbook::Logbook::read(logbook).ok();
    let mut looks = mile_bench::outlook::look(&ready, book.as_ref());
    let look = if looks.len() == 1 { looks.remove(0).1 } else { Outlook::side_by_side(looks) };
    let heat =
        look.forecast.max_c.map_or(String::new(), |max| format!(", and heats the drive up to {max:.0} °C"));
    lines.push(match look.time_words().as_str() {
        mile_bench::outlook::NOT_KNOWN => format!("How long it takes is not known{heat}."),
        time => format!("Takes {time}{heat}."),
    });
    for item in look.items.iter().filter(|i| i.weight != Weight::Remark) {
        lines.push(format!("! {}: {}. To settle it: {}.", item.about, item.why, item.remedy));
    }
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
    Ok(lines)
}

/// Says what would happen on a lane.
fn legs_ahead(form: &StartForm, lane: &session::ReadyLane, lanes: usize, lines: &mut Vec<String>) {
    let (legs, most) = (&lane.plan.legs, MOST_LEGS / lanes.max(1));
    // What a drive does while it is only watched goes without saying.
    let own = || legs.iter().filter(|l| l.work != mile_course::Work::Watch);
    let names: Vec<String> = own().take(most).map(|l| LegName::read(&l.name).within(WIDEST_NAME)).collect();
    let wide = names.iter().map(|n| n.chars().count()).max().unwrap_or(0);
    lines.extend(names.iter().zip(own()).map(|(name, leg)| format!("{name:<wide$}  {}", leg.words())));
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
