//! What is compared, in words: sides, figures with their intervals, differences, and whether they are established.

use mile_core::compare::{Compared, Design};
use mile_core::repeats::Figure;
use mile_core::units::number;

/// The letter of a side.
pub(crate) fn letter(side: usize) -> String {
    u8::try_from(side)
        .ok()
        .filter(|s| *s < 26)
        .map_or_else(|| format!("side {}", side + 1), |s| char::from(b'A' + s).to_string())
}

/// The repeats of both sides; a claim has none.
pub(crate) fn numbers(f: &Compared) -> String {
    [f.a.n, f.b.n].map(|n| if n == 0 { "–".to_owned() } else { n.to_string() }).join(", ")
}

/// A figure with its interval.
pub(crate) fn value(figure: &Figure) -> String {
    match (figure.low, figure.high) {
        (Some(low), Some(high)) => {
            format!("{} [{}, {}]", number(figure.mean), number(low), number(high))
        }
        _ => number(figure.mean),
    }
}

/// A difference with its sign and its interval.
pub(crate) fn with_interval(value: f64, low: Option<f64>, high: Option<f64>) -> String {
    match (low, high) {
        (Some(low), Some(high)) => format!("{} [{}, {}]", signed(value), signed(low), signed(high)),
        _ => signed(value),
    }
}

fn signed(value: f64) -> String {
    let text = number(value.abs());
    match text.as_str() {
        "0" => text,
        _ if value < 0.0 => format!("−{text}"),
        _ => format!("+{text}"),
    }
}

/// Whether the difference is established.
pub(crate) fn verdict(f: &Compared) -> String {
    let word = if f.established { "yes" } else { "no" };
    let paired = if f.design == Design::Paired { ", in pairs" } else { "" };
    match f.p_corrected.filter(|_| f.why_not.is_none()) {
        Some(p) => format!("{word}, p {}{paired}", chance(p)),
        None => "cannot be said".into(),
    }
}

pub(crate) fn chance(p: f64) -> String {
    if p < 0.001 { "below 0.001".into() } else { format!("{p:.3}") }
}
