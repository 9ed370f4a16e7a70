//! The ready-made courses, and how they are made out for a drive.

use crate::bench::Card;
use mile_core::Bytes;

/// A ready-made course.
#[derive(Clone, Copy, Debug)]
pub struct Ready {
    /// Its name on the command line, and of its file in `courses/`.
    pub kind: &'static str,
    /// Its text, as it is in `courses/`.
    pub text: &'static str,
}

macro_rules! ready {
    ($($kind:literal),*) => {
        [$(Ready { kind: $kind, text: include_str!(concat!("../../../courses/", $kind, ".course")) }),*]
    };
}

/// All of them, the ones that are run first in front.
pub const READY: [Ready; 25] = ready![
    "first-look",
    "long-soak",
    "fill-sweep",
    "three-levels",
    "batches",
    "steadiness",
    "cache-recovery",
    "heat-comparison",
    "two-coolers",
    "two-slots",
    "two-ports",
    "drive-to-drive",
    "small-and-large-files",
    "ramp",
    "workers",
    "matrix",
    "stream",
    "surface-check",
    "full-read",
    "stale-data",
    "span-disk",
    "span-flash",
    "inner-outer",
    "used-drive",
    "after-a-year"
];

/// The question that a course answers, as the comment at its head says it: from `Question:` on to an empty line, the end of the comment, or its next part.
pub fn question(text: &str) -> Option<String> {
    let comment = text.lines().map_while(|l| l.strip_prefix('#')).map(str::trim);
    let mut lines = comment.skip_while(|l| !l.starts_with("Question:"));
    let first = lines.next()?.trim_start_matches("Question:").trim();
    let ends = |l: &str| l.is_empty() || ["Costs:", "Before:"].iter().any(|part| l.starts_with(part));
    let rest = lines.take_while(|l| !ends(l));
    let words = std::iter::once(first).chain(rest).flat_map(str::split_whitespace);
    Some(words.collect::<Vec<_>>().join(" ")).filter(|q| !q.is_empty())
}

/// The capacity that sizes in the ready-made courses are meant for.
const MEANT_FOR: f64 = 2e12;

impl Ready {
    /// By its name.
    pub fn find(kind: &str) -> Option<Self> {
        READY.into_iter().find(|r| r.kind == kind)
    }

    /// Whether it is for several drives.
    pub fn has_lanes(&self) -> bool {
        self.text.lines().any(|l| l.starts_with("lane "))
    }

    /// What it answers, from its header.
    pub fn question(&self) -> String {
        question(self.text).unwrap_or_default()
    }

    /// Its text for a drive: with what is claimed of it and how it is attached, and with sizes that fit it.
    pub fn for_drive(&self, card: &Card) -> String {
        if self.has_lanes() {
            // What is claimed of one drive need not hold for the others.
            return self.text.to_owned();
        }
        let mut out = String::new();
        let capacity = card.facts.capacity;
        for line in self.text.lines() {
            out.push_str(&scaled(line, capacity));
            out.push('\n');
            if line.starts_with("course ") {
                out.push_str(&header(card, self.text));
            }
        }
        out
    }
}

/// The lines of a course that say what a drive is, what is claimed of it, and how it is attached.
fn header(card: &Card, text: &str) -> String {
    let id = &card.identity;
    let serial = id.serial.as_ref().map_or(String::new(), |s| format!(", {s}"));
    let mut out = format!("# for {}{serial}, {}\n", id.model, card.facts.capacity);
    let rate = |r: mile_core::Rate| format!("{} MB/s", (r.mb_s() * 10.0).round() / 10.0);
    let claims = [
        ("write", card.claims.write.map(rate)),
        ("read", card.claims.read.map(rate)),
        ("endurance", card.claims.endurance.map(|e| format!("{} TB", e.0 as f64 / 1e12))),
    ];
    for (name, value) in claims {
        match value {
            Some(value) => out.push_str(&format!("claim {name} {value}\n")),
            None => out.push_str(&format!("# claim {name} ...\n")),
        }
    }
    let s = &card.situation;
    for (name, value) in [("slot", &s.slot), ("cooling", &s.cooling), ("enclosure", &s.enclosure)] {
        let quoted = value.as_ref().map(|v| v.replace(['"', '\n'], " "));
        match quoted {
            _ if text.contains(&format!("\nsituation {name} ")) => {}
            Some(value) => out.push_str(&format!("situation {name} \"{value}\"\n")),
            None => out.push_str(&format!("# situation {name} \"...\"\n")),
        }
    }
    match s.ambient {
        Some(ambient) => out.push_str(&format!("situation ambient {} °C\n", ambient.0)),
        None => out.push_str("# situation ambient ... °C\n"),
    }
    out
}

/// A line with sizes in GB in proportion to a drive's capacity, to two digits.
fn scaled(line: &str, capacity: Bytes) -> String {
    let Some((before, after)) = line.split_once(" GB written") else { return line.to_owned() };
    let (rest, number) = before.rsplit_once(' ').unwrap_or(("", before));
    let Ok(gb) = number.parse::<f64>() else { return line.to_owned() };
    if line.trim_start().starts_with('#') {
        return line.to_owned();
    }
    let fitted = gb * capacity.0 as f64 / MEANT_FOR;
    let digits = 10_f64.powf(fitted.log10().floor() - 1.0);
    let fitted = (fitted / digits).round() * digits;
    // Below ten, the division leaves more digits than it has.
    format!("{rest} {} GB written{after}", (fitted * 1e6).round() / 1e6)
}
