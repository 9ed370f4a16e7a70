//! Findings while a run is underway.
//!
//! There is one analysis ([`crate::engine`]), and this runs it again and again on the run so far. What is decided here is only when it is worth a
//! look, and when what it says has stood long enough to be told: a break is announced once it has been among the findings for two
//! seconds, and taken back once it has been missing for as long.
//!
//! A look costs more the longer the leg is, so that the time between two looks grows with it: each sample costs about the same, however long the
//! run is. Where the newest rates differ from those before them, or something waits to be told, looks come sixteen times as often as otherwise.

use crate::breaks::Break;
use crate::channel::{Reading, Series, Tells};
use crate::context::Context;
use crate::dips;
use crate::engine::{Engine, Look};
use crate::findings::{self, Findings};
use crate::heat::{self, HeatFit};
use crate::plateaus::Settings;
use crate::sample::{Op, Sample};
use crate::stats;
use crate::trace::Trace;
use crate::units::{Nanos, Rate};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;

/// Seconds, and samples, for which a break has to be among the findings before it is told, or missing before it is taken back. With the 3 s and
/// 8 samples that a plateau must last, a break is told after 5 s, which is soon enough for whoever watches, and most of what looks like one at
/// the edge of the run has gone by then.
const STANDS_S: f64 = 2.0;
const STANDS_SAMPLES: f64 = 4.0;
/// A change that brings the rate back to where it was, or repeats an earlier one, may be part of a pattern, whose changes are no breaks. It takes five
/// falls, four periods, to know one. So such a change waits for ten times the longest time between two of them, each of which may be half of a
/// period (eight, and what it takes to see them), but not longer than these seconds, or samples where they are long. One without a clear cause that repeats both rates of an earlier one waits for all
/// of it.
const HALF_PERIODS: f64 = 10.0;
const LONGEST_WAIT_S: f64 = 3600.0;
const LONGEST_WAIT_SAMPLES: f64 = 240.0;
/// One without a clear cause comes soon behind another where so many of the least plateaus lie between them.
const SOON: f64 = 4.0;
/// Longest time, seconds, or samples where they are long, for which a change that is still underway is waited for.
const UNDERWAY_S: f64 = 120.0;
const UNDERWAY_SAMPLES: f64 = 32.0;
/// Seconds after a break in which its evidence still comes in: the window of the evidence, and a little.
const EVIDENCE_S: f64 = 35.0;
/// Fewest samples, and seconds, between two looks while something stirs.
const SOONEST: (usize, f64) = (4, 1.0);
/// A leg of so many samples is looked at after each one of them; the longer it is, the rarer.
const OFTEN: usize = 400;
/// How many times as long it waits while nothing stirs.
const CALM: usize = 16;
/// Newest values that are held against those before them, and how many of those.
const STIR: (usize, usize) = (8, 56);
/// How far they differ when something stirs, as a difference of logarithms, half of the least change; and in standard deviations of a single one,
/// 3.4 of those of a median of eight.
const STIRS: (f64, f64) = (0.04, 1.5);
/// By how much a confidence changes before it is told again.
const SURER: f64 = 0.1;
/// How far the place of a break may move while more comes in, share of the time since it: in a gradual change only its end tells where its middle is.
const MOVES: f64 = 0.3;
/// It is taken back once it has been missing for this share of the time since it: for as long as it had stood.
const MISSING: f64 = 0.5;
/// Share of a step by which the newest rates may differ from what it led to, once it is done.
const DONE: f64 = 0.25;
/// How near two rates are the same, and how far apart they are surely not, as differences of logarithms.
const SAME_RATE: f64 = 0.1;
const APART: f64 = 0.25;

/// News from the newest look.
#[derive(Clone, Debug, PartialEq)]
pub enum News {
    /// A break has stood long enough.
    Announced(Break),
    /// One that was announced, with another cause, or surer or less sure than announced.
    Revised(Break),
    /// One that was announced has become part of something longer that the findings tell: for the same reason, or without that a reason was clear.
    Joined(Break, Whole),
    /// One that was announced and is no longer among the findings.
    Withdrawn(Break),
}

