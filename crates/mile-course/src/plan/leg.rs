//! What a planned leg is: in words, by what ends it, and by its load.

use crate::course::ends::Seen;
use crate::kinds::files::PlannedFiles;
use crate::kinds::transfer::{PlannedTransfer, TransferLoad};
use crate::kinds::{ask, discard, expect, fill, flush, health, scan, self_test};
use mile_core::files::FilesOp;
use mile_core::health::SelfTestKind;
use mile_core::{Bytes, Nanos, Op};
use serde::{Deserialize, Serialize};

/// One stage of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedLeg {
    /// Its name.
    pub name: String,
    /// What it does.
    pub work: Work,
    /// It ends when so much time has passed.
    pub time: Option<Nanos>,
    /// It ends when one of these is seen.
    pub seen: Vec<Seen>,
    /// Line of the course on which it stands.
    pub line: usize,
}

/// What a planned leg does.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Work {
    /// Nothing: it waits.
    Rest,
    /// Nothing, for as long as other lanes take.
    Watch,
    /// What only these words tell: a leg of a run that an earlier version kept, or of a trace from elsewhere.
    Told(String),
    /// Nothing, and it is not waited for: no end of it can be reached on this drive.
    Skip,
    /// Reads or writes.
    Transfer(PlannedTransfer),
    /// Works with whole files.
    Files(Box<PlannedFiles>),
    /// Makes the drive keep what it was given.
    Flush,
    /// Tells the drive that a range holds nothing any more.
    Discard {
        /// First byte.
        start: Bytes,
        /// Bytes from there.
        length: Bytes,
    },
    /// Has the drive test itself.
    SelfTest(SelfTestKind),
    /// Has it test a part of itself.
    SelectiveTest {
        /// First byte.
        start: Bytes,
        /// Bytes from there.
        length: Bytes,
    },
    /// Reads the drive's health and keeps it.
    Health,
    /// Waits until one of what is seen has come true, and stops the run where none has in its time.
    Expect,
    /// Tells the operator something and waits for a key.
    Ask(String),
}

impl Work {
    /// Whether what earlier legs wrote there is gone behind it, and not written again by it.
    pub fn takes_away(&self) -> bool {
        match self {
            Self::Discard { .. } => true,
            Self::Files(f) => f.op == FilesOp::Delete,
            Self::Rest
            | Self::Watch
            | Self::Told(_)
            | Self::Skip
            | Self::Transfer(_)
            | Self::Flush
            | Self::SelfTest(_)
            | Self::SelectiveTest { .. }
            | Self::Health
            | Self::Expect
            | Self::Ask(_) => false,
        }
    }
}

impl PlannedLeg {
    /// Bytes that it writes at most; 0 where only a time ends it.
    pub fn writes(&self) -> u64 {
        match &self.work {
            Work::Transfer(t) => t.writes(),
            Work::Files(f) => f.writes(),
            _ => 0,
        }
    }

    /// A leg of which only its name, and what it did in words, are known.
    pub fn told(name: &str, words: &str) -> Self {
        Self {
            name: name.to_owned(),
            work: Work::Told(words.to_owned()),
            time: None,
            seen: Vec::new(),
            line: 0,
        }
    }

    /// Bytes that it moves at the most; 0 for a rest, and where only a time ends it.
    pub fn budget(&self) -> Bytes {
        match &self.work {
            Work::Transfer(t) if !t.by_time => t.budget,
            Work::Files(f) => f.moves(),
            _ => Bytes(0),
        }
    }

    /// Time after which it ends at the latest.
    pub fn longest(&self) -> Option<Nanos> {
        self.time.filter(|_| self.work != Work::Skip)
    }

    /// Whether that time is a limit only: it ends sooner where its work is done, or where something is seen.
    pub fn may_end_sooner(&self) -> bool {
        let (time, seen) = self.ends();
        // A lane is watched for as long as the others take.
        self.work != Work::Watch && (time.is_none() || !seen.is_empty())
    }

