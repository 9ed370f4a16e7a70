//! Segments series of numbers by level, one a line on standard input, for `scripts/compare-segmentation`: the least length and the penalty are
//! arguments; a line of ends and the cost comes out for each, and the seconds that all took at the end.
#![allow(
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a tool that says what it found and how long it took"
)]

use mile_core::segment::{Penalty, segment};
use std::io::BufRead;
use std::time::Instant;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let args: Vec<f64> = std::env::args().skip(1).filter_map(|a| a.parse().ok()).collect();
    let [least, level] = args[..] else { return Err("give the least length and the penalty".into()) };
    // A slope that costs more than any level could save is never taken: levels alone, as the other side has them.
    let penalty = Penalty { level, slope: 1e12, least: least as usize };
    let series: Vec<Vec<f64>> = std::io::stdin()
        .lock()
        .lines()
        .map(|l| Ok(l?.split_whitespace().filter_map(|t| t.parse().ok()).collect()))
        .collect::<std::io::Result<_>>()?;
    let begun = Instant::now();
    let found: Vec<(Vec<usize>, f64)> = series.iter().map(|s| segment(s, &penalty)).collect();
    let seconds = begun.elapsed().as_secs_f64();
    for (ends, cost) in found {
        let ends: Vec<String> = ends.iter().map(usize::to_string).collect();
        println!("{} {cost}", ends.join(","));
    }
    println!("{seconds}");
    Ok(())
}
