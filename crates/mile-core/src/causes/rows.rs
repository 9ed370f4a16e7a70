//! The rows of the evidence: which fact speaks for or against which cause, and in which words. What each weighs is in `weights.rs`.

mod heat;
mod media;
mod place;
mod row;

use super::facts::Facts;
use super::scales::CARRIES;
use crate::breaks::{Cause, Evidence};
use crate::units::number;
pub(super) use heat::{release, throttle};
pub(super) use media::{cache, fill, folding, recovered};
pub(super) use place::{left, surface};
use row::{PRIOR, REPEATS, row, row_of};
pub(super) use row::{others_moved, stolen};

pub(super) fn workload(facts: &Facts, list: &mut Vec<Evidence>) {
    row(list, "workload.next-leg", Cause::Workload, "the next leg of the course began here");
    if facts.in_gap {
        row(list, "workload.gap", Cause::Workload, "the log has a gap there");
    }
}

/// Waiting longer for the other side that much, as a share of the time, is more than chance.
const WAITS_MORE: f64 = 0.03;

/// A side of a copy that slows down and waits longer is slowed by the other; one that slows down and waits no longer is not.
pub(super) fn other_side(facts: &Facts, list: &mut Vec<Evidence>) {
    let cause = if facts.falls { Cause::OtherSide } else { Cause::OtherSideEnd };
    let Some((before, behind)) = facts.waited else { return };
    let more = if facts.falls { behind - before } else { before - behind };
    let text = format!(
        "the drive waited {:.0} % of the time for the other side of the copy before, and {:.0} % behind it",
        100.0 * before,
        100.0 * behind
    );
    // A drive that waits is idle, so that a slower pace of its own shows first in its waiting less.
    row(
        list,
        if more >= WAITS_MORE { "other-side.waits-more" } else { "other-side.waits-no-more" },
        cause,
        text,
    );
}

/// That the drive gave no answer is seen as such, whatever the reason within the drive.
pub(super) fn stall(facts: &Facts, list: &mut Vec<Evidence>) {
    let cause = if facts.falls { Cause::Stall } else { Cause::StallEnd };
    let Some(seconds) = facts.stall else { return };
    let text = format!("no operation came back for {seconds:.1} s, although the drive was asked");
    row(list, "stall.silent", cause, text);
    if others_moved(facts) || stolen(facts) {
        row(list, "stall.others", cause, "others had the drive or the processors at that time");
    }
}

/// What others on the drive and on the host did at the break.
pub(super) fn others(facts: &Facts, list: &mut Vec<Evidence>) {
    let (cause, sign, more) =
        if facts.falls { (Cause::Interference, 1.0, "more") } else { (Cause::InterferenceEnd, -1.0, "less") };
    row(list, "others.prior", cause, PRIOR);
    if facts.repeats {
        row(list, "others.repeats", cause, REPEATS);
    }
    let (behind, before) = if facts.repeats {
        ("while it was slow", "while it was fast")
    } else {
        ("behind the break", "before")
    };
    if others_moved(facts) {
        let rate = sign * facts.foreign.unwrap_or_default().0;
        let id = if rate > 0.5 * facts.change.0 { "others.moved-most" } else { "others.moved" };
        let rate = number(rate / 1e6);
        row_of(
            list,
            id,
            cause,
            facts.others_part(),
            format!("others moved {rate} MB/s {more} on the drive {behind} than {before}"),
        );
    } else if facts.foreign.is_some() {
        row(
            list,
            "others.hardly-moved",
            cause,
            format!("others on the drive moved hardly {more} than {before}"),
        );
    }
    if stolen(facts) {
        let share = 100.0 * sign * facts.steal.unwrap_or_default();
        row(
            list,
            "others.stolen",
            cause,
            format!("{share:.0} % {more} processor time was stolen from the host"),
        );
    } else if facts.steal.is_some() && !others_moved(facts) {
        row(
            list,
            "others.hardly-stolen",
            cause,
            format!("hardly {more} processor time was stolen than {before}"),
        );
    }
    if facts.foreign.is_none() && facts.steal.is_none() {
        // Nobody can put a change down to others then. How far they may have caused it all the same, the highest confidence says.
        row(list, "others.unseen", cause, "it was not logged what others did");
    }
    if let (false, Some((Cause::Interference, sure))) = (facts.falls, facts.undone) {
        row_of(list, "others.undoes-others", cause, sure, "the fall that it undoes was put down to others");
    }
}

/// What speaks for something that has no row of its own.
pub(super) fn unexplained(facts: &Facts, list: &mut Vec<Evidence>) {
    let near = |part: f64| (1.0 - facts.share - part).abs() < 0.02;
    if facts.falls && facts.comes_back && facts.comes_back_for.is_none() && (near(0.5) || near(0.25)) {
        let text = "the rate fell to a half or a quarter of itself and came back, as where a link falls back to fewer lanes or a lower speed";
        row(list, "unexplained.halved", Cause::Unexplained, text);
    }
    let carries = |share: f64| (CARRIES.0..CARRIES.1).contains(&share);
    let parts = [(2.0, "half"), (4.0, "a quarter")];
    let part = facts.of_link.filter(|(from, _)| facts.falls && carries(*from));
    let part = part.and_then(|(_, to)| parts.iter().find(|(n, _)| carries(to * n)));
    if let Some((_, part)) = part {
        let text = format!(
            "the rate before is what the link carries, and the rate after is what {part} of it carries"
        );
        row(list, "unexplained.link-part", Cause::Unexplained, text);
    }
}
