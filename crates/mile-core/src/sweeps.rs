//! Sweeps as results: figures against fill level, ramps over block size, depth and workers, and how a cache comes back.
//!
//! What belongs together is read from the names of the legs ([`crate::LegName`]): `fill 50 % / burst / repeat 2` is the second repeat
//! of the leg `burst` at half full. A leg `prepare` only prepares, and is no figure.

use crate::breaks::{Break, Cause};
use crate::cache::{Cache, cache};
use crate::leg_name::LegName;
use crate::plateaus::Stretch;
use crate::repeats::{Figure, Nested};
use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use serde::{Deserialize, Serialize};

/// Share by which a figure must be worse than on the emptiest level to be called so.
pub const WORSE: f64 = 0.10;
/// Share of its maximum from which a ramp counts as saturated.
pub const SATURATED: f64 = 0.95;
/// Ratio of rates up to which two writes count as of one kind.
const ALIKE: f64 = 1.4;
/// Base name of legs that only prepare.
const PREPARES: &str = "prepare";

/// A figure by its name.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Named {
    /// Name of the leg.
    pub leg: String,
    /// What it does.
    pub op: Op,
    /// Its mean rate, MB/s.
    pub mb_s: Figure,
}

/// What was found at one fill level.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FillLevel {
    /// Level, percent of the drive.
    pub fill_pct: f64,
    /// Bytes that the write cache took.
    pub cache_bytes: Option<Figure>,
    /// Rate into it, MB/s.
    pub before_mb_s: Option<Figure>,
    /// Rate after it, MB/s. It was `behind_mb_s` in version 1.
    #[serde(alias = "behind_mb_s")]
    pub after_mb_s: Option<Figure>,
    /// Mean rates of the legs of the battery.
    pub figures: Vec<Named>,
}

/// From which level on a figure is worse than on the emptiest.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct WorseFrom {
    /// `cache`, `before`, `behind`, or the name of a leg.
    pub figure: String,
    /// The level, percent.
    pub fill_pct: f64,
    /// Change against the emptiest level, percent.
    pub change_pct: f64,
}

/// Figures against fill level.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FillFound {
    /// From the emptiest to the fullest.
    pub levels: Vec<FillLevel>,
    /// What gets worse, and from where on.
    pub worse_from: Vec<WorseFrom>,
}

/// One point of a ramp.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct RampPoint {
    /// Bytes of one operation, where the ramp goes over them.
    pub block_bytes: Option<u64>,
    /// Operations in flight, where it goes over them.
    pub depth: Option<u32>,
    /// Workers, where it goes over them.
    pub workers: Option<u32>,
    /// Rate, MB/s.
    pub mb_s: Figure,
    /// Operations a second, where the block is known.
    pub iops: Option<f64>,
}

impl RampPoint {
    /// Operations that all workers have in flight.
    fn outstanding(&self) -> u32 {
        self.depth.unwrap_or(1) * self.workers.unwrap_or(1)
    }
}

/// Where a ramp levels off.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Saturation {
    /// Block size along which this is, where the ramp goes over them too.
    pub block_bytes: Option<u64>,
    /// Operations in flight, of all workers, from which on it is within 5 % of its maximum.
    pub outstanding: u32,
    /// Rate there, MB/s.
    pub mb_s: f64,
    /// The maximum, MB/s.
    pub most_mb_s: f64,
}

/// A leg of a ramp over block size, depth or workers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Ramp {
    /// Name of the leg.
    pub leg: String,
    /// What it does.
    pub op: Op,
    /// By block size, then by what is in flight.
    pub points: Vec<RampPoint>,
    /// Where it levels off, for each block size.
    pub saturation: Vec<Saturation>,
}

/// From which block size on reads are faster than writes, or the other way round.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Crossover {
    /// The leg that is faster with larger blocks.
    pub faster: String,
    /// The other.
    pub slower: String,
    /// Operations in flight of each.
    pub outstanding: u32,
    /// Smallest block measured from which on it is faster.
    pub block_bytes: u64,
}

/// What ramps show.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RampFound {
    /// One for each leg.
    pub ramps: Vec<Ramp>,
    /// Where their order changes.
    pub crossovers: Vec<Crossover>,
}

