//! Legs that work with whole files.

use super::ends::{Guarded, LegEnd};
use super::state::Run;
use crate::message::EventKind;
use mile_core::files::FileSync;
use mile_core::files::FilesOp;
use mile_core::{Bytes, Nanos, Op};
use mile_course::{PlannedFiles, PlannedLeg, Work};
use mile_drive::drive::PATIENCE;
use mile_drive::{DriveError, FilesWork};
use std::path::PathBuf;

/// What work on files is to the drive under test.
pub(super) fn op_of(op: FilesOp) -> Op {
    match op {
        FilesOp::Write | FilesOp::Copy => Op::Write,
        FilesOp::Read => Op::Read,
        FilesOp::Delete | FilesOp::Source => Op::Idle,
    }
}

impl Run<'_> {
    pub(super) fn files(
        &mut self,
        index: u32,
        leg: &PlannedLeg,
        work: &PlannedFiles,
        began: Nanos,
        moved: Bytes,
    ) -> Result<LegEnd, DriveError> {
        let op = op_of(work.op);
        let sizes =
            if work.op == FilesOp::Write { work.sizes.of(work.count.unwrap_or(0)) } else { Vec::new() };
        let limit = self.plan.guards.written_at_most;
        let orders = FilesWork {
            op: work.op,
            leg: index,
            done: if work.op == FilesOp::Read { moved } else { Bytes(0) },
            sizes,
            block: work.block,
            workers: work.workers,
            sync_each: work.sync == FileSync::EachFile,
            sync_at_end: work.sync == FileSync::AtTheEnd,
            cached: work.cached,
            source: work.from.as_ref().map(PathBuf::from),
            at_most: limit.map(|l| Bytes(l.0.saturating_sub(self.written.0))),
            patience: self.plan.guards.patience.unwrap_or(PATIENCE),
        };
        let mut paused = Nanos(0);
        let mut again = false;
        let end = loop {
            self.drive.begin_files(&orders, again)?;
            if !std::mem::replace(&mut again, true) {
                let path = if work.cached { "through the host's cache" } else { "past the host's cache" };
                let workers =
                    if work.workers == 1 { "1 worker".into() } else { format!("{} workers", work.workers) };
                self.say_engine(format!("whole files, {workers}, {path}"));
            }
            let end = self.go_on_with_files(index, leg, op, began.plus(paused))?;
            self.drain()?;
            self.close_sample(index, op);
            if let Some(end) = end {
                break end;
            }
            let (end, time) = match self.cooling.take() {
                Some(cooling) => self.cool(index, cooling)?,
                None => self.pause(index)?,
            };
            if let Some(end) = end {
                break end;
            }
            paused = paused.plus(time);
        };
        let Some((mut figures, is_full)) = self.drive.end_files().filter(|_| !self.left) else {
            return Ok(end);
        };
        figures.leg.clone_from(&leg.name);
        if let Some(source) = &mut figures.source {
            match (work.op, figures.seconds > 0.0) {
                (FilesOp::Source, true) => {
                    let alone = figures.bytes as f64 / 1e6 / figures.seconds;
                    source.alone_mb_s = Some(alone);
                    self.source_alone = Some((source.folder.clone(), alone));
                }
                _ => {
                    let known = self.source_alone.as_ref().filter(|s| s.0 == source.folder);
                    source.alone_mb_s = known.map(|s| s.1);
                }
            }
        }
        self.event(EventKind::Files(Box::new(figures)));
        if is_full {
            let limit = limit.unwrap_or_default();
            let why = format!(
                "nothing more may be written: {} of the {limit} that the course allows are",
                self.written
            );
            return Ok(LegEnd::Guarded(Guarded::Other(why)));
        }
        Ok(end)
    }

    /// Goes on until it ends, or until a pause is asked for (`None`).
    fn go_on_with_files(
        &mut self,
        index: u32,
        leg: &PlannedLeg,
        op: Op,
        began: Nanos,
    ) -> Result<Option<LegEnd>, DriveError> {
        let deadline = leg.time.map(|t| began.plus(t));
        loop {
            let until = self.slice_end(deadline);
            if self.drive.advance(until, &mut self.tally)? {
                return Ok(Some(LegEnd::Planned("all files are done".into())));
            }
            if let Some(end) = self.after_slice(index, op)? {
                return Ok(Some(end));
            }
            if self.paused || self.cooling.is_some() {
                return Ok(None);
            }
            if deadline.is_some_and(|d| self.drive.now() >= d) {
                return Ok(Some(LegEnd::Planned(format!("{} have passed", leg.time.unwrap_or_default()))));
            }
        }
    }

    /// The files that the legs before one have made and not deleted: the last of these legs, and how many; `None` for the number where it went by a folder.
    fn files_before(&self, leg: usize) -> Option<(&str, Option<u64>)> {
        let mut there: Option<(&str, Option<u64>)> = None;
        for planned in &self.plan.legs[..leg.min(self.plan.legs.len())] {
            let Work::Files(work) = &planned.work else { continue };
            let before = there.map_or(Some(0), |t| t.1);
            there = match work.op {
                FilesOp::Write => Some((planned.name.as_str(), before.zip(work.count).map(|(b, c)| b + c))),
                FilesOp::Copy => Some((planned.name.as_str(), None)),
                FilesOp::Delete => None,
                FilesOp::Read | FilesOp::Source => there,
            };
        }
        there
    }

    /// Whether a leg, or one behind it, works with files that are there.
    pub(super) fn needs_files(&self, leg: usize) -> bool {
        let is_there = self.drive.files_there().is_some_and(|f| f.0 > 0);
        is_there && self.plan.legs[leg..].iter().any(|l| matches!(l.work, Work::Files(_)))
    }

    /// Refuses to go on where a leg reads files that were made before the run was interrupted, and they are not there any more.
    pub(super) fn check_files(&self, leg: u32) -> Result<(), DriveError> {
        let Some((maker, expected)) = self.files_before(leg as usize) else { return Ok(()) };
        // Up to where they are deleted.
        let works = self.plan.legs[leg as usize..].iter().filter_map(|l| match &l.work {
            Work::Files(work) => Some((l, work.op)),
            _ => None,
        });
        let mut works = works.take_while(|(_, op)| *op != FilesOp::Delete);
        let Some((reader, _)) = works.find(|(_, op)| *op == FilesOp::Read) else { return Ok(()) };
        let there = self.drive.files_there().map_or(0, |f| f.0);
        if there >= expected.unwrap_or(1) {
            return Ok(());
        }
        Err(DriveError::Unusable {
            why: format!(
                "the run cannot go on: leg {} reads the files of leg {maker}, of which {there} are left. Start the course anew",
                reader.name
            ),
        })
    }
}
