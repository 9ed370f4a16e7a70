//! What a planned leg is: in words, by what ends it, and by its load.

use super::{PlannedLeg, PlannedTransfer, Work};
use crate::copy::CopyPart;
use crate::course::{Access, ScanOrder, Seen};
use crate::files::PlannedFiles;
use mile_core::health::SelfTestKind;
use mile_core::units::block_size;
use mile_core::{Bytes, Nanos, Op, Rate};
use serde::{Deserialize, Serialize};

impl PlannedLeg {
    /// Bytes that it writes at most; 0 where only a time ends it.
    pub fn writes(&self) -> u64 {
        match self.work {
            Work::Transfer(t) if t.op == Op::Write && !t.by_time => t.budget.0,
            Work::Transfer(t) if t.op == Op::Mixed && !t.by_time => {
                (t.budget.0 as f64 * (1.0 - t.reads)) as u64
            }
            Work::Files(ref f) => f.writes(),
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
        let seen = seen.iter().map(super::super::course::Seen::words).collect::<Vec<_>>().join(" or ");
        let load = self.load().words();
        match (&self.work, time) {
            (Work::Rest, Some(time)) if seen.is_empty() => format!("{load} for {time}"),
            (Work::Rest, Some(time)) => format!("{load} until {seen}, at most {time}"),
            (Work::Rest, None) if !seen.is_empty() => format!("{load} until {seen}"),
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
            Work::Ask(text) => Load::Ask(text.clone()),
            Work::Rest => Load::Rest,
            Work::Files(f) => Load::Files(f.clone()),
            Work::Transfer(t) => Load::Transfer {
                op: t.op,
                reads: t.reads,
                verify: t.verify,
                fill: t.fill,
                zones: t.zones,
                order: t.order,
                refine: t.refine,
                access: t.access,
                block: t.block,
                depth: t.depth,
                workers: t.workers,
                rate: t.rate,
                shift: Bytes(t.start.0 % t.block.0.max(1)),
                incompressible: t.incompressible,
                cached: t.cached,
                copy: t.copy,
            },
        }
    }
}

/// What a leg does, without what ends it: legs with the same load on the same drive go at the same pace.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "as the fields of `PlannedTransfer`, and `Load::words` says what each is")]
pub enum Load {
    Nothing,
    Watch,
    Told(String),
    Flush,
    Discard {
        start: Bytes,
        length: Bytes,
    },
    Health,
    SelfTest(SelfTestKind),
    SelectiveTest {
        start: Bytes,
        length: Bytes,
    },
    Ask(String),
    Rest,
    Files(Box<PlannedFiles>),
    Transfer {
        op: Op,
        reads: f64,
        verify: bool,
        fill: Option<f64>,
        zones: u32,
        #[serde(default, skip_serializing_if = "is_forward")]
        order: ScanOrder,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        refine: Option<Bytes>,
        access: Access,
        block: Bytes,
        depth: u32,
        workers: u32,
        rate: Option<Rate>,
        /// Bytes by which addresses are off from whole blocks.
        shift: Bytes,
        incompressible: f64,
        cached: bool,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        copy: Option<CopyPart>,
    },
}

impl Load {
    /// In words: `writing 1 MiB blocks, 16 deep`.
    pub fn words(&self) -> String {
        match self {
            Self::Nothing => "nothing to do".into(),
            Self::Watch => "watching, without load".into(),
            Self::Told(words) => words.clone(),
            Self::Flush => "flushing".into(),
            Self::Discard { start, length } => format!("discarding {length} from {start} on"),
            Self::Health => "reading the drive's health".into(),
            Self::SelfTest(kind) => format!("the drive tests itself ({})", kind.word()),
            Self::SelectiveTest { start, length } => {
                format!("the drive tests itself from {start} to {}", Bytes(start.0 + length.0))
            }
            Self::Ask(text) => format!("waiting for the operator: {text}"),
            Self::Rest => "resting".into(),
            Self::Files(f) => f.words(),
            Self::Transfer {
                op,
                reads,
                verify,
                fill,
                zones,
                order,
                refine,
                access,
                block,
                depth,
                workers,
                rate,
                shift,
                incompressible,
                cached,
                copy,
            } => {
                let verb = match (op, fill) {
                    _ if copy.is_some_and(|c| c.is_source) => "reading for a copy,".to_owned(),
                    _ if copy.is_some() => "writing a copy,".to_owned(),
                    _ if refine.is_some() => "looking for the edges of hollows,".to_owned(),
                    (Op::Write, _) if *zones > 0 => {
                        format!("writing {zones} zones, in {} order,", order.word())
                    }
                    _ if *zones > 0 => {
                        let how = if *verify { "scanning and verifying" } else { "scanning" };
                        match order {
                            ScanOrder::Random => format!("{how} {zones} zones in random order,"),
                            order => format!("{how} {zones} zones {},", order.word()),
                        }
                    }
                    (Op::Write, Some(level)) => format!("filling to {:.0} %,", level * 100.0),
                    (Op::Write, None) => "writing".to_owned(),
                    (Op::Mixed, _) => format!("reading {:.0} % and writing", reads * 100.0),
                    _ if *verify => "verifying".to_owned(),
                    _ => "reading".to_owned(),
                };
                let order = if *access == Access::Random { "random " } else { "" };
                let mut text = format!("{verb} {order}{} blocks, {depth} deep", block_size(*block));
                if *workers > 1 {
                    text.push_str(&format!(", {workers} workers"));
                }
                if let Some(rate) = rate {
                    text.push_str(&format!(", at most {rate}"));
                }
                if shift.0 > 0 {
                    text.push_str(&format!(", shifted by {}", block_size(*shift)));
                }
                if *incompressible < 1.0 {
                    text.push_str(&format!(", {:.0} % incompressible", incompressible * 100.0));
                }
                if *cached {
                    text.push_str(", through the host's cache");
                }
                text
            }
        }
    }

    /// Whether what is moved goes through the host's cache.
    pub fn is_cached(&self) -> bool {
        match self {
            Self::Transfer { cached, .. } => *cached,
            Self::Files(f) => f.cached,
            _ => false,
        }
    }
}

pub(super) fn is_forward(order: &ScanOrder) -> bool {
    *order == ScanOrder::Forward
}

impl PlannedTransfer {
    /// The zones of a scan in the order in which they are visited: first byte and length of each. `leg` is its place in the plan, so that two passes in a
    /// random order have two orders, the same whenever the course is run. Empty where it is no scan.
    pub fn visits(&self, leg: u32) -> Vec<(Bytes, Bytes)> {
        let blocks = self.length.0 / self.block.0.max(1);
        let edge = |i: u64| u128::from(blocks) * u128::from(i) / u128::from(self.zones.max(1));
        let at = |i: u64| self.start.0 + edge(i) as u64 * self.block.0;
        let mut visits: Vec<(Bytes, Bytes)> =
            (0..u64::from(self.zones)).map(|i| (Bytes(at(i)), Bytes(at(i + 1) - at(i)))).collect();
        match self.order {
            ScanOrder::Forward => {}
            ScanOrder::Backward => visits.reverse(),
            ScanOrder::Random => {
                // Fisher and Yates, with the numbers of SplitMix64 (Steele, Lea and Flood, 2014).
                let mut state = u64::from(leg) << 32 | u64::from(self.zones);
                for i in (1..visits.len()).rev() {
                    state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
                    let mut z = state;
                    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
                    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
                    z ^= z >> 31;
                    visits.swap(i, ((u128::from(z) * (i as u128 + 1)) >> 64) as usize);
                }
            }
        }
        visits
    }
}
