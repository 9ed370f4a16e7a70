//! Where exactly a hollow begins and ends: its edges are looked for by halves.
//!
//! A scan knows an edge to one zone. A leg that refines reads stretches, one operation at a time, first some beside the hollow and some within it, long ones and short ones: they say
//! what a stretch of any length takes on either side, `overhead + length / rate`, and how much that varies. Then it reads one in the middle between the
//! places that are known to lie on either side of the edge, a quarter as long as these are apart. What it takes, between what is usual and what is slow,
//! says which side it is on, held against a stretch beside the hollow that is read right behind it, until the places are as near as was asked for.
//! Where a drive reads a weak sector several times, a short stretch is slow only now and then: it is read several times, and the mean counts. A reading that is far faster than usual came from the
//! drive's own cache and does not count.
//!
//! What is read next follows from what was read so far, so that the analysis of the finished run goes the same way through the samples as the run did.

use super::Surface;
use crate::findings::Hollow;
use crate::leg_name::LegName;
use crate::stats;
use crate::trace::{Trace, TraceLeg};

/// Bytes of the longest and of the shortest stretch: long against what a seek costs, short against a zone.
pub const LONGEST: u64 = 64 << 20;
const SHORTEST: u64 = 4 << 20;
/// Long stretches that are read for each side, and short ones: of what is slow more, as that varies.
const LONG: usize = 3;
const SHORT: [usize; 2] = [3, 6];
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
/// Most readings of one stretch.
const MOST_READINGS: f64 = 150.0;
/// An answer below this came faster than the medium gives.
const CACHED: f64 = -1.0;
/// An answer above this counts as this: it was held up by something else, or could not be read.
const MOST_ANSWER: f64 = 20.0;
/// How much faster or slower than usual, as a factor, a stretch beside the hollow may be for it to say how fast the drive is just now.
const REFERENCE: (f64, f64) = (0.6, 1.6);
/// Answers between these say that the edge is within the stretch.
const WITHIN: (f64, f64) = (0.25, 0.75);
/// Places are whole multiples of this, which every drive can begin at.
const STEP: u64 = 64 << 10;
/// Name of the sweep step of legs that refine.
pub const REFINE: &str = "refine";

/// Most bytes that a leg reads to refine, 64 GB: an edge that it does not come to is known to a zone.
pub const MOST_READ: u64 = 2 * MOST as u64 * (2 * LONG as u64 + 24) * LONGEST;

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
    /// Stretches on the usual side and on the slow one, the long ones first.
    sides: [Vec<Stretch>; 2],
    /// What each of them took, seconds.
    took: [Vec<f64>; 2],
    law: Option<Law>,
    /// What the stretch that is being read came to so far, reading by reading.
    answers: Vec<f64>,
    /// Its length and what it took just now, seconds; a stretch beside the hollow is read next, so that what makes the whole drive slower for a while
    /// cancels out.
    probed: Option<(u64, f64)>,
    /// Where the stretches beside the hollow are: the first byte, and how many bytes there are.
    beside: (u64, u64),
    /// How many of them were read.
    references: u64,
    /// Bytes by which the answers may be off (95 %), as they scattered.
    scatter: u64,
    over: bool,
}

/// What a stretch takes.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Law {
    overhead_s: f64,
    /// Seconds for each byte: usual, and slow.
    each_s: [f64; 2],
    /// Standard deviation of the answer of the shortest stretch.
    varies: f64,
}

impl Law {
    /// From what the stretches of both sides took; `None` where the slow side is not slow in them.
    fn of(sides: &[Vec<Stretch>; 2], took: &[Vec<f64>; 2]) -> Option<Self> {
        let median = |seconds: &[f64]| stats::median(&mut seconds.to_vec()).unwrap_or(0.0);
        let of = |side: usize| (median(&took[side][..LONG]), median(&took[side][LONG..]));
        let (usual, mut slow) = (of(0), of(1));
        // Tries come now and then: their mean counts.
        slow.0 = stats::mean_sd(&took[1][..LONG])?.0;
        let long = sides[0][0].1 as f64;
        let apart = long - SHORTEST as f64;
        // Where long ones are as short as the others, nothing tells what a seek costs; it is the same on both sides.
        let each = if apart > 0.0 { ((usual.0 - usual.1) / apart).max(0.0) } else { usual.0 / long };
        let overhead_s = (usual.0 - each * long).max(0.0);
        let each_slow = (slow.0 - overhead_s) / long;
        if slow.0 < (1.0 + CONTRAST) * usual.0 || each_slow <= each {
            return None;
        }
        let short: Vec<f64> = took[1][LONG..].to_vec();
        let (_, sd) = stats::mean_sd(&short)?;
        let varies = sd / ((each_slow - each) * SHORTEST as f64);
        Some(Self { overhead_s, each_s: [each, each_slow], varies })
    }

