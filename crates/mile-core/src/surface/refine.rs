//! Where exactly a hollow begins and ends: what readings near its edges say.
//!
//! A scan knows an edge to one zone. A leg that refines reads stretches, one at a time, first some beside the hollow and some within it, long ones and short ones: they say
//! what a stretch of any length takes on either side, `overhead + length / rate`, and how much that varies. Then it reads one where the edge is most likely, a quarter as long as
//! the interval in which it is known to be. What it takes, between what is usual and what is slow, says how much of it is on either side, held against a stretch beside the hollow
//! that is read right behind it. All answers together say how likely each place is, so that a wrong answer is outvoted by later ones.
//! Where a drive reads a weak sector several times, a short stretch is slow only now and then: it is read several times, and the mean counts. A reading that is far faster than usual came from the
//! drive's own cache and does not count.
//!
//! What is read next follows from what was read so far, so that the analysis of the finished run goes the same way through the samples as the run did.

use super::map::Surface;
use crate::hollow::Hollow;
use crate::leg_name::LegName;
use crate::stats;
use crate::trace::{Trace, TraceLeg};

/// Bytes of the longest and of the shortest stretch: long against what a seek costs, short against a zone.
pub const LONGEST: u64 = 64 << 20;
const SHORTEST: u64 = 4 << 20;
/// Pairs of long stretches, one on either side, that are read at least and at most, and of short ones.
const LONG: usize = 3;
const MOST_LONG: usize = 15;
const SHORT: usize = 6;
/// Most hollows that are refined, the deepest first.
const MOST: usize = 16;
/// How much slower than usual the inside has to be, as a share, for its edges to be found.
const CONTRAST: f64 = 0.04;
/// Standard deviation that the answer of a stretch may have, where 0 is usual and 1 is slow.
const SURE: f64 = 0.06;
/// The same for stretches far longer than the shortest one, which only have to say on which side the edge is.
const SURE_LONG: f64 = 0.12;
/// Most bytes that are read of one stretch, and fewest readings.
const MOST_OF_ONE: u64 = 1 << 30;
const LEAST_READINGS: u64 = 8;
/// Readings from which an answer may be clear, and how many of its standard errors it has to be away from the middle.
const CLEAR: (usize, f64) = (5, 4.0);
/// Most readings of one stretch, and how many may be needed of the shortest stretch, which is taken as long as that asks for.
const MOST_READINGS: f64 = 150.0;
const ALL_READINGS: f64 = 600.0;
/// Chance that an edge lies outside of the interval in which it is looked for, and most cells of the surface on either side of it.
const OUTSIDE: f64 = 0.001;
const MOST_CELLS: f64 = 8.0;
/// An answer below this came faster than the medium gives.
const CACHED: f64 = -1.0;
/// An answer above this counts as this: it was held up by something else, or could not be read.
const MOST_ANSWER: f64 = 20.0;
/// How much faster or slower than usual, as a factor, a stretch beside the hollow may be for it to say how fast the drive is just now.
const REFERENCE: (f64, f64) = (0.6, 1.6);
/// How far from the middle an answer is that says on which side the edge is.
const ASIDE: f64 = 0.25;
/// What answers may be off alike, as the law is taken from other places.
const BIAS: f64 = 0.03;
/// Standard error of how much slower the slow side is, as a share of that: with less no more long stretches are read, and with more no edge is looked for.
const WELL_KNOWN: f64 = 0.06;
const BARELY_KNOWN: f64 = 0.3;
/// Most answers that are asked for of one edge.
const MOST_ANSWERS: usize = 48;
/// Share of the limit to which the edge has to be known (95 %), so that it nearly always is.
const KNOWN: f64 = 0.7;
/// Pieces in which the chance of places between two ends of stretches is added up.
const PIECES: usize = 8;
/// What is known of an edge: the quantiles 2.5, 50 and 97.5 %.
const QUANTILES: [f64; 3] = [0.025, 0.5, 0.975];
/// Places are whole multiples of this, which every drive can begin at.
const STEP: u64 = 64 << 10;
/// Name of the sweep step of legs that refine.
pub const REFINE: &str = "refine";

