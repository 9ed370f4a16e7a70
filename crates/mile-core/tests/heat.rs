//! Where a heat-up leads, told before it is there, against closed forms read by a coarse and slow sensor.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use mile_core::heat::{HeatFit, fit};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// A heat-up drawn at random, read in whole degrees until a share of its rise is done: where it leads, and the fit.
fn heat_up(seed: u64, share: f64, two: bool) -> (f64, Option<HeatFit>) {
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed);
    let mut draw = |a: f64, b: f64| a + (b - a) * ((rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64);
    let (start, rise) = (draw(20.0, 45.0), draw(15.0, 45.0));
    let tau = 60.0 * 25_f64.powf(draw(0.0, 1.0));
    let (every, lag, step) = (draw(0.5, 5.0), draw(0.0, 5.0), draw(0.1, 1.0));
    let (part, fast) = (if two { draw(0.05, 0.3) } else { 0.0 }, tau / draw(8.0, 25.0));
    let up = draw(0.0, 1.0).round() * 0.5;
    let (mut readings, mut sensor, mut read, mut t) = (Vec::new(), start, f64::NEG_INFINITY, 0.0);
    let mut shown = 0.0;
    loop {
        let done = 1.0 - (1.0 - part) * (-t / tau).exp() - part * (-t / fast).exp();
        sensor += (start + rise * done - sensor) * step / (step + lag);
        if t - read >= every {
            (read, shown) = (t, (sensor + up).floor());
        }
        readings.push((t, shown));
        if done >= share {
            return (start + rise, fit(&readings));
        }
        t += step;
    }
}

/// Of 200 heat-ups: share that is told at all, share of those within 1.5 °C, share of those inside the interval.
fn told(share: f64, two: bool) -> (f64, f64, f64) {
    let fits: Vec<(f64, HeatFit)> =
        (0..200).map(|s| heat_up(s, share, two)).filter_map(|(truth, f)| Some((truth, f?))).collect();
    let n = fits.len().max(1) as f64;
    let near = fits.iter().filter(|(truth, f)| (f.settles - truth).abs() <= 1.5).count() as f64 / n;
    let inside = fits.iter().filter(|(truth, f)| f.low <= *truth && *truth <= f.high).count() as f64 / n;
    (fits.len() as f64 / 200.0, near, inside)
}

#[test]
fn three_quarters_of_the_rise_tell_where_one_mass_settles() {
    let (all, near, inside) = told(0.75, false);
    assert!(all >= 0.93 && near >= 0.94 && inside >= 0.93, "{all} {near} {inside}");
}

#[test]
fn near_the_end_of_the_rise_all_are_told_whatever_the_masses() {
    for two in [false, true] {
        let (all, near, inside) = told(0.95, two);
        assert!(all >= 0.99 && near >= 0.99 && inside >= 0.95, "{two}: {all} {near} {inside}");
    }
}

/// Half of a rise leaves much open: what is told then comes with an interval that holds.
#[test]
fn intervals_hold_the_truth_while_much_is_open() {
    for two in [false, true] {
        let (_, _, inside) = told(0.5, two);
        assert!(inside >= 0.88, "{two}: {inside}");
    }
}
