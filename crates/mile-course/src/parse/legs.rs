//! A leg: its head, its clauses, and whether they make sense together.

use super::clauses::Clause;
use super::{MOST_LEGS, Parser, Unread};
use crate::course::{Access, Action, End, Kind, Leg, Range, Rest, ScanOrder, Seen, Transfer, WHOLE};
use crate::diagnostic::{Diagnostic, Span};
use crate::token;
use mile_core::health::SelfTestKind;
use mile_core::surface::refine::REFINE;
use mile_core::{Bytes, LegName, Op, units::block_size};

/// Largest operation: the kernel splits larger ones anyway, and the host's memory holds all that are in flight.
const LARGEST_BLOCK: u64 = 64 << 20;
/// Smallest logical block of any drive.
const SMALLEST_BLOCK: u64 = 512;
/// Most operations in flight, what a single ring is sized for.
const DEEPEST: u32 = 1024;
/// Most workers: more than there are processors to serve them on any bench.
const MOST_WORKERS: u32 = 256;
/// Zones of a scan where it does not say.
const ZONES: u32 = 512;
/// Largest block of a leg that looks for edges.
const REFINES_BY: Bytes = Bytes(256 << 10);
/// Zones of a scan at the most.
const MOST_ZONES: u32 = 100_000;

/// A transfer of which nothing is said yet.
pub(crate) fn nothing(op: Op, kind: Kind, access: Access) -> Transfer {
    // What only brings the drive into a state, or looks it over, need not say how.
    let own = matches!(kind, Kind::Fill(_) | Kind::Scan(..));
    Transfer {
        op,
        reads: 0.0,
        kind,
        access,
        block: Bytes(if own { 1 << 20 } else { 0 }),
        depth: if own { 16 } else { 1 },
        workers: 1,
        rate: None,
        over: WHOLE,
        shift: Bytes(0),
        incompressible: 1.0,
        cached: false,
        until: Vec::new(),
        at_most: None,
        at_most_moved: None,
        refine: None,
        verify: false,
        bad_time: None,
        copy: None,
    }
}

pub(crate) type Clauses = std::vec::IntoIter<(Clause, Span)>;

/// The range that is said behind an action that takes one, and what else is said.
fn only_over(clauses: Clauses) -> (Option<Range>, Clauses) {
    let mut over = None;
    let rest = left_of(clauses, |clause| match clause {
        Clause::Over(range) if over.is_none() => {
            over = Some(*range);
            true
        }
        _ => false,
    });
    (over, rest)
}

/// The clauses that are not taken.
fn left_of(clauses: Clauses, mut take: impl FnMut(&Clause) -> bool) -> Clauses {
    clauses.filter(|(clause, _)| !take(clause)).collect::<Vec<_>>().into_iter()
}

/// A leg, or the passes of a scan and the leg that refines what they show. A scan that is given no order has two passes: what goes with the time goes with other addresses in the second one. Legs that run at the
/// same time as others have one pass.
fn passes(name: String, action: Action, together: bool) -> Vec<(String, Action)> {
    let action = match action {
        Action::Files(files) => return crate::files::with_source(name, *files),
        other => other,
    };
    let Action::Transfer(transfer) = &action else { return vec![(name, action)] };
    let Kind::Scan(zones, order) = transfer.kind else { return vec![(name, action)] };
    let orders = match order {
        Some(order) => vec![order],
        // What is written twice costs wear twice.
        None if together || transfer.op == Op::Write => vec![ScanOrder::Forward],
        None => vec![ScanOrder::Forward, ScanOrder::Random],
    };
    let of = |order: ScanOrder, refine: Option<Bytes>| {
        let kind = Kind::Scan(zones, Some(order));
        let mut own = Transfer { kind, refine, ..(**transfer).clone() };
        if refine.is_some() {
            // An operation is slow as a whole, so that short ones know better where it begins; and of several in flight one slow operation makes
            // the others wait or not, so that only one at a time takes what its place takes.
            (own.block, own.depth, own.workers) = (own.block.min(REFINES_BY), 1, 1);
            // The passes have read all of it.
            own.verify = false;
        }
        Action::Transfer(Box::new(own))
    };
    let one = orders.len() == 1;
    let pass = |(i, order): (usize, &ScanOrder)| {
        let name = if one { name.clone() } else { format!("pass {} {} / {name}", i + 1, order.word()) };
        (name, of(*order, None))
    };
    let mut all: Vec<(String, Action)> = orders.iter().enumerate().map(pass).collect();
    // What stands out in them is looked at more closely, when all passes are over.
    if let Some(to) = transfer.refine {
        let name = format!("{REFINE} {} / {name}", block_size(to));
        all.push((name, of(ScanOrder::Forward, Some(to))));
    }
    all
}

