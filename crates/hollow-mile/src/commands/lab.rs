//! `hollow-mile lab`: the archive of a lab.

use crate::cli::{Format, LabArgs, LabCommand};
use crate::text;
use mile_bench::lab::{all_of, is_a_word, spool_of};
use mile_bench::{Failure, session};
use mile_logbook::Logbook;
use mile_logbook::lab::forward::{AFTER_A_FAILURE, Forwarder, PAUSE};
use mile_logbook::lab::setup::{Rights, Standing, statements};
use mile_logbook::lab::{Lab, ask};
use std::path::Path;
use std::time::Duration;

pub(crate) fn run(args: &LabArgs) -> Result<(), Failure> {
    match &args.command {
        LabCommand::Init { at, bench, reader, operator, run } => {
            let sql = statements(bench, reader, operator);
            text::say(sql.trim_end());
            if !run {
                text::complain(
                    "Nothing was done. Add --run to run this in the database, as one transaction.",
                );
                return Ok(());
            }
            let lab = Lab::at(&at.lab)?;
            if let Standing::Version(version) = lab.standing()? {
                return Err(Failure::usage(format!(
                    "{} is an archive already, of version {version}; `hollow-mile lab check` says how it stands",
                    lab.name().display()
                )));
            }
            lab.carry_out(&sql)?;
            text::complain(&format!("{} is an archive now.", lab.name().display()));
            Ok(())
        }
        LabCommand::Check { at, format } => check(&Lab::at(&at.lab)?, *format),
        LabCommand::Migrate { at, run } => {
            let lab = Lab::at(&at.lab)?;
            let steps = lab.steps()?;
            if steps.is_empty() {
                text::say("The archive is of the version of this program; nothing has to be done.");
                return Ok(());
            }
            let sql = steps.concat();
            text::say(sql.trim_end());
            match run {
                true => {
                    lab.carry_out(&sql)?;
                    text::complain("The archive is of the version of this program now.");
                }
                false => text::complain(
                    "Nothing was done. Add --run to run this in the database, as one transaction.",
                ),
            }
            Ok(())
        }
        LabCommand::Forward { at, follow, spool } => forward(Lab::at(&at.lab)?, *follow, spool.as_deref()),
        LabCommand::Ask { run, request, at } => {
            let request = request.join(" ");
            if !is_a_word(&request) {
                return Err(Failure::usage(format!(
                    "`{request}` cannot be asked of a run; that can be: pause, go-on, skip, stop, or note and a text"
                )));
            }
            let lab = Lab::at(&at.lab)?;
            let book = lab.open()?;
            let run = book.resolve(run)?;
            ask(&book, run, &request)?;
            text::say(&format!(
                "Run {run} is asked to: {request}. Its bench answers with an event of the run."
            ));
            Ok(())
        }
    }
}

fn check(lab: &Lab, format: Format) -> Result<(), Failure> {
    let version = match lab.standing()? {
        Standing::Absent => {
            return Err(Failure::run(format!(
                "{} can be reached, and is no archive yet. `hollow-mile lab init --run` sets it up, as a role that may create a schema and roles.",
                lab.name().display()
            )));
        }
        Standing::Version(version) => version,
    };
    let rights = lab.rights()?;
    let Rights { who, reads, writes, asks, encrypted, runs: (runs, underway) } = &rights;
    match format {
        Format::Json => text::say(&serde_json::to_string_pretty(&serde_json::json!({
            "archive": lab.name(), "version": version, "role": who, "reads": reads, "writes": writes,
            "asks": asks, "encrypted": encrypted, "runs": runs, "underway": underway,
        }))?),
        Format::Text => {
            text::say(&format!("{}: archive of version {version}", lab.name().display()));
            text::say(&format!(
                "connection: {}",
                if *encrypted { "encrypted (TLS)" } else { "not encrypted" }
            ));
            let yes = |may: &bool, what: &'static str| if *may { what } else { "" };
            let may: Vec<&str> = [
                yes(reads, "reads all runs"),
                yes(writes, "writes runs of its own"),
                yes(asks, "asks benches to pause, go on, skip or stop"),
            ]
            .into_iter()
            .filter(|w| !w.is_empty())
            .collect();
            let may = if may.is_empty() { "may do nothing here".to_owned() } else { may.join(", ") };
            text::say(&format!("role {who}: {may}"));
            if *reads {
                text::say(&format!("{runs} runs, {underway} of them underway"));
            }
        }
    }
    match reads {
        true => Ok(()),
        false => Err(Failure::run(format!(
            "the role {who} may not read the archive; its owner lets it in: GRANT hollow_mile_reader TO \"{who}\""
        ))),
    }
}

fn forward(lab: Lab, follow: bool, spool: Option<&Path>) -> Result<(), Failure> {
    let spool = match spool {
        Some(file) => file.to_owned(),
        None => spool_of(&lab)?,
    };
    if !spool.exists() {
        return Err(Failure::usage(format!(
            "{} is not there: no run of this bench went to this archive yet. --spool FILE brings a logbook",
            spool.display()
        )));
    }
    // Nothing of an archive is brought to another.
    if Logbook::read(&spool).is_ok_and(|book| book.is_lab()) {
        return Err(Failure::usage("--spool names a logbook file, not an archive"));
    }
    let mut forwarder = Forwarder::new(&spool, lab)?;
    if !follow {
        let done = all_of(&mut forwarder)?;
        text::say(&format!(
            "Brought {} samples; {} runs are there in full now.",
            done.samples, done.finished
        ));
        return Ok(());
    }
    let stop = session::stopped()?;
    let mut fails = None;
    loop {
        let step = all_of(&mut forwarder);
        let pause = match &step {
            Ok(step) => {
                if fails.take().is_some() {
                    text::complain("The archive is there again.");
                }
                if step.samples > 0 {
                    text::say(&format!("Brought {} samples.", step.samples));
                }
                PAUSE
            }
            Err(e) => {
                let why = e.to_string();
                if fails.as_ref() != Some(&why) {
                    text::complain(&format!("{why}. What is not brought yet waits in {}.", spool.display()));
                }
                fails = Some(why);
                AFTER_A_FAILURE
            }
        };
        if stop.recv_timeout(pause.max(Duration::from_millis(1))).is_ok() {
            return Ok(());
        }
    }
}
