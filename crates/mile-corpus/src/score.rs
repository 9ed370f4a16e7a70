//! Findings held against the truth.

use crate::{Case, TrueBreak, TrueCycle};
use mile_core::findings::{Break, Cause, Dip, Evidence, Findings};

/// What findings of one or many traces come to.
#[derive(Clone, Debug, Default)]
pub struct Score {
    /// Traces.
    pub traces: usize,
    /// Hours of trace.
    pub hours: f64,
    /// True breaks.
    pub breaks: usize,
    /// Of them found.
    pub found: usize,
    /// Breaks that were none.
    pub false_breaks: usize,
    /// Distance of each found one from the truth, share of the bytes up to it.
    pub errors: Vec<f64>,
    /// What was said of each found one.
    pub causes: Vec<Told>,
    /// Whether the truth lies inside the interval of each sharp one.
    pub inside: Vec<bool>,
    /// Patterns that repeat themselves.
    pub patterns: usize,
    /// What was said of each of them that was found.
    pub why: Vec<Told>,
}

/// A cause that was said, and the true one.
#[derive(Clone, Copy, Debug)]
pub struct Told {
    /// The true cause.
    pub truth: Cause,
    /// That which was said.
    pub said: Cause,
    /// With which confidence.
    pub confidence: f64,
    /// Whether it is the best answer that the readings allow ([`Case::answer`]).
    pub is_best: bool,
    /// Whether it is "unexplained", and not surely so, where nothing of others was logged, or a rate came back at an address that one pass saw. How often that is true is how
    /// often others come unseen, and places are slow, which a corpus can only make up.
    pub is_open: bool,
}

impl Told {
    /// Whether it is the true one.
    pub fn is_true(&self) -> bool {
        self.truth == self.said
    }
}

impl Score {
    /// Adds those of another.
    pub fn add(&mut self, other: &Self) {
        self.traces += other.traces;
        self.hours += other.hours;
        self.breaks += other.breaks;
        self.found += other.found;
        self.false_breaks += other.false_breaks;
        self.errors.extend(&other.errors);
        self.causes.extend(&other.causes);
        self.inside.extend(&other.inside);
        self.patterns += other.patterns;
        self.why.extend(&other.why);
    }

    /// Share of the true breaks that was found, 0 to 1.
    pub fn recall(&self) -> f64 {
        if self.breaks == 0 { 1.0 } else { self.found as f64 / self.breaks as f64 }
    }

    /// False breaks in 100 hours of trace.
    pub fn false_per_100_h(&self) -> f64 {
        100.0 * self.false_breaks as f64 / self.hours.max(1e-9)
    }

    /// Error of the position below which a share `q` of the found breaks lies, share of the bytes up to it.
    pub fn error(&self, q: f64) -> f64 {
        let mut sorted = self.errors.clone();
        sorted.sort_by(f64::total_cmp);
        let i = ((sorted.len() as f64 * q) as usize).min(sorted.len().saturating_sub(1));
        sorted.get(i).copied().unwrap_or(0.0)
    }

    /// Share of the found breaks with the right cause: the true one, or unexplained where nothing that was logged tells of it.
    pub fn right(&self) -> f64 {
        share(self.causes.iter().map(|c| c.is_best))
    }

    /// Share of the patterns that were found with the right cause, 0 to 1, and of those said with 90 % confidence or more the share that was wrong.
    pub fn patterns_right(&self) -> (f64, f64) {
        let sure = self.why.iter().filter(|c| c.confidence >= 0.9);
        (share(self.why.iter().map(|c| c.is_best)), 1.0 - share(sure.map(Told::is_true)))
    }

    /// Of the causes that were said with so much confidence or more, the share that was not the true one, and how many there are. That a change is
    /// unexplained is wrong where it had a cause, also one that nothing tells of: to be sure of that is too much.
    pub fn wrong_from(&self, confidence: f64) -> (f64, usize) {
        let sure: Vec<_> = self.causes.iter().filter(|c| c.confidence >= confidence).collect();
        (1.0 - share(sure.iter().map(|c| c.is_true())), sure.len())
    }

    /// Share of the sharp breaks whose interval holds the truth.
    pub fn coverage(&self) -> f64 {
        share(self.inside.iter().copied())
    }

    /// What was said unexplained where nothing of others was logged: how many, with how much confidence on the mean, and the share that had no known cause.
    pub fn open(&self) -> (usize, f64, f64) {
        let all: Vec<_> = self.causes.iter().filter(|c| c.is_open).collect();
        let mean = all.iter().map(|c| c.confidence).sum::<f64>() / all.len().max(1) as f64;
        (all.len(), mean, share(all.iter().map(|c| c.is_true())))
    }

    /// Bins of confidence, without what is open: from, mean confidence, share that was the true cause, and how many.
    pub fn reliability(&self) -> Vec<(f64, f64, f64, usize)> {
        (0..10)
            .filter_map(|bin| {
                let from = f64::from(bin) / 10.0;
                let inside = |c: f64| c >= from && (c < from + 0.1 || bin == 9);
                let of: Vec<_> = self.causes.iter().filter(|c| inside(c.confidence) && !c.is_open).collect();
                let n = of.len() as f64;
                (!of.is_empty()).then(|| {
                    let right = of.iter().filter(|c| c.is_true()).count() as f64;
                    (from, of.iter().map(|c| c.confidence).sum::<f64>() / n, right / n, of.len())
                })
            })
            .collect()
    }

