//! `hollow-mile watch`: snapshots of the health of drives, again and again, at a cost that they do not feel.

use crate::cli::WatchArgs;
use crate::text;
use mile_bench::Failure;
use mile_bench::bench::{self, Card};
use mile_bench::lab::change;
use mile_bench::session::logbook_path;
use mile_core::Nanos;
use mile_core::health::Origin;
use mile_drive::clock::{Monotonic, unix_seconds};
use mile_logbook::DriveKey;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Time between two looks at whether it is to end.
const LOOK: Nanos = Nanos(200_000_000);

/// Keeps what a drive tells now. Gives what was kept in words, or why nothing was.
pub(crate) fn keep(card: &Card, logbook: &Path) -> Result<Result<String, String>, Failure> {
    let name = &card.identity.name;
    let Some(key) = DriveKey::of(&card.identity) else {
        return Ok(Err(format!("{name} tells no serial number, so that it has no history")));
    };
    let Some(health) = card.health.as_ref() else {
        return Ok(Err(format!("{name} tells nothing of its health")));
    };
    let snapshot =
        health.snapshot(unix_seconds(), Origin::Kept, &card.identity, card.situation.slot.as_deref());
    if snapshot.counters.is_empty() {
        let why = health.missing.first().cloned().unwrap_or_else(|| "it tells nothing of its health".into());
        return Ok(Err(format!("{name}: {why}")));
    }
    change(logbook, &text::complain, |book| Ok(book.keep_snapshots(&key, &[snapshot])?))?;
    Ok(Ok(format!("{}, serial {}: {}", key.model, key.serial, health.line())))
}

pub(crate) fn run(args: &WatchArgs) -> Result<(), Failure> {
    let logbook = logbook_path(args.logbook.as_deref())?;
    let end = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
        signal_hook::flag::register(signal, Arc::clone(&end))?;
    }
    // Those that are not there at the start are a mistake; later ones may come and go.
    for name in &args.drives {
        bench::card(name)?;
    }
    let clock = Monotonic::start();
    let mut due = Nanos(0);
    let mut rounds = 0_u64;
    let mut said: Vec<Option<String>> = vec![None; args.drives.len()];
    while !end.load(Ordering::Relaxed) {
        for (name, said) in args.drives.iter().zip(&mut said) {
            if end.load(Ordering::Relaxed) {
                break;
            }
            let why = match look(name, args.wake, &logbook) {
                Ok(Ok(line)) => {
                    text::say(&format!("{}  {line}", crate::figure::when(unix_seconds())));
                    None
                }
                Ok(Err(why)) => Some(why),
                Err(e) => Some(e.message().to_owned()),
            };
            // The same is not said again and again.
            if let Some(why) = why.as_ref().filter(|w| said.as_ref() != Some(w)) {
                text::complain(why);
            }
            *said = why;
        }
        text::all_was_said()?;
        rounds += 1;
        if args.rounds.is_some_and(|r| rounds >= r) {
            break;
        }
        // Rounds keep to their times; those that were missed, as the machine slept, are left out.
        while due <= clock.now() {
            due = due.plus(args.every);
        }
        while clock.now() < due && !end.load(Ordering::Relaxed) {
            clock.sleep_until(due.min(clock.now().plus(LOOK)));
        }
    }
    if said.iter().all(Option::is_some) && args.rounds.is_some() {
        return Err(Failure::run("nothing was kept of any of the drives"));
    }
    Ok(())
}

fn look(name: &str, wake: bool, logbook: &Path) -> Result<Result<String, String>, Failure> {
    let mut card = bench::card(name)?;
    let sleeps = |card: &Card| card.health.as_ref().is_some_and(|h| h.asleep);
    if wake
        && sleeps(&card)
        && let Some(found) = &card.device
    {
        // A read of its first block spins it up; what it gives does not matter.
        let _ = mile_drive::block::probe::wake(found);
        card = bench::card(name)?;
    }
    keep(&card, logbook)
}
