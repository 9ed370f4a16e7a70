//! What to run next, so that a doubtful break becomes a sure one: the cheapest course that gives the candidates different outcomes.

use crate::causes::address;
use crate::findings::{Break, Cause, Context, NextStep};
use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Nanos};

/// Confidence from which a break needs no further run.
pub const SURE: f64 = 0.8;
/// The surface is read again so far to either side of a break, share of the drive.
const AROUND: f64 = 0.02;

/// The cheapest run that would make the least sure break surer; `None` where every break is at least 0.8 sure.
pub fn next_step(trace: &Trace, context: &Context, breaks: &[Break]) -> Option<NextStep> {
    let doubtful = breaks
        .iter()
        .filter(|b| b.confidence < SURE || b.cause == Cause::Unexplained)
        .min_by(|a, b| a.confidence.total_cmp(&b.confidence))?;
    settle(trace, context, doubtful)
}

/// What would settle the cause of one break, and the course that does. `None` where the trace does not hold it.
pub fn settle(trace: &Trace, context: &Context, doubtful: &Break) -> Option<NextStep> {
    let at = trace.index_at_time(Nanos::from_secs(doubtful.at_s)).min(trace.len().checked_sub(1)?);
    let leg = trace.leg_at(at)?;
    let place = address(trace, at).zip(context.capacity);
    let lies = format!(
        "The break at {} is {} with {:.2}.",
        Bytes(doubtful.at_bytes),
        doubtful.cause.words(),
        doubtful.confidence
    );
    let (say, course) = match (leg.op, place) {
        (Op::Write, _) => write_again(trace, leg, doubtful),
        (_, Some((at, capacity))) => read_there(at, capacity),
        (_, None) => read_again(trace, leg, doubtful),
    };
    let mut text = format!("{lies} {say}");
    text.push_str(&missing(trace, context));
    Some(NextStep { text, course: Some(course) })
}

/// Readings that would have told more.
fn missing(trace: &Trace, context: &Context) -> String {
    let mut text = String::new();
    if trace.temp.is_blank() {
        text.push_str(
            " Log the drive's temperature with it: without one, heat cannot be told from a full cache.",
        );
    } else if context.warn.is_none() {
        text.push_str(" Give its warning temperature too (--warn).");
    }
    if trace.foreign.is_blank() {
        text.push_str(
            " Log what others move on the drive: without that, they cannot be told from the drive.",
        );
    }
    text
}

/// Where it was cool before, or some time.
fn rest(trace: &Trace) -> String {
    match trace.temp.extent(0, trace.len()) {
        Some(e) => format!("rest until temperature below {:.0} °C, at most 30 min", e.min + 3.0),
        None => "rest for 10 min".to_owned(),
    }
}

fn write_again(trace: &Trace, leg: &TraceLeg, doubtful: &Break) -> (String, String) {
    let begin = trace.moved(leg.samples.start).0;
    let again = ((doubtful.at_bytes.saturating_sub(begin)) as f64 * 1.5 / 1e9).ceil().max(1.0);
    let say = "Let the drive rest and cool, and write as much again: a break after the same bytes is the cache, one at the same temperature is heat, one from the start on is how full it is, and none at all was others or the surface.";
    let course = format!(
        "course \"tell cache from heat and fill\"\nsample every 250 ms\n\nleg rest\n  {}\n\nleg again\n  write sequential, blocks 1 MiB, depth 16\n  until {again:.0} GB written\n",
        rest(trace)
    );
    (say.into(), course)
}

fn read_there(at: Bytes, capacity: Bytes) -> (String, String) {
    let share = at.0 as f64 / capacity.0.max(1) as f64;
    // Whole tenths of a percent, inside the drive.
    let from = ((share - AROUND).clamp(0.0, 0.97) * 1000.0).floor() / 10.0;
    let to = ((share + AROUND).clamp(0.03, 1.0) * 1000.0).ceil() / 10.0;
    let gb = ((to - from) / 100.0 * capacity.0 as f64 / 1e9).ceil().max(1.0);
    let say = format!(
        "Read the stretch around {at} twice: a rate that changes there both times is the surface, one that does not was heat or others."
    );
    let course = format!(
        "course \"tell the surface from others\"\nsample every 250 ms\n\nleg once\n  read sequential, blocks 1 MiB, depth 16\n  over {from:.1} % to {to:.1} %\n  until {gb:.0} GB read\n\nleg twice\n  read sequential, blocks 1 MiB, depth 16\n  over {from:.1} % to {to:.1} %\n  until {gb:.0} GB read\n"
    );
    (say, course)
}

fn read_again(trace: &Trace, leg: &TraceLeg, doubtful: &Break) -> (String, String) {
    let begin = trace.moved(leg.samples.start).0;
    let again = ((doubtful.at_bytes.saturating_sub(begin)) as f64 * 1.5 / 1e9).ceil().max(1.0);
    let say = "Let the drive rest and read as much again from the start: a break after the same bytes is the surface, one at the same temperature is heat, and none was others.";
    let course = format!(
        "course \"tell the surface from heat\"\nsample every 250 ms\n\nleg rest\n  {}\n\nleg again\n  read sequential, blocks 1 MiB, depth 16\n  until {again:.0} GB read\n",
        rest(trace)
    );
    (say.into(), course)
}
