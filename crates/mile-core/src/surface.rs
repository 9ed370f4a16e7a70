//! Where on the drive it is slow: the rate by address over one or several passes, its baseline, and the hollows below that.
//!
//! A pass is a leg that goes over a range of addresses in any order, each address once. All passes of a kind (reads, or writes) are put on one grid of
//! cells. The baseline of a pass may only step down from the front to the back, as the tracks of a disk become shorter; it is flat on flash. It is the
//! isotonic regression that minimises the sum of absolute residuals (pool adjacent violators with medians: Robertson, Wright and Dykstra,
//! "Order Restricted Statistical Inference", 1988, §1.4), fitted again without what lies below it. Cells below the baseline are found by the
//! false discovery rate over all cells (Benjamini and Hochberg, *J. R. Stat. Soc. B* 57, 1995).
//!
//! What one pass shows may be heat, others, or chance. A stretch is confirmed where each pass that went over it shows it; passes in different orders
//! are needed for it to be sure that it goes with the address and not with the time.

mod baseline;
mod latency;
mod passes;
pub mod refine;
mod stale;

use crate::findings::Hollow;
use crate::sample::Op;
use crate::stats;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, number};
use baseline::{baseline, zones};
pub use latency::SlowOperations;
pub use passes::is_at_random;
pub use passes::is_in_mixed_order;
use passes::{Found, cells_of, pass};
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// Cells that the grid has at the most, and as many as there are zones, up to [`MOST_ZONES`].
const MOST_CELLS: usize = 4096;
const MOST_ZONES: usize = 100_000;
/// False discovery rate.
const FALSE_DISCOVERIES: f64 = 0.01;
/// Least depth of a hollow, as a difference of logarithms: 8 %, as for a break.
const LEAST_DEPTH: f64 = 0.083;
/// Cells from which a stretch is more than a moment: single slow operations make one cell slow in one pass, and at times two.
const LEAST_CELLS: usize = 3;
/// Share of the cells of a stretch that are slow.
const SOLID: f64 = 0.7;
/// Share of its depth to which the cells of a hollow are followed at its edges.
const EDGE: f64 = 0.5;
/// Cells between two hollows that are one.
const JOIN: usize = 2;
/// Cells at the baseline, as a sum of what speaks against them, behind which a stretch does not go on.
const AGAINST: f64 = 3.0;
/// Half of the visits in a row, or of the cells of a pass in the order of addresses, over which the rate of a pass is followed in time.
const WINDOW: usize = 12;
/// Share of the shorter one that two stretches of different passes share, when they are the same.
const SAME: f64 = 0.5;
/// Standard deviations that a stretch of a scan has to be slow by in all its zones and passes together. Noise makes one zone in 300,000 so slow.
const TOGETHER: f64 = 4.5;
/// Share of the rate that was lost that others have to have moved there for it to be theirs.
const OTHERS: f64 = 0.3;
/// Share of the time in which a drive has to count as throttled for a slow stretch to be heat.
const THROTTLED: f64 = 0.3;

/// The order in which a pass went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// From low addresses to high ones.
    Forward,
    /// From high ones to low ones.
    Backward,
    /// In another.
    Other,
}

impl Order {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Forward => "forward",
            Self::Backward => "backward",
            Self::Other => "in mixed order",
        }
    }
}

/// Neighbouring recording zones of a disk differ by a few percent; a baseline that falls to less than this share of what it was is none of them.
const ZONES_APART: f64 = 0.8;

/// A pass over the surface.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Pass {
    /// Name of its leg.
    pub leg: String,
    /// What it did.
    pub op: Op,
    /// In which order.
    pub order: Order,
    /// When it began, seconds since the start of the run.
    pub start_s: f64,
    /// When it ended.
    pub end_s: f64,
    /// Rate of each cell, MB/s; `None` where it did not go.
    pub mb_s: Vec<Option<f64>>,
    /// Half of the operations in a cell took no longer, µs; empty where latencies were not read.
    #[serde(default)]
    pub p50_us: Vec<Option<f64>>,
    /// 99 of 100 took no longer, µs: the largest of its samples.
    #[serde(default)]
    pub p99_us: Vec<Option<f64>>,
    /// Slowest operation, µs.
    #[serde(default)]
    pub slowest_us: Vec<Option<f64>>,
    /// Temperature at which a cell was read, °C; empty where it was not read.
    #[serde(default)]
    pub temp_c: Vec<Option<f64>>,
}

