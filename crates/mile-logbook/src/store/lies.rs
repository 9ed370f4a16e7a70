//! By what a file is known that is read as it lies there.

use std::path::Path;

/// By what a file that was changed is known: its length, and when it was changed last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Lies(u64, i64, i64);

impl Lies {
    pub(super) fn at(path: &Path) -> Option<Self> {
        use std::os::unix::fs::MetadataExt;
        let meta = std::fs::metadata(path).ok()?;
        Some(Self(meta.len(), meta.mtime(), meta.mtime_nsec()))
    }
}