/// Most bytes that a leg reads to refine, 116 GB: an edge that it does not come to is known to a zone.
pub const MOST_READ: u64 = 2 * MOST as u64 * (2 * MOST_LONG as u64 + 24) * LONGEST;

/// Whether a leg looks for edges.
pub fn is_refining(leg: &TraceLeg) -> bool {
    LegName::read(&leg.name).value(REFINE).is_some()
}

/// The edges that are looked for, and what is known of each.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Refine {
    searches: Vec<Search>,
    /// Bytes and seconds of the stretch that is being read.
    so_far: (u64, f64),
    /// How often it was begun anew.
    anew: u32,
    /// Whether something else was read than what follows from the readings before: another version of the program chose it.
    strays: bool,
}

/// A stretch: first byte and length.
type Stretch = (u64, u64);

#[derive(Clone, Debug, PartialEq)]
struct Search {
    /// Which hollow, and whether this is where it begins.
    hollow: usize,
    begins: bool,
    /// The edge lies between these.
    low: u64,
    high: u64,
    /// Bytes between which it is to be known.
    limit: u64,
    /// Stretches on the usual side and on the slow one, in pairs: some long ones, the short ones, and long ones for where those were not enough.
    sides: [Vec<Stretch>; 2],
    /// What each of them took, seconds.
    took: [Vec<f64>; 2],
    law: Option<Law>,
    /// What the stretch that is being read took so far, and one beside the hollow right behind it, seconds.
    pairs: Vec<(f64, f64)>,
    /// Its length and what it took just now, seconds; a stretch beside the hollow is read next, so that what makes the whole drive slower for a while
    /// cancels out.
    probed: Option<(u64, f64)>,
    /// Where the stretches beside the hollow are: the first byte, and how many bytes there are.
    beside: (u64, u64),
    /// How many of them were read.
    references: u64,
    /// All answers.
    told: Vec<Told>,
    /// Where the edge is: 95 % of the chance lies between the outer ones, half below the middle one.
    known: [u64; 3],
    over: bool,
}

/// What the readings of one stretch came to.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Told {
    at: u64,
    length: u64,
    /// Which share of it is slow.
    answer: f64,
    /// Standard error of the answer, and the readings that it is of.
    error: f64,
    readings: usize,
}

/// What a stretch takes.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Law {
    overhead_s: f64,
    /// Seconds for each byte: usual, and slow.
    each_s: [f64; 2],
    /// Standard deviation of the answer of the shortest stretch.
    varies: f64,
    /// Standard error of how much slower the slow side is, as a share of that.
    error: f64,
}

impl Law {
    /// From what the stretches of both sides took, in pairs that were read one right after the other: their ratio does not change when the whole drive is slower for a
    /// while. `None` where the slow side is not slow in them.
    fn of(sides: &[Vec<Stretch>; 2], took: &[Vec<f64>; 2]) -> Option<Self> {
        // The slow one of each pair first; what could not be read is slow, and not endless.
        let pairs = took[1].iter().zip(&took[0]).map(|(slow, usual)| (slow.min(MOST_ANSWER * usual), *usual));
        let is_short = |i: usize| (LONG..LONG + SHORT).contains(&i);
        let (short, long): (Vec<_>, Vec<_>) = pairs.enumerate().partition(|(i, _)| is_short(*i));
        let [short, long] = [short, long].map(|pairs| pairs.into_iter().map(|p| p.1).collect::<Vec<_>>());
        let usual = |pairs: &[(f64, f64)]| stats::median(&mut pairs.iter().map(|p| p.1).collect::<Vec<_>>());
        let (usual_long, usual_short) = (usual(&long)?, usual(&short)?);
        let ((times, sd), (_, short_sd)) = (ratio(&long), ratio(&short));
        let length = sides[0].first()?.1 as f64;
        let apart = length - SHORTEST as f64;
        // Where long ones are as short as the others, nothing tells what a seek costs; it is the same on both sides.
        let each =
            if apart > 0.0 { ((usual_long - usual_short) / apart).max(0.0) } else { usual_long / length };
        let overhead_s = (usual_long - each * length).max(0.0);
        let each_slow = (times * usual_long - overhead_s) / length;
        if times < 1.0 + CONTRAST || each_slow <= each {
            return None;
        }
        let varies = short_sd * usual_short / ((each_slow - each) * SHORTEST as f64);
        // Of few, the standard deviation may be far too small by chance: as wide as their interval (95 %) is.
        let wider = stats::student(long.len() as f64 - 1.0) / 1.96;
        let error = wider * sd / (long.len() as f64).sqrt() / (times - 1.0);
        Some(Self { overhead_s, each_s: [each, each_slow], varies, error })
    }

