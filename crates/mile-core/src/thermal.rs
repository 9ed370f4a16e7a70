//! Temperature over a run, and the throttling it led to.

use crate::breaks::{Break, Cause};
use crate::context::Context;
use crate::dips::Dip;
use crate::figures::Plateau;
use crate::heat::{self, HeatFit};
use crate::plateaus::Swing;
use crate::sample::Op;
use crate::trace::Trace;
use crate::units::{Nanos, Rate};
use serde::{Deserialize, Serialize};

/// Ambient temperature to which readings are brought, so that runs in different rooms compare, °C.
const REFERENCE_C: f64 = 25.0;
/// A rest in which the drive gets cooler by this much begins with a cool-down, °C.
const COOLS_C: f64 = 3.0;

/// A stretch of time in which the drive was throttled.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Episode {
    /// Start, seconds.
    pub start_s: f64,
    /// End, seconds.
    pub end_s: f64,
    /// Temperature at its start, °C.
    pub onset_c: Option<f64>,
    /// Temperature at its end where it was released, °C.
    pub release_c: Option<f64>,
    /// Rate before, MB/s.
    pub before_mb_s: f64,
    /// Mean rate during, MB/s.
    pub during_mb_s: f64,
}

/// Throttling over the whole run.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Throttling {
    /// The episodes.
    pub episodes: Vec<Episode>,
    /// Their share of the time under load, 0 to 1.
    pub share_of_time: f64,
    /// Bytes that were not moved for it, against the rate before each.
    pub lost_bytes: u64,
}

/// Temperature over the whole run, °C.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Thermal {
    /// First reading.
    pub start_c: f64,
    /// Lowest.
    pub min_c: f64,
    /// Mean.
    pub mean_c: f64,
    /// Highest.
    pub max_c: f64,
    /// Highest above mean ambient, where ambient was read.
    pub rise_over_ambient_c: Option<f64>,
    /// Time constant of the heat-up, seconds.
    pub time_constant_s: Option<f64>,
    /// Temperature it would settle at.
    pub settles_at_c: Option<f64>,
    /// Lower bound (95 %).
    pub settles_low_c: Option<f64>,
    /// Upper bound (95 %).
    pub settles_high_c: Option<f64>,
    /// Distance of the highest reading from the warning limit.
    pub margin_to_warn_c: Option<f64>,
    /// Ambient from which throttling is to be expected.
    pub throttles_above_ambient_c: Option<f64>,
    /// From when on the settling temperature was known to 2 °C either way, seconds since the start of the run.
    pub settles_known_from_s: Option<f64>,
    /// Highest, as it would be at an ambient of 25 °C: T - T ambient + 25.
    pub max_at_25_ambient_c: Option<f64>,
    /// Temperature it would settle at, at an ambient of 25 °C.
    pub settles_at_25_ambient_c: Option<f64>,
    /// The curve that was fitted.
    pub curve: Option<HeatCurve>,
}

/// The curve that was fitted to a heat-up: T(t) = settles + Σ amplitude · exp(-(t - start) / τ).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct HeatCurve {
    /// Start, seconds since the start of the run.
    pub start_s: f64,
    /// End of the readings that it was fitted to.
    pub end_s: f64,
    /// Temperature it leads to, °C.
    pub settles_c: f64,
    /// Time constants, seconds, and amplitudes, °C: one or two.
    pub terms: Vec<(f64, f64)>,
}

impl HeatCurve {
    /// Temperature at a time of the run, °C.
    pub fn at(&self, seconds: f64) -> f64 {
        let t = seconds - self.start_s;
        self.settles_c + self.terms.iter().map(|(tau, amplitude)| amplitude * (-t / tau).exp()).sum::<f64>()
    }
}

/// A stretch of time in which the drive heats up under load, cools down, or is at rest and cool.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Phase {
    /// `load`, `cool-down` or `idle`.
    pub kind: String,
    /// Start, seconds.
    pub start_s: f64,
    /// End, seconds.
    pub end_s: f64,
    /// First reading, °C.
    pub start_c: f64,
    /// Last reading, °C.
    pub end_c: f64,
    /// Mean, °C.
    pub mean_c: f64,
}

/// Temperature over the whole run; `None` without a reading.
pub fn summary(trace: &Trace, context: &Context) -> Option<Thermal> {
    let all = trace.temp.extent(0, trace.len())?;
    let first = (0..trace.len()).find_map(|i| trace.temp.get(i))?;
    let ambient = trace.ambient.extent(0, trace.len());
    Some(Thermal {
        start_c: first,
        min_c: all.min,
        mean_c: all.mean,
        max_c: all.max,
        rise_over_ambient_c: ambient.map(|a| all.max - a.mean),
        time_constant_s: None,
        settles_at_c: None,
        settles_low_c: None,
        settles_high_c: None,
        margin_to_warn_c: context.warn.map(|w| w.0 - all.max),
        throttles_above_ambient_c: None,
        settles_known_from_s: None,
        max_at_25_ambient_c: ambient.map(|a| all.max - a.mean + REFERENCE_C),
        settles_at_25_ambient_c: None,
        curve: None,
    })
}

