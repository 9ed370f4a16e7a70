//! Keeps an engine busy: hands out addresses, stamps what is written, checks what is read, keeps depth and pace, and times every
//! operation.
//!
//! The loop takes one reading of the clock for each batch of completions, allocates nothing, and takes no lock. The range of a
//! transfer is a wall: an address outside of it is refused here, whatever made it.

use super::pattern::{Pool, Verifier};
use crate::clock::Monotonic;
use crate::drive::{DriveError, Failure, Transfer};
use crate::pipe::{Gate, PipeEnd, Side};
use crate::tally::Tally;
use mile_core::units::IN_FLIGHT_MOST;
use mile_core::{Bytes, Nanos, Op};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// Time between two looks at how long the oldest operation is out, and the longest wait.
const LOOK: u64 = 100_000_000;
/// Longest wait of a transfer whose waits differ in length. A timer that is underway is not set anew for a shorter one.
const TICK: u64 = 10_000_000;
/// Longest wait for an operation while the other side of a copy may allow another.
const GLANCE: Nanos = Nanos(200_000);
/// Longest sleep of a paced transfer with nothing in flight.
const DOZE: Nanos = Nanos(5_000_000);

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

    /// Says that nobody will wait for what is in flight; its memory is given up.
    fn abandon(&mut self) {}

    /// Waits until one operation is back or `timeout` is over, and gives all that are back. It may come back earlier, and as late as the
    /// `timeout` of an earlier call says.
    fn wait(&mut self, timeout: Nanos, done: &mut Vec<Completion>) -> std::io::Result<()>;
}

/// Refuses a transfer whose buffers would take more memory than is allowed.
pub fn check_memory(transfer: &Transfer) -> Result<(), DriveError> {
    let load = &transfer.load;
    if load.in_flight() > IN_FLIGHT_MOST {
        return Err(DriveError::TooMuchMemory {
            depth: load.depth.saturating_mul(load.workers),
            block: load.block,
            need: load.in_flight(),
            limit: IN_FLIGHT_MOST,
        });
    }
    Ok(())
}

/// An operation in flight.
#[derive(Clone, Copy)]
struct Out {
    address: u64,
    op: Op,
    /// When it was submitted; `u64::MAX` for a slot that is free.
    since: u64,
    /// Bytes that were put in flight before it.
    behind: u64,
}

const FREE: Out = Out { address: 0, op: Op::Idle, since: u64::MAX, behind: 0 };

/// A transfer underway on an engine.
pub struct Pump<E> {
    engine: E,
    transfer: Transfer,
    pool: Pool,
    verifier: Option<Verifier>,
    rng: Xoshiro256PlusPlus,
    began: u64,
    issued: u64,
    position: u64,
    blocks: u64,
    free: Vec<u32>,
    out: Vec<Out>,
    done: Vec<Completion>,
    looked: u64,
    /// One side of a copy.
    copy: Option<CopySide>,
}

/// What a pump knows of the copy that it is a side of.
struct CopySide {
    end: PipeEnd,
    /// Bytes of the copy that had passed when the transfer began.
    from: u64,
    /// Since when it has waited for the other side, and how many operations it could have in flight besides.
    shut: Option<(u64, usize)>,
    /// Whether the other side has ended.
    over: bool,
}

impl<E: Engine> Pump<E> {
    /// Begins a transfer of data from `pool`, to addresses that `seed` decides where they are random. `now` is the drive's time.
    pub fn new(engine: E, transfer: Transfer, pool: Pool, seed: u64, now: Nanos) -> Self {
        let (run, worker) = pool.run_and_worker();
        Self {
            engine,
            verifier: transfer.verify.then(|| Verifier::new(run, transfer.pass)),
            rng: Xoshiro256PlusPlus::seed_from_u64(seed ^ transfer.skip.0 ^ u64::from(worker) << 48),
            pool,
            began: now.0,
            issued: 0,
            position: transfer.skip.0,
            blocks: transfer.length.0 / transfer.load.block.0,
            free: (0..transfer.load.depth).rev().collect(),
            out: vec![FREE; transfer.load.depth as usize],
            done: Vec::with_capacity(transfer.load.depth as usize),
            looked: now.0,
            transfer,
            copy: None,
        }
    }