impl Parser {
    /// A leg: its head, and all clauses up to what is no clause of it.
    pub(super) fn leg(&mut self) {
        let line = self.here().line;
        self.at += 1;
        let head = self.here();
        let name = self.name("a name for the leg");
        let name = match name {
            Ok(base) => {
                let name = LegName { base, ..self.name.clone() }.to_string();
                if let Some(first) = self.names.get(&name) {
                    let first = first.line;
                    let hint = if first == line {
                        "a sweep has each value once, and a battery that is used again needs another name: `use quick as after`"
                    } else {
                        "every leg has a name of its own, so that its results can be found"
                    };
                    self.errors.push(
                        Diagnostic::new(head, format!("a leg named `{name}` is already on line {first}"))
                            .hint(hint),
                    );
                }
                self.names.insert(name.clone(), head);
                Some(name)
            }
            Err(Unread) => {
                self.skip_clause();
                self.names.insert(String::new(), head);
                None
            }
        };
        let on_at = self.here();
        let says_on = self.is_word(0, "on");
        let on = self.lanes_of_leg().unwrap_or_else(|super::Unread| {
            self.skip_clause();
            Vec::new()
        });
        self.end_clause();
        let mut clauses = Vec::new();
        loop {
            self.give_up();
            match self.peek() {
                None => break,
                Some(token::Kind::LineEnd | token::Kind::Comma) => self.at += 1,
                Some(_) if self.at_structure() => break,
                _ => {
                    let span = self.here();
                    let errors = self.errors.len();
                    self.unit = None;
                    match self.clause() {
                        Ok(clause) => clauses.push((clause, span)),
                        Err(Unread) => {
                            self.skip_clause();
                            clauses.push((Clause::Unread, span));
                        }
                    }
                    // `discard over 0 % to 50 %` may be said in one breath.
                    let goes_on =
                        self.is_word(0, "over") && matches!(clauses.last(), Some((Clause::Discard, _)));
                    if self.errors.len() == errors && !goes_on {
                        self.end_clause();
                    }
                }
            }
        }
        let action = self.action(head, clauses);
        let on = match &action {
            Some(Action::Copy(_)) if says_on => {
                self.errors.push(
                    Diagnostic::new(on_at, "a copy is on the lanes that it is from and to")
                        .hint("take out `on` and what is behind it"),
                );
                on
            }
            Some(Action::Copy(copy)) => vec![copy.from, copy.to],
            _ => on,
        };
        // What runs at the same time has lanes of its own.
        let others = self.legs.iter().rev().take_while(|l| self.together && l.stage == self.stage);
        if let Some(i) = others.flat_map(|l| &l.lanes).find(|i| on.contains(i)) {
            let lane = self.lanes.get(*i).map_or("", |l| l.name.as_str());
            self.errors.push(
                Diagnostic::new(on_at, format!("the lane `{lane}` has a leg here already"))
                    .hint("say which lanes this leg is on: `leg NAME on LANE`"),
            );
        }
        self.name_bytes += name.as_ref().map_or(0, String::len);
        if self.legs.len() >= MOST_LEGS || self.name_bytes > super::MOST_NAME_BYTES {
            return self.too_many_legs(head);
        }
        if let (Some(name), Some(action)) = (name, action) {
            for (name, action) in passes(name, action, self.together) {
                self.legs.push(Leg { name, line, lanes: on.clone(), stage: self.stage, action });
                self.stage += usize::from(!self.together);
            }
        }
    }

