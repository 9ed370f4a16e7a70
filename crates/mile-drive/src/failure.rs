//! Operations that failed, and data that was not found as it was written.

use mile_core::{Bytes, Nanos, Op};
use serde::{Deserialize, Serialize};

/// An operation that failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failure {
    /// Which it was.
    pub op: Op,
    /// Its address.
    pub offset: Bytes,
    /// Its length.
    pub length: Bytes,
    /// Number of the error; `None` where fewer bytes were moved than asked for.
    pub errno: Option<i32>,
    /// Time from asking for it to its failure. Zero in logs of earlier versions, which did not keep it.
    #[serde(default)]
    pub took: Nanos,
}

impl Failure {
    /// The error in words: `Input/output error (EIO)`.
    pub fn words(&self) -> String {
        let Some(code) = self.errno else { return "fewer bytes were moved than asked for".into() };
        let name = match code {
            libc::EIO => " (EIO)",
            libc::ENODATA => " (ENODATA)",
            libc::ENOSPC => " (ENOSPC)",
            libc::ENODEV => " (ENODEV)",
            libc::ENXIO => " (ENXIO)",
            libc::ETIMEDOUT => " (ETIMEDOUT)",
            libc::EILSEQ => " (EILSEQ)",
            libc::EREMOTEIO => " (EREMOTEIO)",
            _ => "",
        };
        let text = std::io::Error::from_raw_os_error(code).to_string();
        format!("{}{name}", text.split(" (os error").next().unwrap_or(&text))
    }
}

/// A failed operation, narrowed down.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Narrowed {
    /// Stretches of whole logical blocks that fail by themselves: from, to.
    pub bad: Vec<(Bytes, Bytes)>,
    /// Whether everything in the operation was tried.
    pub complete: bool,
    /// Time that narrowing it down took. Zero in logs of earlier versions, which did not keep it.
    #[serde(default)]
    pub took: Nanos,
}

impl Narrowed {
    /// Of a failure of which nothing more could be found out.
    pub fn unknown(failure: &Failure) -> Self {
        let end = Bytes(failure.offset.0 + failure.length.0);
        Self { bad: vec![(failure.offset, end)], ..Self::default() }
    }
}

/// What a verifying read found where it did not find what was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Wrong {
    /// Not what was written there, nor what was written anywhere.
    Corrupt,
    /// What an earlier pass, or an earlier run, had written there.
    Stale,
    /// What was written at another address.
    Misplaced,
}

impl Wrong {
    /// As a kind of fault.
    pub fn fault(self) -> mile_core::FaultKind {
        match self {
            Self::Corrupt => mile_core::FaultKind::Corrupt,
            Self::Stale => mile_core::FaultKind::Stale,
            Self::Misplaced => mile_core::FaultKind::Misplaced,
        }
    }

    /// The word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Corrupt => "corrupt",
            Self::Stale => "stale",
            Self::Misplaced => "misplaced",
        }
    }
}

/// A stretch that a verifying read found wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mismatch {
    /// Its address.
    pub offset: Bytes,
    /// Its length.
    pub length: Bytes,
    /// How.
    pub wrong: Wrong,
    /// Where its content belongs, if it is misplaced.
    pub belongs: Option<Bytes>,
}