/// How much of a cache came back in a rest.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Regained {
    /// Leg that wrote behind the rest.
    pub leg: String,
    /// Length of the rest, seconds.
    pub rest_s: f64,
    /// Bytes that went into the cache again.
    pub bytes: u64,
    /// Lower bound: one sample less.
    pub low_bytes: u64,
    /// Upper bound: one sample more.
    pub high_bytes: u64,
    /// Share of the cache as it was first found, percent.
    pub share_pct: f64,
}

/// How a cache comes back.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Recovery {
    /// Bytes of the cache as it was first found.
    pub cache_bytes: u64,
    /// By length of the rest.
    pub points: Vec<Regained>,
}

/// A leg with its name taken apart and its breaks.
pub(crate) struct Piece<'a> {
    pub(crate) leg: &'a TraceLeg,
    pub(crate) name: LegName,
    pub(crate) breaks: Vec<Break>,
    pub(crate) stretches: Vec<Stretch>,
    /// The other parts of a leg that was paused or interrupted.
    pub(crate) more: Vec<&'a TraceLeg>,
}

impl Piece<'_> {
    /// Rate of the whole leg while it moved data, MB/s.
    fn mb_s(&self, trace: &Trace) -> Option<f64> {
        let (mut bytes, mut seconds) = (0.0, 0.0);
        for part in std::iter::once(self.leg).chain(self.more.iter().copied()) {
            let (from, to) = (part.samples.start, part.samples.end);
            bytes += (trace.moved(to).0 - trace.moved(from).0) as f64;
            seconds += trace.end(to.checked_sub(1)?).secs() - trace.start(from).secs();
        }
        (seconds > 0.0).then(|| bytes / seconds / 1e6)
    }

    /// The write cache as this leg found it: its first fall, where that is put down to the cache. Nothing where it was written to since the last rest,
    /// as the cache was in part full then.
    pub(crate) fn cache(&self, trace: &Trace) -> Option<Cache> {
        let first = self.breaks.iter().find(|b| b.to_mb_s < b.from_mb_s && self.leg.op == Op::Write)?;
        let begin = self.leg.samples.start;
        let rest = trace.legs().iter().rev().find(|l| l.op == Op::Idle && l.samples.end <= begin);
        let since = trace.totals(begin).0.0 - trace.totals(rest.map_or(0, |l| l.samples.end)).0.0;
        // The cache recovered while the leg stood still.
        if !self.more.is_empty() || since > 0 {
            return None;
        }
        (first.cause == Cause::CacheExhausted).then(|| cache(trace, self.leg, first))
    }
}

/// Groups what belongs together, in the order in which it comes first.
fn grouped<K: PartialEq, T>(items: &[T], key: impl Fn(&T) -> Option<K>) -> Vec<(K, Vec<&T>)> {
    let mut groups: Vec<(K, Vec<&T>)> = Vec::new();
    for item in items {
        let Some(key) = key(item) else { continue };
        match groups.iter_mut().find(|g| g.0 == key) {
            Some(group) => group.1.push(item),
            None => groups.push((key, vec![item])),
        }
    }
    groups
}

