//! How right the findings are, and what the evidence weighs.
//!
//! `cargo run --release -p mile-corpus` measures on seeds that follow from the sources of the analysis, so that each version is measured on traces that
//! nobody has seen, and writes docs/accuracy.md and docs/accuracy.svg. `... -- fit` fits the weights of the evidence on the seeds for that, and writes
//! them into the sources. `... -- tuning [COUNT] [PATTERN]` measures on those that may be looked at, and shows what went wrong in a pattern;
//! `... -- degraded [COUNT] [PATTERN]` does so with some of the readings taken away, and `... -- live [COUNT] [PATTERN]` as runs underway.
#![allow(clippy::print_stdout, reason = "this is what it is for")]

use mile_core::causes::TABLE;
use mile_core::{Findings, findings};
use mile_corpus::degrade::{Loss, degrade};
use mile_corpus::live::{self, Live};
use mile_corpus::{Case, RIDDLES, Score, bench, case, fit, report, score};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::{fs, io, thread};

/// Traces of each pattern that are measured, those with less in them, those that are played as runs underway, and those that weights are fitted on.
const TRACES: u64 = 40;
const DEGRADED: u64 = 16;
const UNDERWAY: u64 = 8;
const FITTED: u64 = 80;
/// Seeds for the fit begin here; those from 1 on may be looked at.
const FIT: u64 = 1_000_001;

type Failure = Box<dyn std::error::Error>;

fn main() -> Result<(), Failure> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let has = |word: &str| args.iter().any(|a| a == word);
    let count = args.iter().find_map(|a| a.parse().ok());
    if has("fit") {
        return fit_weights(count.unwrap_or(FITTED));
    }
    let only = names(None).into_iter().find(|p| has(p));
    if has("tuning") {
        return tuning(count.unwrap_or(TRACES), only);
    }
    if has("live") {
        return underway(count.unwrap_or(DEGRADED), only);
    }
    if has("degraded") {
        degraded(count.unwrap_or(DEGRADED), only);
        return Ok(());
    }
    let first = unseen()?;
    let (mut patterns, mut all) = (Vec::new(), Score::default());
    for name in names(only) {
        let own = measure(name, first, count.unwrap_or(TRACES), &[], false);
        line(name, &own);
        all.add(&own);
        patterns.push((name, own));
    }
    let mut degraded = Vec::new();
    for (words, losses) in losses() {
        let mut sum = Score::default();
        for name in mile_corpus::names() {
            sum.add(&measure(name, first + 1000, DEGRADED, &losses, false));
        }
        line(words, &sum);
        degraded.push((words, sum));
    }
    let mut underway = Live::default();
    for name in names(only) {
        underway.add(live_of(name, first + 2000, UNDERWAY, false));
    }
    live_line("underway", &underway);
    let text = report::markdown(&all, &patterns, &degraded, &underway, first);
    let docs = root().join("docs");
    fs::write(docs.join("accuracy.md"), text)?;
    fs::write(docs.join("accuracy.svg"), report::diagram(&all)?)?;
    for (what, aim, found, met) in report::aims(&all) {
        println!("{what}: {found}, {aim}{}", if met { "" } else { ": NOT MET" });
    }
    Ok(())
}

/// What is taken away, one by one and all at once, and how that is called.
fn losses() -> Vec<(&'static str, Vec<Loss>)> {
    let single = Loss::ALL.iter().map(|l| (l.words(), vec![*l]));
    single.chain([("all of it at once", Loss::ALL.to_vec())]).collect()
}

/// Measures with some of the readings taken away, and says in which patterns the analysis was sure and wrong.
fn degraded(count: u64, only: Option<&'static str>) {
    for (words, losses) in losses() {
        println!("{words}");
        let mut sum = Score::default();
        for name in names(only) {
            let own = measure(name, 1, count, &losses, only.is_some());
            let wrong: Vec<String> = own
                .causes
                .iter()
                .filter(|c| c.confidence >= 0.9 && !c.is_true())
                .map(|c| format!("{} called {} {:.2}", c.truth.word(), c.said.word(), c.confidence))
                .collect();
            if !wrong.is_empty() {
                println!("   {name}: {}", wrong.join("; "));
            }
            sum.add(&own);
        }
        line("   all", &sum);
    }
}

