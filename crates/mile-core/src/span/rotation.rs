//! The period of rotation of a disk, from the latencies of random reads with one operation in flight.
//!
//! Such a read takes `c + a √d + w`: `c` for what does not depend on the place, `a √d` for the way of the arm over a distance `d`, and a wait `w` that is
//! uniform over one rotation `T`. For two addresses drawn independently from a stretch of length `s`, `u = √(d / s)` has the density 4 u (1 - u²), from 0
//! to 1. The controller and the host add a little now and then, which is taken for an exponential of mean `e`; a uniform wait and that have the distribution
//! `G(y) = (y - e (1 - exp(-y / e))) / T` up to `T`, and `1 - e / T (exp(-(y - T) / e) - exp(-y / e))` behind it. That of the latency,
//! `F(x) = ∫ 4 u (1 - u²) G(x - c - a √s u) du`, has no closed form that helps, and is summed. `c`, `a`, `T` and `e` are those of the greatest likelihood
//! of the counts in the bins; a small share of the operations may be anything.

use crate::latencies::Bin;
use serde::{Deserialize, Serialize};

/// `c`, `a`, `T`, and what an operation takes longer now and then: an exponential with this mean. All in µs.
type Law = [f64; 4];

/// Rotations a minute of disks, and well beyond.
const PLAUSIBLE: (f64, f64) = (3_000.0, 20_000.0);
/// Fewest operations.
const LEAST: u64 = 1_000;
/// Share of the operations that may be anything: a retry, an operation of another program.
const ANYTHING: f64 = 0.02;
/// Largest distance of the distribution from the counts for it to be one of a disk.
const WORST: f64 = 0.03;
/// Points at which the way of the arm is summed.
const POINTS: usize = 48;
/// Exponent from which on an exponential is nothing beside 1: `exp(-40)` is 4e-18.
const GONE: f64 = 40.0;
/// By how much of it the period is off where what is added has another distribution than an exponential, such as a log-normal one; found by trial.
const OTHER_TAIL: f64 = 0.15;
/// Half of the 95 % point of χ² with one degree of freedom.
const HALF_CHI: f64 = 1.92;

/// The speed at which a disk turns.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Rotation {
    /// Rotations a minute.
    pub per_min: f64,
    /// Lower bound (95 %).
    pub low: f64,
    /// Upper bound.
    pub high: f64,
}

/// Latencies of reads from one share of the drive.
pub(crate) struct Group<'a> {
    /// The share, 0 to 1.
    pub(crate) share: f64,
    /// Its latencies.
    pub(crate) bins: Vec<&'a [Bin]>,
}

impl Group<'_> {
    fn all(&self) -> impl Iterator<Item = &Bin> {
        self.bins.iter().flat_map(|b| b.iter())
    }
}

