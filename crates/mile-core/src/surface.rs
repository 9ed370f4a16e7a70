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
mod chance;
mod columns;
mod latency;
mod map;
mod passes;
pub mod refine;
mod stale;
mod view;

use crate::hollow::Hollow;
use crate::sample::Op;
use crate::stats;
use crate::trace::{Trace, TraceLeg};
use baseline::{LEAST_DEPTH, zones};
use chance::{BY_CHANCE, alike, are_as_long, beyond_chance, by_chance, shows};
pub use map::{Instead, Order, Pass, Passing, RecordingZone, Surface};
pub(crate) use passes::LEAST_SAMPLES;
use passes::{Found, pass};
pub use passes::{is_at_random, is_in_mixed_order};
use std::collections::HashMap;
use std::ops::Range;
use view::{JOIN, Slow, View, is_same, runs};

/// Cells that the grid has at the most, and as many as there are zones, up to [`MOST_ZONES`].
const MOST_CELLS: usize = 4096;
const MOST_ZONES: usize = 100_000;
/// Cells from which a stretch is more than a moment: single slow operations make one cell slow in one pass, and at times two.
const LEAST_CELLS: usize = 3;
/// Half of the visits in a row, or of the cells of a pass in the order of addresses, over which the rate of a pass is followed in time.
const WINDOW: usize = 12;
/// Standard deviations that a stretch of a scan has to be slow by in all its zones and passes together. Noise makes one zone in 300,000 so slow.
const TOGETHER: f64 = 4.5;
/// Share of the rate that was lost that others have to have moved there for it to be theirs.
const OTHERS: f64 = 0.3;
/// Share of the time in which a drive has to count as throttled for a slow stretch to be heat.
const THROTTLED: f64 = 0.3;

/// Neighbouring recording zones of a disk differ by a few percent; a baseline that falls to less than this share of what it was is none of them.
const ZONES_APART: f64 = 0.8;

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
    let mut chances: HashMap<(usize, usize, usize), f64> = HashMap::new();
    // Of three passes any two are enough, so that there are three pairs for chance to choose from; of more, chance has to bring three together.
    let most = if views.len() == 3 { BY_CHANCE / 3.0 } else { BY_CHANCE };
    let lengths = (narrow, if zones > 1 { of_zone } else { 1.0 });
    let beyond: Vec<Vec<Vec<bool>>> = (0..views.len())
        .map(|p| {
            let of = |q: usize| {
                if p == q { Vec::new() } else { beyond_chance(&views[p], &views[q], lengths, most) }
            };
            (0..views.len()).map(of).collect()
        })
        .collect();
    for (p, view) in views.iter().enumerate() {
        for (i, slow) in view.slow.iter().enumerate() {
            if holes.iter().any(|h| is_same(&h.cells, &slow.cells))
                || is_else(p, slow)
                || writes.ended_it(raw, found, slow)
            {
                continue;
            }
            // Those that went there, and those that show it too.
            let went: Vec<usize> = (0..views.len()).filter(|q| views[*q].went(&slow.cells)).collect();
            if slow.cells.len() < narrow {
                for q in went.iter().copied().filter(|q| *q != p) {
                    let length = slow.cells.len();
                    let of = || by_chance(view, &views[q], length.div_ceil(2)..narrow);
                    chances.entry((p, q, length)).or_insert_with(of);
                }
            }
            let same = |q: &usize| {
                let other = &views[*q];
                let depth = other.depth(slow.cells.clone()).unwrap_or(0.0);
                let there = Slow { cells: slow.cells.clone(), depth };
                if *q == p {
                    true
                } else if depth <= 0.0
                    || instead(other, trace, &trace.legs()[found[*q].leg], &there).is_some()
                {
                    false
                } else if slow.cells.len() < narrow {
                    // Moments happen in both passes; they are not equally deep, and do not stand out in both.
                    (depth - slow.depth).abs() < alike(slow, other)
                        && other
                            .slow
                            .iter()
                            .any(|o| is_same(&o.cells, &slow.cells) && are_as_long(&o.cells, &slow.cells))
                        && chances.get(&(p, *q, slow.cells.len())).is_some_and(|chance| *chance <= most)
                } else {
                    // Each of the two, moved along the other, shows more than chance.
                    let there =
                        |o: &(usize, &Slow)| o.1.cells.len() >= narrow && is_same(&o.1.cells, &slow.cells);
                    let mut theirs = other.slow.iter().enumerate().filter(there).peekable();
                    beyond[p][*q][i] && (theirs.peek().is_none() || theirs.any(|(j, _)| beyond[*q][p][j]))
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
            let is_shown = views.iter().enumerate().any(|(q, other)| q != p && shows(other, slow));
            let alone = if is_shown { Instead::Chance } else { Instead::OnePassOnly };
            if let Some(instead) = cause.or((went > 1).then_some(alone)) {
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

fn hundredths(mb_s: f64) -> f64 {
    (mb_s * 100.0).round() / 100.0
}