    /// What it does, in words: `writing 1 MiB blocks, 16 deep, until a break`.
    pub fn words(&self) -> String {
        let (time, seen) = self.ends();
        let seen = seen.iter().map(Seen::words).collect::<Vec<_>>().join(" or ");
        let load = self.load().words();
        match (&self.work, time) {
            (Work::Rest, Some(time)) if seen.is_empty() => format!("{load} for {time}"),
            (Work::Rest, Some(time)) => format!("{load} until {seen}, at most {time}"),
            (Work::Rest, None) if !seen.is_empty() => format!("{load} until {seen}"),
            (Work::Expect, _) => format!("{load} within {}", self.time.unwrap_or_default()),
            (Work::Transfer(_), Some(time)) if seen.is_empty() => format!("{load}, for {time}"),
            (Work::Transfer(_), Some(time)) => format!("{load}, until {seen}, at most {time}"),
            (Work::Transfer(_), None) if !seen.is_empty() => format!("{load}, until {seen}"),
            _ => load,
        }
    }

    /// What ends it beside its bytes: a time, where that ends it, and what is seen.
    pub fn ends(&self) -> (Option<Nanos>, &[Seen]) {
        let counts = match &self.work {
            Work::Rest => true,
            Work::Transfer(t) => t.by_time,
            _ => false,
        };
        let seen: &[Seen] =
            if matches!(self.work, Work::Rest | Work::Transfer(_)) { &self.seen } else { &[] };
        (self.time.filter(|_| counts), seen)
    }

    /// Whether another leg does the same and ends in the same way.
    pub fn is_like(&self, other: &Self) -> bool {
        self.load() == other.load() && self.ends() == other.ends()
    }

    /// What it does, without what ends it.
    pub fn load(&self) -> Load {
        match &self.work {
            Work::Skip => Load::Nothing,
            Work::Watch => Load::Watch,
            Work::Told(words) => Load::Told(words.clone()),
            Work::Flush => Load::Flush,
            Work::Discard { start, length } => Load::Discard { start: *start, length: *length },
            Work::Health => Load::Health,
            Work::SelfTest(kind) => Load::SelfTest(*kind),
            Work::SelectiveTest { start, length } => Load::SelectiveTest { start: *start, length: *length },
            Work::Expect => Load::Expect(self.seen.clone()),
            Work::Ask(text) => Load::Ask(text.clone()),
            Work::Rest => Load::Rest,
            Work::Files(f) => Load::Files(f.clone()),
            Work::Transfer(t) => Load::Transfer(t.without_range()),
        }
    }
}

/// What a leg does, without what ends it: legs with the same load on the same drive go at the same pace.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "as those of `Work`, and `Load::words` says what each is")]
pub enum Load {
    Nothing,
    Watch,
    Told(String),
    Flush,
    Discard { start: Bytes, length: Bytes },
    Health,
    SelfTest(SelfTestKind),
    SelectiveTest { start: Bytes, length: Bytes },
    Expect(Vec<Seen>),
    Ask(String),
    Rest,
    Files(Box<PlannedFiles>),
    Transfer(TransferLoad),
}

impl Load {
    /// In words: `writing 1 MiB blocks, 16 deep`.
    pub fn words(&self) -> String {
        match self {
            Self::Nothing => "nothing to do".into(),
            Self::Watch => "watching, without load".into(),
            Self::Told(words) => words.clone(),
            Self::Flush => flush::WORDS.into(),
            Self::Discard { start, length } => discard::words(*start, *length),
            Self::Health => health::WORDS.into(),
            Self::SelfTest(kind) => self_test::words(*kind),
            Self::SelectiveTest { start, length } => self_test::selective_words(*start, *length),
            Self::Expect(all) => expect::words(all),
            Self::Ask(text) => ask::words(text),
            Self::Rest => "resting".into(),
            Self::Files(f) => f.words(),
            Self::Transfer(t) => {
                let verb = match (t.copy, t.fill) {
                    (Some(part), _) => part.verb().to_owned(),
                    _ if t.refine.is_some() => scan::REFINING.to_owned(),
                    _ if t.zones > 0 => scan::verb(t.load.op, t.zones, t.order, t.verify),
                    (_, Some(level)) if t.load.op == Op::Write => fill::verb(level),
                    _ if t.verify && t.load.op == Op::Read => "verifying".to_owned(),
                    _ => t.verb(),
                };
                t.words(&verb)
            }
        }
    }

    /// Whether what is moved goes through the host's cache.
    pub fn is_cached(&self) -> bool {
        match self {
            Self::Transfer(t) => t.load.cached,
            Self::Files(f) => f.cached,
            _ => false,
        }
    }
}