/// A stretch of addresses with one baseline.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct RecordingZone {
    /// First byte.
    pub start_byte: u64,
    /// One past the last.
    pub end_byte: u64,
    /// Rate of what is not weak in it, MB/s.
    pub mb_s: f64,
}

/// What makes a slow stretch of one pass no hollow.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Instead {
    /// The drive was throttled.
    Heat,
    /// Others moved data.
    Others,
    /// Another pass, which went there too, did not show it.
    OnePassOnly,
    /// It was slow until it was written anew: the data were old, and the place is not weak.
    StaleData,
}

impl Instead {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Heat => "the drive was throttled there by heat",
            Self::Others => "other I/O on the drive",
            Self::OnePassOnly => "another pass went there and does not show it",
            Self::StaleData => "it held old data, and is as fast as the rest since it was written again",
        }
    }
}

/// A slow stretch that is no hollow.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Passing {
    /// First byte.
    pub start_byte: u64,
    /// One past the last.
    pub end_byte: u64,
    /// The leg that showed it.
    pub leg: String,
    /// How far below the baseline, percent.
    pub depth_pct: f64,
    /// What it is instead.
    pub instead: Instead,
}

/// The surface as a run shows it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Surface {
    /// First byte of the first cell.
    pub start_byte: u64,
    /// Bytes of a cell.
    pub cell_bytes: f64,
    /// The passes, in the order of time.
    pub passes: Vec<Pass>,
    /// Baseline of each cell over all passes, MB/s; `None` where no pass went.
    pub baseline_mb_s: Vec<Option<f64>>,
    /// Stretches with one baseline each: one on flash, those of a disk from the outer tracks to the inner ones.
    pub recording_zones: Vec<RecordingZone>,
    /// Addresses that no pass looked at, from and to.
    pub not_looked_at: Vec<(u64, u64)>,
    /// Slow stretches that are no hollows.
    pub passing: Vec<Passing>,
    /// Noise of a cell as a share of its rate: standard deviation.
    pub noise: f64,
}

impl Surface {
    /// Address of the start of a cell.
    pub fn at(&self, cell: usize) -> u64 {
        self.start_byte + (cell as f64 * self.cell_bytes) as u64
    }

    /// How it was looked at and what its baseline is, in one sentence without its full stop.
    pub fn sentence(&self) -> String {
        let orders: Vec<&str> = self.passes.iter().map(|p| p.order.words()).collect();
        let passes = if orders.len() == 1 { "pass".to_owned() } else { "passes".to_owned() };
        let base = match self.recording_zones.as_slice() {
            [] => "no baseline".to_owned(),
            [one] => format!("the baseline is flat at {} MB/s", number(one.mb_s)),
            [first, .., last] => format!(
                "the baseline goes down from {} to {} MB/s in {} recording zones",
                number(first.mb_s),
                number(last.mb_s),
                self.recording_zones.len()
            ),
        };
        format!(
            "{} {passes} ({}) over {} to {}; {base}; a cell of {} scatters by {:.1} %",
            orders.len(),
            orders.join(", "),
            Bytes(self.start_byte),
            Bytes(self.at(self.baseline_mb_s.len())),
            Bytes(self.cell_bytes as u64),
            100.0 * self.noise
        )
    }

    /// Whether passes went in different orders, so that what goes with the time does not go with the address.
    pub fn has_several_orders(&self) -> bool {
        self.passes.iter().any(|p| p.order != self.passes[0].order)
            || self.passes.iter().filter(|p| p.order == Order::Other).count() > 1
    }
}

/// The surface as a trace shows it, and its hollows in the order of addresses. `None` where no leg goes over a range of addresses.
pub fn surface(trace: &Trace) -> Option<(Surface, Vec<Hollow>)> {
    let (surface, mut hollows) = by_zones(trace)?;
    refine::refined(trace, &surface, &mut hollows);
    Some((surface, hollows))
}