    /// Shortest stretch that need not be read too often.
    fn shortest(&self) -> u64 {
        let times = (self.varies / SURE).powi(2) / ALL_READINGS;
        (SHORTEST as f64 * times.clamp(1.0, (LONGEST / SHORTEST) as f64)) as u64
    }

    /// Standard deviation that the answer of a slow stretch of a length has.
    fn varies_over(&self, length: u64) -> f64 {
        self.varies * (SHORTEST as f64 / length as f64).sqrt()
    }

    /// What a stretch of a length takes on either side, seconds.
    fn takes(&self, length: u64) -> [f64; 2] {
        self.each_s.map(|each| self.overhead_s + each * length as f64)
    }

    /// What pairs of readings come to, of a stretch of a length and of one beside the hollow: 0 if it is as usual, 1 if it is slow; the standard error of that; and the
    /// readings that count. The ratio of the means counts, as the mean of the ratios of readings that scatter is too high.
    fn weigh(&self, length: u64, pairs: &[(f64, f64)]) -> (f64, f64, usize) {
        let [usual, slow] = self.takes(length);
        let apart = slow / usual - 1.0;
        let answer = |times: f64| (times - 1.0) / apart;
        let most = 1.0 + MOST_ANSWER * apart;
        let times: Vec<(f64, f64)> = pairs.iter().map(|(p, r)| ((p / usual).min(most), r / usual)).collect();
        // A reference that is far off was not read from the medium, or held up by itself.
        let counts = |(p, r): &(f64, f64)| answer(*p) > CACHED && *r > REFERENCE.0 && *r < REFERENCE.1;
        let mut counted: Vec<(f64, f64)> = times.iter().copied().filter(counts).collect();
        if counted.is_empty() {
            counted = times.into_iter().map(|(p, _)| (p, 1.0)).collect();
        }
        let n = counted.len();
        let (ratio, sd) = ratio(&counted);
        // They may scatter more than those that the law was taken from; and where tries are seldom, a few stretches may show none of them and agree
        // all the same.
        (answer(ratio), (sd / apart).max(self.varies_over(length)) / (n as f64).sqrt(), n)
    }
}

/// The ratio of the means of pairs, the first over the second, and the standard deviation of one pair's part in it (the ratio estimator; Cochran, "Sampling Techniques", 1977,
/// chapter 6).
fn ratio(pairs: &[(f64, f64)]) -> (f64, f64) {
    let (first, second) = pairs.iter().fold((0.0, 0.0), |sum, pair| (sum.0 + pair.0, sum.1 + pair.1));
    let (ratio, mean) = (first / second, second / pairs.len().max(1) as f64);
    let off: Vec<f64> = pairs.iter().map(|(a, b)| (a - ratio * b) / mean).collect();
    (ratio, stats::mean_sd(&off).map_or(0.0, |(_, sd)| sd))
}

