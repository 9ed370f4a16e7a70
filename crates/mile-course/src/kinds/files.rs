//! Legs that work with whole files, as a user of a file system does: create and write, read, delete, and copy a folder in.

use crate::course::ends::End;
use crate::diagnostic::{Diagnostic, Span};
use crate::parse::checks::MOST_WORKERS;
use crate::parse::clause::Clause;
use crate::parse::reader::{Read, Reader};
use crate::plan::facts::DriveFacts;
use mile_core::files::{FileSizes, FileSync, FilesOp, SizeShare};
use mile_core::units::{block_size, thousands};
use mile_core::{Bytes, Nanos};
use serde::{Deserialize, Serialize};

/// Most files of one leg.
const MOST_FILES: u64 = 1_000_000;
/// Largest file: 16 TiB, as on ext4.
const LARGEST: Bytes = Bytes(16 << 40);
/// Bytes of one operation where the leg does not say.
const BLOCK: Bytes = Bytes(1 << 20);
/// What a file takes on the medium is a multiple of this.
const CLUSTER: u64 = 4096;

/// A leg that works with files.
#[derive(Clone, Debug, PartialEq)]
pub struct Files {
    /// What it does with them.
    pub op: FilesOp,
    /// Their sizes, of those that it writes.
    pub sizes: FileSizes,
    /// How many it writes; 0 for another operation, which has all that are there.
    pub count: u64,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Workers, each with one file at a time.
    pub workers: u32,
    /// When what was written is made to stay.
    pub sync: FileSync,
    /// Whether it goes through the host's cache.
    pub cached: bool,
    /// It ends after this at the latest.
    pub at_most: Option<Nanos>,
    /// The folder that is copied in.
    pub from: Option<String>,
}

impl Files {
    /// In words that need no drive: `write 100 files of 4 KiB`.
    pub(crate) fn words(&self) -> String {
        match self.op {
            FilesOp::Write => format!("write {} files of {}", self.count, self.sizes.words()),
            FilesOp::Copy => format!("copy the files of {}", self.from.as_deref().unwrap_or_default()),
            op => format!("{} files", op.word()),
        }
    }
}

/// A leg that works with files, fitted to its drive.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedFiles {
    /// What it does with them.
    pub op: FilesOp,
    /// Their sizes, of those that it writes.
    pub sizes: FileSizes,
    /// How many there are; `None` where only the run will know.
    pub count: Option<u64>,
    /// Bytes of their data; `None` where only the run will know.
    pub bytes: Option<Bytes>,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Workers, each with one file at a time.
    pub workers: u32,
    /// When what was written is made to stay.
    #[serde(default)]
    pub sync: FileSync,
    /// Whether it goes through the host's cache.
    #[serde(default)]
    pub cached: bool,
    /// The folder that is copied in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
}

impl PlannedFiles {
    /// Whether it changes what is on the drive.
    pub fn changes(&self) -> bool {
        matches!(self.op, FilesOp::Write | FilesOp::Copy | FilesOp::Delete)
    }

    /// Bytes that it writes, as far as that is known.
    pub fn writes(&self) -> u64 {
        if self.op == FilesOp::Write { self.bytes.map_or(0, |b| b.0) } else { 0 }
    }

    /// Bytes that it moves, as far as that is known.
    pub fn moves(&self) -> Bytes {
        match self.op {
            FilesOp::Write | FilesOp::Read => self.bytes.unwrap_or_default(),
            FilesOp::Copy | FilesOp::Delete | FilesOp::Source => Bytes(0),
        }
    }

    /// In words: `writing 10,000 files of 4 KiB to 64 KiB, 4 workers, each synced`.
    pub fn words(&self) -> String {
        let count =
            self.count.map_or("the files".to_owned(), |n| format!("{} files", thousands(&n.to_string())));
        let from = self.from.as_deref().unwrap_or("a folder");
        let mut text = match self.op {
            FilesOp::Write => format!("writing {count} of {}", self.sizes.words()),
            FilesOp::Read => format!("reading {count}"),
            FilesOp::Delete => format!("deleting {count}"),
            FilesOp::Copy => format!("copying the files of {from}"),
            FilesOp::Source => format!("reading the files of {from}, to know its own pace"),
        };
        if self.op != FilesOp::Delete && self.block != BLOCK {
            text.push_str(&format!(", blocks of {}", block_size(self.block)));
        }
        if self.workers > 1 {
            text.push_str(&format!(", {} workers", self.workers));
        }
        text.push_str(self.sync.words());
        if self.cached {
            text.push_str(", through the host's cache");
        }
        text
    }
}

/// The leg that reads the folder of a copy alone, which goes before the copy.
pub(crate) fn with_source(name: String, files: Files) -> Vec<(String, Files)> {
    if files.op != FilesOp::Copy {
        return vec![(name, files)];
    }
    let alone = Files { op: FilesOp::Source, sync: FileSync::Never, ..files.clone() };
    vec![(format!("source alone / {name}"), alone), (name, files)]
}

