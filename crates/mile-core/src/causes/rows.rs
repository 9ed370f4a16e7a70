//! The rows of the evidence: which fact speaks for or against which cause, and in which words. What each weighs is in `weights.rs`.

use super::earlier::{Heat, Size};
use super::facts::{Facts, WINDOW_S};
use super::scales::{
    AT_LIMIT_C, CLEAR_C, COOL_C, FAR_C, FOREIGN, HOT_C, LARGEST_CACHE, NEAR_C, RELEASES_C, STOLEN, WARM_C,
};
use super::weights::of;
use crate::breaks::{Cause, Evidence};
use crate::sample::Op;
use crate::units::number;

/// Puts down a row that holds.
fn row(list: &mut Vec<Evidence>, id: &str, cause: Cause, text: impl Into<String>) {
    row_of(list, id, cause, 1.0, text);
}

/// Puts down a row that holds as far as something else is sure, 0 to 1.
fn row_of(list: &mut Vec<Evidence>, id: &str, cause: Cause, value: f64, text: impl Into<String>) {
    let (sign, weight) = of(id).map_or((0, 0.0), |r| (r.sign, r.weight * value));
    // A row of no weight stands for what it could speak for.
    let supports = weight > 0.0 || (weight == 0.0 && sign > 0);
    list.push(Evidence { supports, cause, text: text.into(), row: id.to_owned(), value, weight });
}

/// Words of the row that each cause begins with.
const PRIOR: &str = "how often this is the reason, before anything is looked at";

/// A fall of less than this share of the rate is a small one for the end of a cache, and one of more than this a large one. Flash behind a cache of
/// single-bit cells takes data at a quarter to two thirds of its pace, where the link does not hide that.
const SHALLOW: f64 = 0.15;
const DEEP: f64 = 0.5;

