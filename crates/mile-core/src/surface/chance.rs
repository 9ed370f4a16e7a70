//! Whether slow stretches of two passes fall on the same addresses by chance.
//!
//! A host that has no time for a run, a drive that tidies up, and much else hold a pass up for a moment. Where both passes have many such moments, some of them
//! lie at the same addresses. What chance brings together is known from the passes themselves: it is what they show together when the one is moved along the
//! other.

use super::baseline::LEAST_DEPTH;
use super::view::{Slow, View, is_same};
use std::ops::Range;

/// Chance of slow stretches that fall on each other in two passes, from which they are no place: of a hundred scans one may show one.
pub(super) const BY_CHANCE: f64 = 0.01;
/// Share of the depth of a stretch that another pass shows there, from which it shows the same.
const SHOWN: f64 = 0.6;
/// Standard errors that it has to be slow by.
const CLEARLY: f64 = 3.0;
/// Most lengths by which a pass is moved along another.
const MOST_SHIFTS: usize = 500;
/// Zones in a row that moments do not make slow in a pass in mixed order.
const SEVERAL: f64 = 4.0;
/// Share of the lengths at which passes show less together than what is called usual.
const USUAL: f64 = 0.9;

/// How much a brief stretch may differ in its depth from one of another pass that is the same.
pub(super) fn alike(slow: &Slow, other: &View) -> f64 {
    0.05 * slow.depth + 2.0 * other.sigma / (slow.cells.len() as f64).sqrt()
}

/// Whether two stretches are about as long.
pub(super) fn are_as_long(a: &Range<usize>, b: &Range<usize>) -> bool {
    2 * a.len().min(b.len()) >= a.len().max(b.len())
}

/// Chance of as many brief dips of these lengths as there are in the same places of two passes, if they lay anywhere in both. Each falls on one of the
/// other pass that is as deep and about as long with the share of the cells that it covers, so that their number follows the distribution of Poisson.
pub(super) fn by_chance(view: &View, other: &View, lengths: Range<usize>) -> f64 {
    let is_brief = |slow: &&Slow| lengths.contains(&slow.cells.len());
    let mut theirs: Vec<&Slow> = other.slow.iter().collect();
    theirs.sort_by(|a, b| a.depth.total_cmp(&b.depth));
    let (mut expected, mut met) = (0.0, 0_u32);
    for slow in view.slow.iter().filter(is_brief) {
        let (length, by) = (slow.cells.len(), alike(slow, other));
        let below = |limit: f64| theirs.partition_point(|t| t.depth < limit);
        let near = &theirs[below(slow.depth - by)..below(slow.depth + by)];
        let as_deep = near.iter().filter(|t| are_as_long(&t.cells, &slow.cells));
        let (mut here, mut elsewhere) = (false, 0.0);
        for t in as_deep {
            let is_here = is_same(&t.cells, &slow.cells);
            here |= is_here;
            elsewhere += f64::from(u8::from(!is_here));
        }
        expected += elsewhere * length as f64 / view.rate.len() as f64;
        met += u32::from(here);
    }
    // 1 - sum of e^-m m^i / i! below their number; what is asked of is met once at least.
    let (mut term, mut fewer) = ((-expected).exp(), 0.0);
    for i in 0..met.max(1) {
        fewer += term;
        term *= expected / f64::from(i + 1);
    }
    1.0 - fewer
}

/// Whether another pass shows a stretch that is wider than a moment.
pub(super) fn shows(other: &View, slow: &Slow) -> bool {
    shown(other, slow, 0, |_| false).is_some()
}

/// How much of a stretch another pass shows so many cells further on, round the end to the beginning: its length times how deep its cells are on average,
/// and no deeper than it is, without those that `is_taken` names. `None` where it does not show it: where no more than half of them were seen, or lie as deep
/// as they have to.
fn shown(other: &View, slow: &Slow, shift: usize, is_taken: impl Fn(usize) -> bool) -> Option<f64> {
    let least = (SHOWN * slow.depth).max(CLEARLY * other.sigma / (slow.cells.len() as f64).sqrt());
    let (mut seen, mut deep, mut area) = (0, 0, 0.0);
    for cell in slow.cells.clone() {
        let cell = (cell + shift) % other.rate.len();
        let Some(depth) = other.residual(cell).filter(|_| !is_taken(cell)).map(|r| -r) else { continue };
        seen += 1;
        deep += usize::from(depth > least);
        area += depth.clamp(0.0, slow.depth);
    }
    let is_seen = 2 * seen > slow.cells.len();
    (is_seen && 2 * deep > seen).then(|| area * slow.cells.len() as f64 / seen as f64)
}

