//! What a column of a picture shows of the cells that it stands for.

use super::map::{Pass, Surface};
use std::ops::Range;

/// Values of which a median is taken for a picture: enough for it, and few enough to be sorted for each.
const SOME: usize = 2048;

/// The part of `values` that `cells` names, as far as there are any.
fn part<T>(values: &[T], cells: Range<usize>) -> &[T] {
    let end = cells.end.min(values.len());
    &values[cells.start.min(end)..end]
}

/// Mean of what is known.
fn mean(values: &[Option<f64>]) -> Option<f64> {
    let (mut sum, mut n) = (0.0, 0_usize);
    for value in values.iter().flatten() {
        sum += value;
        n += 1;
    }
    (n > 0).then(|| sum / n as f64)
}

/// The largest of the values of some cells.
fn largest(values: &[Option<f64>], cells: Range<usize>) -> Option<f64> {
    part(values, cells).iter().flatten().copied().reduce(f64::max)
}

impl Surface {
    /// The fastest cell of the baseline, MB/s; 0 where there is none.
    pub fn fastest(&self) -> f64 {
        largest(&self.baseline_mb_s, 0..self.baseline_mb_s.len()).unwrap_or(0.0)
    }

    /// Mean rate of some cells, MB/s: of each the mean over the passes that went there.
    pub fn rate_over(&self, cells: Range<usize>) -> Option<f64> {
        let (mut sum, mut n) = (0.0, 0_usize);
        for cell in cells {
            let (mut own, mut passes) = (0.0, 0_usize);
            for rate in self.passes.iter().filter_map(|p| *p.mb_s.get(cell)?) {
                own += rate;
                passes += 1;
            }
            if passes > 0 {
                sum += own / passes as f64;
                n += 1;
            }
        }
        (n > 0).then(|| sum / n as f64)
    }

    /// Mean baseline of some cells, MB/s.
    pub fn baseline_over(&self, cells: Range<usize>) -> Option<f64> {
        mean(part(&self.baseline_mb_s, cells))
    }

    /// How far a pass lies below the baseline in the deepest of some cells, as a share of it, so that a narrow hollow is not lost in a wide column. `None`
    /// where it went to none of them.
    pub fn deepest(&self, pass: usize, cells: Range<usize>) -> Option<f64> {
        let rates = part(&self.passes.get(pass)?.mb_s, cells.clone());
        let both = rates.iter().zip(part(&self.baseline_mb_s, cells));
        both.filter_map(|(rate, base)| Some(1.0 - (*rate)? / (*base)?)).reduce(f64::max)
    }

    /// The largest value of a reading in some cells, over all passes.
    pub fn largest(&self, of: fn(&Pass) -> &[Option<f64>], cells: Range<usize>) -> Option<f64> {
        self.passes.iter().filter_map(|p| largest(of(p), cells.clone())).reduce(f64::max)
    }

    /// Some values of a reading over all passes, in ascending order: for its lowest, its middle and its highest.
    pub fn some_of(&self, of: fn(&Pass) -> &[Option<f64>]) -> Vec<f64> {
        let step = self.baseline_mb_s.len().div_ceil(SOME).max(1);
        let mut all: Vec<f64> =
            self.passes.iter().flat_map(|p| of(p).iter().step_by(step)).flatten().copied().collect();
        all.sort_by(f64::total_cmp);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::super::map::Order;
    use super::*;
    use crate::Op;

    fn pass(mb_s: &[Option<f64>]) -> Pass {
        Pass {
            leg: "scan".into(),
            op: Op::Read,
            order: Order::Forward,
            start_s: 0.0,
            end_s: 1.0,
            mb_s: mb_s.to_vec(),
            p50_us: Vec::new(),
            p99_us: Vec::new(),
            slowest_us: Vec::new(),
            temp_c: mb_s.iter().map(|v| v.map(|v| v / 10.0)).collect(),
        }
    }

    /// By hand: two passes over six cells, of which the second left out three.
    #[test]
    fn a_column_shows_its_cells() {
        let surface = Surface {
            passes: vec![
                pass(&[Some(100.0), Some(80.0), Some(120.0), None, Some(50.0), Some(100.0)]),
                pass(&[Some(200.0), None, Some(100.0), None, None, Some(60.0)]),
            ],
            baseline_mb_s: vec![Some(100.0), Some(100.0), Some(110.0), None, Some(100.0), Some(100.0)],
            ..Surface::default()
        };
        assert_eq!(surface.fastest(), 110.0);
        // (150 + 80 + 110) / 3, where the fourth is not known.
        assert!((surface.rate_over(0..4).unwrap() - 340.0 / 3.0).abs() < 1e-9);
        assert_eq!((surface.rate_over(3..4), surface.baseline_over(3..4)), (None, None));
        assert!((surface.baseline_over(1..4).unwrap() - 105.0).abs() < 1e-9);
        assert!((surface.deepest(0, 0..6).unwrap() - 0.5).abs() < 1e-9);
        assert!((surface.deepest(1, 0..6).unwrap() - 0.4).abs() < 1e-9);
        assert_eq!((surface.deepest(1, 3..5), surface.deepest(2, 0..6)), (None, None));
        assert_eq!(surface.largest(|p| &p.temp_c, 1..3), Some(12.0));
        assert_eq!(surface.some_of(|p| &p.temp_c), [5.0, 6.0, 8.0, 10.0, 10.0, 10.0, 12.0, 20.0]);
        // Beyond the last cell there is nothing.
        assert_eq!(
            (surface.rate_over(6..9), surface.deepest(0, 6..9), surface.baseline_over(7..9)),
            (None, None, None)
        );
    }
}