/// Adds what the heat-up curve tells: of the longest stretch with one rate that does not begin throttled.
pub fn settle(
    thermal: &mut Thermal,
    trace: &Trace,
    context: &Context,
    breaks: &[Break],
    plateaus: &[Plateau],
    throttling: &Throttling,
) {
    let throttled = |p: &Plateau| {
        breaks.iter().any(|b| b.cause == Cause::ThermalThrottle && (b.at_s - p.start_s).abs() < 2.0)
    };
    let longest = plateaus
        .iter()
        .filter(|p| p.op != Op::Idle && !throttled(p))
        .max_by(|a, b| (a.end_s - a.start_s).total_cmp(&(b.end_s - b.start_s)));
    let Some(plateau) = longest else { return };
    let (first, end) = (
        trace.index_at_time(Nanos::from_secs(plateau.start_s)),
        trace.index_at_time(Nanos::from_secs(plateau.end_s)),
    );
    let readings: Vec<(f64, f64)> = (first..end.min(trace.len()))
        .step_by(crate::stats::stride(trace.len()))
        .filter_map(|i| Some((trace.end(i).secs(), trace.temp.get(i)?)))
        .collect();
    let Some(fit) = heat::fit(&readings) else { return };
    thermal.time_constant_s = Some(fit.tau_s);
    thermal.settles_at_c = Some(fit.settles);
    (thermal.settles_low_c, thermal.settles_high_c) = (Some(fit.low), Some(fit.high));
    // Every degree of ambient is a degree of the drive, as long as its power is the same.
    let onset = throttling.episodes.iter().find_map(|e| e.onset_c).or(context.warn.map(|w| w.0));
    let ambient = trace.ambient.extent(first, end).map(|a| a.mean);
    thermal.throttles_above_ambient_c = ambient.zip(onset).map(|(a, onset)| a + onset - fit.settles);
    thermal.settles_at_25_ambient_c = ambient.map(|a| fit.settles - a + REFERENCE_C);
    thermal.curve = Some(HeatCurve {
        start_s: readings[0].0,
        end_s: readings[readings.len() - 1].0,
        settles_c: fit.settles,
        terms: fit.terms.into_iter().filter(|t| t.0 > 0.0).collect(),
    });
    // From which part of the curve on it was known, to a tenth of it.
    let known = |part: usize| {
        let some = &readings[..readings.len() * part / 10];
        heat::fit(some).filter(HeatFit::is_known).and_then(|_| some.last()).map(|r| r.0)
    };
    // It may have been narrow for a moment and wide again: what counts is from where on it stayed so.
    let mut since = None;
    for part in (2..=10).rev() {
        match known(part) {
            Some(at) => since = Some(at),
            None => break,
        }
    }
    thermal.settles_known_from_s = since;
}

/// Load, cool-down and idle: each leg under load is one; a rest begins with a cool-down where it gets cooler by some degrees, until it
/// is within a degree of its coolest. Nothing where no temperature was read.
pub fn phases(trace: &Trace) -> Vec<Phase> {
    let mut all: Vec<Phase> = Vec::new();
    let mut add = |kind: &str, from: usize, to: usize| {
        let readings = || (from..to).filter_map(|i| trace.temp.get(i));
        let (Some(first), Some(last), Some(all_of)) =
            (readings().next(), readings().next_back(), trace.temp.extent(from, to))
        else {
            return;
        };
        let (start_s, end_s) = (trace.start(from).secs(), trace.end(to - 1).secs());
        match all.last_mut().filter(|p| p.kind == kind && kind == "load") {
            Some(begun) => {
                let (a, b) = (begun.end_s - begun.start_s, end_s - start_s);
                begun.mean_c = (begun.mean_c * a + all_of.mean * b) / (a + b).max(1e-9);
                (begun.end_s, begun.end_c) = (end_s, last);
            }
            None => all.push(Phase {
                kind: kind.into(),
                start_s,
                end_s,
                start_c: first,
                end_c: last,
                mean_c: all_of.mean,
            }),
        }
    };
    for leg in trace.legs() {
        let (from, to) = (leg.samples.start, leg.samples.end);
        if leg.op != Op::Idle {
            add("load", from, to);
            continue;
        }
        let Some(coolest) = trace.temp.extent(from, to).map(|e| e.min) else { continue };
        let first = (from..to).find_map(|i| trace.temp.get(i)).unwrap_or(coolest);
        let cool =
            (from..to).find(|&i| trace.temp.get(i).is_some_and(|t| t <= coolest + 1.0)).unwrap_or(from);
        if first - coolest >= COOLS_C && cool > from {
            add("cool-down", from, cool);
            add("idle", cool, to);
        } else {
            add("idle", from, to);
        }
    }
    all
}

