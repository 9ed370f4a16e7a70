//! Findings while a run is underway.
//!
//! The work for each sample does not grow with the length of the run: the stretch underway is kept as sums, and
//! only its newest samples (four times the least length of a plateau) are searched for the split that a break would
//! need, by the same costs and penalties as in the final analysis ([`crate::plateaus`]). A break is announced when the
//! split pays for itself twice over, so that the final analysis rarely takes it back. Its cause is looked at again when
//! half a minute behind it has been seen.

use crate::causes::{Scene, Seen};
use crate::findings::{Break, Context};
use crate::heat::{self, HeatFit};
use crate::moments::Moments;
use crate::plateaus::{self, Edge, Noise, Settings};
use crate::sample::{Op, Sample};
use crate::stats;
use crate::trace::Trace;
use crate::units::{Nanos, Rate};
use std::collections::VecDeque;

/// Newest values from which the noise is estimated.
const NOISE_SAMPLES: usize = 128;
/// Samples between two estimates of the noise.
const NOISE_EVERY: usize = 32;
/// Seconds behind a break after which its cause is looked at again: the window of the evidence, and a little.
const REVISE_AFTER_S: f64 = 32.0;

/// News from the newest sample.
#[derive(Clone, Debug, PartialEq)]
pub enum News {
    /// A break, seen for the first time.
    Announced(Break),
    /// The last announced break, with another cause or confidence than announced.
    Revised(Break),
}

/// Findings while a run is underway, with the trace so far.
#[derive(Clone, Debug)]
pub struct LiveFindings {
    settings: Settings,
    context: Context,
    trace: Trace,
    breaks: Vec<Break>,
    seen: Vec<Seen>,
    stretch: Option<Underway>,
    revise_at: Option<Nanos>,
    settling: Option<HeatFit>,
    /// First sample of the curve, and until when it need not be fitted again.
    curve: (usize, Nanos),
}

/// The stretch underway.
#[derive(Clone, Debug)]
struct Underway {
    /// First sample of its leg.
    leg_start: usize,
    /// First sample of the stretch.
    start: usize,
    /// Logarithms of the newest rates, unfiltered; the last is the newest sample.
    raw: VecDeque<f64>,
    /// Filtered values `(sample, log rate)` that may still turn out to lie behind a break.
    tail: VecDeque<(f64, f64)>,
    /// Filtered values before those.
    history: Moments,
    noise: Noise,
    since_noise: usize,
    since_search: usize,
    floor: f64,
    offset: f64,
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
            context,
            trace: Trace::new(),
            breaks: Vec::new(),
            seen: Vec::new(),
            stretch: None,
            revise_at: None,
            settling: None,
            curve: (0, Nanos(0)),
        }
    }

    /// Hands the trace over. What is pushed behind that begins another.
    pub fn take_trace(&mut self) -> Trace {
        std::mem::take(&mut self.trace)
    }

    /// Says for what share of the interval that ends at `at` the lane waited for the other side of a copy, before that is pushed.
    pub fn push_wait(&mut self, at: Nanos, share: f64) {
        self.trace.push_wait(at, share);
    }

    /// The trace so far.
    pub fn trace(&self) -> &Trace {
        &self.trace
    }

    /// The breaks announced so far, with their causes as they are seen now.
    pub fn breaks(&self) -> &[Break] {
        &self.breaks
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

    /// Takes in a sample. Constant work on average.
    pub fn push(&mut self, sample: &Sample, leg_name: &str) -> Vec<News> {
        let legs = self.trace.legs().len();
        self.trace.push(sample, leg_name);
        let index = self.trace.len() - 1;
        let mut news = Vec::new();
        if self.trace.legs().len() > legs {
            self.stretch = None;
            self.settling = None;
            self.curve = (index, sample.end);
            news.extend(self.revise());
        }
        if sample.op == Op::Idle {
            return news;
        }
        self.follow_heat(index);
        if self.revise_at.is_some_and(|at| sample.end >= at) {
            news.extend(self.revise());
        }
        let Some(rate) = self.trace.rate.get(index) else { return news };
        let stretch = self.stretch.get_or_insert_with(|| Underway::new(index, index, rate));
        let seconds = sample.end.since(sample.start).secs();
        let least = self.settings.least(seconds);
        if let Some(edge) = stretch.push(&self.trace, rate, least, &self.settings) {
            news.extend(self.announce(edge));
        }
        news
    }

    fn announce(&mut self, edge: Edge) -> Option<News> {
        let leg = self.trace.legs().len().checked_sub(1)?;
        let from = self.seen.last().map_or(0, |s| s.edge.sample).max(self.trace.legs()[leg].samples.start);
        if let Some(last) = self.seen.last_mut() {
            last.until = edge.sample;
        }
        // Another rate is another power.
        self.settling = None;
        self.curve = (edge.sample, edge.at);
        self.seen.push(Seen { leg, edge, from, until: self.trace.len(), across: false });
        let found = self.attributed();
        self.breaks.push(found.clone());
        self.revise_at = Some(edge.at.plus(Nanos::from_secs(REVISE_AFTER_S)));
        Some(News::Announced(found))
    }

    /// The cause of the last break, as it is seen now.
    fn attributed(&self) -> Break {
        let last = self.seen.len() - 1;
        let scene = Scene { trace: &self.trace, context: &self.context, seen: &self.seen };
        scene.attribute(last, &self.breaks[..last.min(self.breaks.len())])
    }

    /// Looks again at the cause of the last break.
    fn revise(&mut self) -> Option<News> {
        self.revise_at.take()?;
        let end = self.trace.legs().get(self.seen.last()?.leg)?.samples.end;
        self.seen.last_mut()?.until = end;
        let found = self.attributed();
        let last = self.breaks.last_mut()?;
        let changed = found.cause != last.cause || (found.confidence - last.confidence).abs() >= 0.1;
        *last = found.clone();
        changed.then_some(News::Revised(found))
    }
}

