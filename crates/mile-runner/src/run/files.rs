//! Legs that work with whole files.

use super::{Guarded, LegEnd, Run};
use crate::message::EventKind;
use mile_core::files::FilesOp;
use mile_core::{Nanos, Op};
use mile_course::{FileSync, PlannedFiles, PlannedLeg, Work};
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
    ) -> Result<LegEnd, DriveError> {
        let op = op_of(work.op);
        let sizes =
            if work.op == FilesOp::Write { work.sizes.of(work.count.unwrap_or(0)) } else { Vec::new() };
        let limit = self.plan.guards.written_at_most;
        let orders = FilesWork {
            op: work.op,
            sizes,
            block: work.block,
            workers: work.workers,
            sync_each: work.sync == FileSync::EachFile,
            sync_at_end: work.sync == FileSync::AtTheEnd,
            cached: work.cached,
            source: work.from.as_ref().map(PathBuf::from),
            at_most: limit.map(|l| mile_core::Bytes(l.0.saturating_sub(self.written.0))),
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

    /// Refuses to go on where the run needs files that it had before it was interrupted: they are not taken up again.
    pub(super) fn check_files(&self, leg: u32, has_begun: bool) -> Result<(), DriveError> {
        let mut lost = None;
        for (i, planned) in self.plan.legs.iter().enumerate() {
            let Work::Files(work) = &planned.work else { continue };
            let (before, at) = (i < leg as usize, i == leg as usize);
            match work.op {
                FilesOp::Write | FilesOp::Copy if before => lost = Some(&planned.name),
                FilesOp::Delete if before => lost = None,
                _ if at && has_begun => {
                    return Err(DriveError::Unusable {
                        why: format!(
                            "the run cannot go on: it was interrupted in leg {}, which works with whole files, and these are not taken up again. Start the course anew",
                            planned.name
                        ),
                    });
                }
                FilesOp::Read | FilesOp::Delete if !before && lost.is_some() => {
                    return Err(DriveError::Unusable {
                        why: format!(
                            "the run cannot go on: leg {} needs the files of leg {}, which went with the interrupted run. Start the course anew",
                            planned.name,
                            lost.map_or("", |n| n.as_str())
                        ),
                    });
                }
                _ => {}
            }
        }
        Ok(())
    }
}