/// Cells on either side of where the passes of a surface see an edge within which it lies. Of values with noise `sigma` on either side of a step, the likeliest place
/// of the step is off by m and more with a chance of about exp(-m step²/(8 sigma²)), both in logarithms (Chernoff, "A Measure of Asymptotic Efficiency for Tests of a
/// Hypothesis Based on the Sum of Observations", 1952).
fn cells_beside(sigma: f64, depth_pct: f64) -> u64 {
    let step = -(1.0 - (depth_pct / 100.0).min(0.99)).ln();
    let off = 8.0 * (sigma / step.max(1e-6)).powi(2) * -OUTSIDE.ln();
    1 + off.min(MOST_CELLS - 1.0).ceil() as u64
}

impl Search {
    /// For an edge of a hollow, within `margin` bytes of where the passes over `scanned` saw it. `None` where there is no room for the stretches.
    fn of(
        (hollow, h, begins): (usize, &Hollow, bool),
        scanned: (u64, u64),
        margin: u64,
        limit: u64,
    ) -> Option<Self> {
        let inside = u64::midpoint(h.start_byte, h.end_byte);
        let edge = if begins { h.start_byte } else { h.end_byte };
        let (low, high) = if begins {
            (edge.saturating_sub(margin), (edge + margin).min(inside))
        } else {
            (edge.saturating_sub(margin).max(inside), edge + margin)
        };
        // Beside it there has to be room for stretches that are as usual; within it, those lie away from the edges.
        let long = ((h.end_byte - h.start_byte) / 8).clamp(SHORTEST, LONGEST) / STEP * STEP;
        let whole = |count: usize| count as u64 * long + SHORT as u64 * SHORTEST + STEP;
        let within = (h.end_byte - h.start_byte).saturating_sub(2 * margin + whole(0)) / long;
        let count = (within as usize).clamp(LONG, MOST_LONG);
        let usual = if begins { low.checked_sub(whole(count))? } else { high + STEP };
        let fits = usual >= scanned.0
            && usual + whole(count) <= scanned.1
            && whole(count) <= h.end_byte - h.start_byte;
        if !fits || high - low <= limit {
            return None;
        }
        // Near the edge, as a disk is not equally fast everywhere within a wide hollow.
        let slow = match (begins, within as usize > count) {
            (true, true) => h.start_byte + margin,
            (false, true) => h.end_byte - margin - whole(count),
            (_, false) => inside - whole(count) / 2,
        };
        Some(Self {
            hollow,
            begins,
            low,
            high,
            limit: limit.max(1 << 20),
            sides: [side(usual, long, count), side(slow, long, count)],
            took: [Vec::new(), Vec::new()],
            law: None,
            pairs: Vec::new(),
            probed: None,
            beside: (usual / STEP * STEP, whole(count) - STEP),
            references: 0,
            told: Vec::new(),
            known: [low, u64::midpoint(low, high), high],
            over: false,
        })
    }

    fn middle(&self) -> u64 {
        self.known[1]
    }

    /// Bytes by which the edge may be off (95 %).
    fn known_to(&self) -> u64 {
        let [low, middle, high] = self.known;
        (middle - low).max(high - middle)
    }

    /// Logarithm of the likelihood of the answers if the edge is at a place. The mean of a few readings is off from what it should be as Student's t says.
    fn likelihood(&self, edge: f64) -> f64 {
        let of = |told: &Told| {
            let (at, length) = (told.at as f64, told.length as f64);
            let behind = ((at + length - edge) / length).clamp(0.0, 1.0);
            let slow = if self.begins { behind } else { 1.0 - behind };
            let bias = BIAS.hypot(slow * self.law.map_or(0.0, |law| law.error));
            let (error, freedom) = (told.error.hypot(bias), (told.readings as f64 - 1.0).max(2.0));
            let off = (told.answer - slow) / error;
            -(freedom + 1.0) / 2.0 * (off * off / freedom).ln_1p()
        };
        self.told.iter().map(of).sum()
    }

