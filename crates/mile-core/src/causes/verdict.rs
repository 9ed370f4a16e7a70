//! What the rows of the evidence come to, and how sure that can be.

use super::earlier::Size;
use super::facts::Facts;
use super::rows;
use super::scales::{ALL_OF_IT, BELOW_CRITICAL_C, RARE_C, WARM_C};
use crate::breaks::{Candidate, Cause, Evidence};
use crate::sample::Op;
use crate::units::Celsius;

/// Highest confidence of a cause that shares a change with another.
const CAP_SHARED: f64 = 0.6;
/// Highest confidence without a temperature or a throttle counter.
const CAP_BLIND: f64 = 0.8;
/// Highest confidence of a further stage of a cache where nobody knows how full the drive is.
const CAP_NO_FILL: f64 = 0.8;
/// Highest confidence of a further fall of a drive that heat had slowed, and that got no hotter, where nobody saw what others did.
const CAP_NO_HOTTER: f64 = 0.8;
/// Highest confidence of the first of two falls of a write within seconds, which heat and a full cache may share between them, where no counter tells.
const CAP_FOLLOWED: f64 = 0.75;
/// Highest confidence of the first end of a cache while a run goes on: what would show another cause, that the rate comes back without a rest or that
/// another pass falls at the same address, can only come later.
const CAP_OPEN: f64 = 0.75;
/// Highest confidence of the end of a cache that nothing shows again: no second fall after the same bytes, no rest that brought the rate back (without a
/// fall after other bytes behind it), and no earlier run of the drive. About a quarter of such falls has no cause that a log shows.
const CAP_ONCE: f64 = 0.89;
/// Highest confidence of a cache that came to its end after the same bytes each time, with the drive as warm each time as some throttle at, and no counter
/// that tells: the temperature is no help then, as where there is none.
const CAP_AS_WARM: f64 = CAP_BLIND;
/// Highest confidence that none of the causes holds where an earlier run wrote more without a fall: its drive may have been emptier, and its cache larger.
const CAP_EARLIER: f64 = 0.95;
/// Highest confidence of a cache that was full where another write fell at the same address after other bytes: a weak place looks alike, and a third write tells.
const CAP_PLACE: f64 = 0.75;
/// Highest confidence that none of the causes holds where nobody logged what others did, whose visits end: for a rate that comes back, and for one that
/// stays. They are argued: how often others come unseen cannot be measured.
const CAP_UNSEEN: (f64, f64) = (0.45, 0.75);
/// Highest confidence that none of the causes holds for a rate that comes back where no other pass over its address was logged, or no address: it may have been
/// a slow place.
const CAP_SEEN_ONCE: f64 = 0.8;
/// Highest confidence that none of the causes holds where the drive may have given no answer.
const CAP_MAYBE_STALL: f64 = 0.8;
/// Highest confidence with a temperature, but without a limit to hold it against and without counters.
const CAP_NO_LIMIT: f64 = 0.97;
/// Highest confidence of heat where beside these nothing is logged of others, whose visits to a hot drive look alike.
const CAP_NO_LIMIT_NOR_OTHERS: f64 = 0.89;

/// Highest confidence of heat for a pattern that neither counters nor a swing between two temperatures show, and of no cause where the drive is as warm as
/// some throttle at, and no counter says that it does not.
const CAP_REPEATS: f64 = 0.89;

/// Falls at one address that came after other bytes than one break, from which that is a place.
const AGAIN: usize = 2;

/// What is said of facts.
pub(crate) struct Verdict {
    /// The likeliest cause.
    pub(crate) cause: Cause,
    /// How likely, 0 to 1.
    pub(crate) confidence: f64,
    /// What speaks for and against.
    pub(crate) evidence: Vec<Evidence>,
    /// All that were considered, the likeliest first.
    pub(crate) candidates: Vec<Candidate>,
    /// The highest confidence that the readings allow.
    pub(crate) at_most: f64,
    /// Another cause that shares the change.
    pub(crate) also: Option<Cause>,
}

impl Verdict {
    /// Puts down what speaks for and against each cause that facts leave open, and what it comes to.
    pub(super) fn weigh(facts: &Facts) -> Self {
        let mut list = Vec::new();
        let mut candidates = vec![Cause::Unexplained];
        let mut consider = |cause: Cause, list: &mut Vec<Evidence>, weigh: fn(&Facts, &mut Vec<Evidence>)| {
            candidates.push(cause);
            weigh(facts, list);
        };
        if facts.across {
            match facts.pause {
                Some(Op::Idle | Op::Read) if !facts.falls => {
                    consider(Cause::CacheRecovered, &mut list, rows::recovered);
                    consider(Cause::ThermalRelease, &mut list, rows::release);
                    if facts.elsewhere && facts.undone.is_some_and(|(cause, _)| cause == Cause::Surface) {
                        consider(Cause::Surface, &mut list, rows::left);
                    }
                }
                _ => consider(Cause::Workload, &mut list, rows::workload),
            }
        } else {
            if facts.waited.is_some() {
                consider(
                    if facts.falls { Cause::OtherSide } else { Cause::OtherSideEnd },
                    &mut list,
                    rows::other_side,
                );
            }
            if facts.stall.is_some() {
                consider(if facts.falls { Cause::Stall } else { Cause::StallEnd }, &mut list, rows::stall);
            }
            if facts.falls {
                consider(Cause::ThermalThrottle, &mut list, rows::throttle);
                consider(Cause::Interference, &mut list, rows::others);
                if facts.op == Op::Write {
                    consider(Cause::CacheExhausted, &mut list, rows::cache);
                    if facts.fill.is_some() || facts.capacity.is_some() {
                        consider(Cause::FillLevel, &mut list, rows::fill);
                    }
                }
            } else {
                consider(Cause::ThermalRelease, &mut list, rows::release);
                consider(Cause::InterferenceEnd, &mut list, rows::others);
            }
            if facts.address.is_some() {
                consider(Cause::Surface, &mut list, rows::surface);
            }
        }
        rows::unexplained(facts, &mut list);
        Self::of(facts, list, &candidates)
    }