/// As [`surface`], with the edges of hollows as the passes know them, to a zone.
pub fn by_zones(trace: &Trace) -> Option<(Surface, Vec<Hollow>)> {
    // One pass of writes alone is not looked at.
    let writes = trace.legs().iter().filter(|leg| leg.op == Op::Write && !refine::is_refining(leg)).count();
    let found: Vec<Found> = trace
        .legs()
        .iter()
        .enumerate()
        .filter(|(_, leg)| !refine::is_refining(leg) && (leg.op != Op::Write || writes > 1))
        .filter_map(|(i, leg)| pass(trace, i, leg))
        .collect();
    // What is read and what is written are not at one pace: the kind with more passes counts, reads where there are as many.
    let count = |op: Op| found.iter().filter(|f| trace.legs()[f.leg].op == op).count();
    let op = if count(Op::Write) > count(Op::Read) && count(Op::Write) > 1 { Op::Write } else { Op::Read };
    let mut found: Vec<Found> = found.into_iter().filter(|f| trace.legs()[f.leg].op == op).collect();
    passes::join_what_was_put_off(trace, &mut found);
    let from = found.iter().map(|f| f.spans[0].1).min_by(f64::total_cmp)?;
    let to = found.iter().filter_map(|f| f.spans.last()).map(|s| s.2).max_by(f64::total_cmp)?;
    let usual = |f: &Found| {
        let mut lengths: Vec<f64> = f.spans.iter().map(|s| s.2 - s.1).collect();
        stats::median(&mut lengths).unwrap_or(0.0)
    };
    let most = found.iter().map(|f| f.visits).max().unwrap_or(0).clamp(MOST_CELLS, MOST_ZONES);
    let width = found.iter().map(usual).fold(0.0, f64::max).max((to - from) / most as f64);
    if width <= 0.0 || to <= from {
        return None;
    }
    let cells = ((to - from) / width).round().max(1.0) as usize;
    // Addresses are kept to one part in ten million: as many cells as zones where it is nearly that.
    let spans = found.iter().map(|f| f.spans.len()).max().unwrap_or(cells);
    let cells = if spans.abs_diff(cells) * 1000 <= cells { spans } else { cells };
    let width = (to - from) / cells as f64;
    let views: Vec<View> = found.iter().map(|f| View::of(trace, f, from, width, cells)).collect();
    let settled = without_time(&views, &found);
    let writes = stale::Writes { trace, from, width };
    let hollows = judge(&settled, &views, &writes, &found);
    let passing = passing(&views, &hollows, &writes, &found);
    let sigma = views.iter().map(|v| v.sigma).fold(0.0, f64::max);
    let baseline: Vec<Option<f64>> = (0..cells)
        .map(|c| {
            let own: Vec<f64> = views.iter().filter_map(|v| v.rate[c].map(|_| v.baseline[c])).collect();
            stats::mean_sd(&own).map(|(mean, _)| hundredths(mean.exp()))
        })
        .collect();
    let bytes = |cell: f64| ((from + cell * width) * 1e6) as u64;
    let readings: Vec<_> = found.iter().map(|f| latency::readings(trace, f, from, width, cells)).collect();
    let medians: Vec<&[Option<f64>]> = readings.iter().map(|r| r.p50_us.as_slice()).collect();
    let surface = Surface {
        start_byte: bytes(0.0),
        cell_bytes: width * 1e6,
        passes: found
            .iter()
            .zip(&views)
            .zip(&readings)
            .map(|((f, view), read)| {
                let leg = &trace.legs()[f.leg];
                Pass {
                    leg: leg.name.clone(),
                    op: leg.op,
                    order: f.order,
                    start_s: trace.start(leg.samples.start).secs(),
                    end_s: trace.end(leg.samples.end - 1).secs(),
                    mb_s: view.rate.iter().map(|r| r.map(|r| hundredths(r.exp()))).collect(),
                    p50_us: read.p50_us.clone(),
                    p99_us: read.p99_us.clone(),
                    slowest_us: read.slowest_us.clone(),
                    temp_c: read.temp_c.clone(),
                }
            })
            .collect(),
        recording_zones: zones(&baseline, sigma)
            .into_iter()
            .map(|(r, level)| RecordingZone {
                start_byte: bytes(r.start as f64),
                end_byte: bytes(r.end as f64),
                mb_s: level,
            })
            .collect(),
        not_looked_at: runs((0..cells).map(|c| views.iter().all(|v| v.rate[c].is_none() && !v.failed[c])))
            .into_iter()
            .map(|r| (bytes(r.start as f64), bytes(r.end as f64)))
            .collect(),
        baseline_mb_s: baseline,
        passing: passing
            .into_iter()
            .map(|p| Passing {
                start_byte: bytes(p.cells.start as f64),
                end_byte: bytes(p.cells.end as f64),
                leg: trace.legs()[found[p.pass].leg].name.clone(),
                depth_pct: 100.0 * (1.0 - (-p.depth).exp()),
                instead: p.instead,
            })
            .collect(),
        noise: sigma,
    };
    // A write that goes over the addresses in one order only falls where its cache is full; recording zones lie closer to each other than that.
    let one_order = found.iter().all(|f| f.order != Order::Other && f.order == found[0].order);
    let falls = |w: &[RecordingZone]| w[1].mb_s < ZONES_APART * w[0].mb_s;
    if op == Op::Write && one_order && surface.recording_zones.windows(2).any(falls) {
        return None;
    }
    let hollows = hollows
        .into_iter()
        .map(|h| {
            let inside: Vec<f64> = h.cells.clone().filter_map(|c| surface.baseline_mb_s[c]).collect();
            let base = stats::mean_sd(&inside).map_or(0.0, |m| m.0);
            let hollow = Hollow {
                start_byte: bytes(h.cells.start as f64),
                end_byte: bytes(h.cells.end as f64),
                baseline_mb_s: base,
                mean_mb_s: base * (-h.depth).exp(),
                depth_pct: 100.0 * (1.0 - (-h.depth).exp()),
                depth_low_pct: 100.0 * (1.0 - (-h.depth + h.spread).exp()),
                depth_high_pct: 100.0 * (1.0 - (-h.depth - h.spread).exp()),
                edge_bytes: (width * 1e6) as u64,
                passes_seen: h.seen,
                passes: h.passes,
                orders_differ: h.orders_differ,
                slow_operations: None,
            };
            Hollow { slow_operations: latency::slow_operations(&medians, h.cells, &hollow), ..hollow }
        })
        .collect();
    Some((surface, hollows))
}