/// What a break has become part of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Whole {
    /// A pattern, whose changes are no breaks.
    Pattern,
    /// A break that takes longer.
    Change,
}

/// Findings while a run is underway, with the trace so far.
#[derive(Clone, Debug)]
pub struct LiveFindings {
    settings: Settings,
    context: Context,
    trace: Trace,
    engine: Engine,
    standing: Vec<Standing>,
    /// Those of them that were announced, as they are seen now.
    shown: Vec<Break>,
    /// Logarithms of the newest rates of the leg underway.
    newest: VecDeque<f64>,
    /// Samples and legs at the last look, and when that was.
    looked: (usize, usize, Nanos),
    /// Whether the leg underway went from zone to zone at the last look: its rate changes all the time, and no break comes of it.
    is_mixed: bool,
    settling: Option<HeatFit>,
    /// First sample of the curve, and until when it need not be fitted again.
    curve: (usize, Nanos),
}

/// A break of the last look.
#[derive(Clone, Debug)]
struct Standing {
    found: Break,
    /// Since when it has been there.
    since: Nanos,
    /// As it was told.
    told: Option<Break>,
    /// Since when its cause has not been what was told.
    other_since: Option<Nanos>,
    /// Since when it has been missing.
    gone_since: Option<Nanos>,
}

impl Default for LiveFindings {
    fn default() -> Self {
        Self::new(Context::default())
    }
}

impl LiveFindings {
    /// Nothing seen yet.
    pub fn new(context: Context) -> Self {
        Self {
            settings: Settings::default(),
            context: Context { underway: true, ..context },
            trace: Trace::new(),
            engine: Engine::default(),
            standing: Vec::new(),
            shown: Vec::new(),
            newest: VecDeque::new(),
            looked: (0, 0, Nanos(0)),
            is_mixed: false,
            settling: None,
            curve: (0, Nanos(0)),
        }
    }

    /// Hands the trace over. What is pushed behind that begins another.
    pub fn take_trace(&mut self) -> Trace {
        std::mem::take(self).trace
    }

    /// Takes a reading of a channel that tells of this drive, before the sample in which it was taken.
    pub fn push_reading(&mut self, tells: Tells, reading: Reading) {
        self.trace.push_reading(tells, reading);
    }

    /// Takes what the channels of a run told of the drive of `lane` before it went on.
    pub fn push_series(&mut self, series: &[Series], lane: usize) {
        self.trace.push_series(series, lane);
    }

    /// The trace so far.
    pub fn trace(&self) -> &Trace {
        &self.trace
    }

    /// The breaks announced so far, as they are seen now.
    pub fn breaks(&self) -> &[Break] {
        &self.shown
    }

    /// Whether there is a fall in the leg underway that has stood for as long as one has to, announced or not.
    pub fn has_fallen(&self) -> bool {
        let Some(leg) = self.trace.legs().last() else { return false };
        let (start, now) = (self.trace.start(leg.samples.start).secs(), self.trace.end(self.trace.len()));
        let stood = |s: &Standing| s.told.is_some() || now.since(s.since).secs() >= STANDS_S;
        self.standing.iter().any(|s| {
            let falls = s.found.to_mb_s < s.found.from_mb_s && s.found.at_s > start;
            falls && s.gone_since.is_none() && stood(s)
        })
    }

    /// Where the temperature leads under the load that is underway. It may be told once it [`HeatFit::is_known`].
    pub fn settling(&self) -> Option<HeatFit> {
        self.settling
    }

