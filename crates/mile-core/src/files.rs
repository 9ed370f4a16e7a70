//! Whole files as a load: what was done with them, and how long each step of it took.

use crate::units::Bytes;
use serde::{Deserialize, Serialize};

/// What a leg does with files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FilesOp {
    /// Creates them and writes them.
    Write,
    /// Reads them.
    Read,
    /// Deletes them.
    Delete,
    /// Copies them in from a folder.
    Copy,
    /// Reads the files of that folder alone, so that its own pace is known. The drive under test does nothing.
    Source,
}

impl FilesOp {
    /// What it does, as a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Write => "write",
            Self::Read => "read",
            Self::Delete => "delete",
            Self::Copy => "copy",
            Self::Source => "source",
        }
    }
}

/// When what was written is made to stay, with `fsync` or its like.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileSync {
    /// Whenever the file system does it by itself.
    #[default]
    Never,
    /// Each file before it is closed.
    EachFile,
    /// All of them at the end of the leg, whose time counts.
    AtTheEnd,
}

impl FileSync {
    /// In words, behind what is done with the files.
    pub fn words(self) -> &'static str {
        match self {
            Self::Never => "",
            Self::EachFile => ", each synced",
            Self::AtTheEnd => ", synced at the end",
        }
    }
}

/// One step of what is done with a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileStep {
    /// Making an empty file under its name.
    Create,
    /// Opening a file that exists.
    Open,
    /// Writing all of its data.
    Write,
    /// Reading all of its data.
    Read,
    /// Having the file system keep it: `fsync`.
    Sync,
    /// Closing it.
    Close,
    /// Removing it.
    Delete,
}

impl FileStep {
    /// All of them, in the order in which a file goes through them.
    pub const ALL: [Self; 7] =
        [Self::Create, Self::Open, Self::Write, Self::Read, Self::Sync, Self::Close, Self::Delete];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Create => "create",
            Self::Open => "open",
            Self::Write => "write",
            Self::Read => "read",
            Self::Sync => "sync",
            Self::Close => "close",
            Self::Delete => "delete",
        }
    }
}

/// How long one step took, over all files of a leg, in the order of time. Percentiles are right to 1 %.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StepFigures {
    /// Which step.
    pub step: FileStep,
    /// Files that went through it.
    pub count: u64,
    /// Half of them took no longer, µs.
    pub p50_us: f64,
    /// 99 of 100 took no longer, µs.
    pub p99_us: f64,
    /// The slowest, µs.
    pub slowest_us: f64,
}

/// The side that the files of a copy came from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SourceFigures {
    /// The folder.
    pub folder: String,
    /// What it gave when it was read alone, MB/s.
    pub alone_mb_s: Option<f64>,
    /// Share of the time of the workers in which they waited for it, 0 to 1; `None` of a leg that only reads it.
    pub waited: Option<f64>,
}

/// What a leg did with files.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FileFigures {
    /// Name of the leg.
    pub leg: String,
    /// What it did.
    pub op: FilesOp,
    /// Files that it came to the end of.
    pub files: u64,
    /// Files that it had come to the end of before it was interrupted; the other figures are of those after it.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub before: u64,
    /// Bytes of their data.
    pub bytes: u64,
    /// Time in which it worked, seconds; pauses are not counted.
    pub seconds: f64,
    /// The steps, each with its times.
    pub steps: Vec<StepFigures>,
    /// Where the files came from, of a copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourceFigures>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde passes a reference")]
fn is_zero(n: &u64) -> bool {
    *n == 0
}

/// Share of the time waited for the source from which it is the slower side, and below which the drive under test is.
const SLOWER: (f64, f64) = (0.6, 0.3);

impl FileFigures {
    /// With those of the part of the leg that came after an interruption. The times of the steps are those of the part with more files, as percentiles of two
    /// parts do not add up to one.
    pub fn and_after(self, next: Self) -> Self {
        let lost = next.before.saturating_sub(self.files + self.before);
        let steps = if next.files > self.files { next.steps } else { self.steps };
        Self {
            files: self.files + next.files,
            before: self.before + lost,
            bytes: self.bytes + next.bytes,
            seconds: self.seconds + next.seconds,
            steps,
            source: next.source.or(self.source),
            ..self
        }
    }

    /// Files a second; `None` where no time passed.
    pub fn files_per_s(&self) -> Option<f64> {
        (self.seconds > 0.0 && self.files > 0).then(|| self.files as f64 / self.seconds)
    }

