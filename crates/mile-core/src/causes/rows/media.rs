//! Rows of the write cache and of the fill level.

use super::super::earlier::Size;
use super::super::facts::{Facts, WINDOW_S};
use super::super::scales::{AT_LIMIT_C, CLEAR_C, COOL_C, HOT_C, LARGEST_CACHE};
use super::row::{PRIOR, drawn, hot_or_ticking, others_moved, row, row_of, shifted, stolen};
use crate::breaks::{Cause, Evidence};
use crate::sample::Op;

/// A fall of less than this share of the rate is a small one for the end of a cache, and one of more than this a large one. Flash behind a cache of
/// single-bit cells takes data at a quarter to two thirds of its pace, where the link does not hide that.
const SHALLOW: f64 = 0.15;
const DEEP: f64 = 0.5;

/// A cache that is this many times larger at one time than at another is none; one that is a little larger may be so because less of the drive was in use.
const OTHERWISE: f64 = 8.0;

/// How far a size that is so many times larger is on the way to [`OTHERWISE`], as logarithms: 0 to 1.
fn on_the_way(times: f64) -> f64 {
    (times.ln() / OTHERWISE.ln()).clamp(0.0, 1.0)
}

pub(crate) fn cache(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::CacheExhausted as C;
    row(list, "cache.prior", C, PRIOR);
    let fell = 100.0 * facts.share;
    if facts.share < SHALLOW {
        row(list, "cache.shallow", C, format!("the rate fell by {fell:.0} % only"));
    } else if facts.share > DEEP {
        row(list, "cache.deep", C, format!("the rate fell by {fell:.0} %"));
    }
    let again = facts.first_falls;
    match (again.alike, again.unlike) {
        (0, 0) if facts.first_fall && !facts.back_after_rest => {
            row(
                list,
                "cache.once",
                C,
                "it happened once in this run: no second fall after a rest shows it again",
            );
        }
        (0, 0) => {}
        (0, unlike) => {
            let text = "after another rest, the first fall came after other bytes";
            row(list, "cache.other-bytes-again", C, text);
            if again.unlike_as_warm == unlike && facts.may_be_heat() {
                let text = "each time it fell as soon as the drive had warmed to the same temperature";
                row(list, "cache.same-temperature-again", C, text);
            }
        }
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
            let times = bytes.0 as f64 / facts.since_rest.0.max(1) as f64;
            let text = format!(
                "run {run} of this drive wrote {times:.1} times as much, {bytes}, as fast and without a fall"
            );
            row_of(list, "cache.earlier-longer", C, on_the_way(times), text);
        }
        Some(Size::Larger(run, bytes)) => {
            let times = bytes.0 as f64 / facts.since_rest.0.max(1) as f64;
            let text = format!(
                "run {run} of this drive found its cache exhausted after {times:.1} times as much, {bytes}, as fast until then"
            );
            // The sizes of one cache scatter about as a log-normal distribution does, whose logarithm falls with the square of the distance.
            row_of(list, "cache.earlier-larger", C, on_the_way(times).powi(2), text);
        }
        Some(Size::Sooner(run, bytes)) => {
            let text =
                format!("run {run} of this drive found its cache exhausted after other bytes, {bytes}");
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
    drawn(facts, list, C, ["cache.power-falls", "cache.power-stays"]);
    shifted(facts, list, C, ["cache.latency-alike", "cache.latency-spreads", "cache.latency-few"]);
    if facts.same_place() {
        row(list, "cache.same-place", C, "another pass slowed at the same address");
    }
}

/// A pattern behind a write cache that was exhausted: the cache frees a little of itself while the drive is written, and that is used up at once.
pub(crate) fn folding(facts: &Facts, list: &mut Vec<Evidence>) {
    let text = "the write cache was exhausted before, and a drive that frees some of it while it is written is fast for moments";
    row_of(list, "cache.exhausted-before", Cause::CacheExhausted, facts.full_before.unwrap_or(0.0), text);
}

pub(crate) fn recovered(facts: &Facts, list: &mut Vec<Evidence>) {
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

/// Share of the drive written since it was last at rest.
fn cache_share(facts: &Facts) -> Option<f64> {
    facts.capacity.map(|c| facts.since_rest.0 as f64 / c.0.max(1) as f64)
}

pub(crate) fn fill(facts: &Facts, list: &mut Vec<Evidence>) {
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
