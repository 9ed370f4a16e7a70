//! Heat-up and cool-down curves: first-order thermal models fitted to readings in whole degrees.
//!
//! Under constant power each thermal mass comes to its temperature exponentially (Newton's law of cooling), so that a reading goes
//! as T(t) = T∞ + Σ Bᵢ exp(-t / τᵢ), with one term, or with two where die and body heat at different paces. For given time
//! constants that is linear; they are found on a grid. A reading in whole degrees stands still for many samples and then steps: only the
//! step says what the temperature was, the middle of the two readings, at that moment. So the curve is fitted to the steps, and has to
//! end within a step of the last reading. What is uncertain of a step is its time: a sensor that is read every few seconds shows it up to that much
//! later. So each counts with the square of the time it takes for a degree there. The interval of T∞ is that of all time constants whose squared error is within the 95 %
//! quantile of χ² (one degree of freedom) of the least (profile likelihood; Seber and Wild, *Nonlinear Regression*, 1989, §5.3).

/// 95 % quantile of χ² with one degree of freedom.
const CHI2: f64 = 3.841;
/// Least variance of a step, °C²: a sensor that rounds a hundredth off the middle.
const LEAST_VARIANCE: f64 = 1e-4;
/// What the curve may be off the last reading, in steps.
const END: f64 = 0.75;
/// Fewest steps of a degree from which a curve is fitted.
const LEAST_STEPS: usize = 4;
/// Shortest time that is fitted, seconds.
const LEAST_S: f64 = 20.0;
/// Widest interval with which a settling temperature is worth telling, °C.
const WIDEST: f64 = 30.0;
/// A settling temperature is known when its interval reaches no further than this either way, °C.
pub const KNOWN_C: f64 = 2.0;
/// Points that a curve is reduced to.
const POINTS: usize = 400;

/// A fitted curve.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct HeatFit {
    /// The time constant, the slower one where there are two, seconds.
    pub tau_s: f64,
    /// The temperature that it settles at, °C.
    pub settles: f64,
    /// Lower bound of that (95 %).
    pub low: f64,
    /// Upper bound.
    pub high: f64,
    /// Time constants, seconds, and amplitudes, °C, from the first reading on: T(t) = settles + Σ amplitude · exp(-t / τ). A time
    /// constant of 0 stands for none.
    pub terms: [(f64, f64); 2],
}

impl HeatFit {
    /// Whether the settling temperature is known well enough to be told while a run is underway: to 2 °C either way.
    pub fn is_known(&self) -> bool {
        self.high - self.settles <= KNOWN_C && self.settles - self.low <= KNOWN_C
    }
}