    /// Fits the curve anew each time it has become longer by a tenth, so that the work for a sample is constant on average.
    fn follow_heat(&mut self, newest: usize) {
        let time = self.trace.end(newest);
        if time < self.curve.1 {
            return;
        }
        let start = self.trace.start(self.curve.0);
        self.curve.1 = time.plus(Nanos((time.since(start).0 / 10).max(Nanos::from_secs(10.0).0)));
        let step = ((newest - self.curve.0) / 4000).max(1);
        let readings: Vec<(f64, f64)> = (self.curve.0..=newest)
            .step_by(step)
            .filter_map(|i| Some((self.trace.end(i).secs(), self.trace.temp.get(i)?)))
            .collect();
        self.settling = heat::fit(&readings);
    }

    /// Takes in a sample, without looking: constant work. [`LiveFindings::news`] looks when it is time.
    pub fn push(&mut self, sample: &Sample, leg_name: &str) {
        let legs = self.trace.legs().len();
        self.trace.push(sample, leg_name);
        let index = self.trace.len() - 1;
        if self.trace.legs().len() > legs {
            self.settling = None;
            self.curve = (index, sample.end);
            self.newest.clear();
        }
        if sample.op == Op::Idle {
            return;
        }
        self.follow_heat(index);
        if let Some(rate) = self.trace.rate.get(index) {
            self.newest.push_back(rate.max(1e-6).ln());
            if self.newest.len() > STIR.0 + STIR.1 {
                self.newest.pop_front();
            }
        }
    }

    /// Whether the newest rates differ from those before them.
    fn stirs(&self) -> bool {
        let n = self.newest.len();
        if n < 2 * STIR.0 {
            return true;
        }
        let mut late: Vec<f64> = self.newest.range(n - STIR.0..).copied().collect();
        let mut early: Vec<f64> = self.newest.range(..n - STIR.0).copied().collect();
        let noise = stats::difference_sigma(&early).unwrap_or(0.0);
        let median = |values: &mut [f64]| stats::median(values).unwrap_or(0.0);
        (median(&mut late) - median(&mut early)).abs() > STIRS.0.max(STIRS.1 * noise)
    }

    /// Whether it is time for a look.
    fn is_due(&self) -> bool {
        let (samples, legs, at) = self.looked;
        let n = self.trace.len();
        let Some(leg) = self.trace.legs().last() else { return false };
        let fresh = n - samples;
        // The work of a look is that of the leg underway, and of all breaks.
        let soonest = (leg.samples.len() / OFTEN).max(self.standing.len() / 16).max(SOONEST.0);
        if fresh < soonest || self.trace.end(n).since(at).secs() < SOONEST.1 {
            return false;
        }
        if self.trace.legs().len() > legs {
            return true;
        }
        if leg.op == Op::Idle {
            return false;
        }
        let now = self.trace.end(n).secs();
        let waits = self.standing.last().is_some_and(|s| s.told.is_none() || now - s.found.at_s < EVIDENCE_S)
            || self.standing.iter().any(|s| s.gone_since.is_some() || s.other_since.is_some());
        // What a look takes there is the work of the whole surface.
        let all = if self.is_mixed { n / OFTEN } else { 0 };
        fresh >= CALM * soonest.max(all) || (!self.is_mixed && (waits || self.stirs()))
    }

    /// Looks, where it is time, and says what is new.
    pub fn news(&mut self) -> Vec<News> {
        if self.is_due() { self.look(false).0 } else { Vec::new() }
    }

    /// Looks at all that has come in, and takes what is found for told.
    pub fn settle(&mut self) -> Vec<News> {
        self.look(true).0
    }

    /// Looks once more at a run that has ended, says what is still to be said, and gives its findings: [`LiveFindings::breaks`] says the same then.
    pub fn close(&mut self) -> (Vec<News>, Findings) {
        self.context.underway = false;
        let (news, look) = self.look(true);
        (news, findings::findings_of(&self.trace, &self.context, look))
    }