/// A pass on the grid, in logarithms of rates.
struct View {
    rate: Vec<Option<f64>>,
    /// The sample that a cell was seen by.
    sample: Vec<usize>,
    /// Whether what was read of a cell failed in part, so that it has no rate.
    failed: Vec<bool>,
    baseline: Vec<f64>,
    sigma: f64,
    slow: Vec<Slow>,
}

/// A slow stretch of a pass.
#[derive(Clone, Debug)]
struct Slow {
    cells: Range<usize>,
    depth: f64,
}

impl View {
    fn of(trace: &Trace, found: &Found, from: f64, width: f64, cells: usize) -> Self {
        let mut sums = vec![(0.0, 0.0); cells];
        let mut sample = vec![usize::MAX; cells];
        let mut failed = vec![false; cells];
        for span in &found.spans {
            let i = span.0;
            let bytes = (trace.moved(i + 1).0 - trace.moved(i).0) as f64;
            let seconds = trace.end(i).since(trace.start(i)).secs();
            let fails = trace.failed_in(&(i..i + 1)) > 0;
            for c in cells_of(span, from, width, cells) {
                failed[c] |= fails;
                if fails {
                    // It says how long the drive tried.
                    continue;
                }
                sums[c].0 += bytes;
                sums[c].1 += seconds;
                sample[c] = sample[c].min(i);
            }
        }
        let rate: Vec<Option<f64>> = sums
            .iter()
            .map(|(bytes, seconds)| (*seconds > 0.0 && *bytes > 0.0).then(|| (bytes / seconds / 1e6).ln()))
            .collect();
        Self { failed, ..Self::on(rate, sample) }
    }

    fn on(rate: Vec<Option<f64>>, sample: Vec<usize>) -> Self {
        let (baseline, sigma) = baseline(&rate);
        let mut view =
            Self { failed: vec![false; rate.len()], rate, sample, baseline, sigma, slow: Vec::new() };
        view.slow = view.find();
        view
    }

    /// The cells that were looked at, in the order of time.
    fn in_time(&self) -> Vec<usize> {
        let mut cells: Vec<usize> = (0..self.rate.len()).filter(|c| self.rate[*c].is_some()).collect();
        cells.sort_by_key(|c| self.sample[*c]);
        cells
    }

