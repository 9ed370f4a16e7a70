//! Rows of heat: throttling, and its release.

use super::super::earlier::Heat;
use super::super::facts::Facts;
use super::super::scales::{
    AT_LIMIT_C, CLEAR_C, COOL_C, FAR_C, HOT_C, NEAR_C, RARE_C, RELEASES_C, WARM_C, WARMER_C,
};
use super::row::{PRIOR, REPEATS, drawn, others_moved, row, row_of, shifted, stolen};
use crate::breaks::{Cause, Evidence};
use crate::sample::Op;

pub(crate) fn throttle(facts: &Facts, list: &mut Vec<Evidence>) {
    use Cause::ThermalThrottle as T;
    let at = facts.place();
    if facts.repeats {
        row(list, "throttle.repeats", T, REPEATS);
    }
    if facts.begins_hottest {
        let text = "the dips began when the drive had become warmer than ever before in this leg";
        row(list, "throttle.begins-hottest", T, text);
    }
    match facts.throttle_begins {
        _ if facts.counts_slow_times => {
            let text = "a throttle counter ticked for about as long as it was slow";
            row(list, "throttle.counts-slow-times", T, text);
        }
        Some(true) => row(list, "throttle.counter", T, "a throttle counter began to tick at the break"),
        Some(false) if facts.throttled_before => {
            let text = if facts.repeats {
                "the throttle counters ticked all the time"
            } else {
                "the throttle counters ticked as before"
            };
            row(list, "throttle.counter-as-before", T, text)
        }
        Some(false) => row(list, "throttle.no-counter", T, "no throttle counter ticked"),
        None => {}
    }
    match (facts.temp, facts.limit) {
        // What tidies up does so at any temperature.
        (Some(t), Some(limit)) if facts.repeats && limit.0 - t.0 <= AT_LIMIT_C => {
            let text = format!("{t} at its falls, at the warning limit of {limit}");
            row(list, "throttle.repeats-at-limit", T, text);
        }
        (Some(t), Some(limit)) if facts.repeats && limit.0 - t.0 >= CLEAR_C => {
            let text = format!("{t} at its falls, {:.0} °C below the warning limit", limit.0 - t.0);
            row(list, "throttle.repeats-cool", T, text);
        }
        (Some(t), None) if facts.repeats && t.0 >= WARM_C => {
            let text = format!("{t} at its falls, as warm as some throttle at; its limit is not known");
            row(list, "throttle.repeats-warm", T, text);
        }
        (Some(t), Some(limit)) if limit.0 - t.0 <= AT_LIMIT_C => {
            let id = if limit.0 - t.0 <= 2.0 { "throttle.at-limit" } else { "throttle.near-limit" };
            row(list, id, T, format!("{t} at {at}, at the warning limit of {limit}"));
        }
        (Some(t), Some(limit)) if limit.0 - t.0 >= CLEAR_C => {
            let text = format!("{t} at {at}, {:.0} °C below the warning limit", limit.0 - t.0);
            row(list, "throttle.cool", T, text);
            let far = (limit.0 - t.0 - RARE_C.0) / (RARE_C.1 - RARE_C.0);
            if far > 0.0 {
                let text = "drives are rarely throttled so far below their limit";
                row_of(list, "throttle.far-below-limit", T, far.min(1.0), text);
            }
        }
        (Some(t), None) if facts.near_critical(t) => {
            let critical = facts.critical.unwrap_or_default();
            row(
                list,
                if critical.0 - t.0 <= NEAR_C { "throttle.near-critical" } else { "throttle.below-critical" },
                T,
                format!("{t} at {at}, {:.0} °C below what is critical", critical.0 - t.0),
            );
        }
        (Some(t), None) if t.0 >= HOT_C => {
            row(
                list,
                "throttle.hot",
                T,
                format!("{t} at {at}, as hot as drives throttle at; its limit is not known"),
            );
        }
        (Some(t), None) if t.0 >= WARM_C => {
            row(
                list,
                "throttle.warm",
                T,
                format!("{t} at {at}, as warm as some throttle at; its limit is not known"),
            );
        }
        (Some(t), None) if t.0 < COOL_C => {
            row(
                list,
                "throttle.cooler-than-drives-throttle",
                T,
                format!("{t} at {at}, cooler than drives throttle; its limit is not known"),
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
    if facts.first_falls.unlike_as_warm > 0 && facts.may_be_heat() {
        let text = "after another rest it fell at the same temperature again, and after other bytes";
        row(list, "throttle.same-temperature-again", T, text);
    }
    if facts.same_place() {
        row(list, "throttle.same-place", T, "another pass slowed at the same address");
    }
    if others_moved(facts) || stolen(facts) {
        row_of(list, "throttle.others", T, facts.others_part(), format!("others began at {at}"));
    }
    drawn(facts, list, T, ["throttle.power-falls", "throttle.power-stays"]);
    if let Some(rose) = facts.ambient_rose.filter(|r| *r >= WARMER_C) {
        let text = format!("the ambient temperature has risen by {rose:.1} °C since the leg began");
        row(list, "throttle.ambient-rose", T, text);
    }
    shifted(facts, list, T, ["throttle.latency-alike", "throttle.latency-spreads", "throttle.latency-few"]);
    if facts.stands_still {
        row(list, "throttle.standstill", T, "the drive came to a standstill");
    }
}

pub(crate) fn release(facts: &Facts, list: &mut Vec<Evidence>) {
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
    if let Some(fell) = facts.ambient_rose.map(|r| -r).filter(|f| *f >= WARMER_C) {
        let text = format!("the ambient temperature has fallen by {fell:.1} °C since the fall");
        row(list, "release.ambient-fell", R, text);
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
