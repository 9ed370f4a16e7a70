//! Quantities with units, and how they are written for people.
//!
//! Rates and storage sizes are decimal (1 MB/s = 10^6 bytes a second, 1 GB = 10^9 bytes). Block sizes are
//! binary and say so (4 KiB, 1 MiB). Temperatures are degrees Celsius.

use serde::{Deserialize, Serialize};
use std::fmt;

/// Most memory that the blocks of operations in flight may take: 1 GiB.
pub const IN_FLIGHT_MOST: Bytes = Bytes(1 << 30);

/// The greatest number that divides both (Euclid, "Elements", book VII); the other where one is 0.
pub fn common_divisor(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { common_divisor(b, a % b) }
}

/// A point in time since the start of a run, or a duration, in nanoseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Nanos(pub u64);

/// A number of bytes, or a byte address.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Bytes(pub u64);

/// A throughput in bytes a second.
#[derive(Clone, Copy, Debug, Default, PartialEq, PartialOrd, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Rate(pub f64);

/// A temperature in degrees Celsius.
#[derive(Clone, Copy, Debug, Default, PartialEq, PartialOrd, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Celsius(pub f64);

impl Nanos {
    /// From seconds; negative and non-finite values give zero.
    pub fn from_secs(seconds: f64) -> Self {
        Self((seconds * 1e9).max(0.0).round() as u64)
    }

    /// In seconds.
    pub fn secs(self) -> f64 {
        self.0 as f64 / 1e9
    }

    /// The difference, or zero where `earlier` is later.
    pub fn since(self, earlier: Self) -> Self {
        Self(self.0.saturating_sub(earlier.0))
    }

    /// The sum, saturating.
    pub fn plus(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl Rate {
    /// From bytes moved in a time; `None` where no time passed.
    pub fn over(bytes: Bytes, time: Nanos) -> Option<Self> {
        (time.0 > 0).then(|| Self(bytes.0 as f64 / time.secs()))
    }

    /// In decimal megabytes a second.
    pub fn mb_s(self) -> f64 {
        self.0 / 1e6
    }
}

/// `value` with three or four significant digits and thousands separated by commas: `2,873`, `402`, `58.1`.
pub fn number(value: f64) -> String {
    if !value.is_finite() {
        return "–".into();
    }
    let size = value.abs();
    let decimals = if size >= 99.95 || size == 0.0 {
        0
    } else if size >= 9.995 {
        1
    } else {
        2
    };
    let text = format!("{size:.decimals$}");
    let (whole, rest) = text.split_once('.').map_or((text.as_str(), None), |(w, r)| (w, Some(r)));
    let sign = if value < 0.0 && text.bytes().any(|b| b.is_ascii_digit() && b != b'0') { "-" } else { "" };
    match rest {
        Some(rest) => format!("{sign}{}.{rest}", thousands(whole)),
        None => format!("{sign}{}", thousands(whole)),
    }
}

/// A string of digits with a comma before every third digit from the end.
pub fn thousands(digits: &str) -> String {
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

impl fmt::Display for Bytes {
    /// Decimal, with a unit that leaves at most four digits before the point: `118.4 GB`, `1,200 GB`, `12.0 TB`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let b = self.0 as f64;
        let (value, unit) = match self.0 {
            0..1_000 => return f.pad(&format!("{} B", self.0)),
            1_000..1_000_000 => (b / 1e3, "kB"),
            1_000_000..1_000_000_000 => (b / 1e6, "MB"),
            1_000_000_000..2_000_000_000_000 => (b / 1e9, "GB"),
            _ => (b / 1e12, "TB"),
        };
        let text = if (100.0..1000.0).contains(&value) {
            format!("{value:.1} {unit}")
        } else {
            format!("{} {unit}", number(value))
        };
        f.pad(&text)
    }
}

impl fmt::Display for Rate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{} MB/s", number(self.mb_s())))
    }
}

impl fmt::Display for Celsius {
    /// Whole degrees without a fraction, others with one digit.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = if (self.0 - self.0.round()).abs() < 0.05 {
            format!("{:.0} °C", self.0.round() + 0.0)
        } else {
            format!("{:.1} °C", self.0)
        };
        f.pad(&text)
    }
}

impl fmt::Display for Nanos {
    /// A duration in the largest two sensible units: `850 ms`, `41.2 s`, `7 min 30 s`, `2 h 05 min`, `3 d 4 h`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let s = self.secs();
        let text = if self.0 == 0 {
            "0 s".to_owned()
        } else if self.0 < 1_000_000 {
            format!("{} µs", number(s * 1e6))
        } else if s < 1.0 {
            format!("{} ms", number(s * 1e3))
        } else if s < 99.95 {
            format!("{s:.1} s")
        } else if s < 3600.0 {
            let whole = s.round() as u64;
            if whole.is_multiple_of(60) {
                format!("{} min", whole / 60)
            } else {
                format!("{} min {:02} s", whole / 60, whole % 60)
            }
        } else if s < 48.0 * 3600.0 {
            let minutes = (s / 60.0).round() as u64;
            if minutes.is_multiple_of(60) {
                format!("{} h", minutes / 60)
            } else {
                format!("{} h {:02} min", minutes / 60, minutes % 60)
            }
        } else {
            let hours = (s / 3600.0).round() as u64;
            format!("{} d {} h", hours / 24, hours % 24)
        };
        f.pad(&text)
    }
}

