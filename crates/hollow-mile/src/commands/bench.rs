//! `hollow-mile bench`: the drives at hand.

use crate::cli::{BenchArgs, Format};
use crate::text;
use mile_bench::Failure;
use mile_bench::bench::{Card, cards};

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
    let serial = id.serial.as_ref().map_or(String::new(), |s| format!(", serial {s}"));
    let mut out = format!("{}\n    {}, {}, {}{serial}", id.name, id.model, id.kind, card.facts.capacity);
    let mut line = |text: String| {
        out.push_str("\n    ");
        out.push_str(&text);
    };
    if let Some(link) = &id.link {
        line(link.sentence());
    }
    for member in card.device.iter().flat_map(|d| &d.members) {
        line(format!("over {}", member.line()));
    }
    if let Some(health) = &card.health {
        let temp = health.temperature.map_or("no temperature".into(), |t| format!("{t} now"));
        let warn = card.limits.warn.map_or(String::new(), |w| format!(", warns from {w}"));
        line(format!("{temp}{warn}; {}", health.line()));
        for warning in &health.warnings {
            line(format!("it warns: {warning}"));
        }
    }
    if let Some(rate) = card.claims.write {
        let life = card.claims.endurance.map_or(String::new(), |e| format!(", {e} over its life"));
        line(format!("claimed: {rate} sequential write{life}"));
    }
    let situation = card.situation.line();
    if !situation.is_empty() {
        line(situation);
    }
    line(format!("writing: {}", card.writing()));
    out.push('\n');
    out
}
