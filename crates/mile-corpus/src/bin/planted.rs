//! What comparisons say of differences that are planted in simulated drives: `planted RUNS SEEDS` compares sides of so many
//! runs for seeds 1 to SEEDS.
#![allow(clippy::print_stdout, reason = "a tool that says what it found")]

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let number = |i: usize, or: u64| std::env::args().nth(i).map_or(Ok(or), |a| a.parse());
    let (runs, seeds) = (number(1, 5)?, number(2, 500)?);
    let score = mile_corpus::planted::planted(runs, 1..=seeds, 1500)?;
    let share = |part: usize, all: usize| 100.0 * part as f64 / all.max(1) as f64;
    println!("{runs} runs on a side, {seeds} seeds");
    let (all, wrong) = score.nothing;
    println!(
        "without a difference, one is established: {wrong} of {all} comparisons, {:.1} %",
        share(wrong, all)
    );
    let (all, held) = score.intervals;
    println!("intervals that hold the true difference: {held} of {all}, {:.1} %", share(held, all));
    for (what, found, all) in score.found {
        println!("{what}: established in {found} of {all}, {:.1} %", share(found, all));
    }
    Ok(())
}