    /// Puts the clauses of a leg together.
    fn action(&mut self, head: Span, clauses: Vec<(Clause, Span)>) -> Option<Action> {
        let unread = clauses.iter().any(|(c, _)| matches!(c, Clause::Unread));
        let clauses: Vec<_> = clauses.into_iter().filter(|(c, _)| !matches!(c, Clause::Unread)).collect();
        let mut clauses = clauses.into_iter();
        let errors = self.errors.len();
        let action = match clauses.next() {
            Some((Clause::Rest(until), span)) => self.rest(span, until, clauses),
            Some((Clause::Transfer(op, access), span)) => {
                self.transfer(span, nothing(op, Kind::Plain, access), clauses, unread)
            }
            Some((Clause::Verify, span)) => {
                self.transfer(span, nothing(Op::Read, Kind::Verify, Access::Sequential), clauses, unread)
            }
            Some((Clause::Fill(to), span)) => {
                self.transfer(span, nothing(Op::Write, Kind::Fill(to), Access::Sequential), clauses, unread)
            }
            Some((Clause::Scan(op, order), span)) => {
                let scan = nothing(op, Kind::Scan(ZONES, order), Access::Sequential);
                self.transfer(span, scan, clauses, unread)
            }
            Some((Clause::Files(op, from), span)) => self.files(span, (op, from), clauses, unread),
            Some((Clause::Copy(from, to), span)) => self.copy(span, (from, to), clauses.collect(), unread),
            Some((Clause::Flush, _)) => {
                self.nothing_more(clauses, "a flush");
                Some(Action::Flush)
            }
            Some((Clause::Health, _)) => {
                self.nothing_more(clauses, "a look at the health");
                Some(Action::Health)
            }
            Some((Clause::SelfTest(kind), span)) => {
                let (over, rest) = if kind == SelfTestKind::Selective {
                    let (over, rest) = only_over(clauses);
                    if over.is_none() {
                        self.errors.push(
                            Diagnostic::new(
                                span,
                                "a selective self-test reads a part of the drive, which is not said",
                            )
                            .hint("add it, such as `self-test selective, over 10 % to 20 %`"),
                        );
                    }
                    (over.unwrap_or(WHOLE), rest)
                } else {
                    (WHOLE, clauses)
                };
                let at_most = self.only_a_limit(rest, "a self-test");
                Some(Action::SelfTest(kind, over, at_most))
            }
            Some((Clause::Ask(text), _)) => {
                let at_most = self.only_a_limit(clauses, "a word to the operator");
                Some(Action::Ask(text, at_most))
            }
            Some((Clause::Discard, _)) => {
                let (over, rest) = only_over(clauses);
                self.nothing_more(rest, "a discard");
                Some(Action::Discard(over.unwrap_or(WHOLE)))
            }
            Some((_, span)) => {
                if !unread {
                    self.errors.push(
                        Diagnostic::new(span, "a leg begins with what it does")
                            .hint("begin with `write`, `read` or `mixed` and `sequential` or `random`, or with `verify`, `fill`, `scan`, `files`, `copy`, `flush`, `discard`, `health`, `self-test`, `ask` or `rest`"),
                    );
                }
                None
            }
            None => {
                if !unread {
                    self.errors.push(
                        Diagnostic::new(head, "this leg does nothing")
                            .hint("say below it what it does, such as `rest for 1 min` or `write sequential, blocks 1 MiB`"),
                    );
                }
                None
            }
        };
        action.filter(|_| self.errors.len() == errors && !unread)
    }

    /// The longest time of an action that takes no other clause.
    fn only_a_limit(&mut self, clauses: Clauses, what: &str) -> Option<mile_core::Nanos> {
        let mut at_most = None;
        let rest = left_of(clauses, |clause| match clause {
            Clause::AtMost(time) if at_most.is_none() => {
                at_most = Some(*time);
                true
            }
            _ => false,
        });
        self.nothing_more(rest, what);
        at_most
    }

    /// Reports clauses behind an action that takes none of them.
    fn nothing_more(&mut self, clauses: Clauses, what: &str) {
        for (_, span) in clauses {
            self.errors
                .push(Diagnostic::new(span, format!("this does not belong to {what}, or is said twice")));
        }
    }

