//! Operations in flight through io_uring, with registered buffers and a registered file.
//!
//! The kernel is handed addresses of buffers and uses them while operations are in flight. What makes that sound: buffers live in [`Ring`] beside the ring, are never moved or resized
//! (they are one heap allocation), and [`Ring`] waits for all operations before it lets go of them; where the
//! kernel does not give them back in time, their memory is leaked on purpose.
#![allow(unsafe_code, reason = "this module talks to the kernel")]

use super::pattern::Arena;
use super::pump::{Completion, Engine};
use io_uring::{IoUring, opcode, squeue, types};
use mile_core::{Nanos, Op};
use rustix::io::Errno;
use rustix::io_uring::{
    IoringEnterFlags, IoringRegisterOp, io_uring_enter, io_uring_ptr, io_uring_register, io_uring_rsrc_update,
};
use std::ffi::c_void;
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd};
use std::time::Duration;

/// Longest wait for operations still in flight when a ring is dropped.
const PATIENCE: Duration = Duration::from_secs(5);

/// Longest time that a wait lasts while the ring is dropped.
const TICK: Duration = Duration::from_millis(10);
/// Marks the completion of a timer among those of operations.
const TIMER: u64 = u64::MAX;

/// An io_uring with its buffers.
pub struct Ring {
    ring: IoUring,
    buffers: Arena,
    registered: bool,
    /// Kept open as long as operations may be in flight.
    _file: File,
    in_flight: usize,
    /// Operations and timers that were not handed to the kernel yet.
    queued: u32,
    /// Under which number the thread that made the ring knows it in the kernel, which then need not look up its descriptor each time.
    number: Option<i32>,
    abandoned: bool,
    /// Whether a timer is in flight, and what it was set to.
    timer: Option<Box<types::Timespec>>,
}

impl Ring {
    /// Sets up a ring for as many operations in flight as there are buffers. Fails where the kernel refuses io_uring.
    pub fn new(file: &File, mut buffers: Arena) -> io::Result<Self> {
        let file = file.try_clone()?;
        let entries = (u32::try_from(buffers.count()).unwrap_or(u32::MAX - 1) + 1).next_power_of_two();
        // A single submitter that runs completion work when it asks for it: fewest interrupts of the submitting thread.
        let ring = IoUring::builder()
            .setup_single_issuer()
            .setup_defer_taskrun()
            .build(entries)
            .or_else(|_| IoUring::builder().build(entries))?;
        ring.submitter().register_files(&[file.as_raw_fd()])?;
        let vectors: Vec<libc::iovec> = (0..buffers.count())
            .map(|i| {
                let bytes = buffers.block(i);
                libc::iovec { iov_base: bytes.as_mut_ptr().cast(), iov_len: bytes.len() }
            })
            .collect();
        // SAFETY: the vectors describe buffers that live in the value returned, at addresses that do not change, until the
        // ring is dropped and has given them back.
        let registered = unsafe { ring.submitter().register_buffers(&vectors) };
        let number = number_of(&ring);
        // Registering pins memory, which an unprivileged user may have little of; it is a small gain and can be done without.
        Ok(Self {
            ring,
            buffers,
            registered: registered.is_ok(),
            _file: file,
            in_flight: 0,
            queued: 0,
            number,
            abandoned: false,
            timer: None,
        })
    }

    /// Queues an entry, to be handed over by the next [`Self::enter`].
    ///
    /// # Safety
    /// What the entry refers to must live, and be used by nothing else, until its completion was taken.
    #[inline]
    unsafe fn queue(&mut self, entry: &squeue::Entry) -> io::Result<()> {
        // SAFETY: as above.
        let pushed = unsafe { self.ring.submission().push(entry) };
        pushed.map_err(|_| io::Error::other("the submission queue is full"))?;
        self.queued += 1;
        Ok(())
    }

