//! Which drive it is, and how it is attached.

use mile_core::Rate;
use serde::{Deserialize, Serialize};

/// Who a drive is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Identity {
    /// How it is named on the command line: `sim:merrow-k2`, or a path.
    pub name: String,
    /// Model.
    pub model: String,
    /// Serial number, where there is one.
    pub serial: Option<String>,
    /// Firmware revision, where there is one.
    pub firmware: Option<String>,
    /// What kind it is, in words: `NVMe, three-bit flash`, `file on ext4`.
    pub kind: String,
    /// Whether it is simulated.
    pub simulated: bool,
    /// How it is attached, where that is known.
    pub link: Option<Link>,
}

/// A link as it came up, against what drive and port could do.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Link {
    /// As it came up: `PCIe 4.0 x4`.
    pub negotiated: String,
    /// What drive and port could both do.
    pub possible: String,
    /// Most that it carries, its encoding allowed for.
    pub ceiling: Rate,
    /// Most that it could carry.
    #[serde(default)]
    pub possible_ceiling: Option<Rate>,
    /// What the drive could do, where that is known.
    #[serde(default)]
    pub drive: Option<String>,
    /// What the port could do, where that is known.
    #[serde(default)]
    pub port: Option<String>,
}

impl Link {
    /// Whether it came up at less than drive and port could do.
    pub fn is_degraded(&self) -> bool {
        match self.possible_ceiling {
            Some(possible) => self.ceiling.0 < possible.0 * 0.999,
            None => self.negotiated != self.possible,
        }
    }

    /// How it came up against what could be, and what it so carries, in one sentence without its full stop.
    pub fn sentence(&self) -> String {
        let carries = format!("at most {}", self.ceiling);
        if self.is_degraded() {
            let lost = self.possible_ceiling.map_or(String::new(), |p| format!(" instead of {p}"));
            return format!(
                "{}, degraded: drive and port could do {}; it carries {carries}{lost}",
                self.negotiated, self.possible
            );
        }
        match (&self.drive, &self.port) {
            (Some(drive), Some(port)) if *drive != self.negotiated => {
                format!(
                    "{}, all that its port ({port}) can do, while the drive could do {drive}; it carries {carries}",
                    self.negotiated
                )
            }
            _ => format!("{}, as it could be; it carries {carries}", self.negotiated),
        }
    }
}
