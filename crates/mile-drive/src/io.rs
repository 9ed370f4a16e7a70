//! Moves data to and from a file or block device: what is written, how it is put in flight, and what is done about failures.

pub mod narrow;
mod pages;
pub mod pattern;
pub mod pump;
mod single;
pub mod threads;
pub mod uring;
pub mod workers;

pub use single::EngineChoice;

use crate::clock::Monotonic;
use crate::drive::{DriveError, Failure, Narrowed, Transfer};
use crate::pending::Pending;
use crate::pipe::PipeEnd;
use crate::tally::Tally;
use mile_core::{Bytes, Nanos, Op, RunId};
use pattern::{Buffer, Pool as Pattern};
use pump::check_memory;
use single::{Origin, Single};
use std::fs::File;
use workers::Workers;

/// A new identity for a run.
pub fn new_run() -> RunId {
    let mut bits = [0; 16];
    let mut at = 0;
    while at < bits.len() {
        // Only a signal cuts it short, and it waits until the kernel has randomness.
        at += rustix::rand::getrandom(&mut bits[at..], rustix::rand::GetRandomFlags::empty()).unwrap_or(0);
    }
    RunId(u128::from_le_bytes(bits))
}

enum Running {
    One(Single),
    Several(Workers),
}

/// Transfers on a file or block device, one after the other.
pub struct Io {
    choice: EngineChoice,
    origin: Origin,
    engine: String,
    running: Option<Running>,
    /// What has moved all of its transfer, and may take up the next: the zones of a scan follow each other.
    spare: Option<Single>,
    stalled: bool,
    /// The transfer that was begun last.
    begun: Transfer,
    /// Where its workers ended, if it had several and was drained.
    ended: Vec<(Bytes, Bytes)>,
    /// The copy that its transfers are a side of.
    copy: Option<PipeEnd>,
}

impl Io {
    /// Nothing is underway yet. What it writes is of a run that nobody else is, until [`Io::set_run`] says which.
    pub fn new(seed: u64, choice: EngineChoice) -> Self {
        Self {
            choice,
            origin: Origin { run: new_run(), seed },
            engine: "not opened yet".into(),
            running: None,
            spare: None,
            stalled: false,
            begun: Transfer::default(),
            ended: Vec::new(),
            copy: None,
        }
    }

    /// Makes the transfers that begin from now on one side of a copy, or ends that.
    pub fn join(&mut self, end: Option<PipeEnd>) {
        self.copy = end;
    }

    /// Says which run it writes for.
    pub fn set_run(&mut self, run: RunId) {
        self.origin.run = run;
    }

    /// The run that it writes for.
    pub fn run(&self) -> RunId {
        self.origin.run
    }

    /// Whether the block at an address begins with a stamp of this run.
    pub(crate) fn holds(&self, file: &File, at: Bytes, logical_block: Bytes) -> std::io::Result<bool> {
        use std::os::unix::fs::FileExt;
        let mut buffer = Buffer::zeroed(logical_block.0.max(512) as usize);
        file.read_exact_at(buffer.bytes_mut(), at.0)?;
        let stamp = pattern::read_stamp(buffer.bytes());
        Ok(stamp.is_some_and(|s| s.address == at.0 && s.run == self.origin.run))
    }

    /// The engine in words.
    pub fn words(&self) -> &str {
        &self.engine
    }

    /// Begins a transfer, which must lie on the drive.
    pub fn begin(
        &mut self,
        file: &File,
        transfer: &Transfer,
        capacity: Bytes,
        logical_block: Bytes,
        clock: Monotonic,
    ) -> Result<(), DriveError> {
        self.running = None;
        let ended = std::mem::take(&mut self.ended);
        let begun = std::mem::replace(&mut self.begun, *transfer);
        let goes_on = transfer.skip.0 > 0
            && !transfer.load.is_random()
            && Transfer { skip: transfer.skip, budget: transfer.budget, ..begun } == *transfer;
        transfer.check(capacity, logical_block)?;
        check_memory(transfer)?;
        if self.copy.is_some()
            && (transfer.load.workers > 1 || transfer.load.is_random() || transfer.load.op == Op::Mixed)
        {
            return Err(DriveError::Unusable { why: "a copy is one sequential stream".into() });
        }
        let spare = self.spare.take().filter(|_| self.copy.is_none());
        if let Some(mut one) = spare
            && one.again(transfer, clock.now())
        {
            self.running = Some(Running::One(one));
            return Ok(());
        }
        let io = |source| DriveError::Io { path: "the drive".into(), doing: "start workers for", source };
        let running = if transfer.load.workers > 1 {
            let at = Some(ended.as_slice()).filter(|_| goes_on);
            let workers = Workers::begin(file, transfer, at, self.origin, self.choice, clock).map_err(io)?;
            self.engine = format!("{} workers, each with {}", transfer.load.workers, workers.name());
            Running::Several(workers)
        } else {
            let mut one =
                Single::begin(file, transfer, self.origin, 0, self.choice, clock.now()).map_err(io)?;
            if let Some(end) = self.copy.clone() {
                one.join(end);
            }
            self.engine = one.name().into();
            Running::One(one)
        };
        self.running = Some(running);
        Ok(())
    }

