//! The transfer: a leg that reads or writes, in blocks. A fill, a scan, a verify and the sides of a copy are transfers too, with more that is
//! theirs.

use crate::course::ends::{End, Seen};
use crate::course::order::{Access, ScanOrder};
use crate::course::position::{Position, Range, WHOLE};
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::checks::{MOST_WORKERS, SMALLEST_BLOCK};
use crate::parse::clause::{Clause, Clauses};
use crate::parse::reader::Reader;
use crate::plan::fit::{Fit, shortest, time_of, without};
use mile_core::units::{IN_FLIGHT_MOST, block_size};
use mile_core::{Bytes, Nanos, Op, Workload};
use serde::{Deserialize, Serialize};

/// Bytes at the edges of a range that a read leaves out where nothing was written there: writes and reads in blocks of different
/// sizes do not end at the same place.
const EDGE: u64 = 16 << 20;

/// Bytes at the front of a file that say which run it is of.
const MARK: u64 = 4096;

/// No leg that ends by time alone moves more than this in a second: four times what a PCIe 5.0 x4 link can carry. It turns a
/// time into the byte budget that every leg has.
const FASTEST_BYTES_S: f64 = 64e9;

/// Reads or writes.
#[derive(Clone, Debug, PartialEq)]
pub struct Transfer {
    /// How blocks are moved.
    pub load: Workload,
    /// What it is for.
    pub kind: Kind,
    /// Address range.
    pub over: Range,
    /// Bytes by which addresses are off from whole blocks.
    pub shift: Bytes,
    /// The first of these to be reached ends it; none means one pass.
    pub until: Vec<End>,
    /// It ends after this at the latest.
    pub at_most: Option<Nanos>,
    /// It ends after so many bytes at the latest.
    pub at_most_moved: Option<Bytes>,
    /// Bytes between which the edges of hollows are to be known: a scan that goes on to look for them, or the leg that does.
    pub refine: Option<Bytes>,
    /// Whether a scan holds what it reads against what the run wrote there.
    pub verify: bool,
    /// Longest time that a scan spends on what it could not read, once it has read the rest.
    pub bad_time: Option<Nanos>,
    /// The part that it has in a copy.
    pub copy: Option<CopyPart>,
}

impl Transfer {
    /// What one that is nothing else does, as a course says it: `write sequential`.
    pub(crate) fn words(&self) -> String {
        format!("{} {}", self.load.op.word(), if self.load.is_random() { "random" } else { "sequential" })
    }
}

/// What reads or writes are for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Kind {
    /// Their pace.
    Plain,
    /// To hold what is read against what was written.
    Verify,
    /// To bring the drive to a fill level, with data that stays.
    Fill(Position),
    /// To see the range zone by zone: number of zones, and the order in which they are visited; where none is given, one pass forward and one in a
    /// random order.
    Scan(u32, Option<ScanOrder>),
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

impl CopyPart {
    /// What this side does.
    pub(crate) fn verb(self) -> &'static str {
        if self.is_source { "reading for a copy," } else { "writing a copy," }
    }
}

/// Reads or writes of a planned leg.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedTransfer {
    /// How blocks are moved.
    #[serde(flatten)]
    pub load: Workload,
    /// Whether what is read is held against what was written.
    pub verify: bool,
    /// Whether a later leg verifies what this one writes.
    pub sealed: bool,
    /// Number of this pass of writes, from 1; for a verifying read, the earliest pass whose data may be there.
    pub pass: u32,
    /// First byte that may be touched; a multiple of the block size above the drive's start.
    pub start: Bytes,
    /// Bytes from there that may be touched; a multiple of the block size.
    pub length: Bytes,
    /// Bytes moved after which it ends; a multiple of the block size.
    pub budget: Bytes,
    /// Whether the course gives a time only, so that the budget is no more than a wall.
    pub by_time: bool,
    /// Fill level that it brings the drive to, 0 to 1.
    pub fill: Option<f64>,
    /// Zones that its range is seen in; 0 where it is no scan.
    pub zones: u32,
    /// The order in which they are visited.
    #[serde(default, skip_serializing_if = "is_forward")]
    pub order: ScanOrder,
    /// Bytes between which the edges of hollows are to be known: it reads where the run so far says, and no more than its budget.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refine: Option<Bytes>,
    /// Longest time that a scan spends on what it could not read, once it has read the rest; 10 min where the course gives none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bad_time: Option<Nanos>,
    /// The part that it has in a copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy: Option<CopyPart>,
}

fn is_forward(order: &ScanOrder) -> bool {
    *order == ScanOrder::Forward
}