    /// Where the edge is by all answers, each place between `low` and `high` being as likely as another before them. Between the ends of all stretches the likelihood is
    /// smooth, and beside them constant.
    fn quantiles(&self) -> [u64; 3] {
        let (low, high) = (self.low as f64, self.high as f64);
        let ends = self.told.iter().flat_map(|t| [t.at as f64, (t.at + t.length) as f64]);
        let mut cuts: Vec<f64> = ends.filter(|e| *e > low && *e < high).chain([low, high]).collect();
        cuts.sort_by(f64::total_cmp);
        let pieces: Vec<(f64, f64, f64)> = cuts
            .windows(2)
            .filter(|ends| ends[1] > ends[0])
            .flat_map(|ends| {
                let width = (ends[1] - ends[0]) / PIECES as f64;
                (0..PIECES).map(move |i| (ends[0] + i as f64 * width, width))
            })
            .map(|(from, width)| (from, width, self.likelihood(from + width / 2.0)))
            .collect();
        let most = pieces.iter().map(|p| p.2).fold(f64::NEG_INFINITY, f64::max);
        let mass = |p: &(f64, f64, f64)| p.1 * (p.2 - most).exp();
        let whole: f64 = pieces.iter().map(mass).sum();
        QUANTILES.map(|share| {
            let mut left = share * whole;
            let found = pieces.iter().find(|p| {
                left -= mass(p);
                left <= 0.0
            });
            found.map_or(self.high, |p| (p.0 + p.1 * (1.0 + left / mass(p).max(f64::MIN_POSITIVE))) as u64)
        })
    }

    /// The next stretch to be read.
    fn next(&self) -> Stretch {
        if self.law.is_none()
            && let Some(stretch) = self.sides[self.side()].get(self.took[self.side()].len())
        {
            return *stretch;
        }
        let shortest = self.law.map_or(SHORTEST, |law| law.shortest());
        let length = ((self.known[2] - self.known[0]) / 4).clamp(shortest, LONGEST) / STEP * STEP;
        if self.probed.is_some() {
            // Another one each time, as a drive keeps what it has just read.
            let length = length.min(self.beside.1 / STEP * STEP);
            let places = (self.beside.1 / length.max(1)).max(1);
            return (self.beside.0 + self.references % places * length, length);
        }
        (self.middle().saturating_sub(length / 2) / STEP * STEP, length)
    }

    /// The side of the stretch that is read next for the law.
    fn side(&self) -> usize {
        usize::from(self.took[1].len() < self.took[0].len())
    }

    /// Takes in what a stretch took that is read for the law.
    fn learn(&mut self, seconds: f64) {
        let side = self.side();
        self.took[side].push(seconds);
        let read = self.took[1].len();
        if read < LONG + SHORT || read < self.took[0].len() {
            return;
        }
        let law = Law::of(&self.sides, &self.took);
        let error = law.map_or(f64::MAX, |law| law.error);
        if error > WELL_KNOWN && read < self.sides[1].len() {
            return;
        }
        self.law = law.filter(|law| law.error <= BARELY_KNOWN);
        self.over = self.law.is_none();
        // As near as stretches tell that need not be read too often.
        self.limit = self.law.map_or(self.limit, |law| self.limit.max(law.shortest() / 4));
    }

    fn tell(&mut self, stretch: Stretch, seconds: f64) {
        let Some(law) = self.law else { return self.learn(seconds) };
        let Some((length, probed)) = self.probed.take() else {
            self.probed = Some((stretch.1, seconds));
            return;
        };
        self.references += 1;
        self.pairs.push((probed, seconds));
        let (answer, error, n) = law.weigh(length, &self.pairs);
        // Well away from an edge a few say which side it is; close to it, all that there are.
        let is_clear = n >= CLEAR.0 && (answer - 0.5).abs() > ASIDE + CLEAR.1 * error;
        let sure = if length > 2 * law.shortest() { SURE_LONG } else { SURE };
        let most = (MOST_OF_ONE / length.max(1)).clamp(LEAST_READINGS, MOST_READINGS as u64);
        if !is_clear && error > sure && (self.pairs.len() as u64) < most {
            return;
        }
        self.pairs.clear();
        let at = self.middle().saturating_sub(length / 2) / STEP * STEP;
        self.told.push(Told { at, length, answer, error, readings: n });
        self.known = self.quantiles();
        self.over = self.known_to() as f64 <= KNOWN * self.limit as f64 || self.told.len() >= MOST_ANSWERS;
    }
}