    fn look(&mut self, last: bool) -> (Vec<News>, Look) {
        let n = self.trace.len();
        let now = self.trace.end(n);
        self.looked = (n, self.trace.legs().len(), now);
        let sample_s = n.checked_sub(1).map_or(0.0, |i| now.since(self.trace.start(i)).secs());
        let stands = STANDS_S.max(STANDS_SAMPLES * sample_s);
        let near_s = self.settings.least(sample_s.max(1e-6)) as f64 * sample_s;
        let look = self.engine.look(&self.trace, &self.context);
        self.is_mixed = look.is_mixed;
        let legs: Vec<usize> = look.seen.iter().map(|s| s.leg).collect();
        self.meet(look.breaks.clone(), now, near_s);
        let underway = self.trace.legs().len().saturating_sub(1);
        let mut news = Vec::new();
        let waits = self.waits(&legs, stands, (sample_s, near_s));
        let goes_on: Vec<bool> = self.standing.iter().map(|s| self.goes_on(s)).collect();
        for (i, wait) in waits.into_iter().enumerate() {
            let standing = &mut self.standing[i];
            let ended = legs.get(i).is_some_and(|leg| *leg < underway);
            let longer = |since: Nanos, seconds: f64| last || now.since(since).secs() >= seconds;
            if let Some(since) = standing.gone_since {
                let behind = now.secs() - standing.found.at_s;
                if goes_on[i] && !last {
                    continue;
                }
                if longer(since, stands.max(MISSING * behind)) {
                    let told = standing.told.take();
                    news.extend(told.map(|b| match self.whole(&b, &look) {
                        Some(whole) => News::Joined(b, whole),
                        None => News::Withdrawn(b),
                    }));
                }
                continue;
            }
            let found = &standing.found;
            match &standing.told {
                None => {
                    let stood = longer(standing.since, stands) && now.secs() - found.at_s >= wait;
                    if last || ended || stood {
                        standing.told = Some(found.clone());
                        news.push(News::Announced(found.clone()));
                    }
                }
                Some(told) => {
                    let differs =
                        told.cause != found.cause || (told.confidence - found.confidence).abs() >= SURER;
                    standing.other_since = differs.then(|| standing.other_since.unwrap_or(now));
                    if standing.other_since.is_some_and(|since| longer(since, stands)) {
                        standing.told = Some(found.clone());
                        standing.other_since = None;
                        news.push(News::Revised(found.clone()));
                    }
                }
            }
        }
        self.standing.retain(|s| s.gone_since.is_none() || s.told.is_some());
        let shown = self.standing.iter().filter(|s| s.told.is_some() && s.gone_since.is_none());
        self.shown = shown.map(|s| s.found.clone()).collect();
        if let Some(News::Announced(b)) = news.iter().rev().find(|n| matches!(n, News::Announced(_))) {
            // Another rate is another power.
            let sample = self.trace.index_at_time(Nanos::from_secs(b.at_s));
            if self.trace.legs().last().is_some_and(|leg| leg.samples.contains(&sample)) {
                self.settling = None;
                self.curve = (sample, Nanos::from_secs(b.at_s));
            }
        }
        (news, look)
    }

    /// What a break that was told has become part of, if that says nothing else of it.
    fn whole(&self, told: &Break, look: &Look) -> Option<Whole> {
        if look.breaks.iter().any(|b| b.covers(told)) {
            return Some(Whole::Change);
        }
        self.is_in_a_pattern(told, look).then_some(Whole::Pattern)
    }

    /// Whether a break has become one of the changes of a pattern that says the same of its cause.
    fn is_in_a_pattern(&self, told: &Break, look: &Look) -> bool {
        let sample = self.trace.index_at_time(Nanos::from_secs(told.at_s));
        let Some(leg) = self.trace.legs().iter().position(|leg| leg.samples.contains(&sample)) else {
            return false;
        };
        let seen = look.seen.iter().zip(&look.breaks).filter(|(s, _)| s.leg == leg).collect::<Vec<_>>();
        let dips = look.cuts.get(leg).map(|cut| dips::dips(&self.trace, &self.context, (leg, cut), &seen));
        dips.unwrap_or_default().iter().any(|dip| dip.tells(told))
    }