/// `write`, `read`, `delete` or `copy from "FOLDER"`, behind `files`.
pub(crate) fn head(reader: &mut Reader) -> Read<Clause> {
    Ok(match reader.one_of(&["write", "read", "delete", "copy"])? {
        0 => Clause::Files(FilesOp::Write, None),
        1 => Clause::Files(FilesOp::Read, None),
        2 => Clause::Files(FilesOp::Delete, None),
        _ => {
            reader.word("from")?;
            let folder = reader.text("the folder that is copied, in double quotes")?;
            Clause::Files(FilesOp::Copy, Some(folder))
        }
    })
}

/// `4 KiB`, `4 KiB to 64 KiB`, `90 % of 4 KiB to 64 KiB and 10 % of 100 MiB`, behind `sizes`.
pub(crate) fn sizes(reader: &mut Reader) -> Read<FileSizes> {
    let span = reader.here();
    let mut shares = Vec::new();
    loop {
        let share = if reader.at_share() {
            let share = reader.share("a share, such as `90 % of 4 KiB`")?;
            reader.word("of")?;
            Some(share)
        } else {
            None
        };
        let from = reader.size()?;
        let to = if reader.take_word("to") { reader.size()? } else { from };
        if from.0 == 0 || to < from || to > LARGEST {
            let hint = "write `sizes 4 KiB to 64 KiB`";
            return reader.fail(
                Diagnostic::new(
                    span,
                    "sizes go from the smaller one to the larger one, within 1 B to 16 TiB",
                )
                .hint(hint),
            );
        }
        shares.push((share, SizeShare { share: 1.0, from, to }));
        if !reader.take_word("and") {
            break;
        }
    }
    let said = shares.iter().filter(|s| s.0.is_some()).count();
    let sum: f64 = shares.iter().filter_map(|s| s.0).sum();
    let equal = 1.0 / shares.len() as f64;
    if said > 0
        && (said < shares.len() || (sum - 1.0).abs() > 1e-6 || shares.iter().any(|s| s.0 == Some(0.0)))
    {
        return reader.fail(
            Diagnostic::new(span, "the shares of the sizes add up to 100 %, each above 0 %").hint(
                "write `sizes 90 % of 4 KiB and 10 % of 100 MiB`, or leave out all shares for equal ones",
            ),
        );
    }
    Ok(FileSizes {
        shares: shares
            .into_iter()
            .map(|(share, s)| SizeShare { share: share.unwrap_or(equal), ..s })
            .collect(),
    })
}

/// `each file` or `at the end`, behind `sync`.
pub(crate) fn sync(reader: &mut Reader) -> Read<Clause> {
    Ok(Clause::Sync(match reader.one_of(&["each", "at"])? {
        0 => {
            reader.word("file")?;
            FileSync::EachFile
        }
        _ => {
            reader.word("the")?;
            reader.word("end")?;
            FileSync::AtTheEnd
        }
    }))
}

/// Puts a leg with files together.
pub(crate) fn read(
    reader: &mut Reader,
    span: Span,
    (op, from): (FilesOp, Option<String>),
    clauses: impl Iterator<Item = (Clause, Span)>,
    unread: bool,
) -> Files {
    let mut files = Files {
        op,
        sizes: FileSizes::one(Bytes(0)),
        count: 0,
        block: BLOCK,
        workers: 1,
        sync: FileSync::Never,
        cached: false,
        at_most: None,
        from,
    };
    let mut said: Vec<std::mem::Discriminant<Clause>> = Vec::new();
    let (writes, moves) = (op == FilesOp::Write, op != FilesOp::Delete);
    for (clause, at) in clauses {
        let kind = std::mem::discriminant(&clause);
        if said.contains(&kind) {
            let twice = Diagnostic::new(at, "this is said twice in the leg").hint("keep one of them");
            reader.errors.push(twice);
            continue;
        }
        said.push(kind);
        match clause {
            Clause::Sizes(sizes) if writes => files.sizes = sizes,
            Clause::Count(count) if writes => {
                if count.fract() != 0.0 || !(1.0..=MOST_FILES as f64).contains(&count) {
                    let most = thousands(&MOST_FILES.to_string());
                    reader.errors.push(Diagnostic::new(
                        at,
                        format!("a leg writes a whole number of files from 1 to {most}, found {count}"),
                    ));
                }
                files.count = count as u64;
            }
            Clause::Sizes(_) | Clause::Count(_) => reader.errors.push(
                Diagnostic::new(at, "only files that are written have sizes and a count of their own")
                    .hint("take this out: the leg has all files that the run has written and not yet deleted"),
            ),
            Clause::Blocks(block) if moves => files.block = reader.checked_block(at, block),
            Clause::Workers(count) => {
                files.workers = reader.checked_count(at, "workers", count, MOST_WORKERS);
            }
            Clause::Sync(sync) if writes || op == FilesOp::Copy => files.sync = sync,
            Clause::Cached if moves => files.cached = true,
            Clause::AtMost(time) => files.at_most = Some(time),
            Clause::Until(ends) if matches!(ends.as_slice(), [End::After(_)]) && files.at_most.is_none() => {
                if let [End::After(time)] = ends.as_slice() {
                    files.at_most = Some(*time);
                }
            }
            _ => reader.errors.push(
                Diagnostic::new(at, "this does not belong to a leg that works with files").hint(
                    "it takes `sizes`, `count`, `blocks`, `workers`, `sync each file`, `sync at the end`, `through the cache` and `at most TIME`",
                ),
            ),
        }
    }
    if writes && !unread {
        if files.sizes.shares.iter().any(|s| s.to.0 == 0) {
            reader.errors.push(
                Diagnostic::new(span, "the leg does not say how large its files are")
                    .hint("add `sizes 4 KiB to 64 KiB`"),
            );
        }
        if files.count == 0 && !said.iter().any(|k| *k == std::mem::discriminant(&Clause::Count(0.0))) {
            reader.errors.push(
                Diagnostic::new(span, "the leg does not say how many files it writes")
                    .hint("add `count 10000`"),
            );
        }
    }
    files
}