pub(super) fn cache(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::CacheExhausted as C;
    row(list, "cache.prior", C, PRIOR);
    let fell = 100.0 * facts.share;
    if facts.share < SHALLOW {
        row(list, "cache.shallow", C, format!("the rate fell by {fell:.0} % only"));
    } else if facts.share > DEEP {
        row(list, "cache.deep", C, format!("the rate fell by {fell:.0} %"));
    }
    match facts.same_bytes {
        (0, 0) if facts.first_fall && !facts.back_after_rest => {
            row(
                list,
                "cache.once",
                C,
                "it happened once in this run: no second fall after a rest shows it again",
            );
        }
        (0, 0) => {}
        (0, _) => row(
            list,
            "cache.other-bytes-again",
            C,
            "after another rest, the first fall came after other bytes",
        ),
        // That it is the same bytes says nothing where it is the same address, too.
        _ if facts.is_no_cache() => {}
        (n, _) => {
            let times = if n == 1 { "once more".to_owned() } else { format!("{n} times more") };
            row(
                list,
                "cache.same-bytes-again",
                C,
                format!("the first fall after a rest came after the same bytes {times}"),
            );
        }
    }
    match &facts.earlier_size {
        Some(Size::Same(runs)) => {
            let text = match runs.as_slice() {
                [one] => format!("run {one} of this drive found its cache exhausted after the same bytes"),
                [one, two] => format!(
                    "runs {one} and {two} of this drive found its cache exhausted after the same bytes"
                ),
                more => format!(
                    "{} earlier runs of this drive found its cache exhausted after the same bytes",
                    more.len()
                ),
            };
            row(list, "cache.earlier-same", C, text);
        }
        Some(Size::Longer(run, bytes)) => {
            let text = format!("run {run} of this drive wrote {bytes} as fast, and did not fall before");
            row(list, "cache.earlier-longer", C, text);
        }
        Some(Size::Sooner(run, bytes)) => {
            let text = format!("run {run} of this drive found its cache exhausted after {bytes} already");
            row(list, "cache.earlier-sooner", C, text);
        }
        None => {}
    }
    if facts.first_fall {
        let text = format!("first fall of this leg, {} after the drive was last at rest", facts.since_rest);
        row(list, "cache.first-fall", C, text);
    } else if facts.undone.is_none() {
        row(
            list,
            "cache.further-fall",
            C,
            "a further fall without a rest between, as a cache of several stages has",
        );
    }
    // Where it is the address, a leg that begins elsewhere is as fast as before in any case.
    if facts.back_after_rest && !facts.is_no_cache() {
        row(list, "cache.back-after-rest", C, "the rate was back after the next rest");
    }
    if facts.stands_still {
        row(
            list,
            "cache.standstill",
            C,
            "the drive came to a standstill, which a full cache does not explain",
        );
    }
    if facts.came_back {
        row(
            list,
            "cache.came-back-before",
            C,
            "the rate had come back before in this leg, which a cache does at rest",
        );
    }
    match facts.comes_back_for {
        Some(share) => {
            let text = format!(
                "the rate comes back in the same leg, but at most for {:.0} % of those bytes at a time, as a cache frees while it is written",
                (100.0 * share).ceil()
            );
            row(list, "cache.comes-back-briefly", C, text);
        }
        None if facts.comes_back => {
            row(list, "cache.comes-back", C, "the rate comes back in the same leg, without a rest");
        }
        None => {}
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            row(
                list,
                "cache.cool",
                C,
                format!("{t} at the break, {:.0} °C below the warning limit", limit.0 - t.0),
            );
        }
        (Some(t), Some(limit)) if limit.0 - t.0 <= AT_LIMIT_C => {
            row(list, "cache.at-limit", C, format!("{t} at the break, at the warning limit of {limit}"));
        }
        (Some(t), None) if facts.near_critical(t) => {
            row(list, "cache.near-critical", C, format!("{t} at the break, not far below what is critical"));
        }
        (Some(t), None) if t.0 < COOL_C => {
            row(
                list,
                "cache.cooler-than-drives-throttle",
                C,
                format!("{t} at the break, cooler than drives throttle"),
            );
        }
        (Some(t), None) if t.0 >= HOT_C => {
            row(list, "cache.hot", C, format!("{t} at the break, as warm as drives throttle at"));
        }
        _ => {}
    }
    match facts.throttle_begins {
        Some(false) => row(list, "cache.no-counter", C, "no throttle counter began to tick"),
        Some(true) => row(list, "cache.counter", C, "a throttle counter began to tick"),
        None => {}
    }
    match facts.stays {
        Some(true) => {
            row(list, "cache.stays", C, format!("the rate stayed down for at least {WINDOW_S:.0} s"))
        }
        Some(false) => {
            row(list, "cache.changes-soon", C, format!("the rate changed again within {WINDOW_S:.0} s"))
        }
        None => {}
    }
    if let Some(share) = cache_share(facts).filter(|s| *s > LARGEST_CACHE) {
        let text = format!(
            "{:.0} % of the drive was written by then, more than a cache of single-bit cells can take",
            100.0 * share
        );
        row(list, if facts.first_fall { "cache.too-large" } else { "cache.too-large-in-all" }, C, text);
    }
    if others_moved(facts) || stolen(facts) {
        let text = "others began at the break, which accounts for the fall without the cache";
        row(list, "cache.others", C, text);
    }
    if facts.same_place() {
        row(list, "cache.same-place", C, "another pass slowed at the same address");
    }
}

/// Share of the drive written since it was last at rest.
fn cache_share(facts: &Facts) -> Option<f64> {
    facts.capacity.map(|c| facts.since_rest.0 as f64 / c.0.max(1) as f64)
}

pub(super) fn fill(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::FillLevel as F;
    row(list, "fill.prior", F, PRIOR);
    if let Some(fill) = facts.fill {
        if fill >= 0.5 {
            row(
                list,
                if fill >= 0.68 { "fill.full" } else { "fill.half-full" },
                F,
                format!("{:.0} % of the drive was in use", 100.0 * fill),
            );
        } else {
            row(list, "fill.little", F, format!("only {:.0} % of the drive was in use", 100.0 * fill));
        }
    }
    if let Some(share) = cache_share(facts).filter(|s| *s > LARGEST_CACHE) {
        row(
            list,
            "fill.no-cache-as-large",
            F,
            format!("after {:.0} % of the drive, no cache is as large", 100.0 * share),
        );
        if !facts.first_fall {
            row(list, "fill.cache-gone", F, "the write cache had been exhausted before");
        }
    }
    if facts.comes_back {
        row(list, "fill.comes-back", F, "the rate comes back though the drive gets no emptier");
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            row(list, "fill.cool", F, format!("{t}, well below the warning limit"))
        }
        (Some(t), None) if t.0 < COOL_C => {
            row(list, "fill.cooler-than-drives-throttle", F, format!("{t}, cooler than drives throttle"))
        }
        _ => {}
    }
    if facts.throttle_begins == Some(false) {
        row(list, "fill.no-counter", F, "no throttle counter began to tick");
    }
    hot_or_ticking(facts, list, F);
}

