//! Operations in flight on a pool of threads, each in pread or pwrite: for hosts on which io_uring is forbidden.

use super::pattern::Buffer;
use super::pump::{Completion, Engine};
use crossbeam_channel::{Receiver, Sender, bounded};
use mile_core::{Nanos, Op};
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::Duration;

/// Threads at the most; operations beyond that wait for one.
const MOST_THREADS: usize = 64;

struct Job {
    slot: u32,
    op: Op,
    offset: u64,
    buffer: Buffer,
}

struct Back {
    slot: u32,
    result: i32,
    buffer: Buffer,
}

/// A pool of threads with the buffers of all slots.
pub struct Pool {
    buffers: Vec<Option<Buffer>>,
    jobs: Option<Sender<Job>>,
    back: Receiver<Back>,
    threads: Vec<JoinHandle<()>>,
}

impl Pool {
    /// Starts the threads.
    pub fn new(file: &File, buffers: Vec<Buffer>) -> io::Result<Self> {
        let file = Arc::new(file.try_clone()?);
        let (jobs, todo) = bounded::<Job>(buffers.len());
        let (finished, back) = bounded(buffers.len());
        let threads = (0..buffers.len().min(MOST_THREADS))
            .map(|_| {
                let (file, todo, finished) = (Arc::clone(&file), todo.clone(), finished.clone());
                std::thread::Builder::new().name("pread".into()).spawn(move || serve(&file, &todo, &finished))
            })
            .collect::<io::Result<_>>()?;
        Ok(Self { buffers: buffers.into_iter().map(Some).collect(), jobs: Some(jobs), back, threads })
    }

    fn take(&mut self, b: Back, done: &mut Vec<Completion>) {
        self.buffers[b.slot as usize] = Some(b.buffer);
        done.push(Completion { slot: b.slot, result: b.result });
    }
}

fn serve(file: &File, todo: &Receiver<Job>, finished: &Sender<Back>) {
    for mut job in todo {
        let moved = match job.op {
            Op::Read => file.read_at(job.buffer.bytes_mut(), job.offset),
            _ => file.write_at(job.buffer.bytes(), job.offset),
        };
        let result = match moved {
            Ok(n) => i32::try_from(n).unwrap_or(i32::MAX),
            Err(e) => -e.raw_os_error().unwrap_or(rustix::io::Errno::IO.raw_os_error()),
        };
        if finished.send(Back { slot: job.slot, result, buffer: job.buffer }).is_err() {
            return;
        }
    }
}

impl Engine for Pool {
    fn name(&self) -> &'static str {
        "a pool of threads with pread and pwrite, as io_uring is not available"
    }

    fn buffer(&mut self, slot: u32) -> &mut [u8] {
        self.buffers[slot as usize].as_mut().map_or(&mut [], Buffer::bytes_mut)
    }

    fn submit(&mut self, slot: u32, op: Op, offset: u64) -> io::Result<()> {
        let gone = || io::Error::other("a thread of the pool has ended");
        let buffer = self.buffers[slot as usize].take().ok_or_else(gone)?;
        let jobs = self.jobs.as_ref().ok_or_else(gone)?;
        jobs.send(Job { slot, op, offset, buffer }).map_err(|_| gone())
    }

    fn wait(&mut self, timeout: Nanos, done: &mut Vec<Completion>) -> io::Result<()> {
        if let Ok(b) = self.back.recv_timeout(Duration::from_nanos(timeout.0)) {
            self.take(b, done);
        }
        while let Ok(b) = self.back.try_recv() {
            self.take(b, done);
        }
        Ok(())
    }
}

impl Drop for Pool {
    fn drop(&mut self) {
        self.jobs = None;
        // A thread whose operation never comes back cannot be waited for; its buffer is its own.
        for thread in self.threads.drain(..) {
            if thread.is_finished() {
                let _ = thread.join();
            }
        }
    }
}