/// The stretches of a side, side by side from `from` on. Each is read before the one in front of it, so that the drive has to go
/// back to each of them, as it has to for those that look for the edge.
fn side(from: u64, long: u64, count: usize) -> Vec<Stretch> {
    let lengths = std::iter::repeat_n(long, count).chain(std::iter::repeat_n(SHORTEST, SHORT));
    let mut at = from / STEP * STEP;
    let mut all: Vec<Stretch> = lengths
        .map(|length| {
            at += length;
            (at - length, length)
        })
        .collect();
    all[..count].reverse();
    all[count..].reverse();
    // Those that may not be needed come last.
    all[LONG..].rotate_left(count - LONG);
    all
}

impl Refine {
    /// What is to be looked for: the edges of the hollows, but for those at the ends of what was scanned. `limit` is in bytes.
    pub fn new(surface: &Surface, hollows: &[Hollow], limit: u64) -> Self {
        let zone = surface.cell_bytes as u64;
        let end = surface.start_byte + (surface.cell_bytes * surface.baseline_mb_s.len() as f64) as u64;
        let mut deepest: Vec<usize> = (0..hollows.len()).collect();
        deepest.sort_by(|a, b| hollows[*b].depth_pct.total_cmp(&hollows[*a].depth_pct));
        deepest.truncate(MOST);
        let mut searches = Vec::new();
        for (hollow, begins) in deepest.into_iter().flat_map(|i| [(i, true), (i, false)]) {
            let h = &hollows[hollow];
            let cells = 1..=cells_beside(surface.noise, h.depth_pct);
            // As far on either side as there is room for.
            let of =
                |cells: u64| Search::of((hollow, h, begins), (surface.start_byte, end), cells * zone, limit);
            searches.extend(cells.rev().find_map(of));
        }
        Self { searches, so_far: (0, 0.0), anew: 0, strays: false }
    }

    /// First byte and length of the next stretch; `None` where all is known that can be.
    pub fn next(&self) -> Option<(u64, u64)> {
        self.searches.iter().find(|s| !s.over && !self.strays).map(Search::next)
    }

    /// What came of it, for the run's story.
    pub fn outcome(&self) -> String {
        let known = self.searches.iter().filter(|s| s.over && s.law.is_some());
        let widest = known.clone().map(Search::known_to).max().unwrap_or(0);
        let widest = crate::Bytes(widest);
        match (known.count(), self.searches.len()) {
            (_, 0) => "no hollow has an edge to look for".to_owned(),
            (known, all) if known == all => format!("all {all} edges are known to {widest}"),
            (0, all) => format!("none of {all} edges shows in short stretches"),
            (known, all) => {
                format!(
                    "{known} of {all} edges are known to {widest}, the others do not show in short stretches"
                )
            }
        }
    }

    /// Takes in a sample of a leg that refines.
    pub fn follow(&mut self, trace: &Trace, index: usize) {
        let Some(stretch) = self.next() else { return };
        let bytes = trace.moved(index + 1).0 - trace.moved(index).0;
        let seconds = trace.end(index).since(trace.start(index)).secs();
        let begins = trace
            .offset
            .get(index)
            .filter(|at| at.is_finite())
            .map(|at| (at - stretch.0 as f64 / 1e6).abs() < 0.25 * SHORTEST as f64 / 1e6);
        if self.so_far.0 == 0 && bytes > 0 && begins == Some(false) {
            self.strays = true;
            return;
        }
        // A stretch that was cut off is begun anew, and so is one of which a part could not be read.
        if self.so_far.0 > 0 && begins == Some(true) {
            self.so_far = (0, 0.0);
            self.anew += 1;
            if self.anew > 1 {
                self.give_up();
            }
        }
        self.so_far = (self.so_far.0 + bytes, self.so_far.1 + seconds);
        if bytes == 0 {
            self.give_up();
        } else if self.so_far.0 >= stretch.1 {
            let (_, seconds) = std::mem::take(&mut self.so_far);
            self.tell(seconds);
        }
    }