/// What heat explains needs no other cause.
fn hot_or_ticking(facts: &Facts, list: &mut Vec<Evidence>, cause: Cause) {
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

pub(super) fn throttle(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::ThermalThrottle as T;
    match facts.throttle_begins {
        Some(true) => row(list, "throttle.counter", T, "a throttle counter began to tick at the break"),
        Some(false) if facts.throttled_before => {
            row(list, "throttle.counter-as-before", T, "the throttle counters ticked as before")
        }
        Some(false) => row(list, "throttle.no-counter", T, "no throttle counter ticked"),
        None => {}
    }
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if limit.0 - t.0 <= AT_LIMIT_C => {
            let id = if limit.0 - t.0 <= 2.0 { "throttle.at-limit" } else { "throttle.near-limit" };
            row(list, id, T, format!("{t} at the break, at the warning limit of {limit}"));
        }
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            let text = format!("{t} at the break, {:.0} °C below the warning limit", limit.0 - t.0);
            row(list, "throttle.cool", T, text);
        }
        (Some(t), None) if facts.near_critical(t) => {
            let critical = facts.critical.unwrap_or_default();
            row(
                list,
                if critical.0 - t.0 <= NEAR_C { "throttle.near-critical" } else { "throttle.below-critical" },
                T,
                format!("{t} at the break, {:.0} °C below what is critical", critical.0 - t.0),
            );
        }
        (Some(t), None) if t.0 >= HOT_C => {
            row(
                list,
                "throttle.hot",
                T,
                format!("{t} at the break, as hot as drives throttle at; its limit is not known"),
            );
        }
        (Some(t), None) if t.0 >= WARM_C => {
            row(
                list,
                "throttle.warm",
                T,
                format!("{t} at the break, as warm as some throttle at; its limit is not known"),
            );
        }
        (Some(t), None) if t.0 < COOL_C => {
            row(
                list,
                "throttle.cooler-than-drives-throttle",
                T,
                format!("{t} at the break, cooler than drives throttle; its limit is not known"),
            );
        }
        (None, _) => row(list, "throttle.blind", T, "no temperature was read"),
        _ => {}
    }
    row(list, "throttle.prior", T, PRIOR);
    match facts.rise_before {
        Some(rise) if rise >= 0.5 => {
            row(list, "throttle.rising", T, format!("the temperature was rising, {rise:.1} °C just before"));
        }
        Some(rise) if rise < -0.5 => {
            row(list, "throttle.falling", T, "the temperature was falling before the break")
        }
        Some(_) => row(list, "throttle.level", T, "the temperature was level before the break"),
        _ => {}
    }
    match facts.change_after {
        // What never rose has not stopped.
        Some(change) if change <= 0.0 && facts.rise_before.is_some_and(|r| r >= 0.5) => {
            row(list, "throttle.stops-rising", T, "the temperature stopped rising at the break");
        }
        Some(change) if change >= 1.5 => {
            row(
                list,
                "throttle.goes-on-rising",
                T,
                format!("the temperature went on rising, {change:.1} °C soon behind"),
            );
        }
        _ => {}
    }
    let clearly = if facts.gradual { 5.0 } else { 2.5 };
    if let (Some(t), Some(hotter)) = (facts.temp, facts.hotter_elsewhere)
        && hotter.0 >= t.0 + clearly
    {
        row(
            list,
            if hotter.0 >= t.0 + clearly + 3.0 {
                "throttle.much-hotter-elsewhere"
            } else {
                "throttle.hotter-elsewhere"
            },
            T,
            format!("{hotter} in the same leg did not slow it any more"),
        );
    }
    match facts.cooled_behind {
        Some(by) if by >= RELEASES_C => {
            let text = format!("it cooled by {by:.0} °C behind the break, and the rate did not come back");
            row(
                list,
                if by >= 2.0 * RELEASES_C { "throttle.cooled-far" } else { "throttle.cooled" },
                T,
                text,
            );
        }
        Some(by) if by.abs() <= 3.0 && facts.temp.is_some_and(|t| t.0 >= WARM_C) => {
            row(list, "throttle.held", T, "the temperature was held there while the rate was down");
        }
        _ => {}
    }
    match facts.earlier_heat {
        Some(Heat::Same(run, at)) => {
            row(list, "throttle.earlier-same", T, format!("heat throttled this drive at {at} in run {run}"));
        }
        Some(Heat::Hotter(run, at)) => {
            let text = format!("this drive was at {at} in run {run}, and was not throttled so cool");
            row(list, "throttle.earlier-hotter", T, text);
        }
        None => {}
    }
    if facts.no_hotter && facts.throttle_begins != Some(true) {
        let text = "it had been slowed by heat before, and got no hotter since";
        row(list, "throttle.no-hotter", T, text);
    }
    if let Some(seconds) = facts.fall_follows
        && facts.op == Op::Write
        && facts.throttle_begins != Some(true)
    {
        let text = format!(
            "a further fall followed after {seconds:.0} s, and one of the two may have another cause"
        );
        row(list, "throttle.fall-follows", T, text);
    }
    if facts.hysteresis > 1 {
        let text = format!(
            "it fell {} times as soon as it had warmed to about this temperature, and came back cooler",
            facts.hysteresis
        );
        row(list, "throttle.hysteresis", T, text);
    } else if facts.same_temp > 0 {
        row(list, "throttle.same-temperature", T, "it fell at the same temperature again");
    }
    if facts.same_place() {
        row(list, "throttle.same-place", T, "another pass slowed at the same address");
    }
    if others_moved(facts) || stolen(facts) {
        row_of(list, "throttle.others", T, facts.others_part(), "others began at the break");
    }
    if facts.stands_still {
        row(list, "throttle.standstill", T, "the drive came to a standstill");
    }
}