    /// Sums up the rows of each candidate.
    pub(super) fn of(facts: &Facts, mut list: Vec<Evidence>, candidates: &[Cause]) -> Self {
        let sum = |cause: Cause| -> f64 { list.iter().filter(|e| e.cause == cause).map(|e| e.weight).sum() };
        let total: f64 = candidates.iter().map(|&c| sum(c).exp()).sum();
        let hundredths = |x: f64| (x * 100.0).round() / 100.0;
        let mut considered: Vec<Candidate> = candidates
            .iter()
            .map(|&cause| Candidate { cause, log_odds: sum(cause), share: sum(cause).exp() / total })
            .collect();
        considered.sort_by(|a, b| b.share.total_cmp(&a.share));
        let (cause, share) = considered.first().map_or((Cause::Unexplained, 1.0), |c| (c.cause, c.share));
        let also = facts.also(cause);
        let at_most =
            cap(cause, facts).min(if also.is_some() { CAP_SHARED } else { 1.0 }).min(facts.as_sure_as(cause));
        for candidate in &mut considered {
            (candidate.log_odds, candidate.share) =
                (hundredths(candidate.log_odds), hundredths(candidate.share));
        }
        list.sort_by(|a, b| b.weight.abs().total_cmp(&a.weight.abs()));
        // What speaks for or against the chosen cause comes first.
        list.sort_by_key(|e| e.cause != cause);
        list.iter_mut().for_each(|e| e.weight = hundredths(e.weight));
        Self {
            cause,
            confidence: hundredths(share.min(at_most)),
            evidence: list,
            candidates: considered,
            at_most,
            also,
        }
    }
}

impl Facts {
    /// Where they hold, in words.
    pub(super) fn place(&self) -> &'static str {
        if self.repeats { "its falls" } else { "the break" }
    }

    /// Whether another pass changed at the same address, and that is no cache that was full after the same bytes.
    pub(super) fn same_place(&self) -> bool {
        self.is_no_cache()
            || self.passes.1 > 0 && (self.op == Op::Read || self.comes_back || self.brings_back)
    }

    /// Whether writes fell at this address again and again after other bytes, as no cache does that is full.
    pub(super) fn is_no_cache(&self) -> bool {
        self.here_after_other_bytes >= AGAIN
    }

    /// Whether heat shows by readings of its own: a counter that begins to tick, or a temperature that rose to the limit.
    fn shows_heat(&self) -> bool {
        let at_limit = self.temp.zip(self.limit).is_some_and(|(t, limit)| limit.0 - t.0 <= 2.0);
        self.falls
            && (self.throttle_begins == Some(true)
                || (at_limit && self.rise_before.is_some_and(|rise| rise >= 0.5)))
    }

    /// How far what others moved accounts for the change, 0 to 1. Others mostly cost more than they move, so that it is 1 where nothing else shows.
    pub(super) fn others_part(&self) -> f64 {
        match self.foreign {
            Some(moved) if self.shows_heat() && !rows::stolen(self) => {
                (moved.0.abs() / (ALL_OF_IT * self.change.0).max(1.0)).min(1.0)
            }
            _ => 1.0,
        }
    }

    /// Another cause that readings of its own show at the same change, which cannot be told apart from `cause`.
    fn also(&self, cause: Cause) -> Option<Cause> {
        let others = (rows::others_moved(self) || rows::stolen(self)).then_some(Cause::Interference);
        let heat = self.shows_heat().then_some(Cause::ThermalThrottle);
        let again = self.first_falls;
        let cache = (again.alike > again.alike_as_warm && self.first_fall).then_some(Cause::CacheExhausted);
        let all = [heat, others, cache];
        // Where others moved as much as was lost, nothing is left for another cause.
        let enough = others.is_some() && self.others_part() >= 1.0;
        if !self.falls || enough || !all.contains(&Some(cause)) {
            return None;
        }
        all.into_iter().flatten().find(|c| *c != cause)
    }

    /// How sure `cause` can be by that of the fall that it ends: a drive is let go that was throttled, unless a counter that stops shows it by itself.
    fn as_sure_as(&self, cause: Cause) -> f64 {
        match self.undone {
            Some((Cause::ThermalThrottle, sure))
                if cause == Cause::ThermalRelease && self.throttle_ends != Some(true) =>
            {
                sure
            }
            Some((Cause::CacheExhausted, sure)) if cause == Cause::CacheRecovered => sure,
            _ => 1.0,
        }
    }

    /// Whether the drive is as warm as some throttle at, and neither a counter nor its limit speaks against it.
    pub(super) fn may_be_heat(&self) -> bool {
        let below = |t: Celsius| self.limit.map_or(0.0, |limit| limit.0 - t.0);
        self.throttle_begins != Some(false) && self.temp.is_some_and(|t| t.0 >= WARM_C && below(t) < RARE_C.0)
    }

    pub(super) fn near_critical(&self, t: Celsius) -> bool {
        self.critical.is_some_and(|c| c.0 - t.0 <= BELOW_CRITICAL_C)
    }
}

