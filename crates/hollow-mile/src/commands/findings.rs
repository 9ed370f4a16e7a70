//! `hollow-mile findings`: what a run shows.

use crate::cli::{FindingsArgs, Format};
use crate::source::Source;
use crate::{Failure, text};

pub(crate) fn run(args: &FindingsArgs) -> Result<(), Failure> {
    let source = Source::load(&args.run, args.logbook.as_deref(), &args.beside)?;
    source.problem_lines().iter().for_each(|line| text::complain(line));
    match args.format {
        Format::Text => text::say(&text::report(&source)),
        Format::Json => text::say(&serde_json::to_string_pretty(&source.findings)?),
    }
    Ok(())
}
