//! What the rows of several causes have in common.

use super::super::draw::Draw;
use super::super::facts::Facts;
use super::super::scales::{FOREIGN, STOLEN};
use super::super::shift::Shift;
use super::super::weights::of;
use crate::breaks::{Cause, Evidence};
use crate::units::latency_text;

/// Puts down a row that holds.
pub(crate) fn row(list: &mut Vec<Evidence>, id: &str, cause: Cause, text: impl Into<String>) {
    row_of(list, id, cause, 1.0, text);
}

/// Puts down a row that holds as far as something else is sure, 0 to 1.
pub(crate) fn row_of(list: &mut Vec<Evidence>, id: &str, cause: Cause, value: f64, text: impl Into<String>) {
    let (sign, weight) = of(id).map_or((0, 0.0), |r| (r.sign, r.weight * value));
    // A row of no weight stands for what it could speak for.
    let supports = weight > 0.0 || (weight == 0.0 && sign > 0);
    list.push(Evidence { supports, cause, text: text.into(), row: id.to_owned(), value, weight });
}

/// Words of the row that each cause begins with.
pub(super) const PRIOR: &str = "how often this is the reason, before anything is looked at";

/// Words of the row of a pattern that comes back by itself.
pub(super) const REPEATS: &str = "it is slow for moments only, again and again, as a drive is that tidies up";

pub(crate) fn others_moved(facts: &Facts) -> bool {
    let sign = if facts.falls { 1.0 } else { -1.0 };
    facts.foreign.is_some_and(|r| sign * r.0 > FOREIGN * facts.change.0)
}

pub(crate) fn stolen(facts: &Facts) -> bool {
    let sign = if facts.falls { 1.0 } else { -1.0 };
    facts.steal.is_some_and(|s| sign * s > STOLEN.min(0.5 * facts.share))
}

/// Names of the rows for what became of the latencies: slower alike, some far slower, only a few slower.
pub(crate) type Shifts = [&'static str; 3];

/// Which operations became slower.
pub(crate) fn shifted(facts: &Facts, list: &mut Vec<Evidence>, cause: Cause, [alike, spreads, few]: Shifts) {
    match facts.latency {
        Some(Shift::Alike(fast, slow)) => {
            let (fast, slow) = (latency_text(fast), latency_text(slow));
            let text =
                format!("all operations are slower alike: their median latency is {slow} instead of {fast}");
            row(list, alike, cause, text);
        }
        Some(Shift::Spreads(fast, slow)) => {
            let text = format!(
                "some operations are far slower than others: the 99th percentile is {slow:.1} times the median instead of {fast:.1}"
            );
            row(list, spreads, cause, text);
        }
        Some(Shift::Few(fast, slow)) => {
            let (fast, slow) = (latency_text(fast), latency_text(slow));
            let text = format!(
                "most operations are as fast as before, and a few wait: the 99th percentile is {slow} instead of {fast}"
            );
            row(list, few, cause, text);
        }
        None => {}
    }
}

/// What became of the power of the drive where its rate fell: it fell with it, or it stayed.
pub(crate) fn drawn(facts: &Facts, list: &mut Vec<Evidence>, cause: Cause, [falls, stays]: [&str; 2]) {
    match facts.draw {
        Some(Draw::Falls(was, is)) => {
            let text = format!("its power fell with its rate, from {was:.2} W to {is:.2} W");
            row(list, falls, cause, text);
        }
        Some(Draw::Stays(was, is)) => {
            let text = format!("its power did not fall with its rate: {was:.2} W before, {is:.2} W after");
            row(list, stays, cause, text);
        }
        None => {}
    }
}

/// What heat explains needs no other cause.
pub(crate) fn hot_or_ticking(facts: &Facts, list: &mut Vec<Evidence>, cause: Cause) {
    if facts.throttle_begins == Some(true) {
        row(
            list,
            if cause == Cause::FillLevel { "fill.counter" } else { "surface.counter" },
            cause,
            "a throttle counter began to tick",
        );
    }
    if others_moved(facts) || stolen(facts) {
        row(
            list,
            if cause == Cause::FillLevel { "fill.others" } else { "surface.others" },
            cause,
            "others began or ended at the break",
        );
    }
}