/// What a transfer does, without its range and its ends.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "as the fields of `PlannedTransfer`, and `Load::words` says what each is")]
pub struct TransferLoad {
    #[serde(flatten)]
    pub load: Workload,
    pub verify: bool,
    pub fill: Option<f64>,
    pub zones: u32,
    #[serde(default, skip_serializing_if = "is_forward")]
    pub order: ScanOrder,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refine: Option<Bytes>,
    /// Bytes by which addresses are off from whole blocks.
    pub shift: Bytes,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy: Option<CopyPart>,
}

impl PlannedTransfer {
    /// What it does, without its range and its ends.
    pub fn without_range(&self) -> TransferLoad {
        TransferLoad {
            load: self.load,
            verify: self.verify,
            fill: self.fill,
            zones: self.zones,
            order: self.order,
            refine: self.refine,
            shift: Bytes(self.start.0 % self.load.block.0.max(1)),
            copy: self.copy,
        }
    }

    /// Bytes that it writes at most; 0 where only a time ends it.
    pub(crate) fn writes(&self) -> u64 {
        match self.load.op {
            Op::Write if !self.by_time => self.budget.0,
            Op::Mixed if !self.by_time => (self.budget.0 as f64 * (1.0 - self.load.reads)) as u64,
            _ => 0,
        }
    }
}

impl TransferLoad {
    /// What one that is nothing else does: `writing`, `reading 70 % and writing`.
    pub(crate) fn verb(&self) -> String {
        match self.load.op {
            Op::Write => "writing".to_owned(),
            Op::Mixed => format!("reading {:.0} % and writing", self.load.reads * 100.0),
            _ => "reading".to_owned(),
        }
    }

    /// In words, behind what it does: `writing 1 MiB blocks, 16 deep`.
    pub(crate) fn words(&self, verb: &str) -> String {
        let order = if self.load.is_random() { "random " } else { "" };
        let mut text =
            format!("{verb} {order}{} blocks, {} deep", block_size(self.load.block), self.load.depth);
        if self.load.workers > 1 {
            text.push_str(&format!(", {} workers", self.load.workers));
        }
        if let Some(rate) = self.load.rate {
            text.push_str(&format!(", at most {rate}"));
        }
        if self.shift.0 > 0 {
            text.push_str(&format!(", shifted by {}", block_size(self.shift)));
        }
        if self.load.incompressible < 1.0 {
            text.push_str(&format!(", {:.0} % incompressible", self.load.incompressible * 100.0));
        }
        if self.load.cached {
            text.push_str(", through the host's cache");
        }
        text
    }
}

/// A transfer of which nothing is said yet.
pub(crate) fn nothing(op: Op, kind: Kind, access: Access) -> Transfer {
    // What only brings the drive into a state, or looks it over, need not say how.
    let own = matches!(kind, Kind::Fill(_) | Kind::Scan(..));
    Transfer {
        load: Workload {
            op,
            reads: 0.0,
            access,
            block: Bytes(if own { 1 << 20 } else { 0 }),
            depth: if own { 16 } else { 1 },
            workers: 1,
            rate: None,
            incompressible: 1.0,
            cached: false,
        },
        kind,
        over: WHOLE,
        shift: Bytes(0),
        until: Vec::new(),
        at_most: None,
        at_most_moved: None,
        refine: None,
        verify: false,
        bad_time: None,
        copy: None,
    }
}

