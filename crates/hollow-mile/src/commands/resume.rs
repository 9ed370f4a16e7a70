//! `hollow-mile resume`: a run that was interrupted goes on.

use super::run::{consents, detach, follow};
use crate::cli::ResumeArgs;
use mile_bench::Failure;
use mile_bench::session::{logbook_path, order_to_resume, prepare, stop_on_signals};
use mile_logbook::Logbook;

pub(crate) fn run(args: &ResumeArgs) -> Result<(), Failure> {
    let path = logbook_path(args.logbook.as_deref())?;
    // Nothing is written before it is clear that the run may go on.
    let book = Logbook::read(&path)?;
    let run = book.resolve(&args.run)?;
    let lanes: Vec<String> = book.ends(run)?.0.lanes.into_iter().map(|l| l.name).collect();
    let consents = consents(&lanes, &args.arm, &args.destroy)?;
    // A run goes on from what its own bench has of it.
    let (file, local) = mile_bench::lab::recorded_as(&path, run)?;
    let book = if local == run && file == path { book } else { Logbook::read(&file)? };
    let mut ready = prepare(order_to_resume(&book, local, &consents, args.speed)?)?;
    if args.detach {
        return detach(ready.into_order(), &path);
    }
    ready.recorded_in(&path)?;
    let (underway, _) = ready.start(Logbook::open_existing(&file)?)?;
    stop_on_signals(underway.commands.clone())?;
    follow(underway, args.format, None, Some(&file))
}