    /// Takes up another transfer with the same engine and buffers, once everything is back. Gives whether it can: reads of the same blocks, as deep, in
    /// the order of addresses, that nothing is held against.
    pub fn again(&mut self, transfer: &Transfer, now: Nanos) -> bool {
        let plain =
            |t: &Transfer| t.load.op == Op::Read && !t.load.is_random() && !t.verify && t.load.workers <= 1;
        let alike = plain(transfer)
            && plain(&self.transfer)
            && (transfer.load.block, transfer.load.depth, transfer.load.cached)
                == (self.transfer.load.block, self.transfer.load.depth, self.transfer.load.cached);
        if !alike || self.copy.is_some() || self.free.len() != self.out.len() {
            return false;
        }
        self.done.clear();
        self.transfer = *transfer;
        (self.began, self.looked) = (now.0, now.0);
        (self.issued, self.position) = (0, transfer.skip.0);
        self.blocks = transfer.length.0 / transfer.load.block.0;
        true
    }

    /// Makes it one side of a copy.
    pub fn join(&mut self, end: PipeEnd) {
        self.copy = Some(CopySide { from: end.at().0, end, shut: None, over: false });
    }

    /// Whether nothing more will be put in flight.
    fn is_over(&self) -> bool {
        self.issued >= self.transfer.budget.0 || self.copy.as_ref().is_some_and(|c| c.over)
    }

    /// Whether the next operation of a copy must wait for the other side, or is one too many. Time that it waits counts by the share of the
    /// depth that it leaves unused.
    fn is_held(&mut self, now: u64) -> bool {
        let (free, depth) = (self.free.len(), self.out.len());
        let Some(copy) = &mut self.copy else { return false };
        if let Some((since, unused)) = copy.shut.take() {
            let time = now.saturating_sub(since) as f64 * unused as f64 / depth.max(1) as f64;
            copy.end.has_waited(Nanos(time as u64));
        }
        if free == 0 || self.issued >= self.transfer.budget.0 {
            return false;
        }
        match copy.end.gate(copy.from + self.issued + self.transfer.load.block.0) {
            Gate::Open => false,
            Gate::Shut => {
                copy.shut = Some((now, free));
                true
            }
            Gate::Over => {
                copy.over = true;
                true
            }
        }
    }

