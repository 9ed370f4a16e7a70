//! Keeps an engine busy: hands out addresses, stamps what is written, keeps the depth, and times every operation.
//!
//! The loop takes one reading of the clock for each batch of completions, allocates nothing, and takes no lock.

use super::pattern::stamp;
use crate::clock::Monotonic;
use crate::drive::{DriveError, Transfer};
use crate::tally::Tally;
use mile_core::{Bytes, Nanos, Op};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// No operation may be out longer than this.
pub const STALL_LIMIT: Nanos = Nanos(30_000_000_000);
/// Most memory that buffers may take.
pub const MEMORY_LIMIT: u64 = 1 << 30;

/// An operation that came back: its slot, and the bytes moved or the error number, negative.
#[derive(Clone, Copy, Debug)]
pub struct Completion {
    /// Slot that it was submitted in.
    pub slot: u32,
    /// Bytes, or a negative errno.
    pub result: i32,
}

/// A way of having operations in flight. A slot is one buffer.
pub trait Engine: Send {
    /// In words, for the log.
    fn name(&self) -> &'static str;

    /// The buffer of a slot that is not in flight.
    fn buffer(&mut self, slot: u32) -> &mut [u8];

    /// Puts an operation on a free slot in flight, at the latest with the next `wait`.
    fn submit(&mut self, slot: u32, op: Op, offset: u64) -> std::io::Result<()>;

    /// Waits until one operation is back or `timeout` is over, and gives all that are back.
    fn wait(&mut self, timeout: Nanos, done: &mut Vec<Completion>) -> std::io::Result<()>;
}

/// Refuses a transfer whose buffers would take more memory than is allowed.
pub fn check_memory(transfer: &Transfer) -> Result<(), DriveError> {
    let need = transfer.block.0.saturating_mul(u64::from(transfer.depth));
    if need > MEMORY_LIMIT {
        return Err(DriveError::TooMuchMemory {
            depth: transfer.depth,
            block: transfer.block,
            need: Bytes(need),
            limit: Bytes(MEMORY_LIMIT),
        });
    }
    Ok(())
}

/// A transfer underway on an engine.
pub struct Pump<E> {
    engine: E,
    transfer: Transfer,
    seed: u64,
    rng: Xoshiro256PlusPlus,
    issued: u64,
    position: u64,
    blocks: u64,
    free: Vec<u32>,
    /// Address and time of submission of the operation in each slot.
    out: Vec<(u64, u64)>,
    done: Vec<Completion>,
    last_back: u64,
}

impl<E: Engine> Pump<E> {
    /// Begins a transfer. `now` is the drive's time.
    pub fn new(engine: E, transfer: Transfer, seed: u64, now: Nanos) -> Self {
        Self {
            engine,
            transfer,
            seed,
            rng: Xoshiro256PlusPlus::seed_from_u64(seed ^ transfer.skip.0),
            issued: 0,
            position: transfer.skip.0,
            blocks: transfer.length.0 / transfer.block.0,
            free: (0..transfer.depth).rev().collect(),
            out: vec![(0, 0); transfer.depth as usize],
            done: Vec::with_capacity(transfer.depth as usize),
            last_back: now.0,
        }
    }

    /// The engine in words.
    pub fn name(&self) -> &'static str {
        self.engine.name()
    }

    fn in_flight(&self) -> usize {
        self.out.len() - self.free.len()
    }

    fn next_address(&mut self) -> u64 {
        let t = &self.transfer;
        if t.random {
            let index = ((u128::from(self.rng.next_u64()) * u128::from(self.blocks)) >> 64) as u64;
            return t.start.0 + index * t.block.0;
        }
        let at = t.start.0 + self.position;
        self.position += t.block.0;
        if self.position + t.block.0 > t.length.0 {
            self.position = 0;
        }
        at
    }

    fn fill(&mut self, now: u64) -> Result<(), DriveError> {
        if self.in_flight() == 0 {
            self.last_back = now;
        }
        while self.issued < self.transfer.budget.0 {
            let Some(slot) = self.free.pop() else { break };
            let address = self.next_address();
            if self.transfer.op == Op::Write {
                stamp(self.engine.buffer(slot), address, self.seed);
            }
            self.engine.submit(slot, self.transfer.op, address).map_err(|e| self.failed(address, e))?;
            self.out[slot as usize] = (address, now);
            self.issued += self.transfer.block.0;
        }
        Ok(())
    }

    /// Goes on until `until`; gives whether everything is moved and back.
    pub fn advance(
        &mut self,
        clock: &Monotonic,
        until: Nanos,
        tally: &mut Tally,
    ) -> Result<bool, DriveError> {
        let mut now = clock.now().0;
        while now < until.0 {
            self.fill(now)?;
            if self.in_flight() == 0 {
                return Ok(true);
            }
            now = self.reap(clock, until, tally)?;
        }
        Ok(self.in_flight() == 0 && self.issued >= self.transfer.budget.0)
    }

    /// Waits for what is in flight.
    pub fn drain(&mut self, clock: &Monotonic, tally: &mut Tally) -> Result<(), DriveError> {
        while self.in_flight() > 0 {
            let until = clock.now().plus(Nanos(100_000_000));
            self.reap(clock, until, tally)?;
        }
        Ok(())
    }

    /// Waits for completions until `until`, and counts them. Gives the time.
    fn reap(&mut self, clock: &Monotonic, until: Nanos, tally: &mut Tally) -> Result<u64, DriveError> {
        let mut done = std::mem::take(&mut self.done);
        done.clear();
        let timeout = until.since(clock.now());
        let waited = self.engine.wait(timeout, &mut done);
        let now = clock.now().0;
        if let Err(e) = waited {
            return Err(self.failed(self.oldest(), e));
        }
        if !done.is_empty() {
            self.last_back = now;
        }
        let block = self.transfer.block.0;
        let mut failure = None;
        for c in &done {
            let (address, since) = self.out[c.slot as usize];
            self.free.push(c.slot);
            if u64::try_from(c.result) == Ok(block) {
                tally.add(self.transfer.op, Bytes(address), block, Nanos(now - since));
            } else {
                tally.errors += 1;
                let error = match c.result {
                    e if e < 0 => std::io::Error::from_raw_os_error(-e),
                    n => std::io::Error::other(format!("only {n} of {block} bytes were moved")),
                };
                failure.get_or_insert((address, error));
            }
        }
        self.done = done;
        if let Some((address, error)) = failure {
            return Err(self.failed(address, error));
        }
        if now.saturating_sub(self.last_back) > STALL_LIMIT.0 {
            return Err(DriveError::Stalled {
                limit: STALL_LIMIT,
                in_flight: self.in_flight(),
                offset: Bytes(self.oldest()),
            });
        }
        Ok(now)
    }

    fn oldest(&self) -> u64 {
        let out = self.out.iter().enumerate().filter(|(i, _)| !self.free.contains(&(*i as u32)));
        out.min_by_key(|(_, o)| o.1).map_or(0, |(_, o)| o.0)
    }

    fn failed(&self, offset: u64, source: std::io::Error) -> DriveError {
        let op = if self.transfer.op == Op::Write { "write" } else { "read" };
        DriveError::Operation { op, offset: Bytes(offset), length: self.transfer.block, source }
    }
}
