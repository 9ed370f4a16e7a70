//! The classes, each told in the order in which it happens.

use super::Tape;
use crate::{Case, TrueBreak, Truth};
use mile_core::findings::Cause;
use mile_core::{Bytes, Celsius, Context, Op};
use rand::RngExt;
use std::cell::Cell;

/// A trace of a class: the same again for the same two. One in which what was meant does not come about is drawn anew.
pub(crate) fn case(class: &'static str, seed: u64) -> Case {
    let draw = |attempt: u64| told(class, seed, seed ^ attempt.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    (0..).find_map(draw).unwrap_or_else(|| unreachable!("some draw comes about"))
}

/// Tells a class, from one number that decides all that is drawn. `None` where what was meant does not come about.
fn told(class: &'static str, seed: u64, drawn: u64) -> Option<Case> {
    let mut t = Tape::new(drawn, class);
    let full = t.full;
    let mut warn = None;
    let calm = t.range(48.0, 60.0);
    t.top(calm);
    match class {
        "tape: level" => {
            let seconds = 4.0 * t.stretch();
            t.hold(seconds, full);
        }
        "tape: wander" => {
            // It sinks by a fifth over all of it, and nothing happens at any time.
            let seconds = 5.0 * t.stretch();
            t.until(seconds, |t| full * (1.0 - 0.2 * t.now / seconds), |_| false);
        }
        "tape: cache" => {
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.06));
            t.with_cache(before, after * share);
            t.hold(before, full);
            t.mark(Cause::CacheExhausted);
            t.hold(after, full * share);
        }
        "tape: two modes behind the cache" => {
            let (before, slow) = (t.stretch(), t.share(0.1).min(0.4));
            t.with_cache(before, 7.0 * before);
            t.hold(before, full);
            t.mark(Cause::CacheExhausted);
            // It makes room for a moment, again and again, and takes it at once.
            let (make, take) = (t.range(3.0, 9.0) * t.row.max(0.4), t.range(0.6, 1.4) * t.row.max(0.4));
            let end = t.now + 3.0 * t.stretch() + 25.0 * (make + take);
            while t.now < end {
                let (a, b) = (t.range(0.85, 1.15), t.range(0.85, 1.15));
                t.hold(make * a, full * slow);
                t.hold(take * b, full * 0.9);
            }
        }
        "tape: shrinking stages" => {
            let mut share = 1.0;
            let stages = [t.stretch(), t.stretch()];
            t.with_cache(stages[0] + stages[1], 6.0 * (stages[0] + stages[1]));
            for seconds in stages {
                t.hold(seconds, full * share);
                share *= t.share(0.2).min(0.75);
                t.mark(Cause::CacheExhausted);
            }
            let seconds = t.stretch();
            t.hold(seconds, full * share);
        }
        "tape: hops" => {
            // Places that are in use are left out: the address goes on further ahead, once or twice.
            t.shown.address = true;
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.with_cache(before, 0.5 * before + 1.6 * after * share);
            t.hold(before * 0.4, full);
            t.address += 0.1;
            t.hold(before * 0.6, full);
            t.mark(Cause::CacheExhausted);
            t.hold(after * 0.5, full * share);
            t.address += 0.2;
            t.hold(after * 0.5, full * share);
        }
        "tape: round and round" => {
            // The same part of the drive is written over and over.
            t.shown.address = true;
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.with_cache(before, after * share);
            let part = t.range(0.01, 0.06);
            let round = |t: &mut Tape, seconds: f64, rate: f64| {
                let end = t.now + seconds;
                while t.now < end {
                    t.until(end - t.now, |_| rate, |t| t.address >= part);
                    t.address = if t.address >= part { 0.0 } else { t.address };
                }
            };
            round(&mut t, before, full);
            t.mark(Cause::CacheExhausted);
            round(&mut t, after, full * share);
        }
        "tape: at random" => {
            t.shown.address = true;
            t.random = true;
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.with_cache(before, after * share);
            t.hold(before, full);
            t.mark(Cause::CacheExhausted);
            t.hold(after, full * share);
        }
        "tape: hour by hour" => {
            // Legs that follow each other and do the same.
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.with_cache(before + 2.0 * after, 2.0 * after * share);
            for (i, name) in ["hour 1", "hour 2", "hour 3", "hour 4"].into_iter().enumerate() {
                t.leg(name, Op::Write);
                if i == 2 {
                    t.hold(0.3 * before, full);
                    t.mark(Cause::CacheExhausted);
                }
                t.hold(after, full * if i < 2 { 1.0 } else { share });
            }
        }
        "tape: rows of two lengths" => {
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1));
            t.with_cache(before, after.max(300.0 * t.row));
            t.hold(before * 0.6, full);
            t.row *= if t.chance(0.5) { 5.0 } else { 0.2 };
            let least = 12.0 * t.row;
            t.hold(least.max(before * 0.4), full);
            t.mark(Cause::CacheExhausted);
            t.hold(after.max(5.0 * least), full * share);
        }
        "tape: no answer" => {
            let (before, after) = (t.stretch(), t.stretch());
            let still = t.range(10.0, 40.0).max(12.0 * t.row);
            // Without latencies nobody could say whether it was asked.
            let known = t.shown.latency;
            t.hold(before, full);
            t.row_ends();
            t.mark(if known { Cause::Stall } else { Cause::Unexplained });
            let from = t.now;
            t.hold(still, 0.0);
            t.row_ends();
            t.mark(if known { Cause::StallEnd } else { Cause::Unexplained });
            t.waited = t.now - from;
            t.hold(after, full);
        }
        "tape: below its limit" => {
            // It slows well below the limit that it declares, and says nothing of it.
            let onset = t.range(58.0, 70.0).round();
            warn = Some(onset + t.range(8.0, 20.0).round());
            (t.shown.temp, t.shown.counter) = (true, false);
            let top = onset + t.range(6.0, 14.0);
            t.top(top);
            let share = t.share(0.3).min(0.75);
            heats(&mut t, onset, full);
            for _ in 0..3 {
                t.mark(Cause::ThermalThrottle);
                let at = t.now;
                if !t.until(4000.0, |_| full * share, |t| t.body.sensor() <= onset - 5.0) {
                    return None;
                }
                t.mark(Cause::ThermalRelease);
                let back = t.now;
                t.until(4000.0, |_| full, |t| t.body.sensor() >= onset);
                if (back - at).min(t.now - back) < 25.0_f64.max(25.0 * t.row) {
                    return None;
                }
            }
        }
        "tape: visits while hot" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            t.shown.others = true;
            let top = limit + t.range(5.0, 14.0);
            t.top(top);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            // What is left holds the drive at its limit.
            let hot = (limit - t.body.ambient) / (top - t.body.ambient);
            let share = ((hot - t.body.rest) / (1.0 - t.body.rest)).max(0.05).powf(1.25);
            let seconds = t.stretch();
            t.hold(seconds, full * share);
            let less = t.share(0.4).min(0.8);
            t.others = full * share * (1.0 - less) * t.range(0.6, 1.0);
            t.mark(Cause::Interference);
            let seconds = t.stretch().min(t.body.tau.1 * 0.3).max(30.0 * t.row).max(25.0);
            t.hold(seconds, full * share * less);
            t.others = 0.0;
            t.mark(Cause::InterferenceEnd);
            t.hold(seconds, full * share);
            if share > 0.85 {
                return None;
            }
        }
        "tape: steps of a throttle" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(8.0, 20.0);
            t.top(top);
            let deeper = t.share(0.3).min(0.8);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            // A first step that does not do, and a second one that does.
            let first = t.share(0.6).max(0.72);
            let goes_on = t.until(4000.0, |_| full * first, |t| t.body.sensor() >= limit + 3.0);
            if goes_on && t.now - t.truth[0].start_s >= 25.0_f64.max(25.0 * t.row) {
                t.mark(Cause::ThermalThrottle);
                // It would let go where it is a few degrees cooler.
                let seconds = t.stretch();
                t.until(seconds, |_| full * first * deeper, |t| t.body.sensor() <= limit - 4.0);
                if t.now - t.truth[1].start_s < 25.0_f64.max(25.0 * t.row) {
                    return None;
                }
            }
        }
        "tape: held temperature" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(10.0, 30.0);
            t.top(top);
            heats(&mut t, limit, full);
            let (at, bytes) = (t.now, t.moved);
            t.counting = true;
            // A governor takes a little away every few seconds while it is too warm, and gives it back more slowly.
            let (every, less) = (t.range(1.0, 4.0), t.range(0.02, 0.05));
            let (left, due) = (Cell::new(1.0_f64), Cell::new(t.now));
            let law = |t: &Tape| {
                if t.now >= due.get() {
                    due.set(t.now + every);
                    let off = t.body.sensor() - limit;
                    let change = if off > 0.0 {
                        1.0 - less
                    } else if off < -2.0 {
                        1.0 + 0.3 * less
                    } else {
                        1.0
                    };
                    left.set((left.get() * change).clamp(0.2, 1.0));
                }
                full * left.get()
            };
            let mut passed = vec![(t.now, t.moved, 1.0)];
            let end = t.now + 3.0 * t.stretch() + 6.0 * t.body.tau.0 + 2.0 * t.body.tau.1;
            while t.now < end {
                t.until(every, law, |_| false);
                passed.push((t.now, t.moved, left.get()));
            }
            // Nine tenths of the way down. Where it swings, nobody could say when.
            let lowest = passed.iter().map(|p| p.2).fold(1.0, f64::min);
            let last = left.get();
            let done = passed.iter().find(|p| p.2 <= 1.0 - 0.9 * (1.0 - lowest)).copied()?;
            if last > 0.8 || last > lowest * 1.08 || done.0 - at > 0.3 * (end - at) {
                return None;
            }
            t.truth.push(TrueBreak {
                start_s: at,
                end_s: done.0,
                start_bytes: bytes.floor(),
                end_bytes: done.1.floor(),
                cause: Cause::ThermalThrottle,
            });
        }
        "tape: shallow saw" => {
            // It is slowed for moments only, so that its mean hardly falls.
            let limit = t.range(62.0, 84.0).round();
            warn = Some(if t.chance(0.6) { limit } else { limit + t.range(2.0, 20.0).round() });
            let (top, swing, share) = (limit + t.range(1.0, 4.0), t.range(2.0, 4.0), t.share(0.5).min(0.9));
            t.top(top);
            heats(&mut t, limit, full);
            let (from, turns) = (t.now, t.rng.random_range(8..25));
            let (mut slow, mut shortest) = (0.0, f64::INFINITY);
            for _ in 0..turns {
                t.counting = true;
                let at = t.now;
                t.until(4000.0, |_| full * share, |t| t.body.sensor() <= limit - swing);
                t.counting = false;
                let back = t.now;
                if !t.until(4000.0, |_| full, |t| t.body.sensor() >= limit) {
                    return None;
                }
                slow += back - at;
                shortest = shortest.min(back - at);
            }
            if slow * (1.0 - share) > 0.065 * (t.now - from) || shortest < 2.5 * t.row {
                return None;
            }
            t.repeats(from, turns, Cause::ThermalThrottle);
        }
        "tape: dips while hot" => {
            // Warm, perhaps at its limit, and what makes it slow for moments is its own housekeeping.
            let limit = t.range(66.0, 84.0).round();
            warn = Some(limit);
            let top = limit - t.range(-1.0, 12.0);
            t.top(top);
            let seconds = 3.0 * t.body.tau.1;
            t.hold(seconds, full);
            brief(&mut t, Cause::Unexplained);
        }
        "tape: brief visits" => {
            t.shown.others = true;
            if t.chance(0.5) {
                t.leg("long read", Op::Read);
            }
            let seconds = t.stretch();
            t.hold(seconds, full);
            brief(&mut t, Cause::Interference);
        }
        "tape: fan" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(5.0, 14.0);
            t.top(top);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            let (share, seconds) = (t.share(0.35), t.stretch() + 60.0);
            t.hold(seconds, full * share);
            // Somebody puts a fan before it.
            t.body.rise.1 *= 0.35;
            let cools = t.until(6000.0, |_| full * share, |t| t.body.sensor() <= limit - 9.0);
            if cools {
                t.mark(Cause::ThermalRelease);
                t.counting = false;
                let seconds = t.stretch();
                t.hold(seconds, full);
            }
        }
        "tape: warm room" => {
            // What it draws would not take it to its limit, but it becomes warmer around it, and cooler again.
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let below = t.range(3.0, 9.0);
            t.top(limit - below);
            t.shown.ambient = t.chance(0.7);
            let (before, share) = (t.stretch() + 2.0 * t.body.tau.1, t.share(0.35));
            t.hold(before, full);
            let seconds = (t.stretch() + 0.5 * t.body.tau.1).max(60.0);
            let by = (below + t.range(2.0, 6.0)) / seconds;
            if !becomes(&mut t, full, by, |t| t.body.sensor() >= limit) {
                return None;
            }
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            let seconds = t.stretch() + 30.0;
            t.hold(seconds, full * share);
            let release = limit - t.range(4.0, 9.0);
            if becomes(&mut t, full * share, -by, |t| t.body.sensor() <= release) {
                t.mark(Cause::ThermalRelease);
                t.counting = false;
                let seconds = t.stretch();
                t.hold(seconds, full);
            }
        }
        "tape: hot reads" => {
            let limit = t.range(66.0, 82.0).round();
            warn = Some(limit);
            let top = limit + t.range(5.0, 20.0);
            t.top(top);
            t.leg("long read", Op::Read);
            heats(&mut t, limit, full);
            t.mark(Cause::ThermalThrottle);
            t.counting = true;
            let (share, seconds) = (t.share(0.3), t.stretch());
            t.hold(seconds, full * share);
        }
        "tape: cache, then heat" => {
            let limit = t.range(66.0, 80.0).round();
            warn = Some(limit);
            // What is left behind the cache is warm enough.
            let share = t.range(0.5, 0.8);
            let top = limit + t.range(20.0, 40.0);
            t.top(top);
            let far = limit - t.range(4.0, 10.0);
            heats(&mut t, far, full);
            let cache = t.moved / full / 1e6;
            t.with_cache(cache, 8.0 * cache);
            t.mark(Cause::CacheExhausted);
            let least = (25.0 * t.row).max(12.0);
            t.hold(least, full * share);
            if t.until(6000.0, |_| full * share, |t| t.body.sensor() >= limit) {
                t.mark(Cause::ThermalThrottle);
                t.counting = true;
                let (deep, seconds) = (t.share(0.4).min(0.8), t.stretch());
                t.hold(seconds, full * share * deep);
            }
        }
        "tape: visits" => {
            t.shown.others = true;
            if t.chance(0.5) {
                t.leg("long read", Op::Read);
            }
            let seconds = t.stretch();
            t.hold(seconds, full);
            for _ in 0..t.rng.random_range(1..4) {
                let (share, seconds, pause) = (t.share(0.3), t.stretch(), t.stretch());
                t.others = full * (1.0 - share) * t.range(0.4, 1.0);
                t.mark(Cause::Interference);
                t.hold(seconds, full * share);
                t.others = 0.0;
                t.mark(Cause::InterferenceEnd);
                t.hold(pause, full);
            }
        }
        "tape: unseen visits" => {
            // They come and go evenly, and the drive cools a little each time: nothing that is logged tells of them.
            (t.shown.others, t.shown.steal) = (false, false);
            let (seconds, pause, share) = (t.stretch(), t.stretch(), t.share(0.3));
            let before = pause * t.range(0.5, 3.0);
            t.hold(before, full);
            for _ in 0..3 {
                t.mark(Cause::Interference);
                t.hold(seconds, full * share);
                t.mark(Cause::InterferenceEnd);
                t.hold(pause, full);
            }
        }
        "tape: busy host" => {
            t.shown.steal = true;
            let (before, seconds, after) = (t.stretch(), t.stretch(), t.stretch());
            let share = t.share(0.3);
            t.hold(before, full);
            t.mark(Cause::Interference);
            t.steal = (1.0 - share) * t.range(0.7, 1.1);
            t.hold(seconds, full * share);
            t.steal = 0.01;
            t.mark(Cause::InterferenceEnd);
            t.hold(after, full);
        }
        "tape: narrow link" => {
            let op = if t.chance(0.5) { Op::Read } else { Op::Write };
            t.leg("long transfer", op);
            t.delays.all_alike();
            t.draws.less[4] = 0.0;
            let (before, seconds, after) = (t.stretch(), t.stretch(), t.stretch());
            t.hold(before, full);
            // Its temperature is long what it will be.
            t.mark(Cause::Unexplained);
            t.hold(seconds, full * 0.5);
            t.mark(Cause::Unexplained);
            t.hold(after, full);
        }
        "tape: no reason for a write" => {
            let mut rate = full;
            let falls = t.rng.random_range(1..3);
            for _ in 0..falls {
                let seconds = t.stretch();
                t.hold(seconds, rate);
                rate *= t.share(0.3);
                t.mark(Cause::Unexplained);
            }
            let seconds = t.stretch();
            t.hold(seconds, rate);
            t.capacity = t.moved * t.range(1.1, 20.0);
        }
        "tape: no reason" if t.chance(0.3) => {
            // For a while, in one of two passes over the same addresses.
            t.shown.address = true;
            let (before, during, after, share) = (t.stretch(), t.stretch(), t.stretch(), t.share(0.3));
            t.capacity = full * 1e6 * (before + during * share + after) * 1.02;
            let slow = t.rng.random_range(0..2);
            for pass in 0..2 {
                t.leg(["there", "there again"][pass], Op::Read);
                (t.address, t.from) = (0.0, 0.0);
                t.hold(before, full);
                if pass == slow {
                    t.mark(Cause::Unexplained);
                    t.hold(during, full * share);
                    t.mark(Cause::Unexplained);
                }
                t.hold(after, full);
            }
        }
        "tape: no reason" => {
            t.leg("long read", Op::Read);
            let mut rate = full;
            let mut plan = Vec::new();
            for _ in 0..t.rng.random_range(2..5) {
                plan.push((t.stretch(), rate));
                rate *= t.share(0.3);
            }
            // Of a part of the drive, or of all of it.
            if t.chance(0.5) {
                t.capacity = plan.iter().map(|(seconds, rate)| seconds * rate * 1e6).sum::<f64>() * 1.03;
            }
            for (i, (seconds, rate)) in plan.into_iter().enumerate() {
                if i > 0 {
                    t.mark(Cause::Unexplained);
                }
                t.hold(seconds, rate);
            }
        }
        "tape: worn place" => {
            t.shown.address = true;
            let (before, seconds, after, share) = (t.stretch(), t.stretch(), t.stretch(), t.share(0.3));
            let whole = full * 1e6 * (before + seconds * share + after);
            t.capacity = whole * 1.02;
            let (from, to) =
                (full * 1e6 * before / t.capacity, full * 1e6 * (before + seconds * share) / t.capacity);
            // One of four is gone over once.
            t.seen_once = t.chance(0.25);
            for pass in 0..if t.seen_once { 1 } else { 2 } {
                t.leg(["first pass", "second pass"][pass], Op::Read);
                (t.address, t.from) = (0.0, 0.0);
                t.until(1e9, |_| full, |t| t.address >= from);
                t.mark(Cause::Surface);
                t.until(1e9, |_| full * share, |t| t.address >= to);
                t.mark(Cause::Surface);
                t.until(1e9, |_| full, |t| t.address >= 0.98);
            }
        }
        "tape: worn place, written" => {
            // Writes from several places on come to the same one, after other bytes each time.
            t.shown.address = true;
            let (before, inside, share) = (t.stretch(), t.stretch(), t.share(0.4));
            t.capacity = full * 1e6 * before * t.range(2.5, 8.0);
            let worn = full * 1e6 * before / t.capacity;
            let leaves = t.chance(0.5);
            for write in 0..t.rng.random_range(3..6) {
                if write > 0 {
                    t.leg(["rest 1", "rest 2", "rest 3", "rest 4"][write - 1], Op::Idle);
                    t.hold(before * 0.5, 0.0);
                }
                t.leg(["write 1", "write 2", "write 3", "write 4", "write 5"][write], Op::Write);
                t.address = worn * t.range(0.0, 0.7) * f64::from(u8::from(write > 0));
                t.from = t.address;
                if write > 0 && !leaves {
                    t.mark(Cause::Surface);
                }
                t.until(1e9, |_| full, |t| t.address >= worn);
                t.mark(Cause::Surface);
                t.hold(inside, full * share);
                if leaves {
                    t.mark(Cause::Surface);
                    t.hold(inside, full);
                }
            }
        }
        "tape: tracks" => {
            // From the outer to the inner tracks in sixteen small steps, there and there again.
            t.shown.address = true;
            let inner = t.range(0.42, 0.6);
            let seconds = 4.0 * t.stretch();
            t.capacity = full * 1e6 * seconds * (1.0 + inner) / 2.0;
            for pass in 0..2 {
                t.leg(["first pass", "second pass"][pass], Op::Read);
                (t.address, t.from) = (0.0, 0.0);
                let law = |t: &Tape| full * (1.0 - (1.0 - inner) * (t.address * 16.0).floor() / 15.0);
                t.until(1e9, law, |t| t.address >= 0.99);
            }
        }
        "tape: soaks and rests" => {
            let (before, after, share) = (t.stretch(), t.stretch(), t.share(0.1).min(0.75));
            t.with_cache(before, 14.0 * before);
            for soak in 1..=3 {
                t.leg(["soak 1", "soak 2", "soak 3"][soak - 1], Op::Write);
                if soak > 1 {
                    t.mark(Cause::CacheRecovered);
                }
                t.hold(before, full);
                t.mark(Cause::CacheExhausted);
                t.hold(after, full * share);
                if soak < 3 {
                    t.leg(["rest 1", "rest 2"][soak - 1], Op::Idle);
                    t.hold(3.0 * before, 0.0);
                }
            }
        }
        _ => {
            let op = if t.chance(0.5) { Op::Read } else { Op::Write };
            let mut rate = full;
            for (i, name) in ["blocks 1 MiB", "blocks 64 KiB", "blocks 4 KiB"].into_iter().enumerate() {
                t.leg(name, op);
                if i > 0 {
                    rate *= t.share(0.1).min(0.8);
                    t.mark(Cause::Workload);
                }
                let seconds = t.stretch();
                t.hold(seconds, rate);
            }
        }
    }
    t.row_ends();
    let limit = warn.unwrap_or_else(|| t.range(70.0, 85.0).round());
    let context = Context {
        capacity: Some(Bytes(t.capacity as u64)),
        warn: Some(Celsius(limit)),
        critical: t.chance(0.5).then_some(Celsius(limit + 10.0)),
        link: crate::link(&mut t.draws.rng, full, class == "tape: narrow link"),
        ..Context::default()
    };
    Some(Case {
        pattern: class,
        seed,
        samples: t.samples,
        power: crate::readings(&t.draws.read),
        names: t.names,
        context,
        truth: Truth { breaks: t.truth, cycles: t.cycles, seen_once: t.seen_once },
    })
}

