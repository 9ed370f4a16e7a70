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
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
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
        // Registering pins memory, which an unprivileged user may have little of; it is a small gain and can be done without.
        Ok(Self {
            ring,
            buffers,
            registered: registered.is_ok(),
            _file: file,
            in_flight: 0,
            abandoned: false,
            timer: None,
        })
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
        let pushed = unsafe { self.ring.submission().push(&entry) };
        pushed.map_err(|_| io::Error::other("the submission queue is full"))?;
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
            let pushed = unsafe { self.ring.submission().push(&entry) };
            pushed.map_err(|_| io::Error::other("the submission queue is full"))?;
        }
        match self.ring.submitter().submit_and_wait(1) {
            Ok(_) => {}
            // A signal came, which is for the caller to look at.
            Err(e) if e.raw_os_error() == Some(libc::EINTR) => {}
            Err(e) => return Err(e),
        }
        self.take(done);
        Ok(())
    }
}

impl Drop for Ring {
    fn drop(&mut self) {
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