    /// Takes over the breaks of a look: each one that was there before keeps its story. Those that are there now come first, in the order of time.
    fn meet(&mut self, found: Vec<Break>, now: Nanos, near_s: f64) {
        let mut before: Vec<Option<Standing>> = self.standing.drain(..).map(Some).collect();
        for found in found {
            let falls = found.to_mb_s < found.from_mb_s;
            let is_same = |s: &Standing| {
                let overlap =
                    s.found.low_s <= found.high_s + near_s && found.low_s <= s.found.high_s + near_s;
                let moved = (s.found.at_s - found.at_s).abs();
                let behind = now.secs() - s.found.at_s.min(found.at_s);
                (s.found.to_mb_s < s.found.from_mb_s) == falls
                    && (overlap || moved <= near_s.max(MOVES * behind))
            };
            let same = before
                .iter_mut()
                .filter(|s| s.as_ref().is_some_and(is_same))
                .min_by(|a, b| {
                    let far =
                        |s: &Option<Standing>| s.as_ref().map_or(0.0, |s| (s.found.at_s - found.at_s).abs());
                    far(a).total_cmp(&far(b))
                })
                .and_then(Option::take);
            let fresh = Standing {
                found: found.clone(),
                since: now,
                told: None,
                other_since: None,
                gone_since: None,
            };
            self.standing.push(Standing { found, gone_since: None, ..same.unwrap_or(fresh) });
        }
        let gone = before.into_iter().flatten().filter(|s| s.told.is_some());
        self.standing.extend(gone.map(|s| Standing { gone_since: Some(s.gone_since.unwrap_or(now)), ..s }));
    }

    /// Whether the rate is still on its way from the last break to where that leads.
    fn is_underway(&self, found: &Break) -> bool {
        let Some(now) = self.rate_now() else { return false };
        let (from, to) = (found.from_mb_s.max(1e-6).ln(), found.to_mb_s.max(1e-6).ln());
        (now - to).abs() > DONE * (to - from).abs()
    }

    /// Whether the change of a break that is missing has happened all the same: the leg is still underway, its rate is where the break led to or further on, and no
    /// other break of that direction has taken its place. Until the end of a gradual change is seen, the engine takes it for a slope.
    fn goes_on(&self, missing: &Standing) -> bool {
        let found = &missing.found;
        let start = trace_start(&self.trace, self.trace.legs().len().saturating_sub(1));
        let falls = |b: &Break| b.to_mb_s < b.from_mb_s;
        let replaces = |s: &Standing| {
            s.gone_since.is_none() && falls(&s.found) == falls(found) && s.found.high_s >= found.low_s
        };
        let Some(now) = self.rate_now().filter(|_| found.at_s > start) else { return false };
        let (from, to) = (found.from_mb_s.max(1e-6).ln(), found.to_mb_s.max(1e-6).ln());
        let done = (now - from) / (to - from);
        missing.gone_since.is_some() && done > 1.0 - DONE && !self.standing.iter().any(replaces)
    }

    /// Logarithm of the newest rate.
    fn rate_now(&self) -> Option<f64> {
        let mut late: Vec<f64> =
            self.newest.range(self.newest.len().saturating_sub(STIR.0)..).copied().collect();
        stats::median(&mut late)
    }

