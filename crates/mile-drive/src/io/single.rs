//! One worker's transfer on the engine that there is.

use super::pattern::{Arena, Buffer, Pool as Pattern};
use super::pump::Pump;
use super::threads::Pool;
use super::uring::Ring;
use crate::clock::Monotonic;
use crate::drive::{DriveError, Transfer};
use crate::pipe::PipeEnd;
use crate::tally::Tally;
use mile_core::{Bytes, Nanos, RunId};
use std::fs::File;

/// How operations are put in flight.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum EngineChoice {
    /// io_uring, or threads where that is refused.
    #[default]
    Auto,
    /// Threads.
    Threads,
}

/// What makes the data of a run its own, and its random addresses the same each time.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Origin {
    pub(crate) run: RunId,
    pub(crate) seed: u64,
}

/// One worker's transfer, on whichever engine there is.
pub(crate) enum Single {
    Ring(Box<Pump<Ring>>),
    Threads(Box<Pump<Pool>>),
}

impl Single {
    /// Begins it. `worker` makes its data different from that of others.
    pub(crate) fn begin(
        file: &File,
        transfer: &Transfer,
        origin: Origin,
        worker: u32,
        choice: EngineChoice,
        now: Nanos,
    ) -> std::io::Result<Self> {
        let (depth, block) = (transfer.load.depth as usize, transfer.load.block.0 as usize);
        let pattern =
            Pattern::new(origin.run, transfer.pass, worker).compressible(transfer.load.incompressible);
        let ring = match choice {
            EngineChoice::Auto => Ring::new(file, Arena::filled(depth, block, &pattern)).ok(),
            EngineChoice::Threads => None,
        };
        Ok(match ring {
            Some(ring) => Self::Ring(Box::new(Pump::new(ring, *transfer, pattern, origin.seed, now))),
            None => {
                let buffers = (0..depth).map(|slot| Buffer::filled(block, &pattern, slot)).collect();
                let pool = Pool::new(file, buffers)?;
                Self::Threads(Box::new(Pump::new(pool, *transfer, pattern, origin.seed, now)))
            }
        })
    }

    pub(crate) fn again(&mut self, transfer: &Transfer, now: Nanos) -> bool {
        match self {
            Self::Ring(pump) => pump.again(transfer, now),
            Self::Threads(pump) => pump.again(transfer, now),
        }
    }

    pub(crate) fn join(&mut self, end: PipeEnd) {
        match self {
            Self::Ring(pump) => pump.join(end),
            Self::Threads(pump) => pump.join(end),
        }
    }

    pub(crate) fn name(&self) -> &'static str {
        match self {
            Self::Ring(pump) => pump.name(),
            Self::Threads(pump) => pump.name(),
        }
    }

    pub(crate) fn advance(
        &mut self,
        clock: &Monotonic,
        until: Nanos,
        tally: &mut Tally,
    ) -> Result<bool, DriveError> {
        match self {
            Self::Ring(pump) => pump.advance(clock, until, tally),
            Self::Threads(pump) => pump.advance(clock, until, tally),
        }
    }

    pub(crate) fn drain(
        &mut self,
        clock: &Monotonic,
        until: Nanos,
        tally: &mut Tally,
    ) -> Result<bool, DriveError> {
        match self {
            Self::Ring(pump) => pump.drain(clock, until, tally),
            Self::Threads(pump) => pump.drain(clock, until, tally),
        }
    }

    pub(crate) fn abandon(&mut self) {
        match self {
            Self::Ring(pump) => pump.abandon(),
            Self::Threads(pump) => pump.abandon(),
        }
    }

    pub(crate) fn left(&self) -> (Bytes, Bytes) {
        match self {
            Self::Ring(pump) => pump.left(),
            Self::Threads(pump) => pump.left(),
        }
    }

    pub(crate) fn waiting(&self) -> Option<(u64, Bytes, usize)> {
        match self {
            Self::Ring(pump) => pump.waiting(),
            Self::Threads(pump) => pump.waiting(),
        }
    }
}
