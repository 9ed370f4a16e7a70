//! Rows of the surface: the tie to the address.

use super::super::facts::Facts;
use super::row::{PRIOR, drawn, hot_or_ticking, row, row_of, shifted};
use crate::breaks::{Cause, Evidence};
use crate::sample::Op;

/// Why it is rarely the reason, whatever else was seen.
fn considered(facts: &Facts, list: &mut Vec<Evidence>) {
    row(list, "surface.prior", Cause::Surface, PRIOR);
    if facts.seen_once {
        let text =
            "no other pass over the same address was logged, which would show whether it is slow there";
        row(list, "surface.once", Cause::Surface, text);
    }
}

pub(crate) fn surface(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::Surface as S;
    considered(facts, list);
    match facts.passes {
        _ if facts.is_no_cache() => {
            let (n, at) = (facts.here_after_other_bytes, facts.address.unwrap_or_default());
            let text =
                format!("{n} other legs fell at the same address, {at}, and not all after the same bytes");
            row(list, "surface.passes-alike", S, text);
        }
        (over, 0) if over > 0 => {
            row(list, "surface.pass-unlike", S, "another pass over the same address did not change there");
        }
        // A weak place is there in each pass.
        (over, alike) if 2 * alike < over => {
            let text =
                format!("{} of {over} other passes over the same address did not change there", over - alike);
            row(list, "surface.pass-unlike", S, text);
        }
        (over, alike) if alike > 0 => {
            let at = facts.address.unwrap_or_default();
            // A cache is exhausted after the same bytes, and so at the same address, each time; a weak place is left again.
            let left_again = facts.op == Op::Read || facts.comes_back || facts.brings_back;
            let text = format!("{alike} of {over} other passes changed at the same address, {at}");
            row(list, if left_again { "surface.passes-alike" } else { "surface.passes-fall-alike" }, S, text);
        }
        _ => {}
    }
    if facts.falls && facts.comes_back {
        row(list, "surface.comes-back", S, "the rate comes back further on, in the same leg");
    }
    if !facts.falls && facts.brings_back {
        row(list, "surface.brings-back", S, "the rate is back where it was before the fall");
    }
    if facts.op == Op::Read && facts.falls && facts.sinks && facts.share < 0.25 {
        row(
            list,
            "surface.sinks",
            S,
            "the rate sinks with the address all along, as from the outer to the inner tracks of a disk",
        );
    }
    if facts.op == Op::Read {
        row(list, "surface.read", S, "it is a read, which has no write cache");
    }
    match facts.undone {
        Some((Cause::Surface, sure)) => row_of(
            list,
            "surface.undoes-surface",
            S,
            sure,
            "the fall that it undoes was put down to the surface",
        ),
        Some((Cause::ThermalThrottle | Cause::Interference, sure)) => {
            row_of(list, "surface.undoes-other", S, sure, "the fall that it undoes had another cause");
        }
        _ => {}
    }
    drawn(facts, list, S, ["surface.power-falls", "surface.power-stays"]);
    shifted(facts, list, S, ["surface.latency-alike", "surface.latency-spreads", "surface.latency-few"]);
    hot_or_ticking(facts, list, S);
    if facts.throttle_ends == Some(true) {
        row(list, "surface.counter-stops", S, "the throttle counters stopped ticking");
    }
}

/// A leg that begins elsewhere than where the surface is slow.
pub(crate) fn left(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::Surface as S;
    considered(facts, list);
    if let Some((Cause::Surface, sure)) = facts.undone {
        let text = "the fall that it undoes was put down to the surface, and the leg begins elsewhere";
        row_of(list, "surface.begins-elsewhere", S, sure, text);
    }
}
