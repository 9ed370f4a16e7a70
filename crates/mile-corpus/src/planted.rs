//! Differences that are planted in simulated drives: what a comparison of their runs says of them.
//!
//! A small drive is written until its cache is full and on, run by run. From run to run its flash is a little faster or slower, its cache a little larger or
//! smaller, and it is mounted a little better or worse, as on a bench. Side b differs from side a by what is planted. What the difference of a figure is in
//! truth is the difference of the means of many runs of either side, which are no part of the comparisons.

use crate::bench::{Ran, ran};
use mile_core::compare::{Compared, Member, Side, Terms, compare};
use mile_core::legs::{FigureName, LegRow, leg_rows};
use mile_core::stages::LaneTrace;
use mile_core::{Trace, findings};
use mile_sim::SimDrive;
use mile_sim::model::Model;
use rand::SeedableRng;
use rand_distr::{Distribution, Normal};
use rand_xoshiro::Xoshiro256PlusPlus;

/// What side b is against side a.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Planted {
    /// Factor of the rates.
    pub rate: f64,
    /// Factor of the size of the cache.
    pub cache: f64,
    /// Factor of the resistance between the drive and the air.
    pub resistance: f64,
}

/// No difference.
pub const NOTHING: Planted = Planted { rate: 1.0, cache: 1.0, resistance: 1.0 };
/// 1 % faster, with 8 % less cache, and about 4.5 K cooler in the mean.
pub const ALL: Planted = Planted { rate: 1.01, cache: 0.92, resistance: 0.69 };

/// How much runs differ among each other, as shares: rate, cache, resistance.
const FROM_RUN_TO_RUN: [f64; 3] = [0.004, 0.015, 0.02];
const COURSE: &str = "course \"planted\"\nsample every 250 ms\n\nleg write\n  write sequential, blocks 1 MiB, depth 8\n  until 36 GB written\n\nleg read\n  read sequential, blocks 1 MiB, depth 8\n  until 8 GB read\n";

/// The legs of one run.
///
/// # Errors
/// Where the drive or the course cannot be made.
fn rows(is: Planted, seed: u64) -> Result<Vec<LegRow>, String> {
    let mut dice = Xoshiro256PlusPlus::seed_from_u64(seed);
    let mut about = |value: f64, share: f64| match Normal::new(value, value * share) {
        Ok(normal) => normal.sample(&mut dice),
        Err(_) => value,
    };
    let [rate, cache, resistance] = FROM_RUN_TO_RUN;
    let rate = about(is.rate, rate);
    let text = format!(
        "extends = \"merrow-k2\"\n[geometry]\ncapacity_bytes = 64000000000\n[flash]\ncache_static_gb = {}\ncache_dynamic_share = 0.0\ncache_mb_s = {}\ndirect_mb_s = {}\nread_mb_s = {}\n[thermal]\nbody_to_ambient_k_per_w = {}\ndie_j_per_k = 1.0\nbody_j_per_k = 5.0\n",
        about(12.0 * is.cache, cache),
        2000.0 * rate,
        800.0 * rate,
        2500.0 * rate,
        about(5.0 * is.resistance, resistance),
    );
    let mut drive = SimDrive::of("sim:planted", Model::read(&text)?, seed);
    let Ran { samples, head, .. } = ran(&mut drive, COURSE, seed)?;
    let (trace, context) = (Trace::of(&samples, &head.first().leg_names()), head.first().context());
    let found = findings(&trace, &context);
    let lane = LaneTrace { name: "", trace: &trace, context: &context, series: &[], number: 0 };
    Ok(leg_rows(&lane, &found.legs))
}

/// A side of `n` runs.
fn side(name: &str, is: Planted, n: u64, seed: u64) -> Result<Side, String> {
    let member = |i: u64| -> Result<Member, String> {
        Ok(Member { name: format!("{name} {i}"), rows: rows(is, seed * 1000 + i)?, ..Member::default() })
    };
    let members = (0..n).map(member).collect::<Result<_, _>>()?;
    Ok(Side { name: name.into(), members, ..Side::default() })
}

/// Figures of legs, each with a value.
type Figures = Vec<((String, FigureName), f64)>;

/// Means of the figures of a side over many runs.
fn truth(is: Planted, runs: u64, first: u64) -> Result<Figures, String> {
    let mut all: Vec<((String, FigureName), f64, u64)> = Vec::new();
    for i in 0..runs {
        for row in rows(is, first + i)? {
            for (name, value) in row.figures(None) {
                let key = (row.leg.clone(), name);
                match all.iter_mut().find(|k| k.0 == key) {
                    Some(known) => (known.1, known.2) = (known.1 + value, known.2 + 1),
                    None => all.push((key, value, 1)),
                }
            }
        }
    }
    Ok(all.into_iter().map(|(key, sum, n)| (key, sum / n as f64)).collect())
}

/// What comparisons of one size said.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct PlantedScore {
    /// Comparisons without a difference, and those that established one.
    pub nothing: (usize, usize),
    /// Intervals of comparisons with differences, and those that hold the truth: of all figures.
    pub intervals: (usize, usize),
    /// For each figure with a planted difference: how often it is established, of how many.
    pub found: Vec<(String, usize, usize)>,
}

/// Compares sides of `n` runs each for these seeds, 1 and up, without a difference and with [`ALL`]. `runs_for_truth` of either side tell what a difference is
/// in truth; with 1,500 they are known twenty times as well as the difference of five runs.
///
/// # Errors
/// Where a drive or the course cannot be made.
pub fn planted(
    n: u64,
    seeds: std::ops::RangeInclusive<u64>,
    runs_for_truth: u64,
) -> Result<PlantedScore, String> {
    let (a, b) = (truth(NOTHING, runs_for_truth, 1 << 40)?, truth(ALL, runs_for_truth, 1 << 41)?);
    let true_of = |f: &Compared| {
        let of =
            |all: &Figures| all.iter().find(|((leg, name), _)| *leg == f.leg && *name == f.name).map(|k| k.1);
        of(&b).zip(of(&a)).map(|(b, a)| b - a)
    };
    let mut score = PlantedScore::default();
    for seed in seeds {
        let usual = side("a", NOTHING, n, 4 * seed)?;
        let none = compare(&[usual.clone(), side("b", NOTHING, n, 4 * seed + 1)?], &Terms::default());
        score.nothing.0 += 1;
        score.nothing.1 += usize::from(none.is_some_and(|c| c.figures.iter().any(|f| f.established)));
        let Some(differ) = compare(&[usual, side("b", ALL, n, 4 * seed + 2)?], &Terms::default()) else {
            continue;
        };
        for f in &differ.figures {
            if let Some(((low, high), truth)) = f.difference_low.zip(f.difference_high).zip(true_of(f)) {
                score.intervals.0 += 1;
                score.intervals.1 += usize::from((low..=high).contains(&truth));
            }
            let is_planted =
                matches!(f.name.figure.as_str(), "rate" | "cache" | "mean temperature" | "peak temperature");
            if is_planted {
                let what = format!("{} of {}", f.name.figure, f.leg);
                let place = score.found.iter().position(|k| k.0 == what).unwrap_or_else(|| {
                    score.found.push((what, 0, 0));
                    score.found.len() - 1
                });
                let of_it = &mut score.found[place];
                (of_it.1, of_it.2) = (of_it.1 + usize::from(f.established), of_it.2 + 1);
            }
        }
    }
    Ok(score)
}