/// The files that are there before a leg of a plan.
#[derive(Clone, Debug, Default)]
pub(crate) struct There {
    count: u64,
    bytes: u64,
    /// What they take on the medium.
    taken: u64,
    /// Whether there are others, of which only the run will know.
    others: bool,
    /// What the last leg that writes came to: repeats of it come to the same.
    last: Option<(FileSizes, u64, u64, u64)>,
}

impl There {
    /// The bytes of so many files of these sizes, and what they take on the medium.
    fn sum(&mut self, sizes: &FileSizes, count: u64) -> (u64, u64) {
        if let Some((_, _, bytes, taken)) = self.last.as_ref().filter(|l| l.0 == *sizes && l.1 == count) {
            return (*bytes, *taken);
        }
        let all = sizes.of(count);
        let bytes = all.iter().fold(0_u64, |sum, s| sum.saturating_add(*s));
        let taken =
            all.iter().fold(0_u64, |sum, s| sum.saturating_add(s.div_ceil(CLUSTER).saturating_mul(CLUSTER)));
        self.last = Some((sizes.clone(), count, bytes, taken));
        (bytes, taken)
    }
}

/// Fits a leg that works with files to its drive.
///
/// # Errors
/// Why it does not fit, in a sentence.
pub(crate) fn fit(
    name: &str,
    files: &Files,
    drive: &DriveFacts,
    there: &mut There,
) -> Result<PlannedFiles, String> {
    let Some(room) = drive.files else {
        return Err(format!(
            "Leg {name} works with whole files, for which a mounted file system is needed: name a file on it as the drive, such as `--on /mnt/disk/test.bin`."
        ));
    };
    let mut planned = PlannedFiles {
        op: files.op,
        sizes: files.sizes.clone(),
        count: None,
        bytes: None,
        block: files.block,
        workers: files.workers,
        sync: files.sync,
        cached: files.cached,
        from: files.from.clone(),
    };
    if !files.block.0.is_multiple_of(drive.logical_block.0.max(1)) {
        return Err(format!(
            "Leg {name}: blocks of {} are no multiple of this drive's logical block of {}.",
            block_size(files.block),
            block_size(drive.logical_block)
        ));
    }
    match files.op {
        FilesOp::Write => {
            let (bytes, taken) = there.sum(&files.sizes, files.count);
            there.count += files.count;
            there.bytes = there.bytes.saturating_add(bytes);
            there.taken = there.taken.saturating_add(taken);
            if there.taken > room.0 {
                return Err(format!(
                    "Leg {name}: the files of the run take {} with it, but the file system has {room} for them beside the file of the run. Write fewer or smaller files, or delete others before.",
                    Bytes(there.taken)
                ));
            }
            (planned.count, planned.bytes) = (Some(files.count), Some(Bytes(bytes)));
        }
        FilesOp::Read | FilesOp::Delete => {
            if there.count == 0 && !there.others {
                return Err(format!(
                    "Leg {name}: there are no files here. Put a leg with `files write` or `files copy` before it."
                ));
            }
            if !there.others {
                (planned.count, planned.bytes) = (Some(there.count), Some(Bytes(there.bytes)));
            }
            if files.op == FilesOp::Delete {
                *there = There { last: there.last.take(), ..There::default() };
            }
        }
        FilesOp::Copy => there.others = true,
        FilesOp::Source => {}
    }
    Ok(planned)
}

/// What is said of a leg that goes through the host's cache.
pub(crate) fn cache_note(name: &str, files: &Files) -> Option<String> {
    files.cached.then(|| {
        format!(
            "Leg {name} goes through the host's cache: its figures are those of cache and drive together."
        )
    })
}
