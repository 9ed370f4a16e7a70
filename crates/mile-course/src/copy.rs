//! The copy: a leg in which one lane is read and another is written with what was read, through a buffer between them.
//!
//! In a plan, a copy is a read on the one lane and a write on the other, in the same stage. What ties them together is the [`CopyPart`] of
//! each.

use crate::course::{Action, Kind, Transfer};
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::{Clause, Parser, Read};
use crate::plan::{Plan, Work};
use mile_core::units::{IN_FLIGHT_MOST, block_size, common_divisor};
use mile_core::{Bytes, Op};
use serde::{Deserialize, Serialize};

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

/// The part that a lane has in a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CopyPart {
    /// The lane at the other end.
    pub partner: u32,
    /// Whether this lane is the source.
    pub is_source: bool,
    /// Bytes between them.
    pub buffer: Bytes,
}

/// Smallest buffer where the course names none.
const BUFFER: u64 = 64 << 20;

/// Bytes that a side may have in flight.
fn in_flight(t: &Transfer) -> u64 {
    t.block.0.saturating_mul(u64::from(t.depth))
}

impl Copy {
    /// What a lane does in it, if it is one of the two.
    pub fn of_lane(&self, lane: usize) -> Option<Action> {
        let (transfer, partner) = match lane {
            l if l == self.from => (&self.source, self.to),
            l if l == self.to => (&self.target, self.from),
            _ => return None,
        };
        let is_source = lane == self.from;
        let part = CopyPart { partner: partner as u32, is_source, buffer: self.buffer };
        Some(Action::Transfer(Box::new(Transfer { copy: Some(part), ..transfer.clone() })))
    }

    /// In words that need no drive: `copy, blocks 1 MiB, depth 16`.
    pub fn words(&self) -> String {
        let of = |t: &Transfer| format!("blocks {}, depth {}", block_size(t.block), t.depth);
        let (source, target) = (of(&self.source), of(&self.target));
        if source == target { format!("copy, {source}") } else { format!("copy, {source}; target {target}") }
    }
}

impl Parser {
    /// `from upper to lower`, behind `copy`.
    pub(crate) fn copy_lanes(&mut self) -> Read<Clause> {
        let span = self.here();
        self.word("from")?;
        let from = self.lane_named()?;
        self.word("to")?;
        let to = self.lane_named()?;
        if from == to {
            let diagnostic = Diagnostic::new(span, "a copy goes from one lane to another");
            return self.fail(diagnostic.hint("for data that stays on one drive, write and read in legs"));
        }
        Ok(Clause::Copy(from, to))
    }

    /// What is said of the target alone: `blocks 256 KiB`, `depth 4`, `over 0 % to 50 %`, behind `target`.
    pub(crate) fn of_target(&mut self) -> Read<Clause> {
        let inner = match self.one_of(&["blocks", "depth", "over"])? {
            0 => Clause::Blocks(self.size()?),
            1 => Clause::Depth(self.plain("how many operations are in flight, such as `target depth 16`")?),
            _ => Clause::Over(self.range()?),
        };
        Ok(Clause::Target(Box::new(inner)))
    }

    /// Puts a copy together. What is said of it without `target` holds for both sides, but a limit of the rate, which is that of the source.
    pub(crate) fn copy(
        &mut self,
        span: Span,
        (from, to): (usize, usize),
        clauses: Vec<(Clause, Span)>,
        unread: bool,
    ) -> Option<Action> {
        let (mut both, mut of_target, mut buffer) = (Vec::new(), Vec::new(), None);
        for (clause, at) in clauses {
            let no = |text: &str| Diagnostic::new(at, text);
            match clause {
                Clause::Buffer(size) if buffer.is_none() => buffer = Some((size, at)),
                Clause::Buffer(_) => {
                    self.errors.push(no("this is said twice in the leg").hint("keep one of them"))
                }
                Clause::Target(inner) => of_target.push((*inner, at)),
                Clause::Workers(_) | Clause::Shifted(_) | Clause::Incompressible(_) | Clause::Cached => {
                    let text = "a copy is one sequential stream, with the data that is read";
                    self.errors.push(no(text).hint("take this out, or write and read in legs of their own"));
                }
                other => both.push((other, at)),
            }
        }
        let source = super::parse::nothing(Op::Read, Kind::Plain, crate::course::Access::Sequential);
        let Some(Action::Transfer(source)) = self.transfer(span, source, both.into_iter(), unread) else {
            return None;
        };
        let mut target = Transfer { op: Op::Write, rate: None, ..source.as_ref().clone() };
        for (clause, at) in of_target {
            match clause {
                Clause::Blocks(block) => target.block = self.checked_block(at, block),
                Clause::Depth(depth) => target.depth = self.checked_depth(at, depth),
                Clause::Over(range) => target.over = range,
                _ => {}
            }
        }
        let need = source.block.0 + target.block.0;
        let usual = BUFFER.max(2 * (in_flight(&source) + in_flight(&target))).min(IN_FLIGHT_MOST.0);
        let size = buffer.map_or(Bytes(usual), |b| b.0);
        if let Some((_, at)) = buffer.filter(|_| size.0 < need || size > IN_FLIGHT_MOST) {
            let most = block_size(IN_FLIGHT_MOST);
            self.errors.push(Diagnostic::new(
                at,
                format!(
                    "the buffer holds a block of each side at least, {}, and at most {most}",
                    block_size(Bytes(need))
                ),
            ));
        }
        Some(Action::Copy(Box::new(Copy { from, to, buffer: size, source: *source, target })))
    }
}

/// Has both sides of each copy move the same bytes: what fits both, in whole blocks of both.
///
/// # Errors
/// Copies of which nothing fits, in sentences.
pub(crate) fn match_sides(plans: &mut [Plan]) -> Result<(), Vec<String>> {
    let mut errors = Vec::new();
    let legs = plans.iter().map(|p| p.legs.len()).min().unwrap_or(0);
    for leg in 0..legs {
        for lane in 0..plans.len() {
            let side = |plan: &Plan| match plan.legs[leg].work {
                Work::Transfer(t) => t.copy.map(|part| (t, part)),
                _ => None,
            };
            let Some((source, part)) = side(&plans[lane]).filter(|(_, part)| part.is_source) else {
                continue;
            };
            let partner = part.partner as usize;
            let Some((target, _)) = plans.get(partner).and_then(side) else { continue };
            let unit = source.block.0 / common_divisor(source.block.0, target.block.0) * target.block.0;
            let most = if source.by_time { u64::MAX } else { source.length.0.min(target.length.0) };
            let budget = source.budget.0.min(target.budget.0).min(most) / unit * unit;
            let name = plans[lane].legs[leg].name.clone();
            if budget == 0 {
                errors.push(format!(
                    "Leg {name}: the ranges of the copy hold no whole blocks of both sides, {} and {}.",
                    block_size(source.block),
                    block_size(target.block)
                ));
            }
            if !source.by_time && budget < source.budget.0.max(target.budget.0) / unit * unit {
                plans[lane].notes.push(format!(
                    "Leg {name} copies {}, as much as the smaller of the two ranges holds.",
                    Bytes(budget)
                ));
            }
            for lane in [lane, partner] {
                if let Work::Transfer(t) = &mut plans[lane].legs[leg].work {
                    t.budget = Bytes(budget);
                }
            }
        }
    }
    if errors.is_empty() { Ok(()) } else { Err(errors) }
}