    /// The engine in words.
    pub fn name(&self) -> &'static str {
        self.engine.name()
    }

    fn in_flight(&self) -> usize {
        self.out.len() - self.free.len()
    }

    /// The oldest operation that is not back: when it was submitted, its address, and how many are out.
    pub fn waiting(&self) -> Option<(u64, Bytes, usize)> {
        let oldest = self.out.iter().filter(|o| o.since != u64::MAX).min_by_key(|o| o.since)?;
        Some((oldest.since, Bytes(oldest.address), self.in_flight()))
    }

    /// Where it would go on, behind the start of its range, and what it has left to move.
    pub fn left(&self) -> (Bytes, Bytes) {
        (Bytes(self.position), Bytes(self.transfer.budget.0.saturating_sub(self.issued)))
    }

    fn next_address(&mut self) -> u64 {
        let t = &self.transfer;
        if t.load.is_random() {
            // Multiply and shift: uniform over blocks without a division.
            let index = ((u128::from(self.rng.next_u64()) * u128::from(self.blocks)) >> 64) as u64;
            return t.start.0 + index * t.load.block.0;
        }
        let at = t.start.0 + self.position;
        self.position += t.load.block.0;
        if self.position + t.load.block.0 > t.length.0 {
            self.position = 0;
        }
        at
    }

    fn next_op(&mut self) -> Op {
        if self.transfer.load.op != Op::Mixed {
            return self.transfer.load.op;
        }
        let unit = (self.rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64;
        if unit < self.transfer.load.reads { Op::Read } else { Op::Write }
    }

    /// When the next operation is due by the pace that is asked for.
    fn due(&self) -> u64 {
        let Some(rate) = self.transfer.load.rate else { return 0 };
        self.began + (self.issued as f64 / rate.0 * 1e9) as u64
    }

    fn fill(&mut self, now: u64) -> Result<(), DriveError> {
        let t = self.transfer;
        while self.issued < t.budget.0 && self.due() <= now && !self.is_held(now) {
            let Some(slot) = self.free.pop() else { break };
            let (address, op) = (self.next_address(), self.next_op());
            let inside = address >= t.start.0 && address + t.load.block.0 <= t.start.0 + t.length.0;
            if !inside {
                let why =
                    format!("byte {address} is outside of the range of this leg; nothing was moved there");
                return Err(DriveError::Unusable { why });
            }
            if op == Op::Write {
                let place = slot as usize * t.load.block.0 as usize;
                match &self.copy {
                    Some(copy) => copy.end.take(self.engine.buffer(slot)),
                    None => self.pool.stamp(self.engine.buffer(slot), address, place, t.sealed),
                }
            }
            if let Err(source) = self.engine.submit(slot, op, address) {
                self.free.push(slot);
                return Err(self.failed(op, address, source));
            }
            self.out[slot as usize] = Out { address, op, since: now, behind: self.issued };
            self.issued += t.load.block.0;
        }
        Ok(())
    }

    /// Goes on until `until`; gives whether everything is moved and back. Comes back early where something failed.
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
                if self.is_over() {
                    return Ok(true);
                }
                if let Some(copy) = self.copy.as_ref().filter(|c| c.shut.is_some()) {
                    copy.end.wait(until.since(Nanos(now)));
                    now = clock.now().0;
                    continue;
                }
                // It waits for its pace.
                clock.sleep_until(until.min(Nanos(self.due())).min(Nanos(now).plus(DOZE)));
                now = clock.now().0;
                continue;
            }
            let next = if self.transfer.load.rate.is_some() && !self.free.is_empty() {
                self.due()
            } else {
                u64::MAX
            };
            let held = self.copy.as_ref().is_some_and(|c| c.shut.is_some());
            let next = if held { next.min(now + GLANCE.0) } else { next };
            now = self.reap(clock, Nanos(now), until.min(Nanos(next.max(now + 1))), tally)?;
            if !tally.failures.is_empty() || !tally.mismatches.is_empty() {
                break;
            }
        }
        Ok(self.in_flight() == 0 && self.is_over())
    }

    /// Waits until `until` at the latest for what is in flight. Gives whether all of it is back.
    pub fn drain(&mut self, clock: &Monotonic, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        let mut now = clock.now();
        while self.in_flight() > 0 && now < until {
            now = Nanos(self.reap(clock, now, until, tally)?);
        }
        Ok(self.in_flight() == 0)
    }

    /// Leaves what is in flight to itself.
    pub fn abandon(&mut self) {
        self.engine.abandon();
    }

    /// Waits from `now` for completions until `until`, and counts them. Gives the time.
    fn reap(
        &mut self,
        clock: &Monotonic,
        now: Nanos,
        until: Nanos,
        tally: &mut Tally,
    ) -> Result<u64, DriveError> {
        let mut done = std::mem::take(&mut self.done);
        done.clear();
        let uneven = self.transfer.load.rate.is_some() || self.copy.is_some();
        let timeout = until.since(now).min(Nanos(if uneven { TICK } else { LOOK }));
        let waited = self.engine.wait(timeout, &mut done);
        if self.copy.is_none() && self.transfer.load.op == Op::Write {
            // These are likely to be written anew at once. The processor waits for their stamps while it counts.
            for c in &done {
                self.pool.expect(self.engine.buffer(c.slot), self.transfer.sealed);
            }
        }
        let now = clock.now().0;
        let block = self.transfer.load.block.0;
        for c in &done {
            let out = std::mem::replace(&mut self.out[c.slot as usize], FREE);
            self.free.push(c.slot);
            let whole = u64::try_from(c.result) == Ok(block);
            if let Some(copy) = self.copy.as_ref().filter(|c| c.end.side == Side::Source) {
                let at = copy.from + out.behind;
                if whole {
                    copy.end.put(at, self.engine.buffer(c.slot));
                } else {
                    copy.end.put_zeros(at, block);
                }
            }
            if whole {
                tally.add(out.op, Bytes(out.address), block, Nanos(now - out.since));
                if let Some(verifier) = &mut self.verifier {
                    let bytes = self.engine.buffer(c.slot);
                    verifier.check(bytes, out.address, self.transfer.sealed, &mut tally.mismatches);
                }
            } else {
                tally.errors += 1;
                let errno = (c.result < 0).then(|| -c.result);
                let (offset, length) = (Bytes(out.address), Bytes(block));
                let took = Nanos(now - out.since);
                tally.failures.push(Failure { op: out.op, offset, length, errno, took });
            }
        }
        self.done = done;
        if let Err(e) = waited {
            let (op, address) = self.waiting().map_or((Op::Idle, 0), |w| (self.transfer.load.op, w.1.0));
            return Err(self.failed(op, address, e));
        }
        if now.saturating_sub(self.looked) > LOOK {
            self.looked = now;
            self.mind_patience(now)?;
        }
        Ok(now)
    }

    fn mind_patience(&self, now: u64) -> Result<(), DriveError> {
        match self.waiting() {
            Some((since, offset, in_flight)) if now.saturating_sub(since) > self.transfer.patience.0 => {
                Err(DriveError::Stalled { limit: self.transfer.patience, in_flight, offset: Some(offset) })
            }
            _ => Ok(()),
        }
    }

    fn failed(&self, op: Op, offset: u64, source: std::io::Error) -> DriveError {
        let op = if op == Op::Write { "write" } else { "read" };
        DriveError::Operation { op, offset: Bytes(offset), length: self.transfer.load.block, source }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mile_core::RunId;
    use mile_core::{Access, Workload};
    use proptest::prelude::*;

    /// An engine that moves nothing, and remembers what it was asked for.
    struct Fake {
        buffer: Vec<u8>,
        out: Vec<u32>,
        asked: std::sync::Arc<std::sync::Mutex<Vec<(Op, u64)>>>,
    }

    impl Engine for Fake {
        fn name(&self) -> &'static str {
            "fake"
        }

        fn buffer(&mut self, _slot: u32) -> &mut [u8] {
            &mut self.buffer
        }

        fn submit(&mut self, slot: u32, op: Op, offset: u64) -> std::io::Result<()> {
            self.out.push(slot);
            self.asked.lock().unwrap().push((op, offset));
            Ok(())
        }

        fn wait(&mut self, _timeout: Nanos, done: &mut Vec<Completion>) -> std::io::Result<()> {
            // The last first, so that slots come back in another order.
            done.extend(self.out.pop().map(|slot| Completion { slot, result: self.buffer.len() as i32 }));
            Ok(())
        }
    }

    fn asked(transfer: Transfer) -> (Vec<(Op, u64)>, Tally) {
        let all = std::sync::Arc::default();
        let fake = Fake {
            buffer: vec![0; transfer.load.block.0 as usize],
            out: Vec::new(),
            asked: std::sync::Arc::clone(&all),
        };
        let clock = Monotonic::start();
        let mut pump = Pump::new(fake, transfer, Pool::new(RunId(3), 0, 0), 3, clock.now());
        let mut tally = Tally::default();
        while !pump.advance(&clock, clock.now().plus(Nanos(50_000_000)), &mut tally).unwrap() {}
        drop(pump);
        (std::sync::Arc::into_inner(all).unwrap().into_inner().unwrap(), tally)
    }

    proptest! {
        /// Whatever the transfer, no operation leaves its range, and exactly its budget is moved.
        #[test]
        fn no_operation_leaves_the_range_and_the_budget_is_kept(
            random in any::<bool>(), mixed in any::<bool>(), depth in 1_u32..40, start in 0_u64..1000,
            blocks in 1_u64..64, budget in 0_u64..200, skip in 0_u64..64
        ) {
            let block = 4096;
            let t = Transfer { load: Workload { op: if mixed { Op::Mixed } else { Op::Write }, reads: 0.5, access: if random { Access::Random } else { Access::Sequential }, depth, block: Bytes(block), ..Workload::default() }, start: Bytes(start * 512), length: Bytes(blocks * block), budget: Bytes(budget * block), skip: Bytes(skip % blocks * block), ..Transfer::default() };
            let (all, tally) = asked(t);
            prop_assert_eq!(all.len() as u64, budget);
            prop_assert_eq!(tally.written.0 + tally.read.0, budget * block);
            for (_, at) in &all {
                prop_assert!(*at >= t.start.0 && at + block <= t.start.0 + t.length.0);
                prop_assert_eq!((at - t.start.0) % block, 0);
            }
            if !random {
                let expected = (0..budget).map(|i| t.start.0 + (t.skip.0 / block + i) % blocks * block);
                prop_assert!(all.iter().map(|a| a.1).eq(expected));
            }
        }
    }

    /// An engine that takes everything and gives nothing back.
    struct Silent(Vec<u8>);

    impl Engine for Silent {
        fn name(&self) -> &'static str {
            "silent"
        }

        fn buffer(&mut self, _slot: u32) -> &mut [u8] {
            &mut self.0
        }

        fn submit(&mut self, _slot: u32, _op: Op, _offset: u64) -> std::io::Result<()> {
            Ok(())
        }

        fn wait(&mut self, timeout: Nanos, _done: &mut Vec<Completion>) -> std::io::Result<()> {
            std::thread::sleep(std::time::Duration::from_nanos(timeout.0.min(10_000_000)));
            Ok(())
        }
    }

    #[test]
    fn operations_that_do_not_come_back_end_a_transfer_when_patience_does() {
        let t = Transfer {
            load: Workload { depth: 3, block: Bytes(4096), ..Workload::default() },
            start: Bytes(8192),
            length: Bytes(1 << 20),
            budget: Bytes(1 << 20),
            patience: Nanos(150_000_000),
            ..Transfer::default()
        };
        let clock = Monotonic::start();
        let mut pump = Pump::new(Silent(vec![0; 4096]), t, Pool::new(RunId(1), 0, 0), 1, clock.now());
        let until = Nanos(20_000_000_000);
        let error = pump.advance(&clock, until, &mut Tally::default()).unwrap_err();
        assert!(
            matches!(error, DriveError::Stalled { in_flight: 3, offset: Some(Bytes(8192)), .. }),
            "{error}"
        );
        assert!(clock.now() > Nanos(150_000_000) && clock.now() < until);
        assert_eq!(pump.waiting().map(|w| w.2), Some(3));
    }

    #[test]
    fn a_mix_has_its_share_of_reads_and_random_addresses_are_uniform() {
        let t = Transfer {
            load: Workload {
                op: Op::Mixed,
                reads: 0.7,
                access: Access::Random,
                block: Bytes(512),
                ..Workload::default()
            },
            length: Bytes(512 * 16),
            budget: Bytes(512 * 64_000),
            ..Transfer::default()
        };
        let (all, tally) = asked(t);
        let reads = all.iter().filter(|a| a.0 == Op::Read).count() as f64 / all.len() as f64;
        // Three standard deviations of a share of 0.7 in 64,000 draws are 0.0054.
        assert!((reads - 0.7).abs() < 0.0055, "{reads}");
        assert_eq!(tally.read.0, all.iter().filter(|a| a.0 == Op::Read).count() as u64 * 512);
        let mut counts = [0_f64; 16];
        all.iter().for_each(|a| counts[(a.1 / 512) as usize] += 1.0);
        let chi: f64 = counts.iter().map(|c| (c - 4000.0).powi(2) / 4000.0).sum();
        // The 99.9 % point of chi-squared with 15 degrees of freedom.
        assert!(chi < 37.7, "{chi}");
    }

    #[test]
    fn a_paced_transfer_does_not_run_ahead_of_its_pace() {
        let t = Transfer {
            load: Workload {
                block: Bytes(4096),
                rate: Some(mile_core::Rate(4096.0 * 100.0)),
                ..Workload::default()
            },
            length: Bytes(4096 * 8),
            budget: Bytes(4096 * 20),
            ..Transfer::default()
        };
        let clock = Monotonic::start();
        let (all, _) = asked(t);
        // The twentieth is due nineteen hundredths of a second after the first.
        assert!(clock.now() >= Nanos(190_000_000) && all.len() == 20);
    }
}