    /// MB/s of their data; `None` where none was moved.
    pub fn mb_s(&self) -> Option<f64> {
        (self.seconds > 0.0 && self.bytes > 0).then(|| self.bytes as f64 / 1e6 / self.seconds)
    }

    /// The times of one step.
    pub fn step(&self, step: FileStep) -> Option<&StepFigures> {
        self.steps.iter().find(|s| s.step == step)
    }

    /// Which side of a copy was the slower one, in a sentence; `None` where there is no other side.
    pub fn slower_side(&self) -> Option<String> {
        let source = self.source.as_ref()?;
        let alone = source.alone_mb_s.map_or(String::new(), |r| format!(", which read alone at {r:.0} MB/s"));
        let waited = source.waited?;
        let rate = self.mb_s().map_or(String::new(), |r| format!(" The copy went at {r:.0} MB/s."));
        let (side, more) = match waited {
            w if w >= SLOWER.0 => {
                ("The source was the slower side", " It says nothing of what the drive under test can do.")
            }
            w if w <= SLOWER.1 => ("The drive under test was the slower side", ""),
            _ => ("Neither side was clearly the slower one", ""),
        };
        Some(format!(
            "{side}: the workers waited {:.0} % of the time for {}{alone}.{rate}{more}",
            100.0 * waited,
            source.folder
        ))
    }

    /// In one sentence: `10,000 files of 512 MB in 3.2 s: 3,125 files/s, 160 MB/s`.
    pub fn sentence(&self) -> String {
        let mut text = format!("{} files", crate::units::thousands(&self.files.to_string()));
        if self.bytes > 0 {
            text.push_str(&format!(" of {}", Bytes(self.bytes)));
        }
        text.push_str(&format!(" in {:.3} s", self.seconds));
        if let Some(rate) = self.files_per_s() {
            let rate = if rate >= 100.0 {
                crate::units::thousands(&format!("{rate:.0}"))
            } else {
                format!("{rate:.1}")
            };
            text.push_str(&format!(": {rate} files/s"));
        }
        if let Some(rate) = self.mb_s() {
            text.push_str(&format!(", {rate:.1} MB/s"));
        }
        if self.before > 0 {
            let before = crate::units::thousands(&self.before.to_string());
            text.push_str(&format!("; {before} more before the run was interrupted"));
        }
        text
    }
}

/// A share of files of one size, or of sizes between two.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct SizeShare {
    /// Share of the files, above 0, to 1.
    pub share: f64,
    /// Smallest size.
    pub from: Bytes,
    /// Largest size; the same where all have one size. Between the two, sizes are spread evenly on a logarithmic ruler.
    pub to: Bytes,
}

/// Sizes of files.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FileSizes {
    /// The shares, which add up to 1.
    pub shares: Vec<SizeShare>,
}

impl FileSizes {
    /// All of one size.
    pub fn one(size: Bytes) -> Self {
        Self { shares: vec![SizeShare { share: 1.0, from: size, to: size }] }
    }

    /// The sizes of `count` files in the order in which they are written, the same whenever it is called. Each share gets its number of files to the nearest
    /// whole one, spread evenly over the order; within a share, sizes follow the multiples of the golden ratio, which fill the logarithmic ruler evenly
    /// (Weyl's theorem on the multiples of an irrational number).
    pub fn of(&self, count: u64) -> Vec<u64> {
        const GOLDEN: f64 = 0.618_033_988_749_894_9;
        let mut given = vec![0_u64; self.shares.len()];
        (1..=count)
            .map(|n| {
                let behind = |i: usize| self.shares[i].share * n as f64 - given[i] as f64;
                let next = (0..given.len()).max_by(|a, b| behind(*a).total_cmp(&behind(*b))).unwrap_or(0);
                let Some(share) = self.shares.get(next) else { return 0 };
                given[next] += 1;
                let (from, to) = (share.from.0.max(1) as f64, share.to.0.max(1) as f64);
                let place = (given[next] as f64 * GOLDEN).fract();
                ((from * (to / from).powf(place)).round() as u64).clamp(share.from.0, share.to.0)
            })
            .collect()
    }