    /// Seconds that have to lie behind each break before it is told, `stands` at the least; `legs` are the legs of those that are among the findings.
    fn waits(&self, legs: &[usize], stands: f64, (sample_s, near_s): (f64, f64)) -> Vec<f64> {
        let longest_wait = LONGEST_WAIT_S.max(LONGEST_WAIT_SAMPLES * sample_s);
        let same = |a: f64, b: f64| (a.max(1e-6) / b.max(1e-6)).ln().abs() < SAME_RATE;
        let like = |a: &Break, b: &Break| same(b.from_mb_s, a.to_mb_s) || same(b.to_mb_s, a.to_mb_s);
        let repeats = |a: &Break, b: &Break| same(b.from_mb_s, a.from_mb_s) && same(b.to_mb_s, a.to_mb_s);
        let underway_wait = UNDERWAY_S.max(UNDERWAY_SAMPLES * sample_s);
        let mut waits = vec![stands; self.standing.len()];
        let mut from = 0;
        for leg in legs.chunk_by(|a, b| a == b) {
            let own = &self.standing[from..from + leg.len()];
            // From where the rate goes the other way, or to where it was, all may belong to a pattern.
            let falls = |i: usize| own[i].found.to_mb_s < own[i].found.from_mb_s;
            // Where it does not begin at the rate that the one before led to, something between them is not among the breaks.
            let turns = |i: usize| {
                let (before, found) = (&own[i - 1].found, &own[i].found);
                falls(i) != falls(i - 1)
                    || (before.to_mb_s.max(1e-6) / found.from_mb_s.max(1e-6)).ln().abs() > APART
                    || own[i.saturating_sub(3)..i].iter().any(|b| like(found, &b.found))
            };
            // A leg whose rate begins by rising may have begun low in a pattern, unless the cause of that is clear.
            let rises =
                own.first().is_some_and(|s| s.found.to_mb_s > s.found.from_mb_s && !s.found.is_clear());
            let first = if rises { 0 } else { (1..own.len()).find(|i| turns(*i)).unwrap_or(own.len()) };
            let began = trace_start(&self.trace, leg[0]);
            let mut longest = 0.0_f64;
            for i in first..own.len() {
                let before = i.checked_sub(1).map_or(began, |b| own[b].found.at_s);
                longest = longest.max(own[i].found.at_s - before);
            }
            for i in first..own.len() {
                let found = &own[i].found;
                let again = !found.is_clear() && own[..i].iter().any(|b| repeats(found, &b.found));
                let most = if again { f64::INFINITY } else { longest_wait };
                waits[from + i] = (HALF_PERIODS * longest).min(most).max(stands);
            }
            // So may the change before it, which it takes back, and one that comes so soon behind another, or behind the start, that it is not known yet
            // whether it lasts.
            for i in (0..own.len()).filter(|i| !own[*i].found.is_clear()) {
                let found = &own[i].found;
                let gap = found.at_s - i.checked_sub(1).map_or(began, |b| own[b].found.at_s);
                let soon = if gap <= SOON * near_s { (HALF_PERIODS * gap).min(underway_wait) } else { 0.0 };
                let back = own.get(i + 1).filter(|b| same(b.found.to_mb_s, found.from_mb_s));
                let with = back.map_or(0.0, |_| waits[from + i + 1]);
                waits[from + i] = waits[from + i].max(soon).max(with);
            }
            from += leg.len();
        }
        if let Some(last) = from.checked_sub(1).filter(|last| self.is_underway(&self.standing[*last].found)) {
            waits[last] = waits[last].max(underway_wait);
        }
        waits
    }
}

/// When a leg began, seconds.
fn trace_start(trace: &Trace, leg: usize) -> f64 {
    trace.legs().get(leg).map_or(0.0, |leg| trace.start(leg.samples.start).secs())
}

