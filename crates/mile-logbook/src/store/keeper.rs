//! What makes the disk keep what is committed, beside the commits.

use super::{Logbook, Result};

/// Pages of the write-ahead log from which on a commit carries them over into the logbook: what SQLite does by itself.
const CHECKPOINT: u32 = 1000;
/// Calls of the keeper after which it does that instead: a minute, at three a second.
const CARRY_OVER: u32 = 200;

impl Logbook {
    /// Whether each commit waits for the disk. Without, what is committed outlives this process but not a power cut, until
    /// [`Logbook::keeper`] was called; the recorder does that beside its work, so that a slow disk delays nothing.
    pub(crate) fn wait_for_disk(&self, wait: bool) -> Result<()> {
        let (sync, pages) = if wait { ("FULL", CHECKPOINT) } else { ("NORMAL", 0) };
        self.db.pragma_update(None, "synchronous", sync).map_err(self.wrap())?;
        self.db.pragma_update(None, "wal_autocheckpoint", pages).map_err(self.wrap())
    }

    /// What makes the disk keep what is committed: it syncs the write-ahead log, where that is written first, and carries a long one
    /// over into the logbook, through a connection of its own. No commit waits for either.
    pub(crate) fn keeper(&self) -> Box<dyn FnMut() + Send + 'static> {
        let path = self.path.clone();
        let mut log = path.clone().into_os_string();
        log.push("-wal");
        let (mut own, mut calls) = (None, 0_u32);
        Box::new(move || {
            let Ok(file) = std::fs::File::open(&log) else { return };
            let _ = file.sync_data();
            calls += 1;
            if calls >= CARRY_OVER {
                calls = 0;
                own = own.take().or_else(|| Self::open_existing(&path).ok());
                if let Some(own) = &own {
                    let _ = own.db.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(()));
                }
            }
        })
    }
}