    /// In words: `4 KiB`, `90 % of 4 KiB to 64 KiB and 10 % of 100 MiB`.
    pub fn words(&self) -> String {
        let size = |s: &SizeShare| {
            let (from, to) = (crate::units::block_size(s.from), crate::units::block_size(s.to));
            if s.from == s.to { from } else { format!("{from} to {to}") }
        };
        match self.shares.as_slice() {
            [one] => size(one),
            all => {
                let each = all.iter().map(|s| format!("{} % of {}", percent(s.share), size(s)));
                each.collect::<Vec<_>>().join(" and ")
            }
        }
    }
}

fn percent(share: f64) -> String {
    let text = format!("{:.2}", 100.0 * share);
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mixed() -> FileSizes {
        FileSizes {
            shares: vec![
                SizeShare { share: 0.9, from: Bytes(4096), to: Bytes(65_536) },
                SizeShare { share: 0.1, from: Bytes(100 << 20), to: Bytes(100 << 20) },
            ],
        }
    }

    #[test]
    fn each_share_has_its_number_of_files_spread_evenly() {
        let sizes = mixed().of(1000);
        let large = |from: usize, to: usize| sizes[from..to].iter().filter(|s| **s == 100 << 20).count();
        assert_eq!(large(0, 1000), 100);
        for start in (0..1000).step_by(100) {
            assert!((9..=11).contains(&large(start, start + 100)), "{start}: {}", large(start, start + 100));
        }
        assert!(sizes.iter().all(|s| (4096..=65_536).contains(s) || *s == 100 << 20));
    }

    #[test]
    fn sizes_between_two_are_even_on_a_logarithmic_ruler() {
        let sizes =
            FileSizes { shares: vec![SizeShare { share: 1.0, from: Bytes(4096), to: Bytes(1 << 22) }] };
        // Ten doublings, of which each has a tenth of the files; the mean of the logarithm is that of its ends.
        let of = sizes.of(10_000);
        for k in 0..10 {
            let (from, to) = (4096_u64 << k, 8192_u64 << k);
            let n = of.iter().filter(|s| (from..to).contains(s)).count();
            assert!((990..=1010).contains(&n), "{from}: {n}");
        }
        // Mean of a log-uniform quantity: (b - a) / ln(b / a).
        let mean = of.iter().sum::<u64>() as f64 / 1e4;
        let truth = ((1 << 22) - 4096) as f64 / (1024.0_f64).ln();
        assert!((mean / truth - 1.0).abs() < 0.002, "{mean} {truth}");
        assert_eq!(of, sizes.of(10_000), "the same each time");
    }

    /// 10 files of which 4 were written until the run was stopped, and 6 after it; then with 3 that nobody counted, as the run was killed.
    #[test]
    fn the_parts_of_a_leg_that_was_interrupted_are_one() {
        let part = |files, before, seconds| FileFigures {
            leg: "w".into(),
            op: FilesOp::Write,
            files,
            before,
            bytes: files * 1000,
            seconds,
            steps: vec![StepFigures {
                step: FileStep::Write,
                count: files,
                p50_us: files as f64,
                p99_us: 9.0,
                slowest_us: 9.0,
            }],
            source: None,
        };
        let whole = part(4, 0, 2.0).and_after(part(6, 4, 1.0));
        assert_eq!((whole.files, whole.before, whole.bytes, whole.seconds), (10, 0, 10_000, 3.0));
        assert_eq!(whole.steps[0].p50_us, 6.0);
        assert!(!whole.sentence().contains("interrupted"), "{}", whole.sentence());
        let lost = part(4, 0, 2.0).and_after(part(3, 7, 1.0));
        assert_eq!((lost.files, lost.before), (7, 3));
        assert!(lost.sentence().contains("3 more before the run was interrupted"), "{}", lost.sentence());
    }

    #[test]
    fn the_slower_side_is_named() {
        let copy = |waited| FileFigures {
            leg: "copy".into(),
            op: FilesOp::Copy,
            files: 10,
            before: 0,
            bytes: 100_000_000,
            seconds: 2.0,
            steps: Vec::new(),
            source: Some(SourceFigures {
                folder: "/from".into(),
                alone_mb_s: Some(51.0),
                waited: Some(waited),
            }),
        };
        assert!(copy(0.93).slower_side().unwrap().starts_with("The source was the slower side"));
        assert!(copy(0.1).slower_side().unwrap().starts_with("The drive under test was the slower side"));
        assert!(copy(0.45).slower_side().unwrap().starts_with("Neither side"));
        assert_eq!(copy(0.1).sentence(), "10 files of 100.0 MB in 2.000 s: 5.0 files/s, 50.0 MB/s");
    }
}
