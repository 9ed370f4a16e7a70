//! `hollow-mile instrument`: bench instruments, read by themselves; and a stand-in for one.

use crate::cli::{FaultArg, InstrumentArgs, InstrumentCommand};
use crate::text;
use mile_bench::Failure;
use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use mile_instrument::poll::{Polling, open};
use mile_instrument::simulate::{Fault, StandIn};
use mile_instrument::{Config, hwmon};
use mile_runner::board::{Board, Told};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Time between two looks at what has come.
const LOOK: Nanos = Nanos(50_000_000);

pub(crate) fn run(args: &InstrumentArgs) -> Result<(), Failure> {
    match &args.command {
        InstrumentCommand::List { file: Some(file) } => list(file),
        InstrumentCommand::List { file: None } => {
            let all = hwmon::sensors(Path::new("/sys"));
            if all.is_empty() {
                text::say(
                    "This host shows no sensors. Instruments of your own are named in a file; docs/instruments.md says how.",
                );
            }
            for sensor in all {
                let value =
                    sensor.read().map_or_else(|e| e.to_string(), |v| format!("{v:.2} {}", sensor.unit));
                text::say(&format!("{:<40} {value}", sensor.name));
            }
            Ok(())
        }
        InstrumentCommand::Read { file, seconds } => read(file, *seconds),
        InstrumentCommand::Simulate { port, drive, fault, after } => simulate(*port, drive, *fault, *after),
    }
}

fn config(file: &Path) -> Result<Config, Failure> {
    Config::read(file).map_err(|e| Failure::usage(e.to_string()))
}

fn list(file: &Path) -> Result<(), Failure> {
    let config = config(file)?;
    let mut lost = Vec::new();
    for instrument in &config.instruments {
        // Lines of text come when they come; the others are read once.
        let asked = open(instrument).and_then(|(mut opened, who)| Ok((opened.read(instrument)?, who)));
        match &asked {
            Ok((_, who)) => {
                text::say(&format!("{}: {who}, read every {}", instrument.name, instrument.interval))
            }
            Err(e) => {
                text::say(&format!("{}: cannot be read: {e}", instrument.name));
                lost.push(instrument.name.as_str());
            }
        }
        for (i, channel) in instrument.channels.iter().enumerate() {
            let value = asked.as_ref().ok().and_then(|(all, _)| all.iter().find(|r| r.0 == i).map(|r| r.2));
            let lane = channel.lane.as_ref().map_or(String::new(), |l| format!(" of lane {l}"));
            let value = value.map_or("no reading yet".to_owned(), |v| format!("{v} {}", channel.unit));
            text::say(&format!("    {:<16} {value}{lane}", channel.name));
        }
    }
    if lost.is_empty() {
        return Ok(());
    }
    Err(Failure::run(format!("not all instruments can be read: {}", lost.join(", "))))
}

/// Whether the program was asked to end.
fn ending() -> Result<Arc<AtomicBool>, Failure> {
    let flag = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
        signal_hook::flag::register(signal, Arc::clone(&flag))?;
    }
    Ok(flag)
}

fn read(file: &Path, seconds: Option<f64>) -> Result<(), Failure> {
    let config = config(file)?;
    let channels: Vec<_> = config.instruments.iter().flat_map(|i| &i.channels).collect();
    let board = Arc::new(Board::default());
    let (clock, end) = (Monotonic::start(), ending()?);
    let polling = Polling::start(&config, 0, &board)?;
    text::say("elapsed_s,channel,value,unit");
    let mut count = 0_u64;
    while !end.load(Ordering::Relaxed) && seconds.is_none_or(|s| clock.now().secs() < s) {
        clock.sleep_until(clock.now().plus(LOOK));
        let now = clock.now();
        for (age, told) in board.take(|_| true) {
            match told {
                Told::Reading(channel, value) => {
                    let Some(c) = channels.get(channel as usize) else { continue };
                    let at = Nanos(now.0.saturating_sub(age.0)).secs();
                    text::say(&format!("{at:.6},{},{value},{}", c.name, c.unit));
                    count += 1;
                }
                Told::Event(kind) => text::complain(&kind.words()),
            }
        }
    }
    drop(polling);
    if count == 0 {
        return Err(Failure::run("no instrument gave a reading"));
    }
    Ok(())
}

fn simulate(port: u16, drive: &str, fault: Option<FaultArg>, after: f64) -> Result<(), Failure> {
    let stand_in = StandIn::start(port, drive)?;
    text::say(&format!(
        "A stand-in for a bench instrument, with {drive} at work, listens on {}. Ctrl-C ends it.",
        stand_in.address()
    ));
    let (clock, end) = (Monotonic::start(), ending()?);
    while !end.load(Ordering::Relaxed) {
        clock.sleep_until(clock.now().plus(LOOK));
        if let Some(fault) = fault.filter(|_| clock.now().secs() >= after) {
            stand_in.set_fault(match fault {
                FaultArg::Silent => Fault::Silent,
                FaultArg::Garbage => Fault::Garbage,
                FaultArg::Close => Fault::Close,
            });
        }
    }
    Ok(())
}