/// Plays the cases as runs that are underway.
fn underway(count: u64, only: Option<&'static str>) -> Result<(), Failure> {
    let mut all = Live::default();
    for name in names(only) {
        let own = live_of(name, 1, count, only.is_some());
        live_line(name, &own);
        all.add(own);
    }
    live_line("all", &all);
    Ok(())
}

fn live_of(pattern: &'static str, first: u64, count: u64, show: bool) -> Live {
    let sum = Mutex::new(Live::default());
    each(pattern, first, count, &|case| {
        let own = live::live(&case);
        if show && own.withdrawn + own.changed > 0 {
            println!(
                "seed {}: {} samples, {:.3} h\n  {}",
                case.seed,
                case.samples.len(),
                case.hours(),
                own.story.join("\n  ")
            );
        }
        if let Ok(mut sum) = sum.lock() {
            sum.add(own);
        }
    });
    sum.into_inner().unwrap_or_default()
}

fn live_line(name: &str, own: &Live) {
    println!(
        "{name:<28} {:>5} announced, {} joined, {} withdrawn, {} other cause, {:.1} % of {} told in time, median {:.1} s or {:.0} samples",
        own.announced,
        own.joined,
        own.withdrawn,
        own.changed,
        100.0 * own.in_time(),
        own.delays.len(),
        own.delay(0.5).0,
        own.delay(0.5).1,
    );
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn names(only: Option<&'static str>) -> Vec<&'static str> {
    mile_corpus::names().chain(["simulated bench"]).filter(|p| only.is_none_or(|o| o == *p)).collect()
}

/// The first seed of the measurement: from a hash of the sources of the analysis (FNV-1a, Fowler, Noll and Vo).
fn unseen() -> io::Result<u64> {
    fn walk(folder: &Path, files: &mut Vec<PathBuf>) -> io::Result<()> {
        for entry in fs::read_dir(folder)? {
            let path = entry?.path();
            if path.is_dir() {
                walk(&path, files)?;
            } else {
                files.push(path);
            }
        }
        Ok(())
    }
    let mut files = Vec::new();
    walk(&root().join("crates/mile-core/src"), &mut files)?;
    files.sort();
    let mut hash = 0xcbf2_9ce4_8422_2325_u64;
    for path in files {
        for byte in fs::read(path)? {
            hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
        }
    }
    Ok(2_000_001 + hash % 1_000_000_000)
}

fn line(name: &str, own: &Score) {
    let (wrong, sure) = own.wrong_from(0.9);
    println!(
        "{name:<28} {:>5} breaks, {:>6.1} % found, {} false, error {:.3} % and {:.3} %, {:.1} % right, {:.1} % inside, {:.1} % of {sure} sure ones wrong",
        own.breaks,
        100.0 * own.recall(),
        own.false_breaks,
        100.0 * own.error(0.5),
        100.0 * own.error(0.95),
        100.0 * own.right(),
        100.0 * own.coverage(),
        100.0 * wrong
    );
    if own.patterns > 0 {
        let (right, wrong) = own.patterns_right();
        println!(
            "{:<28} {:>5} patterns, {} found, {:.1} % right, {:.1} % of the sure ones wrong",
            "",
            own.patterns,
            own.why.len(),
            100.0 * right,
            100.0 * wrong
        );
    }
}

fn tuning(count: u64, only: Option<&'static str>) -> Result<(), Failure> {
    let mut all = Score::default();
    for name in names(only) {
        let own = measure(name, 1, count, &[], only.is_some());
        line(name, &own);
        all.add(&own);
    }
    for (from, mean, right, n) in all.reliability() {
        println!("said {from:.1} and more: {mean:.3} on the mean, {right:.3} right, {n} breaks");
    }
    for (what, aim, found, met) in report::aims(&all) {
        println!("{what}: {found}, {aim}{}", if met { "" } else { ": NOT MET" });
    }
    Ok(())
}

/// Fits the weights, and writes them into the sources of the analysis. As facts may rest on what was found before, it is done twice.
fn fit_weights(count: u64) -> Result<(), Failure> {
    let all = Mutex::new(Vec::new());
    for name in names(None) {
        each(name, FIT, count, &|case| {
            let mut own = fit::choices(&case, &found(&case));
            // Every third case has less in it, so that what is not logged is weighed as well.
            let losses = Loss::ALL;
            if case.seed.is_multiple_of(3) {
                let less = degrade(&case, &[losses[(case.seed / 3) as usize % losses.len()]]);
                own.extend(fit::choices(&less, &found(&less)));
            }
            if let Ok(mut all) = all.lock() {
                all.extend(own);
            }
        });
    }
    let all = all.into_inner().map_err(|e| e.to_string())?;
    let argued: Vec<f64> = TABLE.iter().map(|r| r.argued).collect();
    let fitted = fit::fit(&all, &argued);
    println!("{} breaks, mean loss {:.4} before and {:.4} after", all.len(), fitted.loss.0, fitted.loss.1);
    let path = root().join("crates/mile-core/src/causes/weights.rs");
    let text = fs::read_to_string(&path)?;
    let (begin, end) = ("pub const TABLE: &[Row] = &[\n", "];\n");
    let (head, rest) = text.split_once(begin).ok_or("the table of weights is not where it was")?;
    let (_, tail) = rest.split_once(end).ok_or("the table of weights has no end")?;
    fs::write(&path, format!("{head}{begin}{}{end}{tail}", fit::source(&fitted.rows)))?;
    Ok(())
}

fn found(case: &Case) -> Findings {
    findings(&case.trace(), &case.context)
}

/// Makes the cases of a pattern, on all processors.
fn each(pattern: &'static str, first: u64, count: u64, work: &(dyn Fn(Case) + Sync)) {
    let count = if RIDDLES.contains(&pattern) { 2 * count } else { count };
    let next = AtomicUsize::new(0);
    thread::scope(|s| {
        for _ in 0..thread::available_parallelism().map_or(1, usize::from) {
            s.spawn(|| {
                loop {
                    let seed = first + next.fetch_add(1, Ordering::Relaxed) as u64;
                    if seed >= first + count {
                        return;
                    }
                    let made = match pattern {
                        "simulated bench" => bench::bench_case(seed),
                        _ => Some(case(pattern, seed)),
                    };
                    made.into_iter().for_each(work);
                }
            });
        }
    });
}

/// Scores the cases of a pattern.
fn measure(pattern: &'static str, first: u64, count: u64, losses: &[Loss], show: bool) -> Score {
    let sum = Mutex::new(Score::default());
    each(pattern, first, count, &|case| {
        let case = if losses.is_empty() { case } else { degrade(&case, losses) };
        let found = found(&case);
        let own = score(&case, &found);
        if show {
            tell(&case, &found, &own);
        }
        if let Ok(mut sum) = sum.lock() {
            sum.add(&own);
        }
    });
    sum.into_inner().unwrap_or_default()
}

/// Shows a case in which something went wrong.
fn tell(case: &Case, found: &Findings, own: &Score) {
    let wrong = own.causes.iter().chain(&own.why).any(|c| !c.is_best || c.confidence >= 0.9 && !c.is_true())
        || own.why.len() < own.patterns;
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
    if let Some(c) = &case.truth.cycles {
        println!(
            "   true  {:10.2} to {:.2} s, every {:.2} s: {}",
            c.start_s,
            c.end_s,
            c.period_s,
            c.cause.word()
        );
    }
    for d in &found.dips {
        println!(
            "   dips  {:10.2} to {:.2} s, every {:.2} s, {:.0} % deep, {:.0} % of the time: {} {:.2}",
            d.start_s,
            d.end_s,
            d.period_s,
            d.depth_pct,
            d.duty_pct,
            d.cause.map_or("", |c| c.word()),
            d.confidence
        );
        for e in &d.evidence {
            println!("          {:+6.2} {}: {}", e.weight, e.cause.word(), e.text);
        }
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
            println!("          {:+6.2} {}: {}", e.weight, e.cause.word(), e.text);
        }
    }
}