    /// Goes on until `until`; gives whether everything is moved and back.
    pub fn advance(
        &mut self,
        clock: &Monotonic,
        until: Nanos,
        tally: &mut Tally,
    ) -> Result<bool, DriveError> {
        let went = match &mut self.running {
            Some(Running::One(one)) => one.advance(clock, until, tally),
            Some(Running::Several(workers)) => workers.advance(clock, until, tally),
            None => Ok(true),
        };
        self.stalled |= matches!(went, Err(DriveError::Stalled { .. }));
        went
    }

    /// Whether operations did not come back: whoever asks the drive for anything more may wait for ever.
    pub fn is_stalled(&self) -> bool {
        self.stalled
    }

    /// Starts nothing new, and waits until `until` at the latest for what is in flight. Gives whether all of it is back.
    pub fn drain(&mut self, clock: &Monotonic, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        let drained = match &mut self.running {
            Some(Running::One(one)) => one.drain(clock, until, tally),
            Some(Running::Several(workers)) => workers.drain(clock, until, tally),
            None => Ok(true),
        };
        self.stalled |= matches!(drained, Err(DriveError::Stalled { .. }));
        if let (Ok(true), Some(Running::Several(workers))) = (&drained, &self.running) {
            self.ended = workers.ended();
        }
        if !matches!(drained, Ok(false)) {
            match self.running.take() {
                Some(Running::One(one)) if drained.is_ok() => self.spare = Some(one),
                Some(_) => self.spare = None,
                None => {}
            }
        }
        drained
    }

    /// Leaves what is in flight to itself. Its memory is not used again.
    pub fn abandon(&mut self) {
        self.stalled = true;
        self.spare = None;
        match self.running.take() {
            Some(Running::One(mut one)) => one.abandon(),
            Some(Running::Several(mut workers)) => workers.abandon(),
            None => {}
        }
    }

    /// Has the medium keep what was written, on a thread of its own. Not asked of a drive that does not answer.
    pub(crate) fn flush(
        &self,
        file: Option<&File>,
        failed: impl Fn(std::io::Error) -> DriveError + Send + 'static,
    ) -> Pending<Result<(), DriveError>> {
        match file.filter(|_| !self.stalled).map(File::try_clone) {
            None => Pending::done(Ok(())),
            Some(Err(e)) => Pending::done(Err(failed(e))),
            Some(Ok(file)) => Pending::on_thread("flush", move || file.sync_all().map_err(failed)),
        }
    }

    /// Narrows down a failed operation of the transfer that was begun last. Writes give the blocks what that transfer gives.
    pub fn narrow(
        &self,
        file: &File,
        failure: &Failure,
        logical_block: Bytes,
        patience: Nanos,
    ) -> Pending<Narrowed> {
        // What a copy writes is not known here, and nothing else may be written in its place.
        if self.copy.is_some() && failure.op == Op::Write {
            return Pending::done(Narrowed::unknown(failure));
        }
        let pattern = Pattern::new(self.origin.run, self.begun.pass, 0);
        narrow::narrow(file, failure, logical_block, &pattern, patience)
    }

    /// Lets go of what is underway.
    pub fn stop(&mut self) {
        (self.running, self.spare) = (None, None);
    }

    /// The oldest operation that is not back: its age, its address, and how many are out.
    pub fn waiting(&self, clock: &Monotonic) -> Option<(Nanos, Option<Bytes>, usize)> {
        let Some(Running::One(one)) = &self.running else { return None };
        let (since, address, out) = one.waiting()?;
        Some((clock.now().since(Nanos(since)), Some(address), out))
    }
}