/// Goes on at a rate, while it becomes warmer around the drive by so many °C in a second, until `end`. Gives whether that came before it was 30 °C.
fn becomes(t: &mut Tape, rate: f64, by: f64, end: impl Fn(&Tape) -> bool) -> bool {
    let (from, h) = (t.body.ambient, t.row.min(1.0));
    while (t.body.ambient - from).abs() < 30.0 {
        if t.until(h, |_| rate, &end) {
            return true;
        }
        t.body.ambient += by * h;
    }
    false
}

/// Slow for moments, again and again, so that the mean hardly falls: for no reason that shows, or as others come.
fn brief(t: &mut Tape, cause: Cause) {
    let (from, turns, share) = (t.now, t.rng.random_range(8..25), t.share(0.4));
    let slow = t.range(2.5, 8.0) * t.row.max(0.4);
    let pause = slow * (1.0 - share) / t.range(0.02, 0.065);
    for _ in 0..turns {
        let (a, b) = (t.range(0.9, 1.1), t.range(0.9, 1.1));
        if cause == Cause::Interference {
            t.others = t.full * (1.0 - share) * 0.9;
        }
        let full = t.full;
        t.hold(slow * a, full * share);
        t.others = 0.0;
        t.hold(pause * b, full);
    }
    t.repeats(from, turns, cause);
}

/// Heats up at a rate until the sensor is at `limit`. A cooling with which it does not come so far, or is there at once, is made worse or better.
fn heats(t: &mut Tape, limit: f64, rate: f64) {
    let least = (60.0 * t.row).max(25.0);
    // One that is as warm before it has anything to do draws less at rest.
    while t.now == 0.0 && t.body.sensor() >= limit {
        t.body.rest *= 0.7;
        t.body.settle();
    }
    loop {
        // How long would it take?
        let (mut body, mut seconds) = (t.body, 0.0);
        let power = body.rest + (1.0 - body.rest) * (rate / t.full).powf(0.8);
        while body.sensor() < limit && seconds < 20_000.0 {
            body.warm(power, 0.5);
            seconds += 0.5;
        }
        if seconds >= least || t.body.sensor() >= limit {
            break;
        }
        t.body.tau.1 *= 1.5;
        t.body.tau.0 *= 1.2;
    }
    t.until(20_000.0, |_| rate, |t| t.body.sensor() >= limit);
}
