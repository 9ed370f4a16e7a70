//! `hollow-mile bench`: the drives at hand.

use crate::bench::{Card, cards};
use crate::cli::{BenchArgs, Format};
use crate::{Failure, text};

pub(crate) fn run(args: &BenchArgs) -> Result<(), Failure> {
    let cards = cards();
    match args.format {
        Format::Json => text::say(&serde_json::to_string_pretty(&cards)?),
        Format::Text => {
            for card in &cards {
                text::say(&lines(card));
            }
            text::say("A file on a mounted file system measures the disk under it: --on PATH --size SIZE");
        }
    }
    Ok(())
}

fn lines(card: &Card) -> String {
    let id = &card.identity;
    let mut out = format!("{}\n    {}, {}, {}", id.name, id.model, id.kind, card.facts.capacity);
    if let Some(link) = &id.link {
        out.push_str(&format!("\n    {} of {}, at most {}", link.negotiated, link.possible, link.ceiling));
    }
    if let (Some(health), Some(warn)) = (&card.health, card.limits.warn) {
        let temp = health.composite.map_or("no reading".into(), |t| t.to_string());
        out.push_str(&format!(
            "\n    {temp} now, warns from {warn}; {} % of its life used, {} written, {} h powered on",
            health.percentage_used,
            health.written(),
            health.power_on_hours
        ));
    }
    if let Some(rate) = card.claims.write {
        out.push_str(&format!("\n    claimed: {rate} sequential write"));
        out.push_str(&card.claims.endurance.map_or(String::new(), |e| format!(", {e} over its life")));
    }
    let situation = card.situation.line();
    if !situation.is_empty() {
        out.push_str(&format!("\n    {situation}"));
    }
    out.push('\n');
    out
}