/// How sure a cause can be with what was logged.
fn cap(cause: Cause, facts: &Facts) -> f64 {
    let doubts = doubts(cause, facts).into_iter().filter(|(holds, _)| *holds).map(|(_, most)| most);
    doubts.fold(cap_of_readings(cause, facts), f64::min)
}

/// What keeps a cause from being sure, and how sure it can be then.
fn doubts(cause: Cause, facts: &Facts) -> [(bool, f64); 13] {
    let throttled = cause == Cause::ThermalThrottle && facts.throttle_begins != Some(true);
    let heat = matches!(cause, Cause::ThermalThrottle | Cause::ThermalRelease);
    let no_others = facts.foreign.is_none() && facts.steal.is_none();
    let again = facts.first_falls;
    let shown_again = again.alike > 0 || matches!(facts.earlier_size, Some(Size::Same(_)));
    let wrote_more = matches!(facts.earlier_size, Some(Size::Longer(..) | Size::Larger(..)));
    let came_back = facts.back_after_rest && again.unlike == 0;
    // A drive that begins as cool each time is as warm after the same bytes, so that heat comes after the same bytes, too.
    let as_warm = again.alike > 0 && again.alike == again.alike_as_warm && facts.may_be_heat();
    // A governor holds a drive at a temperature that nobody declared.
    let may_be_held = facts.throttle_begins.is_none() && facts.temp.is_none_or(|t| t.0 >= WARM_C);
    // Others are no candidate for what changes from one leg to the next.
    let unseen = cause == Cause::Unexplained && no_others && !facts.across;
    let comes_back = facts.comes_back || facts.repeats || !facts.falls;
    let no_limit = facts.throttle_begins.is_none() && facts.temp.is_some() && facts.limit.is_none();
    [
        (cause == Cause::CacheExhausted && facts.open && !shown_again, CAP_OPEN),
        (cause == Cause::CacheExhausted && !shown_again && !came_back, CAP_ONCE),
        (cause == Cause::CacheExhausted && as_warm && facts.throttle_begins.is_none(), CAP_AS_WARM),
        (cause == Cause::CacheExhausted && facts.here_after_other_bytes > 0, CAP_PLACE),
        (cause == Cause::Unexplained && facts.maybe_stall, CAP_MAYBE_STALL),
        (unseen, if comes_back { CAP_UNSEEN.0 } else { CAP_UNSEEN.1 }),
        (cause == Cause::Unexplained && facts.seen_once, CAP_SEEN_ONCE),
        (cause == Cause::Unexplained && wrote_more, CAP_EARLIER),
        (throttled && facts.op == Op::Write && facts.fall_follows.is_some(), CAP_FOLLOWED),
        (throttled && facts.no_hotter && no_others, CAP_NO_HOTTER),
        (throttled && facts.repeats && facts.hysteresis <= 1, CAP_REPEATS),
        (cause == Cause::Unexplained && facts.repeats && may_be_held, CAP_REPEATS),
        (heat && no_limit && no_others && facts.hysteresis <= 1, CAP_NO_LIMIT_NOR_OTHERS),
    ]
}

/// How sure a cause can be with the kinds of readings that there are.
fn cap_of_readings(cause: Cause, facts: &Facts) -> f64 {
    match (facts.throttle_begins, facts.temp, facts.limit) {
        // These are seen by their own readings, whatever is known of heat.
        _ if matches!(cause, Cause::Workload | Cause::OtherSide | Cause::OtherSideEnd) => 0.99,
        _ if matches!(cause, Cause::Interference | Cause::InterferenceEnd | Cause::Surface) => 0.99,
        _ if matches!(cause, Cause::Stall | Cause::StallEnd) => 0.99,
        (Some(_), _, _) => 0.99,
        // A further stage of the cache and a full drive look alike where neither is known.
        _ if cause == Cause::CacheExhausted
            && !facts.first_fall
            && facts.fill.is_none()
            && facts.capacity.is_none() =>
        {
            CAP_NO_FILL
        }
        (None, Some(_), Some(_)) => 0.98,
        (None, Some(_), None) => CAP_NO_LIMIT,
        (None, None, _) => CAP_BLIND,
    }
}