pub(super) fn release(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::ThermalRelease as R;
    row(list, "release.prior", R, PRIOR);
    match (facts.temp, facts.limit) {
        (Some(t), Some(limit)) if !facts.across && limit.0 - t.0 >= FAR_C => {
            let text =
                format!("{t}, {:.0} °C below the warning limit, where no drive is throttled", limit.0 - t.0);
            row(list, "release.far-below-limit", R, text);
        }
        (Some(t), None) if !facts.across && t.0 < COOL_C - 5.0 => {
            row(
                list,
                "release.cooler-than-drives-throttle",
                R,
                format!("{t}, cooler than throttled drives are"),
            );
        }
        _ => {}
    }
    match facts.throttle_ends {
        Some(true) => row(list, "release.counter", R, "the throttle counters stopped ticking at the break"),
        Some(false) if !facts.across => {
            row(list, "release.no-counter", R, "no throttle counter stopped ticking")
        }
        _ => {}
    }
    match facts.undone {
        Some((Cause::ThermalThrottle, sure)) => {
            row_of(list, "release.undoes-throttle", R, sure, "the fall that it undoes was put down to heat");
        }
        Some((Cause::Unexplained, _)) | None => {}
        Some(_) => row(list, "release.undoes-other", R, "the fall that it undoes had another cause"),
    }
    match (facts.temp, facts.temp_at_fall) {
        (Some(now), Some(then)) if now.0 <= then.0 - 1.5 => {
            row(
                list,
                "release.cooler",
                R,
                format!("{now}, {:.0} °C cooler than when it fell", then.0 - now.0),
            );
        }
        (Some(now), Some(then)) if now.0 >= then.0 => {
            row(list, "release.no-cooler", R, format!("{now}, no cooler than when it fell"));
        }
        _ => {}
    }
    if facts.hysteresis > 1 {
        row(
            list,
            "release.hysteresis",
            R,
            "it came back at about the same temperature each time, cooler than where it fell",
        );
    }
    match facts.rise_before {
        Some(rise) if rise <= -0.5 => {
            row(
                list,
                "release.falling",
                R,
                format!("the temperature was falling, {:.1} °C just before", -rise),
            );
        }
        Some(rise) if rise >= 0.5 => row(list, "release.rising", R, "the temperature was rising"),
        Some(_) => {}
        None => row(list, "release.blind", R, "no temperature was read"),
    }
    if facts.same_place() {
        row(list, "release.same-place", R, "another pass changed at the same address");
    }
    if others_moved(facts) || stolen(facts) {
        row(list, "release.others", R, "others ended at the break");
    }
}

