//! The self-test: the drive tests itself, all of it or a part.

use crate::course::position::{Range, WHOLE};
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::clause::{Clause, Clauses, only_a_limit, only_over};
use crate::parse::reader::{Read, Reader};
use mile_core::health::SelfTestKind;
use mile_core::{Bytes, Nanos};

/// Has the drive test itself.
#[derive(Clone, Debug, PartialEq)]
pub struct SelfTest {
    /// Which test.
    pub kind: SelfTestKind,
    /// What a selective test reads; all of the drive for another.
    pub over: Range,
    /// It takes so long at the longest.
    pub at_most: Option<Nanos>,
}

/// `short`, `extended`, `conveyance` or `selective`, behind `self-test`.
pub(crate) fn head(reader: &mut Reader) -> Read<Clause> {
    Ok(Clause::SelfTest(match reader.one_of(&["short", "extended", "conveyance", "selective"])? {
        0 => SelfTestKind::Short,
        1 => SelfTestKind::Extended,
        2 => SelfTestKind::Conveyance,
        _ => SelfTestKind::Selective,
    }))
}

/// Puts it together.
pub(crate) fn read(reader: &mut Reader, span: Span, kind: SelfTestKind, clauses: Clauses) -> SelfTest {
    let (over, rest) =
        if kind == SelfTestKind::Selective { only_over(clauses) } else { (Some(WHOLE), clauses) };
    if over.is_none() {
        let nowhere =
            Diagnostic::new(span, "a selective self-test reads a part of the drive, which is not said");
        reader.errors.push(nowhere.hint("add it, such as `self-test selective, over 10 % to 20 %`"));
    }
    SelfTest { kind, over: over.unwrap_or(WHOLE), at_most: only_a_limit(reader, rest, "a self-test") }
}

/// In words.
pub(crate) fn words(kind: SelfTestKind) -> String {
    format!("the drive tests itself ({})", kind.word())
}

/// A selective one in words.
pub(crate) fn selective_words(start: Bytes, length: Bytes) -> String {
    format!("the drive tests itself from {start} to {}", Bytes(start.0 + length.0))
}