    fn rest(&mut self, span: Span, mut until: Vec<End>, clauses: Clauses) -> Option<Action> {
        let waits = |end: &End| {
            matches!(
                end,
                End::After(_)
                    | End::Seen(Seen::Below(..) | Seen::Above(..) | Seen::Stable(..) | Seen::Channel(..))
            )
        };
        let hint = "a rest takes `for TIME`, `until temperature below T °C` and one `at most TIME`";
        let mut at_most = None;
        if !until.iter().all(waits) {
            self.errors
                .push(Diagnostic::new(span, "nothing is moved in a rest that could end it so").hint(hint));
        }
        for (clause, span) in clauses {
            match clause {
                Clause::Until(ends) if ends.iter().all(waits) => until.extend(ends),
                Clause::AtMost(time) if at_most.is_none() => at_most = Some(time),
                _ => self.errors.push(
                    Diagnostic::new(span, "this does not belong to a rest, or is said twice").hint(hint),
                ),
            }
        }
        if until.is_empty() {
            self.errors
                .push(Diagnostic::new(span, "this rest never ends").hint(
                    "write `rest for 10 min`, or `rest until temperature below 35 °C, at most 10 min`",
                ));
            return None;
        }
        if at_most.is_none() && !until.iter().any(|e| matches!(e, End::After(_))) {
            self.errors.push(
                Diagnostic::new(span, "this rest may never end, as a temperature may never be reached")
                    .hint("add a limit: `, at most 30 min`"),
            );
        }
        Some(Action::Rest(Rest { until, at_most }))
    }

    pub(crate) fn transfer(
        &mut self,
        span: Span,
        mut leg: Transfer,
        clauses: Clauses,
        unread: bool,
    ) -> Option<Action> {
        let mut said: Vec<std::mem::Discriminant<Clause>> = Vec::new();
        let mut reads = None;
        let fill = matches!(leg.kind, Kind::Fill(_));
        for (clause, span) in clauses {
            let kind = std::mem::discriminant(&clause);
            if said.contains(&kind) {
                self.errors
                    .push(Diagnostic::new(span, "this is said twice in the leg").hint("keep one of them"));
                continue;
            }
            said.push(kind);
            let no = |message: &str, hint: &str| Diagnostic::new(span, message).hint(hint);
            match clause {
                Clause::Over(_) | Clause::Until(_) | Clause::AtMost(_) | Clause::AtMostMoved(_) if fill => {
                    self.errors.push(no(
                        "a fill goes from the front to its level, however long that takes",
                        "to write another range, or for a time, begin with `write sequential`",
                    ));
                }
                Clause::Blocks(block) => leg.block = self.checked_block(span, block),
                Clause::Depth(depth) => leg.depth = self.checked_depth(span, depth),
                Clause::Over(range) => leg.over = range,
                Clause::Until(until) => leg.until = until,
                Clause::AtMost(time) => leg.at_most = Some(time),
                Clause::AtMostMoved(bytes) => leg.at_most_moved = Some(bytes),
                Clause::Workers(count) => {
                    leg.workers = self.checked_count(span, "workers", count, MOST_WORKERS)
                }
                Clause::Rate(rate) => leg.rate = Some(rate),
                Clause::Shifted(by) => leg.shift = by,
                Clause::Cached => leg.cached = true,
                Clause::Incompressible(share) if leg.op != Op::Read => leg.incompressible = share,
                Clause::Incompressible(_) => self.errors.push(no(
                    "only what is written can be compressed or not",
                    "a read finds what the leg before it wrote",
                )),
                Clause::Zones(count) => match leg.kind {
                    Kind::Scan(_, order) => {
                        leg.kind = Kind::Scan(self.checked_count(span, "zones", count, MOST_ZONES), order);
                    }
                    _ => self.errors.push(no("only a scan has zones", "begin with `scan`")),
                },
                Clause::Refine(to) => match leg.kind {
                    Kind::Scan(..) if to.0 < 1 << 20 || !to.0.is_multiple_of(1 << 20) => self
                        .errors
                        .push(no("edges are found to a whole number of MiB", "write `refine to 1 MiB`")),
                    Kind::Scan(..) if leg.op == Op::Write => self.errors.push(no(
                        "edges are looked for by reading",
                        "let a scan that reads follow, with `refine to 1 MiB`",
                    )),
                    Kind::Scan(..) => leg.refine = Some(to),
                    _ => self.errors.push(no("only a scan refines what it finds", "begin with `scan`")),
                },
                Clause::Verify => match leg.kind {
                    Kind::Scan(..) if leg.op == Op::Read => leg.verify = true,
                    _ => self.errors.push(no(
                        "only a scan that reads says `verify` beside something else",
                        "make it a leg of its own: `verify, blocks 1 MiB, depth 16`",
                    )),
                },
                Clause::BadTime(time) => match leg.kind {
                    Kind::Scan(..) if time.0 < 1_000_000_000 => self.errors.push(no(
                        "less than a second is no time to look at bad stretches",
                        "write `bad stretches 10 min`",
                    )),
                    Kind::Scan(..) => leg.bad_time = Some(time),
                    _ => self.errors.push(no("only a scan comes back to bad stretches", "begin with `scan`")),
                },
                Clause::Reads(share) if leg.op == Op::Mixed => reads = Some(share),
                Clause::Reads(_) => self.errors.push(no(
                    "only a mix has a share of reads",
                    "begin with `mixed random` or `mixed sequential`",
                )),
                Clause::Unread => {}
                Clause::Target(_) | Clause::Buffer(_) => {
                    self.errors.push(no(
                        "only a copy has a target and a buffer",
                        "begin with `copy from LANE to LANE`",
                    ));
                }
                _ => self
                    .errors
                    .push(no("a leg does one thing only", "begin another leg for this with `leg NAME`")),
            }
        }
        if leg.op == Op::Mixed && reads.is_none() && !unread {
            self.errors.push(
                Diagnostic::new(span, "the mix does not say how much of it is reads")
                    .hint("add `reads 70 %`"),
            );
        }
        leg.reads = reads.unwrap_or(0.0);
        if leg.block.0 == 0 && !unread && self.errors.iter().all(|e| e.span.line < span.line) {
            self.errors.push(
                Diagnostic::new(span, "the leg does not say how large its blocks are")
                    .hint("add `blocks 1 MiB`"),
            );
        }
        let limited = leg.at_most.is_some()
            || leg.at_most_moved.is_some()
            || leg.until.iter().any(|e| !matches!(e, End::Seen(_)));
        if !leg.until.is_empty() && !limited && !unread {
            self.errors.push(
                Diagnostic::new(
                    span,
                    "this leg may never end, as nothing makes sure that its end is reached",
                )
                .hint("add a limit: `at most 30 min`, or `at most 500 GB written`"),
            );
        }
        if !leg.shift.0.is_multiple_of(SMALLEST_BLOCK) || (leg.block.0 > 0 && leg.shift >= leg.block) {
            self.errors.push(Diagnostic::new(
                span,
                "addresses are shifted by a multiple of 512 B that is smaller than the block",
            ));
        }
        Some(Action::Transfer(Box::new(leg)))
    }