/// What fits the latencies best, and whether it fits at all; `None` where there are too few, or they are not those of something that turns.
/// `root_us` is a first guess of what a way over the whole drive takes.
pub(crate) fn rotation(groups: &[Group<'_>], root_us: f64) -> Option<Rotation> {
    let count: u64 = groups.iter().flat_map(Group::all).map(|b| b.count).sum();
    let nearest = groups.iter().min_by(|a, b| a.share.total_cmp(&b.share))?;
    if count < LEAST {
        return None;
    }
    let at = |q: f64| quantile(nearest, q);
    let period = (at(0.95) - at(0.05)) / 0.9;
    let guess = [at(0.03), root_us.max(1.0), period, 0.01 * period];
    let cost = |p: &Law| if p.iter().all(|x| *x > 0.0) { -likelihood(groups, p) } else { f64::INFINITY };
    // Begun anew from where it ended: a simplex may have become too small on its way.
    let first = simplex(guess, [0.1, 0.2, 0.1, 0.5], &cost);
    let best = simplex(first, [0.02, 0.05, 0.02, -0.3], &cost);
    let per_min = 60e6 / best[2];
    if !(PLAUSIBLE.0..PLAUSIBLE.1).contains(&per_min) || worst(groups, &best) > WORST {
        return None;
    }
    // How the likelihood falls off beside it, the others fitted anew: a parabola.
    let off = 0.004;
    let beside = |by: f64| {
        let period = best[2] * (1.0 + by);
        let fixed = |p: &Law| cost(&[p[0], p[1], period, p[3]]) + (p[2] / period - 1.0).powi(2);
        let once = simplex([best[0], best[1], period, best[3]], [0.02, 0.05, 0.001, 0.3], &fixed);
        fixed(&simplex(once, [-0.01, 0.02, 0.001, -0.3], &fixed)) - cost(&best)
    };
    let falls = f64::midpoint(beside(off), beside(-off)).max(1e-9);
    let share = (off * (HALF_CHI / falls).sqrt() + OTHER_TAIL * best[3] / best[2]).min(0.5);
    Some(Rotation { per_min, low: per_min * (1.0 - share), high: per_min * (1.0 + share) })
}

fn quantile(group: &Group<'_>, q: f64) -> f64 {
    let mut bins: Vec<&Bin> = group.all().collect();
    bins.sort_by(|a, b| a.from_us.total_cmp(&b.from_us));
    let whole: u64 = bins.iter().map(|b| b.count).sum();
    let mut sum = 0;
    let found = bins.iter().find(|b| {
        sum += b.count;
        sum as f64 >= q * whole as f64
    });
    found.map_or(0.0, |b| f64::midpoint(b.from_us, b.to_us))
}

/// Share of the operations that take less than `x`. An exponential of less than -[`GONE`] changes no sum with 1 in double precision, and is not worked out.
fn below(x: f64, [fixed, root, period, extra]: &Law, share: f64) -> f64 {
    let way = root * share.sqrt();
    let wait = |y: f64| {
        if y <= 0.0 {
            0.0
        } else if y < *period {
            let late = if y > GONE * extra { -1.0 } else { (-y / extra).exp_m1() };
            (y + extra * late) / period
        } else if y - period > GONE * extra && extra < period {
            1.0
        } else {
            1.0 - extra / period * ((-(y - period) / extra).exp() - (-y / extra).exp())
        }
    };
    let one = |i: usize| {
        let u = (i as f64 + 0.5) / POINTS as f64;
        4.0 * u * (1.0 - u * u) * wait(x - fixed - way * u)
    };
    (0..POINTS).map(one).sum::<f64>() / POINTS as f64
}

/// Latest time that counts as anything: far behind all that the law allows.
fn reach(p: &Law) -> f64 {
    4.0 * (p[0] + p[1] + p[2])
}

fn likelihood(groups: &[Group<'_>], p: &Law) -> f64 {
    let of_one = |group: &Group<'_>| {
        // Most bins begin where the one before them ends.
        let mut edge = (f64::NAN, 0.0);
        let mut of = |b: &Bin| {
            let from = if edge.0 == b.from_us { edge.1 } else { below(b.from_us, p, group.share) };
            edge = (b.to_us, below(b.to_us, p, group.share));
            let anything = (b.to_us - b.from_us) / reach(p);
            b.count as f64 * ((1.0 - ANYTHING) * (edge.1 - from) + ANYTHING * anything).max(1e-300).ln()
        };
        group.all().map(&mut of).sum::<f64>()
    };
    groups.iter().map(of_one).sum()
}

/// Largest distance between the counts and the law, over all shares.
fn worst(groups: &[Group<'_>], p: &Law) -> f64 {
    let mut worst = 0.0_f64;
    for group in groups {
        let mut bins: Vec<&Bin> = group.all().collect();
        bins.sort_by(|a, b| a.to_us.total_cmp(&b.to_us));
        let whole: u64 = bins.iter().map(|b| b.count).sum();
        let mut sum = 0;
        for (i, bin) in bins.iter().enumerate() {
            sum += bin.count;
            if bins.get(i + 1).is_none_or(|next| next.to_us > bin.to_us) {
                let seen = sum as f64 / whole.max(1) as f64;
                worst = worst.max((seen - below(bin.to_us, p, group.share)).abs());
            }
        }
    }
    worst
}

/// Least of a function of four, by the downhill simplex (Nelder and Mead, "A simplex method for function minimization", *Computer Journal* 7, 1965),
/// from `start`, with first steps as shares of it.
fn simplex(start: Law, steps: Law, cost: &impl Fn(&Law) -> f64) -> Law {
    const N: usize = 4;
    let mut points: Vec<(Law, f64)> = vec![(start, cost(&start))];
    for i in 0..start.len() {
        let mut p = start;
        p[i] *= 1.0 + steps[i];
        points.push((p, cost(&p)));
    }
    for _ in 0..400 {
        points.sort_by(|a, b| a.1.total_cmp(&b.1));
        let (best, last) = (points[0], points[N]);
        if (last.1 - best.1).abs() < 1e-7 * (1.0 + best.1.abs()) {
            break;
        }
        let centre: Law = std::array::from_fn(|k| points[..N].iter().map(|p| p.0[k]).sum::<f64>() / N as f64);
        let along = |t: f64| {
            let p: Law = std::array::from_fn(|k| centre[k] + t * (last.0[k] - centre[k]));
            (p, cost(&p))
        };
        let mirrored = along(-1.0);
        points[N] = if mirrored.1 < best.1 {
            let far = along(-2.0);
            if far.1 < mirrored.1 { far } else { mirrored }
        } else if mirrored.1 < points[N - 1].1 {
            mirrored
        } else {
            let near = if mirrored.1 < last.1 { along(-0.5) } else { along(0.5) };
            if near.1 < last.1.min(mirrored.1) {
                near
            } else {
                for own in &mut points[1..] {
                    let p: Law = std::array::from_fn(|k| f64::midpoint(own.0[k], best.0[k]));
                    *own = (p, cost(&p));
                }
                continue;
            }
        };
    }
    points.into_iter().min_by(|a, b| a.1.total_cmp(&b.1)).map_or(start, |p| p.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand_core::{Rng, SeedableRng};
    use rand_xoshiro::Xoshiro256PlusPlus;

    /// Latencies drawn from the law, in bins of 1 %, with two of a hundred that take up to ten times as long.
    fn drawn(n: u64, per_min: f64, share: f64, seed: u64) -> Vec<Bin> {
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed);
        let mut uniform = || (rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64;
        let mut bins = std::collections::BTreeMap::new();
        for i in 0..n {
            let way = (uniform() - uniform()).abs() * share;
            // What the controller adds: half of the operations near 180 µs, half with a log-normal tail.
            let normal = (0..12).map(|_| uniform()).sum::<f64>() - 6.0;
            let extra = 180.0 * ((if normal < 0.0 { 0.12 } else { 0.6 }) * normal).exp();
            let own = 900.0 + extra + 14_000.0 * way.sqrt() + 60e6 / per_min * uniform();
            let us: f64 = if i.is_multiple_of(50) { own * (1.0 + 9.0 * uniform()) } else { own };
            *bins.entry((us.ln() / 1.01_f64.ln()).floor() as i32).or_insert(0) += 1;
        }
        let edge = |k: i32| 1.01_f64.powi(k);
        bins.into_iter().map(|(k, count)| Bin { from_us: edge(k), to_us: edge(k + 1), count }).collect()
    }

    #[test]
    fn the_speed_of_rotation_is_found_to_half_a_percent_and_its_interval_holds_it() {
        let mut inside = 0;
        let mut tries = 0;
        for per_min in [5_400.0, 5_900.0, 7_200.0, 10_000.0, 15_000.0] {
            for seed in 1..4 {
                let all =
                    [0.001, 0.01, 0.05, 0.25].map(|share| (share, drawn(12_000, per_min, share, seed * 77)));
                let groups = all.each_ref().map(|(share, bins)| Group { share: *share, bins: vec![bins] });
                let found = rotation(&groups, 9_000.0).unwrap();
                // What the controller adds blurs a short rotation more.
                let near = if per_min < 8_000.0 { 0.005 } else { 0.01 };
                assert!((found.per_min / per_min - 1.0).abs() < near, "{per_min}, {seed}: {found:?}");
                inside += u32::from(found.low <= per_min && per_min <= found.high);
                tries += 1;
            }
        }
        assert!(inside >= tries - 2, "{inside} of {tries}");
    }

    #[test]
    fn what_does_not_turn_has_no_speed_of_rotation() {
        // Around one latency, as flash has it, and two humps.
        for humps in [&[90.0][..], &[3_000.0, 11_000.0], &[8_000.0]] {
            let bins: Vec<Bin> = humps
                .iter()
                .flat_map(|us| (0..20).map(move |k| (us * (1.0 + 0.004 * f64::from(k)), 400 - 20 * k as u64)))
                .map(|(us, count)| Bin { from_us: us, to_us: us * 1.004, count })
                .collect();
            assert_eq!(rotation(&[Group { share: 0.01, bins: vec![&bins] }], 5_000.0), None, "{humps:?}");
        }
        assert_eq!(
            rotation(&[Group { share: 0.01, bins: vec![&drawn(500, 7_200.0, 0.01, 3)] }], 9_000.0),
            None
        );
    }
}