/// A block size in the largest unit that it is a multiple of, binary where that is possible: `4 KiB`, `1 MiB`, `200 MB`, `520 B`.
pub fn block_size(bytes: Bytes) -> String {
    match bytes.0 {
        b if b >= 1 << 20 && b.is_multiple_of(1 << 20) => format!("{} MiB", b >> 20),
        b if b >= 1 << 10 && b.is_multiple_of(1 << 10) && !b.is_multiple_of(1_000_000) => {
            format!("{} KiB", b >> 10)
        }
        b if b >= 1_000_000 && b.is_multiple_of(1_000_000) => format!("{} MB", b / 1_000_000),
        b if b >= 1_000 && b.is_multiple_of(1_000) => format!("{} kB", b / 1_000),
        b => format!("{b} B"),
    }
}

/// Why a size could not be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BadSize(pub String);

impl fmt::Display for BadSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "`{}` is no size: write a number with a unit, such as 4GB, 1.5TB, 512MiB or 4096B", self.0)
    }
}

impl std::error::Error for BadSize {}

/// The factor of a size unit (`B`, `kB`, `MB`, `GB`, `TB` decimal; `KiB`, `MiB`, `GiB`, `TiB` binary), case
/// ignored.
pub fn size_unit(unit: &str) -> Option<u64> {
    Some(match unit.to_ascii_lowercase().as_str() {
        "b" => 1,
        "kb" => 1_000,
        "mb" => 1_000_000,
        "gb" => 1_000_000_000,
        "tb" => 1_000_000_000_000,
        "kib" => 1 << 10,
        "mib" => 1 << 20,
        "gib" => 1 << 30,
        "tib" => 1 << 40,
        _ => return None,
    })
}

impl std::str::FromStr for Bytes {
    type Err = BadSize;

    /// Reads `4GB`, `1.5 TB`, `512MiB`; a unit is required, except for `0`.
    fn from_str(text: &str) -> Result<Self, BadSize> {
        let bad = || BadSize(text.to_owned());
        let trimmed = text.trim();
        let split = trimmed.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(trimmed.len());
        let (digits, unit) = trimmed.split_at(split);
        let value: f64 = digits.trim().replace('_', "").parse().map_err(|_| bad())?;
        let factor = match unit {
            "" if value == 0.0 => 1,
            unit => size_unit(unit).ok_or_else(bad)?,
        };
        let bytes = value * factor as f64;
        if !(0.0..=u64::MAX as f64 / 2.0).contains(&bytes) {
            return Err(bad());
        }
        Ok(Self(bytes.round() as u64))
    }
}

/// A latency in µs, short.
pub(crate) fn latency_text(us: f64) -> String {
    if us < 1000.0 {
        format!("{us:.0} µs")
    } else if us < 1e4 {
        format!("{:.1} ms", us / 1e3)
    } else if us < 1e6 {
        format!("{:.0} ms", us / 1e3)
    } else {
        format!("{:.1} s", us / 1e6)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_keep_three_or_four_digits() {
        let cases = [
            (2873.4, "2,873"),
            (402.2, "402"),
            (58.13, "58.1"),
            (9.876, "9.88"),
            (0.0, "0"),
            (1_234_567.0, "1,234,567"),
            (-3.2, "-3.20"),
            (-0.001, "0.00"),
        ];
        for (value, text) in cases {
            assert_eq!(number(value), text);
        }
    }

    #[test]
    fn quantities_carry_their_unit() {
        assert_eq!(Bytes(118_400_000_000).to_string(), "118.4 GB");
        assert_eq!(Bytes(1_200_000_000_000).to_string(), "1,200 GB");
        assert_eq!(Bytes(2_000_398_934_016).to_string(), "2.00 TB");
        assert_eq!(Nanos::from_secs(450.0).to_string(), "7 min 30 s");
        assert_eq!(Nanos::from_secs(7500.0).to_string(), "2 h 05 min");
        assert_eq!(
            [Nanos(0), Nanos::from_secs(900.0), Nanos::from_secs(7200.0)].map(|n| n.to_string()),
            ["0 s", "15 min", "2 h"]
        );
        assert_eq!(Nanos(83_000).to_string(), "83.0 µs");
        assert_eq!(Celsius(58.0).to_string(), "58 °C");
        assert_eq!(block_size(Bytes(1 << 20)), "1 MiB");
        assert_eq!(block_size(Bytes(4096)), "4 KiB");
        // Five files of "200000000 B" were written.
        assert_eq!(block_size(Bytes(200_000_000)), "200 MB");
        assert_eq!((block_size(Bytes(3000)), block_size(Bytes(520))), ("3 kB".into(), "520 B".into()));
    }

    #[test]
    fn sizes_are_decimal_unless_they_say_binary() {
        assert_eq!("4GB".parse(), Ok(Bytes(4_000_000_000)));
        assert_eq!("1.5 TB".parse(), Ok(Bytes(1_500_000_000_000)));
        assert_eq!("512MiB".parse(), Ok(Bytes(512 << 20)));
        for bad in ["4", "GB", "-1GB", "4 parsecs", "", "1e400GB", "nanGB"] {
            assert!(bad.parse::<Bytes>().is_err(), "{bad}");
        }
    }
}