    /// Shortest stretch that need not be read too often.
    fn shortest(&self) -> u64 {
        let times = (self.varies / SURE).powi(2) / MOST_READINGS;
        (SHORTEST as f64 * times.clamp(1.0, (LONGEST / SHORTEST) as f64)) as u64
    }

    /// Standard deviation that the answer of a slow stretch of a length has.
    fn varies_over(&self, length: u64) -> f64 {
        self.varies * (SHORTEST as f64 / length as f64).sqrt()
    }

    /// 0 for a stretch that took what is usual, 1 for one that is slow.
    fn answer(&self, length: u64, seconds: f64) -> f64 {
        let at = |each: f64| self.overhead_s + each * length as f64;
        let [usual, slow] = self.each_s.map(at);
        (seconds - usual) / (slow - usual)
    }
}

impl Search {
    fn middle(&self) -> u64 {
        u64::midpoint(self.low, self.high)
    }

    /// Bytes by which the edge may be off from the middle.
    fn known_to(&self) -> u64 {
        (self.high - self.low) / 2 + self.scatter
    }

    /// The next stretch to be read.
    fn next(&self) -> Stretch {
        for (side, took) in self.sides.iter().zip(&self.took) {
            if let Some(stretch) = side.get(took.len()) {
                return *stretch;
            }
        }
        let shortest = self.law.map_or(SHORTEST, |law| law.shortest());
        let length = ((self.high - self.low) / 4).clamp(shortest, LONGEST) / STEP * STEP;
        if self.probed.is_some() {
            // Another one each time, as a drive keeps what it has just read.
            let length = length.min(self.beside.1 / STEP * STEP);
            let places = (self.beside.1 / length.max(1)).max(1);
            return (self.beside.0 + self.references % places * length, length);
        }
        (self.middle().saturating_sub(length / 2) / STEP * STEP, length)
    }

    fn tell(&mut self, stretch: Stretch, seconds: f64) {
        for (side, took) in self.sides.iter().zip(&mut self.took) {
            if took.len() < side.len() {
                took.push(seconds);
                break;
            }
        }
        let Some(law) = self.law else {
            if self.took[1].len() == self.sides[1].len() {
                self.law = Law::of(&self.sides, &self.took);
                self.over = self.law.is_none();
                // As near as stretches tell that need not be read too often.
                self.limit = self.law.map_or(self.limit, |law| self.limit.max(law.shortest() / 4));
            }
            return;
        };
        let Some((length, probed)) = self.probed.take() else {
            self.probed = Some((stretch.1, seconds));
            return;
        };
        self.references += 1;
        // A reference that is far off was not read from the medium, or held up by itself.
        let usual = law.overhead_s + law.each_s[0] * stretch.1 as f64;
        let now = seconds / usual;
        let now = if now > REFERENCE.0 && now < REFERENCE.1 { now } else { 1.0 };
        self.answers.push(law.answer(length, probed / now).min(MOST_ANSWER));
        let real: Vec<f64> = self.answers.iter().copied().filter(|a| *a > CACHED).collect();
        let counted = if real.is_empty() { &self.answers } else { &real };
        let (answer, sd) = stats::mean_sd(counted).unwrap_or_default();
        // They may scatter more than those that the law was taken from; and where tries are seldom, a few stretches may show none of them and agree
        // all the same.
        let n = counted.len();
        let error = sd.max(law.varies_over(length)) / (n as f64).sqrt();
        // Well away from an edge a few say which side it is; close to it, all that there are.
        let is_clear = n >= CLEAR.0 && (answer - 0.5).abs() > 0.5 - WITHIN.0 + CLEAR.1 * error;
        let sure = if length > 2 * law.shortest() { SURE_LONG } else { SURE };
        let is_known = error <= sure;
        let most = (MOST_OF_ONE / length.max(1)).clamp(LEAST_READINGS, MOST_READINGS as u64);
        if !is_clear && !is_known && (self.answers.len() as u64) < most {
            return;
        }
        self.answers.clear();
        // The last stretch, which is the shortest, says how well the edge is known.
        self.scatter = (1.96 * error * length as f64) as u64;
        // Where the edge may be within the stretch, all of it is kept, as long as something is left out by that.
        let is_open = !is_clear && !is_known || answer > WITHIN.0 && answer < WITHIN.1;
        let is_within = is_open && 2 * length <= self.high - self.low;
        let keeps = if is_within { length / 2 } else { 0 };
        let at = self.middle();
        if (answer > 0.5) == self.begins {
            self.high = at + keeps;
        } else {
            self.low = at - keeps;
        }
        self.over = self.high - self.low <= self.limit;
    }
}