    /// What was seen in one go, in the order of time: cells that follow each other in time and in address.
    fn visits(&self) -> Vec<Vec<usize>> {
        let cells = self.in_time();
        cells.chunk_by(|a, b| *b == a + 1).map(<[usize]>::to_vec).collect()
    }

    /// This pass without what `slower` gives for cells in the order of time.
    fn without(&self, cells: &[usize], slower: &[f64]) -> Self {
        let mut rate = self.rate.clone();
        for (c, by) in cells.iter().zip(slower) {
            rate[*c] = rate[*c].map(|r| r - by);
        }
        Self { failed: self.failed.clone(), ..Self::on(rate, self.sample.clone()) }
    }

    fn residual(&self, cell: usize) -> Option<f64> {
        Some(self.rate[cell]? - self.baseline[cell])
    }

    /// How far some cells lie below the baseline: their median.
    fn depth(&self, cells: Range<usize>) -> Option<f64> {
        let mut all: Vec<f64> = cells.filter_map(|c| self.residual(c)).collect();
        stats::median(&mut all).map(|m| -m)
    }

    /// Whether this pass went over most of the cells.
    fn went(&self, cells: &Range<usize>) -> bool {
        2 * cells.clone().filter(|c| self.rate[*c].is_some()).count() > cells.len()
    }

    /// Stretches below the baseline, by the false discovery rate over all cells.
    fn find(&self) -> Vec<Slow> {
        let mut chances: Vec<(f64, usize)> =
            (0..self.rate.len()).filter_map(|c| Some((below(self.residual(c)? / self.sigma), c))).collect();
        chances.sort_by(|a, b| a.0.total_cmp(&b.0));
        let all = chances.len() as f64;
        let last =
            (0..chances.len()).rev().find(|&k| chances[k].0 <= FALSE_DISCOVERIES * (k + 1) as f64 / all);
        let mut is_slow = vec![false; self.rate.len()];
        for (_, c) in &chances[..last.map_or(0, |k| k + 1)] {
            is_slow[*c] = self.residual(*c).is_some_and(|r| r <= -LEAST_DEPTH);
        }
        let mut joined: Vec<Range<usize>> = Vec::new();
        for run in runs(is_slow.into_iter()) {
            match joined.last_mut().filter(|l| run.start - l.end <= JOIN) {
                Some(last) => last.end = run.end,
                None => joined.push(run),
            }
        }
        // Pieces of one stretch grow into each other.
        let mut grown: Vec<Range<usize>> = Vec::new();
        for cells in joined.into_iter().map(|run| self.followed(run)) {
            match grown.last_mut().filter(|l| cells.start <= l.end + JOIN) {
                Some(last) => *last = last.start.min(cells.start)..last.end.max(cells.end),
                None => grown.push(cells),
            }
        }
        let slow = grown.into_iter().filter_map(|cells| {
            let depth = self.depth(cells.clone())?;
            let low = cells.clone().filter(|c| self.residual(*c).is_some_and(|r| r < -EDGE * depth)).count();
            let stands_out = depth > 4.0 * self.sigma / (low as f64).sqrt();
            (stands_out && depth >= LEAST_DEPTH && low as f64 >= SOLID * cells.len() as f64)
                .then_some(Slow { cells, depth })
        });
        slow.collect()
    }

    /// A stretch as far as its cells are nearer to its depth than to the baseline. A cell counts for it or against it by how much nearer it is to the one
    /// than to the other, and the edges are where the sum of that is largest: one cell that noise has lifted ends nothing.
    fn followed(&self, run: Range<usize>) -> Range<usize> {
        let mut inside: Vec<f64> = run.clone().filter_map(|c| self.residual(c)).collect();
        let level = stats::median(&mut inside).unwrap_or(0.0).min(-1e-9);
        let gain = |c: usize| self.residual(c).map_or(0.0, |r| (r.abs() - (r - level).abs()) / -level);
        let grow = |cells: &mut dyn Iterator<Item = usize>| {
            let (mut sum, mut best, mut count) = (0.0, 0.0, 0);
            for (k, c) in cells.enumerate() {
                sum += gain(c);
                if sum > best {
                    (best, count) = (sum, k + 1);
                } else if sum < best - AGAINST {
                    break;
                }
            }
            count
        };
        let mut a = run.start - grow(&mut (0..run.start).rev());
        let mut b = run.end + grow(&mut (run.end..self.rate.len()));
        let low = |c: usize| gain(c) > 0.0;
        while a + 1 < b && !low(a) {
            a += 1;
        }
        while b > a + 1 && !low(b - 1) {
            b -= 1;
        }
        a..b
    }
}