impl Underway {
    fn new(leg_start: usize, start: usize, rate: f64) -> Self {
        let floor = (rate * 1e-3).max(1e-6);
        Self {
            leg_start,
            start,
            raw: VecDeque::new(),
            tail: VecDeque::new(),
            history: Moments::default(),
            noise: Noise::of(&[]),
            since_noise: 0,
            since_search: 0,
            floor,
            offset: rate.max(floor).ln(),
        }
    }

    fn push(&mut self, trace: &Trace, rate: f64, least: usize, settings: &Settings) -> Option<Edge> {
        let newest = trace.len() - 1;
        let half = least.saturating_sub(1) / 2;
        let reach = 4 * least;
        self.raw.push_back(rate.max(self.floor).ln());
        while self.raw.len() > (reach + 2 * half + 2).max(NOISE_SAMPLES) {
            self.raw.pop_front();
        }
        self.since_noise += 1;
        if self.since_noise >= NOISE_EVERY || self.raw.len() == NOISE_EVERY / 2 {
            self.since_noise = 0;
            let from = self.raw.len().saturating_sub(NOISE_SAMPLES);
            self.noise = Noise::of(&self.raw.make_contiguous()[from..]);
        }
        // The newest value whose running median is complete.
        let centre = newest.checked_sub(half).filter(|c| *c >= self.start)?;
        self.filter(centre, newest, half)?;
        while self.tail.len() > reach {
            if let Some((x, y)) = self.tail.pop_front() {
                self.history.add(x, y);
            }
        }
        self.since_search += 1;
        if self.since_search < (least / 16).max(1) || self.tail.len() < least {
            return None;
        }
        self.since_search = 0;
        self.search(trace, least, settings)
    }

    /// Adds the running median at sample `centre` to the tail. The window keeps to this stretch.
    fn filter(&mut self, centre: usize, newest: usize, half: usize) -> Option<()> {
        let raw_start = newest + 1 - self.raw.len();
        let from = centre.saturating_sub(half).max(self.start).max(raw_start);
        let to = (from + 2 * half).max(centre + half).min(newest);
        let mut window: Vec<f64> = self.raw.range(from - raw_start..=to - raw_start).copied().collect();
        let value = stats::median(&mut window)?;
        self.tail.push_back((centre as f64, value - self.offset));
        Some(())
    }

    /// The split of the stretch that pays best, if it pays.
    fn search(&mut self, trace: &Trace, least: usize, settings: &Settings) -> Option<Edge> {
        let mut values: Vec<f64> = self.tail.iter().map(|p| p.1).collect();
        plateaus::sharpen(&mut values, least.saturating_sub(1) / 2 + 1);
        let sums = Moments::prefixes(self.tail.iter().zip(values).map(|(p, y)| (p.0, y)));
        let tail = sums[self.tail.len()];
        let joined = |part: Moments| part.joined(self.history);
        let n = (self.history.n + tail.n) as usize;
        let penalty = plateaus::penalty(n.clamp(256, plateaus::MOST_BLOCKS), self.noise, least);
        let whole = penalty.cost(joined(tail));
        let last = (self.tail.len() + 1).checked_sub(least)?;
        let first = least.saturating_sub(self.history.n as usize);
        let gain = |t: usize| whole - penalty.cost(joined(sums[t])) - penalty.cost(tail.minus(sums[t]));
        let (t, gain) = (first..last).map(|t| (t, gain(t))).max_by(|a, b| a.1.total_cmp(&b.1))?;
        // While the best split is the latest that is allowed, a later one would be better still: wait for it.
        if gain < penalty.level || t + 1 == last {
            return None;
        }
        let (left, right) = (joined(sums[t]), tail.minus(sums[t]));
        let edge = self.tail[t].0 - 0.5;
        let (a, b) = (penalty.describe(left).at(edge), right.level().level);
        let spread = 3.0 * self.noise.long_run * (1.0 / left.n + 1.0 / right.n).sqrt();
        if (b - a).abs() < settings.least_step().max(spread) {
            return None;
        }
        Some(self.cut(trace, t, (a + self.offset, b + self.offset), least))
    }

    fn cut(&mut self, trace: &Trace, t: usize, levels: (f64, f64), least: usize) -> Edge {
        let newest = trace.len() - 1;
        let raw_start = newest + 1 - self.raw.len();
        let about = self.tail[t].0 as usize;
        let low = about.saturating_sub(least).max(self.start + 1).max(raw_start);
        let high = (about + least).min(newest).max(low);
        let raw: Vec<f64> = self.raw.range(low - raw_start..high - raw_start).copied().collect();
        let range = self.leg_start..trace.len();
        let edge = plateaus::locate_sharp(trace, &range, &raw, low - self.leg_start, levels, self.noise);
        // What was filtered across the edge is filtered again, within the new stretch.
        self.tail.clear();
        self.history = Moments::default();
        self.start = edge.sample;
        let half = least.saturating_sub(1) / 2;
        for centre in self.start..=newest.saturating_sub(half) {
            self.filter(centre, newest, half);
        }
        edge
    }
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
                news.extend(live.push(&sample, "soak").into_iter().map(|n| (seconds, n)));
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
    fn a_sample_costs_the_same_late_in_a_run_as_early() {
        let (live, _) = run(&[(20_000, 900.0)], |_| 40.0);
        let stretch = live.stretch.unwrap();
        assert!(stretch.tail.len() <= 48 && stretch.raw.len() <= 128, "only the newest samples are searched");
    }
}
