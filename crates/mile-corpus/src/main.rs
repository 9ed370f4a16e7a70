//! How right the findings are.
//!
//! `cargo run --release -p mile-corpus` measures on the seeds kept for it and writes docs/accuracy.md and docs/accuracy.svg.
//! `... -- tuning [COUNT] [PATTERN]` measures on those that may be looked at, and shows what went wrong in a pattern.
#![allow(clippy::print_stdout, reason = "this is what it is for")]

use mile_core::findings;
use mile_corpus::{Case, PATTERNS, Score, bench, case, report, score};
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::{fs, thread};

/// Seeds that nothing was tuned on.
const KEPT: u64 = 2_000_001;
/// Traces of each pattern.
const TRACES: u64 = 40;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let tuning = args.iter().any(|a| a == "tuning");
    let count = args.iter().find_map(|a| a.parse().ok()).unwrap_or(TRACES);
    let only = PATTERNS.into_iter().find(|p| args.iter().any(|a| a == p));
    let first = if tuning { 1 } else { KEPT };
    let names: Vec<&'static str> =
        PATTERNS.into_iter().chain(["simulated bench"]).filter(|p| only.is_none_or(|o| o == *p)).collect();
    let mut patterns = Vec::new();
    let mut all = Score::default();
    for name in names {
        let own = measure(name, first, count, only.is_some());
        println!(
            "{name:<16} {:>5} breaks, {:>6.1} % found, {} false, error {:.3} % and {:.3} %, {:.1} % right, {:.1} % inside",
            own.breaks,
            100.0 * own.recall(),
            own.false_breaks,
            100.0 * own.error(0.5),
            100.0 * own.error(0.95),
            100.0 * own.right(),
            100.0 * own.coverage()
        );
        all.add(&own);
        patterns.push((name, own));
    }
    let seeds = format!("{first} to {}", first + count - 1);
    let text = report::markdown(&all, &patterns, &seeds);
    if tuning {
        println!("{text}");
        return Ok(());
    }
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    fs::write(docs.join("accuracy.md"), text)?;
    fs::write(docs.join("accuracy.svg"), report::diagram(&all)?)?;
    for (what, aim, found, met) in report::aims(&all) {
        println!("{what}: {found}, {aim}{}", if met { "" } else { ": NOT MET" });
    }
    Ok(())
}

/// Scores the cases of a pattern, on all processors.
fn measure(pattern: &'static str, first: u64, count: u64, show: bool) -> Score {
    let next = AtomicUsize::new(0);
    let sum = Mutex::new(Score::default());
    thread::scope(|s| {
        for _ in 0..thread::available_parallelism().map_or(1, usize::from) {
            s.spawn(|| {
                loop {
                    let seed = first + next.fetch_add(1, Ordering::Relaxed) as u64;
                    if seed >= first + count {
                        return;
                    }
                    let made = if pattern == "simulated bench" {
                        bench::bench_case(seed)
                    } else {
                        Some(case(pattern, seed))
                    };
                    let Some(case) = made else { continue };
                    let found = findings(&case.trace(), &case.context);
                    let own = score(&case, &found);
                    if show {
                        tell(&case, &found, &own);
                    }
                    if let Ok(mut sum) = sum.lock() {
                        sum.add(&own);
                    }
                }
            });
        }
    });
    sum.into_inner().unwrap_or_default()
}

/// Shows a case in which something went wrong.
fn tell(case: &Case, found: &mile_core::Findings, own: &Score) {
    let wrong = own.causes.iter().any(|c| c.0 != c.1);
    if own.found == own.breaks && own.false_breaks == 0 && !wrong && own.error(1.0) < 0.02 {
        return;
    }
    println!(
        "seed {}: {} samples, {:.3} h, warns at {:?}",
        case.seed,
        case.samples.len(),
        case.hours(),
        case.context.warn
    );
    for t in &case.truth.breaks {
        println!(
            "   true  {:10.2} to {:.2} s {:12.4} GB {}",
            t.start_s,
            t.end_s,
            t.start_bytes / 1e9,
            t.cause.word()
        );
    }
    for b in &found.breaks {
        println!(
            "   found {:10.2} s {:12.4} GB {:.1} to {:.1} {} {:.2}",
            b.at_s,
            b.at_bytes as f64 / 1e9,
            b.from_mb_s,
            b.to_mb_s,
            b.cause.word(),
            b.confidence
        );
        for e in &b.evidence {
            println!("          {} {}: {}", if e.supports { '+' } else { '-' }, e.cause.word(), e.text);
        }
    }
}