/// The rates of pieces, and which repeat each is.
fn rates(pieces: &[&&Piece<'_>], trace: &Trace) -> impl Iterator<Item = (Vec<u32>, f64)> {
    pieces.iter().filter_map(|p| Some((p.name.repeats.clone(), p.mb_s(trace)?)))
}

fn figure(values: impl Iterator<Item = (Vec<u32>, f64)>) -> Option<Figure> {
    let mut nested = Nested::default();
    values.for_each(|(from, value)| nested.push(from, value));
    Figure::of(&nested.independent()).map(Figure::of_amount)
}

/// Figures against fill level; `None` where no legs name two levels.
pub(crate) fn fill(trace: &Trace, pieces: &[Piece<'_>]) -> Option<FillFound> {
    let mut groups = grouped(pieces, |p| {
        p.name.value("fill").filter(|_| p.name.base != PREPARES).map(|f| (f * 1e6).round() as u64)
    });
    if groups.len() < 2 {
        return None;
    }
    groups.sort_by_key(|g| g.0);
    // The leg that shows the cache at the most levels.
    let shows = |base: &str| {
        let at =
            |g: &&(u64, Vec<&Piece<'_>>)| g.1.iter().any(|p| p.name.base == base && p.cache(trace).is_some());
        groups.iter().filter(at).count()
    };
    let bases = grouped(pieces, |p| Some(p.name.base.clone()));
    let own = bases.into_iter().map(|b| b.0).rev().max_by_key(|b| shows(b)).filter(|b| shows(b) > 0);
    let levels: Vec<FillLevel> = groups
        .iter()
        .map(|(level, pieces)| {
            // Those of one leg with its repeats: what another leg found is another thing.
            let caches: Vec<(Vec<u32>, Cache)> = pieces
                .iter()
                .filter(|p| own.as_ref() == Some(&p.name.base))
                .filter_map(|p| Some((p.name.repeats.clone(), p.cache(trace)?)))
                .collect();
            let of =
                |value: fn(&Cache) -> f64| figure(caches.iter().map(|(from, c)| (from.clone(), value(c))));
            let bases = grouped(pieces, |p| Some((p.name.base.clone(), p.leg.op)));
            FillLevel {
                fill_pct: *level as f64 / 1e4,
                cache_bytes: of(|c| c.bytes as f64),
                before_mb_s: of(|c| c.before_mb_s),
                after_mb_s: of(|c| c.after_mb_s),
                figures: bases
                    .into_iter()
                    .filter_map(|((leg, op), repeats)| {
                        let mb_s = figure(rates(&repeats, trace))?;
                        Some(Named { leg, op, mb_s })
                    })
                    .collect(),
            }
        })
        .collect();
    Some(FillFound { worse_from: worse_from(&levels), levels })
}

impl FillFound {
    /// The figure whose mean falls most, by more than [`WORSE`], although that is not shown: its repeats scatter too much, or are too few.
    pub fn open(&self) -> Option<WorseFrom> {
        let shown = |name: &str| self.worse_from.iter().any(|w| w.figure == name);
        let mut all = Vec::new();
        for (name, figures) in series(&self.levels).into_iter().filter(|(name, _)| !shown(name)) {
            let Some(first) = figures.first().copied().flatten() else { continue };
            for (level, now) in self.levels.iter().zip(&figures).skip(1) {
                let Some(now) = now else { continue };
                let change_pct = 100.0 * (now.mean / first.mean - 1.0);
                all.push(WorseFrom { figure: name.clone(), fill_pct: level.fill_pct, change_pct });
            }
        }
        all.retain(|w| w.change_pct < -100.0 * WORSE);
        all.into_iter().min_by(|a, b| a.change_pct.total_cmp(&b.change_pct))
    }
}

/// Each figure against the fill level.
fn series(levels: &[FillLevel]) -> Vec<(String, Vec<Option<Figure>>)> {
    let mut series: Vec<(String, Vec<Option<Figure>>)> = vec![
        ("cache".into(), levels.iter().map(|l| l.cache_bytes).collect()),
        ("before".into(), levels.iter().map(|l| l.before_mb_s).collect()),
        ("after".into(), levels.iter().map(|l| l.after_mb_s).collect()),
    ];
    for named in levels.first().map_or(&[][..], |l| &l.figures) {
        let of = |l: &FillLevel| l.figures.iter().find(|f| f.leg == named.leg).map(|f| f.mb_s);
        series.push((named.leg.clone(), levels.iter().map(of).collect()));
    }
    series
}

/// From which level on each figure is worse than on the emptiest, on that and on all above it.
fn worse_from(levels: &[FillLevel]) -> Vec<WorseFrom> {
    let mut found = Vec::new();
    for (name, figures) in series(levels) {
        let Some(first) = figures.first().copied().flatten() else { continue };
        let worse = |f: &Option<Figure>| f.is_some_and(|f| f.is_worse(&first, WORSE));
        let from = figures.iter().rposition(|f| !worse(f)).map_or(0, |i| i + 1);
        if let Some((level, Some(now))) = levels.get(from).zip(figures.get(from).copied()) {
            let change_pct = 100.0 * (now.mean / first.mean - 1.0);
            found.push(WorseFrom { figure: name, fill_pct: level.fill_pct, change_pct });
        }
    }
    found
}

/// Ramps; `None` where no legs name two points of one.
pub(crate) fn ramps(trace: &Trace, pieces: &[Piece<'_>]) -> Option<RampFound> {
    type Key = (Option<u64>, Option<u32>, Option<u32>);
    let key = |p: &Piece<'_>| -> Option<Key> {
        let block = p.name.value("blocks").or_else(|| p.name.value("block")).map(|b| b as u64);
        let count = |name| p.name.value(name).map(|v| v as u32);
        let key = (block, count("depth"), count("workers"));
        (key != (None, None, None)).then_some(key)
    };
    let mut ramps = Vec::new();
    for ((leg, op), pieces) in grouped(pieces, |p| key(p).map(|_| (p.name.base.clone(), p.leg.op))) {
        let mut points: Vec<RampPoint> = grouped(&pieces, |p| key(p))
            .into_iter()
            .filter_map(|((block_bytes, depth, workers), repeats)| {
                let mb_s = figure(rates(&repeats, trace))?;
                let iops = block_bytes.map(|b| mb_s.mean * 1e6 / b as f64);
                Some(RampPoint { block_bytes, depth, workers, mb_s, iops })
            })
            .collect();
        if points.len() < 2 {
            continue;
        }
        points.sort_by_key(|p| (p.block_bytes, p.outstanding()));
        let saturation = points
            .chunk_by(|a, b| a.block_bytes == b.block_bytes)
            .filter(|line| line.len() > 1)
            .filter_map(|line| {
                let most = line.iter().map(|p| p.mb_s.mean).fold(0.0, f64::max);
                let at = line.iter().find(|p| p.mb_s.mean >= SATURATED * most)?;
                Some(Saturation {
                    block_bytes: at.block_bytes,
                    outstanding: at.outstanding(),
                    mb_s: at.mb_s.mean,
                    most_mb_s: most,
                })
            })
            .collect();
        ramps.push(Ramp { leg, op, points, saturation });
    }
    (!ramps.is_empty()).then(|| RampFound { crossovers: crossovers(&ramps), ramps })
}

/// Where one of two ramps overtakes the other along the block size, and stays ahead.
fn crossovers(ramps: &[Ramp]) -> Vec<Crossover> {
    let mut found = Vec::new();
    for (i, a) in ramps.iter().enumerate() {
        for b in ramps[i + 1..].iter().filter(|b| b.op != a.op) {
            for (outstanding, line) in grouped(&a.points, |p| p.block_bytes.map(|_| p.outstanding())) {
                let mut pairs: Vec<(u64, f64)> = line
                    .iter()
                    .filter_map(|p| {
                        let other = b
                            .points
                            .iter()
                            .find(|q| q.block_bytes == p.block_bytes && q.outstanding() == outstanding)?;
                        Some((p.block_bytes?, p.mb_s.mean - other.mb_s.mean))
                    })
                    .collect();
                pairs.sort_by_key(|p| p.0);
                let Some(&(_, last)) = pairs.last() else { continue };
                // From where on the order is that of the largest block.
                let same = |d: f64| (d > 0.0) == (last > 0.0);
                let Some(at) = pairs.iter().rposition(|p| !same(p.1)) else { continue };
                if let Some(&(block_bytes, _)) = pairs.get(at + 1) {
                    let (faster, slower) = if last > 0.0 { (a, b) } else { (b, a) };
                    found.push(Crossover {
                        faster: faster.leg.clone(),
                        slower: slower.leg.clone(),
                        outstanding,
                        block_bytes,
                    });
                }
            }
        }
    }
    found
}

/// How the cache comes back at rest; `None` where it was never used up and written into again after a rest. Legs of ramps are left
/// out, as they write in other ways, and those of sweeps over fill levels, as what was written is given back between them.
pub(crate) fn recovery(trace: &Trace, pieces: &[Piece<'_>]) -> Option<Recovery> {
    let swept = |p: &Piece<'_>| {
        ["fill", "blocks", "block", "depth", "workers"].iter().any(|s| p.name.value(s).is_some())
    };
    let writes: Vec<&Piece<'_>> = pieces.iter().filter(|p| p.leg.op == Op::Write && !swept(p)).collect();
    let first = writes.iter().position(|p| p.cache(trace).is_some())?;
    let whole = writes[first].cache(trace)?;
    // Whatever is nearer to the rate into the cache than to that behind it, in ratios, went into it.
    let between = (whole.before_mb_s * whole.after_mb_s).sqrt();
    let mut points = Vec::new();
    for pair in writes[first..].windows(2) {
        let (before, after) = (pair[0].leg, pair[1].leg);
        let rest_s = trace.start(after.samples.start).secs() - trace.end(before.samples.end - 1).secs();
        let ended_behind = pair[0].stretches.last().is_some_and(|s| s.mean.mb_s() < between);
        let moved = trace.moved(after.samples.start).0 - trace.moved(before.samples.end).0;
        // Reads in between leave the cache alone; other writes do not, but those would be the leg before.
        let read = trace.totals(after.samples.start).1.0 - trace.totals(before.samples.end).1.0;
        if !ended_behind || rest_s < 1.0 || moved > read {
            continue;
        }
        let fast = fast_samples(trace, after, between);
        // Another kind of write, in smaller blocks or at random, says nothing about this.
        let (looked_at, expected) = match fast {
            0 => (after.samples.clone(), whole.after_mb_s),
            n => (after.samples.start..after.samples.start + n, whole.before_mb_s),
        };
        let alike = |r: f64| (r / expected).ln().abs() < ALIKE.ln();
        if !trace.mean_rate(looked_at).is_some_and(|r| alike(r.mb_s())) {
            continue;
        }
        let at = |i: usize| trace.moved(i.min(after.samples.end)).0 - trace.moved(after.samples.start).0;
        let end = after.samples.start + fast;
        let bytes = at(end);
        points.push(Regained {
            leg: after.name.clone(),
            rest_s,
            bytes,
            low_bytes: at(end.saturating_sub(1).max(after.samples.start)),
            high_bytes: at(end + 1),
            share_pct: 100.0 * bytes as f64 / whole.bytes.max(1) as f64,
        });
    }
    points.sort_by(|a, b| a.rest_s.total_cmp(&b.rest_s));
    (!points.is_empty()).then_some(Recovery { cache_bytes: whole.bytes, points })
}

/// Samples at the start of a leg that are faster than a rate, up to the first three in a row that are not.
fn fast_samples(trace: &Trace, leg: &TraceLeg, than: f64) -> usize {
    let slow = |i: usize| trace.rate.get(i).is_none_or(|r| r < than);
    let range = leg.samples.clone();
    let first_slow = range.clone().find(|&i| (i..range.end.min(i + 3)).all(slow));
    first_slow.map_or(range.len(), |i| i - range.start)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(levels: &[(f64, &[f64])]) -> FillFound {
        let level = |&(fill_pct, values): &(f64, &[f64])| FillLevel {
            fill_pct,
            cache_bytes: None,
            before_mb_s: None,
            after_mb_s: None,
            figures: vec![Named { leg: "write".into(), op: Op::Write, mb_s: Figure::of(values).unwrap() }],
        };
        let levels: Vec<FillLevel> = levels.iter().map(level).collect();
        FillFound { worse_from: worse_from(&levels), levels }
    }

    /// "No figure gets worse by more than a tenth" was said of a mean that fell by 55 %.
    #[test]
    fn a_mean_that_falls_within_the_scatter_of_its_repeats_is_left_open() {
        let scattered = found(&[(3.0, &[3000.0, 2000.0, 1200.0]), (83.0, &[1400.0, 900.0, 480.0])]);
        assert_eq!(scattered.worse_from, []);
        let open = scattered.open().unwrap();
        assert_eq!((open.figure.as_str(), open.fill_pct), ("write", 83.0));
        assert!((open.change_pct - 100.0 * (2780.0 / 6200.0 - 1.0)).abs() < 1e-9, "{open:?}");
        let clear = found(&[(3.0, &[3000.0, 3010.0, 2990.0]), (83.0, &[1400.0, 1410.0, 1390.0])]);
        assert_eq!((clear.worse_from.len(), clear.open()), (1, None));
        let level = found(&[(3.0, &[3000.0, 3010.0, 2990.0]), (83.0, &[2950.0, 2960.0, 2940.0])]);
        assert_eq!((level.worse_from.len(), level.open()), (0, None));
    }
}