/// Fits readings `(seconds, °C)` in the order of time. `None` where they are too few, too short, hardly change, or do not
/// tell where they lead.
pub fn fit(readings: &[(f64, f64)]) -> Option<HeatFit> {
    let (first, last) = (readings.first()?, readings.last()?);
    let length = last.0 - first.0;
    let steps = readings.windows(2).filter(|w| (w[1].1 - w[0].1).abs() > 0.25).count();
    if length < LEAST_S || steps < LEAST_STEPS {
        return None;
    }
    let steps = thinned(&steps_of(readings), first.0);
    let n = steps.len() as f64;
    let step = readings
        .windows(2)
        .map(|w| (w[1].1 - w[0].1).abs())
        .filter(|d| *d > 1e-6)
        .fold(f64::INFINITY, f64::min);
    let end = (length, last.1, END * step.max(0.25));
    // Nothing is known to less than a reading takes.
    let clock = (length / readings.len() as f64).powi(2) / 12.0;
    let mut points = weighed(&steps, clock, |i| slope_about(&steps, i));
    let fast: Vec<Column> = (0..24).map(|i| Column::of(&points, length / 200.0 * 1.2_f64.powi(i))).collect();
    let mut models = Vec::new();
    for _ in 0..2 {
        let one = refined(&points, end, |slow| linear(&points, &[slow], end));
        let two = refined(&points, end, |slow| {
            let near = fast.iter().filter(|f| f.tau < slow.tau / 4.0 && slow.tau < 4.0 * length);
            best_of(near.filter_map(|f| linear(&points, &[f, slow], end)))
        });
        // A second pass knows the slopes better.
        let Some(best) = one.iter().chain(&two).min_by(|a, b| a.error.total_cmp(&b.error)).copied() else {
            break;
        };
        points = weighed(&steps, clock, |i| best.slope(steps[i].0));
        models = vec![(one, 3.0), (two, 5.0)];
    }
    let best = |p: &[Trial]| p.iter().map(|t| t.error).fold(f64::INFINITY, f64::min);
    // The second time constant earns its place by Schwarz's criterion; the errors are in units of what is known at the best.
    let (one, two) = (&models.first()?.0, &models.get(1)?.0);
    let gain = n * ((best(one) / n).max(1.0) / (best(two) / n).max(1.0)).ln();
    let (chosen, parameters) = if gain > 2.0 * n.ln() { (two, 5.0) } else { (one, 3.0) };
    let top = *chosen.iter().min_by(|a, b| a.error.total_cmp(&b.error))?;
    let variance = (top.error / (n - parameters).max(1.0)).max(1.0);
    let quantile = crate::stats::student(n - parameters).powi(2);
    let bound = top.error + quantile * variance;
    // Whether there is a second mass is not known either: what either model leaves open belongs to the interval.
    let within = || one.iter().chain(two).filter(|t| t.error <= bound);
    let wide = |t: &Trial| quantile.sqrt() * t.spread * variance.sqrt();
    let low = within().map(|t| t.settles - wide(t)).fold(f64::INFINITY, f64::min);
    let high = within().map(|t| t.settles + wide(t)).fold(f64::NEG_INFINITY, f64::max);
    // Whether a sensor rounds, or cuts off, nobody tells.
    let (low, high) = (low - 0.5 * step, high + 0.5 * step);
    // A time constant at the end of the grid means that the curve is still a straight line.
    let open = within().any(|t| t.slow > 0.99 * slowest(length));
    (!open && high - low <= WIDEST).then_some(HeatFit {
        tau_s: top.slow,
        settles: top.settles,
        low,
        high,
        terms: top.curve,
    })
}

/// Steps with their weights, one over what is uncertain of each, °C².
fn weighed(steps: &[(f64, f64)], clock: f64, slope: impl Fn(usize) -> f64) -> Vec<Point> {
    let weight = |i: usize| 1.0 / (slope(i).powi(2) * clock + LEAST_VARIANCE);
    steps.iter().enumerate().map(|(i, &(t, y))| (t, y, weight(i))).collect()
}

/// Slope about a step, from its neighbours.
fn slope_about(steps: &[(f64, f64)], i: usize) -> f64 {
    let (a, b) = (steps[i.saturating_sub(2)], steps[(i + 2).min(steps.len() - 1)]);
    (b.1 - a.1) / (b.0 - a.0).max(1e-9)
}

/// Seconds, °C, and weight.
type Point = (f64, f64, f64);

/// Time constants that are tried lie between a fiftieth of the length and twelve times it.
fn slowest(length: f64) -> f64 {
    12.0 * length
}

/// What one pair of time constants comes to.
#[derive(Clone, Copy, Debug)]
struct Trial {
    slow: f64,
    /// Sum of squares, in units of what is uncertain.
    error: f64,
    settles: f64,
    /// Standard deviation of the settling temperature for unit noise.
    spread: f64,
    /// Its time constants and their amplitudes.
    curve: [(f64, f64); 2],
}

impl Trial {
    /// Slope at a time, °C/s.
    fn slope(&self, t: f64) -> f64 {
        self.curve.iter().filter(|c| c.0 > 0.0).map(|(tau, b)| -b / tau * (-t / tau).exp()).sum()
    }
}

