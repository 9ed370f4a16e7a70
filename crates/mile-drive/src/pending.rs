//! Work on a drive that may take as long as the drive likes, so that whoever asked for it can look around meanwhile.

use crossbeam_channel::{Receiver, RecvTimeoutError, bounded};
use std::time::Duration;

/// Something that will be done.
#[derive(Debug)]
pub struct Pending<T>(Receiver<T>);

/// Why it is not there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotThere {
    /// It still goes on.
    Yet,
    /// It never will be: its thread ended without an answer.
    Ever,
}

impl<T: Send + 'static> Pending<T> {
    /// It is done already.
    pub fn done(value: T) -> Self {
        let (send, receive) = bounded(1);
        // There is room for one.
        let _ = send.send(value);
        Self(receive)
    }

    /// Does it on a thread of its own. Where no thread can be had, it never will be there.
    pub fn on_thread(name: &str, work: impl FnOnce() -> T + Send + 'static) -> Self {
        let (send, receive) = bounded(1);
        let _ = std::thread::Builder::new().name(name.into()).spawn(move || {
            // Nobody may be waiting any more.
            let _ = send.send(work());
        });
        Self(receive)
    }

    /// Waits for it, for so long.
    ///
    /// # Errors
    /// [`NotThere`] where it is not.
    pub fn within(&self, time: Duration) -> Result<T, NotThere> {
        self.0.recv_timeout(time).map_err(|e| match e {
            RecvTimeoutError::Timeout => NotThere::Yet,
            RecvTimeoutError::Disconnected => NotThere::Ever,
        })
    }

    /// Waits for it, for as long as it takes; `None` where it never will be there.
    pub fn wait(self) -> Option<T> {
        self.0.recv().ok()
    }
}
