//! The scan: a range is seen zone by zone, in an order that parts address and time, and what stands out is looked at more closely.

use super::transfer::{self, Fitted, Kind, PlannedTransfer, Transfer, nothing};
use crate::course::order::{Access, ScanOrder};
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::clause::{Clause, Clauses};
use crate::parse::reader::Reader;
use crate::plan::fit::Fit;
use mile_core::surface::refine::{MOST_READ, REFINE};
use mile_core::units::block_size;
use mile_core::{Bytes, Op};

/// Zones of a scan where it does not say.
const ZONES: u32 = 512;

/// Largest block of a leg that looks for edges, and its greatest depth: all that is underway is less than the shortest stretch.
const REFINES_BY: Bytes = Bytes(256 << 10);
const REFINES_AT: u32 = 8;

/// Zones of a scan at the most.
const MOST_ZONES: u32 = 100_000;

/// What the leg does that refines.
pub(crate) const REFINING: &str = "looking for the edges of hollows,";

/// Whether it writes, and the order, behind `scan`.
pub(crate) fn head(reader: &mut Reader) -> Clause {
    let op = if reader.take_word("write") { Op::Write } else { Op::Read };
    Clause::Scan(op, scan_order(reader))
}

fn scan_order(reader: &mut Reader) -> Option<ScanOrder> {
    [ScanOrder::Forward, ScanOrder::Backward, ScanOrder::Random]
        .into_iter()
        .find(|order| reader.take_word(order.word()))
}

/// What only a scan says of itself.
fn is_own(clause: &Clause) -> bool {
    matches!(clause, Clause::Zones(_) | Clause::Refine(_) | Clause::Verify | Clause::BadTime(_))
}

/// Puts it together.
pub(crate) fn read(
    reader: &mut Reader,
    span: Span,
    (op, order): (Op, Option<ScanOrder>),
    clauses: Clauses,
    unread: bool,
) -> Transfer {
    let (own, rest): (Vec<_>, Vec<_>) = clauses.partition(|(clause, _)| is_own(clause));
    let scan = nothing(op, Kind::Scan(ZONES, order), Access::Sequential);
    let mut leg = transfer::read(reader, span, scan, rest.into_iter(), unread);
    let mut said: Vec<std::mem::Discriminant<Clause>> = Vec::new();
    for (clause, at) in own {
        let no = |message: &str, hint: &str| Diagnostic::new(at, message).hint(hint);
        let kind = std::mem::discriminant(&clause);
        if said.contains(&kind) {
            reader.errors.push(no("this is said twice in the leg", "keep one of them"));
            continue;
        }
        said.push(kind);
        match clause {
            Clause::Zones(count) => {
                leg.kind = Kind::Scan(reader.checked_count(at, "zones", count, MOST_ZONES), order);
            }
            Clause::Refine(to) if to.0 < 1 << 20 || !to.0.is_multiple_of(1 << 20) => {
                reader.errors.push(no("edges are found to a whole number of MiB", "write `refine to 1 MiB`"))
            }
            Clause::Refine(_) if op == Op::Write => reader.errors.push(no(
                "edges are looked for by reading",
                "let a scan that reads follow, with `refine to 1 MiB`",
            )),
            Clause::Refine(to) => leg.refine = Some(to),
            Clause::Verify if op == Op::Read => leg.verify = true,
            Clause::Verify => reader.errors.push(no(
                "only a scan that reads says `verify` beside something else",
                "make it a leg of its own: `verify, blocks 1 MiB, depth 16`",
            )),
            Clause::BadTime(time) if time.0 < 1_000_000_000 => reader.errors.push(no(
                "less than a second is no time to look at bad stretches",
                "write `bad stretches 10 min`",
            )),
            Clause::BadTime(time) => leg.bad_time = Some(time),
            _ => {}
        }
    }
    leg
}

