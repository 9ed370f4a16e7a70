//! The mark of a run on the files that it made: a stamp in their first page, by which they are known again.

use crate::io::pattern;
use mile_core::RunId;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

/// Writes the mark of a run to the first page of its file.
pub(crate) fn mark(file: &File, run: RunId) -> io::Result<()> {
    let mut page = vec![0; pattern::SEALED];
    pattern::Pool::new(run, 0, u32::MAX).stamp(&mut page, 0, 0, true);
    file.write_all_at(&page, 0)?;
    file.sync_data()
}

/// The run that made a file, where one of ours did.
pub fn run_of(file: &File) -> Option<RunId> {
    let mut head = [0; pattern::STAMP];
    file.read_exact_at(&mut head, 0).ok()?;
    pattern::read_stamp(&head).filter(|s| s.address == 0).map(|s| s.run)
}
