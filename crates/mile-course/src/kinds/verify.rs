//! The verify: what is read is held against what the run wrote. What each leg writes is told from what earlier legs wrote: the numbers of their
//! passes, and what a verifying leg goes by.

use super::transfer::{Kind, Transfer, nothing, read as read_transfer};
use crate::course::order::Access;
use crate::diagnostic::Span;
use crate::parse::clause::Clauses;
use crate::parse::reader::Reader;
use crate::plan::fit::without;
use crate::plan::leg::{PlannedLeg, Work};
use mile_core::{Bytes, Op};

/// Puts it together.
pub(crate) fn read(reader: &mut Reader, span: Span, clauses: Clauses, unread: bool) -> Transfer {
    read_transfer(reader, span, nothing(Op::Read, Kind::Verify, Access::Sequential), clauses, unread)
}

/// Numbers the legs that write, in order, so that older data is told from newer; finds for each leg that verifies what wrote
/// its range, and has those legs seal what they write.
pub(crate) fn number_passes(legs: &mut [PlannedLeg], errors: &mut Vec<String>) {
    let mut pass = 0;
    for i in 0..legs.len() {
        let (before, rest) = legs.split_at_mut(i);
        let leg = &mut rest[0];
        let Work::Transfer(t) = &mut leg.work else { continue };
        if t.load.op != Op::Read {
            pass += 1;
            t.pass = pass;
            continue;
        }
        if !t.verify {
            continue;
        }
        let (from, to) = (t.start.0, t.start.0 + t.length.0);
        // What lies open yet, and the earliest pass of those that cover the rest.
        let mut open = vec![(from, to)];
        let mut first = None;
        for earlier in before.iter_mut().rev() {
            match &mut earlier.work {
                Work::Transfer(w)
                    if w.load.op != Op::Read && w.start.0 < to && from < w.start.0 + w.length.0 =>
                {
                    // Of what is written over again too: where that is lost, what lies there is known for what it is.
                    w.sealed = true;
                    if open.is_empty() {
                        continue;
                    }
                    if w.copy.is_some() {
                        errors.push(format!(
                            "Leg {} verifies what leg {} copies there, but only what the run writes itself bears the stamps that are verified.",
                            leg.name, earlier.name
                        ));
                        open.clear();
                        first = Some(w.pass);
                        continue;
                    }
                    let whole = w.load.op == Op::Write
                        && w.load.access == Access::Sequential
                        && (w.load.workers == 1 || w.budget.0 >= w.length.0)
                        && earlier.time.is_none()
                        && earlier.seen.is_empty();
                    if w.load.incompressible < 1.0 {
                        errors.push(format!(
                            "Leg {} verifies what leg {} writes, but only data that cannot be compressed is verified: take out `incompressible` there.",
                            leg.name, earlier.name
                        ));
                    }
                    if whole {
                        first = Some(w.pass);
                        open = without(&open, (w.start.0, w.start.0 + w.budget.0.min(w.length.0)));
                    }
                }
                Work::Discard { start, length } if start.0 < to && from < start.0 + length.0 => break,
                _ => {}
            }
        }
        match first.filter(|_| open.is_empty()) {
            Some(first) => t.pass = first,
            None => errors.push(format!(
                "Leg {} verifies {} to {}, but the legs before it do not write the whole of that sequentially: there is nothing to hold it against.",
                leg.name,
                Bytes(from),
                Bytes(to)
            )),
        }
    }
}