/// The passes without what goes with the time. In a pass in a random order neighbours in time are no neighbours in address, so that a running median over
/// time is heat and others, and what is left is the surface. Held against that, a pass in the order of addresses shows where it was slower for a time;
/// it is never made slower by it. Without a pass in a random order nothing can be told apart, and all stay as they are.
fn without_time(views: &[View], found: &[Found]) -> Vec<View> {
    let is_mixed = |q: usize| found[q].order == Order::Other;
    let mixed: Vec<Option<View>> = views
        .iter()
        .enumerate()
        .map(|(q, view)| {
            is_mixed(q).then(|| {
                // Within a visit neighbours in time are neighbours in address after all.
                let visits = view.visits();
                let level = |cells: &Vec<usize>| {
                    let mut own: Vec<f64> = cells.iter().filter_map(|c| view.residual(*c)).collect();
                    stats::median(&mut own).unwrap_or(0.0)
                };
                let levels: Vec<f64> = visits.iter().map(level).collect();
                let slower = stats::running_median(&levels, WINDOW.min(levels.len().saturating_sub(1) / 2));
                let by: Vec<f64> =
                    visits.iter().zip(slower).flat_map(|(cells, by)| vec![by; cells.len()]).collect();
                view.without(&visits.concat(), &by)
            })
        })
        .collect();
    let cells = views[0].rate.len();
    let surface: Vec<Option<f64>> = (0..cells)
        .map(|c| {
            let own: Vec<f64> = mixed.iter().flatten().filter_map(|v| v.rate[c]).collect();
            stats::mean_sd(&own).map(|m| m.0)
        })
        .collect();
    let settle = |(view, mixed): (&View, Option<View>)| {
        mixed.unwrap_or_else(|| {
            let cells: Vec<usize> = view.in_time().into_iter().filter(|c| surface[*c].is_some()).collect();
            let mut apart: Vec<f64> =
                cells.iter().filter_map(|c| Some(view.rate[*c]? - surface[*c]?)).collect();
            let level = stats::median(&mut apart.clone()).unwrap_or(0.0);
            apart.iter_mut().for_each(|d| *d -= level);
            let slower: Vec<f64> =
                stats::running_median(&apart, WINDOW).into_iter().map(|d| d.min(0.0)).collect();
            view.without(&cells, &slower)
        })
    };
    views.iter().zip(mixed).map(settle).collect()
}

/// A hollow on the grid.
struct Hole {
    cells: Range<usize>,
    depth: f64,
    /// Half of the interval of its depth (95 %).
    spread: f64,
    seen: u32,
    passes: u32,
    orders_differ: bool,
}

/// A slow stretch of one pass that is none.
struct Gone {
    cells: Range<usize>,
    pass: usize,
    depth: f64,
    instead: Instead,
}