/// Puts a transfer together.
pub(crate) fn read(
    reader: &mut Reader,
    span: Span,
    mut leg: Transfer,
    clauses: Clauses,
    unread: bool,
) -> Transfer {
    let mut said: Vec<std::mem::Discriminant<Clause>> = Vec::new();
    let mut reads = None;
    for (clause, span) in clauses {
        let kind = std::mem::discriminant(&clause);
        if said.contains(&kind) {
            reader
                .errors
                .push(Diagnostic::new(span, "this is said twice in the leg").hint("keep one of them"));
            continue;
        }
        said.push(kind);
        let no = |message: &str, hint: &str| Diagnostic::new(span, message).hint(hint);
        match clause {
            Clause::Blocks(block) => leg.load.block = reader.checked_block(span, block),
            Clause::Depth(depth) => leg.load.depth = reader.checked_depth(span, depth),
            Clause::Over(range) => leg.over = range,
            Clause::Until(until) => leg.until = until,
            Clause::AtMost(time) => leg.at_most = Some(time),
            Clause::AtMostMoved(bytes) => leg.at_most_moved = Some(bytes),
            Clause::Workers(count) => {
                leg.load.workers = reader.checked_count(span, "workers", count, MOST_WORKERS)
            }
            Clause::Rate(rate) => leg.load.rate = Some(rate),
            Clause::Shifted(by) => leg.shift = by,
            Clause::Cached => leg.load.cached = true,
            Clause::Incompressible(share) if leg.load.op != Op::Read => leg.load.incompressible = share,
            Clause::Incompressible(_) => reader.errors.push(no(
                "only what is written can be compressed or not",
                "a read finds what the leg before it wrote",
            )),
            Clause::Zones(_) => reader.errors.push(no("only a scan has zones", "begin with `scan`")),
            Clause::Refine(_) => {
                reader.errors.push(no("only a scan refines what it finds", "begin with `scan`"));
            }
            Clause::Verify => reader.errors.push(no(
                "only a scan that reads says `verify` beside something else",
                "make it a leg of its own: `verify, blocks 1 MiB, depth 16`",
            )),
            Clause::BadTime(_) => {
                reader.errors.push(no("only a scan comes back to bad stretches", "begin with `scan`"));
            }
            Clause::Reads(share) if leg.load.op == Op::Mixed => reads = Some(share),
            Clause::Reads(_) => reader.errors.push(no(
                "only a mix has a share of reads",
                "begin with `mixed random` or `mixed sequential`",
            )),
            Clause::Unread => {}
            Clause::Target(_) | Clause::Buffer(_) => {
                reader
                    .errors
                    .push(no("only a copy has a target and a buffer", "begin with `copy from LANE to LANE`"));
            }
            _ => reader
                .errors
                .push(no("a leg does one thing only", "begin another leg for this with `leg NAME`")),
        }
    }
    if leg.load.op == Op::Mixed && reads.is_none() && !unread {
        reader.errors.push(
            Diagnostic::new(span, "the mix does not say how much of it is reads").hint("add `reads 70 %`"),
        );
    }
    leg.load.reads = reads.unwrap_or(0.0);
    if leg.load.block.0 == 0 && !unread && reader.errors.iter().all(|e| e.span.line < span.line) {
        reader.errors.push(
            Diagnostic::new(span, "the leg does not say how large its blocks are").hint("add `blocks 1 MiB`"),
        );
    }
    let limited = leg.at_most.is_some()
        || leg.at_most_moved.is_some()
        || leg.until.iter().any(|e| !matches!(e, End::Seen(_)));
    if !leg.until.is_empty() && !limited && !unread {
        reader.errors.push(
            Diagnostic::new(span, "this leg may never end, as nothing makes sure that its end is reached")
                .hint("add a limit: `at most 30 min`, or `at most 500 GB written`"),
        );
    }
    if !leg.shift.0.is_multiple_of(SMALLEST_BLOCK) || (leg.load.block.0 > 0 && leg.shift >= leg.load.block) {
        reader.errors.push(Diagnostic::new(
            span,
            "addresses are shifted by a multiple of 512 B that is smaller than the block",
        ));
    }
    leg
}

/// A transfer that was fitted to a drive: what it does, the time after which it ends, and what else ends it.
pub(crate) type Fitted = (PlannedTransfer, Option<Nanos>, Vec<Seen>);

/// Fits a transfer to a drive. `None`, with the reason in the errors, where it does not fit.
pub(crate) fn fit(fit: &mut Fit<'_>, name: &str, leg: &Transfer) -> Option<Fitted> {
    let block = leg.load.block.0;
    let logical = fit.drive.logical_block;
    if !block.is_multiple_of(logical.0.max(1)) || !leg.shift.0.is_multiple_of(logical.0.max(1)) {
        fit.errors.push(format!(
            "Leg {name}: blocks of {} are no multiple of this drive's logical block of {}.",
            block_size(if block.is_multiple_of(logical.0.max(1)) { leg.shift } else { leg.load.block }),
            block_size(logical)
        ));
        return None;
    }
    if leg.load.in_flight() > IN_FLIGHT_MOST {
        fit.errors.push(format!(
            "Leg {name}: {} blocks of {} in flight take {} of memory, more than the {IN_FLIGHT_MOST} allowed. Use a smaller depth or block, or fewer workers.",
            u64::from(leg.load.depth).saturating_mul(u64::from(leg.load.workers)),
            block_size(leg.load.block),
            leg.load.in_flight()
        ));
        return None;
    }
    let (start, length) = fit.range(name, leg.over, leg.load.block, leg.shift)?;
    if u64::from(leg.load.workers) > length.0 / block {
        fit.errors.push(format!(
            "Leg {name}: {} workers cannot share {} blocks.",
            leg.load.workers,
            length.0 / block
        ));
        return None;
    }
    minds(fit, name, leg);
    let (mut start, mut length) = (start.0, length.0);
    let is_target = leg.copy.is_some_and(|c| !c.is_source);
    if is_target && !fit.drive.readable && start < MARK {
        // The file is known again by what is written there.
        let kept = (MARK - start).div_ceil(block) * block;
        if kept + block > length {
            fit.errors.push(format!("Leg {name}: the file of the target is too small for a copy."));
            return None;
        }
        (start, length) = (start + kept, length - kept);
        fit.notes.push(format!(
            "Leg {name} leaves the first {} of the target as they are: the file is known again by them.",
            block_size(Bytes(kept))
        ));
    }
    let moved = leg.until.iter().filter_map(|e| if let End::Moved(b) = e { Some(b.0) } else { None });
    let moved = moved.chain(leg.at_most_moved.map(|b| b.0)).min();
    let time = shortest(leg.until.iter().map(time_of).chain([leg.at_most]));
    let one_pass = leg.until.is_empty() || leg.until.contains(&End::Pass);
    let seen = fit.seen(name, &leg.until, "its other ends count");
    let by_time = moved.is_none() && time.is_some() && !one_pass;
    let mut budget = match (moved, time) {
        (Some(bytes), _) => bytes.div_ceil(block) * block,
        (None, Some(time)) if !one_pass => ((time.secs() * FASTEST_BYTES_S) as u64 / block).max(1) * block,
        _ => length,
    };
    if let Some(bytes) = moved.filter(|bytes| *bytes > length) {
        fit.notes.push(format!(
            "Leg {name} asks for {} over a range of {} on this drive: it ends after one pass, {}.",
            Bytes(bytes),
            Bytes(length),
            Bytes(length)
        ));
        budget = length;
    }
    if one_pass {
        budget = budget.min(length);
    }
    let verify = leg.kind == Kind::Verify || leg.verify;
    let mut transfer = PlannedTransfer {
        load: leg.load,
        verify,
        sealed: verify,
        pass: 0,
        start: Bytes(start),
        length: Bytes(length),
        budget: Bytes(budget),
        by_time, // A fill and a scan say these of themselves.
        fill: None,
        zones: 0,
        order: ScanOrder::Forward,
        refine: leg.refine,
        bad_time: leg.bad_time,
        copy: leg.copy,
    };
    check_reads(fit, name, &mut transfer, time.is_none() && seen.is_empty());
    Some((transfer, time, seen))
}

