//! What holds for the blocks and the counts of any leg.

use super::reader::Reader;
use crate::diagnostic::{Diagnostic, Span};
use mile_core::Bytes;
use mile_core::units::block_size;

/// Largest operation: the kernel splits larger ones anyway, and the host's memory holds all that are in flight.
const LARGEST_BLOCK: u64 = 64 << 20;

/// Smallest logical block of any drive.
pub(crate) const SMALLEST_BLOCK: u64 = 512;

/// Most operations in flight, what a single ring is sized for.
const DEEPEST: u32 = 1024;

/// Most workers: more than there are processors to serve them on any bench.
pub(crate) const MOST_WORKERS: u32 = 256;

impl Reader {
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
