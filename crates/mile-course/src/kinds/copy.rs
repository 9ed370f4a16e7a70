//! The copy: a leg in which one lane is read and another is written with what was read, through a buffer between them.
//!
//! In a plan, a copy is a read on the one lane and a write on the other, in the same stage. What ties them together is the [`CopyPart`] of
//! each.

use super::transfer::{CopyPart, Kind, PlannedTransfer, Transfer, nothing, read as read_transfer};
use crate::course::order::Access;
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::clause::{Clause, Clauses};
use crate::parse::reader::{Read, Reader};
use mile_core::units::{IN_FLIGHT_MOST, block_size, common_divisor};
use mile_core::{Bytes, Op, Workload};

/// A copy from one lane to another.
#[derive(Clone, Debug, PartialEq)]
pub struct Copy {
    /// The lane that is read.
    pub from: usize,
    /// The lane that is written.
    pub to: usize,
    /// Bytes between them.
    pub buffer: Bytes,
    /// How the source is read.
    pub source: Transfer,
    /// How the target is written. Its ends are those of the source.
    pub target: Transfer,
}

/// Smallest buffer where the course names none.
const BUFFER: u64 = 64 << 20;

/// Bytes that a side may have in flight.
fn in_flight(t: &Transfer) -> u64 {
    t.load.block.0.saturating_mul(u64::from(t.load.depth))
}

impl Copy {
    /// What a lane does in it, if it is one of the two.
    pub fn of_lane(&self, lane: usize) -> Option<Transfer> {
        let (transfer, partner) = match lane {
            l if l == self.from => (&self.source, self.to),
            l if l == self.to => (&self.target, self.from),
            _ => return None,
        };
        let is_source = lane == self.from;
        let part = CopyPart { partner: partner as u32, is_source, buffer: self.buffer };
        Some(Transfer { copy: Some(part), ..transfer.clone() })
    }

    /// In words that need no drive: `copy, blocks 1 MiB, depth 16`.
    pub fn words(&self) -> String {
        let of = |t: &Transfer| format!("blocks {}, depth {}", block_size(t.load.block), t.load.depth);
        let (source, target) = (of(&self.source), of(&self.target));
        if source == target { format!("copy, {source}") } else { format!("copy, {source}; target {target}") }
    }
}

/// `from upper to lower`, behind `copy`.
pub(crate) fn head(reader: &mut Reader) -> Read<Clause> {
    let span = reader.here();
    reader.word("from")?;
    let from = reader.lane_named()?;
    reader.word("to")?;
    let to = reader.lane_named()?;
    if from == to {
        let diagnostic = Diagnostic::new(span, "a copy goes from one lane to another");
        return reader.fail(diagnostic.hint("for data that stays on one drive, write and read in legs"));
    }
    Ok(Clause::Copy(from, to))
}

/// What is said of the target alone: `blocks 256 KiB`, `depth 4`, `over 0 % to 50 %`, behind `target`.
pub(crate) fn of_target(reader: &mut Reader) -> Read<Clause> {
    let inner = match reader.one_of(&["blocks", "depth", "over"])? {
        0 => Clause::Blocks(reader.size()?),
        1 => Clause::Depth(reader.plain("how many operations are in flight, such as `target depth 16`")?),
        _ => Clause::Over(reader.range()?),
    };
    Ok(Clause::Target(Box::new(inner)))
}

/// Puts a copy together. What is said of it without `target` holds for both sides, but a limit of the rate, which is that of the source.
pub(crate) fn read(
    reader: &mut Reader,
    span: Span,
    (from, to): (usize, usize),
    clauses: Clauses,
    unread: bool,
) -> Copy {
    let (mut both, mut of_target, mut buffer) = (Vec::new(), Vec::new(), None);
    for (clause, at) in clauses {
        let no = |text: &str| Diagnostic::new(at, text);
        match clause {
            Clause::Buffer(size) if buffer.is_none() => buffer = Some((size, at)),
            Clause::Buffer(_) => {
                reader.errors.push(no("this is said twice in the leg").hint("keep one of them"))
            }
            Clause::Target(inner) => of_target.push((*inner, at)),
            Clause::Workers(_) | Clause::Shifted(_) | Clause::Incompressible(_) | Clause::Cached => {
                let text = "a copy is one sequential stream, with the data that is read";
                reader.errors.push(no(text).hint("take this out, or write and read in legs of their own"));
            }
            other => both.push((other, at)),
        }
    }
    let plain = nothing(Op::Read, Kind::Plain, Access::Sequential);
    let source = read_transfer(reader, span, plain, both.into_iter(), unread);
    let mut target =
        Transfer { load: Workload { op: Op::Write, rate: None, ..source.load }, ..source.clone() };
    for (clause, at) in of_target {
        match clause {
            Clause::Blocks(block) => target.load.block = reader.checked_block(at, block),
            Clause::Depth(depth) => target.load.depth = reader.checked_depth(at, depth),
            Clause::Over(range) => target.over = range,
            _ => {}
        }
    }
    let need = source.load.block.0 + target.load.block.0;
    let usual = BUFFER.max(2 * (in_flight(&source) + in_flight(&target))).min(IN_FLIGHT_MOST.0);
    let size = buffer.map_or(Bytes(usual), |b| b.0);
    if let Some((_, at)) = buffer.filter(|_| size.0 < need || size > IN_FLIGHT_MOST) {
        let most = block_size(IN_FLIGHT_MOST);
        reader.errors.push(Diagnostic::new(
            at,
            format!(
                "the buffer holds a block of each side at least, {}, and at most {most}",
                block_size(Bytes(need))
            ),
        ));
    }
    Copy { from, to, buffer: size, source, target }
}
/// Has both sides of a copy move the same bytes: what fits both, in whole blocks of both. Gives what is to be said of that.
///
/// # Errors
/// A copy of which nothing fits, in a sentence.
pub(crate) fn match_sides(
    name: &str,
    source: &mut PlannedTransfer,
    target: &mut PlannedTransfer,
) -> Result<Option<String>, String> {
    let unit =
        source.load.block.0 / common_divisor(source.load.block.0, target.load.block.0) * target.load.block.0;
    let most = if source.by_time { u64::MAX } else { source.length.0.min(target.length.0) };
    let budget = source.budget.0.min(target.budget.0).min(most) / unit * unit;
    if budget == 0 {
        return Err(format!(
            "Leg {name}: the ranges of the copy hold no whole blocks of both sides, {} and {}.",
            block_size(source.load.block),
            block_size(target.load.block)
        ));
    }
    let is_less = !source.by_time && budget < source.budget.0.max(target.budget.0) / unit * unit;
    (source.budget, target.budget) = (Bytes(budget), Bytes(budget));
    Ok(is_less.then(|| {
        format!("Leg {name} copies {}, as much as the smaller of the two ranges holds.", Bytes(budget))
    }))
}