/// Holds the slow stretches of the passes against each other.
fn judge(views: &[View], raw: &[View], writes: &stale::Writes<'_>, found: &[Found]) -> Vec<Hole> {
    let trace = writes.trace;
    let mut holes: Vec<Hole> = Vec::new();
    // Where nothing could be told apart by the order, what was logged has to tell.
    let is_apart = found.iter().any(|f| f.order == Order::Other);
    // What is narrower than the zones of a scan was seen for less time than a moment may last.
    let zones = found.iter().map(|f| f.visits).max().unwrap_or(1);
    let of_zone = views[0].rate.len() as f64 / zones as f64;
    let narrow = LEAST_CELLS.max(if zones > 1 { of_zone as usize } else { 0 });
    let is_else = |q: usize, slow: &Slow| {
        !is_apart && instead(&views[q], trace, &trace.legs()[found[q].leg], slow).is_some()
    };
    for (p, view) in views.iter().enumerate() {
        for slow in &view.slow {
            if holes.iter().any(|h| is_same(&h.cells, &slow.cells))
                || is_else(p, slow)
                || writes.ended_it(raw, found, slow)
            {
                continue;
            }
            // Those that went there, and those that show it too.
            let went: Vec<usize> = (0..views.len()).filter(|q| views[*q].went(&slow.cells)).collect();
            let same = |q: &usize| {
                let other = &views[*q];
                let depth = other.depth(slow.cells.clone()).unwrap_or(0.0);
                let n = (slow.cells.len() as f64).sqrt();
                let alike = Slow { cells: slow.cells.clone(), depth };
                if *q == p {
                    true
                } else if depth <= 0.0
                    || instead(other, trace, &trace.legs()[found[*q].leg], &alike).is_some()
                {
                    false
                } else if slow.cells.len() < narrow {
                    // Moments happen in both passes; they are not equally deep, and do not stand out in both.
                    (depth - slow.depth).abs() < 0.05 * slow.depth + 2.0 * other.sigma / n
                        && other.slow.iter().any(|o| is_same(&o.cells, &slow.cells))
                } else {
                    depth > 0.6 * slow.depth && depth > 3.0 * other.sigma / n
                }
            };
            let seen: Vec<usize> = went.iter().copied().filter(same).collect();
            // The cells of one zone were read within a moment, so that noise that lasts makes all of them slow: a zone counts as one.
            let deviations = |q: &usize| views[*q].depth(slow.cells.clone()).unwrap_or(0.0) / views[*q].sigma;
            let whole = (slow.cells.len() as f64 / of_zone).max(1.0);
            let together =
                seen.iter().map(deviations).sum::<f64>() * (whole / seen.len().max(1) as f64).sqrt();
            if zones > 1 && together < TOGETHER {
                continue;
            }
            let is_alone = went.len() == 1 && slow.cells.len() >= LEAST_CELLS;
            // Seen by more than half of the passes, and by two where there are two.
            if is_alone || went.len() > 1 && 2 * seen.len() > went.len() {
                let hole = hole(views, found, slow, &seen, went.len());
                // Deep in one pass and hardly there in another is no place.
                if hole.depth < LEAST_DEPTH {
                    continue;
                }
                // Passes may end a stretch at other places, so that parts of it grow into each other: it is one, as far as it goes.
                match holes.iter_mut().find(|h| is_same(&h.cells, &hole.cells)) {
                    Some(known) if known.cells.len() < hole.cells.len() => *known = hole,
                    Some(_) => {}
                    None => holes.push(hole),
                }
            }
        }
    }
    holes.sort_by_key(|h| h.cells.start);
    holes
}

/// Slow stretches of single passes that are no hollows.
fn passing(views: &[View], holes: &[Hole], writes: &stale::Writes<'_>, found: &[Found]) -> Vec<Gone> {
    let trace = writes.trace;
    let mut gone = Vec::new();
    for (p, view) in views.iter().enumerate() {
        let own = view.slow.iter().filter(|s| s.cells.len() >= LEAST_CELLS);
        for slow in own.filter(|s| !holes.iter().any(|h| is_same(&h.cells, &s.cells))) {
            let went = views.iter().filter(|v| v.went(&slow.cells)).count();
            let stale = writes.ended_it(views, found, slow).then_some(Instead::StaleData);
            let cause = stale.or_else(|| instead(view, trace, &trace.legs()[found[p].leg], slow));
            if let Some(instead) = cause.or((went > 1).then_some(Instead::OnePassOnly)) {
                gone.push(Gone { cells: slow.cells.clone(), pass: p, depth: slow.depth, instead });
            }
        }
    }
    gone.sort_by_key(|g| g.cells.start);
    gone
}

