//! The pace of a simulated run.

/// How fast the virtual time of a simulated drive runs.
#[derive(Clone, Copy, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Speed {
    /// As fast as the processor goes.
    Max,
    /// This many times as fast as the clock on the wall, above 0.
    Times(f64),
}

impl std::str::FromStr for Speed {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let bad = || format!("`{text}` is no speed: write max, x1, x60 and so on");
        if text.eq_ignore_ascii_case("max") {
            return Ok(Self::Max);
        }
        let factor: f64 = text.strip_prefix(['x', 'X']).and_then(|t| t.parse().ok()).ok_or_else(bad)?;
        if factor > 0.0 && factor <= 1e6 { Ok(Self::Times(factor)) } else { Err(bad()) }
    }
}
