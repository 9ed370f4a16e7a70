//! What tells runs apart.

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use std::fmt;
use std::str::FromStr;

/// The identity of a run: 128 random bits, in every stamp that it writes. Written as 32 hexadecimal digits.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct RunId(pub u128);

impl fmt::Display for RunId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:032x}", self.0)
    }
}

impl FromStr for RunId {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let digits = text.len() == 32 && text.bytes().all(|b| b.is_ascii_hexdigit());
        match u128::from_str_radix(text, 16) {
            Ok(bits) if digits => Ok(Self(bits)),
            _ => Err("the identity of a run has 32 hexadecimal digits"),
        }
    }
}

impl Serialize for RunId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for RunId {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_identity_is_written_and_read_whole() {
        let id = RunId(0xdead_beef << 64 | 7);
        assert_eq!(id.to_string(), "00000000deadbeef0000000000000007");
        assert_eq!(id.to_string().parse(), Ok(id));
        for wrong in ["", "7", "+0000000deadbeef0000000000000007", "g0000000deadbeef0000000000000007"] {
            assert!(wrong.parse::<RunId>().is_err(), "{wrong}");
        }
    }
}
