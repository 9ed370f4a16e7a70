//! How long operations take by address, and whether a hollow is slow in all of them or in some.

use super::passes::{Found, cells_of};
use crate::hollow::{Hollow, SlowOperations};
use crate::pyramid::Pyramid;
use crate::stats;
use crate::trace::Trace;

/// Share of the depth of a hollow by which half of its operations have to be slower for all of them to be.
const MOST_OF_IT: f64 = 0.5;

/// Readings of the samples of a pass by cell.
#[derive(Clone, Debug, Default)]
pub(super) struct Readings {
    pub(super) p50_us: Vec<Option<f64>>,
    pub(super) p99_us: Vec<Option<f64>>,
    pub(super) slowest_us: Vec<Option<f64>>,
    pub(super) temp_c: Vec<Option<f64>>,
}

/// Of the samples that a cell was seen by: the mean of their medians and of their temperatures, the largest of their 99th percentiles and the slowest
/// operation. Nothing at all of what was not read in the whole leg.
pub(super) fn readings(trace: &Trace, found: &Found, from: f64, width: f64, cells: usize) -> Readings {
    let samples = trace.legs()[found.leg].samples.clone();
    let of = |column: &Pyramid, is_mean: bool| -> Vec<Option<f64>> {
        if column.extent(samples.start, samples.end).is_none() {
            return Vec::new();
        }
        let mut all: Vec<(f64, f64)> = vec![(0.0, 0.0); cells];
        for span in &found.spans {
            let Some(value) = column.get(span.0) else { continue };
            for cell in &mut all[cells_of(span, from, width, cells)] {
                *cell = if is_mean { (cell.0 + value, cell.1 + 1.0) } else { (cell.0.max(value), 1.0) };
            }
        }
        let hundredths = |x: f64| (100.0 * x).round() / 100.0;
        all.into_iter().map(|(sum, n)| (n > 0.0).then(|| hundredths(sum / n))).collect()
    };
    Readings {
        p50_us: of(&trace.latency.p50, true),
        p99_us: of(&trace.latency.p99, false),
        slowest_us: of(&trace.latency.slowest, false),
        temp_c: of(&trace.temp, true),
    }
}

/// Whether most operations in a hollow take longer or few of them: their medians within it, against those of as many cells on either side. `None` where
/// there are no latencies.
pub(super) fn slow_operations(
    p50_us: &[&[Option<f64>]],
    cells: std::ops::Range<usize>,
    hollow: &Hollow,
) -> Option<SlowOperations> {
    let median = |range: std::ops::Range<usize>| {
        let within = |p: &&[Option<f64>]| {
            let end = range.end.min(p.len());
            p[range.start.min(end)..end].iter().flatten().copied().collect::<Vec<f64>>()
        };
        p50_us.iter().flat_map(within).collect::<Vec<f64>>()
    };
    let margin = cells.len().max(4);
    let mut beside = median(cells.start.saturating_sub(margin)..cells.start);
    beside.extend(median(cells.end..cells.end + margin));
    let inside = stats::median(&mut median(cells))?;
    let slower = (inside / stats::median(&mut beside)?.max(1e-9)).ln();
    let depth = -(1.0 - hollow.depth_pct / 100.0).max(1e-9).ln();
    Some(if slower >= MOST_OF_IT * depth { SlowOperations::Most } else { SlowOperations::Few })
}