    /// Hands over what is queued, and waits for a completion.
    #[inline]
    fn enter(&mut self) -> io::Result<()> {
        let flags = IoringEnterFlags::GETEVENTS;
        let entered = match self.number {
            // SAFETY: what the entries refer to is promised to `queue`. The number is a descriptor to the kernel, by the flag.
            Some(number) => unsafe {
                let ring = BorrowedFd::borrow_raw(number);
                io_uring_enter(ring, self.queued, 1, flags | IoringEnterFlags::REGISTERED_RING)
            },
            // SAFETY: as above.
            None => unsafe { io_uring_enter(descriptor(&self.ring), self.queued, 1, flags) },
        };
        match entered {
            Ok(taken) => self.queued = self.queued.saturating_sub(taken),
            // A signal came, which is for the caller to look at.
            Err(Errno::INTR) => {}
            Err(e) => return Err(e.into()),
        }
        Ok(())
    }

    fn take(&mut self, done: &mut Vec<Completion>) {
        for entry in self.ring.completion() {
            if entry.user_data() == TIMER {
                self.timer = None;
                continue;
            }
            done.push(Completion { slot: entry.user_data() as u32, result: entry.result() });
            self.in_flight -= 1;
        }
    }
}

impl Engine for Ring {
    fn name(&self) -> &'static str {
        if self.registered { "io_uring, registered buffers and file" } else { "io_uring, registered file" }
    }

    fn buffer(&mut self, slot: u32) -> &mut [u8] {
        self.buffers.block(slot as usize)
    }

    #[inline]
    fn submit(&mut self, slot: u32, op: Op, offset: u64) -> io::Result<()> {
        let bytes = self.buffers.block(slot as usize);
        let (address, length) = (bytes.as_mut_ptr(), bytes.len() as u32);
        let index = slot as u16;
        let file = types::Fixed(0);
        let entry: squeue::Entry = match (op, self.registered) {
            (Op::Read, true) => opcode::ReadFixed::new(file, address, length, index).offset(offset).build(),
            (Op::Read, false) => opcode::Read::new(file, address, length).offset(offset).build(),
            (_, true) => opcode::WriteFixed::new(file, address, length, index).offset(offset).build(),
            (_, false) => opcode::Write::new(file, address, length).offset(offset).build(),
        };
        let entry = entry.user_data(u64::from(slot));
        // SAFETY: the entry refers to a buffer and a file that outlive the operation (see the module's head), and
        // the slot is not in flight, so that nothing else uses its buffer.
        unsafe { self.queue(&entry)? };
        self.in_flight += 1;
        Ok(())
    }

    fn abandon(&mut self) {
        self.abandoned = true;
    }

    fn wait(&mut self, timeout: Nanos, done: &mut Vec<Completion>) -> io::Result<()> {
        if self.timer.is_none() {
            // One timer in a while, and not one for each wait: setting a timer costs more than the rest of a wait, above all
            // in a virtual machine. A wait so ends early, or as late as an earlier one would have.
            let time = Box::new(types::Timespec::from(Duration::from_nanos(timeout.0.max(1))));
            let entry = opcode::Timeout::new(&raw const *time).build().user_data(TIMER);
            self.timer = Some(time);
            // SAFETY: the time lives on the heap until the timer is back; the ring has room for one entry more than buffers.
            unsafe { self.queue(&entry)? };
        }
        self.enter()?;
        self.take(done);
        Ok(())
    }
}

fn descriptor(ring: &IoUring) -> BorrowedFd<'_> {
    // SAFETY: the descriptor is open as long as the ring lives.
    unsafe { BorrowedFd::borrow_raw(ring.as_raw_fd()) }
}

/// Has the kernel keep a ring under a number of the thread that makes it. Older kernels, and threads with sixteen rings, do without.
fn number_of(ring: &IoUring) -> Option<i32> {
    let mut update = io_uring_rsrc_update::default();
    update.offset = u32::MAX;
    update.data = io_uring_ptr::new(ring.as_raw_fd() as usize as *mut c_void);
    // SAFETY: one update, which the kernel reads and writes during the call.
    let made = unsafe {
        io_uring_register(descriptor(ring), IoringRegisterOp::RegisterRingFds, (&raw mut update).cast(), 1)
    };
    (made == Ok(1)).then_some(update.offset as i32)
}