/// Mean and standard deviation of the rates of samples `from..`, MB/s, over at most the newest 256: what a screen shows
/// beside the rate of the moment.
pub fn recent_spread(trace: &Trace, from: usize) -> Option<(Rate, f64)> {
    let from = from.max(trace.len().saturating_sub(256));
    let rates: Vec<f64> = (from..trace.len()).filter_map(|i| trace.rate.get(i)).collect();
    let (_, sd) = stats::mean_sd(&rates)?;
    Some((trace.mean_rate(from..trace.len())?, sd))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::Cause;
    use crate::units::{Bytes, Celsius};

    fn run(levels: &[(u32, f64)], temp: impl Fn(f64) -> f64) -> (LiveFindings, Vec<(f64, News)>) {
        let context = Context { warn: Some(Celsius(75.0)), ..Context::default() };
        let mut live = LiveFindings::new(context);
        let mut news = Vec::new();
        let mut i = 0_u64;
        for &(samples, rate) in levels {
            for _ in 0..samples {
                let wobble = 1.0 + 0.02 * ((i * 7919 % 101) as f64 / 50.0 - 1.0);
                let sample = Sample {
                    start: Nanos(i * 250_000_000),
                    end: Nanos((i + 1) * 250_000_000),
                    written: Bytes((rate * wobble * 250_000.0) as u64),
                    temp: Some(Celsius(temp(i as f64 / 4.0).round())),
                    ..Sample::default()
                };
                i += 1;
                let seconds = i as f64 / 4.0;
                live.push(&sample, "soak");
                news.extend(live.news().into_iter().map(|n| (seconds, n)));
            }
        }
        (live, news)
    }

    #[test]
    fn a_break_is_announced_within_ten_seconds_and_the_final_analysis_agrees() {
        let (live, news) = run(&[(164, 2873.0), (600, 402.0)], |t| 35.0 + t / 20.0);
        let announced: Vec<_> = news.iter().filter(|n| matches!(n.1, News::Announced(_))).collect();
        assert_eq!(announced.len(), 1, "{news:?}");
        assert!(announced[0].0 - 41.0 <= 10.0, "announced at {} s", announced[0].0);
        let last =
            crate::findings(live.trace(), &Context { warn: Some(Celsius(75.0)), ..Context::default() });
        assert_eq!(last.breaks.len(), 1);
        let (now, then) = (&live.breaks()[0], &last.breaks[0]);
        assert!(now.low_bytes <= then.at_bytes && then.at_bytes <= now.high_bytes, "{now:?} {then:?}");
        assert_eq!((now.cause, then.cause), (Cause::CacheExhausted, Cause::CacheExhausted));
    }

    #[test]
    fn steady_and_slowly_falling_rates_announce_nothing() {
        assert_eq!(run(&[(4000, 900.0)], |_| 40.0).1, []);
        let falling: Vec<(u32, f64)> = (0..2000).map(|i| (2, 260.0 - 0.06 * f64::from(i))).collect();
        assert_eq!(run(&falling, |_| 40.0).1, []);
    }

    #[test]
    fn heat_at_the_limit_is_told_from_a_full_cache() {
        let (live, _) = run(&[(800, 1000.0), (800, 600.0)], |t| {
            if t < 200.0 { 40.0 + 0.175 * t } else { 75.0 - (t - 200.0) * 0.02 }
        });
        assert_eq!(live.breaks()[0].cause, Cause::ThermalThrottle, "{:?}", live.breaks());
        assert!(live.breaks()[0].confidence > 0.8);
    }

    #[test]
    fn looks_become_rarer_as_a_steady_leg_becomes_longer() {
        let context = Context::default();
        let mut live = LiveFindings::new(context);
        let mut looks = Vec::new();
        for i in 0..40_000_u64 {
            let sample = Sample {
                start: Nanos(i * 250_000_000),
                end: Nanos((i + 1) * 250_000_000),
                written: Bytes(225_000_000 + (i * 7919 % 101) * 20_000),
                ..Sample::default()
            };
            live.push(&sample, "soak");
            if live.is_due() {
                live.news();
                looks.push(i);
            }
        }
        let late = looks.iter().filter(|i| **i >= 20_000).count();
        assert!(late <= 20_000 / (CALM * 20_000 / OFTEN) + 1, "{late} looks at 20,000 samples");
        assert!(looks.len() < 500, "{}", looks.len());
    }
}