/// What is left of an exponential with one time constant at each point: worked out once for all fits in which it takes part.
struct Column {
    tau: f64,
    left: Vec<f64>,
}

impl Column {
    fn of(points: &[Point], tau: f64) -> Self {
        Self { tau, left: points.iter().map(|p| (-p.0 / tau).exp()).collect() }
    }
}

fn best_of(trials: impl Iterator<Item = Trial>) -> Option<Trial> {
    trials.min_by(|a, b| a.error.total_cmp(&b.error))
}

/// The best of each slow time constant, on a grid over all that are tried, and finely around those that fit best.
fn refined(points: &[Point], end: End, best: impl Fn(&Column) -> Option<Trial>) -> Vec<Trial> {
    let profile = |from: f64, to: f64| {
        let count = 60;
        let slow = move |i| from * (to / from).powf(f64::from(i) / f64::from(count));
        (0..=count).filter_map(|i| best(&Column::of(points, slow(i)))).collect::<Vec<_>>()
    };
    let mut all = profile(end.0 / 50.0, slowest(end.0));
    for _ in 0..2 {
        let Some(best) = all.iter().map(|t| t.error).min_by(f64::total_cmp) else { break };
        let bound = best + 4.0 * CHI2 * (best / points.len() as f64).max(1.0);
        let near = || all.iter().filter(|t| t.error <= bound).map(|t| t.slow);
        let (low, high) = (near().fold(f64::INFINITY, f64::min), near().fold(0.0, f64::max));
        all.extend(profile(low / 1.1, (high * 1.1).min(slowest(end.0))));
    }
    all
}

/// Least squares for given time constants, the slowest last: a constant and an exponential for each.
fn linear(points: &[Point], columns: &[&Column], end: End) -> Option<Trial> {
    let k = columns.len() + 1;
    let row = |place: usize| -> [f64; 3] {
        let mut row = [1.0, 0.0, 0.0];
        for (cell, column) in row[1..].iter_mut().zip(columns) {
            *cell = column.left[place];
        }
        row
    };
    let (mut a, mut b) = ([[0.0; 3]; 3], [0.0; 3]);
    for (place, &(_, y, w)) in points.iter().enumerate() {
        let r = row(place);
        for i in 0..k {
            b[i] += w * r[i] * y;
            for j in 0..k {
                a[i][j] += w * r[i] * r[j];
            }
        }
    }
    let solution = solve(a, b, k)?;
    let unit = solve(a, [1.0, 0.0, 0.0], k)?;
    let at = |r: [f64; 3]| (0..k).map(|i| r[i] * solution[i]).sum::<f64>();
    let mut last = [1.0, 0.0, 0.0];
    let mut curve = [(0.0, 0.0); 2];
    for (i, column) in columns.iter().enumerate() {
        last[i + 1] = (-end.0 / column.tau).exp();
        curve[i] = (column.tau, solution[i + 1]);
    }
    // Two masses heat up together, or cool together.
    if columns.len() == 2 && solution[1] * solution[2] < 0.0 || (at(last) - end.1).abs() > end.2 {
        return None;
    }
    let error = points.iter().enumerate().map(|(place, &(_, y, w))| w * (y - at(row(place))).powi(2)).sum();
    let slow = columns.last()?.tau;
    Some(Trial { slow, error, settles: solution[0], spread: unit[0].max(0.0).sqrt(), curve })
}