    /// Takes what could not be read wholly for slow.
    fn give_up(&mut self) {
        self.so_far = (0, 0.0);
        self.tell(f64::MAX.sqrt());
    }

    fn tell(&mut self, seconds: f64) {
        self.anew = 0;
        if let Some(search) = self.searches.iter_mut().find(|s| !s.over) {
            search.tell(search.next(), seconds);
        }
    }

    /// Puts what is known of the edges into the hollows.
    fn put(&self, hollows: &mut [Hollow]) {
        if self.strays {
            return;
        }
        for (i, hollow) in hollows.iter_mut().enumerate() {
            let is_known = |s: &&Search| s.hollow == i && s.law.is_some();
            let of = |begins: bool| self.searches.iter().filter(is_known).find(|s| s.begins == begins);
            let known = [of(true), of(false)];
            for search in known.into_iter().flatten() {
                let edge = if search.begins { &mut hollow.start_byte } else { &mut hollow.end_byte };
                *edge = search.middle();
            }
            // One that was not looked for is known as the scan knew it.
            let of = |search: Option<&Search>| search.map_or(hollow.edge_bytes, Search::known_to);
            hollow.edge_bytes = hollow.edge_bytes.min(known.map(of).into_iter().max().unwrap_or(u64::MAX));
        }
    }
}

/// Narrows the edges of hollows down by the legs that refined them.
pub(super) fn refined(trace: &Trace, surface: &Surface, hollows: &mut [Hollow]) {
    let mut legs = trace.legs().iter().filter(|leg| is_refining(leg)).peekable();
    let Some(limit) = legs.peek().and_then(|leg| LegName::read(&leg.name).value(REFINE)) else { return };
    let mut refine = Refine::new(surface, hollows, limit as u64);
    legs.flat_map(|leg| leg.samples.clone()).for_each(|i| refine.follow(trace, i));
    refine.put(hollows);
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand_core::{Rng, SeedableRng};
    use rand_xoshiro::Xoshiro256PlusPlus;

    /// The likeliest place of a step, found by trying all, against the bound.
    #[test]
    fn a_step_in_noise_is_seen_within_the_cells_that_are_looked_through() {
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(5);
        let mut normal = move || -> f64 {
            (0..12).map(|_| (rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64).sum::<f64>() - 6.0
        };
        let mut widest = 0;
        for (sigma, depth_pct) in [(0.01, 50.0), (0.03, 20.0), (0.05, 18.0), (0.05, 15.0), (0.06, 15.0)] {
            let step = -(1.0 - depth_pct / 100.0_f64).ln();
            let beside = cells_beside(sigma, depth_pct) as i64;
            let mut outside = 0;
            for _ in 0..4000 {
                let values: Vec<f64> =
                    (0..40).map(|i| if i < 20 { 0.0 } else { -step } + sigma * normal()).collect();
                // Residual sum of squares with the step in front of each.
                let cost = |at: usize| -> f64 {
                    values
                        .iter()
                        .enumerate()
                        .map(|(i, y)| (y + if i < at { 0.0 } else { step }).powi(2))
                        .sum()
                };
                let at = (1..40).min_by(|a, b| cost(*a).total_cmp(&cost(*b))).unwrap_or(0);
                outside += u32::from((at as i64 - 20).abs() > beside);
            }
            assert!(outside <= 8, "{sigma} {depth_pct}: {outside} of 4000 outside of {beside}");
            widest = widest.max(beside);
        }
        // With hardly any noise they are two, and never more than eight.
        assert_eq!((cells_beside(0.001, 50.0), cells_beside(0.5, 10.0)), (2, 8));
        assert!(widest > 2, "{widest}");
    }
}