    /// Expected calibration error: the mean distance of confidence and share right over ten bins, weighted by how many are in each
    /// (Guo et al., "On Calibration of Modern Neural Networks", 2017, §2).
    pub fn calibration_error(&self) -> f64 {
        let n = self.causes.iter().filter(|c| !c.is_open).count().max(1) as f64;
        self.reliability().iter().map(|b| (b.1 - b.2).abs() * b.3 as f64 / n).sum()
    }
}

fn share(all: impl Iterator<Item = bool>) -> f64 {
    let (mut n, mut right) = (0_usize, 0_usize);
    for yes in all {
        n += 1;
        right += usize::from(yes);
    }
    if n == 0 { 1.0 } else { right as f64 / n as f64 }
}

/// True breaks and those that were found for them: how far apart, as a share of the bytes, and the places of both. They are paired in the order of how
/// near they are, in bytes and in time, as hardly any bytes lie between the beginning of a stall and its end; further than a share of the bytes, or some
/// samples, is not found.
pub fn pairs(case: &Case, findings: &Findings) -> Vec<(f64, usize, usize)> {
    let truth = &case.truth.breaks;
    let whole = case.hours() * 3600.0;
    let interval = whole / case.samples.len().max(1) as f64;
    let mut near: Vec<(f64, (f64, usize, usize))> = Vec::new();
    for (i, t) in truth.iter().enumerate() {
        for (j, b) in findings.breaks.iter().enumerate() {
            let late = (b.at_s - t.end_s).max(t.start_s - b.at_s).max(0.0);
            let off = off(t, b);
            if off <= 0.05 || late <= 3.0 * interval {
                near.push((off + late / whole.max(interval), (off, i, j)));
            }
        }
    }
    near.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut taken = (vec![false; truth.len()], vec![false; findings.breaks.len()]);
    near.retain(|(_, (_, i, j))| {
        let free = !taken.0[*i] && !taken.1[*j];
        if free {
            (taken.0[*i], taken.1[*j]) = (true, true);
        }
        free
    });
    near.into_iter().map(|(_, pair)| pair).collect()
}

/// Holds findings against the truth of their trace.
pub fn score(case: &Case, findings: &Findings) -> Score {
    let truth = &case.truth.breaks;
    let told = |truth: Cause, said: Cause, confidence: f64, evidence: &[Evidence]| {
        let is_best = truth == said || case.answer(truth) == said;
        let seen_once = || evidence.iter().any(|e| e.row == "surface.once");
        let is_open = said == Cause::Unexplained && confidence < 0.9 && (!case.sees_others() || seen_once());
        Told { truth, said, confidence, is_best, is_open }
    };
    let mut score = Score { traces: 1, hours: case.hours(), breaks: truth.len(), ..Score::default() };
    let paired = pairs(case, findings);
    for &(off, i, j) in &paired {
        let b = &findings.breaks[j];
        score.found += 1;
        score.errors.push(off);
        score.causes.push(told(truth[i].cause, b.cause, b.confidence, &b.evidence));
        if truth[i].start_s == truth[i].end_s {
            let at = truth[i].start_bytes;
            score.inside.push(b.low_bytes as f64 <= at && at <= b.high_bytes as f64);
        }
    }
    // A change that takes minutes may be told in steps, and a pattern by each of its changes: each of them is a part of it, and for its reason.
    let is_part = |j: usize, b: &Break| {
        let at = b.at_bytes as f64;
        let within = |t: &TrueBreak| t.cause == b.cause && t.start_bytes <= at && at <= t.end_bytes;
        let repeats = |c: TrueCycle| {
            let end = match c.cause {
                Cause::ThermalThrottle => Cause::ThermalRelease,
                Cause::Interference => Cause::InterferenceEnd,
                other => other,
            };
            let near = c.start_s - 0.2 * c.period_s..c.end_s + 0.2 * c.period_s;
            c.cause != Cause::Unexplained && [c.cause, end].contains(&b.cause) && near.contains(&b.at_s)
        };
        paired.iter().all(|p| p.2 != j)
            && (truth.iter().any(within) || case.truth.cycles.is_some_and(repeats))
    };
    let parts = findings.breaks.iter().enumerate().filter(|(j, b)| is_part(*j, b)).count();
    score.false_breaks = findings.breaks.len() - score.found - parts;
    score.patterns = usize::from(case.truth.cycles.is_some());
    score.why.extend(
        pattern(case, findings).and_then(|(c, d)| Some(told(c.cause, d.cause?, d.confidence, &d.evidence))),
    );
    score
}

/// The true pattern, and the one that was found for it: that which shares most time with it.
pub fn pattern<'a>(case: &Case, findings: &'a Findings) -> Option<(TrueCycle, &'a Dip)> {
    let cycle = case.truth.cycles?;
    let shared = |d: &Dip| d.end_s.min(cycle.end_s) - d.start_s.max(cycle.start_s);
    let most = findings.dips.iter().max_by(|a, b| shared(a).total_cmp(&shared(b)))?;
    (shared(most) > 0.3 * (cycle.end_s - cycle.start_s)).then_some((cycle, most))
}

/// Distance of a break from the truth, share of the bytes up to it; 0 within a gradual one.
fn off(t: &TrueBreak, b: &Break) -> f64 {
    let at = b.at_bytes as f64;
    (t.start_bytes - at).max(at - t.end_bytes).max(0.0) / t.start_bytes.max(1.0)
}