/// Gaussian elimination with pivots, of up to three unknowns.
fn solve(mut a: [[f64; 3]; 3], mut b: [f64; 3], k: usize) -> Option<[f64; 3]> {
    let size = (0..k).map(|i| a[i][i].abs()).fold(0.0, f64::max).max(1e-300);
    for i in 0..k {
        let pivot = (i..k).max_by(|&x, &y| a[x][i].abs().total_cmp(&a[y][i].abs()))?;
        a.swap(i, pivot);
        b.swap(i, pivot);
        if a[i][i].abs() < 1e-12 * size {
            return None;
        }
        for below in i + 1..k {
            let factor = a[below][i] / a[i][i];
            let (above, under) = a.split_at_mut(below);
            for (cell, top) in under[0][i..k].iter_mut().zip(&above[i][i..k]) {
                *cell -= factor * top;
            }
            b[below] -= factor * b[i];
        }
    }
    let mut x = [0.0; 3];
    for i in (0..k).rev() {
        let rest: f64 = (i + 1..k).map(|j| a[i][j] * x[j]).sum();
        x[i] = (b[i] - rest) / a[i][i];
    }
    Some(x)
}

/// Length, last reading, and how far off it a curve may end.
type End = (f64, f64, f64);

/// The moments at which the reading changed, and the temperature between the two readings.
fn steps_of(readings: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let change = |w: &[(f64, f64)]| ((w[0].0 + w[1].0) / 2.0, (w[0].1 + w[1].1) / 2.0);
    readings.windows(2).filter(|w| (w[1].1 - w[0].1).abs() > 1e-6).map(change).collect()
}

/// Means of equal stretches of time, seconds from the first.
fn thinned(readings: &[(f64, f64)], start: f64) -> Vec<(f64, f64)> {
    let chunk = readings.len().div_ceil(POINTS).max(1);
    readings
        .chunks(chunk)
        .map(|c| {
            let n = c.len() as f64;
            (c.iter().map(|r| r.0).sum::<f64>() / n - start, c.iter().map(|r| r.1).sum::<f64>() / n)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn curve(settles: f64, rise: f64, tau: f64, length: f64, phase: f64) -> Vec<(f64, f64)> {
        let count = (length / 0.5) as usize;
        (0..count)
            .map(|i| {
                let t = i as f64 * 0.5;
                // Read each second, as whole degrees.
                let read = t.floor();
                (t, (settles + phase - rise * (-read / tau).exp()).round())
            })
            .collect()
    }

    #[test]
    fn an_exponential_in_whole_degrees_gives_its_constants_back() {
        for (settles, rise, tau) in
            [(61.0, 35.0, 300.0), (80.0, 50.0, 900.0), (45.0, 12.0, 120.0), (30.0, -25.0, 400.0)]
        {
            for phase in [0.0, 0.3, 0.7] {
                let found = fit(&curve(settles, rise, tau, 2.5 * tau, phase)).unwrap();
                let truth = settles + phase;
                assert!((found.settles - truth).abs() < 1.0, "{settles} {tau}: {found:?}");
                assert!((found.tau_s / tau - 1.0).abs() < 0.25, "{settles} {tau}: {found:?}");
                assert!(found.low <= truth && truth <= found.high, "{truth} {found:?}");
                assert!(found.high - found.low < 6.0, "{found:?}");
            }
        }
    }

    #[test]
    fn a_straight_line_and_a_level_tell_nothing() {
        let line: Vec<(f64, f64)> =
            (0..600).map(|i| (f64::from(i), (30.0 + f64::from(i) * 0.05_f64).round())).collect();
        assert_eq!(fit(&line), None);
        let level: Vec<(f64, f64)> = (0..600).map(|i| (f64::from(i), 42.0)).collect();
        assert_eq!(fit(&level), None);
        assert_eq!(fit(&[]), None);
    }

    #[test]
    fn two_masses_are_told_from_one() {
        let readings: Vec<(f64, f64)> = (0..2000)
            .map(|i| {
                let t = f64::from(i);
                (t, (70.0 - 12.0 * (-t / 15.0).exp() - 25.0 * (-t / 500.0).exp()).round())
            })
            .collect();
        let found = fit(&readings).unwrap();
        assert!((found.settles - 70.0).abs() < 1.0 && (found.tau_s / 500.0 - 1.0).abs() < 0.25, "{found:?}");
    }
}
