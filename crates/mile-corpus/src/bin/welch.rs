//! Differences of means for `scripts/compare-statistics`: each line on standard input is two groups of numbers, parted by a bar; out come the difference, the half of its
//! interval, the chance and the degrees of freedom of the independent groups, and, where both are as long, the half and the chance of the pairs. A line that begins with
//! `holm` is a list of chances that are corrected.
#![allow(clippy::print_stdout, reason = "a tool that says what it found")]

use mile_core::compare::welch::{Difference, holm, independent, paired};
use std::io::BufRead;

fn numbers(text: &str) -> Vec<f64> {
    text.split_whitespace().filter_map(|t| t.parse().ok()).collect()
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let or_nan = |v: Option<f64>| v.unwrap_or(f64::NAN);
    for line in std::io::stdin().lock().lines() {
        let line = line?;
        if let Some(chances) = line.strip_prefix("holm") {
            let all: Vec<String> = holm(&numbers(chances)).iter().map(f64::to_string).collect();
            println!("{}", all.join(" "));
            continue;
        }
        let (a, b) = line.split_once('|').ok_or("give two groups, parted by a bar")?;
        let (a, b) = (numbers(a), numbers(b));
        let none = Difference { value: f64::NAN, half: None, p: None, freedom: None };
        let (i, p) = (independent(&a, &b, 0.0).unwrap_or(none), paired(&a, &b, 0.0).unwrap_or(none));
        println!(
            "{} {} {} {} {} {}",
            i.value,
            or_nan(i.half),
            or_nan(i.p),
            or_nan(i.freedom),
            or_nan(p.half),
            or_nan(p.p)
        );
    }
    Ok(())
}
