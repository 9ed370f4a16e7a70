//! A block device that is slow, fails and lies where it is told to (`scripts/bad-target`).

use std::path::Path;
use std::process::{Command, Output};

const TOOL: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/bad-target");

/// The priority that goes before all others.
const FIRST: i32 = -20;

/// A device that misbehaves; it is taken down when it goes out of scope.
pub(crate) struct BadTarget {
    folder: tempfile::TempDir,
    pub(crate) device: String,
}

impl BadTarget {
    /// `None` where the machine has no FUSE or no loop devices, which is told as a skip.
    ///
    /// How fast it is must not depend on what else the machine does: its server, and what the test starts after it, come before other programs.
    pub(crate) fn up(options: &[&str]) -> Option<Self> {
        if rustix::process::setpriority_process(None, FIRST).is_err() {
            super::skipped(
                "no device that misbehaves can be made: only root may put its server before other programs",
            );
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        let out = tool(folder.path(), "up", options);
        let device = String::from_utf8(out.stdout).unwrap().trim().to_owned();
        if !out.status.success() {
            super::skipped(&format!(
                "no device that misbehaves can be made: {}",
                String::from_utf8_lossy(&out.stderr)
            ));
            return None;
        }
        Some(Self { folder, device })
    }
}

impl Drop for BadTarget {
    fn drop(&mut self) {
        tool(self.folder.path(), "down", &[]);
    }
}

fn tool(folder: &Path, verb: &str, options: &[&str]) -> Output {
    let state = folder.join("target");
    Command::new("python3").args([TOOL, verb, "--dir"]).arg(state).args(options).output().unwrap()
}
