//! `hollow-mile selftest`: a drive's own tests of itself.

use crate::cli::{Format, SelftestArgs, SelftestRequest};
use crate::text;
use mile_bench::Failure;
use mile_bench::bench::{self, Card};
use mile_core::Nanos;
use mile_drive::block::found::Found;
use mile_drive::block::probe::{self, TestRequest};
use mile_drive::clock::Monotonic;
use mile_drive::health::{SelfTest, TestKind};
use mile_drive::raw::RawError;
use mile_drive::sysfs::Roots;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Time between two looks at a test underway.
const LOOK: Nanos = Nanos(2_000_000_000);
/// Within this time a signal is heard.
const HEAR: Nanos = Nanos(200_000_000);

pub(crate) fn run(args: &SelftestArgs) -> Result<(), Failure> {
    if args.drive.starts_with("sim:") {
        return Err(Failure::usage(
            "self-tests: a simulated drive has no time between commands; it tests itself in a run, with `self-test short` in a course",
        ));
    }
    let roots = Roots::system();
    let found = bench::find(&roots, &args.drive)?;
    let refused = |e: RawError| Failure::run(format!("self-tests of {}: {e}", found.node.display()));
    if let Some(request) = request(args, &found)? {
        probe::request_test(&found, request).map_err(refused)?;
    }
    let mut test = told(&roots, &found)?;
    let waited = args.wait && test.running.is_some();
    if waited {
        test = wait(&roots, &found, args.format)?;
    }
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&test)?),
        Format::Text => text::say(&text::self_test(&test).join("\n")),
    }
    match test.results.first() {
        Some(last) if args.wait && test.running.is_none() && !last.passed => {
            Err(Failure::run(format!("the self-test of {} was not passed", found.node.display())))
        }
        None if waited => Err(Failure::run(format!("{} tells no result", found.node.display()))),
        _ => Ok(()),
    }
}

/// What is asked of the drive; `None` where it is only looked at.
fn request(args: &SelftestArgs, found: &Found) -> Result<Option<TestRequest>, Failure> {
    if args.request != SelftestRequest::Selective && (args.from.is_some() || args.to.is_some()) {
        return Err(Failure::usage("--from and --to belong to a selective self-test"));
    }
    Ok(Some(match args.request {
        SelftestRequest::Short => TestRequest::Start(TestKind::Short),
        SelftestRequest::Extended => TestRequest::Start(TestKind::Extended),
        SelftestRequest::Conveyance => TestRequest::Start(TestKind::Conveyance),
        SelftestRequest::Selective => {
            let (from, to) = args.from.zip(args.to).ok_or_else(|| {
                Failure::usage("a selective self-test needs --from and --to, such as --from 100GB --to 120GB")
            })?;
            let (block, end) = (found.logical_block.0.max(1), found.capacity.0);
            if from >= to || to.0 > end {
                return Err(Failure::usage(format!(
                    "--from {from} and --to {to} are no stretch of {}, which has {}",
                    found.node.display(),
                    found.capacity
                )));
            }
            TestRequest::Selective(from.0 / block, to.0.div_ceil(block) - 1)
        }
        SelftestRequest::Abort => TestRequest::Abort,
        SelftestRequest::Status => return Ok(None),
    }))
}

/// What the drive tells of its tests now.
fn told(roots: &Roots, found: &Found) -> Result<SelfTest, Failure> {
    let health = Card::real(found.clone(), probe::probe(roots, found)).health;
    let missing = health.as_ref().map_or_else(Vec::new, |h| h.missing.clone());
    health.and_then(|h| h.self_test).ok_or_else(|| {
        let why = missing.iter().find(|m| m.starts_with("Self-tests")).or(missing.first());
        Failure::run(format!(
            "{}: {}",
            found.node.display(),
            why.map_or("Self-tests: not offered by this drive", String::as_str)
        ))
    })
}

/// Waits until no test is underway. How far it is goes to the standard error, a line for each tenth of it.
fn wait(roots: &Roots, found: &Found, format: Format) -> Result<SelfTest, Failure> {
    let end = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
        signal_hook::flag::register(signal, Arc::clone(&end))?;
    }
    let clock = Monotonic::start();
    let mut said = None;
    loop {
        let test = told(roots, found)?;
        let Some((_, done)) = test.running else { return Ok(test) };
        if format == Format::Text && said != Some(done / 10) {
            said = Some(done / 10);
            text::complain(text::self_test(&test).first().map_or("", String::as_str));
        }
        let due = clock.now().plus(LOOK);
        while clock.now() < due {
            if end.load(Ordering::Relaxed) {
                return Err(Failure::run(format!(
                    "no longer waited for; the test goes on in {}, and `selftest {} abort` ends it",
                    found.node.display(),
                    found.name
                )));
            }
            clock.sleep_until(due.min(clock.now().plus(HEAR)));
        }
    }
}