/// The edges and the depth of a hollow, from the mean of the passes that show it.
fn hole(views: &[View], found: &[Found], slow: &Slow, seen: &[usize], passes: usize) -> Hole {
    let first = &views[seen[0]];
    let all = first.rate.len();
    let residual = |c: usize| {
        let own: Vec<f64> = seen.iter().filter_map(|q| views[*q].residual(c)).collect();
        stats::mean_sd(&own).map(|(mean, _)| mean)
    };
    // A margin of its own width on both sides is enough to look for its edges in.
    let margin = slow.cells.len() + JOIN;
    let window = slow.cells.start.saturating_sub(margin)..(slow.cells.end + margin).min(all);
    let shift = window.start;
    let mean = View {
        rate: window.clone().map(residual).collect(),
        failed: Vec::new(),
        sample: Vec::new(),
        baseline: vec![0.0; window.len()],
        sigma: first.sigma,
        slow: Vec::new(),
    };
    let inside = mean.followed(slow.cells.start - shift..slow.cells.end - shift);
    let cells = inside.start + shift..inside.end + shift;
    // Cells at its edges may be slow in part only.
    let core = if inside.len() > 4 { inside.start + 1..inside.end - 1 } else { inside.clone() };
    let values: Vec<f64> = core.filter_map(|c| mean.rate[c]).collect();
    let (depth, sd) = stats::mean_sd(&values).unwrap_or((-slow.depth, 0.0));
    let sigma = sd.max(first.sigma / (seen.len() as f64).sqrt());
    Hole {
        cells,
        depth: -depth,
        spread: 1.96 * sigma / (values.len().max(1) as f64).sqrt(),
        seen: seen.len() as u32,
        passes: passes as u32,
        orders_differ: seen.iter().any(|q| found[*q].order != found[seen[0]].order)
            || seen.iter().filter(|q| found[**q].order == Order::Other).count() > 1,
    }
}

fn is_same(a: &Range<usize>, b: &Range<usize>) -> bool {
    let common = a.end.min(b.end).saturating_sub(a.start.max(b.start));
    common as f64 >= SAME * a.len().min(b.len()) as f64 && common > 0
}

/// What else was going on while a stretch was slow.
fn instead(view: &View, trace: &Trace, leg: &TraceLeg, slow: &Slow) -> Option<Instead> {
    let own: Vec<usize> =
        slow.cells.clone().filter(|c| view.rate[*c].is_some()).map(|c| view.sample[c]).collect();
    let (mut foreign, mut seconds, mut ticks) = (0.0, 0.0, 0.0);
    for &i in &own {
        foreign += trace.foreign.get(i).unwrap_or(0.0);
        seconds += trace.end(i).since(trace.start(i)).secs();
        if let (Some(a), Some(b)) = (trace.throttled(i.saturating_sub(1)), trace.throttled(i)) {
            ticks += (b.light_s - a.light_s) + (b.heavy_s - a.heavy_s);
        }
    }
    let n = own.len().max(1) as f64;
    let usual = trace.foreign.extent(leg.samples.start, leg.samples.end).map_or(0.0, |e| e.mean);
    let rate = slow.cells.clone().map(|c| view.baseline[c].exp()).sum::<f64>() / slow.cells.len() as f64;
    let lost = rate * (1.0 - (-slow.depth).exp());
    if foreign / n - usual > OTHERS * lost {
        return Some(Instead::Others);
    }
    (seconds > 0.0 && ticks > THROTTLED * seconds).then_some(Instead::Heat)
}

/// Chance of a normal value at or below `z`, for z below 0; Abramowitz and Stegun, "Handbook of Mathematical Functions", 1964, 26.2.17 and, far out,
/// 26.2.12. 1 for values above 0.
fn below(z: f64) -> f64 {
    if z >= 0.0 {
        return 1.0;
    }
    let x = -z;
    let density = (-0.5 * x * x).exp() / std::f64::consts::TAU.sqrt();
    if x > 6.0 {
        return density / x * (1.0 - 1.0 / (x * x));
    }
    let t = 1.0 / (1.0 + 0.231_641_9 * x);
    let poly = t
        * (0.319_381_53
            + t * (-0.356_563_782 + t * (1.781_477_937 + t * (-1.821_255_978 + t * 1.330_274_429))));
    density * poly
}

fn hundredths(mb_s: f64) -> f64 {
    (mb_s * 100.0).round() / 100.0
}

/// Runs of cells for which something holds.
fn runs(cells: impl Iterator<Item = bool>) -> Vec<Range<usize>> {
    let mut all: Vec<Range<usize>> = Vec::new();
    for (c, holds) in cells.enumerate() {
        match all.last_mut().filter(|r| r.end == c) {
            Some(last) if holds => last.end = c + 1,
            _ if holds => all.push(c..c + 1),
            _ => {}
        }
    }
    all
}