    pub(crate) fn checked_depth(&mut self, span: Span, depth: f64) -> u32 {
        self.checked_count(span, "operations in flight", depth, DEEPEST)
    }

    pub(crate) fn checked_block(&mut self, span: Span, block: Bytes) -> Bytes {
        let wrong = if block.0 == 0 || !block.0.is_multiple_of(SMALLEST_BLOCK) {
            Some("a block is a multiple of 512 B, the smallest logical block")
        } else if block.0 > LARGEST_BLOCK {
            Some("a block is at most 64 MiB")
        } else {
            None
        };
        if let Some(wrong) = wrong {
            let hint = match block.0 {
                b if b.is_multiple_of(1000) && b > 0 => {
                    format!("block sizes are binary: did you mean {}?", block_size(Bytes(b / 1000 * 1024)))
                }
                _ => "write `blocks 4 KiB` or `blocks 1 MiB`".to_owned(),
            };
            self.errors
                .push(Diagnostic::new(span, format!("{wrong}, found {}", block_size(block))).hint(hint));
        }
        block
    }

    pub(crate) fn checked_count(&mut self, span: Span, what: &str, count: f64, most: u32) -> u32 {
        if count.fract() != 0.0 || !(1.0..=f64::from(most)).contains(&count) {
            self.errors.push(Diagnostic::new(
                span,
                format!("the number of {what} is a whole number from 1 to {most}, found {count}"),
            ));
            return 1;
        }
        count as u32
    }
}
