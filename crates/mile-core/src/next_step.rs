//! What to run next, so that a doubtful break becomes a sure one: the cheapest course that gives the candidates different outcomes.

use crate::breaks::{Break, Cause};
use crate::causes::{address, weight_of};
use crate::context::Context;
use crate::sample::Op;
use crate::trace::{Trace, TraceLeg};
use crate::units::{Bytes, Nanos};
use serde::{Deserialize, Serialize};

/// Confidence from which a break needs no further run.
pub const SURE: f64 = 0.95;
/// The surface is read again so far to either side of a break, share of the drive.
const AROUND: f64 = 0.02;

/// What to run next.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NextStep {
    /// Why and what, in words.
    pub text: String,
    /// A course that can be run as it is.
    pub course: Option<String>,
}

/// The cheapest run that would make the least sure break surer; `None` where every break is at least that sure.
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
    let lies = format!("The break at {} is said to be: {}.", Bytes(doubtful.at_bytes), doubtful.verdict());
    let (say, course) = match (leg.op, place) {
        (Op::Write, _) => write_again(trace, leg, context, doubtful),
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

/// Share of the drive that one leg of a suggested course writes at the most, so that two of them are less than it holds.
const PART: f64 = 0.45;

/// Twice what it took, with a rest between that lets a cache come back: in one run, so that both falls are held against each other.
fn write_again(trace: &Trace, leg: &TraceLeg, context: &Context, doubtful: &Break) -> (String, String) {
    let begin = trace.moved(leg.samples.start).0;
    let most = context.capacity.map_or(f64::INFINITY, |c| PART * c.0 as f64);
    let again = (doubtful.at_bytes.saturating_sub(begin)) as f64 * 1.3;
    let again = (again.min(most) / 1e9).max(0.1);
    let again = if again < 10.0 { format!("{again:.1}") } else { format!("{:.0}", again.floor()) };
    let mut say = "Write as much twice, with a rest in between. If the rate falls after the same number of bytes both times, the cause is the write cache; if it falls at the same temperature, heat; if it does not fall, others, or something that happened once.".to_owned();
    let same = ["cache.same-bytes-again", "cache.back-after-rest"];
    if let Some(sure) = predicted(doubtful, Cause::CacheExhausted, &same, "cache.once") {
        say.push_str(&format!(
            " In the first case the write cache is the cause with {:.0} % confidence.",
            100.0 * sure
        ));
    }
    let cool = rest(trace);
    let write = format!("  write sequential, blocks 1 MiB, depth 16\n  until {again} GB written\n");
    let course = format!(
        "course \"tell cache from heat and fill\"\nsample every 250 ms\n\nleg cool\n  {cool}\n\nleg once\n{write}\nleg rest\n  rest for 30 min\n\nleg twice\n{write}"
    );
    (say, course)
}

/// The confidence of a cause that a break would have with these rows more and that one less, by the table of evidence.
fn predicted(b: &Break, cause: Cause, more: &[&str], less: &str) -> Option<f64> {
    let own = b.candidates.iter().find(|c| c.cause == cause)?;
    let had = |id: &str| b.evidence.iter().any(|e| e.row == id);
    let added: f64 = more.iter().filter(|id| !had(id)).map(|id| weight_of(id)).sum();
    let sum = own.log_odds + added - if had(less) { weight_of(less) } else { 0.0 };
    let others: f64 = b.candidates.iter().filter(|c| c.cause != cause).map(|c| c.log_odds.exp()).sum();
    Some((sum.exp() / (sum.exp() + others)).min(b.at_most))
}

fn read_there(at: Bytes, capacity: Bytes) -> (String, String) {
    let share = at.0 as f64 / capacity.0.max(1) as f64;
    // Whole tenths of a percent, inside the drive.
    let from = ((share - AROUND).clamp(0.0, 0.97) * 1000.0).floor() / 10.0;
    let to = ((share + AROUND).clamp(0.03, 1.0) * 1000.0).ceil() / 10.0;
    let gb = ((to - from) / 100.0 * capacity.0 as f64 / 1e9).ceil().max(1.0);
    let say = format!(
        "Read the stretch around {at} twice. If the rate changes there both times, the cause is the surface; if it does not, heat or others."
    );
    let course = format!(
        "course \"tell the surface from others\"\nsample every 250 ms\n\nleg once\n  read sequential, blocks 1 MiB, depth 16\n  over {from:.1} % to {to:.1} %\n  until {gb:.0} GB read\n\nleg twice\n  read sequential, blocks 1 MiB, depth 16\n  over {from:.1} % to {to:.1} %\n  until {gb:.0} GB read\n"
    );
    (say, course)
}

fn read_again(trace: &Trace, leg: &TraceLeg, doubtful: &Break) -> (String, String) {
    let begin = trace.moved(leg.samples.start).0;
    let again = ((doubtful.at_bytes.saturating_sub(begin)) as f64 * 1.5 / 1e9).ceil().max(1.0);
    let say = "Let the drive rest, and read as much again from the start. If the rate changes after the same number of bytes, the cause is the surface; if it changes at the same temperature, heat; if it does not change, others.";
    let course = format!(
        "course \"tell the surface from heat\"\nsample every 250 ms\n\nleg rest\n  {}\n\nleg again\n  read sequential, blocks 1 MiB, depth 16\n  until {again:.0} GB read\n",
        rest(trace)
    );
    (say.into(), course)
}