/// Says what a leg asks for that its guards or this drive stand in the way of.
fn minds(fit: &mut Fit<'_>, name: &str, leg: &Transfer) {
    let errors_at_most = fit.errors_at_most;
    for end in &leg.until {
        if let End::Seen(Seen::Errors(count)) = end
            && *count > errors_at_most
        {
            fit.notes.push(format!(
                "Leg {name} waits for {count} errors, but the course ends with error {}: give it `stop if errors above {count}`.",
                errors_at_most + 1
            ));
        }
    }
    if leg.load.cached {
        match fit.drive.cache {
            None => fit.errors.push(format!(
                "Leg {name} goes through the host's cache, which only files do: take out `through the cache`, or name a file."
            )),
            Some(memory) => fit.notes.push(format!(
                "Leg {name} goes through the host's cache: its figures are those of cache and drive together{}.",
                if fit.drive.capacity < memory {
                    format!(", and all of the data fits in this host's {memory} of memory")
                } else {
                    String::new()
                }
            )),
        }
    }
}

/// Refuses to read what was never written: the drive or the file system answers such reads without touching the medium.
/// Only whole sequential passes by bytes count as written beforehand, as nothing else is sure to have covered its range.
fn check_reads(fit: &mut Fit<'_>, name: &str, t: &mut PlannedTransfer, ends_by_bytes: bool) {
    let (start, end) = (t.start.0, t.start.0 + t.length.0);
    if t.load.op == Op::Write {
        if t.load.access == Access::Sequential && ends_by_bytes {
            fit.written = without(&fit.written, (start, start + t.budget.0.min(t.length.0)));
            fit.written.push((start, start + t.budget.0.min(t.length.0)));
            fit.written.sort_unstable();
        }
        return;
    }
    if fit.drive.readable {
        return;
    }
    // The first byte there that was written, if it is near, in whole blocks from the range's own start.
    let block = t.load.block.0;
    let first = fit.written.iter().filter(|w| w.1 > start).map(|w| w.0.max(start)).min().unwrap_or(end);
    let skipped = (first - start).div_ceil(block) * block;
    let start = if skipped <= EDGE { start + skipped } else { start };
    let mut covered = start;
    for &(a, b) in &fit.written {
        if a <= covered {
            covered = covered.max(b);
        }
    }
    let length = covered.min(end).saturating_sub(start) / block * block;
    let left_out = (start - t.start.0) + (end - covered.min(end));
    if left_out > 0 && end - covered.min(end) <= EDGE && 2 * length > t.length.0 {
        let shorter = t.length.0 - length;
        (t.start, t.length) = (Bytes(start), Bytes(length));
        if !t.by_time {
            t.budget = Bytes(t.budget.0.saturating_sub(shorter).max(block).min(length));
        }
    } else if covered < end {
        fit.errors.push(format!(
            "Leg {} reads {} to {}, but nothing is written there before: such reads never reach the medium. Put a leg that writes the range sequentially before it.",
            name,
            Bytes(start),
            Bytes(end)
        ));
    }
}
