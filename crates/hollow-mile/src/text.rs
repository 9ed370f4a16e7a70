//! Findings and messages as text for people.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "this is where the program speaks")]

mod compared;
pub(crate) mod sweeps;

pub(crate) use compared::{chance, letter, numbers, value, verdict, with_interval};

use crate::source::Source;
use crate::tables;
use mile_bench::Failure;
use mile_core::Nanos;
use mile_core::findings::{Dip, Findings};
use mile_core::stages::Stage;
use mile_core::units::{Bytes, number};
use std::borrow::Cow;
use std::fmt::Write as _;
use std::io::Write;
use std::sync::atomic::{AtomicI32, Ordering};

/// Episodes of throttling that are told one by one.
const EPISODES: usize = 8;

/// The first error of the system while standard output was written, 0 for none.
static UNSAID: AtomicI32 = AtomicI32::new(0);

/// Text as it may go to a terminal: what drives, files and logbooks are called may hold codes that steer it.
pub(crate) fn harmless(text: &str) -> Cow<'_, str> {
    let steers = |c: char| c.is_control() && c != '\n' && c != '\t';
    if !text.contains(steers) {
        return Cow::Borrowed(text);
    }
    let shown = |c: char| if steers(c) { c.escape_unicode().to_string() } else { c.to_string() };
    Cow::Owned(text.chars().map(shown).collect())
}

/// Prints to standard output. A reader that has gone (`| head`) is no error; any other is told by [`all_was_said`].
pub(crate) fn say(text: &str) {
    let mut out = std::io::stdout().lock();
    let said = writeln!(out, "{}", harmless(text)).and_then(|()| out.flush());
    if let Err(e) = said
        && e.kind() != std::io::ErrorKind::BrokenPipe
    {
        let code = e.raw_os_error().unwrap_or(rustix::io::Errno::IO.raw_os_error());
        // The first is the one to tell.
        let _ = UNSAID.compare_exchange(0, code, Ordering::Relaxed, Ordering::Relaxed);
    }
}

/// Whether all of standard output was written.
pub(crate) fn all_was_said() -> Result<(), Failure> {
    match UNSAID.load(Ordering::Relaxed) {
        0 => Ok(()),
        code => Err(Failure::run(format!(
            "the output could not be written in full: {}",
            std::io::Error::from_raw_os_error(code)
        ))),
    }
}

/// Prints to standard error.
pub(crate) fn complain(text: &str) {
    let _ = writeln!(std::io::stderr().lock(), "{}", harmless(text));
}

/// Redraws the one line of progress on a terminal.
pub(crate) fn progress_line(text: &str, width: usize) {
    let cut: String = harmless(text).chars().take(width.saturating_sub(1)).collect();
    let mut out = std::io::stderr().lock();
    let _ = write!(out, "\r\x1b[K{cut}");
    let _ = out.flush();
}

/// All that a drive tells of itself.
pub(crate) fn health(card: &mile_bench::bench::Card) -> String {
    let id = &card.identity;
    let mut out = format!("{}, {}\n", id.model, id.name);
    let mut row = |name: &str, value: String| {
        let _ = writeln!(out, "    {name:<24} {value}");
    };
    row("kind", id.kind.clone());
    row("serial number", id.serial.clone().unwrap_or_else(|| "none".into()));
    row("firmware", id.firmware.clone().unwrap_or_else(|| "not told".into()));
    row("capacity", card.facts.capacity.to_string());
    if let Some(device) = &card.device {
        let block = mile_core::units::block_size;
        row(
            "blocks",
            format!("{} logical, {} physical", block(device.logical_block), block(device.physical_block)),
        );
        for name in &device.stable_names {
            row("stable name", name.clone());
        }
    }
    row("link", id.link.as_ref().map_or("not told".into(), mile_drive::Link::sentence));
    row("limits", limits(&card.limits));
    if let Some((low, high)) = card.managed {
        row("thermal management", format!("the host may have it begin between {low} and {high}"));
    }
    row("in use", card.fill_share.map_or("not told".into(), |f| format!("{:.1} %", f * 100.0)));
    row("writing", card.writing());
    if let Some(h) = &card.health {
        for (name, value) in health_rows(h) {
            let _ = writeln!(out, "    {name:<24} {value}");
        }
    }
    out.trim_end().to_owned()
}