/// The stretches of a side: long ones and short ones, side by side from `from` on. Each is read before the one in front of it, so that the drive has to go
/// back to each of them, as it has to for those that look for the edge.
fn side(from: u64, long: u64, short: usize) -> Vec<Stretch> {
    let lengths = std::iter::repeat_n(long, LONG).chain(std::iter::repeat_n(SHORTEST, short));
    let mut at = from / STEP * STEP;
    let mut all: Vec<Stretch> = lengths
        .map(|length| {
            at += length;
            (at - length, length)
        })
        .collect();
    all[..LONG].reverse();
    all[LONG..].reverse();
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
            let inside = u64::midpoint(h.start_byte, h.end_byte);
            let edge = if begins { h.start_byte } else { h.end_byte };
            let (low, high) = if begins {
                (edge.saturating_sub(zone), (edge + zone).min(inside))
            } else {
                (edge.saturating_sub(zone).max(inside), edge + zone)
            };
            // Beside it there has to be room for stretches that are as usual.
            let long = ((h.end_byte - h.start_byte) / 8).clamp(SHORTEST, LONGEST) / STEP * STEP;
            let whole = |short: usize| LONG as u64 * long + short as u64 * SHORTEST + STEP;
            let usual = if begins { low.checked_sub(whole(SHORT[0])) } else { Some(high + STEP) };
            let fits = |at: &u64| *at >= surface.start_byte && *at + whole(SHORT[0]) <= end;
            let Some(usual) = usual.filter(fits) else { continue };
            if high - low <= limit || whole(SHORT[1]) > h.end_byte - h.start_byte {
                continue;
            }
            let slow = inside - whole(SHORT[1]) / 2;
            searches.push(Search {
                hollow,
                begins,
                low,
                high,
                limit: limit.max(1 << 20),
                sides: [side(usual, long, SHORT[0]), side(slow, long, SHORT[1])],
                took: [Vec::new(), Vec::new()],
                law: None,
                answers: Vec::new(),
                probed: None,
                beside: (usual / STEP * STEP, whole(SHORT[0]) - STEP),
                references: 0,
                scatter: 0,
                over: false,
            });
        }
        Self { searches, so_far: (0, 0.0), anew: 0 }
    }

    /// First byte and length of the next stretch; `None` where all is known that can be.
    pub fn next(&self) -> Option<(u64, u64)> {
        self.searches.iter().find(|s| !s.over).map(Search::next)
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
        // A stretch that was cut off is begun anew, and so is one of which a part could not be read.
        let begins_anew = trace
            .offset
            .get(index)
            .is_some_and(|at| (at - stretch.0 as f64 / 1e6).abs() < 0.25 * SHORTEST as f64 / 1e6);
        if self.so_far.0 > 0 && begins_anew {
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
        for (i, hollow) in hollows.iter_mut().enumerate() {
            let of = |begins: bool| self.searches.iter().find(|s| s.hollow == i && s.begins == begins);
            let known = [of(true), of(false)];
            for search in known.into_iter().flatten() {
                let edge = if search.begins { &mut hollow.start_byte } else { &mut hollow.end_byte };
                *edge = search.middle();
            }
            if let Some(widest) = known.into_iter().flatten().map(Search::known_to).max() {
                hollow.edge_bytes = hollow.edge_bytes.min(widest);
            }
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