/// The passes of a scan, and the leg that refines what they show. A scan that is given no order has two passes: what goes with the time goes with
/// other addresses in the second one. Legs that run at the same time as others have one pass.
pub(crate) fn passes(
    name: &str,
    transfer: &Transfer,
    (zones, order): (u32, Option<ScanOrder>),
    together: bool,
) -> Vec<(String, Transfer)> {
    let orders = match order {
        Some(order) => vec![order],
        // What is written twice costs wear twice.
        None if together || transfer.load.op == Op::Write => vec![ScanOrder::Forward],
        None => vec![ScanOrder::Forward, ScanOrder::Random],
    };
    let of = |order: ScanOrder, refine: Option<Bytes>| {
        let kind = Kind::Scan(zones, Some(order));
        let mut own = Transfer { kind, refine, ..transfer.clone() };
        if refine.is_some() {
            // An operation is slow as a whole, so that short ones know better where it begins. As many are in flight as in the passes: where one at a
            // time is read, most of its time is what any operation takes, and a stretch that is weak by a fifth shows by a few per cent.
            own.load.block = own.load.block.min(REFINES_BY);
            own.load.depth = own.load.depth.min(REFINES_AT);
            own.load.workers = 1;
            // The passes have read all of it.
            own.verify = false;
        }
        own
    };
    let one = orders.len() == 1;
    let pass = |(i, order): (usize, &ScanOrder)| {
        let name = if one { name.to_owned() } else { format!("pass {} {} / {name}", i + 1, order.word()) };
        (name, of(*order, None))
    };
    let mut all: Vec<(String, Transfer)> = orders.iter().enumerate().map(pass).collect();
    // What stands out in them is looked at more closely, when all passes are over.
    if let Some(to) = transfer.refine {
        let name = format!("{REFINE} {} / {name}", block_size(to));
        all.push((name, of(ScanOrder::Forward, Some(to))));
    }
    all
}

/// Fits one of its passes to a drive, or the leg that refines.
pub(crate) fn fit(
    fit: &mut Fit<'_>,
    name: &str,
    leg: &Transfer,
    (zones, order): (u32, Option<ScanOrder>),
) -> Option<Fitted> {
    let mut fitted = transfer::fit(fit, name, leg)?;
    let (t, block) = (&mut fitted.0, leg.load.block.0);
    t.order = order.unwrap_or_default();
    if leg.refine.is_some() {
        t.budget = Bytes(t.length.0.min(MOST_READ.div_ceil(block) * block));
    } else {
        // A zone is at least 1 MiB, and holds at least one block.
        t.zones = u64::from(zones).min(t.length.0 / block.max(1 << 20)).max(1) as u32;
    }
    Some(fitted)
}

/// What it does, as a course says it: `scan in 512 zones, forward and in random order`.
pub(crate) fn words(op: Op, zones: u32, order: Option<ScanOrder>) -> String {
    match order {
        order if op == Op::Write => format!("write {zones} zones, {}", order.unwrap_or_default().word()),
        None => format!("scan in {zones} zones, forward and in random order"),
        Some(ScanOrder::Random) => format!("scan in {zones} zones, in random order"),
        Some(order) => format!("scan in {zones} zones, {}", order.word()),
    }
}

/// What it does: `scanning 512 zones forward,`.
pub(crate) fn verb(op: Op, zones: u32, order: ScanOrder, verify: bool) -> String {
    let how = if verify { "scanning and verifying" } else { "scanning" };
    match order {
        order if op == Op::Write => format!("writing {zones} zones, in {} order,", order.word()),
        ScanOrder::Random => format!("{how} {zones} zones in random order,"),
        order => format!("{how} {zones} zones {},", order.word()),
    }
}

impl PlannedTransfer {
    /// The zones of a scan in the order in which they are visited: first byte and length of each. `leg` is its place in the plan, so that two passes in a
    /// random order have two orders, the same whenever the course is run. Empty where it is no scan.
    pub fn visits(&self, leg: u32) -> Vec<(Bytes, Bytes)> {
        let blocks = self.length.0 / self.load.block.0.max(1);
        let edge = |i: u64| u128::from(blocks) * u128::from(i) / u128::from(self.zones.max(1));
        let at = |i: u64| self.start.0 + edge(i) as u64 * self.load.block.0;
        let mut visits: Vec<(Bytes, Bytes)> =
            (0..u64::from(self.zones)).map(|i| (Bytes(at(i)), Bytes(at(i + 1) - at(i)))).collect();
        match self.order {
            ScanOrder::Forward => {}
            ScanOrder::Backward => visits.reverse(),
            ScanOrder::Random => {
                // Fisher and Yates, with the numbers of SplitMix64 (Steele, Lea and Flood, 2014).
                let mut state = u64::from(leg) << 32 | u64::from(self.zones);
                for i in (1..visits.len()).rev() {
                    state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
                    let mut z = state;
                    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
                    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
                    z ^= z >> 31;
                    visits.swap(i, ((u128::from(z) * (i as u128 + 1)) >> 64) as usize);
                }
            }
        }
        visits
    }
}
