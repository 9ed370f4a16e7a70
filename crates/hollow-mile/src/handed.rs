//! A folder that was handed over with a report: what is in it, and whether it is as it was written.

use mile_bench::Failure;
use mile_logbook::Logbook;
use sha2::{Digest, Sha256};
use std::io::Read;
use std::path::Path;

/// The list of checksums, in the form that `sha256sum --check` reads.
pub(crate) const SUMS: &str = "SHA256SUMS";

/// The runs themselves.
pub(crate) const RUNS: &str = "runs.logbook";

/// The checksum of some bytes, in hexadecimal digits.
pub(crate) fn sum(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|b| format!("{b:02x}")).collect()
}

/// The logbook of a folder that was handed over, once each of its files is found to be as it was written, and how many runs are in it.
pub(crate) fn open(folder: &Path) -> Result<(std::path::PathBuf, usize), Failure> {
    let list = std::fs::read_to_string(folder.join(SUMS)).map_err(|e| {
        Failure::usage(format!(
            "{} is a folder, and none that `hollow-mile report --bundle` made ({SUMS}: {e}). Name a run, a file, or such a folder",
            folder.display()
        ))
    })?;
    for line in list.lines() {
        let bad = || {
            Failure::usage(format!(
                "{}: the line `{line}` is no checksum with a name",
                folder.join(SUMS).display()
            ))
        };
        let (expected, name) = line.split_once("  ").ok_or_else(bad)?;
        // Only what lies in the folder itself is looked at.
        if name.contains('/') || name.is_empty() {
            return Err(bad());
        }
        let path = folder.join(name);
        let found = sum_of(&path).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))?;
        if found != expected {
            return Err(Failure::usage(format!(
                "{} is not as it was written: its SHA-256 is {found}, and {SUMS} has {expected}. Ask for the folder again",
                path.display()
            )));
        }
    }
    let book = folder.join(RUNS);
    let runs = Logbook::all(&book)?.len();
    Ok((book, runs))
}

fn sum_of(path: &Path) -> std::io::Result<String> {
    let mut file = std::fs::File::open(path)?;
    let (mut hash, mut buffer) = (Sha256::new(), vec![0; 1 << 16]);
    loop {
        match file.read(&mut buffer)? {
            0 => break,
            n => hash.update(&buffer[..n]),
        }
    }
    Ok(hash.finalize().iter().map(|b| format!("{b:02x}")).collect())
}
