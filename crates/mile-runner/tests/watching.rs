//! Those who watch a run while it goes on: nothing is missing between what was told before they came and what follows, and nothing comes twice.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use crossbeam_channel::unbounded;
use mile_core::{Nanos, Sample};
use mile_runner::Message;
use mile_runner::remote::{Client, Frame, Hello, PROTOCOL, Server};
use std::sync::atomic::{AtomicBool, Ordering};

const STEP_NS: u64 = 1_000_000;

fn sample(number: u64) -> Message {
    Message::Sample(Sample {
        start: Nanos(number * STEP_NS),
        end: Nanos((number + 1) * STEP_NS),
        ..Sample::default()
    })
}

/// Ends what is told when it goes out of scope, also where the test has failed.
struct Done<'a>(&'a AtomicBool);

impl Drop for Done<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// A sample could be both in what was told before and in what followed. Whoever watched took it for a runner that talks nonsense, and said that it had
/// ended unexpectedly while the run went on.
#[test]
fn who_comes_while_a_run_is_told_gets_each_sample_once() {
    // No processes have these numbers.
    for pid in u32::MAX - 20..u32::MAX {
        let hello = Hello { protocol: PROTOCOL, pid, ..Hello::default() };
        let (commands, _obeyed) = unbounded();
        let server = Server::start(hello, true, commands).unwrap();
        let is_done = AtomicBool::new(false);
        std::thread::scope(|all| {
            all.spawn(|| {
                for number in (0..).take_while(|_| !is_done.load(Ordering::Relaxed)) {
                    server.tell(0, &sample(number));
                }
            });
            let _done = Done(&is_done);
            let client = Client::connect(server.path()).unwrap();
            let told = client.backlog.lanes.first().map_or(0, |l| l.first + l.samples.len() as u64);
            for number in told..told + 20 {
                let frame = client.frames.recv().unwrap_or_else(|e| panic!("{e} behind sample {told}"));
                let Frame::Message(0, Message::Sample(sample)) = frame else { panic!("{frame:?}") };
                assert_eq!(sample.start, Nanos(number * STEP_NS), "behind {told}");
            }
        });
    }
}