/// Which slow stretches of a pass, of at least `narrow` cells, another one shows in the same places as chance would with a probability of `most` at the most.
///
/// A permutation test: the one pass is moved along the other, by all lengths or by many of them, and what they show together then, chance has brought
/// together. The k-th strongest of what they show as they are is held against the k-th strongest of each of these, as a multiple of what is usual for
/// it, so that places that are weak do not stand in for chance: moved, one of them may meet another one, but not all of them do. What counts is the largest
/// multiple over all k. Those that are stronger than chance are left out, and the others are tested again (step-down: Westfall and Young,
/// "Resampling-Based Multiple Testing", 1993, §2.6).
///
/// What is slow for a moment ends where a zone ends, as the next one is elsewhere, so that the one pass is moved by whole zones, of `of_zone` cells each.
pub(super) fn beyond_chance(
    view: &View,
    other: &View,
    (narrow, of_zone): (usize, f64),
    most: f64,
) -> Vec<bool> {
    let mut left: Vec<usize> = (0..view.slow.len()).filter(|i| view.slow[*i].cells.len() >= narrow).collect();
    let mut beyond = vec![false; view.slow.len()];
    let mut taken = vec![false; view.rate.len()];
    let all = view.rate.len();
    let zones = (all as f64 / of_zone).round() as usize;
    // An edge may be seen a cell further on.
    let is_apart = |shift: &usize| *shift >= 2 && shift + 2 <= all;
    let shifts = (1..zones).map(|zone| (zone as f64 * of_zone).round() as usize).filter(is_apart);
    // Where another pass shows a stretch of several zones further than this one does, it is the same stretch still.
    let home = |slow: &Slow| -> Vec<Range<usize>> {
        let theirs = other.slow.iter().map(|s| s.cells.clone());
        let is_long = slow.cells.len() as f64 >= SEVERAL * of_zone;
        theirs.filter(|cells| is_long && is_same(cells, &slow.cells)).collect()
    };
    let homes: Vec<Vec<Range<usize>>> = view.slow.iter().map(home).collect();
    let shifts: Vec<usize> = shifts.step_by(zones.div_ceil(MOST_SHIFTS).max(1)).collect();
    loop {
        let together = |shift: usize| {
            let of = |i: &usize| {
                let is_home = |cell: usize| shift > 0 && homes[*i].iter().any(|home| home.contains(&cell));
                Some((shown(other, &view.slow[*i], shift, |cell| taken[cell] || is_home(cell))?, *i))
            };
            let mut all: Vec<(f64, usize)> = left.iter().filter_map(of).collect();
            all.sort_by(|a, b| b.0.total_cmp(&a.0));
            all
        };
        let own = together(0);
        if own.is_empty() {
            return beyond;
        }
        let moved: Vec<Vec<f64>> =
            shifts.iter().map(|shift| together(*shift).into_iter().map(|t| t.0).collect()).collect();
        let kth = |k: usize| moved.iter().map(|all| all.get(k).copied().unwrap_or(0.0)).collect();
        let least = 0.5 * LEAST_DEPTH * narrow as f64;
        let usual: Vec<f64> = (0..own.len()).map(|k| high(kth(k), USUAL).max(least)).collect();
        let multiple =
            |all: &Vec<f64>| all.iter().zip(&usual).map(|(a, usual)| a / usual).fold(0.0, f64::max);
        let by_chance = high(moved.iter().map(multiple).collect(), 1.0 - most);
        let Some(last) = own.iter().zip(&usual).rposition(|(own, usual)| own.0 > by_chance * usual) else {
            return beyond;
        };
        for (_, i) in &own[..=last] {
            beyond[*i] = true;
            let cells = &view.slow[*i].cells;
            let theirs = other.slow.iter().map(|s| &s.cells).filter(|theirs| is_same(theirs, cells));
            theirs.chain([cells]).for_each(|c| taken[c.clone()].fill(true));
        }
        left.retain(|i| !beyond[*i]);
    }
}

/// The value that so large a share of the values does not exceed; 0 where there are none.
fn high(mut values: Vec<f64>, share: f64) -> f64 {
    values.sort_by(f64::total_cmp);
    values.len().checked_sub(1).map_or(0.0, |last| values[(share * last as f64).ceil() as usize])
}