pub(super) fn recovered(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::CacheRecovered as C;
    let pause = if facts.pause == Some(Op::Idle) { "a rest" } else { "a leg of reads" };
    match facts.undone {
        Some((Cause::CacheExhausted, _)) => {
            row(
                list,
                "recovered.undoes-cache",
                C,
                format!("the write cache had been exhausted, and {pause} came between"),
            );
        }
        Some((Cause::ThermalThrottle, sure)) => {
            row_of(list, "recovered.undoes-throttle", C, sure, "it had been slowed by heat before");
        }
        _ => row(list, "recovered.after-pause", C, format!("the rate is higher after {pause}")),
    }
}

/// A leg that begins elsewhere than where the surface is slow.
pub(super) fn left(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::Surface as S;
    row(list, "surface.prior", S, PRIOR);
    if let Some((Cause::Surface, sure)) = facts.undone {
        let text = "the fall that it undoes was put down to the surface, and the leg begins elsewhere";
        row_of(list, "surface.begins-elsewhere", S, sure, text);
    }
}

pub(super) fn workload(facts: &Facts, list: &mut Vec<Evidence>) {
    row(list, "workload.next-leg", Cause::Workload, "the next leg of the course began here");
    if facts.in_gap {
        row(list, "workload.gap", Cause::Workload, "the log has a gap there");
    }
}

/// The tie to the address.
pub(super) fn surface(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::Surface as S;
    row(list, "surface.prior", S, PRIOR);
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
    hot_or_ticking(facts, list, S);
    if facts.throttle_ends == Some(true) {
        row(list, "surface.counter-stops", S, "the throttle counters stopped ticking");
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

pub(super) fn others_moved(facts: &Facts) -> bool {
    let sign = if facts.falls { 1.0 } else { -1.0 };
    facts.foreign.is_some_and(|r| sign * r.0 > FOREIGN * facts.change.0)
}

pub(super) fn stolen(facts: &Facts) -> bool {
    let sign = if facts.falls { 1.0 } else { -1.0 };
    facts.steal.is_some_and(|s| sign * s > STOLEN.min(0.5 * facts.share))
}

/// What others on the drive and on the host did at the break.
pub(super) fn others(facts: &Facts, list: &mut Vec<Evidence>) {
    let (cause, sign, more) =
        if facts.falls { (Cause::Interference, 1.0, "more") } else { (Cause::InterferenceEnd, -1.0, "less") };
    row(list, "others.prior", cause, PRIOR);
    if others_moved(facts) {
        let rate = sign * facts.foreign.unwrap_or_default().0;
        let id = if rate > 0.5 * facts.change.0 { "others.moved-most" } else { "others.moved" };
        let rate = number(rate / 1e6);
        row_of(
            list,
            id,
            cause,
            facts.others_part(),
            format!("others moved {rate} MB/s {more} on the drive behind the break than before"),
        );
    } else if facts.foreign.is_some() {
        row(
            list,
            "others.hardly-moved",
            cause,
            format!("others on the drive moved hardly {more} than before"),
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
            format!("hardly {more} processor time was stolen than before"),
        );
    }
    if facts.foreign.is_none() && facts.steal.is_none() {
        // That others began just then is rare where nobody saw them.
        row(
            list,
            "others.unseen",
            cause,
            "it was not logged what others did, and that they began just then is rare",
        );
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
}