/// Temperatures at which a drive warns and is critical.
pub(crate) fn limits(limits: &mile_drive::Limits) -> String {
    match (limits.warn, limits.critical) {
        (None, None) => "none declared".into(),
        (Some(w), None) => format!("warns from {w}"),
        (None, Some(c)) => format!("critical from {c}"),
        (Some(w), Some(c)) => format!("warns from {w}, critical from {c}"),
    }
}

/// A drive's health, a name and a value for each line.
pub(crate) fn health_rows(h: &mile_drive::Health) -> Vec<(String, String)> {
    let mut rows: Vec<(String, String)> = Vec::new();
    let mut row = |name: &str, value: Option<String>| rows.extend(value.map(|v| (name.to_owned(), v)));
    let count = |v: Option<u64>| v.map(|v| mile_core::units::thousands(&v.to_string()));
    row("health from", Some(h.source.clone()).filter(|s| !s.is_empty()));
    for warning in &h.warnings {
        row("it warns", Some(warning.clone()));
    }
    row("temperature", h.temperature.map(|t| t.to_string()));
    row("highest temperature", h.highest.map(|t| t.to_string()));
    for (name, t) in &h.sensors {
        row(name, Some(t.to_string()));
    }
    row("life used", h.used_pct.map(|p| format!("{p} %")));
    let threshold = h.spare_threshold_pct.map_or(String::new(), |t| format!(", warns below {t} %"));
    row("spare left", h.spare_pct.map(|p| format!("{p} %{threshold}")));
    row("written", h.written.map(|b| b.to_string()));
    row("read", h.read.map(|b| b.to_string()));
    row("powered on", count(h.power_on_hours).map(|v| format!("{v} h")));
    row("power cycles", count(h.power_cycles));
    row("unsafe shutdowns", count(h.unsafe_shutdowns));
    row("media errors", count(h.media_errors));
    let names = ["reallocated sectors", "waiting for reallocation", "uncorrectable offline"];
    for (name, value) in names.iter().zip(h.sectors) {
        row(name, count(value));
    }
    if let Some(log) = &h.nvme {
        row("above warning", Some(format!("{} min", log.minutes_above_warning)));
        row("above critical", Some(format!("{} min", log.minutes_above_critical)));
        let light = format!("{} times, {} s", log.light_transitions, log.light_seconds);
        let heavy = format!("{} times, {} s", log.heavy_transitions, log.heavy_seconds);
        row("throttled lightly", Some(light));
        row("throttled heavily", Some(heavy));
        row("busy", Some(format!("{} min", log.busy_minutes)));
        row("error log", Some(format!("{} entries over its life", log.error_entries)));
    }
    for e in h.errors.iter().take(8) {
        row("error", Some(format!("number {}: {}, block {}", e.count, e.words(), e.block)));
    }
    for s in &h.statistics {
        let sign = if s.value < 0 { "−" } else { "" };
        let value = mile_core::units::thousands(&s.value.unsigned_abs().to_string());
        row(&s.name, Some(format!("{sign}{value} {}", s.unit).trim_end().to_owned()));
    }
    for a in &h.attributes {
        let threshold = a.threshold.map_or(String::new(), |t| format!(", threshold {t}"));
        let what = a.meaning.as_deref().map_or(String::new(), |m| format!("{m}: "));
        let value = format!("{what}raw {}, value {} (worst {}{threshold})", a.raw, a.value, a.worst);
        row(&format!("attribute {}", a.id), Some(value));
    }
    for line in h.self_test.iter().flat_map(self_test) {
        row("self-test", Some(line));
    }
    for missing in &h.missing {
        row("missing", Some(missing.clone()));
    }
    rows
}

/// The self-test underway and earlier ones, a line each.
pub(crate) fn self_test(test: &mile_drive::health::SelfTest) -> Vec<String> {
    let mut lines: Vec<String> = test
        .running
        .iter()
        .map(|(kind, done)| {
            let left =
                test.left().map_or(String::new(), |l| format!(", about {l} left as the drive declares"));
            format!("a test ({}) is underway, {done} % done{left}", kind.word())
        })
        .collect();
    lines.extend(test.results.iter().map(|r| {
        let at = r.block.map_or(String::new(), |b| format!(", first at block {b}"));
        format!("{} at {} h: {}{at}", r.kind.word(), r.power_on_hours, r.words)
    }));
    if lines.is_empty() {
        lines.push("none underway, and no earlier result".into());
    }
    lines
}

