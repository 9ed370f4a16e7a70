//! `hollow-mile health` and `hollow-mile selftest`: what a drive tells of itself, and its own tests.

use crate::cli::{Format, HealthArgs, SelftestArgs, SelftestRequest};
use crate::text;
use mile_bench::Failure;
use mile_bench::bench::{self, Card};
use mile_drive::block::probe::{self, TestRequest};
use mile_drive::health::TestKind;
use mile_drive::raw::RawError;
use mile_drive::sysfs::Roots;

pub(crate) fn run(args: &HealthArgs) -> Result<(), Failure> {
    let card = bench::card(&args.drive)?;
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&card)?),
        Format::Text => text::say(&text::health(&card)),
    }
    Ok(())
}

pub(crate) fn selftest(args: &SelftestArgs) -> Result<(), Failure> {
    if args.drive.starts_with("sim:") {
        return Err(Failure::usage("self-tests: not offered by simulated drives"));
    }
    let roots = Roots::system();
    let found = bench::find(&roots, &args.drive)?;
    let refused = |e: RawError| Failure::run(format!("self-tests of {}: {e}", found.node.display()));
    let request = match args.request {
        SelftestRequest::Short => Some(TestRequest::Start(TestKind::Short)),
        SelftestRequest::Extended => Some(TestRequest::Start(TestKind::Extended)),
        SelftestRequest::Abort => Some(TestRequest::Abort),
        SelftestRequest::Status => None,
    };
    if let Some(request) = request {
        probe::request_test(&found, request).map_err(refused)?;
    }
    let card = Card::real(found.clone(), probe::probe(&roots, &found));
    let health = card.health.as_ref();
    let Some(test) = health.and_then(|h| h.self_test.as_ref()) else {
        let missing = health.map_or(&[][..], |h| &h.missing);
        let why = missing.iter().find(|m| m.starts_with("Self-tests")).or(missing.first());
        return Err(Failure::run(format!(
            "{}: {}",
            found.node.display(),
            why.map_or("Self-tests: not offered by this drive", String::as_str)
        )));
    };
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(test)?),
        Format::Text => text::say(&text::self_test(test).join("\n")),
    }
    Ok(())
}