impl Drop for Ring {
    fn drop(&mut self) {
        // The number is the thread's that made the ring, and would keep the ring alive for as long as that lives.
        if let Some(number) = self.number.take() {
            let mut update = io_uring_rsrc_update::default();
            update.offset = number as u32;
            // SAFETY: one update, which the kernel reads during the call.
            let _ = unsafe {
                io_uring_register(
                    descriptor(&self.ring),
                    IoringRegisterOp::UnregisterRingFds,
                    (&raw mut update).cast(),
                    1,
                )
            };
        }
        let mut done = Vec::new();
        // Each wait lasts a tick at the most. A timer still in flight ends with the ring: the kernel has its own copy.
        let most = if self.abandoned { 0 } else { PATIENCE.as_millis() / TICK.as_millis() };
        let mut idle = 0;
        while self.in_flight > 0 && idle < most {
            done.clear();
            if self.wait(Nanos(TICK.as_nanos() as u64), &mut done).is_err() {
                break;
            }
            idle = if done.is_empty() { idle + 1 } else { 0 };
        }
        if self.in_flight > 0 {
            std::mem::forget(std::mem::replace(&mut self.buffers, Arena::empty()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::pattern::Pool;
    use super::super::single::{EngineChoice, Origin, Single};
    use super::*;
    use crate::drive::Transfer;
    use mile_core::RunId;
    use std::os::unix::fs::FileExt;

    /// Writes a block with each ring, and gives how many of them the kernel knows by a number.
    fn write(file: &File, rings: &mut [Ring]) -> usize {
        for (i, ring) in rings.iter_mut().enumerate() {
            ring.buffer(0).fill(i as u8 + 1);
            ring.submit(0, Op::Write, i as u64 * 512).unwrap();
            let mut done = Vec::new();
            while done.is_empty() {
                ring.wait(Nanos(1_000_000_000), &mut done).unwrap();
            }
            assert_eq!((done.len(), done[0].slot, done[0].result), (1, 0, 512), "ring {i}");
            let mut back = [0; 512];
            file.read_exact_at(&mut back, i as u64 * 512).unwrap();
            assert!(back.iter().all(|b| *b == i as u8 + 1), "ring {i} wrote what another has");
        }
        rings.iter().filter(|r| r.number.is_some()).count()
    }

    /// A thread has sixteen numbers (the kernel's IO_RINGFD_REG_MAX), and many more rings where a course has many lanes.
    #[test]
    fn rings_beyond_the_numbers_of_their_thread_do_without_and_numbers_are_given_back() {
        let file = tempfile::tempfile().unwrap();
        let make = |count: usize| -> Vec<Ring> {
            let pool = Pool::new(RunId(1), 0, 0);
            (0..count).map(|_| Ring::new(&file, Arena::filled(2, 512, &pool)).unwrap()).collect()
        };
        // Where rings are refused there is nothing to number: threads do the work.
        let Ok(first) = Ring::new(&file, Arena::filled(2, 512, &Pool::new(RunId(1), 0, 0))) else {
            let (t, origin) = (Transfer::default(), Origin { run: RunId(1), seed: 1 });
            let made = Single::begin(&file, &t, origin, 0, EngineChoice::Auto, Nanos(0)).unwrap();
            assert!(made.name().contains("threads"), "{}", made.name());
            return;
        };
        // Kernels before 5.18 have no numbers.
        let [all, ten] = if first.number.is_some() { [16, 10] } else { [0, 0] };
        drop(first);
        let mut rings = make(20);
        assert_eq!(write(&file, &mut rings), all);
        // Of those that go some have a number and some have not, and what is left is not disturbed.
        rings.drain(10..18);
        assert_eq!(write(&file, &mut rings), ten);
        rings.extend(make(8));
        assert_eq!(write(&file, &mut rings), all);
    }
}