/// Something that happened, with when and after how many bytes.
pub(crate) fn event_line(event: &mile_runner::Event) -> String {
    format!("{:>14}  {:>10}  {}", event.at, event.bytes, event.kind.words())
}

/// What happened on a lane, as a line; `names` are those of all lanes.
pub(crate) fn event_line_of(names: &[&str], lane: usize, event: &mile_runner::Event) -> String {
    if names.len() < 2 {
        return event_line(event);
    }
    let width = names.iter().map(|n| n.chars().count()).max().unwrap_or(0);
    let name = names.get(lane).copied().unwrap_or("");
    format!("{:>14}  {:>10}  {name:<width$}  {}", event.at, event.bytes, event.kind.words())
}

/// A run and what it shows.
pub(crate) fn report(source: &Source) -> String {
    let title = crate::figure::title(&source.head, source.lane);
    let mut out = format!("{title}, {}\n", source.of);
    let situation = source.head.lane(source.lane).situation.line();
    if !situation.is_empty() {
        let _ = writeln!(out, "{situation}");
    }
    out.push('\n');
    out.push_str(&findings(&source.findings));
    out
}

/// What lanes came to in each leg, as a table: rate, highest temperature, and how far that is below both limits.
pub(crate) fn stages(all: &[Stage]) -> String {
    let Some(first) = all.first() else { return String::new() };
    let width = all.iter().map(|s| s.leg.chars().count()).max().unwrap_or(0).max(12);
    let mut out = format!("{:<width$}", "");
    for lane in &first.lanes {
        let _ = write!(out, "  {:^46}", lane.lane);
    }
    let _ = write!(out, "\n{:<width$}", "Leg");
    for _ in &first.lanes {
        let _ = write!(
            out,
            "  {:>7} {:>6} {:>11} {:>11} {:>7}",
            "MB/s", "max °C", "below warn", "below crit", "Wh/TB"
        );
    }
    for stage in all {
        let _ = write!(out, "\n{:<width$}", stage.leg);
        for lane in &stage.lanes {
            let degrees = |v: Option<f64>| v.map_or("–".to_owned(), |v| format!("{v:.0}"));
            let _ = write!(
                out,
                "  {:>7} {:>6} {:>11} {:>11} {:>7}",
                lane.mean_mb_s.map_or("–".to_owned(), number),
                degrees(lane.peak_c),
                degrees(lane.below_warn_c),
                degrees(lane.below_critical_c),
                lane.wh_per_tb.map_or("–".to_owned(), number)
            );
        }
    }
    let lines: Vec<&str> = out.lines().map(str::trim_end).collect();
    lines.join("\n") + "\n"
}