/// Episodes of throttling: each from a break put down to heat until it is released, or until its leg ends; and the lows of a pattern that is put down to
/// heat although no break begins it.
pub fn throttling(
    trace: &Trace,
    breaks: &[Break],
    plateaus: &[Plateau],
    swings: &[Swing],
    dips: &[Dip],
) -> Throttling {
    let mut result = Throttling::default();
    let loaded: f64 = trace
        .legs()
        .iter()
        .filter(|leg| leg.op != Op::Idle)
        .map(|leg| trace.end(leg.samples.end - 1).since(trace.start(leg.samples.start)).secs())
        .sum();
    let mut until = 0.0;
    for (i, onset) in breaks.iter().enumerate() {
        let is_heat = onset.cause == Cause::ThermalThrottle || onset.also == Some(Cause::ThermalThrottle);
        if !is_heat || onset.at_s < until {
            continue;
        }
        let release = breaks[i + 1..].iter().find(|b| b.cause == Cause::ThermalRelease);
        let leg_end = leg_end(plateaus, onset.at_s);
        let release = release.filter(|b| b.at_s <= leg_end);
        let end_s = release.map_or(leg_end, |b| b.at_s);
        until = end_s;
        result.add_lows(trace, swings, (onset.at_s, end_s), onset.from_mb_s, release.is_some());
    }
    let told = result.episodes.clone();
    for (swing, dip) in swings.iter().zip(dips).filter(|(_, d)| d.is_heat()) {
        let is_told = |e: &Episode| e.start_s < dip.end_s && dip.start_s < e.end_s;
        if !told.iter().any(is_told) {
            let own = std::slice::from_ref(swing);
            result.add_lows(trace, own, (dip.start_s, dip.end_s), swing.high().mb_s(), false);
        }
    }
    result.episodes.sort_by(|a, b| a.start_s.total_cmp(&b.start_s));
    let throttled: f64 = result.episodes.iter().map(|e| e.end_s - e.start_s).sum();
    result.share_of_time = if loaded > 0.0 { throttled / loaded } else { 0.0 };
    result
}

impl Throttling {
    /// Adds what lies between two times, seconds; where the rate comes back and falls again and again, the drive was throttled in the lows only.
    fn add_lows(
        &mut self,
        trace: &Trace,
        swings: &[Swing],
        (start_s, end_s): (f64, f64),
        before_mb_s: f64,
        is_released: bool,
    ) {
        let first = trace.index_at_time(Nanos::from_secs(start_s));
        let last = trace.index_at_time(Nanos::from_secs(end_s)).max(first + 1).min(trace.len());
        let low = |i: usize| {
            let swing = swings.iter().find(|s| s.samples.contains(&i));
            swing.is_none_or(|s| trace.rate.get(i).is_none_or(|r| r * 1e6 < s.middle.0))
        };
        let mut at = first;
        while at < last {
            let begin = at;
            while at < last && low(at) {
                at += 1;
            }
            if at > begin {
                let from_s = if begin == first { start_s } else { trace.start(begin).secs() };
                let to_s = if at == last { end_s } else { trace.start(at).secs() };
                let during = trace.mean_rate(begin..at).unwrap_or(Rate(before_mb_s * 1e6)).mb_s();
                self.lost_bytes += ((before_mb_s - during).max(0.0) * 1e6 * (to_s - from_s)) as u64;
                let is_released = at < last || is_released;
                self.episodes.push(Episode {
                    start_s: from_s,
                    end_s: to_s,
                    onset_c: trace.temp_at(begin, 20).map(|t| t.0),
                    release_c: trace.temp_at(at - 1, 20).filter(|_| is_released).map(|t| t.0),
                    before_mb_s,
                    during_mb_s: during,
                });
            }
            at += 1;
        }
    }
}

/// End of the leg that is underway at `at_s`: of the last plateau of the same leg.
fn leg_end(plateaus: &[Plateau], at_s: f64) -> f64 {
    let Some(i) = plateaus.iter().rposition(|p| p.start_s <= at_s) else { return at_s };
    plateaus[i..].iter().take_while(|p| p.leg == plateaus[i].leg).last().map_or(at_s, |p| p.end_s)
}
