//! How well hollows are found on simulated drives: `surfaces FIRST LAST` scans the drives of these seeds, and says what was found.
#![allow(clippy::print_stdout, reason = "a tool that says what it found")]

use mile_corpus::surfaces::{SurfaceScore, scan};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let number = |i: usize, or: u64| std::env::args().nth(i).map_or(Ok(or), |a| a.parse());
    let (first, last) = (number(1, 1)?, number(2, 200)?);
    let mut score = SurfaceScore::default();
    for seed in first..=last {
        scan(seed, &mut score)?;
    }
    score.notes.iter().for_each(|note| println!("{note}"));
    println!(
        "{} scans: {} of {} hollows of three zones or more found and confirmed, {} false; depth within {:.1} points in 95 %, edges within 1 MiB in {:.1} %, within 200 MB in {:.1} %, within what is said in {:.1} %",
        score.scans,
        score.confirmed,
        score.there,
        score.wrong,
        score.depth_off_at(0.95),
        100.0 * score.edges_within(1 << 20),
        100.0 * score.edges_within(200_000_000),
        100.0 * score.edges_as_said(),
    );
    Ok(())
}
