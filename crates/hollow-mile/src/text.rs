//! Findings and messages as text for people.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "this is where the program speaks")]

use crate::source::Source;
use mile_core::Nanos;
use mile_core::findings::Findings;
use mile_core::units::{Bytes, number};
use std::fmt::Write as _;
use std::io::Write;

/// Prints to standard output. A reader that has gone (`| head`) is no error.
pub(crate) fn say(text: &str) {
    let _ = writeln!(std::io::stdout().lock(), "{text}");
}

/// Prints to standard error.
pub(crate) fn complain(text: &str) {
    let _ = writeln!(std::io::stderr().lock(), "{text}");
}

/// Redraws the one line of progress on a terminal.
pub(crate) fn progress_line(text: &str, width: usize) {
    let cut: String = text.chars().take(width.saturating_sub(1)).collect();
    let mut out = std::io::stderr().lock();
    let _ = write!(out, "\r\x1b[K{cut}");
    let _ = out.flush();
}

/// Something that happened, with when and after how many bytes.
pub(crate) fn event_line(event: &mile_runner::Event) -> String {
    format!("{:>14}  {:>10}  {}", event.at, event.bytes, event.kind.words())
}

/// A run and what it shows.
pub(crate) fn report(source: &Source) -> String {
    let title = crate::figure::title(&source.head);
    let mut out = format!("{title}, {}\n", source.name);
    let situation = source.head.situation.line();
    if !situation.is_empty() {
        let _ = writeln!(out, "{situation}");
    }
    out.push('\n');
    out.push_str(&findings(&source.findings));
    out
}

/// What a run shows, as text.
pub(crate) fn findings(found: &Findings) -> String {
    let mut out = String::new();
    // Writing to a string cannot fail.
    if found.breaks.is_empty() {
        out.push_str("No break in the rate was found.\n");
    }
    for (i, b) in found.breaks.iter().enumerate() {
        let _ = writeln!(out, "Break {}: {}", i + 1, b.sentence());
        let _ = writeln!(out, "    between {} and {}", Bytes(b.low_bytes), Bytes(b.high_bytes));
        for e in &b.evidence {
            let _ = writeln!(
                out,
                "    {} {}: {}",
                if e.supports { "for    " } else { "against" },
                e.cause.words(),
                e.text
            );
        }
    }
    if let Some(c) = &found.cache {
        let _ = writeln!(
            out,
            "\nWrite cache: {} ({} to {}), {} MB/s into it, {} MB/s behind it",
            Bytes(c.bytes),
            Bytes(c.low_bytes),
            Bytes(c.high_bytes),
            number(c.before_mb_s),
            number(c.behind_mb_s)
        );
    }
    for e in &found.throttling.episodes {
        let onset = e.onset_c.map_or(String::new(), |t| format!(" at {t:.0} °C"));
        let _ = writeln!(
            out,
            "Throttled{onset} from {} to {}: {} instead of {} MB/s",
            Nanos::from_secs(e.start_s),
            Nanos::from_secs(e.end_s),
            number(e.during_mb_s),
            number(e.before_mb_s)
        );
    }
    if found.throttling.lost_bytes > 0 {
        let share = 100.0 * found.throttling.share_of_time;
        let _ = writeln!(
            out,
            "Lost to throttling: {}, in {share:.0} % of the time under load",
            Bytes(found.throttling.lost_bytes)
        );
    }
    out.push_str(&tables(found));
    if let Some(next) = &found.next_step {
        let _ = writeln!(out, "\nNext: {}", next.text);
        if let Some(course) = &next.course {
            let _ = writeln!(
                out,
                "\n{}",
                course
                    .trim_end()
                    .lines()
                    .map(|l| format!("    {l}\n"))
                    .collect::<String>()
                    .trim_end_matches('\n')
            );
        }
    }
    for (i, note) in found.notes.iter().enumerate() {
        let _ = writeln!(out, "{}{note}", if i == 0 { "\n" } else { "" });
    }
    out.trim_end().to_owned()
}

fn tables(found: &Findings) -> String {
    let mut out = String::new();
    if !found.plateaus.is_empty() {
        let _ =
            writeln!(out, "\n{:<14} {:>12} {:>12} {:>12} {:>10}", "Plateau in", "from", "to", "MB/s", "±");
        for p in &found.plateaus {
            let _ = writeln!(
                out,
                "{:<14} {:>12} {:>12} {:>12} {:>10}",
                p.leg,
                Bytes(p.start_bytes).to_string(),
                Bytes(p.end_bytes).to_string(),
                number(p.mean_mb_s),
                number(p.sd_mb_s)
            );
        }
    }
    if !found.legs.is_empty() {
        let _ = writeln!(
            out,
            "\n{:<14} {:>12} {:>12} {:>26} {:>20}",
            "Leg", "time", "moved", "MB/s min, mean, max", "°C min, mean, max"
        );
        for l in &found.legs {
            let rate = l
                .rate_mb_s
                .map_or("–".into(), |r| format!("{} {} {}", number(r.min), number(r.mean), number(r.max)));
            let temp =
                l.temp_c.map_or("no reading".into(), |t| format!("{:.0} {:.1} {:.0}", t.min, t.mean, t.max));
            let _ = writeln!(
                out,
                "{:<14} {:>12} {:>12} {rate:>26} {temp:>20}",
                l.leg,
                Nanos::from_secs(l.end_s - l.start_s).to_string(),
                Bytes(l.bytes).to_string()
            );
        }
    }
    if let Some(t) = &found.thermal {
        let mut line =
            format!("\nTemperature: {:.0} °C at the start, {:.0} to {:.0} °C", t.start_c, t.min_c, t.max_c);
        if let Some(rise) = t.rise_over_ambient_c {
            let _ = write!(line, ", at most {rise:.0} °C above ambient");
        }
        match t.margin_to_warn_c {
            Some(margin) if margin > 0.0 => {
                let _ = write!(line, ", {margin:.0} °C below the warning limit");
            }
            Some(_) => line.push_str(", at or above the warning limit"),
            None => {}
        }
        let _ = writeln!(out, "{line}");
    }
    out
}