/// What copies came to.
pub(crate) fn copies(all: &[mile_core::copies::CopyFound]) -> String {
    all.iter().flat_map(mile_core::copies::CopyFound::lines).collect::<Vec<_>>().join("\n") + "\n"
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
        let _ = writeln!(out, "    {}", b.bounds());
        for account in b.ledger() {
            let _ = writeln!(out, "    {}", account.head());
            for line in account.lines() {
                let _ = writeln!(out, "        {line}");
            }
        }
        if let Some(words) = b.capped() {
            let _ = writeln!(out, "    {words}");
        }
    }
    if let Some(c) = &found.cache {
        let _ = writeln!(
            out,
            "\nWrite cache: {} ({} to {}), {} MB/s into it, {} MB/s after it",
            Bytes(c.bytes),
            Bytes(c.low_bytes),
            Bytes(c.high_bytes),
            number(c.before_mb_s),
            number(c.after_mb_s)
        );
    }
    let episodes = &found.throttling.episodes;
    for e in episodes.iter().take(EPISODES) {
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
    match episodes.get(EPISODES..).unwrap_or_default() {
        [] => {}
        [last] => {
            let (from, to) = (Nanos::from_secs(last.start_s), Nanos::from_secs(last.end_s));
            let _ = writeln!(out, "Throttled once more, from {from} to {to}");
        }
        [more @ .., last] => {
            let (more, end) = (more.len() + 1, Nanos::from_secs(last.end_s));
            let _ = writeln!(out, "Throttled {more} times more, the last until {end}");
        }
    }
    if found.throttling.lost_bytes > 0 {
        let share = 100.0 * found.throttling.share_of_time;
        let _ = writeln!(
            out,
            "Lost to throttling: {}, in {share:.0} % of the time under load",
            Bytes(found.throttling.lost_bytes)
        );
    }
    for lines in [found.fill.as_ref().map(sweeps::fill).unwrap_or_default(), sweeps::sweeps(found, 100)] {
        if !lines.is_empty() {
            let _ = writeln!(out, "\n{}", lines.join("\n"));
        }
    }
    out.push_str(&tables(found));
    out.push_str(&of_surface(found));
    out.push_str(&evenness(found));
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

/// What kept a stretch out of the figures, in words.
pub(crate) fn disturbance(kind: &str) -> &str {
    match kind {
        "foreign-io" => "others on the drive",
        "processor-steal" => "processor time stolen",
        "gap" => "a gap in the log",
        "stall" => "the drive gave no answer",
        other => other,
    }
}

/// Where the heat-up leads, in a sentence; `None` where it does not tell.
pub(crate) fn settling(t: &mile_core::findings::Thermal) -> Option<String> {
    let (settles, tau) = (t.settles_at_c?, t.time_constant_s?);
    let mut text = format!(
        "Under this load it settles at {settles:.1} °C ({:.1} to {:.1}), with a time constant of {}",
        t.settles_low_c.unwrap_or(settles),
        t.settles_high_c.unwrap_or(settles),
        Nanos::from_secs(tau)
    );
    if let Some(ambient) = t.throttles_above_ambient_c {
        let _ = write!(text, "; throttling is to be expected from an ambient of {ambient:.0} °C on");
    }
    Some(text + ".")
}

/// The rate by address, and where it is slow or bad.
fn of_surface(found: &Findings) -> String {
    let mut out = String::new();
    let Some(surface) = &found.surface else { return out };
    let _ = writeln!(out, "\nSurface: {}.", surface.sentence());
    for zone in surface.recording_zones.iter().take(40).filter(|_| surface.recording_zones.len() > 1) {
        let _ = writeln!(
            out,
            "  {:>10} to {:>10} {:>8} MB/s",
            Bytes(zone.start_byte).to_string(),
            Bytes(zone.end_byte).to_string(),
            number(zone.mb_s)
        );
    }
    for hollow in &found.hollows {
        let _ = writeln!(out, "Hollow at {}.", hollow.sentence());
    }
    for p in surface.passing.iter().take(12) {
        let _ = writeln!(
            out,
            "No hollow: {} to {} was {:.0} % slow in {}: {}.",
            Bytes(p.start_byte),
            Bytes(p.end_byte),
            p.depth_pct,
            p.leg,
            p.instead.words()
        );
    }
    if surface.passing.len() > 12 {
        let _ = writeln!(out, "{} more slow stretches are no hollows.", surface.passing.len() - 12);
    }
    for (from, to) in surface.not_looked_at.iter().take(12) {
        let _ = writeln!(out, "Not visited: {} to {}.", Bytes(*from), Bytes(*to));
    }
    for b in found.bad_places().iter().take(40) {
        let _ = writeln!(out, "{} {}.", b.mark(), b.words());
    }
    out
}

/// How often a drive is slow, for how long and why: `Dips every 51.2 s, 38 % deep, 9 % of the time: throttled by heat, 98 % confidence`.
pub(crate) fn dips(d: &Dip) -> String {
    let verdict = d.verdict().map_or(String::new(), |verdict| format!(": {verdict}"));
    format!("Dips every {}, {}{verdict}", Nanos::from_secs(d.period_s), d.measure())
}

/// What speaks most for the cause of a pattern, as the ledger of a break has it: the weight, and the words.
pub(crate) fn reasons(d: &Dip) -> Vec<String> {
    let own = d.evidence.iter().filter(|e| Some(e.cause) == d.cause && e.weight.abs() >= 0.005);
    own.take(4).map(|e| format!("{}  {}", format!("{:+.2}", e.weight).replace('-', "−"), e.text)).collect()
}

/// Claims, consistency, dips and what was left out.
fn evenness(found: &Findings) -> String {
    let mut out = String::new();
    let even: Vec<_> = found.legs.iter().filter_map(|l| Some((l, l.consistency?))).collect();
    if !even.is_empty() {
        let _ = writeln!(
            out,
            "\n{:<14} {:>12} {:>12} {:>10} {:>12} {:>10} {:>10}",
            "Evenness of", "first tenth", "last tenth", "variation", "within 5 %", "worst 1 s", "worst 10 s"
        );
    }
    for (leg, c) in even {
        let _ = writeln!(
            out,
            "{:<14} {:>12} {:>12} {:>8.1} % {:>10.1} % {:>10} {:>10}",
            leg.leg,
            number(c.first_tenth_mb_s),
            number(c.last_tenth_mb_s),
            c.variation_pct,
            c.on_plateau_pct,
            number(c.worst_second_mb_s),
            c.worst_ten_seconds_mb_s.map_or("–".into(), number)
        );
    }
    for d in &found.dips {
        let _ = writeln!(out, "\n{}", dips(d));
        for reason in reasons(d) {
            let _ = writeln!(out, "    {reason}");
        }
    }
    for i in &found.interference {
        let (from, to) = (Nanos::from_secs(i.start_s), Nanos::from_secs(i.end_s));
        let _ = writeln!(out, "Left out of the plateaus: {from} to {to}, {}", disturbance(&i.kind));
    }
    if !found.claims.is_empty() {
        let _ = writeln!(out, "\n{:<22} {:>10} {:>10} {:>6}", "Claims, MB/s", "measured", "claimed", "%");
    }
    for c in &found.claims {
        let (measured, claimed) = (number(c.measured_mb_s), number(c.claimed_mb_s));
        let _ = writeln!(out, "{:<22} {measured:>10} {claimed:>10} {:>6.0}", c.what, c.percent);
        for e in &c.excuses {
            let _ = writeln!(out, "    {e}");
        }
    }
    out.push_str(&stated(found));
    out
}

/// Claims with their conditions, each with what was measured under these.
fn stated(found: &Findings) -> String {
    let mut out = String::new();
    if !found.stated_claims.is_empty() {
        out.push_str("\nClaims under their conditions\n");
    }
    for c in &found.stated_claims {
        let percent = c.percent.map_or(String::new(), |p| format!(", {p:.0} %"));
        let _ = writeln!(
            out,
            "  {}: {} {}, claimed {}{percent}: {}",
            c.what,
            c.measured_words(),
            c.unit,
            c.claimed_words(),
            c.verdict()
        );
        for e in &c.excuses {
            let _ = writeln!(out, "    {e}");
        }
        if let Some(offer) = &c.offer {
            let _ = writeln!(out, "    no leg ran under these conditions; this one would:");
            offer.lines().for_each(|line| {
                let _ = writeln!(out, "      {line}");
            });
        }
    }
    out
}

fn tables(found: &Findings) -> String {
    let mut out = String::new();
    if !found.plateaus.is_empty() {
        let row = |p: &mile_core::findings::Plateau| {
            let (from, to) = (Bytes(p.start_bytes).to_string(), Bytes(p.end_bytes).to_string());
            vec![p.leg.clone(), from, to, number(p.mean_mb_s), p.sd_mb_s.map_or("–".into(), number)]
        };
        let rows: Vec<Vec<String>> = found.plateaus.iter().map(row).collect();
        let _ = writeln!(out, "\n{}", tables::lines(&["Plateau in", "from", "to", "MB/s", "±"], &rows));
    }
    for (heads, cells) in
        [tables::legs(&found.leg_table), tables::files(&found.leg_table), tables::repeats(&found.repeats)]
    {
        if !cells.is_empty() {
            let _ = writeln!(out, "\n{}", tables::lines(&heads, &cells));
        }
    }
    if let Some(note) = tables::grouped(&found.repeats) {
        let _ = writeln!(out, "{note}");
    }
    for sentence in tables::slower_sides(&found.leg_table) {
        let _ = writeln!(out, "\n{sentence}");
    }
    for sweep in &found.sweeps {
        let _ = writeln!(out, "\n{}", tables::sweep(sweep));
    }
    if found.sweeps.iter().any(|s| s.cells.len() > 1) {
        let _ = writeln!(out, "* the highest rate; ~ not to be told from it");
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
        if let Some(settled) = settling(t) {
            let _ = write!(line, "\n{settled}");
        }
        let _ = writeln!(out, "{line}");
    }
    out
}
